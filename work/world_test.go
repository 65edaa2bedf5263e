package work

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"isonomos/core/flow"
	"isonomos/core/narrow"
	"isonomos/core/service"
	"isonomos/nomos/resolve"
)

const places = `cloud c { dialect union }
account a { cloud c
  label tier = one }
network n in a { range 10.0.0.0/16
  subnet s 10.0.1.0/24 }
network m in a { range 10.1.0.0/16
  subnet s 10.1.1.0/24 }
list partners { 198.51.100.0/28 }
group web in n { cover where role = web }
`

const survey = `{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z"}
{"kind":"cloud","name":"c","dialect":"union"}
{"kind":"account","name":"a","cloud":"c"}
{"kind":"network","account":"a","id":"n","ranges":["10.0.0.0/16"]}
{"kind":"network","account":"a","id":"m","ranges":["10.1.0.0/16"]}
{"kind":"subnet","account":"a","network":"n","id":"s","ranges":["10.0.1.0/24"]}
{"kind":"subnet","account":"a","network":"m","id":"t","name":"s","ranges":["10.1.1.0/24"]}
{"kind":"instance","account":"a","id":"g1","labels":{"role":"g"},"interfaces":[{"id":"f1","subnet":"s","private":["10.0.1.1"],"groups":[]}]}
{"kind":"instance","account":"a","id":"w1","labels":{"role":"web"},"interfaces":[{"id":"f2","subnet":"s","private":["10.0.1.2"],"groups":[]}]}
{"kind":"instance","account":"a","id":"g2","labels":{"role":"g"},"interfaces":[{"id":"f3","subnet":"t","private":["10.1.1.1"],"groups":[]}]}
`

var options = resolve.Options{Now: time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)}

func world(t *testing.T, text string) World { return worldOn(t, text, "") }

// observed sums answered flows "SRC PORT" to g1, on two days.
func observed(flows ...string) *flow.Summary {
	sum := &flow.Summary{}
	for _, f := range flows {
		fields := strings.Fields(f)
		spec, err := service.ParseSpec("tcp " + fields[1])
		if err != nil {
			panic(err)
		}
		p, _ := service.Of(spec).First()
		for day := range 2 {
			at := int64(86400 * day)
			protocol, port := p.Split()
			sum.Add(&flow.Record{Start: at, End: at, Source: netip.MustParseAddr(fields[0]),
				Destination: netip.MustParseAddr("10.0.1.1"), Protocol: protocol, Port: port, ReplyKnown: true,
				ReplyPackets: 1})
		}
	}
	return sum
}

