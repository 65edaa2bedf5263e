package audit_test

import (
	"cmp"
	"flag"
	"fmt"
	"math/big"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"isonomos/core/addr"
	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/internal/reading"
	"isonomos/store"
)

// A second reading of the checks, from what their docs say, for tests. It shares no code
// with the audit: it tries every kind of address with every kind of service, rule by rule,
// and lets package reading decide flows.
type readingOf struct {
	e     *estate.Estate
	atoms []atom
	all   [2]float64 // strangers: IPv4, IPv6
	told  map[string]bool
	bad   map[string]audit.Severity // how bad a check of openness is, by check and place
}

// An atom is a run of addresses that nothing in the estate tells apart.
type atom struct {
	first     netip.Addr
	four      bool
	strangers float64
	public    bool
}

func newReading(e *estate.Estate) *readingOf {
	r := &readingOf{e: e, told: make(map[string]bool), bad: make(map[string]audit.Severity)}
	starts := []netip.Addr{netip.IPv4Unspecified(), netip.IPv6Unspecified()}
	cut := func(p netip.Prefix) {
		starts = append(starts, p.Masked().Addr())
		last := p.Masked().Addr().AsSlice()
		for bit := p.Bits(); bit < 8*len(last); bit++ {
			last[bit/8] |= 0x80 >> (bit % 8)
		}
		if a, _ := netip.AddrFromSlice(last); a.Next().IsValid() {
			starts = append(starts, a.Next())
		}
	}
	for _, p := range addr.Public.Prefixes() {
		cut(p)
	}
	own := make(map[netip.Addr]bool)
	for _, x := range reading.Ends(e) {
		own[x.Addr] = true
		cut(netip.PrefixFrom(x.Addr, x.Addr.BitLen()))
	}
	for _, n := range e.Networks {
		for _, p := range n.Ranges {
			cut(p)
		}
		for _, s := range n.Subnets {
			for _, p := range s.Ranges {
				cut(p)
			}
		}
	}
	for _, l := range e.Lists {
		for _, x := range l.Entries {
			cut(x.Range)
		}
	}
	for _, g := range e.Groups {
		for _, x := range g.Rules {
			for _, p := range x.Peers {
				if p.Kind == estate.PeerRange {
					cut(p.Range)
				}
			}
		}
	}
	slices.SortFunc(starts, netip.Addr.Compare)
	starts = slices.Compact(starts)
	number := func(a netip.Addr) *big.Int { return new(big.Int).SetBytes(a.AsSlice()) }
	var listed []*estate.List
	weigh := func() {
		r.atoms, r.all = nil, [2]float64{}
		for i, a := range starts {
			end := new(big.Int).Lsh(big.NewInt(1), uint(a.BitLen()))
			if i+1 < len(starts) && starts[i+1].Is4() == a.Is4() {
				end = number(starts[i+1])
			}
			size, _ := new(big.Float).SetInt(end.Sub(end, number(a))).Float64()
			x := atom{first: a, four: a.Is4(), public: addr.Public.Contains(a)}
			known := slices.ContainsFunc(listed, func(l *estate.List) bool { return holds(l, a) })
			if x.public && !known && !own[a] {
				x.strangers = size
				r.all[side(x.four)] += size
			}
			r.atoms = append(r.atoms, x)
		}
	}
	weigh()
	for _, l := range e.Lists { // a list that holds a sixteenth of all names nobody
		n := r.count(func(x atom) bool { return holds(l, x.first) })
		if n[0]*16 < r.all[0] && n[1]*16 < r.all[1] {
			listed = append(listed, l)
		}
	}
	weigh()
	return r
}

func side(four bool) int {
	if four {
		return 0
	}
	return 1
}

func holds(l *estate.List, a netip.Addr) bool {
	return slices.ContainsFunc(l.Entries, func(x estate.Entry) bool { return x.Range.Contains(a) })
}

// count counts the strangers among some atoms, by family.
func (r *readingOf) count(is func(atom) bool) (n [2]float64) {
	for _, x := range r.atoms {
		if x.strangers > 0 && is(x) {
			n[side(x.four)] += x.strangers
		}
	}
	return n
}

func (r *readingOf) open(n [2]float64) bool {
	return n[0] > 0 && n[0]*16 >= r.all[0] || n[1] > 0 && n[1]*16 >= r.all[1]
}

func (r *readingOf) isWide(n [2]float64) bool { return n[0] > 65536 || n[1] > 1<<88 }

// A groupReading is a group's rules in a direction, in the order in which they decide.
type groupReading struct {
	rules  []*estate.Rule
	speaks [][]bool // by rule and point
	names  [][]bool // by rule and atom
	points []service.Point
	first  bool // the first that fits decides
}

// points are services of every kind that a group's rules, or the checks, tell apart.
func points(e *estate.Estate, groups ...*estate.Group) []service.Point {
	var all []service.Point
	add := func(protocol uint8, ports ...int) {
		for _, port := range ports {
			if port >= 0 && port <= 65535 {
				all = append(all, service.PointOf(protocol, uint16(port)))
			}
		}
	}
	around := func(s service.Spec) {
		if s.Any || s.Protocol != service.TCP && s.Protocol != service.UDP {
			return
		}
		for _, protocol := range []uint8{service.TCP, service.UDP} {
			add(protocol, int(s.From)-1, int(s.From), int(s.To), int(s.To)+1)
		}
	}
	for _, class := range []string{service.ClassAdmin, service.ClassData, service.ClassCleartext} {
		set, _ := e.Services.Class(class)
		for _, s := range set.Specs() {
			around(s)
		}
	}
	for _, g := range groups {
		for _, x := range g.Rules {
			for _, s := range x.Services {
				around(s)
			}
		}
	}
	for _, i := range e.Instances {
		for _, l := range i.Listeners {
			around(l.Service)
		}
	}
	add(service.TCP, 0, 1, 8600, 65535)
	add(service.UDP, 0, 1, 8600, 65535)
	add(service.ICMP, 8<<8, 0, 3<<8)
	add(service.ICMPv6, 128<<8, 1<<8)
	add(47, 0)
	add(132, 0)
	slices.Sort(all)
	return slices.Compact(all)
}

