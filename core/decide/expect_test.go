package decide_test

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/service"
	"isonomos/internal/reading"
)

// A plainSide is a side of an expectation, as ends and addresses outside.
type plainSide struct {
	inside            []reading.End
	outside, internet []netip.Addr
}

// plain takes a side apart, end by end. Outside are those of some addresses.
func plain(d *decide.Decider, s law.Side, outside []netip.Addr) plainSide {
	means := func(p estate.Peer, a netip.Addr, at *estate.Interface) bool {
		if p.V4Only && a.Is6() || p.V6Only && a.Is4() {
			return false
		}
		switch p.Kind {
		case estate.PeerGroup:
			return at != nil && slices.Contains(d.InterfacesOf(p.Group), at)
		case estate.PeerInternet:
			return at == nil && d.Strangers().Contains(a)
		}
		return p.Range.Contains(a)
	}
	any := func(peers []estate.Peer, internet bool, a netip.Addr, at *estate.Interface) bool {
		return slices.ContainsFunc(peers,
			func(p estate.Peer) bool { return (p.Kind == estate.PeerInternet) == internet && means(p, a, at) })
	}
	excepted := func(a netip.Addr, at *estate.Interface) bool {
		return any(s.Except, true, a, at) || any(s.Except, false, a, at)
	}
	var side plainSide
	for _, x := range reading.Ends(d.Estate()) {
		if any(s.Of, false, x.Addr, x.At) && !excepted(x.Addr, x.At) {
			side.inside = append(side.inside, x)
		}
	}
	for _, a := range outside {
		if any(s.Of, false, a, nil) && !excepted(a, nil) {
			side.outside = append(side.outside, a)
		}
		if any(s.Of, true, a, nil) && !excepted(a, nil) {
			side.internet = append(side.internet, a)
		}
	}
	return side
}

// keeps is what becomes of wanting nothing to arrive: of the worst flow.
func keeps(e *estate.Estate, from, to []reading.End, p service.Point) (asked bool, worst string) {
	worst = "holds"
	for _, a := range from {
		for _, b := range to {
			if a.Addr.Is4() != b.Addr.Is4() || a.At == nil && b.At == nil ||
				a.At != nil && b.At != nil && a.At.Instance == b.At.Instance || !reading.Carries(a.Addr, p) {
				continue
			}
			asked = true
			switch reading.Verdict(e, a, b, p) {
			case "passes", "one-way":
				return true, "fails"
			case "undecided":
				worst = "undecided"
			}
		}
	}
	return asked, worst
}

func outsideEnds(lists ...[]netip.Addr) (ends []reading.End) {
	for _, list := range lists {
		for _, a := range list {
			ends = append(ends, reading.End{Addr: a})
		}
	}
	return ends
}

// What is expected not to arrive, and that only some arrive, is proved on tangled
// estates as the second reading decides it, end by end.
func TestProvedOnTangledEstates(t *testing.T) {
	counts := make(map[string]int)
	for _, name := range dialect.Names() {
		for seed := range uint64(150) {
			random := rand.New(rand.NewPCG(seed, 78))
			e := tangled(random, name)
			d := decide.New(e)
			outside := reading.Outside(e)
			var ranges []netip.Prefix // some addresses of each range that can be named, or that tells others apart
			for _, text := range sideRanges {
				ranges = append(ranges, netip.MustParsePrefix(text))
			}
			for _, n := range e.Networks {
				for _, s := range n.Subnets {
					ranges = append(ranges, s.Ranges...)
					for _, route := range s.Routes {
						ranges = append(ranges, route.To)
					}
				}
			}
			for _, p := range ranges {
				for _, a := range []netip.Addr{p.Addr(), p.Addr().Next(), addrIn(p, 250)} {
					if p.Contains(a) && !d.OwnAddresses().Contains(a) && !slices.Contains(outside, a) {
						outside = append(outside, a)
					}
				}
			}
			ends := reading.Ends(e)
			var expects []law.Expectation
			var points []service.Point
			for range 8 {
				p := point(t, probed[random.IntN(len(probed))])
				expects = append(expects,
					law.Expectation{From: randomSide(random, e, ends), To: randomSide(random, e, ends),
						Only: random.IntN(3) == 0, Services: service.Between(p, p), Words: p.String()})
				points = append(points, p)
			}
			for k, r := range law.Prove(e, expects) {
				x := expects[k]
				from, to := plain(d, x.From, outside), plain(d, x.To, outside)
				all := func(s plainSide) []reading.End {
					return append(slices.Clone(s.inside), outsideEnds(s.outside, s.internet)...)
				}
				others := all(from)
				if x.Only {
					others = nil
					for _, o := range append(slices.Clone(ends), outsideEnds(outside)...) {
						if !slices.Contains(all(from), o) {
							others = append(others, o)
						}
					}
				}
				asked, want := keeps(e, others, all(to), points[k])
				if len(all(from)) == 0 || len(all(to)) == 0 || !asked {
					want = "undecided"
				}
				got := "holds"
				switch {
				case r.Undecided:
					got = "undecided"
				case !r.Holds:
					got = "fails"
				}
				// That those who may can as well is another question: it can only make it worse.
				if x.Only && (want == "holds" || want == "undecided" && got == "fails") {
					continue
				}
				counts[want]++
				if got != want {
					t.Fatalf("%s, seed %d: %+v to %+v, only %v, %s: %s, by the second reading %s (note %q, "+
						"witness %+v)", name, seed, x.From, x.To, x.Only, x.Words, got, want, r.Note, r.Witness)
				}
			}
		}
	}
	for _, want := range []string{"holds", "fails", "undecided"} {
		if counts[want] < 500 {
			t.Errorf("only %d are %s", counts[want], want)
		}
	}
	t.Log(counts)
}

