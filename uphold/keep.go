package uphold

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"isonomos/cloud"
	"isonomos/core/audit"
	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/enact"
	"isonomos/nomos"
	"isonomos/notify"
	"isonomos/store"
	"isonomos/work"
)

// Keeping: what was changed by hand is put back, and what breaches laws that are enforced is shut, as soon as an
// account has been judged and that may be.

const (
	keepersAtOnce = 8
	keepTimeout   = 5 * time.Minute
	// firstPatient is how long nothing is done at the beginning, until everything was judged.
	firstPatient = 15 * time.Second
	// mostUnjudged is how often in a row it waits for what has changed since to be judged, and longUnjudged how long.
	// Whoever changes things all the time does not keep it from shutting them: the feed tells of each change all the
	// same.
	mostUnjudged = 20
	longUnjudged = 15 * time.Second
)

// A changing account had changed each time since it was judged, so that nothing was done.
type changing struct {
	since time.Time
	times int            // that it was judged meanwhile
	at    cloud.Position // up to where that was
}

// waits reports whether it is to be judged before anything is done.
func (c changing) waits(now time.Time) bool {
	return c.times < mostUnjudged && (c.since.IsZero() || now.Sub(c.since) < longUnjudged)
}

// keeps reports whether anything is done beside telling.
func (r *Reading) keeps() bool {
	return r.PutsBack || slices.ContainsFunc(r.Definitions.Laws, isEnforced)
}

// wake has an account kept after a time.
func (u *Upholder) wake(a *account, after time.Duration) {
	time.AfterFunc(max(after, time.Millisecond), func() { u.keepUp(a) })
}

// keepUp keeps an account in the background, once at a time.
func (u *Upholder) keepUp(a *account) {
	u.mu.Lock()
	ctx := u.watching
	idle := ctx == nil || ctx.Err() != nil || u.Once || !u.reading.keeps()
	u.mu.Unlock()
	a.mu.Lock()
	if idle || a.from == nil || a.keeping {
		a.keepAgain = a.keeping
		a.mu.Unlock()
		return
	}
	a.keeping, a.keepAgain = true, false
	a.mu.Unlock()
	u.open.Add(1)
	u.underWay.Add(1)
	go func() {
		defer u.underWay.Add(-1)
		defer u.open.Add(-1)
		select {
		case u.keepers <- struct{}{}:
			defer func() { <-u.keepers }()
		case <-ctx.Done():
		}
		var again time.Duration
		if ctx.Err() == nil {
			again = u.keepAccount(ctx, a)
		}
		a.mu.Lock()
		a.keeping = false
		if a.keepAgain && again == 0 {
			again = time.Millisecond
		}
		a.mu.Unlock()
		if again > 0 && ctx.Err() == nil {
			u.wake(a, again)
		}
	}()
}

// untilKept waits until no account is being kept any more.
func (u *Upholder) untilKept() {
	for u.underWay.Load() > 0 {
		time.Sleep(10 * time.Millisecond)
	}
}

// wakeSaid has all accounts kept if somebody has said since the last time what may be done.
func (u *Upholder) wakeSaid(last int) int {
	u.mu.Lock()
	said := u.runs.Upheld.Said
	u.mu.Unlock()
	if said == last {
		return said
	}
	for _, a := range u.known() {
		if u.concerned(a) {
			u.keepUp(a)
		}
	}
	return said
}

// keepOnce keeps all accounts, and has those judged again in which something was done.
func (u *Upholder) keepOnce(ctx context.Context) {
	u.showLaws()
	u.mu.Lock()
	u.allJudged = true
	keeps := u.reading.keeps()
	u.mu.Unlock()
	if !keeps {
		return
	}
	var all sync.WaitGroup
	for _, a := range u.known() {
		all.Go(func() {
			u.keepers <- struct{}{}
			defer func() { <-u.keepers }()
			for range 10 {
				again := u.keepAccount(ctx, a)
				if again == 0 || again > 2*time.Second || ctx.Err() != nil {
					break
				}
				pause(ctx, again)
			}
			select {
			case <-a.kicked:
				u.lookNow(ctx, a)
			default:
			}
		})
	}
	all.Wait()
	u.drain(ctx)
	for _, a := range u.known() {
		if !u.concerned(a) {
			u.noteLeft(ctx, a, nil, true)
		}
	}
}

// lookNow reads an account, and has it judged.
func (u *Upholder) lookNow(ctx context.Context, a *account) {
	seen, err := a.from.Look(ctx, a.name, "")
	if err == nil {
		err = u.sensible(a, seen.Lines)
	}
	if err != nil {
		u.unread(a, err)
		return
	}
	a.mu.Lock()
	a.fresh = &seen
	a.mu.Unlock()
	u.enqueue(a)
}

