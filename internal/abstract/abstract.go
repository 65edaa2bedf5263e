// Package abstract makes random definitions for tests, as a tree that knows its own meaning: what
// each group lets through, one address and one service at a time, slowly, by the page on the
// language. It shares no code with the packages that resolve and compile definitions.
package abstract

import (
	"net/netip"
	"slices"
)

// An Estate is definitions for one cloud, and the instances in it.
type Estate struct {
	Dialect   string
	Networks  []*Network
	Hosts     []*Host
	Groups    []*Group
	Lists     []*List
	Patterns  []*Pattern
	Connects  []*Connect
	Baselines []*Baseline
	Peered    bool // the two networks peer with each other
}

// A Network has ranges and subnets.
type Network struct {
	Name    string
	Ranges  []netip.Prefix
	Subnets []*Subnet
	Answers [2]uint16 // client ports; zero if not given
}

// A Subnet is part of a network.
type Subnet struct {
	Network *Network
	Name    string
	Ranges  []netip.Prefix
}

// A Host is an instance with one interface.
type Host struct {
	Name, Role string
	Subnet     *Subnet
	Addrs      []netip.Addr
}

// A List is a prefix list.
type List struct {
	Name   string
	Ranges []netip.Prefix
}

// A Group is for instances, or with Wall for subnets.
type Group struct {
	Network *Network
	Name    string
	Wall    bool
	Role    string   // covered by label; if empty
	Named   []string // covered by name: hosts, or subnets
	Follows bool
	Body    []*Stmt
}

// A Stmt is a rule, the use of a pattern, or a "where" with rules inside.
type Stmt struct {
	Verb      string // "admit", "reach", "refuse from", "refuse at", "use", "where"
	Services  []Service
	Peers     []Peer
	Except    []Peer
	Stateless bool

	Pattern   *Pattern // of a use
	Who       []Peer   // its first argument
	WhoExcept []Peer
	What      []Service // its second argument

	Holds bool    // of a where: whether its condition holds
	Inner []*Stmt // of a where: the rules inside
}

// A Pattern has two parameters: who (peers) and what (services).
type Pattern struct {
	Name string
	Body []*Stmt
}

// A Connect writes the rules at both ends of a connection.
type Connect struct {
	From, To []Peer
	Services []Service
}

// A Baseline uses a pattern in many groups.
type Baseline struct {
	Use   *Stmt
	Kind  string // "" for what stands without a condition on the kind
	Stage string // "" or a condition on the network's account
}

// A Peer names who is at the other end.
type Peer struct {
	Kind   string // "everyone", "self", "network", "subnet", "group", "list", "range", "who"
	Family string // "", "v4", "v6"
	Net    *Network
	Sub    *Subnet
	Group  *Group
	List   *List
	Range  netip.Prefix
}

// A Service is one as it is written, with what it means.
type Service struct {
	Text string
	Fits func(protocol uint8, detail uint16) bool
}

func within(ranges []netip.Prefix, a netip.Addr) bool {
	return slices.ContainsFunc(ranges, func(p netip.Prefix) bool { return p.Contains(a) })
}

// Covers reports whether a group for instances is attached to a host.
func (g *Group) Covers(h *Host) bool {
	if g.Wall || h.Subnet.Network != g.Network {
		return false
	}
	return g.Role != "" && g.Role == h.Role || slices.Contains(g.Named, h.Name)
}

// around reports whether a group is attached to a subnet.
func (g *Group) around(s *Subnet) bool {
	return g.Wall && s.Network == g.Network && slices.Contains(g.Named, s.Name)
}

func (e *Estate) members(g *Group, a netip.Addr) bool {
	return slices.ContainsFunc(e.Hosts, func(h *Host) bool { return g.Covers(h) && slices.Contains(h.Addrs, a) })
}

// Nameable reports whether rules of a group can name another, in this cloud.
func (e *Estate) Nameable(g, other *Group) bool {
	return g.Network == other.Network || e.Dialect == "flat" || e.Dialect == "union" && e.Peered
}

// args are the arguments of a pattern's parameters.
type args struct {
	who, whoExcept []Peer
	what           []Service
}