func (r *readingOf) group(g *estate.Group, direction estate.Direction, at *estate.Interface,
	points []service.Point) groupReading {
	dialect := g.Account.Cloud.Dialect
	x := groupReading{points: points, first: dialect == "ranked" || dialect == "union" && g.For == estate.ForSubnets}
	for i := range g.Rules {
		if g.Rules[i].Direction == direction {
			x.rules = append(x.rules, &g.Rules[i])
		}
	}
	if x.first {
		slices.SortStableFunc(x.rules, func(a, b *estate.Rule) int {
			refuse := func(r *estate.Rule) int {
				if r.Action == estate.Refuse {
					return 0
				}
				return 1
			}
			return cmp.Or(a.Rank-b.Rank, refuse(a)-refuse(b))
		})
	}
	if dialect == "ranked" && !slices.ContainsFunc(x.rules, func(r *estate.Rule) bool { return r.BuiltIn }) {
		anything := []service.Spec{service.Anything}
		x.rules = append(x.rules,
			&estate.Rule{BuiltIn: true, Direction: direction, Action: estate.Admit,
				Peers: []estate.Peer{{Kind: estate.PeerNetwork, Network: g.Network}}, Services: anything})
		if direction == estate.Out {
			x.rules = append(x.rules,
				&estate.Rule{BuiltIn: true, ID: "internet", Direction: direction, Action: estate.Admit,
					Services: anything})
		}
		x.rules = append(x.rules,
			&estate.Rule{BuiltIn: true, Direction: direction, Action: estate.Refuse,
				Peers: []estate.Peer{{Kind: estate.PeerEveryone}}, Services: anything})
	}
	for _, rule := range x.rules {
		speaks, names := make([]bool, len(x.points)), make([]bool, len(r.atoms))
		for k, p := range x.points {
			speaks[k] = slices.ContainsFunc(rule.Services, func(s service.Spec) bool { return s.Contains(p) })
		}
		for k, a := range r.atoms {
			names[k] = rule.ID == "internet" && a.public || reading.Fits(r.e, g, rule, at, a.first)
		}
		x.speaks, x.names = append(x.speaks, speaks), append(x.names, names)
	}
	return x
}

// decider is the rule that decides of a point and an atom; -1 if none does. Where rules
// add up it is the first that admits.
func (x groupReading) decider(point, atom int) int {
	for i, rule := range x.rules {
		if x.speaks[i][point] && x.names[i][atom] && (x.first || rule.Action == estate.Admit) {
			return i
		}
	}
	return -1
}

func (x groupReading) admits(point, atom int) bool {
	i := x.decider(point, atom)
	return i >= 0 && x.rules[i].Action == estate.Admit
}

// carried reports whether a family can carry a point.
func carried(a atom, p service.Point) bool { return reading.Carries(a.first, p) }

func (r *readingOf) tell(check, where string) { r.told[check+" "+where] = true }

// run reads all checks that are about groups, one by one.
func (r *readingOf) run() {
	for _, g := range r.e.Groups {
		interfaces := r.interfaces(g)
		at := &estate.Interface{Subnet: &estate.Subnet{Network: cmp.Or(g.Network, &estate.Network{})},
			Instance: &estate.Instance{}}
		if len(interfaces) > 0 {
			at = interfaces[0]
		}
		own := points(r.e, g)
		in, out := r.group(g, estate.In, at, own), r.group(g, estate.Out, at, own)
		if r.decides(g, interfaces) {
			r.openness(g, in, out)
			r.arrivals(g.Path(), interfaces, in.points, in.admits)
			r.widths(g, in)
		}
		if g.For == estate.ForInstances {
			r.farWide(g, in)
			r.crossing(g, interfaces, in)
			r.oneEnd(g, interfaces)
		}
		r.catchAll(g, in)
		r.order(g, in)
		r.order(g, out)
		r.references(g)
		if len(interfaces) == 0 && !g.Default && !g.BuiltIn && !r.attached(g) {
			r.tell("unused", g.Path())
		}
		if g.Default && g.For == estate.ForInstances &&
			(len(interfaces) > 0 || slices.ContainsFunc(in.rules,
				func(x *estate.Rule) bool { return x.Action == estate.Admit })) {
			r.tell("default-group", g.Path())
		}
	}
	r.sums()
	r.unfiltered()
	r.repeated()
}

// interfaces are the interfaces that a group filters at, or in whose subnet it stands.
func (r *readingOf) interfaces(g *estate.Group) (list []*estate.Interface) {
	for _, instance := range r.e.Instances {
		for _, i := range instance.Interfaces {
			same := g.Network == i.Subnet.Network
			switch {
			case g.For == estate.ForSubnets:
				if slices.Contains(i.Subnet.Groups, g) || len(i.Subnet.Groups) == 0 && g.Default && same {
					list = append(list, i)
				}
			case slices.Contains(i.Groups, g), len(i.Groups) == 0 && g.Default && same &&
				instance.Account.Cloud.Dialect == "union":
				list = append(list, i)
			}
		}
	}
	return list
}

