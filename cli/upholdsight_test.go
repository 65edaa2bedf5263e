package cli_test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"isonomos/cloud/standin"
	"isonomos/notify"
)

// cloudsAlone are definitions that name clouds and no account: what there is, the clouds tell.
func (h *harbourmaster) cloudsAlone(except string) {
	clouds, _, _ := strings.Cut(strings.ReplaceAll(smallDefinitions, "env C", "env "+h.unique+"C"), "account ")
	if except != "" {
		before, rest, _ := strings.Cut(clouds, "cloud "+except+" ")
		_, after, _ := strings.Cut(rest, "}\n")
		clouds = before + after
	}
	h.write(filepath.Join(h.folder, "pier.nomos"), clouds+"law shut \"Inside\" {\n  never admit postgres from internet }\n")
}

// A cloud that does not answer, and of which no account is known, is not taken for one in which all is well: neither
// in one round, nor while watching, which tells of the cloud once and not of each of its accounts.
func TestUpholdOfSilentClouds(t *testing.T) {
	t.Parallel()
	h := newHarbourmaster(t)
	h.cloudsAlone("")
	const spare = `{"kind":"account","name":"spare","cloud":"cu"}` + "\n"
	h.write(filepath.Join(h.clouds, standin.StateFile), h.state()+spare)
	var silent atomic.Bool
	h.through(func(w http.ResponseWriter, r *http.Request) {
		if silent.Load() && strings.HasPrefix(r.URL.Path, "/cr/") {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		h.server.ServeHTTP(w, r)
	})
	silent.Store(true)
	if out := h.must(3, "1 cloud could not be heard", "uphold", "--once"); !strings.Contains(out, "the cloud cr") {
		t.Error(out)
	}
	h.must(3, `"cloud": "cr"`, "uphold", "--once", "--format", "json")
	for _, args := range [][]string{{"audit", "--live", "--fail-at", "never"}, {"prove", "--live"}, {"exposure", "--live"},
		{"compare", "live", "live"}, {"survey", "--to", "some.jsonl"}, {"audit", "--survey", "some.jsonl", "--keep"}} {
		if out := h.must(3, "the cloud cr", args...); !strings.Contains(out, "403") {
			t.Errorf("%v does not say why: %s", args, out)
		}
	}
	h.must(0, "the cloud cr", "audit", "--survey", "some.jsonl", "--fail-at", "never", "--allow-unread", "cr")
	silent.Store(false)
	h.must(1, "kept in", "audit", "--live", "--keep") // with what is found in ar
	silent.Store(true)
	h.must(3, "left as they were", "audit", "--live", "--keep")
	d := newDesk(t, 0)
	h.settings(fmt.Sprintf("[uphold]\nblind-after = \"2s\"\nlook-again = \"1s\"\n[notify.desk]\nto = %q\nper-minute = 100\n",
		d.web.URL))
	u := h.uphold()
	until(t, "cr is not heard", d.has(notify.Blind, "the cloud cr was not heard for"), u.log)
	h.must(3, "the cloud cr was not heard", "uphold", "status")
	_ = u.c.Process.Kill()
	<-u.ended
	silent.Store(false)
	u = h.uphold() // who is started again knows what was told
	until(t, "cr is heard again", d.has(notify.Resolved, "the cloud cr is heard again"), u.log)
	u.ready()
	silent.Store(true)
	u.says("the cloud cr was not heard for") // with its account, which was known by then
	until(t, "both are told", func() bool {
		n := 0
		for _, x := range d.told() {
			if strings.Contains(x.Says, "the cloud cr was not heard for") {
				n++
			}
			if strings.Contains(x.Says, "the account ar was not read") {
				t.Fatalf("the account is told beside its cloud: %+v", x)
			}
		}
		return n == 2
	}, u.log)
	// what is no longer there, and what the definitions no longer name, is told too
	h.write(filepath.Join(h.clouds, standin.StateFile), strings.Replace(h.state(), spare, "", 1))
	until(t, "spare is gone", d.has(notify.Blind, "spare is watched no longer: its cloud cu shows no such account"), u.log)
	h.cloudsAlone("cl")
	until(t, "cl is gone", d.has(notify.Blind, "al is watched no longer: the definitions no longer name their cloud"), u.log)
	u.stop()
}

// An account in which a run was broken off is not judged: one round says so at once and does not take what it knew for
// what is there; watching tells it when it lasts, and when it is over, however that run was brought to its end.
func TestUpholdOfBrokenOff(t *testing.T) {
	t.Parallel()
	for _, end := range [][]string{{"repeal"}, {"enact", "--resume"}, {"repeal", "--give-up"}} {
		h := newUpheld(t, "")
		h.must(0, "everything is as it was decided", "uphold", "--once")
		h.define(strings.Replace(upheldGroups, "admit https from everyone }", "admit https, http from everyone }", 1))
		h.must(0, "", "draft")
		h.writes.Store(0)
		h.refuses = 2
		if code, out := h.run("enact"); code == 0 {
			t.Fatal(out)
		}
		h.refuses = 0
		foreign, _ := h.ask("POST", "/cu/v1/accounts/au/groups", `{"name":"theirs","network":"nu"}`)["group"].(map[string]any)
		h.ask("POST", "/cu/v1/accounts/au/groups/"+foreign["id"].(string)+"/rules",
			`{"direction":"in","peers":["0.0.0.0/0"],"services":["tcp 5432"]}`)
		began := time.Now()
		if out := h.must(3, "1 account could not be judged", "uphold", "--once"); !strings.Contains(out,
			"a run was broken off there, and is to be carried on or undone: isonomos repeal --list") {
			t.Error(out)
		}
		if took := time.Since(began); took > 20*time.Second {
			t.Errorf("a round waits for somebody, %s long", took)
		}
		d := newDesk(t, 0)
		h.settings(fmt.Sprintf("[uphold]\nblind-after = \"1s\"\n[notify.desk]\nto = %q\n", d.web.URL))
		u := h.uphold()
		u.says("the account au was not judged for")
		until(t, "it is not ready", func() bool {
			code, text := u.get("/readyz")
			return code == 503 && text == "1 of 4 accounts are not seen, such as au\n"
		}, u.log)
		h.must(0, "", end...)
		u.says("the account au is read again, and judged")
		until(t, "what was opened meanwhile is told", func() bool {
			return slices.Contains(kinds(d.told()), "opened au/nu/theirs")
		}, u.log)
		u.ready()
		u.stop()
	}
}

// Who wants to know of one stage alone is told of passes there, and that an account is blind which has such groups, and
// of nothing elsewhere.
func TestOnlyOfPlaces(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, `
group night in nu "Night" { cover where role = db or role = desk
  reach ssh at 10.1.0.0/16
  lend ssh to 10.1.0.0/16 for at most 1h because "on call" }
group late in nr "Late" { cover where role = db or role = desk
  reach ssh at 10.2.0.0/16
  lend ssh to 10.2.0.0/16 for at most 1h because "on call" }
`)
	var hangs atomic.Bool
	h.through(func(w http.ResponseWriter, r *http.Request) {
		if hangs.Load() && (strings.HasPrefix(r.URL.Path, "/cr/v1/accounts/ar/") ||
			strings.HasPrefix(r.URL.Path, "/cu/v1/accounts/au/")) {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		h.server.ServeHTTP(w, r)
	})
	lab, staging := newDesk(t, 0), newDesk(t, 0)
	h.settings(fmt.Sprintf("[uphold]\nblind-after = \"3s\"\nlook-again = \"1s\"\n[notify.lab]\nto = %q\nonly = \"stage = lab\"\n"+
		"[notify.staging]\nto = %q\nonly = \"stage = staging\"\n", lab.web.URL, staging.web.URL))
	u := h.uphold()
	u.ready()
	h.must(0, "", "pass", "issue", "night", "--to", "10.1.2.13", "--for", "2s", "--because", "figures")
	h.must(0, "", "pass", "issue", "late", "--to", "10.2.2.13", "--for", "2s", "--because", "figures")
	want := func(d *desk, what ...string) {
		t.Helper()
		until(t, fmt.Sprint(what), func() bool { return len(kinds(d.told())) >= len(what) }, u.log)
		time.Sleep(200 * time.Millisecond) // for what should not be told
		if got := kinds(d.told()); !slices.Equal(got, what) {
			t.Fatalf("told %q, want %q", got, what)
		}
	}
	want(lab, "pass-issued au/nu/night", "pass-ended au/nu/night")
	want(staging, "pass-issued ar/nr/late", "pass-ended ar/nr/late")
	h.ask("PATCH", "/cu/v1/accounts/au/groups/"+h.groupID("au", "web"), fmt.Sprintf(
		`{"labels":{"isonomos":"pier","isonomos-hands-off":%q}}`, time.Now().Add(time.Hour).UTC().Format(time.RFC3339)))
	want(lab, "pass-issued au/nu/night", "pass-ended au/nu/night", "hands-off au/nu/web")
	want(staging, "pass-issued ar/nr/late", "pass-ended ar/nr/late")
	u.stop()
	hangs.Store(true)
	u = h.uphold()
	want(lab, "pass-issued au/nu/night", "pass-ended au/nu/night", "hands-off au/nu/web", "blind ")
	want(staging, "pass-issued ar/nr/late", "pass-ended ar/nr/late", "blind ")
	if n := staging.told(); n[len(n)-1].Account != "ar" {
		t.Errorf("%+v", n[len(n)-1])
	}
	u.stop()
}

// Whoever reads what is told on standard output may go away: it watches on, and tells the others.
func TestUpholdOutlivesItsReader(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, "")
	d := newDesk(t, 0)
	h.settings(fmt.Sprintf("[notify.here]\nto = \"stdout\"\n[notify.desk]\nto = %q\n", d.web.URL))
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	u := h.upholdTo(w, new(lockedBuffer))
	w.Close()
	r.Close()
	u.says("a notice could not be sent, and is tried again (target here")
	u.ready()
	h.open(0, "0.0.0.0/0", "tcp 22", 0)
	until(t, "the desk is told", func() bool { return slices.Contains(kinds(d.told()), "opened au/nu/web") }, u.log)
	_ = u.c.Process.Signal(syscall.SIGTERM)
	if err := <-u.ended; err == nil || !strings.Contains(u.log.String(), "standard output can't be written") {
		t.Errorf("at its end nothing is said of what could not be written: %v", err)
	}
	h.must(3, "3 notices are for here still to be sent", "uphold", "status")
}

