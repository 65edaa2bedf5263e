package audit

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// What a way through the estate shows: both ends, answers, probes, stages.

var oneWay = Check{
	Name:  "one-way",
	About: "a request is let through and its answer stopped, or one end only lets it through",
	Start: Medium,
	Doc: `Where no state is kept, the answers to what is let through are stopped; or a rule names a group as its
peer, and no member of that group has filters that let any of it through at the other end. Either
way the connection fails, and the rule looks as if it did not.`,
	Example:  "group wall for subnets in quay { admit https from everyone }      (and nothing lets the answers out)",
	WayOut:   "Let the answers back, or write both ends at once: connect A to B on SERVICE.",
	Controls: controlsOfUpkeep,
	group: func(l *look) []Finding {
		found := l.unanswered()
		for i := range l.rules {
			if r := &l.rules[i]; r.Action == estate.Admit {
				if f, ok := l.oneEnd(r); ok {
					found = append(found, f)
				}
			}
		}
		return found
	},
}

// unanswered are the findings of a group that keeps no state and stops answers.
func (l *look) unanswered() []Finding {
	if l.group.Defined && l.group.For == estate.ForInstances && !l.stateless() || !l.group.Defined && !l.stateless() {
		return nil
	}
	worn := l.d.Wearers(l.group)
	if len(worn) == 0 {
		return nil
	}
	var found []Finding
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		var lost traffic.Set
		asked := make(map[string]bool)
		for _, i := range worn {
			class := i.Subnet.Path() // all that counts for a group around it
			if l.group.For == estate.ForInstances {
				class = decide.ClassOf(i)
			}
			if !asked[class] {
				asked[class] = true
				lost = lost.Union(l.d.Unanswered(i, l.group, direction))
			}
		}
		if lost.IsEmpty() {
			continue
		}
		f := Finding{Direction: direction, Services: lost.Services(), Peers: lost.Peers(service.All), WayOut: inWords("let the answers back: a trace shows where one is stopped")}
		for i := range l.rules {
			if r := &l.rules[i]; r.Direction == direction && r.Action == estate.Admit && !r.traffic().Intersect(lost).IsEmpty() {
				f.Rules = append(f.Rules, r.Rule)
			}
		}
		verb := map[estate.Direction]string{estate.In: "let in", estate.Out: "let out"}[direction]
		f.Message = fmt.Sprintf("%s %s %s without state, and the answers are stopped", l.describe(f.Services), l.isAre(f.Services), verb)
		if len(f.Services.Specs()) > 4 || f.Services.Equal(service.All) {
			f.Message = fmt.Sprintf("much is %s without state whose answers are stopped", verb)
		}
		found = append(found, f)
	}
	return found
}

// stateless reports whether some of a group's rules keep no state.
func (l *look) stateless() bool {
	switch decide.Filter(l.group).State {
	case dialect.StateNone:
		return !l.group.Defined
	case dialect.StateByRule:
		return slices.ContainsFunc(l.rules, func(r ruleFacts) bool { return r.Stateless })
	case dialect.StateByGroup:
		return l.group.Stateless
	}
	return false
}

// oneEnd is the finding of a rule that names a group of which no member lets
// anything of it through at its own end.
func (l *look) oneEnd(r *ruleFacts) (Finding, bool) {
	if len(r.Peers) != 1 || r.Peers[0].Kind != estate.PeerGroup || !l.survey || l.group.For != estate.ForInstances {
		return Finding{}, false
	}
	other := r.Peers[0].Group
	there := l.auditor.facts[other]
	if l.first == nil || there == nil || there.first == nil {
		return Finding{}, false
	}
	back := r.Direction.Opposite()
	if there.plain && (other.Network == l.group.Network || decide.Dialect(other.Account).Layers != dialect.BothMustAdmit) && l.answers(there, back, r) {
		return Finding{}, false // the usual case
	}
	if !l.d.CanName(l.group, other) {
		return Finding{}, false // dangling tells of it
	}
	for _, i := range l.d.Wearers(other) {
		lets, sure := l.rulesLet(i, back, r)
		if !sure {
			lets = l.otherEndLets(i, back, l.d.Members(l.group), r.services)
		}
		if lets {
			return Finding{}, false
		}
	}
	f := Finding{Direction: r.Direction, Rules: []*estate.Rule{r.Rule}, Services: r.services, Peers: r.peers}
	if r.Direction == estate.In {
		f.Message = fmt.Sprintf("%q is one end only: no member of %s lets any of it out to here", r.Sentence(l.estate.Services), other.Path())
		f.WayOut = inWords(fmt.Sprintf("write the other end: reach %s at group %s, in %s; or delete this one", l.describe(r.services), l.group.Name, other.Name))
	} else {
		f.Message = fmt.Sprintf("%q is one end only: no member of %s lets any of it in from here", r.Sentence(l.estate.Services), other.Path())
		f.WayOut = inWords(fmt.Sprintf("write the other end: admit %s from group %s, in %s; or delete this one", l.describe(r.services), l.group.Name, other.Name))
	}
	return f, true
}

