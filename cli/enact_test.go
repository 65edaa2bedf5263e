package cli_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"isonomos/cloud/standin"
	"isonomos/enact"
)

// A harbourmaster runs small clouds of each dialect in this process, beside an estate
// that is defined on them.
type harbourmaster struct {
	t       testing.TB
	clouds  string // folder of the stand-ins
	folder  string // of the definitions
	env     []string
	server  *standin.Server
	writes  atomic.Int32
	onWrite func(n int32, serve func()) // nil serves it
	refuses int32                       // every change from this one on is refused; 0 refuses none
	limit   func(w http.ResponseWriter) bool
	unique  string        // begins the names of environment variables, for tests that run the program in this process
	dateOff time.Duration // how far the clouds' clocks are off
}

const smallClouds = `{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z","estate":"pier"}
{"kind":"cloud","name":"cu","dialect":"union"}
{"kind":"cloud","name":"cr","dialect":"ranked"}
{"kind":"cloud","name":"cl","dialect":"layered"}
{"kind":"cloud","name":"cf","dialect":"flat"}
`

const smallDefinitions = `estate pier
cloud cu { dialect union
  at env CU_URL
  token env CU_TOKEN }
cloud cr { dialect ranked
  at env CR_URL
  token env CR_TOKEN }
cloud cl { dialect layered
  at env CL_URL
  token env CL_TOKEN }
cloud cf { dialect flat
  at env CF_URL
  token env CF_TOKEN }
account af { cloud cf
  label stage = lab }
account au { cloud cu
  label stage = lab }
account ar { cloud cr
  label stage = staging }
account al { cloud cl
  label stage = production }
network nu in au { range 10.1.0.0/16
  subnet s1 10.1.1.0/24
  subnet s2 10.1.2.0/24 }
network nr in ar { range 10.2.0.0/16
  subnet s1 10.2.1.0/24
  subnet s2 10.2.2.0/24 }
network nl in al { range 10.3.0.0/16
  subnet s1 10.3.1.0/24
  subnet s2 10.3.2.0/24 }
network nf in af { range 10.4.0.0/16
  subnet s1 10.4.1.0/24
  subnet s2 10.4.2.0/24 }
`

func newHarbourmaster(t testing.TB) *harbourmaster {
	t.Helper()
	lookAtSource()
	h := &harbourmaster{t: t, clouds: t.TempDir(), folder: t.TempDir()}
	var b strings.Builder
	b.WriteString(smallClouds)
	for n, name := range []string{"u", "r", "l", "f"} {
		account := "a" + name
		fmt.Fprintf(&b, `{"kind":"account","name":%q,"cloud":"c%s","limits":{"subnet-rules-per-direction":60}}`+"\n",
			account, name)
		fmt.Fprintf(&b, `{"kind":"network","account":%q,"id":"n%s","name":"n%s","ranges":["10.%d.0.0/16"]}`+"\n",
			account, name, name, n+1)
		for s := 1; s <= 2; s++ {
			fmt.Fprintf(&b,
				`{"kind":"subnet","account":%q,"network":"n%s","id":"s%d","name":"s%d","ranges":["10.%d.%d.0/24"],"routes":[{"to":"0.0.0.0/0","via":"internet"}],"groups":[]}`+"\n", account, name, s, s, n+1, s)
		}
		for i, role := range []string{"web", "web", "db", "desk"} {
			fmt.Fprintf(&b,
				`{"kind":"instance","account":%q,"id":"i%d","name":"%s%d","type":"machine","labels":{"role":%q},"interfaces":[{"id":"f%d","subnet":"s%d","private":["10.%d.%d.%d"],"groups":[],"filtered":true}]}`+"\n", account, i, name, i, role, i, 1+i/2, n+1, 1+i/2, 10+i)
		}
	}
	b.WriteString(
		`{"kind":"group","account":"au","network":"nu","id":"def","name":"default","for":"instances","built_in":true,"default":true}` + "\n")
	h.write(filepath.Join(h.clouds, standin.StateFile), b.String())
	h.serve()
	return h
}

func (h *harbourmaster) write(path, text string) {
	h.t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		h.t.Fatal(err)
	}
}

