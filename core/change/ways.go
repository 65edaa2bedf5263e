package change

import (
	"fmt"
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// What other ways open and close: routes, addresses, peerings, listeners, what a balancer's
// targets get.

// ways tells what opens and closes by ways, beside what filters do.
func (c *comparer) ways() {
	var found alike
	var others []pair
	causes := make(map[pair][]string)
	for _, instance := range c.before.Estate().Instances {
		for _, was := range instance.Interfaces {
			if p := (pair{was, c.m.faces[was]}); p.is != nil && !instance.Imagined && c.before.CantDecide(was) == "" && c.after.CantDecide(p.is) == "" {
				others = append(others, p)
				if list := c.wayCauses(p); len(list) > 0 {
					causes[p] = list
				}
			}
		}
	}
	for _, p := range others {
		if list := causes[p]; len(list) > 0 {
			for _, direction := range directions {
				s := c.outside(p, direction)
				for kind, set := range c.inside(p, direction, others, causes) {
					s.add(kind, set)
				}
				s = c.rest(p, direction, s)
				for _, kind := range kinds {
					if set := s[kind]; !set.IsEmpty() {
						found.add(Change{Kind: kind, Direction: direction, Traffic: set, Causes: list, Way: true}, p)
					}
				}
			}
		}
	}
	c.tellAll(found)
	c.withinSubnets(others)
}

// withinSubnets tells what opens and closes within a subnet for those who come by a public
// address of theirs: what is around the subnet does not count there, and no set of addresses
// tells them from those who come by the internet.
func (c *comparer) withinSubnets(others []pair) {
	var found alike
	bySubnet := make(map[*estate.Subnet][]pair)
	for _, p := range others {
		bySubnet[p.is.Subnet] = append(bySubnet[p.is.Subnet], p)
	}
	for _, p := range others {
		causes := c.attached(p)
		if len(causes) == 0 && !c.touched(p) {
			continue
		}
		for _, q := range bySubnet[p.is.Subnet] {
			if q.is.Instance == p.is.Instance || q.was.Subnet.Path() != q.is.Subnet.Path() || p.was.Subnet.Path() != p.is.Subnet.Path() {
				continue
			}
			for _, direction := range directions {
				src, dst := p, q
				if direction == estate.In {
					src, dst = q, p
				}
				s := make(shift)
				for _, a := range src.is.Public {
					for _, b := range dst.is.Private {
						if was, is := ends(src.was, a, dst.was, b), ends(src.is, a, dst.is, b); was != nil && is != nil && a.Is4() == b.Is4() {
							c.between(was, is, map[estate.Direction]netip.Addr{estate.In: a, estate.Out: b}[direction], s)
						}
					}
				}
				s = c.rest(p, direction, s)
				for _, kind := range kinds {
					if set := s[kind]; !set.IsEmpty() {
						found.add(Change{Kind: kind, Direction: direction, Traffic: set, Causes: c.causesAt(p, causes, direction, set)}, p)
					}
				}
			}
		}
	}
	c.tellAll(found)
}

// between adds the shift between two ends, as traffic with a peer.
func (c *comparer) between(was, is *[2]decide.End, peer netip.Addr, s shift) {
	passed, arrived := becomes(c.before, was)
	passes, arrives := becomes(c.after, is)
	for kind, services := range map[Kind]service.Set{Opens: arrives.Minus(arrived), Closes: arrived.Minus(arrives), Lost: passed.Intersect(arrives.Minus(passes)), Regained: passes.Intersect(arrived.Minus(passed))} {
		s.add(kind, traffic.Of(addr.Of(peer), services))
	}
}

// wayCauses says in what the ways of an interface differ in themselves.
func (c *comparer) wayCauses(p pair) []string {
	var causes []string
	say := func(format string, a ...any) { causes = append(causes, fmt.Sprintf(format, a...)) }
	a, b := p.was.Subnet, p.is.Subnet
	if came, left := differing(routesOf(a), routesOf(b)); len(came)+len(left) > 0 || a.RoutesKnown != b.RoutesKnown {
		say("the routes of %s: %s", b.Path(), nowAndThen(came, left))
	}
	if came, left := differing(peeringsOf(a.Network), peeringsOf(b.Network)); len(came)+len(left) > 0 {
		say("the peerings of %s: %s", b.Network.Path(), nowAndThen(came, left))
	}
	if came, left := differing(texts(allAddresses(p.was)), texts(allAddresses(p.is))); len(came)+len(left) > 0 {
		say("its addresses: %s", nowAndThen(came, left))
	}
	if !slices.Equal(a.Network.Ranges, b.Network.Ranges) {
		say("the ranges of %s", b.Network.Path())
	}
	if a.Network.Path() != b.Network.Path() {
		say("it stands in %s, and stood in %s", b.Path(), a.Path())
	}
	if came, left := differing(listenersOf(p.was.Instance), listenersOf(p.is.Instance)); len(came)+len(left) > 0 {
		say("its listeners: %s", nowAndThen(came, left))
	} else if p.is.Instance.Kind == estate.Balancer && !c.sameHandedOn(p) {
		say("what its targets get")
	}
	if a.Network.Answers != b.Network.Answers {
		say("answers in %s go to %s, and went to %s", b.Network.Path(), portsText(b.Network.Answers), portsText(a.Network.Answers))
	}
	return causes
}

func (c *comparer) sameHandedOn(p pair) bool {
	was, is := c.before.HandedOn(p.was), c.after.HandedOn(p.is)
	return was.Arriving().Equal(is.Arriving()) && was.With(decide.Passes).Equal(is.With(decide.Passes)) && was.With(decide.Undecided).Equal(is.With(decide.Undecided))
}

func allAddresses(i *estate.Interface) []netip.Addr { return slices.Concat(i.Private, i.Public) }

func texts[T fmt.Stringer](list []T) []string {
	all := make([]string, len(list))
	for i, x := range list {
		all[i] = x.String()
	}
	return all
}

func routesOf(s *estate.Subnet) []string {
	var list []string
	for _, r := range s.Routes {
		text := fmt.Sprintf("%s %s", r.To, r.Via)
		if r.Network != nil {
			text += " " + r.Network.Path()
		}
		if r.Address.IsValid() {
			text += " " + r.Address.String()
		}
		list = append(list, text)
	}
	return list
}

// peeringsOf are the networks that are peered with one, both ways.
func peeringsOf(n *estate.Network) []string {
	var list []string
	for _, p := range n.Peered {
		if p != nil && n.PeeredWith(p) {
			list = append(list, p.Path())
		}
	}
	return list
}

func listenersOf(i *estate.Instance) []string {
	var list []string
	for _, l := range i.Listeners {
		var targets []string
		for _, t := range l.Targets {
			targets = append(targets, t.Name)
		}
		slices.Sort(targets)
		if len(targets) == 0 {
			targets = []string{"nobody"}
		}
		list = append(list, fmt.Sprintf("%s to port %d of %s", l.Service, l.Port, count.Some(targets, 4)))
	}
	return list
}

// differing are the texts of a second list alone, and those of a first alone.
func differing(a, b []string) (came, left []string) { return without(b, a), without(a, b) }

func nowAndThen(came, left []string) string {
	switch {
	case len(left) == 0:
		return "now with " + count.Some(came, 3)
	case len(came) == 0:
		return "now without " + count.Some(left, 3)
	}
	return "now " + count.Some(came, 3) + ", and " + count.Some(left, 3) + " before"
}

// outside is the shift of what passes between an interface and addresses outside.
func (c *comparer) outside(p pair, direction estate.Direction) shift {
	s := make(shift)
	own := c.before.OwnAddresses().Union(c.after.OwnAddresses())
	met := func(d *decide.Decider, i *estate.Interface, a netip.Addr) (passes, arrives traffic.Set) {
		if !slices.Contains(allAddresses(i), a) {
			return passes, arrives
		}
		m := d.MeetsOutside(decide.End{Interface: i, Addr: a}, direction)
		keep := own.Complement()
		return m.Passes.WithPeers(keep), m.Arrives().WithPeers(keep)
	}
	for _, a := range both(allAddresses(p.was), allAddresses(p.is)) {
		passed, arrived := met(c.before, p.was, a)
		passes, arrives := met(c.after, p.is, a)
		for kind, set := range shifted(passed, arrived, passes, arrives) {
			s.add(kind, set)
		}
	}
	return s
}

func both(a, b []netip.Addr) []netip.Addr {
	all := slices.Clone(a)
	for _, x := range b {
		if !slices.Contains(all, x) {
			all = append(all, x)
		}
	}
	return all
}

// inside is the shift of what passes between an interface and others of the estate, as far
// as no filter tells of it at the other one. Of two whose own ways differ, the source tells.
func (c *comparer) inside(p pair, direction estate.Direction, others []pair, causes map[pair][]string) shift {
	s := make(shift)
	add := make(map[Kind][]traffic.Set)
	for _, q := range others {
		if q.is.Instance == p.is.Instance || direction == estate.In && len(causes[q]) > 0 {
			continue
		}
		src, dst := p, q
		if direction == estate.In {
			src, dst = q, p
		}
		for _, a := range both(allAddresses(src.was), allAddresses(src.is)) {
			for _, b := range both(allAddresses(dst.was), allAddresses(dst.is)) {
				if a.Is4() != b.Is4() || a == b {
					continue
				}
				was, is := ends(src.was, a, dst.was, b), ends(src.is, a, dst.is, b)
				if c.sameWay(was, is) && (dst.is.Instance.Kind != estate.Balancer || c.sameHandedOn(dst)) {
					continue
				}
				own, peer := a, b
				if direction == estate.In {
					own, peer = b, a
				}
				here := make(shift)
				c.between(was, is, peer, here)
				for kind, set := range here {
					if told := c.told[q.is][direction.Opposite()][kind]; !told.IsEmpty() { // the other end tells of it
						set = set.Minus(traffic.Of(addr.Of(peer), told.WithPeers(addr.Of(own)).Services()))
					}
					if !set.IsEmpty() {
						add[kind] = append(add[kind], set)
					}
				}
			}
		}
	}
	for kind, sets := range add {
		s.add(kind, traffic.UnionAll(sets))
	}
	return s
}

// ends are both ends of a flow in one state; nil where one of them does not have the address.
func ends(src *estate.Interface, a netip.Addr, dst *estate.Interface, b netip.Addr) *[2]decide.End {
	if !slices.Contains(allAddresses(src), a) || !slices.Contains(allAddresses(dst), b) {
		return nil
	}
	return &[2]decide.End{{Interface: src, Addr: a}, {Interface: dst, Addr: b}}
}

// sameWay reports whether there is the same way between two ends in both states.
func (c *comparer) sameWay(was, is *[2]decide.End) bool {
	if was == nil || is == nil {
		return was == nil && is == nil
	}
	return c.before.WayOf(was[0], was[1]) == c.after.WayOf(is[0], is[1])
}

func becomes(d *decide.Decider, e *[2]decide.End) (passes, arrives service.Set) {
	if e == nil {
		return passes, arrives
	}
	o := d.Becomes(e[0], e[1])
	return o.With(decide.Passes), o.Arriving()
}
