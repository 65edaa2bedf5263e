package print

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"isonomos/internal/golden"
	"isonomos/nomos/parse"
	"isonomos/nomos/scan"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
	"isonomos/nomos/token"
)

// corpora are all definition files of the project that parse.
func corpora(t testing.TB) map[string]string {
	texts := make(map[string]string)
	for _, pattern := range []string{"testdata/*.nomos", "../testdata/*/*.nomos", "../parse/testdata/*.nomos",
		"../../demo/estate/*.nomos"} {
		names, err := filepath.Glob(pattern)
		if err != nil || len(names) == 0 {
			t.Fatal("no files in", pattern)
		}
		for _, name := range names {
			text, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			texts[name] = string(text)
		}
	}
	return texts
}

func parsed(text string) (*syntax.File, bool) {
	tree, messages := parse.File(source.NewFile("x.nomos", text))
	return tree, source.Errors(messages) == 0
}

// sameMeaning compares what two texts say: the same declarations of the same
// tokens, and in groups the same statements, those that may move apart.
func sameMeaning(t testing.TB, before, after *syntax.File) {
	t.Helper()
	if a, b := said(before), said(after); a != b {
		t.Errorf("another meaning: before\n%s\nafter\n%s", a, b)
	}
	if a, b := comments(before), comments(after); a != b {
		t.Errorf("other comments: before\n%s\nafter\n%s", a, b)
	}
}

// said lists the tokens of every declaration, a group's cover, labels and rules each by themselves.
func said(f *syntax.File) string {
	tokens := scan.File(f.Source).Tokens
	words := func(s source.Span) string {
		var b strings.Builder
		for _, x := range tokens {
			if x.Kind != token.Newline && x.Kind != token.EOF && x.Start >= s.Start && x.End <= s.End {
				b.WriteString(f.Source.Of(x.Span) + " ")
			}
		}
		return b.String()
	}
	var b strings.Builder
	for _, d := range f.Decls {
		g, ok := d.(*syntax.Group)
		if !ok {
			fmt.Fprintf(&b, "%T %s\n", d, words(d.Extent()))
			continue
		}
		if g.Existing.Given() {
			fmt.Fprintf(&b, "group %s\n", words(g.Span))
			continue
		}
		fmt.Fprintf(&b, "group %s\n", words(source.Span{Start: g.Start, End: g.Braces.Start}))
		for class := range 3 {
			for _, s := range g.Body {
				kind := 2
				switch s.(type) {
				case *syntax.Cover:
					kind = 0
				case *syntax.LabelStmt, *syntax.Named, *syntax.Follow:
					kind = 1
				}
				if kind == class {
					fmt.Fprintf(&b, "  %T %s\n", s, words(s.Extent()))
				}
			}
		}
	}
	return b.String()
}

// comments lists all comments in alphabetical order.
func comments(f *syntax.File) string {
	count := make(map[string]int)
	for _, c := range f.Comments {
		count[strings.TrimRight(f.Source.Of(c), " \t")]++
	}
	return fmt.Sprint(count)
}

// firstDifference shows the first lines in which two texts differ.
func firstDifference(a, b string) string {
	x, y := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range min(len(x), len(y)) {
		if x[i] != y[i] {
			return fmt.Sprintf("line %d: %q, then %q", i+1, x[i], y[i])
		}
	}
	return fmt.Sprintf("%d lines, then %d", len(x), len(y))
}

func TestCorporaKeepTheirMeaning(t *testing.T) {
	for name, text := range corpora(t) {
		before, ok := parsed(text)
		if !ok {
			continue // a corpus of mistakes
		}
		printed := File(before)
		after, ok := parsed(printed)
		if !ok {
			t.Fatalf("%s: what is printed does not parse:\n%s", name, printed)
		}
		sameMeaning(t, before, after)
		if again := File(after); again != printed {
			t.Errorf("%s: printing twice changes something: %s", name, firstDifference(printed, again))
		}
	}
}

// Each file of testdata is untidy, and beside it stands its canonical layout.
func TestLayout(t *testing.T) {
	names, _ := filepath.Glob("testdata/*.nomos")
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		tree, ok := parsed(string(text))
		if !ok {
			t.Fatal(name, "does not parse")
		}
		golden.Check(t, strings.TrimSuffix(name, ".nomos")+".golden", File(tree))
	}
}

func FuzzFile(f *testing.F) {
	for _, text := range corpora(f) {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		before, ok := parsed(text)
		if !ok {
			return
		}
		printed := File(before)
		after, ok := parsed(printed)
		if !ok {
			t.Fatalf("what is printed does not parse: %q", printed)
		}
		sameMeaning(t, before, after)
		if again := File(after); again != printed {
			t.Errorf("printing twice changes something: %s", firstDifference(printed, again))
		}
	})
}

func BenchmarkFile(b *testing.B) {
	text := corpora(b)["../parse/testdata/whole.nomos"]
	for _, n := range []int{10_000, 100_000, 1_000_000, 10_000_000} {
		tree, _ := parsed(strings.Repeat(text, n/len(text)+1))
		b.Run(fmt.Sprintf("%dkB", n/1000), func(b *testing.B) {
			b.SetBytes(int64(n))
			for b.Loop() {
				File(tree)
			}
		})
	}
}
