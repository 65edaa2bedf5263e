// Package change tells two states of an estate apart: by the traffic that one
// lets through and the other does not, then by rules.
package change

import (
	"fmt"
	"slices"
	"strings"

	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// A Difference is everything in which a second estate differs from a first.
type Difference struct {
	Changes []Change // the most important first
	Covers  []CoverChange
	Respelt []string // groups whose rules are written differently but let through the same
	// StandIns are made-up ranges in the traffic. They stand for what only a survey can tell.
	StandIns []StandIn
	Unknown  []string // what may differ, but can't be decided in one of the states
}

// Empty reports whether both estates certainly let through the same.
func (d Difference) Empty() bool { return len(d.Changes)+len(d.Covers)+len(d.Unknown) == 0 }

// A Kind says what becomes of traffic.
type Kind string

// The kinds.
const (
	Opens    Kind = "opens"
	Closes   Kind = "closes"
	Lost     Kind = "answers-lost" // it arrives as before, and its answers no longer come back
	Regained Kind = "answers-back" // its answers come back now
)

// A Change is traffic that one thing opens or closes, in one direction.
type Change struct {
	Kind      Kind
	Group     *estate.Group // the group whose rules or peers changed; nil where the cause is something else
	Direction estate.Direction
	Traffic   traffic.Set
	Instances []string // where it opens or closes
	Causes    []string // in words
	Gone, New []string // rules behind it as sentences, those on one side only
	Rule      *estate.Rule
	Way       bool // the cause is in routes, peerings or addresses, not in filters
	Nobody    bool // the group is attached to nothing
	Example   *Example
	// where there is no Example: a flow that was tried and is decided otherwise than the traffic
	// says, or nil
	Tried *Example

	place  string
	faces  []pair // the interfaces at which it is so
	weight float64
}

// Place is what the change is about: a group, or instances.
func (c *Change) Place() string { return c.place }

// An Example is a flow that the change decides otherwise.
type Example struct {
	From, To string // an instance, with its address if it has several, or an address outside
	Service  service.Point
	Was, Is  decide.Verdict
}

// A CoverChange is a definition that covers something else, where no survey tells what that means.
type CoverChange struct {
	Group         *estate.Group
	Before, After []string
}

// A pair is an interface in both states; one of them is nil where it is new or gone.
type pair struct{ was, is *estate.Interface }

// A shift is the traffic that opens and closes in one direction, by kind.
type shift map[Kind]traffic.Set

func (s shift) add(kind Kind, set traffic.Set) {
	if !set.IsEmpty() {
		s[kind] = s[kind].Union(set)
	}
}

// kinds are all kinds, in the order in which they are told.
var kinds = []Kind{Opens, Lost, Closes, Regained}

// shifted compares two states: passed and passes are what gets through and gets answered before and
// after; arrived and arrives include what gets no answer.
func shifted(passed, arrived, passes, arrives traffic.Set) shift {
	s := make(shift)
	s.add(Opens, arrives.Minus(arrived))
	s.add(Closes, arrived.Minus(arrives))
	s.add(Lost, passed.Intersect(arrives.Minus(passes)))
	s.add(Regained, passes.Intersect(arrived.Minus(passed)))
	return s
}

var directions = []estate.Direction{estate.In, estate.Out}

// A comparer compares two states.
type comparer struct {
	before, after *decide.Decider
	m             *matching
	shifts        map[string]map[estate.Direction]shift // the differences of filters, by class of interface
	changed       map[*estate.Group]bool                // groups of either state that let something else through
	told          map[*estate.Interface]map[estate.Direction]shift
	changes       []Change
	respelt       []string
	unknown       []string
	unsure        map[*estate.Instance][]string // by instance, the sources of which it is unknown what reaches it
}

// Compare finds the differences between two states: of groups, of attachments, of instances that
// come and go, and of ways. Objects are matched by their ids, then by place and name. It takes time
// linear in groups and interfaces; where ways differ, the interfaces concerned are compared with
// all others.
func Compare(before, after *decide.Decider) Difference {
	c := newComparer(before, after)
	c.groups()
	c.attachments()
	c.comeAndGo()
	c.ways()
	return c.difference()
}

func newComparer(before, after *decide.Decider) *comparer {
	return &comparer{before: before, after: after, m: matched(before.Estate(), after.Estate()),
		shifts:  make(map[string]map[estate.Direction]shift),
		changed: make(map[*estate.Group]bool), unsure: make(map[*estate.Instance][]string),
		told: make(map[*estate.Interface]map[estate.Direction]shift)}
}

// CompareGroups finds the differences of groups between two states, as Compare does, and no others.
func CompareGroups(before, after *decide.Decider) Difference {
	c := newComparer(before, after)
	c.groups()
	return c.difference()
}

// difference is what was found, the most important first.
func (c *comparer) difference() Difference {
	for i := range c.changes {
		c.illustrate(&c.changes[i])
		c.weigh(&c.changes[i])
	}
	slices.SortStableFunc(c.changes, func(a, b Change) int {
		switch {
		case a.weight > b.weight:
			return -1
		case a.weight < b.weight:
			return 1
		}
		return strings.Compare(a.place, b.place)
	})
	return Difference{Changes: c.changes, Respelt: c.respelt, Unknown: c.unknown}
}

// groups compares groups with their partners. Of groups without a partner it reports only those
// that are attached to nothing: the others are reported with their interfaces.
func (c *comparer) groups() {
	type couple struct {
		path string
		x, y *estate.Group
	}
	var all []couple
	for _, x := range c.before.Estate().Groups {
		if isThere(x) {
			all = append(all, couple{place(x), x, c.m.groups[x]})
		}
	}
	for _, y := range c.after.Estate().Groups {
		if isThere(y) && c.m.groupsBack[y] == nil {
			all = append(all, couple{place(y), nil, y})
		}
	}
	slices.SortStableFunc(all, func(a, b couple) int { return strings.Compare(a.path, b.path) })
	for _, p := range all {
		if p.x != nil && p.y != nil {
			c.group(p.path, p.x, p.y)
		} else {
			c.lone(p.path, p.x, p.y)
		}
	}
}

// group compares a group that exists in both states.
func (c *comparer) group(path string, x, y *estate.Group) {
	respelt, told := false, false
	for _, direction := range directions {
		same := sameRules(x, y, direction)
		if same && x.Stateless == y.Stateless && c.sameAround(x, y, direction) {
			continue // most groups: their traffic is not worked out
		}
		was, is := c.before.GroupTraffic(x, direction), c.after.GroupTraffic(y, direction)
		kept, keeps := c.before.KeptTraffic(x, direction), c.after.KeptTraffic(y, direction)
		s := shift{}
		s.add(Opens, is.Minus(was))
		s.add(Closes, was.Minus(is))
		faces := c.facesOf(x, y)
		at := c.filtersAt(faces, direction)
		lost, regained := kept.Intersect(is).Minus(keeps), keeps.Intersect(was).Minus(kept)
		if len(faces) > 0 {
			lost, regained = lost.Intersect(at[Lost]), regained.Intersect(at[Regained])
		}
		s.add(Lost, lost)
		s.add(Regained, regained)
		var gone, young []string
		if !same {
			names := serviceNames(c.before, c.after)
			old, now := sentences(names, x, direction), sentences(names, y, direction)
			gone, young = without(old, now), without(now, old)
		}
		if len(s) == 0 {
			respelt = respelt || len(gone) > 0 || len(young) > 0
			continue
		}
		told = true
		c.changed[x], c.changed[y] = true, true
		gone, young = c.behind(x, y, direction, s, gone, young)
		for _, kind := range kinds {
			if set := s[kind]; !set.IsEmpty() {
				ch := Change{Kind: kind, Group: y, place: path, Direction: direction, Traffic: set, Gone: gone,
					New: young, faces: faces, Nobody: c.attachedToNobody(x, y)}
				ch.Rule = ruleFor(c.after, y, direction, set)
				if kind == Closes {
					ch.Rule = ruleFor(c.before, x, direction, set)
				}
				if len(gone)+len(young) == 0 {
					ch.Causes = c.why(x, y, direction, set)
				}
				c.tell(ch)
			}
		}
	}
	if respelt && !told {
		c.respelt = append(c.respelt, path)
	}
}

// lone reports a group without a partner that is attached to nothing.
func (c *comparer) lone(path string, x, y *estate.Group) {
	kind, d, g := Opens, c.after, y
	cause := "a new group"
	if y == nil {
		kind, d, g, cause = Closes, c.before, x, "the group is gone"
	}
	c.changed[g] = true
	interfaces := d.InterfacesOf(g)
	if slices.ContainsFunc(interfaces, func(i *estate.Interface) bool { return !i.Instance.Imagined }) {
		return
	}
	for _, direction := range directions {
		set := d.GroupTraffic(g, direction)
		if set.IsEmpty() {
			continue
		}
		ch := Change{Kind: kind, Group: g, place: path, Direction: direction, Traffic: set, Causes: []string{cause},
			Nobody: len(interfaces) == 0, Rule: ruleFor(d, g, direction, set)}
		if list := sentences(serviceNames(c.before, c.after), g, direction); kind == Opens {
			ch.New = list
		} else {
			ch.Gone = list
		}
		c.tell(ch)
	}
}

func (c *comparer) attachedToNobody(x, y *estate.Group) bool {
	return len(c.before.InterfacesOf(x))+len(c.after.InterfacesOf(y)) == 0
}

// tell adds a change, and notes it at its interfaces.
func (c *comparer) tell(ch Change) {
	for _, p := range ch.faces {
		c.note(p, ch.Direction, ch.Kind, ch.Traffic)
		if i := face(p); !i.Instance.Imagined && !slices.Contains(ch.Instances, i.Instance.Path()) {
			ch.Instances = append(ch.Instances, i.Instance.Path())
		}
	}
	c.changes = append(c.changes, ch)
}

// face is the interface after the change, or before it if it is gone.
func face(p pair) *estate.Interface {
	if p.is != nil {
		return p.is
	}
	return p.was
}

// note remembers what is already reported of an interface.
func (c *comparer) note(p pair, direction estate.Direction, kind Kind, set traffic.Set) {
	i := face(p)
	if c.told[i] == nil {
		c.told[i] = map[estate.Direction]shift{estate.In: {}, estate.Out: {}}
	}
	c.told[i][direction].add(kind, set)
}

// rest is the part of a shift at an interface that is not reported yet.
func (c *comparer) rest(p pair, direction estate.Direction, s shift) shift {
	left, told := make(shift), c.told[face(p)][direction]
	for kind, set := range s {
		left.add(kind, set.Minus(told[kind]))
	}
	return left
}

// facesOf are the interfaces at which a group filters, in both states or in one.
func (c *comparer) facesOf(x, y *estate.Group) []pair {
	var faces []pair
	for _, was := range c.before.InterfacesOf(x) {
		faces = append(faces, pair{was, c.m.faces[was]})
	}
	for _, is := range c.after.InterfacesOf(y) {
		if was := c.m.facesBack[is]; was == nil || !slices.Contains(c.before.InterfacesOf(x), was) {
			faces = append(faces, pair{was, is})
		}
	}
	return faces
}

// filtersAt compares the filters of interfaces that exist in both states.
func (c *comparer) filtersAt(faces []pair, direction estate.Direction) shift {
	all := make(shift)
	seen := make(map[string]bool)
	for _, p := range faces {
		if p.was == nil || p.is == nil || seen[c.class(p)] {
			continue
		}
		seen[c.class(p)] = true
		for kind, set := range c.filters(p)[direction] {
			all.add(kind, set)
		}
	}
	return all
}

// class identifies interfaces whose filters changed alike.
func (c *comparer) class(p pair) string {
	return fmt.Sprintf("%s %p | %s %p", c.before.FilterClass(p.was), p.was.Subnet, c.after.FilterClass(p.is),
		p.is.Subnet)
}

// filters is the shift of the filters at an interface. It is worked out once for each class.
func (c *comparer) filters(p pair) map[estate.Direction]shift {
	class := c.class(p)
	if c.shifts[class] == nil {
		c.shifts[class] = make(map[estate.Direction]shift)
		for _, direction := range directions {
			passed, arrived := c.before.Filters(p.was, direction)
			passes, arrives := c.after.Filters(p.is, direction)
			c.shifts[class][direction] = shifted(passed, arrived, passes, arrives)
		}
	}
	return c.shifts[class]
}

// sameRules reports whether two groups have the same rules in a direction, one by one.
func sameRules(x, y *estate.Group, direction estate.Direction) bool {
	if x == nil || y == nil || x.Defined || y.Defined {
		return false
	}
	i, k := 0, 0
	for {
		for i < len(x.Rules) && x.Rules[i].Direction != direction {
			i++
		}
		for k < len(y.Rules) && y.Rules[k].Direction != direction {
			k++
		}
		if i == len(x.Rules) || k == len(y.Rules) {
			return i == len(x.Rules) && k == len(y.Rules)
		}
		a, b := &x.Rules[i], &y.Rules[k]
		if a.Action != b.Action || a.Rank != b.Rank || a.Stateless != b.Stateless ||
			len(a.Except)+len(b.Except) > 0 || !slices.Equal(a.Services, b.Services) ||
			!slices.EqualFunc(a.Peers, b.Peers, samePeer) {
			return false
		}
		i, k = i+1, k+1
	}
}

// sameAround reports whether the peers that the same rules of two groups refer to are the same in
// both states: members, lists, ranges of networks, probes.
func (c *comparer) sameAround(x, y *estate.Group, direction estate.Direction) bool {
	old, now := c.before.InOrder(x, direction), c.after.InOrder(y, direction)
	if len(old) != len(now) {
		return false
	}
	for i, r := range old {
		if !c.plain(r) && !c.before.Peers(x, r, nil).Equal(c.after.Peers(y, now[i], nil)) {
			return false
		}
	}
	return true
}

// plain reports whether all peers of a rule are ranges, which mean the same everywhere.
func (c *comparer) plain(r *estate.Rule) bool {
	return !slices.ContainsFunc(slices.Concat(r.Peers, r.Except),
		func(p estate.Peer) bool { return p.Kind != estate.PeerRange && p.Kind != estate.PeerEveryone })
}

// samePeer reports whether two peers, of two states, are written the same.
func samePeer(a, b estate.Peer) bool {
	if a.Kind != b.Kind || a.V4Only != b.V4Only || a.V6Only != b.V6Only || a.Range != b.Range ||
		a.Missing != b.Missing {
		return false
	}
	switch a.Kind {
	case estate.PeerGroup:
		return a.Group.Name == b.Group.Name && a.Group.Path() == b.Group.Path()
	case estate.PeerList:
		return a.List.Name == b.List.Name
	case estate.PeerNetwork, estate.PeerSubnet:
		return a.String() == b.String()
	}
	return true
}

// behind keeps the one-sided rules that contribute to a difference: removed ones that let through
// what closes, and new ones that let through what opens or that replace a part of removed ones; and
// the reverse.
func (c *comparer) behind(x, y *estate.Group, direction estate.Direction, s shift, gone, young []string) (old,
	now []string) {
	var changed traffic.Set
	for _, set := range s {
		changed = changed.Union(set)
	}
	names := serviceNames(c.before, c.after)
	touching := func(d *decide.Decider, of *estate.Group, texts []string, with traffic.Set) (kept []string,
		all traffic.Set) {
		for i := range of.Rules {
			r := &of.Rules[i]
			text := r.Sentence(names)
			if r.Direction != direction || !slices.Contains(texts, text) || slices.Contains(kept, text) {
				continue
			}
			if set := d.RuleTraffic(of, r); !set.Intersect(with).IsEmpty() {
				kept, all = append(kept, text), all.Union(set)
			}
		}
		return kept, all
	}
	_, left := touching(c.before, x, gone, changed)
	_, came := touching(c.after, y, young, changed)
	around := changed.Union(left).Union(came)
	old, _ = touching(c.before, x, gone, around)
	now, _ = touching(c.after, y, young, around)
	return old, now
}

// ruleFor is the first rule that lets through an example of some traffic.
func ruleFor(d *decide.Decider, g *estate.Group, direction estate.Direction, set traffic.Set) *estate.Rule {
	w, ok := set.Witness()
	if g == nil || !ok {
		return nil
	}
	for i := range g.Rules {
		if r := &g.Rules[i]; r.Direction == direction && r.Action == estate.Admit &&
			d.RuleTraffic(g, r).Contains(w.Peer, w.Service) {
			return r
		}
	}
	return nil
}

// serviceNames are the service names of both sides: a survey has none of its own.
func serviceNames(before, after *decide.Decider) service.Names {
	if names := after.Estate().Services; names.HasOwn() {
		return names
	}
	return before.Estate().Services
}

func sentences(names service.Names, g *estate.Group, direction estate.Direction) []string {
	var list []string
	if g == nil {
		return nil
	}
	for i := range g.Rules {
		if r := &g.Rules[i]; r.Direction == direction {
			list = append(list, r.Sentence(names))
		}
	}
	return list
}

// without are the texts of a that are not in b.
func without(a, b []string) []string {
	var left []string
	for _, x := range a {
		if !slices.Contains(b, x) && !slices.Contains(left, x) {
			left = append(left, x)
		}
	}
	return left
}
