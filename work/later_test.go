package work_test

import (
	"errors"
	"strings"
	"testing"

	"isonomos/enact"
)

const laterDefinitions = `estate play
cloud c { dialect union }
account a { cloud c }
network n in a { range 10.1.0.0/16 }
group web in n "Ours" {
  cover where role = web
  admit tcp PORT from 192.0.2.0/24
}
`

// What a later run of ours has changed is said to be its work, and what somebody else has changed to be theirs. An undoing
// that was undone in its turn undoes nothing.
func TestWhoHasChangedWhatSince(t *testing.T) {
	q := newQuay(t, strings.Replace(whoseSurvey, "DIALECT", "union", 1))
	enacted := func(port string) string {
		t.Helper()
		q.define(strings.Replace(laterDefinitions, "PORT", port, 1))
		name, err := q.enacted()
		if err != nil {
			t.Fatal(err)
		}
		return name
	}
	first, second := enacted("1000"), enacted("2000")
	var moved *enact.MovedError
	if err := q.repealed(first); !errors.As(err, &moved) || moved.Run != second ||
		!strings.Contains(err.Error(), "the later run "+second) {
		t.Errorf("a later run has changed it: %v", err)
	}
	if err := q.repealed(second); err != nil {
		t.Fatal(err)
	}
	undoing := q.pasts()[2].Name
	if err := q.repealed(undoing); err != nil {
		t.Fatal(err)
	}
	if err := q.repealed(second); err != nil {
		t.Errorf("its undoing was undone: %v", err)
	}
	if err := q.repealed(second); err == nil || !strings.Contains(err.Error(), "is undone already") {
		t.Errorf("it is undone: %v", err)
	}
	var group string
	for _, g := range q.now().Groups {
		group = g.ID
	}
	if code, text := q.by("POST", "/accounts/a/groups/"+group+"/rules",
		`{"direction":"in","action":"admit","peers":["203.0.113.0/24"],"services":["tcp 23"]}`); code >= 300 {
		t.Fatal(text)
	}
	moved = nil
	if err := q.repealed(first); !errors.As(err, &moved) || moved.Run != "" ||
		!strings.Contains(err.Error(), "somebody else has changed since: the group web of a") {
		t.Errorf("somebody else has changed it: %v", err)
	}
}
