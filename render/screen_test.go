package render

import (
	"bytes"
	"strings"
	"testing"
)

func drawn(width int, colour bool, draw func(*Screen)) string {
	var b bytes.Buffer
	draw(NewScreen(&b, width, colour))
	return b.String()
}

func TestWrapping(t *testing.T) {
	got := drawn(40, false, func(s *Screen) {
		s.Labelled(2, Piece{"label", Faint}, 8, Piece{Text: "ships' agents book pilots at the pilot-stations, " +
			"day and night"})
	})
	want := "  label   ships' agents book pilots at\n          the pilot-stations, day and\n          night\n"
	if got != want {
		t.Errorf("got\n%q", got)
	}
	for _, width := range []int{0, 1, 40, 77, 1000} {
		for _, line := range strings.Split(
			drawn(width, false, func(s *Screen) { s.Text(4, strings.Repeat("word ", 80)+strings.Repeat("x", 300)) }),
			"\n") {
			if limit := min(max(width, minWidth), maxWidth); Columns(line) > limit || strings.HasSuffix(line, " ") {
				t.Errorf("at %d columns a line has %d: %q", width, Columns(line), line)
			}
		}
	}
}

func TestEnds(t *testing.T) {
	if got := drawn(40, false, func(s *Screen) { s.Ends(Piece{Text: "right"}, Piece{Text: "left"}) }); got != "left"+
		strings.Repeat(" ", 31)+"right\n" {
		t.Errorf("got %q", got)
	}
	if got := drawn(40, false,
		func(s *Screen) {
			s.Ends(Piece{Text: "right"},
				Piece{Text: strings.Repeat("l", 38)})
		}); got != strings.Repeat("l", 38)+"\n"+strings.Repeat(" ", 35)+"right\n" {
		t.Errorf("got %q", got)
	}
}

// Nothing that a terminal would obey comes through, and columns are counted in what is seen.
func TestClean(t *testing.T) {
	for text, want := range map[string]string{
		"plain – ünïcode 港":  "plain – ünïcode 港",
		"\x1b[31mred\x1b[0m": "·[31mred·[0m",
		"a\tb\nc\rd\x00":     "a·b·c·d·",
		"\u202edrow\u2066":   "·drow·",
		"\x80\xff\u009b1m":   "···1m",
	} {
		if got := Clean(text); got != want {
			t.Errorf("%q: got %q, want %q", text, got, want)
		}
	}
	if Columns("港") != 2 || Columns("\x1b[31m") != 5 {
		t.Error("columns are miscounted")
	}
	got := drawn(80, true, func(s *Screen) { s.Line(Piece{"\x1b]0;x\x07", Hot}) })
	if strings.Contains(got, "\x1b]") || strings.Contains(got, "\x07") || !strings.Contains(got, "\x1b[") {
		t.Errorf("got %q", got)
	}
	if plain := drawn(80, false, func(s *Screen) { s.Line(Piece{"x", Hot}) }); plain != "x\n" {
		t.Errorf("without colour: %q", plain)
	}
}

func TestNumbers(t *testing.T) {
	for n, want := range map[int]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567"} {
		if got := Number(n); got != want {
			t.Errorf("%d: %s", n, got)
		}
	}
	if Count(1, "group", "groups") != "1 group" || Count(2000, "group", "groups") != "2,000 groups" {
		t.Error("nouns do not follow their numbers")
	}
}

// Whatever the text and the window: nothing is lost, nothing stands beyond the
// window, and nothing comes through that a terminal would obey.
func FuzzScreen(f *testing.F) {
	f.Add("ships' agents book pilots", 40, 2)
	f.Add("\x1b[31mred\x07 港港港港港港港港港港港港港港港港港港港港港港港港港", 41, 0)
	f.Add("e\u0301\u200d👩\u200d🚢 \u202e", 40, 7)
	f.Fuzz(func(t *testing.T, text string, width, indent int) {
		indent = min(max(indent, 0), 10)
		got := drawn(width, false, func(s *Screen) { s.Text(indent, text) })
		limit := min(max(width, minWidth), maxWidth)
		for line := range strings.Lines(got) {
			line = strings.TrimSuffix(line, "\n")
			if Columns(line) > limit {
				t.Fatalf("%q at %d: a line has %d columns: %q", text, limit, Columns(line), line)
			}
			if Clean(line) != line {
				t.Fatalf("%q: something comes through: %q", text, line)
			}
		}
		letters := func(text string) string { return strings.Join(strings.Fields(text), "") }
		if letters(got) != letters(Clean(text)) {
			t.Fatalf("%q became %q", text, got)
		}
	})
}

// A text of megabytes is laid out in time that grows with it, and shown in part.
func TestVeryLongText(t *testing.T) {
	for _, text := range []string{strings.Repeat("n", 4<<20), strings.Repeat("\u0301", 2<<20),
		strings.Repeat("word ", 1<<20)} {
		var out strings.Builder
		NewScreen(&out, 80, false).Text(4, text)
		for line := range strings.Lines(out.String()) {
			if Columns(strings.TrimRight(line, "\n")) > 80 {
				t.Fatalf("a line of %d columns", Columns(line))
			}
		}
		if !strings.Contains(strings.Join(strings.Fields(out.String()), " "),
			"more characters (--format json has them)") || out.Len() > 40000 {
			t.Errorf("%d bytes are shown", out.Len())
		}
	}
}
