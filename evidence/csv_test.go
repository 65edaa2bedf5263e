package evidence

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"testing/iotest"

	"isonomos/core/flow"
	"isonomos/core/service"
)

// readAll reads evidence whose workers come in any order; records of one worker are in order.
func readAll(r io.Reader, o Options) ([]flow.Record, Report, error) {
	var mu sync.Mutex
	var all []flow.Record
	o.Take = func() func(*flow.Record) {
		return func(r *flow.Record) {
			mu.Lock()
			defer mu.Unlock()
			all = append(all, *r)
		}
	}
	report, err := Read(r, "f", o)
	return all, report, err
}

func TestReadCSV(t *testing.T) {
	all, report, err := readAll(
		strings.NewReader("\ufeffend,dst,start,src,protocol,dst_port,reply_packets,verdict,extra,src_port\r\n"+
			"2026-11-20T06:00:10Z,10.0.0.1,2026-11-20T06:00:00Z,192.0.2.1,tcp,443,7,admitted,x,50000\r\n"+
			"1763618410,10.0.0.1,1763618400.5,::ffff:192.0.2.1,6,22,,,,\n\n"+
			",2001:db8::1,2025-11-20T07:00:00+01:00,2001:db8::2,icmpv6,32768,0,\"refused\",\"a,b\",\n"), Options{})
	if err != nil || report.Skipped.Count > 0 || len(all) != 3 || report.Records != 3 || report.Format != "CSV" {
		t.Fatal(all, report, err)
	}
	if r := all[0]; r.Service() != service.PointOf(service.TCP, 443) || !r.ReplyKnown || r.ReplyPackets != 7 ||
		r.End-r.Start != 10 || r.Start != 1795154400 || r.Opened != flow.BySource || r.SourcePort != 50000 {
		t.Errorf("got %+v", r)
	}
	if r := all[1]; r.Source.String() != "192.0.2.1" || r.ReplyKnown || r.Refused || r.Opened != flow.NotSeen ||
		r.Start != 1763618400 {
		t.Errorf("got %+v", r)
	}
	if r := all[2]; r.Service() != service.PointOf(service.ICMPv6, 128<<8) || !r.Refused || r.End != r.Start ||
		r.Start != 1763618400 {
		t.Errorf("got %+v", r)
	}
}

// A file that is cut off within its last record is no evidence of what the rest of it seems to say:
// port 88 may have been 8883.
func TestCutOffRecordIsNotRead(t *testing.T) {
	const whole = "start,src,dst,protocol,dst_port,packets\n1,192.0.2.1,10.0.0.1,tcp,443,1\n2,192.0.2.1,10.0.0.1,tcp,8883,17\n"
	from := strings.LastIndex(whole, "\n2,") + 1
	for end := from + 1; end < len(whole)-2; end++ {
		all, report, err := readAll(strings.NewReader(whole[:end]), Options{})
		if short := strings.Count(whole[from:end], ",") < 5; err != nil || short && (len(all) != 1 ||
			report.Skipped.Count != 1 || !strings.HasPrefix(report.Skipped.First, "f:3: ")) {
			t.Errorf("%q: %d read, %+v, %v", whole[from:end], len(all), report, err)
		}
	}
}

// Protocols have the names of the IANA registry, or common ones.
func TestProtocolsByName(t *testing.T) {
	for name, want := range map[string]uint8{"ICMP6": 58, "ipv6-icmp": 58, "IPv6-ICMP": 58, "UDPLite": 136,
		"udp-lite": 136, "GRE": 47, "ESP": 50, "OSPFIGP": 89, "Mobility Header": 135, "TCP": 6, "132": 132} {
		if got, err := protocol([]byte(name)); err != nil || got != want {
			t.Errorf("%s: %d %v, want %d", name, got, err, want)
		}
	}
	if _, err := protocol([]byte("tpc")); err == nil {
		t.Error("tpc is a protocol")
	}
}

