package scan

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"isonomos/nomos/token"
)

// Notations that people bring along from elsewhere, and how it is written here.

var (
	protocolBehind = regexp.MustCompile(`^(\d+(?:-\d+)?)/(tcp|udp)$`)
	portsOtherwise = regexp.MustCompile(`^(\d+)(?:\.\.+|:)(\d+)$`)
	dayFirst       = regexp.MustCompile(`^(\d{1,2})[./-](\d{1,2})[./-](\d{4})$`)
	yearFirst      = regexp.MustCompile(`^(\d{4})[./-](\d{1,2})[./-](\d{1,2})$`)
	clockBehind    = regexp.MustCompile(`^(\d{4}-\d{2}-\d{2})T(\d{2}:\d{2})(?::\d{2})?(?:[zZ]|[+-]00:?00)?$`)
	spanOfTime     = regexp.MustCompile(`^(\d+)(m|min|mins|minutes?|h|hrs?|hours?|d|days?|w|weeks?|s|secs?|seconds?)$`)
	addressRun     = regexp.MustCompile(`^[0-9.]+-[0-9.]+$`)
)

// numberHint suggests how to write a word that begins with a digit and has no meaning. It is empty
// if nobody can tell.
func numberHint(text string) string {
	if m := protocolBehind.FindStringSubmatch(text); m != nil {
		return "write: " + m[2] + " " + m[1]
	}
	if m := portsOtherwise.FindStringSubmatch(text); m != nil {
		return "a run of ports is written " + m[1] + "-" + m[2]
	}
	if m := clockBehind.FindStringSubmatch(text); m != nil {
		return "a moment is in UTC and ends in Z: " + m[1] + "T" + m[2] + "Z"
	}
	if m := yearFirst.FindStringSubmatch(text); m != nil {
		return dateHint(m[1], m[2], m[3])
	}
	if m := dayFirst.FindStringSubmatch(text); m != nil {
		if day, _ := strconv.Atoi(m[1]); strings.Contains(text, "/") && day <= 12 {
			if month, _ := strconv.Atoi(m[2]); month > 12 {
				return dateHint(m[3], m[1], m[2])
			}
			return "a date is written year-month-day, such as 2027-01-31" // day or month first is unknown
		}
		return dateHint(m[3], m[2], m[1])
	}
	if m := spanOfTime.FindStringSubmatch(text); m != nil {
		switch unit := m[2]; unit[0] {
		case 'w':
			if n, err := strconv.Atoi(m[1]); err == nil && n < 1000 {
				return fmt.Sprintf("write: %dd", 7*n)
			}
		case 's':
			return "minutes are the least: 1m"
		default:
			return "write: " + m[1] + unit[:1]
		}
	}
	if addressRun.MatchString(text) && strings.Contains(text, ".") {
		return "a run of addresses is written as ranges, such as 10.20.0.0/24"
	}
	return ""
}

// dateHint is a date as it is written here, if it exists.
func dateHint(year, month, day string) string {
	two := func(text string) string { return fmt.Sprintf("%02s", text) }
	text := year + "-" + two(month) + "-" + two(day)
	if _, err := time.Parse(time.DateOnly, text); err != nil {
		return "a date is written year-month-day, such as 2027-01-31"
	}
	return "write the date as " + text
}

// protocol reports whether a word is a protocol with ports.
func protocol(word string) bool { return slices.Contains(token.Ported, word) }

// portsBehind takes /443 or :443 directly behind a protocol as one piece, and suggests how to write
// it.
func (s *scanner) portsBehind(start int) bool {
	if len(s.tokens) == 0 {
		return false
	}
	last := s.tokens[len(s.tokens)-1]
	if int(last.End) != start || last.Kind != token.Name || !protocol(s.file.Of(last.Span)) {
		return false
	}
	end := start + 1
	for end < len(s.text) && (isDigit(s.text[end]) || s.text[end] == '-') {
		end++
	}
	if end == start+1 {
		return false
	}
	word := s.file.Of(last.Span)
	s.at = end
	s.illegal(start, "a port stands behind its protocol, after a space", "write: "+word+" "+s.text[start+1:end])
	return true
}

// punctuationHint suggests what to write instead of a character. rest is the text from it on,
// before is the text in front of it on its line.
func punctuationHint(before, rest string) string {
	starts := func(text string) bool { return strings.HasPrefix(rest, text) }
	switch {
	case starts("//"), starts("/*"):
		return "a comment begins with #"
	case starts("/"):
		return "a comment begins with #, and a path has no spaces"
	case starts(";"):
		return "a statement ends with its line: leave it out"
	case starts("'") && strings.HasSuffix(before, "can"):
		return `write "cannot"`
	case starts("'"):
		return `a text stands in "double quotes"`
	case starts("*"):
		return `"everyone" is every address, "any" is every service`
	case starts("["), starts("]"):
		return "brackets are round: tcp (443, 8443)"
	case starts("->"), starts("=>"):
		return `between the ends of a connect stands "to"`
	case starts("-"):
		return "a run of ports is written without spaces: 8000-8099"
	case starts("&"):
		return `write "and"`
	case starts("|"):
		return `write "or"`
	case starts("<>"):
		return `write "!="`
	case starts("<"), starts(">"):
		return "a run of ports is written 1024-65535"
	case starts("$"):
		return "there are no variables: a pattern has parameters, a list or service has a name"
	}
	return ""
}
