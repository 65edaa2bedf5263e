package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"isonomos/core/estate"
	"isonomos/enact"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/render"
	"isonomos/store"
	"isonomos/work"
)

// carryOut carries a draft out, or carries on a run that was broken off.
func (a *App) carryOut(ctx context.Context, c *cli.Command, s *store.Store, j work.Job, d *enact.Draft,
	past *enact.Past) error {
	if n := d.Gaps(); n > 0 && !c.Bool("allow-gaps") && past == nil {
		render.Gaps(a.screenFor(c, a.Stderr), d)
		return refused("the draft has %s: traffic that is let through before and after would be stopped for some "+
			"steps; --allow-gaps carries it out all the same", render.Count(n, "gap", "gaps"))
	}
	if n := len(d.Cut.Needed()); n > 0 && past == nil && d.Repeals == "" && !c.Bool("cut") {
		return refused("the draft cuts what %s: %s; --cut carries it out all the same",
			render.Count(n, "user was seen to need", "users were seen to need"), firstCut(d))
	}
	ctx, halt, stop := a.interruptible(ctx)
	defer stop()
	quiet := *a // two progress bars would overwrite each other
	quiet.Progress = false
	live := func(ctx context.Context) (*estate.Estate, error) { return quiet.liveEstate(ctx, c, j.Defined) }
	if d.Steps() == 0 {
		err := work.Looking(ctx, live, func(surveyed *estate.Estate) error { return j.StillSo(surveyed, d) })
		if err == nil {
			a.note("there is nothing to do: the clouds are as they should be")
		}
		return a.stale(c, err)
	}
	began := time.Now()
	lender := a.lender(c, nomos.Definitions{Result: resolve.Result{Estate: j.Defined}}, s)
	name, err := work.CarryOut{Job: j, Lender: &lender,
		Draft: d, Past: past, Store: s, Surveyor: a.surveyor(c, j.Defined),
		Live: live, By: whoAmI(), Halt: halt, Jobs: c.Int("jobs"), Now: a.Now, Note: a.note,
		Counting: a.counting}.Do(ctx)
	var stopped *enact.StoppedError
	var broken *work.BrokenOffError
	switch {
	case errors.As(err, &stopped):
		render.Stopped(a.screenFor(c, a.Stderr), stopped, d, name, a.say(c))
		return quietly(exitUnreachable)
	case errors.As(err, &broken):
		return unreachable("%v; the run %s can be carried on: %s", err, name, a.carryOn(c, d))
	case err != nil:
		return a.stale(c, a.locked(c, err))
	}
	screen := a.screen(c)
	render.Enacted(screen, d, name, time.Since(began), a.say(c))
	return screen.Err()
}

// firstCut is the use that is cut and was seen most.
func firstCut(d *enact.Draft) string {
	u := d.Cut.Needed()[0]
	return fmt.Sprintf("%s → %s %s, on %s", u.Who, u.To, u.Service, render.Count(u.Days, "day", "days"))
}

// locked adds to the error of an account that is locked what can be done.
func (a *App) locked(c *cli.Command, err error) error {
	var taken *store.LockedError
	if !errors.As(err, &taken) {
		return err
	}
	return refused("%w: wait for its end; if its machine is no more, the lock runs out at %s, or is broken: %s", err,
		taken.Until.UTC().Format(time.RFC3339), a.say(c)("repeal", "--break-lock", taken.Account, "--because", "WHY"))
}

// stale adds to the error of a draft that is not what would be drafted now how to make a new one.
func (a *App) stale(c *cli.Command, err error) error {
	if errors.Is(err, work.ErrStale) {
		return refused("%w: %s", err, a.say(c)("draft"))
	}
	return err
}

// interruptible makes the first interrupt halt a run before its next step, and the second one end it at once.
func (a *App) interruptible(ctx context.Context) (at context.Context, halt context.Context, stop func()) {
	at, atOnce := context.WithCancel(ctx)
	halt, beforeNext := context.WithCancel(at)
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	done := make(chan struct{})
	go func() {
		for n := 0; ; n++ {
			select {
			case <-done:
				return
			case <-signals:
			}
			if n > 0 {
				atOnce()
				return
			}
			a.note("stopping after the step that is under way; once more stops at once")
			beforeNext()
		}
	}()
	return at, halt, func() {
		signal.Stop(signals)
		close(done)
		atOnce()
	}
}

// carryOn is the command that carries on a run of a draft.
func (a *App) carryOn(c *cli.Command, d *enact.Draft) string {
	if d.Repeals != "" {
		return a.say(c)("repeal")
	}
	return a.say(c)("enact", "--resume")
}

// brokenOff says how a run is carried on or undone that is not at its end.
func (a *App) brokenOff(c *cli.Command, open *enact.Past) error {
	where := fmt.Sprintf("after %d of %s", open.Done(), render.Count(open.Draft.Steps(), "step", "steps"))
	if open.Draft.Repeals != "" {
		return refused("the undoing of %s was broken off %s: %s carries it on", open.Draft.Repeals, where,
			a.carryOn(c, open.Draft))
	}
	return refused("the run %s was broken off %s: %s carries it on, %s undoes it", open.Name, where,
		a.carryOn(c, open.Draft), a.say(c)("repeal", open.Name))
}
