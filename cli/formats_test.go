package cli_test

import (
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// Every command that looks at the demo estate writes every one of its formats in every
// state, and shows every finding whole.
func TestEveryFormatOfEveryCommand(t *testing.T) {
	t.Parallel()
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
			ask(with("audit", "--format", format, "--flows", filepath.Join(folder, "flows.csv"), "--severity",
				"low")...)
		}
		for _, by := range []string{"account", "folder", "cloud", "check", "control", "group"} {
			for _, format := range []string{"text", "json", "csv"} {
				ask(with("audit", "--by", by, "--format", format)...)
			}
		}
		var document struct {
			Findings []struct{ Fingerprint, State string }
		}
		if err := json.Unmarshal([]byte(ask(with("audit", "--format", "json")...)), &document); err != nil ||
			len(document.Findings) < 20 {
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

// toldOf is what a format tells of one finding: check, place, severity, what else it trips,
// whether it is exempted or new. An exempted one's severity is not told everywhere.
func toldOf(check, where, severity, also string, exempted, isNew bool) string {
	if exempted {
		severity = "exempted"
	}
	return fmt.Sprintf("%s in %s, %s (%s) new: %v", check, where, severity, also, isNew)
}

// All formats of an audit agree in what is found, how bad it is, what is exempted and what
// is new since an earlier one.
func TestFormatsAgree(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	edit(t, filepath.Join(folder, "lab.nomos"), "group rig",
		"exempt lab/bench/rig from unexplained because \"x\" until 2027-01-31 by \"m\"\ngroup rig")
	var earlier map[string]any
	if err := json.Unmarshal([]byte(call(t, folder, "audit", "--survey", "survey.jsonl", "--format", "json").out),
		&earlier); err != nil {
		t.Fatal(err)
	}
	found := earlier["findings"].([]any)
	earlier["findings"] = slices.DeleteFunc(found, func(x any) bool {
		return strings.HasPrefix(x.(map[string]any)["fingerprint"].(string), "0") ||
			len(x.(map[string]any)["also"].([]any)) == 2
	})
	text, err := json.Marshal(earlier)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "earlier.json"), text, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, more := range [][]string{nil, {"--since", "earlier.json"}, {"--state", "found", "--fail-at", "critical"},
		{"--estate", "none"}} {
		in := func(format string) string {
			return call(t, folder, append(
				[]string{"audit", "--survey", "survey.jsonl", "--limit", "0", "--format", format}, more...)...).out
		}
		all := map[string][]string{}
		tell := func(format, told string) { all[format] = append(all[format], told) }

		var j struct {
			Findings []struct {
				Check, Where, Severity, Since string
				Also                          []string
				Partly                        []struct{ Check string } `json:"also_exempted"`
				Exemption                     any
			}
		}
		if err := json.Unmarshal([]byte(in("json")), &j); err != nil {
			t.Fatal(err)
		}
		for _, f := range j.Findings {
			for k, check := range f.Also {
				if slices.ContainsFunc(f.Partly, func(x struct{ Check string }) bool { return x.Check == check }) {
					f.Also[k] += " (exempted)"
				}
			}
			tell("json", toldOf(f.Check, f.Where, f.Severity, strings.Join(f.Also, ", "), f.Exemption != nil,
				f.Since == "new"))
		}

		rows, err := csv.NewReader(strings.NewReader(in("csv"))).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		for _, row := range rows[1:] {
			of := func(name string) string { return row[slices.Index(rows[0], name)] }
			tell("csv", toldOf(of("check"), of("where"), of("severity"), of("also"), of("exempted_by") != "",
				of("since") == "new"))
		}

		var s struct {
			Runs []struct {
				Results []struct {
					RuleID        string
					BaselineState string
					Suppressions  []any
					Properties    struct {
						Severity string
						Also     []string
						Exempted []string `json:"alsoExempted"`
					}
					Locations []struct {
						LogicalLocations []struct{ FullyQualifiedName string }
					}
				}
			}
		}
		if err := json.Unmarshal([]byte(in("sarif")), &s); err != nil {
			t.Fatal(err)
		}
		for _, r := range s.Runs[0].Results {
			also := slices.Clone(r.Properties.Also)
			for _, x := range r.Properties.Exempted {
				also = append(also, x+" (exempted)")
			}
			tell("sarif", toldOf(r.RuleID, r.Locations[0].LogicalLocations[0].FullyQualifiedName,
				r.Properties.Severity, strings.Join(also, ", "), len(r.Suppressions) > 0, r.BaselineState == "new"))
		}

		var x struct {
			Suites []struct {
				Name  string `xml:"name,attr"`
				Cases []struct {
					Class   string    `xml:"classname,attr"`
					Name    string    `xml:"name,attr"`
					Skipped *struct{} `xml:"skipped"`
					Failure *struct {
						Type string `xml:"type,attr"`
						Text string `xml:",chardata"`
					} `xml:"failure"`
					Output string `xml:"system-out"`
				} `xml:"testcase"`
			} `xml:"testsuite"`
		}
		if err := xml.Unmarshal([]byte(in("junit")), &x); err != nil {
			t.Fatal(err)
		}
		joined := map[string]string{}
		for _, suite := range x.Suites {
			for _, c := range suite.Cases {
				where, _, finding := strings.Cut(c.Name, ": ")
				switch {
				case c.Name == "told with other checks, which count":
					joined[suite.Name] = c.Output
				case finding && c.Skipped != nil:
					tell("junit", toldOf(c.Class, where, "", "", true, false))
				case finding && c.Failure != nil:
					tell("junit", toldOf(c.Class, where, c.Failure.Type, "", false,
						strings.Contains(c.Failure.Text, "since then new")))
				case finding:
					severity, _, _ := strings.Cut(c.Output, ":")
					tell("junit", toldOf(c.Class, where, severity, "", false,
						strings.Contains(c.Output, "since then new")))
				case c.Name != "nothing found":
					t.Errorf("a case that is no finding: %+v", c)
				}
			}
		}
		for _, f := range j.Findings {
			for _, check := range f.Also {
				if !strings.HasSuffix(check, " (exempted)") && f.Exemption == nil &&
					!strings.Contains(joined[check], f.Where+": with "+f.Check) {
					t.Errorf("the suite of %s says nothing of %s in %s", check, f.Check, f.Where)
				}
			}
		}

		for _, m := range regexp.MustCompile(
			`<summary><b>(\w+)(, \w+)?</b> (\S+) in (\S+)</summary>`).FindAllStringSubmatch(in("md"), -1) {
			tell("md", toldOf(m[3], m[4], m[1], "", m[1] == "exempted", m[2] == ", new"))
		}
		for _, m := range regexp.MustCompile(
			`(?m)^(CRITICAL|HIGH|\w+) +(\S+)(?: \+\d+)? +(\S+)  [0-9a-f]{8}(  \w+)?`).FindAllStringSubmatch(
			in("text"), -1) {
			tell("text", toldOf(m[2], m[3], strings.ToLower(m[1]), "", m[1] == "exempted", m[4] == "  new"))
		}

		also := regexp.MustCompile(`\(.*\) new`)
		for format, told := range all {
			want := slices.Clone(all["json"])
			if format == "junit" || format == "md" || format == "text" { // there they stand in lines of their own
				for i := range want {
					want[i] = also.ReplaceAllString(want[i], "() new")
				}
			}
			if format == "junit" { // in the order of the checks; of what is exempted nothing is new
				for _, list := range [][]string{want, told} {
					for i, x := range list {
						if strings.Contains(x, ", exempted (") {
							list[i], _, _ = strings.Cut(x, " new:")
						}
					}
				}
			}
			slices.Sort(want)
			slices.Sort(told)
			if !slices.Equal(told, want) {
				t.Errorf("%v: %s and json differ: %d and %d findings", more, format, len(told), len(want))
				for _, list := range [][2][]string{{told, want}, {want, told}} {
					for _, x := range list[0] {
						if !slices.Contains(list[1], x) {
							t.Log(x)
						}
					}
				}
			}
		}
		if len(all) != 6 {
			t.Errorf("%d formats", len(all))
		}
	}
}
