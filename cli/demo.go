package cli

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

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
			"proves and repeals, with the command line of each step, so that you can repeat it. The clouds are\n" +
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
}

var stops = []stop{
	{"check", "The definitions say who may talk to whom, once, by name. Are they free of mistakes, and what do " +
		"they cost?",
		[]string{"check"}},
	{"survey", "What is there? Three clouds are read, each of another dialect; here they are stand-ins, within " +
		"this program.",
		[]string{"survey", "--to", "survey.jsonl"}},
	{"audit", "What is open that should not be? The survey tells which instances, routes and public addresses " +
		"there are, so a finding says where it arrives.",
		[]string{"audit", "--survey", "survey.jsonl", "--check",
			"open-admin-port,open-data-port,all-services,wide-ports"}},
	{"trace", "Does this packet pass, and which rule says so? A stranger tries ssh on a tide gauge.",
		[]string{"trace", "--survey", "survey.jsonl", "192.0.2.77", "gauge-3", "ssh"}},
	{"trace", "And the booking site, does it reach its ledger?",
		[]string{"trace", "--survey", "survey.jsonl", "booking-1", "ledger-1", "berth-db"}},
	{"narrow", "Who really used the open door? The narrowest replacement, from 14 days of flows.",
		[]string{"narrow", "gauge-maintenance", "--survey", "survey.jsonl", "--flows", "flows.csv"}},
	{"narrow", "The same as an edit of the definitions: shown as a diff (for git apply or patch -p1) and written " +
		"in place. Comments and layout stay.",
		[]string{"narrow", "gauge-maintenance", "--survey", "survey.jsonl", "--flows", "flows.csv", "--diff",
			"--write"}},
	{"draft", "So far only the definitions have changed. What would that do to the clouds, and in which order? A " +
		"rule that somebody added by hand at night goes too: no definition says it.",
		[]string{"draft", "--flows", "flows.csv"}},
	{"enact", "Reviewed, so it is carried out: each step written down before it is done, then proved by looking again.",
		[]string{"enact"}},
	{"trace", "The stranger tries again, on the clouds as they are now.",
		[]string{"trace", "--live", "192.0.2.77", "gauge-3", "ssh"}},
	{"prove", "Does everything hold that the definitions expect, on the clouds as they are and as they are " +
		"defined? It does; the laws that are still broken show what to narrow next, and the exemption that has " +
		"nothing left to cover can go.",
		[]string{"prove", "--live"}},
	{"repeal", "And if it was wrong? Back to what was, from the journal, with the same care.",
		[]string{"repeal"}},
	{"trace", "The door is open again, on the clouds as they are now; the definitions still say that it is to be shut.",
		[]string{"trace", "--live", "192.0.2.77", "gauge-3", "ssh"}},
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
		s.Line(render.Piece{Text: "$ isonomos " + strings.Join(stop.args, " "), Style: render.Accent})
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
	inner := *a
	args := append([]string{"isonomos", "--color", c.String("color")}, stop.args...)
	if code := inner.Run(ctx, args); code > exitFindings {
		return quietly(code)
	}
	return nil
}
