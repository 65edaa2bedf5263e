package compile

import (
	"fmt"
	"slices"

	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Where the admission of one layer is enough, a subnet group that lets through less than an
// instance group inside it stops nothing. The definition is then a mistake.

// stopsNothing returns that mistake for a subnet group, or nil.
func (c *compiler) stopsNothing() error {
	if c.g.For != estate.ForSubnets || c.dialect.Layers != dialect.EitherMayAdmit {
		return nil
	}
	for _, inside := range c.d.Estate().Groups {
		if !inside.Defined || inside.Existing || inside.For != estate.ForInstances || inside.Network != c.g.Network ||
			!c.encloses(inside) {
			continue
		}
		if err := c.everyMembers(c.g, inside,
			func(d *decide.Decider) error { return c.letsLess(d, inside) }); err != nil {
			return err
		}
	}
	return nil
}

// encloses reports whether members of a group are within the subnets of this one: as surveyed, or
// if it has no members, whether they can only be there.
func (c *compiler) encloses(g *estate.Group) bool {
	within, members := false, false
	for _, i := range c.d.InterfacesOf(g) {
		if !i.Instance.Imagined {
			members = true
			within = within || slices.Contains(i.Subnet.Groups, c.g)
		}
	}
	if members {
		return within
	}
	subnets := slices.DeleteFunc(slices.Clone(g.Network.Subnets),
		func(s *estate.Subnet) bool { return !g.CanStandIn(s) })
	return len(subnets) > 0 &&
		!slices.ContainsFunc(subnets, func(s *estate.Subnet) bool { return !c.g.CoversSubnet(s) })
}

// letsLess finds what a group inside lets through and this one does not, for certain members. A
// group that follows instances lets through less only if it refuses something itself.
func (c *compiler) letsLess(d *decide.Decider, inside *estate.Group) error {
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		lets := d.GroupTraffic(inside, direction)
		if !c.g.Follows {
			if w, less := lets.Minus(d.GroupTraffic(c.g, direction)).Witness(); less {
				return c.fail(nil, "%s; write \"follow instances\" in it, or refuse that in %s",
					c.notStopped(inside, direction, w), inside.Name)
			}
			continue
		}
		var admitted traffic.Set
		for _, r := range c.d.InOrder(c.g, direction) {
			speaks := d.RuleTraffic(c.g, r)
			if r.Action == estate.Admit {
				admitted = admitted.Union(speaks)
			} else if w, less := speaks.Minus(admitted).Intersect(lets).Witness(); less {
				return c.fail(r, "%s; refuse that in %s instead", c.notStopped(inside, direction, w), inside.Name)
			}
		}
	}
	return nil
}

// notStopped says what a group inside lets through anyway.
func (c *compiler) notStopped(inside *estate.Group, direction estate.Direction, w traffic.Witness) string {
	lets, preposition := "lets in", "from"
	if direction == estate.Out {
		lets, preposition = "lets out", "to"
	}
	what := c.d.Estate().Services.Describe(service.Between(w.Service, w.Service))
	return fmt.Sprintf("it would not stop %s %s %s, which %s inside it %s: in the cloud %s (%s) an admission in "+
		"any layer is enough",
		what, preposition, w.Peer, inside.Path(), lets, c.g.Account.Cloud.Name, c.dialect.Name)
}
