// Package estate is the model: clouds, accounts, networks, instances and the
// groups that filter their traffic. One value serves for what is defined, what
// is surveyed, and any state in between; the same functions work on all.
package estate

import (
	"net/netip"
	"slices"
	"time"

	"isonomos/core/service"
)

// An Estate is everything one organisation has, as defined, surveyed or both.
// Slices are in the order of their source; the parts refer to each other by pointer.
type Estate struct {
	Name      string
	Title     string
	Taken     time.Time // when it was surveyed; zero for definitions alone
	Clouds    []*Cloud
	Accounts  []*Account
	Networks  []*Network
	Instances []*Instance
	Groups    []*Group
	Lists     []*List
	Services  service.Names // the built-in services and the defined ones
	Unread    []Unread      // accounts that could not be surveyed: nothing is known of them
}

// Unread is an account that could not be surveyed. It is never taken for an empty one.
type Unread struct{ Account, Reason string }

// An Origin is the place in a file that a thing comes from. The zero value means none is known.
type Origin struct {
	File   string // as the program was given it
	Line   int    // from 1
	Offset int    // in a definition file: bytes before it
}

// FromInput stands in an origin in the place of a file.
const FromInput = "standard input"

// InFile reports whether the origin is a line of a file, so that it can be opened there.
func (o Origin) InFile() bool { return o.File != "" && o.Line > 0 && o.File != FromInput }

// ForgetOrigins takes the origins away from everything in an estate that comes from no
// file: the lines that clouds answered with stand nowhere.
func (e *Estate) ForgetOrigins() {
	for _, c := range e.Clouds {
		c.Origin = Origin{}
	}
	for _, a := range e.Accounts {
		a.Origin = Origin{}
	}
	for _, n := range e.Networks {
		n.Origin = Origin{}
		for _, s := range n.Subnets {
			s.Origin = Origin{}
		}
	}
	for _, l := range e.Lists {
		l.Origin = Origin{}
	}
	for _, g := range e.Groups {
		g.Origin = Origin{}
		for i := range g.Rules {
			g.Rules[i].Origin = Origin{}
		}
	}
	for _, i := range e.Instances {
		i.Origin = Origin{}
	}
}

// A Cloud is one provider's cloud.
type Cloud struct {
	Name    string
	Dialect string // names an entry of package dialect
	Reach   Reach
	Origin  Origin
}

// Reach says how a cloud is reached, as far as the definitions say. What comes from
// the environment is named, never held.
type Reach struct {
	At       string // an address; or, with AtEnv, the environment variable that has it
	AtEnv    bool
	TokenEnv string // the environment variable that has the token
	Profile  string // the name of a cloud in the standard profile file
}

// An Account is what a cloud bills and limits separately.
type Account struct {
	Name   string
	Cloud  *Cloud
	ID     string
	Region string
	Folder string // slash-separated, from the root: "harbour/water"
	Labels Labels
	Limits map[string]int // quotas that differ from the dialect's, by name
	Origin Origin
}

// Labels are what people call things by, beside their names.
type Labels map[string]string

// A Network is a private network of an account.
type Network struct {
	Account *Account
	ID      string
	Name    string
	Ranges  []netip.Prefix
	Peered  []*Network // the networks that this side peers with; traffic needs both sides
	Subnets []*Subnet
	Labels  Labels
	// Answers are the client ports that answers go to; zero means 1024 to 65535.
	Answers Ports
	Origin  Origin
}

// Ports is a run of ports, both ends in it.
type Ports struct{ From, To uint16 }

// A Subnet is a part of a network, with the routes that its instances use.
type Subnet struct {
	Network *Network
	ID      string
	Name    string
	Ranges  []netip.Prefix
	Routes  []Route
	// RoutesKnown is false where only definitions speak of the subnet: they do not state routes.
	RoutesKnown bool
	Groups      []*Group
	Labels      Labels
	Origin      Origin
}

// Via says where a route leads.
type Via string

// The ways that a route can lead.
const (
	ViaInternet    Via = "internet"
	ViaNAT         Via = "nat"
	ViaPeer        Via = "peer"
	ViaPrivateLine Via = "private-line"
	ViaLocal       Via = "local"
	ViaDrop        Via = "drop"
)

// A Route sends what goes to a range on its way.
type Route struct {
	To      netip.Prefix
	Via     Via
	Network *Network   // of ViaPeer; nil where the survey names one that is not there
	Address netip.Addr // of ViaNAT: the address that strangers see; may be missing
}

