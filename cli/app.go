// Package cli is the command line: it turns flags into values, calls the core,
// and hands results to render. It holds no logic of its own.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"regexp"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"isonomos/core/change"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/near"
	"isonomos/render"
	"isonomos/work"
)

// Exit codes.
const (
	exitFindings    = 1 // findings, differences, failed expectations
	exitUsage       = 2 // wrong use or wrong input
	exitUnreachable = 3 // a file or cloud could not be reached or written
	exitRefused     = 4 // refused because it would not be safe
)

// App is what a run of the program has to do with the world.
type App struct {
	Stdin    io.Reader
	Stdout   io.Writer
	Stderr   io.Writer
	Now      func() time.Time
	Width    int  // of the window in columns; 0 where standard output is no terminal
	NoColour bool // the environment asks for none
	Progress bool // standard error is a terminal
	Version  string
	Build    string // of what it was built, and with what

	args   []string        // of the command line, without the program's name
	unread []estate.Unread // accounts that were not read, of all surveys that the command looks at
}

// failure is an error with the exit code that it ends the program with. An
// empty text says that everything is said already.
type failure struct {
	code int
	err  error
}

func (f *failure) Error() string {
	if f.err == nil {
		return ""
	}
	return f.err.Error()
}

func (f *failure) Unwrap() error { return f.err }

func usage(format string, a ...any) error { return &failure{exitUsage, fmt.Errorf(format, a...)} }

func unreachable(format string, a ...any) error {
	return &failure{exitUnreachable, fmt.Errorf(format, a...)}
}

// quietly ends the program with a code and no further word.
func quietly(code int) error { return &failure{code, nil} }

// Run runs the program with its arguments, the first of which is its name, and returns the exit code.
func (a *App) Run(ctx context.Context, args []string) int {
	a.args = args[min(1, len(args)):]
	out := &outlet{Writer: a.Stdout}
	a.Stdout = out
	defer func() { a.Stdout = out.Writer }()
	root := a.root()
	err := root.Run(ctx, args)
	var f *failure
	switch {
	case out.err != nil: // whatever else there is to say, it has not arrived
		f = &failure{exitUnreachable, fmt.Errorf("standard output can't be written: %w", bare(out.err))}
	case err == nil:
		return 0
	case errors.As(err, &f):
	default:
		f = &failure{exitOf(err), err}
	}
	if text := f.Error(); text != "" {
		if what := advice(f); what != "" {
			text += ": " + what
		}
		fmt.Fprintf(a.Stderr, "isonomos: %s\n", cleanLines(text))
	}
	return f.code
}

// exitOf is the exit code of an error of the rooms below.
func exitOf(err error) int {
	var unreachable *work.UnreachableError
	var unread *work.NotSurveyedError
	var refused *work.RefusedError
	switch {
	case errors.As(err, &unreachable), errors.As(err, &unread):
		return exitUnreachable
	case errors.As(err, &refused):
		return exitRefused
	}
	return exitUsage
}

// advice says which flag helps with an error of a room that knows no flags.
func advice(err error) string {
	var list change.NotOursError
	var unread *work.NotSurveyedError
	switch {
	case errors.Is(err, work.ErrNoSurvey):
		return "name one with --survey FILE, or --live"
	case errors.Is(err, work.ErrNoDefinitions):
		return "name their folder with --estate FOLDER"
	case errors.Is(err, decide.ErrNoInstances):
		return "give a survey with --survey FILE"
	case errors.As(err, &unread):
		return "pick others with --account, or try again"
	case errors.As(err, &list):
		return "--adopt " + render.Quoted(list.List) + " takes it over"
	}
	return ""
}

// An outlet remembers that what was written did not arrive.
type outlet struct {
	io.Writer
	err error
}

func (o *outlet) Write(p []byte) (int, error) {
	n, err := o.Writer.Write(p)
	if err != nil && o.err == nil {
		o.err = err
	}
	return n, err
}

// bare is an error of a file without the file's name and what was done to it.
func bare(err error) error {
	var at *fs.PathError
	if errors.As(err, &at) {
		return at.Err
	}
	return err
}

// cleanLines cleans a message of control characters but keeps its lines.
func cleanLines(text string) string {
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		lines[i] = render.Clean(line)
	}
	return strings.Join(lines, "\n")
}

