package propose

import (
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// A State is which state of the clouds is judged.
type State string

// The states.
const (
	Found   State = "found"   // as the survey, or the live cloud, has it
	Defined State = "defined" // as it will be once the definitions are carried out
	Both    State = "both"
)

// A Judged is one state with all that is judged over it.
type Judged struct {
	State   State
	Estate  *estate.Estate
	Expects []law.Expectation
	Laws    []law.Law
}

// States are the states that there are: without a survey only what is defined, without
// definitions only what was found.
func (w World) States() []State {
	switch {
	case w.Survey == nil:
		return []State{Defined}
	case w.Estate == w.Survey:
		return []State{Found}
	}
	return []State{Found, Defined}
}

// As is one of the states.
func (w World) As(state State) Judged {
	if state == Defined || w.Survey == nil || w.Estate == w.Survey {
		return Judged{state, w.Estate, w.Expects, w.Laws}
	}
	e, rebase := estate.AsFound(w.Definitions.Estate, w.Survey)
	lendReasons(e, w.Estate)
	return Judged{Found, e, law.Rebase(w.Definitions.Expects, rebase), law.RebaseLaws(w.Definitions.Laws, rebase)}
}

// lendReasons gives rules that were found, and that definitions also contain, the
// place, reason and end that the definitions say.
func lendReasons(found, defined *estate.Estate) {
	byPath := make(map[string]*estate.Group)
	for _, g := range defined.Groups {
		if g.Defined {
			byPath[string(g.For)+" "+g.Path()] = g
		}
	}
	var ours []*estate.Group
	for _, g := range found.Groups {
		if g.Ours() && byPath[string(g.For)+" "+g.Path()] != nil {
			ours = append(ours, g)
		}
	}
	there, then := decide.New(found), decide.New(defined)
	var next atomic.Int64
	var workers sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		there, then := there.Fork(), then.Fork()
		workers.Go(func() {
			for {
				i := int(next.Add(1)) - 1
				if i >= len(ours) {
					return
				}
				g := ours[i]
				lendTo(there, g, then, byPath[string(g.For)+" "+g.Path()])
			}
		})
	}
	workers.Wait()
}

func lendTo(there *decide.Decider, g *estate.Group, then *decide.Decider, definition *estate.Group) {
	sets := make([]traffic.Set, len(definition.Rules)) // worked out where they are asked for
	known := make([]bool, len(definition.Rules))
	for i := range g.Rules {
		r := &g.Rules[i]
		own := there.RuleTraffic(g, r)
		if own.IsEmpty() {
			continue
		}
		services := service.Of(r.Services...)
		for k := range definition.Rules {
			from := &definition.Rules[k]
			if from.Direction != r.Direction || from.Action != r.Action || !services.SubsetOf(service.Of(from.Services...)) {
				continue
			}
			if !known[k] {
				sets[k], known[k] = then.RuleTraffic(definition, from), true
			}
			if own.SubsetOf(sets[k]) {
				r.Origin, r.Through, r.Until = from.Origin, from.Through, from.Until
				r.Named = !slices.ContainsFunc(from.Peers, func(p estate.Peer) bool { return p.Kind == estate.PeerRange })
				if r.Description == "" {
					r.Description = from.Description
				}
				break
			}
		}
	}
}
