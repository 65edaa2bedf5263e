package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/near"
	"isonomos/render"
	"isonomos/work"
)

func init() { addCommand(50, (*App).auditCommand) }

func (a *App) auditCommand() *cli.Command {
	severities := audit.SeverityNames()
	return &cli.Command{
		Name:      "audit",
		Metadata:  noArguments("name definitions with --estate and a survey with --survey"),
		Usage:     "find what is open or wrong, worst first",
		ArgsUsage: "[flags]",
		Description: "Audits definitions, a survey, or both. With a survey, a finding tells where the " +
			"traffic arrives. All that one rule causes is one finding, named after the worst check. Laws are judged " +
			"too. What is exempted comes last and does not fail. With definitions and a survey, both states are " +
			"judged: the clouds as they are, and as they will be once the definitions are carried out. A finding " +
			"that holds in only one of them says so.\n\n" +
			"  isonomos audit --survey survey.jsonl\n" +
			"  isonomos audit --survey survey.jsonl --by folder\n" +
			"  isonomos audit --survey survey.jsonl --over \"folder = harbour/water\" --direction in --severity " +
			"high\n" +
			"  isonomos audit --survey survey.jsonl --why 1b1eadbe\n" +
			"  isonomos audit --survey survey.jsonl --format json > before.json\n" +
			"  isonomos audit --survey survey.jsonl --since before.json --fail-at high\n\n" +
			"checks (isonomos explain CHECK tells more):\n" + checkList(),
		Flags: append([]cli.Flag{
			estateFlag(), surveyFlag(), liveFlag(), stateFlag(true), formatFlag("json", "sarif", "junit", "csv", "md"),
			overFlag("", "stage = production"),
			&cli.StringFlag{Name: "direction", Value: "both", Usage: "only what goes `WAY`: in, out or both",
				Validator: oneOf("in", "out", "both")},
			checkFlag(""),
			&cli.StringFlag{Name: "service", Usage: "only findings on a `SERVICE`, by name, as tcp 8080, or " +
				"class admin"},
			severityFlag(""),
			&cli.StringFlag{Name: "by", Usage: "show totals by `WHAT`: " + strings.Join(render.Groupings, ", "),
				Validator: oneOf(render.Groupings...)},
			&cli.StringFlag{Name: "why", Usage: "show one `FINDING` whole and how it came by its severity: its " +
				"fingerprint, or the beginning of it"},
			&cli.StringFlag{Name: "since", Usage: "tell what is new, worse, better or gone since the audit in " +
				"`FILE` (--format json, same flags)"},
			&cli.BoolFlag{Name: "keep", Usage: "keep the result in the store, and tell since when each finding " +
				"has held there; audits with other filters are kept apart"},
			&cli.IntFlag{Name: "limit", Value: 100, Usage: "show at most `N` findings on a terminal; 0 shows all",
				Validator: notNegative},
			&cli.StringFlag{Name: "fail-at", Value: "low", Usage: "exit 1 if a finding (with --since: a new one, " +
				"or one that got worse) is at least of `SEVERITY`: " + strings.Join(severities, ", ") + ", or never",
				Validator: oneOf(append(severities, "never")...)},
		}, evidenceFlags("report rules that let through none of")...),
		Action: a.audit,
	}
}

func notNegative(n int) error {
	if n < 0 {
		return fmt.Errorf("it can't be negative")
	}
	return nil
}

func checkList() string {
	var b strings.Builder
	for _, c := range audit.Checks {
		b.WriteString("  " + render.Pad(c.Name, 21) + c.About + "\n")
	}
	return strings.TrimRight(b.String(), "\n")
}

