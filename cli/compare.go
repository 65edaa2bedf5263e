package cli

import (
	"context"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"isonomos/core/change"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/nomos"
	"isonomos/render"
	"isonomos/work"
)

func (a *App) compareCommand() *cli.Command {
	return &cli.Command{
		Name:      "compare",
		Usage:     "what opens and what closes between two states",
		ArgsUsage: "[flags] BEFORE AFTER",
		Description: "Compares two surveys, two folders of definitions, or definitions and a survey: first the traffic that\n" +
			"opens and closes, the most important first, with its cause, an example and the instances concerned;\n" +
			"then what routes, addresses and balancers open and close; then rules. What is written differently and\n" +
			"lets through the same is said to be equal. Definitions are compared with a survey as they would be once\n" +
			"carried out on it; two folders on the survey named by --survey, or without one with made-up members.\n\n" +
			"  isonomos compare survey.jsonl .\n" +
			"  isonomos compare old/ new/ --survey survey.jsonl\n" +
			"  isonomos compare monday.jsonl friday.jsonl --format md\n" +
			"  isonomos compare live .\n\n" +
			"live stands for the clouds themselves, as isonomos survey reads them, by the definitions in --estate.\n" +
			"Exit 1 if they differ.",
		Flags:  []cli.Flag{estateFlag(), surveyFlag(), formatFlag("json", "md")},
		Action: a.compare,
	}
}

// A side is one of the states that are compared: definitions or a survey.
type side struct {
	definitions *nomos.Definitions
	survey      *estate.Estate
}

func (a *App) compare(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 2 {
		return usage("compare takes two states, each a survey or a folder of definitions: isonomos compare survey.jsonl .")
	}
	var sides [2]side
	for k, path := range c.Args().Slice() {
		var err error
		if sides[k], err = a.readSide(ctx, c, path); err != nil {
			return err
		}
	}
	before, after, surveyed, err := a.compared(c, sides)
	if err != nil {
		return err
	}
	var difference change.Difference
	var notes []string
	if surveyed {
		difference = change.Compare(decide.New(before), decide.New(after))
	} else {
		difference, notes = change.CompareDefinitions(before, after)
	}
	switch c.String("format") {
	case "json":
		err = render.ComparisonJSON(a.Stdout, difference, notes, a.unread)
	case "md":
		err = render.ComparisonMarkdown(a.Stdout, after, difference, c.Args().Get(0), c.Args().Get(1), notes, a.unread)
	default:
		s := a.screen(c)
		render.Comparison(s, after, difference, c.Args().Get(0), c.Args().Get(1))
		err = s.Err()
		for _, text := range notes {
			a.note("%s", text)
		}
	}
	if err == nil && !difference.Empty() {
		return quietly(exitFindings)
	}
	return err
}

func (a *App) readSide(ctx context.Context, c *cli.Command, path string) (side, error) {
	if path == "live" { // a file of that name is ./live
		files, err := a.readDefinitions(c.String("estate"))
		if err != nil {
			return side{}, err
		}
		d, err := a.understand(c, files)
		if err != nil {
			return side{}, err
		}
		e, err := a.liveEstate(ctx, c, d.Estate)
		return side{survey: e}, err
	}
	info, err := os.Stat(path)
	if err != nil && path != "-" {
		return side{}, fileError("file or folder", path, err)
	}
	if path == "-" || !info.IsDir() && filepath.Ext(path) != nomos.Extension {
		e, err := a.readSurvey(path)
		return side{survey: e}, err
	}
	files, err := a.readDefinitions(path)
	if err != nil {
		return side{}, err
	}
	if len(files) == 0 {
		return side{}, usage("there are no definitions (*%s) in %s", nomos.Extension, folderName(path))
	}
	d := nomos.Understand(files, a.meaning(c.String("estate")))
	return side{definitions: &d}, nil
}

// compared makes the two estates that are held against each other, and says whether a survey
// tells of what is there.
func (a *App) compared(c *cli.Command, sides [2]side) (before, after *estate.Estate, surveyed bool, err error) {
	var survey *estate.Estate
	for _, s := range sides {
		if survey == nil {
			survey = s.survey
		}
	}
	switch file := c.String("survey"); {
	case survey != nil && a.given("survey"):
		return nil, nil, false, usage("--survey is for two folders of definitions, and one of the two sides is a survey: leave it out")
	case survey == nil && file != "":
		if survey, err = a.readSurvey(file); err != nil {
			return nil, nil, false, err
		}
	}
	var estates [2]*estate.Estate
	for k, s := range sides {
		switch {
		case s.survey != nil:
			estates[k] = s.survey
		default:
			if err := a.accept(s.definitions, survey); err != nil {
				return nil, nil, false, err
			}
			w := work.NewWorld(*s.definitions, survey)
			for _, n := range w.Notes {
				a.note("%s", n)
			}
			estates[k] = w.Estate
		}
	}
	return estates[0], estates[1], survey != nil, nil
}