// A group whose definition can't be carried out any more, since its cloud allows less, is told: what it lets through can't
// be held against it. All others are judged as before.
func TestUpholdOfUnfit(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, "group more in nu \"More\" { cover where role = db\n  admit ssh from 10.1.0.0/16\n"+
		"  admit rdp from 10.1.0.0/16\n  admit https from 10.2.0.0/16 }\n")
	h.must(0, "everything is as it was decided", "uphold", "--once")
	whole := h.state()
	tight := strings.Replace(whole, `"name":"au","cloud":"cu","limits":{`,
		`"name":"au","cloud":"cu","limits":{"rules-per-direction":2,`, 1)
	if tight == whole {
		t.Fatal(whole)
	}
	h.write(filepath.Join(h.clouds, standin.StateFile), tight)
	out := h.must(1, "au/nu/more: its definition can't be carried out, so that only laws count there", "uphold", "--once")
	if !strings.Contains(out, "definitions-broken") || !strings.Contains(out, "1 difference") {
		t.Error(out)
	}
	h.open(1, "0.0.0.0/0", "tcp 22", 4000)
	if out := h.must(1, "2 differences", "uphold", "--once"); !strings.Contains(out, "ar/nr/gate lets in more") {
		t.Error(out)
	}
	h.write(filepath.Join(h.clouds, standin.StateFile), strings.Replace(h.state(), `"rules-per-direction":2,`, "", 1))
	if out := h.must(1, "resolved", "uphold", "--once"); !strings.Contains(out, "1 difference from") {
		t.Error(out)
	}
}

