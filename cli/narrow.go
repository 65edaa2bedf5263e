package cli

import (
	"bytes"
	"context"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/rogpeppe/go-internal/diff"
	"github.com/urfave/cli/v3"

	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/core/narrow"
	"isonomos/render"
	"isonomos/work"
)

func init() { addCommand(100, (*App).narrowCommand) }

func (a *App) narrowCommand() *cli.Command {
	return &cli.Command{
		Name:      "narrow",
		Usage:     "propose the narrowest rules that let through what is needed",
		ArgsUsage: "[flags] [GROUP|FILE:LINE ...]",
		Description: "Proposes a least-privilege replacement for rules that let through more than they should: " +
			"those of a GROUP, the rule at FILE:LINE, those that break a law, those of findings, or all. " +
			"What is needed is what the definitions declare and what was observed. Groups and lists are " +
			"preferred to ranges and addresses. Every proposal is proved by deciding the result. A group " +
			"without a definition gets one (see isonomos adopt).\n\n" +
			"  isonomos narrow gauge-maintenance --survey survey.jsonl --flows flows.csv\n" +
			"  isonomos narrow traffic.nomos:21 --survey survey.jsonl --flows flows.csv --diff | git apply\n" +
			"  isonomos narrow broker --survey survey.jsonl --flows flows.csv --keep \"ssh from " +
			"203.0.113.201\" --write\n" +
			"  isonomos narrow --all --survey survey.jsonl --flows flows.csv --severity high\n" +
			"  isonomos narrow --law shut-admin --survey survey.jsonl --flows flows.csv --lend\n" +
			"  isonomos narrow --across --survey survey.jsonl --diff",
		Flags: append([]cli.Flag{
			estateFlag(), surveyFlag(), liveFlag(),
			&cli.BoolFlag{Name: "all", Usage: "narrow everything that an audit finds to let through too much, " +
				"those first that close most for each rule changed"},
			&cli.BoolFlag{Name: "across", Usage: "find what several groups can share: addresses as a list, " +
				"instances by their group, twins as one group"},
			&cli.StringFlag{Name: "law", Usage: "narrow what breaks a `LAW`"},
			&cli.StringFlag{Name: "findings", Usage: "narrow the findings in `FILE` (audit --format json; - for " +
				"standard input)"},
			severityFlag("with --all: "), checkFlag("with --all: "), overFlag("with --all: ", "stage = production"),
			&cli.StringSliceFlag{Name: "keep", Usage: "keep `TRAFFIC` whatever was seen: an address, a range, a " +
				"group or a list, or \"ssh from 203.0.113.201\""},
			&cli.StringSliceFlag{Name: "drop", Usage: "drop `TRAFFIC` whatever was seen or declared; written as " +
				"for --keep"},
			&cli.IntFlag{Name: "min-days", Value: 1, Usage: "leave out peers that were seen on fewer than `N` days",
				Validator: notNegative},
			&cli.BoolFlag{Name: "lend", Usage: "lend administration for a while, where few use it now and then, " +
				"instead of leaving it open"},
			&cli.BoolFlag{Name: "never-public", Usage: "take no service for public: name those who were seen, " +
				"however many"},
			&cli.StringSliceFlag{Name: "weight", Usage: "change a weight of the choice: `NAME=NUMBER`, such as " +
				"stranger=1 (docs/narrowing.md lists them)"},
			&cli.BoolFlag{Name: "curve", Usage: "show the trade-off between rules and excess"},
			&cli.IntFlag{Name: "limit", Value: 20, Usage: "show at most `N` proposals as text; 0 shows all",
				Validator: notNegative},
			&cli.BoolFlag{Name: "diff", Usage: "write the edit of the definitions as a unified diff, for git " +
				"apply or patch -p1"},
			&cli.BoolFlag{Name: "write", Usage: "edit the definitions in place"},
			formatFlag("json", "md"),
		}, evidenceFlags("take as evidence")...),
		DisableSliceFlagSeparator: true, // traffic contains commas
		Action:                    a.narrow,
	}
}

