package decide

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/near"
	"isonomos/core/service"
)

// Verdict is the answer to whether a flow is let through.
type Verdict string

// The verdicts.
const (
	Passes    Verdict = "passes"
	Stopped   Verdict = "stopped"   // a filter does not admit it
	NoWay     Verdict = "no-way"    // no route, peering, public address or listener leads there
	OneWay    Verdict = "one-way"   // the request arrives, an answer is stopped
	Undecided Verdict = "undecided" // the survey does not say enough
)

// A Question asks for one flow. The ends are names or ids of instances, or addresses.
type Question struct {
	Source, Destination string
	Service             service.Point
	SourcePort          *uint16 // nil means any: all client ports must get their answers
}

// A Step is one thing that a flow meets on its way.
type Step struct {
	Layer   string // "way", "listener", "out", "in", "subnet out", "subnet in"; before answers "answer "
	At      string // the instance whose filters are asked; empty for ways
	Verdict Verdict
	Text    string        // how, or why not, in words
	Group   *estate.Group // the group that decided, if one did
	Rule    *estate.Rule  // the rule that decided, if one did
}

// An Answer is what became of a flow.
type Answer struct {
	Verdict     Verdict
	Source      End
	Destination End
	Service     service.Point
	Steps       []Step
	HandedOn    []Answer // from a balancer to each of its targets
}

// Why is the step that decided: the first of the verdict's kind.
func (a Answer) Why() Step {
	for _, s := range a.Steps {
		if s.Verdict == a.Verdict {
			return s
		}
	}
	for _, next := range a.HandedOn {
		if next.Verdict == a.Verdict {
			return next.Why()
		}
	}
	return Step{Verdict: a.Verdict}
}

// Trace decides one flow. The error says what is wrong with the question: an
// end that is not there (with near names), both ends outside, mixed families.
func (d *Decider) Trace(q Question) (Answer, error) {
	sources, err := d.locate(q.Source)
	if err != nil {
		return Answer{}, err
	}
	destinations, err := d.locate(q.Destination)
	if err != nil {
		return Answer{}, err
	}
	src, dst, err := chooseEnds(q, sources, destinations)
	if err != nil {
		return Answer{}, err
	}
	protocol, _ := q.Service.Split()
	if protocol == service.ICMP && src.Addr.Is6() || protocol == service.ICMPv6 && src.Addr.Is4() {
		return Answer{}, fmt.Errorf("%s does not go over %s: ask for %s", service.ProtocolName(protocol), familyName(src.Addr),
			map[uint8]string{service.ICMP: "icmpv6", service.ICMPv6: "icmp"}[protocol])
	}
	sourcePort := -1
	if q.SourcePort != nil {
		sourcePort = int(*q.SourcePort)
	}
	return d.flow(src, dst, q.Service, sourcePort), nil
}

// chooseEnds picks the pair of ends that is meant: the first of one family, and
// of several interfaces with one address the one whose network the other end is in.
func chooseEnds(q Question, sources, destinations []End) (src, dst End, err error) {
	var pairs [][2]End
	for _, s := range sources {
		for _, t := range destinations {
			if s.Addr.Is4() == t.Addr.Is4() {
				pairs = append(pairs, [2]End{s, t})
			}
		}
	}
	if len(pairs) == 0 {
		return End{}, End{}, fmt.Errorf("%s and %s have no address family in common", q.Source, q.Destination)
	}
	if sources[0].Outside() && destinations[0].Outside() {
		return End{}, End{}, fmt.Errorf("neither %s nor %s is on an interface of the estate: nothing here decides about them", q.Source, q.Destination)
	}
	near := func(p [2]End) bool {
		if p[0].Outside() || p[1].Outside() {
			return false
		}
		a, b := p[0].Interface.Subnet.Network, p[1].Interface.Subnet.Network
		return a == b || a.PeeredWith(b)
	}
	if i := slices.IndexFunc(pairs, near); i >= 0 {
		return pairs[i][0], pairs[i][1], nil
	}
	for k, found := range [][]End{sources, destinations} {
		if _, err := netip.ParseAddr([]string{q.Source, q.Destination}[k]); err == nil && len(found) > 1 {
			var names []string
			for _, e := range found {
				names = append(names, e.Interface.Instance.Path())
			}
			return End{}, End{}, fmt.Errorf("%s is the address of %s: say which by name", found[0].Addr, strings.Join(names, " and "))
		}
	}
	return pairs[0][0], pairs[0][1], nil
}

