// Package flow holds observed traffic: single flows, which side of each served,
// and their sums.
package flow

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"isonomos/core/service"
)

// Opener says which side opened a flow, if that was seen.
type Opener uint8

// The sides. The zero value means that it was not seen: then the side is inferred from ports, or
// from the number of partners.
const (
	NotSeen Opener = iota
	BySource
	ByDestination
)

// A Record is one observed flow, or one direction of one.
type Record struct {
	Start, End   int64 // seconds since 1970 (UTC)
	Source       netip.Addr
	Destination  netip.Addr
	Protocol     uint8
	SourcePort   uint16 // 0 if there is none, or if the evidence does not tell
	Port         uint16 // the destination's port; for ICMP type<<8|code
	Packets      uint64
	Bytes        uint64
	ReplyPackets uint64
	ReplyBytes   uint64
	ReplyKnown   bool // the evidence says whether there were replies
	Flags        uint8
	ReplyFlags   uint8
	FlagsKnown   bool // the evidence tells the flags of TCP
	Refused      bool // a filter stopped it
	Opened       Opener
}

// turned is the record with its ends exchanged.
func (r *Record) turned() Record {
	t := *r
	t.Source, t.Destination, t.SourcePort, t.Port = r.Destination, r.Source, r.Port, r.SourcePort
	t.Packets, t.ReplyPackets, t.Bytes, t.ReplyBytes = r.ReplyPackets, r.Packets, r.ReplyBytes, r.Bytes
	t.Flags, t.ReplyFlags = r.ReplyFlags, r.Flags
	return t
}

// Service is the service of the flow, on the assumption that its destination is the server.
func (r *Record) Service() service.Point { return service.PointOf(r.Protocol, r.Port) }

// A Key is what flows are summed by. Source is the client, Destination the server.
type Key struct {
	Source, Destination netip.Addr
	Service             service.Point
}

// A Sum is all flows of one key together.
type Sum struct {
	Key
	Flows      int
	Completed  int   // flows that were answered, or for which the evidence does not tell
	Attempts   int   // flows that were no more than an attempt to reach the service
	Loaded     int   // flows whose client sent payload, or for which the evidence does not tell
	First      int64 // seconds since 1970: the earliest start and the latest end
	Last       int64
	Longest    int64 // seconds
	Lasted     int64 // the sum of the durations of all flows, in seconds
	Packets    uint64
	Bytes      uint64
	ReplyBytes uint64
	Days       Days // days on which flows began or ended
	way        ways
}

// ways counts records by which directions of a flow they tell of. Flows, Completed, Attempts and
// Loaded are worked out from it.
type ways struct {
	both     int   // records of both directions
	answered tally // those of them with an answer
	there    int   // records of the client's direction alone
	back     int   // records of the server's direction alone
	// those that were no more than attempts
	bothAttempts, thereAttempts, backAttempts tally
	// those of one direction alone that show a handshake that was never finished
	thereUnfinished, backUnfinished int
	loaded                          tally // those whose client sent payload
}

func (w *ways) add(o *ways) {
	w.both += o.both
	w.answered.add(o.answered)
	w.there += o.there
	w.back += o.back
	w.bothAttempts.add(o.bothAttempts)
	w.thereAttempts.add(o.thereAttempts)
	w.backAttempts.add(o.backAttempts)
	w.thereUnfinished += o.thereUnfinished
	w.backUnfinished += o.backUnfinished
	w.loaded.add(o.loaded)
}

// turned are the same records with client and server exchanged.
func (w ways) turned() ways {
	w.answered = w.answered.swapped()
	w.there, w.back = w.back, w.there
	w.thereUnfinished, w.backUnfinished = w.backUnfinished, w.thereUnfinished
	w.bothAttempts = w.bothAttempts.swapped()
	w.thereAttempts, w.backAttempts = w.backAttempts.swapped(), w.thereAttempts.swapped()
	w.loaded = w.loaded.swapped()
	return w
}

