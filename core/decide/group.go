package decide

import (
	"maps"
	"net/netip"
	"slices"
	"sync"

	"isonomos/core/addr"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// What one group lets through.
//
// A surveyed group decides as its dialect says: by rank, or by adding up its admissions. A defined
// group decides by its meaning, which is the same on every cloud: the first matching statement, as
// written; what no statement admits is stopped; answers come back, unless every admission of the
// request before any refusal is stateless.

// ByRank reports whether the first matching rule of a group decides.
func ByRank(g *estate.Group) bool { return g.Defined || Filter(g).FirstMatch }

// ordered are the rules of a group in a direction, in the order in which they decide. Of rules of
// equal rank refusals come first. Built-in rules of the dialect that the survey leaves out come
// last.
func (d *Decider) ordered(g *estate.Group, direction estate.Direction) []*estate.Rule {
	key := ruleKey{g, direction}
	if rules, ok := d.rules[key]; ok {
		return rules
	}
	rules := inOrder(g, direction, g.Rules)
	d.rules[key] = rules
	return rules
}

// Supposing is a Decider for the case that a group has other rules. The estate is not changed.
func (d *Decider) Supposing(g *estate.Group, rules []estate.Rule) *Decider {
	other := d.Fork()
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		other.rules[ruleKey{g, direction}] = inOrder(g, direction, rules)
	}
	return other
}

func inOrder(g *estate.Group, direction estate.Direction, all []estate.Rule) []*estate.Rule {
	var rules []*estate.Rule
	for k := range all {
		if r := &all[k]; r.Direction == direction {
			rules = append(rules, r)
		}
	}
	if f := Filter(g); !g.Defined && f.FirstMatch {
		for _, fixed := range f.Fixed {
			r := fixedRules()[fixed]
			listed := slices.ContainsFunc(rules, func(x *estate.Rule) bool { return x.Rank == r.Rank && x.BuiltIn })
			if r.Direction == direction && !listed {
				rules = append(rules, r)
			}
		}
		slices.SortStableFunc(rules, func(a, b *estate.Rule) int {
			if a.Rank != b.Rank {
				return a.Rank - b.Rank
			}
			return refusalFirst(a) - refusalFirst(b)
		})
	}
	return rules
}

// WithMembers is a Decider for the case that groups have other members. The estate is not changed.
func (d *Decider) WithMembers(members map[*estate.Group]addr.Set) *Decider {
	other := d.Fork()
	maps.Copy(other.members, members)
	return other
}

// Forget drops what was remembered of a group that is not part of the estate, so that its memory
// can be freed.
func (d *Decider) Forget(g *estate.Group) {
	delete(d.rules, ruleKey{g, estate.In})
	delete(d.rules, ruleKey{g, estate.Out})
	delete(d.members, g)
}

func refusalFirst(r *estate.Rule) int {
	if r.Action == estate.Refuse {
		return 0
	}
	return 1
}

// fixedRules are the built-in rules of all dialects as rules.
var fixedRules = sync.OnceValue(func() map[dialect.Fixed]*estate.Rule {
	all := make(map[dialect.Fixed]*estate.Rule)
	for _, d := range dialect.All {
		for _, f := range slices.Concat(d.Instances.Fixed, d.Subnets.Fixed) {
			all[f] = fixedRule(f)
		}
	}
	return all
})

// fixedRule is a built-in rule of a dialect as a rule.
func fixedRule(f dialect.Fixed) *estate.Rule {
	r := &estate.Rule{Direction: estate.Out, Action: estate.Refuse, Rank: f.Rank,
		Services: []service.Spec{service.Anything}, BuiltIn: true, Description: "built in"}
	if f.In {
		r.Direction = estate.In
	}
	if f.Admit {
		r.Action = estate.Admit
	}
	kind := map[string]estate.PeerKind{"network": estate.PeerNetwork, "probes": estate.PeerProbes,
		"public": estate.PeerPublic, "anything": estate.PeerEveryone}[f.From]
	r.Peers = []estate.Peer{{Kind: kind}}
	return r
}

// KeepsState reports whether answers to what a rule of a group admits come back by themselves.
func KeepsState(g *estate.Group, r *estate.Rule) bool {
	if g.Defined {
		return !r.Stateless
	}
	switch Filter(g).State {
	case dialect.StateKept:
		return true
	case dialect.StateByRule:
		return !r.Stateless
	case dialect.StateByGroup:
		return !g.Stateless
	}
	return false
}

// A decision is what a group does with one service from one peer.
type decision struct {
	admitted bool
	state    bool         // answers come back by themselves
	rule     *estate.Rule // the one that decided; nil where none fits
}

// one decides a single service from a single peer. Of matching admissions before any refusal, one
// that keeps state takes precedence.
func (d *Decider) one(g *estate.Group, direction estate.Direction, at *estate.Interface, peer netip.Addr,
	p service.Point) decision {
	var found decision
	first := ByRank(g)
	for _, r := range d.ordered(g, direction) {
		if r.Action == estate.Refuse && !first || !speaksOf(r, p) || !d.Peers(g, r, at).Contains(peer) {
			continue
		}
		x := decision{admitted: r.Action == estate.Admit, rule: r}
		x.state = x.admitted && KeepsState(g, r)
		if found.rule == nil {
			found = x
		}
		if x.state {
			return x
		}
		if first && (!x.admitted || !g.Defined) {
			return found
		}
	}
	if found.rule == nil && g.Follows {
		for _, f := range d.followed(g) {
			if x := d.one(f, direction, nil, peer, p); x.admitted && (!found.admitted || x.state) {
				found = x
			}
		}
	}
	return found
}

