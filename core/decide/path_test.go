package decide_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/internal/reading"
)

// tangled is a random estate in which the ways are tangled too: networks that overlap,
// peerings of one side, private lines, nat with and without an address, public addresses
// on interfaces, several interfaces and addresses, balancers that target each other.
func tangled(random *rand.Rand, name string) *estate.Estate {
	e := randomEstate(random, name)
	one := func(n int) bool { return random.IntN(n) == 0 }
	second := e.Networks[1]
	if one(3) { // the networks overlap
		second.Ranges = append(second.Ranges, netip.MustParsePrefix("10.1.2.0/24"))
	}
	if one(4) {
		second.Ranges = append(second.Ranges, netip.MustParsePrefix("2001:db8:20::/48"))
	}
	if one(5) {
		second.Peered = nil
	}
	if one(3) {
		e.Networks[0].Answers = estate.Ports{From: 32768, To: 60999}
	}
	if one(3) { // the survey does not tell the default groups
		e.Groups = slices.DeleteFunc(e.Groups,
			func(g *estate.Group) bool { return g.Default && g.For == estate.ForInstances })
		for _, g := range e.Groups {
			for k := range g.Rules {
				if p := &g.Rules[k].Peers[0]; p.Kind == estate.PeerGroup && p.Group.Default {
					*p = estate.Peer{Kind: estate.PeerMissing, Missing: "group:" + p.Group.ID}
				}
			}
		}
	}
	nat := []netip.Addr{{}, {}, netip.MustParseAddr("203.0.113.9"), netip.MustParseAddr("2001:db8:99::9"),
		netip.MustParseAddr("198.51.100.200")}
	for k, n := range e.Networks {
		for _, s := range n.Subnets {
			for _, to := range []string{"0.0.0.0/0", "::/0", "198.51.100.0/25", "2001:db8:20::/48", "172.31.0.0/16",
				fmt.Sprintf("10.%d.0.0/16", 2-k)} {
				if one(2) {
					continue
				}
				via := []estate.Via{estate.ViaInternet, estate.ViaInternet, estate.ViaNAT, estate.ViaNAT,
					estate.ViaPrivateLine, estate.ViaDrop, estate.ViaLocal}[random.IntN(7)]
				s.Routes = append(s.Routes,
					estate.Route{To: netip.MustParsePrefix(to), Via: via, Address: nat[random.IntN(len(nat))]})
			}
			random.Shuffle(len(s.Routes), func(i, j int) { s.Routes[i], s.Routes[j] = s.Routes[j], s.Routes[i] })
		}
	}
	var subnets []*estate.Subnet
	for _, n := range e.Networks {
		subnets = append(subnets, n.Subnets...)
	}
	for k, i := range e.Instances {
		f := i.Interfaces[0]
		last := byte(k + 50)
		if one(2) {
			f.Public = append(f.Public, netip.AddrFrom4([4]byte{198, 51, 100, last}))
		}
		if one(3) {
			f.Private = append(f.Private, addrIn(f.Subnet.Ranges[0], last))
		}
		if one(4) {
			f.Private = append(f.Private, addrIn(netip.MustParsePrefix("2001:db8:20::/64"), last))
		}
		if one(6) {
			f.Public = append(f.Public, addrIn(netip.MustParsePrefix("2001:db8:21::/64"), last))
		}
		if one(6) { // the same address again, where the networks overlap
			f.Private = append(f.Private, addrIn(e.Networks[0].Subnets[1].Ranges[0], byte(5+random.IntN(2))))
		}
		if one(4) {
			s := subnets[random.IntN(len(subnets))]
			i.Interfaces = append(i.Interfaces,
				&estate.Interface{Instance: i, Subnet: s, Groups: nil, Unfiltered: one(3),
					Private: []netip.Addr{addrIn(s.Ranges[0], last+100)}})
		}
		if one(3) {
			i.Kind = estate.Balancer
		}
	}
	for _, i := range e.Instances {
		if i.Kind != estate.Balancer {
			continue
		}
		for range 1 + random.IntN(3) {
			spec := randomServices[random.IntN(len(randomServices))]
			l := estate.Listener{Service: spec, Port: []uint16{22, 53, 25, 40000}[random.IntN(4)],
				Probe: service.Ports(service.TCP, 22, 22)}
			for range random.IntN(3) {
				l.Targets = append(l.Targets, e.Instances[random.IntN(len(e.Instances))])
			}
			i.Listeners = append(i.Listeners, l)
		}
	}
	for _, g := range e.Groups { // rules about addresses that only some ways have
		for k := range g.Rules {
			r := &g.Rules[k]
			if one(5) {
				to := []string{"198.51.100.0/24", "203.0.113.0/24", "2001:db8::/32", "10.1.2.5/32", "172.31.0.0/16",
					"198.51.100.52/32", "0.0.0.0/0", "::/0"}[random.IntN(8)]
				r.Peers = []estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix(to)}}
			} else if one(12) && g.For == estate.ForInstances {
				r.Peers = []estate.Peer{{Kind: estate.PeerProbes}}
			}
		}
		if name == "flat" {
			g.Network = nil // its groups belong to no network
			for k := range g.Rules {
				if g.Rules[k].Peers[0].Kind == estate.PeerNetwork {
					g.Rules[k].Peers[0].Network = nil
				}
			}
		}
	}
	return e
}

