package cli_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// audited are the findings of an audit that the program writes as JSON.
type audited struct {
	Findings []struct {
		Check, Fingerprint, Where, Since, File, Severity string
		Also, Rules                                      []string
		Narrow                                           bool
		Fix                                              string `json:"fix"`
	}
	Gone []struct{ Check, Where string }
	Idle []struct{ By string } `json:"idle_exemptions"`
}

func auditJSON(t *testing.T, folder string, args ...string) (audited, run) {
	t.Helper()
	r := call(t, folder, append([]string{"audit", "--format", "json"}, args...)...)
	var a audited
	if err := json.Unmarshal([]byte(r.out), &a); err != nil {
		t.Fatalf("%v: %v\n%s%s", args, err, r.out, r.err)
	}
	return a, r
}

func edit(t *testing.T, file, old, replacement string) {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(text), old) {
		t.Fatalf("%s does not hold %q", file, old)
	}
	if err := os.WriteFile(file, []byte(strings.Replace(string(text), old, replacement, 1)), 0o644); err != nil {
		t.Fatal(err)
	}
}

// SARIF is as its schema wants it; what is defined has file and line, what is only
// surveyed has a name; a fix that it holds does away with its finding.
func TestSARIF(t *testing.T) {
	t.Parallel()
	compiled, err := jsonschema.NewCompiler().Compile(filepath.Join("..", "render", "testdata", "sarif-2.1.0.json"))
	if err != nil {
		t.Fatal(err)
	}
	folder := harbour(t)
	edit(t, filepath.Join(folder, "tides.nomos"),
		`  reach berth-db at self because "standby"`, `  admit berth-db from 10.20.3.0/24 because "all of the subnet"
  admit berth-db from 10.20.3.8/29 because "one too many"
  reach berth-db at self because "standby"`)
	_, before := auditJSON(t, folder, "--check", "overruled")
	if err := os.WriteFile(filepath.Join(folder, "before.json"), []byte(before.out), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"--survey", "survey.jsonl"}, {"--survey", "survey.jsonl", "--state", "found"},
		{"--survey", "survey.jsonl", "--state", "defined"}, {}, {"--since", "before.json", "--check", "overruled"},
		{"--check", "twins"}} {
		r := call(t, folder, append([]string{"audit", "--format", "sarif"}, args...)...)
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(r.out))
		if err != nil {
			t.Fatalf("%v: %v %s", args, err, r.err)
		}
		if err := compiled.Validate(value); err != nil {
			t.Errorf("%v: %v", args, err)
		}
	}
	var document struct {
		Runs []struct {
			Results []struct {
				RuleID    string
				Locations []struct {
					PhysicalLocation *struct{ Region struct{ StartLine int } }
					LogicalLocations []struct{ FullyQualifiedName string }
				}
				Suppressions []struct{ Justification string }
				Fixes        []struct {
					ArtifactChanges []struct {
						ArtifactLocation struct{ URI string }
						Replacements     []struct {
							DeletedRegion struct{ ByteOffset, ByteLength int }
						}
					}
				}
			}
		}
	}
	r := call(t, folder, "audit", "--format", "sarif", "--survey", "survey.jsonl")
	if err := json.Unmarshal([]byte(r.out), &document); err != nil {
		t.Fatal(err)
	}
	fixed, placed, named, suppressed := 0, 0, 0, 0
	for _, x := range document.Runs[0].Results {
		suppressed += len(x.Suppressions)
		if named++; len(x.Locations) != 1 || x.Locations[0].LogicalLocations[0].FullyQualifiedName == "" {
			t.Errorf("%s has no place", x.RuleID)
		}
		if p := x.Locations[0].PhysicalLocation; p != nil {
			if placed++; p.Region.StartLine < 1 {
				t.Errorf("%s is on no line", x.RuleID)
			}
		}
		for _, f := range x.Fixes {
			c := f.ArtifactChanges[0]
			file := filepath.Join(folder, c.ArtifactLocation.URI)
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			at := c.Replacements[0].DeletedRegion
			if cut := string(text[at.ByteOffset : at.ByteOffset+at.ByteLength]); !strings.Contains(cut,
				"one too many") || strings.Count(cut, "\n") != 1 {
				t.Errorf("the fix deletes %q", cut)
			}
			if err := os.WriteFile(file, slices.Concat(text[:at.ByteOffset], text[at.ByteOffset+at.ByteLength:]),
				0o644); err != nil {
				t.Fatal(err)
			}
			fixed++
		}
	}
	if fixed != 1 || placed == 0 || placed != named || suppressed != 1 {
		t.Errorf("%d fixes, %d of %d with a line, %d suppressed", fixed, placed, named, suppressed)
	}
	if a, _ := auditJSON(t, folder, "--check", "overruled"); len(a.Findings) > 0 {
		t.Errorf("after the fix it still finds %+v", a.Findings)
	}
}