func (a *App) narrow(ctx context.Context, c *cli.Command) error {
	ways := 0
	for _, given := range []bool{c.Args().Present(), c.Bool("all"), c.Bool("across"), c.String("law") != "",
		c.String("findings") != ""} {
		if given {
			ways++
		}
	}
	switch {
	case ways == 0:
		return usage("narrow needs a group, FILE:LINE, --law, --findings, --all or --across: isonomos narrow " +
			"gauge-maintenance --flows flows.csv")
	case ways > 1:
		return usage("groups and rules by name, --law, --findings, --all and --across are different ways to say " +
			"what to narrow: use one")
	case c.Bool("diff") && c.String("format") != "text":
		return usage("--diff is a format of its own: leave --format out")
	}
	if err := a.narrowContradictions(c); err != nil {
		return err
	}
	w, err := a.world(ctx, c)
	if err != nil {
		return err
	}
	for _, n := range w.Notes {
		a.note("%s", n)
	}
	if c.Bool("across") {
		return a.across(c, w)
	}
	o, err := narrowOptions(c, w)
	if err != nil {
		return err
	}
	if o.Flows, err = a.evidenceOf(ctx, c); err != nil {
		return err
	}
	subjects, err := a.subjects(c, w)
	if err != nil {
		return err
	}
	result, err := w.Propose(subjects, o, a.meaning(c.String("estate")))
	if err != nil {
		return usage("%w", err)
	}
	write := c.Bool("diff") || c.Bool("write")
	var adopted work.Adoption
	if write || result.Weigh() {
		adopted, err = w.AdoptProposals(&result, estateFolder(c), a.meaning(c.String("estate")))
		if err != nil && write {
			return usage("%w", err)
		}
	}
	rank := c.Bool("all") || c.String("findings") != "" || c.String("law") != ""
	if rank {
		result.Rank()
	}
	shown := render.Narrowing{World: w, Result: result, Flows: o.Flows, Ranked: rank, Curve: c.Bool("curve"),
		Limit: c.Int("limit")}
	if write {
		a.tellLeft(adopted)
		for _, f := range adopted.Edits {
			if slices.ContainsFunc(result.Files, func(e work.Edited) bool { return e.File == f.File }) {
				return usage("%s says that a group exists which becomes a definition, and a rule in it is "+
					"narrowed too: adopt that group first, or name what to narrow", f.File.Name)
			}
		}
	}
	switch {
	case c.Bool("diff"):
		err = a.writeDiffs(result, adopted)
	case c.String("format") == "json":
		err = render.ProposalsJSON(a.Stdout, shown)
	case c.String("format") == "md":
		err = render.ProposalsMarkdown(a.Stdout, shown)
	default:
		s := a.screen(c)
		render.Proposals(s, shown)
		err = s.Err()
	}
	if err != nil || !c.Bool("write") {
		return err
	}
	var files []newFile
	for _, f := range result.Files {
		files = append(files, edited(f.File.Name, f.Text, f.File.Text))
	}
	return a.writeFiles(append(files, adoptedFiles(adopted)...))
}

// narrowContradictions refuses flags that have no use for what is to be narrowed.
func (a *App) narrowContradictions(c *cli.Command) error {
	filters := []string{"severity", "check", "over"}
	choices := []string{"keep", "drop", "min-days", "lend", "never-public", "weight", "curve", "flows", "table",
		"query", "window",
		"limit"}
	switch {
	case c.Bool("across"):
		return a.without(c, "across", slices.Concat(filters, choices)...)
	case c.String("law") != "":
		return a.without(c, "law", "check")
	case c.Args().Present():
		return a.onlyWith(c, "all", filters...)
	}
	return nil
}

// adoptedFiles are the files that an adoption writes: new ones, and those whose "existing"
// statements it replaces.
func adoptedFiles(adopted work.Adoption) []newFile {
	var files []newFile
	for _, f := range adopted.Edits {
		files = append(files, edited(f.File.Name, f.Text, f.File.Text))
	}
	for _, f := range adopted.Files {
		files = append(files, added(f.Name, f.Text))
	}
	return files
}

