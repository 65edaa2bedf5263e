package estate

import (
	"net/netip"
	"reflect"
	"strings"
	"testing"

	"isonomos/core/service"
)

func prefix(text string) netip.Prefix { return netip.MustParsePrefix(text) }

func test(label string, values ...string) Condition {
	return Condition{Kind: Test, Label: label, Values: values}
}

func unlike(label, value string) Condition {
	return Condition{Kind: Test, Label: label, Values: []string{value}, Negate: true}
}

func TestConditions(t *testing.T) {
	account := &Account{Name: "tides", Cloud: &Cloud{Name: "northmere"}, Region: "coast-1", Folder: "harbour/water",
		Labels: Labels{"stage": "production", "owner": "hydrography"}}
	network := &Network{Account: account, Name: "quay", Labels: Labels{"owner": "roads"}}
	subnet := &Subnet{Network: network, Name: "front", Labels: Labels{"zone": "a"}}
	instance := &Instance{Account: account, Name: "i", Kind: Machine, Labels: Labels{"role": "booking", "zone": "b"}}
	place := InterfacePlace(&Interface{Instance: instance, Subnet: subnet})
	for _, x := range []struct {
		condition Condition
		want      bool
	}{
		{test("role", "booking"), true},
		{test("role", "ledger", "booking"), true},
		{test("role", "ledger"), false},
		{test("zone", "b"), true},      // its own before the subnet's
		{test("owner", "roads"), true}, // the network's before the account's
		{test("stage", "production"), true},
		{test("absent", ""), false}, // an absent label equals nothing
		{unlike("absent", "x"), true},
		{unlike("role", "booking"), false},
		{test("account", "tides"), true},
		{test("cloud", "northmere"), true},
		{test("region", "coast-1"), true},
		{test("network", "quay"), true},
		{test("subnet", "front"), true},
		{test("kind", "machine"), true},
		{test("folder", "harbour"), true},
		{test("folder", "harbour/water"), true},
		{test("folder", "harb"), false},
		{unlike("folder", "harbour/lab"), true},
		{Condition{Kind: AllOf, Parts: []Condition{test("role", "booking"), test("zone", "b")}}, true},
		{Condition{Kind: AllOf, Parts: []Condition{test("role", "booking"), test("zone", "a")}}, false},
		{Condition{Kind: AnyOf, Parts: []Condition{test("role", "x"), test("zone", "b")}}, true},
		{Condition{Kind: Not, Parts: []Condition{test("role", "x")}}, true},
	} {
		if got := x.condition.Holds(place); got != x.want {
			t.Errorf("%+v: %v", x.condition, got)
		}
	}
	g := &Group{Account: account, Network: network, Name: "g", Labels: Labels{"tier": "front"}}
	for _, c := range []Condition{test("group", "g"), test("tier", "front"), test("stage", "production")} {
		if !c.Holds(GroupPlace(g)) {
			t.Errorf("%+v does not hold of the group", c)
		}
	}
}

func TestSentences(t *testing.T) {
	ssh, high := service.Ports(service.TCP, 22, 22), service.Ports(service.TCP, 8000, 8010)
	list := &List{Name: "pilots"}
	for _, x := range []struct {
		rule Rule
		want string
	}{
		{Rule{Action: Admit, Direction: In, Services: []service.Spec{ssh},
			Peers: []Peer{{Kind: PeerRange, Range: prefix("0.0.0.0/0")}, {Kind: PeerRange, Range: prefix("::/0")}}},
			"admit ssh from everyone"},
		{Rule{Action: Admit, Direction: In, Services: []service.Spec{ssh},
			Peers: []Peer{{Kind: PeerRange, Range: prefix("::/0")}}}, "admit ssh from everyone v6"},
		{Rule{Action: Admit, Direction: Out, Services: []service.Spec{service.Anything},
			Peers: []Peer{{Kind: PeerEveryone}}}, "reach any at everyone"},
		{Rule{Action: Refuse, Direction: Out, Services: []service.Spec{ssh, high},
			Peers: []Peer{{Kind: PeerList, List: list, V4Only: true}}}, "refuse ssh, tcp 8000-8010 at list pilots v4"},
		{Rule{Action: Refuse, Direction: In, Services: []service.Spec{ssh}, Peers: []Peer{{Kind: PeerSelf}},
			Except: []Peer{{Kind: PeerRange, Range: prefix("10.0.0.1/32")}}, Stateless: true},
			"refuse ssh from self except 10.0.0.1 stateless"},
		{Rule{Action: Admit, Direction: In, Words: []string{"desk"}, Services: []service.Spec{ssh},
			Peers: []Peer{{Kind: PeerProbes}, {Kind: PeerNetwork}, {Kind: PeerMissing, Missing: "group:grp-9"}}},
			"admit desk from probes, network, group grp-9 (not there)"},
		{Rule{Action: Admit, Direction: In, Services: []service.Spec{ssh},
			Peers: []Peer{{Kind: PeerSubnet, Subnet: &Subnet{Name: "front"}},
				{Kind: PeerGroup, Group: &Group{Name: "g"}}, {Kind: PeerEveryone, V4Only: true}}},
			"admit ssh from everyone v4, subnet front, group g"},
	} {
		if got := x.rule.Sentence(service.Names{}); got != x.want {
			t.Errorf("got %q, want %q", got, x.want)
		}
	}
}

