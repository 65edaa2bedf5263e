package change

import (
	"slices"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/service"
)

// A chain is a way through a balancer to one target: a client that may enter at the front, on a
// listener's service, reaches the target if the balancer may.
type chain struct {
	balancer, target *estate.Interface
	front, behind    service.Set
}

// chainsOf finds the chains of an estate, by each interface that is part of them.
func chainsOf(e *estate.Estate) map[*estate.Interface][]chain {
	chains := make(map[*estate.Interface][]chain)
	for _, b := range e.Instances {
		for _, l := range b.Listeners {
			for _, t := range l.Targets {
				for _, front := range b.Interfaces {
					for _, back := range t.Interfaces {
						x := chain{front, back, service.Of(l.Service),
							service.Of(service.Ports(l.Service.Protocol, l.Port, l.Port))}
						chains[front] = append(chains[front], x)
						if back != front {
							chains[back] = append(chains[back], x)
						}
					}
				}
			}
		}
	}
	return chains
}

// clients are the addresses that get through a chain, if its interfaces let through what is given.
func (x chain) clients(front, back Through) addr.Set {
	here, there := addr.Of(slices.Concat(x.balancer.Private, x.balancer.Public)...),
		addr.Of(slices.Concat(x.target.Private, x.target.Public)...)
	leaves := front[out].WithPeers(there).Services().Overlaps(x.behind)
	if !leaves || !back[in].WithPeers(here).Services().Overlaps(x.behind) {
		return addr.Set{}
	}
	return front[in].Peers(x.front)
}

// handsOnTooMuch reports whether somebody would get through one of an interface's chains who gets
// through neither before nor after the change. Example: the balancer still lets everyone in while
// its target already lets the balancer in.
func (c *checker) handsOnTooMuch(i *estate.Interface, now func(*estate.Interface) Through) bool {
	return slices.ContainsFunc(c.chains[i], func(x chain) bool {
		front, back := c.bound(x.balancer), c.bound(x.target)
		may := x.clients(front.now, back.now).Union(x.clients(front.then, back.then))
		return !x.clients(now(x.balancer), now(x.target)).SubsetOf(may)
	})
}
