package decide

import (
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Handed is what a balancer hands on to one of its targets, directly or through other balancers.
type Handed struct {
	Balancer *estate.Interface // of the balancer that the peers reach
	Through  []*estate.Instance
	Target   *estate.Interface
	Port     uint16 // the port at the target, where the protocol has ports
	Asked    Met    // the traffic with that balancer, by what becomes of it at the target
	Rules    []Deciding
}

// Arriving are the services that reach the target, as they are handed on.
func (h Handed) Arriving(asked service.Set) service.Set {
	got := asked.Minus(withPorts)
	for _, protocol := range service.Ported {
		if asked.Overlaps(service.Of(service.Whole(protocol))) {
			got = got.Union(service.Of(service.Ports(protocol, h.Port, h.Port)))
		}
	}
	return got
}

// metWith is what becomes of the traffic with one peer.
func metWith(peer netip.Addr, o Outcome) Met {
	of := addr.Of(peer)
	return Met{traffic.Of(of, o.With(Passes)), traffic.Of(of, o.With(OneWay)), traffic.Of(of, o.With(Undecided))}
}

// along restricts what becomes of traffic by what becomes of its services on the rest of the way.
func (m Met) along(rest Outcome) Met {
	arriving := rest.Arriving()
	arrives := m.Arrives().OnServices(arriving)
	possible := m.Arrives().Union(m.Undecided).OnServices(arriving.Union(rest.With(Undecided)))
	passes := m.Passes.OnServices(rest.With(Passes))
	return Met{Passes: passes, OneWay: arrives.Minus(passes), Undecided: possible.Minus(arrives)}
}

// union is the traffic of either; of two verdicts on the same traffic, the one of what certainly
// arrives counts.
func (m Met) union(other Met) Met {
	passes := m.Passes.Union(other.Passes)
	oneWay := m.OneWay.Union(other.OneWay).Minus(passes)
	return Met{passes, oneWay, m.Undecided.Union(other.Undecided).Minus(passes).Minus(oneWay)}
}

// IsEmpty reports whether nothing arrives for certain or perhaps.
func (m Met) IsEmpty() bool { return m.Arrives().IsEmpty() && m.Undecided.IsEmpty() }

// A targetKey identifies a target behind one or more balancers, and the port there.
type targetKey struct {
	at   *estate.Interface
	port uint16
}

// A targetOutcome is what becomes of the services that a balancer listens to at one target, and one
// way there.
type targetOutcome struct {
	targetKey
	seen    netip.Addr // the address by which the target sees the last balancer
	through []*estate.Instance
	outcome Outcome
}

// handedTargets is handedOn for each target that is not a balancer, in the order in which they are
// found.
func (d *Decider) handedTargets(from *estate.Interface, met []*estate.Instance) []targetOutcome {
	key := handedKey{from, d.metInCircle(from.Instance, met)}
	if known, ok := d.targets[key]; ok {
		return known
	}
	var found []targetOutcome
	at := make(map[targetKey]int)
	add := func(x targetOutcome) {
		k, has := at[x.targetKey]
		if !has {
			k = len(found)
			at[x.targetKey] = k
			found = append(found, targetOutcome{targetKey: x.targetKey, seen: x.seen, through: x.through})
		}
		found[k].outcome = found[k].outcome.better(x.outcome)
	}
	if d.circles()[from.Instance].size > largestCircle {
		d.behindCircle(from, add)
	} else {
		met = append(slices.Clip(met), from.Instance)
		for _, l := range from.Instance.Listeners {
			for _, target := range l.Targets {
				d.throughTarget(from, l, target, met, add)
			}
		}
	}
	d.targets[key] = found
	return found
}

// throughTarget adds what a target of a listener gets, or if it is a balancer what its own targets
// get.
func (d *Decider) throughTarget(balancer *estate.Interface, l estate.Listener, target *estate.Instance,
	met []*estate.Instance, add func(targetOutcome)) {
	from, to, ok := handOver(balancer, target)
	if !ok || target.Kind == estate.Balancer && slices.Contains(met, target) {
		return
	}
	there := d.reaching(from, to)
	if target.Kind != estate.Balancer {
		add(targetOutcome{targetKey{to.Interface, l.Port}, d.way(from, to).source,
			[]*estate.Instance{balancer.Instance}, askedFor(l, there)})
		return
	}
	for _, next := range d.handedTargets(to.Interface, met) {
		next.outcome = askedFor(l, there.along(next.outcome.or(NoRoute)))
		next.through = append([]*estate.Instance{balancer.Instance}, next.through...)
		add(next)
	}
}

// behindCircle adds all targets behind balancers of a circle that is too large: its ways are not
// followed, so each target may be reached.
func (d *Decider) behindCircle(from *estate.Interface, add func(targetOutcome)) {
	seen := map[*estate.Interface]bool{from: true}
	for queue := []*estate.Interface{from}; len(queue) > 0; queue = queue[1:] {
		for _, l := range queue[0].Instance.Listeners {
			for _, target := range l.Targets {
				own, to, ok := handOver(queue[0], target)
				switch {
				case !ok:
				case target.Kind != estate.Balancer:
					perhaps := becoming(Undecided, Listened(from.Instance))
					add(targetOutcome{targetKey{to.Interface, l.Port}, own.Addr, []*estate.Instance{from.Instance},
						perhaps})
				case !seen[to.Interface]:
					seen[to.Interface] = true
					queue = append(queue, to.Interface)
				}
			}
		}
	}
}

// handing are the targets to which a balancer hands on some of the traffic that it gets.
func (d *Decider) handing(balancer *estate.Interface, own Met, of func(*estate.Interface) bool) []Handed {
	var found []Handed
	for _, x := range d.handedTargets(balancer, nil) {
		if !of(x.at) {
			continue
		}
		h := Handed{Balancer: balancer, Through: x.through, Target: x.at, Port: x.port, Asked: own.along(x.outcome)}
		if h.Asked.IsEmpty() {
			continue
		}
		got := h.Arriving(h.Asked.Arrives().Union(h.Asked.Undecided).Services())
		h.Rules = d.deciding(x.at, traffic.Of(addr.Of(x.seen), got), estate.In)
		found = append(found, h)
	}
	return found
}