// A name that would do harm does none, whatever the format.
func TestHostileNames(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	names := []string{"=1+1|calc", "<script>alert(1)</script>", "\x1b]0;owned\x07\x1b[31mred", "a\nb\r\nc\td",
		"]]>--><!--", "`rm -rf`|x|", "@everyone www.example.test", "\u202egnp.exe", strings.Repeat("long", 3000),
		"\x00\x01\x7f\u0085", "-2+3", "{{.}}%s%n"}
	var b bytes.Buffer
	b.WriteString(`{"kind":"survey","version":1,"estate":"x"}` + "\n")
	put := func(v map[string]any) {
		text, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		b.Write(append(text, '\n'))
	}
	put(map[string]any{"kind": "cloud", "name": names[0], "dialect": "union"})
	for i, name := range names {
		put(map[string]any{"kind": "account", "name": name, "cloud": names[0], "folder": name + "/" + name,
			"labels": map[string]string{"stage": "production", name: name}})
		put(map[string]any{"kind": "network", "account": name, "id": "n", "name": name,
			"ranges": []string{"10.0.0.0/16"}})
		put(map[string]any{"kind": "subnet", "account": name, "network": "n", "id": "s", "name": name,
			"ranges": []string{"10.0.1.0/24"}, "routes": []map[string]string{{"to": "0.0.0.0/0", "via": "internet"}}})
		put(map[string]any{"kind": "group", "account": name, "network": "n", "id": "g", "name": name,
			"description": name})
		put(map[string]any{"kind": "rule", "account": name, "group": "g", "id": name, "direction": "in",
			"peers": []string{"0.0.0.0/0"}, "services": []string{"tcp 22"}, "description": name})
		put(map[string]any{"kind": "rule", "account": name, "group": "g", "id": name + "2", "direction": "in",
			"peers": []string{"group:" + name}, "services": []string{"tcp 443"}, "description": name})
		put(map[string]any{"kind": "instance", "account": name, "id": "i", "name": name,
			"interfaces": []map[string]any{{"id": "f", "subnet": "s", "private": []string{"10.0.1.1"},
				"public": []string{"198.51.100." + string(rune('1'+i%9))}, "groups": []string{"g"}}}})
		put(map[string]any{"kind": "list", "account": name, "id": "l", "name": name,
			"entries": []string{"203.0.113.0/28"}})
	}
	if err := os.WriteFile(filepath.Join(folder, "s.jsonl"), b.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, format := range []string{"text", "json", "sarif", "junit", "csv", "md"} {
		r := call(t, folder, "audit", "--survey", "s.jsonl", "--limit", "0", "--format", format)
		if r.code != 1 || r.out == "" {
			t.Fatalf("%s: exit %d, %s", format, r.code, r.err)
		}
		for _, c := range r.out + r.err {
			if unicode.IsControl(c) && c != '\n' || c == '\u202e' && format != "json" {
				t.Errorf("%s holds %U", format, c)
				break
			}
		}
		switch format {
		case "json", "sarif":
			if !json.Valid([]byte(r.out)) {
				t.Errorf("%s is no JSON", format)
			}
		case "junit":
			for d := xml.NewDecoder(strings.NewReader(r.out)); ; {
				if _, err := d.Token(); errors.Is(err, io.EOF) {
					break
				} else if err != nil {
					t.Fatalf("junit: %v", err)
				}
			}
		case "csv":
			rows, err := csv.NewReader(strings.NewReader(r.out)).ReadAll()
			if err != nil || len(rows) < len(names) {
				t.Fatalf("csv: %v, %d rows", err, len(rows))
			}
			for _, field := range slices.Concat(rows...) {
				if field != "" && strings.ContainsAny(field[:1], "=+-@") {
					t.Errorf("csv: a program would take %q for a formula", field[:min(20, len(field))])
				}
			}
		case "md":
			if strings.Contains(r.out, "<script") || strings.Contains(r.out, "@everyone") ||
				strings.Contains(r.out, "www.example") || len(r.out) > 65000 {
				t.Errorf("markdown is not harmless (%d bytes)", len(r.out))
			}
		}
	}
	for _, by := range []string{"folder", "account", "group"} {
		for line := range strings.Lines(call(t, folder, "audit", "--survey", "s.jsonl", "--by", by).out) {
			if len([]rune(line)) > 141 {
				t.Errorf("--by %s writes a line of %d characters", by, len([]rune(line)))
			}
		}
	}
}

// What is new, gone and still there since an earlier audit; only what is new fails.
func TestSince(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	_, before := auditJSON(t, folder, "--survey", "survey.jsonl", "--state", "defined")
	if err := os.WriteFile(filepath.Join(folder, "before.json"), []byte(before.out), 0o644); err != nil {
		t.Fatal(err)
	}
	since := []string{"--survey", "survey.jsonl", "--state", "defined", "--since", "before.json"}
	if a, r := auditJSON(t, folder, since...); r.code != 0 || len(a.Gone) > 0 ||
		slices.ContainsFunc(a.Findings, func(f struct {
			Check, Fingerprint, Where, Since, File, Severity string
			Also, Rules                                      []string
			Narrow                                           bool
			Fix                                              string `json:"fix"`
		}) bool {
			return f.Since != "same"
		}) {
		t.Errorf("nothing has changed: exit %d, %d gone", r.code, len(a.Gone))
	}
	// Lines move, one rule is put right, another is added.
	edit(t, filepath.Join(folder, "tides.nomos"), "# Tide gauges", "# One line more.\n# Tide gauges")
	edit(t, filepath.Join(folder, "traffic.nomos"), "tcp 22-80", "ssh, http")
	edit(t, filepath.Join(folder, "traffic.nomos"),
		`  reach amqps at self because`, `  admit rdp from everyone because "home working"
  reach amqps at self because`)
	a, r := auditJSON(t, folder, since...)
	var fresh []string
	for _, f := range a.Findings {
		if f.Since == "new" {
			fresh = append(fresh, f.Check+" "+f.Where)
		}
	}
	if r.code != 1 || len(a.Gone) != 1 || a.Gone[0].Check != "wide-ports" ||
		!slices.Equal(fresh, []string{"open-admin-port traffic/roads/broker"}) {
		t.Errorf("exit %d, gone %+v, new %v", r.code, a.Gone, fresh)
	}
	text := call(t, folder, append([]string{"audit", "--limit", "3"}, since...)...)
	for _, want := range []string{"  new ", "gone      wide-ports (medium) in traffic/roads/broker",
		"since then 1 new, 0 worse, 0 better, 1 gone", "--limit 0"} {
		if !strings.Contains(text.out, want) {
			t.Errorf("the text does not say %q:\n%s", want, text.out)
		}
	}
}

// A packed survey is read as it is; one that is cut off or damaged says so, with the place.
func TestPackedSurveys(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	text, err := os.ReadFile(filepath.Join(folder, "survey.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	pack := func(format string) []byte {
		var b bytes.Buffer
		var w io.WriteCloser = gzip.NewWriter(&b)
		if format == "zst" {
			if w, err = zstd.NewWriter(&b); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := w.Write(text); err != nil {
			t.Fatal(err)
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		return b.Bytes()
	}
	plain := call(t, folder, "audit", "--survey", "survey.jsonl", "--by", "check")
	for _, format := range []string{"gz", "zst"} {
		whole := pack(format)
		damaged := slices.Clone(whole)
		for i := len(damaged) / 2; i < len(damaged)/2+40; i++ {
			damaged[i] ^= 0x5a
		}
		for _, x := range []struct {
			name, want string
			data       []byte
		}{{"whole", "", whole}, {"cut", "cut off", whole[:len(whole)*2/3]}, {"damaged", "damaged", damaged}} {
			name := x.name + ".jsonl." + format
			if err := os.WriteFile(filepath.Join(folder, name), x.data, 0o644); err != nil {
				t.Fatal(err)
			}
			r := call(t, folder, "audit", "--survey", name, "--by", "check")
			if x.want == "" {
				if r.out != plain.out || r.code != plain.code {
					t.Errorf("%s: exit %d, other totals:\n%s%s", name, r.code, r.out, r.err)
				}
				continue
			}
			if r.code != 2 || r.out != "" || !strings.HasPrefix(r.err, "isonomos: "+name+":") ||
				!strings.Contains(r.err, x.want) && !strings.Contains(r.err, "JSON") {
				t.Errorf("%s: exit %d, %s", name, r.code, r.err)
			}
		}
	}
}

// Wrong use of audit ends with one line that says what is wrong and what to do.
func TestAuditUsedWrongly(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	if err := os.WriteFile(filepath.Join(folder, "odd.json"), []byte(`{"version":1}`), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct {
		code int
		want string
		args []string
	}{
		{2, `there is no check "open-admin": "open-admin-port" is near`, []string{"--check", "open-admin"}},
		{2, `there is no check "law:shut-admn": "law:shut-admin" is near`, []string{"--check", "law:shut-admn"}},
		{2, "no service is called \"postgress\"", []string{"--service", "postgress"}},
		{2, "no service of the class \"secret\"", []string{"--service", "class secret"}},
		{2, "--over:1:", []string{"--over", "stage ="}},
		{2, "--severity", []string{"--severity", "grave"}},
		{2, "--direction", []string{"--direction", "up"}},
		{2, "--by counts as text, json or csv, not as sarif", []string{"--by", "account", "--format", "sarif"}},
		{2, "it can't be negative", []string{"--limit", "-1"}},
		{2, "isonomos audit shows the fingerprints", []string{"--why", "zzzz"}},
		{2, "give more of the fingerprint", []string{"--why", ""}[:1:1]},
		{2, "odd.json: it is not what isonomos audit --format json writes", []string{"--since", "odd.json"}},
		{2, "tides.nomos: it is not the JSON", []string{"--since", "tides.nomos"}},
		{3, "there is no file gone.json", []string{"--since", "gone.json"}},
		{2, "takes no argument", []string{"tides"}},
	} {
		if len(x.args) == 1 && x.args[0] == "--why" {
			x.args = []string{"--why", sharedBeginning(t, folder)}
		}
		r := call(t, folder, append([]string{"audit"}, x.args...)...)
		if r.code != x.code || r.out != "" || !strings.Contains(r.err, x.want) {
			t.Errorf("%v: exit %d, want %d with %q\n%s%s", x.args, r.code, x.code, x.want, r.out, r.err)
		}
	}
}

// The scope flags, on the demo estate.
func TestAuditScope(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	for _, x := range []struct {
		want int // findings
		args []string
	}{
		{1, []string{"--service", "berth-db", "--severity", "high", "--over", "account = tides", "--state", "defined"}},
		{2, []string{"--service", "berth-db", "--severity", "high", "--over", "account = tides"}},
		{2, []string{"--service", "class data", "--severity", "high", "--check", "open-data-port"}},
		{0, []string{"--service", "tcp 9", "--direction", "in", "--over", "account = tides", "--severity", "critical"}},
		{2, []string{"--direction", "out", "--over", "folder = harbour/lab"}},
		{2, []string{"--check", "law:shut-admin"}},
		{1, []string{"--over", "account = pilots", "--check", "ineffective-refusal"}},
	} {
		a, _ := auditJSON(t, folder, append([]string{"--survey", "survey.jsonl"}, x.args...)...)
		n := 0
		for _, f := range a.Findings {
			if !strings.Contains(f.Where, "gauge-maintenance") { // exempted
				n++
			}
		}
		if n != x.want {
			t.Errorf("%v: %d findings, want %d: %+v", x.args, n, x.want, a.Findings)
		}
	}
}

// Generated estates: the files fit together, all that is planted is found, the
// same seed makes the same files, and nothing is written over.
func TestSandboxGenerate(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	generate := func(into, pack string) run {
		return call(t, folder, "sandbox", "generate", "--accounts", "12", "--groups", "600", "--rules", "6000",
			"--seed", "3", "--pack", pack, into)
	}
	if r := generate("one", "zstd"); r.code != 0 || !strings.Contains(r.err, "mistakes are planted") {
		t.Fatal(r)
	}
	for _, pack := range []string{"bare", "gzip"} {
		if r := generate(pack, map[string]string{"bare": "none", "gzip": "gzip"}[pack]); r.code != 0 {
			t.Fatal(r)
		}
	}
	a, _ := auditJSON(t, folder, "--estate", "one", "--survey", "one/survey.jsonl.zst")
	if b, _ := auditJSON(t, folder, "--estate", "bare", "--survey",
		"bare/survey.jsonl"); len(a.Findings) != len(b.Findings) ||
		a.Findings[0].Fingerprint != b.Findings[0].Fingerprint {
		t.Error("the same seed makes other estates")
	}
	planted, err := os.ReadFile(filepath.Join(folder, "one", "planted.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	places := make(map[string]bool)
	n := 0
	for line := range strings.Lines(string(planted)) {
		var p struct{ Check, Group, Rule string }
		if err := json.Unmarshal([]byte(line), &p); err != nil {
			t.Fatal(err)
		}
		n++
		places[p.Group] = true
		found := false
		for _, f := range a.Findings {
			found = found || (f.Check == p.Check || slices.Contains(f.Also, p.Check)) &&
				(p.Group == "" || f.Where == p.Group) &&
				(p.Rule == "" || len(f.Rules) == 0 || slices.Contains(f.Rules, p.Rule))
		}
		if !found {
			t.Errorf("not found: %s", line)
		}
	}
	for _, f := range a.Findings {
		// those are at subnets
		if (f.Severity == "high" || f.Severity == "critical") && !places[f.Where] && f.Check != "unfiltered" {
			t.Errorf("nobody planted %s in %s", f.Check, f.Where)
		}
	}
	if n < 20 {
		t.Errorf("%d mistakes are planted", n)
	}
	for _, x := range []struct {
		want string
		args []string
	}{
		{"holds something already", []string{"one"}},
		{"needs one new folder", nil},
		{"has one account at least", []string{"--accounts", "0", "two"}},
		{"has one account at least", []string{"--rules", "99000000", "two"}},
		{"--rules", []string{"--rules", "many", "two"}},
		{"--pack", []string{"--pack", "rar", "two"}},
	} {
		if r := call(t, folder, append([]string{"sandbox", "generate"}, x.args...)...); r.code != 2 ||
			!strings.Contains(r.err, x.want) {
			t.Errorf("%v: exit %d, %s", x.args, r.code, r.err)
		}
	}
	if r := call(t, folder, "sandbox", "walk"); r.code != 2 ||
		!strings.Contains(r.err, "it can run, fault, open and generate") {
		t.Errorf("%+v", r)
	}
}

// A survey comes over standard input, packed or not; a reader that goes away early
// ends the program quietly; a folder or a file without permission is told.
func TestSurveyFromElsewhere(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	text, err := os.ReadFile(filepath.Join(folder, "survey.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	if _, err := z.Write(text); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	want := call(t, folder, "audit", "--survey", "survey.jsonl", "--by", "check")
	for _, in := range []string{string(text), packed.String()} {
		if r := callWith(t, folder, in, "audit", "--survey", "-", "--by", "check"); r.out != want.out ||
			r.code != want.code {
			t.Errorf("standard input: exit %d, %s", r.code, r.err)
		}
	}
	if r := callWith(t, folder, "", "audit", "--survey", "-"); r.code != 2 ||
		!strings.Contains(r.err, "standard input is empty") {
		t.Errorf("empty: exit %d, %s", r.code, r.err)
	}
	if r := callWith(t, folder, packed.String()[:packed.Len()/2], "audit", "--survey", "-"); r.code != 2 ||
		!strings.Contains(r.err, "standard input:") || !strings.Contains(r.err, "cut off") {
		t.Errorf("cut off: exit %d, %s", r.code, r.err)
	}
	if r := call(t, folder, "audit", "--survey", "."); r.code != 2 || !strings.Contains(r.err, "is a folder") {
		t.Errorf("a folder: exit %d, %s", r.code, r.err)
	}
	if r := call(t, folder, "audit", "--flows", "gone.csv"); r.code != 3 ||
		!strings.Contains(r.err, "there is no file gone.csv") {
		t.Errorf("no flows: exit %d, %s", r.code, r.err)
	}
	for _, format := range []string{"text", "json", "sarif", "csv", "md", "junit"} {
		c := exec.Command("sh", "-c",
			program+" audit --survey survey.jsonl --limit 0 --format "+format+" | head -c 10 >/dev/null")
		c.Dir = folder
		if out, err := c.CombinedOutput(); err != nil || len(out) > 0 {
			t.Errorf("%s into a closed pipe: %v, %s", format, err, out)
		}
	}
}

// On a terminal the text fits the window; what is not text does not change with it.
func TestAuditWithoutASurvey(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	a, r := auditJSON(t, folder)
	if r.code != 1 {
		t.Errorf("exit %d", r.code)
	}
	for _, f := range a.Findings {
		if f.Check == "unused" || f.Check == "probe-shut" || f.Check == "unfiltered" || f.Check == "idle" ||
			f.Check == "by-hand" {
			t.Errorf("definitions alone can't show %s in %s", f.Check, f.Where)
		}
	}
	var narrow []string
	for _, f := range a.Findings {
		if f.Narrow {
			narrow = append(narrow, f.Where)
		}
	}
	slices.Sort(narrow)
	for _, group := range slices.Compact(narrow) { // the way out that is offered is one
		if r := call(t, folder, "narrow", group, "--survey", "survey.jsonl", "--flows", "flows.csv"); r.code != 0 {
			t.Errorf("narrow %s: exit %d, %s", group, r.code, r.err)
		}
	}
}

// Every check is explained with its example, its way out and its controls, and the
// help of audit names it.
func TestChecksAreExplained(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	help := call(t, folder, "audit", "--help").out
	page, err := os.ReadFile(filepath.Join("..", "docs", "checks.md"))
	if err != nil {
		t.Fatal(err)
	}
	checks := 0
	for line := range strings.Lines(string(page)) {
		name, ok := strings.CutPrefix(strings.TrimSpace(line), "## ")
		if !ok {
			continue
		}
		checks++
		r := call(t, folder, "explain", name)
		for _, want := range []string{name + "  check", "starts at", "example   ", "fix       ", "Controls:"} {
			if r.code != 0 || !strings.Contains(r.out, want) {
				t.Errorf("explain %s does not say %q: exit %d\n%s%s", name, want, r.code, r.out, r.err)
			}
		}
		if !strings.Contains(help, "  "+name+" ") {
			t.Errorf("the help of audit does not name %s", name)
		}
	}
	if checks < 30 {
		t.Errorf("only %d checks", checks)
	}
}

// An exemption from a check that there is none of, and one that has ended, are told
// when definitions are read; the finding of the ended one says so.
func TestExemptionsOfChecks(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	edit(t, filepath.Join(folder, "harbour.nomos"),
		"exempt tides/quay/gauge-maintenance from shut-admin on ssh", `exempt tides/quay/tide-desk from open-admn-port on rdp because "x" until 2027-01-31 by "m.teal"
exempt tides/quay/gauge-maintenance from shut-admin on ssh`)
	if r := call(t, folder, "check"); r.code != 2 ||
		!strings.Contains(r.err, `no law or check is called "open-admn-port"`) ||
		!strings.Contains(r.err, `"open-admin-port" is near`) {
		t.Errorf("exit %d, %s", r.code, r.err)
	}
	edit(t, filepath.Join(folder, "harbour.nomos"), `from open-admn-port on rdp because "x" until 2027-01-31`,
		`from open-admin-port on rdp because "x" until 2026-01-31`)
	r := call(t, folder, "audit", "--survey", "survey.jsonl", "--check", "open-admin-port", "--over", "account = tides")
	for _, want := range []string{"exemption   by m.teal ended on 2026-01-31",
		"exempted    until 2027-01-31 by m.teal: vendor's visit", "1 finding: 1 critical; 1 exempted"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("the audit does not say %q:\n%s", want, r.out)
		}
	}
	if !strings.Contains(r.err, "the exemption has ended and no longer counts") {
		t.Errorf("said on standard error: %s", r.err)
	}
	edit(t, filepath.Join(folder, "harbour.nomos"), "until 2026-01-31", "until 2027-03-31")
	// What has the same cause stays, until it is exempted too.
	r = call(t, folder, "audit", "--survey", "survey.jsonl", "--check", "open-admin-port", "--over", "account = tides")
	if head, _, _ := strings.Cut(r.out, "\n"); r.code != 1 || !strings.Contains(head, "law:shut-admin +1") ||
		!strings.Contains(r.out, "exempted    open-admin-port until 2027-03-31 by m.teal: x") {
		t.Errorf("exit %d:\n%s", r.code, r.out)
	}
	edit(t, filepath.Join(folder, "harbour.nomos"),
		"exempt tides/quay/tide-desk from", `exempt tides/quay/tide-desk from shut-admin on rdp because "x" until 2027-03-31 by "m.teal"
exempt tides/quay/tide-desk from halves because "x" until 2027-03-31 by "m.teal"
exempt tides/quay/tide-desk from`)
	r = call(t, folder, "audit", "--survey", "survey.jsonl", "--check", "open-admin-port", "--over",
		"account = tides", "--fail-at", "info")
	if r.code != 0 || !strings.Contains(r.out, "nothing found; 2 exempted") {
		t.Errorf("exit %d:\n%s", r.code, r.out)
	}
	edit(t, filepath.Join(folder, "tides.nomos"), "admit rdp from 0.0.0.0/1 ", "admit rdp from 10.20.0.0/16 ")
	edit(t, filepath.Join(folder, "tides.nomos"), "admit rdp from 128.0.0.0/1", "admit rdp from list pilot-stations")
	if r := call(t, folder, "audit", "--survey", "survey.jsonl"); strings.Contains(r.out, "idle  ") {
		t.Error("an exemption that still covers what was found is told as idle")
	}
	if r := call(t, folder, "audit", "--survey", "survey.jsonl", "--state", "defined"); !strings.Contains(r.out,
		"idle        the exemption of tides/quay/tide-desk from open-admin-port (harbour.nomos:") {
		t.Errorf("an idle exemption is not told:\n%s", r.out[max(0, len(r.out)-600):])
	}
}

// sharedBeginning is what the fingerprints of several findings of the definitions begin with.
func sharedBeginning(t *testing.T, folder string) string {
	t.Helper()
	a, _ := auditJSON(t, folder)
	seen := make(map[string]bool)
	for _, f := range a.Findings {
		if seen[f.Fingerprint[:1]] {
			return f.Fingerprint[:1]
		}
		seen[f.Fingerprint[:1]] = true
	}
	t.Fatal("no two fingerprints begin alike")
	return ""
}

// A kept audit tells since when each finding has held; what does not change is kept once, and what is gone is counted.
// Audits with other filters are kept apart.
func TestAuditKept(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	kept := func(args ...string) (since map[string]string, said string) {
		t.Helper()
		r := call(t, folder, append([]string{"audit", "--survey", "survey.jsonl", "--keep", "--format", "json"}, args...)...)
		var a struct {
			Findings []struct {
				Fingerprint string
				HeldSince   string `json:"held_since"`
			}
		}
		if err := json.Unmarshal([]byte(r.out), &a); err != nil {
			t.Fatalf("%v\n%s", err, r.err)
		}
		since = make(map[string]string)
		for _, f := range a.Findings {
			if f.HeldSince == "" {
				t.Errorf("%s has held since nobody knows when", f.Fingerprint)
			}
			since[f.Fingerprint] = f.HeldSince
		}
		return since, r.err
	}
	first, said := kept()
	if !strings.Contains(said, "kept in isonomos.db: it is the first one") || len(first) < 5 {
		t.Errorf("%d findings, %s", len(first), said)
	}
	info, err := os.Stat(filepath.Join(folder, "isonomos.db"))
	if err != nil {
		t.Fatal(err)
	}
	for range 3 {
		again, said := kept()
		if !maps.Equal(first, again) || !strings.Contains(said, "0 new findings, 0 gone") {
			t.Errorf("again: %s", said)
		}
	}
	if now, err := os.Stat(filepath.Join(folder, "isonomos.db")); err != nil || now.Size() != info.Size() {
		t.Errorf("what does not change is kept again: %d bytes, then %d", info.Size(), now.Size())
	}
	if _, said := kept("--severity", "high"); !strings.Contains(said, "it is the first one") {
		t.Errorf("other filters: %s", said)
	}
	survey := filepath.Join(folder, "survey.jsonl")
	text, err := os.ReadFile(survey)
	if err != nil {
		t.Fatal(err)
	}
	var less []string
	for _, line := range strings.Split(string(text), "\n") {
		if !strings.Contains(line, `"kind":"rule","account":"customs"`) {
			less = append(less, line)
		}
	}
	if err := os.WriteFile(survey, []byte(strings.Join(less, "\n")), 0o600); err != nil {
		t.Fatal(err)
	}
	after, said := kept()
	gone := 0
	for id := range first {
		if after[id] == "" {
			gone++
		}
	}
	if gone == 0 || !strings.Contains(said, fmt.Sprintf("%d gone", gone)) {
		t.Errorf("%d are gone: %s", gone, said)
	}
}
