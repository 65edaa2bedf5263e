package evidence

import (
	"bufio"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"slices"

	"isonomos/core/count"
	"isonomos/core/flow"
	"isonomos/core/service"
)

// An IPFIX file (RFC 5655) is a sequence of messages (RFC 7011).

const ipfixVersion = 10

// Lengths of headers, and numbers of sets (RFC 7011, section 3).
const (
	messageHeader   = 16
	setHeader       = 4
	templateSet     = 2
	optionsSet      = 3
	firstDataSet    = 256
	variableLength  = 65535
	reversePEN      = 29305 // of elements about the reverse direction (RFC 5103)
	enterpriseBit   = 0x8000
	mostTemplates   = 1 << 16
	longestTemplate = 1 << 12 // fields
)

// An element is what a field of a template holds.
type element struct {
	id         uint16
	length     uint16
	enterprise uint32
}

type template struct {
	fields  []element
	options bool
	least   int // the least number of bytes of a record
}

type templateKey struct {
	domain uint32
	id     uint16
}

// An ipfixReader reads the messages of one file.
type ipfixReader struct {
	file      string
	take      func(*flow.Record)
	report    *Report
	templates map[templateKey]template
	sequences map[uint32]*sequence // by observation domain
	unknown   int                  // data sets whose template is unknown
	notFlows  int                  // records of ICMP errors and neighbour discovery
	started   map[uint32]int64     // when an exporter was started, in milliseconds since 1970
	message   int
}

func readIPFIX(in *bufio.Reader, file string, o Options) (Report, error) {
	report := Report{Format: "IPFIX"}
	x := ipfixReader{file: file, take: o.Take(), report: &report, templates: make(map[templateKey]template),
		sequences: make(map[uint32]*sequence), started: make(map[uint32]int64)}
	var header [messageHeader]byte
	body := make([]byte, 0, 1<<16)
	for x.message = 1; ; x.message++ {
		if _, err := io.ReadFull(in, header[:]); errors.Is(err, io.EOF) {
			break
		} else if errors.Is(err, io.ErrUnexpectedEOF) {
			report.Notes = append(report.Notes,
				fmt.Sprintf("%s is cut off in message %d: what came before it is read", file, x.message))
			break
		} else if err != nil {
			return report, fmt.Errorf("reading %s: %w", file, err)
		}
		length := int(binary.BigEndian.Uint16(header[2:]))
		if version := binary.BigEndian.Uint16(header[:]); version != ipfixVersion || length < messageHeader {
			return report, fmt.Errorf("%s: message %d does not begin as one of IPFIX (version %d, length %d): "+
				"the file is damaged from here on", file, x.message, version, length)
		}
		body = body[:length-messageHeader]
		if _, err := io.ReadFull(in, body); errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			report.Notes = append(report.Notes,
				fmt.Sprintf("%s is cut off in message %d: what came before it is read", file, x.message))
			break
		} else if err != nil {
			return report, fmt.Errorf("reading %s: %w", file, err)
		}
		x.sets(int64(binary.BigEndian.Uint32(header[4:])), binary.BigEndian.Uint32(header[8:]),
			binary.BigEndian.Uint32(header[12:]), body)
	}
	x.tell()
	return report, nil
}

// tell adds remarks about gaps and missing templates, by observation domain.
func (x *ipfixReader) tell() {
	for _, d := range slices.Sorted(maps.Keys(x.sequences)) {
		way := x.sequences[d].likeliest()
		if way.missing > 0 {
			x.report.Notes = append(x.report.Notes, fmt.Sprintf("%s of observation domain %d never reached %s: its "+
				"sequence numbers have gaps", count.Of(int(way.missing), "record", "records"), d, x.file))
		}
		if way.restarts > 0 {
			x.report.Notes = append(x.report.Notes, fmt.Sprintf("the sequence numbers of observation domain %d go "+
				"back %s in %s: messages out of order, or an exporter that began anew", d,
				count.Of(way.restarts, "time", "times"), x.file))
		}
	}
	if x.notFlows > 0 {
		x.report.Notes = append(x.report.Notes, fmt.Sprintf("%s of %s: %s",
			count.Of(x.notFlows, "record", "records"), x.file, notFlow))
	}
	if x.unknown > 0 {
		x.report.Notes = append(x.report.Notes, fmt.Sprintf("%s has no template (never sent, or withdrawn) for "+
			"%s left out", x.file, count.Of(x.unknown, "data set, which is", "data sets, which are")))
	}
}

