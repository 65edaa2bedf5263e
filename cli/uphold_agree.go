package cli

import (
	"context"
	"encoding/json"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"isonomos/core/law"
	"isonomos/enact"
	"isonomos/notify"
	"isonomos/render"
	"isonomos/store"
	"isonomos/uphold"
	"isonomos/work"
)

func (a *App) upholdAgreeCommand() *cli.Command {
	return &cli.Command{
		Name:      "agree",
		Metadata:  takesArguments(1, 1, "takes the name of a law", "isonomos uphold status names those that wait"),
		Usage:     "say that a law may be enforced, as it is",
		ArgsUsage: "[flags] LAW",
		Description: "A law with a line \"enforced\" is enforced by uphold only once somebody has seen what that " +
			"shuts, " +
			"and agreed. The first round after it was written, or changed, only shows that; this shows it again, and " +
			"notes in the journal that it may be. A law that is changed later has to be agreed to anew.\n\n" +
			"  isonomos uphold --once --estate harbour\n" +
			"  isonomos uphold agree shut-admin --estate harbour\n\n" +
			"It is refused (exit 4) as long as no round has shown what the law takes.",
		Flags:  []cli.Flag{estateFlag(), storeFlag()},
		Action: a.upholdAgree,
	}
}

func (a *App) upholdAgree(ctx context.Context, c *cli.Command) error {
	reading, _, err := a.readToUphold(c)
	if err != nil {
		return err
	}
	d, name := reading.Definitions, c.Args().First()
	var laws []string
	for _, l := range d.Laws {
		laws = append(laws, l.Name)
	}
	if err := work.Known("law", []string{name}, laws); err != nil {
		return err
	}
	if l := d.Laws[slices.IndexFunc(d.Laws, func(l law.Law) bool { return l.Name == name })]; l.Enforced == nil {
		return usage("the law %s is not to be enforced: write a line \"enforced\" into it first", name)
	}
	s, err := a.openStore(c, true)
	if err != nil {
		return err
	}
	defer s.Close()
	upheld, err := enact.UpheldBy(s.Journal)
	if err != nil {
		return unreachable("%w", err)
	}
	digest := enact.LawDigest(d.Estate.Name, work.Promises(d), name)
	switch {
	case upheld.IsAgreed(name, digest):
		a.note("the law %s is agreed to already, as it is", name)
		return nil
	case !upheld.WasShown(name, digest):
		return refused("no round has shown yet what the law %s takes, as it is: %s", name, a.say(c)("uphold", "--once"))
	}
	found, err := a.heldBy(ctx, c, s, func(n notify.Notice) bool { return n.Law == name && n.Type == notify.Opened })
	if err != nil {
		return err
	}
	screen := a.screen(c)
	render.ToEnforce(screen, name, found)
	if err := screen.Err(); err != nil {
		return err
	}
	if _, err := s.Append(a.Now(), enact.UpholdRun, enact.Agreed, enact.Agreement{Law: name, Digest: digest,
		By: whoAmI()}); err != nil {
		return unreachable("%w", err)
	}
	a.note("the law %s is enforced from now on, by whoever upholds the estate", name)
	return nil
}

// heldBy are the notices of what watching holds to be so now.
func (a *App) heldBy(ctx context.Context, c *cli.Command, s *store.Store, want func(notify.Notice) bool) (
	found []notify.Notice, err error) {
	held, err := s.Holding(ctx, uphold.Source, false)
	if err != nil {
		return nil, unreachable("the store %s can't be read: %v", storePath(c), err)
	}
	for _, h := range held {
		var x struct{ Notice notify.Notice }
		if err := json.Unmarshal(h.Body, &x); err != nil {
			return nil, unreachable("what was found in %s can't be read: %v", h.Account, err)
		}
		if want(x.Notice) {
			found = append(found, x.Notice)
		}
	}
	slices.SortStableFunc(found, notify.WorstFirst)
	return found, nil
}

func (a *App) upholdResumeCommand() *cli.Command {
	return &cli.Command{
		Name: "resume",
		Metadata: takesArguments(1, 1, "takes an account, or the full name of a network or group",
			"isonomos uphold status names those that are left alone"),
		Usage:     "say that what was left alone at a place is to be put back again",
		ArgsUsage: "[flags] ACCOUNT[/NETWORK[/GROUP]]",
		Description: "What would have to be let through again for the third time within an hour is left alone, " +
			"and so " +
			"is everything of that kind if it is at many groups at once. This notes in the journal that it need " +
			"not be " +
			"any longer.\n\n" +
			"  isonomos uphold resume tides/quay/booking --estate harbour\n" +
			"  isonomos uphold resume tides --estate harbour",
		Flags:  []cli.Flag{estateFlag(), storeFlag()},
		Action: a.upholdResume,
	}
}

func (a *App) upholdResume(ctx context.Context, c *cli.Command) error {
	s, err := a.openStore(c, false)
	if err != nil {
		return err
	}
	if s == nil {
		return unreachable("there is no store in %s: nothing is left alone there", storePath(c))
	}
	defer s.Close()
	place := strings.Trim(c.Args().First(), "/")
	left, err := a.heldBy(ctx, c, s, func(n notify.Notice) bool { return n.Type == notify.SteppedBack })
	if err != nil {
		return err
	}
	var places []string
	n := 0
	for _, x := range left {
		places = append(places, x.Place, x.Account)
		if x.Place == place || strings.HasPrefix(x.Place, place+"/") {
			n++
		}
	}
	if n == 0 {
		slices.Sort(places)
		if err := work.Known("place that is left alone", []string{place}, slices.Compact(places)); err != nil {
			return err
		}
	}
	if _, err := s.Append(a.Now(), enact.UpholdRun, enact.Resumed, enact.Resumption{Place: place,
		By: whoAmI()}); err != nil {
		return unreachable("%w", err)
	}
	a.note("%s no longer left alone: whoever upholds the estate goes on there", render.Count(n, "place is",
		"places are"))
	return nil
}
