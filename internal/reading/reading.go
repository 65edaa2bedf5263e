// Package reading is a second reading of how a flow is decided, for tests: one flow at a time,
// slowly, written from the page on the model alone. It shares no code with package decide.
package reading

import (
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/service"
)

// The verdicts, from best to worst, for parts of one way: the worst counts.
var badness = map[string]int{"passes": 0, "one-way": 1, "undecided": 2, "stopped": 3, "no-route": 4}

// The verdicts, from worst to best, for several targets: the best counts.
var goodness = map[string]int{"no-route": 0, "stopped": 1, "one-way": 2, "undecided": 3, "passes": 4}

func worse(a, b string) string {
	if badness[a] >= badness[b] {
		return a
	}
	return b
}

// An End is an interface by one of its addresses, or without an interface an address outside.
type End struct {
	At   *estate.Interface
	Addr netip.Addr
}

// Ends are all ends of an estate, in its order: private addresses first.
func Ends(e *estate.Estate) []End {
	var all []End
	for _, i := range e.Instances {
		for _, f := range i.Interfaces {
			for _, a := range slices.Concat(f.Private, f.Public) {
				all = append(all, End{f, a})
			}
		}
	}
	return all
}

// Carries reports whether the family of an address can carry a service.
func Carries(a netip.Addr, p service.Point) bool {
	protocol, _ := p.Split()
	return !(protocol == service.ICMP && a.Is6()) && !(protocol == service.ICMPv6 && a.Is4())
}

// Verdict is what becomes of one service between two ends of one family, with all
// client ports.
func Verdict(e *estate.Estate, src, dst End, p service.Point) string {
	return (&reader{e}).verdict(src, dst, p, nil)
}

// HasWay reports whether there is a way between two ends, regardless of filters.
func HasWay(e *estate.Estate, src, dst End) bool {
	return (&reader{e}).cross(src, dst).verdict != "no-route"
}

// SeenAs are the addresses by which the destination may see the source; several mean that it is
// unknown which.
func SeenAs(e *estate.Estate, src, dst End) []netip.Addr { return (&reader{e}).cross(src, dst).seen }

// Filter is what the filters at an interface do with a service from a peer.
func Filter(e *estate.Estate, i *estate.Interface, direction estate.Direction, peer netip.Addr,
	p service.Point) string {
	return (&reader{e}).filter(i, direction, peer, p,
		crossing{together: within(i.Subnet.Ranges, peer), clients: i.Subnet.Network})
}

// Fits reports whether a rule of a group at an interface means an address.
func Fits(e *estate.Estate, g *estate.Group, x *estate.Rule, i *estate.Interface, a netip.Addr) bool {
	return (&reader{e}).fits(g, x, i, a)
}

type reader struct{ e *estate.Estate }

// A crossing is a way between two ends: by which addresses each is seen, and whose client ports get
// the answers. Several addresses in seen mean that it is unknown which.
type crossing struct {
	verdict  string
	seen     []netip.Addr
	together bool // in one subnet
	clients  *estate.Network
}

func (r *reader) verdict(src, dst End, p service.Point, met []*estate.Instance) string {
	if src.At != nil && dst.At != nil && src.At.Instance == dst.At.Instance {
		return "passes"
	}
	c := r.cross(src, dst)
	if c.verdict == "no-route" {
		return "no-route"
	}
	answer := c.verdict
	if src.At != nil {
		answer = worse(answer, r.filter(src.At, estate.Out, dst.Addr, p, c))
	}
	if dst.At == nil {
		return answer
	}
	if c.verdict == "undecided" {
		// what is stopped for every address that it may be is stopped
		open := false
		for _, a := range c.seen {
			if v := r.filter(dst.At, estate.In, a, p, c); v != "stopped" {
				open = true
			}
		}
		if !open {
			answer = worse(answer, "stopped")
		}
	} else {
		answer = worse(answer, r.filter(dst.At, estate.In, c.seen[0], p, c))
	}
	if dst.At.Instance.Kind == estate.Balancer {
		answer = worse(answer, r.handOn(dst.At, p, append(slices.Clone(met), dst.At.Instance)))
	}
	return answer
}

