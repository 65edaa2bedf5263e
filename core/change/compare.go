// Package change tells two states of an estate apart: by the traffic that one
// lets through and the other does not, then by rules.
package change

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// A Difference is everything in which a second estate differs from a first.
type Difference struct {
	Groups  []GroupDifference // those whose traffic differs, by path and direction
	Worn    []WornDifference  // instances that wear other groups
	Respelt []string          // groups that are written differently and let through the same
}

// Empty reports whether the two let through the same everywhere.
func (d Difference) Empty() bool { return len(d.Groups) == 0 && len(d.Worn) == 0 }

// A GroupDifference is one group in one direction.
type GroupDifference struct {
	Path           string
	Direction      estate.Direction
	Before, After  *estate.Group // nil where it is not there
	Opens, Closes  traffic.Set
	Gone, New      []string // the rules behind it as sentences, those on one side only
	Instances      []string // that wear it before or after
	OpenBy, ShutBy *estate.Rule
}

// A WornDifference is an interface that wears other groups, or is filtered otherwise.
type WornDifference struct {
	Instance       string
	PutOn, TakeOff []string
	// Opens and Closes are what that means for it, in both directions.
	OpensIn, ClosesIn, OpensOut, ClosesOut traffic.Set
}

// Compare finds the differences. Groups are the same if they have the same
// account, network and name in the cloud; instances by account and name. Of a group
// that comes or goes counts what opens or closes at those that wear it: they may wear
// another one that lets the same through.
// It is linear in the number of groups and interfaces.
func Compare(before, after *decide.Decider) Difference {
	c := comparer{before, after, facesByAddress(before), facesByAddress(after), make(map[[2]string]*shift)}
	var d Difference
	a, b := byPath(before.Estate()), byPath(after.Estate())
	for _, key := range union(a, b) {
		x, y := there(a[key]), there(b[key])
		path := strings.TrimSuffix(strings.TrimSuffix(key, " instances"), " subnets")
		respelt := false
		for _, direction := range []estate.Direction{estate.In, estate.Out} {
			g := c.group(path, x, y, direction)
			if g.Opens.IsEmpty() && g.Closes.IsEmpty() {
				respelt = respelt || x != nil && y != nil && (len(g.Gone) > 0 || len(g.New) > 0)
				continue
			}
			d.Groups = append(d.Groups, g)
		}
		differs := len(d.Groups) > 0 && d.Groups[len(d.Groups)-1].Path == path
		if respelt && !differs {
			d.Respelt = append(d.Respelt, path)
		}
	}
	d.Worn = c.worn()
	return d
}

// there is a group, or nil where it only stands for one that is to come.
func there(g *estate.Group) *estate.Group {
	if g != nil && !g.Defined && g.ID == "" {
		return nil
	}
	return g
}

// A comparer holds two states against each other.
type comparer struct {
	before, after *decide.Decider
	old, young    map[faceAddress]*estate.Interface
	shifts        map[[2]string]*shift // by the classes of an interface
}

// A shift is what opens and closes at an interface.
type shift struct{ opens, closes Through }

// atWearers keeps, of what a group lets through that is in one state alone, what opens
// or closes by that at those who wear it, if the other state has them all.
func (c *comparer) atWearers(g *GroupDifference) {
	var wearers []*estate.Interface
	switch {
	case g.Before == nil && g.After != nil:
		wearers = c.after.Wearers(g.After)
	case g.After == nil && g.Before != nil:
		wearers = c.before.Wearers(g.Before)
	}
	if len(wearers) == 0 {
		return
	}
	d := in
	if g.Direction == estate.Out {
		d = out
	}
	var opens, closes traffic.Set
	seen := make(map[*shift]bool)
	for _, i := range wearers {
		was, is := c.old[addressKey(i)], c.young[addressKey(i)]
		if was == nil || is == nil {
			return
		}
		if x := c.shift(was, is); !seen[x] {
			seen[x] = true
			opens, closes = opens.Union(x.opens[d]), closes.Union(x.closes[d])
		}
	}
	g.Opens, g.Closes = g.Opens.Intersect(opens), g.Closes.Intersect(closes)
}

// shift decides an interface in both states, once for all of its kind.
func (c *comparer) shift(was, is *estate.Interface) *shift {
	class := [2]string{c.before.FilterClass(was), c.after.FilterClass(is)}
	if c.shifts[class] == nil {
		a, b := throughAt(c.before, was), throughAt(c.after, is)
		c.shifts[class] = &shift{b.minus(a), a.minus(b)}
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
		if a.Action != b.Action || a.Rank != b.Rank || a.Stateless != b.Stateless || len(a.Except)+len(b.Except) > 0 || !slices.Equal(a.Services, b.Services) || !slices.EqualFunc(a.Peers, b.Peers, samePeer) {
			return false
		}
		i, k = i+1, k+1
	}
}

