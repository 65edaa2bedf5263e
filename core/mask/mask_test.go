package mask

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html"
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"
)

// writings are ways in which a server may repeat a text.
func writings(random *rand.Rand, text string) map[string]string {
	perCharacter := func(write func(c byte) string) string {
		var b strings.Builder
		for i := range len(text) {
			if random.IntN(2) == 0 {
				b.WriteString(write(text[i]))
			} else {
				b.WriteByte(text[i])
			}
		}
		return b.String()
	}
	inJSON, _ := json.Marshal(text)
	twice, _ := json.Marshal(string(inJSON))
	header := "Bearer " + text
	return map[string]string{
		"itself": text, "upper case": strings.ToUpper(text), "in JSON": string(inJSON), "JSON in JSON": string(twice),
		"some characters by number in JSON": perCharacter(func(c byte) string { return fmt.Sprintf(`\u%04x`, c) }),
		"escaped characters":                perCharacter(func(c byte) string { return `\` + string([]byte{c}) }),
		"in an address":                     url.QueryEscape(text), "in a path": url.PathEscape(text),
		"some characters in percent": perCharacter(func(c byte) string { return fmt.Sprintf("%%%02X", c) }),
		"percent twice":              perCharacter(func(c byte) string { return fmt.Sprintf("%%25%02x", c) }),
		"in a page":                  html.EscapeString(text),
		"some characters in a page":  perCharacter(func(c byte) string { return fmt.Sprintf("&#x%X;", c) }),
		"by decimal numbers":         perCharacter(func(c byte) string { return fmt.Sprintf("&#%03d;", c) }),
		"in a mail":                  perCharacter(func(c byte) string { return fmt.Sprintf("=%02X", c) }),
		"hexadecimal":                hex.EncodeToString([]byte(header)),
		"base64":                     base64.StdEncoding.EncodeToString([]byte(header)),
		"base64 of more":             base64.StdEncoding.EncodeToString([]byte("xy" + header + "\r\nHost: x")),
		"base64 for addresses":       base64.RawURLEncoding.EncodeToString([]byte("z" + header)),
	}
}

// In whatever way a secret comes back, it is gone before anybody reads it, and all else is as it was.
func TestSecretsAreMasked(t *testing.T) {
	random := rand.New(rand.NewPCG(32, 4))
	const letters = `ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~+/=&"'<>%`
	for range 60 {
		token := make([]byte, 12+random.IntN(40))
		for i := range token {
			token[i] = letters[random.IntN(len(letters))]
		}
		var m Masker
		m.Learn(string(token))
		for name, text := range writings(random, string(token)) {
			got := string(m.Mask([]byte("before "+text+" behind"), true))
			if !strings.HasPrefix(got, "before ") || !strings.HasSuffix(got, " behind") || !strings.Contains(got, Masked) {
				t.Errorf("%s of %s: %s", name, token, got)
			}
			for n := 0; n+6 <= len(token); n++ { // half a token is too much as well
				if strings.Contains(got, string(token[n:n+6])) {
					t.Errorf("%s of %s is left in part: %s", name, token, got)
					break
				}
			}
			if name == "upper case" {
				continue // data is searched for it as it was sent
			}
			if got = string(m.Mask([]byte("before "+text+" behind"), false)); !strings.Contains(got, Masked) &&
				name != "escaped characters" && name != "in a mail" {
				t.Errorf("%s of %s in data: %s", name, token, got)
			}
		}
		other := `{"id":"sg-1","description":"R\u0026D 100% a=b &amp; \\x","peers":["10.0.0.0/8"]}`
		if got := string(m.Mask([]byte(other), false)); got != other {
			t.Errorf("%s becomes %s", other, got)
		}
	}
}
