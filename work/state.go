package work

import (
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/narrow"
	"isonomos/core/pass"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// A State says which state of the clouds is judged.
type State string

// The states.
const (
	Found   State = "found"   // as the survey or the live clouds are
	Defined State = "defined" // as it will be once the definitions are carried out
	Both    State = "both"
)

// A Judged is one state, with the laws, expectations and exemptions that are judged on it.
type Judged struct {
	State   State
	Estate  *estate.Estate
	Expects []law.Expectation
	Laws    []law.Law
}

// States are the states that exist: without a survey only Defined, without definitions only Found.
func (w World) States() []State {
	switch {
	case w.Survey == nil:
		return []State{Defined}
	case w.Estate == w.Survey:
		return []State{Found}
	}
	return []State{Found, Defined}
}

// Differ reports whether the two states can differ: the definitions define groups, or lists that
// the clouds have too. Laws and expectations don't change a state.
func (w World) Differ() bool {
	return slices.ContainsFunc(w.Definitions.Estate.Groups, func(g *estate.Group) bool { return !g.Existing }) ||
		slices.ContainsFunc(w.Definitions.Estate.Lists, func(l *estate.List) bool {
			return slices.ContainsFunc(w.Survey.Lists,
				func(x *estate.List) bool { return x.Owner == "own" && x.Name == l.Name })
		})
}

// As is one of the states. If they can't differ, both are the same.
func (w World) As(state State) Judged {
	if state != Found || w.Survey == nil || w.Estate == w.Survey || !w.Differ() {
		return Judged{state, w.Estate, w.Expects, w.Laws}
	}
	e, rebase := estate.AsFound(w.Definitions.Estate, w.Survey, nil)
	lendReasons(e, w.Estate)
	return Judged{Found, e, law.Rebase(w.Definitions.Expects, rebase), law.RebaseLaws(w.Definitions.Laws, rebase)}
}

// ErrNoSurvey and ErrNoDefinitions say that the requested state does not exist.
var (
	ErrNoSurvey      = errors.New("what was found can't be judged without a survey")
	ErrNoDefinitions = errors.New("what is defined can't be judged without definitions")
)

// Judge returns the states to judge: the requested one, else Found, or if both is set Found and
// Defined. If the two can't differ they are one.
func (w World) Judge(asked State, both bool) ([]Judged, error) {
	all := w.States()
	switch {
	case asked == "" && both, asked == Both:
	case asked == "":
		all = all[:1]
	case slices.Contains(all, asked):
		all = []State{asked}
	case asked == Found:
		return nil, wrong("%w", ErrNoSurvey)
	default:
		return nil, wrong("%w", ErrNoDefinitions)
	}
	switch {
	case asked == Both && w.Survey == nil:
		return nil, wrong("%w", ErrNoSurvey)
	case asked == Both && len(all) < 2:
		return nil, wrong("%w", ErrNoDefinitions)
	case len(all) == 2 && !w.Differ():
		return []Judged{w.As(Both)}, nil
	}
	judged := make([]Judged, len(all))
	for i, s := range all {
		judged[i] = w.As(s)
	}
	return judged, nil
}

// Once is the state Defined, if Found is judged and the two can differ; else nil.
func (w World) Once(judged Judged) *Judged {
	if judged.State != Found || len(w.States()) < 2 || !w.Differ() {
		return nil
	}
	then := w.As(Defined)
	return &then
}

// Audit audits one or two judged states. If there are two, findings of both are joined.
func (w World) Audit(judged []Judged, o audit.Options) (state string, result audit.Result) {
	results := make([]audit.Result, len(judged))
	for i, j := range judged {
		if j.State != Defined {
			WithoutPasses(j.Estate, w.Passes)
		}
		o.Expects, o.Laws, o.Defined = j.Expects, j.Laws, nil
		if then := w.Once(j); then != nil {
			o.Defined = decide.New(then.Estate)
		}
		results[i] = audit.Run(decide.New(j.Estate), o)
		results[i].In(string(j.State))
	}
	if len(judged) == 1 {
		return string(judged[0].State), results[0]
	}
	return audit.InBoth, audit.Both(results[0], results[1], w.Unchanged(judged[0]))
}

// WithoutPasses takes out of an estate what open passes let through: it is lent, and ends by itself.
func WithoutPasses(e *estate.Estate, found []*pass.Found) {
	open := make(map[string]bool)
	for _, f := range found {
		open[f.ID] = f.State == pass.Open
	}
	if len(open) == 0 {
		return
	}
	own := func(g *estate.Group) bool { // unless somebody has put more into it
		return open[g.Pass] &&
			!slices.ContainsFunc(g.Rules, func(r estate.Rule) bool { return !open[r.Pass] && !r.BuiltIn })
	}
	e.Groups = slices.DeleteFunc(slices.Clone(e.Groups), own)
	for _, g := range e.Groups {
		g.Rules = slices.DeleteFunc(slices.Clone(g.Rules), func(r estate.Rule) bool { return open[r.Pass] })
	}
	for _, i := range e.Instances {
		for _, f := range i.Interfaces {
			f.Groups = slices.DeleteFunc(slices.Clone(f.Groups), own)
		}
	}
}

// Lent are the open passes among those that were found.
func Lent(found []*pass.Found) []*pass.Found {
	return slices.DeleteFunc(slices.Clone(found), func(f *pass.Found) bool { return f.State != pass.Open })
}

// Unchanged are the estate's own groups, by kind and full name, that let through exactly what they
// are defined to let through.
func (w World) Unchanged(found Judged) map[string]bool {
	there, then := decide.New(found.Estate), decide.New(w.Estate)
	same := make(map[string]bool)
	for _, pair := range pairs(found.Estate, w.Estate) {
		same[audit.PlaceOf(pair.found)] = letsThroughAsDefined(there, pair.found, then, pair.defined)
	}
	return same
}

// leaveUnbuilt refuses proposals for defined rules that the clouds don't have yet: no flow can have
// used them, so the evidence tells nothing about them. It notes groups that differ in the clouds
// from their definitions.
func (w World) leaveUnbuilt(then *decide.Decider, result *Result, with narrow.Options) {
	if w.Survey == nil || w.Estate == w.Survey || !w.Differ() || with.Flows == nil {
		return
	}
	e, _ := estate.AsFound(w.Definitions.Estate, w.Survey, nil)
	there := decide.New(e)
	found := make(map[string]*estate.Group)
	for _, p := range pairs(e, w.Estate) {
		found[audit.PlaceOf(p.defined)] = p.found
	}
	noted := make(map[*estate.Group]bool)
	for i := range result.Proposals {
		c := &result.Proposals[i]
		g := found[audit.PlaceOf(c.Group)]
		// if the group does not exist, others let through what was observed
		if g == nil || !c.Changed || c.Refused != "" {
			continue
		}
		for _, r := range c.Rules {
			if !then.RuleTraffic(c.Group, r).SubsetOf(there.GroupTraffic(g, c.Direction)) {
				c.Refused = fmt.Sprintf("the cloud does not have %q yet, so no flow can have used it: carry it "+
					"out first", r.Sentence(w.Estate.Services))
				break
			}
		}
		if !noted[c.Group] && !letsThroughAsDefined(there, g, then, c.Group) {
			noted[c.Group] = true
			result.Notes = append(result.Notes, fmt.Sprintf("in the cloud %s differs from its definition, "+
				"which is what is narrowed: a comparison shows how", c.Group.Path()))
		}
	}
}

func letsThroughAsDefined(there *decide.Decider, g *estate.Group, then *decide.Decider, definition *estate.Group) bool {
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		is, ought := there.GroupTraffic(g, direction), then.GroupTraffic(definition, direction)
		if !ought.SubsetOf(is) {
			return false
		}
		back := direction.Opposite()
		// compiled rules let them in if no state is kept
		answers := then.Answers(definition, then.GroupTraffic(definition, back), back)
		if !is.Minus(ought).SubsetOf(answers) {
			return false
		}
	}
	return true
}

