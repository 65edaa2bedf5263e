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
	"isonomos/internal/reading"
)

// An exposure says of everybody outside and of a few ends what the second reading says, one
// flow at a time: at each interface, and at each target behind each balancer.
func TestExposureAgreesWithASecondReading(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and nothing in it runs side by side")
	}
	var strangers []netip.Addr
	for _, text := range []string{"192.0.2.77", "203.0.113.9", "172.31.0.9", "2001:db8:77::7"} {
		strangers = append(strangers, netip.MustParseAddr(text))
	}
	told := make(map[string]int)
	for _, name := range dialect.Names() {
		for seed := range uint64(25) {
			random := rand.New(rand.NewPCG(seed, 78))
			e := tangled(random, name)
			splitRoutes(random, e)
			d := decide.New(e)
			shared := make(map[netip.Addr]int) // where networks overlap: an address alone does not say who it is
			for _, x := range reading.Ends(e) {
				shared[x.Addr]++
			}
			var ends []decide.End
			for _, i := range slices.Concat(e.Instances[:2], e.Instances[len(e.Instances)-2:]) {
				ends = append(ends, decide.EndsOf(i.Interfaces...)...)
			}
			ends = slices.DeleteFunc(ends, func(x decide.End) bool { return shared[x.Addr] > 1 })
			peers := decide.Peers{Outside: addr.Of(strangers...), Ends: ends}
			for _, direction := range []estate.Direction{estate.In, estate.Out} {
				found := make(map[*estate.Interface]decide.Exposed)
				for _, x := range d.Exposure(peers, direction) {
					found[x.Interface] = x
				}
				for _, i := range e.Instances {
					for _, f := range i.Interfaces {
						for _, text := range probed {
							p := point(t, text)
							for _, a := range strangers {
								if possible(p, a) {
									where := fmt.Sprintf("%s, seed %d, %s: %s, %s and %s", name, seed, direction,
										text, i.Name, a)
									exposedAs(t, where, e, d, found[f], reading.End{Addr: a}, f, p, direction, told)
								}
							}
							for _, end := range peers.Ends {
								if end.Interface.Instance != i && possible(p, end.Addr) {
									where := fmt.Sprintf("%s, seed %d, %s: %s, %s and %s", name, seed, direction,
										text, i.Name, end)
									exposedAs(t, where, e, d, found[f],
										reading.End{At: end.Interface, Addr: end.Addr}, f, p, direction, told)
								}
							}
						}
					}
				}
				if direction == estate.In {
					behindBalancers(t, fmt.Sprintf("%s, seed %d", name, seed), e, found, strangers, peers.Ends, told)
				} else {
					towardsTargets(t, fmt.Sprintf("%s, seed %d", name, seed), e, found, peers.Ends, told)
				}
			}
		}
	}
	for what, least := range map[string]int{"passes": 5000, "one-way": 300, "undecided": 300, "handed passes": 100,
		"handed one-way": 1, "handed on to passes": 100, "handed on to one-way": 1} {
		if told[what] < least {
			t.Errorf("only %d flows are %s", told[what], what)
		}
	}
	t.Log(told)
}

// splitRoutes adds routes to parts of subnets, and pairs of instances that only those tell apart.
func splitRoutes(random *rand.Rand, e *estate.Estate) {
	for _, n := range e.Networks {
		for _, s := range n.Subnets {
			for last := byte(200); last < 202; last++ {
				i := &estate.Instance{Account: n.Account, Name: fmt.Sprint(s.Name, "-", last), Kind: estate.Machine}
				i.Interfaces = []*estate.Interface{{Instance: i, Subnet: s, Unfiltered: true,
					Private: []netip.Addr{addrIn(s.Ranges[0], last)},
					Public:  []netip.Addr{netip.AddrFrom4([4]byte{198, 51, 101, last})}}}
				e.Instances = append(e.Instances, i)
			}
			for _, to := range []string{"10.1.1.200/32", "10.1.2.201/32", "10.2.1.128/25", "10.2.1.201/32",
				"10.2.2.201/32", "198.51.101.201/32", "fd00:2:1::6/128"} {
				if random.IntN(4) == 0 {
					via := []estate.Via{estate.ViaDrop, estate.ViaDrop, estate.ViaInternet,
						estate.ViaPrivateLine}[random.IntN(4)]
					s.Routes = append(s.Routes, estate.Route{To: netip.MustParsePrefix(to), Via: via})
				}
			}
		}
	}
}

