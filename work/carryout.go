package work

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"isonomos/cloud"
	"isonomos/core/estate"
	"isonomos/core/pass"
	"isonomos/enact"
	"isonomos/store"
	"isonomos/store/whole"
)

// Carrying drafts out: with the accounts locked, and only if the clouds are still as they were when
// the draft was reviewed.

// A CarryOut carries out a draft, or continues a run that was broken off.
type CarryOut struct {
	Job      Job
	Draft    *enact.Draft
	Past     *enact.Past // the run to be continued; nil for a new one
	Store    *store.Store
	Surveyor Surveyor // of the clouds that the job changes
	// Live surveys the clouds as they are now.
	Live   func(ctx context.Context) (*estate.Estate, error)
	By     string          // who carries it out
	Halt   context.Context // when it is done, no further step begins; may be nil
	Jobs   int             // accounts at the same time
	Now    func() time.Time
	Note   func(format string, a ...any) // called with remarks for the user
	Lender *Lender                       // shuts passes that are over first; nil where there are none
	// Counting shows progress.
	Counting func(what string, of int) (step, finish func())
}

// Do carries out the draft and returns the name of the run. If the run stopped on the way the error
// is an enact.StoppedError; if its journal could not be written or the context ended, a
// BrokenOffError. After any other error nothing has been changed.
func (c CarryOut) Do(ctx context.Context) (name string, err error) {
	var unlock func()
	if c.Halt == nil {
		c.Halt = ctx
	}
	options, err := c.Surveyor.options()
	if err != nil {
		return "", wrong("%w", err)
	}
	run := &enact.Run{Name: runName(c.Now()), Draft: c.Draft, Journal: c.Store, Now: c.Now, Jobs: c.Jobs,
		Clouds: c.Surveyor.byAccount(ctx), Limit: options.Timeout}
	done := 0
	if c.Past != nil {
		if err := LastAlive(c.Store, c.Past, c.Now()); err != nil {
			return "", err
		}
		run.Name, done, run.Alive = c.Past.Name, c.Past.Done(), c.Past.Alive
		if err := run.Recall(c.Past.Entries); err != nil {
			return run.Name, refused("%w", err)
		}
	}
	ctx, run.Held, unlock, err = lock(ctx, c.Store, c.Draft.Changes(), run.Name, c.Note)
	if err != nil {
		return run.Name, err
	}
	defer unlock()
	swept, unswept := false, error(nil)
	ready := func(surveyed *estate.Estate) error {
		if !swept {
			swept = true
			var over bool
			if over, unswept = c.sweep(ctx, surveyed); over && unswept == nil {
				return errSwept
			}
		}
		if unswept != nil {
			return unswept
		}
		if c.Past == nil {
			if err := c.Job.StillSo(surveyed, c.Draft); err != nil {
				return err
			}
		} else {
			c.Job.Passes.in(surveyed)
		}
		run.Passes = enact.PassRules(surveyed)
		return nil
	}
	if err := Looking(c.Halt, c.Live, ready); err != nil {
		return run.Name, err
	}
	if c.Past == nil {
		begun := *c.Draft
		begun.EnactedBy = c.By
		if _, err := c.Store.Append(c.Now(), run.Name, enact.Begin, begun); err != nil {
			return run.Name, unreachable("%w", err)
		}
	}
	run.Slow = c.Surveyor.Slow
	endPasses, err := c.passesToEnd()
	if err != nil {
		return run.Name, err
	}
	locked := run.Held
	run.Held = func() error {
		if c.Halt.Err() != nil {
			return enact.ErrCalledOff
		}
		if err := locked(); err != nil {
			return err
		}
		endPasses(ctx)
		return nil
	}
	run.Prove = func(ctx context.Context, _ int, accounts []string) error {
		ctx, end := context.WithCancel(ctx)
		defer end()
		defer context.AfterFunc(c.Halt, end)() // nothing is under way that would have to be waited for
		return Looking(ctx, c.Live,
			func(surveyed *estate.Estate) error { return c.Job.Arrived(surveyed, c.Draft, accounts) })
	}
	step, finish := c.Counting("carrying out", c.Draft.Steps()-done)
	run.Step = func(*enact.Step) { step() }
	err = run.Do(ctx)
	finish()
	var stopped *enact.StoppedError
	if err != nil && !errors.As(err, &stopped) {
		return run.Name, &BrokenOffError{run.Name, err}
	}
	return run.Name, err
}

