package cli

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/core/pass"
	"isonomos/enact"
	"isonomos/nomos"
	"isonomos/render"
	"isonomos/store"
	"isonomos/work"
)

func init() { addCommand(155, (*App).passCommand) }

func (a *App) passCommand() *cli.Command {
	return &cli.Command{
		Name:  "pass",
		Usage: "access that is lent for a while",
		Description: "A lend in a group says what may be opened, to whom at most and for how long at most. A pass " +
			"opens one service of a group for one peer within that, and ends by itself.\n\n" +
			"  isonomos pass offers\n" +
			"  isonomos pass issue gauge ssh --to me --for 30m --because \"pump 3 does not answer\"\n" +
			"  isonomos pass list\n" +
			"  isonomos pass end 7k2m9qxa",
		Commands: []*cli.Command{a.passOffersCommand(), a.passIssueCommand(), a.passHoldCommand(),
			a.passListCommand(), a.passExtendCommand(), a.passEndCommand()},
	}
}

func (a *App) passOffersCommand() *cli.Command {
	return &cli.Command{
		Name:      "offers",
		Metadata:  noArguments("pick with --account"),
		Usage:     "what can be asked for",
		ArgsUsage: "[flags]",
		Description: "Lists every lend: which service, to whom, for how long at most, the instances behind it, and " +
			"what is open now. Then what strangers reach at any time and no lend stands for, with the command that " +
			"would mend it; and where lending can't work, with the reason.\n\n" +
			"  isonomos pass offers\n" +
			"  isonomos pass offers --account tides",
		Flags:  []cli.Flag{estateFlag(), accountFlag(), formatFlag("json"), storeFlag()},
		Action: a.passOffers,
	}
}

func passFlags() []cli.Flag {
	return []cli.Flag{estateFlag(),
		&cli.StringFlag{Name: "to", Usage: "for whom it opens: an address, a range, a list or a group as `PEER`; me " +
			"is the address under which the cloud sees you"},
		&cli.DurationFlag{Name: "for", Usage: "how long, such as 30m (default: the lend's ceiling), as `DURATION`"},
		&cli.StringFlag{Name: "because", Usage: "why: a `TEXT` for the journal"},
		&cli.StringFlag{Name: "on", Usage: "open at one `INSTANCE` of the group alone"}}
}

func (a *App) passIssueCommand() *cli.Command {
	return &cli.Command{
		Name: "issue",
		Metadata: takesArguments(1, 2, "takes a group and a service",
			"isonomos pass issue gauge ssh --to me --because WHY"),
		Usage:     "open what is lent",
		ArgsUsage: "[flags] GROUP [SERVICE]",
		Description: "Opens a service of a group for a peer, within what the group lends, and says what arrives " +
			"where. It ends by itself: whatever writes to the account next, or looks after it, shuts it once it is " +
			"over. The journal has its end before anything is opened. With one lend that fits, the service and --for " +
			"may be left out.\n\n" +
			"  isonomos pass issue gauge ssh --to me --for 30m --because \"pump 3 does not answer\"\n" +
			"  isonomos pass issue gauge --to list pilot-stations --because \"exercise\"\n\n" +
			"Exit 2 if it asks for more than is lent, 4 if it would break a law or open nothing.",
		Flags:  append(passFlags(), formatFlag("json"), storeFlag()),
		Action: a.passIssue,
	}
}

func (a *App) passHoldCommand() *cli.Command {
	return &cli.Command{
		Name:      "hold",
		Usage:     "open what is lent while a command runs",
		ArgsUsage: "[flags] GROUP [SERVICE] [-- COMMAND …]",
		Description: "Opens a pass as issue does, runs a command, and shuts it when the command ends, when it is " +
			"interrupted, or when the terminal goes. Without a command it holds the pass until it is interrupted. " +
			"The exit code is that of the command, or 3 if shutting failed.\n\n" +
			"  isonomos pass hold gauge ssh --to me --because \"pump 3\" -- ssh gauge-1\n" +
			"  isonomos pass hold gauge ssh --to me --for 15m --because \"pump 3\"",
		Flags:  append(passFlags(), storeFlag()),
		Action: a.passHold,
	}
}

func (a *App) passListCommand() *cli.Command {
	return &cli.Command{
		Name:      "list",
		Metadata:  noArguments("pick with --account"),
		Usage:     "what is open, for whom, and until when",
		ArgsUsage: "[flags]",
		Description: "Lists the open passes, as the journal and the clouds have them; those that are over and still " +
			"there come first.\n\n" +
			"  isonomos pass list\n" +
			"  isonomos pass list --all --format json",
		Flags: []cli.Flag{estateFlag(), accountFlag(),
			&cli.BoolFlag{Name: "all", Usage: "also list those that have ended, from the journal"},
			formatFlag("json"), storeFlag()},
		Action: a.passList,
	}
}

