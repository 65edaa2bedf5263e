package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"isonomos/core/compile"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/nomos"
	"isonomos/nomos/propose"
	"isonomos/render"
)

func (a *App) checkCommand() *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "read definitions, report every mistake, show what they come to",
		ArgsUsage: "[flags] [FOLDER]",
		Description: "Reads all definitions of a folder together and says of every mistake where it stands and what to\n" +
			"write instead. Then it compiles every group for its cloud and decides the result: equal to the\n" +
			"definition, or a mistake with an example. Without one it shows what each group costs. With a survey\n" +
			"it also warns of health probes that a balancer's targets, or its own groups, would shut out.\n\n" +
			"  isonomos check\n" +
			"  isonomos check harbour/\n" +
			"  isonomos check --rules --survey survey.jsonl\n" +
			"  isonomos check --format json\n\n" +
			"Exit 2 if there is a mistake, 1 if a group takes more rules than its quota allows.",
		Flags: []cli.Flag{estateFlag(), surveyFlag(), formatFlag("json"),
			&cli.BoolFlag{Name: "rules", Usage: "show the rules that each group becomes in its cloud"}},
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
	var survey *estate.Estate
	if file := c.String("survey"); file != "" {
		if survey, err = a.readSurvey(file); err != nil {
			return err
		}
	}
	var compiled []compile.Compiled
	costs := make(compile.Costs)
	world := propose.NewWorld(d, survey)
	failures := world.Compile(func(made compile.Compiled) {
		dialect := decide.Dialect(made.Group.Account)
		costs[made.Group.Path()] = struct{ In, Out int }{compile.GroupCost(dialect, made.Group, estate.In), compile.GroupCost(dialect, made.Group, estate.Out)}
		if c.Bool("rules") {
			compiled = append(compiled, made)
		}
	})
	for _, f := range failures {
		fmt.Fprintf(a.Stderr, "%s:%d: %s: %s\n", f.Origin().File, f.Origin().Line, render.Clean(f.Group.Path()), render.Clean(f.Reason))
	}
	if len(failures) > 0 {
		return usage("%d of %d groups can't be expressed in their clouds", len(failures), len(d.Estate.Groups))
	}
	s := a.screen(c)
	if c.Bool("rules") {
		render.CompiledRules(s, d.Estate, compiled)
		return s.Err()
	}
	over := render.OverQuota(d.Estate, costs)
	if c.String("format") == "json" {
		err = render.DefinitionsJSON(a.Stdout, d, costs)
	} else {
		render.Definitions(s, d, costs)
		err = s.Err()
	}
	a.shutProbes(world)
	for _, text := range over {
		a.note("over quota: %s", text)
	}
	if err == nil && len(over) > 0 {
		return quietly(exitFindings)
	}
	return err
}

// shutProbes warns of health probes that definitions shut out: the balancer
// would take instances that are well out of service.
func (a *App) shutProbes(w propose.World) {
	if w.Survey == nil {
		return // definitions know of no balancers
	}
	d := decide.New(w.Estate)
	targets := make(map[string][]string) // by what there is to say of them
	var order []string
	for _, p := range d.ShutTargets() {
		if !p.Probe {
			continue
		}
		why := p.Answer.Why()
		end, wanted := p.Answer.Destination, fmt.Sprintf("admit %s from probes", p.Service)
		if why.At == p.Balancer.Name {
			end, wanted = p.Answer.Source, fmt.Sprintf("reach %s at the targets", p.Service)
		}
		var defined []string
		for _, g := range d.Worn(end.Interface) {
			if g.Defined {
				defined = append(defined, g.Path())
			}
		}
		if why.Verdict != decide.Stopped || len(defined) == 0 {
			continue
		}
		text := fmt.Sprintf("%s shuts out the health probes of %s: it needs a rule such as %s", strings.Join(defined, " and "), p.Balancer.Name, wanted)
		if targets[text] == nil {
			order = append(order, text)
		}
		targets[text] = append(targets[text], p.Target.Name)
	}
	for _, text := range order {
		a.note("%s (%s)", text, strings.Join(targets[text], ", "))
	}
}