// passesToEnd returns what ends the passes that are over meanwhile in the accounts of the draft: nobody else can while
// these are locked. It may be called by several goroutines.
func (c CarryOut) passesToEnd() (end func(context.Context), err error) {
	if c.Lender == nil {
		return func(context.Context) {}, nil
	}
	known, _, _, err := enact.Passes(c.Store.Journal)
	if err != nil {
		return nil, refused("%w", err)
	}
	var mu sync.Mutex
	ends := make(map[string]time.Time) // by account, the next one
	next := func(account string) {
		delete(ends, account)
		for _, k := range known {
			if k.Account == account && k.Ended.IsZero() && k.Until.After(c.Now()) &&
				(ends[account].IsZero() || k.Until.Before(ends[account])) {
				ends[account] = k.Until
			}
		}
	}
	for _, account := range c.Draft.Changes() {
		next(account)
	}
	return func(ctx context.Context) {
		mu.Lock()
		defer mu.Unlock()
		for account, at := range ends {
			if at.After(c.Now()) {
				continue
			}
			if _, err := c.Lender.Sweep(ctx, account); err != nil {
				c.Note("a pass in %s is over and can't be ended during the run: %v", account, err)
			}
			next(account)
		}
	}, nil
}

// errSwept says that passes were shut, so that the clouds have to be surveyed again.
var errSwept = errors.New("passes that were over have just been shut")

// sweep shuts the passes that are over in the accounts of the draft, which are locked. It reports whether there were
// any.
func (c CarryOut) sweep(ctx context.Context, surveyed *estate.Estate) (bool, error) {
	if c.Lender == nil {
		return false, nil
	}
	over := make(map[string]bool)
	for _, f := range c.Job.Passes.in(surveyed) {
		if f.State == pass.Overdue || f.State == pass.Broken {
			over[f.Account] = true
		}
	}
	any := false
	for _, account := range c.Draft.Changes() {
		if !over[account] {
			continue
		}
		n, err := c.Lender.Sweep(ctx, account)
		if err != nil {
			return true, err
		}
		any = any || n > 0
	}
	return any, nil
}

// A BrokenOffError says that a run was broken off. It can be continued.
type BrokenOffError struct {
	Run string
	err error
}

func (e *BrokenOffError) Error() string { return e.err.Error() }
func (e *BrokenOffError) Unwrap() error { return e.err }

// runName is a name for a run: its time, and a random part for runs of the same second.
func runName(now time.Time) string {
	b := make([]byte, 2)
	_, _ = rand.Read(b) // crypto/rand never fails
	return now.UTC().Format("20060102-150405-") + hex.EncodeToString(b)
}

// LastAlive notes when a run that was broken off may still have sent requests, by the locks that it left behind: it
// renewed them as long as it lived.
func LastAlive(s *store.Store, p *enact.Past, now time.Time) error {
	for _, account := range p.Draft.Changes() {
		has, err := s.LockOf(account)
		if err != nil {
			return unreachable("%w", err)
		}
		if has.Run != p.Name {
			continue
		}
		alive := has.Until.Add(renew - lease)
		if alive.After(now) {
			alive = now
		}
		if alive.After(p.Alive) {
			p.Alive = alive
		}
	}
	return nil
}

// byAccount finds the client of an account's cloud; there is one for each cloud. An account that is not defined any
// more is looked for in all clouds. It may be called by several goroutines.
func (s Surveyor) byAccount(ctx context.Context) func(account string) (cloud.Cloud, error) {
	var mu sync.Mutex
	clients := make(map[*estate.Cloud]cloud.Cloud)
	of := make(map[string]*estate.Cloud)
	for _, x := range s.Definitions.Accounts {
		of[x.Name] = x.Cloud
	}
	reach := func(x *estate.Cloud) (cloud.Cloud, error) {
		if clients[x] == nil {
			made, err := s.Reach(x)
			if err != nil {
				return nil, err
			}
			clients[x] = made
		}
		return clients[x], nil
	}
	return func(account string) (cloud.Cloud, error) {
		mu.Lock()
		defer mu.Unlock()
		if x := of[account]; x != nil {
			return reach(x)
		}
		for _, x := range s.Definitions.Clouds {
			made, err := reach(x)
			if err != nil {
				continue // it is told by whoever surveys
			}
			names, err := made.Accounts(ctx)
			if err == nil && slices.Contains(names, account) {
				of[account] = x
				return made, nil
			}
		}
		return nil, fmt.Errorf("the account %s is not defined any more, and no cloud that is defined shows it: define "+
			"it again (account %[1]s { cloud … })", account)
	}
}

