package enact

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"isonomos/core/change"
	"isonomos/core/estate"
	"isonomos/store"
)

// What is said about upholding, beside runs: laws that may be enforced, places that were left alone and no longer are,
// groups from which it keeps its hands.

// Kinds of entries in the journal.
const (
	Shown    = "shown"     // body: Agreement without By; a round has shown what a law would take
	Agreed   = "agreed"    // body: Agreement
	Resumed  = "resumed"   // body: Resumption
	HandsOff = "hands-off" // body: HandsOffed
	Exempt   = "exempt"    // body: ExemptGroup; a round has found the group that an exemption names
)

// UpholdRun is under what name of a run these entries stand.
const UpholdRun = "uphold"

// An Agreement says that a law may be enforced, as it is.
type Agreement struct {
	Law    string `json:"law"`
	Digest string `json:"digest"` // of what the law says; see LawDigest
	By     string `json:"by,omitempty"`
}

// A Resumption says that what was left alone at a place is no longer.
type Resumption struct {
	Place string `json:"place"` // an account, or the full name of a network or group
	By    string `json:"by"`
}

// A HandsOffed group was first seen with its label.
type HandsOffed struct {
	Account string    `json:"account"`
	ID      string    `json:"id"`
	Group   string    `json:"group"`
	Until   time.Time `json:"until"` // at most a day later
}

// An ExemptGroup is the group that an exemption from a law that is enforced meant when it was first seen: another one
// of that name is not meant.
type ExemptGroup struct {
	Law   string `json:"law"`
	Group string `json:"group"` // its full name
	ID    string `json:"id"`
}

// LawDigest is a fingerprint of what a law says, among the promises of definitions.
func LawDigest(estate string, promises []Promise, law string) string {
	lines := []string{estate}
	for _, p := range promises {
		if (p.Kind == PromisedByLaw || p.Kind == AllowedByLaw) && p.law() == law {
			lines = append(lines, p.Key)
		}
	}
	slices.Sort(lines[1:])
	return digest([]byte(strings.Join(lines, "\n")))
}

// An Act is what upholding has done at a place.
type Act struct {
	Place  string // a group's full name
	Opened bool   // something was let through again there; else it was shut
	At     time.Time
	By     string // who had changed it, where that is known
}

// Upheld is what the journal tells of upholding.
type Upheld struct {
	shown, agreed map[string]string    // law and digest
	exempt        map[[2]string]string // ids by law and full name
	resumed       []resumed
	first         estate.Upholder
	hands         map[[2]string][]HandsOffed // by account and id of the group, in order
	seen          map[[2]string][]time.Time
	// Said is how often somebody has said what may be done.
	Said int
	Acts []Act // of the last hour before the last entry, in order

	doing map[string]*doing // runs that are not at their end, by name
}

// A doing is a run that upholds and is not at its end.
type doing struct {
	draft *Draft
	own   map[string]bool // places where it does more than to attach groups and detach them
	acted map[string]bool // places where it has done something
}

type resumed struct {
	place string
	at    time.Time
}

// actsFor is how long it counts what was done.
const actsFor = time.Hour

// UpheldBy reads what a journal tells of upholding.
func UpheldBy(journal func(func(store.Entry) error) error) (*Upheld, error) {
	u := newUpheld()
	var last time.Time
	err := journal(func(e store.Entry) error {
		at, err := time.Parse(time.RFC3339Nano, e.At)
		if err == nil {
			last, err = at, u.take(e, at)
		}
		if err != nil {
			return fmt.Errorf("entry %d of the journal: %w", e.Number, err)
		}
		return nil
	})
	return u.clone(last), err
}

func newUpheld() *Upheld {
	return &Upheld{shown: make(map[string]string), agreed: make(map[string]string),
		exempt: make(map[[2]string]string),
		hands:  make(map[[2]string][]HandsOffed), seen: make(map[[2]string][]time.Time),
		doing: make(map[string]*doing)}
}

// clone is a copy that later entries don't change, with what was done within an hour before a time.
func (u *Upheld) clone(at time.Time) *Upheld {
	copied := *u
	copied.shown, copied.agreed, copied.exempt = maps.Clone(u.shown), maps.Clone(u.agreed), maps.Clone(u.exempt)
	copied.hands, copied.seen = maps.Clone(u.hands), maps.Clone(u.seen)
	copied.resumed, copied.doing = slices.Clip(u.resumed), nil
	copied.Acts = slices.DeleteFunc(slices.Clone(u.Acts), func(a Act) bool { return a.At.Before(at.Add(-actsFor)) })
	return &copied
}

