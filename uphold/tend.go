package uphold

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"isonomos/core/audit"
	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/core/pass"
	"isonomos/enact"
	"isonomos/nomos"
	"isonomos/notify"
	"isonomos/store"
	"isonomos/work"
)

// A recording is what is to be recorded, and where to say how that went.
type recording struct {
	rounds []store.Round
	done   chan error
}

// mostTogether is how many recordings are written in one transaction.
const mostTogether = 256

// record writes what was found to the store: what comes while one transaction is written goes into the next one.
func (u *Upholder) record(ctx context.Context) {
	for {
		var all []recording
		select {
		case <-ctx.Done():
			return
		case r := <-u.recorder:
			all = append(all, r)
		}
	more:
		for len(all) < mostTogether {
			select {
			case r := <-u.recorder:
				all = append(all, r)
			default:
				break more
			}
		}
		var rounds []store.Round
		for _, r := range all {
			rounds = append(rounds, r.rounds...)
		}
		err := u.Store.Record(ctx, rounds...)
		for _, r := range all {
			r.done <- err
		}
	}
}

// keep records rounds, all or none of them. It reports whether that succeeded: if not it is said once, and whoever
// calls it has to try again.
func (u *Upholder) keep(ctx context.Context, rounds ...store.Round) bool {
	r := recording{rounds, make(chan error, 1)}
	var err error
	select {
	case u.recorder <- r:
		err = <-r.done
	case <-ctx.Done():
		return false
	}
	u.mu.Lock()
	missed := u.misses
	if u.misses++; err == nil {
		u.misses = 0
	}
	sender := u.sender
	u.mu.Unlock()
	switch {
	case err != nil && missed == 0:
		u.Log.Error("what was found can't be recorded, so nobody is told; it is tried again", "problem", err)
	case err == nil && missed > 0:
		u.Log.Info("what was found is recorded again")
	}
	if err != nil {
		return false
	}
	if sender != nil {
		for _, x := range rounds {
			if len(x.Tell) > 0 {
				sender.Wake()
				break
			}
		}
	}
	return true
}

// tellPlace is where the store keeps up to which entry of the journal passes were told.
const tellPlace = "journal of passes"

const (
	keptFor   = 90 * 24 * time.Hour // what is over, and was told
	lawsAgain = time.Minute         // between two times that all accounts are judged for other strangers
)

