package demo

import (
	"fmt"
	"math/rand/v2"
	"net/netip"

	"isonomos/core/estate"
	"isonomos/core/service"
)

// A Size says how large a generated estate should be.
type Size struct {
	Accounts, Groups, Instances, Rules int
	Seed                               uint64
	Clean                              bool // without mistakes
}

// A Planted mistake was put into a generated estate on purpose.
type Planted struct {
	Check   string `json:"check"`   // the check that finds it
	Account string `json:"account"` // where it is
	Group   string `json:"group"`   // the group's full name; empty if it is about no group
	Rule    string `json:"rule"`    // the id of the rule; empty if it is about no single one
	About   string `json:"about"`
}

// MayBeOpen is a law for generated estates: what their doors let in from everyone is meant to be
// open.
const MayBeOpen = `law may-be-open "What may be open to the internet" {
  only     admit https from internet
  severity high
  control  "SOC 2 CC6.6", "PCI DSS 1"
}
`

// Generate makes an estate of about the given size, in the proportions of a real one, with planted
// mistakes. It contains no other grave mistakes. The same size and seed make the same estate. The
// built-in groups of clouds come on top of the given number.
func Generate(size Size) (*estate.Estate, []Planted) {
	g := &generator{Estate: estate.Estate{Name: "generated", Taken: Taken},
		rand: rand.New(rand.NewPCG(size.Seed, 0x15_0401)), size: size, ids: make(map[string]int)}
	for _, c := range generatedClouds {
		g.Clouds = append(g.Clouds, &estate.Cloud{Name: c.name, Dialect: c.dialect})
	}
	for i := range max(1, size.Accounts) {
		g.account(i)
	}
	if !size.Clean {
		g.plant()
	}
	return &g.Estate, g.planted
}

var generatedClouds = []struct {
	name, dialect string
	share         int // of a hundred accounts
}{{"northmere", "union", 45}, {"easthold", "ranked", 25}, {"westing", "layered", 15}, {"southfleet", "flat", 15}}

var generatedStages = []struct {
	name  string
	share int
}{{"production", 40}, {"staging", 20}, {"test", 15}, {"lab", 25}}

var purposes = []string{"tides", "berths", "locks", "pilots", "buoys", "cranes", "tugs", "quays", "ferries",
	"customs", "radar", "weather", "dredging", "mooring", "signals", "ledgers"}

type generator struct {
	estate.Estate
	rand    *rand.Rand
	size    Size
	ids     map[string]int
	public  int // number of public IPv4 addresses given out
	rules   int
	homes   []*home
	planted []Planted
}

// A home is a network and what is in it.
type home struct {
	account *estate.Account
	network *estate.Network
	subnets [3]*estate.Subnet // front (internet), inner (nat), data (nat)
	hosts   [3]int            // number of addresses given out
	groups  []*estate.Group   // those in which mistakes can be planted
	lists   []*estate.List
	base    *estate.Group // attached to all instances beside their own; nil in clouds of one group for each interface
}

func (g *generator) id(kind string) string {
	g.ids[kind]++
	return fmt.Sprintf("%s-%07d", kind, g.ids[kind])
}

func pick[T any](r *rand.Rand, from []T) T { return from[r.IntN(len(from))] }

// account makes an account with its share of everything.
func (g *generator) account(i int) {
	cloud := g.Clouds[0]
	for k, left := 0, i*37%100; k < len(generatedClouds); k++ { // every hundred accounts have exactly these shares
		if left < generatedClouds[k].share {
			cloud = g.Clouds[k]
			break
		}
		left -= generatedClouds[k].share
	}
	stage := ""
	for k, left := 0, g.rand.IntN(100); stage == ""; k++ {
		if left < generatedStages[k].share {
			stage = generatedStages[k].name
		}
		left -= generatedStages[k].share
	}
	purpose := purposes[i%len(purposes)]
	a := &estate.Account{Name: fmt.Sprintf("%s-%04d", purpose, i+1), Cloud: cloud,
		ID: fmt.Sprintf("%04d-%04d", i/10000+1000, i%10000), Region: fmt.Sprintf("coast-%d", i%4+1),
		Folder: fmt.Sprintf("harbour/%s/%s", purpose, stage), Labels: estate.Labels{"stage": stage, "owner": purpose}}
	g.Accounts = append(g.Accounts, a)
	accounts := max(1, g.size.Accounts)
	share := func(n int) int { return n*(i+1)/accounts - n*i/accounts }
	groups, instances := share(g.size.Groups), share(g.size.Instances)
	const perNetwork = 400 // groups
	for first := true; groups > 0 || first; first = false {
		here := min(groups, perNetwork)
		hosts := 0
		if groups > 0 {
			hosts = instances * here / groups
		}
		g.home(a, here, hosts)
		groups, instances = groups-here, instances-hosts
	}
}