// serve serves the clouds until the test ends.
func (h *harbourmaster) serve() {
	h.t.Helper()
	var err error
	if h.server, err = standin.Open(h.clouds); err != nil {
		h.t.Fatal(err)
	}
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if h.limit != nil && !h.limit(w) {
			return
		}
		if h.dateOff != 0 {
			w.Header().Set("Date", time.Now().Add(h.dateOff).UTC().Format(http.TimeFormat))
		}
		if r.Method != http.MethodGet && h.refuses > 0 && h.writes.Add(1) >= h.refuses {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusConflict)
			_, _ = w.Write([]byte(`{"type":"about:blank","title":"Conflict","status":409,"detail":"the quota is used up"}`))
			return
		}
		if r.Method == http.MethodGet || h.onWrite == nil {
			h.server.ServeHTTP(w, r)
			return
		}
		h.onWrite(h.writes.Add(1), func() { h.server.ServeHTTP(w, r) })
	}))
	web.Config.ErrorLog = nil
	h.t.Cleanup(web.Close)
	secret, err := os.ReadFile(filepath.Join(h.clouds, standin.TokenFile))
	if err != nil {
		h.t.Fatal(err)
	}
	h.env = append(os.Environ(), "NO_COLOR=1", "ISONOMOS_REQUEST_SECONDS=1")
	for _, name := range []string{"cu", "cr", "cl", "cf"} {
		address, token := h.unique+strings.ToUpper(name)+"_URL", h.unique+strings.ToUpper(name)+"_TOKEN"
		h.env = append(h.env, address+"="+web.URL+"/"+name, token+"="+string(secret))
		if h.unique != "" {
			os.Setenv(address, web.URL+"/"+name)
			os.Setenv(token, string(secret))
		}
	}
}

// define writes the definitions.
func (h *harbourmaster) define(groups string) {
	h.write(filepath.Join(h.folder, "pier.nomos"), strings.ReplaceAll(smallDefinitions, "env C",
		"env "+h.unique+"C")+groups)
}

func (h *harbourmaster) command(args ...string) (*exec.Cmd, *bytes.Buffer) {
	c := exec.Command(program, args...)
	c.Dir, c.Env = h.folder, h.env
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	return c, &out
}

// run runs the program and returns its exit code (-1 where it was killed) and what it said.
func (h *harbourmaster) run(args ...string) (int, string) {
	h.t.Helper()
	c, out := h.command(args...)
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		h.t.Fatal(err)
	}
	return c.ProcessState.ExitCode(), out.String()
}

func (h *harbourmaster) must(code int, want string, args ...string) string {
	h.t.Helper()
	got, out := h.run(args...)
	if got != code || !strings.Contains(out, want) {
		h.t.Fatalf("%v: exit %d\n%s\nwant %d %s\ndefinitions:\n%s", args, got, out, code, want, h.definitions())
	}
	return out
}

func (h *harbourmaster) definitions() string {
	text, _ := os.ReadFile(filepath.Join(h.folder, "pier.nomos"))
	return strings.TrimPrefix(string(text), smallDefinitions)
}

// changes is how many changes the clouds have recorded, those by hand left out.
func (h *harbourmaster) changes() int {
	text, err := os.ReadFile(filepath.Join(h.clouds, standin.ChangesFile))
	if err != nil && !os.IsNotExist(err) {
		h.t.Fatal(err)
	}
	return bytes.Count(text, []byte("\n")) - bytes.Count(text, []byte(`"by":"edited by hand"`))
}

