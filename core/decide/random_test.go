package decide_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
)

// randomEstate is a small estate of one dialect: two peered networks of two
// subnets, an instance or two in each, groups with random rules on both layers.
func randomEstate(random *rand.Rand, name string) *estate.Estate {
	dl, _ := dialect.Lookup(name)
	cloud := &estate.Cloud{Name: "c", Dialect: name}
	account := &estate.Account{Name: "a", Cloud: cloud}
	e := &estate.Estate{Clouds: []*estate.Cloud{cloud}, Accounts: []*estate.Account{account}}
	for n := range 2 {
		network := &estate.Network{Account: account, ID: fmt.Sprintf("n%d", n), Name: fmt.Sprintf("n%d", n),
			Ranges: []netip.Prefix{netip.MustParsePrefix(fmt.Sprintf("10.%d.0.0/16", n+1)),
				netip.MustParsePrefix(fmt.Sprintf("fd00:%d::/32", n+1))}}
		if random.IntN(3) == 0 {
			network.Answers = estate.Ports{From: 40000, To: 40003}
		}
		e.Networks = append(e.Networks, network)
		for s := range 2 {
			network.Subnets = append(network.Subnets,
				&estate.Subnet{Network: network, ID: fmt.Sprintf("s%d%d", n, s), Name: fmt.Sprintf("s%d", s),
					RoutesKnown: true,
					Ranges: []netip.Prefix{netip.MustParsePrefix(fmt.Sprintf("10.%d.%d.0/24", n+1, s+1)),
						netip.MustParsePrefix(fmt.Sprintf("fd00:%d:%d::/48", n+1, s+1))}})
		}
	}
	e.Networks[0].Peered, e.Networks[1].Peered = []*estate.Network{e.Networks[1]}, []*estate.Network{e.Networks[0]}
	for n, network := range e.Networks {
		other := e.Networks[1-n]
		for _, s := range network.Subnets {
			for _, r := range other.Ranges {
				s.Routes = append(s.Routes, estate.Route{To: r, Via: estate.ViaPeer, Network: other})
			}
		}
		for range 2 + random.IntN(2) {
			e.Groups = append(e.Groups,
				&estate.Group{Account: account, Network: network, ID: fmt.Sprintf("g%d", len(e.Groups)),
					Name: fmt.Sprintf("g%d", len(e.Groups)), For: estate.ForInstances, Stateless: name == "flat" &&
						random.IntN(2) == 0})
		}
		if dl.SubnetGroups {
			e.Groups = append(e.Groups,
				&estate.Group{Account: account, Network: network, ID: fmt.Sprintf("g%d", len(e.Groups)),
					Name: fmt.Sprintf("g%d", len(e.Groups)), For: estate.ForSubnets})
		}
		if dl.Nothing == dialect.DefaultAttached {
			e.Groups = append(e.Groups,
				&estate.Group{Account: account, Network: network, ID: fmt.Sprintf("d%d", n), Name: "default",
					For: estate.ForInstances, Default: true})
		}
	}
	for _, g := range e.Groups {
		randomRules(random, e, g, dl)
	}
	for _, network := range e.Networks {
		for k, s := range network.Subnets {
			for _, g := range e.Groups {
				if g.Network == network && g.For == estate.ForSubnets && random.IntN(4) > 0 {
					s.Groups = append(s.Groups, g)
				}
			}
			for h := range 1 + random.IntN(2) {
				i := &estate.Instance{Account: account, Name: fmt.Sprintf("%s-%d-%d", network.Name, k, h),
					Kind: estate.Machine}
				f := &estate.Interface{Instance: i, Subnet: s, Unfiltered: random.IntN(10) == 0, Private: []netip.Addr{
					addrIn(s.Ranges[0], byte(h+5)), addrIn(s.Ranges[1], byte(h+5))}}
				for _, g := range e.Groups {
					if g.Network == network && g.For == estate.ForInstances && !g.Default &&
						(dl.GroupsPerInterface == 0 || len(f.Groups) < dl.GroupsPerInterface) && random.IntN(5) < 2 {
						f.Groups = append(f.Groups, g)
					}
				}
				i.Interfaces = []*estate.Interface{f}
				e.Instances = append(e.Instances, i)
			}
		}
	}
	return e
}

