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
			"  isonomos check harbour/",
		Flags:  []cli.Flag{estateFlag()},
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
	render.Definitions(s, d.Estate, len(d.Files), len(d.Expects))
	return s.Err()
}
