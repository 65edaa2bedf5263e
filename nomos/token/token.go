// Package token defines the tokens of the definition language.
package token

import "isonomos/nomos/source"

// Kind is the kind of a token.
type Kind uint8

// The kinds.
const (
	EOF     Kind = iota
	Newline      // the end of a statement
	Name         // ASCII letter, then letters, digits, - or _ ; keywords are names too
	Path         // names joined by slashes
	String       // "..." with its quotes and escapes
	Number
	NumberSpan // 8000-8099
	Fraction   // 3/4, an ICMP type and code
	Duration   // 90m, 1h30m
	Date       // 2027-01-31, 2027-01-31T18:00Z
	Range      // address or CIDR range of either family
	LeftBrace
	RightBrace
	LeftParen
	RightParen
	Comma
	Equals
	NotEquals
	Colon
	Illegal // the scanner has reported it
)

var kindNames = [...]string{"the end of the file", "the end of the line", "a name", "a path", "a text in quotes",
	"a number", "a run of numbers",
	"a fraction", "a duration", "a date", "a range", `"{"`, `"}"`, `"("`, `")"`, `","`, `"="`, `"!="`, `":"`,
	"something unreadable"}

// String is the kind in words: "a number", `"{"`.
func (k Kind) String() string { return kindNames[k] }

// A Token is one piece of a file's text.
type Token struct {
	source.Span
	Kind Kind
}

// Reserved reports whether a word can't be a name.
func Reserved(word string) bool {
	switch word {
	case "and", "or", "not", "in", "where", "from", "to", "at", "on", "for", "because", "until", "except",
		"stateless", "only", "every",
		"can", "cannot", "any", "everyone", "internet", "self", "v4", "v6", "tcp", "udp", "sctp", "dccp", "udplite",
		"icmp", "icmpv6",
		"protocol", "class":
		return true
	}
	return false
}

// Ported are the protocols with ports; Specs are the words that begin a service.
var (
	Ported = []string{"tcp", "udp", "sctp", "dccp", "udplite"}
	Specs  = append([]string{"any", "icmp", "icmpv6", "protocol", "class"}, Ported...)
)

// Continues reports whether a line that begins with the word continues the line before.
func Continues(word string) bool {
	switch word {
	case "because", "until", "except", "by", "on", "and", "or":
		return true
	}
	return false
}

// Declares reports whether a word begins a declaration.
func Declares(word string) bool {
	switch word {
	case "estate", "cloud", "account", "network", "list", "service", "pattern", "use", "group", "connect", "law",
		"exempt", "expect":
		return true
	}
	return false
}

// Declarations are the words that begin a declaration.
var Declarations = []string{"estate", "cloud", "account", "network", "list", "service", "pattern", "use", "group",
	"connect", "law", "exempt", "expect"}
