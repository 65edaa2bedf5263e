package cloud_test

import (
	"fmt"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"isonomos/cloud/standin"
	"isonomos/demo"
	"isonomos/store"
)

// How long it takes to survey clouds over HTTP, sixteen accounts at once.
func BenchmarkSurvey(b *testing.B) {
	for _, accounts := range []int{10, 100, 1000} {
		folder := b.TempDir()
		e, _ := demo.Generate(demo.Size{Accounts: accounts, Groups: 50 * accounts, Instances: 100 * accounts,
			Rules: 500 * accounts, Seed: 1, Clean: true})
		f, err := os.Create(filepath.Join(folder, standin.StateFile))
		if err != nil {
			b.Fatal(err)
		}
		if err := store.WriteSurvey(f, e); err != nil {
			b.Fatal(err)
		}
		f.Close()
		server, err := standin.Open(folder)
		if err != nil {
			b.Fatal(err)
		}
		web := httptest.NewServer(server)
		token, _ := os.ReadFile(filepath.Join(folder, standin.TokenFile))
		b.Run(fmt.Sprint(accounts), func(b *testing.B) {
			for b.Loop() {
				jobs := make(chan [2]string)
				var workers sync.WaitGroup
				for range 16 {
					workers.Go(func() {
						for j := range jobs {
							if _, err := client(b, web.URL+"/"+j[0], string(token)).Survey(b.Context(),
								j[1]); err != nil {
								b.Error(err)
							}
						}
					})
				}
				for _, a := range e.Accounts {
					jobs <- [2]string{a.Cloud.Name, strings.Clone(a.Name)}
				}
				close(jobs)
				workers.Wait()
			}
		})
		web.Close()
	}
}