// randomGroups defines groups for all three networks by chance: for instances and for
// subnets, attached to some, with rules that name addresses, lists, each other.
func randomGroups(random *rand.Rand) string {
	pick := func(words ...string) string { return words[random.IntN(len(words))] }
	var b strings.Builder
	fmt.Fprintf(&b, "list known {\n  198.51.100.0/%s\n  %s\n  room 4\n}\n", pick("24", "25", "28"),
		pick("203.0.113.64/29", "203.0.113.0/24", "192.0.2.0/28"))
	for _, n := range []string{"u", "r", "l", "f"} {
		names := []string{"web", "db"}
		if random.IntN(2) == 0 {
			names = append(names, "desk")
		}
		if n != "r" && random.IntN(3) == 0 { // of which an interface has one
			names = append(names, "more")
		}
		peer := func() string {
			return pick("everyone", "list known", "192.0.2.0/28", "198.51.100.128/25",
				"group "+names[random.IntN(len(names))], "network")
		}
		for _, name := range names {
			cover := "cover where role = " + name
			if name == "more" {
				cover = "cover where role = " + pick("web", "db")
			}
			fmt.Fprintf(&b, "group %s in n%s \"%s\" {\n  %s\n", name, n, name, cover)
			for range 1 + random.IntN(4) {
				service := pick("ssh", "http", "https", "tcp 80-443", "postgres", "dns", "any")
				if random.IntN(3) > 0 {
					fmt.Fprintf(&b, "  admit %s from %s\n", service, peer())
				} else {
					fmt.Fprintf(&b, "  reach %s at %s\n", service, peer())
				}
				if n == "r" && random.IntN(4) == 0 {
					fmt.Fprintf(&b, "  refuse %s from %s\n", service,
						pick("list known", "192.0.2.1", "198.51.100.0/24"))
				}
			}
			b.WriteString("}\n")
		}
		if n != "f" && random.IntN(2) == 0 {
			follow := ""
			if n == "l" {
				follow = "  follow instances\n" // else it would stop nothing
			}
			fmt.Fprintf(&b, "group wall for subnets in n%s \"wall\" {\n"+follow+"  cover subnet %s\n  admit %s "+
				"from %s\n  reach any at everyone\n  admit any from %s\n}\n", n, pick("s1", "s2"),
				pick("ssh", "https", "any"), pick("everyone", "192.0.2.0/28", "network"),
				pick("network", "198.51.100.0/24", "everyone"))
		}
	}
	return b.String()
}

// Between definitions made by chance, on clouds of all dialects, every state that the
// clouds were in, by their own record, lets through no packet that passes neither
// before nor after, and stops none that passes before and after; what is undone is
// what was before, exactly.
func TestNothingOpensOnTheWay(t *testing.T) {
	t.Parallel()
	steps, differ, gaps := 0, 0, 0
	for seed := range uint64(16) {
		random := rand.New(rand.NewPCG(seed, 7))
		h := newHarbourmaster(t)
		for round := range 3 {
			h.define(randomGroups(random))
			code, out := h.run("draft")
			if code == 2 && strings.Contains(out, "can't be expressed") ||
				code == 2 && strings.Contains(out, "mistake") {
				continue // by chance
			}
			if code != 0 {
				t.Fatalf("seed %d: draft: %d %s\n%s", seed, code, out, h.definitions())
			}
			before, at := readState(t, h.clouds), h.changes()
			if strings.Contains(out, "--allow-gaps") {
				gaps++
				h.must(4, "gap", "enact")
				h.must(0, "enacted", "enact", "--allow-gaps")
				continue
			}
			if strings.Contains(out, "nothing to do") {
				continue
			}
			h.must(0, "enacted", "enact")
			n, d := onTheWay(t, h.clouds, before, at, nil)
			steps, differ = steps+n, differ+d
			h.must(0, "nothing to do", "draft", "--to", "none.json")
			h.decidedIsThere()
			if round == 1 {
				at := h.changes()
				now := readState(t, h.clouds)
				if code, out := h.run("repeal"); code == 4 && strings.Contains(out, "gap") {
					gaps++
					h.must(0, "repealed", "repeal", "--allow-gaps")
				} else if code != 0 {
					t.Fatalf("seed %d: repeal: %d %s", seed, code, out)
				} else {
					onTheWay(t, h.clouds, now, at, nil)
				}
				if got, want := readState(t, h.clouds).spelt(), before.spelt(); got != want {
					t.Fatalf("seed %d: after repeal there is\n%s\nbefore there was\n%s", seed, got, want)
				}
				h.must(0, "its chain holds", "repeal", "--list")
				h.decidedIsThere()
			}
		}
	}
	t.Logf("%d states, %d packets judged differently before and after, %d drafts with gaps", steps, differ, gaps)
	if steps < 800 || differ < 2000 || gaps > 20 {
		t.Errorf("%d states, %d packets judged differently, %d drafts with gaps: the test tells little", steps,
			differ, gaps)
	}
}

