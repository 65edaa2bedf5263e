package change_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"isonomos/core/change"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/store"
)

// twinSurvey is an account in which names are no names: two groups are called web, and two lists known. LABELS stand
// for their marks.
const twinSurvey = `{"kind":"survey","version":1}
{"kind":"cloud","name":"c","dialect":"flat"}
{"kind":"account","name":"a","cloud":"c"}
{"kind":"network","account":"a","id":"n1","name":"n","ranges":["10.0.0.0/16"]}
{"kind":"subnet","account":"a","network":"n1","id":"s1","name":"s","ranges":["10.0.0.0/24"]}
{"kind":"list","account":"a","id":"l0","name":"known","owner":"own","entries":["192.0.2.0/28"],"labels":{L0}}
{"kind":"list","account":"a","id":"l1","name":"known","owner":"own","entries":["192.0.2.0/28"],"labels":{L1}}
{"kind":"group","account":"a","id":"g0","name":"web","labels":{G0}}
{"kind":"rule","account":"a","group":"g0","id":"r0","direction":"in","action":"admit","peers":["0.0.0.0/0"],"services":["tcp 443"]}
{"kind":"group","account":"a","id":"g1","name":"web","labels":{G1}}
{"kind":"rule","account":"a","group":"g1","id":"r1","direction":"in","action":"admit","peers":["list:l1"],"services":["tcp 80"]}
{"kind":"instance","account":"a","id":"i0","name":"theirs","interfaces":[{"id":"f0","subnet":"s1","private":["10.0.0.5"],"groups":["g0"]}]}
{"kind":"instance","account":"a","id":"i1","name":"ours","labels":{"role":"web"},"interfaces":[{"id":"f1","subnet":"s1","private":["10.0.0.6"],"groups":["g1"]}]}
`

const twinDefinitions = `estate pier
cloud c { dialect flat }
account a { cloud c }
network n in a { range 10.0.0.0/16 }
list known { 198.51.100.0/24 }
group web in n {
  cover where role = web
  admit tcp 80 from list known
}
`

// An object is that of a definition by the journal's id, else by our mark, else by the id that is named, else by a
// name that no other has. All others stay as they are in both states, and no step is about them. Brute force: every
// combination of marks, of what the journal knows, and of what is adopted.
func TestTwinsAreNobodys(t *testing.T) {
	label := []string{``, `"isonomos":"pier"`, `"isonomos":"quay"`}
	subsets := [][]string{nil, {"g0"}, {"g1"}, {"g0", "g1"}}
	for _, m0 := range label {
		for _, m1 := range label {
			for _, known := range subsets {
				for _, adopt := range []string{"", "a/n/web", "a/g0", "a/g1"} {
					text := strings.NewReplacer("{G0}", "{"+m0+"}", "{G1}", "{"+m1+"}", "{L0}", "{"+m0+"}", "{L1}",
						"{"+m1+"}").Replace(twinSurvey)
					aim := twinAim(t, text, twinDefinitions, known, adopt)
					ours := ownTwin(m0, m1, known, adopt)
					plan, err := change.NewPlan(aim)
					if err != nil {
						t.Fatal(err)
					}
					about := stepsAbout(plan)
					for _, id := range []string{"g0", "g1"} {
						if slices.Contains(about, id) && ours != id {
							t.Errorf("marks %q %q, known %v, adopted %q: a step is about %s, ours is %q: %s", m0, m1, known,
								adopt, id, ours, steps(plan))
						}
					}
					if slices.Contains(about, "f0") && ours != "g0" {
						t.Errorf("marks %q %q, known %v, adopted %q: somebody else's instance is changed: %s", m0, m1, known,
							adopt, steps(plan))
					}
					if ours == "" && !strings.Contains(strings.Join(aim.Left, "\n"), "a/g0, a/g1") {
						t.Errorf("marks %q %q, known %v, adopted %q: the two are not told: %q", m0, m1, known, adopt, aim.Left)
					}
				}
			}
		}
	}
}

// ownTwin says which of g0 and g1 is ours, written from the page alone; or neither.
func ownTwin(m0, m1 string, known []string, adopt string) string {
	mark := `"isonomos":"pier"`
	claims := [][2]bool{
		{slices.Contains(known, "g0") || adopt == "a/g0", slices.Contains(known, "g1") || adopt == "a/g1"},
		{m0 == mark, m1 == mark},
	}
	for _, c := range claims {
		switch {
		case c[0] && c[1]:
			return ""
		case c[0]:
			return "g0"
		case c[1]:
			return "g1"
		}
	}
	return ""
}

func twinAim(t *testing.T, survey, definitions string, known []string, adopt string) *change.Aim {
	t.Helper()
	e, _, err := store.ReadSurvey(strings.NewReader(survey), "s")
	if err != nil {
		t.Fatal(err)
	}
	d := nomos.Understand([]*source.File{source.NewFile("x.nomos", definitions)}, resolve.Options{Now: time.Unix(0, 0)})
	for _, m := range d.Messages {
		t.Fatal(m)
	}
	return change.NewAim(d.Estate, e, change.Choice{Adopt: func(path string) bool { return path == adopt },
		Knows: func(_, _, id string) bool { return slices.Contains(known, id) }})
}

