// Package narrow works out least-privilege replacements for rules: the narrowest rules that still
// let through what is needed.
package narrow

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/compile"
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

// Options are what proposals are based on beside the estate.
type Options struct {
	Flows   *flow.Summary // nil where there is none
	Expects []law.Expectation
	Laws    []law.Law
	Weights Weights
	MinDays int      // those seen on fewer days are left out; 0 means 1
	Keep    []Wanted // needed even if it was not seen
	Drop    []Wanted // not needed even if it was seen or declared
	// Subjects are all rules that are narrowed together. No need may rely on another of these rules
	// to let it through.
	Subjects []Subject
	Blind    bool // where the evidence knows none of a group's instances, use declared needs alone
	Lend     bool // lend access where it can be lent
}

// Wanted is traffic that a person asks to keep or drop.
type Wanted struct {
	Services service.Set
	Peers    addr.Set
	Text     string // as it was asked for
}

// A Proposal is a replacement for the rules of a subject.
type Proposal struct {
	Subject
	New        []NewRule // to replace the subject's rules; empty means to remove these
	Lending    *Lending  // access that could be lent, or with Options.Lend is lent
	Needs      []Need
	Noise      Noise
	Before     traffic.Set // what the subject lets through
	After      traffic.Set // what the new rules let through
	Closes     traffic.Set // what is in Before, not in After, and not let through by other rules of the group
	Flows      int         // number of observed flows behind the needs
	Peers      int         // number of distinct observed peers behind the needs
	Elsewhere  Elsewhere   // what was seen and other groups let through too
	Unseen     Unseen
	Rhythm     []string // why the window may be too short
	Excess     Excess   // what the new rules let in beyond need
	Bound      float64  // the cost is at most this share above the least possible; 0 if it is the least
	Tight      bool     // a coarser choice had to be made because of the quota
	NoEvidence bool     // no evidence was given
	Unwatched  bool     // there is evidence, but it knows none of the group's instances

	blocks []block
	room   int // rules for which the quota has room; negative means no limit
}

// Elsewhere is observed traffic of a subject's instances that their other groups let through too.
type Elsewhere struct {
	Flows  int
	Groups []string // names, in the order in which they were found
}

// Exact reports whether the choice is the best of all, by the weights.
func (p *Proposal) Exact() bool { return p.Bound == 0 }

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

// Rule is the new rule as a rule of the subject's group, with the reason, rank and state of the
// rule that it replaces.
func (r NewRule) Rule(s Subject) estate.Rule {
	like := s.Rules[0]
	for _, old := range s.Rules {
		if service.Of(old.Services...).Overlaps(r.Services) {
			like = old
			break
		}
	}
	rule := estate.Rule{Direction: s.Direction, Action: estate.Admit, Rank: like.Rank, Services: r.Services.Specs(),
		Stateless: like.Stateless, Description: like.Description, Until: like.Until, Origin: like.Origin}
	for _, c := range r.Choices {
		rule.Peers = append(rule.Peers, c.Peers...)
	}
	return rule
}

// Excess counts what rules let in beyond need, for each service: addresses of strangers, private
// and known addresses, members of named groups, and entries of named lists.
type Excess struct{ Strangers, Known, Named float64 }

// times is the excess on several services.
func (x Excess) times(n float64) Excess { return Excess{n * x.Strangers, n * x.Known, n * x.Named} }

func (x Excess) plus(y Excess) Excess {
	return Excess{x.Strangers + y.Strangers, x.Known + y.Known, x.Named + y.Named}
}

// A Narrower works out proposals over one estate. It may be used by one goroutine
// at a time; Fork makes others cheaply.
type Narrower struct {
	*shared
	d         *decide.Decider
	elsewhere map[otherGroup]traffic.Set // what other groups let through by rules that are not narrowed
	settled   map[otherGroup]traffic.Set // what earlier proposals let through
}

type otherGroup struct {
	group     *estate.Group
	direction estate.Direction
}

// shared is what all Narrowers of one estate share. It is not changed.
type shared struct {
	o          Options
	opened     map[netip.Addr][]*flow.Sum // by client
	served     map[netip.Addr][]*flow.Sum // by server
	handed     map[*estate.Instance][]handing
	lists      listIndex
	machines   []netip.Addr // private addresses of all instances, sorted
	strangers  addr.Set
	own        addr.Set
	admin      service.Set
	data       service.Set
	days       int                   // of the window
	moving     map[*estate.Rule]bool // rules of all subjects
	groupNames map[string]int
}

