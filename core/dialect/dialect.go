// Package dialect describes what each kind of cloud can express, what its quotas are and what it
// has built in. A dialect is data: no other package asks by name which cloud it is dealing with.
package dialect

// A Dialect is one kind of cloud. Numbers are defaults; an account's limit overrides them.
type Dialect struct {
	Name  string
	About string // one line for people

	GroupsPerInterface int // quota; 0 means no limit
	GroupsPerSubnet    int // quota; 0 means that there are no groups for subnets
	RulesPerDirection  int // quota of an instance group, for each direction; 0 means no limit
	RulesPerGroup      int // quota of an instance group, for both directions together; 0 means no limit
	SubnetRules        int // quota of a subnet group, for each direction; 0 means no limit
	SubnetGroups       bool

	// What one rule can hold.
	ManyPeers bool // several ranges, or several tags of instances, in one rule
	ManyPorts bool // several ranges of ports in one rule
	OwnLists  OwnLists

	// StateByRule: a rule can be stateless.
	StateByRule bool

	// NewLetsOut: a new instance group has a rule that lets everything out; it can be removed.
	NewLetsOut bool
	// BulkRules: one request can add several rules to a group, all or none of them.
	BulkRules bool
	// OneFamily: a rule is for one address family, so a reference to a group or list takes two
	// rules. ICMP exists in IPv4, ICMPv6 in IPv6.
	OneFamily bool
	// LabelsApart: a new group gets its labels by a second request.
	LabelsApart bool
	// EqualRefused: a group takes no second rule that says the same, whatever its description.
	EqualRefused bool
	// EntriesApart: one request can add entries to a list or remove some, but not both.
	EntriesApart bool
	// GroupsInNetworks: a group belongs to a network, and its name is unique there.
	GroupsInNetworks bool

	// How it decides.
	Instances    Filter       // of instance groups
	Subnets      Filter       // of subnet groups; the zero value where there are none
	Layers       Layers       // how the two layers combine
	Nothing      Nothing      // what an interface without groups does
	GroupsAcross GroupsAcross // the members of which groups a peer can mean
}

// A Filter says how the rules of one kind of group decide.
type Filter struct {
	FirstMatch bool // the matching rule of the lowest rank decides; else all admissions add up
	Refuses    bool // rules may refuse
	State      State
	// Fixed are built-in rules behind all others; they can't be removed.
	Fixed []Fixed
	// Ranks are the lowest and the highest rank of a rule, in dialects with ranks.
	Ranks [2]int
}

// State says whether answers come back by themselves.
type State string

// The kinds of state.
const (
	StateKept    State = "kept"
	StateNone    State = "none"
	StateByRule  State = "by rule"
	StateByGroup State = "by group"
)

// A Fixed rule is built in.
type Fixed struct {
	In    bool
	Rank  int
	Admit bool
	From  string // "network", "probes", "public", "anything"; outward it is where to
}

// Layers says how the interface's layer and the subnet's combine.
type Layers string

// The ways.
const (
	BothMustAdmit  Layers = "both" // traffic within a subnet does not pass the subnet's layer
	EitherMayAdmit Layers = "either"
	InstancesOnly  Layers = "instances"
)

// Nothing says what a layer without a group does.
type Nothing string

// The ways.
const (
	DefaultAttached Nothing = "default" // the network's default group is attached
	Passes          Nothing = "passes"
	Stops           Nothing = "stops"
	DefaultList     Nothing = "default list" // the subnet has a built-in list: ssh in, everything out
)

// GroupsAcross says whose members a group peer can name.
type GroupsAcross string

// The ways.
const (
	OwnNetwork     GroupsAcross = "network"
	PeeredNetworks GroupsAcross = "peered" // also in networks peered in both directions, of any account
	WholeCloud     GroupsAcross = "cloud"
)

// OwnLists says how rules of a dialect use an estate's own prefix lists.
type OwnLists string

// What becomes of own lists.
const (
	ListsExpanded   OwnLists = "expanded" // not at all: rules contain their entries
	ListsAsCapacity OwnLists = "capacity" // a list counts as its capacity in rules
	ListsAsOne      OwnLists = "one"      // a list counts as one rule
)

