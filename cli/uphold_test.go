package cli_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"isonomos/cloud/standin"
	"isonomos/notify"
	"isonomos/store"
)

// A desk takes notices by HTTP, and fails in a share of all requests.
type desk struct {
	mu     sync.Mutex
	got    []notify.Notice // in the order in which they came, with repeats
	fails  float64
	random *rand.Rand
	web    *httptest.Server
}

func newDesk(t testing.TB, fails float64) *desk {
	published := publishedSchema(t, "notice")
	d := &desk{fails: fails, random: rand.New(rand.NewPCG(5, 6))}
	d.web = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		if err != nil {
			return // who sends it has ended in the middle of it
		}
		var e struct{ Data notify.Notice }
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.random.Float64() < d.fails {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		var whole struct{ Data any }
		if err := errors.Join(json.Unmarshal(body, &e), json.Unmarshal(body, &whole)); err != nil {
			t.Errorf("%v: %s", err, body)
		}
		if err := published.Validate(whole.Data); err != nil {
			t.Errorf("%v: %s", err, body)
		}
		if len(e.Data.Notices) > 0 {
			d.got = append(d.got, e.Data.Notices...)
		} else {
			d.got = append(d.got, e.Data)
		}
	}))
	t.Cleanup(d.web.Close)
	return d
}

// desk is one that is told everything, and has no other settings beside it.
func (h *harbourmaster) desk() *desk {
	d := newDesk(h.t, 0)
	h.settings(fmt.Sprintf("[notify.desk]\nto = %q\nper-minute = 1000\n", d.web.URL))
	return d
}

// publishedSchema is one of docs/schemas.
func publishedSchema(t testing.TB, name string) *jsonschema.Schema {
	t.Helper()
	compiled, err := jsonschema.NewCompiler().Compile(filepath.Join("..", "docs", "schemas", name+".json"))
	if err != nil {
		t.Fatal(err)
	}
	return compiled
}

// told are the notices so far, each once.
func (d *desk) told() []notify.Notice {
	d.mu.Lock()
	defer d.mu.Unlock()
	var all []notify.Notice
	for _, n := range d.got {
		if !slices.ContainsFunc(all, func(x notify.Notice) bool { return x.ID == n.ID }) {
			all = append(all, n)
		}
	}
	return all
}

// kinds are the types and places of notices, without those of beginning and end.
func kinds(all []notify.Notice) []string {
	var list []string
	for _, n := range all {
		if n.Type != notify.Started && n.Type != notify.Stopping {
			list = append(list, n.Type+" "+n.Place)
		}
	}
	return list
}

// has reports whether it was told something of a kind.
func (d *desk) has(kind, says string) func() bool {
	return func() bool {
		return slices.ContainsFunc(d.told(), func(n notify.Notice) bool {
			return n.Type == kind && strings.Contains(n.Says, says)
		})
	}
}

// An upheld estate is one that the program watches, as a process of its own.
type upheld struct {
	t     testing.TB
	c     *exec.Cmd
	log   *lockedBuffer
	ended chan error
}

type lockedBuffer struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (b *lockedBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.Write(p)
}

func (b *lockedBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.String()
}

// uphold starts watching; the test ends it.
func (h *harbourmaster) uphold(args ...string) *upheld {
	h.t.Helper()
	log := new(lockedBuffer)
	return h.upholdTo(log, log, args...)
}

// upholdTo is uphold with its standard output elsewhere.
func (h *harbourmaster) upholdTo(stdout io.Writer, log *lockedBuffer, args ...string) *upheld {
	h.t.Helper()
	u := &upheld{t: h.t, log: log, ended: make(chan error, 1)}
	u.c = exec.Command(program, append([]string{"uphold", "--listen", "127.0.0.1:0"}, args...)...)
	u.c.Dir, u.c.Env = h.folder, h.env
	u.c.Stdout, u.c.Stderr = stdout, log
	if err := u.c.Start(); err != nil {
		h.t.Fatal(err)
	}
	go func() { u.ended <- u.c.Wait() }()
	h.t.Cleanup(func() { _ = u.c.Process.Kill() })
	return u
}

