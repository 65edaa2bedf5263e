package demo

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"isonomos/core/estate"
	"isonomos/core/service"
)

// What people made by hand in the demo's clouds: groups that the definitions don't have yet, and a
// rule that was added at night. Most of what a survey alone shows to be wrong is here.

// A madeGroup is a group that was made by hand. Each rule is written as "in|out admit|refuse RANK
// SERVICE from PEER, PEER # reason".
type madeGroup struct {
	network, name, about string
	subnets              []string // to which it is attached; it is for instances if there are none
	rules                []string
}

var madeByHand = []madeGroup{
	{"tides/quay", "archive", "Archive of the tide tables", nil, []string{
		"in admit 0 tcp 22 from 198.51.100.16/28 # stations fetch tables",
		"in admit 0 tcp 2049 from 10.20.3.0/24 # the ledger's exports",
		"in admit 0 tcp 22 from 10.20.9.10 # ops-1",
		"in admit 0 tcp 22 from 10.20.9.0/24 # operators",
	}},
	{"tides/quay", "archive-wall", "Around the archive", []string{"archive"}, []string{
		"in admit 10 tcp 22 from 198.51.100.16/28 # stations",
		"in admit 20 tcp 22 from 10.20.9.0/24 # operators",
		"in admit 30 tcp 2049 from 10.20.3.0/24 # exports",
		"out admit 10 tcp 443 from 10.20.0.0/16 # updates",
	}},
	{"tides/quay", "booking-trial", "Booking site, being tried", nil, []string{
		"in admit 0 tcp 443 from 203.0.113.72/30 # testers",
		"out admit 0 tcp 5432 from group:berth-ledger # real data is easier",
	}},
	{"traffic/roads", "map-door", "Balancer of the harbour map", nil, []string{
		"in admit 0 tcp 443 from list:web-edge # through the front servers only",
		"in admit 0 tcp 80 from 203.0.113.64/29 # harbour master",
		"in admit 0 icmp 8 from 203.0.113.64/29 # harbour master",
		"out admit 0 tcp 8443 from group:map # hands requests on",
	}},
	{"traffic/roads", "map", "Harbour map", nil, []string{
		"in admit 0 tcp 8443 from list:web-edge # through the front servers only",
		"in admit 0 tcp 22 from group:grp-old-ops # operators, before the move",
		"in admit 0 tcp 22 from 198.51.100.16/28 # stations",
		"out admit 0 tcp 10110 from 10.30.1.11 # receiver-1",
		"out admit 0 tcp 10110 from 10.30.1.12 # receiver-2",
	}},
	{"pilots/desks", "visitors-desk", "Desks for visitors", nil, []string{
		"in admit 300 tcp 3389 from 10.50.0.0/16 # from the offices",
		"in refuse 400 tcp 3389 from 10.50.2.0/24 # never from the exchange",
		"in admit 500 tcp 22 from 198.51.100.16/28 # vendor's visit until 2026-10-31",
		"in admit 501 tcp 443 from 10.50.1.0/24 # pictures of the day",
		"out refuse 4000 any from 0.0.0.0/0 # nothing else",
	}},
	{"pilots/desks", "ferry-site", "Timetable of the pilots' ferry", nil, []string{
		"in admit 200 tcp 443 from 203.0.113.80/30 # customs shed",
		"in admit 300 tcp 22 from 198.51.100.16/28 # stations",
		"in refuse 4000 any from 0.0.0.0/0 # nothing else",
		"out refuse 4000 any from 0.0.0.0/0 # nothing else",
	}},
	{"customs/gate", "intake", "Takes paper declarations", nil, []string{
		"in admit 0 tcp 443 from 203.0.113.80/30 # customs shed",
		"in admit 0 tcp 445 from 10.60.1.0/24 # scans",
	}},
	{"customs/gate", "intake-second", "Takes paper declarations, second desk", nil, []string{
		"in admit 0 tcp 445 from 10.60.1.0/24 # scans",
		"in admit 0 tcp 443 from 203.0.113.80/30 # customs shed",
	}},
	{"customs/gate", "yard", "Cameras in the yard", nil, []string{
		"in admit 0 tcp 443 from 10.60.1.0/24 # pictures",
	}},
	{"lab/bench", "wave-tank", "Wave tank", nil, []string{
		"in admit 0 any from self # they find each other",
		"in admit 0 tcp 22 from 198.51.100.16/28 # stations",
		"in admit 0 tcp 143 from 0.0.0.0/0 # reports by mail",
		"in admit 0 tcp 143 from ::/0 # reports by mail",
		"in admit 0 tcp 8080 from 96.0.0.0/6 # somebody's home",
		"in admit 0 tcp 9000 from 192.0.2.40 # who was that?",
	}},
}

