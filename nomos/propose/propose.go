// Package propose carries the narrowing of rules into definitions: it finds what
// is to be narrowed, edits the files, and proves the result by deciding the
// edited definitions as a whole.
package propose

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/audit"
	"isonomos/core/compile"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/law"
	"isonomos/core/narrow"
	"isonomos/core/near"
	"isonomos/core/service"
	"isonomos/core/traffic"
	"isonomos/nomos"
	"isonomos/nomos/edit"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

// A World is definitions, the survey that they are seen on, and what both make.
type World struct {
	Definitions nomos.Definitions
	Survey      *estate.Estate // nil without one
	Estate      *estate.Estate // the definitions on the survey
	Expects     []law.Expectation
	Laws        []law.Law
	Notes       []string // where definitions and survey do not fit
}

// NewWorld puts definitions on a survey, if there is one.
func NewWorld(d nomos.Definitions, survey *estate.Estate) World {
	w := World{Definitions: d, Survey: survey, Estate: d.Estate, Expects: d.Expects, Laws: d.Laws}
	if survey != nil {
		e, rebase, notes := estate.Overlay(d.Estate, survey)
		w.Estate, w.Expects, w.Laws, w.Notes = e, law.Rebase(d.Expects, rebase), law.RebaseLaws(d.Laws, rebase), notes
	}
	return w
}

// A Result is proposals and the edited files.
type Result struct {
	Proposals []Checked
	Files     []Edited
	Expects   Expects
}

// Checked is a proposal with what was decided about it.
type Checked struct {
	narrow.Proposal
	CostBefore int // of the group in the direction, in rules of its cloud
	CostAfter  int
	Quota      int  // 0 means none
	Changed    bool // the rules differ from the old ones
}

// Expects counts the expectations that hold before and after.
type Expects struct{ All, Before, After int }

// Edited is a file with its new text.
type Edited struct {
	File *source.File
	Text string
}

// Subjects finds what a name means: a group (then all its rules that an audit
// finds to let through more than they should), or FILE:LINE of a rule.
func (w World) Subjects(name string) ([]narrow.Subject, error) {
	if file, line, ok := placeOf(name); ok {
		return w.ruleAt(name, file, line)
	}
	found := w.Estate.FindGroups(name)
	switch {
	case len(found) == 0:
		var names []string
		for _, g := range w.Estate.Groups {
			names = append(names, g.Name, g.Path())
		}
		hint := "give a group's name, account/network/group, or FILE:LINE of a rule"
		if several := near.Several(name, names, 3); len(several) > 0 {
			hint = "near are " + strings.Join(several, ", ")
			if len(several) == 1 {
				hint = strconv.Quote(several[0]) + " is near"
			}
		}
		return nil, fmt.Errorf("no group is called %q: %s", name, hint)
	case len(found) > 1:
		var paths []string
		for _, g := range found {
			paths = append(paths, g.Path())
		}
		return nil, fmt.Errorf("several groups are called %q: write %s", name, strings.Join(paths, " or "))
	}
	g := found[0]
	if !g.Defined {
		return nil, fmt.Errorf("%s is in the survey only: this version narrows groups that are defined", g.Path())
	}
	return w.findings(g), nil
}

// placeOf parts FILE:LINE.
func placeOf(name string) (file string, line int, ok bool) {
	i := strings.LastIndexByte(name, ':')
	if i <= 0 {
		return "", 0, false
	}
	line, err := strconv.Atoi(name[i+1:])
	return name[:i], line, err == nil
}

func (w World) ruleAt(name, file string, line int) ([]narrow.Subject, error) {
	var lines []string
	known := false
	for _, g := range w.Estate.Groups {
		for i := range g.Rules {
			r := &g.Rules[i]
			if !g.Defined || r.Origin.File != file && filepath.Base(r.Origin.File) != file {
				continue
			}
			known = true
			if r.Origin.Line == line {
				return []narrow.Subject{{Group: g, Direction: r.Direction, Rules: []*estate.Rule{r}}}, nil
			}
			if d := r.Origin.Line - line; d >= -3 && d <= 3 {
				lines = append(lines, strconv.Itoa(r.Origin.Line))
			}
		}
	}
	switch {
	case !known:
		return nil, fmt.Errorf("no rule is defined in a file called %s", file)
	case len(lines) > 0:
		return nil, fmt.Errorf("no rule begins at %s: rules near it begin at line %s", name, strings.Join(lines, ", "))
	}
	return nil, fmt.Errorf("no rule begins at %s", name)
}

