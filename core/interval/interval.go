// Package interval holds sets of points on a line of 2^128 points, as sorted
// lists of intervals. Addresses and services are both points on such a line;
// the packages addr and service give the points their meaning.
package interval

import (
	"cmp"
	"math/big"
	"math/bits"
	"slices"
)

// A Point is a place on the line: an unsigned number of 128 bits.
// The zero value is the first point.
type Point struct{ Hi, Lo uint64 }

// Last is the last point of the line.
var Last = Point{^uint64(0), ^uint64(0)}

// Compare orders points: negative if p is before q, zero if they are the same.
func (p Point) Compare(q Point) int {
	if c := cmp.Compare(p.Hi, q.Hi); c != 0 {
		return c
	}
	return cmp.Compare(p.Lo, q.Lo)
}

// Before reports whether p comes before q.
func (p Point) Before(q Point) bool {
	return p.Hi < q.Hi || p.Hi == q.Hi && p.Lo < q.Lo
}

// Next is the point after p. It wraps at Last: callers rule that out first.
func (p Point) Next() Point {
	lo, carry := bits.Add64(p.Lo, 1, 0)
	return Point{p.Hi + carry, lo}
}

// Prev is the point before p. It wraps at the first point: callers rule that out first.
func (p Point) Prev() Point {
	lo, borrow := bits.Sub64(p.Lo, 1, 0)
	return Point{p.Hi - borrow, lo}
}

// A Span is an interval with both ends in it. From is never after To.
type Span struct{ From, To Point }

// A Set is a set of points. The zero value is the empty set.
//
// Sets are values: no operation changes its operands, and results may share
// memory with them. They are canonical: the spans are sorted, disjoint and never
// adjacent, so two sets are equal exactly when their spans are.
type Set struct{ spans []Span }

// Of is the set of all points in the given spans, which may overlap and come in any order.
func Of(spans ...Span) Set {
	if len(spans) < 2 {
		return Set{slices.Clone(spans)}
	}
	sorted := slices.Clone(spans)
	slices.SortFunc(sorted, func(a, b Span) int { return a.From.Compare(b.From) })
	return Set{joined(sorted)}
}

// joined merges overlapping and adjacent neighbours of a list sorted by From, in place.
func joined(sorted []Span) []Span {
	last := 0
	for _, s := range sorted[1:] {
		if touches(sorted[last], s) {
			if sorted[last].To.Before(s.To) {
				sorted[last].To = s.To
			}
			continue
		}
		last++
		sorted[last] = s
	}
	return sorted[:last+1]
}

// touches reports whether b, which does not begin before a, overlaps a or follows it without a gap.
func touches(a, b Span) bool {
	return a.To == Last || !a.To.Next().Before(b.From)
}

// UnionAll is the union of all the sets: O(n log n) in the number of their spans.
func UnionAll(sets ...Set) Set {
	switch len(sets) {
	case 0:
		return Set{}
	case 1:
		return sets[0]
	case 2:
		return sets[0].Union(sets[1])
	}
	var all []Span
	for _, s := range sets {
		all = append(all, s.spans...)
	}
	return Of(all...)
}

// Spans are the intervals of s in order. The slice must not be changed.
func (s Set) Spans() []Span { return s.spans }

// IsEmpty reports whether s holds no point.
func (s Set) IsEmpty() bool { return len(s.spans) == 0 }

// Equal reports whether s and t hold the same points.
func (s Set) Equal(t Set) bool {
	if len(s.spans) == len(t.spans) && (len(s.spans) == 0 || &s.spans[0] == &t.spans[0]) {
		return true
	}
	return slices.Equal(s.spans, t.spans)
}

// Contains reports whether p is in s, in logarithmic time.
func (s Set) Contains(p Point) bool {
	i, found := slices.BinarySearchFunc(s.spans, p, func(x Span, p Point) int { return x.From.Compare(p) })
	return found || i > 0 && !s.spans[i-1].To.Before(p)
}

