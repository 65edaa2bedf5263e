package demo_test

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"

	"isonomos/core/addr"
	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/narrow"
	"isonomos/core/service"
	"isonomos/core/traffic"
	"isonomos/demo"
	"isonomos/evidence"
	"isonomos/nomos/resolve"
	"isonomos/work"
)

// careless is a generated estate with careless rules, what was seen of them, and
// who really needs them.
func careless(tb testing.TB, size demo.Size, rules int) (*estate.Estate, *flow.Summary, []demo.Truth) {
	e, _ := demo.Generate(size)
	truths := demo.Careless(e, rules, size.Seed)
	var csv bytes.Buffer
	if err := demo.CarelessFlows(&csv, e, truths, size.Seed); err != nil {
		tb.Fatal(err)
	}
	var parts []*flow.Summary
	if _, err := evidence.Read(&csv, "flows", evidence.Options{Take: func() func(*flow.Record) {
		parts = append(parts, new(flow.Summary))
		return parts[len(parts)-1].Add
	}}); err != nil {
		tb.Fatal(err)
	}
	sum := new(flow.Summary)
	for _, p := range parts {
		sum.Merge(p)
	}
	sum.Close()
	return e, sum, truths
}

// What narrowing is held to, on estates whose true needs only the generator knows:
// nobody who needs a rule and was seen three times is cut off, strangers lose at
// least 99.99 % of what was open to them without need, and at least 90 % of those who
// are a group or a list in truth are proposed as that.
func TestNarrowingFindsTheTruth(t *testing.T) {
	rules, needed, cut, named, nameable := 0, 0, 0, 0, 0
	before, after := 0.0, 0.0
	for seed := range uint64(3) {
		e, flows, truths := careless(t,
			demo.Size{Accounts: 40, Groups: 1200, Instances: 3000, Rules: 9000, Seed: seed + 1, Clean: true}, 900)
		d := decide.New(e)
		w := work.World{Survey: e, Estate: e}
		subjects := work.SubjectsOf(audit.Run(d, audit.Options{}).Findings)
		result, err := w.Propose(subjects, narrow.Options{Flows: flows}, resolve.Options{})
		if err != nil {
			t.Fatal(err)
		}
		byRule := make(map[string]*work.Checked)
		for i := range result.Proposals {
			for _, r := range result.Proposals[i].Rules {
				byRule[r.ID] = &result.Proposals[i]
			}
		}
		seen := make(map[string]int)
		for _, x := range flows.Sums() {
			for _, f := range d.At(x.Destination) {
				for _, g := range d.GroupsAt(f) {
					seen[fmt.Sprint(g.Path(), x.Source, x.Service)] += x.Completed
				}
			}
		}
		// Who needs what, by group: all else that is let in by the narrowed rules is excess.
		wanted := make(map[string]traffic.Set)
		for _, truth := range truths {
			spec, _ := service.ParseSpec(truth.Service)
			wanted[truth.Group] = wanted[truth.Group].Union(traffic.Of(addr.Of(truth.Peers...), service.Of(spec)))
		}
		strangers := func(set traffic.Set) (sum float64) {
			for _, b := range set.Bands() {
				four, six := d.StrangersAmong(b.Peers)
				sum += (four + six) * float64(b.To-b.From+1)
			}
			return sum
		}
		for i := range result.Proposals {
			if c := &result.Proposals[i]; c.Refused == "" && strings.HasPrefix(c.Rules[0].ID, "rul-careless") {
				before += strangers(c.Before)
				after += strangers(c.After.Minus(wanted[c.Group.Path()].Union(declared(c))))
			}
		}
		for _, truth := range truths {
			c := byRule[truth.Rule]
			if c == nil {
				t.Errorf("nothing is proposed for %s of %s", truth.Rule, truth.Group)
				continue
			}
			if c.Refused != "" { // a group without state is not narrowed without its definition
				if !strings.Contains(c.Refused, "keeps no state") {
					t.Errorf("%s: %s", truth.Group, c.Refused)
				}
				continue
			}
			rules++
			spec, _ := service.ParseSpec(truth.Service)
			set := service.Of(spec)
			point, _ := set.First()
			now := d.Supposing(c.Group, work.Replaced(c.Group, sameGroup(result, c))).GroupTraffic(c.Group, estate.In)
			var users []string
			for _, peer := range truth.Peers {
				if n := seen[fmt.Sprint(truth.Group, peer, point)]; n >= 3 {
					needed++
					users = append(users, peer.String())
					if !now.Contains(peer, point) {
						cut++
						t.Errorf("%s: %s was seen %d times on %s and is cut off", truth.Group, peer, n, truth.Service)
					}
				}
			}
			true_ := addr.Of(truth.Peers...)
			if len(users) == 0 || truth.Kind == "addresses" {
				continue
			}
			nameable++
			for _, r := range c.New {
				if r.Services.Overlaps(set) && slices.ContainsFunc(r.Choices, func(x narrow.Choice) bool {
					return x.Words == truth.Kind+" "+truth.Name ||
						truth.Kind == "group" && (x.Kind == narrow.ByGroup || x.Kind == narrow.BySelf) &&
							x.Addresses.Equal(true_)
				}) {
					named++
					break
				}
			}
		}
	}
	t.Logf("%d rules, %d true needs seen three times, %d cut off; excess against strangers falls by %.6f %%; %d "+
		"of %d groups and lists are proposed as such (%.1f %%)",
		rules, needed, cut, 100*(1-after/before), named, nameable, 100*float64(named)/float64(nameable))
	if rules < 1500 || needed < 3000 {
		t.Errorf("%d rules and %d needs tell too little", rules, needed)
	}
	if fell := 1 - after/before; fell < 0.9999 {
		t.Errorf("excess against strangers falls by %.4f %%", 100*fell)
	}
	if share := float64(named) / float64(nameable); share < 0.9 {
		t.Errorf("%.1f %% of groups and lists are proposed as such", 100*share)
	}
}

