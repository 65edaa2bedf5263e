package cloud_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"isonomos/cloud"
)

// Whatever a server says, reading an account ends: pages that go round, that never end, that hold nothing, and
// objects without number.
func TestServersWithoutEnd(t *testing.T) {
	for name, x := range map[string]struct {
		page func(n int) string
		want string
	}{
		"one cursor": {func(int) string { return `{"revision":"1","items":[],"next":"x"}` }, "goes round in circles"},
		"two cursors": {func(n int) string { return fmt.Sprintf(`{"revision":"1","items":[],"next":"%d"}`, n%2) },
			"goes round in circles"},
		"empty pages": {func(n int) string { return fmt.Sprintf(`{"revision":"1","items":[],"next":"%d"}`, n) },
			"more than 100 objects"},
		"objects": {func(n int) string {
			return fmt.Sprintf(`{"revision":"1","items":[%s{}],"next":"%d"}`, strings.Repeat("{},", 40), n)
		}, "more than 100 objects, which is the limit for an account (ISONOMOS_MOST_OBJECTS"},
		"bytes": {func(n int) string {
			return fmt.Sprintf(`{"revision":"1","items":[{"a":%q}],"next":"%d"}`, strings.Repeat("x", 4000), n)
		}, "more than 10,000 bytes, which is the limit for an account (ISONOMOS_MOST_BYTES"},
	} {
		asked := 0
		web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			asked++
			_, _ = w.Write([]byte(x.page(asked)))
		}))
		o := quickly
		o.Most = cloud.Limits{Objects: 100, Bytes: 10_000}
		c, err := cloud.NewClient(web.URL, "", o)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := c.Survey(t.Context(), "a"); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v", name, err)
		}
		if asked > 102 {
			t.Errorf("%s: asked %d times", name, asked)
		}
		web.Close()
	}
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = w.Write([]byte(`{"revision":"1","items":[{"name":"a"},{"name":"b"},{"name":"a"}],"next":""}`))
	}))
	defer web.Close()
	if _, err := client(t, web.URL, "").Accounts(t.Context()); err == nil ||
		!strings.Contains(err.Error(), `the account "a" is listed twice`) {
		t.Errorf("accounts listed twice: %v", err)
	}
}
