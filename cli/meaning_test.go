package cli_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"isonomos/cloud/standin"
	"isonomos/core/dialect"
	"isonomos/internal/abstract"
	"isonomos/store"
)

var enacted = flag.Int("enacted", 4,
	"random estates of each dialect that are carried out, changed, and carried out again")

// What somebody else has in the cloud, which must stay as it is.
const foreign = `{"kind":"group","account":"a","network":"n1","id":"theirs","name":"theirs","description":"not ours"}
{"kind":"rule","account":"a","group":"theirs","id":"theirs-1","rank":7,"direction":"in","action":"admit","peers":["192.0.2.1/32"],"services":["tcp 9"]}
{"kind":"group","account":"a","network":"n2","id":"others","name":"others","labels":{"isonomos":"elsewhere"}}
`

// Definitions made by chance, carried out in a stand-in, then others in the same places:
// each time the cloud lets through what the definitions mean, by readings that share no code
// with the program's; a second draft has nothing to do; what is not ours stays.
func TestWhatIsDefinedIsEnacted(t *testing.T) {
	t.Parallel()
	for _, name := range dialect.Names() {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			random := rand.New(rand.NewPCG(5, uint64(len(name))))
			done, decided := 0, 0
			for done < *enacted {
				a := abstract.Random(random, name, random.IntN(4) > 0)
				h := standsIn(t, a)
				before := foreignLines(t, h)
				for round := range 3 {
					if round > 0 {
						a = a.Others(random, random.IntN(4) > 0)
					}
					h.write(filepath.Join(h.folder, "play.nomos"), a.Definitions())
					code, out := h.run("draft")
					if code == 2 || code == 4 && strings.Contains(out, "no safe order") ||
						strings.Contains(out, "stops this connect") {
						continue // by chance, it can't be expressed, or contradicts itself
					}
					if code != 0 {
						t.Fatalf("draft: exit %d %s\n%s", code, out, a.Definitions())
					}
					if !strings.Contains(out, "nothing to do") {
						if code, out = h.run("enact", "--allow-gaps"); code != 0 {
							t.Fatalf("enact: exit %d %s\n%s\n%s", code, out, a.Definitions(), a.Survey())
						}
					}
					if code, out = h.run("draft", "--to", "again.json"); code != 0 ||
						!strings.Contains(out, "nothing to do") {
						t.Fatalf("a second draft: exit %d %s\n%s", code, out, a.Definitions())
					}
					state, err := os.Open(filepath.Join(h.clouds, standin.StateFile))
					if err != nil {
						t.Fatal(err)
					}
					e, _, err := store.ReadSurvey(state, "state")
					state.Close()
					if err != nil {
						t.Fatal(err)
					}
					n, wrong := a.Compare(e, 1500, random)
					if wrong != "" {
						t.Fatalf("round %d: %s\n%s\n%s", round, wrong, a.Definitions(), a.Survey())
					}
					if after := foreignLines(t, h); !slices.Equal(before, after) {
						t.Fatalf("what is not ours was\n%s\nand is\n%s", strings.Join(before, "\n"),
							strings.Join(after, "\n"))
					}
					decided += n
					done++
				}
			}
			t.Logf("%d times carried out, %d decisions", done, decided)
		})
	}
}

// standsIn are definitions and a stand-in of the cloud that they are for.
func standsIn(t *testing.T, a *abstract.Estate) *harbourmaster {
	t.Helper()
	others := foreign
	if a.Dialect == "flat" {
		others = strings.NewReplacer(`"network":"n1",`, "", `"network":"n2",`, "").Replace(others)
	}
	if a.Dialect != "ranked" {
		others = strings.ReplaceAll(others, `"rank":7,`, "")
	}
	return serving(t, a.Survey()+others)
}

// serving is a stand-in of a cloud c with what a survey tells.
func serving(t *testing.T, survey string) *harbourmaster {
	t.Helper()
	lookAtSource()
	h := &harbourmaster{t: t, clouds: t.TempDir(), folder: t.TempDir()}
	h.write(filepath.Join(h.clouds, standin.StateFile), survey)
	var err error
	if h.server, err = standin.Open(h.clouds); err != nil {
		t.Fatal(err)
	}
	web := httptest.NewServer(h.server)
	t.Cleanup(web.Close)
	secret, err := os.ReadFile(filepath.Join(h.clouds, standin.TokenFile))
	if err != nil {
		t.Fatal(err)
	}
	h.env = append(os.Environ(), "NO_COLOR=1", "C_URL="+web.URL+"/c", fmt.Sprintf("C_TOKEN=%s", secret))
	return h
}

// foreignLines are the lines of the state about what is not ours.
func foreignLines(t *testing.T, h *harbourmaster) []string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(h.clouds, standin.StateFile))
	if err != nil {
		t.Fatal(err)
	}
	var lines []string
	for line := range strings.Lines(string(text)) {
		if strings.Contains(line, "theirs") || strings.Contains(line, `"others"`) ||
			strings.Contains(line, `"built_in"`) {
			var whole map[string]any
			if err := json.Unmarshal([]byte(line), &whole); err != nil {
				t.Fatal(err)
			}
			if whole["kind"] == "group" && whole["for"] == nil {
				whole["for"] = "instances"
			}
			lines = append(lines, fmt.Sprint(whole))
		}
	}
	slices.Sort(lines)
	return lines
}

// Small changes that once stopped half-way or were never seen: each is carried out, and then
// nothing is left to do.
func TestChangesThatAreEasilyStopped(t *testing.T) {
	t.Parallel()
	const g = `group g in n1 {
  cover where role = g
  admit https from 192.0.2.0/24
  admit ssh from self
}
`
	for folder, more := range map[string][]string{
		"r9":       {""},    // an explicit default list makes way
		"r10":      {g, ""}, // a group that is gone is followed no more
		"r12":      {g, ""}, // nor left on its interface
		"r13":      {g, ""}, // nor kept by what followed it
		"r15":      {"", g}, // flat clouds take rules together
		"r2/flat2": {""},
	} {
		t.Run(folder, func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile(filepath.Join("testdata", "defining", folder, "a.nomos"))
			if err != nil {
				t.Fatal(err)
			}
			survey, err := os.ReadFile(filepath.Join("testdata", "defining", folder, "s.jsonl"))
			if err != nil {
				t.Fatal(err)
			}
			h := serving(t, string(survey))
			definitions := strings.Replace(string(text), "group g in every network {", "group g in n1 {", 1)
			for _, group := range more {
				h.write(filepath.Join(h.folder, "play.nomos"), "estate play\n"+definitions+group)
				h.must(0, "next", "draft")
				h.must(0, "enacted", "enact")
				h.must(0, "nothing to do", "draft", "--to", "again.json")
			}
			state, err := os.ReadFile(filepath.Join(h.clouds, standin.StateFile))
			if last := more[len(more)-1]; err != nil ||
				last == "" && len(more) > 1 && strings.Contains(string(state), `"name":"g"`) {
				t.Errorf("the group is still there: %v\n%s", err, state)
			}
		})
	}
}
