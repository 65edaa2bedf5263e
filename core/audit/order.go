package audit

import (
	"cmp"
	"fmt"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// How the rules of a group affect each other.

var overruled = Check{
	place: 260,
	Name:  "overruled",
	About: "a rule can't take effect: others decide all of it",
	Start: Low,
	Doc: `Other rules of the group decide all that a rule matches: earlier ones where the first match decides,
else others that admit the same. Or its services do not exist in the address family of its peers,
such as ICMP over IPv6. Such a rule says something that is not so, and the next person will believe
it. Of equal rules the later ones are told. A rule that keeps state is not covered by rules that
keep none. A refusal of everything at the end is no finding, even if a built-in rule refuses the
same.`,
	Example:  "admit ssh from 10.20.0.0/16      admit ssh from 10.20.1.0/24",
	Fix:      inWords("Delete it."),
	Controls: controlsOfUpkeep,
	gather:   true,
	spelling: true,
	many:     "%s of %s rules can't take effect: others decide all of them",
	group: func(l *look) []Finding {
		var found []Finding
		for _, direction := range []estate.Direction{estate.In, estate.Out} {
			rules := l.ordered(direction)
			for _, i := range covered(rules, l.byRank()) {
				r := rules[i]
				// These rules are meant even if another one admits the same: what a connect or a
				// pattern writes, and what is admitted from probes.
				meant := r.Through != nil ||
					slices.ContainsFunc(r.Peers, func(p estate.Peer) bool { return p.Kind == estate.PeerProbes })
				if !r.BuiltIn && !meant && !l.ineffective(rules, i) {
					why := "other rules of the group decide all of it"
					if r.isUncarried() {
						why = "its services do not go over the address family of its peers"
					}
					found = append(found, Finding{Direction: direction, Rules: []*estate.Rule{r.Rule},
						Fix:     inWords("delete the rule: nothing changes"),
						Message: fmt.Sprintf("%q can't take effect: %s", r.Sentence(l.estate.Services), why)})
				}
			}
		}
		return found
	},
}

func init() { register(overruled) }

// byRank reports whether the first matching rule of the group decides.
func (l *look) byRank() bool { return decide.ByRank(l.group) }

// ordered are the rules of a direction in the order in which they decide. The slice is reused by
// the next call.
func (l *look) ordered(direction estate.Direction) []*ruleFacts {
	rules := l.inOrder[:0]
	for i := range l.rules {
		if r := &l.rules[i]; r.Direction == direction {
			rules = append(rules, r)
		}
	}
	if !l.group.Defined && decide.Filter(l.group).FirstMatch {
		slices.SortStableFunc(rules, func(a, b *ruleFacts) int {
			return cmp.Or(cmp.Compare(a.Rank, b.Rank),
				boolOrder(a.Action != estate.Refuse)-boolOrder(b.Action != estate.Refuse))
		})
	}
	l.inOrder = rules
	return rules
}

// few is the number of rules up to which each is compared with every other.
const few = 64

// covered are the indices of rules whose traffic other rules already let through or refuse: earlier
// ones where the first match decides, else any that are not covered themselves.
func covered(rules []*ruleFacts, byRank bool) []int {
	var found []int
	if len(rules) > few {
		return coveredOfMany(rules, byRank)
	}
	var room [few]bool
	gone := room[:len(rules)]
	for i := len(rules) - 1; i >= 0; i-- {
		others := rules
		if byRank {
			others = rules[:i]
		}
		if coveredBy(rules[i], others, gone, i) {
			gone[i] = true
			found = append(found, i)
		}
	}
	slices.Reverse(found)
	return found
}

// coveredBy reports whether other rules contain all traffic of one: first by services and peers
// alone, then exactly.
func coveredBy(r *ruleFacts, others []*ruleFacts, gone []bool, self int) bool {
	if r.peers.IsEmpty() {
		return false // no peers: another check tells of that
	}
	if r.isUncarried() {
		return true
	}
	var room [8]*ruleFacts
	overlapping := room[:0]
	for k, o := range others {
		if o.Rule != nil && o.Stateless && !r.Stateless {
			continue // without this rule state would no longer be kept
		}
		if k != self && !gone[k] && o.services.Overlaps(r.services) && o.peers.Overlaps(r.peers) {
			overlapping = append(overlapping, o)
		}
	}
	if len(overlapping) == 0 {
		return false
	}
	own, ownPeers := r.carried()
	var services service.Set
	var peers addr.Set
	for _, o := range overlapping {
		if own.SubsetOf(o.services) && ownPeers.SubsetOf(o.peers) {
			return true
		}
		services, peers = services.Union(o.services), peers.Union(o.peers)
	}
	if !own.SubsetOf(services) || !ownPeers.SubsetOf(peers) {
		return false
	}
	return r.traffic().SubsetOf(traffic.UnionAll(traffics(overlapping)))
}

// isUncarried reports whether a rule's services don't exist in the families of its peers: ICMP over
// IPv6, ICMPv6 over IPv4.
func (r *ruleFacts) isUncarried() bool { return uncarried(r.peers, r.services) }

func uncarried(peers addr.Set, services service.Set) bool {
	return services.SubsetOf(service.NotIPv6) && peers.Only(addr.IPv4).IsEmpty() ||
		services.SubsetOf(service.NotIPv4) && peers.Only(addr.IPv6).IsEmpty()
}

// carried are the services and peers of a rule, without those of a family that the other does not
// have.
func (r *ruleFacts) carried() (service.Set, addr.Set) {
	services, peers := r.services, r.peers
	if services.Overlaps(service.NotIPv4) && peers.Only(addr.IPv6).IsEmpty() {
		services = services.Minus(service.NotIPv4)
	}
	if services.Overlaps(service.NotIPv6) && peers.Only(addr.IPv4).IsEmpty() {
		services = services.Minus(service.NotIPv6)
	}
	if services.SubsetOf(service.NotIPv4) {
		peers = peers.Only(addr.IPv6)
	}
	if services.SubsetOf(service.NotIPv6) {
		peers = peers.Only(addr.IPv4)
	}
	return services, peers
}

// carriesSome reports whether some of the peers and some of the services of a rule go together in
// one family.
func (r *ruleFacts) carriesSome(peers addr.Set, services service.Set) bool {
	if !r.services.Overlaps(service.NotIPv4) && !r.services.Overlaps(service.NotIPv6) {
		return true
	}
	return !uncarried(r.peers.Intersect(peers), r.services.Intersect(services))
}

func (r *ruleFacts) traffic() traffic.Set { return traffic.Of(r.peers, r.services) }

func traffics(rules []*ruleFacts) []traffic.Set {
	sets := make([]traffic.Set, len(rules))
	for i, r := range rules {
		sets[i] = r.traffic()
	}
	return sets
}

// coveredOfMany is covered for many rules. It takes O(n log² n) where they differ in services or
// peers. A rule that an earlier one covers is told first; then those that later ones cover.
func coveredOfMany(rules []*ruleFacts, byRank bool) []int {
	isStateless := func(r *ruleFacts) bool { return r.Stateless }
	if slices.ContainsFunc(rules, isStateless) {
		return coveredByState(rules, byRank)
	}
	gone := make([]bool, len(rules))
	coveredWithin(rules, 0, traffic.Set{}, false, func(i int) { gone[i] = true })
	if !byRank {
		var left []*ruleFacts
		var places []int
		for i, r := range rules {
			if !gone[i] {
				left, places = append(left, r), append(places, i)
			}
		}
		var candidates []int
		coveredWithin(left, 0, traffic.Set{}, true, func(i int) { candidates = append(candidates, i) })
		const most = 256 // candidates that are tried one by one: each takes as long as comparing with all others
		for _, i := range candidates[:min(most, len(candidates))] {
			if coveredBy(left[i], left, make([]bool, len(left)), i) {
				gone[places[i]] = true
				left[i] = &ruleFacts{} // it no longer counts for the others
			}
		}
	}
	var found []int
	for i, r := range rules {
		if gone[i] && !r.peers.IsEmpty() {
			found = append(found, i)
		}
	}
	return found
}

// coveredByState is coveredOfMany for groups in which some rules keep no state. A rule that keeps
// state is covered only by others that do; one that does not, by any.
func coveredByState(rules []*ruleFacts, byRank bool) []int {
	var kept []*ruleFacts
	var places []int
	for i, r := range rules {
		if !r.Stateless {
			kept, places = append(kept, r), append(places, i)
		}
	}
	var found []int
	if len(kept) > few {
		found = coveredOfMany(kept, byRank)
	} else {
		found = covered(kept, byRank)
	}
	for k, i := range found {
		found[k] = places[i]
	}
	gone := make([]bool, len(rules))
	for _, i := range found {
		gone[i] = true
	}
	for i := len(rules) - 1; i >= 0; i-- {
		if rules[i].Stateless && coveredBy(rules[i], rules, gone, i) {
			gone[i] = true
			found = append(found, i)
		}
	}
	slices.Sort(found)
	return found
}

// coveredWithin calls tell for each rule of rules[from:to] whose traffic is contained in outside
// and the run's other rules, or only the earlier ones of them. At each level outside is cut down to
// what the run speaks of, so that it stays small.
func coveredWithin(rules []*ruleFacts, first int, outside traffic.Set, both bool, tell func(int)) traffic.Set {
	if len(rules) == 0 {
		return traffic.Set{}
	}
	if len(rules) == 1 {
		own := rules[0].traffic()
		if own.SubsetOf(outside) {
			tell(first)
		}
		return own
	}
	half := len(rules) / 2
	left, right := traffic.UnionAll(traffics(rules[:half])), traffic.UnionAll(traffics(rules[half:]))
	before := outside
	if both {
		before = outside.Union(right)
	}
	coveredWithin(rules[:half], first, before.Intersect(left), both, tell)
	coveredWithin(rules[half:], first+half, outside.Union(left).Intersect(right), both, tell)
	return traffic.Set{}
}

// ineffective reports whether a refusal stands behind rules that admit all that it refuses, in at
// least one family.
func (l *look) ineffective(rules []*ruleFacts, i int) bool {
	r := rules[i]
	if r.Action != estate.Refuse || !l.byRank() {
		return false
	}
	var before []*ruleFacts
	var services service.Set
	for _, o := range rules[:i] {
		if o.services.Overlaps(r.services) && o.peers.Overlaps(r.peers) {
			before = append(before, o)
			if o.Action == estate.Admit {
				services = services.Union(o.services)
			}
		}
	}
	if !r.services.Minus(service.NotIPv4).SubsetOf(services) && !r.services.Minus(service.NotIPv6).SubsetOf(services) {
		return false
	}
	var admitted, refused traffic.Set
	for _, o := range before {
		if o.Action == estate.Refuse {
			refused = refused.Union(o.traffic().Minus(admitted))
		} else {
			admitted = admitted.Union(o.traffic().Minus(refused))
		}
	}
	for _, f := range []addr.Family{addr.IPv4, addr.IPv6} {
		if part := traffic.Of(r.peers.Only(f), r.services); !part.IsEmpty() && part.SubsetOf(admitted) {
			return true
		}
	}
	return false
}

var ineffectiveRefusal = Check{
	place: 70,
	Name:  "ineffective-refusal",
	About: "an admission makes a refusal or a lend pointless",
	Start: High,
	Doc: `All that a refusal refuses, over one address family at least, is admitted by rules that come before
it; or all that a lend would lend is open already. Somebody believes a door to be shut that is open.
A refusal of which something is left, or that others refuse before it, is no finding here.`,
	Example:  "admit ssh from everyone      refuse ssh from list harbour-offices",
	Fix:      inWords("Move the refusal before the admission (a lower rank), or narrow the admission."),
	Controls: controlsOfOpenness,
	group: func(l *look) []Finding {
		var found []Finding
		if l.refuses && l.byRank() {
			for _, direction := range []estate.Direction{estate.In, estate.Out} {
				rules := l.ordered(direction)
				for i, r := range rules {
					if !r.BuiltIn && r.Action == estate.Refuse && l.ineffective(rules, i) {
						found = append(found, Finding{Direction: direction, Rules: []*estate.Rule{r.Rule},
							Services: r.services, Peers: r.peers,
							Fix: inWords("move it before what admits this, or narrow that"),
							Message: fmt.Sprintf("%q refuses nothing: rules before it admit all of it",
								r.Sentence(l.estate.Services))})
					}
				}
			}
		}
		for i := range l.group.Lends {
			r := &l.group.Lends[i].Rule
			set := traffic.Of(l.d.Peers(l.group, r, nil), service.Of(r.Services...))
			if !set.IsEmpty() && set.SubsetOf(l.d.GroupTraffic(l.group, r.Direction)) {
				found = append(found, Finding{Direction: r.Direction, Rules: []*estate.Rule{r},
					Services: set.Services(), Peers: set.Peers(service.All),
					Fix: inWords("take out the rules that admit it, or the lend"),
					Message: fmt.Sprintf("lending %s to %s is pointless: it is open already",
						l.describe(set.Services()), estate.PeerWords(r.Peers))})
			}
		}
		return found
	},
}

func init() { register(ineffectiveRefusal) }

var crowdedRanks = Check{
	place:    300,
	Name:     "crowded-ranks",
	spelling: true,
	About:    "there is no room between the ranks of two rules",
	Start:    Info,
	Doc: `Two rules of a direction follow each other with no rank between them, or have the same: a rule that
belongs there can only be put in by moving others. Built-in rules do not count.`,
	Example:  "ranks 100 and 101",
	Fix:      inWords("Leave space: 100, 200, 300. Compiled rules have it."),
	Controls: controlsOfUpkeep,
	group: func(l *look) []Finding {
		if l.group.Defined || !decide.Filter(l.group).FirstMatch {
			return nil
		}
		var found []Finding
		for _, direction := range []estate.Direction{estate.In, estate.Out} {
			rules := slices.DeleteFunc(l.ordered(direction), func(r *ruleFacts) bool { return r.BuiltIn })
			f := Finding{Direction: direction, Fix: inWords("give the later rules ranks with room between them")}
			for i := 1; i < len(rules); i++ {
				a, b := rules[i-1], rules[i]
				if b.Rank-a.Rank > 1 {
					continue
				}
				for _, r := range []*estate.Rule{a.Rule, b.Rule} {
					if !slices.Contains(f.Rules, r) {
						f.Rules = append(f.Rules, r)
						f.Details = append(f.Details, fmt.Sprintf("rank %d: %s", r.Rank, r.Sentence(l.estate.Services)))
					}
				}
			}
			if len(f.Rules) > 0 {
				f.Message = fmt.Sprintf("%s have no rank between them", count.Of(len(f.Rules), "rule", "rules"))
				found = append(found, f)
			}
		}
		return found
	},
}

func init() { register(crowdedRanks) }
