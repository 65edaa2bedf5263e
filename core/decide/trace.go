package decide

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/count"
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
	NoRoute   Verdict = "no-route"  // no route, peering, public address or listener leads there
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
	Layer string // "way", "listener", "out", "in", "subnet out", "subnet in", "target"; before answers "answer "
	At    string // the instance whose filters are asked; empty for ways

	Direction estate.Direction // in which the filters of a layer are asked; empty for all other steps

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
	HandedOn    []Answer // of a balancer: one for each of its targets
}

// Why is the step that decided: the first one with the answer's verdict.
func (a Answer) Why() Step {
	for _, s := range a.Steps {
		if s.Verdict == a.Verdict && s.Layer != targetLayer {
			return s
		}
	}
	for _, next := range a.HandedOn {
		if next.Verdict == a.Verdict {
			return next.Why()
		}
	}
	for _, s := range a.Steps {
		if s.Verdict == a.Verdict {
			return s
		}
	}
	return Step{Verdict: a.Verdict}
}

// Trace decides one flow. The error says what is wrong with the question: an unknown end (with near
// names), both ends outside, ends of different families.
func (d *Decider) Trace(q Question) (Answer, error) {
	sources, err := d.locate(q.Source)
	if err != nil {
		return Answer{}, err
	}
	destinations, err := d.locate(q.Destination)
	if err != nil {
		return Answer{}, err
	}
	pairs, err := pairsFor(q, sources, destinations)
	if err != nil {
		return Answer{}, err
	}
	pair, err := choosePair(q, pairs, sources, destinations)
	if err != nil {
		return Answer{}, err
	}
	sourcePort := -1
	if q.SourcePort != nil {
		sourcePort = int(*q.SourcePort)
	}
	answer := d.flow(pair[0], pair[1], q.Service, sourcePort)
	if answer.Verdict == NoRoute {
		d.tellOtherWay(&answer, pairs, sourcePort)
	}
	return answer, nil
}

// tellOtherWay adds, to a flow without a route, whether it would pass by other addresses of the
// named instances.
func (d *Decider) tellOtherWay(answer *Answer, pairs [][2]End, sourcePort int) {
	const most = 256 // pairs that are tried
	k := slices.IndexFunc(answer.Steps, func(s Step) bool { return s.Verdict == NoRoute })
	if k < 0 {
		return
	}
	for _, p := range pairs[:min(most, len(pairs))] {
		if p[0] != answer.Source && p[1] != answer.Destination && len(pairs) > most {
			continue
		}
		if d.flow(p[0], p[1], answer.Service, sourcePort).Verdict == Passes {
			answer.Steps[k].Text += fmt.Sprintf("; from %s to %s it passes: ask for these addresses", p[0].Addr,
				p[1].Addr)
			return
		}
	}
}

// pairsFor are the pairs of ends that a question can mean: of one family, which must be able to
// carry its service.
func pairsFor(q Question, sources, destinations []End) ([][2]End, error) {
	if sources[0].Outside() && destinations[0].Outside() {
		return nil, fmt.Errorf("neither %s nor %s is on an interface of the estate: nothing here decides about them",
			q.Source, q.Destination)
	}
	protocol, _ := q.Service.Split()
	carries := func(e End) bool {
		return protocol != service.ICMP && protocol != service.ICMPv6 || e.Addr.Is4() == (protocol == service.ICMP)
	}
	var pairs [][2]End
	common := false
	for _, s := range sources {
		for _, t := range destinations {
			if s.Addr.Is4() != t.Addr.Is4() {
				continue
			}
			if common = true; carries(s) {
				pairs = append(pairs, [2]End{s, t})
			}
		}
	}
	switch {
	case !common:
		return nil, fmt.Errorf("%s and %s have no address family in common", q.Source, q.Destination)
	case len(pairs) == 0:
		return nil, fmt.Errorf("%s does not go over %s, the only family that both ends have: ask for %s",
			service.ProtocolName(protocol),
			map[uint8]string{service.ICMP: "IPv6", service.ICMPv6: "IPv4"}[protocol],
			map[uint8]string{service.ICMP: "icmpv6", service.ICMPv6: "icmp"}[protocol])
	}
	return pairs, nil
}

// choosePair picks the pair of ends that is meant: the first one. If several interfaces have the
// address, it is the one in the other end's network or in a network peered with that.
func choosePair(q Question, pairs [][2]End, sources, destinations []End) ([2]End, error) {
	near := func(p [2]End) bool {
		if p[0].Outside() || p[1].Outside() {
			return false
		}
		a, b := p[0].Interface.Subnet.Network, p[1].Interface.Subnet.Network
		return a == b || a.PeeredWith(b)
	}
	if i := slices.IndexFunc(pairs, near); i >= 0 && (several(sources) || several(destinations)) {
		return pairs[i], nil
	}
	for k, found := range [][]End{sources, destinations} {
		if _, err := netip.ParseAddr([]string{q.Source, q.Destination}[k]); err == nil && several(found) {
			var names []string
			for _, e := range found {
				names = append(names, e.Interface.Instance.Path())
			}
			return [2]End{}, fmt.Errorf("%s is the address of %s: say which by name", found[0].Addr,
				count.Some(names, 6))
		}
	}
	return pairs[0], nil
}

