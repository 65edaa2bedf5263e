package narrow

import (
	"math"
	"slices"

	"isonomos/core/compile"
	"isonomos/core/decide"
	"isonomos/core/estate"
)

// A Point of the curve is the least excess with some number of rules.
type Point struct {
	Rules  int
	Excess Excess
	Chosen bool // the proposal
	Over   bool // more rules than the quota has room for
}

// A front holds, for each number of rules from 0 to mostRules, the best that can be done with it;
// +Inf if nothing can.
type front struct {
	value []float64
	parts [][]candidate
}

const (
	mostRules = 256
	mostFront = 600 // combinations of named candidates that are tried for a front
)

// Curve is the trade-off between rules and excess. Numbers of rules that are no better than a
// smaller one are left out. The proposal's own choice is marked: it also takes into account how
// stable names are, so it may not be the least excess for its number of rules.
func (n *Narrower) Curve(p *Proposal) []Point {
	total := front{value: []float64{0}, parts: [][]candidate{nil}}
	fixed, chosen := n.wholeRules(p), 0
	for _, b := range p.blocks {
		if b.whole == nil {
			total = total.plus(b.puzzle.front(func(c candidate) float64 { return c.idle }))
		}
	}
	d := decide.Dialect(p.Group.Account)
	for _, r := range p.New {
		rule := r.Rule(p.Subject)
		chosen += compile.Cost(d, asDefined(p.Group), &rule)
	}
	var points []Point
	least := math.Inf(1)
	for rules, value := range total.value {
		if value >= least-1e-9 {
			continue // no better than with fewer rules
		}
		least = value
		points = append(points, Point{Rules: rules + fixed, Excess: solutionOf(total.parts[rules]).excess,
			Over: p.room >= 0 && rules+fixed > p.room})
	}
	at := slices.IndexFunc(points, func(x Point) bool { return x.Rules >= chosen })
	own := Point{Rules: chosen, Excess: p.Excess, Chosen: true, Over: p.room >= 0 && chosen > p.room}
	switch {
	case at >= 0 && points[at].Rules == chosen && points[at].Excess == p.Excess:
		points[at].Chosen = true
	case at < 0:
		points = append(points, own)
	default:
		points = slices.Insert(points, at, own)
	}
	return points
}

// wholeRules are the rules of what is kept in the subject's own words.
func (n *Narrower) wholeRules(p *Proposal) int {
	d := decide.Dialect(p.Group.Account)
	sum := 0
	for _, b := range p.blocks {
		if b.whole != nil {
			rule := estate.Rule{Peers: b.whole[0].Peers, Services: b.services.Specs()}
			sum += compile.Cost(d, asDefined(p.Group), &rule)
		}
	}
	return sum
}

// rulesOf is the number of rules that a choice takes.
func rulesOf(blocks []block, chosen []solution) int {
	sum := 0
	for i, b := range blocks {
		if b.whole == nil {
			sum += chosen[i].rules
		}
	}
	return sum
}

// fit makes the cheapest choice for which the quota has room, as a knapsack over the fronts of the
// blocks. It reports false if there is none.
func fit(blocks []block, room int) ([]solution, bool) {
	total := front{value: []float64{0}, parts: [][]candidate{nil}}
	fronts := make([]front, len(blocks))
	sums := make([]front, len(blocks)+1)
	sums[0] = total
	for i, b := range blocks {
		fronts[i] = front{value: []float64{0}, parts: [][]candidate{nil}}
		if b.whole == nil {
			fronts[i] = b.puzzle.front(func(c candidate) float64 { return c.cost })
		}
		sums[i+1] = sums[i].plus(fronts[i])
	}
	best, at := math.Inf(1), -1
	for rules, value := range sums[len(blocks)].value {
		if rules <= room && value < best {
			best, at = value, rules
		}
	}
	if at < 0 {
		return nil, false
	}
	chosen := make([]solution, len(blocks))
	for i := len(blocks) - 1; i >= 0; i-- {
		for k, value := range fronts[i].value {
			if k <= at && at-k < len(sums[i].value) && sums[i].value[at-k]+value <= sums[i+1].value[at]+1e-9 {
				chosen[i] = solutionOf(fronts[i].parts[k])
				at -= k
				break
			}
		}
	}
	return chosen, true
}

// plus is the front of two independent parts.
func (f front) plus(g front) front {
	size := min(len(f.value)+len(g.value)-1, mostRules+1)
	sum := emptyFront(size)
	for i, a := range f.value {
		for k, b := range g.value {
			if i+k < size && a+b < sum.value[i+k] {
				sum.value[i+k] = a + b
				sum.parts[i+k] = slices.Concat(f.parts[i], g.parts[k])
			}
		}
	}
	return sum
}

func emptyFront(size int) front {
	f := front{make([]float64, size), make([][]candidate, size)}
	for i := range f.value {
		f.value[i] = math.Inf(1)
	}
	return f
}

// front is the best cover for each number of rules. Up to mostFront combinations of named
// candidates are tried, cheapest candidates first. For what each of them leaves, ranges come from a
// dynamic program on the prefix trie, which knows the best below each fork for each number of
// rules.
func (p *puzzle) front(value func(candidate) float64) front {
	all := newBitset(len(p.leaves))
	for i := range p.leaves {
		all.set(i)
	}
	best := emptyFront(1)
	looked := 0
	var try func(k int, left bitset, mine []candidate)
	try = func(k int, left bitset, mine []candidate) {
		for ; k < len(p.named); k++ {
			if p.holds[k].overlaps(left) {
				break
			}
		}
		if k == len(p.named) || looked >= mostFront {
			looked++
			sum := front{value: []float64{0}, parts: [][]candidate{nil}}
			for _, c := range mine {
				one := emptyFront(min(c.rules, mostRules) + 1)
				one.value[len(one.value)-1], one.parts[len(one.parts)-1] = value(c), []candidate{c}
				sum = sum.plus(one)
			}
			for _, root := range p.roots {
				sum = sum.plus(p.below(root, left, value))
			}
			best = best.better(sum)
			return
		}
		try(k+1, left.minus(p.holds[k]), append(slices.Clip(mine), p.named[k]))
		try(k+1, left, mine)
	}
	try(0, all, nil)
	return best
}

// better is the better of two fronts for each number of rules.
func (f front) better(g front) front {
	if len(f.value) < len(g.value) {
		f, g = g, f
	}
	for i, v := range g.value {
		if v < f.value[i] {
			f.value[i], f.parts[i] = v, g.parts[i]
		}
	}
	return f
}

// below is the front of ranges for what is left below a fork.
func (p *puzzle) below(at int, left bitset, value func(candidate) float64) front {
	f := &p.trie[at]
	nothing := front{value: []float64{0}, parts: [][]candidate{nil}}
	one := func() front {
		x := emptyFront(min(f.rules, mostRules) + 1)
		x.value[len(x.value)-1], x.parts[len(x.parts)-1] = value(f.candidate), []candidate{f.candidate}
		return x
	}
	if f.low < 0 {
		if !left.has(f.from) {
			return nothing
		}
		return one()
	}
	sum := p.below(f.low, left, value).plus(p.below(f.high, left, value))
	if f.may && math.IsInf(sum.value[0], 1) { // something is left
		sum = sum.better(one())
	}
	return sum
}
