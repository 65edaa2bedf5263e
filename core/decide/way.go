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

// An End is one end of a flow: an address of an interface, or without an interface somebody outside
// the estate.
type End struct {
	Interface *estate.Interface
	Addr      netip.Addr
}

// Outside reports whether the end is on no interface of the estate.
func (e End) Outside() bool { return e.Interface == nil }

// public reports whether the end is a public address of its interface.
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

// String writes the end: "booking-1 (10.20.1.7)".
func (e End) String() string {
	if e.Interface == nil {
		return e.Addr.String()
	}
	return fmt.Sprintf("%s (%s)", e.Interface.Instance.Name, e.Addr)
}

// A way says how a flow gets from one end to the other, before filters.
type way struct {
	verdict Verdict // Passes, NoRoute, or Undecided if the address with which it comes back in is unknown
	text    string  // how, or why not
	// The addresses that the filters see: the source's at the destination, the
	// destination's at the source. They differ from the ends' own where the flow
	// leaves the estate and comes in again.
	source, destination netip.Addr
	sources             addr.Set        // of an undecided way: the public addresses that the source may have
	client              *estate.Network // whose client ports the answers go to; nil if outside the estate
	inside              bool            // both ends are in one subnet
}

func (w way) no(format string, a ...any) way {
	w.verdict, w.text = NoRoute, fmt.Sprintf(format, a...)
	return w
}

func (w way) by(format string, a ...any) way {
	w.text = fmt.Sprintf(format, a...)
	return w
}

// A Way says how a flow gets from one end to the other, before filters: by which addresses filters
// see it, and to whose client ports its answers go. Between equal ways filters make the only
// difference.
type Way struct {
	Verdict             Verdict
	Source, Destination netip.Addr // as the filters see them
	Inside              bool       // both ends are in one subnet
	Answers             estate.Ports
}

// WayOf is the way between two ends.
func (d *Decider) WayOf(src, dst End) Way {
	w := d.way(src, dst)
	known := Way{w.verdict, w.source, w.destination, w.inside, answersOf(w.client)}
	if w.verdict == NoRoute {
		return Way{Verdict: NoRoute}
	}
	return known
}

func (d *Decider) way(src, dst End) way {
	w := way{verdict: Passes, source: src.Addr, destination: dst.Addr}
	if src.Outside() {
		return d.wayIn(w, src.Addr, dst)
	}
	w.client = src.Interface.Subnet.Network
	if dst.Outside() {
		return d.wayOut(w, src, dst.Addr)
	}
	return d.wayInside(w, src, dst)
}

// wayIn is the way from an address outside to an interface.
func (d *Decider) wayIn(w way, src netip.Addr, dst End) way {
	subnet := dst.Interface.Subnet
	if inRanges(subnet.Network.Ranges, src) {
		return w.no("nobody in %s has the address %s", subnet.Network.Path(), src)
	}
	if !subnet.RoutesKnown {
		return w.by("a way in is assumed: no survey says which routes %s has", subnet.Path())
	}
	route, ok := routeFor(subnet, src)
	switch {
	case ok && route.Via == estate.ViaPrivateLine:
		if !carries(route, dst.Addr) {
			return w.no("the private line of the route %s of %s does not carry the public address %s", route.To,
				subnet.Path(), dst.Addr)
		}
		return w.by("in over the private line (route %s of %s)", route.To, subnet.Path())
	case !addr.Public.Contains(src):
		return w.no("nobody in the estate has %s, and no private line leads from there to %s", src, subnet.Path())
	case !hasPublic(dst.Interface, dst.Addr):
		return w.no("%s has no public %s address", dst.Interface.Instance.Name, familyName(dst.Addr))
	case !ok:
		return w.no("%s has no route to %s, so nothing comes in from there", subnet.Path(), src)
	case route.Via != estate.ViaInternet:
		return w.no("%s reaches %s by its route %s via %s, which lets nobody in", subnet.Path(), src, route.To,
			route.Via)
	}
	return w.by("in from the internet (route %s of %s)", route.To, subnet.Path())
}

// carries reports whether the private line of a route carries an interface's own address: a public
// one only if the route names it.
func carries(route estate.Route, own netip.Addr) bool {
	return !addr.Public.Contains(own) || route.To.Contains(own)
}

