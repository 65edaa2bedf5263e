// Package traffic holds exact sets of traffic: pairs of a peer's address and a
// service. Every question of the program (is this open? did this change
// anything? is this covered?) is asked of such sets.
package traffic

import (
	"math/big"
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/service"
)

// A Set is a set of (peer address, service). The zero value is the empty set.
//
// Sets are values and canonical: equal sets have equal representations.
// ICMPv6 over IPv4 and ICMP over IPv6 do not exist and are in no set.
type Set struct {
	// bands divide the line of services. They are sorted and disjoint; none has empty peers;
	// adjacent ones have different peers.
	bands []Band
}

// A Band is a range of services with the same peers.
type Band struct {
	From, To service.Point // both included
	Peers    addr.Set
}

// Services is the band's range of services as a set.
func (b Band) Services() service.Set { return service.Between(b.From, b.To) }

// All is all traffic there is.
var All = Of(addr.Everyone, service.All)

// Of is the set of every given service with every given peer, if the peer's family can carry it.
func Of(peers addr.Set, services service.Set) Set {
	if services.Overlaps(service.NotIPv4) || services.Overlaps(service.NotIPv6) {
		common := services.Minus(service.NotIPv4).Minus(service.NotIPv6)
		return Set{slices.Concat(
			// The line of services ends with ICMP and then ICMPv6, so the three parts are in order.
			bandsOf(peers, common),
			bandsOf(peers.Only(addr.IPv4), services.Intersect(service.NotIPv6)),
			bandsOf(peers.Only(addr.IPv6), services.Intersect(service.NotIPv4)),
		)}.canonical()
	}
	return Set{bandsOf(peers, services)}
}

func bandsOf(peers addr.Set, services service.Set) []Band {
	if peers.IsEmpty() {
		return nil
	}
	var bands []Band
	for from, to := range services.Runs {
		bands = append(bands, Band{from, to, peers})
	}
	return bands
}

// canonical joins adjacent bands with the same peers. Callers see to the rest of the invariant.
func (s Set) canonical() Set {
	if len(s.bands) < 2 {
		return s
	}
	joined := s.bands[:1:1]
	for _, b := range s.bands[1:] {
		last := &joined[len(joined)-1]
		if last.To+1 == b.From && last.Peers.Equal(b.Peers) {
			last.To = b.To
			continue
		}
		joined = append(joined, b)
	}
	return Set{joined}
}

// Bands are the bands of s in order. The slice must not be changed.
func (s Set) Bands() []Band { return s.bands }

// combine walks through the bands of s and t together. It calls peers for each range of services on
// which both are constant and at least one has peers: O(n + m) times.
func combine(s, t Set, peers func(a, b addr.Set) addr.Set) Set {
	bands := make([]Band, 0, len(s.bands)+len(t.bands))
	i, j := 0, 0
	var at service.Point
	for i < len(s.bands) || j < len(t.bands) {
		var a, b addr.Set
		const never = ^service.Point(0)
		next := never // the next service at which something changes
		if i < len(s.bands) {
			if s.bands[i].From <= at {
				a, next = s.bands[i].Peers, s.bands[i].To+1
			} else {
				next = s.bands[i].From
			}
		}
		if j < len(t.bands) {
			if t.bands[j].From <= at {
				b, next = t.bands[j].Peers, min(next, t.bands[j].To+1)
			} else {
				next = min(next, t.bands[j].From)
			}
		}
		if both := peers(a, b); !both.IsEmpty() {
			bands = append(bands, Band{at, next - 1, both})
		}
		at = next
		if i < len(s.bands) && s.bands[i].To < at {
			i++
		}
		if j < len(t.bands) && t.bands[j].To < at {
			j++
		}
	}
	return Set{bands}.canonical()
}

// Union is the traffic in s or t.
func (s Set) Union(t Set) Set {
	switch {
	case len(s.bands) == 0:
		return t
	case len(t.bands) == 0:
		return s
	}
	return combine(s, t, addr.Set.Union)
}

// Intersect is the traffic in both s and t.
func (s Set) Intersect(t Set) Set { return combine(s, t, addr.Set.Intersect) }

// Minus is the traffic in s and not in t.
func (s Set) Minus(t Set) Set { return combine(s, t, addr.Set.Minus) }

// Complement is all traffic that is not in s.
func (s Set) Complement() Set { return All.Minus(s) }

