package cli_test

import (
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// onPath is a folder to put before PATH, in which the program has its own name.
func onPath(t *testing.T) string {
	t.Helper()
	lookAtSource()
	folder := t.TempDir()
	if err := os.Symlink(program, filepath.Join(folder, "isonomos")); err != nil {
		t.Fatal(err)
	}
	return folder
}

// paste runs a line as a shell does.
func paste(t *testing.T, folder, path, line string) (code int, out string) {
	t.Helper()
	c := exec.Command("sh", "-c", line)
	c.Dir = folder
	c.Env = append(os.Environ(), "NO_COLOR=1", "PATH="+path+string(os.PathListSeparator)+os.Getenv("PATH"))
	text, err := c.CombinedOutput()
	if err != nil && c.ProcessState == nil {
		t.Fatal(err)
	}
	return c.ProcessState.ExitCode(), string(text)
}

// What is printed as the way out of a finding works where it is pasted: with the folder,
// the survey and the flows that the audit was given, quoted as a shell takes them.
func TestWaysOutCanBePasted(t *testing.T) {
	t.Parallel()
	path := onPath(t)
	apart := t.TempDir()
	away := filepath.Join(apart, "the harbour's own")
	if err := os.Mkdir(away, 0o755); err != nil {
		t.Fatal(err)
	}
	if r := call(t, apart, "demo", "--only-files", away); r.code != 0 {
		t.Fatal(r)
	}
	for _, x := range []struct {
		folder string
		args   []string
	}{
		{harbour(t), []string{"--survey", "survey.jsonl"}},
		{apart, []string{"--estate", away, "--survey", filepath.Join(away, "survey.jsonl"), "--flows",
			filepath.Join(away, "flows.csv")}},
	} {
		audited, r := auditJSON(t, x.folder, x.args...)
		seen := make(map[string]bool)
		kinds := make(map[string]int)
		for _, f := range audited.Findings {
			command := f.Fix
			if !strings.HasPrefix(command, "isonomos ") || seen[command] {
				continue
			}
			seen[command] = true
			kinds[strings.Fields(command)[1]]++
			code, out := paste(t, x.folder, path, command)
			if code > 1 || out == "" {
				t.Errorf("%s: exit %d\n%s", command, code, out)
			}
			for _, flag := range []string{"--estate", "--survey", "--flows"} {
				takes := flag != "--flows" || strings.Fields(command)[1] != "adopt"
				if slices.Contains(x.args, flag) && takes && !strings.Contains(command, " "+flag+" ") {
					t.Errorf("%s does not say %s", command, flag)
				}
			}
		}
		if kinds["narrow"] < 5 || kinds["adopt"] < 1 || kinds["draft"] < 1 {
			t.Errorf("%v: only %v were printed\n%s", x.args, kinds, r.err)
		}
	}
}

// A rule opened by hand leads to a draft, and a law that wants a reason leads to the edit.
func TestWaysOutLeadThere(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	edit(t, filepath.Join(folder, "tides.nomos"), ` because "bookings"`, "")
	audited, _ := auditJSON(t, folder, "--survey", "survey.jsonl", "--check", "by-hand,law:reasons")
	ways := make(map[string]string)
	for _, f := range audited.Findings {
		ways[f.Check] += f.Fix + "\n"
	}
	if !strings.Contains(ways["by-hand"]+ways["stage-crossing"], "isonomos draft --survey survey.jsonl") {
		t.Errorf("by hand: %q", ways)
	}
	if !strings.Contains(ways["law:reasons"]+ways["unexplained"], `add because "…" to the rule`) {
		t.Errorf("without a reason: %q", ways)
	}
}

// The steps that the demo prints can be repeated as they are printed, one after the other.
func TestStepsOfTheDemoCanBeRepeated(t *testing.T) {
	t.Parallel()
	path := onPath(t)
	folder := filepath.Join(t.TempDir(), "a harbour")
	r := call(t, t.TempDir(), "demo", folder)
	if r.code != 0 {
		t.Fatal(r)
	}
	var script strings.Builder
	script.WriteString("trap 'kill $server' EXIT\n")
	steps := 0
	for line := range strings.Lines(r.out) {
		step, ok := strings.CutPrefix(strings.TrimRight(line, "\n"), "$ ")
		if !ok {
			continue
		}
		steps++
		script.WriteString(step + "\n")
		if strings.HasSuffix(step, "&") {
			script.WriteString("server=${server:-$!}\n")
			continue
		}
		script.WriteString("code=$?; [ $code -le 1 ] || { echo \"FAILED $code: " +
			strings.ReplaceAll(step, "\"", "") + "\"; exit 9; }\n")
	}
	if steps < 15 {
		t.Fatalf("%d steps\n%s", steps, r.out)
	}
	if code, out := paste(t, t.TempDir(), path, script.String()); code != 0 || !strings.Contains(out, "enacted ") ||
		!strings.Contains(out, "repealed ") {
		t.Errorf("exit %d\n%s", code, out)
	}
}

// A misspelt label or value never ends in nothing found.
func TestOverMisspelt(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	for _, x := range []struct {
		over, want string
		code       int
	}{
		{"stag = production", `nothing has a label "stag": "stage" is near`, 2},
		{"not stag = production", `nothing has a label "stag": "stage" is near`, 2},
		{"xyzzy = blue", `nothing has a label "xyzzy": the labels are account,`, 2},
		{"stage = prodution",
			`nothing has the stage "prodution", and nothing else is asked for: "production" is near`, 2},
		{"folder = harbor/water", `nothing has the folder "harbor/water"`, 2},
		{"stage in (production, labb)", `nothing has the stage "labb": "lab" is near`, 1},
		{"stage != prodution", `nothing has the stage "prodution": "production" is near`, 1},
		{"stage = lab and account = tides", "--over holds nowhere", 0},
		{"folder = harbour/water", "", 1},
	} {
		for _, command := range [][]string{{"audit"}, {"narrow", "--all"}, {"exposure"}, {"adopt", "--all"}} {
			r := call(t, folder, append(command, "--survey", "survey.jsonl", "--over", x.over)...)
			code := x.code
			if command[0] != "audit" && code == 1 {
				code = 0
			}
			if command[0] == "adopt" && r.code == 2 && strings.Contains(r.err, "nothing to adopt") {
				code = 2
			}
			if r.code != code || !strings.Contains(r.err, x.want) {
				t.Errorf("%v --over %q: exit %d, want %d with %s\n%s", command, x.over, r.code, code, x.want, r.err)
			}
		}
	}
	if r := call(t, folder, "draft", "--survey", "survey.jsonl", "--waves", "stagee=lab,production"); r.code != 2 ||
		!strings.Contains(r.err, `"stage" is near`) {
		t.Errorf("--waves: %+v", r)
	}
	edit(t, filepath.Join(folder, "harbour.nomos"), "over     stage = production", "over     stage = prodution")
	if r := call(t, folder, "check"); r.code != 0 ||
		!strings.Contains(r.err, `nothing here has the stage "prodution"`) {
		t.Errorf("in a law: %+v", r)
	}
}

// Empty values, and flags that contradict each other, are wrong use; where the environment
// says something else than the command line, it is told which counts.
func TestContradictions(t *testing.T) {
	folder := harbour(t)
	for _, x := range []struct{ args, want string }{
		{"audit|--survey=", "the flag --survey is given and empty"},
		{"audit|--survey|survey.jsonl|--why|", "the flag --why is given and empty"},
		{"audit|--check|", "the flag --check is given and empty"},
		{"audit|--over| ", "the flag --over is given and empty"},
		{"--color=|check", "--color"},
		{"check|", "an argument of isonomos check is empty"},
		{"trace|--survey|survey.jsonl||ledger-1|ssh", "an argument of isonomos trace is empty"},
		{"flows|forget|--all|--before|2026-10-01", "--all and --before contradict each other"},
		{"flows|forget|--all|3", "--all and 3 contradict each other"},
		{"flows|add|--database|dbname=x|flows.csv", "--database says where"},
		{"check|.|--estate|.", "--estate and . contradict each other"},
		{"check|--rules|--format|sarif", "--rules shows rules as text"},
		{"tidy|tides.nomos|--estate|.", "--estate and tides.nomos contradict each other"},
		{"tidy|--list|--diff", "--list and --diff contradict each other"},
		{"repeal|--list|--to|x", "--list and --to contradict each other"},
		{"repeal|--give-up|20261120-060000-4c1a", "--give-up and 20261120-060000-4c1a contradict each other"},
		{"audit|--live|--survey|survey.jsonl", "--live and --survey contradict each other"},
		{"audit|--survey|survey.jsonl|--why|ab|--by|check", "--why and --by contradict each other"},
		{"audit|--survey|survey.jsonl|--why|ab|--format|csv", "--why shows one finding as text or json"},
		{"narrow|gauges|--severity|high", "--severity picks from what --all finds"},
		{"narrow|--across|--lend", "--across and --lend contradict each other"},
		{"narrow|--law|shut-admin|--check|twins", "--law and --check contradict each other"},
		{"adopt|ferry-site|--survey|survey.jsonl|--over|stage = lab", "--over picks from what --all finds"},
		{"compare|survey.jsonl|.|--survey|survey.jsonl", "--survey is for two folders of definitions"},
		{"compare|-|-", "an argument and an argument can't both be standard input"},
		{"audit|--survey|-|--flows|-", "--survey and --flows can't both be standard input"},
		{"audit|--survey|-|--since|-", "--survey and --since can't both be standard input"},
		{"narrow|--findings|-|--survey|-", "--survey and --findings can't both be standard input"},
		{"draft|--survey|survey.jsonl|--to|-|--format|md", "--to - writes the draft itself"},
		{"enact|--resume|--allow-gaps", "--resume and --allow-gaps contradict each other"},
		{"trace|--batch|q|--source-port|1", "--batch and --source-port contradict each other"},
	} {
		if r := call(t, folder, strings.Split(x.args, "|")...); r.code != 2 || !strings.Contains(r.err, x.want) ||
			r.out != "" {
			t.Errorf("%s: exit %d, want %s\n%s", x.args, r.code, x.want, r.err)
		}
	}
	if r := call(t, folder, "audit", "--survey", "survey.jsonl", "--by", "check", "--limit=0"); r.code > 1 {
		t.Errorf("what goes together is refused: %+v", r)
	}
	t.Setenv("ISONOMOS_SURVEY", "survey.jsonl")
	for _, x := range []struct{ args, want string }{
		{"audit --live", "looking at the clouds themselves (--live), not at the survey survey.jsonl (ISONOMOS_SURVEY)"},
		{"draft", "drafting from the survey survey.jsonl (ISONOMOS_SURVEY), not from the clouds"},
	} {
		if r := call(t, folder, strings.Fields(x.args)...); !strings.Contains(r.err, x.want) {
			t.Errorf("%s: %s", x.args, r.err)
		}
	}
	if r := call(t, folder, "compare", "survey.jsonl", "."); r.code > 1 {
		t.Errorf("a variable contradicts nothing: %+v", r)
	}
	t.Setenv("ISONOMOS_ESTATE", "elsewhere")
	for _, args := range []string{"check .", "tidy --list ."} {
		if r := call(t, folder, strings.Fields(args)...); r.code != 0 ||
			!strings.Contains(r.err, "looking at ., not at elsewhere (ISONOMOS_ESTATE)") {
			t.Errorf("%s: %+v", args, r)
		}
	}
	t.Setenv("ISONOMOS_ESTATE", "")
	t.Setenv("ISONOMOS_SURVEY", "")
	if r := call(t, folder, "check"); r.code != 0 {
		t.Errorf("an empty variable is none: %+v", r)
	}
}

// --since compares what was about the same, and tells what is new first.
func TestSinceTheSameMatter(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	first := func(args ...string) {
		t.Helper()
		_, r := auditJSON(t, folder, append([]string{"--survey", "survey.jsonl"}, args...)...)
		write("before.json", r.out)
	}
	since := func(want string, args ...string) run {
		t.Helper()
		r := call(t, folder, append([]string{"audit", "--survey", "survey.jsonl", "--since", "before.json"},
			args...)...)
		if want != "" && (r.code != 2 || !strings.Contains(r.err, want) || r.out != "") {
			t.Errorf("%v: exit %d, want %s\n%s", args, r.code, want, r.err)
		}
		return r
	}
	first("--severity", "high")
	since("had others: --severity high")
	since("", "--severity", "high")
	first()
	since("had others: --over not given", "--over", "stage = production")
	since("had others: --check not given", "--check", "twins")
	since("had others: --direction both", "--direction", "in")
	since("had others: --service not given", "--service", "ssh")
	since("had others: observed flows not given", "--flows", "flows.csv")
	since("judged as found and as defined, and this one judges as found: say --state both", "--state", "found")
	edit(t, filepath.Join(folder, "traffic.nomos"), "group radar",
		"group late in roads \"Late\" {\n  admit imap from everyone v4 because \"late\"\n}\n\ngroup radar")
	r := since("")
	if head, _, _ := strings.Cut(r.out, "\n"); r.code != 1 || !strings.Contains(head, "traffic/roads/late") ||
		!strings.Contains(head, "new") {
		t.Errorf("exit %d, what is new does not come first:\n%s", r.code, head)
	}
	var document struct {
		Findings []struct{ Since string }
	}
	if err := json.Unmarshal([]byte(since("", "--format", "json").out), &document); err != nil ||
		document.Findings[0].Since != "new" {
		t.Errorf("%v, %+v", err, document.Findings[:1])
	}
	write("before.json", `{"version":1,"findings":[]}`)
	if r := since(""); r.code != 1 || !strings.Contains(r.err, "an older version of the program wrote it") {
		t.Errorf("an audit of an older version: %+v", r)
	}
}

// narrow --findings says what the filters left out, and what is gone.
func TestFindingsWithFilters(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	_, r := auditJSON(t, folder, "--survey", "survey.jsonl")
	if err := os.WriteFile(filepath.Join(folder, "f.json"), []byte(r.out), 0o644); err != nil {
		t.Fatal(err)
	}
	args := []string{"narrow", "--survey", "survey.jsonl", "--flows", "flows.csv", "--findings", "f.json"}
	all := call(t, folder, args...)
	if all.code != 0 || strings.Contains(all.err, "are left out by") {
		t.Fatal(all)
	}
	some := call(t, folder, append(args, "--severity", "critical")...)
	if !regexp.MustCompile(`\d+ findings of f.json are left out by --severity, --check or --over`).MatchString(
		some.err) || len(some.out) >= len(all.out) {
		t.Errorf("%s", some.err)
	}
}

// A file is checked with the estate that it belongs to, and what is told is about it.
func TestCheckOneFile(t *testing.T) {
	t.Parallel()
	outer := t.TempDir()
	folder := filepath.Join(outer, "estates", "harbour")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	if r := call(t, outer, "demo", "--only-files", folder); r.code != 0 {
		t.Fatal(r)
	}
	if err := os.WriteFile(filepath.Join(outer, "stray.nomos"), []byte("nonsense\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join("estates", "harbour", "tides.nomos")
	for _, from := range []struct{ folder, file string }{{outer, file}, {folder, "tides.nomos"},
		{t.TempDir(), filepath.Join(outer, file)}, {outer, "./" + file}} {
		r := call(t, from.folder, "check", from.file)
		if r.code != 0 || !strings.Contains(r.out, "tides/quay/gauges") || strings.Contains(r.out, "customs/") ||
			r.err != "" {
			t.Errorf("%s from %s: exit %d\n%s%s", from.file, from.folder, r.code, r.err, r.out)
		}
	}
	edit(t, filepath.Join(folder, "customs.nomos"), "group documents", "group documentz")
	if r := call(t, outer, "check", file); r.code != 2 ||
		!strings.Contains(r.err,
			"mistakes in other files of the estate, the first at estates/harbour/customs.nomos:") ||
		strings.Count(r.err, "\n") > 3 {
		t.Errorf("exit %d\n%s", r.code, r.err)
	}
	edit(t, filepath.Join(folder, "tides.nomos"), "admit ssh from everyone", "allow ssh from everyone")
	r := call(t, outer, "check", file)
	if r.code != 2 || !strings.HasPrefix(r.err, file+":") || !strings.Contains(r.err, `write "admit"`) ||
		!strings.Contains(r.err, "in other files of the estate") {
		t.Errorf("exit %d\n%s", r.code, r.err)
	}
	for args, want := range map[string]string{
		"check estates/harbour/none.nomos":                             "there is no file",
		"check stray.nomos estates/harbour/tides.nomos --estate .":     "mistake",
		"check stray.nomos --estate estates/harbour":                   "does not belong to the estate",
		"check estates/harbour estates/harbour/tides.nomos":            "check reads one folder, or some files",
		"check estates/harbour/survey.jsonl":                           "is neither a folder nor a file of definitions",
		"check estates/harbour/tides.nomos estates/harbour/gone.nomos": "there is no file",
	} {
		if r := call(t, outer, strings.Fields(args)...); r.code < 2 || !strings.Contains(r.err, want) {
			t.Errorf("%s: exit %d, want %s\n%s", args, r.code, want, r.err)
		}
	}
}

// Every result of SARIF has a file and a line; what is only surveyed has those of the survey.
func TestSARIFHasPlaces(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	schema, err := jsonschema.NewCompiler().Compile(filepath.Join("..", "render", "testdata", "sarif-2.1.0.json"))
	if err != nil {
		t.Fatal(err)
	}
	edit(t, filepath.Join(folder, "traffic.nomos"), "group radar", "group late in roads \"Late\" {\n  cover "+
		"where network = road\n  admit imap from everyone v4\n}\n\ngroup radar")
	unread, err := os.ReadFile(filepath.Join(folder, "survey.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	text := string(unread) + `{"kind":"unread","account":"outer-port","reason":"403 Forbidden"}` + "\n"
	if err := os.WriteFile(filepath.Join(folder, "unread.jsonl"), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	on := []string{"--survey", "unread.jsonl", "--allow-unread", "outer-port"}
	for _, args := range [][]string{
		{"audit", "--survey", "survey.jsonl"}, {"audit", "--survey", "survey.jsonl", "--estate", "none"}, {"audit"},
		append([]string{"audit"}, on...), append([]string{"prove"}, on...), append([]string{"check"}, on...),
		{"prove", "--survey", "survey.jsonl"}, {"prove"}, {"check"}, {"check", "--survey", "survey.jsonl"},
	} {
		r := call(t, folder, append(args, "--format", "sarif")...)
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(r.out))
		if err != nil || r.code > 1 {
			t.Fatalf("%v: exit %d, %v\n%s", args, r.code, err, r.err)
		}
		if err := schema.Validate(value); err != nil {
			t.Errorf("%v: %v", args, err)
		}
		var log struct {
			Runs []struct {
				Results []struct {
					Locations []struct {
						PhysicalLocation struct {
							ArtifactLocation struct{ URI string }
							Region           struct{ StartLine int }
						}
					}
				}
			}
		}
		if err := json.Unmarshal([]byte(r.out), &log); err != nil {
			t.Fatal(err)
		}
		for _, x := range log.Runs[0].Results {
			at := x.Locations[0].PhysicalLocation
			text, err := os.ReadFile(filepath.Join(folder, at.ArtifactLocation.URI))
			if err != nil || at.Region.StartLine < 1 || at.Region.StartLine > strings.Count(string(text), "\n") {
				t.Errorf("%v: a result is at %+v, %v", args, at, err)
			}
		}
		if len(log.Runs[0].Results) == 0 && args[0] == "audit" {
			t.Errorf("%v: no results", args)
		}
	}
}

// The formats that gathered results have: what is wrong fails, what is right is told too.
func TestJUnitOfProveAndCheck(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	read := func(args ...string) (tests, failures int, text string) {
		t.Helper()
		r := call(t, folder, append(args, "--format", "junit")...)
		var suites struct {
			Tests    int `xml:"tests,attr"`
			Failures int `xml:"failures,attr"`
		}
		if err := xml.Unmarshal([]byte(r.out), &suites); err != nil {
			t.Fatalf("%v: %v\n%s", args, err, r.err)
		}
		if (suites.Failures > 0) != (r.code > 0) {
			t.Errorf("%v: exit %d with %d failures", args, r.code, suites.Failures)
		}
		return suites.Tests, suites.Failures, r.out
	}
	if tests, failures, _ := read("check"); tests != 6 || failures != 0 {
		t.Errorf("check: %d tests, %d failures", tests, failures)
	}
	if tests, failures, text := read("prove", "--survey", "survey.jsonl"); tests < 28 || failures < 2 ||
		!strings.Contains(text, `name="law:shut-admin"`) || !strings.Contains(text, `file="tides.nomos"`) {
		t.Errorf("prove: %d tests, %d failures\n%s", tests, failures, text)
	}
	edit(t, filepath.Join(folder, "tides.nomos"), "admit ssh from everyone", "admit shh from everyone")
	if _, failures, text := read("check"); failures != 1 ||
		!strings.Contains(text, `no service is called &#34;shh&#34;`) {
		t.Errorf("%d failures\n%s", failures, text)
	}
}

// Totals for programs count the same findings as totals for people.
func TestTotalsForPrograms(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	schema, err := jsonschema.NewCompiler().Compile(filepath.Join("..", "docs", "schemas", "totals.json"))
	if err != nil {
		t.Fatal(err)
	}
	for _, by := range []string{"account", "folder", "cloud", "check", "control", "group"} {
		r := call(t, folder, "audit", "--survey", "survey.jsonl", "--by", by, "--format", "json")
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(r.out))
		if err != nil {
			t.Fatal(err, r.err)
		}
		if err := schema.Validate(value); err != nil {
			t.Errorf("%s: %v", by, err)
		}
		var document struct {
			Totals []map[string]any
		}
		if err := json.Unmarshal([]byte(r.out), &document); err != nil {
			t.Fatal(err)
		}
		table := call(t, folder, "audit", "--survey", "survey.jsonl", "--by", by, "--format", "csv")
		rows, err := csv.NewReader(strings.NewReader(table.out)).ReadAll()
		if err != nil || len(rows) != len(document.Totals)+1 || rows[0][0] != by || r.code != table.code {
			t.Fatalf("%s: %d rows for %d totals, %v", by, len(rows), len(document.Totals), err)
		}
		for i, x := range document.Totals {
			if strings.TrimPrefix(rows[i+1][0], "'") != x["key"] {
				t.Errorf("%s: %v and %v", by, rows[i+1], x)
			}
			// A check counts with the severity that it has by itself, not with that of what it is joined with.
			if info := x["key"] == "unexplained"; info &&
				(x["info"] == 0.0 || x["critical"] != 0.0 || x["high"] != 0.0) {
				t.Errorf("%v", x)
			}
		}
	}
}

// A batch ends as its answers say.
func TestBatchExit(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	for _, x := range []struct {
		questions string
		code      int
	}{
		{"booking-1 ledger-1 tcp 5432\n", 0}, {"booking-1 ledger-1 tcp 5432\n192.0.2.77 ledger-1 tcp 22\n", 1},
		{"booking-1 ledger-1 tcp 5432\nnobody ledger-1 tcp 22\n", 2},
		{"booking-1 ledger-1\n192.0.2.77 ledger-1 tcp 22\n", 2}, {"", 2}, {"# nothing\n\n", 2},
	} {
		r := callWith(t, folder, x.questions, "trace", "--survey", "survey.jsonl", "--batch", "-")
		if r.code != x.code || strings.Count(r.out,
			"\n") != strings.Count(strings.ReplaceAll(x.questions, "# nothing\n\n", ""), "\n") {
			t.Errorf("%q: exit %d, want %d\n%s%s", x.questions, r.code, x.code, r.out, r.err)
		}
	}
}

// What can't be written to standard output is exit 3, in our words.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Skip("this system has no full device")
	}
	defer full.Close()
	folder := harbour(t)
	lookAtSource()
	for _, args := range []string{"audit --survey survey.jsonl", "audit --survey survey.jsonl --format json",
		"audit --survey survey.jsonl --format csv", "audit --survey survey.jsonl --format junit", "check",
		"check --format json",
		"exposure --survey survey.jsonl", "prove", "trace --survey survey.jsonl booking-1 ledger-1 berth-db",
		"narrow gauge-maintenance --survey survey.jsonl --flows flows.csv --diff", "explain", "explain audit",
		"--help", "audit --help", "--version",
		"compare survey.jsonl .", "draft --survey survey.jsonl --format md"} {
		c := exec.Command(program, strings.Fields(args)...)
		c.Dir, c.Stdout = folder, full
		var said strings.Builder
		c.Stderr = &said
		_ = c.Run()
		if code := c.ProcessState.ExitCode(); code != 3 ||
			!strings.Contains(said.String(), "isonomos: standard output can't be written: no space left on device") {
			t.Errorf("%s: exit %d\n%s", args, code, said.String())
		}
	}
}

// A folder that holds something is none to lay an estate into.
func TestOnlyIntoNewFolders(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, "mine.nomos"), []byte("estate mine\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"sandbox", "generate", "--groups", "5", "--rules", "9", "."},
		{"demo", "--only-files", "."}, {"demo", "."}} {
		r := call(t, folder, args...)
		entries, _ := os.ReadDir(folder)
		if r.code != 2 || !strings.Contains(r.err, "holds something already (mine.nomos)") || len(entries) != 1 {
			t.Errorf("%v: exit %d, %d files\n%s", args, r.code, len(entries), r.err)
		}
	}
	r := call(t, folder, "sandbox", "generate", "--groups", "5", "--rules", "9", "it's new")
	if r.code != 0 {
		t.Fatal(r)
	}
	_, next, _ := strings.Cut(r.err, "next: ")
	if code, out := paste(t, folder, onPath(t), next); code > 1 || out == "" {
		t.Errorf("%s: exit %d\n%s", next, code, out)
	}
}

// The version names itself, the revision and Go; every command can be explained; help fits
// a window of 80 columns, and what is to be copied is still one command there.
func TestVersionAndHelp(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	if r := call(t, folder, "--version"); r.code != 0 ||
		!regexp.MustCompile(`^isonomos \S+ \(revision \S+.*, go1\.\d+.*\)\n$`).MatchString(r.out) {
		t.Errorf("%+v", r)
	}
	commands := []string{"demo", "check", "tidy", "survey", "audit", "exposure", "trace", "prove", "flows",
		"flows add", "flows show", "flows forget", "narrow", "adopt", "compare", "draft", "enact", "repeal",
		"explain", "sandbox", "sandbox run", "sandbox fault", "sandbox generate"}
	for _, command := range commands {
		explained, helped := call(t, folder, append([]string{"explain"}, strings.Fields(command)...)...),
			call(t, folder, append(strings.Fields(command), "--help")...)
		if explained.code != 0 || !strings.Contains(explained.out, command+"  command") ||
			!strings.Contains(explained.out, "usage: isonomos "+command) {
			t.Errorf("explain %s: %+v", command, explained)
		}
		if helped.code != 0 || !strings.HasPrefix(helped.out, "isonomos "+command+": ") {
			t.Errorf("%s --help: %+v", command, helped)
		}
		for line := range strings.Lines(helped.out) {
			if columns := len([]rune(strings.TrimRight(line, "\n"))); columns > 80 {
				t.Errorf("%s --help has a line of %d columns: %s", command, columns, line)
			}
		}
	}
	if r := call(t, folder, "explain", "audits"); r.code != 2 || !strings.Contains(r.err, "near are audit") {
		t.Errorf("%+v", r)
	}
	narrow := call(t, folder, "narrow", "--help").out
	if !strings.Contains(narrow, " \\\n") {
		t.Error("no command was broken: the test looks at nothing")
	}
	if code, out := paste(t, harbour(t), onPath(t), "isonomos narrow broker --survey survey.jsonl --flows "+
		"flows.csv \\\n      --keep \"ssh from 203.0.113.201\" --diff"); code != 0 {
		t.Errorf("exit %d\n%s", code, out)
	}
}

// A dumb terminal gets no colour, whatever its width.
func TestDumbTerminal(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	if _, err := exec.LookPath("script"); err != nil {
		t.Skip("there is no script to make a terminal")
	}
	coloured := func(term string) bool {
		c := exec.Command("script", "-qec", "stty cols 90; "+program+" check", "/dev/null")
		c.Dir = folder
		c.Env = append(slices.DeleteFunc(os.Environ(),
			func(x string) bool { return strings.HasPrefix(x, "NO_COLOR=") || strings.HasPrefix(x, "TERM=") }),
			"TERM="+term)
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatal(err, string(out))
		}
		return strings.Contains(string(out), "\x1b[")
	}
	if !coloured("xterm-256color") || coloured("dumb") {
		t.Errorf("coloured: %v on a terminal, %v on a dumb one", coloured("xterm-256color"), coloured("dumb"))
	}
}

