package demo

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"isonomos/core/compile"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
)

// A host is one instance of the demo estate.
type host struct {
	name, network, subnet string
	number                byte   // the last byte of its private addresses
	public, public6       string // may be empty
	labels                estate.Labels
	kind                  estate.InstanceKind
}

func role(r string) estate.Labels { return estate.Labels{"role": r} }

var hosts = []host{
	{name: "front-door", network: "tides/quay", subnet: "front", number: 4, public: "198.51.100.40",
		labels: role("front-door"), kind: estate.Balancer},
	{name: "booking-1", network: "tides/quay", subnet: "front", number: 7, labels: role("booking")},
	{name: "booking-2", network: "tides/quay", subnet: "front", number: 8, labels: role("booking")},
	{name: "booking-3", network: "tides/quay", subnet: "front", number: 9, labels: role("booking")},
	{name: "ledger-1", network: "tides/quay", subnet: "ledger", number: 5, public6: "2001:db8:20:3::5",
		labels: role("ledger")},
	{name: "ledger-2", network: "tides/quay", subnet: "ledger", number: 6, public6: "2001:db8:20:3::6",
		labels: role("ledger")},
	{name: "copy-1", network: "tides/quay", subnet: "ledger", number: 20, labels: role("copy")},
	{name: "gauge-1", network: "tides/quay", subnet: "sensors", number: 11, labels: role("gauge")},
	{name: "gauge-2", network: "tides/quay", subnet: "sensors", number: 12, labels: role("gauge")},
	{name: "gauge-3", network: "tides/quay", subnet: "sensors", number: 13, public: "198.51.100.41",
		labels: estate.Labels{"role": "gauge", "maintenance": "vendor"}},
	{name: "gauge-4", network: "tides/quay", subnet: "sensors", number: 14, labels: role("gauge")},
	{name: "gauge-5", network: "tides/quay", subnet: "sensors", number: 15, labels: role("gauge")},
	{name: "gauge-6", network: "tides/quay", subnet: "sensors", number: 16, labels: role("gauge")},
	{name: "gauge-7", network: "tides/quay", subnet: "sensors", number: 17, public: "198.51.100.52",
		labels: estate.Labels{"role": "gauge", "maintenance": "vendor"}},
	{name: "gauge-8", network: "tides/quay", subnet: "sensors", number: 18, labels: role("gauge")},
	{name: "collector-1", network: "tides/quay", subnet: "sensors", number: 30, labels: role("collector")},
	{name: "ops-1", network: "tides/quay", subnet: "ops", number: 10, public: "198.51.100.60",
		labels: role("operator")},
	{name: "ops-2", network: "tides/quay", subnet: "ops", number: 11, public: "198.51.100.62",
		labels: role("operator")},
	{name: "desk-1", network: "tides/quay", subnet: "ops", number: 40, public: "198.51.100.61", labels: role("desk")},

	{name: "receiver-1", network: "traffic/roads", subnet: "receivers", number: 11, public: "198.51.100.71",
		labels: role("receiver")},
	{name: "receiver-2", network: "traffic/roads", subnet: "receivers", number: 12, public: "198.51.100.72",
		labels: role("receiver")},
	{name: "receiver-3", network: "traffic/roads", subnet: "receivers", number: 13, public: "198.51.100.74",
		labels: role("receiver")},
	{name: "broker-1", network: "traffic/roads", subnet: "broker", number: 5, public: "198.51.100.73",
		labels: role("broker")},
	{name: "broker-2", network: "traffic/roads", subnet: "broker", number: 6, labels: role("broker")},
	{name: "radar-1", network: "traffic/roads", subnet: "radar", number: 11, labels: role("radar")},
	{name: "radar-2", network: "traffic/roads", subnet: "radar", number: 12, labels: role("radar")},
	{name: "tracks-1", network: "traffic/roads", subnet: "broker", number: 20, public: "198.51.100.70",
		labels: role("tracks")},

	{name: "roster-door", network: "pilots/desks", subnet: "roster", number: 4, public: "198.51.100.140",
		labels: role("roster-door"), kind: estate.Balancer},
	{name: "roster-1", network: "pilots/desks", subnet: "roster", number: 11, labels: role("roster-site")},
	{name: "roster-2", network: "pilots/desks", subnet: "roster", number: 12, labels: role("roster-site")},
	{name: "roster-db-1", network: "pilots/desks", subnet: "roster", number: 20, labels: role("roster-db")},
	{name: "pilot-desk-1", network: "pilots/desks", subnet: "office", number: 11, labels: role("desk")},
	{name: "pilot-desk-2", network: "pilots/desks", subnet: "office", number: 12, public: "198.51.100.142",
		labels: role("desk")},
	{name: "exchange-1", network: "pilots/desks", subnet: "exchange", number: 11, public: "198.51.100.143",
		labels: role("exchange")},
	{name: "logs-1", network: "pilots/desks", subnet: "roster", number: 30, labels: role("logs")},

	{name: "trial-roster-1", network: "pilots-trial/trial", subnet: "roster", number: 11, public: "198.51.100.150",
		labels: role("roster-site")},
	{name: "trial-roster-db-1", network: "pilots-trial/trial", subnet: "roster", number: 20, labels: role("roster-db")},
	{name: "trial-desk-1", network: "pilots-trial/trial", subnet: "office", number: 11, labels: role("desk")},
	{name: "trial-logs-1", network: "pilots-trial/trial", subnet: "roster", number: 30, labels: role("logs")},

	{name: "gate-door", network: "customs/gate", subnet: "front", number: 4, public: "198.51.100.160",
		labels: role("gate-door"), kind: estate.Balancer},
	{name: "gateway-1", network: "customs/gate", subnet: "front", number: 11, labels: role("gateway")},
	{name: "gateway-2", network: "customs/gate", subnet: "front", number: 12, labels: role("gateway")},
	{name: "documents-1", network: "customs/gate", subnet: "store", number: 11, labels: role("documents")},

	{name: "rig-1", network: "lab/bench", subnet: "bench", number: 5, public: "198.51.100.80", labels: role("rig")},
	{name: "rig-2", network: "lab/bench", subnet: "bench", number: 6, labels: role("rig")},
}