// Union is the set of points in s or t: linear in the number of spans, as all operations of two sets are.
func (s Set) Union(t Set) Set {
	switch {
	case s.IsEmpty():
		return t
	case t.IsEmpty():
		return s
	}
	merged := make([]Span, 0, len(s.spans)+len(t.spans))
	i, j := 0, 0
	for i < len(s.spans) && j < len(t.spans) {
		if s.spans[i].From.Before(t.spans[j].From) {
			merged, i = append(merged, s.spans[i]), i+1
		} else {
			merged, j = append(merged, t.spans[j]), j+1
		}
	}
	merged = append(append(merged, s.spans[i:]...), t.spans[j:]...)
	return Set{joined(merged)}
}

// Intersect is the set of points in both s and t.
func (s Set) Intersect(t Set) Set {
	var both []Span
	for i, j := 0, 0; i < len(s.spans) && j < len(t.spans); {
		a, b := s.spans[i], t.spans[j]
		from, to := later(a.From, b.From), earlier(a.To, b.To)
		if !to.Before(from) {
			both = append(both, Span{from, to})
		}
		if a.To.Before(b.To) {
			i++
		} else {
			j++
		}
	}
	return Set{both}
}

// Minus is the set of points in s that are not in t.
func (s Set) Minus(t Set) Set {
	if s.IsEmpty() || t.IsEmpty() {
		return s
	}
	var left []Span
	j := 0
	for _, a := range s.spans {
		from, open := a.From, true
		for j < len(t.spans) && t.spans[j].To.Before(from) {
			j++
		}
		// A span of t may cut into the next span of s too, so j stays on the last one that was used.
		for k := j; k < len(t.spans) && !a.To.Before(t.spans[k].From); k++ {
			cut := t.spans[k]
			if from.Before(cut.From) {
				left = append(left, Span{from, cut.From.Prev()})
			}
			if !cut.To.Before(a.To) {
				open = false
				break
			}
			from, j = cut.To.Next(), k
		}
		if open {
			left = append(left, Span{from, a.To})
		}
	}
	return Set{left}
}

// Complement is the set of all points of the line that are not in s.
func (s Set) Complement() Set { return Of(Span{Point{}, Last}).Minus(s) }

// SubsetOf reports whether every point of s is in t.
func (s Set) SubsetOf(t Set) bool {
	j := 0
	for _, a := range s.spans {
		for j < len(t.spans) && t.spans[j].To.Before(a.To) {
			j++
		}
		if j == len(t.spans) || a.From.Before(t.spans[j].From) {
			return false
		}
	}
	return true
}

// Overlaps reports whether s and t have a point in common.
func (s Set) Overlaps(t Set) bool {
	for i, j := 0, 0; i < len(s.spans) && j < len(t.spans); {
		a, b := s.spans[i], t.spans[j]
		switch {
		case a.To.Before(b.From):
			i++
		case b.To.Before(a.From):
			j++
		default:
			return true
		}
	}
	return false
}

// First is the first point of s, and whether there is one.
func (s Set) First() (Point, bool) {
	if s.IsEmpty() {
		return Point{}, false
	}
	return s.spans[0].From, true
}

// Size is the exact number of points in s.
func (s Set) Size() *big.Int {
	size := new(big.Int)
	for _, span := range s.spans {
		size.Add(size, span.Size())
	}
	return size
}

// Size is the exact number of points in the span: at least 1, at most 2^128.
func (s Span) Size() *big.Int {
	lo, borrow := bits.Sub64(s.To.Lo, s.From.Lo, 0)
	hi, _ := bits.Sub64(s.To.Hi, s.From.Hi, borrow)
	size := new(big.Int).SetUint64(hi)
	size.Lsh(size, 64).Add(size, new(big.Int).SetUint64(lo))
	return size.Add(size, big.NewInt(1))
}

func later(p, q Point) Point {
	if p.Before(q) {
		return q
	}
	return p
}

func earlier(p, q Point) Point {
	if q.Before(p) {
		return q
	}
	return p
}

// Hash is equal for equal sets.
func (s Set) Hash() uint64 {
	const prime = 1099511628211 // FNV-1a, a word at a time
	hash := uint64(14695981039346656037)
	for _, span := range s.spans {
		for _, word := range [...]uint64{span.From.Hi, span.From.Lo, span.To.Hi, span.To.Lo} {
			hash = (hash ^ word) * prime
			hash ^= hash >> 29
		}
	}
	return hash
}