// tellLeft says which groups were not adopted.
func (a *App) tellLeft(adopted work.Adoption) {
	const shown = 10
	for i, left := range adopted.Left {
		if i == shown {
			a.note("and %s more are left as they are", render.Number(len(adopted.Left)-shown))
			return
		}
		a.note("%s is left as it is: %s", left.Group.Path(), left.Why)
	}
}

// across shows, or writes, rules that several groups can share.
func (a *App) across(c *cli.Command, w work.World) error {
	joints, files, err := w.Across(a.meaning(c.String("estate")))
	if err != nil {
		return usage("%w", err)
	}
	switch {
	case c.Bool("diff"):
		err = a.writeDiffs(work.Result{Files: files}, work.Adoption{})
	case c.String("format") == "json":
		err = render.JointsJSON(a.Stdout, joints, a.unread)
	case c.String("format") == "md":
		return usage("--across writes text and json")
	default:
		s := a.screen(c)
		render.Joints(s, joints)
		err = s.Err()
	}
	if err != nil || !c.Bool("write") {
		return err
	}
	var written []newFile
	for _, f := range files {
		written = append(written, edited(f.File.Name, f.Text, f.File.Text))
	}
	return a.writeFiles(written)
}

// writeFiles writes files, each whole or not at all, and prints their names.
func (a *App) writeFiles(files []newFile) error {
	if err := writeWhole(files); err != nil {
		return err
	}
	var names []string
	for _, f := range files {
		names = append(names, f.path)
	}
	if len(names) == 0 {
		a.note("nothing to write")
	} else {
		a.note("written: %s", work.Some(names))
	}
	return nil
}

// estateFolder is the folder for new files of definitions.
func estateFolder(c *cli.Command) string {
	folder := c.String("estate")
	if folder == noEstate {
		return "."
	}
	if strings.HasSuffix(folder, ".nomos") {
		return filepath.Dir(folder)
	}
	return folder
}

// narrowOptions are the options of narrowing that the flags give.
func narrowOptions(c *cli.Command, w work.World) (narrow.Options, error) {
	o := narrow.Options{Weights: narrow.DefaultWeights, MinDays: c.Int("min-days"), Lend: c.Bool("lend"),
		Closed: c.Bool("never-public"),
		Blind:  c.Args().Present()}
	for _, text := range c.StringSlice("weight") {
		name, value, _ := strings.Cut(text, "=")
		if err := o.Weights.Set(strings.TrimSpace(name), strings.TrimSpace(value)); err != nil {
			return o, usage("--weight %q: %v", text, err)
		}
	}
	d := decide.New(w.Estate)
	for _, x := range []struct {
		flag string
		into *[]narrow.Wanted
	}{{"keep", &o.Keep}, {"drop", &o.Drop}} {
		for _, text := range c.StringSlice(x.flag) {
			wanted, err := work.Wanted(d, text)
			if err != nil {
				return o, usage("--%s %q: %w", x.flag, text, err)
			}
			*x.into = append(*x.into, wanted)
		}
	}
	return o, nil
}

// subjects finds the groups and rules that are to be narrowed. It names the groups that have
// nothing to narrow.
func (a *App) subjects(c *cli.Command, w work.World) ([]narrow.Subject, error) {
	var subjects []narrow.Subject
	for _, name := range c.Args().Slice() {
		found, err := w.Subjects(name)
		if err != nil {
			return nil, usage("%w", err)
		}
		if len(found) == 0 {
			a.note("an audit finds nothing in %s that lets through more than it should; to narrow a rule all the "+
				"same, name it as FILE:LINE", name)
		}
		subjects = append(subjects, found...)
	}
	if c.Args().Present() {
		return subjects, nil
	}
	var checks []string
	for _, list := range c.StringSlice("check") {
		checks = append(checks, strings.Split(list, ",")...)
	}
	o := audit.Options{Checks: checks, Now: a.Now(), Expects: w.Expects, Laws: w.Laws,
		Exemptions: w.Definitions.Exemptions}
	o.Least, _ = audit.ParseSeverity(c.String("severity"))
	var err error
	if o.Over, err = work.Condition("--over", c.String("over")); err != nil {
		return nil, err
	}
	if err := a.overKnown(o.Over, w.Estate); err != nil {
		return nil, err
	}
	if law := c.String("law"); law != "" {
		o.Checks = []string{audit.LawPrefix + strings.TrimPrefix(law, audit.LawPrefix)}
	}
	if err := a.knownChecks(o.Checks, w); err != nil {
		return nil, err
	}
	var found []audit.Finding
	if file := c.String("findings"); file != "" {
		if found, err = a.findingsOf(file, w, o); err != nil {
			return nil, err
		}
	} else {
		found = audit.Run(decide.New(w.Estate), o).Findings
	}
	subjects = work.SubjectsOf(found)
	if len(subjects) == 0 {
		a.note("there is nothing to narrow: no rule lets through more than it should by these findings")
	}
	return subjects, nil
}

