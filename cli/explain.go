package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"isonomos/core/audit"
	"isonomos/core/dialect"
	"isonomos/core/near"
	"isonomos/core/service"
	"isonomos/nomos/manual"
	"isonomos/render"
)

func init() { addCommand(160, (*App).explainCommand) }

func (a *App) explainCommand() *cli.Command {
	return &cli.Command{
		Name:      "explain",
		Usage:     "what a command, keyword, service, check, dialect, message, setting or exit code is",
		ArgsUsage: "[WORD | MESSAGE]",
		Description: "Explains a command, a word of the language, a service, a check, a dialect or the exit " +
			"codes, with an\n" +
			"example; or a message about definitions, which you can paste as it is. Without an argument it lists " +
			"all\n" +
			"that it knows.\n\n" +
			"  isonomos explain lend\n" +
			"  isonomos explain audit\n" +
			"  isonomos explain open-admin-port\n" +
			"  isonomos explain postgres\n" +
			"  isonomos explain settings --estate harbour\n" +
			"  isonomos explain \"the range 10.1.2.3/8 has host bits set\"",
		Flags:  []cli.Flag{estateFlag()},
		Action: a.explain,
	}
}

// An article explains one thing that can be looked up.
type article struct{ kind, name, text, example string }

// articles are all things that can be looked up, by name.
func articles() []article {
	var all []article
	for _, k := range manual.Keywords {
		x := article{"keyword", k.Name, k.Text, k.Example}
		if k.Name == "icmp" || k.Name == "icmpv6" {
			protocol, _ := service.ParseProtocol(k.Name)
			x.example += "\n\nThe types that have a name:\n" + strings.Join(service.ICMPList(protocol), "\n")
		}
		all = append(all, x)
	}
	for _, c := range audit.Checks {
		all = append(all, article{"check", c.Name,
			c.About + " (starts at " + c.Start.String() + render.MovesWords(c) + "). " +
				strings.ReplaceAll(c.Doc, "\n", " ") + " Controls: " + strings.Join(c.Controls, ", ") + ".",
			"example   " + c.Example + "\nfix       " + render.CheckFix(c.Fix)})
	}
	for _, n := range service.Builtin {
		text := n.About + ": " + n.Set().String()
		if len(n.Classes) > 0 {
			text += "; class " + strings.Join(n.Classes, ", ")
		}
		all = append(all, article{"service", n.Name, text, "admit " + n.Name + " from list pilot-stations"})
	}
	for _, d := range dialect.All {
		all = append(all, article{"dialect", d.Name, dialectText(d), "cloud northmere {\n  dialect " + d.Name + "\n}"})
	}
	for _, m := range manual.Messages {
		all = append(all, article{"message", m.Name, m.Text, m.Example})
	}
	all = append(all, article{"settings", "settings", "", ""})
	return append(all, article{"exit codes", "exit", "what a command's exit code means",
		"0  nothing to report\n1  findings, differences, expectations that do not hold, groups over quota\n2  " +
			"wrong use or wrong input\n3  a file or cloud could not be reached or written\n4  refused because it " +
			"would not be safe"})
}

// dialectText says how a kind of cloud decides, and what its limits are.
func dialectText(d dialect.Dialect) string {
	layers := map[dialect.Layers]string{
		dialect.BothMustAdmit: "Traffic passes two layers, the groups of the interface and those of its subnet, " +
			"and both must admit it; " +
			"within one subnet only the first counts.",
		dialect.EitherMayAdmit: "The groups of an interface and those of its subnet are two layers, and an " +
			"admission in either is enough: " +
			"what a subnet's group does not let through, a group inside it may. So connect writes into the " +
			"groups of the instances alone, " +
			"follow instances needs no rule, and a group for subnets that lets less through than a group inside " +
			"it is a mistake. " +
			"A subnet without a group has a built-in list, which admits ssh from everywhere and everything out, " +
			"also beside the groups of its instances.",
		dialect.InstancesOnly: "There is one layer, the groups of the interface; subnets have no groups.",
	}[d.Layers]
	text := strings.ToUpper(d.About[:1]) + d.About[1:] + ". " + layers
	var most []string
	for _, x := range []struct {
		n     int
		one   string
		many  string
		where string
	}{{d.GroupsPerInterface, "group", "groups", "on an interface"}, {d.GroupsPerSubnet, "group", "groups",
		"on a subnet"},
		{d.RulesPerDirection, "rule", "rules", "in each direction of a group"},
		{d.RulesPerGroup, "rule", "rules", "in a group"},
		{d.SubnetRules, "rule", "rules", "in each direction of a subnet's group"}} {
		if x.n > 0 {
			most = append(most, render.Count(x.n, x.one, x.many)+" "+x.where)
		}
	}
	if len(most) > 0 {
		text += " At most " + strings.Join(most, ", ") + "."
	}
	if ranks := d.Instances.Ranks; ranks[1] > 0 {
		text += fmt.Sprintf(" Ranks go from %d to %d; fixed rules stand behind them.", ranks[0], ranks[1])
	}
	return text + " An account's limit overrides these numbers."
}

