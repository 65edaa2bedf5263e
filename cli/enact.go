package cli

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/signal"
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

func (a *App) enactCommand() *cli.Command {
	return &cli.Command{
		Name:      "enact",
		Usage:     "carry a draft out",
		ArgsUsage: "[flags] [DRAFT]",
		Description: "Carries out exactly what a draft says (default: draft.json), or nothing: where the definitions or the\n" +
			"clouds have moved since, it is refused. Each step stands in the journal before its request is sent, and\n" +
			"what became of it after. Accounts go side by side, the steps of one in order; stages go wave by wave,\n" +
			"each proved before the next. Broken off at any moment, it can be carried on or undone.\n\n" +
			"  isonomos enact\n" +
			"  isonomos enact tides.json\n" +
			"  isonomos enact --resume\n\n" +
			"Exit 3 if it stopped on the way: what is not done is told. Exit 4 if it was refused.",
		Flags: []cli.Flag{estateFlag(),
			&cli.BoolFlag{Name: "allow-gaps", Usage: "carry it out although it stops, for some steps, what is let through before and after"},
			&cli.BoolFlag{Name: "resume", Usage: "carry on the run that was broken off"},
			jobsFlag()},
		Action: a.enact,
	}
}

func (a *App) repealCommand() *cli.Command {
	return &cli.Command{
		Name:      "repeal",
		Usage:     "undo what was carried out",
		ArgsUsage: "[flags] [RUN]",
		Description: "Undoes a run of enact (default: the last one), from the journal: what it touched is brought back to\n" +
			"what it was, with the same order and checks as any change. What somebody else has changed since is not\n" +
			"overwritten: then it is refused. With --to it only writes the draft of it, for isonomos enact.\n\n" +
			"  isonomos repeal --list\n" +
			"  isonomos repeal\n" +
			"  isonomos repeal 20261120-060000-4c1a --to undo.json",
		Flags: append([]cli.Flag{estateFlag(),
			&cli.BoolFlag{Name: "list", Usage: "list the runs in the journal, and check its chain"},
			&cli.StringFlag{Name: "to", Usage: "write the draft to `FILE` and stop"},
			&cli.BoolFlag{Name: "give-up", Usage: "undo nothing: leave a run that was broken off as it is, and note that in the journal"},
			&cli.BoolFlag{Name: "allow-gaps", Usage: "carry it out although it stops, for some steps, what is let through before and after"},
			jobsFlag()}, waveFlags()...),
		Action: a.repeal,
	}
}

func (a *App) enact(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 1 {
		return usage("enact takes one draft: %d were named", c.Args().Len())
	}
	s, pasts, err := a.journal(c, true)
	if err != nil {
		return err
	}
	defer s.Close()
	open := openRun(pasts)
	if c.Bool("resume") {
		if c.Args().Present() {
			return usage("--resume carries on the run in the journal: it takes no draft")
		}
		if open == nil {
			return usage("there is no run to carry on: every one in the journal is at its end")
		}
		j, err := a.jobOf(c, open.Draft, pasts)
		if err != nil {
			return err
		}
		return a.carryOut(ctx, c, s, j, open.Draft, open)
	}
	if open != nil {
		return refused("the run %s was broken off after %d of %d steps: isonomos enact --resume carries it on, isonomos repeal %s undoes it", open.Name, open.Done(), open.Draft.Steps(), open.Name)
	}
	path := "draft.json"
	if c.Args().Present() {
		path = c.Args().First()
	}
	d, err := readDraft(path)
	if err != nil {
		return err
	}
	j, err := a.jobOf(c, d, pasts)
	if err != nil {
		return err
	}
	if j.digest != d.Definitions {
		return refused("the draft was made from other definitions than those in %s: make a new one with isonomos draft", folderName(c.String("estate")))
	}
	return a.carryOut(ctx, c, s, j, d, nil)
}

func readDraft(path string) (*enact.Draft, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fileError("draft", path, err)
	}
	var d enact.Draft
	if err := json.Unmarshal(text, &d); err != nil {
		return nil, usage("%s is no draft: %v", path, err)
	}
	if d.Version != enact.DraftVersion {
		return nil, usage("%s is no draft of version %d: make one with isonomos draft", path, enact.DraftVersion)
	}
	return &d, nil
}

// journal opens the store and reads the runs in its journal.
func (a *App) journal(c *cli.Command, create bool) (*store.Store, []*enact.Past, error) {
	s, err := a.openStore(c, create)
	if err != nil {
		return nil, nil, err
	}
	if s == nil {
		return nil, nil, usage("there is no journal in %s yet: nothing was carried out from here", storePath(c))
	}
	pasts, err := enact.Pasts(s.Journal)
	if err != nil {
		s.Close()
		return nil, nil, refused("%v (%s)", err, storePath(c))
	}
	return s, pasts, nil
}

// openRun is the last run that was neither carried to its end nor undone.
func openRun(pasts []*enact.Past) *enact.Past {
	undone := make(map[string]bool)
	for _, p := range pasts {
		if p.Draft.Repeals != "" && p.Complete() {
			undone[p.Draft.Repeals] = true
		}
	}
	for _, p := range slices.Backward(pasts) {
		if p.Open() && !undone[p.Name] {
			return p
		}
	}
	return nil
}

// jobOf is what a draft is to bring about: what the definitions say, or what was before a run.
func (a *App) jobOf(c *cli.Command, d *enact.Draft, pasts []*enact.Past) (job, error) {
	if d.Repeals == "" {
		return a.definedJob(c, d.Accounts, d.Adopts)
	}
	i := slices.IndexFunc(pasts, func(p *enact.Past) bool { return p.Name == d.Repeals })
	if i < 0 {
		return job{}, usage("the draft undoes the run %s, of which the journal does not tell", d.Repeals)
	}
	return a.undoing(c, pasts[i])
}

