package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"isonomos/core/change"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/law"
	"isonomos/core/service"
	"isonomos/enact"
	"isonomos/nomos"
	"isonomos/nomos/source"
	"isonomos/render"
)

func (a *App) draftCommand() *cli.Command {
	return &cli.Command{
		Name:      "draft",
		Usage:     "prepare a change of the clouds, to be reviewed",
		ArgsUsage: "[flags]",
		Description: "Surveys the clouds, compiles the definitions, compares both by traffic, and writes a draft: ordered\n" +
			"steps, what opens and what closes, expectations before and after, observed flows that would be cut,\n" +
			"quotas. Nothing is changed. After every step the state in between is decided: nothing is let through\n" +
			"that neither the old nor the new state lets through, and nothing is stopped that both do. Where a\n" +
			"quota or ranks leave no such order, the draft says what is stopped and for how long.\n\n" +
			"Only groups and lists that are marked as the estate's own are changed (the label isonomos = NAME). What\n" +
			"is defined and there without a mark is left alone, until --adopt marks it.\n\n" +
			"  isonomos draft\n" +
			"  isonomos draft --account tides --adopt tides/quay/booking --to tides.json\n" +
			"  isonomos draft --adopt all --format md > review.md",
		Flags: append([]cli.Flag{estateFlag(), surveyFlag(),
			&cli.StringFlag{Name: "to", Value: "draft.json", Usage: "write the draft to `FILE`, whole or not at all (default: draft.json)"},
			accountFlag(),
			&cli.StringSliceFlag{Name: "adopt", Usage: "mark the group or list `PATH` (account/network/group, account/list) as ours, and carry out its definition; every means all that is defined (may be given again)"},
			jobsFlag(), formatFlag("json", "md")}, append(waveFlags(), evidenceFlags("tell what would be cut of the")...)...),
		Action: a.draft,
	}
}

func accountFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "account", Usage: "only the account `NAME` (may be given again)"}
}

func jobsFlag() cli.Flag {
	return &cli.IntFlag{Name: "jobs", Value: jobs, Usage: "work on `N` accounts at once (default: 16)", Validator: oneAtLeast}
}

func waveFlags() []cli.Flag {
	return []cli.Flag{&cli.StringFlag{Name: "waves", Value: "stage=lab,staging,production", Usage: "carry accounts out wave by wave, in the `ORDER` of a label: LABEL=FIRST,NEXT,… (default: stage=lab,staging,production; others come with the last)"}}
}

func wavesOf(text string) (enact.Waves, error) {
	label, stages, ok := strings.Cut(text, "=")
	if !ok || label == "" || stages == "" {
		return enact.Waves{}, usage("--waves %q has another form: LABEL=FIRST,NEXT,… such as stage=lab,staging,production", text)
	}
	return enact.Waves{Label: label, Stages: strings.Split(stages, ",")}, nil
}

// knownWaves wants of a label that is asked for that some account has it, and tells of
// stages that none has.
func (a *App) knownWaves(w enact.Waves, all ...*estate.Estate) error {
	if !a.given("waves") {
		return nil
	}
	var accounts estate.Estate
	for _, e := range all {
		accounts.Accounts = append(accounts.Accounts, e.Accounts...)
	}
	known := accounts.Vocabulary()
	if err := allKnown("label of an account", []string{w.Label}, known.Names()); err != nil {
		return err
	}
	for _, stage := range w.Stages {
		if !known.Has(w.Label, stage) {
			a.note("--waves: no account has the %s %q: there are %s", w.Label, stage, some(known[w.Label]))
		}
	}
	return nil
}

// A job is what brings clouds to a state: definitions, or a run that is to be undone.
type job struct {
	aim     func(surveyed *estate.Estate) (*change.Aim, error)
	ended   func(surveyed *estate.Estate) (*change.Aim, error) // the same, seen from its end
	expects []law.Expectation
	digest  string // of the definitions
	defined *estate.Estate
	settle  func(surveyed *estate.Estate) error // whether the definitions are right for what is there
}