// A sequence follows the sequence numbers of an observation domain. A message carries the number of
// data records sent before it (RFC 7011, section 3.1); some exporters count this message's records
// too, leave out those of options, or count both directions of a flow. So each way of counting is
// followed, and the one with the fewest gaps is taken.
type sequence struct {
	ways [6]countingWay
}

type countingWay struct {
	next     uint32
	known    bool
	missing  uint64
	restarts int
}

// message takes a message's number, and how many data records it holds by each unit.
func (s *sequence) message(number uint32, records, flows, directions uint32, whole bool) {
	for i, n := range [...]uint32{records, flows, directions} {
		s.ways[2*i].take(number, number+n, !whole)
		s.ways[2*i+1].take(number-n, number, !whole)
	}
}

// take compares the number before a message with the expected one.
func (w *countingWay) take(before, next uint32, lost bool) {
	if w.known && before != w.next {
		if ahead := before - w.next; ahead < 1<<31 {
			w.missing += uint64(ahead)
		} else {
			w.restarts++
		}
	}
	w.next, w.known = next, !lost
}

// likeliest is the way of counting with the fewest gaps; the standard's comes first.
func (s *sequence) likeliest() countingWay {
	return slices.MinFunc(s.ways[:], func(a, b countingWay) int {
		return cmp.Or(cmp.Compare(a.restarts, b.restarts), cmp.Compare(a.missing, b.missing))
	})
}

func (x *ipfixReader) bad(problem string) {
	place := x.message
	x.report.Skipped.add(place, func() string { return fmt.Sprintf("%s: message %d: %s", x.file, place, problem) })
}

// sets reads the sets of a message.
func (x *ipfixReader) sets(exported int64, number, domain uint32, body []byte) {
	var sent dataCount
	whole := true
	for len(body) > 0 {
		if len(body) < setHeader {
			x.bad("bytes follow the last set")
			whole = false
			break
		}
		id, length := binary.BigEndian.Uint16(body), int(binary.BigEndian.Uint16(body[2:]))
		if length < setHeader || length > len(body) {
			x.bad(fmt.Sprintf("a set is said to have %d bytes, and %d are left", length, len(body)))
			whole = false
			break
		}
		set := body[setHeader:length]
		body = body[length:]
		switch {
		case id == templateSet || id == optionsSet:
			x.readTemplates(domain, id == optionsSet, set)
		case id >= firstDataSet:
			whole = x.data(exported, templateKey{domain, id}, set, &sent) && whole
		default:
			x.bad(fmt.Sprintf("sets with the number %d are reserved", id))
		}
	}
	if x.sequences[domain] == nil {
		x.sequences[domain] = new(sequence)
	}
	x.sequences[domain].message(number, sent.records, sent.flows, sent.directions, whole)
}

// A dataCount counts data records: all, those of flows, and the latter by direction.
type dataCount struct{ records, flows, directions uint32 }

