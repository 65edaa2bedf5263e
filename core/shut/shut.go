// Package shut takes traffic out of what a surveyed group lets through: what is too much goes, exactly the rest stays.
package shut

import (
	"fmt"
	"slices"

	"isonomos/core/addr"
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
// is too much in part, the rest stays, as its cloud can say it, and goes on to refer to what it refers to. Where the
// dialect can refuse, that is done instead if it takes fewer rules; so what a built-in rule lets through can be shut
// there too. With whole, a rule of which the rest can't be said goes as a whole.
//
// The result is decided: it lets through what the group does without what is too much, no more, and without whole no
// less; and it is within the group's quota. If that can't be, the error is an InexactError. Cost: a few operations on
// exact sets for each rule.
func Rules(d *decide.Decider, g *estate.Group, much TooMuch, whole bool) ([]estate.Rule, error) {
	return RulesOf(d, g, g.Rules, much, whole)
}

// RulesOf is Rules for a group of which the Decider supposes that it has other rules than it has.
func RulesOf(d *decide.Decider, g *estate.Group, have []estate.Rule, much TooMuch, whole bool) ([]estate.Rule, error) {
	best, exactly, err := parted(d, g, have, much, whole)
	if err == nil {
		err = fits(d, g, have, best, much, exactly)
	}
	if filter := decide.Filter(g); filter.Refuses && filter.FirstMatch {
		for _, other := range [][]estate.Rule{refused(g, have, much), retold(d, g, have, much)} {
			if (err != nil || !exactly || len(other) < len(best)) && fits(d, g, have, other, much, true) == nil {
				best, exactly, err = other, true, nil
			}
		}
	}
	if err == nil || !whole {
		return best, err
	}
	best = slices.DeleteFunc(slices.Clone(have), func(r estate.Rule) bool { return concerned(d, g, &r, much) })
	return best, fits(d, g, have, best, much, false)
}

// fits says why rules can't take the place of those that a group has: they let through too much, or where exactly the
// rest is to stay less than that, or take more than the quota allows.
func fits(d *decide.Decider, g *estate.Group, have, rules []estate.Rule, much TooMuch, exactly bool) error {
	is := d.Supposing(g, rules)
	for direction, set := range much {
		want, got := d.GroupTraffic(g, direction).Minus(set), is.GroupTraffic(g, direction)
		if !got.SubsetOf(want) {
			return &InexactError{Why: "a built-in rule lets it through, which can't be removed or outranked"}
		}
		if exactly && !got.Equal(want) {
			return &InexactError{Why: "its rules can't say exactly the rest"}
		}
	}
	dl := decide.Dialect(g.Account)
	cost := func(rules []estate.Rule) (in, out int) {
		copied := *g
		copied.Rules = rules
		return compile.GroupCost(dl, &copied, estate.In), compile.GroupCost(dl, &copied, estate.Out)
	}
	in, out := cost(rules)
	if wasIn, wasOut := cost(have); compile.QuotaOf(dl, g).Over(in, out) && (in > wasIn || out > wasOut) {
		return &InexactError{Why: fmt.Sprintf("the rest would take %d rules in and %d out, which is more than "+
			"its quota "+
			"allows", in, out)}
	}
	return nil
}

// concerned reports whether a rule that can be removed admits something of what is too much.
func concerned(d *decide.Decider, g *estate.Group, r *estate.Rule, much TooMuch) bool {
	return r.Action == estate.Admit && !r.BuiltIn && !much[r.Direction].Intersect(said(d, g, r, r.Peers)).IsEmpty()
}

// parted are the rules without what is too much in each of them; with whole, without those of which the rest can't be
// said, and then it is not exactly the rest.
func parted(d *decide.Decider, g *estate.Group, have []estate.Rule, much TooMuch, whole bool) (rules []estate.Rule,
	exactly bool, err error) {
	exactly = true
	for i := range have {
		r := &have[i]
		if !concerned(d, g, r, much) {
			rules = append(rules, *r)
			continue
		}
		rest, err := restOf(d, g, r, much[r.Direction])
		if err != nil && !whole {
			return nil, false, err
		}
		rules, exactly = append(rules, rest...), exactly && err == nil
	}
	return rules, exactly, nil
}

// refused are the rules with refusals of what is too much in front.
func refused(g *estate.Group, have []estate.Rule, much TooMuch) []estate.Rule {
	var front []estate.Rule
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		for _, b := range much[direction].Blocks() {
			front = append(front, ruled(g, direction, estate.Refuse, b.Services.Specs(), b.Peers)...)
		}
	}
	return inFront(g, front, have)
}

// retold are the rules with, in front, all that stays of those peers of which something is too much, and a refusal of
// everything else of theirs.
func retold(d *decide.Decider, g *estate.Group, have []estate.Rule, much TooMuch) []estate.Rule {
	var front []estate.Rule
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		peers := much[direction].Peers(service.All)
		if peers.IsEmpty() {
			continue
		}
		for _, b := range d.GroupTraffic(g, direction).Minus(much[direction]).WithPeers(peers).Blocks() {
			front = append(front, ruled(g, direction, estate.Admit, b.Services.Specs(), b.Peers)...)
		}
		front = append(front, ruled(g, direction, estate.Refuse, service.All.Specs(), peers)...)
	}
	return inFront(g, front, have)
}

// ruled are the rules by which a group's cloud says something about some peers.
func ruled(g *estate.Group, direction estate.Direction, action estate.Action, services []service.Spec,
	peers addr.Set) []estate.Rule {
	return compile.ForRanges(g, estate.Rule{Direction: direction, Action: action, Services: services}, peers)
}

// inFront puts rules before all that a group has.
func inFront(g *estate.Group, front, have []estate.Rule) []estate.Rule {
	rules := make([]estate.Rule, 0, len(front)+len(have))
	for i, r := range front {
		r.ID, r.Rank = fmt.Sprintf("front-%d", i+1), decide.Filter(g).Ranks[0]
		rules = append(rules, r)
	}
	return append(rules, have...)
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