func addrIn(p netip.Prefix, last byte) netip.Addr {
	b := p.Addr().AsSlice()
	b[len(b)-1] = last
	a, _ := netip.AddrFromSlice(b)
	return a
}

var randomServices = []service.Spec{
	service.Ports(service.TCP, 22, 22), service.Ports(service.TCP, 20, 30), service.Ports(service.TCP, 1024,
		65535), service.Whole(service.TCP),
	service.Ports(service.UDP, 53, 53), service.Ports(service.UDP, 40000, 40003), service.Whole(service.UDP),
	service.Anything,
	service.ICMPType(service.ICMP, 8), service.ICMPType(service.ICMP, 0), service.ICMPType(service.ICMPv6, 128),
	service.ICMPType(service.ICMPv6, 129), service.Whole(service.ICMP),
}

func randomRules(random *rand.Rand, e *estate.Estate, g *estate.Group, dl dialect.Dialect) {
	f := dl.Instances
	if g.For == estate.ForSubnets {
		f = dl.Subnets
	}
	for k := range 2 + random.IntN(5) {
		r := estate.Rule{ID: fmt.Sprintf("%s-r%d", g.ID, k),
			Direction: []estate.Direction{estate.In, estate.Out}[random.IntN(2)], Action: estate.Admit,
			Services: []service.Spec{randomServices[random.IntN(len(randomServices))]}}
		if f.Refuses && random.IntN(3) == 0 {
			r.Action = estate.Refuse
		}
		if f.FirstMatch {
			r.Rank = 100 * (1 + random.IntN(6))
		}
		r.Stateless = dl.StateByRule && random.IntN(2) == 0
		switch kind := random.IntN(6); {
		case kind == 0:
			r.Peers = []estate.Peer{{Kind: estate.PeerEveryone}}
		case kind == 1:
			r.Peers = []estate.Peer{{Kind: estate.PeerNetwork, Network: g.Network}}
		case kind == 2 && g.For == estate.ForInstances:
			r.Peers = []estate.Peer{{Kind: estate.PeerSelf}}
		case kind == 3 && g.For == estate.ForInstances:
			other := e.Groups[random.IntN(len(e.Groups))]
			if other != g && other.For == estate.ForInstances {
				r.Peers = []estate.Peer{{Kind: estate.PeerGroup, Group: other}}
				break
			}
			fallthrough
		default:
			s := e.Networks[random.IntN(2)].Subnets[random.IntN(2)]
			r.Peers = []estate.Peer{{Kind: estate.PeerRange, Range: s.Ranges[random.IntN(2)]}}
		}
		g.Rules = append(g.Rules, r)
	}
}

// probed are the single services that random estates are asked about: both sides of every border.
var probed = []string{"tcp 19", "tcp 20", "tcp 22", "tcp 1023", "tcp 1024", "tcp 65535", "udp 53", "udp 40000",
	"protocol 47", "icmp 8/0", "icmp 0/0", "icmp 13/0", "icmpv6 128/0"}

// Sets and single flows of every dialect agree on every pair and service.
func TestDialectsSetsAgreeWithFlows(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and nothing in it runs side by side")
	}
	asked, verdicts := 0, make(map[decide.Verdict]int)
	for _, name := range dialect.Names() {
		for seed := range uint64(60) {
			e := randomEstate(rand.New(rand.NewPCG(seed, 9)), name)
			d := decide.New(e)
			for _, a := range e.Instances {
				for _, b := range e.Instances {
					for family := range 2 {
						src, dst := decide.End{Interface: a.Interfaces[0], Addr: a.Interfaces[0].Private[family]},
							decide.End{Interface: b.Interfaces[0], Addr: b.Interfaces[0].Private[family]}
						set := d.Between(src, dst)
						for _, text := range probed {
							p := point(t, text)
							if !possible(p, src.Addr) {
								continue
							}
							flow := d.Flow(src, dst, p)
							verdicts[flow.Verdict]++
							asked++
							if got := flow.Verdict == decide.Passes; got != set.Contains(p) {
								t.Fatalf("%s, seed %d: %s → %s %s is %s, and in the set: %v\n%+v", name, seed, src,
									dst, text, flow.Verdict, set.Contains(p), flow.Steps)
							}
							if want := byThePage(d, src, dst, p); want != flow.Verdict {
								t.Fatalf("%s, seed %d: %s → %s %s is %s, by the page it is %s\n%+v", name, seed, src,
									dst, text, flow.Verdict, want, flow.Steps)
							}
						}
					}
				}
			}
		}
	}
	t.Logf("%d flows: %v", asked, verdicts)
	for _, v := range []decide.Verdict{decide.Passes, decide.Stopped, decide.OneWay} {
		if verdicts[v] < 500 {
			t.Errorf("only %d flows are %s", verdicts[v], v)
		}
	}
}

