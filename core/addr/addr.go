// Package addr holds exact sets of IP addresses of both families.
package addr

import (
	"math/big"
	"math/bits"
	"net/netip"
	"strings"

	"isonomos/core/interval"
)

// A Set is a set of IPv4 and IPv6 addresses. The zero value is the empty set.
// Sets are values and canonical: equal sets have equal representations.
//
// Both families share one line of 128-bit points. IPv4 addresses stand where
// RFC 4291, section 2.5.5.2, maps them, at ::ffff:0:0/96. IPv4-mapped addresses
// are never those of a packet, so that block of IPv6 is free to hold them.
type Set struct{ points interval.Set }

// Family says which of the two address families are meant. The zero value means both.
type Family uint8

// The families.
const (
	Both Family = iota
	IPv4
	IPv6
)

// String is "", "v4" or "v6", as a definition writes it.
func (f Family) String() string { return [...]string{"", "v4", "v6"}[f] }

var (
	mappedBlock = interval.Span{
		From: interval.Point{Lo: 0xffff_0000_0000},
		To:   interval.Point{Lo: 0xffff_ffff_ffff},
	}
	// Everyone is every address of both families.
	Everyone = Set{interval.Of(interval.Span{To: interval.Last})}
	// AllIPv4 is every IPv4 address.
	AllIPv4 = Set{interval.Of(mappedBlock)}
	// AllIPv6 is every IPv6 address.
	AllIPv6 = Everyone.Minus(AllIPv4)
)

// FamilyIn is the family of an address.
func FamilyIn(a netip.Addr) Family {
	if a.Is4() {
		return IPv4
	}
	return IPv6
}

// FamilyOf is the set of all addresses of a family.
func FamilyOf(f Family) Set {
	switch f {
	case IPv4:
		return AllIPv4
	case IPv6:
		return AllIPv6
	}
	return Everyone
}

func point(a netip.Addr) interval.Point {
	b := a.As16() // maps IPv4 as RFC 4291 does
	return interval.Point{Hi: bigEndian(b[:8]), Lo: bigEndian(b[8:])}
}

func bigEndian(b []byte) (v uint64) {
	for _, x := range b {
		v = v<<8 | uint64(x)
	}
	return v
}

func address(p interval.Point) netip.Addr {
	var b [16]byte
	for i := range 8 {
		b[i] = byte(p.Hi >> (56 - 8*i))
		b[8+i] = byte(p.Lo >> (56 - 8*i))
	}
	return netip.AddrFrom16(b).Unmap()
}

// Of is the set of the given addresses. Zones are dropped; an IPv4-mapped address is taken as the IPv4 one.
func Of(addrs ...netip.Addr) Set {
	spans := make([]interval.Span, len(addrs))
	for i, a := range addrs {
		p := point(a)
		spans[i] = interval.Span{From: p, To: p}
	}
	return Set{interval.Of(spans...)}
}

// OfPrefixes is the set of all addresses in the given ranges, whose host bits are ignored.
func OfPrefixes(prefixes ...netip.Prefix) Set {
	spans := make([]interval.Span, len(prefixes))
	overIPv4 := false
	for i, p := range prefixes {
		spans[i] = prefixSpan(p)
		overIPv4 = overIPv4 || p.Addr().Is6() && p.Bits() < 96
	}
	s := Set{interval.Of(spans...)}
	if overIPv4 { // a short IPv6 prefix spans the block in which the IPv4 addresses stand
		var v4 []interval.Span
		for i, p := range prefixes {
			if p.Addr().Is4() {
				v4 = append(v4, spans[i])
			}
		}
		s = s.Intersect(AllIPv6).Union(Set{interval.Of(v4...)})
	}
	return s
}

func prefixSpan(p netip.Prefix) interval.Span {
	p = p.Masked()
	host := 128 - p.Bits()
	if p.Addr().Is4() {
		host = 32 - p.Bits()
	}
	from := point(p.Addr())
	to := from
	if host > 64 {
		to.Hi |= 1<<(host-64) - 1
		to.Lo = ^uint64(0)
	} else if host == 64 {
		to.Lo = ^uint64(0)
	} else {
		to.Lo |= 1<<host - 1
	}
	return interval.Span{From: from, To: to}
}

// UnionAll is the union of all the sets.
func UnionAll(sets ...Set) Set {
	points := make([]interval.Set, len(sets))
	for i, s := range sets {
		points[i] = s.points
	}
	return Set{interval.UnionAll(points...)}
}

// Union is the set of addresses in s or t.
func (s Set) Union(t Set) Set { return Set{s.points.Union(t.points)} }