const (
	lease = 60 * time.Second // how long a lock lasts if it is not renewed
	renew = 15 * time.Second
)

// errLockLost ends a run whose locks are gone: another one may be changing the same accounts.
var errLockLost = errors.New("the lock of its accounts was lost to another run, or broken by hand")

// ownID tells this process from others that have or had its number: by when it began, where that is known.
var ownID = rand.Text()[:8] + "-" + whole.Started(os.Getpid())

// lock takes the locks of accounts for a run and renews them until unlock is called. If they are lost, or
// could not be renewed while they lasted, the returned context ends; held tells at once. A lock on this machine
// whose process has ended does not count.
func lock(ctx context.Context, s *store.Store, accounts []string, run string, note func(string, ...any)) (
	locked context.Context, held func() error, unlock func(), err error) {
	host, _ := os.Hostname()
	holder := fmt.Sprintf("%s, process %d, %s", host, os.Getpid(), ownID)
	now := time.Now()
	err = s.Lock(accounts, run, holder, now, now.Add(lease), isGone)
	var taken *store.LockedError
	if errors.As(err, &taken) {
		return nil, nil, nil, refused("%w", taken)
	}
	if err != nil {
		return nil, nil, nil, unreachable("the locks can't be taken: %w", err)
	}
	locked, lost := context.WithCancelCause(ctx)
	lasts := now.Add(lease)
	done := make(chan struct{})
	var wait sync.WaitGroup
	wait.Go(func() {
		tick := time.NewTicker(renew)
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
				until := time.Now().Add(lease)
				held, err := s.Renew(len(accounts), run, holder, until)
				switch {
				case err == nil && held:
					lasts = until
				case err == nil || time.Now().After(lasts.Add(-renew)):
					lost(errLockLost)
				default:
					note("the locks can't be renewed: %v", err)
				}
			}
		}
	})
	held = func() error {
		n, err := s.Holds(run, holder)
		if err == nil && n < len(accounts) {
			err = errLockLost
		}
		return err
	}
	return locked, held, func() {
		close(done)
		wait.Wait()
		lost(nil)
		_ = s.Unlock(run, holder) // a lock that is not released expires
	}, nil
}

// isGone reports whether whoever had a lock is a process of this machine that is no more.
func isGone(holder string) bool {
	host, _ := os.Hostname()
	at, rest, ok := strings.Cut(holder, ", process ")
	number, id, _ := strings.Cut(rest, ", ")
	pid, err := strconv.Atoi(number)
	if !ok || err != nil || at != host {
		return false
	}
	if pid == os.Getpid() { // processes in a container have the same numbers each time
		return id != ownID
	}
	if whole.Gone(pid) {
		return true
	}
	_, began, _ := strings.Cut(id, "-")
	is := whole.Started(pid)
	return began != "" && is != "" && is != began // another one has its number
}

// BeingChanged reports whether somebody is changing an account now.
func BeingChanged(s *store.Store, account string, now time.Time) (bool, error) {
	has, err := s.LockOf(account)
	return has.Account != "" && has.Until.After(now) && !isGone(has.Holder), err
}

// BreakLock takes the lock of an account from a run of another machine and notes that in the journal. If the
// lock has not run out, there must be a reason.
func BreakLock(s *store.Store, account, why, by string, now time.Time) (was store.LockedError, err error) {
	was, err = s.LockOf(account)
	switch {
	case err != nil:
		return was, unreachable("%w", err)
	case was.Account == "":
		return was, wrong("no run has a lock of the account %s", account)
	case was.Until.After(now) && strings.TrimSpace(why) == "":
		return was, refused("%w, until %s: its run may still be going on; to break its lock all the same, say why "+
			"(because)", &was, was.Until.UTC().Format(time.RFC3339))
	}
	if _, err := s.Append(now, was.Run, enact.LockBroken, enact.Broken{Account: account, Holder: was.Holder, By: by,
		Why: why}); err != nil {
		return was, unreachable("%w", err)
	}
	if err := s.Unlock(was.Run, was.Holder); err != nil {
		return was, unreachable("the lock can't be broken: %w", err)
	}
	return was, nil
}

