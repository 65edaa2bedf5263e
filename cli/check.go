package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"isonomos/core/audit"
	"isonomos/core/compile"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/nomos"
	"isonomos/nomos/parse"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
	"isonomos/render"
	"isonomos/words"
	"isonomos/work"
)

func init() { addCommand(20, (*App).checkCommand) }

func (a *App) checkCommand() *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "read definitions, report every mistake, show what they come to",
		ArgsUsage: "[flags] [FOLDER | FILE ...]",
		Description: "Reads all definitions of a folder together, and tells for every mistake where it is and what" +
			" to write instead. Then it compiles every group for its cloud and proves that the result " +
			"means the same; if it does not, that is a mistake too, with an example. Without mistakes it " +
			"shows how many rules each group takes. With a survey it also warns of health probes that a " +
			"balancer's targets, or its own groups, would stop. For a FILE the whole estate is read; " +
			"mistakes in the FILE are shown, and those elsewhere are counted. So it can be called by a " +
			"hook before each commit.\n\n" +
			"  isonomos check\n" +
			"  isonomos check harbour/\n" +
			"  isonomos check harbour/tides.nomos\n" +
			"  isonomos check --rules --survey survey.jsonl\n" +
			"  isonomos check --format json\n\n" +
			"Exit 2 if there is a mistake, 1 if a group takes more rules than its quota allows.",
		Flags: []cli.Flag{estateFlag(), surveyFlag(), formatFlag("json", "sarif", "junit"),
			&cli.BoolFlag{Name: "rules", Usage: "show the rules that each group becomes in its cloud"}},
		Action: a.check,
	}
}

// toCheck is the estate that is read, and the files in it that are reported about.
type toCheck struct {
	folder string
	files  []*source.File
	only   []string // names of files, as messages show them; nil means all
}

// about reports whether a position is in the files that were asked about.
func (x toCheck) about(file string) bool {
	return len(x.only) == 0 || slices.Contains(x.only, filepath.Clean(file))
}

func (a *App) check(_ context.Context, c *cli.Command) error {
	if format := c.String("format"); c.Bool("rules") && format != "text" && format != "json" {
		return usage("--rules shows rules as text, or with --format json")
	}
	asked, err := a.whatToCheck(c)
	if err != nil {
		return err
	}
	var survey *estate.Estate
	if file := c.String("survey"); file != "" {
		if survey, err = a.readSurvey(file); err != nil {
			return err
		}
	}
	d := nomos.Understand(asked.files, a.meaning(asked.folder))
	d.Settle(survey)
	mistakes := a.tellAsked(asked, d.Messages)
	points := render.MessagePoints(d.Messages)
	if mistakes > 0 {
		if err := a.checkPoints(c, asked, points); err != nil {
			return err
		}
		return usage("%s in the definitions", render.Count(mistakes, "mistake", "mistakes"))
	}
	var compiled []compile.Compiled
	costs := make(compile.Costs)
	world := work.NewWorld(d, survey)
	var dead []compile.Dead
	failures := world.Compile(func(made compile.Compiled) {
		dead = append(dead, made.Dead...)
		dialect := decide.Dialect(made.Group.Account)
		costs[made.Group.Path()] =
			struct{ In, Out int }{compile.GroupCost(dialect, made.Group, estate.In),
				compile.GroupCost(dialect, made.Group, estate.Out)}
		if c.Bool("rules") && asked.about(made.Group.Origin.File) {
			compiled = append(compiled, made)
		}
	})
	a.tellFailures(failures)
	for _, x := range dead {
		if asked.about(x.Rule.Origin.File) {
			fmt.Fprintln(a.Stderr, render.Clean(render.DeadText(d.Estate, x)))
		}
	}
	for _, f := range failures {
		points = append(points, render.Point{Kind: "not-expressible",
			About: "a group can't be expressed in its cloud", Name: f.Group.Path() + ": " + f.Reason,
			Place: f.Origin(), Failed: true})
	}
	over := render.OverQuota(d.Estate, costs)
	for _, x := range over {
		points = append(points, render.Point{Kind: "over-quota",
			About: "a group takes more rules than its quota allows", Name: x.Text, Place: x.Group.Origin, Failed: true})
	}
	if format := c.String("format"); format == "sarif" || format == "junit" {
		if err := a.checkPoints(c, asked, points); err != nil {
			return err
		}
	}
	if len(failures) > 0 {
		return &work.InexpressibleError{Failures: failures}
	}
	if survey != nil {
		if refused := work.BeforeAdopting(d, survey); refused != nil {
			a.note("as the clouds are, a draft of this would be refused:")
			a.tellFailures(refused.Failures)
			a.tellAdoptable(c, refused.CanAdopt)
		}
	}
	if c.Bool("rules") && c.String("format") == "text" {
		s := a.screen(c)
		render.CompiledRules(s, d.Estate, compiled)
		if err := s.Err(); err != nil {
			return err
		}
	} else if err := a.showChecked(c, asked, d, costs, compiled); err != nil {
		return err
	}
	a.shutProbes(world)
	a.bypassed(world)
	for _, x := range over {
		a.note("over quota: %s", x.Text)
	}
	if len(over) > 0 {
		return quietly(exitFindings)
	}
	return nil
}