// wayOut is the way from an interface to an address outside.
func (d *Decider) wayOut(w way, src End, dst netip.Addr) way {
	subnet := src.Interface.Subnet
	if inRanges(subnet.Network.Ranges, dst) {
		return w.no("nobody in %s has the address %s", subnet.Network.Path(), dst)
	}
	if !subnet.RoutesKnown {
		return w.by("a way out is assumed: no survey says which routes %s has", subnet.Path())
	}
	route, ok := routeFor(subnet, dst)
	if !ok {
		return w.no("%s has no route to %s", subnet.Path(), dst)
	}
	switch route.Via {
	case estate.ViaPrivateLine:
		if !carries(route, src.Addr) {
			return w.no("the private line of the route %s of %s does not carry the public address %s", route.To,
				subnet.Path(), src.Addr)
		}
		return w.by("out over the private line (route %s of %s)", route.To, subnet.Path())
	case estate.ViaInternet, estate.ViaNAT:
		if !addr.Public.Contains(dst) {
			return w.no("nobody in the estate has %s, and it is not a public address", dst)
		}
		if route.Via == estate.ViaInternet && !hasPublic(src.Interface, src.Addr) {
			return w.no("%s has no public %s address to go out with", src.Interface.Instance.Name, familyName(src.Addr))
		}
		return w.by("out to the internet by %s (route %s of %s)", route.Via, route.To, subnet.Path())
	}
	return w.no("%s sends what goes to %s by its route %s via %s", subnet.Path(), dst, route.To, route.Via)
}

// wayInside is the way between two interfaces. A network's own ranges take precedence over routes
// and peerings, at both ends; then the route of the source's subnet decides.
func (d *Decider) wayInside(w way, src, dst End) way {
	from, to := src.Interface.Subnet, dst.Interface.Subnet
	if from.Network == to.Network && (!dst.public() || inRanges(from.Network.Ranges, dst.Addr)) {
		if w.inside = from == to; w.inside {
			return w.by("within the subnet %s", from.Path())
		}
		return w.by("within the network %s", from.Network.Path())
	}
	if from.Network != to.Network && inRanges(from.Network.Ranges, dst.Addr) {
		return w.no("%s is in a range of %s itself, so nothing from there goes to %s for it", dst.Addr,
			from.Network.Path(), to.Network.Path())
	}
	route, ok := routeFor(from, dst.Addr)
	switch {
	case ok && route.Via == estate.ViaPrivateLine:
		return d.wayByLine(w, src, dst, route)
	case dst.public(),
		addr.Public.Contains(dst.Addr) && ok && (route.Via == estate.ViaInternet || route.Via == estate.ViaNAT),
		addr.Public.Contains(dst.Addr) && !from.RoutesKnown && !from.Network.PeeredWith(to.Network):
		return d.wayAround(w, src, dst, route)
	}
	return d.wayByPeering(w, src, dst)
}

// wayByLine is the way between two interfaces over a private line, which the routes of both ends
// must use.
func (d *Decider) wayByLine(w way, src, dst End, route estate.Route) way {
	from, to := src.Interface.Subnet, dst.Interface.Subnet
	back, ok := routeFor(to, src.Addr)
	switch {
	case inRanges(to.Network.Ranges, src.Addr):
		return w.no("%s is in a range of %s itself, so no answer leaves it for %s", src.Addr, to.Network.Path(),
			from.Network.Path())
	case !ok || back.Via != estate.ViaPrivateLine:
		return w.no("%s goes to %s over a private line (route %s), and %s has no route back over one", from.Path(),
			dst.Addr, route.To, to.Path())
	}
	return w.by("over the private line between %s and %s", from.Network.Path(), to.Network.Path())
}

// wayByPeering is the way between two interfaces of different networks through their peering.
func (d *Decider) wayByPeering(w way, src, dst End) way {
	from, to := src.Interface.Subnet, dst.Interface.Subnet
	there, thereOK := routeFor(from, dst.Addr)
	back, backOK := routeFor(to, src.Addr)
	switch {
	case !from.Network.PeeredWith(to.Network) && !peersEither(from.Network, to.Network):
		return w.no("%s and %s are not peered", from.Network.Path(), to.Network.Path())
	case !from.Network.PeeredWith(to.Network):
		return w.no("only one of %s and %s peers with the other", from.Network.Path(), to.Network.Path())
	case inRanges(to.Network.Ranges, src.Addr):
		return w.no("%s is in a range of %s itself, so no answer leaves it for %s", src.Addr, to.Network.Path(),
			from.Network.Path())
	case from.RoutesKnown && (!thereOK || there.Via != estate.ViaPeer || there.Network != to.Network):
		return w.no("%s has no route to %s through the peering with %s", from.Path(), dst.Addr, to.Network.Path())
	case to.RoutesKnown && (!backOK || back.Via != estate.ViaPeer || back.Network != from.Network):
		return w.no("%s has no route back to %s through the peering with %s", to.Path(), src.Addr, from.Network.Path())
	}
	return w.by("through the peering of %s and %s", from.Network.Path(), to.Network.Path())
}

