// Package work is what the program does, without flags, terminal or format: it puts definitions on
// surveys, audits, compares, narrows and adopts, surveys clouds, drafts changes and carries them
// out. The package cli calls it and hands the results to render.
package work

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"isonomos/core/audit"
	"isonomos/core/change"
	"isonomos/core/compile"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/narrow"
	"isonomos/core/near"
	"isonomos/core/pass"
	"isonomos/nomos"
)

// A World is definitions, the survey on which they are seen, and the two together.
type World struct {
	Definitions nomos.Definitions
	Survey      *estate.Estate // nil if there is none
	Estate      *estate.Estate // the definitions on the survey
	Expects     []law.Expectation
	Laws        []law.Law
	Notes       []string      // where definitions and survey don't match
	Passes      []*pass.Found // that stand in the survey
}

// NewWorld puts definitions on a survey, if there is one.
func NewWorld(d nomos.Definitions, survey *estate.Estate) World {
	w := World{Definitions: d, Survey: survey, Estate: d.Estate, Expects: d.Expects, Laws: d.Laws}
	if survey != nil {
		e, rebase, notes := estate.Overlay(d.Estate, survey, nil)
		if slices.ContainsFunc(d.Estate.Groups, func(g *estate.Group) bool { return !g.Existing }) {
			change.WithoutOrphans(e, d.Estate.Name)
		}
		w.Estate, w.Expects, w.Laws, w.Notes = e, law.Rebase(d.Expects, rebase), law.RebaseLaws(d.Laws, rebase), notes
	}
	return w
}

// Subjects finds the rules that a name means: all rules of a group that an audit finds to let
// through more than they should, or FILE:LINE for a single rule.
func (w World) Subjects(name string) ([]narrow.Subject, error) {
	if file, line, ok := placeOf(name); ok {
		return w.ruleAt(name, file, line)
	}
	g, err := w.Group(name)
	if err != nil {
		return nil, err
	}
	return w.FindingsOf(g), nil
}

// Group finds the one group that a name means.
func (w World) Group(name string) (*estate.Group, error) {
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
	return found[0], nil
}

// placeOf splits FILE:LINE.
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
			if r.Origin.File == "" || r.Origin.File != file && filepath.Base(r.Origin.File) != file {
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
		return nil, fmt.Errorf("no rule stands in a file called %s", file)
	case len(lines) > 0:
		return nil, fmt.Errorf("no rule begins at %s: rules near it begin at line %s", name, strings.Join(lines, ", "))
	}
	return nil, fmt.Errorf("no rule begins at %s", name)
}

// FindingsOf are what an audit finds in a group, as subjects.
func (w World) FindingsOf(g *estate.Group) []narrow.Subject {
	return SubjectsOf(audit.Run(decide.New(w.Estate),
		audit.Options{Expects: w.Expects, Laws: w.Laws, Group: g}).Findings)
}

// SubjectsOf are the subjects of findings, in their order: rules that let through more than they
// should. Rules with one cause are one subject.
func SubjectsOf(found []audit.Finding) []narrow.Subject {
	var subjects []narrow.Subject
	at := make(map[*estate.Rule]int) // the subject that each rule belongs to
	for _, f := range found {
		if !f.Narrow || len(f.Rules) == 0 || f.Group == nil || f.Exemption != nil {
			continue
		}
		// Findings with a rule in common are narrowed as one.
		i := -1
		for _, r := range f.Rules {
			if k, ok := at[r]; ok {
				i = k
				break
			}
		}
		if i < 0 {
			i = len(subjects)
			subjects = append(subjects, narrow.Subject{Group: f.Group, Direction: f.Direction})
		}
		for _, r := range f.Rules {
			if _, ok := at[r]; !ok && r.Action == estate.Admit && !r.BuiltIn {
				at[r] = i
				subjects[i].Rules = append(subjects[i].Rules, r)
			}
		}
	}
	subjects = slices.DeleteFunc(subjects, func(s narrow.Subject) bool { return len(s.Rules) == 0 })
	return subjects
}

// Compile compiles every defined group for its cloud and calls take for each. It returns what can't
// be expressed. Without a survey groups get made-up members, so that others can follow them.
func (w World) Compile(take func(compile.Compiled)) []*compile.Failure {
	e := *w.Estate
	if w.Survey == nil {
		e.Instances = slices.Clip(slices.Clone(e.Instances))
		e.Imagine()
	}
	d := decide.New(&e)
	failures := compile.Crowded(&e, func(g *estate.Group) bool { return g.Defined && !g.Existing })
	if w.Survey == nil {
		failures = append(failures, compile.SurelyCrowded(&e)...)
	}
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
