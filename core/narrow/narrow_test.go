package narrow

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/law"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// A bench is an estate with one group whose only rule admits everybody.
type bench struct {
	estate.Estate
	group   *estate.Group
	network *estate.Network
	subnet  *estate.Subnet
}

func newBench() *bench {
	account := &estate.Account{Name: "a", Cloud: &estate.Cloud{Dialect: "union"}}
	b := &bench{network: &estate.Network{Account: account, Name: "n", Ranges: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/16")}}}
	b.subnet = &estate.Subnet{Network: b.network, Name: "s", Ranges: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/24")}}
	b.network.Subnets = []*estate.Subnet{b.subnet}
	b.Networks = []*estate.Network{b.network}
	b.group = b.addGroup("subject", "10.0.0.1")
	b.group.Rules = []estate.Rule{{Direction: estate.In, Action: estate.Admit, Peers: []estate.Peer{{Kind: estate.PeerEveryone}}, Services: []service.Spec{service.Anything}}}
	return b
}

func (b *bench) addGroup(name string, members ...string) *estate.Group {
	g := &estate.Group{Account: b.network.Account, Network: b.network, Name: name, For: estate.ForInstances, Defined: true}
	b.Groups = append(b.Groups, g)
	for _, m := range members {
		i := &estate.Instance{Account: g.Account, Name: name + m}
		i.Interfaces = []*estate.Interface{{Instance: i, Subnet: b.subnet, Private: []netip.Addr{netip.MustParseAddr(m)}, Groups: []*estate.Group{g}}}
		b.Instances = append(b.Instances, i)
	}
	return g
}

func (b *bench) addList(name string, ranges ...string) {
	l := &estate.List{Name: name, Owner: "own", Defined: true}
	for _, r := range ranges {
		l.Entries = append(l.Entries, estate.Entry{Range: netip.MustParsePrefix(r)})
	}
	b.Lists = append(b.Lists, l)
}

// propose narrows the bench's rule for flows "SRC PORT TIMES".
func (b *bench) propose(flows ...string) Proposal {
	sum := &flow.Summary{}
	for _, f := range flows {
		fields := strings.Fields(f)
		spec, err := service.ParseSpec("tcp " + fields[1])
		if err != nil {
			panic(err)
		}
		p, _ := service.Of(spec).First()
		for i := range len(fields[2]) { // one mark a flow: x answered, o not
			at := int64(86400 * i)
			protocol, port := p.Split()
			r := flow.Record{Start: at, End: at, Source: netip.MustParseAddr(fields[0]), Destination: netip.MustParseAddr("10.0.0.1"), Protocol: protocol, Port: port, ReplyKnown: true, Opened: flow.BySource}
			if fields[2][i] == 'x' {
				r.ReplyPackets = 1
			}
			sum.Add(&r)
		}
	}
	return Propose(decide.New(&b.Estate), Subject{b.group, estate.In, []*estate.Rule{&b.group.Rules[0]}}, Evidence{Flows: sum})
}

func said(p Proposal) string {
	var rules []string
	for _, r := range p.New {
		rules = append(rules, (service.Names{}).Describe(r.Services)+" from "+r.PeerWords())
	}
	return strings.Join(rules, "; ")
}

func TestPeersAreNamedByTheBest(t *testing.T) {
	b := newBench()
	b.addGroup("web", "10.0.0.10", "10.0.0.11", "10.0.0.12")
	b.addList("partners", "198.51.100.0/28", "203.0.113.8/32")
	for _, x := range []struct {
		flows []string
		want  string
	}{
		{[]string{"10.0.0.10 443 xx", "10.0.0.12 443 xx"}, "https from group web"},
		{[]string{"198.51.100.3 22 xx", "10.0.0.11 22 xx"}, "ssh from group web, list partners"},
		{[]string{"198.51.100.3 22 xx", "198.51.100.3 80 xx"}, "ssh, http from list partners"},
		{[]string{"198.51.100.3 22 xx", "10.0.0.11 80 xx"}, "ssh from list partners; http from group web"},
		{[]string{"10.0.0.1 22 xx"}, "ssh from self"},
		{[]string{"192.0.2.4 443 xx", "192.0.2.5 443 xx", "192.0.2.6 443 xx", "192.0.2.7 443 xx"}, "https from 192.0.2.4/30"},
		{[]string{"192.0.2.4 443 xx", "192.0.2.200 443 xx"}, "https from 192.0.2.4, 192.0.2.200"},
		{[]string{"192.0.2.4 443 x"}, ""},    // a stranger seen once
		{[]string{"192.0.2.4 443 oooo"}, ""}, // a stranger that never got an answer
		{[]string{"10.0.0.99 443 x"}, "https from 10.0.0.99"},
		{nil, ""},
	} {
		p := b.propose(x.flows...)
		if got := said(p); got != x.want {
			t.Errorf("%v: got %q, want %q", x.flows, got, x.want)
		}
		if !p.After.SubsetOf(p.Before) || !p.Needed().SubsetOf(p.After) {
			t.Errorf("%v: after is not between needed and before", x.flows)
		}
	}
}

func TestNeverBeyondTheSubject(t *testing.T) {
	b := newBench()
	b.addGroup("web", "10.0.0.10", "10.0.1.10")
	b.addList("both", "198.51.100.0/28", "2001:db8:1::/48")
	b.group.Rules[0].Peers = []estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix("10.0.0.0/24")}, {Kind: estate.PeerRange, Range: netip.MustParsePrefix("198.51.100.0/24")}}
	if got := said(b.propose("10.0.0.10 443 xx")); got != "https from 10.0.0.10" {
		t.Errorf("the group has a member outside of the rule: got %q", got)
	}
	if got := said(b.propose("198.51.100.3 443 xx")); got != "https from list both v4" {
		t.Errorf("only one family of the list is allowed: got %q", got)
	}
}

func TestNoiseAndUnseen(t *testing.T) {
	b := newBench()
	p := b.propose("192.0.2.1 22 o", "192.0.2.2 22 x", "192.0.2.3 22 ooo", "10.0.0.50 22 xxx", "10.0.0.51 22 x")
	if p.Noise.Strangers != 3 || p.Noise.Flows != 5 || p.Noise.Unanswered != 4 {
		t.Errorf("noise %+v", p.Noise)
	}
	if p.Flows != 4 || p.Peers != 2 || p.Unseen.Peers != 0.25 {
		t.Errorf("%d flows, %d peers, unseen %v: of four flows one peer was seen once, so a quarter", p.Flows, p.Peers, p.Unseen)
	}
}

// The choice is the cheapest of all: against every combination of candidates
// and every way to part the rest into ranges.
func TestCoverAgreesWithEnumeration(t *testing.T) {
	random := rand.New(rand.NewPCG(2, 4))
	for range 200 {
		b := newBench()
		for i := range random.IntN(4) {
			var members []string
			for range 1 + random.IntN(3) {
				members = append(members, netip.AddrFrom4([4]byte{10, 0, 0, byte(8 + random.IntN(8))}).String())
			}
			slices.Sort(members)
			b.addGroup(string(rune('a'+i)), slices.Compact(members)...)
		}
		for i := range random.IntN(3) {
			b.addList(string(rune('k'+i)), netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 0, 0, byte(8 + random.IntN(8))}), 30+random.IntN(3)).Masked().String())
		}
		var needed []netip.Addr
		for range 1 + random.IntN(5) {
			needed = append(needed, netip.AddrFrom4([4]byte{10, 0, 0, byte(8 + random.IntN(8))}))
		}
		d := decide.New(&b.Estate)
		w := weigher{d: d, strangers: d.Strangers(), allowed: addr.Everyone}
		s, n := Subject{Group: b.group, Direction: estate.In}, Need{Peers: addr.Of(needed...)}
		choices, exact := cover(d, s, n, addr.Everyone)
		if !exact {
			t.Fatal("a small case is not solved exactly")
		}
		named := w.candidates(s, n.Peers)
		best := -1.0
		for set := range 1 << len(named) {
			left, cost := n.Peers, 0.0
			for i, c := range named {
				if set>>i&1 == 1 {
					left, cost = left.Minus(c.Addresses), cost+c.cost
				}
			}
			if cost += cheapestRanges(w, left); best < 0 || cost < best {
				best = cost
			}
		}
		got, held := 0.0, addr.Set{}
		for _, c := range choices {
			held = held.Union(c.Addresses)
			i := slices.IndexFunc(named, func(x candidate) bool { return x.Words == c.Words })
			if i >= 0 {
				got += named[i].cost
			} else {
				got += w.rangeCandidate(c.Addresses.Prefixes()[0], n.Peers).cost
			}
		}
		if !n.Peers.SubsetOf(held) {
			t.Fatalf("%v does not hold %v", choices, n.Peers)
		}
		if got > best+1e-9 {
			t.Fatalf("cost %v of %v for %v, the best is %v", got, choices, n.Peers, best)
		}
	}
}

