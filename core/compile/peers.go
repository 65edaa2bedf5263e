package compile

import (
	"fmt"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/dialect"
	"isonomos/core/estate"
)

// How the peers of a rule are written: what the cloud can refer to is referred to, everything else
// becomes ranges.
//
// A reference to a group means whoever is attached to it, now or later, so it may mean any address
// of its network. An exception must therefore apply to all addresses of a reference or to none of
// them.

// wayOut says what to write instead of a group with an exception.
const wayOut = "name ranges, subnets or a list"

// A namedPeer is a group or list that a rule of the cloud can refer to.
type namedPeer struct {
	peer     estate.Peer // the peer in rules of the cloud
	written  estate.Peer // the peer in the definition
	possible addr.Set    // the addresses that a group may have, or that a list has
}

// same reports whether two refer to the same thing.
func (n namedPeer) same(m namedPeer) bool {
	return n.peer.Kind == estate.PeerGroup && m.peer.Kind == estate.PeerGroup && n.peer.Group == m.peer.Group
}

// An expression is the peers of a rule: addresses and references, minus exceptions.
type expression struct {
	static   addr.Set
	named    []namedPeer
	without  addr.Set    // subtracted from all of them
	excepted []namedPeer // groups whose members are subtracted from all of them
}

// isNobody reports whether there are no peers.
func (e *expression) isNobody() bool { return e.static.IsEmpty() && len(e.named) == 0 }

// isPartial reports whether it names a group of whose members only some are meant.
func (e *expression) isPartial() bool {
	return len(e.excepted) > 0 ||
		slices.ContainsFunc(e.named,
			func(n namedPeer) bool { return n.peer.Kind == estate.PeerGroup && n.possible.Overlaps(e.without) })
}

// meets reports whether two may have an address in common.
func (e *expression) meets(x expression) bool {
	own, other := e.static, x.static
	for _, n := range e.named {
		own = own.Union(n.possible)
	}
	for _, n := range x.named {
		other = other.Union(n.possible)
	}
	return own.Overlaps(other)
}

func (c *compiler) fail(r *estate.Rule, format string, a ...any) error {
	return &Failure{c.g, r, fmt.Sprintf(format, a...)}
}

// peers divides the peers of a rule, which stands in a group or is followed there, into references
// that the cloud can make and addresses. Exceptions that are addresses are subtracted.
func (c *compiler) peers(owner *estate.Group, r *estate.Rule) (e expression, err error) {
	if e.static, e.named, err = c.parted(owner, r, r.Peers); err != nil || len(r.Except) == 0 {
		return e, err
	}
	e.without, e.excepted, err = c.parted(owner, r, r.Except)
	for _, n := range e.excepted { // what a list contains is known
		if n.peer.Kind == estate.PeerList {
			e.without = e.without.Union(n.possible)
		}
	}
	e.excepted = slices.DeleteFunc(e.excepted, func(n namedPeer) bool { return n.peer.Kind == estate.PeerList })
	e.static = e.static.Minus(e.without)
	return e, err
}

func (c *compiler) parted(owner *estate.Group, r *estate.Rule, peers []estate.Peer) (static addr.Set,
	named []namedPeer, err error) {
	sets := make([]addr.Set, 0, len(peers))
	for _, p := range peers {
		if p.Without != nil {
			set, n, err := c.partedWithout(owner, r, p)
			if err != nil {
				return static, nil, err
			}
			sets, named = append(sets, set), append(named, n...)
			continue
		}
		switch p.Kind {
		case estate.PeerSelf, estate.PeerGroup:
			set, n, err := c.group(owner, r, p)
			if err != nil {
				return static, nil, err
			}
			sets, named = append(sets, set), append(named, n...)
		case estate.PeerList:
			if set := c.d.Peers(owner, &estate.Rule{Peers: []estate.Peer{p}}, nil); !c.namesList(p) {
				sets = append(sets, set)
			} else {
				for _, l := range c.lists(p) {
					named = append(named, namedPeer{l, p, c.d.Peers(owner, &estate.Rule{Peers: []estate.Peer{l}}, nil)})
				}
			}
		default:
			sets = append(sets, c.d.Peers(owner, &estate.Rule{Peers: []estate.Peer{p}}, nil))
		}
	}
	return addr.UnionAll(sets...), named, nil
}