// answers reports whether a rule at the other end names the group, or addresses
// of its members, on some of the services of its own rule.
func (l *look) answers(there *facts, back estate.Direction, r *ruleFacts) bool {
	for k := range there.rules {
		x := &there.rules[k]
		if x.Direction != back || x.Action != estate.Admit || !x.services.Overlaps(r.services) {
			continue
		}
		if p := &x.Peers[0]; len(x.Peers) == 1 && p.Kind == estate.PeerGroup && len(x.Except) == 0 {
			if p.Group == l.group {
				return true
			}
			continue // members of others are mostly none of its own
		}
		if x.peers.Overlaps(l.d.Members(l.group)) {
			return true
		}
	}
	return false
}

// rulesLet reports whether some rule at an interface lets through some of what a
// rule of the group speaks of, and whether that is all there is to it: it is where
// rules only add up and nothing else stops anything.
func (l *look) rulesLet(i *estate.Interface, direction estate.Direction, r *ruleFacts) (lets, sure bool) {
	if i.Unfiltered || i.Subnet.Network != l.first.Subnet.Network {
		return false, false
	}
	members := l.d.Members(l.group)
	for _, g := range l.d.Worn(i) {
		f := l.auditor.facts[g]
		if f == nil || !f.plain || f.layered {
			return false, false
		}
		for k := range f.rules {
			if x := &f.rules[k]; x.Direction == direction && x.Action == estate.Admit && x.services.Overlaps(r.services) && x.peers.Overlaps(members) {
				return true, true
			}
		}
	}
	return false, true
}

// otherEndLets reports whether the filters at an interface let some of the
// services through to or from some of the members: by one example, which mostly
// tells, else exactly.
func (l *look) otherEndLets(i *estate.Interface, direction estate.Direction, members addr.Set, services service.Set) bool {
	if i.Unfiltered {
		return true
	}
	if point, ok := services.First(); ok {
		for _, own := range l.first.Private {
			if l.d.Lets(i, direction, own, point) {
				return true
			}
		}
	}
	return !l.filterTraffic(i, direction).Intersect(traffic.Of(members, services)).IsEmpty()
}

var probeShut = Check{
	Name:  "probe-shut",
	About: "a balancer does not reach its targets",
	Start: High,
	Doc: `The health probes of a balancer, or the requests that it hands on, do not reach a target: it will be
taken for ill, or requests will fail. It often happens when a group is narrowed to the addresses in
front of the balancer and the balancer itself is forgotten, or by a refusal of everything.`,
	Example:  "admit https from list edge      (and nothing from the balancer)",
	WayOut:   "admit SERVICE from probes, or connect BALANCER to TARGETS on SERVICE.",
	Controls: controlsOfUpkeep,
	whole:    shutProbes,
}