// Intersect is the set of addresses in both s and t.
func (s Set) Intersect(t Set) Set { return Set{s.points.Intersect(t.points)} }

// Minus is the set of addresses in s and not in t.
func (s Set) Minus(t Set) Set { return Set{s.points.Minus(t.points)} }

// Complement is the set of all addresses not in s.
func (s Set) Complement() Set { return Set{s.points.Complement()} }

// Only is the part of s that is of the family f.
func (s Set) Only(f Family) Set {
	if f == Both {
		return s
	}
	return s.Intersect(FamilyOf(f))
}

// Equal reports whether s and t hold the same addresses.
func (s Set) Equal(t Set) bool { return s.points.Equal(t.points) }

// IsEmpty reports whether s holds no address.
func (s Set) IsEmpty() bool { return s.points.IsEmpty() }

// Contains reports whether a is in s.
func (s Set) Contains(a netip.Addr) bool { return s.points.Contains(point(a)) }

// SubsetOf reports whether every address of s is in t.
func (s Set) SubsetOf(t Set) bool { return s.points.SubsetOf(t.points) }

// Overlaps reports whether s and t have an address in common.
func (s Set) Overlaps(t Set) bool { return s.points.Overlaps(t.points) }

// Size is the exact number of addresses in s, both families added up.
func (s Set) Size() *big.Int { return s.points.Size() }

// First is the lowest address of s, IPv4 before IPv6, and whether there is one.
func (s Set) First() (netip.Addr, bool) {
	for _, family := range []Set{AllIPv4, AllIPv6} {
		if p, ok := s.points.Intersect(family.points).First(); ok {
			return address(p), true
		}
	}
	return netip.Addr{}, false
}

// ipv6Spans are the IPv6 spans of s. Where s holds both neighbours of the block of IPv4-mapped
// addresses, the block is filled, so that no span is cut there.
func (s Set) ipv6Spans() []interval.Span {
	six := s.Only(IPv6)
	if six.points.Contains(mappedBlock.From.Prev()) && six.points.Contains(mappedBlock.To.Next()) {
		return six.Union(AllIPv4).points.Spans()
	}
	return six.points.Spans()
}

// Prefixes is the shortest list of CIDR ranges that make up s, IPv4 first, in order.
func (s Set) Prefixes() []netip.Prefix {
	var prefixes []netip.Prefix
	for _, span := range s.Only(IPv4).points.Spans() {
		prefixes = appendPrefixes(prefixes, span, 32)
	}
	for _, span := range s.ipv6Spans() {
		prefixes = appendPrefixes(prefixes, span, 128)
	}
	return prefixes
}

// appendPrefixes cuts a span into blocks of addresses of a width in bits. Each block is the largest
// that begins where the last one ended and stays within the span.
func appendPrefixes(prefixes []netip.Prefix, span interval.Span, width int) []netip.Prefix {
	for from := span.From; ; {
		host := min(trailingZeros(from), log2(from, span.To), width)
		prefixes = append(prefixes, netip.PrefixFrom(address(from), width-host))
		last := from
		if host > 64 {
			last.Hi |= 1<<(host-64) - 1
			last.Lo = ^uint64(0)
		} else if host == 64 {
			last.Lo = ^uint64(0)
		} else {
			last.Lo |= 1<<host - 1
		}
		if last == span.To {
			return prefixes
		}
		from = last.Next()
	}
}

func trailingZeros(p interval.Point) int {
	if p.Lo != 0 {
		return bits.TrailingZeros64(p.Lo)
	}
	return 64 + bits.TrailingZeros64(p.Hi)
}

// log2 is the binary logarithm, rounded down, of the number of points of a span.
func log2(from, to interval.Point) int {
	lo, borrow := bits.Sub64(to.Lo, from.Lo, 0)
	hi, _ := bits.Sub64(to.Hi, from.Hi, borrow)
	lo, carry := bits.Add64(lo, 1, 0)
	hi, carry = bits.Add64(hi, 0, carry)
	switch {
	case carry == 1:
		return 128
	case hi != 0:
		return 64 + bits.Len64(hi) - 1
	}
	return bits.Len64(lo) - 1
}

// String lists the CIDR ranges of s, single addresses without their length: "10.0.0.0/8, 192.0.2.1".
func (s Set) String() string {
	var parts []string
	for _, p := range s.Prefixes() {
		parts = append(parts, PrefixString(p))
	}
	return strings.Join(parts, ", ")
}

// PrefixString is p as people write it: a single address without its length.
func PrefixString(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return p.String()
}

// Hash is equal for equal sets.
func (s Set) Hash() uint64 { return s.points.Hash() }
