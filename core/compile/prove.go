package compile

import (
	"fmt"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// How compiled rules are compared with the definition's meaning.
//
// What a group that is named lets through depends on who is a member of it. Each named
// group is a variable: an address of its network is a member or is not. Both sides are
// decided for everyone or nobody in each of them, in every combination that can matter:
// those that stand only behind admissions one by one, as what they open adds up; those that
// stand behind a refusal or an exception in all combinations.

// mostVariables bounds the groups that are tried in all combinations.
const mostVariables = 10

// compare returns the answer room, or a Failure with an example of a difference.
func (c *compiler) compare(made *estate.Group) (room traffic.Set, err error) {
	meaning := c.meaning()
	alone, together := c.variables(meaning, made)
	if len(together) > mostVariables {
		return room, &Failure{c.g, nil, fmt.Sprintf("it takes away the members of %d groups, and more than %d are not proved: put them into one group, or name ranges", len(together), mostVariables)}
	}
	if c.onlyRanges() && len(alone)+len(together) > 0 {
		return c.room[estate.In].Union(c.room[estate.Out]), nil // definitions alone don't tell these ranges: a survey does
	}
	for chosen := range 1 << len(together) {
		members := make(map[*estate.Group]addr.Set, len(alone)+len(together))
		for k, g := range together {
			members[g] = addr.Set{}
			if chosen>>k&1 == 1 {
				members[g] = possible(g)
			}
		}
		for _, g := range alone {
			members[g] = addr.Set{}
		}
		for k := -1; k < len(alone); k++ {
			if k >= 0 {
				members[alone[k]] = possible(alone[k])
			}
			d := c.d
			if len(members) > 0 {
				d = c.d.WithMembers(members)
			}
			more, err := c.compareIn(d, meaning, made)
			if err != nil {
				return room, err
			}
			room = room.Union(more)
			if k >= 0 {
				members[alone[k]] = addr.Set{}
			}
		}
	}
	return room, nil
}

// meaning is the definition itself, with those that it follows as it will follow them.
func (c *compiler) meaning() *estate.Group {
	if !c.g.Follows || c.dialect.Layers != dialect.EitherMayAdmit {
		return c.g
	}
	own := *c.g // the groups that it follows stand for themselves
	own.Follows = false
	return &own
}

// compareIn compares for certain members.
func (c *compiler) compareIn(d *decide.Decider, meaning, made *estate.Group) (room traffic.Set, err error) {
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		ought, kept := d.GroupTraffic(meaning, direction), d.KeptTraffic(meaning, direction)
		is, keeps := d.GroupTraffic(made, direction), d.KeptTraffic(made, direction)
		more := is.Minus(ought)
		if c.filter.State == dialect.StateNone {
			room = room.Union(more.Intersect(c.room[direction]))
			more = more.Minus(c.room[direction])
		}
		if err := c.differ("let through more than the definition", direction, more); err != nil {
			return room, err
		}
		if err := c.differ("stop what the definition lets through", direction, ought.Minus(is)); err != nil {
			return room, err
		}
		if c.filter.State == dialect.StateByRule {
			if err := c.differ("keep state otherwise than the definition", direction, kept.Minus(keeps).Union(keeps.Minus(kept))); err != nil {
				return room, err
			}
		}
	}
	return room, nil
}

func (c *compiler) differ(how string, direction estate.Direction, set traffic.Set) error {
	w, ok := set.Witness()
	if !ok {
		return nil
	}
	preposition := "from"
	if direction == estate.Out {
		preposition = "to"
	}
	if len(c.refusedFirst) > 0 {
		return c.fail(c.refusedFirst[0], "a rule of the cloud %s can't take addresses away from the members of a group, and refusing them first would %s: %s",
			c.g.Account.Cloud.Name, how, wayOut)
	}
	what := c.d.Estate().Services.Describe(service.Between(w.Service, w.Service))
	return &Failure{c.g, nil, fmt.Sprintf("the cloud %s would %s, for example %s %s %s", c.g.Account.Cloud.Name, how, what, preposition, w.Peer)}
}

// variables are the groups that are named on either side: those that stand only behind
// admissions, and those that something is taken away by.
func (c *compiler) variables(meaning, made *estate.Group) (alone, together []*estate.Group) {
	if c.onlyRanges() && !c.d.Estate().Taken.IsZero() {
		return nil, nil // the members are those of the survey
	}
	takes := make(map[*estate.Group]bool)
	var order []*estate.Group
	note := func(owner *estate.Group, peers []estate.Peer, taking bool) {
		for _, p := range peers {
			g := p.Group
			if p.Kind == estate.PeerSelf {
				g = owner
			} else if p.Kind != estate.PeerGroup {
				continue
			}
			if _, known := takes[g]; !known {
				order = append(order, g)
			}
			takes[g] = takes[g] || taking
		}
	}
	all := func(owner *estate.Group, rules []*estate.Rule) {
		for _, r := range rules {
			note(owner, r.Peers, r.Action == estate.Refuse)
			note(owner, r.Except, true)
		}
	}
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		all(c.g, c.d.InOrder(meaning, direction))
		all(c.g, c.d.InOrder(made, direction))
		if meaning.Follows {
			for _, f := range c.d.Followed(c.g) {
				all(f, c.d.InOrder(f, direction))
			}
		}
	}
	for _, g := range order {
		if takes[g] {
			together = append(together, g)
		} else {
			alone = append(alone, g)
		}
	}
	return alone, slices.Clip(together)
}
