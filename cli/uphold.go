package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/urfave/cli/v3"

	"isonomos/core/audit"
	"isonomos/core/estate"
	"isonomos/nomos"
	"isonomos/nomos/source"
	"isonomos/notify"
	"isonomos/render"
	"isonomos/settings"
	"isonomos/uphold"
	"isonomos/work"
)

func init() { addCommand(155, (*App).upholdCommand) }

func (a *App) upholdCommand() *cli.Command {
	return &cli.Command{
		Name:      "uphold",
		Metadata:  noArguments("it watches every account of the definitions (status tells what it has found)"),
		Usage:     "watch what is changed by hand, tell it, and put it back",
		ArgsUsage: "[flags]",
		Commands:  []*cli.Command{a.upholdStatusCommand(), a.upholdAgreeCommand(), a.upholdResumeCommand()},
		Description: "Watches all accounts, for as long as it runs: by the feed of changes of their clouds, or where " +
			"there is none by looking again every --interval. What lets through more or less than the definitions " +
			"say, what breaks a law, and accounts that can't be read are written to the log and told to whom the " +
			"settings name (isonomos.toml beside the definitions; docs/upholding.md). Passes that are over are " +
			"ended.\n\n" +
			"With --put-back, what was changed by hand is brought back to what the last run of enact or repeal has " +
			"decided, where a condition on labels holds, or all of it. What breaches a law that is enforced is shut, " +
			"once somebody has agreed to that. Else nothing is changed.\n\n" +
			"  isonomos uphold --estate harbour\n" +
			"  isonomos uphold --estate harbour --put-back 'stage = production'\n" +
			"  isonomos uphold --estate harbour --once --put-back all\n" +
			"  isonomos uphold agree shut-admin --estate harbour\n" +
			"  isonomos uphold resume tides/quay/booking --estate harbour\n" +
			"  isonomos uphold --estate harbour --test-notices\n" +
			"  isonomos uphold status --estate harbour\n\n" +
			"With --once it does a single round: exit 0 if there is nothing to report, 1 if something differs, 3 if " +
			"something could not be read or sent. Without it, it ends when it is interrupted, and reads definitions " +
			"and settings again when they change, or on a hangup signal.",
		Flags: []cli.Flag{estateFlag(),
			&cli.BoolFlag{Name: "once", Usage: "do one round, and exit"},
			&cli.StringFlag{Name: "put-back", Usage: "put back what was changed by hand where a `CONDITION` on " +
				"labels " +
				"holds, such as 'stage = production', or all", Sources: fromVariable("ISONOMOS_PUT_BACK")},
			&cli.DurationFlag{Name: "grace", Usage: "put it back once it has stood for `T` (default: at once)",
				Sources: fromVariable("ISONOMOS_GRACE"), Validator: aboveZero},
			&cli.DurationFlag{Name: "interval", Usage: "look again after `T` where a cloud has no feed (default: 30s)",
				Sources: fromVariable("ISONOMOS_INTERVAL"), Validator: aboveZero},
			&cli.DurationFlag{Name: "blind-after", Usage: "tell that an account can't be read after `T` (default: 5m)",
				Sources: fromVariable("ISONOMOS_BLIND_AFTER"), Validator: aboveZero},
			&cli.DurationFlag{Name: "look-again", Usage: "read everything once in `T`, feed or not (default: 1h)",
				Sources: fromVariable("ISONOMOS_LOOK_AGAIN"), Validator: aboveZero},
			&cli.StringFlag{Name: "listen", Usage: "serve /healthz, /readyz and /metrics at `ADDRESS`, such as " +
				"127.0.0.1:9480", Sources: fromVariable("ISONOMOS_LISTEN")},
			&cli.StringFlag{Name: "log", Usage: "write the log as `FORMAT`: text or json (default: text)",
				Sources: fromVariable("ISONOMOS_LOG"), Validator: oneOf("text", "json")},
			&cli.BoolFlag{Name: "test-notices", Usage: "send an example to each target of the settings, and exit"},
			formatFlag("json"), storeFlag()},
		Action: a.uphold,
	}
}

func aboveZero(d time.Duration) error {
	if d <= 0 {
		return errors.New("a duration above zero belongs here")
	}
	return nil
}

// How long things take where neither flags nor settings say.
const (
	usualInterval   = 30 * time.Second
	usualBlindAfter = 5 * time.Minute
	usualLookAgain  = time.Hour
	longestStop     = 30 * time.Second
)

