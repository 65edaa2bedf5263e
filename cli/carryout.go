package cli

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"isonomos/cloud"
	"isonomos/core/change"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/enact"
	"isonomos/render"
	"isonomos/store"
)

// carryOut carries a draft out, or carries on a run that was broken off.
func (a *App) carryOut(ctx context.Context, c *cli.Command, s *store.Store, j job, d *enact.Draft, past *enact.Past) error {
	if d.Steps() == 0 {
		a.note("there is nothing to do: the clouds are as they should be")
		return nil
	}
	if n := d.Gaps(); n > 0 && !c.Bool("allow-gaps") && past == nil {
		render.Gaps(a.screenFor(c, a.Stderr), d)
		return refused("the draft has %s: traffic that is let through before and after would be stopped for some steps; --allow-gaps carries it out all the same", render.Count(n, "gap", "gaps"))
	}
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	run := &enact.Run{Name: runName(a.Now()), Draft: d, Journal: s, Now: a.Now, Jobs: c.Int("jobs"), Clouds: cloudsFor(j.defined)}
	if past != nil {
		run.Name = past.Name
		if err := run.Recall(past.Entries); err != nil {
			return refused("%v", err)
		}
	}
	unlock, err := a.lock(s, d.Changes(), run.Name)
	if err != nil {
		return err
	}
	defer unlock()
	if past == nil {
		if err := a.looking(ctx, c, j.defined, func(surveyed *estate.Estate) error { return stillSo(surveyed, j, d) }); err != nil {
			return err
		}
		if _, err := s.Append(a.Now(), run.Name, enact.Begin, d); err != nil {
			return unreachable("%v", err)
		}
	}
	quiet := *a // two bars at once would write over each other
	quiet.Progress = false
	run.Prove = func(ctx context.Context, wave int, accounts []string) error {
		return quiet.looking(ctx, c, j.defined, func(surveyed *estate.Estate) error { return arrived(surveyed, j, d, accounts) })
	}
	step, finish := a.counting("carrying out", d.Steps()-donePast(past))
	run.Step = func(*enact.Step) { step() }
	began := time.Now()
	err = run.Do(ctx)
	finish()
	var stopped *enact.StoppedError
	switch {
	case errors.As(err, &stopped):
		screen := a.screenFor(c, a.Stderr)
		render.Stopped(screen, stopped, run.Name, a.say(c))
		return quietly(exitUnreachable)
	case err != nil:
		return unreachable("%v; the run %s can be carried on: %s", err, run.Name, a.say(c)("enact", "--resume"))
	}
	screen := a.screen(c)
	render.Enacted(screen, d, run.Name, time.Since(began), a.say(c))
	return screen.Err()
}

func donePast(p *enact.Past) int {
	if p == nil {
		return 0
	}
	return p.Done()
}

// runName names a run by its time; the rest tells runs of one second apart.
func runName(now time.Time) string {
	b := make([]byte, 2)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	return now.UTC().Format("20060102-150405-") + hex.EncodeToString(b)
}

// cloudsFor finds the client of an account's cloud; each cloud has one.
func cloudsFor(e *estate.Estate) func(string) (cloud.Cloud, error) {
	var mu sync.Mutex
	clients := make(map[*estate.Cloud]cloud.Cloud)
	return func(account string) (cloud.Cloud, error) {
		i := slices.IndexFunc(e.Accounts, func(x *estate.Account) bool { return x.Name == account })
		if i < 0 {
			return nil, fmt.Errorf("the definitions know no account %s", account)
		}
		mu.Lock()
		defer mu.Unlock()
		of := e.Accounts[i].Cloud
		if clients[of] == nil {
			made, err := reach(e, of)
			if err != nil {
				return nil, err
			}
			clients[of] = made
		}
		return clients[of], nil
	}
}

const (
	lease = 60 * time.Second // how long a lock holds that is not renewed
	renew = 15 * time.Second
)

// lock takes the locks of accounts and keeps them until unlock is called.
func (a *App) lock(s *store.Store, accounts []string, run string) (unlock func(), err error) {
	host, _ := os.Hostname()
	holder := fmt.Sprintf("%s, process %d", host, os.Getpid())
	dead := func(other string) bool {
		at, number, ok := strings.Cut(other, ", process ")
		pid, err := strconv.Atoi(number)
		return ok && err == nil && at == host && gone(pid)
	}
	now := time.Now()
	err = s.Lock(accounts, run, holder, now, now.Add(lease), dead)
	var locked *store.LockedError
	if errors.As(err, &locked) {
		return nil, refused("%v: wait for its end", locked)
	}
	if err != nil {
		return nil, unreachable("the locks can't be taken: %v", err)
	}
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
				if _, err := s.Renew(len(accounts), run, holder, time.Now().Add(lease)); err != nil {
					a.note("the locks can't be renewed: %v", err)
				}
			}
		}
	})
	return func() {
		close(done)
		wait.Wait()
		_ = s.Unlock(run, holder) // what is not given back runs out
	}, nil
}

