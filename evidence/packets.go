package evidence

import (
	"bufio"
	"errors"
	"fmt"
	"io"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"isonomos/core/count"
	"isonomos/core/service"
)

// isCapture reports whether a file begins like a packet capture: pcap with micro- or nanoseconds in
// either byte order, or pcapng.
func isCapture(head []byte) bool {
	if len(head) < 4 {
		return false
	}
	switch string(head[:4]) {
	case "\xa1\xb2\xc3\xd4", "\xd4\xc3\xb2\xa1", "\xa1\xb2\x3c\x4d", "\x4d\x3c\xb2\xa1", "\x0a\x0d\x0d\x0a":
		return true
	}
	return false
}

// A packetSource returns packets one by one; each is valid until the next call.
type packetSource interface {
	ZeroCopyReadPacketData() ([]byte, gopacket.CaptureInfo, error)
	LinkType() layers.LinkType
}

// readPackets makes flows from the packets of a capture.
func readPackets(in *bufio.Reader, file string, o Options) (Report, error) {
	report := Report{Format: "packets"}
	head, err := in.Peek(4)
	if err != nil {
		return report, fmt.Errorf("reading %s: %w", file, err)
	}
	var source packetSource
	if string(head) == "\x0a\x0d\x0d\x0a" {
		source, err = pcapgo.NewNgReader(in, pcapgo.NgReaderOptions{WantMixedLinkType: true, SkipUnknownVersion: true})
	} else {
		source, err = pcapgo.NewReader(in)
	}
	if err != nil {
		return report, fmt.Errorf("%s is not a good capture: %w", file, err)
	}
	t := tracker{take: o.Take(), open: make(map[ends]*conversation)}
	d := newDissector()
	unread := make(map[string]int)
	for n := 1; ; n++ {
		data, info, err := source.ZeroCopyReadPacketData()
		if errors.Is(err, io.EOF) {
			break
		}
		if errors.Is(err, io.ErrUnexpectedEOF) {
			report.Notes = append(report.Notes,
				fmt.Sprintf("%s is cut off in packet %d: what came before it is read", file, n))
			break
		}
		if err != nil {
			return report, fmt.Errorf("%s: packet %d: %w", file, n, err)
		}
		link := source.LinkType()
		if len(info.AncillaryData) > 0 {
			link, _ = info.AncillaryData[0].(layers.LinkType)
		}
		var p packet
		problem := ""
		if !quick(link, data, &p) {
			problem = d.dissect(link, data, &p)
		}
		switch problem {
		case "":
			p.at = info.Timestamp.UnixNano()
			if p.at < 0 {
				report.Skipped.add(n, func() string {
					return fmt.Sprintf("%s: packet %d is from before 1970", file,
						n)
				})
				continue
			}
			report.Records++
			t.packet(&p)
		case notIP, notFlow:
			unread[problem]++
		default:
			report.Skipped.add(n, func() string { return fmt.Sprintf("%s: packet %d: %s", file, n, problem) })
		}
	}
	t.flush()
	for _, problem := range []string{notIP, notFlow} {
		if unread[problem] > 0 {
			report.Notes = append(report.Notes,
				fmt.Sprintf("%s of %s: %s", count.Of(unread[problem], "packet", "packets"), file, problem))
		}
	}
	return report, nil
}

// Reasons to leave a packet out that are not errors.
const (
	notIP   = "not IP (such as ARP)"
	notFlow = "no flow of their own (fragments behind the first, ICMP errors, neighbour discovery)"
)

// A packet is what is needed of a packet.
type packet struct {
	ends   ends // from the sender to the receiver
	at     int64
	length uint64 // of the IP packet, with its headers
	flags  uint8  // TCP flags
	answer bool   // it is an ICMP reply; ends are those of the request, reversed
}

// ends are the addresses and ports of a packet, in its direction.
type ends struct {
	from, to         [16]byte
	fromPort, toPort uint16
	protocol         uint8
}

func (e ends) turned() ends {
	e.from, e.to, e.fromPort, e.toPort = e.to, e.from, e.toPort, e.fromPort
	if e.protocol == service.ICMP || e.protocol == service.ICMPv6 {
		e.fromPort, e.toPort = e.toPort, e.fromPort
	}
	return e
}

// A dissector finds the ends of packets.
type dissector struct {
	parsers map[layers.LinkType]*gopacket.DecodingLayerParser
	eth     layers.Ethernet
	vlan    layers.Dot1Q
	sll     layers.LinuxSLL
	sll2    layers.LinuxSLL2
	null    layers.Loopback
	four    layers.IPv4
	six     layers.IPv6
	skipper layers.IPv6ExtensionSkipper
	decoded []gopacket.LayerType
}

func newDissector() *dissector {
	return &dissector{parsers: make(map[layers.LinkType]*gopacket.DecodingLayerParser)}
}

// first is the outermost layer for each link type.
var first = map[layers.LinkType]gopacket.LayerType{
	layers.LinkTypeEthernet:  layers.LayerTypeEthernet,
	layers.LinkTypeLinuxSLL:  layers.LayerTypeLinuxSLL,
	layers.LinkTypeLinuxSLL2: layers.LayerTypeLinuxSLL2,
	layers.LinkTypeNull:      layers.LayerTypeLoopback,
	layers.LinkTypeLoop:      layers.LayerTypeLoopback,
	layers.LinkTypeIPv4:      layers.LayerTypeIPv4,
	layers.LinkTypeIPv6:      layers.LayerTypeIPv6,
}

// linkRaw are link types whose packets begin with an IP header of either family.
func linkRaw(t layers.LinkType) bool { return t == 12 || t == 14 || t == layers.LinkTypeRaw }

