package work_test

import (
	"flag"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"isonomos/core/change"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/internal/abstract"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/store"
)

var (
	rounds = flag.Int("rounds", 125,
		"random estates of each dialect whose definitions are compared with what they become")
	seed = flag.Uint64("seed", 16, "where the random estates begin")
)

// Definitions made by chance, by a tree that knows its own meaning, become rules that mean
// the same, by an evaluator that shares no code with what compiled them: for everybody who
// is there, and for who joins a group later.
func TestDefinitionsMeanWhatTheyBecome(t *testing.T) {
	for _, name := range dialect.Names() {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			random := rand.New(rand.NewPCG(*seed, uint64(len(name))))
			n := count{reasons: make(map[string]int)}
			for range *rounds {
				n.compare(t, abstract.Random(random, name, random.IntN(3) == 0), random)
				if t.Failed() {
					return
				}
			}
			t.Logf("%d estates expressed, %d not, %d decisions, %d after somebody joined; not expressed: %v",
				n.expressed, n.not, n.decisions, n.joined, n.reasons)
			if n.expressed < *rounds/4 {
				t.Errorf("only %d of %d estates were expressed", n.expressed, *rounds)
			}
		})
	}
}

type count struct {
	expressed, not, decisions, joined int
	reasons                           map[string]int
}

func (n *count) compare(t *testing.T, a *abstract.Estate, random *rand.Rand) {
	text := a.Definitions()
	d := nomos.Understand([]*source.File{source.NewFile("a.nomos", text)},
		resolve.Options{Now: time.Unix(1790000000, 0)})
	for _, m := range d.Messages {
		if m.Warning && !strings.Contains(m.Text, "stops this connect") {
			continue
		}
		// A refusal before a connect is a mistake, and so is a service that no peer can carry.
		if !strings.Contains(m.Text, "stops this connect") && !strings.Contains(m.Text, "does not go over") &&
			!strings.Contains(m.Text, "has no v") {
			t.Errorf("%s\n%s", m.String(), text)
		}
		n.not++
		return
	}
	surveyed, _, err := store.ReadSurvey(strings.NewReader(a.Survey()), "s")
	if err != nil {
		t.Fatal(err, a.Survey())
	}
	aim := change.NewAim(d.Estate, surveyed, change.Choice{})
	if len(aim.Failures) > 0 {
		n.not++
		for _, f := range aim.Failures {
			n.reasons[reasonOf(f.Reason)]++
			if strings.Contains(f.Reason, "would") && !strings.Contains(f.Reason, "would not stop") &&
				!strings.Contains(f.Reason, "can't take") {
				t.Errorf("%s: %s\n%s", f.Group.Path(), f.Reason, text)
			}
		}
		return
	}
	if _, err := change.NewPlan(aim); err != nil && !strings.Contains(err.Error(), "no safe order") {
		t.Errorf("%v\n%s", err, text)
		return
	}
	n.expressed++
	n.decisions += agree(t, a, aim.Then, text, 1500, random)
	if !slices.ContainsFunc(a.Groups, func(g *abstract.Group) bool { return g.Wall }) { // they hold who is there today
		n.joined += n.join(t, a, aim.Then, text, random)
	}
}

// join adds a member to groups, whose rules stay as they are.
func (n *count) join(t *testing.T, a *abstract.Estate, then *estate.Estate, text string, random *rand.Rand) int {
	s := a.Networks[random.IntN(2)].Subnets[random.IntN(2)]
	h := &abstract.Host{Name: "late", Role: []string{"web", "db", "desk"}[random.IntN(3)], Subnet: s,
		Addrs: []netip.Addr{[]netip.Addr{s.Ranges[0].Addr().Next(), netip.MustParseAddr("10.1.1.200"),
			netip.MustParseAddr("10.2.1.99")}[random.IntN(3)]}}
	if !s.Ranges[0].Contains(h.Addrs[0]) {
		return 0
	}
	a.Hosts = append(a.Hosts, h)
	i := &estate.Instance{Account: then.Accounts[0], Name: h.Name, Kind: estate.Machine}
	f := &estate.Interface{Instance: i, Private: h.Addrs}
	for _, network := range then.Networks {
		for _, x := range network.Subnets {
			if network.Name == s.Network.Name && x.Name == s.Name {
				f.Subnet = x
			}
		}
	}
	for _, g := range a.Groups {
		if g.Covers(h) {
			k := slices.IndexFunc(then.Groups,
				func(x *estate.Group) bool { return x.InCloud() == g.Name && x.Network.Name == g.Network.Name })
			f.Groups = append(f.Groups, then.Groups[k])
		}
	}
	i.Interfaces = []*estate.Interface{f}
	then.Instances = append(then.Instances, i)
	return agree(t, a, then, text+"# and late joined\n", 500, random)
}

// agree compares what a tree means with what the rules of a state let through, for some
// of all hosts, directions, addresses and services.
func agree(t *testing.T, a *abstract.Estate, then *estate.Estate, text string, tries int, random *rand.Rand) int {
	decided, wrong := a.Compare(then, tries, random)
	if wrong != "" {
		t.Fatalf("%s\n%s%s", wrong, text, a.Survey())
	}
	return decided
}

// reasonOf is a reason without what it is about.
func reasonOf(text string) string {
	for _, known := range []string{"can't take addresses away", "can't take the members", "can't take part",
		"can't speak of one address family", "can name groups of", "would not stop", "has no refusals",
		"more rules than its quota"} {
		if strings.Contains(text, known) {
			return known
		}
	}
	return text
}