// tend does what is to be done from time to time: passes that are over are ended, what the journal has of passes is
// told, and so are accounts that are not read.
func (u *Upholder) tend(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	swept, judged := time.Time{}, u.Now()
	told, said := u.toldUpTo(ctx), -1
	for {
		u.Facts.beat()
		if err := u.refresh(); err != nil {
			u.Log.Error("the journal can't be read", "problem", err)
		} else {
			u.endOverdue()
			told = u.tellPasses(ctx, told)
			said = u.wakeSaid(said)
		}
		u.lookForBlind(ctx)
		if u.judgedOnce() {
			u.showLaws()
		}
		if u.Now().Sub(judged) > lawsAgain && u.judgeForStrangers() {
			judged = u.Now()
		}
		if u.Now().Sub(swept) > 24*time.Hour {
			swept = u.Now()
			if err := u.Store.Sweep(ctx, swept.Add(-keptFor)); err != nil && ctx.Err() == nil {
				u.Log.Error("what is long over can't be swept out of the store", "problem", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// judgeForStrangers has all accounts judged if others are strangers than when that was done last, and there are laws.
// It reports whether it has.
func (u *Upholder) judgeForStrangers() bool {
	u.mu.Lock()
	due := u.others.moved && len(u.reading.Definitions.Laws) > 0
	u.others.moved = u.others.moved && !due
	u.mu.Unlock()
	if due {
		for _, a := range u.known() {
			u.judgeWhole(a)
		}
	}
	return due
}

// toldUpTo is the entry of the journal up to which passes were told; what was there before the first start is not told.
func (u *Upholder) toldUpTo(ctx context.Context) int {
	w, known, err := u.Store.WatchedOf(ctx, tellPlace)
	if err == nil && known && w.Last >= 0 {
		return w.Last
	}
	u.mu.Lock()
	told := u.chronicle.Head().Number
	u.mu.Unlock()
	u.keep(ctx, u.toldRound(told))
	return told
}

func (u *Upholder) toldRound(number int) store.Round {
	return store.Round{Watched: []store.Watched{{Account: tellPlace, Cloud: tellPlace, Last: number, Seen: u.Now()}}}
}

// tellPasses tells what the journal has of passes behind an entry, and returns the last one that was told.
func (u *Upholder) tellPasses(ctx context.Context, told int) int {
	u.mu.Lock()
	head, passes := u.chronicle.Head().Number, u.decided.Passes
	u.mu.Unlock()
	if head <= told {
		return told
	}
	var entries []store.Entry // while they are read, nothing else is asked of the store, nor waits for who does
	err := u.Store.After(ctx, told, func(e store.Entry) error {
		if e.Kind == enact.PassOpened || e.Kind == enact.PassEnded {
			entries = append(entries, e)
		}
		return nil
	})
	if err != nil {
		return told
	}
	round := u.toldRound(head)
	for _, e := range entries {
		var x enact.PassNote
		if e.Number > head || json.Unmarshal(e.Body, &x) != nil || passes[x.ID] == nil {
			continue
		}
		k := passes[x.ID]
		n := u.passNotice(e.Kind, k, x)
		n.ID = fmt.Sprintf("%s-entry-%d", e.Hash[:16], e.Number) // so that a crash does not tell it twice
		round.Tell = append(round.Tell, n.Telling(u.targets(), u.placesIn(k.Account, k.Group, "")...))
		u.Log.Info(n.Says, "type", n.Type, "place", n.Place)
	}
	if !u.keep(ctx, round) {
		return told
	}
	return head
}

// passNotice is what is told when a pass has been opened, or has ended.
func (u *Upholder) passNotice(kind string, k *pass.Known, x enact.PassNote) notify.Notice {
	var opens []string
	for _, o := range k.Openings {
		opens = append(opens, strings.Join(o.Services, ", ")+" for "+strings.Join(o.Peers, ", "))
	}
	what := count.Some(opens, 3)
	n := u.notice(notify.PassIssued, audit.Info, "the pass %s opens %s until %s, for %s: %s", k.ID, what,
		k.Until.UTC().Format(time.RFC3339), k.By, k.Because)
	if kind == enact.PassEnded {
		n = u.notice(notify.PassEnded, audit.Info, "the pass %s has ended (%s): it had opened %s", k.ID, x.Why, what)
	} else {
		n.Undo = u.Say("pass", "end", k.ID)
	}
	n.Account, n.Place, n.See = k.Account, k.Group, u.Say("pass", "list")
	return n
}

// endOverdue ends the passes that are over by the journal.
func (u *Upholder) endOverdue() {
	u.mu.Lock()
	var accounts []string
	for _, k := range u.decided.Passes {
		if k.Ended.IsZero() && !k.Until.After(u.Now()) && !slices.Contains(accounts, k.Account) {
			accounts = append(accounts, k.Account)
		}
	}
	u.mu.Unlock()
	slices.Sort(accounts)
	for _, name := range accounts {
		u.endPasses(name)
	}
}

// lender is what ends passes by the definitions of a reading.
func (u *Upholder) lender(d nomos.Definitions, s work.Surveyor) work.Lender {
	return work.Lender{Definitions: d, Store: u.Store, Surveyor: s, By: u.By, Now: u.Now,
		Note: func(format string, a ...any) { u.Log.Info(fmt.Sprintf(format, a...)) }}
}

// endPasses ends what is over in an account, in the background. What can't be ended is told, once.
func (u *Upholder) endPasses(account string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.ending[account] {
		return
	}
	u.ending[account] = true
	surveyor := u.reading.Surveyor
	surveyor.Accounts = nil
	lender := u.lender(u.reading.Definitions, surveyor)
	go func() {
		ctx, stop := context.WithTimeout(context.Background(), lookTimeout)
		defer stop()
		shut, err := lender.EndOver(ctx, account)
		var locked *store.LockedError
		u.mu.Lock()
		known := u.failed[account]
		u.failed[account] = err != nil && !errors.As(err, &locked)
		failed := u.failed[account]
		u.mu.Unlock()
		for _, x := range shut {
			u.Log.Debug("the pass was ended", "pass", x.ID, "place", x.Group, "why", x.Why)
		}
		if failed && !known {
			n := u.notice(notify.PassOverdue, audit.High, "a pass in %s is over and can't be shut, which is "+
				"tried again: %s", account, work.WhyStopped(err))
			n.Account, n.See, n.Undo = account, u.Say("pass", "list"), u.Say("pass", "end", "--overdue")
			u.tell(context.Background(), n, u.placesIn(account, "", "")...)
		}
		if err != nil && locked == nil {
			time.Sleep(10 * time.Second)
		} else {
			time.Sleep(time.Second) // the journal is read again meanwhile, and whoever else is at work there ends
		}
		u.mu.Lock()
		delete(u.ending, account)
		u.mu.Unlock()
	}()
}

// longestDrain is how long a single round waits while nothing is judged: a run may be changing the account.
const longestDrain = time.Minute

// drain waits until everything that was read has been judged, or nothing more was for a while.
func (u *Upholder) drain(ctx context.Context) {
	last, at := u.progress.Load(), time.Now()
	for ctx.Err() == nil && time.Since(at) < longestDrain {
		u.mu.Lock()
		ending := len(u.ending)
		u.mu.Unlock()
		if u.open.Load() == 0 && ending == 0 {
			break
		}
		if now := u.progress.Load(); now != last {
			last, at = now, time.Now()
		}
		time.Sleep(10 * time.Millisecond)
	}
	for _, x := range u.nowReading().Definitions.Estate.Clouds {
		u.lookForCloud(ctx, x.Name, false)
	}
	for _, a := range u.known() {
		u.lookForSight(ctx, a)
	}
	u.sender.Flush(ctx)
}

// Result is what is known at the moment.
func (u *Upholder) Result(ctx context.Context) notify.Round {
	r := notify.Round{Unread: u.unseen()}
	u.mu.Lock()
	head := u.chronicle.Head()
	u.mu.Unlock()
	for _, a := range u.known() {
		a.mu.Lock()
		for _, key := range slices.Sorted(maps.Keys(a.held)) {
			if h := a.held[key]; !strings.HasPrefix(key, leftKey) || h.Alarmed {
				n := h.Notice
				n.Done, n.Journal = "", notify.Journal{Number: head.Number, Hash: head.Hash}
				if n.Law != "" {
					n.Done = u.whatIsDone(n.Type, n.Law, estate.Place{})
				}
				r.Found = append(r.Found, n)
			}
		}
		a.mu.Unlock()
	}
	slices.SortStableFunc(r.Found, notify.WorstFirst)
	u.mu.Lock()
	r.Kept = u.kept
	u.mu.Unlock()
	for _, t := range u.targets() {
		_, n, err := u.Store.Outbox(ctx, t.Name, 1)
		if r.Left += n; err != nil {
			r.Left++
		}
	}
	return r
}