// readTemplates reads a set of templates, some of which may be withdrawals.
func (x *ipfixReader) readTemplates(domain uint32, options bool, set []byte) {
	for len(set) >= 4 {
		id, count := binary.BigEndian.Uint16(set), int(binary.BigEndian.Uint16(set[2:]))
		if id == 0 && count == 0 { // padding
			return
		}
		set = set[4:]
		switch {
		case count == 0 && (id == templateSet || id == optionsSet): // withdraws all templates (RFC 7011, section 8.1)
			for k, t := range x.templates {
				if k.domain == domain && t.options == (id == optionsSet) {
					delete(x.templates, k)
				}
			}
			continue
		case id < firstDataSet:
			x.bad(fmt.Sprintf("a template has the number %d, and they begin at %d", id, firstDataSet))
			return
		case count == 0:
			delete(x.templates, templateKey{domain, id})
			continue
		case count > longestTemplate:
			x.bad(fmt.Sprintf("a template has %d fields", count))
			return
		}
		t := template{options: options}
		if options {
			if len(set) < 2 {
				x.bad("an options template is cut off")
				return
			}
			set = set[2:] // skip the number of scope fields
		}
		for range count {
			if len(set) < 4 {
				x.bad("a template is cut off")
				return
			}
			e := element{id: binary.BigEndian.Uint16(set), length: binary.BigEndian.Uint16(set[2:])}
			set = set[4:]
			if e.id&enterpriseBit != 0 {
				if len(set) < 4 {
					x.bad("a template is cut off")
					return
				}
				e.id, e.enterprise = e.id&^enterpriseBit, binary.BigEndian.Uint32(set)
				set = set[4:]
			}
			t.fields = append(t.fields, e)
			if e.length == variableLength {
				t.least++
			} else {
				t.least += int(e.length)
			}
		}
		if t.least == 0 {
			x.bad("a template's records have no bytes")
			continue
		}
		if len(x.templates) >= mostTemplates {
			x.bad("there are too many templates")
			return
		}
		x.templates[templateKey{domain, id}] = t
	}
}

// data reads the records of a data set and counts them; it reports whether it could be divided into
// records.
func (x *ipfixReader) data(exported int64, k templateKey, set []byte, sent *dataCount) bool {
	t, known := x.templates[k]
	if !known {
		x.unknown++
		return false
	}
	for len(set) >= t.least {
		var r ipfixRecord
		for _, e := range t.fields {
			n := int(e.length)
			if e.length == variableLength {
				if len(set) < 1 {
					x.bad("a record is cut off")
					return false
				}
				n, set = int(set[0]), set[1:]
				if n == 255 {
					if len(set) < 2 {
						x.bad("a record is cut off")
						return false
					}
					n, set = int(binary.BigEndian.Uint16(set)), set[2:]
				}
			}
			if n > len(set) {
				x.bad("a record is cut off")
				return false
			}
			r.field(e, set[:n])
			set = set[n:]
		}
		sent.records++
		if t.options {
			if r.init > 0 {
				x.started[k.domain] = r.init
			}
			continue
		}
		if r.init == 0 {
			r.init = x.started[k.domain]
		}
		sent.flows++
		if sent.directions++; r.ReplyKnown && r.ReplyPackets > 0 && r.Packets > 0 {
			sent.directions++
		}
		switch problem := r.finish(exported); problem {
		case "":
		case notFlow:
			x.notFlows++
			continue
		default:
			x.bad(problem)
			continue
		}
		x.report.Records++
		x.take(&r.Record)
	}
	return true // the rest is padding
}

// An ipfixRecord is one data record as it is read.
type ipfixRecord struct {
	flow.Record
	startMS, endMS int64 // since 1970; 0 if unknown
	upStart, upEnd int64 // milliseconds since the exporter was started
	hasUp          bool
	init           int64 // when the exporter was started, in milliseconds since 1970
	icmp, back     icmpType
	hasInitiator   bool  // its counters are those of the initiator and the responder
	direction      uint8 // biflowDirection (RFC 5103): 1 initiator, 2 reverse
	protocol       bool
}

// An icmpType is a type and code of ICMP.
type icmpType struct {
	kind, code uint8
	known      bool
}

func (i *icmpType) both(b []byte) {
	n := unsigned(b)
	*i = icmpType{uint8(n >> 8), uint8(n), true}
}

// reverse reads a field about the way back (RFC 5103).
func (r *ipfixRecord) reverse(id uint16, b []byte) {
	switch id {
	case 1, 85:
		r.ReplyBytes = max(r.ReplyBytes, unsigned(b))
	case 2, 86:
		r.ReplyPackets, r.ReplyKnown = max(r.ReplyPackets, unsigned(b)), true
	case 6:
		r.ReplyFlags, r.FlagsKnown = uint8(unsigned(b)), true
	case 32, 139:
		r.back.both(b)
	}
}