const firstGroups = `
list known { 198.51.100.0/24 }
group web in nu "Web" { cover where role = web
  admit https from everyone
  reach postgres at group db }
group db in nu "Database" { cover where role = db
  admit postgres from group web }
group web in nr "Web" { cover where role = web
  admit https from everyone
  admit ssh from list known }
group pair in nr "Fellows" { cover where role = db
  cover where role = desk
  admit tcp 7000 from self
  reach tcp 7000 at self }
group web in nl "Web" { cover where role = web
  admit https from everyone }
`

const secondGroups = `
list known { 198.51.100.0/25
  203.0.113.64/29 }
group web in nu "Web" { cover where role = web
  admit https from list known
  reach postgres at group store }
group store in nu "Database" { cover where role = db
  admit postgres from group web
  admit ssh from list known }
group web in nr "Web" { cover where role = web
  admit https from list known
  refuse ssh from 203.0.113.65
  admit ssh from everyone }
group crew in nr "Fellows" { cover where role = db
  cover where role = desk
  admit tcp 7000 from self
  reach tcp 7000 at self }
group wall for subnets in nl "Wall" { cover subnet s1
  admit https from everyone
  reach any at everyone }
`

// settled are clouds on which the first groups stand, with a draft of the second.
func settled(t *testing.T) (*harbourmaster, worldState) {
	t.Helper()
	h := newHarbourmaster(t)
	h.define(firstGroups)
	h.must(0, "steps in 3 accounts", "draft")
	h.must(0, "enacted", "enact")
	h.define(secondGroups)
	h.must(0, "steps", "draft")
	return h, readState(t, h.clouds)
}

// again is another harbourmaster, whose clouds and estate are as this one's are now.
func (h *harbourmaster) again(t *testing.T) (*harbourmaster, worldState) {
	t.Helper()
	other := &harbourmaster{t: t, clouds: t.TempDir(), folder: t.TempDir()}
	for from, to := range map[string]string{h.clouds: other.clouds, h.folder: other.folder} {
		if err := os.CopyFS(to, os.DirFS(from)); err != nil {
			t.Fatal(err)
		}
	}
	if h.unique != "" {
		other.unique = fmt.Sprintf("P%d_", harbours.Add(1))
		file := filepath.Join(other.folder, "pier.nomos")
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		other.write(file, strings.ReplaceAll(string(text), "env "+h.unique, "env "+other.unique))
	}
	other.serve()
	return other, readState(t, other.clouds)
}

// Killed at every step, before its request is carried out, before the answer is heard
// and after it, a run can be carried on to exactly the new state, or undone to exactly
// the old one; the journal's chain holds, nothing is done twice, and no state on the
// way lets through more than before and after together.
func TestKilledAtEveryStep(t *testing.T) {
	t.Parallel()
	first, old := settled(t)
	last, _ := first.again(t)
	last.must(0, "enacted", "enact")
	arrived := readState(t, last.clouds)
	wanted := arrived.spelt()
	steps := 0
	for p := int32(1); ; p++ {
		killed := false
		for mode, name := range []string{"before the request is carried out", "before the answer is heard",
			"after the answer"} {
			h, mine := first.again(t)
			h.writes.Store(0)
			at := h.changes()
			c, out := h.command("enact", "--jobs", "1")
			gone, served := make(chan struct{}), make(chan struct{})
			kill := func() { _ = c.Process.Signal(syscall.SIGKILL) }
			h.onWrite = func(n int32, serve func()) {
				switch {
				case n != p:
					serve()
				case mode == 0:
					kill()
					<-gone
				case mode == 1: // it arrives, and nobody is there to hear the answer
					kill()
					<-gone
					serve()
					close(served)
				default:
					serve()
					time.AfterFunc(time.Duration(rand.IntN(5000))*time.Microsecond, kill)
				}
			}
			err := c.Run()
			close(gone)
			killed = killed || c.ProcessState.ExitCode() == -1
			if err == nil && mode < 2 && h.writes.Load() >= p {
				t.Fatalf("write %d, %s: it was not killed: %s", p, name, out)
			}
			if mode == 1 && c.ProcessState.ExitCode() == -1 {
				<-served
			}
			h.onWrite = nil
			want := wanted
			if c.ProcessState.ExitCode() == -1 {
				if p == 1 && mode == 0 {
					h.must(4, "was broken off", "enact")
				}
				if (int(p)+mode)%2 == 0 {
					// Killed after its last answer, it may just have come to its end.
					if code, out := h.run("enact", "--resume"); (code != 0 || !strings.Contains(out, "enacted")) &&
						!(mode == 2 && strings.Contains(out, "every one in the journal is at its end")) {
						t.Fatalf("enact --resume: exit %d: %s", code, out)
					}
				} else {
					h.must(0, "", "repeal")
					want = old.spelt()
				}
			}
			if got := readState(t, h.clouds).spelt(); got != want {
				t.Fatalf("killed at write %d, %s, there is\n%s\nwant\n%s", p, name, got, want)
			}
			h.must(0, "its chain holds", "repeal", "--list")
			onTheWay(t, h.clouds, mine, at, arrived)
		}
		if !killed {
			break
		}
		steps++
	}
	if steps < 15 {
		t.Errorf("only %d steps", steps)
	}
}

