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

// Comparing compiled rules with the meaning of the definition.
//
// What a reference to a group lets through depends on the members, so each group that is referred
// to is a variable: everyone in its network is a member, or nobody. Both sides are decided in all
// combinations that can matter. Groups that occur only in admissions are tried one at a time, since
// what they open adds up. Groups that occur behind a refusal or in an exception are tried in all
// combinations.

// mostVariables is the most groups that are tried in all combinations: 2^10 of them.
const mostVariables = 10

// compare returns the room for answers, or a Failure with an example of a difference.
func (c *compiler) compare(made *estate.Group) (room map[estate.Direction]traffic.Set, err error) {
	if alone, together := c.variables(c.g, made); c.onlyRanges() && len(alone)+len(together) > 0 {
		return c.room, nil // without a survey these ranges are unknown
	}
	room = make(map[estate.Direction]traffic.Set)
	err = c.everyMembers(c.g, made, func(d *decide.Decider) error { return c.compareIn(d, made, room) })
	return room, err
}

// everyMembers calls try with a Decider for each choice of members that can make a difference
// between two groups, until it fails.
func (c *compiler) everyMembers(a, b *estate.Group, try func(*decide.Decider) error) error {
	alone, together := c.variables(a, b)
	if len(together) > mostVariables {
		return c.fail(nil, "it takes away the members of %d groups, and more than %d are not proved: put them "+
			"into one group, or name ranges", len(together), mostVariables)
	}
	if len(alone)+len(together) == 0 {
		return try(c.d)
	}
	for chosen := range 1 << len(together) {
		for k := -1; k < len(alone); k++ {
			members := make(map[*estate.Group]addr.Set, len(alone)+len(together))
			for i, g := range together {
				members[g] = addr.Set{}
				if chosen>>i&1 == 1 {
					members[g] = possible(g)
				}
			}
			for i, g := range alone {
				members[g] = addr.Set{}
				if i == k {
					members[g] = possible(g)
				}
			}
			if err := try(c.d.WithMembers(members)); err != nil {
				return err
			}
		}
	}
	return nil
}

// compareIn compares for certain members, and adds to the room for answers.
func (c *compiler) compareIn(d *decide.Decider, made *estate.Group, room map[estate.Direction]traffic.Set) error {
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		ought, kept := d.GroupTraffic(c.g, direction), d.KeptTraffic(c.g, direction)
		is, keeps := d.GroupTraffic(made, direction), d.KeptTraffic(made, direction)
		more := is.Minus(ought)
		if c.filter.State == dialect.StateNone {
			room[direction] = room[direction].Union(more.Intersect(c.room[direction]))
			more = more.Minus(c.room[direction])
		}
		if err := c.differ("let through more than the definition", direction, more); err != nil {
			return err
		}
		if err := c.differ("stop what the definition lets through", direction, ought.Minus(is)); err != nil {
			return err
		}
		if c.filter.State == dialect.StateByRule {
			if err := c.differ("keep state otherwise than the definition", direction,
				kept.Minus(keeps).Union(keeps.Minus(kept))); err != nil {
				return err
			}
		}
	}
	return nil
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
		return c.fail(c.refusedFirst[0], "a rule of the cloud %s can't take addresses away from the members of a "+
			"group, and refusing them first would %s: %s",
			c.g.Account.Cloud.Name, how, wayOut)
	}
	what := c.d.Estate().Services.Describe(service.Between(w.Service, w.Service))
	return &Failure{c.g, nil,
		fmt.Sprintf("the cloud %s would %s, for example %s %s %s", c.g.Account.Cloud.Name, how, what, preposition,
			w.Peer)}
}

// variables are the groups that the rules of two groups refer to: those that occur only in
// admissions, and the others.
func (c *compiler) variables(a, b *estate.Group) (alone, together []*estate.Group) {
	if c.onlyRanges() && !c.d.Estate().Taken.IsZero() {
		return nil, nil // the members are those of the survey
	}
	takes := make(map[*estate.Group]bool)
	var order []*estate.Group
	var note func(owner *estate.Group, peers []estate.Peer, taking bool)
	note = func(owner *estate.Group, peers []estate.Peer, taking bool) {
		for _, p := range peers {
			if p.Without != nil {
				note(owner, *p.Without, true)
			}
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
	for _, g := range []*estate.Group{a, b} {
		speaking := []*estate.Group{g}
		if g.Follows {
			speaking = append(speaking, c.d.Followed(c.g)...)
		}
		for _, owner := range speaking {
			for _, direction := range []estate.Direction{estate.In, estate.Out} {
				for _, r := range c.d.InOrder(owner, direction) {
					note(owner, r.Peers, r.Action == estate.Refuse)
					note(owner, r.Except, true)
				}
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