// get asks what it serves about itself.
func (u *upheld) get(path string) (int, string) {
	u.says("/metrics at ")
	_, address, _ := strings.Cut(u.log.String(), "/metrics at ")
	answer, err := http.Get("http://" + strings.Fields(address)[0] + path)
	if err != nil {
		return 0, err.Error()
	}
	defer answer.Body.Close()
	text, _ := io.ReadAll(answer.Body)
	return answer.StatusCode, string(text)
}

// ready waits until every account is seen.
func (u *upheld) ready() {
	u.t.Helper()
	until(u.t, "it is ready", func() bool { code, _ := u.get("/readyz"); return code == 200 }, u.log)
}

// stop interrupts it, and waits for its end.
func (u *upheld) stop() {
	u.t.Helper()
	_ = u.c.Process.Signal(syscall.SIGTERM)
	select {
	case err := <-u.ended:
		if err != nil {
			u.t.Errorf("it ended with %v:\n%s", err, u.log)
		}
	case <-time.After(20 * time.Second):
		u.t.Fatalf("it does not end:\n%s", u.log)
	}
}

// told is what a test says when it fails.
type told func() string

func (t told) String() string { return t() }

// until waits for something to become true.
func until(t testing.TB, what string, is func() bool, said fmt.Stringer) {
	t.Helper()
	for range 2000 {
		if is() {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Fatalf("it never came to be: %s\n%s", what, said)
}

func (u *upheld) says(text string) {
	u.t.Helper()
	until(u.t, "it says "+text, func() bool { return strings.Contains(u.log.String(), text) }, u.log)
}

// settings writes isonomos.toml.
func (h *harbourmaster) settings(text string) {
	h.write(filepath.Join(h.folder, "isonomos.toml"), text)
}

// ask asks a stand-in, as somebody whose token is in its folder's tokens.json.
func (h *harbourmaster) ask(method, path, body string) map[string]any {
	h.t.Helper()
	status, text := h.tryToAsk(method, path, body)
	if status >= 300 {
		h.t.Fatalf("%s %s %s: %s", method, path, body, text)
	}
	var o map[string]any
	_ = json.Unmarshal([]byte(text), &o)
	return o
}

// tryToAsk is ask for what may be refused.
func (h *harbourmaster) tryToAsk(method, path, body string) (status int, text string) {
	h.t.Helper()
	others := filepath.Join(h.clouds, standin.TokensFile)
	if _, err := os.Stat(others); err != nil {
		h.write(others, `[{"token":"amiras","name":"amira","may":["read","write"]}]`)
	}
	address := ""
	for _, v := range h.env {
		name, value, _ := strings.Cut(v, "=")
		if strings.HasSuffix(name, "_URL") && strings.HasSuffix(value, path[:3]) {
			address = strings.TrimSuffix(value, path[:3])
		}
	}
	r, err := http.NewRequest(method, address+path, strings.NewReader(body))
	if err != nil {
		h.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer amiras")
	r.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		h.t.Fatal(err)
	}
	defer answer.Body.Close()
	all, _ := io.ReadAll(answer.Body)
	return answer.StatusCode, string(all)
}

// groupID is the id of a group by its name.
func (h *harbourmaster) groupID(account, name string) string {
	h.t.Helper()
	for _, line := range strings.Split(h.state(), "\n") {
		var o struct{ Kind, Account, ID, Name string }
		if json.Unmarshal([]byte(line), &o) == nil && o.Kind == "group" && o.Account == account && o.Name == name {
			return o.ID
		}
	}
	h.t.Fatalf("%s has no group %s", account, name)
	return ""
}

const upheldGroups = `
group web in nu "Web" { cover where role = web
  admit https from everyone }
group gate in nr "Gate" { cover where role = web
  admit https from everyone }
group shop in nl "Shop" { cover where role = web
  admit https from everyone }
group yard in nf "Yard" { cover where role = web
  admit https from everyone }
law shut "Databases stay inside" {
  never admit postgres from internet }
`

// newUpheld are clouds in which these groups, and more, are carried out.
func newUpheld(t testing.TB, more string) *harbourmaster {
	t.Helper()
	h := newHarbourmaster(t)
	h.define(upheldGroups + more)
	h.must(0, "", "draft")
	h.must(0, "enacted", "enact")
	return h
}

// through serves the clouds through a handler from now on.
func (h *harbourmaster) through(serve http.HandlerFunc) {
	web := httptest.NewServer(serve)
	h.t.Cleanup(web.Close)
	for i, v := range h.env {
		if name, value, _ := strings.Cut(v, "="); strings.HasSuffix(name, "_URL") &&
			strings.HasPrefix(value, "http://127") {
			h.env[i] = name + "=" + web.URL + value[len(value)-3:]
		}
	}
}

// upheldBy are the groups of upheldGroups by account, and the paths of their clouds.
var upheldBy = []upheldGroup{{"/cu", "au", "nu", "web"},
	{"/cr", "ar", "nr", "gate"}, {"/cl", "al", "nl", "shop"}, {"/cf", "af", "nf", "yard"}}

type upheldGroup struct{ path, account, network, group string }

// place is the group's full name.
func (x upheldGroup) place() string {
	if x.path == "/cf" { // its groups are in no network
		return x.account + "/" + x.group
	}
	return x.account + "/" + x.network + "/" + x.group
}

// open lets ssh in from an address, and returns the path at which that is taken back.
func (h *harbourmaster) open(i int, peer, service string, rank int) string {
	x := upheldBy[i]
	at := x.path + "/v1/accounts/" + x.account + "/groups/" + h.groupID(x.account, x.group) + "/rules"
	body := fmt.Sprintf(`{"direction":"in","peers":[%q],"services":[%q],"rank":%d}`, peer, service, rank)
	if x.path != "/cr" {
		body = fmt.Sprintf(`{"direction":"in","peers":[%q],"services":[%q]}`, peer, service)
	}
	id, _ := h.ask("POST", at, body)["id"].(string)
	return at + "/" + id
}

// What is opened, closed or taken off by hand is told within seconds, in each dialect, with who did it, the packet, the
// command, and the journal's last entry; what was resolved too. A rule that is written differently, a run of enact and a
// pass are no differences. Passes are told, and are ended when they are over.
func TestUpholdTells(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, `
group night in nu "Night" { cover where role = db or role = desk
  reach ssh at 10.1.0.0/16
  lend ssh to 10.1.0.0/16 for at most 1h because "on call" }
`)
	d, high := newDesk(t, 0), newDesk(t, 0)
	h.settings(fmt.Sprintf("[notify.desk]\nto = %q\nper-minute = 100\n[notify.high]\nto = %q\nleast = \"high\"\nonly = \"stage = staging\"\n",
		d.web.URL, high.web.URL))
	u := h.uphold("--look-again", "2s")
	u.says("watches 4 defined accounts in 4 clouds")
	u.ready()
	var want []string
	expect := func(what ...string) []notify.Notice {
		t.Helper()
		want = append(want, what...)
		until(t, strings.Join(want, ", "), func() bool { return len(kinds(d.told())) >= len(want) }, u.log)
		got := kinds(d.told())
		if !slices.Equal(got, want) {
			t.Fatalf("told %q, want %q\n%s", got, want, u.log)
		}
		all := d.told()
		return all[len(all)-len(what):]
	}
	for i, x := range upheldBy {
		place := x.place()
		began := time.Now()
		undo := h.open(i, "0.0.0.0/0", "tcp 22", 4000)
		n := expect("opened " + place)[0]
		if took := time.Since(began); took > 2*time.Second {
			t.Errorf("%s was told after %s", place, took)
		}
		if n.Severity != "critical" || n.Changes == nil || n.Changes.By != "amira" || n.Traffic == nil ||
			n.Traffic.Example == nil || len(n.Traffic.Instances) != 2 || !strings.Contains(n.Says, "ssh from everyone") ||
			!strings.Contains(n.Undo, "isonomos draft --account "+x.account) || n.Journal.Number == 0 || n.Journal.Hash == "" {
			t.Errorf("%+v", n)
		}
		h.ask("DELETE", undo, "")
		if n := expect("resolved " + place)[0]; n.Since == nil || n.Changes == nil || n.Changes.By != "amira" {
			t.Errorf("%+v", n)
		}
	}
	if got := kinds(high.told()); !slices.Equal(got, []string{"opened ar/nr/gate", "resolved ar/nr/gate"}) {
		t.Errorf("who wants to know of staging, from high on, was told %q", got)
	}
	// written differently
	h.open(0, "0.0.0.0/1", "tcp 443", 0)
	// of another group, which breaks a law
	foreign, _ := h.ask("POST", "/cl/v1/accounts/al/groups", `{"name":"theirs","network":"nl"}`)["group"].(map[string]any)
	at := "/cl/v1/accounts/al/groups/" + foreign["id"].(string)
	h.ask("POST", at+"/rules", `{"direction":"in","peers":["0.0.0.0/0"],"services":["tcp 5432"]}`)
	if n := expect("opened al/nl/theirs")[0]; n.Law != "shut" || n.Changes.By != "amira" {
		t.Errorf("%+v", n)
	}
	// taken off an instance
	var web []string
	for _, line := range strings.Split(h.state(), "\n") {
		if strings.Contains(line, `"kind":"instance","account":"au","id":"i0"`) {
			web = append(web, line)
		}
	}
	if len(web) != 1 {
		t.Fatalf("%q", web)
	}
	h.ask("PUT", "/cu/v1/accounts/au/interfaces/f0/groups", `{"groups":[]}`)
	closed := expect("closed au/u0")[0]
	if !strings.Contains(closed.Paragraph(), "no longer lets in what was decided") {
		t.Errorf("%s", closed.Paragraph())
	}
	h.ask("PUT", "/cu/v1/accounts/au/interfaces/f0/groups", fmt.Sprintf(`{"groups":[%q]}`, h.groupID("au", "web")))
	expect("resolved au/u0")
	// a pass, and its end, which uphold sees to
	h.must(0, "", "pass", "issue", "night", "--to", "10.1.2.13", "--for", "3s", "--because", "figures")
	expect("pass-issued au/nu/night")
	expect("pass-ended au/nu/night")
	if strings.Contains(h.state(), "isonomos pass") {
		t.Error("the pass is still there")
	}
	id := passID.FindStringSubmatch(h.must(0, "", "pass", "issue", "night", "--to", "10.1.2.13", "--on", "u2",
		"--because", "figures"))[1]
	expect("pass-issued au/nu/night")
	h.must(0, "", "pass", "end", id)
	expect("pass-ended au/nu/night")
	// a run of enact: what it does was decided
	h.define(upheldGroups)
	expect("opened au/u2, au/u3") // what the definitions no longer have is still let out
	h.must(0, "", "draft")
	h.must(0, "enacted", "enact")
	expect("resolved au/u2, au/u3")
	time.Sleep(time.Second) // for what should not be told
	expect()
	u.stop()
	all := d.told()
	if last := all[len(all)-1]; last.Type != notify.Stopping {
		t.Errorf("the end was not told: %+v", last)
	}
	h.namesJournal(all)
}

// namesJournal finds in the journal the entry that each notice names.
func (h *harbourmaster) namesJournal(all []notify.Notice) {
	h.t.Helper()
	s, err := store.Open(filepath.Join(h.folder, "isonomos.db"), false)
	if err != nil {
		h.t.Fatal(err)
	}
	defer s.Close()
	hashes := make(map[int]string)
	if err := s.Journal(func(e store.Entry) error { hashes[e.Number] = e.Hash; return nil }); err != nil {
		h.t.Fatal(err)
	}
	for _, n := range all {
		if n.Journal.Number == 0 || hashes[n.Journal.Number] != n.Journal.Hash {
			h.t.Errorf("%s names the journal's entry %d %s, which is %s", n.ID, n.Journal.Number, n.Journal.Hash,
				hashes[n.Journal.Number])
		}
	}
}

// One round says what holds, by its exit code too; the second one tells nobody again. Wrong use and what can't be read
// never end in silence.
func TestUpholdOnce(t *testing.T) {
	t.Parallel()
	h := newHarbourmaster(t)
	h.define(upheldGroups)
	h.must(1, "", "uphold", "--once") // nothing is carried out yet
	h.must(0, "", "draft")
	h.must(0, "enacted", "enact")
	h.must(0, "everything is as it was decided", "uphold", "--once")
	d := newDesk(t, 0)
	h.settings(fmt.Sprintf("[notify.desk]\nto = %q\n", d.web.URL))
	h.open(1, "192.0.2.0/24", "tcp 5432", 4000)
	out := h.must(1, "ar/nr/gate", "uphold", "--once")
	if !strings.Contains(out, "1 difference from what was decided") || !strings.Contains(out, "postgres from 192.0.2.0/24") {
		t.Error(out)
	}
	out = h.must(1, `"place": "ar/nr/gate"`, "uphold", "--once", "--format", "json")
	out = out[strings.Index(out, "{\n"):] // what stands before it is the log
	parsed, err := jsonschema.UnmarshalJSON(strings.NewReader(out))
	if err == nil {
		err = publishedSchema(t, "round").Validate(parsed)
	}
	if err != nil {
		t.Errorf("%v\n%s", err, out)
	}
	if got := kinds(d.told()); !slices.Equal(got, []string{"opened ar/nr/gate"}) {
		t.Errorf("told %q", got)
	}
	h.must(2, "--format is for the result of --once", "uphold", "--format", "json")
	h.must(2, "takes no argument", "uphold", "now")
	h.must(2, "above zero", "uphold", "--interval", "0s")
	h.must(2, `isonomos.toml:2: there is no setting "notify.desk.too": "to" is near`, h.badSettings("[notify.desk]\ntoo = \"x\"\n")...)
	h.must(2, "[notify.desk]: the environment variable NO_SUCH", h.badSettings("[notify.desk]\nto = \"stdout\"\ntoken-env = \"NO_SUCH\"\n")...)
	h.settings("")
	h.must(2, "name nobody who is told", "uphold", "--test-notices")
	h.settings(fmt.Sprintf("[notify.desk]\nto = %q\n[notify.gone]\nto = \"http://127.0.0.1:1\"\n", d.web.URL))
	if out := h.must(3, "desk ("+d.web.URL+") took the example", "uphold", "--test-notices"); !strings.Contains(out,
		"gone (http://127.0.0.1:1) did not take the example") {
		t.Error(out)
	}
	h.settings("[notify.here]\nto = \"stdout\"\n")
	h.must(2, "leave one of them out", "uphold", "--once", "--format", "json")
	h.must(2, "such as 127.0.0.1:9480", "uphold", "--listen", "9480")
	if err := os.Remove(filepath.Join(h.folder, "isonomos.toml")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("/etc/hostname", filepath.Join(h.folder, "isonomos.toml")); err != nil {
		t.Fatal(err)
	}
	h.must(4, "isonomos.toml is a link that leads out of the folder", "uphold", "--once")
	if err := os.Remove(filepath.Join(h.folder, "isonomos.toml")); err != nil {
		t.Fatal(err)
	}
	h.settings("")
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	h.must(3, "nothing can listen at "+taken.Addr().String(), "uphold", "--listen", taken.Addr().String())
	token := filepath.Join(h.clouds, standin.TokenFile)
	good, err := os.ReadFile(token)
	if err != nil {
		t.Fatal(err)
	}
	h.write(token, "another one")
	h.must(3, "401", "uphold", "--once")
	h.write(token, string(good))
	h.must(1, "ar/nr/gate", "uphold", "--once")
	h.must(3, "nobody watches: what stands here", "uphold", "status")
	first := h.uphold()
	first.says("watches")
	first.ready()
	if out := h.must(1, "watched by ", "uphold", "status"); !strings.Contains(out, "opened    critical  ar/nr/gate  since 20") {
		t.Error(out)
	}
	h.must(4, "is being", "uphold", "--once") // one at a time
	first.stop()
	h.write(filepath.Join(h.folder, "pier.nomos"), "estate pier\ngroup {\n")
	h.must(2, "mistake", "uphold", "--once")
}

// badSettings writes settings, and is the command that reads them.
func (h *harbourmaster) badSettings(text string) []string {
	h.settings(text)
	return []string{"uphold", "--once"}
}

// An account that hangs holds up no other, and is told to be blind; so is one whose token has expired. Definitions that
// break go on to count as they were, and both that and their end are told. It says of itself whether it is ready.
func TestUpholdIsBlind(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, "")
	d := newDesk(t, 0)
	h.settings(fmt.Sprintf("[uphold]\nblind-after = \"2s\"\n[notify.desk]\nto = %q\n", d.web.URL))
	var hangs, stuck = make(chan struct{}), true
	var mu sync.Mutex
	h.through(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		is := stuck && strings.HasPrefix(r.URL.Path, "/cl/v1/accounts/al/")
		mu.Unlock()
		if is {
			select {
			case <-hangs:
			case <-r.Context().Done():
				return
			}
		}
		h.server.ServeHTTP(w, r)
	})
	u := h.uphold()
	until(t, "al is blind", d.has(notify.Blind, "the account al was not read for"), u.log)
	h.open(0, "0.0.0.0/0", "tcp 22", 0)
	until(t, "what au opens is told meanwhile", d.has(notify.Opened, "ssh from everyone"), u.log)
	if code, text := u.get("/readyz"); code != 503 || !strings.Contains(text, "1 of 4 accounts are not seen, such as al") {
		t.Errorf("readyz: %d %s", code, text)
	}
	if code, text := u.get("/healthz"); code != 200 || text != "ok\n" {
		t.Errorf("healthz: %d %s", code, text)
	}
	if code, _ := u.get("/debug/pprof/"); code != 404 {
		t.Errorf("more is served: %d", code)
	}
	mu.Lock()
	stuck = false
	mu.Unlock()
	close(hangs)
	until(t, "al is seen again", d.has(notify.Resolved, "the account al is read again"), u.log)
	u.ready()
	if _, text := u.get("/metrics"); !strings.Contains(text, "isonomos_accounts 4") ||
		!strings.Contains(text, `isonomos_differences{kind="opened"} 1`) ||
		!strings.Contains(text, "isonomos_decision_seconds_count") ||
		!strings.Contains(text, `isonomos_notices_sent_total{target="desk"}`) {
		t.Errorf("metrics:\n%s", text)
	}
	// definitions that break, and are mended
	text, err := os.ReadFile(filepath.Join(h.folder, "pier.nomos"))
	if err != nil {
		t.Fatal(err)
	}
	whole := string(text)
	h.write(filepath.Join(h.folder, "pier.nomos"), whole+"group {\n")
	until(t, "broken definitions are told", d.has(notify.DefinitionsBroken, "have a mistake"), u.log)
	h.open(1, "0.0.0.0/0", "tcp 22", 4000)
	until(t, "the last good ones count", func() bool {
		return slices.Contains(kinds(d.told()), "opened ar/nr/gate")
	}, u.log)
	h.write(filepath.Join(h.folder, "pier.nomos"), whole)
	until(t, "mended definitions are told", d.has(notify.Resolved, "can be read again"), u.log)
	// a token that expires in the middle
	token := filepath.Join(h.clouds, standin.TokenFile)
	good, err := os.ReadFile(token)
	if err != nil {
		t.Fatal(err)
	}
	h.write(token, "another one")
	until(t, "a token that has expired is told", d.has(notify.Blind, "401"), u.log)
	h.write(token, string(good))
	u.ready()
	u.stop()
}