// count takes a record; turned says that its source is the server. Where that is open, what would hold if the
// other end were the server is counted too.
func (w *ways) count(r *Record, turned, open bool) {
	w.loaded.note(r.loaded(turned), open && r.loaded(!turned))
	tried, otherwise := r.attempted(turned), open && r.attempted(!turned)
	switch {
	case r.ReplyKnown && !r.oneSided():
		w.both++
		w.answered.note(r.answered(turned), open && r.answered(!turned))
		w.bothAttempts.note(tried, otherwise)
	case turned:
		w.back++
		w.backAttempts.note(tried, otherwise)
		if r.unfinished(turned) {
			w.backUnfinished++
		}
	default:
		w.there++
		w.thereAttempts.note(tried, otherwise)
		if r.unfinished(turned) {
			w.thereUnfinished++
		}
	}
}

// oneSided reports whether a record could tell of both directions, and tells of one: the other
// direction may be in another record.
func (r *Record) oneSided() bool {
	return r.Opened == NotSeen && (r.Packets == 0) != (r.ReplyPackets == 0)
}

// day is the day on which a flow with that start counts, by its number since 1970.
func day(start int64) int32 { return int32(start / 86400) }

// Addresses are kept as 16 bytes, which is smaller than netip.Addr and hashes faster.
type (
	key struct {
		source, destination [16]byte
		service             service.Point
	}
	// A talk is a pair of ends of which it was not seen which one opened; a is the lower one.
	talk struct {
		a, b         [16]byte
		aPort, bPort uint16
		protocol     uint8
	}
	end struct {
		address  [16]byte
		port     uint16
		protocol uint8
	}
	// What is known of a talk: the sum of the records from either end.
	heard struct{ fromA, fromB Sum }
)

// A Summary sums flows as they are added. The zero value is ready for use. Its size grows with the
// number of distinct keys, not of flows.
type Summary struct {
	Flows   int // records of admitted flows
	Refused int
	First   time.Time // the window: the earliest and the latest start
	Last    time.Time

	sums        map[key]*Sum
	talks       map[talk]*heard
	spare       []Sum // allocated for the next sums
	first, last int64
	tellsBack   bool // some record tells of replies
	settled     bool
}

// Add takes one flow. Refused flows are counted and not summed.
func (s *Summary) Add(r *Record) {
	s.covers(r.Start, r.Start)
	if r.Refused {
		s.Refused++
		return
	}
	s.Flows++
	s.settled = false
	if r.ReplyKnown && r.oneSided() && r.Packets == 0 {
		turned := r.turned() // only its destination was heard
		r = &turned
	}
	opened, port := r.settle()
	s.tellsBack = s.tellsBack || r.ReplyKnown
	switch opened {
	case BySource:
		s.at(key{r.Source.As16(), r.Destination.As16(), service.PointOf(r.Protocol, port)}).add(r, false, false)
	case ByDestination:
		s.at(key{r.Destination.As16(), r.Source.As16(), service.PointOf(r.Protocol, port)}).add(r, true, false)
		s.tellsBack = true
	default:
		s.hear(r)
	}
}

// AddRefused counts flows that a filter stopped, one of which began at start.
func (s *Summary) AddRefused(start int64, flows int) {
	s.covers(start, start)
	s.Refused += flows
}

// covers extends the window to a time.
func (s *Summary) covers(from, to int64) {
	if s.First.IsZero() || from < s.first {
		s.first, s.First = from, time.Unix(from, 0).UTC()
	}
	if s.Last.IsZero() || to > s.last {
		s.last, s.Last = to, time.Unix(to, 0).UTC()
	}
}

