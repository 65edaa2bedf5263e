package uphold

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/enact"
	"isonomos/notify"
	"isonomos/work"
)

// What may be done at a moment, and why it may not: everything of it follows from what holds, and from the journal.

const (
	// together is how long what would be let through again waits for more of its kind, so that many at once are seen.
	together = 300 * time.Millisecond
	// brakeGroups and brakeShare say at how many groups something is let through again within brakeFor without
	// anybody's word: so many, or that share of all groups if it is more.
	brakeGroups = 20
	brakeShare  = 20
	brakeFor    = time.Minute
	// mostReopened is how often within an hour something is let through again at a place.
	mostReopened = 2
	// alarmShut is how often within an hour something is shut at a place until that is an alarm.
	alarmShut   = 3
	longestShut = time.Minute // between two times that it is shut
)

// A decision is what may be done in an account at this moment, and when to ask again.
type decision struct {
	*Upholder
	a      *account
	now    time.Time
	r      *Reading
	upheld *enact.Upheld
	held   map[string]*holding
	left   map[string]*left // by place
	again  time.Duration
}

// A left place is one at which nothing is done, and why; alarm says that people have to be told.
type left struct {
	group  string // its id
	why    string
	alarm  bool
	resume string // the command by which somebody ends it; empty where it ends by itself
	see    string // the command that shows what to do; empty where its status does
}

// after has it asked again after a time.
func (d *decision) after(wait time.Duration) {
	if wait = max(wait, 10*time.Millisecond); d.again == 0 || wait < d.again {
		d.again = wait
	}
}

// lawsFirst is true every other time.
func (d *decision) lawsFirst() bool {
	d.a.mu.Lock()
	defer d.a.mu.Unlock()
	d.a.lawsFirst = !d.a.lawsFirst
	return d.a.lawsFirst
}

// alsoNamed are the accounts that expectations name, where laws are enforced: these must hold after it.
func (d *decision) alsoNamed() []string {
	if !slices.ContainsFunc(d.r.Definitions.Laws, isEnforced) {
		return nil
	}
	var names []string
	for _, x := range d.r.Definitions.Expects {
		for _, p := range slices.Concat(x.From.Of, x.From.Except, x.To.Of, x.To.Except) {
			if at := p.Home(); at != nil && !slices.Contains(names, at.Name) {
				names = append(names, at.Name)
			}
		}
	}
	return names
}

// may says what may be done.
func (d *decision) may() work.May {
	may := work.May{Leave: d.leave, Failed: d.failed, By: d.changedBy, Upholder: d.upheld.Upholder(),
		WroteLabel: d.wroteLabel,
		Agreed:     func(law string) bool { return d.upheld.IsAgreed(law, d.lawDigest(law)) }}
	may.Enforces = func(law string, g *estate.Group) bool { return may.Agreed(law) && d.due(law, g) }
	if d.r.PutsBack {
		may.PutBack = func(p estate.Place) bool { return d.r.PutBack == nil || d.r.PutBack.Holds(p) }
	}
	return may
}

// changedBy is who has changed a group, where that is known.
func (d *decision) changedBy(id string) string {
	for _, h := range d.held {
		if h.GroupID == id && h.Law == "" && h.Notice.Changes != nil {
			return h.Notice.Changes.By
		}
	}
	return ""
}

// due reports whether a breach of a law in a group has stood for as long as it may.
func (d *decision) due(name string, g *estate.Group) bool {
	var after time.Duration
	for _, l := range d.r.Definitions.Laws {
		if l.Name == name && l.Enforced != nil {
			after = l.Enforced.After
		}
	}
	for _, h := range d.held {
		if h.Law != name || h.GroupID != g.ID {
			continue
		}
		if wait := h.Since.Add(after).Sub(d.now); wait > 0 {
			d.after(wait)
			continue
		}
		return true
	}
	return false
}

