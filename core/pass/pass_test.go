package pass_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"isonomos/core/estate"
	"isonomos/core/pass"
	"isonomos/core/service"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// What is written can be read, and what is read was written so: nothing near it is taken for a pass.
func FuzzParse(f *testing.F) {
	id := pass.NewID("harbour", "a/n/g")
	for _, text := range []string{pass.Text(id, noon), "isonomos pass abcdefgh until 2099-01-01T00:00:00Z", "",
		"isonomos pass abcdefgh until 2099-01-01", "isonomos pass abcdefgh until 2026-11-23T12:00:00+01:00",
		"isonomos pass abc until 2026-11-23T12:00:00Z", "isonomos pass abcdefgh until 2026-11-23T12:00:00.5Z",
		"Isonomos pass abcdefgh until 2026-11-23T12:00:00Z", "isonomos pass abcdefgh until 2026-11-23T12:00:00Z ",
		"isonomos pass abcd1fgh until 2026-11-23T12:00:00Z"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		id, until, ok := pass.Parse(text)
		if ok && pass.Text(id, until) != text {
			t.Errorf("%q is read as %s until %s", text, id, until)
		}
		if _, named := pass.ParseGroup(pass.GroupName(id)); ok && !named {
			t.Errorf("%q has the id %q", text, id)
		}
	})
}

// An id fits the group that it was made for, and hardly ever anything else.
func TestIDs(t *testing.T) {
	others := 0
	const tries = 20000
	for n := range tries {
		id := pass.NewID("harbour", "a/n/g")
		if got, until, ok := pass.Parse(pass.Text(id, noon)); !ok || got != id || !until.Equal(noon) {
			t.Fatalf("%s until %s is read as %s until %s", id, noon, got, until)
		}
		if !pass.Genuine(id, "harbour", "a/n/g") {
			t.Fatalf("%s is not genuine", id)
		}
		if pass.Genuine(id, "harbour", fmt.Sprint("a/n/g", n)) || pass.Genuine(id, fmt.Sprint("h", n), "a/n/g") {
			others++
		}
		wrong := []byte(id)
		wrong[n%8] = "23456789abcdefghjkmnpqrstvwxyz"[(strings.IndexByte("23456789abcdefghjkmnpqrstvwxyz", wrong[n%8])+1+n%29)%30]
		if string(wrong) != id && pass.Genuine(string(wrong), "harbour", "a/n/g") {
			others++
		}
	}
	if others > 3 { // by chance one of 810,000
		t.Errorf("%d of %d ids fit something else", others, tries)
	}
	for _, text := range []string{"", "abcdefg", "abcdefghi", "ABCDEFGH", "abcdefg1", "abcdefgé"} {
		if pass.Genuine(text, "harbour", "a/n/g") {
			t.Errorf("%q is an id", text)
		}
	}
}

// Of passes that open the same, the one that ends last is kept, whatever their order.
func TestLater(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		var all []*pass.Pass
		last := make(map[string]time.Time)
		for range 1 + random.IntN(6) {
			peer := fmt.Sprintf("203.0.113.%d/32", random.IntN(2))
			p := &pass.Pass{Group: fmt.Sprint("a/n/g", random.IntN(2)), Until: noon.Add(time.Duration(random.IntN(3)) * time.Hour),
				Openings: []pass.Opening{{Direction: estate.In, Services: []string{"tcp 22"}, Peers: []string{peer}}}}
			all = append(all, p)
			if k := p.Group + peer; p.Until.After(last[k]) {
				last[k] = p.Until
			}
		}
		kept := pass.Later(all)
		if len(kept) != len(last) {
			t.Fatalf("%d passes are kept of %d that open %d things", len(kept), len(all), len(last))
		}
		for _, p := range kept {
			if !p.Until.Equal(last[p.Group+p.Openings[0].Peers[0]]) {
				t.Fatalf("%v is kept, and another one ends at %v", p, last)
			}
		}
	}
}

