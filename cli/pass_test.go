package cli_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"isonomos/cli"
	"isonomos/cloud/standin"
	"isonomos/enact"
	"isonomos/internal/golden"
	"isonomos/store"
)

const lendingGroups = `
list pilots { 203.0.113.8
  203.0.113.64/29 }
group web in nu "Web" { cover where role = web
  admit https from everyone
  lend ssh to list pilots for at most 2h because "on call" }
group gate in nr "Gate" { cover where role = web
  admit https from everyone
  lend ssh to list pilots for at most 2h because "on call"
  refuse ssh from everyone }
group wall for subnets in nr "Wall" { cover subnet s1
  follow instances }
group web in nl "Web" { cover where role = web
  admit https from everyone
  lend ssh to list pilots for at most 2h because "on call" }
group around for subnets in nl "Around" { cover subnet s1
  follow instances }
group web in nf "Web" { cover where role = web
  admit https from everyone
  lend ssh to list pilots for at most 2h because "on call" }
`

// lending are the groups that lend, and an instance of each, by dialect.
var lending = map[string][2]string{"union": {"au/nu/web", "u0"}, "ranked": {"ar/nr/gate", "r0"},
	"layered": {"al/nl/web", "l0"}, "flat": {"af/nf/web", "f0"}}

var harbours atomic.Int32

// newLendingHarbour are clouds of each dialect with public instances in which nothing is carried out yet.
func newLendingHarbour(t testing.TB) *harbourmaster {
	t.Helper()
	h := newHarbourmaster(t)
	h.unique = fmt.Sprintf("P%d_", harbours.Add(1))
	h.edit(func(line string, o map[string]any) string {
		if id := fmt.Sprint(o["id"]); o["kind"] == "instance" && (id == "i0" || id == "i1") {
			n := 10 + 10*strings.Index("urlf", fmt.Sprint(o["account"])[1:]) + int(id[1]-'0')
			return strings.Replace(line, `"private"`, fmt.Sprintf(`"public":["198.51.100.%d"],"private"`, n), 1)
		}
		return line
	})
	h.serve()
	return h
}

// lendingHarbour are such clouds with groups that lend something.
func lendingHarbour(t testing.TB) *harbourmaster {
	t.Helper()
	h := newLendingHarbour(t)
	h.define(lendingGroups)
	h.must(0, "steps", "draft")
	h.must(0, "enacted", "enact", "--allow-gaps")
	return h
}

// at runs the program in this process, by a clock that is so far off.
func (h *harbourmaster) at(off time.Duration, args ...string) (code int, out string) {
	h.t.Helper()
	var b bytes.Buffer
	a := &cli.App{Stdin: strings.NewReader(""), Stdout: &b, Stderr: &b, Version: "test",
		Now: func() time.Time { return time.Now().Add(off) }}
	args = append(append([]string{"isonomos"}, args...), "--estate", h.folder)
	return a.Run(context.Background(), args), b.String()
}

func (h *harbourmaster) mustAt(off time.Duration, code int, want string, args ...string) string {
	h.t.Helper()
	got, out := h.at(off, args...)
	if got != code || !strings.Contains(out, want) {
		h.t.Fatalf("%v, %s off: exit %d\n%s\nwant %d %s", args, off, got, out, code, want)
	}
	return out
}

var passID = regexp.MustCompile(`(?m)^pass +([2-9a-z]{8})\b`)

// issue opens a pass and returns its id.
func (h *harbourmaster) issue(args ...string) string {
	h.t.Helper()
	out := h.must(0, "opened", append([]string{"pass", "issue", "--because", "pump 3"}, args...)...)
	found := passID.FindStringSubmatch(out)
	if found == nil {
		h.t.Fatalf("no id is said:\n%s", out)
	}
	return found[1]
}

func (h *harbourmaster) spelt() string {
	h.t.Helper()
	return readState(h.t.(*testing.T), h.clouds).spelt()
}

// A pass lets in just its peer, in every dialect; drafts leave it alone, audit and compare tell it as lent; it is
// extended within its ceiling, and ended; then all is as before.
func TestPasses(t *testing.T) {
	t.Parallel()
	h := lendingHarbour(t)
	before := h.spelt()
	findings := h.must(1, "findings", "audit", "--live", "--format", "text")
	for dialect, of := range lending {
		group, instance := of[0], of[1]
		h.must(1, "stopped", "trace", "--live", "203.0.113.8", instance, "ssh")
		id := h.issue(group, "ssh", "--to", "203.0.113.8", "--for", "1h")
		h.must(0, "passes", "trace", "--live", "203.0.113.8", instance, "ssh")
		h.must(1, "stopped", "trace", "--live", "203.0.113.65", instance, "ssh")
		h.must(0, "nothing to do", "draft", "--to", "none.json")
		if out := h.must(0, "lent: "+group+": ssh to 203.0.113.8 until", "compare", "live", "."); !strings.Contains(out,
			"equal") {
			t.Errorf("%s: compare: %s", dialect, out)
		}
		audit := h.must(1, "lent ", "audit", "--live")
		if n := regexp.MustCompile(`\d+ findings.*`); n.FindString(audit) != n.FindString(findings) {
			t.Errorf("%s: with the pass there are\n%s\nwithout\n%s", dialect, audit, findings)
		}
		h.must(0, id+" "+group+": ssh to 203.0.113.8", "pass", "list")
		h.must(2, "past the ceiling", "pass", "extend", id, "--for", "2h1m")
		h.must(2, "which is later", "pass", "extend", id, "--for", "30m")
		out := strings.Join(strings.Fields(h.must(0, "extended", "pass", "extend", id, "--for", "90m")), " ")
		if moment := strings.Contains(out, "for a moment it was shut"); moment != (dialect == "flat") {
			t.Errorf("%s: extending says %s", dialect, out)
		}
		h.must(0, "passes", "trace", "--live", "203.0.113.8", instance, "ssh")
		h.must(0, "nothing to do", "draft", "--to", "none.json")
		h.must(0, "shut", "pass", "end", id)
		h.must(1, "stopped", "trace", "--live", "203.0.113.8", instance, "ssh")
		h.must(2, "has ended already", "pass", "end", id)
		h.must(2, "has ended already", "pass", "extend", id, "--for", "1h")
		if is := h.spelt(); is != before {
			t.Fatalf("%s: afterwards there is\n%s\nbefore there was\n%s", dialect, is, before)
		}
	}
	h.must(0, "no pass is open", "pass", "list")
	h.must(0, "ended by hand", "pass", "list", "--all")
	h.must(0, "its chain holds", "repeal", "--list")
}

