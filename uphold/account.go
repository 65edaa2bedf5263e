package uphold

import (
	"context"
	"fmt"
	"hash/fnv"
	"maps"
	"slices"
	"sync"
	"time"

	"isonomos/cloud"
	"isonomos/core/addr"
	"isonomos/store"
	"isonomos/work"
)

// An account is what is known of one that is watched.
type account struct {
	name  string
	began time.Time // when watching it began

	mu     sync.Mutex
	cloud  string
	packed []byte         // its lines as they were judged last; nil before
	refs   []string       // other accounts to which these refer
	at     cloud.Position // all events up to it are in the lines
	feed   string         // of which its events are
	events []cloud.Event  // that are not yet in the lines
	fresh  *cloud.Look    // what it was when it was read last, if that is not judged yet
	doing  sync.Mutex     // held while it is judged

	looking sync.Mutex // held while it is read
	looked  time.Time  // when all of it was read last, or was going to be

	version string
	judged  bool
	left    bool // it is left alone, since a run was broken off there
	unsure  doubt
	waits   bool // it is in the queue
	held    map[string]*holding
	seen    time.Time // when it was read, or its cloud's feed was heard, last
	problem string    // why it could not be read last, if so
	failing time.Time // since when
	silence string    // why its cloud is not heard, if so
	blind   bool      // and that was told
	done    []func()  // called when what is known now has been recorded

	from      cloud.Cloud   // nil until its cloud is watched
	kicked    chan struct{} // has it looked at soon, where its cloud has no feed
	keeping   bool
	keepAgain bool   // once more, when it has been kept
	lawsFirst bool   // the next time
	actor     string // as whom this program changes it; empty where its cloud does not tell
	unjudged  changing
	failures  int // to keep it, since it last succeeded
	// failed are groups, lists, interfaces and subnets that could not be kept, by id: the others are kept without them.
	failed map[string]*failure
	// upheldBy are the labels of groups that say who has put them back, by id of the group, and who wrote these labels.
	upheldBy map[string]labelled
}

// take keeps lines as those that were judged.
func (a *account) take(packed []byte, lines []line) {
	a.packed = packed
	a.refs = refersTo(a.name, lines)
}

// of is the name of its cloud.
func (a *account) of() string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.cloud
}

func (a *account) lookedAt() time.Time {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.looked
}

// put notes a difference, or with nil that it is gone. The map that was there is not changed: it may be being read.
func (a *account) put(key string, h *holding) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.held = maps.Clone(a.held)
	if a.held[key] = h; h == nil {
		delete(a.held, key)
	}
}

// known are the lines of an account; ok is false if it was never read.
func (a *account) known() (survey []byte, ok bool) {
	a.mu.Lock()
	packed := a.packed
	a.mu.Unlock()
	if packed == nil {
		return nil, false
	}
	survey, err := store.Unpack(packed)
	return survey, err == nil // what was packed here can be unpacked
}

// latest are the lines of an account as they were read last, judged or not.
func (a *account) latest() (survey []byte, ok bool) {
	a.mu.Lock()
	fresh := a.fresh
	a.mu.Unlock()
	if fresh != nil {
		return fresh.Lines, true
	}
	return a.known()
}

// judgeWhole has everything in an account judged, whatever has changed.
func (u *Upholder) judgeWhole(a *account) {
	u.mu.Lock()
	u.whole[a.name] = true
	u.mu.Unlock()
	u.enqueue(a)
}

// enqueue has an account judged.
func (u *Upholder) enqueue(a *account) {
	a.mu.Lock()
	waits := a.waits
	a.waits = true
	a.mu.Unlock()
	if !waits {
		u.open.Add(1)
		u.queue <- a
	}
}

// decideAll judges accounts until the context ends.
func (u *Upholder) decideAll(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case a := <-u.queue:
			a.mu.Lock()
			a.waits = false
			a.mu.Unlock()
			if wait := u.decide(ctx, a); wait > 0 {
				time.AfterFunc(wait, func() {
					u.enqueue(a)
					u.open.Add(-1)
				})
			} else {
				u.open.Add(-1)
			}
		}
	}
}

