package decide

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Peers are who an exposure is about: addresses outside the estate, and ends within it.
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

// Exposed is what peers can really reach at an interface, or it at them: after
// routes, filters of both ends and listeners.
type Exposed struct {
	Interface *estate.Interface
	Traffic   traffic.Set // that passes, answers and all
	OneWay    traffic.Set // that arrives although an answer to it is stopped
	Undecided string      // why it can't be decided here; Traffic and OneWay are empty then
	Rules     []Deciding
}

// Deciding is a rule of a group that lets some of the traffic through.
type Deciding struct {
	Group *estate.Group
	Rule  *estate.Rule
}

// Exposure is what peers can reach at each interface of the estate (In), or each
// interface at them (Out); interfaces where nothing arrives are left out, those where
// that can't be decided are not. Outside peers are decided once for all interfaces
// that have the same subnet, groups, filtering, public families and listeners; pairs of
// interfaces by such classes too.
func (d *Decider) Exposure(peers Peers, direction estate.Direction) []Exposed {
	type both struct{ passes, oneWay traffic.Set }
	outside := make(map[string]both)
	pairs := make(map[string]Outcome)
	classes := make([]string, len(peers.Ends))
	for k, e := range peers.Ends {
		classes[k] = fmt.Sprintf("%s %v", d.class(e.Interface), KindOf(e))
	}
	var found []Exposed
	for _, instance := range d.estate.Instances {
		for _, i := range instance.Interfaces {
			if reason := d.CantDecide(i); reason != "" {
				if d.mayMeet(i, peers, direction) {
					found = append(found, Exposed{Interface: i, Undecided: reason})
				}
				continue
			}
			key := ClassOf(i)
			set, ok := outside[key]
			if !ok {
				set.passes, set.oneWay = d.WithOutside(i, peers.Outside, direction)
				outside[key] = set
			}
			class := ""
			if len(peers.Ends) > 0 {
				class = d.class(i)
			}
			for k, e := range peers.Ends {
				if e.Interface.Instance == i.Instance {
					continue
				}
				passes, oneWay := d.withEnd(i, e, direction, class+" "+classes[k], pairs)
				set.passes, set.oneWay = set.passes.Union(passes), set.oneWay.Union(oneWay)
			}
			if all := set.passes.Union(set.oneWay); !all.IsEmpty() {
				found = append(found, Exposed{Interface: i, Traffic: set.passes, OneWay: set.oneWay.Minus(set.passes), Rules: d.deciding(i, all, direction)})
			}
		}
	}
	slices.SortStableFunc(found, func(a, b Exposed) int {
		return cmp.Or(strings.Compare(a.Interface.Instance.Account.Name, b.Interface.Instance.Account.Name), strings.Compare(a.Interface.Instance.Name, b.Interface.Instance.Name))
	})
	return found
}

// mayMeet reports whether something may pass between peers and an interface at which
// one of the layers can't be decided: ways and the other layers leave something.
func (d *Decider) mayMeet(i *estate.Interface, peers Peers, direction estate.Direction) bool {
	ways := d.OutsideWays(i)
	if direction == estate.Out {
		ways = d.WaysOut(i).Minus(d.OwnAddresses())
	}
	left := traffic.Of(ways.Intersect(peers.Outside), service.All)
	if direction == estate.In && i.Instance.Kind == estate.Balancer {
		left = left.OnServices(Listened(i.Instance))
	}
	for _, l := range d.layers(i, false) {
		if l.unknown == "" {
			left = left.Intersect(d.layerAllowed(l, i, direction).all)
		}
	}
	if !left.IsEmpty() {
		return true
	}
	for _, e := range peers.Ends {
		for _, here := range EndsOf(i) {
			from, to := e, here
			if direction == estate.Out {
				from, to = to, from
			}
			if e.Interface.Instance != i.Instance && here.Addr.Is4() == e.Addr.Is4() && !d.Becomes(from, to).With(Undecided).IsEmpty() {
				return true
			}
		}
	}
	return false
}

// KindOf names what counts of an end's address, beside its interface, where no filter speaks of it alone.
func KindOf(e End) string {
	public := addr.Public.Contains(e.Addr)
	if public && OnLine(e.Interface.Subnet) {
		return e.Addr.String()
	}
	return fmt.Sprintf("%v%v%v", e.Addr.Is4(), public, e.public())
}

// class is ClassOf, with the interface itself where rules that name single addresses
// tell members of a class apart.
func (d *Decider) class(i *estate.Interface) string {
	if d.byMember(i) || d.Probed(i) {
		return fmt.Sprintf("%p", i)
	}
	return ClassOf(i)
}

// PairClass names what a pair of interfaces has in common with pairs that decide alike
// at addresses of the same kinds: the pair itself where a filter speaks of members.
func (d *Decider) PairClass(a, b *estate.Interface) string {
	if d.byMember(a) || d.byMember(b) {
		return fmt.Sprintf("%p %p", a, b)
	}
	return d.classKnown(a) + " " + d.classKnown(b)
}

