// Package narrow works out least-privilege replacements: the narrowest rules
// that still let through what is needed.
package narrow

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/law"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// A Subject is what is to be narrowed: rules of one group and direction.
type Subject struct {
	Group     *estate.Group
	Direction estate.Direction
	Rules     []*estate.Rule
}

// Source says where a need comes from.
type Source string

// The sources of needs.
const (
	Declared Source = "declared"
	Observed Source = "observed"
)

// A Need is a peer and a service that must stay let through.
type Need struct {
	Source   Source
	Services service.Set
	Peers    addr.Set
	Text     string      // of Declared: the declaration
	Whole    bool        // of Declared: the subject's own peers are meant, whoever they are
	Sums     []*flow.Sum // of Observed
}

// Noise is what was seen and is not taken for a need.
type Noise struct {
	Strangers  int // distinct addresses
	Flows      int
	Unanswered int // flows that never completed an exchange
	Examples   []netip.Addr
}

// A Proposal is a replacement for a subject.
type Proposal struct {
	Subject
	New        []NewRule // in place of the subject's; none means to remove them
	Needs      []Need
	Noise      Noise
	Before     traffic.Set // what the subject lets through
	After      traffic.Set // what the new rules let through
	Closes     traffic.Set // Before without After, and without what other rules of the group let through
	Flows      int         // observed flows that the needs rest on
	Peers      int         // distinct observed peers that the needs rest on
	Unseen     Unseen
	Exact      bool // the choice is optimal; else it was found greedily
	NoEvidence bool // nothing was given to rest on
}

// A NewRule is one rule of a proposal.
type NewRule struct {
	Services service.Set
	Choices  []Choice
}

// PeerWords are the rule's peers in the words of the language.
func (r NewRule) PeerWords() string {
	var words []string
	for _, c := range r.Choices {
		words = append(words, c.Words)
	}
	return strings.Join(words, ", ")
}

// Unseen estimates what was not seen yet, after Good and Turing (I. J. Good,
// "The population frequencies of species and the estimation of population
// parameters", Biometrika 40, 1953): the probability that the next observation
// is of something never seen is n1/N, where n1 are the things seen once among N
// observations.
type Unseen struct {
	Peers float64 // by flow: the next flow is from a peer not seen yet
	Days  float64 // by day: the next day that somebody is seen on is a new peer's first
}

// Evidence is what proposals rest on.
type Evidence struct {
	Flows   *flow.Summary // nil where there is none
	Expects []law.Expectation
}

// Propose works out the replacement for a subject. The time is linear in the
// number of summed flows, and at worst exponential in the number of groups and
// lists that hold needed peers up to exactCandidates, greedy beyond.
func Propose(d *decide.Decider, s Subject, e Evidence) Proposal {
	p := Proposal{Subject: s, NoEvidence: e.Flows == nil, Exact: true}
	var subject, others []traffic.Set
	for i := range s.Group.Rules {
		r := &s.Group.Rules[i]
		if r.Direction != s.Direction || r.Action != estate.Admit {
			continue
		}
		set := d.RuleTraffic(s.Group, r)
		if slices.Contains(s.Rules, r) {
			subject = append(subject, set)
		} else {
			others = append(others, set)
		}
	}
	p.Before = traffic.UnionAll(subject)
	rest := p.Before.Minus(traffic.UnionAll(others))
	p.needs(d, rest, e)
	p.choose(d)
	var after []traffic.Set
	for _, r := range p.New {
		for _, c := range r.Choices {
			after = append(after, traffic.Of(c.Addresses, r.Services))
		}
	}
	p.After = traffic.UnionAll(after)
	p.Closes = rest.Minus(p.After)
	return p
}

// Needed is all needed traffic.
func (p *Proposal) Needed() traffic.Set {
	var sets []traffic.Set
	for _, n := range p.Needs {
		sets = append(sets, traffic.Of(n.Peers, n.Services))
	}
	return traffic.UnionAll(sets)
}

// needs gathers what must stay let through of the traffic that only the subject lets through.
func (p *Proposal) needs(d *decide.Decider, rest traffic.Set, e Evidence) {
	p.declared(d, rest, e.Expects)
	if e.Flows == nil {
		return
	}
	own := wearersByAddress(d, p.Group)
	strangers := d.Strangers()
	var kept []*flow.Sum
	noisy := make(map[netip.Addr]bool)
	covered := p.Needed()
	for _, x := range e.Flows.Sums() {
		peer, served := x.Source, x.Destination
		if p.Direction == estate.Out {
			peer, served = served, peer
		}
		if !own[served] || !rest.Contains(peer, x.Service) {
			continue
		}
		if covered.Contains(peer, x.Service) {
			continue
		}
		if strangers.Contains(peer) && p.Direction == estate.In && (x.Completed == 0 || x.Flows == 1) {
			p.Noise.Flows += x.Flows
			p.Noise.Unanswered += x.Flows - x.Completed
			if !noisy[peer] {
				noisy[peer] = true
				p.Noise.Strangers++
				if len(p.Noise.Examples) < 3 {
					p.Noise.Examples = append(p.Noise.Examples, peer)
				}
			}
			continue
		}
		kept = append(kept, x)
	}
	p.observed(kept)
}