// A pair is a surveyed group and its definition.
type pair struct{ found, defined *estate.Group }

func pairs(found, defined *estate.Estate) []pair {
	byPlace := make(map[string]*estate.Group)
	for _, g := range defined.Groups {
		if g.Defined {
			byPlace[audit.PlaceOf(g)] = g
		}
	}
	var all []pair
	for _, g := range found.Groups {
		if d := byPlace[audit.PlaceOf(g)]; g.Ours() && d != nil {
			all = append(all, pair{g, d})
		}
	}
	return all
}

// lendReasons gives surveyed rules that definitions also contain the place, reason and end of the
// definition.
func lendReasons(found, defined *estate.Estate) {
	ours := pairs(found, defined)
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
				lendTo(there, ours[i].found, then, ours[i].defined)
			}
		})
	}
	workers.Wait()
}

func lendTo(there *decide.Decider, g *estate.Group, then *decide.Decider, definition *estate.Group) {
	type lender struct {
		group *estate.Group
		rule  *estate.Rule
		set   traffic.Set // worked out when it is asked for
		known bool
	}
	var lenders []*lender
	groups := []*estate.Group{definition}
	if definition.Follows {
		groups = append(groups, then.Followed(definition)...)
	}
	for _, x := range groups {
		for k := range x.Rules {
			lenders = append(lenders, &lender{group: x, rule: &x.Rules[k]})
		}
	}
	for i := range g.Rules {
		r := &g.Rules[i]
		own := there.RuleTraffic(g, r)
		if own.IsEmpty() {
			continue
		}
		services := service.Of(r.Services...)
		for _, l := range lenders {
			from := l.rule
			if from.Direction != r.Direction || from.Action != r.Action ||
				!services.SubsetOf(service.Of(from.Services...)) {
				continue
			}
			if !l.known {
				l.set, l.known = then.RuleTraffic(l.group, from), true
			}
			if own.SubsetOf(l.set) {
				r.Origin, r.Through, r.Until, r.Lent = from.Origin, from.Through, from.Until, true
				r.Named = !slices.ContainsFunc(from.Peers,
					func(p estate.Peer) bool { return p.Kind == estate.PeerRange })
				if r.Description == "" {
					r.Description = from.Description
				}
				break
			}
		}
	}
}
