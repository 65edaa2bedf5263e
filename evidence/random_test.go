package evidence

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"isonomos/core/flow"
	"isonomos/core/service"
)

// Whatever templates an exporter makes up, with fields in any order, lengths cut
// short, fields of enterprises and of variable length between, options and padding:
// what was put in comes out.
func TestRandomExports(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 20))
	for range 300 {
		var out []byte
		var want []string
		sequence := random.Uint32()
		for range 1 + random.IntN(3) {
			six := random.IntN(3) == 0
			id := uint16(firstDataSet + random.IntN(5))
			type field struct {
				id, length uint32
				enterprise uint32
				put        func(r *flow.Record, variable []byte) []byte
			}
			width := func(n int) uint32 { return uint32(1 + random.IntN(n)) } // numbers may be sent in fewer bytes
			number := func(id, length uint32, of func(*flow.Record) uint64) field {
				return field{id: id, length: length, put: func(r *flow.Record, _ []byte) []byte {
					full := binary.BigEndian.AppendUint64(nil, of(r))
					return full[8-length:]
				}}
			}
			source, destination, size := uint32(8), uint32(12), uint32(4)
			if six {
				source, destination, size = 27, 28, 16
			}
			fields := []field{
				{id: source, length: size, put: func(r *flow.Record, _ []byte) []byte { return r.Source.AsSlice() }},
				{id: destination, length: size,
					put: func(r *flow.Record, _ []byte) []byte { return r.Destination.AsSlice() }},
				number(4, 1, func(r *flow.Record) uint64 { return uint64(r.Protocol) }),
				number(7, 2, func(r *flow.Record) uint64 { return uint64(r.SourcePort) }),
				number(11, 2, func(r *flow.Record) uint64 { return uint64(r.Port) }),
				number(2, width(4), func(r *flow.Record) uint64 { return r.Packets & 0xff }),
				number(152, 8, func(r *flow.Record) uint64 { return uint64(r.Start) * 1000 }),
				number(153, 8, func(r *flow.Record) uint64 { return uint64(r.End) * 1000 }),
			}
			for range random.IntN(3) {
				fields = append(fields, field{id: uint32(100 + random.IntN(50)), length: variableLength,
					put: func(_ *flow.Record, v []byte) []byte {
						if len(v) < 255 && random.IntN(2) == 0 {
							return append([]byte{byte(len(v))}, v...)
						}
						return append([]byte{255, byte(len(v) >> 8), byte(len(v))}, v...)
					}})
			}
			if random.IntN(2) == 0 {
				fields = append(fields, field{id: enterpriseBit | 1, length: 3, enterprise: 4711,
					put: func(*flow.Record, []byte) []byte { return []byte{1, 2, 3} }})
			}
			random.Shuffle(len(fields), func(i, k int) { fields[i], fields[k] = fields[k], fields[i] })
			var spec []uint32
			for _, f := range fields {
				spec = append(spec, f.id, f.length)
				if f.enterprise > 0 {
					spec = append(spec, f.enterprise)
				}
			}
			var content []byte
			records := 1 + random.IntN(4)
			for range records {
				r := flow.Record{Protocol: service.TCP, SourcePort: uint16(random.IntN(65536)),
					Port: uint16(random.IntN(65536)), Packets: uint64(random.IntN(256)),
					Start: begin.Unix() + random.Int64N(1000)}
				r.End = r.Start + random.Int64N(100)
				address := func() netip.Addr {
					if six {
						return netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, 15: byte(1 + random.IntN(200))})
					}
					return netip.AddrFrom4([4]byte{10, 0, 0, byte(1 + random.IntN(200))})
				}
				r.Source, r.Destination = address(), address()
				for _, f := range fields {
					content = append(content, f.put(&r, bytes.Repeat([]byte{7}, random.IntN(300)))...)
				}
				want = append(want, fmt.Sprintf("%s:%d>%s:%d %d %d-%d", r.Source, r.SourcePort, r.Destination, r.Port,
					r.Packets, r.Start, r.End))
			}
			content = append(content, make([]byte, random.IntN(4))...) // padding
			out = append(out, message(sequence, templateOf(id, spec...), set(id, content))...)
			sequence += uint32(records)
		}
		all, report, err := readAll(bytes.NewReader(out), Options{})
		if err != nil || report.Skipped.Count > 0 || len(report.Notes) > 0 {
			t.Fatal(err, report)
		}
		var got []string
		for _, r := range all {
			got = append(got, fmt.Sprintf("%s:%d>%s:%d %d %d-%d", r.Source, r.SourcePort, r.Destination, r.Port,
				r.Packets, r.Start, r.End))
		}
		if !slices.Equal(got, want) {
			t.Fatalf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
}

// Whatever packets there are, each belongs to one flow: their numbers and lengths add
// up by ends, and no flow is silent for longer than its kind may be.
func TestEveryPacketIsInOneFlow(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 21))
	for range 200 {
		var packets []sent
		counted := make(map[string]uint64)
		for range random.IntN(80) {
			from, to := fmt.Sprintf("10.0.0.%d:%d", 1+random.IntN(2), []int{22, 443, 50000}[random.IntN(3)]),
				fmt.Sprintf("10.0.1.%d:%d", 1+random.IntN(2), []int{22, 50000, 50001}[random.IntN(3)])
			if random.IntN(2) == 0 {
				from, to = to, from
			}
			p := datagram(from + ">" + to)
			protocol := "udp"
			if random.IntN(3) > 0 {
				flags := []uint8{flow.TCPSyn, flow.TCPSyn | flow.TCPAck, flow.TCPAck, flow.TCPAck, flow.TCPFin | flow.TCPAck, flow.TCPReset}[random.IntN(6)]
				p, protocol = segment(from+">"+to, flags), "tcp"
			}
			p.after = []time.Duration{time.Millisecond, time.Second, 20 * time.Second, 4 * time.Minute,
				3 * time.Hour}[random.IntN(5)]
			packets = append(packets, p)
			pair := []string{from, to}
			slices.Sort(pair)
			key := protocol + " " + strings.Join(pair, " ")
			counted[key]++
		}
		all, report, err := readAll(bytes.NewReader(capture(random.IntN(2) == 0, packets...)), Options{})
		if err != nil || report.Records != len(packets) {
			t.Fatal(err, report)
		}
		got := make(map[string]uint64)
		for _, r := range all {
			pair := []string{netip.AddrPortFrom(r.Source, r.SourcePort).String(),
				netip.AddrPortFrom(r.Destination, r.Port).String()}
			slices.Sort(pair)
			protocol := "udp"
			if r.Protocol == service.TCP {
				protocol = "tcp"
			}
			key := protocol + " " + strings.Join(pair, " ")
			got[key] += r.Packets + r.ReplyPackets
			if r.End < r.Start || protocol == "udp" && r.End-r.Start > int64(len(packets))*180 {
				t.Fatalf("a flow of %d s", r.End-r.Start)
			}
		}
		for key, n := range counted {
			// Packets back that only refuse, or of half a handshake, are told as no answer.
			if strings.HasPrefix(key, "udp") && got[key] != n || got[key] > n {
				t.Fatalf("%s: %d packets in flows, %d were sent", key, got[key], n)
			}
		}
		for key := range got {
			if counted[key] == 0 {
				t.Fatalf("%s: nobody sent that", key)
			}
		}
	}
}
