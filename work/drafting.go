package work

import (
	"fmt"
	"slices"

	"isonomos/core/audit"
	"isonomos/core/change"
	"isonomos/core/compile"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/traffic"
	"isonomos/enact"
	"isonomos/words"
)

// The words about a change that are kept in its draft.

// draftTraffic puts a difference into words. Answers that no longer come back count as closing,
// those that come back now as opening.
func draftTraffic(e *estate.Estate, d change.Difference) enact.Traffic {
	t := enact.Traffic{Opens: []enact.Shift{}, Closes: []enact.Shift{}}
	for i := range d.Changes {
		c := &d.Changes[i]
		x := enact.Shift{Direction: string(c.Direction), Traffic: words.Traffic(e, c.Traffic, c.Direction),
			Instances: append([]string{}, c.Instances...), Rules: append([]string{}, c.Causes...)}
		if text := words.Answers(c); text != "" {
			x.Traffic += ": " + text
		}
		if c.Group != nil {
			x.Group = c.Place()
		}
		if c.Kind == change.Opens || c.Kind == change.Regained {
			x.Rules = append(x.Rules, c.New...)
		} else {
			x.Rules = append(x.Rules, c.Gone...)
		}
		if x.Example = words.Example(c); c.Example != nil {
			x.Example = fmt.Sprintf("%s → %s %s", c.Example.From, c.Example.To, c.Example.Service)
		}
		if c.Kind == change.Opens || c.Kind == change.Regained {
			t.Opens = append(t.Opens, x)
		} else {
			t.Closes = append(t.Closes, x)
		}
	}
	return t
}

// draftWords are the words for some traffic of a draft.
func draftWords(e *estate.Estate) enact.Words {
	return func(set traffic.Set, direction estate.Direction) string { return words.Traffic(e, set, direction) }
}

// draftQuotas are the numbers of rules, before and after, of groups for which it changes.
func draftQuotas(aim *change.Aim) []enact.Quota {
	before := make(map[string]*estate.Group)
	for _, g := range aim.Now.Groups {
		before[g.Path()+string(g.For)] = g
	}
	list := []enact.Quota{}
	for _, g := range aim.Then.Groups {
		dl, quota := decide.Dialect(g.Account), compile.QuotaOf(decide.Dialect(g.Account), g)
		count := func(g *estate.Group, d estate.Direction) int {
			if g == nil {
				return 0
			}
			own := *g // without passes, which come and go
			own.Rules = slices.DeleteFunc(slices.Clone(g.Rules), func(r estate.Rule) bool { return r.Pass != "" })
			g = &own
			return compile.GroupCost(dl, g, d)
		}
		was := before[g.Path()+string(g.For)]
		in, out := [2]int{count(was, estate.In), count(g, estate.In)},
			[2]int{count(was, estate.Out), count(g, estate.Out)}
		if in[0] == in[1] && out[0] == out[1] {
			continue
		}
		if quota.Direction == 0 {
			list = append(list, enact.Quota{Group: g.Path(), Before: in[0] + out[0], After: in[1] + out[1],
				Most: quota.Together, Per: "group"})
			continue
		}
		for _, x := range []struct {
			n   [2]int
			per string
		}{{in, "inward"}, {out, "outward"}} {
			if x.n[0] != x.n[1] {
				list = append(list, enact.Quota{Group: g.Path(), Before: x.n[0], After: x.n[1], Most: quota.Direction,
					Per: x.per})
			}
		}
	}
	return list
}

// draftBypasses is what is let through beside the groups that are carried out.
func draftBypasses(aim *change.Aim, d *decide.Decider) []enact.Bypass {
	var list []enact.Bypass
	for _, b := range audit.Bypasses(d, aim.Owns) {
		list = append(list, enact.Bypass{Says: words.Bypass(aim.Then, b), Write: b.Managed()})
	}
	return list
}
