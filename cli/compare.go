package cli

import (
	"context"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"isonomos/core/estate"
	"isonomos/core/pass"
	"isonomos/nomos"
	"isonomos/render"
	"isonomos/work"
)

func init() { addCommand(120, (*App).compareCommand) }

func (a *App) compareCommand() *cli.Command {
	return &cli.Command{
		Name: "compare",
		Metadata: takesArguments(2, 2, "takes two states, each a survey or a folder of definitions",
			"isonomos compare survey.jsonl ."),
		Usage:     "what opens and what closes between two states",
		ArgsUsage: "[flags] BEFORE AFTER",
		Description: "Compares two surveys, two folders of definitions, or definitions and a survey. First comes " +
			"the traffic that opens and closes, the most important first, with its cause, an example and " +
			"the instances concerned; then what routes, addresses and balancers open and close; then " +
			"rules. What is written differently and lets through the same is equal. Definitions are seen " +
			"as they would be once carried out: on the survey with which they are compared, or on the one" +
			" given by --survey, or without a survey with made-up members.\n\n" +
			"  isonomos compare survey.jsonl .\n" +
			"  isonomos compare old/ new/ --survey survey.jsonl\n" +
			"  isonomos compare monday.jsonl friday.jsonl --format md\n" +
			"  isonomos compare live .\n\n" +
			"live stands for the clouds themselves, as isonomos survey reads them, by the definitions in " +
			"--estate. Exit 1 if they differ.",
		Flags:  []cli.Flag{estateFlag(), surveyFlag(), formatFlag("json", "md")},
		Action: a.compare,
	}
}

func (a *App) compare(ctx context.Context, c *cli.Command) error {
	var sides [2]work.Side
	var defined *estate.Estate // by whose lends passes are told
	for k, path := range c.Args().Slice() {
		side, by, err := a.readSide(ctx, c, path)
		if err != nil {
			return err
		}
		if sides[k] = side; defined == nil {
			defined = by
		}
	}
	survey, err := a.comparedOn(c, sides)
	if err != nil {
		return err
	}
	var lent []*pass.Found
	for _, s := range []*estate.Estate{sides[0].Survey, sides[1].Survey, survey} {
		if s == nil || defined == nil {
			continue
		}
		found, err := a.passesOf(c, defined, s)
		if err != nil {
			return err
		}
		work.WithoutPasses(s, found)
		lent = append(lent, work.Lent(found)...)
	}
	for _, s := range sides {
		if s.Definitions != nil {
			if err := a.accept(s.Definitions, survey); err != nil {
				return err
			}
		}
	}
	compared := work.Compare(sides[0], sides[1], survey)
	for _, text := range compared.Misfits {
		a.note("%s", text)
	}
	for _, f := range lent {
		a.note("lent: %s", render.LentWords(f, compared.After.Services))
	}
	difference, after, notes := compared.Difference, compared.After, compared.Notes
	switch c.String("format") {
	case "json":
		err = render.ComparisonJSON(a.Stdout, difference, compared.Weaker, notes, a.unread)
	case "md":
		err = render.ComparisonMarkdown(a.Stdout, after, difference, compared.Weaker, c.Args().Get(0), c.Args().Get(1),
			notes, a.unread)
	default:
		s := a.screen(c)
		render.Comparison(s, after, difference, compared.Weaker, c.Args().Get(0), c.Args().Get(1))
		err = s.Err()
		for _, text := range notes {
			a.note("%s", text)
		}
	}
	if err == nil && (!difference.Empty() || len(compared.Weaker) > 0) {
		return quietly(exitFindings)
	}
	return err
}

// readSide reads one of the two states, and the definitions that say what is lent there, if it is by some.
func (a *App) readSide(ctx context.Context, c *cli.Command, path string) (work.Side, *estate.Estate, error) {
	if path == "live" { // a file of that name can be given as ./live
		files, err := a.readDefinitions(c.String("estate"))
		if err != nil {
			return work.Side{}, nil, err
		}
		d, err := a.understand(c, files)
		if err != nil {
			return work.Side{}, nil, err
		}
		e, err := a.liveEstate(ctx, c, d.Estate)
		return work.Side{Survey: e}, d.Estate, err
	}
	info, err := os.Stat(path)
	if err != nil && path != "-" {
		return work.Side{}, nil, fileError("file or folder", path, err)
	}
	if path == "-" || !info.IsDir() && filepath.Ext(path) != nomos.Extension {
		e, err := a.readSurvey(path)
		return work.Side{Survey: e}, nil, err
	}
	files, err := a.readDefinitions(path)
	if err != nil {
		return work.Side{}, nil, err
	}
	if len(files) == 0 {
		return work.Side{}, nil, usage("there are no definitions (*%s) in %s", nomos.Extension, folderName(path))
	}
	d := nomos.Understand(files, a.meaning(c.String("estate")))
	return work.Side{Definitions: &d}, d.Estate, nil
}

// comparedOn finds the survey on which definitions are compared: the other side, or that of
// --survey.
func (a *App) comparedOn(c *cli.Command, sides [2]work.Side) (*estate.Estate, error) {
	file := c.String("survey")
	for _, s := range sides {
		if s.Survey != nil && a.given("survey") {
			return nil, usage("--survey is for two folders of definitions, and one of the two sides is a survey: " +
				"leave it out")
		}
		if s.Survey != nil {
			return s.Survey, nil
		}
	}
	if file == "" {
		return nil, nil
	}
	return a.readSurvey(file)
}
