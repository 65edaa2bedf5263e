package compile

import (
	"net/netip"
	"testing"

	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
)

func TestCost(t *testing.T) {
	union, _ := dialect.Lookup("union")
	network := &estate.Network{Ranges: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"),
		netip.MustParsePrefix("fd00::/8")}}
	g := &estate.Group{Defined: true, Network: network, Account: &estate.Account{Limits: map[string]int{}}}
	roomy := &estate.List{Capacity: 10, Entries: make([]estate.Entry, 3)}
	tight := &estate.List{Entries: make([]estate.Entry, 3)}
	ssh, https := service.Ports(service.TCP, 22, 22), service.Ports(service.TCP, 443, 443)
	for _, x := range []struct {
		services []service.Spec
		peers    []estate.Peer
		want     int
	}{
		{[]service.Spec{ssh}, []estate.Peer{{Kind: estate.PeerEveryone}}, 2},
		{[]service.Spec{ssh}, []estate.Peer{{Kind: estate.PeerEveryone, V6Only: true}}, 1},
		{[]service.Spec{ssh, https}, []estate.Peer{{Kind: estate.PeerGroup}, {Kind: estate.PeerSelf}}, 4},
		// one run
		{[]service.Spec{ssh, service.Ports(service.TCP, 23, 30)}, []estate.Peer{{Kind: estate.PeerRange}}, 1},
		{[]service.Spec{ssh}, []estate.Peer{{Kind: estate.PeerList, List: roomy}}, 10},
		{[]service.Spec{ssh}, []estate.Peer{{Kind: estate.PeerList, List: tight}}, 3},
		{[]service.Spec{ssh}, []estate.Peer{{Kind: estate.PeerNetwork}}, 2},
		{[]service.Spec{ssh}, []estate.Peer{{Kind: estate.PeerSubnet, Subnet: &estate.Subnet{}}}, 1},
	} {
		r := estate.Rule{Direction: estate.In, Services: x.services, Peers: x.peers}
		if got := Cost(union, g, &r); got != x.want {
			t.Errorf("%v: %d, want %d", r.Sentence(service.Names{}), got, x.want)
		}
		g.Rules = append(g.Rules, r)
	}
	// A ranked cloud holds several ranges, and several runs of ports, in one rule; own lists are expanded.
	ranked, _ := dialect.Lookup("ranked")
	r := estate.Rule{Services: []service.Spec{ssh, https, service.Ports(service.UDP, 53, 53)},
		Peers: []estate.Peer{{Kind: estate.PeerEveryone}, {Kind: estate.PeerList, List: tight},
			{Kind: estate.PeerGroup}}}
	if got := Cost(ranked, g, &r); got != 4 { // two protocols, with ranges and with purposes
		t.Errorf("ranked: %d", got)
	}
	// what refers to groups and lists is said for both families
	if flat, _ := dialect.Lookup("flat"); Cost(flat, g, &r) != 18 {
		t.Errorf("flat: %d", Cost(flat, g, &r))
	}
	if got := GroupCost(union, g, estate.In); got != 24 {
		t.Errorf("the group costs %d", got)
	}
	if got := GroupCost(union, g, estate.Out); got != 0 {
		t.Errorf("outward the group costs %d", got)
	}
	if QuotaOf(union, g) != (Quota{Direction: 64}) {
		t.Error("the quota is not the dialect's")
	}
	g.Account.Limits[dialect.LimitRulesPerDirection] = 120
	if q := QuotaOf(union, g); q.Direction != 120 || q.Over(120, 3) || !q.Over(0, 121) {
		t.Error("the account's limit does not count")
	}
}

// A surveyed rule costs what it is there, wherever it is counted: two ports are two
// rules of a cloud that has one run of ports in a rule, next to each other or not.
func TestCostOfWhatIsThere(t *testing.T) {
	everyone := []estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix("0.0.0.0/0")}}
	two := []service.Spec{service.Ports(service.TCP, 22, 22), service.Ports(service.TCP, 23, 23)}
	for name, want := range map[string]int{"union": 100, "ranked": 50, "layered": 100, "flat": 100} {
		d, _ := dialect.Lookup(name)
		g := &estate.Group{Account: &estate.Account{}, For: estate.ForInstances}
		for range 50 {
			g.Rules = append(g.Rules, estate.Rule{Direction: estate.In, Services: two, Peers: everyone})
		}
		sum := 0
		for i := range g.Rules {
			sum += Cost(d, g, &g.Rules[i])
		}
		if got := GroupCost(d, g, estate.In); got != want || sum != want {
			t.Errorf("%s: the group costs %d, its rules %d, want %d", name, got, sum, want)
		}
		g.Defined = true // as a definition the two are one run
		if got := GroupCost(d, g, estate.In); got != 50 {
			t.Errorf("%s: defined, it costs %d", name, got)
		}
	}
}