func (a *App) explain(_ context.Context, c *cli.Command) error {
	s := a.screen(c)
	all := articles()
	if !c.Args().Present() {
		s.Labelled(0, render.Piece{Text: "command", Style: render.Strong}, 12,
			render.Piece{Text: strings.Join(commandNames(c.Root(), ""), ", ")})
		listArticles(s, all)
		return s.Err()
	}
	word := strings.Join(c.Args().Slice(), " ")
	if word == "settings" {
		return a.explainSettings(c, s)
	}
	if a.given("estate") {
		return usage("--estate picks whose settings are shown: isonomos explain settings")
	}
	found := false
	for _, x := range all {
		if x.name == word || word == "exit codes" && x.name == "exit" {
			if found {
				s.Blank()
			}
			showArticle(s, x)
			found = true
		}
	}
	if command := commandOf(c.Root(), word); command != nil {
		if found {
			s.Blank()
		}
		s.Line(render.Piece{Text: word, Style: render.Accent}, render.Piece{Text: "  command", Style: render.Faint})
		a.showHelp(s, helpText(command, "isonomos "+word, false, s.Width()-2))
		found = true
	}
	if m, ok := manual.MessageOf(word); ok && !found {
		showArticle(s, article{"message", m.Name, m.Text, m.Example})
		found = true
	}
	if found {
		return s.Err()
	}
	names := commandNames(c.Root(), "")
	for _, x := range all {
		names = append(names, x.name)
	}
	if best := near.Several(word, names, 3); len(best) > 0 {
		return usage("nothing is known of %q: near are %s", word, strings.Join(best, ", "))
	}
	return usage("nothing is known of %q: isonomos explain lists what is", word)
}

// commandOf finds a command by the words of its name: audit, or flows add.
func commandOf(root *cli.Command, words string) *cli.Command {
	command := root
	for word := range strings.FieldsSeq(words) {
		if command = command.Command(word); command == nil {
			return onlySubcommand(root, words)
		}
	}
	if command == root {
		return nil
	}
	return command
}

// onlySubcommand is the one subcommand of a name, or nil.
func onlySubcommand(root *cli.Command, name string) *cli.Command {
	var only *cli.Command
	for _, c := range root.Commands {
		if sub := c.Command(name); sub != nil {
			if only != nil {
				return nil
			}
			only = sub
		}
	}
	return only
}

// commandNames are the names of all commands, each followed by its subcommands.
func commandNames(c *cli.Command, before string) []string {
	var names []string
	for _, sub := range c.Commands {
		names = append(append(names, before+sub.Name), commandNames(sub, before+sub.Name+" ")...)
	}
	return names
}

// showHelp prints the help of a command behind its name.
func (a *App) showHelp(s *render.Screen, text string) {
	for line := range strings.Lines(text) {
		s.Line(render.Piece{Text: strings.TrimRight("  "+line, "\n")})
	}
}

func showArticle(s *render.Screen, x article) {
	s.Line(render.Piece{Text: x.name, Style: render.Accent}, render.Piece{Text: "  " + x.kind, Style: render.Faint})
	s.Text(2, x.text)
	s.Blank()
	for line := range strings.Lines(x.example) {
		s.Line(render.Piece{Text: "  " + strings.TrimRight(line, "\n")})
	}
}

func listArticles(s *render.Screen, all []article) {
	kinds := []string{"keyword", "check", "service", "dialect", "message", "exit codes", "settings"}
	for _, kind := range kinds {
		var names []string
		for _, x := range all {
			if x.kind == kind {
				names = append(names, x.name)
			}
		}
		s.Labelled(0, render.Piece{Text: kind, Style: render.Strong}, 12, render.Piece{Text: strings.Join(names, ", ")})
	}
}
