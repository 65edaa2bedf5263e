package change

import (
	"maps"
	"slices"

	"isonomos/core/estate"
)

// NewRepeal is the aim of bringing clouds back to an earlier state. Both states have the same
// instances. Only the objects that touched picks, by account, kind ("group", "list") and id, are
// changed.
func NewRepeal(name string, surveyed, before *estate.Estate, touched func(account, kind, id string) bool) *Aim {
	a := &Aim{Name: name, Surveyed: surveyed, Now: surveyed, Then: before, back: true,
		surveyedOf: make(map[key]*estate.Group), own: make(map[*estate.Group]bool)}
	same := func(peers []estate.Peer) []estate.Peer { return peers }
	a.ToNow, a.ToThen = same, same
	a.inScope = func(*estate.Account) bool { return true }
	for _, g := range surveyed.Groups {
		a.surveyedOf[keyOf(g)] = g
	}
	groups, lists := make(map[key]*estate.Group), make(map[key]*estate.List)
	for _, g := range before.Groups {
		groups[keyOf(g)] = g
		a.own[g] = touched(g.Account.Name, "group", g.ID)
	}
	for _, l := range before.Lists {
		lists[key{l.Account.Name, l.ID}] = l
	}
	a.fromSurvey = func(peers []estate.Peer) []estate.Peer {
		carried := slices.Clone(peers)
		for i := range carried {
			p := &carried[i]
			switch p.Kind {
			case estate.PeerGroup:
				if g := groups[keyOf(p.Group)]; g != nil {
					p.Group = g
				} else {
					*p = estate.Peer{Kind: estate.PeerMissing, Missing: "group:" + p.Group.ID}
				}
			case estate.PeerList:
				if l := lists[key{p.List.Account.Name, p.List.ID}]; l != nil {
					p.List = l
				} else {
					*p = estate.Peer{Kind: estate.PeerMissing, Missing: "list:" + p.List.ID}
				}
			}
		}
		return carried
	}
	return a
}

// listsBack restores the entries of lists.
func (p *planner) listsBack() {
	before := make(map[key]*estate.List)
	for _, l := range p.aim.Then.Lists {
		before[key{l.Account.Name, l.ID}] = l
	}
	for _, l := range p.s.e.Lists {
		was := before[key{l.Account.Name, l.ID}]
		switch {
		case was == nil:
			p.push(phaseDropList, Step{Do: DeleteList, Account: l.Account, List: l})
			continue
		case !maps.Equal(was.Labels, l.Labels):
			p.push(phaseLabel, Step{Do: LabelList, Account: l.Account, List: l, Labels: was.Labels})
		}
		if !setOf(was.Entries).Equal(setOf(l.Entries)) {
			p.setEntries(l, was.Entries)
		}
	}
	for _, l := range p.aim.Then.Lists {
		if p.given[key{l.Account.Name, l.ID}] == nil {
			made := *l
			made.ID = p.newID()
			made.Account = p.account(l.Account)
			p.again[key{l.Account.Name, l.ID}] = &made
			p.push(phaseMakeList, Step{Do: CreateList, Account: made.Account, List: &made, Replaces: l.ID})
		}
	}
}
