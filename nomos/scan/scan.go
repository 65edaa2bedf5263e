// Package scan divides the text of a definition file into tokens.
package scan

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"isonomos/nomos/source"
	"isonomos/nomos/token"
)

// A Result is the tokens of a file, its comments, and messages about what could not be read.
type Result struct {
	Tokens   []token.Token // the last one is EOF
	Comments []source.Span // each from its # to the end of its line
	Messages []source.Message
}

// File divides a file into tokens, in time linear in its size. Unreadable text becomes an Illegal
// token and a message; scanning continues behind it.
func File(f *source.File) Result {
	s := &scanner{file: f, text: f.Text}
	s.tokens = make([]token.Token, 0, len(f.Text)/4+8) // an estimate for dense definitions
	if strings.HasPrefix(s.text, "\ufeff") {
		s.at = 3
	}
	for s.next() {
	}
	return Result{s.tokens, s.comments, s.messages}
}

// maxMessages bounds the messages about a file that is not text at all.
const maxMessages = 50

type scanner struct {
	file     *source.File
	text     string
	at       int
	parens   int
	tokens   []token.Token
	comments []source.Span
	messages []source.Message
}

func (s *scanner) say(start, end int, text, hint string) {
	if len(s.messages) < maxMessages {
		s.messages = append(s.messages,
			source.Message{File: s.file, Span: source.Span{Start: int32(start), End: int32(end)}, Text: text,
				Hint: hint})
	}
}

func (s *scanner) emit(kind token.Kind, start int) {
	s.tokens = append(s.tokens, token.Token{Kind: kind, Span: source.Span{Start: int32(start), End: int32(s.at)}})
}

// next scans a token and the blanks in front of it. It returns false after EOF.
func (s *scanner) next() bool {
	newline := s.blanks()
	if newline >= 0 && s.ends() {
		s.tokens = append(s.tokens,
			token.Token{Kind: token.Newline, Span: source.Span{Start: int32(newline), End: int32(newline)}})
	}
	start := s.at
	if start == len(s.text) {
		s.emit(token.EOF, start)
		return false
	}
	c := s.text[start]
	switch {
	case c == '"':
		s.quoted()
	case isDigit(c) || isLetter(c) || c == ':':
		s.word()
	default:
		s.punctuation(c)
	}
	return true
}

// blanks skips spaces, line ends and comments. It returns the position of the first line end, or
// -1.
func (s *scanner) blanks() int {
	newline := -1
	for s.at < len(s.text) {
		switch s.text[s.at] {
		case '\n':
			if newline < 0 {
				newline = s.at
			}
		case ' ', '\t', '\r':
		case '#':
			end := strings.IndexByte(s.text[s.at:], '\n')
			if end < 0 {
				end = len(s.text) - s.at
			}
			text := strings.TrimSuffix(s.text[s.at:s.at+end], "\r")
			if !utf8.ValidString(text) {
				s.say(s.at, s.at+len(text), "this comment is not UTF-8", "")
			}
			s.comments = append(s.comments, source.Span{Start: int32(s.at), End: int32(s.at + len(text))})
			s.at += end
			continue
		default:
			return newline
		}
		s.at++
	}
	return newline
}

// ends reports whether a line end in front of the current position ends a statement.
func (s *scanner) ends() bool {
	if len(s.tokens) == 0 {
		return false
	}
	if s.parens > 0 {
		if word := s.wordAhead(); !s.atLineStart() || !token.Declares(word) {
			return false
		}
		s.parens = 0 // an unclosed bracket ends where a declaration begins
	}
	switch last := s.tokens[len(s.tokens)-1]; last.Kind {
	case token.Comma, token.Equals, token.Newline:
		return false
	case token.Name:
		if word := s.file.Of(last.Span); word == "and" || word == "or" {
			return false
		}
	}
	return !token.Continues(s.wordAhead())
}

func (s *scanner) atLineStart() bool { return s.at > 0 && s.text[s.at-1] == '\n' }

