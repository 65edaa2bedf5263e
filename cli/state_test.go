package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"isonomos/cloud/standin"
)

// edited serves the clouds again with their state edited by hand.
func (h *harbourmaster) edited(change func(line map[string]any) map[string]any, more ...string) {
	h.t.Helper()
	file := filepath.Join(h.clouds, standin.StateFile)
	text, err := os.ReadFile(file)
	if err != nil {
		h.t.Fatal(err)
	}
	var b strings.Builder
	for line := range strings.Lines(string(text)) {
		var object map[string]any
		if err := json.Unmarshal([]byte(line), &object); err != nil {
			h.t.Fatal(err)
		}
		out, _ := json.Marshal(change(object))
		b.Write(append(out, '\n'))
	}
	for _, line := range more {
		b.WriteString(line + "\n")
	}
	h.write(file, b.String())
	h.serve()
}

// What somebody opens by hand is told by every command that looks at the clouds, though
// the definitions shut it: what was found is judged unless something else is asked for.
// Looking again after a change is a real look.
func TestWhatIsOpenNow(t *testing.T) {
	t.Parallel()
	h := newHarbourmaster(t)
	h.edited(func(line map[string]any) map[string]any {
		if line["kind"] == "instance" && line["account"] == "al" && line["id"] == "i0" {
			line["interfaces"].([]any)[0].(map[string]any)["public"] = []string{"198.51.100.9"}
		}
		return line
	})
	h.define(`group web in nl "web" {
  cover where role = web
  admit https from everyone because "the site"
}
group wall for subnets in nl "Around both subnets" {
  cover  subnet s1, s2
  follow instances
}
expect internet can reach web on https
expect internet cannot reach web on rdp
law shut "Administration stays shut" {
  never admit rdp from internet
  severity critical
}
`)
	// It can be reached once it is attached at both instances.
	h.edited(func(line map[string]any) map[string]any {
		if line["kind"] == "instance" && line["account"] == "al" && line["id"] == "i1" {
			line["interfaces"].([]any)[0].(map[string]any)["public"] = []string{"198.51.100.10"}
		}
		return line
	})
	flow := []string{"trace", "--live", "192.0.2.77", "al/l0", "rdp"}
	h.must(0, "", "draft")
	h.must(0, "enacted", "enact")
	group := ""
	remember := func(line map[string]any) map[string]any {
		if line["kind"] == "group" && line["name"] == "web" {
			group = line["id"].(string)
		}
		return line
	}
	h.edited(remember)
	if group == "" {
		t.Fatal("the group is not in the cloud")
	}
	h.must(1, "STOPPED", flow...)
	h.must(0, "2 hold", "prove", "--live")
	h.must(0, "judged as found and as defined", "audit", "--live", "--fail-at", "high", "--over", "group = web")

	h.edited(remember, fmt.Sprintf(
		`{"kind":"rule","account":"al","group":%q,"id":"night","direction":"in","action":"admit","peers":["0.0.0.0/0"],"services":["tcp 3389"],"changed":{"at":"2026-11-19T23:41:00Z","by":"r.sorrel"}}`, group))
	h.must(0, "", "survey", "--to", "now.jsonl")
	for _, look := range [][]string{{"--live"}, {"--survey", "now.jsonl"}} {
		with := func(args ...string) []string { return append(args, look...) }
		out := h.must(1, "as found only: no definition says this",
			with("audit", "--fail-at", "high", "--over", "group = web")...)
		for _, want := range []string{"CRITICAL  open-admin-port", "changed by r.sorrel at 2026-11-19 23:41 UTC",
			"arrives at  l0 (198.51.100.9)", "isonomos draft"} {
			if !strings.Contains(out, want) {
				t.Errorf("%v: the audit does not say %q:\n%s", look, want, out)
			}
		}
		h.must(1, `"state": "found"`, with("audit", "--fail-at", "high", "--format", "json")...)
		h.must(1, `,found,`, with("audit", "--fail-at", "high", "--format", "csv")...)
		h.must(1, `as found only`, with("audit", "--fail-at", "high", "--format", "md")...)
		h.must(1, `"state": "found"`, with("audit", "--fail-at", "high", "--format", "sarif")...)
		h.must(1, `holds as found only`, with("audit", "--fail-at", "high", "--format", "junit")...)
		h.must(0, "judged as defined",
			with("audit", "--state", "defined", "--fail-at", "high", "--over", "group = web")...)
		h.must(1, "judged as found,", with("audit", "--state", "found", "--fail-at", "high")...)
		h.must(0, "rdp", with("exposure")...)
		h.must(0, "rdp no longer passes", with("exposure")...)
		h.must(0, `"tcp 3389"`, with("exposure", "--format", "json")...)
		if out := h.must(0, "judged as defined", with("exposure", "--state", "defined")...); strings.Contains(out,
			"rdp") {
			t.Errorf("%v: as defined rdp is exposed:\n%s", look, out)
		}
		h.must(0, "once carried out  it is stopped", with("trace", "192.0.2.77", "al/l0", "rdp")...)
		h.must(0, `"once_carried_out": "stopped"`, with("trace", "192.0.2.77", "al/l0", "rdp", "--format", "json")...)
		h.must(1, "judged as defined", with("trace", "192.0.2.77", "al/l0", "rdp", "--state", "defined")...)
		out = h.must(1, "1 as found and as defined differently", with("prove")...)
		for _, want := range []string{"FAILS     expect internet cannot reach web on rdp  (as found)",
			"holds     expect internet cannot reach web on rdp  (as defined)",
			"BROKEN    law shut  Administration stays shut  (as found)",
			"holds     law shut  Administration stays shut  (as defined)"} {
			if !strings.Contains(out, want) {
				t.Errorf("%v: the proof does not say %q:\n%s", look, want, out)
			}
		}
		h.must(0, "judged as defined", with("prove", "--state", "defined")...)
		h.must(1, "judged as found", with("prove", "--state", "found", "--format", "text")...)
	}
	h.must(1, "judged as found", "audit", "--survey", "now.jsonl", "--estate", "none", "--fail-at", "high")
	h.must(2, "what is defined can't be judged without definitions", "audit", "--survey", "now.jsonl", "--estate",
		"none", "--state", "defined")
	h.must(2, "--estate none leaves the definitions out", "audit", "--estate", "none")

	// Put back, and opened again: each look is at the clouds as they are.
	h.must(0, "", "draft")
	h.must(0, "enacted", "enact")
	h.must(1, "STOPPED", flow...)
	h.must(0, "", "repeal")
	h.must(0, "PASSES", flow...)
}
