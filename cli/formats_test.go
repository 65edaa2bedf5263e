package cli_test

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"
)

// Every command that looks at the demo estate writes every one of its formats in every
// state, and shows every finding whole.
func TestEveryFormatOfEveryCommand(t *testing.T) {
	folder := harbour(t)
	on := func(args ...string) []string {
		return append(args, "--estate", folder, "--survey", filepath.Join(folder, "survey.jsonl"))
	}
	ask := func(args ...string) string {
		t.Helper()
		code, out, said := inProcess(t, "192.0.2.77 gauge-3 tcp 22\n", args...)
		if code > 1 || out == "" {
			t.Errorf("%v: exit %d, %d bytes\n%s", args, code, len(out), said)
		}
		return out
	}
	for _, state := range [][]string{nil, {"--state", "found"}, {"--state", "defined"}, {"--state", "both"}} {
		both := len(state) > 0 && state[1] == "both"
		with := func(args ...string) []string { return append(on(args...), state...) }
		for _, format := range []string{"text", "json", "sarif", "junit", "csv", "md"} {
			ask(with("audit", "--format", format)...)
			ask(with("audit", "--format", format, "--flows", filepath.Join(folder, "flows.csv"), "--severity", "low")...)
		}
		for _, by := range []string{"account", "folder", "cloud", "check", "control", "group"} {
			for _, format := range []string{"text", "json", "csv"} {
				ask(with("audit", "--by", by, "--format", format)...)
			}
		}
		var document struct {
			Findings []struct{ Fingerprint, State string }
		}
		if err := json.Unmarshal([]byte(ask(with("audit", "--format", "json")...)), &document); err != nil || len(document.Findings) < 20 {
			t.Fatal(err, len(document.Findings))
		}
		for _, f := range document.Findings {
			if f.State == "" || len(state) > 0 && !both && f.State != state[1] {
				t.Errorf("%v: a finding holds in %q", state, f.State)
			}
			if out := ask(with("audit", "--why", f.Fingerprint)...); !strings.Contains(out, "starts at") {
				t.Errorf("--why %s: %s", f.Fingerprint, out)
			}
			ask(with("audit", "--why", f.Fingerprint, "--format", "json")...)
		}
		for _, format := range []string{"text", "json"} {
			ask(with("prove", "--format", format)...)
			if !both {
				ask(with("exposure", "--format", format)...)
				ask(with("exposure", "--format", format, "--direction", "out", "--from", "ledger-1")...)
				ask(with("trace", "--format", format, "192.0.2.77", "gauge-3", "ssh")...)
			}
		}
		if !both {
			ask(with("exposure", "--matrix")...)
			ask(with("trace", "--batch", "-")...)
		}
	}
	for _, format := range []string{"text", "json", "md"} {
		ask(on("narrow", "--all", "--flows", filepath.Join(folder, "flows.csv"), "--format", format)...)
		ask("compare", "--format", format, filepath.Join(folder, "survey.jsonl"), folder)
	}
	for _, format := range []string{"text", "json"} {
		ask(on("narrow", "--across", "--format", format)...)
		ask(on("check", "--format", format)...)
	}
	for _, format := range []string{"sarif", "junit"} {
		ask(on("check", "--format", format)...)
		ask(on("prove", "--format", format)...)
	}
	ask(on("check", "--rules")...)
	ask(on("adopt", "--all")...)
}
