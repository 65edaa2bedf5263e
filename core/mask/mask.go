// Package mask takes secrets out of texts. Servers repeat what they were sent: in the text of a problem, in a log that
// they hand out, in a name. What is secret of that must reach no screen, file or journal, so it is taken out of every
// answer before anybody reads it.
package mask

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"sync"
)

const (
	// Masked stands where a secret stood. It is safe within JSON, HTML and addresses.
	Masked = "***"
	// leastSecret is the least length of a secret that is looked for in data; shorter ones could be part of anything.
	// In what a server says of a request that it refuses, leastRefused is enough.
	leastSecret  = 8
	leastRefused = 4
)

// A Masker knows secrets, and takes them out of texts. It may be used by several goroutines.
type Masker struct {
	mu      sync.RWMutex
	secrets map[string]*secret
}

// A secret is a text that must not be repeated.
type secret struct {
	exact [][]byte       // itself, and other encodings of the whole
	any   *regexp.Regexp // each character in any of many ways
}

// Learn adds secrets. Those of less than four bytes are left out: they could be part of anything.
func (m *Masker) Learn(texts ...string) {
	for _, text := range texts {
		if len(text) < leastRefused {
			continue
		}
		m.mu.RLock()
		known := m.secrets[text] != nil
		m.mu.RUnlock()
		if known {
			continue
		}
		m.mu.Lock()
		if m.secrets == nil {
			m.secrets = make(map[string]*secret)
		}
		m.secrets[text] = newSecret(text)
		m.mu.Unlock()
	}
}

func newSecret(text string) *secret {
	s := &secret{any: everyWay(text)}
	inJSON := func(text string) string {
		quoted, _ := json.Marshal(text) // a text can always be encoded
		return string(quoted[1 : len(quoted)-1])
	}
	inHex := hex.EncodeToString([]byte(text))
	for _, way := range []string{text, inHex, strings.ToUpper(inHex),
		inJSON(text), inJSON(inJSON(text)), html.EscapeString(text), url.QueryEscape(text), url.PathEscape(text)} {
		s.exact = append(s.exact, []byte(way))
	}
	for _, encoding := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
		for before := range 3 { // what stands in front of it decides how it falls into groups of three bytes
			whole := encoding.EncodeToString(append(make([]byte, before), text...))
			from, to := (before*8+5)/6, (before+len(text))*8/6
			if to-from >= leastSecret {
				s.exact = append(s.exact, []byte(whole[from:to]))
			}
		}
	}
	return s
}

// everyWay matches a text in which each character is written in any of the ways of JSON, addresses, pages and mails.
func everyWay(text string) *regexp.Regexp {
	named := map[rune]string{'&': "amp", '<': "lt", '>': "gt", '"': "quot", '\'': "apos", '+': "plus", '/': "sol",
		'=': "equals"}
	const amp = `(?:&|\\+u0026)(?:amp;)*`
	var b strings.Builder
	b.WriteString("(?i)")
	for _, r := range text {
		fmt.Fprintf(&b, `(?:\\*(?:%s|u%04[2]x|x%02[2]x|0?%03[2]o)|%[3]s#0*%[2]d;?|%[3]s#x0*%[2]x;?|`,
			regexp.QuoteMeta(string(r)), r, amp)
		if name := named[r]; name != "" {
			b.WriteString(amp + name + ";|")
		}
		for _, sign := range []string{"%(?:25)*", "="} {
			for _, c := range []byte(string(r)) {
				fmt.Fprintf(&b, "%s%02x", sign, c)
			}
			b.WriteByte('|')
		}
		b.WriteString("[^\\x00-\\x{10FFFF}])") // ends the alternatives, and matches nothing
	}
	return regexp.MustCompile(b.String())
}

// Mask takes the secrets out of a text. refused says that it is what a server says of a request that it did not carry
// out: then every way to write a secret is looked for. Lists of objects are long, and there that is only done where
// some character of a secret is written in another way than as itself.
func (m *Masker) Mask(text []byte, refused bool) []byte {
	m.mu.RLock()
	defer m.mu.RUnlock()
	for whole, s := range m.secrets {
		if len(whole) < leastSecret && !refused {
			continue
		}
		for _, x := range s.exact {
			if bytes.Contains(text, x) {
				text = bytes.ReplaceAll(text, x, []byte(Masked))
			}
		}
		if refused || rewritten(text, whole) {
			text = s.any.ReplaceAllLiteral(text, []byte(Masked))
		}
	}
	return text
}

// escapes matches a character that is written by its number.
var escapes = regexp.MustCompile(
	`(?:&|\\u0026)#0*([0-9]{2,3})|(?:(?:&|\\u0026)#x0*|\\u00|\\x|%(?:25)*)([0-9A-Fa-f]{2})`)

// rewritten reports whether a text has some character of a secret by its number.
func rewritten(text []byte, secret string) bool {
	if bytes.IndexByte(text, '%') < 0 && !bytes.Contains(text, []byte(`\u00`)) && !bytes.Contains(text, []byte(`\x`)) &&
		!bytes.Contains(text, []byte("&#")) {
		return false
	}
	for _, m := range escapes.FindAllSubmatch(text, -1) {
		n, err := strconv.ParseUint(string(m[1]), 10, 8)
		if len(m[2]) > 0 {
			n, err = strconv.ParseUint(string(m[2]), 16, 8)
		}
		if err == nil && strings.IndexByte(secret, byte(n)) >= 0 {
			return true
		}
	}
	return false
}
