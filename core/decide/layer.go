package decide

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// What the layers at an interface let through together: the interface's own
// groups, and those around its subnet.

// A layer is the groups that decide together at one point of the way.
type layer struct {
	name    string // "", or "subnet " before a step's direction
	groups  []*estate.Group
	passes  string // why everything passes, where it does
	stops   string // why nothing passes, where no group decides
	unknown string // why it can't be decided
}

// layers are the layers that traffic meets at an interface, each of which must
// admit it. Within one subnet the subnet's own layer is skipped where each must.
func (d *Decider) layers(i *estate.Interface, inside bool) []layer {
	dl := Dialect(i.Instance.Account)
	own := layer{groups: d.Worn(i)}
	if i.Unfiltered {
		own = layer{passes: "filtering is switched off at this interface"}
	}
	switch dl.Layers {
	case dialect.InstancesOnly:
		own.stops = "it wears no group, so nothing is let through"
		return []layer{own}
	case dialect.EitherMayAdmit:
		if own.passes == "" {
			own.groups = append(append([]*estate.Group{}, own.groups...), d.WornBySubnet(i.Subnet)...)
			own.stops = "neither the interface nor its subnet has a group, so nothing is let through"
		}
		return []layer{own}
	case dialect.BothMustAdmit:
		if len(own.groups) == 0 && own.passes == "" {
			if dl.Nothing == dialect.Passes {
				own.passes = "the interface wears no group, so this layer lets everything through"
			} else {
				own.unknown = fmt.Sprintf("the interface wears no group, and the survey does not tell the default group of %s", i.Subnet.Network.Path())
			}
		}
		all := []layer{own}
		if around := d.WornBySubnet(i.Subnet); len(around) > 0 && !inside {
			all = append(all, layer{name: "subnet ", groups: around})
		}
		return all
	}
	return []layer{{unknown: fmt.Sprintf("the survey does not say which dialect the cloud of account %s speaks", i.Instance.Account.Name)}}
}

// CantDecide says why what the filters of an interface let through can't be
// decided; it is empty where it can.
func (d *Decider) CantDecide(i *estate.Interface) string {
	for _, l := range d.layers(i, false) {
		if l.unknown != "" {
			return l.unknown
		}
	}
	return ""
}

// step asks a layer about one service with one peer. state reports whether the
// answer comes back by itself.
func (d *Decider) step(l layer, i *estate.Interface, direction estate.Direction, peer netip.Addr, p service.Point) (s Step, state bool) {
	s = Step{Layer: l.name + string(direction), At: i.Instance.Name, Verdict: Passes}
	switch {
	case l.unknown != "":
		s.Verdict, s.Text = Undecided, l.unknown
		return s, true
	case l.passes != "":
		s.Text = l.passes
		return s, true
	case len(l.groups) == 0:
		s.Verdict, s.Text = Stopped, l.stops
		return s, false
	}
	var best *decision
	for _, g := range l.groups {
		x := d.one(g, direction, i.Instance, peer, p)
		if x.admitted && (best == nil || !best.admitted || x.state && !best.state) || best == nil && x.rule != nil {
			best = &x
			s.Group, s.Rule = g, x.rule
		}
	}
	if best != nil && best.admitted {
		return s, best.state
	}
	s.Verdict = Stopped
	if best != nil {
		return s, false // a rule refuses it
	}
	var names []string
	for _, g := range l.groups {
		names = append(names, g.Path())
	}
	verb, preposition := "admits", "from"
	if direction == estate.Out {
		verb, preposition = "lets out", "to"
	}
	what := fmt.Sprintf("%s %s %s %s", verb, d.describe(p), preposition, peer)
	if len(l.groups) == 1 {
		s.Group, s.Text = l.groups[0], "no rule "+what
	} else {
		s.Text = fmt.Sprintf("no rule of %s %s", strings.Join(names, ", "), what)
	}
	return s, false
}

// describe is a service as people call it.
func (d *Decider) describe(p service.Point) string {
	return d.estate.Services.Describe(service.Between(p, p))
}