// hasPorts reports whether a protocol (by its number) has ports.
func hasPorts(protocol uint8) bool { return slices.Contains([]uint8{6, 17, 33, 132, 136}, protocol) }

// handOn is the best that a target of a balancer gets.
func (r *reader) handOn(from *estate.Interface, p service.Point, met []*estate.Instance) string {
	best := "no-route"
	protocol, _ := p.Split()
	for _, l := range from.Instance.Listeners {
		if !l.Service.Contains(p) {
			continue
		}
		next := p
		if hasPorts(protocol) {
			next = service.PointOf(protocol, l.Port)
		}
		for _, t := range l.Targets {
			if slices.Contains(met, t) {
				continue
			}
			a, b, ok := meeting(from, t)
			if !ok {
				continue
			}
			if v := r.verdict(a, b, next, met); goodness[v] > goodness[best] {
				best = v
			}
		}
	}
	return best
}

// meeting is how a balancer reaches a target: over IPv4 and by private addresses if possible.
func meeting(from *estate.Interface, t *estate.Instance) (a, b End, ok bool) {
	first := func(four bool, lists ...[]netip.Addr) (netip.Addr, bool) {
		for _, list := range lists {
			for _, x := range list {
				if x.Is4() == four {
					return x, true
				}
			}
		}
		return netip.Addr{}, false
	}
	for _, four := range []bool{true, false} {
		own, has := first(four, from.Private, from.Public)
		if !has {
			continue
		}
		for _, public := range []bool{false, true} {
			for _, f := range t.Interfaces {
				list := f.Private
				if public {
					list = f.Public
				}
				if x, ok := first(four, list); ok {
					return End{from, own}, End{f, x}, true
				}
			}
		}
	}
	return a, b, false
}

func public(a netip.Addr) bool { return addr.Public.Contains(a) }

func within(ranges []netip.Prefix, a netip.Addr) bool {
	for _, r := range ranges {
		if r.Contains(a) {
			return true
		}
	}
	return false
}

// route is the most specific route of a subnet for an address; of equal ones the first.
func route(s *estate.Subnet, a netip.Addr) *estate.Route {
	var best *estate.Route
	for k := range s.Routes {
		x := &s.Routes[k]
		if x.To.Contains(a) && (best == nil || x.To.Bits() > best.To.Bits()) {
			best = x
		}
	}
	return best
}

func via(x *estate.Route) estate.Via {
	if x == nil {
		return ""
	}
	return x.Via
}

// met reports whether an interface can be reached from the internet over a family.
func met(i *estate.Interface, four bool) bool {
	for _, a := range i.Public {
		if a.Is4() == four {
			return true
		}
	}
	for _, a := range i.Private {
		if !four && a.Is6() && public(a) {
			return true
		}
	}
	return false
}

var none = crossing{verdict: "no-route"}

// in is the way from an address outside to an end.
func in(from netip.Addr, dst End) bool {
	s := dst.At.Subnet
	if within(s.Network.Ranges, from) {
		return false
	}
	x := route(s, from)
	switch via(x) {
	case estate.ViaPrivateLine:
		return !public(dst.Addr) || x.To.Contains(dst.Addr)
	case estate.ViaInternet:
		return public(from) && met(dst.At, dst.Addr.Is4())
	}
	return false
}

// out is the way from an end to an address outside.
func out(src End, to netip.Addr) bool {
	s := src.At.Subnet
	if within(s.Network.Ranges, to) {
		return false
	}
	x := route(s, to)
	switch via(x) {
	case estate.ViaPrivateLine:
		return !public(src.Addr) || x.To.Contains(src.Addr)
	case estate.ViaInternet:
		return public(to) && met(src.At, to.Is4())
	case estate.ViaNAT:
		return public(to)
	}
	return false
}

