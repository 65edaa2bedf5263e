package compile

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// A bench is one network of one dialect with three groups and their members.
func newBench(name string) (*estate.Estate, []*estate.Group) {
	account := &estate.Account{Name: "a", Cloud: &estate.Cloud{Name: "c", Dialect: name}}
	n := &estate.Network{Account: account, Name: "n", Ranges: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/24")},
		Answers: estate.Ports{From: 40, To: 43}}
	s := &estate.Subnet{Network: n, Name: "s", Ranges: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/28")},
		RoutesKnown: true}
	n.Subnets = []*estate.Subnet{s}
	e := &estate.Estate{Taken: time.Unix(1, 0), Accounts: []*estate.Account{account}, Networks: []*estate.Network{n}}
	var groups []*estate.Group
	for i := range 3 {
		g := &estate.Group{Account: account, Network: n, Name: fmt.Sprintf("g%d", i), For: estate.ForInstances,
			Defined: true}
		groups = append(groups, g)
		e.Groups = append(e.Groups, g)
		x := &estate.Instance{Account: account, Name: g.Name}
		x.Interfaces = []*estate.Interface{{Instance: x, Subnet: s,
			Private: []netip.Addr{netip.AddrFrom4([4]byte{10, 0, 0, byte(i + 1)})}, Groups: []*estate.Group{g}}}
		e.Instances = append(e.Instances, x)
	}
	return e, groups
}

// peer kinds of random rules; addresses of the small universe are 10.0.0.0 to 10.0.0.7.
func randomPeer(random *rand.Rand, e *estate.Estate, groups []*estate.Group, l *estate.List) estate.Peer {
	switch random.IntN(7) {
	case 0:
		return estate.Peer{Kind: estate.PeerEveryone}
	case 1:
		return estate.Peer{Kind: estate.PeerGroup, Group: groups[1+random.IntN(2)]}
	case 2:
		return estate.Peer{Kind: estate.PeerSelf}
	case 3:
		return estate.Peer{Kind: estate.PeerList, List: l}
	case 4:
		return estate.Peer{Kind: estate.PeerSubnet, Subnet: e.Networks[0].Subnets[0]}
	}
	return estate.Peer{Kind: estate.PeerRange,
		Range: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 0, 0, byte(random.IntN(8))}), 29+random.IntN(4)).Masked()}
}

// members says who a peer is in the small universe, by counting up.
func members(p estate.Peer, g *estate.Group, a netip.Addr) bool {
	last := a.As4()[3]
	switch p.Kind {
	case estate.PeerEveryone:
		return true
	case estate.PeerGroup:
		return last == p.Group.Name[1]-'0'+1
	case estate.PeerSelf:
		return last == g.Name[1]-'0'+1
	case estate.PeerList:
		return slices.ContainsFunc(p.List.Entries, func(x estate.Entry) bool { return x.Range.Contains(a) })
	case estate.PeerSubnet:
		return true
	}
	return p.Range.Contains(a)
}

func fits(r estate.Rule, g *estate.Group, direction estate.Direction, a netip.Addr, port uint16) bool {
	some := func(peers []estate.Peer) bool {
		return slices.ContainsFunc(peers, func(p estate.Peer) bool { return members(p, g, a) })
	}
	return r.Direction == direction && some(r.Peers) && !some(r.Except) &&
		slices.ContainsFunc(r.Services,
			func(s service.Spec) bool { return s.Any || s.Protocol == service.TCP && s.From <= port && port <= s.To })
}

// Random definitions for every kind of cloud and group: what is compiled lets
// through the same, rule by rule on every address and port of a small universe,
// but for answer room; or it is refused with a reason.
func TestCompiledMeansTheSame(t *testing.T) {
	compiled, failed := 0, make(map[string]int)
	for _, name := range dialect.Names() {
		dl, _ := dialect.Lookup(name)
		for _, kind := range []estate.GroupKind{estate.ForInstances, estate.ForSubnets} {
			if kind == estate.ForSubnets && !dl.SubnetGroups {
				continue
			}
			random := rand.New(rand.NewPCG(uint64(len(name)), uint64(len(kind))))
			for range 400 {
				e, groups := newBench(name)
				l := &estate.List{Name: "l", Owner: "own", Defined: true,
					Entries: []estate.Entry{{Range: netip.MustParsePrefix("10.0.0.4/31")}}}
				e.Lists = []*estate.List{l}
				g := groups[0]
				if kind == estate.ForSubnets {
					g = &estate.Group{Account: g.Account, Network: g.Network, Name: "g9", For: kind, Defined: true}
					e.Groups = append(e.Groups, g)
					e.Networks[0].Subnets[0].Groups = []*estate.Group{g}
				}
				for range 1 + random.IntN(5) {
					from := uint16(random.IntN(8))
					r := estate.Rule{Direction: []estate.Direction{estate.In, estate.Out}[random.IntN(2)],
						Action: estate.Admit, Services: []service.Spec{service.Ports(service.TCP, from,
							from+uint16(random.IntN(4)))}}
					if random.IntN(4) == 0 {
						r.Action = estate.Refuse
					}
					if random.IntN(6) == 0 {
						r.Services = append(r.Services, service.Ports(service.TCP, 20, 21))
					}
					for range 1 + random.IntN(2) {
						if p := randomPeer(random, e, groups, l); kind == estate.ForInstances ||
							p.Kind != estate.PeerSelf {
							r.Peers = append(r.Peers, p)
						}
					}
					if random.IntN(4) == 0 {
						r.Except = []estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix("10.0.0.6/31")}}
					}
					if len(r.Peers) > 0 {
						g.Rules = append(g.Rules, r)
					}
				}
				d := decide.New(e)
				made, err := Group(d, g)
				var failure *Failure
				if errors.As(err, &failure) {
					failed[name+" "+strings.Join(strings.Fields(failure.Reason)[:9], " ")]++
					continue
				} else if err != nil {
					t.Fatal(err)
				}
				compiled++
				checkSame(t, d, g, made)
			}
		}
	}
	t.Logf("%d compiled; not to be expressed: %v", compiled, failed)
	if compiled < 1500 {
		t.Errorf("only %d of 2800 were compiled", compiled)
	}
	for reason := range failed {
		if !strings.Contains(reason, "can't take") && !strings.Contains(reason, "has no refusals") {
			t.Errorf("refused because %s", reason)
		}
	}
}