func (a *App) root() *cli.Command {
	root := &cli.Command{
		Name:    "isonomos",
		Usage:   "least-privilege security groups as code",
		Version: a.Version,
		Description: "Define instance and subnet security groups as code, find what is open that should not be,\n" +
			"and get the narrowest replacement that still lets the real traffic through, proved.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "color", Value: "auto", Usage: "colour the output: `WHEN` is auto, always or never",
				Sources: fromVariable("ISONOMOS_COLOR"), Validator: oneOf("auto", "always", "never")},
			&cli.BoolFlag{Name: "version", Aliases: []string{"v"}, Usage: "tell the program's version, its " +
				"revision, and the Go that it was built with", Local: true},
		},
		HideVersion: true,
		Commands: []*cli.Command{a.demoCommand(), a.checkCommand(), a.tidyCommand(), a.surveyCommand(),
			a.auditCommand(), a.exposureCommand(), a.traceCommand(), a.proveCommand(), a.flowsCommand(),
			a.narrowCommand(), a.adoptCommand(), a.compareCommand(), a.draftCommand(), a.enactCommand(),
			a.repealCommand(), a.explainCommand(), a.sandboxCommand()},
		Writer:          a.Stdout,
		ErrWriter:       a.Stderr,
		Reader:          a.Stdin,
		HideHelpCommand: true,
		Suggest:         true,
		ExitErrHandler:  func(context.Context, *cli.Command, error) {},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Bool("version") {
				fmt.Fprintf(a.Stdout, "isonomos %s (%s)\n", a.Version, a.Build)
				return nil
			}
			if c.Args().Present() {
				return unknownCommand(c, c.Args().First())
			}
			return cli.ShowRootCommandHelp(c)
		},
	}
	cli.HelpPrinter = func(w io.Writer, _ string, command any) { // the package has it for all programs together
		c := command.(*cli.Command)
		// a.Stdout remembers what fails
		_, _ = io.WriteString(w, helpText(c, c.FullName(), c == c.Root(), a.helpWidth()))
	}
	a.wholeAnswers(root)
	a.strictly(root)
	prepare(root)
	return root
}

// wholeAnswers lets a command that looks at a survey end with the exit code of what
// could not be reached where an account was not read, whatever else it finds.
func (a *App) wholeAnswers(c *cli.Command) {
	for _, sub := range c.Commands {
		a.wholeAnswers(sub)
	}
	// a draft is refused by itself, and a stand-in has no opinion
	looks := takes(c, "survey") && c.Name != "draft" && c.Name != "run"
	if !looks || c.Action == nil {
		return
	}
	c.Flags = append(c.Flags, &cli.StringSliceFlag{Name: "allow-unread", Usage: "go by what is known though an " +
		"`ACCOUNT` could not be read (otherwise exit 3)"})
	action := c.Action
	c.Action = func(ctx context.Context, c *cli.Command) error {
		a.unread = nil
		err := action(ctx, c)
		if text := !takes(c, "format") ||
			c.String("format") == "text"; text && !c.Bool("diff") && c.String("batch") == "" {
			render.NotRead(a.screen(c), a.unread)
		}
		return a.unlessUnread(c, err)
	}
}

// unlessUnread is the error of a command, or where accounts were not read that of an
// answer that is not whole.
func (a *App) unlessUnread(c *cli.Command, err error) error {
	allowed := c.StringSlice("allow-unread")
	var missing []string
	for _, u := range a.unread {
		if !slices.Contains(allowed, u.Account) && !slices.Contains(missing, u.Account) {
			missing = append(missing, u.Account)
		}
	}
	for _, name := range allowed {
		if !slices.ContainsFunc(a.unread, func(u estate.Unread) bool { return u.Account == name }) {
			a.note("--allow-unread %s: no account of that name is unread", name)
		}
	}
	var f *failure
	if len(missing) == 0 || err != nil && !(errors.As(err, &f) && f.code == exitFindings) {
		return err
	}
	return unreachable("the answer is not whole: %s could not be read, so nothing is known there. Survey again, "+
		"or say that it may be so: --allow-unread %s", strings.Join(missing, ", "), strings.Join(missing, ","))
}

// prepare gives every command what all have in common.
func prepare(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error { return usageError(c, err) }
	c.ExitErrHandler = func(context.Context, *cli.Command, error) {}
	c.HideHelpCommand = true
	for _, sub := range c.Commands {
		prepare(sub)
	}
}

func unknownCommand(c *cli.Command, name string) error {
	var names []string
	for _, sub := range c.Root().Commands {
		names = append(names, sub.Name)
	}
	if name == "help" {
		if want := c.Args().Get(1); want != "" {
			if sub := c.Root().Command(want); sub != nil {
				return cli.ShowCommandHelp(context.Background(), c.Root(), sub.Name)
			}
			name = want
		} else {
			return cli.ShowRootCommandHelp(c.Root())
		}
	}
	if best, ok := near.Best(name, names); ok {
		return usage("there is no command %q: %q is near", name, best)
	}
	return usage("there is no command %q: the commands are %s", name, strings.Join(names, ", "))
}

