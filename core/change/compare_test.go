package change_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"isonomos/core/change"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/store"
	"isonomos/work"
)

const places = `
cloud c { dialect union }
account a { cloud c }
network n in a { range 10.0.0.0/16 }
list known { 192.0.2.0/24 }
`

func defined(t *testing.T, text string, survey *estate.Estate) *estate.Estate {
	t.Helper()
	d := nomos.Understand([]*source.File{source.NewFile("x.nomos", places+text)}, resolve.Options{Now: time.Unix(0, 0)})
	for _, m := range d.Messages {
		t.Fatal(m)
	}
	return work.NewWorld(d, survey).Estate
}

// told is a difference in words: what opens, closes, and why; what is only spelt otherwise.
func told(d change.Difference) string {
	var parts []string
	for _, c := range d.Changes {
		text := fmt.Sprintf("%s %s %s %s", c.Place(), c.Direction, c.Kind, c.Traffic.Services())
		if len(c.Causes) > 0 {
			text += " by " + strings.Join(c.Causes, ", ")
		}
		parts = append(parts, text)
	}
	for _, p := range d.Respelt {
		parts = append(parts, p+" respelt")
	}
	for _, text := range d.Unknown {
		parts = append(parts, "unknown "+text)
	}
	slices.Sort(parts)
	return strings.Join(parts, "; ")
}

func TestCompareDefinitions(t *testing.T) {
	for _, x := range []struct{ before, after, want string }{
		{"group g in n { admit ssh from everyone }", "group g in n { admit ssh from everyone }", ""},
		{"group g in n { admit ssh from everyone }", "group g in n { admit ssh from 0.0.0.0/1, 128.0.0.0/1, ::/0 }",
			"a/n/g respelt"},
		{"group g in n { admit ssh, telnet from list known }",
			"group g in n { admit tcp 22-23 from 192.0.2.0/25, 192.0.2.128/25 }", "a/n/g respelt"},
		{"group g in n { admit ssh from everyone }", "group g in n { admit ssh from list known }",
			"a/n/g in closes tcp 22"},
		{"group g in n { admit ssh from list known }", "group g in n { admit ssh, http from list known\n reach " +
			"ntp at everyone }", "a/n/g in opens tcp 80; a/n/g out opens udp 123"},
		{"group g in n { admit ssh from list known }", "group g in n { admit http from list known }",
			"a/n/g in closes tcp 22; a/n/g in opens tcp 80"},
		{"group g in n { admit ssh from list known }", "group h in n { admit ssh from list known }",
			"a/n/g in closes tcp 22 by the group is gone; a/n/h in opens tcp 22 by a new group"},
		{"group g in n { admit ssh from h }\ngroup h in n { }\ngroup k in n { }", "group g in n { admit ssh from " +
			"k }\ngroup h in n { }\ngroup k in n { }", "a/n/g in closes tcp 22; a/n/g in opens tcp 22"},
		{"group g in n { admit ssh from h }\ngroup h in n { }",
			"group g in n { admit ssh from network }\ngroup h in n { }", "a/n/g in opens tcp 22"},
		{"group g in n { refuse ssh from list known\n admit ssh from everyone }",
			"group g in n { admit ssh from everyone except list known }", "a/n/g respelt"},
	} {
		before, after := defined(t, x.before, nil), defined(t, x.after, nil)
		change.StandIns(before, after)
		if got := told(change.Compare(decide.New(before), decide.New(after))); got != x.want {
			t.Errorf("%s\n→ %s\n got %q\nwant %q", x.before, x.after, got, x.want)
		}
		// The other way round what opened closes.
		back := told(change.Compare(decide.New(after), decide.New(before)))
		if strings.Count(back, "opens") != strings.Count(x.want, "closes") ||
			strings.Count(back, "closes") != strings.Count(x.want, "opens") {
			t.Errorf("%s\n← %s: %q", x.before, x.after, back)
		}
	}
}

const survey = `{"kind":"survey","version":1}
{"kind":"cloud","name":"c","dialect":"union"}
{"kind":"account","name":"a","cloud":"c"}
{"kind":"network","account":"a","id":"n","ranges":["10.0.0.0/16"]}
{"kind":"subnet","account":"a","network":"n","id":"s","ranges":["10.0.0.0/24"]}
{"kind":"instance","account":"a","id":"i","labels":{"role":"web"},"interfaces":[{"id":"f","subnet":"s","private":["10.0.0.5"],"groups":["grp"]}]}
{"kind":"group","account":"a","network":"n","id":"grp","name":"g"}
{"kind":"rule","account":"a","group":"grp","id":"r1","direction":"in","peers":["192.0.2.0/24"],"services":["tcp 22"]}
{"kind":"rule","account":"a","group":"grp","id":"r2","direction":"in","peers":["192.0.2.0/24"],"services":["tcp 80"]}
{"kind":"group","account":"a","network":"n","id":"other","name":"other"}
{"kind":"rule","account":"a","group":"other","id":"r3","direction":"in","peers":["0.0.0.0/0"],"services":["tcp 443"]}
`

func TestCompareWithSurvey(t *testing.T) {
	read := func(text string) *estate.Estate {
		e, _, err := store.ReadSurvey(strings.NewReader(text), "s")
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	for _, x := range []struct{ definitions, want string }{
		{"group g in n { cover where role = web\n admit ssh, http from list known }", "a/n/g respelt"},
		{"group g in n { cover where role = web\n admit ssh from list known }", "a/n/g in closes tcp 80"},
		{"group g in n { admit ssh, http from list known }", "a/n/g respelt; unknown what a/i lets through: no " +
			"group is attached to the interface, and the survey does not name the default group of a/n"},
		{"group g in n { cover where role = web\n admit ssh, http from list known }\ngroup h in n { cover where " +
			"role = web\n admit https from list known }", "a/i in opens tcp 443 by h attached; a/n/g respelt"},
		{"group g in n { cover where role = web\n admit ssh, http from list known }\ngroup h in n { cover where " +
			"role = nobody\n admit https from list known }", "a/n/g respelt; a/n/h in opens tcp 443 by a new group"},
	} {
		s := read(survey)
		if got := told(change.Compare(decide.New(s), decide.New(defined(t, x.definitions, s)))); got != x.want {
			t.Errorf("%s\n got %q\nwant %q", x.definitions, got, x.want)
		}
	}
	// One takes the place of another that lets the same through: nothing opens or closes.
	renamed := strings.NewReplacer(`"grp"`, `"grp-2"`, `"name":"g"`, `"name":"h"`).Replace(survey)
	if got := told(change.Compare(decide.New(read(survey)), decide.New(read(renamed)))); got != "" {
		t.Errorf("a group of another name: %q", got)
	}
	fewer := strings.Replace(renamed, `"services":["tcp 80"]`, `"services":["tcp 81"]`, 1)
	if got := told(change.Compare(decide.New(read(survey)),
		decide.New(read(fewer)))); got != "a/i in closes tcp 80 by h attached, g detached; a/i in opens tcp 81 "+
		"by h attached, g detached" {
		t.Errorf("a group of another name and with another rule: %q", got)
	}
	moved := strings.Replace(survey, `"groups":["grp"]`, `"groups":["grp","other"]`, 1)
	if got := told(change.Compare(decide.New(read(survey)),
		decide.New(read(moved)))); got != "a/i in opens tcp 443 by other attached" {
		t.Errorf("two surveys: %q", got)
	}
}