// field reads one field, by its number in the IANA registry of information elements.
func (r *ipfixRecord) field(e element, b []byte) {
	switch e.enterprise {
	case 0:
	case reversePEN:
		r.reverse(e.id, b)
		return
	default:
		return
	}
	switch e.id {
	case 1, 85: // octetDeltaCount, octetTotalCount
		r.Bytes = max(r.Bytes, unsigned(b))
	case 2, 86: // packetDeltaCount, packetTotalCount
		r.Packets = max(r.Packets, unsigned(b))
	case 231: // initiatorOctets
		r.Bytes = unsigned(b)
	case 232: // responderOctets
		r.ReplyBytes = unsigned(b)
	case 298: // initiatorPackets
		r.Packets, r.hasInitiator = unsigned(b), true
	case 299: // responderPackets
		r.ReplyPackets, r.ReplyKnown, r.hasInitiator = unsigned(b), true, true
	case 4:
		r.Protocol, r.protocol = uint8(unsigned(b)), true
	case 6: // tcpControlBits
		r.Flags, r.FlagsKnown = uint8(unsigned(b)), true
	case 7:
		r.SourcePort = uint16(unsigned(b))
	case 11:
		r.Port = uint16(unsigned(b))
	case 8, 27:
		r.Source = addressOf(b, r.Source)
	case 12, 28:
		r.Destination = addressOf(b, r.Destination)
	case 32, 139: // icmpTypeCodeIPv4, icmpTypeCodeIPv6
		r.icmp.both(b)
	case 176, 178:
		r.icmp.kind, r.icmp.known = uint8(unsigned(b)), true
	case 177, 179:
		r.icmp.code, r.icmp.known = uint8(unsigned(b)), true
	case 22: // flowStartSysUpTime
		r.upStart, r.hasUp = int64(unsigned(b)), true
	case 21:
		r.upEnd, r.hasUp = int64(unsigned(b)), true
	case 160: // systemInitTimeMilliseconds
		r.init = int64(unsigned(b))
	case 150:
		r.startMS = int64(unsigned(b)) * 1000
	case 151:
		r.endMS = int64(unsigned(b)) * 1000
	case 152:
		r.startMS = int64(unsigned(b))
	case 153:
		r.endMS = int64(unsigned(b))
	case 154, 156: // the seconds of NTP's timestamp format (RFC 7011, section 6.1.9)
		r.startMS = ntp(b)
	case 155, 157:
		r.endMS = ntp(b)
	case 158: // before the time of the message
		r.startMS = -int64(unsigned(b)/1000) - 1
	case 159:
		r.endMS = -int64(unsigned(b)/1000) - 1
	case 239:
		r.direction = uint8(unsigned(b))
	case 233: // firewallEvent: 3 is a flow that was denied
		r.Refused = r.Refused || unsigned(b) == 3
	case 89: // forwardingStatus: dropped is 2 in the upper two bits
		if len(b) > 0 {
			r.Refused = r.Refused || b[len(b)-1]>>6 == 2
		}
	}
}

// finish makes a flow of what was read, or says what is missing, or that it is notFlow.
func (r *ipfixRecord) finish(exported int64) string {
	if !r.Source.IsValid() || !r.Destination.IsValid() || !r.protocol {
		return "a record has no addresses or no protocol"
	}
	if r.Source.Is4() != r.Destination.Is4() {
		return "the addresses of a record are not of one family"
	}
	r.times(exported)
	switch {
	case r.Protocol == service.ICMP || r.Protocol == service.ICMPv6:
		r.SourcePort = 0
		if r.ReplyKnown && r.Packets == 0 { // only the way back was seen
			r.turn()
			r.icmp, r.back, r.ReplyKnown = r.back, r.icmp, false
		}
		if !r.icmp.known {
			break
		}
		if request, _ := icmpRequest(r.Protocol, r.icmp.kind); !icmpFlow(r.Protocol, request) {
			return notFlow
		}
		_, answers := icmpRequest(r.Protocol, r.icmp.kind)
		if answers && r.ReplyKnown && r.ReplyPackets > 0 && r.back.known { // the reply came first in the record
			r.turn()
			r.icmp = r.back
		} else if !answers {
			r.Opened = flow.BySource
		}
		r.Port = uint16(r.icmp.kind)<<8 | uint16(r.icmp.code)
		return ""
	case r.direction == 1 || r.hasInitiator && r.direction == 0:
		r.Opened = flow.BySource
	case r.direction == 2:
		r.Opened = flow.ByDestination
	default:
		r.Opened = r.openedByFlags()
	}
	if r.Opened == flow.ByDestination && r.ReplyKnown { // the record has the server as its source
		r.Opened = flow.BySource
		r.turn()
	}
	return ""
}

