// Package cli is the command line: it turns flags into values, calls the core,
// and hands results to render. It holds no logic of its own.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
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

// App is the program's environment for one run: its files, its variables, its clock.
type App struct {
	Stdin    io.Reader
	Stdout   io.Writer
	Stderr   io.Writer
	Now      func() time.Time
	Width    int  // columns of the window; 0 where standard output is not a terminal
	NoColour bool // the environment asks for no colour
	Progress bool // show progress: standard error is a terminal
	Version  string
	Build    string // the revision it was built from, and the Go version

	args   []string        // the command line, without the program's name
	unread []estate.Unread // accounts that no survey of this command could read
}

// A failure is an error with the exit code of the program. Its text is empty where everything has
// been said already.
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

// quietly ends the program with an exit code and prints nothing more.
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
	case out.err != nil: // a failed write counts first: whatever else went wrong, the reader has not seen it
		f = &failure{exitUnreachable, fmt.Errorf("standard output can't be written: %w", bare(out.err))}
	case err == nil:
		return 0
	case errors.As(err, &f):
	default:
		f = &failure{exitOf(err), err}
	}
	if text := f.Error(); text != "" {
		if what := a.advice(f); what != "" {
			text += ": " + what
		}
		fmt.Fprintf(a.Stderr, "isonomos: %s\n", cleanLines(text))
	}
	return f.code
}

// exitOf is the exit code for an error from one of the packages below.
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

// advice adds which flag would help to an error of a package that knows nothing of flags.
func (a *App) advice(err error) string {
	var unread *work.NotSurveyedError
	switch {
	case errors.Is(err, work.ErrNoSurvey):
		return "name one with --survey FILE, or --live"
	case errors.Is(err, work.ErrNoDefinitions):
		return "name their folder with --estate FOLDER"
	case errors.Is(err, decide.ErrNoInstances):
		return "give a survey with --survey FILE"
	case errors.As(err, &unread):
		if len(a.args) > 0 && slices.Contains([]string{"draft", "survey"}, a.args[0]) {
			return "pick others with --account, or try again"
		}
		return "try again once it can be read: nothing is concluded from what is not seen"
	}
	return ""
}

// An outlet is a writer that remembers whether a write failed.
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

// bare strips the file's name and the operation from a file error, for messages that name the file
// themselves.
func bare(err error) error {
	var at *fs.PathError
	if errors.As(err, &at) {
		return at.Err
	}
	return err
}

// cleanLines removes control characters from a message but keeps its line breaks.
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
		HideVersion:     true,
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
	// a variable of the whole package: the last App made sets it
	cli.HelpPrinter = func(w io.Writer, _ string, command any) {
		c := command.(*cli.Command)
		// a failed write is remembered by a.Stdout
		_, _ = io.WriteString(w, helpText(c, c.FullName(), c == c.Root(), a.helpWidth()))
	}
	for _, x := range commands {
		root.Commands = append(root.Commands, x.make(a))
	}
	a.share(root)
	return root
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

// The package that reads flags has no types for what is wrong with them, only texts:
// TestTextsOfUsageErrors holds that they are so.
var (
	undefinedFlag = regexp.MustCompile(`^flag provided but not defined: -+(.+)$`)
	missingValue  = regexp.MustCompile(`^flag needs an argument: (-+\S+)$`)
	badValue      = regexp.MustCompile(`^invalid value ("(?:[^"\\]|\\.)*") for (?:argument|flag) (-+\S+): (.*)$`)
	notANumber    = regexp.MustCompile(`^strconv\.`)
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
		if notANumber.MatchString(why) {
			why = "a whole number belongs here"
		}
		if strings.HasPrefix(why, "time: ") {
			why = "a duration such as 30s, 5m or 2h belongs here"
		}
		return usage("the value %s does not fit the flag --%s: %s", m[1], strings.TrimLeft(m[2], "-"), why)
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

// oneOf makes a flag's validator that allows only the given words.
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

// screen is standard output, laid out for a reader.
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

// collectForLong is for what runs for long: its memory is bounded by what it holds, not by what it has read.
func collectForLong(percent int) {
	debug.SetGCPercent(percent)
	debug.SetMemoryLimit(math.MaxInt64)
	debug.FreeOSMemory()
}

// collectSeldom trades memory for speed. A run is short and reads much, so almost nothing is
// collected until the heap nears a limit. Where more than half of the limit stays in use, the limit
// is raised, so that a run never spends its time collecting.
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