// sameAround reports whether what the same rules of two groups speak of is the same in
// both states: members, lists, ranges of networks, who wears the groups.
func sameAround(before, after *decide.Decider, x, y *estate.Group, direction estate.Direction) bool {
	if x.Network != nil && !slices.Equal(x.Network.Ranges, y.Network.Ranges) || x.Stateless != y.Stateless {
		return false
	}
	worn := func() bool { return sameFaces(before.Wearers(x), after.Wearers(y)) }
	if len(decide.Filter(x).Fixed) > 0 && !worn() { // built-in rules speak of probes
		return false
	}
	var others []*estate.Rule
	for k := range y.Rules {
		if y.Rules[k].Direction == direction {
			others = append(others, &y.Rules[k])
		}
	}
	for i := range x.Rules {
		if x.Rules[i].Direction != direction {
			continue
		}
		other := others[0]
		others = others[1:]
		for n, p := range x.Rules[i].Peers {
			q, same := other.Peers[n], true
			switch p.Kind {
			case estate.PeerGroup:
				same = before.CanName(x, p.Group) == after.CanName(y, q.Group) && before.Members(p.Group).Equal(after.Members(q.Group))
			case estate.PeerList:
				same = before.ListEntries(p.List, x).Equal(after.ListEntries(q.List, y))
			case estate.PeerSelf, estate.PeerProbes:
				same = worn()
			case estate.PeerNetwork:
				same = p.Network == nil && q.Network == nil || p.Network != nil && q.Network != nil && slices.Equal(p.Network.Ranges, q.Network.Ranges)
			case estate.PeerSubnet:
				same = slices.Equal(p.Subnet.Ranges, q.Subnet.Ranges)
			case estate.PeerInternet:
				same = false
			}
			if !same {
				return false
			}
		}
	}
	return true
}

// sameFaces reports whether two lists hold the same interfaces, in whatever order.
func sameFaces(a, b []*estate.Interface) bool {
	if len(a) != len(b) {
		return false
	}
	seen := make(map[key]int, len(a))
	for _, i := range a {
		seen[faceKey(i)]++
	}
	return !slices.ContainsFunc(b, func(i *estate.Interface) bool {
		seen[faceKey(i)]--
		return seen[faceKey(i)] < 0
	})
}