// undoing brings clouds back to what was before a run. Definitions tell only how the
// clouds are reached.
func (a *App) undoing(c *cli.Command, p *enact.Past) (job, error) {
	files, err := readDefinitions(c.String("estate"))
	if err != nil {
		return job{}, err
	}
	d, err := a.understand(c, files)
	if err != nil {
		return job{}, err
	}
	named := func(aim func(*estate.Estate) (*change.Aim, error)) func(*estate.Estate) (*change.Aim, error) {
		return func(surveyed *estate.Estate) (*change.Aim, error) {
			found, err := aim(surveyed)
			if err == nil {
				found.Then.Services = d.Estate.Services // as the definitions call them
			}
			return found, err
		}
	}
	return job{aim: named(p.Undone), ended: named(p.Undoing), defined: d.Estate}, nil
}

// touchedAccounts are the accounts that a draft changes.
func touchedAccounts(d *enact.Draft) []string {
	var names []string
	for _, l := range d.Lanes {
		names = append(names, l.Accounts...)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

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
	run := &enact.Run{Name: runName(a.Now()), Draft: d, Journal: s, Now: a.Now, Jobs: c.Int("jobs"), Clouds: a.cloudsFor(j.defined)}
	if past != nil {
		run.Name = past.Name
		if err := run.Recall(past.Entries); err != nil {
			return refused("%v", err)
		}
	}
	unlock, err := a.lock(ctx, s, touchedAccounts(d), run.Name)
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
		render.Stopped(screen, stopped, run.Name)
		return quietly(exitUnreachable)
	case err != nil:
		return unreachable("%v; the run %s can be carried on with isonomos enact --resume", err, run.Name)
	}
	screen := a.screen(c)
	render.Enacted(screen, d, run.Name, time.Since(began))
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
func (a *App) cloudsFor(e *estate.Estate) func(string) (cloud.Cloud, error) {
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
func (a *App) lock(ctx context.Context, s *store.Store, accounts []string, run string) (unlock func(), err error) {
	host, _ := os.Hostname()
	holder := fmt.Sprintf("%s, process %d", host, os.Getpid())
	dead := func(other string) bool {
		at, number, ok := strings.Cut(other, ", process ")
		pid, err := strconv.Atoi(number)
		return ok && err == nil && at == host && errors.Is(syscall.Kill(pid, 0), syscall.ESRCH)
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
	again := enact.NewDraft(plan, aim, enact.Waves{})
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
	held := make(map[string]bool) // before and after
	for _, x := range d.Expects {
		held[fmt.Sprint(x.File, x.Line, x.Text)] = x.Before && x.After
	}
	for _, r := range law.Prove(seen(aim.Now), law.Rebase(j.expects, aim.ToNow)) {
		if !r.Holds && held[fmt.Sprint(r.Origin.File, r.Origin.Line, r.Text)] {
			return fmt.Errorf("an expectation holds no more: %s (%s:%d)", r.Text, r.Origin.File, r.Origin.Line)
		}
	}
	return nil
}

func (a *App) repeal(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 1 {
		return usage("repeal undoes one run: %d were named", c.Args().Len())
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
	if c.Bool("give-up") {
		return a.giveUp(s, openRun(pasts))
	}
	past, err := toUndo(pasts, c.Args().First())
	if err != nil {
		return err
	}
	j, err := a.undoing(c, past)
	if err != nil {
		return err
	}
	var d enact.Draft
	err = a.looking(ctx, c, j.defined, func(surveyed *estate.Estate) (err error) {
		d, _, err = a.prepare(c, j, surveyed)
		return err
	})
	if err != nil {
		return err
	}
	d.Repeals = past.Name
	if path := c.String("to"); path != "" {
		return a.tellDraft(c, &d, path)
	}
	return a.carryOut(ctx, c, s, j, &d, nil)
}

// toUndo is the run of a name, or the last one that can be undone.
func toUndo(pasts []*enact.Past, name string) (*enact.Past, error) {
	undone := make(map[string]bool)
	var names []string
	for _, p := range pasts {
		names = append(names, p.Name)
		if p.Draft.Repeals != "" && p.Complete() {
			undone[p.Draft.Repeals] = true
		}
	}
	if name != "" {
		if err := allKnown("run", []string{name}, names); err != nil {
			return nil, err
		}
		p := pasts[slices.Index(names, name)]
		if undone[name] {
			return nil, usage("the run %s is undone already", name)
		}
		return p, nil
	}
	for _, p := range slices.Backward(pasts) {
		if p.Draft.Repeals == "" && !undone[p.Name] {
			return p, nil
		}
	}
	return nil, usage("there is no run to undo")
}

// giveUp notes that a run stays as it is, so that there can be a next one.
func (a *App) giveUp(s *store.Store, open *enact.Past) error {
	if open == nil {
		return usage("there is no run to give up: every one in the journal is at its end")
	}
	if _, err := s.Append(a.Now(), open.Name, enact.End, enact.Ending{Outcome: enact.GivenUp, Done: open.Done(), Of: open.Draft.Steps(), Why: "by hand"}); err != nil {
		return unreachable("%v", err)
	}
	a.note("the run %s is given up after %d of %d steps: the clouds stay as they are, isonomos draft tells what is left to do", open.Name, open.Done(), open.Draft.Steps())
	return nil
}
