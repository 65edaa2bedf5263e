package enact

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"isonomos/cloud"
	"isonomos/core/change"
	"isonomos/core/estate"
	"isonomos/store"
)

var noon = time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)

// tale is a journal in the making.
type tale struct{ entries []store.Entry }

func (t *tale) says(after time.Duration, run, kind string, body any) {
	text, _ := json.Marshal(body)
	t.entries = append(t.entries, store.Entry{Number: len(t.entries) + 1, At: noon.Add(after).Format(time.RFC3339Nano),
		Run: run, Kind: kind, Body: text, Hash: "0123456789abcdef"})
}

func (t *tale) read(take func(store.Entry) error) error {
	for _, e := range t.entries {
		if err := take(e); err != nil {
			return err
		}
	}
	return nil
}

// A group is left alone until the time of its label, but for a day at most from when that was first seen, and once in
// seven days. It can be ended sooner, and not drawn out.
func TestHandsOffUntil(t *testing.T) {
	var all tale
	all.says(0, UpholdRun, HandsOff, HandsOffed{Account: "a", ID: "g", Group: "a/n/g", Until: noon.Add(2 * time.Hour)})
	u, err := UpheldBy(all.read)
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct {
		id    string
		label string
		at    time.Duration
		until time.Duration // 0: it is not left alone
		anew  bool
	}{
		{"g", "2026-11-20T14:00:00Z", time.Hour, 2 * time.Hour, false},
		{"g", "2026-11-20T13:30:00Z", time.Hour, 90 * time.Minute, false},
		{"g", "2026-11-21T12:00:00Z", time.Hour, 2 * time.Hour, false},
		{"g", "2026-11-21T12:00:00Z", 3 * time.Hour, 0, false},
		{"g", "2026-11-27T13:00:00Z", 7*24*time.Hour - time.Minute, 0, false},
		{"g", "2026-11-27T13:00:00Z", 7*24*time.Hour + time.Minute, 7*24*time.Hour + time.Hour, true},
		{"g", "2026-12-27T13:00:00Z", 8 * 24 * time.Hour, 9 * 24 * time.Hour, true},
		{"h", "2026-11-20T14:00:00+01:00", 30 * time.Minute, time.Hour, true},
		{"h", "2026-11-20T11:00:00Z", 0, 0, false},
		{"h", "tomorrow", 0, 0, false},
	} {
		until, anew, why := u.HandsOffUntil("a", x.id, x.label, noon.Add(x.at))
		want := noon.Add(x.until)
		if x.until == 0 {
			want = time.Time{}
		}
		if !until.Equal(want) || anew != x.anew || (why == "") != (x.until > 0) {
			t.Errorf("%s %s after %s: %s %v %q", x.id, x.label, x.at, until, anew, why)
		}
	}
}