// home makes a network with its subnets, lists, groups and instances.
func (g *generator) home(a *estate.Account, groups, instances int) {
	k := len(g.homes)
	n := &estate.Network{Account: a, ID: g.id("net"),
		Name: pick(g.rand, []string{"quay", "roads", "basin", "dock", "slip"}) + fmt.Sprint(len(a.Name)+k%3)}
	n.Ranges = []netip.Prefix{netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(k % 250), 0, 0}), 16)}
	g.Networks = append(g.Networks, n)
	h := &home{account: a, network: n}
	g.homes = append(g.homes, h)
	for i, name := range []string{"front", "inner", "data"} {
		via := estate.ViaNAT
		if i == 0 {
			via = estate.ViaInternet
		}
		s := &estate.Subnet{Network: n, ID: g.id("sub"), Name: name, RoutesKnown: true,
			Ranges: []netip.Prefix{netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(k % 250), byte(64 * i), 0}), 18)}}
		s.Routes = []estate.Route{{To: netip.MustParsePrefix("0.0.0.0/0"), Via: via},
			{To: netip.MustParsePrefix("::/0"), Via: via}}
		n.Subnets = append(n.Subnets, s)
		h.subnets[i] = s
	}
	for i := range 2 {
		l := &estate.List{Account: a, ID: g.id("lst"), Name: []string{"offices", "partners"}[i], Owner: "own",
			Region: a.Region, Capacity: 4,
			Description: []string{"outgoing addresses of the offices", "receivers of neighbouring ports"}[i]}
		for range 2 {
			l.Entries = append(l.Entries, estate.Entry{Range: g.stranger()})
		}
		g.Lists = append(g.Lists, l)
		h.lists = append(h.lists, l)
	}
	g.builtIn(h)
	g.applications(h, groups, instances)
}

// stranger is a small public range of somebody outside.
func (g *generator) stranger() netip.Prefix {
	return netip.PrefixFrom(netip.AddrFrom4([4]byte{203, 0, 113, byte(g.rand.IntN(64) * 4)}), 30)
}

// firstRank is the rank of a group's first rule. Mistakes are planted before it.
const firstRank = 200

// rule adds a rule to a group, in clouds with ranks 50 after the last one.
func (g *generator) rule(to *estate.Group, direction estate.Direction, action estate.Action, services []service.Spec,
	peers []estate.Peer, because string) *estate.Rule {
	g.rules++
	r := estate.Rule{ID: g.id("rul"), Direction: direction, Action: action, Services: services, Peers: peers,
		Description: because}
	if d := to.Account.Cloud.Dialect; d == "ranked" || d == "union" && to.For == estate.ForSubnets {
		r.Rank = firstRank + 50*len(to.Rules)
	}
	to.Rules = append(to.Rules, r)
	return &to.Rules[len(to.Rules)-1]
}

func (g *generator) group(h *home, name, about string) *estate.Group {
	made := &estate.Group{Account: h.account, Network: h.network, ID: g.id("grp"), Name: name,
		For: estate.ForInstances, Description: about}
	if h.account.Cloud.Dialect == "flat" {
		made.Network = nil
	}
	g.Groups = append(g.Groups, made)
	return made
}

