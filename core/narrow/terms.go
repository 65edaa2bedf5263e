package narrow

import (
	"cmp"
	"slices"
	"time"

	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Terms are rules of a subject with one reason and one end. New rules keep the terms of those that
// they replace, and what was let through on different terms is never said in one rule.
type Terms struct {
	Rules  []*estate.Rule
	Before traffic.Set // what they let through
	// own is the part of Before that belongs to these terms: that which no rule lets through for longer,
	// and no earlier terms of the subject for as long. only is the part of it that would be stopped if
	// the subject were removed.
	own, only traffic.Set
}

// Until is the end of the rules; zero means that there is none.
func (t *Terms) Until() time.Time { return t.Rules[0].Until }

func sameTerms(a, b *estate.Rule) bool {
	return a.Until.Equal(b.Until) && a.Description == b.Description && a.Stateless == b.Stateless
}

// lasts reports whether something that ends at a is there for as long as something that ends at b.
func lasts(a, b time.Time) bool { return a.IsZero() || !b.IsZero() && !a.Before(b) }

// termsOf divides the rules of a subject by their terms. What several let through belongs to those that
// end last, or else to those that let through least: they are about just that. So at every moment all
// that is needed and was let through still is.
func (n *Narrower) termsOf(s Subject) []*Terms {
	var all []*Terms
	var others []*estate.Rule
	for i := range s.Group.Rules {
		r := &s.Group.Rules[i]
		switch {
		case r.Direction != s.Direction || r.Action != estate.Admit:
		case !slices.Contains(s.Rules, r):
			others = append(others, r)
		default:
			k := slices.IndexFunc(all, func(t *Terms) bool { return sameTerms(t.Rules[0], r) })
			if k < 0 {
				k, all = len(all), append(all, &Terms{})
			}
			all[k].Rules = append(all[k].Rules, r)
		}
	}
	for _, t := range all {
		t.Before = n.trafficOf(s.Group, t.Rules)
	}
	slices.SortStableFunc(all, func(a, b *Terms) int {
		if ends := compareEnds(b.Until(), a.Until()); ends != 0 {
			return ends
		}
		return a.Before.Size().Cmp(b.Before.Size())
	})
	var earlier traffic.Set
	for _, t := range all {
		t.own = t.Before.Minus(earlier)
		t.only = t.own.Minus(n.trafficOf(s.Group, slices.DeleteFunc(slices.Clone(others),
			func(r *estate.Rule) bool { return !lasts(r.Until, t.Until()) })))
		earlier = earlier.Union(t.Before)
	}
	return all
}

// compareEnds orders ends; none comes after all others.
func compareEnds(a, b time.Time) int {
	return cmp.Or(cmp.Compare(boolRank(a.IsZero()), boolRank(b.IsZero())), a.Compare(b))
}

func boolRank(b bool) int {
	if b {
		return 1
	}
	return 0
}

// trafficOf is what some rules of a group let through together.
func (n *Narrower) trafficOf(g *estate.Group, rules []*estate.Rule) traffic.Set {
	sets := make([]traffic.Set, len(rules))
	for i, r := range rules {
		sets[i] = n.d.RuleTraffic(g, r)
	}
	return traffic.UnionAll(sets)
}

// like is the rule of the terms that a new rule for some services replaces.
func (t *Terms) like(services service.Set) *estate.Rule {
	for _, r := range t.Rules {
		if service.Of(r.Services...).Overlaps(services) {
			return r
		}
	}
	return t.Rules[0]
}
