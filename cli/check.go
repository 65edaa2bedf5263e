package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"isonomos/nomos"
	"isonomos/render"
)

func (a *App) checkCommand() *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "read definitions, report every mistake, show what they come to",
		ArgsUsage: "[flags] [FOLDER]",
		Description: "Reads all definitions of a folder together and says of every mistake where it stands and what to\n" +
			"write instead. Without a mistake it shows the groups with what each costs in rules of its cloud.\n\n" +
			"  isonomos check\n" +
			"  isonomos check harbour/\n" +
			"  isonomos check --format json\n\n" +
			"Exit 2 if there is a mistake, 1 if a group takes more rules than its quota allows.",
		Flags:  []cli.Flag{estateFlag(), formatFlag("json")},
		Action: a.check,
	}
}

func (a *App) check(_ context.Context, c *cli.Command) error {
	folder := c.String("estate")
	switch c.Args().Len() {
	case 0:
	case 1:
		folder = c.Args().First()
	default:
		return usage("check reads one folder: %d were named", c.Args().Len())
	}
	files, err := readDefinitions(folder)
	if err != nil {
		return err
	}
	if len(files) == 0 {
		return usage("there are no definitions (*%s) in %s", nomos.Extension, folderName(folder))
	}
	d, err := a.understand(c, files)
	if err != nil {
		return err
	}
	s := a.screen(c)
	over := render.OverQuota(d.Estate)
	if c.String("format") == "json" {
		err = render.DefinitionsJSON(a.Stdout, d)
	} else {
		render.Definitions(s, d)
		err = s.Err()
	}
	for _, text := range over {
		a.note("over quota: %s", text)
	}
	if err == nil && len(over) > 0 {
		return quietly(exitFindings)
	}
	return err
}
