package work

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/pass"
	"isonomos/core/service"
	"isonomos/core/traffic"
	"isonomos/words"
)

// checkIssued refuses a pass that would break a law, is needless, or would open nothing that arrives.
func (l Lender) checkIssued(v *PassView, c lendingCheck, f *pass.Found, issued *Issued) error {
	if broken := l.newBreaches(v, c); len(broken) > 0 {
		return refused("%s; no exemption covers it", strings.Join(broken, "; "))
	}
	then, bare := decide.New(c.aim.Then), decide.New(c.bare)
	places := facesOf(c.aim.Then, f)
	if len(places) == 0 {
		return refused("%s is attached to no instance: the pass would open nothing", f.Group)
	}
	g := c.aim.Then.FindGroup(f.Group)
	d, defined := decide.New(v.Estate), v.Estate.FindGroup(f.Group)
	var set traffic.Set
	for _, o := range f.Openings {
		r, err := o.Rule(v.Estate, "")
		if err != nil {
			return err
		}
		set = set.Union(d.RuleTraffic(defined, &r))
	}
	direction := f.Openings[0].Direction
	if standing := standingAlready(bare, facesOf(c.bare, f), set, direction); standing != "" {
		return refused("the pass would be pointless: %s", standing)
	}
	issued.Arrivals = arrivals(then, places, set, direction)
	some := slices.ContainsFunc(issued.Arrivals, func(a Arrival) bool { return a.Arrives })
	if !some && len(issued.Arrivals) > 0 {
		a := issued.Arrivals[0]
		return refused("the pass would open nothing that arrives: %s: %s", a.Flow, a.Why)
	}
	issued.Stateful = g == nil || decide.KeepsState(g, &estate.Rule{})
	for _, other := range v.Found {
		if other.State == pass.Open && other.Same(&f.Pass) {
			issued.Shared = other.ID
		}
	}
	return nil
}

// facesOf are the interfaces at which a pass opens.
func facesOf(e *estate.Estate, f *pass.Found) []*estate.Interface {
	var all []*estate.Interface
	for _, i := range e.Instances {
		if f.On != "" && (i.ID != f.On || i.Account.Name != f.Account) {
			continue
		}
		for _, x := range i.Interfaces {
			if slices.ContainsFunc(x.Groups, func(g *estate.Group) bool { return g.Path() == f.Group }) {
				all = append(all, x)
			}
		}
	}
	return all
}

// standingAlready names the rule that lets all of a pass through without it, or is empty.
func standingAlready(d *decide.Decider, places []*estate.Interface, set traffic.Set,
	direction estate.Direction) string {
	for _, i := range places {
		if !set.SubsetOf(d.FilterTraffic(i, direction)) {
			return ""
		}
	}
	if len(places) == 0 {
		return ""
	}
	w, _ := set.Witness()
	for _, g := range slices.Concat(d.GroupsAt(places[0]), d.GroupsOfSubnet(places[0].Subnet)) {
		for _, r := range d.InOrder(g, direction) {
			if r.Action == estate.Admit && d.RuleTraffic(g, r).Contains(w.Peer, w.Service) {
				return fmt.Sprintf("%q of %s lets it through already", r.Sentence(d.Estate().Services), g.Path())
			}
		}
	}
	return "it is let through already, since nothing filters there"
}

// mostTraced bounds how many flows of a pass are decided one by one.
const mostTraced = 40

// arrivals decides flows that a pass is for: a peer of each kind, each service, each instance.
func arrivals(d *decide.Decider, places []*estate.Interface, set traffic.Set, direction estate.Direction) []Arrival {
	var all []Arrival
	for _, b := range set.Bands() {
		for _, peer := range examplePeers(b.Peers) {
			for _, i := range places {
				if len(all) == mostTraced {
					return all
				}
				q := decide.Question{Source: peer.String(), Destination: i.Instance.Path(), Service: b.From}
				if direction == estate.Out {
					q.Source, q.Destination = q.Destination, q.Source
				}
				all = append(all, arrival(d, i.Instance, q))
			}
		}
	}
	return all
}

func arrival(d *decide.Decider, i *estate.Instance, q decide.Question) Arrival {
	names := d.Estate().Services
	a := Arrival{Instance: i.Path(), Flow: fmt.Sprintf("%s → %s %s", q.Source, q.Destination,
		names.Describe(service.Between(q.Service, q.Service)))}
	answer, err := d.Trace(q)
	if err != nil {
		a.Why = err.Error()
		return a
	}
	a.Arrives = answer.Verdict == decide.Passes || answer.Verdict == decide.OneWay
	if answer.Verdict != decide.Passes {
		a.Why = words.Why(d.Estate(), answer.Why())
	}
	return a
}

// examplePeers are some addresses of a set, of both families if it has them.
func examplePeers(set addr.Set) []netip.Addr {
	var all []netip.Addr
	for _, f := range []addr.Family{addr.IPv4, addr.IPv6} {
		if a, ok := set.Only(f).First(); ok {
			all = append(all, a)
		}
	}
	return all
}
