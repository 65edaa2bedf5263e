package work

import (
	"fmt"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/compile"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/service"
	"isonomos/core/traffic"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
)

// prove decides a world's expectations on a copy of the estate, since that adds made-up members.
func prove(w World) []law.Result {
	e := *w.Estate
	e.Instances = slices.Clip(slices.Clone(e.Instances))
	return law.Prove(&e, w.Expects)
}

// cost counts the group's rules before and after. It refuses a proposal that exceeds the quota,
// unless the group takes no more rules than before.
func (c *Checked) cost(after *estate.Group) error {
	d := decide.Dialect(after.Account)
	c.CostBefore = compile.GroupCost(d, c.Group, c.Direction)
	c.CostAfter = compile.GroupCost(d, after, c.Direction)
	quota := compile.QuotaOf(d, after)
	c.Quota = quota.Direction
	if in, out := compile.GroupCost(d, after, estate.In), compile.GroupCost(d, after,
		estate.Out); c.CostAfter > c.CostBefore && quota.Over(in, out) {
		return refuse(c, "%s would take %s inward and %s outward, which is over its quota: raise it (limit), or "+
			"let lists and ranges say more (--weight)", c.Group.Path(), count.Of(in, "rule", "rules"),
			count.Number(out))
	}
	return nil
}

// Example is the clearest flow that a proposal stops: of a stranger or else an instance, on remote
// administration or else on data.
func (c *Checked) Example(d *decide.Decider) (traffic.Witness, bool) {
	set := c.Closes
	for _, peers := range []addr.Set{d.Strangers(), d.OwnAddresses().Minus(d.Members(c.Group))} {
		if part := set.WithPeers(peers); !part.IsEmpty() {
			set = part
			break
		}
	}
	for _, class := range []string{service.ClassAdmin, service.ClassData} {
		services, _ := d.Estate().Services.Class(class)
		if part := set.OnServices(services); !part.IsEmpty() {
			set = part
			break
		}
	}
	return set.Witness()
}

// placeOfGroup identifies a group in two states of an estate.
func placeOfGroup(g *estate.Group) string { return g.Path() + string(g.For) }

func byPlace(e *estate.Estate) map[string]*estate.Group {
	groups := make(map[string]*estate.Group, len(e.Groups))
	for _, g := range e.Groups {
		groups[placeOfGroup(g)] = g
	}
	return groups
}

// check decides the edited definitions: they must let nothing through that was not let through
// before, and everything that is needed.
func (w World) check(before *decide.Decider, result *Result, edited []*source.File, o resolve.Options) error {
	understood := nomos.Understand(edited, o)
	if source.Errors(understood.Messages) > 0 {
		return fmt.Errorf("the edited definitions have a mistake, so nothing is proposed:\n%s", understood.Messages[0])
	}
	next := NewWorld(understood, w.Survey)
	after := decide.New(next.Estate)
	groups := byPlace(next.Estate)
	for i := range result.Proposals {
		c := &result.Proposals[i]
		if !c.Changed || c.Refused != "" || !c.Group.Defined {
			continue
		}
		g := groups[placeOfGroup(c.Group)]
		if g == nil {
			return refuse(c, "%s is not there any more in the edited definitions", c.Group.Path())
		}
		now, then := after.GroupTraffic(g, c.Direction), before.GroupTraffic(c.Group, c.Direction)
		if err := between(c, now, then); err != nil {
			return err
		}
		if err := c.cost(g); err != nil {
			return err
		}
	}
	// Groups that follow other groups, or refer to them, must not open either.
	for _, g := range w.Estate.Groups {
		then := groups[placeOfGroup(g)]
		for _, direction := range []estate.Direction{estate.In, estate.Out} {
			if then == nil || !g.Follows {
				continue
			}
			if x, ok := after.GroupTraffic(then, direction).Minus(before.GroupTraffic(g, direction)).Witness(); ok {
				return fmt.Errorf("narrowing would make %s let through what it does not today: %s %s", g.Path(),
					x.Peer, x.Service)
			}
		}
	}
	was, is := prove(w), prove(next)
	for i := range was {
		if was[i].Holds && !is[i].Holds {
			return &refusal{concerned(result, was[i].Expectation), broken(was[i])}
		}
	}
	result.Expects = counted(was, is)
	return nil
}

// between checks that what a group lets through lies between what is needed and what it let through
// before. It notes what closes.
func between(c *Checked, now, then traffic.Set) error {
	if x, ok := now.Minus(then).Witness(); ok {
		return refuse(c, "narrowing %s would let through what is not let through today: %s %s", c.Group.Path(),
			x.Peer, x.Service)
	}
	if x, ok := c.Needed().Minus(now).Intersect(then).Witness(); ok {
		return refuse(c, "narrowing %s would stop what is needed: %s %s", c.Group.Path(), x.Peer, x.Service)
	}
	c.After, c.Closes = now.Intersect(c.Before), then.Minus(now).Intersect(c.Before)
	return nil
}