// InstanceKind says what an instance is.
type InstanceKind string

// The kinds of instance.
const (
	Machine  InstanceKind = "machine"
	Balancer InstanceKind = "balancer"
	Function InstanceKind = "function"
	Store    InstanceKind = "store"
)

// An Instance is something with interfaces in networks.
type Instance struct {
	Account    *Account
	ID         string
	Name       string
	Kind       InstanceKind
	Labels     Labels
	Interfaces []*Interface
	Listeners  []Listener // of a balancer
	Imagined   bool       // made up for a question about a group attached to nothing
	Origin     Origin
}

// A Listener is a service that a balancer takes and hands on.
type Listener struct {
	Service service.Spec
	Targets []*Instance
	Port    uint16       // the targets' port
	Probe   service.Spec // what the health probe asks; the zero value means no probe
}

// An Interface is where an instance touches a subnet, and where instance groups filter.
type Interface struct {
	Instance *Instance
	ID       string
	Subnet   *Subnet
	Private  []netip.Addr
	Public   []netip.Addr
	Groups   []*Group
	// Unfiltered is true where filtering by instance groups is switched off.
	Unfiltered bool
}

// Address is the first address of an interface in a family, a private one before a public one.
func (i *Interface) Address(six bool) (netip.Addr, bool) {
	for _, addrs := range [][]netip.Addr{i.Private, i.Public} {
		for _, a := range addrs {
			if a.Is6() == six {
				return a, true
			}
		}
	}
	return netip.Addr{}, false
}

// GroupKind says what a group is attached to.
type GroupKind string

// The kinds of group.
const (
	ForInstances GroupKind = "instances"
	ForSubnets   GroupKind = "subnets"
)

// A Group is a set of filter rules with a name.
type Group struct {
	Account     *Account
	Network     *Network // nil in a dialect whose groups belong to no network
	ID          string
	Name        string
	CloudName   string // its name in the cloud where that differs; see InCloud
	For         GroupKind
	Description string
	Labels      Labels
	Covers      []Cover // of a defined group: what it is to be attached to
	Rules       []Rule
	Ended       []Rule // of a definition: rules past their end, which are no rules any more
	Lends       []Lend // what passes can open for a while; by itself it lets nothing through
	Follows     bool   // a subnet group that lets through what the groups of its instances do
	Existing    bool   // defined as being there and not ours: a peer, nothing more
	BuiltIn     bool   // the cloud made it and it can't be removed
	Default     bool   // the network's default group
	Stateless   bool   // keeps no state, where the dialect decides that by group
	Defined     bool   // the definitions say what it is
	DefinedAs   string // of a surveyed group, as it is there: the full name of its definition; see Ours
	Absent      bool   // defined, and not there: it has no rules and is attached to nothing
	Origin      Origin
}

// InCloud is the group's name in its cloud.
func (g *Group) InCloud() string {
	if g.CloudName != "" {
		return g.CloudName
	}
	return g.Name
}

// Ours reports whether this is a surveyed group, as it is there, that the definitions define.
func (g *Group) Ours() bool { return g.DefinedAs != "" }

// Path is the group's full name: account/network/group.
func (g *Group) Path() string {
	if g.DefinedAs != "" {
		return g.DefinedAs
	}
	if g.Network == nil {
		return g.Account.Name + "/" + g.Name
	}
	return g.Network.Path() + "/" + g.Name
}

// Path is the network's full name: account/network.
func (n *Network) Path() string { return n.Account.Name + "/" + n.Name }

// Path is the subnet's full name: account/network/subnet.
func (s *Subnet) Path() string { return s.Network.Path() + "/" + s.Name }

// Path is the instance's full name: account/instance.
func (i *Instance) Path() string { return i.Account.Name + "/" + i.Name }

// PeeredWith reports whether the two networks have agreed, both, to be peered.
func (n *Network) PeeredWith(other *Network) bool {
	return peersWith(n, other) && peersWith(other, n)
}

func peersWith(n, other *Network) bool {
	for _, p := range n.Peered {
		if p == other {
			return true
		}
	}
	return false
}

// A Cover says what a defined group is attached to: all that a condition holds
// for, or instances or subnets by name.
type Cover struct {
	Where     *Condition // nil where names are given
	Instances []string   // names or ids
	Subnets   []string
}

