package cli_test

import (
	"bufio"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
)

// clouds runs the stand-in clouds of the demo estate until the test ends, and sets
// the variables by which they are found. It gives their folder and their token.
func clouds(t *testing.T) (folder, token string) {
	t.Helper()
	lookAtSource()
	folder = filepath.Join(t.TempDir(), "clouds")
	c := exec.Command(program, "sandbox", "run", folder)
	told, err := c.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = c.Process.Signal(syscall.SIGTERM)
		if err := c.Wait(); err != nil {
			t.Errorf("the stand-in ends with %v", err)
		}
	})
	line, err := bufio.NewReader(told).ReadString('\n')
	if err != nil || !strings.Contains(line, "serving easthold, northmere, westing at http://127.0.0.1:") {
		t.Fatal(line, err)
	}
	_, address, _ := strings.Cut(line, " at ")
	address, _, _ = strings.Cut(address, ";")
	secret, err := os.ReadFile(filepath.Join(folder, "token"))
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"northmere", "easthold", "westing"} {
		t.Setenv(strings.ToUpper(name)+"_URL", address+"/"+name)
		t.Setenv(strings.ToUpper(name)+"_TOKEN", string(secret))
	}
	return folder, string(secret)
}

// The clouds are surveyed as they are, faults or not; what can't be read is named and
// never taken for empty; commands look at them live; the token is shown nowhere.
func TestSurveyOfStandIns(t *testing.T) {
	sandbox, token := clouds(t)
	folder := harbour(t)
	var said []run
	say := func(code int, want string, args ...string) run {
		t.Helper()
		r := call(t, folder, args...)
		said = append(said, r)
		if r.code != code || !strings.Contains(r.out+r.err, want) {
			t.Fatalf("%v: exit %d\n%.2000s%s\nwant %d %s", args, r.code, r.out, r.err, code, want)
		}
		return r
	}
	say(0, "surveyed: 6 accounts, 47 groups, 171 rules, 59 instances", "survey", "--to", "live.jsonl.zst")
	say(0, "equal", "compare", "survey.jsonl", "live.jsonl.zst")
	say(0, "equal", "compare", "survey.jsonl", "live")
	say(0, "misbehave in 20 % of all requests", "sandbox", "fault", "--share", "0.2", "--seed", "7", "--kind", "500",
		"--kind", "drop", "--kind", "slow", "--kind", "stale", sandbox)
	say(0, "surveyed: 6 accounts", "survey", "--to", "live.jsonl", "--jobs", "3")
	say(0, "equal", "compare", "live.jsonl.zst", "live.jsonl")
	say(0, "behave", "sandbox", "fault", "--share", "0", sandbox)
	if file, live := fingerprints(
		call(t, folder, "audit", "--survey", "survey.jsonl", "--format", "json").out),
		fingerprints(call(t, folder, "audit", "--live", "--format", "json").out); len(file) == 0 ||
		!slices.Equal(file, live) {
		t.Errorf("an audit of the clouds finds %v, one of the survey %v", live, file)
	}
	if r := say(0, "surveyed: 2 accounts", "survey", "--account", "pilots", "--account",
		"customs"); strings.Count(r.out, `{"kind":"account"`) != 2 {
		t.Errorf("two accounts: %s", r.out)
	}
	say(2, `no account is called "pilot": "pilots" is near`, "survey", "--account", "pilot")
	say(2, `no cloud is called "westting": "westing" is near`, "survey", "--cloud", "westting")
	say(2, "--live and --survey contradict each other", "audit", "--live", "--survey", "survey.jsonl")
	// A cloud that does not answer is not an empty one.
	t.Setenv("WESTING_TOKEN", "wrong")
	say(3, "not read: customs (401 Unauthorized", "survey", "--to", "part.jsonl")
	say(3, "the answer is not whole: customs could not be read", "prove", "--survey", "part.jsonl", "--estate", ".")
	say(1, "the account customs was not read when this was surveyed (401 Unauthorized", "prove", "--survey",
		"part.jsonl", "--allow-unread", "customs")
	say(3, "medium    unread               customs", "audit", "--survey", "part.jsonl", "--fail-at", "never",
		"--check", "quota")
	say(3, `"unread": [`, "exposure", "--survey", "part.jsonl", "--format", "json")
	before := readTree(t, folder)["part.jsonl"]
	say(3, "nothing was written", "survey", "--cloud", "westing", "--to", "part.jsonl")
	if r := say(3, "nothing was written", "survey", "--cloud", "westing"); r.out != "" {
		t.Errorf("something was written: %s", r.out)
	}
	if readTree(t, folder)["part.jsonl"] != before {
		t.Error("a survey was replaced by nothing")
	}
	// Nor is one that answers and says nothing, or tells of another account.
	objects := ""
	odd := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/v1/whoami":
			fmt.Fprint(w, `{"dialect":"layered"}`)
		case "/v1/accounts":
			fmt.Fprint(w, `{"items":[{"kind":"account","name":"customs"}]}`)
		default:
			fmt.Fprintf(w, `{"items":[%s]}`, objects)
		}
	}))
	defer odd.Close()
	t.Setenv("WESTING_URL", odd.URL)
	for _, objects = range []string{"", `{"kind":"account","name":"tides","cloud":"westing"}`,
		`{"kind":"account","name":"customs","cloud":"westing"},{"kind":"account","name":"tides","cloud":"westing"}`} {
		say(3, "not read: customs (the answer is not about this account alone)", "survey", "--to",
			"part.jsonl")
	}
	t.Setenv("EASTHOLD_URL", "")
	say(3, "the environment variable EASTHOLD_URL, which has its address, is not set", "survey", "--to", "part.jsonl")
	for _, r := range said {
		if strings.Contains(r.out+r.err, token) {
			t.Error("the token is shown")
		}
	}
	for name, text := range readTree(t, folder) {
		if strings.Contains(text, token) {
			t.Errorf("the token is in %s", name)
		}
	}
}

// fingerprints are those of an audit's findings, sorted.
func fingerprints(text string) []string {
	var all []string
	for line := range strings.Lines(text) {
		if strings.Contains(line, `"fingerprint"`) {
			all = append(all, strings.TrimSpace(line))
		}
	}
	slices.Sort(all)
	return all
}
