package cli_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"isonomos/internal/golden"
	"isonomos/internal/inmemory"
)

// program is the built program, static as it ships.
var program string

func TestMain(m *testing.M) {
	flag.Parse()
	// Most of these tests wait for servers and clocks: more of them than there are processors can run
	// side by side.
	if err := flag.Set("test.parallel", strconv.Itoa(5*runtime.GOMAXPROCS(0))); err != nil {
		panic(err)
	}
	dir, err := os.MkdirTemp("", "isonomos-test-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "isonomos")
	build := exec.Command("go", "build", "-o", program, "isonomos/cmd/isonomos")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
		os.Exit(1)
	}
	if err := inmemory.Use(); err != nil { // the program stays where programs can be run
		panic(err)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// A run is what became of one call of the program.
type run struct {
	out, err string
	code     int
}

// lookAtSource opens the folders of the source, from within a test: the go tool
// runs tests again when what they opened has changed, and the program is built of it.
var lookAtSource = sync.OnceFunc(func() {
	filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() && strings.HasPrefix(d.Name(), ".") && path != ".." {
			return filepath.SkipDir
		}
		return err
	})
})

// call runs the program in a folder.
func call(t testing.TB, folder string, args ...string) run {
	t.Helper()
	return callWith(t, folder, "", args...)
}

func callWith(t testing.TB, folder, stdin string, args ...string) run {
	t.Helper()
	lookAtSource()
	c := exec.Command(program, args...)
	c.Dir = folder
	c.Stdin = strings.NewReader(stdin)
	c.Env = append(os.Environ(), "NO_COLOR=1")
	var out, err bytes.Buffer
	c.Stdout, c.Stderr = &out, &err
	failed := c.Run()
	var exit *exec.ExitError
	if failed != nil && !errors.As(failed, &exit) {
		t.Fatal(failed)
	}
	return run{out.String(), err.String(), c.ProcessState.ExitCode()}
}

// harbour lays the demo estate into a new folder.
func harbour(t testing.TB) string {
	t.Helper()
	folder := t.TempDir()
	if r := call(t, folder, "demo", "--only-files", "."); r.code != 0 {
		t.Fatal(r)
	}
	return folder
}

func asGolden(t *testing.T, name, got string) {
	t.Helper()
	golden.Check(t, filepath.Join("testdata", name), got)
}

// What each command says about the demo estate, to the letter.
func TestOnTheDemoEstate(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	survey := []string{"--survey", "survey.jsonl"}
	for _, x := range []struct {
		golden string
		code   int
		args   []string
	}{
		{"check.txt", 0, []string{"check"}},
		{"audit.txt", 1, append([]string{"audit"}, survey...)},
		{"audit.json", 1, append([]string{"audit", "--format", "json", "--check", "open-data-port"}, survey...)},
		{"audit-found.txt", 0, append(
			[]string{"audit", "--state", "found", "--check", "open-in-sum,wide-ports", "--fail-at", "never"},
			survey...)},
		{"audit-definitions.txt", 1, []string{"audit", "--check", "open-admin-port"}},
		{"trace-passes.txt", 0, append([]string{"trace", "192.0.2.77", "front-door", "https"}, survey...)},
		{"trace-stopped.txt", 1, append([]string{"trace", "gauge-1", "ledger-1", "berth-db"}, survey...)},
		{"trace.json", 1, append([]string{"trace", "192.0.2.77", "ledger-1", "tcp", "5432", "--format", "json"},
			survey...)},
		{"prove.txt", 1, append([]string{"prove"}, survey...)},
		{"prove-definitions.txt", 1, []string{"prove"}},
		{"check-rules.txt", 0, append([]string{"check", "--rules"}, survey...)},
		{"audit-by-folder.txt", 1, append([]string{"audit", "--by", "folder"}, survey...)},
		{"audit-by-control.txt", 1,
			append([]string{"audit", "--by", "control", "--over", "stage = production"}, survey...)},
		{"audit-why.txt", 0, append([]string{"audit", "--why", "6829ef96"}, survey...)},
		{"audit.csv", 1, append([]string{"audit", "--format", "csv", "--severity", "high"}, survey...)},
		{"audit.md", 1, append([]string{"audit", "--format", "md", "--severity", "high"}, survey...)},
		{"audit.junit.xml", 1, append([]string{"audit", "--format", "junit", "--fail-at", "high"}, survey...)},
		{"audit.sarif.json", 1, append([]string{"audit", "--format", "sarif", "--over", "account = tides"}, survey...)},
		{"audit-idle.txt", 1, append(
			[]string{"audit", "--check", "idle", "--flows", "flows.csv", "--over", "network = quay"}, survey...)},
		{"compare-equal.txt", 0, []string{"compare", ".", "."}},
		{"compare-by-hand.txt", 1, []string{"compare", "survey.jsonl", "."}},
		{"exposure.txt", 0, append([]string{"exposure"}, survey...)},
		{"exposure-matrix.txt", 0, append([]string{"exposure", "--matrix", "--over", "stage = production"}, survey...)},
		{"exposure-out.txt", 0, append(
			[]string{"exposure", "--direction", "out", "--to", "berth-ledger", "--from", "booking-site"}, survey...)},
		{"narrow.txt", 0, append(
			[]string{"narrow", "gauge-maintenance", "tide-desk", "broker", "radar", "rig", "berth-ledger", "--flows",
				"flows.csv"}, survey...)},
		{"narrow.json", 0, append([]string{"narrow", "traffic.nomos:21", "--flows", "flows.csv", "--format", "json"},
			survey...)},
		{"narrow-unseen.txt", 0, append([]string{"narrow", "gauge-maintenance"}, survey...)},
		{"narrow-all.txt", 0, append([]string{"narrow", "--all", "--flows", "flows.csv", "--limit", "3", "--curve"},
			survey...)},
		{"narrow-law.md", 0, append(
			[]string{"narrow", "--law", "shut-admin", "--flows", "flows.csv", "--lend", "--format", "md"}, survey...)},
		{"narrow-adopt.diff", 0,
			append([]string{"narrow", "wave-tank", "--flows", "flows.csv", "--keep", "imap from 192.0.2.0/28",
				"--diff"}, survey...)},
		{"adopt.txt", 0, append([]string{"adopt", "map", "ferry-site", "wave-tank"}, survey...)},
	} {
		r := call(t, folder, x.args...)
		if r.code != x.code {
			t.Errorf("%v: exit %d, want %d\n%s", x.args, r.code, x.code, r.err)
		}
		if r.err != "" && !strings.HasPrefix(x.golden, "exposure") && x.golden != "check-rules.txt" &&
			x.golden != "compare-equal.txt" {
			t.Errorf("%v: said on standard error: %s", x.args, r.err)
		}
		if strings.HasSuffix(x.golden, ".json") && !json.Valid([]byte(r.out)) {
			t.Errorf("%v: no JSON", x.args)
		}
		asGolden(t, x.golden, r.out)
	}
}

