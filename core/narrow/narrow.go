// Package narrow works out least-privilege replacements for rules: the narrowest rules that still
// let through what is needed.
package narrow

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

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
	// Less is how many rules fewer than the quota has room for a subject must do with, by its first rule:
	// by how much the cloud's rules turned out to be more than was counted.
	Less   map[*estate.Rule]int
	Closed bool // take no service for public: name who was seen
	Blind  bool // where the evidence knows none of a group's instances, use declared needs alone
	Lend   bool // lend access where it can be lent
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
	Terms      []*Terms  // of the subject's rules
	New        []NewRule // to replace the subject's rules; empty means to remove these
	Lending    *Lending  // access that could be lent, or with Options.Lend is lent
	Needs      []Need
	Noise      Noise
	Before     traffic.Set // what the subject lets through
	After      traffic.Set // what the new rules let through
	Closes     traffic.Set // what is in Before, not in After, and not let through by other rules of the group
	Seen       int         // number of flows that the subject let through: the sum of the following and of Noise
	Flows      int         // number of observed flows behind the needs
	Declared   int         // number of flows of what is needed anyway
	Elsewhere  Elsewhere   // what was seen and other rules let through too
	Peers      int         // number of distinct observed peers behind the needs
	Unseen     Unseen
	Rhythm     []string  // why the window may be too short
	Excess     Excess    // what the new rules let in beyond need
	Bound      float64   // the cost is at most this share above the least possible; 0 if it is the least
	Shorter    []Shorter // alternatives to long rules
	Held       []Held    // what was to be dropped and is let through all the same
	Tight      bool      // a coarser choice had to be made because of the quota
	NoEvidence bool      // no evidence was given
	Unwatched  bool      // there is evidence, but it knows none of the group's instances

	blocks []block
	room   int // rules for which the quota has room; negative means no limit
}

// Elsewhere is observed traffic of a subject's instances that is let through too by their other groups, or
// by other rules of the subject's own.
type Elsewhere struct {
	Flows  int
	Groups []string // names, in the order in which they were found
}

// Exact reports whether the choice is the best of all, by the weights.
func (p *Proposal) Exact() bool { return p.Bound == 0 }

// A NewRule is one rule of a proposal.
type NewRule struct {
	Terms    *Terms // of the rules that it replaces
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
	like := r.Terms.like(r.Services)
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
	settled   map[groupWay][]settled     // what earlier proposals let through or lend
}

type groupWay struct {
	group     *estate.Group
	direction estate.Direction
}

// An otherGroup is one of which that counts which lasts for as long.
type otherGroup struct {
	group     *estate.Group
	direction estate.Direction
	until     time.Time
}

type settled struct {
	until time.Time
	set   traffic.Set
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
	networks   addr.Set // the ranges of the own networks
	nat        map[netip.Addr]*estate.Network
	swept      map[*flow.Sum]bool // sums that belong to sweeps
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
		own: d.OwnAddresses(), networks: ownNetworks(d.Estate()), nat: outgoing(d.Estate()),
		groupNames: make(map[string]int), moving: make(map[*estate.Rule]bool)}, d, nil, nil}
	n = n.Fork()
	n.strangers = n.strangers.Minus(addr.Of(slices.Collect(maps.Keys(n.nat))...))
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
		n.days, n.swept = o.Flows.Window(), swept(o.Flows)
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
	return &Narrower{n.shared, n.d.Fork(), make(map[otherGroup]traffic.Set), make(map[groupWay][]settled)}
}

// Decider is the Narrower's decider, for the same goroutine.
func (n *Narrower) Decider() *decide.Decider { return n.d }

// Settle makes later proposals of this Narrower take into account what a proposal lets through, or lends.
func (n *Narrower) Settle(p *Proposal) {
	k := groupWay{p.Group, p.Direction}
	rules := p.New
	if p.Lending != nil && p.Lending.Taken {
		rules = slices.Concat(rules, p.Lending.Rules)
	}
	for _, r := range rules {
		n.settled[k] = append(n.settled[k], settled{r.Terms.Until(), r.traffic()})
	}
	maps.DeleteFunc(n.elsewhere, func(o otherGroup, _ traffic.Set) bool {
		return o.group == p.Group && o.direction == p.Direction
	})
}

// traffic is what the rule lets through.
func (r NewRule) traffic() traffic.Set {
	var sets []traffic.Set
	for _, c := range r.Choices {
		sets = append(sets, traffic.Of(c.Addresses, r.Services))
	}
	return traffic.UnionAll(sets)
}

