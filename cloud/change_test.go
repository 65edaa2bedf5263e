package cloud_test

import (
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"isonomos/cloud"
)

// Every request that the client can make is one of the published interface: its method
// and path are there, and its body is as its schema says. Each does what it is for, on
// the version that it names, and not on another.
func TestChangesAreAsPublished(t *testing.T) {
	var document struct {
		Paths map[string]map[string]struct {
			RequestBody struct {
				Content map[string]struct {
					Schema struct {
						Ref string `json:"$ref"`
					}
				}
			}
		}
	}
	compiler := published(t, &document)
	address, token, _ := serve(t)
	used := make(map[string]bool)
	watched := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		path := strings.TrimPrefix(r.URL.Path, "/northmere")
		if r.Method != http.MethodGet {
			at := ""
			for p := range document.Paths {
				if fits(p, path) {
					at = p
				}
			}
			operation, known := document.Paths[at][strings.ToLower(r.Method)]
			if !known {
				t.Errorf("%s %s is not published", r.Method, path)
			}
			used[r.Method+" "+at] = true
			if ref := operation.RequestBody.Content["application/json"].Schema.Ref; ref != "" {
				schema, err := compiler.Compile("openapi.json" + ref)
				if err != nil {
					t.Fatal(err)
				}
				value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(body)))
				if err == nil {
					err = schema.Validate(value)
				}
				if err != nil {
					t.Errorf("%s %s %s: %v", r.Method, path, body, err)
				}
			}
		}
		on, _ := http.NewRequestWithContext(r.Context(), r.Method, address+r.URL.RequestURI(),
			strings.NewReader(string(body)))
		on.Header = r.Header.Clone()
		answer, err := http.DefaultClient.Do(on)
		if err != nil {
			t.Error(err)
			return
		}
		defer answer.Body.Close()
		for k, v := range answer.Header {
			w.Header()[k] = v
		}
		w.WriteHeader(answer.StatusCode)
		_, _ = io.Copy(w, answer.Body)
	}))
	defer watched.Close()
	c := client(t, watched.URL+"/northmere", token)
	line := func(text string) json.RawMessage { return json.RawMessage(text) }
	do := func(r cloud.Request, version string) cloud.Object {
		t.Helper()
		r.Account = "tides"
		o, err := c.Change(t.Context(), r, version)
		if err != nil {
			t.Fatalf("%s: %v", r.Do, err)
		}
		return o
	}
	read := func(kind, id string) cloud.Object {
		t.Helper()
		o, err := c.Read(t.Context(), "tides", cloud.Ref{Kind: kind, ID: id})
		if err != nil || o.Version == "" {
			t.Fatalf("%s %s: %v, version %q", kind, id, err, o.Version)
		}
		return o
	}
	network := ""
	survey, err := c.Survey(t.Context(), "tides")
	if err != nil {
		t.Fatal(err)
	}
	var machine struct {
		ID         string
		Interfaces []struct {
			ID     string
			Groups []string
		}
	}
	for l := range strings.Lines(string(survey)) {
		var o struct{ Kind, ID, Name string }
		if json.Unmarshal([]byte(l), &o) == nil && o.Kind == "network" {
			network = o.ID
		}
		if o.Name == "booking-1" {
			if err := json.Unmarshal([]byte(l), &machine); err != nil {
				t.Fatal(err)
			}
		}
	}

	list := do(cloud.Request{Do: "create-list",
		Object: line(
			`{"kind":"list","account":"tides","id":"new:1","name":"vans","owner":"own","region":"coast-1","entries":["198.51.100.200/32"],"capacity":4,"labels":{"isonomos":"x"}}`)}, "")
	list = do(cloud.Request{Do: "set-entries", ID: list.ID,
		Entries: []string{"198.51.100.200/32", "198.51.100.201/32"}}, list.Version)
	list = do(cloud.Request{Do: "label-list", ID: list.ID, Labels: map[string]string{"isonomos": "saltmarsh"}},
		list.Version)
	group := do(cloud.Request{Do: "create-group",
		Object: line(`{"kind":"group","account":"tides","id":"new:2","network":"` + network +
			`","name":"night","for":"instances","description":"x","labels":{"isonomos":"saltmarsh"}}`)}, "")
	if len(group.Lines) != 3 {
		t.Fatalf("a new group and what it lets out: %s", group.Lines)
	}
	version := group.Version
	for _, rule := range group.Lines[1:] {
		version = do(cloud.Request{Do: "remove-rule", ID: group.ID, Rules: []json.RawMessage{rule}}, version).Version
	}
	added := do(cloud.Request{Do: "add-rules", ID: group.ID,
		Rules: []json.RawMessage{line(
			`{"kind":"rule","account":"tides","group":"g","id":"new:3","direction":"in","action":"admit","peers":["list:` + list.ID + `"],"services":["tcp 22"],"description":"vans"}`)}}, version)
	if o := read("group", group.ID); o.Version != added.Version || len(o.Lines) != 2 {
		t.Errorf("after the rule the group is %s %s, the answer said %s", o.Version, o.Lines, added.Version)
	}
	if _, err := c.Change(t.Context(), cloud.Request{Do: "delete-group", Account: "tides", ID: group.ID},
		version); !errors.Is(err, cloud.ErrMoved) {
		t.Errorf("a version of before: %v", err)
	}
	if _, err := c.Change(t.Context(), cloud.Request{Do: "delete-list", Account: "tides", ID: list.ID},
		list.Version); !errors.Is(err, cloud.ErrRefused) || !strings.Contains(err.Error(), "in use") {
		t.Errorf("a list in use: %v", err)
	}
	instance := read("instance", machine.ID)
	face := machine.Interfaces[0]
	attached := do(cloud.Request{Do: "attach", ID: face.ID, Holder: machine.ID,
		Groups: append(face.Groups, group.ID)}, instance.Version)
	if _, err := c.Change(t.Context(), cloud.Request{Do: "attach", Account: "tides", ID: face.ID, Holder: machine.ID},
		instance.Version); !errors.Is(err, cloud.ErrMoved) {
		t.Errorf("an instance that has moved: %v", err)
	}
	do(cloud.Request{Do: "attach", ID: face.ID, Holder: machine.ID, Groups: face.Groups}, attached.Version)
	labelled := do(cloud.Request{Do: "label-group", ID: group.ID}, added.Version)
	found, err := c.Named(t.Context(), "tides", "group", "night")
	if err != nil || len(found) != 1 || found[0].ID != group.ID {
		t.Errorf("named night: %v %v", found, err)
	}
	do(cloud.Request{Do: "delete-group", ID: group.ID}, labelled.Version)
	do(cloud.Request{Do: "delete-list", ID: list.ID}, list.Version)
	if _, err := c.Read(t.Context(), "tides", cloud.Ref{Kind: "group", ID: group.ID}); !errors.Is(err, cloud.ErrGone) {
		t.Errorf("a group that is deleted: %v", err)
	}
	wall := do(cloud.Request{Do: "create-group",
		Object: line(`{"network":"` + network + `","name":"wall","for":"subnets"}`)}, "")
	subnet := ""
	for l := range strings.Lines(string(survey)) {
		var o struct{ Kind, ID string }
		if json.Unmarshal([]byte(l), &o) == nil && o.Kind == "subnet" && strings.Contains(l, `"groups":[]`) ||
			o.Kind == "subnet" && !strings.Contains(l, `"groups"`) {
			subnet = o.ID
		}
	}
	around := do(cloud.Request{Do: "attach-to-subnet", ID: subnet, Groups: []string{wall.ID}},
		read("subnet", subnet).Version)
	do(cloud.Request{Do: "attach-to-subnet", ID: subnet}, around.Version)
	for _, r := range []cloud.Request{{Do: "dance", Account: "tides"}, {Do: "add-rules", Account: "tides", ID: "x"}} {
		if _, err := c.Change(t.Context(), r, ""); !errors.Is(err, cloud.ErrRefused) {
			t.Errorf("%s: %v", r.Do, err)
		}
	}
	if len(used) != 11 {
		t.Errorf("of the interface's writes these were used: %v", used)
	}
}

// fits reports whether a path is one of a template.
func fits(template, path string) bool {
	a, b := strings.Split(template, "/"), strings.Split(path, "/")
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] && !strings.HasPrefix(a[i], "{") {
			return false
		}
	}
	return true
}
