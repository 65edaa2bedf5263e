package cli

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"isonomos/core/estate"
	"isonomos/render"
)

// commands are all commands of the program. The file of a command adds it in its init function.
var commands []command

type command struct {
	place int // of the command in help: the order of the work
	make  func(*App) *cli.Command
}

// addCommand adds a command to the program.
func addCommand(place int, make func(*App) *cli.Command) {
	commands = append(commands, command{place, make})
	slices.SortFunc(commands, func(a, b command) int { return a.place - b.place })
}

// shared is what every command does before its own action, the last one first: each wraps the
// action and all that stand before it here.
var shared = []func(*App, *cli.Command, cli.ActionFunc) cli.ActionFunc{
	(*App).wholeAnswer, (*App).countArguments, (*App).oneInput, (*App).noEmptyValues,
}

// share adds to a command and its subcommands what all of them share.
func (a *App) share(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error { return usageError(c, err) }
	c.ExitErrHandler = func(context.Context, *cli.Command, error) {}
	c.HideHelpCommand = true
	if c.Action == nil {
		c.Action = chooseSubcommand
	}
	for _, wrap := range shared {
		c.Action = wrap(a, c, c.Action)
	}
	for _, sub := range c.Commands {
		a.share(sub)
	}
}

// chooseSubcommand is the action of a command that only has subcommands.
func chooseSubcommand(ctx context.Context, c *cli.Command) error {
	if !c.Args().Present() {
		return cli.ShowCommandHelp(ctx, c.Root(), c.Name)
	}
	var names []string
	for _, sub := range c.Commands {
		names = append(names, sub.Name)
	}
	last := len(names) - 1
	return usage("%s can't %q: it can %s and %s", c.Name, c.Args().First(), strings.Join(names[:last], ", "),
		names[last])
}

// argumentCount is kept in the metadata of a command that takes only so many arguments.
type argumentCount struct {
	least, most int
	takes       string // what it takes, behind its name in a sentence
	instead     string // an example; of a command without arguments, what to use instead
}

const argumentsKey = "arguments"

// noArguments says in a command's metadata that it takes no arguments, and what to use instead.
func noArguments(instead string) map[string]any {
	return map[string]any{argumentsKey: argumentCount{instead: instead}}
}

// takesArguments says in a command's metadata how many arguments it takes, what they are, and gives
// an example.
func takesArguments(least, most int, takes, example string) map[string]any {
	return map[string]any{argumentsKey: argumentCount{least, most, takes, example}}
}

// countArguments refuses more or fewer arguments than a command takes.
func (a *App) countArguments(c *cli.Command, action cli.ActionFunc) cli.ActionFunc {
	takes, ok := c.Metadata[argumentsKey].(argumentCount)
	if !ok {
		return action
	}
	return func(ctx context.Context, c *cli.Command) error {
		name := strings.TrimPrefix(commandName(c), c.Root().Name+" ")
		switch given := c.Args().Len(); {
		case given > 0 && takes.most == 0:
			return usage("%s takes no argument %q: %s", name, c.Args().First(), takes.instead)
		case given == 0 && takes.least > 0:
			return usage("%s %s: %s", name, takes.takes, takes.instead)
		case given > takes.most, given < takes.least:
			return usage("%s %s, not %d: %s", name, takes.takes, given, takes.instead)
		}
		return action(ctx, c)
	}
}

// noEmptyValues refuses empty flags and arguments: most likely a variable of a script is not set.
func (a *App) noEmptyValues(_ *cli.Command, action cli.ActionFunc) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		for _, f := range slices.Concat(c.Flags, c.Root().Flags) {
			name := f.Names()[0]
			empty := false
			switch f.(type) {
			case *cli.StringFlag:
				empty = strings.TrimSpace(c.String(name)) == ""
			case *cli.StringSliceFlag:
				empty = slices.ContainsFunc(c.StringSlice(name),
					func(text string) bool { return strings.TrimSpace(text) == "" }) || len(c.StringSlice(name)) == 0
			}
			if empty && a.given(name) {
				return usage("the flag --%s is given and empty: it needs a value, or leave it out", name)
			}
		}
		if slices.Contains(c.Args().Slice(), "") {
			return usage("an argument of %s is empty: a variable without a value, perhaps", commandName(c))
		}
		return action(ctx, c)
	}
}

// oneInput refuses standard input for more than one flag or argument: the second would read nothing.
func (a *App) oneInput(_ *cli.Command, action cli.ActionFunc) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		var from []string
		for _, name := range []string{"survey", "flows", "batch", "since", "findings"} {
			if !takes(c, name) {
				continue
			}
			for _, value := range append(c.StringSlice(name), c.String(name)) {
				if value == "-" {
					from = append(from, "--"+name)
				}
			}
		}
		for _, arg := range c.Args().Slice() {
			if arg == "-" {
				from = append(from, "an argument")
			}
		}
		if len(from) > 1 {
			return usage("%s and %s can't both be standard input", from[0], from[1])
		}
		return action(ctx, c)
	}
}

// wholeAnswer makes a command that looks at a survey end with exit code 3 where an account was not
// read, whatever else it finds.
func (a *App) wholeAnswer(c *cli.Command, action cli.ActionFunc) cli.ActionFunc {
	if !takes(c, "survey") || c.Metadata[ownUnreadKey] != nil {
		return action
	}
	c.Flags = append(c.Flags, &cli.StringSliceFlag{Name: "allow-unread",
		Usage: "answer without an `ACCOUNT` or cloud that could not be read (otherwise exit 3)"})
	return func(ctx context.Context, c *cli.Command) error {
		a.unread = nil
		err := action(ctx, c)
		if text := !takes(c, "format") ||
			c.String("format") == "text"; text && !c.Bool("diff") && c.String("batch") == "" {
			render.NotRead(a.screen(c), a.unread)
		}
		return a.unlessUnread(c, err)
	}
}

const ownUnreadKey = "unread"

// ownUnread says in the metadata of a command that reads a survey that it decides itself what to do
// where an account was not read.
func ownUnread(metadata map[string]any) map[string]any {
	metadata[ownUnreadKey] = true
	return metadata
}

// unlessUnread is err, unless accounts were not read: then it is the error of an incomplete answer.
func (a *App) unlessUnread(c *cli.Command, err error) error {
	allowed := c.StringSlice("allow-unread")
	var missing, names []string // of accounts and clouds
	for _, u := range a.unread {
		name := cmp.Or(u.Account, u.Cloud)
		if !slices.Contains(allowed, name) && !slices.Contains(names, name) {
			missing, names = append(missing, u.Name()), append(names, name)
		}
	}
	for _, name := range allowed {
		if !slices.ContainsFunc(a.unread, func(u estate.Unread) bool { return cmp.Or(u.Account, u.Cloud) == name }) {
			a.note("--allow-unread %s: no account or cloud of that name is unread", name)
		}
	}
	var f *failure
	if len(missing) == 0 || err != nil && !(errors.As(err, &f) && f.code == exitFindings) {
		return err
	}
	return unreachable("the answer is not whole: %s could not be read, so nothing is known there. Survey again, "+
		"or say that it may be so: --allow-unread %s", strings.Join(missing, ", "), strings.Join(names, ","))
}