// With a fifth of all requests failing in every way there is, runs end right, or say
// precisely what is not done, and can then be carried on.
func TestEnactUnderFaults(t *testing.T) {
	t.Parallel()
	h, old := settled(t)
	h.must(0, "enacted", "enact")
	wanted := readState(t, h.clouds).spelt()
	for seed := range uint64(6) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			h, mine := settled(t)
			at := h.changes()
			if err := standin.SetFaults(h.clouds, seed, 0.2, standin.Kinds); err != nil {
				t.Fatal(err)
			}
			code, out := h.run("enact")
			for try := 0; code == 3 && strings.Contains(out, "--resume") && try < 5; try++ {
				if !strings.Contains(out, "steps are done") || !strings.Contains(out, "why") {
					t.Fatalf("it does not say what is not done: %s", out)
				}
				code, out = h.run("enact", "--resume")
			}
			if code != 0 {
				t.Fatalf("%d %s", code, out)
			}
			if got := readState(t, h.clouds).spelt(); got != wanted {
				t.Fatalf("there is\n%s\nwant\n%s", got, wanted)
			}
			onTheWay(t, h.clouds, mine, at, nil)
			code, out = h.run("repeal")
			for try := 0; code == 3 && strings.Contains(out, "--resume") && try < 5; try++ {
				code, out = h.run("enact", "--resume")
			}
			if got := readState(t, h.clouds).spelt(); code != 0 || got != old.spelt() {
				t.Fatalf("repeal: %d %s\nthere is\n%s\nwant\n%s", code, out, got, old.spelt())
			}
		})
	}
}

// Two writers never mix: of one store the second waits outside; of two stores, the one
// that finds something moved stops. Nothing opens on the way that neither allows.
func TestTwoWriters(t *testing.T) {
	t.Parallel()
	for _, stores := range []int{1, 2} {
		h, old := settled(t)
		other := &harbourmaster{t: t, clouds: h.clouds, folder: h.folder, env: h.env}
		if stores == 2 {
			other.folder = t.TempDir()
			for _, name := range []string{"pier.nomos", "draft.json"} {
				text, err := os.ReadFile(filepath.Join(h.folder, name))
				if err != nil {
					t.Fatal(err)
				}
				h.write(filepath.Join(other.folder, name), string(text))
			}
		}
		at := h.changes()
		var codes [2]int
		var outs [2]string
		var wait sync.WaitGroup
		for i, who := range []*harbourmaster{h, other} {
			wait.Go(func() { codes[i], outs[i] = who.run("enact") })
		}
		wait.Wait()
		for i, code := range codes {
			if code != 0 && code != 3 && code != 4 {
				t.Errorf("%d stores: exit %d: %s", stores, code, outs[i])
			}
			if strings.Contains(outs[i], "mistake of the program") {
				t.Error(outs[i])
			}
		}
		if stores == 1 && codes[0] != 0 && codes[1] != 0 {
			t.Errorf("with one store nobody came to the end: %v %s %s", codes, outs[0], outs[1])
		}
		onTheWay(t, h.clouds, old, at, nil)
		seen := make(map[string]bool)
		for k, x := range readState(t, h.clouds) {
			if id := k[0] + x.Network + x.Name + x.For; x.Kind == "group" {
				if seen[id] {
					t.Errorf("the group %s is there twice", id)
				}
				seen[id] = true
			}
		}
	}
}

