package law

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// A Breach is a group, or a rule of it, that a law does not allow.
type Breach struct {
	Group     *estate.Group
	Rule      *estate.Rule // nil if it is about the whole group
	Direction estate.Direction
	Text      string
	Lacks     string      // what the definition must contain; empty where there is too much of something
	Traffic   traffic.Set // what is too much; empty where something is missing
	Witness   *traffic.Witness
	Exemption *Exemption // the exemption that covers it; nil if none does
}

// Origin is the place of a breach: its rule, else its group.
func (b Breach) Origin() estate.Origin {
	if b.Rule != nil {
		return b.Rule.Origin
	}
	return b.Group.Origin
}

// A Verdict is the result of judging a law.
type Verdict struct {
	Law
	Groups   int      // number of groups that the law is about
	Breaches []Breach // those without an exemption first
}

// Holds reports whether every breach of the law is exempted.
func (v Verdict) Holds() bool {
	return !slices.ContainsFunc(v.Breaches, func(b Breach) bool { return b.Exemption == nil })
}

// Exempted is the number of exempted breaches.
func (v Verdict) Exempted() int {
	n := 0
	for _, b := range v.Breaches {
		if b.Exemption != nil {
			n++
		}
	}
	return n
}

// Judge judges the groups of an estate by laws. Exemptions that ended before now don't count. The
// last result are the exemptions from laws that are in force and cover nothing.
func Judge(d *decide.Decider, laws []Law, exemptions []Exemption, now time.Time) ([]Verdict, []Exemption) {
	used := make(map[int]bool)
	verdicts := make([]Verdict, len(laws))
	for i, l := range laws {
		v := Verdict{Law: l}
		for _, g := range slices.Concat(d.Estate().Groups, d.ImpliedGroups()) {
			if !l.standsOver(g) {
				continue
			}
			v.Groups++
			j := judge{d, l, g}
			v.Breaches = append(v.Breaches, j.breaches(exemptions, now, used)...)
		}
		slices.SortStableFunc(v.Breaches, func(a, b Breach) int { return exemptedLast(a) - exemptedLast(b) })
		verdicts[i] = v
	}
	var idle []Exemption
	for i, e := range exemptions {
		of := func(l Law) bool { return l.Name == e.Law } // exemptions from checks are left to the audit
		if e.Until.After(now) && !used[i] && slices.ContainsFunc(laws, of) {
			idle = append(idle, e)
		}
	}
	return verdicts, idle
}

// Over is the number of groups that a law is about.
func Over(d *decide.Decider, l Law) int {
	n := 0
	for _, g := range slices.Concat(d.Estate().Groups, d.ImpliedGroups()) {
		if l.standsOver(g) {
			n++
		}
	}
	return n
}

// Breaches are the breaches of a law by one group, exempted or not.
func Breaches(d *decide.Decider, l Law, g *estate.Group) []Breach {
	if !l.standsOver(g) {
		return nil
	}
	return judge{d, l, g}.breaches(nil, time.Time{}, nil)
}

// BreachesBut are the breaches of a law by one group that no exemption covers now.
func BreachesBut(d *decide.Decider, l Law, g *estate.Group, exemptions []Exemption, now time.Time) []Breach {
	if !l.standsOver(g) {
		return nil
	}
	return slices.DeleteFunc(judge{d, l, g}.breaches(exemptions, now, make(map[int]bool)),
		func(b Breach) bool { return b.Exemption != nil })
}

// standsOver reports whether a law is about a group, which may be one that the cloud created.
func (l *Law) standsOver(g *estate.Group) bool {
	return !g.Existing && (l.Over == nil || l.Over.Holds(estate.GroupPlace(g)))
}

func exemptedLast(b Breach) int {
	if b.Exemption != nil {
		return 1
	}
	return 0
}

// A judge judges one group by one law.
type judge struct {
	d *decide.Decider
	l Law
	g *estate.Group
}

func (j judge) breaches(exemptions []Exemption, now time.Time, used map[int]bool) []Breach {
	// With whole, an exemption counts only if it covers all of the services.
	exempt := func(services service.Set, whole bool) (service.Set, *Exemption) {
		left := services
		var by []int
		for i := range exemptions {
			e := &exemptions[i]
			if e.Law == j.l.Name && e.Until.After(now) && e.Covers(j.g) && e.Services.Overlaps(left) {
				left = left.Minus(e.Services)
				by = append(by, i)
			}
		}
		if len(by) == 0 || whole && !left.IsEmpty() {
			return services, nil
		}
		for _, i := range by {
			used[i] = true
		}
		return left, &exemptions[by[len(by)-1]]
	}
	cover := func(services service.Set) (service.Set, *Exemption) { return exempt(services, false) }
	var found []Breach
	for _, o := range j.l.Never {
		for _, b := range j.opened(o) {
			found = append(found, j.exempted(b.set, b.Breach, cover)...)
		}
	}
	for _, b := range j.beyondOnly() {
		found = append(found, j.exempted(b.set, b.Breach, cover)...)
	}
	for _, b := range j.lacking() {
		about := service.All
		if b.Rule != nil {
			about = service.Of(b.Rule.Services...)
		}
		_, b.Exemption = exempt(about, true) // an exemption on some services only covers what is about no others
		found = append(found, b)
	}
	return found
}