// several reports whether ends are several interfaces with the same address.
func several(ends []End) bool { return len(ends) > 1 && ends[0].Addr == ends[1].Addr }

// locate finds the ends that a text can mean: all addresses of an instance, private ones first, or
// the interfaces that have an address.
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

// ErrNoInstances says that an end was asked for by name in an estate without instances: only a
// survey has them.
var ErrNoInstances = errors.New("definitions name no instances")

func (d *Decider) noInstance(text string) error {
	if len(d.estate.Instances) == 0 {
		return fmt.Errorf("there is no instance called %q: %w", text, ErrNoInstances)
	}
	var names []string
	for _, i := range d.estate.Instances {
		names = append(names, i.Name)
		if strings.Contains(text, "/") {
			names = append(names, i.Path())
		}
	}
	if found := near.Several(text, names, 3); len(found) > 0 {
		return fmt.Errorf("there is no instance called %q: %s %s near", text, strings.Join(found, ", "),
			map[bool]string{true: "is", false: "are"}[len(found) == 1])
	}
	return fmt.Errorf("there is no instance called %q, and it is not an address", text)
}

// Flow decides one service between two ends of one family, from any source port.
func (d *Decider) Flow(src, dst End, p service.Point) Answer { return d.flow(src, dst, p, -1) }

func (d *Decider) flow(src, dst End, p service.Point, sourcePort int) Answer {
	room := mostHandedOn
	return d.follow(src, dst, p, sourcePort, nil, &room)
}

// mostHandedOn is the most flows from balancers to their targets that are told step by step; of
// further ones only the verdict is told.
const mostHandedOn = 100

// follow decides one flow after some balancers have been passed.
func (d *Decider) follow(src, dst End, p service.Point, sourcePort int, met []*estate.Instance, room *int) Answer {
	answer := Answer{Source: src, Destination: dst, Service: p}
	if !src.Outside() && !dst.Outside() && src.Interface.Instance == dst.Interface.Instance {
		answer.Steps = []Step{{Layer: "way", Verdict: Passes, Text: "an instance reaches itself unfiltered"}}
		answer.Verdict = Passes
		return answer
	}
	w := d.way(src, dst)
	var answers []func() Step
	meet := func(i *estate.Interface, direction estate.Direction, peer netip.Addr) {
		clients := d.clientsOn(w, i)
		if sourcePort >= 0 {
			clients = []estate.Ports{{From: uint16(sourcePort), To: uint16(sourcePort)}}
		}
		for _, l := range d.layers(i, w.inside) {
			step, state := d.step(l, i, direction, peer, p)
			answer.Steps = append(answer.Steps, step)
			if step.Verdict == Passes && !state {
				answers = append(answers, func() Step { return d.answerStep(l, i, direction, peer, p, clients) })
			}
		}
	}
	if !src.Outside() {
		meet(src.Interface, estate.Out, w.destination)
	}
	answer.Steps = append(answer.Steps, Step{Layer: "way", Verdict: w.verdict, Text: w.text})
	balancer := false
	if !dst.Outside() {
		balancer = dst.Interface.Instance.Kind == estate.Balancer
		if balancer && !Listened(dst.Interface.Instance).Contains(p) {
			balancer = false
			answer.Steps = append(answer.Steps,
				Step{Layer: "listener", At: dst.Interface.Instance.Name, Verdict: NoRoute,
					Text: fmt.Sprintf("%s has no listener for %s", dst.Interface.Instance.Name, p)})
		}
		if w.verdict == Undecided {
			if d.fromSomewhere(dst.Interface, w.sources).Of(p) == Stopped {
				answer.Steps = append(answer.Steps,
					Step{Layer: "in", At: dst.Interface.Instance.Name, Verdict: Stopped,
						Text: fmt.Sprintf("%s is let in from no public address that could come in", d.describe(p))})
			}
		} else {
			meet(dst.Interface, estate.In, w.source)
		}
	}
	if v := worst(answer.Steps); v == Passes {
		for _, ask := range answers {
			answer.Steps = append(answer.Steps, ask())
		}
	}
	answer.Verdict = worst(answer.Steps)
	if balancer {
		d.handOn(&answer, met, room)
	}
	return answer
}