// routes are the routes of the demo's subnets, apart from those to peers.
var routes = map[string][]string{
	"tides/quay/front":            {"0.0.0.0/0 internet", "::/0 internet", "10.30.0.0/16 peer", "fd20:77a::/48 peer"},
	"tides/quay/sensors":          {"0.0.0.0/0 internet", "10.30.0.0/16 peer"},
	"tides/quay/ledger":           {"0.0.0.0/0 nat 198.51.100.90", "::/0 internet"},
	"tides/quay/ops":              {"0.0.0.0/0 internet", "10.30.0.0/16 peer", "fd20:77a::/48 peer"},
	"traffic/roads/receivers":     {"0.0.0.0/0 internet", "10.20.0.0/16 peer", "fd20:4c1::/48 peer"},
	"traffic/roads/radar":         {"0.0.0.0/0 nat", "10.20.0.0/16 peer"},
	"traffic/roads/broker":        {"0.0.0.0/0 internet", "10.20.0.0/16 peer", "fd20:4c1::/48 peer"},
	"pilots/desks/office":         {"0.0.0.0/0 internet"},
	"pilots/desks/exchange":       {"0.0.0.0/0 internet"},
	"pilots/desks/roster":         {"0.0.0.0/0 internet"},
	"pilots-trial/trial/office":   {"0.0.0.0/0 nat 198.51.100.151"},
	"pilots-trial/trial/exchange": {"0.0.0.0/0 nat 198.51.100.151"},
	"pilots-trial/trial/roster":   {"0.0.0.0/0 internet"},
	"customs/gate/front":          {"0.0.0.0/0 internet"},
	"customs/gate/store":          {"0.0.0.0/0 nat"},
	"lab/bench/bench":             {"0.0.0.0/0 internet"},
}

