// Package decide answers what an estate lets through: for one flow with every
// step (Trace), and for exact sets of traffic.
package decide

import (
	"cmp"
	"net/netip"
	"slices"
	"sync"

	"isonomos/core/addr"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
)

// A Decider decides over one estate, and never changes it: nor may anybody else while the
// Decider is in use. It remembers what it has worked out, so its methods write, and one
// goroutine at a time may call them; Fork makes others cheaply, which share what doesn't
// change and may be used side by side. Where the estate changes step by step, see Moving.
type Decider struct {
	*index
	// What has been worked out.
	members map[*estate.Group]addr.Set
	lists   map[*estate.List]addr.Set
	rules   map[ruleKey][]*estate.Rule
	ranges  map[netip.Prefix]addr.Set
	routed  map[*estate.Subnet][]routed
	waysIn  map[waysKey]addr.Set
	clients map[*estate.Subnet][]clientsOf
	handed  map[handedKey]Outcome
	targets map[handedKey][]targetOutcome
	naming  map[*estate.Group]bool // see namesMembers
	classes map[*estate.Interface]string
}

// An index is what all Deciders of one estate share. Only Moving changes it.
type index struct {
	estate     *estate.Estate
	bySubnet   map[*estate.Subnet][]*estate.Interface
	attachedAt map[*estate.Group][]*estate.Interface
	defaults   map[*estate.Network]*estate.Group // for instances
	subDefault map[*estate.Network]*estate.Group // for subnets
	builtIn    map[*estate.Network]*estate.Group // default lists that the survey leaves out
	probers    map[*estate.Instance][]*estate.Interface
	byName     func() map[string][]*estate.Instance // by name and id, each also with the account in front
	byAddress  func() map[netip.Addr][]*estate.Interface
	strangers  func() addr.Set
	counter    func() addr.Counter // counts strangers
	own        func() addr.Set
	clientsMet func() map[estate.Ports]addr.Set // public addresses, by the client ports of their network
	circles    func() map[*estate.Instance]circle
	// the destinations of all routes except default routes, and the ranges of networks
	routesTo  func() map[netip.Prefix]bool
	routeBits func() []int // the lengths of those prefixes
}

type ruleKey struct {
	group     *estate.Group
	direction estate.Direction
}

// New makes a Decider for an estate.
func New(e *estate.Estate) *Decider {
	x := &index{
		estate:     e,
		bySubnet:   make(map[*estate.Subnet][]*estate.Interface),
		attachedAt: make(map[*estate.Group][]*estate.Interface, len(e.Groups)),
		defaults:   make(map[*estate.Network]*estate.Group),
		subDefault: make(map[*estate.Network]*estate.Group),
		builtIn:    make(map[*estate.Network]*estate.Group),
		probers:    make(map[*estate.Instance][]*estate.Interface),
	}
	d := x.decider()
	x.byName = sync.OnceValue(x.findNames)
	x.byAddress = sync.OnceValue(x.findAddresses)
	x.strangers = sync.OnceValue(func() addr.Set { return x.decider().findStrangers() })
	x.counter = sync.OnceValue(func() addr.Counter { return addr.NewCounter(x.strangers()) })
	x.own = sync.OnceValue(x.findOwn)
	x.clientsMet = sync.OnceValue(x.findClients)
	x.circles = sync.OnceValue(x.findCircles)
	x.routesTo = sync.OnceValue(x.findRoutesTo)
	x.routeBits = sync.OnceValue(x.findRouteBits)
	for _, g := range e.Groups {
		if g.Default && g.Network != nil {
			if g.For == estate.ForSubnets {
				x.subDefault[g.Network] = g
			} else {
				x.defaults[g.Network] = g
			}
		}
	}
	for _, n := range e.Networks {
		bare := slices.ContainsFunc(n.Subnets, func(s *estate.Subnet) bool { return len(s.Groups) == 0 })
		if bare && x.subDefault[n] == nil && Dialect(n.Account).Nothing == dialect.DefaultList {
			x.builtIn[n] = defaultList(n)
		}
	}
	for _, instance := range e.Instances {
		for _, i := range instance.Interfaces {
			x.bySubnet[i.Subnet] = append(x.bySubnet[i.Subnet], i)
			for _, g := range d.GroupsAt(i) {
				x.attachedAt[g] = append(x.attachedAt[g], i)
			}
			for _, g := range d.GroupsOfSubnet(i.Subnet) {
				x.attachedAt[g] = append(x.attachedAt[g], i)
			}
		}
		for _, l := range instance.Listeners {
			for _, target := range l.Targets {
				x.probers[target] = append(x.probers[target], instance.Interfaces...)
			}
		}
	}
	return d
}