// A list is named where the cloud can; a group can be the peer; with one lend that fits, the service and the time may
// be left out; at one instance a pass has a group of its own, which goes with it.
func TestPassForms(t *testing.T) {
	t.Parallel()
	h := lendingHarbour(t)
	before := h.spelt()
	for dialect, of := range lending {
		group, instance := of[0], of[1]
		id := h.issue(group, "--to", "list pilots")
		h.must(0, "passes", "trace", "--live", "203.0.113.66", instance, "ssh")
		if named := strings.Contains(h.state(), "list:"); named != (dialect == "union" || dialect == "flat") {
			t.Errorf("%s: the list is named: %v", dialect, named)
		}
		h.must(0, "shut", "pass", "end", id)
		if is := withoutLists(h.spelt()); is != withoutLists(before) {
			t.Fatalf("%s: afterwards there is\n%s\nbefore there was\n%s", dialect, is, before)
		}
		if dialect == "union" || dialect == "flat" { // where the list is there now, and somebody has changed it
			h.edit(func(line string, o map[string]any) string {
				if o["kind"] == "list" && o["account"] == group[:2] {
					return strings.Replace(line, `"203.0.113.8/32"`, `"203.0.113.0/28"`, 1)
				}
				return line
			})
			h.must(4, "does not hold in the cloud what is defined", "pass", "issue", group, "--to", "list pilots", "--because",
				"pump 3")
		}
		args := []string{"pass", "issue", group, "--to", "203.0.113.8", "--on", instance, "--because", "pump 3"}
		if dialect == "ranked" {
			h.must(4, "Without that it would open at 2 instances of "+group, args...)
			continue
		}
		h.must(0, "opened", args...)
		other := instance[:1] + "1"
		h.must(0, "passes", "trace", "--live", "203.0.113.8", instance, "ssh")
		h.must(1, "stopped", "trace", "--live", "203.0.113.8", other, "ssh")
		h.must(0, "nothing to do", "draft", "--to", "none.json")
		h.must(0, "shut", "pass", "end", "--all")
		if is := withoutLists(h.spelt()); is != withoutLists(before) {
			t.Fatalf("%s: afterwards there is\n%s\nbefore there was\n%s", dialect, is, before)
		}
	}
}

// What passes write for programs is as published.
func TestPassFormats(t *testing.T) {
	t.Parallel()
	h := lendingHarbour(t)
	valid := func(schema string, args ...string) string {
		t.Helper()
		compiled, err := jsonschema.NewCompiler().Compile(filepath.Join("..", "docs", "schemas", schema+".json"))
		if err != nil {
			t.Fatal(err)
		}
		out := h.must(0, "", append(append([]string{"pass"}, args...), "--format", "json")...)
		parsed, err := jsonschema.UnmarshalJSON(strings.NewReader(out))
		if err == nil {
			err = compiled.Validate(parsed)
		}
		if err != nil {
			t.Errorf("%v: %v\n%s", args, err, out)
		}
		return out
	}
	valid("passes", "list")
	valid("pass", "issue", "au/nu/web", "--to", "203.0.113.8", "--because", "x", "--on", "u0")
	valid("pass", "issue", "af/nf/web", "--to", "203.0.113.8", "--because", "x")
	valid("pass", "issue", "af/nf/web", "--to", "203.0.113.8", "--because", "x", "--for", "1h")
	valid("offers", "offers")
	h.must(0, "shut", "pass", "end", h.issue("ar/nr/gate", "--to", "203.0.113.8"))
	if out := valid("passes", "list", "--all"); !strings.Contains(out, `"shared": true`) ||
		!strings.Contains(out, `"state": "ended"`) {
		t.Error(out)
	}
}

// hold says when the pass could not be shut, until when it is open, and what to type.
func TestPassHoldThatCantShut(t *testing.T) {
	t.Parallel()
	h := lendingHarbour(t)
	h.writes.Store(0)
	h.refuses = 2 // the rule is made, and nothing after that
	out := h.must(3, "could not be shut", "pass", "hold", "au/nu/web", "ssh", "--to", "203.0.113.8", "--because", "x", "--",
		"true")
	if !strings.Contains(out, "it is over at 2") || !strings.Contains(out, "isonomos pass end ") {
		t.Error(out)
	}
	h.refuses = 0
	h.must(0, "shut", "pass", "end", "--all")
}

