package uphold

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"isonomos/core/audit"
	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/notify"
	"isonomos/store"
)

// What can't be seen: accounts that can't be read or judged, clouds that can't be heard, and those that are gone. It is
// told when it lasts, and is never taken for an account in which there is nothing.

// blindKey is what the store calls it that an account can't be read or judged, or a cloud not be heard.
const blindKey = "blind"

// A sight is how a cloud as a whole is heard: its list of accounts, and its feed if it has one.
type sight struct {
	began   time.Time // when watching it began
	seen    time.Time // when it was heard last
	again   time.Time // when it was heard first after trouble
	problem string    // why it can't be heard, if so
	polled  bool      // it has no feed: its accounts are looked at again and again
	looked  time.Time // when one of its accounts was read last, though its feed is heard
	held    *holding  // that this was told, if it was
}

// since is when it was heard last.
func (s *sight) since() time.Time {
	if s.seen.IsZero() {
		return s.began
	}
	return s.seen
}

// blindAfter is how long nothing may be heard of a cloud or its accounts until that is told.
func (r *Reading) blindAfter(s *sight) time.Duration {
	if s != nil && s.polled {
		return max(r.BlindAfter, 2*r.Interval)
	}
	return r.BlindAfter
}

const sightOf = "cloud " // before the name of a cloud, where the store has the names of accounts: none has a space

// sight is how a cloud is heard. It is called with mu.
func (u *Upholder) sight(name string) *sight {
	if u.sights[name] == nil {
		now := u.Now()
		u.sights[name] = &sight{began: now, looked: now}
	}
	return u.sights[name]
}

// cloudHeard notes that a cloud has answered.
func (u *Upholder) cloudHeard(name string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	s := u.sight(name)
	if s.seen = u.Now(); s.problem != "" {
		s.problem, s.again = "", s.seen
		u.Log.Info("the cloud is heard again", "cloud", name)
	}
}

// cloudUnheard notes why a cloud can't be heard, and that none of its accounts is; the first time it is said.
func (u *Upholder) cloudUnheard(name string, err error) {
	u.mu.Lock()
	s := u.sight(name)
	known := s.problem != ""
	s.problem = err.Error()
	u.mu.Unlock()
	if !known {
		u.Log.Warn("the cloud can't be heard; it is tried again", "cloud", name, "problem", err)
	}
	for _, a := range u.known() {
		if a.of() == name {
			a.mu.Lock()
			a.silence = err.Error()
			a.mu.Unlock()
			u.Facts.failed(a.name)
		}
	}
}

// heard notes that the feed of an account's cloud was heard, so that what happens there is known.
func (u *Upholder) heard(a *account) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.seen, a.silence = u.Now(), ""
}

// read notes that an account was read.
func (u *Upholder) read(a *account) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.seen, a.silence, a.problem = u.Now(), "", ""
}

// unread notes why an account can't be read; the first time it is said.
func (u *Upholder) unread(a *account, err error) {
	a.mu.Lock()
	known := a.problem != ""
	if a.problem = err.Error(); !known {
		a.failing = u.Now()
	}
	a.mu.Unlock()
	u.Facts.failed(a.name)
	if !known {
		u.Log.Warn("the account can't be read; it is tried again", "account", a.name, "problem", err)
	}
}

// trouble is why an account is not seen, if so. It is called with mu.
func (a *account) trouble() string { return cmp.Or(a.problem, a.silence) }

// A doubt is why an account that was read is not judged.
type doubt struct {
	why   string    // empty if it is
	since time.Time // zero if somebody is seeing to it, as a run that is changing it
}

// doubts notes why an account is not judged, or with nothing that it is.
func (a *account) doubts(why string, since time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if was := a.unsure.since; why != "" && !was.IsZero() && !since.IsZero() {
		since = was // it goes on for another reason
	}
	a.unsure = doubt{why, since}
}