// Survey is what the demo's clouds contain: the definitions, carried out; instances, routes, the
// default group of each network, and what people made by hand.
func Survey() (*estate.Estate, error) {
	d, err := definitions()
	if err != nil {
		return nil, err
	}
	s := surveyor{Estate: *d.Estate, ids: make(map[string]int)}
	s.Taken = Taken
	for _, n := range s.Networks {
		n.ID = s.id("net")
		for _, sub := range n.Subnets {
			sub.ID, sub.RoutesKnown = s.id("sub"), true
			for _, text := range routes[sub.Path()] {
				sub.Routes = append(sub.Routes, route(n, text))
			}
		}
	}
	s.publish()
	s.addHosts()
	if err := s.carryOut(); err != nil {
		return nil, err
	}
	for _, n := range s.Networks {
		if n.Account.Cloud.Dialect != "union" {
			continue // the other clouds have no default group for instances
		}
		g := &estate.Group{Account: n.Account, Network: n, ID: s.id("grp"), Name: "default", For: estate.ForInstances,
			Description: "default group of the network", BuiltIn: true, Default: true}
		g.Rules = []estate.Rule{
			{ID: s.id("rul"), Direction: estate.In, Action: estate.Admit,
				Peers: []estate.Peer{{Kind: estate.PeerSelf}}, Services: []service.Spec{service.Anything}},
			{ID: s.id("rul"), Direction: estate.Out, Action: estate.Admit,
				Peers: []estate.Peer{{Kind: estate.PeerEveryone}}, Services: []service.Spec{service.Anything}},
		}
		s.Groups = append(s.Groups, g)
	}
	s.makeByHand()
	return &s.Estate, nil
}

type surveyor struct {
	estate.Estate
	ids map[string]int
}

// id makes the next id of a kind: "grp-01".
func (s *surveyor) id(kind string) string {
	s.ids[kind]++
	return fmt.Sprintf("%s-%02d", kind, s.ids[kind])
}

func route(n *estate.Network, text string) estate.Route {
	var to, via, address string
	_, _ = fmt.Sscan(text, &to, &via, &address) // only some routes have an address
	r := estate.Route{To: netip.MustParsePrefix(to), Via: estate.Via(via)}
	if r.Via == estate.ViaPeer {
		r.Network = n.Peered[0]
	}
	if address != "" {
		r.Address = netip.MustParseAddr(address)
	}
	return r
}

// carryOut replaces the defined groups by compiled ones, with their lists in each account that uses
// them.
func (s *surveyor) carryOut() error {
	d := decide.New(&s.Estate)
	rules := make(map[*estate.Group][]estate.Rule)
	for _, g := range s.Groups {
		if g.Existing {
			continue
		}
		made, err := compile.Group(d, g)
		if err != nil {
			return fmt.Errorf("the demo estate's group %s: %w", g.Path(), err)
		}
		rules[g] = made.Group.Rules
	}
	defined := make(map[*estate.List]bool)
	for _, l := range s.Lists {
		defined[l] = l.Account == nil
	}
	s.Lists = slices.DeleteFunc(s.Lists, func(l *estate.List) bool { return l.Account == nil })
	own := make(map[string]*estate.List)
	for _, g := range s.Groups {
		if !g.Existing {
			g.Labels = s.marked(g.Labels)
		}
		g.ID, g.Name, g.Lends, g.Follows, g.Existing = s.id("grp"), g.InCloud(), nil, false, false
		g.Rules = rules[g]
		for i := range g.Rules {
			r := &g.Rules[i]
			r.ID = s.id("rul")
			for k, p := range r.Peers {
				if p.Kind == estate.PeerList && defined[p.List] {
					r.Peers[k].List = s.ownList(own, p.List, g.Account)
				}
			}
		}
	}
	for _, n := range s.Networks {
		for _, sub := range n.Subnets {
			for _, g := range sub.Groups {
				g.Defined = false
			}
		}
	}
	for _, g := range s.Groups {
		g.Defined = false
	}
	return nil
}

