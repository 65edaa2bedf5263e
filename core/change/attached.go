package change

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Differences at single interfaces: what other groups open and close there, other things that
// filters depend on, and instances that come and go.

// why says why a group lets something else through although its rules are written the same.
func (c *comparer) why(x, y *estate.Group, direction estate.Direction, set traffic.Set) []string {
	var causes []string
	say := func(format string, a ...any) {
		if text := fmt.Sprintf(format, a...); !slices.Contains(causes, text) {
			causes = append(causes, text)
		}
	}
	names := serviceNames(c.before, c.after)
	old, now := c.before.InOrder(x, direction), c.after.InOrder(y, direction)
	peers := set.Peers(service.All)
	for _, r := range now {
		k := slices.IndexFunc(old,
			func(o *estate.Rule) bool { return o.Sentence(names) == r.Sentence(names) && o.Stateless == r.Stateless })
		if k < 0 {
			continue
		}
		was := old[k]
		if was.Rank != r.Rank && !r.BuiltIn {
			say("rank %d instead of %d: %s", r.Rank, was.Rank, r.Sentence(names))
		}
		for n, p := range r.Peers {
			if n >= len(was.Peers) || was.Peers[n].Kind != p.Kind {
				continue
			}
			q := was.Peers[n]
			one := func(d *decide.Decider, g *estate.Group, p estate.Peer) addr.Set {
				return d.Peers(g, &estate.Rule{Peers: []estate.Peer{p}}, nil)
			}
			before, after := one(c.before, x, q), one(c.after, y, p)
			came, left := after.Minus(before).Intersect(peers), before.Minus(after).Intersect(peers)
			if came.IsEmpty() && left.IsEmpty() {
				continue
			}
			what := map[estate.PeerKind]string{estate.PeerSelf: "who is a member",
				estate.PeerNetwork: "the ranges of the network", estate.PeerProbes: "the balancers in front",
				estate.PeerSubnet: "the ranges of the subnet"}[p.Kind]
			switch p.Kind {
			case estate.PeerList:
				what = "list " + p.List.Name
			case estate.PeerGroup:
				what = "who is a member of " + place(p.Group)
			}
			if what != "" {
				say("%s: %s", what, moved(came, left))
			}
		}
	}
	if x.Stateless != y.Stateless {
		say("the group %s", map[bool]string{true: "no longer keeps state", false: "keeps state now"}[y.Stateless])
	}
	return causes
}

// moved says which addresses were added and which removed.
func moved(came, left addr.Set) string {
	var parts []string
	for _, m := range []struct {
		set  addr.Set
		word string
	}{{came, "with"}, {left, "without"}} {
		if prefixes := m.set.Prefixes(); len(prefixes) > 0 {
			var texts []string
			for _, p := range prefixes {
				texts = append(texts, addr.PrefixString(p))
			}
			parts = append(parts, m.word+" "+count.Some(texts, 4))
		}
	}
	return "now " + strings.Join(parts, ", ")
}

// alike collects the interfaces at which a change is the same.
type alike struct {
	at   map[string]int
	list []Change
}

func (a *alike) add(ch Change, p pair) {
	key := fmt.Sprint(ch.Kind, ch.Direction, ch.Causes, ch.Way, ch.Traffic.Hash())
	if k, ok := a.at[key]; ok && a.list[k].Traffic.Equal(ch.Traffic) {
		a.list[k].faces = append(a.list[k].faces, p)
		return
	}
	if a.at == nil {
		a.at = make(map[string]int)
	}
	a.at[key] = len(a.list)
	ch.faces = []pair{p}
	a.list = append(a.list, ch)
}

