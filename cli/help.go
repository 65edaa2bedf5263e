package cli

// The help templates: what it does, how it is called, examples, flags.
const (
	rootHelp = `isonomos {{.Version}}: {{.Usage}}

{{.Description}}

usage: isonomos COMMAND [flags] [arguments]

commands, in the order of the work:
{{range .VisibleCommands}}  {{printf "%-10s" .Name}} {{.Usage}}
{{end}}
flags of every command:
{{range .VisibleFlags}}  {{.}}
{{end}}
isonomos COMMAND --help tells more. Exit codes: 0 nothing to report, 1 findings or failed
expectations, 2 wrong use or wrong input, 3 a file or cloud could not be reached or written.
`
	commandHelp = `isonomos {{.Name}}: {{.Usage}}

usage: isonomos {{.Name}} {{.ArgsUsage}}

{{.Description}}

flags:
{{range .VisibleFlags}}  {{.}}
{{end}}`
)
