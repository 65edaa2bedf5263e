package narrow

import (
	"fmt"
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Source says what shows that something is needed.
type Source string

// The sources of needs.
const (
	Declared Source = "declared" // an expectation, a law, or a balancer in front
	Asked    Source = "asked"    // the user asked to keep it
	Observed Source = "observed"
	Public   Source = "public" // observed from so many strangers that more will come
)

// A Need is traffic that must stay open: some peers on some services.
type Need struct {
	Source   Source
	Services service.Set
	Peers    addr.Set
	Text     string      // the declaration, or the user's words
	Whole    bool        // all of the subject's own peers, whoever they are
	Lent     bool        // it is lent instead of open
	Sums     []*flow.Sum // of Observed and Public
}

// Noise is what was observed but is not considered a need.
type Noise struct {
	List       []LeftOut // sorted by peer and service
	Peers      int       // distinct addresses
	Flows      int
	Unanswered int // flows that never completed an exchange
}

// LeftOut is a peer and service that is not considered a need, and why.
type LeftOut struct {
	Peer    netip.Addr
	Service service.Point
	Flows   int
	Why     Reason
}

// Reason says why something observed is not considered a need.
type Reason string

// The reasons.
const (
	NeverAnswered Reason = "never answered"
	SeenOnce      Reason = "seen once"
	TooFewDays    Reason = "seen on too few days"
	Dropped       Reason = "dropped on request"
)

// A handing is a balancer that hands a service on to a target.
type handing struct {
	balancer *estate.Instance
	listener *estate.Listener
}

// handings are the balancers in front of each instance.
func handings(e *estate.Estate) map[*estate.Instance][]handing {
	all := make(map[*estate.Instance][]handing)
	for _, b := range e.Instances {
		for i := range b.Listeners {
			for _, target := range b.Listeners[i].Targets {
				all[target] = append(all[target], handing{b, &b.Listeners[i]})
			}
		}
	}
	return all
}

// If at least this many strangers used a service, and at least this share of its flows is from
// strangers that came once, it serves the public: a list of those who happened to come would stop
// those who come next.
const (
	manyStrangers = 20
	openEnded     = 0.01
)

// needs collects what must stay open of the traffic that only the subject lets through.
func (n *Narrower) needs(p *Proposal, rest traffic.Set) {
	for _, drop := range n.o.Drop {
		rest = rest.Minus(traffic.Of(drop.Peers, drop.Services))
	}
	for _, keep := range n.o.Keep {
		if set := traffic.Of(keep.Peers, keep.Services).Intersect(p.Before); !set.IsEmpty() {
			n.add(p, Need{Source: Asked, Text: keep.Text}, set)
		}
	}
	n.expected(p, rest)
	n.handedOn(p, rest)
	var kept []*flow.Sum
	covered := p.Needed()
	// A peer is judged by all that it did with all instances of the group on a service.
	type use struct {
		peer    netip.Addr
		service service.Point
	}
	type seen struct {
		sums             []*flow.Sum
		flows, completed int
		days             flow.Days
	}
	uses := make(map[use]*seen)
	var order []use
	n.eachFlow(p, func(i *estate.Interface, x *flow.Sum, peer netip.Addr) {
		if !p.Before.Contains(peer, x.Service) || covered.Contains(peer, x.Service) {
			return
		}
		for _, other := range n.others(p, i) {
			if other.Contains(peer, x.Service) {
				p.Elsewhere.add(x.Flows, other.group.Name)
				return
			}
		}
		k := use{peer, x.Service}
		u := uses[k]
		if u == nil {
			u = new(seen)
			uses[k], order = u, append(order, k)
		}
		u.sums = append(u.sums, x)
		u.flows += x.Flows
		u.completed += x.Completed
		all := x.Days
		u.days.Merge(&all)
	})
	for _, k := range order {
		u := uses[k]
		dropped := slices.ContainsFunc(n.o.Drop,
			func(d Wanted) bool { return d.Services.Contains(k.service) && d.Peers.Contains(k.peer) })
		if !dropped && !rest.Contains(k.peer, k.service) {
			continue // another rule lets it through
		}
		stranger := p.Direction == estate.In && n.strangers.Contains(k.peer)
		why := Reason("")
		switch {
		case dropped:
			why = Dropped
		case stranger && u.completed == 0:
			why = NeverAnswered
		case stranger && u.flows == 1:
			why = SeenOnce
		case u.days.Count() < n.o.MinDays:
			why = TooFewDays
		default:
			kept = append(kept, u.sums...)
			continue
		}
		p.Noise.Flows += u.flows
		p.Noise.Unanswered += u.flows - u.completed
		p.Noise.List = append(p.Noise.List, LeftOut{k.peer, k.service, u.flows, why})
	}
	left := make(map[netip.Addr]bool)
	for _, x := range p.Noise.List {
		left[x.Peer] = true
	}
	p.Noise.Peers = len(left)
	n.permitted(p, rest, kept)
	covered = p.Needed()
	kept = slices.DeleteFunc(kept, func(x *flow.Sum) bool { return covered.Contains(peerOf(p, x), x.Service) })
	n.observed(p, kept, rest)
}

// add adds a need for a set of traffic. If services differ between peers it becomes several needs.
func (n *Narrower) add(p *Proposal, need Need, set traffic.Set) {
	for _, b := range set.Blocks() {
		need.Services, need.Peers = b.Services, b.Peers
		p.Needs = append(p.Needs, need)
	}
}

func peerOf(p *Proposal, x *flow.Sum) netip.Addr {
	if p.Direction == estate.Out {
		return x.Destination
	}
	return x.Source
}

// eachFlow calls take for each sum with an instance of the group at one end.
func (n *Narrower) eachFlow(p *Proposal, take func(i *estate.Interface, x *flow.Sum, peer netip.Addr)) {
	by := n.served
	if p.Direction == estate.Out {
		by = n.opened
	}
	for _, i := range n.d.InterfacesOf(p.Group) {
		for _, own := range [][]netip.Addr{i.Private, i.Public} {
			for _, a := range own {
				for _, x := range by[a] {
					take(i, x, peerOf(p, x))
				}
			}
		}
	}
}

// An other is what another group lets through.
type other struct {
	traffic.Set
	group *estate.Group
}

func (e *Elsewhere) add(flows int, group string) {
	e.Flows += flows
	if !slices.Contains(e.Groups, group) {
		e.Groups = append(e.Groups, group)
	}
}

// others is what the other groups of an interface let through by rules that are not narrowed, where
// groups add up.
func (n *Narrower) others(p *Proposal, i *estate.Interface) []other {
	if p.Group.For != estate.ForInstances || decide.Filter(p.Group).FirstMatch {
		return nil
	}
	var sets []other
	for _, g := range n.d.GroupsAt(i) {
		if g == p.Group {
			continue
		}
		k := otherGroup{g, p.Direction}
		set, known := n.elsewhere[k]
		if !known {
			var admitted []traffic.Set
			for k := range g.Rules {
				if r := &g.Rules[k]; r.Direction == p.Direction && r.Action == estate.Admit && !n.moving[r] {
					admitted = append(admitted, n.d.RuleTraffic(g, r))
				}
				if g.Rules[k].Direction == p.Direction && g.Rules[k].Action == estate.Refuse {
					admitted = nil // this group refuses something: nothing is taken for granted of it
					break
				}
			}
			set = traffic.UnionAll(admitted).Union(n.settled[k])
			n.elsewhere[k] = set
		}
		sets = append(sets, other{set, g})
	}
	return sets
}

// expected adds needs from expectations about reaching the group, or being reached by it.
func (n *Narrower) expected(p *Proposal, rest traffic.Set) {
	for _, x := range n.o.Expects {
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
			need := Need{Source: Declared, Text: x.Text}
			var peers addr.Set
			if peer.Kind == estate.PeerInternet || peer.Kind == estate.PeerEveryone {
				need.Whole = true
				peers = rest.Peers(x.Services)
			} else {
				peers = n.d.Peers(p.Group, &estate.Rule{Peers: []estate.Peer{peer}}, nil)
			}
			n.add(p, need, traffic.Of(peers, x.Services).Intersect(rest))
		}
	}
}

