package cli

import (
	"context"
	"slices"

	"github.com/urfave/cli/v3"

	"isonomos/core/decide"
	"isonomos/core/law"
	"isonomos/render"
	"isonomos/work"
)

func init() { addCommand(80, (*App).proveCommand) }

func (a *App) proveCommand() *cli.Command {
	return &cli.Command{
		Name:      "prove",
		Metadata:  noArguments("name definitions with --estate and a survey with --survey"),
		Usage:     "decide every expectation and every law",
		ArgsUsage: "[flags]",
		Description: "Decides every expectation of the definitions over the whole path: routes, balancers, and " +
			"filters at both ends, for exact sets of traffic and not for samples. It also judges every " +
			"law, on all groups, with its exemptions. What fails is shown with an example and the rule " +
			"behind it. Without a survey, each group gets a made-up member in each subnet, and routes are" +
			" assumed. With one, both states are judged: the clouds as they are, and as they will be once" +
			" the definitions are carried out. Where the two differ, both are shown.\n\n" +
			"  isonomos prove --survey survey.jsonl\n\n" +
			"Exit 1 if an expectation or a law does not hold, or can't be decided.",
		Flags: []cli.Flag{estateFlag(), surveyFlag(), liveFlag(), stateFlag(true),
			formatFlag("json", "sarif", "junit")},
		Action: a.prove,
	}
}

func (a *App) prove(ctx context.Context, c *cli.Command) error {
	w, err := a.world(ctx, c)
	if err != nil {
		return err
	}
	for _, n := range w.Notes {
		a.note("%s", n)
	}
	judged, err := w.Judge(work.State(c.String("state")), true)
	if err != nil {
		return err
	}
	proofs := make([]render.Proof, len(judged))
	failed := false
	for i, j := range judged {
		verdicts, idle := law.Judge(decide.New(j.Estate), j.Laws, w.Definitions.Exemptions, a.Now())
		for _, e := range idle {
			if i == len(judged)-1 {
				a.note("%s:%d: the exemption of %s from %s exempts nothing%s", e.Origin.File, e.Origin.Line,
					e.Subject, e.Law, map[bool]string{true: " once the definitions are carried out"}[len(judged) > 1])
			}
		}
		for _, v := range verdicts {
			if v.Groups == 0 && i == len(judged)-1 {
				a.note("%s", overNothing(v.Law))
			}
			failed = failed || !v.Holds()
		}
		results := law.Prove(j.Estate, j.Expects)
		failed = failed || slices.ContainsFunc(results, func(r law.Result) bool { return !r.Holds })
		proofs[i] = render.Proof{State: string(j.State), Estate: j.Estate, Results: results, Verdicts: verdicts}
	}
	switch c.String("format") {
	case "json":
		err = render.ProofsJSON(a.Stdout, proofs)
	case "sarif":
		err = render.PointsSARIF(a.Stdout, a.Version, render.ProofPoints(proofs), w.Estate.Unread,
			a.sourceOf(c, w.Definitions.Files))
	case "junit":
		err = render.PointsJUnit(a.Stdout, "isonomos prove", render.ProofPoints(proofs), w.Estate.Unread)
	default:
		s := a.screen(c)
		render.Proofs(s, proofs)
		err = s.Err()
	}
	if err == nil && failed {
		err = quietly(exitFindings)
	}
	return err
}
