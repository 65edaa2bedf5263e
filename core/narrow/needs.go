package narrow

import (
	"cmp"
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
	Terms    *Terms      // those on which it was let through
	Text     string      // the declaration, or the user's words
	Whole    bool        // all of the subject's own peers, whoever they are
	Lent     bool        // it is lent instead of open
	Sums     []*flow.Sum // of Observed and Public
	Narrow   []Choice    // of Public: who was seen, should it not be public
}

// Flows is the number of flows behind a need.
func (n *Need) Flows() (flows int) {
	for _, x := range n.Sums {
		flows += x.Flows
	}
	return flows
}

// Days is the number of days on which it was seen.
func (n *Need) Days() int {
	var all flow.Days
	for _, x := range n.Sums {
		days := x.Days
		all.Merge(&days)
	}
	return all.Count()
}

// Noise is what was observed but is not considered a need.
type Noise struct {
	List  []LeftOut // in the order in which it was found
	Peers int       // distinct addresses
	Flows int
}

// LeftOut is a peer and service that is not considered a need, and why.
type LeftOut struct {
	Peer    netip.Addr
	Service service.Point
	Flows   int
	Last    int64 // seconds since 1970
	Why     Reason
}

// Reason says why something observed is not considered a need.
type Reason string

// The reasons.
const (
	Probing    Reason = "looks like probing"
	Sweep      Reason = "part of a sweep"
	SeenOnce   Reason = "seen once"
	Gone       Reason = "gone: no instance has the address any more"
	TooFewDays Reason = "seen on too few days"
	Dropped    Reason = "dropped on request"
)

// Reasons are all of them, in the order in which they are told.
var Reasons = []Reason{Probing, Sweep, SeenOnce, Gone, TooFewDays, Dropped}

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

// needs collects what must stay open of the traffic that only the subject lets through.
func (n *Narrower) needs(p *Proposal) {
	for _, keep := range n.o.Keep {
		n.add(p, Need{Source: Asked, Text: keep.Text}, traffic.Of(keep.Peers, keep.Services),
			func(t *Terms) traffic.Set { return t.own })
	}
	n.expected(p)
	n.handedOn(p)
	uses := n.uses(p)
	p.Unseen = n.unseen(uses)
	var kept []*use
	left := make(map[netip.Addr]bool)
	for _, u := range uses {
		why := n.noise(p, u)
		if why == "" {
			kept = append(kept, u)
			continue
		}
		left[u.peer] = true
		p.Noise.Flows += u.flows
		last := int64(0)
		for _, x := range u.sums {
			last = max(last, x.Last)
		}
		p.Noise.List = append(p.Noise.List, LeftOut{u.peer, u.service, u.flows, last, why})
	}
	p.Noise.Peers = len(left)
	n.permitted(p, kept)
	declared := p.Needed()
	kept = slices.DeleteFunc(kept, func(u *use) bool {
		if declared.Contains(u.peer, u.service) {
			p.Declared += u.flows
			return true
		}
		return false
	})
	n.observed(p, kept)
}

// uses are what the group's instances were seen to do with what the subject lets through, except what
// is let through anyway and what is declared to be needed.
func (n *Narrower) uses(p *Proposal) []*use {
	type key struct {
		terms   *Terms
		peer    netip.Addr
		service service.Point
	}
	declared := p.Needed()
	found := make(map[key]*use)
	var all []*use
	n.eachFlow(p, func(i *estate.Interface, x *flow.Sum, peer netip.Addr) {
		at := slices.IndexFunc(p.Terms, func(t *Terms) bool { return t.own.Contains(peer, x.Service) })
		if at < 0 {
			return
		}
		t := p.Terms[at]
		p.Seen += x.Flows
		switch {
		case declared.Contains(peer, x.Service):
			p.Declared += x.Flows
			return
		case !t.only.Contains(peer, x.Service) && !n.dropped(peer, x.Service):
			p.Elsewhere.add(x.Flows, p.Group.Name)
			return
		}
		for _, other := range n.others(p, i, t) {
			if other.Contains(peer, x.Service) {
				p.Elsewhere.add(x.Flows, other.group.Name)
				return
			}
		}
		k := key{t, peer, x.Service}
		u := found[k]
		if u == nil {
			u = &use{terms: t, peer: peer, service: x.Service}
			found[k], all = u, append(all, u)
		}
		u.sums = append(u.sums, x)
		u.flows += x.Flows
		days := x.Days
		u.days.Merge(&days)
	})
	return all
}