// findingsOf are the findings of a file of findings that still exist and match the filters. It says
// how many do not.
func (a *App) findingsOf(file string, w work.World, o audit.Options) ([]audit.Finding, error) {
	earlier, err := a.readFindings(file)
	if err != nil {
		return nil, err
	}
	wanted := make(map[string]bool)
	for _, f := range earlier.Findings {
		wanted[f.Fingerprint] = true
	}
	d := decide.New(w.Estate)
	picked := func(o audit.Options) []audit.Finding {
		return slices.DeleteFunc(audit.Run(d, o).Findings, func(f audit.Finding) bool { return !wanted[f.Fingerprint] })
	}
	whole := o
	whole.Checks, whole.Over, whole.Least = nil, nil, audit.Info
	there := picked(whole)
	if gone := len(wanted) - len(there); gone > 0 {
		a.note("%s of %s no longer exist", render.Count(gone, "finding", "findings"), shownName(file))
	}
	if len(o.Checks) == 0 && o.Over == nil && o.Least == audit.Info {
		return there, nil
	}
	found := picked(o)
	if out := len(there) - len(found); out > 0 {
		a.note("%s of %s are left out by --severity, --check or --over", render.Count(out, "finding", "findings"),
			shownName(file))
	}
	return found, nil
}

// writeDiffs writes all edits and new files as unified diffs.
func (a *App) writeDiffs(result work.Result, adopted work.Adoption) error {
	for _, f := range result.Files {
		if err := a.writeDiff(f.File.Name, &f.File.Text, f.Text); err != nil {
			return err
		}
	}
	for _, f := range adopted.Edits {
		if err := a.writeDiff(f.File.Name, &f.File.Text, f.Text); err != nil {
			return err
		}
	}
	for _, f := range adopted.Files {
		if err := a.writeDiff(f.Name, nil, f.Text); err != nil {
			return err
		}
	}
	if len(result.Files)+len(adopted.Files) == 0 {
		a.note("nothing to change")
	}
	return nil
}

// writeDiff writes one edit as a unified diff, with file names relative to the current folder. Behind a
// name with blanks there is a tab: else patch takes the name to end at the first blank.
func (a *App) writeDiff(path string, before *string, after string) error {
	name := filepath.ToSlash(diffName(path))
	if strings.Contains(name, " ") {
		name += "\t"
	}
	old, text := "a/"+name, ""
	if before == nil {
		old = "/dev/null"
	} else {
		text = *before
	}
	// the first line repeats the file names
	_, unified, _ := bytes.Cut(diff.Diff(old, []byte(text), "b/"+name, []byte(after)), []byte("\n"))
	_, err := io.WriteString(a.Stdout, a.forTerminal(string(unified)))
	return err
}

// forTerminal cleans a text that goes to a terminal. For a file or another program it is left as it
// is.
func (a *App) forTerminal(text string) string {
	if a.Width == 0 {
		return text
	}
	return cleanLines(strings.ReplaceAll(text, "\t", "    "))
}

// diffName is a file's name relative to the current folder if it lies in there.
func diffName(name string) string {
	if !filepath.IsAbs(name) {
		return filepath.Clean(name)
	}
	here, err := filepath.Abs(".")
	if err != nil {
		return strings.TrimPrefix(name, "/")
	}
	if below, err := filepath.Rel(here, name); err == nil && filepath.IsLocal(below) {
		return below
	}
	return strings.TrimPrefix(name, "/")
}
