package work

import (
	"errors"
	"strings"
	"testing"

	"isonomos/enact"
	"isonomos/nomos"
	"isonomos/nomos/source"
	"isonomos/store"
)

// An account that can't be read after a wave is not proved to be where it should be: in a survey
// without it there is nothing left to do in it.
func TestUnreadAccountHasNotArrived(t *testing.T) {
	const text = "estate e\ngroup g in n {\n  cover where role = g\n  admit tcp 443 from everyone because \"why\"\n}\n"
	d := nomos.Understand([]*source.File{source.NewFile("places.nomos", places), source.NewFile("x.nomos", text)},
		options)
	job, err := DefinedJob(d, "", nil, nil, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	cloud, _, _ := strings.Cut(survey, `{"kind":"account"`)
	unread, _, err := store.ReadSurvey(strings.NewReader(cloud+
		`{"kind":"account","name":"b","cloud":"c"}`+"\n"+`{"kind":"unread","account":"a","reason":"401 Unauthorized"}`+
		"\n"), "s")
	if err != nil {
		t.Fatal(err)
	}
	var missing *NotSurveyedError
	if err := job.Arrived(unread, &enact.Draft{}, []string{"a"}); !errors.As(err, &missing) ||
		missing.Account.Account != "a" {
		t.Errorf("an account that was not read: %v", err)
	}
	if err := job.Arrived(unread, &enact.Draft{}, []string{"b"}); err != nil {
		t.Errorf("an account of another wave was not read: %v", err)
	}
	if err := job.Arrived(unread, &enact.Draft{}, []string{"c"}); !errors.As(err, &missing) {
		t.Errorf("an account that no cloud shows: %v", err)
	}
}