func (r *readingOf) attached(g *estate.Group) bool {
	return slices.ContainsFunc(r.e.Networks, func(n *estate.Network) bool {
		return slices.ContainsFunc(n.Subnets, func(s *estate.Subnet) bool { return slices.Contains(s.Groups, g) })
	})
}

// decides: groups of subnets, where subnet and instance must admit, answer only where
// nothing else filters.
func (r *readingOf) decides(g *estate.Group, interfaces []*estate.Interface) bool {
	dialect := g.Account.Cloud.Dialect
	if g.For == estate.ForInstances || dialect != "union" && dialect != "ranked" {
		return true
	}
	return slices.ContainsFunc(interfaces, func(i *estate.Interface) bool {
		hasDefault := dialect == "union" && slices.ContainsFunc(r.e.Groups, func(g *estate.Group) bool {
			return g.Default && g.For == estate.ForInstances && g.Network == i.Subnet.Network
		})
		return i.Unfiltered || len(i.Groups) == 0 && !hasDefault
	})
}

// openness reads open-*, one-family, open-in-sum, wide-inbound and open-outbound.
func (r *readingOf) openness(g *estate.Group, in, out groupReading) {
	class := func(c string) service.Set { set, _ := r.e.Services.Class(c); return set }
	admin, data, clear := class(service.ClassAdmin), class(service.ClassData), class(service.ClassCleartext)
	for k, p := range in.points {
		var n, outsiders [2]float64
		for a, x := range r.atoms {
			if carried(x, p) && in.admits(k, a) {
				n[side(x.four)] += x.strangers
				if x.public && in.namedOutside(k, a) {
					outsiders[side(x.four)]++
				}
			}
		}
		left := n // of families that are not open
		for f := range left {
			only := [2]float64{}
			if only[f] = n[f]; r.open(only) {
				left[f] = 0
			}
		}
		if r.isWide(left) {
			r.tell("wide-inbound", g.Path())
		}
		if !r.open(n) {
			continue
		}
		for check, set := range map[string]service.Set{"open-admin-port": admin, "open-data-port": data,
			"open-cleartext": clear} {
			if set.Contains(p) {
				r.tell(check, g.Path())
			}
		}
		if !admin.Contains(p) && !data.Contains(p) && !clear.Contains(p) {
			r.tell("open-inbound", g.Path())
		}
		four, six := r.open([2]float64{n[0], 0}), r.open([2]float64{0, n[1]})
		protocol, _ := p.Split()
		if protocol != service.ICMP && protocol != service.ICMPv6 &&
			(six && !four || four && !six && outsiders[1] > 0) {
			r.tell("one-family", g.Path())
		}
		for _, family := range []bool{true, false} {
			if family && !four || !family && !six {
				continue
			}
			alone := false
			for i, rule := range in.rules {
				if rule.Action != estate.Admit || !in.speaks[i][k] {
					continue
				}
				all := true
				for a, x := range r.atoms {
					if x.four == family && x.strangers > 0 && in.admits(k, a) && !in.names[i][a] {
						all = false
						break
					}
				}
				alone = alone || all
			}
			if !alone {
				r.tell("open-in-sum", g.Path())
			}
		}
	}
	for k, p := range out.points {
		if !admin.Contains(p) && !data.Contains(p) {
			continue
		}
		if r.open(r.countAt(out.admits, k, p)) {
			r.tell("open-outbound", g.Path())
		}
	}
}

// sums reads what the groups of an interface open together, and none of them alone.
func (r *readingOf) sums() {
	of := make(map[string][]*estate.Interface)
	groupsOf := make(map[string][]*estate.Group)
	for _, instance := range r.e.Instances {
		for _, i := range instance.Interfaces {
			groups := slices.Clone(i.Groups)
			if instance.Account.Cloud.Dialect == "layered" {
				groups = append(groups, i.Subnet.Groups...)
				if len(i.Subnet.Groups) == 0 {
					continue // the built-in list is in no survey here, and open for ssh by itself
				}
			}
			if len(groups) < 2 || i.Unfiltered {
				continue
			}
			key := fmt.Sprint(groups)
			of[key], groupsOf[key] = append(of[key], i), groups
		}
	}
	for key, groups := range groupsOf {
		at, pts := of[key][0], points(r.e, groups...)
		place := groups[0].Path()
		var single []groupReading
		for _, g := range groups {
			single = append(single, r.group(g, estate.In, at, pts))
			place = min(place, g.Path())
		}
		sum := func(k, a int) bool {
			return slices.ContainsFunc(single, func(x groupReading) bool { return x.admits(k, a) })
		}
		alone := make(map[[2]int]bool) // by point and family
		for k, p := range pts {
			for _, x := range single {
				for f, n := range r.countAt(x.admits, k, p) {
					only := [2]float64{}
					only[f] = n
					alone[[2]int{k, f}] = alone[[2]int{k, f}] || r.open(only)
				}
			}
		}
		left := func(k, a int) bool { return !alone[[2]int{k, side(r.atoms[a].four)}] && sum(k, a) }
		clear, _ := r.e.Services.Class(service.ClassCleartext)
		for k, p := range pts {
			if r.open(r.countAt(left, k, p)) {
				r.tell("open-in-sum", place)
				if clear.Contains(p) {
					r.tell("open-cleartext", place)
				}
			}
		}
		r.arrivals(place, of[key], pts, left)
	}
}

