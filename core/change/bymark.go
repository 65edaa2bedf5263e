package change

import (
	"slices"

	"isonomos/core/compile"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
)

// What bears the estate's mark, and is not known to the journal, may be changed where a definition names it: marks
// can be forged. So on the mark alone nothing is detached, and nothing is emptied.

// keepByMark keeps groups attached to what they are attached to, and keeps their rules if the definition has none, if
// they are the estate's by their mark alone.
func (a *Aim) keepByMark() {
	if len(a.byMark) == 0 {
		return
	}
	then := make(map[key]*estate.Group)
	for _, g := range a.Then.Groups {
		if g.ID != "" {
			then[keyOf(g)] = g
		}
	}
	for _, g := range a.ByMark {
		s := a.surveyedOf[keyOf(g)]
		hasRule := func(r estate.Rule) bool { return !r.BuiltIn && r.Pass == "" }
		if slices.ContainsFunc(s.Rules, hasRule) && !slices.ContainsFunc(g.Rules, hasRule) {
			g.Rules = carried(s.Rules, a.ToThen)
			a.keep(g, "it keeps its rules")
		}
	}
	stays := make(map[*estate.Group][]string)
	faces := facesOf(a.Then)
	for _, i := range a.Surveyed.Instances {
		for _, was := range i.Interfaces {
			f := faces[faceKey(was)]
			f.Groups = a.keptAttached(was.Groups, f.Groups, then, compile.GroupsOnInterface(i.Account),
				func(g *estate.Group) { stays[g] = append(stays[g], i.Path()) })
		}
	}
	around := subnetsOf(a.Then)
	for _, n := range a.Surveyed.Networks {
		for _, was := range n.Subnets {
			s := around[subnetKey(was)]
			s.Groups = a.keptAttached(was.Groups, s.Groups, then, decide.Dialect(n.Account).GroupsPerSubnet,
				func(g *estate.Group) { stays[g] = append(stays[g], was.Path()) })
		}
	}
	for _, g := range a.ByMark {
		if at := stays[g]; len(at) > 0 {
			slices.Sort(at)
			a.keep(g, "it stays attached to "+count.Some(slices.Compact(at), 3))
		}
	}
}

// keep notes that something of a group is left as it is.
func (a *Aim) keep(g *estate.Group, what string) {
	x := Kept{g, what + ", since only its mark says that it is ours: the journal does not know it"}
	a.Kept = append(a.Kept, x)
	a.Left = append(a.Left, g.Path()+": "+x.Why)
}

// keptAttached adds to the groups that something is to have those of had that are the estate's by their mark alone.
// Where there is no room for both, it keeps what it has.
func (a *Aim) keptAttached(had, will []*estate.Group, then map[key]*estate.Group, room int,
	stays func(*estate.Group)) []*estate.Group {
	var kept []*estate.Group
	for _, s := range had {
		if g := then[keyOf(s)]; a.byMark[keyOf(s)] && !slices.Contains(will, g) {
			kept = append(kept, g)
			stays(g)
		}
	}
	if len(kept) == 0 {
		return will
	}
	both := append(slices.Clip(will), kept...)
	if room == 0 || len(both) <= room {
		return both
	}
	for _, s := range had {
		if g := then[keyOf(s)]; g != nil && !slices.Contains(kept, g) {
			kept = append(kept, g)
		}
	}
	return kept
}