func (x *index) decider() *Decider {
	return &Decider{
		index:   x,
		members: make(map[*estate.Group]addr.Set),
		lists:   make(map[*estate.List]addr.Set),
		rules:   make(map[ruleKey][]*estate.Rule),
		ranges:  make(map[netip.Prefix]addr.Set),
		routed:  make(map[*estate.Subnet][]routed),
		waysIn:  make(map[waysKey]addr.Set),
		clients: make(map[*estate.Subnet][]clientsOf),
		handed:  make(map[handedKey]Outcome),
		targets: make(map[handedKey][]targetOutcome),
		naming:  make(map[*estate.Group]bool),
		classes: make(map[*estate.Interface]string),
	}
}

// Fork is another Decider over the same estate, for another goroutine.
func (d *Decider) Fork() *Decider { return d.index.decider() }

func (x *index) findRoutesTo() map[netip.Prefix]bool {
	to := make(map[netip.Prefix]bool)
	for _, n := range x.estate.Networks {
		for _, r := range n.Ranges { // addresses in a network's own ranges are not routed elsewhere
			to[r.Masked()] = true
		}
		for _, s := range n.Subnets {
			for _, r := range s.Routes {
				if r.To.Bits() > 0 {
					to[r.To.Masked()] = true
				}
			}
		}
	}
	return to
}

func (x *index) findRouteBits() []int {
	var all []int
	for p := range x.routesTo() {
		if !slices.Contains(all, p.Bits()) {
			all = append(all, p.Bits())
		}
	}
	slices.Sort(all)
	return all
}

// findNames notes the names by which instances can be asked for.
func (x *index) findNames() map[string][]*estate.Instance {
	byName := make(map[string][]*estate.Instance)
	for _, i := range x.estate.Instances {
		names := []string{i.Name, i.Path()}
		if i.ID != "" && i.ID != i.Name {
			names = append(names, i.ID, i.Account.Name+"/"+i.ID)
		}
		for _, n := range names {
			byName[n] = append(byName[n], i)
		}
	}
	return byName
}

func (x *index) findAddresses() map[netip.Addr][]*estate.Interface {
	byAddress := make(map[netip.Addr][]*estate.Interface, len(x.estate.Instances))
	for _, instance := range x.estate.Instances {
		for _, i := range instance.Interfaces {
			for _, addrs := range [][]netip.Addr{i.Private, i.Public} {
				for _, a := range addrs {
					byAddress[a] = append(byAddress[a], i)
				}
			}
		}
	}
	return byAddress
}

func (x *index) findOwn() addr.Set {
	all := make([]netip.Addr, 0, len(x.byAddress()))
	for a := range x.byAddress() {
		all = append(all, a)
	}
	return addr.Of(all...)
}

// Estate is the estate about which it decides.
func (d *Decider) Estate() *estate.Estate { return d.estate }

// Dialect is the dialect of the account's cloud. One that is unknown decides nothing.
func Dialect(a *estate.Account) dialect.Dialect {
	if a == nil || a.Cloud == nil {
		return dialect.Dialect{}
	}
	found, _ := dialect.Lookup(a.Cloud.Dialect)
	return found
}

