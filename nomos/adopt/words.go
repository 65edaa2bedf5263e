package adopt

import (
	"fmt"
	"net/netip"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/nomos/token"
)

// Quote is a text as the language writes it.
func Quote(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < ' ' || r == 0x7f || r == '\ufffd' || r >= 0x80 && r < 0xa0 || r >= 0x2028 && r <= 0x202e ||
			r >= 0x2066 && r <= 0x2069:
			fmt.Fprintf(&b, `\u{%x}`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// IsName reports whether a text can be a name in definitions.
func IsName(text string) bool {
	if text == "" || token.Reserved(text) || peerWord[text] || !letter(text[0]) {
		return false
	}
	for i := range len(text) {
		if c := text[i]; !letter(c) && !(c >= '0' && c <= '9') && c != '-' && c != '_' {
			return false
		}
	}
	return true
}

// peerWord are words with a meaning where a peer is expected: a group of that name has to be
// referred to by its path.
var peerWord = map[string]bool{"everyone": true, "internet": true, "self": true, "probes": true, "network": true,
	"subnet": true, "group": true, "list": true}

func letter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

// Name turns a text into a name: characters that a name can't contain become hyphens.
func Name(text string) string {
	var b strings.Builder
	for _, r := range text {
		switch c := byte(r); {
		case r < 0x80 && (letter(c) || c >= '0' && c <= '9' || c == '_'):
			b.WriteByte(c)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	name := strings.Trim(b.String(), "-_")
	if name == "" {
		name = "unnamed"
	}
	if !letter(name[0]) {
		name = "n" + name
	}
	if !IsName(name) {
		name += "-1"
	}
	return name
}

// word writes a text where both names and quoted texts are allowed.
func word(text string) string {
	if IsName(text) {
		return text
	}
	return Quote(text)
}

// labels is a statement of labels, or empty if there are none.
func labels(keyword string, of estate.Labels) string {
	var pairs []string
	for _, k := range sortedKeys(of) {
		pairs = append(pairs, word(k)+" = "+word(of[k]))
	}
	if len(pairs) == 0 {
		return ""
	}
	return "  " + keyword + " " + strings.Join(pairs, ", ") + "\n"
}

func rangeTexts(ranges []netip.Prefix) string {
	var texts []string
	for _, r := range ranges {
		texts = append(texts, addr.PrefixString(r))
	}
	return strings.Join(texts, ", ")
}
