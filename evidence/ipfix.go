package evidence

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
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
	next      map[uint32]uint32 // the next sequence number, by observation domain
	missing   map[uint32]uint64
	restarts  map[uint32]int
	unknown   int              // data sets whose template is unknown
	started   map[uint32]int64 // when an exporter was started, in milliseconds since 1970
	message   int
}

func readIPFIX(in *bufio.Reader, file string, o Options) (Report, error) {
	report := Report{Format: "IPFIX"}
	x := ipfixReader{file: file, take: o.Take(), report: &report, templates: make(map[templateKey]template),
		next:    make(map[uint32]uint32),
		missing: make(map[uint32]uint64), restarts: make(map[uint32]int), started: make(map[uint32]int64)}
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
	for _, d := range sortedKeys(x.missing) {
		x.report.Notes = append(x.report.Notes, fmt.Sprintf("%s of observation domain %d never reached %s: its "+
			"sequence numbers have gaps", count.Of(int(x.missing[d]), "record", "records"), d, x.file))
	}
	for _, d := range sortedKeys(x.restarts) {
		x.report.Notes = append(x.report.Notes, fmt.Sprintf("the sequence numbers of observation domain %d go "+
			"back %s in %s: messages out of order, or an exporter that began anew", d,
			count.Of(x.restarts[d], "time", "times"), x.file))
	}
	if x.unknown > 0 {
		x.report.Notes = append(x.report.Notes, fmt.Sprintf("%s has no template (never sent, or withdrawn) for "+
			"%s left out", x.file, count.Of(x.unknown, "data set, which is", "data sets, which are")))
	}
}

func sortedKeys[V any](m map[uint32]V) []uint32 {
	keys := make([]uint32, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

func (x *ipfixReader) bad(problem string) {
	place := x.message
	x.report.Skipped.add(place, func() string { return fmt.Sprintf("%s: message %d: %s", x.file, place, problem) })
}

// sets reads the sets of a message.
func (x *ipfixReader) sets(exported int64, sequence, domain uint32, body []byte) {
	records, whole := uint32(0), true
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
			n, ok := x.data(exported, templateKey{domain, id}, set)
			records, whole = records+n, whole && ok
		default:
			x.bad(fmt.Sprintf("sets with the number %d are reserved", id))
		}
	}
	if expected, known := x.next[domain]; known && sequence != expected {
		if ahead := sequence - expected; ahead < 1<<31 {
			x.missing[domain] += uint64(ahead)
		} else {
			x.restarts[domain]++
		}
	}
	if whole {
		x.next[domain] = sequence + records
	} else {
		delete(x.next, domain) // how many records were lost is unknown
	}
}

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

// data reads the records of a data set; ok reports whether it could be divided into records.
func (x *ipfixReader) data(exported int64, k templateKey, set []byte) (records uint32, ok bool) {
	t, known := x.templates[k]
	if !known {
		x.unknown++
		return 0, false
	}
	for len(set) >= t.least {
		var r ipfixRecord
		for _, e := range t.fields {
			n := int(e.length)
			if e.length == variableLength {
				if len(set) < 1 {
					x.bad("a record is cut off")
					return records, false
				}
				n, set = int(set[0]), set[1:]
				if n == 255 {
					if len(set) < 2 {
						x.bad("a record is cut off")
						return records, false
					}
					n, set = int(binary.BigEndian.Uint16(set)), set[2:]
				}
			}
			if n > len(set) {
				x.bad("a record is cut off")
				return records, false
			}
			r.field(e, set[:n])
			set = set[n:]
		}
		records++
		if t.options {
			if r.init > 0 {
				x.started[k.domain] = r.init
			}
			continue
		}
		if r.init == 0 {
			r.init = x.started[k.domain]
		}
		if problem := r.finish(exported); problem != "" {
			x.bad(problem)
			continue
		}
		x.report.Records++
		x.take(&r.Record)
	}
	return records, true // the rest is padding
}

