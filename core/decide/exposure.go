package decide

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Peers are who an exposure is about: addresses outside the estate, and
// interfaces within it.
type Peers struct {
	Outside    addr.Set
	Interfaces []*estate.Interface
}

// StrangersOutside are all strangers.
func (d *Decider) StrangersOutside() Peers { return Peers{Outside: d.Strangers()} }

// Exposed is what peers can really reach at an interface, or it at them: after
// routes, filters of both ends and listeners, answers and all.
type Exposed struct {
	Interface *estate.Interface
	Traffic   traffic.Set
	Rules     []Deciding
}

// Deciding is a rule of a group that lets some of the traffic through.
type Deciding struct {
	Group *estate.Group
	Rule  *estate.Rule
}

// Exposure is what peers can reach at each interface of the estate (In), or each
// interface at them (Out); interfaces where nothing passes are left out. Outside
// peers are decided once for all interfaces that have the same subnet, groups,
// filtering, public families and listeners; pairs of interfaces by such classes too.
func (d *Decider) Exposure(peers Peers, direction estate.Direction) []Exposed {
	outside := make(map[string]traffic.Set)
	pairs := make(map[string]service.Set)
	var found []Exposed
	for _, instance := range d.estate.Instances {
		for _, i := range instance.Interfaces {
			if d.CantDecide(i) != "" {
				continue
			}
			class := ClassOf(i)
			set, ok := outside[class]
			if !ok {
				set = d.WithOutside(i, peers.Outside, direction)
				outside[class] = set
			}
			for _, other := range peers.Interfaces {
				if other.Instance != i.Instance {
					set = set.Union(d.withInterface(i, other, direction, class+" "+ClassOf(other), pairs))
				}
			}
			if !set.IsEmpty() {
				found = append(found, Exposed{i, set, d.deciding(i, set, direction)})
			}
		}
	}
	slices.SortStableFunc(found, func(a, b Exposed) int {
		return cmp.Or(strings.Compare(a.Interface.Instance.Account.Name, b.Interface.Instance.Account.Name), strings.Compare(a.Interface.Instance.Name, b.Interface.Instance.Name))
	})
	return found
}

// ClassOf names what an interface has in common with those that decide alike.
func ClassOf(i *estate.Interface) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%p %v", i.Subnet, i.Unfiltered)
	for _, g := range i.Groups {
		fmt.Fprintf(&b, " %p", g)
	}
	for _, a := range slices.Concat(i.Private, i.Public) {
		fmt.Fprintf(&b, " %v%v", a.Is4(), addr.Public.Contains(a))
	}
	if i.Instance.Kind == estate.Balancer || len(i.Instance.Listeners) > 0 {
		fmt.Fprintf(&b, " %p", i.Instance)
	}
	return b.String()
}

// WithOutside is the traffic between an interface and addresses outside the
// estate that passes in a direction: there is a way, and the filters let it through.
func (d *Decider) WithOutside(i *estate.Interface, outside addr.Set, direction estate.Direction) traffic.Set {
	if direction == estate.In {
		return d.Arriving(i).WithPeers(outside)
	}
	return d.Leaving(i).WithPeers(outside)
}

// Leaving is the traffic from an interface that reaches somebody outside the
// estate: the filters admit it, answers and all, and there is a way.
func (d *Decider) Leaving(i *estate.Interface) traffic.Set {
	return d.FilterTraffic(i, estate.Out).WithPeers(d.waysOut(i))
}

// waysOut are the addresses outside the estate to which there is a way from an interface.
func (d *Decider) waysOut(i *estate.Interface) addr.Set {
	var ways addr.Set
	for _, part := range d.byRoute(i.Subnet, d.OwnAddresses().Complement()) {
		for _, family := range []addr.Family{addr.IPv4, addr.IPv6} {
			own, ok := i.Address(family == addr.IPv6)
			there := part.Only(family)
			if !ok || there.IsEmpty() {
				continue
			}
			if d.way(End{i, own}, End{Addr: traffic.Example(there)}).verdict == Passes {
				ways = ways.Union(there)
			}
		}
	}
	return ways
}

// withInterface is what passes between two interfaces, as traffic with the other's private addresses.
func (d *Decider) withInterface(i, other *estate.Interface, direction estate.Direction, class string, known map[string]service.Set) traffic.Set {
	var sets []traffic.Set
	for _, six := range []bool{false, true} {
		here, ok := i.Address(six)
		there, also := other.Address(six)
		if !ok || !also {
			continue
		}
		key := fmt.Sprintf("%v %s", six, class)
		passing, decided := known[key]
		if !decided {
			from, to := End{other, there}, End{i, here}
			if direction == estate.Out {
				from, to = to, from
			}
			passing = d.Between(from, to)
			if !d.byMember(i) && !d.byMember(other) { // rules that name single addresses tell members of a class apart
				known[key] = passing
			}
		}
		sets = append(sets, traffic.Of(addr.Of(there), passing))
	}
	return traffic.UnionAll(sets)
}

// byMember reports whether the filters at an interface speak of single addresses
// or parts of subnets, so that interfaces of one class may be told apart by others.
func (d *Decider) byMember(i *estate.Interface) bool {
	return slices.ContainsFunc(slices.Concat(d.Worn(i), d.WornBySubnet(i.Subnet)), func(g *estate.Group) bool {
		return slices.ContainsFunc(g.Rules, func(r estate.Rule) bool {
			return slices.ContainsFunc(slices.Concat(r.Peers, r.Except), func(p estate.Peer) bool {
				return p.Kind == estate.PeerRange && p.Range.Bits() > 0 || p.Kind == estate.PeerList || p.Kind == estate.PeerProbes
			})
		})
	})
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