// Services and peers of every kind, inward and outward, in every dialect: what fits one lend is opened and shut again.
func TestPassesOfEveryKind(t *testing.T) {
	t.Parallel()
	h := newLendingHarbour(t)
	const first = "  lend ssh to list pilots for at most 2h because \"on call\""
	text := lendingGroups
	for _, network := range []string{"nu", "nr", "nl", "nf"} {
		at := strings.Index(text, "in "+network)
		text = text[:at] + strings.Replace(text[at:], first, first+"\n  lend https-alt at 203.0.113.0/24 except 203.0.113.9 for "+
			"at most 1h\n  lend postgres to group desk-"+network+" for at most 1h", 1) + "group desk-" + network + " in " +
			network + " { cover where role = desk\n  reach postgres at network }\n"
	}
	h.define(text)
	h.must(0, "steps", "draft")
	h.must(0, "enacted", "enact", "--allow-gaps")
	before := h.spelt()
	for dialect, of := range lending {
		desk := "desk-n" + of[0][1:2]
		for args, want := range map[string]string{
			"https-alt --to 203.0.113.10":                   "→ 203.0.113.10 https-alt",
			"https-alt --to 203.0.113.9":                    "is outside of what 203.0.113.0/24 except 203.0.113.9 allows",
			"https-alt --to 203.0.113.8/30":                 "is wider than 203.0.113.0/24 except 203.0.113.9 allows: at most 203.0.113.8, ",
			"postgres --to " + desk:                         "postgres to group",
			"postgres --to group " + of[0][:5] + "/" + desk: "postgres to group",
			"ssh --to 2001:db8::1":                          "is outside of what list pilots allows",
			"--to 203.0.113.8":                              "several lends fit: say which service",
			"ssh,https-alt --to 203.0.113.8":                "ssh,https-alt is not among what is lent",
			"ssh --to 203.0.113.64/29 --for 5s":             "(5 s)",
		} {
			words := strings.Fields(args)
			if i := slices.Index(words, "group"); i > 0 {
				words = append(words[:i], "group "+words[i+1])
			}
			code, out := h.run(append([]string{"pass", "issue", of[0], "--because", "x"}, words...)...)
			if !strings.Contains(out, want) || (code == 0) != strings.Contains(out, "opened ") || code != 0 && code != 2 {
				t.Errorf("%s: %s: exit %d\n%s\nwant %s", dialect, args, code, out, want)
			}
			if code == 0 {
				h.must(0, "nothing to do", "draft", "--to", "none.json")
			}
			h.must(0, "", "pass", "end", "--all")
			if left := h.leftOf(before); withoutLists(left) != "" && withoutLists(h.spelt()) != withoutLists(before) {
				t.Fatalf("%s: %s: %s", dialect, args, left)
			}
		}
	}
}

// The journal has a pass, with its end, before the first request that could open anything.
func TestJournalFirst(t *testing.T) {
	t.Parallel()
	h := lendingHarbour(t)
	for _, of := range lending {
		h.writes.Store(0)
		known := -1
		h.onWrite = func(n int32, serve func()) {
			if s, err := store.Open(filepath.Join(h.folder, "isonomos.db"), false); err == nil && n == 1 {
				all, _, _, err := enact.Passes(s.Journal)
				known = 0
				for _, k := range all {
					if err == nil && k.Group == of[0] && k.Until.After(time.Now()) && k.Ended.IsZero() {
						known++
					}
				}
				s.Close()
			}
			serve()
		}
		h.issue(of[0], "ssh", "--to", "203.0.113.8")
		h.onWrite = nil
		if known != 1 {
			t.Errorf("%s: at the first request the journal knew %d passes", of[0], known)
		}
	}
}

// Where no rank is free in front of the refusal, rules get other ranks, and nothing is stopped meanwhile.
func TestPassInTightRanks(t *testing.T) {
	t.Parallel()
	h := lendingHarbour(t)
	rank := 0
	h.edit(func(line string, o map[string]any) string {
		if o["kind"] == "rule" && o["account"] == "ar" && o["direction"] == "in" && o["built_in"] == nil {
			rank++
			return regexp.MustCompile(`"rank":\d+`).ReplaceAllString(line, fmt.Sprintf(`"rank":%d`, rank))
		}
		return line
	})
	before := readState(t, h.clouds)
	at := h.changes()
	id := h.issue("ar/nr/gate", "ssh", "--to", "203.0.113.8")
	h.must(0, "passes", "trace", "--live", "203.0.113.8", "r0", "ssh")
	h.must(1, "stopped", "trace", "--live", "203.0.113.65", "r0", "ssh")
	h.must(0, "nothing to do", "draft", "--to", "none.json")
	onTheWay(t, h.clouds, before, at, nil)
	h.must(0, "shut", "pass", "end", id)
	h.must(1, "stopped", "trace", "--live", "203.0.113.8", "r0", "ssh")
	if left := h.leftOf(before.spelt()); left != "" {
		t.Fatal(left)
	}
}

// state is the clouds' state file.
func (h *harbourmaster) state() string {
	h.t.Helper()
	text, err := os.ReadFile(filepath.Join(h.clouds, standin.StateFile))
	if err != nil {
		h.t.Fatal(err)
	}
	return string(text)
}

// withoutLists leaves lists out: a defined list stays when a pass that needed it is over.
func withoutLists(spelt string) string {
	var kept []string
	for line := range strings.Lines(spelt) {
		if !strings.Contains(line, "list") {
			kept = append(kept, line)
		}
	}
	return strings.Join(kept, "")
}

