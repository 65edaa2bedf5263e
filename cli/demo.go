package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/urfave/cli/v3"

	"isonomos/cloud/standin"
	"isonomos/demo"
	"isonomos/nomos/resolve"
	"isonomos/render"
	"isonomos/store"
)

func init() { addCommand(10, (*App).demoCommand) }

func (a *App) demoCommand() *cli.Command {
	return &cli.Command{
		Name:      "demo",
		Metadata:  takesArguments(0, 1, "takes one folder", "isonomos demo saltmarsh"),
		Usage:     "lay out the demo estate and go through the job on it",
		ArgsUsage: "[flags] [FOLDER]",
		Description: "Lays Saltmarsh Harbour, an invented harbour authority, into a new folder (or a temporary " +
			"one):\n" +
			"definitions, a survey, and 14 days of flows. Then it surveys, audits, traces, narrows, drafts, enacts,\n" +
			"proves, repeals and upholds, with the command line of each step, so that you can repeat it. The " +
			"clouds are\n" +
			"stand-ins within this program. Nothing else is touched, no network used.\n\n" +
			"  isonomos demo\n" +
			"  isonomos demo harbour\n" +
			"  isonomos demo --only-files harbour",
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "only-files", Usage: "lay the files out and stop"}},
		Action: a.demo,
	}
}

func (a *App) demo(ctx context.Context, c *cli.Command) error {
	folder := c.Args().First()
	if folder == "" {
		made, err := os.MkdirTemp("", "saltmarsh-")
		if err != nil {
			return unreachable("no temporary folder can be made: %v", err)
		}
		folder = made
	}
	if err := layOut(folder); err != nil {
		return err
	}
	if c.Bool("only-files") {
		a.note("the demo estate is in %s", folder)
		return nil
	}
	return a.tour(ctx, c, folder)
}

// layOut writes the demo's files into a new or empty folder.
func layOut(folder string) error {
	if err := newFolder(folder); err != nil {
		return err
	}
	var files []newFile
	err := fs.WalkDir(demo.Files(), ".", func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		text, err := fs.ReadFile(demo.Files(), name)
		files = append(files, newFile{path: filepath.Join(folder, name), text: string(text)})
		return err
	})
	if err != nil {
		return err
	}
	survey, err := demo.Survey()
	if err != nil {
		return err
	}
	var jsonl, csv bytes.Buffer
	if err := store.WriteSurvey(&jsonl, survey); err != nil {
		return err
	}
	if err := demo.Flows(&csv); err != nil {
		return err
	}
	files = append(files, newFile{path: filepath.Join(folder, "survey.jsonl"), text: jsonl.String()},
		newFile{path: filepath.Join(folder, "flows.csv"), text: csv.String()})
	return writeWhole(files)
}

// A stop is one step of the tour: an explanation, and the command that it runs.
type stop struct {
	title string
	says  string
	args  []string
	// while runs as soon as the command holds something open; the command itself ends by its own.
	while []string
}

