// Package law proves and judges statements about an estate: expectations, laws, and exemptions from
// them.
package law

import (
	"time"

	"isonomos/core/estate"
	"isonomos/core/service"
)

// An Expectation says that certain traffic passes, or that it does not, over the whole path.
type Expectation struct {
	Text     string // as written, on one line
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

// Rebase translates expectations to another estate: rebase maps peers to its parts.
func Rebase(expectations []Expectation, rebase func([]estate.Peer) []estate.Peer) []Expectation {
	moved := make([]Expectation, len(expectations))
	for i, x := range expectations {
		x.From = Side{rebase(x.From.Of), rebase(x.From.Except)}
		x.To = Side{rebase(x.To.Of), rebase(x.To.Except)}
		moved[i] = x
	}
	return moved
}

// RebaseLaws translates laws to another estate.
func RebaseLaws(laws []Law, rebase func([]estate.Peer) []estate.Peer) []Law {
	move := func(openings []Opening) []Opening {
		moved := make([]Opening, len(openings))
		for i, o := range openings {
			o.Peers = Side{rebase(o.Peers.Of), rebase(o.Peers.Except)}
			moved[i] = o
		}
		return moved
	}
	moved := make([]Law, len(laws))
	for i, l := range laws {
		l.Never, l.Only = move(l.Never), move(l.Only)
		moved[i] = l
	}
	return moved
}

// A Law is a rule about the rules of groups, defined or surveyed.
type Law struct {
	Name     string
	Title    string
	Origin   estate.Origin
	Over     *estate.Condition // which groups it is about; nil means all
	Never    []Opening
	Only     []Opening
	Always   []string     // "because", "until", "text"
	Labels   []string     // that every group it is about must have
	Severity string       // empty means the check's own
	Controls []string     // numbers in the standards that it serves
	Enforced *Enforcement // nil if it is only told what breaches it
}

// An Enforcement says how what breaches a law is shut.
type Enforcement struct {
	After time.Duration // how long a breach has to stand
	Whole bool          // a rule may be taken out whole where the rest of it can't be said
}

// An Opening is traffic, or lending, that a law forbids or allows exclusively.
type Opening struct {
	Lend      bool
	Direction estate.Direction
	Services  service.Set
	Words     string
	Peers     Side
	MoreThan  time.Duration // of lending: only longer ceilings count
	Origin    estate.Origin
}

// An Exemption is an exception from a law or check, until its end.
type Exemption struct {
	Kind     string // "account", "network", "group"
	Subject  string // full name
	Law      string
	Services service.Set // all services if the exemption names none
	Because  string
	Until    time.Time
	By       string
	Origin   estate.Origin
}
