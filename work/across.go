package work

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/traffic"
	"isonomos/nomos"
	"isonomos/nomos/adopt"
	"isonomos/nomos/edit"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

// A Joint is an edit by which several defined groups, or a group and its rules, share something,
// letting through the same as before.
type Joint struct {
	Kind    JointKind
	Groups  []*estate.Group
	Text    string   // what the edit does
	Rules   []string // the rules that it changes, as they are now
	Refused string   // why it can't be done, or empty

	changes []fileChange
}

// JointKind says what is joined.
type JointKind string

// The kinds.
const (
	SharedList JointKind = "shared-list" // addresses that occur in several groups become a list
	// addresses of the estate's instances become the group that is attached to them
	MemberGroup JointKind = "member-group"
	Twins       JointKind = "twins" // groups that let through the same become one
)

// A fileChange is an edit of one file.
type fileChange struct {
	file *source.File
	edit edit.Change
}

// sharedBy is the number of groups in which addresses must occur to become a list.
const sharedBy = 3

// Across finds what defined groups can share, edits the definitions, and decides the result: every
// interface must let through exactly what it did. What can't be done says why.
func (w World) Across(o resolve.Options) ([]Joint, []Edited, error) {
	d := decide.New(w.Estate)
	written := w.places()
	joints := slices.Concat(w.sharedLists(written), w.memberGroups(d, written), w.twins(d))
	done := make(map[*source.File][]edit.Change)
	for i := range joints {
		j := &joints[i]
		if j.Refused != "" {
			continue
		}
		next := make(map[*source.File][]edit.Change)
		for f, changes := range done {
			next[f] = slices.Clone(changes)
		}
		for _, c := range j.changes {
			next[c.file] = append(next[c.file], c.edit)
		}
		if _, err := w.joined(d, next, o); err != nil {
			j.Refused = err.Error()
			continue
		}
		done = next
	}
	files, err := w.joined(d, done, o)
	return joints, files, err
}

// joined makes changes and checks that every interface lets through what it did.
func (w World) joined(before *decide.Decider, changes map[*source.File][]edit.Change, o resolve.Options) ([]Edited,
	error) {
	edited, files, err := w.apply(changes)
	if err != nil {
		return nil, fmt.Errorf("another proposal changes the same rule: %w", err)
	}
	if len(files) == 0 {
		return nil, nil
	}
	understood := nomos.Understand(edited, o)
	if source.Errors(understood.Messages) > 0 {
		return nil, fmt.Errorf("the edited definitions would have a mistake: %s",
			strings.SplitN(understood.Messages[0].String(), "\n", 2)[0])
	}
	next := NewWorld(understood, w.Survey)
	after := decide.New(next.Estate)
	groups := byPlace(next.Estate)
	for _, g := range w.Estate.Groups {
		then := groups[placeOfGroup(g)]
		for _, direction := range []estate.Direction{estate.In, estate.Out} {
			if then == nil {
				continue
			}
			if x, ok := unlike(before.GroupTraffic(g, direction), after.GroupTraffic(then, direction)); ok {
				return nil, fmt.Errorf("%s would not let through the same any more: %s %s %s", g.Path(), direction,
					x.Peer, x.Service)
			}
		}
	}
	for i, instance := range w.Estate.Instances {
		for k, f := range instance.Interfaces {
			for _, direction := range []estate.Direction{estate.In, estate.Out} {
				if x, ok := unlike(before.FilterTraffic(f, direction),
					after.FilterTraffic(next.Estate.Instances[i].Interfaces[k], direction)); ok {
					return nil, fmt.Errorf("%s would not be let through the same any more: %s %s %s", instance.Path(),
						direction, x.Peer, x.Service)
				}
			}
		}
	}
	was, is := prove(w), prove(next)
	for i := range was {
		if was[i].Holds != is[i].Holds {
			return nil, fmt.Errorf("what is expected at %s:%d would change: %s", was[i].Origin.File,
				was[i].Origin.Line, was[i].Text)
		}
	}
	return files, nil
}

func unlike(a, b traffic.Set) (traffic.Witness, bool) {
	if x, ok := a.Minus(b).Witness(); ok {
		return x, true
	}
	return b.Minus(a).Witness()
}

// A place is a written rule that is the rule of one group only, with its tree.
type place struct {
	group *estate.Group
	rule  *estate.Rule
	tree  *syntax.File
	node  *syntax.Rule
}

// places are the rules that can be edited: of one group only, without exceptions or comments among
// the peers.
func (w World) places() []place {
	written := w.written()
	var all []place
	for _, g := range w.Estate.Groups {
		for i := range g.Rules {
			r := &g.Rules[i]
			if !g.Defined || g.Existing || r.Through != nil || otherThan(g, r, written) != nil {
				continue
			}
			if tree, node := w.find(r); node != nil && len(node.Peers.Except) == 0 &&
				!strings.Contains(tree.Source.Of(node.Peers.Span), "#") {
				all = append(all, place{g, r, tree, node})
			}
		}
	}
	return all
}

