package service

import (
	"slices"
	"strings"
	"testing"
)

func TestEveryPlaceOnTheLineIsOneService(t *testing.T) {
	for p := Point(0); p < lineEnd; p++ {
		protocol, detail := p.Split()
		if back := PointOf(protocol, detail); back != p {
			t.Fatalf("place %d is protocol %d, detail %d, which stands at %d", p, protocol, detail, back)
		}
	}
	for protocol := range 256 {
		if got, _ := PointOf(uint8(protocol), 0).Split(); int(got) != protocol {
			t.Errorf("protocol %d comes back as %d", protocol, got)
		}
	}
}

func TestParseSpec(t *testing.T) {
	for _, text := range []string{"any", "tcp", "tcp 443", "udp 5000-5010", "icmp", "icmp 8", "icmp 8/0",
		"icmpv6 128/0", "protocol 47", "tcp 0", "sctp 3868", "dccp 5004-5005", "udplite"} {
		spec, err := ParseSpec(text)
		if err != nil || spec.String() != text {
			t.Errorf("%q: got %q, %v", text, spec, err)
		}
	}
	for _, x := range []struct{ text, want string }{
		{"", "not a service"},
		{"tcp 65536", "0 to 65535"},
		{"tcp 80-22", "write 22-80"},
		{"tcp -", "0 to 65535"},
		{"icmp 300", "0 to 255"},
		{"icmp 8/", "0 to 255"},
		{"protocol 256", "0 to 255"},
		{"47", "not a service"},
		{"https", "not a service"},
		{"tcp 1 2", "not a service"},
	} {
		if _, err := ParseSpec(x.text); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%q: error %v, want one with %q", x.text, err, x.want)
		}
	}
	if spec, _ := ParseSpec("protocol 6"); !Of(spec).Equal(Of(Whole(TCP))) {
		t.Error("protocol 6 is not all of tcp")
	}
	if spec, _ := ParseSpec("protocol 132"); spec.String() != "sctp" {
		t.Errorf("protocol 132 is %s", spec)
	}
}

func TestSpecsMakeUpTheSet(t *testing.T) {
	for _, x := range []struct {
		set  Set
		want string
	}{
		{All, "any"},
		{All.Minus(Of(Whole(TCP))),
			"udp, sctp, dccp, udplite, " + protocols(0, 1, 6, 17, 33, 58, 132, 136) + ", icmp, icmpv6"},
		{Of(Ports(TCP, 65535, 65535), Ports(UDP, 0, 0)), "tcp 65535, udp 0"},
		{Of(Ports(TCP, 22, 23), Ports(TCP, 24, 80)), "tcp 22-80"},
		{Of(ICMPCode(ICMP, 255, 255), ICMPCode(ICMPv6, 0, 0)), "icmp 255/255, icmpv6 0/0"},
		{Of(ICMPType(ICMP, 8), ICMPType(ICMP, 9)), "icmp 8/0-9/255"},
	} {
		if got := x.set.String(); got != x.want {
			t.Errorf("got %q, want %q", got, x.want)
		}
		if !Of(x.set.Specs()...).Equal(x.set) {
			t.Errorf("the specs of %v make another set", x.set)
		}
	}
}

// Types of ICMP are no ports: a rule says one of them, or one code.
func TestICMPTypesAreNotJoined(t *testing.T) {
	for _, x := range []struct {
		set  Set
		want int
	}{
		{Of(Whole(ICMP)), 1},
		{Of(Whole(ICMP)).Minus(Of(ICMPType(ICMP, 130))), 255},
		{Of(ICMPType(ICMPv6, 8), ICMPType(ICMPv6, 9), ICMPCode(ICMPv6, 10, 0)), 3},
		{Of(ICMPType(ICMP, 8)).Minus(Of(ICMPCode(ICMP, 8, 0))), 255},
		{Of(Ports(SCTP, 1, 2), Ports(SCTP, 3, 9)), 1},
	} {
		specs := x.set.Specs()
		if len(specs) != x.want || !Of(specs...).Equal(x.set) {
			t.Errorf("%s is %d specs, want %d", x.set, len(specs), x.want)
		}
		for _, spec := range specs {
			if back, err := ParseSpec(spec.String()); err != nil || back != spec {
				t.Errorf("%s is read as %s, %v", spec, back, err)
			}
		}
	}
}