func (a *App) passExtendCommand() *cli.Command {
	return &cli.Command{
		Name:      "extend",
		Metadata:  takesArguments(1, 1, "takes the id of a pass", "isonomos pass extend 7k2m9qxa --for 30m"),
		Usage:     "give a pass a later end",
		ArgsUsage: "[flags] ID",
		Description: "Keeps a pass open for a time from now, and never past its ceiling, which counts from its first " +
			"opening.\n\n" +
			"  isonomos pass extend 7k2m9qxa --for 30m",
		Flags: []cli.Flag{estateFlag(),
			&cli.DurationFlag{Name: "for", Usage: "how long from now, such as 30m, as `DURATION`"}, storeFlag()},
		Action: a.passExtend,
	}
}

func (a *App) passEndCommand() *cli.Command {
	return &cli.Command{
		Name:      "end",
		Usage:     "shut passes now",
		ArgsUsage: "[flags] [ID …]",
		Description: "Shuts passes now: those with the given ids, those that are over, or all. What is over in the " +
			"same accounts is shut in any case.\n\n" +
			"  isonomos pass end 7k2m9qxa\n" +
			"  isonomos pass end --overdue",
		Flags: []cli.Flag{estateFlag(),
			&cli.BoolFlag{Name: "overdue", Usage: "shut what is over and still there"},
			&cli.BoolFlag{Name: "all", Usage: "shut all passes"}, storeFlag()},
		Action: a.passEnd,
	}
}

// lending reads the definitions and opens the store, for commands about passes.
func (a *App) lending(c *cli.Command) (work.Lender, func(), error) {
	folder := c.String("estate")
	files, err := a.readDefinitions(folder)
	if err != nil {
		return work.Lender{}, nil, err
	}
	if len(files) == 0 {
		return work.Lender{}, nil, usage("there are no definitions (*%s) in %s: name their folder with --estate",
			nomos.Extension, folderName(folder))
	}
	d, err := a.understand(c, files)
	if err != nil {
		return work.Lender{}, nil, err
	}
	if !d.Named() {
		return work.Lender{}, nil, usage("the definitions in %s do not name their estate, and what is made bears its "+
			"name: write a line such as estate harbour", folderName(folder))
	}
	var known []string
	for _, x := range d.Estate.Accounts {
		known = append(known, x.Name)
	}
	if err := work.Known("account", c.StringSlice("account"), known); err != nil {
		return work.Lender{}, nil, err
	}
	s, err := a.openStore(c, true)
	if err != nil {
		return work.Lender{}, nil, err
	}
	return a.lender(c, d, s), func() { s.Close() }, nil
}

func (a *App) lender(c *cli.Command, d nomos.Definitions, s *store.Store) work.Lender {
	surveyor := a.surveyor(c, d.Estate)
	surveyor.Counting = func(string, int) (func(), func()) { return func() {}, func() {} } // it takes a moment
	return work.Lender{Definitions: d, Store: s, Surveyor: surveyor, By: whoAmI(), Now: a.Now, Note: a.note}
}

// passesIn finds the passes in surveys, as the journal has them.
func (a *App) passesIn(c *cli.Command, defined *estate.Estate) (work.Passes, error) {
	var known map[string]*pass.Known
	s, err := a.openStore(c, false)
	if err != nil {
		return nil, err
	}
	var latest time.Time
	var knows enact.Known
	if s != nil {
		defer s.Close()
		pasts, err := enact.Pasts(s.Journal)
		if err != nil {
			return nil, refused("%v (%s)", err, storePath(c))
		}
		knows = enact.KnownFrom(pasts)
		if known, _, latest, err = enact.Passes(s.Journal); err != nil {
			return nil, refused("%v (%s)", err, storePath(c))
		}
	}
	return func(surveyed *estate.Estate) []*pass.Found {
		now := a.Now()
		if latest.After(now) {
			now = latest
		}
		return work.PassesOf(defined, surveyed, knows.Has, known, now)
	}, nil
}

// passesOf are the passes in one survey; the store is only looked at if something there calls itself one.
func (a *App) passesOf(c *cli.Command, defined, surveyed *estate.Estate) ([]*pass.Found, error) {
	if !work.AnyPass(surveyed) {
		return nil, nil
	}
	passes, err := a.passesIn(c, defined)
	if err != nil {
		return nil, err
	}
	return passes(surveyed), nil
}

