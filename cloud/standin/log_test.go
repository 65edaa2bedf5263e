package standin

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"isonomos/demo"
	"isonomos/store"
)

// served by a desk: every line of an account, in order.
func (d *desk) everything(account string) string {
	text, _ := d.must("GET "+account+"/objects", "", "", 200, "")
	var page struct {
		Items []json.RawMessage
		Next  string
	}
	_ = json.Unmarshal([]byte(text), &page)
	if page.Next != "" {
		d.t.Fatal("a second page is not looked at")
	}
	var all strings.Builder
	for _, item := range page.Items {
		all.Write(append(item, '\n'))
	}
	return all.String()
}

type feedAnswer struct {
	Feed  string
	Items []Change
	Last  int
}

func (d *desk) feed(query string, status int, want string) (a feedAnswer) {
	d.t.Helper()
	text, _ := d.must("GET /u/v1/changes"+query, "", "", status, want)
	_ = json.Unmarshal([]byte(text), &a)
	return a
}

// A large state is written seldom. What is not in its file is in the log: a server that begins again, without having
// been closed, serves the same; also where the file was edited meanwhile, which adds to it. What a folder serves does
// not depend on when its file is written.
func TestStateIsFileAndLog(t *testing.T) {
	e, _ := demo.Generate(demo.Size{Accounts: 6, Groups: 400, Rules: 4000, Instances: 600, Seed: 3})
	d := &desk{t: t, folder: t.TempDir()}
	path := filepath.Join(d.folder, StateFile)
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := store.WriteSurvey(f, e); err != nil {
		t.Fatal(err)
	}
	f.Close()
	d.open()
	if d.server.size <= smallState {
		t.Fatalf("a state of %d bytes is no large one", d.server.size)
	}
	var at string
	var groups, lists []string
	for _, g := range e.Groups {
		if g.Account.Cloud.Dialect == "union" && g.For == "instances" && !g.BuiltIn && len(groups) < 40 &&
			(at == "" || strings.HasSuffix(at, "/"+g.Account.Name)) {
			at = "/" + g.Account.Cloud.Name + "/v1/accounts/" + g.Account.Name
			groups = append(groups, g.ID)
		}
	}
	random := rand.New(rand.NewPCG(1, 2))
	rules := make(map[string]string)
	for i := range 200 {
		switch g := groups[random.IntN(len(groups))]; random.IntN(5) {
		case 0:
			text, _ := d.must("POST "+at+"/lists", fmt.Sprintf(`{"name":"l%d","entries":["192.0.2.0/28"]}`, i), "", 201, "")
			lists = append(lists, idOf(text))
		case 1:
			if status, text, _, _ := d.ask("POST "+at+"/groups/"+g+"/rules", fmt.Sprintf(
				`{"direction":"in","peers":["192.0.2.%d/32"],"services":["tcp 22"]}`, i), ""); status == 201 {
				rules[idOf(text)] = g
			}
		case 2:
			for _, id := range slices.Sorted(func(yield func(string) bool) {
				for id := range rules {
					if !yield(id) {
						return
					}
				}
			})[:min(1, len(rules))] {
				d.must("DELETE "+at+"/groups/"+rules[id]+"/rules/"+id, "", "", 204, "")
				delete(rules, id)
			}
		case 3:
			d.must("PATCH "+at+"/groups/"+g, fmt.Sprintf(`{"description":"%d"}`, i), "", 200, "")
		case 4:
			if len(lists) > 1 {
				d.must("DELETE "+at+"/lists/"+lists[0], "", "", 204, "")
				lists = lists[1:]
			}
		}
	}
	want := d.everything(at)
	d.web.Close() // no Close of the server: it is as if it was killed
	d.open()
	if got := d.everything(at); got != want {
		t.Fatal("a server that begins again serves something else")
	}
	// a line that was cut off when the server was killed
	log, err := os.OpenFile(filepath.Join(d.folder, ChangesFile), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	_, _ = log.WriteString(`{"number":9999,"cloud":"nor`)
	log.Close()
	for range 2 {
		d.web.Close()
		d.open()
		if got := d.everything(at); got != want {
			t.Fatal("after a line that was cut off it serves something else")
		}
		d.must("PATCH "+at+"/groups/"+groups[3], `{"description":"after the cut"}`, "", 200, "")
		want = d.everything(at)
	}
	d.server.Close()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	g := groups[0]
	rule := fmt.Sprintf(`{"kind":"rule","account":%q,"group":%q,"id":"by-hand","direction":"in","action":"admit",`+
		`"peers":["0.0.0.0/0"],"services":["tcp 22"]}`, at[strings.LastIndex(at, "/")+1:], g)
	d.must("PATCH "+at+"/groups/"+groups[1], `{"description":"just now"}`, "", 200, "") // not in what is edited
	if err := os.WriteFile(path, append(text, rule+"\n"...), 0o600); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		got := d.everything(at)
		if !strings.Contains(got, "by-hand") || !strings.Contains(got, "just now") ||
			strings.Count(got, "\n") != strings.Count(want, "\n")+1 {
			t.Fatal("an edit of the file, or what was not in it, is not served")
		}
		d.must("PATCH "+at+"/groups/"+groups[2], `{"description":"later"}`, "", 200, "")
		d.server.Close()
		d.web.Close()
		d.open()
	}
	if all, err := os.ReadFile(path); err != nil || !strings.Contains(string(all), "later") ||
		!strings.Contains(string(all), "by-hand") {
		t.Errorf("the file was not written: %v", err)
	}
}