// names reports whether a peer in a rule of a group means an address.
func (e *Estate) names(g *Group, p Peer, a netip.Addr, x args) bool {
	if p.Family == "v4" && a.Is6() || p.Family == "v6" && a.Is4() {
		return false
	}
	switch p.Kind {
	case "everyone":
		return true
	case "self":
		return e.members(g, a)
	case "network":
		return within(p.Net.Ranges, a)
	case "subnet":
		return within(p.Sub.Ranges, a)
	case "group":
		return e.members(p.Group, a)
	case "list":
		return within(p.List.Ranges, a)
	case "range":
		return p.Range.Contains(a)
	case "who":
		return e.anyNames(g, x.who, a, args{}) && !e.anyNames(g, x.whoExcept, a, args{})
	}
	panic(p.Kind)
}

func (e *Estate) anyNames(g *Group, peers []Peer, a netip.Addr, x args) bool {
	return slices.ContainsFunc(peers, func(p Peer) bool { return e.names(g, p, a, x) })
}

// A verdict is what a group decides about a flow.
type verdict struct {
	admits, keeps bool // keeps: the answer comes back by itself
	refused       bool // rules behind it don't count
}

// say applies a statement, and what it stands for, to the verdict of the statements before it.
func (e *Estate) say(g *Group, s *Stmt, in bool, a netip.Addr, protocol uint8, detail uint16, x args,
	v verdict) verdict {
	if v.refused {
		return v
	}
	switch s.Verb {
	case "use":
		for _, inner := range s.Pattern.Body {
			v = e.say(g, inner, in, a, protocol, detail, args{s.Who, s.WhoExcept, s.What}, v)
		}
		return v
	case "where":
		for _, inner := range s.Inner {
			if s.Holds {
				v = e.say(g, inner, in, a, protocol, detail, x, v)
			}
		}
		return v
	}
	if in != (s.Verb == "admit" || s.Verb == "refuse from") {
		return v
	}
	services := s.Services
	if len(services) == 0 {
		services = x.what
	}
	fits := slices.ContainsFunc(services, func(y Service) bool { return y.Fits(protocol, detail) })
	if !fits || !e.anyNames(g, s.Peers, a, x) || e.anyNames(g, s.Except, a, x) {
		return v
	}
	if s.Verb == "admit" || s.Verb == "reach" {
		v.admits, v.keeps = true, v.keeps || !s.Stateless
	} else {
		v.refused = true
	}
	return v
}

// canStandIn reports whether members of a group can be in a subnet, as far as definitions tell.
func (g *Group) canStandIn(s *Subnet) bool { return g.Network == s.Network }

// lets is the verdict of a group.
func (e *Estate) lets(g *Group, in bool, a netip.Addr, protocol uint8, detail uint16) verdict {
	var v verdict
	for _, s := range g.Body {
		v = e.say(g, s, in, a, protocol, detail, args{}, v)
	}
	for _, c := range e.Connects {
		own, other := c.From, c.To
		if in {
			own, other = c.To, c.From
		}
		if !slices.ContainsFunc(c.Services, func(s Service) bool { return s.Fits(protocol, detail) }) {
			continue
		}
		mine := slices.ContainsFunc(own, func(p Peer) bool { return p.Group == g })
		if g.Wall && !g.Follows && e.Dialect != "layered" {
			for _, p := range own {
				mine = mine || p.Group != nil &&
					slices.ContainsFunc(g.Network.Subnets,
						func(s *Subnet) bool { return g.around(s) && p.Group.canStandIn(s) })
			}
		}
		if mine && e.anyNames(g, other, a, args{}) && !v.refused {
			v.admits, v.keeps = true, true
		}
	}
	for _, b := range e.Baselines {
		if b.Kind == "" && g.Wall || b.Kind == "instances" && g.Wall || b.Kind == "subnets" && !g.Wall ||
			b.Stage != "" && b.Stage != "lab" {
			continue
		}
		v = e.say(g, b.Use, in, a, protocol, detail, args{}, v)
	}
	if g.Follows && e.Dialect != "layered" && !v.refused && !v.admits {
		for _, f := range e.Groups {
			inside := slices.ContainsFunc(e.Hosts, func(h *Host) bool { return f.Covers(h) && g.around(h.Subnet) })
			if !inside {
				continue
			}
			if x := e.lets(f, in, a, protocol, detail); x.admits {
				v.admits, v.keeps = true, v.keeps || x.keeps
			}
		}
	}
	return v
}

