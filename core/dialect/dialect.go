// Package dialect describes what each kind of cloud can say, what it costs and
// what it has built in. A dialect is data: no other package asks which cloud it
// is dealing with.
package dialect

// A Dialect is one kind of cloud. Numbers are defaults; an account's limit overrides them.
type Dialect struct {
	Name  string
	About string // one line for people

	GroupsPerInterface int // quota; 0 means any number
	GroupsPerSubnet    int // 0 means that there are no groups for subnets
	RulesPerDirection  int // quota of an instance group, in each direction; 0 means none
	RulesPerGroup      int // quota of an instance group, both directions together; 0 means none
	SubnetRules        int // quota of a subnet group, in each direction; 0 means none
	SubnetGroups       bool

	// What one rule can hold.
	ManyPeers bool // several ranges, or several purposes of instances, in one rule
	ManyPorts bool // several runs of ports in one rule
	OwnLists  OwnLists

	// StateByRule: a rule may say that it keeps no state.
	StateByRule bool

	// NewLetsOut: a new group for instances lets everything out, until that rule is removed.
	NewLetsOut bool
	// BulkRules: several rules are added to a group in one request, all or none.
	BulkRules bool
	// OneFamily: a rule speaks of one address family; what refers to a group or list
	// takes a rule for each. ICMP is of IPv4, ICMPv6 of IPv6.
	OneFamily bool
	// LabelsApart: labels are put on a new group by a request of their own.
	LabelsApart bool
	// EntriesApart: entries are added to a list by one request, and taken from it by another.
	EntriesApart bool
	// GroupsInNetworks: a group belongs to a network, and its name is its own there.
	GroupsInNetworks bool

	// How it decides.
	Instances    Filter       // of instance groups
	Subnets      Filter       // of subnet groups; the zero value where there are none
	Layers       Layers       // how the two layers go together
	Nothing      Nothing      // what an interface without a group does
	GroupsAcross GroupsAcross // whose members a group peer can name
}

// A Filter says how the rules of one kind of group decide.
type Filter struct {
	FirstMatch bool // the rule of the lowest rank that fits decides; else all that admit add up
	Refuses    bool // rules may refuse
	State      State
	// Fixed are built-in rules behind all others, which can't be removed.
	Fixed []Fixed
	// Ranks are the lowest and the highest rank that a rule can have, where they are ranked.
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

// Layers says how the interface's layer and the subnet's go together.
type Layers string

// The ways.
const (
	BothMustAdmit  Layers = "both" // and within one subnet the subnet's layer is skipped
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
	PeeredNetworks GroupsAcross = "peered" // also of networks peered both ways, in any account
	WholeCloud     GroupsAcross = "cloud"
)

// OwnLists says what becomes of an own prefix list in a dialect.
type OwnLists string

// What becomes of own lists.
const (
	ListsExpanded   OwnLists = "expanded" // there are none: their entries stand in the rules
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