// sideRanges are the ranges that sides of expectations name.
var sideRanges = []string{"10.1.0.0/16", "10.2.1.0/24", "198.51.100.0/24", "198.51.100.52/31", "203.0.113.0/24",
	"2001:db8:20::/48", "172.31.0.0/16", "fd00:1:1::/48"}

// randomSide is a side of an expectation: groups, ranges, single addresses, the
// internet, of one family or both, with exceptions.
func randomSide(random *rand.Rand, e *estate.Estate, ends []reading.End) law.Side {
	peer := func() estate.Peer {
		var p estate.Peer
		switch random.IntN(6) {
		case 0, 1:
			p = estate.Peer{Kind: estate.PeerGroup, Group: e.Groups[random.IntN(len(e.Groups))]}
			if p.Group.For != estate.ForInstances {
				p = estate.Peer{Kind: estate.PeerInternet}
			}
		case 2:
			p = estate.Peer{Kind: estate.PeerInternet}
		case 3:
			a := ends[random.IntN(len(ends))].Addr
			return estate.Peer{Kind: estate.PeerRange, Range: netip.PrefixFrom(a, a.BitLen())}
		default:
			return estate.Peer{Kind: estate.PeerRange,
				Range: netip.MustParsePrefix(sideRanges[random.IntN(len(sideRanges))])}
		}
		switch random.IntN(5) {
		case 0:
			p.V4Only = true
		case 1:
			p.V6Only = true
		}
		return p
	}
	s := law.Side{Of: []estate.Peer{peer()}}
	if random.IntN(3) == 0 {
		s.Of = append(s.Of, peer())
	}
	if random.IntN(4) == 0 {
		s.Except = append(s.Except, peer())
	}
	return s
}

// That members of groups can reach each other, or the internet, is proved on tangled
// estates as the second reading decides it: each by some pair of addresses.
func TestCanOnTangledEstates(t *testing.T) {
	counts := make(map[string]int)
	for _, name := range dialect.Names() {
		for seed := range uint64(150) {
			random := rand.New(rand.NewPCG(seed, 79))
			e := tangled(random, name)
			d := decide.New(e)
			outside := slices.DeleteFunc(reading.Outside(e),
				func(a netip.Addr) bool { return !d.Strangers().Contains(a) })
			group := func() estate.Peer {
				groups := slices.DeleteFunc(slices.Clone(e.Groups),
					func(g *estate.Group) bool { return g.For != estate.ForInstances })
				return estate.Peer{Kind: estate.PeerGroup, Group: groups[random.IntN(len(groups))],
					V4Only: random.IntN(4) == 0}
			}
			for range 6 {
				p := point(t, probed[random.IntN(len(probed))])
				sides := []law.Side{{Of: []estate.Peer{group()}}, {Of: []estate.Peer{group()}}}
				if k := random.IntN(4); k < 2 {
					sides[k].Of[0] = estate.Peer{Kind: estate.PeerInternet, V6Only: random.IntN(5) == 0}
				}
				x := law.Expectation{From: sides[0], To: sides[1], Can: true, Services: service.Between(p, p),
					Words: p.String()}
				r := law.Prove(e, []law.Expectation{x})[0]
				got := map[bool]string{true: "holds", false: "fails"}[r.Holds]
				if r.Undecided {
					got = "undecided"
				}
				want := reaches(e, plain(d, x.From, outside), plain(d, x.To, outside), p)
				counts[want]++
				if got != want {
					t.Fatalf("%s, seed %d: %+v can reach %+v on %s: %s, by the second reading %s (note %q, "+
						"witness %+v)", name, seed, x.From, x.To, x.Words, got, want, r.Note, r.Witness)
				}
			}
		}
	}
	for _, want := range []string{"holds", "fails", "undecided"} {
		if counts[want] < 100 {
			t.Errorf("only %d are %s", counts[want], want)
		}
	}
	t.Log(counts)
}

// reaches is whether every member of one side passes to every one of the other, by
// some pair of addresses: the internet is one member with many.
func reaches(e *estate.Estate, from, to plainSide, p service.Point) string {
	members := func(s plainSide) map[*estate.Interface][]reading.End {
		all := make(map[*estate.Interface][]reading.End)
		for _, x := range append(slices.Clone(s.inside), outsideEnds(s.internet)...) {
			all[x.At] = append(all[x.At], x)
		}
		return all
	}
	asked, worst := false, "holds"
	for i, a := range members(from) {
		for j, b := range members(to) {
			best := ""
			for _, x := range a {
				for _, y := range b {
					if x.Addr.Is4() != y.Addr.Is4() || !reading.Carries(x.Addr, p) || i == nil && j == nil ||
						i != nil && j != nil && i.Instance == j.Instance || hidden(x, y) {
						continue
					}
					switch v := reading.Verdict(e, x, y, p); {
					case v == "passes":
						best = "holds"
					case v == "undecided" && best != "holds":
						best = "undecided"
					case best == "":
						best = "fails"
					}
				}
			}
			if best == "" {
				continue
			}
			asked = true
			if best == "fails" || best == "undecided" && worst == "holds" {
				worst = best
			}
		}
	}
	if !asked {
		return "undecided"
	}
	return worst
}

// hidden reports whether an end within the estate is seen by a private address instead.
func hidden(x, y reading.End) bool {
	return x.At != nil && y.At != nil && slices.Contains(x.At.Public, x.Addr) && !addr.Public.Contains(y.Addr) &&
		slices.ContainsFunc(x.At.Private, func(a netip.Addr) bool { return a.Is4() == x.Addr.Is4() })
}
