package audit

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// randomRules are rules that often overlap.
func randomRules(random *rand.Rand, n int, refuse bool) []*ruleFacts {
	rules := make([]*ruleFacts, n)
	for i := range rules {
		from := uint16(random.IntN(6))
		prefix := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 0, 0, byte(random.IntN(8) * 32)}), 24+random.IntN(4))
		if random.IntN(5) == 0 {
			prefix = netip.PrefixFrom(netip.MustParseAddr("fd00::"), 120+random.IntN(8))
		}
		rules[i] = &ruleFacts{
			Rule:     &estate.Rule{ID: fmt.Sprint(i), Action: estate.Admit},
			peers:    addr.OfPrefixes(prefix),
			services: service.Of(service.Ports(service.TCP, from, from+uint16(random.IntN(4)))),
		}
		if refuse && random.IntN(3) == 0 {
			rules[i].Action = estate.Refuse
		}
	}
	return rules
}

// Rules that are covered can all go, and nothing changes; each of the others
// changes something when it goes: alone, or where the first that fits decides as
// the only one that speaks of something. The way for many rules says the same.
func TestCovered(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	found := 0
	for round := range 1500 {
		byRank := round%2 == 0
		rules := randomRules(random, 1+random.IntN(14), byRank)
		gone := make(map[int]bool)
		for _, i := range covered(rules, byRank) {
			gone[i] = true
			found++
		}
		var kept []traffic.Set
		for i, r := range rules {
			if !gone[i] {
				kept = append(kept, r.traffic())
			}
		}
		if !traffic.UnionAll(kept).Equal(traffic.UnionAll(traffics(rules))) {
			t.Fatalf("round %d: without the covered rules something is lost", round)
		}
		for i, r := range rules {
			var others []traffic.Set
			for k, o := range rules {
				if k != i && !gone[k] && (!byRank || k < i) {
					others = append(others, o.traffic())
				}
			}
			if within := r.traffic().SubsetOf(traffic.UnionAll(others)); within != gone[i] {
				t.Fatalf("round %d: rule %d is covered: %v, told: %v", round, i, within, gone[i])
			}
		}
		if many := coveredOfMany(slices.Clone(rules), byRank); byRank && len(many) != len(gone) {
			t.Fatalf("round %d: the way for many tells of %v, the other of %v", round, many, gone)
		} else if !byRank { // several choices are right: what is left must be all, and no less
			left := make([]traffic.Set, 0, len(rules))
			for i, r := range rules {
				if !slices.Contains(many, i) {
					left = append(left, r.traffic())
				}
			}
			for i := range left {
				if left[i].SubsetOf(traffic.UnionAll(slices.Concat(left[:i], left[i+1:]))) {
					t.Fatalf("round %d: the way for many leaves a covered rule", round)
				}
			}
			if !traffic.UnionAll(left).Equal(traffic.UnionAll(traffics(rules))) {
				t.Fatalf("round %d: the way for many takes too much", round)
			}
		}
	}
	if found < 500 {
		t.Errorf("only %d rules were covered", found)
	}
}

// A refusal is vain where, flow by flow, all that it refuses over a family is
// admitted before it.
func TestVain(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 5))
	l := &look{group: &estate.Group{Defined: true}}
	vain := 0
	for range 3000 {
		rules := randomRules(random, 2+random.IntN(6), true)
		for i, r := range rules {
			if r.Action != estate.Refuse {
				continue
			}
			want := false
			for _, f := range []addr.Family{addr.IPv4, addr.IPv6} {
				peers := r.peers.Only(f)
				want = want || !peers.IsEmpty() && allAdmittedBefore(rules[:i], peers, r.services)
			}
			if got := l.ineffective(rules, i); got != want {
				t.Fatalf("%v %v is vain: %v, want %v", r.peers, r.services, got, want)
			}
			if want {
				vain++
			}
		}
	}
	if vain < 100 {
		t.Errorf("only %d refusals were vain", vain)
	}
}

// allAdmittedBefore asks for every address and service which rule fits first.
func allAdmittedBefore(before []*ruleFacts, peers addr.Set, services service.Set) bool {
	for _, prefix := range peers.Prefixes() {
		for a := prefix.Addr(); prefix.Contains(a); a = a.Next() {
			for from, to := range services.Runs {
				for p := from; p <= to; p++ {
					i := slices.IndexFunc(before,
						func(r *ruleFacts) bool { return r.peers.Contains(a) && r.services.Contains(p) })
					if i < 0 || before[i].Action != estate.Admit {
						return false
					}
				}
			}
		}
	}
	return true
}

// Findings of one cause are joined, the worst first, and keep what each says.
func TestJoinCauses(t *testing.T) {
	a, b, c := &estate.Rule{ID: "a"}, &estate.Rule{ID: "b"}, &estate.Rule{ID: "c"}
	l := &look{worker: &worker{auditor: &auditor{estate: &estate.Estate{}}},
		group: &estate.Group{Rules: make([]estate.Rule, 3)}}
	find := func(check string, s Severity, direction estate.Direction, rules ...*estate.Rule) Finding {
		return Finding{Check: check, Severity: s, Direction: direction, Rules: rules, Message: "it is " + check}
	}
	single := func(f Finding) Finding { f.gather = true; return f }
	part := func(f Finding) Finding { f.part = true; return f }
	for _, x := range []struct {
		found []Finding
		want  string
	}{
		{[]Finding{find("x", Low, estate.In, a), find("y", High, estate.In, a)}, "y+x[a]"},
		{[]Finding{find("x", Low, estate.In, a), find("y", High, estate.Out, a)}, "y[a] x[a]"},
		{[]Finding{find("x", Low, estate.In, a), find("y", High, estate.In, a, b)}, "y[a b] x[a]"},
		{[]Finding{part(find("law:l", Critical, estate.In, a)), find("y", High, estate.In, a, b)}, "law:l+y[a b]"},
		{[]Finding{part(find("law:l", Critical, estate.In, a)), part(find("law:l", Critical, estate.In, b)),
			find("y", High, estate.In, a, b)}, "law:l+y[a b]"},
		{[]Finding{single(find("unexplained", Info, "", a)), single(find("unexplained", Info, "", b)),
			single(find("unexplained", Info, "", c)), find("y", High, estate.In, b)},
			"y+unexplained[b] unexplained[a c]"},
		{[]Finding{find("x", Low, ""), find("y", Low, "")}, "x[] y[]"},
	} {
		got := ""
		for _, f := range l.gathered(l.joinCauses(slices.Clone(x.found))) {
			name := f.Check
			for _, r := range f.Also {
				name += "+" + r.Check
				if r.Message != "it is "+r.Check {
					t.Errorf("%s says %q", r.Check, r.Message)
				}
			}
			var ids []string
			for _, r := range f.Rules {
				ids = append(ids, r.ID)
			}
			got += fmt.Sprintf(" %s%v", name, ids)
		}
		if got[1:] != x.want {
			t.Errorf("got %s, want %s", got[1:], x.want)
		}
	}
}