// What is wider, longer or other than what is lent, what opens nothing or breaks a law, is refused, and the clouds
// stay as they are.
func TestPassesAreRefused(t *testing.T) {
	t.Parallel()
	h := lendingHarbour(t)
	before := h.changes()
	id := "23456789"
	var all strings.Builder
	for _, x := range []struct {
		name string
		code int
		args string
	}{
		{"wider than lent", 2, "issue au/nu/web ssh --to 203.0.113.0/24 --because x"},
		{"longer than the ceiling", 2, "issue au/nu/web ssh --to 203.0.113.8 --for 3h --because x"},
		{"another service", 2, "issue au/nu/web rdp --to 203.0.113.8 --because x"},
		{"no such service", 2, "issue au/nu/web sssh --to 203.0.113.8 --because x"},
		{"a group without a lend", 2, "issue ar/nr/plain ssh --to 203.0.113.8 --because x"},
		{"no such group", 2, "issue au/nu/wep ssh --to 203.0.113.8 --because x"},
		{"several groups", 2, "issue web ssh --to 203.0.113.8 --because x"},
		{"an instance outside the group", 2, "issue au/nu/web ssh --to 203.0.113.8 --on u3 --because x"},
		{"no such peer", 2, "issue au/nu/web ssh --to pilot --because x"},
		{"no peer", 2, "issue au/nu/web ssh --because x"},
		{"no reason", 2, "issue au/nu/web ssh --to 203.0.113.8"},
		{"no time", 2, "issue au/nu/web ssh --to 203.0.113.8 --for 0s --because x"},
		{"me from elsewhere", 2, "issue au/nu/web ssh --to me --because x"},
		{"an unknown pass", 2, "end " + id},
		{"an unknown pass to extend", 2, "extend " + id + " --for 1h"},
		{"no pass", 2, "end"},
		{"hold without a group", 2, "hold -- true"},
		{"hold of no command", 2, "hold au/nu/web ssh --to 203.0.113.8 --because x -- no-such-command"},
		{"a standing rule", 4, "issue al/nl/wide ssh --to 203.0.113.8 --because x"},
		{"a refusal by hand", 4, "issue ar/nr/gate ssh --to 203.0.113.8 --because x"},
		{"a law in the way", 4, "issue af/nf/web ssh --to 203.0.113.8 --because x"},
		{"full", 4, "issue au/nu/full ssh --to 203.0.113.8 --because x"},
		{"not carried out", 4, "issue au/nu/later ssh --to 203.0.113.8 --because x"},
		{"an ended pass", 2, "end ENDED"},
		{"an ended pass to extend", 2, "extend ENDED --for 1h"},
		{"an extension past the ceiling", 2, "extend OPEN --for 3h"},
		{"an extension to an earlier end", 2, "extend OPEN --for 1m"},
		{"one instance without room", 4, "issue ar/nr/gate ssh --to 203.0.113.65 --on r0 --because x"},
		{"a clock that differs from the cloud's", 4, "issue au/nu/web ssh --to 203.0.113.65 --because x"},
		{"no token", 3, "issue au/nu/web ssh --to 203.0.113.65 --because x"},
	} {
		mine, _ := h.again(t)
		more := "group plain in nr { cover where role = db\n  admit https from everyone }\n"
		switch x.name {
		case "a standing rule":
			more += "group wide in nl { cover where role = desk\n  admit ssh from everyone\n  lend ssh to list pilots for " +
				"at most 1h }\n"
		case "full":
			more += "group full in nu { cover where role = desk\n"
			for i := range 32 {
				more += fmt.Sprintf("  admit tcp %d from everyone\n", 7000+2*i)
			}
			more += "  lend ssh to list pilots for at most 1h }\n"
		case "a law in the way":
			more += "law shut { never admit ssh from list pilots }\n"
		}
		mine.define(lendingGroups + more)
		if len(more) > 100 && x.name != "a law in the way" {
			mine.must(0, "steps", "draft")
			mine.must(0, "enacted", "enact")
		}
		switch x.name {
		case "not carried out":
			mine.define(lendingGroups + more + "group later in nu { cover where role = desk\n  lend ssh to list pilots " +
				"for at most 1h }\n")
		case "a refusal by hand":
			mine.edit(func(line string, o map[string]any) string {
				if o["kind"] == "group" && o["name"] == "gate" {
					return line + fmt.Sprintf(`{"kind":"rule","account":"ar","group":%q,"id":"by-hand","direction":"in",`+
						`"action":"refuse","rank":1,"peers":["203.0.113.0/24"],"services":["tcp 22"]}`+"\n", o["id"])
				}
				return line
			})
		}
		words := strings.Fields(x.args)
		for i, word := range words {
			if word == "OPEN" || word == "ENDED" {
				words[i] = mine.issue("au/nu/web", "ssh", "--to", "203.0.113.8", "--for", "1h")
			}
			if word == "ENDED" {
				mine.must(0, "shut", "pass", "end", words[i])
			}
		}
		switch x.name {
		case "a clock that differs from the cloud's":
			mine.dateOff = -30 * time.Minute
		case "no token":
			mine.env = append(mine.env, mine.unique+"CU_TOKEN=")
		}
		at := mine.changes()
		code, out := mine.run(append([]string{"pass"}, words...)...)
		for i, word := range strings.Fields(x.args) {
			out = strings.ReplaceAll(out, words[i], word)
		}
		out = strings.ReplaceAll(regexp.MustCompile(`2\d{3}-\d\d-\d\dT[0-9:]+Z`).ReplaceAllString(out, "TIME"), mine.unique, "")
		out = regexp.MustCompile(`\d+ min \d+ s apart|\d+ min apart`).ReplaceAllString(out, "30 min apart")
		if code != x.code || mine.changes() != at {
			t.Errorf("%s: exit %d, %d changes\n%s", x.name, code, mine.changes()-at, out)
		}
		fmt.Fprintf(&all, "%s: isonomos pass %s\n%s\n", x.name, x.args, out)
	}
	golden.Check(t, filepath.Join("testdata", "passes-refused.txt"), all.String())
	if h.changes() != before {
		t.Error("something was changed")
	}
}

