package narrow

import (
	"cmp"
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
)

// Kind says how a choice names peers, best first.
type Kind int

// The kinds.
const (
	ByGroup Kind = iota
	BySelf
	ByList
	BySubnet
	ByNetwork
	ByRange
	ByAddress    // somebody's single address
	ByOwnMachine // the single address of an instance of the estate: brittle
	ByOwnWords   // as the subject says it
)

// A Choice is one way of naming peers.
type Choice struct {
	Kind      Kind
	Words     string // in the language: "list pilot-stations"
	Addresses addr.Set
	Needed    addr.Set // the needed peers that it holds
}

// The weights of the choice. A cover's cost is the sum over its choices of the
// kind's weight and of what is let in and not needed: strangers weigh most; the
// members of a group and the entries of a list are there for a purpose that is
// named, so that those not seen weigh little, whatever their size.
var kindWeight = map[Kind]float64{ByGroup: 2, BySelf: 2, ByList: 3, BySubnet: 10, ByNetwork: 20, ByRange: 6, ByAddress: 5, ByOwnMachine: 8}

const (
	strangerWeight = 1.0
	knownWeight    = 0.1  // an address that is private or known, in a range
	memberWeight   = 0.05 // an address of a group's member
	entryWeight    = 0.5  // an entry of a list
)

// exactCandidates is up to how many named candidates all combinations are weighed.
const exactCandidates = 12

type candidate struct {
	Choice
	cost float64
}

// cover finds the cheapest way to name the needed peers without going beyond
// the allowed ones; exact reports whether it is the cheapest of all.
func cover(d *decide.Decider, s Subject, n Need, allowed addr.Set) (choices []Choice, exact bool) {
	w := weigher{d: d, strangers: d.Strangers(), allowed: allowed}
	named := w.candidates(s, n.Peers)
	if len(named) > exactCandidates {
		return w.greedy(named, n.Peers), false
	}
	best, bestCost := []Choice(nil), -1.0
	var try func(i int, left addr.Set, taken []candidate, cost float64)
	try = func(i int, left addr.Set, taken []candidate, cost float64) {
		if bestCost >= 0 && cost >= bestCost {
			return // nothing that is added makes it cheaper
		}
		if i == len(named) || left.IsEmpty() {
			ranges, rangeCost := w.ranges(left)
			if total := cost + rangeCost; bestCost < 0 || total < bestCost {
				best, bestCost = join(taken, ranges), total
			}
			return
		}
		if c := named[i]; c.Needed.Overlaps(left) {
			try(i+1, left.Minus(c.Addresses), append(slices.Clip(taken), c), cost+c.cost)
		}
		try(i+1, left, taken, cost)
	}
	try(0, n.Peers, nil, 0)
	return best, true
}

func join(taken, ranges []candidate) []Choice {
	var choices []Choice
	for _, c := range slices.Concat(taken, ranges) {
		choices = append(choices, c.Choice)
	}
	slices.SortStableFunc(choices, func(a, b Choice) int { return cmp.Compare(a.Kind, b.Kind) })
	return choices
}

type weigher struct {
	d         *decide.Decider
	strangers addr.Set
	allowed   addr.Set
}

// candidates are the groups, lists, subnets and networks that hold needed peers
// and nobody who is not allowed, cheapest first.
func (w weigher) candidates(s Subject, needed addr.Set) []candidate {
	var found []candidate
	add := func(kind Kind, words string, addresses addr.Set, idle float64) {
		words, addresses = w.fit(words, addresses)
		if !addresses.Overlaps(needed) || !addresses.SubsetOf(w.allowed) {
			return
		}
		c := candidate{Choice: Choice{kind, words, addresses, addresses.Intersect(needed)}, cost: kindWeight[kind]}
		excess := addresses.Minus(needed)
		if kind == BySubnet || kind == ByNetwork {
			c.cost += w.excess(excess)
		} else {
			c.cost += idle + strangerWeight*size(excess.Intersect(w.strangers))
		}
		found = append(found, c)
	}
	e := w.d.Estate()
	for _, g := range e.Groups {
		switch {
		case g == s.Group:
			members := w.d.Members(g)
			add(BySelf, "self", members, memberWeight*size(members.Minus(needed)))
		case g.Defined && g.For == estate.ForInstances && !g.Default && g.Account.Cloud == s.Group.Account.Cloud:
			// What the rule would speak of: nobody, where it can't name the group.
			peers := w.d.Peers(s.Group, &estate.Rule{Peers: []estate.Peer{{Kind: estate.PeerGroup, Group: g}}}, nil)
			add(ByGroup, "group "+groupName(e, s.Group, g), peers, memberWeight*size(peers.Minus(needed)))
		}
	}
	for _, l := range e.Lists {
		if l.Defined {
			add(ByList, "list "+l.Name, w.d.ListEntries(l, s.Group), entryWeight*float64(idleEntries(l, needed)))
		}
	}
	for _, n := range e.Networks {
		if n == s.Group.Network {
			add(ByNetwork, "network", addr.OfPrefixes(n.Ranges...), 0)
			for _, sub := range n.Subnets {
				add(BySubnet, "subnet "+sub.Name, addr.OfPrefixes(sub.Ranges...), 0)
			}
		}
	}
	slices.SortStableFunc(found, func(a, b candidate) int { return cmp.Compare(a.cost, b.cost) })
	return found
}

