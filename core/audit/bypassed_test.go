package audit_test

import (
	"strings"
	"testing"

	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/store"
)

// What a default list, or a group that no definition knows, lets through beside a defined
// group is told; what the defined groups let through themselves is not.
func TestBypassed(t *testing.T) {
	const places = `{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z","estate":"x"}
{"kind":"cloud","name":"c","dialect":"DIALECT"}
{"kind":"account","name":"a","cloud":"c","labels":{"stage":"production"}}
{"kind":"network","account":"a","id":"n","name":"n","ranges":["10.1.0.0/16"]}
{"kind":"subnet","account":"a","network":"n","id":"s","name":"s","ranges":["10.1.1.0/24"],"routes":[{"to":"0.0.0.0/0","via":"internet"}]WALL}
{"kind":"group","account":"a","network":"n","id":"w","name":"w","for":"subnets"}
{"kind":"group","account":"a","network":"n","id":"x","name":"x"}
{"kind":"rule","account":"a","group":"x","id":"x1","direction":"in","peers":["10.1.0.0/16"],"services":["tcp 1-999"]}
{"kind":"group","account":"a","network":"n","id":"y","name":"y"}
{"kind":"rule","account":"a","group":"y","id":"y1","direction":"in","peers":["PEER"],"services":["tcp SERVICE"]}
{"kind":"instance","account":"a","id":"i","interfaces":[{"id":"f","subnet":"s","private":["10.1.1.7"],"public":["198.51.100.7"],"groups":["x"MORE]}]}
`
	for _, c := range []struct {
		dialect, wall, more, service, peer string
		want                               []string // messages and severities
	}{
		// the default list
		{"layered", "", "", "22", "10.1.0.0/16",
			[]string{"critical ssh is let in from everyone", "medium everything is let out"}},
		{"layered", `,"groups":["w"]`, "", "22", "10.1.0.0/16", nil},
		{"layered", `,"groups":["w"]`, `,"y"`, "22", "10.1.1.0/24", nil}, // it lets through no more
		{"layered", `,"groups":["w"]`, `,"y"`, "2000", "10.1.1.0/24",
			[]string{"low tcp 2000 is let in from 10.1.1.0/24"}},
		{"union", "", `,"y"`, "22", "0.0.0.0/0", []string{"critical ssh is let in from"}},
		{"union", "", `,"y"`, "443", "0.0.0.0/0", []string{"high https is let in from"}},
		{"union", "", "", "22", "0.0.0.0/0", nil},
		{"flat", "", `,"y"`, "22", "192.0.2.0/24", []string{"low ssh is let in from 192.0.2.0/24"}},
	} {
		text := strings.NewReplacer("DIALECT", c.dialect, "WALL", c.wall, "MORE", c.more, "SERVICE", c.service,
			"PEER", c.peer).Replace(places)
		if c.dialect == "flat" {
			text = strings.ReplaceAll(text,
				`{"kind":"group","account":"a","network":"n","id":"w","name":"w","for":"subnets"}`+"\n", "")
			text = strings.ReplaceAll(text, `"kind":"group","account":"a","network":"n"`,
				`"kind":"group","account":"a"`)
		}
		e, _, err := store.ReadSurvey(strings.NewReader(text), "s")
		if err != nil {
			t.Fatal(err)
		}
		for _, g := range e.Groups {
			g.Defined = g.Name == "x" || g.Name == "w"
		}
		var got []string
		for _, f := range audit.Run(decide.New(e), audit.Options{}).Findings {
			for _, x := range append([]audit.Related{{Check: f.Check, Message: f.Message, Severity: f.Severity}},
				f.Also...) {
				if x.Check == "bypassed" {
					got = append(got, x.Severity.String()+" "+x.Message)
				}
			}
		}
		if len(got) != len(c.want) {
			t.Errorf("%+v: %q", c, got)
			continue
		}
		for i, want := range c.want {
			if !strings.HasPrefix(got[i], want) {
				t.Errorf("%+v: %q", c, got)
			}
		}
		if bypasses := audit.Bypasses(decide.New(e), audit.IsDefined); len(bypasses) > 0 &&
			(bypasses[0].Managed() != "") != (c.wall == "" && c.dialect == "layered") {
			t.Errorf("%+v: offered is %q", c, bypasses[0].Managed())
		}
	}
}
