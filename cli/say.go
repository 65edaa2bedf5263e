package cli

import (
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"isonomos/render"
)

// inUse are the flags that say what a command looks at, in the order in which a printed command has
// them. Values that come from the environment or a default are left out: they will be the same next
// time.
var inUse = []string{"estate", "survey", "live", "flows", "table", "query", "database", "column", "window", "store"}

// say writes a command to be pasted: as it was called here, with the flags of inUse that it takes.
func (a *App) say(c *cli.Command) render.Say {
	return func(words ...string) string {
		text := "isonomos"
		command := c.Root()
		for _, w := range words {
			text += " " + render.Quoted(w)
			if sub := command.Command(w); sub != nil {
				command = sub
			}
		}
		for _, name := range inUse {
			if !a.given(name) || slices.Contains(words, "--"+name) || !takes(command, name) {
				continue
			}
			for _, value := range values(c, name) {
				text += " --" + name + value
			}
		}
		return text
	}
}

// takes reports whether a command has a flag.
func takes(c *cli.Command, name string) bool {
	return slices.ContainsFunc(c.Flags, func(f cli.Flag) bool { return slices.Contains(f.Names(), name) })
}

// values are the values of a flag, quoted for a shell.
func values(c *cli.Command, name string) []string {
	i := slices.IndexFunc(c.Flags, func(f cli.Flag) bool { return slices.Contains(f.Names(), name) })
	if i < 0 {
		return nil
	}
	switch c.Flags[i].(type) {
	case *cli.BoolFlag:
		if !c.Bool(name) {
			return nil
		}
		return []string{""}
	case *cli.StringSliceFlag:
		var all []string
		for _, value := range c.StringSlice(name) {
			all = append(all, " "+render.Quoted(value))
		}
		return all
	}
	if value := c.String(name); !strings.HasPrefix(value, "-") || value == "-" {
		return []string{" " + render.Quoted(value)}
	}
	return []string{"=" + render.Quoted(c.String(name))}
}