func checkSame(t *testing.T, d *decide.Decider, g *estate.Group, made Compiled) {
	t.Helper()
	ranked := decide.Filter(g).FirstMatch
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		for last := range 8 {
			for _, port := range []uint16{0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 20, 21, 22, 39, 40, 43, 44} {
				a := netip.AddrFrom4([4]byte{10, 0, 0, byte(last)})
				want := false
				for _, r := range g.Rules {
					if fits(r, g, direction, a, port) {
						want = r.Action == estate.Admit
						break
					}
				}
				got := false
				rules := slices.Clone(made.Group.Rules)
				if ranked {
					slices.SortStableFunc(rules, func(a, b estate.Rule) int { return a.Rank - b.Rank })
				}
				for _, r := range rules {
					if fits(r, g, direction, a, port) {
						if got = r.Action == estate.Admit; got || ranked {
							break
						}
					}
				}
				if got != want && !(got &&
					map[estate.Direction]traffic.Set{estate.In: made.RoomIn,
						estate.Out: made.RoomOut}[direction].Contains(a, service.PointOf(service.TCP, port))) {
					t.Fatalf("%s %s: %s %s tcp %d is let through: %v, by the definition %v\n%s\n%s",
						g.Account.Cloud.Dialect, g.For, direction, a, port, got, want, sentences(g),
						sentences(made.Group))
				}
			}
		}
	}
	for i, r := range made.Group.Rules {
		if ranked && r.Rank <= 0 || !decide.Filter(g).Refuses && r.Action == estate.Refuse {
			t.Fatalf("rule %d is not one of its cloud: %+v", i, r)
		}
	}
}

func sentences(g *estate.Group) string {
	var list []string
	for i := range g.Rules {
		list = append(list, fmt.Sprint(g.Rules[i].Rank, " ", g.Rules[i].Sentence(service.Names{})))
	}
	return strings.Join(list, "; ")
}

func TestRanksFit(t *testing.T) {
	e, groups := newBench("ranked")
	for i := range 900 {
		groups[0].Rules = append(groups[0].Rules,
			estate.Rule{Direction: estate.In, Action: []estate.Action{estate.Admit, estate.Refuse}[i%2],
				Peers:    []estate.Peer{{Kind: estate.PeerEveryone}},
				Services: []service.Spec{service.Ports(service.TCP, uint16(i), uint16(i))}})
	}
	made, err := Group(decide.New(e), groups[0])
	if err != nil {
		t.Fatal(err)
	}
	last := 0
	for _, r := range made.Group.Rules[:900] {
		if r.Rank <= last || r.Rank >= 8999 {
			t.Fatalf("rank %d after %d", r.Rank, last)
		}
		last = r.Rank
	}
}

// Where no state is kept, the answers are let back and nothing else is.
func TestAnswerRoom(t *testing.T) {
	e, groups := newBench("union")
	g := &estate.Group{Account: groups[0].Account, Network: groups[0].Network, Name: "wall", For: estate.ForSubnets,
		Defined: true}
	e.Groups = append(e.Groups, g)
	g.Rules = []estate.Rule{{Direction: estate.In, Action: estate.Admit,
		Peers:    []estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix("192.0.2.0/24")}},
		Services: []service.Spec{service.Ports(service.TCP, 443, 443), service.ICMPType(service.ICMP, 8)}}}
	made, err := Group(decide.New(e), g)
	if err != nil {
		t.Fatal(err)
	}
	peers := decide.New(e).Peers(g, &g.Rules[0], nil)
	want := traffic.Of(peers, service.Of(service.Ports(service.TCP, 40, 43), service.ICMPCode(service.ICMP, 0, 0)))
	if !made.RoomOut.Equal(want) || !made.RoomIn.IsEmpty() {
		t.Errorf("the room is %v: %s", made.RoomOut, sentences(made.Group))
	}
}