// tellAll reports what alike has collected; the instances are the place of the change.
func (c *comparer) tellAll(a alike) {
	for _, ch := range a.list {
		var names []string
		for _, p := range ch.faces {
			if name := face(p).Instance.Path(); !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
		ch.place = count.Some(names, 3)
		c.tell(ch)
	}
}

// attachments compares the filters of interfaces that exist in both states: what they open and
// close beyond what is told of their groups, above all because other groups are attached.
func (c *comparer) attachments() {
	var found alike
	for _, instance := range c.before.Estate().Instances {
		for _, was := range instance.Interfaces {
			p := pair{was, c.m.faces[was]}
			if p.is == nil || instance.Imagined {
				continue
			}
			causes := c.attached(p)
			if len(causes) == 0 && !c.touched(p) {
				continue
			}
			if a, b := c.before.CantDecide(p.was), c.after.CantDecide(p.is); a != "" || b != "" {
				c.cantKnow(fmt.Sprintf("what %s lets through: %s", p.is.Instance.Path(), firstOf(b, a)))
				continue
			}
			for _, direction := range directions {
				rest := c.rest(p, direction, c.filters(p)[direction])
				for _, kind := range kinds {
					if set := rest[kind]; !set.IsEmpty() {
						found.add(Change{Kind: kind, Direction: direction, Traffic: set,
							Causes: c.causesAt(p, causes, direction, set)}, p)
					}
				}
			}
		}
	}
	c.tellAll(found)
}

func (c *comparer) cantKnow(text string) {
	if !slices.Contains(c.unknown, text) {
		c.unknown = append(c.unknown, text)
	}
}

func firstOf(texts ...string) string {
	for _, t := range texts {
		if t != "" {
			return t
		}
	}
	return ""
}

// attached says which groups were attached and detached at an interface and its subnet, and whether
// filtering was switched on or off.
func (c *comparer) attached(p pair) []string {
	var causes []string // joined to one sentence below
	say := func(word string, groups []*estate.Group) {
		var names []string
		for _, g := range groups {
			names = append(names, g.InCloud())
		}
		if len(names) > 0 {
			causes = append(causes, count.Some(names, 6)+" "+word)
		}
	}
	say("attached", c.only(c.after.GroupsAt(p.is),
		func(g *estate.Group) bool { return c.heldBefore(c.before.GroupsAt(p.was), g) }))
	say("detached", c.only(c.before.GroupsAt(p.was),
		func(g *estate.Group) bool { return c.m.holds(c.after.GroupsAt(p.is), g) }))
	around, now := c.before.GroupsOfSubnet(p.was.Subnet), c.after.GroupsOfSubnet(p.is.Subnet)
	say("attached to its subnet", c.only(now, func(g *estate.Group) bool { return c.heldBefore(around, g) }))
	say("detached from its subnet", c.only(around, func(g *estate.Group) bool { return c.m.holds(now, g) }))
	switch {
	case p.was.Unfiltered && !p.is.Unfiltered:
		causes = append(causes, "filtering is switched on")
	case !p.was.Unfiltered && p.is.Unfiltered:
		causes = append(causes, "filtering is switched off")
	}
	if len(causes) == 0 {
		return nil
	}
	return []string{strings.Join(causes, ", ")}
}

func (c *comparer) only(groups []*estate.Group, held func(*estate.Group) bool) []*estate.Group {
	return slices.DeleteFunc(slices.Clone(groups), held)
}

// heldBefore reports whether a list of groups contains the earlier partner of a group of the second
// state.
func (c *comparer) heldBefore(before []*estate.Group, g *estate.Group) bool {
	return slices.ContainsFunc(before, func(x *estate.Group) bool { return c.m.same(x, g) })
}

// touched reports whether the filters at an interface may have changed although the same groups are
// attached.
func (c *comparer) touched(p pair) bool {
	groups := slices.Concat(c.before.GroupsAt(p.was), c.before.GroupsOfSubnet(p.was.Subnet))
	a, b := p.was.Subnet.Network, p.is.Subnet.Network
	return slices.ContainsFunc(groups, func(g *estate.Group) bool { return c.changed[g] }) ||
		a.Answers != b.Answers || !slices.Equal(a.Ranges, b.Ranges) ||
		!slices.Equal(p.was.Subnet.Ranges, p.is.Subnet.Ranges) ||
		!c.probes(c.before, p.was).Equal(c.probes(c.after, p.is))
}

// probes are the addresses from which health probes reach an instance.
func (c *comparer) probes(d *decide.Decider, i *estate.Interface) addr.Set {
	var all []netip.Addr
	for _, f := range d.Probers(i.Instance) {
		all = append(all, f.Private...)
	}
	return addr.Of(all...)
}

// causesAt are the causes of a change at an interface: other groups, or what the unchanged ones
// refer to there.
func (c *comparer) causesAt(p pair, attached []string, direction estate.Direction, set traffic.Set) []string {
	if len(attached) > 0 {
		return attached
	}
	a, b := p.was.Subnet.Network, p.is.Subnet.Network
	was, is := c.probes(c.before, p.was), c.probes(c.after, p.is)
	differ := was.Union(is).Minus(was.Intersect(is))
	switch {
	case direction == estate.In && !differ.IsEmpty() && set.Peers(service.All).SubsetOf(differ):
		return []string{"the balancers that probe it: " + moved(is.Minus(was), was.Minus(is))}
	case a.Answers != b.Answers:
		return []string{fmt.Sprintf("answers in %s go to %s now, and to %s before", b.Path(), portsText(b.Answers),
			portsText(a.Answers))}
	case !slices.Equal(a.Ranges, b.Ranges):
		return []string{rangesText(a, b)}
	}
	var groups []string
	for _, g := range slices.Concat(c.after.GroupsAt(p.is), c.after.GroupsOfSubnet(p.is.Subnet)) {
		if c.changed[g] {
			groups = append(groups, place(g))
		}
	}
	return []string{"the rules of " + count.Some(groups, 4)}
}

// rangesText says how the ranges of a network differ.
func rangesText(was, is *estate.Network) string {
	came, left := differing(texts(was.Ranges), texts(is.Ranges))
	return fmt.Sprintf("the ranges of %s: %s", is.Path(), nowAndThen(came, left))
}

func portsText(p estate.Ports) string {
	if p.To == 0 {
		return "1024-65535"
	}
	return fmt.Sprintf("%d-%d", p.From, p.To)
}

// fromNeighbours is what reaches an interface from the public addresses of others in its subnet:
// subnet groups don't filter that.
func fromNeighbours(d *decide.Decider, i *estate.Interface) traffic.Set {
	var sets []traffic.Set
	for _, q := range d.InSubnet(i.Subnet) {
		for _, a := range q.Public {
			for _, b := range i.Private {
				if q.Instance != i.Instance && a.Is4() == b.Is4() {
					o := d.Becomes(decide.End{Interface: q, Addr: a}, decide.End{Interface: i, Addr: b})
					sets = append(sets, traffic.Of(addr.Of(a), o.Arriving()))
				}
			}
		}
	}
	return traffic.UnionAll(sets)
}

// comeAndGo compares instances and interfaces that exist in one state only with nothing.
func (c *comparer) comeAndGo() {
	var found alike
	look := func(d *decide.Decider, kind Kind, instances []*estate.Instance,
		partner func(*estate.Interface) *estate.Interface, known func(*estate.Instance) bool,
		as func(*estate.Interface) pair) {
		for _, instance := range instances {
			for _, i := range instance.Interfaces {
				if instance.Imagined || partner(i) != nil {
					continue
				}
				word := map[Kind]string{Opens: "a new", Closes: "gone: an"}[kind]
				cause := word + " instance"
				if known(instance) {
					cause = word + " interface"
				}
				if reason := d.CantDecide(i); reason != "" {
					c.cantKnow(fmt.Sprintf("what %s lets through: %s", instance.Path(), reason))
					continue
				}
				for _, direction := range directions {
					_, admits := d.Filters(i, direction)
					if direction == estate.In {
						admits = admits.Union(fromNeighbours(d, i))
					}
					if !admits.IsEmpty() {
						found.add(Change{Kind: kind, Direction: direction, Traffic: admits, Causes: []string{cause}},
							as(i))
					}
				}
			}
		}
	}
	look(c.after, Opens, c.after.Estate().Instances,
		func(i *estate.Interface) *estate.Interface { return c.m.facesBack[i] },
		func(i *estate.Instance) bool { return c.m.instancesBack[i] != nil },
		func(i *estate.Interface) pair { return pair{is: i} })
	look(c.before, Closes, c.before.Estate().Instances,
		func(i *estate.Interface) *estate.Interface { return c.m.faces[i] },
		func(i *estate.Instance) bool { return c.m.instances[i] != nil },
		func(i *estate.Interface) pair { return pair{was: i} })
	c.tellAll(found)
}
