package cli_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"isonomos/cloud/standin"
	"isonomos/notify"
	"isonomos/store/whole"
)

const upheldBase = `
group base in nu "Databases" { cover where role = db
  admit postgres from group web }
`

var base = upheldGroup{"/cu", "au", "nu", "base"}

// byProgram reports whether a request is the program's own, and not somebody's.
func byProgram(r *http.Request) bool { return r.Header.Get("Authorization") != "Bearer amiras" }

// isTold reports whether something was told of a place with a text.
func isTold(d *desk, kind, place, text string) func() bool {
	return func() bool {
		return slices.ContainsFunc(d.told(), func(n notify.Notice) bool {
			return string(n.Type) == kind && n.Place == place && strings.Contains(n.Says, text)
		})
	}
}

// What a cloud goes on to refuse at one object holds up nothing else in its account: what was opened elsewhere is shut
// at once, and what was opened at the same object too, if only letting something through again is refused. It is told
// when it lasts, and done as soon as it can be.
func TestOneFailureHoldsUpNothingElse(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, upheldBase+"law admin \"Administration stays inside\" {\n  never admit rdp from internet\n  enforced }\n")
	want := h.content()
	web := upheldBy[0]
	var refused atomic.Value // a method and a path
	refused.Store([2]string{})
	h.through(func(w http.ResponseWriter, r *http.Request) {
		if x := refused.Load().([2]string); x[0] == r.Method && strings.HasPrefix(r.URL.Path, x[1]) && byProgram(r) {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusUnprocessableEntity)
			fmt.Fprint(w, `{"title":"no","status":422,"detail":"not today\u001b[31m"}`)
			return
		}
		h.server.ServeHTTP(w, r)
	})
	d := h.desk()
	u := h.uphold("--put-back", "all")
	u.ready()
	until(t, "the law was shown", func() bool { code, _ := h.run("uphold", "agree", "admin"); return code == 0 }, u.log)

	refused.Store([2]string{"POST", web.groupPath(h) + "/rules"})
	n := len(h.rulesOf(base))
	h.ask("DELETE", web.groupPath(h)+"/rules/"+h.rulesOf(web)[0], "")
	left := len(h.rulesOf(web))
	until(t, "that is tried", func() bool { return strings.Contains(u.log.String(), "not today") }, u.log)
	h.open(0, "203.0.113.0/24", "tcp 22", 0)
	h.ask("POST", base.groupPath(h)+"/rules", `{"direction":"in","peers":["203.0.113.0/24"],"services":["tcp 22"]}`)
	until(t, "what was opened is shut", func() bool {
		return len(h.rulesOf(base)) == n && len(h.rulesOf(web)) == left
	}, u.log)
	until(t, "that the rest can't be put back is told", isTold(d, "stepped-back", web.place(), "not today"), u.log)
	if out := h.must(1, "it could not be done, and is tried again", "uphold", "status"); strings.Contains(out, "\x1b") {
		t.Errorf("%q", out)
	}
	refused.Store([2]string{})
	h.becomes("once the cloud takes it", want, u.log)
	until(t, "that it could be put back is told", isTold(d, "resolved", web.place(), "no longer left alone"), u.log)

	refused.Store([2]string{"DELETE", web.groupPath(h) + "/rules"})
	h.open(0, "203.0.113.7/32", "tcp 3389", 0) // the law and what was decided both have it shut
	h.open(0, "203.0.113.7/32", "tcp 22", 0)
	h.ask("POST", base.groupPath(h)+"/rules", `{"direction":"in","peers":["203.0.113.8/32"],"services":["tcp 3389"]}`)
	until(t, "what was opened elsewhere is shut", func() bool { return len(h.rulesOf(base)) == n }, u.log)
	until(t, "that it can't be shut is told", isTold(d, "stepped-back", web.place(), "not today"), u.log)
	refused.Store([2]string{})
	h.becomes("once the cloud removes it", want, u.log)

	at := "/cu/v1/accounts/au/interfaces/f0/groups"
	refused.Store([2]string{"PUT", at})
	h.ask("PUT", at, `{"groups":[]}`)
	until(t, "that is tried", func() bool { return strings.Contains(u.log.String(), "object f0") }, u.log)
	h.ask("POST", base.groupPath(h)+"/rules", `{"direction":"in","peers":["203.0.113.9/32"],"services":["tcp 22"]}`)
	until(t, "what was opened elsewhere is shut", func() bool { return len(h.rulesOf(base)) == n }, u.log)
	until(t, "that it can't be attached is told", isTold(d, "stepped-back", "au/u0", "not today"), u.log)
	refused.Store([2]string{})
	h.becomes("once the cloud attaches it", want, u.log)
	u.stop()
}