// shutProbes tells, for each group that shuts out, of the balancers' targets that are not reached.
func shutProbes(w *worker) []Finding {
	shut := w.d.ShutTargets()
	var found []Finding
	at := make(map[string]int)
	for _, s := range shut {
		why := s.Answer.Why()
		g := why.Group
		if worn := w.d.Worn(s.Answer.Destination.Interface); g == nil && len(worn) > 0 {
			g = worn[0]
		}
		f := Finding{Group: g, Account: s.Target.Account, Services: service.Of(s.Service), Direction: estate.In}
		if g == nil {
			f.Subnet = s.Answer.Destination.Interface.Subnet
		} else if strings.Contains(why.Layer, "out") {
			f.Direction = estate.Out
		}
		if why.Rule != nil {
			f.Rules = []*estate.Rule{why.Rule}
		}
		what := "the health probes (" + s.Service.String() + ") of"
		if !s.Probe {
			what = "requests (" + s.Service.String() + ") that are handed on by"
		}
		key := fmt.Sprintf("%s %p %p %v", f.Direction, g, s.Balancer, s.Probe)
		if i, ok := at[key]; ok {
			found[i].Instances = append(found[i].Instances, s.Answer.Destination.Interface)
			continue
		}
		f.Instances = []*estate.Interface{s.Answer.Destination.Interface}
		f.Message = fmt.Sprintf("%s %s do not arrive: %s", what, s.Balancer.Name, why.Text)
		if why.Rule != nil {
			f.Message = fmt.Sprintf("%s %s do not arrive: %q stops them", what, s.Balancer.Name, why.Rule.Sentence(w.estate.Services))
		}
		f.WayOut = inWords(fmt.Sprintf("admit %s from probes", s.Service))
		if f.Direction == estate.Out {
			f.WayOut = inWords(fmt.Sprintf("let it out: reach %s at the targets' group", s.Service))
		}
		at[key] = len(found)
		found = append(found, f)
	}
	return found
}

var unfiltered = Check{
	Name:  "unfiltered",
	About: "an interface has no filter at all",
	Start: High,
	Doc: `Filtering is switched off at an interface and nothing around its subnet filters instead; or the
interface and its subnet have no group in a cloud where then everything passes.`,
	Example:  "an interface with \"filtered\": false",
	WayOut:   "Switch filtering on, or attach a group: cover it in a definition.",
	Controls: controlsOfOpenness,
	whole: func(w *worker) []Finding {
		var found []Finding
		at := make(map[*estate.Subnet]int)
		for _, instance := range w.estate.Instances {
			for _, i := range instance.Interfaces {
				if !w.noFilter(i) {
					continue
				}
				k, ok := at[i.Subnet]
				if !ok {
					_, why := w.whyNot(i, estate.In, traffic.All)
					k = len(found)
					at[i.Subnet] = k
					found = append(found, Finding{Account: instance.Account, Subnet: i.Subnet, Direction: estate.In, Services: service.All, Arrival: Nowhere, WhyNot: why, WayOut: inWords("attach a group to them, or switch filtering on")})
				}
				f := &found[k]
				example := w.meets(i, estate.In, traffic.All)
				switch {
				case example != nil && f.Arrival != Arrives:
					f.Arrival, f.WhyNot, f.Instances, f.Example = Arrives, "", []*estate.Interface{i}, example
				case example != nil || f.Arrival == Nowhere:
					f.Instances = append(f.Instances, i)
				}
			}
		}
		for k := range found {
			f := &found[k]
			f.Message = fmt.Sprintf("nothing filters at %s", interfaceWords(f.Instances))
		}
		return found
	},
}

// interfaceWords names a few instances.
func interfaceWords(list []*estate.Interface) string {
	var names []string
	for _, i := range list {
		names = append(names, i.Instance.Name)
	}
	return count.Some(names, 4)
}

// noFilter reports whether nothing filters at an interface.
func (w *worker) noFilter(i *estate.Interface) bool {
	d := decide.Dialect(i.Instance.Account)
	around := slices.ContainsFunc(w.d.WornBySubnet(i.Subnet), func(g *estate.Group) bool { return !g.Default })
	switch {
	case i.Unfiltered:
		return !around || d.Layers != dialect.BothMustAdmit
	case d.Layers == dialect.BothMustAdmit && d.Nothing == dialect.Passes:
		return len(w.d.Worn(i)) == 0 && !around
	}
	return false
}

// stageRank is the place of an interface's stage among the stages, or -1.
func stageRank(i *estate.Interface) int { return estate.InterfacePlace(i).StageRank() }

