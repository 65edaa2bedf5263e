package narrow

import (
	"maps"
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/flow"
	"isonomos/core/service"
)

// A Judge says of flows whether they are needed, as narrowing judges them, whatever they are let through by.
type Judge struct {
	strangers addr.Set
	swept     map[*flow.Sum]bool
	uses      map[useKey]*use
}

// A useKey is a client and what it uses, at whatever instances.
type useKey struct {
	client  netip.Addr
	service service.Point
}

// NewJudge prepares judging some of the flows that were seen; all says which others there were. It takes time linear in
// them.
func NewJudge(d *decide.Decider, all *flow.Summary, some []*flow.Sum) *Judge {
	nat := addr.Of(slices.Collect(maps.Keys(outgoing(d.Estate())))...)
	j := &Judge{strangers: d.Strangers().Minus(nat), swept: swept(all), uses: make(map[useKey]*use)}
	for _, x := range some {
		k := useKey{x.Source, x.Service}
		u := j.uses[k]
		if u == nil {
			u = &use{peer: x.Source, service: x.Service}
			j.uses[k] = u
		}
		u.sums = append(u.sums, x)
		u.flows += x.Flows
		days := x.Days
		u.days.Merge(&days)
	}
	return j
}

// Of says why one of the flows is no need; it is empty if it is one.
func (j *Judge) Of(x *flow.Sum) Reason {
	u := j.uses[useKey{x.Source, x.Service}]
	stranger := j.strangers.Contains(x.Source)
	switch {
	case !slices.ContainsFunc(u.sums, func(x *flow.Sum) bool { return !j.swept[x] }):
		return Sweep
	case stranger && u.probes():
		return Probing
	case stranger && u.flows == 1:
		return SeenOnce
	}
	return ""
}
