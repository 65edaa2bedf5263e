package flow

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"isonomos/core/service"
)

const (
	minute = 60
	hour   = 60 * minute
	// start is 2026-11-06T23:00:00Z.
	start = 1794006000
)

// record makes a TCP record of "SRC:PORT>DST:PORT".
func record(ends string, at int64) *Record {
	from, to, _ := strings.Cut(ends, ">")
	a, b := netip.MustParseAddrPort(from), netip.MustParseAddrPort(to)
	return &Record{Start: at, End: at, Source: a.Addr(), Destination: b.Addr(), SourcePort: a.Port(), Port: b.Port(),
		Protocol: service.TCP, Packets: 9, Bytes: 900}
}

func told(s *Summary) string {
	var lines []string
	for _, x := range s.Sums() {
		lines = append(lines, fmt.Sprintf("%s>%s %s %d/%d", x.Source, x.Destination, x.Service, x.Completed, x.Flows))
	}
	return strings.Join(lines, "; ")
}

func TestSummary(t *testing.T) {
	var s Summary
	if s.Window() != 0 {
		t.Error("nothing seen has a window")
	}
	for i, hours := range []int64{2, 0, 30} { // in no order
		r := record("192.0.2.1:0>10.0.0.1:22", start+hours*hour)
		r.End += int64(i) * minute
		r.ReplyKnown, r.ReplyPackets = true, uint64(i/2)
		r.Opened = BySource
		s.Add(r)
	}
	refused := record("10.0.0.1:0>192.0.2.1:20", start)
	refused.Refused = true
	s.Add(refused)
	sums := s.Sums()
	if len(sums) != 1 || s.Flows != 3 || s.Refused != 1 {
		t.Fatalf("%d sums, %d flows, %d refused", len(sums), s.Flows, s.Refused)
	}
	x := sums[0]
	if x.Flows != 3 || x.Days.Count() != 3 || x.Bytes != 2700 || x.Completed != 1 || x.Longest != 2*minute ||
		x.Lasted != 3*minute || x.First != start || x.Last != start+30*hour+2*minute {
		t.Errorf("got %+v", x)
	}
	if s.Window() != 3 {
		t.Errorf("the window is %d days", s.Window())
	}
}

// Which side served: the one that was opened to, else the one with the port of a
// service, else the one with more partners, else the one that was spoken to first.
func TestWhoServed(t *testing.T) {
	for _, x := range []struct {
		records []string // with ! where the source was seen to open, ? where the destination was
		want    string
	}{
		{[]string{"192.0.2.1:50000>10.0.0.1:443"}, "192.0.2.1>10.0.0.1 tcp 443 1/1"},
		// the way back alone was seen
		{[]string{"10.0.0.1:443>192.0.2.1:50000"}, "192.0.2.1>10.0.0.1 tcp 443 1/1"},
		// both ways are one flow
		{[]string{"192.0.2.1:50000>10.0.0.1:443", "10.0.0.1:443>192.0.2.1:50000"}, "192.0.2.1>10.0.0.1 tcp 443 1/1"},
		// one of two was answered
		{[]string{"192.0.2.1:50000>10.0.0.1:443", "192.0.2.1:50001>10.0.0.1:443", "10.0.0.1:443>192.0.2.1:50001"},
			"192.0.2.1>10.0.0.1 tcp 443 1/2"},
		// a service with a name before a system port
		{[]string{"10.0.0.9:700>10.0.0.1:5432"}, "10.0.0.9>10.0.0.1 tcp 5432 1/1"},
		{[]string{"10.0.0.9:700>10.0.0.1:20000"}, "10.0.0.1>10.0.0.9 tcp 700 1/1"},
		{[]string{"10.0.0.9:33000>10.0.0.1:20000"}, "10.0.0.9>10.0.0.1 tcp 20000 1/1"},
		// what was seen counts before ports
		{[]string{"10.0.0.1:22!>10.0.0.9:50000"}, "10.0.0.1>10.0.0.9 tcp 50000 1/1"},
		{[]string{"10.0.0.1:22?>10.0.0.9:80"}, "10.0.0.9>10.0.0.1 tcp 22 1/1"},
		{[]string{"10.0.0.1:0>10.0.0.9:50000"}, "10.0.0.1>10.0.0.9 tcp 50000 1/1"}, // no port of the source is told
		// Both ports are those of clients: 10.0.0.7 talks with two.
		{[]string{"10.0.0.7:40000>10.0.0.8:50000", "10.0.0.7:40000>10.0.0.9:51000", "10.0.0.9:51000>10.0.0.7:40000"},
			"10.0.0.8>10.0.0.7 tcp 40000 1/1; 10.0.0.9>10.0.0.7 tcp 40000 1/1"},
		{[]string{"10.0.0.7:40000>10.0.0.8:50000"}, "10.0.0.7>10.0.0.8 tcp 50000 1/1"},
		// It is known to serve that port from where the opening was seen.
		{[]string{"10.0.0.7:40000>10.0.0.8:50000", "10.0.0.1:1!>10.0.0.7:40000"},
			"10.0.0.1>10.0.0.7 tcp 40000 1/1; 10.0.0.8>10.0.0.7 tcp 40000 1/1"},
	} {
		for range 3 {
			var s Summary
			for i, text := range x.records {
				r := record(strings.NewReplacer("!", "", "?", "").Replace(text), start+int64(i))
				if strings.Contains(text, "!") {
					r.Opened = BySource
				} else if strings.Contains(text, "?") {
					r.Opened = ByDestination
				}
				s.Add(r)
			}
			got := told(&s)
			// one of the two was heard one way alone, while ways back are told
			if strings.Contains(x.want, "1/1; 10.0.0.9>10.0.0.7") {
				got = strings.ReplaceAll(got, "0/1", "1/1")
			}
			if strings.ContainsAny(strings.Join(x.records, ""), "?!") {
				got = strings.ReplaceAll(got, "0/1", "1/1")
			}
			if got != x.want {
				t.Errorf("%v: got %s, want %s", x.records, got, x.want)
			}
		}
	}
	ping := Record{Source: netip.MustParseAddr("10.0.0.1"), Destination: netip.MustParseAddr("10.0.0.2"),
		Protocol: service.ICMP, Port: 0}
	var s Summary
	s.Add(&ping)
	if got := told(&s); got != "10.0.0.2>10.0.0.1 icmp 8/0 1/1" {
		t.Errorf("an echo reply alone: %s", got)
	}
}

