package store_test

import (
	"bytes"
	"fmt"
	"testing"

	"isonomos/demo"
	"isonomos/store"
)

// A survey of a generated estate, by its number of rules.
func BenchmarkReadSurvey(b *testing.B) {
	for _, n := range []int{1000, 10000, 100000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			e, _ := demo.Generate(demo.Size{Accounts: max(1, n/500), Groups: n / 10, Instances: n / 5, Rules: n,
				Seed: 7})
			var text bytes.Buffer
			if err := store.WriteSurvey(&text, e); err != nil {
				b.Fatal(err)
			}
			b.SetBytes(int64(text.Len()))
			b.ResetTimer()
			for b.Loop() {
				if _, _, err := store.ReadSurvey(bytes.NewReader(text.Bytes()), "s"); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