// both makes a defined and a surveyed estate of the same account.
func both() (defined, surveyed *Estate) {
	make1 := func() (*Estate, *Network) {
		c := &Cloud{Name: "c", Dialect: "union"}
		a := &Account{Name: "a", Cloud: c, Labels: Labels{"stage": "production"}}
		n := &Network{Account: a, Name: "n", Ranges: []netip.Prefix{prefix("10.0.0.0/16")}}
		n.Subnets = []*Subnet{{Network: n, Name: "s"}}
		return &Estate{Clouds: []*Cloud{c}, Accounts: []*Account{a}, Networks: []*Network{n}}, n
	}
	defined, n := make1()
	defined.Name = "defined"
	l := &List{Name: "known", Defined: true, Owner: "own", Entries: []Entry{{Range: prefix("192.0.2.0/24")}}}
	db := &Group{Account: n.Account, Network: n, Name: "db", For: ForInstances, Defined: true,
		Covers: []Cover{{Instances: []string{"d1"}}}}
	where := test("role", "web")
	web := &Group{Account: n.Account, Network: n, Name: "web", CloudName: "web-in-cloud", For: ForInstances,
		Defined: true, Covers: []Cover{{Where: &where}}}
	web.Rules = []Rule{{Direction: Out, Action: Admit,
		Peers: []Peer{{Kind: PeerGroup, Group: db}, {Kind: PeerList, List: l}, {Kind: PeerNetwork, Network: n},
			{Kind: PeerSubnet, Subnet: n.Subnets[0]}}}}
	defined.Groups, defined.Lists = []*Group{db, web}, []*List{l}

	surveyed, m := make1()
	m.ID = "net-1"
	m.Subnets[0].RoutesKnown = true
	m.Subnets[0].Routes = []Route{{To: prefix("0.0.0.0/0"), Via: ViaInternet},
		{To: prefix("10.9.0.0/16"), Via: ViaPeer, Network: m}}
	old := &Group{Account: m.Account, Network: m, ID: "grp-1", Name: "web-in-cloud", For: ForInstances}
	other := &Group{Account: m.Account, Network: m, ID: "grp-2", Name: "by-hand", For: ForInstances,
		Rules: []Rule{{Direction: In, Action: Admit, Peers: []Peer{{Kind: PeerGroup, Group: old}}}}}
	theirs := &List{Account: m.Account, ID: "lst-1", Name: "known", Owner: "own"}
	published := &List{Account: m.Account, ID: "lst-2", Name: "edge", Owner: "published"}
	surveyed.Groups, surveyed.Lists = []*Group{old, other}, []*List{theirs, published}
	for name, role := range map[string]string{"w1": "web", "d1": "db"} {
		i := &Instance{Account: m.Account, ID: name, Name: name, Labels: Labels{"role": role}}
		i.Interfaces = []*Interface{{Instance: i, Subnet: m.Subnets[0], Groups: []*Group{old, other}}}
		surveyed.Instances = append(surveyed.Instances, i)
	}
	return defined, surveyed
}

