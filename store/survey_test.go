package store

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"isonomos/core/estate"
)

const header = `{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z","estate":"x"}
{"kind":"cloud","name":"c","dialect":"union"}
{"kind":"account","name":"a","cloud":"c"}
{"kind":"network","account":"a","id":"n","ranges":["10.0.0.0/8"]}
{"kind":"group","account":"a","network":"n","id":"g"}
`

func read(text string) (*estate.Estate, []string, error) {
	return ReadSurvey(strings.NewReader(text), "s.jsonl")
}

// A survey that is read and written comes back the same.
func TestRoundTrip(t *testing.T) {
	text, err := os.ReadFile(filepath.Join("..", "core", "decide", "testdata", "small.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	first, warnings, err := read(string(text))
	if err != nil || len(warnings) > 0 {
		t.Fatal(err, warnings)
	}
	var once, twice bytes.Buffer
	if err := WriteSurvey(&once, first); err != nil {
		t.Fatal(err)
	}
	second, _, err := read(once.String())
	if err != nil {
		t.Fatal(err)
	}
	if err := WriteSurvey(&twice, second); err != nil {
		t.Fatal(err)
	}
	if once.String() != twice.String() {
		t.Error("a survey changes when it is read and written again")
	}
	for _, e := range []*estate.Estate{first, second} {
		rules := 0
		for _, g := range e.Groups {
			rules += len(g.Rules)
		}
		if len(e.Instances) != 12 || len(e.Groups) != 5 || rules != 14 || len(e.Lists) != 1 {
			t.Errorf("%d instances, %d groups, %d rules, %d lists", len(e.Instances), len(e.Groups), rules,
				len(e.Lists))
		}
	}
}

// What can't be read is an error with its line and a way out; what can be passed over is a warning.
func TestBadLines(t *testing.T) {
	for _, x := range []struct{ line, want string }{
		{`{"kind":"group",`, "s.jsonl:6: the line is not JSON"},
		{`[1]`, "s.jsonl:6: a survey's line is an object in braces"},
		{`{"kind":"group","account":"a","id":7}`, `s.jsonl:6: the field "id" holds the number where a text belongs`},
		{`{"kind":"network","account":"a","id":"m","ranges":"10.0.0.0/8"}`, `holds a text where a list belongs`},
		{`{"kind":"rule","account":"a","group":"g","id":"r","direction":"in","peers":["anything"],"services":[["any"]]}`, `where a text belongs`},
		{`{"kind":"group","account":"a","network":"n","id":"h","default":"yes"}`,
			`holds a text where true or false belongs`},
		{`{"kind":"group","account":"a","network":"n","id":"h","labels":[]}`, `holds a list where an object belongs`},
		{`"group"`, "s.jsonl:6: a survey's line is an object in braces, this is a text"},
		{`{"kind":"instance","account":"a","id":"i","interfaces":[{"subnet":{}}]}`,
			`"interfaces.subnet" holds an object where a text belongs`},
		{`{"account":"a"}`, `s.jsonl:6: the line has no "kind"`},
		{`{"kind":"group","account":"a","network":"n","id":"g"}`, `s.jsonl:6: the group "g" was on line 5 already`},
		{`{"kind":"group","account":"z","id":"h"}`, `belongs to the account "z", which is not in this survey`},
		{`{"kind":"group","account":"a"}`, `s.jsonl:6: the group has no "id"`},
		{`{"kind":"cloud","name":"d","dialect":"onion"}`, `one of union, ranked, layered, flat`},
		{`{"kind":"subnet","account":"a","network":"n","id":"s","ranges":["10.0.0.0/33"]}`,
			`"10.0.0.0/33" is not a range`},
		{`{"kind":"subnet","account":"a","network":"n","id":"s","ranges":["::ffff:10.0.0.0/104"]}`, `is not a range`},
		{`{"kind":"subnet","account":"a","network":"n","id":"s","routes":[{"to":"0.0.0.0/0","via":"magic"}]}`,
			`not via "magic"`},
		{`{"kind":"subnet","account":"a","network":"n","id":"s","groups":["zz"]}`,
			`has the group "zz" attached, which is not in this survey`},
		{`{"kind":"rule","account":"a","group":"g","id":"r","direction":"up","peers":["anything"],"services":["any"]}`, "write in or out"},
		{`{"kind":"rule","account":"a","group":"g","id":"r","direction":"in","action":"maybe","peers":["anything"],"services":["any"]}`, "write admit or refuse"},
		{`{"kind":"rule","account":"a","group":"g","id":"r","direction":"in","action":"refuse","peers":["anything"],"services":["any"]}`, "groups for instances of the dialect union can't"},
		{`{"kind":"rule","account":"a","group":"g","id":"r","direction":"in","peers":[],"services":["any"]}`,
			`needs "services" and "peers"`},
		{`{"kind":"rule","account":"a","group":"g","id":"r","direction":"in","peers":["everybody"],"services":["any"]}`, `the peer "everybody" is not a range`},
		{`{"kind":"rule","account":"a","group":"g","id":"r","direction":"in","peers":["anything"],"services":["tcp x"]}`, "a port is a number"},
		{`{"kind":"grop","id":"x"}`, `the kind "grop" is unknown: "group" is near`},
		{`{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z"}`, "a second survey begins here"},
		{`{"kind":"rule","account":"a","group":"g","id":"r","direction":"in","peers":["10.0.0.0/8"],"peers":["anything"],"services":["any"]}`, `the field "peers" stands twice`},
		{`{"kind":"rule","account":"a","group":"g","group":"h","id":"r","direction":"in","peers":["10.0.0.0/8"],"services":["any"]}`, `the field "group" stands twice`},
		{`{"kind":"instance","account":"a","id":"i","interfaces":[{"id":"f","subnet":"s","groups":[],"groups":["g"]}]}`, `the field "groups" stands twice`},
		{`{"kind":"list","account":"a","id":"l","owner":"nobody","entries":[]}`, `the owner "nobody" is unknown`},
		{`{"kind":"account","name":"b","cloud":"c","limits":{"rules-per-direction":-5}}`, "rules-per-direction is -5"},
	} {
		_, _, err := read(header + x.line + "\n")
		if err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s\n got %v\nwant %s", x.line, err, x.want)
		}
	}
	for _, x := range []struct{ text, want string }{
		{"", "is empty"},
		{"{}", "this is not a survey"},
		{`{"kind":"survey","version":2}`, "has version 2, and this program reads version 1"},
		{`{"kind":"survey","version":1,"taken":"yesterday"}`, "write a time like"},
	} {
		if _, _, err := read(x.text); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%q: %v, want %s", x.text, err, x.want)
		}
	}
}