// An ipfixRecord is one data record as it is read.
type ipfixRecord struct {
	flow.Record
	startMS, endMS int64 // since 1970; 0 if unknown
	upStart, upEnd int64 // milliseconds since the exporter was started; -1 if unknown
	hasUp          bool
	init           int64 // when the exporter was started, in milliseconds since 1970
	kind, code     int
	hasCode        bool
	flags          uint16
	hasFlags       bool
	direction      uint8 // biflowDirection: 1 initiator, 2 reverse
	protocol       bool
}

// field reads one field, by its number in the IANA registry of information elements.
func (r *ipfixRecord) field(e element, b []byte) {
	if e.enterprise == reversePEN {
		switch e.id {
		case 1, 85:
			r.ReplyBytes = max(r.ReplyBytes, unsigned(b))
		case 2, 86:
			r.ReplyPackets, r.ReplyKnown = max(r.ReplyPackets, unsigned(b)), true
		}
		return
	}
	if e.enterprise != 0 {
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
		r.Packets, r.Opened = unsigned(b), flow.BySource
	case 299: // responderPackets
		r.ReplyPackets, r.ReplyKnown, r.Opened = unsigned(b), true, flow.BySource
	case 4:
		r.Protocol, r.protocol = uint8(unsigned(b)), true
	case 6: // tcpControlBits
		r.flags, r.hasFlags = uint16(unsigned(b)), true
	case 7:
		r.SourcePort = uint16(unsigned(b))
	case 11:
		r.Port = uint16(unsigned(b))
	case 8, 27:
		r.Source = addressOf(b, r.Source)
	case 12, 28:
		r.Destination = addressOf(b, r.Destination)
	case 32, 139: // icmpTypeCodeIPv4, icmpTypeCodeIPv6
		r.kind, r.code, r.hasCode = int(unsigned(b)>>8), int(unsigned(b)&255), true
	case 176, 178:
		r.kind, r.hasCode = int(unsigned(b)), true
	case 177, 179:
		r.code, r.hasCode = int(unsigned(b)), true
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

// finish makes a flow of what was read, or says what is missing.
func (r *ipfixRecord) finish(exported int64) string {
	if !r.Source.IsValid() || !r.Destination.IsValid() || !r.protocol {
		return "a record has no addresses or no protocol"
	}
	if r.Source.Is4() != r.Destination.Is4() {
		return "the addresses of a record are not of one family"
	}
	start, end := r.startMS, r.endMS
	if start < 0 {
		start = exported*1000 + start + 1
	}
	if end < 0 {
		end = exported*1000 + end + 1
	}
	if start == 0 && r.hasUp && r.init > 0 {
		start, end = r.init+r.upStart, r.init+r.upEnd
	}
	if start <= 0 {
		start, end = exported*1000, exported*1000 // the export time is all that is known
	}
	r.Start, r.End = start/1000, max(start, end)/1000
	switch {
	case r.Protocol == service.ICMP || r.Protocol == service.ICMPv6:
		if r.hasCode {
			r.Port = uint16(r.kind)<<8 | uint16(r.code)
		}
		r.SourcePort = 0
	case r.direction == 1 || r.ReplyKnown && r.direction == 0:
		r.Opened = flow.BySource
	case r.direction == 2:
		r.Opened = flow.ByDestination
	case r.Opened == flow.NotSeen && r.hasFlags && r.Protocol == service.TCP && r.flags&(tcpSYN|tcpACK) == tcpSYN:
		r.Opened = flow.BySource // the request was never answered
	}
	if r.Opened == flow.ByDestination && r.ReplyKnown { // the record has the server as its source
		r.Opened = flow.BySource
		r.Source, r.Destination, r.SourcePort, r.Port = r.Destination, r.Source, r.Port, r.SourcePort
		r.Packets, r.ReplyPackets, r.Bytes, r.ReplyBytes = r.ReplyPackets, r.Packets, r.ReplyBytes, r.Bytes
	}
	return ""
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