// Covers reports whether an exemption is about a group.
func (e *Exemption) Covers(g *estate.Group) bool {
	switch e.Kind {
	case "account":
		return g.Account.Name == e.Subject
	case "network":
		return strings.HasPrefix(g.Path(), e.Subject+"/")
	}
	return strings.HasSuffix("/"+g.Path(), "/"+e.Subject)
}

// exempted divides a breach by services: those that exemptions cover, and the rest.
func (j judge) exempted(set traffic.Set, b Breach, exempt func(service.Set) (service.Set, *Exemption)) []Breach {
	left, e := exempt(set.Services())
	if e == nil {
		return []Breach{b}
	}
	covered := b
	covered.Exemption = e
	if left.IsEmpty() {
		return []Breach{covered}
	}
	b.Traffic, covered.Traffic = set.OnServices(left), set.OnServices(service.All.Minus(left))
	if w, ok := b.Traffic.Witness(); ok {
		b.Witness = &w
	}
	return []Breach{b, covered}
}

// An opening that a group breaches, with the traffic that is too much.
type opened struct {
	Breach
	set traffic.Set
}

// A part of a side of a law: some of its peers, and whether traffic with them only counts if it is
// open to strangers. The internet is a part of its own; all other peers are another one.
type part struct {
	peers addr.Set
	open  bool
}

// parts are the parts of a side.
func (j judge) parts(s Side) []part {
	var named, internet, except []addr.Set
	for _, p := range s.Of {
		if p.Kind == estate.PeerInternet {
			internet = append(internet, j.peer(p))
		} else {
			named = append(named, j.peer(p))
		}
	}
	for _, p := range s.Except {
		except = append(except, j.peer(p))
	}
	away := addr.UnionAll(except...)
	var parts []part
	if len(named) > 0 {
		parts = append(parts, part{addr.UnionAll(named...).Minus(away), false})
	}
	if len(internet) > 0 {
		parts = append(parts, part{addr.UnionAll(internet...).Minus(away), true})
	}
	return parts
}

// all are the peers of all parts.
func all(parts []part) addr.Set {
	sets := make([]addr.Set, len(parts))
	for k, x := range parts {
		sets[k] = x.peers
	}
	return addr.UnionAll(sets...)
}

func (j judge) peer(p estate.Peer) addr.Set {
	if p.Kind == estate.PeerGroup {
		return j.d.Members(p.Group).Only(p.Family())
	}
	return j.d.Peers(&estate.Group{}, &estate.Rule{Peers: []estate.Peer{p}}, nil)
}

// through is the group's traffic with a part's peers; for strangers, only what is open to them.
func (j judge) through(x part, direction estate.Direction) traffic.Set {
	set := j.d.GroupTraffic(j.g, direction)
	if !x.open {
		return set.WithPeers(x.peers)
	}
	if !slices.ContainsFunc(set.Bands(),
		func(b traffic.Band) bool { return j.d.Breadth(b.Peers).AtLeast(decide.OpenBreadth) }) {
		return traffic.Set{} // the usual case, decided without looking at all strangers
	}
	set = set.WithPeers(x.peers)
	var wide []traffic.Set
	for _, b := range set.Bands() {
		for _, f := range []addr.Family{addr.IPv4, addr.IPv6} {
			if part := b.Peers.Only(f); j.d.Breadth(part).AtLeast(decide.OpenBreadth) {
				wide = append(wide, traffic.Of(part, b.Services()))
			}
		}
	}
	return traffic.UnionAll(wide)
}

// opened are the breaches of a forbidden opening: one for each rule that opens it, or one for the
// group if only the sum of its rules does.
func (j judge) opened(o Opening) []opened {
	if o.Lend {
		return j.lent(o, func(l *estate.Lend) service.Set { return service.Of(l.Services...).Intersect(o.Services) })
	}
	return j.byRule(o, o.Services, "lets through")
}

// byRule are the breaches of an opening on some services: one for each rule that causes a part of
// it alone, and one for the group if only the sum of its rules does.
func (j judge) byRule(o Opening, tooMuch service.Set, verb string) []opened {
	var found []opened
	at := make(map[*estate.Rule]int)
	tell := func(r *estate.Rule, set traffic.Set) {
		if k, ok := at[r]; ok { // one breach, even if it concerns several parts of the side
			set = set.Union(found[k].set)
		} else {
			at[r] = len(found)
			found = append(found, opened{})
		}
		w, _ := set.Witness()
		text := verb + " " + j.d.Estate().Services.InWords(set.Services())
		if r != nil {
			text = fmt.Sprintf("%q %s", r.Sentence(j.d.Estate().Services), text)
		}
		found[at[r]] = opened{Breach{Group: j.g, Rule: r, Direction: o.Direction, Text: text, Traffic: set,
			Witness: &w},
			set}
	}
	for _, x := range j.parts(o.Peers) {
		left := j.through(x, o.Direction).OnServices(tooMuch)
		for _, r := range j.d.InOrder(j.g, o.Direction) {
			if r.Action != estate.Admit || left.IsEmpty() {
				continue
			}
			part := left.Intersect(j.d.RuleTraffic(j.g, r))
			if part.IsEmpty() || x.open && !j.d.Breadth(part.Peers(service.All)).AtLeast(decide.OpenBreadth) {
				continue
			}
			left = left.Minus(part)
			tell(r, part)
		}
		if !left.IsEmpty() {
			tell(nil, left)
		}
	}
	return found
}

