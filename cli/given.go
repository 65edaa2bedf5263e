package cli

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
)

// The functions of this file see to it that nothing given on the command line is silently ignored:
// empty values, and flags that contradict each other, are usage errors.

// given reports whether a flag is on the command line. A value from the environment does not count.
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

// arguments stands for a command's arguments in lists of flag names.
const arguments = "arguments"

// oneWay refuses more than one of several flags (or arguments) that are different ways to say the
// same.
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

// onlyWith refuses flags that mean nothing without another one.
func (a *App) onlyWith(c *cli.Command, other string, names ...string) error {
	if c.Bool(other) {
		return nil
	}
	for _, name := range names {
		if a.given(name) && !isFalse(c, name) {
			return usage("--%s picks from what --%s finds: give both", name, other)
		}
	}
	return nil
}

// without refuses flags that are of no use beside another one.
func (a *App) without(c *cli.Command, one string, names ...string) error {
	for _, name := range names {
		if err := a.oneWay(c, one, name); err != nil {
			return err
		}
	}
	return nil
}

// surveyFile is the survey that the flags or the environment name. It is empty where the clouds
// themselves are looked at.
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

// notOfEnvironment notes that the command line takes precedence where the environment names another
// folder.
func (a *App) notOfEnvironment(named string) {
	if variable := a.fromEnvironment("estate"); variable != "" &&
		filepath.Clean(os.Getenv(variable)) != filepath.Clean(named) {
		a.note("looking at %s, not at %s (%s)", named, os.Getenv(variable), variable)
	}
}

// fromEnvironment is the name of the environment variable that gives a flag its value, or "".
func (a *App) fromEnvironment(flag string) string {
	variable := "ISONOMOS_" + strings.ToUpper(flag)
	if os.Getenv(variable) == "" || a.given(flag) {
		return ""
	}
	return variable
}

// A variable is an environment variable that gives a flag its value. One that is empty counts as
// not set.
type variable string

// fromVariable makes a flag take its value from an environment variable.
func fromVariable(name string) cli.ValueSourceChain { return cli.NewValueSourceChain(variable(name)) }

// Lookup returns the variable's value, if it is set.
func (v variable) Lookup() (string, bool) {
	value := os.Getenv(string(v))
	return value, value != ""
}

// String names the variable in messages.
func (v variable) String() string { return "the environment variable " + string(v) }

// GoString names the variable in a debugger.
func (v variable) GoString() string { return "variable(" + string(v) + ")" }

// IsFromEnv is true, so that help names the variable.
func (v variable) IsFromEnv() bool { return true }

// Key is the variable's name.
func (v variable) Key() string { return string(v) }