var (
	undefinedFlag = regexp.MustCompile(`^flag provided but not defined: -+(.+)$`)
	missingValue  = regexp.MustCompile(`^flag needs an argument: (-+\S+)$`)
	badValue      = regexp.MustCompile(`^invalid value "(.*)" for (?:argument|flag) (-+\S+): (.*)$`)
)

// usageError says in one line what is wrong with the flags.
func usageError(c *cli.Command, err error) error {
	text := err.Error()
	if m := undefinedFlag.FindStringSubmatch(text); m != nil {
		var names []string
		for cmd := c; cmd != nil; cmd = parent(cmd) {
			for _, f := range cmd.Flags {
				names = append(names, f.Names()...)
			}
		}
		if best, ok := near.Best(m[1], names); ok {
			return usage("%s has no flag --%s: --%s is near", commandName(c), m[1], best)
		}
		return usage("%s has no flag --%s: see %s --help", commandName(c), m[1], commandName(c))
	}
	if m := missingValue.FindStringSubmatch(text); m != nil {
		return usage("the flag --%s needs a value", strings.TrimLeft(m[1], "-"))
	}
	if m := badValue.FindStringSubmatch(text); m != nil {
		why := m[3]
		if strings.Contains(why, "strconv") {
			why = "a whole number belongs here"
		}
		return usage("the value %q does not fit the flag --%s: %s", m[1], strings.TrimLeft(m[2], "-"), why)
	}
	return usage("%s", text)
}

func parent(c *cli.Command) *cli.Command {
	if root := c.Root(); root != c {
		return root
	}
	return nil
}

func commandName(c *cli.Command) string {
	return c.FullName()
}

// oneOf is a flag's validator that allows some words.
func oneOf(words ...string) func(string) error {
	return func(value string) error {
		for _, w := range words {
			if w == value {
				return nil
			}
		}
		hint := "one of " + strings.Join(words, ", ")
		if best, ok := near.Best(value, words); ok {
			hint = fmt.Sprintf("%q is near", best)
		}
		return errors.New(hint)
	}
}

// screen lays results out for standard output.
func (a *App) screen(c *cli.Command) *render.Screen { return a.screenFor(c, a.Stdout) }

func (a *App) screenFor(c *cli.Command, out io.Writer) *render.Screen {
	width, colour := a.Width, a.Width > 0 && !a.NoColour
	if width == 0 {
		width = 100
	}
	switch c.String("color") {
	case "always":
		colour = true
	case "never":
		colour = false
	}
	return render.NewScreen(out, width, colour)
}

// note writes a remark to standard error.
func (a *App) note(format string, args ...any) {
	fmt.Fprintf(a.Stderr, "isonomos: %s\n", cleanLines(fmt.Sprintf(format, args...)))
}

// Main runs the program in its real environment.
func Main(version string) int {
	collectSeldom()
	a := &App{Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr, Now: time.Now, Width: windowWidth(),
		NoColour: os.Getenv("NO_COLOR") != "" ||
			os.Getenv("TERM") == "dumb", Build: built(), Progress: term.IsTerminal(int(os.Stderr.Fd())),
		Version: version}
	return a.Run(context.Background(), os.Args)
}

// built says of which revision the program was built, and with which Go.
func built() string {
	revision, changed := "unknown", ""
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "revision unknown, " + runtime.Version()
	}
	for _, s := range info.Settings {
		switch {
		case s.Key == "vcs.revision":
			revision = s.Value[:min(12, len(s.Value))]
		case s.Key == "vcs.modified" && s.Value == "true":
			changed = " and changes"
		}
	}
	return "revision " + revision + changed + ", " + info.GoVersion
}

// collectSeldom trades memory for speed: a run is short and reads much, so up to a
// limit nearly nothing is collected. Where more than half of the limit is in use
// for good, the limit gives way, so that a run never does nothing but collect.
func collectSeldom() {
	const limit = 5 << 29 // 2.5 GB
	debug.SetGCPercent(1000)
	debug.SetMemoryLimit(limit)
	go func() {
		live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		for range time.Tick(100 * time.Millisecond) {
			metrics.Read(live)
			if n := int64(live[0].Value.Uint64()); 2*n > debug.SetMemoryLimit(-1) {
				debug.SetMemoryLimit(3 * n)
			}
		}
	}()
}
