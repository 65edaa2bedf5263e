package change

import (
	"slices"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Through is what the filters of an interface let through, by direction.
type Through [2]traffic.Set

const (
	in  = 0
	out = 1
)

func throughAt(d *decide.Decider, i *estate.Interface) Through {
	return Through{d.FilterTraffic(i, estate.In), d.FilterTraffic(i, estate.Out)}
}

func (t Through) isEmpty() bool { return t[in].IsEmpty() && t[out].IsEmpty() }

// each combines two of them, direction by direction.
func (t Through) each(u Through, f func(a, b traffic.Set) traffic.Set) Through {
	return Through{f(t[in], u[in]), f(t[out], u[out])}
}

func (t Through) minus(u Through) Through { return t.each(u, traffic.Set.Minus) }

// A bound says what an interface may let through during the change, and what it must.
type bound struct {
	now, then   Through
	most, least Through // what either state lets through, and what both do
}

// A checker decides whether states during the change are safe.
type checker struct {
	s         *state
	now, then *decide.Decider
	nowAt     map[key]*estate.Interface
	thenAt    map[key]*estate.Interface
	bounds    map[[2]string]*bound
	boundOf   map[*estate.Interface]*bound
	class     map[*estate.Interface]string   // by interface: its class when it was last decided
	let       map[string]Through             // by class: what it lets through in the current state
	lacking   map[*estate.Interface]*Through // what a gap stops at present, or nil
	own       addr.Set
	closers   [2][]*closer // interfaces at which something is closed to other interfaces of the estate
	closing   [2]addr.Set  // the addresses of those
	chains    map[*estate.Interface][]chain
}

// A closer is an interface at which something is closed to other interfaces of the estate.
type closer struct {
	i         *estate.Interface
	addresses addr.Set
	closes    traffic.Set
}

func newChecker(s *state, now, then *estate.Estate) *checker {
	c := &checker{s: s, now: decide.New(now), then: decide.New(then), nowAt: facesOf(now), thenAt: facesOf(then),
		bounds:  make(map[[2]string]*bound),
		boundOf: make(map[*estate.Interface]*bound), class: make(map[*estate.Interface]string),
		let: make(map[string]Through), lacking: make(map[*estate.Interface]*Through)}
	c.own, c.chains = c.now.OwnAddresses(), chainsOf(s.e)
	return c
}

// bound finds what an interface may and must let through.
func (c *checker) bound(i *estate.Interface) *bound {
	if b := c.boundOf[i]; b != nil {
		return b
	}
	was, will := c.nowAt[faceKey(i)], c.thenAt[faceKey(i)]
	classes := [2]string{c.now.FilterClass(was), c.then.FilterClass(will)}
	b := c.bounds[classes]
	if b == nil {
		b = &bound{now: throughAt(c.now, was), then: throughAt(c.then, will)}
		b.most, b.least = b.now.each(b.then, traffic.Set.Union), b.now.each(b.then, traffic.Set.Intersect)
		c.bounds[classes] = b
	}
	c.boundOf[i] = b
	return b
}

// passing is what an interface lets through in the state that was last decided.
func (c *checker) passing(i *estate.Interface) Through {
	if class, ok := c.class[i]; ok {
		return c.let[class]
	}
	return c.bound(i).now // no step has changed it yet
}

// A judgement is the result of trying a step.
type judgement struct {
	opens         bool // it would let through what neither state does: never allowed
	lacks         map[*estate.Interface]Through
	letsIn, shuts bool // whether it lets in more, and whether it shuts something
	commit, undo  func()
}

func (j *judgement) fine() bool { return !j.opens && len(j.lacks) == 0 }

// try applies a step to the state and judges the result at the interfaces that it affects, once for
// each kind of interface. The caller commits or undoes the step.
func (c *checker) try(x *Step) judgement {
	groups, interfaces, back := c.s.apply(x)
	j := judgement{undo: back, lacks: make(map[*estate.Interface]Through)}
	type kind struct {
		b     *bound
		class string
		last  string
		lacks *Through
	}
	let := make(map[string]Through)
	classes := make(map[*estate.Interface]string)
	lacking := make(map[kind]*Through) // nil where nothing is lacking
	var opening []*estate.Interface
	touched := c.s.touched(groups, interfaces)
	kindOf := make([]kind, len(touched))
	for n, i := range touched {
		k := kind{c.bound(i), c.s.d.FilterClass(i), c.class[i], c.lacking[i]}
		kindOf[n], classes[i] = k, k.class
		t, known := let[k.class]
		if !known {
			t = throughAt(c.s.d.Decider, i)
			let[k.class] = t
		}
		lacks, known := lacking[k]
		if !known {
			before := c.passing(i)
			j.letsIn = j.letsIn || !t.minus(before).isEmpty()
			j.shuts = j.shuts || !before.minus(t).isEmpty()
			if !t.minus(k.b.most).isEmpty() {
				j.opens = true
				return j
			}
			if missing := k.b.least.minus(t); !missing.isEmpty() {
				lacks = &missing
			}
			lacking[k] = lacks
		}
		if lacks != nil && (k.lacks == nil || !lacks.minus(*k.lacks).isEmpty()) {
			j.lacks[i] = *lacks
		}
		if (len(c.closers[in])+len(c.closers[out]) > 0 || len(c.chains[i]) > 0) && !t.minus(c.passing(i)).isEmpty() {
			opening = append(opening, i)
		}
	}
	now := func(i *estate.Interface) Through {
		if class, ok := classes[i]; ok {
			return let[class]
		}
		return c.passing(i)
	}
	for _, i := range opening {
		if c.meetsClosing(i, now(i).minus(c.passing(i)), now) || c.handsOnTooMuch(i, now) {
			j.opens = true
			return j
		}
	}
	j.commit = func() {
		for n, i := range touched {
			c.class[i] = kindOf[n].class
			if lacks := lacking[kindOf[n]]; lacks != nil {
				c.lacking[i] = lacks
			} else {
				delete(c.lacking, i)
			}
		}
		for class, t := range let {
			c.let[class] = t
		}
	}
	return j
}

// touched are the interfaces at which some groups are attached, and the given ones, each once.
func (s *state) touched(groups []*estate.Group, more []*estate.Interface) []*estate.Interface {
	if len(groups) == 1 && len(more) == 0 {
		return s.d.InterfacesOf(groups[0])
	}
	seen := make(map[*estate.Interface]bool)
	var all []*estate.Interface
	add := func(list []*estate.Interface) {
		for _, i := range list {
			if !seen[i] {
				seen[i] = true
				all = append(all, i)
			}
		}
	}
	add(more)
	for _, g := range groups {
		add(s.d.InterfacesOf(g))
	}
	return all
}

// watch finds the interfaces, among those affected by steps, at which something is closed to other
// interfaces. A flow between two interfaces must pass the filters of both. Where one end closes it
// and the other opens it, neither state lets it through, so it must not pass in between either.
func (c *checker) watch(interfaces []*estate.Interface) {
	shut := make(map[*bound]*Through) // for other interfaces
	var addresses [2][]addr.Set
	for _, i := range interfaces {
		b := c.bound(i)
		if shut[b] == nil {
			closes := b.now.minus(b.then)
			shut[b] = &Through{closes[in].WithPeers(c.own), closes[out].WithPeers(c.own)}
		}
		for d, set := range shut[b] {
			if !set.IsEmpty() {
				x := &closer{i, addressesOf(i, true), set}
				c.closers[d] = append(c.closers[d], x)
				addresses[d] = append(addresses[d], x.addresses)
			}
		}
	}
	for d, sets := range addresses {
		c.closing[d] = addr.UnionAll(sets...)
	}
}

// addressesOf are the addresses by which an interface is seen. Networks without a connection to its
// own see only the public ones.
func addressesOf(i *estate.Interface, near bool) addr.Set {
	all := slices.Clone(i.Public)
	if near {
		all = append(all, i.Private...)
	}
	for _, r := range i.Subnet.Routes {
		if r.Via == estate.ViaNAT && r.Address.IsValid() {
			all = append(all, r.Address)
		}
	}
	return addr.Of(all...)
}

// near reports whether two interfaces may see each other's private addresses: within a network,
// between networks of which one peers with the other, and over private lines, which may lead
// anywhere.
func near(i, x *estate.Interface) bool {
	a, b := i.Subnet.Network, x.Subnet.Network
	private := func(s *estate.Subnet) bool {
		return slices.ContainsFunc(s.Routes, func(r estate.Route) bool { return r.Via == estate.ViaPrivateLine })
	}
	return a == b || slices.Contains(a.Peered, b) || slices.Contains(b.Peered, a) || private(i.Subnet) ||
		private(x.Subnet)
}

// meets reports whether something that opens at an interface is still let through by a closer at
// the other end.
func (x *closer) meets(i *estate.Interface, opens, still traffic.Set) bool {
	seen := near(i, x.i)
	peers, back := x.addresses, addressesOf(i, seen)
	if !seen {
		peers = addressesOf(x.i, false)
	}
	there := opens.WithPeers(peers).Services()
	return !there.IsEmpty() && there.Overlaps(still.WithPeers(back).Services())
}

// meetsClosing reports whether something that begins to pass at an interface is still let through
// at the other end, which is going to close it.
func (c *checker) meetsClosing(i *estate.Interface, added Through, now func(*estate.Interface) Through) bool {
	for d, set := range added {
		far := 1 - d
		if !c.closing[far].Overlaps(set.Peers(service.All)) {
			continue
		}
		for _, x := range c.closers[far] {
			if x.i != i && x.meets(i, set, now(x.i)[far].Intersect(x.closes)) {
				return true
			}
		}
	}
	return false
}

// linked finds pairs of interfaces of different accounts of which one opens what the other closes:
// their accounts must be changed in one order.
func (c *checker) linked(interfaces []*estate.Interface, link func(a, b *estate.Account)) {
	for _, i := range interfaces {
		b := c.bound(i)
		opens := b.then.minus(b.now)
		for d, set := range opens {
			far := 1 - d
			if !c.closing[far].Overlaps(set.Peers(service.All)) {
				continue
			}
			for _, x := range c.closers[far] {
				if x.i.Instance.Account != i.Instance.Account && x.meets(i, set, x.closes) {
					link(x.i.Instance.Account, i.Instance.Account)
				}
			}
		}
	}
}
