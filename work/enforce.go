package work

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"isonomos/core/change"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/shut"
	"isonomos/enact"
	"isonomos/nomos"
)

// A breaching is what is too much in a group by laws that are enforced.
type breaching struct {
	group *estate.Group // as found, with the names of the definitions
	much  shut.TooMuch
	whole bool // its rules may go as a whole
	laws  []string
	in    *decide.Decider // in which passes open nothing in this group
}

// breaching finds what breaches the laws that are enforced by now, in all groups of an account or some of them.
func (k Keeper) breaching(e *estate.Estate, enforces func(law string, g *estate.Group) bool,
	only func(id string) bool) []*breaching {
	defs := k.Decided.Definitions
	if enforces == nil || !slices.ContainsFunc(defs.Laws, func(l law.Law) bool { return l.Enforced != nil }) {
		return nil
	}
	found, rebase := estate.AsFound(k.Decided.part(k.Account), e, k.Decided.Knows.Has)
	d := decide.New(found)
	var all []*breaching
	for _, g := range slices.Concat(found.Groups, d.ImpliedGroups()) {
		if g.Account.Name != k.Account || g.Absent || only != nil && !only(g.ID) {
			continue
		}
		b := &breaching{group: g, much: make(shut.TooMuch), in: withoutPasses(d, g)}
		for _, l := range law.RebaseLaws(defs.Laws, rebase) {
			if l.Enforced == nil || !enforces(l.Name, g) {
				continue
			}
			exemptions, _ := k.Decided.exemptions(l, g, k.Now())
			for _, x := range law.BreachesBut(b.in, l, g, exemptions, k.Now()) {
				if x.Lacks != "" || x.Traffic.IsEmpty() {
					continue
				}
				b.much[x.Direction] = b.much[x.Direction].Union(x.Traffic)
				b.whole = b.whole || l.Enforced.Whole
				if !slices.Contains(b.laws, l.Name) {
					b.laws = append(b.laws, l.Name)
				}
			}
		}
		if !b.much.IsEmpty() {
			all = append(all, b)
		}
	}
	return all
}

// less are the rules of the group without what is too much.
func (b *breaching) less() ([]estate.Rule, error) {
	have := slices.DeleteFunc(slices.Clone(b.group.Rules), isPass)
	return shut.RulesOf(b.in, b.group, have, b.much, b.whole)
}

// left says why a law goes on to be breached in the group.
func (b *breaching) left(why string) string {
	return fmt.Sprintf("the law %s is not enforced there%s", strings.Join(b.laws, ", "), why)
}

// withoutEnforced are the rules of groups as they were decided, where laws that are enforced take something out of
// them: that is not put back.
func (p *puttingBack) withoutEnforced(then *estate.Estate) map[string][]json.RawMessage {
	rules := make(map[string][]json.RawMessage)
	for _, b := range p.breaching(then, func(law string, _ *estate.Group) bool { return p.may.Agreed(law) },
		func(id string) bool {
			return p.decided.Has(p.Account, "group", id)
		}) {
		if less, err := b.less(); err == nil {
			rules[b.group.ID] = linesOfRules(b.group, less)
		}
	}
	return rules
}

