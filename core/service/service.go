// Package service holds exact sets of services (protocols with their ports or
// ICMP types), the services that have a name, and their classes.
package service

import (
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"isonomos/core/interval"
)

// Protocol numbers (IANA) that have ports or types. Every other protocol is one service as a whole.
const (
	ICMP    = 1
	TCP     = 6
	UDP     = 17
	DCCP    = 33
	ICMPv6  = 58
	SCTP    = 132
	UDPLite = 136
)

// Ported are the protocols that have ports, in the order in which services are listed.
var Ported = []uint8{TCP, UDP, SCTP, DCCP, UDPLite}

// HasPorts reports whether a protocol has ports.
func HasPorts(protocol uint8) bool { return slices.Contains(Ported, protocol) }

// isICMP reports whether a protocol has types and codes.
func isICMP(protocol uint8) bool { return protocol == ICMP || protocol == ICMPv6 }

// A Spec is one service as it is written: everything, a protocol, or a range of ports of a
// protocol. The zero value is protocol 0.
type Spec struct {
	Any      bool  // every protocol; the other fields are zero
	Protocol uint8 // IANA protocol number
	// ports, or for ICMP type<<8|code; 0 to 65535 for the whole protocol; 0 to 0 for protocols
	// without either
	From, To uint16
}

// Anything is every protocol on every port.
var Anything = Spec{Any: true}

// Ports is the spec of a range of ports.
func Ports(protocol uint8, from, to uint16) Spec {
	return Spec{Protocol: protocol, From: from, To: to}
}

// Whole is the spec of a whole protocol.
func Whole(protocol uint8) Spec {
	if hasDetail(protocol) {
		return Spec{Protocol: protocol, To: 65535}
	}
	return Spec{Protocol: protocol}
}

// ICMPType is the spec of one ICMP or ICMPv6 type with every code.
func ICMPType(protocol, typ uint8) Spec {
	return Spec{Protocol: protocol, From: uint16(typ) << 8, To: uint16(typ)<<8 | 255}
}

// ICMPCode is the spec of one ICMP or ICMPv6 type and code.
func ICMPCode(protocol, typ, code uint8) Spec {
	both := uint16(typ)<<8 | uint16(code)
	return Spec{Protocol: protocol, From: both, To: both}
}

func hasDetail(protocol uint8) bool { return HasPorts(protocol) || isICMP(protocol) }

// WholePorted is every port of every protocol that has ports.
var WholePorted = func() Set {
	specs := make([]Spec, len(Ported))
	for i, protocol := range Ported {
		specs[i] = Whole(protocol)
	}
	return Of(specs...)
}()

// Portless are the protocols that have neither ports nor types.
var Portless = All.Minus(WholePorted).Minus(NotIPv4).Minus(NotIPv6)

// protocolNames are the protocols for which the language has a word.
var protocolNames = map[uint8]string{TCP: "tcp", UDP: "udp", SCTP: "sctp", DCCP: "dccp", UDPLite: "udplite",
	ICMP: "icmp", ICMPv6: "icmpv6"}

// ProtocolName is the name of a protocol as the language writes it: "tcp", "protocol 47".
func ProtocolName(protocol uint8) string {
	if name, ok := protocolNames[protocol]; ok {
		return name
	}
	return "protocol " + strconv.Itoa(int(protocol))
}

// ParseProtocol reads a protocol by name (tcp, udp, sctp, dccp, udplite, icmp, icmpv6) or number.
func ParseProtocol(text string) (uint8, error) {
	lower := strings.ToLower(text)
	if lower == "ipv6-icmp" {
		return ICMPv6, nil
	}
	for protocol, name := range protocolNames {
		if name == lower {
			return protocol, nil
		}
	}
	n, err := strconv.ParseUint(text, 10, 8)
	if err != nil {
		return 0, fmt.Errorf("%q is not a protocol: write tcp, udp, sctp, dccp, udplite, icmp, icmpv6 or a "+
			"number from 0 to 255", text)
	}
	return uint8(n), nil
}

// String is the spec in the words of the language: "any", "tcp", "tcp 443",
// "udp 5000-5010", "icmp 8/0", "protocol 47". ParseSpec reads it back.
func (s Spec) String() string {
	if s.Any {
		return "any"
	}
	name := ProtocolName(s.Protocol)
	if s == Whole(s.Protocol) {
		return name
	}
	if isICMP(s.Protocol) {
		switch {
		case s.From == s.To:
			return fmt.Sprintf("%s %d/%d", name, s.From>>8, s.From&255)
		case s == ICMPType(s.Protocol, uint8(s.From>>8)):
			return fmt.Sprintf("%s %d", name, s.From>>8)
		}
		return fmt.Sprintf("%s %d/%d-%d/%d", name, s.From>>8, s.From&255, s.To>>8, s.To&255)
	}
	if s.From == s.To {
		return fmt.Sprintf("%s %d", name, s.From)
	}
	return fmt.Sprintf("%s %d-%d", name, s.From, s.To)
}

