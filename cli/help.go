package cli

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"isonomos/render"
)

// The widths, in columns, of help: that of the window, but at most mostHelp, which is easy to read;
// without a window usualHelp.
const (
	mostHelp  = 100
	plainHelp = 80
)

// helpWidth is the width of help for a window.
func (a *App) helpWidth() int {
	if a.Width == 0 {
		return plainHelp
	}
	return min(a.Width, mostHelp)
}

// exitCodesText says what the exit codes mean.
const exitCodesText = "Exit codes: 0 nothing to report, 1 findings or failed expectations, 2 wrong use or wrong " +
	"input, 3 a file or cloud could not be reached or written, 4 refused because it would not be safe."

// helpText is the help of a command: what it does, how it is called, examples, subcommands, flags.
func helpText(c *cli.Command, name string, root bool, width int) string {
	var b bytes.Buffer
	s := render.NewScreen(&b, width, false)
	title := name + ": " + c.Usage
	if root {
		title = name + " " + c.Version + ": " + c.Usage
	}
	s.Text(0, title)
	s.Blank()
	does := slices.ContainsFunc(c.Flags, func(f cli.Flag) bool { return f.Names()[0] != "help" }) // something by itself
	call := strings.TrimSpace(name + " " + c.ArgsUsage)
	switch {
	case len(c.Commands) > 0 && does && !root:
		call = name + " [COMMAND] [flags]"
	case len(c.Commands) > 0:
		call = name + " COMMAND [flags] [arguments]"
	}
	if !root {
		s.Text(0, "usage: "+call)
		s.Blank()
	}
	describe(s, c.Description)
	if root {
		s.Blank()
		s.Text(0, "usage: "+call)
	}
	if len(c.Commands) > 0 {
		s.Blank()
		s.Text(0, map[bool]string{true: "commands, in the order of the work:", false: "commands:"}[root])
		for _, sub := range c.Commands {
			if !sub.Hidden {
				s.Labelled(2, render.Piece{Text: sub.Name}, 11, render.Piece{Text: sub.Usage})
			}
		}
	}
	if len(c.Commands) == 0 || root || does {
		s.Blank()
		s.Text(0, map[bool]string{true: "flags of every command:", false: "flags:"}[root])
		for _, f := range c.Flags {
			if f.Names()[0] != "help" { // the package may or may not have added it yet
				describeFlag(s, f)
			}
		}
		describeFlag(s, cli.HelpFlag)
	}
	if len(c.Commands) > 0 {
		s.Blank()
		text := name + " COMMAND --help tells more."
		if root {
			text += " " + exitCodesText
		}
		s.Text(0, text)
	}
	return b.String()
}

// inColumns matches a line of a table in a description: a name, blanks, its meaning.
var inColumns = regexp.MustCompile(`^  (\S+) {2,}(\S.*)$`)

// describe lays a description out: it wraps paragraphs, and keeps lines that begin with blanks,
// which are commands to be copied or rows of tables.
func describe(s *render.Screen, text string) {
	var paragraph []string
	flush := func() {
		if len(paragraph) > 0 {
			s.Text(0, strings.Join(paragraph, " "))
			paragraph = nil
		}
	}
	for line := range strings.SplitSeq(text, "\n") {
		table := inColumns.FindStringSubmatch(line)
		switch {
		case strings.TrimSpace(line) == "":
			flush()
			s.Blank()
		case table != nil:
			flush()
			s.Labelled(2, render.Piece{Text: table[1]}, 21, render.Piece{Text: table[2]})
		case strings.HasPrefix(line, "  "):
			flush()
			for _, part := range brokenCommand(line, s.Width()) {
				s.Line(render.Piece{Text: part})
			}
		default:
			paragraph = append(paragraph, line)
		}
	}
	flush()
}

// brokenCommand breaks a command that is wider than the window with backslashes, at blanks outside
// of quotes, so that a shell still takes it as one line.
func brokenCommand(line string, width int) []string {
	var words []string
	quoted := rune(0)
	start := 0
	for i, r := range line {
		switch {
		case quoted != 0:
			if r == quoted {
				quoted = 0
			}
		case r == '"' || r == '\'':
			quoted = r
		case r == ' ' && i > start && strings.TrimSpace(line[start:i]) != "":
			words = append(words, line[start:i])
			start = i
		}
	}
	words = append(words, line[start:])
	var lines []string
	now := ""
	for _, word := range words {
		if now != "" && len(now)+len(word)+2 > width {
			lines = append(lines, now+" \\")
			now = "     "
		}
		now += word
	}
	return append(lines, now)
}

var placeholder = regexp.MustCompile("`([^`]*)`")

func describeFlag(s *render.Screen, f cli.Flag) {
	doc, ok := f.(cli.DocGenerationFlag)
	if !ok {
		return
	}
	label, usage := "--"+f.Names()[0], doc.GetUsage()
	if m := placeholder.FindStringSubmatch(usage); m != nil && doc.TakesValue() {
		label += " " + m[1]
	}
	usage = strings.ReplaceAll(usage, "`", "")
	if value := doc.GetDefaultText(); value != "" && value != `""` && value != "false" && doc.TakesValue() {
		usage += fmt.Sprintf(" (%s unless given)", strings.Trim(value, `"`))
	}
	if vars := doc.GetEnvVars(); len(vars) > 0 {
		usage += fmt.Sprintf(" [environment: %s]", strings.Join(vars, ", "))
	}
	s.Labelled(2, render.Piece{Text: label}, 22, render.Piece{Text: usage})
}
