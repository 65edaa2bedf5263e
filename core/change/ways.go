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

// Differences of ways: routes, addresses, peerings, listeners, and what the targets of balancers
// get.

// ways finds what opens and closes because of ways, beyond what filters do.
func (c *comparer) ways() {
	var found alike
	var others []pair
	causes := make(map[pair][]string)
	for _, instance := range c.before.Estate().Instances {
		for _, was := range instance.Interfaces {
			if p := (pair{was, c.m.faces[was]}); p.is != nil && !instance.Imagined &&
				c.before.CantDecide(was) == "" && c.after.CantDecide(p.is) == "" {
				others = append(others, p)
				if list := c.wayCauses(p); len(list) > 0 {
					causes[p] = list
				}
			}
		}
	}
	classes, known := c.wayClasses(others, causes), make(map[[2]string][][2]int)
	for _, p := range others {
		if list := causes[p]; len(list) > 0 {
			for _, direction := range directions {
				s := c.outside(p, direction)
				for kind, set := range c.inside(p, direction, classes, causes, known) {
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
	to := make(map[string][]string) // by the sources that reach them
	var order []string
	for _, i := range c.after.Estate().Instances {
		if from := c.unsure[i]; len(from) > 0 {
			slices.Sort(from)
			text := count.Some(slices.Compact(from), 4)
			if len(to[text]) == 0 {
				order = append(order, text)
			}
			to[text] = append(to[text], i.Path())
		}
	}
	for _, from := range order {
		c.cantKnow(fmt.Sprintf("what reaches %s from %s: a survey does not say enough", count.Some(to[from], 4), from))
	}
}

// withinSubnets finds differences within a subnet for sources with a public address. Subnet groups
// don't filter that traffic, and no set of addresses can tell it from traffic of the internet.
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
			if q.is.Instance == p.is.Instance || q.was.Subnet.Path() != q.is.Subnet.Path() ||
				p.was.Subnet.Path() != p.is.Subnet.Path() {
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
						if was, is := ends(src.was, a, dst.was, b), ends(src.is, a, dst.is, b); was != nil &&
							is != nil && a.Is4() == b.Is4() {
							c.between(was, is, map[estate.Direction]netip.Addr{estate.In: a,
								estate.Out: b}[direction], s)
						}
					}
				}
				s = c.rest(p, direction, s)
				for _, kind := range kinds {
					if set := s[kind]; !set.IsEmpty() {
						found.add(Change{Kind: kind, Direction: direction, Traffic: set,
							Causes: c.causesAt(p, causes, direction, set)}, p)
					}
				}
			}
		}
	}
	c.tellAll(found)
}

// between adds the difference between two ends, as traffic with a peer.
func (c *comparer) between(was, is *[2]decide.End, peer netip.Addr, s shift) {
	passed, arrived, perhaps := becomes(c.before, was)
	passes, arrives, maybe := becomes(c.after, is)
	if !perhaps.Equal(maybe) {
		ends := is
		if ends == nil {
			ends = &[2]decide.End{was[0], {Interface: c.m.faces[was[1].Interface]}}
		}
		c.unsure[ends[1].Interface.Instance] =
			append(c.unsure[ends[1].Interface.Instance], ends[0].Interface.Instance.Path())
	}
	for kind, services := range map[Kind]service.Set{Opens: arrives.Minus(arrived).Minus(perhaps),
		Closes: arrived.Minus(arrives).Minus(maybe),
		Lost:   passed.Intersect(arrives.Minus(passes)), Regained: passes.Intersect(arrived.Minus(passed))} {
		s.add(kind, traffic.Of(addr.Of(peer), services))
	}
}

// wayCauses says how the ways of an interface itself differ.
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
		say("%s", rangesText(a.Network, b.Network))
	}
	if a.Network.Path() != b.Network.Path() {
		say("it is in %s now, and was in %s", b.Path(), a.Path())
	}
	if came, left := differing(listenersOf(p.was.Instance), listenersOf(p.is.Instance)); len(came)+len(left) > 0 {
		say("its listeners: %s", nowAndThen(came, left))
	} else if p.is.Instance.Kind == estate.Balancer && !c.sameHandedOn(p) {
		say("what its targets get")
	}
	if a.Network.Answers != b.Network.Answers {
		say("answers in %s go to %s now, and to %s before", b.Network.Path(), portsText(b.Network.Answers),
			portsText(a.Network.Answers))
	}
	return causes
}

