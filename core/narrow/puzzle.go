package narrow

import (
	"cmp"
	"math"
	"math/bits"
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/service"
)

// A puzzle is to cover the needed peers of a block at the least cost, by candidates with names and
// by ranges for what they leave.
//
// The needed peers are divided into leaves, each of which any candidate contains as a whole or not
// at all. Ranges correspond to forks of a prefix trie over the leaves.
type puzzle struct {
	w      weigher
	leaves []netip.Prefix
	named  []candidate
	holds  []bitset // by candidate: the leaves that it contains
	trie   []fork
	roots  []int
	share  [][]float64 // by leaf: the least cost of covering it with candidates from an index on
}

// A fork of the trie: a leaf, or the smallest range that contains two forks.
type fork struct {
	candidate
	from, to  int // range of its leaves
	low, high int // the forks below; -1 for a leaf
	may       bool
}

// A solution is a cover of all leaves.
type solution struct {
	choices []Choice
	cost    float64
	bound   float64 // no cover costs less
	excess  Excess
	idle    float64
	rules   int
}

// gap is how far the cost may be above the least, as a share of it.
func (s solution) gap() float64 {
	if s.cost <= s.bound+1e-9 {
		return 0
	}
	return (s.cost - s.bound) / s.bound
}

// mostSteps bounds the search of one puzzle: candidates taken or left, times leaves.
const mostSteps = 1_000_000

type bitset []uint64

func newBitset(n int) bitset    { return make(bitset, (n+63)/64) }
func (b bitset) set(i int)      { b[i/64] |= 1 << (i % 64) }
func (b bitset) has(i int) bool { return b[i/64]&(1<<(i%64)) != 0 }
func (b bitset) minus(c bitset) bitset {
	d := make(bitset, len(b))
	for i := range b {
		d[i] = b[i] &^ c[i]
	}
	return d
}
func (b bitset) overlaps(c bitset) bool {
	for i := range b {
		if b[i]&c[i] != 0 {
			return true
		}
	}
	return false
}
func (b bitset) within(c bitset) bool {
	for i := range b {
		if b[i]&^c[i] != 0 {
			return false
		}
	}
	return true
}
func (b bitset) count() (n int) {
	for _, word := range b {
		n += bits.OnesCount64(word)
	}
	return n
}

func (n *Narrower) puzzle(s Subject, services service.Set, needed, allowed addr.Set) *puzzle {
	p := &puzzle{w: n.weigher(s, services, needed, allowed)}
	named := p.w.candidates()
	parts := []addr.Set{needed}
	for _, c := range named {
		var finer []addr.Set
		for _, part := range parts {
			in := part.Intersect(c.Addresses)
			if out := part.Minus(in); in.IsEmpty() || out.IsEmpty() {
				finer = append(finer, part)
			} else {
				finer = append(finer, in, out)
			}
		}
		parts = finer
	}
	for _, part := range parts {
		p.leaves = append(p.leaves, part.Prefixes()...)
	}
	slices.SortFunc(p.leaves, func(a, b netip.Prefix) int {
		return cmp.Or(cmp.Compare(a.Addr().BitLen(), b.Addr().BitLen()), a.Addr().Compare(b.Addr()))
	})
	for _, c := range named {
		held := newBitset(len(p.leaves))
		for i, leaf := range p.leaves {
			if c.Addresses.Contains(leaf.Addr()) {
				held.set(i)
			}
		}
		// A candidate that contains no more than another one and costs no less is never needed.
		if !slices.ContainsFunc(p.holds, func(h bitset) bool { return held.within(h) }) {
			p.named, p.holds = append(p.named, c), append(p.holds, held)
		}
	}
	p.plant()
	p.shares()
	return p
}