// concerned reports whether anything holds in an account that may be put back or shut.
func (u *Upholder) concerned(a *account) bool {
	a.mu.Lock()
	held := a.held
	a.mu.Unlock()
	u.mu.Lock()
	defer u.mu.Unlock()
	for key, h := range held {
		switch {
		case isAside(key):
		case h.Law == "" && u.reading.PutsBack:
			return true
		case h.Law != "" && h.Kind == notify.Opened && u.runs.Upheld.IsAgreed(h.Law, u.laws[h.Law]):
			return true
		}
	}
	return false
}

// keepAccount does what may be done in an account, and returns after which time it is to be tried again; 0 means that
// nothing is left to do before it is judged again.
func (u *Upholder) keepAccount(ctx context.Context, a *account) (again time.Duration) {
	if err := u.refresh(); err != nil {
		return 5 * time.Second
	}
	if !u.concerned(a) {
		u.noteLeft(ctx, a, nil, true)
		return 0
	}
	u.mu.Lock()
	d := &decision{Upholder: u, a: a, now: u.Now(), r: u.reading, upheld: u.runs.Upheld, left: make(map[string]*left)}
	decided := u.decided
	u.mu.Unlock()
	a.mu.Lock()
	d.held = a.held
	judged, from := a.packed, a.from // what is decided here goes by this state, whatever is judged meanwhile
	a.mu.Unlock()
	if !u.judgedOnce() || u.outdated() {
		return 100 * time.Millisecond
	}
	keeper := d.keeper(ctx, decided, from, judged)
	within, stop := context.WithTimeout(context.WithoutCancel(ctx), keepTimeout)
	defer stop()
	at := u.Now()
	kept, err := keeper.Keep(within, d.may())
	if kept.Run != "" && err == nil {
		u.Log.Info("put back or shut", "account", a.name, "run", kept.Run, "took",
			u.Now().Sub(at).Round(time.Millisecond).String())
	}
	if kept.Run != "" {
		a.kick()
	}
	switch {
	case errors.As(err, new(*work.EarlierError)):
		u.giveWay(err)
		return 0
	case errors.Is(err, work.ErrUnjudged):
		a.kick()
		if a.hasChanged(u.Now()) {
			return awaiting
		}
		return leastWait
	case work.Busy(err):
		u.Log.Debug("it is tried again", "account", a.name, "problem", err)
		return busy
	case ctx.Err() != nil:
		return 0
	case d.failedAt(err):
		return time.Millisecond
	case err != nil:
		return d.hasFailed(err)
	}
	a.mu.Lock()
	a.failures, a.unjudged = 0, changing{}
	maps.DeleteFunc(a.failed, func(_ string, f *failure) bool { return !f.opens.After(d.now) }) // it was tried again
	a.mu.Unlock()
	d.noteKept(ctx, kept)
	return d.again
}

// keeper keeps the account. Judged is the account as it was judged; nil before.
func (d *decision) keeper(ctx context.Context, decided *work.Decided, from cloud.Cloud, judged []byte) work.Keeper {
	surveyor := d.r.Surveyor
	surveyor.Accounts = nil
	lender := d.lender(d.r.Definitions, surveyor)
	k := work.Keeper{Account: d.a.name, Decided: decided, Store: d.Store, Told: d.told, From: from, By: d.By,
		Now:  d.Now,
		Halt: ctx, Note: func(format string, a ...any) { d.Log.Warn(fmt.Sprintf(format, a...)) },
		Sweep: func(ctx context.Context) error {
			_, err := lender.Sweep(ctx, d.a.name)
			return err
		},
		LawsFirst: d.lawsFirst(),
		Survey: func(ctx context.Context) (*estate.Estate, error) {
			seen, err := from.Look(ctx, d.a.name, "")
			if err == nil {
				err = d.sensible(d.a, seen.Lines)
			}
			if err != nil {
				return nil, err
			}
			e, _, err := d.surveyOf(d.a, linesOf(seen.Lines), d.alsoNamed())
			return e, err
		}}
	d.a.mu.Lock()
	defer d.a.mu.Unlock()
	if d.a.unjudged.waits(d.now) || d.a.feed == "" {
		k.Judged = func() (*estate.Estate, error) {
			if judged == nil {
				return nil, work.ErrUnjudged
			}
			lines, err := store.Unpack(judged)
			if err != nil {
				return nil, err
			}
			e, _, err := d.surveyOf(d.a, linesOf(lines), nil)
			return e, err
		}
	}
	return k
}