// locate finds the ends that a text can mean. An instance gives one end an
// address: private ones first, then public ones.
func (d *Decider) locate(text string) ([]End, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		if a.Is4In6() || a.Zone() != "" {
			return nil, fmt.Errorf("%s is not an address that a packet has: write a plain IPv4 or IPv6 address", text)
		}
		if found := d.byAddress()[a]; len(found) > 0 {
			ends := make([]End, len(found))
			for i, f := range found {
				ends[i] = End{f, a}
			}
			return ends, nil
		}
		return []End{{Addr: a}}, nil
	}
	found := d.byName()[text]
	switch len(found) {
	case 0:
		return nil, d.noInstance(text)
	case 1:
	default:
		var paths []string
		for _, i := range found {
			paths = append(paths, i.Path())
		}
		return nil, fmt.Errorf("several instances are called %q: say which with %s", text, strings.Join(paths, " or "))
	}
	var ends []End
	for _, public := range []bool{false, true} {
		for _, i := range found[0].Interfaces {
			addrs := i.Private
			if public {
				addrs = i.Public
			}
			for _, a := range addrs {
				ends = append(ends, End{i, a})
			}
		}
	}
	if len(ends) == 0 {
		return nil, fmt.Errorf("%s has no address", found[0].Path())
	}
	slices.SortStableFunc(ends, func(a, b End) int { return boolOrder(a.Addr.Is6()) - boolOrder(b.Addr.Is6()) })
	return ends, nil
}

func boolOrder(b bool) int {
	if b {
		return 1
	}
	return 0
}

func (d *Decider) noInstance(text string) error {
	if len(d.estate.Instances) == 0 {
		return fmt.Errorf("there is no instance called %q: definitions name no instances, give a survey with --survey FILE", text)
	}
	var names []string
	for _, i := range d.estate.Instances {
		names = append(names, i.Name)
		if strings.Contains(text, "/") {
			names = append(names, i.Path())
		}
	}
	if found := near.Several(text, names, 3); len(found) > 0 {
		return fmt.Errorf("there is no instance called %q: %s %s near", text, strings.Join(found, ", "), map[bool]string{true: "is", false: "are"}[len(found) == 1])
	}
	return fmt.Errorf("there is no instance called %q, and it is not an address", text)
}

// Flow decides one service from one end to another, from whichever source port.
// The ends have one family.
func (d *Decider) Flow(src, dst End, p service.Point) Answer { return d.flow(src, dst, p, -1) }

func (d *Decider) flow(src, dst End, p service.Point, sourcePort int) Answer {
	answer := Answer{Source: src, Destination: dst, Service: p}
	if !src.Outside() && !dst.Outside() && src.Interface.Instance == dst.Interface.Instance {
		answer.Steps = []Step{{Layer: "way", Verdict: Passes, Text: "an instance reaches itself unfiltered"}}
		answer.Verdict = Passes
		return answer
	}
	w := d.way(src, dst)
	inside := !src.Outside() && !dst.Outside() && src.Interface.Subnet == dst.Interface.Subnet && !dst.public()
	var answers []func() Step
	meet := func(i *estate.Interface, direction estate.Direction, peer netip.Addr) {
		for _, l := range d.layers(i, inside) {
			step, state := d.step(l, i, direction, peer, p)
			answer.Steps = append(answer.Steps, step)
			if step.Verdict == Passes && !state {
				answers = append(answers, func() Step { return d.answerStep(l, i, direction, peer, p, sourcePort) })
			}
		}
	}
	if !src.Outside() {
		meet(src.Interface, estate.Out, w.destination)
	}
	answer.Steps = append(answer.Steps, Step{Layer: "way", Verdict: w.verdict, Text: w.text})
	if !dst.Outside() {
		if !listens(dst.Interface).Contains(p) {
			answer.Steps = append(answer.Steps, Step{Layer: "listener", At: dst.Interface.Instance.Name, Verdict: NoWay, Text: fmt.Sprintf("%s has no listener for %s", dst.Interface.Instance.Name, p)})
		}
		meet(dst.Interface, estate.In, w.source)
	}
	if worst(answer.Steps) == Passes {
		for _, ask := range answers {
			answer.Steps = append(answer.Steps, ask())
		}
	}
	answer.Verdict = worst(answer.Steps)
	if answer.Verdict == Passes && !dst.Outside() && dst.Interface.Instance.Kind == estate.Balancer {
		d.handOn(&answer)
	}
	return answer
}

// worst is the verdict of steps that must all pass: no-way before undecided
// before stopped before one-way.
func worst(steps []Step) Verdict {
	for _, v := range []Verdict{NoWay, Undecided, Stopped, OneWay} {
		if slices.ContainsFunc(steps, func(s Step) bool { return s.Verdict == v }) {
			return v
		}
	}
	return Passes
}