// A draft of one account is carried out as it is, also where something is expected of others. These expectations are
// decided.
func TestDraftOfOneAccount(t *testing.T) {
	t.Parallel()
	const expects = "expect shop cannot reach web on ssh\nexpect internet cannot reach yard on ssh\n"
	h := newUpheld(t, expects)
	h.define(strings.ReplaceAll(upheldGroups, "admit https", "admit http, https") + expects)
	if out := h.must(0, "2 of 2 expectations hold before, 2 after", "draft", "--account", "au"); strings.Contains(out, "al/nl/shop") {
		t.Error(out)
	}
	h.must(0, "run", "enact")
	if got := h.content(); !strings.Contains(got, "au rule of web in admit [0.0.0.0/0] [tcp 80") ||
		strings.Contains(got, "al rule of shop in admit [0.0.0.0/0] [tcp 80") {
		t.Errorf("it has %s", got)
	}
}

// A draft is carried out as it was reviewed or not at all.
func TestDraftsAreRefused(t *testing.T) {
	t.Parallel()
	h, _ := settled(t)
	at := h.changes()
	h.must(3, "there is no draft other.json", "enact", "other.json")
	h.must(2, "pier.nomos is not a draft", "enact", "pier.nomos")
	h.must(2, "exists and is not a draft", "draft", "--to", "pier.nomos")
	h.must(2, `no account is called "ax"`, "draft", "--account", "ax")
	h.must(2, "no defined group or list", "draft", "--adopt", "au/nu/wen")
	h.must(2, "has another form", "draft", "--waves", "stage")
	h.must(2, "there is no run to carry on", "enact", "--resume")
	wrong := &harbourmaster{t: t, clouds: h.clouds, folder: h.folder,
		env: append(slices.Clone(h.env), "CL_TOKEN=wrong")}
	wrong.must(3, "the account al could not be surveyed (401", "draft", "--to", "part.json")
	wrong.must(0, "steps", "draft", "--to", "part.json", "--account", "au", "--account", "ar")
	h.define(secondGroups + "group last in nu \"x\" { }\n")
	h.must(4, "made from other definitions", "enact")
	h.define(secondGroups)
	state := filepath.Join(h.clouds, standin.StateFile)
	text, err := os.ReadFile(state)
	if err != nil {
		t.Fatal(err)
	}
	h.write(state, strings.Replace(string(text), `"services":["tcp 443"]`, `"services":["tcp 444"]`, 1))
	if err := os.Chtimes(state, time.Now(), time.Now().Add(time.Second)); err != nil {
		t.Fatal(err)
	}
	h.must(4, "has changed since the draft was made", "enact")
	h.write(state, string(text))
	if err := os.Chtimes(state, time.Now(), time.Now().Add(2*time.Second)); err != nil {
		t.Fatal(err)
	}
	draft, err := os.ReadFile(filepath.Join(h.folder, "draft.json"))
	if err != nil {
		t.Fatal(err)
	}
	h.write(filepath.Join(h.folder, "forged.json"),
		strings.Replace(string(draft), "203.0.113.64/29", "203.0.113.0/24", -1))
	h.must(4, "was changed after it was made", "enact", "forged.json")
	forge(t, h)
	if h.changes() != at {
		t.Error("something was changed")
	}
	if strings.Contains(string(draft), "TOKEN") ||
		strings.Contains(string(draft), strings.Split(h.env[len(h.env)-1], "=")[1]) {
		t.Error("the draft holds a secret")
	}
	h.must(4, "is not what was approved", "enact", "--digest", strings.Repeat("0", 64))
	var made enact.Draft
	if err := json.Unmarshal(draft, &made); err != nil {
		t.Fatal(err)
	}
	h.must(0, "enacted", "enact", "--digest", made.Seal)
	h.must(4, "was carried out already, by the run", "enact")
	_, token, _ := strings.Cut(h.env[len(h.env)-1], "=")
	for name, text := range readTree(t, h.folder) {
		if len(token) < 16 || strings.Contains(text, token) {
			t.Errorf("the token is in %s", name)
		}
	}
	h.write(filepath.Join(h.folder, "isonomos.db"), "no database")
	h.must(3, "can't be used", "repeal", "--list")
}