// renamed replaces some ranges among a rule's peers. For each range, instead gives the words in its
// place, or none if other words contain it already.
func (p place) renamed(instead map[netip.Prefix]string) (edit.Change, bool) {
	var words []string
	changed := false
	for _, peer := range p.node.Peers.Of {
		text := p.tree.Source.Of(peer.Span)
		if other, ok := instead[peer.Range.Prefix.Masked()]; ok && peer.Kind == "range" {
			text, changed = other, true
		}
		if !slices.Contains(words, text) {
			words = append(words, text)
		}
	}
	return edit.Change{Span: p.node.Peers.Span, Text: strings.Join(words, ", ")}, changed
}

// sharedLists makes lists of ranges that occur in several groups, each list of ranges that occur in
// the same ones.
func (w World) sharedLists(written []place) []Joint {
	in := make(map[netip.Prefix][]*estate.Group)
	var order []netip.Prefix
	for _, p := range written {
		for _, peer := range p.rule.Peers {
			if peer.Kind != estate.PeerRange || peer.Range.Bits() == 0 {
				continue
			}
			if in[peer.Range] == nil {
				order = append(order, peer.Range)
			}
			if !slices.Contains(in[peer.Range], p.group) {
				in[peer.Range] = append(in[peer.Range], p.group)
			}
		}
	}
	slices.SortFunc(order, func(a, b netip.Prefix) int {
		return cmp.Or(a.Addr().Compare(b.Addr()), cmp.Compare(a.Bits(), b.Bits()))
	})
	taken := make(map[string]bool)
	for _, l := range w.Estate.Lists {
		taken[l.Name] = true
	}
	var joints []Joint
	order = slices.DeleteFunc(order, func(r netip.Prefix) bool { return len(in[r]) < sharedBy })
	for _, ranges := range adopt.Together(order, func(a, b netip.Prefix) bool { return slices.Equal(in[a], in[b]) }) {
		name := w.listOf(ranges)
		declare := name == ""
		if declare {
			name = adopt.SharedName(w.Estate, ranges, taken)
			taken[name] = true
		}
		instead := make(map[netip.Prefix]string)
		for _, p := range ranges {
			instead[p] = "list " + name
		}
		j := Joint{Kind: SharedList, Groups: in[ranges[0]],
			Text: fmt.Sprintf("%s in %s: list %s", addr.OfPrefixes(ranges...),
				count.Of(len(in[ranges[0]]), "group", "groups"), name)}
		for _, p := range written {
			// A rule with only some of the ranges must not get all of them.
			held := 0
			for _, peer := range p.rule.Peers {
				if peer.Kind == estate.PeerRange && instead[peer.Range] != "" {
					held++
				}
			}
			if held != len(ranges) {
				continue
			}
			if c, ok := p.renamed(instead); ok {
				j.changes = append(j.changes, fileChange{p.tree.Source, c})
				j.Rules = append(j.Rules, p.group.Path()+": "+p.rule.Sentence(w.Estate.Services))
			}
		}
		if len(j.changes) < sharedBy {
			continue
		}
		if declare {
			tree, _ := w.find(written[slices.IndexFunc(written,
				func(p place) bool { return p.group == in[ranges[0]][0] })].rule)
			text := "list " + name + " {\n"
			for _, p := range ranges {
				text += "  " + addr.PrefixString(p) + "\n"
			}
			j.changes = append(j.changes, fileChange{tree.Source, edit.AddDeclaration(tree, text+"}")})
		}
		joints = append(joints, j)
	}
	return joints
}

// listOf is the name of a defined list with exactly some ranges, or empty.
func (w World) listOf(ranges []netip.Prefix) string {
	want := addr.OfPrefixes(ranges...)
	for _, l := range w.Estate.Lists {
		if !l.Defined || len(l.Parts)+len(l.Published) > 0 {
			continue
		}
		var entries []netip.Prefix
		for _, e := range l.Entries {
			entries = append(entries, e.Range)
		}
		if addr.OfPrefixes(entries...).Equal(want) {
			return l.Name
		}
	}
	return ""
}