// arrivals reads how bad openness is: one up where it arrives at production, one down where
// it arrives nowhere.
func (r *readingOf) arrivals(place string, interfaces []*estate.Interface, points []service.Point,
	admits func(point, atom int) bool) {
	admin, _ := r.e.Services.Class(service.ClassAdmin)
	data, _ := r.e.Services.Class(service.ClassData)
	clear, _ := r.e.Services.Class(service.ClassCleartext)
	for check, start := range map[string]audit.Severity{"open-admin-port": audit.High, "open-data-port": audit.High,
		"open-inbound": audit.Medium} {
		moved, any := start-1, false
		for k, p := range points {
			of := map[string]bool{"open-admin-port": admin.Contains(p), "open-data-port": data.Contains(p),
				"open-inbound": !admin.Contains(p) && !data.Contains(p) && !clear.Contains(p)}
			n := r.countAt(admits, k, p)
			if !of[check] || moved > start || !r.open(n) {
				continue
			}
			any = true
			for a, x := range r.atoms {
				only := [2]float64{}
				only[side(x.four)] = n[side(x.four)]
				if x.strangers == 0 || !r.open(only) || !carried(x, p) || !admits(k, a) {
					continue
				}
				for _, i := range interfaces {
					production := estate.InterfacePlace(i).Stage() == "production"
					if moved > start || moved == start && !production {
						continue
					}
					for _, own := range slices.Concat(i.Private, i.Public) {
						if own.Is4() != x.four {
							continue
						}
						switch reading.Verdict(r.e, reading.End{Addr: x.first}, reading.End{At: i, Addr: own}, p) {
						case "passes":
							moved = max(moved, start)
							if production {
								moved = start + 1
							}
						case "undecided":
							moved = max(moved, start)
						}
					}
				}
			}
		}
		if any {
			r.tell(check, place)
			r.bad[check+" "+place] = max(r.bad[check+" "+place], moved)
		}
	}
}

func (r *readingOf) countAt(admits func(point, atom int) bool, point int, p service.Point) (n [2]float64) {
	for a, at := range r.atoms {
		if at.strangers > 0 && carried(at, p) && admits(point, a) {
			n[side(at.four)] += at.strangers
		}
	}
	return n
}

// namedOutside reports whether an admitting rule names an atom by range or list.
func (x groupReading) namedOutside(point, atom int) bool {
	return slices.ContainsFunc(x.rules, func(rule *estate.Rule) bool {
		if rule.Action != estate.Admit {
			return false
		}
		return slices.ContainsFunc(rule.Peers,
			func(p estate.Peer) bool { return p.Kind == estate.PeerRange || p.Kind == estate.PeerList }) &&
			x.names[slices.Index(x.rules, rule)][atom]
	})
}

// lets reports whether anything is left of an admitting rule by the refusals before it.
func (r *readingOf) lets(x groupReading, i int) bool {
	if x.rules[i].Action != estate.Admit {
		return false
	}
	for k, p := range x.points {
		if !x.speaks[i][k] {
			continue
		}
		for a, at := range r.atoms {
			if !x.names[i][a] || !carried(at, p) {
				continue
			}
			refused := false
			for before := range i {
				refused = refused || x.first && x.rules[before].Action == estate.Refuse && x.speaks[before][k] &&
					x.names[before][a]
			}
			if !refused {
				return true
			}
		}
	}
	return false
}

// ports are which ports of a protocol some rules speak of.
func ports(protocol uint8, rules ...*estate.Rule) (held [65536]bool) {
	for _, rule := range rules {
		for _, s := range rule.Services {
			if s.Any && s == service.Anything {
				for port := range held {
					held[port] = true
				}
			}
			if s.Protocol == protocol {
				from, to := int(s.From), int(s.To)
				if s.Any {
					from, to = 0, 65535
				}
				for port := from; port <= to; port++ {
					held[port] = true
				}
			}
		}
	}
	return held
}

// whole reports whether rules speak of every protocol, or of every port of one from 1 on.
func whole(rules ...*estate.Rule) bool {
	for _, protocol := range []uint8{service.TCP, service.UDP} {
		held := ports(protocol, rules...)
		if !slices.Contains(held[1:], false) {
			return true
		}
	}
	return false
}

// widths reads all-services and wide-ports.
func (r *readingOf) widths(g *estate.Group, in groupReading) {
	byPeers := make(map[string][]*estate.Rule)
	for i, rule := range in.rules {
		if rule.BuiltIn || !r.lets(in, i) {
			continue
		}
		for _, protocol := range []uint8{service.TCP, service.UDP} {
			held := ports(protocol, rule)
			run, widest, all := 0, 0, 0
			for _, h := range held {
				if run++; !h {
					run = 0
				} else {
					all++
				}
				widest = max(widest, run)
			}
			if widest > 16 && all < 65536 {
				r.tell("wide-ports", g.Path())
			}
		}
		if slices.ContainsFunc(rule.Peers, func(p estate.Peer) bool { return p.Kind != estate.PeerSelf }) {
			names := fmt.Sprint(in.names[i])
			byPeers[names] = append(byPeers[names], rule)
		}
	}
	for _, rules := range byPeers {
		if whole(rules...) {
			r.tell("all-services", g.Path())
		}
	}
}