func (r *reader) cross(src, dst End) crossing {
	if src.At == nil {
		if !in(src.Addr, dst) {
			return none
		}
		return crossing{verdict: "passes", seen: []netip.Addr{src.Addr}, clients: dst.At.Subnet.Network}
	}
	home := src.At.Subnet.Network
	if dst.At == nil {
		if !out(src, dst.Addr) {
			return none
		}
		return crossing{verdict: "passes", seen: []netip.Addr{src.Addr}, clients: home}
	}
	away := dst.At.Subnet.Network
	standing := !slices.Contains(dst.At.Public, dst.Addr) || slices.Contains(dst.At.Private, dst.Addr)
	if home == away && (standing || within(home.Ranges, dst.Addr)) {
		return crossing{"passes", []netip.Addr{src.Addr}, src.At.Subnet == dst.At.Subnet, home}
	}
	if home != away && within(home.Ranges, dst.Addr) {
		return none
	}
	there, back := route(src.At.Subnet, dst.Addr), route(dst.At.Subnet, src.Addr)
	if via(there) == estate.ViaPrivateLine {
		if within(away.Ranges, src.Addr) || via(back) != estate.ViaPrivateLine {
			return none
		}
		return crossing{"passes", []netip.Addr{src.Addr}, false, home}
	}
	if !standing || public(dst.Addr) && (via(there) == estate.ViaInternet || via(there) == estate.ViaNAT) {
		return r.around(src, dst, there)
	}
	peered := slices.Contains(home.Peered, away) && slices.Contains(away.Peered, home)
	if !peered || within(away.Ranges, src.Addr) || via(there) != estate.ViaPeer || there.Network != away ||
		via(back) != estate.ViaPeer || back.Network != home {
		return none
	}
	return crossing{"passes", []netip.Addr{src.Addr}, false, home}
}

// around is the way out to the internet and in again.
func (r *reader) around(src, dst End, there *estate.Route) crossing {
	if !out(src, dst.Addr) {
		return none
	}
	if there.Via == estate.ViaNAT {
		if there.Address.IsValid() && there.Address.Is4() == dst.Addr.Is4() {
			if !in(there.Address, dst) {
				return none
			}
			return crossing{"passes", []netip.Addr{there.Address}, false, dst.At.Subnet.Network}
		}
		var may []netip.Addr
		for _, a := range r.somePublic(dst.Addr.Is4()) {
			if in(a, dst) {
				may = append(may, a)
			}
		}
		if len(may) == 0 {
			return none
		}
		return crossing{"undecided", may, false, dst.At.Subnet.Network}
	}
	seen := src.Addr
	if !public(seen) {
		for _, a := range append(slices.Clone(src.At.Public), src.At.Private...) {
			if a.Is4() == dst.Addr.Is4() && (slices.Contains(src.At.Public, a) || public(a)) {
				seen = a
				break
			}
		}
	}
	if !in(seen, dst) {
		return none
	}
	return crossing{"passes", []netip.Addr{seen}, false, src.At.Subnet.Network}
}

// Outside are addresses outside the estate of both families, of every kind that rules and routes
// distinguish.
func Outside(e *estate.Estate) []netip.Addr {
	r := &reader{e}
	own := make(map[netip.Addr]bool)
	for _, x := range Ends(e) {
		own[x.Addr] = true
	}
	all := append(r.somePublic(true), r.somePublic(false)...)
	for _, text := range []string{"172.31.0.9", "172.30.0.1", "10.200.0.1", "10.1.200.200", "10.2.200.200", "fd77::7",
		"fd00:1:9::9"} {
		all = append(all, netip.MustParseAddr(text))
	}
	return slices.DeleteFunc(all, func(a netip.Addr) bool { return own[a] })
}