// at is the sum of a key, which is added if it is new.
func (s *Summary) at(k key) *Sum {
	x := s.sums[k]
	if x == nil {
		if s.sums == nil {
			s.sums = make(map[key]*Sum)
		}
		if len(s.spare) == 0 {
			s.spare = make([]Sum, min(1024, 16+len(s.sums)))
		}
		x, s.spare = &s.spare[0], s.spare[1:]
		x.Key = Key{netip.AddrFrom16(k.source).Unmap(), netip.AddrFrom16(k.destination).Unmap(), k.service}
		s.sums[k] = x
	}
	return x
}

// add counts a record; turned says that its source is the server, open that this may be settled otherwise.
func (x *Sum) add(r *Record, turned, open bool) {
	if x.empty() || r.Start < x.First {
		x.First = r.Start
	}
	lasted := max(0, r.End-r.Start)
	x.Last = max(x.Last, r.Start+lasted)
	x.Longest = max(x.Longest, lasted)
	x.Lasted += lasted
	x.Packets += r.Packets
	bytes, reply := r.Bytes, r.ReplyBytes
	if turned {
		bytes, reply = reply, bytes
	}
	x.Bytes += bytes
	x.ReplyBytes += reply
	x.Days.Add(day(r.Start))
	x.way.count(r, turned, open)
}

// turned is the same sum with client and server exchanged.
func (x Sum) turned() Sum {
	x.Bytes, x.ReplyBytes = x.ReplyBytes, x.Bytes
	x.way = x.way.turned()
	return x
}

// take adds another sum of the same key.
func (x *Sum) take(o *Sum) {
	if o.empty() {
		return
	}
	if x.way == (ways{}) || o.First < x.First {
		x.First = o.First
	}
	x.Last = max(x.Last, o.Last)
	x.Longest = max(x.Longest, o.Longest)
	x.Lasted += o.Lasted
	x.Packets += o.Packets
	x.Bytes += o.Bytes
	x.ReplyBytes += o.ReplyBytes
	x.Days.Merge(&o.Days)
	x.way.add(&o.way)
}

// AddSum adds a sum that was made elsewhere, such as by a database. Its window is from its First to
// its Last day. Its flows count as told in both directions.
func (s *Summary) AddSum(o Sum) {
	o.way = o.settledWay()
	s.tellsBack = true
	s.takeSum(&o, o.Flows)
}

// settledWay counts the sum's flows as told in both directions.
func (x *Sum) settledWay() ways {
	return ways{both: x.Flows, answered: tally{straight: x.Completed}, bothAttempts: tally{straight: x.Attempts},
		loaded: tally{straight: x.Loaded}}
}

// AddOneWay adds a sum of records of one direction, of which o.Attempts were no more than attempts and
// o.Loaded had payload. If the server's port is unknown, both ports are given, and the number of
// partners decides.
func (s *Summary) AddOneWay(o Sum, records int, r *Record) {
	opened, port := r.settle()
	o.way = ways{there: records, thereAttempts: tally{o.Attempts, o.Attempts},
		loaded: tally{o.Loaded, records}} // what the servers sent was not recorded
	if r.Protocol == service.UDP || r.Protocol == service.UDPLite {
		o.way.thereAttempts.turned = 0 // an empty answer is an answer
	}
	o.Source, o.Destination, o.Service = r.Source, r.Destination, service.PointOf(r.Protocol, port)
	switch opened {
	case ByDestination:
		o = o.turned()
		o.Source, o.Destination = r.Destination, r.Source
		s.tellsBack = true
	case NotSeen:
		s.covers(o.First, o.First)
		s.Flows += records
		h, fromA := s.heardOf(r)
		if fromA {
			h.fromA.take(&o)
		} else {
			h.fromB.take(&o)
		}
		return
	}
	s.takeSum(&o, records)
}

func (s *Summary) takeSum(o *Sum, records int) {
	s.settled = false
	s.Flows += records
	s.covers(o.First, o.First)
	if days := o.Days.Sorted(); len(days) > 0 {
		s.covers(min(s.first, int64(days[0])*86400+86399), max(s.last, int64(days[len(days)-1])*86400))
	}
	s.at(key{o.Source.As16(), o.Destination.As16(), o.Service}).take(o)
}

