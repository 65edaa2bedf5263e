// Package law holds what an estate is tested against: expectations, for now.
package law

import (
	"isonomos/core/estate"
	"isonomos/core/service"
)

// An Expectation says that some traffic passes or does not, over the whole path.
type Expectation struct {
	Text     string // as it is written, on one line
	Because  string
	Origin   estate.Origin
	Only     bool // From can, and nobody else can
	Can      bool // must pass; else must not
	From, To Side
	Services service.Set
	Words    string // the services as written
}

// A Side is one side of an expectation.
type Side struct {
	Of     []estate.Peer
	Except []estate.Peer
}

// Rebase carries expectations over to another estate: rebase maps peers to its parts.
func Rebase(expectations []Expectation, rebase func([]estate.Peer) []estate.Peer) []Expectation {
	moved := make([]Expectation, len(expectations))
	for i, x := range expectations {
		x.From = Side{rebase(x.From.Of), rebase(x.From.Except)}
		x.To = Side{rebase(x.To.Of), rebase(x.To.Except)}
		moved[i] = x
	}
	return moved
}
