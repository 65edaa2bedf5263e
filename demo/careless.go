package demo

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"time"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/evidence"
)

// A Truth says who really needs what a careless rule lets everyone have. Only the generator knows
// it; flows show it, among noise.
type Truth struct {
	Group   string       `json:"group"` // the group's full name
	Rule    string       `json:"rule"`
	Service string       `json:"service"`
	Kind    string       `json:"kind"` // who they are: "group", "list", or "addresses" of nobody known
	Name    string       `json:"name"` // of the group or list
	Peers   []netip.Addr `json:"peers"`

	to      *estate.Group
	service service.Spec
	users   []netip.Addr // those of Peers that came within the observed days
}

// days of flows, up to the survey
const carelessDays = 14

// Careless adds rules that are open to everyone to instance groups of an estate, about as many as
// asked for. It returns who really needs them: another group, a list, or a few addresses. The same
// estate and seed give the same result.
func Careless(e *estate.Estate, rules int, seed uint64) []Truth {
	random := rand.New(rand.NewPCG(seed, 0xca7e))
	d := decide.New(e)
	byNetwork := make(map[*estate.Network][]*estate.Group)
	var attached []*estate.Group
	for _, g := range e.Groups {
		if g.For != estate.ForInstances || g.Default || g.BuiltIn || len(d.InterfacesOf(g)) == 0 {
			continue
		}
		attached = append(attached, g)
		if n := d.InterfacesOf(g)[0].Subnet.Network; len(d.InterfacesOf(g)) <= 40 {
			byNetwork[n] = append(byNetwork[n], g)
		}
	}
	lists := make(map[*estate.Account][]*estate.List)
	for _, l := range e.Lists {
		if l.Account != nil && l.Owner == "own" {
			lists[l.Account] = append(lists[l.Account], l)
		}
	}
	var truths []Truth
	for i := range rules {
		if len(attached) == 0 {
			break
		}
		to := attached[random.IntN(len(attached))]
		spec := service.Ports(service.TCP, uint16(23000+i%20000), uint16(23000+i%20000))
		t := Truth{Group: to.Path(), Rule: fmt.Sprintf("rul-careless-%d", i), Service: spec.String(), to: to,
			service: spec}
		near := byNetwork[d.InterfacesOf(to)[0].Subnet.Network]
		switch kind := random.IntN(10); {
		case kind < 5 && len(near) > 1:
			of := near[random.IntN(len(near))]
			for _, f := range d.InterfacesOf(of) {
				t.Peers = append(t.Peers, f.Private...)
			}
			t.Kind, t.Name = "group", of.Name
		case kind < 8 && len(lists[to.Account]) > 0:
			l := lists[to.Account][random.IntN(len(lists[to.Account]))]
			for _, entry := range l.Entries {
				for a, n := entry.Range.Addr(), 0; entry.Range.Contains(a) && n < 3; a, n = a.Next(), n+1 {
					t.Peers = append(t.Peers, a)
				}
			}
			t.Kind, t.Name = "list", l.Name
		default:
			for range 1 + random.IntN(3) {
				t.Peers = append(t.Peers, netip.AddrFrom4([4]byte{198, 51, 100, byte(1 + random.IntN(250))}))
			}
			t.Kind = "addresses"
		}
		for _, a := range t.Peers {
			if a.Is4() && random.IntN(100) < 85 {
				t.users = append(t.users, a)
			}
		}
		if len(t.users) == 0 {
			continue
		}
		wide := spec
		switch random.IntN(6) {
		case 0: // a range around it
			wide.From, wide.To = wide.From-10, wide.To+10
		case 1: // every port
			wide = service.Whole(service.TCP)
		}
		r := estate.Rule{ID: t.Rule, Direction: estate.In, Action: estate.Admit, Services: []service.Spec{wide},
			Peers: prefixes("0.0.0.0/0"), Description: "to be worked out"}
		if decide.Filter(to).FirstMatch {
			r.Rank = firstFreeRank(to)
		}
		to.Rules = append(to.Rules, r)
		truths = append(truths, t)
	}
	return truths
}

// firstFreeRank is the lowest rank from 100 on that no rule of a group has.
func firstFreeRank(g *estate.Group) int {
	rank := 100
	for slices.ContainsFunc(g.Rules, func(r estate.Rule) bool { return r.Rank == rank }) {
		rank++
	}
	return rank
}

// CarelessFlows writes fourteen days of flows through the rules that Careless added, as CSV: of
// those who need them, some often and some once, and of strangers whose attempts lead to nothing.
func CarelessFlows(w io.Writer, e *estate.Estate, truths []Truth, seed uint64) error {
	g := flowMaker{random: rand.New(rand.NewPCG(seed, 0xf10))}
	d := decide.New(e)
	first := Taken.Truncate(24*time.Hour).AddDate(0, 0, -carelessDays)
	moment := func() time.Time { return first.Add(time.Duration(g.random.IntN(carelessDays*86400)) * time.Second) }
	target := func(t Truth, from netip.Addr) netip.Addr {
		attached := d.InterfacesOf(t.to)
		f := attached[g.random.IntN(len(attached))]
		for _, list := range [][]netip.Addr{pickList(addr.Public.Contains(from), f.Public), f.Private, f.Public} {
			for _, a := range list {
				if a.Is4() == from.Is4() {
					return a
				}
			}
		}
		return netip.Addr{}
	}
	for _, t := range truths {
		port := int(t.service.From)
		for _, from := range t.users {
			for range 1 + g.random.IntN(30) {
				if to := target(t, from); to.IsValid() {
					g.add(moment(), 1+g.random.IntN(600), from, to, "tcp", port, true)
				}
			}
		}
		for range g.random.IntN(12) {
			// the lower addresses are the estate's own
			from := netip.AddrFrom4([4]byte{192, 0, 2, byte(130 + g.random.IntN(120))})
			if to := target(t, from); to.IsValid() {
				g.add(moment(), 1, from, to, "tcp", port, false)
			}
		}
	}
	slices.SortStableFunc(g.all,
		func(a, b seen) int { return cmp.Or(a.start.Compare(b.start), strings.Compare(a.line, b.line)) })
	out := bufio.NewWriter(w)
	fmt.Fprintln(out, strings.Join(evidence.Columns, ","))
	for _, f := range g.all {
		fmt.Fprintln(out, f.line)
	}
	return out.Flush()
}

func pickList(yes bool, list []netip.Addr) []netip.Addr {
	if yes {
		return list
	}
	return nil
}
