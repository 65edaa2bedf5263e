package parse

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

// whole is a file with every declaration of the language.
func whole(t testing.TB) string {
	text, err := os.ReadFile(filepath.Join("testdata", "whole.nomos"))
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func TestWholeLanguageParses(t *testing.T) {
	tree, messages := File(source.NewFile("whole.nomos", whole(t)))
	for _, m := range messages {
		t.Error(m)
	}
	kinds := make(map[string]int)
	for _, d := range tree.Decls {
		kinds[strings.TrimPrefix(fmt.Sprintf("%T", d), "*syntax.")]++
	}
	for kind, want := range map[string]int{"Estate": 1, "Place": 3, "List": 3, "Service": 2, "Pattern": 1,
		"Baseline": 1, "Group": 4, "Connect": 1, "Law": 1, "Exempt": 3, "Expect": 3} {
		if kinds[kind] != want {
			t.Errorf("%d declarations of kind %s, want %d", kinds[kind], kind, want)
		}
	}
	if len(tree.Comments) != 3 {
		t.Errorf("%d comments, want 3", len(tree.Comments))
	}
}

// Every node's extent is the text that it stands for.
func TestExtents(t *testing.T) {
	f := source.NewFile("x.nomos", "group a in b \"c\" {\n  admit ssh, tcp (1, 2-3) from list x except "+
		"10.0.0.0/8 # why\n    because \"y\"\n}\n")
	tree, messages := File(f)
	if len(messages) > 0 {
		t.Fatal(messages)
	}
	g := tree.Decls[0].(*syntax.Group)
	r := g.Body[0].(*syntax.Rule)
	for _, x := range []struct {
		span source.Span
		want string
	}{
		{r.Services[1].Span, "tcp (1, 2-3)"},
		{r.Peers.Span, "list x except 10.0.0.0/8"},
		{r.Because.Span, `"y"`},
		{r.Span, "admit ssh, tcp (1, 2-3) from list x except 10.0.0.0/8 # why\n    because \"y\""},
		{g.Braces, f.Text[17 : len(f.Text)-1]},
		{tree.Comments[0], "# why"},
	} {
		if got := f.Of(x.span); got != x.want {
			t.Errorf("got %q, want %q", got, x.want)
		}
	}
}

func TestLexis(t *testing.T) {
	for _, x := range []struct{ rule, want string }{
		{"admit tcp 22 from fd20:4c1::/48", ""},
		{"admit tcp 22 from a::b", ""},
		{"admit tcp 22 from face:b00c::1, ::1", ""},
		{"admit icmp 3/4, icmpv6 128, protocol 47 from everyone v4", ""},
		{"admit ssh from\n  everyone", "expected a peer, found the end of the line"},
		{"admit ssh,\n  https from everyone", ""},
		{"admit ssh from everyone\n    # a comment between\n\n    because \"x\"", ""},
		{"admit ssh from everyone until 2027-01-31T18:00Z", ""},
		{"lend rdp to everyone for at most 1h30m", ""},
		{`admit ssh from everyone because "a \" \\ \u{e9} b"`, ""},
		{`admit ssh from everyone because "a \q"`, "this escape is not known"},
		{`admit ssh from everyone because "open`, "no closing quote"},
		{"admit ssh from 10.0.0.300", "not an address or range"},
		{"admit ssh from everyone ; more", "no meaning here"},
		{"admit tcp 22-80x from everyone", "not a number, range of ports"},
		{"admit ssh from ::ffff:10.0.0.1", "IPv4-mapped"},
		{"admit tcp 99-22 from everyone", "the ports are reversed"},
		{"admit tcp 65536 from everyone", "a port goes from 0 to 65535"},
		{"admit icmp 256 from everyone", "an ICMP type goes from 0 to 255"},
		{"admit 22 from everyone", "a port needs its protocol"},
		{"admti ssh from everyone", `no statement begins with "admti"`},
		{"admit ssh at everyone", `after "admit" stands "from", not "at"`},
		{"cover where a = b and c = d or e = f", `"and" and "or" don't mix`},
		{"cover where (a = b and c = d) or not e in (f, g)", ""},
		{"admit ssh from everyone because \"a\" because \"b\"", "stands here twice"},
		{"admit ssh from everyone until 2027-02-29", "does not exist"},
		{"admit ssh from everyone until 2027-13-01", "does not exist"},
		{"admit ssh from everyone until 2027-01-01T24:00Z", "does not exist"},
		{"admit ssh from everyone until 2028-02-29T23:59Z", ""},
	} {
		_, messages := File(source.NewFile("x.nomos", "group a in b {\n  "+x.rule+"\n}\n"))
		got := ""
		for _, m := range messages {
			got += m.Text + "; "
		}
		if x.want == "" && got != "" || !strings.Contains(got, x.want) {
			t.Errorf("%q: got %q, want %q", x.rule, got, x.want)
		}
	}
}

// The parser recovers: each independent mistake is told once, the rest is understood.
func TestRecovery(t *testing.T) {
	text := `group a in b {
  admit ssh form everyone
  admit https from everyone
  where x = {
    admit ssh from everyone
  }
  admit http from everyone
group c in d {
  admit ssh from everyone
}
acount x {
  id "1"
}
expect a can reach c
expect a can reach c on ssh
`
	tree, messages := File(source.NewFile("x.nomos", text))
	var got []string
	for _, m := range messages {
		got = append(got, strings.TrimPrefix(m.Position(), "x.nomos:")+" "+m.Text)
	}
	want := []string{
		`1:14 the block that begins here has no closing "}"`,
		`2:13 expected "from", found "form"`,
		`4:13 expected a value, found "{"`,
		`11:1 no declaration begins with "acount"`,
		`14:21 expected "on", found the end of the line`,
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if len(tree.Decls) != 3 {
		t.Errorf("%d declarations understood, want 3", len(tree.Decls))
	}
}

func TestNestingIsBounded(t *testing.T) {
	for _, text := range []string{
		"group a in b {" + strings.Repeat("where a = b {", 100_000),
		"group a in b { cover where " + strings.Repeat("(", 100_000),
		"group a in b { cover where " + strings.Repeat("not ", 100_000),
	} {
		if _, messages := File(source.NewFile("x.nomos", text)); len(messages) == 0 || len(messages) > 2*maxMessages {
			t.Errorf("%d messages for deep nesting", len(messages))
		}
	}
}

func FuzzFile(f *testing.F) {
	f.Add(whole(f))
	f.Add("group a in b {\n admit tcp (1,2 from x:: because \"\n}")
	f.Add("use p(a = b, c, (d)) in every group where x in (y, \"z\")")
	f.Fuzz(func(t *testing.T, text string) {
		file := source.NewFile("x.nomos", text)
		tree, messages := File(file)
		for _, m := range messages {
			_ = m.String()
		}
		for _, d := range tree.Decls {
			if s := d.Extent(); s.Start < 0 || s.End > int32(len(text)) || s.Start > s.End {
				t.Fatalf("extent %v of %T is outside the text", s, d)
			}
		}
	})
}

// A dense file, and definitions as people write them, with reasons and comments.
func BenchmarkFile(b *testing.B) {
	tides, err := os.ReadFile(filepath.Join("..", "..", "demo", "estate", "tides.nomos"))
	if err != nil {
		b.Fatal(err)
	}
	for name, text := range map[string]string{"dense": whole(b), "usual": string(tides)} {
		benchmarkFile(b, name, text)
	}
}

func benchmarkFile(b *testing.B, name, text string) {
	for _, n := range []int{1_000, 10_000, 100_000} {
		var many strings.Builder
		for many.Len() < n*20 {
			many.WriteString(text)
		}
		f := source.NewFile("x.nomos", many.String())
		b.Run(fmt.Sprintf("%s/%dkB", name, len(f.Text)/1000), func(b *testing.B) {
			b.SetBytes(int64(len(f.Text)))
			for b.Loop() {
				File(f)
			}
		})
	}
}
