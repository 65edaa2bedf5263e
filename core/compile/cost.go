// Package compile turns definitions into the rules of each cloud, proves that they mean the same,
// and counts what they cost of its quotas.
package compile

import (
	"cmp"
	"net/netip"

	"isonomos/core/addr"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
)

// Cost is how many rules of its cloud a rule takes: a defined rule as it will be written, a
// surveyed one as it is. In most dialects a rule has one range of ports and one peer; where rules
// take several of one kind, these count as one. Every address of both families is two ranges. A
// list costs its capacity where the dialect says so.
func Cost(d dialect.Dialect, g *estate.Group, r *estate.Rule) int {
	return servicesCost(d, g, r) * max(1, peersCost(d, g, r))
}

func servicesCost(d dialect.Dialect, g *estate.Group, r *estate.Rule) int {
	if !g.Defined {
		if d.ManyPorts {
			return 1
		}
		return max(1, len(r.Services))
	}
	specs := service.Of(r.Services...).Specs()
	if !d.ManyPorts {
		return len(specs)
	}
	protocols := make(map[uint8]bool)
	for _, s := range specs {
		protocols[s.Protocol] = true
	}
	return len(protocols)
}

// peersCost counts the peers of a rule as its dialect writes them.
func peersCost(d dialect.Dialect, g *estate.Group, r *estate.Rule) int {
	ranges, named, lists := 0, 0, 0
	for _, p := range r.Peers {
		rules := 1 // those that refer to a group or list
		if d.OneFamily && g.Defined && p.Family() == addr.Both {
			rules = 2
		}
		switch p.Kind {
		case estate.PeerEveryone:
			if ranges++; g.Defined && p.Family() == addr.Both {
				ranges++
			}
		case estate.PeerNetwork:
			if n := cmp.Or(p.Network, g.Network); n != nil && g.Defined {
				ranges += max(1, ofFamily(p, n.Ranges))
			} else {
				ranges++
			}
		case estate.PeerSubnet:
			ranges += max(1, ofFamily(p, p.Subnet.Ranges))
		case estate.PeerRange:
			ranges++
		case estate.PeerList:
			entries, published := p.List.At(g)
			switch {
			case len(published) > 0:
				lists += len(published)
				ranges += len(entries)
			case p.Family() != addr.Both && !d.OneFamily && g.Defined: // spelled out
				ranges += listed(p, entries)
			case d.OwnLists == dialect.ListsAsCapacity:
				lists += max(p.List.Capacity, len(entries))
			case d.OwnLists == dialect.ListsAsOne:
				lists += rules
			default:
				ranges += listed(p, entries)
			}
		default:
			named += rules
		}
	}
	if d.ManyPeers && !g.Defined {
		return 1
	}
	if d.ManyPeers { // ranges share one rule, and so do tags
		return min(1, ranges) + min(1, named) + lists
	}
	return ranges + named + lists
}

// ofFamily counts the ranges of the family that a peer is limited to.
func ofFamily(p estate.Peer, ranges []netip.Prefix) int {
	return len(addr.OfPrefixes(ranges...).Only(p.Family()).Prefixes())
}

func listed(p estate.Peer, entries []estate.Entry) int {
	ranges := make([]netip.Prefix, len(entries))
	for i, e := range entries {
		ranges[i] = e.Range
	}
	return ofFamily(p, ranges)
}

// A Costs holds what groups cost in rules of their clouds, by the groups' full names.
type Costs map[string]struct{ In, Out int }

// GroupCost is how many rules of its cloud a group takes in a direction.
func GroupCost(d dialect.Dialect, g *estate.Group, direction estate.Direction) int {
	cost := 0
	for i := range g.Rules {
		if g.Rules[i].Direction == direction {
			cost += Cost(d, g, &g.Rules[i])
		}
	}
	return cost
}

// A Quota is how many rules a group may have, for each direction or for both together; 0 means no
// limit.
type Quota struct{ Direction, Together int }

// QuotaOf is the quota of a group: its account's limits, else its dialect's.
func QuotaOf(d dialect.Dialect, g *estate.Group) Quota {
	limit := func(name string, usual int) int {
		if n, ok := g.Account.Limits[name]; ok {
			return n
		}
		return usual
	}
	if g.For == estate.ForSubnets && d.SubnetRules > 0 {
		return Quota{Direction: limit(dialect.LimitSubnetRules, d.SubnetRules)}
	}
	return Quota{limit(dialect.LimitRulesPerDirection, d.RulesPerDirection),
		limit(dialect.LimitRulesPerGroup, d.RulesPerGroup)}
}

// Over reports whether a group takes more rules than its quota allows.
func (q Quota) Over(in, out int) bool {
	return q.Direction > 0 && max(in, out) > q.Direction || q.Together > 0 && in+out > q.Together
}