func (d *dissector) parser(link layers.LinkType) (*gopacket.DecodingLayerParser, bool) {
	if p := d.parsers[link]; p != nil {
		return p, true
	}
	begin, ok := first[link]
	if !ok {
		return nil, false
	}
	p := gopacket.NewDecodingLayerParser(begin, &d.eth, &d.vlan, &d.sll, &d.sll2, &d.null, &d.four, &d.six, &d.skipper)
	p.IgnoreUnsupported = true // layers above IP are decoded here
	d.parsers[link] = p
	return p, true
}

// quick decodes the usual packet: an unfragmented TCP or UDP packet over IPv4 in a plain Ethernet
// frame. It leaves others to dissect, which would return the same for these.
func quick(link layers.LinkType, data []byte, p *packet) bool {
	const ethernet = 14
	if link != layers.LinkTypeEthernet || len(data) < ethernet+20+20 || data[12] != 8 || data[13] != 0 ||
		data[14] != 0x45 {
		return false
	}
	ip := data[ethernet:]
	total := int(ip[2])<<8 | int(ip[3])
	// a fragment, or more are to come
	if total < 20+20 || total > len(ip) || ip[6]&0x3f != 0 || ip[7] != 0 ||
		ip[9] != service.TCP && ip[9] != service.UDP {
		return false
	}
	p.ends = ends{protocol: ip[9], fromPort: uint16(ip[20])<<8 | uint16(ip[21]),
		toPort: uint16(ip[22])<<8 | uint16(ip[23])}
	p.ends.from, p.ends.to = mapped(ip[12:16]), mapped(ip[16:20])
	p.length = uint64(total)
	if p.ends.protocol == service.TCP {
		p.flags = ip[33]
	}
	return true
}

// dissect finds the ends of a packet, or says why it has none.
func (d *dissector) dissect(link layers.LinkType, data []byte, p *packet) string {
	if linkRaw(link) && len(data) > 0 {
		link = layers.LinkTypeIPv4
		if data[0]>>4 == 6 {
			link = layers.LinkTypeIPv6
		}
	}
	parser, ok := d.parser(link)
	if !ok {
		return fmt.Sprintf("links of type %d are not known", link)
	}
	if err := parser.DecodeLayers(data, &d.decoded); err != nil && !parser.Truncated {
		return err.Error()
	}
	payload := []byte(nil)
	found := false
	for _, layer := range d.decoded {
		switch layer {
		case layers.LayerTypeIPv4:
			found = true
			if d.four.FragOffset > 0 {
				return notFlow
			}
			p.ends.from, p.ends.to = mapped(d.four.SrcIP), mapped(d.four.DstIP)
			p.ends.protocol, payload = uint8(d.four.Protocol), d.four.Payload
			p.length = uint64(d.four.Length)
		case layers.LayerTypeIPv6:
			found = true
			p.ends.from, p.ends.to = [16]byte(d.six.SrcIP), [16]byte(d.six.DstIP)
			p.ends.protocol, payload = uint8(d.six.NextHeader), d.six.Payload
			p.length = uint64(d.six.Length) + 40
		default:
			if found && layer != layers.LayerTypeIPv4 && layer != layers.LayerTypeIPv6 { // an extension header of IPv6
				if layer == layers.LayerTypeIPv6Fragment {
					if len(d.skipper.Contents) >= 4 && (d.skipper.Contents[2] != 0 || d.skipper.Contents[3]&0xf8 != 0) {
						return notFlow
					}
				}
				p.ends.protocol, payload = uint8(d.skipper.NextHeader), d.skipper.Payload
			}
		}
	}
	if !found {
		if parser.Truncated {
			return "the packet is cut off before its addresses"
		}
		return notIP
	}
	return p.above(payload)
}

func mapped(ip []byte) (a [16]byte) {
	a[10], a[11] = 0xff, 0xff
	copy(a[12:], ip)
	return a
}

// above reads the ports, or the type and code, of what IP carries.
func (p *packet) above(payload []byte) string {
	short := "the packet is cut off before its ports"
	switch p.ends.protocol {
	case service.TCP:
		if len(payload) < 14 {
			return short
		}
		p.flags = payload[13]
		fallthrough
	case service.UDP, service.SCTP, service.DCCP, service.UDPLite:
		if len(payload) < 4 {
			return short
		}
		p.ends.fromPort, p.ends.toPort = uint16(payload[0])<<8|uint16(payload[1]),
			uint16(payload[2])<<8|uint16(payload[3])
	case service.ICMP, service.ICMPv6:
		if len(payload) < 2 {
			return short
		}
		return p.icmp(payload[0], payload[1])
	}
	return ""
}

// icmp treats requests and their replies as one conversation. Errors and neighbour discovery are
// left out.
func (p *packet) icmp(kind, code uint8) string {
	kind, p.answer = icmpRequest(p.ends.protocol, kind)
	if !icmpFlow(p.ends.protocol, kind) {
		return notFlow
	}
	p.ends.toPort = uint16(kind)<<8 | uint16(code)
	return ""
}

// icmpRequest is the type of the request that a message of a type answers, or else that type.
func icmpRequest(protocol, kind uint8) (request uint8, answer bool) {
	if protocol == service.ICMPv6 {
		if kind == 129 { // RFC 4443
			return 128, true
		}
		return kind, false
	}
	switch kind { // RFC 792, RFC 950
	case 0:
		return 8, true
	case 14:
		return 13, true
	case 18:
		return 17, true
	}
	return kind, false
}

// icmpFlow reports whether a type is a flow of its own: errors and neighbour discovery are not.
func icmpFlow(protocol, kind uint8) bool {
	if protocol == service.ICMPv6 {
		return kind >= 128 && kind < 130 || kind > 137 && kind != 143
	}
	switch kind {
	case 3, 4, 5, 11, 12:
		return false
	}
	return true
}
