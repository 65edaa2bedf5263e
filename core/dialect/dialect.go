// Package dialect describes what each kind of cloud can say, what it costs and
// what it has built in. A dialect is data: no other package asks which cloud it
// is dealing with.
package dialect

// A Dialect is one kind of cloud. Numbers are defaults; an account's limit overrides them.
type Dialect struct {
	Name  string
	About string // one line for people

	// Decided is false for a dialect that is described but that this version
	// does not decide yet: whoever meets it says so instead of guessing.
	Decided bool

	GroupsPerInterface int // quota; 0 means any number
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

	// DefaultGroupWorn: an interface without a group wears the network's default group.
	DefaultGroupWorn bool
	// GroupPeersReachPeered: a group peer may be of a network peered both ways, in any account.
	GroupPeersReachPeered bool
	// InstanceGroupsRefuse: rules of instance groups may refuse.
	InstanceGroupsRefuse bool
}

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
)

// Limits are the names of all quotas.
var Limits = []string{LimitRulesPerDirection, LimitRulesPerGroup, LimitSubnetRules, LimitGroupsPerInterface}

// All are the dialects, in the order in which the documentation shows them.
var All = []Dialect{
	{
		Name:                  "union",
		About:                 "groups admit and their rules add up; state is kept; subnets have numbered rules without state",
		Decided:               true,
		GroupsPerInterface:    5,
		RulesPerDirection:     60,
		SubnetRules:           20,
		SubnetGroups:          true,
		OwnLists:              ListsAsCapacity,
		DefaultGroupWorn:      true,
		GroupPeersReachPeered: true,
	},
	{
		Name:                 "ranked",
		About:                "one group on an interface, one on its subnet; rules have ranks and the first that fits decides",
		GroupsPerInterface:   1,
		RulesPerGroup:        1000,
		SubnetGroups:         true,
		ManyPeers:            true,
		ManyPorts:            true,
		OwnLists:             ListsExpanded,
		InstanceGroupsRefuse: true,
	},
	{
		Name:               "layered",
		About:              "an admission in any layer is enough; state is kept by rule",
		GroupsPerInterface: 5,
		RulesPerGroup:      120,
		SubnetRules:        100,
		SubnetGroups:       true,
		OwnLists:           ListsExpanded,
		StateByRule:        true,
	},
	{
		Name:     "flat",
		About:    "any number of groups on an interface, their rules add up; no subnet groups",
		OwnLists: ListsAsOne,
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
