package audit_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// tangled adds random rules between the groups of the sound estate, walls around
// some subnets, and instances that have two groups.
func tangled(random *rand.Rand) string {
	var b strings.Builder
	services := []string{"tcp 22", "tcp 443", "tcp 5000-5010", "udp 53", "any", "tcp 5432"}
	any := func(list ...string) string { return list[random.IntN(len(list))] }
	peers := map[string][]string{
		"u": {"group:uh", "group:ug", "group:t/tg", "10.0.0.0/16", "10.0.1.2", "10.1.1.0/24", "10.9.0.0/16"},
		"t": {"group:u/ug", "group:u/uh", "group:tg", "10.0.0.0/16", "10.1.0.0/16"},
		"f": {"group:fg", "group:fh", "10.4.1.0/24", "10.4.1.2"},
		"l": {"group:lg", "group:lh", "10.3.0.0/16", "10.3.1.2"},
	}
	b.WriteString(`{"kind":"group","account":"f","id":"fh","description":"x"}
{"kind":"group","account":"l","network":"ln","id":"lh","description":"x"}
{"kind":"instance","account":"f","id":"f2","interfaces":[{"id":"if-f2","subnet":"fs","private":["10.4.1.2"],"groups":["fh"` + any("", `,"fg"`) + `]}]}
{"kind":"instance","account":"l","id":"l2","interfaces":[{"id":"if-l2","subnet":"ls","private":["10.3.1.2"],"groups":["lh"]}]}
{"kind":"instance","account":"u","id":"u5","interfaces":[{"id":"if-u5","subnet":"us","private":["10.0.1.5"],"groups":["uh"` + any("", `,"ug"`) + `]` + any("", `,"filtered":false`) + `}]}
`)
	if random.IntN(2) == 0 {
		b.WriteString(`{"kind":"group","account":"u","network":"un","id":"wall","for":"subnets","description":"x"}
{"kind":"subnet","account":"u","network":"un","id":"walled","ranges":["10.0.2.0/24"],"groups":["wall"]}
{"kind":"instance","account":"u","id":"u6","interfaces":[{"id":"if-u6","subnet":"walled","private":["10.0.2.6"],"groups":["` + any("uh", "ug") + `"]}]}
`)
		for k, direction := range []string{"in", "out", any("in", "out")} {
			b.WriteString(rule("u/wall", direction, any("any", "tcp", "tcp 443"),
				any("10.0.0.0/16", "10.0.1.0/24", "0.0.0.0/0"),
				fmt.Sprintf(`"description":"x","rank":%d,"action":%q`, 100+k, any("admit", "admit", "refuse"))))
		}
	}
	for k := range 12 {
		group := any("u/ug", "u/uh", "t/tg", "f/fg", "f/fh", "l/lg", "l/lh")
		line := rule(group, any("in", "out"), any(services...), any(peers[group[:1]]...), "")
		b.WriteString(strings.Replace(line, `"id":"`, fmt.Sprintf(`"id":"%d-`, k), 1))
	}
	return b.String()
}

// A rule that names a group is one end only where, by exact sets, no member of that
// group lets any of it through at its own filters.
func TestOneEndAgreesWithSets(t *testing.T) {
	random := rand.New(rand.NewPCG(21, 4))
	single, double := 0, 0
	for range 400 {
		text := tangled(random)
		e := surveyed(t, text)
		d := decide.New(e)
		told := make(map[string]bool)
		for _, f := range audit.Run(d, audit.Options{Now: now, Checks: []string{"one-way"}}).Findings {
			if !strings.Contains(f.Message, "without state") &&
				!slices.ContainsFunc(f.Also,
					func(r audit.Related) bool { return strings.Contains(r.Message, "without state") }) {
				for _, r := range f.Rules {
					told[r.ID] = true
				}
			}
		}
		for _, g := range e.Groups {
			for i := range g.Rules {
				r := &g.Rules[i]
				if len(r.Peers) != 1 || r.Peers[0].Kind != estate.PeerGroup || g.For != estate.ForInstances ||
					r.Action != estate.Admit {
					continue
				}
				other := r.Peers[0].Group
				if len(d.InterfacesOf(g)) == 0 || len(d.InterfacesOf(other)) == 0 || !d.CanName(g, other) {
					continue
				}
				back := map[estate.Direction]estate.Direction{estate.In: estate.Out, estate.Out: estate.In}[r.Direction]
				lets := slices.ContainsFunc(d.InterfacesOf(other), func(i *estate.Interface) bool {
					return i.Unfiltered || !d.FilterTraffic(i,
						back).Intersect(traffic.Of(d.Members(g), service.Of(r.Services...))).IsEmpty()
				})
				if told[r.ID] == lets {
					t.Fatalf("%s: one end only: %v, by sets %v\n%s", r.Sentence(e.Services), told[r.ID], !lets, text)
				}
				if lets {
					double++
				} else {
					single++
				}
			}
		}
	}
	if single < 200 || double < 200 {
		t.Errorf("only %d single and %d double ends", single, double)
	}
}