// plant builds the trie over the leaves, a tree for each family.
func (p *puzzle) plant() {
	six := slices.IndexFunc(p.leaves, func(l netip.Prefix) bool { return l.Addr().Is6() })
	if six < 0 {
		six = len(p.leaves)
	}
	for _, span := range [][2]int{{0, six}, {six, len(p.leaves)}} {
		if span[0] < span[1] {
			p.roots = append(p.roots, p.grow(span[0], span[1]))
		}
	}
}

func (p *puzzle) grow(from, to int) int {
	if to-from == 1 {
		p.trie = append(p.trie, fork{candidate: p.w.rangeCandidate(p.leaves[from]), from: from, to: to, low: -1,
			high: -1, may: true})
		return len(p.trie) - 1
	}
	around := commonPrefix(p.leaves[from], p.leaves[to-1])
	middle, _ := slices.BinarySearchFunc(p.leaves[from:to], upperHalf(around),
		func(l netip.Prefix, a netip.Addr) int { return l.Addr().Compare(a) })
	low, high := p.grow(from, from+middle), p.grow(from+middle, to)
	f := fork{candidate: p.w.rangeCandidate(around), from: from, to: to, low: low, high: high}
	f.may = f.Addresses.SubsetOf(p.w.allowed)
	p.trie = append(p.trie, f)
	return len(p.trie) - 1
}

func commonPrefix(a, b netip.Prefix) netip.Prefix {
	for bits := min(a.Bits(), b.Bits()); bits > 0; bits-- {
		if p := netip.PrefixFrom(a.Addr(), bits).Masked(); p.Contains(b.Addr()) {
			return p
		}
	}
	return netip.PrefixFrom(a.Addr(), 0).Masked()
}

// upperHalf is the first address of the upper half of a range.
func upperHalf(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	b[p.Bits()/8] |= 0x80 >> (p.Bits() % 8)
	a, _ := netip.AddrFromSlice(b)
	return a
}

// shares works out a lower bound for each leaf: of the things that contain it, the least cost
// divided by the number of leaves they contain. The sum over leaves never exceeds the cost of a
// cover.
func (p *puzzle) shares() {
	byRange := make([]float64, len(p.leaves))
	for i := range byRange {
		byRange[i] = math.Inf(1)
	}
	for _, f := range p.trie {
		if f.may {
			each := f.cost / float64(f.to-f.from)
			for i := f.from; i < f.to; i++ {
				byRange[i] = min(byRange[i], each)
			}
		}
	}
	p.share = make([][]float64, len(p.named)+1)
	p.share[len(p.named)] = byRange
	for k := len(p.named) - 1; k >= 0; k-- {
		p.share[k] = slices.Clone(p.share[k+1])
		each := p.named[k].cost / float64(p.holds[k].count())
		for i := range p.leaves {
			if p.holds[k].has(i) {
				p.share[k][i] = min(p.share[k][i], each)
			}
		}
	}
}

// least is a lower bound for covering the remaining leaves with candidates from k on.
func (p *puzzle) least(left bitset, k int) float64 {
	sum := 0.0
	for w, word := range left {
		for ; word != 0; word &= word - 1 {
			sum += p.share[k][64*w+bits.TrailingZeros64(word)]
		}
	}
	return sum
}

// ranges is the cost of the cheapest ranges for the remaining leaves, by a dynamic program: at each
// fork either the whole range is named, or each branch by itself. If take is given, it is called
// for each range that is named.
func (p *puzzle) ranges(left bitset, take func(int)) float64 {
	sum := 0.0
	for _, root := range p.roots {
		cost, _ := p.branch(root, left)
		sum += cost
		if take != nil {
			p.pick(root, left, take)
		}
	}
	return sum
}

// branch is the least cost below a fork, and whether any leaf remains there.
func (p *puzzle) branch(at int, left bitset) (float64, bool) {
	f := &p.trie[at]
	if f.low < 0 {
		if !left.has(f.from) {
			return 0, false
		}
		return f.cost, true
	}
	low, anyLow := p.branch(f.low, left)
	high, anyHigh := p.branch(f.high, left)
	both := low + high
	if f.may && anyLow && anyHigh && f.cost < both {
		return f.cost, true
	}
	return both, anyLow || anyHigh
}

