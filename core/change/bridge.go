package change

import (
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
)

// bridgeDescription is the description of a bridge in the cloud, for whoever finds one after a run
// that was broken off.
const bridgeDescription = "until all have changed groups"

// Bridges reports whether a step adds or removes a bridge.
func (s *Step) Bridges() bool {
	return len(s.Rules) > 0 &&
		!slices.ContainsFunc(s.Rules, func(r estate.Rule) bool { return r.Description != bridgeDescription })
}

// noteChange notes that an interface changes its group: those who were known as members of the one
// group before are known as members of the other afterwards, or by an address if there was no
// group.
func (p *planner) noteChange(i *estate.Interface, wanted []*estate.Group) {
	note := func(g, other *estate.Group) {
		if peer := (estate.Peer{Kind: estate.PeerGroup, Group: other}); !slices.Contains(p.fellows[g], peer) {
			p.fellows[g] = append(p.fellows[g], peer)
		}
	}
	for _, is := range wanted {
		if slices.Contains(i.Groups, is) {
			continue
		}
		for _, was := range i.Groups {
			if !slices.Contains(wanted, was) {
				note(was, is)
				note(is, was)
			}
		}
		if len(i.Groups) == 0 {
			for _, a := range i.Private {
				p.fellows[is] = append(p.fellows[is],
					estate.Peer{Kind: estate.PeerRange, Range: netip.PrefixFrom(a, a.BitLen())})
			}
		}
	}
}

// needsBridges reports whether interfaces gain or lose a group one after the other, and bridges are
// wanted.
func (p *planner) needsBridges(x *estate.Group) bool { return p.bridges && len(p.fellows[x]) > 0 }

// bridged adds bridges to the rules of a group: behind each rule that refers to a group whose
// members change, the same rule for what its members are known as meanwhile. In clouds of one group
// for each interface, the old and the new group thus both stand for all members while some have
// changed and others have not.
func (p *planner) bridged(x *estate.Group, rules []estate.Rule) (all []estate.Rule, bridges map[string]bool) {
	if !p.needsBridges(x) {
		return rules, nil
	}
	said := make(map[string]bool)
	if !decide.Filter(x).FirstMatch {
		for i := range rules {
			said[ruleKey(x, &rules[i])] = true
		}
	}
	bridges = make(map[string]bool)
	for _, r := range rules {
		if !IsNew(r.ID) {
			r.ID = p.newID() // it may have to be removed and added again later
		}
		all = append(all, r)
		bridge := r
		bridge.ID, bridge.Peers = p.newID(), p.fellowsOf(x, r.Peers)
		bridge.Description, bridge.Changed = bridgeDescription, nil
		if len(bridge.Peers) == 0 || r.BuiltIn {
			continue
		}
		for _, part := range parted(x, bridge) {
			if !said[ruleKey(x, &part)] {
				all, bridges[part.ID] = append(all, part), true
			}
		}
	}
	return all, bridges
}

// fellowsOf are those who are also meant, during the change, by a rule that refers to these peers.
func (p *planner) fellowsOf(x *estate.Group, peers []estate.Peer) []estate.Peer {
	var all []estate.Peer
	var addresses []netip.Prefix
	for _, peer := range peers {
		named := peer.Group
		switch peer.Kind {
		case estate.PeerSelf:
			named = x
		case estate.PeerGroup:
		default:
			continue
		}
		for _, f := range p.fellows[named] {
			is4 := f.Range.Addr().Is4()
			switch {
			case f.Kind == estate.PeerGroup:
				f.V4Only, f.V6Only = peer.V4Only, peer.V6Only
				all = append(all, f)
			case is4 && !peer.V6Only, !is4 && !peer.V4Only:
				addresses = append(addresses, f.Range)
			}
		}
	}
	for _, p := range addr.OfPrefixes(addresses...).Prefixes() {
		all = append(all, estate.Peer{Kind: estate.PeerRange, Range: p})
	}
	return all
}
