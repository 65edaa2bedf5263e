package decide

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// An Outcome divides services by what becomes of them between two ends. A service has at most one
// verdict.
type Outcome [5]service.Set

// alongWay are the verdicts in order of precedence along one way: what is certain comes first.
var alongWay = [5]Verdict{NoRoute, Stopped, Undecided, OneWay, Passes}

// amongTargets are the verdicts in order of precedence where one of several ways is enough.
var amongTargets = [5]Verdict{Passes, Undecided, OneWay, Stopped, NoRoute}

// place is the index of a verdict in an Outcome.
func place(v Verdict) int { return slices.Index(alongWay[:], v) }

// becoming is the outcome in which some services have a verdict and all others none.
func becoming(v Verdict, services service.Set) Outcome {
	var o Outcome
	o[place(v)] = services
	return o
}

// With are the services that have a verdict.
func (o Outcome) With(v Verdict) service.Set { return o[place(v)] }

// Of is the verdict on one service.
func (o Outcome) Of(p service.Point) Verdict {
	for k, set := range o {
		if set.Contains(p) {
			return alongWay[k]
		}
	}
	return NoRoute
}

// Arriving are the services that arrive, answered or not.
func (o Outcome) Arriving() service.Set { return o.With(Passes).Union(o.With(OneWay)) }

// or gives a verdict to all services that have none.
func (o Outcome) or(v Verdict) Outcome {
	o[place(v)] = o[place(v)].Union(service.All.Minus(service.UnionAll(o[:]...)))
	return o
}

// on is the outcome restricted to some services.
func (o Outcome) on(services service.Set) Outcome {
	for k := range o {
		o[k] = o[k].Intersect(services)
	}
	return o
}

// along is the outcome of two parts of one way: the worse verdict of both.
func (o Outcome) along(next Outcome) Outcome { return o.choose(next, alongWay) }

// better is the outcome of two ways of which one is enough: the better verdict of both.
func (o Outcome) better(other Outcome) Outcome { return o.choose(other, amongTargets) }

func (o Outcome) choose(other Outcome, order [5]Verdict) Outcome {
	var chosen Outcome
	var done service.Set
	for _, v := range order {
		k := place(v)
		chosen[k] = o[k].Union(other[k]).Minus(done)
		done = done.Union(chosen[k])
	}
	return chosen
}

// Becomes is what becomes of every service between two ends, exactly as Flow decides each. The ends
// are of one family; services that it can't carry have no verdict. It costs O(rules at both ends).
func (d *Decider) Becomes(src, dst End) Outcome {
	return d.becomes(src, dst, nil).on(carriedBy(src.Addr))
}

// carriedBy are the services that the family of an address can carry.
func carriedBy(a netip.Addr) service.Set {
	if a.Is4() {
		return service.All.Minus(service.NotIPv4)
	}
	return service.All.Minus(service.NotIPv6)
}

func (d *Decider) becomes(src, dst End, met []*estate.Instance) Outcome {
	o := d.reaching(src, dst)
	if handsOn(src, dst) {
		o = o.along(d.handedOn(dst.Interface, met))
	}
	return o
}

// handsOn reports whether an end is a balancer, which hands on what arrives.
func handsOn(src, dst End) bool {
	return !dst.Outside() && dst.Interface.Instance.Kind == estate.Balancer &&
		(src.Outside() || src.Interface.Instance != dst.Interface.Instance)
}

// reaching is Becomes without what a balancer hands on.
func (d *Decider) reaching(src, dst End) Outcome {
	if !src.Outside() && !dst.Outside() && src.Interface.Instance == dst.Interface.Instance {
		return becoming(Passes, service.All)
	}
	w := d.way(src, dst)
	if w.verdict == NoRoute {
		return becoming(NoRoute, service.All)
	}
	o := becoming(Passes, service.All)
	if !src.Outside() {
		for _, l := range d.layers(src.Interface, w.inside) {
			o = o.along(d.layerOutcome(l, src.Interface, estate.Out, w.destination, d.clientsOn(w, src.Interface)))
		}
	}
	if dst.Outside() {
		return o
	}
	if w.verdict == Undecided {
		o = o.along(d.fromSomewhere(dst.Interface, w.sources))
	} else {
		for _, l := range d.layers(dst.Interface, w.inside) {
			o = o.along(d.layerOutcome(l, dst.Interface, estate.In, w.source, d.clientsOn(w, dst.Interface)))
		}
	}
	return o
}

// clientsOn are the client ports to which answers go at an interface.
func (d *Decider) clientsOn(w way, i *estate.Interface) []estate.Ports {
	if w.client == nil {
		return []estate.Ports{answersOf(i.Subnet.Network)}
	}
	return []estate.Ports{answersOf(w.client)}
}

// fromSomewhere is what becomes of services from an unknown address of a set: only what is stopped
// from each of the addresses is stopped.
func (d *Decider) fromSomewhere(i *estate.Interface, sources addr.Set) Outcome {
	admitted := traffic.Of(sources, service.All)
	for _, l := range d.layers(i, false) {
		if l.unknown == "" {
			admitted = admitted.Intersect(d.layerAllowed(l, i, estate.In).all)
		}
	}
	return becoming(Undecided, admitted.Services()).or(Stopped)
}

