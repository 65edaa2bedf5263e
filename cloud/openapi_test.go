package cloud_test

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// published reads the interface's document into a value, and makes a compiler of its schemas.
func published(t *testing.T, into any) *jsonschema.Compiler {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("..", "docs", "cloud.openapi.json"))
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(text, into); err != nil {
		t.Fatal(err)
	}
	whole, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("openapi.json", whole); err != nil {
		t.Fatal(err)
	}
	return compiler
}

// request asks something with a token.
func request(t *testing.T, method, address, token, body string) *http.Response {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, address, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+token)
	r.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	return answer
}

// The published interface is what the stand-in serves: every path of it answers, and
// every answer, good or not, is as its schema says.
func TestInterfaceIsAsPublished(t *testing.T) {
	var document struct {
		Paths map[string]map[string]struct {
			Responses map[string]struct {
				Content map[string]struct{ Schema json.RawMessage }
			}
		}
	}
	compiler := published(t, &document)
	address, token, _ := serve(t)
	asked := 0
	check := func(path, token string, status int, schema, content string) {
		t.Helper()
		answer := request(t, http.MethodGet, address+"/northmere"+path, token, "")
		defer answer.Body.Close()
		value, err := jsonschema.UnmarshalJSON(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		compiled, err := compiler.Compile("openapi.json#/components/schemas/" + schema)
		if err != nil {
			t.Fatal(err)
		}
		if answer.StatusCode != status || !strings.HasPrefix(answer.Header.Get("Content-Type"), content) {
			t.Errorf("%s: %d %s", path, answer.StatusCode, answer.Header.Get("Content-Type"))
		}
		if err := compiled.Validate(value); err != nil {
			t.Errorf("%s: %v", path, err)
		}
		asked++
	}
	for path, methods := range document.Paths {
		for method, operation := range methods {
			if method != "get" {
				served(t, address+"/northmere", method, path, token)
				asked++
				continue
			}
			var ref struct {
				Ref string `json:"$ref"`
			}
			if err := json.Unmarshal(operation.Responses["200"].Content["application/json"].Schema, &ref); err != nil {
				t.Fatal(err)
			}
			schema := strings.TrimPrefix(ref.Ref, "#/components/schemas/")
			real := strings.NewReplacer("{account}", "tides", "{kind}", "group", "{id}", "grp-24").Replace(path)
			if strings.HasSuffix(path, "/changes") {
				check(real+"?after=x", token, 400, "Problem", "application/problem+json")
				check(real, token, 200, schema, "application/json")
				continue
			}
			check(real, token, 200, schema, "application/json")
			check(real, "wrong", 401, "Problem", "application/problem+json")
			if operation.Responses["400"].Content != nil {
				check(real+"?limit=2", token, 200, schema, "application/json")
				check(real+"?limit=none", token, 400, "Problem", "application/problem+json")
			}
			if operation.Responses["404"].Content != nil {
				check(strings.NewReplacer("{account}", "nobody", "{kind}", "group", "{id}", "grp-24").Replace(path),
					token, 404, "Problem", "application/problem+json")
			}
		}
	}
	if asked < 10 {
		t.Errorf("only %d questions were asked", asked)
	}
}

// served checks that something is served that writes: a body that is none of the
// interface's is told as such, or what is meant is not there.
func served(t *testing.T, address, method, path, token string) {
	t.Helper()
	path = strings.NewReplacer("{account}", "tides", "{id}", "nobody", "{rule}", "none").Replace(path)
	answer := request(t, strings.ToUpper(method), address+path, token, `{"nonsense":1}`)
	defer answer.Body.Close()
	var problem struct{ Detail string }
	if err := json.NewDecoder(answer.Body).Decode(&problem); err != nil ||
		answer.StatusCode != 400 && answer.StatusCode != 404 ||
		strings.Contains(problem.Detail, "there is nothing at") {
		t.Errorf("%s %s: %d %s %v", method, path, answer.StatusCode, problem.Detail, err)
	}
}
