package estate

import "slices"

// Part is what definitions say of some accounts: their networks and groups, and those groups of other accounts to
// which these refer. Clouds, lists and services are all there. References to what is left out stay: Overlay takes them
// as missing. The parts of the result are those of the argument.
func (e *Estate) Part(accounts func(name string) bool) *Estate {
	part := *e
	part.Accounts, part.Networks, part.Groups, part.Instances = nil, nil, nil, nil
	named := make(map[*Group]bool)
	for _, g := range e.Groups {
		if !accounts(g.Account.Name) {
			continue
		}
		for _, other := range g.Refers() {
			named[other] = true
		}
	}
	within := make(map[*Account]bool)
	for _, g := range e.Groups {
		if own := accounts(g.Account.Name); own || named[g] {
			part.Groups = append(part.Groups, g)
			within[g.Account] = true
		}
	}
	for _, a := range e.Accounts {
		if within[a] || accounts(a.Name) {
			part.Accounts = append(part.Accounts, a)
			within[a] = true
		}
	}
	for _, n := range e.Networks {
		if within[n.Account] {
			part.Networks = append(part.Networks, n)
		}
	}
	for _, i := range e.Instances {
		if within[i.Account] {
			part.Instances = append(part.Instances, i)
		}
	}
	return &part
}

// Refers are the groups that rules and lends of a group refer to.
func (g *Group) Refers() []*Group {
	var all []*Group
	note := func(r *Rule) {
		for _, p := range slices.Concat(r.Peers, r.Except) {
			if p.Kind == PeerGroup && p.Group != nil && !slices.Contains(all, p.Group) {
				all = append(all, p.Group)
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