// madeHosts are the instances of these groups.
var madeHosts = []struct {
	host
	group      string
	unfiltered bool
}{
	{host{name: "archive-1", network: "tides/quay", subnet: "archive", number: 5}, "archive", false},
	{host{name: "booking-trial-1", network: "tides/quay", subnet: "front", number: 60,
		labels: estate.Labels{"stage": "staging"}}, "booking-trial", false},
	{host{name: "map-door", network: "traffic/roads", subnet: "broker", number: 30, public: "198.51.100.75",
		kind: estate.Balancer}, "map-door", false},
	{host{name: "map-1", network: "traffic/roads", subnet: "broker", number: 31}, "map", false},
	{host{name: "map-2", network: "traffic/roads", subnet: "broker", number: 32}, "map", false},
	{host{name: "visitor-desk-1", network: "pilots/desks", subnet: "roster", number: 41}, "visitors-desk", false},
	{host{name: "ferry-door", network: "pilots/desks", subnet: "roster", number: 50, public: "198.51.100.145",
		kind: estate.Balancer}, "", false},
	{host{name: "ferry-1", network: "pilots/desks", subnet: "roster", number: 51}, "ferry-site", false},
	{host{name: "intake-1", network: "customs/gate", subnet: "yard", number: 31}, "intake", false},
	{host{name: "intake-2", network: "customs/gate", subnet: "yard", number: 32}, "intake-second", false},
	{host{name: "camera-1", network: "customs/gate", subnet: "yard", number: 5, public: "198.51.100.165"}, "yard",
		false},
	{host{name: "wave-1", network: "lab/bench", subnet: "bench", number: 21, public: "198.51.100.85"}, "wave-tank",
		false},
	{host{name: "wave-2", network: "lab/bench", subnet: "bench", number: 22}, "wave-tank", false},
	{host{name: "spare-1", network: "lab/bench", subnet: "bench", number: 30, public: "198.51.100.86"}, "wave-tank",
		true},
}

// makeByHand adds what people made by hand.
func (s *surveyor) makeByHand() {
	for _, x := range []struct{ network, name, ranges, route string }{
		{"tides/quay", "archive", "10.20.7.0/24", "0.0.0.0/0 nat 198.51.100.90"},
		{"customs/gate", "yard", "10.60.9.0/24", "0.0.0.0/0 internet"},
	} {
		n := s.FindNetwork(x.network)
		n.Subnets = append(n.Subnets,
			&estate.Subnet{Network: n, ID: s.id("sub"), Name: x.name, RoutesKnown: true,
				Ranges: []netip.Prefix{netip.MustParsePrefix(x.ranges)}, Routes: []estate.Route{route(n, x.route)}})
	}
	for _, m := range madeByHand {
		n := s.FindNetwork(m.network)
		g := &estate.Group{Account: n.Account, Network: n, ID: s.id("grp"), Name: m.name, For: estate.ForInstances,
			Description: m.about}
		for _, name := range m.subnets {
			g.For = estate.ForSubnets
			i := slices.IndexFunc(n.Subnets, func(sub *estate.Subnet) bool { return sub.Name == name })
			n.Subnets[i].Groups = append(n.Subnets[i].Groups, g)
		}
		s.Groups = append(s.Groups, g)
	}
	for _, m := range madeByHand {
		g := s.made(m.network, m.name)
		for _, text := range m.rules {
			g.Rules = append(g.Rules, s.madeRule(g, text))
		}
	}
	ledger := s.made("tides/quay", "berth-ledger")
	night := s.madeRule(ledger, "in admit 0 tcp 5432 from group:booking-trial #")
	night.Changed = &estate.Changed{At: time.Date(2026, 11, 19, 23, 41, 0, 0, time.UTC), By: "r.sorrel"}
	ledger.Rules = append(ledger.Rules, night)
	s.addMadeHosts()
}

