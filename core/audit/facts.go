package audit

import (
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// facts are what the checks need to know of one group. They are worked out once and cheaply, so
// that costly questions are asked only where they may find something.
type facts struct {
	rules []ruleFacts // in the order of the group
	// mayBeOpen and mayBeWide say that the sum of what is admitted holds enough
	// strangers to be open or wide, by direction: in, out.
	mayBeOpen, mayBeWide [2]bool
	// at most so many are let in, of IPv4 and of IPv6: where rules overlap, strangers are counted
	// twice
	strangers       [2]float64
	refuses, byRank bool
	first           *estate.Interface // the first interface that has it, if any
	// plain says that whatever a rule of the group admits from the network gets through. The group
	// keeps state, and either no group of the subnets around its interfaces stops anything within
	// the network, or the admission of one layer is enough.
	plain   bool
	layered bool // groups of the subnet may admit what this one does not
}

// ruleFacts are a rule's peers and services.
type ruleFacts struct {
	*estate.Rule
	peers     addr.Set
	services  service.Set
	four, six float64 // number of strangers among the peers
}

// known are the addresses of a peer, with how many of them are strangers.
type known struct {
	set       addr.Set
	four, six float64
}

// Peers are wide from this number of strangers on: more than 65,536 addresses of IPv4, more than
// one /40 of IPv6.
const (
	wideFour = 1 << 16
	wideSix  = 1 << 88
)

func side(d estate.Direction) int {
	if d == estate.Out {
		return 1
	}
	return 0
}

// collect works out the facts of a group. f.rules has room for all its rules.
func (w *worker) collect(g *estate.Group, f *facts) {
	var four, six [2]float64
	for i := range g.Rules {
		r := &g.Rules[i]
		x := &f.rules[i]
		x.Rule = r
		w.note(g, r)
		x.services = w.servicesOf(r.Services)
		x.peers, x.four, x.six = w.peersOf(g, r)
		if r.Action == estate.Refuse {
			f.refuses = true
			continue
		}
		s := side(r.Direction)
		four[s] += x.four
		six[s] += x.six
	}
	f.byRank = decide.ByRank(g)
	for i := range g.Lends {
		w.note(g, &g.Lends[i].Rule)
	}
	f.strangers = [2]float64{four[0], six[0]}
	for s := range four {
		f.mayBeOpen[s] = four[s] >= w.openFour || six[s] >= w.openSix
		f.mayBeWide[s] = four[s] > wideFour || six[s] > wideSix
	}
	if decide.Filter(g).Fixed != nil && !g.Defined && !f.shutBehind(estate.Out) { // built-in rules let everything out
		f.mayBeOpen[1] = true
	}
	attached := w.d.InterfacesOf(g)
	if len(attached) > 0 {
		f.first = attached[0]
	}
	both := decide.Dialect(g.Account).Layers == dialect.BothMustAdmit
	f.layered = decide.Dialect(g.Account).Layers == dialect.EitherMayAdmit
	stateless := g.Stateless || slices.ContainsFunc(g.Rules, func(r estate.Rule) bool { return r.Stateless })
	f.plain = !g.Defined && !f.refuses && !stateless && !decide.Filter(g).FirstMatch &&
		!slices.ContainsFunc(attached, func(i *estate.Interface) bool {
			return both && !w.transparent(i.Subnet)
		})
}

// transparent reports whether what is attached to a subnet lets everything through
// within the network, both ways.
func (w *worker) transparent(s *estate.Subnet) bool {
	clear, ok := w.clearSubnets[s]
	if !ok {
		within := traffic.Of(addr.OfPrefixes(s.Network.Ranges...), service.All)
		clear = !slices.ContainsFunc(w.d.GroupsOfSubnet(s), func(g *estate.Group) bool {
			return !within.SubsetOf(w.d.GroupTraffic(g, estate.In)) || !within.SubsetOf(w.d.GroupTraffic(g, estate.Out))
		})
		w.clearSubnets[s] = clear
	}
	return clear
}

// shutBehind reports whether the group itself refuses everything behind its rules, so that the
// built-in rules that follow are never reached.
func (f *facts) shutBehind(direction estate.Direction) bool {
	return slices.ContainsFunc(f.rules, func(r ruleFacts) bool {
		return r.Direction == direction && r.Action == estate.Refuse && r.services.Equal(service.All) &&
			r.peers.Equal(addr.Everyone)
	})
}

func (w *worker) servicesOf(specs []service.Spec) service.Set {
	if len(specs) != 1 {
		return service.Of(specs...)
	}
	set, ok := w.specs[specs[0]]
	if !ok {
		set = service.Of(specs...)
		w.specs[specs[0]] = set
	}
	return set
}

// peersOf are a rule's peers, and how many of them are strangers.
func (w *worker) peersOf(g *estate.Group, r *estate.Rule) (peers addr.Set, four, six float64) {
	if len(r.Except) > 0 {
		return w.count(w.d.Peers(g, r, nil))
	}
	p := &r.Peers[0]
	switch {
	case len(r.Peers) == 1 && p.Kind == estate.PeerGroup && !p.V4Only && !p.V6Only:
		if !w.d.CanName(g, p.Group) {
			return addr.Set{}, 0, 0
		}
		k, ok := w.members[p.Group]
		if !ok {
			k.set, k.four, k.six = w.count(w.d.Members(p.Group))
			w.members[p.Group] = k
		}
		return k.set, k.four, k.six
	case p.Kind == estate.PeerRange &&
		!slices.ContainsFunc(r.Peers, func(p estate.Peer) bool { return p.Kind != estate.PeerRange }):
		k, ok := w.ranges[p] // rules of a survey with the same ranges share one slice of peers
		if !ok {
			k.set, k.four, k.six = w.count(w.d.Peers(g, r, nil))
			w.ranges[p] = k
		}
		return k.set, k.four, k.six
	case len(r.Peers) == 1 && p.Kind == estate.PeerList && !p.V4Only && !p.V6Only && len(p.List.Parts) == 0 &&
		len(p.List.Published) == 0:
		k, ok := w.lists[p.List]
		if !ok {
			k.set, k.four, k.six = w.count(w.d.Peers(g, r, nil))
			w.lists[p.List] = k
		}
		return k.set, k.four, k.six
	}
	return w.count(w.d.Peers(g, r, nil))
}

func (w *worker) count(peers addr.Set) (set addr.Set, four, six float64) {
	four, six = w.d.StrangersAmong(peers)
	return peers, four, six
}

// A sign is a hash of what a group lets through. Groups that let through the same traffic have the
// same sign; two groups with the same sign may still differ.
type sign [4]uint64

// ends is a sign that costs next to nothing: the first and last service that the group admits, in
// each direction. It is worthless where rules may refuse.
func (f *facts) ends() sign {
	x := sign{^uint64(0), 0, ^uint64(0), 0}
	if f.byRank {
		return x
	}
	for i := range f.rules {
		r := &f.rules[i]
		if r.Action != estate.Admit || r.peers.IsEmpty() {
			continue
		}
		s := 2 * side(r.Direction)
		from, to := r.services.Ends()
		x[s], x[s+1] = min(x[s], uint64(from)), max(x[s+1], uint64(to))
	}
	return x
}

// sums is a sign of all services and all peers of a group, in each direction, for groups whose
// rules only admit.
func (f *facts) sums() sign {
	var peers [2][]addr.Set
	var services [2][]service.Set
	for i := range f.rules {
		if r := &f.rules[i]; !r.peers.IsEmpty() {
			s := side(r.Direction)
			peers[s], services[s] = append(peers[s], r.peers), append(services[s], r.services)
		}
	}
	return sign{addr.UnionAll(peers[0]...).Hash(), service.UnionAll(services[0]...).Hash(),
		addr.UnionAll(peers[1]...).Hash(), service.UnionAll(services[1]...).Hash()}
}

// A look is one group, as the checks look at it.
type look struct {
	*worker
	group *estate.Group
	*facts
	open  [2]*openings         // by direction; worked out when first asked for
	pairs map[string][]passage // by class of the two interfaces: see crossing
	// admissions of which earlier refusals leave nothing: see letsThrough
	refused map[*estate.Rule]bool
}

// isOpen reports whether peers hold at least a sixteenth of all strangers of either family.
func (w *worker) isOpen(peers addr.Set) bool { return w.d.Breadth(peers).AtLeast(decide.OpenBreadth) }

// isWide reports whether peers hold many strangers.
func (w *worker) isWide(peers addr.Set) bool {
	four, six := w.d.StrangersAmong(peers)
	return four > wideFour || six > wideSix
}

// openings are what a group lets through between its interfaces and many strangers, in a direction.
type openings struct {
	causes []cause
	all    traffic.Set // what all rules together let through, of services that concern strangers
	open   traffic.Set // the part of all whose peers are open
	// services that are open only by the sum of several rules: no single rule lets in all the
	// strangers that the group lets in
	summed service.Set
}

// A cause is a rule with its traffic, or several rules that open the same services: clouds often
// have one rule for each family.
type cause struct {
	rules    []*estate.Rule
	peers    addr.Set
	services service.Set
	open     bool // the peers are open without other rules
	// in groups where the first matching rule decides: what earlier rules leave to these; else all
	// their traffic
	decided traffic.Set
}

// openings works out what is open in a direction, if anything can be.
func (l *look) openings(direction estate.Direction) *openings {
	s := side(direction)
	if l.open[s] == nil {
		l.open[s] = &openings{}
		if l.mayBeOpen[s] || l.mayBeWide[s] {
			l.open[s] = l.findOpenings(direction)
		}
	}
	return l.open[s]
}

func (l *look) findOpenings(direction estate.Direction) *openings {
	o := &openings{}
	var rules []cause
	var strange []service.Set // services that concern strangers
	for _, r := range l.d.InOrder(l.group, direction) {
		if r.Action != estate.Admit {
			continue
		}
		c := cause{rules: []*estate.Rule{r}, services: l.servicesOf(r.Services)}
		var four, six float64
		c.peers, four, six = l.peersOf(l.group, r)
		if four+six > 0 {
			c.open = l.isOpen(c.peers)
			strange = append(strange, c.services)
		}
		rules = append(rules, c)
	}
	concerned := service.UnionAll(strange...)
	rules = slices.DeleteFunc(rules, func(c cause) bool { return !c.services.Overlaps(concerned) })
	for i := range rules { // which rule decides is only asked of outward traffic
		if c := &rules[i]; c.open && direction == estate.Out {
			c.decided = traffic.Of(c.peers, c.services)
			if l.byRank() {
				before := make([]traffic.Set, i)
				for k := range before {
					before[k] = traffic.Of(rules[k].peers, rules[k].services)
				}
				c.decided = c.decided.Minus(traffic.UnionAll(before))
			}
		}
	}
	if l.refuses || l.group.Follows || l.byRank() {
		o.all = l.d.TrafficOn(l.group, direction, concerned)
	} else {
		sets := make([]traffic.Set, len(rules))
		for i, r := range rules {
			sets[i] = traffic.Of(r.peers, r.services)
		}
		o.all = traffic.UnionAll(sets)
	}
	var open []traffic.Set
	for _, b := range o.all.Bands() {
		if !l.isOpen(b.Peers) {
			continue
		}
		open = append(open, traffic.Of(l.openPeers(b.Peers), b.Services()))
		for _, f := range []addr.Family{addr.IPv4, addr.IPv6} {
			part := b.Peers.Only(f)
			if !l.isOpen(part) {
				continue
			}
			summed := b.Services()
			for _, r := range rules {
				if r.open && l.sameStrangers(part, part.Intersect(r.peers)) {
					summed = summed.Minus(r.services)
				}
			}
			o.summed = o.summed.Union(summed)
		}
	}
	o.open = traffic.UnionAll(open)
	o.causes = joinRules(rules)
	return o
}

// sameStrangers reports whether a part of some peers contains all strangers among them.
func (l *look) sameStrangers(peers, part addr.Set) bool {
	four, six := l.d.StrangersAmong(peers)
	partFour, partSix := l.d.StrangersAmong(part)
	return four == partFour && six == partSix
}

// named are the peers of a rule that refer to something: a group, a list, a network.
func named(r *estate.Rule) string {
	var names []string
	for _, p := range r.Peers {
		switch p.Kind {
		case estate.PeerRange, estate.PeerEveryone:
		case estate.PeerGroup:
			names = append(names, p.Group.Path())
		case estate.PeerList:
			names = append(names, p.List.Name)
		default:
			names = append(names, p.String())
		}
	}
	return strings.Join(names, ", ")
}

// joinRules joins rules that open the same services into one cause, and likewise a rule for IPv4
// with an equal one for IPv6.
func joinRules(rules []cause) []cause {
	if len(rules) < 2 {
		return rules
	}
	type key struct {
		services uint64
		open     bool
		four     bool // for a cause that is not open: whether its peers are IPv4
		named    string
		because  string
		action   estate.Action
	}
	keyOf := func(c cause, other bool) key {
		k := key{services: c.services.Hash(), open: c.open}
		if !c.open {
			k.four, k.because, k.action = !c.peers.Only(addr.IPv4).IsEmpty() != other, c.rules[0].Description,
				c.rules[0].Action
			k.named = named(c.rules[0])
		}
		return k
	}
	causes := make([]cause, 0, len(rules))
	first := make(map[key]int, len(rules))
	for _, r := range rules {
		i, ok := first[keyOf(r, !r.open)] // rules that are not open are joined only with one of the other family
		if !ok || !causes[i].services.Equal(r.services) {
			k := keyOf(r, false)
			if _, known := first[k]; !known {
				first[k] = len(causes)
			}
			causes = append(causes, r)
			continue
		}
		c := &causes[i]
		if !c.open {
			delete(first, keyOf(*c, false)) // it has both families now, so that no third rule joins
		}
		c.rules = append(slices.Clip(c.rules), r.rules...)
		c.peers = c.peers.Union(r.peers)
		c.decided = c.decided.Union(r.decided)
	}
	return causes
}