// The feed tells every change of its cloud once and in order, with who made it; it waits for the next one, tells what
// was edited by hand, and says so where it can't go back.
func TestFeed(t *testing.T) {
	d := newDesk(t)
	at := d.feed("", 200, `"items":[]`)
	query := func(after, wait int) string {
		return fmt.Sprintf("?feed=%s&after=%d&wait=%d", at.Feed, after, wait)
	}
	began := time.Now()
	if a := d.feed(query(at.Last, 1), 200, ""); len(a.Items) != 0 || time.Since(began) < time.Second {
		t.Errorf("it did not wait: %+v", a)
	}
	poll := func(after int) <-chan feedAnswer { // it asks again where the state can't be read, and always answers
		woken := make(chan feedAnswer, 1)
		go func() {
			status, text, _, err := d.ask("GET /u/v1/changes"+query(after, 30), "", "")
			for tries := 0; status == 500 && tries < 100; tries++ {
				time.Sleep(editLooks / 10)
				status, text, _, err = d.ask("GET /u/v1/changes"+query(after, 30), "", "")
			}
			if err != nil || status != 200 {
				t.Errorf("waiting for changes: %d %s %v", status, text, err)
			}
			var a feedAnswer
			_ = json.Unmarshal([]byte(text), &a)
			woken <- a
		}()
		return woken
	}
	woken := poll(at.Last)
	d.must("PATCH /r/v1/accounts/ra/groups/g", `{"description":"of another cloud"}`, "", 200, "")
	d.must("PATCH /u/v1/accounts/ub/groups/far", `{"description":"a"}`, "", 200, "")
	a := <-woken
	if len(a.Items) != 1 || a.Items[0].Account != "ub" || a.Items[0].By != "sandbox" || a.Items[0].Previous != at.Last ||
		a.Last != a.Items[0].Number {
		t.Fatalf("%+v", a)
	}
	woken = poll(a.Last)
	path := filepath.Join(d.folder, StateFile)
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	edit := strings.Replace(string(text), `"services":["tcp 443"]`, `"services":["tcp 22"]`, 1)
	if err := os.WriteFile(path, nil, 0o600); err != nil { // an editor that writes in two steps
		t.Fatal(err)
	}
	time.Sleep(editLooks + 10*time.Millisecond)
	if err := os.WriteFile(path, []byte(edit), 0o600); err != nil {
		t.Fatal(err)
	}
	if b := <-woken; len(b.Items) != 1 || b.Items[0].By != byHand || b.Items[0].ID != "r1" ||
		b.Items[0].Group != "web" || !strings.Contains(string(b.Items[0].Object), "tcp 22") ||
		b.Items[0].Previous != a.Last {
		t.Errorf("an edit by hand: %+v", b)
	}
	for _, by := range []struct{ old, new, kind, action, account string }{
		{`"rules-per-direction":4`, `"rules-per-direction":5`, "account", "change", "ua"},
		{`{"kind":"account","name":"ub"`, `{"kind":"account","name":"uc","cloud":"u"}` + "\n" + `{"kind":"account","name":"ub"`,
			"account", "create", "uc"},
		{`{"kind":"account","name":"uc","cloud":"u"}` + "\n", "", "account", "delete", "uc"},
	} {
		now, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		last := d.feed("", 200, "")
		if !strings.Contains(string(now), by.old) {
			t.Fatalf("there is no %s in\n%s", by.old, now)
		}
		if err := os.WriteFile(path, []byte(strings.Replace(string(now), by.old, by.new, 1)), 0o600); err != nil {
			t.Fatal(err)
		}
		got := d.feed(query(last.Last, 1), 200, "").Items
		if len(got) != 1 || got[0].Kind != by.kind || got[0].Action != by.action || got[0].Account != by.account ||
			got[0].ID == "" {
			t.Errorf("%s %s: %+v", by.action, by.account, got)
		}
		a.Last = got[len(got)-1].Number - 1
	}
	var listed struct {
		Feed string
		Last int
	}
	objects, _ := d.must("GET /u/v1/accounts/ub/objects", "", "", 200, "")
	if _ = json.Unmarshal([]byte(objects), &listed); listed.Feed != at.Feed || listed.Last != a.Last+1 {
		t.Errorf("objects are of %+v", listed)
	}
	d.feed("?after=0", 400, "feed and after")
	d.feed("?feed=x", 400, "feed and after")
	d.feed(query(-1, 0), 400, "feed and after")
	d.feed(query(0, 61), 400, "from 0 to 60")
	d.feed("?feed=other&after=0", 410, "urn:isonomos:problem:position-lost")
	d.feed(query(1000, 0), 410, "position-lost")
	d.server.fed = d.server.fed[len(d.server.fed)-1:] // as if it had grown too long
	d.feed(query(at.Last, 0), 410, "position-lost")
	d.feed(query(a.Last, 0), 200, byHand)
	d.web.Close()
	d.open()
	d.feed(query(a.Last, 0), 410, "position-lost")
}