// lends is an estate with a group that lends ssh from two ranges for different times, and the survey in which it
// stands with some rules.
func lends(rules ...estate.Rule) (defined, surveyed *estate.Estate) {
	cloud := &estate.Cloud{Name: "c", Dialect: "union"}
	account := &estate.Account{Name: "a", Cloud: cloud}
	network := &estate.Network{Account: account, ID: "n", Name: "n"}
	rangeOf := func(text string) []estate.Peer {
		return []estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix(text)}}
	}
	ssh, _ := service.ParseSpec("tcp 22")
	lend := func(peers string, most time.Duration) estate.Lend {
		return estate.Lend{AtMost: most, Rule: estate.Rule{Direction: estate.In, Action: estate.Admit,
			Services: []service.Spec{ssh}, Peers: rangeOf(peers)}}
	}
	group := &estate.Group{Account: account, Network: network, ID: "g", Name: "g", For: estate.ForInstances, Defined: true,
		Lends: []estate.Lend{lend("203.0.113.0/24", time.Hour), lend("203.0.113.8/32", 2*time.Hour)}}
	defined = &estate.Estate{Name: "harbour", Clouds: []*estate.Cloud{cloud}, Accounts: []*estate.Account{account},
		Networks: []*estate.Network{network}, Groups: []*estate.Group{group}}
	found := *group
	found.Defined, found.Lends, found.Rules = false, nil, rules
	survey := *defined
	survey.Groups = []*estate.Group{&found}
	return defined, &survey
}

func opened(peer, port, text string) estate.Rule {
	spec, _ := service.ParseSpec("tcp " + port)
	return estate.Rule{ID: "r" + text, Direction: estate.In, Action: estate.Admit, Description: text,
		Services: []service.Spec{spec},
		Peers:    []estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix(peer)}}}
}