func (a *App) audit(ctx context.Context, c *cli.Command) error {
	for _, err := range []error{a.without(c, "why", "by", "limit"), a.oneWay(c, "by", "since")} {
		if err != nil {
			return err
		}
	}
	if format := c.String("format"); c.String("by") != "" && !slices.Contains([]string{"text", "json", "csv"}, format) {
		return usage("--by counts as text, json or csv, not as %s", format)
	}
	if format := c.String("format"); c.String("why") != "" && format != "text" && format != "json" {
		return usage("--why shows one finding as text or json, not as %s", format)
	}
	o := audit.Options{Checks: c.StringSlice("check"), Now: a.Now()}
	o.Least, _ = audit.ParseSeverity(c.String("severity"))
	if way := c.String("direction"); way != "both" {
		o.Direction = estate.Direction(way)
	}
	var err error
	if o.Over, err = work.Condition("--over", c.String("over")); err != nil {
		return err
	}
	var earlier *render.EarlierAudit
	if file := c.String("since"); file != "" {
		if earlier, err = a.readFindings(file); err != nil {
			return err
		}
	}
	if o.Flows, err = a.evidenceOf(ctx, c); err != nil {
		return err
	}
	w, err := a.world(ctx, c)
	if err != nil {
		return err
	}
	for _, n := range w.Notes {
		a.note("%s", n)
	}
	if err := a.knownChecks(o.Checks, w); err != nil {
		return err
	}
	if err := a.overKnown(o.Over, w.Estate); err != nil {
		return err
	}
	if o.Services, err = work.Services(w.Estate, c.String("service")); err != nil {
		return err
	}
	o.Exemptions = w.Definitions.Exemptions
	judged, err := w.Judge(work.State(c.String("state")), true)
	if err != nil {
		return err
	}
	if last := judged[len(judged)-1]; len(last.Laws) > 0 {
		d := decide.New(last.Estate)
		for _, l := range last.Laws {
			if law.Over(d, l) == 0 {
				a.note("%s", overNothing(l))
			}
		}
	}
	shown := auditStates(w, judged, o)
	shown.Version, shown.Say, shown.Source = a.Version, a.say(c), a.sourceOf(c, w.Definitions.Files)
	limit, ok := audit.ParseSeverity(c.String("fail-at"))
	shown.FailOn, shown.Never = limit, !ok
	shown.Filters = render.Filters{Over: c.String("over"), Direction: c.String("direction"), Checks: listed(o.Checks),
		Service: c.String("service"), Severity: c.String("severity"), Evidence: o.Flows != nil}
	if earlier != nil {
		if err := a.comparable(*earlier, shown, c.String("since")); err != nil {
			return err
		}
		change := audit.Since(shown.Result.Findings, earlier.Findings)
		shown.Change = &change
		// what is new comes first, then what is worse
		slices.SortStableFunc(shown.Result.Findings, func(x, y audit.Finding) int {
			order := map[audit.Trend]int{audit.New: 0, audit.Worse: 1}
			place := func(f audit.Finding) int {
				if k, ok := order[change.Of[f.Fingerprint].Trend]; ok {
					return k
				}
				return len(order)
			}
			return cmp.Compare(place(x), place(y))
		})
	}
	if c.Bool("keep") {
		if shown.Held, err = a.keepAudit(ctx, c, shown); err != nil {
			return err
		}
	}
	if prefix := c.String("why"); prefix != "" {
		return a.why(c, shown, prefix)
	}
	if err := a.showAudit(c, w, shown); err != nil {
		return err
	}
	if slices.ContainsFunc(shown.Result.Findings, shown.Fails) {
		return quietly(exitFindings)
	}
	return nil
}

// keepAudit keeps an audit in the store, and returns since when each finding has held.
func (a *App) keepAudit(ctx context.Context, c *cli.Command, shown render.Audit) (map[string]time.Time, error) {
	s, err := a.openStore(c, true)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	asked := struct {
		State string
		render.Filters
	}{shown.State, shown.Filters}
	k, err := work.KeepAudit(ctx, s, asked, shown.Result.Findings, shown.Estate, a.Now().UTC())
	if err != nil {
		return nil, err
	}
	words := []string{render.Count(k.New, "new finding", "new findings"), render.Number(k.Ended) + " gone"}
	if k.LeftUnknown > 0 {
		words = append(words, render.Number(k.LeftUnknown)+" in accounts that were not read, left as they were")
	}
	if k.First {
		words = []string{"it is the first one"}
	}
	a.note("kept in %s: %s", storePath(c), strings.Join(words, ", "))
	return k.Since, nil
}

// comparable refuses to compare two audits with different filters: what one of them did not look
// for would be reported as new or gone.
func (a *App) comparable(earlier render.EarlierAudit, now render.Audit, file string) error {
	if earlier.Filters == nil {
		a.note("%s does not say with which filters that audit was made, since an older version of the program "+
			"wrote it: they are taken to be the same", shownName(file))
		return nil
	}
	if differ := earlier.Filters.Differences(now.Filters); len(differ) > 0 {
		return usage("--since compares audits with the same filters, and %s had others: %s",
			shownName(file), strings.Join(differ, ", "))
	}
	if earlier.State != now.State {
		return usage(
			"--since compares audits of the same state: %s judged %s, and this one judges %s: say --state %s",
			shownName(file), render.StateWords(earlier.State), render.StateWords(now.State), earlier.State)
	}
	return nil
}

