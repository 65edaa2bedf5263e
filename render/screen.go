// Package render writes results: for people at a terminal, and as JSON.
package render

import (
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/x/ansi"
	"github.com/muesli/termenv"

	"isonomos/core/count"
	"isonomos/nomos/source"
)

// Style is the weight and colour of a piece of text. Words and position carry
// the meaning; colour, on an axis from blue to orange, only supports it.
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

// Screen lays text out for a terminal or a file. Everything that is written
// through it is cleaned of control characters first.
type Screen struct {
	out    io.Writer
	width  int
	styles [Accent + 1]lipgloss.Style
	err    error
}

// Widths between which output is laid out: narrower windows wrap by
// themselves, and longer lines are hard to read.
const (
	minWidth = 40
	maxWidth = 140
)

// NewScreen makes a Screen for a window of a width in columns.
func NewScreen(out io.Writer, width int, colour bool) *Screen {
	r := lipgloss.NewRenderer(out)
	profile := termenv.Ascii
	if colour {
		profile = termenv.ANSI256
	}
	r.SetColorProfile(profile)
	r.SetHasDarkBackground(true)
	s := &Screen{out: out, width: min(max(width, minWidth), maxWidth)}
	for i := range s.styles {
		s.styles[i] = r.NewStyle()
	}
	s.styles[Strong] = r.NewStyle().Bold(true)
	s.styles[Faint] = r.NewStyle().Foreground(lipgloss.Color("246"))
	s.styles[Warm] = r.NewStyle().Foreground(lipgloss.Color("215"))
	s.styles[Hot] = r.NewStyle().Bold(true).Foreground(lipgloss.Color("208"))
	s.styles[Cool] = r.NewStyle().Foreground(lipgloss.Color("110"))
	s.styles[Accent] = r.NewStyle().Foreground(lipgloss.Color("117"))
	return s
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
	if p.Style == Plain || text == "" {
		return text
	}
	return s.styles[p.Style].Render(text)
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

// Labelled writes a label and behind it, at a fixed column, a text that is
// wrapped to the window with a hanging indent.
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

// within is a text that people can read: of a very long one the beginning, and how
// much there is more. Other formats have it whole.
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

// wrap parts a text into lines at its blanks; a word that is longer than a line is cut.
func wrap(text string, columns int) []string {
	var lines []string
	line := ""
	for _, word := range strings.Fields(text) {
		switch {
		case line == "":
			line = word
		case Columns(line)+1+Columns(word) <= columns:
			line += " " + word
			continue
		default:
			lines, line = append(lines, line), word
		}
		for {
			cut := cutAt(line, columns)
			if cut == len(line) {
				break
			}
			lines, line = append(lines, line[:cut]), line[cut:]
		}
	}
	return append(lines, line)
}

// cutAt is where a line is cut that is to take so many columns at most: how many bytes
// fit. It looks at no more of the line than may fit.
func cutAt(line string, columns int) int {
	const most = 16 // bytes for a column, with all that takes none
	head := line
	if len(head) > most*columns {
		end := most * columns
		for end > 0 && !utf8.RuneStart(line[end]) {
			end--
		}
		head = line[:end]
	}
	if Columns(head) <= columns {
		return len(head)
	}
	return max(1, len(ansi.Truncate(head, columns, "")))
}

// Whole is Labelled for a text that is not to be broken, such as a command to copy.
func (s *Screen) Whole(indent int, label Piece, labelWidth int, text Piece) {
	s.Line(Piece{Text: strings.Repeat(" ", indent)}, Piece{Pad(label.Text, labelWidth), label.Style}, text)
}

// Ends writes pieces at the left and a text at the right end of the line; where
// they do not fit on one line, the text stands on the next, and the last piece is wrapped
// where it begins.
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

// Pad fills a text up with blanks to a number of columns, and with one at least.
func Pad(text string, columns int) string {
	if columns == 0 {
		return text
	}
	return text + strings.Repeat(" ", max(1, columns-Columns(text)))
}

// Clean takes out of a text what a terminal would obey instead of showing it, and what
// nobody sees (see source.Clean).
func Clean(text string) string { return source.Clean(text) }

// Count is a number with its noun: "1 group", "1,234 groups".
func Count(n int, one, many string) string { return count.Of(n, one, many) }

// Number is a number with commas between thousands.
func Number(n int) string { return count.Number(n) }