// memberGroups replaces addresses of instances by the group that is attached to them, in rules that
// name the addresses of all its members.
func (w World) memberGroups(d *decide.Decider, written []place) []Joint {
	var joints []Joint
	for _, p := range written {
		own := make(map[*estate.Group][]netip.Prefix)
		var order []*estate.Group
		for _, peer := range p.rule.Peers {
			if peer.Kind != estate.PeerRange || !peer.Range.IsSingleIP() {
				continue
			}
			for _, f := range d.At(peer.Range.Addr()) {
				for _, g := range d.GroupsAt(f) {
					if !g.Defined || g.Existing || !d.CanName(p.group, g) ||
						!slices.Contains(f.Private, peer.Range.Addr()) {
						continue
					}
					if own[g] == nil {
						order = append(order, g)
					}
					own[g] = append(own[g], peer.Range)
				}
			}
		}
		for _, g := range order {
			words := "group " + g.Name
			if g.Network != p.group.Network {
				words = "group " + g.Path()
			}
			if g == p.group {
				words = "self"
			}
			j := Joint{Kind: MemberGroup, Groups: []*estate.Group{p.group},
				Rules: []string{p.group.Path() + ": " + p.rule.Sentence(w.Estate.Services)},
				Text:  fmt.Sprintf("%s, which instances have, becomes %s", addr.OfPrefixes(own[g]...), words)}
			if others := d.Members(g).Minus(addr.OfPrefixes(own[g]...)); !others.IsEmpty() {
				j.Refused = fmt.Sprintf("the group has other members too, who would be let in: %s", others)
			}
			instead := make(map[netip.Prefix]string)
			for _, r := range own[g] {
				instead[r] = words
			}
			if c, ok := p.renamed(instead); ok {
				j.changes = []fileChange{{p.tree.Source, c}}
			}
			joints = append(joints, j)
		}
	}
	return joints
}

// twins joins two groups of a network that let through the same: the first also covers what the
// second covered. Rules that refer to one of them would then mean the members of both, so groups
// that rules refer to are not joined.
func (w World) twins(d *decide.Decider) []Joint {
	type own struct {
		tree *syntax.File
		node *syntax.Group
	}
	decls := make(map[estate.Origin]own)
	for _, t := range w.Definitions.Trees {
		for _, decl := range t.Decls {
			if g, ok := decl.(*syntax.Group); ok && g.Scope.Network.Given() && !g.Existing.Given() {
				decls[estate.Origin{File: t.Source.Name, Line: t.Source.Line(g.Start), Offset: int(g.Start)}] =
					own{t, g}
			}
		}
	}
	named := make(map[*estate.Group]string)
	for _, g := range w.Estate.Groups {
		for i := range g.Rules {
			for _, p := range slices.Concat(g.Rules[i].Peers, g.Rules[i].Except) {
				if p.Kind == estate.PeerGroup && p.Group != g {
					named[p.Group] = g.Path()
				}
			}
		}
	}
	for _, x := range w.Expects {
		for _, p := range slices.Concat(x.From.Of, x.From.Except, x.To.Of, x.To.Except) {
			if p.Kind == estate.PeerGroup {
				named[p.Group] = fmt.Sprintf("the expectation at %s:%d", x.Origin.File, x.Origin.Line)
			}
		}
	}
	type key struct {
		network *estate.Network
		kind    estate.GroupKind
		in, out uint64
	}
	hash := func(s traffic.Set) uint64 {
		h := uint64(0)
		for _, b := range s.Bands() {
			h = h*31 + uint64(b.From)*17 + uint64(b.To)*7 + b.Peers.Hash()
		}
		return h
	}
	first := make(map[key]*estate.Group)
	var joints []Joint
	for _, g := range w.Estate.Groups {
		if !g.Defined || g.Existing || g.Follows || len(g.Rules) == 0 || len(g.Lends) > 0 || g.Default {
			continue
		}
		in, out := d.GroupTraffic(g, estate.In), d.GroupTraffic(g, estate.Out)
		k := key{g.Network, g.For, hash(in), hash(out)}
		a := first[k]
		if a == nil {
			first[k] = g
			continue
		}
		if !d.Alike(a, g) {
			continue
		}
		j := Joint{Kind: Twins, Groups: []*estate.Group{a, g}, Text: fmt.Sprintf("%s lets through what %s does: "+
			"it goes, and %s covers its instances too", g.Path(), a.Path(), a.Name)}
		da, db := decls[a.Origin], decls[g.Origin]
		switch {
		case named[a] != "" || named[g] != "":
			j.Refused = fmt.Sprintf("%s names one of them, and would name the members of both",
				cmp.Or(named[a], named[g]))
		case da.node == nil || db.node == nil:
			j.Refused = "one of them is written for several networks"
		case edit.HoldsComments(db.tree, db.node):
			j.Refused = fmt.Sprintf("there are comments in %s, which would be lost: join the two by hand", g.Path())
		default:
			for _, s := range db.node.Body {
				if c, ok := s.(*syntax.Cover); ok {
					j.changes = append(j.changes,
						fileChange{da.tree.Source, edit.AddCover(da.tree, da.node, db.tree.Source.Of(c.Span))})
				}
			}
			j.changes = append(j.changes, fileChange{db.tree.Source, edit.RemoveDeclaration(db.tree, db.node)})
		}
		joints = append(joints, j)
	}
	return joints
}