// Accounts and clouds that could not be read are told in every format, and the exit code is 3.
func TestUnreadIsToldInEveryFormat(t *testing.T) {
	t.Parallel()
	for _, field := range []string{"account", "cloud"} {
		t.Run(field, func(t *testing.T) {
			t.Parallel()
			unreadIsTold(t, field)
		})
	}
}

func unreadIsTold(t *testing.T, field string) {
	folder := harbour(t)
	survey, err := os.ReadFile(filepath.Join(folder, "survey.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	text := string(survey) + `{"kind":"unread","` + field + `":"outer-port","reason":"403 Forbidden"}` + "\n"
	if err := os.WriteFile(filepath.Join(folder, "survey.jsonl"), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	var all [][]string
	for _, format := range []string{"text", "json", "sarif", "junit", "csv", "md"} {
		all = append(all, []string{"audit", "--fail-at", "never", "--format", format})
	}
	for _, format := range []string{"text", "json", "csv"} {
		all = append(all, []string{"audit", "--by", "account", "--format", format})
	}
	for _, format := range []string{"text", "json", "sarif", "junit"} {
		all = append(all, []string{"prove", "--format", format})
	}
	for _, format := range []string{"text", "json"} {
		all = append(all, []string{"exposure", "--format", format},
			[]string{"trace", "booking-1", "ledger-1", "berth-db", "--format", format},
			[]string{"check", "--format", format})
	}
	for _, format := range []string{"text", "json", "md"} {
		all = append(all, []string{"narrow", "--all", "--format", format},
			[]string{"compare", "survey.jsonl", ".", "--format", format})
	}
	all = append(all, []string{"exposure", "--matrix"}, []string{"check", "--format", "sarif"},
		[]string{"check", "--format", "junit"})
	for _, args := range all {
		if args[0] != "compare" {
			args = append(args, "--survey", "survey.jsonl")
		}
		r := call(t, folder, args...)
		if r.code != 3 || !strings.Contains(r.err, "outer-port") {
			t.Errorf("%v: exit %d\n%s", args, r.code, r.err)
		}
		if !strings.Contains(r.out, "outer-port") {
			t.Errorf("%v: standard output does not tell of it", args)
		}
		if r := call(t, folder, append(args, "--allow-unread", "outer-port")...); r.code > 1 {
			t.Errorf("%v with --allow-unread: exit %d\n%s", args, r.code, r.err)
		}
	}
}

// A connect through a managed subnet group: only subnets where an end can stand count. A
// survey tells where that is; without one a refusal elsewhere is a warning.
func TestConnectThroughSubnetGroups(t *testing.T) {
	t.Parallel()
	places := `estate saltmarsh

cloud c {
  dialect union
}

account a {
  cloud c
  limit subnet-rules-per-direction = 2000
}

network n in a {
  range  10.1.0.0/16
  subnet front 10.1.1.0/24
  subnet back 10.1.2.0/24
}

group web in n {
  cover where COVER
}

group db in n {
  cover where role = db
}

group wall for subnets in n {
  cover  subnet SUBNETS
  refuse postgres from network
  admit  any from everyone
  reach  any at everyone
}

connect web to db on postgres
`
	survey := `{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z","estate":"saltmarsh"}
{"kind":"cloud","name":"c","dialect":"union"}
{"kind":"account","name":"a","cloud":"c"}
{"kind":"network","account":"a","id":"n","ranges":["10.1.0.0/16"]}
{"kind":"subnet","account":"a","network":"n","id":"front","ranges":["10.1.1.0/24"],"routes":[],"groups":[]}
{"kind":"subnet","account":"a","network":"n","id":"back","ranges":["10.1.2.0/24"],"routes":[],"groups":[]}
{"kind":"subnet","account":"a","network":"n","id":"other","ranges":["10.1.3.0/24"],"routes":[],"groups":[]}
{"kind":"instance","account":"a","id":"db-1","labels":{"role":"db"},"interfaces":[{"id":"i1","subnet":"DBSUBNET","private":["10.1.9.9"],"groups":[]}]}
`
	stops := `the refusal "refuse postgres from network n" of a/n/wall stops this connect`
	for _, x := range []struct {
		name, cover, subnets, db string
		code                     int
		warns                    bool
	}{
		{"one of two subnets, no survey", "role = web", "front", "", 0, true},
		{"all subnets, no survey", "role = web", "front, back", "", 2, false},
		{"the end stands elsewhere", "role = web", "front", "back", 0, false},
		{"all known subnets, and the end in another", "role = web", "front, back", "other", 0, false},
		{"the end stands there", "role = web", "front", "front", 2, false},
	} {
		folder := t.TempDir()
		text := strings.NewReplacer("COVER", x.cover, "SUBNETS", x.subnets).Replace(places)
		args := []string{"check"}
		if x.db != "" {
			args = append(args, "--survey", "s.jsonl")
		}
		for name, content := range map[string]string{"a.nomos": text,
			"s.jsonl": strings.ReplaceAll(survey, "DBSUBNET", x.db)} {
			if err := os.WriteFile(filepath.Join(folder, name), []byte(content), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		r := call(t, folder, args...)
		if r.code != x.code || strings.Contains(r.err, stops) != (x.warns || x.code == 2) ||
			strings.Contains(r.err, "warning: "+stops) != x.warns {
			t.Errorf("%s: exit %d\n%s", x.name, r.code, r.err)
		}
	}
	// By what the definition says an end can't stand there: nothing is written, nothing said.
	folder := t.TempDir()
	text := strings.NewReplacer("COVER", "role = web", "cover where role = db",
		"cover where role = db and subnet = back", "SUBNETS", "front").Replace(places)
	if err := os.WriteFile(filepath.Join(folder, "a.nomos"), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	if r := call(t, folder, "check"); r.code != 0 || r.err != "" {
		t.Errorf("an end that stands elsewhere: %+v", r)
	}
	if r := call(t, folder, "check", "--rules"); !strings.Contains(r.out, "reach postgres at") ||
		strings.Contains(r.out, "admit postgres from 10.1.0.0/16") {
		t.Errorf("%s", r.out)
	}
}