// taken are the services that an interface takes: everything, or at a balancer what it listens to
// and one of its targets gets. It returns those that pass and those that arrive.
func (d *Decider) taken(i *estate.Interface) (passes, arrives service.Set) {
	if i.Instance.Kind != estate.Balancer {
		return service.All, service.All
	}
	o := d.handedOn(i, nil)
	return o.With(Passes), o.Arriving()
}

// HandedOn is what becomes of the services that a balancer listens to: what its best target gets.
func (d *Decider) HandedOn(i *estate.Interface) Outcome { return d.handedOn(i, nil) }

// A handedKey is what the outcome of handing on depends on: the interface, and which balancers of a
// circle have been passed.
type handedKey struct {
	from *estate.Interface
	met  string
}

// A circle is a set of balancers that hand on to each other.
type circle struct {
	id, size int
}

// largestCircle is the most balancers in a circle whose ways are followed: the number of ways
// doubles with each.
const largestCircle = 10

// handedOn is HandedOn after some balancers have been passed. These get nothing again.
func (d *Decider) handedOn(from *estate.Interface, met []*estate.Instance) Outcome {
	key := handedKey{from, d.metInCircle(from.Instance, met)}
	if o, ok := d.handed[key]; ok {
		return o
	}
	var o Outcome
	if d.circles()[from.Instance].size > largestCircle {
		o = becoming(Undecided, Listened(from.Instance))
	} else {
		met = append(slices.Clip(met), from.Instance)
		for _, l := range from.Instance.Listeners {
			for _, target := range l.Targets {
				o = o.better(d.handTo(from, l, target, met))
			}
		}
	}
	o = o.or(NoRoute)
	d.handed[key] = o
	return o
}

// HandTo is what one target of a listener gets of its services.
func (d *Decider) HandTo(balancer *estate.Interface, l estate.Listener, target *estate.Instance) Outcome {
	return d.handTo(balancer, l, target, []*estate.Instance{balancer.Instance})
}

// handTo is HandTo after some balancers have been passed.
func (d *Decider) handTo(balancer *estate.Interface, l estate.Listener, target *estate.Instance,
	met []*estate.Instance) Outcome {
	services := service.Of(l.Service)
	from, to, ok := handOver(balancer, target)
	if !ok || target.Kind == estate.Balancer && slices.Contains(met, target) {
		return becoming(NoRoute, services)
	}
	return askedFor(l, d.becomes(from, to, met))
}

// askedFor is what becomes of the services of a listener, given what becomes of them as they are
// handed on.
func askedFor(l estate.Listener, second Outcome) Outcome {
	services := service.Of(l.Service)
	var o Outcome
	for _, protocol := range service.Ported {
		if ports := services.Intersect(service.Of(service.Whole(protocol))); !ports.IsEmpty() {
			k := place(second.Of(service.PointOf(protocol, l.Port)))
			o[k] = o[k].Union(ports)
		}
	}
	rest := second.on(services.Minus(withPorts))
	for k := range o {
		o[k] = o[k].Union(rest[k])
	}
	return o
}

// handedPoint is the service as which a listener hands on.
func handedPoint(l estate.Listener, p service.Point) service.Point {
	if protocol, _ := p.Split(); service.HasPorts(protocol) {
		return service.PointOf(protocol, l.Port)
	}
	return p
}

// Listened are the services that a balancer listens to.
func Listened(balancer *estate.Instance) service.Set {
	specs := make([]service.Spec, len(balancer.Listeners))
	for k, l := range balancer.Listeners {
		specs[k] = l.Service
	}
	return service.Of(specs...)
}

// metInCircle names the passed balancers that are in the same circle as one.
func (d *Decider) metInCircle(balancer *estate.Instance, met []*estate.Instance) string {
	if len(met) == 0 {
		return ""
	}
	circles := d.circles()
	own := circles[balancer]
	if own.size < 2 {
		return ""
	}
	var names []string
	for _, m := range met {
		if circles[m].id == own.id {
			names = append(names, fmt.Sprintf("%p", m))
		}
	}
	slices.Sort(names)
	return strings.Join(names, " ")
}

// findCircles finds balancers that hand on to each other, as strongly connected components (Tarjan,
// "Depth-first search and linear graph algorithms", 1972).
func (x *index) findCircles() map[*estate.Instance]circle {
	f := circleFinder{number: make(map[*estate.Instance]int), low: make(map[*estate.Instance]int),
		found: make(map[*estate.Instance]circle)}
	for _, i := range x.estate.Instances {
		if i.Kind == estate.Balancer && f.number[i] == 0 {
			f.visit(i)
		}
	}
	return f.found
}

type circleFinder struct {
	number, low map[*estate.Instance]int
	stack       []*estate.Instance
	found       map[*estate.Instance]circle
}

func (f *circleFinder) visit(i *estate.Instance) {
	f.number[i] = len(f.number) + 1
	f.low[i] = f.number[i]
	f.stack = append(f.stack, i)
	for _, l := range i.Listeners {
		for _, target := range l.Targets {
			if target.Kind != estate.Balancer {
				continue
			}
			if _, done := f.found[target]; done {
				continue
			}
			if f.number[target] == 0 {
				f.visit(target)
				f.low[i] = min(f.low[i], f.low[target])
			} else {
				f.low[i] = min(f.low[i], f.number[target])
			}
		}
	}
	if f.low[i] != f.number[i] {
		return
	}
	k := slices.Index(f.stack, i)
	for _, member := range f.stack[k:] {
		f.found[member] = circle{f.number[i], len(f.stack) - k}
	}
	f.stack = f.stack[:k]
}
