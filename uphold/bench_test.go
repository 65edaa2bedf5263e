package uphold

import (
	"fmt"
	"testing"

	"isonomos/demo"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
)

// Judging one account takes as long as it is large, however many others there are.
func BenchmarkJudge(b *testing.B) {
	for _, accounts := range []int{10, 100, 1000} {
		b.Run(fmt.Sprint(accounts), func(b *testing.B) {
			e, _ := demo.Generate(demo.Size{Accounts: accounts, Groups: 50 * accounts, Rules: 500 * accounts,
				Instances: 100 * accounts, Seed: 7})
			d := nomos.Understand([]*source.File{source.NewFile("laws.nomos", "estate generated\n"+demo.MayBeOpen)},
				resolve.Options{Name: "generated", Now: noon})
			lines := byAccount(e)
			u := watching(d, lines)
			u.reading.Definitions.Estate.Clouds = e.Clouds
			u.elsewhere()
			a := u.known()[0]
			b.ResetTimer()
			for b.Loop() {
				survey, missing, err := u.survey(a, lines[a.name])
				if err != nil {
					b.Fatal(err)
				}
				u.decided.Judge(survey, a.name, missing, nil, noon)
			}
		})
	}
}