// leave says why a group is left alone.
func (d *decision) leave(g *estate.Group, opens bool) string {
	place := g.Path()
	say := func(alarm bool, format string, a ...any) string {
		why := fmt.Sprintf(format, a...)
		d.left[place] = &left{group: g.ID, why: why, alarm: alarm}
		return why
	}
	if until := d.handsOff(g); until.After(d.now) {
		d.after(until.Sub(d.now))
		return say(false, "its label %s says so, until %s", HandsOffLabel, until.UTC().Format(time.RFC3339))
	}
	if wait := d.grace(g); wait > 0 {
		d.after(wait)
		return say(false, "it has stood for less than %s", count.Lasting(max(d.r.Grace, together)))
	}
	if !opens {
		return d.tooOften(g, say)
	}
	if acts := d.upheld.OpenedAt(place, d.now.Add(-time.Hour)); len(acts) >= mostReopened {
		why := say(true, "something was let through there again %s within an hour, and is shut again%s: it stays "+
			"so until "+
			"somebody says that it is to be put back", count.Of(len(acts), "time", "times"), names(acts))
		d.left[place].resume = d.Say("uphold", "resume", place)
		return why
	}
	if n, most := d.braked(place); n > most {
		place = d.a.name // one alarm for the account
		why := say(true, "something would be let through again, attached or detached at %s within a minute, and "+
			"at most "+
			"%s are unattended: nothing of that is done until somebody says that it is right", count.Of(n, "group",
			"groups"), count.Number(most))
		d.left[place].resume = d.Say("uphold", "resume", place)
		return why
	}
	return ""
}

// names says who is known to have made changes.
func names(acts []enact.Act) string {
	var all []string
	for _, x := range acts {
		if x.By != "" && !slices.Contains(all, x.By) {
			all = append(all, x.By)
		}
	}
	if len(all) == 0 {
		return ""
	}
	return " (by " + strings.Join(all, ", ") + ")"
}

// grace is how much longer a difference at a group has to stand; of those at instances, where it is attached or no
// longer, the first one.
func (d *decision) grace(g *estate.Group) time.Duration {
	var wait, first time.Duration
	own, at := false, false
	for key, h := range d.held {
		if h.Law != "" || isAside(key) || h.Kind == work.Broken || h.GroupID != g.ID && h.GroupID != "" {
			continue
		}
		stands := d.r.Grace
		if h.Kind == notify.Closed {
			stands = max(stands, together)
		}
		left := h.Since.Add(stands).Sub(d.now)
		if h.GroupID == g.ID {
			wait, own = max(wait, left), true
		} else if !at || left < first {
			first, at = left, true
		}
	}
	if !own && at {
		return first
	}
	return wait
}

// tooOften lets an opening that comes again and again stand for a growing while, a minute at most.
func (d *decision) tooOften(g *estate.Group, say func(alarm bool, format string, a ...any) string) string {
	acts := d.upheld.ShutAt(g.Path(), d.now.Add(-time.Hour))
	if len(acts) == 0 {
		return ""
	}
	last := acts[len(acts)-1].At
	wait := last.Add(min(time.Second<<min(len(acts)-1, 10), longestShut)).Sub(d.now)
	if wait <= 0 {
		return ""
	}
	d.after(wait)
	return say(len(acts) >= alarmShut, "it was shut %s within an hour, and is opened again and again%s: it is shut "+
		"again within %s", count.Of(len(acts), "time", "times"), names(acts), count.Lasting(longestShut))
}

// braked counts the groups at which something would be let through again, or was within a minute, and says how many may
// be.
func (d *decision) braked(place string) (n, most int) {
	places := make(map[string]bool)
	resumed := d.upheld.ResumedAt(place)
	for _, x := range d.upheld.Acts {
		if x.Opened && x.At.After(d.now.Add(-brakeFor)) && x.At.After(resumed) {
			places[x.Place] = true
		}
	}
	for _, a := range d.known() {
		a.mu.Lock()
		held := a.held
		a.mu.Unlock()
		for _, h := range held {
			opens := h.Law == "" && (h.Kind == notify.Closed || h.GroupID == "" && h.Kind == notify.Opened)
			if opens && h.Since.After(resumed) {
				places[h.Place] = true
			}
		}
	}
	d.mu.Lock()
	groups := d.runs.Decided.Count()
	d.mu.Unlock()
	return len(places), max(brakeGroups, groups/brakeShare)
}

// handsOff is until when a group is left alone; zero if it is not.
func (d *decision) handsOff(g *estate.Group) time.Time {
	label := g.Labels[HandsOffLabel]
	if label == "" {
		return time.Time{}
	}
	until, anew, _ := d.upheld.HandsOffUntil(d.a.name, g.ID, label, d.now)
	if anew {
		return time.Time{} // it is noted when the account is judged
	}
	return until
}

func (d *decision) lawDigest(name string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.laws[name]
}
