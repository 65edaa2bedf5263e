// Package render writes results: as text for people at a terminal, and in formats for other
// programs.
package render

import (
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"

	"isonomos/core/count"
	"isonomos/nomos/source"
)

// Style is the weight and colour of a piece of text. Words and positions carry the meaning; colour,
// between blue and orange, only supports it.
type Style int

// The styles.
const (
	Plain Style = iota
	Strong
	Faint
	Warm   // what needs attention
	Hot    // what needs it first
	Cool   // what is as it should be
	Accent // names to type or look up
)

// A Piece is text with a style.
type Piece struct {
	Text  string
	Style Style
}

// Screen lays text out for a terminal or a file. It cleans everything of control characters.
type Screen struct {
	out    io.Writer
	width  int
	colour bool
	err    error
}

// The narrowest and the widest layout. Narrower windows wrap by themselves, and longer lines are
// hard to read.
const (
	minWidth = 40
	maxWidth = 140
)

// NewScreen makes a Screen for a window of a width in columns.
func NewScreen(out io.Writer, width int, colour bool) *Screen {
	return &Screen{out: out, width: min(max(width, minWidth), maxWidth), colour: colour}
}

// styles are how a terminal of 256 colours shows each Style.
var styles = [...]ansi.Style{
	Strong: ansi.NewStyle().Bold(),
	Faint:  ansi.NewStyle().ForegroundColor(ansi.IndexedColor(246)),
	Warm:   ansi.NewStyle().ForegroundColor(ansi.IndexedColor(215)),
	Hot:    ansi.NewStyle().Bold().ForegroundColor(ansi.IndexedColor(208)),
	Cool:   ansi.NewStyle().ForegroundColor(ansi.IndexedColor(110)),
	Accent: ansi.NewStyle().ForegroundColor(ansi.IndexedColor(117)),
}

// Width is the number of columns that lines are laid out for.
func (s *Screen) Width() int { return s.width }

// Err is the first error of writing.
func (s *Screen) Err() error { return s.err }

func (s *Screen) write(text string) {
	if s.err == nil {
		_, s.err = io.WriteString(s.out, text)
	}
}

func (s *Screen) styled(p Piece) string {
	text := Clean(p.Text)
	if !s.colour || p.Style == Plain || text == "" {
		return text
	}
	return styles[p.Style].Styled(text)
}

// Blank writes an empty line.
func (s *Screen) Blank() { s.write("\n") }

// Line writes pieces on one line, without wrapping.
func (s *Screen) Line(pieces ...Piece) {
	var b strings.Builder
	for _, p := range pieces {
		b.WriteString(s.styled(p))
	}
	s.write(strings.TrimRight(b.String(), " ") + "\n")
}

// Text writes plain text, wrapped, after an indent.
func (s *Screen) Text(indent int, text string) { s.Labelled(indent, Piece{}, 0, Piece{Text: text}) }

// Labelled writes a label, and at a fixed column a text that is wrapped with a hanging indent.
func (s *Screen) Labelled(indent int, label Piece, labelWidth int, text Piece) {
	room := max(s.width-indent-labelWidth, 20)
	lines := wrap(Clean(within(text.Text)), room)
	for i, line := range lines {
		head := Piece{Text: strings.Repeat(" ", labelWidth)}
		if i == 0 {
			head = Piece{Pad(label.Text, labelWidth), label.Style}
		}
		s.Line(Piece{Text: strings.Repeat(" ", indent)}, head, Piece{strings.TrimRight(line, " "), text.Style})
	}
}

// within is the beginning of a very long text, and how much was left out. Other formats have all of
// it.
func within(text string) string {
	const most = 8000 // bytes
	if len(text) <= most {
		return text
	}
	end := most
	for end > 0 && !utf8.RuneStart(text[end]) {
		end--
	}
	return fmt.Sprintf("%s… and %s more characters (--format json has them)", text[:end],
		Number(utf8.RuneCountInString(text[end:])))
}

// wrap breaks a text into lines at its blanks. A word that is longer than a line is cut.
func wrap(text string, columns int) []string {
	// ansi.Wrap would break at hyphens too, but a name is easier to copy in one piece.
	const noBreak = "\u2011"
	text = strings.ReplaceAll(strings.Join(strings.Fields(text), " "), "-", noBreak)
	return strings.Split(strings.ReplaceAll(ansi.Wrap(text, columns, ""), noBreak, "-"), "\n")
}

// Whole is Labelled for a text that must not be wrapped, such as a command to copy.
func (s *Screen) Whole(indent int, label Piece, labelWidth int, text Piece) {
	s.Line(Piece{Text: strings.Repeat(" ", indent)}, Piece{Pad(label.Text, labelWidth), label.Style}, text)
}

// Ends writes pieces at the left and a text at the right end of a line. If they don't fit on one
// line, the text goes to the next, and the last piece is wrapped.
func (s *Screen) Ends(right Piece, left ...Piece) {
	used := 0
	for _, p := range left {
		used += Columns(p.Text)
	}
	if gap := s.width - used - Columns(right.Text); gap >= 2 {
		s.Line(append(left, Piece{Text: strings.Repeat(" ", gap)}, right)...)
		return
	}
	if indent := used - Columns(left[len(left)-1].Text); used > s.width && s.width-indent >= 20 {
		last := left[len(left)-1]
		lines := wrap(Clean(last.Text), s.width-indent)
		s.Line(append(left[:len(left)-1:len(left)-1], Piece{lines[0], last.Style})...)
		for _, line := range lines[1:] {
			s.Line(Piece{Text: strings.Repeat(" ", indent)}, Piece{line, last.Style})
		}
	} else {
		s.Line(left...)
	}
	if right.Text != "" {
		s.Line(Piece{Text: strings.Repeat(" ", max(0, s.width-Columns(right.Text)))}, right)
	}
}

// Columns is how many columns of a terminal a text takes.
func Columns(text string) int { return ansi.StringWidth(Clean(text)) }

// Pad adds blanks up to a number of columns, and at least one.
func Pad(text string, columns int) string {
	if columns == 0 {
		return text
	}
	return text + strings.Repeat(" ", max(1, columns-Columns(text)))
}

// Clean removes from a text what a terminal would obey and what is invisible: see source.Clean.
func Clean(text string) string { return source.Clean(text) }

// Count is a number with its noun: "1 group", "1,234 groups".
func Count(n int, one, many string) string { return count.Of(n, one, many) }

// Number is a number with commas between thousands.
func Number(n int) string { return count.Number(n) }
