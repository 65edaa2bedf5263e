package demo_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"isonomos/core/addr"
	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/demo"
	"isonomos/internal/reading"
)

// perturbed is a generated estate with more of what makes ways: second addresses and
// interfaces, public addresses of IPv6, balancers, routes that lead elsewhere.
func perturbed(seed uint64) *estate.Estate {
	e, _ := demo.Generate(demo.Size{Accounts: 4, Groups: 40, Instances: 70, Rules: 400, Seed: seed})
	random := rand.New(rand.NewPCG(seed, 3))
	for _, n := range e.Networks {
		for _, s := range n.Subnets {
			for k := range s.Routes {
				if random.IntN(6) == 0 {
					s.Routes[k].Via = []estate.Via{estate.ViaNAT, estate.ViaDrop, estate.ViaPrivateLine,
						estate.ViaInternet}[random.IntN(4)]
				}
			}
			if random.IntN(3) == 0 {
				s.Routes = append(s.Routes, estate.Route{To: netip.MustParsePrefix("::/0"), Via: estate.ViaInternet})
			}
		}
	}
	for k, i := range e.Instances {
		f := i.Interfaces[0]
		switch random.IntN(7) {
		case 0:
			f.Public = append(f.Public, netip.AddrFrom4([4]byte{198, 51, 100, byte(k)}))
		case 1:
			f.Private = append(f.Private, netip.MustParseAddr(fmt.Sprintf("2001:db8:4::%x", k+1)))
		case 2:
			f.Private = append(f.Private, f.Private[0].Next())
		case 3:
			twin := *f
			twin.ID, twin.Private, twin.Public = f.ID+"b", []netip.Addr{f.Private[0].Next().Next()},
				[]netip.Addr{netip.AddrFrom4([4]byte{203, 0, 113, byte(k)})}
			i.Interfaces = append(i.Interfaces, &twin)
		case 4:
			if i.Kind == estate.Machine {
				i.Kind = estate.Balancer
				i.Listeners = []estate.Listener{{Service: service.Ports(service.TCP, 22, 22), Port: 22,
					Targets: []*estate.Instance{e.Instances[random.IntN(len(e.Instances))]}},
					{Service: service.Ports(service.TCP, 443, 443), Port: 8443, Targets: e.Instances[:random.IntN(3)]}}
			}
		}
	}
	return e
}

// What an audit says of where open traffic arrives is so, flow by flow: the example of
// what arrives passes, and of what arrives nowhere does not; and no interface that a
// group is attached to is missing where something of the finding passes.
func TestFindingsArriveAsTraced(t *testing.T) {
	arriving, nowhere, asked := 0, 0, 0
	for seed := range uint64(200) {
		e := perturbed(seed)
		d := decide.New(e)
		for _, f := range audit.Run(d, audit.Options{Now: demo.Taken}).Findings {
			if f.Group == nil || f.Arrival == audit.Unknown || f.Check == "stage-crossing" || len(f.Rules) == 0 {
				continue
			}
			verdict := func(peer netip.Addr, at *estate.Interface, own netip.Addr, p service.Point) string {
				there, here := reading.End{Addr: peer}, reading.End{At: at, Addr: own}
				if f.Direction == estate.Out {
					there, here = here, there
				}
				return reading.Verdict(e, there, here, p)
			}
			says := fmt.Sprintf("seed %d, %v in %s", seed, f.Names(), f.Where())
			switch x := f.Example; {
			case x == nil:
				t.Fatalf("%s has no example", says)
			case f.Arrival == audit.Arrives:
				arriving++
				if v := verdict(x.Peer.Peer, x.At, x.Own, x.Peer.Service); v != "passes" ||
					!slices.Contains(f.Instances, x.At) {
					t.Fatalf("%s arrives, for example %s and %s at %s %s, which is %s", says, x.Peer.Peer, x.Own,
						x.At.Instance.Name, x.Peer.Service, v)
				}
				from, to := x.Peer.Peer.String(), x.Own.String()
				if f.Direction == estate.Out {
					from, to = to, from
				}
				if answer, err := d.Trace(
					decide.Question{Source: from, Destination: to, Service: x.Peer.Service}); err == nil &&
					answer.Verdict != decide.Passes {
					t.Fatalf("%s: the example is traced as %s", says, answer.Verdict)
				}
			default:
				nowhere++
			}
			for _, i := range d.InterfacesOf(f.Group) {
				if slices.Contains(f.Instances, i) {
					continue
				}
				for _, r := range f.Rules {
					set := d.RuleTraffic(f.Group, r).OnServices(f.Services)
					for _, family := range []addr.Family{addr.IPv4, addr.IPv6} {
						for _, b := range set.Bands() {
							peer, ok := d.Stranger(b.Peers.Only(family))
							if !ok {
								continue
							}
							for _, p := range []service.Point{b.From, b.To, service.PointOf(service.TCP, 22),
								service.PointOf(service.TCP, 443)} {
								if p < b.From || p > b.To || !reading.Carries(peer, p) || r.Action != estate.Admit ||
									!d.GroupTraffic(f.Group, f.Direction).Contains(peer, p) {
									continue
								}
								for _, own := range slices.Concat(i.Private, i.Public) {
									if own.Is4() != peer.Is4() {
										continue
									}
									asked++
									if v := verdict(peer, i, own, p); v == "passes" {
										t.Fatalf("%s does not arrive at %s, where %s and %s %s pass", says,
											i.Instance.Name, peer, own, p)
									}
								}
							}
						}
					}
				}
			}
		}
	}
	if arriving < 500 || nowhere < 300 || asked < 2000 {
		t.Errorf("%d arrive, %d nowhere, %d flows asked: the test tells little", arriving, nowhere, asked)
	}
}