func (a *App) uphold(ctx context.Context, c *cli.Command) error {
	if err := a.without(c, "test-notices", "once", "listen"); err != nil {
		return err
	}
	if c.String("format") != "text" && !c.Bool("once") {
		return usage("--format is for the result of --once: --log json writes a log for machines")
	}
	if c.Bool("test-notices") {
		return a.testNotices(ctx, c)
	}
	reading, set, err := a.readToUphold(c)
	if err != nil {
		return err
	}
	if name, is := toStdout(reading.Targets); is && c.String("format") == "json" {
		return usage("[notify.%s] is told on standard output, where --format json writes what was found: leave one "+
			"of them out", name)
	}
	s, err := a.openStore(c, true)
	if err != nil {
		return err
	}
	defer s.Close()
	collectForLong(50)
	log := a.logFor(c, set)
	u := uphold.New(uphold.Options{Store: s, Now: a.Now, Log: log, Say: a.sayFromAnywhere(c), By: whoAmI(),
		Once: c.Bool("once"), Stamp: func() string { return stampOf(c.String("estate")) },
		Read: func() (*uphold.Reading, error) {
			if first := reading; first != nil {
				reading = nil
				return first, nil
			}
			again, _, err := a.readToUphold(c)
			return again, err
		}})
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	if c.Bool("once") {
		return a.upholdOnce(ctx, c, u)
	}
	signal.Ignore(syscall.SIGPIPE) // whoever reads its output may go away, and it watches on
	hangups := make(chan os.Signal, 1)
	signal.Notify(hangups, syscall.SIGHUP)
	defer signal.Stop(hangups)
	if address := setting(c, "listen", set.Uphold.Listen, ""); address != "" {
		served, err := a.serveHealth(address, u)
		if err != nil {
			return err
		}
		defer served.Close()
		log.Info("serving /healthz, /readyz and /metrics at " + served.Addr)
	}
	ended := make(chan error, 1)
	go func() { ended <- u.Run(ctx) }()
	a.underSystemd(ctx, u)
	for {
		select {
		case err := <-ended:
			return a.locked(c, err)
		case <-hangups:
			log.Info("told to read definitions and settings again")
			u.Reload()
		case <-ctx.Done():
			log.Info("stopping: what is under way is finished first")
			_, _ = daemon.SdNotify(false, daemon.SdNotifyStopping) // there may be nobody to tell
			select {
			case err := <-ended:
				return a.locked(c, err)
			case <-time.After(longestStop):
				return unreachable("what was under way did not end within %s", longestStop)
			}
		}
	}
}

// toStdout is the target that is told on standard output, if there is one.
func toStdout(targets []notify.Target) (name string, is bool) {
	for _, t := range targets {
		if t.To == "stdout" {
			return t.Name, true
		}
	}
	return "", false
}

// upholdOnce does one round and shows what holds.
func (a *App) upholdOnce(ctx context.Context, c *cli.Command, u *uphold.Upholder) error {
	if err := u.Run(ctx); err != nil {
		return a.locked(c, err)
	}
	r := u.Result(context.WithoutCancel(ctx))
	if c.String("format") == "json" {
		if err := render.RoundJSON(a.Stdout, r, a.Now()); err != nil {
			return err
		}
	} else {
		screen := a.screen(c)
		render.Round(screen, r)
		if err := screen.Err(); err != nil {
			return err
		}
	}
	if r.Left > 0 {
		a.note("%s could not be sent yet: the next round tries again", render.Count(r.Left, "notice", "notices"))
	}
	switch {
	case ctx.Err() != nil:
		return unreachable("it was interrupted: what it says is not everything")
	case len(r.Unread) > 0, r.Left > 0:
		return quietly(exitUnreachable)
	case len(r.Found)+len(r.Kept) > 0:
		return quietly(exitFindings)
	}
	return nil
}

// sayFromAnywhere writes commands that work in whatever folder they are pasted.
func (a *App) sayFromAnywhere(c *cli.Command) func(words ...string) string {
	say := a.say(c)
	return func(words ...string) string {
		if folder, err := filepath.Abs(c.String("estate")); err == nil {
			words = append(words, "--estate", folder)
		}
		if path := c.String("store"); path != "" {
			if whole, err := filepath.Abs(path); err == nil {
				words = append(words, "--store", whole)
			}
		}
		return say(words...)
	}
}

// logFor is the log, as flags and settings say.
func (a *App) logFor(c *cli.Command, set settings.Settings) *slog.Logger {
	if setting(c, "log", set.Uphold.Log, "text") == "json" {
		return slog.New(slog.NewJSONHandler(a.Stderr, nil))
	}
	width, colour := 0, false
	if a.Progress { // standard error is a terminal
		width, colour = a.Width, !a.NoColour
		if width == 0 {
			width = 100
		}
	}
	switch c.String("color") {
	case "always":
		colour = true
		if width == 0 {
			width = 100
		}
	case "never":
		colour = false
	}
	return slog.New(render.NewLog(a.Stderr, width, colour))
}

