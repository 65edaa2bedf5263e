package enact

import (
	"encoding/json"
	"maps"
	"strings"
	"testing"

	"isonomos/cloud"
	"isonomos/store"
)

func raws(lines ...string) []json.RawMessage {
	var all []json.RawMessage
	for _, l := range lines {
		all = append(all, json.RawMessage(l))
	}
	return all
}

func contents(t *testing.T, lines ...string) content {
	t.Helper()
	c, err := contentOf(raws(lines...))
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// Two ways to write an object are equal, and what counts of it is not lost.
func TestContents(t *testing.T) {
	const group = `{"kind":"group","account":"a","id":"g","name":"web","labels":{"isonomos":"x"}}`
	base := contents(t, group,
		`{"kind":"rule","account":"a","group":"g","id":"r","peers":["10.0.0.1/32","group:h"],"services":["tcp 22"]}`)
	for _, x := range []struct {
		rule  string
		equal bool
	}{
		{`{"kind":"rule","account":"a","group":"g","id":"r","direction":"in","action":"admit","peers":["group:a/h","10.0.0.1"],"services":["tcp 22-22"],"changed":{"by":"m.teal"}}`, true},
		// its id is known
		{`{"kind":"rule","account":"a","group":"g","id":"other","peers":["10.0.0.1/32","group:h"],"services":["tcp 22"]}`, false},
		{`{"kind":"rule","account":"a","group":"g","id":"r","peers":["10.0.0.1/32","group:i"],"services":["tcp 22"]}`,
			false},
		{`{"kind":"rule","account":"a","group":"g","id":"r","direction":"out","peers":["10.0.0.1/32","group:h"],"services":["tcp 22"]}`, false},
		{`{"kind":"rule","account":"a","group":"g","id":"r","rank":5,"peers":["10.0.0.1/32","group:h"],"services":["tcp 22"]}`, false},
		{`{"kind":"rule","account":"a","group":"g","id":"r","peers":["10.0.0.1/32","group:h"],"services":["tcp 22"],"description":"x"}`, false},
		{`{"kind":"rule","account":"a","group":"g","id":"r","peers":["10.0.0.1/32","group:h"],"services":["tcp 22"],"built_in":true}`, false},
	} {
		other := contents(t, group, x.rule)
		if x.rule != "" && strings.Contains(x.rule, `"other"`) { // an unknown id may be the one that was given
			if ids, ok := other.rename(base); !ok || ids["r"] != "other" {
				t.Errorf("%s: %v %v", x.rule, ids, ok)
			}
			continue
		}
		if other.equal(base) != x.equal {
			t.Errorf("%s: equal is %v", x.rule, !x.equal)
		}
	}
	list := contents(t, `{"kind":"list","account":"a","id":"l","name":"l","entries":["192.0.2.1","10.0.0.0/8"]}`)
	if !list.equal(contents(t,
		`{"kind":"list","account":"a","id":"l","name":"l","entries":["10.1.2.3/8","192.0.2.1/32"]}`)) ||
		list.equal(contents(t, `{"kind":"list","account":"a","id":"l","name":"l","entries":["10.0.0.0/8"]}`)) {
		t.Error("entries")
	}
	machine :=
		contents(t,
			`{"kind":"instance","account":"a","id":"i","interfaces":[{"id":"f","groups":["g","h"]},{"id":"k","groups":[]}]}`)
	next, err := machine.after(cloud.Request{Do: "attach", ID: "k", Groups: []string{"h"}})
	if err != nil || machine.equal(next) ||
		!next.equal(
			contents(t,
				`{"kind":"instance","account":"a","id":"i","interfaces":[{"id":"k","groups":["h"]},{"id":"f","groups":["h","g"]}]}`)) {
		t.Errorf("%+v %v", next, err)
	}
	if _, err := contentOf(raws("{")); err == nil {
		t.Error("what is no JSON is read")
	}
}

// Rules that are added are found by what they say, however many say the same.
func TestAddedRulesAreFound(t *testing.T) {
	const group = `{"kind":"group","account":"a","id":"g","name":"web"}`
	rule := func(id, port string) string {
		return `{"kind":"rule","account":"a","group":"g","id":"` + id + `","peers":["::/0"],"services":["tcp ` +
			port + `"]}`
	}
	before := contents(t, group, rule("r1", "22"))
	want, err := before.after(
		cloud.Request{Do: "add-rules", Rules: raws(rule("new:1", "22"), rule("new:2", "80"), rule("new:3", "22"))})
	if err != nil {
		t.Fatal(err)
	}
	now := contents(t, group, rule("z", "22"), rule("r1", "22"), rule("y", "80"), rule("x", "22"))
	ids, ok := now.rename(want)
	if !ok || !maps.Equal(ids, map[string]string{"new:1": "x", "new:3": "z", "new:2": "y"}) {
		t.Errorf("%v %v", ids, ok)
	}
	for _, other := range []content{before,
		contents(t, group, rule("r1", "22"), rule("y", "80"), rule("x", "22"), rule("w", "81")),
		contents(t, group, rule("r1", "23"), rule("z", "22"), rule("y", "80"), rule("x", "22"))} {
		if _, ok := other.rename(want); ok {
			t.Errorf("%v is taken for %v", other.rules, want.rules)
		}
	}
	gone, err := want.after(cloud.Request{Do: "remove-rule", Rules: raws(rule("r1", "22"))})
	if err != nil || len(gone.rules) != 3 || len(want.rules) != 4 {
		t.Errorf("%v %v", gone.rules, err)
	}
}

// Made-up ids become real ones wherever they stand, also what was made again since.
func TestNames(t *testing.T) {
	n := newNames()
	n.learn("a", map[string]string{"new:1": "grp-1", "grp-1": "grp-7", "new:2": "lst-2"})
	n.learn("b", map[string]string{"new:1": "grp-b"})
	r := n.request(cloud.Request{Do: "add-rules", Account: "a", ID: "new:1",
		Groups: []string{"new:1", "b/new:1", "grp-3"},
		Rules: raws(
			`{"kind":"rule","account":"a","group":"new:1","id":"new:1-1","peers":["group:new:1","group:b/new:1 v4","list:new:2 v6","2001:db8::/32"],"services":["tcp 22"]}`)})
	text, _ := json.Marshal(r)
	if got := string(text); r.ID != "grp-7" || strings.Join(r.Groups, " ") != "grp-7 b/grp-b grp-3" ||
		!strings.Contains(got, `"peers":["group:grp-7","group:b/grp-b v4","list:lst-2 v6","2001:db8::/32"]`) ||
		!strings.Contains(got, `"group":"grp-7"`) {
		t.Errorf("%s", got)
	}
	o := n.object(Touched{Account: "a", Kind: "instance", ID: "i",
		Before: raws(`{"kind":"instance","account":"a","id":"i","interfaces":[{"id":"f","groups":["grp-1"]}]}`,
			`no JSON`)})
	if !strings.Contains(string(o.Before[0]), `"groups":["grp-7"]`) || string(o.Before[1]) != "no JSON" {
		t.Errorf("%s", o.Before)
	}
	n.learn("c", map[string]string{"x": "y", "y": "x"}) // goes round in circles
	if n.of("c", "x") == "" {
		t.Error("lost")
	}
}

// A journal that says what can't be is an error, not a crash.
func TestJournalsThatCantBe(t *testing.T) {
	for name, x := range map[string]struct {
		kind, body string
		want       bool
	}{
		"a draft that is none":       {Begin, `[]`, true},
		"a step that is not there":   {Done, `{"lane":9,"step":1}`, true},
		"a result that is none":      {Done, `7`, true},
		"an intention that is none":  {Intend, `"x"`, true},
		"an ending that is none":     {End, `[]`, true},
		"an ending":                  {End, `{"outcome":"stopped"}`, false},
		"of something else":          {"other", `{}`, false},
		"a step of a lane, negative": {Done, `{"lane":1,"step":-1}`, true},
	} {
		entries := []store.Entry{{Number: 1, At: "2026-11-20T06:00:00Z", Run: "r", Kind: Begin,
			Body: json.RawMessage(
				`{"version":1,"lanes":[{"accounts":["a"],"steps":[{"do":"delete-group","account":"a","id":"g"}]}]}`)},
			{Number: 2, Run: "r", Kind: x.kind, Body: json.RawMessage(x.body)}}
		pasts, err := Pasts(func(take func(store.Entry) error) error {
			for _, e := range entries {
				if err := take(e); err != nil {
					return err
				}
			}
			return nil
		})
		if err == nil && len(pasts) > 0 {
			err = (&Run{Draft: pasts[0].Draft}).Recall(pasts[0].Entries)
		}
		if (err != nil) != x.want {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Whatever a file says that is given for a draft, and a cloud of an object: it is followed
// as far as it goes, or is an error.
func FuzzDraft(f *testing.F) {
	f.Add(`{"version":1,"objects":[{"account":"a","kind":"group","id":"g","before":[{"kind":"group","account":"a","id":"g"},{"kind":"rule","account":"a","group":"g","id":"r","peers":["group:h v4"],"services":["tcp 22"]}]}],
"lanes":[{"accounts":["a"],"steps":[{"do":"create-group","account":"a","id":"new:1","object":{"kind":"group"}},{"do":"add-rules","account":"a","id":"g","rules":[{"id":"new:2","account":"a","peers":["group:new:1"],"services":["any"]}]},{"do":"attach","account":"a","id":"f","holder":"i","groups":["new:1"]}]}]}`)
	f.Add(
		`{"lanes":[{"steps":[{"do":"remove-rule","rules":[null,7,{}]}],"gaps":[{}]},{}],"objects":[{"before":[null,[]]},{}]}`)
	f.Fuzz(func(t *testing.T, text string) {
		var d Draft
		if json.Unmarshal([]byte(text), &d) != nil {
			return
		}
		d.Digest()
		names := newNames()
		names.learn("a", map[string]string{"new:1": "grp-1"})
		var before []content
		for i := range d.Objects {
			if c, err := contentOf(names.object(d.Objects[i]).Before); err == nil {
				before = append(before, c)
			}
		}
		steps := 0
		for l := range d.Lanes {
			for k := range d.Lanes[l].Steps {
				steps++
				r := names.request(d.Lanes[l].Steps[k].Request)
				for _, c := range before {
					next, err := c.after(r)
					if err != nil {
						continue
					}
					if back, err := c.after(r); err != nil || !back.equal(next) {
						t.Errorf("%s: two ways lead to two contents: %v and %v, %v", text, next, back, err)
					}
				}
			}
		}
		if steps != d.Steps() || d.step(1, 0) != nil || d.step(len(d.Lanes)+1, 1) != nil {
			t.Errorf("%d of %d steps", steps, d.Steps())
		}
		for _, p := range []*Past{{Draft: &d, Entries: []store.Entry{{Kind: Begin}}}} {
			if p.Done() != 0 || p.complete() || p.Open() || !p.Unchanged() {
				t.Error("a run that did nothing yet")
			}
		}
	})
}