func TestWarnings(t *testing.T) {
	for _, x := range []struct{ line, want string }{
		{`{"kind":"zebra","id":"x"}`, `s.jsonl:6: the kind "zebra" is unknown, and the line is ignored`},
		{`{"kind":"subnet","account":"a","network":"n","id":"s","ranges":["10.0.0.7/24"]}`,
			"s.jsonl:6: the range 10.0.0.7/24 has host bits: read as 10.0.0.0/24"},
		{`{"kind":"network","account":"a","id":"m","peers":[{"account":"b","network":"q"}]}`,
			"peered with b/q, which is not in this survey"},
	} {
		_, warnings, err := read(header + x.line + "\n")
		if err != nil || len(warnings) != 1 || !strings.Contains(warnings[0], x.want) {
			t.Errorf("%s\n got %v, %v\nwant %s", x.line, warnings, err, x.want)
		}
	}
}

// A route names a network of another account by its id alone where it is peered
// with the route's own network, from either side; of others it says so.
func TestRoutesToPeeredNetworks(t *testing.T) {
	const places = `{"kind":"account","name":"b","cloud":"c"}
{"kind":"network","account":"b","id":"far","ranges":["10.9.0.0/16"]%s}
{"kind":"network","account":"a","id":"m","ranges":["10.8.0.0/16"]%s}
{"kind":"subnet","account":"a","network":"m","id":"s","ranges":["10.8.0.0/24"],"routes":[{"to":"10.9.0.0/16","via":"peer","network":"far"}]}
`
	for _, x := range []struct {
		far, near string
		found     bool
	}{
		{`,"peers":[{"account":"a","network":"m"}]`, "", true},
		{"", `,"peers":[{"account":"b","network":"far"}]`, true},
		{"", "", false},
	} {
		e, warnings, err := read(header + fmt.Sprintf(places, x.far, x.near))
		if err != nil {
			t.Fatal(err)
		}
		var subnet *estate.Subnet
		for _, n := range e.Networks {
			for _, s := range n.Subnets {
				subnet = s
			}
		}
		to := subnet.Routes[0].Network
		if found := to != nil && to.ID == "far"; found != x.found || found == (len(warnings) > 0) {
			t.Errorf("peered %q %q: leads to %v, warnings %v", x.far, x.near, to, warnings)
		}
	}
}

