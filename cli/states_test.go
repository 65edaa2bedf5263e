package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"isonomos/cloud/standin"
	"isonomos/enact"
	"isonomos/store"
)

// killAt runs the program and kills it before its nth request is carried out.
func (h *harbourmaster) killAt(n int32, args ...string) {
	h.t.Helper()
	h.writes.Store(0)
	c, out := h.command(args...)
	gone := make(chan struct{})
	h.onWrite = func(k int32, serve func()) {
		if k < n {
			serve()
			return
		}
		_ = c.Process.Signal(syscall.SIGKILL)
		<-gone
	}
	_ = c.Run()
	close(gone)
	h.onWrite = nil
	if c.ProcessState.ExitCode() != -1 {
		h.t.Fatalf("%v was not killed: %s", args, out)
	}
}

// byHand gives a group a rule as somebody else would.
func (h *harbourmaster) byHand(account, group string) {
	h.t.Helper()
	h.edit(func(line string, o map[string]any) string {
		if o["kind"] != "group" || o["name"] != group || o["account"] != account {
			return line
		}
		return line + fmt.Sprintf(`{"kind":"rule","account":%q,"group":%q,"id":"by-hand","direction":"in",`+
			`"action":"admit","peers":["203.0.113.7/32"],"services":["tcp 8443"]}`+"\n", account, o["id"])
	})
}

// edit replaces each line of the clouds' state by what a function makes of it.
func (h *harbourmaster) edit(replaced func(line string, o map[string]any) string) {
	h.t.Helper()
	state := filepath.Join(h.clouds, standin.StateFile)
	text, err := os.ReadFile(state)
	if err != nil {
		h.t.Fatal(err)
	}
	var out strings.Builder
	for line := range strings.Lines(string(text)) {
		var o map[string]any
		if err := json.Unmarshal([]byte(line), &o); err != nil {
			h.t.Fatal(err)
		}
		out.WriteString(replaced(line, o))
	}
	h.write(state, out.String())
	if err := os.Chtimes(state, time.Now(), time.Now().Add(time.Second)); err != nil {
		h.t.Fatal(err)
	}
}

var printed = regexp.MustCompile(`isonomos (enact --resume|repeal --give-up|repeal [0-9a-f-]+|repeal|draft)\b`)

// typed runs the nth command that a text says to type.
func (h *harbourmaster) typed(text string, nth int) (int, string) {
	h.t.Helper()
	all := printed.FindAllStringSubmatch(text, -1)
	if len(all) <= nth {
		h.t.Fatalf("no command number %d is printed in\n%s", nth+1, text)
	}
	return h.run(strings.Fields(all[nth][1])...)
}

