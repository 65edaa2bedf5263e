package cli

import (
	"context"
	"slices"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/render"
	"isonomos/work"
)

func init() { addCommand(90, (*App).flowsCommand) }

func (a *App) flowsCommand() *cli.Command {
	return &cli.Command{
		Name:  "flows",
		Usage: "take evidence in, sum it, show it",
		Description: "Evidence is who talked to whom, on what, how often and on which days. It is summed while it " +
			"is read, and the sums of each day are kept in the store: one file beside the definitions. " +
			"narrow and audit use it.\n\n" +
			"  isonomos flows add flows.csv capture.pcapng exporter.ipfix\n" +
			"  isonomos flows show --survey survey.jsonl --of ledger-1\n" +
			"  isonomos flows forget --before 2026-10-01",
		Commands: []*cli.Command{a.flowsAddCommand(), a.flowsShowCommand(), a.flowsForgetCommand()},
	}
}

func (a *App) flowsAddCommand() *cli.Command {
	return &cli.Command{
		Name:      "add",
		Usage:     "sum flows and keep the sums",
		ArgsUsage: "[flags] FILE ...",
		Description: "Reads CSV, JSON Lines, packet captures (pcap, pcapng) and IPFIX files, recognised by their " +
			"content, also compressed with gzip or zstd; or a table over the PostgreSQL protocol. Content" +
			" that was added before is not added again.\n\n" +
			"columns of CSV and JSON Lines: start, end, src, dst, protocol, src_port, dst_port, packets, " +
			"bytes, reply_packets, reply_bytes, verdict; start, src, dst, protocol and dst_port are " +
			"needed.\n\n" +
			"  isonomos flows add flows.csv.gz\n" +
			"  isonomos flows add --column src=client --column dst=server exported.jsonl\n" +
			"  isonomos flows add --database \"host=/run/postgresql dbname=net\" --table flows",
		Flags:  append([]cli.Flag{estateFlag()}, sourceFlags()...),
		Action: a.flowsAdd,
	}
}

func (a *App) flowsAdd(ctx context.Context, c *cli.Command) error {
	table := c.String("table") != "" || c.String("query") != ""
	if !c.Args().Present() && !table {
		return usage("flows add needs files, or a table: isonomos flows add flows.csv")
	}
	if err := a.namedDatabase(c); err != nil {
		return err
	}
	w, err := parseWindow(c.String("window"))
	if err != nil {
		return err
	}
	s, err := a.openStore(c, true)
	if err != nil {
		return err
	}
	defer s.Close()
	keep := func(days *flow.Daily, source flow.Source) error {
		if all := days.Days(); w != (window{}) && len(all) > 0 {
			from, to := w.days(all[len(all)-1])
			days.Drop(func(day int32) bool { return day < from || day > to })
			source.Digest += " " + c.String("window")
		}
		if len(days.Days()) == 0 {
			a.note("%s holds no flows: nothing was added", shownName(source.Name))
			return nil
		}
		source.Added = a.Now()
		added, err := s.AddEvidence(ctx, source, days)
		switch {
		case err != nil:
			return unreachable("the store %s can't be written: %v; nothing of %s was added", storePath(c), err,
				shownName(source.Name))
		case !added:
			a.note("%s was added before: nothing has changed", shownName(source.Name))
			return nil
		}
		a.note("%s: %s", shownName(source.Name), addedText(days))
		return nil
	}
	for _, file := range c.Args().Slice() {
		days, source, err := a.readDaily(c, file)
		if err != nil {
			return err
		}
		if err := keep(days, source); err != nil {
			return err
		}
	}
	if table {
		days, source, err := a.readTable(ctx, c)
		if err != nil {
			return err
		}
		return keep(days, source)
	}
	return nil
}

// addedText says what was added to the days of the store.
func addedText(days *flow.Daily) string {
	flows, refused, sums := 0, 0, 0
	all := days.Days()
	for _, day := range all {
		s := days.Of(day)
		flows, refused, sums = flows+s.Flows, refused+s.Refused, sums+len(s.Sums())
	}
	date := func(day int32) string { return time.Unix(int64(day)*86400, 0).UTC().Format(time.DateOnly) }
	return render.Count(flows, "flow", "flows") + " (" + render.Number(refused) + " more refused) on " +
		render.Count(len(all), "day", "days") + ", " +
		date(all[0]) + " to " + date(all[len(all)-1]) + ", kept as " + render.Count(sums, "sum", "sums")
}