// Killed at random while somebody opens and shuts ports, and one desk fails half of the time: in the end every opening
// that was there was told to both, and that it is gone, in their order, and nothing else. Each names the journal.
func TestUpholdKilled(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, "")
	desks := []*desk{newDesk(t, 0.5), newDesk(t, 0)}
	h.settings(fmt.Sprintf("[notify.desk]\nto = %q\nper-minute = 1000\n[notify.other]\nto = %q\nper-minute = 1000\n",
		desks[0].web.URL, desks[1].web.URL))
	u := h.uphold()
	u.ready()
	random := rand.New(rand.NewPCG(8, 9))
	var want []string
	undo := make([]string, len(upheldBy))
	for k := range 24 {
		i := random.IntN(len(upheldBy))
		place := upheldBy[i].place()
		if undo[i] == "" {
			undo[i] = h.open(i, fmt.Sprintf("192.0.2.%d/32", k), "tcp 22", 4000)
			want = append(want, fmt.Sprintf("opened %s 192.0.2.%d", place, k))
		} else {
			h.ask("DELETE", undo[i], "")
			undo[i] = ""
			want = append(want, "resolved "+place)
		}
		time.Sleep(time.Duration(random.IntN(40)) * time.Millisecond)
		if k%3 == 2 {
			_ = u.c.Process.Kill()
			<-u.ended
			u = h.uphold()
			time.Sleep(time.Duration(random.IntN(300)) * time.Millisecond)
		}
	}
	got := func(d *desk) []string {
		var list []string
		for _, n := range d.told() {
			switch n.Type {
			case notify.Opened:
				list = append(list, "opened "+n.Place+" "+strings.Fields(n.Traffic.Peers + " ")[0])
			case notify.Started, notify.Stopping:
			default:
				list = append(list, n.Type+" "+n.Place)
			}
		}
		return list
	}
	for k, d := range desks {
		until(t, "everything was told", func() bool { return len(got(d)) >= len(want) },
			told(func() string { return strings.Join(got(d), "\n") + "\nwant\n" + strings.Join(want, "\n") }))
		time.Sleep(500 * time.Millisecond) // for what should not be told
		// accounts are judged independently: the order is that of each of them
		for _, x := range upheldBy {
			of := func(list []string) []string {
				return slices.DeleteFunc(slices.Clone(list),
					func(s string) bool { return !strings.Contains(s, " "+x.account+"/") })
			}
			if g, w := of(got(d)), of(want); !slices.Equal(g, w) {
				t.Errorf("desk %d, %s: told\n  %s\nwant\n  %s\n%s", k, x.account, strings.Join(g, "\n  "),
					strings.Join(w, "\n  "), u.log)
			}
		}
	}
	u.stop()
	for _, d := range desks {
		h.namesJournal(d.told())
	}
	s, err := store.Open(filepath.Join(h.folder, "isonomos.db"), false)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	held, err := s.Holding(t.Context(), "uphold", false)
	open := 0
	for _, x := range undo {
		if x != "" {
			open++
		}
	}
	if err != nil || len(held) != open {
		t.Errorf("%d hold, want %d, %v", len(held), open, err)
	}
}

