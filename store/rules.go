package store

import (
	"fmt"
	"net/netip"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"isonomos/core/dialect"
	"isonomos/core/estate"
)

// peer reads one peer of a rule. A reference becomes a missing peer until it is resolved.
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
		return estate.Peer{}, fmt.Errorf("the peer %q is not a range, address, group:ID, list:ID, network or anything",
			text)
	}
	if masked := prefix.Masked(); masked != prefix {
		r.masked = append(r.masked, text)
		prefix = masked
	}
	return estate.Peer{Kind: estate.PeerRange, Range: prefix}, nil
}

// rules resolves the group and the references of each rule, chunk by chunk in parallel, and then
// assigns the rules to the groups in the order of the file. Consecutive rules of a group are not
// copied.
func (s *surveyReader) rules() error {
	groups := make([][]*estate.Group, len(s.chunks))
	err := s.inParallel(func(c int) (err error) {
		groups[c], err = s.complete(&s.chunks[c])
		return err
	})
	if err != nil {
		return err
	}
	for c := range s.chunks {
		from := 0
		for i, r := range s.chunks[c].runs {
			g, rules := groups[c][i], s.chunks[c].rules[from:r.to:r.to]
			if from = r.to; g.Rules == nil {
				g.Rules = rules
			} else {
				g.Rules = append(g.Rules, rules...)
			}
		}
		s.chunks[c].rules, s.chunks[c].runs, groups[c] = nil, nil, nil
	}
	return nil
}

// inParallel calls do for each chunk on all processors. Of several errors it returns the first in
// the file.
func (s *surveyReader) inParallel(do func(c int) error) error {
	errs := make([]error, len(s.chunks))
	var chunks errgroup.Group
	chunks.SetLimit(runtime.GOMAXPROCS(0))
	for c := range s.chunks {
		chunks.Go(func() error {
			errs[c] = do(c)
			return nil
		})
	}
	_ = chunks.Wait() // it would return the first error in time
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// complete resolves the groups and references of a chunk's rules.
func (s *surveyReader) complete(c *chunk) ([]*estate.Group, error) {
	found := make([]*estate.Group, len(c.runs))
	from, refs := 0, c.refs
	for i, r := range c.runs {
		first := &c.rules[from]
		g, err := must(s, asker{"rule", first.ID, first.Origin.Line}, s.groups, "group", r.account, r.group)
		if err != nil {
			return nil, err
		}
		found[i] = g
		d, _ := dialect.Lookup(g.Account.Cloud.Dialect)
		filter := filterOf(d, g)
		for k := from; k < r.to; k++ {
			x := &c.rules[k]
			if x.Action == estate.Refuse && !filter.Refuses {
				return nil, s.fail(x.Origin.Line,
					"the rule %q refuses, which groups for %s of the dialect %s can't do", x.ID, g.For, d.Name)
			}
			if filter.FirstMatch && x.Rank <= 0 {
				return nil, s.fail(x.Origin.Line, `the rule %q has no "rank", and in the dialect %s the rank decides`,
					x.ID, d.Name)
			}
			if len(refs) == 0 || refs[0] != k {
				continue
			}
			refs = refs[1:]
			if len(x.Peers) > 1 || x.Peers[0].Missing == "network" { // these peers may be shared with other rules
				x.Peers = slices.Clone(x.Peers)
			}
			for n, p := range x.Peers {
				if p.Kind == estate.PeerMissing {
					x.Peers[n] = s.referred(p, g, r.account)
				}
			}
		}
		from = r.to
	}
	return found, nil
}

// referred is the peer that a reference means, or the missing one.
func (s *surveyReader) referred(p estate.Peer, g *estate.Group, account string) estate.Peer {
	kind, id, _ := strings.Cut(p.Missing, ":")
	id, family, _ := strings.Cut(id, " ")
	four, six := family == "v4", family == "v6"
	switch kind {
	case "network":
		return estate.Peer{Kind: estate.PeerNetwork, Network: g.Network}
	case "group":
		if other, ok := s.groups.find(account, id); ok {
			if other == g {
				return estate.Peer{Kind: estate.PeerSelf, V4Only: four, V6Only: six}
			}
			return estate.Peer{Kind: estate.PeerGroup, Group: other, V4Only: four, V6Only: six}
		}
	case "list":
		if l, ok := s.lists.find(account, id); ok {
			return estate.Peer{Kind: estate.PeerList, List: l, V4Only: four, V6Only: six}
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
