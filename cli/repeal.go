package cli

import (
	"context"
	"errors"

	"github.com/urfave/cli/v3"

	"isonomos/core/estate"
	"isonomos/enact"
	"isonomos/render"
	"isonomos/store"
	"isonomos/work"
)

func init() { addCommand(150, (*App).repealCommand) }

func (a *App) repealCommand() *cli.Command {
	return &cli.Command{
		Name:      "repeal",
		Metadata:  takesArguments(0, 1, "undoes one run", "isonomos repeal --list names them"),
		Usage:     "undo what was carried out",
		ArgsUsage: "[flags] [RUN]",
		Description: "Undoes a run of enact (default: the last one), from the journal: what it touched is brought " +
			"back to what it was before, in a safe order and with the same checks as any change. If " +
			"somebody else has changed any of it since, it refuses and overwrites nothing. With --to it " +
			"only writes the draft for that, to be carried out by isonomos enact.\n\n" +
			"  isonomos repeal --list\n" +
			"  isonomos repeal\n" +
			"  isonomos repeal 20261120-060000-4c1a --to undo.json",
		Flags: append([]cli.Flag{estateFlag(),
			&cli.BoolFlag{Name: "list", Usage: "list the runs in the journal, and check its chain"},
			&cli.StringFlag{Name: "to", Usage: "write the draft to `FILE` and stop"},
			&cli.BoolFlag{Name: "give-up", Usage: "undo nothing: leave a run that was broken off as it is, and " +
				"note that in the journal"},
			&cli.StringFlag{Name: "break-lock", Usage: "take the lock of `ACCOUNT` from a run whose machine is no " +
				"more; past its lease, or with --because"},
			&cli.StringFlag{Name: "because", Usage: "why a lock is broken before its lease is over: `TEXT` for the " +
				"journal"},
			&cli.BoolFlag{Name: "allow-gaps", Usage: "carry it out although it stops, for some steps, what is " +
				"let through before and after"},
			jobsFlag(), storeFlag()}, waveFlags()...),
		Action: a.repeal,
	}
}

// undoing is the job of bringing clouds back to what was there before a run.
func (a *App) undoing(c *cli.Command, p *enact.Past) (work.Job, error) {
	files, err := a.readDefinitions(c.String("estate"))
	if err != nil {
		return work.Job{}, err
	}
	d, err := a.understand(c, files)
	if err != nil {
		return work.Job{}, err
	}
	passes, err := a.passesIn(c, d.Estate)
	if err != nil {
		return work.Job{}, err
	}
	j := work.UndoingJob(d.Estate, p, passes)
	j.Lawful = d
	return j, nil
}

func (a *App) repeal(ctx context.Context, c *cli.Command) error {
	for _, err := range []error{a.without(c, "list", "to", "give-up", "allow-gaps", "waves", "jobs", arguments),
		a.without(c, "give-up", "to", "allow-gaps", "waves", "jobs", arguments), a.without(c, "to", "allow-gaps"),
		a.without(c, "break-lock", "list", "to", "give-up", "allow-gaps", "waves", "jobs", arguments),
		a.onlyToBreak(c)} {
		if err != nil {
			return err
		}
	}
	s, pasts, err := a.journal(c, false)
	if err != nil {
		return err
	}
	defer s.Close()
	if c.Bool("list") {
		screen := a.screen(c)
		render.Runs(screen, pasts)
		return screen.Err()
	}
	if account := c.String("break-lock"); account != "" {
		was, err := work.BreakLock(s, account, c.String("because"), whoAmI(), a.Now())
		if err != nil {
			return err
		}
		a.note("the lock of the account %s is broken: it was that of the run %s (%s)", account, was.Run, was.Holder)
		return nil
	}
	if c.Bool("give-up") {
		return a.giveUp(c, s, work.OpenRun(pasts))
	}
	open, name := work.OpenRun(pasts), c.Args().First()
	switch {
	case open == nil || name == open.Name && open.Draft.Repeals == "":
	case open.Draft.Repeals != "" && (name == "" || name == open.Name || name == open.Draft.Repeals) &&
		!c.IsSet("to"):
		j, err := a.jobOf(c, open.Draft, pasts)
		if err != nil {
			return err
		}
		return a.carryOut(ctx, c, s, j, open.Draft, open)
	case name != "" || open.Draft.Repeals != "":
		return a.brokenOff(c, open)
	}
	past, err := work.ToUndo(pasts, name)
	if err != nil {
		return err
	}
	j, err := a.undoing(c, past)
	if err != nil {
		return err
	}
	var p *work.Prepared
	live := func(ctx context.Context) (*estate.Estate, error) { return a.liveEstate(ctx, c, j.Defined) }
	if err := work.LastAlive(s, past, a.Now()); err != nil {
		return err
	}
	look := func() error {
		return work.Looking(ctx, live, func(surveyed *estate.Estate) (err error) {
			p, err = a.prepare(c, j, surveyed)
			return err
		})
	}
	var late *enact.MayArriveError
	if err = look(); errors.As(err, &late) {
		a.note("%v: waiting for that; nothing is concluded before", err)
		if err := work.WaitUntil(ctx, late.Until); err != nil {
			return unreachable("the run %s stays open: %v", past.Name, err)
		}
		err = look()
	}
	var moved *enact.MovedError
	switch {
	case errors.As(err, &moved) && moved.Run != "":
		return refused("%w; undo that one first: %s", err, a.say(c)("repeal", moved.Run))
	case errors.As(err, &moved) && past.Open():
		return refused("%w; %s leaves the run as it is, so that a new draft can be made", err,
			a.say(c)("repeal", "--give-up"))
	case errors.As(err, &moved):
		return refused("%w; define what should be there instead, and make a draft: %s", err, a.say(c)("draft"))
	case err != nil:
		return err
	}
	if text := work.Forbidden(past, p.Aim.Then, j.Lawful, a.Now()); text != "" {
		return refused("the run %s enforced a law that would be broken again: %s; an exemption has to cover it first "+
			"(exempt … from … because … until … by …)", past.Name, text)
	}
	d := &p.Draft
	d.Repeals = past.Name
	if d.Steps() == 0 && !c.IsSet("to") {
		return a.nothingToUndo(s, past)
	}
	if path := c.String("to"); path != "" {
		return a.tellDraft(c, d, path)
	}
	return a.carryOut(ctx, c, s, j, d, nil)
}

// onlyToBreak refuses a reason where no lock is to be broken.
func (a *App) onlyToBreak(c *cli.Command) error {
	if c.IsSet("because") && c.String("break-lock") == "" {
		return usage("--because says why a lock is broken: name the account with --break-lock")
	}
	return nil
}

// nothingToUndo tells that the clouds are as they were before a run. If it was broken off, it is at its end
// with that.
func (a *App) nothingToUndo(s *store.Store, past *enact.Past) error {
	if past.Open() {
		if err := work.Close(s, past, a.Now(), "there was nothing to undo"); err != nil {
			return err
		}
	}
	a.note("there is nothing to undo: the clouds are as they were before the run %s", past.Name)
	return nil
}

// giveUp ends a run without undoing or finishing it.
func (a *App) giveUp(c *cli.Command, s *store.Store, open *enact.Past) error {
	if err := work.GiveUp(s, open, a.Now()); err != nil {
		return err
	}
	a.note("the run %s is given up after %d of %s: the clouds stay as they are, %s tells what is left to do",
		open.Name, open.Done(), render.Count(open.Draft.Steps(), "step", "steps"), a.say(c)("draft"))
	return nil
}