// handedOn adds needs from balancers: what they hand on to the group's instances and probe there,
// and for a balancer's own group what it listens to and hands on.
func (n *Narrower) handedOn(p *Proposal, rest traffic.Set) {
	said := make(map[string]int)
	var at *estate.Interface
	declare := func(text string, peers addr.Set, services service.Set, whole bool) {
		set := traffic.Of(peers, services).Intersect(rest)
		for _, other := range n.others(p, at) {
			set = set.Minus(other.Set)
		}
		if set.IsEmpty() {
			return
		}
		if i, ok := said[text]; ok && !whole { // the same listener, with another target
			p.Needs[i].Peers = p.Needs[i].Peers.Union(set.Peers(services))
			return
		}
		said[text] = len(p.Needs)
		p.Needs = append(p.Needs,
			Need{Source: Declared, Text: text, Services: set.Services(), Peers: set.Peers(service.All), Whole: whole})
	}
	for _, i := range n.d.InterfacesOf(p.Group) {
		at = i
		if p.Direction == estate.In {
			for _, h := range n.handed[i.Instance] {
				for _, at := range targetServices(h.listener) {
					declare(fmt.Sprintf("%s hands %s on at %s", h.balancer.Name, h.listener.Service, at),
						privateOf(h.balancer), service.Of(at), false)
				}
			}
		}
		for k := range i.Instance.Listeners {
			l := &i.Instance.Listeners[k]
			if p.Direction == estate.Out {
				for _, target := range l.Targets {
					for _, at := range targetServices(l) {
						declare(fmt.Sprintf("%s hands %s on at %s", i.Instance.Name, l.Service, at),
							privateOf(target), service.Of(at), false)
					}
				}
				continue
			}
			services := service.Of(l.Service)
			if len(i.Public) == 0 || services.Overlaps(n.admin) || services.Overlaps(n.data) {
				continue // who uses it is a question for the evidence
			}
			declare(fmt.Sprintf("%s listens on %s at a public address", i.Instance.Name, l.Service),
				rest.Peers(services), services, true)
		}
	}
}

