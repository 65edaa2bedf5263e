package law_test

import (
	"strings"
	"testing"
	"time"

	"isonomos/core/law"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/store"
	"isonomos/work"
)

const definitions = `
cloud c { dialect union }
account a { cloud c }
network n in a { range 10.0.0.0/16 
 subnet s 10.0.1.0/24
 peered far }
network far in a { range 10.9.0.0/16
 peered n }
list partners { 192.0.2.0/29 }
list mixed { 192.0.2.0/29
 2001:db8::/64 }
list halfway { 192.0.2.0/28 }
group web in n { cover where role = web
 admit https from everyone
 admit ssh from list mixed
 reach tcp 5432 at group db }
group db in n { cover where role = db
 admit tcp 5432 from group web
 admit tcp 5433 from 10.0.0.0/8
 admit ping from everyone }
group unused in far { cover where role = none
 admit https from everyone
 admit ssh from group web }
group inner in n { cover where role = inner
 reach https at everyone }
group six in n { cover where role = six
 admit https, ping from everyone
 admit ssh from list mixed
 reach https at everyone }
group out in n { cover where role = out
 reach https, ping at everyone
 reach tcp 9000 at list mixed }
`

const survey = `{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z"}
{"kind":"cloud","name":"c","dialect":"union"}
{"kind":"account","name":"a","cloud":"c"}
{"kind":"network","account":"a","id":"n","ranges":["10.0.0.0/16"],"peers":[{"account":"a","network":"far"}]}
{"kind":"network","account":"a","id":"far","ranges":["10.9.0.0/16"],"peers":[{"account":"a","network":"n"}]}
{"kind":"subnet","account":"a","network":"n","id":"s","ranges":["10.0.1.0/24"],"routes":[{"to":"0.0.0.0/0","via":"internet"}]}
{"kind":"instance","account":"a","id":"w1","labels":{"role":"web"},"interfaces":[{"id":"f1","subnet":"s","private":["10.0.1.1"],"public":["198.51.100.1"],"groups":[]}]}
{"kind":"instance","account":"a","id":"w2","labels":{"role":"web"},"interfaces":[{"id":"f2","subnet":"s","private":["10.0.1.2"],"public":["198.51.100.2"],"groups":[]}]}
{"kind":"instance","account":"a","id":"d1","labels":{"role":"db"},"interfaces":[{"id":"f3","subnet":"s","private":["10.0.1.3"],"groups":[]}]}
{"kind":"instance","account":"a","id":"o1","interfaces":[{"id":"f4","subnet":"s","private":["10.0.1.4"],"groups":["default"]}]}
{"kind":"subnet","account":"a","network":"n","id":"v6","ranges":["10.0.2.0/24"],"routes":[{"to":"::/0","via":"internet"}]}
{"kind":"instance","account":"a","id":"out1","labels":{"role":"out"},"interfaces":[{"id":"f5","subnet":"s","private":["10.0.1.5"],"public":["198.51.100.5"],"groups":[]}]}
{"kind":"instance","account":"a","id":"inner","labels":{"role":"inner"},"interfaces":[{"id":"f6","subnet":"v6","private":["10.0.2.6"],"groups":[]}]}
{"kind":"instance","account":"a","id":"six","labels":{"role":"six"},"interfaces":[{"id":"f7","subnet":"v6","private":["10.0.2.7"],"public":["2001:db8:7::7"],"groups":[]}]}
{"kind":"group","account":"a","network":"n","id":"default","default":true}
{"kind":"rule","account":"a","group":"default","id":"r","direction":"out","peers":["0.0.0.0/0"],"services":["any"]}
`

func prove(t *testing.T, expects string, on bool) []law.Result {
	t.Helper()
	d := nomos.Understand([]*source.File{source.NewFile("x.nomos", definitions+expects)},
		resolve.Options{Now: time.Unix(0, 0)})
	for _, m := range d.Messages {
		t.Fatal(m)
	}
	w := work.NewWorld(d, nil)
	if on {
		e, _, err := store.ReadSurvey(strings.NewReader(survey), "s")
		if err != nil {
			t.Fatal(err)
		}
		w = work.NewWorld(d, e)
	}
	return law.Prove(w.Estate, w.Expects)
}