// farWide reads the part of wide-inbound about private ranges.
func (r *readingOf) farWide(g *estate.Group, in groupReading) {
	for i, rule := range in.rules {
		for _, p := range rule.Peers {
			if p.Kind != estate.PeerRange || !p.Range.Addr().IsPrivate() || !r.lets(in, i) {
				continue
			}
			free := new(big.Int).Lsh(big.NewInt(1), uint(p.Range.Addr().BitLen()-p.Range.Bits()))
			for _, n := range r.e.Networks { // networks of the tests do not overlap
				for _, x := range n.Ranges {
					if p.Range.Contains(x.Addr()) && x.Bits() >= p.Range.Bits() {
						free.Sub(free, new(big.Int).Lsh(big.NewInt(1), uint(x.Addr().BitLen()-x.Bits())))
					} else if x.Contains(p.Range.Addr()) {
						free.SetInt64(0)
					}
				}
			}
			most := big.NewInt(65536)
			if p.Range.Addr().Is6() {
				most.Lsh(big.NewInt(1), 88)
			}
			if free.Cmp(most) > 0 {
				r.tell("wide-inbound", g.Path())
			}
		}
	}
}

func (r *readingOf) catchAll(g *estate.Group, in groupReading) {
	for i, rule := range in.rules {
		if !g.Default && !rule.BuiltIn && slices.Contains(rule.Services, service.Anything) && r.lets(in, i) &&
			slices.ContainsFunc(rule.Peers, func(p estate.Peer) bool { return p.Kind == estate.PeerSelf }) {
			r.tell("catch-all-self", g.Path())
		}
	}
}

// order reads overruled, ineffective-refusal and crowded-ranks.
func (r *readingOf) order(g *estate.Group, x groupReading) {
	gone := make([]bool, len(x.rules))
	for i := len(x.rules) - 1; i >= 0; i-- {
		rule := x.rules[i]
		speaks, decided, vain := false, true, [2]int{} // of vain: 1 seen, 2 not admitted
		for k, p := range x.points {
			for a, at := range r.atoms {
				if !x.speaks[i][k] || !x.names[i][a] || !carried(at, p) {
					continue
				}
				speaks = true
				others := false
				for o, other := range x.rules {
					before := o < i || !x.first
					if o != i && !gone[o] && before && x.speaks[o][k] && x.names[o][a] &&
						!(other.Stateless && !rule.Stateless) {
						others = true
					}
				}
				decided = decided && others
				if by := x.decider(k, a); vain[side(at.four)] < 2 {
					vain[side(at.four)] = 1
					if by >= i || x.rules[by].Action != estate.Admit {
						vain[side(at.four)] = 2
					}
				}
			}
		}
		if rule.BuiltIn || !slices.Contains(x.names[i], true) {
			continue
		}
		if !speaks { // ICMP over IPv6
			r.tell("overruled", g.Path())
			continue
		}
		pointless := x.first && rule.Action == estate.Refuse && (vain[0] == 1 || vain[1] == 1)
		if pointless {
			r.tell("ineffective-refusal", g.Path())
		}
		if decided {
			gone[i] = true
			if !pointless {
				r.tell("overruled", g.Path())
			}
		}
	}
	if !x.first {
		return
	}
	last := -10
	for _, rule := range x.rules {
		if rule.BuiltIn {
			continue
		}
		if rule.Rank-last <= 1 {
			r.tell("crowded-ranks", g.Path())
		}
		last = rule.Rank
	}
}

// references reads dangling, static-address and undeclared-addresses.
func (r *readingOf) references(g *estate.Group) {
	for i := range g.Rules {
		rule := &g.Rules[i]
		var ranges []netip.Prefix
		for _, p := range rule.Peers {
			switch {
			case p.Kind == estate.PeerMissing, p.Kind == estate.PeerGroup && !canName(g, p.Group):
				r.tell("dangling", g.Path())
			case p.Kind == estate.PeerRange:
				ranges = append(ranges, p.Range)
				if !rule.BuiltIn && p.Range.IsSingleIP() && r.meant(g, p.Range.Addr()) {
					r.tell("static-address", g.Path())
				}
			}
		}
		literal := r.count(func(x atom) bool {
			return slices.ContainsFunc(ranges, func(p netip.Prefix) bool { return p.Contains(x.first) })
		})
		if rule.Action == estate.Admit && !rule.BuiltIn && literal[0]+literal[1] > 0 && !r.open(literal) {
			r.tell("undeclared-addresses", g.Path())
		}
	}
}

func peered(a, b *estate.Network) bool {
	return a != nil && b != nil && slices.Contains(a.Peered, b) && slices.Contains(b.Peered, a)
}

func canName(g, other *estate.Group) bool {
	switch g.Account.Cloud.Dialect {
	case "flat":
		return g.Account.Cloud == other.Account.Cloud
	case "union":
		return g.Network == other.Network || peered(g.Network, other.Network)
	}
	return g.Network == other.Network
}

// meant reports whether an address in a rule is one of the estate's.
func (r *readingOf) meant(g *estate.Group, a netip.Addr) bool {
	return slices.ContainsFunc(reading.Ends(r.e), func(x reading.End) bool {
		n := x.At.Subnet.Network
		near := n == g.Network || peered(n, g.Network) ||
			g.Network == nil && x.At.Instance.Account.Cloud == g.Account.Cloud
		return x.Addr == a && (!a.IsPrivate() || near)
	})
}