// cheapestRanges tries every prefix of 10.0.0.8/29 to hold the lowest address that is left.
func cheapestRanges(w weigher, left addr.Set) float64 {
	first, ok := left.First()
	if !ok {
		return 0
	}
	best := -1.0
	for bits := 29; bits <= 32; bits++ {
		p := netip.PrefixFrom(first, bits).Masked()
		cost := w.rangeCandidate(p, left).cost + cheapestRanges(w, left.Minus(addr.OfPrefixes(p)))
		if best < 0 || cost < best {
			best = cost
		}
	}
	return best
}

// With more candidates than all combinations can be weighed of, what is chosen
// still holds every needed peer, nobody beyond the subject, and costs no more
// than ranges alone; and it is said that it need not be the cheapest.
func TestManyCandidates(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 5))
	for range 50 {
		b := newBench()
		for i := range exactCandidates + 4 + random.IntN(6) {
			first := 8 + 2*random.IntN(24)
			b.addGroup(string(rune('a'+i)), netip.AddrFrom4([4]byte{10, 0, 0, byte(first)}).String(), netip.AddrFrom4([4]byte{10, 0, 0, byte(first + 1)}).String())
		}
		var needed []netip.Addr
		for last := range 48 {
			if random.IntN(4) > 0 {
				needed = append(needed, netip.AddrFrom4([4]byte{10, 0, 0, byte(8 + last)}))
			}
		}
		d := decide.New(&b.Estate)
		w := weigher{d: d, strangers: d.Strangers(), allowed: addr.Everyone}
		s, n := Subject{Group: b.group, Direction: estate.In}, Need{Peers: addr.Of(needed...)}
		named := w.candidates(s, n.Peers)
		choices, exact := cover(d, s, n, addr.Everyone)
		if exact != (len(named) <= exactCandidates) {
			t.Fatalf("of %d candidates it says exact %v", len(named), exact)
		}
		cost, held := 0.0, addr.Set{}
		for _, c := range choices {
			held = held.Union(c.Addresses)
			if i := slices.IndexFunc(named, func(x candidate) bool { return x.Words == c.Words }); i >= 0 {
				cost += named[i].cost
			} else {
				cost += w.rangeCandidate(c.Addresses.Prefixes()[0], n.Peers).cost
			}
		}
		if !n.Peers.SubsetOf(held) {
			t.Fatalf("%v does not hold %v", choices, n.Peers)
		}
		if _, ranges := w.ranges(n.Peers); cost > ranges+1e-9 {
			t.Fatalf("%v costs %v, ranges alone %v", choices, cost, ranges)
		}
	}
}