// The way of the work: the diff applies with git and patch, the finding is gone, the rest holds.
func TestNarrowedDiffApplies(t *testing.T) {
	t.Parallel()
	for _, tool := range [][]string{{"git", "apply"}, {"patch", "-p1", "--quiet"}} {
		if _, err := exec.LookPath(tool[0]); err != nil {
			t.Fatalf("%s is needed for this test: %v", tool[0], err)
		}
		folder, again := harbour(t), harbour(t)
		for _, x := range []string{folder, again} {
			// a name with blanks, which patch takes as one only with a tab behind it
			if err := os.Rename(filepath.Join(x, "tides.nomos"), filepath.Join(x, "the tides.nomos")); err != nil {
				t.Fatal(err)
			}
		}
		subjects := []string{"gauge-maintenance", "tide-desk", "broker", "radar", "rig", "berth-ledger",
			"forgotten-demo", "store-wall"}
		args := append([]string{"narrow", "--survey", "survey.jsonl", "--flows", "flows.csv", "--diff"}, subjects...)
		diff := call(t, folder, args...)
		if diff.code != 0 || diff.out == "" {
			t.Fatal(diff)
		}
		before := readTree(t, folder)
		apply := exec.Command(tool[0], tool[1:]...)
		apply.Dir, apply.Stdin = folder, strings.NewReader(diff.out)
		if out, err := apply.CombinedOutput(); err != nil {
			t.Fatalf("%v: %v\n%s\n%s", tool, err, out, diff.out)
		}
		const narrowed = "open-admin-port,open-data-port,open-inbound,open-outbound,one-family,open-in-sum,all-services,wide-ports"
		audit := call(t, folder, "audit", "--survey", "survey.jsonl", "--state", "defined", "--check", narrowed)
		if strings.Contains(audit.out, ".nomos:") {
			t.Errorf("after %v an audit still finds:\n%s", tool, audit.out)
		}
		// the built-in list stays
		if prove := call(t, folder, "prove", "--survey", "survey.jsonl", "--state",
			"defined"); strings.Count(prove.out, "BROKEN") != 1 ||
			!strings.Contains(prove.out, "customs/gate/default") || !strings.Contains(prove.out, "24 hold") {
			t.Errorf("after %v not everything holds:\n%s", tool, prove.out)
		}
		// The same, written in place.
		args[6] = "--write"
		args = append(args[:5], append([]string{"--write"}, subjects...)...)
		if r := call(t, again, args...); r.code != 0 {
			t.Fatal(r)
		}
		applied, written := readTree(t, folder), readTree(t, again)
		for name, text := range applied {
			if written[name] != text {
				t.Errorf("%s: --diff with %v and --write differ", name, tool)
			}
			if strings.Count(text, "#") != strings.Count(before[name], "#") {
				t.Errorf("%s: a comment is lost", name)
			}
		}
	}
}

// readTree reads the definition files of a folder.
func readTree(t *testing.T, folder string) map[string]string {
	t.Helper()
	files := make(map[string]string)
	names, _ := filepath.Glob(filepath.Join(folder, "*.nomos"))
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		files[filepath.Base(name)] = string(text)
	}
	return files
}

var (
	runNamed       = regexp.MustCompile(`\d{8}-\d{6}-[0-9a-f]{4}`)
	momentOfSurvey = regexp.MustCompile(`surveyed at 2\d{3}-\d\d-\d\d \d\d:\d\d UTC`)
	digestGiven    = regexp.MustCompile(`\b[0-9a-f]{64}\b`)
	duration       = regexp.MustCompile(`proved, in [0-9.]+m?s`)
)

var temporary = regexp.MustCompile(`saltmarsh-\d+`)