// turn exchanges the record's ends.
func (r *ipfixRecord) turn() {
	r.Source, r.Destination, r.SourcePort, r.Port = r.Destination, r.Source, r.Port, r.SourcePort
	r.Packets, r.ReplyPackets, r.Bytes, r.ReplyBytes = r.ReplyPackets, r.Packets, r.ReplyBytes, r.Bytes
	r.Flags, r.ReplyFlags = r.ReplyFlags, r.Flags
}

// openedByFlags is the side that opened a connection, where the flags of TCP tell: it sent a SYN and
// never an ACK, or the other one sent nothing but a refusal or the second step of the handshake.
func (r *ipfixRecord) openedByFlags() flow.Opener {
	const handshake = flow.TCPSyn | flow.TCPAck
	answers := func(flags uint8) bool { return flags == handshake || flags == flow.TCPReset|flow.TCPAck }
	switch {
	case r.Protocol != service.TCP || !r.FlagsKnown:
		return flow.NotSeen
	case r.Flags&handshake == flow.TCPSyn || answers(r.ReplyFlags):
		return flow.BySource
	case r.ReplyFlags&handshake == flow.TCPSyn || answers(r.Flags):
		return flow.ByDestination
	}
	return flow.NotSeen
}

// times works out when the flow began and ended.
func (r *ipfixRecord) times(exported int64) {
	start, end := r.startMS, r.endMS
	if start < 0 {
		start = exported*1000 + start + 1
	}
	if end < 0 {
		end = exported*1000 + end + 1
	}
	if start == 0 && r.hasUp && r.init > 0 {
		start, end = sinceInit(r.init, r.upStart, exported), sinceInit(r.init, r.upEnd, exported)
	}
	if start <= 0 {
		start, end = exported*1000, exported*1000 // the export time is all that is known
	}
	r.Start, r.End = start/1000, max(start, end)/1000
}

// sinceInit is the time at which an exporter had been running for so long, in milliseconds. Exporters
// count that in 32 bits, which begin anew every 49 days: it is the last such time before the export.
func sinceInit(init, up, exported int64) int64 {
	const around = 1 << 32
	at, latest := init+up, exported*1000+1000
	if at > latest {
		return at - (at-latest+around-1)/around*around
	}
	return at + (latest-at)/around*around
}

// unsigned reads a number of up to eight bytes: exporters may omit leading zeros (RFC 7011, section
// 6.2).
func unsigned(b []byte) uint64 {
	n := uint64(0)
	for _, x := range b[:min(8, len(b))] {
		n = n<<8 | uint64(x)
	}
	return n
}

// addressOf is the address in a field, or before if the field is empty.
func addressOf(b []byte, before netip.Addr) netip.Addr {
	a, ok := netip.AddrFromSlice(b)
	if !ok || before.IsValid() && a.IsUnspecified() {
		return before // a template may have fields for both families and fill only one
	}
	return a.Unmap()
}

// ntp converts an NTP timestamp, whose upper half counts seconds from 1900, to milliseconds since
// 1970.
func ntp(b []byte) int64 {
	if len(b) != 8 {
		return 0
	}
	const from1900 = 2208988800
	seconds, fraction := int64(binary.BigEndian.Uint32(b))-from1900, int64(binary.BigEndian.Uint32(b[4:]))
	return seconds*1000 + fraction*1000>>32
}
