package traffic

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"isonomos/core/addr"
	"isonomos/core/service"
)

// The small universe: four addresses of each family and services on both sides
// of every border of the line of services, which brute force can enumerate.
var (
	peers = []netip.Addr{
		netip.MustParseAddr("0.0.0.0"), netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr(
			"10.0.0.2"), netip.MustParseAddr("255.255.255.255"),
		netip.MustParseAddr("::"), netip.MustParseAddr("2001:db8::1"), netip.MustParseAddr("2001:db8::2"),
		netip.MustParseAddr("ffff::1"),
	}
	services = []service.Spec{
		service.Ports(service.TCP, 22, 22), service.Ports(service.TCP, 23, 23), service.Ports(service.TCP, 65535,
			65535),
		service.Ports(service.UDP, 0, 0), service.Ports(service.UDP, 65535, 65535), service.Whole(0),
		service.Whole(47), service.Whole(255),
		service.ICMPCode(service.ICMP, 0, 0), service.ICMPCode(service.ICMP, 255, 255),
		service.ICMPCode(service.ICMPv6, 0, 0), service.ICMPCode(service.ICMPv6, 128, 0),
	}
)

// A table is the second opinion: a truth value for each pair of the universe.
type table [8]uint16

func possible(peer, svc int) bool {
	return !(services[svc].Protocol == service.ICMP && peer >= 4) &&
		!(services[svc].Protocol == service.ICMPv6 && peer < 4)
}

var all = func() (t table) {
	for p := range peers {
		for s := range services {
			if possible(p, s) {
				t[p] |= 1 << s
			}
		}
	}
	return t
}()

// randomTable is the union of a few random rectangles, as sets and as a table.
func randomTable(random *rand.Rand) (table, Set) {
	var t table
	var s Set
	for range random.IntN(5) {
		peerBits, serviceBits := random.IntN(256), random.IntN(1<<12)
		var addrs []netip.Addr
		var specs []service.Spec
		for i, a := range peers {
			if peerBits>>i&1 == 1 {
				addrs = append(addrs, a)
				t[i] |= uint16(serviceBits)
			}
		}
		for i, x := range services {
			if serviceBits>>i&1 == 1 {
				specs = append(specs, x)
			}
		}
		s = s.Union(Of(addr.Of(addrs...), service.Of(specs...)))
	}
	return t.zip(all, func(a, b uint16) uint16 { return a & b }), s
}

func (t table) zip(u table, f func(a, b uint16) uint16) (r table) {
	for i := range t {
		r[i] = f(t[i], u[i])
	}
	return r
}

func tableOf(t *testing.T, s Set) (r table) {
	t.Helper()
	for p, a := range peers {
		for i, spec := range services {
			if s.Contains(a, service.PointOf(spec.Protocol, spec.From)) {
				r[p] |= 1 << i
			}
		}
	}
	for i, b := range s.Bands() {
		if b.Peers.IsEmpty() || b.To < b.From {
			t.Fatalf("band %v is empty", b)
		}
		if i > 0 {
			before := s.Bands()[i-1]
			if b.From <= before.To || b.From == before.To+1 && b.Peers.Equal(before.Peers) {
				t.Fatalf("bands %v and %v overlap or should be one", before, b)
			}
		}
	}
	return r
}

func TestOperationsAgreeWithEnumeration(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 5))
	for range 5_000 {
		a, s := randomTable(random)
		b, u := randomTable(random)
		for _, x := range []struct {
			name string
			got  Set
			want table
		}{
			{"of", s, a},
			{"union", s.Union(u), a.zip(b, func(a, b uint16) uint16 { return a | b })},
			{"intersect", s.Intersect(u), a.zip(b, func(a, b uint16) uint16 { return a & b })},
			{"minus", s.Minus(u), a.zip(b, func(a, b uint16) uint16 { return a &^ b })},
			{"complement", s.Complement(), all.zip(a, func(a, b uint16) uint16 { return a &^ b })},
		} {
			if got := tableOf(t, x.got); got != x.want {
				t.Fatalf("%s: got %b, want %b", x.name, got, x.want)
			}
		}
		if got, want := s.Equal(u), a == b; got != want {
			t.Fatalf("equal is %v for %b and %b", got, a, b)
		}
		if got, want := u.SubsetOf(s), b == b.zip(a, func(a, b uint16) uint16 { return a & b }); got != want {
			t.Fatalf("subset is %v for %b and %b", got, b, a)
		}
	}
}

