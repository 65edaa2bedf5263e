package change

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"isonomos/core/decide"
	"isonomos/core/estate"
)

// Comparing two sets of definitions without a survey. It is unknown who the members of a group are,
// and what a published list holds, so made-up addresses stand for them: the same on both sides for
// the same group or list. They are never shown.

// A StandIn is a made-up range, and the name of what it stands for.
type StandIn struct {
	Range netip.Prefix
	Name  string
}

// CompareDefinitions compares two sets of definitions without a survey. The notes say what can't be
// known without one. The estates are changed.
func CompareDefinitions(before, after *estate.Estate) (Difference, []string) {
	names := StandIns(before, after)
	d := Compare(decide.New(before), decide.New(after))
	d.StandIns = names
	d.Covers = covers(before, after)
	notes := []string{"without a survey: ways are not compared, nor which instances a group is attached to; " +
		"made-up members stand for those of groups"}
	if slices.ContainsFunc(names, func(x StandIn) bool { return x.Range.Addr().Is6() && standsForList(x) }) {
		notes = append(notes, "what a published list holds only a survey tells: it is taken to be the same on "+
			"both sides")
	}
	return d, notes
}

func standsForList(x StandIn) bool { return len(x.Name) > 5 && x.Name[:5] == "list " }

// covers finds the groups that cover something else.
func covers(before, after *estate.Estate) []CoverChange {
	var found []CoverChange
	for x, y := range paired(before.Groups, after.Groups, groupByPlace) {
		was, is := coverTexts(x), coverTexts(y)
		if !slices.Equal(was, is) {
			found = append(found, CoverChange{y, was, is})
		}
	}
	slices.SortFunc(found, func(a, b CoverChange) int { return cmp.Compare(a.Group.Path(), b.Group.Path()) })
	return found
}

func coverTexts(g *estate.Group) []string {
	var list []string
	for _, c := range g.Covers {
		if c.Where != nil {
			list = append(list, "where "+c.Where.String())
		}
		for _, name := range c.Instances {
			list = append(list, "instance "+name)
		}
		for _, name := range c.Subnets {
			list = append(list, "subnet "+name)
		}
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// StandIns gives each instance group of two sets of definitions a made-up member, the same in both,
// and each published list that they refer to a made-up range. The estates are changed.
func StandIns(a, b *estate.Estate) []StandIn {
	taken := make(map[netip.Addr]string)
	at := make(map[string]netip.Addr)
	var names []StandIn
	for _, e := range []*estate.Estate{a, b} {
		for _, g := range e.Groups {
			if g.For != estate.ForInstances || g.Network == nil {
				continue
			}
			own, ok := at[g.Path()]
			if !ok {
				own = standIn(g.Network, taken)
				at[g.Path()] = own
				taken[own] = g.Path()
				names = append(names, StandIn{netip.PrefixFrom(own, own.BitLen()), "a member of " + g.Path()})
			}
			i := &estate.Instance{Account: g.Account, Name: "a member of " + g.Name, Kind: estate.Machine,
				Imagined: true}
			subnet := &estate.Subnet{Network: g.Network, Name: g.Network.Name}
			i.Interfaces = []*estate.Interface{{Instance: i, Subnet: subnet, Private: []netip.Addr{own},
				Groups: []*estate.Group{g}}}
			e.Instances = append(e.Instances, i)
		}
	}
	return append(names, standInLists(a, b)...)
}

// standInLists fills published lists with a made-up range of each family, from blocks that nobody
// uses (240.0.0.0/4 of RFC 1112, 100::/64 of RFC 6666).
func standInLists(a, b *estate.Estate) []StandIn {
	known := make(map[string][2]netip.Prefix)
	var names []StandIn
	for _, e := range []*estate.Estate{a, b} {
		made := make(map[string]bool)
		for _, l := range slices.Clone(e.Lists) {
			for _, p := range slices.Concat(l.Published, partsOf(l)) {
				ranges, ok := known[p.Name]
				if !ok {
					n := byte(len(known) + 1)
					ranges = [2]netip.Prefix{netip.PrefixFrom(netip.AddrFrom4([4]byte{250, n, 0, 0}), 24),
						netip.PrefixFrom(netip.AddrFrom16([16]byte{1, 0, 0, 0, 0, 0, 0, 0, 255, n}), 120)}
					known[p.Name] = ranges
					names = append(names, StandIn{ranges[0], "list " + l.Name}, StandIn{ranges[1], "list " + l.Name})
				}
				for _, account := range e.Accounts {
					if key := fmt.Sprint(p.Name, " ", account.Name); !made[key] &&
						(p.Cloud == nil || p.Cloud.Name == account.Cloud.Name) {
						made[key] = true
						e.Lists = append(e.Lists,
							&estate.List{Account: account, Name: p.Name, Owner: "published", Region: account.Region,
								Entries: []estate.Entry{{Range: ranges[0]}, {Range: ranges[1]}}})
					}
				}
			}
		}
	}
	return names
}

func partsOf(l *estate.List) []estate.Published {
	var all []estate.Published
	for _, p := range l.Parts {
		all = append(all, p.Published...)
	}
	return all
}

// standIn is an address within a network that no instance has. For a network without ranges it is
// one of the discard prefix (RFC 6666).
func standIn(n *estate.Network, taken map[netip.Addr]string) netip.Addr {
	a := netip.MustParseAddr("100::1")
	if len(n.Ranges) > 0 {
		a = n.Ranges[0].Addr().Next()
	}
	for taken[a] != "" {
		a = a.Next()
	}
	return a
}