// A group of ours that was deleted is not made again while somebody's has its name: nothing of that one is changed, it
// is told, and nothing else waits for it.
func TestNamesTakenByOthers(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, upheldBase+"group ask in nu { admit https from list desks }\nlist desks { 192.0.2.0/28 }\n")
	want := h.content()
	d := h.desk()
	theirs := make(map[string]string) // paths
	for _, x := range upheldBy {
		accounts := x.path + "/v1/accounts/" + x.account
		for _, f := range []string{"f0", "f1"} {
			h.ask("PUT", accounts+"/interfaces/"+f+"/groups", `{"groups":[]}`)
		}
		if x.account == "au" { // whose rules name it
			h.ask("DELETE", base.groupPath(h)+"/rules/"+h.rulesOf(base)[0], "")
		}
		h.ask("DELETE", x.groupPath(h), "")
		network := fmt.Sprintf(`,"network":%q`, x.network)
		if x.path == "/cf" {
			network = ""
		}
		made := h.ask("POST", accounts+"/groups", fmt.Sprintf(`{"name":%q,"for":"instances"%s}`, x.group, network))
		id, _ := made["group"].(map[string]any)["id"].(string)
		theirs[x.place()] = accounts + "/groups/" + id
	}
	h.ask("POST", base.groupPath(h)+"/rules", `{"direction":"in","peers":["203.0.113.0/24"],"services":["tcp 22"]}`)
	u := h.uphold("--put-back", "all")
	u.ready()
	u.puts(d, "opened", base.place(), 1)
	for _, x := range upheldBy {
		until(t, "told of "+x.place(), isTold(d, "stepped-back", x.place(), "has its name by now"), u.log)
	}
	adopts := 0
	for line := range strings.Lines(h.must(1, "has its name by now", "uphold", "status")) {
		if _, command, is := strings.Cut(line, " isonomos draft "); is && strings.Contains(command, "--adopt") {
			h.must(0, "mark the group", append([]string{"draft"}, strings.Fields(command)...)...)
			adopts++
		}
	}
	if adopts != 2*len(theirs) { // where it differs, and where it is left alone
		t.Errorf("%d commands show what to do", adopts)
	}
	for place, path := range theirs {
		if code, text := h.tryToAsk("GET", path, ""); code != 200 || strings.Contains(text, "isonomos") {
			t.Errorf("%s was touched: %d %s", place, code, text)
		}
		h.ask("DELETE", path, "")
	}
	h.becomes("once their names are free", want, u.log)
	u.stop()

	// It is told when that happens, and what was told of the group before is not over for it.
	u = h.uphold()
	u.ready()
	yard, before := upheldBy[3], len(d.told())
	accounts := yard.path + "/v1/accounts/" + yard.account
	for _, f := range []string{"f0", "f1"} {
		h.ask("PUT", accounts+"/interfaces/"+f+"/groups", `{"groups":[]}`)
	}
	h.ask("DELETE", yard.groupPath(h), "")
	until(t, "that it is closed is told", func() bool {
		return slices.Contains(kinds(d.told()[before:]), "closed af/f0, af/f1")
	}, u.log)
	h.ask("POST", accounts+"/groups", fmt.Sprintf(`{"name":%q,"for":"instances"}`, yard.group))
	until(t, "that another one has its name is told", isTold(d, "changed", "af/nf/yard", "it is defined, and not there"), u.log)
	if got := kinds(d.told()[before:]); slices.Contains(got, "resolved af/f0, af/f1") {
		t.Errorf("it was told as over: %q\n%s", got, u.log)
	}
	u.stop()
}