// oneEnd reads the part of one-way about the other end of a rule.
func (r *readingOf) oneEnd(g *estate.Group, interfaces []*estate.Interface) {
	if len(interfaces) == 0 {
		return
	}
	back := map[estate.Direction]estate.Direction{estate.In: estate.Out, estate.Out: estate.In}
	for i := range g.Rules {
		rule := &g.Rules[i]
		for _, p := range rule.Peers {
			other := p.Group
			if p.Kind == estate.PeerSelf {
				other = g
			} else if p.Kind != estate.PeerGroup || !canName(g, other) {
				continue
			}
			if rule.Action != estate.Admit || rule.BuiltIn {
				continue
			}
			somebody, lets := false, false
			for _, there := range r.interfaces(other) {
				for _, here := range interfaces {
					if here.Instance == there.Instance && other == g {
						continue
					}
					for _, a := range here.Private {
						for _, s := range points(r.e,
							slices.Concat([]*estate.Group{g}, there.Groups, there.Subnet.Groups)...) {
							if slices.ContainsFunc(rule.Services,
								func(x service.Spec) bool { return x.Contains(s) }) && reading.Carries(a, s) &&
								slices.ContainsFunc(there.Private,
									func(x netip.Addr) bool { return x.Is4() == a.Is4() }) && !lets {
								somebody = true
								lets = reading.Filter(r.e, there, back[rule.Direction], a, s) == "passes"
							}
						}
					}
				}
			}
			if somebody && !lets {
				r.tell("one-way", g.Path())
			}
		}
	}
}

// crossing reads stage-crossing.
func (r *readingOf) crossing(g *estate.Group, interfaces []*estate.Interface, in groupReading) {
	rank := func(i *estate.Interface) int {
		return slices.Index([]string{"lab", "development", "test", "staging", "production"},
			estate.InterfacePlace(i).Stage())
	}
	admin, _ := r.e.Services.Class(service.ClassAdmin)
	data, _ := r.e.Services.Class(service.ClassData)
	for i, rule := range in.rules {
		if rule.Action != estate.Admit ||
			r.open(r.count(func(x atom) bool {
				return in.names[i][slices.IndexFunc(r.atoms,
					func(y atom) bool { return y == x })]
			})) {
			continue
		}
		for _, from := range reading.Ends(r.e) {
			for _, to := range interfaces {
				if rank(from.At) < 0 || rank(from.At) >= rank(to) || !slices.Contains(from.At.Private, from.Addr) {
					continue
				}
				for _, a := range slices.Concat(to.Private, to.Public) {
					dst := reading.End{At: to, Addr: a}
					if a.Is4() != from.Addr.Is4() ||
						!slices.ContainsFunc(reading.SeenAs(r.e, from, dst),
							func(seen netip.Addr) bool {
								return rule.ID == "internet" ||
									reading.Fits(r.e, g, rule, to, seen)
							}) {
						continue
					}
					for k, p := range in.points {
						if in.speaks[i][k] && (admin.Contains(p) || data.Contains(p)) &&
							reading.Verdict(r.e, from, dst, p) == "passes" {
							r.tell("stage-crossing", g.Path())
						}
					}
				}
			}
		}
	}
}

// unfiltered: nothing filters at the interface, and what is attached to its subnet lets in all.
func (r *readingOf) unfiltered() {
	for _, instance := range r.e.Instances {
		for _, i := range instance.Interfaces {
			dialect := instance.Account.Cloud.Dialect
			if !i.Unfiltered && (dialect != "ranked" || len(i.Groups) > 0) {
				continue
			}
			open := true
			if dialect == "union" || dialect == "ranked" {
				for _, g := range r.e.Groups {
					if g.For != estate.ForSubnets || !slices.Contains(r.interfaces(g), i) {
						continue
					}
					x := r.group(g, estate.In, i, points(r.e, g))
					for a, at := range r.atoms {
						has := slices.ContainsFunc(slices.Concat(i.Private, i.Public),
							func(a netip.Addr) bool { return a.Is4() == at.four })
						for k, p := range x.points {
							open = open && (!has || !carried(at, p) || x.admits(k, a))
						}
					}
				}
			}
			if open {
				r.tell("unfiltered", i.Subnet.Path())
			}
		}
	}
}

// repeated reads repeated-addresses: the first of the groups is the place.
func (r *readingOf) repeated() {
	at := make(map[netip.Prefix][]string)
	for _, g := range r.e.Groups {
		for _, x := range g.Rules {
			for _, p := range x.Peers {
				if p.Kind == estate.PeerRange && !g.BuiltIn && !slices.Contains(at[p.Range], g.Path()) {
					at[p.Range] = append(at[p.Range], g.Path())
				}
			}
		}
	}
	for p, groups := range at {
		ours := false
		for _, n := range r.e.Networks {
			for _, x := range n.Ranges {
				ours = ours || p == x || p.Addr().IsPrivate() && p.Overlaps(x)
			}
		}
		single := p.IsSingleIP() &&
			slices.ContainsFunc(reading.Ends(r.e), func(x reading.End) bool { return x.Addr == p.Addr() })
		if len(groups) >= 3 && p.Bits() >= 8 && !ours && !single {
			r.tell("repeated-addresses", slices.Min(groups))
		}
	}
}

// readChecks are those that a reading tells of; of one-way only the missing other end.
var readChecks = []string{"open-admin-port", "open-data-port", "open-cleartext", "open-inbound", "one-family",
	"open-in-sum", "wide-inbound", "open-outbound", "all-services",
	"wide-ports", "catch-all-self", "overruled", "ineffective-refusal", "crowded-ranks", "dangling", "static-address",
	"undeclared-addresses", "unused", "default-group",
	"stage-crossing", "one-way", "unfiltered", "repeated-addresses"}

