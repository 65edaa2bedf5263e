package work

import (
	"isonomos/core/change"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/enact"
	"isonomos/nomos"
)

// A Side is one of two states to compare: definitions or a survey.
type Side struct {
	Definitions *nomos.Definitions
	Survey      *estate.Estate
}

// A Comparison is how two states differ.
type Comparison struct {
	Difference change.Difference
	After      *estate.Estate
	Notes      []string // what can't be known without a survey
	Misfits    []string // where definitions don't match the survey
	Weaker     []string // laws, expectations, exemptions and lending, of two sets of definitions
}

// Compare compares two sides. Definitions are seen as they will be once they are carried out on a
// survey; without one (nil), made-up members stand for those of their groups.
func Compare(before, after Side, survey *estate.Estate) Comparison {
	var c Comparison
	seenOn := func(s Side) *estate.Estate {
		if s.Survey != nil {
			return s.Survey
		}
		w := NewWorld(*s.Definitions, survey)
		c.Misfits = append(c.Misfits, w.Notes...)
		return w.Estate
	}
	if before.Definitions != nil && after.Definitions != nil {
		c.Weaker = enact.Weaker(Promises(*before.Definitions), Promises(*after.Definitions))
	}
	was, is := seenOn(before), seenOn(after)
	c.After = is
	if survey == nil {
		c.Difference, c.Notes = change.CompareDefinitions(was, is)
	} else {
		c.Difference = change.Compare(decide.New(was), decide.New(is))
	}
	return c
}
