package addr

import (
	"math/bits"
	"net/netip"
	"sort"

	"isonomos/core/interval"
)

// A Counter counts how many addresses of its set, which may have very many ranges, are in another
// set. Each range of the other set costs logarithmic time.
type Counter struct {
	spans  []interval.Span
	before []interval.Point // number of addresses in the spans before each span
	total  [2]float64
}

// NewCounter makes a Counter of a set: linear in its ranges.
func NewCounter(s Set) Counter {
	c := Counter{spans: s.points.Spans()}
	c.before = make([]interval.Point, len(c.spans)+1)
	for i, span := range c.spans {
		c.before[i+1] = plus(c.before[i], size(span))
	}
	c.total[0], c.total[1] = c.Count(Everyone)
	return c
}

// Total is how many addresses there are to count, by family.
func (c Counter) Total() (four, six float64) { return c.total[0], c.total[1] }

// Count is how many addresses of the Counter's set are in t, by family: exact below 2^53.
func (c Counter) Count(t Set) (four, six float64) {
	for _, span := range t.points.Spans() {
		if from, to := later(span.From, mappedBlock.From), earlier(span.To, mappedBlock.To); !to.Before(from) {
			four += c.within(interval.Span{From: from, To: to})
		}
		if span.From.Before(mappedBlock.From) {
			six += c.within(interval.Span{From: span.From, To: earlier(span.To, mappedBlock.From.Prev())})
		}
		if mappedBlock.To.Before(span.To) {
			six += c.within(interval.Span{From: later(span.From, mappedBlock.To.Next()), To: span.To})
		}
	}
	return four, six
}

// within counts the addresses of the set in a span.
func (c Counter) within(s interval.Span) float64 {
	// spans[i] is the first that ends at or after the beginning of s, spans[k] the first that
	// begins after its end
	i := sort.Search(len(c.spans), func(i int) bool { return !c.spans[i].To.Before(s.From) })
	k := sort.Search(len(c.spans), func(i int) bool { return s.To.Before(c.spans[i].From) })
	if i >= k {
		return 0
	}
	count := minus(c.before[k], c.before[i])
	if first := c.spans[i]; first.From.Before(s.From) {
		count = minus(count, minus(s.From, first.From))
	}
	if last := c.spans[k-1]; s.To.Before(last.To) {
		count = minus(count, minus(last.To, s.To))
	}
	return float64(count.Hi)*(1<<64) + float64(count.Lo)
}

// Example is an address of the Counter's set that is in t, if there is one: a
// documentation address if possible, else the lowest, IPv4 before IPv6.
func (c Counter) Example(t Set) (netip.Addr, bool) {
	for _, a := range examples {
		if p := point(a); t.points.Contains(p) && c.within(interval.Span{From: p, To: p}) > 0 {
			return a, true
		}
	}
	for _, family := range []Set{AllIPv4, AllIPv6} {
		for _, span := range t.Intersect(family).points.Spans() {
			i := sort.Search(len(c.spans), func(i int) bool { return !c.spans[i].To.Before(span.From) })
			if i < len(c.spans) && !span.To.Before(c.spans[i].From) {
				return address(later(span.From, c.spans[i].From)), true
			}
		}
	}
	return netip.Addr{}, false
}

// examples are addresses that make clear examples (RFC 5737, RFC 3849).
var examples = []netip.Addr{netip.MustParseAddr("192.0.2.77"), netip.MustParseAddr("2001:db8::77")}

// size is the number of points of a span; for the whole line, 2^128, it is 0.
func size(s interval.Span) interval.Point { return minus(s.To, s.From).Next() }

func plus(a, b interval.Point) interval.Point {
	lo, carry := bits.Add64(a.Lo, b.Lo, 0)
	hi, _ := bits.Add64(a.Hi, b.Hi, carry)
	return interval.Point{Hi: hi, Lo: lo}
}

func minus(a, b interval.Point) interval.Point {
	lo, borrow := bits.Sub64(a.Lo, b.Lo, 0)
	hi, _ := bits.Sub64(a.Hi, b.Hi, borrow)
	return interval.Point{Hi: hi, Lo: lo}
}

func later(p, q interval.Point) interval.Point {
	if p.Before(q) {
		return q
	}
	return p
}

func earlier(p, q interval.Point) interval.Point {
	if q.Before(p) {
		return q
	}
	return p
}