// setting is the value of a setting: of the flag or its variable, else of the file, else what is usual.
func setting(c *cli.Command, flag, inFile, usual string) string {
	switch {
	case c.IsSet(flag):
		return c.String(flag)
	case inFile != "":
		return inFile
	}
	return usual
}

func durationSetting(c *cli.Command, flag string, inFile settings.Duration, usual time.Duration) time.Duration {
	switch {
	case c.IsSet(flag):
		return c.Duration(flag)
	case inFile.Duration > 0:
		return inFile.Duration
	}
	return usual
}

// readToUphold reads definitions and settings.
func (a *App) readToUphold(c *cli.Command) (*uphold.Reading, settings.Settings, error) {
	folder := c.String("estate")
	files, err := a.readDefinitions(folder)
	if err != nil {
		return nil, settings.Settings{}, err
	}
	if len(files) == 0 {
		return nil, settings.Settings{}, usage("there are no definitions (*%s) in %s: name their folder with --estate",
			nomos.Extension, folderName(folder))
	}
	d := nomos.Understand(files, a.meaning(folder))
	d.Settle(nil)
	if n := source.Errors(d.Messages); n > 0 {
		var first string
		for _, m := range d.Messages {
			if !m.Warning {
				first = strings.TrimSpace(m.String())
				break
			}
		}
		return nil, settings.Settings{}, usage("%s in the definitions, the first is\n%s",
			render.Count(n, "mistake", "mistakes"), first)
	}
	if !d.Named() {
		return nil, settings.Settings{}, usage("the definitions in %s do not name their estate, and what is "+
			"theirs bears its name: write a line such as estate harbour", folderName(folder))
	}
	set, err := a.readSettings(folder)
	if err != nil {
		return nil, set, err
	}
	targets, err := a.targetsOf(set)
	if err != nil {
		return nil, set, err
	}
	for _, t := range targets { // what clouds have labelled may be meant, so that it is no mistake for sure
		if err := a.conditionKnown(fmt.Sprintf("[notify.%s] only", t.Name), t.Only, d.Estate); err != nil {
			a.note("%s: %v", set.Path, err)
		}
	}
	putsBack, putBack, err := a.putBack(c, set, d.Estate)
	if err != nil {
		return nil, set, err
	}
	surveyor := a.surveyor(c, d.Estate)
	surveyor.Clouds, surveyor.Accounts = nil, nil
	surveyor.Slow = nil
	surveyor.Note = func(string, ...any) {} // what can't be read is told by whoever watches it
	surveyor.Counting = func(string, int) (func(), func()) { return func() {}, func() {} }
	return &uphold.Reading{Definitions: d, Surveyor: surveyor, Targets: targets, Digest: work.Digest(folder, files),
		PutsBack: putsBack, PutBack: putBack, Grace: durationSetting(c, "grace", set.Uphold.Grace, 0),
		Interval:   durationSetting(c, "interval", set.Uphold.Interval, usualInterval),
		BlindAfter: durationSetting(c, "blind-after", set.Uphold.BlindAfter, usualBlindAfter),
		LookAgain:  durationSetting(c, "look-again", set.Uphold.LookAgain, usualLookAgain)}, set, nil
}

// putBack says where what was changed by hand is put back: nowhere, everywhere, or where a condition holds.
func (a *App) putBack(c *cli.Command, set settings.Settings, defined *estate.Estate) (putsBack bool,
	where *estate.Condition, err error) {
	text := setting(c, "put-back", set.Uphold.PutBack, "")
	switch text {
	case "":
		if c.IsSet("put-back") {
			return false, nil, usage("--put-back says where: all, or a condition on labels such as 'stage = " +
				"production'")
		}
		return false, nil, nil
	case "all":
		return true, nil, nil
	}
	from := "--put-back"
	if !c.IsSet("put-back") {
		from = "put-back"
	}
	if where, err = work.Condition(from, text); err == nil {
		err = a.conditionKnown(from, where, defined)
	}
	if err != nil && !c.IsSet("put-back") {
		return false, nil, usage("%s: %w", set.Path, err)
	}
	return err == nil, where, err
}

// folderOf is the folder of definitions, where one file of it is named too.
func folderOf(path string) string {
	if info, err := os.Stat(path); err == nil && !info.IsDir() {
		return filepath.Dir(path)
	}
	return path
}

