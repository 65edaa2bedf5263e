package narrow

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"

	"isonomos/core/estate"
	"isonomos/core/service"
)

// A service is for the public if at least this many strangers came again, from at least this many
// networks of which no few make up most of it, and this share of what comes is from ones that came on one
// day only: a list of those who happened to come would stop those who come next.
const (
	manyStrangers = 20
	manyNetworks  = 10
	fewNetworks   = 3
	openEnded     = 0.01
)

// publicUse is the number of strangers who come again to a service, if it serves the public; else 0.
// Administration and data never count as public.
func (n *Narrower) publicUse(p *Proposal, s service.Point, uses []*use) int {
	if n.o.Closed || p.Direction != estate.In || n.admin.Contains(s) || n.data.Contains(s) {
		return 0
	}
	returning, all, once := 0, 0, 0
	networks := make(map[netip.Prefix]int)
	for _, u := range uses {
		if !n.strangers.Contains(u.peer) {
			continue
		}
		all += u.flows
		if u.days.Count() < 2 && n.days > 1 {
			once += u.flows
			continue
		}
		returning++
		networks[networkOf(u.peer)] += u.flows
	}
	for _, x := range p.Noise.List { // those who came once show that more will come
		if x.Service == s && x.Why == SeenOnce {
			all += x.Flows
			once += x.Flows
		}
	}
	largest := slices.SortedFunc(maps.Values(networks), func(a, b int) int { return cmp.Compare(b, a) })
	few := 0
	for _, flows := range largest[:min(fewNetworks, len(largest))] {
		few += flows
	}
	if returning < manyStrangers || len(networks) < manyNetworks || 2*few > all ||
		float64(once) < openEnded*float64(all) {
		return 0
	}
	return returning
}

// networkOf is the range that one party usually has around an address.
func networkOf(a netip.Addr) netip.Prefix {
	bits := 24
	if a.Is6() {
		bits = 48
	}
	p, _ := a.Prefix(bits)
	return p
}
