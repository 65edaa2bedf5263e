package change

import (
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
)

// CutFlows calls take for each observed flow that the filters of both ends let through now and
// would not let through afterwards.
func CutFlows(now, then *decide.Decider, sums []*flow.Sum, take func(*flow.Sum)) {
	thenAt := facesOf(then.Estate())
	passes := func(d *decide.Decider, x *flow.Sum, ends [2][]*estate.Interface) bool {
		for _, i := range ends[in] {
			if !d.Lets(i, estate.In, x.Source, x.Service) {
				return false
			}
		}
		for _, i := range ends[out] {
			if !d.Lets(i, estate.Out, x.Destination, x.Service) {
				return false
			}
		}
		return true
	}
	for _, x := range sums {
		var before, after [2][]*estate.Interface
		for d, a := range [2][]*estate.Interface{in: now.At(x.Destination), out: now.At(x.Source)} {
			for _, i := range a {
				if j := thenAt[faceKey(i)]; j != nil {
					before[d], after[d] = append(before[d], i), append(after[d], j)
				}
			}
		}
		if passes(now, x, before) && !passes(then, x, after) {
			take(x)
		}
	}
}
