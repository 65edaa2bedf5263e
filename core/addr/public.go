package addr

import "net/netip"

func prefixes(texts ...string) Set {
	list := make([]netip.Prefix, len(texts))
	for i, t := range texts {
		list[i] = netip.MustParsePrefix(t)
	}
	return OfPrefixes(list...)
}

// Public are the addresses that strangers on the internet can have: unicast
// addresses outside the IANA special-purpose registries (RFC 6890 and its
// updates), for IPv6 within 2000::/3. The documentation ranges of RFC 5737 and
// RFC 3849 count as public, so that examples behave like the real thing.
var Public = prefixes("0.0.0.0/0", "2000::/3").Minus(prefixes(
	"0.0.0.0/8",       // "this network", RFC 791
	"10.0.0.0/8",      // private, RFC 1918
	"100.64.0.0/10",   // shared, RFC 6598
	"127.0.0.0/8",     // loopback, RFC 1122
	"169.254.0.0/16",  // link local, RFC 3927
	"172.16.0.0/12",   // private, RFC 1918
	"192.0.0.0/24",    // IETF protocol assignments, RFC 6890
	"192.31.196.0/24", // AS112, RFC 7535
	"192.52.193.0/24", // AMT, RFC 7450
	"192.88.99.0/24",  // 6to4 relay, RFC 7526
	"192.168.0.0/16",  // private, RFC 1918
	"192.175.48.0/24", // AS112, RFC 7534
	"198.18.0.0/15",   // benchmarking, RFC 2544
	"224.0.0.0/4",     // multicast, RFC 5771
	"240.0.0.0/4",     // reserved, RFC 1112, with limited broadcast, RFC 919
	"2001::/23",       // IETF protocol assignments, RFC 2928
	"2002::/16",       // 6to4, RFC 3056
	"2620:4f:8000::/48",
	"3fff::/20", // documentation, RFC 9637
))