// classKnown is ClassOf, worked out once.
func (d *Decider) classKnown(i *estate.Interface) string {
	class, known := d.classes[i]
	if !known {
		class = ClassOf(i)
		d.classes[i] = class
	}
	return class
}

// ClassOf names what an interface has in common with those that decide alike.
func ClassOf(i *estate.Interface) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%p %v%v", i.Subnet, i.Unfiltered, i.Instance.Imagined)
	for _, g := range i.Groups {
		fmt.Fprintf(&b, " %p", g)
	}
	for k, addrs := range [][]netip.Addr{i.Private, i.Public} {
		for _, a := range addrs {
			public := addr.Public.Contains(a)
			fmt.Fprintf(&b, " %d%v%v", k, a.Is4(), public)
			if !inRanges(i.Subnet.Ranges, a) && k == 0 || public && OnLine(i.Subnet) {
				fmt.Fprintf(&b, " %s", a) // rules about ranges, or the routes of lines, may tell it apart
			}
		}
	}
	if i.Instance.Kind == estate.Balancer || len(i.Instance.Listeners) > 0 {
		fmt.Fprintf(&b, " %p", i)
	}
	return b.String()
}

// WithOutside is the traffic between an interface and addresses outside the estate
// in a direction: what passes, and what arrives although an answer to it is stopped.
func (d *Decider) WithOutside(i *estate.Interface, outside addr.Set, direction estate.Direction) (passes, oneWay traffic.Set) {
	if direction == estate.In {
		passes, oneWay = d.fromOutside(i)
	} else {
		passing, admits := d.filter(i, estate.Out)
		ways := d.WaysOut(i).Minus(d.OwnAddresses())
		passes, oneWay = passing.WithPeers(ways), admits.Minus(passing).WithPeers(ways)
	}
	return passes.WithPeers(outside), oneWay.WithPeers(outside)
}

// withEnd is what passes, or arrives one way, between an interface by any of its
// addresses and another end, as traffic with that end's address.
func (d *Decider) withEnd(i *estate.Interface, e End, direction estate.Direction, class string, known map[string]Outcome) (passes, oneWay traffic.Set) {
	var passing, lost service.Set
	for _, here := range EndsOf(i) {
		if here.Addr.Is4() != e.Addr.Is4() {
			continue
		}
		key := class + " " + KindOf(here)
		o, decided := known[key]
		if !decided || d.byMember(e.Interface) || d.byMember(i) {
			from, to := e, here
			if direction == estate.Out {
				from, to = to, from
			}
			o = d.Becomes(from, to)
			known[key] = o
		}
		passing, lost = passing.Union(o.With(Passes)), lost.Union(o.With(OneWay))
	}
	return traffic.Of(addr.Of(e.Addr), passing), traffic.Of(addr.Of(e.Addr), lost.Minus(passing))
}

// OnLine reports whether a subnet has a route over a private line.
func OnLine(s *estate.Subnet) bool {
	return slices.ContainsFunc(s.Routes, func(r estate.Route) bool { return r.Via == estate.ViaPrivateLine })
}

// Probers are the interfaces of the balancers that have an instance as a target.
func (d *Decider) Probers(i *estate.Instance) []*estate.Interface { return d.probers[i] }

// Probed reports whether an interface is a target of balancers, so that their probes may be let in there alone.
func (d *Decider) Probed(i *estate.Interface) bool { return len(d.probers[i.Instance]) > 0 }

// byMember reports whether the filters at an interface speak of single addresses
// or parts of subnets, so that interfaces of one class may be told apart by others.
func (d *Decider) byMember(i *estate.Interface) bool {
	return slices.ContainsFunc(slices.Concat(d.Worn(i), d.WornBySubnet(i.Subnet)), d.namesMembers)
}

// namesMembers reports whether rules of a group speak of single addresses or parts of subnets.
func (d *Decider) namesMembers(g *estate.Group) bool {
	names, known := d.naming[g]
	if !known {
		names = slices.ContainsFunc(g.Rules, func(r estate.Rule) bool {
			return slices.ContainsFunc(slices.Concat(r.Peers, r.Except), func(p estate.Peer) bool {
				return p.Kind == estate.PeerRange && p.Range.Bits() > 0 || p.Kind == estate.PeerList || p.Kind == estate.PeerProbes
			})
		}) || g.Follows && slices.ContainsFunc(d.followed(g), d.namesMembers)
		d.naming[g] = names
	}
	return names
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
				for _, r := range d.ordered(g, direction) {
					x := Deciding{g, r}
					if r.Action == estate.Admit && !d.RuleTraffic(g, r).Intersect(set).IsEmpty() && !slices.Contains(rules, x) {
						rules = append(rules, x)
					}
				}
			}
		}
	}
	return rules
}