// An instance is described whole: what an interface lacks or has wrong is said with its line.
func TestInstances(t *testing.T) {
	const subnet = `{"kind":"subnet","account":"a","network":"n","id":"s","ranges":["10.0.0.0/24"]}` + "\n"
	e, _, err := read(header + subnet +
		`{"kind":"instance","account":"a","id":"i","type":"balancer","labels":{"k":"v"},"interfaces":[{"id":"f","subnet":"s","private":["10.0.0.1","2001:db8::1"],"public":["198.51.100.1"],"groups":["g"],"filtered":false}]}` + "\n")
	if err != nil {
		t.Fatal(err)
	}
	i := e.Instances[0]
	f := i.Interfaces[0]
	if i.Name != "i" || i.Kind != estate.Balancer || i.Labels["k"] != "v" || !f.Unfiltered || len(f.Private) != 2 ||
		len(f.Public) != 1 || f.Groups[0].Name != "g" || f.Subnet.Name != "s" {
		t.Errorf("got %+v with %+v", i, f)
	}
	for _, x := range []struct{ interfaces, want string }{
		{`[{"id":"f","subnet":"z"}]`, `the subnet "z", which is not in this survey`},
		{`[{"id":"f","subnet":"s","groups":["z"]}]`, `the group "z" attached, which is not in this survey`},
		{`[{"id":"f","subnet":"s","private":["10.0.0.300"]}]`, `"10.0.0.300"`},
		{`[{"id":"f","subnet":"s","public":["fe80::1%eth0"]}]`, `"fe80::1%eth0"`},
	} {
		_, _, err := read(header + subnet + `{"kind":"instance","account":"a","id":"i","interfaces":` + x.interfaces +
			"}\n")
		if err == nil || !strings.Contains(err.Error(), x.want) || !strings.Contains(err.Error(), "s.jsonl:7") {
			t.Errorf("%s: %v, want %s", x.interfaces, err, x.want)
		}
	}
}

// A reference to nothing holds nobody, and unknown fields are ignored.
func TestReferencesToNothing(t *testing.T) {
	e, warnings, err := read(header +
		`{"kind":"rule","account":"a","group":"g","id":"r","direction":"in","peers":["group:gone","list:gone"],"services":["any"],"colour":"blue"}` + "\n")
	if err != nil || len(warnings) > 0 {
		t.Fatal(err, warnings)
	}
	for _, p := range e.Groups[0].Rules[0].Peers {
		if p.Kind != estate.PeerMissing {
			t.Errorf("got %+v", p)
		}
	}
}

func FuzzReadSurvey(f *testing.F) {
	text, err := os.ReadFile(filepath.Join("..", "core", "decide", "testdata", "small.jsonl"))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(string(text))
	f.Add(header)
	f.Fuzz(func(t *testing.T, text string) {
		e, _, err := read(text)
		if err != nil {
			return
		}
		var once bytes.Buffer
		if err := WriteSurvey(&once, e); err != nil {
			t.Fatal(err)
		}
	})
}