// worst is the verdict of steps that must all pass: what is certain takes precedence over what is
// undecided.
func worst(steps []Step) Verdict {
	for _, v := range alongWay {
		if slices.ContainsFunc(steps, func(s Step) bool { return s.Verdict == v }) {
			return v
		}
	}
	return Passes
}

// targetLayer is the layer of the steps that tell the verdict of a flow to one target.
const targetLayer = "target"

// handOn follows a flow from a balancer to its targets. The verdict is the worse of that of the
// balancer's own filters and that of its best target.
func (d *Decider) handOn(answer *Answer, met []*estate.Instance, room *int) {
	balancer := answer.Destination.Interface
	verdict := d.handedOn(balancer, met).Of(answer.Service)
	whole := append(slices.Clip(met), balancer.Instance)
	told := false
	for _, l := range balancer.Instance.Listeners {
		if !service.Of(l.Service).Contains(answer.Service) {
			continue
		}
		for _, target := range l.Targets {
			told = true
			step := Step{Layer: targetLayer, At: target.Name}
			p := handedPoint(l, answer.Service)
			from, to, ok := handOver(balancer, target)
			switch {
			case !ok:
				step.Verdict, step.Text = NoRoute,
					fmt.Sprintf("%s and %s have no address family in common", balancer.Instance.Name, target.Name)
			case target.Kind == estate.Balancer && slices.Contains(whole, target):
				step.Verdict, step.Text = NoRoute,
					fmt.Sprintf("%s was met before: a balancer is not entered again", target.Name)
			default:
				step.Verdict = d.handTo(balancer, l, target, whole).Of(answer.Service)
				step.Text = fmt.Sprintf("%s hands it on to %s as %s", balancer.Instance.Name, to, p)
				if *room > 0 {
					*room--
					answer.HandedOn = append(answer.HandedOn, d.follow(from, to, p, -1, whole, room))
				}
			}
			answer.Steps = append(answer.Steps, step)
		}
	}
	switch {
	case !told:
		answer.Steps = append(answer.Steps,
			Step{Layer: targetLayer, At: balancer.Instance.Name, Verdict: NoRoute, Text: "the listener has no target"})
	case d.circles()[balancer.Instance].size > largestCircle:
		answer.Steps = append(answer.Steps,
			Step{Layer: targetLayer, At: balancer.Instance.Name, Verdict: Undecided,
				Text: fmt.Sprintf("%d balancers hand on to each other: nobody follows all their ways",
					d.circles()[balancer.Instance].size)})
	}
	answer.Verdict = worst([]Step{{Verdict: answer.Verdict}, {Verdict: verdict}})
}

// handOver are the ends of a balancer's own flow to a target: addresses of one family, private
// before public, IPv4 before IPv6.
func handOver(balancer *estate.Interface, target *estate.Instance) (from, to End, ok bool) {
	for _, six := range []bool{false, true} {
		own, has := balancer.Address(six)
		if !has {
			continue
		}
		for _, public := range []bool{false, true} {
			for _, i := range target.Interfaces {
				addrs := i.Private
				if public {
					addrs = i.Public
				}
				for _, a := range addrs {
					if a.Is6() == six {
						return End{balancer, own}, End{i, a}, true
					}
				}
			}
		}
	}
	return End{}, End{}, false
}

// Between is the set of services that pass from one end to another: see Becomes.
func (d *Decider) Between(src, dst End) service.Set { return d.Becomes(src, dst).With(Passes) }

// A ShutTarget is a target that a balancer does not reach: with its health probes, so that it is
// taken out of service, or with the requests that it hands on.
type ShutTarget struct {
	Balancer *estate.Instance
	Target   *estate.Instance
	Service  service.Spec
	Probe    bool   // the health probes do not arrive; else the requests don't
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
			if l.Probe != handed && !l.Service.Any && service.HasPorts(protocol) {
				shut = append(shut, d.shutTargets(balancer, l.Targets, handed, false)...)
			}
		}
	}
	return shut
}

func (d *Decider) shutTargets(balancer *estate.Instance, targets []*estate.Instance, spec service.Spec,
	probe bool) []ShutTarget {
	point, ok := service.Of(spec).First()
	if !ok {
		return nil
	}
	var shut []ShutTarget
	reached := make(map[string]bool) // by class of target
	for _, target := range targets {
		class := ""
		for _, i := range target.Interfaces {
			class += d.ClassOf(i) + ";"
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
		if len(answers) == 0 || slices.ContainsFunc(answers,
			func(a Answer) bool { return a.Verdict == Passes || a.Verdict == Undecided }) {
			// rules at the balancer that name single addresses distinguish targets of one class
			reached[class] = !byMember
			continue
		}
		shut = append(shut, ShutTarget{balancer, target, spec, probe, answers[0]})
	}
	return shut
}
