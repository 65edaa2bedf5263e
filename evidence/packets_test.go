package evidence

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"isonomos/core/flow"
	"isonomos/core/service"
)

var begin = time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)

// A sent packet, and how long after the one before.
type sent struct {
	after time.Duration
	data  []byte
}

// frame puts what IP carries into an Ethernet frame.
func frame(from, to netip.Addr, protocol uint8, inner ...gopacket.SerializableLayer) []byte {
	out := gopacket.NewSerializeBuffer()
	o := gopacket.SerializeOptions{FixLengths: true}
	eth := &layers.Ethernet{SrcMAC: []byte{2, 0, 0, 0, 0, 1}, DstMAC: []byte{2, 0, 0, 0, 0, 2},
		EthernetType: layers.EthernetTypeDot1Q}
	vlan := &layers.Dot1Q{VLANIdentifier: 7, Type: layers.EthernetTypeIPv4}
	var ip gopacket.SerializableLayer = &layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocol(protocol), SrcIP: from.AsSlice(), DstIP: to.AsSlice()}
	if from.Is6() {
		vlan.Type = layers.EthernetTypeIPv6
		ip = &layers.IPv6{Version: 6, NextHeader: layers.IPProtocol(protocol), SrcIP: from.AsSlice(), DstIP: to.AsSlice()}
	}
	if err := gopacket.SerializeLayers(out, o, append([]gopacket.SerializableLayer{eth, vlan, ip}, inner...)...); err != nil {
		panic(err)
	}
	return slices.Clone(out.Bytes())
}

// segment is a TCP segment of "SRC:PORT>DST:PORT" with flags.
func segment(ends string, flags uint8) sent {
	r := endsOf(ends)
	return sent{time.Second, frame(r.Source, r.Destination, service.TCP, &layers.TCP{SrcPort: layers.TCPPort(r.SourcePort), DstPort: layers.TCPPort(r.Port),
		SYN: flags&flow.TCPSyn != 0, ACK: flags&flow.TCPAck != 0, FIN: flags&flow.TCPFin != 0, RST: flags&flow.TCPReset != 0, DataOffset: 5})}
}

func datagram(ends string) sent {
	r := endsOf(ends)
	return sent{time.Second, frame(r.Source, r.Destination, service.UDP, &layers.UDP{SrcPort: layers.UDPPort(r.SourcePort), DstPort: layers.UDPPort(r.Port), Length: 8})}
}

func icmp(ends string, kind uint8) sent {
	r := endsOf(ends)
	if r.Source.Is6() {
		return sent{time.Second, frame(r.Source, r.Destination, service.ICMPv6, gopacket.Payload{kind, 0, 0, 0, 0, 0, 0, 0})}
	}
	return sent{time.Second, frame(r.Source, r.Destination, service.ICMP, gopacket.Payload{kind, 0, 0, 0, 0, 0, 0, 0})}
}

func endsOf(ends string) flow.Record {
	from, to, _ := strings.Cut(ends, ">")
	a, b := netip.MustParseAddrPort(from), netip.MustParseAddrPort(to)
	return flow.Record{Source: a.Addr(), Destination: b.Addr(), SourcePort: a.Port(), Port: b.Port()}
}

func later(s sent, after time.Duration) sent { s.after = after; return s }

// capture writes packets as a capture.
func capture(ng bool, packets ...sent) []byte {
	var out bytes.Buffer
	at := begin
	var write func(gopacket.CaptureInfo, []byte) error
	finish := func() error { return nil }
	if ng {
		w, err := pcapgo.NewNgWriter(&out, layers.LinkTypeEthernet)
		if err != nil {
			panic(err)
		}
		write, finish = w.WritePacket, w.Flush
	} else {
		w := pcapgo.NewWriter(&out)
		if err := w.WriteFileHeader(65535, layers.LinkTypeEthernet); err != nil {
			panic(err)
		}
		write = w.WritePacket
	}
	for _, p := range packets {
		at = at.Add(p.after)
		if err := write(gopacket.CaptureInfo{Timestamp: at, CaptureLength: len(p.data), Length: len(p.data)}, p.data); err != nil {
			panic(err)
		}
	}
	if err := finish(); err != nil {
		panic(err)
	}
	return out.Bytes()
}

// toldFlows are the flows in words: ends, packets, and a mark if the opening was seen.
func toldFlows(all []flow.Record) string {
	var lines []string
	for _, r := range all {
		mark := map[flow.Opener]string{flow.BySource: "!", flow.ByDestination: "?"}[r.Opened]
		lines = append(lines, fmt.Sprintf("%s>%s %s%s %d/%d %ds", r.Source, r.Destination, r.Service(), mark, r.Packets, r.ReplyPackets, r.End-r.Start))
	}
	slices.Sort(lines)
	return strings.Join(lines, "; ")
}

