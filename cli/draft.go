package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/user"

	"github.com/urfave/cli/v3"

	"isonomos/core/estate"
	"isonomos/enact"
	"isonomos/nomos"
	"isonomos/render"
	"isonomos/store"
	"isonomos/work"
)

func init() { addCommand(130, (*App).draftCommand) }

func (a *App) draftCommand() *cli.Command {
	return &cli.Command{
		Name:      "draft",
		Metadata:  ownUnread(noArguments("pick with --account, name the file with --to")),
		Usage:     "prepare a change of the clouds, to be reviewed",
		ArgsUsage: "[flags]",
		Description: "Surveys the clouds, compiles the definitions, compares both by traffic, and writes a draft: " +
			"the steps in their order, what opens and what closes, expectations before and after, " +
			"observed flows that would be stopped, and quotas. Nothing is changed. The state after every " +
			"step is decided: nothing is let through that neither the old nor the new state lets through," +
			" and nothing is stopped that both let through. Where a quota or the order of rules makes " +
			"that impossible, the draft says what is stopped and for how long.\n\n" +
			"Only groups and lists that are marked as the estate's own (by the label isonomos = NAME) are" +
			" changed. Others of the same name are left alone, unless --adopt marks them.\n\n" +
			"  isonomos draft\n" +
			"  isonomos draft --account tides --adopt tides/quay/booking --to tides.json\n" +
			"  isonomos draft --adopt all --format md > review.md",
		Flags: append([]cli.Flag{estateFlag(), surveyFlag(),
			&cli.StringFlag{Name: "to", Value: "draft.json", Usage: "write the draft to `FILE`, whole or not at " +
				"all (default: draft.json)"},
			accountFlag(),
			&cli.StringSliceFlag{Name: "adopt", Usage: "mark the group or list `PATH` (account/network/group, " +
				"account/list) as ours, and carry out its definition; all means everything that is defined (may be " +
				"given again)"},
			jobsFlag(), formatFlag("json", "md")}, append(waveFlags(),
			evidenceFlags("say what would be stopped of")...)...),
		Action: a.draft,
	}
}

func accountFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "account", Usage: "only the account `NAME` (may be given again)"}
}

func jobsFlag() cli.Flag {
	return &cli.IntFlag{Name: "jobs", Value: work.DefaultJobs, Usage: "work on `N` accounts at once (default: 16)",
		Validator: oneAtLeast}
}

func waveFlags() []cli.Flag {
	return []cli.Flag{&cli.StringFlag{Name: "waves", Value: "stage=lab,staging,production",
		Usage: "carry accounts out wave by wave, in the `ORDER` of a label: LABEL=FIRST,NEXT,… (default: " +
			"stage=lab,staging,production; others come with the last)"}}
}

func wavesOf(text string) (enact.Waves, error) {
	w, ok := enact.ParseWaves(text)
	if !ok {
		return w, usage("--waves %q has another form: LABEL=FIRST,NEXT,… such as stage=lab,staging,production", text)
	}
	return w, nil
}

// knownWaves refuses a wave label that no account has, and warns of stages that none has.
func (a *App) knownWaves(w enact.Waves, all ...*estate.Estate) error {
	if !a.given("waves") {
		return nil
	}
	var accounts estate.Estate
	for _, e := range all {
		accounts.Accounts = append(accounts.Accounts, e.Accounts...)
	}
	known := accounts.Vocabulary()
	if err := work.Known("label of an account", []string{w.Label}, known.Names()); err != nil {
		return err
	}
	for _, stage := range w.Stages {
		if !known.Has(w.Label, stage) {
			a.note("--waves: no account has the %s %q: there are %s", w.Label, stage, work.Some(known[w.Label]))
		}
	}
	return nil
}

func (a *App) draft(ctx context.Context, c *cli.Command) error {
	if format := c.String("format"); c.String("to") == "-" && a.given("format") && format != "json" {
		return usage("--to - writes the draft itself, which is JSON: leave --format out")
	}
	pasts, head, err := a.pasts(c)
	if err != nil {
		return err
	}
	j, err := a.definedJob(c, c.StringSlice("account"), c.StringSlice("adopt"), pasts)
	if err != nil {
		return err
	}
	surveyed, err := a.toDraftFrom(ctx, c, j.Defined)
	if err != nil {
		return err
	}
	if j.Settle != nil {
		if err := j.Settle(surveyed); err != nil {
			return err
		}
	}
	p, err := a.prepare(c, j, surveyed)
	if err != nil {
		return err
	}
	d := &p.Draft
	d.Journal = head
	d.Accounts, d.Adopts = listed(c.StringSlice("account")), listed(c.StringSlice("adopt"))
	sum, err := a.evidenceOf(ctx, c)
	if err != nil {
		return err
	}
	if sum != nil {
		p.LookForCuts(sum)
	}
	return a.tellDraft(c, d, c.String("to"))
}

func listed(list []string) []string { return append([]string{}, list...) }

