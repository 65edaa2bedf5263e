package work

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/narrow"
	"isonomos/nomos/adopt"
)

// nameForeign gives unused names to groups and lists that the definitions don't have yet.
func nameForeign(e *estate.Estate, choices []narrow.Choice) {
	for i := range choices {
		c := &choices[i]
		if !c.Foreign {
			continue
		}
		words := ""
		switch p := c.Peers[0]; p.Kind {
		case estate.PeerGroup:
			name := foreignGroup(e, p.Group)
			if words = "group " + name; strings.Contains(c.Words, "/") {
				words = "group " + p.Group.Network.Path() + "/" + name
			}
		case estate.PeerList:
			words = "list " + foreignList(e, p.List)
		}
		if f := c.Peers[0].Family(); f != addr.Both {
			words += " " + f.String()
		}
		c.Words = words
	}
}

func foreignGroup(e *estate.Estate, g *estate.Group) string {
	name := adopt.Name(g.Name)
	if slices.ContainsFunc(e.Groups,
		func(o *estate.Group) bool { return o.Defined && o.Network == g.Network && o.Name == name }) {
		name += "-surveyed"
	}
	return name
}

func foreignList(e *estate.Estate, l *estate.List) string {
	name := adopt.Name(l.Name)
	if slices.ContainsFunc(e.Lists, func(o *estate.List) bool { return o.Defined && o.Name == name }) {
		name += "-surveyed"
	}
	return name
}

// declaration is what the definitions must contain to refer to a choice, or empty if they do.
func (w World) declaration(c narrow.Choice) string {
	if !c.Foreign {
		return ""
	}
	switch p := c.Peers[0]; p.Kind {
	case estate.PeerGroup:
		return fmt.Sprintf("group %s in %s existing %s", foreignGroup(w.Estate, p.Group), p.Group.Network.Path(),
			adopt.Quote(cmp.Or(p.Group.ID, p.Group.Name)))
	case estate.PeerList:
		return adopt.Declaration(foreignList(w.Estate, p.List), p.List)
	}
	return ""
}