// What balancers that all hand on to each other hand on in the end may arrive at each of
// their targets, where they are too many to be followed.
func TestExposureBehindACircle(t *testing.T) {
	for n, want := range map[int]string{3: "passes", 40: "undecided"} {
		e := circleOf(n)
		asking, target := e.Instances[n], &estate.Instance{Account: e.Accounts[0], Name: "target", Kind: estate.Machine}
		target.Interfaces = []*estate.Interface{{Instance: target, Subnet: asking.Interfaces[0].Subnet,
			Unfiltered: true, Private: []netip.Addr{netip.MustParseAddr("10.0.1.9")}}}
		e.Instances = append(e.Instances, target)
		last := e.Instances[n-1]
		last.Listeners[0].Targets = append(last.Listeners[0].Targets, target)
		d := decide.New(e)
		found := d.Exposure(decide.Peers{Ends: decide.EndsOf(asking.Interfaces...)}, estate.In)
		var met decide.Met
		for _, x := range found {
			if x.Interface.Instance == target {
				met = handedBy(x.Handed, e.Instances[0].Interfaces[0], x.Interface, met)
			}
		}
		if got := saidOf(met, asking.Interfaces[0].Private[0], service.PointOf(service.TCP, 443)); got != want {
			t.Errorf("%d balancers: %q, want %q", n, got, want)
		}
	}
}

// exposedAs holds what an exposure says of an interface and a peer against the best that is
// read of the interface's addresses.
func exposedAs(t *testing.T, where string, e *estate.Estate, d *decide.Decider, x decide.Exposed, peer reading.End,
	f *estate.Interface, p service.Point, direction estate.Direction, told map[string]int) {
	t.Helper()
	verdicts := make(map[string]bool)
	for _, own := range slices.Concat(f.Private, f.Public) {
		if own.Is4() == peer.Addr.Is4() {
			src, dst := peer, reading.End{At: f, Addr: own}
			if direction == estate.Out {
				src, dst = dst, src
			}
			verdicts[reading.Verdict(e, src, dst, p)] = true
		}
	}
	want := bestOf(verdicts)
	told[want]++
	if x.Undecided != "" {
		if want == "passes" || want == "one-way" {
			t.Fatalf("%s: %s, and told as undecided: %s", where, want, x.Undecided)
		}
		return
	}
	if got := saidOf(decide.Met{Passes: x.Traffic, OneWay: x.OneWay, Undecided: x.Unsure}, peer.Addr, p); got != want {
		t.Fatalf("%s: exposed as %q, by the second reading %q", where, got, want)
	}
}

// bestOf is the verdict that counts among several addresses: what surely arrives first.
func bestOf(verdicts map[string]bool) string {
	for _, v := range []string{"passes", "one-way", "undecided"} {
		if verdicts[v] {
			return v
		}
	}
	return ""
}

func saidOf(m decide.Met, a netip.Addr, p service.Point) string {
	said := make(map[string]bool)
	said["passes"], said["one-way"], said["undecided"] = m.Passes.Contains(a, p), m.OneWay.Contains(a, p),
		m.Undecided.Contains(a, p)
	return bestOf(said)
}

