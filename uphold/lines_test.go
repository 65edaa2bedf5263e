package uphold

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"isonomos/cloud"
	"isonomos/cloud/standin"
	"isonomos/demo"
	"isonomos/store"
)

// What a feed tells, applied to an account as it was, is the account as it is: after each of many changes by chance
// through the interface, in all dialects, with events that come twice.
func TestEventsLeadToWhatIsThere(t *testing.T) {
	survey, err := demo.Survey()
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	var text bytes.Buffer
	if err := store.WriteSurvey(&text, survey); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, standin.StateFile), text.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	server, err := standin.Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	web := httptest.NewServer(server)
	defer web.Close()
	secret, err := os.ReadFile(filepath.Join(folder, standin.TokenFile))
	if err != nil {
		t.Fatal(err)
	}
	ask := func(method, path, body string) map[string]any {
		r, _ := http.NewRequest(method, web.URL+path, strings.NewReader(body))
		r.Header.Set("Authorization", "Bearer "+string(secret))
		r.Header.Set("Content-Type", "application/json")
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		var o map[string]any
		_ = json.NewDecoder(answer.Body).Decode(&o)
		return o
	}
	random := rand.New(rand.NewPCG(3, 4))
	changes := 0
	for _, a := range survey.Accounts {
		c, err := cloud.NewClient(web.URL+"/"+a.Cloud.Name, string(secret), cloud.Options{})
		if err != nil {
			t.Fatal(err)
		}
		seen, err := c.Look(t.Context(), a.Name, "")
		if err != nil {
			t.Fatal(err)
		}
		at, known := seen.At, seen.Lines
		of := "/" + a.Cloud.Name + "/v1/accounts/" + a.Name
		for i := range 12 {
			var groups, rules []line
			for _, l := range linesOf(known) {
				switch l.kind {
				case "group":
					groups = append(groups, l)
				case "rule":
					rules = append(rules, l)
				}
			}
			g := groups[random.IntN(len(groups))]
			switch random.IntN(4) {
			case 0:
				ask("POST", of+"/groups/"+g.id+"/rules", fmt.Sprintf(`{"direction":"in","rank":%d,"peers":["192.0.2.%d/32"],`+
					`"services":["tcp 22"]}`, 4000+i, i))
			case 1:
				if len(rules) > 0 {
					r := rules[random.IntN(len(rules))]
					ask("DELETE", of+"/groups/"+r.group+"/rules/"+r.id, "")
				}
			case 2:
				ask("PATCH", of+"/groups/"+g.id, fmt.Sprintf(`{"description":"%d"}`, i))
			case 3:
				made, _ := ask("POST", of+"/groups", fmt.Sprintf(`{"name":"new-%d","network":%q}`, i,
					networkOf(known)))["group"].(map[string]any)
				if id, _ := made["id"].(string); id != "" && random.IntN(2) == 0 {
					ask("DELETE", of+"/groups/"+id, "")
				}
			}
			events, next, err := c.Changes(t.Context(), at, 0)
			if err != nil {
				t.Fatal(err)
			}
			changes += len(events)
			events = append(slices.Clone(events), events...) // told twice
			var own []cloud.Event
			for _, e := range events {
				if e.Account == a.Name {
					own = append(own, e)
				}
			}
			steps, last, read := moments(known, at, own)
			if read || len(own) > 0 && last != next.Last {
				t.Fatalf("%s: it has to be read (%v), or the last is %d of %d", a.Name, read, last, next.Last)
			}
			at = next
			if len(steps) > 0 {
				known = joined(steps[len(steps)-1].lines)
			}
			now, err := c.Survey(t.Context(), a.Name)
			if err != nil {
				t.Fatal(err)
			}
			if !sameLines(linesOf(known), linesOf(now)) {
				t.Fatalf("%s after %v:\n%s\nis\n%s", a.Name, events, known, now)
			}
		}
	}
	if changes < 40 {
		t.Errorf("only %d changes", changes)
	}
}