// beyondOnly are the breaches of an exclusive permission: other services for the same peers.
func (j judge) beyondOnly() []opened {
	var found []opened
	for i, o := range j.l.Only {
		if slices.ContainsFunc(j.l.Only[:i], func(before Opening) bool { return j.samePeers(before, o) }) {
			continue // its peers have been judged
		}
		allowed := service.Set{}
		for _, other := range j.l.Only {
			if j.samePeers(other, o) {
				allowed = allowed.Union(other.Services)
			}
		}
		if o.Lend {
			found = append(found, j.lent(o,
				func(l *estate.Lend) service.Set { return service.Of(l.Services...).Minus(allowed) })...)
			continue
		}
		found = append(found, j.byRule(o, service.All.Minus(allowed), "lets through more than is allowed:")...)
	}
	return found
}

// samePeers reports whether two openings are about the same peers: the same references in any
// order, or for ranges the same addresses.
func (j judge) samePeers(a, b Opening) bool {
	if a.Lend != b.Lend || a.Direction != b.Direction {
		return false
	}
	same := func(x, y []estate.Peer) bool { return slices.Equal(named(x), named(y)) }
	if same(a.Peers.Of, b.Peers.Of) && same(a.Peers.Except, b.Peers.Except) {
		return true
	}
	for _, p := range slices.Concat(a.Peers.Of, a.Peers.Except, b.Peers.Of, b.Peers.Except) {
		if p.Kind != estate.PeerRange && p.Kind != estate.PeerEveryone && p.Kind != estate.PeerInternet {
			return false
		}
	}
	return slices.EqualFunc(j.parts(a.Peers), j.parts(b.Peers),
		func(x, y part) bool { return x.open == y.open && x.peers.Equal(y.peers) })
}

// named are the words of peers, each once, in order.
func named(peers []estate.Peer) []string {
	words := make([]string, len(peers))
	for k := range peers {
		words[k] = estate.PeerWords(peers[k : k+1])
	}
	slices.Sort(words)
	return slices.Compact(words)
}

// lent are lends to the peers of an opening, on its services, with a longer ceiling than it allows.
func (j judge) lent(o Opening, tooMuch func(*estate.Lend) service.Set) []opened {
	peers := all(j.parts(o.Peers))
	var found []opened
	for i := range j.g.Lends {
		l := &j.g.Lends[i]
		set := traffic.Of(j.d.Peers(j.g, &l.Rule, nil).Intersect(peers), tooMuch(l))
		if l.AtMost <= o.MoreThan || set.IsEmpty() {
			continue
		}
		w, _ := set.Witness()
		found = append(found, opened{Breach{Group: j.g, Rule: &l.Rule, Direction: o.Direction,
			Text:    fmt.Sprintf("lends %s for at most %s", j.d.Estate().Services.InWords(set.Services()), l.AtMost),
			Witness: &w, Lacks: "lend it for less, to fewer, or not at all"}, set})
	}
	return found
}

// lacking are the breaches of what a group must have.
func (j judge) lacking() []Breach {
	var found []Breach
	for _, what := range j.l.Always {
		if what == "text" {
			if strings.TrimSpace(j.g.Description) == "" {
				found = append(found, Breach{Group: j.g, Text: "the group does not say what it is for",
					Lacks: `write it in quotes behind the group's network`})
			}
			continue
		}
		for i := range j.g.Rules {
			r := &j.g.Rules[i]
			if r.BuiltIn {
				continue // a group that the cloud created can't be edited
			}
			if what == "because" && strings.TrimSpace(r.Description) == "" || what == "until" && r.Until.IsZero() {
				found = append(found, Breach{Group: j.g, Rule: r,
					Text: fmt.Sprintf("%q has no %s", r.Sentence(j.d.Estate().Services), what),
					Lacks: "add " + what + map[string]string{"because": ` "…"`, "until": " a date"}[what] +
						" to the rule"})
			}
		}
	}
	for _, label := range j.l.Labels {
		if _, ok := estate.GroupPlace(j.g).Label(label); !ok {
			found = append(found, Breach{Group: j.g, Text: fmt.Sprintf("it has no label %q", label),
				Lacks: fmt.Sprintf("add label %s = … to the group, its network or its account", label)})
		}
	}
	return found
}
