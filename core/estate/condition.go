package estate

import (
	"fmt"
	"slices"
	"strings"
)

// ConditionKind says what a condition consists of.
type ConditionKind uint8

// The kinds of condition. A Test compares a label, the others combine conditions.
const (
	Test ConditionKind = iota
	AllOf
	AnyOf
	Not
)

// A Condition is a question about labels.
type Condition struct {
	Kind   ConditionKind
	Parts  []Condition // of AllOf and AnyOf; of Not a single one
	Label  string      // of Test
	Values []string    // of Test: the label must be one of them
	Negate bool        // of Test: the label must be none of them; it may be absent
}

// A Place is something that a condition can be asked about. Its labels are its own, and those it
// inherits from its subnet, network and account.
type Place struct {
	Instance  *Instance
	Interface *Interface // of an instance with several: the one that is asked about
	Subnet    *Subnet
	Network   *Network
	Group     *Group
	Account   *Account
}

// InterfacePlace is the place of an interface: its instance, subnet, network and account.
func InterfacePlace(i *Interface) Place {
	return Place{Instance: i.Instance, Interface: i, Subnet: i.Subnet, Network: i.Subnet.Network,
		Account: i.Instance.Account}
}

// NetworkPlace is the place of a network in its account.
func NetworkPlace(n *Network) Place { return Place{Network: n, Account: n.Account} }

// GroupPlace is the place of a group in its network and account.
func GroupPlace(g *Group) Place { return Place{Group: g, Network: g.Network, Account: g.Account} }

// Holds reports whether the condition is true of a place.
func (c *Condition) Holds(p Place) bool {
	switch c.Kind {
	case AllOf:
		return !slices.ContainsFunc(c.Parts, func(part Condition) bool { return !part.Holds(p) })
	case AnyOf:
		return slices.ContainsFunc(c.Parts, func(part Condition) bool { return part.Holds(p) })
	case Not:
		return !c.Parts[0].Holds(p)
	}
	if c.Label == "folder" {
		return slices.ContainsFunc(c.Values, func(v string) bool { return inFolder(p, v) }) != c.Negate
	}
	have, ok := p.Label(c.Label)
	return ok && slices.Contains(c.Values, have) != c.Negate || !ok && c.Negate
}

// String is the condition in the words of the language.
func (c *Condition) String() string {
	join := func(word string) string {
		var parts []string
		for i := range c.Parts {
			text := c.Parts[i].String()
			if k := c.Parts[i].Kind; k == AllOf || k == AnyOf {
				text = "(" + text + ")"
			}
			parts = append(parts, text)
		}
		return strings.Join(parts, " "+word+" ")
	}
	switch {
	case c.Kind == AllOf:
		return join("and")
	case c.Kind == AnyOf:
		return join("or")
	case c.Kind == Not:
		return "not (" + c.Parts[0].String() + ")"
	case len(c.Values) != 1:
		return fmt.Sprintf("%s in (%s)", c.Label, strings.Join(c.Values, ", "))
	case c.Negate:
		return c.Label + " != " + c.Values[0]
	}
	return c.Label + " = " + c.Values[0]
}

// Tests are all comparisons of labels in the condition.
func (c *Condition) Tests() []*Condition {
	if c.Kind == Test {
		return []*Condition{c}
	}
	var tests []*Condition
	for i := range c.Parts {
		tests = append(tests, c.Parts[i].Tests()...)
	}
	return tests
}

// CanHold reports whether the condition can be true of some instance in a place of which only
// subnet, network and account are known. Its own labels may have any value.
func (c *Condition) CanHold(p Place) bool {
	can, _ := c.possible(p)
	return can
}

// possible reports whether the condition can be true, and whether it can be false, of such an
// instance.
func (c *Condition) possible(p Place) (isTrue, isFalse bool) {
	switch c.Kind {
	case Not:
		isTrue, isFalse = c.Parts[0].possible(p)
		return isFalse, isTrue
	case AllOf:
		isTrue = true
		for i := range c.Parts {
			t, f := c.Parts[i].possible(p)
			isTrue, isFalse = isTrue && t, isFalse || f
		}
		return isTrue, isFalse
	case AnyOf:
		isFalse = true
		for i := range c.Parts {
			t, f := c.Parts[i].possible(p)
			isTrue, isFalse = isTrue || t, isFalse && f
		}
		return isTrue, isFalse
	}
	if _, known := p.pseudo(c.Label); !known {
		return true, true
	}
	holds := c.Holds(p)
	return holds, !holds
}

// inFolder reports whether the account is in the folder or one below it.
func inFolder(p Place, folder string) bool {
	if p.Account == nil {
		return false
	}
	have := strings.Trim(p.Account.Folder, "/")
	folder = strings.Trim(folder, "/")
	return have == folder || strings.HasPrefix(have, folder+"/")
}

// Label is a label of the place: a pseudo-label (account, cloud, region, folder, network, subnet,
// group, kind), or else its own or the nearest inherited one.
func (p Place) Label(name string) (string, bool) {
	if v, ok := p.pseudo(name); ok {
		return v, true
	}
	var own [5]Labels
	if p.Instance != nil {
		own[0] = p.Instance.Labels
	}
	if p.Group != nil {
		own[1] = p.Group.Labels
	}
	if p.Subnet != nil {
		own[2] = p.Subnet.Labels
	}
	if p.Network != nil {
		own[3] = p.Network.Labels
	}
	if p.Account != nil {
		own[4] = p.Account.Labels
	}
	for _, labels := range own {
		if v, ok := labels[name]; ok {
			return v, true
		}
	}
	return "", false
}

func (p Place) pseudo(name string) (string, bool) {
	switch {
	case name == "account" && p.Account != nil:
		return p.Account.Name, true
	case name == "cloud" && p.Account != nil && p.Account.Cloud != nil:
		return p.Account.Cloud.Name, true
	case name == "region" && p.Account != nil:
		return p.Account.Region, true
	case name == "folder" && p.Account != nil:
		return p.Account.Folder, true
	case name == "network" && p.Network != nil:
		return p.Network.Name, true
	case name == "subnet" && p.Subnet != nil:
		return p.Subnet.Name, true
	case name == "group" && p.Group != nil:
		return p.Group.Name, true
	case name == "kind" && p.Instance != nil:
		return string(p.Instance.Kind), true
	case name == "kind" && p.Group != nil:
		return string(p.Group.For), true
	}
	return "", false
}
