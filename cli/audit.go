package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/core/near"
	"isonomos/render"
)

func (a *App) auditCommand() *cli.Command {
	return &cli.Command{
		Name:      "audit",
		Usage:     "find what is open or wrong, worst first",
		ArgsUsage: "[flags]",
		Description: "Audits definitions, a survey, or definitions on a survey's instances, routes and addresses: then a\n" +
			"finding tells where it arrives. What one rule causes is one finding, named after the worst check.\n\n" +
			"  isonomos audit --survey survey.jsonl\n" +
			"  isonomos audit --survey survey.jsonl --as-surveyed --format json\n" +
			"  isonomos audit --check open-admin-port,open-data-port --fail-on high\n\n" +
			"checks:\n" + checkList(),
		Flags: []cli.Flag{
			estateFlag(), surveyFlag(), asSurveyedFlag(), formatFlag("json"),
			&cli.StringSliceFlag{Name: "check", Usage: "show only findings of `CHECK` (several parted by commas)"},
			&cli.StringFlag{Name: "fail-on", Value: "low", Usage: "exit 1 if a finding is at least of `SEVERITY`: " + strings.Join(audit.SeverityNames(), ", ") + ", or never", Validator: oneOf(append(audit.SeverityNames(), "never")...)},
		},
		Action: a.audit,
	}
}

func checkList() string {
	var b strings.Builder
	for _, c := range audit.Checks {
		b.WriteString("  " + render.Pad(c.Name, 18) + c.About + "\n")
	}
	return strings.TrimRight(b.String(), "\n")
}

func (a *App) audit(_ context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return usage("audit takes no argument %q: name definitions with --estate and a survey with --survey", c.Args().First())
	}
	if err := knownChecks(c.StringSlice("check")); err != nil {
		return err
	}
	w, err := a.world(c)
	if err != nil {
		return err
	}
	for _, n := range w.Notes {
		a.note("%s", n)
	}
	findings, left := audit.Run(decide.New(w.Estate), audit.Options{Checks: c.StringSlice("check"), Expects: w.Expects})
	if c.String("format") == "json" {
		if err := render.FindingsJSON(a.Stdout, w.Estate, findings, left); err != nil {
			return err
		}
	} else {
		s := a.screen(c)
		render.Findings(s, w.Estate, findings, left)
		if s.Err() != nil {
			return s.Err()
		}
	}
	limit, ok := audit.ParseSeverity(c.String("fail-on"))
	if ok && slices.ContainsFunc(findings, func(f audit.Finding) bool { return f.Severity >= limit }) {
		return quietly(exitFindings)
	}
	return nil
}

func knownChecks(names []string) error {
	var known []string
	for _, c := range audit.Checks {
		known = append(known, c.Name)
	}
	for _, name := range names {
		if _, ok := audit.Find(name); ok {
			continue
		}
		if best, ok := near.Best(name, known); ok {
			return usage("there is no check %q: %q is near", name, best)
		}
		return usage("there is no check %q: the checks are %s", name, strings.Join(known, ", "))
	}
	return nil
}