var stops = []stop{
	{"check", "The definitions say who may talk to whom, once, by name. Are they free of mistakes, and what do " +
		"they cost?",
		[]string{"check"}, nil},
	{"survey", "What is there? Three clouds are read, each of another dialect; here they are stand-ins, within " +
		"this program.",
		[]string{"survey", "--to", "survey.jsonl"}, nil},
	{"audit", "What is open that should not be? The survey tells which instances, routes and public addresses " +
		"there are, so a finding says where it arrives.",
		[]string{"audit", "--survey", "survey.jsonl", "--check",
			"open-admin-port,open-data-port,all-services,wide-ports"}, nil},
	{"trace", "Does this packet pass, and which rule says so? A stranger tries ssh on a tide gauge.",
		[]string{"trace", "--survey", "survey.jsonl", "192.0.2.77", "gauge-3", "ssh"}, nil},
	{"trace", "And the booking site, does it reach its ledger?",
		[]string{"trace", "--survey", "survey.jsonl", "booking-1", "ledger-1", "berth-db"}, nil},
	{"narrow", "Who really used the open door? The narrowest replacement, from 14 days of flows.",
		[]string{"narrow", "gauge-maintenance", "--survey", "survey.jsonl", "--flows", "flows.csv"}, nil},
	{"narrow", "The same as an edit of the definitions: shown as a diff (for git apply or patch -p1) and written " +
		"in place. Comments and layout stay.",
		[]string{"narrow", "gauge-maintenance", "--survey", "survey.jsonl", "--flows", "flows.csv", "--diff",
			"--write"}, nil},
	{"draft", "So far only the definitions have changed. What would that do to the clouds, and in which order? A " +
		"rule that somebody added by hand at night goes too: no definition says it.",
		[]string{"draft", "--flows", "flows.csv"}, nil},
	{"enact", "Reviewed, so it is carried out: each step written down before it is done, then proved by looking again.",
		[]string{"enact"}, nil},
	{"trace", "The stranger tries again, on the clouds as they are now.",
		[]string{"trace", "--live", "192.0.2.77", "gauge-3", "ssh"}, nil},
	{"trace", "Three in the morning, and an engineer of the harbour master's office has to get at a trial machine. " +
		"It is shut.",
		[]string{"trace", "--live", "203.0.113.65", "trial-roster-1", "ssh"}, nil},
	{"pass", "But its group lends ssh to the harbour's offices. A pass opens it for them, here for 3 seconds, so " +
		"that you can see it end by itself; meanwhile the engineer gets in.",
		[]string{"pass", "hold", "pilots-trial/trial/roster-site", "ssh", "--to", "203.0.113.65", "--for", "3s",
			"--because", "the rosters are late"},
		[]string{"trace", "--live", "203.0.113.65", "trial-roster-1", "ssh"}},
	{"pass", "Nobody had to remember to shut it. The journal knows who was in, why, and until when.",
		[]string{"pass", "list", "--all"}, nil},
	{"prove", "Does everything hold that the definitions expect, on the clouds as they are and as they are " +
		"defined? It does; the laws that are still broken show what to narrow next, and the exemption that has " +
		"nothing left to cover can go.",
		[]string{"prove", "--live"}, nil},
	{"repeal", "And if it was wrong? Back to what was, from the journal, with the same care.",
		[]string{"repeal"}, nil},
	{"trace", "The door is open again, on the clouds as they are now; the definitions still say that it is to be shut.",
		[]string{"trace", "--live", "192.0.2.77", "gauge-3", "ssh"}, nil},
	{"sandbox", "What if nobody asks the definitions at all? Somebody in a hurry opens remote desktops of the " +
		"ledger to " +
		"the world, in the cloud's own console.",
		[]string{"sandbox", "open", "clouds", "tides/quay/berth-ledger", "rdp"}, nil},
	{"uphold", "A watch finds it within seconds, tells it, and puts back what was decided last; left running, " +
		"it would do so day and night. What repeal has brought back differs from the definitions: that is told, and " +
		"stays, since somebody has decided it.",
		[]string{"uphold", "--once", "--put-back", "all"}, nil},
}

// tour runs every stop in the folder, as a user would.
func (a *App) tour(ctx context.Context, c *cli.Command, folder string) error {
	s := a.screen(c)
	s.Line(render.Piece{Text: "Saltmarsh Harbour", Style: render.Accent},
		render.Piece{Text: "  an invented harbour authority, laid out in ", Style: render.Plain},
		render.Piece{Text: folder, Style: render.Strong})
	s.Blank()
	s.Text(0, "Each step is one command, which you can repeat afterwards. Before the first, go there and start "+
		"the stand-in clouds:")
	for _, command := range []string{"cd " + render.Quoted(folder), "isonomos sandbox run clouds &", ". clouds/env"} {
		s.Line(render.Piece{Text: "$ " + command, Style: render.Accent})
	}
	back, err := os.Getwd()
	if err != nil {
		return unreachable("%w", err)
	}
	if err := os.Chdir(folder); err != nil {
		return unreachable("%w", err)
	}
	defer os.Chdir(back)
	stop, err := a.serveDemo()
	if err != nil {
		return err
	}
	defer stop()
	for i, stop := range stops {
		s.Blank()
		s.Line(render.Piece{Text: fmt.Sprintf("%d of %d  %s ", i+1, len(stops), stop.title), Style: render.Strong},
			render.Piece{Text: strings.Repeat("─", max(0, s.Width()-12-len(stop.title))), Style: render.Faint})
		s.Text(0, stop.says)
		background := ""
		if stop.while != nil {
			background = " &"
		}
		s.Line(render.Piece{Text: "$ " + render.Plainly(stop.args...) + background, Style: render.Accent})
		s.Blank()
		if err := a.visit(ctx, c, stop); err != nil {
			return err
		}
	}
	s.Blank()
	s.Text(0, "That was the job from end to end. isonomos --help lists the commands, and with each of them "+
		"--help tells more.")
	return s.Err()
}