func TestBadRecordsAreSkippedAndCounted(t *testing.T) {
	header, good := "start,src,dst,protocol,dst_port,packets\n", "1,192.0.2.1,10.0.0.1,tcp,443,1\n"
	bad := []string{"then,192.0.2.1,10.0.0.1,tcp,443,1", "1,here,10.0.0.1,tcp,443,1", "1,192.0.2.1,10.0.0.1,tpc,443,1",
		"1,192.0.2.1,10.0.0.1,tcp,70000,1", "1", "\"1,", "\"1\",192.0.2.1,10.0.0.1,tcp,443",
		"-1,192.0.2.1,10.0.0.1,tcp,443,1", "1,192.0.2.1,10.0.0.256,tcp,443,1", "1,192.0.2.1,10.0.0,tcp,443,1",
		"1,192.0.2.1,::1,tcp,443,1", "1763618410000,192.0.2.1,10.0.0.1,tcp,443,1",
		"1,192.0.2.1,10.0.0.1,tcp,443,-1", "1,192.0.2.1,10.0.0.1,tcp,44"}
	text := header + good + strings.Join(bad, "\n") + "\n" + good
	all, report, err := readAll(strings.NewReader(text), Options{})
	if err != nil || len(all) != 2 || report.Skipped.Count != len(bad) ||
		!strings.HasPrefix(report.Skipped.First, `f:3: "then" is not a time`) {
		t.Errorf("%d read, %+v, %v", len(all), report, err)
	}
	if _, _, err := readAll(strings.NewReader(text), Options{Strict: true}); err == nil ||
		!strings.Contains(err.Error(), `f:3: "then" is not a time`) {
		t.Errorf("strict: %v", err)
	}
	if _, _, err := readAll(io.MultiReader(strings.NewReader(header+good), iotest.ErrReader(io.ErrNoProgress)),
		Options{}); err == nil || !strings.Contains(err.Error(), "at line") {
		t.Errorf("a failing reader: %v", err)
	}
}

func TestMissingColumns(t *testing.T) {
	for _, x := range []struct {
		text, want string
		columns    map[string]string
	}{
		{text: "", want: "is empty"},
		{text: "start,src,dst,proto,dst_port\n", want: `no column "protocol" (there is "proto")`},
		{text: "a,b\n", want: `no column "start", "src", "dst", "protocol", "dst_port"`},
		{text: "\x00\xff\"", want: "the first line does not name columns"},
		{text: "start,src,dst,protocol,dst_port\n", columns: map[string]string{"src": "client"},
			want: `no column "client"`},
		{text: "start,src,dst,protocol,dst_port\n", columns: map[string]string{"bytes": "octets"},
			want: `no column "octets"`},
		{text: "\x00\x09abc", want: "NetFlow version 9"},
	} {
		if _, _, err := readAll(strings.NewReader(x.text), Options{Columns: x.columns}); err == nil ||
			!strings.Contains(err.Error(), x.want) {
			t.Errorf("%q: %v, want %s", x.text, err, x.want)
		}
	}
	all, _, err := readAll(strings.NewReader("when,client,server,p,port\n1,192.0.2.1,10.0.0.1,tcp,443\n"),
		Options{Columns: map[string]string{"start": "when", "src": "client", "dst": "server", "protocol": "p",
			"dst_port": "port"}})
	if err != nil || len(all) != 1 || all[0].Port != 443 {
		t.Errorf("mapped columns: %v, %v", all, err)
	}
}

func TestReadJSONLines(t *testing.T) {
	all, report, err := readAll(
		strings.NewReader(`{"start":"2026-11-20T06:00:00Z","end":1795154410,"src":"192.0.2.1","dst":"10.0.0.1","protocol":"tcp","dst_port":443,"reply_packets":3,"more":{"a":[1]}}
{"dst_port":"22","protocol":6,"dst":"10.0.0.1","src":"192.0.2.2","start":1795154400,"verdict":null}

{"start":1}
{"start":1795154400,"src":"192.0.2.1","dst":"10.0.0.1","protocol":"tcp","dst_port":[443]}
{"start":1795154400,"src":"192.0.2.1","dst":"10.0.0.1","protocol":"tcp","dst_port":443}x
nonsense
`), Options{})
	if err != nil || len(all) != 2 || report.Skipped.Count != 4 ||
		!strings.HasPrefix(report.Skipped.First, `f:4: there is no "src"`) {
		t.Fatal(all, report, err)
	}
	if r := all[0]; r.End-r.Start != 10 || r.Port != 443 || r.ReplyPackets != 3 {
		t.Errorf("got %+v", r)
	}
	if r := all[1]; r.Port != 22 || r.Protocol != service.TCP || r.ReplyKnown {
		t.Errorf("got %+v", r)
	}
}

// A flow is not read in part: whatever stands behind it on its line, but for blanks, is told.
func TestNothingFollowsAFlow(t *testing.T) {
	const flow = `{"start":1795154400,"src":"192.0.2.1","dst":"10.0.0.1","protocol":"tcp","dst_port":443}`
	tails := []string{"", " ", "\t", "," + flow, flow, ",", "}", "]", "#", "\x00", "\xff", "null", ",}", "] }"}
	for _, tail := range tails {
		all, report, err := readAll(strings.NewReader(flow+tail+"\n"+flow+"\n"), Options{})
		want := 1
		if strings.TrimSpace(tail) == "" {
			want = 2
		}
		if err != nil || len(all) != want || report.Skipped.Count != 2-want {
			t.Errorf("behind the flow %q: %d flows, %d not read, %v", tail, len(all), report.Skipped.Count, err)
		}
	}
}