var stageCrossing = Check{
	Name:  "stage-crossing",
	About: "a lower stage reaches a higher one on administration or data",
	Start: Medium,
	Doc: `Instances of a lower stage (lab, development, test, staging, production, by the label stage) reach a
higher one on administration or data services: over their networks' peering, or by public addresses
that a rule names. A trial with production's data is a leak, and a mistake in the trial is one in
production.`,
	Example:  "group berth-ledger in production { admit berth-db from group trial/roster-site }",
	WayOut:   "Give the lower stage data of its own, or an exemption with an end.",
	Controls: controlsOfParting,
	group: func(l *look) []Finding {
		rank := estate.GroupPlace(l.group).StageRank()
		if rank <= 0 || l.group.For != estate.ForInstances || !l.survey {
			return nil
		}
		var found []Finding
		for i := range l.rules {
			r := &l.rules[i]
			if r.Direction != estate.In || r.Action != estate.Admit || !r.services.Overlaps(l.grave) || l.isOpen(r.peers) { // what is open to all is other checks'
				continue
			}
			if from, to, passing := l.crossing(r, rank); from != nil {
				f := Finding{Direction: estate.In, Rules: []*estate.Rule{r.Rule}, Services: passing, Peers: r.peers, Arrival: Arrives, Instances: []*estate.Interface{to}, WayOut: l.narrowing(), Narrow: narrowable(l.group)}
				f.Message = fmt.Sprintf("%s, of stage %s, reaches %s, of stage %s, on %s", from.Instance.Path(), stage(from), to.Instance.Name, stage(to), l.describe(passing))
				found = append(found, f)
			}
		}
		return found
	},
}

// crossing is a pair of interfaces, the first of a lower stage, between which a
// rule lets grave services pass; nil if there is none.
func (l *look) crossing(r *ruleFacts, rank int) (from, to *estate.Interface, passing service.Set) {
	var tried int
	try := func(candidates []*estate.Interface) bool {
		for _, i := range candidates {
			if s := stageRank(i); s < 0 || s >= rank {
				continue
			}
			for _, own := range l.d.Wearers(l.group) {
				if stageRank(own) < rank || tried > 256 {
					continue
				}
				tried++
				if p := l.between(i, own).Intersect(l.grave).Intersect(r.services); !p.IsEmpty() {
					from, to, passing = i, own, p
					return true
				}
			}
		}
		return false
	}
	for _, p := range r.Peers {
		switch {
		case p.Kind == estate.PeerGroup:
			if len(l.d.Wearers(p.Group)) > 0 && try(l.d.Wearers(p.Group)[:1]) {
				return from, to, passing
			}
		case p.Kind == estate.PeerRange && p.Range.IsSingleIP():
			if try(l.d.At(p.Range.Addr())) {
				return from, to, passing
			}
		case l.group.Network != nil:
			for _, n := range l.group.Network.Peered {
				if s := estate.NetworkPlace(n).StageRank(); s >= 0 && s < rank && n.PeeredWith(l.group.Network) && r.peers.Overlaps(addr.OfPrefixes(n.Ranges...)) && try(l.within(n, r.peers)) {
					return from, to, passing
				}
			}
		}
	}
	return nil, nil, service.Set{}
}

// within are interfaces of a network whose addresses are among the peers.
func (l *look) within(n *estate.Network, peers addr.Set) []*estate.Interface {
	var found []*estate.Interface
	for _, s := range n.Subnets {
		for _, i := range l.d.InSubnet(s) {
			if slices.ContainsFunc(i.Private, peers.Contains) {
				found = append(found, i)
			}
		}
	}
	return found
}

// between are the services that pass from one interface to another, by private
// or else by public addresses.
func (l *look) between(from, to *estate.Interface) service.Set {
	var sets []service.Set
	for _, destinations := range [][]netip.Addr{to.Private, to.Public} {
		for _, there := range destinations {
			if here, ok := from.Address(there.Is6()); ok {
				sets = append(sets, l.d.Between(decide.End{Interface: from, Addr: here}, decide.End{Interface: to, Addr: there}))
			}
		}
	}
	return service.UnionAll(sets...)
}