// A group that was made again by a run that was killed, and whose mark somebody takes off before anybody knows of it, is
// found by its name.
func TestMadeAndUnmarked(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, "")
	want := h.content()
	var u *upheld
	var armed atomic.Bool
	h.through(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == "POST" && strings.HasSuffix(r.URL.Path, "/groups") && byProgram(r) && armed.CompareAndSwap(true, false) {
			h.server.ServeHTTP(httptest.NewRecorder(), r)
			_ = u.c.Process.Signal(syscall.SIGKILL)
			<-r.Context().Done()
			return
		}
		h.server.ServeHTTP(w, r)
	})
	for _, x := range upheldBy {
		accounts := x.path + "/v1/accounts/" + x.account
		for _, f := range []string{"f0", "f1"} {
			h.ask("PUT", accounts+"/interfaces/"+f+"/groups", `{"groups":[]}`)
		}
		h.ask("DELETE", x.groupPath(h), "")
		armed.Store(true)
		u = h.uphold("--put-back", "all")
		<-u.ended
		if armed.Load() {
			t.Fatalf("it was not killed\n%s", u.log)
		}
		made, _ := h.ask("GET", x.groupPath(h), "")["group"].(map[string]any)
		labels, _ := made["labels"].(map[string]any)
		labels["isonomos"] = "quayside" // what says which run made it stays
		text, err := json.Marshal(map[string]any{"labels": labels})
		if err != nil {
			t.Fatal(err)
		}
		h.ask("PATCH", x.groupPath(h), string(text))
		u = h.uphold("--put-back", "all")
		h.becomes("made again at "+x.place(), want, u.log)
		u.stop()
	}
}

// An account that has no room any more for a group of ours that was deleted holds up nothing else either.
func TestNoRoomToMakeAgain(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, upheldBase)
	want := h.content()
	full := strings.Replace(h.state(), `"name":"au","cloud":"cu","limits":{`,
		`"name":"au","cloud":"cu","limits":{"groups-per-account":3,`, 1)
	if err := whole.Put(filepath.Join(h.clouds, standin.StateFile), full, 0o600); err != nil {
		t.Fatal(err)
	}
	accounts := "/cu/v1/accounts/au"
	h.ask("PUT", accounts+"/interfaces/f2/groups", `{"groups":[]}`)
	h.ask("DELETE", base.groupPath(h), "")
	made := h.ask("POST", accounts+"/groups", `{"name":"junk","for":"instances","network":"nu"}`)
	id, _ := made["group"].(map[string]any)["id"].(string)
	n := len(h.rulesOf(upheldBy[0]))
	d := h.desk()
	u := h.uphold("--put-back", "all")
	u.ready()
	h.open(0, "203.0.113.0/24", "tcp 22", 0)
	u.puts(d, "opened", upheldBy[0].place(), 1)
	if len(h.rulesOf(upheldBy[0])) != n {
		t.Errorf("%v", h.rulesOf(upheldBy[0]))
	}
	until(t, "that there is no room is told", isTold(d, "stepped-back", base.place(), "may have 3"), u.log)
	h.ask("DELETE", accounts+"/groups/"+id, "")
	h.becomes("once there is room", want, u.log)
	u.stop()
}

// A pass that can't be shut keeps no other from being ended, and nothing from being put back.
func TestOnePassThatStays(t *testing.T) {
	t.Parallel()
	const lend = "\n  reach ssh at 10.1.0.0/16\n  lend ssh to 10.1.0.0/16 for at most 1h because \"on call\" }"
	h := newUpheld(t, strings.Replace(upheldBase, " }\n", lend+"\ngroup desk in nu { cover where role = desk"+lend+"\n", 1))
	want := h.content()
	var refused atomic.Bool
	refused.Store(true)
	h.through(func(w http.ResponseWriter, r *http.Request) { // before a pass of a second can be over
		if r.Method == "DELETE" && strings.HasPrefix(r.URL.Path, base.groupPath(h)+"/rules/") && refused.Load() && byProgram(r) {
			w.WriteHeader(http.StatusUnprocessableEntity)
			return
		}
		h.server.ServeHTTP(w, r)
	})
	// base comes last: whatever is issued behind it would end it first, and be refused that; and desk's is not over yet
	for _, x := range [][3]string{{"desk", "10.1.2.12", "20s"}, {"base", "10.1.2.13", "1s"}} {
		h.must(0, "opened", "pass", "issue", x[0], "ssh", "--to", x[1], "--for", x[2], "--because", "x")
	}
	open := h.content()
	h.open(0, "203.0.113.0/24", "tcp 22", 0)
	d := h.desk()
	u := h.uphold("--put-back", "all")
	u.puts(d, "opened", upheldBy[0].place(), 1)
	until(t, "that a pass stays is told", d.has(notify.PassOverdue, "422"), u.log)
	until(t, "the other passes are ended", func() bool {
		return !strings.Contains(h.content(), "rule of desk in")
	}, u.log)
	until(t, "that the other pass has ended is told", func() bool { // it is in the journal then
		return strings.Contains(u.log.String(), "pass-ended")
	}, u.log)
	if strings.Count(h.content(), "rule of base") != strings.Count(open, "rule of base") {
		t.Errorf("what was refused is gone:\n%s", h.content())
	}
	u.stop()
	if out := h.must(3, "422", "pass", "end", "--overdue"); strings.Contains(out, "desk") {
		t.Errorf("it was ended before: %s", out)
	}
	refused.Store(false)
	h.must(0, "over", "pass", "end", "--overdue")
	h.must(0, "shut", "pass", "end", "--all")
	if h.content() != want {
		t.Errorf("it has\n%s\ninstead of\n%s", h.content(), want)
	}
}