// Direction is the way that traffic goes, seen from what the group is attached to.
type Direction string

// The directions.
const (
	In  Direction = "in"
	Out Direction = "out"
)

// Opposite is the direction in which answers go.
func (d Direction) Opposite() Direction {
	if d == Out {
		return In
	}
	return Out
}

// Action is what a rule does with traffic that fits it.
type Action string

// The actions.
const (
	Admit  Action = "admit"
	Refuse Action = "refuse"
)

// A Rule lets traffic through or stops it.
type Rule struct {
	ID          string
	Direction   Direction
	Action      Action
	Rank        int // where the dialect ranks or numbers rules; else 0
	Peers       []Peer
	Except      []Peer // taken away from all Peers
	Services    []service.Spec
	Words       []string // the services as a definition calls them; empty for surveyed rules
	Stateless   bool
	Description string
	Until       time.Time // after it the rule is gone; zero means no end
	BuiltIn     bool
	Origin      Origin
	Through     *Through // what put the rule in its group; nil where it is written there
	Changed     *Changed // who changed it last, where the cloud tells
	Lent        bool     // found, and the definitions contain it
	Named       bool     // Lent, with ranges where the definition names lists, networks or groups
}

// Changed says who changed something last, and when. Either may be missing.
type Changed struct {
	At time.Time
	By string
}

// Through is what put a rule in a group where it is not written: a pattern that
// is used, or a connect. The rule's Origin is that of its own words.
type Through struct {
	Kind   string // "pattern", "connect"
	Name   string // of the pattern
	Origin Origin // where the pattern is used
}

// A Lend is access that can be lent for a while within bounds. Its rule says
// to whom and what; it is no rule of the group until a pass is issued.
type Lend struct {
	Rule
	AtMost time.Duration
	After  int // how many of the group's rules stand before it
}

// PeerKind says how a rule names its peers.
type PeerKind uint8

// The kinds of peer.
const (
	PeerEveryone PeerKind = iota // every address
	PeerInternet                 // strangers, in laws and expectations
	PeerPublic                   // every public address, in fixed rules
	PeerRange
	PeerGroup
	PeerList
	PeerSelf    // the group that the rule is in
	PeerNetwork // a network's own ranges
	PeerSubnet
	PeerProbes  // health probes of the balancers in front
	PeerMissing // a reference to a group or list that is not there: it holds nobody
)

// A Peer is one way of saying who is at the other end. Only the field of its kind is set.
type Peer struct {
	Kind    PeerKind
	V4Only  bool
	V6Only  bool
	Range   netip.Prefix
	Group   *Group
	List    *List
	Network *Network
	Subnet  *Subnet
	Missing string  // what the reference said: "group:grp-9"
	Without *[]Peer // taken away from this peer alone; nil means nothing
}

// A List is a prefix list: one's own, or one that a provider publishes.
type List struct {
	Account     *Account // nil for a defined list, which belongs to every account
	ID          string
	Name        string
	Owner       string // "own" or "published"
	Region      string
	Description string
	Entries     []Entry
	Parts       []ListPart // entries that only hold in some places
	Published   []Published
	Capacity    int // what it costs in rules; 0 means the number of its entries
	Labels      Labels
	Defined     bool
	Origin      Origin
}

// An Entry is one range of a list, and what it is.
type Entry struct {
	Range netip.Prefix
	Note  string
}

// A ListPart is a part of a list that holds where its condition does, asked of a group.
type ListPart struct {
	Where     *Condition
	Entries   []Entry
	Published []Published
}

// Published names a list that the provider of a cloud keeps.
type Published struct {
	Name  string
	Cloud *Cloud // nil means whichever cloud the group is on
}

// At are the list's own entries, and the names of published lists, that hold for a group.
func (l *List) At(g *Group) ([]Entry, []Published) {
	entries, published := l.Entries, l.Published
	for _, p := range l.Parts {
		if p.Where.Holds(GroupPlace(g)) {
			entries = append(slices.Clip(entries), p.Entries...)
			published = append(slices.Clip(published), p.Published...)
		}
	}
	return entries, slices.DeleteFunc(slices.Clone(published), func(p Published) bool {
		return p.Cloud != nil && g.Account != nil && p.Cloud.Name != g.Account.Cloud.Name
	})
}

// Cost is what the list counts as in rules, where a dialect counts its capacity.
func (l *List) Cost() int { return max(l.Capacity, len(l.Entries)) }
