package cli

import (
	"context"
	"encoding/json"
	"slices"

	"github.com/urfave/cli/v3"

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
		Usage:     "what is not as it was decided, and who watches, as the store has it",
		ArgsUsage: "[flags]",
		Description: "Tells what a watch that runs, or has run, has found and still holds, since when, who " +
			"watches, and " +
			"what is still to be sent. It asks no cloud.\n\n" +
			"  isonomos uphold status --estate harbour\n\n" +
			"Exit 1 if something is not as it was decided, 3 if nobody watches.",
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
	reading, _, err := a.readToUphold(c)
	if err == nil {
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
	held, err := s.Holding(ctx, uphold.Source, false)
	if err != nil {
		return unreachable("the store %s can't be read: %v", storePath(c), err)
	}
	for _, h := range held {
		var x struct{ Notice notify.Notice }
		if err := json.Unmarshal(h.Body, &x); err != nil {
			return unreachable("what was found in %s can't be read: %v", h.Account, err)
		}
		w.Found = append(w.Found, x.Notice)
	}
	slices.SortStableFunc(w.Found, notify.WorstFirst)
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
	render.Watching(screen, w)
	switch {
	case screen.Err() != nil:
		return screen.Err()
	case !w.Until.After(w.Now):
		return quietly(exitUnreachable)
	case len(w.Found) > 0:
		return quietly(exitFindings)
	}
	return nil
}
