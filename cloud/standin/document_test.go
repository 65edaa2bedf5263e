package standin

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"isonomos/docs"
)

// A documented schema, as far as those of bodies need it.
type documented struct {
	Ref                  string `json:"$ref"`
	Type                 string
	Enum                 []string
	OneOf                []documented
	Required             []string
	Properties           map[string]documented
	Items                *documented
	UniqueItems          bool
	AdditionalProperties any
}

type operation struct {
	RequestBody *struct {
		Content map[string]struct{ Schema documented }
	}
	Responses map[string]json.RawMessage
}

type document struct {
	Paths      map[string]map[string]operation
	Components struct{ Schemas map[string]documented }
}

// whole follows a reference.
func (d *document) whole(s documented) documented {
	if name, ok := strings.CutPrefix(s.Ref, "#/components/schemas/"); ok {
		return d.Components.Schemas[name]
	}
	return s
}

// valid is a value as a schema wants it. Strings are taken from words, by the name of the property.
func (d *document) valid(s documented, name string) any {
	s = d.whole(s)
	words := map[string]string{"name": "new", "network": "n", "peers": "192.0.2.1/32", "services": "tcp 22",
		"entries": "192.0.2.0/28", "groups": "web", "direction": "in", "action": "admit", "for": "instances"}
	switch {
	case len(s.OneOf) > 0:
		return d.valid(s.OneOf[0], name)
	case s.Type == "object" && len(s.Properties) == 0:
		return map[string]any{"role": "web"}
	case s.Type == "object":
		all := make(map[string]any)
		for name, property := range s.Properties {
			all[name] = d.valid(property, name)
		}
		return all
	case s.Type == "array":
		return []any{d.valid(*s.Items, name)}
	case s.Type == "integer":
		return 7
	case s.Type == "boolean":
		return false
	}
	return words[name]
}

// invalid are values that a schema forbids, by what is wrong with them.
func (d *document) invalid(s documented) map[string]any {
	s = d.whole(s)
	good, _ := d.valid(s, "").(map[string]any)
	all := map[string]any{"no object": []any{good}, "null": nil, "text": "x"}
	with := func(name string, value any) map[string]any {
		other := maps.Clone(good)
		other[name] = value
		return other
	}
	all["an unknown field"] = with("colour", "red")
	for name, property := range s.Properties {
		property = d.whole(property)
		if slices.Contains(s.Required, name) {
			less := maps.Clone(good)
			delete(less, name)
			all["without "+name] = less
		}
		spelt := maps.Clone(good)
		delete(spelt, name)
		spelt[strings.ToUpper(name)] = good[name]
		all[strings.ToUpper(name)] = spelt
		all[name+" null"] = with(name, nil)
		all[name+" of another type"] = with(name, map[string]any{"x": []any{1}})
		if property.Type == "integer" {
			all[name+" with a fraction"] = with(name, 1.5)
		}
		if len(property.Enum) > 0 {
			all[name+" none of those"] = with(name, "sideways")
		}
		if property.Type == "array" {
			all[name+" with a number"] = with(name, []any{1})
			if values, _ := good[name].([]any); property.UniqueItems {
				all[name+" twice"] = with(name, append(values, values[0]))
			}
		}
	}
	return all
}