// marked are labels with the mark of what belongs to the estate.
func (s *surveyor) marked(labels estate.Labels) estate.Labels {
	marked := estate.Labels{estate.OwnLabel: s.Name}
	maps.Copy(marked, labels)
	return marked
}

// ownList is an own list as it stands in an account.
func (s *surveyor) ownList(own map[string]*estate.List, l *estate.List, a *estate.Account) *estate.List {
	key := a.Name + "/" + l.Name
	if own[key] == nil {
		copied := *l
		copied.Account, copied.ID, copied.Region, copied.Defined, copied.Labels = a, s.id("lst"), a.Region, false,
			s.marked(nil)
		own[key] = &copied
		s.Lists = append(s.Lists, &copied)
	}
	return own[key]
}

// publish adds the lists that the clouds' providers keep.
func (s *surveyor) publish() {
	names := map[string]string{"tides": "web-edge", "traffic": "web-edge", "customs": "edge-nodes"}
	for _, a := range s.Accounts {
		if name := names[a.Name]; name != "" {
			s.Lists = append(s.Lists,
				&estate.List{Account: a, ID: s.id("pub"), Name: name, Owner: "published", Region: a.Region,
					Capacity: 58, Entries: []estate.Entry{{Range: netip.MustParsePrefix("198.51.100.224/28")}}})
		}
	}
}

func (s *surveyor) addHosts() {
	byName := make(map[string]*estate.Instance)
	for _, h := range hosts {
		byName[h.name] = s.addHost(h)
	}
	hand := func(balancer string, port, probe uint16, targets ...string) {
		l := estate.Listener{Service: service.Ports(service.TCP, 443, 443), Port: port,
			Probe: service.Ports(service.TCP, probe, probe)}
		for _, t := range targets {
			l.Targets = append(l.Targets, byName[t])
		}
		byName[balancer].Listeners = []estate.Listener{l}
	}
	hand("front-door", 8443, 8443, "booking-1", "booking-2", "booking-3")
	hand("roster-door", 443, 443, "roster-1", "roster-2")
	// The planted mistake: gate-door probes another port than it serves, and nothing lets the
	// probes out.
	hand("gate-door", 443, 8443, "gateway-1", "gateway-2")
}

// addHost adds one instance, with the groups that cover it.
func (s *surveyor) addHost(h host) *estate.Instance {
	n := s.FindNetwork(h.network)
	i := &estate.Instance{Account: n.Account, ID: s.id("ins"), Name: h.name, Kind: h.kind, Labels: h.labels}
	if i.Kind == "" {
		i.Kind = estate.Machine
	}
	f := &estate.Interface{Instance: i, ID: s.id("if")}
	for _, sub := range n.Subnets {
		if sub.Name == h.subnet {
			f.Subnet = sub
		}
	}
	for _, r := range f.Subnet.Ranges {
		f.Private = append(f.Private, hostAddress(r, h.number))
	}
	for _, text := range []string{h.public, h.public6} {
		if text != "" {
			f.Public = append(f.Public, netip.MustParseAddr(text))
		}
	}
	i.Interfaces = []*estate.Interface{f}
	for _, g := range s.Groups {
		if g.Network == n && g.For == estate.ForInstances && g.CoversInterface(f) {
			f.Groups = append(f.Groups, g)
		}
	}
	s.Instances = append(s.Instances, i)
	return i
}

// hostAddress is the address in a subnet's range with the given last byte.
func hostAddress(r netip.Prefix, number byte) netip.Addr {
	b := r.Addr().AsSlice()
	b[len(b)-1] = number
	a, _ := netip.AddrFromSlice(b)
	return a
}
