package work

import (
	"fmt"
	"slices"
	"time"

	"isonomos/core/addr"
	"isonomos/core/compile"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/service"
	"isonomos/core/traffic"
	"isonomos/nomos"
	"isonomos/nomos/edit"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
)

// prove decides a world's expectations on a copy of the estate, since that adds made-up members.
func prove(w World) []law.Result {
	e := *w.Estate
	e.Instances = slices.Clip(slices.Clone(e.Instances))
	return law.Prove(&e, w.Expects)
}

// costs are how many rules of its cloud a group takes, by direction.
type costs map[estate.Direction]int

func (x costs) all() int { return x[estate.In] + x[estate.Out] }

// counted counts the rules of a group as they are, or will be, in its cloud: those of a definition are
// compiled.
func counted(d *decide.Decider, g *estate.Group) (costs, error) {
	made := g
	if g.Defined && !g.Existing {
		c, err := compile.Group(d, g)
		if err != nil {
			return nil, err
		}
		made = c.Group
	}
	return estimated(made), nil
}

// estimated counts the rules of a group without compiling it.
func estimated(g *estate.Group) costs {
	d := decide.Dialect(g.Account)
	return costs{estate.In: compile.GroupCost(d, g, estate.In), estate.Out: compile.GroupCost(d, g, estate.Out)}
}

// cost notes the group's rules before and after. It refuses a proposal that exceeds the quota, unless
// that takes no more rules than before.
func (c *Checked) cost(before, after costs) error {
	c.CostBefore, c.CostAfter = before[c.Direction], after[c.Direction]
	c.Quota = compile.QuotaOf(decide.Dialect(c.Group.Account), c.Group)
	over := 0
	if c.Quota.Direction > 0 && c.CostAfter > c.CostBefore {
		over = c.CostAfter - c.Quota.Direction
	}
	if c.Quota.Together > 0 && after.all() > before.all() {
		over = max(over, after.all()-c.Quota.Together)
	}
	if over <= 0 {
		return nil
	}
	return &refusal{of: []*Checked{c}, over: over, text: fmt.Sprintf("%s would take %s inward and %s outward, which "+
		"is over its quota: raise it (limit), or let lists and ranges say more (--weight)", c.Group.Path(),
		count.Of(after[estate.In], "rule", "rules"), count.Number(after[estate.Out]))}
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
		return w.mistaken(result, understood.Messages, o)
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
		if err := between(c, ruled{d: before, group: c.Group}, ruled{d: after, group: g}); err != nil {
			return err
		}
		was, err := counted(before, c.Group)
		if err != nil {
			was = estimated(c.Group)
		}
		will, err := counted(after, g)
		if err != nil {
			return refuse(c, "%s could not be expressed in its cloud any more: %v", c.Group.Path(), err)
		}
		if err := c.cost(was, will); err != nil {
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
				return &refusal{of: changedOf(result, before.Followed(g)), text: fmt.Sprintf("narrowing would make %s "+
					"let through what it does not today: %s %s", g.Path(), x.Peer, x.Service)}
			}
		}
	}
	was, is := prove(w), prove(next)
	for i := range was {
		if was[i].Holds && !is[i].Holds {
			return &refusal{of: concerned(result, was[i].Expectation), text: broken(was[i])}
		}
	}
	result.Expects = outcome(was, is)
	return nil
}

// mistaken finds the proposals whose edit alone makes a mistake in the definitions.
func (w World) mistaken(result *Result, messages []source.Message, o resolve.Options) error {
	first := onlyErrors(messages)[0]
	for i := range result.Proposals {
		c := &result.Proposals[i]
		if !c.Changed || c.Refused != "" || !c.Group.Defined {
			continue
		}
		changes := make(map[*source.File][]edit.Change)
		if err := w.edit(c, changes, make(map[string]bool), w.written()); err != nil {
			return err
		}
		edited, _, err := w.apply(changes)
		if err != nil {
			return refuse(c, "%v", err)
		}
		if alone := onlyErrors(nomos.Understand(edited, o).Messages); len(alone) > 0 {
			return refuse(c, "it can't be written: %s", alone[0].Text)
		}
	}
	return fmt.Errorf("the edited definitions have a mistake, so nothing is proposed:\n%s", first)
}

// changedOf are the changed proposals for some groups, or else all changed ones.
func changedOf(result *Result, groups []*estate.Group) []*Checked {
	var all, some []*Checked
	for i := range result.Proposals {
		c := &result.Proposals[i]
		if !c.Changed || c.Refused != "" {
			continue
		}
		if all = append(all, c); slices.Contains(groups, c.Group) {
			some = append(some, c)
		}
	}
	if len(some) > 0 {
		return some
	}
	return all
}