// A moment is a state of an account, and what led to it.
type moment struct {
	lines  []line
	only   map[string]bool // the groups in which alone something may have changed; nil if it may be anywhere
	events []cloud.Event   // empty if it was read as a whole
	before []cloud.Event   // what is known to have happened until it was read
	final  bool
}

// moments are the states through which an account has gone since it was judged last. Events of one request are one
// step. If they can't be followed, read is true: the account has to be read.
func moments(survey []byte, at cloud.Position, events []cloud.Event) (all []moment, last int, read bool) {
	lines := linesOf(survey)
	last = at.Last
	for _, e := range events {
		if e.Number <= last {
			continue
		}
		var ok bool
		if lines, ok = apply(lines, e); !ok {
			return all, last, true
		}
		last = e.Number
		if len(all) == 0 || !all[len(all)-1].events[0].At.Equal(e.At) {
			all = append(all, moment{})
		}
		m := &all[len(all)-1]
		m.lines, m.events = lines, append(m.events, e)
		m.only = onlyRules(m.events)
	}
	return all, last, false
}

// decide judges an account in all states through which it has gone, and records what was found. It returns after which
// time it is to be tried again; 0 means that there is nothing left to do.
func (u *Upholder) decide(ctx context.Context, a *account) (again time.Duration) {
	a.doing.Lock()
	defer a.doing.Unlock()
	if err := u.refresh(); err != nil {
		u.Log.Error("the journal can't be read", "problem", err)
		return 5 * time.Second
	}
	a.mu.Lock()
	events, fresh, at := slices.Clone(a.events), a.fresh, a.at
	done := a.done
	if a.done = nil; fresh == nil && (a.packed == nil || at.Feed != a.feed) {
		events, a.done, done = nil, done, nil // it is going to be read: they can't be applied before
	}
	a.mu.Unlock()
	again = u.judge(ctx, a, events, fresh, at)
	if again > 0 {
		a.mu.Lock()
		a.done = append(a.done, done...)
		a.mu.Unlock()
		return again
	}
	for _, f := range done {
		f()
	}
	return 0
}

const (
	busy     = 500 * time.Millisecond // how long an account is left alone that a run is changing
	awaiting = 100 * time.Millisecond // how long for others that are being read
	unjudged = 30 * time.Second       // until it is tried again to judge one that can't be judged
)