func (n *Narrower) dropped(peer netip.Addr, s service.Point) bool {
	return slices.ContainsFunc(n.o.Drop,
		func(d Wanted) bool { return d.Services.Contains(s) && d.Peers.Contains(peer) })
}

// noise says why a use is not considered a need; it is empty if it is one.
func (n *Narrower) noise(p *Proposal, u *use) Reason {
	stranger := p.Direction == estate.In && n.strangers.Contains(u.peer)
	switch {
	case n.dropped(u.peer, u.service):
		return Dropped
	case n.gone(p, u):
		return Gone
	case n.sweeps(u):
		return Sweep
	case stranger && u.probes():
		return Probing
	case stranger && u.flows == 1:
		return SeenOnce
	case u.days.Count() < n.o.MinDays:
		return TooFewDays
	}
	return ""
}

// sweeps reports whether a use is part of sweeps and nothing else.
func (n *Narrower) sweeps(u *use) bool {
	return !slices.ContainsFunc(u.sums, func(x *flow.Sum) bool { return !n.swept[x] })
}

// add adds a need for a set of traffic, as far as it belongs to the terms of the subject; of tells which
// part may belong to them. If services differ between peers it becomes several needs.
func (n *Narrower) add(p *Proposal, need Need, set traffic.Set, of func(*Terms) traffic.Set) {
	for _, t := range p.Terms {
		for _, b := range set.Intersect(of(t)).Blocks() {
			need.Services, need.Peers, need.Terms = b.Services, b.Peers, t
			p.Needs = append(p.Needs, need)
		}
	}
}

// only is the part of the terms' traffic that nothing else lets through, without what is dropped.
func (n *Narrower) only(t *Terms) traffic.Set {
	rest := t.only
	for _, drop := range n.o.Drop {
		rest = rest.Minus(traffic.Of(drop.Peers, drop.Services))
	}
	return rest
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
// groups add up, for at least as long as the terms.
func (n *Narrower) others(p *Proposal, i *estate.Interface, t *Terms) []other {
	if p.Group.For != estate.ForInstances || decide.Filter(p.Group).FirstMatch {
		return nil
	}
	var sets []other
	for _, g := range n.d.GroupsAt(i) {
		if g == p.Group {
			continue
		}
		k := otherGroup{g, p.Direction, t.Until()}
		set, known := n.elsewhere[k]
		if !known {
			var admitted []traffic.Set
			for k := range g.Rules {
				if r := &g.Rules[k]; r.Direction == p.Direction && r.Action == estate.Admit && !n.moving[r] &&
					lasts(r.Until, t.Until()) {
					admitted = append(admitted, n.d.RuleTraffic(g, r))
				}
				if g.Rules[k].Direction == p.Direction && g.Rules[k].Action == estate.Refuse {
					admitted = nil // this group refuses something: nothing is taken for granted of it
					break
				}
			}
			for _, s := range n.settled[groupWay{g, p.Direction}] {
				if lasts(s.until, t.Until()) {
					admitted = append(admitted, s.set)
				}
			}
			set = traffic.UnionAll(admitted)
			n.elsewhere[k] = set
		}
		sets = append(sets, other{set, g})
	}
	return sets
}

// expected adds needs from expectations about reaching the group, or being reached by it.
func (n *Narrower) expected(p *Proposal) {
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
			peers := addr.Everyone
			if peer.Kind == estate.PeerInternet || peer.Kind == estate.PeerEveryone {
				need.Whole = true
			} else {
				peers = n.d.Peers(p.Group, &estate.Rule{Peers: []estate.Peer{peer}}, nil)
			}
			n.add(p, need, traffic.Of(peers, x.Services), n.only)
		}
	}
}

