package change

import (
	"fmt"
	"math"
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// weigh orders changes by importance: what opens before what closes; to strangers, to many of them,
// at production, on grave services.
func (c *comparer) weigh(ch *Change) {
	d := c.after
	ch.weight = map[Kind]float64{Opens: 3000, Lost: 2000, Closes: 1000, Regained: 0}[ch.Kind]
	if ch.Kind == Closes {
		d = c.before
	}
	peers, services := ch.Traffic.Peers(service.All), ch.Traffic.Services()
	switch breadth := d.Breadth(peers); {
	case breadth.AtLeast(decide.OpenBreadth):
		ch.weight += 400
	case breadth.IPv4 > 0 || breadth.IPv6 > 0:
		ch.weight += 200
	}
	for class, weight := range map[string]float64{service.ClassAdmin: 100, service.ClassData: 80,
		service.ClassCleartext: 20} {
		if set, ok := serviceNames(c.before, c.after).Class(class); ok && set.Overlaps(services) {
			ch.weight += weight
		}
	}
	production := slices.ContainsFunc(ch.faces,
		func(p pair) bool { return estate.InterfacePlace(face(p)).Stage() == estate.Production })
	if production {
		ch.weight += 150
	}
	if ch.Nobody || ch.Example == nil {
		ch.weight -= 300
	}
	size, _ := ch.Traffic.Size().Float64()
	ch.weight += math.Log2(size+1) / 4
}

// mostTried bounds the number of flows that are tried for an example.
const mostTried = 400

// illustrate finds a flow that a change decides otherwise, among a limited number that are tried:
// first with strangers, then between instances.
func (c *comparer) illustrate(ch *Change) {
	tried, samples := 0, c.samples(ch.Traffic)
	for _, p := range ch.faces {
		for _, family := range []addr.Family{addr.IPv4, addr.IPv6} {
			for _, b := range samples {
				peers := b.peers.Only(family)
				if peers.IsEmpty() {
					continue
				}
				for _, own := range both(addressesIn(p.was), addressesIn(p.is)) {
					if own.Is4() != (family == addr.IPv4) {
						continue
					}
					for _, peer := range c.candidates(peers) {
						if tried++; tried > mostTried {
							return
						}
						x, changes := c.flowBy(ch, p, own, peer, b.point)
						if changes {
							ch.Example, ch.Tried = x, nil
							return
						}
						if ch.Tried == nil {
							ch.Tried = x
						}
					}
				}
			}
		}
	}
}

func addressesIn(i *estate.Interface) []netip.Addr {
	if i == nil {
		return nil
	}
	return allAddresses(i)
}

// candidates are peers that make good examples: a stranger, then instances.
func (c *comparer) candidates(peers addr.Set) []netip.Addr {
	var list []netip.Addr
	if a, ok := c.after.Stranger(peers); ok {
		list = append(list, a)
	}
	for _, set := range []addr.Set{peers.Intersect(c.after.OwnAddresses()), peers.Intersect(c.before.OwnAddresses()),
		peers.Minus(c.after.OwnAddresses())} {
		for _, p := range set.Prefixes()[:min(4, len(set.Prefixes()))] {
			list = append(list, p.Addr())
		}
	}
	return list
}

// A sample is a service and its peers.
type sample struct {
	point service.Point
	peers addr.Set
}

// samples are services of some traffic for examples, well-known ones first.
func (c *comparer) samples(set traffic.Set) []sample {
	names := serviceNames(c.before, c.after)
	var telling []service.Set
	for _, name := range []string{service.ClassAdmin, service.ClassData, service.ClassCleartext} {
		class, _ := names.Class(name)
		telling = append(telling, class)
	}
	for _, port := range []uint16{443, 80, 8080} {
		telling = append(telling, service.Of(service.Ports(service.TCP, port, port)))
	}
	list := make([][]sample, len(telling)+1)
	for _, b := range set.Bands() {
		k, point := len(telling), b.From
		for n, services := range telling {
			if p, any := services.Intersect(b.Services()).First(); any {
				k, point = n, p
				break
			}
		}
		list[k] = append(list[k], sample{point, b.Peers})
	}
	return slices.Concat(list...)
}

// flowBy makes a flow, and reports whether the two states decide it as the change says.
func (c *comparer) flowBy(ch *Change, p pair, own, peer netip.Addr, s service.Point) (*Example, bool) {
	was, nameOwn := c.verdict(c.before, p.was, own, peer, s, ch.Direction)
	is, nameNow := c.verdict(c.after, p.is, own, peer, s, ch.Direction)
	arrived, arrives := was == decide.Passes || was == decide.OneWay, is == decide.Passes || is == decide.OneWay
	fits := map[Kind]bool{Opens: arrives && !arrived, Closes: arrived && !arrives, Lost: was == decide.Passes &&
		is == decide.OneWay, Regained: was == decide.OneWay && is == decide.Passes}
	names := nameNow
	for k, name := range nameOwn { // by the instance's name, if it has the same in both states
		if _, err := netip.ParseAddr(names[k]); (err == nil || names[k] == "") && name != "" {
			names[k] = name
		}
	}
	if names[0] == "" || names[1] == "" {
		return nil, false
	}
	return &Example{From: names[0], To: names[1], Service: s, Was: was, Is: is}, fits[ch.Kind]
}

// called names an interface as the end of a flow.
func (c *comparer) called(i *estate.Interface, a netip.Addr) string {
	partner := c.m.faces[i]
	if partner == nil {
		partner = c.m.facesBack[i]
	}
	if len(i.Instance.Interfaces) == 1 && len(both(allAddresses(i), addressesIn(partner))) == 1 {
		return i.Instance.Path()
	}
	return fmt.Sprintf("%s (%s)", i.Instance.Path(), a)
}

// verdict decides a flow between an interface and a peer in a state, and names both ends.
func (c *comparer) verdict(d *decide.Decider, i *estate.Interface, own, peer netip.Addr, s service.Point,
	direction estate.Direction) (decide.Verdict, [2]string) {
	if i == nil || !slices.Contains(allAddresses(i), own) {
		return decide.NoRoute, [2]string{}
	}
	here, there := decide.End{Interface: i, Addr: own}, decide.End{Addr: peer}
	name := peer.String()
	for _, other := range d.At(peer) {
		if other != i {
			there.Interface, name = other, c.called(other, peer)
			break
		}
	}
	if there.Outside() && d.OwnAddresses().Contains(peer) {
		return decide.NoRoute, [2]string{} // the peer is its own address
	}
	at := c.called(i, own)
	src, dst, names := there, here, [2]string{name, at}
	if direction == estate.Out {
		src, dst, names = here, there, [2]string{at, name}
	}
	return d.Becomes(src, dst).Of(s), names
}
