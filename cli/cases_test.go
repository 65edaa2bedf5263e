package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Small surveys on which the way of a flow is easily got wrong.
func TestWaysThatAreEasilyGotWrong(t *testing.T) {
	t.Parallel()
	for _, x := range []struct{ survey, flow, verdict, says string }{
		{"flat-network-peer", "a b tcp 22", "passes", "admit ssh from network"},
		{"public-ipv6-in-private", "client 2001:db8:1:1::4 tcp 22", "passes",
			"out and in again over the internet, seen as coming from 2001:db8:2:1::5"},
		{"private-line-to-public", "172.31.0.5 198.51.100.9 tcp 22", "no-route",
			"does not carry the public address 198.51.100.9"},
		{"private-line-to-public", "198.51.100.9 172.31.0.5 tcp 22", "no-route",
			"does not carry the public address 198.51.100.9"},
		{"private-line-to-public", "172.31.0.5 srv tcp 22", "passes", "in over the private line"},
		{"private-line-to-public", "192.0.2.1 198.51.100.9 tcp 22", "passes", "in from the internet"},
		{"icmpv6-by-name", "one two icmpv6 128/0", "passes", "fd20:0:2:1::6"},
		{"icmpv6-by-name", "one two icmp 8/0", "passes", "10.1.1.6"},
		{"balancer-loop", "cli one tcp 443", "no-route", "a balancer is not entered again"},
		{"balancer-last-target-a", "cli lb tcp 443", "stopped", "no rule admits https-alt"},
		{"balancer-last-target-b", "cli lb tcp 443", "stopped", "no rule admits https-alt"},
		{"cannot-by-public-address", "cli 198.51.100.6 tcp 22", "passes", "seen as coming from 198.51.100.5"},
		{"cannot-by-public-address", "cli srv tcp 22", "no-route", "it passes: ask for these addresses"},
		{"second-private-address", "10.1.1.55 srv tcp 22", "passes", "admit ssh from 10.1.1.55"},
		{"second-private-address", "cli srv tcp 22", "stopped", "no rule admits ssh"},
		{"own-ranges-first", "cli srv tcp 22", "no-route", "is in a range of t/m itself"},
		{"client-ports-of-a-stranger", "t/cli t/srv tcp 22", "passes", "the answers are let back"},
		{"second-interface", "192.0.2.1 two tcp 22", "no-route", "from 192.0.2.1 to 10.1.2.5 it passes"},
		{"second-interface", "192.0.2.1 10.1.2.5 tcp 22", "passes", "in from the internet"},
	} {
		args := append([]string{"trace", "--estate", "none", "--survey",
			filepath.Join("testdata", "deciding", x.survey+".jsonl"), "--format", "json"}, strings.Fields(x.flow)...)
		code, out, said := inProcess(t, "", args...)
		if !strings.HasPrefix(out, fmt.Sprintf("{\n \"state\": \"found\",\n \"verdict\": %q", x.verdict)) ||
			!strings.Contains(out, x.says) || (code == 0) != (x.verdict == "passes") {
			t.Errorf("%s: %s: exit %d %s%s\nwant %s: %s", x.survey, x.flow, code, said, out, x.verdict, x.says)
		}
	}
	// An instance reaches another by whichever addresses it has.
	code, out, _ := inProcess(t, "", "exposure", "--estate", "none", "--survey",
		filepath.Join("testdata", "deciding", "second-private-address.jsonl"), "--from", "cli")
	if code != 0 || !strings.Contains(out, "1 interface can be reached by cli") || !strings.Contains(out, "10.1.1.55") {
		t.Errorf("exposure: exit %d\n%s", code, out)
	}
}

