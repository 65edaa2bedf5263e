package decide

import (
	"slices"

	"isonomos/core/estate"
)

// A Moving is a Decider over an estate that goes on from step to step: it is told of every
// change by the methods below, makes the change in the estate itself, and forgets what it
// had worked out from what is no longer so. All else that changes in the estate needs a
// new one. It is for one goroutine, and the estate must be nobody else's meanwhile.
type Moving struct{ *Decider }

// NewMoving makes a Moving, in time linear in the size of the estate.
func NewMoving(e *estate.Estate) Moving { return Moving{New(e)} }

// Fork is a Decider over the estate as it stands now. It must not be used after the next change.
func (d Moving) Fork() *Decider { return New(d.estate) }

// Rewrite replaces the rules of a group.
func (d Moving) Rewrite(g *estate.Group, rules []estate.Rule) {
	g.Rules = rules
	delete(d.rules, ruleKey{g, estate.In})
	delete(d.rules, ruleKey{g, estate.Out})
	d.unlearn()
}

// unlearn drops what depends on rules and attachments.
func (d Moving) unlearn() {
	clear(d.handed)
	clear(d.targets)
	clear(d.naming)
	clear(d.classes)
}

// Refill replaces the entries of a list. Who is a stranger is not worked out anew.
func (d Moving) Refill(l *estate.List, entries []estate.Entry) {
	l.Entries = entries
	delete(d.lists, l)
	d.unlearn()
}

// Attach replaces the groups of an interface. It returns the groups that gain or lose the
// interface, including a default group that filters where none is attached.
func (d Moving) Attach(i *estate.Interface, groups []*estate.Group) []*estate.Group {
	was := d.GroupsAt(i)
	i.Groups = groups
	return d.moved(i, was, d.GroupsAt(i))
}

// AttachToSubnet replaces the groups of a subnet. It returns the groups that gain or lose the
// subnet.
func (d Moving) AttachToSubnet(s *estate.Subnet, groups []*estate.Group) []*estate.Group {
	was := d.GroupsOfSubnet(s)
	s.Groups = groups
	now := d.GroupsOfSubnet(s)
	if len(groups) == 0 && len(now) == 1 && d.builtIn[s.Network] == nil && now[0].BuiltIn &&
		d.subDefault[s.Network] == nil {
		d.builtIn[s.Network] = now[0] // the network's one default list
	}
	for _, i := range d.bySubnet[s] {
		d.moved(i, was, now)
	}
	return exclusive(was, now)
}

// moved notes that other groups filter at an interface, and returns those that gain or lose it.
func (d Moving) moved(i *estate.Interface, was, now []*estate.Group) []*estate.Group {
	d.unlearn()
	for _, g := range was {
		if !slices.Contains(now, g) {
			d.attachedAt[g] = slices.DeleteFunc(slices.Clone(d.attachedAt[g]),
				func(x *estate.Interface) bool { return x == i })
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

// exclusive are the groups that are in only one of two lists.
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