func peersEither(a, b *estate.Network) bool {
	return slices.Contains(a.Peered, b) || slices.Contains(b.Peered, a)
}

// wayAround is the way from inside to a public address of the estate: out, and in again.
func (d *Decider) wayAround(w way, src, dst End, route estate.Route) way {
	out := d.wayOut(w, src, dst.Addr)
	if out.verdict != Passes {
		return out
	}
	seen, known := publicOf(src.Interface, dst.Addr)
	if addr.Public.Contains(src.Addr) {
		seen, known = src.Addr, true
	}
	if route.Via == estate.ViaNAT {
		seen, known = route.Address, route.Address.IsValid() && route.Address.Is4() == dst.Addr.Is4()
		w.client = nil // the client ports are chosen where the address is translated
	}
	if known {
		in := d.wayIn(w, seen, dst)
		if in.verdict == Passes {
			in.source = seen
			in.text = fmt.Sprintf("out and in again over the internet, seen as coming from %s", seen)
		}
		return in
	}
	w.sources = d.waysTo(dst.Interface, dst.Addr).Intersect(addr.Public)
	if w.sources.IsEmpty() { // no address that the source may have has a way in
		return d.wayIn(w, traffic.Example(addr.Public.Only(addr.FamilyIn(dst.Addr))), dst)
	}
	w.verdict = Undecided
	w.text = fmt.Sprintf("it goes out through nat and comes in again, but the survey does not say with which "+
		"address: the route of %s needs its \"address\"", src.Interface.Subnet.Path())
	return w
}

// routeFor is the route of a subnet for an address: the most specific one, of equal ones the first.
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
	return slices.ContainsFunc(ranges, func(r netip.Prefix) bool { return r.Contains(a) })
}

