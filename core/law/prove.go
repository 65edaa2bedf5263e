package law

import (
	"fmt"
	"net/netip"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// A Result is what became of an expectation.
type Result struct {
	Expectation
	Holds     bool
	Undecided bool           // the survey does not say enough; Holds is false
	Witness   *decide.Answer // what shows that it does not hold; nil where it holds
	Imagined  bool           // it rests on made-up members
	Note      string         // what the answer rests on: made-up members, nobody there
}

// Prove decides every expectation over an estate. Groups that nobody wears are
// given made-up members first: the estate is changed. The answers come in the
// order of the expectations.
func Prove(e *estate.Estate, expectations []Expectation) []Result {
	imagined := make(map[*estate.Group]bool)
	for _, g := range e.Imagine() {
		imagined[g] = true
	}
	p := prover{d: decide.New(e), imagined: imagined}
	results := make([]Result, len(expectations))
	for i, x := range expectations {
		results[i] = p.prove(x)
	}
	return results
}

type prover struct {
	d        *decide.Decider
	imagined map[*estate.Group]bool
}

// A side's ends: the interfaces that it holds, and the addresses outside the estate.
type ends struct {
	interfaces []*estate.Interface
	outside    addr.Set
	internet   bool // outside are the strangers: one of them is enough
	whole      addr.Set
}

func (p *prover) ends(s Side) ends {
	var e ends
	seen := make(map[*estate.Interface]bool)
	var sets, except []addr.Set
	for _, peer := range s.Of {
		if peer.Kind == estate.PeerInternet {
			e.internet = true
		}
		sets = append(sets, p.peerSet(peer))
	}
	for _, peer := range s.Except {
		except = append(except, p.peerSet(peer))
	}
	e.whole = addr.UnionAll(sets...).Minus(addr.UnionAll(except...))
	var own []netip.Addr
	for _, i := range p.d.Estate().Instances {
		for _, f := range i.Interfaces {
			for _, a := range append(append([]netip.Addr{}, f.Private...), f.Public...) {
				own = append(own, a)
				if e.whole.Contains(a) && !seen[f] && p.meant(s, f) {
					seen[f] = true
					e.interfaces = append(e.interfaces, f)
				}
			}
		}
	}
	e.outside = e.whole.Minus(addr.Of(own...))
	return e
}

// meant reports whether a side that holds one of an interface's addresses means
// that interface: where only groups are named, it must wear one of them.
func (p *prover) meant(s Side, f *estate.Interface) bool {
	for _, peer := range s.Of {
		if peer.Kind != estate.PeerGroup {
			return true
		}
		for _, worn := range p.d.Worn(f) {
			if worn == peer.Group {
				return true
			}
		}
	}
	return false
}

func (p *prover) peerSet(peer estate.Peer) addr.Set {
	if peer.Kind == estate.PeerGroup { // whatever the group that asks: there is none
		return p.d.Members(peer.Group).Only(peer.Family())
	}
	return p.d.Peers(&estate.Group{}, &estate.Rule{Peers: []estate.Peer{peer}}, nil)
}

func (p *prover) prove(x Expectation) Result {
	r := Result{Expectation: x, Holds: true}
	from, to := p.ends(x.From), p.ends(x.To)
	r.Note, r.Imagined = p.note(x, from, to)
	for _, side := range []ends{from, to} {
		for _, f := range side.interfaces {
			if reason := p.d.CantDecide(f); reason != "" {
				return Result{Expectation: x, Undecided: true, Note: reason}
			}
		}
	}
	if name := p.unpublished(x); name != "" {
		return Result{Expectation: x, Undecided: true, Note: fmt.Sprintf("the addresses of the list %s, which a provider publishes, are known from a survey only", name)}
	}
	switch {
	case x.Only:
		p.only(&r, from, to)
		if r.Holds {
			p.can(&r, from, to)
		}
	case x.Can:
		p.can(&r, from, to)
	default:
		p.cannot(&r, from, to)
	}
	return r
}

// unpublished is the name of a published list that the expectation is about and
// that no survey tells the addresses of.
func (p *prover) unpublished(x Expectation) string {
	for _, s := range []Side{x.From, x.To} {
		for _, peer := range s.Of {
			if peer.Kind == estate.PeerList && len(peer.List.Published) > 0 && p.d.ListEntries(peer.List, nil).IsEmpty() {
				return peer.List.Name
			}
		}
	}
	return ""
}

// note says what the answer rests on beside the survey.
func (p *prover) note(x Expectation, from, to ends) (note string, imagined bool) {
	for _, s := range []Side{x.From, x.To} {
		for _, peer := range s.Of {
			if peer.Kind == estate.PeerGroup && p.imagined[peer.Group] {
				return fmt.Sprintf("nobody wears %s: decided for a made-up member in each of its subnets", peer.Group.Path()), true
			}
		}
	}
	for k, side := range []ends{from, to} {
		if len(side.interfaces) == 0 && side.outside.IsEmpty() {
			return fmt.Sprintf("nobody is on the %s side", []string{"first", "second"}[k]), false
		}
	}
	return "", false
}

func fails(r *Result, a decide.Answer) {
	r.Holds = false
	if r.Witness == nil {
		r.Witness = &a
	}
}

// can wants every pair to pass, over one family at least; of strangers, some.
func (p *prover) can(r *Result, from, to ends) {
	if len(from.interfaces) == 0 && from.outside.IsEmpty() || len(to.interfaces) == 0 && to.outside.IsEmpty() {
		r.Holds = false
		return
	}
	for _, a := range from.interfaces {
		for _, b := range to.interfaces {
			if a.Instance != b.Instance {
				p.wantPair(r, pairs(a, b))
			}
		}
		if !to.outside.IsEmpty() {
			p.wantOutside(r, to, a, estate.Out)
		}
	}
	if from.outside.IsEmpty() {
		return
	}
	for _, b := range to.interfaces {
		p.wantOutside(r, from, b, estate.In)
	}
}

// pairs are the ends of flows between two interfaces, one for each family, by private addresses first.
func pairs(a, b *estate.Interface) [][2]decide.End {
	var all [][2]decide.End
	for _, v6 := range []bool{false, true} {
		x, okX := a.Address(v6)
		y, okY := b.Address(v6)
		if okX && okY {
			all = append(all, [2]decide.End{{Interface: a, Addr: x}, {Interface: b, Addr: y}})
		}
	}
	return all
}

// wantPair wants all services over one of the pairs, which differ in family:
// those that the family can carry, and that is one at least.
func (p *prover) wantPair(r *Result, pairs [][2]decide.End) {
	type miss struct {
		ends    [2]decide.End
		service service.Point
	}
	var missed *miss
	for _, pair := range pairs {
		wanted := familyServices(r.Services, pair[0].Addr)
		if wanted.IsEmpty() {
			continue
		}
		first, ok := wanted.Minus(p.d.Between(pair[0], pair[1])).First()
		if !ok {
			return
		}
		if missed == nil {
			missed = &miss{pair, first}
		}
	}
	if missed != nil {
		fails(r, p.d.Flow(missed.ends[0], missed.ends[1], missed.service))
		return
	}
	r.Holds = false
	if len(pairs) > 0 {
		r.Note = fmt.Sprintf("%s and %s meet over no family that can carry this", pairs[0][0], pairs[0][1])
	}
}

func familyServices(s service.Set, a netip.Addr) service.Set {
	if a.Is4() {
		return s.Minus(service.NotIPv4)
	}
	return s.Minus(service.NotIPv6)
}

// wantOutside wants traffic between an interface and addresses outside: every one
// that is meant, or of strangers some, over one family at least.
func (p *prover) wantOutside(r *Result, there ends, i *estate.Interface, direction estate.Direction) {
	met, words := p.d.MetFromOutside(i), "is met from"
	if direction == estate.Out {
		met, words = ownFamilies(i), "reaches"
	}
	if left := there.outside.Minus(met); !there.internet && !left.IsEmpty() && there.outside.Overlaps(met) {
		a, _ := left.First()
		r.Note = fmt.Sprintf("%s %s outside over one family only: addresses such as %s are left out", i.Instance.Name, words, a)
		there.outside = there.outside.Intersect(met)
	}
	passing := p.d.WithOutside(i, there.outside, direction)
	missing := traffic.Of(there.outside, r.Services).Minus(passing)
	if there.internet {
		chosen := false
		for _, f := range []addr.Family{addr.IPv4, addr.IPv6} {
			strangers := there.outside.Only(f)
			wanted := traffic.Of(strangers, r.Services)
			unmet := wanted.Services().Minus(passing.WithPeers(strangers).Services())
			if unmet.IsEmpty() && !wanted.IsEmpty() {
				return
			}
			if meets := strangers.Overlaps(met); !unmet.IsEmpty() && (!chosen || meets && missing.WithPeers(met).IsEmpty()) {
				missing, chosen = wanted.OnServices(unmet), true // better where somebody meets
			}
		}
	}
	if w, ok := missing.Witness(); ok {
		p.failOutside(r, w, i, direction)
	}
}

// ownFamilies are the addresses of the families in which an interface has an address.
func ownFamilies(i *estate.Interface) addr.Set {
	var all addr.Set
	for _, f := range []addr.Family{addr.IPv4, addr.IPv6} {
		if _, ok := i.Address(f == addr.IPv6); ok {
			all = all.Union(addr.FamilyOf(f))
		}
	}
	return all
}

func (p *prover) failOutside(r *Result, w traffic.Witness, i *estate.Interface, direction estate.Direction) {
	own, ok := i.Address(w.Peer.Is6())
	if !ok {
		r.Holds = false
		r.Note = fmt.Sprintf("%s has no address of the family of %s", i.Instance.Name, w.Peer)
		return
	}
	here, there := decide.End{Interface: i, Addr: own}, decide.End{Addr: w.Peer}
	if direction == estate.Out {
		fails(r, p.d.Flow(here, there, w.Service))
	} else {
		fails(r, p.d.Flow(there, here, w.Service))
	}
}

// cannot wants no pair to pass anything, over any family.
func (p *prover) cannot(r *Result, from, to ends) {
	for _, a := range from.interfaces {
		for _, b := range to.interfaces {
			if a.Instance != b.Instance {
				p.keepPairs(r, pairs(a, b))
			}
		}
		if !to.outside.IsEmpty() {
			p.keepOutside(r, to.outside, a, estate.Out)
		}
	}
	for _, b := range to.interfaces {
		p.keepOutside(r, from.outside, b, estate.In)
	}
}

func (p *prover) keepPairs(r *Result, pairs [][2]decide.End) {
	for _, pair := range pairs {
		if first, ok := p.d.Between(pair[0], pair[1]).Intersect(r.Services).First(); ok {
			fails(r, p.d.Flow(pair[0], pair[1], first))
		}
	}
}

// keepOutside wants no traffic between an interface and some outside addresses.
func (p *prover) keepOutside(r *Result, outside addr.Set, i *estate.Interface, direction estate.Direction) {
	if w, ok := p.d.WithOutside(i, outside, direction).OnServices(r.Services).Witness(); ok {
		p.failOutside(r, w, i, direction)
	}
}

// only wants nobody but from to reach to: no other interface, nobody else outside.
func (p *prover) only(r *Result, from, to ends) {
	allowed := make(map[*estate.Interface]bool)
	for _, f := range from.interfaces {
		allowed[f] = true
	}
	for _, b := range to.interfaces {
		for _, i := range p.d.Estate().Instances {
			for _, a := range i.Interfaces {
				if !allowed[a] && i != b.Instance {
					p.keepPairs(r, pairs(a, b))
				}
			}
		}
		p.keepOutside(r, addr.Everyone.Minus(from.whole), b, estate.In)
	}
}