func TestOverlay(t *testing.T) {
	defined, surveyed := both()
	e, rebase, notes := Overlay(defined, surveyed, nil)
	if len(notes) > 0 {
		t.Errorf("notes: %v", notes)
	}
	if len(e.Groups) != 3 || len(e.Lists) != 2 || len(e.Networks) != 1 || len(e.Accounts) != 1 || len(e.Clouds) != 1 {
		t.Fatalf("%d groups, %d lists, %d networks", len(e.Groups), len(e.Lists), len(e.Networks))
	}
	web, byHand := e.FindGroups("a/n/web")[0], e.FindGroups("by-hand")[0]
	if !web.Defined || web.ID != "grp-1" || byHand.Rules[0].Peers[0].Group != web {
		t.Errorf("the surveyed group is not replaced by the defined one everywhere: %+v", byHand.Rules[0])
	}
	for _, p := range web.Rules[0].Peers {
		ok := p.Kind == PeerGroup && p.Group == e.FindGroups("db")[0] || p.Kind == PeerList && p.List == e.Lists[0] ||
			p.Kind == PeerNetwork && p.Network == e.Networks[0] ||
			p.Kind == PeerSubnet && p.Subnet == e.Networks[0].Subnets[0]
		if !ok {
			t.Errorf("the peer %v points outside of the new estate", p)
		}
	}
	for _, i := range e.Instances {
		var attached []string
		for _, g := range i.Interfaces[0].Groups {
			attached = append(attached, g.Name)
		}
		want := map[string]string{"w1": "by-hand web", "d1": "by-hand db"}[i.Name]
		if got := strings.Join(attached, " "); got != want {
			t.Errorf("%s has %s, want %s", i.Name, got, want)
		}
		if i.Interfaces[0].Subnet != e.Networks[0].Subnets[0] || !i.Interfaces[0].Subnet.RoutesKnown {
			t.Errorf("%s is in a subnet outside of the new estate", i.Name)
		}
	}
	if e.Networks[0].Subnets[0].Routes[1].Network != e.Networks[0] {
		t.Error("a route leads outside of the new estate")
	}
	if moved := rebase([]Peer{{Kind: PeerGroup, Group: defined.Groups[1]}}); moved[0].Group != web {
		t.Error("rebase does not find the group")
	}
}

// The operands stay as they were, so that one survey serves for many definitions.
func TestOverlayLeavesItsOperandsAlone(t *testing.T) {
	defined, surveyed := both()
	wantDefined, wantSurveyed := both()
	Overlay(defined, surveyed, nil)
	for _, x := range []struct{ got, want *Estate }{{defined, wantDefined}, {surveyed, wantSurveyed}} {
		if len(x.got.Instances) > 0 && x.got.Instances[0].Name != x.want.Instances[0].Name {
			x.want.Instances[0], x.want.Instances[1] = x.want.Instances[1], x.want.Instances[0]
		}
		if !reflect.DeepEqual(x.got, x.want) {
			t.Errorf("an operand was changed: %+v", x.got)
		}
	}
}

func TestOverlayTellsWhatDoesNotFit(t *testing.T) {
	defined, surveyed := both()
	defined.Clouds[0].Dialect = "ranked"
	defined.Networks[0].Ranges = []netip.Prefix{prefix("10.7.0.0/16")}
	defined.Networks[0].Subnets =
		append(defined.Networks[0].Subnets, &Subnet{Network: defined.Networks[0], Name: "more"})
	defined.Networks = append(defined.Networks, &Network{Account: defined.Accounts[0], Name: "gone"})
	defined.Accounts = append(defined.Accounts, &Account{Name: "extra", Cloud: defined.Clouds[0]})
	_, _, notes := Overlay(defined, surveyed, nil)
	all := strings.Join(notes, "\n")
	for _, want := range []string{"the survey counts", "range 10.7.0.0/16", "subnet a/n/more", "network a/gone",
		"account extra"} {
		if !strings.Contains(all, want) {
			t.Errorf("nothing is said of %s:\n%s", want, all)
		}
	}
}

func TestImagine(t *testing.T) {
	defined, _ := both()
	n := defined.Networks[0]
	n.Subnets = []*Subnet{{Network: n, Name: "x", Ranges: []netip.Prefix{prefix("10.0.1.0/24"), prefix("fd00::/64")}},
		{Network: n, Name: "y", Ranges: []netip.Prefix{prefix("10.0.2.0/24")}}, {Network: n, Name: "bare"}}
	groups := defined.Imagine()
	if len(groups) != 2 || len(defined.Instances) != 4 {
		t.Fatalf("%d groups, %d instances", len(groups), len(defined.Instances))
	}
	seen := make(map[netip.Addr]bool)
	for _, i := range defined.Instances {
		for _, a := range i.Interfaces[0].Private {
			if seen[a] || !i.Imagined {
				t.Errorf("%s is given twice", a)
			}
			seen[a] = true
		}
	}
	if again := defined.Imagine(); len(again) != 0 {
		t.Error("members are made up for groups that have some")
	}
}

// A stage means the same wherever it is asked for, whatever word a label has for it.
func TestStages(t *testing.T) {
	for label, want := range map[string]string{"production": Production, "prod": Production, "live": Production,
		"qa": "test", "dev": "development", "odd": "odd", "": ""} {
		p := Place{Account: &Account{Labels: Labels{"stage": label}}}
		if got := p.Stage(); got != want {
			t.Errorf("stage = %s is %q, want %q", label, got, want)
		}
		if (p.StageRank() == len(Stages)-1) != (want == Production) {
			t.Errorf("stage = %s has rank %d", label, p.StageRank())
		}
	}
}
