package pass

import (
	"slices"
	"time"

	"isonomos/core/decide"
	"isonomos/core/estate"
)

// A Known pass is one that the journal has issued.
type Known struct {
	Pass
	Ends  []time.Time // all ends that it was ever given
	Open  bool        // it is known to have been opened
	Ended time.Time   // zero while it has not ended
	Why   string      // how it ended
}

// State says what has become of a pass that was found in a cloud.
type State string

// The states.
const (
	Open    State = "open"
	Overdue State = "overdue" // past its end, or ended, and still there
	Broken  State = "broken"  // its issuing was broken off: nobody was told that it is open
	Unlent  State = "unlent"  // the definitions no longer lend this
)

// A Found pass stands in a surveyed estate.
type Found struct {
	Pass
	State  State
	Rules  []Place
	Groups []*estate.Group // of its own, for one instance
	Lend   *estate.Lend    // of the definitions on the survey; nil if it is unlent
	Known  bool            // the journal issued it
}

// Carried reports whether the rules that were found say the pass's end: else it was extended in the journal alone.
func (f *Found) Carried() bool {
	return !slices.ContainsFunc(f.Rules, func(p Place) bool {
		_, until, ok := Parse(p.Rule.Description)
		return ok && !until.Equal(f.Until.Truncate(time.Second))
	})
}

// A Place is a surveyed rule and its group.
type Place struct {
	Group *estate.Group
	Rule  *estate.Rule
}

// Find finds the passes in a surveyed estate, and marks their rules (estate.Rule.Pass) and groups. e is the
// definitions on it, name the estate's name, known what the journal has issued, by id.
//
// A rule is one of a pass only if the journal issued it; or, where no journal knows of it, if its id was made for a
// group of the definitions in which it stands, within a lend, and for no longer than that lend's ceiling from now. No
// rule is one for its description alone.
func Find(e, surveyed *estate.Estate, name string, known map[string]*Known, now time.Time) []*Found {
	f := finder{e: e, d: decide.New(e), name: name, known: known, now: now, byKey: make(map[key]*estate.Group),
		found: make(map[string]*Found)}
	for _, g := range e.Groups {
		if g.ID != "" {
			f.byKey[keyOf(g)] = g
		}
	}
	for _, g := range surveyed.Groups {
		f.group(g)
	}
	for _, g := range surveyed.Groups { // rules around, such as those for answers, once the passes are known
		f.around(g)
	}
	var all []*Found
	for _, id := range f.order {
		x := f.found[id]
		f.judge(x)
		for _, p := range x.Rules {
			if x.State != Unlent {
				p.Rule.Pass = id
			}
		}
		for _, g := range x.Groups {
			if x.State != Unlent {
				g.Pass = id
			}
		}
		all = append(all, x)
	}
	return all
}

type key struct{ account, id string }

func keyOf(g *estate.Group) key { return key{g.Account.Name, g.ID} }

type finder struct {
	e     *estate.Estate
	d     *decide.Decider
	name  string
	known map[string]*Known
	now   time.Time
	byKey map[key]*estate.Group // groups of e, by those of the survey
	found map[string]*Found
	order []string
}

func (f *finder) note(id string, p Pass, known bool) *Found {
	x := f.found[id]
	if x == nil {
		x = &Found{Pass: p, Known: known}
		f.found[id] = x
		f.order = append(f.order, id)
	}
	return x
}

// group finds passes in the group that they open, and groups of their own.
func (f *finder) group(g *estate.Group) {
	if id, ok := ParseGroup(g.Name); ok && g.For == estate.ForInstances && f.ours(g, id) {
		f.ownGroup(g, id)
		return
	}
	in := f.byKey[keyOf(g)]
	if in == nil || in.For != estate.ForInstances || in.Existing {
		return
	}
	for i := range g.Rules {
		r := &g.Rules[i]
		id, until, ok := Parse(r.Description)
		if !ok {
			continue
		}
		if k := f.known[id]; k != nil { // the group may be defined no longer
			if k.Account == g.Account.Name && k.Group == in.Path() && k.On == "" &&
				(in.Defined || g.Labels[estate.OwnLabel] == f.name) &&
				slices.ContainsFunc(k.Ends, until.Equal) && f.among(k.Openings, in, g, r) {
				x := f.note(id, k.Pass, true)
				x.Rules = append(x.Rules, Place{g, r})
			}
			continue
		}
		if !in.Defined || !Genuine(id, f.name, in.Path()) {
			continue
		}
		o := f.opening(g, r)
		lend := f.lendOf(in, o)
		if lend == nil || until.After(f.now.Add(lend.AtMost)) {
			continue
		}
		x := f.note(id, Pass{ID: id, Account: g.Account.Name, Group: in.Path(), Until: until, AtMost: lend.AtMost},
			false)
		x.Openings, x.Rules = append(x.Openings, o), append(x.Rules, Place{g, r})
	}
}

