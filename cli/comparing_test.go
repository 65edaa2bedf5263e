package cli_test

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// A toldChange is a change as JSON tells it, without its causes.
type toldChange struct {
	Kind      string
	Direction string
	Group     string
	Traffic   any
	Instances []string
}

// compareJSON compares as JSON, holds it against its schema, and gives the changes.
func compareJSON(t *testing.T, before, after string) (code int, changes []toldChange) {
	t.Helper()
	code, out, said := inProcess(t, "", "compare", "--format", "json", before, after)
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(out))
	if err != nil {
		t.Fatalf("compare %s %s: %v, %s", before, after, err, said)
	}
	schema, err := jsonschema.NewCompiler().Compile(filepath.Join("..", "docs", "schemas", "comparison.json"))
	if err != nil {
		t.Fatal(err)
	}
	if err := schema.Validate(document); err != nil {
		t.Errorf("compare %s %s: %v", before, after, err)
	}
	var told struct{ Changes []toldChange }
	if err := json.Unmarshal([]byte(out), &told); err != nil {
		t.Fatal(err)
	}
	return code, told.Changes
}

// Pairs of surveys of which it is easily overlooked in what they differ: what is told of
// each, that the way back is told the other way round, and that each is equal to itself.
func TestDifferencesThatAreEasilyOverlooked(t *testing.T) {
	t.Parallel()
	firsts, err := filepath.Glob(filepath.Join("testdata", "comparing", "*-a.jsonl"))
	if err != nil || len(firsts) < 17 {
		t.Fatal(firsts, err)
	}
	var b strings.Builder
	for _, first := range firsts {
		first = filepath.ToSlash(first)
		second := strings.TrimSuffix(first, "-a.jsonl") + "-b.jsonl"
		code, out, said := inProcess(t, "", "compare", first, second)
		fmt.Fprintf(&b, "== %s: exit %d\n%s%s", strings.TrimSuffix(filepath.Base(first), "-a.jsonl"), code, said, out)

		there, forth := compareJSON(t, first, second)
		back, reverse := compareJSON(t, second, first)
		if there != code || back != code || !slices.Equal(mirrored(forth, true), mirrored(reverse, false)) {
			t.Errorf("%s: exit %d, %d, %d; there %v, and back %v", first, code, there, back, forth, reverse)
		}
		for _, one := range []string{first, second} {
			if code, changes := compareJSON(t, one, one); code != 0 || len(changes) > 0 {
				t.Errorf("%s differs from itself: exit %d, %v", one, code, changes)
			}
		}
		_, document, _ := inProcess(t, "", "compare", "--format", "md", first, second)
		if n := strings.Count(document, "\n  - for example ") + strings.Count(document,
			"\n  - as well "); n != len(forth) {
			t.Errorf("%s: %d changes in Markdown, %d in JSON", first, n, len(forth))
		}
	}
	for _, pair := range [][2]string{{"no-survey/old", "no-survey/pub"}, {"no-survey/old", "no-survey/cover"},
		{"flat-path/survey.jsonl", "flat-path"}, {"adopt/survey.jsonl", "adopt"}} {
		before, after := "testdata/comparing/"+pair[0], "testdata/comparing/"+pair[1]
		code, out, said := inProcess(t, "", "compare", before, after)
		fmt.Fprintf(&b, "== %s to %s: exit %d\n%s%s", pair[0], pair[1], code, said, out)
		compareJSON(t, before, after)
	}
	asGolden(t, "easily-overlooked.txt", b.String())
}

// mirrored are changes as texts in order, where asked for as they are told on the way back.
func mirrored(changes []toldChange, turn bool) []string {
	opposite := map[string]string{"opens": "closes", "closes": "opens", "answers-lost": "answers-back",
		"answers-back": "answers-lost"}
	var all []string
	for _, c := range changes {
		if turn {
			c.Kind = opposite[c.Kind]
		}
		slices.Sort(c.Instances)
		all = append(all, fmt.Sprintf("%+v", c))
	}
	slices.Sort(all)
	return all
}
