package change

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"isonomos/core/estate"
	"isonomos/core/service"
)

// rankedGroup is a group of a ranked cloud.
func rankedGroup() *estate.Group {
	a := &estate.Account{Name: "a", Cloud: &estate.Cloud{Name: "c", Dialect: "ranked"}}
	return &estate.Group{Account: a, Network: &estate.Network{Account: a, Name: "n"}, ID: "g", Name: "g",
		For: estate.ForInstances}
}

// verdicts are what the first rule that fits says of some ports and peers, 0 where none does.
func verdicts(rules []estate.Rule) (all [16]estate.Action) {
	rules = slices.Clone(rules)
	slices.SortStableFunc(rules, byRank)
	peers := []netip.Addr{netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("192.0.2.200"),
		netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("10.0.0.1")}
	for k := range all {
		for _, r := range rules {
			if r.Peers[0].Range.Contains(peers[k/4]) &&
				service.Of(r.Services...).Overlaps(
					service.Of(service.Ports(service.TCP, uint16(k%4+1), uint16(k%4+1)))) {
				all[k] = r.Action
				break
			}
		}
	}
	return all
}

// From any ranked rules to any others, every state on the way decides each packet as
// the old rules do, or as the new ones; ranks are never taken twice or out of bounds;
// what stays is not touched; and the way back ends with the old rules, ranks and all.
func TestRankedRulesChangeOneByOne(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 9))
	g := rankedGroup()
	ranges := []string{"192.0.2.0/24", "192.0.2.128/25", "0.0.0.0/0", "198.51.100.0/24"}
	make1 := func() (rules []estate.Rule) {
		step := 1 + random.IntN(3)*random.IntN(60)
		for i := range random.IntN(7) {
			from := uint16(1 + random.IntN(4))
			rules = append(rules, estate.Rule{ID: string(rune('a' + random.IntN(1<<16))), Direction: estate.In,
				Action: []estate.Action{estate.Admit, estate.Refuse}[random.IntN(2)], Rank: 100 + i*step,
				Services: []service.Spec{service.Ports(service.TCP, from, from+uint16(random.IntN(3)))},
				Peers: []estate.Peer{{Kind: estate.PeerRange,
					Range: netip.MustParsePrefix(ranges[random.IntN(len(ranges))])}}})
		}
		return rules
	}
	carryOut := func(have []estate.Rule, r rewriting, was, is [16]estate.Action) []estate.Rule {
		t.Helper()
		check := func() {
			t.Helper()
			taken := make(map[int]bool)
			for _, x := range have {
				if taken[x.Rank] || x.Rank < 1 || x.Rank > 8999 {
					t.Fatalf("the rank %d is taken twice or out of bounds", x.Rank)
				}
				taken[x.Rank] = true
			}
			for k, v := range verdicts(have) {
				if v != was[k] && v != is[k] {
					t.Fatalf("on the way %d is %q, before %q, after %q", k, v, was[k], is[k])
				}
			}
		}
		have = slices.Clone(have)
		for _, x := range r.add {
			have = append(have, x)
			check()
		}
		for _, x := range r.remove {
			have = slices.DeleteFunc(have, func(y estate.Rule) bool { return y.Rank == x.Rank })
			check()
		}
		return have
	}
	stayed := 0
	for range 3000 {
		old, young := make1(), make1()
		if random.IntN(2) == 0 && len(old) > 2 { // much stays
			young = slices.Insert(slices.Delete(slices.Clone(old), 1, 2), random.IntN(2), young...)
			for i := range young {
				young[i].Rank = 100 + i
			}
		}
		r, err := rewrite(g, old, young)
		if err != nil {
			t.Fatal(err)
		}
		stayed += len(old) - len(r.remove)
		was, is := verdicts(old), verdicts(young)
		after := carryOut(old, r, was, is)
		if verdicts(after) != is || len(after) != len(young) {
			t.Fatalf("there are %d rules, wanted %d", len(after), len(young))
		}
		back, err := rewrite(g, after, old)
		if err != nil {
			t.Fatal(err)
		}
		if again := carryOut(after, back, is, was); verdicts(again) != was || len(again) != len(old) {
			t.Fatal("the way back ends elsewhere")
		}
	}
	if stayed < 1000 {
		t.Errorf("only %d rules stayed", stayed)
	}
}

// Where there is no room between ranks, more rules make way; where there is none at
// all, that is an error.
func TestRanksAreFound(t *testing.T) {
	g := rankedGroup()
	rule := func(rank int, port uint16) estate.Rule {
		return estate.Rule{Direction: estate.In, Action: estate.Admit, Rank: rank,
			Services: []service.Spec{service.Ports(service.TCP, port, port)},
			Peers:    []estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix("0.0.0.0/0")}}}
	}
	r, err := rewrite(g, []estate.Rule{rule(100, 1), rule(101, 2)},
		[]estate.Rule{rule(100, 1), rule(200, 9), rule(300, 2)})
	if err != nil || len(r.add) != 2 || len(r.remove) != 1 {
		t.Errorf("between 100 and 101: %+v %v", r, err)
	}
	var full, more []estate.Rule
	for rank := 1; rank <= 8999; rank++ {
		full = append(full, rule(rank, uint16(rank)))
	}
	more = append(more, rule(100, 9000))
	if _, err := rewrite(g, full, more); err == nil {
		t.Error("a rank is found where there is none")
	}
}