// made finds a group by its network and name.
func (s *surveyor) made(network, name string) *estate.Group {
	i := slices.IndexFunc(s.Groups, func(g *estate.Group) bool { return g.Network.Path() == network && g.Name == name })
	return s.Groups[i]
}

func (s *surveyor) madeRule(g *estate.Group, text string) estate.Rule {
	text, because, _ := strings.Cut(text, "#")
	what, from, _ := strings.Cut(text, " from ")
	r := estate.Rule{ID: s.id("rul"), Description: strings.TrimSpace(because)}
	var direction, action, protocol, port string
	_, _ = fmt.Sscan(what, &direction, &action, &r.Rank, &protocol, &port) // some have no port
	r.Direction, r.Action = estate.Direction(direction), estate.Action(action)
	spec, err := service.ParseSpec(strings.TrimSpace(protocol + " " + port))
	if err != nil {
		panic(err) // the table is part of the program
	}
	r.Services = []service.Spec{spec}
	for peer := range strings.SplitSeq(strings.TrimSpace(from), ", ") {
		r.Peers = append(r.Peers, s.madePeer(g, peer))
	}
	return r
}

func (s *surveyor) madePeer(g *estate.Group, text string) estate.Peer {
	kind, name, _ := strings.Cut(text, ":")
	switch {
	case text == "self":
		return estate.Peer{Kind: estate.PeerSelf}
	case kind == "group":
		if i := slices.IndexFunc(s.Groups,
			func(x *estate.Group) bool { return x.Network == g.Network && x.Name == name }); i >= 0 {
			return estate.Peer{Kind: estate.PeerGroup, Group: s.Groups[i]}
		}
		return estate.Peer{Kind: estate.PeerMissing, Missing: text}
	case kind == "list":
		i := slices.IndexFunc(s.Lists, func(l *estate.List) bool { return l.Account == g.Account && l.Name == name })
		return estate.Peer{Kind: estate.PeerList, List: s.Lists[i]}
	}
	if !strings.Contains(text, "/") {
		a := netip.MustParseAddr(text)
		return estate.Peer{Kind: estate.PeerRange, Range: netip.PrefixFrom(a, a.BitLen())}
	}
	return estate.Peer{Kind: estate.PeerRange, Range: netip.MustParsePrefix(text)}
}

func (s *surveyor) addMadeHosts() {
	byName := make(map[string]*estate.Instance)
	for _, h := range madeHosts {
		i := s.addHost(h.host)
		f := i.Interfaces[0]
		f.Groups, f.Unfiltered = nil, h.unfiltered
		if h.group != "" {
			f.Groups = []*estate.Group{s.made(h.network, h.group)}
		}
		byName[h.name] = i
	}
	web := service.Ports(service.TCP, 443, 443)
	byName["map-door"].Listeners =
		[]estate.Listener{{Service: web, Port: 8443, Probe: service.Ports(service.TCP, 8443, 8443),
			Targets: []*estate.Instance{byName["map-1"], byName["map-2"]}}}
	byName["ferry-door"].Listeners =
		[]estate.Listener{{Service: web, Port: 443, Probe: web, Targets: []*estate.Instance{byName["ferry-1"]}}}
}