// judge judges an account in the states to which events lead from the one that was judged last, or that was read since.
// Nothing of it counts before it is recorded. It returns after which time it is to be tried again.
func (u *Upholder) judge(ctx context.Context, a *account, events []cloud.Event, fresh *cloud.Look,
	at cloud.Position) (again time.Duration) {
	survey, known := a.known()
	if !known && fresh == nil {
		return 0 // it has not been read yet
	}
	if wait := u.mustWait(a); wait > 0 {
		if u.Once && a.left {
			return 0 // it would wait for somebody
		}
		return wait
	}
	way, ok := u.wayOf(a, survey, known, events, fresh, at)
	if !ok {
		u.Log.Warn("a change of the feed can't be understood; the account is read", "account", a.name)
		u.lookAgain(a)
		return 0
	}
	u.mu.Lock()
	whole := u.whole[a.name] || !a.judged || fresh != nil || len(events) == 0
	u.mu.Unlock()
	rounds, held, err := u.judgeSteps(a, way.steps, whole)
	if err != nil {
		u.Log.Error("the account can't be judged", "account", a.name, "problem", err)
		if a.doubts(err.Error(), u.Now()); u.Once {
			return 0
		}
		return unjudged
	}
	lines := way.steps[len(way.steps)-1].lines
	kept := store.Watched{Account: a.name, Cloud: a.of(), Feed: way.at.Feed, Last: way.at.Last, Version: a.version,
		Seen: u.Now()}
	if fresh != nil {
		kept.Version = fresh.Version
	}
	same := known && fresh == nil && way.at == at
	if !same {
		kept.Packed = store.Pack(joined(lines))
	}
	if !same || !a.judged {
		if same {
			kept.Packed = store.Pack(survey)
		}
		rounds[len(rounds)-1].Watched = []store.Watched{kept}
	}
	if !u.keep(ctx, rounds...) {
		a.doubts("what was found can't be recorded", u.Now())
		return time.Second
	}
	a.doubts("", time.Time{})
	a.noteUpholders(survey, way.steps)
	u.progress.Add(1)
	moved := !known || !same && (fresh != nil || onlyRules(events) == nil) &&
		membersOf(linesOf(survey)) != membersOf(lines)
	if moved {
		u.noteKnown(a.name, knownIn(lines))
	}
	if !a.judged || moved {
		defer u.enqueueDependents(a.name) // once the account is no longer locked
	}
	u.mu.Lock()
	delete(u.whole, a.name)
	u.mu.Unlock()
	for _, e := range events {
		u.Facts.decided(u.Now().Sub(e.At))
	}
	defer func() {
		u.noteHandsOff(ctx, a, lines)
		u.keepUp(a)
	}()
	a.mu.Lock()
	defer a.mu.Unlock()
	if !same {
		a.take(kept.Packed, lines)
	}
	a.held, a.at, a.version, a.judged = held, way.at, kept.Version, true
	a.events = slices.DeleteFunc(a.events, func(e cloud.Event) bool { return e.Number <= way.at.Last })
	if a.fresh == fresh {
		a.fresh = nil
	}
	if len(a.events) > 0 || a.fresh != nil {
		return time.Millisecond
	}
	return 0
}

// mustWait says how long an account is to be left alone: while a run changes it, or was broken off there, and while
// others to which it refers are being read for the first time.
func (u *Upholder) mustWait(a *account) time.Duration {
	changing, broken, err := u.changing(a.name)
	if broken && !a.left {
		u.Log.Warn("the account is left alone, since a run was broken off there: it is to be carried on or undone",
			"account", a.name)
	}
	switch a.left = broken; {
	case err != nil:
		a.doubts(fmt.Sprintf("the store can't be read: %v", err), u.Now())
		return busy
	case broken:
		a.doubts("a run was broken off there, and is to be carried on or undone: "+u.Say("repeal", "--list"), u.Now())
		return busy
	case changing:
		a.doubts("a run is changing it", time.Time{})
		return busy
	case u.waitsForOthers(a):
		return awaiting
	}
	return 0
}

// A way is how an account has come to what it is.
type way struct {
	steps []moment       // one at least
	at    cloud.Position // behind the last one
}

// wayOf follows events from what is known of an account, and from what was read of it since. It reports false if they
// can't be followed, so that it has to be read.
func (u *Upholder) wayOf(a *account, survey []byte, known bool, events []cloud.Event, fresh *cloud.Look,
	at cloud.Position) (w way, ok bool) {
	until := func(number int) []cloud.Event { // those that were told until then
		return slices.DeleteFunc(slices.Clone(events), func(e cloud.Event) bool { return e.Number > number })
	}
	w.at = at
	var read bool
	switch {
	case fresh == nil:
		w.steps, w.at.Last, read = moments(survey, at, events)
		if len(w.steps) == 0 {
			w.steps = []moment{{lines: linesOf(survey)}}
		}
		return w, !read
	case known && fresh.At.Feed == at.Feed: // what happened until it was read is judged step by step too
		w.steps, _, _ = moments(survey, at, until(fresh.At.Last))
	}
	lines := linesOf(fresh.Lines)
	if len(w.steps) > 0 && !sameLines(w.steps[len(w.steps)-1].lines, lines) {
		u.Log.Warn("the feed has not told everything that has changed", "account", a.name)
	}
	a.mu.Lock()
	ofThisFeed := fresh.At.Feed == a.feed
	a.mu.Unlock()
	m := moment{lines: lines}
	if ofThisFeed {
		m.before = until(fresh.At.Last)
	}
	w.steps, w.at = append(w.steps, m), fresh.At
	if !ofThisFeed {
		return w, true // events of another feed can't be put behind it
	}
	rest, last, read := moments(fresh.Lines, fresh.At, events)
	if !read {
		w.steps, w.at.Last = append(w.steps, rest...), last
	}
	return w, true // what can't be followed stays, and has it read again
}