// layerAllowed is what the groups of a layer let through together.
func (d *Decider) layerAllowed(l layer, i *estate.Interface, direction estate.Direction) allowance {
	if l.passes != "" {
		return allowance{traffic.All, traffic.All}
	}
	var sum allowance
	for _, g := range l.groups {
		sum = sum.union(d.allowed(g, direction, i.Instance))
	}
	return sum
}

// layerPasses is the traffic that passes a layer, answers and all: where no state
// is kept, all answers must be let through the other way.
func (d *Decider) layerPasses(l layer, i *estate.Interface, direction estate.Direction) traffic.Set {
	here := d.layerAllowed(l, i, direction)
	open := here.all.Minus(here.kept)
	if open.IsEmpty() {
		return here.all
	}
	back := d.layerAllowed(l, i, direction.Opposite()).all
	return here.kept.Union(open.Intersect(d.answerable(back, i, direction)))
}

// defaultAnswers are the client ports where a network does not say (RFC 6056 and
// common practice: everything from the first unreserved port).
var defaultAnswers = estate.Ports{From: 1024, To: 65535}

func answersOf(n *estate.Network) estate.Ports {
	if n == nil || n.Answers.To == 0 {
		return defaultAnswers
	}
	return n.Answers
}

// clientPorts are the ports that answers to a peer of an interface go to: those of
// the network that the client is in, or of the server's where it is outside.
func (d *Decider) clientPorts(i *estate.Interface, direction estate.Direction, peer netip.Addr) estate.Ports {
	if direction == estate.In {
		for _, at := range d.byAddress()[peer] {
			if at.Subnet.Network != i.Subnet.Network {
				return answersOf(at.Subnet.Network)
			}
		}
	}
	return answersOf(i.Subnet.Network)
}

// answerable is the traffic whose answers are all within back: to every client
// port, of the reply type, or of the protocol itself.
func (d *Decider) answerable(back traffic.Set, i *estate.Interface, direction estate.Direction) traffic.Set {
	sets := []traffic.Set{traffic.Of(addr.Everyone, unanswered)}
	own := answersOf(i.Subnet.Network)
	others := addr.Set{} // peers in networks with client ports of their own
	if direction == estate.In {
		byPorts := make(map[estate.Ports]addr.Set)
		var order []estate.Ports
		for _, n := range d.estate.Networks {
			if ports := answersOf(n); n != i.Subnet.Network && ports != own {
				if _, seen := byPorts[ports]; !seen {
					order = append(order, ports)
				}
				byPorts[ports] = byPorts[ports].Union(d.addressesIn(n))
			}
		}
		for _, ports := range order {
			sets = append(sets, ported(back, ports).WithPeers(byPorts[ports]))
			others = others.Union(byPorts[ports])
		}
	}
	sets = append(sets, ported(back, own).WithPeers(others.Complement()))
	for request, reply := range replies {
		typ := uint8(reply >> 8)
		protocol := uint8(reply & 255)
		peers := back.Peers(service.Of(service.ICMPCode(protocol, typ, 0)))
		sets = append(sets, traffic.Of(peers, service.Of(service.ICMPType(uint8(request&255), uint8(request>>8)))))
	}
	for _, band := range back.Bands() {
		sets = append(sets, traffic.Of(band.Peers, band.Services().Intersect(portless)))
	}
	return traffic.UnionAll(sets)
}

// addressesIn are the private addresses of the interfaces in a network.
func (d *Decider) addressesIn(n *estate.Network) addr.Set {
	var all []netip.Addr
	for _, s := range n.Subnets {
		for _, i := range d.bySubnet[s] {
			all = append(all, i.Private...)
		}
	}
	return addr.Of(all...)
}

// ported is all TCP and UDP traffic with the peers that back lets through to every port of a run.
func ported(back traffic.Set, ports estate.Ports) traffic.Set {
	var sets []traffic.Set
	for _, protocol := range []uint8{service.TCP, service.UDP} {
		run := service.Of(service.Ports(protocol, ports.From, ports.To))
		peers := addr.Everyone
		covered := service.Set{}
		for _, b := range back.OnServices(run).Bands() {
			peers = peers.Intersect(b.Peers)
			covered = covered.Union(b.Services())
		}
		if run.SubsetOf(covered) {
			sets = append(sets, traffic.Of(peers, service.Of(service.Whole(protocol))))
		}
	}
	return traffic.UnionAll(sets)
}

