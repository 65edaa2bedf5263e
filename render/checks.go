package render

import (
	_ "embed"
	"fmt"
	"strings"

	"isonomos/core/audit"
)

// ChecksMarkdown is docs/checks.md: all checks, as they describe themselves.
func ChecksMarkdown() string {
	var b strings.Builder
	b.WriteString(checksHead)
	b.WriteString("| check | finds that … | starts at |\n|---|---|---|\n")
	for _, c := range audit.Checks {
		fmt.Fprintf(&b, "| [`%s`](#%s) | %s | %s |\n", c.Name, c.Name, c.About, c.Start)
	}
	b.WriteString("| `law:NAME` | a law of the definitions is not kept | the law's own, else medium |\n")
	for _, c := range audit.Checks {
		fmt.Fprintf(&b, "\n## %s\n\n%s\n\n", c.Name, c.Doc)
		fmt.Fprintf(&b, "- starts at %s%s\n- example: `%s`\n- fix: %s\n- controls: %s\n", c.Start, MovesWords(c),
			c.Example, CheckFix(c.Fix), strings.Join(c.Controls, ", "))
	}
	return b.String()
}

// checksHead is what the page of checks says before its table.
//
//go:embed checks_head.md
var checksHead string

// MovesWords say how the severity of a check moves. They follow the severity at which it starts.
func MovesWords(c audit.Check) string {
	if c.Moves == "" {
		return ", and stays"
	}
	return ": " + c.Moves
}
