package change_test

import (
	"fmt"
	"net/netip"
	"testing"

	"isonomos/core/change"
	"isonomos/core/estate"
	"isonomos/demo"
)

// How long it takes to find and decide the steps of a draft: rules that are open to
// everyone, one in each of so many groups, are narrowed to a range.
func BenchmarkPlan(b *testing.B) {
	for _, groups := range []int{50, 500, 5000} {
		now, _ := demo.Generate(
			demo.Size{Accounts: groups / 25, Groups: 2 * groups, Instances: 4 * groups, Rules: 20 * groups, Seed: 1,
				Clean: true})
		then, _, _ := estate.Overlay(&estate.Estate{Name: now.Name}, now, nil)
		changed := 0
		for _, g := range then.Groups {
			if changed == groups {
				break
			}
			for i := range g.Rules {
				if r := &g.Rules[i]; !r.BuiltIn && r.Direction == estate.In && r.Action == estate.Admit &&
					g.For == estate.ForInstances {
					r.Peers = []estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix("192.0.2.0/28")}}
					changed++
					break
				}
			}
		}
		steps := 0
		b.Run(fmt.Sprint(2*changed), func(b *testing.B) {
			for b.Loop() {
				plan, err := change.NewPlan(
					change.NewRepeal("x", now, then, func(_, kind, _ string) bool { return kind == "group" }))
				if err != nil {
					b.Fatal(err)
				}
				steps = plan.Steps()
			}
			b.ReportMetric(float64(steps), "steps")
		})
	}
}