// replies are the ICMP types that are answered, as type<<8|protocol: echo,
// timestamp, address mask (RFC 792, RFC 950), echo of ICMPv6 (RFC 4443).
var replies = map[uint16]uint16{
	8<<8 | service.ICMP:     0<<8 | service.ICMP,
	13<<8 | service.ICMP:    14<<8 | service.ICMP,
	17<<8 | service.ICMP:    18<<8 | service.ICMP,
	128<<8 | service.ICMPv6: 129<<8 | service.ICMPv6,
}

// unanswered are the ICMP types that need no answer; portless are the protocols that answer with themselves.
var unanswered, portless = func() (service.Set, service.Set) {
	icmp := service.Of(service.Whole(service.ICMP), service.Whole(service.ICMPv6))
	none := icmp
	for request := range replies {
		none = none.Minus(service.Of(service.ICMPType(uint8(request&255), uint8(request>>8))))
	}
	return none, service.All.Minus(icmp).Minus(service.Of(service.Whole(service.TCP), service.Whole(service.UDP)))
}()

// FilterTraffic is what the filters of an interface let through in a direction,
// answers and all, whatever the ways are.
func (d *Decider) FilterTraffic(i *estate.Interface, direction estate.Direction) traffic.Set {
	passing := traffic.All
	for k, l := range d.layers(i, false) {
		if l.unknown != "" {
			return traffic.Set{}
		}
		set := d.layerPasses(l, i, direction)
		if k > 0 { // the subnet's layer is skipped within the subnet
			set = set.Union(traffic.Of(d.neighbours(i), service.All))
		}
		passing = passing.Intersect(set)
	}
	return passing
}

// neighbours are the private addresses of the interfaces in an interface's subnet.
func (d *Decider) neighbours(i *estate.Interface) addr.Set {
	var all []netip.Addr
	for _, other := range d.bySubnet[i.Subnet] {
		all = append(all, other.Private...)
	}
	return addr.Of(all...)
}

// answerStep decides the answers that a layer must let back. Without a source
// port every client port counts, and the lowest that is stopped is told.
func (d *Decider) answerStep(l layer, i *estate.Interface, direction estate.Direction, peer netip.Addr, p service.Point, sourcePort int) Step {
	back := direction.Opposite()
	s := Step{Layer: "answer " + l.name + string(back), At: i.Instance.Name, Verdict: Passes, Text: "the answers are let back"}
	protocol, detail := p.Split()
	var wanted service.Set
	switch {
	case protocol == service.TCP || protocol == service.UDP:
		ports := d.clientPorts(i, direction, peer)
		if sourcePort >= 0 {
			ports = estate.Ports{From: uint16(sourcePort), To: uint16(sourcePort)}
		}
		wanted = service.Of(service.Ports(protocol, ports.From, ports.To))
	case protocol == service.ICMP || protocol == service.ICMPv6:
		reply, ok := replies[detail&0xff00|uint16(protocol)]
		if !ok {
			s.Text = "it needs no answer"
			return s
		}
		wanted = service.Of(service.ICMPCode(protocol, uint8(reply>>8), 0))
	default:
		wanted = service.Between(p, p)
	}
	let := d.layerAllowed(l, i, back).all.WithPeers(addr.Of(peer)).Services()
	if first, ok := wanted.Minus(let).First(); ok {
		s.Verdict = OneWay
		s.Text = fmt.Sprintf("no state is kept, and the answer to %s %s is stopped", peer, first)
		s.Group = l.groups[0]
	}
	return s
}