// A rule is one of a pass only if the journal issued just that, or its id and its bounds say so.
func TestFind(t *testing.T) {
	id := pass.NewID("harbour", "a/n/g")
	known := func(change func(k *pass.Known)) map[string]*pass.Known {
		k := &pass.Known{Open: true, Ends: []time.Time{noon.Add(time.Hour)}, Pass: pass.Pass{ID: id, Account: "a",
			Group: "a/n/g", Opened: noon, Until: noon.Add(time.Hour), AtMost: 2 * time.Hour,
			Openings: []pass.Opening{{Direction: estate.In, Services: []string{"tcp 22"},
				Peers: []string{"203.0.113.8/32"}}}}}
		if change != nil {
			change(k)
		}
		return map[string]*pass.Known{id: k}
	}
	until := func(d time.Duration) string { return pass.Text(id, noon.Add(d)) }
	other := pass.NewID("harbour", "a/n/other")
	for _, x := range []struct {
		name  string
		rule  estate.Rule
		known map[string]*pass.Known
		want  pass.State // "" means that it is none
	}{
		{"issued", opened("203.0.113.8/32", "22", until(time.Hour)), known(nil), pass.Open},
		{"issued, with another end", opened("203.0.113.8/32", "22", until(90*time.Minute)), known(nil), ""},
		{"issued, and wider", opened("203.0.113.8/31", "22", until(time.Hour)), known(nil), ""},
		{"issued, and another service", opened("203.0.113.8/32", "23", until(time.Hour)), known(nil), ""},
		{"issued for another group", opened("203.0.113.8/32", "22", until(time.Hour)),
			known(func(k *pass.Known) { k.Group = "a/n/h" }), ""},
		{"extended", opened("203.0.113.8/32", "22", until(90*time.Minute)), known(func(k *pass.Known) {
			k.Until = noon.Add(90 * time.Minute)
			k.Ends = append(k.Ends, k.Until)
		}), pass.Open},
		{"over", opened("203.0.113.8/32", "22", until(-time.Minute)), known(func(k *pass.Known) {
			k.Until, k.Ends = noon.Add(-time.Minute), []time.Time{noon.Add(-time.Minute)}
		}), pass.Overdue},
		{"ended, and there", opened("203.0.113.8/32", "22", until(time.Hour)),
			known(func(k *pass.Known) { k.Ended = noon }), pass.Overdue},
		{"broken off", opened("203.0.113.8/32", "22", until(time.Hour)),
			known(func(k *pass.Known) { k.Open = false }), pass.Broken},
		{"past what is lent now", opened("203.0.113.8/32", "22", until(time.Hour)), known(func(k *pass.Known) {
			k.Opened = noon.Add(-90 * time.Minute)
		}), pass.Unlent},
		{"no journal", opened("203.0.113.9/32", "22", until(time.Hour)), nil, pass.Open},
		{"no journal, over", opened("203.0.113.9/32", "22", until(-time.Hour)), nil, pass.Overdue},
		{"no journal, too long", opened("203.0.113.9/32", "22", until(61*time.Minute)), nil, ""},
		{"no journal, by the longer lend", opened("203.0.113.8/32", "22", until(2*time.Hour)), nil, pass.Open},
		{"no journal, too wide", opened("203.0.112.0/23", "22", until(time.Hour)), nil, ""},
		{"no journal, another service", opened("203.0.113.9/32", "443", until(time.Hour)), nil, ""},
		{"no journal, another group's id", opened("203.0.113.9/32", "22", pass.Text(other, noon.Add(time.Hour))), nil, ""},
		{"no journal, a typed id", opened("203.0.113.9/32", "22", pass.Text("abcdefgh", noon.Add(time.Hour))), nil, ""},
		{"another description", opened("203.0.113.9/32", "22", until(time.Hour)+"!"), nil, ""},
	} {
		defined, surveyed := lends(x.rule)
		e, _, _ := estate.Overlay(defined, surveyed, nil)
		found := pass.Find(e, surveyed, "harbour", x.known, noon)
		mark := surveyed.Groups[0].Rules[0].Pass
		switch {
		case x.want == "" && (len(found) > 0 || mark != ""):
			t.Errorf("%s: it is found as %+v", x.name, found[0])
		case x.want != "" && (len(found) != 1 || found[0].State != x.want):
			t.Errorf("%s: it is found as %+v, and is %s", x.name, found, x.want)
		case x.want != "" && (mark == id) == (x.want == pass.Unlent):
			t.Errorf("%s: it is marked %q", x.name, mark)
		}
	}
}

// The rules of a pass stand where its lend stands, and later lends go on standing behind them.
func TestInsert(t *testing.T) {
	defined, _ := lends()
	g := defined.Groups[0]
	g.Rules = []estate.Rule{opened("192.0.2.0/24", "443", "first"), opened("0.0.0.0/0", "22", "last")}
	g.Lends[0].After, g.Lends[1].After = 1, 2
	g.Lends[0].Origin.Line, g.Lends[1].Origin.Line = 1, 2
	p := &pass.Pass{ID: pass.NewID("harbour", "a/n/g"), Account: "a", Group: "a/n/g", Until: noon,
		Openings: []pass.Opening{{Direction: estate.In, Services: []string{"tcp 22"}, Peers: []string{"203.0.113.8/32"}}}}
	if err := pass.Insert(defined, p, &g.Lends[0]); err != nil {
		t.Fatal(err)
	}
	var texts []string
	for _, r := range g.Rules {
		texts = append(texts, r.Description)
	}
	if want := []string{"first", p.Text(), "last"}; !slices.Equal(texts, want) || g.Lends[0].After != 1 ||
		g.Lends[1].After != 3 {
		t.Errorf("%q, lends behind %d and %d", texts, g.Lends[0].After, g.Lends[1].After)
	}
	p.Openings[0].Peers = []string{"list gone"}
	if err := pass.Insert(defined, p, nil); err == nil {
		t.Error("a list that is not there is taken")
	}
	p.Group = "a/n/gone"
	if err := pass.Insert(defined, p, nil); err == nil {
		t.Error("a group that is not there is taken")
	}
}