func possible(p service.Point, a netip.Addr) bool {
	protocol, _ := p.Split()
	return !(protocol == service.ICMP && a.Is6()) && !(protocol == service.ICMPv6 && a.Is4())
}

// byThePage decides a flow within an estate as the dialect's table says, rule by
// rule, without sets: a second opinion that shares the model and nothing else.
func byThePage(d *decide.Decider, src, dst decide.End, p service.Point) decide.Verdict {
	if src.Interface.Instance == dst.Interface.Instance {
		return decide.Passes
	}
	inside := src.Interface.Subnet == dst.Interface.Subnet
	out, outState := atInterface(d, src.Interface, estate.Out, dst.Addr, p, inside)
	in, inState := atInterface(d, dst.Interface, estate.In, src.Addr, p, inside)
	if !out || !in {
		return decide.Stopped
	}
	answers := replyPoints(src.Interface.Subnet.Network, p)
	for _, answer := range answers {
		for k, stateless := range inState {
			if stateless && !oneLayer(d, dst.Interface, estate.Out, src.Addr, answer, k) {
				return decide.OneWay
			}
		}
		for k, stateless := range outState {
			if stateless && !oneLayer(d, src.Interface, estate.In, dst.Addr, answer, k) {
				return decide.OneWay
			}
		}
	}
	return decide.Passes
}

// replyPoints are what answers look like: to both ends of the client ports and between, the reply type, the protocol.
func replyPoints(client *estate.Network, p service.Point) []service.Point {
	protocol, detail := p.Split()
	switch protocol {
	case service.TCP, service.UDP:
		ports := client.Answers
		if ports.To == 0 {
			ports = estate.Ports{From: 1024, To: 65535}
		}
		var all []service.Point
		for _, x := range []uint16{ports.From, ports.From + 1, ports.To - 1, ports.To, 39999, 40000, 40003, 40004} {
			if x >= ports.From && x <= ports.To {
				all = append(all, service.PointOf(protocol, x))
			}
		}
		return all
	case service.ICMP, service.ICMPv6:
		reply := map[uint16]uint16{8: 0, 13: 14, 17: 18}
		if protocol == service.ICMPv6 {
			reply = map[uint16]uint16{128: 129}
		}
		if r, ok := reply[detail>>8]; ok {
			return []service.Point{service.PointOf(protocol, r<<8)}
		}
		return nil
	}
	return []service.Point{p}
}

// atInterface asks the layers at one interface. The second result says of each layer
// whether it keeps no state for this flow.
func atInterface(d *decide.Decider, i *estate.Interface, direction estate.Direction, peer netip.Addr, p service.Point,
	inside bool) (bool, map[int]bool) {
	stateless := make(map[int]bool)
	name := i.Instance.Account.Cloud.Dialect
	if (name == "layered" || name == "flat") && i.Unfiltered {
		return true, stateless
	}
	count := 1
	if (name == "union" || name == "ranked") && !inside {
		count = 2
	}
	for k := range count {
		ok, state := oneLayerState(d, i, direction, peer, p, k)
		if !ok {
			return false, nil
		}
		stateless[k] = !state
	}
	return true, stateless
}

func oneLayer(d *decide.Decider, i *estate.Interface, direction estate.Direction, peer netip.Addr, p service.Point,
	k int) bool {
	ok, _ := oneLayerState(d, i, direction, peer, p, k)
	return ok
}

