package resolve

import (
	"fmt"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/service"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

// groupHeads makes the groups without their rules, so that rules can refer to all of them.
func (r *resolver) groupHeads() {
	for _, d := range r.groupDecls {
		r.file = d.file
		n := d.node
		switch {
		case n.Scope.Network.Text == "":
			r.say(n.Scope.Span, "name one network", `this version does not work with "every network" yet`)
			continue
		case n.For.Text == "subnets":
			r.say(n.For.Span, "", "this version does not work with groups for subnets yet")
			continue
		case n.Existing.Given():
			r.say(n.Existing.Span, "", "this version does not work with existing groups yet")
			continue
		}
		network := r.findNetwork(n.Scope.Network)
		if network == nil {
			continue
		}
		g := &estate.Group{Account: network.Account, Network: network, Name: n.Name.Text, For: estate.ForInstances, Description: n.Title.Text,
			Labels: estate.Labels{}, Defined: true, Origin: r.origin(n.Span)}
		if !r.declare("group", g.Path(), n.Name) {
			continue
		}
		r.estate.Groups = append(r.estate.Groups, g)
		r.groups[g.Name] = append(r.groups[g.Name], g)
		r.bodies = append(r.bodies, body{g, d})
	}
}

func (r *resolver) groupBodies() {
	for _, b := range r.bodies {
		r.file = b.file
		for _, s := range b.node.Body {
			r.member(b.group, s)
		}
	}
}

func (r *resolver) member(g *estate.Group, s syntax.Stmt) {
	switch s := s.(type) {
	case *syntax.Cover:
		c := estate.Cover{}
		switch s.Kind.Text {
		case "where":
			c.Where = r.condition(s.Where)
		case "instance":
			c.Instances = texts(s.Names)
		case "subnet":
			r.say(s.Kind.Span, `write "group NAME for subnets in …"`, "a group for instances can't cover a subnet")
			return
		}
		g.Covers = append(g.Covers, c)
	case *syntax.LabelStmt:
		r.labels(g.Labels, s.Pairs)
	case *syntax.Named:
		g.CloudName = s.Name.Text
	case *syntax.Rule:
		r.rule(g, s)
	default:
		word, _, _ := strings.Cut(r.file.Of(s.Extent()), " ")
		r.say(firstWord(s.Extent(), word), "", "this version does not work with %q yet", word)
	}
}

func texts(words []syntax.Word) []string {
	var list []string
	for _, w := range words {
		list = append(list, w.Text)
	}
	return list
}

func (r *resolver) rule(g *estate.Group, s *syntax.Rule) {
	if s.Verb.Text != "admit" && s.Verb.Text != "reach" {
		r.say(s.Verb.Span, "", "this version does not work with %q yet", s.Verb.Text)
		return
	}
	rule := estate.Rule{Direction: estate.In, Action: estate.Admit, Origin: r.origin(s.Span)}
	if s.Verb.Text == "reach" {
		rule.Direction = estate.Out
	}
	rule.Services, rule.Words = r.specs(s.Services)
	rule.Peers = r.peers(s.Peers.Of, g)
	rule.Except = r.peers(s.Peers.Except, g)
	r.families(rule, s)
	switch {
	case s.Because.Quoted:
		rule.Description = s.Because.Text
	case s.Because.Given():
		r.say(s.Because.Span, `write the reason in "quotes"`, "%q is not a text: a name can stand here only for a parameter", s.Because.Text)
	}
	if s.Stateless.Given() && g.Account.Cloud.Dialect != "" {
		r.say(s.Stateless.Span, "", "the cloud %s (%s) keeps state for every rule", g.Account.Cloud.Name, g.Account.Cloud.Dialect)
	}
	if s.Until.Given() {
		rule.Until = s.Until.Time
		if !rule.Until.IsZero() && !rule.Until.After(r.options.Now) {
			r.warn(s.Until.Span, "delete the line, or give it a later date", "the rule has ended and is left out")
			return
		}
	}
	g.Rules = append(g.Rules, rule)
}

// families says when no packet can fit a rule, because its services and peers are of different families.
func (r *resolver) families(rule estate.Rule, s *syntax.Rule) {
	set := service.Of(rule.Services...)
	if set.IsEmpty() || len(rule.Peers) == 0 {
		return
	}
	all := func(f addr.Family) bool {
		return !slices.ContainsFunc(rule.Peers, func(p estate.Peer) bool {
			if p.Kind == estate.PeerRange {
				return p.Range.Addr().Is4() != (f == addr.IPv4)
			}
			return p.Family() != f
		})
	}
	if all(addr.IPv4) && set.SubsetOf(service.NotIPv4) {
		r.say(s.Services[0].Span, "write icmp", "icmpv6 does not go over IPv4, and all peers are IPv4")
	}
	if all(addr.IPv6) && set.SubsetOf(service.NotIPv6) {
		r.say(s.Services[0].Span, "write icmpv6", "icmp does not go over IPv6, and all peers are IPv6")
	}
}

// peers resolves the peers of a rule in a group, or with nil of an expectation.
func (r *resolver) peers(written []syntax.Peer, g *estate.Group) []estate.Peer {
	var peers []estate.Peer
	for _, w := range written {
		if p, ok := r.peer(w, g); ok {
			peers = append(peers, p)
		}
	}
	return peers
}

func (r *resolver) peer(w syntax.Peer, g *estate.Group) (estate.Peer, bool) {
	p := estate.Peer{V4Only: w.Family.Text == "v4", V6Only: w.Family.Text == "v6"}
	switch w.Kind {
	case "everyone":
		p.Kind = estate.PeerEveryone
	case "internet":
		p.Kind = estate.PeerInternet
		if g != nil {
			r.say(w.Span, `write "everyone": every address; internet is for laws and expects`, "a rule can't name the internet")
			return p, false
		}
	case "self":
		p.Kind = estate.PeerSelf
		if g == nil {
			r.say(w.Span, "name the group", `"self" stands only in a group`)
			return p, false
		}
	case "probes":
		p.Kind = estate.PeerProbes
	case "range":
		p.Kind, p.Range = estate.PeerRange, r.prefix(w.Range)
		if p.V4Only && p.Range.Addr().Is6() || p.V6Only && p.Range.Addr().Is4() {
			r.say(w.Family.Span, "leave it out", "%s has no %s addresses", p.Range, w.Family.Text)
		}
	case "network":
		p.Kind = estate.PeerNetwork
		if w.Name.Given() {
			p.Network = r.findNetwork(w.Name)
		} else if g != nil {
			p.Network = g.Network
		} else {
			r.say(w.Span, "name the network", "here stands no network of its own")
		}
		return p, p.Network != nil
	case "subnet":
		p.Kind = estate.PeerSubnet
		p.Subnet = r.findSubnet(w.Name, g)
		return p, p.Subnet != nil
	case "list":
		p.Kind = estate.PeerList
		p.List = r.findList(w.Name)
		return p, p.List != nil
	case "group", "name":
		p.Kind = estate.PeerGroup
		p.Group = r.findGroup(w, g)
		if p.Group != nil && p.Group == g {
			p.Kind, p.Group = estate.PeerSelf, nil
			return p, true
		}
		return p, p.Group != nil
	}
	return p, true
}

func (r *resolver) findSubnet(name syntax.Word, g *estate.Group) *estate.Subnet {
	var found []*estate.Subnet
	var names, paths []string
	for _, n := range r.estate.Networks {
		for _, s := range n.Subnets {
			own := g != nil && n == g.Network
			if s.Path() == name.Text || n.Name+"/"+s.Name == name.Text || s.Name == name.Text {
				if own && s.Name == name.Text {
					return s
				}
				found = append(found, s)
				paths = append(paths, s.Path())
			}
			names = append(names, s.Name)
		}
	}
	switch len(found) {
	case 1:
		return found[0]
	case 0:
		r.say(name.Span, nearest(name.Text, names), "no subnet is called %q", name.Text)
	default:
		r.say(name.Span, "write "+strings.Join(paths, " or "), "several subnets are called %q", name.Text)
	}
	return nil
}

// findGroup finds the group that a peer names: in the same network, else the
// only one in the estate.
func (r *resolver) findGroup(w syntax.Peer, g *estate.Group) *estate.Group {
	name := w.Name.Text
	last := name[strings.LastIndexByte(name, '/')+1:]
	var found []*estate.Group
	var paths []string
	for _, candidate := range r.groups[last] {
		if strings.HasSuffix("/"+candidate.Path(), "/"+name) {
			if g != nil && candidate.Network == g.Network {
				return candidate
			}
			found = append(found, candidate)
			paths = append(paths, candidate.Path())
		}
	}
	switch len(found) {
	case 1:
		return found[0]
	case 0:
		r.say(w.Name.Span, r.nearGroup(w), "no group is called %q", name)
	default:
		r.say(w.Name.Span, "write "+strings.Join(paths, " or "), "several groups are called %q", name)
	}
	return nil
}

func (r *resolver) nearGroup(w syntax.Peer) string {
	if w.Kind == "name" {
		if _, ok := r.listByName[w.Name.Text]; ok {
			return fmt.Sprintf(`there is a list of that name: write "list %s"`, w.Name.Text)
		}
	}
	var names []string
	for _, g := range r.estate.Groups {
		names = append(names, g.Name)
		if strings.Contains(w.Name.Text, "/") {
			names = append(names, g.Path())
		}
	}
	return nearest(w.Name.Text, names)
}

func (r *resolver) condition(c *syntax.Condition) *estate.Condition {
	e := &estate.Condition{}
	switch c.Op {
	case syntax.Compare:
		e.Kind, e.Label, e.Negate, e.Values = estate.Test, c.Label.Text, c.Negate, texts(c.Values)
		return e
	case syntax.And:
		e.Kind = estate.AllOf
	case syntax.Or:
		e.Kind = estate.AnyOf
	case syntax.NotOp:
		e.Kind = estate.Not
	}
	for _, part := range c.Parts {
		e.Parts = append(e.Parts, *r.condition(part))
	}
	return e
}

func (r *resolver) expects() {
	for _, d := range r.expectDecls {
		r.file = d.file
		n := d.node
		x := law.Expectation{Text: oneLine(r.file, n.Span), Because: n.Because.Text, Origin: r.origin(n.Span), Only: n.Only, Can: n.Can, Services: service.All, Words: "any"}
		x.From = law.Side{Of: r.peers(n.From.Of, nil), Except: r.peers(n.From.Except, nil)}
		x.To = law.Side{Of: r.peers(n.To.Of, nil), Except: r.peers(n.To.Except, nil)}
		if len(n.On) > 0 {
			specs, words := r.specs(n.On)
			x.Services, x.Words = service.Of(specs...), strings.Join(words, ", ")
		}
		r.expectations = append(r.expectations, x)
	}
}

// oneLine is the text of a span without line ends and comments.
func oneLine(f *source.File, s source.Span) string {
	var words []string
	for line := range strings.Lines(f.Of(s)) {
		if before, _, found := strings.Cut(line, "#"); found && strings.Count(before, `"`)%2 == 0 {
			line = before
		}
		words = append(words, strings.Fields(line)...)
	}
	return strings.Join(words, " ")
}