// hasChanged notes that the account had changed since it was judged, and reports whether that is waited for.
func (a *account) hasChanged(now time.Time) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.unjudged.since.IsZero() {
		a.unjudged = changing{since: now, at: a.at}
	}
	if a.unjudged.at != a.at {
		a.unjudged.at = a.at
		a.unjudged.times++
	}
	return a.unjudged.waits(now)
}

// giveWay ends upholding: another one, which goes by another journal, was there before.
func (u *Upholder) giveWay(err error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.way == nil {
		u.way = err
		u.yield()
	}
}

// outdated reports whether definitions or settings have changed since they were read: what they said does not count any
// more.
func (u *Upholder) outdated() bool {
	u.mu.Lock()
	stamp := u.stamp
	u.mu.Unlock()
	return u.Stamp() != stamp
}

// judgedOnce reports whether everything that can be read was judged since this generation began, or had time enough.
func (u *Upholder) judgedOnce() bool {
	u.mu.Lock()
	ready := u.allJudged || u.Now().Sub(u.began) > firstPatient
	u.mu.Unlock()
	if ready {
		return true
	}
	all := u.known()
	for _, a := range all {
		u.mu.Lock()
		whole := u.whole[a.name]
		u.mu.Unlock()
		a.mu.Lock()
		waits := (!a.judged || whole) && a.trouble() == "" && !a.left
		a.mu.Unlock()
		if waits {
			return false
		}
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	u.allJudged = len(all) > 0
	return u.allJudged
}

// kick has an account looked at soon, where its cloud has no feed.
func (a *account) kick() {
	select {
	case a.kicked <- struct{}{}:
	default:
	}
}

// keptNotice is what is told when a difference is gone because it was put back, or shut.
func (u *Upholder) keptNotice(a *account, h *holding, run string) notify.Notice {
	n := u.notice(notify.PutBack, audit.Info, "%s", h.Notice.Says)
	n.Done = "What was decided is there again, by the run " + run
	if h.Law != "" {
		n = u.notice(notify.Enforced, audit.Medium, "%s", h.Notice.Says)
		n.Done = "It was shut, and exactly the rest stays, by the run " + run
		n.Undo = u.Say("repeal", run)
	}
	n.Account, n.Place, n.Law, n.Traffic, n.Changes = a.name, h.Place, h.Law, h.Notice.Traffic, h.Notice.Changes
	since := h.Since.UTC()
	n.Since, n.See = &since, u.Say("repeal", "--list")
	from := h.Since
	if c := h.Notice.Changes; c != nil && c.At != nil && c.At.Before(from) {
		from = *c.At
	}
	u.Facts.putBack(n.Type, u.Now().Sub(from))
	if u.Once {
		u.mu.Lock()
		u.kept = append(u.kept, n)
		u.mu.Unlock()
	}
	return n
}

func isEnforced(l law.Law) bool { return l.Enforced != nil }

// lawsOf are the digests of the laws that are to be enforced, by name.
func lawsOf(d nomos.Definitions) map[string]string {
	digests := make(map[string]string)
	promises := work.Promises(d)
	for _, l := range d.Laws {
		if isEnforced(l) {
			digests[l.Name] = enact.LawDigest(d.Estate.Name, promises, l.Name)
		}
	}
	return digests
}

// noteExempt notes the groups that exemptions name, when they are seen for the first time.
func (u *Upholder) noteExempt(first []enact.ExemptGroup) {
	for _, x := range first {
		if _, err := u.Store.Append(u.Now(), enact.UpholdRun, enact.Exempt, x); err != nil {
			u.Log.Error("the journal can't be written", "problem", err)
			return
		}
	}
}

// showLaws notes that what laws would take has been shown, once everything was judged.
func (u *Upholder) showLaws() {
	u.mu.Lock()
	laws, upheld := u.laws, u.runs.Upheld
	u.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(laws)) {
		if upheld.WasShown(name, laws[name]) {
			continue
		}
		if _, err := u.Store.Append(u.Now(), enact.UpholdRun, enact.Shown, enact.Agreement{Law: name,
			Digest: laws[name]}); err != nil {
			u.Log.Error("the journal can't be written", "problem", err)
			return
		}
		groups := make(map[string]bool)
		for _, a := range u.known() {
			a.mu.Lock()
			for _, h := range a.held {
				if h.Law == name && h.Kind == notify.Opened {
					groups[h.Place] = true
				}
			}
			a.mu.Unlock()
		}
		u.Log.Warn(fmt.Sprintf("the law %s is to be enforced, which would shut something in %s now; nothing is "+
			"done until "+
			"somebody says %s", name, count.Of(len(groups), "group", "groups"), u.Say("uphold", "agree", name)))
	}
}
