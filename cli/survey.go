package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"isonomos/cloud"
	"isonomos/core/estate"
	"isonomos/core/near"
	"isonomos/render"
	"isonomos/store"
)

func (a *App) surveyCommand() *cli.Command {
	return &cli.Command{
		Name:      "survey",
		Usage:     "read the clouds into a survey",
		ArgsUsage: "[flags]",
		Description: "Reads what there is in the clouds that the definitions name (at …, token env …): accounts, networks,\n" +
			"subnets, instances, groups, rules and lists, and writes it as a survey. Nothing is changed. An account\n" +
			"that can't be read is named in the survey with the reason, and is never taken for an empty one.\n\n" +
			"  isonomos survey --to survey.jsonl.zst\n" +
			"  isonomos survey --account tides --account traffic > water.jsonl",
		Flags: []cli.Flag{
			estateFlag(),
			&cli.StringFlag{Name: "to", Value: "-", Usage: "write the survey to `FILE`, whole or not at all (packed if it ends in .zst or .gz; - for standard output)"},
			&cli.StringSliceFlag{Name: "cloud", Usage: "only the cloud `NAME` (may be given again)"},
			&cli.StringSliceFlag{Name: "account", Usage: "only the account `NAME` (may be given again)"},
			&cli.IntFlag{Name: "jobs", Value: jobs, Usage: "read `N` accounts at once (default: 16)", Validator: oneAtLeast},
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

// jobs is how many accounts are read at once unless something else is asked for.
const jobs = 16

// A toRead is an account that is to be read, or the reason why it can't be.
type toRead struct {
	from    cloud.Cloud
	account string
	reason  string
}

func (a *App) survey(ctx context.Context, c *cli.Command) error {
	debug.SetGCPercent(100) // little is kept of what is read: it must not pile up
	if c.Args().Present() {
		return usage("survey takes no argument %q: pick with --cloud and --account", c.Args().First())
	}
	files, err := a.readDefinitions(c.String("estate"))
	if err != nil {
		return err
	}
	definitions, err := a.understand(c, files)
	if err != nil {
		return err
	}
	clouds, all, unheard, err := a.toSurvey(ctx, c, definitions.Estate)
	if err != nil {
		return err
	}
	var told tally
	write := func(w io.Writer) error {
		told = tally{}
		return a.readAccounts(ctx, c, definitions.Estate.Name, clouds, all, w, &told)
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
	a.note("%s", told.text())
	if unheard > 0 || len(told.unread) > 0 {
		return quietly(exitUnreachable)
	}
	return nil
}

// toSurvey finds the accounts that are to be read, and how many clouds did not even
// say which there are.
func (a *App) toSurvey(ctx context.Context, c *cli.Command, e *estate.Estate) (clouds []*estate.Cloud, all []toRead, unheard int, err error) {
	clouds, err = cloudsToRead(c, e)
	if err != nil {
		return nil, nil, 0, err
	}
	// unheard are clouds that did not even say which accounts there are
	for _, x := range clouds {
		list, err := a.accountsOf(ctx, c, e, x)
		if err != nil {
			unheard++
			a.note("the cloud %s can't be surveyed: %v", x.Name, err)
		}
		all = append(all, list...)
	}
	if names := c.StringSlice("account"); len(names) > 0 {
		var known []string
		for _, x := range all {
			known = append(known, x.account)
		}
		if err := allKnown("account", names, known); err != nil {
			return nil, nil, 0, err
		}
		all = slices.DeleteFunc(all, func(x toRead) bool { return !slices.Contains(names, x.account) })
	}
	if len(all) == 0 {
		return nil, nil, 0, unreachable("no account could be read: there is nothing to look at")
	}
	return clouds, all, unheard, nil
}

// liveEstate surveys the clouds of definitions into memory. What can't be read is
// told, as by reading a survey.
func (a *App) liveEstate(ctx context.Context, c *cli.Command, e *estate.Estate) (*estate.Estate, error) {
	clouds, all, _, err := a.toSurvey(ctx, c, e)
	if err != nil {
		return nil, err
	}
	var text bytes.Buffer
	if err := a.readAccounts(ctx, c, e.Name, clouds, all, &text, new(tally)); err != nil {
		return nil, unreachable("the clouds can't be read: %v", err)
	}
	read, err := a.takeSurvey(&text, "the clouds")
	if read != nil {
		read.ForgetOrigins()
	}
	return read, err
}

// packedBy packs what is written as the file's name says.
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

// cloudsToRead are the defined clouds that --cloud picks.
func cloudsToRead(c *cli.Command, e *estate.Estate) ([]*estate.Cloud, error) {
	if len(e.Clouds) == 0 {
		return nil, usage("the definitions name no cloud: write cloud NAME { dialect … at … token env … }")
	}
	names := c.StringSlice("cloud")
	if len(names) == 0 {
		return e.Clouds, nil
	}
	var known []string
	for _, x := range e.Clouds {
		known = append(known, x.Name)
	}
	if err := allKnown("cloud", names, known); err != nil {
		return nil, err
	}
	return slices.DeleteFunc(slices.Clone(e.Clouds), func(x *estate.Cloud) bool { return !slices.Contains(names, x.Name) }), nil
}

// allKnown says which of the names given for what is not known.
func allKnown(what string, names, known []string) error {
	for _, name := range names {
		if slices.Contains(known, name) {
			continue
		}
		if best, ok := near.Best(name, known); ok {
			return usage("no %s is called %q: %q is near", what, name, best)
		}
		return usage("no %s is called %q: there are %s", what, name, some(known))
	}
	return nil
}

// reach makes the client of a cloud as its definition says: of OpenStack Networking
// where it is reached by a profile, else of the open interface.
func reach(e *estate.Estate, x *estate.Cloud) (cloud.Cloud, error) {
	r := x.Reach
	address := r.At
	switch {
	case r.Profile != "" && r.At == "":
		var projects []cloud.Project
		for _, a := range e.Accounts {
			if a.Cloud == x {
				projects = append(projects, cloud.Project{Account: a.Name, ID: a.ID, Region: a.Region})
			}
		}
		return cloud.NewOpenStack(x.Name, r.Profile, projects), nil
	case r.At == "":
		return nil, fmt.Errorf("its definition does not say where it is: at env NAME, or profile NAME")
	case r.AtEnv:
		if address = os.Getenv(r.At); address == "" {
			return nil, fmt.Errorf("the environment variable %s, which has its address, is not set", r.At)
		}
	}
	token := ""
	if r.TokenEnv != "" {
		if token = strings.TrimSpace(os.Getenv(r.TokenEnv)); token == "" {
			return nil, fmt.Errorf("the environment variable %s, which has its token, is not set", r.TokenEnv)
		}
	}
	return cloud.NewClient(address, token, cloud.Options{})
}

// accountsOf are the accounts of a cloud: those it shows, and those that are defined
// and that it does not show, or can't.
func (a *App) accountsOf(ctx context.Context, c *cli.Command, e *estate.Estate, x *estate.Cloud) ([]toRead, error) {
	var defined []string
	for _, account := range e.Accounts {
		if account.Cloud == x {
			defined = append(defined, account.Name)
		}
	}
	unread := func(err error) ([]toRead, error) {
		var list []toRead
		for _, name := range defined {
			list = append(list, toRead{account: name, reason: err.Error()})
		}
		return list, err
	}
	from, err := reach(e, x)
	if err != nil {
		return unread(err)
	}
	dialect, err := from.Dialect(ctx)
	if err == nil && dialect != x.Dialect {
		err = fmt.Errorf("it is said to be %s and calls itself %s", x.Dialect, render.Clean(dialect))
	}
	if err != nil {
		return unread(err)
	}
	shown, err := from.Accounts(ctx)
	if err != nil {
		return unread(err)
	}
	var list []toRead
	for _, name := range shown {
		list = append(list, toRead{from: from, account: name})
	}
	for _, name := range defined {
		if !slices.Contains(shown, name) {
			list = append(list, toRead{account: name, reason: "the cloud shows no such account to this token"})
		}
	}
	return list, nil
}

// A tally is what was read.
type tally struct {
	accounts, groups, rules, instances int
	unread                             []estate.Unread
}

// add counts what an estate holds.
func (t *tally) add(e *estate.Estate) {
	t.accounts, t.groups, t.instances = t.accounts+len(e.Accounts), t.groups+len(e.Groups), t.instances+len(e.Instances)
	for _, g := range e.Groups {
		t.rules += len(g.Rules)
	}
}

func (t *tally) text() string {
	text := fmt.Sprintf("surveyed: %s, %s, %s, %s", render.Count(t.accounts, "account", "accounts"), render.Count(t.groups, "group", "groups"),
		render.Count(t.rules, "rule", "rules"), render.Count(t.instances, "instance", "instances"))
	const shown = 5
	for i, u := range t.unread {
		if i == shown {
			text += fmt.Sprintf("\nand %d more", len(t.unread)-shown)
			break
		}
		text += fmt.Sprintf("\nnot read: %s (%s)", u.Account, u.Reason)
	}
	return text
}

// A reading is one account on its way.
type reading struct {
	lines []byte
	found tally
	err   error
}

// readAccounts reads accounts, several at once, and writes them in order. What is
// read and not yet written is bounded by the number that is read at once.
func (a *App) readAccounts(ctx context.Context, c *cli.Command, name string, clouds []*estate.Cloud, all []toRead, w io.Writer, told *tally) error {
	byCloud := ""
	for _, x := range clouds {
		byCloud += store.CloudLine(x)
	}
	var held bytes.Buffer // what is not written as long as nothing is read
	held.WriteString(store.HeaderLine(name, a.Now()) + byCloud)
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	results := make(chan chan reading, cmp.Or(c.Int("jobs"), jobs))
	go func() {
		defer close(results)
		for _, x := range all {
			done := make(chan reading, 1)
			select {
			case results <- done: // waits while so many are on their way
			case <-ctx.Done():
				return
			}
			go func() {
				if x.from == nil {
					done <- reading{err: fmt.Errorf("%s", x.reason)}
					return
				}
				lines, err := x.from.Survey(ctx, x.account)
				var surveyed *estate.Estate
				if err == nil { // what can't be understood must not spoil the rest
					surveyed, _, err = store.ReadSurvey(strings.NewReader(store.HeaderLine(name, a.Now())+byCloud+string(lines)), x.account)
				}
				if err == nil && (len(surveyed.Accounts) != 1 || surveyed.Accounts[0].Name != x.account) {
					err = errors.New("the answer does not tell of this account, or of others too")
				}
				r := reading{lines: lines, err: err}
				if err == nil {
					r.found.add(surveyed)
				}
				done <- r
			}()
		}
	}()
	step, finish := a.counting("reading accounts", len(all))
	defer finish()
	i := 0
	for done := range results {
		r := <-done
		x := all[i]
		i++
		step()
		lines := r.lines
		if r.err != nil {
			u := estate.Unread{Account: x.account, Reason: r.err.Error()}
			told.unread = append(told.unread, u)
			lines = []byte(store.UnreadLine(u))
		} else {
			told.accounts += r.found.accounts
			told.groups += r.found.groups
			told.rules += r.found.rules
			told.instances += r.found.instances
		}
		held.Write(lines)
		if told.accounts > 0 {
			if _, err := held.WriteTo(w); err != nil {
				return err
			}
		}
	}
	if told.accounts == 0 && ctx.Err() == nil {
		return unreachable("no account could be read: %s (%s)%s; nothing was written", told.unread[0].Account, told.unread[0].Reason, map[bool]string{true: fmt.Sprintf(", and %d more", len(told.unread)-1)}[len(told.unread) > 1])
	}
	return ctx.Err()
}

// counting shows on a terminal how many of something are done.
func (a *App) counting(what string, of int) (step, finish func()) {
	if !a.Progress {
		return func() {}, func() {}
	}
	bars := mpb.New(mpb.WithOutput(a.Stderr), mpb.WithWidth(40))
	bar := bars.AddBar(int64(of), mpb.BarRemoveOnComplete(), mpb.PrependDecorators(decor.Name(what+" ")), mpb.AppendDecorators(decor.CountersNoUnit("%d of %d")))
	return bar.Increment, func() {
		bar.Abort(true)
		bars.Wait()
	}
}
