// Package estate is the model: clouds, accounts, networks, instances, and the groups that filter
// their traffic. The same types hold what is defined, what is surveyed, and states in between, so
// that the same functions work on all of them.
package estate

import (
	"net/netip"
	"slices"
	"time"

	"isonomos/core/addr"
	"isonomos/core/service"
)

// An Estate is all that an organisation has, as defined, as surveyed, or both. Slices are in the
// order of the source. The parts refer to each other by pointers.
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
	Unread    []Unread      // accounts that could not be surveyed: nothing is known about them
	// Others are addresses of accounts that are not in it, if it is a part of an estate: on their interfaces and in
	// their lists. Nobody there is a stranger.
	Others addr.Set
}

// Unread is an account that could not be surveyed, or a whole cloud of which not even the accounts are known. It is
// never treated as empty.
type Unread struct {
	Account string
	Cloud   string // of a whole cloud; Account is empty then
	Reason  string
}

// Name is what could not be surveyed: the name of an account, or a cloud in words.
func (u Unread) Name() string {
	if u.Cloud != "" {
		return u.Words()
	}
	return u.Account
}

// Words is what could not be surveyed, in words.
func (u Unread) Words() string {
	if u.Cloud != "" {
		return "the cloud " + u.Cloud
	}
	return "the account " + u.Account
}

// An Origin is the place in a file where something is written. The zero value means that no place
// is known.
type Origin struct {
	File   string // the name under which the program was given it
	Line   int    // from 1
	Offset int    // in a definition file: the offset in bytes
}

// FromInput is the file name in an origin on standard input.
const FromInput = "standard input"

// InFile reports whether the origin is a line of a file, so that it can be opened there.
func (o Origin) InFile() bool { return o.File != "" && o.Line > 0 && o.File != FromInput }

// ForgetOrigins removes the origins of everything that comes from no file, such as the answers of
// clouds.
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

// Reach says how a cloud is reached, as far as the definitions say. For secrets it only holds the
// names of environment variables.
type Reach struct {
	At       string // an address; or with AtEnv the environment variable that contains it
	AtEnv    bool
	TokenEnv string // the environment variable that contains the token
	Profile  string // the name of a cloud in clouds.yaml
}

// An Account is the unit for which a cloud bills and has quotas.
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

// Labels are key-value pairs that people attach to things.
type Labels map[string]string

// A Network is a private network of an account.
type Network struct {
	Account *Account
	ID      string
	Name    string
	Ranges  []netip.Prefix
	Peered  []*Network // networks that this side peers with; traffic needs both sides
	Subnets []*Subnet
	Labels  Labels
	// Answers are the client ports, to which answers go; zero means 1024 to 65535.
	Answers Ports
	Twins   *Twins // see Group.Twins
	Origin  Origin
}

// Ports is a range of ports, both ends included.
type Ports struct{ From, To uint16 }

// A Subnet is a part of a network, with the routes that its instances use.
type Subnet struct {
	Network *Network
	ID      string
	Name    string
	Ranges  []netip.Prefix
	Routes  []Route
	// RoutesKnown is false if only definitions tell of the subnet: they don't contain routes.
	RoutesKnown bool
	Groups      []*Group
	Labels      Labels
	Twins       *Twins // see Group.Twins
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
	Network *Network   // of ViaPeer; nil if the survey names a network that it does not have
	Address netip.Addr // of ViaNAT: the address that strangers see; may be unknown
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
	Imagined   bool       // made up, to answer questions about a group that is attached to nothing
	Origin     Origin
}

// A Listener is a service that a balancer listens to and hands on to targets.
type Listener struct {
	Service service.Spec
	Targets []*Instance
	Port    uint16       // the port of the targets
	Probe   service.Spec // the service of health probes; the zero value means no probes
}

// An Interface connects an instance to a subnet. Instance groups filter here.
type Interface struct {
	Instance *Instance
	ID       string
	Subnet   *Subnet
	Private  []netip.Addr
	Public   []netip.Addr
	Groups   []*Group
	// Unfiltered says that filtering by instance groups is switched off.
	Unfiltered bool
}

