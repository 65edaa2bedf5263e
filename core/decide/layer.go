package decide

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/count"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// What the layers at an interface let through together: its own groups, and those of its subnet.

// A layer holds the groups that decide together at one point.
type layer struct {
	name    string // "", or "subnet " before a step's direction
	groups  []*estate.Group
	passes  string // why everything passes, or empty
	stops   string // why nothing passes although there are no groups, or empty
	unknown string // why it can't be decided, or empty
}

// layers are the layers that traffic passes at an interface; each of them must admit it. Traffic
// within a subnet does not pass the subnet's own layer, in dialects where both layers must admit.
func (d *Decider) layers(i *estate.Interface, inside bool) []layer {
	dl := Dialect(i.Instance.Account)
	own := layer{groups: d.GroupsAt(i)}
	if i.Unfiltered {
		own = layer{passes: "filtering is switched off at this interface"}
	}
	switch dl.Layers {
	case dialect.InstancesOnly:
		own.stops = "no group is attached to it, so nothing is let through"
		return []layer{own}
	case dialect.EitherMayAdmit:
		if own.passes == "" {
			own.groups = append(append([]*estate.Group{}, own.groups...), d.GroupsOfSubnet(i.Subnet)...)
			own.stops = "neither the interface nor its subnet has a group, so nothing is let through"
		}
		return []layer{own}
	case dialect.BothMustAdmit:
		if len(own.groups) == 0 && own.passes == "" {
			if dl.Nothing == dialect.Passes {
				own.passes = "no group is attached to the interface, so this layer lets everything through"
			} else {
				own.unknown = fmt.Sprintf("no group is attached to the interface, and the survey does not name "+
					"the default group of %s", i.Subnet.Network.Path())
			}
		}
		all := []layer{own}
		if around := d.GroupsOfSubnet(i.Subnet); len(around) > 0 && !inside {
			all = append(all, layer{name: "subnet ", groups: around})
		}
		return all
	}
	return []layer{{unknown: fmt.Sprintf("the survey does not say which dialect the cloud of account %s speaks",
		i.Instance.Account.Name)}}
}

// CantDecide says why the filters of an interface can't be decided. It is empty where they can.
func (d *Decider) CantDecide(i *estate.Interface) string {
	for _, l := range d.layers(i, false) {
		if l.unknown != "" {
			return l.unknown
		}
	}
	return ""
}

// step asks a layer about one service with one peer. The result state reports whether the answer
// comes back by itself.
func (d *Decider) step(l layer, i *estate.Interface, direction estate.Direction, peer netip.Addr,
	p service.Point) (s Step, state bool) {
	s = Step{Layer: l.name + string(direction), Direction: direction, At: i.Instance.Name, Verdict: Passes}
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
		x := d.one(g, direction, i, peer, p)
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
		s.Text = fmt.Sprintf("no rule of %s %s", count.Some(names, 6), what)
	}
	return s, false
}

// describe names a service for a sentence.
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
		sum = sum.union(d.allowed(g, direction, i))
	}
	return sum
}

// layerTraffic is the traffic of which requests and answers pass a layer, and the traffic that the
// layer admits. Where no state is kept, the layer must admit the answers in the other direction
// too.
func (d *Decider) layerTraffic(l layer, i *estate.Interface, direction estate.Direction) (passes, admits traffic.Set) {
	here := d.layerAllowed(l, i, direction)
	open := here.all.Minus(here.kept)
	if open.IsEmpty() {
		return here.all, here.all
	}
	back := d.layerAllowed(l, i, direction.Opposite()).all
	return here.kept.Union(open.Intersect(d.answerable(back, i, direction))), here.all
}

// defaultAnswers are the client ports of networks that don't say which: all unprivileged ports, as
// is common practice (RFC 6056).
var defaultAnswers = estate.Ports{From: 1024, To: 65535}

func answersOf(n *estate.Network) estate.Ports {
	if n == nil || n.Answers.To == 0 {
		return defaultAnswers
	}
	return n.Answers
}

// clientsOf are peers in networks with their own client ports.
type clientsOf struct {
	ports estate.Ports
	peers addr.Set
}

// othersClients are the possible clients of an interface in networks whose client ports differ from
// its own network's: by private addresses if the networks are linked, by public ones in any case.
// An address may be in several networks.
func (d *Decider) othersClients(i *estate.Interface) []clientsOf {
	known, ok := d.clients[i.Subnet]
	if ok {
		return known
	}
	own := answersOf(i.Subnet.Network)
	line := OnLine(i.Subnet)
	add := func(ports estate.Ports, peers addr.Set) {
		switch k := slices.IndexFunc(known, func(c clientsOf) bool { return c.ports == ports }); {
		case ports == own || peers.IsEmpty():
		case k < 0:
			known = append(known, clientsOf{ports, peers})
		default:
			known[k].peers = known[k].peers.Union(peers)
		}
	}
	for _, n := range d.estate.Networks {
		if ports := answersOf(n); ports != own && (line || n.PeeredWith(i.Subnet.Network)) {
			add(ports, d.addressesIn(n).Minus(addr.OfPrefixes(i.Subnet.Network.Ranges...)))
		}
	}
	met := d.clientsMet()
	for _, ports := range slices.SortedFunc(maps.Keys(met),
		func(a, b estate.Ports) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) }) {
		add(ports, met[ports])
	}
	d.clients[i.Subnet] = known
	return known
}

