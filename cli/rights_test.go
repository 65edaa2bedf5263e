package cli_test

import (
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"isonomos/cloud/standin"
)

var rightsRow = regexp.MustCompile("(?m)^\\| `([^`]+)` \\| (read|write)(; write, [a-z ]+)? \\|$")

// The table of what each command needs of a token is true: what needs to read alone works with a token that may not
// write; of the others each works with one that may, and with one that may not it changes nothing and says why. A
// command that the table says nothing of is an error here.
func TestRights(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/clouds.md")
	if err != nil {
		t.Fatal(err)
	}
	needs := make(map[string]string)
	for _, m := range rightsRow.FindAllStringSubmatch(string(text), -1) {
		needs[m[1]] = m[2]
	}
	h := newUpheld(t, `
group night in nu "Night" { cover where role = db or role = desk
  reach ssh at 10.1.0.0/16
  lend ssh to 10.1.0.0/16 for at most 1h because "on call" }
`)
	h.ask("POST", "/cu/v1/accounts/au/groups", `{"name":"theirs","network":"nu"}`) // there is something to adopt
	whole, err := os.ReadFile(filepath.Join(h.clouds, standin.TokenFile))
	if err != nil {
		t.Fatal(err)
	}
	read, err := os.ReadFile(filepath.Join(h.clouds, standin.ReadTokenFile))
	if err != nil {
		t.Fatal(err)
	}
	with := func(token []byte) {
		for i, v := range h.env {
			if name, _, _ := strings.Cut(v, "="); strings.HasSuffix(name, "_TOKEN") && strings.HasPrefix(name, "C") {
				h.env[i] = name + "=" + string(token)
			}
		}
	}
	issue := []string{"pass", "issue", "night", "--to", "10.1.2.13", "--because", "x"}
	commands := map[string][]string{"survey": {"survey"}, "audit --live": {"audit", "--live", "--fail-at", "never"},
		"exposure --live": {"exposure", "--live"}, "trace --live": {"trace", "--live", "u0", "u1", "https"},
		"prove --live": {"prove", "--live"}, "narrow --live": {"narrow", "--live", "--all"},
		"adopt --live": {"adopt", "--live", "--all"}, "compare live": {"compare", "live", "."}, "draft": {"draft"},
		"pass offers": {"pass", "offers"}, "pass list": {"pass", "list"}, "uphold": {"uphold", "--once"},
		"enact": {"enact"}, "repeal": {"repeal"}, "pass issue": issue,
		"pass hold":   {"pass", "hold", "night", "--to", "10.1.2.13", "--because", "x", "--", "true"},
		"pass extend": {"pass", "extend", "ID", "--for", "40m"}, "pass end": {"pass", "end", "ID"}}
	for _, name := range slices.Sorted(maps.Keys(commands)) {
		args := commands[name]
		if needs[name] == "" {
			t.Errorf("the table says nothing of %s", name)
			continue
		}
		if needs[name] == "read" {
			with(read)
			if code, out := h.run(args...); code > 1 || strings.Contains(out, "403 Forbidden") {
				t.Errorf("%v with a token that may read: exit %d\n%s", args, code, out)
			}
			continue
		}
		if name == "enact" { // there has to be something to do
			h.open(0, "192.0.2.0/24", "tcp 22", 0)
			with(whole)
			h.must(0, "step", "draft")
		}
		if len(args) > 2 && args[2] == "ID" {
			with(whole)
			args[2] = h.must(0, "opened", "pass", "issue", "night", "--to", "10.1.2.13", "--for", "20m", "--because", "x")
			args[2] = passID.FindStringSubmatch(args[2])[1]
		}
		with(read)
		before := h.changes()
		if code, out := h.run(args...); code == 0 || !strings.Contains(out, "does not allow to write") || h.changes() != before {
			t.Errorf("%v with a token that may not write: exit %d, %d changes\n%s", args, code, h.changes()-before, out)
		}
		with(whole)
		if name == "enact" {
			if code, _ := h.run("enact", "--resume"); code != 0 {
				h.must(0, "", "draft")
				h.must(0, "", "enact")
			}
			continue
		}
		if code, out := h.run(args...); code != 0 {
			t.Errorf("%v with a token that may write: exit %d\n%s", args, code, out)
		}
		h.run("pass", "end", "--all")
	}
	for name := range needs {
		if commands[name] == nil {
			t.Errorf("the table has %s, which is not tried", name)
		}
	}
}