// Merge adds all of another summary, which must not be used afterwards. It is of another part of
// the same source, or of another source if both are closed.
func (s *Summary) Merge(o *Summary) {
	if !o.First.IsZero() {
		s.covers(o.first, o.last)
	}
	s.settled = false
	s.Flows += o.Flows
	s.Refused += o.Refused
	s.tellsBack = s.tellsBack || o.tellsBack
	if s.sums == nil {
		s.sums, o.sums = o.sums, nil
	}
	for k, x := range o.sums {
		if mine := s.sums[k]; mine != nil {
			mine.take(x)
		} else {
			s.sums[k] = x
		}
	}
	for t, h := range o.talks {
		if mine := s.talks[t]; mine != nil {
			mine.fromA.take(&h.fromA)
			mine.fromB.take(&h.fromB)
			continue
		}
		if s.talks == nil {
			s.talks = make(map[talk]*heard)
		}
		s.talks[t] = h
	}
}

// Each calls take for each sum, in no order. With very many sums it is faster than Sums.
func (s *Summary) Each(take func(*Sum)) {
	s.settle()
	for _, x := range s.sums {
		take(x)
	}
}

// Sums are the sums in the order of service, source and destination.
func (s *Summary) Sums() []*Sum {
	all := make([]*Sum, 0, len(s.sums))
	s.Each(func(x *Sum) { all = append(all, x) })
	slices.SortFunc(all, (*Sum).Compare)
	return all
}

// Compare orders sums by service, source and destination.
func (x *Sum) Compare(o *Sum) int {
	return cmp.Or(cmp.Compare(x.Service, o.Service), x.Source.Compare(o.Source), x.Destination.Compare(o.Destination))
}

// settle decides which end of each talk is the server, and counts the flows of each key.
func (s *Summary) settle() {
	if s.settled {
		return
	}
	s.settled = true
	s.settleTalks()
	for _, x := range s.sums {
		w := x.way
		// A flow of which both directions were recorded apart is one flow. If no record tells of
		// replies, it is unknown which flows were answered.
		x.Flows = w.both + max(w.there, w.back)
		x.Completed = w.answered.straight + w.there
		if s.tellsBack {
			x.Completed = w.answered.straight + w.back - w.backUnfinished
		}
		x.Completed = min(x.Completed, x.Flows)
		real := w.both - w.bothAttempts.straight + max(w.there-w.thereAttempts.straight, w.back-w.backAttempts.straight)
		x.Attempts = max(0, x.Flows-real)
		x.Loaded = min(w.loaded.straight, x.Flows)
	}
}

// Close ends a source of evidence. Whether records tell of replies is judged for each source by
// itself, and for each server in it, so each is closed before it is merged with another.
func (s *Summary) Close() {
	s.settle()
	answering := make(answerers)
	answering.note(s)
	s.fold(answering)
}

// answerers are the servers of which some reply was recorded. Of the others replies say nothing.
type answerers map[netip.Addr]bool

func (a answerers) note(s *Summary) {
	for _, x := range s.sums {
		if x.Completed > 0 && s.tellsBack {
			a[x.Destination] = true
		}
	}
}

// fold makes the counts of a settled summary final.
func (s *Summary) fold(answering answerers) {
	for _, x := range s.sums {
		if protocol, _ := x.Service.Split(); protocol != service.TCP && s.tellsBack && !answering[x.Destination] {
			x.Completed = x.Flows
		}
		x.way = x.settledWay()
	}
	s.tellsBack = false
}

// Window is the number of days in which the flows lie, the first and last included.
func (s *Summary) Window() int {
	if s.First.IsZero() {
		return 0
	}
	return int(day(s.last)-day(s.first)) + 1
}