// UnionAll is the union of all the sets: O(n log n) in the number of their bands
// where few overlap in services, and never worse than adding one after the other.
func UnionAll(sets []Set) Set {
	switch len(sets) {
	case 0:
		return Set{}
	case 1:
		return sets[0]
	}
	half := len(sets) / 2
	return UnionAll(sets[:half]).Union(UnionAll(sets[half:]))
}

// Equal reports whether s and t are the same traffic.
func (s Set) Equal(t Set) bool {
	return slices.EqualFunc(s.bands, t.bands, func(a, b Band) bool {
		return a.From == b.From && a.To == b.To && a.Peers.Equal(b.Peers)
	})
}

// IsEmpty reports whether s holds no traffic.
func (s Set) IsEmpty() bool { return len(s.bands) == 0 }

// Hash is the same for equal sets.
func (s Set) Hash() uint64 {
	const prime = 1099511628211 // FNV-1a
	h := uint64(14695981039346656037)
	for _, b := range s.bands {
		for _, x := range []uint64{uint64(b.From), uint64(b.To), b.Peers.Hash()} {
			h = (h ^ x) * prime
		}
	}
	return h
}

// SubsetOf reports whether all traffic of s is in t.
func (s Set) SubsetOf(t Set) bool { return s.Minus(t).IsEmpty() }

// Contains reports whether the service p with the given peer is in s.
func (s Set) Contains(peer netip.Addr, p service.Point) bool {
	i, _ := slices.BinarySearchFunc(s.bands, p, func(b Band, p service.Point) int {
		if b.To < p {
			return -1
		}
		return 1
	})
	return i < len(s.bands) && s.bands[i].From <= p && s.bands[i].Peers.Contains(peer)
}

// Size is the exact number of pairs of an address and a service in s.
func (s Set) Size() *big.Int {
	size := new(big.Int)
	for _, b := range s.bands {
		width := big.NewInt(int64(b.To-b.From) + 1)
		size.Add(size, width.Mul(width, b.Peers.Size()))
	}
	return size
}

// Services are the services that have a peer in s.
func (s Set) Services() service.Set {
	runs := make([]service.Set, len(s.bands))
	for i, b := range s.bands {
		runs[i] = b.Services()
	}
	return service.UnionAll(runs...)
}

// Peers are the addresses that have one of the given services in s.
func (s Set) Peers(services service.Set) addr.Set {
	var peers []addr.Set
	for _, b := range s.bands {
		if b.Services().Overlaps(services) {
			peers = append(peers, b.Peers)
		}
	}
	return addr.UnionAll(peers...)
}

// OnServices is the part of s on the given services.
func (s Set) OnServices(services service.Set) Set { return s.Intersect(Of(addr.Everyone, services)) }

// WithPeers is the part of s with the given peers.
func (s Set) WithPeers(peers addr.Set) Set { return s.Intersect(Of(peers, service.All)) }

// A Witness is one example of traffic.
type Witness struct {
	Peer    netip.Addr
	Service service.Point
}

// Witness is an example from s, always the same one for equal sets, and whether
// there is one: the first service, with a documentation address (RFC 5737,
// RFC 3849) if it is among the peers, else the lowest public one, else the lowest.
func (s Set) Witness() (Witness, bool) {
	if s.IsEmpty() {
		return Witness{}, false
	}
	first := s.bands[0]
	return Witness{Example(first.Peers), first.From}, true
}

// Example is the address of a set that makes the clearest example: a
// documentation address if there is one, else a public one, else the lowest.
// The set must not be empty.
func Example(peers addr.Set) netip.Addr {
	for _, text := range [...]string{"192.0.2.77", "2001:db8::77"} {
		if a := netip.MustParseAddr(text); peers.Contains(a) {
			return a
		}
	}
	if a, ok := peers.Intersect(addr.Public).First(); ok {
		return a
	}
	a, _ := peers.First()
	return a
}

// Blocks collects the bands of s with the same peers: for each set of peers all of its services, in
// the order in which these first appear.
func (s Set) Blocks() []Block {
	var blocks []Block
	for _, b := range s.bands {
		i := slices.IndexFunc(blocks, func(k Block) bool { return k.Peers.Equal(b.Peers) })
		if i < 0 {
			blocks = append(blocks, Block{Peers: b.Peers, Services: b.Services()})
			continue
		}
		blocks[i].Services = blocks[i].Services.Union(b.Services())
	}
	return blocks
}

// A Block is a set of peers and the services that exactly these peers have.
type Block struct {
	Peers    addr.Set
	Services service.Set
}
