package store

import (
	"fmt"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"sync"

	"isonomos/core/dialect"
	"isonomos/core/estate"
)

// peer reads one peer of a rule. What refers to groups, lists or the network of
// the group stands for a missing peer until it is found.
func (r *rawPeers) peer(text string) (estate.Peer, error) {
	kind, _, _ := strings.Cut(text, ":")
	switch {
	case text == "anything":
		return estate.Peer{Kind: estate.PeerEveryone}, nil
	case text == "internet":
		return estate.Peer{Kind: estate.PeerPublic}, nil
	case text == "probes":
		return estate.Peer{Kind: estate.PeerProbes}, nil
	case text == "network", kind == "group", kind == "list":
		r.refs = true
		return estate.Peer{Kind: estate.PeerMissing, Missing: text}, nil
	}
	prefix, err := ParseRange(text)
	if err != nil {
		return estate.Peer{}, fmt.Errorf("the peer %q is no range, address, group:ID, list:ID, network or anything", text)
	}
	if masked := prefix.Masked(); masked != prefix {
		r.masked = append(r.masked, text)
		prefix = masked
	}
	return estate.Peer{Kind: estate.PeerRange, Range: prefix}, nil
}

// rules finds the group of each rule and what the rule refers to: chunk by chunk,
// in parallel, then puts the rules into their groups in the order of the file.
func (s *surveyReader) rules() error {
	groups := make([][]*estate.Group, len(s.chunks))
	errs := make([]error, len(s.chunks))
	var wait sync.WaitGroup
	slots := make(chan struct{}, runtime.GOMAXPROCS(0))
	for c := range s.chunks {
		slots <- struct{}{}
		wait.Go(func() {
			groups[c], errs[c] = s.findGroups(s.chunks[c].rules)
			<-slots
		})
	}
	wait.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	count := make(map[*estate.Group]int, len(s.estate.Groups))
	all := 0
	for _, found := range groups {
		all += len(found)
		for i := 0; i < len(found); { // rules of one group stand together
			k := i
			for k < len(found) && found[k] == found[i] {
				k++
			}
			count[found[i]] += k - i
			i = k
		}
	}
	room := make([]estate.Rule, all)
	for _, g := range s.estate.Groups {
		if n := count[g]; n > 0 {
			g.Rules, room = room[:0:n], room[n:]
		}
	}
	for c := range s.chunks {
		rules := s.chunks[c].rules
		for i := range rules {
			for _, text := range rules[i].peers.masked {
				masked, _ := ParseRange(text) // it was read before
				s.warn(rules[i].line, "the range %s has host bits: read as %s", text, masked.Masked())
			}
			g := groups[c][i]
			g.Rules = append(g.Rules, rules[i].rule)
		}
		s.chunks[c], groups[c] = chunk{}, nil
	}
	return nil
}

// findGroups finds the groups of rules, and completes the rules.
func (s *surveyReader) findGroups(rules []ruleLine) ([]*estate.Group, error) {
	found := make([]*estate.Group, len(rules))
	for i := range rules {
		x := &rules[i]
		if i > 0 && x.group == rules[i-1].group && x.account == rules[i-1].account {
			found[i] = found[i-1]
		} else {
			g, err := must(s, &pending{record{Kind: "rule", ID: x.rule.ID}, x.line}, s.groups, "group", x.account, x.group)
			if err != nil {
				return nil, err
			}
			found[i] = g
		}
		if err := s.complete(x, found[i]); err != nil {
			return nil, err
		}
	}
	return found, nil
}

// complete gives a rule its peers and place.
func (s *surveyReader) complete(x *ruleLine, g *estate.Group) error {
	d, _ := dialect.Lookup(g.Account.Cloud.Dialect)
	if x.rule.Action == estate.Refuse && !filterOf(d, g).Refuses {
		return s.fail(x.line, "the rule %q refuses, which groups for %s of the dialect %s can't do", x.rule.ID, g.For, d.Name)
	} else if filterOf(d, g).FirstMatch && x.rule.Rank <= 0 {
		return s.fail(x.line, `the rule %q has no "rank", and in the dialect %s the rank decides`, x.rule.ID, d.Name)
	}
	x.rule.Origin = estate.Origin{File: s.file, Line: x.line}
	x.rule.Peers = x.peers.peers
	if !x.peers.refs {
		return nil
	}
	x.rule.Peers = slices.Clone(x.peers.peers)
	for i, p := range x.rule.Peers {
		if p.Kind == estate.PeerMissing {
			x.rule.Peers[i] = s.referred(p, g, x.account)
		}
	}
	return nil
}

// referred is the peer that a reference stands for, or the missing one.
func (s *surveyReader) referred(p estate.Peer, g *estate.Group, account string) estate.Peer {
	kind, id, _ := strings.Cut(p.Missing, ":")
	switch kind {
	case "network":
		return estate.Peer{Kind: estate.PeerNetwork, Network: g.Network}
	case "group":
		if other, ok := s.groups.find(account, id); ok {
			if other == g {
				return estate.Peer{Kind: estate.PeerSelf}
			}
			return estate.Peer{Kind: estate.PeerGroup, Group: other}
		}
	case "list":
		if l, ok := s.lists.find(account, id); ok {
			return estate.Peer{Kind: estate.PeerList, List: l}
		}
	}
	return p
}

// filterOf is how the rules of a group decide.
func filterOf(d dialect.Dialect, g *estate.Group) dialect.Filter {
	if g.For == estate.ForSubnets {
		return d.Subnets
	}
	return d.Instances
}

// ParseRange reads a CIDR range or a single address, host bits and all.
func ParseRange(text string) (netip.Prefix, error) {
	if strings.Contains(text, "/") {
		if p, err := netip.ParsePrefix(text); err == nil && !p.Addr().Is4In6() {
			return p, nil
		}
	} else if a, err := netip.ParseAddr(text); err == nil && a.Zone() == "" && !a.Is4In6() {
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	return netip.Prefix{}, fmt.Errorf("%q is not a range or address: write 10.20.0.0/16 or 2001:db8::7", text)
}
