package uphold

import (
	"context"
	"errors"
	"slices"
	"time"

	"isonomos/notify"
	"isonomos/work"
)

// What could not be put back or shut: it is left out for a while, and told once it lasts.

// leftFor is how long something can't be put back or shut until that is an alarm: it may be the answer of a moment.
const leftFor = 10 * time.Second

// A failure is what went wrong at an object, and until when nothing is tried there.
type failure struct {
	why   string
	tries int
	// opens is until when nothing is let through again there, and all until when nothing is done at all.
	opens, all time.Time
}

// failed says why an object is left alone for now: what was tried there last has failed.
func (d *decision) failed(id string, opens bool) string {
	d.a.mu.Lock()
	f := d.a.failed[id]
	d.a.mu.Unlock()
	if f == nil {
		return ""
	}
	until := f.all
	if opens {
		until = f.opens
	}
	if !until.After(d.now) {
		return ""
	}
	d.after(until.Sub(d.now))
	return "it could not be done, and is tried again: " + f.why
}

// noteKept notes what is left alone, and why.
func (d *decision) noteKept(ctx context.Context, kept work.Kept) {
	for place, why := range kept.Left {
		x := d.left[place]
		if x == nil {
			x = new(left)
			d.left[place] = x
		}
		if x.why != why {
			x.why, x.alarm = why, d.stands(leftKey+place)
		}
		if name := kept.Taken[place]; name != "" {
			x.see = d.Say("draft", "--account", d.a.name, "--adopt", name)
		}
	}
	d.noteLeft(ctx, d.a, d.left, kept.Run == "") // after a run not everything was looked at
}

// stands reports whether a reason why nothing is done has stood for so long that people have to be told: they were told
// that something is going to be done.
func (d *decision) stands(key string) bool {
	var stood time.Duration
	if h := d.held[key]; h != nil {
		stood = d.now.Sub(h.Since)
	}
	if stood >= leftFor || d.Once {
		return true
	}
	d.after(leftFor - stood)
	return false
}

// failedAt notes at which objects keeping an account has failed, so that all others are kept without them. It reports
// false if that is not known, or does not help.
func (d *decision) failedAt(err error) bool {
	var e *work.FailedError
	if !errors.As(err, &e) || len(e.Objects) == 0 {
		return false
	}
	d.a.mu.Lock()
	defer d.a.mu.Unlock()
	if d.a.failed == nil {
		d.a.failed = make(map[string]*failure)
	}
	now := d.Now()
	if !slices.ContainsFunc(e.Objects, func(id string) bool {
		f := d.a.failed[id]
		return f == nil || !f.all.After(d.now)
	}) {
		return false
	}
	for _, id := range e.Objects {
		f := d.a.failed[id]
		if f == nil {
			f = new(failure)
			d.a.failed[id] = f
			d.Log.Warn("what was changed could not be put back or shut; it is tried again", "account", d.a.name,
				"object", id, "problem", err)
		}
		until := now.Add(waiting(f.tries))
		if f.opens.After(d.now) { // nothing was let through again, and it failed all the same
			f.all = until
		}
		f.opens, f.why = until, e.Why
		f.tries++
	}
	return true
}

// hasFailed notes that keeping an account has failed, and says when to try again.
func (d *decision) hasFailed(err error) time.Duration {
	d.a.mu.Lock()
	tries := d.a.failures
	d.a.failures++
	d.a.mu.Unlock()
	if tries == 0 {
		d.Log.Warn("what was changed could not be put back or shut; it is tried again", "account", d.a.name, "problem",
			err)
	}
	if tries > 3 { // it may be the answer of a moment
		for _, h := range d.held {
			if h.Kind == notify.Opened || h.Kind == notify.Closed {
				d.left[h.Place] = &left{group: h.GroupID, why: "it could not be done: " + err.Error(), alarm: true}
			}
		}
		d.noteLeft(context.Background(), d.a, d.left, false)
	}
	return waiting(tries)
}
