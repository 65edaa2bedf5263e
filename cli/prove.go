package cli

import (
	"context"
	"slices"

	"github.com/urfave/cli/v3"

	"isonomos/core/decide"
	"isonomos/core/law"
	"isonomos/render"
)

func (a *App) proveCommand() *cli.Command {
	return &cli.Command{
		Name:      "prove",
		Usage:     "decide every expectation and every law",
		ArgsUsage: "[flags]",
		Description: "Decides every expect of the definitions over the whole path: routes, filters at both ends, and for\n" +
			"sets of traffic, not samples; and every law over all defined and surveyed groups, exemptions honoured.\n" +
			"What fails is shown with an example and the rule behind it. Without a survey, a group is given a\n" +
			"made-up member in each subnet, and ways are assumed.\n\n" +
			"  isonomos prove --survey survey.jsonl\n\n" +
			"Exit 1 if an expectation or a law does not hold.",
		Flags:  []cli.Flag{estateFlag(), surveyFlag(), liveFlag(), formatFlag("json")},
		Action: a.prove,
	}
}

func (a *App) prove(ctx context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return usage("prove takes no argument %q: name definitions with --estate and a survey with --survey", c.Args().First())
	}
	w, err := a.world(ctx, c)
	if err != nil {
		return err
	}
	for _, n := range w.Notes {
		a.note("%s", n)
	}
	verdicts, idle := law.Judge(decide.New(w.Estate), w.Laws, w.Definitions.Exemptions, a.Now())
	for _, e := range idle {
		a.note("%s:%d: the exemption of %s from %s exempts nothing", e.Origin.File, e.Origin.Line, e.Subject, e.Law)
	}
	results := law.Prove(w.Estate, w.Expects)
	if c.String("format") == "json" {
		if err := render.ProofJSON(a.Stdout, w.Estate, results, verdicts); err != nil {
			return err
		}
	} else {
		s := a.screen(c)
		render.Proof(s, w.Estate, results, verdicts)
		if s.Err() != nil {
			return s.Err()
		}
	}
	failed := slices.ContainsFunc(verdicts, func(v law.Verdict) bool { return !v.Holds() })
	if failed || slices.ContainsFunc(results, func(r law.Result) bool { return !r.Holds }) {
		return quietly(exitFindings)
	}
	return nil
}
