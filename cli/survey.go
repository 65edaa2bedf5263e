package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"path/filepath"
	"runtime/debug"
	"sync"
	"time"

	"github.com/urfave/cli/v3"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"isonomos/core/estate"
	"isonomos/work"
)

func init() { addCommand(40, (*App).surveyCommand) }

func (a *App) surveyCommand() *cli.Command {
	return &cli.Command{
		Name:      "survey",
		Metadata:  noArguments("pick with --cloud and --account"),
		Usage:     "read the clouds into a survey",
		ArgsUsage: "[flags]",
		Description: "Reads what is in the clouds that the definitions name (at …, token env " +
			"…), and writes it as " +
			"a survey: accounts, networks, subnets, instances, groups, rules and lists. Nothing is " +
			"changed. An account that can't be read is named in the survey, with the reason, and never " +
			"taken for an empty one.\n\n" +
			"  isonomos survey --to survey.jsonl.zst\n" +
			"  isonomos survey --account tides --account traffic > water.jsonl",
		Flags: []cli.Flag{
			estateFlag(),
			&cli.StringFlag{Name: "to", Value: "-", Usage: "write the survey to `FILE`, whole or not at all " +
				"(packed if it ends in .zst or .gz; - for standard output)"},
			&cli.StringSliceFlag{Name: "cloud", Usage: "only the cloud `NAME` (may be given again)"},
			&cli.StringSliceFlag{Name: "account", Usage: "only the account `NAME` (may be given again)"},
			&cli.IntFlag{Name: "jobs", Value: work.DefaultJobs, Usage: "read `N` accounts at once (default: 16)",
				Validator: oneAtLeast},
		},
		Action: a.survey,
	}
}

func oneAtLeast(n int) error {
	if n < 1 || n > 1000 {
		return fmt.Errorf("it goes from 1 to 1000")
	}
	return nil
}

func (a *App) survey(ctx context.Context, c *cli.Command) error {
	debug.SetGCPercent(100) // little of what is read is kept: collect as usual
	files, err := a.readDefinitions(c.String("estate"))
	if err != nil {
		return err
	}
	definitions, err := a.understand(c, files)
	if err != nil {
		return err
	}
	plan, err := a.surveyor(c, definitions.Estate).Plan(ctx)
	if err != nil {
		return err
	}
	var told work.Tally
	write := func(w io.Writer) (err error) {
		told, err = plan.Read(ctx, w)
		return err
	}
	switch path := c.String("to"); {
	case path == "-":
		err = write(a.Stdout)
	default:
		err = writeStream(path, func(w io.Writer) error { return packedBy(path, w, write) })
	}
	if err != nil {
		return err
	}
	a.note("%s", told)
	if !told.Complete() {
		return quietly(exitUnreachable)
	}
	return nil
}

// surveyor makes a reader of the clouds that the definitions name, restricted as the flags say.
func (a *App) surveyor(c *cli.Command, definitions *estate.Estate) work.Surveyor {
	return work.Surveyor{Definitions: definitions, Environment: environmentOrFile, Clouds: c.StringSlice("cloud"),
		Accounts: c.StringSlice("account"),
		Jobs:     c.Int("jobs"), Now: a.Now, Note: a.note, Counting: a.counting, Slow: a.slowly()}
}

// slowly tells what is being waited for: one line at a time, at growing intervals, however many requests wait.
func (a *App) slowly() func(string) {
	var mu sync.Mutex
	var next time.Time
	interval := 2 * time.Second
	return func(text string) {
		mu.Lock()
		defer mu.Unlock()
		if now := time.Now(); now.Before(next) {
			return
		} else if next = now.Add(interval); interval < time.Minute {
			interval *= 2
		}
		a.note("%s (Ctrl-C stops)", text)
	}
}

// liveEstate surveys the clouds of definitions into memory, and prints warnings as the reading of a
// survey file does.
func (a *App) liveEstate(ctx context.Context, c *cli.Command, e *estate.Estate) (*estate.Estate, error) {
	return a.surveyed(ctx, a.surveyor(c, e))
}

func (a *App) surveyed(ctx context.Context, s work.Surveyor) (*estate.Estate, error) {
	plan, err := s.Plan(ctx)
	if err != nil {
		return nil, err
	}
	var text bytes.Buffer
	if _, err := plan.Read(ctx, &text); err != nil {
		return nil, unreachable("the clouds can't be read: %v", err)
	}
	read, err := a.takeSurvey(&text, "the clouds")
	if read != nil {
		read.ForgetOrigins()
	}
	return read, err
}

// packedBy compresses a file as the extension of its name says.
func packedBy(path string, w io.Writer, write func(io.Writer) error) error {
	packed, err := packer(w, map[string]string{".zst": "zstd", ".gz": "gzip"}[filepath.Ext(path)])
	if err != nil {
		return err
	}
	if err := write(packed); err != nil {
		return err
	}
	return packed.Close()
}

// counting shows on a terminal how many of something are done.
func (a *App) counting(what string, of int) (step, finish func()) {
	if !a.Progress {
		return func() {}, func() {}
	}
	bars := mpb.New(mpb.WithOutput(a.Stderr), mpb.WithWidth(40))
	bar := bars.AddBar(int64(of), mpb.BarRemoveOnComplete(), mpb.PrependDecorators(decor.Name(what+" ")),
		mpb.AppendDecorators(decor.CountersNoUnit("%d of %d")))
	return bar.Increment, func() {
		bar.Abort(true)
		bars.Wait()
	}
}
