package resolve

import (
	"fmt"
	"slices"
	"strings"

	"isonomos/core/audit"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/service"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

// Declarations about whole groups: connects, laws, exemptions, expectations.

// An end is one end of a connect: groups, and other peers.
type end struct {
	groups []*estate.Group
	others []estate.Peer
	except []estate.Peer
}

func (r *resolver) end(written syntax.Peers) (end, bool) {
	var e end
	before := r.mistakes()
	peers, except := r.onlySide(written)
	e.except = except
	for _, p := range peers {
		switch p.Kind {
		case estate.PeerGroup:
			e.groups = append(e.groups, p.Group)
		case estate.PeerInternet:
			r.say(written.Span, `write "everyone"`, "a connect can't name the internet")
		default:
			e.others = append(e.others, p)
		}
	}
	return e, r.mistakes() == before
}

// connects write the rules at both ends of each connection, behind the groups' own rules.
func (r *resolver) connects() {
	for _, d := range r.connectDecls {
		r.file = d.file
		from, ok := r.end(d.node.From)
		to, good := r.end(d.node.To)
		specs, words := r.specs(d.node.On, setting{})
		if !ok || !good {
			continue
		}
		if len(from.groups) == 0 && len(to.groups) == 0 {
			r.say(d.node.Span, "", "a connect needs a group at one end at least")
			continue
		}
		c := connection{resolver: r, decl: d.node, specs: specs, words: words}
		c.write(from, to)
	}
}

// A connection is a connect whose rules are being written.
type connection struct {
	*resolver
	decl  *syntax.Connect
	specs []service.Spec
	words []string
}

func (c *connection) write(from, to end) {
	reaches := make(map[*estate.Group][]estate.Peer) // whom each group at the first end is to reach
	admits := make(map[*estate.Group][]estate.Peer)  // whom each group at the second end is to admit
	first, second := c.side(from.groups), c.side(to.groups)
	for _, a := range from.groups {
		for _, b := range c.partners(a, first, second, c.decl.From.Span) {
			if a.Account.Cloud != b.Account.Cloud {
				c.say(c.decl.From.Span, "name addresses: a list, or ranges", "%s is on the cloud %s and %s on "+
					"%s: groups of different clouds can't name each other", a.Path(), a.Account.Cloud.Name, b.Path(),
					b.Account.Cloud.Name)
				return
			}
			reaches[a] = append(reaches[a], groupPeer(a, b))
			admits[b] = append(admits[b], groupPeer(b, a))
		}
		reaches[a] = append(reaches[a], to.others...)
	}
	for _, b := range to.groups {
		if len(from.groups) > 0 {
			c.partners(b, second, first, c.decl.To.Span) // it reports a missing partner
		}
		admits[b] = append(admits[b], from.others...)
	}
	for _, a := range from.groups {
		c.add(a, estate.Out, reaches[a], to.except)
	}
	for _, b := range to.groups {
		c.add(b, estate.In, admits[b], from.except)
	}
	c.throughSubnets(from.groups, estate.Out, reaches, to.except)
	c.throughSubnets(to.groups, estate.In, admits, from.except)
}

// A connected side is the groups at one end of a connect.
type connected struct {
	groups    []*estate.Group
	one       bool // all groups are of one declaration for several networks
	byNetwork map[*estate.Network]*estate.Group
}

func (c *connection) side(groups []*estate.Group) connected {
	s := connected{groups: groups, one: true, byNetwork: make(map[*estate.Network]*estate.Group, len(groups))}
	for _, g := range groups {
		s.one = s.one && c.declOf[g] == c.declOf[groups[0]]
		if s.byNetwork[g.Network] == nil {
			s.byNetwork[g.Network] = g
		}
	}
	return s
}

// partners are the groups at the other end with which a group is connected: the only one, or of
// several the one in the same network.
func (c *connection) partners(g *estate.Group, own, others connected, at source.Span) []*estate.Group {
	pairwise := len(own.groups) > 1 && len(others.groups) > 1 && own.one && others.one
	alone := len(others.groups) == 1 && len(own.groups) > 1 && own.one && others.groups[0].Network != g.Network &&
		own.byNetwork[others.groups[0].Network] != nil
	switch o := others.byNetwork[g.Network]; {
	case pairwise && o != nil:
		return []*estate.Group{o}
	case pairwise, alone:
		c.say(at, "", "%s has no partner in its network to be connected with", g.Path())
		return nil
	}
	return others.groups
}

// groupPeer is a group as a peer in rules of another.
func groupPeer(in, g *estate.Group) estate.Peer {
	if in == g {
		return estate.Peer{Kind: estate.PeerSelf}
	}
	return estate.Peer{Kind: estate.PeerGroup, Group: g}
}

func (c *connection) add(g *estate.Group, direction estate.Direction, peers, except []estate.Peer) {
	rule, ok := c.rule(g, direction, peers, except)
	if !ok {
		return
	}
	if before := stoppedBy(g, rule, g.Rules); before != nil {
		hint, text := c.stopped(g, before)
		c.say(c.decl.Span, hint, "%s", text)
		return
	}
	g.Rules = append(g.Rules, rule)
}

// rule writes the connection's rule into a group, if it has peers.
func (c *connection) rule(g *estate.Group, direction estate.Direction, peers, except []estate.Peer) (estate.Rule,
	bool) {
	if len(peers) == 0 || g.Existing {
		return estate.Rule{}, false
	}
	rule := estate.Rule{Direction: direction, Action: estate.Admit, Services: c.specs, Words: c.words, Peers: peers,
		Except: except, Origin: c.origin(c.decl.Span)}
	rule.Through = &estate.Through{Kind: "connect", Origin: rule.Origin}
	ended := c.finish(&rule, clauses{c.decl.Because.Text, c.decl.Until}, clauses{})
	return rule, !ended
}

// stopped says which refusal of a group stops the connection.
func (c *connection) stopped(g *estate.Group, before *estate.Rule) (hint, text string) {
	return fmt.Sprintf("the refusal is at %s:%d", before.Origin.File, before.Origin.Line),
		fmt.Sprintf("the refusal %q of %s stops this connect", before.Sentence(c.estate.Services), g.Path())
}

// throughSubnets writes a connection into the managed subnet groups around one end, where members
// of its groups can be. Groups that follow instances need no rule, and where the admission of one
// layer is enough a rule would only open other instances.
func (c *connection) throughSubnets(groups []*estate.Group, direction estate.Direction,
	peers map[*estate.Group][]estate.Peer, except []estate.Peer) {
	within := make(map[*estate.Network][]*estate.Group)
	for _, g := range groups {
		within[g.Network] = append(within[g.Network], g)
	}
	for _, wall := range c.estate.Groups {
		if wall.For != estate.ForSubnets || wall.Follows || wall.Existing ||
			dialectOf(wall).Layers == dialect.EitherMayAdmit {
			continue
		}
		var here []estate.Peer
		for _, g := range within[wall.Network] {
			inside, outside := subnetsOf(g, wall)
			if inside == 0 || c.refusedBy(wall, g, direction, peers[g], except, outside > 0) {
				continue
			}
			for _, p := range peers[g] {
				if p.Kind == estate.PeerSelf {
					p = estate.Peer{Kind: estate.PeerGroup, Group: g}
				}
				if !slices.Contains(here, p) {
					here = append(here, p)
				}
			}
		}
		if rule, ok := c.rule(wall, direction, here, except); ok {
			wall.Rules = append(wall.Rules, rule)
		}
	}
}

// subnetsOf counts the subnets in which members of a group can be: those with a given subnet group,
// and the others.
func subnetsOf(g, wall *estate.Group) (inside, outside int) {
	if len(wall.Network.Subnets) == 0 {
		return 1, 0 // definitions don't say which subnets there are
	}
	for _, s := range wall.Network.Subnets {
		switch {
		case !g.CanStandIn(s):
		case wall.CanCover(s):
			inside++
		default:
			outside++
		}
	}
	return inside, outside
}

// A Doubt is a refusal in a subnet group that stops a connect if members of the group at its end
// are in these subnets. Definitions make a mistake of it if they can only be there, else a warning;
// a survey tells.
type Doubt struct {
	Told      source.Message
	End, Wall *estate.Group
}

// refusedBy reports whether a subnet group refuses what the connection needs for a group inside it,
// and adds a message.
func (c *connection) refusedBy(wall, g *estate.Group, direction estate.Direction, peers, except []estate.Peer,
	elsewhere bool) bool {
	rule, ok := c.rule(wall, direction, peers, except)
	if !ok {
		return false
	}
	before := stoppedBy(wall, rule, wall.Rules)
	if before == nil {
		return false
	}
	hint, text := c.stopped(wall, before)
	c.say(c.decl.Span, hint, "%s for members of %s in the subnets that it covers", text, g.Path())
	told := &c.messages[len(c.messages)-1]
	told.Warning = elsewhere
	c.doubts = append(c.doubts, Doubt{*told, g, wall})
	return true
}

func (r *resolver) laws() {
	for _, d := range r.lawDecls {
		if r.file = d.file; !r.declare("law", d.node.Name.Text, d.node.Name) {
			continue
		}
		l := law.Law{Name: d.node.Name.Text, Title: d.node.Title.Text, Origin: r.origin(d.node.Span)}
		for _, line := range d.node.Lines {
			switch line.Key.Text {
			case "over":
				if l.Over != nil {
					r.say(line.Key.Span, `join them with "and"`, `the law %s has two lines "over"`, l.Name)
				}
				l.Over = r.placeCondition(line.Over)
			case "never":
				l.Never = append(l.Never, r.opening(line.Open))
			case "only":
				l.Only = append(l.Only, r.opening(line.Open))
			case "always":
				if line.Always.Text == "label" {
					l.Labels = append(l.Labels, texts(line.Words)...)
				} else {
					l.Always = append(l.Always, line.Always.Text)
				}
			case "severity":
				l.Severity = line.Words[0].Text
				if _, ok := audit.ParseSeverity(l.Severity); !ok {
					r.say(line.Words[0].Span, "one of: "+strings.Join(audit.SeverityNames(), ", "),
						"no severity is called %q", l.Severity)
				}
			case "control":
				l.Controls = append(l.Controls, texts(line.Words)...)
			case "enforced":
				if l.Enforced != nil {
					r.say(line.Key.Span, "one line says how", `the law %s has two lines "enforced"`, l.Name)
				}
				l.Enforced = r.enforcement(line)
			}
		}
		r.enforceable(d.node, &l)
		if len(l.Never)+len(l.Only)+len(l.Always)+len(l.Labels) == 0 && !r.broken[d.node] {
			r.say(d.node.Name.Span, "write a line that begins with never, only or always", "the law %s says nothing",
				l.Name)
		}
		r.lawList = append(r.lawList, l)
	}
}

// enforcement is how a law is enforced.
func (r *resolver) enforcement(line syntax.LawLine) *law.Enforcement {
	e := &law.Enforcement{Whole: line.Whole.Given()}
	if line.After.Given() {
		e.After, _ = parseDuration(line.After.Text)
	}
	return e
}

// enforceable says where a law is enforced that forbids no traffic.
func (r *resolver) enforceable(d *syntax.Law, l *law.Law) {
	if l.Enforced == nil || r.broken[d] {
		return
	}
	at := slices.IndexFunc(d.Lines, func(x syntax.LawLine) bool { return x.Key.Text == "enforced" })
	lends := func(o law.Opening) bool { return o.Lend }
	switch openings := slices.Concat(l.Never, l.Only); {
	case len(openings) == 0:
		r.say(d.Lines[at].Key.Span, "only traffic can be shut: what always lacks, a person has to add",
			"the law %s forbids no traffic, so it can't be enforced", l.Name)
	case !slices.ContainsFunc(openings, func(o law.Opening) bool { return !lends(o) }):
		r.say(d.Lines[at].Key.Span, "pass end shuts what is lent", "the law %s is about lending alone, so it can't "+
			"be enforced", l.Name)
	}
}

func (r *resolver) opening(o *syntax.Opening) law.Opening {
	x := law.Opening{Lend: o.Verb.Text == "lend", Direction: estate.In, Origin: r.origin(o.Span)}
	if o.Verb.Text == "reach" {
		x.Direction = estate.Out
	}
	specs, words := r.specs(o.Services, setting{})
	x.Services, x.Words = service.Of(specs...), strings.Join(words, ", ")
	peers, except := r.onlySide(o.Peers)
	x.Peers = law.Side{Of: peers, Except: except}
	if o.MoreThan.Given() {
		x.MoreThan, _ = parseDuration(o.MoreThan.Text)
	}
	return x
}

func (r *resolver) exempts() {
	for _, d := range r.exemptDecls {
		r.file = d.file
		n := d.node
		e := law.Exemption{Kind: n.Kind, Law: n.Law.Text, Services: service.All, Because: n.Because.Text,
			Until: n.Until.Time, By: n.By.Text, Origin: r.origin(n.Span)}
		e.Subject = r.exempted(n)
		var names []string
		for _, l := range r.lawList {
			names = append(names, l.Name)
		}
		for _, c := range audit.Checks {
			names = append(names, c.Name)
		}
		now, renamed := audit.CheckName(n.Law.Text)
		switch {
		case slices.Contains(names, n.Law.Text):
		case renamed:
			e.Law = now
			r.warn(n.Law.Span, "write "+now, "the check %q is called %q now", n.Law.Text, now)
		default:
			r.unknown(n.Law, r.nearest(n.Law.Text, names), "no law or check is called %q")
		}
		r.completeExemption(n)
		if len(n.On) > 0 {
			specs, _ := r.specs(n.On, setting{})
			e.Services = service.Of(specs...)
		}
		if n.Until.Given() && !e.Until.IsZero() && !e.Until.After(r.options.Now) {
			r.warn(n.Until.Span, "delete it, or give it a later date", "the exemption has ended and no longer counts")
		}
		r.exemptions = append(r.exemptions, e)
	}
}

// completeExemption checks that an exemption has a reason, an end and a name.
func (r *resolver) completeExemption(n *syntax.Exempt) {
	var lacks, write []string
	if !n.Because.Given() {
		lacks, write = append(lacks, "because"), append(write, `because "…"`)
	}
	if !n.Until.Given() {
		lacks, write = append(lacks, "until"),
			append(write, "until "+r.options.Now.AddDate(0, 1, 0).Format("2006-01-02"))
	}
	if !n.By.Given() {
		lacks, write = append(lacks, "by"), append(write, `by "name"`)
	}
	if len(lacks) > 0 && !r.broken[n] {
		r.say(n.Span, "add: "+strings.Join(write, " "), "the exemption lacks its %s", strings.Join(lacks, ", "))
	}
}

// exempted finds what an exemption is about. The group may be one that only a survey has.
func (r *resolver) exempted(n *syntax.Exempt) string {
	name := n.Subject.Text
	switch n.Kind {
	case "account":
		var names []string
		for _, a := range r.estate.Accounts {
			names = append(names, a.Name)
		}
		if !slices.Contains(names, name) {
			r.unknown(n.Subject, r.nearest(name, names), "no account is called %q")
		}
		return name
	case "network":
		if found := r.findNetwork(n.Subject); found != nil {
			return found.Path()
		}
		return name
	}
	last := name[strings.LastIndexByte(name, '/')+1:]
	for _, g := range r.groups[last] {
		if strings.HasSuffix("/"+g.Path(), "/"+name) {
			return name
		}
	}
	r.warn(n.Subject.Span, r.nearGroup(syntax.Peer{Kind: "group", Name: n.Subject}),
		"no group is defined as %q: it counts if a survey has it", name)
	return name
}

func (r *resolver) expects() {
	for _, d := range r.expectDecls {
		r.file = d.file
		n := d.node
		x := law.Expectation{Text: oneLine(r.file, n.Span), Because: n.Because.Text, Origin: r.origin(n.Span),
			Only: n.Only, Can: n.Can, Services: service.All, Words: "any"}
		x.From.Of, x.From.Except = r.onlySide(n.From)
		x.To.Of, x.To.Except = r.onlySide(n.To)
		if len(n.On) > 0 {
			specs, words := r.specs(n.On, setting{})
			x.Services, x.Words = service.Of(specs...), strings.Join(words, ", ")
		}
		r.expectations = append(r.expectations, x)
	}
}