// concerned are the changed proposals for groups that an expectation is about, or else all changed
// ones.
func concerned(result *Result, x law.Expectation) []*Checked {
	var all, some []*Checked
	for i := range result.Proposals {
		c := &result.Proposals[i]
		if !c.Changed || c.Refused != "" {
			continue
		}
		all = append(all, c)
		for _, peer := range slices.Concat(x.From.Of, x.To.Of) {
			if peer.Kind == estate.PeerGroup && peer.Group == c.Group {
				some = append(some, c)
				break
			}
		}
	}
	if len(some) > 0 {
		return some
	}
	return all
}

// broken names an expectation that would no longer hold.
func broken(x law.Result) string {
	return fmt.Sprintf("narrowing would break what is expected at %s:%d: %s", x.Origin.File, x.Origin.Line, x.Text)
}

func counted(was, is []law.Result) Expects {
	e := Expects{All: len(was)}
	for i := range was {
		if was[i].Holds {
			e.Before++
		}
		if is[i].Holds {
			e.After++
		}
		if is[i].Undecided {
			e.Unsure++
		}
	}
	return e
}

// checkSurveyed decides surveyed groups with their new rules: each proposal by itself, and then all
// proposals of a group together.
func checkSurveyed(d *decide.Decider, all []Checked) {
	of := make(map[*estate.Group][]*Checked)
	var order []*estate.Group
	for i := range all {
		c := &all[i]
		if !c.Changed || c.Refused != "" || c.Group.Defined {
			continue
		}
		if !decide.KeepsState(c.Group, c.Rules[0]) {
			c.Refused = "this filter keeps no state: its rules let answers back as well, of which flows do not " +
				"tell. Adopt the group, and narrow its definition"
			continue
		}
		if of[c.Group] == nil {
			order = append(order, c.Group)
		}
		of[c.Group] = append(of[c.Group], c)
	}
	for _, g := range order {
		decideTogether(d, g, of[g])
	}
}

// decideTogether checks the proposals for one group, and refuses those that fail.
func decideTogether(d *decide.Decider, g *estate.Group, by []*Checked) {
	for len(by) > 0 {
		after := *g
		after.Rules = Replaced(g, by)
		then := d.Supposing(g, after.Rules)
		var wrong error
		for _, c := range by {
			if wrong = between(c, then.GroupTraffic(g, c.Direction), d.GroupTraffic(g, c.Direction)); wrong == nil {
				wrong = c.cost(&after)
			}
			if wrong != nil {
				c.Refused = wrong.Error()
				break
			}
		}
		if wrong == nil {
			return
		}
		by = slices.DeleteFunc(by, func(c *Checked) bool { return c.Refused != "" })
	}
}

// Replaced are the rules of a group with those of proposals in place of their subjects'.
func Replaced(g *estate.Group, by []*Checked) []estate.Rule {
	var rules []estate.Rule
	for i := range g.Rules {
		r := &g.Rules[i]
		k := slices.IndexFunc(by, func(c *Checked) bool { return slices.Contains(c.Rules, r) })
		if k < 0 {
			rules = append(rules, *r)
			continue
		}
		if r != by[k].Rules[0] {
			continue
		}
		for _, x := range by[k].New {
			rules = append(rules, x.Rule(by[k].Subject))
		}
	}
	return rules
}

// checkExpects proves the expectations with the new rules of surveyed groups. Those of defined
// groups are proved with the edited definitions.
func (w World) checkExpects(result *Result) {
	if len(w.Expects) == 0 {
		return
	}
	changed := make(map[*estate.Group][]*Checked)
	for i := range result.Proposals {
		if c := &result.Proposals[i]; c.Changed && c.Refused == "" && !c.Group.Defined {
			changed[c.Group] = append(changed[c.Group], c)
		}
	}
	if len(changed) == 0 {
		return
	}
	was := prove(w)
	held := make(map[*estate.Group][]estate.Rule)
	for g, by := range changed {
		held[g] = g.Rules
		g.Rules = Replaced(g, by)
	}
	is := prove(w)
	for g, rules := range held {
		g.Rules = rules
	}
	for i := range was {
		if was[i].Holds && !is[i].Holds {
			for _, c := range concerned(result, was[i].Expectation) {
				c.Refused = broken(was[i])
			}
		}
	}
	if len(result.Files) == 0 {
		result.Expects = counted(was, is)
	}
}
