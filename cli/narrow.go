package cli

import (
	"bytes"
	"context"
	"path/filepath"
	"strings"

	"github.com/rogpeppe/go-internal/diff"
	"github.com/urfave/cli/v3"

	"isonomos/core/narrow"
	"isonomos/nomos/propose"
	"isonomos/render"
)

func (a *App) narrowCommand() *cli.Command {
	return &cli.Command{
		Name:      "narrow",
		Usage:     "propose the narrowest rules that let through what is needed",
		ArgsUsage: "[flags] GROUP|FILE:LINE ...",
		Description: "Proposes a least-privilege replacement for the rules of a group that an audit finds to let through\n" +
			"more than they should, or for the rule at FILE:LINE. What is needed is what the definitions declare and\n" +
			"what was seen; it is said with groups and lists before ranges and addresses. Every proposal is proved\n" +
			"by deciding the edited definitions.\n\n" +
			"  isonomos narrow gauge-maintenance --survey survey.jsonl --flows flows.csv\n" +
			"  isonomos narrow traffic.nomos:24 --survey survey.jsonl --flows flows.csv --diff | git apply\n" +
			"  isonomos narrow broker --survey survey.jsonl --flows flows.csv --write",
		Flags: append([]cli.Flag{
			estateFlag(), surveyFlag(),
			&cli.BoolFlag{Name: "diff", Usage: "write the edit of the definitions as a unified diff, for git apply or patch -p1"},
			&cli.BoolFlag{Name: "write", Usage: "edit the definitions in place"},
			formatFlag("json"),
		}, evidenceFlags("rest on")...),
		Action: a.narrow,
	}
}

func (a *App) narrow(ctx context.Context, c *cli.Command) error {
	switch {
	case !c.Args().Present():
		return usage("narrow needs a group or FILE:LINE: isonomos narrow gauge-maintenance --flows flows.csv")
	case c.Bool("diff") && c.String("format") != "text":
		return usage("--diff is a format of its own: leave --format out")
	}
	w, err := a.world(c)
	if err != nil {
		return err
	}
	for _, n := range w.Notes {
		a.note("%s", n)
	}
	if len(w.Definitions.Files) == 0 {
		return usage("narrow edits definitions, and there are none in %s: name their folder with --estate", folderName(c.String("estate")))
	}
	subjects, err := a.subjects(w, c.Args().Slice())
	if err != nil {
		return err
	}
	flows, err := a.evidenceOf(ctx, c)
	if err != nil {
		return err
	}
	result, err := w.Propose(subjects, flows, a.meaning(c))
	if err != nil {
		return usage("%v", err)
	}
	switch {
	case c.Bool("diff"):
		for _, f := range result.Files {
			if err == nil {
				err = a.writeDiff(f.File.Name, f.File.Text, f.Text)
			}
		}
		if len(result.Files) == 0 {
			a.note("nothing to change")
		}
	case c.String("format") == "json":
		err = render.ProposalsJSON(a.Stdout, w, result, flows)
	default:
		s := a.screen(c)
		render.Proposals(s, w, result, flows)
		err = s.Err()
	}
	if err != nil || !c.Bool("write") {
		return err
	}
	var files []whole
	var names []string
	for _, f := range result.Files {
		files = append(files, whole{path: f.File.Name, text: f.Text})
		names = append(names, f.File.Name)
	}
	if err := writeWhole(files); err != nil {
		return err
	}
	if len(names) == 0 {
		a.note("nothing to write")
	} else {
		a.note("written: %s", strings.Join(names, ", "))
	}
	return nil
}

// subjects finds what the arguments name. A group without anything to narrow is said to be so.
func (a *App) subjects(w propose.World, names []string) ([]narrow.Subject, error) {
	var subjects []narrow.Subject
	for _, name := range names {
		found, err := w.Subjects(name)
		if err != nil {
			return nil, usage("%v", err)
		}
		if len(found) == 0 {
			a.note("an audit finds nothing in %s that lets through more than it should; to narrow a rule all the same, name it as FILE:LINE", name)
		}
		subjects = append(subjects, found...)
	}
	return subjects, nil
}

// writeDiff writes an edit as a unified diff with names from the current folder.
func (a *App) writeDiff(path, before, after string) error {
	name := filepath.ToSlash(diffName(path))
	_, unified, _ := bytes.Cut(diff.Diff("a/"+name, []byte(before), "b/"+name, []byte(after)), []byte("\n")) // its first line names the files once more
	_, err := a.Stdout.Write(unified)
	return err
}

// diffName is a file's name as seen from the current folder where it lies below it.
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