// Whatever the rules and the flows: a replacement opens nothing, cuts off nobody
// who was answered, and closes just what it says; in both directions.
func TestReplacementsOfRandomRules(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 1))
	peers := []estate.Peer{{Kind: estate.PeerEveryone}, {Kind: estate.PeerEveryone, V4Only: true}, {Kind: estate.PeerRange, Range: netip.MustParsePrefix("192.0.2.0/24")},
		{Kind: estate.PeerRange, Range: netip.MustParsePrefix("10.0.0.0/16")}, {Kind: estate.PeerRange, Range: netip.MustParsePrefix("192.0.2.64/26")}, {Kind: estate.PeerSelf}}
	addresses := []string{"192.0.2.1", "192.0.2.65", "192.0.2.66", "192.0.2.67", "198.51.100.3", "203.0.113.9", "10.0.0.10", "10.0.0.11", "10.0.0.99", "10.0.0.1"}
	narrowed := 0
	for range 300 {
		b := newBench()
		b.addGroup("web", "10.0.0.10", "10.0.0.11")
		b.addList("partners", "198.51.100.0/28")
		direction := []estate.Direction{estate.In, estate.Out}[random.IntN(2)]
		b.group.Rules = nil
		for range 1 + random.IntN(4) {
			from := uint16(20 + random.IntN(4))
			b.group.Rules = append(b.group.Rules, estate.Rule{Direction: direction, Action: estate.Admit, Peers: []estate.Peer{peers[random.IntN(len(peers))]}, Services: []service.Spec{service.Ports(service.TCP, from, from+uint16(random.IntN(3)))}})
		}
		var chosen []*estate.Rule
		for i := range b.group.Rules {
			if i == 0 || random.IntN(2) == 0 {
				chosen = append(chosen, &b.group.Rules[i])
			}
		}
		sum := &flow.Summary{}
		var flows []flow.Record
		for range random.IntN(30) {
			port := uint16(20 + random.IntN(6))
			r := flow.Record{Source: netip.MustParseAddr(addresses[random.IntN(len(addresses))]), Destination: netip.MustParseAddr("10.0.0.1"), Protocol: service.TCP, Port: port, ReplyKnown: true, ReplyPackets: 1}
			if direction == estate.Out {
				r.Source, r.Destination = r.Destination, r.Source
			}
			flows = append(flows, r)
			for day := range 2 {
				r.Start = int64(86400 * day)
				r.End = r.Start
				sum.Add(&r)
			}
		}
		d := decide.New(&b.Estate)
		p := Propose(d, Subject{b.group, direction, chosen}, Evidence{Flows: sum})
		var others []traffic.Set
		for i := range b.group.Rules {
			if r := &b.group.Rules[i]; !slices.Contains(chosen, r) {
				others = append(others, d.RuleTraffic(b.group, r))
			}
		}
		before, after := d.GroupTraffic(b.group, direction), traffic.UnionAll(append(others, p.After))
		if !after.SubsetOf(before) {
			t.Fatalf("%v opens something", p.New)
		}
		if !p.Closes.Equal(before.Minus(after)) {
			t.Fatalf("%v says it closes %v", p.New, p.Closes)
		}
		for _, r := range flows {
			peer := r.Source
			if direction == estate.Out {
				peer = r.Destination
			}
			if before.Contains(peer, r.Service()) && !after.Contains(peer, r.Service()) {
				t.Fatalf("%v cuts off %v on %v", p.New, peer, r.Service())
			}
		}
		if !p.Closes.IsEmpty() && len(p.New) > 0 {
			narrowed++
		}
	}
	if narrowed < 100 {
		t.Errorf("only %d of 300 were narrowed to something: the test tells little", narrowed)
	}
}

