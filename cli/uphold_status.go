package cli

import (
	"context"
	"slices"

	"github.com/urfave/cli/v3"

	"isonomos/enact"
	"isonomos/nomos"
	"isonomos/notify"
	"isonomos/render"
	"isonomos/store"
	"isonomos/uphold"
	"isonomos/work"
)

func (a *App) upholdStatusCommand() *cli.Command {
	return &cli.Command{
		Name:      "status",
		Metadata:  noArguments("it tells all that the store has"),
		Usage:     "what is not as it was decided, what is left alone, and who watches",
		ArgsUsage: "[flags]",
		Description: "Tells what a watch that runs, or has run, has found and still holds, since when, who " +
			"watches, " +
			"what is left alone and why, which laws wait until somebody agrees, and what is still to be sent. It " +
			"asks " +
			"no cloud.\n\n" +
			"  isonomos uphold status --estate harbour\n\n" +
			"Exit 1 if something is not as it was decided, 3 if nobody watches or something is not seen.",
		Flags:  []cli.Flag{estateFlag(), storeFlag()},
		Action: a.upholdStatus,
	}
}

func (a *App) upholdStatus(ctx context.Context, c *cli.Command) error {
	s, err := a.openStore(c, false)
	if err != nil {
		return err
	}
	if s == nil {
		return unreachable("there is no store in %s: nobody watches, nor has ever from here", storePath(c))
	}
	defer s.Close()
	w := render.Watch{Now: a.Now(), Unsent: make(map[string]int)}
	var accounts []string
	err = s.LastWatched(ctx, func(x store.Watched) error {
		accounts = append(accounts, x.Account)
		if x.Seen.After(w.Seen) {
			w.Seen = x.Seen
		}
		return nil
	})
	if err != nil {
		return unreachable("the store %s can't be read: %v", storePath(c), err)
	}
	reading, _, wrong := a.readToUphold(c) // without definitions, the store tells what it can
	if wrong == nil {
		for _, x := range reading.Definitions.Estate.Accounts {
			if !slices.Contains(accounts, x.Name) {
				w.Unseen = append(w.Unseen, x.Name)
			}
		}
		accounts = append(accounts, uphold.LeasesOf(reading.Definitions.Estate)...)
	}
	for _, name := range accounts {
		has, err := s.LockOf(work.WatchLease(name))
		if err != nil {
			return unreachable("the store %s can't be read: %v", storePath(c), err)
		}
		if has.Until.After(w.Until) {
			w.Holder, w.Until = has.Holder, has.Until
		}
	}
	isLeft := func(n notify.Notice) bool { return n.Type == notify.SteppedBack || n.Type == notify.HandsOff }
	if w.Left, err = a.heldBy(ctx, c, s, isLeft); err != nil {
		return err
	}
	if w.Found, err = a.heldBy(ctx, c, s, func(n notify.Notice) bool { return !isLeft(n) }); err != nil {
		return err
	}
	upheld, err := enact.UpheldBy(s.Journal)
	if err != nil {
		return unreachable("%w", err)
	}
	if reading != nil {
		w.Unagreed = unagreed(reading.Definitions, upheld)
	}
	targets, err := s.Targets(ctx)
	if err != nil {
		return unreachable("the store %s can't be read: %v", storePath(c), err)
	}
	for _, name := range targets {
		if _, n, err := s.Outbox(ctx, name, 1); err == nil && n > 0 {
			w.Unsent[name] = n
		}
	}
	screen := a.screen(c)
	render.Watching(screen, w, a.say(c))
	switch {
	case screen.Err() != nil:
		return screen.Err()
	case !w.Until.After(w.Now), w.Blind()+len(w.Unseen) > 0:
		return quietly(exitUnreachable)
	case len(w.Found)+len(w.Left) > 0:
		return quietly(exitFindings)
	}
	return nil
}

// unagreed are the laws that are to be enforced and wait until somebody agrees.
func unagreed(d nomos.Definitions, upheld *enact.Upheld) (laws []string) {
	promises := work.Promises(d)
	for _, l := range d.Laws {
		if l.Enforced != nil && !upheld.IsAgreed(l.Name, enact.LawDigest(d.Estate.Name, promises, l.Name)) {
			laws = append(laws, l.Name)
		}
	}
	return laws
}