// Filter says how the rules of a group decide.
func Filter(g *estate.Group) dialect.Filter {
	if g.For == estate.ForSubnets {
		return Dialect(g.Account).Subnets
	}
	return Dialect(g.Account).Instances
}

// GroupsAt are the groups that filter at an interface: those attached, or if there are none and the
// dialect says so, the network's default group.
func (x *index) GroupsAt(i *estate.Interface) []*estate.Group {
	if len(i.Groups) > 0 || Dialect(i.Instance.Account).Nothing != dialect.DefaultAttached {
		return i.Groups
	}
	if g := x.defaults[i.Subnet.Network]; g != nil {
		return []*estate.Group{g}
	}
	return nil
}

// GroupsOfSubnet are the groups that filter at a subnet: those attached, or if there are none the
// network's default list, if it has one.
func (d *Decider) GroupsOfSubnet(s *estate.Subnet) []*estate.Group {
	dl := Dialect(s.Network.Account)
	if len(s.Groups) > 0 || !dl.SubnetGroups {
		return s.Groups
	}
	if g := d.subDefault[s.Network]; g != nil {
		return []*estate.Group{g}
	}
	if dl.Nothing == dialect.DefaultList {
		if g := d.builtIn[s.Network]; g != nil {
			return []*estate.Group{g}
		}
		return []*estate.Group{defaultList(s.Network)} // the subnet is in no network of the estate
	}
	return nil
}

// defaultList is the default list of a network's subnets, where the survey leaves it out: it admits
// ssh from everywhere, and everything outward.
func defaultList(n *estate.Network) *estate.Group {
	everyone := []estate.Peer{{Kind: estate.PeerEveryone}}
	return &estate.Group{Account: n.Account, Network: n, Name: "default", For: estate.ForSubnets,
		Description: "built-in list of subnets", BuiltIn: true, Default: true, Rules: []estate.Rule{
			{Direction: estate.In, Action: estate.Admit, Peers: everyone,
				Services: []service.Spec{service.Ports(service.TCP, 22, 22)}, BuiltIn: true, Description: "built in"},
			{Direction: estate.Out, Action: estate.Admit, Peers: everyone, Services: []service.Spec{service.Anything},
				BuiltIn: true, Description: "built in"},
		}}
}

// ImpliedGroups are the default lists that filter although the survey leaves them out, in the order
// of the networks.
func (d *Decider) ImpliedGroups() []*estate.Group {
	var implied []*estate.Group
	for _, n := range d.estate.Networks {
		if g := d.builtIn[n]; g != nil {
			implied = append(implied, g)
		}
	}
	return implied
}

// InterfacesOf are the interfaces at which a group filters, directly or through their subnet, in
// the order of the estate.
func (d *Decider) InterfacesOf(g *estate.Group) []*estate.Interface { return d.attachedAt[g] }

// Members are the private addresses of the interfaces to which a group is attached.
func (d *Decider) Members(g *estate.Group) addr.Set {
	if set, ok := d.members[g]; ok {
		return set
	}
	var all []netip.Addr
	if g.For == estate.ForInstances {
		for _, i := range d.attachedAt[g] {
			all = append(all, i.Private...)
		}
	}
	set := addr.Of(all...)
	d.members[g] = set
	return set
}

// ListEntries are the addresses in a list, as rules of a group see it; with nil, those that rules
// of any group see.
func (d *Decider) ListEntries(l *estate.List, g *estate.Group) addr.Set {
	whole := len(l.Parts) == 0 && len(l.Published) == 0
	if set, ok := d.lists[l]; ok && (whole || g == nil) {
		return set
	}
	entries, published := l.Entries, l.Published
	if g != nil {
		entries, published = l.At(g)
	} else {
		for _, p := range l.Parts {
			entries = append(slices.Clip(entries), p.Entries...)
			published = append(slices.Clip(published), p.Published...)
		}
	}
	ranges := make([]netip.Prefix, len(entries))
	for i, e := range entries {
		ranges[i] = e.Range
	}
	set := addr.OfPrefixes(ranges...)
	for _, p := range published {
		set = set.Union(d.published(p, g))
	}
	if whole || g == nil {
		d.lists[l] = set
	}
	return set
}