// leftOf says what of passes is in the clouds that no live pass covers.
func (h *harbourmaster) leftOf(before string) string {
	h.t.Helper()
	if is := h.spelt(); is != before {
		return fmt.Sprintf("there is\n%s\nbefore there was\n%s", is, before)
	}
	return ""
}

// Killed before any of its requests, before the answer to any, or when all are answered, whatever was to be opened,
// extended or shut is shut by the next command that writes once it is over, and nothing is left behind.
func TestPassesKilledAtEveryStep(t *testing.T) {
	t.Parallel()
	first := lendingHarbour(t)
	before := first.spelt()
	killed := 0
	for dialect, of := range lending {
		group, instance := of[0], of[1]
		jobs := [][]string{{"issue", group, "ssh", "--to", "203.0.113.8", "--because", "x", "--for", "1h"}}
		if dialect == "ranked" || dialect == "flat" { // where an extension takes most steps
			jobs = append(jobs, []string{"extend", "ID", "--for", "90m"}, []string{"end", "ID"})
		}
		if dialect != "ranked" {
			jobs = append(jobs, append(jobs[0], "--on", instance))
		}
		if dialect == "union" {
			jobs = append(jobs, []string{"hold", group, "ssh", "--to", "203.0.113.8", "--because", "x", "--", "true"})
		}
		for _, job := range jobs {
			for n := int32(1); ; n++ {
				stop := false
				for _, answered := range []bool{false, true} {
					h, _ := first.again(t)
					args := append([]string{"pass"}, job...)
					if job[0] != "issue" && job[0] != "hold" {
						args[2] = h.issue(group, "ssh", "--to", "203.0.113.8", "--for", "1h")
					}
					if !h.killed(n, answered, args...) {
						stop = true
						continue
					}
					killed++
					// What is left while it is not over: a pass that the journal has, or nothing.
					h.must(0, "", "pass", "list")
					if job[0] == "issue" && n%2 == 0 { // broken off: any command that writes shuts it at once
						h.define(lendingGroups + "group late in n" + group[1:2] + " { cover where role = desk\n  admit https " +
							"from everyone }\n")
						for _, command := range []string{"draft", "enact --allow-gaps", "repeal --allow-gaps"} {
							if code, out := h.run(strings.Fields(command)...); code != 0 {
								t.Fatalf("%s: after %v killed at request %d (answered: %v) %s: exit %d\n%s", dialect, args, n,
									answered, command, code, out)
							}
						}
					} else {
						h.mustAt(3*time.Hour, 0, "", "pass", "end", "--overdue")
					}
					if left := h.leftOf(before); left != "" {
						t.Fatalf("%s: %v killed at request %d (answered: %v): %s", dialect, args, n, answered, left)
					}
					h.mustAt(3*time.Hour, 0, "no pass is open", "pass", "list")
					h.must(0, "its chain holds", "repeal", "--list")
				}
				if stop {
					break
				}
			}
		}
	}
	t.Logf("%d kills", killed)
	if killed < 30 {
		t.Errorf("%d kills tell little", killed)
	}
}

// killed runs the program and kills it at its nth request, before that is carried out or before its answer is heard. It
// reports whether there were so many.
func (h *harbourmaster) killed(n int32, carriedOut bool, args ...string) bool {
	h.t.Helper()
	h.writes.Store(0)
	c, _ := h.command(args...)
	gone := make(chan struct{})
	h.onWrite = func(k int32, serve func()) {
		if k < n {
			serve()
			return
		}
		if carriedOut {
			serve()
		}
		_ = c.Process.Signal(syscall.SIGKILL)
		<-gone
	}
	_ = c.Run()
	close(gone)
	h.onWrite = nil
	return c.ProcessState.ExitCode() == -1
}

// With requests failing in every way there is, a pass is open or it is said that it may not be; once it is over, and
// the cloud well again, nothing is left.
func TestPassesUnderFaults(t *testing.T) {
	t.Parallel()
	first := lendingHarbour(t)
	before := first.spelt()
	for seed := range uint64(6) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			h, _ := first.again(t)
			if err := standin.SetFaults(h.clouds, seed, 0.2, standin.Kinds); err != nil {
				t.Fatal(err)
			}
			for _, of := range lending {
				code, out := h.run("pass", "issue", of[0], "ssh", "--to", "203.0.113.8", "--because", "x", "--for", "1h")
				if code != 0 && code != 3 && code != 4 {
					t.Fatalf("issue: exit %d\n%s", code, out)
				}
				if id := passID.FindStringSubmatch(out); code == 0 && seed%2 == 0 {
					if code, out := h.run("pass", "extend", id[1], "--for", "90m"); code != 0 && code != 3 {
						t.Fatalf("extend: exit %d\n%s", code, out)
					}
				}
			}
			if code, out := h.run("pass", "end", "--all"); code != 0 && code != 3 && code != 4 {
				t.Fatalf("end: exit %d\n%s", code, out)
			}
			if err := standin.SetFaults(h.clouds, seed, 0, nil); err != nil {
				t.Fatal(err)
			}
			h.mustAt(3*time.Hour, 0, "", "pass", "end", "--overdue")
			if left := h.leftOf(before); left != "" {
				t.Fatal(left)
			}
			h.must(0, "its chain holds", "repeal", "--list")
		})
	}
}

// loseStore removes the store, and what is beside it.
func (h *harbourmaster) loseStore() {
	h.t.Helper()
	lost, err := filepath.Glob(filepath.Join(h.folder, "isonomos.db*"))
	if err != nil || len(lost) == 0 {
		h.t.Fatal(lost, err)
	}
	for _, name := range lost {
		if err := os.Remove(name); err != nil {
			h.t.Fatal(err)
		}
	}
}