// What an expectation wants stays, seen or not: of the internet in the subject's
// own words, of a group by its name. Expectations about others change nothing.
func TestDeclaredNeeds(t *testing.T) {
	b := newBench()
	web := b.addGroup("web", "10.0.0.10")
	side := func(p estate.Peer) law.Side { return law.Side{Of: []estate.Peer{p}} }
	subject, internet, from := side(estate.Peer{Kind: estate.PeerGroup, Group: b.group}), side(estate.Peer{Kind: estate.PeerInternet}), side(estate.Peer{Kind: estate.PeerGroup, Group: web})
	https, ssh := service.Of(service.Ports(service.TCP, 443, 443)), service.Of(service.Ports(service.TCP, 22, 22))
	for _, x := range []struct {
		peers   []estate.Peer
		expects []law.Expectation
		want    string
	}{
		{nil, []law.Expectation{{Can: true, From: internet, To: subject, Services: https}}, "https from everyone"},
		{nil, []law.Expectation{{Can: true, From: from, To: subject, Services: ssh}}, "ssh from group web"},
		{nil, []law.Expectation{{Can: true, From: internet, To: subject, Services: https}, {Can: true, From: from, To: subject, Services: ssh}}, "ssh from group web; https from everyone"},
		{nil, []law.Expectation{{Can: false, From: internet, To: subject, Services: https}}, ""},
		{nil, []law.Expectation{{Can: true, From: subject, To: from, Services: https}}, ""},
		{[]estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix("0.0.0.0/0")}}, []law.Expectation{{Can: true, From: internet, To: subject, Services: https}}, "https from everyone v4"},
		{[]estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix("10.0.0.0/24")}}, []law.Expectation{{Can: true, From: from, To: subject, Services: ssh}}, "ssh from group web"},
		{[]estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix("192.0.2.0/24")}}, []law.Expectation{{Can: true, From: from, To: subject, Services: ssh}}, ""}, // never was let in
	} {
		b.group.Rules[0].Peers = x.peers
		if x.peers == nil {
			b.group.Rules[0].Peers = []estate.Peer{{Kind: estate.PeerEveryone}}
		}
		p := Propose(decide.New(&b.Estate), Subject{b.group, estate.In, []*estate.Rule{&b.group.Rules[0]}}, Evidence{Flows: &flow.Summary{}, Expects: x.expects})
		if got := said(p); got != x.want {
			t.Errorf("%v: got %q, want %q", x.expects, got, x.want)
		}
		if !p.After.SubsetOf(p.Before) || !p.Needed().SubsetOf(p.After) {
			t.Errorf("%q: after is not between needed and before", x.want)
		}
	}
}

func BenchmarkPropose(b *testing.B) {
	bench := newBench()
	bench.addGroup("web", "10.0.0.10", "10.0.0.11", "10.0.0.12")
	var flows []string
	for i := range 200 {
		flows = append(flows, netip.AddrFrom4([4]byte{192, 0, 2, byte(i)}).String()+" 443 xx")
	}
	for b.Loop() {
		bench.propose(flows...)
	}
}