// serveDemo serves the demo's clouds in this process, from the folder clouds below the current one,
// and sets the environment variables by which the demo's definitions find them.
func (a *App) serveDemo() (stop func(), err error) {
	const folder = "clouds"
	// it also writes down where, for a user who repeats the steps
	web, listener, clouds, err := a.openStandin(folder, "", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	token, err := os.ReadFile(filepath.Join(folder, standin.TokenFile))
	if err != nil {
		return nil, fileError("file", standin.TokenFile, err)
	}
	set := make(map[string]string) // the values before, to be put back
	for _, name := range clouds {
		variable := resolve.VariableOf(name)
		for key, value := range map[string]string{variable + "_URL": "http://" + listener.Addr().String() + "/" +
			name, variable + "_TOKEN": string(token)} {
			set[key] = os.Getenv(key)
			os.Setenv(key, value)
		}
	}
	go func() { _ = web.Serve(listener) }() // it ends when the listener is closed
	return func() {
		web.Close()
		for key, value := range set {
			os.Setenv(key, value)
		}
	}, nil
}

// visit runs one stop's command in this process. Exit code 1 (findings) is no failure: findings are
// what the tour shows.
func (a *App) visit(ctx context.Context, c *cli.Command, stop stop) error {
	run := func(inner App, words []string) error {
		args := append([]string{"isonomos", "--color", c.String("color")}, words...)
		if code := inner.Run(ctx, args); code > exitFindings {
			return quietly(code)
		}
		return nil
	}
	if stop.while == nil {
		return run(*a, stop.args)
	}
	holding := *a
	said := newOverheard(a.Stdout)
	holding.Stdout, holding.Stderr, holding.Progress = said, said, false
	ended := make(chan error, 1)
	go func() { ended <- run(holding, stop.args) }()
	select {
	case err := <-ended:
		return err
	case <-said.open:
	}
	s := a.screen(c)
	s.Blank()
	s.Line(render.Piece{Text: "$ " + render.Plainly(stop.while...), Style: render.Accent})
	s.Blank()
	if err := run(*a, stop.while); err != nil {
		return err
	}
	s.Blank()
	s.Line(render.Piece{Text: "$ wait $!", Style: render.Accent})
	s.Blank()
	said.goOn()
	return errors.Join(<-ended, s.Err())
}

// An overheard writer hands on what a command says that holds something open, until that is open; and the rest only
// when it is told to, so that two commands don't speak at once.
type overheard struct {
	open  chan struct{}
	mu    sync.Mutex
	to    io.Writer
	held  []byte
	said  []byte
	quiet bool
}

func newOverheard(to io.Writer) *overheard { return &overheard{open: make(chan struct{}), to: to} }

func (o *overheard) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.quiet {
		o.held = append(o.held, p...)
		return len(p), nil
	}
	n, err := o.to.Write(p)
	o.said = append(o.said, p...)
	if bytes.Contains(o.said, []byte("pass end")) && bytes.HasSuffix(o.said, []byte("\n")) {
		o.quiet = true
		close(o.open)
	}
	return n, err
}

func (o *overheard) goOn() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.quiet, o.said = false, nil
	_, _ = o.to.Write(o.held) // a failed write is noticed by the screen
	o.held = nil
}
