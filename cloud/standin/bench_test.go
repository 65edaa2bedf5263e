package standin

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"isonomos/demo"
	"isonomos/store"
)

// A change takes as long in a large estate as in a small one: 1,000 a second is what is asked of it.
func BenchmarkChanges(b *testing.B) {
	for _, groups := range []int{1_000, 10_000, 50_000} {
		b.Run(fmt.Sprint(groups), func(b *testing.B) {
			folder := b.TempDir()
			e, _ := demo.Generate(demo.Size{Accounts: max(1, groups/50), Groups: groups, Rules: 10 * groups,
				Instances: 2 * groups, Seed: 7})
			f, err := os.Create(filepath.Join(folder, StateFile))
			if err != nil {
				b.Fatal(err)
			}
			if err := store.WriteSurvey(f, e); err != nil {
				b.Fatal(err)
			}
			f.Close()
			d := &desk{t: b, folder: folder}
			d.open()
			defer d.server.Close()
			http.DefaultTransport.(*http.Transport).MaxIdleConnsPerHost = 64
			b.SetParallelism(8)
			var made []string // paths of groups
			for _, g := range e.Groups {
				if g.For == "instances" && !g.BuiltIn && len(g.Rules) < 30 {
					made = append(made, "/"+g.Account.Cloud.Name+"/v1/accounts/"+g.Account.Name+"/groups/"+g.ID)
				}
			}
			b.ResetTimer()
			n := make(chan int)
			go func() {
				for i := 0; ; i++ {
					n <- i
				}
			}()
			b.RunParallel(func(pb *testing.PB) {
				for pb.Next() {
					i := <-n
					status, text, _, err := d.ask("PATCH "+made[i%len(made)], fmt.Sprintf(`{"description":"%d"}`, i), "")
					if err != nil || status != 200 {
						b.Errorf("%d %s %v", status, text, err)
						return
					}
				}
			})
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "changes/s")
		})
	}
}
