package audit

import "isonomos/core/estate"

// A Remedy does away with a finding. It is something that the program can do to a target, or
// something that a person has to do, in words. The remedy of a check has no target: it applies to
// whatever the check finds.
type Remedy struct {
	Kind   RemedyKind
	Target string // full name of a group, or of an account for Survey; may be empty
	Words  string // what to do, or what to add to what the program does
}

// RemedyKind says who does away with a finding, and how.
type RemedyKind uint8

// The kinds of remedy.
const (
	Edit   RemedyKind = iota // somebody does what the words say
	Narrow                   // the rules of the target are narrowed
	Draft                    // the definitions are carried out
	Adopt                    // the target becomes a definition; then what the words say
	Survey                   // the target, an account, is surveyed again
	Shut                     // passes that are over are shut
)

func inWords(words string) Remedy { return Remedy{Words: words} }

// edited is an edit of a group's definition. A group without one is adopted first, also the built-in default group
// of a network; others that are built in can't be.
func edited(g *estate.Group, words string) Remedy {
	if g.Defined || g.Ours() || g.BuiltIn && (!g.Default || g.For != estate.ForInstances) {
		return Remedy{Words: words}
	}
	return Remedy{Kind: Adopt, Target: g.Path(), Words: "then " + words}
}