// The laws of sets hold on the whole line of services and addresses, not only where the universe looks.
func TestLaws(t *testing.T) {
	random := rand.New(rand.NewPCG(11, 13))
	for range 2_000 {
		_, a := randomTable(random)
		_, b := randomTable(random)
		_, c := randomTable(random)
		for name, pair := range map[string][2]Set{
			"commutes":      {a.Union(b), b.Union(a)},
			"distributes":   {a.Intersect(b.Union(c)), a.Intersect(b).Union(a.Intersect(c))},
			"De Morgan":     {a.Union(b).Complement(), a.Complement().Intersect(b.Complement())},
			"double":        {a.Complement().Complement(), a},
			"difference":    {a.Minus(b), a.Intersect(b.Complement())},
			"union of many": {UnionAll([]Set{a, b, c}), a.Union(b).Union(c)},
			"parts":         {a.Minus(b).Union(a.Intersect(b)), a},
		} {
			if !pair[0].Equal(pair[1]) {
				t.Fatalf("%s: %v is not %v", name, pair[0], pair[1])
			}
		}
		var again []Set
		for _, block := range a.Blocks() {
			again = append(again, Of(block.Peers, block.Services))
		}
		if !UnionAll(again).Equal(a) {
			t.Fatalf("the blocks of %v make another set", a)
		}
		sum := a.Minus(b).Size()
		if sum.Add(sum, a.Intersect(b).Size()).Cmp(a.Size()) != 0 {
			t.Fatal("sizes do not add up")
		}
	}
}

func TestHalvesAreTheWhole(t *testing.T) {
	ssh := service.Of(service.Ports(service.TCP, 22, 22))
	half := func(text string) Set {
		return Of(addr.OfPrefixes(netip.MustParsePrefix(text)), ssh)
	}
	sum := half("0.0.0.0/1").Union(half("128.0.0.0/1"))
	if !sum.Equal(half("0.0.0.0/0")) {
		t.Errorf("two halves are %v", sum)
	}
	if got := sum.Size().String(); got != "4294967296" {
		t.Errorf("size %s", got)
	}
	if w, ok := sum.Witness(); !ok || fmt.Sprint(w.Peer, " ", w.Service) != "192.0.2.77 tcp 22" {
		t.Errorf("witness %v", w)
	}
}

func TestNoImpossibleTraffic(t *testing.T) {
	if !Of(addr.AllIPv6, service.Of(service.Whole(service.ICMP))).IsEmpty() {
		t.Error("ICMP over IPv6 is not empty")
	}
	if !Of(addr.Everyone, service.All).Complement().IsEmpty() {
		t.Error("something is outside everything")
	}
}

func FuzzAlgebra(f *testing.F) {
	f.Add(uint64(1), uint64(2))
	f.Fuzz(func(t *testing.T, x, y uint64) {
		a, s := randomTable(rand.New(rand.NewPCG(x, 0)))
		b, u := randomTable(rand.New(rand.NewPCG(y, 0)))
		if got, want := tableOf(t, s.Minus(u)), a.zip(b, func(a, b uint16) uint16 { return a &^ b }); got != want {
			t.Errorf("minus: got %b, want %b", got, want)
		}
		if !s.Minus(u).Union(u).Equal(s.Union(u)) {
			t.Error("minus and union do not meet")
		}
	})
}

func benchmarkRules(n int) []Set {
	random := rand.New(rand.NewPCG(1, 1))
	sets := make([]Set, n)
	for i := range sets {
		prefix := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(random.IntN(256)), byte(random.IntN(256)), 0}), 24)
		port := uint16(random.IntN(2000))
		sets[i] = Of(addr.OfPrefixes(prefix), service.Of(service.Ports(service.TCP, port, port)))
	}
	return sets
}

func BenchmarkUnionAll(b *testing.B) {
	for _, n := range []int{1_000, 10_000, 100_000} {
		sets := benchmarkRules(n)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				UnionAll(sets)
			}
		})
	}
}

func BenchmarkIntersect(b *testing.B) {
	s, u := UnionAll(benchmarkRules(1_000)), UnionAll(benchmarkRules(2_000))
	for b.Loop() {
		s.Intersect(u)
	}
}
