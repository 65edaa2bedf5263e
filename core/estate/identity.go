package estate

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Knows reports whether a group ("group") or list ("list"), by its account and id, is known to have been made or
// adopted by the estate. nil stands for no journal: nothing is known then.
type Knows func(account, kind, id string) bool

// Has is k, or false without a journal.
func (k Knows) Has(account, kind, id string) bool { return k != nil && k(account, kind, id) }

// Twins says that a definition could stand for several objects: names can be shared, and taken. It stands
// for none of them then.
type Twins struct {
	Kind string   // "group", "list", "network", "subnet"
	Name string   // their name in the cloud
	IDs  []string // ACCOUNT/ID
}

// String says which they are.
func (t *Twins) String() string {
	return fmt.Sprintf("%d %ss have the name %s (%s)", len(t.IDs), t.Kind, t.Name, strings.Join(t.IDs, ", "))
}

// An identity says which surveyed groups and lists those of definitions are. Each definition stands for one at most:
// by the journal's id, else by the estate's mark, else by the id that the definition gives as the name, else by a
// name that no other has. Where two could be it, it is none of them.
type identity struct {
	groups     map[*Group]*Group // surveyed, by definition
	definition map[*Group]*Group // the reverse
	twins      map[*Group]*Twins // by definition
	existing   map[*Group]*Group // surveyed, by the group that definitions say exists
	lists      map[ListAt]*List  // surveyed
	listTwins  map[ListAt]*Twins
}

// A ListAt is a list in an account, as rules refer to it there.
type ListAt struct{ Account, Name string }

func (a ListAt) compare(b ListAt) int {
	return cmp.Or(strings.Compare(a.Account, b.Account), strings.Compare(a.Name, b.Name))
}

// ListsOf are the surveyed lists for which those of definitions stand.
func ListsOf(defined, surveyed *Estate, knows Knows) map[ListAt]*List {
	lists, _ := identifyLists(defined, surveyed, knows)
	return lists
}

func (o *overlay) identify(defined, surveyed *Estate, knows Knows) *identity {
	id := &identity{groups: make(map[*Group]*Group), definition: make(map[*Group]*Group),
		twins: make(map[*Group]*Twins), existing: make(map[*Group]*Group)}
	o.identifyGroups(id, defined, surveyed, knows)
	id.lists, id.listTwins = identifyLists(defined, surveyed, knows)
	return id
}

// identifyGroups finds the surveyed groups of definitions.
func (o *overlay) identifyGroups(id *identity, defined, surveyed *Estate, knows Knows) {
	at := make(map[standing][]*Group) // surveyed groups, by place and name, and by place and id
	for _, g := range surveyed.Groups {
		s := o.standing(g)
		at[s] = append(at[s], g)
		if s.name = g.ID; g.ID != g.Name {
			at[s] = append(at[s], g)
		}
	}
	candidates := func(g *Group, kind GroupKind) []*Group {
		all := at[standing{network: o.networks[g.Network], name: g.InCloud(), kind: kind}]
		if kind == ForInstances {
			all = slices.Concat(all, at[standing{account: o.accounts[g.Account], name: g.InCloud(), kind: kind}])
		}
		return all
	}
	notOurs := make(map[*Group]bool) // definitions say that they exist, by their ids
	for _, g := range defined.Groups {
		if !g.Existing {
			continue
		}
		byID := func(s *Group) bool { return s.ID == g.CloudName }
		all := candidates(g, g.For)
		if len(all) == 0 && g.For == ForInstances {
			all = candidates(g, ForSubnets)
		}
		is, twins := best(all, byID, anyOf)
		if len(twins) > 0 {
			id.twins[g] = groupTwins(twins)
		}
		if is != nil {
			id.existing[g], notOurs[is] = is, byID(is) && is.Name != g.CloudName
		}
	}
	for _, claim := range []func(g, s *Group) bool{
		func(g, s *Group) bool { return knows.Has(g.Account.Name, "group", s.ID) },
		func(_, s *Group) bool { return defined.Name != "" && s.Labels[OwnLabel] == defined.Name },
		func(g, s *Group) bool { return s.ID == g.CloudName },
		func(g, s *Group) bool { return true },
	} {
		for _, g := range defined.Groups {
			if g.Existing || id.groups[g] != nil || id.twins[g] != nil {
				continue
			}
			free := slices.DeleteFunc(slices.Clone(candidates(g, g.For)),
				func(s *Group) bool { return notOurs[s] || id.definition[s] != nil })
			is, twins := best(free, func(s *Group) bool { return claim(g, s) })
			if len(twins) > 0 {
				id.twins[g] = groupTwins(twins)
			}
			if is != nil {
				id.groups[g], id.definition[is] = is, g
			}
		}
	}
}

// identifyLists finds the surveyed lists of definitions: one in each account.
func identifyLists(defined, surveyed *Estate, knows Knows) (is map[ListAt]*List, twins map[ListAt]*Twins) {
	is, twins = make(map[ListAt]*List), make(map[ListAt]*Twins)
	names := make(map[string]bool)
	for _, l := range defined.Lists {
		names[l.Name] = true
	}
	at := make(map[ListAt][]*List)
	for _, l := range surveyed.Lists {
		if l.Owner == "own" && l.Account != nil && names[l.Name] {
			x := ListAt{l.Account.Name, l.Name}
			at[x] = append(at[x], l)
		}
	}
	for x, lists := range at {
		one, several := best(lists,
			func(l *List) bool { return knows.Has(x.Account, "list", l.ID) },
			func(l *List) bool { return defined.Name != "" && l.Labels[OwnLabel] == defined.Name },
			anyOf)
		if one != nil {
			is[x] = one
		}
		if len(several) > 0 {
			twins[x] = twinsOf("list", x.Name, several, (*List).where)
		}
	}
	return is, twins
}

func anyOf[T any](T) bool { return true }

// best finds the object with the best claim that any of them has; claims are in order. If several have that one, they
// are returned instead.
func best[T any](all []*T, claims ...func(*T) bool) (is *T, twins []*T) {
	for _, claim := range claims {
		var have []*T
		for _, x := range all {
			if claim(x) && !slices.Contains(have, x) {
				have = append(have, x)
			}
		}
		switch {
		case len(have) == 1:
			return have[0], nil
		case len(have) > 1:
			return nil, have
		}
	}
	return nil, nil
}

func groupTwins(groups []*Group) *Twins {
	return twinsOf("group", groups[0].Name, groups, (*Group).where)
}

func twinsOf[T any](kind, name string, all []*T, where func(*T) string) *Twins {
	t := &Twins{Kind: kind, Name: name}
	for _, x := range all {
		t.IDs = append(t.IDs, where(x))
	}
	slices.Sort(t.IDs)
	return t
}

func (g *Group) where() string   { return g.Account.Name + "/" + g.ID }
func (l *List) where() string    { return l.Account.Name + "/" + l.ID }
func (n *Network) where() string { return n.Account.Name + "/" + n.ID }
func (s *Subnet) where() string  { return s.Network.Account.Name + "/" + s.ID }