// New prepares narrowing. It takes time linear in the estate and in the summed flows.
func New(d *decide.Decider, o Options) *Narrower {
	if o.Weights == (Weights{}) {
		o.Weights = DefaultWeights
	}
	n := &Narrower{&shared{o: o, handed: handings(d.Estate()), lists: indexLists(d), strangers: d.Strangers(),
		own: d.OwnAddresses(), groupNames: make(map[string]int), moving: make(map[*estate.Rule]bool)}, d, nil, nil}
	n = n.Fork()
	for _, instance := range d.Estate().Instances {
		for _, i := range instance.Interfaces {
			n.machines = append(n.machines, i.Private...)
		}
	}
	slices.SortFunc(n.machines, netip.Addr.Compare)
	n.machines = slices.Compact(n.machines)
	for _, s := range o.Subjects {
		for _, r := range s.Rules {
			n.moving[r] = true
		}
	}
	n.admin, _ = d.Estate().Services.Class(service.ClassAdmin)
	n.data, _ = d.Estate().Services.Class(service.ClassData)
	for _, g := range d.Estate().Groups {
		if g.Defined {
			n.groupNames[g.Name]++
		}
	}
	if o.Flows != nil {
		n.days = o.Flows.Window()
		n.opened, n.served = make(map[netip.Addr][]*flow.Sum), make(map[netip.Addr][]*flow.Sum)
		watched := n.watched()
		o.Flows.Each(func(x *flow.Sum) {
			if watched[x.Source] {
				n.opened[x.Source] = append(n.opened[x.Source], x)
			}
			if watched[x.Destination] {
				n.served[x.Destination] = append(n.served[x.Destination], x)
			}
		})
		for _, by := range []map[netip.Addr][]*flow.Sum{n.opened, n.served} {
			for _, sums := range by {
				slices.SortFunc(sums, (*flow.Sum).Compare)
			}
		}
	}
	return n
}

// watched are the addresses whose flows matter: of the instances of the subjects' groups, or if no
// subjects are given of the whole estate.
func (n *Narrower) watched() map[netip.Addr]bool {
	all := make(map[netip.Addr]bool)
	add := func(i *estate.Interface) {
		for _, a := range slices.Concat(i.Private, i.Public) {
			all[a] = true
		}
	}
	for _, s := range n.o.Subjects {
		for _, i := range n.d.InterfacesOf(s.Group) {
			add(i)
		}
	}
	if len(n.o.Subjects) == 0 {
		for _, instance := range n.d.Estate().Instances {
			for _, i := range instance.Interfaces {
				add(i)
			}
		}
	}
	return all
}

// Fork is another Narrower over the same estate, for another goroutine.
func (n *Narrower) Fork() *Narrower {
	return &Narrower{n.shared, n.d.Fork(), make(map[otherGroup]traffic.Set), make(map[otherGroup]traffic.Set)}
}

// Decider is the Narrower's decider, for the same goroutine.
func (n *Narrower) Decider() *decide.Decider { return n.d }

// Settle makes later proposals of this Narrower take into account what a proposal lets through.
func (n *Narrower) Settle(p *Proposal) {
	k := otherGroup{p.Group, p.Direction}
	n.settled[k] = n.settled[k].Union(p.After)
	delete(n.elsewhere, k)
}