// findings are the subjects of a group: rules with one cause belong together.
func (w World) findings(g *estate.Group) []narrow.Subject {
	found := audit.Run(decide.New(w.Estate), audit.Options{Expects: w.Expects, Laws: w.Laws, Group: g}).Findings
	var subjects []narrow.Subject
	for _, f := range found {
		if !f.Narrow || len(f.Rules) == 0 {
			continue
		}
		// Findings that share a rule are narrowed as one.
		i := slices.IndexFunc(subjects, func(s narrow.Subject) bool {
			return slices.ContainsFunc(s.Rules, func(r *estate.Rule) bool { return slices.Contains(f.Rules, r) })
		})
		if i < 0 {
			subjects = append(subjects, narrow.Subject{Group: g, Direction: f.Direction, Rules: f.Rules})
			continue
		}
		for _, r := range f.Rules {
			if !slices.Contains(subjects[i].Rules, r) {
				subjects[i].Rules = append(subjects[i].Rules, r)
			}
		}
	}
	return subjects
}

// Propose narrows all subjects, edits the definitions, and decides the edited
// ones. The error says which check failed; then nothing may be offered.
func (w World) Propose(subjects []narrow.Subject, flows *flow.Summary, o resolve.Options) (Result, error) {
	d := decide.New(w.Estate)
	var result Result
	changes := make(map[*source.File][]edit.Change)
	for _, s := range subjects {
		c := Checked{Proposal: narrow.Propose(d, s, narrow.Evidence{Flows: flows, Expects: w.Expects})}
		c.Changed = !c.After.Equal(c.Before)
		if c.Changed {
			if err := w.edit(&c, changes); err != nil {
				return Result{}, err
			}
		}
		result.Proposals = append(result.Proposals, c)
	}
	edited := make([]*source.File, len(w.Definitions.Files))
	for i, f := range w.Definitions.Files {
		edited[i] = f
		if changes[f] == nil {
			continue
		}
		text, err := edit.Apply(f, changes[f])
		if err != nil {
			return Result{}, err
		}
		edited[i] = source.NewFile(f.Name, text)
		result.Files = append(result.Files, Edited{f, text})
	}
	return result, w.check(d, &result, edited, o)
}

// edit notes the changes of files that carry a proposal out. The subject's first
// rule becomes the new rules, the others go.
func (w World) edit(c *Checked, changes map[*source.File][]edit.Change) error {
	var texts []edit.RuleText
	for _, r := range c.New {
		texts = append(texts, edit.RuleText{Services: w.Estate.Services.Describe(r.Services), Peers: r.PeerWords()})
	}
	slices.SortStableFunc(c.Rules, func(a, b *estate.Rule) int { return a.Origin.Offset - b.Origin.Offset })
	for k, r := range c.Rules {
		tree, node := w.find(r)
		if node == nil {
			return fmt.Errorf("%s:%d: the rule %q is not written in the definitions themselves, so it can't be edited", r.Origin.File, r.Origin.Line, r.Sentence(w.Estate.Services))
		}
		if r.Through != nil {
			return fmt.Errorf("%s:%d: the rule %q of %s comes through the %s, so it can't be narrowed for this group alone: change what is written at %s:%d", r.Origin.File, r.Origin.Line, r.Sentence(w.Estate.Services), c.Group.Path(), strings.TrimSpace(r.Through.Kind+" "+r.Through.Name), r.Through.Origin.File, r.Through.Origin.Line)
		}
		if other := w.sharing(c.Group, r); other != nil {
			return fmt.Errorf("%s:%d: the rule %q stands for %s too, so it can't be narrowed for %s alone: give each a rule of its own", r.Origin.File, r.Origin.Line, r.Sentence(w.Estate.Services), other.Path(), c.Group.Path())
		}
		if k > 0 {
			texts = nil
		}
		changes[tree.Source] = append(changes[tree.Source], edit.ReplaceRule(tree, node, texts)...)
	}
	return nil
}

