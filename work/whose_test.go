package work_test

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"isonomos/cloud/standin"
	"isonomos/core/dialect"
	"isonomos/enact"
	"isonomos/store"
	"isonomos/store/whole"
	"isonomos/work"
)

var histories = flag.Int("histories", 4, "random histories of each dialect that TestNobodyElseIsHarmed plays")

// A history is what people, the program and a bad line do to one account. It keeps to docs/changing.md, and to nothing
// of the program: who made a group is known, since it was made here by hand, or appeared while a run was carried out.
type history struct {
	*quay
	random    *rand.Rand
	dialect   dialect.Dialect
	foreign   map[string]bool // groups that somebody else has made, by id
	marked    map[string]bool // those of them that bear our mark, which is forged
	done      []string        // what was done so far
	actions   int
	n         int // of twins
	storePath string
}

// The names for which definitions and strangers compete.
var names = []string{"web", "base", "desk"}

const whoseSurvey = `{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z","estate":"play"}
{"kind":"cloud","name":"c","dialect":"DIALECT"}
{"kind":"account","name":"a","cloud":"c","id":"a"}
{"kind":"network","account":"a","id":"n","name":"n","ranges":["10.1.0.0/16"]}
{"kind":"subnet","account":"a","network":"n","id":"s","name":"s","ranges":["10.1.1.0/24"],"routes":[{"to":"0.0.0.0/0","via":"internet"}],"groups":[]}
{"kind":"instance","account":"a","id":"i1","name":"i-1","type":"machine","labels":{"role":"web"},"interfaces":[{"id":"f1","subnet":"s","private":["10.1.1.11"],"groups":[],"filtered":true}]}
{"kind":"instance","account":"a","id":"i2","name":"i-2","type":"machine","labels":{"role":"base"},"interfaces":[{"id":"f2","subnet":"s","private":["10.1.1.12"],"groups":[],"filtered":true}]}
{"kind":"instance","account":"a","id":"i3","name":"i-3","type":"machine","labels":{"role":"theirs"},"interfaces":[{"id":"f3","subnet":"s","private":["10.1.1.13"],"groups":[],"filtered":true}]}
`

// Whatever happens, nothing of somebody else is changed or deleted: no group without our mark at all, and none that
// bears a forged mark is deleted, detached or emptied. An account that could not be read is told as such, and nothing is
// done to it. What was broken off leads on or back.
func TestNobodyElseIsHarmed(t *testing.T) {
	for _, name := range dialect.Names() {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			actions, played := 0, *histories
			if testing.Short() {
				played = 1
			}
			for n := range played {
				h := newHistory(t, name, rand.New(rand.NewPCG(*seed, uint64(n))))
				for range 30 {
					h.step()
					if t.Failed() {
						t.Fatalf("history %d of seed %d:\n%s", n, *seed, strings.Join(h.done, "\n"))
					}
				}
				actions += h.actions
			}
			t.Logf("%d actions of the program", actions)
		})
	}
}

func newHistory(t *testing.T, name string, random *rand.Rand) *history {
	d, _ := dialect.Lookup(name)
	h := &history{quay: newQuay(t, strings.Replace(whoseSurvey, "DIALECT", name, 1)), random: random, dialect: d,
		foreign: make(map[string]bool), marked: make(map[string]bool)}
	h.redefine()
	return h
}

func (h *history) say(format string, a ...any) { h.done = append(h.done, fmt.Sprintf(format, a...)) }

// redefine writes other definitions: some of the names, with some rule each.
func (h *history) redefine() {
	var b strings.Builder
	fmt.Fprintf(&b, "estate play\ncloud c {\n  dialect %s\n}\naccount a { cloud c }\nnetwork n in a {\n  range 10.1.0.0/16\n}\n",
		h.dialect.Name)
	for _, name := range names {
		if h.random.IntN(3) > 0 {
			fmt.Fprintf(&b, "group %s in n \"Ours\" {\n  cover where role = %[1]s\n  admit tcp %d from 192.0.2.0/24\n}\n",
				name, 1000+h.random.IntN(3))
		}
	}
	h.define(b.String())
	h.say("defined: %s", strings.ReplaceAll(strings.SplitN(b.String(), "}\n", 4)[3], "\n", " "))
}

// An item is a line of the stand-in's state.
type item struct {
	Kind, ID, Name, Group string
	Labels                map[string]string
	Interfaces            []struct {
		ID     string
		Groups []string
	}
}

func (h *history) items() (all []item, lines map[string]string) {
	lines = make(map[string]string)
	for _, line := range strings.Split(h.state(), "\n") {
		var x item
		if err := json.Unmarshal([]byte(line), &x); err != nil {
			h.t.Fatal(err)
		}
		all = append(all, x)
		lines[x.Kind+" "+x.ID] = line
	}
	return all, lines
}