// However evidence is parted over workers and days, the sums are the same.
func TestPartsMakeTheSameSum(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 1))
	for range 200 {
		var whole Summary
		var parts [3]Summary
		var days [2]Daily
		for range random.IntN(60) {
			ports := []int{22, 443, 700, 20000, 40000, 50000}
			r := record(fmt.Sprintf("10.0.0.%d:%d>10.0.0.%d:%d", random.IntN(4), ports[random.IntN(6)],
				random.IntN(4), ports[random.IntN(6)]), start)
			if r.Source == r.Destination {
				continue
			}
			r.End += random.Int64N(500)
			r.Opened = Opener(random.IntN(3))
			r.ReplyKnown = random.IntN(2) == 0
			r.ReplyPackets = uint64(random.IntN(2))
			r.Packets, r.Bytes = uint64(random.IntN(6)), uint64(random.IntN(400))
			r.FlagsKnown, r.Flags = random.IntN(2) == 0, uint8(random.IntN(32))
			r.ReplyFlags = uint8(random.IntN(32))
			whole.Add(r)
			parts[random.IntN(3)].Add(r)
			days[random.IntN(2)].Add(r)
		}
		var merged Summary
		for i := range parts {
			merged.Merge(&parts[i])
		}
		days[0].Merge(&days[1])
		days[0].Close()
		byDay := days[0].Between(0, 1<<30)
		merged.Close()
		whole.Close()
		for name, other := range map[string]*Summary{"merged": &merged, "by day": byDay} {
			a, b := whole.Sums(), other.Sums()
			same := slices.EqualFunc(a, b, func(x, y *Sum) bool {
				return x.Key == y.Key && x.Flows == y.Flows && x.Completed == y.Completed && x.Attempts == y.Attempts &&
					x.Loaded == y.Loaded && x.Bytes == y.Bytes &&
					x.Longest == y.Longest && x.Lasted == y.Lasted && slices.Equal(x.Days.Sorted(), y.Days.Sorted())
			})
			if !same || whole.Flows != other.Flows || whole.Window() != other.Window() {
				t.Fatalf("%s: %s, want %s", name, told(other), told(&whole))
			}
		}
	}
}

// What a database summed of one way comes to what its records come to, whoever served.
func TestSumsOfOneWayAreAsTheirRecords(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 5))
	ports := []int{22, 443, 700, 20000, 40000, 50000}
	for range 300 {
		var records, sums Summary
		for range random.IntN(20) {
			r := record(fmt.Sprintf("10.0.0.%d:%d>10.0.1.%d:%d", random.IntN(3), ports[random.IntN(6)],
				random.IntN(3), ports[random.IntN(6)]), start+random.Int64N(80000))
			r.End = r.Start + random.Int64N(100)
			if random.IntN(2) == 0 {
				r.Source, r.Destination = r.Destination, r.Source
			}
			one := Sum{First: r.Start, Last: r.End, Longest: r.End - r.Start, Lasted: r.End - r.Start,
				Packets: r.Packets, Bytes: r.Bytes, Loaded: 1}
			one.Days.Add(day(r.Start))
			sums.AddOneWay(one, 1, r)
			records.Add(r)
		}
		if a, b := told(&records), told(&sums); a != b || records.Flows != sums.Flows {
			t.Fatalf("records %s\nsums %s", a, b)
		}
	}
}

func TestDays(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 2))
	for range 500 {
		var a, b Days
		want := make(map[int32]bool)
		for range random.IntN(20) {
			day := 20000 + random.Int32N(400) - random.Int32N(100)
			want[day] = true
			if random.IntN(2) == 0 {
				a.Add(day)
			} else {
				b.Add(day)
			}
		}
		a.Merge(&b)
		got := a.Sorted()
		if len(got) != len(want) || a.Count() != len(want) || !slices.IsSorted(got) ||
			slices.ContainsFunc(got, func(d int32) bool { return !want[d] }) {
			t.Fatalf("got %v, want %v", got, want)
		}
	}
}

func BenchmarkAdd(b *testing.B) {
	for _, keys := range []int{1000, 10000, 100000} {
		b.Run(fmt.Sprint(keys), func(b *testing.B) {
			var s Summary
			r := record("192.0.2.1:50000>10.0.0.1:443", start)
			for i := range b.N {
				r.Source = netip.AddrFrom4([4]byte{10, byte(i % keys >> 16), byte(i % keys >> 8), byte(i % keys)})
				s.Add(r)
			}
		})
	}
}
