package estate

import "strings"

// FindNetwork finds a network by its full name, or nil.
func (e *Estate) FindNetwork(path string) *Network {
	for _, n := range e.Networks {
		if n.Path() == path {
			return n
		}
	}
	return nil
}

// FindGroup finds a group by its full name, or nil.
func (e *Estate) FindGroup(path string) *Group {
	for _, g := range e.Groups {
		if g.Path() == path {
			return g
		}
	}
	return nil
}

// FindGroups finds the groups that a name can mean: by full name, by the last parts of it, or by
// id.
func (e *Estate) FindGroups(name string) []*Group {
	var found []*Group
	for _, g := range e.Groups {
		path := g.Path()
		if path == name {
			return []*Group{g}
		}
		if strings.HasSuffix(path, "/"+name) || g.ID != "" && (g.ID == name || g.Account.Name+"/"+g.ID == name) {
			found = append(found, g)
		}
	}
	return found
}

// FindAccount finds an account by its name.
func (e *Estate) FindAccount(name string) *Account {
	for _, a := range e.Accounts {
		if a.Name == name {
			return a
		}
	}
	return nil
}