// Where a cloud has no feed, nobody is blind between two looks, however short a time may pass until that is told; and
// what is opened is found at the next look.
func TestUpholdWithoutFeed(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, "")
	var silent atomic.Bool
	h.through(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case strings.HasSuffix(r.URL.Path, "/changes"):
			w.WriteHeader(http.StatusNotFound)
		case silent.Load() && strings.HasPrefix(r.URL.Path, "/cf/"):
			w.WriteHeader(http.StatusForbidden)
		default:
			h.server.ServeHTTP(w, r)
		}
	})
	d := newDesk(t, 0)
	h.settings(fmt.Sprintf("[uphold]\ninterval = \"3s\"\nblind-after = \"1s\"\n[notify.desk]\nto = %q\n", d.web.URL))
	u := h.uphold()
	u.ready()
	time.Sleep(5 * time.Second)
	h.open(0, "0.0.0.0/0", "tcp 22", 0)
	until(t, "it is found", func() bool { return slices.Contains(kinds(d.told()), "opened au/nu/web") }, u.log)
	if got := kinds(d.told()); len(got) != 1 {
		t.Errorf("told %q\n%s", got, u.log)
	}
	silent.Store(true)
	until(t, "its cloud is told", d.has(notify.Blind, ""), u.log)
	silent.Store(false)
	u.ready()
	u.stop()
	for _, n := range d.told() {
		if n.Type == notify.Blind && !strings.Contains(n.Says, "the cloud cf was not heard") &&
			!strings.Contains(n.Says, "the account af was not read") {
			t.Errorf("told to be blind: %+v", n)
		}
	}
}
