package interval

import (
	"math/rand/v2"
	"testing"
)

// The small universe: 6 points at each end of the line and 6 where Lo carries
// into Hi, so that brute force can enumerate it and every carry is met.
var universe = func() []Point {
	var points []Point
	for _, start := range []Point{{0, 0}, {0, ^uint64(0) - 2}, {^uint64(0), ^uint64(0) - 5}} {
		for p := start; len(points)%6 != 0 || p == start; p = p.Next() {
			points = append(points, p)
		}
	}
	return points
}()

// A bitSet is the second opinion: membership by enumeration.
type bitSet uint32

func (b bitSet) set() Set {
	var spans []Span
	for i, p := range universe {
		if b>>i&1 == 1 {
			spans = append(spans, Span{p, p})
		}
	}
	rand.New(rand.NewPCG(uint64(b), 1)).Shuffle(len(spans), func(i, j int) { spans[i], spans[j] = spans[j], spans[i] })
	return Of(spans...)
}

func bitsOf(t *testing.T, s Set) (b bitSet) {
	t.Helper()
	for i, p := range universe {
		if s.Contains(p) {
			b |= 1 << i
		}
	}
	for i, span := range s.Spans() {
		if span.To.Before(span.From) {
			t.Fatalf("span %v is reversed", span)
		}
		if i > 0 && touches(s.Spans()[i-1], span) {
			t.Fatalf("spans %v and %v should be one", s.Spans()[i-1], span)
		}
	}
	return b
}

func TestOperationsAgreeWithEnumeration(t *testing.T) {
	const all = bitSet(1<<18 - 1)
	random := rand.New(rand.NewPCG(7, 7))
	for range 20_000 {
		a, b, c := bitSet(random.Uint32())&all, bitSet(random.Uint32())&all, bitSet(random.Uint32())&all
		c &= bitSet(random.Uint32()) // sparse
		if random.IntN(3) == 0 {
			b &= a
		}
		s, u, v := a.set(), b.set(), c.set()
		for _, x := range []struct {
			name string
			got  Set
			want bitSet
		}{
			{"of", s, a},
			{"union", s.Union(u), a | b},
			{"intersect", s.Intersect(u), a & b},
			{"minus", s.Minus(u), a &^ b},
			{"complement", s.Complement(), all &^ a},
			{"union of three", UnionAll(s, u, v), a | b | c},
		} {
			if got := bitsOf(t, x.got); got != x.want {
				t.Fatalf("%s of %b, %b, %b: got %b, want %b", x.name, a, b, c, got, x.want)
			}
		}
		if got, want := u.SubsetOf(s), b&^a == 0; got != want {
			t.Fatalf("%b subset of %b: %v", b, a, got)
		}
		if got, want := u.Overlaps(s), a&b != 0; got != want {
			t.Fatalf("%b overlaps %b: %v", b, a, got)
		}
		if got, want := s.Equal(u), a == b; got != want {
			t.Fatalf("%b equal %b: %v", a, b, got)
		}
		if !s.Union(u).Complement().Equal(s.Complement().Intersect(u.Complement())) {
			t.Fatalf("De Morgan fails for %b, %b", a, b)
		}
	}
}

func TestSize(t *testing.T) {
	whole := Of(Span{Point{}, Last})
	if got := whole.Size().String(); got != "340282366920938463463374607431768211456" {
		t.Errorf("the whole line has %s points", got)
	}
	if got := whole.Minus(Of(
		Span{Point{0, 5}, Point{1, 4}})).Size().String(); got != "340282366920938463444927863358058659840" {
		t.Errorf("the line without 2^64 points has %s", got)
	}
	if n := (Set{}).Size().Sign(); n != 0 {
		t.Errorf("the empty set has %d points", n)
	}
}
