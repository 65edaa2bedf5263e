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

// facts are what the checks ask of one group, worked out once: cheaply, so that
// the costly questions are asked only where something can be found.
type facts struct {
	rules []ruleFacts // those of the group, in its order
	// mayBeOpen and mayBeWide say that the sum of what is admitted holds enough
	// strangers to be open or wide, by direction: in, out.
	mayBeOpen, mayBeWide [2]bool
	strangers            [2]float64 // that are let in, of IPv4 and IPv6: at most, since rules may overlap
	refuses, byRank      bool
	first                *estate.Interface // the first that has it, if any
	// plain says that it keeps state, and that whatever is attached to the subnets of those
	// that have it lets everything through within the network, or that one admission in any
	// layer is enough: so what a rule of it admits from the network gets through.
	plain   bool
	layered bool // groups of the subnet may admit what this one does not
}

// ruleFacts are what a rule speaks of.
type ruleFacts struct {
	*estate.Rule
	peers     addr.Set
	services  service.Set
	four, six float64 // strangers among the peers
}

// known is what is known of the addresses of a peer.
type known struct {
	set       addr.Set
	four, six float64
}

// wideFour and wideSix are how many strangers make a set of peers wide: more than
// 65,536 addresses of IPv4, more than one /40 of IPv6.
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

// collect works out the facts of a group, for whose rules there is room.
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
	if decide.Filter(g).Fixed != nil && !g.Defined && !f.shutBehind(estate.Out) { // built-in rules let out to everyone
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

// shutBehind reports whether a refusal of everything stands behind a group's rules, before any built-in one.
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

// peersOf are a rule's peers, and how many strangers are among them.
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
		k, ok := w.ranges[p] // rules of a survey that have the same ranges share them
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

// A sign is the same for groups that let through the same traffic: what they
// differ in can't be seen in it, but what it differs in they do.
type sign [4]uint64

// ends are the first and the last service that a group admits, each way: a sign
// that costs next to nothing. Where rules may refuse they tell nothing.
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

// sums are signs of the services and of the peers of a group, each way, where rules only
// add up.
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

// A look is one group as the checks see it.
type look struct {
	*worker
	group *estate.Group
	*facts
	open  [2]*openings         // by direction, worked out when they are asked for
	pairs map[string][]passage // between interfaces, by their class: see crossing
	// refused are the admitting rules of which refusals before them leave nothing: see letsThrough.
	refused map[*estate.Rule]bool
}

// isOpen reports whether peers hold a sixteenth of all strangers, in either family.
func (w *worker) isOpen(peers addr.Set) bool { return w.d.Breadth(peers).AtLeast(decide.OpenBreadth) }

// isWide reports whether peers hold many strangers.
func (w *worker) isWide(peers addr.Set) bool {
	four, six := w.d.StrangersAmong(peers)
	return four > wideFour || six > wideSix
}

// openings are what a group lets through to many strangers in a direction.
type openings struct {
	causes []cause
	all    traffic.Set // what all rules together let through, on services that concern strangers at least
	open   traffic.Set // the part of all whose peers are open
	// summed are the services on which no single rule lets in all the strangers
	// of a family that the group lets in.
	summed service.Set
}

// A cause is a rule with its traffic. Rules that open the same services are one
// cause: a cloud often has one for each family.
type cause struct {
	rules    []*estate.Rule
	peers    addr.Set
	services service.Set
	open     bool        // the peers are open by themselves
	decided  traffic.Set // where the first rule that fits decides, what is left to these; else all of it
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
	var strange []service.Set // that strangers have something to do with
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
	for i := range rules { // only of what is let out is it asked which rule decides
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

// sameStrangers reports whether a part of some peers holds all strangers among them.
func (l *look) sameStrangers(peers, part addr.Set) bool {
	four, six := l.d.StrangersAmong(peers)
	partFour, partSix := l.d.StrangersAmong(part)
	return four == partFour && six == partSix
}

// named are the peers of a rule that are named, and not given as addresses.
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

// joinRules makes one cause of rules that open the same services, and of a rule
// for IPv4 and one for IPv6 that are alike.
func joinRules(rules []cause) []cause {
	if len(rules) < 2 {
		return rules
	}
	type key struct {
		services uint64
		open     bool
		four     bool // of a cause that is not open: its peers are of IPv4
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
		i, ok := first[keyOf(r, !r.open)] // a rule that is not open wants one of the other family
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
			delete(first, keyOf(*c, false)) // it has both families now
		}
		c.rules = append(slices.Clip(c.rules), r.rules...)
		c.peers = c.peers.Union(r.peers)
		c.decided = c.decided.Union(r.decided)
	}
	return causes
}