// Every state that a run can be in says what to type, and that works: on to just the new state, or back to just
// the old one; where somebody else has changed something, to an end that blocks nothing. It is the table of
// docs/changing.md.
func TestEveryStateHasItsWay(t *testing.T) {
	t.Parallel()
	first, oldState := settled(t)
	old := oldState.spelt()
	last, _ := first.again(t)
	last.writes.Store(0)
	last.onWrite = func(_ int32, serve func()) { serve() }
	last.must(0, "enacted", "enact", "--jobs", "1")
	arrived, writes := readState(t, last.clouds).spelt(), last.writes.Load()
	is := func(t *testing.T, h *harbourmaster, want string) {
		t.Helper()
		if got := readState(t, h.clouds).spelt(); got != want {
			t.Fatalf("there is\n%s\nwant\n%s", got, want)
		}
		h.must(0, "its chain holds", "repeal", "--list")
	}
	// free is whether nothing stands in the way of the next change.
	free := func(t *testing.T, h *harbourmaster) {
		t.Helper()
		h.must(0, "", "draft")
		if code, out := h.run("enact"); code != 0 {
			t.Fatalf("the next enact: exit %d\n%s", code, out)
		}
		if got := readState(t, h.clouds).spelt(); got != arrived {
			t.Fatalf("in the end there is\n%s\nwant\n%s", got, arrived)
		}
	}
	for _, x := range []struct {
		name string
		do   func(t *testing.T, h *harbourmaster)
	}{
		{"enact killed before its first request, on", func(t *testing.T, h *harbourmaster) {
			h.killAt(1, "enact", "--jobs", "1")
			if code, out := h.typed(h.must(4, "was broken off", "enact"), 0); code != 0 {
				t.Fatal(out)
			}
			is(t, h, arrived)
		}},
		{"enact killed before its first request, back", func(t *testing.T, h *harbourmaster) {
			h.killAt(1, "enact", "--jobs", "1")
			if code, out := h.typed(h.must(4, "was broken off", "enact"), 1); code != 0 ||
				!strings.Contains(out, "there is nothing to undo") {
				t.Fatal(out)
			}
			is(t, h, old)
			free(t, h)
		}},
		{"enact killed on the way, on", func(t *testing.T, h *harbourmaster) {
			h.killAt(writes/2, "enact", "--jobs", "1")
			if code, out := h.typed(h.must(4, "was broken off", "enact"), 0); code != 0 {
				t.Fatal(out)
			}
			is(t, h, arrived)
		}},
		{"enact killed on the way, back, killed on the way back, back", func(t *testing.T, h *harbourmaster) {
			h.killAt(writes/2, "enact", "--jobs", "1")
			h.killAt(3, "repeal", "--jobs", "1")
			out := h.must(4, "the undoing of", "enact")
			h.killAt(2, "repeal", "--jobs", "1")
			if code, out := h.typed(out, 0); code != 0 || !strings.Contains(out, "repealed") {
				t.Fatal(out)
			}
			is(t, h, old)
			free(t, h)
		}},
		{"repeal of a whole run, killed before its first request", func(t *testing.T, h *harbourmaster) {
			h.must(0, "enacted", "enact")
			h.killAt(1, "repeal", "--jobs", "1")
			h.must(0, "repealed", "repeal")
			is(t, h, old)
			h.must(2, "", "repeal", "--give-up")
		}},
		{"repeal of a whole run, killed on the way", func(t *testing.T, h *harbourmaster) {
			h.must(0, "enacted", "enact")
			h.killAt(writes/2, "repeal", "--jobs", "1")
			if code, out := h.typed(h.must(4, "the undoing of", "enact"), 0); code != 0 {
				t.Fatal(out)
			}
			is(t, h, old)
		}},
		{"begun and not one step begun", func(t *testing.T, h *harbourmaster) {
			s, err := store.Open(filepath.Join(h.folder, "isonomos.db"), false)
			if err != nil {
				t.Fatal(err)
			}
			text, err := os.ReadFile(filepath.Join(h.folder, "draft.json"))
			if err != nil {
				t.Fatal(err)
			}
			if _, err := s.Append(time.Now(), "20261120-060000-aaaa", enact.Begin, json.RawMessage(text)); err != nil {
				t.Fatal(err)
			}
			s.Close()
			h.must(2, "changed nothing", "repeal")
			h.must(0, "stopped before it changed anything", "repeal", "--list")
			free(t, h)
		}},
		{"refused at the first step", func(t *testing.T, h *harbourmaster) {
			h.refuses = 1
			out := h.must(3, "nothing was changed", "enact", "--jobs", "1")
			h.refuses = 0
			if code, out := h.typed(out, 0); code != 0 {
				t.Fatal(out)
			}
			h.must(2, "changed nothing", "repeal")
			is(t, h, old)
			free(t, h)
		}},
		{"refused on the way, on", func(t *testing.T, h *harbourmaster) {
			h.refuses = writes / 2
			out := h.must(3, "carry on", "enact", "--jobs", "1")
			h.refuses = 0
			if code, out := h.typed(out, 0); code != 0 {
				t.Fatal(out)
			}
			is(t, h, arrived)
		}},
		{"refused on the way, back", func(t *testing.T, h *harbourmaster) {
			h.refuses = writes / 2
			out := h.must(3, "undo", "enact", "--jobs", "1")
			h.refuses = 0
			if code, out := h.typed(out, 1); code != 0 {
				t.Fatal(out)
			}
			is(t, h, old)
			free(t, h)
		}},
		{"somebody else changes what is carried out", func(t *testing.T, h *harbourmaster) {
			h.writes.Store(0)
			h.onWrite = func(n int32, serve func()) {
				if serve(); n == writes {
					h.byHand("al", "wall")
				}
			}
			out := h.must(3, "carried out, but not what is there", "enact", "--jobs", "1")
			h.onWrite = nil
			if code, out := h.typed(out, 0); code != 0 {
				t.Fatal(out)
			}
			if code, out := h.run("enact"); code != 0 {
				t.Fatal(out)
			}
			free(t, h)
		}},
		{"somebody else changes what is to be carried out", func(t *testing.T, h *harbourmaster) {
			h.writes.Store(0)
			h.onWrite = func(n int32, serve func()) {
				if n == 2 {
					h.byHand("au", "web")
				}
				serve()
			}
			out := h.must(3, "somebody else has changed what was to follow", "enact", "--jobs", "1")
			h.onWrite = nil
			if code, out := h.typed(out, 0); code != 0 {
				t.Fatal(out)
			}
			free(t, h)
		}},
		{"killed, and somebody else changes something", func(t *testing.T, h *harbourmaster) {
			h.killAt(writes/2, "enact", "--jobs", "1")
			h.byHand("au", "web")
			h.define(firstGroups)
			h.must(4, "begun with other definitions", "enact", "--resume")
			h.define(secondGroups)
			out := h.must(4, "somebody else has changed since", "repeal")
			if code, out := h.typed(out, 0); code != 0 || !strings.Contains(out, "is given up after") {
				t.Fatal(out)
			}
			h.must(2, "there is no run to give up", "repeal", "--give-up")
			h.must(0, "given up", "repeal", "--list")
			free(t, h)
		}},
	} {
		t.Run(x.name, func(t *testing.T) {
			h, _ := first.again(t)
			x.do(t, h)
		})
	}
}