// A feed that has lost its position is said to have, and everything is read again: what happened meanwhile is told.
func TestUpholdFeedIsLost(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, "")
	d := newDesk(t, 0)
	var mu sync.Mutex
	inner := h.server
	h.through(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		now := inner
		mu.Unlock()
		now.ServeHTTP(w, r)
	})
	h.settings(fmt.Sprintf("[uphold]\nblind-after = \"3s\"\n[notify.desk]\nto = %q\n", d.web.URL))
	u := h.uphold()
	u.ready()
	next, err := standin.Open(h.clouds) // with a feed of its own
	if err != nil {
		t.Fatal(err)
	}
	mu.Lock()
	inner = next
	mu.Unlock()
	h.open(3, "0.0.0.0/0", "tcp 22", 0)
	u.says("lost its position")
	until(t, "what was opened meanwhile is told", func() bool {
		return slices.Equal(kinds(d.told()), []string{"opened af/yard"})
	}, u.log)
	u.ready()
	h.open(0, "0.0.0.0/0", "tcp 22", 0)
	until(t, "the new feed is followed", func() bool {
		return slices.Contains(kinds(d.told()), "opened au/nu/web")
	}, u.log)
	u.stop()
}

// Groups that were adopted from a whole estate by chance, in all dialects, and marked, are as it was decided: watching
// finds nothing in them but what breaks a law.
func TestUpholdOfAdopted(t *testing.T) {
	t.Parallel()
	h := &harbourmaster{t: t, clouds: t.TempDir(), folder: t.TempDir(), env: append(os.Environ(), "NO_COLOR=1")}
	h.must(0, "", "sandbox", "generate", "--accounts", "12", "--groups", "160", "--rules", "1500", "--pack", "none",
		"--seed", "5", "made")
	survey, err := os.ReadFile(filepath.Join(h.folder, "made", "survey.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.RemoveAll(filepath.Join(h.folder, "made")); err != nil {
		t.Fatal(err)
	}
	h.write(filepath.Join(h.clouds, standin.StateFile), string(survey))
	if h.server, err = standin.Open(h.clouds); err != nil {
		t.Fatal(err)
	}
	secret, err := os.ReadFile(filepath.Join(h.clouds, standin.TokenFile))
	if err != nil {
		t.Fatal(err)
	}
	web := httptest.NewServer(h.server)
	defer web.Close()
	text := "estate generated\n"
	for name, dialect := range map[string]string{"northmere": "union", "easthold": "ranked", "westing": "layered",
		"southfleet": "flat"} {
		variable := strings.ToUpper(name)
		text += fmt.Sprintf("cloud %s { dialect %s\n  at env %s_URL\n  token env %s_TOKEN }\n", name, dialect, variable,
			variable)
		h.env = append(h.env, variable+"_URL="+web.URL+"/"+name, variable+"_TOKEN="+string(secret))
	}
	h.write(filepath.Join(h.folder, "clouds.nomos"), text)
	h.must(0, "adopted: ", "adopt", "--all", "--live", "--write")
	h.must(0, "", "draft", "--adopt", "all")
	h.must(0, "enacted", "enact", "--allow-gaps")
	h.must(0, "everything is as it was decided", "uphold", "--once")
}

// One account of many hangs: all the others are judged all the same, and what they open is told.
func TestUpholdManyAccounts(t *testing.T) {
	t.Parallel()
	h := newHarbourmaster(t)
	const many = 200
	text := h.state()
	for i := range many {
		text += fmt.Sprintf(`{"kind":"account","name":"m%[1]d","cloud":"cu"}
{"kind":"network","account":"m%[1]d","id":"n","name":"n","ranges":["10.9.0.0/16"]}
{"kind":"group","account":"m%[1]d","network":"n","id":"g","name":"g","for":"instances"}
`, i)
	}
	h.write(filepath.Join(h.clouds, standin.StateFile), text)
	h.define("law shut \"Nothing is open\" {\n  never admit any from internet }\n")
	h.through(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/cu/v1/accounts/m77/") {
			<-r.Context().Done()
			return
		}
		h.server.ServeHTTP(w, r)
	})
	d := newDesk(t, 0)
	h.settings(fmt.Sprintf("[uphold]\nblind-after = \"6s\"\n[notify.desk]\nto = %q\n", d.web.URL))
	u := h.uphold()
	until(t, "all but one are seen", func() bool {
		_, text := u.get("/readyz")
		return strings.Contains(text, fmt.Sprintf("1 of %d accounts are not seen, such as m77", many+4))
	}, u.log)
	h.ask("POST", "/cu/v1/accounts/m199/groups/g/rules", `{"direction":"in","peers":["0.0.0.0/0"],"services":["tcp 22"]}`)
	until(t, "what another one opens is told, and that one is blind", func() bool {
		told := kinds(d.told())
		return slices.Contains(told, "opened m199/n/g") && slices.Contains(told, "blind ")
	}, u.log)
	told := slices.Sorted(slices.Values(kinds(d.told())))
	if want := []string{"blind ", "opened al/nl/default", "opened m199/n/g"}; !slices.Equal(told, want) {
		t.Errorf("told %q, want %q: the second is built in", told, want)
	}
	u.stop()
}