func (a *App) draft(ctx context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return usage("draft takes no argument %q: pick with --account, name the file with --to", c.Args().First())
	}
	if format := c.String("format"); c.String("to") == "-" && a.given("format") && format != "json" {
		return usage("--to - writes the draft itself, which is JSON: leave --format out")
	}
	j, err := a.definedJob(c, c.StringSlice("account"), c.StringSlice("adopt"))
	if err != nil {
		return err
	}
	surveyed, err := a.toDraftFrom(ctx, c, j.defined)
	if err != nil {
		return err
	}
	if j.settle != nil {
		if err := j.settle(surveyed); err != nil {
			return err
		}
	}
	d, p, err := a.prepare(c, j, surveyed)
	if err != nil {
		return err
	}
	d.Accounts, d.Adopts = listed(c.StringSlice("account")), listed(c.StringSlice("adopt"))
	if err := a.lookForCuts(ctx, c, &d, p); err != nil {
		return err
	}
	return a.tellDraft(c, &d, c.String("to"))
}

func listed(list []string) []string { return append([]string{}, list...) }

// tellDraft writes a draft to its file and shows it.
func (a *App) tellDraft(c *cli.Command, d *enact.Draft, path string) error {
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

// keepDraft writes a draft; what is there and is none stays.
func (a *App) keepDraft(path string, text []byte) error {
	if old, err := os.ReadFile(path); err == nil {
		var d enact.Draft
		if json.Unmarshal(old, &d) != nil || d.Version == 0 || d.Lanes == nil {
			return usage("%s is there and is no draft: name another file with --to", path)
		}
	}
	return writeWhole([]newFile{{path: path, text: string(text)}})
}

// definedJob brings clouds to what the definitions say.
func (a *App) definedJob(c *cli.Command, accounts, adopts []string) (job, error) {
	files, err := a.readDefinitions(c.String("estate"))
	if err != nil {
		return job{}, err
	}
	if len(files) == 0 {
		return job{}, usage("there are no definitions (*%s) in %s: name their folder with --estate", nomos.Extension, folderName(c.String("estate")))
	}
	d, err := a.understand(c, files)
	if err != nil {
		return job{}, err
	}
	var known []string
	for _, x := range d.Estate.Accounts {
		known = append(known, x.Name)
	}
	if err := allKnown("account", accounts, known); err != nil {
		return job{}, err
	}
	if err := canAdopt(d.Estate, adopts); err != nil {
		return job{}, err
	}
	choice := change.Choice{
		Account: func(x *estate.Account) bool { return len(accounts) == 0 || slices.Contains(accounts, x.Name) },
		Adopt:   func(path string) bool { return slices.Contains(adopts, "all") || slices.Contains(adopts, path) },
	}
	aim := func(surveyed *estate.Estate) (*change.Aim, error) {
		return change.NewAim(d.Estate, surveyed, choice), nil
	}
	return job{aim: aim, ended: aim,
		expects: d.Expects, digest: definitionsDigest(c.String("estate"), files), defined: d.Estate,
		settle: func(surveyed *estate.Estate) error {
			if len(d.Doubts) == 0 {
				return nil
			}
			return a.accept(&d, surveyed)
		},
	}, nil
}

// canAdopt says which of the paths to be adopted is no defined group or list.
func canAdopt(e *estate.Estate, adopts []string) error {
	known := []string{"all"}
	for _, g := range e.Groups {
		if !g.Existing {
			known = append(known, g.Path())
		}
	}
	for _, x := range e.Accounts {
		for _, l := range e.Lists {
			known = append(known, x.Name+"/"+l.Name)
		}
	}
	return allKnown("defined group or list", adopts, known)
}

// definitionsDigest is a fingerprint of definitions: of their files' names and texts.
func definitionsDigest(folder string, files []*source.File) string {
	sum := sha256.New()
	for _, f := range files {
		name, err := filepath.Rel(folder, f.Name)
		if err != nil {
			name = f.Name
		}
		fmt.Fprintf(sum, "%q %d\n", filepath.ToSlash(name), len(f.Text))
		sum.Write([]byte(f.Text))
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// toDraftFrom is what a draft starts from: the clouds themselves, or a survey file.
func (a *App) toDraftFrom(ctx context.Context, c *cli.Command, e *estate.Estate) (*estate.Estate, error) {
	if file := c.String("survey"); file != "" {
		if variable := a.fromEnvironment("survey"); variable != "" {
			a.note("drafting from the survey %s (%s), not from the clouds as they are now", file, variable)
		}
		return a.readSurvey(file)
	}
	return a.liveEstate(ctx, c, e)
}

// prepare plans a job from a surveyed state and writes it as a draft, all but the cuts.
func (a *App) prepare(c *cli.Command, j job, surveyed *estate.Estate) (enact.Draft, *prepared, error) {
	waves, err := wavesOf(c.String("waves"))
	if err != nil {
		return enact.Draft{}, nil, err
	}
	if err := a.knownWaves(waves, j.defined, surveyed); err != nil {
		return enact.Draft{}, nil, err
	}
	aim, err := j.aim(surveyed)
	if err != nil {
		return enact.Draft{}, nil, refused("%v", err)
	}
	if len(aim.Unread) > 0 {
		u := aim.Unread[0]
		return enact.Draft{}, nil, unreachable("the account %s could not be surveyed (%s): pick others with --account, or try again", u.Account, u.Reason)
	}
	a.tellFailures(aim.Failures)
	if len(aim.Failures) > 0 {
		return enact.Draft{}, nil, inexpressible(aim.Failures)
	}
	for _, n := range aim.Unplaced {
		a.note("%s", n)
	}
	plan, err := change.NewPlan(aim)
	var stuck *change.StuckError
	if errors.As(err, &stuck) {
		text := stuck.Error()
		for i := range stuck.Steps[:min(3, len(stuck.Steps))] {
			text += "\n  not possible: " + enact.Says(&stuck.Steps[i], aim.Then.Services)
		}
		return enact.Draft{}, nil, refused("%s", text)
	}
	if err != nil {
		return enact.Draft{}, nil, refused("%v", err)
	}
	d := enact.NewDraft(plan, aim, waves, render.DraftWords(aim.Then))
	d.Made, d.Definitions = a.Now().UTC().Truncate(1e9), j.digest
	p := &prepared{aim: aim, plan: plan, now: decide.New(aim.Now), then: decide.New(aim.Then)}
	d.Traffic = render.DraftTraffic(aim.Then, change.Compare(p.now, p.then))
	before, after := law.Prove(seen(aim.Now), law.Rebase(j.expects, aim.ToNow)), law.Prove(seen(aim.Then), law.Rebase(j.expects, aim.ToThen))
	for i := range after {
		d.Expects = append(d.Expects, enact.Expect{Text: after[i].Text, File: filepath.ToSlash(after[i].Origin.File), Line: after[i].Origin.Line, Before: before[i].Holds, After: after[i].Holds, Unsure: after[i].Undecided})
	}
	d.Quotas = render.DraftQuotas(aim)
	d.Bypassed = render.DraftBypasses(aim, p.then)
	return d, p, nil
}

// seen is an estate whose instances can be added to without changing it.
func seen(e *estate.Estate) *estate.Estate {
	copied := *e
	copied.Instances = slices.Clip(slices.Clone(e.Instances))
	return &copied
}

// A prepared job knows both states.
type prepared struct {
	aim       *change.Aim
	plan      change.Plan
	now, then *decide.Decider
}

// nameOf is who has an address, or the address itself.
func (p *prepared) nameOf(a netip.Addr) string {
	if at := p.now.At(a); len(at) > 0 {
		return at[0].Instance.Path()
	}
	return a.String()
}

// lookForCuts tells which observed flows a draft would cut, if there is evidence.
func (a *App) lookForCuts(ctx context.Context, c *cli.Command, d *enact.Draft, p *prepared) error {
	sum, err := a.evidenceOf(ctx, c)
	if err != nil || sum == nil {
		return err
	}
	d.Cut.Looked = true
	kinds := make(map[string]int)
	const samples = 12
	change.CutFlows(p.now, p.then, sum.Sums(), func(x *flow.Sum) {
		d.Cut.Flows += int64(x.Flows)
		text := fmt.Sprintf("%s → %s %s", p.nameOf(x.Source), p.nameOf(x.Destination), p.aim.Then.Services.Describe(service.Between(x.Service, x.Service)))
		if kinds[text] == 0 && len(d.Cut.Samples) < samples {
			d.Cut.Samples = append(d.Cut.Samples, text)
		}
		kinds[text]++
	})
	return nil
}

// refused ends the program because it would not be safe.
func refused(format string, args ...any) error {
	return &failure{exitRefused, fmt.Errorf(format, args...)}
}