// Stages cross where a packet of a lower one gets to a higher one on administration
// or data by a rule that is not open to all, and nowhere else.
func TestStageCrossingAgreesWithFlows(t *testing.T) {
	random := rand.New(rand.NewPCG(8, 15))
	crossed := 0
	for range 400 {
		text := tangled(random)
		e := surveyed(t, text)
		d := decide.New(e)
		found := audit.Run(d, audit.Options{Now: now, Checks: []string{"stage-crossing"}}).Findings
		told := make(map[string]bool)
		for _, f := range found {
			told[f.Where()] = true
		}
		for _, g := range e.Groups {
			if g.Account.Name != "u" || g.For != estate.ForInstances {
				continue
			}
			crosses := false
			for _, own := range d.InterfacesOf(g) {
				for _, lower := range e.Instances {
					if lower.Account.Name != "t" {
						continue
					}
					for _, p := range []service.Point{service.PointOf(service.TCP, 22),
						service.PointOf(service.TCP, 5432)} {
						from, to := lower.Interfaces[0], own
						if d.Flow(decide.End{Interface: from, Addr: from.Private[0]},
							decide.End{Interface: to, Addr: to.Private[0]}, p).Verdict != decide.Passes {
							continue
						}
						crosses = crosses || slices.ContainsFunc(g.Rules, func(r estate.Rule) bool {
							return r.Direction == estate.In && d.RuleTraffic(g, &r).Contains(from.Private[0], p)
						})
					}
				}
			}
			if crosses {
				crossed++
			}
			if crosses && !told[g.Path()] {
				t.Fatalf("%s is reached from a lower stage, and nothing tells of it\n%s", g.Path(), text)
			}
			if told[g.Path()] && !crosses && !strings.Contains(text, `"any"`) && !strings.Contains(text, "5000-5010") {
				t.Fatalf("%s is said to be reached from a lower stage\n%s", g.Path(), text)
			}
		}
	}
	if crossed < 10 {
		t.Errorf("only %d crossings", crossed)
	}
}

// Twins are the groups of one network that let through equal sets, and all of them.
func TestTwinsAgreeWithSets(t *testing.T) {
	random := rand.New(rand.NewPCG(2, 6))
	pairs := 0
	for range 1500 {
		var b strings.Builder
		for k := range 6 {
			fmt.Fprintf(&b, `{"kind":"group","account":"%s"%s,"id":"x%d","description":"x"}`+"\n",
				[]string{"u", "f"}[k%2], []string{`,"network":"un"`, ""}[k%2], k)
			for j := range random.IntN(4) {
				port := 1 + random.IntN(3)
				spec := []string{fmt.Sprintf("tcp %d", port), fmt.Sprintf("tcp %d-3", port)}[random.IntN(2)]
				peers := []string{"10.0.0.0/24", "10.0.0.0/25", "10.0.0.128/25"}[random.IntN(3)]
				b.WriteString(strings.Replace(
					rule(fmt.Sprintf("%s/x%d", []string{"u", "f"}[k%2], k), []string{"in", "out"}[random.IntN(2)],
						spec, peers, ""), `"id":"`, fmt.Sprintf(`"id":"%d-`, j), 1))
			}
		}
		e := surveyed(t, b.String())
		d := decide.New(e)
		told := make(map[string]bool)
		for _, f := range audit.Run(d, audit.Options{Now: now, Checks: []string{"twins"}}).Findings {
			first := f.Group
			_, others, _ := strings.Cut(f.Message, "same traffic as ")
			for other := range strings.SplitSeq(others, ", ") {
				told[first.Name+" "+other] = true
			}
		}
		var groups []*estate.Group
		for _, g := range e.Groups {
			if strings.HasPrefix(g.Name, "x") && len(g.Rules) > 0 {
				groups = append(groups, g)
			}
		}
		want := make(map[string]bool)
		paired := make(map[*estate.Group]bool)
		for i, a := range groups {
			for _, b := range groups[i+1:] {
				same := a.Account == b.Account && d.GroupTraffic(a, estate.In).Equal(d.GroupTraffic(b, estate.In)) &&
					d.GroupTraffic(a, estate.Out).Equal(d.GroupTraffic(b, estate.Out))
				if same && !paired[a] && !paired[b] {
					want[a.Name+" "+b.Name] = true
					paired[b] = true
				}
			}
		}
		if fmt.Sprint(told) != fmt.Sprint(want) {
			t.Fatalf("twins are %v, told %v\n%s", want, told, b.String())
		}
		pairs += len(want)
	}
	if pairs < 40 {
		t.Errorf("only %d pairs", pairs)
	}
}