func TestDemo(t *testing.T) {
	folder := t.TempDir()
	r := call(t, folder, "demo", "harbour")
	if r.code != 0 {
		t.Fatal(r)
	}
	r.out = strings.ReplaceAll(r.out, filepath.Join(folder, "harbour"), "/home/user/harbour")
	r.out = momentOfSurvey.ReplaceAllString(r.out, "surveyed at 2026-11-23 06:00 UTC")
	r.out = digestGiven.ReplaceAllString(r.out, strings.Repeat("4c1a", 16))
	if id := passID.FindStringSubmatch(r.out); id != nil {
		r.out = strings.ReplaceAll(r.out, id[1], "7k2m9qxa")
	}
	r.out = regexp.MustCompile(`opened in [0-9.]+m?s`).ReplaceAllString(r.out, "opened in 60ms")
	r.out = regexp.MustCompile(`\d{4}-\d\d-\d\d \d\d:\d\d:\d\d UTC`).ReplaceAllString(r.out, "2026-11-23 06:00:00 UTC")
	r.out = regexp.MustCompile(`2\d{3}-\d\d-\d\dT\d\d:\d\d:\d\dZ`).ReplaceAllString(r.out, "2026-11-23T06:00:00Z")
	r.out = regexp.MustCompile(`by +\S+@\S+`).ReplaceAllString(r.out, "by        user@host")
	asGolden(t, "demo.txt", duration.ReplaceAllString(runNamed.ReplaceAllString(r.out, "20261123-060000-4c1a"),
		"proved, in 60ms"))
	if r := call(t, folder, "demo", "harbour"); r.code != 2 || !strings.Contains(r.err, "holds something already") {
		t.Errorf("a second demo into the same folder: %+v", r)
	}
	t.Setenv("TMPDIR", folder)
	if r := call(t, folder, "demo"); r.code != 0 || !temporary.MatchString(r.out) {
		t.Errorf("demo without a folder: exit %d", r.code)
	}
}

