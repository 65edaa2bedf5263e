package decide

import (
	"fmt"
	"slices"
	"strings"

	"isonomos/core/estate"
)

// What a Decider is told when the estate that it decides over changes by a step.
// All else that changes in the estate needs a new Decider.

// Rewrite gives a group of the estate other rules.
func (d *Decider) Rewrite(g *estate.Group, rules []estate.Rule) {
	g.Rules = rules
	delete(d.rules, ruleKey{g, estate.In})
	delete(d.rules, ruleKey{g, estate.Out})
	d.unlearn()
}

// unlearn drops what depends on rules and on what is attached where.
func (d *Decider) unlearn() {
	clear(d.handed)
	clear(d.targets)
	clear(d.naming)
}

// Refill gives a list of the estate other entries. Who is a stranger is not worked out anew.
func (d *Decider) Refill(l *estate.List, entries []estate.Entry) {
	l.Entries = entries
	delete(d.lists, l)
	d.unlearn()
}

// Attach gives an interface other groups, and returns those that gain or lose
// an interface by it: also a default group that is attached where nothing is attached.
func (d *Decider) Attach(i *estate.Interface, groups []*estate.Group) []*estate.Group {
	was := d.GroupsAt(i)
	i.Groups = groups
	return d.moved(i, was, d.GroupsAt(i))
}

// AttachToSubnet gives a subnet other groups, and returns those that gain or lose it.
func (d *Decider) AttachToSubnet(s *estate.Subnet, groups []*estate.Group) []*estate.Group {
	was := d.GroupsOfSubnet(s)
	s.Groups = groups
	now := d.GroupsOfSubnet(s)
	if len(groups) == 0 && len(now) == 1 && d.builtIn[s.Network] == nil && now[0].BuiltIn && d.subDefault[s.Network] == nil {
		d.builtIn[s.Network] = now[0] // the built-in list, once for the whole network
	}
	for _, i := range d.bySubnet[s] {
		d.moved(i, was, now)
	}
	return exclusive(was, now)
}

// moved notes that an interface is under other groups.
func (d *Decider) moved(i *estate.Interface, was, now []*estate.Group) []*estate.Group {
	d.unlearn()
	for _, g := range was {
		if !slices.Contains(now, g) {
			d.attachedAt[g] = slices.DeleteFunc(slices.Clone(d.attachedAt[g]), func(x *estate.Interface) bool { return x == i })
			delete(d.members, g)
		}
	}
	for _, g := range now {
		if !slices.Contains(was, g) {
			d.attachedAt[g] = append(slices.Clip(d.attachedAt[g]), i)
			delete(d.members, g)
		}
	}
	return exclusive(was, now)
}

// exclusive are the groups that are in one of two lists only.
func exclusive(a, b []*estate.Group) []*estate.Group {
	var only []*estate.Group
	for _, g := range a {
		if !slices.Contains(b, g) {
			only = append(only, g)
		}
	}
	for _, g := range b {
		if !slices.Contains(a, g) {
			only = append(only, g)
		}
	}
	return only
}

// FilterClass names what an interface has in common with those at which the filters
// let the same through (FilterTraffic).
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