func (a *App) passOffers(ctx context.Context, c *cli.Command) error {
	l, done, err := a.lending(c)
	if err != nil {
		return err
	}
	defer done()
	o, err := l.Offers(ctx, c.StringSlice("account"))
	if err != nil {
		return err
	}
	if c.String("format") == "json" {
		return render.OffersJSON(a.Stdout, o)
	}
	s := a.screen(c)
	render.Offers(s, o, a.say(c))
	return s.Err()
}

// passRequest is what the flags and arguments ask for.
func passRequest(c *cli.Command, words []string) (work.PassRequest, error) {
	q := work.PassRequest{Group: words[0], To: c.String("to"), For: c.Duration("for"), Because: c.String("because"),
		On: c.String("on")}
	if len(words) > 1 {
		q.Service = words[1]
	}
	switch {
	case q.To == "":
		return q, usage("say for whom it opens: --to me, or an address, a range, a list or a group")
	case strings.TrimSpace(q.Because) == "":
		return q, usage("say why it is needed: --because TEXT")
	case c.IsSet("for") && q.For <= 0:
		return q, usage("--for %s is no time to come", q.For)
	}
	return q, nil
}

func (a *App) passIssue(ctx context.Context, c *cli.Command) error {
	q, err := passRequest(c, c.Args().Slice())
	if err != nil {
		return err
	}
	l, done, err := a.lending(c)
	if err != nil {
		return err
	}
	defer done()
	issued, took, err := a.issue(ctx, c, l, q)
	if err != nil {
		return err
	}
	if c.String("format") == "json" {
		return render.IssuedJSON(a.Stdout, issued)
	}
	s := a.screen(c)
	render.Issued(s, issued, took, a.say(c))
	return s.Err()
}

// issue opens a pass and says how long it took.
func (a *App) issue(ctx context.Context, c *cli.Command, l work.Lender, q work.PassRequest) (*work.Issued,
	time.Duration, error) {
	began := time.Now()
	issued, err := l.Issue(ctx, q)
	return issued, time.Since(began), a.passStopped(c, a.locked(c, err))
}

// passStopped says of a change of passes that stopped on the way what to type.
func (a *App) passStopped(c *cli.Command, err error) error {
	var stopped *enact.StoppedError
	if !errors.As(err, &stopped) {
		return err
	}
	return unreachable("it stopped on the way (%s): %s shuts what may have been opened", stopped.Stops[0].Err,
		a.say(c)("pass", "end", "--overdue"))
}

// passHold opens a pass, runs a command and shuts it.
func (a *App) passHold(ctx context.Context, c *cli.Command) error {
	words, command := c.Args().Slice(), []string(nil)
	if i := slices.Index(a.args, "--"); i >= 0 {
		command = a.args[i+1:]
		words = words[:max(0, len(words)-len(command))]
	}
	if len(words) < 1 || len(words) > 2 {
		return usage("pass hold takes a group and a service, and behind -- a command: isonomos pass hold gauge ssh " +
			"--to me --because WHY -- ssh gauge-1")
	}
	q, err := passRequest(c, words)
	if err != nil {
		return err
	}
	if len(command) > 0 { // before anything is opened
		if _, err := exec.LookPath(command[0]); err != nil {
			return cantRun(command[0], err)
		}
	}
	l, done, err := a.lending(c)
	if err != nil {
		return err
	}
	defer done()
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	signal.Ignore(syscall.SIGPIPE) // whoever reads what is said may be gone; the door is shut all the same
	defer signal.Stop(signals)
	issued, took, err := a.issue(context.WithoutCancel(ctx), c, l, q)
	if err != nil {
		return err
	}
	s := a.screenFor(c, a.Stderr)
	render.Issued(s, issued, took, a.say(c))
	h := holding{a: a, issued: issued, signals: signals}
	h.shut = func() error { // once is enough
		if h.isShut {
			return nil
		}
		ending := work.Ending{IDs: []string{issued.Pass.ID}, Why: "no longer held"}
		_, err := l.End(context.WithoutCancel(ctx), ending)
		if errors.Is(err, work.ErrEnded) { // by somebody else
			err = nil
		}
		if h.isShut = err == nil; h.isShut {
			a.note("the pass %s is shut", issued.Pass.ID)
		}
		return err
	}
	code, failed := h.hold(command)
	if err := h.shut(); err != nil {
		return unreachable("the pass %s could not be shut (%v): it is over at %s; to shut it now: %s", issued.Pass.ID,
			a.passStopped(c, err), issued.Pass.Until.UTC().Format(time.RFC3339),
			a.say(c)("pass", "end", issued.Pass.ID))
	}
	if failed != nil {
		return cantRun(command[0], failed)
	}
	if code == 0 {
		return nil
	}
	return quietly(code)
}

