package narrow

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/compile"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
)

// Kind says how a choice names its peers; more stable names come first.
type Kind int

// The kinds.
const (
	ByGroup Kind = iota
	BySelf
	ByList
	ByProbes
	BySubnet
	ByNetwork
	ByRange
	ByAddress    // a single address of somebody else
	ByOwnMachine // a single address of one of the estate's instances: it may change
	ByOwnWords   // in the subject's own words
)

// A Choice is one way to name peers.
type Choice struct {
	Kind      Kind
	Words     string // in the language: "list pilot-stations"
	Peers     []estate.Peer
	Addresses addr.Set
	Needed    addr.Set // the needed peers that it contains
	Foreign   bool     // the definitions don't know the group or list yet
}

// A candidate is a choice with what it costs.
type candidate struct {
	Choice
	cost   float64 // of naming it, and of what it lets in beyond need
	excess Excess
	idle   float64 // the part of the cost for what it lets in beyond need
	rules  int     // rules of its cloud that it takes, for one range of ports
}

// A listIndex finds the lists that contain some of an address or range.
type listIndex struct {
	byRange map[netip.Prefix][]*estate.List
	lengths [2][]int       // lengths of the ranges, by family
	sorted  []netip.Prefix // the ranges by their first address
}

func indexLists(d *decide.Decider) listIndex {
	x := listIndex{byRange: make(map[netip.Prefix][]*estate.List)}
	for _, l := range d.Estate().Lists {
		for _, p := range d.ListEntries(l, nil).Prefixes() {
			if x.byRange[p] == nil {
				x.sorted = append(x.sorted, p)
			}
			x.byRange[p] = append(x.byRange[p], l)
			if f := family(p.Addr()); !slices.Contains(x.lengths[f], p.Bits()) {
				x.lengths[f] = append(x.lengths[f], p.Bits())
			}
		}
	}
	slices.SortFunc(x.sorted, func(a, b netip.Prefix) int { return a.Addr().Compare(b.Addr()) })
	return x
}

func family(a netip.Addr) int {
	if a.Is6() {
		return 1
	}
	return 0
}

// holding are the lists with a range that contains another one, or is contained in it.
func (x listIndex) holding(p netip.Prefix, take func(*estate.List)) {
	for _, bits := range x.lengths[family(p.Addr())] {
		if around, err := p.Addr().Prefix(bits); err == nil && bits <= p.Bits() {
			for _, l := range x.byRange[around] {
				take(l)
			}
		}
	}
	if p.IsSingleIP() {
		return
	}
	from, _ := slices.BinarySearchFunc(x.sorted, p.Addr(),
		func(q netip.Prefix, a netip.Addr) int { return q.Addr().Compare(a) })
	for _, within := range x.sorted[from:] {
		if !p.Contains(within.Addr()) {
			return
		}
		for _, l := range x.byRange[within] {
			take(l)
		}
	}
}

// A weigher works out what choices cost for one need.
type weigher struct {
	*Narrower
	subject Subject
	needed  addr.Set
	allowed addr.Set // those whom the subject lets through
	pieces  int      // ranges of ports, for each of which the peers are named
	// oneFamily says that rules can speak of one address family of a group's members.
	oneFamily bool
	dialect   estateDialect
}

// asDefined is a group whose rules count as those of a definition do.
func asDefined(g *estate.Group) *estate.Group {
	written := *g
	written.Defined = true
	return &written
}

// estateDialect counts the rules that naming a peer takes.
type estateDialect func(peers []estate.Peer) int

func (n *Narrower) weigher(s Subject, services service.Set, needed, allowed addr.Set) weigher {
	d := decide.Dialect(s.Group.Account)
	specs := services.Specs()
	written := asDefined(s.Group)
	return weigher{n, s, needed, allowed, len(specs), d.OneFamily, func(peers []estate.Peer) int {
		return compile.Cost(d, written, &estate.Rule{Peers: peers, Services: specs})
	}}
}

// ofRange says that what counts are addresses, not entries or members.
const ofRange = -1