func (p *puzzle) pick(at int, left bitset, take func(int)) {
	f := &p.trie[at]
	if f.low < 0 {
		if left.has(f.from) {
			take(at)
		}
		return
	}
	low, anyLow := p.branch(f.low, left)
	high, anyHigh := p.branch(f.high, left)
	if f.may && anyLow && anyHigh && f.cost < low+high {
		take(at)
		return
	}
	p.pick(f.low, left, take)
	p.pick(f.high, left, take)
}

// solve finds the cheapest cover, by branch and bound over the candidates: each is taken or left,
// and ranges cover what remains. A branch ends when its lower bound is no better than the best
// cover known.
func (p *puzzle) solve() solution {
	all := newBitset(len(p.leaves))
	for i := range p.leaves {
		all.set(i)
	}
	taken := p.greedy(all)
	best := p.costOf(taken, all)
	open := math.Inf(1) // the least cost that an abandoned branch might have
	steps := mostSteps
	const slack = 1e-9
	var try func(k int, left bitset, cost, ranges float64, mine []int)
	try = func(k int, left bitset, cost, ranges float64, mine []int) {
		if cost+ranges < best-slack {
			best, taken = cost+ranges, slices.Clone(mine)
		}
		for ; k < len(p.named); k++ {
			if p.holds[k].overlaps(left) {
				break
			}
		}
		if k == len(p.named) {
			return
		}
		bound := cost + p.least(left, k)
		if bound >= best-slack {
			return
		}
		if steps -= len(p.leaves) + 1; steps < 0 {
			open = min(open, bound)
			return
		}
		after := left.minus(p.holds[k])
		try(k+1, after, cost+p.named[k].cost, p.ranges(after, nil), append(slices.Clip(mine), k))
		try(k+1, left, cost, ranges, mine)
	}
	try(0, all, 0, p.ranges(all, nil), nil)
	s := p.solution(taken, all)
	s.cost, s.bound = best, min(best, open)
	return s
}

// greedy takes the candidate that saves most, again and again, until ranges are cheaper.
func (p *puzzle) greedy(left bitset) []int {
	var taken []int
	ranges := p.ranges(left, nil)
	for {
		best, saving := -1, 0.0
		for k, c := range p.named {
			if !p.holds[k].overlaps(left) {
				continue
			}
			if s := ranges - p.ranges(left.minus(p.holds[k]), nil) - c.cost; s > saving {
				best, saving = k, s
			}
		}
		if best < 0 {
			return taken
		}
		taken = append(taken, best)
		left = left.minus(p.holds[best])
		ranges = p.ranges(left, nil)
	}
}

func (p *puzzle) costOf(taken []int, left bitset) float64 {
	cost := 0.0
	for _, k := range taken {
		cost += p.named[k].cost
		left = left.minus(p.holds[k])
	}
	return cost + p.ranges(left, nil)
}

// solution is the cover by some candidates and by ranges for what they leave.
func (p *puzzle) solution(taken []int, left bitset) solution {
	var parts []candidate
	for _, k := range taken {
		parts = append(parts, p.named[k])
		left = left.minus(p.holds[k])
	}
	p.ranges(left, func(at int) { parts = append(parts, p.trie[at].candidate) })
	return solutionOf(parts)
}

func solutionOf(parts []candidate) solution {
	var s solution
	for _, c := range parts {
		s.choices = append(s.choices, c.Choice)
		s.cost += c.cost
		s.idle += c.idle
		s.rules += c.rules
		s.excess = s.excess.plus(c.excess)
	}
	s.bound = s.cost
	slices.SortStableFunc(s.choices, func(a, b Choice) int { return cmp.Compare(a.Kind, b.Kind) })
	return s
}