// Lines are counted right over many blocks, and every record is read once.
func TestManyBlocks(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 3))
	var b bytes.Buffer
	b.WriteString("start,src,dst,protocol,dst_port,note\n")
	const records, bad = 40000, 31234
	for i := range records {
		src := fmt.Sprintf("10.%d.%d.%d", i>>16, i>>8&255, i&255)
		if i == bad {
			src = "nobody"
		}
		fmt.Fprintf(&b, "1,%s,10.0.0.1,tcp,443,%s\n", src, strings.Repeat("n", random.IntN(200)))
	}
	all, report, err := readAll(iotest.HalfReader(&b), Options{})
	seen := make(map[string]bool)
	for _, r := range all {
		seen[r.Source.String()] = true
	}
	if err != nil || len(all) != records-1 || len(seen) != records-1 || report.Skipped.Count != 1 ||
		!strings.HasPrefix(report.Skipped.First, fmt.Sprintf("f:%d:", bad+2)) {
		t.Errorf("%d records, %d sources, %+v, %v", len(all), len(seen), report, err)
	}
	if _, _, err := readAll(strings.NewReader("start,src,dst,protocol,dst_port\n"+strings.Repeat("x", 3<<20)),
		Options{}); err == nil || !strings.Contains(err.Error(), "longer than 1 MB") {
		t.Errorf("an endless line: %v", err)
	}
}

// The quick ways of reading agree with the thorough ones.
func FuzzFields(f *testing.F) {
	for _, text := range []string{"192.0.2.1", "10.0.0.256", "1.2.3", "01.2.3.4", "::ffff:1.2.3.4", "fe80::1%eth0",
		"2026-11-20T06:00:00Z", "2026-02-30T06:00:00Z", "1763618400.5", "2026-11-20T24:00:00Z", "99999999999", "1e9"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		quick, err := address([]byte(text))
		thorough, errThorough := otherAddress([]byte(text))
		if (err == nil) != (errThorough == nil) || err == nil && quick != thorough {
			t.Errorf("address %q: %v %v, thoroughly %v %v", text, quick, err, thorough, errThorough)
		}
		var p, fresh parser
		_, _ = p.moment([]byte("2026-11-20T06:00:00Z"))
		a, errA := p.moment([]byte(text))
		b, errB := fresh.moment([]byte(text))
		if a != b || (errA == nil) != (errB == nil) || errA == nil && a < 0 {
			t.Errorf("moment %q: %d %v, afresh %d %v", text, a, errA, b, errB)
		}
	})
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("start,src,dst,protocol,dst_port\n1,192.0.2.1,10.0.0.1,tcp,443\n"))
	f.Add([]byte(`{"start":1,"src":"192.0.2.1","dst":"10.0.0.1","protocol":"tcp","dst_port":443}`))
	f.Add(capture(false, segment("192.0.2.1:50000>10.0.0.1:22", flow.TCPSyn)))
	f.Add(capture(true, segment("192.0.2.1:50000>10.0.0.1:22", flow.TCPSyn)))
	f.Add(message(0, templateOf(256, 8, 4, 12, 4, 4, 1, 7, 2, 11, 2), data(256, "c0000201 0a000001 06 c350 0016")))
	f.Fuzz(func(t *testing.T, text []byte) {
		var days flow.Daily
		var mu sync.Mutex
		_, _ = Read(bytes.NewReader(text), "f", Options{Take: func() func(*flow.Record) {
			return func(r *flow.Record) {
				mu.Lock()
				defer mu.Unlock()
				if !r.Source.IsValid() || r.Source.Is4() != r.Destination.Is4() || r.Start < 0 ||
					r.End < r.Start && r.End < 0 {
					t.Errorf("a record that can't be: %+v", r)
				}
				days.Add(r)
			}
		}})
		days.Close()
		for _, day := range days.Days() {
			days.Of(day).Sums()
		}
	})
}

func BenchmarkReadCSV(b *testing.B) {
	line := "2026-11-20T06:00:00Z,2026-11-20T06:00:10Z,192.0.2.%d,10.20.1.%d,tcp,%d,443,12,3456,11,4567,admitted\n"
	for _, records := range []int{1000, 10000, 100000, 1000000} {
		var text bytes.Buffer
		text.WriteString(strings.Join(Columns, ",") + "\n")
		for i := range records {
			fmt.Fprintf(&text, line, i%250, i/250%250, 32768+i%28000)
		}
		b.Run(fmt.Sprint(records), func(b *testing.B) {
			b.SetBytes(int64(text.Len()))
			for b.Loop() {
				if _, err := Read(bytes.NewReader(text.Bytes()), "f",
					Options{Take: func() func(*flow.Record) { return new(flow.Summary).Add }}); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(records)*float64(b.N)/b.Elapsed().Seconds(), "records/s")
		})
	}
}