// handedOn adds needs from balancers: what they hand on to the group's instances and probe there,
// and for a balancer's own group what it listens to and hands on.
func (n *Narrower) handedOn(p *Proposal) {
	type statement struct {
		terms *Terms
		text  string
	}
	said := make(map[statement]int)
	var at *estate.Interface
	declare := func(text string, peers addr.Set, services service.Set, whole bool) {
		for _, t := range p.Terms {
			set := traffic.Of(peers, services).Intersect(n.only(t))
			for _, other := range n.others(p, at, t) {
				set = set.Minus(other.Set)
			}
			if set.IsEmpty() {
				continue
			}
			if i, ok := said[statement{t, text}]; ok && !whole { // the same listener, with another target
				p.Needs[i].Peers = p.Needs[i].Peers.Union(set.Peers(services))
				continue
			}
			said[statement{t, text}] = len(p.Needs)
			p.Needs = append(p.Needs, Need{Source: Declared, Terms: t, Text: text, Services: set.Services(),
				Peers: set.Peers(service.All), Whole: whole})
		}
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
				addr.Everyone, services, true)
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
func (n *Narrower) permitted(p *Proposal, kept []*use) {
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
			for _, u := range kept {
				if o.Services.Contains(u.service) && n.strangers.Contains(u.peer) {
					services = append(services, service.Between(u.service, u.service))
				}
			}
			used := service.UnionAll(services...)
			n.add(p, Need{Source: Declared, Text: fmt.Sprintf("law %s: only admit %s from internet", l.Name, o.Words),
				Whole: true}, traffic.Of(addr.Everyone, used).Minus(p.Needed()), n.only)
		}
	}
}

// observed makes needs of what was seen: one for each range of services with the same peers, on the same
// terms.
func (n *Narrower) observed(p *Proposal, kept []*use) {
	type place struct {
		terms   *Terms
		service service.Point
	}
	by := make(map[place][]*use)
	var places []place
	peers := make(map[netip.Addr]bool)
	for _, u := range kept {
		k := place{u.terms, u.service}
		if by[k] == nil {
			places = append(places, k)
		}
		by[k] = append(by[k], u)
		p.Flows += u.flows
		peers[u.peer] = true
	}
	p.Peers = len(peers)
	p.Rhythm = n.rhythm(p, kept)
	slices.SortStableFunc(places, func(a, b place) int {
		return cmp.Or(cmp.Compare(slices.Index(p.Terms, a.terms), slices.Index(p.Terms, b.terms)),
			cmp.Compare(a.service, b.service))
	})
	for _, k := range places {
		need := Need{Source: Observed, Terms: k.terms, Services: service.Between(k.service, k.service)}
		addrs := make([]netip.Addr, len(by[k]))
		for i, u := range by[k] {
			addrs[i] = u.peer
			need.Sums = append(need.Sums, u.sums...)
		}
		need.Peers = addr.Of(addrs...)
		if strangers := n.publicUse(p, k.service, by[k]); strangers > 0 {
			need.Source, need.Whole = Public, true
			may := allowed(k.terms.Before, need.Services)
			need.Narrow = n.puzzle(p.Subject, need.Services, need.Peers, may).solve().choices
			need.Peers = n.only(k.terms).Peers(need.Services)
			need.Text = count.Of(strangers, "stranger comes", "strangers come") + " again and again, and more will"
			p.Needs = append(p.Needs, need)
			continue
		}
		i := slices.IndexFunc(p.Needs, func(x Need) bool {
			return x.Source == Observed && x.Terms == need.Terms && x.Peers.Equal(need.Peers)
		})
		if i < 0 {
			p.Needs = append(p.Needs, need)
			continue
		}
		p.Needs[i].Services = p.Needs[i].Services.Union(need.Services)
		p.Needs[i].Sums = append(p.Needs[i].Sums, need.Sums...)
	}
}