// Every pair of ends, inside and outside, is decided as by the second reading: one
// flow at a time, and as whole sets.
func TestWholePathAgreesWithASecondReading(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and nothing in it runs side by side")
	}
	outside := []netip.Addr{netip.MustParseAddr("192.0.2.77"), netip.MustParseAddr("203.0.113.9"),
		netip.MustParseAddr("172.31.0.9"), netip.MustParseAddr("2001:db8:77::7"), netip.MustParseAddr("10.9.9.9"),
		netip.MustParseAddr("fd77::7")}
	verdicts := make(map[decide.Verdict]int)
	for _, name := range dialect.Names() {
		for seed := range uint64(40) {
			random := rand.New(rand.NewPCG(seed, 77))
			e := tangled(random, name)
			d := decide.New(e)
			ends := reading.Ends(e)
			for _, a := range outside {
				ends = append(ends, reading.End{Addr: a})
			}
			for _, src := range ends {
				for _, dst := range ends {
					if src.Addr.Is4() != dst.Addr.Is4() || src.At == nil && dst.At == nil {
						continue
					}
					from, to := decide.End{Interface: src.At, Addr: src.Addr},
						decide.End{Interface: dst.At, Addr: dst.Addr}
					o := d.Becomes(from, to)
					var met decide.Met
					if src.At == nil {
						met = d.MeetsOutside(to, estate.In)
					} else if dst.At == nil {
						met = d.MeetsOutside(from, estate.Out)
					}
					for _, text := range probed {
						p := point(t, text)
						if !possible(p, src.Addr) {
							continue
						}
						want := decide.Verdict(reading.Verdict(e, src, dst, p))
						verdicts[want]++
						answer := d.Flow(from, to, p)
						if answer.Verdict != want || o.Of(p) != want {
							t.Fatalf("%s, seed %d: %s → %s %s is %s, in the sets %s, by the second reading %s\n%+v",
								name, seed, from, to, text, answer.Verdict, o.Of(p), want, answer.Steps)
						}
						if why := answer.Why(); why.Text == "" && why.Rule == nil && want != decide.Passes {
							t.Fatalf("%s, seed %d: %s → %s %s is %s for no reason", name, seed, from, to, text, want)
						}
						outsider := from.Addr
						if dst.At == nil {
							outsider = to.Addr
						}
						if src.At == nil || dst.At == nil {
							got := decide.NoRoute
							switch {
							case met.Passes.Contains(outsider, p):
								got = decide.Passes
							case met.OneWay.Contains(outsider, p):
								got = decide.OneWay
							case met.Undecided.Contains(outsider, p):
								got = decide.Undecided
							}
							if got != want && !(got == decide.NoRoute && want == decide.Stopped) {
								t.Fatalf("%s, seed %d: %s → %s %s is %s in the sets about outsiders, by the "+
									"second reading %s", name, seed, from, to, text, got, want)
							}
						}
					}
				}
			}
		}
	}
	for _, v := range []decide.Verdict{decide.Passes, decide.Stopped, decide.NoRoute, decide.OneWay, decide.Undecided} {
		if verdicts[v] < 300 {
			t.Errorf("only %d flows are %s", verdicts[v], v)
		}
	}
	t.Log(verdicts)
}

// circleOf are n balancers that all hand on to each other, and behind them in the list a machine.
func circleOf(n int) *estate.Estate {
	account := &estate.Account{Name: "a", Cloud: &estate.Cloud{Name: "c", Dialect: "union"}}
	network := &estate.Network{Account: account, Name: "n",
		Ranges: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/16")}}
	subnet := &estate.Subnet{Network: network, Name: "s", Ranges: network.Ranges, RoutesKnown: true}
	network.Subnets = []*estate.Subnet{subnet}
	e := &estate.Estate{Accounts: []*estate.Account{account}, Networks: []*estate.Network{network}}
	for k := range n + 1 {
		i := &estate.Instance{Account: account, Name: fmt.Sprintf("b%d", k), Kind: estate.Balancer}
		i.Interfaces = []*estate.Interface{{Instance: i, Subnet: subnet, Unfiltered: true,
			Private: []netip.Addr{addrIn(network.Ranges[0], byte(k+4))}}}
		e.Instances = append(e.Instances, i)
	}
	e.Instances[n].Kind = estate.Machine
	for k, i := range e.Instances[:n] {
		targets := slices.Delete(slices.Clone(e.Instances[:n]), k, k+1)
		i.Listeners = []estate.Listener{{Service: service.Ports(service.TCP, 443, 443), Port: 443, Targets: targets}}
	}
	return e
}

// Balancers that all hand on to each other are followed as far as that ends in
// reasonable time, and undecided beyond.
func TestBalancersInACircle(t *testing.T) {
	for n, want := range map[int]decide.Verdict{2: decide.NoRoute, 8: decide.NoRoute, 40: decide.Undecided} {
		e := circleOf(n)
		answer, err := decide.New(e).Trace(
			decide.Question{Source: fmt.Sprintf("b%d", n), Destination: "b0",
				Service: service.PointOf(service.TCP, 443)})
		if err != nil || answer.Verdict != want {
			t.Errorf("%d balancers: %s, %v", n, answer.Verdict, err)
		}
		if len(answer.HandedOn) == 0 && n <= 8 || answer.Why().Text == "" {
			t.Errorf("%d balancers: %+v", n, answer)
		}
	}
}
