package uphold

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

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
	alarmShut    = 3
	longestShut  = time.Minute // between two times that it is shut
	firstPatient = 15 * time.Second
	// mostUnjudged is how often in a row it waits for what has changed since to be judged. Whoever changes things all
	// the time does not keep it from shutting them: the feed tells of each change all the same.
	mostUnjudged = 20
)

// Keys under which it is noted why something is not put back.
const (
	leftKey  = "left "
	handsKey = "hands-off "
)

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
}

// lookNow reads an account, and has it judged.
func (u *Upholder) lookNow(ctx context.Context, a *account) {
	seen, err := a.from.Look(ctx, a.name, "")
	if err == nil {
		err = u.sensible(a, seen.Lines)
	}
	if err != nil {
		u.unseen(a, err)
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
}

// after has it asked again after a time.
func (d *decision) after(wait time.Duration) {
	if wait = max(wait, 10*time.Millisecond); d.again == 0 || wait < d.again {
		d.again = wait
	}
}

// keepAccount does what may be done in an account, and returns after which time it is to be tried again; 0 means that
// nothing is left to do before it is judged again.
func (u *Upholder) keepAccount(ctx context.Context, a *account) (again time.Duration) {
	if err := u.refresh(); err != nil {
		return 5 * time.Second
	}
	if !u.concerned(a) {
		u.noteLeft(ctx, a, nil)
		return 0
	}
	u.mu.Lock()
	d := &decision{Upholder: u, a: a, now: u.Now(), r: u.reading, upheld: u.runs.Upheld, left: make(map[string]*left)}
	decided := u.decided
	u.mu.Unlock()
	a.mu.Lock()
	d.held = a.held
	from := a.from
	a.mu.Unlock()
	if !u.judgedOnce() || u.outdated() {
		return 100 * time.Millisecond
	}
	surveyor := d.r.Surveyor
	surveyor.Accounts = nil
	lender := work.Lender{Definitions: d.r.Definitions, Store: u.Store, Surveyor: surveyor, By: u.By, Now: u.Now,
		Note: func(format string, a ...any) { u.Log.Info(fmt.Sprintf(format, a...)) }}
	keeper := work.Keeper{Account: a.name, Decided: decided, Store: u.Store, Told: u.told, From: from, By: u.By,
		Now:  u.Now,
		Halt: ctx, Note: func(format string, a ...any) { u.Log.Warn(fmt.Sprintf(format, a...)) },
		Sweep: func(ctx context.Context) error {
			_, err := lender.Sweep(ctx, a.name)
			return err
		},
		LawsFirst: d.lawsFirst(),
		Survey: func(ctx context.Context) (*estate.Estate, error) {
			seen, err := from.Look(ctx, a.name, "")
			if err == nil {
				err = u.sensible(a, seen.Lines)
			}
			if err != nil {
				return nil, err
			}
			e, _, err := u.surveyOf(a, linesOf(seen.Lines), d.alsoNamed())
			return e, err
		}}
	a.mu.Lock()
	if a.unjudged < mostUnjudged || a.feed == "" {
		keeper.Judged = func() (*estate.Estate, error) {
			lines, ok := a.known()
			if !ok {
				return nil, work.ErrUnjudged
			}
			e, _, err := u.surveyOf(a, linesOf(lines), nil)
			return e, err
		}
	}
	a.mu.Unlock()
	within, stop := context.WithTimeout(context.WithoutCancel(ctx), keepTimeout)
	defer stop()
	at := u.Now()
	kept, err := keeper.Keep(within, d.may())
	if kept.Run != "" {
		u.Log.Info("put back or shut", "account", a.name, "run", kept.Run, "took",
			u.Now().Sub(at).Round(time.Millisecond).String())
		a.kick()
	}
	switch {
	case errors.As(err, new(*work.EarlierError)):
		u.giveWay(err)
		return 0
	case errors.Is(err, work.ErrUnjudged):
		a.mu.Lock()
		a.unjudged++
		a.mu.Unlock()
		a.kick()
		return awaiting
	case work.Busy(err):
		u.Log.Debug("it is tried again", "account", a.name, "problem", err)
		return busy
	case ctx.Err() != nil:
		return 0
	case err != nil:
		return d.failed(err)
	}
	a.mu.Lock()
	a.failures, a.unjudged = 0, 0
	a.mu.Unlock()
	for place, why := range kept.Left {
		if d.left[place] == nil {
			d.left[place] = &left{why: why}
		}
	}
	u.noteLeft(ctx, a, d.left)
	return d.again
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

// failed notes that keeping an account has failed, and says when to try again.
func (d *decision) failed(err error) time.Duration {
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
		d.noteLeft(context.Background(), d.a, d.left)
	}
	return waiting(tries)
}

// lawsFirst is true every other time.
func (d *decision) lawsFirst() bool {
	d.a.mu.Lock()
	defer d.a.mu.Unlock()
	d.a.lawsFirst = !d.a.lawsFirst
	return d.a.lawsFirst
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
		a.mu.Lock()
		waits := (!a.judged || a.waits) && a.problem == "" && !a.left
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
	may := work.May{Leave: d.leave, By: d.changedBy, Upholder: d.upheld.Upholder(), Actor: d.actor(),
		Agreed: func(law string) bool { return d.upheld.IsAgreed(law, d.lawDigest(law)) }}
	may.Enforces = func(law string, g *estate.Group) bool { return may.Agreed(law) && d.due(law, g) }
	if d.r.PutsBack {
		may.PutBack = func(p estate.Place) bool { return d.r.PutBack == nil || d.r.PutBack.Holds(p) }
	}
	return may
}

// actor is as whom this program changes the account.
func (d *decision) actor() string {
	d.a.mu.Lock()
	defer d.a.mu.Unlock()
	return d.a.actor
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
		return say(false, "it has stood for less than %s", count.Lasting(d.r.Grace))
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

// grace is how much longer a difference at a group has to stand.
func (d *decision) grace(g *estate.Group) time.Duration {
	var wait time.Duration
	for _, h := range d.held {
		if h.GroupID == g.ID && h.Law == "" {
			wait = max(wait, h.Since.Add(max(d.r.Grace, together*boolTo(h.Kind == notify.Closed))).Sub(d.now))
		}
	}
	return wait
}

func boolTo(is bool) time.Duration {
	if is {
		return 1
	}
	return 0
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

// HandsOffLabel is the label of a group that is left alone until the time that it holds.
const HandsOffLabel = "isonomos-hands-off"

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

// noteLeft notes at which places nothing is done and why, and tells alarms; of all others it is noted that they are
// left alone no longer.
func (u *Upholder) noteLeft(ctx context.Context, a *account, places map[string]*left) {
	a.doing.Lock()
	defer a.doing.Unlock()
	var round store.Round
	a.mu.Lock()
	held := maps.Clone(a.held)
	a.mu.Unlock()
	now := u.Now()
	for place, x := range places {
		key := leftKey + place
		h := held[key]
		if h != nil && h.Why == x.why {
			continue
		}
		n := u.notice(notify.SteppedBack, audit.High, "%s", x.why)
		n.Account, n.Place, n.See, n.Undo = a.name, place, u.Say("uphold", "status"), x.resume
		next := &holding{Since: now, Kind: notify.SteppedBack, Place: place, GroupID: x.group, Notice: n, Why: x.why,
			Alarmed: x.alarm}
		if h != nil {
			next.Since, next.Told = h.Since, h.Told
			next.Alarmed = next.Alarmed || h.Alarmed
		}
		if x.alarm && (h == nil || !h.Alarmed) {
			telling := n.Telling(u.targets(), estate.Place{})
			next.Told = telling.Targets
			round.Tell = append(round.Tell, telling)
			u.logDifference(n)
		}
		body, err := json.Marshal(next)
		if err != nil {
			continue
		}
		held[key] = next
		round.Began = append(round.Began, store.Held{Source: Source, Account: a.name, Key: key, Since: next.Since,
			Body: body})
	}
	for key, h := range held {
		if place, is := strings.CutPrefix(key, leftKey); is && places[place] == nil {
			round.Ended = append(round.Ended, store.Held{Source: Source, Account: a.name, Key: key, Until: now})
			delete(held, key)
			if h.Alarmed {
				n := u.notice(notify.Resolved, audit.Info, "it is no longer left alone")
				n.Account, n.Place = a.name, place
				since := h.Since.UTC()
				n.Since = &since
				round.Tell = append(round.Tell, n.Telling(u.toldOf(h), estate.Place{}))
				u.logDifference(n)
			}
		}
	}
	if len(round.Began)+len(round.Ended) == 0 || !u.keep(ctx, round) {
		return
	}
	a.mu.Lock()
	a.held = held
	a.mu.Unlock()
}

// noteHandsOff notes groups whose labels say that they are to be left alone, when that begins and when it ends. It is
// called while the account is judged.
func (u *Upholder) noteHandsOff(ctx context.Context, a *account, lines []line) {
	u.mu.Lock()
	upheld, now, knows := u.runs.Upheld, u.Now(), u.runs.Knows
	u.mu.Unlock()
	a.mu.Lock()
	held := maps.Clone(a.held)
	a.mu.Unlock()
	active := make(map[string]bool)
	var round store.Round
	for _, l := range lines {
		var o struct {
			Name, Network string
			Labels        map[string]string
		}
		if l.kind != "group" || !bytes.Contains(l.text, []byte(HandsOffLabel)) || !knows.Has(a.name, "group", l.id) ||
			json.Unmarshal(l.text, &o) != nil || o.Labels[HandsOffLabel] == "" {
			continue
		}
		place, key := placeIn(a.name, o.Network, o.Name, lines), handsKey+l.id
		until, anew, why := upheld.HandsOffUntil(a.name, l.id, o.Labels[HandsOffLabel], now)
		if !until.After(now) {
			if held[key] == nil {
				u.Log.Debug("the label does not count", "place", place, "label", HandsOffLabel, "why", why)
			}
			continue
		}
		active[key] = true
		if anew {
			if _, err := u.Store.Append(now, enact.UpholdRun, enact.HandsOff, enact.HandsOffed{Account: a.name,
				ID:    l.id,
				Group: place, Until: until}); err != nil {
				u.Log.Error("the journal can't be written, so the group is not left alone", "place", place,
					"problem", err)
				continue
			}
		}
		if held[key] != nil {
			continue
		}
		n := u.notice(notify.HandsOff, audit.High, "nothing is put back there until %s: its label %s says so",
			until.UTC().Format(time.RFC3339), HandsOffLabel)
		n.Account, n.Place, n.See = a.name, place, u.Say("uphold", "status")
		telling := n.Telling(u.targets(), estate.Place{})
		h := &holding{Since: now, Kind: notify.HandsOff, Place: place, GroupID: l.id, Notice: n, Told: telling.Targets}
		body, err := json.Marshal(h)
		if err != nil {
			continue
		}
		held[key] = h
		round.Began = append(round.Began, store.Held{Source: Source, Account: a.name, Key: key, Since: now, Body: body})
		round.Tell = append(round.Tell, telling)
		u.logDifference(n)
		time.AfterFunc(until.Sub(now)+time.Second, func() { u.judgeWhole(a) })
	}
	for key, h := range held {
		if !strings.HasPrefix(key, handsKey) || active[key] {
			continue
		}
		n := u.notice(notify.HandsOff, audit.Info, "it is left alone no longer: what was decided is put back "+
			"there again")
		n.Account, n.Place = a.name, h.Place
		round.Ended = append(round.Ended, store.Held{Source: Source, Account: a.name, Key: key, Until: now})
		round.Tell = append(round.Tell, n.Telling(u.toldOf(h), estate.Place{}))
		delete(held, key)
		u.logDifference(n)
	}
	if len(round.Began)+len(round.Ended) > 0 && u.keep(ctx, round) {
		a.mu.Lock()
		a.held = held
		a.mu.Unlock()
	}
}

// placeIn is the full name of a group, given the id of its network.
func placeIn(account, network, name string, lines []line) string {
	for _, l := range lines {
		var o struct{ Name string }
		if network != "" && l.kind == "network" && l.id == network && json.Unmarshal(l.text, &o) == nil {
			return account + "/" + o.Name + "/" + name
		}
	}
	return account + "/" + name
}

// isAside reports whether what is held under a key is no difference, and stays whatever is judged.
func isAside(key string) bool {
	return key == blindKey || strings.HasPrefix(key, leftKey) || strings.HasPrefix(key, handsKey)
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

func (d *decision) lawDigest(name string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.laws[name]
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