// A cloud that keeps silent is told, also where nobody looks on; the first interrupt stops after the step that is
// under way, and what was done can be carried on.
func TestSilentCloudsAndInterrupts(t *testing.T) {
	t.Parallel()
	h, _ := settled(t)
	h.writes.Store(0)
	h.env = append(slices.Clip(h.env), "ISONOMOS_REQUEST_SECONDS=60") // it is silent for a while
	c, out := h.command("enact", "--jobs", "1")
	h.onWrite = func(n int32, serve func()) {
		if n == 2 {
			time.Sleep(2500 * time.Millisecond)
			_ = c.Process.Signal(os.Interrupt)
			time.Sleep(200 * time.Millisecond)
		}
		serve()
	}
	_ = c.Run()
	h.onWrite = nil
	for _, want := range []string{"waiting for", "is tried for", "at most (Ctrl-C stops)",
		"stopping after the step that is under way; once more stops at once", "called off", "2 of "} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	if n := h.writes.Load(); n != 2 || c.ProcessState.ExitCode() != 3 {
		t.Errorf("%d changes, exit %d: %s", n, c.ProcessState.ExitCode(), out)
	}
	if code, out := h.typed(out.String(), 0); code != 0 {
		t.Error(out)
	}
}

// A lock of another machine can be broken, past its lease or with a reason, and that is in the journal; the run
// that it is taken from stops before its next step.
func TestBrokenLocks(t *testing.T) {
	t.Parallel()
	h, _ := settled(t)
	lock := func(until time.Time) {
		s, err := store.Open(filepath.Join(h.folder, "isonomos.db"), false)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		if err := s.Lock([]string{"au"}, "20261120-060000-aaaa", "elsewhere, process 7", time.Now(), until,
			func(string) bool { return true }); err != nil {
			t.Fatal(err)
		}
	}
	lock(time.Now().Add(time.Hour))
	h.must(4, "isonomos repeal --break-lock au --because WHY", "enact")
	h.must(4, "its run may still be going on", "repeal", "--break-lock", "au")
	h.must(2, "no run has a lock of the account ar", "repeal", "--break-lock", "ar")
	h.must(2, "--because says why", "repeal", "--because", "x")
	h.must(0, "it was that of the run 20261120-060000-aaaa (elsewhere, process 7)", "repeal", "--break-lock", "au",
		"--because", "the machine burnt")
	lock(time.Now().Add(-time.Hour))
	h.must(0, "is broken", "repeal", "--break-lock", "au")
	h.writes.Store(0)
	h.onWrite = func(n int32, serve func()) {
		if serve(); n == 3 {
			h.must(0, "is broken", "repeal", "--break-lock", "au", "--because", "to see")
		}
	}
	out := h.must(3, "the lock of its accounts was lost", "enact", "--jobs", "1")
	h.onWrite = nil
	if n := h.writes.Load(); n != 3 {
		t.Errorf("%d changes after the third", n)
	}
	if code, out := h.typed(out, 0); code != 0 {
		t.Error(out)
	}
	h.must(0, "its chain holds", "repeal", "--list")
}

