// Package source holds the text of definition files, positions in it, and the
// messages that are written about it.
package source

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"
	"unicode"
	"unicode/utf8"
)

// A File is one definition file. Its text never changes.
type File struct {
	Name  string // as messages show it
	Text  string
	lines []int32 // offset of the first byte of each line
}

// NewFile makes a File. The text may be anything; package scan says whether it is good.
func NewFile(name, text string) *File {
	f := &File{Name: name, Text: text, lines: []int32{0}}
	for at := 0; ; {
		i := strings.IndexByte(text[at:], '\n')
		if i < 0 {
			return f
		}
		at += i + 1
		f.lines = append(f.lines, int32(at))
	}
}

// A Span is a piece of a file's text, in bytes: from Start up to, not including, End.
type Span struct{ Start, End int32 }

// Join is the span from the start of s to the end of t.
func (s Span) Join(t Span) Span { return Span{s.Start, max(s.End, t.End)} }

// Of is the text of a span.
func (f *File) Of(s Span) string { return f.Text[s.Start:s.End] }

// Line is the line of an offset, from 1.
func (f *File) Line(offset int32) int {
	return sort.Search(len(f.lines), func(i int) bool { return f.lines[i] > offset })
}

// Column is the column of an offset, in characters, from 1.
func (f *File) Column(offset int32) int {
	return utf8.RuneCountInString(f.Text[f.lines[f.Line(offset)-1]:offset]) + 1
}

// LineSpan is the whole line, without its end, that an offset is in.
func (f *File) LineSpan(offset int32) Span {
	line := f.Line(offset)
	s := Span{f.lines[line-1], int32(len(f.Text))}
	if line < len(f.lines) {
		s.End = f.lines[line] - 1
	}
	if s.End > s.Start && f.Text[s.End-1] == '\r' {
		s.End--
	}
	return s
}

// A Message is about a place in a file.
type Message struct {
	File    *File
	Span    Span
	Text    string // what is wrong
	Hint    string // the nearest known name, or how to mend it; may be empty
	Warning bool   // the file can be used all the same
	Secret  bool   // the place may contain a secret, so the line is not shown
}

// Position is "file:line:column".
func (m Message) Position() string {
	return fmt.Sprintf("%s:%d:%d", m.File.Name, m.File.Line(m.Span.Start), m.File.Column(m.Span.Start))
}

// maxShown is the most columns of a source line that a message shows.
const maxShown = 120

// String is the message with its source line and a caret under the place.
func (m Message) String() string {
	var b strings.Builder
	kind := ""
	if m.Warning {
		kind = "warning: "
	}
	const longest = 1000 // columns of the text: a name in it can be as long as the file
	fmt.Fprintf(&b, "%s: %s%s\n", Clean(m.Position()), kind, Clean(shorten(m.Text, longest)))
	hint := Clean(shorten(m.Hint, longest))
	line := m.File.LineSpan(m.Span.Start)
	if m.Secret || holdsSecret(m.File.Of(line)) {
		if hint != "" {
			b.WriteString("  " + hint + "\n")
		}
		return b.String()
	}
	number := fmt.Sprint(m.File.Line(m.Span.Start))
	before := printable(m.File.Text[line.Start:m.Span.Start])
	marked := printable(m.File.Text[m.Span.Start:max(m.Span.Start, min(m.Span.End, line.End))])
	after := printable(m.File.Text[max(m.Span.Start, min(m.Span.End, line.End)):max(m.Span.Start, line.End)])
	if n := utf8.RuneCountInString(before); n > maxShown {
		before = "…" + string([]rune(before)[n-maxShown/2:])
	}
	marked, after = shorten(marked, maxShown), shorten(after, maxShown/2)
	fmt.Fprintf(&b, "  %s | %s%s%s\n", number, before, marked, after)
	caret := strings.Repeat("^", max(1, utf8.RuneCountInString(marked)))
	fmt.Fprintf(&b, "  %s | %s%s", strings.Repeat(" ", len(number)),
		strings.Repeat(" ", utf8.RuneCountInString(before)), caret)
	if hint != "" {
		b.WriteString(" " + hint)
	}
	b.WriteString("\n")
	return b.String()
}

// Lines that may contain a secret by mistake: where the name of a variable belongs, or under
// another word.
var (
	secretWord = regexp.MustCompile(
		`(?i)(?:^|[\s{;])(?:token|secret|password|passwd|passphrase|credentials?|api[-_]?key)[\s:="]+(.*)`)
	namedSecret = regexp.MustCompile(`^env\s+[A-Za-z][A-Za-z0-9_]*_TOKEN\b`)
)

// holdsSecret reports whether a line may contain a secret and must not be shown.
func holdsSecret(line string) bool {
	m := secretWord.FindStringSubmatch(line)
	return m != nil && !namedSecret.MatchString(m[1])
}

// Clean removes from a text what a terminal would obey instead of showing, and what is invisible:
// control characters, escape sequences, characters that change the direction of writing, characters
// without width (except those that join letters). Each becomes a middle dot.
func Clean(text string) string {
	const nonJoiner, joiner = 0x200c, 0x200d
	return strings.Map(func(r rune) rune {
		switch {
		case r == nonJoiner || r == joiner:
			return r
		case r == utf8.RuneError || unicode.IsControl(r) || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp):
			return '·'
		}
		return r
	}, text)
}

// printable is a piece of a source line, cleaned, one column a character.
func printable(text string) string { return Clean(strings.ReplaceAll(text, "\t", " ")) }

func shorten(text string, columns int) string {
	if utf8.RuneCountInString(text) <= columns {
		return text
	}
	return string([]rune(text)[:columns-1]) + "…"
}

// Sort sorts messages by file, place and text, and removes repetitions.
func Sort(messages []Message) []Message {
	slices.SortStableFunc(messages, func(a, b Message) int {
		return cmp.Or(strings.Compare(a.File.Name, b.File.Name), cmp.Compare(a.Span.Start, b.Span.Start),
			strings.Compare(a.Text, b.Text))
	})
	return slices.CompactFunc(messages, func(a, b Message) bool {
		return a.File == b.File && a.Span == b.Span && a.Text == b.Text
	})
}

// Errors counts the messages that are not warnings.
func Errors(messages []Message) int {
	n := 0
	for _, m := range messages {
		if !m.Warning {
			n++
		}
	}
	return n
}