// admits are the services that a group lets through with one peer, and those of them whose answers
// come back by themselves. It decides all services at once.
func (d *Decider) admits(g *estate.Group, direction estate.Direction, at *estate.Interface, peer netip.Addr) (all,
	kept service.Set) {
	var refused service.Set
	var passing, keeping []service.Set
	first := ByRank(g)
	for _, r := range d.ordered(g, direction) {
		if r.Action == estate.Refuse && !first || !d.Peers(g, r, at).Contains(peer) {
			continue
		}
		services := service.Of(r.Services...)
		if r.Action == estate.Refuse { // what earlier rules admitted stays admitted
			refused = refused.Union(services)
			continue
		}
		services = services.Minus(refused)
		passing = append(passing, services)
		if KeepsState(g, r) {
			keeping = append(keeping, services)
		}
	}
	if g.Follows {
		for _, f := range d.followed(g) {
			more, kept := d.admits(f, direction, nil, peer)
			passing = append(passing, more.Minus(refused))
			keeping = append(keeping, kept.Minus(refused))
		}
	}
	return service.UnionAll(passing...), service.UnionAll(keeping...)
}

func speaksOf(r *estate.Rule, p service.Point) bool {
	for _, s := range r.Services {
		if s.Contains(p) {
			return true
		}
	}
	return false
}

// followed are the groups of the instances in the subnets to which a group is attached, in dialects
// in which both layers must admit.
func (d *Decider) followed(g *estate.Group) []*estate.Group {
	if Dialect(g.Account).Layers == dialect.EitherMayAdmit {
		return nil
	}
	var groups []*estate.Group
	for _, i := range d.attachedAt[g] {
		for _, attached := range d.GroupsAt(i) {
			if attached.For == estate.ForInstances && !slices.Contains(groups, attached) {
				groups = append(groups, attached)
			}
		}
	}
	return groups
}

// An allowance is the traffic that a group lets through, and the part whose answers come back by
// themselves.
type allowance struct{ all, kept traffic.Set }

func (a allowance) union(b allowance) allowance {
	return allowance{a.all.Union(b.all), a.kept.Union(b.kept)}
}

// allowed is what a group as a whole lets through in a direction.
func (d *Decider) allowed(g *estate.Group, direction estate.Direction, at *estate.Interface) allowance {
	return d.allowedOn(g, direction, at, service.All)
}

// allowedOn is allowed on some services.
func (d *Decider) allowedOn(g *estate.Group, direction estate.Direction, at *estate.Interface,
	on service.Set) allowance {
	var admitted, kept []traffic.Set
	var refused traffic.Set
	first := ByRank(g)
	ordered := d.ordered(g, direction)
	// If all rules keep state, the answers to all that is let through come back.
	allKept := !slices.ContainsFunc(ordered,
		func(r *estate.Rule) bool { return r.Action == estate.Admit && !KeepsState(g, r) })
	for _, r := range ordered {
		if r.Action == estate.Refuse && !first {
			continue
		}
		services := service.Of(r.Services...)
		if !services.SubsetOf(on) {
			if services = services.Intersect(on); services.IsEmpty() {
				continue
			}
		}
		set := traffic.Of(d.Peers(g, r, at), services)
		if r.Action == estate.Refuse {
			refused = refused.Union(set) // what earlier rules admitted stays admitted
			continue
		}
		if !refused.IsEmpty() {
			set = set.Minus(refused)
		}
		if !allKept && KeepsState(g, r) {
			kept = append(kept, set)
		}
		admitted = append(admitted, set)
	}
	result := allowance{traffic.UnionAll(admitted), traffic.UnionAll(kept)}
	if allKept {
		result.kept = result.all
	}
	if g.Follows {
		var more allowance
		for _, f := range d.followed(g) {
			more = more.union(d.allowedOn(f, direction, nil, on))
		}
		result.kept = result.kept.Union(more.kept.Minus(refused))
		result.all = result.all.Union(more.all.Minus(refused))
	}
	return result
}

// RuleTraffic is the traffic that a rule of a group matches.
func (d *Decider) RuleTraffic(g *estate.Group, r *estate.Rule) traffic.Set {
	return traffic.Of(d.Peers(g, r, nil), service.Of(r.Services...))
}

// GroupTraffic is what a group as a whole lets through in a direction.
func (d *Decider) GroupTraffic(g *estate.Group, direction estate.Direction) traffic.Set {
	return d.allowed(g, direction, nil).all
}

// KeptTraffic is the part of GroupTraffic whose answers come back by themselves.
func (d *Decider) KeptTraffic(g *estate.Group, direction estate.Direction) traffic.Set {
	return d.allowed(g, direction, nil).kept
}

// TrafficOn is GroupTraffic on some services.
func (d *Decider) TrafficOn(g *estate.Group, direction estate.Direction, services service.Set) traffic.Set {
	return d.allowedOn(g, direction, nil, services).all
}

// InOrder are the rules of a group in a direction in the order in which they decide, including
// built-in ones that the survey leaves out.
func (d *Decider) InOrder(g *estate.Group, direction estate.Direction) []*estate.Rule {
	return d.ordered(g, direction)
}