// With the store lost, or another one, a pass is known by its id and its lend, and shut once it is over.
func TestPassesWithoutTheStore(t *testing.T) {
	t.Parallel()
	first := lendingHarbour(t)
	before := first.spelt()
	for dialect, of := range lending {
		for _, on := range []string{"", of[1]} {
			if dialect == "ranked" && on != "" {
				continue
			}
			h, _ := first.again(t)
			args := []string{of[0], "ssh", "--to", "203.0.113.8", "--for", "1h"}
			if on != "" {
				args = append(args, "--on", on)
			}
			id := h.issue(args...)
			h.loseStore()
			h.must(0, "known by its id and its lend", "pass", "list")
			if on == "" {
				h.must(0, "nothing to do", "draft", "--to", "none.json")
			}
			h.mustAt(30*time.Minute, 0, "nothing to shut", "pass", "end", "--overdue")
			if off := 3 * time.Hour; dialect == "flat" {
				h.mustAt(time.Minute, 0, "shut", "pass", "end", id)
			} else {
				h.mustAt(off, 0, "overdue", "pass", "list")
				h.mustAt(off, 0, "shut", "pass", "end", "--overdue")
			}
			if left := h.leftOf(before); left != "" {
				t.Fatalf("%s %s: %s", dialect, on, left)
			}
		}
	}
}

// A clock that is set back does not prolong a pass, nor does one that is set forward hide anything; the clouds' clock
// and the journal count too.
func TestPassesAndClocks(t *testing.T) {
	t.Parallel()
	h := lendingHarbour(t)
	before := h.spelt()
	id := h.issue("au/nu/web", "ssh", "--to", "203.0.113.8", "--for", "1h")
	h.mustAt(-12*time.Hour, 0, id, "pass", "list") // the cloud's clock counts
	h.mustAt(-12*time.Hour, 4, "apart", "pass", "issue", "au/nu/web", "ssh", "--to", "203.0.113.64", "--because", "x")
	h.mustAt(-12*time.Hour, 4, "apart", "pass", "extend", id, "--for", "90m")
	h.dateOff = 2 * time.Hour // by the cloud's clock it is over
	h.must(0, "overdue", "pass", "list")
	h.must(0, "shut", "pass", "end", "--overdue")
	h.dateOff = 0
	if left := h.leftOf(before); left != "" {
		t.Fatal(left)
	}
	// A journal whose latest entry is later than the own clock and the cloud's: the pass is over by it.
	id = h.issue("au/nu/web", "ssh", "--to", "203.0.113.8", "--for", "1h")
	other := h.mustAt(0, 0, id, "pass", "list")
	if strings.Contains(other, "overdue") {
		t.Fatal(other)
	}
	h.mustAt(90*time.Minute, 0, "overdue", "pass", "list")
	audit := h.mustAt(90*time.Minute, 1, "the pass "+id+" still has", "audit", "--live", "--check", "expired")
	if !strings.Contains(audit, "HIGH ") || !strings.Contains(audit, "isonomos pass end --overdue") {
		t.Errorf("audit says of a pass that is over:\n%s", audit)
	}
	h.dateOff = 90 * time.Minute
	h.mustAt(90*time.Minute, 0, "opened", "pass", "issue", "ar/nr/gate", "ssh", "--to", "203.0.113.8", "--because", "x")
	h.dateOff = 0
	h.must(0, "overdue", "pass", "list")
	h.must(4, "the journal's latest entry", "pass", "issue", "au/nu/web", "ssh", "--to", "203.0.113.64", "--because", "x")
	h.must(0, "shut", "pass", "end", "--all")
	if left := h.leftOf(before); left != "" {
		t.Fatal(left)
	}
}

// A rule that somebody has made and that calls itself a pass is one by hand, and nothing is deleted for its words.
func TestForgedPasses(t *testing.T) {
	t.Parallel()
	first := lendingHarbour(t)
	for _, until := range []string{"2099-01-01T00:00:00Z", time.Now().Add(-24 * time.Hour).UTC().Format(time.RFC3339),
		time.Now().Add(time.Hour).UTC().Format(time.RFC3339)} {
		for _, place := range []string{"web", "made"} {
			for _, stored := range []bool{true, false} {
				h, _ := first.again(t)
				real := h.issue("af/nf/web", "ssh", "--to", "203.0.113.8", "--for", "1h")
				forge := func(id, rule, peer string) {
					h.edit(func(line string, o map[string]any) string {
						if o["kind"] == "account" && o["name"] == "au" && place == "made" {
							return line
						}
						if o["id"] == "def" && place == "made" {
							line += `{"kind":"group","account":"au","network":"nu","id":"made","name":"made","for":"instances"}` + "\n"
							o["name"], o["id"], o["kind"] = "made", "made", "group"
						}
						if o["kind"] == "group" && o["account"] == "au" && o["name"] == place {
							return line + fmt.Sprintf(`{"kind":"rule","account":"au","group":%q,"id":%q,"direction":"in","action":`+
								`"admit","peers":[%q],"services":["tcp 22"],"description":"isonomos pass %s until %s"}`+"\n",
								o["id"], rule, peer, id, until)
						}
						return line
					})
				}
				forge("abcdefgh", "forged-1", "203.0.113.8/32")
				if place == "web" {
					forge(real, "forged-2", "203.0.113.64/32") // the id of a real pass, of another group
				}
				if !stored {
					h.loseStore()
				}
				if out := h.must(0, "", "pass", "list"); strings.Contains(out, "au/nu") {
					t.Fatalf("the forged rule is taken for a pass:\n%s", out)
				}
				for range 2 {
					h.must(0, "", "pass", "end", "--overdue")
				}
				h.mustAt(48*time.Hour, 0, "", "pass", "end", "--overdue")
				if !strings.Contains(h.state(), "forged-1") {
					t.Fatalf("a rule of %s was deleted for its words (until %s, stored %v)", place, until, stored)
				}
				want := "by-hand"
				if place == "made" {
					want = "unused"
				}
				h.must(1, want, "audit", "--live", "--limit", "0")
				if place == "web" {
					h.must(0, "closes", "draft")
				}
			}
		}
	}
}

