package compile

import (
	"fmt"
	"strings"

	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
)

// The number of groups on an interface or subnet is limited like the number of rules.

// GroupsOnInterface is the largest number of groups on an interface of an account; 0 means no
// limit.
func GroupsOnInterface(a *estate.Account) int {
	if n := a.Limits[dialect.LimitGroupsPerInterface]; n > 0 {
		return n
	}
	return decide.Dialect(a).GroupsPerInterface
}

// Crowded finds defined groups for which an interface or subnet has no room beside the others: one
// Failure for each set of groups, with the first place. Only groups that which picks are reported.
func Crowded(e *estate.Estate, which func(*estate.Group) bool) []*Failure {
	c := crowds{which: which, told: make(map[string]bool)}
	for _, i := range e.Instances {
		for _, f := range i.Interfaces {
			c.look(f.Groups, GroupsOnInterface(i.Account), i.Account.Cloud, "an interface", i.Path())
		}
	}
	for _, n := range e.Networks {
		for _, s := range n.Subnets {
			c.look(s.Groups, decide.Dialect(n.Account).GroupsPerSubnet, n.Account.Cloud, "a subnet", s.Path())
		}
	}
	return c.failures
}

type crowds struct {
	which    func(*estate.Group) bool
	told     map[string]bool
	failures []*Failure
}

func (c *crowds) look(groups []*estate.Group, most int, cloud *estate.Cloud, what, where string) {
	if most == 0 || len(groups) <= most {
		return
	}
	var ours, names []string
	var last *estate.Group
	for _, g := range groups {
		if c.which(g) {
			last = g
			ours = append(ours, g.Path())
		}
	}
	if last == nil {
		return
	}
	for _, g := range groups {
		if g == last {
			continue
		}
		name := g.Path()
		switch {
		case g.Origin.InFile() && c.which(g):
			name += fmt.Sprintf(" (%s:%d)", g.Origin.File, g.Origin.Line)
		case !c.which(g):
			name += " (not ours)"
		}
		names = append(names, name)
	}
	key := strings.Join(append(ours, names...), " ")
	if c.told[key] {
		return
	}
	c.told[key] = true
	verb, way := "does", "let each cover others, or join their rules in one group"
	if len(names) > 1 {
		verb = "do"
	}
	switch {
	case len(ours) < len(groups) && most == 1:
		way = "detach what is not ours, or leave this out of what is covered"
	case len(ours) < len(groups):
		way = "adopt what is not ours, detach it, or leave this out of what is covered"
	}
	c.failures = append(c.failures, &Failure{last, nil, fmt.Sprintf("it covers %s, as %s %s, and %s of the cloud "+
		"%s (%s) has room for %s: %s",
		where, count.Some(names, 6), verb, what, cloud.Name, cloud.Dialect, count.Of(most, "group", "groups"), way)})
}

// SurelyCrowded finds defined groups with the same cover condition in clouds of one group for each
// interface: a mistake even if no survey is known.
func SurelyCrowded(e *estate.Estate) []*Failure {
	type place struct {
		network *estate.Network
		key     string
	}
	var failures []*Failure
	taken := make(map[place]*estate.Group)
	for _, g := range e.Groups {
		if !g.Defined || g.Existing || g.For != estate.ForInstances || GroupsOnInterface(g.Account) != 1 {
			continue
		}
		var keys, words []string
		for _, c := range g.Covers {
			for _, name := range c.Instances {
				keys, words = append(keys, name), append(words, "the instance "+name)
			}
			if c.Where != nil {
				keys, words = append(keys, fmt.Sprintf("%+v", *c.Where)), append(words, "the same instances")
			}
		}
		for i, w := range words {
			at := place{g.Network, keys[i]}
			before := taken[at]
			if before == nil || before == g {
				taken[at] = g
				continue
			}
			failures = append(failures, &Failure{g, nil, fmt.Sprintf("it covers %s, as %s (%s:%d) does, and an "+
				"interface of the cloud %s (%s) has room for 1 group: let each cover others, or join their rules "+
				"in one group",
				w, before.Path(), before.Origin.File, before.Origin.Line, g.Account.Cloud.Name,
				g.Account.Cloud.Dialect)})
			break
		}
	}
	return failures
}
