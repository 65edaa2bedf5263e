package change

import (
	"fmt"
	"slices"

	"isonomos/core/decide"
	"isonomos/core/estate"
)

// Matching the objects of two states: by their ids, then by place and name where these are unique
// on both sides. Objects without a partner are new or gone.

// A matching holds the partner of each object of the first state in the second, and the reverse.
type matching struct {
	groups, groupsBack       map[*estate.Group]*estate.Group
	instances, instancesBack map[*estate.Instance]*estate.Instance
	faces, facesBack         map[*estate.Interface]*estate.Interface
}

func matched(before, after *estate.Estate) *matching {
	m := &matching{faces: make(map[*estate.Interface]*estate.Interface)}
	m.groups = paired(before.Groups, after.Groups, groupByID, groupByPlace)
	m.instances = paired(before.Instances, after.Instances, instanceByID, instanceByName)
	for was, is := range m.instances {
		for a, b := range paired(was.Interfaces, is.Interfaces, interfaceByID, interfaceByAddress, interfaceBySubnet) {
			m.faces[a] = b
		}
	}
	m.groupsBack, m.instancesBack, m.facesBack = reversed(m.groups), reversed(m.instances), reversed(m.faces)
	return m
}

func reversed[T comparable](m map[T]T) map[T]T {
	back := make(map[T]T, len(m))
	for a, b := range m {
		back[b] = a
	}
	return back
}

// paired matches objects of two lists by one key after the other. A key that is empty, or that
// several objects have, matches nothing.
func paired[T comparable](a, b []T, keys ...func(T) string) map[T]T {
	pairs, taken := make(map[T]T, len(a)), make(map[T]bool, len(b))
	for _, key := range keys {
		left, right := unclaimed(a, key, func(x T) bool { _, has := pairs[x]; return has }),
			unclaimed(b, key, func(x T) bool { return taken[x] })
		for name, x := range left {
			if y, ok := right[name]; ok && len(x) == 1 && len(y) == 1 {
				pairs[x[0]], taken[y[0]] = y[0], true
			}
		}
	}
	return pairs
}

func unclaimed[T comparable](list []T, key func(T) string, claimed func(T) bool) map[string][]T {
	by := make(map[string][]T, len(list))
	for _, x := range list {
		if name := key(x); name != "" && !claimed(x) {
			by[name] = append(by[name], x)
		}
	}
	return by
}

// isThere reports whether a group exists in its state. Others are placeholders: for a group still
// to be created, or for one that definitions say exists.
func isThere(g *estate.Group) bool { return !g.Existing && (g.Defined || g.ID != "") }

func groupByID(g *estate.Group) string {
	if g.ID == "" || !isThere(g) {
		return ""
	}
	return fmt.Sprint(g.Account.Name, " ", g.ID, " ", g.For)
}

func groupByPlace(g *estate.Group) string {
	if !isThere(g) {
		return ""
	}
	place := g.Account.Name
	if g.Network != nil && decide.Dialect(g.Account).GroupsInNetworks {
		place = g.Network.Path()
	}
	return fmt.Sprint(place, " ", g.InCloud(), " ", g.For)
}

func instanceByID(i *estate.Instance) string {
	if i.ID == "" {
		return ""
	}
	return i.Account.Name + " " + i.ID
}

func instanceByName(i *estate.Instance) string {
	if i.Imagined && len(i.Interfaces) > 0 {
		return fmt.Sprint(i.Path(), " ", i.Interfaces[0].Subnet.Path(), " ", i.Interfaces[0].Private)
	}
	return i.Path()
}

func interfaceByID(f *estate.Interface) string { return f.ID }

func interfaceByAddress(f *estate.Interface) string {
	if len(f.Private) == 0 {
		return ""
	}
	return f.Private[0].String()
}

func interfaceBySubnet(f *estate.Interface) string { return f.Subnet.Path() }

// place is the name of a group for people: its full name, without the network where its cloud has
// none.
func place(g *estate.Group) string {
	if g.Network != nil && !decide.Dialect(g.Account).GroupsInNetworks {
		return g.Account.Name + "/" + g.InCloud()
	}
	if g.Network != nil {
		return g.Network.Path() + "/" + g.InCloud()
	}
	return g.Account.Name + "/" + g.InCloud()
}

// holds reports whether a list of the second state contains the partner of a group of the first.
// Default lists that no survey lists are the same everywhere.
func (m *matching) holds(after []*estate.Group, g *estate.Group) bool {
	return slices.ContainsFunc(after, func(x *estate.Group) bool { return m.same(g, x) })
}

func (m *matching) same(before, after *estate.Group) bool {
	if m.groups[before] != nil || m.groupsBack[after] != nil {
		return m.groups[before] == after
	}
	return before.BuiltIn && after.BuiltIn && before.ID == "" && after.ID == "" && place(before) == place(after)
}
