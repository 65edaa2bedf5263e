package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"isonomos/nomos"
	"isonomos/nomos/parse"
	"isonomos/nomos/print"
	"isonomos/nomos/source"
	"isonomos/render"
	"isonomos/store/whole"
)

func init() { addCommand(30, (*App).tidyCommand) }

func (a *App) tidyCommand() *cli.Command {
	return &cli.Command{
		Name:      "tidy",
		Usage:     "write definitions in their one canonical layout",
		ArgsUsage: "[flags] [FOLDER|FILE ...]",
		Description: "Rewrites definition files in place: two spaces of indentation, one blank line between " +
			"declarations, aligned columns in similar neighbouring statements, and in a group first " +
			"cover, then labels, then rules. Rules keep their order, and comments stay where they are. " +
			"Tidying never changes what definitions mean; files are replaced whole or not at all.\n\n" +
			"  isonomos tidy\n" +
			"  isonomos tidy --diff harbour/tides.nomos\n" +
			"  isonomos tidy --list\n\n" +
			"With --list or --diff nothing is written, and the exit code is 1 if a file is untidy.",
		Flags: []cli.Flag{
			estateFlag(),
			&cli.BoolFlag{Name: "list", Usage: "only name the files that are untidy"},
			&cli.BoolFlag{Name: "diff", Usage: "only show what would change, as a unified diff"},
		},
		Action: a.tidy,
	}
}

func (a *App) tidy(_ context.Context, c *cli.Command) error {
	for _, err := range []error{a.oneWay(c, "list", "diff"), a.oneWay(c, "estate", arguments)} {
		if err != nil {
			return err
		}
	}
	paths := c.Args().Slice()
	if len(paths) == 0 {
		paths = []string{c.String("estate")}
	} else {
		a.notOfEnvironment(strings.Join(paths, ", "))
	}
	var files []*source.File
	for _, path := range paths {
		found, err := a.readDefinitions(path)
		if err != nil {
			return err
		}
		if len(found) == 0 {
			return usage("there are no definitions (*%s) in %s", nomos.Extension, folderName(path))
		}
		files = append(files, found...)
	}
	untidy, err := a.untidy(files)
	if err != nil {
		return err
	}
	if !c.Bool("diff") && !c.Bool("list") {
		for _, f := range files {
			whole.Clear(f.Name) // what a run that was killed has left
		}
	}
	if len(untidy) == 0 {
		return nil
	}
	switch {
	case c.Bool("diff"):
		for _, w := range untidy {
			if err := a.writeDiff(w.path, w.read, w.text); err != nil {
				return err
			}
		}
		return quietly(exitFindings)
	case c.Bool("list"):
		for _, w := range untidy {
			fmt.Fprintln(a.Stdout, a.forTerminal(w.path))
		}
		return quietly(exitFindings)
	}
	if err := writeWhole(untidy); err != nil {
		return err
	}
	for _, w := range untidy {
		a.note("tidied %s", w.path)
	}
	return nil
}

// untidy are the files whose text is not canonical, with their new text. If one file has mistakes,
// none is returned.
func (a *App) untidy(files []*source.File) ([]newFile, error) {
	var untidy []newFile
	var told []source.Message
	for _, f := range files {
		tree, messages := parse.File(f)
		told = append(told, messages...)
		if source.Errors(messages) > 0 {
			continue
		}
		if text := print.File(tree); text != f.Text {
			untidy = append(untidy, edited(f.Name, text, f.Text))
		}
	}
	a.tell(told)
	if n := source.Errors(told); n > 0 {
		return nil, usage("nothing was tidied: mend %s first", render.Count(n, "mistake", "mistakes"))
	}
	return untidy, nil
}
