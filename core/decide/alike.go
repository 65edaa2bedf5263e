package decide

import (
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Alike reports whether two groups let through the same, each way, whoever joins or
// leaves later: peers are compared by what they name, and ranges by what they hold.
// What a group lets in from its own members is its own.
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

// A spelling is what a group says of peers that may be others tomorrow.
type spelling struct {
	named    map[string]service.Set // by the words of a peer, where rules only add up
	sequence []string               // the rules in their order, where that counts
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
	var fixed []traffic.Set // what does not depend on who joins
	for _, r := range rules {
		changing := slices.ContainsFunc(slices.Concat(r.Peers, r.Except), mayChange)
		switch {
		case refuses && changing:
			// Which rule decides depends on who is among its peers: the order counts.
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
	// What everybody may do says nothing of those who are named.
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

// effective are the rules of a group in the order in which they decide, without the
// refusals that change nothing, whoever joins: nothing behind them admits what they
// refuse, or all of it is admitted before.
func (d *Decider) effective(g *estate.Group, direction estate.Direction) []*estate.Rule {
	rules := d.ordered(g, direction)
	var effective []*estate.Rule
	var before traffic.Set // what is admitted, whoever joins
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

// mostPeers are all addresses that a rule may ever mean.
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

// add notes what a rule says of each peer that may change; with exceptions of all together.
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

// mayChange reports whether a peer may be others tomorrow, without an edit of what is
// compared: an own list is what it holds.
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

// peersSpelt are the peers of a rule by the full names of what they name.
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