// theirs is all that nobody but its owner may change: of each foreign group itself, its rules, and where it is attached.
func (h *history) theirs() map[string]string {
	all, lines := h.items()
	of := make(map[string]string)
	for id := range h.foreign {
		if line, there := lines["group "+id]; there {
			of[id] = line
		}
	}
	for _, x := range all {
		if x.Kind == "rule" && of[x.Group] != "" {
			of[x.Group] += "\n" + lines["rule "+x.ID]
		}
	}
	for _, x := range all {
		for _, f := range x.Interfaces {
			for _, g := range f.Groups {
				if of[g] != "" {
					of[g] += "\nat " + f.ID
				}
			}
		}
	}
	return of
}

// unharmed holds what is theirs against what it was before the program did something.
func (h *history) unharmed(before map[string]string, what string) {
	h.t.Helper()
	after := h.theirs()
	for id, was := range before {
		is := after[id]
		if !h.marked[id] && is != was {
			h.t.Errorf("%s changes what is somebody else's: %s\nit was\n%s\nit is\n%s", what, id, was, is)
		}
		rules := func(text string) int { return strings.Count(text, `"kind":"rule"`) }
		places := func(text string) int { return strings.Count(text, "\nat f3") } // where its owner has attached it
		if h.marked[id] && (is == "" || rules(is) == 0 && rules(was) > 0 || places(is) < places(was)) {
			h.t.Errorf("%s deletes, detaches or empties on the mark alone: %s\nit was\n%s\nit is\n%s", what, id, was, is)
		}
	}
}

// step does one thing.
func (h *history) step() {
	switch h.random.IntN(9) {
	case 0:
		h.redefine()
	case 1, 2:
		h.stranger()
	case 3:
		h.unread()
	default:
		h.act()
	}
}

// stranger makes a group with a name for which there may be a definition, or deletes one of theirs.
func (h *history) stranger() {
	if ids := h.ids(h.foreign); len(ids) > 0 && h.random.IntN(4) == 0 {
		id := ids[h.random.IntN(len(ids))]
		_, _ = h.by("PUT", "/accounts/a/interfaces/f3/groups", `{"groups":[]}`)
		code, _ := h.by("DELETE", "/accounts/a/groups/"+id, "")
		h.say("somebody deletes %s: %d", id, code)
		return
	}
	name, labels := names[h.random.IntN(len(names))], `{}`
	mark := h.random.IntN(4) == 0
	if mark {
		labels = `{"isonomos":"play"}`
	}
	in := ""
	if h.dialect.GroupsInNetworks {
		in = `"network":"n",`
	}
	first, second := labels, ""
	if h.dialect.LabelsApart {
		first, second = `{}`, labels
	}
	code, text := h.by("POST", "/accounts/a/groups",
		fmt.Sprintf(`{"name":%q,%s"for":"instances","description":"Ours","labels":%s}`, name, in, first))
	var made struct{ Group item }
	if code == 409 && !h.dialect.GroupsInNetworks { // names can be shared in such clouds, if not by way of the interface
		h.twin(name, mark)
		return
	}
	if code >= 300 || json.Unmarshal([]byte(text), &made) != nil {
		h.say("somebody can't make %s: %d", name, code)
		return
	}
	id := made.Group.ID
	if second != "" {
		_, _ = h.by("PATCH", "/accounts/a/groups/"+id, `{"labels":`+second+`}`)
	}
	h.foreign[id], h.marked[id] = true, mark
	rank := ""
	if h.dialect.Instances.FirstMatch {
		rank = `"rank":200,`
	}
	code, text = h.by("POST", "/accounts/a/groups/"+id+"/rules", fmt.Sprintf(`{"direction":"in","action":"admit",%s"peers":["203.0.113.0/24"],"services":["tcp 2000"]}`, rank))
	if code >= 300 {
		h.t.Fatalf("%d %s", code, text)
	}
	code, _ = h.by("PUT", "/accounts/a/interfaces/f3/groups", fmt.Sprintf(`{"groups":[%q]}`, id))
	h.say("somebody makes %s, %s, marked %v, attached: %d", name, id, mark, code)
}