// ours reports whether a group with the name of a pass's own bears the estate's mark; or has not got it yet, since it
// was made just before somebody stopped, and is attached to nothing.
func (f *finder) ours(g *estate.Group, id string) bool {
	if mark := g.Labels[estate.OwnLabel]; mark != "" {
		return mark == f.name
	}
	named, _, ok := Parse(g.Description)
	attached := slices.ContainsFunc(f.e.Instances, func(i *estate.Instance) bool {
		return slices.ContainsFunc(i.Interfaces, func(x *estate.Interface) bool {
			return slices.ContainsFunc(x.Groups, func(o *estate.Group) bool { return keyOf(o) == keyOf(g) })
		})
	})
	return ok && named == id && !attached
}

// among reports whether a surveyed rule is within what a pass opens, or within the answers to that where no state is
// kept: a rule that was copied and made wider is none of its rules. in is the rule's group in e.
func (f *finder) among(openings []Opening, in, g *estate.Group, r *estate.Rule) bool {
	own, err := f.opening(g, r).Rule(f.e, "")
	if err != nil || r.Action != estate.Admit {
		return false
	}
	is := f.d.RuleTraffic(in, &own)
	for _, o := range openings {
		x, err := o.Rule(f.e, "")
		if err != nil {
			continue
		}
		lets := f.d.RuleTraffic(in, &x)
		if x.Direction != own.Direction {
			lets = f.d.Answers(in, lets, x.Direction)
		}
		if is.SubsetOf(lets) {
			return true
		}
	}
	return false
}

// ownGroup finds a pass for one instance by its group.
func (f *finder) ownGroup(g *estate.Group, id string) {
	if k := f.known[id]; k != nil {
		if k.On != "" && k.Account == g.Account.Name {
			x := f.note(id, k.Pass, true)
			x.Groups = append(x.Groups, g)
			f.rulesOf(x, g)
		}
		return
	}
	_, until, ok := Parse(g.Description)
	for _, defined := range f.e.Groups {
		if !ok || !defined.Defined || len(defined.Lends) == 0 || defined.Account.Name != g.Account.Name ||
			!Genuine(id, f.name, defined.Path()) {
			continue
		}
		p := Pass{ID: id, Account: g.Account.Name, Group: defined.Path(), Until: until}
		for _, i := range f.e.Instances {
			for _, face := range i.Interfaces {
				if i.Account.Name == g.Account.Name &&
					slices.ContainsFunc(face.Groups, func(x *estate.Group) bool { return keyOf(x) == keyOf(g) }) {
					p.On = i.ID
				}
			}
		}
		for i := range g.Rules { // after an extension the group's own description is an old one
			if owned, end, ok := Parse(g.Rules[i].Description); ok && owned == id {
				p.Until = end
				p.Openings = append(p.Openings, f.opening(g, &g.Rules[i]))
			}
		}
		within := true
		for _, o := range p.Openings {
			lend := f.lendOf(defined, o)
			within = within && lend != nil && !p.Until.After(f.now.Add(lend.AtMost))
			if lend != nil {
				p.AtMost = lend.AtMost
			}
		}
		if within {
			x := f.note(id, p, false)
			x.Groups = append(x.Groups, g)
			f.rulesOf(x, g)
		}
		return
	}
}

