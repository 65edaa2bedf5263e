package audit

import "isonomos/core/estate"

// A Remedy is what does away with a finding: something that the program can do to a
// target, or what somebody has to do, in words. Of a check, the target is whatever is found.
type Remedy struct {
	Kind   RemedyKind
	Target string // full name of the group; empty where there is none
	Words  string // what to do; or what there is to say beside what the program does
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
)

func inWords(words string) Remedy { return Remedy{Words: words} }

// edited is an edit of a group's definition. What is only surveyed has none yet.
func edited(g *estate.Group, words string) Remedy {
	if g.Defined || g.Ours() || g.BuiltIn {
		return Remedy{Words: words}
	}
	return Remedy{Kind: Adopt, Target: g.Path(), Words: "then " + words}
}