func (s *scanner) wordAhead() string {
	end := s.at
	for end < len(s.text) && isWordByte(s.text[end]) {
		end++
	}
	return s.text[s.at:end]
}

func (s *scanner) punctuation(c byte) {
	start := s.at
	s.at++
	switch c {
	case '{':
		s.parens = 0
		s.emit(token.LeftBrace, start)
	case '}':
		s.parens = 0
		s.emit(token.RightBrace, start)
	case '(':
		s.parens++
		s.emit(token.LeftParen, start)
	case ')':
		s.parens = max(0, s.parens-1)
		s.emit(token.RightParen, start)
	case ',':
		s.emit(token.Comma, start)
	case '=':
		if rest := s.text[s.at:]; strings.HasPrefix(rest, "=") || strings.HasPrefix(rest, ">") {
			s.at++
			hint := punctuationHint("", s.text[start:s.at])
			s.illegal(start, fmt.Sprintf("%q has no meaning here", s.text[start:s.at]), cmp.Or(hint, `write "="`))
			return
		}
		s.emit(token.Equals, start)
	case '!':
		if strings.HasPrefix(s.text[s.at:], "=") {
			s.at++
			s.emit(token.NotEquals, start)
			return
		}
		s.illegal(start, `"!" stands only in "!="`, `"not" turns a condition around`)
	case '/':
		if s.portsBehind(start) {
			return
		}
		fallthrough
	default:
		r, size := utf8.DecodeRuneInString(s.text[start:])
		s.at = start + size
		if r == utf8.RuneError {
			// One message for adjacent bytes that are not UTF-8.
			for s.at < len(s.text) && s.text[s.at] >= utf8.RuneSelf {
				s.at++
			}
			s.illegal(start, "this is not UTF-8 text", "")
			return
		}
		line := strings.LastIndexByte(s.text[:start], '\n') + 1
		hint := punctuationHint(s.text[line:start], s.text[start:min(start+2, len(s.text))])
		if unicode.IsLetter(r) {
			hint = "names are made of ASCII letters, digits, - and _"
		}
		s.takeForeign(c)
		if c == ']' && strings.Contains(s.text[line:start], "[") { // it was reported at the opening bracket
			s.emit(token.Illegal, start)
			return
		}
		for s.at < len(s.text) && s.text[s.at] < ' ' && s.text[s.at] != '\n' && s.text[s.at] != '\t' &&
			s.text[s.at] != '\r' {
			s.at++
		}
		s.illegal(start, "this character has no meaning here", hint)
	}
}

// takeForeign takes the rest of an operator of other languages, so that it is one mistake: //, ->,
// &&, ||, <>, can't.
func (s *scanner) takeForeign(first byte) {
	rest := s.text[s.at:]
	next := func(texts ...string) bool {
		return slices.ContainsFunc(texts, func(text string) bool { return strings.HasPrefix(rest, text) })
	}
	switch first {
	case '/':
		if next("/", "*") { // a foreign comment: to the end of the line
			line, _, _ := strings.Cut(rest, "\n")
			s.at += len(strings.TrimRight(line, "\r"))
		}
	case '\'':
		if next("t") {
			s.at++
		}
	case '-', '<':
		if next(">") {
			s.at++
		}
	case '&', '|':
		if next(string(first)) {
			s.at++
		}
	}
}

func (s *scanner) illegal(start int, text, hint string) {
	s.say(start, s.at, text, hint)
	s.emit(token.Illegal, start)
}