// whatToCheck finds the estate and the files that the flags and arguments ask about.
func (a *App) whatToCheck(c *cli.Command) (x toCheck, err error) {
	x.folder = c.String("estate")
	args := c.Args().Slice()
	switch {
	case len(args) == 0:
	case isFolder(args[0]) && len(args) > 1:
		return x, usage("check reads one folder, or some files of one estate: %d were named", len(args))
	case isFolder(args[0]) || filepath.Ext(args[0]) != nomos.Extension:
		if err := a.oneWay(c, "estate", arguments); err != nil {
			return x, err
		}
		a.notOfEnvironment(args[0])
		x.folder = args[0]
	default:
		if x.folder, err = a.estateAround(c, args); err != nil {
			return x, err
		}
		for _, file := range args {
			x.only = append(x.only, filepath.Clean(file))
		}
	}
	if x.files, err = a.readDefinitions(x.folder); err != nil {
		return x, err
	}
	if len(x.files) == 0 {
		return x, usage("there are no definitions (*%s) in %s", nomos.Extension, folderName(x.folder))
	}
	for _, name := range x.only {
		if !slices.ContainsFunc(x.files, func(f *source.File) bool { return filepath.Clean(f.Name) == name }) {
			return x, usage("%s does not belong to the estate in %s", name, folderName(x.folder))
		}
	}
	return x, nil
}

func isFolder(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
}

// estateAround finds the folder of the estate that files belong to: the one given by --estate; else
// the nearest folder, at or above the first file, whose own definitions name an estate; else the
// current folder if the file is below it; else the file's folder.
func (a *App) estateAround(c *cli.Command, files []string) (string, error) {
	for _, file := range files {
		if _, err := os.Stat(file); err != nil {
			return "", fileError("file", file, err)
		}
	}
	if a.given("estate") || c.String("estate") != "." {
		return c.String("estate"), nil
	}
	below := filepath.IsLocal(files[0])
	for folder := filepath.Dir(files[0]); ; folder = filepath.Dir(folder) {
		if names, _ := filepath.Glob(filepath.Join(folder, "*"+nomos.Extension)); a.nameAnEstate(names) {
			return folder, nil
		}
		switch {
		case folder == "." && below:
			return ".", nil
		case folder == filepath.Dir(folder):
			return filepath.Dir(files[0]), nil
		}
	}
}

// nameAnEstate reports whether any of the files declares an estate.
func (a *App) nameAnEstate(names []string) bool {
	return slices.ContainsFunc(names, func(name string) bool {
		files, err := a.readDefinitions(name)
		if err != nil {
			return false
		}
		tree, _ := parse.File(files[0])
		return slices.ContainsFunc(tree.Decls, func(d syntax.Decl) bool { _, ok := d.(*syntax.Estate); return ok })
	})
}

// tellAsked prints the messages about the files that were asked about, says how many mistakes the
// others have, and returns the number of mistakes in both.
func (a *App) tellAsked(asked toCheck, messages []source.Message) int {
	var about, others []source.Message
	for _, m := range messages {
		if asked.about(m.File.Name) {
			about = append(about, m)
		} else if !m.Warning {
			others = append(others, m)
		}
	}
	a.tell(about)
	if len(others) > 0 {
		a.note("%s in other files of the estate, the first at %s: %s (%s)",
			render.Count(len(others), "mistake", "mistakes"), others[0].Position(), others[0].Text,
			render.Plainly("check", asked.folder))
	}
	return source.Errors(about) + len(others)
}

