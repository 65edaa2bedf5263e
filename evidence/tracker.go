package evidence

import (
	"bytes"
	"cmp"
	"net/netip"
	"slices"
	"time"

	"isonomos/core/flow"
	"isonomos/core/service"
)

// After such a silence the next packet begins another conversation. TCP keeps idle connections
// open: two hours is the default interval of keep-alive probes (RFC 9293, section 3.8.4).
const (
	idleTCP   = 2 * time.Hour
	idleOther = 3 * time.Minute
	lingering = 10 * time.Second // after a connection was closed
)

// A conversation is the packets between two ends, in both directions.
type conversation struct {
	ends        ends // from the side that opened it, or that was heard first
	start, last int64
	opened      bool // the first packet of a connection was seen
	answered    bool // the other side accepted the connection
	established bool // and the opener continued it
	closed      bool
	packets     [2]uint64 // from the opener, and back
	bytes       [2]uint64
	flags       [2]uint8 // of TCP, all that were set
}

// A tracker makes flows from packets. Its memory grows with the number of open conversations.
type tracker struct {
	take  func(*flow.Record)
	open  map[ends]*conversation
	spare []*conversation
	swept int64
}

func (t *tracker) packet(p *packet) {
	if p.at-t.swept > int64(time.Minute) {
		t.sweep(p.at)
	}
	var back bool
	c := t.open[p.ends]
	request := (p.ends.protocol == service.ICMP || p.ends.protocol == service.ICMPv6) && !p.answer
	if (c == nil || p.answer) && !request {
		if turned := t.open[p.ends.turned()]; turned != nil {
			c, back = turned, true
		}
	}
	opening := p.ends.protocol == service.TCP && p.flags&(flow.TCPSyn|flow.TCPAck) == flow.TCPSyn
	if c != nil && (p.at-c.last > int64(idleOf(c)) || opening && (c.closed || c.established)) {
		t.end(c)
		c, back = nil, false
	}
	if c == nil {
		if n := len(t.spare); n > 0 {
			c, t.spare = t.spare[n-1], t.spare[:n-1]
		} else {
			c = new(conversation)
		}
		*c = conversation{ends: p.ends, start: p.at, opened: opening}
		if p.answer || p.ends.protocol == service.TCP && p.flags&(flow.TCPSyn|flow.TCPAck) == flow.TCPSyn|flow.TCPAck {
			c.ends, back = p.ends.turned(), true // the request itself was not captured
			c.opened = true
		}
		t.open[c.ends] = c
	}
	c.last = max(c.last, p.at)
	way := 0
	if back {
		way = 1
	}
	c.packets[way]++
	c.bytes[way] += p.length
	c.flags[way] |= p.flags
	if p.ends.protocol != service.TCP {
		return
	}
	switch {
	case back && p.flags&flow.TCPSyn != 0:
		c.answered = true
	case !back && c.answered && p.flags&flow.TCPAck != 0 && p.flags&flow.TCPReset == 0:
		c.established = true
	}
	if p.flags&(flow.TCPReset|flow.TCPFin) != 0 {
		c.closed = true
	}
}

func idleOf(c *conversation) time.Duration {
	switch {
	case c.closed:
		return lingering
	case c.ends.protocol == service.TCP:
		return idleTCP
	}
	return idleOther
}

// sweep ends conversations that have been idle for too long.
func (t *tracker) sweep(now int64) {
	t.swept = now
	for _, c := range t.open {
		if now-c.last > int64(idleOf(c)) {
			t.end(c)
		}
	}
}

// flush ends all conversations, in a fixed order.
func (t *tracker) flush() {
	all := make([]*conversation, 0, len(t.open))
	for _, c := range t.open {
		all = append(all, c)
	}
	slices.SortFunc(all, func(a, b *conversation) int {
		return cmp.Or(cmp.Compare(a.start, b.start), bytes.Compare(a.ends.from[:], b.ends.from[:]),
			bytes.Compare(a.ends.to[:], b.ends.to[:]),
			cmp.Compare(a.ends.fromPort, b.ends.fromPort), cmp.Compare(a.ends.toPort, b.ends.toPort))
	})
	for _, c := range all {
		t.end(c)
	}
}

// end reports a conversation as one flow.
func (t *tracker) end(c *conversation) {
	delete(t.open, c.ends)
	const second = int64(time.Second)
	r := flow.Record{
		Start: c.start / second, End: c.last / second,
		Source: netip.AddrFrom16(c.ends.from).Unmap(), Destination: netip.AddrFrom16(c.ends.to).Unmap(),
		Protocol: c.ends.protocol, SourcePort: c.ends.fromPort, Port: c.ends.toPort,
		Packets: c.packets[0], Bytes: c.bytes[0], ReplyPackets: c.packets[1], ReplyBytes: c.bytes[1],
		ReplyKnown: true, Flags: c.flags[0], ReplyFlags: c.flags[1], FlagsKnown: c.ends.protocol == service.TCP,
	}
	if c.opened {
		r.Opened = flow.BySource
	}
	if r.Protocol == service.ICMP || r.Protocol == service.ICMPv6 {
		r.SourcePort, r.Opened = 0, flow.BySource
	}
	t.take(&r)
	t.spare = append(t.spare, c)
}