// builtIn makes the groups that clouds create themselves, without their usual faults.
func (g *generator) builtIn(h *home) {
	switch h.account.Cloud.Dialect {
	case "union", "flat":
		d := g.group(h, "default", "default group, emptied")
		d.BuiltIn, d.Default = true, true
	case "layered":
		for _, s := range h.subnets {
			wall := g.group(h, "wall-"+s.Name, "at the subnet "+s.Name)
			wall.For = estate.ForSubnets
			g.rule(wall, estate.In, estate.Admit, []service.Spec{service.ICMPType(service.ICMP, 3)},
				ranges(h.network.Ranges...), "too large packets are told of")
			s.Groups = append(s.Groups, wall)
		}
	}
	if h.account.Cloud.Dialect == "union" {
		wall := g.group(h, "wall-data", "at the subnet data")
		wall.For = estate.ForSubnets
		g.rule(wall, estate.In, estate.Admit, anything, ranges(h.network.Ranges[0]), "from the network")
		g.rule(wall, estate.Out, estate.Admit, anything, ranges(h.network.Ranges[0]), "to the network")
		h.subnets[2].Groups = append(h.subnets[2].Groups, wall)
	}
}

var (
	anything  = []service.Spec{service.Anything}
	everybody = ranges(netip.MustParsePrefix("0.0.0.0/0"), netip.MustParsePrefix("::/0"))
)

func tcp(port uint16) []service.Spec { return []service.Spec{service.Ports(service.TCP, port, port)} }

func ranges(prefixes ...netip.Prefix) []estate.Peer {
	peers := make([]estate.Peer, len(prefixes))
	for i, p := range prefixes {
		peers[i] = estate.Peer{Kind: estate.PeerRange, Range: p}
	}
	return peers
}

func of(other *estate.Group) []estate.Peer {
	return []estate.Peer{{Kind: estate.PeerGroup, Group: other}}
}

func list(l *estate.List) []estate.Peer { return []estate.Peer{{Kind: estate.PeerList, List: l}} }

// A tier is one part of an application.
type tier struct {
	name, about string
	subnet      int
	port        uint16
}

var tiers = []tier{
	{"door", "takes the public's requests", 0, 443},
	{"site", "answers requests", 1, 8443},
	{"worker", "works in the background", 1, 20400},
	{"cache", "keeps sessions", 1, 6379},
	{"store", "database", 2, 5432},
}

// applications fills a home with applications of five tiers: their groups and instances.
func (g *generator) applications(h *home, groups, instances int) {
	if groups > 1 && h.account.Cloud.Dialect != "ranked" { // in ranked clouds an interface can only have one group
		h.base = g.group(h, "base", "what every machine needs")
		g.say(h.base, h, 443, h.lists[1], "updates")
		groups--
	}
	var ops *estate.Group
	if groups > 0 {
		ops = g.group(h, "operators", "hosts that operators work from")
		groups--
	}
	made := make([]*estate.Group, 0, groups)
	for i := range groups {
		t := tiers[i%len(tiers)]
		made = append(made, g.group(h,
			fmt.Sprintf("%s-%d-%s", purposes[i/len(tiers)%len(purposes)], i/len(tiers)+1, t.name), t.about))
	}
	left := g.size.Rules*len(g.homes)/max(1, g.homesWanted()) - g.rules
	all := len(made)
	if ops != nil {
		g.say(ops, h, 22, h.lists[0], "operators log in")
		g.letOut(ops, h, tcp(22), ranges(h.network.Ranges...), "upkeep")
		g.close(ops, h)
	}
	if h.base != nil {
		g.close(h.base, h)
	}
	for i, to := range made {
		first := i / len(tiers) * len(tiers)
		g.purpose(h, to, made[first:min(first+len(tiers), all)], i%len(tiers), ops)
		budget := max(0, left/max(1, all)-len(to.Rules)-1)
		g.fill(h, to, made, g.rand.IntN(2*budget+1))
		g.close(to, h)
	}
	h.groups = made
	g.hosts(h, made, ops, instances)
}

// homesWanted is the number of homes there will be.
func (g *generator) homesWanted() int {
	perAccount := (g.size.Groups/max(1, g.size.Accounts) + 399) / 400
	return max(1, g.size.Accounts) * max(1, perAccount)
}