// published are the addresses of the lists that a provider publishes under a name, in the group's
// region; with nil, in all regions.
func (d *Decider) published(p estate.Published, g *estate.Group) addr.Set {
	var sets []addr.Set
	for _, l := range d.estate.Lists {
		if l.Owner != "published" || l.Name != p.Name || l.Account == nil ||
			p.Cloud != nil && l.Account.Cloud.Name != p.Cloud.Name {
			continue
		}
		if g == nil || l.Account.Cloud == g.Account.Cloud && l.Region == g.Account.Region {
			sets = append(sets, d.ListEntries(l, nil))
		}
	}
	return addr.UnionAll(sets...)
}

// Peers are the addresses that a rule of a group means at an interface. The interface decides what
// probes are (those of its balancers), and in a group without a network which network is meant.
// With nil they are the peers at any interface.
func (d *Decider) Peers(g *estate.Group, r *estate.Rule, at *estate.Interface) addr.Set {
	peers := d.peerUnion(g, r.Peers, at)
	if len(r.Except) > 0 {
		peers = peers.Minus(d.peerUnion(g, r.Except, at))
	}
	return peers
}

func (d *Decider) peerUnion(g *estate.Group, peers []estate.Peer, at *estate.Interface) addr.Set {
	if len(peers) == 1 {
		return d.peer(g, peers[0], at)
	}
	sets := make([]addr.Set, len(peers))
	for i, p := range peers {
		sets[i] = d.peer(g, p, at)
	}
	return addr.UnionAll(sets...)
}

func (d *Decider) peer(g *estate.Group, p estate.Peer, at *estate.Interface) addr.Set {
	if p.Without != nil {
		whole := p
		whole.Without = nil
		return d.peer(g, whole, at).Minus(d.peerUnion(g, *p.Without, at))
	}
	var set addr.Set
	switch p.Kind {
	case estate.PeerEveryone:
		return addr.FamilyOf(p.Family())
	case estate.PeerInternet:
		set = d.Strangers()
	case estate.PeerPublic:
		set = addr.Public
	case estate.PeerRange:
		return d.Range(p.Range)
	case estate.PeerList:
		asker := g
		if g.Account == nil { // it is an expectation, which is in no group
			asker = nil
		}
		set = d.ListEntries(p.List, asker)
	case estate.PeerSelf:
		set = d.Members(g)
	case estate.PeerGroup:
		if d.CanName(g, p.Group) {
			set = d.Members(p.Group)
		}
	case estate.PeerNetwork:
		set = d.networkRanges(g, p.Network, at)
	case estate.PeerSubnet:
		set = addr.OfPrefixes(p.Subnet.Ranges...)
	case estate.PeerProbes:
		set = d.probes(g, at)
	case estate.PeerMissing:
	}
	return set.Only(p.Family())
}

// Range is the set of the addresses of a range.
func (d *Decider) Range(p netip.Prefix) addr.Set {
	set, ok := d.ranges[p]
	if !ok {
		set = addr.OfPrefixes(p)
		d.ranges[p] = set
	}
	return set
}

// CanName reports whether rules of g match the members of other.
func (d *Decider) CanName(g, other *estate.Group) bool {
	if g.Network != nil && g.Network == other.Network {
		return true
	}
	switch Dialect(g.Account).GroupsAcross {
	case dialect.PeeredNetworks:
		return g.Network != nil && other.Network != nil && g.Network.PeeredWith(other.Network)
	case dialect.WholeCloud:
		return g.Account.Cloud == other.Account.Cloud
	}
	return g.Network == other.Network
}

