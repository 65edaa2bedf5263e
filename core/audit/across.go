package audit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Openings that no group makes alone: several groups add up to them at an interface.

// together are groups whose admissions add up at some interfaces.
type together struct {
	groups     []*estate.Group
	interfaces []*estate.Interface
}

// sumsOfGroups finds what is open at interfaces only by the sum of their groups. It costs nothing
// where no groups of an interface can add up to enough strangers.
func sumsOfGroups(w *worker) []Finding {
	at := make(map[string]int)
	var all []together
	for _, instance := range w.estate.Instances {
		for _, i := range instance.Interfaces {
			groups := addingUp(w.d, i)
			if i.Unfiltered || len(groups) < 2 || !w.mayAddUp(groups) {
				continue
			}
			var key strings.Builder
			for _, g := range groups {
				fmt.Fprintf(&key, "%p ", g)
			}
			k, known := at[key.String()]
			if !known {
				k = len(all)
				at[key.String()] = k
				all = append(all, together{groups: slices.SortedFunc(slices.Values(groups),
					func(a, b *estate.Group) int { return strings.Compare(a.Path(), b.Path()) })})
			}
			all[k].interfaces = append(all[k].interfaces, i)
		}
	}
	var found []Finding
	for _, t := range all {
		found = append(found, w.sumOf(t)...)
	}
	return found
}

// mayAddUp reports whether at least two of the groups admit strangers, and all together enough to
// be open.
func (w *worker) mayAddUp(groups []*estate.Group) bool {
	admit, four, six := 0, 0.0, 0.0
	for _, g := range groups {
		if f := w.facts[g]; f != nil && f.strangers != [2]float64{} {
			admit, four, six = admit+1, four+f.strangers[0], six+f.strangers[1]
		}
	}
	return admit > 1 && (four >= w.openFour || six >= w.openSix)
}

// sumOf finds what groups open together and none of them opens alone. There is one finding for each
// class of services.
func (w *worker) sumOf(t together) []Finding {
	sets := make([]traffic.Set, len(t.groups))
	var alone, declared []service.Set
	left := traffic.Set{}
	for k, g := range t.groups {
		sets[k] = w.d.GroupTraffic(g, estate.In)
		declared = append(declared, w.declaredOpen(g))
	}
	open := w.openPart(traffic.UnionAll(sets))
	for _, family := range []addr.Family{addr.IPv4, addr.IPv6} {
		alone = alone[:0]
		for _, set := range sets {
			alone = append(alone, w.openPart(set.WithPeers(addr.FamilyOf(family))).Services())
		}
		left = left.Union(open.WithPeers(addr.FamilyOf(family)).OnServices(
			service.All.Minus(service.UnionAll(alone...))))
	}
	var found []Finding
	meant := service.UnionAll(declared...)
	for _, x := range []struct {
		check    Check
		services service.Set
	}{{openAdminPort, w.admin}, {openDataPort, w.data}, {openCleartext, w.clear.Minus(meant)}, {openInbound,
		w.rest.Minus(meant)}} {
		set := left.OnServices(x.services)
		if set.IsEmpty() {
			continue
		}
		f := w.sumFinding(t, set, sets)
		if x.check.Name == openCleartext.Name && f.Services.SubsetOf(w.web) {
			f.Start = Low
		}
		sum := f
		sum.Start, sum.Message = Info,
			fmt.Sprintf("%s add up to %s", count.Of(len(t.groups), "group", "groups"), w.peerWords(f.Peers))
		f, sum = w.finish(x.check, f),
			w.finish(Check{Name: openInSumName, Start: Medium, Controls: controlsOfOpenness}, sum)
		joined := join(f, sum)
		joined.joined = []Finding{f, sum}
		found = append(found, joined)
	}
	return found
}

func (w *worker) sumFinding(t together, set traffic.Set, sets []traffic.Set) Finding {
	f := Finding{Direction: estate.In, Account: t.groups[0].Account, Group: t.groups[0], groups: t.groups,
		Services: set.Services(), Peers: set.Peers(service.All)}
	f.Breadth = w.d.Breadth(f.Peers)
	var names []string
	for k, g := range t.groups {
		part := sets[k].Intersect(set)
		if part.IsEmpty() {
			continue
		}
		names = append(names, g.Name)
		for i := range g.Rules {
			if r := &g.Rules[i]; r.Direction == estate.In && r.Action == estate.Admit &&
				!w.d.RuleTraffic(g, r).Intersect(part).IsEmpty() {
				f.Rules = append(f.Rules, r)
			}
		}
	}
	w.arriveAt(&f, t.interfaces, set)
	f.Message = fmt.Sprintf("%s %s let in from %s by %s together", w.describe(f.Services), w.isAre(f.Services),
		w.peerWords(f.Peers), count.Some(names, 4))
	f.Fix, f.OrElse = narrowing(t.groups[0]), "narrow the others, or take one of them off"
	f.Narrow = narrowable(t.groups[0])
	return f
}

// arriveAt finds at which of the interfaces traffic with strangers arrives, with an example, or why
// it arrives at none.
func (w *worker) arriveAt(f *Finding, interfaces []*estate.Interface, set traffic.Set) {
	f.Arrival = Nowhere
	for _, i := range interfaces {
		if x := w.meets(i, f.Direction, set); x != nil {
			f.Arrival, f.Instances, f.Example = Arrives, append(f.Instances, i), cmp.Or(f.Example, x)
		} else if f.WhyNot == "" {
			verdict, why := w.whyNot(i, f.Direction, set)
			if f.WhyNot = why; verdict == decide.Undecided && f.Arrival == Nowhere {
				f.Arrival = MayArrive
			}
		}
	}
	if f.Arrival == Arrives {
		f.WhyNot = ""
	}
}