func TestFlowsOfPackets(t *testing.T) {
	there, back := "192.0.2.1:50000>10.0.0.1:22", "10.0.0.1:22>192.0.2.1:50000"
	fragment := frame(netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("10.0.0.1"), service.UDP, gopacket.Payload{1, 2, 3, 4})
	binary.BigEndian.PutUint16(fragment[14+4+6:], 100) // its offset
	extended := frame(netip.MustParseAddr("2001:db8::1"), netip.MustParseAddr("2001:db8::2"), 60, gopacket.Payload(append([]byte{17, 0, 1, 4, 0, 0, 0, 0}, 0xc3, 0x50, 0, 53, 0, 8, 0, 0)))
	for _, x := range []struct {
		name    string
		packets []sent
		want    string
	}{
		{"a connection", []sent{segment(there, flow.TCPSyn), segment(back, flow.TCPSyn|flow.TCPAck), segment(there, flow.TCPAck), segment(back, flow.TCPAck), segment(there, flow.TCPFin|flow.TCPAck)}, "192.0.2.1>10.0.0.1 tcp 22! 3/2 4s"},
		{"the order of packets does not tell who opened, the flags do", []sent{segment(back, flow.TCPSyn|flow.TCPAck), segment(there, flow.TCPAck)}, "192.0.2.1>10.0.0.1 tcp 22! 1/1 1s"},
		{"refused by the machine", []sent{segment(there, flow.TCPSyn), segment(back, flow.TCPReset|flow.TCPAck)}, "192.0.2.1>10.0.0.1 tcp 22! 1/1 1s"},
		{"half a handshake", []sent{segment(there, flow.TCPSyn), segment(back, flow.TCPSyn|flow.TCPAck), segment(there, flow.TCPReset)}, "192.0.2.1>10.0.0.1 tcp 22! 2/1 2s"},
		{"no answer", []sent{segment(there, flow.TCPSyn), segment(there, flow.TCPSyn)}, "192.0.2.1>10.0.0.1 tcp 22! 2/0 1s"},
		{"caught in the middle", []sent{segment(back, flow.TCPAck), segment(there, flow.TCPAck)}, "10.0.0.1>192.0.2.1 tcp 50000 1/1 1s"},
		{"two after each other", []sent{segment(there, flow.TCPSyn), segment(back, flow.TCPSyn|flow.TCPAck), segment(there, flow.TCPAck), segment(there, flow.TCPFin|flow.TCPAck), segment(there, flow.TCPSyn), segment(back, flow.TCPSyn|flow.TCPAck), segment(there, flow.TCPAck)},
			"192.0.2.1>10.0.0.1 tcp 22! 2/1 2s; 192.0.2.1>10.0.0.1 tcp 22! 3/1 3s"},
		{"a long silence", []sent{datagram("192.0.2.1:5353>10.0.0.1:53"), datagram("10.0.0.1:53>192.0.2.1:5353"), later(datagram("192.0.2.1:5353>10.0.0.1:53"), 10*time.Minute)}, "192.0.2.1>10.0.0.1 udp 53 1/0 0s; 192.0.2.1>10.0.0.1 udp 53 1/1 1s"},
		{"echo both ways", []sent{icmp("10.0.0.1:0>10.0.0.2:0", 8), icmp("10.0.0.2:0>10.0.0.1:0", 0), icmp("10.0.0.2:0>10.0.0.1:0", 8)}, "10.0.0.1>10.0.0.2 icmp 8/0! 1/1 1s; 10.0.0.2>10.0.0.1 icmp 8/0! 1/0 0s"},
		{"echo over IPv6", []sent{icmp("[2001:db8::1]:0>[2001:db8::2]:0", 128), icmp("[2001:db8::2]:0>[2001:db8::1]:0", 129)}, "2001:db8::1>2001:db8::2 icmpv6 128/0! 1/1 1s"},
		{"errors, neighbours and fragments are no flows", []sent{icmp("10.0.0.1:0>10.0.0.2:0", 3), icmp("[2001:db8::1]:0>[2001:db8::2]:0", 135), {time.Second, fragment}}, ""},
		{"an extension header", []sent{{time.Second, extended}}, "2001:db8::1>2001:db8::2 udp 53 1/0 0s"},
	} {
		for _, ng := range []bool{false, true} {
			all, report, err := readAll(bytes.NewReader(capture(ng, x.packets...)), Options{})
			if got := toldFlows(all); err != nil || got != x.want || report.Skipped.Count > 0 {
				t.Errorf("%s: got %s (%+v, %v), want %s", x.name, got, report, err, x.want)
			}
		}
	}
	whole := capture(false, segment(there, flow.TCPSyn), segment(there, flow.TCPSyn))
	all, report, err := readAll(bytes.NewReader(whole[:len(whole)-10]), Options{})
	if err != nil || len(all) != 1 || all[0].Packets != 1 || len(report.Notes) != 1 || !strings.Contains(report.Notes[0], "cut off in packet 2") {
		t.Errorf("a capture that is cut off: %v %+v %v", all, report, err)
	}
}