// rulesOf notes the rules of a pass's own group.
func (f *finder) rulesOf(x *Found, g *estate.Group) {
	for i := range g.Rules {
		id, until, ok := Parse(g.Rules[i].Description)
		if ok && id == x.ID && f.isEnd(x, until) && f.among(x.Openings, f.byKey[keyOf(g)], g, &g.Rules[i]) {
			x.Rules = append(x.Rules, Place{g, &g.Rules[i]})
		}
	}
}

func (f *finder) isEnd(x *Found, until time.Time) bool {
	if k := f.known[x.ID]; k != nil {
		return slices.ContainsFunc(k.Ends, until.Equal)
	}
	return until.Equal(x.Until)
}

// around finds what a pass has in groups of the same network that follow the instances' groups.
func (f *finder) around(g *estate.Group) {
	in := f.byKey[keyOf(g)]
	if in == nil || g.For != estate.ForSubnets || !in.Follows && g.Labels[estate.OwnLabel] != f.name {
		return
	}
	for i := range g.Rules {
		id, until, ok := Parse(g.Rules[i].Description)
		if !ok {
			continue
		}
		x := f.found[id]
		if x == nil { // what it opened is shut already
			x = f.leftAround(g, in, id, until)
		}
		if x != nil && x.Account == g.Account.Name && f.isEnd(x, until) &&
			(len(x.Openings) == 0 || f.among(x.Openings, in, g, &g.Rules[i])) {
			x.Rules = append(x.Rules, Place{g, &g.Rules[i]})
		}
	}
}

func (f *finder) leftAround(g, wall *estate.Group, id string, until time.Time) *Found {
	if k := f.known[id]; k != nil {
		if k.Account == g.Account.Name {
			return f.note(id, k.Pass, true)
		}
		return nil
	}
	for _, inside := range f.d.Followed(wall) {
		if Genuine(id, f.name, inside.Path()) && len(inside.Lends) > 0 && !until.After(f.now) {
			return f.note(id, Pass{ID: id, Account: g.Account.Name, Group: inside.Path(), Until: until}, false)
		}
	}
	return nil
}

// opening is what a surveyed rule lets through.
func (f *finder) opening(g *estate.Group, r *estate.Rule) Opening {
	o := Opening{Direction: r.Direction}
	for _, s := range r.Services {
		o.Services = append(o.Services, s.String())
	}
	for _, p := range r.Peers {
		if p.Kind == estate.PeerGroup { // as the definitions call it
			if defined := f.byKey[keyOf(p.Group)]; defined != nil {
				p.Group = defined
			}
		}
		o.Peers = append(o.Peers, PeerWords(p))
	}
	return o
}

// lendOf is the lend of a defined group within which an opening lies, or nil.
func (f *finder) lendOf(g *estate.Group, o Opening) *estate.Lend {
	r, err := o.Rule(f.e, "")
	if err != nil {
		return nil
	}
	return LendOf(f.d, g, &r)
}

// LendOf is the lend of a group within which a rule lies, or nil: of several the one with the highest ceiling.
func LendOf(d *decide.Decider, g *estate.Group, r *estate.Rule) *estate.Lend {
	var best *estate.Lend
	is := d.RuleTraffic(g, r)
	for i := range g.Lends {
		l := &g.Lends[i]
		if l.Direction == r.Direction && !is.IsEmpty() && is.SubsetOf(d.RuleTraffic(g, &l.Rule)) &&
			(best == nil || l.AtMost > best.AtMost) {
			best = l
		}
	}
	return best
}

// judge finds the lend of a pass and says what has become of it.
func (f *finder) judge(x *Found) {
	x.State = Open
	defined := f.e.FindGroup(x.Group)
	for _, o := range x.Openings {
		var lend *estate.Lend
		if defined != nil {
			lend = f.lendOf(defined, o)
		}
		if lend == nil || !x.Opened.IsZero() && x.Until.After(x.Opened.Add(lend.AtMost)) {
			x.State = Unlent
			continue
		}
		x.Lend = lend
	}
	if x.Lend != nil && x.AtMost == 0 {
		x.AtMost = x.Lend.AtMost
	}
	k := f.known[x.ID]
	switch {
	case !x.Until.After(f.now), k != nil && !k.Ended.IsZero(): // it may have ended by an answer that was stale
		x.State = Overdue
	case k != nil && !k.Open:
		x.State = Broken
	}
}
