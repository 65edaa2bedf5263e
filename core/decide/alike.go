package decide

import (
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Alike reports whether two groups let through the same in both directions, whoever becomes a
// member of what. Peers are compared by what they refer to, ranges by their addresses. "Itself"
// means each group's own members.
func (d *Decider) Alike(a, b *estate.Group) bool {
	if a.Follows != b.Follows {
		return false
	}
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		x, y := d.allowed(a, direction, nil), d.allowed(b, direction, nil)
		if !x.all.Equal(y.all) || !x.kept.Equal(y.kept) || !d.spelling(a, direction).equal(d.spelling(b, direction)) {
			return false
		}
	}
	return true
}

// A spelling is what a group lets through, in terms of peers that may change.
type spelling struct {
	named    map[string]service.Set // by the words of a peer, where rules only add up
	sequence []string               // the rules in their order, where it matters
}

func (s spelling) equal(t spelling) bool {
	if len(s.named) != len(t.named) || !slices.Equal(s.sequence, t.sequence) {
		return false
	}
	for words, services := range s.named {
		if !services.Equal(t.named[words]) {
			return false
		}
	}
	return true
}

func (d *Decider) spelling(g *estate.Group, direction estate.Direction) spelling {
	s := spelling{named: make(map[string]service.Set)}
	rules := d.effective(g, direction)
	refuses := slices.ContainsFunc(rules, func(r *estate.Rule) bool { return r.Action == estate.Refuse && !r.BuiltIn })
	var fixed []traffic.Set // what does not depend on members
	for _, r := range rules {
		changing := slices.ContainsFunc(slices.Concat(r.Peers, r.Except), mayChange)
		switch {
		case refuses && changing:
			// Members decide which rule applies, so the order matters.
			for _, x := range rules {
				s.sequence = append(s.sequence,
					string(x.Action)+" "+service.Of(x.Services...).String()+" "+d.peersSpelt(g, x))
			}
			return s
		case changing && r.Action == estate.Admit:
			s.add(d, g, r)
		case r.Action == estate.Admit:
			fixed = append(fixed, d.RuleTraffic(g, r))
		}
	}
	if refuses {
		return s
	}
	// What everybody may do says nothing about named peers.
	for _, band := range traffic.UnionAll(fixed).Bands() {
		if !band.Peers.Equal(addr.Everyone) {
			continue
		}
		for words, services := range s.named {
			if left := services.Minus(band.Services()); left.IsEmpty() {
				delete(s.named, words)
			} else {
				s.named[words] = left
			}
		}
	}
	return s
}

// effective are the rules of a group in their order, without refusals that change nothing whoever
// the members are: no rule behind them admits what they refuse, or rules before them admit all of
// it.
func (d *Decider) effective(g *estate.Group, direction estate.Direction) []*estate.Rule {
	rules := d.ordered(g, direction)
	var effective []*estate.Rule
	var before traffic.Set // what is admitted, whoever the members are
	for i, r := range rules {
		switch {
		case r.Action == estate.Admit:
			if !slices.ContainsFunc(slices.Concat(r.Peers, r.Except), mayChange) {
				before = before.Union(d.RuleTraffic(g, r))
			}
		case !r.BuiltIn:
			left := traffic.Of(d.mostPeers(g, r), service.Of(r.Services...)).Minus(before)
			if !slices.ContainsFunc(rules[i+1:], func(x *estate.Rule) bool {
				return x.Action == estate.Admit &&
					!traffic.Of(d.mostPeers(g, x), service.Of(x.Services...)).Intersect(left).IsEmpty()
			}) {
				continue
			}
		}
		effective = append(effective, r)
	}
	return effective
}

// mostPeers are all addresses that a rule can ever mean.
func (d *Decider) mostPeers(g *estate.Group, r *estate.Rule) addr.Set {
	sets := []addr.Set{d.Peers(g, r, nil)}
	for _, p := range r.Peers {
		switch {
		case !mayChange(p):
		case g.Network != nil &&
			(p.Kind == estate.PeerSelf || p.Kind == estate.PeerGroup || p.Kind == estate.PeerProbes):
			for _, n := range append([]*estate.Network{g.Network}, g.Network.Peered...) {
				sets = append(sets, addr.OfPrefixes(n.Ranges...))
			}
		default:
			return addr.Everyone
		}
	}
	return addr.UnionAll(sets...)
}

// add notes what a rule says of each peer that may change; of all peers together if there are
// exceptions.
func (s spelling) add(d *Decider, g *estate.Group, r *estate.Rule) {
	services := service.Of(r.Services...)
	if len(r.Except) > 0 {
		words := d.peersSpelt(g, r)
		s.named[words] = s.named[words].Union(services)
		return
	}
	for k, p := range r.Peers {
		if mayChange(p) {
			words := d.peersSpelt(g, &estate.Rule{Peers: r.Peers[k : k+1]})
			s.named[words] = s.named[words].Union(services)
		}
	}
}

// mayChange reports whether a peer can mean something else without an edit of what is compared. The
// estate's own lists can't.
func mayChange(p estate.Peer) bool {
	switch p.Kind {
	case estate.PeerList:
		return p.List.Owner == "published" || len(p.List.Published) > 0 ||
			slices.ContainsFunc(p.List.Parts, func(x estate.ListPart) bool { return len(x.Published) > 0 })
	case estate.PeerGroup, estate.PeerSelf, estate.PeerProbes, estate.PeerMissing, estate.PeerInternet:
		return true
	}
	return false
}

// peersSpelt are the peers of a rule, by the full names of what they refer to.
func (d *Decider) peersSpelt(g *estate.Group, r *estate.Rule) string {
	spell := func(peers []estate.Peer) string {
		words := make([]string, len(peers))
		for k, p := range peers {
			switch p.Kind {
			case estate.PeerGroup:
				words[k] = "group " + p.Group.Path()
			case estate.PeerSelf:
				words[k] = "group " + g.Path()
			case estate.PeerList:
				words[k] = "list " + p.List.Name
				if p.List.Account != nil {
					words[k] = "list " + p.List.Account.Name + "/" + p.List.ID + " " + p.List.Name
				}
			default:
				words[k] = p.String()
			}
			words[k] += " " + p.Family().String()
		}
		slices.Sort(words)
		return strings.Join(slices.Compact(words), ", ")
	}
	if len(r.Except) == 0 {
		return spell(r.Peers)
	}
	return spell(r.Peers) + " except " + spell(r.Except)
}
