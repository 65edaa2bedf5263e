package standin

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"isonomos/demo"
	"isonomos/store"
)

// A change takes as long in a large estate as in a small one: 1,000 a second is what is asked of it. A third of them
// describes a group, a third opens a port, a third shuts it again.
func BenchmarkChanges(b *testing.B) {
	for _, groups := range []int{1_000, 10_000, 50_000} {
		b.Run(fmt.Sprint(groups), func(b *testing.B) { changeGroups(b, groups) })
	}
}

func changeGroups(b *testing.B, groups int) {
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
	type group struct {
		path, rule string
		busy       sync.Mutex
	}
	var made []*group
	for _, g := range e.Groups {
		if g.For == "instances" && !g.BuiltIn && len(g.Rules) < 30 {
			made = append(made, &group{path: "/" + g.Account.Cloud.Name + "/v1/accounts/" + g.Account.Name + "/groups/" + g.ID})
		}
	}
	e = nil
	b.SetParallelism(8)
	b.ResetTimer()
	turns := make(chan int)
	go func() {
		for i := 0; ; i++ {
			turns <- i
		}
	}()
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			i := <-turns
			g := made[i/3%len(made)]
			g.busy.Lock()
			call, body, want := "PATCH "+g.path, fmt.Sprintf(`{"description":"%d"}`, i), 200
			switch {
			case i%3 > 0 && g.rule == "":
				call, want = "POST "+g.path+"/rules", 201
				body = fmt.Sprintf(`{"direction":"in","rank":%d,"peers":["192.0.2.%d/32"],"services":["tcp 22"]}`,
					3000+i%1000, i%250)
			case i%3 > 0:
				call, body, want = "DELETE "+g.path+"/rules/"+g.rule, "", 204
			}
			status, text, _, err := d.ask(call, body, "")
			if i%3 > 0 {
				var rule struct{ ID string }
				_ = json.Unmarshal([]byte(text), &rule) // a deletion is answered with nothing
				g.rule = rule.ID
			}
			g.busy.Unlock()
			if err != nil || status != want {
				b.Errorf("%s: %d %s %v", call, status, text, err)
				return
			}
		}
	})
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "changes/s")
}
