package cloud

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"isonomos/core/change"
)

// Nothing that a client returns has its token in it: no error, no survey, no name, whatever the server says.
func TestNoAnswerHasTheToken(t *testing.T) {
	const token = "hush-harbour-4711-Ab+/=9"
	inJSON, _ := json.Marshal(token)
	for name, text := range map[string]string{"itself": token, "in JSON": string(inJSON),
		"in an address": url.QueryEscape(token), "in a page": html.EscapeString(token),
		"by number":   strings.ReplaceAll(token, "h", "&#x68;"),
		"hexadecimal": hex.EncodeToString([]byte("Bearer " + token)),
		"base64":      base64.StdEncoding.EncodeToString([]byte("Bearer " + token))} {
		inJSON, _ := json.Marshal(text)
		for _, status := range []int{200, 403, 409, 500} {
			web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w.Header().Set("ETag", fmt.Sprintf("%q", r.Header.Get("Authorization")))
				w.Header().Set("Content-Type", "application/json")
				w.WriteHeader(status)
				_, _ = fmt.Fprintf(w, `{"title":%[1]s,"detail":%[1]s,"type":%[1]s,"dialect":%[1]s,"address":%[1]s,`+
					`"revision":%[1]s,"items":[{"kind":"account","name":%[1]s}],"feed":%[1]s,"group":{"id":%[1]s},"rules":[]}`,
					inJSON)
			}))
			c, err := NewClient(web.URL, token, Options{Attempts: 1, LeastWait: time.Millisecond})
			if err != nil {
				t.Fatal(err)
			}
			var said []any
			note := func(x any, err error) { said = append(said, x, err) }
			note(c.Dialect(t.Context()))
			note(c.Who(t.Context(), ""))
			note(c.Accounts(t.Context()))
			lines, err := c.Survey(t.Context(), "a")
			note(string(lines), err)
			o, err := c.Read(t.Context(), "a", Ref{"group", "g"})
			note(fmt.Sprintf("%+v %s", o, o.Lines), err)
			o, err = c.Change(t.Context(), Request{Do: change.DeleteGroup, Account: "a", ID: "g"}, "v")
			note(fmt.Sprintf("%+v", o), err)
			events, _, err := c.Changes(t.Context(), Position{}, 0)
			note(events, err)
			web.Close()
			all := fmt.Sprintf("%v", said)
			if strings.Contains(all, token) || status >= 300 && strings.Contains(strings.ToLower(all), strings.ToLower(token)) ||
				strings.Contains(all, text) {
				t.Errorf("%s, %d: %s", name, status, all)
			}
		}
	}
}

// An answer that ends early, or is too long, is told as such behind the masking too.
func TestMaskedBodies(t *testing.T) {
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "100")
		_, _ = w.Write([]byte(`{"dialect":"union"`))
	}))
	defer web.Close()
	c, err := NewClient(web.URL, "hush-harbour-4711", Options{Attempts: 1})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Dialect(t.Context()); !errors.Is(err, errCutOff) {
		t.Errorf("a body that ends early: %v", err)
	}
}