// twin puts a group with a name that another one has into the state, attached like all of theirs.
func (h *history) twin(name string, mark bool) {
	h.n++
	id, labels := fmt.Sprintf("twin-%d-%d", h.n, h.random.IntN(1000)), ""
	if mark {
		labels = `"labels":{"isonomos":"play"},`
	}
	path := filepath.Join(h.folder, standin.StateFile)
	text, err := os.ReadFile(path)
	if err != nil {
		h.t.Fatal(err)
	}
	var lines []string
	for _, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		if strings.Contains(line, `"id":"i3"`) {
			line = regexp.MustCompile(`"groups":\[[^]]*\]`).ReplaceAllString(line, `"groups":["`+id+`"]`)
		}
		lines = append(lines, line)
	}
	lines = append(lines, fmt.Sprintf(`{"kind":"group","account":"a","id":%q,"name":%q,%s"for":"instances","description":"Ours"}`,
		id, name, labels), fmt.Sprintf(`{"kind":"rule","account":"a","group":%q,"id":"%[1]s-r",`+
		`"peers":["203.0.113.0/24"],"direction":"in","action":"admit","services":["tcp 2000"]}`, id))
	if err := whole.Put(path, strings.Join(lines, "\n")+"\n", 0o600); err != nil {
		h.t.Fatal(err)
	}
	h.foreign[id], h.marked[id] = true, mark
	h.now() // the stand-in reads what was edited
	h.say("somebody makes a twin of %s, %s, marked %v, attached", name, id, mark)
}

func (h *history) ids(of map[string]bool) []string {
	_, lines := h.items()
	var all []string
	for id := range of {
		if lines["group "+id] != "" {
			all = append(all, id)
		}
	}
	slices.Sort(all)
	return all
}

// act has the program do what there is to do: carry on or undo what was broken off, or carry out what is defined; now and
// then it is killed at one of its writes.
func (h *history) act() {
	h.actions++
	before := h.theirs()
	if open := work.OpenRun(h.pasts()); open != nil {
		h.onOrBack(open)
		h.unharmed(before, h.done[len(h.done)-1])
		return
	}
	if runs := h.pasts(); len(runs) > 0 && h.random.IntN(4) == 0 {
		name := runs[h.random.IntN(len(runs))].Name
		err := h.repealed(name)
		h.say("undone: %s: %v", name, err)
		h.unharmed(before, "undoing")
		return
	}
	p, err := h.drafted()
	if err != nil {
		h.say("drafted: %v", err)
		return
	}
	if p.Draft.Steps() == 0 {
		h.say("drafted: nothing to do, left %q", p.Draft.Left)
		return
	}
	if h.random.IntN(3) == 0 {
		h.killed(p)
	} else {
		name, err := h.carry(h.t.Context(), h.job(), &p.Draft, nil)
		h.say("carried out %s: %d steps: %v", name, p.Draft.Steps(), err)
	}
	h.unharmed(before, h.done[len(h.done)-1])
}

// onOrBack goes one of the two ways that are printed for a run that was broken off. Unless somebody else has changed
// something meanwhile, it leads there.
func (h *history) onOrBack(open *enact.Past) {
	if open.Draft.Repeals != "" {
		err := h.resume(open)
		h.say("carried on the undoing of %s: %v", open.Draft.Repeals, err)
		return
	}
	if h.random.IntN(2) == 0 {
		err := h.resume(open)
		h.say("carried on %s: %v", open.Name, err)
		return
	}
	err := h.repealed(open.Name)
	var late *enact.MayArriveError
	if errors.As(err, &late) {
		h.say("undoing %s waits", open.Name)
		time.Sleep(time.Until(late.Until))
		err = h.repealed(open.Name)
	}
	var moved *enact.MovedError
	if errors.As(err, &moved) {
		if closed := work.Close(h.store, open, time.Now(), "by hand"); closed != nil {
			h.t.Fatal(closed)
		}
	}
	h.say("undone %s: %v", open.Name, err)
}

func (h *history) resume(open *enact.Past) error {
	j := h.job()
	if open.Draft.Repeals != "" {
		i := slices.IndexFunc(h.pasts(), func(p *enact.Past) bool { return p.Name == open.Draft.Repeals })
		j = work.UndoingJob(h.defs.Estate, h.pasts()[i], nil)
	}
	_, err := h.carry(h.t.Context(), j, open.Draft, open)
	if err != nil { // somebody else is in the way: it is given up, as is printed
		for _, p := range h.pasts() {
			if p.Name == open.Name && p.Open() {
				if closed := work.Close(h.store, p, time.Now(), "by hand"); closed != nil {
					h.t.Fatal(closed)
				}
			}
		}
	}
	return err
}