// An Answer is what the filters at a host should do with a flow.
type Answer struct {
	Passes bool
	Keeps  bool // its answer is let through too
	// Room: it may pass although no definition says so, since it might be an answer to what is let
	// through in the other direction, and a subnet group keeps no state.
	Room bool
}

// At is what the filters at a host should do with one service, from or to an address.
func (e *Estate) At(h *Host, in bool, a netip.Addr, protocol uint8, detail uint16) Answer {
	var inner, wall verdict
	attached, walls := false, false
	for _, g := range e.Groups {
		switch {
		case g.Covers(h):
			attached = true
			inner = inner.or(e.lets(g, in, a, protocol, detail))
		case g.around(h.Subnet):
			walls = true
			wall = wall.or(e.lets(g, in, a, protocol, detail))
		}
	}
	near := within(h.Subnet.Ranges, a)
	switch e.Dialect {
	case "flat":
		return Answer{Passes: inner.admits, Keeps: inner.keeps}
	case "layered":
		if !walls { // the default list: ssh in, everything out
			wall.admits = !in || protocol == 6 && detail == 22
			wall.keeps = wall.admits
		}
		both := inner.or(wall)
		return Answer{Passes: both.admits, Keeps: both.keeps}
	case "ranked":
		passes := inner.admits || !attached
		return Answer{Passes: passes && (wall.admits || !walls || near), Keeps: true}
	}
	answer := Answer{Passes: inner.admits && (wall.admits || !walls || near), Keeps: true}
	answer.Room = !answer.Passes && inner.admits && e.answers(h, in, a, protocol, detail)
	return answer
}

func (v verdict) or(x verdict) verdict {
	return verdict{admits: v.admits || x.admits, keeps: v.keeps || x.keeps}
}

// answers reports whether a flow may be an answer to what the subnet group around a host lets
// through in the other direction.
func (e *Estate) answers(h *Host, in bool, a netip.Addr, protocol uint8, detail uint16) bool {
	lets := func(protocol uint8, detail uint16) bool {
		return slices.ContainsFunc(e.Groups, func(g *Group) bool {
			return g.around(h.Subnet) && e.lets(g, !in, a, protocol, detail).admits
		})
	}
	portless := !slices.Contains([]uint8{1, 6, 17, 33, 58, 132, 136}, protocol)
	if lets(99, 0) { // a protocol that only "any" speaks of: everything is answered
		return true
	}
	if portless {
		return lets(protocol, 0)
	}
	if protocol == 1 || protocol == 58 {
		requests := map[[2]uint16]uint16{{1, 0}: 8, {1, 14}: 13, {1, 18}: 17, {58, 129}: 128}
		request, is := requests[[2]uint16{uint16(protocol), detail >> 8}]
		for code := uint16(0); is && code < 256; code++ {
			if lets(protocol, request<<8|code) {
				return true
			}
		}
		return false
	}
	from, to := uint16(1024), uint16(65535)
	if n := h.Subnet.Network.Answers; n[1] > 0 {
		from, to = n[0], n[1]
	}
	other := false // clients may be in a network with other client ports
	for _, n := range e.Networks {
		low, high := uint16(1024), uint16(65535)
		if n.Answers[1] > 0 {
			low, high = n.Answers[0], n.Answers[1]
		}
		other = other || !in && low <= detail && detail <= high
	}
	if (detail < from || detail > to) && !other {
		return false
	}
	return slices.ContainsFunc(edges, func(port uint16) bool { return lets(protocol, port) })
}

// edges are ports at which something in random definitions can begin or end.
var edges = []uint16{0, 20, 21, 22, 23, 53, 54, 443, 444, 3868, 3869, 5000, 5004, 5005, 5006, 5432, 5433, 6001}
