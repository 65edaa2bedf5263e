package enact

import (
	"slices"
	"strings"
)

// Kinds of promises.
const (
	PromisedByLaw    = "law"
	AllowedByLaw     = "only" // by a line that begins with only
	PromisedByExpect = "expect"
	Exempted         = "exemption"
	Lendable         = "lend"
)

// A Promise is something that definitions promise beside traffic, or take back.
type Promise struct {
	Kind   string `json:"kind"` // one of the above
	Key    string `json:"key"`  // two of a kind and key are the same; of a law it begins with its name and a colon
	Text   string `json:"text"`
	Extent int64  `json:"extent,omitempty"` // of an exemption its end, of lending the longest time, in seconds
}

// PromisedBy are the promises of the definitions that were carried out last; nil if none were.
func PromisedBy(pasts []*Past) []Promise {
	for _, p := range slices.Backward(pasts) {
		if p.Draft.Repeals == "" && len(p.Draft.Passes) == 0 && p.Draft.Upholds == nil && p.complete() {
			return p.Draft.Promises
		}
	}
	return nil
}

// Weaker says which promises are weaker than before: lines of laws and expectations that are gone, exemptions and
// lending that are new or go further, and what a law allows beside what it allowed. If before is nil, there is
// nothing to be weaker than.
func Weaker(before, after []Promise) []string {
	weaker := []string{}
	if before == nil {
		return weaker
	}
	type name struct{ kind, key string }
	was, is := make(map[name]Promise), make(map[name]bool)
	allowing := make(map[string]bool) // laws that allowed something before, and nothing else
	for _, p := range before {
		was[name{p.Kind, p.Key}] = p
		if p.Kind == AllowedByLaw {
			allowing[p.law()] = true
		}
	}
	for _, p := range after {
		is[name{p.Kind, p.Key}] = true
	}
	for _, p := range before {
		kept := p.Kind == PromisedByLaw || p.Kind == AllowedByLaw || p.Kind == PromisedByExpect
		if kept && !is[name{p.Kind, p.Key}] {
			weaker = append(weaker, "no longer: "+p.Text)
		}
	}
	for _, p := range after {
		old, there := was[name{p.Kind, p.Key}]
		switch {
		case p.Kind == AllowedByLaw && !there && allowing[p.law()]:
			weaker = append(weaker, "allowed too: "+p.Text)
		case p.Kind != Exempted && p.Kind != Lendable:
		case !there:
			weaker = append(weaker, "new "+p.Kind+": "+p.Text)
		case p.Extent > old.Extent:
			weaker = append(weaker, "longer "+p.Kind+": "+p.Text+" (before: "+old.Text+")")
		}
	}
	return weaker
}

func (p Promise) law() string {
	law, _, _ := strings.Cut(p.Key, ":")
	return law
}