// findClients collects the public addresses of the estate by the client ports of their network.
func (x *index) findClients() map[estate.Ports]addr.Set {
	met := make(map[estate.Ports][]netip.Addr)
	for s, interfaces := range x.bySubnet {
		ports := answersOf(s.Network)
		for _, i := range interfaces {
			for _, a := range addressesOf(i) {
				if addr.Public.Contains(a) {
					met[ports] = append(met[ports], a)
				}
			}
		}
	}
	sets := make(map[estate.Ports]addr.Set, len(met))
	for ports, addrs := range met {
		sets[ports] = addr.Of(addrs...)
	}
	return sets
}

// clientPorts are the ports to which answers to a peer go: those of all networks in which a client
// of that address may be, or else of the interface's own network.
func (d *Decider) clientPorts(i *estate.Interface, direction estate.Direction, peer netip.Addr) []estate.Ports {
	var ports []estate.Ports
	if direction == estate.In {
		for _, c := range d.othersClients(i) {
			if c.peers.Contains(peer) {
				ports = append(ports, c.ports)
			}
		}
	}
	if len(ports) == 0 {
		ports = append(ports, answersOf(i.Subnet.Network))
	}
	return ports
}

// answerable is the traffic whose answers are all contained in back: to every client port, of the
// ICMP reply type, or of the same protocol.
func (d *Decider) answerable(back traffic.Set, i *estate.Interface, direction estate.Direction) traffic.Set {
	sets := []traffic.Set{traffic.Of(addr.Everyone, unanswered)}
	var others addr.Set
	if direction == estate.In {
		clients := d.othersClients(i)
		for _, c := range clients {
			others = others.Union(c.peers)
		}
		answered := traffic.Of(others, withPorts)
		for _, c := range clients {
			answered = answered.Minus(traffic.Of(c.peers, withPorts).Minus(ported(back, c.ports)))
		}
		sets = append(sets, answered)
	}
	sets = append(sets, ported(back, answersOf(i.Subnet.Network)).WithPeers(others.Complement()))
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

// ported is all traffic of protocols with ports, with those peers that back lets through to every
// port of a range.
func ported(back traffic.Set, ports estate.Ports) traffic.Set {
	var sets []traffic.Set
	for _, protocol := range service.Ported {
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

// replies are the ICMP types of replies, by that of the request: echo, timestamp, address mask (RFC
// 792, RFC 950) and ICMPv6 echo (RFC 4443). A key is type<<8 | protocol.
var replies = map[uint16]uint16{
	8<<8 | service.ICMP:     0<<8 | service.ICMP,
	13<<8 | service.ICMP:    14<<8 | service.ICMP,
	17<<8 | service.ICMP:    18<<8 | service.ICMP,
	128<<8 | service.ICMPv6: 129<<8 | service.ICMPv6,
}

// withPorts are the services whose answers go to client ports.
var withPorts = service.WholePorted

// unanswered are the ICMP types that are not answered; portless are the protocols whose answers are
// of the same protocol.
var unanswered, portless = func() (service.Set, service.Set) {
	icmp := service.Of(service.Whole(service.ICMP), service.Whole(service.ICMPv6))
	none := icmp
	for request := range replies {
		none = none.Minus(service.Of(service.ICMPType(uint8(request&255), uint8(request>>8))))
	}
	return none, service.All.Minus(icmp).Minus(withPorts)
}()

// FilterTraffic is the traffic of which requests and answers pass the filters of an interface,
// regardless of routes.
func (d *Decider) FilterTraffic(i *estate.Interface, direction estate.Direction) traffic.Set {
	passes, _ := d.filter(i, direction)
	return passes
}

// Filters is the traffic of which requests and answers pass the filters of an interface, and the
// traffic that they admit, regardless of routes. Both are empty where that can't be decided.
func (d *Decider) Filters(i *estate.Interface, direction estate.Direction) (passes, admits traffic.Set) {
	return d.filter(i, direction)
}

// filter is Filters of an interface. It is empty where that can't be decided.
func (d *Decider) filter(i *estate.Interface, direction estate.Direction) (passes, admits traffic.Set) {
	passes, admits, sure := d.filterKnown(i, direction)
	if !sure {
		return traffic.Set{}, traffic.Set{}
	}
	return passes, admits
}

// filterKnown is filter of those layers that can be decided, and reports whether these are all.
func (d *Decider) filterKnown(i *estate.Interface, direction estate.Direction) (passes, admits traffic.Set, sure bool) {
	passes, admits, sure = traffic.All, traffic.All, true
	for _, l := range d.layers(i, false) {
		if l.unknown != "" {
			sure = false
			continue
		}
		passing, admitted := d.layerTraffic(l, i, direction)
		if l.name != "" { // the subnet's layer does not apply within the subnet
			near := traffic.Of(d.neighbours(i), service.All)
			passing, admitted = passing.Union(near), admitted.Union(near)
		}
		passes, admits = passes.Intersect(passing), admits.Intersect(admitted)
	}
	return passes, admits, sure
}

// neighbours are the private addresses of the interfaces in an interface's subnet.
func (d *Decider) neighbours(i *estate.Interface) addr.Set {
	var all []netip.Addr
	for _, other := range d.bySubnet[i.Subnet] {
		all = append(all, other.Private...)
	}
	return addr.Of(all...)
}

// answerStep decides whether a layer lets answers back to ranges of client ports. Of the stopped
// ports the lowest is reported.
func (d *Decider) answerStep(l layer, i *estate.Interface, direction estate.Direction, peer netip.Addr,
	p service.Point, clients []estate.Ports) Step {
	back := direction.Opposite()
	s := Step{Layer: "answer " + l.name + string(back), Direction: back, At: i.Instance.Name, Verdict: Passes,
		Text: "the answers are let back"}
	wanted := answersTo(p, clients)
	if wanted.IsEmpty() {
		s.Text = "it needs no answer"
		return s
	}
	let, _ := d.layerAdmits(l, i, back, peer)
	if first, ok := wanted.Minus(let).First(); ok {
		s.Verdict = OneWay
		s.Text = fmt.Sprintf("no state is kept, and the answer to %s %s is stopped", peer, first)
		s.Group = l.groups[0]
	}
	return s
}

// answersTo are the services of the answers to one: all client ports, the ICMP reply type, or the
// same protocol; empty if there is no answer.
func answersTo(p service.Point, clients []estate.Ports) service.Set {
	protocol, detail := p.Split()
	switch protocol {
	case service.TCP, service.UDP, service.SCTP, service.DCCP, service.UDPLite:
		specs := make([]service.Spec, len(clients))
		for k, ports := range clients {
			specs[k] = service.Ports(protocol, ports.From, ports.To)
		}
		return service.Of(specs...)
	case service.ICMP, service.ICMPv6:
		reply, ok := replies[detail&0xff00|uint16(protocol)]
		if !ok {
			return service.Set{}
		}
		return service.Of(service.ICMPCode(protocol, uint8(reply>>8), 0))
	}
	return service.Between(p, p)
}

// answeredBy are the services whose answers are all in back.
func answeredBy(back service.Set, clients []estate.Ports) service.Set {
	answered := unanswered.Union(back.Intersect(portless))
	for _, protocol := range service.Ported {
		if answersTo(service.PointOf(protocol, 0), clients).SubsetOf(back) {
			answered = answered.Union(service.Of(service.Whole(protocol)))
		}
	}
	for request, reply := range replies {
		if back.Contains(service.PointOf(uint8(reply&255), reply&0xff00)) {
			answered = answered.Union(service.Of(service.ICMPType(uint8(request&255), uint8(request>>8))))
		}
	}
	return answered
}

// layerAdmits are the services that a layer lets through with one peer, and those of them whose
// answers come back by themselves.
func (d *Decider) layerAdmits(l layer, i *estate.Interface, direction estate.Direction, peer netip.Addr) (all,
	kept service.Set) {
	if l.passes != "" {
		return service.All, service.All
	}
	for _, g := range l.groups {
		more, keeping := d.admits(g, direction, i, peer)
		all, kept = all.Union(more), kept.Union(keeping)
	}
	return all, kept
}

// layerOutcome divides all services by what a layer does with them, for one peer.
func (d *Decider) layerOutcome(l layer, i *estate.Interface, direction estate.Direction, peer netip.Addr,
	clients []estate.Ports) Outcome {
	if l.unknown != "" {
		return becoming(Undecided, service.All)
	}
	all, kept := d.layerAdmits(l, i, direction, peer)
	lost := all.Minus(kept)
	if !lost.IsEmpty() {
		back, _ := d.layerAdmits(l, i, direction.Opposite(), peer)
		lost = lost.Minus(answeredBy(back, clients))
	}
	o := becoming(Passes, all.Minus(lost))
	o[place(OneWay)] = lost
	return o.or(Stopped)
}

// Answers is the traffic of the answers to what a group lets through in a direction: to all client
// ports that may apply, of ICMP reply types, or of the same protocol.
func (d *Decider) Answers(g *estate.Group, requests traffic.Set, direction estate.Direction) traffic.Set {
	ports := []estate.Ports{answersOf(g.Network)}
	if direction == estate.In { // clients may be in networks with other client ports
		for _, n := range d.estate.Networks {
			if p := answersOf(n); !slices.Contains(ports, p) {
				ports = append(ports, p)
			}
		}
	}
	var sets []traffic.Set
	for _, b := range requests.Bands() {
		services := b.Services()
		for _, protocol := range service.Ported {
			if services.Overlaps(service.Of(service.Whole(protocol))) {
				for _, p := range ports {
					sets = append(sets, traffic.Of(b.Peers, service.Of(service.Ports(protocol, p.From, p.To))))
				}
			}
		}
		for request, reply := range replies {
			if services.Overlaps(service.Of(service.ICMPType(uint8(request&255), uint8(request>>8)))) {
				sets = append(sets, traffic.Of(b.Peers,
					service.Of(service.ICMPCode(uint8(reply&255), uint8(reply>>8), 0))))
			}
		}
		sets = append(sets, traffic.Of(b.Peers, services.Intersect(portless)))
	}
	return traffic.UnionAll(sets)
}

// Followed are the groups that a subnet group follows.
func (d *Decider) Followed(g *estate.Group) []*estate.Group { return d.followed(g) }

// PublishedLists are the surveyed lists for the published parts of a list, in a group's cloud and
// region. There are none where the survey does not have all of them.
func (d *Decider) PublishedLists(l *estate.List, g *estate.Group) []*estate.List {
	_, published := l.At(g)
	var found []*estate.List
	for _, p := range published {
		i := slices.IndexFunc(d.estate.Lists, func(x *estate.List) bool {
			return x.Owner == "published" && x.Name == p.Name && x.Account != nil &&
				x.Account.Cloud == g.Account.Cloud && x.Region == g.Account.Region
		})
		if i < 0 {
			return nil
		}
		found = append(found, d.estate.Lists[i])
	}
	return found
}

// Lets reports whether the filters at an interface let a service through with a peer, and its
// answer back.
func (d *Decider) Lets(i *estate.Interface, direction estate.Direction, peer netip.Addr, p service.Point) bool {
	for _, l := range d.layers(i, false) {
		if l.passes != "" {
			continue
		}
		var best decision
		for _, g := range l.groups {
			if x := d.one(g, direction, i, peer, p); x.admitted && (!best.admitted || x.state) {
				best = x
			}
		}
		if l.unknown != "" || !best.admitted ||
			!best.state && d.answerStep(l, i, direction, peer, p, d.clientPorts(i, direction, peer)).Verdict != Passes {
			return false
		}
	}
	return true
}

// Unanswered is the traffic that a group without state admits at an interface and the rest of its
// layer lets through, but of which an answer is stopped. Only protocols with ports and echoes are
// looked at.
func (d *Decider) Unanswered(i *estate.Interface, g *estate.Group, direction estate.Direction) traffic.Set {
	for _, l := range d.layers(i, false) {
		if !slices.Contains(l.groups, g) || l.passes != "" || l.unknown != "" {
			continue
		}
		own := d.allowed(g, direction, i)
		lost := own.all.Minus(own.kept)
		if lost.IsEmpty() {
			continue
		}
		back := direction.Opposite()
		if whole := traffic.Of(own.all.Peers(service.All), service.All); own.all.Equal(whole) &&
			own.all.SubsetOf(d.allowed(g, back, i).all) {
			continue // everything with these peers is let through in both directions
		}
		passes, _ := d.layerTraffic(l, i, direction)
		lost = lost.Minus(passes).OnServices(answered)
		// What answers to the other direction need is not meant by itself.
		answers := d.Answers(g, d.allowed(g, back, i).all, back)
		ports := answersOf(i.Subnet.Network)
		for _, r := range d.ordered(g, direction) {
			for _, protocol := range service.Ported {
				if service.Of(service.Ports(protocol, ports.From, ports.To)).SubsetOf(service.Of(r.Services...)) {
					lost = lost.Minus(answers.Intersect(d.RuleTraffic(g, r)))
				}
			}
		}
		return lost
	}
	return traffic.Set{}
}

// answered are the services that are useless without an answer: those with ports, and echoes.
var answered = func() service.Set {
	set := service.WholePorted
	for request := range replies {
		set = set.Union(service.Of(service.ICMPType(uint8(request&255), uint8(request>>8))))
	}
	return set
}()

// InSubnet are the interfaces in a subnet, in the order of the estate.
func (d *Decider) InSubnet(s *estate.Subnet) []*estate.Interface { return d.bySubnet[s] }