// Wrong use and wrong input: one clear message, the right exit code, nothing written.
func TestWrongUse(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	survey, err := os.ReadFile(filepath.Join(folder, "survey.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.SplitAfter(string(survey), "\n")
	lines[6] = "{\"kind\":\"subnet\",\n"
	write("broken.jsonl", strings.Join(lines, ""))
	write("columns.csv", "start,src,dst,protocol,port\n")
	write("empty.csv", "")
	for _, sub := range []string{".binary", "none", ".mistake", ".mistake2"} {
		if err := os.Mkdir(filepath.Join(folder, sub), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	write(".binary/x.nomos", "\x7fELF\x00\x01\x02")
	write(".mistake/x.nomos", "account a { cloud nowhere }\n")
	write(".mistake2/x.nomos", "group x in {\n}\n")
	before := readTree(t, folder)
	for _, x := range []struct {
		args string
		code int
		want string // the message, or its beginning
	}{
		{"audti", 2, `there is no command "audti": "audit" is near`},
		{"audit --fial-at low", 2, "isonomos audit has no flag --fial-at: --fail-at is near"},
		{"audit --fail-at hihg", 2, `the value "hihg" does not fit the flag --fail-at: "high" is near`},
		{"audit --survey", 2, "the flag --survey needs a value"},
		{"audit --check open-admin", 2, `there is no check "open-admin": "open-admin-port" is near`},
		{"audit extra", 2, `audit takes no argument "extra"`},
		{"audit --state found", 2,
			"what was found can't be judged without a survey: name one with --survey FILE, or --live"},
		{"check nowhere", 3, "there is no file or folder nowhere"},
		{"check none", 2, "there are no definitions (*.nomos) in none"},
		{"check .binary", 2, "1 mistake in the definitions"},
		{"check .mistake", 2, "1 mistake in the definitions"},
		{"check survey.jsonl", 2, "survey.jsonl is neither a folder nor a file of definitions"},
		{"audit --survey nowhere.jsonl", 3, "there is no file nowhere.jsonl"},
		{"audit --survey none", 2, "none is a folder, and a file belongs here"},
		{"audit --survey broken.jsonl", 2, "broken.jsonl:7: the line is not JSON"},
		{"audit --survey empty.csv", 2, "empty.csv is empty"},
		{"audit --survey flows.csv", 2, "flows.csv:1: the line is not JSON"},
		{"trace booking-1 ledger-1 https", 2,
			`there is no instance called "booking-1": definitions name no instances: give a survey with --survey FILE`},
		{"trace booking-1 ledger-1", 2, "trace needs a source, a destination and a service"},
		{"trace --survey survey.jsonl boking-1 ledger-1 https", 2,
			`there is no instance called "boking-1": booking-1, booking-2, booking-3 are near`},
		{"trace --survey survey.jsonl booking-1 ledger-1 htps", 2,
			`no service is called "htps": "https" (tcp 443) is near`},
		{"trace --survey survey.jsonl booking-1 ledger-1 443", 2, "a port needs its protocol: tcp 443 or udp 443"},
		{"trace --survey survey.jsonl booking-1 ledger-1 tcp 1-9", 2, "tcp 1-9 is more than one service"},
		{"trace --survey survey.jsonl booking-1 ledger-1 dns", 2, "dns stands for tcp 53, udp 53: ask for one of them"},
		{"trace --survey survey.jsonl booking-1 ledger-1 https --source-port 70000", 2,
			`the value "70000" does not fit the flag --source-port: a port goes from 0 to 65535`},
		{"trace --survey survey.jsonl booking-1 ledger-1 any", 2, "any is more than one service, and a flow has one"},
		{"trace --survey survey.jsonl 192.0.2.1 198.51.100.9 https", 2,
			"neither 192.0.2.1 nor 198.51.100.9 is on an interface"},
		{"prove extra", 2, `prove takes no argument "extra"`},
		{"exposure", 2, "definitions name no instances"},
		{"exposure --survey survey.jsonl --from nobdy", 2, `there is no list, instance or group called "nobdy"`},
		{"exposure --survey survey.jsonl --matrix --format json", 2, "--matrix is a table for reading"},
		{"trace --survey survey.jsonl --batch nowhere", 3, "there is no file nowhere"},
		{"trace --survey - --batch -", 2, "--survey and --batch can't both be standard input"},
		{"compare survey.jsonl", 2, "compare takes two states"},
		{"compare survey.jsonl nowhere", 3, "there is no file or folder nowhere"},
		{"compare survey.jsonl none", 2, "there are no definitions (*.nomos) in none"},
		{"compare . flows.csv", 2, "flows.csv:1: the line is not JSON"},
		{"narrow", 2, "narrow needs a group, FILE:LINE"},
		{"narrow gauge-maintenence", 2, `no group is called "gauge-maintenence": "gauge-maintenance" is near`},
		{"narrow default --survey survey.jsonl", 2, `several groups are called "default"`},
		{"narrow tides.nomos:50", 2, "no rule begins at tides.nomos:50: rules near it begin at line 51"},
		{"narrow broker --flows columns.csv", 2, `columns.csv:1: the header has no column "dst_port"`},
		{"narrow broker --flows empty.csv", 2, "empty.csv is empty"},
		{"narrow broker --flows nowhere.csv", 3, "there is no file nowhere.csv"},
		{"narrow broker --diff --format json", 2, "--diff is a format of its own"},
		{"narrow broker --all", 2, "groups and rules by name, --law, --findings, --all and --across are different"},
		{"narrow --all --check open-admin", 2, `there is no check "open-admin": "open-admin-port" is near`},
		{"narrow --law shut-admn", 2, `there is no check "law:shut-admn": "law:shut-admin" is near`},
		{"narrow broker --weight strangers=2", 2,
			`--weight "strangers=2": there is no weight "strangers": "stranger" is near`},
		{"narrow broker --keep ssh", 2, `--keep "ssh": it does not say who: write "ssh from 203.0.113.201"`},
		{"narrow broker --keep operatorz", 2, `--keep "operatorz": nothing is called "operatorz": "operators" is near`},
		{"narrow broker --window 14", 2, `--window "14" is neither a number of days`},
		{"narrow broker --window 14d", 2, "--window picks from evidence, and there is none"},
		{"narrow broker --flows flows.csv --column dest=x", 2,
			`--column "dest=x": there is no column "dest" of ours, "dst" is near`},
		{"narrow broker --flows survey.jsonl", 2, "none of 318 records of survey.jsonl can be read"},
		{"narrow broker --table flows --query x", 2, "--table and --query contradict each other"},
		{"narrow broker --table flows --database postgres://u:hush@h/d", 2, "--database holds a password"},
		{"narrow broker --store tides.nomos", 3, "the store tides.nomos can't be used: it is not a store of this program"},
		{"flows ad", 2, `flows can't "ad": it can add, show and forget`},
		{"flows add", 2, "flows add needs files, or a table"},
		{"flows show", 2, "there is no store isonomos.db yet"},
		{"flows forget", 2, "flows forget needs to be told what"},
		{"flows forget 1", 2, "there is no store isonomos.db: there is nothing to forget"},
		{"adopt wave-tank", 2, "adopt needs a survey"},
		{"survey tides", 2, `survey takes no argument "tides"`},
		{"survey --jobs 0", 2, ""},
		{"sandbox run", 2, "sandbox run needs one folder for the clouds' state: isonomos sandbox run clouds"},
		{"sandbox run --listen 0.0.0.0:0 .clouds", 2, `--listen "0.0.0.0:0" is not an address of this machine alone`},
		{"sandbox run --survey tides.nomos .clouds2", 2, "tides.nomos holds definitions"},
		{"sandbox fault", 2, "sandbox fault needs one folder of stand-in clouds: isonomos sandbox fault clouds"},
		{"sandbox fault none", 2, "there are no stand-in clouds in none"},
		{"adopt --survey survey.jsonl", 2, "adopt needs groups, or --all"},
		{"adopt wave-tankk --survey survey.jsonl", 2, `no group is called "wave-tankk": "wave-tank" is near`},
		{"adopt rig --survey survey.jsonl", 2, "lab/bench/rig is defined already, at lab.nomos:8"},
		{"tidy nowhere", 3, "there is no file or folder nowhere"},
		{"tidy none", 2, "there are no definitions"},
		{"tidy .mistake2 tides.nomos", 2, "nothing was tidied: mend 1 mistake first"},
		{"explain lendd", 2, `nothing is known of "lendd": near are lend`},
		{"explain xyzzyplugh", 2, `nothing is known of "xyzzyplugh"`},
		{"demo tides.nomos", 3, "tides.nomos can't be written"},
	} {
		r := call(t, folder, strings.Fields(x.args)...)
		last := r.err[strings.LastIndexByte(strings.TrimRight(r.err, "\n"), '\n')+1:]
		if r.code != x.code || !strings.HasPrefix(last, "isonomos: "+x.want) {
			t.Errorf("%s\n got %d %swant %d %s", x.args, r.code, r.err, x.code, x.want)
		}
		if r.out != "" {
			t.Errorf("%s: something on standard output: %s", x.args, r.out)
		}
	}
	for name, text := range readTree(t, folder) {
		if before[name] != text {
			t.Errorf("%s was written", name)
		}
	}
}

// A file that may not be written stays as it is, and so do the others.
func TestWriteIsAllOrNothing(t *testing.T) {
	t.Parallel()
	if os.Geteuid() == 0 {
		t.Log("as root nothing is forbidden: a folder stands in for a file that can't be written")
	}
	folder := harbour(t)
	link := filepath.Join(folder, "tides.nomos")
	real := filepath.Join(folder, "kept", "tides.txt")
	if err := os.Mkdir(filepath.Dir(real), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(link, real); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(real, link); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(real, 0o640); err != nil {
		t.Fatal(err)
	}
	r := call(t, folder, "narrow", "gauge-maintenance", "--survey", "survey.jsonl", "--flows", "flows.csv", "--write",
		"--format", "json")
	if r.code != 0 {
		t.Fatal(r)
	}
	info, err := os.Lstat(link)
	if err != nil || info.Mode()&os.ModeSymlink == 0 {
		t.Error("the link is no link any more")
	}
	text, err := os.ReadFile(real)
	if err != nil || !strings.Contains(string(text), "admit ssh from list pilot-stations") {
		t.Error("the file behind the link was not written")
	}
	if info, _ := os.Stat(real); info.Mode().Perm() != 0o640 {
		t.Errorf("the mode became %v", info.Mode())
	}
}

func TestInputsFromStandardInputAndCompressed(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	survey, err := os.ReadFile(filepath.Join(folder, "survey.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	want := call(t, folder, "audit", "--check", "open-admin-port", "--survey", "survey.jsonl")
	if got := callWith(t, folder, string(survey), "audit", "--check", "open-admin-port", "--survey",
		"-"); strings.ReplaceAll(got.out, "--survey -", "--survey survey.jsonl") != want.out {
		t.Error("a survey from standard input is read differently")
	}
	if out, err := exec.Command("gzip", filepath.Join(folder, "survey.jsonl")).CombinedOutput(); err != nil {
		t.Fatal(err, string(out))
	}
	if got := call(t, folder, "audit", "--check", "open-admin-port", "--survey",
		"survey.jsonl.gz"); strings.ReplaceAll(got.out, "survey.jsonl.gz", "survey.jsonl") != want.out {
		t.Error("a packed survey is read differently")
	}
	cut := filepath.Join(folder, "cut.gz")
	packed, _ := os.ReadFile(filepath.Join(folder, "survey.jsonl.gz"))
	if err := os.WriteFile(cut, packed[:len(packed)/2], 0o644); err != nil {
		t.Fatal(err)
	}
	if r := call(t, folder, "audit", "--survey", "cut.gz"); r.code != 2 || !strings.Contains(r.err, "cut.gz:") {
		t.Errorf("a cut survey: %+v", r)
	}
}

// Hostile names come out harmless.
func TestOutputIsCleaned(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	survey, err := os.ReadFile(filepath.Join(folder, "survey.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	hostile := strings.ReplaceAll(string(survey), `"name":"gauge-3"`, `"name":"gauge\u001b]0;owned\u0007\u202e-3"`)
	if err := os.WriteFile(filepath.Join(folder, "hostile.jsonl"), []byte(hostile), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"audit", "--survey", "hostile.jsonl"},
		{"trace", "--survey", "hostile.jsonl", "192.0.2.1", "10.20.2.13", "ssh"}} {
		r := call(t, folder, args...)
		if strings.ContainsAny(r.out+r.err, "\x1b\x07\u202e") || !strings.Contains(r.out, "gauge·]0;owned··-3") {
			t.Errorf("%v: %q", args, r.out)
		}
	}
}

func TestHelpAndVersion(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	if r := call(t, folder, "--version"); r.code != 0 || !strings.Contains(r.out, "isonomos dev (revision ") {
		t.Errorf("%+v", r)
	}
	asGolden(t, "help.txt", call(t, folder).out)
	for _, command := range []string{"demo", "check", "tidy", "audit", "exposure", "trace", "prove", "survey",
		"flows", "flows add", "flows show", "flows forget", "narrow", "adopt", "compare", "draft", "enact", "repeal",
		"explain", "sandbox", "sandbox generate", "sandbox run", "sandbox fault"} {
		r := call(t, folder, append(strings.Fields(command), "--help")...)
		if r.code != 0 || !strings.Contains(r.out, "usage: isonomos "+command) ||
			!strings.Contains(r.out, "  isonomos "+command) {
			t.Errorf("%s --help: %+v", command, r)
		}
		for _, line := range strings.Split(r.out, "\n") {
			if len(line) > 110 {
				t.Errorf("%s --help has a line of %d columns: %s", command, len(line), line)
			}
		}
	}
}

// help COMMAND says what COMMAND --help says.
func TestHelpOfACommand(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	for _, command := range []string{"audit", "sandbox"} {
		if a, b := call(t, folder, "help", command), call(t, folder, command, "--help"); a.out != b.out || a.code != 0 {
			t.Errorf("help %s: exit %d\n%s", command, a.code, a.out)
		}
	}
	if r := call(t, folder, "sandbox"); r.code != 0 || !strings.Contains(r.out, "generate ") {
		t.Errorf("%+v", r)
	}
}

// The examples in help work on the demo estate, as far as they read files that are part of it.
func TestExamplesInHelp(t *testing.T) {
	t.Parallel()
	folder, path := harbour(t), onPath(t)
	elsewhere := regexp.MustCompile(`\.(csv\.gz|json|zst|txt)\b|live|--write|--database|harbour/|old/|monday`)
	broken := regexp.MustCompile(` \\\n +`) // a command that is wider than the window
	ran := 0
	for _, command := range []string{"check", "tidy", "audit", "exposure", "trace", "prove", "narrow", "adopt",
		"compare", "explain"} {
		help := broken.ReplaceAllString(call(t, folder, append(strings.Fields(command), "--help")...).out, " ")
		for line := range strings.Lines(help) {
			if !strings.HasPrefix(line, "  isonomos ") || elsewhere.MatchString(line) {
				continue
			}
			if code, out := paste(t, folder, path, line); code > 1 {
				t.Errorf("exit %d: %s%s", code, line, out)
			}
			ran++
		}
	}
	if ran < 20 {
		t.Errorf("only %d examples were run", ran)
	}
}

// What is written as JSON is as its published schema says.
func TestJSONIsAsPublished(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	if r := call(t, folder, "flows", "add", "flows.csv"); r.code != 0 {
		t.Fatal(r)
	}
	for schema, args := range map[string][]string{
		"definitions": {"check", "--rules"},
		"findings":    {"audit"},
		"trace":       {"trace", "192.0.2.77", "front-door", "https"},
		"exposure":    {"exposure"},
		"proof":       {"prove"},
		"proposals":   {"narrow", "radar", "berth-ledger", "gauge-maintenance", "--flows", "flows.csv"},
		"flows":       {"flows", "show"},
		"joints":      {"narrow", "--across"},
	} {
		compiled, err := jsonschema.NewCompiler().Compile(filepath.Join("..", "docs", "schemas", schema+".json"))
		if err != nil {
			t.Fatal(err)
		}
		args = append(args, "--format", "json")
		if schema != "definitions" {
			args = append(args, "--survey", "survey.jsonl")
		}
		r := call(t, folder, args...)
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(r.out))
		if err != nil {
			t.Fatal(err)
		}
		if err := compiled.Validate(value); err != nil {
			t.Errorf("%v: %v", args, err)
		}
	}
}

func TestTidy(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	if r := call(t, folder, "tidy", "--list"); r.code != 0 || r.out != "" {
		t.Fatalf("the demo estate is untidy: %s", r.out)
	}
	untidy := "expect   internet cannot reach operators  # at\n\n\n\n# all"
	path := filepath.Join(folder, "untidy.nomos")
	if err := os.WriteFile(path, []byte(untidy), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := call(t, folder, "tidy", "--list"); r.code != 1 || r.out != "untidy.nomos\n" {
		t.Errorf("--list: %+v", r)
	}
	diff := call(t, folder, "tidy", "--diff", "untidy.nomos")
	if diff.code != 1 || !strings.Contains(diff.out, "+expect internet cannot reach operators  # at\n") {
		t.Errorf("--diff: %+v", diff)
	}
	if text, _ := os.ReadFile(path); string(text) != untidy {
		t.Error("--list or --diff wrote the file")
	}
	before := call(t, folder, "check", "--format", "json").out
	if r := call(t, folder, "tidy"); r.code != 0 || r.err != "isonomos: tidied untidy.nomos\n" {
		t.Errorf("in place: %+v", r)
	}
	text, _ := os.ReadFile(path)
	info, _ := os.Stat(path)
	if string(text) != "expect internet cannot reach operators  # at\n\n# all\n" || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %q", info.Mode(), text)
	}
	if after := call(t, folder, "check", "--format", "json").out; after != before {
		t.Error("tidying changed what the definitions mean")
	}
	if r := call(t, folder, "tidy"); r.code != 0 || r.err != "" {
		t.Errorf("twice: %+v", r)
	}
}

// Everything that explain lists can be asked for.
func TestExplain(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	list := call(t, folder, "explain")
	if list.code != 0 {
		t.Fatal(list)
	}
	asGolden(t, "explain.txt",
		call(t, folder, "explain", "connect").out+"\n"+call(t, folder, "explain", "open-admin-port").out+"\n"+
			call(t, folder, "explain", "no group is called \"boking\"").out)
	asked := 0
	for _, word := range regexp.MustCompile(`[a-z][a-z0-9-]+`).FindAllString(list.out, -1) {
		switch word {
		case "keyword", "check", "message", "codes", "dialect", "service":
			continue
		}
		if asked++; asked%7 != 0 { // a sample: each is a run of the program
			continue
		}
		if r := call(t, folder, "explain", word); r.code != 0 || len(r.out) < 20 {
			t.Errorf("explain %s: %+v", word, r)
		}
	}
}

// check says what goes over quota, and that is no success.
func TestOverQuota(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	var b strings.Builder
	b.WriteString("cloud c { dialect union }\naccount a { cloud c }\nnetwork n in a { range 10.0.0.0/8 }\ngroup " +
		"g in n \"G\" {\n")
	for i := range 65 {
		fmt.Fprintf(&b, "  admit tcp %d from self\n", 2*i)
	}
	b.WriteString("}\n")
	if err := os.WriteFile(filepath.Join(folder, "x.nomos"), []byte(b.String()), 0o644); err != nil {
		t.Fatal(err)
	}
	if r := call(t, folder, "check"); r.code != 1 ||
		!strings.Contains(r.err, "over quota: a/n/g takes 65 rules inward and 0 outward, and 64 is the most") ||
		!strings.Contains(r.out, "65!") {
		t.Errorf("%+v", r)
	}
}

// A balancer that can't ask whether its targets are well takes them out of
// service, so check warns before the definitions are carried out.
func TestShutProbes(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	const gate = "isonomos: customs/gate/gate-door shuts out the health probes of gate-door: it needs a rule " +
		"such as reach tcp 8443 at the targets (gateway-1, gateway-2)\n"
	if r := call(t, folder, "check", "--survey", "survey.jsonl"); r.code != 0 || r.err != gate {
		t.Errorf("on the demo estate: %+v", r)
	}
	pilots := filepath.Join(folder, "pilots.nomos")
	text, err := os.ReadFile(pilots)
	if err != nil {
		t.Fatal(err)
	}
	var kept []string
	for line := range strings.Lines(string(text)) {
		if !strings.Contains(line, "from probes") && !strings.Contains(line, "roster-door because") {
			kept = append(kept, line)
		}
	}
	if err := os.WriteFile(pilots, []byte(strings.Join(kept, "")), 0o644); err != nil {
		t.Fatal(err)
	}
	want := "isonomos: pilots/desks/roster-site shuts out the health probes of roster-door: it needs a rule such " +
		"as admit tcp 443 from probes (roster-1, roster-2)\n" + gate
	if r := call(t, folder, "check", "--survey", "survey.jsonl"); r.code != 0 || r.err != want {
		t.Errorf("exit %d, %s", r.code, r.err)
	}
	if r := call(t, folder, "check"); r.err != "" {
		t.Errorf("without a survey there are no balancers: %s", r.err)
	}
}

// What can't be read for want of permission, or is a loop of links, is said so with its name.
func TestUnreadable(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	if err := os.Symlink("loop.jsonl", filepath.Join(folder, "loop.jsonl")); err != nil {
		t.Fatal(err)
	}
	if r := call(t, folder, "audit", "--survey", "loop.jsonl"); r.code != 3 ||
		!strings.HasPrefix(r.err, "isonomos: file loop.jsonl can't be read: ") || strings.Count(r.err, "\n") != 1 {
		t.Errorf("a loop: %+v", r)
	}
	if os.Geteuid() == 0 {
		return // to root nothing is forbidden
	}
	if err := os.Chmod(filepath.Join(folder, "survey.jsonl"), 0); err != nil {
		t.Fatal(err)
	}
	if r := call(t, folder, "audit", "--survey", "survey.jsonl"); r.code != 3 ||
		!strings.Contains(r.err, "permission denied") {
		t.Errorf("forbidden: %+v", r)
	}
}

// A reader that goes away ends the program quietly.
func TestClosedPipe(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	for _, args := range []string{"audit --survey survey.jsonl", "exposure --survey survey.jsonl --format json",
		"check --rules"} {
		c := exec.Command("sh", "-c", "\""+program+"\" "+args+" | :")
		c.Dir = folder
		if out, err := c.CombinedOutput(); err != nil || strings.Contains(string(out), "pipe") {
			t.Errorf("%s: %v %s", args, err, out)
		}
	}
}

// Between two surveys what is attached to instances counts too, and groups come and go.
func TestCompareSurveys(t *testing.T) {
	t.Parallel()
	const head = `{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z"}
{"kind":"cloud","name":"northmere","dialect":"union"}
{"kind":"account","name":"tides","cloud":"northmere"}
{"kind":"network","account":"tides","id":"quay","ranges":["10.20.0.0/16"]}
{"kind":"subnet","account":"tides","network":"quay","id":"front","ranges":["10.20.1.0/24"]}
{"kind":"group","account":"tides","network":"quay","id":"staff"}
{"kind":"rule","account":"tides","group":"staff","id":"r1","direction":"in","peers":["192.0.2.0/24"],"services":["tcp 22"]}
`
	const site = `{"kind":"group","account":"tides","network":"quay","id":"site"}
{"kind":"rule","account":"tides","group":"site","id":"r2","direction":"in","peers":["anything"],"services":["tcp 443"]}
`
	instance := func(groups string) string {
		return `{"kind":"instance","account":"tides","id":"gauge","interfaces":[{"id":"f","subnet":"front","private":["10.20.1.5"],"groups":[` + groups + `]}]}` + "\n"
	}
	folder := t.TempDir()
	for name, text := range map[string]string{
		"staff.jsonl": head + site + instance(`"staff"`),
		"site.jsonl":  head + site + instance(`"site"`),
		"both.jsonl":  head + site + instance(`"site","staff"`),
		"less.jsonl":  head + instance(`"staff"`),
	} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	var told strings.Builder
	for _, pair := range [][2]string{{"staff", "site"}, {"staff", "both"}, {"both", "staff"}, {"less", "both"},
		{"both", "less"}, {"both", "both"}} {
		r := call(t, folder, "compare", pair[0]+".jsonl", pair[1]+".jsonl")
		if equal := pair[0] == pair[1]; equal != (r.code == 0) || r.err != "" {
			t.Errorf("%v: exit %d, %s", pair, r.code, r.err)
		}
		told.WriteString("compare " + pair[0] + " " + pair[1] + "\n" + r.out + "\n")
	}
	asGolden(t, "compare-attached.txt", told.String())
}

func TestBatch(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	questions := "# by hand\nbooking-1 ledger-1 tcp 5432\n\n192.0.2.1 gauge-3 tcp 22 40000\nbooking-1 nobody tcp " +
		"1\nbooking-1 ledger-1 icmp 8/0\nbooking-1 ledger-1 47 -\nbooking-1 ledger-1 tcp -\nx\n192.0.2.1 gauge-3 " +
		"tcp 22 x\n"
	r := callWith(t, folder, questions, "trace", "--survey", "survey.jsonl", "--batch", "-")
	var verdicts []string
	for line := range strings.Lines(r.out) {
		var answer struct{ Verdict string }
		if err := json.Unmarshal([]byte(line), &answer); err != nil {
			t.Fatal(err, line)
		}
		verdicts = append(verdicts, answer.Verdict)
	}
	if got := strings.Join(verdicts, " "); r.code != 2 ||
		got != "passes passes invalid stopped stopped invalid invalid invalid" {
		t.Errorf("exit %d: %s", r.code, got)
	}
}

// What was narrowed shows as traffic that closes, in every format, and so does what it is compared with.
func TestCompare(t *testing.T) {
	t.Parallel()
	before, after := harbour(t), harbour(t)
	if r := call(t, after, "narrow", "gauge-maintenance", "broker", "--survey", "survey.jsonl", "--flows",
		"flows.csv", "--write"); r.code != 0 {
		t.Fatal(r)
	}
	parent := t.TempDir()
	for name, folder := range map[string]string{"before": before, "after": after} {
		if err := os.Symlink(folder, filepath.Join(parent, name)); err != nil {
			t.Fatal(err)
		}
	}
	for name, args := range map[string][]string{
		"compare.txt":        {"compare", "before/", "after/", "--survey", "before/survey.jsonl"},
		"compare.md":         {"compare", "before/", "after/", "--survey", "before/survey.jsonl", "--format", "md"},
		"compare.json":       {"compare", "before/", "after/", "--survey", "before/survey.jsonl", "--format", "json"},
		"compare-survey.txt": {"compare", "before/survey.jsonl", "after/"},
	} {
		r := call(t, parent, args...)
		if r.code != 1 || r.err != "" {
			t.Errorf("%v: exit %d, %s", args, r.code, r.err)
		}
		asGolden(t, name, r.out)
	}
	if r := call(t, parent, "compare", "before/", "before/"); r.code != 0 ||
		!strings.Contains(r.out, "equal: both let through the same") {
		t.Errorf("with itself: %+v", r)
	}
}

// What a cloud can't express is a mistake with its place and reason.
func TestNotToBeExpressed(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	text := "cloud c { dialect union }\naccount a { cloud c }\nnetwork n in a { range 10.0.0.0/8 }\ngroup g in n " +
		"\"G\" {\n  cover instance a\n  refuse ssh from 10.0.0.0/9\n  admit any from h\n}\ngroup h in n \"H\" { " +
		"cover instance b }\n"
	if err := os.WriteFile(filepath.Join(folder, "x.nomos"), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	r := call(t, folder, "check")
	want := "x.nomos:7: a/n/g: a rule of the cloud c can't take addresses away from the members of a group " +
		"(group h), as whoever joins it may have them: name ranges, subnets or a list\nisonomos: 1 group can't " +
		"be expressed in its cloud\n"
	if r.code != 2 || r.err != want {
		t.Errorf("%+v", r)
	}
}

// Of very many mistakes, such as in a folder that holds several estates, the first are
// told, and how many more there are.
func TestManyMistakes(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	for file := range 5 {
		var b strings.Builder
		if file == 0 {
			b.WriteString("estate e\ncloud c { dialect union }\naccount a { cloud c }\nnetwork n in a { range " +
				"10.0.0.0/16 }\n")
		}
		for k := range 40 {
			fmt.Fprintf(&b, "group g%d-%d in n { cover where role = r\n admit ssh from nobody%d }\n", file, k, k)
		}
		if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("f%d.nomos", file)), []byte(b.String()),
			0o600); err != nil {
			t.Fatal(err)
		}
	}
	r := call(t, folder, "check")
	if r.code != 2 || !strings.Contains(r.err, "200 mistakes in the definitions") ||
		!strings.Contains(r.err, "100 more messages: mend these first") || strings.Count(r.err, ".nomos:") != 100 {
		t.Errorf("exit %d, %d told: %.2000s", r.code, strings.Count(r.err, ".nomos:"), r.err)
	}
}