// cantRun is the error of a command that can't be started.
func cantRun(command string, err error) error {
	var why *exec.Error
	if errors.As(err, &why) {
		err = why.Err
	}
	return usage("%s can't be run: %v", command, bare(err))
}

// grace is how long a command may take to end after it is told to.
const grace = 5 * time.Second

// A holding holds a pass.
type holding struct {
	a       *App
	issued  *work.Issued
	signals <-chan os.Signal
	shut    func() error
	isShut  bool
}

// hold runs a command, or waits, until it ends, a signal comes or the pass is over, and returns the command's exit
// code. When the pass is over or a signal comes it is shut at once, and the command may go on.
func (h *holding) hold(command []string) (code int, failed error) {
	over := time.NewTimer(h.issued.Pass.Until.Sub(h.a.Now()))
	defer over.Stop()
	if len(command) == 0 {
		h.wait(over.C)
		return 0, nil
	}
	run := exec.Command(command[0], command[1:]...)
	run.Stdin, run.Stdout, run.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := run.Start(); err != nil {
		return exitUsage, err
	}
	ended := make(chan error, 1)
	go func() { ended <- run.Wait() }()
	var patience <-chan time.Time
	for {
		select {
		case <-ended:
			return exitCodeOf(run.ProcessState), nil
		case <-over.C:
			h.a.note("the time of the pass %s is over; the command goes on without it", h.issued.Pass.ID)
			_ = h.shut() // it is tried again at the end
		case got := <-h.signals:
			_ = run.Process.Signal(got)
			_ = h.shut()
			if patience == nil {
				patience = time.After(grace)
			}
		case <-patience:
			h.a.note("the command does not end; it goes on without the pass")
			return exitFindings, nil
		}
	}
}

// wait waits until a pass is over or a signal comes, and says from time to time what is left.
func (h *holding) wait(over <-chan time.Time) {
	tick := time.NewTicker(time.Minute)
	defer tick.Stop()
	for {
		select {
		case <-h.signals:
			return
		case <-over:
			h.a.note("the time of the pass %s is over", h.issued.Pass.ID)
			return
		case <-tick.C:
			h.a.note("%s left; Ctrl-C shuts it", count.Lasting(h.issued.Pass.Until.Sub(h.a.Now()).Round(time.Second)))
		}
	}
}

// exitCodeOf is the exit code of a command, as a shell tells it: one that a signal ended has 128 and its number.
func exitCodeOf(state *os.ProcessState) int {
	if status, ok := state.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		return 128 + int(status.Signal())
	}
	return state.ExitCode()
}

func (a *App) passList(ctx context.Context, c *cli.Command) error {
	l, done, err := a.lending(c)
	if err != nil {
		return err
	}
	defer done()
	all, at, err := l.List(ctx, c.StringSlice("account"), c.Bool("all"))
	if err != nil {
		return err
	}
	if c.String("format") == "json" {
		return render.PassesJSON(a.Stdout, all)
	}
	s := a.screen(c)
	render.Passes(s, all, at, a.say(c))
	return s.Err()
}

func (a *App) passExtend(ctx context.Context, c *cli.Command) error {
	if !c.IsSet("for") {
		return usage("say for how long from now: --for 30m")
	}
	l, done, err := a.lending(c)
	if err != nil {
		return err
	}
	defer done()
	p, anew, err := l.Extend(ctx, c.Args().First(), c.Duration("for"))
	if err != nil {
		return a.passStopped(c, a.locked(c, err))
	}
	s := a.screen(c)
	render.Extended(s, p, anew, a.Now())
	return s.Err()
}

func (a *App) passEnd(ctx context.Context, c *cli.Command) error {
	ids := c.Args().Slice()
	switch {
	case len(ids) == 0 && !c.Bool("all") && !c.Bool("overdue"):
		return usage("say which pass to end: its id (%s lists them), --overdue, or --all", a.say(c)("pass", "list"))
	case len(ids) > 0 && (c.Bool("all") || c.Bool("overdue")), c.Bool("all") && c.Bool("overdue"):
		return usage("pass end takes ids, --overdue or --all, and only one of these")
	}
	l, done, err := a.lending(c)
	if err != nil {
		return err
	}
	defer done()
	shut, err := l.End(ctx, work.Ending{IDs: ids, All: c.Bool("all"), Why: "ended by hand"})
	s := a.screen(c)
	render.Shut(s, shut, err == nil)
	if err != nil {
		return a.passStopped(c, a.locked(c, err))
	}
	return s.Err()
}
