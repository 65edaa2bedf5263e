package cli

import (
	"context"
	"slices"

	"github.com/urfave/cli/v3"

	"isonomos/core/law"
	"isonomos/render"
)

func (a *App) proveCommand() *cli.Command {
	return &cli.Command{
		Name:      "prove",
		Usage:     "decide everything that the definitions expect",
		ArgsUsage: "[flags]",
		Description: "Decides every expect of the definitions over the whole path: routes, filters at both ends, and for\n" +
			"sets of traffic, not samples. What fails is shown with an example and the rule behind it. Without a\n" +
			"survey, a group is given a made-up member in each subnet, and ways are assumed.\n\n" +
			"  isonomos prove --survey survey.jsonl\n\n" +
			"Exit 1 if an expectation does not hold.",
		Flags:  []cli.Flag{estateFlag(), surveyFlag(), formatFlag("json")},
		Action: a.prove,
	}
}

func (a *App) prove(_ context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return usage("prove takes no argument %q: name definitions with --estate and a survey with --survey", c.Args().First())
	}
	w, err := a.world(c)
	if err != nil {
		return err
	}
	for _, n := range w.Notes {
		a.note("%s", n)
	}
	results := law.Prove(w.Estate, w.Expects)
	if c.String("format") == "json" {
		if err := render.ProofJSON(a.Stdout, w.Estate, results); err != nil {
			return err
		}
	} else {
		s := a.screen(c)
		render.Proof(s, w.Estate, results)
		if s.Err() != nil {
			return s.Err()
		}
	}
	if slices.ContainsFunc(results, func(r law.Result) bool { return !r.Holds }) {
		return quietly(exitFindings)
	}
	return nil
}