// What was done counts for an hour, and until somebody says that a place is to be put back again. What was only tried
// does not count, nor do labels.
func TestActsAndResumptions(t *testing.T) {
	var all tale
	step := func(do change.Action, id string) Step {
		return Step{Request: cloud.Request{Do: do, Account: "a", ID: id}}
	}
	begin := func(after time.Duration, opened, shut string) {
		d := Draft{Upholds: &Upholds{Opened: []string{}, Shut: []string{}, By: map[string]string{shut: "amira"},
			Places: map[string]string{"o": opened, "s": shut}}, Lanes: []Lane{{Accounts: []string{"a"}}}}
		lane := &d.Lanes[0]
		if opened != "" {
			d.Upholds.Opened = []string{opened}
			lane.Steps = append(lane.Steps, step(change.LabelGroup, "o"), step(change.AddRules, "o"))
		}
		if shut != "" {
			d.Upholds.Shut = []string{shut}
			lane.Steps = append(lane.Steps, step(change.RemoveRule, "s"))
		}
		tried := fmt.Sprint("tried after ", after)
		all.says(after, tried, Begin, d)
		if opened != "" {
			all.says(after, tried, Done, Result{Lane: 1, Step: 1}) // its label
		}
		all.says(after, tried, Failed, Result{Lane: 1, Step: len(lane.Steps), Error: "no"})
		all.says(after, tried, End, Ending{Outcome: Stopped})
		run := fmt.Sprint("run after ", after)
		all.says(after, run, Begin, d)
		for k := range lane.Steps {
			all.says(after, run, Done, Result{Lane: 1, Step: k + 1})
		}
		all.says(after, run, End, Ending{Outcome: Enacted})
	}
	begin(0, "a/n/g", "")
	begin(30*time.Minute, "a/n/g", "a/n/h")
	begin(45*time.Minute, "b/n/g", "a/n/h")
	u, err := UpheldBy(all.read)
	if err != nil {
		t.Fatal(err)
	}
	if n := len(u.OpenedAt("a/n/g", noon.Add(-time.Hour))); n != 2 {
		t.Errorf("%d", n)
	}
	if n := len(u.OpenedAt("a/n/g", noon.Add(time.Minute))); n != 1 {
		t.Errorf("%d", n)
	}
	if acts := u.ShutAt("a/n/h", noon); len(acts) != 2 || acts[1].By != "amira" {
		t.Errorf("%v", acts)
	}
	all.says(50*time.Minute, UpholdRun, Resumed, Resumption{Place: "a/n", By: "m.teal"})
	begin(101*time.Minute, "", "c/n/g")
	if u, err = UpheldBy(all.read); err != nil {
		t.Fatal(err)
	}
	if n := len(u.OpenedAt("a/n/g", noon)); n != 0 {
		t.Errorf("%d after it was resumed", n)
	}
	if n := len(u.OpenedAt("b/n/g", noon)); n != 1 || !u.ResumedAt("a/nn/g").IsZero() {
		t.Errorf("%d", n)
	}
	if len(u.Acts) != 3 { // the others are over an hour old
		t.Errorf("%v", u.Acts)
	}
	if u.Said != 1 || u.Upholder() != (estate.Upholder{Journal: "01234567", Since: noon}) {
		t.Errorf("%d %v", u.Said, u.Upholder())
	}
}

// Attaching counts for the groups at which a run does nothing else.
func TestActsOfAttaching(t *testing.T) {
	var all tale
	all.says(0, "run", Begin, Draft{Upholds: &Upholds{Opened: []string{"a/n/g", "a/n/h"}, Shut: []string{"a/n/g"},
		Places: map[string]string{"g": "a/n/g", "h": "a/n/h"}}, Lanes: []Lane{{Accounts: []string{"a"}, Steps: []Step{
		{Request: cloud.Request{Do: change.Attach, Account: "a", ID: "f0", Groups: []string{"g"}}},
		{Request: cloud.Request{Do: change.AddRules, Account: "a", ID: "h"}}}}}})
	all.says(0, "run", Done, Result{Lane: 1, Step: 1})
	u, err := UpheldBy(all.read)
	if err != nil {
		t.Fatal(err)
	}
	if len(u.OpenedAt("a/n/g", noon.Add(-time.Hour))) != 1 || len(u.ShutAt("a/n/g", noon.Add(-time.Hour))) != 1 ||
		len(u.Acts) != 2 {
		t.Errorf("%v", u.Acts)
	}
	all.says(0, "run", Done, Result{Lane: 1, Step: 2})
	if u, err = UpheldBy(all.read); err != nil || len(u.Acts) != 3 || !u.Acts[2].Opened || u.Acts[2].Place != "a/n/h" {
		t.Errorf("%v %v", u.Acts, err)
	}
}

// An agreement is about a law as it is.
func TestAgreement(t *testing.T) {
	promises := []Promise{{Kind: PromisedByLaw, Key: "shut: never admit ssh from internet"},
		{Kind: PromisedByLaw, Key: "shut: enforced"}, {Kind: PromisedByLaw, Key: "shutter: always text"}}
	was := LawDigest("pier", promises, "shut")
	if was == LawDigest("pier", promises[:1], "shut") || was == LawDigest("quay", promises, "shut") ||
		was != LawDigest("pier", promises[:2], "shut") {
		t.Error("the digest is not that of what one law says")
	}
	var all tale
	all.says(0, UpholdRun, Shown, Agreement{Law: "shut", Digest: was})
	u, err := UpheldBy(all.read)
	if err != nil || !u.WasShown("shut", was) || u.IsAgreed("shut", was) || u.IsAgreed("other", "") {
		t.Errorf("%v", err)
	}
	all.says(1, UpholdRun, Agreed, Agreement{Law: "shut", Digest: was, By: "m.teal"})
	if u, _ = UpheldBy(all.read); !u.IsAgreed("shut", was) || u.IsAgreed("shut", "another") {
		t.Error("it is not agreed to")
	}
}

