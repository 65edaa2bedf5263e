package standin

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"isonomos/docs"
	"isonomos/store"
)

// mostBody bounds what a request sends, in bytes.
const mostBody = 1 << 20

// asked holds the schema of each body that the interface's document allows, by its method and path.
var asked = sync.OnceValues(func() (map[string]*jsonschema.Schema, error) {
	var document struct {
		Paths map[string]map[string]json.RawMessage
	}
	if err := json.Unmarshal(docs.CloudInterface, &document); err != nil {
		return nil, err
	}
	whole, err := jsonschema.UnmarshalJSON(bytes.NewReader(docs.CloudInterface))
	if err != nil {
		return nil, err
	}
	const name = "urn:isonomos:interface" // no file: where the program runs does not matter
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource(name, whole); err != nil {
		return nil, err
	}
	schemas := make(map[string]*jsonschema.Schema)
	escape := strings.NewReplacer("~", "~0", "/", "~1")
	for path, methods := range document.Paths {
		for method, operation := range methods {
			var o struct {
				RequestBody json.RawMessage
			}
			if json.Unmarshal(operation, &o) != nil || o.RequestBody == nil {
				continue // the parameters of a path are a list
			}
			at := fmt.Sprintf("%s#/paths/%s/%s/requestBody/content/application~1json/schema", name,
				url.PathEscape(escape.Replace(path)), method)
			schema, err := compiler.Compile(at)
			if err != nil {
				return nil, err
			}
			schemas[strings.ToUpper(method)+" "+path] = schema
		}
	}
	return schemas, nil
})

// body decodes what a request sends, which must be what the document allows there.
func body(r *http.Request, into any) error {
	kind, parameters, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if charset := parameters["charset"]; err != nil || kind != "application/json" ||
		charset != "" && !strings.EqualFold(charset, "utf-8") {
		return refuse(http.StatusUnsupportedMediaType, "a body is sent as application/json, in UTF-8 (Content-Type)")
	}
	text, err := io.ReadAll(io.LimitReader(r.Body, mostBody+1))
	if err != nil {
		return refuse(http.StatusBadRequest, "the body can't be read: %v", err)
	}
	if len(text) > mostBody {
		return refuse(http.StatusRequestEntityTooLarge, "a body has at most %d bytes", mostBody)
	}
	wrong := func(err error) error {
		return refuse(http.StatusBadRequest, "the body is not what the interface says: %v", err)
	}
	if !utf8.Valid(text) {
		return wrong(errors.New("it is not UTF-8"))
	}
	if err := store.FieldsOnce(text); err != nil {
		return wrong(err)
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		return wrong(err)
	}
	schemas, err := asked()
	if err != nil {
		return err
	}
	schema := schemas[strings.Replace(r.Pattern, "/{cloud}", "", 1)]
	if schema == nil {
		return fmt.Errorf("the document has no body for %s", r.Pattern)
	}
	var invalid *jsonschema.ValidationError
	if err := schema.Validate(value); errors.As(err, &invalid) {
		return wrong(errors.New(firstCause(invalid)))
	} else if err != nil {
		return err
	}
	if err := json.Unmarshal(text, into); err != nil {
		return wrong(err)
	}
	return nil
}

// firstCause is the first thing that is wrong, on one line. Causes are indented below what they cause.
func firstCause(e *jsonschema.ValidationError) string {
	lines := strings.Split(e.Error(), "\n")[1:] // behind the name of the schema
	indent := func(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }
	for i, line := range lines {
		if i+1 == len(lines) || indent(lines[i+1]) <= indent(line) {
			return strings.TrimPrefix(strings.TrimSpace(line), "- ")
		}
	}
	return "it is not as its schema says"
}

// matches refuses a request whose If-Match names other versions than an object has. The header is a list of quoted
// versions, or a star (RFC 9110).
func matches(r *http.Request, version, what, id string) error {
	header := strings.Join(r.Header.Values("If-Match"), ",")
	if header == "" || strings.TrimSpace(header) == "*" {
		return nil
	}
	var versions []string
	for one := range strings.SplitSeq(header, ",") {
		one = strings.TrimSpace(one)
		weak := strings.TrimPrefix(one, "W/")
		if len(weak) < 2 || weak[0] != '"' || weak[len(weak)-1] != '"' || strings.Contains(weak[1:len(weak)-1], `"`) {
			return refuse(http.StatusBadRequest, "If-Match holds versions in quotes, with commas between, or a star")
		}
		if weak == one { // a weak version never matches
			versions = append(versions, one[1:len(one)-1])
		}
	}
	if !slices.Contains(versions, version) {
		return refuse(http.StatusPreconditionFailed, "the %s %s has changed meanwhile", what, id)
	}
	return nil
}
