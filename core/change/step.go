package change

import (
	"fmt"
	"net/netip"
	"slices"

	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
)

// An Action is what a step does in a cloud, by one request.
type Action string

// The actions.
const (
	CreateGroup    Action = "create-group"
	LabelGroup     Action = "label-group" // marks a group as the estate's own
	DeleteGroup    Action = "delete-group"
	AddRules       Action = "add-rules" // several only in clouds that take all of them or none
	RemoveRule     Action = "remove-rule"
	CreateList     Action = "create-list"
	LabelList      Action = "label-list"
	SetEntries     Action = "set-entries"
	DeleteList     Action = "delete-list"
	Attach         Action = "attach"           // replaces the groups of an interface
	AttachToSubnet Action = "attach-to-subnet" // replaces the groups of a subnet
)

// Of is the kind of object that an action changes, as surveys name it: group, list, instance (one
// of its interfaces) or subnet.
func (a Action) Of() string {
	switch a {
	case CreateList, LabelList, SetEntries, DeleteList:
		return "list"
	case Attach:
		return "instance"
	case AttachToSubnet:
		return "subnet"
	}
	return "group"
}

// Makes reports whether an action creates its object.
func (a Action) Makes() bool { return a == CreateGroup || a == CreateList }

// Deletes reports whether an action deletes its object.
func (a Action) Deletes() bool { return a == DeleteGroup || a == DeleteList }

// renamed are actions by the names that they had in earlier drafts and journals.
var renamed = map[string]Action{"dress": Attach, "surround": AttachToSubnet}

// UnmarshalText reads an action by its present or an earlier name.
func (a *Action) UnmarshalText(text []byte) error {
	*a = Action(text)
	if now, was := renamed[string(text)]; was {
		*a = now
	}
	return nil
}

// A Step is one change in an account. Fields that its action does not need are zero. Groups and
// lists that a step creates have made-up ids until then (IsNew).
type Step struct {
	Do        Action
	Account   *estate.Account
	Group     *estate.Group // for all actions on groups and their rules
	List      *estate.List  // for all actions on lists
	Rules     []estate.Rule // those to be added, or the one to be removed
	Interface *estate.Interface
	Subnet    *estate.Subnet
	Groups    []*estate.Group // that the interface or subnet will have
	Entries   []estate.Entry  // that the list will have
	Labels    estate.Labels   // that the group or list will have
	Replaces  string          // for an object that is created again: the id that it had
	Opens     bool            // something passes after this step that did not pass before
	Closes    bool            // something does not pass any more
}

// object is the id of what a step is about.
func (x *Step) object() string {
	switch {
	case x.Interface != nil:
		return x.Interface.ID
	case x.Subnet != nil:
		return x.Subnet.ID
	case x.List != nil:
		return x.List.ID
	}
	return x.Group.ID
}

// newPrefix begins made-up ids.
const newPrefix = "new:"

// IsNew reports whether an id is made up, for something that does not exist yet.
func IsNew(id string) bool { return len(id) > len(newPrefix) && id[:len(newPrefix)] == newPrefix }

// A state is an estate that steps are applied to.
type state struct {
	e     *estate.Estate
	d     decide.Moving
	named map[*estate.Group][]*estate.Group // groups whose rules refer to a group, now or later
	held  map[*estate.List][]*estate.Group  // groups whose rules refer to a list, now or later
	here  map[any]bool                      // groups and lists that exist
}

func newState(e *estate.Estate) *state {
	s := &state{e: e, d: decide.NewMoving(e), named: make(map[*estate.Group][]*estate.Group),
		held: make(map[*estate.List][]*estate.Group), here: make(map[any]bool)}
	for _, g := range e.Groups {
		s.here[g] = true
		s.noteNames(g, g.Rules)
	}
	for _, l := range e.Lists {
		s.here[l] = true
	}
	return s
}

// noteNames notes which groups and lists the rules of a group refer to.
func (s *state) noteNames(g *estate.Group, rules []estate.Rule) {
	for i := range rules {
		for _, p := range rules[i].Peers {
			switch {
			case p.Kind == estate.PeerGroup && !slices.Contains(s.named[p.Group], g):
				s.named[p.Group] = append(s.named[p.Group], g)
			case p.Kind == estate.PeerList && !slices.Contains(s.held[p.List], g):
				s.held[p.List] = append(s.held[p.List], g)
			}
		}
	}
}