func (a *App) flowsShowCommand() *cli.Command {
	return &cli.Command{
		Name:      "show",
		Metadata:  noArguments("pick with --of and --service"),
		Usage:     "show what was added, and what was seen",
		ArgsUsage: "[flags]",
		Description: "Lists the evidence in the store, and who talked to whom, most flows first. With a survey, " +
			"addresses are shown with the names of their instances.\n\n" +
			"  isonomos flows show --survey survey.jsonl\n" +
			"  isonomos flows show --survey survey.jsonl --of ledger-1 --service postgres --window 7d\n" +
			"  isonomos flows show --format csv > sums.csv",
		Flags: []cli.Flag{estateFlag(), surveyFlag(), storeFlag(), windowFlag(),
			&cli.StringFlag{Name: "of", Usage: "only flows of an `END`: an instance of the survey, an address or " +
				"a range"},
			&cli.StringFlag{Name: "service", Usage: "only flows on a `SERVICE`, by name, as tcp 8080, or class admin"},
			&cli.IntFlag{Name: "limit", Value: 40, Usage: "show at most `N` sums as text; 0 shows all",
				Validator: notNegative},
			formatFlag("json", "csv")},
		Action: a.flowsShow,
	}
}

func (a *App) flowsShow(ctx context.Context, c *cli.Command) error {
	w, err := parseWindow(c.String("window"))
	if err != nil {
		return err
	}
	e := &estate.Estate{}
	if file := c.String("survey"); file != "" {
		if e, err = a.readSurvey(file); err != nil {
			return err
		}
	}
	services, err := work.Services(e, c.String("service"))
	if err != nil {
		return err
	}
	d := decide.New(e)
	ends, err := work.Ends(d, c.String("of"))
	if err != nil {
		return err
	}
	s, err := a.openStore(c, false)
	if err != nil {
		return err
	}
	if s == nil {
		return usage("there is no store %s yet: isonomos flows add FILE makes one", storePath(c))
	}
	defer s.Close()
	unread := func(err error) error { return unreachable("the store %s can't be read: %v", storePath(c), err) }
	sources, err := s.Sources(ctx)
	if err != nil {
		return unread(err)
	}
	last, _, err := s.LastDay(ctx)
	if err != nil {
		return unread(err)
	}
	from, to := w.days(last)
	sum, err := s.Evidence(ctx, from, to)
	if err != nil {
		return unread(err)
	}
	sums := slices.DeleteFunc(sum.Sums(), func(x *flow.Sum) bool {
		return services != nil && !services.Contains(x.Service) ||
			ends != nil && !ends.Contains(x.Source) && !ends.Contains(x.Destination)
	})
	shown := render.Flows{Sources: sources, Sum: sum, Sums: sums, Decider: d, Picked: services != nil ||
		ends != nil || w != (window{})}
	switch c.String("format") {
	case "json":
		return render.FlowsJSON(a.Stdout, shown)
	case "csv":
		return render.FlowsCSV(a.Stdout, shown)
	}
	screen := a.screen(c)
	render.ShowFlows(screen, shown, c.Int("limit"))
	return screen.Err()
}

func (a *App) flowsForgetCommand() *cli.Command {
	return &cli.Command{
		Name:      "forget",
		Usage:     "drop evidence from the store",
		ArgsUsage: "[flags] [NUMBER ...]",
		Description: "Removes evidence by its number (see isonomos flows show), or the days before a date, or " +
			"everything.\n\n" +
			"  isonomos flows forget 3\n" +
			"  isonomos flows forget --before 2026-10-01",
		Flags: []cli.Flag{estateFlag(), storeFlag(),
			&cli.StringFlag{Name: "before", Usage: "drop what was seen before a `DAY` (2026-10-01)"},
			&cli.BoolFlag{Name: "all", Usage: "drop everything"}},
		Action: a.flowsForget,
	}
}

func (a *App) flowsForget(ctx context.Context, c *cli.Command) error {
	if err := a.oneWay(c, "all", "before", arguments); err != nil {
		return err
	}
	before := int32(0)
	if text := c.String("before"); text != "" {
		day, err := time.Parse(time.DateOnly, text)
		if err != nil || day.Unix() < 86400 {
			return usage("--before %q is not a day: write 2026-10-01", text)
		}
		before = int32(day.Unix() / 86400)
	}
	if !c.Args().Present() && before == 0 && !c.Bool("all") {
		return usage("flows forget needs to be told what: the number of a piece of evidence, --before DAY, or --all")
	}
	s, err := a.openStore(c, false)
	if err != nil {
		return err
	}
	if s == nil {
		return usage("there is no store %s: there is nothing to forget", storePath(c))
	}
	defer s.Close()
	sources, err := s.Sources(ctx)
	if err != nil {
		return unreachable("the store %s can't be read: %v", storePath(c), err)
	}
	var known []string
	var ids []int64
	for _, x := range sources {
		known = append(known, strconv.FormatInt(x.ID, 10))
		if c.Bool("all") || slices.Contains(c.Args().Slice(), known[len(known)-1]) {
			ids = append(ids, x.ID)
		}
	}
	for _, arg := range c.Args().Slice() {
		if !slices.Contains(known, arg) {
			return usage("there is no evidence with the number %q: there are %s", arg, work.Some(known))
		}
	}
	sums, err := s.Forget(ctx, ids, before)
	if err != nil {
		return unreachable("the store %s can't be written: %v; nothing was forgotten", storePath(c), err)
	}
	a.note("forgotten: %s", render.Count(int(sums), "sum", "sums"))
	return nil
}