// forge edits the draft in every way that a reviewer would not see carried out, with a digest that fits.
func forge(t *testing.T, h *harbourmaster) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(h.folder, "draft.json"))
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct {
		name string
		edit func(*enact.Draft)
		want string
	}{
		{"steps", func(d *enact.Draft) { d.Lanes[0].Steps = d.Lanes[0].Steps[1:] }, "other steps would be needed"},
		{"no steps", func(d *enact.Draft) { d.Lanes, d.Objects = []enact.Lane{}, []enact.Touched{} },
			"other steps would be needed"},
		{"no lanes", func(d *enact.Draft) { d.Lanes = nil }, "was changed after it was made"},
		{"traffic", func(d *enact.Draft) { d.Traffic = enact.Traffic{Opens: []enact.Shift{}, Closes: []enact.Shift{}} },
			"(traffic)"},
		{"an expectation", func(d *enact.Draft) { d.Expects = append(d.Expects, enact.Expect{Text: "x", After: true}) },
			"(expectations)"},
		{"waves", func(d *enact.Draft) {
			for i := range d.Lanes {
				d.Lanes[i].Wave = 1
			}
		}, "(waves)"},
		{"promises", func(d *enact.Draft) { d.Promises = append(d.Promises, enact.Promise{Kind: "law", Key: "x: y"}) },
			"(promises)"},
		{"quotas", func(d *enact.Draft) { d.Quotas = []enact.Quota{} }, "(quotas)"},
		{"passes", func(d *enact.Draft) { d.Passes = []string{"x"} }, "(passes)"},
		{"what it upholds", func(d *enact.Draft) {
			d.Upholds = &enact.Upholds{Opened: []string{}, Shut: []string{}}
		}, "(what it upholds)"},
		{"another estate", func(d *enact.Draft) { d.Estate = "elsewhere" }, "(the estate)"},
		{"strays", func(d *enact.Draft) { d.Strays = append(d.Strays, "x") }, "(what bears our mark and nobody knows)"},
		{"what can be adopted", func(d *enact.Draft) { d.CanAdopt = append(d.CanAdopt, "x") },
			"(what can be adopted)"},
		{"where groups are attached", func(d *enact.Draft) {
			for i := range d.Objects {
				d.Objects[i].Attached = append(d.Objects[i].Attached, "x")
			}
		}, "(where groups are attached)"},
		{"a gap", func(d *enact.Draft) { d.Lanes[0].Gaps = append(d.Lanes[0].Gaps, enact.Gap{After: 1, Until: 2}) },
			"has 1 gap"},
		{"an old date", func(d *enact.Draft) { d.Made = d.Made.Add(-48 * time.Hour) }, "more than --draft-age"},
		{"a date to come", func(d *enact.Draft) { d.Made = d.Made.Add(48 * time.Hour) }, "made in the future"},
		{"somebody who carries it out", func(d *enact.Draft) { d.EnactedBy = "x" }, "was changed after it was made"},
	} {
		var d enact.Draft
		if err := json.Unmarshal(text, &d); err != nil {
			t.Fatal(err)
		}
		x.edit(&d)
		d.Seal = d.Sealed()
		forged, err := json.Marshal(&d)
		if err != nil {
			t.Fatal(err)
		}
		h.write(filepath.Join(h.folder, "forged.json"), string(forged))
		if code, out := h.run("enact", "forged.json"); code != 4 || !strings.Contains(out, x.want) {
			t.Errorf("%s: exit %d %s", x.name, code, out)
		}
	}
	h.write(filepath.Join(h.folder, "forged.json"), strings.Replace(string(text), "{", `{ "approved": true,`, 1))
	h.must(4, "is not as this program writes drafts", "enact", "forged.json")
}