// killed carries a draft out and ends the process at one of its writes: before the cloud has it, before the answer is
// heard, or so that it arrives later. The journal is as it was at that moment.
func (h *history) killed(p *work.Prepared) {
	at, how := int32(1+h.random.IntN(p.Draft.Steps())), h.random.IntN(3)
	ctx, kill := context.WithCancel(h.t.Context())
	defer kill()
	var writes atomic.Int32
	late := make(chan func(), 1)
	left := filepath.Join(h.t.(*testing.T).TempDir(), "isonomos.db")
	before := func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodGet {
			return ctx.Err() != nil
		}
		n := writes.Add(1)
		if n > at {
			return true
		}
		if n < at {
			return false
		}
		body, err := io.ReadAll(r.Body)
		if err != nil {
			return true
		}
		again := r.Clone(context.Background())
		again.Body = io.NopCloser(strings.NewReader(string(body)))
		do := func() { h.server.ServeHTTP(httptest.NewRecorder(), again) }
		if how == 1 {
			do()
		}
		if how == 2 {
			late <- do
		}
		h.copyStore(left)
		kill()
		return true
	}
	h.before.Store(&before)
	name, err := h.carry(ctx, h.job(), &p.Draft, nil)
	h.before.Store(nil)
	if writes.Load() < at { // it came to its end before
		h.say("carried out %s, not killed: %v", name, err)
		return
	}
	h.store.Close()
	var opened error
	if h.store, opened = store.Open(left, true); opened != nil {
		h.t.Fatal(opened)
	}
	if _, err := work.BreakLock(h.store, "a", "it was killed", "test", time.Now()); err != nil {
		h.t.Fatal(err)
	}
	h.say("killed %s at write %d of %d, %s", name, at, p.Draft.Steps(),
		[]string{"before the cloud had it", "before the answer was heard", "and it arrives later"}[how])
	select {
	case do := <-late:
		if h.random.IntN(2) == 0 {
			do()
			h.say("it arrives at once")
		} else { // while the next command is at work
			time.AfterFunc(300*time.Millisecond, do)
		}
	default:
	}
}

// copyStore copies the store as a process leaves it that is killed.
func (h *history) copyStore(to string) {
	from := filepath.Join(h.folder, "isonomos.db")
	if h.storePath != "" {
		from = h.storePath
	}
	h.storePath = to
	for _, tail := range []string{"", "-wal", ".head"} {
		text, err := os.ReadFile(from + tail)
		if err == nil {
			err = os.WriteFile(to+tail, text, 0o600)
		}
		if err != nil && !os.IsNotExist(err) {
			h.t.Error(err)
		}
	}
}

// unread has the program act while the account can't be read: nothing is done, and it is said why.
func (h *history) unread() {
	h.actions++
	ways := map[string]func(w http.ResponseWriter){
		"401": func(w http.ResponseWriter) { w.WriteHeader(401) },
		"403": func(w http.ResponseWriter) { w.WriteHeader(403) },
		"404": func(w http.ResponseWriter) { w.WriteHeader(404) },
		"half a body": func(w http.ResponseWriter) {
			w.Header().Set("Content-Length", "1000")
			_, _ = w.Write([]byte(`{"revision":"1","items":[`))
		},
		"nothing of it": func(w http.ResponseWriter) { _, _ = w.Write([]byte(`{"revision":"1","items":[],"next":""}`)) },
	}
	way := []string{"401", "403", "404", "half a body", "nothing of it"}[h.random.IntN(5)]
	p, drafted := h.drafted() // before
	open := work.OpenRun(h.pasts())
	before := func(w http.ResponseWriter, r *http.Request) bool {
		if !strings.Contains(r.URL.Path, "/accounts/a/") {
			return false
		}
		ways[way](w)
		return true
	}
	h.before.Store(&before)
	was := h.state()
	var err error
	what := ""
	switch {
	case open != nil && open.Draft.Repeals == "" && h.random.IntN(2) == 0:
		what = "undoing"
		err = h.repealed(open.Name)
	case open != nil && open.Draft.Repeals == "":
		what = "carrying on"
		_, err = h.carry(h.t.Context(), h.job(), open.Draft, open)
	case open == nil && drafted == nil && p.Draft.Steps() > 0 && h.random.IntN(2) == 0:
		what = "carrying out"
		_, err = h.carry(h.t.Context(), h.job(), &p.Draft, nil)
	default:
		what = "drafting"
		_, err = h.live(h.t.Context())
	}
	h.before.Store(nil)
	h.say("%s while it can't be read (%s): %v", what, way, err)
	var moved *enact.MovedError
	if err == nil || errors.As(err, &moved) || errors.Is(err, enact.ErrOvertaken) {
		h.t.Errorf("%s: %v", h.done[len(h.done)-1], err)
	}
	if h.state() != was {
		h.t.Errorf("%s changes something", h.done[len(h.done)-1])
	}
	if open != nil {
		if still := work.OpenRun(h.pasts()); still == nil || still.Name != open.Name {
			h.t.Errorf("%s: the run %s is not open any more", h.done[len(h.done)-1], open.Name)
		}
	}
}