// somePublic are public addresses of every kind that rules and routes distinguish: the first, the
// last and the neighbours of each range that occurs.
func (r *reader) somePublic(four bool) []netip.Addr {
	var all []netip.Addr
	add := func(a netip.Addr) {
		if a.IsValid() && a.Is4() == four && public(a) && !slices.Contains(all, a) {
			all = append(all, a)
		}
	}
	around := func(p netip.Prefix) {
		add(p.Addr())
		add(p.Addr().Prev())
		set := addr.OfPrefixes(p)
		if beyond, ok := addr.FamilyOf(family(p.Addr())).Minus(set).First(); ok {
			add(beyond)
		}
		for a, n := p.Addr(), 0; n < 4 && p.Contains(a); n++ {
			add(a)
			a = a.Next()
		}
		last := lastOf(p)
		add(last)
		add(last.Next())
	}
	around(netip.MustParsePrefix("192.0.2.0/24"))
	around(netip.MustParsePrefix("2001:db8::/32"))
	around(netip.MustParsePrefix("8.0.0.0/8"))
	for _, x := range Ends(r.e) { // an instance may have the address of a nat route
		add(x.Addr)
	}
	for _, n := range r.e.Networks {
		for _, p := range n.Ranges {
			around(p)
		}
		for _, s := range n.Subnets {
			for _, x := range s.Routes {
				around(x.To)
			}
		}
	}
	for _, l := range r.e.Lists {
		for _, entry := range l.Entries {
			around(entry.Range)
		}
	}
	for _, g := range r.e.Groups {
		for _, rule := range g.Rules {
			for _, p := range rule.Peers {
				if p.Kind == estate.PeerRange {
					around(p.Range)
				}
			}
		}
	}
	return all
}

func family(a netip.Addr) addr.Family {
	if a.Is4() {
		return addr.IPv4
	}
	return addr.IPv6
}

