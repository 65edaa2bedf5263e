package estate

import "slices"

// Part is what definitions say of some accounts: their networks and groups, and those groups and networks of other
// accounts to which these refer. Clouds, lists and services are all there. References to what is left out stay: Overlay
// takes them as missing. The parts of the result are those of the argument.
func (e *Estate) Part(accounts func(name string) bool) *Estate {
	part := *e
	part.Accounts, part.Networks, part.Groups, part.Instances = nil, nil, nil, nil
	groups, networks := make(map[*Group]bool), make(map[*Network]bool)
	for _, g := range e.Groups {
		if !accounts(g.Account.Name) {
			continue
		}
		groups[g] = true
		for _, p := range g.Refers() {
			switch p.Kind {
			case PeerGroup:
				groups[p.Group] = true
			case PeerNetwork:
				networks[p.Network] = p.Network != nil
			case PeerSubnet:
				networks[p.Subnet.Network] = true
			}
		}
	}
	within := make(map[*Account]bool)
	for _, g := range e.Groups {
		if groups[g] {
			part.Groups = append(part.Groups, g)
			within[g.Account] = true
			networks[g.Network] = g.Network != nil
		}
	}
	for _, n := range e.Networks {
		if networks[n] || accounts(n.Account.Name) {
			part.Networks = append(part.Networks, n)
			within[n.Account] = true
		}
	}
	for _, a := range e.Accounts {
		if within[a] || accounts(a.Name) {
			part.Accounts = append(part.Accounts, a)
		}
	}
	for _, i := range e.Instances {
		if accounts(i.Account.Name) {
			part.Instances = append(part.Instances, i)
		}
	}
	return &part
}

// Refers are the groups, networks and subnets that rules and lends of a group refer to.
func (g *Group) Refers() []Peer {
	var all []Peer
	note := func(r *Rule) {
		for _, p := range slices.Concat(r.Peers, r.Except) {
			if p.Kind == PeerGroup && p.Group != nil || p.Kind == PeerNetwork && p.Network != nil ||
				p.Kind == PeerSubnet {
				all = append(all, p)
			}
		}
	}
	for i := range g.Rules {
		note(&g.Rules[i])
	}
	for i := range g.Lends {
		note(&g.Lends[i].Rule)
	}
	return all
}

// Home is the account of the group, network or subnet that a peer is; nil if it is none of these.
func (p Peer) Home() *Account {
	switch {
	case p.Kind == PeerGroup && p.Group != nil:
		return p.Group.Account
	case p.Kind == PeerNetwork && p.Network != nil:
		return p.Network.Account
	case p.Kind == PeerSubnet && p.Subnet != nil:
		return p.Subnet.Network.Account
	}
	return nil
}
