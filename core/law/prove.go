package law

import (
	"fmt"
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// A Result is the result of proving an expectation.
type Result struct {
	Expectation
	Holds     bool
	Undecided bool           // the survey does not say enough; Holds is false
	Witness   *decide.Answer // a flow that shows why it does not hold; nil if it holds
	Imagined  bool           // made-up members stand for those that a group does not have yet
	Note      string         // assumptions behind the result: made-up members, empty sides
}

// Prove decides every expectation about an estate, in their order. Groups that are attached to
// nothing get made-up members first: the estate is changed.
func Prove(e *estate.Estate, expectations []Expectation) []Result {
	imagined := make(map[*estate.Group]bool)
	for _, g := range e.Imagine() {
		imagined[g] = true
	}
	p := prover{d: decide.New(e), imagined: imagined, outside: make(map[string]decide.Met),
		admitting: make(map[string]addr.Set)}
	results := make([]Result, len(expectations))
	for i, x := range expectations {
		results[i] = p.prove(x)
	}
	return results
}

type prover struct {
	d         *decide.Decider
	imagined  map[*estate.Group]bool
	outside   map[string]decide.Met // by direction and class of end
	admitting map[string]addr.Set   // by direction, services and class of interface
}

func (p *prover) prove(x Expectation) Result {
	r := Result{Expectation: x}
	from, to := p.ends(x.From), p.ends(x.To)
	r.Note, r.Imagined = p.note(x)
	if name := p.unpublished(x); name != "" {
		r.Undecided, r.Note = true,
			fmt.Sprintf("the addresses of the list %s, which a provider publishes, are known from a survey only", name)
		return r
	}
	for k, side := range []*ends{&from, &to} {
		if side.isEmpty() {
			r.Undecided = true
			if note := fmt.Sprintf("nobody is on the %s side, so nothing can be asked",
				[]string{"first", "second"}[k]); r.Note == "" {
				r.Note = note
			} else {
				r.Note += "; " + note
			}
			return r
		}
	}
	q := question{prover: p, Result: &r, from: &from, to: &to}
	switch {
	case x.Only:
		q.only()
		if q.failed == nil {
			q.can()
		}
	case x.Can:
		q.can()
	default:
		q.cannot(&from)
	}
	q.settle()
	return r
}

// A question is an expectation that is being decided.
type question struct {
	*prover
	*Result
	from, to *ends
	asked    bool           // something was asked: the expectation is not empty
	failed   *decide.Answer // the first flow that shows that it does not hold
	open     *decide.Answer // the first undecided flow
}

// settle works out the result. What is certain takes precedence over what is undecided; an
// expectation without any flow is undecided.
func (q *question) settle() {
	switch {
	case q.failed != nil:
		q.Witness = q.failed
	case q.open != nil:
		q.Undecided, q.Witness = true, q.open
	case !q.asked:
		q.Undecided = true
		q.Note = q.nothingAsked()
	default:
		q.Holds = true
	}
}

// nothingAsked says why an expectation is not about any flow.
func (q *question) nothingAsked() string {
	four, six := q.from.families()
	four2, six2 := q.to.families()
	if !(four && four2) && !(six && six2) {
		return "the two sides have no address family in common, so nothing can be asked"
	}
	carried := q.Services.Minus(service.NotIPv4)
	family := "IPv4"
	if !(four && four2) {
		carried, family = q.Services.Minus(service.NotIPv6), "IPv6"
	}
	if carried.IsEmpty() {
		return fmt.Sprintf("%s does not go over %s, the only family that both sides have, so nothing can be asked",
			q.Words, family)
	}
	return "the two sides are the same instance, which reaches itself, so nothing can be asked"
}

// unpublished is a published list that the expectation names and of which no survey has the
// entries.
func (p *prover) unpublished(x Expectation) string {
	for _, s := range []Side{x.From, x.To} {
		for _, peer := range slices.Concat(s.Of, s.Except) {
			if peer.Kind == estate.PeerList && len(peer.List.Published) > 0 &&
				p.d.ListEntries(peer.List, nil).IsEmpty() {
				return peer.List.Name
			}
		}
	}
	return ""
}

// note says on which assumptions the result rests.
func (p *prover) note(x Expectation) (note string, imagined bool) {
	for _, s := range []Side{x.From, x.To} {
		for _, peer := range s.Of {
			if peer.Kind == estate.PeerGroup && peer.Group.Absent {
				return fmt.Sprintf("%s is not there yet: decided for the instances that it will cover",
					peer.Group.Path()), false
			}
			if peer.Kind == estate.PeerGroup && p.imagined[peer.Group] {
				return fmt.Sprintf("%s is attached to nothing: decided for a made-up member in each of its subnets",
					peer.Group.Path()), true
			}
		}
	}
	return "", false
}

// flow is the first flow of some services between two ends, to be shown.
func (q *question) flow(a, b decide.End, p service.Point) *decide.Answer {
	answer := q.d.Flow(a, b, p)
	return &answer
}

// carried are the services that the family of an address can carry.
func carried(s service.Set, a netip.Addr) service.Set {
	if a.Is4() {
		return s.Minus(service.NotIPv4)
	}
	return s.Minus(service.NotIPv6)
}

// can wants every member of one side to reach every one of the other, all services over one pair of
// their addresses. Of strangers, one is enough.
func (q *question) can() {
	for _, a := range q.from.members {
		for _, b := range q.to.members {
			if a.Instance != b.Instance {
				q.wantPair(a, b)
			}
		}
		q.wantOutside(a, q.to.outside, estate.Out)
		q.wantStrangers(a, q.to.internet, estate.Out)
	}
	for _, b := range q.to.members {
		q.wantOutside(b, q.from.outside, estate.In)
		q.wantStrangers(b, q.from.internet, estate.In)
	}
}

// wantPair wants all services between two members over one pair of their addresses: private ones,
// or else public ones.
func (q *question) wantPair(a, b member) {
	var failed, open *decide.Answer
	for _, x := range a.ends {
		for _, y := range b.ends {
			wanted := carried(q.Services, x.Addr)
			if x.Addr.Is4() != y.Addr.Is4() || wanted.IsEmpty() || !q.meant(q.from, q.to, x, y) || seemsPublic(x, y) {
				continue
			}
			q.asked = true
			o := q.d.Becomes(x, y)
			missing := wanted.Minus(o.With(decide.Passes))
			first, any := missing.First()
			if !any {
				if q.Note == "" && addr.Public.Contains(y.Addr) && !near(x, y) {
					q.Note = fmt.Sprintf("%s reaches %s by public addresses, over the internet", x, y)
				}
				return
			}
			if certain, any := missing.Minus(o.With(decide.Undecided)).First(); any {
				if failed == nil {
					failed = q.flow(x, y, certain)
				}
			} else if open == nil {
				open = q.flow(x, y, first)
			}
		}
	}
	q.miss(failed, open)
}

// miss notes that a wanted flow passes over none of several ways. It is undecided if one of them
// is.
func (q *question) miss(failed, open *decide.Answer) {
	switch {
	case open != nil && q.open == nil:
		q.open = open
	case open == nil && failed != nil && q.failed == nil:
		q.failed = failed
	}
}

// seemsPublic reports whether the end by which a member is asked for is a public address, which
// nobody within the estate sees, since it is translated.
func seemsPublic(x, y decide.End) bool {
	private := slices.ContainsFunc(x.Interface.Private, func(a netip.Addr) bool { return a.Is4() == x.Addr.Is4() })
	return private && slices.Contains(x.Interface.Public, x.Addr) && !addr.Public.Contains(y.Addr)
}

// meets is what becomes of traffic between an end and addresses outside, worked out once for each
// class of ends.
func (p *prover) meets(e decide.End, direction estate.Direction) decide.Met {
	key := string(direction) + p.d.ClassOf(e.Interface) + p.d.KindOf(e)
	m, ok := p.outside[key]
	if !ok {
		m = p.d.MeetsOutside(e, direction)
		p.outside[key] = m
	}
	return m
}

// outsideFlow is a flow between an end and an address outside.
func (q *question) outsideFlow(e decide.End, w traffic.Witness, direction estate.Direction) *decide.Answer {
	there := decide.End{Addr: w.Peer}
	if direction == estate.Out {
		return q.flow(e, there, w.Service)
	}
	return q.flow(there, e, w.Service)
}

// wantOutside wants traffic between a member and every one of some addresses outside, by any
// address of the member. If the member meets outside over one family only, addresses of the other
// family are left out.
func (q *question) wantOutside(m member, outside addr.Set, direction estate.Direction) {
	left := addr.Set{}
	some := false
	for _, family := range []addr.Family{addr.IPv4, addr.IPv6} {
		there := outside.Only(family)
		met := slices.ContainsFunc(m.ends, func(e decide.End) bool {
			return addr.FamilyIn(e.Addr) == family && (direction == estate.Out || q.d.HasWayIn(e))
		})
		if !there.IsEmpty() && met {
			some = true
		} else {
			left = left.Union(there)
		}
	}
	if a, ok := left.First(); ok && some {
		q.Note = fmt.Sprintf("%s meets outside over one family only: addresses such as %s are left out",
			m.Instance.Name, a)
		outside = outside.Minus(left)
	}
	for _, family := range []addr.Family{addr.IPv4, addr.IPv6} {
		wanted := traffic.Of(outside.Only(family), q.Services)
		missing, certain := wanted, wanted
		var one *decide.End
		for _, e := range m.ends {
			if addr.FamilyIn(e.Addr) == family && !wanted.IsEmpty() {
				one = &e
				met := q.meets(e, direction)
				missing = missing.Minus(met.Passes)
				certain = certain.Minus(met.Passes).Minus(met.Undecided)
			}
		}
		if one == nil {
			continue
		}
		q.asked = true
		if w, any := certain.Witness(); any && q.failed == nil {
			q.failed = q.outsideFlow(*one, w, direction)
		} else if w, any := missing.Witness(); any && q.open == nil {
			q.open = q.outsideFlow(*one, w, direction)
		}
	}
}

// wantStrangers wants all services to pass between a member and some stranger, over at least one
// family.
func (q *question) wantStrangers(m member, internet addr.Set, direction estate.Direction) {
	var failed, open *decide.Answer
	for _, e := range m.ends {
		strangers := internet.Only(addr.FamilyIn(e.Addr))
		wanted := carried(q.Services, e.Addr)
		if strangers.IsEmpty() || wanted.IsEmpty() {
			continue
		}
		q.asked = true
		met := q.meets(e, direction)
		missing := wanted.Minus(met.Passes.WithPeers(strangers).Services())
		first, any := missing.First()
		if !any {
			return
		}
		example := func(p service.Point, in traffic.Set) traffic.Witness {
			peers := strangers
			if arriving := in.WithPeers(strangers).Peers(service.Between(p, p)); !arriving.IsEmpty() {
				peers = arriving
			}
			return traffic.Witness{Peer: traffic.Example(peers), Service: p}
		}
		if certain, any := missing.Minus(met.Undecided.WithPeers(strangers).Services()).First(); any {
			if failed == nil || failed.Verdict == decide.NoRoute {
				failed = q.outsideFlow(e, example(certain, met.OneWay), direction)
			}
		} else if open == nil {
			open = q.outsideFlow(e, example(first, met.Undecided), direction)
		}
	}
	q.miss(failed, open)
}

// cannot wants nothing to arrive from some ends at the other side.
func (q *question) cannot(from *ends) {
	for _, b := range q.to.members {
		q.keepFrom(b, from.members)
		q.keepOutside(b, from.outside.Union(from.internet), estate.In)
	}
	beyond := q.to.outside.Union(q.to.internet)
	for _, a := range from.members {
		q.keepOutside(a, beyond, estate.Out)
	}
}

// keepFrom wants nothing to arrive at a member from others, by any of their addresses.
func (q *question) keepFrom(b member, others []member) {
	admitting := q.admits(b.Interface)
	for _, a := range others {
		if a.Instance == b.Instance {
			continue
		}
		for _, x := range a.ends {
			for _, y := range b.ends {
				wanted := carried(q.Services, x.Addr)
				if x.Addr.Is4() != y.Addr.Is4() || wanted.IsEmpty() {
					continue
				}
				q.asked = true
				if q.failed != nil || x.Interface.Subnet != y.Interface.Subnet && !q.d.MayCome(x, admitting) {
					continue // no filter admits it there: it is stopped or has no route
				}
				o := q.d.Becomes(x, y)
				if first, any := o.Arriving().Intersect(wanted).First(); any {
					q.failed = q.flow(x, y, first)
				} else if first, any := o.With(decide.Undecided).Intersect(wanted).First(); any && q.open == nil {
					q.open = q.flow(x, y, first)
				}
			}
		}
	}
}

// admits are the peers of which the filters at an interface admit some of the services, worked out
// once for each class.
func (q *question) admits(i *estate.Interface) addr.Set {
	key := fmt.Sprintf("%x %s", q.Services.Hash(), q.d.ClassOf(i))
	set, ok := q.admitting[key]
	if !ok || len(i.Instance.Listeners) > 0 || q.d.Probed(i) {
		set = q.d.Admitting(i, estate.In, q.Services)
		q.admitting[key] = set
	}
	return set
}

// keepOutside wants nothing to arrive between a member and some addresses outside.
func (q *question) keepOutside(m member, outside addr.Set, direction estate.Direction) {
	for _, e := range m.ends {
		asked := traffic.Of(outside.Only(addr.FamilyIn(e.Addr)), q.Services)
		if asked.IsEmpty() {
			continue
		}
		q.asked = true
		met := q.meets(e, direction)
		if w, any := met.Arrives().Intersect(asked).Witness(); any && q.failed == nil {
			q.failed = q.outsideFlow(e, w, direction)
		} else if w, any := met.Undecided.Intersect(asked).Witness(); any && q.open == nil {
			q.open = q.outsideFlow(e, w, direction)
		}
	}
}

// only wants nobody but the first side to reach the second: no other end inside, no other address
// outside.
func (q *question) only() {
	others := ends{outside: addr.Everyone.Minus(q.d.OwnAddresses()).Minus(q.from.outside).Minus(q.from.internet)}
	for _, i := range q.d.Estate().Instances {
		for _, f := range i.Interfaces {
			m := member{Interface: f}
			for _, x := range decide.EndsOf(f) {
				if !q.from.held[x] {
					m.ends = append(m.ends, x)
				}
			}
			if len(m.ends) > 0 {
				others.members = append(others.members, m)
			}
		}
	}
	q.cannot(&others)
}
