package audit

import (
	"fmt"
	"math/big"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/count"
)

// PeersInWords is a set of peers for a sentence, with its size: "everyone
// (4,294,967,296 IPv4 addresses, all of IPv6)".
func PeersInWords(peers addr.Set) string {
	four, six := peers.Only(addr.IPv4), peers.Only(addr.IPv6)
	var sizes []string
	switch left := addr.AllIPv4.Minus(four).Size(); {
	case four.IsEmpty():
	case left.Sign() > 0 && left.BitLen() <= 16:
		sizes = append(sizes, "all of IPv4 but "+plural(left, "address", "addresses"))
	default:
		sizes = append(sizes, plural(four.Size(), "IPv4 address", "IPv4 addresses"))
	}
	switch {
	case six.Equal(addr.AllIPv6):
		sizes = append(sizes, "all of IPv6")
	case !six.IsEmpty():
		sizes = append(sizes, sizeOfIPv6(six))
	}
	who := ""
	switch {
	case peers.Equal(addr.Everyone):
		who = "everyone"
	case peers.Equal(addr.AllIPv4):
		who = "everyone v4"
	case peers.Equal(addr.AllIPv6):
		return "everyone v6 (all of IPv6)"
	case nearlyAll(peers) && allBut(peers) == "":
		return "everyone but few (" + strings.Join(sizes, ", ") + ")"
	case publicPart(peers) != "":
		who = publicPart(peers)
	case allBut(peers) != "":
		who = allBut(peers)
	default:
		prefixes := peers.Prefixes()
		var shown []string
		for _, p := range prefixes[:min(3, len(prefixes))] {
			shown = append(shown, addr.PrefixString(p))
		}
		who = strings.Join(shown, ", ")
		if len(prefixes) > 3 {
			who += " and " + count.Of(len(prefixes)-3, "more range", "more ranges")
		}
	}
	return fmt.Sprintf("%s (%s)", who, strings.Join(sizes, ", "))
}

// allBut says a set by what it lacks of everyone, or of every public address, where that is
// one range or two and it is shorter so.
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

// nearlyAll reports whether a set lacks few addresses of each family that it has any of.
func nearlyAll(peers addr.Set) bool {
	const few = 24 // bits
	for _, f := range []addr.Family{addr.IPv4, addr.IPv6} {
		if part := peers.Only(f); !part.IsEmpty() && addr.FamilyOf(f).Minus(part).Size().BitLen() > few {
			return false
		}
	}
	return true
}

// publicPart calls sets by name that are all public addresses, of one family or both.
func publicPart(peers addr.Set) string {
	for _, f := range []addr.Family{addr.Both, addr.IPv4, addr.IPv6} {
		if peers.Equal(addr.Public.Only(f)) {
			return strings.TrimSpace("every public address " +
				map[addr.Family]string{addr.IPv4: "of IPv4", addr.IPv6: "of IPv6"}[f])
		}
	}
	return ""
}

// sizeOfIPv6 says how many addresses a set holds, large numbers as a power of two.
func sizeOfIPv6(six addr.Set) string {
	if left := addr.AllIPv6.Minus(six).Size(); left.BitLen() <= 24 {
		return fmt.Sprintf("all of IPv6 but %s", plural(left, "address", "addresses"))
	}
	n := six.Size()
	switch power := n.BitLen() - 1; {
	case power < 40:
		return plural(n, "IPv6 address", "IPv6 addresses")
	case n.TrailingZeroBits() == uint(power):
		return fmt.Sprintf("2^%d IPv6 addresses", power)
	default:
		return fmt.Sprintf("more than 2^%d IPv6 addresses", power)
	}
}

func plural(n *big.Int, one, many string) string {
	if n.Cmp(big.NewInt(1)) == 0 {
		return "1 " + one
	}
	return Thousands(n.String()) + " " + many
}

// Thousands puts commas into a number's digits: "4,294,967,296".
func Thousands(digits string) string {
	for i := len(digits) - 3; i > 0; i -= 3 {
		digits = digits[:i] + "," + digits[i:]
	}
	return digits
}
