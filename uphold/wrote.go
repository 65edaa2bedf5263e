package uphold

import (
	"bytes"
	"encoding/json"

	"isonomos/core/estate"
)

// Who has written the labels that say who puts a group back.

// A labelled group has a value of a label, and somebody wrote that: empty where the cloud does not know, or where
// nobody watched.
type labelled struct {
	value, by string
	watched   bool
}

// noteUpholders notes who has written the labels that say who puts a group back. Whoever changes a group later and
// leaves such a label as it is has not written it.
func (a *account) noteUpholders(known []byte, steps []moment) {
	a.mu.Lock()
	defer a.mu.Unlock()
	note := func(id string, object []byte, by string, watched bool) {
		value := ""
		if bytes.Contains(object, []byte(estate.UpheldLabel)) {
			var o struct{ Labels estate.Labels }
			if json.Unmarshal(object, &o) == nil {
				value = o.Labels[estate.UpheldLabel]
			}
		}
		switch was := a.upheldBy[id]; {
		case value == "":
			delete(a.upheldBy, id)
		case value != was.value:
			a.upheldBy[id] = labelled{value, by, watched}
		}
	}
	all := func(lines []line) {
		for _, l := range lines {
			if l.kind == "group" {
				note(l.id, l.text, "", false)
			}
		}
	}
	if a.upheldBy == nil {
		a.upheldBy = make(map[string]labelled)
		all(linesOf(known))
	}
	for _, m := range steps {
		if len(m.events) == 0 { // it was read as a whole
			all(m.lines)
		}
		for _, e := range m.events {
			if e.Kind == "group" {
				note(e.ID, e.Object, e.By, true)
			}
		}
	}
}

// wroteLabel reports whether this program has written the label of a group that says who puts it back, and has this
// value. Where there is a feed, that was watched, and it may say by whom; what it has not told yet does not count.
// Without one nobody can know.
func (d *decision) wroteLabel(id, value string) bool {
	cloud := d.a.of()
	d.mu.Lock()
	polled := d.sight(cloud).polled
	d.mu.Unlock()
	d.a.mu.Lock()
	defer d.a.mu.Unlock()
	x := d.a.upheldBy[id]
	return polled || x.value == value && x.watched && (x.by == "" || x.by == d.a.actor)
}