// sharing is another group that a written rule stands for, or nil: one
// declaration can make groups in several networks.
func (w World) sharing(g *estate.Group, r *estate.Rule) *estate.Group {
	for _, other := range w.Estate.Groups {
		if other != g && other.Defined && slices.ContainsFunc(other.Rules, func(x estate.Rule) bool {
			return x.Origin.File == r.Origin.File && x.Origin.Offset == r.Origin.Offset
		}) {
			return other
		}
	}
	return nil
}

// Removal is the change of a file that takes a rule out, where it is written for
// one group alone.
func (w World) Removal(g *estate.Group, r *estate.Rule) (file string, change edit.Change, ok bool) {
	tree, node := w.find(r)
	if node == nil || r.Through != nil || w.sharing(g, r) != nil {
		return "", edit.Change{}, false
	}
	return tree.Source.Name, edit.RemoveRule(tree, node), true
}

func (w World) find(r *estate.Rule) (*syntax.File, *syntax.Rule) {
	for _, t := range w.Definitions.Trees {
		if t.Source.Name == r.Origin.File {
			return t, edit.FindRule(t, r.Origin.Offset)
		}
	}
	return nil, nil
}

// check decides the edited definitions: nothing is let through that was not
// before, all that is needed is let through, and every expectation that held holds.
func (w World) check(before *decide.Decider, result *Result, edited []*source.File, o resolve.Options) error {
	understood := nomos.Understand(edited, o)
	if source.Errors(understood.Messages) > 0 {
		return fmt.Errorf("the edited definitions have a mistake, so nothing is proposed:\n%s", understood.Messages[0])
	}
	next := NewWorld(understood, w.Survey)
	after := decide.New(next.Estate)
	for i := range result.Proposals {
		c := &result.Proposals[i]
		g := next.Estate.FindGroups(c.Group.Path())[0]
		now, then := after.GroupTraffic(g, c.Direction), before.GroupTraffic(c.Group, c.Direction)
		if w, ok := now.Minus(then).Witness(); ok {
			return fmt.Errorf("narrowing %s would let through what is not let through today: %s %s", g.Path(), w.Peer, w.Service)
		}
		if w, ok := c.Needed().Minus(now).Witness(); ok {
			return fmt.Errorf("narrowing %s would stop what is needed: %s %s", g.Path(), w.Peer, w.Service)
		}
		c.After, c.Closes = now.Intersect(c.Before), then.Minus(now).Intersect(c.Before)
		c.cost(g)
	}
	was, is := prove(w), prove(next)
	result.Expects.All = len(was)
	for i := range was {
		if was[i].Holds {
			result.Expects.Before++
		}
		if is[i].Holds {
			result.Expects.After++
		} else if was[i].Holds {
			return fmt.Errorf("narrowing would break what is expected at %s:%d: %s", was[i].Origin.File, was[i].Origin.Line, was[i].Text)
		}
	}
	return nil
}

// prove decides a world's expectations over a copy: made-up members must not stay.
func prove(w World) []law.Result {
	e := *w.Estate
	e.Instances = slices.Clip(slices.Clone(e.Instances))
	return law.Prove(&e, w.Expects)
}

func (c *Checked) cost(after *estate.Group) {
	d := decide.Dialect(after.Account)
	c.CostBefore = compile.GroupCost(d, c.Group, c.Direction)
	c.CostAfter = compile.GroupCost(d, after, c.Direction)
	c.Quota = compile.QuotaOf(d, after).Direction
}

// Example is a flow that would be stopped, if there is any: the clearest one,
// from a stranger or else from an instance, on remote administration or else on data.
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

// Compile compiles every defined group for its cloud and hands each over; it
// returns what can't be expressed. Where no survey tells of members, groups have
// made-up ones.
func (w World) Compile(take func(compile.Compiled)) []*compile.Failure {
	e := *w.Estate
	e.Instances = slices.Clip(slices.Clone(e.Instances))
	e.Imagine()
	d := decide.New(&e)
	var failures []*compile.Failure
	for _, g := range e.Groups {
		if !g.Defined || g.Existing {
			continue
		}
		made, err := compile.Group(d, g)
		var f *compile.Failure
		if errors.As(err, &f) {
			failures = append(failures, f)
			continue
		}
		take(made)
	}
	return failures
}
