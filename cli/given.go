package cli

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
)

// What is given on the command line is taken at its word: an empty value, and flags that
// contradict each other, are wrong use. Nothing that was given is silently left out.

// given reports whether a flag stands on the command line; that an environment variable
// gives it does not count.
func (a *App) given(name string) bool {
	for _, arg := range a.args {
		if arg == "--" {
			return false
		}
		word, _, _ := strings.Cut(arg, "=")
		if word == "--"+name || word == "-"+name {
			return true
		}
	}
	return false
}

// strictly lets a command refuse empty values before it does anything.
func (a *App) strictly(c *cli.Command) {
	for _, sub := range c.Commands {
		a.strictly(sub)
	}
	if c.Action == nil {
		return
	}
	action := c.Action
	c.Action = func(ctx context.Context, c *cli.Command) error {
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
		if err := oneInput(c); err != nil {
			return err
		}
		return action(ctx, c)
	}
}

// oneInput refuses to read several things from standard input: the second would be empty.
func oneInput(c *cli.Command) error {
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
	return nil
}

// arguments stands for a command's arguments among the names of its flags.
const arguments = "arguments"

// oneWay refuses flags (or arguments) that are different ways to say what a command is to do.
func (a *App) oneWay(c *cli.Command, names ...string) error {
	var given []string
	for _, name := range names {
		switch {
		case name == arguments && c.Args().Present():
			given = append(given, c.Args().First())
		case name != arguments && a.given(name) && !isFalse(c, name):
			given = append(given, "--"+name)
		}
	}
	if len(given) > 1 {
		return usage("%s and %s contradict each other: leave one out", given[0], given[1])
	}
	return nil
}

// isFalse reports whether a flag is given as false: --all=false.
func isFalse(c *cli.Command, name string) bool {
	for _, f := range c.Flags {
		if _, ok := f.(*cli.BoolFlag); ok && slices.Contains(f.Names(), name) {
			return !c.Bool(name)
		}
	}
	return false
}

// onlyWith refuses flags that say nothing without another one.
func (a *App) onlyWith(c *cli.Command, other string, names ...string) error {
	if c.Bool(other) {
		return nil
	}
	for _, name := range names {
		if a.given(name) && !isFalse(c, name) {
			return usage("--%s picks from what --%s finds, and stands only with it", name, other)
		}
	}
	return nil
}

// without refuses flags beside one that has no use for them.
func (a *App) without(c *cli.Command, one string, names ...string) error {
	for _, name := range names {
		if err := a.oneWay(c, one, name); err != nil {
			return err
		}
	}
	return nil
}

// surveyFile is the survey that flags or the environment name, or nothing where the
// clouds themselves are looked at.
func (a *App) surveyFile(c *cli.Command) (string, error) {
	if err := a.oneWay(c, "live", "survey"); err != nil {
		return "", err
	}
	file := c.String("survey")
	if file != "" && c.Bool("live") {
		a.note("looking at the clouds themselves (--live), not at the survey %s (ISONOMOS_SURVEY)", file)
		return "", nil
	}
	return file, nil
}

// notOfEnvironment says that what is named on the command line counts, where the
// environment names another folder.
func (a *App) notOfEnvironment(named string) {
	if variable := a.fromEnvironment("estate"); variable != "" &&
		filepath.Clean(os.Getenv(variable)) != filepath.Clean(named) {
		a.note("looking at %s, not at %s (%s)", named, os.Getenv(variable), variable)
	}
}

// fromEnvironment is the environment variable that gives a flag its value, or "".
func (a *App) fromEnvironment(flag string) string {
	variable := "ISONOMOS_" + strings.ToUpper(flag)
	if os.Getenv(variable) == "" || a.given(flag) {
		return ""
	}
	return variable
}

// A variable of the environment is where a flag's value comes from that is not given. An
// empty one is none.
type variable string

// fromVariable is the source of a flag's value.
func fromVariable(name string) cli.ValueSourceChain { return cli.NewValueSourceChain(variable(name)) }

// Lookup is the variable's value, if it has one.
func (v variable) Lookup() (string, bool) {
	value := os.Getenv(string(v))
	return value, value != ""
}

// String names the variable for messages.
func (v variable) String() string { return "the environment variable " + string(v) }

// GoString names the variable for programmers.
func (v variable) GoString() string { return "variable(" + string(v) + ")" }

// IsFromEnv is true: help tells of it.
func (v variable) IsFromEnv() bool { return true }

// Key is the variable's name.
func (v variable) Key() string { return string(v) }