func networkOf(survey []byte) string {
	for _, l := range linesOf(survey) {
		if l.kind == "network" {
			return l.id
		}
	}
	return ""
}

// Events of one request are one step, and each request is a step of its own.
func TestMoments(t *testing.T) {
	group := []byte(`{"kind":"account","name":"a"}` + "\n" + `{"kind":"group","id":"g"}` + "\n")
	event := func(number, second int, id string) cloud.Event {
		return cloud.Event{Number: number, At: noon.Add(0).AddDate(0, 0, second), Action: "create", Kind: "rule", ID: id,
			Object: []byte(fmt.Sprintf(`{"kind":"rule","group":"g","id":%q}`, id))}
	}
	steps, last, read := moments(group, cloud.Position{Last: 2}, []cloud.Event{event(2, 0, "old"), event(3, 1, "x"),
		event(4, 1, "y"), event(5, 2, "z")})
	if read || last != 5 || len(steps) != 2 || len(steps[0].events) != 2 || len(steps[0].lines) != 4 ||
		len(steps[1].lines) != 5 {
		t.Errorf("%v %d %v", steps, last, read)
	}
	for what, e := range map[string]cloud.Event{
		"no object":        {Number: 3, Action: "create", Kind: "rule", ID: "r"},
		"another's object": {Number: 3, Action: "change", Kind: "rule", ID: "r", Object: []byte(`{"kind":"rule","id":"q"}`)},
		"a lost group":     {Number: 3, Action: "create", Kind: "rule", ID: "r", Object: []byte(`{"kind":"rule","id":"r","group":"h"}`)},
		"no JSON":          {Number: 3, Action: "create", Kind: "rule", ID: "r", Object: []byte(`{"kind":`)},
	} {
		if _, _, read := moments(group, cloud.Position{Last: 2}, []cloud.Event{e}); !read {
			t.Errorf("%s: the account is not read again", what)
		}
	}
}

// Accounts and addresses that lines tell of.
func TestWhatLinesTell(t *testing.T) {
	lines := linesOf([]byte(`{"kind":"account","name":"a"}
{"kind":"network","id":"n","peers":[{"account":"hub","network":"m"},{"account":"a","network":"o"}]}
{"kind":"list","id":"l","entries":["203.0.113.0/28","2001:db8::/64"]}
{"kind":"list","id":"open","entries":["0.0.0.0/0"]}
{"kind":"instance","id":"i","interfaces":[{"id":"f","private":["10.0.0.1"],"public":["198.51.100.9"]}]}
{"kind":"rule","id":"r","group":"g","peers":["group:far/x v4","2001:db8::/32","list:l","10.0.0.0/8","group:g"]}
`))
	if got := strings.Join(refersTo("a", lines), " "); got != "hub far" {
		t.Errorf("refers to %s", got)
	}
	want := "198.51.100.9, 203.0.113.0/28, 2001:db8::/64"
	if got := knownIn(lines); got.String() != want {
		t.Errorf("known are %s, want %s", got, want)
	}
}

func FuzzApply(f *testing.F) {
	f.Add([]byte(`{"kind":"rule","id":"r","group":"g"}`), "create", "rule", "r", "g")
	f.Add([]byte(`{`), "delete", "group", "g", "")
	f.Fuzz(func(t *testing.T, object []byte, action, kind, id, group string) {
		lines := linesOf([]byte(`{"kind":"account","name":"a"}` + "\n" + `{"kind":"group","id":"g"}` + "\n" +
			`{"kind":"rule","id":"q","group":"g"}` + "\n"))
		next, ok := apply(lines, cloud.Event{Action: action, Kind: kind, ID: id, Group: group, Object: object})
		if ok && action != "delete" {
			if at := slices.IndexFunc(next, func(l line) bool { return l.kind == kind && (l.id == id || kind == "account") }); at < 0 {
				t.Errorf("%q is not there afterwards", id)
			}
		}
		for _, l := range next {
			if bytes.ContainsAny(l.text, "\n") {
				t.Errorf("a line of more than one line: %q", l.text)
			}
		}
	})
}