// Address is the first address of an interface in a family, private before public.
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
	Network     *Network // nil in dialects whose groups belong to no network
	ID          string
	Name        string
	CloudName   string // its name in the cloud, if that differs; see InCloud
	For         GroupKind
	Description string
	Labels      Labels
	Covers      []Cover // of a defined group: what it is attached to
	Rules       []Rule
	Ended       []Rule // of a defined group: rules whose "until" date has passed; they no longer apply
	Lends       []Lend // what passes can open for a while; by themselves they let nothing through
	Follows     bool   // a subnet group that lets through what the groups of its instances do
	Existing    bool   // it is only referred to, as existing and not the estate's own
	BuiltIn     bool   // the cloud created it, and it can't be deleted
	Default     bool   // the network's default group
	Stateless   bool   // keeps no state, in dialects that decide that by group
	Defined     bool   // its rules come from definitions
	DefinedAs   string // of a surveyed group: the full name of its definition; see Ours
	Named       bool   // of a surveyed group: definitions name it as existing
	Absent      bool   // defined, but not in the survey: it has no rules and is attached to nothing
	Pass        string // surveyed: the id of the pass that it was made for
	Made        string // surveyed: the step of the run that made it, where it still says so; see MadeLabel
	// Twins are surveyed groups of which each could be the one that a definition stands for: so none is. Else nil.
	Twins  *Twins
	Origin Origin
}

// InCloud is the group's name in its cloud.
func (g *Group) InCloud() string {
	if g.CloudName != "" {
		return g.CloudName
	}
	return g.Name
}

// Ours reports whether this is a surveyed group with a definition.
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

// PeeredWith reports whether the two networks peer with each other, in both directions.
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

// A Cover says what a defined group is attached to: everything for which a condition holds, or
// named instances or subnets.
type Cover struct {
	Where     *Condition // nil if names are given
	Instances []string   // names or ids
	Subnets   []string
}

// Direction is the direction of traffic, seen from what the group is attached to.
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

// Action is what a rule does with the traffic that it matches.
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
	Rank        int // in dialects with ranks; else 0
	Peers       []Peer
	Except      []Peer // subtracted from all Peers
	Services    []service.Spec
	Words       []string // the services as the definition writes them; empty for surveyed rules
	Stateless   bool
	Description string
	Until       time.Time // the rule ends then; zero means no end
	BuiltIn     bool
	Origin      Origin
	Through     *Through // what wrote the rule into its group; nil if it is written there
	Changed     *Changed // who changed it last, if the cloud tells
	Lent        bool     // surveyed, and the definitions contain it
	Named       bool     // Lent, but with ranges in place of what the definition refers to
	Pass        string   // surveyed: the id of the pass that it belongs to
}

// Changed says who changed something last, and when. Either may be unknown.
type Changed struct {
	At time.Time
	By string
}

// Through is the pattern or the connect that wrote a rule into a group. The rule's Origin is where
// the rule itself is written.
type Through struct {
	Kind   string // "pattern", "connect"
	Name   string // of the pattern
	Origin Origin // where the pattern is used
}

// A Lend is access that passes can open for a while. Its rule says the most that can be opened; it
// lets nothing through until a pass is issued.
type Lend struct {
	Rule
	AtMost time.Duration
	After  int // the number of the group's rules in front of it
}

// PeerKind says how a rule names its peers.
type PeerKind uint8

// The kinds of peer.
const (
	PeerEveryone PeerKind = iota // every address
	PeerInternet                 // strangers; only in laws and expectations
	PeerPublic                   // every public address; only in built-in rules
	PeerRange
	PeerGroup
	PeerList
	PeerSelf    // the group that the rule is in
	PeerNetwork // a network's own ranges
	PeerSubnet
	PeerProbes  // health probes of the balancers in front
	PeerMissing // a reference to a group or list that does not exist: it has no addresses
)

// A Peer is one reference to addresses. Only the fields of its kind are set.
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
	Without *[]Peer // subtracted from this peer alone; nil means nothing
}

// A List is a prefix list: one's own, or one that a provider publishes.
type List struct {
	Account     *Account // nil for a defined list, which exists in every account
	ID          string
	Name        string
	Owner       string // "own" or "published"
	Region      string
	Description string
	Entries     []Entry
	Parts       []ListPart // entries that apply in some places only
	Published   []Published
	Capacity    int // what it costs in rules; 0 means the number of its entries
	Labels      Labels
	Defined     bool
	Made        string // as of groups
	// TwinsIn are, by account, surveyed lists of which each could be the one that a definition stands for there.
	TwinsIn map[string]*Twins
	Origin  Origin
}

// An Entry is a range of a list, with a description.
type Entry struct {
	Range netip.Prefix
	Note  string
}

// A ListPart is a part of a list that applies where a condition holds of the group.
type ListPart struct {
	Where     *Condition
	Entries   []Entry
	Published []Published
}

// Published names a list that a cloud's provider maintains.
type Published struct {
	Name  string
	Cloud *Cloud // nil means the cloud of the group
}

// At are the entries and the published lists that apply for a group.
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

// Cost is what the list counts in rules, in dialects where its capacity counts.
func (l *List) Cost() int { return max(l.Capacity, len(l.Entries)) }