// Surveys in which a mistake is easily missed, or seen where there is none.
func TestMistakesThatAreEasilyMissed(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob(filepath.Join("testdata", "auditing", "*.jsonl"))
	if err != nil || len(files) < 40 {
		t.Fatal(files, err)
	}
	var b strings.Builder
	told := func(name string, args ...string) {
		var result struct {
			Findings []struct {
				Severity, Check, Where, Message, Example, Since string
				Also                                            []string
				SinceMore                                       []string                 `json:"since_more"`
				Exempted                                        []struct{ Check string } `json:"also_exempted"`
			}
		}
		code, out, said := inProcess(t, "", append(append([]string{"audit"}, args...), "--format", "json")...)
		if err := json.Unmarshal([]byte(out), &result); err != nil {
			t.Fatal(name, err, said, out)
		}
		fmt.Fprintf(&b, "== %s: exit %d\n", name, code)
		for _, f := range result.Findings {
			also := ""
			if len(f.Also) > 0 {
				also = " (" + strings.Join(f.Also, ", ") + ")"
			}
			fmt.Fprintf(&b, "%s %s%s in %s: %s\n", f.Severity, f.Check, also, f.Where, f.Message)
			if f.Example != "" {
				fmt.Fprintf(&b, "    %s\n", f.Example)
			}
			if f.Since != "" {
				fmt.Fprintf(&b, "    %s %s\n", f.Since, strings.Join(f.SinceMore, "; "))
			}
			for _, x := range f.Exempted {
				fmt.Fprintf(&b, "    exempted: %s\n", x.Check)
			}
		}
	}
	for _, file := range files {
		told(strings.TrimSuffix(filepath.Base(file), ".jsonl"), "--survey", file, "--estate", "none")
	}
	for _, later := range []string{"since-a", "since-ssh-any", "since-ssh-rdp", "since-ssh-ssh", "since-subnet",
		"since-stage", "since-9"} {
		told(later+" since since-a", "--survey", filepath.Join("testdata", "auditing", later+".jsonl"), "--estate",
			"none",
			"--since", filepath.Join("testdata", "auditing", "since-a.json"), "--fail-at", "low")
	}
	exempt := filepath.Join("testdata", "auditing", "exempt")
	told("exempt", "--survey", filepath.Join(exempt, "s.jsonl"), "--estate", exempt)
	told("prod-instance-label over production", "--survey",
		filepath.Join("testdata", "auditing", "prod-instance-label.jsonl"), "--estate", "none", "--over",
		"stage = production")
	asGolden(t, "easily-missed.txt", b.String())
}

// Definitions that are easily misread, and what they become in their clouds or why they
// can't: on the survey beside them, where there is one.
func TestDefinitionsThatAreEasilyMisread(t *testing.T) {
	t.Parallel()
	var folders []string
	err := filepath.WalkDir(filepath.Join("testdata", "defining"), func(path string, x os.DirEntry, err error) error {
		if x.Name() == "a.nomos" {
			folders = append(folders, filepath.ToSlash(filepath.Dir(path)))
		}
		return err
	})
	if err != nil || len(folders) < 25 {
		t.Fatal(folders, err)
	}
	var b strings.Builder
	for _, folder := range folders {
		args := []string{"check", "--rules", folder}
		if _, err := os.Stat(filepath.Join(folder, "s.jsonl")); err == nil {
			args = []string{"check", "--rules", "--survey", folder + "/s.jsonl", folder}
		}
		code, out, said := inProcess(t, "", args...)
		fmt.Fprintf(&b, "== %s: exit %d\n%s%s", strings.TrimPrefix(folder, "testdata/defining/"), code, said, out)
	}
	code, out, said := inProcess(t, "", "adopt", "--all", "--estate", "none", "--survey",
		"testdata/defining/adopt-r20/s.jsonl")
	fmt.Fprintf(&b, "== adopt r20: exit %d\n%s%s", code, said, out)
	asGolden(t, "easily-misread.txt", b.String())
}

// Expectations and laws whose verdict is easily got wrong, each in a folder of its own.
func TestProofsThatAreEasilyGotWrong(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	for _, folder := range []string{"expectations", "deciding"} {
		files, err := filepath.Glob(filepath.Join("testdata", folder, "*.nomos"))
		if err != nil || len(files) < 3 {
			t.Fatal(files, err)
		}
		for _, file := range files {
			name := strings.TrimSuffix(filepath.Base(file), ".nomos")
			into := t.TempDir()
			for as, from := range map[string]string{"d.nomos": file,
				"s.jsonl": strings.TrimSuffix(file, ".nomos") + ".jsonl"} {
				text, err := os.ReadFile(from)
				if err != nil {
					t.Fatal(err)
				}
				if err := os.WriteFile(filepath.Join(into, as), text, 0o600); err != nil {
					t.Fatal(err)
				}
			}
			r := call(t, into, "prove", "--survey", "s.jsonl")
			fmt.Fprintf(&b, "== %s: exit %d\n%s%s\n", name, r.code, r.err, r.out)
		}
	}
	asGolden(t, "easily-wrong.txt", b.String())
}