// What the document of the interface forbids is refused as it says, and changes nothing; what it allows is
// understood, and answered with a status that it has.
func TestServedAsDocumented(t *testing.T) {
	var d document
	if err := json.Unmarshal(docs.CloudInterface, &d); err != nil {
		t.Fatal(err)
	}
	desk := newDesk(t)
	state := func() string {
		text, err := os.ReadFile(filepath.Join(desk.folder, StateFile))
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	send := func(method, path, kind, body string) (int, string) {
		r, err := http.NewRequest(method, desk.web.URL+"/u"+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+desk.server.token)
		r.Header.Set("Content-Type", kind)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		if answer.StatusCode >= 300 {
			var p struct{ Type, Title, Detail string }
			if json.NewDecoder(answer.Body).Decode(&p) != nil || p.Type == "" || p.Detail == "" ||
				answer.Header.Get("Content-Type") != "application/problem+json" {
				t.Errorf("%s %s %q: %d is told by no problem: %+v", method, path, body, answer.StatusCode, p)
			}
			return answer.StatusCode, p.Detail
		}
		return answer.StatusCode, ""
	}
	forbidden, allowed := 0, 0
	for _, path := range slices.Sorted(maps.Keys(d.Paths)) {
		id := "web"
		switch {
		case strings.Contains(path, "/lists/"):
			id = "known"
		case strings.Contains(path, "/interfaces/"):
			id = "f"
		case strings.Contains(path, "/subnets/"):
			id = "s"
		}
		real := strings.NewReplacer("{account}", "ua", "{id}", id, "{rule}", "r1", "{kind}", "group").Replace(path)
		for _, method := range []string{"GET", "POST", "PUT", "PATCH", "DELETE"} {
			o, there := d.Paths[path][strings.ToLower(method)]
			const json_ = "application/json"
			if !there {
				if status, text := send(method, real, json_, "{}"); status != http.StatusMethodNotAllowed {
					t.Errorf("%s %s: %d %s, and the document has no such method", method, real, status, text)
				}
				continue
			}
			if strings.Contains(path, "{account}") {
				for _, account := range []string{"nobody", "ra"} { // ra is of another cloud
					other := strings.Replace(real, "/ua", "/"+account, 1)
					if status, text := send(method, other, json_, "{}"); status != http.StatusNotFound ||
						o.Responses["404"] == nil {
						t.Errorf("%s %s: %d %s, want 404", method, other, status, text)
					}
				}
			}
			if o.RequestBody == nil {
				continue
			}
			schema := d.whole(o.RequestBody.Content[json_].Schema)
			kinds := append([]documented{schema}, schema.OneOf...)
			if len(schema.OneOf) > 0 {
				kinds = kinds[1:]
			}
			before := state()
			no := func(want int, kind, what, body string) {
				t.Helper()
				forbidden++
				status, text := send(method, real, kind, body)
				if status != want || o.Responses[fmt.Sprint(want)] == nil {
					t.Errorf("%s %s, %s: %d %s, want %d\n%.200s", method, real, what, status, text, want, body)
				}
			}
			for _, one := range kinds {
				good, err := json.Marshal(d.valid(one, ""))
				if err != nil {
					t.Fatal(err)
				}
				for what, value := range d.invalid(one) {
					bad, err := json.Marshal(value)
					if err != nil {
						t.Fatal(err)
					}
					no(400, json_, what, string(bad))
				}
				no(400, json_, "two values", string(good)+string(good))
				no(400, json_, "nothing", "")
				no(400, json_, "cut short", string(good[:len(good)-1]))
				for name := range d.whole(one).Properties {
					value, _ := json.Marshal(d.valid(d.whole(one).Properties[name], name))
					no(400, json_, name+" stands twice", fmt.Sprintf(`{"%s":%s,%s`, name, value, good[1:]))
				}
				no(400, json_, "not UTF-8", "{\"name\":\"\xff\"}")
				no(413, json_, "too much", string(good)+strings.Repeat(" ", mostBody))
				no(415, "application/x-www-form-urlencoded", "a form", string(good))
				no(415, "", "no type", string(good))
				no(415, "application/json; charset=latin1", "another charset", string(good))
			}
			if after := state(); after != before {
				t.Errorf("%s %s: what was refused changed something:\n%s\nbefore:\n%s", method, real, after, before)
			}
			for _, one := range kinds {
				good, _ := json.Marshal(d.valid(one, ""))
				status, text := send(method, real, "application/json; charset=UTF-8", string(good))
				allowed++
				if o.Responses[fmt.Sprint(status)] == nil || status == 400 || status >= 500 {
					t.Errorf("%s %s %s: %d %s", method, real, good, status, text)
				}
			}
		}
	}
	if forbidden < 150 || allowed < 8 {
		t.Errorf("only %d bodies were forbidden, and %d allowed", forbidden, allowed)
	}
	if status, text := send("GET", "/v1/accounts/ua/objects?kind=grup", "", ""); status != 404 {
		t.Errorf("an unknown kind: %d %s", status, text)
	}
}

// Versions are quoted, may be several, and a weak one never matches; problems of one status are told apart.
func TestVersionsAndProblems(t *testing.T) {
	d := newDesk(t)
	const u = "/u/v1/accounts/ua"
	_, etag := d.must("GET "+u+"/groups/web", "", "", 200, "")
	for version, want := range map[string]int{etag: 200, `"other", ` + etag: 200, "*": 200, `"other"`: 412,
		"W/" + etag: 412, strings.Trim(etag, `"`): 400, `"`: 400, etag + etag: 400, etag + ",": 400} {
		if status, text, _, err := d.ask("PATCH "+u+"/groups/web", "{}", version); err != nil || status != want {
			t.Errorf("If-Match %s: %d %s %v, want %d", version, status, text, err, want)
		}
	}
	d.must("DELETE "+u+"/groups/web", "", "", 409, `"urn:isonomos:problem:in-use"`)
	d.must("DELETE "+u+"/groups/def", "", "", 409, `"urn:isonomos:problem:built-in"`)
	d.must("POST "+u+"/groups", `{"name":"web","network":"n"}`, "", 409, `"urn:isonomos:problem:name-taken"`)
	d.must("PUT "+u+"/lists/known/entries", `{"entries":["192.0.2.0/28","192.0.2.16/28","192.0.2.32/28"]}`, "", 409,
		`"urn:isonomos:problem:quota"`)
	d.must("POST "+u+"/groups/gone/rules", `{"direction":"in","peers":["192.0.2.1/32"],"services":["tcp 22"]}`, "",
		404, `"about:blank"`)
}
