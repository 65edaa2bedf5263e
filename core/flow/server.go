package flow

import (
	"bytes"
	"cmp"
	"slices"

	"isonomos/core/service"
)

// Which side of a flow is the server.
//
// Where the opening was seen, the side that was opened to is the server. Else the ports decide: a
// port of a named service comes before other system ports (below 1024, RFC 6335), these before
// ports below 32768, and these before ephemeral ones. Where that does not decide, the flow is kept
// until the end, and the side with more partners is the server.

// settle says which side opened a flow, by what was seen or else by ports and ICMP types, and which
// port is the server's.
func (r *Record) settle() (Opener, uint16) {
	switch r.Opened {
	case BySource:
		return BySource, r.Port
	case ByDestination:
		return ByDestination, r.SourcePort
	}
	switch r.Protocol {
	case service.TCP, service.UDP, service.SCTP, service.DCCP, service.UDPLite:
		if r.SourcePort == 0 {
			return BySource, r.Port // the evidence has one port only, the server's
		}
		there, back := portRank(r.Protocol, r.Port), portRank(r.Protocol, r.SourcePort)
		switch {
		case there < back:
			return BySource, r.Port
		case back < there:
			return ByDestination, r.SourcePort
		}
		return NotSeen, r.Port
	case service.ICMP:
		switch r.Port >> 8 {
		case 0, 14, 18: // replies to 8, 13 and 17 (RFC 792, RFC 950)
			return ByDestination, map[uint16]uint16{0: 8, 14: 13, 18: 17}[r.Port>>8] << 8
		}
	case service.ICMPv6:
		if r.Port>>8 == 129 { // echo reply (RFC 4443)
			return ByDestination, 128 << 8
		}
	}
	return BySource, r.Port
}

// portRank is lower for ports that are more likely a server's.
func portRank(protocol uint8, port uint16) int {
	index := int(port)
	if protocol == service.UDP {
		index += 1 << 16
	}
	switch {
	case named[index>>6]&(1<<(index&63)) != 0:
		return 0
	case port < 1024:
		return 1
	case port < 32768:
		return 2
	}
	return 3
}

// named has a bit for each port of a named service, first all of TCP, then UDP.
var named = func() (bits [2 << 10]uint64) {
	for _, n := range service.Builtin {
		for _, spec := range n.Specs {
			offset := map[uint8]int{service.TCP: 0, service.UDP: 1 << 16}
			base, ok := offset[spec.Protocol]
			for port := int(spec.From); ok && port <= int(spec.To); port++ {
				bits[(base+port)>>6] |= 1 << ((base + port) & 63)
			}
		}
	}
	return bits
}()

// heardOf is what is known of a talk, and whether the record is from its lower end.
func (s *Summary) heardOf(r *Record) (h *heard, fromA bool) {
	t := talk{r.Source.As16(), r.Destination.As16(), r.SourcePort, r.Port, r.Protocol}
	fromA = true
	if c := cmp.Or(bytes.Compare(t.a[:], t.b[:]), cmp.Compare(t.aPort, t.bPort)); c > 0 {
		t.a, t.b, t.aPort, t.bPort = t.b, t.a, t.bPort, t.aPort
		fromA = false
	}
	h = s.talks[t]
	if h == nil {
		if s.talks == nil {
			s.talks = make(map[talk]*heard)
		}
		h = new(heard)
		s.talks[t] = h
	}
	return h, fromA
}

// hear keeps a record until it is known which side is the server.
func (s *Summary) hear(r *Record) {
	h, fromA := s.heardOf(r)
	if fromA {
		h.fromA.add(r, false, true)
	} else {
		h.fromB.add(r, false, true)
	}
}

// settleTalks decides which end of each talk is the server: one that is known to serve that port
// elsewhere, else the one with more partners, else the one that was spoken to first.
func (s *Summary) settleTalks() {
	if len(s.talks) == 0 {
		return
	}
	served := make(map[end]bool)
	for k := range s.sums {
		protocol, port := k.service.Split()
		served[end{k.destination, port, protocol}] = true
	}
	partners := make(map[end]int)
	order := make([]talk, 0, len(s.talks))
	for t := range s.talks {
		partners[end{t.a, t.aPort, t.protocol}]++
		partners[end{t.b, t.bPort, t.protocol}]++
		order = append(order, t)
	}
	slices.SortFunc(order, func(x, y talk) int {
		return cmp.Or(bytes.Compare(x.a[:], y.a[:]), bytes.Compare(x.b[:], y.b[:]), cmp.Compare(x.aPort, y.aPort),
			cmp.Compare(x.bPort, y.bPort), cmp.Compare(x.protocol, y.protocol))
	})
	for _, t := range order {
		h := s.talks[t]
		a, b := end{t.a, t.aPort, t.protocol}, end{t.b, t.bPort, t.protocol}
		there, back := &h.fromA, &h.fromB // if b is the server
		bServes := partners[b] > partners[a]
		switch {
		case served[a] != served[b]:
			bServes = served[b]
		case partners[a] == partners[b]:
			bServes = back.empty() || !there.empty() && there.First <= back.First
		}
		server, client := b, a
		if !bServes {
			server, client = a, b
			there, back = back, there
		}
		turned := back.turned()
		x := s.at(key{client.address, server.address, service.PointOf(t.protocol, server.port)})
		x.take(there)
		x.take(&turned)
		s.tellsBack = s.tellsBack || !back.empty()
	}
	s.talks = nil
}

func (x *Sum) empty() bool { return x.way == (ways{}) }
