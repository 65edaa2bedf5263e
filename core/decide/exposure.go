package decide

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/traffic"
)

// Peers are those whose reach is asked for: addresses outside the estate, and ends within it.
type Peers struct {
	Outside addr.Set
	Ends    []End
}

// StrangersOutside are all strangers.
func (d *Decider) StrangersOutside() Peers { return Peers{Outside: d.Strangers()} }

// EndsOf are the ends of interfaces: one for each of their addresses.
func EndsOf(interfaces ...*estate.Interface) []End {
	var ends []End
	for _, i := range interfaces {
		for _, a := range addressesOf(i) {
			ends = append(ends, End{i, a})
		}
	}
	return ends
}

// Exposed is what peers can really reach at an interface, or it at them: after routes, the filters
// of both ends, and balancers.
type Exposed struct {
	Interface *estate.Interface
	Traffic   traffic.Set // that passes, answers and all
	OneWay    traffic.Set // arrives, but an answer to it is stopped
	Unsure    traffic.Set // that may arrive: the survey does not say enough
	Undecided string      // why nothing can be decided here; Traffic and OneWay are empty then
	Rules     []Deciding
	Handed    []Handed // what balancers hand on to it; outward, what they hand on to the peers for it
}

// Deciding is a rule that lets some of the traffic through.
type Deciding struct {
	Group *estate.Group
	Rule  *estate.Rule
}

// Exposure is what peers can reach at each interface of the estate (In), or what each interface can
// reach at them (Out), directly or through balancers. Interfaces where nothing arrives are left
// out, unless that is undecided. Outside peers are decided once for each class of interfaces, pairs
// of interfaces once for each pair of classes.
func (d *Decider) Exposure(peers Peers, direction estate.Direction) []Exposed {
	x := exposer{d: d, peers: peers, direction: direction, outside: make(map[string]Met),
		pairs: make(map[string]Outcome)}
	for _, e := range peers.Ends {
		x.classes = append(x.classes, fmt.Sprintf("%s %v", d.class(e.Interface), d.KindOf(e)))
	}
	handed := x.handed()
	var found []Exposed
	for _, instance := range d.estate.Instances {
		for _, i := range instance.Interfaces {
			m := x.reaches(i)
			if direction == estate.In && instance.Kind == estate.Balancer {
				m = m.along(d.handedOn(i, nil))
			}
			if m.IsEmpty() && len(handed[i]) == 0 {
				continue
			}
			e := Exposed{Interface: i, Handed: handed[i]}
			if reason := d.CantDecide(i); reason != "" && !m.IsEmpty() {
				e.Undecided = reason
			} else {
				e.Traffic, e.OneWay, e.Unsure = m.Passes, m.OneWay, m.Undecided
				e.Rules = d.deciding(i, m.Arrives().Union(m.Undecided), direction)
			}
			found = append(found, e)
		}
	}
	slices.SortStableFunc(found, func(a, b Exposed) int {
		return cmp.Or(strings.Compare(a.Interface.Instance.Account.Name, b.Interface.Instance.Account.Name),
			strings.Compare(a.Interface.Instance.Name, b.Interface.Instance.Name))
	})
	return found
}

// An exposer works out an exposure.
type exposer struct {
	d         *Decider
	peers     Peers
	direction estate.Direction
	outside   map[string]Met     // by class of interface
	pairs     map[string]Outcome // by class of pair
	classes   []string           // of the ends
}

// reaches is what becomes of traffic between the peers and an interface, not counting what a
// balancer there hands on.
func (x exposer) reaches(i *estate.Interface) Met {
	key := x.d.classKnown(i)
	m, ok := x.outside[key]
	if !ok {
		ways := x.d.OutsideWays(i)
		if x.direction == estate.Out {
			ways = x.d.WaysOut(i)
		}
		m = x.d.metOn(i, ways.Intersect(x.peers.Outside), x.direction)
		x.outside[key] = m
	}
	class := ""
	if len(x.peers.Ends) > 0 {
		class = x.d.class(i)
	}
	for k, e := range x.peers.Ends {
		if e.Interface.Instance != i.Instance {
			m = m.union(x.withEnd(i, e, class+" "+x.classes[k]))
		}
	}
	return m
}