// oneLayerState decides layer 0, the interface's (in layered all together), or 1, the subnet's.
func oneLayerState(d *decide.Decider, i *estate.Interface, direction estate.Direction, peer netip.Addr,
	p service.Point, k int) (ok, state bool) {
	name := i.Instance.Account.Cloud.Dialect
	var groups []*estate.Group
	switch {
	case k == 1:
		groups = i.Subnet.Groups
		if len(groups) == 0 {
			return true, true // no default subnet group is surveyed
		}
	case i.Unfiltered:
		return true, true
	case name == "union" && len(i.Groups) == 0:
		for _, g := range d.Estate().Groups {
			if g.Default && g.Network == i.Subnet.Network {
				groups = append(groups, g)
			}
		}
	case name == "ranked" && len(i.Groups) == 0:
		return true, true
	case name == "layered":
		groups = slices.Concat(i.Groups, i.Subnet.Groups)
		if len(i.Subnet.Groups) == 0 { // the built-in list
			protocol, port := p.Split()
			if direction == estate.Out || protocol == service.TCP && port == 22 {
				return true, true
			}
		}
	default:
		groups = i.Groups
	}
	for _, g := range groups {
		rules := make([]estate.Rule, 0, len(g.Rules))
		for _, r := range g.Rules {
			if r.Direction == direction &&
				slices.ContainsFunc(r.Services, func(s service.Spec) bool { return service.Of(s).Contains(p) }) &&
				peerByThePage(d, g, r.Peers[0], peer) {
				rules = append(rules, r)
			}
		}
		ranked := name == "ranked" || name == "union" && g.For == estate.ForSubnets
		if !ranked {
			for _, r := range rules {
				ok = true
				state = state || !r.Stateless && !(name == "flat" && g.Stateless)
			}
			continue
		}
		slices.SortStableFunc(rules, func(a, b estate.Rule) int {
			if a.Rank != b.Rank {
				return a.Rank - b.Rank
			}
			if a.Action == b.Action {
				return 0
			}
			if a.Action == estate.Refuse {
				return -1
			}
			return 1
		})
		switch {
		case len(rules) > 0:
			ok = rules[0].Action == estate.Admit
		case name == "ranked": // the fixed rules: within the network, and out to public addresses
			ok = addr.OfPrefixes(g.Network.Ranges...).Contains(peer) ||
				direction == estate.Out && addr.Public.Contains(peer)
		}
		state = ok && name == "ranked"
	}
	return ok, state
}

// peerByThePage reports whether a rule's peer is an address.
func peerByThePage(d *decide.Decider, g *estate.Group, p estate.Peer, a netip.Addr) bool {
	has := func(x *estate.Group) bool {
		for _, i := range d.Estate().Instances {
			f := i.Interfaces[0]
			if !slices.Contains(f.Private, a) {
				continue
			}
			if slices.Contains(f.Groups, x) || len(f.Groups) == 0 && x.Default && x.Network == f.Subnet.Network {
				return true
			}
		}
		return false
	}
	switch p.Kind {
	case estate.PeerEveryone:
		return true
	case estate.PeerNetwork:
		return addr.OfPrefixes(p.Network.Ranges...).Contains(a)
	case estate.PeerRange:
		return p.Range.Contains(a)
	case estate.PeerSelf:
		return has(g)
	case estate.PeerGroup:
		across := g.Account.Cloud.Dialect == "union" || g.Account.Cloud.Dialect == "flat" // the two networks are peered
		return (g.Network == p.Group.Network || across) && has(p.Group)
	}
	return false
}

