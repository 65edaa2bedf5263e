// Package compile turns definitions into rules of each dialect: for now it
// counts what they will cost.
package compile

import (
	"isonomos/core/addr"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
)

// Cost is how many rules of its cloud a rule takes: one for each run of ports
// with each peer. Every address of both families is two peers; a list counts as
// its capacity where the dialect says so; who is excepted leaves ranges behind.
func Cost(d dialect.Dialect, g *estate.Group, r *estate.Rule) int {
	return len(service.Of(r.Services...).Specs()) * peerCost(d, g, r)
}

func peerCost(d dialect.Dialect, g *estate.Group, r *estate.Rule) int {
	cost := 0
	for _, p := range r.Peers {
		switch p.Kind {
		case estate.PeerEveryone:
			cost += len(addr.FamilyOf(p.Family()).Prefixes())
		case estate.PeerList:
			if d.ListsCostCapacity {
				cost += p.List.Cost()
			} else {
				cost++
			}
		case estate.PeerNetwork:
			n := p.Network
			if n == nil {
				n = g.Network
			}
			cost += max(1, len(n.Ranges))
		case estate.PeerSubnet:
			cost += max(1, len(p.Subnet.Ranges))
		default:
			cost++
		}
	}
	return cost
}

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

// Quota is how many rules a group may have in a direction; 0 means any number.
func Quota(d dialect.Dialect, a *estate.Account) int {
	if n, ok := a.Limits[dialect.LimitRulesPerDirection]; ok {
		return n
	}
	return d.RulesPerDirection
}
