package render

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"isonomos/core/audit"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/service"
)

// many is an audit with findings of every severity, some of them with what is rare.
func many(n int, name string) Audit {
	account := &estate.Account{Name: "a", Cloud: &estate.Cloud{Name: "c", Dialect: "union"}, Folder: "x/y"}
	a := Audit{Estate: &estate.Estate{}, Version: "1.2.3", FailOn: audit.Medium}
	change := audit.Change{Of: make(map[string]audit.Step), Count: make(map[audit.Trend]int),
		Gone: []audit.Earlier{{Fingerprint: "f", Check: "twins", Where: name, Message: name}}}
	for i := range n {
		g := &estate.Group{Account: account, Name: fmt.Sprintf("%s%d", name, i)}
		f := audit.Finding{Check: "open-admin-port", Severity: audit.Severity(i % 5), Start: audit.Severity(i % 5),
			Group: g, Account: account, Direction: estate.In,
			Services: service.Of(service.Ports(service.TCP, 22, 22)), Message: name, Fix: audit.Remedy{Words: name},
			OrElse: name, Details: []string{name}, Controls: []string{"X 1"}, Fingerprint: fmt.Sprintf("%016x", i)}
		if i%7 == 3 {
			f.Exemption = &law.Exemption{By: name, Because: name, Until: time.Date(2027, 2, 1, 0, 0, 0, 0, time.UTC)}
		}
		if i%2 == 0 {
			change.Of[f.Fingerprint] = audit.Step{Trend: audit.New}
		} else {
			change.Of[f.Fingerprint] = audit.Step{Trend: audit.Same, More: []string{name}}
		}
		a.Result.Findings = append(a.Result.Findings, f)
	}
	a.Change = &change
	return a
}

// A review comment stays within its bounds, says what it leaves out, and closes what it opens.
func TestMarkdownStaysSmall(t *testing.T) {
	for _, x := range []struct {
		n    int
		name string
		more bool
	}{{3, "g", false}, {2000, "g", true}, {50, strings.Repeat("long ", 4000), true}, {300,
		strings.Repeat("<b>&*", 200), true}} {
		var b strings.Builder
		if err := FindingsMarkdown(&b, many(x.n, x.name)); err != nil {
			t.Fatal(err)
		}
		text := b.String()
		if len(text) > 64000 || strings.Contains(text, "more finding") != x.more ||
			strings.Count(text, "<details>") != strings.Count(text, "</details>") || strings.Contains(text, "<b>&*") {
			t.Errorf("%d findings called %.20q: %d bytes, %d opened, %d closed", x.n, x.name, len(text),
				strings.Count(text, "<details>"), strings.Count(text, "</details>"))
		}
		if !strings.HasPrefix(text, "### Audit: ") {
			t.Error("the summary does not come first")
		}
	}
}

// What FindingsJSON writes, ReadFindings reads; other documents it refuses.
func TestFindingsReadBack(t *testing.T) {
	var b bytes.Buffer
	a := many(12, "g")
	if err := FindingsJSON(&b, a); err != nil {
		t.Fatal(err)
	}
	earlier, err := ReadFindings(&b)
	if err != nil || len(earlier.Findings) != 12 || earlier.Findings[5].Fingerprint != fmt.Sprintf("%016x", 5) ||
		earlier.Findings[5].Severity != audit.Info || earlier.Findings[5].Where != "a/g5" {
		t.Fatalf("%v, %+v", err, earlier)
	}
	c := audit.Since(a.Result.Findings[2:], earlier.Findings)
	if c.Count[audit.New] != 0 || c.Count[audit.Same] != 10 || len(c.Gone) != 2 {
		t.Errorf("%+v", c)
	}
	for _, x := range []struct{ text, want string }{
		{"", "it is not the JSON"}, {"[]", "it is not the JSON"}, {"{}", "it has no findings"},
		{`{"version":1}`, "it has no findings"},
		{`{"version":1,"findings":[]}{"version":1}`, "something follows behind it"},
		{`{"version":1,"findings":[]},`, "something follows behind it"},
		{`{"version":3,"findings":[]}`, "it has version 3"},
		{`{"version":1,"findings":[{"check":"x"}]}`, "finding 1 has no fingerprint"},
		{`{"version":1,"findings":[{"fingerprint":"x","severity":"grave"}]}`, "finding 1: it has the severity"},
		{`{"version":1,"findings":[{"fingerprint":"x","severity":"low","peers":["x"]}]}`, "is not a range of addresses"},
		{`{"version":1,"findings":[{"fingerprint":"x","severity":"low","services":["tcp x"]}]}`, "finding 1: "},
	} {
		if _, err := ReadFindings(strings.NewReader(x.text)); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%q: %v, want %s", x.text, err, x.want)
		}
	}
}

// An audit that was written before checks and fields had the names that they have now is read.
func TestFindingsOfOldNames(t *testing.T) {
	earlier, err := ReadFindings(strings.NewReader(`{"version":1,"findings":[
{"fingerprint":"x","check":"unworn","also":["halves","past-date","open-inbound"],"severity":"low","excepted":{"until":"2027-01-01"}},
{"fingerprint":"y","check":"vain-refusal","severity":"high","excepted":null}]}`))
	if err != nil || len(earlier.Findings) != 2 {
		t.Fatal(err, earlier)
	}
	x, y := earlier.Findings[0], earlier.Findings[1]
	if x.Check != "unused" || strings.Join(x.Also, " ") != "open-in-sum expired open-inbound" || !x.Exempted ||
		y.Check != "ineffective-refusal" || y.Exempted {
		t.Errorf("%+v", earlier.Findings)
	}
}