// protocols lists the portless protocols from first to 255 as specs, without those left out.
func protocols(first int, leftOut ...int) string {
	var parts []string
	for p := first; p < 256; p++ {
		if !slices.Contains(leftOut, p) {
			parts = append(parts, Whole(uint8(p)).String())
		}
	}
	return strings.Join(parts, ", ")
}

func TestWords(t *testing.T) {
	names := Names{}.With(Named{Name: "berth-db", Specs: []Spec{tcp(5432)}, Classes: []string{ClassData}})
	for _, x := range []struct {
		set  Set
		want string
	}{
		{Of(tcp(22), tcp(443), tcp(8000)), "ssh, https, tcp 8000"},
		{Of(Ports(TCP, 22, 80)), "tcp 22-80"},
		{Of(Ports(TCP, 22, 23)), "ssh, telnet"},
		{Of(Ports(TCP, 22, 24)), "tcp 22-24"},
		{Of(tcp(53), udp(53)), "dns"},
		{Of(udp(53)), "udp 53"},
		{Of(tcp(5432)), "berth-db"},
		{Of(ICMPType(ICMP, 8), ICMPType(ICMPv6, 128)), "ping"},
		{All, "any"},
	} {
		if got := names.Describe(x.set); got != x.want {
			t.Errorf("%v: got %q, want %q", x.set, got, x.want)
		}
	}
}

func TestBuiltinIsSortedAndClassesHold(t *testing.T) {
	if !slices.IsSortedFunc(Builtin, func(a, b Named) int { return strings.Compare(a.Name, b.Name) }) {
		t.Error("the built-in services are not sorted by name")
	}
	var names Names
	for _, n := range Builtin {
		if found, ok := names.Lookup(n.Name); !ok || found.Name != n.Name {
			t.Errorf("%s is not found", n.Name)
		}
	}
	admin, _ := names.Class(ClassAdmin)
	data, _ := names.Class(ClassData)
	if !admin.Contains(PointOf(TCP, 22)) || admin.Contains(PointOf(TCP, 443)) || admin.Overlaps(data) {
		t.Errorf("admin is %v, data is %v", admin, data)
	}
	if _, ok := names.Class("nonsense"); ok {
		t.Error("a class without a service was found")
	}
}

// A spec contains what its set contains, and the ends of a set are in it with
// nothing before or behind.
func TestContainsAndEnds(t *testing.T) {
	specs := []Spec{Anything, Whole(TCP), Ports(TCP, 22, 80), Ports(UDP, 53, 53), ICMPType(ICMP, 8),
		ICMPCode(ICMPv6, 128, 0), Whole(47)}
	points := []Point{PointOf(TCP, 0), PointOf(TCP, 22), PointOf(TCP, 80), PointOf(TCP, 81), PointOf(UDP, 53),
		PointOf(UDP, 54), PointOf(ICMP, 8<<8), PointOf(ICMP, 8<<8|255), PointOf(ICMP, 9<<8), PointOf(ICMPv6, 128<<8),
		PointOf(47, 0), PointOf(50, 0)}
	for _, s := range specs {
		set := Of(s)
		for _, p := range points {
			if s.Contains(p) != set.Contains(p) {
				t.Errorf("%s contains %s: %v, its set: %v", s, p, s.Contains(p), set.Contains(p))
			}
		}
		first, last := set.Ends()
		if !set.Contains(first) || !set.Contains(last) || first > 0 && set.Contains(first-1) || set.Contains(last+1) {
			t.Errorf("%s goes from %s to %s", s, first, last)
		}
		if set.Hash() != Of(s).Hash() || set.Hash() == All.Minus(set).Hash() {
			t.Errorf("the sum of %s is not its own", s)
		}
	}
}