// unknown says since when what an account lets through is not known, and why: that it was not read, or not judged. It
// is called with mu.
func (a *account) unknown() (since time.Time, failed, why string) {
	since, failed, why = a.seen, "read", a.trouble()
	if since.IsZero() {
		since = a.began
	}
	if a.problem != "" && a.failing.Before(since) { // though the feed of its cloud is heard
		since = a.failing
	}
	if d := a.unsure; !d.since.IsZero() && d.since.Before(since) {
		return d.since, "judged", d.why
	}
	return since, failed, cmp.Or(why, "it does not answer")
}

// lookForBlind tells of clouds and accounts of which nothing was known for long, and of those that are seen again.
// Where a whole cloud is not heard, that is told once, and not for each of its accounts.
func (u *Upholder) lookForBlind(ctx context.Context) {
	r, now := u.nowReading(), u.Now()
	type hearing struct {
		after time.Duration
		again time.Time // since when its accounts can be read again
		deaf  bool
	}
	of := make(map[string]hearing)
	for _, x := range r.Definitions.Estate.Clouds {
		u.mu.Lock()
		s := u.sight(x.Name)
		silent, after := now.Sub(s.since()), r.blindAfter(s)
		of[x.Name] = hearing{after, s.again, s.problem != "" || silent > after/2}
		u.mu.Unlock()
		u.lookForCloud(ctx, x.Name, silent > after)
	}
	for _, a := range u.known() {
		from := of[a.of()]
		a.mu.Lock()
		since, failed, why := a.unknown()
		late, blind := now.Sub(since) > from.after && now.Sub(from.again) > from.after, a.blind
		a.mu.Unlock()
		switch {
		case blind:
			u.lookForSight(ctx, a)
		case late && !(from.deaf && failed == "read"):
			n := u.notice(notify.Blind, audit.High, "the account %s was not %s for %s (%s): what happens there is "+
				"not known", a.name, failed, count.Lasting(now.Sub(since).Truncate(time.Second)), why)
			n.Account, n.See = a.name, u.Say("uphold", "status")
			if u.hold(ctx, a, blindKey, &holding{Since: now, Kind: notify.Blind, Place: a.name, Notice: n}) {
				a.mu.Lock()
				a.blind = true
				a.mu.Unlock()
				u.logDifference(n)
			}
		}
	}
}

// lookForCloud tells that a cloud was not heard for long, or that it is again.
func (u *Upholder) lookForCloud(ctx context.Context, name string, late bool) {
	u.mu.Lock()
	s := u.sight(name)
	held, problem, since := s.held, s.problem, s.since()
	heard := problem == "" && held != nil && s.seen.After(held.Since)
	u.mu.Unlock()
	var round store.Round
	var next *holding
	var n notify.Notice
	switch {
	case heard:
		n = u.notice(notify.Resolved, audit.Info, "the cloud %s is heard again", name)
		u.endHolding(&round, sightOf+name, blindKey, held, n)
	case late && held == nil:
		problem = cmp.Or(problem, "it does not answer")
		where, accounts := "there", 0
		for _, a := range u.known() {
			if a.of() == name {
				accounts++
			}
		}
		if accounts > 0 {
			where = "in " + count.Of(accounts, "account", "accounts")
		}
		n = u.notice(notify.Blind, audit.High, "the cloud %s was not heard for %s (%s): what happens %s is not known",
			name, count.Lasting(u.Now().Sub(since).Truncate(time.Second)), problem, where)
		n.See = u.Say("uphold", "status")
		next = &holding{Since: u.Now(), Kind: notify.Blind, Place: name, Notice: n}
		if u.beginHolding(&round, sightOf+name, blindKey, next) != nil {
			return
		}
	default:
		return
	}
	if !u.keep(context.WithoutCancel(ctx), round) {
		return
	}
	u.mu.Lock()
	s.held = next
	u.mu.Unlock()
	u.logDifference(n)
}

// lookForSight tells that an account is read and judged again, if it was told to be blind.
func (u *Upholder) lookForSight(ctx context.Context, a *account) {
	if !u.isJudged(a) {
		return
	}
	a.doing.Lock()
	defer a.doing.Unlock()
	if h := a.held[blindKey]; h != nil {
		n := u.notice(notify.Resolved, audit.Info, "the account %s is read again, and judged", a.name)
		n.Account = a.name
		var round store.Round
		u.endHolding(&round, a.name, blindKey, h, n)
		if !u.keep(context.WithoutCancel(ctx), round) {
			return
		}
		a.put(blindKey, nil)
		u.Log.Info(n.Says, "type", n.Type)
	}
	a.mu.Lock()
	a.blind = false
	a.mu.Unlock()
}