// What was decided follows objects that are made again, is forgotten with the mark, and is not changed by what upholds.
// It is read in pieces as at once.
func TestDecided(t *testing.T) {
	group := func(id, name, labels string) json.RawMessage {
		return json.RawMessage(`{"kind":"group","account":"a","network":"n","id":"` + id + `","name":"` + name +
			`","for":"instances","labels":{` + labels + `}}`)
	}
	rule := func(id, group, peer string) json.RawMessage {
		return json.RawMessage(`{"kind":"rule","account":"a","group":"` + group + `","id":"` + id +
			`","direction":"in","action":"admit","peers":["` + peer + `"],"services":["tcp 22"]}`)
	}
	step := func(do change.Action, id string, more func(*Step)) Step {
		s := Step{}
		s.Do, s.Account, s.ID = do, "a", id
		more(&s)
		return s
	}
	var all tale
	run := func(name string, d Draft, ids ...map[string]string) {
		d.Estate = "pier"
		all.says(0, name, Begin, d)
		for i := range d.Lanes[0].Steps {
			x := Result{Lane: 1, Step: i + 1}
			if i < len(ids) {
				x.IDs = ids[i]
			}
			all.says(0, name, Done, x)
		}
		all.says(0, name, End, Ending{Outcome: Enacted})
	}
	lane := func(steps ...Step) []Lane { return []Lane{{Accounts: []string{"a"}, Wave: 1, Steps: steps}} }
	own := `"isonomos":"pier"`
	run("1", Draft{Definitions: "d1", Objects: []Touched{{Account: "a", Kind: "group", ID: "h", Before: []json.RawMessage{
		group("h", "h", ""), rule("r0", "h", "group:g")}, Attached: []string{"f1"}}},
		Lanes: lane(
			step(change.Attach, "f2", func(s *Step) { s.Groups, s.Holder = []string{"h"}, "i" }),
			step(change.LabelGroup, "h", func(s *Step) { s.Labels = map[string]string{estate.OwnLabel: "pier"} }),
			step(change.CreateGroup, "new:1", func(s *Step) { s.Object = group("new:1", "g", own) }),
			step(change.AddRules, "new:1", func(s *Step) { s.Rules = []json.RawMessage{rule("new:r", "new:1", "group:h")} }))},
		nil, nil, map[string]string{"new:1": "g"}, map[string]string{"new:r": "r1"})
	all.says(0, UpholdRun, Exempt, ExemptGroup{Law: "l", Group: "a/n/g", ID: "g"})
	run("2", Draft{Upholds: &Upholds{}, Lanes: lane(step(change.CreateGroup, "new:1",
		func(s *Step) { s.Object, s.Replaces = group("new:1", "g", own), "g" }))}, map[string]string{"new:1": "g2"})
	for _, pieces := range []int{1, len(all.entries)} {
		c := NewChronicle("pier")
		var now Now
		var err error
		for i, e := range all.entries {
			if err := c.Take(e); err != nil {
				t.Fatal(err)
			}
			if pieces > 1 || i == len(all.entries)-1 {
				if now, err = c.Now(); err != nil {
					t.Fatal(err)
				}
			}
		}
		d := now.Decided
		g, h := d.objects[ident{"a", "group", "g2"}], d.objects[ident{"a", "group", "h"}]
		if d.Count() != 2 || len(g) != 2 || len(h) != 2 || string(h[1]) != string(encode(decoded(rule("r0", "h",
			"group:g2")))) || !d.where[ident{"a", "group", "h"}]["f1"] || !d.where[ident{"a", "group", "h"}]["f2"] ||
			d.Definitions["a"] != "d1" || now.Upheld.ExemptID("l", "a/n/g") != "g2" || !now.Knows.Has("a", "group", "g2") {
			t.Errorf("%d pieces: %s\n%s\n%v", pieces, g, h, d.where)
		}
	}
	run("3", Draft{Objects: []Touched{{Account: "a", Kind: "group", ID: "h", Before: []json.RawMessage{
		group("h", "h", own)}}}, Lanes: lane(step(change.LabelGroup, "h", func(s *Step) { s.Labels = nil }))})
	c := NewChronicle("pier")
	if err := all.read(c.Take); err != nil {
		t.Fatal(err)
	}
	if c.decided.Has("a", "group", "h") || c.decided.Count() != 1 {
		t.Error("a group without a mark is remembered")
	}
}

func decoded(text json.RawMessage) (v map[string]any) {
	_ = json.Unmarshal(text, &v)
	return v
}
