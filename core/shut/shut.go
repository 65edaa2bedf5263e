// Package shut takes traffic out of what a surveyed group lets through: what is too much goes, exactly the rest stays.
package shut

import (
	"fmt"
	"slices"

	"isonomos/core/compile"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// TooMuch is traffic that a group is to let through no longer, by direction.
type TooMuch map[estate.Direction]traffic.Set

// IsEmpty reports whether nothing is too much.
func (t TooMuch) IsEmpty() bool { return t[estate.In].IsEmpty() && t[estate.Out].IsEmpty() }

// An InexactError says why traffic can't be taken out so that exactly the rest stays.
type InexactError struct {
	Rule *estate.Rule // nil if it is about the whole group
	Why  string
}

func (e *InexactError) Error() string { return e.Why }

// Rules are the rules of a surveyed group without what is too much, in the order of those that it has. Of a rule that
// is too much in part, the rest stays, as its cloud can say it; what rules refer to goes on to be referred to. What a
// built-in rule lets through is refused in front of it, where the dialect can refuse. With whole, a rule of which the
// rest can't be said goes as a whole.
//
// The result is decided: it lets through what the group does without what is too much, no more, and without whole no
// less; and it is within the group's quota. If that can't be, the error is an InexactError. Cost: a few operations on
// exact sets for each rule.
func Rules(d *decide.Decider, g *estate.Group, much TooMuch, whole bool) ([]estate.Rule, error) {
	return RulesOf(d, g, g.Rules, much, whole)
}

// RulesOf is Rules for a group of which the Decider supposes that it has other rules than it has.
func RulesOf(d *decide.Decider, g *estate.Group, have []estate.Rule, much TooMuch, whole bool) ([]estate.Rule, error) {
	var rules []estate.Rule
	inexact := false
	for i := range have {
		r := &have[i]
		if r.Action != estate.Admit || r.BuiltIn || much[r.Direction].Intersect(said(d, g, r, r.Peers)).IsEmpty() {
			rules = append(rules, *r)
			continue
		}
		rest, err := restOf(d, g, r, much[r.Direction])
		if err != nil {
			if !whole {
				return nil, err
			}
			inexact = true
		}
		rules = append(rules, rest...)
	}
	rules = outranked(d, g, rules, much)
	is := d.Supposing(g, rules)
	for direction, set := range much {
		want, got := d.GroupTraffic(g, direction).Minus(set), is.GroupTraffic(g, direction)
		if !got.SubsetOf(want) {
			return nil, &InexactError{Why: "a built-in rule lets it through, which can't be removed or outranked"}
		}
		if !inexact && !got.Equal(want) {
			return nil, &InexactError{Why: "its rules can't say exactly the rest"}
		}
	}
	dl := decide.Dialect(g.Account)
	cost := func(rules []estate.Rule) (in, out int) {
		copied := *g
		copied.Rules = rules
		return compile.GroupCost(dl, &copied, estate.In), compile.GroupCost(dl, &copied, estate.Out)
	}
	quota := compile.QuotaOf(dl, g)
	in, out := cost(rules)
	if wasIn, wasOut := cost(have); quota.Over(in, out) && (in > wasIn || out > wasOut) {
		if whole && !inexact {
			return wholly(d, g, have, much)
		}
		return nil, &InexactError{Why: fmt.Sprintf("the rest would take %d rules in and %d out, which is more "+
			"than its "+
			"quota allows", in, out)}
	}
	return rules, nil
}

// wholly are the rules of a group without those that are too much in part, for a group whose quota does not allow what
// the rest would take.
func wholly(d *decide.Decider, g *estate.Group, have []estate.Rule, much TooMuch) ([]estate.Rule, error) {
	rules := slices.DeleteFunc(slices.Clone(have), func(r estate.Rule) bool {
		return r.Action == estate.Admit && !r.BuiltIn && !much[r.Direction].Intersect(said(d, g, &r, r.Peers)).IsEmpty()
	})
	rules = outranked(d, g, rules, much)
	is := d.Supposing(g, rules)
	for direction, set := range much {
		if !is.GroupTraffic(g, direction).Intersect(set).IsEmpty() {
			return nil, &InexactError{Why: "a built-in rule lets it through, which can't be removed or outranked"}
		}
	}
	return rules, nil
}

// said is the traffic that a rule names with some of its peers, whatever other rules decide before.
func said(d *decide.Decider, g *estate.Group, r *estate.Rule, peers []estate.Peer) traffic.Set {
	part := *r
	part.Peers = peers
	return traffic.Of(d.Peers(g, &part, nil), service.Of(r.Services...))
}

// restOf is a rule without some traffic: the peers that it does not concern, and what is left of the others.
func restOf(d *decide.Decider, g *estate.Group, r *estate.Rule, much traffic.Set) ([]estate.Rule, error) {
	kept := *r
	kept.Peers = nil
	var left traffic.Set
	for i, p := range r.Peers {
		set := said(d, g, r, r.Peers[i:i+1])
		rest := set.Minus(much)
		switch {
		case rest.Equal(set):
			kept.Peers = append(kept.Peers, p)
		case rest.IsEmpty():
		case p.Kind != estate.PeerRange && p.Kind != estate.PeerEveryone:
			return nil, &InexactError{r, fmt.Sprintf("only a part of %s goes, and who that is may change",
				estate.PeerWords([]estate.Peer{p}))}
		default:
			left = left.Union(rest)
		}
	}
	var rules []estate.Rule
	if len(kept.Peers) > 0 {
		rules = append(rules, kept)
	}
	for n, b := range left.Blocks() {
		part := *r
		part.Services = b.Services.Specs()
		for k, x := range compile.ForRanges(g, part, b.Peers) {
			x.ID, x.Rank = fmt.Sprintf("%s.rest-%d-%d", r.ID, n+1, k+1), r.Rank
			rules = append(rules, x)
		}
	}
	return rules, nil
}

// outranked adds, in dialects that refuse, a refusal in front of the built-in rules, for what they let through of what
// is too much.
func outranked(d *decide.Decider, g *estate.Group, rules []estate.Rule, much TooMuch) []estate.Rule {
	filter := decide.Filter(g)
	if !filter.Refuses || !filter.FirstMatch {
		return rules
	}
	is := d.Supposing(g, rules)
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		left := is.GroupTraffic(g, direction).Intersect(much[direction])
		for n, b := range left.Blocks() {
			refusal := estate.Rule{Direction: direction, Action: estate.Refuse, Services: b.Services.Specs()}
			for k, x := range compile.ForRanges(g, refusal, b.Peers) {
				x.ID, x.Rank = fmt.Sprintf("refused.%s-%d-%d", direction, n+1, k+1), filter.Ranks[1]
				rules = append(rules, x)
			}
		}
	}
	return rules
}