// environmentOrFile is the value of an environment variable, or where it is not set the content of the file that the
// variable with _FILE behind its name names: that is how a service manager hands over secrets.
func environmentOrFile(name string) string {
	if value := os.Getenv(name); value != "" {
		return value
	}
	path := os.Getenv(name + "_FILE")
	if path == "" {
		return ""
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(text))
}

// targetsOf are the targets that settings name.
func (a *App) targetsOf(set settings.Settings) ([]notify.Target, error) {
	var all []notify.Target
	for _, name := range set.Targets() {
		n := set.Notify[name]
		conf := notify.Config{Name: name, To: n.To, MailTo: n.MailTo, MailFrom: n.MailFrom, User: n.User,
			PerMinute: n.PerMinute, Stdout: a.Stdout}
		conf.Least, _ = audit.ParseSeverity(n.Least)
		in := func(err error) error { return usage("%s: [notify.%s]: %w", set.Path, name, err) }
		var err error
		if conf.Only, err = work.Condition("only", n.Only); err != nil {
			return nil, in(err)
		}
		for _, secret := range []struct {
			variable string
			into     *string
		}{{n.TokenEnv, &conf.Token}, {n.PasswordEnv, &conf.Password}} {
			if secret.variable == "" {
				continue
			}
			if *secret.into = environmentOrFile(secret.variable); *secret.into == "" {
				return nil, in(fmt.Errorf("the environment variable %s, which has its secret, is not set (nor %s_FILE)",
					secret.variable, secret.variable))
			}
		}
		t, err := notify.NewTarget(conf)
		if err != nil {
			return nil, in(fmt.Errorf("to = %q: %w", n.To, err))
		}
		all = append(all, t)
	}
	return all, nil
}

// testNotices sends an example to each target.
func (a *App) testNotices(ctx context.Context, c *cli.Command) error {
	reading, _, err := a.readToUphold(c)
	if err != nil {
		return err
	}
	if len(reading.Targets) == 0 {
		return usage("the settings name nobody who is told: write [notify.NAME] into %s",
			filepath.Join(folderOf(c.String("estate")), settings.File))
	}
	failed := false
	for _, t := range reading.Targets {
		err := t.Send(ctx, notify.Sample(reading.Definitions.Estate.Name, a.Now()))
		if err != nil {
			failed = true
			a.note("%s (%s) did not take the example: %v", t.Name, t.To, err)
			continue
		}
		a.note("%s (%s) took the example", t.Name, t.To)
	}
	if failed {
		return quietly(exitUnreachable)
	}
	return nil
}

// stampOf is another one when a file of the definitions or of the settings has changed.
func stampOf(path string) string {
	sum := sha256.New()
	note := func(name string, info fs.FileInfo) {
		fmt.Fprintln(sum, name, info.Size(), info.ModTime().UnixNano())
	}
	folder := folderOf(path)
	err := filepath.WalkDir(path, func(name string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && name != path && strings.HasPrefix(entry.Name(), "."):
			return fs.SkipDir
		case entry.IsDir() || filepath.Ext(name) != nomos.Extension:
			return nil
		}
		if info, err := os.Stat(name); err == nil {
			note(name, info)
		}
		return nil
	})
	fmt.Fprintln(sum, err)
	if info, err := os.Stat(filepath.Join(folder, settings.File)); err == nil {
		note(settings.File, info)
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// serveHealth serves whether it is alive, on this machine alone unless the address says otherwise.
func (a *App) serveHealth(address string, u *uphold.Upholder) (*http.Server, error) {
	if _, err := net.ResolveTCPAddr("tcp", address); err != nil {
		return nil, usage("nothing can listen at %q (%v): an address belongs there, such as 127.0.0.1:9480", address,
			err)
	}
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, unreachable("nothing can listen at %s: %v", address, err)
	}
	web := &http.Server{Addr: listener.Addr().String(), Handler: u.Handler(), ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = web.Serve(listener) }() // it ends with the program
	return web, nil
}

// underSystemd says that it is ready, and then from time to time that it is alive, where systemd runs it.
func (a *App) underSystemd(ctx context.Context, u *uphold.Upholder) {
	go func() {
		for !u.Facts.Alive(time.Minute) && ctx.Err() == nil {
			time.Sleep(50 * time.Millisecond)
		}
		if sent, _ := daemon.SdNotify(false, daemon.SdNotifyReady); !sent {
			return
		}
		interval, err := daemon.SdWatchdogEnabled(false)
		if err != nil || interval == 0 {
			return
		}
		tick := time.NewTicker(interval / 3)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				if u.Facts.Alive(time.Minute) {
					_, _ = daemon.SdNotify(false, daemon.SdNotifyWatchdog) // without it systemd starts it again
				}
			}
		}
	}()
}
