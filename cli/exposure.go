package cli

import (
	"context"
	"slices"
	"strconv"

	"github.com/urfave/cli/v3"

	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/near"
	"isonomos/render"
	"isonomos/work"
)

func init() { addCommand(60, (*App).exposureCommand) }

func (a *App) exposureCommand() *cli.Command {
	return &cli.Command{
		Name:      "exposure",
		Metadata:  noArguments("say whom with --from and whose with --to"),
		Usage:     "what strangers, or any peer, can really reach",
		ArgsUsage: "[flags]",
		Description: "Shows for each instance of a survey what really arrives there, after routes, public " +
			"addresses, filters of both layers and balancers: which services, from whom, and through " +
			"which rules.\n\n" +
			"  isonomos exposure --survey survey.jsonl\n" +
			"  isonomos exposure --survey survey.jsonl --matrix\n" +
			"  isonomos exposure --survey survey.jsonl --from rig-1 --over \"stage = production\"\n" +
			"  isonomos exposure --survey survey.jsonl --direction out --to berth-ledger",
		Flags: []cli.Flag{
			estateFlag(), surveyFlag(), liveFlag(), stateFlag(false), formatFlag("json"),
			&cli.StringFlag{Name: "from", Value: "internet", Usage: "who reaches (or with --direction out is " +
				"reached): internet, a list, group or instance by name, an address or range, as `PEER`"},
			&cli.StringFlag{Name: "to", Usage: "only this `INSTANCE` or the members of this group"},
			overFlag("", "stage = production"),
			&cli.StringFlag{Name: "direction", Value: "in", Usage: "`WAY`: in (what can be reached here), out " +
				"(what can be reached from here)", Validator: oneOf("in", "out")},
			&cli.BoolFlag{Name: "matrix", Usage: "a table of groups and services"},
		},
		Action: a.exposure,
	}
}

func (a *App) exposure(ctx context.Context, c *cli.Command) error {
	if c.Bool("matrix") && c.String("format") != "text" {
		return usage("--matrix is a table for reading: leave --format out")
	}
	over, err := work.Condition("--over", c.String("over"))
	if err != nil {
		return err
	}
	w, err := a.world(ctx, c)
	if err != nil {
		return err
	}
	for _, n := range w.Notes {
		a.note("%s", n)
	}
	if len(w.Estate.Instances) == 0 {
		return usage("definitions name no instances: give a survey with --survey FILE")
	}
	judged, err := w.Judge(work.State(c.String("state")), false)
	if err != nil {
		return err
	}
	now := judged[0]
	if err := a.overKnown(over, w.Estate); err != nil {
		return err
	}
	direction := estate.Direction(c.String("direction"))
	exposed := func(e *estate.Estate) (*decide.Decider, []decide.Exposed, error) {
		d := decide.New(e)
		peers, err := work.Peers(d, e, c.String("from"))
		if err != nil {
			return nil, nil, err
		}
		keep, err := work.Interfaces(d, e, c.String("to"))
		if err != nil {
			return nil, nil, err
		}
		return d, slices.DeleteFunc(d.Exposure(peers, direction), func(x decide.Exposed) bool {
			return !keep(x.Interface) || over != nil && !over.Holds(estate.InterfacePlace(x.Interface))
		}), nil
	}
	d, found, err := exposed(now.Estate)
	if err != nil {
		return err
	}
	seen := render.Seen{State: string(now.State)}
	if later := w.Once(now); later != nil {
		if then, list, err := exposed(later.Estate); err == nil {
			seen.Then, seen.Exposed = then, make(map[string]decide.Exposed, len(list))
			for _, x := range list {
				seen.Exposed[render.WhereOf(x.Interface)] = x
			}
		}
	}
	if c.String("format") == "json" {
		return render.ExposureJSON(a.Stdout, now.Estate, found, direction, string(now.State))
	}
	s := a.screen(c)
	if c.Bool("matrix") {
		render.ExposureMatrix(s, d, found, string(now.State))
	} else {
		who := c.String("from")
		if who == "internet" {
			who = "strangers"
		}
		render.Exposure(s, d, found, direction, who, seen)
	}
	return s.Err()
}

// overKnown is conditionKnown for --over.
func (a *App) overKnown(over *estate.Condition, e *estate.Estate) error {
	return a.conditionKnown("--over", over, e)
}

// conditionKnown refuses a condition with a label that nothing has, or with a value that
// nothing has and where it matches nothing: otherwise nothing would be looked at, and nothing
// found.
func (a *App) conditionKnown(of string, over *estate.Condition, e *estate.Estate) error {
	if over == nil {
		return nil
	}
	known := e.Vocabulary()
	holds := slices.ContainsFunc(e.Groups, func(g *estate.Group) bool { return over.Holds(estate.GroupPlace(g)) }) ||
		slices.ContainsFunc(e.Instances, func(i *estate.Instance) bool {
			return slices.ContainsFunc(i.Interfaces,
				func(f *estate.Interface) bool { return over.Holds(estate.InterfacePlace(f)) })
		})
	for _, test := range over.Tests() {
		values, ok := known[test.Label]
		if !ok {
			if best, near := near.Best(test.Label, known.Names()); near {
				return usage("%s: nothing has a label %q: %q is near", of, test.Label, best)
			}
			return usage("%s: nothing has a label %q: the labels are %s", of, test.Label, work.Some(known.Names()))
		}
		for _, value := range test.Values {
			if known.Has(test.Label, value) {
				continue
			}
			hint := "there are " + work.Some(values)
			if best, near := near.Best(value, values); near {
				hint = strconv.Quote(best) + " is near"
			}
			if !holds {
				return usage("%s: nothing has the %s %q, and nothing else is asked for: %s", of, test.Label, value,
					hint)
			}
			a.note("%s: nothing has the %s %q: %s", of, test.Label, value, hint)
		}
	}
	if !holds {
		a.note("%s holds nowhere: there is nothing to look at", of)
	}
	return nil
}
