package flow

import (
	"net/netip"
	"testing"

	"isonomos/core/service"
)

// What is an attempt is judged by what was sent. The client's side and the server's are "packets bytes",
// or no bytes where the evidence does not tell them.
func TestAttempted(t *testing.T) {
	const syn, ack, push, fin, reset = TCPSyn, TCPAck, TCPPush, TCPFin, TCPReset
	for _, x := range []struct {
		name           string
		protocol       uint8
		client, server side
		known          bool // it is told whether there were replies
		flags          bool
		attempted      bool
	}{
		{"a port that is closed", service.TCP, side{1, 60, syn}, side{1, 40, reset | ack}, true, true, true},
		{"the same without flags", service.TCP, side{1, 60, 0}, side{1, 40, 0}, true, false, true},
		{"never answered", service.TCP, side{6, 360, 0}, side{}, true, false, true},
		{"half a handshake", service.TCP, side{2, 100, syn | reset}, side{2, 120, syn | ack}, true, true, true},
		{"a handshake and no more", service.TCP, side{3, 160, syn | ack | fin}, side{2, 112, syn | ack | fin}, true, true,
			true},
		{"a banner was read", service.TCP, side{3, 164, 0}, side{3, 900, 0}, true, false, false},
		{"payload, and no reply was recorded", service.TCP, side{400, 300000, 0}, side{}, true, false, false},
		{"a download of which the acknowledgements alone were recorded", service.TCP, side{40, 2080, 0}, side{}, true,
			false, false},
		{"one way, by its flags", service.TCP, side{4, 216, syn | ack | push | fin}, side{}, false, true, false},
		{"one way, the first packet alone", service.TCP, side{1, 60, syn}, side{}, false, true, true},
		{"the server's way alone, a refusal", service.TCP, side{}, side{1, 40, reset | ack}, false, true, true},
		{"the server's way alone", service.TCP, side{}, side{6, 900, syn | ack | push}, false, true, false},
		{"the size is not told", service.TCP, side{}, side{}, false, false, false},
		{"the size is not told, but that nobody answered", service.TCP, side{}, side{}, true, false, true},
		{"the size is not told, and it was answered", service.TCP, side{}, side{2, 0, 0}, true, false, false},
		{"a log line", service.UDP, side{1, 180, 0}, side{}, true, false, false},
		{"an empty datagram", service.UDP, side{1, 28, 0}, side{}, true, false, true},
		{"an empty datagram that was answered", service.UDP, side{1, 28, 0}, side{1, 90, 0}, true, false, false},
		{"a ping", service.ICMP, side{1, 28, 0}, side{}, true, false, false},
	} {
		r := Record{Source: netip.MustParseAddr("192.0.2.1"), Destination: netip.MustParseAddr("10.0.0.1"),
			Protocol: x.protocol, Port: 7000, SourcePort: 50000, Packets: x.client.packets, Bytes: x.client.bytes,
			Flags: x.client.flags, ReplyPackets: x.server.packets, ReplyBytes: x.server.bytes,
			ReplyFlags: x.server.flags, ReplyKnown: x.known, FlagsKnown: x.flags, Opened: BySource}
		if got := r.attempted(false); got != x.attempted {
			t.Errorf("%s: attempted %v", x.name, got)
		}
		back := r.turned()
		if got := back.attempted(true); got != x.attempted {
			t.Errorf("%s, the server first: attempted %v", x.name, got)
		}
	}
}

// Where a server's way is not recorded, replies say nothing; elsewhere they do.
func TestRepliesOfServersThatAreNotHeard(t *testing.T) {
	log := func(server string, replies uint64) *Record {
		return &Record{Source: netip.MustParseAddr("192.0.2.1"), Destination: netip.MustParseAddr(server), Port: 7000,
			Protocol: service.UDP, Packets: 1, Bytes: 100, ReplyKnown: true, ReplyPackets: replies, Opened: BySource}
	}
	var d Daily
	for _, r := range []*Record{log("10.0.0.1", 0), log("10.0.0.2", 0), log("10.0.0.2", 1)} {
		d.Add(r)
	}
	d.Close()
	if got := told(d.Between(0, 1)); got != "192.0.2.1>10.0.0.1 udp 7000 1/1; 192.0.2.1>10.0.0.2 udp 7000 1/2" {
		t.Error(got)
	}
}