// handOn follows a flow from a balancer to its targets. It passes if one of them
// is reached; else its verdict is that of the last target.
func (d *Decider) handOn(answer *Answer) {
	balancer := answer.Destination.Interface
	protocol, _ := answer.Service.Split()
	reached := false
	verdict := NoWay
	for _, l := range balancer.Instance.Listeners {
		if !service.Of(l.Service).Contains(answer.Service) {
			continue
		}
		for _, target := range l.Targets {
			from, to, ok := handOver(balancer, target)
			if !ok {
				answer.Steps = append(answer.Steps, Step{Layer: "listener", At: target.Name, Verdict: NoWay, Text: fmt.Sprintf("%s and %s have no address family in common", balancer.Instance.Name, target.Name)})
				continue
			}
			second := d.Flow(from, to, service.PointOf(protocol, l.Port))
			answer.HandedOn = append(answer.HandedOn, second)
			reached = reached || second.Verdict == Passes
			verdict = second.Verdict
		}
	}
	if !reached {
		if len(answer.HandedOn) == 0 {
			answer.Steps = append(answer.Steps, Step{Layer: "listener", At: balancer.Instance.Name, Verdict: NoWay, Text: "the listener has no target that can be reached"})
		}
		answer.Verdict = verdict
	}
}

// handOver are the ends of a balancer's own flow to a target: private addresses
// of one family, IPv4 first.
func handOver(balancer *estate.Interface, target *estate.Instance) (from, to End, ok bool) {
	for _, v6 := range []bool{false, true} {
		for _, i := range target.Interfaces {
			for _, a := range balancer.Private {
				for _, b := range i.Private {
					if a.Is6() == v6 && b.Is6() == v6 {
						return End{balancer, a}, End{i, b}, true
					}
				}
			}
		}
	}
	return End{}, End{}, false
}

// Between is the set of services that pass from one end to another, exactly:
// the way, then the filters at both ends. Balancers are met at their own filters.
func (d *Decider) Between(src, dst End) service.Set {
	if !src.Outside() && !dst.Outside() && src.Interface.Instance == dst.Interface.Instance {
		return service.All
	}
	w := d.way(src, dst)
	if w.verdict != Passes {
		return service.Set{}
	}
	passing := service.All.Minus(service.NotIPv6)
	if src.Addr.Is4() {
		passing = service.All.Minus(service.NotIPv4)
	}
	if d.unknown(src) || d.unknown(dst) {
		return service.Set{}
	}
	if !src.Outside() {
		passing = passing.Intersect(d.FilterTraffic(src.Interface, estate.Out).WithPeers(addr.Of(w.destination)).Services())
	}
	if !dst.Outside() {
		passing = passing.Intersect(listens(dst.Interface))
		passing = passing.Intersect(d.FilterTraffic(dst.Interface, estate.In).WithPeers(addr.Of(w.source)).Services())
	}
	return passing
}

// unknown reports whether an end's filters can't be decided.
func (d *Decider) unknown(e End) bool { return !e.Outside() && d.CantDecide(e.Interface) != "" }

// A ShutTarget is a target that a balancer does not reach: with its health
// probes, so that it is taken for ill, or with the requests that it hands on.
type ShutTarget struct {
	Balancer *estate.Instance
	Target   *estate.Instance
	Service  service.Spec
	Probe    bool   // it is the health probes that do not arrive
	Answer   Answer // what becomes of them
}

// ShutTargets are the targets of all balancers that are not reached, in the order
// of the estate. It costs a Flow for each balancer and class of targets.
func (d *Decider) ShutTargets() []ShutTarget {
	var shut []ShutTarget
	for _, balancer := range d.estate.Instances {
		for _, l := range balancer.Listeners {
			protocol := l.Service.Protocol
			handed := service.Ports(protocol, l.Port, l.Port)
			if l.Probe != (service.Spec{}) {
				shut = append(shut, d.shutTargets(balancer, l.Targets, l.Probe, true)...)
			}
			if l.Probe != handed && !l.Service.Any && (protocol == service.TCP || protocol == service.UDP) {
				shut = append(shut, d.shutTargets(balancer, l.Targets, handed, false)...)
			}
		}
	}
	return shut
}

func (d *Decider) shutTargets(balancer *estate.Instance, targets []*estate.Instance, spec service.Spec, probe bool) []ShutTarget {
	point, ok := service.Of(spec).First()
	if !ok {
		return nil
	}
	var shut []ShutTarget
	reached := make(map[string]bool) // by class of target
	for _, target := range targets {
		class := ""
		for _, i := range target.Interfaces {
			class += ClassOf(i) + ";"
		}
		if reached[class] {
			continue
		}
		var answers []Answer
		byMember := false
		for _, i := range balancer.Interfaces {
			if from, to, ok := handOver(i, target); ok {
				answers = append(answers, d.Flow(from, to, point))
				byMember = byMember || d.byMember(i)
			}
		}
		if len(answers) == 0 || slices.ContainsFunc(answers, func(a Answer) bool { return a.Verdict == Passes || a.Verdict == Undecided }) {
			reached[class] = !byMember // rules at the balancer that name single addresses tell targets apart
			continue
		}
		shut = append(shut, ShutTarget{balancer, target, spec, probe, answers[0]})
	}
	return shut
}