// wearersByAddress are the addresses, private and public, of the interfaces that wear a group.
func wearersByAddress(d *decide.Decider, g *estate.Group) map[netip.Addr]bool {
	own := make(map[netip.Addr]bool)
	for _, i := range d.Wearers(g) {
		for _, a := range slices.Concat(i.Private, i.Public) {
			own[a] = true
		}
	}
	return own
}

// declared takes the expectations that the subject must keep: those that want the group to be reached.
func (p *Proposal) declared(d *decide.Decider, rest traffic.Set, expects []law.Expectation) {
	for _, x := range expects {
		here, there := x.To, x.From
		if p.Direction == estate.Out {
			here, there = there, here
		}
		if !x.Can || !slices.ContainsFunc(here.Of, func(peer estate.Peer) bool {
			return peer.Kind == estate.PeerGroup && peer.Group.Path() == p.Group.Path()
		}) {
			continue
		}
		for _, peer := range there.Of {
			n := Need{Source: Declared, Text: x.Text, Services: x.Services}
			if peer.Kind == estate.PeerInternet || peer.Kind == estate.PeerEveryone {
				n.Whole = true
				n.Peers = rest.Peers(x.Services)
			} else {
				n.Peers = d.Peers(p.Group, &estate.Rule{Peers: []estate.Peer{peer}}, nil)
			}
			if set := traffic.Of(n.Peers, n.Services).Intersect(rest); !set.IsEmpty() {
				n.Services, n.Peers = set.Services(), set.Peers(service.All)
				p.Needs = append(p.Needs, n)
			}
		}
	}
}

// observed makes needs of summed flows: one for each run of services with the same peers.
func (p *Proposal) observed(kept []*flow.Sum) {
	byService := make(map[service.Point][]*flow.Sum)
	peerFlows := make(map[netip.Addr]int)
	peerDays := make(map[netip.Addr]int)
	for _, x := range kept {
		byService[x.Service] = append(byService[x.Service], x)
		peer := x.Source
		if p.Direction == estate.Out {
			peer = x.Destination
		}
		peerFlows[peer] += x.Flows
		peerDays[peer] = max(peerDays[peer], x.Days.Count())
		p.Flows += x.Flows
	}
	p.Peers = len(peerFlows)
	p.Unseen = Unseen{goodTuring(peerFlows), goodTuring(peerDays)}
	points := make([]service.Point, 0, len(byService))
	for s := range byService {
		points = append(points, s)
	}
	slices.Sort(points)
	for _, s := range points {
		var addrs []netip.Addr
		for _, x := range byService[s] {
			if p.Direction == estate.Out {
				addrs = append(addrs, x.Destination)
			} else {
				addrs = append(addrs, x.Source)
			}
		}
		n := Need{Source: Observed, Services: service.Between(s, s), Peers: addr.Of(addrs...), Sums: byService[s]}
		i := slices.IndexFunc(p.Needs, func(x Need) bool { return x.Source == Observed && x.Peers.Equal(n.Peers) })
		if i < 0 {
			p.Needs = append(p.Needs, n)
			continue
		}
		p.Needs[i].Services = p.Needs[i].Services.Union(n.Services)
		p.Needs[i].Sums = append(p.Needs[i].Sums, n.Sums...)
	}
}

// goodTuring is n1/N over counts: the share of the unseen. No observation at all tells nothing: 1.
func goodTuring(counts map[netip.Addr]int) float64 {
	once, all := 0, 0
	for _, n := range counts {
		all += n
		if n == 1 {
			once++
		}
	}
	if all == 0 {
		return 1
	}
	return float64(once) / float64(all)
}

// choose says each need with the best peers, and joins needs that come out with the same ones.
func (p *Proposal) choose(d *decide.Decider) {
	for _, n := range p.Needs {
		var choices []Choice
		if n.Whole {
			choices = []Choice{p.wholePeers(n)}
		} else {
			var exact bool
			choices, exact = cover(d, p.Subject, n, allowed(p.Before, n.Services))
			p.Exact = p.Exact && exact
		}
		i := slices.IndexFunc(p.New, func(r NewRule) bool {
			return slices.EqualFunc(r.Choices, choices, func(a, b Choice) bool { return a.Words == b.Words })
		})
		if i >= 0 {
			p.New[i].Services = p.New[i].Services.Union(n.Services)
			continue
		}
		p.New = append(p.New, NewRule{Services: n.Services, Choices: choices})
	}
	slices.SortStableFunc(p.New, func(a, b NewRule) int {
		x, _ := a.Services.First()
		y, _ := b.Services.First()
		return cmp.Compare(x, y)
	})
}

// allowed are the peers that the subject lets through on each one of some services.
func allowed(before traffic.Set, services service.Set) addr.Set {
	all := addr.Everyone
	for _, b := range before.OnServices(services).Bands() {
		all = all.Intersect(b.Peers)
	}
	if !services.SubsetOf(before.Services()) {
		return addr.Set{}
	}
	return all
}

// wholePeers says the subject's own peers as the subject does.
func (p *Proposal) wholePeers(n Need) Choice {
	var words []string
	for _, r := range p.Subject.Rules {
		if service.Of(r.Services...).Overlaps(n.Services) {
			words = append(words, estate.PeerWords(r.Peers))
		}
	}
	text := strings.Join(words, ", ")
	if n.Peers.Equal(addr.Everyone) {
		text = "everyone"
	}
	return Choice{Kind: ByOwnWords, Words: text, Addresses: n.Peers}
}