// disguised is a random estate of all dialects, both families, walls, lists and stages, with
// rules that are open, wide or pointless in all the ways in which that can be written.
func disguised(random *rand.Rand) string {
	var b strings.Builder
	one := func(list ...string) string { return list[random.IntN(len(list))] }
	line := func(format string, values ...any) { fmt.Fprintf(&b, format+"\n", values...) }
	b.WriteString(`{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z","estate":"x"}` + "\n")
	var groups []string
	for n, x := range []struct{ name, dialect string }{{"u", "union"}, {"v", "union"}, {"r", "ranked"},
		{"l", "layered"}, {"f", "flat"}} {
		a := x.name
		if a != "v" {
			line(`{"kind":"cloud","name":"c%s","dialect":%q}`, a, x.dialect)
		}
		line(`{"kind":"account","name":%q,"cloud":"c%s","labels":{"stage":%q}}`, a, strings.Replace(a, "v", "u", 1),
			one("production", "test", "lab", "staging", ""))
		peers := ""
		if a == "u" || a == "v" {
			other := strings.Replace("uv", a, "", 1)
			peers = fmt.Sprintf(`,"peers":[{"account":%q,"network":"%sn"}]`, other, other)
		}
		line(`{"kind":"network","account":%q,"id":"%sn","ranges":["10.%d.0.0/16","fd00:%d::/32"]%s}`, a, a, n, n, peers)
		for s := range 2 {
			wall := ""
			if x.dialect != "flat" && random.IntN(3) == 0 {
				wall = fmt.Sprintf(`,"groups":["%sw"]`, a)
			}
			to := one(`{"to":"0.0.0.0/0","via":"internet"},{"to":"::/0","via":"internet"}`,
				`{"to":"0.0.0.0/0","via":"internet"}`, `{"to":"0.0.0.0/0","via":"nat","address":"198.51.100.200"}`)
			if peers != "" {
				other := strings.Replace("uv", a, "", 1)
				k := strings.Index("uv", other)
				to += fmt.Sprintf(`,{"to":"10.%d.0.0/16","via":"peer","account":%q,"network":"%sn"}`, k, other, other)
			}
			line(`{"kind":"subnet","account":%q,"network":"%sn","id":"%ss%d","ranges":["10.%d.%d.0/24","fd00:%d:0:%d::/64"],"routes":[%s]%s}`, a, a, a, s, n, s, n, s, to, wall)
		}
		network := fmt.Sprintf(`,"network":"%sn"`, a)
		if x.dialect == "flat" {
			network = ""
		} else {
			line(`{"kind":"group","account":%q,"id":"%sw","for":"subnets","description":"x"%s}`, a, a, network)
			groups = append(groups, a+"/"+a+"w")
		}
		if x.dialect == "union" && random.IntN(2) == 0 {
			line(`{"kind":"group","account":%q,"id":"%sd","description":"x","built_in":true,"default":true%s}`, a, a,
				network)
			groups = append(groups, a+"/"+a+"d")
		}
		for _, id := range []string{"g", "h"} {
			line(`{"kind":"group","account":%q,"id":"%s%s","description":"x"%s}`, a, a, id, network)
			groups = append(groups, a+"/"+a+id)
		}
		for i := range 3 {
			private, public := fmt.Sprintf(`"10.%d.%d.%d"`, n, i%2, 1+i), ""
			if random.IntN(2) == 0 {
				private += fmt.Sprintf(`,"fd00:%d:0:%d::%d"`, n, i%2, 1+i)
			}
			if random.IntN(2) == 0 {
				public = fmt.Sprintf(`"198.51.100.%d"`, 10*n+i)
			}
			attached := one(fmt.Sprintf(`"%sg"`, a), fmt.Sprintf(`"%sh"`, a), fmt.Sprintf(`"%sg"`, a))
			if x.dialect != "ranked" && random.IntN(4) == 0 {
				attached = fmt.Sprintf(`"%sg","%sh"`, a, a)
			}
			if random.IntN(8) == 0 {
				attached = ""
			}
			line(`{"kind":"instance","account":%q,"id":"%s%d","labels":{%s},"interfaces":[{"id":"if-%s%d","subnet":"%ss%d","private":[%s],"public":[%s],"groups":[%s]%s}]}`,
				a, a, i, one("", "", `"stage":"production"`, `"stage":"lab"`), a, i, a, i%2, private, public,
				attached, one("", "", "", "", "", `,"filtered":false`))
		}
	}
	line(`{"kind":"instance","account":"u","id":"door","type":"balancer","interfaces":[{"id":"if-door","subnet":"us1","private":["10.0.1.9"],"public":["198.51.100.9"],"groups":[%s]}],"listeners":[{"service":"tcp 22","targets":["u%d"],"port":22},{"service":"tcp 443","targets":["u0","u1"],"port":5432}]}`,
		one(`"ug"`, `"uh"`, ""), random.IntN(3))
	line(`{"kind":"list","account":"u","id":"known","entries":["203.0.113.0/24","2001:db8:7::/48"],"owner":"published"}`)
	line(`{"kind":"list","account":"u","id":"all","entries":["0.0.0.0/1","128.0.0.0/1"],"owner":"published"}`)
	services := []string{"tcp 22", "tcp 22", "tcp 443", "tcp 5432", "tcp 80", "tcp 143", "udp 53", "tcp 20-100",
		"tcp 8000-8015", "tcp 8016-8031", "tcp 0-32767", "tcp 32768-65535", "tcp 1-65535",
		"tcp", "udp", "any", "any", "icmp 8", "icmpv6 128", "icmp", "protocol 47", "protocol 6", "tcp 21-23",
		"tcp 23-6000", "tcp 0-21"}
	peers := []string{"0.0.0.0/0", "0.0.0.0/0", "::/0", "::/0", "0.0.0.0/1", "128.0.0.0/1", "0.0.0.0/2", "64.0.0.0/2",
		"192.0.0.0/4", "192.0.0.0/5", "200.0.0.0/5", "2400::/8", "2600::/8", "2000::/4", "3000::/5",
		"10.0.0.0/8", "203.0.113.7", "203.0.113.0/24", "192.0.2.7", "192.0.2.0/24", "2001:db8:9::/48",
		"2001:db8:7::1", "198.51.100.200", "fd00::/16", "anything"}
	for k := range 34 {
		group := groups[random.IntN(len(groups))]
		a := group[:1]
		n := strings.Index("uvrlf", a)
		wall := strings.HasSuffix(group, "w")
		choose := func() string {
			if random.IntN(2) == 0 {
				return peers[random.IntN(len(peers))]
			}
			own := []string{fmt.Sprintf("10.%d.0.0/16", n), fmt.Sprintf("10.%d.0.1", n),
				fmt.Sprintf("fd00:%d::/32", n), fmt.Sprintf("fd00:%d:0:1::/64", n)}
			if wall && a != "r" {
				return one(own...)
			}
			own = append(own, "group:"+a+"g", "group:"+a+"h", "group:"+a+"g", "group:gone")
			if a == "u" || a == "v" {
				own = append(own, "group:"+one("u/ug", "v/vg"), "group:r/rg")
			}
			if a == "u" {
				own = append(own, "list:known", "list:all")
			}
			return one(own...)
		}
		to, spec := choose(), services[random.IntN(len(services))]
		more := `"description":"x"`
		first := a == "r" || wall && (a == "u" || a == "v")
		if first {
			more += fmt.Sprintf(`,"rank":%d,"action":%q`, 100+5*random.IntN(60)+random.IntN(2),
				one("admit", "admit", "refuse"))
		}
		if a == "r" && random.IntN(3) == 0 {
			to += `","` + choose()
			spec += `","` + services[random.IntN(len(services))]
		}
		if a == "l" && random.IntN(3) == 0 {
			more += `,"stateless":true`
		}
		line(`{"kind":"rule","account":%q,"group":%q,"id":"r%d","direction":%q,"services":["%s"],"peers":["%s"],%s}`,
			a, group[2:], k, one("in", "in", "out"), spec, to, more)
	}
	return b.String()
}

