package cloud_test

import (
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"isonomos/cloud"
)

// A feed that repeats is read once; one that jumps, loses its position, is another one, is none or makes no sense says
// which of these it is, and its position stays.
func TestFeedsThatFail(t *testing.T) {
	event := func(number, previous int) string {
		return fmt.Sprintf(`{"number":%d,"previous":%d,"at":"2026-11-20T06:00:00Z","by":"amira","account":"a",`+
			`"action":"delete","kind":"rule","id":"r%d","group":"g"}`, number, previous, number)
	}
	answer := func(feed string, last int, events ...string) string {
		return fmt.Sprintf(`{"feed":%q,"last":%d,"items":[%s]}`, feed, last, strings.Join(events, ","))
	}
	status, text := 200, ""
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(status)
		_, _ = w.Write([]byte(text))
	}))
	defer web.Close()
	c := client(t, web.URL, "")
	at := cloud.Position{"f", 5}
	for _, x := range []struct {
		what   string
		status int
		text   string
		want   string // numbers of the events
		last   int
		err    error
	}{
		{"two events", 200, answer("f", 8, event(6, 5), event(8, 6)), "6 8", 8, nil},
		{"nothing yet", 200, answer("f", 5), "", 5, nil},
		{"a repeat", 200, answer("f", 6, event(4, 3), event(5, 4), event(6, 5), event(6, 5)), "6", 6, nil},
		{"a jump", 200, answer("f", 9, event(6, 5), event(9, 8)), "", 5, cloud.ErrJumped},
		{"a jump at once", 200, answer("f", 9, event(9, 8)), "", 5, cloud.ErrJumped},
		{"a jump back", 200, answer("f", 9, event(9, 2)), "", 5, cloud.ErrJumped},
		{"lost", 410, `{"type":"urn:isonomos:problem:position-lost","title":"Gone","status":410}`, "", 5, cloud.ErrLost},
		{"another feed", 200, answer("g", 1, event(1, 0)), "", 5, cloud.ErrLost},
		{"no feed", 404, `{}`, "", 5, cloud.ErrNoFeed},
		{"no feed yet", 501, `{}`, "", 5, cloud.ErrNoFeed},
		{"no name", 200, `{"items":[],"last":5}`, "", 5, nil},
		{"cut off", 200, answer("f", 6, event(6, 5))[:40], "", 5, nil},
		{"of nothing", 200, answer("f", 6, strings.Replace(event(6, 5), `"account":"a"`, `"account":""`, 1)), "", 5, nil},
		{"denied", 401, `{}`, "", 5, nil},
	} {
		status, text = x.status, x.text
		events, next, err := c.Changes(t.Context(), at, 0)
		var got []string
		for _, e := range events {
			got = append(got, fmt.Sprint(e.Number))
		}
		wrong := x.want == "" && x.err == nil && x.what != "nothing yet" // some other error
		if strings.Join(got, " ") != x.want || next.Last != x.last || next.Feed != "f" || x.err != nil &&
			!errors.Is(err, x.err) || x.err == nil && (err != nil) != wrong {
			t.Errorf("%s: %v, %+v, %v", x.what, got, next, err)
		}
	}
	status, text = 200, answer("f", 9)
	if events, next, err := c.Changes(t.Context(), cloud.Position{}, time.Second); err != nil || len(events) > 0 ||
		next != (cloud.Position{"f", 9}) {
		t.Errorf("where it is now: %v %+v %v", events, next, err)
	}
}

// What is still of the version that is known is not read.
func TestLookAgain(t *testing.T) {
	revision, pages := "r1", 0
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Query().Get("limit") != "1" {
			pages++
		}
		fmt.Fprintf(w, `{"revision":%q,"items":[{"kind":"account","name":"a"}],"next":"","feed":"f","last":3}`, revision)
	}))
	defer web.Close()
	c := client(t, web.URL, "")
	first, err := c.Look(t.Context(), "a", "")
	if err != nil || first.Same || first.Version != "r1" || first.At != (cloud.Position{"f", 3}) || pages != 1 {
		t.Fatalf("%+v %d %v", first, pages, err)
	}
	if again, err := c.Look(t.Context(), "a", "r1"); err != nil || !again.Same || pages != 1 {
		t.Errorf("%+v %d %v", again, pages, err)
	}
	revision = "r2"
	if again, err := c.Look(t.Context(), "a", "r1"); err != nil || again.Same || again.Version != "r2" || pages != 2 {
		t.Errorf("%+v %d %v", again, pages, err)
	}
}