func lastOf(p netip.Prefix) netip.Addr {
	b := p.Masked().Addr().AsSlice()
	for bit := p.Bits(); bit < len(b)*8; bit++ {
		b[bit/8] |= 1 << (7 - bit%8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

// filter is what the filters at an interface do with a service from a peer, and then with the
// answers.
func (r *reader) filter(i *estate.Interface, direction estate.Direction, peer netip.Addr, p service.Point,
	c crossing) string {
	answer := "passes"
	for _, layer := range r.layersAt(i, c.together) {
		answer = worse(answer, r.layer(layer, i, direction, peer, p, c))
	}
	return answer
}

// A layer holds groups that decide together, or says what happens without any.
type layer struct {
	groups []*estate.Group
	says   string
}

func (r *reader) layersAt(i *estate.Interface, together bool) []layer {
	subnetGroups := i.Subnet.Groups
	if len(subnetGroups) == 0 {
		for _, g := range r.e.Groups {
			if g.Default && g.For == estate.ForSubnets && g.Network == i.Subnet.Network {
				subnetGroups = []*estate.Group{g}
			}
		}
	}
	switch i.Instance.Account.Cloud.Dialect {
	case "flat":
		if i.Unfiltered {
			return []layer{{says: "passes"}}
		}
		if len(i.Groups) == 0 {
			return []layer{{says: "stopped"}}
		}
		return []layer{{groups: i.Groups}}
	case "layered":
		if i.Unfiltered {
			return []layer{{says: "passes"}}
		}
		if len(subnetGroups) == 0 {
			subnetGroups = []*estate.Group{builtIn(i.Subnet.Network)}
		}
		return []layer{{groups: append(slices.Clone(i.Groups), subnetGroups...)}}
	}
	union := i.Instance.Account.Cloud.Dialect == "union"
	own := layer{groups: i.Groups}
	switch {
	case i.Unfiltered:
		own = layer{says: "passes"}
	case len(i.Groups) == 0 && !union:
		own = layer{says: "passes"}
	case len(i.Groups) == 0:
		own = layer{says: "undecided"}
		for _, g := range r.e.Groups {
			if g.Default && g.For == estate.ForInstances && g.Network == i.Subnet.Network {
				own = layer{groups: []*estate.Group{g}}
			}
		}
	}
	all := []layer{own}
	if len(subnetGroups) > 0 && !together {
		all = append(all, layer{groups: subnetGroups})
	}
	return all
}

// builtIn is the default list of a layered cloud, where the survey leaves it out.
func builtIn(n *estate.Network) *estate.Group {
	everyone := []estate.Peer{{Kind: estate.PeerEveryone}}
	return &estate.Group{Account: n.Account, Network: n, For: estate.ForSubnets, Rules: []estate.Rule{
		{Direction: estate.In, Action: estate.Admit, Peers: everyone,
			Services: []service.Spec{service.Ports(service.TCP, 22, 22)}},
		{Direction: estate.Out, Action: estate.Admit, Peers: everyone, Services: []service.Spec{service.Anything}},
	}}
}

func (r *reader) layer(l layer, i *estate.Interface, direction estate.Direction, peer netip.Addr, p service.Point,
	c crossing) string {
	if l.says != "" {
		return l.says
	}
	admitted, state := r.admitted(l, i, direction, peer, p)
	switch {
	case !admitted:
		return "stopped"
	case state:
		return "passes"
	}
	for _, answer := range answersTo(p, c.clients) {
		back := estate.In
		if direction == estate.In {
			back = estate.Out
		}
		if ok, _ := r.admitted(l, i, back, peer, answer); !ok {
			return "one-way"
		}
	}
	return "passes"
}

// answersTo are the answers that must be let back: to the first and the last client port, and
// around the ports that tests use.
func answersTo(p service.Point, clients *estate.Network) []service.Point {
	protocol, detail := p.Split()
	switch protocol {
	case 6, 17, 33, 132, 136:
		from, to := uint16(1024), uint16(65535)
		if clients.Answers.To != 0 {
			from, to = clients.Answers.From, clients.Answers.To
		}
		var all []service.Point
		for _, port := range []uint16{from, from + 1, to - 1, to, 1024, 3389, 5432, 32767, 32768, 39999, 40000, 40003,
			40004, 60999, 61000} {
			if from <= port && port <= to {
				all = append(all, service.PointOf(protocol, port))
			}
		}
		return all
	case service.ICMP, service.ICMPv6:
		replies := map[uint8]map[uint16]uint16{service.ICMP: {8: 0, 13: 14, 17: 18}, service.ICMPv6: {128: 129}}
		if reply, ok := replies[protocol][detail>>8]; ok {
			return []service.Point{service.PointOf(protocol, reply<<8)}
		}
		return nil
	}
	return []service.Point{p}
}

func (r *reader) admitted(l layer, i *estate.Interface, direction estate.Direction, peer netip.Addr,
	p service.Point) (admitted, state bool) {
	for _, g := range l.groups {
		a, s := r.group(g, i, direction, peer, p)
		admitted, state = admitted || a, state || s
	}
	return admitted, state
}

func (r *reader) group(g *estate.Group, i *estate.Interface, direction estate.Direction, peer netip.Addr,
	p service.Point) (admitted, state bool) {
	dialect := g.Account.Cloud.Dialect
	wall := dialect == "union" && g.For == estate.ForSubnets
	keeps := func(x *estate.Rule) bool {
		switch {
		case wall, dialect == "flat" && g.Stateless:
			return false
		case dialect == "layered":
			return !x.Stateless
		}
		return true
	}
	var fitting []*estate.Rule
	for k := range g.Rules {
		x := &g.Rules[k]
		speaks := slices.ContainsFunc(x.Services, func(s service.Spec) bool { return service.Of(s).Contains(p) })
		if x.Direction == direction && speaks && r.fits(g, x, i, peer) {
			fitting = append(fitting, x)
		}
	}
	if g.Defined { // the first matching statement decides on any cloud; any admission before a refusal may keep state
		for _, x := range fitting {
			if x.Action == estate.Refuse {
				break
			}
			admitted, state = true, state || !x.Stateless
		}
		return admitted, state
	}
	if dialect != "ranked" && !wall {
		for _, x := range fitting {
			if x.Action == estate.Admit {
				admitted, state = true, state || keeps(x)
			}
		}
		return admitted, state
	}
	slices.SortStableFunc(fitting, func(a, b *estate.Rule) int {
		if a.Rank != b.Rank {
			return a.Rank - b.Rank
		}
		if a.Action == estate.Refuse {
			return -1
		}
		return 1
	})
	if len(fitting) > 0 {
		admits := fitting[0].Action == estate.Admit
		return admits, admits && keeps(fitting[0])
	}
	if wall {
		return false, false
	}
	network := g.Network
	if network == nil {
		network = i.Subnet.Network
	}
	switch {
	case within(network.Ranges, peer),
		direction == estate.Out && public(peer),
		direction == estate.In && r.probes(i, peer):
		return true, true
	}
	return false, false
}

// probes reports whether an address is that of a balancer with the interface's instance as a
// target.
func (r *reader) probes(i *estate.Interface, a netip.Addr) bool {
	for _, b := range r.e.Instances {
		for _, l := range b.Listeners {
			if !slices.Contains(l.Targets, i.Instance) {
				continue
			}
			for _, f := range b.Interfaces {
				if slices.Contains(f.Private, a) {
					return true
				}
			}
		}
	}
	return false
}

func (r *reader) fits(g *estate.Group, x *estate.Rule, i *estate.Interface, a netip.Addr) bool {
	one := func(p estate.Peer) bool {
		if p.V4Only && a.Is6() || p.V6Only && a.Is4() {
			return false
		}
		switch p.Kind {
		case estate.PeerEveryone:
			return true
		case estate.PeerRange:
			return p.Range.Contains(a)
		case estate.PeerList:
			return slices.ContainsFunc(p.List.Entries, func(e estate.Entry) bool { return e.Range.Contains(a) })
		case estate.PeerNetwork:
			n := p.Network
			if n == nil {
				n = g.Network
			}
			if n == nil {
				n = i.Subnet.Network
			}
			return within(n.Ranges, a)
		case estate.PeerProbes:
			return r.probes(i, a)
		case estate.PeerSelf:
			return r.member(g, a)
		case estate.PeerGroup:
			return r.named(g, p.Group) && r.member(p.Group, a)
		}
		return false
	}
	return slices.ContainsFunc(x.Peers, one) && !slices.ContainsFunc(x.Except, one)
}

// named reports whether rules of one group can refer to another.
func (r *reader) named(g, other *estate.Group) bool {
	switch g.Account.Cloud.Dialect {
	case "flat":
		return g.Account.Cloud == other.Account.Cloud
	case "union":
		return g.Network == other.Network ||
			g.Network != nil && other.Network != nil && slices.Contains(g.Network.Peered, other.Network) &&
				slices.Contains(other.Network.Peered, g.Network)
	}
	return g.Network == other.Network
}

// member reports whether an address is a private one of an interface to which a group is attached.
func (r *reader) member(g *estate.Group, a netip.Addr) bool {
	for _, x := range Ends(r.e) {
		if x.Addr != a || !slices.Contains(x.At.Private, a) || g.For != estate.ForInstances {
			continue
		}
		standing := len(x.At.Groups) == 0 && x.At.Instance.Account.Cloud.Dialect == "union" && g.Default &&
			g.Network == x.At.Subnet.Network
		if slices.Contains(x.At.Groups, g) || standing {
			return true
		}
	}
	return false
}