var (
	rounds = flag.Int("rounds", 100, "how many estates are read twice")
	seed   = flag.Uint64("seed", 8, "which estates they are")
)

// The audit says of generated estates what a second reading of the docs of its checks does:
// nothing less, and nothing more.
func TestChecksAgreeWithReading(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and other tests audit with as many workers")
	}
	random := rand.New(rand.NewPCG(15, *seed))
	fired, quiet := make(map[string]int), make(map[string]int)
	for round := range *rounds {
		text := disguised(random)
		e, _, err := store.ReadSurvey(strings.NewReader(text), "s.jsonl")
		if err != nil {
			t.Fatal(err, text)
		}
		r := newReading(e)
		r.run()
		told, bad := make(map[string]bool), make(map[string]audit.Severity)
		for _, f := range audit.Run(decide.New(e), audit.Options{Now: now}).Findings {
			if c, _ := audit.Find(f.Check); c.Moves == "" && f.Severity != f.Start && f.Check != "" {
				t.Errorf("round %d: %s moves from %s to %s, and its doc says nothing of it", round, f.Check, f.Start,
					f.Severity)
			}
			if f.Group != nil && !slices.Contains(e.Groups, f.Group) {
				continue // built in, and not in the survey
			}
			told[f.Check+" "+f.Where()] = told[f.Check+" "+f.Where()] || f.Check != "one-way" ||
				strings.Contains(f.Message+strings.Join(f.Details, ""), "one end")
			bad[f.Check+" "+f.Where()] = max(bad[f.Check+" "+f.Where()], f.Severity)
			for _, x := range f.Also {
				bad[x.Check+" "+f.Where()] = max(bad[x.Check+" "+f.Where()], x.Severity)
				told[x.Check+" "+f.Where()] = told[x.Check+" "+f.Where()] || x.Check != "one-way" ||
					strings.Contains(x.Message, "one end")
			}
		}
		var places []string
		for _, g := range e.Groups {
			places = append(places, g.Path())
		}
		for _, n := range e.Networks {
			for _, s := range n.Subnets {
				places = append(places, s.Path())
			}
		}
		for _, check := range readChecks {
			for _, place := range places {
				key := check + " " + place
				if told[key] != r.told[key] {
					t.Errorf("round %d: %s: the audit says %v, its doc %v\n%s", round, key, told[key], r.told[key],
						about(text, place))
				}
				if want, ok := r.bad[key]; ok && bad[key] != want {
					t.Errorf("round %d: %s: the audit says %s, its doc %s\n%s", round, key, bad[key], want,
						about(text, place))
				}
				if r.told[key] {
					fired[check]++
				} else {
					quiet[check]++
				}
			}
		}
	}
	for _, check := range readChecks {
		if fired[check] < 5 || quiet[check] < 5 {
			t.Errorf("%s fires %d times and is quiet %d times: too few to tell", check, fired[check], quiet[check])
		}
	}
}

// about are the lines of a survey that concern a place.
func about(text, place string) string {
	account, _, _ := strings.Cut(place, "/")
	var lines []string
	for line := range strings.Lines(text) {
		if !strings.Contains(line, `"kind":"rule"`) || strings.Contains(line, fmt.Sprintf(`"account":%q`, account)) {
			lines = append(lines, line)
		}
	}
	return strings.Join(lines, "")
}