// tellDraft writes a draft to its file and shows it.
func (a *App) tellDraft(c *cli.Command, d *enact.Draft, path string) error {
	d.By = whoAmI()
	d.Seal = d.Sealed()
	text, err := json.MarshalIndent(d, "", " ")
	if err != nil {
		return err
	}
	text = append(text, '\n')
	if path != "" && path != "-" {
		if err := a.keepDraft(path, text); err != nil {
			return err
		}
	}
	switch {
	case c.String("format") == "json" || path == "-":
		_, err = a.Stdout.Write(text)
	case c.String("format") == "md":
		err = render.DraftMarkdown(a.Stdout, d)
	default:
		s := a.screen(c)
		render.Draft(s, d, path, a.say(c))
		err = s.Err()
	}
	return err
}

// whoAmI is who runs the program, and where.
func whoAmI() string {
	name := "somebody"
	if u, err := user.Current(); err == nil {
		name = u.Username
	}
	host, err := os.Hostname()
	if err != nil {
		host = "somewhere"
	}
	return name + "@" + host
}

// keepDraft writes a draft. It refuses to replace a file that is not a draft.
func (a *App) keepDraft(path string, text []byte) error {
	if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
		old, err := os.ReadFile(path)
		if err != nil {
			return fileError("draft", path, err)
		}
		var d enact.Draft
		if json.Unmarshal(old, &d) != nil || d.Version == 0 || d.Lanes == nil {
			return usage("%s exists and is not a draft: name another file with --to", path)
		}
	}
	return writeWhole([]newFile{{path: path, text: string(text)}})
}

// pasts are the runs of the journal, and its last entry; none if there is no journal.
func (a *App) pasts(c *cli.Command) (pasts []*enact.Past, head store.Head, err error) {
	s, err := a.openStore(c, false)
	if err != nil || s == nil {
		return nil, head, err
	}
	defer s.Close()
	pasts, err = enact.Pasts(s.Journal)
	if err == nil {
		head, err = s.Head()
	}
	if err != nil {
		return nil, head, refused("%v (%s)", err, storePath(c))
	}
	return pasts, head, nil
}

// definedJob is the job of bringing clouds to what the definitions say.
func (a *App) definedJob(c *cli.Command, accounts, adopts []string, pasts []*enact.Past) (work.Job, error) {
	folder := c.String("estate")
	files, err := a.readDefinitions(folder)
	if err != nil {
		return work.Job{}, err
	}
	if len(files) == 0 {
		return work.Job{}, usage("there are no definitions (*%s) in %s: name their folder with --estate",
			nomos.Extension, folderName(folder))
	}
	d, err := a.understand(c, files)
	if err != nil {
		return work.Job{}, err
	}
	if !d.Named() {
		nameless := usage("the definitions in %s do not name their estate, and what is made bears its name: write a "+
			"line such as estate harbour", folderName(folder))
		if c.Name != "draft" {
			return work.Job{}, nameless
		}
		a.note("%v; without it the draft can't be carried out", nameless)
	}
	passes, err := a.passesIn(c, d.Estate)
	if err != nil {
		return work.Job{}, err
	}
	j, err := work.DefinedJob(d, work.Digest(folder, files), accounts, adopts, enact.KnownFrom(pasts).Has, passes)
	j.Promised = enact.PromisedBy(pasts)
	j.Settle = func(surveyed *estate.Estate) error {
		if len(d.Doubts) == 0 {
			return nil
		}
		return a.accept(&d, surveyed)
	}
	return j, err
}

// toDraftFrom surveys what a draft starts from: the clouds themselves, or a survey file.
func (a *App) toDraftFrom(ctx context.Context, c *cli.Command, e *estate.Estate) (*estate.Estate, error) {
	if file := c.String("survey"); file != "" {
		if variable := a.fromEnvironment("survey"); variable != "" {
			a.note("drafting from the survey %s (%s), not from the clouds as they are now", file, variable)
		}
		return a.readSurvey(file)
	}
	s := a.surveyor(c, e)
	s.Accounts = nil // what is expected of those that are changed may be about others too; enact looks at all of them
	return a.surveyed(ctx, s)
}

// prepare plans a job from a surveyed state, and prints what stands in its way.
func (a *App) prepare(c *cli.Command, j work.Job, surveyed *estate.Estate) (*work.Prepared, error) {
	waves, err := wavesOf(c.String("waves"))
	if err != nil {
		return nil, err
	}
	if err := a.knownWaves(waves, j.Defined, surveyed); err != nil {
		return nil, err
	}
	p, err := j.Prepare(surveyed, waves, a.Now())
	var failed *work.InexpressibleError
	if errors.As(err, &failed) {
		a.tellFailures(failed.Failures)
		a.tellAdoptable(c, failed.CanAdopt)
	}
	if err != nil {
		return nil, err
	}
	for _, n := range p.Aim.Unplaced {
		a.note("%s", n)
	}
	return p, nil
}

// refused ends the program with exit code 4.
func refused(format string, args ...any) error {
	return &failure{exitRefused, fmt.Errorf(format, args...)}
}
