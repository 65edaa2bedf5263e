package audit_test

import (
	"fmt"
	"testing"

	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/demo"
)

// All checks over a generated estate, by its number of rules.
func BenchmarkRun(b *testing.B) {
	for _, n := range []int{1000, 10000, 100000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			e, _ := demo.Generate(demo.Size{Accounts: max(1, n/500), Groups: n / 10, Instances: n / 5, Rules: n,
				Seed: 7})
			b.ResetTimer()
			for b.Loop() {
				audit.Run(decide.New(e), audit.Options{Now: demo.Taken})
			}
		})
	}
}