// looks is how often clouds are surveyed until a result is believed that is not as expected: an
// answer may be stale.
const looks = 4

// Looking calls look, a few times if necessary, until it succeeds. It returns the last error.
func Looking(ctx context.Context, live func(context.Context) (*estate.Estate, error),
	asTheyShould func(*estate.Estate) error) error {
	return lookAgain(ctx, func() (again bool, err error) {
		surveyed, err := live(ctx)
		if err != nil {
			return false, err
		}
		err = asTheyShould(surveyed)
		var unread *NotSurveyedError
		var late *enact.MayArriveError
		return err != nil && !errors.As(err, &unread) && !errors.As(err, &late), err
	})
}

// WaitUntil waits for a time.
func WaitUntil(ctx context.Context, at time.Time) error {
	select {
	case <-time.After(time.Until(at)):
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// lookAgain calls look as long as it wants to be called again, but so many times at most, with growing waits, and
// returns its last error.
func lookAgain(ctx context.Context, look func() (again bool, err error)) error {
	for n := 1; ; n++ {
		again, err := look()
		if !again || n == looks {
			return err
		}
		select {
		case <-time.After(time.Duration(n) * 200 * time.Millisecond):
		case <-ctx.Done():
			return err
		}
	}
}

// OpenRun is the last run that is neither complete nor undone, or nil.
func OpenRun(pasts []*enact.Past) *enact.Past {
	undone := enact.Undone(pasts)
	for _, p := range slices.Backward(pasts) {
		if p.Open() && !undone[p.Name] {
			return p
		}
	}
	return nil
}

// ToUndo is the run with a name, or without one the last run that can be undone.
func ToUndo(pasts []*enact.Past, name string) (*enact.Past, error) {
	undone := enact.Undone(pasts)
	if name == "" {
		for _, p := range slices.Backward(pasts) {
			switch {
			case p.Draft.Repeals != "" || undone[p.Name] || len(p.Draft.Passes) > 0 || p.Draft.Upholds != nil:
			case p.Unchanged():
				return nil, wrong("the last run %s changed nothing: to undo an earlier one, name it", p.Name)
			default:
				return p, nil
			}
		}
		return nil, wrong("there is no run to undo")
	}
	var names []string
	for _, p := range pasts {
		names = append(names, p.Name)
	}
	if err := Known("run", []string{name}, names); err != nil {
		return nil, err
	}
	if found := pasts[slices.Index(names, name)]; len(found.Draft.Passes) > 0 {
		return nil, wrong("the run %s opened or shut passes (%s): they end by themselves, or are ended", name,
			strings.Join(found.Draft.Passes, ", "))
	}
	if u := pasts[slices.Index(names, name)].Draft.Upholds; u != nil && len(u.Laws) == 0 {
		return nil, wrong("the run %s put back what was decided: define what should be there instead, and carry "+
			"that out",
			name)
	}
	if undone[name] {
		return nil, wrong("the run %s is undone already", name)
	}
	return pasts[slices.Index(names, name)], nil
}

// GiveUp notes in the journal that a run that was broken off stays as it is, so that the next one
// can begin.
func GiveUp(s *store.Store, open *enact.Past, now time.Time) error {
	if open == nil {
		return wrong("there is no run to give up: every one in the journal is at its end")
	}
	return Close(s, open, now, "by hand")
}

// Close notes in the journal that a run is at its end as it is.
func Close(s *store.Store, p *enact.Past, now time.Time, why string) error {
	_, err := s.Append(now, p.Name, enact.End,
		enact.Ending{Outcome: enact.GivenUp, Done: p.Done(), Of: p.Draft.Steps(), Why: why})
	if err != nil {
		return unreachable("%w", err)
	}
	return nil
}
