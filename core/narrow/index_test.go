package narrow

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
)

// The candidates that are found through the needed addresses are those that going
// over all groups and lists finds.
func TestCandidatesAreAllThereAre(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 9))
	for range 200 {
		b, needed := randomCase(random, 1+random.IntN(12), random.IntN(8), 40)
		if random.IntN(2) == 0 { // lists and needs of another family too
			b.addList("six", "2001:db8::/64")
			needed = needed.Union(addr.Of(netip.MustParseAddr("2001:db8::7")))
		}
		b.addList("far", "203.0.113.0/24")
		d := decide.New(&b.Estate)
		var want []string
		for _, g := range b.Groups {
			if d.Members(g).Overlaps(needed) {
				want = append(want, "group "+g.Name)
			}
		}
		for _, l := range b.Lists {
			if d.ListEntries(l, nil).Overlaps(needed) {
				want = append(want, "list "+l.Name)
			}
		}
		var got []string
		for _, c := range b.puzzle(needed).w.candidates() {
			if c.Kind == ByGroup || c.Kind == ByList {
				got = append(got, c.Words)
			}
		}
		slices.Sort(want)
		slices.Sort(got)
		if !slices.Equal(got, want) {
			t.Fatalf("found %v, there are %v for %v", got, want, needed)
		}
	}
}

// Supposing other rules decides as an estate that has them does.
func TestSupposingDecidesAsIfItWereSo(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 10))
	peers := []estate.Peer{{Kind: estate.PeerEveryone}, {Kind: estate.PeerSelf}, {Kind: estate.PeerNetwork},
		{Kind: estate.PeerRange, Range: netip.MustParsePrefix("192.0.2.0/25")},
		{Kind: estate.PeerRange, Range: netip.MustParsePrefix("192.0.2.64/26")}}
	for i := range 300 {
		b := newBench()
		b.group.Account.Cloud.Dialect = []string{"union", "ranked", "layered", "flat"}[i%4]
		b.group.Defined = i%3 == 0
		rules := func() []estate.Rule {
			var all []estate.Rule
			for k := range random.IntN(6) {
				from := uint16(20 + random.IntN(5))
				r := estate.Rule{Direction: []estate.Direction{estate.In, estate.Out}[random.IntN(2)],
					Action: estate.Admit, Rank: 100 + 7*k%5, Peers: peers[random.IntN(len(peers)):][:1],
					Services: []service.Spec{service.Ports(service.TCP, from, from+2)}}
				if random.IntN(4) == 0 {
					r.Action = estate.Refuse
				}
				all = append(all, r)
			}
			return all
		}
		b.group.Rules = rules()
		other := rules()
		d := decide.New(&b.Estate)
		for _, direction := range []estate.Direction{estate.In, estate.Out} {
			before := d.GroupTraffic(b.group, direction)
			supposed := d.Supposing(b.group, other).GroupTraffic(b.group, direction)
			held := b.group.Rules
			b.group.Rules = other
			if really := decide.New(&b.Estate).GroupTraffic(b.group, direction); !really.Equal(supposed) {
				t.Fatalf("%s %s: supposed %v, really %v", b.group.Account.Cloud.Dialect, direction, supposed, really)
			}
			b.group.Rules = held
			if !d.GroupTraffic(b.group, direction).Equal(before) {
				t.Fatal("supposing changes what is decided")
			}
		}
	}
}

// The same needs in any order, and with other processors at work, make the same proposal.
func TestProposalsAreTheSameEachTime(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 11))
	for range 60 {
		b, _ := randomCase(random, 5, 4, 30)
		var flows []string
		for range 1 + random.IntN(12) {
			flows = append(flows, fmt.Sprintf("10.0.0.%d %d xx", 8+random.IntN(30),
				[]int{22, 443, 8443}[random.IntN(3)]))
		}
		first := said(b.propose(flows...))
		for range 3 {
			random.Shuffle(len(flows), func(i, k int) { flows[i], flows[k] = flows[k], flows[i] })
			if again := said(b.propose(flows...)); again != first {
				t.Fatalf("%s\nthen %s\nfor %s", first, again, strings.Join(flows, ", "))
			}
		}
	}
}

func BenchmarkPuzzle(b *testing.B) {
	for _, size := range []int{10, 30, 60, 120} {
		b.Run(fmt.Sprint(size), func(b *testing.B) {
			bench, needed := randomCase(rand.New(rand.NewPCG(1, uint64(size))), size/2, size/6, min(size, 240))
			p := bench.puzzle(needed)
			exact := 0
			for b.Loop() {
				if p.solve().gap() == 0 {
					exact = 1
				}
			}
			b.ReportMetric(float64(exact), "exact")
		})
	}
}
