package work

import (
	"strings"
	"testing"

	"isonomos/core/narrow"
)

// Each case shows the file before and after, and what was not done, with the reason.
func TestAcross(t *testing.T) {
	for _, x := range []struct{ name, before, after, refused string }{
		{"addresses that three groups share",
			"group g in n {\n  cover where role = g\n  admit ssh from 192.0.2.1, 192.0.2.8/29 because \"the " +
				"stations' desks, all\" # keep\n}\ngroup h in n { admit http from 192.0.2.8/29, 192.0.2.1, group " +
				"web }\ngroup k in m { admit https from 192.0.2.1, 192.0.2.8/29 }\n",
			"group g in n {\n  cover where role = g\n  admit ssh from list addresses-1 because " +
				"\"the stations' desks, all\" # keep\n}\ngroup h in n { admit http from list " +
				"addresses-1, group web }\ngroup k in m { admit https from list " +
				"addresses-1 }\n\nlist addresses-1 {\n  192.0.2.1\n  192.0.2.8/29\n}\n",
			""},
		{"a list that holds them is there", "group g in n { admit ssh from 198.51.100.0/28 }\ngroup h in n { " +
			"admit http from 198.51.100.0/28 }\ngroup k in m { admit https from 198.51.100.0/28 }\n",
			"group g in n { admit ssh from list partners }\ngroup h in n { admit http from list partners " +
				"}\ngroup k in m { admit https from list partners }\n", ""},
		{"two groups are too few",
			"group g in n { admit ssh from 192.0.2.1 }\ngroup h in n { admit http from 192.0.2.1 }\n", "", ""},
		{"exceptions stay", "group g in n { admit ssh from 192.0.2.1 except 192.0.2.1 }\ngroup h in n { admit " +
			"http from 192.0.2.1 }\ngroup k in m { admit https from 192.0.2.1 }\n", "", ""},
		{"own machines by their group", "group g in n {\n  cover where role = g\n  admit ssh from 10.0.1.2, " +
			"192.0.2.1\n}\n", "group g in n {\n  cover where role = g\n  admit ssh from group web, 192.0.2.1\n}\n", ""},
		{"a group with other members", "group all in n { cover where role in (g, web) }\ngroup g in n { admit " +
			"ssh from 10.0.1.1 }\n", "", "other members too, who would be let in: 10.0.1.2"},
		{"twins", "group g in n {\n  cover where role = g\n  admit ssh from list partners\n}\n\n# the " +
			"second\ngroup h in n {\n  cover where role = h\n  admit ssh from 198.51.100.0/29\n  admit ssh from " +
			"198.51.100.8/29\n}\n",
			"group g in n {\n  cover where role = h\n  cover where role = g\n  admit ssh from list " +
				"partners\n}\n\n# the second\n", ""},
		{"no twins: groups in which nobody is yet", "group free in n { reach http at everyone }\ngroup spare in " +
			"n { reach https at everyone }\ngroup g in n { admit ssh from free }\ngroup h in n { admit postgres " +
			"from spare }\n", "", ""},
		{"twins with a comment", "group g in n { admit ssh from list partners }\ngroup h in n { admit ssh from " +
			"list partners } # why two?\n", "", "comments in a/n/h, which would be lost"},
		{"twins of which one is named", "group g in n { admit ssh from list partners }\ngroup h in n { admit ssh " +
			"from list partners }\ngroup k in n { admit http from h }\n", "", "a/n/k names one of them"},
	} {
		w := world(t, x.before)
		joints, files, err := w.Across(options)
		if err != nil {
			t.Fatal(err)
		}
		var refused []string
		for _, j := range joints {
			if j.Refused != "" {
				refused = append(refused, j.Refused)
			}
		}
		if x.refused != "" && !strings.Contains(strings.Join(refused, "; "), x.refused) ||
			x.refused == "" && len(refused) > 0 {
			t.Errorf("%s: not done: %v, want %q", x.name, refused, x.refused)
		}
		if x.after == "" && len(files) > 0 || x.after != "" && (len(files) != 1 || files[0].Text != x.after) {
			t.Errorf("%s: got %+v\nwant %s", x.name, files, x.after)
		}
	}
}

// Subjects that let through some of the same are narrowed as one: each by itself
// would rely on the other.
func TestOverlappingSubjectsAreOne(t *testing.T) {
	w := world(t, "group g in n {\n  cover where role = g\n  admit ssh from everyone\n  admit tcp 20-30 from "+
		"everyone\n  admit http from everyone\n}\n")
	var subjects []narrow.Subject
	for _, name := range []string{"x.nomos:3", "x.nomos:5", "x.nomos:4"} {
		s, err := w.Subjects(name)
		if err != nil {
			t.Fatal(err)
		}
		subjects = append(subjects, s...)
	}
	result, err := w.Propose(subjects, narrow.Options{Flows: observed("10.0.1.2 22", "10.0.1.2 25")}, options)
	want := "group g in n {\n  cover where role = g\n  admit ssh, smtp from group web\n}\n"
	if err != nil || len(result.Proposals) != 2 || len(result.Files) != 1 || result.Files[0].Text != want {
		t.Errorf("got %v, %v\nwant %s", result.Files, err, want)
	}
}

// What the flows know nothing of is left alone, unless it was asked for by name.
func TestUnwatchedGroupsAreLeftAlone(t *testing.T) {
	w := world(t, "group g in m {\n  cover where role = g\n  admit ssh from everyone\n}\ngroup h in n {\n  cover "+
		"where role = g\n  admit http from everyone\n}\n")
	var subjects []narrow.Subject
	for _, name := range []string{"a/m/g", "h"} {
		s, err := w.Subjects(name)
		if err != nil {
			t.Fatal(err)
		}
		subjects = append(subjects, s...)
	}
	result, err := w.Propose(subjects, narrow.Options{Flows: observed("10.0.1.2 80")}, options)
	if err != nil || !strings.Contains(result.Proposals[0].Refused, "the evidence tells nothing") ||
		result.Proposals[1].Refused != "" {
		t.Fatalf("%+v, %v", result, err)
	}
	if result, err = w.Propose(subjects, narrow.Options{Flows: observed("10.0.1.2 80"), Blind: true},
		options); err != nil || result.Proposals[0].Refused != "" || len(result.Proposals[0].New) > 0 {
		t.Errorf("by name: %+v, %v", result, err)
	}
}