// ParseSpec reads a spec in the form that String writes, except for ranges of ICMP types.
func ParseSpec(text string) (Spec, error) {
	fields := strings.Fields(text)
	if len(fields) == 1 && fields[0] == "any" {
		return Anything, nil
	}
	if len(fields) == 2 && fields[0] == "protocol" {
		n, err := strconv.ParseUint(fields[1], 10, 8)
		if err != nil {
			return Spec{}, fmt.Errorf("%q is not a protocol number: it goes from 0 to 255", fields[1])
		}
		return Whole(uint8(n)), nil
	}
	if len(fields) == 0 || len(fields) > 2 {
		return Spec{}, notASpec(text)
	}
	protocol, err := ParseProtocol(fields[0])
	if err != nil || !hasDetail(protocol) || fields[0][0] <= '9' {
		return Spec{}, notASpec(text)
	}
	if len(fields) == 1 {
		return Whole(protocol), nil
	}
	if HasPorts(protocol) {
		from, to, _ := strings.Cut(fields[1], "-")
		if !strings.Contains(fields[1], "-") {
			to = from
		}
		low, err1 := strconv.ParseUint(from, 10, 16)
		high, err2 := strconv.ParseUint(to, 10, 16)
		if err1 != nil || err2 != nil {
			return Spec{}, fmt.Errorf("%q: a port is a number from 0 to 65535, a run of them is 8000-8099", text)
		}
		if high < low {
			return Spec{}, fmt.Errorf("%q: the ports are reversed, write %d-%d", text, high, low)
		}
		return Ports(protocol, uint16(low), uint16(high)), nil
	}
	if typ, ok := ICMPTypeNamed(protocol, fields[1]); ok {
		return ICMPType(protocol, typ), nil
	}
	typ, code, hasCode := strings.Cut(fields[1], "/")
	t, err1 := strconv.ParseUint(typ, 10, 8)
	if !hasCode {
		if err1 != nil {
			return Spec{}, notICMP(text)
		}
		return ICMPType(protocol, uint8(t)), nil
	}
	c, err2 := strconv.ParseUint(code, 10, 8)
	if err1 != nil || err2 != nil {
		return Spec{}, notICMP(text)
	}
	return ICMPCode(protocol, uint8(t), uint8(c)), nil
}

func notASpec(text string) error {
	return fmt.Errorf(`%q is not a service: write "any", "tcp 443", "udp 5000-5010", "icmp 8/0" or "protocol 47"`, text)
}

func notICMP(text string) error {
	return fmt.Errorf(
		`%q: an ICMP type and code are numbers from 0 to 255, written "icmp 8" or "icmp 8/0", `+
			`or the type has a name such as echo-request`, text)
}

// Contains reports whether p is one of the services that the spec stands for.
func (s Spec) Contains(p Point) bool {
	return s.Any || PointOf(s.Protocol, s.From) <= p && p <= PointOf(s.Protocol, s.To)
}

// A Set is a set of services. The zero value is the empty set. Sets are values, and canonical:
// equal sets have equal representations.
//
// Services are points on a line: first the protocols with ports, port by port, then the protocols
// without ports by number, then ICMP and ICMPv6 by type and code. In this order all services that
// both address families can carry are adjacent.
type Set struct{ points interval.Set }

// Positions on the line of services.
const (
	width      = 65536 // of a protocol with ports or types
	otherBase  = 5 * width
	icmpBase   = otherBase + 256 - 7 // protocols with ports or types are not among the others
	icmpv6Base = icmpBase + width
	lineEnd    = icmpv6Base + width // one past the last point
)

// placeOf is the first point of each protocol; protocolAt is the protocol at each point of the part
// without ports.
var placeOf, protocolAt = func() (places [256]Point, protocols [icmpBase - otherBase]uint8) {
	for i, protocol := range Ported {
		places[protocol] = Point(i * width)
	}
	places[ICMP], places[ICMPv6] = icmpBase, icmpv6Base
	next := Point(otherBase)
	for protocol := range 256 {
		if !hasDetail(uint8(protocol)) {
			places[protocol], protocols[next-otherBase] = next, uint8(protocol)
			next++
		}
	}
	return places, protocols
}()

// A Point is a single service, as a point on the line of services.
type Point uint32

// PointOf is the point of a protocol with a port, or for ICMP with type<<8|code. For other
// protocols the detail is ignored.
func PointOf(protocol uint8, detail uint16) Point {
	if at := placeOf[protocol]; at < otherBase || at >= icmpBase {
		return at + Point(detail)
	}
	return placeOf[protocol]
}

// Split is the protocol and the detail (port, or type<<8|code for ICMP; 0 for other protocols) of a point.
func (p Point) Split() (protocol uint8, detail uint16) {
	switch {
	case p < otherBase:
		return Ported[p/width], uint16(p % width)
	case p >= icmpv6Base:
		return ICMPv6, uint16(p - icmpv6Base)
	case p >= icmpBase:
		return ICMP, uint16(p - icmpBase)
	}
	return protocolAt[p-otherBase], 0
}