// candidates are the groups, lists, subnets and networks that contain needed peers and nobody who
// is not allowed now, the cheapest first. Only those are looked at that contain a needed address,
// so it takes time in proportion to the needed peers and not to the estate.
func (w weigher) candidates() []candidate {
	var found []candidate
	add := func(c candidate, weight float64, addresses addr.Set, idle, each float64) {
		words, addresses, family := w.fit(c.Kind, c.Words, addresses)
		if !addresses.Overlaps(w.needed) || !addresses.SubsetOf(w.allowed) {
			return
		}
		c.Words, c.Addresses, c.Needed = words, addresses, addresses.Intersect(w.needed)
		c.Peers[0].V4Only, c.Peers[0].V6Only = family == addr.IPv4, family == addr.IPv6
		c.excess = w.excess(addresses)
		if each != ofRange { // what is named exists for a purpose, however many addresses it has
			c.excess.Known, c.excess.Named = 0, idle
		}
		c.idle = w.o.Weights.Stranger*c.excess.Strangers + w.o.Weights.Known*c.excess.Known + max(0,
			each)*c.excess.Named
		if c.cost = weight + c.idle; c.Foreign {
			c.cost += w.o.Weights.Foreign
		}
		c.rules = w.dialect(c.Peers)
		found = append(found, c)
	}
	of := func(kind Kind, words string, peer estate.Peer, foreign bool) candidate {
		return candidate{Choice: Choice{Kind: kind, Words: words, Peers: []estate.Peer{peer}, Foreign: foreign}}
	}
	weights := w.o.Weights
	groups, lists := w.near()
	for _, g := range groups {
		if g == w.subject.Group {
			members := w.d.Members(g)
			add(of(BySelf, "self", estate.Peer{Kind: estate.PeerSelf}, false), weights.Group, members,
				size(members.Minus(w.needed)), weights.Member)
			continue
		}
		peer := estate.Peer{Kind: estate.PeerGroup, Group: g}
		// What the rule would mean: nobody, if it can't refer to the group.
		peers := w.d.Peers(w.subject.Group, &estate.Rule{Peers: []estate.Peer{peer}}, nil)
		add(of(ByGroup, "group "+w.groupName(g), peer, w.subject.Group.Defined && !g.Defined), weights.Group, peers,
			size(peers.Minus(w.needed)), weights.Member)
	}
	for _, l := range lists {
		entries := w.d.ListEntries(l, w.subject.Group)
		add(of(ByList, "list "+l.Name, estate.Peer{Kind: estate.PeerList, List: l}, w.subject.Group.Defined &&
			!l.Defined), weights.List, entries, float64(w.idleEntries(entries)), weights.Entry)
	}
	if n := w.subject.Group.Network; n != nil {
		add(of(ByNetwork, "network", estate.Peer{Kind: estate.PeerNetwork}, false), weights.Network,
			addr.OfPrefixes(n.Ranges...), 0, ofRange)
		for _, sub := range n.Subnets {
			add(of(BySubnet, "subnet "+sub.Name, estate.Peer{Kind: estate.PeerSubnet, Subnet: sub}, false),
				weights.Subnet, addr.OfPrefixes(sub.Ranges...), 0, ofRange)
		}
	}
	if w.subject.Direction == estate.In && w.subject.Group.Defined {
		peer := estate.Peer{Kind: estate.PeerProbes}
		peers := w.d.Peers(w.subject.Group, &estate.Rule{Peers: []estate.Peer{peer}}, nil)
		add(of(ByProbes, "probes", peer, false), weights.Probes, peers, size(peers.Minus(w.needed)), weights.Member)
	}
	slices.SortStableFunc(found, func(a, b candidate) int {
		return cmp.Or(cmp.Compare(a.cost, b.cost), cmp.Compare(a.Kind, b.Kind), strings.Compare(a.Words, b.Words))
	})
	return slices.CompactFunc(found, func(a, b candidate) bool { return a.Words == b.Words })
}