// declared is what the balancers of a group are there for: what they listen on for
// the public.
func declared(c *work.Checked) traffic.Set {
	var sets []traffic.Set
	for _, n := range c.Needs {
		if n.Whole && n.Source == narrow.Declared && strings.HasSuffix(c.Group.Name, "-door") {
			sets = append(sets, traffic.Of(n.Peers, n.Services))
		}
	}
	return traffic.UnionAll(sets)
}

// sameGroup are all proposals for the group of one.
func sameGroup(r work.Result, c *work.Checked) []*work.Checked {
	var all []*work.Checked
	for i := range r.Proposals {
		if x := &r.Proposals[i]; x.Group == c.Group && x.Refused == "" {
			all = append(all, x)
		}
	}
	return all
}

// How the cost of narrowing grows with the number of findings.
func BenchmarkNarrow(b *testing.B) {
	for _, rules := range []int{1000, 10000} {
		e, flows, _ := careless(b,
			demo.Size{Accounts: 200, Groups: 10000, Instances: 20000, Rules: 60000, Seed: 1, Clean: true}, rules)
		w := work.World{Survey: e, Estate: e}
		subjects := work.SubjectsOf(audit.Run(decide.New(e), audit.Options{}).Findings)
		b.Run(fmt.Sprint(rules), func(b *testing.B) {
			exact := 0
			var result work.Result
			for b.Loop() {
				var err error
				result, err = w.Propose(subjects, narrow.Options{Flows: flows}, resolve.Options{})
				if err != nil {
					b.Fatal(err)
				}
				exact = 0
				for i := range result.Proposals {
					if result.Proposals[i].Exact() {
						exact++
					}
				}
			}
			b.ReportMetric(float64(len(subjects)), "findings")
			b.ReportMetric(100*float64(exact)/float64(max(1, len(result.Proposals))), "%exact")
		})
	}
}
