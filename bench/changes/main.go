// Command changes opens and shuts ports in stand-in clouds, so many times a second, and says how many changes it made.
//
//	go run ./bench/changes -rate 200 -for 1m -accounts 100 CLOUDS
package main

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"isonomos/cloud/standin"
)

type group struct{ cloud, account, id string }

func main() {
	rate := flag.Int("rate", 200, "changes a second")
	lasts := flag.Duration("for", time.Minute, "how long")
	accounts := flag.Int("accounts", 100, "in so many accounts")
	flag.Parse()
	if err := run(flag.Arg(0), *rate, *lasts, *accounts); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(folder string, rate int, lasts time.Duration, accounts int) error {
	base, token, err := reach(folder)
	if err != nil {
		return err
	}
	groups, err := groupsOf(folder, accounts)
	if err != nil {
		return err
	}
	http.DefaultTransport.(*http.Transport).MaxIdleConnsPerHost = 64
	var made, failed atomic.Int64
	var workers sync.WaitGroup
	tick := time.NewTicker(time.Second / time.Duration(rate))
	defer tick.Stop()
	turns := make(chan int, 64)
	open := make([]string, len(groups)) // the rule that was opened last, by group
	busy := make([]sync.Mutex, len(groups))
	for range 32 {
		workers.Go(func() {
			for n := range turns {
				k := n % len(groups)
				busy[k].Lock()
				g := groups[k]
				at := base + "/" + g.cloud + "/v1/accounts/" + g.account + "/groups/" + g.id + "/rules"
				method, body := http.MethodPost, fmt.Sprintf(`{"direction":"in","rank":%d,"peers":["192.0.2.%d/32"],`+
					`"services":["tcp 22"]}`, 3000+n%1000, n%250)
				if open[k] != "" {
					method, at, body = http.MethodDelete, at+"/"+open[k], ""
				}
				id, err := ask(method, at, token, body)
				if err != nil {
					failed.Add(1)
				} else {
					made.Add(1)
					open[k] = id
				}
				busy[k].Unlock()
			}
		})
	}
	began := time.Now()
	for n := 0; time.Since(began) < lasts; n++ {
		<-tick.C
		turns <- n
	}
	close(turns)
	workers.Wait()
	fmt.Printf("%d changes in %s (%d refused)\n", made.Load(), time.Since(began).Round(time.Second), failed.Load())
	return nil
}

func ask(method, at, token, body string) (id string, err error) {
	r, err := http.NewRequest(method, at, strings.NewReader(body))
	if err != nil {
		return "", err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	var o struct{ ID, Detail string }
	_ = json.NewDecoder(answer.Body).Decode(&o) // a deletion is answered with nothing
	if answer.StatusCode >= 300 {
		return "", fmt.Errorf("%s %s", answer.Status, o.Detail)
	}
	return o.ID, nil
}

// reach is where the clouds of a folder are served, and the token for them.
func reach(folder string) (base, token string, err error) {
	text, err := os.ReadFile(filepath.Join(folder, "env"))
	if err != nil {
		return "", "", err
	}
	_, rest, _ := strings.Cut(string(text), "=http://")
	address, _, _ := strings.Cut(rest, "/")
	secret, err := os.ReadFile(filepath.Join(folder, standin.TokenFile))
	return "http://" + address, strings.TrimSpace(string(secret)), err
}

// groupsOf are groups for instances: one of each of so many accounts.
func groupsOf(folder string, accounts int) ([]group, error) {
	text, err := os.ReadFile(filepath.Join(folder, standin.StateFile))
	if err != nil {
		return nil, err
	}
	of := make(map[string]string)
	seen := make(map[string]bool)
	var all []group
	for line := range bytes.Lines(text) {
		var o struct {
			Kind, Name, Cloud, Account, ID, For string
			BuiltIn                             bool `json:"built_in"`
		}
		if bytes.Contains(line, []byte(`"kind":"rule"`)) || json.Unmarshal(line, &o) != nil {
			continue
		}
		switch {
		case o.Kind == "account":
			of[o.Name] = o.Cloud
		case o.Kind == "group" && o.For == "instances" && !o.BuiltIn && !seen[o.Account] && len(all) < accounts:
			seen[o.Account] = true
			all = append(all, group{of[o.Account], o.Account, o.ID})
		}
	}
	return all, nil
}