// say admits a service from a list.
func (g *generator) say(to *estate.Group, h *home, port uint16, l *estate.List, because string) {
	if to == h.base {
		g.letOut(to, h, tcp(port), list(l), because)
		return
	}
	g.letIn(to, h, tcp(port), list(l), because)
}

func (g *generator) letIn(to *estate.Group, h *home, services []service.Spec, peers []estate.Peer,
	because string) *estate.Rule {
	return g.rule(to, estate.In, estate.Admit, services, g.spelt(h, peers), because)
}

func (g *generator) letOut(to *estate.Group, h *home, services []service.Spec, peers []estate.Peer,
	because string) *estate.Rule {
	return g.rule(to, estate.Out, estate.Admit, services, g.spelt(h, peers), because)
}

// spelt replaces lists by their ranges in dialects without lists.
func (g *generator) spelt(h *home, peers []estate.Peer) []estate.Peer {
	if d := h.account.Cloud.Dialect; (d == "ranked" || d == "layered") && peers[0].Kind == estate.PeerList {
		var entries []netip.Prefix
		for _, e := range peers[0].List.Entries {
			entries = append(entries, e.Range)
		}
		return ranges(entries...)
	}
	return peers
}

// close refuses what a ranked cloud lets through by itself.
func (g *generator) close(to *estate.Group, h *home) {
	if h.account.Cloud.Dialect == "ranked" {
		g.rule(to, estate.In, estate.Refuse, anything, everybody, "nothing else")
		g.rule(to, estate.Out, estate.Refuse, anything, everybody, "nothing else")
	}
}

// purpose gives a tier the rules that its role needs.
func (g *generator) purpose(h *home, to *estate.Group, app []*estate.Group, t int, ops *estate.Group) {
	next := func(i int) *estate.Group { // the tier that this one calls
		if i < len(app) {
			return app[i]
		}
		return to
	}
	switch t {
	case 0:
		g.letIn(to, h, tcp(443), everybody, "the public site")
		if next(1) != to {
			g.letOut(to, h, tcp(8443), of(next(1)), "hands requests on")
		}
	case 1:
		g.letIn(to, h, tcp(8443), of(app[0]), "requests")
		if next(3) != to {
			g.letOut(to, h, tcp(6379), of(next(3)), "sessions")
		}
		if next(4) != to {
			g.letOut(to, h, tcp(5432), of(next(4)), "data")
		}
	case 2:
		if next(4) != to {
			g.letOut(to, h, tcp(5432), of(next(4)), "data")
		}
	case 3:
		g.letIn(to, h, tcp(6379), of(app[1]), "sessions")
	case 4:
		g.letIn(to, h, tcp(5432), of(app[1]), "data of the site")
		g.letIn(to, h, tcp(5432), of(app[2]), "data of the worker")
	}
	if ops != nil {
		g.letIn(to, h, tcp(22), of(ops), "upkeep")
	}
}

var reasons = []string{"readings", "positions", "requested by the harbour master", "nightly copy", "status page",
	"handover to the neighbours", "ticket 4411", "invoices", "", "metrics", "for the tide table"}

