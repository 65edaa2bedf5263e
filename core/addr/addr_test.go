package addr

import (
	"math/big"
	"math/rand/v2"
	"net/netip"
	"testing"
)

func TestPrefixes(t *testing.T) {
	for _, x := range []struct {
		in   []string
		want string
	}{
		{nil, ""},
		{[]string{"10.0.0.0/9", "10.128.0.0/9"}, "10.0.0.0/8"},
		{[]string{"0.0.0.0/1", "128.0.0.0/1"}, "0.0.0.0/0"},
		{[]string{"::/0"}, "::/0"},
		{[]string{"0.0.0.0/0", "::/0"}, "0.0.0.0/0, ::/0"},
		{[]string{"::/64"}, "::/64"},
		{[]string{"::/1", "8000::/1", "192.0.2.7/32"}, "192.0.2.7, ::/0"},
		{[]string{"192.0.2.1/32", "192.0.2.2/32", "192.0.2.3/32"}, "192.0.2.1, 192.0.2.2/31"},
		{[]string{"2001:db8::/32", "255.255.255.255/32"}, "255.255.255.255, 2001:db8::/32"},
		{[]string{"10.1.2.3/8"}, "10.0.0.0/8"},
	} {
		var list []netip.Prefix
		for _, p := range x.in {
			list = append(list, netip.MustParsePrefix(p))
		}
		set := OfPrefixes(list...)
		if got := set.String(); got != x.want {
			t.Errorf("%v: got %q, want %q", x.in, got, x.want)
		}
		if again := OfPrefixes(set.Prefixes()...); !again.Equal(set) {
			t.Errorf("%v: its prefixes make another set: %v", x.in, again)
		}
	}
}

func TestFamiliesDoNotMix(t *testing.T) {
	v6 := OfPrefixes(netip.MustParsePrefix("::/0"))
	if !v6.Equal(AllIPv6) || v6.Contains(netip.MustParseAddr("192.0.2.1")) {
		t.Error("all of IPv6 holds an IPv4 address")
	}
	if !AllIPv4.Complement().Equal(AllIPv6) || !AllIPv4.Union(AllIPv6).Equal(Everyone) {
		t.Error("the families do not part the addresses")
	}
	if got := AllIPv4.Size().String(); got != "4294967296" {
		t.Errorf("%s IPv4 addresses", got)
	}
}

func TestPublic(t *testing.T) {
	for text, want := range map[string]bool{
		"192.0.2.77": true, "198.51.100.1": true, "203.0.113.255": true, "2001:db8::1": true, "2001:200::": true,
		"10.0.0.1": false, "172.31.255.255": false, "172.32.0.0": true, "192.168.0.1": false, "100.64.0.1": false,
		"100.128.0.0": true,
		"224.0.0.1":   false, "255.255.255.255": false, "127.0.0.1": false, "169.254.1.1": false, "fd00::1": false,
		"fe80::1": false,
		"ff02::1": false, "2002::1": false, "64:ff9b::1": false, "1000::1": false, "3fff::1": false,
		"3fff:1000::": true,
	} {
		if got := Public.Contains(netip.MustParseAddr(text)); got != want {
			t.Errorf("%s public: %v, want %v", text, got, want)
		}
	}
}

func TestFirstPrefersIPv4(t *testing.T) {
	a, ok := Everyone.First()
	if want := netip.MustParseAddr("0.0.0.0"); !ok || a != want {
		t.Errorf("first of everyone is %v", a)
	}
	if a, _ := AllIPv6.First(); a != netip.IPv6Unspecified() {
		t.Errorf("first of IPv6 is %v", a)
	}
}

// Random sets: their prefixes make them up, are in order, do not overlap, and no
// two neighbours could be one.
func TestPrefixesAreShortest(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 2))
	for range 2_000 {
		var list []netip.Prefix
		for range 1 + random.IntN(6) {
			if random.IntN(2) == 0 {
				a := netip.AddrFrom4([4]byte{byte(random.IntN(3)) * 127, 0, byte(random.IntN(256)),
					byte(random.IntN(256))})
				list = append(list, netip.PrefixFrom(a, random.IntN(33)).Masked())
				continue
			}
			b := [16]byte{byte(random.IntN(256)), 15: byte(random.IntN(256))}
			list = append(list, netip.PrefixFrom(netip.AddrFrom16(b), random.IntN(129)).Masked())
		}
		set := OfPrefixes(list...)
		prefixes := set.Prefixes()
		if !OfPrefixes(prefixes...).Equal(set) {
			t.Fatalf("%v: %v make another set", list, prefixes)
		}
		for i := 1; i < len(prefixes); i++ {
			a, b := prefixes[i-1], prefixes[i]
			if a.Overlaps(b) || a.Addr().Is4() == b.Addr().Is4() && b.Addr().Less(a.Addr()) {
				t.Fatalf("%v: %v and %v", list, a, b)
			}
			if a.Bits() == b.Bits() && a.Bits() > 0 && a.Addr().Is4() == b.Addr().Is4() &&
				netip.PrefixFrom(a.Addr(), a.Bits()-1).Masked().Contains(b.Addr()) {
				t.Fatalf("%v: %v and %v could be one", list, a, b)
			}
		}
	}
}

// A Counter counts what an intersection holds, and its example is in both.
func TestCounter(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	some := func(n int) Set {
		var prefixes []netip.Prefix
		for range r.IntN(n) {
			if r.IntN(2) == 0 {
				prefixes = append(prefixes,
					netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 0, byte(r.IntN(4)), byte(r.IntN(256))}),
						20+r.IntN(13)))
			} else {
				prefixes = append(prefixes,
					netip.PrefixFrom(netip.AddrFrom16([16]byte{0x20, 1, 15: byte(r.IntN(256))}), 100+r.IntN(29)))
			}
		}
		set := OfPrefixes(prefixes...)
		switch r.IntN(8) {
		case 0:
			return set.Complement()
		case 1:
			return Everyone
		}
		return set
	}
	for range 3000 {
		s, of := some(12), some(12)
		c := NewCounter(of)
		four, six := c.Count(s)
		both := s.Intersect(of)
		for _, x := range []struct {
			got  float64
			want *big.Int
		}{{four, both.Only(IPv4).Size()}, {six, both.Only(IPv6).Size()}} {
			if want, _ := new(big.Float).SetInt(x.want).Float64(); x.got != want &&
				(want < 1<<53 || x.got/want < 0.999999 || x.got/want > 1.000001) {
				t.Fatalf("%v of %v: counted %v, want %v", s, of, x.got, want)
			}
		}
		if a, ok := c.Example(s); ok == both.IsEmpty() || ok && !both.Contains(a) {
			t.Fatalf("%v of %v: example %v", s, of, a)
		}
	}
}
