package decide_test

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
)

// Groups that are alike still let through the same when somebody joins any group;
// those that only hold the same today do not count as alike.
func TestAlikeWhoeverJoins(t *testing.T) {
	alike, parted := 0, 0
	for _, name := range dialect.Names() {
		for seed := range uint64(150) {
			random := rand.New(rand.NewPCG(seed, 5))
			e := randomEstate(random, name)
			a := e.Groups[random.IntN(len(e.Groups))]
			b := *a
			b.ID, b.Name = "twin", "twin"
			b.Rules = slices.Clone(a.Rules)
			random.Shuffle(len(b.Rules), func(i, j int) { b.Rules[i], b.Rules[j] = b.Rules[j], b.Rules[i] })
			if k := random.IntN(2 * len(b.Rules)); k < len(b.Rules) { // another group that nobody is in
				r := &b.Rules[k]
				if p := r.Peers[0]; p.Kind == estate.PeerGroup || p.Kind == estate.PeerSelf {
					empty := &estate.Group{Account: a.Account, Network: a.Network, ID: "empty", Name: "empty",
						For: estate.ForInstances}
					e.Groups = append(e.Groups, empty)
					r.Peers = []estate.Peer{{Kind: estate.PeerGroup, Group: empty}}
				} else {
					r.Services = []service.Spec{randomServices[random.IntN(len(randomServices))]}
				}
			}
			e.Groups = append(e.Groups, &b)
			if !decide.New(e).Alike(a, &b) {
				parted++
				continue
			}
			alike++
			for k, joined := range e.Groups {
				if joined.Network == nil || joined.For != estate.ForInstances {
					continue
				}
				i := &estate.Instance{Account: joined.Account, Name: "new", Kind: estate.Machine}
				s := joined.Network.Subnets[0]
				i.Interfaces = []*estate.Interface{{Instance: i, Subnet: s,
					Private: []netip.Addr{addrIn(s.Ranges[0], byte(200+k))}, Groups: []*estate.Group{joined}}}
				e.Instances = append(e.Instances, i)
				d := decide.New(e)
				for _, direction := range []estate.Direction{estate.In, estate.Out} {
					if !d.GroupTraffic(a, direction).Equal(d.GroupTraffic(&b, direction)) {
						t.Fatalf("%s, seed %d: alike, and not once somebody joins %s", name, seed, joined.Name)
					}
				}
			}
		}
	}
	if alike < 100 || parted < 100 {
		t.Errorf("%d alike and %d not: the test tells little", alike, parted)
	}
}
