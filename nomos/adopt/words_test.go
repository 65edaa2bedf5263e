package adopt

import (
	"testing"

	"isonomos/nomos/parse"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

func TestName(t *testing.T) {
	for _, x := range []struct{ text, want string }{
		{"web", "web"}, {"web site (old)", "web-site-old"}, {"9lives", "n9lives"}, {"", "unnamed"},
		{"---", "unnamed"}, {"any", "any-1"}, {"group", "group-1"},
		{"größe", "gr-e"}, {"a\x1b[31m", "a-31m"}, {"日本", "unnamed"}, {"x_y-z", "x_y-z"},
	} {
		if got := Name(x.text); got != x.want || !IsName(got) {
			t.Errorf("%q: got %q, want %q", x.text, got, x.want)
		}
	}
}

// Whatever a cloud says stands in definitions as one text or one name.
func FuzzWords(f *testing.F) {
	for _, text := range []string{"web", `a "quoted" \ text`, "two\nlines\ttabbed", "\x1b[31m red", "\u202e turned",
		"größe", "\xff\xfe", "}", "# no comment"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		tree, messages := parse.File(
			source.NewFile("x.nomos",
				"group "+Name(text)+" in n "+Quote(oneLine(text))+" {\n  named "+Quote(text)+"\n}\n"))
		if source.Errors(messages) > 0 {
			t.Fatalf("%q: %v", text, messages[0])
		}
		g, ok := tree.Decls[0].(*syntax.Group)
		if !ok || len(tree.Decls) != 1 || len(g.Body) != 1 || g.Name.Text != Name(text) {
			t.Fatalf("%q became %+v", text, tree.Decls)
		}
		if named, ok := g.Body[0].(*syntax.Named); !ok || named.Name.Text != string([]rune(text)) {
			t.Errorf("%q is read back as %q", text, named.Name.Text)
		}
	})
}
