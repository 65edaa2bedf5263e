package uphold

import (
	"fmt"
	"testing"

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
	a := new(account)
	for i, x := range []struct {
		steps []moment
		by    string
	}{
		{[]moment{{lines: []line{group("1")}}}, ""},
		{[]moment{event("1", "sandbox")}, ""},
		{[]moment{event("2", "sandbox")}, "sandbox"},
		{[]moment{event("2", "amira")}, "sandbox"},
		{[]moment{event("3", "amira"), event("3", "sandbox")}, "amira"},
		{[]moment{{lines: []line{group("3")}}}, "amira"},
		{[]moment{{lines: []line{group("2")}}}, ""},
		{[]moment{event("", "sandbox"), event("2", "amira")}, "amira"},
		{[]moment{event("", "amira")}, ""},
	} {
		a.noteUpholders(group("0").text, x.steps)
		if by := a.upheldBy["g"].by; by != x.by {
			t.Errorf("after step %d %q has written it, and not %q", i, by, x.by)
		}
	}
}