// Names of quotas, as `limit` in a definition and `limits` in a survey call them.
const (
	LimitRulesPerDirection  = "rules-per-direction"
	LimitRulesPerGroup      = "rules-per-group"
	LimitSubnetRules        = "subnet-rules-per-direction"
	LimitGroupsPerInterface = "groups-per-interface"
	LimitGroups             = "groups-per-account"
	LimitRules              = "rules-per-account"
)

// Limits are the names of all quotas.
var Limits = []string{LimitRulesPerDirection, LimitRulesPerGroup, LimitSubnetRules, LimitGroupsPerInterface,
	LimitGroups, LimitRules}

// ranks are the lowest and the highest rank of a rule, where rules have ranks or numbers.
var ranks = [2]int{1, 8999}

// rankedRules stand behind the rules of every group of a ranked cloud.
var rankedRules = []Fixed{
	{In: true, Rank: 9100, Admit: true, From: "network"},
	{In: true, Rank: 9200, Admit: true, From: "probes"},
	{In: true, Rank: 9900, From: "anything"},
	{Rank: 9100, Admit: true, From: "network"},
	{Rank: 9200, Admit: true, From: "public"},
	{Rank: 9900, From: "anything"},
}

// All are the dialects, in the order in which the documentation shows them.
var All = []Dialect{
	{
		Name:             "union",
		NewLetsOut:       true,
		GroupsInNetworks: true,
		About: "groups admit and their rules add up; state is kept; subnets have numbered rules " +
			"without state",
		Instances:          Filter{State: StateKept},
		Subnets:            Filter{FirstMatch: true, Refuses: true, State: StateNone, Ranks: ranks},
		Layers:             BothMustAdmit,
		Nothing:            DefaultAttached,
		GroupsAcross:       PeeredNetworks,
		GroupsPerInterface: 6,
		RulesPerDirection:  64,
		SubnetRules:        24,
		GroupsPerSubnet:    1,
		SubnetGroups:       true,
		OwnLists:           ListsAsCapacity,
	},
	{
		Name:             "ranked",
		GroupsInNetworks: true,
		About: "one group on an interface, one on its subnet; rules have ranks and the first that " +
			"fits decides",
		GroupsPerInterface: 1,
		RulesPerGroup:      900,
		GroupsPerSubnet:    1,
		SubnetGroups:       true,
		ManyPeers:          true,
		ManyPorts:          true,
		OwnLists:           ListsExpanded,
		Instances:          Filter{FirstMatch: true, Refuses: true, State: StateKept, Fixed: rankedRules, Ranks: ranks},
		Subnets:            Filter{FirstMatch: true, Refuses: true, State: StateKept, Fixed: rankedRules, Ranks: ranks},
		Layers:             BothMustAdmit,
		Nothing:            Passes,
		GroupsAcross:       OwnNetwork,
	},
	{
		Name:               "layered",
		GroupsInNetworks:   true,
		About:              "an admission in any layer is enough; state is kept by rule",
		GroupsPerInterface: 6,
		RulesPerGroup:      128,
		SubnetRules:        100,
		GroupsPerSubnet:    4,
		SubnetGroups:       true,
		OwnLists:           ListsExpanded,
		StateByRule:        true,
		Instances:          Filter{State: StateByRule},
		Subnets:            Filter{State: StateByRule},
		Layers:             EitherMayAdmit,
		Nothing:            DefaultList,
		GroupsAcross:       OwnNetwork,
	},
	{
		Name:         "flat",
		NewLetsOut:   true,
		BulkRules:    true,
		OneFamily:    true,
		LabelsApart:  true,
		EqualRefused: true,
		EntriesApart: true,
		About:        "any number of groups on an interface, their rules add up; no subnet groups",
		OwnLists:     ListsAsOne,
		Instances:    Filter{State: StateByGroup},
		Layers:       InstancesOnly,
		Nothing:      Stops,
		GroupsAcross: WholeCloud,
	},
}

// Lookup finds a dialect by name.
func Lookup(name string) (Dialect, bool) {
	for _, d := range All {
		if d.Name == name {
			return d, true
		}
	}
	return Dialect{}, false
}

// Names are the names of all dialects.
func Names() []string {
	names := make([]string, len(All))
	for i, d := range All {
		names[i] = d.Name
	}
	return names
}
