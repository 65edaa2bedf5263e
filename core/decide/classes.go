package decide

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/estate"
)

// Classes of interfaces that decide alike, so that one of each is enough to look at.

// KindOf is the class of an end's address within its interface's class, for filters that don't name
// single addresses.
func (d *Decider) KindOf(e End) string {
	public := addr.Public.Contains(e.Addr)
	return fmt.Sprintf("%v%v%v%s", e.Addr.Is4(), public, e.public(), d.routedApart(e.Interface.Subnet, e.Addr))
}

// routedApart says how routes anywhere in the estate distinguish an address from others. An address
// outside its subnet's ranges, or one that a private line may name, is a class by itself; any other
// is identified by its range and by the destinations of routes within that range.
func (d *Decider) routedApart(s *estate.Subnet, a netip.Addr) string {
	from, text := 0, ""
	if k := slices.IndexFunc(s.Ranges, func(r netip.Prefix) bool { return r.Contains(a) }); k >= 0 {
		from = s.Ranges[k].Bits()
		if k > 0 {
			text = fmt.Sprintf(" range %d", k)
		}
	} else if !addr.Public.Contains(a) || OnLine(s) {
		return " " + a.String()
	}
	for _, bits := range d.routeBits() {
		if bits > from && bits <= a.BitLen() {
			if p, err := a.Prefix(bits); err == nil && d.routesTo()[p] {
				text += " " + p.String()
			}
		}
	}
	return text
}

// class is ClassOf, plus the interface itself if rules that name single addresses distinguish it
// from others.
func (d *Decider) class(i *estate.Interface) string {
	if d.byMember(i) || d.Probed(i) {
		return fmt.Sprintf("%p", i)
	}
	return d.classKnown(i)
}

// PairClass is the class of a pair of interfaces: pairs of a class decide alike at addresses of the
// same kinds. Where a filter names members, a pair is a class by itself.
func (d *Decider) PairClass(a, b *estate.Interface) string {
	if d.byMember(a) || d.byMember(b) {
		return fmt.Sprintf("%p %p", a, b)
	}
	return d.classKnown(a) + " " + d.classKnown(b)
}

// classKnown is ClassOf, worked out once for each interface.
func (d *Decider) classKnown(i *estate.Interface) string {
	class, known := d.classes[i]
	if !known {
		class = d.ClassOf(i)
		d.classes[i] = class
	}
	return class
}

// ClassOf is the class of an interface: its place, its groups, and the kinds of its addresses.
// Rules that name single addresses are ignored.
func (d *Decider) ClassOf(i *estate.Interface) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%v", i.Unfiltered)
	for _, g := range i.Groups {
		fmt.Fprintf(&b, " %p", g)
	}
	return b.String() + d.WayClassOf(i)
}

// WayClassOf is the class of interfaces to and from which the ways are the same, whatever the
// filters do.
func (d *Decider) WayClassOf(i *estate.Interface) string {
	var b strings.Builder
	fmt.Fprintf(&b, " %p %v", i.Subnet, i.Instance.Imagined)
	for k, addrs := range [][]netip.Addr{i.Private, i.Public} {
		for _, a := range addrs {
			fmt.Fprintf(&b, " %d%v%v%s", k, a.Is4(), addr.Public.Contains(a), d.routedApart(i.Subnet, a))
		}
	}
	if i.Instance.Kind == estate.Balancer || len(i.Instance.Listeners) > 0 {
		fmt.Fprintf(&b, " %p", i)
	}
	return b.String()
}

// OnLine reports whether a subnet has a route over a private line.
func OnLine(s *estate.Subnet) bool {
	return slices.ContainsFunc(s.Routes, func(r estate.Route) bool { return r.Via == estate.ViaPrivateLine })
}

// Probers are the interfaces of the balancers that have an instance as a target.
func (d *Decider) Probers(i *estate.Instance) []*estate.Interface { return d.probers[i] }

// Probed reports whether an interface is a target of balancers, so that rules about probes mean
// something there that they mean nowhere else.
func (d *Decider) Probed(i *estate.Interface) bool { return len(d.probers[i.Instance]) > 0 }

// byMember reports whether the filters at an interface name single addresses or parts of subnets,
// which distinguish interfaces of one class at the other end.
func (d *Decider) byMember(i *estate.Interface) bool {
	return slices.ContainsFunc(slices.Concat(d.GroupsAt(i), d.GroupsOfSubnet(i.Subnet)), d.namesMembers)
}

// namesMembers reports whether rules of a group name single addresses or parts of subnets.
func (d *Decider) namesMembers(g *estate.Group) bool {
	names, known := d.naming[g]
	if !known {
		names = slices.ContainsFunc(g.Rules, func(r estate.Rule) bool {
			return slices.ContainsFunc(slices.Concat(r.Peers, r.Except), func(p estate.Peer) bool {
				return p.Kind == estate.PeerRange && p.Range.Bits() > 0 || p.Kind == estate.PeerList ||
					p.Kind == estate.PeerProbes
			})
		}) || g.Follows && slices.ContainsFunc(d.followed(g), d.namesMembers)
		d.naming[g] = names
	}
	return names
}

// FilterClass is the class of interfaces at which filters let the same through (FilterTraffic).
func (d *Decider) FilterClass(i *estate.Interface) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%p %v", i.Subnet.Network, i.Unfiltered)
	for _, g := range d.GroupsAt(i) {
		fmt.Fprintf(&b, " %p", g)
	}
	if around := d.GroupsOfSubnet(i.Subnet); len(around) > 0 {
		fmt.Fprintf(&b, " in %p", i.Subnet)
		for _, g := range around {
			fmt.Fprintf(&b, " %p", g)
		}
	}
	if len(d.probers[i.Instance]) > 0 {
		fmt.Fprintf(&b, " at %p", i.Instance)
	}
	return b.String()
}