// A flow exporter that shares no code reads the same captures: what it exports as IPFIX, one record for
// each direction or for both together, comes to the same sums and the same sides as the packets.
func TestExporterAgrees(t *testing.T) {
	softflowd, err := exec.LookPath("softflowd")
	if err != nil {
		t.Skip("softflowd is not installed")
	}
	var packets []sent
	for i := range 40 {
		client, server := fmt.Sprintf("192.0.2.%d:%d", 1+i%7, 40000+i), fmt.Sprintf("10.0.0.%d:%d", 1+i%3, []int{22, 443, 5432}[i%3])
		there, back := client+">"+server, server+">"+client
		packets = append(packets, segment(there, flow.TCPSyn))
		if i%4 > 0 {
			packets = append(packets, segment(back, flow.TCPSyn|flow.TCPAck), segment(there, flow.TCPAck), segment(back, flow.TCPAck), segment(there, flow.TCPFin|flow.TCPAck), segment(back, flow.TCPFin|flow.TCPAck))
		}
		packets = append(packets, datagram(strings.Replace(there, server[strings.IndexByte(server, ':'):], ":53", 1)))
	}
	for i, p := range packets { // the exporter counts VLAN tags and padding as payload
		packets[i].data = untagged(p)
	}
	traffic, err := os.ReadFile("testdata/traffic.pcap") // of services, a sweep, and syslog, over both families
	if err != nil {
		t.Fatal(err)
	}
	export := func(t *testing.T, text []byte, flags ...string) []byte {
		folder := t.TempDir()
		path := filepath.Join(folder, "capture.pcap")
		if err := os.WriteFile(path, text, 0o600); err != nil {
			t.Fatal(err)
		}
		return exportTo(t, func(collector string) {
			ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
			defer cancel()
			args := append([]string{"-r", path, "-n", collector, "-p", filepath.Join(folder, "pid"), "-c", "none", "-d"}, flags...)
			if out, err := exec.CommandContext(ctx, softflowd, args...).CombinedOutput(); err != nil {
				t.Errorf("softflowd: %v %s", err, out)
			}
		})
	}
	for name, text := range map[string][]byte{"generated": capture(false, packets...), "traffic": traffic} {
		for way, flags := range map[string][]string{"one direction": {"-v", "10"}, "both directions": {"-v", "10", "-b"}} {
			t.Run(name+" "+way, func(t *testing.T) {
				icmp := way == "one direction" // of both directions this exporter tells one type only
				want, _ := sidesOf(t, text, icmp)
				got, report := sidesOf(t, export(t, text, flags...), icmp)
				if report.Format != "IPFIX" || report.Skipped.Count > 0 || want == "" {
					t.Errorf("report %+v", report)
				}
				for _, note := range report.Notes {
					if !strings.Contains(note, "no flow of their own") {
						t.Errorf("said of a file that is whole: %s", note)
					}
				}
				if got != want {
					t.Errorf("the capture says\n%s\nthe exporter\n%s", want, got)
				}
			})
		}
	}
	for _, version := range []string{"5", "9"} {
		if _, _, err := readAll(bytes.NewReader(export(t, traffic, "-v", version)), Options{}); err == nil || !strings.Contains(err.Error(), "NetFlow version "+version) {
			t.Errorf("NetFlow version %s: %v", version, err)
		}
	}
}

// untagged is the data of an IPv4 packet without its VLAN tag and padding.
func untagged(s sent) []byte {
	ip := s.data[18:]
	return append(append(slices.Clone(s.data[:12]), 8, 0), ip[:binary.BigEndian.Uint16(ip[2:])]...)
}

// sidesOf are the sums of a file, without durations: exporters may end flows at other moments.
func sidesOf(t *testing.T, text []byte, icmp bool) (string, Report) {
	var sum flow.Summary
	all, report, err := readAll(bytes.NewReader(text), Options{})
	if err != nil {
		t.Fatal(err)
	}
	for i := range all {
		sum.Add(&all[i])
	}
	sum.Close()
	var lines []string
	for _, x := range sum.Sums() {
		if protocol, _ := x.Service.Split(); icmp || protocol != service.ICMP {
			lines = append(lines, fmt.Sprintf("%s>%s %s %d/%d %d %d", x.Source, x.Destination, x.Service, x.Completed, x.Flows, x.Attempts, x.Bytes))
		}
	}
	return strings.Join(lines, "\n"), report
}

func unhex(text string) []byte {
	b, err := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
	if err != nil {
		panic(err)
	}
	return b
}

// The quick way finds what the thorough one does, where it finds anything.
func FuzzQuick(f *testing.F) {
	f.Add(untagged(segment("192.0.2.1:50000>10.0.0.1:22", flow.TCPSyn)))
	f.Add(untagged(datagram("192.0.2.1:50000>10.0.0.1:53")))
	f.Add(append(untagged(datagram("192.0.2.1:50000>10.0.0.1:53")), make([]byte, 30)...))
	f.Add(segment("192.0.2.1:50000>10.0.0.1:22", flow.TCPSyn).data)
	f.Fuzz(func(t *testing.T, data []byte) {
		var a, b packet
		if !quick(layers.LinkTypeEthernet, data, &a) {
			return
		}
		if problem := newDissector().dissect(layers.LinkTypeEthernet, data, &b); problem != "" || a != b {
			t.Errorf("quickly %+v, thoroughly %+v %s", a, b, problem)
		}
	})
}