// A mark can be forged: what bears it and neither a definition nor the journal knows is told and left alone, until
// it is adopted by name. Without an estate's name nothing is written.
func TestForgedMarks(t *testing.T) {
	t.Parallel()
	h, _ := settled(t)
	h.must(0, "enacted", "enact")
	state := filepath.Join(h.clouds, standin.StateFile)
	text, err := os.ReadFile(state)
	if err != nil {
		t.Fatal(err)
	}
	forged := `{"kind":"group","account":"au","network":"nu","id":"grp-forged","name":"forged","for":"instances",` +
		`"labels":{"isonomos":"pier"}}` + "\n" +
		`{"kind":"list","account":"au","id":"lst-forged","name":"forged-list","owner":"own",` +
		`"entries":["192.0.2.0/24"],"labels":{"isonomos":"pier"}}` + "\n"
	h.write(state, string(text)+forged)
	if err := os.Chtimes(state, time.Now(), time.Now().Add(time.Second)); err != nil {
		t.Fatal(err)
	}
	out := h.must(0, "nothing to do", "draft")
	for _, want := range []string{"au/nu/forged: it bears our mark", "au/forged-list: it bears our mark"} {
		if !strings.Contains(strings.Join(strings.Fields(out), " "), want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	h.must(2, `"au/nu/forged" is near`, "draft", "--adopt", "au/nu/forget")
	out = h.must(0, "delete the group au/nu/forged", "draft", "--adopt", "au/nu/forged", "--adopt", "au/forged-list")
	if !strings.Contains(out, "delete the list au/forged-list") {
		t.Error(out)
	}
	h.must(0, "enacted", "enact")
	// A journal that is lost knows nothing: groups that are defined no more stay.
	if err := os.Remove(filepath.Join(h.folder, "isonomos.db")); err != nil {
		t.Fatal(err)
	}
	h.must(3, "its last entries are gone", "draft")
	if err := os.Remove(filepath.Join(h.folder, "isonomos.db.head")); err != nil {
		t.Fatal(err)
	}
	h.define("")
	h.must(0, "au/nu/web: it bears our mark", "draft")
	h.write(filepath.Join(h.folder, "pier.nomos"), strings.Replace(smallDefinitions, "estate pier\n", "", 1))
	h.must(0, "do not name their estate", "draft")
	h.must(2, "do not name their estate", "enact")
}