// hasPublic reports whether an interface can be reached from the internet over the family of one of
// its addresses. A made-up member is assumed to be.
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
	for _, a := range i.Private { // an IPv6 interface often has no private address, only a public one
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

// A routed part of the address space takes one route of a subnet.
type routed struct {
	estate.Route
	set addr.Set
}

// routes divides the address space by the routes of a subnet. The network's own ranges are left
// out. It is worked out once for each subnet.
func (d *Decider) routes(s *estate.Subnet) []routed {
	parts, ok := d.routed[s]
	if ok {
		return parts
	}
	sorted := slices.Clone(s.Routes)
	slices.SortStableFunc(sorted, func(a, b estate.Route) int { return b.To.Bits() - a.To.Bits() })
	taken := addr.OfPrefixes(s.Network.Ranges...)
	for _, r := range sorted {
		to := d.Range(r.To)
		if left := to.Minus(taken); !left.IsEmpty() {
			parts = append(parts, routed{r, left})
			taken = taken.Union(to)
		}
	}
	d.routed[s] = parts
	return parts
}

// waysTo are the addresses outside that have a way to one address of an interface, and addresses of
// the estate that would come in the same way.
func (d *Decider) waysTo(i *estate.Interface, own netip.Addr) addr.Set {
	return d.waysWith(i, own, estate.In)
}

// waysOutOf are the addresses outside to which one address of an interface has a way, and addresses
// of the estate that would be reached the same way.
func (d *Decider) waysOutOf(i *estate.Interface, own netip.Addr) addr.Set {
	return d.waysWith(i, own, estate.Out)
}

// waysWith are the addresses with which an address of an interface has a way in a direction. The
// directions differ only in nat, which lets nobody in.
func (d *Decider) waysWith(i *estate.Interface, own netip.Addr, direction estate.Direction) addr.Set {
	family := addr.FamilyOf(addr.FamilyIn(own))
	if !i.Subnet.RoutesKnown {
		return family.Minus(addr.OfPrefixes(i.Subnet.Network.Ranges...))
	}
	var ways addr.Set
	for _, r := range d.routes(i.Subnet) {
		switch {
		case r.Via == estate.ViaNAT && direction == estate.Out, r.Via == estate.ViaInternet && hasPublic(i, own):
			ways = ways.Union(r.set.Intersect(addr.Public))
		case r.Via == estate.ViaPrivateLine && carries(r.Route, own):
			ways = ways.Union(r.set)
		}
	}
	return ways.Intersect(family)
}

// OutsideWays are the addresses outside the estate that have a way to an interface, before filters.
func (d *Decider) OutsideWays(i *estate.Interface) addr.Set {
	return d.WaysIn(i).Minus(d.OwnAddresses())
}

// WaysIn are OutsideWays and addresses of the estate that would come in the same way.
func (d *Decider) WaysIn(i *estate.Interface) addr.Set {
	key := waysKey{subnet: i.Subnet, imagined: i.Instance.Imagined}
	for k, addrs := range [][]netip.Addr{i.Private, i.Public} {
		for _, a := range addrs {
			bit := k
			if a.Is6() {
				bit += 2
			}
			if addr.Public.Contains(a) {
				bit += 4
				key.named = key.named || slices.ContainsFunc(i.Subnet.Routes, func(r estate.Route) bool {
					return r.Via == estate.ViaPrivateLine && r.To.Contains(a)
				})
			}
			key.kinds |= 1 << bit
		}
	}
	if ways, ok := d.waysIn[key]; ok && !key.named {
		return ways
	}
	var ways addr.Set
	for _, own := range addressesOf(i) {
		ways = ways.Union(d.waysTo(i, own))
	}
	d.waysIn[key] = ways
	return ways
}

// A waysKey is what the ways to an interface depend on, if no private line names its public
// addresses.
type waysKey struct {
	subnet   *estate.Subnet
	kinds    uint8 // of its addresses: private or public, IPv4 or IPv6, in the public ranges or not
	imagined bool
	named    bool
}

// addressesOf are the addresses of an interface, private ones first.
func addressesOf(i *estate.Interface) []netip.Addr {
	return append(slices.Clip(i.Private), i.Public...)
}

// OwnAddresses are the addresses of all interfaces of the estate.
func (d *Decider) OwnAddresses() addr.Set { return d.own() }

// Arriving is the traffic from outside that passes to an interface: it has a way and is taken,
// filters admit request and answers, and behind a balancer a target gets it.
func (d *Decider) Arriving(i *estate.Interface) traffic.Set {
	passes, _ := d.fromOutside(i)
	return passes
}

// fromOutside is Arriving, and the traffic that arrives although an answer to it is stopped.
func (d *Decider) fromOutside(i *estate.Interface) (passes, oneWay traffic.Set) {
	passing, admits := d.filter(i, estate.In)
	answered, taken := d.taken(i)
	ways := d.OutsideWays(i)
	passes = passing.Intersect(traffic.Of(ways, answered))
	if passing.Equal(admits) && answered.Equal(taken) {
		return passes, traffic.Set{}
	}
	return passes, admits.Intersect(traffic.Of(ways, taken)).Minus(passes)
}

// LetIn is Arriving with the traffic from addresses of the estate that comes in the same way. It is
// cheaper, and contains the same strangers.
func (d *Decider) LetIn(i *estate.Interface) traffic.Set {
	passes, _ := d.filter(i, estate.In)
	taken, _ := d.taken(i)
	return passes.Intersect(traffic.Of(d.WaysIn(i), taken))
}

// LetOut is the traffic from an interface that passes to addresses outside, and to addresses of the
// estate that are reached the same way.
func (d *Decider) LetOut(i *estate.Interface) traffic.Set {
	passes, _ := d.filter(i, estate.Out)
	return passes.WithPeers(d.WaysOut(i))
}

// Reaches reports whether a service from an address outside passes to an interface's own address:
// it has a way and is taken, and filters admit request and answers. It is far cheaper than a set.
func (d *Decider) Reaches(peer netip.Addr, i *estate.Interface, own netip.Addr, p service.Point) bool {
	w := d.way(End{Addr: peer}, End{i, own})
	if w.verdict != Passes || !d.Lets(i, estate.In, w.source, p) {
		return false
	}
	taken, _ := d.taken(i)
	return taken.Contains(p)
}

// WaysOut are the addresses to which any address of an interface has a way: outside the estate, and
// those of the estate that are reached the same way.
func (d *Decider) WaysOut(i *estate.Interface) addr.Set {
	var ways addr.Set
	for _, own := range addressesOf(i) {
		ways = ways.Union(d.waysOutOf(i, own))
	}
	return ways
}