// partedWithout divides a peer from which something is subtracted.
func (c *compiler) partedWithout(owner *estate.Group, r *estate.Rule, p estate.Peer) (addr.Set, []namedPeer, error) {
	without := *p.Without
	p.Without = nil
	part := *r
	part.Peers, part.Except = []estate.Peer{p}, without
	e, err := c.peers(owner, &part)
	if err != nil {
		return addr.Set{}, nil, err
	}
	shut, err := c.takeAway(&part, &e)
	if err == nil && !shut.isNobody() {
		err = c.fail(r, "a rule of the cloud %s can't take part of the members of a group away (%s), as nobody "+
			"knows their addresses: %s", c.g.Account.Cloud.Name, p, wayOut)
	}
	return e.static, e.named, err
}

// onlyRanges reports whether rules of the group can refer neither to groups nor to the estate's
// lists.
func (c *compiler) onlyRanges() bool {
	return c.g.For == estate.ForSubnets && c.filter.State == dialect.StateNone
}

// group writes the members of a group as a peer: as a reference, or in clouds whose rules hold only
// ranges, as the addresses of the surveyed members. Without a survey these are unknown, and a
// reference stands in their place.
func (c *compiler) group(owner *estate.Group, r *estate.Rule, p estate.Peer) (static addr.Set, named []namedPeer,
	err error) {
	g := p.Group
	if p.Kind == estate.PeerSelf {
		g = owner
	}
	if !c.d.CanName(c.g, g) {
		return static, nil, c.fail(r, "%s", c.unnameable(g))
	}
	if c.onlyRanges() && !c.d.Estate().Taken.IsZero() {
		return c.d.Members(g).Only(p.Family()), nil, nil
	}
	possible := possible(g)
	limited := possible.Only(p.Family())
	switch {
	case limited.IsEmpty():
		return static, nil, nil
	case p.Family() != addr.Both && !limited.Equal(possible) && !c.dialect.OneFamily && !c.onlyRanges():
		return static, nil, c.fail(r, "a rule of the cloud %s can't speak of one address family of a group's "+
			"members (%s): %s", c.g.Account.Cloud.Name, p, wayOut)
	}
	as := estate.Peer{Kind: estate.PeerGroup, Group: g}
	if c.dialect.OneFamily || c.onlyRanges() {
		as.V4Only, as.V6Only = p.V4Only, p.V6Only
	}
	return static, []namedPeer{{as, p, limited}}, nil
}

// meansNobody reports whether all peers of a rule are groups whose members can't have an address of
// the family that is meant.
func (c *compiler) meansNobody(r *estate.Rule) bool {
	return !slices.ContainsFunc(r.Peers, func(p estate.Peer) bool {
		g := p.Group
		if p.Kind == estate.PeerSelf {
			g = c.g
		}
		return g == nil || !possible(g).Only(p.Family()).IsEmpty()
	})
}

// possible are the addresses that members of a group may have: those of its network.
func possible(g *estate.Group) addr.Set {
	if g.Network == nil || len(g.Network.Ranges) == 0 {
		return addr.Everyone
	}
	return addr.OfPrefixes(g.Network.Ranges...)
}

// unnameable says why the group's rules can't refer to another group.
func (c *compiler) unnameable(g *estate.Group) string {
	cloud := c.g.Account.Cloud
	if g.Account.Cloud != cloud {
		return fmt.Sprintf("%s is on the cloud %s, and rules of %s name groups of their own cloud: %s", g.Path(),
			g.Account.Cloud.Name, cloud.Name, wayOut)
	}
	where := "another network"
	if g.Network != nil {
		where = "the network " + g.Network.Path()
	}
	within := "their own network alone"
	if c.dialect.GroupsAcross == dialect.PeeredNetworks {
		within = "their own network, or of one that is peered with it both ways"
		if g.Network != nil && g.Network.Origin.InFile() && c.d.Estate().Taken.IsZero() {
			within += " (peered is a line of both networks)"
		}
	}
	return fmt.Sprintf("%s is in %s, and rules of the cloud %s (%s) can name groups of %s: %s", g.Path(), where,
		cloud.Name, c.dialect.Name, within, wayOut)
}