// Propose works out the replacement for a subject. It takes time linear in the flows of the group's
// instances. The choice is exact, by branch and bound, up to mostSteps; beyond these the proposal
// says how far from the best it may be.
func (n *Narrower) Propose(s Subject) Proposal {
	p := Proposal{Subject: s, NoEvidence: n.o.Flows == nil, room: -1}
	p.Unwatched = n.unwatched(s.Group)
	p.Terms = n.termsOf(s)
	var before, only, after []traffic.Set
	for _, t := range p.Terms {
		before, only = append(before, t.Before), append(only, t.only)
	}
	p.Before = traffic.UnionAll(before)
	n.needs(&p)
	n.choose(&p)
	n.lend(&p)
	for _, r := range p.New {
		after = append(after, r.traffic())
	}
	p.After = traffic.UnionAll(after)
	p.Shorter, p.Held = n.shorter(&p), n.held(&p)
	p.Closes = traffic.UnionAll(only).Minus(p.After)
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

// A block is the services that the same peers need, on the same terms.
type block struct {
	terms    *Terms
	services service.Set
	needed   addr.Set
	whole    []Choice // in the subject's own words; then nothing has to be chosen
	puzzle   *puzzle
}

// choose finds the best names for the peers of each need, and joins needs with the same result.
func (n *Narrower) choose(p *Proposal) {
	p.Bound, p.Excess, p.Tight = 0, Excess{}, false
	standing := slices.DeleteFunc(slices.Clone(p.Needs), func(need Need) bool { return need.Lent })
	p.blocks = n.blocksOf(p.Subject, standing)
	chosen := solve(p.blocks)
	if room := n.roomOf(p); room >= 0 && rulesOf(p.blocks, chosen) > room {
		if fitted, ok := fit(p.blocks, room); ok {
			chosen, p.Tight = fitted, true
		}
	}
	for i, b := range p.blocks {
		if b.whole == nil {
			p.Bound = max(p.Bound, chosen[i].gap())
			width, _ := b.services.Size().Float64()
			p.Excess = p.Excess.plus(chosen[i].excess.times(width))
		}
	}
	p.New = rulesFrom(p.blocks, chosen)
}

// blocksOf divides needs into blocks, each with its puzzle. Each set of peers is looked up once.
func (n *Narrower) blocksOf(s Subject, needs []Need) []block {
	var blocks []block
	for i := range needs {
		need := &needs[i]
		if need.Whole {
			blocks = append(blocks, block{terms: need.Terms, services: need.Services, needed: need.Peers,
				whole: []Choice{wholePeers(need)}})
			continue
		}
		k := slices.IndexFunc(blocks, func(b block) bool {
			return b.whole == nil && b.terms == need.Terms && b.services.Equal(need.Services)
		})
		if k >= 0 {
			blocks[k].needed = blocks[k].needed.Union(need.Peers)
			continue
		}
		blocks = append(blocks, block{terms: need.Terms, services: need.Services, needed: need.Peers})
	}
	blocks = apart(blocks)
	for i := range blocks {
		if b := &blocks[i]; b.whole == nil {
			b.puzzle = n.puzzle(s, b.services, b.needed, allowed(b.terms.Before, b.services))
		}
	}
	return blocks
}

func solve(blocks []block) []solution {
	chosen := make([]solution, len(blocks))
	for i, b := range blocks {
		if b.whole == nil {
			chosen[i] = b.puzzle.solve()
		}
	}
	return chosen
}

// rulesFrom writes rules for blocks with what was chosen for each. Those with the same peers become one.
func rulesFrom(blocks []block, chosen []solution) []NewRule {
	var rules []NewRule
	for i, b := range blocks {
		choices := b.whole
		if b.whole == nil {
			choices = chosen[i].choices
		}
		k := slices.IndexFunc(rules, func(r NewRule) bool {
			return r.Terms == b.terms &&
				slices.EqualFunc(r.Choices, choices, func(a, b Choice) bool { return a.Words == b.Words })
		})
		if k >= 0 {
			rules[k].Services = rules[k].Services.Union(b.services)
			continue
		}
		rules = append(rules, NewRule{Terms: b.terms, Services: b.services, Choices: choices})
	}
	slices.SortStableFunc(rules, func(a, b NewRule) int {
		x, _ := a.Services.First()
		y, _ := b.Services.First()
		return cmp.Compare(x, y)
	})
	return rules
}

// apart makes disjoint blocks: it joins services with the same peers, and splits overlapping ones
// so that no service is chosen for twice.
func apart(blocks []block) []block {
	var done []block
	for _, b := range blocks {
		for i := range done {
			common := done[i].services.Intersect(b.services)
			if common.IsEmpty() || done[i].whole != nil || b.whole != nil || done[i].terms != b.terms {
				continue
			}
			both := block{terms: b.terms, services: common, needed: done[i].needed.Union(b.needed)}
			done[i].services, b.services = done[i].services.Minus(common), b.services.Minus(common)
			done = append(done, both)
		}
		done = append(done, b)
	}
	done = slices.DeleteFunc(done, func(b block) bool { return b.services.IsEmpty() })
	var joined []block
	for _, b := range done {
		k := slices.IndexFunc(joined, func(x block) bool {
			return x.whole == nil && b.whole == nil && x.terms == b.terms && x.needed.Equal(b.needed)
		})
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
	quota, g := compile.QuotaOf(d, p.Group), asDefined(p.Group)
	left := -1
	used := func(direction estate.Direction) int {
		sum := 0
		for i := range p.Group.Rules {
			if r := &p.Group.Rules[i]; r.Direction == direction && !slices.Contains(p.Rules, r) {
				sum += compile.Cost(d, g, r)
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
	if left >= 0 {
		left = max(0, left-n.o.Less[p.Rules[0]])
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

// wholePeers are the peers of the need's terms in their own words.
func wholePeers(n *Need) Choice {
	var peers []estate.Peer
	for _, r := range n.Terms.Rules {
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