// ready reports whether the cloud would accept a step now: what it refers to exists, what it
// deletes is not in use.
func (s *state) ready(x *Step) bool {
	there := func(g *estate.Group) bool { return s.here[g] }
	switch x.Do {
	case CreateGroup:
		return !there(x.Group)
	case DeleteGroup:
		return len(s.d.InterfacesOf(x.Group)) == 0 && !s.inUse(x.Group) &&
			!slices.ContainsFunc(s.named[x.Group], func(g *estate.Group) bool {
				return g != x.Group && there(g) &&
					refers(g, func(p estate.Peer) bool { return p.Kind == estate.PeerGroup && p.Group == x.Group })
			})
	case DeleteList:
		return !slices.ContainsFunc(s.held[x.List], func(g *estate.Group) bool {
			return there(g) && refers(g,
				func(p estate.Peer) bool { return p.Kind == estate.PeerList && p.List == x.List })
		})
	case AddRules:
		return there(x.Group) && !slices.ContainsFunc(x.Rules, func(r estate.Rule) bool {
			return slices.ContainsFunc(r.Peers, func(p estate.Peer) bool {
				return p.Kind == estate.PeerGroup && !there(p.Group) || p.Kind == estate.PeerList && !s.here[p.List]
			})
		})
	case Attach, AttachToSubnet:
		return !slices.ContainsFunc(x.Groups, func(g *estate.Group) bool { return !there(g) })
	}
	return true
}

// inUse reports whether a group is attached to a subnet, even an empty one.
func (s *state) inUse(g *estate.Group) bool {
	if g.For != estate.ForSubnets || g.Network == nil {
		return false
	}
	return slices.ContainsFunc(g.Network.Subnets, func(n *estate.Subnet) bool { return slices.Contains(n.Groups, g) })
}

// refers reports whether a rule of a group has such a peer.
func refers(g *estate.Group, is func(estate.Peer) bool) bool {
	return slices.ContainsFunc(g.Rules, func(r estate.Rule) bool { return slices.ContainsFunc(r.Peers, is) })
}

// apply carries out a step in the state. It returns the groups whose rules or members mean
// something else afterwards, the interfaces at which other groups are attached, and a function that
// undoes the step.
func (s *state) apply(x *Step) (groups []*estate.Group, interfaces []*estate.Interface, back func()) {
	switch x.Do {
	case CreateGroup, DeleteGroup:
		return nil, nil, s.turn(x.Group)
	case CreateList, DeleteList:
		return nil, nil, s.turn(x.List)
	case LabelGroup:
		was := x.Group.Labels
		x.Group.Labels = x.Labels
		return nil, nil, func() { x.Group.Labels = was }
	case LabelList:
		was := x.List.Labels
		x.List.Labels = x.Labels
		return nil, nil, func() { x.List.Labels = was }
	case AddRules, RemoveRule:
		was := x.Group.Rules
		now := slices.Clip(was)
		if x.Do == AddRules {
			now = append(now, x.Rules...)
			s.noteNames(x.Group, x.Rules)
		} else {
			now = slices.DeleteFunc(slices.Clone(was), func(r estate.Rule) bool { return r.ID == x.Rules[0].ID })
		}
		s.d.Rewrite(x.Group, now)
		return []*estate.Group{x.Group}, nil, func() { s.d.Rewrite(x.Group, was) }
	case SetEntries:
		was := x.List.Entries
		s.d.Refill(x.List, x.Entries)
		return s.held[x.List], nil, func() { s.d.Refill(x.List, was) }
	case Attach:
		was := x.Interface.Groups
		moved := s.d.Attach(x.Interface, x.Groups)
		for _, g := range moved {
			groups = append(groups, s.named[g]...)
			groups = append(groups, g) // it may refer to itself
		}
		return groups, []*estate.Interface{x.Interface}, func() { s.d.Attach(x.Interface, was) }
	case AttachToSubnet:
		was := x.Subnet.Groups
		s.d.AttachToSubnet(x.Subnet, x.Groups)
		return nil, s.d.InSubnet(x.Subnet), func() { s.d.AttachToSubnet(x.Subnet, was) }
	}
	panic("a step that does nothing known: " + string(x.Do))
}

// turn creates or deletes a group or list in the state, and returns a function that undoes that. At
// that moment it is attached to nothing and no rule refers to it.
func (s *state) turn(what any) (back func()) {
	s.here[what] = !s.here[what]
	return func() { s.here[what] = !s.here[what] }
}

// letOut are the rules that the cloud adds to a new group, with made-up ids.
func letOut(g *estate.Group) []estate.Rule {
	if g.For != estate.ForInstances || !decide.Dialect(g.Account).NewLetsOut {
		return nil
	}
	var rules []estate.Rule
	for i, p := range []string{"0.0.0.0/0", "::/0"} {
		rules = append(rules, estate.Rule{ID: fmt.Sprintf("%s.%d", g.ID, i+1), Direction: estate.Out,
			Action: estate.Admit, Services: []service.Spec{service.Anything},
			Peers: []estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix(p)}}})
	}
	return rules
}
