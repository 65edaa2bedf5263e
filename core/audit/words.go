package audit

import (
	"fmt"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/count"
)

// PeersInWords is a set of peers for a sentence, with its size: "everyone
// (4,294,967,296 IPv4 addresses, all of IPv6)".
func PeersInWords(peers addr.Set) string {
	return fmt.Sprintf("%s (%s)", whoInWords(peers), SizeInWords(peers))
}

// SizeInWords is the size of a set of peers: "4,294,967,296 IPv4 addresses, all of IPv6".
func SizeInWords(peers addr.Set) string {
	four, six := peers.Only(addr.IPv4), peers.Only(addr.IPv6)
	var sizes []string
	switch left := addr.AllIPv4.Minus(four).Size(); {
	case four.IsEmpty():
	case left.Sign() > 0 && left.BitLen() <= 16:
		sizes = append(sizes, "all of IPv4 but "+count.OfBig(left, "address", "addresses"))
	default:
		sizes = append(sizes, count.OfBig(four.Size(), "IPv4 address", "IPv4 addresses"))
	}
	switch {
	case six.Equal(addr.AllIPv6):
		sizes = append(sizes, "all of IPv6")
	case !six.IsEmpty():
		sizes = append(sizes, sizeOfIPv6(six))
	}
	return strings.Join(sizes, ", ")
}

// whoInWords names a set of peers, or its first ranges.
func whoInWords(peers addr.Set) string {
	switch {
	case peers.Equal(addr.Everyone):
		return "everyone"
	case peers.Equal(addr.AllIPv4):
		return "everyone v4"
	case peers.Equal(addr.AllIPv6):
		return "everyone v6"
	case nearlyAll(peers) && allBut(peers) == "":
		return "everyone but few"
	case publicPart(peers) != "":
		return publicPart(peers)
	case allBut(peers) != "":
		return allBut(peers)
	}
	prefixes := peers.Prefixes()
	var shown []string
	for _, p := range prefixes[:min(3, len(prefixes))] {
		shown = append(shown, addr.PrefixString(p))
	}
	who := strings.Join(shown, ", ")
	if len(prefixes) > 3 {
		who += " and " + count.Of(len(prefixes)-3, "more range", "more ranges")
	}
	return who
}

// allBut says a set by what is missing from everyone, or from every public address, where that is
// one or two ranges and shorter.
func allBut(peers addr.Set) string {
	own := len(peers.Prefixes())
	if own < 3 {
		return ""
	}
	family := addr.Both
	switch {
	case peers.Only(addr.IPv6).IsEmpty():
		family = addr.IPv4
	case peers.Only(addr.IPv4).IsEmpty():
		family = addr.IPv6
	}
	for _, base := range []addr.Set{addr.Everyone.Only(family), addr.Public.Only(family)} {
		lacks := base.Minus(peers)
		if lacks.IsEmpty() || !peers.SubsetOf(base) {
			continue
		}
		if prefixes := lacks.Prefixes(); len(prefixes) <= 2 {
			texts := make([]string, len(prefixes))
			for k, p := range prefixes {
				texts[k] = addr.PrefixString(p)
			}
			return baseInWords(base) + " but " + strings.Join(texts, " and ")
		}
	}
	return ""
}

func baseInWords(base addr.Set) string {
	for _, f := range []addr.Family{addr.Both, addr.IPv4, addr.IPv6} {
		if base.Equal(addr.Everyone.Only(f)) {
			return "everyone" + map[addr.Family]string{addr.IPv4: " v4", addr.IPv6: " v6"}[f]
		}
	}
	return publicPart(base)
}

// nearlyAll reports whether few addresses are missing from a set, in each family that it has any
// of.
func nearlyAll(peers addr.Set) bool {
	const few = 24 // bits
	for _, f := range []addr.Family{addr.IPv4, addr.IPv6} {
		if part := peers.Only(f); !part.IsEmpty() && addr.FamilyOf(f).Minus(part).Size().BitLen() > few {
			return false
		}
	}
	return true
}

// publicPart names sets of which all addresses are public, and all public addresses of a family are
// in.
func publicPart(peers addr.Set) string {
	for _, f := range []addr.Family{addr.Both, addr.IPv4, addr.IPv6} {
		if peers.Equal(addr.Public.Only(f)) {
			return strings.TrimSpace("every public address " +
				map[addr.Family]string{addr.IPv4: "of IPv4", addr.IPv6: "of IPv6"}[f])
		}
	}
	return ""
}

// sizeOfIPv6 says how many addresses a set has, large numbers as a power of two.
func sizeOfIPv6(six addr.Set) string {
	if left := addr.AllIPv6.Minus(six).Size(); left.BitLen() <= 24 {
		return fmt.Sprintf("all of IPv6 but %s", count.OfBig(left, "address", "addresses"))
	}
	n := six.Size()
	switch power := n.BitLen() - 1; {
	case power < 40:
		return count.OfBig(n, "IPv6 address", "IPv6 addresses")
	case n.TrailingZeroBits() == uint(power):
		return fmt.Sprintf("2^%d IPv6 addresses", power)
	default:
		return fmt.Sprintf("more than 2^%d IPv6 addresses", power)
	}
}