// isJudged reports whether an account has been read and judged by the present definitions, and nothing is in the way
// of going on with that.
func (u *Upholder) isJudged(a *account) bool {
	u.mu.Lock()
	whole := u.whole[a.name]
	u.mu.Unlock()
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.judged && !whole && !a.seen.IsZero() && a.trouble() == "" && a.unsure.why == ""
}

// sensible says what is wrong with what was read of an account.
func (u *Upholder) sensible(a *account, lines []byte) error {
	head := store.HeadLines("look", time.Unix(0, 0), u.nowReading().Definitions.Estate.Clouds)
	e, _, err := store.ReadSurvey(io.MultiReader(strings.NewReader(head), bytes.NewReader(lines)), a.name)
	switch {
	case err != nil:
		return err
	case len(e.Accounts) != 1 || e.Accounts[0].Name != a.name:
		return errors.New("the answer is not about this account alone")
	}
	return nil
}

// forsake forgets accounts that are watched no longer, and tells that they are.
func (u *Upholder) forsake(ctx context.Context, why string, all []*account) {
	ctx = context.WithoutCancel(ctx)
	var names []string
	for _, a := range all {
		if err := u.Store.Forsake(ctx, Source, a.name, u.Now()); err != nil {
			u.Log.Error("an account that is gone can't be forgotten", "account", a.name, "problem", err)
			continue
		}
		names = append(names, a.name)
		u.mu.Lock()
		delete(u.accounts, a.name)
		delete(u.others.of, a.name)
		u.Facts.lastSeen.DeleteLabelValues(a.name)
		u.Facts.errors.DeleteLabelValues(a.name)
		u.others.stale, u.others.moved = true, true
		if u.Once {
			u.gone = append(u.gone, estate.Unread{Account: a.name, Reason: why})
		}
		u.mu.Unlock()
	}
	if len(names) == 0 {
		return
	}
	is := "is"
	if len(names) > 1 {
		is = "are"
	}
	n := u.notice(notify.Blind, audit.High, "%s %s watched no longer: %s", count.Some(names, 6), is, why)
	if len(names) == 1 {
		n.Account = names[0]
	}
	u.tell(ctx, n)
}

// forsakeClouds forgets what was told of clouds that the definitions no longer name.
func (u *Upholder) forsakeClouds(ctx context.Context, e *estate.Estate) {
	u.mu.Lock()
	names := slices.Sorted(maps.Keys(u.sights))
	u.mu.Unlock()
	for _, name := range names {
		if slices.ContainsFunc(e.Clouds, func(x *estate.Cloud) bool { return x.Name == name }) {
			continue
		}
		if err := u.Store.Forsake(context.WithoutCancel(ctx), Source, sightOf+name, u.Now()); err != nil {
			u.Log.Error("a cloud that is gone can't be forgotten", "cloud", name, "problem", err)
			continue
		}
		u.mu.Lock()
		delete(u.sights, name)
		u.mu.Unlock()
	}
}

// unseen are the accounts and clouds of which a round could not tell anything, and why.
func (u *Upholder) unseen() (unread []estate.Unread) {
	u.mu.Lock()
	unread = append(unread, u.gone...)
	for _, name := range slices.Sorted(maps.Keys(u.sights)) {
		if s := u.sights[name]; s.problem != "" || s.seen.IsZero() {
			unread = append(unread, estate.Unread{Cloud: name, Reason: cmp.Or(s.problem, "it does not answer")})
		}
	}
	u.mu.Unlock()
	for _, a := range u.known() {
		if u.isJudged(a) {
			continue
		}
		a.mu.Lock()
		reason := cmp.Or(a.trouble(), a.unsure.why, "it could not be judged in time")
		a.mu.Unlock()
		unread = append(unread, estate.Unread{Account: a.name, Reason: reason})
	}
	return unread
}