// checkPoints writes the result as SARIF or JUnit: the mistakes, and which files are free of them.
func (a *App) checkPoints(c *cli.Command, asked toCheck, points []render.Point) error {
	points = slices.DeleteFunc(points, func(p render.Point) bool { return !asked.about(p.Place.File) && !p.Failed })
	for _, f := range asked.files {
		if asked.about(f.Name) &&
			!slices.ContainsFunc(points, func(p render.Point) bool { return p.Place.File == f.Name && p.Failed }) {
			points = append(points, render.Point{Kind: "definitions", About: "a file of definitions", Name: f.Name,
				Place: estate.Origin{File: f.Name, Line: 1}, Text: "no mistake"})
		}
	}
	switch c.String("format") {
	case "sarif":
		return render.PointsSARIF(a.Stdout, a.Version, points, a.unread, a.sourceOf(c, asked.files))
	case "junit":
		return render.PointsJUnit(a.Stdout, "isonomos check", points, a.unread)
	}
	return nil
}

// picked keeps what is defined in the files that were asked about.
func picked[T any](asked toCheck, all []T, origin func(T) estate.Origin) []T {
	return slices.DeleteFunc(slices.Clone(all), func(x T) bool { return !asked.about(origin(x).File) })
}

// showChecked shows what definitions come to, as text or JSON.
func (a *App) showChecked(c *cli.Command, asked toCheck, d nomos.Definitions, costs compile.Costs,
	compiled []compile.Compiled) error {
	if len(asked.only) > 0 {
		e := *d.Estate
		e.Clouds = picked(asked, e.Clouds, func(c *estate.Cloud) estate.Origin { return c.Origin })
		e.Networks = picked(asked, e.Networks, func(n *estate.Network) estate.Origin { return n.Origin })
		e.Groups = picked(asked, e.Groups, func(g *estate.Group) estate.Origin { return g.Origin })
		e.Lists = picked(asked, e.Lists, func(l *estate.List) estate.Origin { return l.Origin })
		d.Estate = &e
		d.Laws = picked(asked, d.Laws, func(l law.Law) estate.Origin { return l.Origin })
		d.Exemptions = picked(asked, d.Exemptions, func(x law.Exemption) estate.Origin { return x.Origin })
		d.Expects = picked(asked, d.Expects, func(x law.Expectation) estate.Origin { return x.Origin })
		d.Files = slices.DeleteFunc(slices.Clone(d.Files), func(f *source.File) bool { return !asked.about(f.Name) })
	}
	switch c.String("format") {
	case "json":
		return render.DefinitionsJSON(a.Stdout, d, costs, compiled, a.unread)
	case "text":
		s := a.screen(c)
		render.Definitions(s, d, costs)
		return s.Err()
	}
	return nil // it has been printed already
}

// tellFailures says which groups can't be expressed in their clouds, and why.
// tellAdoptable says how what is there without our mark is adopted, where it is in the way.
func (a *App) tellAdoptable(c *cli.Command, names []string) {
	if len(names) > 0 {
		a.note("there without our mark, and left as it is until it is adopted: %s; %s adopts one, --adopt all what "+
			"is defined", work.Some(names), a.say(c)("draft", "--adopt", names[0]))
	}
}

func (a *App) tellFailures(failures []*compile.Failure) {
	for _, f := range failures {
		fmt.Fprintln(a.Stderr, render.Clean(
			fmt.Sprintf("%s:%d: %s: %s", f.Origin().File, f.Origin().Line, f.Group.Path(), f.Reason)))
	}
}

// bypassed warns of traffic that other groups let through beside the defined ones.
func (a *App) bypassed(w work.World) {
	if w.Survey == nil {
		return // without a survey there are no other groups
	}
	for _, b := range audit.Bypasses(decide.New(w.Estate), audit.IsDefined) {
		text, write := words.Bypass(w.Estate, b), b.Managed()
		if write == "" {
			a.note("%s", text)
			continue
		}
		a.note("%s; to end it, write:", text)
		for line := range strings.Lines(write) {
			fmt.Fprintln(a.Stderr, render.Clean("  "+strings.TrimRight(line, "\n")))
		}
	}
}

// shutProbes warns of balancers whose health probes the definitions refuse: they would take healthy
// instances out of service.
func (a *App) shutProbes(w work.World) {
	if w.Survey == nil {
		return // without a survey there are no balancers
	}
	d := decide.New(w.Estate)
	targets := make(map[string][]string) // by the text of the warning
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
		for _, g := range d.GroupsAt(end.Interface) {
			if g.Defined {
				defined = append(defined, g.Path())
			}
		}
		if why.Verdict != decide.Stopped || len(defined) == 0 {
			continue
		}
		text := fmt.Sprintf("%s shuts out the health probes of %s: it needs a rule such as %s",
			strings.Join(defined, " and "), p.Balancer.Name, wanted)
		if targets[text] == nil {
			order = append(order, text)
		}
		targets[text] = append(targets[text], p.Target.Name)
	}
	for _, text := range order {
		a.note("%s (%s)", text, count.Some(targets[text], 6))
	}
}