// stepsAbout are the ids of the objects that steps change, and of the groups that they detach.
func stepsAbout(p change.Plan) (ids []string) {
	for _, l := range p.Lanes {
		for _, s := range l.Steps {
			switch {
			case s.Group != nil:
				ids = append(ids, s.Group.ID)
			case s.List != nil:
				ids = append(ids, s.List.ID)
			case s.Interface != nil:
				ids = append(ids, s.Interface.ID)
			}
		}
	}
	return ids
}

// A list of somebody else that has the name of one of ours stands in nobody's way, wherever it comes in the survey;
// rules that refer to it stay theirs.
func TestTwinLists(t *testing.T) {
	for _, ours := range []string{"l0", "l1"} {
		marks := strings.NewReplacer("{G1}", `{"isonomos":"pier"}`, "{G0}", "{}",
			"{"+strings.ToUpper(ours)+"}", `{"isonomos":"pier"}`)
		text := strings.NewReplacer("{L0}", "{}", "{L1}", "{}").Replace(marks.Replace(twinSurvey))
		aim := twinAim(t, text, twinDefinitions, []string{"g1", ours}, "")
		plan, err := change.NewPlan(aim)
		if err != nil {
			t.Fatal(err)
		}
		about := stepsAbout(plan)
		if !slices.Contains(about, ours) || slices.Contains(about, "l0") && slices.Contains(about, "l1") {
			t.Errorf("%s is ours: %s (%v)", ours, steps(plan), about)
		}
		if ours == "l0" && !strings.Contains(steps(plan), "add-rules web 80") {
			t.Errorf("the rule refers to the list of somebody else, and has to refer to ours: %s", steps(plan))
		}
	}
}

// On the mark alone a group may be changed; nothing is detached, emptied or deleted, and each change of what the
// journal does not know is told.
func TestByMark(t *testing.T) {
	marked := strings.NewReplacer("{G0}", `{"isonomos":"pier"}`, `"web","labels":{G1}`, `"other","labels":{}`,
		"{L0}", `{"isonomos":"pier"}`, "{L1}", "{}").Replace(twinSurvey)
	bare := strings.NewReplacer("  cover where role = web\n", "", "  admit tcp 80 from list known\n", "").
		Replace(twinDefinitions)
	for name, x := range map[string]struct {
		definitions string
		want        string // words of what is told
		about       []string
	}{
		"changed, attached, never detached": {twinDefinitions, "it stays attached to a/theirs", []string{"g0", "f1", "l0"}},
		"neither covered nor with rules":    {bare, "it keeps its rules", nil},
		"not defined":                       {strings.Split(twinDefinitions, "group web")[0], "neither a definition nor", nil},
	} {
		aim := twinAim(t, marked, x.definitions, nil, "")
		plan, err := change.NewPlan(aim)
		if err != nil {
			t.Fatal(err)
		}
		about := stepsAbout(plan)
		slices.Sort(about)
		want := slices.Sorted(slices.Values(x.about))
		if !slices.Equal(slices.Compact(about), want) || !strings.Contains(strings.Join(aim.Left, "; "), x.want) {
			t.Errorf("%s: steps about %v, want %v; left %q", name, about, want, aim.Left)
		}
		for _, i := range aim.Then.Instances {
			if i.Name == "theirs" && (len(i.Interfaces[0].Groups) != 1 || i.Interfaces[0].Groups[0].ID != "g0") {
				t.Errorf("%s: a group is detached on its mark alone", name)
			}
		}
	}
}

// Two networks of one name are not one, and a group in one that nobody can tell is left as it is.
func TestTwinNetworks(t *testing.T) {
	twin := `{"kind":"network","account":"a","id":"n2","name":"n","ranges":["10.1.0.0/16"]}
{"kind":"subnet","account":"a","network":"n2","id":"s2","name":"s","ranges":["10.1.0.0/24"]}
{"kind":"instance","account":"a","id":"i2","name":"apart","labels":{"role":"web"},"interfaces":[{"id":"f2","subnet":"s2","private":["10.1.0.6"],"groups":["g1"]}]}
`
	text := strings.NewReplacer("{G1}", `{"isonomos":"pier"}`, "{G0}", "{}", "{L0}", "{}", "{L1}", `{"isonomos":"pier"}`).
		Replace(twinSurvey) + twin
	aim := twinAim(t, text, twinDefinitions, []string{"g1", "l1"}, "")
	plan, err := change.NewPlan(aim)
	if err != nil || plan.Steps() != 0 || !strings.Contains(strings.Join(aim.Left, ";"), "2 networks have the name n (a/n1, a/n2)") {
		t.Errorf("%v: %s; left %q", err, steps(plan), aim.Left)
	}
	aim = twinAim(t, text, strings.Replace(twinDefinitions, "range 10.0.0.0/16", "id \"n1\"\nrange 10.0.0.0/16", 1),
		[]string{"g1", "l1"}, "")
	if plan, err = change.NewPlan(aim); err != nil || !slices.Contains(stepsAbout(plan), "f2") ||
		slices.Contains(stepsAbout(plan), "f1") {
		t.Errorf("with the network's id only what is in the other one is detached: %v: %s; left %q", err, steps(plan),
			aim.Left)
	}
	if a := len(aim.Then.Networks); a != 2 {
		t.Errorf("%d networks", a)
	}
}