// What a law can't shut is an alarm once, whatever else is put back in the same account meanwhile.
func TestAlarmsStand(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, "law admin \"Administration stays inside\" {\n  never admit ssh from internet\n  enforced }\n")
	d := h.desk()
	u := h.uphold("--put-back", "all")
	until(t, "the law was shown", func() bool { code, _ := h.run("uphold", "agree", "admin"); return code == 0 }, u.log)
	until(t, "that it can't be shut is told", isTold(d, "stepped-back", "al/nl/default", "its cloud has made it"), u.log)
	shop := upheldBy[2]
	for i := range 2 {
		h.open(2, fmt.Sprintf("203.0.113.%d/32", i), "tcp 8080", 0)
		u.puts(d, "opened", shop.place(), i+1)
	}
	h.ask("DELETE", shop.groupPath(h)+"/rules/"+h.rulesOf(shop)[0], "")
	u.puts(d, "closed", shop.place(), 3)
	u.stop()
	n := 0
	for _, k := range kinds(d.told()) {
		if strings.HasSuffix(k, " al/nl/default") && !strings.HasPrefix(k, "opened") {
			n++
		}
	}
	if n != 1 {
		t.Errorf("it was told %d times: %q\n%s", n, kinds(d.told()), u.log)
	}
}

// What was found before and has not changed since is put back as soon as its cloud answers, however late that is.
func TestPutBackWhenItsCloudAnswersLate(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, "")
	want := h.content()
	u := h.uphold()
	u.ready()
	h.open(0, "203.0.113.0/24", "tcp 22", 0)
	u.says("ssh from 203.0.113.0/24")
	u.stop()
	answers := make(chan struct{})
	h.through(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/cu/") {
			<-answers
		}
		h.server.ServeHTTP(w, r)
	})
	u = h.uphold("--put-back", "all")
	time.Sleep(2 * time.Second) // by then everything else is judged
	close(answers)
	h.becomes("once its cloud answers", want, u.log)
	u.stop()
}

// An answer from before the last change, in which there is nothing to be done, is not the last word.
func TestPutBackThoughAnswersAreStale(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, "")
	want := h.content()
	var mu sync.Mutex
	before, stale := make(map[string]*httptest.ResponseRecorder), time.Time{}
	served := 0
	h.through(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != "GET" || !strings.HasPrefix(r.URL.Path, "/cu/v1/accounts/au") || !byProgram(r) {
			h.server.ServeHTTP(w, r)
			return
		}
		mu.Lock()
		answer := before[r.URL.String()]
		if answer == nil || time.Now().After(stale) {
			answer = httptest.NewRecorder()
			h.server.ServeHTTP(answer, r)
			before[r.URL.String()] = answer
		} else {
			served++
		}
		mu.Unlock()
		maps.Copy(w.Header(), answer.Header())
		w.WriteHeader(answer.Code)
		_, _ = w.Write(answer.Body.Bytes())
	})
	u := h.uphold("--put-back", "all")
	u.ready()
	h.open(0, "203.0.113.1/32", "tcp 22", 0) // so that all kinds of answers are known
	h.becomes("at first", want, u.log)
	mu.Lock()
	stale = time.Now().Add(time.Second)
	mu.Unlock()
	h.open(0, "203.0.113.2/32", "tcp 22", 0)
	h.becomes("although answers are stale", want, u.log)
	mu.Lock()
	if served == 0 {
		t.Error("no answer was stale")
	}
	mu.Unlock()
	u.stop()
}
