package decide

import (
	"fmt"
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// An End is one end of a flow: an interface by one of its addresses, or with a
// nil interface somebody outside the estate.
type End struct {
	Interface *estate.Interface
	Addr      netip.Addr
}

// Outside reports whether the end is on no interface of the estate.
func (e End) Outside() bool { return e.Interface == nil }

// public reports whether the end is meant by a public address of its interface.
func (e End) public() bool {
	if e.Interface == nil {
		return false
	}
	for _, a := range e.Interface.Private {
		if a == e.Addr {
			return false
		}
	}
	return true
}

// String is the end as a person would say it: "booking-1 (10.20.1.7)".
func (e End) String() string {
	if e.Interface == nil {
		return e.Addr.String()
	}
	return fmt.Sprintf("%s (%s)", e.Interface.Instance.Name, e.Addr)
}

// A way says how a flow gets from one end to the other before any filter is asked.
type way struct {
	verdict Verdict // Passes, NoWay or Undecided
	text    string  // how, or why not
	// The addresses that the filters see: the source's at the destination, the
	// destination's at the source. They differ from the ends' own where the flow
	// leaves the estate and comes in again.
	source, destination netip.Addr
}

func (d *Decider) way(src, dst End) way {
	open := way{verdict: Passes, source: src.Addr, destination: dst.Addr}
	no := func(format string, a ...any) way {
		return way{verdict: NoWay, text: fmt.Sprintf(format, a...), source: src.Addr, destination: dst.Addr}
	}
	switch {
	case src.Outside():
		return d.wayIn(src.Addr, dst, open, no)
	case dst.Outside():
		return d.wayOut(src, dst.Addr, open, no)
	case dst.public():
		return d.wayAround(src, dst, open, no)
	}
	return d.wayInside(src, dst, open, no)
}

// wayIn is the way from outside to an interface.
func (d *Decider) wayIn(src netip.Addr, dst End, open way, no func(string, ...any) way) way {
	subnet := dst.Interface.Subnet
	if inRanges(subnet.Network.Ranges, src) {
		return no("nobody in %s has the address %s", subnet.Network.Path(), src)
	}
	if !subnet.RoutesKnown {
		open.text = "a way in is assumed: no survey says which routes " + subnet.Path() + " has"
		return open
	}
	route, ok := routeFor(subnet, src)
	if !addr.Public.Contains(src) {
		if ok && route.Via == estate.ViaPrivateLine {
			open.text = fmt.Sprintf("in over the private line (route %s of %s)", route.To, subnet.Path())
			return open
		}
		return no("nobody in the estate has %s, and no private line leads from there to %s", src, subnet.Path())
	}
	if !hasPublic(dst.Interface, dst.Addr) {
		return no("%s has no public %s address", dst.Interface.Instance.Name, familyName(dst.Addr))
	}
	switch {
	case !ok:
		return no("%s has no route to %s, so nothing comes in from there", subnet.Path(), src)
	case route.Via != estate.ViaInternet:
		return no("%s reaches %s by its route %s via %s, which lets nobody in", subnet.Path(), src, route.To, route.Via)
	}
	open.text = fmt.Sprintf("in from the internet (route %s of %s)", route.To, subnet.Path())
	return open
}

// wayOut is the way from an interface to somebody outside.
func (d *Decider) wayOut(src End, dst netip.Addr, open way, no func(string, ...any) way) way {
	subnet := src.Interface.Subnet
	if inRanges(subnet.Network.Ranges, dst) {
		return no("nobody in %s has the address %s", subnet.Network.Path(), dst)
	}
	if !subnet.RoutesKnown {
		open.text = "a way out is assumed: no survey says which routes " + subnet.Path() + " has"
		return open
	}
	route, ok := routeFor(subnet, dst)
	if !ok {
		return no("%s has no route to %s", subnet.Path(), dst)
	}
	switch route.Via {
	case estate.ViaPrivateLine:
		open.text = fmt.Sprintf("out over the private line (route %s of %s)", route.To, subnet.Path())
		return open
	case estate.ViaInternet, estate.ViaNAT:
		if !addr.Public.Contains(dst) {
			return no("nobody in the estate has %s, and it is not a public address", dst)
		}
		if route.Via == estate.ViaInternet && !hasPublic(src.Interface, src.Addr) {
			return no("%s has no public %s address to go out with", src.Interface.Instance.Name, familyName(src.Addr))
		}
		open.text = fmt.Sprintf("out to the internet by %s (route %s of %s)", route.Via, route.To, subnet.Path())
		return open
	}
	return no("%s sends what goes to %s by its route %s via %s", subnet.Path(), dst, route.To, route.Via)
}

// wayInside is the way between two interfaces by the destination's private address.
func (d *Decider) wayInside(src, dst End, open way, no func(string, ...any) way) way {
	from, to := src.Interface.Subnet, dst.Interface.Subnet
	if from.Network == to.Network {
		open.text = "within the network " + from.Network.Path()
		if from == to {
			open.text = "within the subnet " + from.Path()
		}
		return open
	}
	there, thereOK := routeFor(from, dst.Addr)
	back, backOK := routeFor(to, src.Addr)
	if there.Via == estate.ViaPrivateLine && back.Via == estate.ViaPrivateLine {
		open.text = fmt.Sprintf("over the private line between %s and %s", from.Network.Path(), to.Network.Path())
		return open
	}
	switch {
	case !from.Network.PeeredWith(to.Network) && !peersEither(from.Network, to.Network):
		return no("%s and %s are not peered", from.Network.Path(), to.Network.Path())
	case !from.Network.PeeredWith(to.Network):
		return no("only one of %s and %s peers with the other", from.Network.Path(), to.Network.Path())
	case from.RoutesKnown && (!thereOK || there.Via != estate.ViaPeer || there.Network != to.Network):
		return no("%s has no route to %s through the peering with %s", from.Path(), dst.Addr, to.Network.Path())
	case to.RoutesKnown && (!backOK || back.Via != estate.ViaPeer || back.Network != from.Network):
		return no("%s has no route back to %s through the peering with %s", to.Path(), src.Addr, from.Network.Path())
	}
	open.text = fmt.Sprintf("through the peering of %s and %s", from.Network.Path(), to.Network.Path())
	return open
}

func peersEither(a, b *estate.Network) bool {
	for _, p := range a.Peered {
		if p == b {
			return true
		}
	}
	for _, p := range b.Peered {
		if p == a {
			return true
		}
	}
	return false
}

// wayAround is the way from inside to a public address of the estate: out, and in again.
func (d *Decider) wayAround(src, dst End, open way, no func(string, ...any) way) way {
	out := d.wayOut(src, dst.Addr, open, no)
	if out.verdict != Passes {
		return out
	}
	seen, ok := publicOf(src.Interface, dst.Addr)
	if route, found := routeFor(src.Interface.Subnet, dst.Addr); found && route.Via == estate.ViaNAT {
		seen, ok = route.Address, route.Address.IsValid()
	}
	if !ok {
		return way{verdict: Undecided, source: src.Addr, destination: dst.Addr,
			text: fmt.Sprintf("it goes out through nat and comes in again, but the survey does not say with which address: the route of %s needs its \"address\"", src.Interface.Subnet.Path())}
	}
	in := d.wayIn(seen, dst, open, no)
	if in.verdict != Passes {
		return in
	}
	in.source, in.destination = seen, dst.Addr
	in.text = fmt.Sprintf("out and in again over the internet, seen as coming from %s", seen)
	return in
}

// routeFor is the most specific route of a subnet for an address.
func routeFor(s *estate.Subnet, a netip.Addr) (estate.Route, bool) {
	best, found := estate.Route{}, false
	for _, r := range s.Routes {
		if r.To.Contains(a) && (!found || r.To.Bits() > best.To.Bits()) {
			best, found = r, true
		}
	}
	return best, found
}

func inRanges(ranges []netip.Prefix, a netip.Addr) bool {
	for _, r := range ranges {
		if r.Contains(a) {
			return true
		}
	}
	return false
}

// hasPublic reports whether an interface can be met from the internet over the
// family of an address of its own. A made-up member is given the benefit of the doubt.
func hasPublic(i *estate.Interface, own netip.Addr) bool {
	_, ok := publicOf(i, own)
	return ok || i.Instance.Imagined
}

// publicOf is the interface's public address of the same family as another address.
func publicOf(i *estate.Interface, like netip.Addr) (netip.Addr, bool) {
	for _, a := range i.Public {
		if a.Is4() == like.Is4() {
			return a, true
		}
	}
	for _, a := range i.Private { // an IPv6 interface often has one public address and no other
		if a.Is6() && like.Is6() && addr.Public.Contains(a) {
			return a, true
		}
	}
	return netip.Addr{}, false
}

func familyName(a netip.Addr) string {
	if a.Is4() {
		return "IPv4"
	}
	return "IPv6"
}

// OutsideWays are the addresses outside the estate from which there is a way to
// an interface, before any filter is asked.
func (d *Decider) OutsideWays(i *estate.Interface) addr.Set {
	return d.WaysIn(i).Minus(d.OwnAddresses())
}

// WaysIn are OutsideWays together with addresses of the estate itself that would
// come in the same way.
func (d *Decider) WaysIn(i *estate.Interface) addr.Set {
	subnet := i.Subnet
	own := addr.OfPrefixes(subnet.Network.Ranges...)
	if !subnet.RoutesKnown {
		return addr.Everyone.Minus(own)
	}
	var internet, line addr.Set
	for _, r := range subnet.Routes {
		to := addr.OfPrefixes(r.To)
		for _, other := range subnet.Routes {
			if other.To.Bits() > r.To.Bits() && other.To.Overlaps(r.To) {
				to = to.Minus(addr.OfPrefixes(other.To))
			}
		}
		switch r.Via {
		case estate.ViaInternet:
			internet = internet.Union(to)
		case estate.ViaPrivateLine:
			line = line.Union(to.Minus(addr.Public))
		}
	}
	return internet.Intersect(addr.Public).Intersect(d.MetFromOutside(i)).Union(line).Minus(own)
}

// MetFromOutside are the addresses of the families over which the internet can
// meet an interface at all: those in which it has a public address.
func (d *Decider) MetFromOutside(i *estate.Interface) addr.Set {
	var met addr.Set
	for _, f := range []addr.Set{addr.AllIPv4, addr.AllIPv6} {
		if a, _ := f.First(); hasPublic(i, a) {
			met = met.Union(f)
		}
	}
	return met
}

// OwnAddresses are the addresses of all interfaces of the estate.
func (d *Decider) OwnAddresses() addr.Set { return d.own() }

// listens is the set of services that an interface takes at all: those of its
// listeners for a balancer, everything for any other instance.
func listens(i *estate.Interface) service.Set {
	if i.Instance.Kind != estate.Balancer {
		return service.All
	}
	specs := make([]service.Spec, len(i.Instance.Listeners))
	for k, l := range i.Instance.Listeners {
		specs[k] = l.Service
	}
	return service.Of(specs...)
}

// Arriving is the traffic from outside the estate that reaches an interface:
// there is a way, it is taken there, and the filters admit it.
func (d *Decider) Arriving(i *estate.Interface) traffic.Set {
	return d.FilterTraffic(i, estate.In).Intersect(traffic.Of(d.OutsideWays(i), listens(i)))
}

// LetIn is Arriving together with traffic from addresses of the estate itself
// that comes in the same way. It costs less, and holds the same strangers.
func (d *Decider) LetIn(i *estate.Interface) traffic.Set {
	return d.FilterTraffic(i, estate.In).Intersect(traffic.Of(d.WaysIn(i), listens(i)))
}

// Reaches reports whether one service of somebody outside the estate gets to an
// interface by one of its own addresses: there is a way, it is taken there, and
// the filters admit it, answers and all. It costs far less than a set.
func (d *Decider) Reaches(peer netip.Addr, i *estate.Interface, own netip.Addr, p service.Point) bool {
	w := d.way(End{Addr: peer}, End{i, own})
	return w.verdict == Passes && listens(i).Contains(p) && d.Lets(i, estate.In, w.source, p)
}

// LetsOutTo reports whether something that an interface lets out to strangers,
// of the given traffic, has a way to one.
func (d *Decider) LetsOutTo(i *estate.Interface, set traffic.Set) bool {
	for _, six := range []bool{false, true} {
		own, ok := i.Address(six)
		if !ok {
			continue
		}
		family := addr.FamilyOf(addr.IPv4)
		if six {
			family = addr.FamilyOf(addr.IPv6)
		}
		peers := set.Peers(service.All).Intersect(family)
		ways := []addr.Set{peers}
		for _, r := range i.Subnet.Routes {
			ways = append(ways, peers.Intersect(d.Range(r.To)))
		}
		for _, way := range ways {
			if there, ok := d.Stranger(way); ok && d.way(End{i, own}, End{Addr: there}).verdict == Passes {
				return true
			}
		}
	}
	return false
}

// byRoute parts a set of addresses by the route that a subnet sends them on, so
// that the addresses of one part have one way. Addresses without a route are a part too.
func (d *Decider) byRoute(s *estate.Subnet, peers addr.Set) []addr.Set {
	var parts []addr.Set
	routes := slices.Clone(s.Routes)
	slices.SortStableFunc(routes, func(a, b estate.Route) int { return b.To.Bits() - a.To.Bits() })
	cuts := []addr.Set{addr.OfPrefixes(s.Network.Ranges...)}
	for _, r := range routes {
		cuts = append(cuts, addr.OfPrefixes(r.To))
	}
	for _, cut := range append(cuts, addr.Everyone) {
		for _, public := range []addr.Set{addr.Public, addr.Public.Complement()} {
			if part := peers.Intersect(cut).Intersect(public); !part.IsEmpty() {
				parts = append(parts, part)
			}
		}
		peers = peers.Minus(cut)
	}
	return parts
}
