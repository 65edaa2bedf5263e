// Package flow holds observed traffic: single flows, and their sums.
package flow

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"isonomos/core/service"
)

// A Record is one observed flow. Source opened it, Destination served it.
type Record struct {
	Start, End   time.Time
	Source       netip.Addr
	Destination  netip.Addr
	Service      service.Point // by the destination's port, or for ICMP type and code
	Packets      uint64
	Bytes        uint64
	ReplyPackets uint64
	ReplyBytes   uint64
	ReplyKnown   bool // the evidence tells about the way back
	Refused      bool // a filter stopped it
}

// A Key is what flows are summed by.
type Key struct {
	Source, Destination netip.Addr
	Service             service.Point
}

// A Sum is all flows of one key together.
type Sum struct {
	Key
	Flows      int
	Days       int // distinct days (UTC)
	First      time.Time
	Last       time.Time
	Longest    time.Duration
	Bytes      uint64
	ReplyBytes uint64
	Completed  int // flows that were answered, or of which the evidence does not tell
	days       map[int64]struct{}
}

// A Summary sums flows as they come. The zero value is ready for use. Its size
// grows with the number of distinct keys, not of flows.
type Summary struct {
	sums    map[Key]*Sum
	Flows   int // admitted ones
	Refused int
	First   time.Time // the window: the earliest and the latest start
	Last    time.Time
}

// Add takes one flow. Refused flows are counted and not summed.
func (s *Summary) Add(r Record) {
	if s.First.IsZero() || r.Start.Before(s.First) {
		s.First = r.Start
	}
	if r.Start.After(s.Last) {
		s.Last = r.Start
	}
	if r.Refused {
		s.Refused++
		return
	}
	s.Flows++
	if s.sums == nil {
		s.sums = make(map[Key]*Sum)
	}
	key := Key{r.Source, r.Destination, r.Service}
	x := s.sums[key]
	if x == nil {
		x = &Sum{Key: key, First: r.Start, Last: r.End, days: make(map[int64]struct{}, 1)}
		s.sums[key] = x
	}
	x.Flows++
	if r.Start.Before(x.First) {
		x.First = r.Start
	}
	if r.End.After(x.Last) {
		x.Last = r.End
	}
	x.Longest = max(x.Longest, r.End.Sub(r.Start))
	x.Bytes += r.Bytes
	x.ReplyBytes += r.ReplyBytes
	if !r.ReplyKnown || r.ReplyPackets > 0 {
		x.Completed++
	}
	x.days[r.Start.Unix()/86400] = struct{}{}
	x.Days = len(x.days)
}

// Sums are the sums in the order of service, source and destination.
func (s *Summary) Sums() []*Sum {
	all := make([]*Sum, 0, len(s.sums))
	for _, x := range s.sums {
		all = append(all, x)
	}
	slices.SortFunc(all, func(a, b *Sum) int {
		return cmp.Or(cmp.Compare(a.Service, b.Service), a.Source.Compare(b.Source), a.Destination.Compare(b.Destination))
	})
	return all
}

// Window is how many days, begun ones counted, the flows lie in.
func (s *Summary) Window() int {
	if s.First.IsZero() {
		return 0
	}
	return int(s.Last.Unix()/86400-s.First.Unix()/86400) + 1
}
