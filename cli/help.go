package cli

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"

	"github.com/urfave/cli/v3"

	"isonomos/render"
)

// helpWidth is the width that help is laid out for.
const helpWidth = 100

// The help templates: what it does, how it is called, examples, flags. Flags
// are laid out beforehand, wrapped.
const (
	rootHelp = `isonomos {{.Version}}: {{.Usage}}

{{.Description}}

usage: isonomos COMMAND [flags] [arguments]

commands, in the order of the work:
{{range .VisibleCommands}}  {{printf "%-10s" .Name}} {{.Usage}}
{{end}}
flags of every command:
FLAGS
isonomos COMMAND --help tells more. Exit codes: 0 nothing to report, 1 findings or failed
expectations, 2 wrong use or wrong input, 3 a file or cloud could not be reached or written, 4 refused
because it would not be safe.
`
	commandHelp = `{{.FullName}}: {{.Usage}}

usage: {{.FullName}} {{.ArgsUsage}}

{{.Description}}

flags:
FLAGS`
	familyHelp = `{{.FullName}}: {{.Usage}}

usage: {{.FullName}} COMMAND [flags] [arguments]

{{.Description}}

commands:
{{range .VisibleCommands}}  {{printf "%-10s" .Name}} {{.Usage}}
{{end}}
{{.FullName}} COMMAND --help tells more.
`
)

// helpTemplate is a template with the command's flags in it.
func helpTemplate(template string, c *cli.Command) string {
	var b bytes.Buffer
	s := render.NewScreen(&b, helpWidth, false)
	for _, f := range append(append([]cli.Flag{}, c.Flags...), cli.HelpFlag) {
		describeFlag(s, f)
	}
	return strings.Replace(template, "FLAGS", strings.TrimRight(b.String(), "\n")+"\n", 1)
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