// A token that may only read changes nothing; others are in a file, and a token that is taken out is no longer good.
func TestTokens(t *testing.T) {
	d := newDesk(t)
	as := func(token string) *desk {
		other := *d
		other.server = &Server{token: token}
		return &other
	}
	text, err := os.ReadFile(filepath.Join(d.folder, ReadTokenFile))
	if err != nil {
		t.Fatal(err)
	}
	reader := as(strings.TrimSpace(string(text)))
	reader.must("GET /u/v1/whoami", "", "", 200, `"may":["read"]`)
	reader.must("GET /u/v1/accounts/ua/objects", "", "", 200, "")
	for _, request := range []string{"PATCH /u/v1/accounts/ua/groups/web", "DELETE /u/v1/accounts/ua/groups/def",
		"PUT /u/v1/accounts/ua/interfaces/f/groups", "POST /u/v1/accounts/ua/lists"} {
		reader.must(request, "{}", "", 403, "sandbox-reader does not allow to write")
	}
	others := filepath.Join(d.folder, TokensFile)
	if err := os.WriteFile(others, []byte(`[{"token":"secret-of-amira","name":"amira","may":["read","write"]}]`),
		0o600); err != nil {
		t.Fatal(err)
	}
	amira := as("secret-of-amira")
	amira.must("PATCH /u/v1/accounts/ua/groups/web", `{"description":"hers"}`, "", 200, "")
	at := d.feed("", 200, "")
	if a := d.feed(fmt.Sprintf("?feed=%s&after=%d", at.Feed, at.Last-1), 200, ""); a.Items[0].By != "amira" {
		t.Errorf("%+v", a)
	}
	if err := os.Remove(others); err != nil {
		t.Fatal(err)
	}
	amira.must("GET /u/v1/whoami", "", "", 401, "not the right one")
	as("").must("GET /u/v1/whoami", "", "", 401, "")
}
