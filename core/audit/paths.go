package audit

import (
	"fmt"
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// What only shows when both ends of a flow are looked at: stopped answers, empty references, shut
// probes, mixed stages.

var oneWay = Check{
	place: 160,
	Name:  "one-way",
	About: "a request is let through and its answer stopped, or only one end lets it through",
	Start: Medium,
	Doc: `Where no state is kept, the answers to what is let through are stopped; or a rule names a group as a
peer, its own too, and no member of that group has filters that let any of it through at the other
end. Either way the connection fails, and the rule looks as if it did not. Each group among several
peers is told by itself. A group without members, or without an address family in common, is left
out: there is no other end.`,
	Example:  "group wall for subnets in quay { admit https from everyone }      (and nothing lets the answers out)",
	Fix:      inWords("Let the answers back, or write both ends at once: connect A to B on SERVICE."),
	Controls: controlsOfUpkeep,
	group: func(l *look) []Finding {
		found := l.unanswered()
		for i := range l.rules {
			if r := &l.rules[i]; r.Action == estate.Admit && !r.BuiltIn {
				found = append(found, l.oneEnd(r)...)
			}
		}
		return found
	},
}

func init() { register(oneWay) }

// unanswered finds answers that are stopped by a group that keeps no state.
func (l *look) unanswered() []Finding {
	if l.group.Defined && l.group.For == estate.ForInstances && !l.stateless() || !l.group.Defined && !l.stateless() {
		return nil
	}
	attached := l.d.InterfacesOf(l.group)
	if len(attached) == 0 {
		return nil
	}
	var found []Finding
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		var lost traffic.Set
		asked := make(map[string]bool)
		for _, i := range attached {
			class := i.Subnet.Path() // class is all that makes a difference for a group at this interface
			if l.group.For == estate.ForInstances {
				class = l.d.ClassOf(i)
			}
			if !asked[class] {
				asked[class] = true
				lost = lost.Union(l.d.Unanswered(i, l.group, direction))
			}
		}
		if lost.IsEmpty() {
			continue
		}
		f := Finding{Direction: direction, Services: lost.Services(), Peers: lost.Peers(service.All),
			Fix: inWords("let the answers back: a trace shows where one is stopped")}
		for i := range l.rules {
			if r := &l.rules[i]; r.Direction == direction && r.Action == estate.Admit &&
				!r.traffic().Intersect(lost).IsEmpty() {
				f.Rules = append(f.Rules, r.Rule)
			}
		}
		verb := map[estate.Direction]string{estate.In: "let in", estate.Out: "let out"}[direction]
		f.Message = fmt.Sprintf("%s %s %s without state, and the answers are stopped", l.describe(f.Services),
			l.isAre(f.Services), verb)
		if len(f.Services.RunSpecs()) > 4 || f.Services.Equal(service.All) {
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

// oneEnd finds rules that refer to groups of which no member's own filters let through any of it.
func (l *look) oneEnd(r *ruleFacts) (found []Finding) {
	if !l.survey || l.group.For != estate.ForInstances || l.first == nil {
		return nil
	}
	for _, p := range r.Peers {
		other := p.Group
		if p.Kind == estate.PeerSelf {
			other = l.group
		}
		if p.Kind != estate.PeerGroup && p.Kind != estate.PeerSelf {
			continue
		}
		f, ok := l.oneEndWith(r, other)
		switch {
		case ok && len(found) == 0:
			found = append(found, f)
		case ok:
			found[0].Details = append(found[0].Details, "nor any of "+other.Path())
		}
	}
	return found
}

// oneEndWith is the finding of a rule and one group that it refers to.
func (l *look) oneEndWith(r *ruleFacts, other *estate.Group) (Finding, bool) {
	there := l.auditor.facts[other]
	if there == nil || there.first == nil {
		return Finding{}, false
	}
	if other == l.group && !slices.ContainsFunc(l.d.InterfacesOf(other),
		func(i *estate.Interface) bool { return i.Instance != l.first.Instance }) {
		return Finding{}, false // there is nobody at the other end
	}
	back := r.Direction.Opposite()
	if there.plain && (other.Network == l.group.Network ||
		decide.Dialect(other.Account).Layers != dialect.BothMustAdmit) && l.answers(there, back, r) {
		return Finding{}, false // the usual case
	}
	if !l.d.CanName(l.group, other) {
		return Finding{}, false // the check dangling tells of it
	}
	somebody := false // whether anybody has a family in common with a member, in which the services exist
	for _, i := range l.d.InterfacesOf(other) {
		members := l.d.Members(l.group)
		if other == l.group {
			members = members.Minus(addr.Of(i.Private...)) // traffic of an instance to itself is not filtered
		}
		var own addr.Set
		for _, a := range i.Private {
			own = own.Union(members.Only(addr.FamilyIn(a)))
		}
		if members = own; members.IsEmpty() || uncarried(members, r.services) {
			continue
		}
		somebody = true
		lets, sure := l.rulesLet(i, back, members, r)
		if !sure {
			lets = l.otherEndLets(i, back, members, r.services)
		}
		if lets {
			return Finding{}, false
		}
	}
	if !somebody {
		return Finding{}, false
	}
	f := Finding{Direction: r.Direction, Rules: []*estate.Rule{r.Rule}, Services: r.services, Peers: r.peers}
	if r.Direction == estate.In {
		f.Message = fmt.Sprintf("%q is one end only: no member of %s lets any of it out to here",
			r.Sentence(l.estate.Services), other.Path())
		f.Fix = inWords(fmt.Sprintf("write the other end: reach %s at %s, in %s; or delete this one",
			l.describe(r.services), peerOf(l.group, other), other.Name))
	} else {
		f.Message = fmt.Sprintf("%q is one end only: no member of %s lets any of it in from here",
			r.Sentence(l.estate.Services), other.Path())
		f.Fix = inWords(fmt.Sprintf("write the other end: admit %s from %s, in %s; or delete this one",
			l.describe(r.services), peerOf(l.group, other), other.Name))
	}
	return f, true
}

// peerOf names a group as a rule of another group, or of its own, would.
func peerOf(g, in *estate.Group) string {
	if g == in {
		return "self"
	}
	return "group " + g.Name
}

// answers reports whether a rule at the other end names all members of the group on services that
// exist in both families: then no pair is left out, and nothing has to be decided.
func (l *look) answers(there *facts, back estate.Direction, r *ruleFacts) bool {
	for k := range there.rules {
		x := &there.rules[k]
		if x.Direction != back || x.Action != estate.Admit || !x.services.Overlaps(r.services) {
			continue
		}
		if x.services.Overlaps(service.NotIPv4) || x.services.Overlaps(service.NotIPv6) {
			if common := x.services.Intersect(r.services); common.Minus(service.NotIPv4).Minus(
				service.NotIPv6).IsEmpty() {
				continue
			}
		}
		if p := &x.Peers[0]; len(x.Peers) == 1 && p.Kind == estate.PeerGroup && len(x.Except) == 0 {
			if p.Group == l.group && !p.V4Only && !p.V6Only {
				return true
			}
			continue // the members of other groups are mostly not members of this one
		}
		if l.d.Members(l.group).SubsetOf(x.peers) {
			return true
		}
	}
	return false
}

// rulesLet reports whether some rule at an interface lets through, to or from some of the members,
// some of the services of a rule of the group. It is only certain where sure is true: rules add up,
// and nothing else filters there.
func (l *look) rulesLet(i *estate.Interface, direction estate.Direction, members addr.Set, r *ruleFacts) (lets,
	sure bool) {
	if i.Unfiltered || i.Subnet.Network != l.first.Subnet.Network {
		return false, false
	}
	for _, g := range l.d.GroupsAt(i) {
		f := l.auditor.facts[g]
		if f == nil || !f.plain || f.layered {
			return false, false
		}
		for k := range f.rules {
			if x := &f.rules[k]; x.Direction == direction && x.Action == estate.Admit &&
				x.services.Overlaps(r.services) && x.peers.Overlaps(members) && x.carriesSome(members, r.services) {
				return true, true
			}
		}
	}
	return false, true
}

// otherEndLets reports whether the filters at an interface let some of the services through to or
// from some of the members. One example is tried first, then the exact sets.
func (l *look) otherEndLets(i *estate.Interface, direction estate.Direction, members addr.Set,
	services service.Set) bool {
	if point, ok := services.First(); ok {
		for _, own := range l.first.Private {
			if members.Contains(own) && !uncarried(addr.Of(own), service.Between(point, point)) &&
				l.d.Lets(i, direction, own, point) {
				return true
			}
		}
	}
	return !l.filterTraffic(i, direction).Intersect(traffic.Of(members, services)).IsEmpty()
}

var probeShut = Check{
	place: 90,
	Name:  "probe-shut",
	About: "a balancer does not reach its targets",
	Start: High,
	Doc: `The health probes of a balancer, or the requests that it hands on, do not reach a target: it will be
taken out of service, or requests will fail. It often happens when a group is narrowed to the
addresses in front of the balancer and the balancer itself is forgotten, or by a refusal of
everything.`,
	Example:  "admit https from list edge      (and nothing from the balancer)",
	Fix:      inWords("admit SERVICE from probes, or connect BALANCER to TARGETS on SERVICE."),
	Controls: controlsOfUpkeep,
	whole:    shutProbes,
}

func init() { register(probeShut) }

// shutProbes finds, for each group that stops health probes, the balancers' targets that they don't
// reach.
func shutProbes(w *worker) []Finding {
	shut := w.d.ShutTargets()
	var found []Finding
	at := make(map[string]int)
	for _, s := range shut {
		why := s.Answer.Why()
		g := why.Group
		if attached := w.d.GroupsAt(s.Answer.Destination.Interface); g == nil && len(attached) > 0 {
			g = attached[0]
		}
		f := Finding{Group: g, Account: s.Target.Account, Services: service.Of(s.Service), Direction: estate.In}
		if g == nil {
			f.Subnet = s.Answer.Destination.Interface.Subnet
		} else if why.Direction == estate.Out {
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
			f.Message = fmt.Sprintf("%s %s do not arrive: %q stops them", what, s.Balancer.Name,
				why.Rule.Sentence(w.estate.Services))
		}
		f.Fix = inWords(fmt.Sprintf("admit %s from probes", s.Service))
		if f.Direction == estate.Out {
			f.Fix = inWords(fmt.Sprintf("let it out: reach %s at the targets' group", s.Service))
		}
		at[key] = len(found)
		found = append(found, f)
	}
	return found
}

var unfiltered = Check{
	place: 60,
	Name:  "unfiltered",
	About: "an interface has no filter at all",
	Start: High,
	Moves: withArrival,
	Doc: `Filtering is switched off at an interface, or it has no group in a cloud where everything passes
then; and the groups of its subnet, if there are any, let in all services from everybody over each
family that the interface has. What the interface's own groups let in is told by other checks,
however much it is.`,
	Example:  "an interface with \"filtered\": false",
	Fix:      inWords("Switch filtering on, or attach a group: cover it in a definition."),
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
					found = append(found, Finding{Account: instance.Account, Subnet: i.Subnet, Direction: estate.In,
						Services: service.All, Arrival: Nowhere, WhyNot: why,
						Fix: inWords("attach a group to them, or switch filtering on")})
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

func init() { register(unfiltered) }

// interfaceWords names the first few of some interfaces' instances.
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
	switch {
	case i.Unfiltered:
		return d.Layers != dialect.BothMustAdmit || w.openAround(i)
	case d.Layers == dialect.BothMustAdmit && d.Nothing == dialect.Passes:
		return len(w.d.GroupsAt(i)) == 0 && w.openAround(i)
	}
	return false
}

// openAround reports whether the groups of an interface's subnet let in everything, in each family
// that the interface has.
func (w *worker) openAround(i *estate.Interface) bool {
	for _, family := range []addr.Family{addr.IPv4, addr.IPv6} {
		if _, has := i.Address(family == addr.IPv6); !has {
			continue
		}
		all := traffic.Of(addr.Everyone.Only(family), service.All)
		if slices.ContainsFunc(w.d.GroupsOfSubnet(i.Subnet),
			func(g *estate.Group) bool { return !all.SubsetOf(w.d.GroupTraffic(g, estate.In)) }) {
			return false
		}
	}
	return true
}

// stageRank is the index of an interface's stage, or -1.
func stageRank(i *estate.Interface) int { return estate.InterfacePlace(i).StageRank() }

var stageCrossing = Check{
	place: 140,
	Name:  "stage-crossing",
	About: "a lower stage reaches a higher one on administration or data",
	Start: Medium,
	Moves: "one up where it arrives at production",
	Doc: `Instances of a lower stage (lab, development, test, staging, production, by the label stage, their
own or inherited) reach a higher one on administration or data services: within a network, over a
peering, or by public addresses that a rule lets in. Every member of the group that the rule stands
in counts, and everybody whose address the rule names, by itself or within a group, a list or a
range; what is open to all is told by other checks. A trial with production's data is a leak, and a
mistake in the trial is one in production.`,
	Example:  "group berth-ledger in production { admit berth-db from group trial/roster-site }",
	Fix:      inWords("Give the lower stage data of its own, or an exemption with an end."),
	Controls: controlsOfParting,
	group: func(l *look) []Finding {
		if l.group.For != estate.ForInstances || !l.survey {
			return nil
		}
		members, top := l.d.InterfacesOf(l.group), 0
		for _, i := range members {
			top = max(top, stageRank(i))
		}
		if top == 0 {
			return nil
		}
		var found []Finding
		for _, r := range append(l.fixedIn(), pointers(l.rules)...) {
			if r.Direction != estate.In || r.Action != estate.Admit || !r.services.Overlaps(l.grave) ||
				l.isOpen(r.peers) {
				continue
			}
			if c := l.crossing(r, members, top); len(c.to) > 0 {
				f := Finding{Direction: estate.In, Services: c.services, Peers: r.peers, Arrival: Arrives,
					Instances: c.to}
				if r.BuiltIn {
					f.Fix = inWords(fmt.Sprintf("the rule that lets it in is built in: refuse it with a rule of "+
						"a lower rank (%s)", r.Sentence(l.estate.Services)))
				} else {
					f.Fix, f.Narrow = l.narrowing(), narrowable(l.group)
				}
				if slices.ContainsFunc(l.rules, func(x ruleFacts) bool { return x.Rule == r.Rule }) {
					f.Rules = []*estate.Rule{r.Rule}
				}
				f.Example = c.example
				f.Example.ByRule = r.Rule
				f.Message = fmt.Sprintf("%s, of stage %s, reaches %s, of stage %s, on %s", c.from[0].Instance.Path(),
					stage(c.from[0]), c.to[0].Instance.Name, stage(c.to[0]), l.describe(c.services))
				if more := c.from[1:]; len(more) > 0 {
					f.Details = []string{"so do " + interfaceWords(more)}
				}
				found = append(found, f)
			}
		}
		return found
	},
}

func init() { register(stageCrossing) }

func pointers(rules []ruleFacts) []*ruleFacts {
	all := make([]*ruleFacts, len(rules))
	for i := range rules {
		all[i] = &rules[i]
	}
	return all
}

// fixedIn are the built-in inward rules of the group that its survey does not list.
func (l *look) fixedIn() []*ruleFacts {
	if decide.Filter(l.group).Fixed == nil {
		return nil
	}
	var fixed []*ruleFacts
	for _, r := range l.d.InOrder(l.group, estate.In) {
		if r.BuiltIn && !slices.ContainsFunc(l.rules, func(x ruleFacts) bool { return x.Rule == r }) {
			f := &ruleFacts{Rule: r, services: l.servicesOf(r.Services)}
			f.peers, f.four, f.six = l.peersOf(l.group, r)
			fixed = append(fixed, f)
		}
	}
	return fixed
}

// A stagedEnd is an address of an interface whose stage is known.
type stagedEnd struct {
	at   netip.Addr
	of   *estate.Interface
	rank int
}

// A stagedNetwork holds the ends of a network, and the lowest of their stages.
type stagedNetwork struct {
	ends   []stagedEnd
	lowest int
}

// findStages collects the addresses of interfaces with a stage below the highest: private ones by
// network; public ones, and those of subnets on a private line, sorted by address.
func (a *auditor) findStages() {
	a.staged = make(map[*estate.Network]*stagedNetwork)
	for _, instance := range a.estate.Instances {
		for _, i := range instance.Interfaces {
			rank := stageRank(i)
			if rank < 0 || rank == len(estate.Stages)-1 {
				continue
			}
			n := a.staged[i.Subnet.Network]
			if n == nil {
				n = &stagedNetwork{lowest: rank}
				a.staged[i.Subnet.Network] = n
			}
			n.lowest = min(n.lowest, rank)
			for _, at := range i.Private {
				n.ends = append(n.ends, stagedEnd{at, i, rank})
				if addr.Public.Contains(at) || decide.OnLine(i.Subnet) {
					a.stagedFar = append(a.stagedFar, stagedEnd{at, i, rank})
				}
			}
			for _, at := range outside(i) {
				a.stagedFar = append(a.stagedFar, stagedEnd{at, i, rank})
			}
		}
	}
	slices.SortStableFunc(a.stagedFar, func(x, y stagedEnd) int { return x.at.Compare(y.at) })
}

// outside are the addresses by which an interface is seen outside: its public ones, and those of
// the address translation on its way.
func outside(i *estate.Interface) []netip.Addr {
	seen := slices.Clip(i.Public)
	for _, r := range i.Subnet.Routes {
		if r.Via == estate.ViaNAT && r.Address.IsValid() {
			seen = append(seen, r.Address)
		}
	}
	return seen
}

// lower are the interfaces of a lower stage that a rule names and that may reach members of its
// group: in their networks, in peered ones, over a private line, or by public addresses.
func (l *look) lower(r *ruleFacts, members []*estate.Interface, top int) []*estate.Interface {
	var found []*estate.Interface
	seen := make(map[*estate.Interface]bool)
	take := func(e stagedEnd) {
		if e.rank < top && !seen[e.of] {
			seen[e.of] = true
			found = append(found, e.of)
		}
	}
	looked := make(map[*estate.Network]bool)
	for _, i := range members {
		own := i.Subnet.Network
		if looked[own] {
			continue
		}
		for _, n := range append([]*estate.Network{own}, own.Peered...) {
			if looked[n] || n != own && !n.PeeredWith(own) {
				continue
			}
			looked[n] = true
			if s := l.staged[n]; s != nil && s.lowest < top {
				for _, e := range s.ends {
					if e.rank < top && r.peers.Contains(e.at) {
						take(e)
					}
				}
			}
		}
	}
	onLine := slices.ContainsFunc(members, func(i *estate.Interface) bool { return decide.OnLine(i.Subnet) })
	if len(l.stagedFar) > 0 && (onLine || r.peers.Overlaps(addr.Public)) {
		for _, p := range r.peers.Prefixes() {
			k, _ := slices.BinarySearchFunc(l.stagedFar, p.Addr(),
				func(e stagedEnd, a netip.Addr) int { return e.at.Compare(a) })
			for ; k < len(l.stagedFar) && p.Contains(l.stagedFar[k].at); k++ {
				take(l.stagedFar[k])
			}
		}
	}
	return found
}

// crossings are the pairs of interfaces of a lower and a higher stage between which a rule lets
// traffic pass.
type crossings struct {
	from, to []*estate.Interface // from[0] and to[0] are a pair, and so on
	services service.Set
	example  *Example // a flow of the first pair
}

// crossing finds the pairs between which a rule lets grave services pass. Of each two classes of
// interfaces one pair is decided, once for all rules of the group.
func (l *look) crossing(r *ruleFacts, members []*estate.Interface, top int) (c crossings) {
	candidates := l.lower(r, members, top)
	if len(candidates) == 0 {
		return c
	}
	reached, reaches := make(map[*estate.Interface]bool), make(map[*estate.Interface]bool)
	for _, from := range candidates {
		rank := stageRank(from)
		for _, to := range members {
			if stageRank(to) <= rank {
				continue
			}
			key := l.d.PairClass(from, to)
			all, decided := l.pairs[key]
			if !decided {
				all = l.between(from, to)
				l.pairs[key] = all
			}
			var passing service.Set
			for _, p := range all {
				set := p.services.Intersect(r.services)
				if set.IsEmpty() || !p.namedBy(r, from, to) {
					continue
				}
				passing = passing.Union(set)
				if c.example == nil {
					point, _ := set.First()
					c.example = &Example{Peer: traffic.Witness{Peer: from.Private[p.from], Service: point}, At: to,
						Own: slices.Concat(to.Private, to.Public)[p.to], Inbound: true}
				}
			}
			if passing.IsEmpty() {
				continue
			}
			c.services = c.services.Union(passing)
			if !reaches[from] {
				reaches[from] = true
				c.from = append(c.from, from)
			}
			if !reached[to] {
				reached[to] = true
				c.to = append(c.to, to)
			}
		}
	}
	return c
}

// A passage is what passes between two addresses of two interfaces. Each address is given by its
// index among the private and public ones.
type passage struct {
	from, to int
	services service.Set
}

// between finds the passages of grave services from one interface to another.
func (l *look) between(from, to *estate.Interface) []passage {
	var all []passage
	for k, there := range slices.Concat(to.Private, to.Public) {
		for n, here := range from.Private {
			if here.Is6() != there.Is6() {
				continue
			}
			if set := l.d.Between(decide.End{Interface: from, Addr: here},
				decide.End{Interface: to, Addr: there}).Intersect(l.grave); !set.IsEmpty() {
				all = append(all, passage{n, k, set})
			}
		}
	}
	return all
}

// namedBy reports whether a rule names an address by which the source is seen.
func (p passage) namedBy(r *ruleFacts, from, to *estate.Interface) bool {
	here, there := from.Private[p.from], slices.Concat(to.Private, to.Public)[p.to]
	if !addr.Public.Contains(there) {
		return r.peers.Contains(here)
	}
	asItself := addr.Public.Contains(here) || decide.OnLine(from.Subnet)
	return asItself && r.peers.Contains(here) || slices.ContainsFunc(outside(from), r.peers.Contains)
}