// Answers is the traffic of the answers to what a group lets through in a
// direction: to all client ports that count for it, of the reply types, of
// protocols without ports themselves.
func (d *Decider) Answers(g *estate.Group, requests traffic.Set, direction estate.Direction) traffic.Set {
	ports := []estate.Ports{answersOf(g.Network)}
	if direction == estate.In { // clients may be in networks that say otherwise
		for _, n := range d.estate.Networks {
			if p := answersOf(n); !slices.Contains(ports, p) {
				ports = append(ports, p)
			}
		}
	}
	var sets []traffic.Set
	for _, b := range requests.Bands() {
		services := b.Services()
		for _, protocol := range []uint8{service.TCP, service.UDP} {
			if services.Overlaps(service.Of(service.Whole(protocol))) {
				for _, p := range ports {
					sets = append(sets, traffic.Of(b.Peers, service.Of(service.Ports(protocol, p.From, p.To))))
				}
			}
		}
		for request, reply := range replies {
			if services.Overlaps(service.Of(service.ICMPType(uint8(request&255), uint8(request>>8)))) {
				sets = append(sets, traffic.Of(b.Peers, service.Of(service.ICMPCode(uint8(reply&255), uint8(reply>>8), 0))))
			}
		}
		sets = append(sets, traffic.Of(b.Peers, services.Intersect(portless)))
	}
	return traffic.UnionAll(sets)
}

// Followed are the groups that a group for subnets follows.
func (d *Decider) Followed(g *estate.Group) []*estate.Group { return d.followed(g) }

// PublishedLists are the surveyed lists that a list's published parts stand for in
// a group's cloud and region; none where a survey does not tell them all.
func (d *Decider) PublishedLists(l *estate.List, g *estate.Group) []*estate.List {
	_, published := l.At(g)
	var found []*estate.List
	for _, p := range published {
		i := slices.IndexFunc(d.estate.Lists, func(x *estate.List) bool {
			return x.Owner == "published" && x.Name == p.Name && x.Account != nil && x.Account.Cloud == g.Account.Cloud && x.Region == g.Account.Region
		})
		if i < 0 {
			return nil
		}
		found = append(found, d.estate.Lists[i])
	}
	return found
}

// Lets reports whether the filters at an interface let one service through with
// one peer, answers and all.
func (d *Decider) Lets(i *estate.Interface, direction estate.Direction, peer netip.Addr, p service.Point) bool {
	for _, l := range d.layers(i, false) {
		if l.passes != "" {
			continue
		}
		var best decision
		for _, g := range l.groups {
			if x := d.one(g, direction, i.Instance, peer, p); x.admitted && (!best.admitted || x.state) {
				best = x
			}
		}
		if l.unknown != "" || !best.admitted || !best.state && d.answerStep(l, i, direction, peer, p, -1).Verdict != Passes {
			return false
		}
	}
	return true
}

// Unanswered is the traffic with ports, or of echoes, that a group lets through
// at an interface without state and that passes its layer, though an answer to it
// is stopped.
func (d *Decider) Unanswered(i *estate.Interface, g *estate.Group, direction estate.Direction) traffic.Set {
	for _, l := range d.layers(i, false) {
		if !slices.Contains(l.groups, g) || l.passes != "" || l.unknown != "" {
			continue
		}
		own := d.allowed(g, direction, i.Instance)
		lost := own.all.Minus(own.kept)
		if lost.IsEmpty() {
			continue
		}
		back := direction.Opposite()
		if whole := traffic.Of(own.all.Peers(service.All), service.All); own.all.Equal(whole) && own.all.SubsetOf(d.allowed(g, back, i.Instance).all) {
			continue // everything with these peers, both ways
		}
		lost = lost.Minus(d.layerPasses(l, i, direction)).OnServices(answered)
		// A rule for all client ports is there for the answers of the other direction.
		answers := d.Answers(g, d.allowed(g, back, i.Instance).all, back)
		ports := answersOf(i.Subnet.Network)
		for _, r := range d.ordered(g, direction) {
			for _, protocol := range []uint8{service.TCP, service.UDP} {
				if service.Of(service.Ports(protocol, ports.From, ports.To)).SubsetOf(service.Of(r.Services...)) {
					lost = lost.Minus(answers.Intersect(d.RuleTraffic(g, r)))
				}
			}
		}
		return lost
	}
	return traffic.Set{}
}

// answered are the services that a missing answer makes useless: those with ports, and echoes.
var answered = func() service.Set {
	set := service.Of(service.Whole(service.TCP), service.Whole(service.UDP))
	for request := range replies {
		set = set.Union(service.Of(service.ICMPType(uint8(request&255), uint8(request>>8))))
	}
	return set
}()

// InSubnet are the interfaces in a subnet, in the order of the estate.
func (d *Decider) InSubnet(s *estate.Subnet) []*estate.Interface { return d.bySubnet[s] }