func (c *comparer) sameHandedOn(p pair) bool {
	was, is := c.before.HandedOn(p.was), c.after.HandedOn(p.is)
	return was.Arriving().Equal(is.Arriving()) && was.With(decide.Passes).Equal(is.With(decide.Passes)) &&
		was.With(decide.Undecided).Equal(is.With(decide.Undecided))
}

func allAddresses(i *estate.Interface) []netip.Addr { return slices.Concat(i.Private, i.Public) }

func texts[T fmt.Stringer](list []T) []string {
	all := make([]string, len(list))
	for i, x := range list {
		all[i] = x.String()
	}
	return all
}

// routesOf are the routes of a subnet that take effect: of several with the same destination the
// first.
func routesOf(s *estate.Subnet) []string {
	var list []string
	seen := make(map[netip.Prefix]bool)
	for _, r := range s.Routes {
		if seen[r.To] {
			continue
		}
		seen[r.To] = true
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

// peeringsOf are the networks that are peered with one in both directions.
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

// differing are the texts that only a second list has, and those that only a first one has.
func differing(a, b []string) (came, left []string) { return without(b, a), without(a, b) }

func nowAndThen(came, left []string) string {
	switch {
	case len(left) == 0:
		return "now with " + count.Some(came, 3)
	case len(came) == 0:
		return "now without " + count.Some(left, 3)
	}
	return "now " + count.Some(came, 3) + ", before " + count.Some(left, 3)
}

// outside is the shift of what passes between an interface and addresses outside.
func (c *comparer) outside(p pair, direction estate.Direction) shift {
	s := make(shift)
	own := c.before.OwnAddresses().Union(c.after.OwnAddresses())
	met := func(d *decide.Decider, i *estate.Interface, a netip.Addr) (passes, arrives, perhaps traffic.Set) {
		if !slices.Contains(allAddresses(i), a) {
			return passes, arrives, perhaps
		}
		m := d.MeetsOutside(decide.End{Interface: i, Addr: a}, direction)
		keep := own.Complement()
		return m.Passes.WithPeers(keep), m.Arrives().WithPeers(keep), m.Undecided.WithPeers(keep)
	}
	for _, a := range both(allAddresses(p.was), allAddresses(p.is)) {
		passed, arrived, perhaps := met(c.before, p.was, a)
		passes, arrives, maybe := met(c.after, p.is, a)
		if !perhaps.Equal(maybe) {
			c.cantKnow(fmt.Sprintf("what passes at %s: a survey does not say enough", p.is.Instance.Path()))
		}
		for kind, set := range shifted(passed, arrived, passes, arrives) {
			s.add(kind, set.Minus(perhaps).Minus(maybe))
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

// A wayClass holds pairs of interfaces to which the ways are the same in both states.
type wayClass struct {
	key   string
	pairs []pair
}

// wayClasses collects interfaces by the ways to them. An interface whose own ways differ is a class
// of its own, since its addresses may differ.
func (c *comparer) wayClasses(others []pair, causes map[pair][]string) []*wayClass {
	var list []*wayClass
	by := make(map[string]*wayClass)
	for _, p := range others {
		key := c.wayClass(p, causes)
		if by[key] == nil {
			by[key] = &wayClass{key: key}
			list = append(list, by[key])
		}
		by[key].pairs = append(by[key].pairs, p)
	}
	return list
}

func (c *comparer) wayClass(p pair, causes map[pair][]string) string {
	if !slices.Equal(allAddresses(p.was), allAddresses(p.is)) {
		return fmt.Sprintf("%p", p.is)
	}
	key := c.before.WayClassOf(p.was) + " | " + c.after.WayClassOf(p.is)
	if len(causes[p]) > 0 {
		key += " |"
	}
	return key
}

// otherWays are the indices of the addresses between which the ways from one interface to another
// differ between the states.
func (c *comparer) otherWays(src, dst pair) [][2]int {
	handed := dst.is.Instance.Kind == estate.Balancer && !c.sameHandedOn(dst)
	var found [][2]int
	for i, a := range both(allAddresses(src.was), allAddresses(src.is)) {
		for k, b := range both(allAddresses(dst.was), allAddresses(dst.is)) {
			if a.Is4() == b.Is4() && (handed || !c.sameWay(ends(src.was, a, dst.was, b), ends(src.is, a, dst.is, b))) {
				found = append(found, [2]int{i, k})
			}
		}
	}
	return found
}

// inside is the shift of what passes between an interface and others of the estate, without what is
// told as a change of a filter at the other end. If the own ways of both interfaces differ, it is
// told of the source.
func (c *comparer) inside(p pair, direction estate.Direction, others []*wayClass, causes map[pair][]string,
	known map[[2]string][][2]int) shift {
	s := make(shift)
	add := make(map[Kind][]traffic.Set)
	own := string(direction) + " " + c.wayClass(p, causes)
	for _, class := range others {
		key := [2]string{own, class.key}
		differ, decided := known[key]
		for _, q := range class.pairs {
			if decided && len(differ) == 0 {
				break
			}
			if q.is.Instance == p.is.Instance || direction == estate.In && len(causes[q]) > 0 {
				continue
			}
			src, dst := p, q
			if direction == estate.In {
				src, dst = q, p
			}
			if !decided {
				differ, decided = c.otherWays(src, dst), true
				known[key] = differ
			}
			from, to := both(allAddresses(src.was), allAddresses(src.is)),
				both(allAddresses(dst.was), allAddresses(dst.is))
			for _, x := range differ {
				if a, b := from[x[0]], to[x[1]]; a != b {
					c.untold(p, q, direction, ends(src.was, a, dst.was, b), ends(src.is, a, dst.is, b),
						[2]netip.Addr{a, b}, add)
				}
			}
		}
	}
	for kind, sets := range add {
		s.add(kind, traffic.UnionAll(sets))
	}
	return s
}

// untold adds the part of a shift between two ends that is not told of the other one.
func (c *comparer) untold(p, q pair, direction estate.Direction, was, is *[2]decide.End, addresses [2]netip.Addr,
	add map[Kind][]traffic.Set) {
	own, peer := addresses[0], addresses[1]
	if direction == estate.In {
		own, peer = peer, own
	}
	here := make(shift)
	c.between(was, is, peer, here)
	for kind, set := range here {
		if told := c.told[q.is][direction.Opposite()][kind]; !told.IsEmpty() {
			set = set.Minus(traffic.Of(addr.Of(peer), told.WithPeers(addr.Of(own)).Services()))
		}
		if !set.IsEmpty() {
			add[kind] = append(add[kind], set)
		}
	}
}

// ends are both ends of a flow in one state, or nil if one of them does not have the address.
func ends(src *estate.Interface, a netip.Addr, dst *estate.Interface, b netip.Addr) *[2]decide.End {
	if !slices.Contains(allAddresses(src), a) || !slices.Contains(allAddresses(dst), b) {
		return nil
	}
	return &[2]decide.End{{Interface: src, Addr: a}, {Interface: dst, Addr: b}}
}

// sameWay reports whether the way between two ends is the same in both states.
func (c *comparer) sameWay(was, is *[2]decide.End) bool {
	if was == nil || is == nil {
		return was == nil && is == nil
	}
	return c.before.WayOf(was[0], was[1]) == c.after.WayOf(is[0], is[1])
}

// becomes is what passes between two ends, what arrives there, and what may arrive.
func becomes(d *decide.Decider, e *[2]decide.End) (passes, arrives, perhaps service.Set) {
	if e == nil {
		return passes, arrives, perhaps
	}
	o := d.Becomes(e[0], e[1])
	return o.With(decide.Passes), o.Arriving(), o.With(decide.Undecided)
}