// fill adds ordinary rules, each on a port of its own.
func (g *generator) fill(h *home, to *estate.Group, others []*estate.Group, n int) {
	n = min(n, 35)
	port := uint16(20000 + g.rand.IntN(200))
	for i := range n {
		port += uint16(1 + g.rand.IntN(40))
		var peers []estate.Peer
		switch kind := g.rand.IntN(20); {
		case kind < 9:
			if other := pick(g.rand, others); other != to && h.account.Cloud.Dialect != "ranked" &&
				len(other.Rules) < 45 {
				peers = of(other)
				break
			}
			fallthrough
		case kind < 12:
			peers = list(h.lists[g.rand.IntN(2)])
		case kind < 17:
			third := byte(g.rand.IntN(192))
			peers = ranges(netip.PrefixFrom(
				netip.AddrFrom4([4]byte{h.network.Ranges[0].Addr().As4()[0], h.network.Ranges[0].Addr().As4()[1],
					third, 0}), 24))
		default:
			peers = ranges(netip.PrefixFrom(
				netip.AddrFrom4([4]byte{172, byte(16 + g.rand.IntN(16)), byte(g.rand.IntN(256)), 0}), 24))
		}
		services := tcp(port)
		if i%7 == 3 {
			services = []service.Spec{service.Ports(service.UDP, port, port+3)}
		}
		because := pick(g.rand, reasons)
		if i%4 == 3 {
			g.letOut(to, h, services, peers, because)
			if peers[0].Kind == estate.PeerGroup {
				g.letIn(peers[0].Group, h, services, of(to), because)
			}
			continue
		}
		g.letIn(to, h, services, peers, because)
		if peers[0].Kind == estate.PeerGroup {
			g.letOut(peers[0].Group, h, services, of(to), because)
		}
	}
}

// hosts makes the instances of a home, at least one for each group if there are enough.
func (g *generator) hosts(h *home, made []*estate.Group, ops *estate.Group, instances int) {
	all := made
	if ops != nil {
		all = append([]*estate.Group{ops}, made...)
	}
	if len(all) == 0 {
		return
	}
	doors := make(map[int]*estate.Instance)
	for k := range instances {
		to := all[k%len(all)]
		t, app := tiers[1], -1
		if i := k%len(all) - (len(all) - len(made)); i >= 0 {
			t, app = tiers[i%len(tiers)], i/len(tiers)
		}
		i := &estate.Instance{Account: h.account, ID: g.id("ins"), Name: fmt.Sprintf("%s-%d", to.Name, k/len(all)+1),
			Kind: estate.Machine, Labels: estate.Labels{"role": t.name}}
		f := g.face(h, i, t.subnet)
		f.Groups = append(f.Groups, to)
		if h.base != nil {
			f.Groups = append(f.Groups, h.base)
		}
		switch {
		case t.name == "door" && app >= 0:
			g.publish(f)
			// in ranked clouds balancers would need rules for probes
			if doors[app] == nil && h.account.Cloud.Dialect != "ranked" {
				i.Kind = estate.Balancer
				doors[app] = i
			}
		case t.name == "site" && doors[app] != nil:
			d := doors[app]
			if len(d.Listeners) == 0 {
				d.Listeners = []estate.Listener{{Service: service.Ports(service.TCP, 443, 443), Port: 8443,
					Probe: service.Ports(service.TCP, 8443, 8443)}}
			}
			d.Listeners[0].Targets = append(d.Listeners[0].Targets, i)
		}
		g.Instances = append(g.Instances, i)
	}
}

// face gives an instance an interface with the next address of a subnet.
func (g *generator) face(h *home, i *estate.Instance, subnet int) *estate.Interface {
	h.hosts[subnet]++
	base := h.subnets[subnet].Ranges[0].Addr().As4()
	n := h.hosts[subnet]
	f := &estate.Interface{Instance: i, ID: g.id("if"), Subnet: h.subnets[subnet],
		Private: []netip.Addr{netip.AddrFrom4([4]byte{base[0], base[1], base[2] + byte(n>>8), byte(n)})}}
	i.Interfaces = append(i.Interfaces, f)
	return f
}

// publish gives an interface public addresses: IPv4 as long as the documentation ranges last, IPv6
// always.
func (g *generator) publish(f *estate.Interface) {
	if n := g.public; n < 120 { // the rest of the ranges is for other uses
		f.Public = append(f.Public, netip.AddrFrom4([4]byte{192, 0, 2, byte(n) + 1}))
	} else if n < 240 {
		f.Public = append(f.Public, netip.AddrFrom4([4]byte{198, 51, 100, byte(n-120) + 1}))
	}
	g.public++
	n := g.public
	f.Public = append(f.Public,
		netip.AddrFrom16([16]byte{0x20, 0x01, 0x0d, 0xb8, 0, 1, byte(n >> 24), byte(n >> 16), 0, 0, 0, 0, 0, 0,
			byte(n >> 8), byte(n)}))
}