// Each case narrows the group g, and shows the file before and after, or the error.
func TestPropose(t *testing.T) {
	for _, x := range []struct {
		name, subject, text string
		flows               []string
		want                string // the text after; with "! " before it, the beginning of the error
	}{
		{"a rule becomes what is used", "g", "group g in n {\n  cover where role = g\n  admit ssh from everyone " +
			"because \"upkeep\" # for now\n}\n", []string{"10.0.1.2 22", "198.51.100.3 22"},
			"group g in n {\n  cover where role = g\n  admit ssh from group web, list partners because " +
				"\"upkeep\" # for now\n}\n"},
		{"every service becomes those that are used", "g", "group g in n {\n  cover where role = g\n  admit any " +
			"from everyone\n}\n", []string{"10.0.1.2 22", "198.51.100.3 443"},
			"group g in n {\n  cover where role = g\n  admit ssh   from group web\n  admit https from list " +
				"partners\n}\n"},
		{"what nobody uses goes", "g", "group g in n {\n  cover where role = g\n  admit ssh from everyone\n  " +
			"admit http from group web\n}\n", nil,
			"group g in n {\n  cover where role = g\n  admit http from group web\n}\n"},
		{"two halves are one cause", "g", "group g in n {\n  cover where role = g\n  admit ssh from 0.0.0.0/1\n  " +
			"admit ssh from 128.0.0.0/1\n}\n", []string{"10.0.1.2 22", "198.51.100.3 22"},
			"group g in n {\n  cover where role = g\n  admit ssh from group web, list partners\n}\n"},
		{"one rule by its place", "x.nomos:4", "group g in n {\n  cover where role = g\n  admit ssh from " +
			"everyone\n  admit http from 10.0.0.0/8\n}\n", []string{"10.0.1.2 80"},
			"group g in n {\n  cover where role = g\n  admit ssh from everyone\n  admit http from group web\n}\n"},
		{"what is expected stays", "g", "group g in n {\n  cover where role = g\n  admit tcp 20-30 from " +
			"everyone\n}\nexpect web can reach g on ssh\n", nil,
			"group g in n {\n  cover where role = g\n  admit ssh from group web\n}\nexpect web can reach g on ssh\n"},
		{"a pattern's rule is not this group's", "g", "pattern p(x: peers) { admit ssh from x }\ngroup g in n " +
			"{\n  cover where role = g\n  use p(everyone)\n}\n", []string{"10.0.1.2 22"},
			`! x.nomos:1: the rule "admit ssh from everyone" of a/n/g comes through the pattern p, so it can't be narrowed for this group alone: change what is written at x.nomos:4`},
		{"nor is a connect's", "x.nomos:2", "group g in n { cover where role = g }\nconnect web to g on tcp 1-99\n",
			[]string{"10.0.1.2 22"}, `! x.nomos:2: the rule`},
		{"a rule of several groups is not this group's", "a/n/g", "group g in every network where tier = one {\n " +
			" cover where role = g\n  admit ssh from everyone\n}\n", []string{"10.0.1.2 22"},
			`! x.nomos:3: the rule "admit ssh from everyone" stands for a/m/g too`},
	} {
		w := world(t, x.text)
		subjects, err := w.Subjects(x.subject)
		if err != nil {
			t.Errorf("%s: %v", x.name, err)
			continue
		}
		result, err := w.Propose(subjects, narrow.Options{Flows: observed(x.flows...), Blind: true}, options)
		if refused, ok := strings.CutPrefix(x.want, "! "); ok {
			if err == nil || !strings.HasPrefix(err.Error(), refused) {
				t.Errorf("%s: got %v, want %s", x.name, err, refused)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", x.name, err)
			continue
		}
		if len(result.Files) != 1 || result.Files[0].Text != x.want {
			t.Errorf("%s: got %v\nwant %s", x.name, result.Files, x.want)
		}
		for _, c := range result.Proposals {
			if !c.Changed || c.Closes.IsEmpty() || !c.After.SubsetOf(c.Before) {
				t.Errorf("%s: changed %v, closes %v", x.name, c.Changed, c.Closes)
			}
		}
		// Once narrowed there is nothing left to narrow by.
		again := world(t, result.Files[0].Text)
		if left := again.FindingsOf(again.Estate.FindGroups("g")[0]); x.subject == "g" && len(left) > 0 {
			t.Errorf("%s: found again: %v", x.name, left)
		}
	}
}

func TestSubjects(t *testing.T) {
	w := world(t, "group g in n {\n  admit ssh from everyone\n}\ngroup g in m { }\n")
	for _, x := range []struct{ name, want string }{
		{"webb", `no group is called "webb": "web" is near`},
		{"zzzzzz", "give a group's name, account/network/group, or FILE:LINE"},
		{"g", `several groups are called "g": write a/n/g or a/m/g`},
		{"x.nomos:1", "no rule begins at x.nomos:1: rules near it begin at line 2"},
		{"x.nomos:90", "no rule begins at x.nomos:90"},
		{"y.nomos:1", "no rule stands in a file called y.nomos"},
	} {
		if s, err := w.Subjects(x.name); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v, %v, want %s", x.name, s, err, x.want)
		}
	}
	if s, err := w.Subjects("a/m/g"); err != nil || len(s) != 0 {
		t.Errorf("nothing is found in a/m/g: %v, %v", s, err)
	}
}