// gone reports whether no process of this machine has a number. Where nobody can tell it
// is there.
func gone(pid int) bool {
	const noSuchProcess = syscall.Errno(87) // ERROR_INVALID_PARAMETER of Windows, which finds processes only where they are
	p, err := os.FindProcess(pid)
	if err != nil {
		return errors.Is(err, noSuchProcess)
	}
	defer p.Release()
	return errors.Is(p.Signal(syscall.Signal(0)), os.ErrProcessDone)
}

// looks is how often clouds are surveyed before it is believed that they are not as
// they should be: an answer may be from before the last change.
const looks = 4

// looking surveys the clouds until they are as they should be, a few times.
func (a *App) looking(ctx context.Context, c *cli.Command, e *estate.Estate, asTheyShould func(*estate.Estate) error) error {
	for look := 1; ; look++ {
		surveyed, err := a.liveEstate(ctx, c, e)
		if err != nil {
			return err
		}
		if err = asTheyShould(surveyed); err == nil || look == looks {
			return err
		}
		select {
		case <-time.After(time.Duration(look) * 200 * time.Millisecond):
		case <-ctx.Done():
			return err
		}
	}
}

// stillSo makes the draft again from what is surveyed now: it must be the same. So what
// is carried out is what was reviewed, decided on the state that there is now.
func stillSo(surveyed *estate.Estate, j job, d *enact.Draft) error {
	aim, err := j.aim(surveyed)
	if err != nil {
		return refused("%v", err)
	}
	plan, err := change.NewPlan(aim)
	if err != nil {
		return refused("the clouds have changed since the draft was made: %v", err)
	}
	again := enact.NewDraft(plan, aim, enact.Waves{}, render.DraftWords(aim.Then))
	for i := range d.Objects {
		o := &d.Objects[i]
		k := slices.IndexFunc(again.Objects, func(x enact.Touched) bool { return x.Account == o.Account && x.Kind == o.Kind && x.ID == o.ID })
		if k >= 0 && again.Objects[k].Revision != o.Revision {
			return refused("the %s %s of %s has changed since the draft was made: make a new one", o.Kind, o.Name, o.Account)
		}
	}
	if !sameSteps(d, &again) {
		return refused("the clouds have changed since the draft was made, and other steps would be needed now: make a new one")
	}
	return nil
}

// sameSteps reports whether two drafts do the same. The waves of the one count.
func sameSteps(d, again *enact.Draft) bool {
	flat := func(x *enact.Draft) string {
		lanes := slices.Clone(x.Lanes)
		for i := range lanes {
			lanes[i].Wave, lanes[i].Stage = 0, ""
		}
		slices.SortStableFunc(lanes, func(a, b enact.Lane) int { return slices.Compare(a.Accounts, b.Accounts) })
		objects := slices.Clone(x.Objects)
		slices.SortFunc(objects, func(a, b enact.Touched) int {
			return strings.Compare(a.Account+" "+a.Kind+" "+a.ID, b.Account+" "+b.Kind+" "+b.ID)
		})
		return (&enact.Draft{Objects: objects, Lanes: lanes}).Digest()
	}
	return flat(d) == flat(again)
}

// arrived proves that accounts are where they should be: as surveyed anew, nothing is
// left to do in them, and what was to hold holds.
func arrived(surveyed *estate.Estate, j job, d *enact.Draft, accounts []string) error {
	aim, err := j.ended(surveyed)
	if err != nil {
		return err
	}
	plan, err := change.NewPlan(aim)
	if err != nil {
		return err
	}
	for _, l := range plan.Lanes {
		for i := range l.Steps {
			if s := &l.Steps[i]; slices.Contains(accounts, s.Account.Name) {
				return fmt.Errorf("something is still to be done: %s", enact.Says(s, aim.Then.Services))
			}
		}
	}
	named := func(file string, line int, text string) string { return fmt.Sprint(filepath.Base(file), line, text) }
	held := make(map[string]bool) // before and after
	for _, x := range d.Expects {
		held[named(x.File, x.Line, x.Text)] = x.Before && x.After
	}
	for _, r := range law.Prove(seen(aim.Now), law.Rebase(j.expects, aim.ToNow)) {
		if !r.Holds && held[named(r.Origin.File, r.Origin.Line, r.Text)] {
			return fmt.Errorf("an expectation holds no more: %s (%s:%d)", r.Text, r.Origin.File, r.Origin.Line)
		}
	}
	return nil
}
