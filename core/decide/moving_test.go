package decide_test

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/demo"
)

// A Decider that is told of changes step by step decides as one that is made anew:
// rules, lists, what is attached and what is attached to subnets change by chance, in
// estates of all dialects; and interfaces of one class let the same through.
func TestMovingIsAsMakingAnew(t *testing.T) {
	e, _ := demo.Generate(demo.Size{Accounts: 8, Groups: 90, Instances: 160, Rules: 700, Seed: 3})
	e, _, _ = estate.Overlay(&estate.Estate{}, e, nil) // its rules and what is attached are its own
	d := decide.NewMoving(e)
	random := rand.New(rand.NewPCG(5, 5))
	var faces []*estate.Interface
	for _, i := range e.Instances {
		faces = append(faces, i.Interfaces...)
	}
	instances, subnets := make(map[*estate.Network][]*estate.Group), make(map[*estate.Network][]*estate.Group)
	for _, g := range e.Groups {
		if g.For == estate.ForSubnets {
			subnets[g.Network] = append(subnets[g.Network], g)
		} else {
			instances[g.Network] = append(instances[g.Network], g)
		}
	}
	some := func(of []*estate.Group, most int) (picked []*estate.Group) {
		for _, k := range random.Perm(len(of))[:min(len(of), random.IntN(most+1))] {
			picked = append(picked, of[k])
		}
		return picked
	}
	for step := range 400 {
		switch random.IntN(4) {
		case 0:
			f := faces[random.IntN(len(faces))]
			was := d.GroupsAt(f)
			moved := d.Attach(f, some(instances[f.Subnet.Network], 3))
			for _, g := range moved {
				before, after := false, false
				for _, x := range was {
					before = before || x == g
				}
				for _, x := range d.GroupsAt(f) {
					after = after || x == g
				}
				if before == after {
					t.Fatalf("%s is said to gain or lose %s", f.Instance.Path(), g.Path())
				}
			}
		case 1:
			n := e.Networks[random.IntN(len(e.Networks))]
			if len(n.Subnets) > 0 && len(subnets[n]) > 0 {
				d.AttachToSubnet(n.Subnets[random.IntN(len(n.Subnets))], some(subnets[n], 1))
			}
		case 2:
			g := e.Groups[random.IntN(len(e.Groups))]
			rules := append([]estate.Rule{}, g.Rules[random.IntN(len(g.Rules)+1):]...)
			if random.IntN(2) == 0 {
				rules = append(rules, estate.Rule{Direction: estate.In, Action: estate.Admit,
					Rank:     100 + random.IntN(1000),
					Services: []service.Spec{service.Ports(service.TCP, 1, uint16(1+random.IntN(9)))},
					Peers:    []estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix("192.0.2.0/28")}}})
			}
			d.Rewrite(g, rules)
		default:
			if l := e.Lists[random.IntN(len(e.Lists))]; len(l.Entries) > 0 {
				d.Refill(l, l.Entries[:random.IntN(len(l.Entries))])
			}
		}
		if step%20 != 0 {
			continue
		}
		fresh := decide.New(e)
		of := make(map[string]*estate.Interface)
		for _, f := range faces {
			for _, direction := range []estate.Direction{estate.In, estate.Out} {
				told := d.FilterTraffic(f, direction)
				if !told.Equal(fresh.FilterTraffic(f, direction)) {
					t.Fatalf("after %d steps %s %s differs", step, f.Instance.Path(), direction)
				}
				if first := of[d.FilterClass(f)]; first != nil && !told.Equal(d.FilterTraffic(first, direction)) {
					t.Fatalf("%s and %s are of one class and let different things through", f.Instance.Path(),
						first.Instance.Path())
				}
			}
			of[d.FilterClass(f)] = f
		}
		// what is exposed is decided once for each class of interfaces, and classes change with groups
		told := d.Exposure(decide.Peers{Outside: addr.Public}, estate.In)
		want := fresh.Exposure(decide.Peers{Outside: addr.Public}, estate.In)
		if !slices.EqualFunc(told, want, func(a, b decide.Exposed) bool {
			return a.Interface == b.Interface && a.Traffic.Equal(b.Traffic) && a.OneWay.Equal(b.OneWay) &&
				a.Unsure.Equal(b.Unsure)
		}) {
			t.Fatalf("after %d steps the exposure differs", step)
		}
		for _, g := range e.Groups {
			if !d.Members(g).Equal(fresh.Members(g)) || len(d.InterfacesOf(g)) != len(fresh.InterfacesOf(g)) {
				t.Fatalf("after %d steps the members of %s differ", step, g.Path())
			}
		}
	}
}