// How much of what a server permits is used: it takes so many requests a second, with
// room for those of one second, and turns the others away.
func BenchmarkEnactRate(b *testing.B) {
	for _, permitted := range []float64{20, 50, 100, 200} {
		b.Run(fmt.Sprint(permitted), func(b *testing.B) {
			for b.Loop() {
				h := newHarbourmaster(b)
				var groups strings.Builder
				for g := range int(permitted) / 2 { // about ten seconds
					fmt.Fprintf(&groups, "group g%d in nu \"x\" {\n", g)
					for r := range 16 {
						fmt.Fprintf(&groups, "  admit tcp %d from 192.0.2.%d\n", 1000+2*r, r)
					}
					groups.WriteString("}\n")
				}
				h.define(groups.String())
				h.must(0, "steps", "draft")
				var mu sync.Mutex
				room, last, taken, first := permitted, time.Now(), 0, time.Time{}
				h.onWrite = func(_ int32, serve func()) { serve() }
				h.limit = func(w http.ResponseWriter) bool {
					mu.Lock()
					defer mu.Unlock()
					now := time.Now()
					room = min(permitted, room+permitted*now.Sub(last).Seconds())
					if last = now; room < 1 {
						w.Header().Set("Retry-After", "1")
						w.WriteHeader(http.StatusTooManyRequests)
						return false
					}
					if room--; first.IsZero() {
						first = now
					}
					taken++
					return true
				}
				h.must(0, "enacted", "enact")
				took := time.Since(first).Seconds()
				b.ReportMetric(100*float64(taken)/(permitted+permitted*took), "%used")
				b.ReportMetric(float64(taken)/took, "requests/s")
			}
		})
	}
}

// A draft is as its schema says, whatever is in it; as Markdown it says the same first;
// a gap is told, refused, and carried out when asked for.
func TestDraftsAreAsPublished(t *testing.T) {
	t.Parallel()
	compiled, err := jsonschema.NewCompiler().Compile(filepath.Join("..", "docs", "schemas", "draft.json"))
	if err != nil {
		t.Fatal(err)
	}
	check := func(h *harbourmaster, name string) string {
		t.Helper()
		text, err := os.ReadFile(filepath.Join(h.folder, name))
		if err != nil {
			t.Fatal(err)
		}
		value, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		if err == nil {
			err = compiled.Validate(value)
		}
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
		return string(text)
	}
	h, _ := settled(t)
	check(h, "draft.json")
	md := h.must(0, "### Draft for pier", "draft", "--format", "md")
	if !strings.Contains(md, "closes: https") || !strings.Contains(md, "<details>") {
		t.Errorf("as Markdown: %s", md)
	}
	h.must(0, `"lanes"`, "draft", "--format", "json")
	h.must(0, "enacted", "enact")
	h.must(0, "which undo the run", "repeal", "--to", "undo.json")
	if text := check(h, "undo.json"); !strings.Contains(text, `"replaces"`) {
		t.Error("what is made again is not told")
	}
	h.must(0, "repealed", "enact", "undo.json")

	h = newHarbourmaster(t)
	few := strings.Replace(smallDefinitions, "account au { cloud cu",
		"account au { cloud cu\n  limit rules-per-direction = 2", 1)
	text, err := os.ReadFile(filepath.Join(h.clouds, standin.StateFile))
	if err != nil {
		t.Fatal(err)
	}
	h.write(filepath.Join(h.clouds, standin.StateFile),
		strings.Replace(string(text), `"cloud":"cu","limits":{`, `"cloud":"cu","limits":{"rules-per-direction":2,`, 1))
	h.serve()
	define := func(service string) {
		h.write(filepath.Join(h.folder, "pier.nomos"),
			few+"group web in nu \"Web\" { cover where role = web\n  admit "+service+
				" from 192.0.2.0/28, 198.51.100.0/28 }\n")
	}
	define("https")
	h.must(0, "steps", "draft")
	h.must(0, "enacted", "enact")
	define("tcp 443-444")
	h.must(0, "GAP", "draft")
	if text := check(h, "draft.json"); !strings.Contains(text, `"until"`) {
		t.Error("the gap is not in the draft")
	}
	at := h.changes()
	h.must(4, "--allow-gaps carries it out", "enact")
	if h.changes() != at {
		t.Error("something was changed")
	}
	h.must(0, "enacted", "enact", "--allow-gaps")
	h.must(0, "nothing to do", "draft", "--to", "none.json")
}