// samePeer reports whether two peers, of two states, are written the same.
func samePeer(a, b estate.Peer) bool {
	if a.Kind != b.Kind || a.V4Only != b.V4Only || a.V6Only != b.V6Only || a.Range != b.Range || a.Missing != b.Missing {
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

func byPath(e *estate.Estate) map[string]*estate.Group {
	groups := make(map[string]*estate.Group)
	for _, g := range e.Groups {
		path := g.Account.Name + "/" + g.InCloud()
		if g.Network != nil {
			path = g.Network.Path() + "/" + g.InCloud()
		}
		if !g.Existing {
			groups[path+" "+string(g.For)] = g
		}
	}
	return groups
}

func union(a, b map[string]*estate.Group) []string {
	var paths []string
	for p := range a {
		paths = append(paths, p)
	}
	for p := range b {
		if a[p] == nil {
			paths = append(paths, p)
		}
	}
	slices.Sort(paths)
	return paths
}

func (c *comparer) group(path string, x, y *estate.Group, direction estate.Direction) GroupDifference {
	before, after := c.before, c.after
	g := GroupDifference{Path: path, Direction: direction, Before: x, After: y}
	same := sameRules(x, y, direction)
	if same && sameAround(before, after, x, y, direction) {
		return g // most groups: what they let through is not worked out
	}
	var was, is traffic.Set
	if x != nil {
		was = before.GroupTraffic(x, direction)
	}
	if y != nil {
		is = after.GroupTraffic(y, direction)
	}
	g.Opens, g.Closes = is.Minus(was), was.Minus(is)
	c.atWearers(&g)
	if !same {
		names := serviceNames(before, after)
		old, young := sentences(names, x, direction), sentences(names, y, direction)
		g.Gone, g.New = without(old, young), without(young, old)
	}
	if g.Opens.IsEmpty() && g.Closes.IsEmpty() {
		return g
	}
	g.onlyRulesBehind(before, after)
	seen := make(map[string]bool)
	for _, w := range slices.Concat(wearers(before, x), wearers(after, y)) {
		if !seen[w] {
			seen[w] = true
			g.Instances = append(g.Instances, w)
		}
	}
	g.OpenBy, g.ShutBy = ruleFor(after, y, direction, g.Opens), ruleFor(before, x, direction, g.Closes)
	return g
}

// onlyRulesBehind keeps, of the rules that are on one side only, those that have
// to do with the difference: gone ones that let through what closes, new ones that
// let through what opens or something of what the gone ones did, and the reverse.
func (g *GroupDifference) onlyRulesBehind(before, after *decide.Decider) {
	changed, names := g.Opens.Union(g.Closes), serviceNames(before, after)
	touching := func(d *decide.Decider, of *estate.Group, texts []string, with traffic.Set) (kept []string, all traffic.Set) {
		if of == nil {
			return nil, all
		}
		for i := range of.Rules {
			r := &of.Rules[i]
			text := r.Sentence(names)
			if r.Direction != g.Direction || !slices.Contains(texts, text) || slices.Contains(kept, text) {
				continue
			}
			if set := d.RuleTraffic(of, r); !set.Intersect(with).IsEmpty() {
				kept, all = append(kept, text), all.Union(set)
			}
		}
		return kept, all
	}
	_, gone := touching(before, g.Before, g.Gone, changed)
	_, young := touching(after, g.After, g.New, changed)
	around := changed.Union(gone).Union(young)
	g.Gone, _ = touching(before, g.Before, g.Gone, around)
	g.New, _ = touching(after, g.After, g.New, around)
}

// ruleFor is the first rule that lets an example of some traffic through.
func ruleFor(d *decide.Decider, g *estate.Group, direction estate.Direction, set traffic.Set) *estate.Rule {
	w, ok := set.Witness()
	if g == nil || !ok {
		return nil
	}
	for i := range g.Rules {
		if r := &g.Rules[i]; r.Direction == direction && r.Action == estate.Admit && d.RuleTraffic(g, r).Contains(w.Peer, w.Service) {
			return r
		}
	}
	return nil
}

func wearers(d *decide.Decider, g *estate.Group) []string {
	var names []string
	if g != nil {
		for _, i := range d.Wearers(g) {
			if !i.Instance.Imagined {
				names = append(names, i.Instance.Path())
			}
		}
	}
	return names
}

// serviceNames are the names by which both sides' services are called: a survey has none of its own.
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

// A faceAddress is what an interface is known by in two states.
type faceAddress struct {
	instance string
	at       netip.Addr
}

func addressKey(i *estate.Interface) faceAddress {
	if len(i.Private) == 0 || i.Instance.Imagined {
		return faceAddress{}
	}
	return faceAddress{i.Instance.Path(), i.Private[0]}
}

func facesByAddress(d *decide.Decider) map[faceAddress]*estate.Interface {
	all := make(map[faceAddress]*estate.Interface)
	for _, i := range d.Estate().Instances {
		for _, f := range i.Interfaces {
			all[addressKey(f)] = f
		}
	}
	delete(all, faceAddress{})
	return all
}

// worn finds the interfaces that wear other groups, or around whose subnet others
// stand, and what that opens and closes for them.
func (c *comparer) worn() []WornDifference {
	var found []WornDifference
	for k, now := range c.young {
		was := c.old[k]
		if was == nil {
			continue
		}
		a, b := names(c.before, was), names(c.after, now)
		d := WornDifference{Instance: k.instance, PutOn: without(b, a), TakeOff: without(a, b)}
		if len(d.PutOn)+len(d.TakeOff) == 0 && was.Unfiltered == now.Unfiltered {
			continue
		}
		x := c.shift(was, now)
		d.OpensIn, d.ClosesIn, d.OpensOut, d.ClosesOut = x.opens[in], x.closes[in], x.opens[out], x.closes[out]
		if !x.opens.isEmpty() || !x.closes.isEmpty() {
			found = append(found, d)
		}
	}
	slices.SortFunc(found, func(a, b WornDifference) int { return cmp.Compare(a.Instance, b.Instance) })
	return found
}

func names(d *decide.Decider, i *estate.Interface) []string {
	var list []string
	for _, g := range d.Worn(i) {
		list = append(list, g.InCloud())
	}
	for _, g := range d.WornBySubnet(i.Subnet) {
		list = append(list, g.InCloud()+" around its subnet")
	}
	return list
}

// StandIns gives every instance group of two sets of definitions a made-up
// member, the same one for the same group in both, so that they can be compared
// without a survey. The estates are changed.
func StandIns(a, b *estate.Estate) {
	taken := make(map[netip.Addr]string)
	at := make(map[string]netip.Addr)
	for _, e := range []*estate.Estate{a, b} {
		for _, g := range e.Groups {
			if g.For != estate.ForInstances || g.Network == nil {
				continue
			}
			own, ok := at[g.Path()]
			if !ok {
				own = standIn(g.Network, taken)
				at[g.Path()] = own
				taken[own] = g.Path()
			}
			i := &estate.Instance{Account: g.Account, Name: "a member of " + g.Name, Kind: estate.Machine, Imagined: true}
			subnet := &estate.Subnet{Network: g.Network, Name: g.Network.Name}
			i.Interfaces = []*estate.Interface{{Instance: i, Subnet: subnet, Private: []netip.Addr{own}, Groups: []*estate.Group{g}}}
			e.Instances = append(e.Instances, i)
		}
	}
}

// standIn is an address of a network that nobody has; of a network without ranges
// it is one of the discard prefix (RFC 6666), which is nobody's at all.
func standIn(n *estate.Network, taken map[netip.Addr]string) netip.Addr {
	a := netip.MustParseAddr("100::1")
	if len(n.Ranges) > 0 {
		a = n.Ranges[0].Addr().Next()
	}
	for taken[a] != "" {
		a = a.Next()
	}
	return a
}