func TestProve(t *testing.T) {
	for _, x := range []struct {
		expect  string
		holds   bool
		witness string // verdict and ends of what shows that it does not hold
	}{
		{"internet can reach web on https", true, ""},
		{"internet can reach web on ssh", false, "stopped 192.0.2.77 → w1"},
		{"internet cannot reach web", false, "passes 192.0.2.77 → w1"},
		{"internet cannot reach web on ssh", true, ""},
		{"internet cannot reach db", true, ""}, // ping is let in, but there is no way
		{"internet can reach db on ping", false, "no-route 192.0.2.77 → d1"},
		{"web can reach db on tcp 5432", true, ""},
		{"web can reach db on tcp 5432-5433", false, "stopped w1"},
		{"web can reach db, web on tcp 5432", false, "stopped w1"},
		{"db cannot reach web", true, ""},
		{"web cannot reach db on tcp 5432", false, "passes w1"},
		{"only web can reach db on tcp 5432", true, ""},
		{"only web can reach db on tcp 5433", false, "passes o1"},
		{"list partners can reach web on ssh", true, ""},
		{"list mixed can reach web on ssh", true, ""}, // the IPv6 part meets nobody
		{"list partners cannot reach web on ssh", false, "passes 192.0.2"},
		{"web can reach list partners on https", false, "stopped w1"},
		{"web cannot reach internet", true, ""},
		{"out can reach internet on https", true, ""},
		{"out can reach internet on ping", true, ""},
		{"out can reach internet on ssh", false, "stopped out1"},
		{"out cannot reach internet on https", false, "passes out1"},
		{"out cannot reach internet on ssh", true, ""},
		{"out can reach list partners on tcp 9000", true, ""},
		{"out cannot reach list partners on tcp 9000", false, "passes out1"},
		{"out cannot reach list partners on tcp 9001", true, ""},
		// there is a rule, and no address of the route's family
		{"inner can reach internet on https", false, "no-route inner"},
		{"inner cannot reach internet", true, ""},
		{"internet can reach six on https", true, ""}, // over IPv6 alone
		{"internet can reach six on ping", true, ""},
		{"internet cannot reach six on https", false, "passes 2000:: → six (2001:db8:7::7)"},
		{"internet can reach six on ssh", false, "stopped 2000:: → six (2001:db8:7::7)"},
		{"six can reach internet on https", true, ""},
		{"list mixed can reach six on ssh", true, ""},
		{"list partners can reach six on ssh", false, ""}, // the list has no IPv6 addresses
		{"six can reach web on https", true, ""},
		{"out can reach list halfway on tcp 9000", false, "stopped out1"}, // one address more than the rule has,
		{"web can reach db on icmpv6 128", false, ""},                     // between addresses that can't carry it
		{"everyone except internet, list partners, list mixed cannot reach web on ssh", true, ""},
	} {
		r := prove(t, "expect "+x.expect, true)[0]
		got := ""
		if r.Witness != nil {
			got = string(r.Witness.Verdict) + " " + r.Witness.Source.String() + " → " + r.Witness.Destination.String()
		}
		if r.Holds != x.holds || !strings.HasPrefix(strings.ReplaceAll(got, " (10.0.1.1)", ""), x.witness) {
			t.Errorf("%s: holds %v (%s %s), want %v (%s)", x.expect, r.Holds, got, r.Note, x.holds, x.witness)
		}
	}
}

// Without a survey, and for groups attached to nothing, members are made up and it is said.
func TestMadeUpMembers(t *testing.T) {
	for _, on := range []bool{false, true} {
		r := prove(t, "expect web can reach unused on ssh\nexpect internet can reach unused on https\nexpect db "+
			"cannot reach unused", on)
		for i, want := range []bool{false, true, true} {
			if r[i].Holds != want || !strings.Contains(r[i].Note, "made-up member") {
				t.Errorf("with a survey %v, %s: holds %v, note %q", on, r[i].Text, r[i].Holds, r[i].Note)
			}
		}
	}
	r := prove(t, "expect web can reach db on tcp 5432\nexpect only web can reach db on tcp 5432", false)
	if !r[0].Holds || !r[1].Holds {
		t.Errorf("got %v", r)
	}
}
