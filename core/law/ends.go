package law

import (
	"slices"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
)

// ends are what a side of an expectation means: ends on interfaces, one for each address that is
// meant, and addresses outside the estate.
type ends struct {
	members  []member
	held     map[decide.End]bool // the ends of all members
	outside  addr.Set
	internet addr.Set // strangers of whom one is enough
	named    bool     // some members are meant by an address
}

// A member is an interface of a side, with those of its addresses that are meant.
type member struct {
	*estate.Interface
	ends []decide.End
}

func (e *ends) isEmpty() bool {
	return len(e.members) == 0 && e.outside.IsEmpty() && e.internet.IsEmpty()
}

// families are the address families that a side has.
func (e *ends) families() (four, six bool) {
	for _, set := range []addr.Set{e.outside, e.internet} {
		four, six = four || set.Overlaps(addr.AllIPv4), six || set.Overlaps(addr.AllIPv6)
	}
	for x := range e.held {
		four, six = four || x.Addr.Is4(), six || x.Addr.Is6()
	}
	return four, six
}

// ends finds the ends of a side. Exceptions are removed: a group as the interfaces to which it is
// attached, others by address.
func (p *prover) ends(s Side) ends {
	e := ends{held: make(map[decide.End]bool)}
	var outside, internet []addr.Set
	for _, peer := range s.Of {
		inside, beyond := p.peerEnds(peer)
		for _, x := range inside {
			e.held[x] = true
		}
		switch peer.Kind {
		case estate.PeerInternet:
			internet = append(internet, beyond)
		default:
			outside = append(outside, beyond)
			e.named = e.named || byAddress(peer)
		}
	}
	e.outside, e.internet = addr.UnionAll(outside...), addr.UnionAll(internet...)
	for _, peer := range s.Except {
		inside, beyond := p.peerEnds(peer)
		for _, x := range inside {
			delete(e.held, x)
		}
		e.outside, e.internet = e.outside.Minus(beyond), e.internet.Minus(beyond)
	}
	if len(e.held) == 0 {
		return e
	}
	for _, i := range p.d.Estate().Instances {
		for _, f := range i.Interfaces {
			m := member{Interface: f}
			for _, x := range decide.EndsOf(f) {
				if e.held[x] {
					m.ends = append(m.ends, x)
				}
			}
			if len(m.ends) > 0 {
				e.members = append(e.members, m)
			}
		}
	}
	return e
}

// byAddress reports whether a peer means addresses, and not members.
func byAddress(peer estate.Peer) bool {
	return peer.Kind == estate.PeerRange || peer.Kind == estate.PeerList
}

// peerEnds are the ends on interfaces that a peer means, and the addresses outside the estate.
func (p *prover) peerEnds(peer estate.Peer) (inside []decide.End, outside addr.Set) {
	family := addr.FamilyOf(peer.Family())
	take := func(interfaces []*estate.Interface, within addr.Set) {
		for _, x := range decide.EndsOf(interfaces...) {
			if within.Contains(x.Addr) {
				inside = append(inside, x)
			}
		}
	}
	switch peer.Kind {
	case estate.PeerGroup:
		switch {
		case peer.Group.Absent:
			take(p.toCover(peer.Group), family)
		case peer.Group.For == estate.ForInstances:
			take(p.d.InterfacesOf(peer.Group), family)
		}
		return inside, addr.Set{}
	case estate.PeerInternet:
		return nil, p.d.Strangers().Intersect(family)
	case estate.PeerNetwork, estate.PeerSubnet:
		subnets := []*estate.Subnet{peer.Subnet}
		if peer.Kind == estate.PeerNetwork {
			subnets = peer.Network.Subnets
		}
		for _, s := range subnets {
			take(p.d.InSubnet(s), family)
		}
		if len(inside) > 0 {
			return inside, addr.Set{}
		}
		// No interface has these addresses: they are looked at as outside ones.
	}
	set := p.d.Peers(&estate.Group{}, &estate.Rule{Peers: []estate.Peer{peer}}, nil)
	if set.Overlaps(p.d.OwnAddresses()) {
		for _, i := range p.d.Estate().Instances {
			take(i.Interfaces, set)
		}
	}
	return inside, set.Minus(p.d.OwnAddresses())
}

// toCover are the interfaces to which a group will be attached that does not exist yet.
func (p *prover) toCover(g *estate.Group) []*estate.Interface {
	var all []*estate.Interface
	for _, s := range g.Network.Subnets {
		for _, i := range p.d.InSubnet(s) {
			if g.CoversInterface(i) {
				all = append(all, i)
			}
		}
	}
	return all
}

// meant reports whether a pair of ends is asked for. If several interfaces have an address that was
// given, those near the other end are meant.
func (p *prover) meant(from, to *ends, a, b decide.End) bool {
	return !(from.named && p.nearer(from, a, b)) && !(to.named && p.nearer(to, b, a))
}

// nearer reports whether another end of the side has the same address as x and is near to there,
// while x is not.
func (p *prover) nearer(side *ends, x, there decide.End) bool {
	if near(x, there) {
		return false
	}
	return slices.ContainsFunc(p.d.At(x.Addr), func(i *estate.Interface) bool {
		other := decide.End{Interface: i, Addr: x.Addr}
		return i != x.Interface && side.held[other] && near(other, there)
	})
}

// near reports whether two ends are in one network or in peered ones.
func near(a, b decide.End) bool {
	m, n := a.Interface.Subnet.Network, b.Interface.Subnet.Network
	return m == n || m.PeeredWith(n)
}
