package narrow

import (
	"cmp"
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/service"
)

// A use is all that one peer did on one service with all instances of a group, on some terms of the
// subject.
type use struct {
	terms   *Terms
	peer    netip.Addr
	service service.Point
	sums    []*flow.Sum
	flows   int
	days    flow.Days
}

// probes reports whether a use looks like probing, by what was sent: every flow was a mere attempt, or
// nobody answered and there is no sign that none was expected. Traffic without replies by its nature
// carries payload, and comes again.
func (u *use) probes() bool {
	attempts, completed, loaded := 0, 0, 0
	for _, x := range u.sums {
		attempts += x.Attempts
		completed += x.Completed
		loaded += x.Loaded
	}
	if attempts == u.flows {
		return true
	}
	if protocol, _ := u.service.Split(); protocol == service.TCP {
		return false // who sends payload has been accepted
	}
	return completed == 0 && (loaded == 0 || u.days.Count() < 2)
}

// A sweep is one client that tries many ports or many hosts within a short time.
const (
	sweepTargets = 10   // so many are many
	denseTargets = 50   // so many ports side by side are a sweep even if they answer
	sweepTime    = 3600 // seconds
	sweepPackets = 12   // in each of its flows at most
)

// swept finds the sums that belong to sweeps, of all clients. It takes time in proportion to the sums, and to
// n log n for the n of a client that uses many services or servers.
func swept(flows *flow.Summary) map[*flow.Sum]bool {
	found := make(map[*flow.Sum]bool)
	light := make(map[netip.Addr][]*flow.Sum)
	flows.Each(func(x *flow.Sum) {
		if x.Flows <= 2*x.Days.Count() && x.Packets <= sweepPackets*uint64(x.Flows) {
			light[x.Source] = append(light[x.Source], x)
		}
	})
	for _, sums := range light {
		if len(sums) < sweepTargets {
			continue
		}
		runs(sums, func(a, b *flow.Sum) int { return a.Destination.Compare(b.Destination) }, func(ports []*flow.Sum) {
			if 5*tries(ports) >= 4*len(ports) || dense(ports) {
				for _, x := range ports {
					found[x] = true
				}
			}
		})
		runs(sums, func(a, b *flow.Sum) int { return cmp.Compare(a.Service, b.Service) }, func(hosts []*flow.Sum) {
			if tries(hosts) < sweepTargets {
				return
			}
			for _, x := range hosts { // those that answer may be the ones that it is for
				if tried(x) {
					found[x] = true
				}
			}
		})
	}
	return found
}

// runs calls take for the bursts among those sums of one client that are alike.
func runs(sums []*flow.Sum, alike func(a, b *flow.Sum) int, take func([]*flow.Sum)) {
	slices.SortFunc(sums, func(a, b *flow.Sum) int {
		return cmp.Or(alike(a, b), cmp.Compare(a.First, b.First), a.Compare(b))
	})
	for from := 0; from < len(sums); {
		to := from + 1
		for to < len(sums) && alike(sums[from], sums[to]) == 0 {
			to++
		}
		bursts(sums[from:to], take)
		from = to
	}
}

// bursts calls take for each sequence of sums, sorted by their start, of which any sweepTargets lie
// within sweepTime.
func bursts(sums []*flow.Sum, take func([]*flow.Sum)) {
	within := func(i int) bool {
		return i+sweepTargets <= len(sums) && sums[i+sweepTargets-1].First-sums[i].First <= sweepTime
	}
	for from := 0; from+sweepTargets <= len(sums); from++ {
		if !within(from) {
			continue
		}
		to := from + sweepTargets
		for within(to - sweepTargets + 1) {
			to++
		}
		take(sums[from:to])
		from = to - 1
	}
}

// tried reports whether a sum is of mere attempts.
func tried(x *flow.Sum) bool {
	u := use{service: x.Service, sums: []*flow.Sum{x}, flows: x.Flows, days: x.Days}
	return u.probes()
}

func tries(sums []*flow.Sum) (n int) {
	for _, x := range sums {
		if tried(x) {
			n++
		}
	}
	return n
}

// dense reports whether sums are of many ports side by side.
func dense(sums []*flow.Sum) bool {
	first, last := sums[0].Service, sums[0].Service
	for _, x := range sums {
		first, last = min(first, x.Service), max(last, x.Service)
	}
	return len(sums) >= denseTargets && int(last-first) < 2*len(sums)
}

// ownNetworks are the ranges of the estate's own networks.
func ownNetworks(e *estate.Estate) addr.Set {
	var all []netip.Prefix
	for _, n := range e.Networks {
		all = append(all, n.Ranges...)
		for _, s := range n.Subnets {
			all = append(all, s.Ranges...)
		}
	}
	return addr.OfPrefixes(all...)
}

// outgoing are the addresses of address translation, by the network that goes out by them.
func outgoing(e *estate.Estate) map[netip.Addr]*estate.Network {
	all := make(map[netip.Addr]*estate.Network)
	for _, n := range e.Networks {
		for _, s := range n.Subnets {
			for _, r := range s.Routes {
				if r.Via == estate.ViaNAT && r.Address.IsValid() {
					all[r.Address] = n
				}
			}
		}
	}
	return all
}

// gone reports whether a use is of an own address that nobody has any more: no interface has it. Where
// an account could not be read, or the address serves, an interface may only be unknown: then it must
// not have been seen since the middle of the window either.
func (n *Narrower) gone(p *Proposal, u *use) bool {
	if !n.networks.Contains(u.peer) || len(n.d.At(u.peer)) > 0 {
		return false
	}
	if p.Direction == estate.In && len(n.d.Estate().Unread) == 0 {
		return true
	}
	days := u.days.Sorted()
	first := int32(n.o.Flows.First.Unix() / 86400)
	return 2*int(days[len(days)-1]-first+1) <= n.days
}
