package render

import (
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
		fmt.Fprintf(&b, "- starts at %s%s\n- example: `%s`\n- fix: %s\n- controls: %s\n", c.Start, MovesWords(c), c.Example, CheckFix(c.Fix), strings.Join(c.Controls, ", "))
	}
	return b.String()
}

const checksHead = "# Checks\n\n" +
	"This page is made from the program's own checks: `isonomos explain CHECK` says the same.\n\n" +
	"All checks speak about traffic, and work alike on definitions, surveys, and definitions on a survey. *Strangers* are public addresses in no list and on no\n" +
	"instance of the estate; *open* is what lets in a sixteenth of them or more, in either address family, by one rule or by the sum of several; *wide* is more\n" +
	"than 65,536 of them (IPv4), or more than one /40 (IPv6). What one rule causes is one finding, named after the worst check that it trips, with the others\n" +
	"beside it. What is said of single rules (a missing reason, say) joins what these rules cause; the rest of a group is told as one.\n\n" +
	"**Severity** starts from the table. It goes up one where the traffic arrives at an instance of `stage = production`, and down one where it arrives nowhere,\n" +
	"and never by more; outward traffic never goes up. A law's own severity does not move. `isonomos audit --why FINGERPRINT` shows the steps.\n\n" +
	"**Exemptions** name a law or a check: `exempt tides/quay/gauge-maintenance from open-admin-port on ssh because \"…\" until 2027-01-31 by \"m.teal\"`. Each exempts\n" +
	"what it names and nothing else: of several checks and laws that one rule trips, those that are not named stay, as bad as they are by themselves, and the finding says\n" +
	"what is exempted. What is exempted as a whole is shown last and counts for nothing; past its end an exemption counts no more and the finding says so; one that\n" +
	"covers nothing is told. `exempt network quay from unfiltered` and `exempt account lab from …` cover what is about no group, too.\n\n" +
	"Groups of subnets, in clouds where subnet **and** instance must admit, are held to the checks of openness only where nothing else filters: the groups of\n" +
	"the instances answer for what gets through both.\n\n"

// MovesWords say how the severity of a check moves, behind where it starts.
func MovesWords(c audit.Check) string {
	if c.Moves == "" {
		return ", and stays"
	}
	return ": " + c.Moves
}