// behindBalancers holds what targets get through each balancer against an estate in which
// each of them is the only one that is no balancer.
func behindBalancers(t *testing.T, where string, e *estate.Estate, found map[*estate.Interface]decide.Exposed,
	strangers []netip.Addr, ends []decide.End, told map[string]int) {
	t.Helper()
	for _, target := range e.Instances {
		if target.Kind == estate.Balancer {
			continue
		}
		restore := onlyTarget(e, target)
		for _, balancer := range e.Instances {
			for _, b := range balancer.Interfaces {
				if balancer.Kind != estate.Balancer {
					continue
				}
				var got decide.Met
				for _, f := range target.Interfaces {
					got = handedBy(found[f].Handed, b, f, got)
				}
				peers := make([]reading.End, 0, len(strangers)+len(ends))
				for _, a := range strangers {
					peers = append(peers, reading.End{Addr: a})
				}
				for _, x := range ends {
					if x.Interface.Instance != balancer {
						peers = append(peers, reading.End{At: x.Interface, Addr: x.Addr})
					}
				}
				for _, peer := range peers {
					for _, text := range probed {
						p := point(t, text)
						if !possible(p, peer.Addr) {
							continue
						}
						verdicts := make(map[string]bool)
						for _, own := range slices.Concat(b.Private, b.Public) {
							if own.Is4() == peer.Addr.Is4() {
								verdicts[reading.Verdict(e, peer, reading.End{At: b, Addr: own}, p)] = true
							}
						}
						want, has := bestOf(verdicts), saidOf(got, peer.Addr, p)
						told["handed "+want]++
						if want != has {
							t.Fatalf("%s: %s from %s through %s to %s is %q, by the second reading %q", where, text,
								peer.Addr, balancer.Name, target.Name, has, want)
						}
					}
				}
			}
		}
		restore()
	}
}

// handedBy gathers what a balancer hands on to an interface.
func handedBy(list []decide.Handed, b, target *estate.Interface, into decide.Met) decide.Met {
	for _, h := range list {
		if h.Balancer == b && h.Target == target {
			into.Passes = into.Passes.Union(h.Asked.Passes)
			into.OneWay = into.OneWay.Union(h.Asked.OneWay)
			into.Undecided = into.Undecided.Union(h.Asked.Undecided)
		}
	}
	return into
}

// towardsTargets holds what interfaces reach of the targets behind balancers against the
// second reading.
func towardsTargets(t *testing.T, where string, e *estate.Estate, found map[*estate.Interface]decide.Exposed,
	ends []decide.End, told map[string]int) {
	t.Helper()
	var targets []*estate.Instance
	for _, x := range ends {
		if i := x.Interface.Instance; i.Kind != estate.Balancer && !slices.Contains(targets, i) {
			targets = append(targets, i)
		}
	}
	for _, target := range targets {
		restore := onlyTarget(e, target)
		for _, balancer := range e.Instances {
			for _, from := range e.Instances {
				if balancer.Kind != estate.Balancer || from == balancer {
					continue
				}
				for _, f := range from.Interfaces {
					for _, b := range balancer.Interfaces {
						var got decide.Met
						for _, at := range target.Interfaces {
							got = handedBy(found[f].Handed, b, at, got)
						}
						for _, text := range probed {
							p := point(t, text)
							for _, own := range slices.Concat(b.Private, b.Public) {
								verdicts := make(map[string]bool)
								for _, a := range slices.Concat(f.Private, f.Public) {
									if a.Is4() == own.Is4() && possible(p, a) {
										verdicts[reading.Verdict(e, reading.End{At: f, Addr: a},
											reading.End{At: b, Addr: own}, p)] = true
									}
								}
								want, has := bestOf(verdicts), saidOf(got, own, p)
								told["handed on to "+want]++
								if want != has {
									t.Fatalf("%s: %s from %s at %s of %s to %s is %q, by the second reading %q",
										where, text, from.Name, own, balancer.Name, target.Name, has, want)
								}
							}
						}
					}
				}
			}
		}
		restore()
	}
}

// onlyTarget leaves balancers one target that is no balancer, until it is restored.
func onlyTarget(e *estate.Estate, target *estate.Instance) (restore func()) {
	var undo []func()
	for _, i := range e.Instances {
		for k := range i.Listeners {
			l := &i.Listeners[k]
			was := l.Targets
			undo = append(undo, func() { l.Targets = was })
			l.Targets = slices.DeleteFunc(slices.Clone(was),
				func(x *estate.Instance) bool { return x.Kind != estate.Balancer && x != target })
		}
	}
	return func() {
		for _, f := range undo {
			f()
		}
	}
}