// toEnforce finds what breaches laws that are enforced, and how exactly that is shut. It is done only as far as every
// expectation that something can be reached goes on to hold.
func (k Keeper) toEnforce(surveyed *estate.Estate, may May) (*keeping, error) {
	x := newKeeping()
	rules := make(map[string][]json.RawMessage)
	by := make(map[string]*breaching)
	for _, b := range k.breaching(surveyed, may.Enforces, nil) {
		if b.group.ID == "" {
			x.left[b.group.Path()] = b.left(": its cloud has made it, and it can't be changed")
			continue
		}
		if why := may.Failed(b.group.ID, false); why != "" {
			x.left[b.group.Path()] = b.left(": " + why)
			continue
		}
		less, err := b.less()
		var inexact *shut.InexactError
		if errors.As(err, &inexact) {
			x.left[b.group.Path()] = b.left(": " + err.Error())
			continue
		}
		if err != nil {
			return x, err
		}
		rules[b.group.ID], by[b.group.ID] = linesOfRules(b.group, less), b
	}
	if len(rules) == 0 {
		return x, nil
	}
	then, err := k.enforced(surveyed, rules)
	if err != nil {
		return x, err
	}
	if text := k.fails(surveyed, then); text != "" {
		for _, id := range slices.Sorted(maps.Keys(rules)) { // those that do no harm alone
			alone, err := k.enforced(surveyed, map[string][]json.RawMessage{id: rules[id]})
			if err != nil {
				return x, err
			}
			if text := k.fails(surveyed, alone); text != "" {
				x.left[by[id].group.Path()] = by[id].left(", since this would hold no longer: " + text)
				delete(rules, id)
			}
		}
		if then, err = k.enforced(surveyed, rules); err != nil {
			return x, err
		}
		if text := k.fails(surveyed, then); text != "" {
			for id := range rules {
				x.left[by[id].group.Path()] = by[id].left(
					", since with all that it shuts this would hold no longer: " + text)
			}
			return x, nil
		}
	}
	for id := range rules {
		x.shuts[by[id].group.Path()], x.places[id] = true, by[id].group.Path()
		for _, l := range by[id].laws {
			if !slices.Contains(x.laws, l) {
				x.laws = append(x.laws, l)
			}
		}
	}
	if len(rules) == 0 {
		return x, nil
	}
	slices.Sort(x.laws)
	x.aim = change.NewRepeal(k.Decided.Definitions.Estate.Name, surveyed, then,
		func(_, kind, id string) bool { return kind == "group" && rules[id] != nil })
	return x.planned(k)
}

// enforced is a survey in which some groups have other rules.
func (k Keeper) enforced(surveyed *estate.Estate, rules map[string][]json.RawMessage) (*estate.Estate, error) {
	none := &enact.Decided{}
	e, err := none.On(surveyed, enact.Restore{Account: k.Account, Pick: func(string, string) bool { return false },
		Rules: rules})
	if err != nil {
		return nil, refused("what a law leaves can't be put together: %w", err)
	}
	PassesOf(k.Decided.part(k.Account), e, k.Decided.Knows.Has, k.Decided.Passes, k.Now())
	return e, nil
}

// fails is an expectation that something can be reached, which holds before and not after; empty if there is none.
func (k Keeper) fails(before, after *estate.Estate) string {
	defs := k.Decided.Definitions
	var can []law.Expectation
	for _, x := range defs.Expects {
		if x.Can || x.Only {
			can = append(can, x)
		}
	}
	if len(can) == 0 {
		return ""
	}
	prove := func(e *estate.Estate) []law.Result {
		found, rebase := estate.AsFound(defs.Estate, e, k.Decided.Knows.Has)
		return law.Prove(seen(found), law.Rebase(can, rebase))
	}
	then := prove(after)
	for i, was := range prove(before) {
		if was.Holds && !then[i].Holds {
			return was.Text
		}
	}
	return ""
}

// Forbidden says what of that which undoing a run brings back breaches a law that is enforced, and is covered by no
// exemption; it is empty where nothing does, and for runs that enforced nothing.
func Forbidden(p *enact.Past, then *estate.Estate, d nomos.Definitions, now time.Time) string {
	if p.Draft.Upholds == nil {
		return ""
	}
	touched := make(map[string]bool)
	for _, o := range p.Draft.Objects {
		touched[o.ID] = true
	}
	for _, account := range p.Draft.Changes() {
		k := Keeper{Account: account, Decided: &Decided{Definitions: d}, Now: func() time.Time { return now }}
		for _, b := range k.breaching(then, func(string, *estate.Group) bool { return true },
			func(id string) bool { return touched[id] }) {
			return fmt.Sprintf("%s by %s", strings.Join(b.laws, ", "), b.group.Path())
		}
	}
	return ""
}