// fit limits peers to one family where the allowed ones are of that family only.
func (w weigher) fit(words string, addresses addr.Set) (string, addr.Set) {
	if addresses.SubsetOf(w.allowed) {
		return words, addresses
	}
	for _, f := range []addr.Family{addr.IPv4, addr.IPv6} {
		if part := addresses.Only(f); !part.IsEmpty() && part.SubsetOf(w.allowed) {
			return words + " " + f.String(), part
		}
	}
	return words, addresses
}

// idleEntries counts the entries of a list that hold no needed peer.
func idleEntries(l *estate.List, needed addr.Set) int {
	idle := 0
	for _, entry := range l.Entries {
		if !addr.OfPrefixes(entry.Range).Overlaps(needed) {
			idle++
		}
	}
	return idle
}

// groupName is the shortest name by which rules of one group can refer to another.
func groupName(e *estate.Estate, from, to *estate.Group) string {
	if from.Network == to.Network {
		return to.Name
	}
	same := 0
	for _, g := range e.Groups {
		if g.Defined && g.Name == to.Name {
			same++
		}
	}
	if same == 1 {
		return to.Name
	}
	return to.Path()
}

// excess is the cost of addresses that a range lets in without need.
func (w weigher) excess(s addr.Set) float64 {
	strangers := s.Intersect(w.strangers)
	return strangerWeight*size(strangers) + knownWeight*size(s.Minus(strangers))
}

func size(s addr.Set) float64 {
	n, _ := s.Size().Float64()
	return n
}

// ranges is the cheapest way to name addresses by ranges and single addresses:
// a dynamic programme on the prefix trie, where at each fork either the whole
// range below it is named, or each branch by itself.
func (w weigher) ranges(needed addr.Set) ([]candidate, float64) {
	var all []candidate
	cost := 0.0
	for _, f := range []addr.Family{addr.IPv4, addr.IPv6} {
		if leaves := w.leaves(needed.Only(f)); len(leaves) > 0 {
			best, c := w.branch(leaves, needed)
			all, cost = append(all, best...), cost+c
		}
	}
	return all, cost
}

// leaves are the needed prefixes in order: mostly single addresses.
func (w weigher) leaves(needed addr.Set) []netip.Prefix { return needed.Prefixes() }

func (w weigher) branch(leaves []netip.Prefix, needed addr.Set) ([]candidate, float64) {
	if len(leaves) == 1 {
		c := w.rangeCandidate(leaves[0], needed)
		return []candidate{c}, c.cost
	}
	fork := commonPrefix(leaves[0], leaves[len(leaves)-1])
	middle, _ := slices.BinarySearchFunc(leaves, upperHalf(fork), func(p netip.Prefix, a netip.Addr) int { return p.Addr().Compare(a) })
	low, lowCost := w.branch(leaves[:middle], needed)
	high, highCost := w.branch(leaves[middle:], needed)
	if whole := w.rangeCandidate(fork, needed); whole.Addresses.SubsetOf(w.allowed) && whole.cost < lowCost+highCost {
		return []candidate{whole}, whole.cost
	}
	return append(low, high...), lowCost + highCost
}

func (w weigher) rangeCandidate(p netip.Prefix, needed addr.Set) candidate {
	set := addr.OfPrefixes(p)
	kind := ByRange
	if p.IsSingleIP() {
		kind = ByAddress
		if len(w.d.At(p.Addr())) > 0 {
			kind = ByOwnMachine
		}
	}
	c := candidate{Choice: Choice{kind, addr.PrefixString(p), set, set.Intersect(needed)}, cost: kindWeight[kind]}
	c.cost += w.excess(set.Minus(needed))
	return c
}

func commonPrefix(a, b netip.Prefix) netip.Prefix {
	for bits := min(a.Bits(), b.Bits()); bits > 0; bits-- {
		if p := netip.PrefixFrom(a.Addr(), bits).Masked(); p.Contains(b.Addr()) {
			return p
		}
	}
	return netip.PrefixFrom(a.Addr(), 0).Masked()
}

// upperHalf is the first address of the upper half of a range.
func upperHalf(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	b[p.Bits()/8] |= 0x80 >> (p.Bits() % 8)
	a, _ := netip.AddrFromSlice(b)
	return a
}

// greedy takes the candidate that costs least for each needed range it newly
// holds, until ranges are cheaper.
func (w weigher) greedy(named []candidate, needed addr.Set) []Choice {
	var taken []candidate
	left := needed
	_, rangeCost := w.ranges(left)
	for {
		best, bestSaving, bestLeft := -1, 0.0, left
		for i, c := range named {
			rest := left.Minus(c.Addresses)
			_, after := w.ranges(rest)
			if saving := rangeCost - after - c.cost; saving > bestSaving {
				best, bestSaving, bestLeft = i, saving, rest
			}
		}
		if best < 0 {
			ranges, _ := w.ranges(left)
			return join(taken, ranges)
		}
		taken = append(taken, named[best])
		left = bestLeft
		_, rangeCost = w.ranges(left)
	}
}