// withEnd is what becomes of traffic between any address of an interface and another end, as
// traffic with that end.
func (x exposer) withEnd(i *estate.Interface, e End, class string) Met {
	var m Met
	for _, here := range EndsOf(i) {
		if here.Addr.Is4() != e.Addr.Is4() {
			continue
		}
		key := class + " " + x.d.KindOf(here)
		o, decided := x.pairs[key]
		if !decided || x.d.byMember(e.Interface) || x.d.byMember(i) {
			if x.direction == estate.In {
				o = x.d.reaching(e, here)
			} else {
				o = x.d.becomes(here, e, nil)
			}
			o = o.on(carriedBy(e.Addr))
			x.pairs[key] = o
		}
		m = m.union(metWith(e.Addr, o))
	}
	return m
}

// handed is what balancers hand on, by interface: inward, by the targets of balancers that the
// peers reach; outward, by those who reach balancers that hand on to the peers.
func (x exposer) handed() map[*estate.Interface][]Handed {
	found := make(map[*estate.Interface][]Handed)
	asked := make(map[*estate.Interface]bool)
	for _, e := range x.peers.Ends {
		asked[e.Interface] = true
	}
	for _, balancer := range x.d.estate.Instances {
		for _, b := range balancer.Interfaces {
			if balancer.Kind != estate.Balancer {
				continue
			}
			if x.direction == estate.In {
				for _, h := range x.d.handing(b, x.reaches(b), func(*estate.Interface) bool { return true }) {
					found[h.Target] = append(found[h.Target], h)
				}
				continue
			}
			if !slices.ContainsFunc(x.d.handedTargets(b, nil), func(t targetOutcome) bool { return asked[t.at] }) {
				continue
			}
			for _, instance := range x.d.estate.Instances {
				for _, i := range instance.Interfaces {
					if instance != balancer {
						found[i] = append(found[i],
							x.d.handing(b, x.d.reachedBy(i, b), func(t *estate.Interface) bool { return asked[t] })...)
					}
				}
			}
		}
	}
	return found
}

// reachedBy is what becomes of traffic between two interfaces by any of their addresses, as traffic
// with the other one's. What a balancer hands on is not counted.
func (d *Decider) reachedBy(from, to *estate.Interface) Met {
	var m Met
	for _, here := range EndsOf(from) {
		for _, there := range EndsOf(to) {
			if here.Addr.Is4() == there.Addr.Is4() {
				m = m.union(metWith(there.Addr, d.reaching(here, there).on(carriedBy(here.Addr))))
			}
		}
	}
	return m
}

// deciding are the admitting rules at an interface that let some of the traffic through.
func (d *Decider) deciding(i *estate.Interface, set traffic.Set, direction estate.Direction) []Deciding {
	var rules []Deciding
	for _, l := range d.layers(i, false) {
		for _, g := range l.groups {
			groups := []*estate.Group{g}
			if g.Follows {
				groups = append(groups, d.followed(g)...)
			}
			for _, g := range groups {
				left := set // where the first match decides, later rules get what earlier ones leave
				for _, r := range d.ordered(g, direction) {
					x, fits := Deciding{g, r}, d.RuleTraffic(g, r)
					if r.Action == estate.Admit && !fits.Intersect(left).IsEmpty() && !slices.Contains(rules, x) {
						rules = append(rules, x)
					}
					if ByRank(g) && !slices.ContainsFunc(r.Peers,
						func(p estate.Peer) bool { return p.Kind == estate.PeerProbes }) {
						left = left.Minus(fits)
					}
				}
			}
		}
	}
	return rules
}