// What a rule says of one address family of a group or list, and the labels of groups
// and lists, are read and written again to the letter.
func TestFamiliesAndLabels(t *testing.T) {
	const text = `{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z","estate":"x"}
{"kind":"cloud","name":"c","dialect":"flat"}
{"kind":"account","name":"a","cloud":"c","limits":{"rules-per-account":120}}
{"kind":"list","account":"a","id":"l","name":"known","labels":{"isonomos":"x"},"owner":"own","entries":["192.0.2.0/28","2001:db8::/48"]}
{"kind":"group","account":"a","id":"g","name":"g","labels":{"isonomos":"x"},"for":"instances"}
{"kind":"rule","account":"a","group":"g","id":"r1","peers":["group:g v4"],"direction":"in","action":"admit","services":["tcp 22"]}
{"kind":"rule","account":"a","group":"g","id":"r2","peers":["list:l v6"],"direction":"in","action":"admit","services":["tcp 22"]}
{"kind":"rule","account":"a","group":"g","id":"r3","peers":["list:l"],"direction":"out","action":"admit","services":["any"]}
{"kind":"rule","account":"a","group":"g","id":"r4","peers":["group:gone v4"],"direction":"in","action":"admit","services":["tcp 22"]}
`
	e, _, err := ReadSurvey(strings.NewReader(text), "x")
	if err != nil {
		t.Fatal(err)
	}
	rules := e.Groups[0].Rules
	if p := rules[0].Peers[0]; p.Kind != estate.PeerSelf || !p.V4Only || p.V6Only {
		t.Errorf("group:g v4: %+v", p)
	}
	if p := rules[1].Peers[0]; p.Kind != estate.PeerList || p.V4Only || !p.V6Only {
		t.Errorf("list:l v6: %+v", p)
	}
	var back strings.Builder
	if err := WriteSurvey(&back, e); err != nil {
		t.Fatal(err)
	}
	have := make(map[string]bool)
	for line := range strings.Lines(back.String()) {
		have[line] = true
	}
	for line := range strings.Lines(text) {
		if !have[line] {
			t.Errorf("not written again: %sbut\n%s", line, back.String())
		}
	}
}

// A subnet beyond its network is told, since routes and peers of rules go by the network's ranges.
func TestSubnetBeyondItsNetwork(t *testing.T) {
	const text = `{"kind":"survey","version":1}
{"kind":"cloud","name":"c","dialect":"union"}
{"kind":"account","name":"a","cloud":"c"}
{"kind":"network","account":"a","id":"n","ranges":["10.0.0.0/16","fd20::/48"]}
{"kind":"subnet","account":"a","network":"n","id":"in","ranges":["10.0.1.0/24","fd20:0:0:1::/64"]}
{"kind":"subnet","account":"a","network":"n","id":"out","ranges":["10.1.1.0/24","fd20:0:0:2::/64"]}
`
	_, warnings, err := ReadSurvey(strings.NewReader(text), "s.jsonl")
	if err != nil || len(warnings) != 1 ||
		!strings.Contains(warnings[0],
			"s.jsonl:6: the subnet a/n/out has the range 10.1.1.0/24, which is in no range of its network") {
		t.Errorf("%v, %v", warnings, err)
	}
}

// Nothing may stand behind an object on its line but blanks: what does would be read by nobody, without a word.
func TestNothingFollowsAnObject(t *testing.T) {
	lines := append(strings.Split(strings.TrimSpace(header), "\n"),
		`{"kind":"rule","account":"a","group":"g","id":"r","direction":"in","peers":["10.0.0.0/8"],"services":["any"]}`,
		`{"id":"r","kind":"rule","account":"a","group":"g","direction":"in","peers":["10.0.0.0/8"],"services":["any"]}`,
		`{"kind":"list","account":"a","id":"l","owner":"own","entries":[]}`,
		`{"kind":"unread","account":"b","reason":"403"}`, `{"kind":"zebra","id":"x"}`)
	tails := []string{`,{"kind":"rule"}`, `{"kind":"rule"}`, `null`, `"x"`, `7`, `-`, `//`, "\u00a0", "\ufeff"}
	for b := range 256 {
		tails = append(tails, string([]byte{byte(b)}))
	}
	for n := range lines {
		for _, tail := range tails {
			changed := slices.Clone(lines)
			changed[n] += tail
			_, _, err := read(strings.Join(changed, "\n") + "\n")
			if blank := strings.TrimSpace(tail) == ""; (err == nil) != blank {
				t.Errorf("%s and behind it %q: %v", lines[n], tail, err)
			}
			var wrong *SurveyError
			if err != nil && (!errors.As(err, &wrong) || wrong.Line != n+1) {
				t.Errorf("%q behind line %d is told as %v", tail, n+1, err)
			}
		}
	}
}