// overNothing warns of a law whose condition matches no group.
func overNothing(l law.Law) string {
	return fmt.Sprintf("%s:%d: the law %s is over no group: its condition holds nowhere", l.Origin.File,
		l.Origin.Line, l.Name)
}

// auditStates audits the state that was asked for, or both and joins what they have in common.
func auditStates(w work.World, judged []work.Judged, o audit.Options) render.Audit {
	state, result := w.Audit(judged, o)
	return render.Audit{Estate: judged[len(judged)-1].Estate, State: state, Result: result, Lent: work.Lent(w.Passes)}
}

// showAudit writes an audit in the requested format.
func (a *App) showAudit(c *cli.Command, w work.World, shown render.Audit) error {
	by, format := c.String("by"), c.String("format")
	switch {
	case by != "" && format == "json":
		return render.TotalsJSON(a.Stdout, shown, by)
	case by != "" && format == "csv":
		return render.TotalsCSV(a.Stdout, shown, by)
	}
	switch format {
	case "json":
		return render.FindingsJSON(a.Stdout, shown)
	case "sarif":
		shown.Fixes = fixes(w, shown.Result.Findings)
		return render.FindingsSARIF(a.Stdout, shown)
	case "junit":
		return render.FindingsJUnit(a.Stdout, shown)
	case "csv":
		return render.FindingsCSV(a.Stdout, shown)
	case "md":
		return render.FindingsMarkdown(a.Stdout, shown)
	}
	s := a.screen(c)
	if by != "" {
		render.Totals(s, shown, by, c.Int("limit"))
	} else {
		render.Findings(s, shown, c.Int("limit"))
	}
	return s.Err()
}

// why shows the one finding whose fingerprint begins with the given text.
func (a *App) why(c *cli.Command, shown render.Audit, prefix string) error {
	var found []audit.Finding
	var names []string
	for _, f := range shown.Result.Findings {
		names = append(names, f.Fingerprint[:min(8, len(f.Fingerprint))])
		if strings.HasPrefix(f.Fingerprint, strings.ToLower(prefix)) {
			found = append(found, f)
		}
	}
	switch {
	case len(found) == 0 && len(shown.Result.Findings) == 0:
		return usage("there is no finding %q: nothing was found", prefix)
	case len(found) == 0:
		if best, ok := near.Best(prefix, names); ok {
			return usage("there is no finding %q: %s is near", prefix, best)
		}
		return usage("there is no finding %q: %s shows the fingerprints behind the names", prefix, a.say(c)("audit"))
	case len(found) > 1:
		return usage("%d findings begin with %q: give more of the fingerprint, such as %s", len(found), prefix,
			found[0].Fingerprint)
	}
	if c.String("format") == "json" {
		shown.Result.Findings = found
		return render.FindingsJSON(a.Stdout, shown)
	}
	s := a.screen(c)
	render.Finding(s, shown, found[0])
	return s.Err()
}

// readFindings reads what an earlier audit wrote.
func (a *App) readFindings(path string) (*render.EarlierAudit, error) {
	in, err := a.open(path)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	earlier, err := render.ReadFindings(in)
	if err != nil {
		return nil, usage("%s: %w", shownName(path), err)
	}
	return &earlier, nil
}

// knownChecks refuses names of checks and laws that do not exist. Old names of checks are replaced
// in names by today's, with a note.
func (a *App) knownChecks(names []string, w work.World) error {
	var known []string
	for _, c := range audit.Checks {
		known = append(known, c.Name)
	}
	for _, l := range w.Laws {
		known = append(known, audit.LawPrefix+l.Name)
	}
	for k, name := range names {
		if slices.Contains(known, name) {
			continue
		}
		if now, renamed := audit.CheckName(name); renamed {
			a.note("the check %q is called %q now", name, now)
			names[k] = now
			continue
		}
		if best, ok := near.Best(name, known); ok {
			return usage("there is no check %q: %q is near", name, best)
		}
		return usage("there is no check %q: isonomos explain lists the checks", name)
	}
	return nil
}

// fixes are edits of the definitions that remove findings: a rule that can't take effect is deleted
// where it is written for one group alone.
func fixes(w work.World, found []audit.Finding) map[string]render.Fix {
	all := make(map[string]render.Fix)
	for _, f := range found {
		if f.Check != "overruled" || len(f.Rules) != 1 {
			continue
		}
		if file, change, ok := w.Removal(f.Group, f.Rules[0]); ok {
			all[f.Fingerprint] = render.Fix{About: "delete the rule: others decide all of it", File: file,
				Offset: int(change.Span.Start), Length: int(change.Span.End - change.Span.Start), Inserted: change.Text}
		}
	}
	return all
}