// String is the point as a spec: "tcp 443".
func (p Point) String() string {
	protocol, detail := p.Split()
	return Spec{Protocol: protocol, From: detail, To: detail}.String()
}

func span(from, to Point) interval.Span {
	return interval.Span{From: interval.Point{Lo: uint64(from)}, To: interval.Point{Lo: uint64(to)}}
}

func (s Spec) span() interval.Span {
	if s.Any {
		return span(0, lineEnd-1)
	}
	return span(PointOf(s.Protocol, s.From), PointOf(s.Protocol, s.To))
}

var (
	// All is every service.
	All = Of(Anything)
	// NotIPv4 and NotIPv6 are the services that a family can't carry: ICMPv6 over IPv4, ICMP over
	// IPv6.
	NotIPv4, NotIPv6 = Of(Whole(ICMPv6)), Of(Whole(ICMP))
)

// Of is the set of all the given services.
func Of(specs ...Spec) Set {
	spans := make([]interval.Span, len(specs))
	for i, s := range specs {
		spans[i] = s.span()
	}
	return Set{interval.Of(spans...)}
}

// Between is the set of the services from one point to another, both in it.
func Between(from, to Point) Set { return Set{interval.Of(span(from, to))} }

// UnionAll is the union of all the sets.
func UnionAll(sets ...Set) Set {
	points := make([]interval.Set, len(sets))
	for i, s := range sets {
		points[i] = s.points
	}
	return Set{interval.UnionAll(points...)}
}

// Union is the set of services in s or t.
func (s Set) Union(t Set) Set { return Set{s.points.Union(t.points)} }

// Intersect is the set of services in both s and t.
func (s Set) Intersect(t Set) Set { return Set{s.points.Intersect(t.points)} }

// Minus is the set of services in s and not in t.
func (s Set) Minus(t Set) Set { return Set{s.points.Minus(t.points)} }

// Equal reports whether s and t hold the same services.
func (s Set) Equal(t Set) bool { return s.points.Equal(t.points) }

// IsEmpty reports whether s holds no service.
func (s Set) IsEmpty() bool { return s.points.IsEmpty() }

// SubsetOf reports whether every service of s is in t.
func (s Set) SubsetOf(t Set) bool { return s.points.SubsetOf(t.points) }

// Overlaps reports whether s and t have a service in common.
func (s Set) Overlaps(t Set) bool { return s.points.Overlaps(t.points) }

// Contains reports whether p is in s.
func (s Set) Contains(p Point) bool { return s.points.Contains(interval.Point{Lo: uint64(p)}) }

// First is the first service of s, and whether there is one.
func (s Set) First() (Point, bool) {
	p, ok := s.points.First()
	return Point(p.Lo), ok
}

// Ends are the first and the last service of s, which must not be empty.
func (s Set) Ends() (first, last Point) {
	spans := s.points.Spans()
	return Point(spans[0].From.Lo), Point(spans[len(spans)-1].To.Lo)
}

// Size is the exact number of services in s. Each port, each ICMP type and code, and each other
// protocol counts as one.
func (s Set) Size() *big.Int { return s.points.Size() }

// Runs calls yield for each run of neighbouring points of s, in order.
func (s Set) Runs(yield func(from, to Point) bool) {
	for _, span := range s.points.Spans() {
		if !yield(Point(span.From.Lo), Point(span.To.Lo)) {
			return
		}
	}
}

// Specs is the shortest list of specs that make up s, in the order of the line; everything is the
// one spec "any". ICMP types don't form ranges: a spec is one type, or one type and code.
func (s Set) Specs() []Spec {
	var specs []Spec
	for _, spec := range s.RunSpecs() {
		if spec.Any || !isICMP(spec.Protocol) || spec == Whole(spec.Protocol) {
			specs = append(specs, spec)
			continue
		}
		for at := int(spec.From); at <= int(spec.To); {
			one := ICMPCode(spec.Protocol, uint8(at>>8), uint8(at))
			if whole := ICMPType(spec.Protocol, uint8(at>>8)); at == int(whole.From) && whole.To <= spec.To {
				one = whole
			}
			specs = append(specs, one)
			at = int(one.To) + 1
		}
	}
	return specs
}

// RunSpecs is Specs, but with ranges of ICMP types.
func (s Set) RunSpecs() []Spec {
	if s.Equal(All) {
		return []Spec{Anything}
	}
	var specs []Spec
	for from, to := range s.Runs {
		for from <= to {
			protocol, first := from.Split()
			last := first
			if hasDetail(protocol) {
				end := min(to, PointOf(protocol, 65535))
				_, last = end.Split()
				from = end
			}
			specs = append(specs, Spec{Protocol: protocol, From: first, To: last})
			from++
		}
	}
	return specs
}

// String lists the specs of s: "tcp 22, tcp 443, icmp 8/0".
func (s Set) String() string {
	specs := s.RunSpecs()
	parts := make([]string, len(specs))
	for i, spec := range specs {
		parts[i] = spec.String()
	}
	return strings.Join(parts, ", ")
}

// Hash is equal for equal sets.
func (s Set) Hash() uint64 { return s.points.Hash() }