// targetServices are what a balancer sends to a target: what it hands on, and its probes.
func targetServices(l *estate.Listener) []service.Spec {
	handed := l.Service
	if l.Port > 0 {
		handed.From, handed.To = l.Port, l.Port
	}
	if l.Probe == (service.Spec{}) || l.Probe == handed {
		return []service.Spec{handed}
	}
	return []service.Spec{handed, l.Probe}
}

func privateOf(i *estate.Instance) addr.Set {
	var all []netip.Addr
	for _, f := range i.Interfaces {
		all = append(all, f.Private...)
	}
	return addr.Of(all...)
}

// permitted adds what a law allows to be open to the internet, if the subject is about exactly that
// or strangers were seen to use it. A permission alone is no need.
func (n *Narrower) permitted(p *Proposal, rest traffic.Set, kept []*flow.Sum) {
	if p.Direction != estate.In {
		return
	}
	for _, l := range n.o.Laws {
		if l.Over != nil && !l.Over.Holds(estate.GroupPlace(p.Group)) {
			continue
		}
		for _, o := range l.Only {
			if o.Lend || o.Direction != estate.In ||
				!slices.ContainsFunc(o.Peers.Of,
					func(peer estate.Peer) bool { return peer.Kind == estate.PeerInternet }) {
				continue
			}
			var services []service.Set
			for _, r := range p.Rules {
				if s := service.Of(r.Services...); s.SubsetOf(o.Services) {
					services = append(services, s)
				}
			}
			for _, x := range kept {
				if o.Services.Contains(x.Service) && n.strangers.Contains(x.Source) {
					services = append(services, service.Between(x.Service, x.Service))
				}
			}
			used := service.UnionAll(services...)
			n.add(p, Need{Source: Declared, Text: fmt.Sprintf("law %s: only admit %s from internet", l.Name, o.Words),
				Whole: true}, rest.OnServices(used).Minus(p.Needed()))
		}
	}
}

// observed makes needs of summed flows: one for each range of services with the same peers.
func (n *Narrower) observed(p *Proposal, kept []*flow.Sum, rest traffic.Set) {
	byService := make(map[service.Point][]*flow.Sum)
	for _, x := range kept {
		byService[x.Service] = append(byService[x.Service], x)
		p.Flows += x.Flows
	}
	p.Unseen, p.Peers = n.unseen(p, kept)
	p.Rhythm = n.rhythm(p, kept)
	points := make([]service.Point, 0, len(byService))
	for s := range byService {
		points = append(points, s)
	}
	slices.Sort(points)
	for _, s := range points {
		sums := byService[s]
		need := Need{Source: Observed, Services: service.Between(s, s), Sums: sums}
		if strangers := n.publicUse(p, s, sums); strangers > 0 {
			need.Source, need.Whole = Public, true
			need.Peers = rest.Peers(need.Services)
			need.Text = count.Of(strangers, "stranger uses", "strangers use") + " it, and more will"
			p.Needs = append(p.Needs, need)
			continue
		}
		addrs := make([]netip.Addr, len(sums))
		for i, x := range sums {
			addrs[i] = peerOf(p, x)
		}
		need.Peers = addr.Of(addrs...)
		i := slices.IndexFunc(p.Needs, func(x Need) bool { return x.Source == Observed && x.Peers.Equal(need.Peers) })
		if i < 0 {
			p.Needs = append(p.Needs, need)
			continue
		}
		p.Needs[i].Services = p.Needs[i].Services.Union(need.Services)
		p.Needs[i].Sums = append(p.Needs[i].Sums, need.Sums...)
	}
}

// publicUse is the number of strangers that use a service, if it serves the public; else 0.
// Administration and data never count as public.
func (n *Narrower) publicUse(p *Proposal, s service.Point, sums []*flow.Sum) int {
	if p.Direction != estate.In || n.admin.Contains(s) || n.data.Contains(s) {
		return 0
	}
	flows := make(map[netip.Addr]int)
	for _, x := range sums {
		if n.strangers.Contains(x.Source) {
			flows[x.Source] += x.Flows
		}
	}
	for _, x := range p.Noise.List { // peers that came once count here: they show that it is public
		if x.Service == s && x.Why == SeenOnce {
			flows[x.Peer] += x.Flows
		}
	}
	if len(flows) < manyStrangers || goodTuring(flows) < openEnded {
		return 0
	}
	return len(flows)
}