// near are the groups of which needed peers are members, and the lists that contain some, in the
// order of the needed addresses.
func (w weigher) near() (groups []*estate.Group, lists []*estate.List) {
	seenGroup, seenList := make(map[*estate.Group]bool), make(map[*estate.List]bool)
	s := w.subject.Group
	takeList := func(l *estate.List) {
		if seenList[l] {
			return
		}
		seenList[l] = true
		at := l.Account == nil || l.Account == s.Account ||
			l.Owner == "published" && l.Account.Cloud == s.Account.Cloud && l.Region == s.Account.Region
		if at && (!l.Defined || s.Defined) {
			lists = append(lists, l)
		}
	}
	for _, p := range w.needed.Prefixes() {
		w.lists.holding(p, takeList)
		for _, a := range w.machinesIn(p) {
			for _, i := range w.d.At(a) {
				for _, g := range w.d.GroupsAt(i) {
					if !seenGroup[g] && g.For == estate.ForInstances && !g.Default {
						groups = append(groups, g)
					}
					seenGroup[g] = true
				}
			}
		}
	}
	return groups, lists
}

// machinesIn are the private addresses of the estate's machines in a range: a reference to a group
// does not mean public ones.
func (w weigher) machinesIn(p netip.Prefix) []netip.Addr {
	from, _ := slices.BinarySearchFunc(w.machines, p.Addr(), netip.Addr.Compare)
	to := from
	for to < len(w.machines) && p.Contains(w.machines[to]) {
		to++
	}
	return w.machines[from:to]
}

// fit limits peers to one family if only peers of that family are allowed now. Most clouds' rules can't
// limit a group.
func (w weigher) fit(kind Kind, words string, addresses addr.Set) (string, addr.Set, addr.Family) {
	members := kind == ByGroup || kind == BySelf || kind == ByProbes
	if addresses.SubsetOf(w.allowed) || members && !w.oneFamily {
		return words, addresses, addr.Both
	}
	for _, f := range []addr.Family{addr.IPv4, addr.IPv6} {
		if part := addresses.Only(f); !part.IsEmpty() && part.SubsetOf(w.allowed) {
			return words + " " + f.String(), part, f
		}
	}
	return words, addresses, addr.Both
}

// idleEntries counts the ranges of a list that contain no needed peer.
func (w weigher) idleEntries(entries addr.Set) int {
	idle := 0
	for _, p := range entries.Prefixes() {
		if !w.d.Range(p).Overlaps(w.needed) {
			idle++
		}
	}
	return idle
}

// groupName is the shortest name by which the subject's rules can refer to a group.
func (w weigher) groupName(to *estate.Group) string {
	if w.subject.Group.Network == to.Network || to.Defined && w.groupNames[to.Name] == 1 {
		return to.Name
	}
	return to.Path()
}

// excess are the addresses of a set that are not needed.
func (w weigher) excess(s addr.Set) Excess {
	extra := s.Minus(w.needed)
	four, six := w.d.StrangersAmong(extra)
	return Excess{Strangers: four + six, Known: max(0, size(extra)-four-six)}
}

func size(s addr.Set) float64 {
	n, _ := s.Size().Float64()
	return n
}

// rangeCandidate is a range, or a single address.
func (w weigher) rangeCandidate(p netip.Prefix) candidate {
	set := addr.OfPrefixes(p)
	kind, weight := ByRange, w.o.Weights.Range
	if p.IsSingleIP() {
		kind, weight = ByAddress, w.o.Weights.Address
		if len(w.d.At(p.Addr())) > 0 {
			kind, weight = ByOwnMachine, w.o.Weights.Machine
		}
	}
	peers := []estate.Peer{{Kind: estate.PeerRange, Range: p}}
	c := candidate{Choice: Choice{Kind: kind, Words: addr.PrefixString(p), Peers: peers, Addresses: set,
		Needed: set.Intersect(w.needed)}}
	c.excess = w.excess(set)
	c.idle = w.o.Weights.Stranger*c.excess.Strangers + w.o.Weights.Known*c.excess.Known
	c.cost, c.rules = weight+c.idle, w.pieces
	return c
}