// What an exposure says of whole sets, by classes of interfaces, is what single
// flows say, in both directions, from inside and outside.
func TestExposureAgreesWithFlows(t *testing.T) {
	stranger := netip.MustParseAddr("192.0.2.77")
	exposed := 0
	for _, name := range dialect.Names() {
		for seed := range uint64(25) {
			random := rand.New(rand.NewPCG(seed, 31))
			e := randomEstate(random, name)
			openToInternet(random, e)
			d := decide.New(e)
			from := e.Instances[0].Interfaces[0]
			for _, direction := range []estate.Direction{estate.In, estate.Out} {
				byInterface := make(map[*estate.Interface]decide.Exposed)
				for _, x := range d.Exposure(
					decide.Peers{Outside: addr.Of(stranger),
						Ends: []decide.End{{Interface: from, Addr: from.Private[0]}}}, direction) {
					byInterface[x.Interface] = x
					exposed++
					if len(x.Rules) == 0 && !x.Interface.Unfiltered && len(d.GroupsAt(x.Interface)) > 0 {
						t.Errorf("%s, seed %d: %s is exposed by no rule", name, seed, x.Interface.Instance.Name)
					}
				}
				for _, i := range e.Instances {
					f := i.Interfaces[0]
					for _, peer := range []decide.End{{Addr: stranger}, {Interface: from, Addr: from.Private[0]}} {
						if peer.Interface == f {
							continue
						}
						for _, text := range probed[:10] {
							p := point(t, text)
							passes, oneWay := false, false
							for _, own := range decide.EndsOf(f) {
								src, dst := peer, own
								if direction == estate.Out {
									src, dst = dst, src
								}
								if own.Addr.Is4() == peer.Addr.Is4() && possible(p, peer.Addr) {
									verdict := d.Flow(src, dst, p).Verdict
									passes, oneWay = passes || verdict == decide.Passes, oneWay ||
										verdict == decide.OneWay
								}
							}
							x := byInterface[f]
							if x.Traffic.Contains(peer.Addr, p) != passes ||
								x.OneWay.Contains(peer.Addr, p) != (oneWay && !passes) {
								t.Fatalf("%s, seed %d, %s: %s and %s, %s: passes %v, one way %v; exposed otherwise",
									name, seed, direction, peer, i.Name, text, passes, oneWay)
							}
						}
					}
				}
			}
		}
	}
	if exposed < 300 {
		t.Errorf("only %d exposures", exposed)
	}
}

// openToInternet gives subnets ways out, and some instances public addresses.
func openToInternet(random *rand.Rand, e *estate.Estate) {
	for _, n := range e.Networks {
		for _, s := range n.Subnets {
			via := []estate.Via{estate.ViaInternet, estate.ViaNAT, estate.ViaDrop}[random.IntN(3)]
			s.Routes = append(s.Routes, estate.Route{To: netip.MustParsePrefix("0.0.0.0/0"), Via: via})
		}
	}
	for k, i := range e.Instances {
		if random.IntN(3) > 0 {
			i.Interfaces[0].Public = []netip.Addr{netip.AddrFrom4([4]byte{198, 51, 100, byte(k + 1)})}
		}
	}
}