// namesList reports whether the cloud's rules can refer to a list instead of spelling out
// its ranges.
func (c *compiler) namesList(p estate.Peer) bool {
	if p.Family() != addr.Both && !c.dialect.OneFamily {
		return false
	}
	if entries, published := p.List.At(c.g); len(published) > 0 {
		return len(entries) == 0 && len(c.d.PublishedLists(p.List, c.g)) > 0
	}
	return !c.onlyRanges() && len(p.List.Parts) == 0 && c.dialect.OwnLists != dialect.ListsExpanded
}

// lists are the references of the cloud's rules to a list.
func (c *compiler) lists(p estate.Peer) []estate.Peer {
	var lists []estate.Peer
	for _, l := range c.d.PublishedLists(p.List, c.g) {
		as := p
		as.List = l
		lists = append(lists, as)
	}
	if len(lists) == 0 {
		return []estate.Peer{p}
	}
	return lists
}

// takeAway subtracts exceptions and earlier refusals from the peers of a rule: from addresses; from
// lists, which are then spelled out; and from groups that vanish or are not affected. What can't be
// subtracted from a group is returned, to be refused in front of the rule; in clouds without
// refusals it is an error.
func (c *compiler) takeAway(r *estate.Rule, e *expression) (shut expression, err error) {
	taken := e.without // certainly or possibly subtracted, depending on the members
	for _, x := range e.excepted {
		taken = taken.Union(x.possible)
	}
	var groups, lists []namedPeer
	for _, n := range e.named {
		switch {
		case n.peer.Kind == estate.PeerGroup:
			groups = append(groups, n)
		case n.possible.Overlaps(taken):
			e.static = e.static.Union(n.possible)
		default:
			lists = append(lists, n)
		}
	}
	e.static = e.static.Minus(e.without)
	if e.named = append(groups, lists...); c.onlyRanges() {
		return shut, nil // refused in front; a survey tells what is left of the groups
	}
	kept := groups[:0:0]
	for _, n := range groups {
		n = n.without(e.excepted)
		left := n.possible.Minus(e.without)
		if left.IsEmpty() || !left.Equal(n.possible) && left.SubsetOf(e.static) {
			continue // nobody is left, or they are among the addresses anyway
		}
		kept = append(kept, n)
		if left.Equal(n.possible) {
			continue
		}
		if !c.canShut(r) {
			return shut, c.fail(r, "a rule of the cloud %s can't take addresses away from the members of a group "+
				"(%s), as whoever joins it may have them: %s",
				c.g.Account.Cloud.Name, n.written, wayOut)
		}
		shut.static = shut.static.Union(n.possible.Intersect(e.without))
	}
	e.named = append(kept, lists...)
	for _, x := range e.excepted {
		meets := x.possible.Overlaps(e.static) ||
			slices.ContainsFunc(kept, func(n namedPeer) bool { return !n.same(x) && n.possible.Overlaps(x.possible) })
		if !meets {
			continue
		}
		if !c.canShut(r) {
			return shut, c.fail(r, "a rule of the cloud %s can't take the members of a group (%s) away from "+
				"others, as nobody knows their addresses: %s",
				c.g.Account.Cloud.Name, x.written, wayOut)
		}
		shut.named = append(shut.named, x)
	}
	return shut, nil
}

// canShut reports whether a refusal in front of a rule can do what an exception in it can't.
func (c *compiler) canShut(r *estate.Rule) bool { return c.filter.Refuses && r.Action == estate.Admit }

// without is a reference to a group, less the families that are subtracted.
func (n namedPeer) without(excepted []namedPeer) namedPeer {
	for _, x := range excepted {
		if !n.same(x) || !n.possible.Overlaps(x.possible) {
			continue
		}
		n.possible = n.possible.Minus(x.possible)
		n.peer.V4Only, n.peer.V6Only = n.possible.Only(addr.IPv6).IsEmpty(), n.possible.Only(addr.IPv4).IsEmpty()
		if n.possible.IsEmpty() {
			n.peer.V4Only, n.peer.V6Only = false, false
		}
	}
	return n
}
