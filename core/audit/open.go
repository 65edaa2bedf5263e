package audit

import (
	"fmt"
	"math"
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

// What is open to strangers, and what is wide.

// describe names a set of services for a sentence, and shortens long ones.
func (w *worker) describe(s service.Set) string { return w.told(s).words }

func (w *worker) told(s service.Set) toldServices {
	key := s.Hash()
	told, ok := w.toldServices[key]
	if !ok || !told.set.Equal(s) {
		told.set = s
		told.words, told.several = w.estate.Services.Subject(s)
		w.toldServices[key] = told
	}
	return told
}

// toldServices and toldPeers remember the words for sets, since many findings speak of the same
// ones.
type (
	toldServices struct {
		set     service.Set
		words   string
		several bool // the words are in the plural
	}
	toldPeers struct {
		set   addr.Set
		words string
	}
)

// peerWords is PeersInWords.
func (w *worker) peerWords(peers addr.Set) string {
	key := peers.Hash()
	if told, ok := w.toldPeers[key]; ok && told.set.Equal(peers) {
		return told.words
	}
	words := PeersInWords(peers)
	w.toldPeers[key] = toldPeers{peers, words}
	return words
}

// opening makes a finding of traffic with strangers that the given rules let through.
func (l *look) opening(direction estate.Direction, set traffic.Set, rules []*estate.Rule) Finding {
	f := Finding{Direction: direction, Rules: rules, Services: set.Services(), Peers: set.Peers(service.All)}
	f.Breadth = l.d.Breadth(f.Peers)
	l.arrive(&f, set)
	word, preposition := "let in", "from"
	if direction == estate.Out {
		word, preposition = "let out", "to"
	}
	f.Message = fmt.Sprintf("%s %s %s %s %s", l.describe(f.Services), l.isAre(f.Services), word, preposition,
		l.peerWords(f.Peers))
	f.Fix, f.Narrow = l.narrowing(), narrowable(l.group)
	if f.Example == nil {
		f.Example = l.unmet(direction, set)
	}
	if x := f.Example; x != nil {
		x.ByRule = rules[0]
		for _, r := range rules {
			if l.d.RuleTraffic(l.group, r).Contains(x.Peer.Peer, x.Peer.Service) {
				x.ByRule = r
				break
			}
		}
	}
	return f
}

// unmet makes an example of traffic that arrives nowhere. Its end is the first interface to which
// the group is attached, by a family that the interface has if possible.
func (l *look) unmet(direction estate.Direction, set traffic.Set) *Example {
	var first *Example
	for _, b := range set.Bands() {
		for _, family := range []addr.Family{addr.IPv4, addr.IPv6} {
			peer, ok := l.d.Stranger(b.Peers.Only(family))
			if !ok {
				continue
			}
			x := &Example{Peer: traffic.Witness{Peer: peer, Service: b.From}, Inbound: direction == estate.In}
			if l.first == nil {
				return x
			}
			x.At = l.first
			if own, ok := l.first.Address(family == addr.IPv6); ok {
				x.Own = own
				return x
			}
			if first == nil {
				first = x
			}
		}
	}
	return first
}

func (w *worker) isAre(s service.Set) string {
	if w.told(s).several {
		return "are"
	}
	return "is"
}

// narrowing is the fix for rules that let in too much.
func (l *look) narrowing() Remedy { return narrowing(l.group) }

func narrowing(g *estate.Group) Remedy {
	if narrowable(g) {
		return Remedy{Kind: Narrow, Target: g.Path()}
	}
	return inWords("take the rule out, and give every instance a group of its own")
}

// narrowable reports whether the rules of a group can be narrowed. A cloud's default group can't:
// nothing should be attached to it.
func narrowable(g *estate.Group) bool { return g.Defined || !g.BuiltIn }

// arrive finds where traffic with strangers arrives, or why it arrives nowhere, with an example.
func (l *look) arrive(f *Finding, set traffic.Set) {
	if !l.survey {
		return
	}
	attached := l.d.InterfacesOf(l.group)
	f.Arrival = Nowhere
	if len(attached) == 0 {
		f.WhyNot = "the group is attached to no instance"
		if l.group.For == estate.ForSubnets {
			f.WhyNot = "no instance is behind the group"
		}
		return
	}
	for _, i := range attached {
		if x := l.meets(i, f.Direction, set); x != nil {
			if f.Instances = append(f.Instances, i); f.Example == nil {
				f.Example = x
			}
			continue
		}
		if f.WhyNot != "" && i.Instance.Kind != estate.Balancer && l.d.CantDecide(i) == "" {
			continue // one reason is enough
		}
		verdict, why := l.whyNot(i, f.Direction, set)
		if verdict == decide.Undecided && f.Arrival == Nowhere {
			f.Arrival, f.WhyNot = MayArrive, why
		} else if f.WhyNot == "" {
			f.WhyNot = why
		}
	}
	if len(f.Instances) > 0 {
		f.Arrival, f.WhyNot = Arrives, ""
	}
}

// meets finds an example of traffic with strangers that passes at an interface, or returns nil.
func (w *worker) meets(i *estate.Interface, direction estate.Direction, set traffic.Set) *Example {
	if direction == estate.In {
		// one example for each family is usually enough to tell
		for _, family := range []addr.Family{addr.IPv4, addr.IPv6} {
			own, ok := i.Address(family == addr.IPv6)
			if !ok {
				continue
			}
			for _, b := range set.Bands() {
				if peer, ok := w.d.Stranger(b.Peers.Only(family)); ok {
					if w.d.Reaches(peer, i, own, b.From) {
						return &Example{Peer: traffic.Witness{Peer: peer, Service: b.From}, At: i, Own: own,
							Inbound: true}
					}
					break
				}
			}
		}
		if four, six := w.d.StrangersAmong(w.d.WaysIn(i)); four+six == 0 {
			return nil
		}
	}
	for _, b := range w.passing(i, direction).Intersect(set).Bands() {
		peer, ok := w.d.Stranger(b.Peers)
		if !ok {
			continue
		}
		x := &Example{Peer: traffic.Witness{Peer: peer, Service: b.From}, At: i, Inbound: direction == estate.In}
		for _, e := range decide.EndsOf(i) { // it passes by at least one of the interface's addresses
			if e.Addr.Is4() != peer.Is4() {
				continue
			}
			from, to := decide.End{Addr: peer}, e
			if direction == estate.Out {
				from, to = to, from
			}
			if w.d.Flow(from, to, b.From).Verdict == decide.Passes {
				x.Own = e.Addr
				return x
			}
		}
	}
	return nil
}

// passing is what passes between an interface and addresses outside. It is worked out once for each
// class of interfaces.
func (w *worker) passing(i *estate.Interface, direction estate.Direction) traffic.Set {
	key := string(direction) + w.d.ClassOf(i)
	set, ok := w.passed[key]
	if !ok {
		if direction == estate.In {
			set = w.d.LetIn(i)
		} else {
			set = w.d.LetOut(i)
		}
		w.passed[key] = set
	}
	return set
}

// filterTraffic is what the filters at an interface let through. It is worked out once for each
// class of interfaces.
func (w *worker) filterTraffic(i *estate.Interface, direction estate.Direction) traffic.Set {
	key := string(direction) + w.d.ClassOf(i)
	set, ok := w.filtered[key]
	if !ok {
		set = w.d.FilterTraffic(i, direction)
		w.filtered[key] = set
	}
	return set
}

// whyNot asks for example flows of both families why they don't pass at an interface. An undecided
// one takes precedence over one that is stopped.
func (w *worker) whyNot(i *estate.Interface, direction estate.Direction, set traffic.Set) (decide.Verdict, string) {
	verdict, why := decide.NoRoute, ""
	if direction == estate.In && i.Instance.Kind == estate.Balancer {
		if heard := set.OnServices(decide.Listened(i.Instance)); !heard.IsEmpty() {
			set = heard
		}
	}
	for _, family := range []addr.Family{addr.IPv4, addr.IPv6} {
		own, ok := i.Address(family == addr.IPv6)
		if !ok {
			continue
		}
		for _, b := range set.Bands() {
			peer, ok := w.d.Stranger(b.Peers.Only(family))
			if !ok {
				continue
			}
			from, to := decide.End{Addr: peer}, decide.End{Interface: i, Addr: own}
			if direction == estate.Out {
				from, to = to, from
			}
			answer := w.d.Flow(from, to, b.From)
			if why == "" || answer.Verdict == decide.Undecided {
				verdict, why = answer.Verdict, w.stepWords(answer.Why())
			}
			if verdict == decide.Undecided || i.Instance.Kind != estate.Balancer && w.d.CantDecide(i) == "" {
				break // further examples would say the same
			}
		}
	}
	if why == "" {
		why = fmt.Sprintf("%s has no address of that family", i.Instance.Name)
	}
	return verdict, why
}

// stepWords say why a step stops a flow, where no rule does.
func (w *worker) stepWords(s decide.Step) string {
	if s.Text == "" && s.Rule != nil {
		return fmt.Sprintf("%q stops it on the way into %s", s.Rule.Sentence(w.estate.Services), s.At)
	}
	return s.Text
}

// openOn makes findings of what is open on some services: one for each cause that is open by itself
// and not a part of a larger sum.
func (l *look) openOn(direction estate.Direction, services service.Set) []Finding {
	if !l.mayBeOpen[side(direction)] || !l.decisive() {
		return nil
	}
	var found []Finding
	o := l.openings(direction)
	services = services.Minus(o.summed)
	for _, c := range o.causes {
		if !c.open || !c.services.Overlaps(services) {
			continue
		}
		if set := l.openPart(traffic.Of(c.peers, c.services.Intersect(services)).Intersect(o.all)); !set.IsEmpty() {
			found = append(found, l.opening(direction, set, c.rules))
		}
	}
	return found
}

// openPart is the part of traffic whose peers are open, family by family.
func (w *worker) openPart(set traffic.Set) traffic.Set {
	bands := set.Bands()
	if len(bands) == 1 && w.openPeers(bands[0].Peers).Equal(bands[0].Peers) {
		return set // the usual case
	}
	var open []traffic.Set
	for _, b := range bands {
		if peers := w.openPeers(b.Peers); !peers.IsEmpty() {
			open = append(open, traffic.Of(peers, b.Services()))
		}
	}
	return traffic.UnionAll(open)
}

// openPeers are the peers of the families in which they contain at least a sixteenth of all
// strangers.
func (w *worker) openPeers(peers addr.Set) addr.Set {
	switch b := w.d.Breadth(peers); {
	case b.IPv4 >= decide.OpenBreadth && b.IPv6 >= decide.OpenBreadth:
		return peers
	case b.IPv4 >= decide.OpenBreadth:
		return peers.Only(addr.IPv4)
	case b.IPv6 >= decide.OpenBreadth:
		return peers.Only(addr.IPv6)
	}
	return addr.Set{}
}

// sumOn makes findings of services that are open only because several rules add up.
func (l *look) sumOn(direction estate.Direction, services service.Set) []Finding {
	if !l.mayBeOpen[side(direction)] || !l.decisive() {
		return nil
	}
	o := l.openings(direction)
	rest := o.open.OnServices(services.Intersect(o.summed))
	if rest.IsEmpty() {
		return nil
	}
	var rules []*estate.Rule
	for _, c := range o.causes {
		four, six := l.d.StrangersAmong(c.peers)
		if c.services.Overlaps(rest.Services()) && four+six > 0 {
			rules = append(rules, c.rules...)
		}
	}
	if len(rules) == 0 {
		return nil
	}
	return []Finding{l.opening(direction, rest, rules)}
}

// contributing are the rules that let in strangers of a sum.
func (l *look) contributing(sum traffic.Set) []*estate.Rule {
	var rules []*estate.Rule
	for _, c := range l.openings(estate.In).causes {
		four, six := l.d.StrangersAmong(traffic.Of(c.peers, c.services).Intersect(sum).Peers(service.All))
		if four+six > 0 {
			rules = append(rules, c.rules...)
		}
	}
	return rules
}

// decisive reports whether what the group lets in really gets in: the group is for instances, or
// the admission of one layer is enough, or there is an interface at which no other group filters.
// For other subnet groups only the result of both layers counts, and it is told of the instance
// groups.
func (l *look) decisive() bool {
	if l.group.For == estate.ForInstances || decide.Dialect(l.group.Account).Layers != dialect.BothMustAdmit ||
		!l.survey {
		return true
	}
	return slices.ContainsFunc(l.d.InterfacesOf(l.group), func(i *estate.Interface) bool {
		return i.Unfiltered || len(l.d.GroupsAt(i)) == 0
	})
}

func (l *look) inOn(services service.Set) []Finding {
	return append(l.openOn(estate.In, services), l.sumOn(estate.In, services)...)
}

var openAdminPort = Check{
	place: 10,
	Name:  "open-admin-port",
	About: "remote administration is open to strangers",
	Start: High,
	Moves: withArrival,
	Doc: `Remote administration (services of the class admin: ssh, rdp, winrm, vnc, telnet, the control of
clusters and containers) is let in from a sixteenth of all strangers or more, over IPv4 or IPv6, by
one rule of the group or by several together, after refusals before them. Such ports are tried by
scanners within minutes of being opened. What lists and instances of the estate have are no strangers.`,
	Example:  "admit ssh from everyone",
	Fix:      Remedy{Kind: Narrow, Words: "the groups and lists that really use it"},
	Controls: controlsOfOpenness,
	group:    func(l *look) []Finding { return l.inOn(l.admin) },
}

func init() { register(openAdminPort) }

var openDataPort = Check{
	place: 20,
	Name:  "open-data-port",
	About: "a data store is open to strangers",
	Start: High,
	Moves: withArrival,
	Doc: `Databases, caches, queues, search or file shares (services of the class data) are let in from a
sixteenth of all strangers or more, over IPv4 or IPv6, by one rule of the group or by several together,
after refusals before them.`,
	Example:  "admit postgres from everyone v6",
	Fix:      inWords("Name the group that uses the data: admit postgres from group booking."),
	Controls: controlsOfOpenness,
	group:    func(l *look) []Finding { return l.inOn(l.data) },
}

func init() { register(openDataPort) }

var openCleartext = Check{
	place: 110,
	Name:  "open-cleartext",
	About: "a service without encryption is open to strangers",
	Start: Medium,
	Moves: withArrival,
	Doc: `Services that carry passwords or content unencrypted (class cleartext: telnet, ftp, http, mail and
directory services without TLS) are let in from a sixteenth of all strangers or more. Where it is
web alone (http, http-alt) it starts at low: many a site only redirects there. What is declared to
be open (see open-inbound) is no finding.`,
	Example:  "admit imap from everyone",
	Fix:      inWords("Open the encrypted one instead: admit imaps from everyone."),
	Controls: controlsOfServices,
	group: func(l *look) []Finding {
		if !l.mayBeOpen[0] {
			return nil
		}
		found := l.inOn(l.clear.Minus(l.declared()))
		for i := range found {
			if found[i].Services.SubsetOf(l.web) {
				found[i].Start = Low
			}
		}
		return found
	},
}

func init() { register(openCleartext) }

var openInbound = Check{
	place: 100,
	Name:  "open-inbound",
	About: "something is open to strangers that nobody declared to be",
	Start: Medium,
	Moves: withArrival,
	Doc: `Services other than administration, data and cleartext are let in from a sixteenth of all strangers or
more, and nothing says that they are meant to be open: no expectation that the internet can reach the
group on them, and no law that lets in only these.`,
	Example: "admit tcp 8600 from everyone",
	Fix: inWords("Narrow it, or declare it: expect internet can reach GROUP on SERVICE, or a law with only " +
		"admit SERVICE from internet."),
	Controls: controlsOfOpenness,
	group: func(l *look) []Finding {
		if !l.mayBeOpen[0] {
			return nil
		}
		found := l.inOn(l.rest.Minus(l.declared()))
		for i := range found {
			if len(found[i].Services.RunSpecs()) > mostDeclared {
				continue
			}
			found[i].OrElse = "declare it: expect internet can reach " + l.group.Path() + " on " +
				l.describe(found[i].Services)
		}
		return found
	},
}

func init() { register(openInbound) }

// mostDeclared is the largest number of port ranges for which an expectation is offered as a fix.
// Nobody means a longer list.
const mostDeclared = 4

// declared are the services on which strangers are meant to reach the group: by an expectation, or
// by a law that lets in only these.
func (l *look) declared() service.Set { return l.declaredOpen(l.group) }

func (w *worker) declaredOpen(g *estate.Group) service.Set {
	internet := func(p estate.Peer) bool { return p.Kind == estate.PeerInternet }
	var sets []service.Set
	for _, x := range w.Expects {
		to := slices.ContainsFunc(x.To.Of, func(p estate.Peer) bool {
			return p.Kind == estate.PeerGroup && p.Group.Path() == g.Path()
		})
		if to && x.Can && !x.Only && slices.ContainsFunc(x.From.Of, internet) {
			sets = append(sets, x.Services)
		}
	}
	for _, law := range w.Laws {
		if law.Over != nil && !law.Over.Holds(estate.GroupPlace(g)) {
			continue
		}
		for _, o := range law.Only {
			if !o.Lend && o.Direction == estate.In && slices.ContainsFunc(o.Peers.Of, internet) {
				sets = append(sets, o.Services)
			}
		}
	}
	return service.UnionAll(sets...)
}

var wideInbound = Check{
	place: 220,
	Name:  "wide-inbound",
	About: "far more is let in than the members can need",
	Start: Low,
	Moves: whereStrangers,
	Doc: `On some service, more than 65,536 strangers of IPv4, or more than one /40 of IPv6, are let in over a
family that is not open; or a rule of a group for instances lets in a private range of which more than
65,536 addresses (of IPv6 a /40) are in no network of the estate.`,
	Example:  "admit https from 192.0.0.0/8",
	Fix:      Remedy{Kind: Narrow, Words: "the ranges that really use it"},
	Controls: controlsOfOpenness,
	group: func(l *look) []Finding {
		var found []Finding
		if l.mayBeWide[0] && l.decisive() {
			found = l.wide()
		}
		for i := range l.rules {
			r := &l.rules[i]
			if r.Direction != estate.In || l.group.For != estate.ForInstances {
				continue
			}
			for _, p := range r.Peers {
				if p.Kind == estate.PeerRange && l.isFarWide(p.Range) && l.letsThrough(r) {
					f := Finding{Direction: estate.In, Rules: []*estate.Rule{r.Rule}, Services: r.services,
						Peers: r.peers, Fix: l.narrowing(), Narrow: narrowable(l.group)}
					f.Message = fmt.Sprintf("%s is let in on %s, and most of it is in no network of the estate",
						p.Range, l.describe(r.services))
					found = append(found, f)
					break
				}
			}
		}
		return found
	},
}

func init() { register(wideInbound) }

// isFarWide reports whether a private range reaches far beyond the estate's networks.
func (l *look) isFarWide(p netip.Prefix) bool {
	if !p.Addr().IsPrivate() || p.Addr().Is4() && p.Bits() > 15 || p.Addr().Is6() && p.Bits() > 39 {
		return false
	}
	four, six := l.networks.Count(l.d.Range(p))
	if p.Addr().Is4() {
		return math.Ldexp(1, 32-p.Bits())-four > wideFour
	}
	return math.Ldexp(1, 128-p.Bits())-six > wideSix
}

// wide makes findings of what is wide but not open, for single rules or for their sum.
func (l *look) wide() []Finding {
	var found []Finding
	o := l.openings(estate.In)
	var wide []traffic.Set
	for _, b := range o.all.Bands() {
		if left := b.Peers.Minus(l.openPeers(b.Peers)); l.isWide(left) {
			wide = append(wide, traffic.Of(left, b.Services()))
		}
	}
	rest := traffic.UnionAll(wide)
	for _, c := range o.causes {
		if !l.isWide(c.peers) {
			continue
		}
		set := traffic.Of(c.peers, c.services).Intersect(rest)
		if !set.IsEmpty() && l.isWide(set.Peers(service.All)) {
			found = append(found, l.opening(estate.In, set, c.rules))
			rest = rest.Minus(traffic.Of(addr.Everyone, set.Services()))
		}
	}
	if rest.IsEmpty() {
		return found
	}
	var rules []*estate.Rule
	for _, c := range o.causes {
		four, six := l.d.StrangersAmong(c.peers)
		if c.services.Overlaps(rest.Services()) && four+six > 0 {
			rules = append(rules, c.rules...)
		}
	}
	if len(rules) > 0 {
		found = append(found, l.opening(estate.In, rest, rules))
	}
	return found
}

var openOutbound = Check{
	place: 130,
	Name:  "open-outbound",
	About: "everything, administration or data is let out to strangers",
	Start: Medium,
	Moves: "one down where no way leads out",
	Doc: `Every service, or services of the classes admin and data, are let out to a sixteenth of all strangers
or more: the way by which data leaves, and by which a machine that was taken over is steered. Groups
often come with such a rule built in, and that counts too. It is never more than medium, and low where
no way leads out.`,
	Example:  "reach any at everyone",
	Fix:      Remedy{Kind: Narrow, Words: "what is needed, such as: reach https at list updates"},
	Controls: controlsOfOpenness,
	group: func(l *look) []Finding {
		if !l.mayBeOpen[1] || !l.decisive() {
			return nil
		}
		var found []Finding
		o := l.openings(estate.Out)
		for _, c := range o.causes {
			if !c.open {
				continue
			}
			set := c.decided.Intersect(o.all)
			if !everything(set.Services()) {
				set = set.OnServices(l.grave)
			}
			if set = l.openPart(set); !set.IsEmpty() {
				found = append(found, l.opening(estate.Out, set, c.rules))
			}
		}
		if len(found) == 0 {
			found = l.sumOn(estate.Out, l.grave)
		}
		for i := range found {
			if everything(found[i].Services) {
				found[i].Message = "everything is let out to " + PeersInWords(found[i].Peers)
			}
		}
		return found
	},
}

func init() { register(openOutbound) }

// everything reports whether a set contains every service of at least one address family.
func everything(s service.Set) bool {
	return service.All.Minus(service.NotIPv4).SubsetOf(s) || service.All.Minus(service.NotIPv6).SubsetOf(s)
}

var allServices = Check{
	place: 30,
	Name:  "all-services",
	About: "a rule lets in every protocol, or every port of one",
	Start: High,
	Moves: whereStrangers,
	Doc: `A rule lets in every protocol, or every port of TCP or UDP from 1 on, from somebody other than the
members of its own group; or several rules with the same peers do together. What will listen there
next year is let in today. Left out are rules with no peers (a group that is gone or has no
members), rules of which earlier refusals leave nothing, and built-in rules that can't be removed.`,
	Example:  "admit any from network",
	Fix:      Remedy{Kind: Narrow, Words: "the services that are really used"},
	Controls: controlsOfServices,
	group: func(l *look) []Finding {
		var found []Finding
		for _, c := range l.wholeCauses() {
			whole := wholeOf(c.services)
			f := l.about(c, *whole)
			f.Message = fmt.Sprintf("%s let in from %s", everyService(*whole), from(c))
			found = append(found, f)
		}
		return found
	},
}

func init() { register(allServices) }

// wholeCauses are causes that let in every service of a kind, and groups of causes with the same
// peers that do so together.
func (l *look) wholeCauses() []cause {
	causes := l.inCauses(func(r *ruleFacts) bool { return !onlySelf(r.Rule) && wholeOf(r.services) != nil })
	if !slices.ContainsFunc(l.rules, func(r ruleFacts) bool {
		return r.Direction == estate.In && wholeOf(r.services) == nil && holdsWide(r.services)
	}) {
		return causes
	}
	parts := l.causesOf(func(r *ruleFacts) bool { return !onlySelf(r.Rule) && wholeOf(r.services) == nil })
	byPeers := make(map[uint64]int)
	var sums []cause
	for _, c := range parts {
		k, known := byPeers[c.peers.Hash()]
		if !known {
			k = len(sums)
			byPeers[c.peers.Hash()] = k
			sums = append(sums, c)
			continue
		}
		if s := &sums[k]; s.peers.Equal(c.peers) {
			s.rules, s.services = append(slices.Clip(s.rules), c.rules...), s.services.Union(c.services)
		}
	}
	for _, c := range sums {
		if wholeOf(c.services) != nil {
			causes = append(causes, c)
		}
	}
	return causes
}

// wholes are the kinds of services for which "all ports" is told: every protocol, all TCP ports,
// and so on. wholeSets are their sets, without port 0, which nobody uses.
var wholes, wholeSets = func() (specs []service.Spec, sets []service.Set) {
	specs, sets = []service.Spec{service.Anything}, []service.Set{service.All}
	for _, protocol := range service.Ported {
		specs = append(specs, service.Whole(protocol))
		sets = append(sets, service.Of(service.Ports(protocol, 1, math.MaxUint16)))
	}
	return specs, sets
}()

// wholeOf is the widest of wholes that a set contains, or nil.
func wholeOf(s service.Set) *service.Spec {
	for i, set := range wholeSets {
		if set.SubsetOf(s) {
			return &wholes[i]
		}
	}
	return nil
}

// inCauses are the admitting inward rules that satisfy a condition; rules that open the same
// services are one cause.
func (l *look) inCauses(holds func(*ruleFacts) bool) []cause {
	return joinRules(l.causesOf(holds))
}

// causesOf is inCauses without joining. Rules that can't be removed or let nothing in are left out.
func (l *look) causesOf(holds func(*ruleFacts) bool) []cause {
	if l.group.For == estate.ForSubnets && !l.decisive() {
		return nil
	}
	var rules []cause
	for i := range l.rules {
		r := &l.rules[i]
		if r.Direction == estate.In && !r.BuiltIn && holds(r) && l.letsThrough(r) {
			rules = append(rules, cause{rules: []*estate.Rule{r.Rule}, peers: r.peers, services: r.services,
				open: l.mayBeOpen[0] && l.isOpen(r.peers)})
		}
	}
	return rules
}

// letsThrough reports whether a rule admits anybody: its peers are not empty, and earlier refusals
// leave something of it where the first matching rule decides.
func (l *look) letsThrough(r *ruleFacts) bool {
	if r.Action != estate.Admit || l.survey && r.peers.IsEmpty() || r.isUncarried() && !r.peers.IsEmpty() {
		return false
	}
	if !l.refuses || !l.byRank() {
		return true
	}
	if l.refused == nil {
		l.refused = make(map[*estate.Rule]bool)
		for _, direction := range []estate.Direction{estate.In, estate.Out} {
			var before traffic.Set
			for _, x := range l.ordered(direction) {
				if x.Action == estate.Refuse {
					before = before.Union(x.traffic())
				} else if !before.IsEmpty() && x.traffic().SubsetOf(before) {
					l.refused[x.Rule] = true
				}
			}
		}
	}
	return !l.refused[r.Rule]
}

// about makes a finding about a part of a cause, open or not.
func (l *look) about(c cause, spec service.Spec) Finding {
	if c.open {
		if set := l.openPart(traffic.Of(c.peers,
			service.Of(spec)).Intersect(l.openings(estate.In).all)); !set.IsEmpty() {
			return l.opening(estate.In, set, c.rules)
		}
	}
	return Finding{Direction: estate.In, Rules: c.rules, Services: service.Of(spec).Intersect(c.services),
		Peers: c.peers, Fix: l.narrowing(), Narrow: narrowable(l.group)}
}

// from describes a cause's peers for a sentence: with their number where they are open, else in the
// words of the rule.
func from(c cause) string {
	if c.open {
		return PeersInWords(c.peers)
	}
	var words []string
	for _, r := range c.rules {
		words = append(words, estate.PeerWords(r.Peers))
	}
	return strings.Join(words, ", ")
}

func onlySelf(r *estate.Rule) bool {
	return !slices.ContainsFunc(r.Peers, func(p estate.Peer) bool { return p.Kind != estate.PeerSelf })
}

// widePortRange is the number of ports from which one rule's range counts as wide.
const widePortRange = 16

var widePorts = Check{
	place: 120,
	Name:  "wide-ports",
	About: "a rule lets in a wide range of ports",
	Start: Medium,
	Moves: whereStrangers,
	Doc: `A rule lets in a range of more than 16 ports of one protocol; ranges of one rule that touch count as
one. 22-80 written for ssh and http lets in 57 other ports as well; the finding names the services
among them. Every port of a protocol (0 to 65535) is all-services. Left out are rules with no peers,
rules of which earlier refusals leave nothing, and built-in rules that can't be removed.`,
	Example:  "admit tcp 22-80 from list pilot-stations",
	Fix:      inWords("Name the services: admit ssh, http from list pilot-stations."),
	Controls: controlsOfServices,
	group: func(l *look) []Finding {
		var found []Finding
		for _, c := range l.inCauses(func(r *ruleFacts) bool { return holdsWide(r.services) }) {
			for _, spec := range c.services.RunSpecs() {
				if !wide(spec) {
					continue
				}
				f := l.about(c, spec)
				f.Message = fmt.Sprintf("%s lets in %s ports from %s", spec,
					count.Number(int(spec.To)-int(spec.From)+1), from(c))
				if swallowed := l.swallowed(spec); swallowed != "" {
					f.Message += ", among them " + swallowed
				}
				found = append(found, f)
			}
		}
		return found
	},
}

func init() { register(widePorts) }

// everyService is a sentence about all services of a kind.
func everyService(s service.Spec) string {
	if s.Any {
		return "every protocol is"
	}
	return fmt.Sprintf("every %s port is", strings.ToUpper(service.ProtocolName(s.Protocol)))
}

// holdsWide reports whether a set contains a wide range of ports, even if it is written in several
// parts.
func holdsWide(s service.Set) bool { return slices.ContainsFunc(s.RunSpecs(), wide) }

// wide reports whether a spec is a wide range of ports but not all of them.
func wide(s service.Spec) bool {
	width := int(s.To) - int(s.From) + 1
	return service.HasPorts(s.Protocol) && !s.Any && width > widePortRange && width < 65536
}

// swallowed names well-known services within a range of ports.
func (w *worker) swallowed(spec service.Spec) string {
	var within []service.Named
	set := service.Of(spec)
	for _, n := range w.estate.Services.All() {
		if len(n.Specs) > 0 && n.Set().SubsetOf(set) {
			within = append(within, n)
		}
	}
	slices.SortStableFunc(within, func(a, b service.Named) int { return int(a.Specs[0].From) - int(b.Specs[0].From) })
	names := make([]string, len(within))
	for i, n := range within {
		names[i] = n.Name
	}
	const shown = 8
	if len(names) > shown {
		return strings.Join(names[:shown], ", ") + " and " +
			count.Of(len(names)-shown, "other service with a name", "other services with names")
	}
	return strings.Join(names, ", ")
}

var oneFamily = Check{
	place: 40,
	Name:  "one-family",
	About: "what is restricted over one address family is open over the other",
	Start: High,
	Moves: withArrival,
	Doc: `A service is open over IPv6 and not over IPv4; or open over IPv4 while over IPv6 some outside the estate
are let in, whom a rule names by range or list, and not all: somebody shut one door and forgot the
other. Open over IPv4 with IPv6 shut altogether is no finding, since many networks have no IPv6; nor
is IPv6 within the estate, by a group, the own network or private ranges. ICMP has one family only.`,
	Example:  "admit postgres from group booking      admit postgres from everyone v6",
	Fix:      inWords("Give both families the same peers."),
	Controls: controlsOfOpenness,
	group: func(l *look) []Finding {
		if !l.mayBeOpen[0] || !l.decisive() {
			return nil
		}
		sided := l.oneSided()
		if sided.IsEmpty() {
			return nil
		}
		var found []Finding
		tell := func(set traffic.Set, rules []*estate.Rule) {
			f := l.opening(estate.In, set, rules)
			open, shut := "IPv6", "IPv4"
			if f.Breadth.IPv4 >= decide.OpenBreadth {
				open, shut = shut, open
			}
			f.Message = fmt.Sprintf("%s %s open over %s and not over %s", l.describe(f.Services), l.isAre(f.Services),
				open, shut)
			found = append(found, f)
		}
		o := l.openings(estate.In)
		summed := sided.OnServices(o.summed)
		for _, c := range o.causes {
			if set := traffic.Of(c.peers, c.services).Intersect(sided.Minus(summed)); c.open &&
				!l.openPart(set).IsEmpty() {
				tell(set, c.rules)
			}
		}
		if !summed.IsEmpty() {
			tell(summed, l.contributing(summed))
		}
		return found
	},
}

func init() { register(oneFamily) }

// oneSided is open traffic of one family where the other family is restricted. For IPv4 open, IPv6
// must be let in to some outsiders whose addresses a rule names; members of groups and of the own
// network don't count, since they are let in over whichever family they use.
func (l *look) oneSided() traffic.Set {
	o := l.openings(estate.In)
	both := service.All.Minus(service.NotIPv4).Minus(service.NotIPv6)
	var sided []traffic.Set
	for _, b := range o.open.OnServices(both).Bands() {
		for _, whole := range o.all.OnServices(b.Services()).Bands() {
			breadth := l.d.Breadth(whole.Peers)
			four, six := breadth.IPv4 >= decide.OpenBreadth, breadth.IPv6 >= decide.OpenBreadth
			switch {
			case six && !four:
				sided = append(sided, traffic.Of(whole.Peers.Only(addr.IPv6), whole.Services()))
			case four && !six && whole.Peers.Only(addr.IPv6).Overlaps(l.outsidersNamed()):
				sided = append(sided, traffic.Of(whole.Peers.Only(addr.IPv4), whole.Services()))
			}
		}
	}
	return traffic.UnionAll(sided)
}

// outsidersNamed are the public addresses, other than the estate's own, that admitting inward rules
// name by ranges or lists.
func (l *look) outsidersNamed() addr.Set {
	var named []addr.Set
	for i := range l.rules {
		r := &l.rules[i]
		if r.Direction != estate.In || r.Action != estate.Admit {
			continue
		}
		only := estate.Rule{Except: r.Except}
		for _, p := range r.Peers {
			if p.Kind == estate.PeerRange || p.Kind == estate.PeerList {
				only.Peers = append(only.Peers, p)
			}
		}
		if len(only.Peers) > 0 {
			named = append(named, l.d.Peers(l.group, &only, nil))
		}
	}
	return addr.UnionAll(named...).Intersect(addr.Public).Minus(l.d.OwnAddresses())
}

const openInSumName = "open-in-sum"

var openInSum = Check{
	place: 50,
	Name:  openInSumName,
	About: "several rules add up to an opening that none of them shows",
	Start: Medium,
	Moves: withArrival,
	Doc: `No single rule of the group lets in all the strangers that the group lets in: two rules with one half
of the internet each, or many wide ranges. Or no group of an interface is open on a service and the
sum of its groups is (in a cloud where every layer admits by itself, with the subnet's lists). Its
severity is that of what the sum opens.`,
	Example:  "admit rdp from 0.0.0.0/1      admit rdp from 128.0.0.0/1",
	Fix:      Remedy{Kind: Narrow, Words: "what is really used"},
	Controls: controlsOfOpenness,
	group: func(l *look) []Finding {
		if !l.mayBeOpen[0] {
			return nil
		}
		var found []Finding
		for _, services := range []service.Set{l.admin, l.data, service.All.Minus(l.grave)} {
			found = append(found, l.sumOn(estate.In, services)...)
		}
		for i := range found {
			found[i].Message = fmt.Sprintf("%s add up to %s", count.Of(len(found[i].Rules), "rule", "rules"),
				PeersInWords(found[i].Peers))
		}
		return found
	},
	whole: sumsOfGroups,
}

func init() { register(openInSum) }
