package audit

import (
	"cmp"
	"fmt"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// An Earlier is a finding of an earlier audit, with what is needed to compare it.
type Earlier struct {
	Fingerprint, Check, Where, Message string
	Also                               []string
	Severity                           Severity
	Direction                          estate.Direction
	State                              string // the state in which it held; empty means in both
	Services                           service.Set
	Peers                              addr.Set
	Instances                          []string // their names
	Exempted                           bool
}

// Trend says how a finding compares with an earlier audit.
type Trend string

// The trends. Worse: there is more of something than before (services, peers, instances, checks,
// severity). Better: there is less of something and more of nothing.
const (
	New    Trend = "new"
	Worse  Trend = "worse"
	Better Trend = "better"
	Same   Trend = "same"
)

// A Step says how one finding compares with an earlier audit, and of what there is more.
type Step struct {
	Trend Trend
	More  []string // in words
}

// A Change is how an audit differs from an earlier one.
type Change struct {
	Of    map[string]Step // by fingerprint of today's findings
	Count map[Trend]int
	Gone  []Earlier // in the order of the earlier audit
}

// Fails reports whether a finding is new or worse.
func (c *Change) Fails(f Finding) bool {
	trend := c.Of[f.Fingerprint].Trend
	return trend == New || trend == Worse
}

// Since compares findings with those of an earlier audit that had the same scope. Two findings are
// the same matter if they trip the same check at the same place in the same direction, with traffic
// in common; ids and line numbers don't matter. The states are compared one by one: what only the
// definitions opened, and the clouds now have, is new. Cost: for each finding, the earlier findings
// of the same place.
func Since(found []Finding, earlier []Earlier) Change {
	at := make(map[string][]int) // indices of earlier findings, by place
	for i, e := range earlier {
		at[e.Where] = append(at[e.Where], i)
	}
	met := make([]bool, len(earlier))
	c := Change{Of: make(map[string]Step, len(found)), Count: make(map[Trend]int)}
	for i := range found {
		f := &found[i]
		var same []Earlier
		for _, k := range at[f.Where()] {
			if earlier[k].meets(f) {
				met[k] = true
				same = append(same, earlier[k])
			}
		}
		step := f.since(same)
		c.Of[f.Fingerprint] = step
		c.Count[step.Trend]++
	}
	for k, e := range earlier {
		if !met[k] {
			c.Gone = append(c.Gone, e)
		}
	}
	return c
}

// traffic is what the finding is about. It is empty for checks that are not about traffic.
func (e Earlier) traffic() traffic.Set { return traffic.Of(e.Peers, e.Services) }

// meets reports whether an earlier finding and one of today are the same matter.
func (e Earlier) meets(f *Finding) bool {
	if state := cmp.Or(e.State, InBoth); state != InBoth && state != f.State {
		return false
	}
	if e.Fingerprint == f.Fingerprint {
		return true
	}
	if e.Direction != "" && f.Direction != "" && e.Direction != f.Direction ||
		!slices.ContainsFunc(f.Names(), e.trips) {
		return false
	}
	return e.Services.Overlaps(f.Services) && !e.Peers.Intersect(f.Peers).IsEmpty()
}

// trips reports whether the earlier finding tripped a check.
func (e Earlier) trips(check string) bool { return e.Check == check || slices.Contains(e.Also, check) }

// since compares a finding with the earlier ones of the same matter.
func (f *Finding) since(same []Earlier) Step {
	if len(same) == 0 {
		return Step{Trend: New}
	}
	var was []traffic.Set
	var instances []string
	severity, exempted := Info, true
	for _, e := range same {
		was, instances = append(was, e.traffic()), append(instances, e.Instances...)
		severity, exempted = max(severity, e.Severity), exempted && e.Exempted
	}
	before, now := traffic.UnionAll(was), traffic.Of(f.Peers, f.Services)
	var more []string
	if beyond := now.Minus(before); !beyond.IsEmpty() {
		services := beyond.Services().Minus(before.Services())
		if !services.IsEmpty() {
			more = append(more, someServices(services))
		}
		if peers := beyond.Peers(service.All).Minus(before.Peers(service.All)); !peers.IsEmpty() {
			more = append(more, PeersInWords(peers))
		}
		if len(more) == 0 {
			more = append(more, someServices(beyond.Services())+" for "+PeersInWords(beyond.Peers(service.All)))
		}
	}
	var added []string
	for _, i := range f.Instances {
		if name := i.Instance.Name; !slices.Contains(instances, name) && !slices.Contains(added, name) {
			added = append(added, name)
		}
	}
	if len(added) > 0 {
		more = append(more, "at "+count.Some(added, 4))
	}
	for _, check := range f.Names() {
		if !slices.ContainsFunc(same, func(e Earlier) bool { return e.trips(check) }) {
			more = append(more, "it trips "+check)
		}
	}
	if f.Severity > severity {
		more = append(more, fmt.Sprintf("it is %s, and was %s", f.Severity, severity))
	}
	if exempted && f.Exemption == nil {
		more = append(more, "it is exempted no more")
	}
	switch {
	case len(more) > 0:
		return Step{Worse, more}
	case f.Severity < severity, !before.Minus(now).IsEmpty(), f.Exemption != nil && !exempted, fewer(f, instances):
		return Step{Trend: Better}
	}
	return Step{Trend: Same}
}

// someServices names the first few of some services, and says how many more there are.
func someServices(s service.Set) string {
	var specs []string
	for _, x := range s.RunSpecs() {
		specs = append(specs, x.String())
	}
	return count.Some(specs, 6)
}

// fewer reports whether some of the instances of before are no longer concerned.
func fewer(f *Finding, before []string) bool {
	return slices.ContainsFunc(before, func(name string) bool {
		return !slices.ContainsFunc(f.Instances, func(i *estate.Interface) bool { return i.Instance.Name == name })
	})
}