// A ruled is a group, with its own rules or others in their place.
type ruled struct {
	d      *decide.Decider
	group  *estate.Group
	others []estate.Rule // nil for its own
}

func (x ruled) rules() []estate.Rule {
	if x.others != nil {
		return x.others
	}
	return x.group.Rules
}

// at is what the group lets through once those rules are gone that end at a moment, or ended before.
func (x ruled) at(end time.Time, direction estate.Direction) traffic.Set {
	if end.IsZero() && x.others == nil {
		return x.d.GroupTraffic(x.group, direction)
	}
	alive := slices.DeleteFunc(slices.Clone(x.rules()),
		func(r estate.Rule) bool { return !r.Until.IsZero() && !r.Until.After(end) })
	return x.d.Supposing(x.group, alive).GroupTraffic(x.group, direction)
}

// ends are the moments at which rules end, earliest first.
func ends(groups ...ruled) []time.Time {
	var all []time.Time
	for _, g := range groups {
		for _, r := range g.rules() {
			if !r.Until.IsZero() {
				all = append(all, r.Until)
			}
		}
	}
	slices.SortFunc(all, time.Time.Compare)
	return slices.CompactFunc(all, time.Time.Equal)
}

// between checks that what a group lets through lies between what is needed and what it let through
// before, now and after each end of one of its rules. It notes what closes now.
func between(c *Checked, before, after ruled) error {
	then, now := before.at(time.Time{}, c.Direction), after.at(time.Time{}, c.Direction)
	if err := allowedAndNeeded(c, then, now, ""); err != nil {
		return err
	}
	c.After, c.Closes = now.Intersect(c.Before), then.Minus(now).Intersect(c.Before)
	for _, end := range ends(before, after) {
		if err := allowedAndNeeded(c, before.at(end, c.Direction), after.at(end, c.Direction),
			" from "+end.Format(time.DateOnly)+" on"); err != nil {
			return err
		}
	}
	return nil
}

func allowedAndNeeded(c *Checked, then, now traffic.Set, when string) error {
	if x, ok := now.Minus(then).Witness(); ok {
		return refuse(c, "narrowing %s would let through%s what is not let through today: %s %s", c.Group.Path(), when,
			x.Peer, x.Service)
	}
	if x, ok := c.Needed().Minus(now).Intersect(then).Witness(); ok {
		return refuse(c, "narrowing %s would stop%s what is needed: %s %s", c.Group.Path(), when, x.Peer, x.Service)
	}
	return nil
}

// concerned are the changed proposals for groups that an expectation is about, or else all changed
// ones.
func concerned(result *Result, x law.Expectation) []*Checked {
	var groups []*estate.Group
	for _, peer := range slices.Concat(x.From.Of, x.To.Of) {
		if peer.Kind == estate.PeerGroup {
			groups = append(groups, peer.Group)
		}
	}
	return changedOf(result, groups)
}

// broken names an expectation that would no longer hold.
func broken(x law.Result) string {
	return fmt.Sprintf("narrowing would break what is expected at %s:%d: %s", x.Origin.File, x.Origin.Line, x.Text)
}

func outcome(was, is []law.Result) Expects {
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
		before, after := ruled{d: d, group: g}, ruled{d, g, append([]estate.Rule{}, Replaced(g, by)...)}
		var wrong error
		for _, c := range by {
			if wrong = between(c, before, after); wrong == nil {
				wrong = c.cost(estimated(g), asWritten(g, by))
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

// asWritten counts the rules of a surveyed group with its new rules, as they will be if the group becomes a
// definition.
func asWritten(g *estate.Group, by []*Checked) costs {
	kept, written := *g, *g
	kept.Rules, written.Rules, written.Defined = nil, nil, true
	for i := range g.Rules {
		if !slices.ContainsFunc(by, func(c *Checked) bool { return slices.Contains(c.Rules, &g.Rules[i]) }) {
			kept.Rules = append(kept.Rules, g.Rules[i])
		}
	}
	for _, c := range by {
		for _, r := range c.New {
			written.Rules = append(written.Rules, r.Rule(c.Subject))
		}
	}
	sum := estimated(&kept)
	for direction, n := range estimated(&written) {
		sum[direction] += n
	}
	return sum
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
		result.Expects = outcome(was, is)
	}
}
