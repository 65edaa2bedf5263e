package flow

import (
	"net/netip"
	"testing"
	"time"
)

func TestSummary(t *testing.T) {
	a, b := netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("10.0.0.1")
	start := time.Date(2026, 11, 6, 23, 0, 0, 0, time.UTC)
	var s Summary
	if s.Window() != 0 {
		t.Error("nothing seen has a window")
	}
	for i, hours := range []int{2, 0, 30} { // in no order
		at := start.Add(time.Duration(hours) * time.Hour)
		s.Add(Record{Start: at, End: at.Add(time.Duration(i) * time.Minute), Source: a, Destination: b, Service: 22, Bytes: 10, ReplyKnown: i > 0, ReplyPackets: uint64(i / 2)})
	}
	s.Add(Record{Start: start, End: start, Source: b, Destination: a, Service: 22})
	s.Add(Record{Start: start, End: start, Source: b, Destination: a, Service: 21})
	s.Add(Record{Start: start, End: start, Source: b, Destination: a, Service: 20, Refused: true})
	sums := s.Sums()
	if len(sums) != 3 || sums[0].Service != 21 || sums[1].Source != b || s.Flows != 5 || s.Refused != 1 {
		t.Fatalf("%d sums, %d flows, %d refused", len(sums), s.Flows, s.Refused)
	}
	x := sums[2]
	if x.Flows != 3 || x.Days != 3 || x.Bytes != 30 || x.Completed != 2 || x.Longest != 2*time.Minute || !x.First.Equal(start) || !x.Last.Equal(start.Add(30*time.Hour+2*time.Minute)) {
		t.Errorf("got %+v", x)
	}
	if s.Window() != 3 {
		t.Errorf("the window is %d days", s.Window())
	}
}
