package narrow

import (
	"cmp"
	"math"
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// A Shorter is an alternative to a new rule that says less exactly the same.
type Shorter struct {
	Rule      NewRule
	Parts     int     // ranges of addresses or of ports
	Addresses float64 // so many more are let in
	Ports     int     // so many more are let in
}

// Rules with more peers, or with more ranges of ports, than longRule are offered with an alternative of
// at most shortRule of them.
const (
	longRule  = 8
	shortRule = 6
)

// shorter finds the alternatives to long rules.
func (n *Narrower) shorter(p *Proposal) []Shorter {
	var all []Shorter
	for _, r := range p.New {
		if len(r.Choices) > longRule {
			k := slices.IndexFunc(p.blocks, func(b block) bool {
				return b.whole == nil && b.terms == r.Terms && b.services.SubsetOf(r.Services)
			})
			if k >= 0 {
				if s, ok := p.blocks[k].puzzle.shortened(r); ok {
					all = append(all, s)
				}
			}
		}
		if len(r.Services.Specs()) > longRule {
			if s, ok := fewerPorts(r); ok {
				all = append(all, s)
			}
		}
	}
	return all
}

// shortened is the rule with fewer peers: with the fewest for which less than shortRule let in no more than
// half as many again.
func (p *puzzle) shortened(r NewRule) (Shorter, bool) {
	f := p.front(func(c candidate) float64 { return c.idle })
	best := -1
	for rules, value := range f.value {
		if math.IsInf(value, 1) || len(f.parts[rules]) > shortRule {
			continue
		}
		if best < 0 || value < 2*f.value[best]/3 {
			best = rules
		}
	}
	if best < 0 {
		return Shorter{}, false
	}
	s := solutionOf(f.parts[best])
	more := s.excess.Strangers + s.excess.Known + s.excess.Named
	return Shorter{Rule: NewRule{r.Terms, r.Services, s.choices}, Parts: len(s.choices), Addresses: more},
		len(s.choices) < len(r.Choices)
}

// fewerPorts is the rule with the smallest gaps between its ports closed, as far as the subject lets
// through what is in them.
func fewerPorts(r NewRule) (Shorter, bool) {
	var peers []addr.Set
	for _, c := range r.Choices {
		peers = append(peers, c.Addresses)
	}
	from := addr.UnionAll(peers...)
	type gap struct{ from, to service.Point }
	var gaps []gap
	last, any := service.Point(0), false
	r.Services.Runs(func(a, b service.Point) bool {
		if before, _ := last.Split(); any {
			if protocol, _ := a.Split(); protocol == before {
				gaps = append(gaps, gap{last + 1, a - 1})
			}
		}
		last, any = b, true
		return true
	})
	slices.SortStableFunc(gaps, func(a, b gap) int { return cmp.Compare(a.to-a.from, b.to-b.from) })
	joined := r.Services
	for _, g := range gaps {
		if len(joined.Specs()) <= shortRule/2 {
			break
		}
		if more := service.Between(g.from, g.to); traffic.Of(from, more).SubsetOf(r.Terms.Before) {
			joined = joined.Union(more)
		}
	}
	more, _ := joined.Minus(r.Services).Size().Float64()
	return Shorter{Rule: NewRule{r.Terms, joined, r.Choices}, Parts: len(joined.Specs()), Ports: int(more)},
		len(joined.Specs()) < len(r.Services.Specs())
}

// A Held is what a new rule lets in although it was asked to be dropped, since a name holds it.
type Held struct {
	Rule   NewRule
	Choice Choice
	Peers  addr.Set // of those that were to be dropped
}

// held finds what was to be dropped and is let through all the same.
func (n *Narrower) held(p *Proposal) []Held {
	var all []Held
	for _, drop := range n.o.Drop {
		for _, r := range p.New {
			for _, c := range r.Choices {
				if peers := c.Addresses.Intersect(drop.Peers); !peers.IsEmpty() && r.Services.Overlaps(drop.Services) {
					all = append(all, Held{r, c, peers})
				}
			}
		}
	}
	return all
}

// A Seen is what one peer did with what a need is about.
type Seen struct {
	Peer  netip.Addr
	Flows int
	Days  int
	Bytes uint64 // both ways
	Last  int64  // seconds since 1970
}

// SeenOf are the peers of an observed need, those with the most flows first.
func (p *Proposal) SeenOf(need *Need) []Seen {
	by := make(map[netip.Addr]*use)
	var all []Seen
	for _, x := range need.Sums {
		peer := peerOf(p, x)
		if by[peer] == nil {
			by[peer] = &use{peer: peer}
			all = append(all, Seen{Peer: peer})
		}
		by[peer].sums = append(by[peer].sums, x)
		days := x.Days
		by[peer].days.Merge(&days)
	}
	for i := range all {
		s := &all[i]
		s.Days = by[s.Peer].days.Count()
		for _, x := range by[s.Peer].sums {
			s.Flows += x.Flows
			s.Bytes += x.Bytes + x.ReplyBytes
			s.Last = max(s.Last, x.Last)
		}
	}
	slices.SortStableFunc(all, func(a, b Seen) int {
		return cmp.Or(cmp.Compare(b.Flows, a.Flows), a.Peer.Compare(b.Peer))
	})
	return all
}

// Stopped counts the flows among those left out that the new rules stop.
func (p *Proposal) Stopped() (flows int) {
	for _, x := range p.Noise.List {
		if p.Closes.Contains(x.Peer, x.Service) {
			flows += x.Flows
		}
	}
	return flows
}

// Owners tell whose addresses are.
type Owners struct {
	d       *decide.Decider
	lists   listIndex
	nat     map[netip.Addr]*estate.Network
	strange addr.Set
}

// OwnersIn prepares to tell whose the addresses of an estate are.
func OwnersIn(d *decide.Decider) Owners {
	return Owners{d, indexLists(d), outgoing(d.Estate()), d.Strangers()}
}

// Of says whose an address is, in words; of a stranger it is empty.
func (o Owners) Of(a netip.Addr) string {
	for _, i := range o.d.At(a) {
		return i.Instance.Name
	}
	if n := o.nat[a]; n != nil {
		return "outgoing address of network " + n.Name
	}
	name := ""
	o.lists.holding(netip.PrefixFrom(a, a.BitLen()), func(l *estate.List) {
		if text := "list " + l.Name; name == "" || text < name {
			name = text
		}
	})
	switch {
	case name != "":
		return name
	case !o.strange.Contains(a):
		return "private or known address"
	}
	return ""
}