// networkRanges are the ranges of the network that a rule means: the one it names, that of its
// group, or for a group without a network that of the interface.
func (d *Decider) networkRanges(g *estate.Group, named *estate.Network, at *estate.Interface) addr.Set {
	switch n := cmp.Or(named, g.Network); {
	case n != nil:
		return addr.OfPrefixes(n.Ranges...)
	case at != nil:
		return addr.OfPrefixes(at.Subnet.Network.Ranges...)
	}
	var sets []addr.Set
	seen := make(map[*estate.Network]bool)
	for _, i := range d.attachedAt[g] {
		if n := i.Subnet.Network; !seen[n] {
			seen[n] = true
			sets = append(sets, addr.OfPrefixes(n.Ranges...))
		}
	}
	return addr.UnionAll(sets...)
}

func (d *Decider) probes(g *estate.Group, at *estate.Interface) addr.Set {
	var all []netip.Addr
	add := func(instance *estate.Instance) {
		for _, i := range d.probers[instance] {
			all = append(all, i.Private...)
		}
	}
	if at != nil {
		add(at.Instance)
	} else {
		for _, i := range d.attachedAt[g] {
			add(i.Instance)
		}
	}
	return addr.Of(all...)
}

// At are the interfaces that have an address, private or public.
func (d *Decider) At(a netip.Addr) []*estate.Interface { return d.byAddress()[a] }

// Strangers are the public addresses that are in no list and on no interface of the estate. A list
// that is itself open (it contains at least a sixteenth of all public addresses of a family)
// identifies nobody: its addresses stay strangers.
func (d *Decider) Strangers() addr.Set { return d.strangers() }

func (d *Decider) findStrangers() addr.Set {
	known := make([]addr.Set, 0, len(d.estate.Lists)+1)
	for _, l := range d.estate.Lists {
		if set := d.ListEntries(l, nil); !BreadthOf(set, addr.Public).AtLeast(OpenBreadth) {
			known = append(known, set)
		}
	}
	var own []netip.Addr // only public ones matter
	for _, instance := range d.estate.Instances {
		for _, i := range instance.Interfaces {
			for _, addrs := range [][]netip.Addr{i.Private, i.Public} {
				for _, a := range addrs {
					if !a.IsPrivate() {
						own = append(own, a)
					}
				}
			}
		}
	}
	known = append(known, addr.Of(own...), d.estate.Others)
	return addr.Public.Minus(addr.UnionAll(known...))
}

// StrangersAmong counts the strangers in a set of addresses, by family; exact below 2^53. It takes
// logarithmic time for each range of the set, however many strangers and lists there are.
func (d *Decider) StrangersAmong(peers addr.Set) (four, six float64) { return d.counter().Count(peers) }

// Breadth is the share of all strangers that is in a set of peers.
func (d *Decider) Breadth(peers addr.Set) Breadth {
	c := d.counter()
	four, six := c.Count(peers)
	allFour, allSix := c.Total()
	return Breadth{four / max(1, allFour), six / max(1, allSix)}
}

// Stranger is an example of a stranger in a set of addresses.
func (d *Decider) Stranger(peers addr.Set) (netip.Addr, bool) { return d.counter().Example(peers) }

// OpenBreadth is the share of strangers, in either family, from which on peers count as open.
const OpenBreadth = 1.0 / 16

// A Breadth is the share of all strangers that is in a set of peers, by family, from 0 to 1.
type Breadth struct {
	IPv4, IPv6 float64
}

// BreadthOf is the breadth of a set of peers among the given strangers.
func BreadthOf(peers, strangers addr.Set) Breadth {
	share := func(f addr.Family) float64 {
		of := strangers.Only(f)
		if of.IsEmpty() {
			return 0
		}
		held := of.Intersect(peers)
		if held.Equal(of) {
			return 1
		}
		a, _ := held.Size().Float64()
		b, _ := of.Size().Float64()
		return a / b
	}
	return Breadth{share(addr.IPv4), share(addr.IPv6)}
}

// AtLeast reports whether the breadth reaches a share in either family.
func (b Breadth) AtLeast(share float64) bool { return b.IPv4 >= share || b.IPv6 >= share }