// Whoever copies the words of a real pass to a wider rule, in the same group, around it or into a pass's own group, makes
// a rule by hand: it is told as open, and does not go with the pass.
func TestCopiedWords(t *testing.T) {
	t.Parallel()
	first := lendingHarbour(t)
	for _, x := range []struct{ group, on, into string }{{"au/nu/web", "", "web"}, {"ar/nr/gate", "", "gate"},
		{"ar/nr/gate", "", "wall"}, {"al/nl/web", "", "around"}, {"au/nu/web", "u0", "pass-"}} {
		h, _ := first.again(t)
		args := []string{x.group, "ssh", "--to", "203.0.113.8", "--for", "1h"}
		if x.on != "" {
			args = append(args, "--on", x.on)
		}
		id := h.issue(args...)
		words := regexp.MustCompile(`isonomos pass ` + id + ` until [0-9TZ:-]+`).FindString(h.state())
		h.edit(func(line string, o map[string]any) string {
			name := fmt.Sprint(o["name"])
			if o["kind"] == "group" && o["account"] == x.group[:2] && strings.HasPrefix(name, x.into) {
				line += fmt.Sprintf(`{"kind":"rule","account":%q,"group":%q,"id":"copied","direction":"in","action":"admit",`+
					`"rank":3,"peers":["0.0.0.0/0"],"services":["tcp 3389"],"description":%q}`+"\n", o["account"], o["id"], words)
			}
			return line
		})
		want := "rdp"
		if x.into == "wall" { // by itself that opens nothing
			want = ""
		}
		if audit := h.must(1, want, "audit", "--live", "--limit", "0"); !strings.Contains(audit, "lent ") {
			t.Errorf("%v: the pass itself is not lent:\n%s", x, audit)
		}
		h.run("pass", "end", id)
		if there := strings.Contains(h.state(), `"copied"`); there != (x.on == "") {
			t.Errorf("%v: the copied rule is there: %v", x, there) // a pass's own group goes as a whole
		}
		if strings.Contains(strings.ReplaceAll(h.state(), words+`"}`+"\n", ""), "203.0.113.8/32\"],\"services") {
			t.Errorf("%v: the pass is still there", x)
		}
	}
}

// Two passes for the same traffic share one rule, which stays until the later end; several people who issue and end
// overlapping passes at once leave nothing behind.
func TestOverlappingPasses(t *testing.T) {
	t.Parallel()
	first := lendingHarbour(t)
	before := first.spelt()
	for dialect, of := range lending {
		for _, longer := range []bool{true, false} {
			h, _ := first.again(t)
			times := [2]string{"30m", "1h"}
			if !longer {
				times = [2]string{"1h", "30m"}
			}
			a := h.issue(of[0], "ssh", "--to", "203.0.113.8", "--for", times[0])
			b := h.issue(of[0], "ssh", "--to", "203.0.113.8", "--for", times[1])
			if n := strings.Count(h.state(), "isonomos pass "); n > 2 { // one rule, and one around
				t.Fatalf("%s: there are %d rules of passes", dialect, n)
			}
			list := h.must(0, a, "pass", "list")
			if !strings.Contains(list, b) || strings.Contains(list, "but") {
				t.Fatalf("%s: %s", dialect, list)
			}
			h.must(0, "nothing to do", "draft", "--to", "none.json")
			end := a
			if !longer { // by the clock: the second is over
				h.mustAt(45*time.Minute, 0, b, "pass", "end", "--overdue")
				h.must(0, "passes", "trace", "--live", "203.0.113.8", of[1], "ssh")
			} else {
				h.must(0, "shut", "pass", "end", b) // the longer one, whose rule it is
				h.must(0, "passes", "trace", "--live", "203.0.113.8", of[1], "ssh")
				end = a
			}
			h.must(0, "shut", "pass", "end", end)
			if left := h.leftOf(before); left != "" {
				t.Fatalf("%s, %v: %s", dialect, longer, left)
			}
		}
	}
	h, _ := first.again(t)
	var people sync.WaitGroup
	for n := range 6 {
		people.Go(func() {
			for range 3 {
				peer := []string{"203.0.113.8", "203.0.113.64/29", "203.0.113.65"}[n%3]
				for range 20 { // until the account is free
					c, out := h.command("pass", "issue", "au/nu/web", "ssh", "--to", peer, "--because", "x", "--for", "1h")
					_ = c.Run()
					if id := passID.FindStringSubmatch(out.String()); id != nil {
						for range 20 {
							c, out := h.command("pass", "end", id[1])
							if _ = c.Run(); strings.Contains(out.String(), "shut") {
								break
							}
							time.Sleep(20 * time.Millisecond)
						}
						break
					}
					time.Sleep(20 * time.Millisecond)
				}
			}
		})
	}
	people.Wait()
	h.must(0, "", "pass", "end", "--all")
	if left := h.leftOf(before); left != "" {
		t.Fatal(left)
	}
	h.must(0, "its chain holds", "repeal", "--list")
}