// The quick ways of asking say what the sets say: Lets and Reaches for one flow,
// LetIn for strangers, TrafficOn for some services, forks for the same estate.
func TestQuickWaysAgreeWithSets(t *testing.T) {
	random := rand.New(rand.NewPCG(31, 7))
	points := []service.Point{service.PointOf(service.TCP, 22), service.PointOf(service.TCP, 443),
		service.PointOf(service.TCP, 40001), service.PointOf(service.UDP, 53), service.PointOf(service.ICMP, 8<<8),
		service.PointOf(service.ICMPv6, 128<<8), service.PointOf(47, 0)}
	asked := 0
	for round := range 120 {
		e := randomEstate(random, dialect.Names()[round%4])
		openToInternet(random, e)
		d := decide.New(e)
		fork := d.Fork()
		strangers := d.Strangers()
		for _, instance := range e.Instances {
			for _, i := range instance.Interfaces {
				for _, direction := range []estate.Direction{estate.In, estate.Out} {
					set := d.FilterTraffic(i, direction)
					for _, a := range []string{"192.0.2.77", "2001:db8::77", "10.1.1.5", "10.2.2.6", "fd00:2:1::5",
						"172.16.0.9"} {
						peer := netip.MustParseAddr(a)
						for _, p := range points {
							if !possible(p, peer) || len(d.At(peer)) > 0 && d.At(peer)[0].Subnet == i.Subnet {
								continue // within a subnet layers are skipped
							}
							asked++
							if fork.Lets(i, direction, peer, p) != set.Contains(peer, p) {
								t.Fatalf("%s %s %s %s: %v by Lets, %v by the set", instance.Name, direction, peer, p,
									!set.Contains(peer, p), set.Contains(peer, p))
							}
						}
					}
				}
				if got, want := d.LetIn(i).WithPeers(strangers), d.Arriving(i).WithPeers(strangers); !got.Equal(want) {
					t.Fatalf("%s: strangers are let in on %v, and arrive on %v", instance.Name, got.Services(),
						want.Services())
				}
				for _, own := range slices.Concat(i.Private, i.Public) {
					for _, a := range []string{"192.0.2.77", "2001:db8::77"} {
						peer := netip.MustParseAddr(a)
						for _, p := range points {
							if peer.Is4() == own.Is4() && possible(p, peer) && slices.Contains(i.Private, own) &&
								d.Reaches(peer, i, own, p) != d.Arriving(i).Contains(peer, p) {
								t.Fatalf("%s from %s on %s: %v by Reaches, not by the set", instance.Name, peer, p,
									d.Reaches(peer, i, own, p))
							}
						}
					}
				}
			}
		}
		for _, g := range e.Groups {
			for _, direction := range []estate.Direction{estate.In, estate.Out} {
				some := service.Of(service.Ports(service.TCP, 20, 500), service.Whole(service.ICMP))
				if whole := d.GroupTraffic(g, direction); !d.TrafficOn(g, direction,
					some).Equal(whole.OnServices(some)) {
					t.Fatalf("%s %s: on some services another traffic", g.Path(), direction)
				}
			}
			for i := range g.Rules {
				peers := d.Peers(g, &g.Rules[i], nil)
				four, six := d.StrangersAmong(peers)
				want := decide.BreadthOf(peers, strangers)
				if got := d.Breadth(peers); got != want &&
					(got.IPv4-want.IPv4 > 1e-9 || want.IPv4-got.IPv4 > 1e-9 || got.IPv6-want.IPv6 > 1e-9 ||
						want.IPv6-got.IPv6 > 1e-9) {
					t.Fatalf("%v: breadth %v, counted %v", peers, want, got)
				}
				a, ok := d.Stranger(peers)
				if ok != (four+six > 0) || ok && (!peers.Contains(a) || !strangers.Contains(a)) {
					t.Fatalf("%v holds %v strangers, for example %v", peers, four+six, a)
				}
			}
		}
	}
	if asked < 10000 {
		t.Errorf("only %d flows were asked for", asked)
	}
}

// What is said to go unanswered does: single flows of it are one-way, and flows
// that its group lets through beside it are not stopped on the way back there.
func TestUnansweredAgreesWithFlows(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 17))
	lost, kept := 0, 0
	for round := range 200 {
		e := randomEstate(random, []string{"union", "layered", "flat"}[round%3])
		d := decide.New(e)
		for _, g := range e.Groups {
			for _, i := range d.InterfacesOf(g) {
				set := d.Unanswered(i, g, estate.In)
				filters := d.FilterTraffic(i, estate.In)
				for _, b := range set.Bands() {
					for _, peer := range []netip.Addr{netip.MustParseAddr("192.0.2.77"),
						netip.MustParseAddr("2001:db8::77"), netip.MustParseAddr("172.16.0.9")} {
						if !b.Peers.Contains(peer) {
							continue
						}
						lost++
						if filters.Contains(peer, b.From) {
							t.Fatalf("%s at %s: %s from %s is said to go unanswered, and passes answers and all",
								g.Path(), i.Instance.Name, b.From, peer)
						}
					}
				}
				for _, b := range filters.Bands() {
					if peer := netip.MustParseAddr("192.0.2.77"); b.Peers.Contains(peer) {
						kept++
						if set.Contains(peer, b.From) {
							t.Fatalf("%s: %s passes, and is said to go unanswered", g.Path(), b.From)
						}
					}
				}
			}
		}
	}
	if lost < 50 || kept < 500 {
		t.Errorf("only %d unanswered and %d answered flows", lost, kept)
	}
}
