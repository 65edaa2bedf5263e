package uphold

import (
	"fmt"
	"testing"
	"time"

	"isonomos/cloud"
)

// Who has written a label that says who puts a group back is known from the event that brought it, and from nothing
// else: not from a later change that left it as it was, nor from what was read as a whole.
func TestWhoWroteTheLabel(t *testing.T) {
	group := func(label string) line {
		return lineOf(fmt.Appendf(nil, `{"kind":"group","account":"a","id":"g","name":"g","labels":{"isonomos-upheld":%q}}`, label))
	}
	event := func(label, by string) moment {
		return moment{events: []cloud.Event{{Kind: "rule", ID: "r", Group: "g", By: "sandbox"},
			{Kind: "group", ID: "g", Action: "change", By: by, Object: group(label).text}}}
	}
	a := &account{actor: "sandbox", cloud: "c"}
	d := &decision{Upholder: &Upholder{Options: Options{Now: time.Now}, sights: make(map[string]*sight)}, a: a}
	for i, x := range []struct {
		steps []moment
		value string // that the group has when it is asked
		own   bool
	}{
		{[]moment{{lines: []line{group("1")}}}, "1", false},
		{[]moment{event("1", "sandbox")}, "1", false},
		{[]moment{event("2", "sandbox")}, "2", true},
		{[]moment{event("2", "sandbox")}, "3", false}, // the feed has not told that yet
		{[]moment{event("2", "amira")}, "2", true},
		{[]moment{event("3", "amira"), event("3", "sandbox")}, "3", false},
		{[]moment{event("4", "")}, "4", true}, // the cloud does not know
		{[]moment{event("3", "amira")}, "3", false},
		{[]moment{{lines: []line{group("3")}}}, "3", false},
		{[]moment{event("2", "sandbox")}, "2", true},
		{[]moment{{lines: []line{group("2")}}}, "2", true},
		{[]moment{{lines: []line{group("1")}}}, "1", false},
		{[]moment{event("", "sandbox"), event("2", "amira")}, "2", false},
		{[]moment{event("2", "sandbox")}, "2", false},
		{[]moment{event("", "sandbox")}, "", false},
	} {
		a.noteUpholders(group("0").text, x.steps)
		if own := d.wroteLabel("g", x.value); own != x.own {
			t.Errorf("after step %d it is said to be its own: %v", i, own)
		}
		if a.actor = ""; a.upheldBy["g"].by == "amira" && d.wroteLabel("g", x.value) {
			t.Errorf("after step %d amira's counts, while it is not known who the program is", i)
		}
		a.actor = "sandbox"
	}
	if d.sight("c").polled = true; !d.wroteLabel("g", "9") {
		t.Error("without a feed nobody can know")
	}
}