// Nothing counts for the exit code that is exempted, mild, or not new.
func TestFails(t *testing.T) {
	a := many(70, "g")
	fails := 0
	for i, f := range a.Result.Findings {
		want := i%7 != 3 && i%5 >= int(audit.Medium) && i%2 == 0
		if a.Fails(f) != want {
			t.Errorf("finding %d fails: %v", i, !want)
		}
		if want {
			fails++
		}
	}
	var b strings.Builder
	if err := FindingsJUnit(&b, a); err != nil {
		t.Fatal(err)
	}
	if n := strings.Count(b.String(), "<failure"); n != fails || strings.Count(b.String(), "<skipped") != 10 ||
		!strings.Contains(b.String(), `name="nothing found"`) {
		t.Errorf("%d failures, want %d", n, fails)
	}
	if a.Never = true; a.Fails(a.Result.Findings[4]) {
		t.Error("never means never")
	}
}

func TestHarmlessText(t *testing.T) {
	for _, x := range []struct{ text, want string }{
		{"=1+1", "'=1+1"}, {"+49", "'+49"}, {"-2", "'-2"}, {"@x", "'@x"}, {"|calc", "'|calc"}, {"%s", "'%s"},
		{"\t=1", "·=1"}, {"plain", "plain"}, {"", ""}, {"10.0.0.0/8", "10.0.0.0/8"},
	} {
		if got := cell(x.text); got != x.want {
			t.Errorf("cell %q is %q, want %q", x.text, got, x.want)
		}
	}
	for _, x := range []struct {
		text    string
		columns int
		want    string
	}{{"short", 10, "short"}, {"abcdefghij", 5, "ab…ij"}, {"äöüäöüäöü", 5, "äö…öü"}, {"a\x1b[31mb", 20, "a·[31mb"}} {
		if got := shortened(x.text, x.columns); got != x.want || Columns(got) > x.columns {
			t.Errorf("%q in %d columns is %q, want %q", x.text, x.columns, got, x.want)
		}
	}
	for _, text := range []string{"plain", "\x7f\u0085\u009b31m", "\u202eabc", "日本", "\\u0007 \" \\"} {
		encoded, err := json.Marshal(text)
		if err != nil {
			t.Fatal(err)
		}
		escaped := harmless(string(encoded))
		var back string
		if err := json.Unmarshal([]byte(escaped), &back); err != nil || back != text ||
			strings.ContainsFunc(escaped, obeyed) {
			t.Errorf("%q becomes %s, and reads back as %q (%v)", text, escaped, back, err)
		}
	}
}

// Totals count a folder's findings in the folders above it, once.
func TestTotals(t *testing.T) {
	out := drawn(80, false, func(s *Screen) { Totals(s, many(35, "g"), "folder", 0) })
	lines := strings.Split(out, "\n")
	if !strings.HasPrefix(lines[1], "x ") || !strings.HasPrefix(lines[2], "  y ") ||
		strings.Fields(lines[1])[1] != strings.Fields(lines[2])[1] {
		t.Errorf("got\n%s", out)
	}
	for _, by := range Groupings {
		for _, width := range []int{40, 80, 140} {
			out := drawn(width, false, func(s *Screen) { Totals(s, many(300, strings.Repeat("group-", 30)), by, 20) })
			for line := range strings.Lines(out) {
				if utf8.RuneCountInString(strings.TrimRight(line, "\n")) > max(width, 78) &&
					!strings.Contains(line, "findings:") {
					t.Errorf("by %s in %d columns: %q", by, width, line)
				}
			}
			if by == "group" && !strings.Contains(out, "and 280 more: --limit 0 shows all") {
				t.Errorf("what is left out is not told:\n%s", out)
			}
		}
	}
}

func FuzzFindings(f *testing.F) {
	f.Add("g")
	f.Add("\x1b]0;x\x07<script>=1|`@\u202e")
	f.Fuzz(func(t *testing.T, name string) {
		a := many(8, name)
		var csvText, md, js, sarif, junit strings.Builder
		for _, err := range []error{FindingsCSV(&csvText, a), FindingsMarkdown(&md, a), FindingsJSON(&js, a),
			FindingsSARIF(&sarif, a), FindingsJUnit(&junit, a)} {
			if err != nil {
				t.Fatal(err)
			}
		}
		if !json.Valid([]byte(js.String())) || !json.Valid([]byte(sarif.String())) {
			t.Errorf("%q makes no JSON", name)
		}
		for _, text := range []string{csvText.String(), md.String(), js.String(), sarif.String(), junit.String(),
			drawn(80, true, func(s *Screen) { Findings(s, a, 0) })} {
			for _, r := range text {
				if obeyed(r) || r < ' ' && r != '\n' && r != 0x1b {
					t.Fatalf("%q comes out with %U", name, r)
				}
			}
		}
		if strings.Contains(md.String(), "<script") {
			t.Errorf("%q is markup in Markdown", name)
		}
	})
}
