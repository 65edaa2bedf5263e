package flow

import "isonomos/core/service"

// What looks like an attempt is judged by what was sent, and not by whether a reply was recorded: a
// source may record one way only.

// Flags of TCP (RFC 9293), all that one side set during a flow.
const (
	TCPFin uint8 = 1 << iota
	TCPSyn
	TCPReset
	TCPPush
	TCPAck
)

// A side is what one end of a flow sent. Packets and Bytes are 0 if the evidence does not tell them.
type side struct {
	packets, bytes uint64
	flags          uint8
}

// Few packets without payload are an attempt. A client that is never answered repeats its first
// packet, which has always the same length, up to six times (RFC 6298).
const (
	fewPackets      = 3
	fewIfUnanswered = 7
	smallPacket     = 120 // bytes
)

// Lengths of headers in bytes, of TCP with its options.
const (
	ipv4Header = 20
	ipv6Header = 40
	tcpHeader  = 40
	udpHeader  = 8
)

// payload reports whether a side certainly sent more than headers.
func (r *Record) payload(s side) bool {
	if s.packets == 0 {
		return false
	}
	header := uint64(ipv4Header)
	if r.Source.Is6() {
		header = ipv6Header
	}
	switch r.Protocol {
	case service.TCP:
		if s.flags&TCPPush != 0 {
			return true
		}
		header += tcpHeader
	case service.UDP, service.UDPLite:
		header += udpHeader
	}
	return s.bytes > s.packets*header
}

// sides are what the client and the server sent; turned says that the record's source is the server.
func (r *Record) sides(turned bool) (client, server side) {
	client = side{r.Packets, r.Bytes, r.Flags}
	server = side{r.ReplyPackets, r.ReplyBytes, r.ReplyFlags}
	if turned {
		return server, client
	}
	return client, server
}

// refuses reports whether a side sent nothing but a reset.
func (s side) refuses() bool { return s.flags&TCPReset != 0 && s.flags&(TCPSyn|TCPFin|TCPPush) == 0 }

// continues reports whether a side went on after the first packet of the handshake.
func (s side) continues() bool {
	return s.flags&TCPAck != 0 && s.flags != TCPSyn|TCPAck && !s.refuses()
}

// answered reports whether both sides are told, and the server sent more than a refusal or half a
// handshake.
func (r *Record) answered(turned bool) bool {
	_, server := r.sides(turned)
	return r.ReplyKnown && server.packets > 0 && !(r.FlagsKnown && server.refuses()) && !r.unfinished(turned)
}

// speaker is the side that tells how far a handshake came: the client, if its way was recorded.
func speaker(client, server side) side {
	if client.packets == 0 && client.flags == 0 {
		return server
	}
	return client
}

// unfinished reports whether the flags of TCP show that the handshake was never finished.
func (r *Record) unfinished(turned bool) bool {
	return r.Protocol == service.TCP && r.FlagsKnown && !speaker(r.sides(turned)).continues()
}

// attempted reports whether a flow was no more than an attempt: few small packets without payload, or
// a handshake that was never finished, where flags or replies tell.
func (r *Record) attempted(turned bool) bool {
	client, server := r.sides(turned)
	if r.Protocol == service.TCP && r.ReplyKnown && !r.FlagsKnown && server.packets == 0 && client.packets > 0 &&
		client.packets <= fewPackets && client.bytes <= smallPacket*client.packets {
		return true // too few to accept a connection and send something
	}
	if r.payload(client) || r.payload(server) {
		return false
	}
	switch r.Protocol {
	case service.TCP:
	case service.UDP, service.UDPLite:
		return server.packets == 0 && client.packets > 0 && client.bytes > 0
	default:
		return false
	}
	if r.FlagsKnown {
		return r.unfinished(turned) || speaker(client, server).packets <= fewPackets
	}
	answered := server.packets > 0
	switch {
	case client.packets == 0 && answered:
		return !r.ReplyKnown && server.bytes > 0 && server.packets <= fewPackets
	case client.packets == 0 || client.bytes == 0: // the size is not told
		return r.ReplyKnown && !answered
	case r.ReplyKnown && !answered:
		return client.packets <= fewPackets ||
			client.packets <= fewIfUnanswered && client.bytes%client.packets == 0
	}
	return client.packets <= fewPackets
}

// loaded reports whether the client sent payload, or the evidence does not tell how much it sent.
func (r *Record) loaded(turned bool) bool {
	client, _ := r.sides(turned)
	return client.packets == 0 || client.bytes == 0 || r.payload(client)
}

// A tally counts flows for which something holds as their sources were the clients, and those for which
// it would hold if these were the servers: that may be settled later.
type tally struct{ straight, turned int }

func (t *tally) add(o tally) {
	t.straight += o.straight
	t.turned += o.turned
}

// note counts a record, for which something holds or not.
func (t *tally) note(straight, turned bool) {
	if straight {
		t.straight++
	}
	if turned {
		t.turned++
	}
}

func (t tally) swapped() tally { return tally{t.turned, t.straight} }