// judgeSteps judges the states through which an account has gone, and returns what each has found, and what holds in
// the end. Without whole, just that is judged at the end which the events are about.
func (u *Upholder) judgeSteps(a *account, steps []moment, whole bool) (rounds []store.Round,
	held map[string]*holding, err error) {
	end := &steps[len(steps)-1]
	if end.final = true; whole {
		end.only = nil
	}
	held = a.held
	for i, m := range steps {
		if !m.final && u.ownDoing(a, m) { // what it was not judged for is left to the next one
			steps[i+1].only = bothOf(m.only, steps[i+1].only)
			continue
		}
		round, next, err := u.findings(a, m, held)
		if err != nil {
			return nil, nil, err
		}
		rounds, held = append(rounds, round), next
	}
	return rounds, held, nil
}

// noteKnown notes the addresses of an account at which nobody is a stranger.
func (u *Upholder) noteKnown(name string, known addr.Set) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if was, there := u.others.of[name]; !there || !was.Equal(known) {
		u.others.of[name], u.others.stale, u.others.moved = known, true, true
	}
}

// membersOf tells who is where: which groups are attached to which interfaces, and what lists hold.
func membersOf(lines []line) uint64 {
	sum := fnv.New64a()
	for _, l := range lines {
		if l.kind != "rule" && l.kind != "group" {
			_, _ = sum.Write(l.text) // it never fails
		}
	}
	return sum.Sum64()
}

// enqueueDependents has the accounts judged that refer to one.
func (u *Upholder) enqueueDependents(name string) {
	u.mu.Lock()
	decided := u.decided
	u.mu.Unlock()
	for _, a := range u.known() {
		a.mu.Lock()
		refers := slices.Contains(a.refs, name) && a.judged
		a.mu.Unlock()
		if a.name != name && (refers || slices.Contains(decided.Neighbours(a.name), name)) {
			u.judgeWhole(a)
		}
	}
}

// bothOf are the groups of two steps; nil is all of them.
func bothOf(a, b map[string]bool) map[string]bool {
	if a == nil || b == nil {
		return nil
	}
	both := maps.Clone(a)
	maps.Copy(both, b)
	return both
}

func sameLines(a, b []line) bool {
	texts := func(lines []line) []string {
		all := make([]string, len(lines))
		for i, l := range lines {
			all[i] = string(l.text)
		}
		slices.Sort(all)
		return all
	}
	return slices.Equal(texts(a), texts(b))
}

// changing reports whether a run is changing an account, or was broken off there.
func (u *Upholder) changing(name string) (changing, broken bool, err error) {
	if changing, err := work.BeingChanged(u.Store, name, u.Now()); err != nil || changing {
		return true, false, err
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	broken = u.runs.BrokenOff(name)
	return broken, broken, nil
}

// ownDoing reports whether everything in a step was changed by a run of this program: what is between its beginning and
// its end was decided with it.
func (u *Upholder) ownDoing(a *account, m moment) bool {
	if len(m.events) == 0 {
		return false
	}
	a.mu.Lock()
	actor := a.actor
	a.mu.Unlock()
	u.mu.Lock()
	defer u.mu.Unlock()
	for _, e := range m.events {
		if actor != "" && e.By != "" && e.By != actor {
			return false
		}
		if e.Kind == "rule" && !u.runs.Changed(a.name, e.ID, e.At) || e.Kind != "rule" && !u.runs.Within(a.name,
			e.ID, e.At) {
			return false
		}
	}
	return true
}