// Propose works out the replacement for a subject. It takes time linear in the flows of the group's
// instances. The choice is exact, by branch and bound, up to mostSteps; beyond these the proposal
// says how far from the best it may be.
func (n *Narrower) Propose(s Subject) Proposal {
	p := Proposal{Subject: s, NoEvidence: n.o.Flows == nil, room: -1}
	var subject, others []traffic.Set
	for i := range s.Group.Rules {
		r := &s.Group.Rules[i]
		if r.Direction != s.Direction || r.Action != estate.Admit {
			continue
		}
		set := n.d.RuleTraffic(s.Group, r)
		if slices.Contains(s.Rules, r) {
			subject = append(subject, set)
		} else {
			others = append(others, set)
		}
	}
	p.Unwatched = n.unwatched(s.Group)
	p.Before = traffic.UnionAll(subject)
	rest := p.Before.Minus(traffic.UnionAll(others))
	n.needs(&p, rest)
	n.choose(&p)
	n.lend(&p)
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

// unwatched reports whether there is evidence, and the group is attached, and none of its instances
// is at either end of any flow.
func (n *Narrower) unwatched(g *estate.Group) bool {
	attached := n.d.InterfacesOf(g)
	if n.o.Flows == nil || len(attached) == 0 {
		return false
	}
	return !slices.ContainsFunc(attached, func(i *estate.Interface) bool {
		return slices.ContainsFunc(slices.Concat(i.Private, i.Public),
			func(a netip.Addr) bool { return len(n.opened[a])+len(n.served[a]) > 0 })
	})
}

// Needed is all needed traffic, except what is lent.
func (p *Proposal) Needed() traffic.Set {
	var sets []traffic.Set
	for _, n := range p.Needs {
		if !n.Lent {
			sets = append(sets, traffic.Of(n.Peers, n.Services))
		}
	}
	return traffic.UnionAll(sets)
}

// A block is the services that the same peers need.
type block struct {
	services service.Set
	needed   addr.Set
	whole    []Choice // in the subject's own words; then nothing has to be chosen
	puzzle   *puzzle
}

// choose finds the best names for the peers of each need, and joins needs with the same result.
func (n *Narrower) choose(p *Proposal) {
	p.New, p.blocks, p.Bound, p.Excess, p.Tight = nil, nil, 0, Excess{}, false
	for i, need := range p.Needs {
		if need.Lent {
			continue
		}
		if need.Whole {
			p.blocks = append(p.blocks,
				block{services: need.Services, needed: need.Peers, whole: []Choice{wholePeers(p, need)}})
			continue
		}
		// Each set of peers is looked up once.
		k := slices.IndexFunc(p.blocks, func(b block) bool { return b.whole == nil && b.services.Equal(need.Services) })
		if k >= 0 {
			p.blocks[k].needed = p.blocks[k].needed.Union(p.Needs[i].Peers)
			continue
		}
		p.blocks = append(p.blocks, block{services: need.Services, needed: need.Peers})
	}
	p.blocks = apart(p.blocks)
	chosen := make([]solution, len(p.blocks))
	for i := range p.blocks {
		if b := &p.blocks[i]; b.whole == nil {
			b.puzzle = n.puzzle(p.Subject, b.services, b.needed, allowed(p.Before, b.services))
			chosen[i] = b.puzzle.solve()
		}
	}
	if room := n.roomOf(p); room >= 0 && rulesOf(p.blocks, chosen) > room {
		if fitted, ok := fit(p.blocks, room); ok {
			chosen, p.Tight = fitted, true
		}
	}
	for i, b := range p.blocks {
		choices := b.whole
		if b.whole == nil {
			choices = chosen[i].choices
			p.Bound = max(p.Bound, chosen[i].gap())
			width, _ := b.services.Size().Float64()
			p.Excess = p.Excess.plus(chosen[i].excess.times(width))
		}
		k := slices.IndexFunc(p.New, func(r NewRule) bool {
			return slices.EqualFunc(r.Choices, choices, func(a, b Choice) bool { return a.Words == b.Words })
		})
		if k >= 0 {
			p.New[k].Services = p.New[k].Services.Union(b.services)
			continue
		}
		p.New = append(p.New, NewRule{Services: b.services, Choices: choices})
	}
	slices.SortStableFunc(p.New, func(a, b NewRule) int {
		x, _ := a.Services.First()
		y, _ := b.Services.First()
		return cmp.Compare(x, y)
	})
}

// apart makes disjoint blocks: it joins services with the same peers, and splits overlapping ones
// so that no service is chosen for twice.
func apart(blocks []block) []block {
	var done []block
	for _, b := range blocks {
		for i := range done {
			common := done[i].services.Intersect(b.services)
			if common.IsEmpty() || done[i].whole != nil || b.whole != nil {
				continue
			}
			both := block{services: common, needed: done[i].needed.Union(b.needed)}
			done[i].services, b.services = done[i].services.Minus(common), b.services.Minus(common)
			done = append(done, both)
		}
		done = append(done, b)
	}
	done = slices.DeleteFunc(done, func(b block) bool { return b.services.IsEmpty() })
	var joined []block
	for _, b := range done {
		k := slices.IndexFunc(joined,
			func(x block) bool { return x.whole == nil && b.whole == nil && x.needed.Equal(b.needed) })
		if k >= 0 {
			joined[k].services = joined[k].services.Union(b.services)
			continue
		}
		joined = append(joined, b)
	}
	return joined
}

// roomOf is how many new rules the quota has room for; negative means no limit.
func (n *Narrower) roomOf(p *Proposal) int {
	d := decide.Dialect(p.Group.Account)
	quota := compile.QuotaOf(d, p.Group)
	left := -1
	used := func(direction estate.Direction) int {
		sum := 0
		for i := range p.Group.Rules {
			if r := &p.Group.Rules[i]; r.Direction == direction && !slices.Contains(p.Rules, r) {
				sum += compile.Cost(d, p.Group, r)
			}
		}
		return sum
	}
	if quota.Direction > 0 {
		left = max(0, quota.Direction-used(p.Direction))
	}
	if quota.Together > 0 {
		together := max(0, quota.Together-used(estate.In)-used(estate.Out))
		if left < 0 || together < left {
			left = together
		}
	}
	p.room = left
	return left
}

// allowed are the peers that the subject lets through on every one of some services.
func allowed(before traffic.Set, services service.Set) addr.Set {
	if !services.SubsetOf(before.Services()) {
		return addr.Set{}
	}
	all := addr.Everyone
	for _, b := range before.OnServices(services).Bands() {
		all = all.Intersect(b.Peers)
	}
	return all
}

// wholePeers are the subject's peers in its own words.
func wholePeers(p *Proposal, n Need) Choice {
	var peers []estate.Peer
	for _, r := range p.Rules {
		if service.Of(r.Services...).Overlaps(n.Services) {
			for _, peer := range r.Peers {
				if !slices.Contains(peers, peer) {
					peers = append(peers, peer)
				}
			}
		}
	}
	text := estate.PeerWords(peers)
	if n.Peers.Equal(addr.Everyone) {
		text, peers = "everyone", []estate.Peer{{Kind: estate.PeerEveryone}}
	}
	return Choice{Kind: ByOwnWords, Words: text, Addresses: n.Peers, Needed: n.Peers, Peers: peers}
}
