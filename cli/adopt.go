package cli

import (
	"cmp"
	"context"
	"path"
	"strconv"

	"github.com/urfave/cli/v3"

	"isonomos/core/estate"
	"isonomos/render"
	"isonomos/work"
)

func init() { addCommand(110, (*App).adoptCommand) }

func (a *App) adoptCommand() *cli.Command {
	return &cli.Command{
		Name:      "adopt",
		Usage:     "write definitions of surveyed groups",
		ArgsUsage: "[flags] [GROUP ...]",
		Description: "Writes definitions of groups that are only in the survey: with names for identifiers, labels" +
			" for what they cover, reasons from descriptions, lists for repeated ranges, and services for" +
			" ports. The result is resolved and decided on the survey: it must let through the same, in " +
			"both directions, and be attached to the same instances. A group for which that is impossible" +
			" gets no definition, and is named with the reason.\n\n" +
			"  isonomos adopt ferry-site --survey survey.jsonl\n" +
			"  isonomos adopt --all --survey survey.jsonl --estate harbour --write\n" +
			"  isonomos adopt --all --over \"account = lab\" --survey survey.jsonl --diff",
		Flags: []cli.Flag{
			estateFlag(), surveyFlag(), liveFlag(),
			&cli.BoolFlag{Name: "all", Usage: "adopt every group that is not defined and not built in"},
			overFlag("with --all: ", "account = lab"),
			&cli.BoolFlag{Name: "diff", Usage: "write the new files as a unified diff, for git apply or patch -p1"},
			&cli.BoolFlag{Name: "write", Usage: "write the new files beside the definitions: one for each account"},
		},
		Action: a.adopt,
	}
}

func (a *App) adopt(ctx context.Context, c *cli.Command) error {
	switch {
	case a.onlyWith(c, "all", "over") != nil:
		return a.onlyWith(c, "all", "over")
	case c.String("survey") == "" && !c.Bool("live"):
		return usage("adopt needs a survey, which says what there is: --survey FILE, or --live")
	case c.Bool("all") == c.Args().Present():
		return usage("adopt needs groups, or --all: isonomos adopt ferry-site --survey survey.jsonl")
	}
	w, err := a.world(ctx, c)
	if err != nil {
		return err
	}
	for _, n := range w.Notes {
		a.note("%s", n)
	}
	for _, x := range w.Replaced() {
		shown := a.say(c)("compare", cmp.Or(c.String("survey"), "live"), cmp.Or(c.String("estate"), "."))
		a.note("%s is attached at %s beside %s, which is defined and replaces it: once that is carried out, what it "+
			"lets through is closed (%s shows it). To keep it, write: group %s%s in %s existing %s", x.Default.Path(),
			work.Some(x.At), x.By, shown, x.Default.Name,
			map[bool]string{true: " for subnets"}[x.Default.For == estate.ForSubnets], path.Dir(x.By),
			strconv.Quote(x.Default.ID))
	}
	groups, err := a.adoptable(c, w)
	if err != nil {
		return err
	}
	adopted, err := w.Adopt(groups, nil, estateFolder(c), a.meaning(c.String("estate")))
	if err != nil {
		return usage("%w", err)
	}
	a.tellLeft(adopted)
	switch {
	case c.Bool("diff"):
		err = a.writeDiffs(work.Result{}, adopted)
	case !c.Bool("write"):
		s := a.screen(c)
		render.Adoption(s, adopted)
		err = s.Err()
	}
	if err != nil || !c.Bool("write") {
		return err
	}
	changes := w.Changes(adopted, a.meaning(c.String("estate")))
	if err := a.writeFiles(adoptedFiles(adopted)); err != nil {
		return err
	}
	says := "each lets through what it did, and carrying them out changes nothing, as decided on the survey"
	if !changes.Empty() {
		s := a.screenFor(c, a.Stderr)
		render.Comparison(s, w.Estate, changes, nil, "what there was", "what is adopted")
		says = "but carrying them out changes what is let through, as above: read it before you draft"
	}
	a.note("adopted: %s; %s. They are changed only once they are marked as ours: %s",
		render.Count(len(adopted.Adopted), "group", "groups"), says, a.say(c)("draft", "--adopt", "all"))
	if !changes.Empty() {
		return quietly(exitFindings)
	}
	return nil
}

// adoptable finds the groups that the flags and arguments name.
func (a *App) adoptable(c *cli.Command, w work.World) ([]*estate.Group, error) {
	over, err := work.Condition("--over", c.String("over"))
	if err != nil {
		return nil, err
	}
	if err := a.overKnown(over, w.Estate); err != nil {
		return nil, err
	}
	var groups []*estate.Group
	if c.Bool("all") {
		for _, g := range w.Estate.Groups {
			if !g.Defined && !g.BuiltIn && (over == nil || over.Holds(estate.GroupPlace(g))) {
				groups = append(groups, g)
			}
		}
		if len(groups) == 0 {
			return nil, usage("there is nothing to adopt: every group of the survey, or within --over, is " +
				"defined already or built in")
		}
		return groups, nil
	}
	for _, name := range c.Args().Slice() {
		g, err := w.Group(name)
		if err != nil {
			return nil, usage("%w", err)
		}
		if g.Defined {
			return nil, usage("%s is defined already, at %s:%d", g.Path(), g.Origin.File, g.Origin.Line)
		}
		groups = append(groups, g)
	}
	return groups, nil
}