// A lend that is narrowed or taken out while a pass is open: the next draft ends the pass.
func TestLendGoesWhilePassIsOpen(t *testing.T) {
	t.Parallel()
	first := lendingHarbour(t)
	for _, gone := range []string{"lend ssh to list pilots for at most 2h because", "lend ssh to 203.0.113.64/29 for at " +
		"most 2h because", "lend ssh to list pilots for at most 30m because"} {
		h, _ := first.again(t)
		id := h.issue("au/nu/web", "ssh", "--to", "203.0.113.8", "--for", "1h")
		old := `lend ssh to list pilots for at most 2h because`
		text := strings.Replace(lendingGroups, old, gone, 1)
		if gone == old {
			text = strings.Replace(lendingGroups, "  lend ssh to list pilots for at most 2h because \"on call\" }", "}", 1)
		}
		h.define(text)
		h.must(0, "no longer lend this", "pass", "list")
		h.must(0, "remove admit ssh from 203.0.113.8", "draft")
		h.must(0, "enacted", "enact")
		h.must(1, "stopped", "trace", "--live", "203.0.113.8", "u0", "ssh")
		h.must(0, "", "pass", "end", id)
		h.must(0, "no pass is open", "pass", "list")
	}
	// The group is no longer defined: what is open in it can be shut all the same, by hand or once it is over.
	for _, over := range []bool{false, true} {
		h, _ := first.again(t)
		id := h.issue("au/nu/web", "ssh", "--to", "203.0.113.8", "--for", "1h")
		at := strings.Index(lendingGroups, "group web in nu")
		h.define(lendingGroups[:at] + lendingGroups[strings.Index(lendingGroups, "group gate"):])
		if over {
			h.mustAt(2*time.Hour, 0, "shut", "pass", "end", "--overdue")
		} else {
			h.must(0, "no longer lend this", "pass", "list")
			h.must(0, "shut", "pass", "end", id)
		}
		if strings.Contains(h.state(), "isonomos pass") {
			t.Errorf("it is still there (over: %v)", over)
		}
	}
}

// Passes come and go between a draft and enact, and before a run is undone: neither is disturbed, neither opens or
// shuts them, and what is over goes first.
func TestPassesBesideRuns(t *testing.T) {
	t.Parallel()
	first := lendingHarbour(t)
	before := first.spelt()
	more := strings.ReplaceAll(lendingGroups, "admit https from everyone", "admit https, http from everyone")
	for dialect, of := range lending {
		h, _ := first.again(t)
		h.define(more)
		gone := h.issue(of[0], "ssh", "--to", "203.0.113.8", "--for", "1h")
		h.must(0, "steps", "draft")
		h.must(0, "shut", "pass", "end", gone)
		stays := h.issue(of[0], "ssh", "--to", "203.0.113.65", "--for", "1h")
		h.must(0, "enacted", "enact", "--allow-gaps")
		h.must(0, "passes", "trace", "--live", "203.0.113.65", of[1], "ssh")
		h.must(1, "stopped", "trace", "--live", "203.0.113.8", of[1], "ssh")
		later := h.issue(of[0], "ssh", "--to", "203.0.113.8", "--for", "1h")
		h.must(0, "repealed", "repeal", "--allow-gaps")
		h.must(0, "passes", "trace", "--live", "203.0.113.65", of[1], "ssh")
		h.must(0, "passes", "trace", "--live", "203.0.113.8", of[1], "ssh")
		h.must(2, "opened or shut passes", "repeal", runOf(h.must(0, "passes "+stays, "repeal", "--list"), stays))
		_ = later
		h.must(0, "steps", "draft")
		h.dateOff = 2 * time.Hour // both are over now, by the clouds' clock
		h.mustAt(2*time.Hour, 0, "enacted", "enact", "--allow-gaps", filepath.Join(h.folder, "draft.json"))
		h.dateOff = 0
		if strings.Contains(h.state(), "isonomos pass") {
			t.Fatalf("%s: enact did not shut what was over", dialect)
		}
		h.mustAt(2*time.Hour, 0, "repealed", "repeal", "--allow-gaps")
		if left := h.leftOf(before); left != "" {
			t.Fatalf("%s: %s", dialect, left)
		}
	}
}

// runOf is the name of the first run of a pass in a list of runs.
func runOf(list, id string) string {
	for line := range strings.Lines(list) {
		if strings.Contains(line, id) {
			return strings.Fields(line)[0]
		}
	}
	return "none"
}

// A pass that is over while a run goes on in its account is ended between two steps, by the run that has the lock.
func TestPassEndsDuringARun(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, `
group night in nu "Night" { cover where role = db or role = desk
  reach ssh at 10.1.0.0/16
  lend ssh to 10.1.0.0/16 for at most 1h because "on call" }
`)
	var more strings.Builder
	for i := range 8 {
		fmt.Fprintf(&more, "group late-%d in nu { admit https from list desks }\n", i)
	}
	h.define(upheldGroups + `
group night in nu "Night" { cover where role = db or role = desk
  reach ssh at 10.1.0.0/16
  admit http from everyone
  lend ssh to 10.1.0.0/16 for at most 1h because "on call" }
list desks { 192.0.2.0/28 }
` + more.String())
	h.must(0, "", "draft")
	id := h.issue("night", "ssh", "--to", "10.1.2.13", "--for", "3s")
	began, ended := time.Now(), time.Duration(0)
	h.onWrite = func(_ int32, serve func()) {
		if ended == 0 && !strings.Contains(h.state(), id) {
			ended = time.Since(began)
		}
		time.Sleep(300 * time.Millisecond)
		serve()
	}
	h.must(0, "enacted", "enact")
	took := time.Since(began)
	h.onWrite = nil
	if ended == 0 || took < ended+time.Second {
		t.Errorf("the pass was gone after %s of %s", ended, took)
	}
	h.must(0, "over", "pass", "list", "--all")
	h.must(0, "nothing to do", "draft")
}