// take takes the next entry.
func (u *Upheld) take(e store.Entry, at time.Time) error {
	if u.first.Journal == "" {
		u.first = estate.Upholder{Journal: e.Hash[:min(8, len(e.Hash))], Since: at.UTC().Truncate(time.Second)}
	}
	switch e.Kind {
	case Shown, Agreed:
		var x Agreement
		if err := json.Unmarshal(e.Body, &x); err != nil {
			return err
		}
		if e.Kind == Agreed {
			u.agreed[x.Law] = x.Digest
			u.Said++
		}
		u.shown[x.Law] = x.Digest
	case Resumed:
		var x Resumption
		if err := json.Unmarshal(e.Body, &x); err != nil {
			return err
		}
		u.resumed = append(u.resumed, resumed{x.Place, at})
		u.Said++
	case Exempt:
		var x ExemptGroup
		if err := json.Unmarshal(e.Body, &x); err != nil {
			return err
		}
		u.exempt[[2]string{x.Law, x.Group}] = x.ID
	case HandsOff:
		var x HandsOffed
		if err := json.Unmarshal(e.Body, &x); err != nil {
			return err
		}
		of := [2]string{x.Account, x.ID}
		u.hands[of], u.seen[of] = append(slices.Clip(u.hands[of]), x), append(slices.Clip(u.seen[of]), at)
	case Begin:
		var x struct{ Upholds *Upholds }
		if err := json.Unmarshal(e.Body, &x); err != nil || x.Upholds == nil {
			return err
		}
		u.Acts = slices.DeleteFunc(u.Acts, func(a Act) bool { return a.At.Before(at.Add(-actsFor)) })
		d := &doing{draft: new(Draft), own: make(map[string]bool), acted: make(map[string]bool)}
		if err := json.Unmarshal(e.Body, d.draft); err != nil {
			return err
		}
		for i := range d.draft.Lanes {
			lane := &d.draft.Lanes[i]
			for k := range lane.Steps {
				if s := &lane.Steps[k]; lets(s.Do) && !attaches(s.Do) {
					d.own[d.draft.Upholds.Places[lane.about(s)]] = true
				}
			}
		}
		u.doing[e.Run] = d
	case Done:
		var x Result
		if d := u.doing[e.Run]; d != nil {
			if err := json.Unmarshal(e.Body, &x); err != nil {
				return err
			}
			u.act(d, x, at)
		}
	case End:
		delete(u.doing, e.Run)
	}
	return nil
}

// act notes what a step has done: what was only tried does not count.
func (u *Upheld) act(d *doing, x Result, at time.Time) {
	s := d.draft.step(x.Lane, x.Step)
	if s == nil || !lets(s.Do) {
		return
	}
	upholds := d.draft.Upholds
	place := upholds.Places[d.draft.Lanes[x.Lane-1].about(s)]
	is := func(other string) bool {
		return upholds.Places == nil || other == place || attaches(s.Do) && !d.own[other]
	}
	for _, act := range []struct {
		places []string
		opened bool
	}{{upholds.Opened, true}, {upholds.Shut, false}} {
		for _, other := range act.places {
			if !d.acted[other] && is(other) {
				u.Acts = append(u.Acts, Act{Place: other, Opened: act.opened, At: at, By: upholds.By[other]})
			}
		}
	}
	for _, other := range slices.Concat(upholds.Opened, upholds.Shut) {
		d.acted[other] = d.acted[other] || is(other)
	}
}

// lets reports whether an action can change what is let through.
func lets(a change.Action) bool {
	return !a.Makes() && a != change.LabelGroup && a != change.LabelList
}

func attaches(a change.Action) bool { return a == change.Attach || a == change.AttachToSubnet }

// Upholder is as whom whoever goes by this journal upholds.
func (u *Upheld) Upholder() estate.Upholder { return u.first }

// WasShown reports whether a round has shown what a law would take, as it is.
func (u *Upheld) WasShown(law, digest string) bool { return digest != "" && u.shown[law] == digest }

// ExemptID is the id of the group that an exemption from a law meant when it was first seen; empty if none was seen.
func (u *Upheld) ExemptID(law, group string) string { return u.exempt[[2]string{law, group}] }

// IsAgreed reports whether a law may be enforced, as it is.
func (u *Upheld) IsAgreed(law, digest string) bool { return digest != "" && u.agreed[law] == digest }

// ResumedAt is when somebody said last that a place is no longer left alone; zero if nobody has.
func (u *Upheld) ResumedAt(place string) time.Time {
	var last time.Time
	for _, r := range u.resumed {
		if place == r.place || strings.HasPrefix(place, r.place+"/") {
			last = r.at
		}
	}
	return last
}

// OpenedAt are the times at which something was let through again at a place since a time, and since it was resumed.
func (u *Upheld) OpenedAt(place string, since time.Time) []Act { return u.acts(place, true, since) }

// ShutAt are the times at which something was shut at a place since a time.
func (u *Upheld) ShutAt(place string, since time.Time) []Act { return u.acts(place, false, since) }

func (u *Upheld) acts(place string, opened bool, since time.Time) []Act {
	if at := u.ResumedAt(place); at.After(since) {
		since = at
	}
	var all []Act
	for _, a := range u.Acts {
		if a.Place == place && a.Opened == opened && a.At.After(since) {
			all = append(all, a)
		}
	}
	return all
}

const (
	// mostHandsOff bounds how long a group is left alone, and handsOffAgain how soon it can be again.
	mostHandsOff  = 24 * time.Hour
	handsOffAgain = 7 * 24 * time.Hour
)

// HandsOffUntil is until when a group with a label that says so is left alone. It is zero if the label does not count:
// then why says for what reason. With anew, that has to be noted first.
func (u *Upheld) HandsOffUntil(account, id, label string, now time.Time) (until time.Time, anew bool, why string) {
	wanted, err := time.Parse(time.RFC3339, label)
	if err != nil {
		return time.Time{}, false, fmt.Sprintf("%q is no time such as %s", label,
			now.UTC().Truncate(time.Hour).Add(2*time.Hour).Format(time.RFC3339))
	}
	if !wanted.After(now) {
		return time.Time{}, false, "it is over"
	}
	of := [2]string{account, id}
	if n := len(u.seen[of]); n > 0 {
		first, last := u.seen[of][n-1], u.hands[of][n-1]
		if until = last.Until; wanted.Before(until) {
			until = wanted // it can be taken back, and not drawn out
		}
		if until.After(now) {
			return until, false, ""
		}
		if now.Before(first.Add(handsOffAgain)) {
			return time.Time{}, false, fmt.Sprintf("it was left alone from %s on already, and can be once in "+
				"seven days",
				first.UTC().Format(time.RFC3339))
		}
	}
	if most := now.Add(mostHandsOff); wanted.After(most) {
		wanted = most
	}
	return wanted, true, ""
}