// quoted scans a text in quotes. It must end on its line.
func (s *scanner) quoted() {
	start := s.at
	for s.at++; s.at < len(s.text); s.at++ {
		switch s.text[s.at] {
		case '"':
			s.at++
			if text := s.text[start:s.at]; !utf8.ValidString(text) {
				s.illegal(start, "this text is not UTF-8", "")
				return
			}
			if at, bad := badEscape(s.text[start:s.at]); bad {
				s.say(start+at, min(start+at+2, s.at), "this escape is not known", `write \" \\ \n \t or \u{20ac}`)
				s.emit(token.Illegal, start)
				return
			}
			s.emit(token.String, start)
			return
		case '\\':
			if s.at+1 < len(s.text) && s.text[s.at+1] != '\n' {
				s.at++
			}
		case '\n':
			end := s.at
			if s.text[end-1] == '\r' {
				end--
			}
			s.say(start, end, "this text has no closing quote on its line", `write \n for a line end within a text`)
			s.emit(token.Illegal, start)
			return
		}
	}
	s.illegal(start, "this text has no closing quote", "")
}

// Unquote is the text that a String token stands for.
func Unquote(quoted string) string {
	inner := strings.Trim(quoted, `"`)
	if len(quoted) >= 2 {
		inner = quoted[1 : len(quoted)-1]
	}
	if !strings.Contains(inner, `\`) {
		return inner
	}
	var b strings.Builder
	for i := 0; i < len(inner); i++ {
		if inner[i] != '\\' || i+1 == len(inner) {
			b.WriteByte(inner[i])
			continue
		}
		i++
		switch inner[i] {
		case 'n':
			b.WriteByte('\n')
		case 't':
			b.WriteByte('\t')
		case 'u':
			r, size, _ := unicodeEscape(inner[i:])
			b.WriteRune(r)
			i += size - 1
		default:
			b.WriteByte(inner[i])
		}
	}
	return b.String()
}

// badEscape finds the first escape that is not known.
func badEscape(text string) (at int, bad bool) {
	for i := 0; i < len(text); i++ {
		if text[i] != '\\' {
			continue
		}
		i++
		if i == len(text) {
			return i - 1, true
		}
		switch text[i] {
		case '"', '\\', 'n', 't':
		case 'u':
			if _, _, ok := unicodeEscape(text[i:]); !ok {
				return i - 1, true
			}
		default:
			return i - 1, true
		}
	}
	return 0, false
}

// unicodeEscape reads u{X...}, one to six hex digits, and its length.
func unicodeEscape(text string) (r rune, size int, ok bool) {
	if !strings.HasPrefix(text, "u{") {
		return utf8.RuneError, 1, false
	}
	end := strings.IndexByte(text, '}')
	if end < 3 || end > 8 {
		return utf8.RuneError, 1, false
	}
	for _, c := range []byte(text[2:end]) {
		if !isHex(c) {
			return utf8.RuneError, 1, false
		}
		r = r<<4 | rune(hexValue(c))
	}
	return r, end + 1, utf8.ValidRune(r)
}

// word scans a name, path, number, span, fraction, duration, date or range.
func (s *scanner) word() {
	start := s.at
	if end, ok := s.ipv6End(); ok {
		s.at = end
		s.address(start)
		return
	}
	if c := s.text[start]; c == ':' {
		if s.portsBehind(start) {
			return
		}
		s.at++
		s.emit(token.Colon, start)
		return
	} else if isLetter(c) {
		s.name(start)
		return
	}
	for s.at < len(s.text) &&
		(isWordByte(s.text[s.at]) || s.text[s.at] == '.' || s.text[s.at] == '/' || s.text[s.at] == ':') {
		s.at++
	}
	text := s.text[start:s.at]
	switch {
	case strings.Contains(text, "."):
		s.address(start)
	case allDigits(text):
		s.emit(token.Number, start)
	case isDate(text):
		s.emit(token.Date, start)
	case isPair(text, '-'):
		s.emit(token.NumberSpan, start)
	case isPair(text, '/'):
		s.emit(token.Fraction, start)
	case isDuration(text):
		s.emit(token.Duration, start)
	default:
		s.illegal(start, "this is not a number, range of ports, date, duration or range",
			cmp.Or(numberHint(text), "443, 8000-8099, 2027-01-31, 90m, 10.20.0.0/16"))
	}
}

// ipv6End finds the end of an IPv6 address or range that begins here: a run of
// hex digits and colons with two colons or more, whatever it begins with.
func (s *scanner) ipv6End() (int, bool) {
	end, colons := s.at, 0
	if c := s.text[end]; c != ':' && classes[c]&hex == 0 {
		return 0, false
	}
	for end < len(s.text) && (isHex(s.text[end]) || s.text[end] == ':') {
		if s.text[end] == ':' {
			colons++
		}
		end++
	}
	if colons < 2 {
		return 0, false
	}
	for end < len(s.text) &&
		(isWordByte(s.text[end]) || s.text[end] == '.' || s.text[end] == '/' || s.text[end] == ':') {
		end++
	}
	return end, true
}

func (s *scanner) address(start int) {
	text := s.text[start:s.at]
	if _, err := netip.ParseAddr(text); err == nil && !strings.Contains(text, "%") {
		s.emit(token.Range, start)
		return
	}
	if _, err := netip.ParsePrefix(text); err == nil {
		s.emit(token.Range, start)
		return
	}
	what := "this is not an address or range"
	hint := numberHint(text)
	if strings.Contains(hint, "date") {
		what = "this is no date"
	}
	s.illegal(start, what, cmp.Or(hint, "10.20.0.0/16, 192.0.2.7, 2001:db8::/32"))
}

func (s *scanner) name(start int) {
	kind := token.Name
	for {
		for s.at < len(s.text) && isWordByte(s.text[s.at]) {
			s.at++
		}
		if s.at+1 >= len(s.text) || s.text[s.at] != '/' || !isLetter(s.text[s.at+1]) {
			s.emit(kind, start)
			return
		}
		kind = token.Path
		s.at++
	}
}

// Classes of bytes.
const (
	letter = 1 << iota
	digit
	hex
	wordByte
)

// classes are the classes of each byte.
var classes = func() (table [256]uint8) {
	for c := range 256 {
		b := byte(c)
		if b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' {
			table[c] |= letter | wordByte
		}
		if b >= '0' && b <= '9' {
			table[c] |= digit | hex | wordByte
		}
		if b >= 'a' && b <= 'f' || b >= 'A' && b <= 'F' {
			table[c] |= hex
		}
		if b == '-' || b == '_' {
			table[c] |= wordByte
		}
	}
	return table
}()

func isLetter(c byte) bool   { return classes[c]&letter != 0 }
func isDigit(c byte) bool    { return classes[c]&digit != 0 }
func isHex(c byte) bool      { return classes[c]&hex != 0 }
func isWordByte(c byte) bool { return classes[c]&wordByte != 0 }

func hexValue(c byte) byte {
	if isDigit(c) {
		return c - '0'
	}
	return c&^0x20 - 'A' + 10
}

func allDigits(text string) bool {
	for i := range len(text) {
		if !isDigit(text[i]) {
			return false
		}
	}
	return text != ""
}

func isPair(text string, between byte) bool {
	a, b, ok := strings.Cut(text, string(between))
	return ok && allDigits(a) && allDigits(b)
}

// isDate reports whether the text has the shape of a date; whether it exists is asked later.
func isDate(text string) bool {
	day, clock, timed := strings.Cut(text, "T")
	shape := func(text, shape string) bool {
		if len(text) != len(shape) {
			return false
		}
		for i := range len(text) {
			if shape[i] == '0' && !isDigit(text[i]) || shape[i] != '0' && text[i] != shape[i] {
				return false
			}
		}
		return true
	}
	return shape(day, "0000-00-00") && (!timed || shape(clock, "00:00Z"))
}

func isDuration(text string) bool {
	digits := 0
	for i := range len(text) {
		switch c := text[i]; {
		case isDigit(c):
			digits++
		case digits > 0 && strings.IndexByte("smhd", c) >= 0:
			digits = 0
		default:
			return false
		}
	}
	return digits == 0 && text != ""
}
