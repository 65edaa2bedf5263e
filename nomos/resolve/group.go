package resolve

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/nomos/parse"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

// maxGroups bounds how many groups scopes can expand to.
const maxGroups = 1_000_000

// maxRules bounds the number of rules, including those that patterns write, and likewise the number
// of uses of patterns.
const maxRules = 2_000_000

// room counts a rule, or a use of a pattern, and reports whether the limit allows it. The first one
// that is too many is reported.
func (r *resolver) room(count *int, at source.Span, what string) bool {
	if *count++; *count <= maxRules {
		return true
	}
	if *count == maxRules+1 {
		r.say(at, "patterns that use each other multiply their rules: use fewer",
			"the definitions come to more than %d %s", maxRules, what)
	}
	return false
}

// A body is a group whose rules are to be resolved.
type body struct {
	group *estate.Group
	located[*syntax.Group]
}

// A setting is the context of a rule.
type setting struct {
	group   *estate.Group // nil in laws, connects and expectations
	params  map[string]binding
	through *estate.Through
	outer   clauses // those of the use that writes the rule
}

// groupHeads makes all groups without rules, so that rules can refer to any of them.
func (r *resolver) groupHeads() {
	for _, d := range r.groupDecls {
		r.file = d.file
		before := r.mistakes()
		networks := r.scope(d.node.Scope)
		if len(networks) == 0 {
			if d.node.Scope.Network.Given() && r.mistakes() > before {
				r.missing[d.node.Name.Text] = true
			} else {
				r.emptyGroups = append(r.emptyGroups, d.node.Name.Text)
			}
		}
		if len(r.estate.Groups)+len(networks) > maxGroups {
			r.say(d.node.Scope.Span, "narrow the scopes", "the definitions come to more than %d groups", maxGroups)
			return
		}
		for _, n := range networks {
			g := r.groupIn(n, d.node)
			if !r.declare("group", g.Path(), d.node.Name) {
				continue
			}
			r.estate.Groups = append(r.estate.Groups, g)
			r.groups[g.Name] = append(r.groups[g.Name], g)
			r.groupByPath[g.Path()] = g
			r.declOf[g] = d.node
			r.bodies = append(r.bodies, body{g, d})
		}
	}
}

func (r *resolver) groupIn(n *estate.Network, d *syntax.Group) *estate.Group {
	g := &estate.Group{Account: n.Account, Network: n, Name: d.Name.Text, For: estate.ForInstances,
		Description: d.Title.Text, Defined: true, Origin: r.origin(d.Span)}
	if d.For.Given() {
		g.For = estate.GroupKind(d.For.Text)
	}
	if d.Existing.Given() {
		g.Existing, g.CloudName = true, d.Existing.Text
	}
	return g
}

// scope finds the networks in which a group is.
func (r *resolver) scope(s syntax.Scope) []*estate.Network {
	if s.Network.Given() {
		if n := r.findNetwork(s.Network); n != nil {
			return []*estate.Network{n}
		}
		return nil
	}
	if s.Where == nil {
		return r.estate.Networks
	}
	where := r.placeCondition(s.Where)
	var networks []*estate.Network
	for _, n := range r.estate.Networks {
		if where.Holds(estate.NetworkPlace(n)) {
			networks = append(networks, n)
		}
	}
	if len(networks) == 0 && r.usable(s.Where) && !r.brokenPlaces {
		r.warn(s.Span, "", "no network is in this scope, so the group stands nowhere")
	}
	return networks
}

func (r *resolver) groupBodies() {
	for _, b := range r.bodies {
		r.file = b.file
		b.group.Rules = make([]estate.Rule, 0, len(b.node.Body))
		for _, s := range b.node.Body {
			r.member(b.group, s)
		}
		if b.group.For != estate.ForSubnets {
			continue
		}
		for _, s := range b.group.Network.Subnets { // without a survey it is attached to what its definition covers
			if b.group.CoversSubnet(s) {
				s.Groups = append(s.Groups, b.group)
			}
		}
	}
}

// namesInClouds reports groups that would have the same name in their cloud, where names are unique
// in a network, or if groups belong to no network in an account.
func (r *resolver) namesInClouds() {
	type place struct {
		account *estate.Account
		network *estate.Network
		kind    estate.GroupKind
		name    string
	}
	taken := make(map[place]*estate.Group)
	for _, b := range r.bodies {
		g := b.group
		if g.Existing {
			continue
		}
		at := place{g.Account, g.Network, g.For, g.InCloud()}
		if d := dialectOf(g); d.Name != "" && !d.GroupsInNetworks {
			at.network = nil
		}
		before := taken[at]
		if before == nil {
			taken[at] = g
			continue
		}
		if r.file = b.file; at.network == nil {
			r.say(b.node.Name.Span, "write one group for each network, each with a line: named \"NAME\"",
				"groups of the cloud %s (%s) belong to the account, and both %s and %s would be called %q there",
				g.Account.Cloud.Name, g.Account.Cloud.Dialect, before.Path(), g.Path(), g.InCloud())
			continue
		}
		r.say(b.node.Name.Span, "give one another line: named \"NAME\"",
			"both %s and %s would be called %q in the cloud %s", before.Path(), g.Path(), g.InCloud(),
			g.Account.Cloud.Name)
	}
}

func (r *resolver) member(g *estate.Group, s syntax.Stmt) {
	switch s := s.(type) {
	case *syntax.Cover:
		r.cover(g, s)
	case *syntax.LabelStmt:
		if g.Labels == nil {
			g.Labels = estate.Labels{}
		}
		r.labels(g.Labels, s.Pairs)
	case *syntax.Named:
		g.CloudName = s.Name.Text
	case *syntax.Follow:
		if g.For != estate.ForSubnets {
			r.say(s.Span, "write: group NAME for subnets in …", "only a group for subnets can follow instances")
		}
		g.Follows = true
	default:
		r.ruleStmt(s, setting{group: g})
	}
}

func (r *resolver) cover(g *estate.Group, s *syntax.Cover) {
	c := estate.Cover{}
	switch s.Kind.Text {
	case "where":
		c.Where = r.condition(s.Where)
	case "instance":
		if g.For == estate.ForSubnets {
			r.say(s.Kind.Span, "write: cover subnet NAME", "a group for subnets can't cover an instance")
			return
		}
		c.Instances = texts(s.Names)
	case "subnet":
		if g.For == estate.ForInstances {
			r.say(s.Kind.Span, `write "group NAME for subnets in …"`, "a group for instances can't cover a subnet")
			return
		}
		for _, name := range s.Names {
			if !slices.ContainsFunc(g.Network.Subnets, func(sub *estate.Subnet) bool { return sub.Name == name.Text }) {
				var names []string
				for _, sub := range g.Network.Subnets {
					names = append(names, sub.Name)
				}
				if r.brokenPlaces {
					r.untold++
				} else {
					r.say(name.Span, r.nearest(name.Text, names), "the network %s has no subnet %q", g.Network.Path(),
						name.Text)
				}
			}
		}
		c.Subnets = texts(s.Names)
	}
	g.Covers = append(g.Covers, c)
}

func texts(words []syntax.Word) []string {
	var list []string
	for _, w := range words {
		list = append(list, w.Text)
	}
	return list
}

// ruleStmt resolves a rule, a use or a where in a group.
func (r *resolver) ruleStmt(s syntax.Stmt, x setting) {
	switch s := s.(type) {
	case *syntax.Rule:
		r.rule(s, x)
	case *syntax.Use:
		r.use(s, x)
	case *syntax.Where:
		if !r.placeCondition(s.Condition).Holds(estate.GroupPlace(x.group)) {
			return
		}
		r.stood[s] = true
		for _, inner := range s.Rules {
			r.ruleStmt(inner, x)
		}
	}
}

func (r *resolver) rule(s *syntax.Rule, x setting) {
	if !r.room(&r.rules, s.Span, "rules") {
		return
	}
	g := x.group
	rule := estate.Rule{Direction: estate.In, Action: estate.Admit, Origin: r.origin(s.Span), Through: x.through}
	if s.Prep.Text == "at" {
		rule.Direction = estate.Out
	}
	if s.Verb.Text == "refuse" {
		rule.Action = estate.Refuse
	}
	rule.Services, rule.Words = r.specs(s.Services, x)
	ended := r.applyClauses(&rule, s, x)
	if s.Stateless.Given() {
		rule.Stateless = true
		if d := g.Account.Cloud.Dialect; d != "" && !dialectOf(g).StateByRule {
			r.say(s.Stateless.Span, "leave it out", "the cloud %s (%s) does not decide state by rule",
				g.Account.Cloud.Name, d)
		}
	}
	var atMost time.Duration
	if s.Verb.Text == "lend" && !ended {
		atMost = r.duration(s.AtMost, x)
	}
	for _, side := range r.sides(s.Peers, x) {
		rule.Peers, rule.Except = side.peers, side.except
		r.families(rule, s)
		switch {
		case ended && s.Verb.Text != "lend":
			g.Ended = append(g.Ended, rule)
		case ended:
		case s.Verb.Text == "lend":
			if before := stoppedBy(g, rule, g.Rules); before != nil {
				r.say(s.Verb.Span, fmt.Sprintf("move it above line %d", before.Origin.Line),
					"the refusal %q before it stops what this lends, or some of it", before.Sentence(r.estate.Services))
			}
			g.Lends = append(g.Lends, estate.Lend{Rule: rule, AtMost: atMost, After: len(g.Rules)})
		default:
			g.Rules = append(g.Rules, rule)
		}
	}
}

// applyClauses applies because and until, of the rule and of the use that writes it. It reports
// whether the rule has ended.
func (r *resolver) applyClauses(rule *estate.Rule, s *syntax.Rule, x setting) (ended bool) {
	return r.finish(rule, clauses{r.reason(s.Because, x), s.Until}, x.outer)
}

// reason is the text of a because, which may be a parameter.
func (r *resolver) reason(because syntax.Word, x setting) string {
	if !because.Given() || because.Quoted() {
		return because.Text
	}
	b, ok := x.params[because.Text]
	switch {
	case !ok:
		r.say(because.Span, `write the reason in "quotes"`,
			"%q is not a text: a name can stand here only for a parameter", because.Text)
	case b.kind != "text":
		r.wrongKind(because, b, "text")
	}
	return b.text
}

// clauses are the reason and the end in a statement.
type clauses struct {
	because string
	until   syntax.Date
}

// finish sets a rule's reason and end: its own, else those of the use around it; of two ends the
// earlier one.
func (r *resolver) finish(rule *estate.Rule, own, outer clauses) (ended bool) {
	rule.Description = own.because
	if rule.Description == "" {
		rule.Description = outer.because
	}
	for _, u := range []syntax.Date{own.until, outer.until} {
		if u.Given() && !u.Time.IsZero() && (rule.Until.IsZero() || u.Time.Before(rule.Until)) {
			rule.Until = u.Time
		}
	}
	if rule.Until.IsZero() || rule.Until.After(r.options.Now) {
		return false
	}
	if own.until.Given() {
		r.warn(own.until.Span, "delete the line, or give it a later date", "the rule has ended and is left out")
	}
	return true
}

// stoppedBy finds a refusal that stops what a later rule would let through for one of its peers on
// one of its services.
func stoppedBy(g *estate.Group, rule estate.Rule, before []estate.Rule) *estate.Rule {
	services := service.Of(rule.Services...)
	for i := range before {
		b := &before[i]
		if b.Action != estate.Refuse || b.Direction != rule.Direction || !service.Of(b.Services...).Overlaps(services) {
			continue
		}
		for _, refused := range b.Peers {
			if slices.ContainsFunc(rule.Peers, func(p estate.Peer) bool { return holds(g, refused, p) }) &&
				len(b.Except) == 0 {
				return b
			}
		}
	}
	return nil
}

// holds reports whether a peer of a refusal certainly contains an address of another peer, as far
// as the definitions tell.
func holds(g *estate.Group, refused, p estate.Peer) bool {
	switch refused.Kind {
	case estate.PeerEveryone:
		return refused.Family() == addr.Both || p.Family() == addr.Both || refused.Family() == p.Family()
	case estate.PeerNetwork:
		return p.Kind == estate.PeerGroup && p.Group.Network == refused.Network ||
			p.Kind == estate.PeerSelf && g.Network == refused.Network ||
			p.Kind == estate.PeerSubnet && p.Subnet.Network == refused.Network ||
			p.Kind == estate.PeerNetwork && p.Network == refused.Network
	case estate.PeerRange:
		return p.Kind == estate.PeerRange && refused.Range.Overlaps(p.Range)
	case estate.PeerGroup:
		return p.Kind == estate.PeerGroup && p.Group == refused.Group
	case estate.PeerList:
		return p.Kind == estate.PeerList && p.List == refused.List
	case estate.PeerSubnet:
		return p.Kind == estate.PeerSubnet && p.Subnet == refused.Subnet
	case estate.PeerSelf:
		return p.Kind == estate.PeerSelf
	}
	return false
}

// families reports that no packet can match a rule, because its services and peers are of different
// families.
func (r *resolver) families(rule estate.Rule, s *syntax.Rule) {
	icmp := slices.ContainsFunc(rule.Services,
		func(x service.Spec) bool { return x.Protocol == service.ICMP || x.Protocol == service.ICMPv6 })
	if !icmp || len(rule.Peers) == 0 {
		return
	}
	set := service.Of(rule.Services...)
	all := func(f addr.Family) bool {
		return !slices.ContainsFunc(rule.Peers, func(p estate.Peer) bool {
			if p.Kind == estate.PeerRange {
				return p.Range.Addr().Is4() != (f == addr.IPv4)
			}
			return p.Family() != f
		})
	}
	if set.SubsetOf(service.NotIPv4) && all(addr.IPv4) {
		r.say(s.Services[0].Span, "write icmp", "icmpv6 does not go over IPv4, and all peers are IPv4")
	}
	if set.SubsetOf(service.NotIPv6) && all(addr.IPv6) {
		r.say(s.Services[0].Span, "write icmpv6", "icmp does not go over IPv6, and all peers are IPv6")
	}
}

// A side is peers, and exceptions that are subtracted from each of them.
type side struct{ peers, except []estate.Peer }

// sides resolves the peers of a statement. An argument is a set of its own: its exceptions are
// subtracted from it alone, so it is a side of its own.
func (r *resolver) sides(written syntax.Peers, x setting) []side {
	var except []estate.Peer
	for _, s := range r.peers(written.Except, x) {
		if len(s.except) > 0 {
			for i := range s.peers {
				s.peers[i].Without = &s.except
			}
		}
		except = append(except, s.peers...)
	}
	sides := r.peers(written.Of, x)
	for i := range sides {
		sides[i].except = append(slices.Clip(sides[i].except), except...)
	}
	return sides
}

// onlySide resolves the peers of a statement outside of groups, where there are no parameters.
func (r *resolver) onlySide(written syntax.Peers) (peers, except []estate.Peer) {
	sides := r.sides(written, setting{})
	return sides[0].peers, sides[0].except
}

// peers resolves peers. The first side holds those without exceptions of their own; it may be empty
// unless it is the only one.
func (r *resolver) peers(written []syntax.Peer, x setting) []side {
	plain := make([]estate.Peer, 0, len(written))
	var others []side
	for _, w := range written {
		b, ok := x.params[w.Name.Text]
		if !ok || w.Kind != "name" {
			plain = r.appendPeer(plain, w, x.group)
			continue
		}
		if b.kind != "peers" {
			r.wrongKind(w.Name, b, "peers")
			continue
		}
		for _, s := range b.sides {
			peers := make([]estate.Peer, len(s.peers))
			for i, p := range s.peers {
				peers[i] = limited(p, w.Family.Text)
			}
			if len(s.except) == 0 {
				plain = append(plain, peers...)
			} else {
				others = append(others, side{peers, s.except})
			}
		}
	}
	if len(plain) == 0 && len(others) > 0 {
		return others
	}
	return append([]side{{peers: plain}}, others...)
}

// limited is a peer that is also limited to a family.
func limited(p estate.Peer, family string) estate.Peer {
	p.V4Only = p.V4Only || family == "v4"
	p.V6Only = p.V6Only || family == "v6"
	return p
}

// appendPeer resolves a peer of a rule in a group; or with nil of a law, connect or expectation,
// where a name means all groups of its declaration.
func (r *resolver) appendPeer(peers []estate.Peer, w syntax.Peer, g *estate.Group) []estate.Peer {
	p := limited(estate.Peer{}, w.Family.Text)
	switch w.Kind {
	case "everyone":
		p.Kind = estate.PeerEveryone
	case "internet":
		p.Kind = estate.PeerInternet
		if g != nil {
			r.say(w.Span, `write "everyone": every address; internet is for laws and expects`,
				"a rule can't name the internet")
			return peers
		}
	case "self":
		p.Kind = estate.PeerSelf
		if g == nil {
			r.say(w.Span, "name the group", `"self" stands only in a group`)
			return peers
		}
	case "probes":
		p.Kind = estate.PeerProbes
		if g == nil {
			r.say(w.Span, "name the balancers' group", `"probes" stands only in a group`)
			return peers
		}
	case "range":
		p.Kind, p.Range = estate.PeerRange, r.prefix(w.Range)
		if p.V4Only && p.Range.Addr().Is6() || p.V6Only && p.Range.Addr().Is4() {
			r.say(w.Family.Span, "leave it out", "%s has no %s addresses", p.Range, w.Family.Text)
		}
	case "network":
		p.Kind = estate.PeerNetwork
		switch {
		case w.Name.Given():
			p.Network = r.findNetwork(w.Name)
		case g != nil:
			p.Network = g.Network
		default:
			r.say(w.Span, "name the network", "here stands no network of its own")
		}
		if p.Network == nil {
			return peers
		}
	case "subnet":
		p.Kind = estate.PeerSubnet
		if p.Subnet = r.findSubnet(w.Name, g); p.Subnet == nil {
			return peers
		}
	case "list":
		p.Kind = estate.PeerList
		if p.List = r.findList(w.Name); p.List == nil {
			return peers
		}
	case "group", "name":
		return r.appendGroups(peers, w, p, g)
	}
	return append(peers, p)
}

// appendGroups finds the groups that a peer names, with the family and exceptions of p.
func (r *resolver) appendGroups(peers []estate.Peer, w syntax.Peer, p estate.Peer, g *estate.Group) []estate.Peer {
	for _, found := range r.findGroups(w, g) {
		p.Kind, p.Group = estate.PeerGroup, found
		if found == g {
			p.Kind, p.Group = estate.PeerSelf, nil
		}
		if g != nil && !r.anywhere && found.Account.Cloud != g.Account.Cloud {
			r.say(w.Name.Span, "name addresses, or a list of them", "%s is on the cloud %s and this group on %s: "+
				"groups of different clouds can't name each other", found.Path(), found.Account.Cloud.Name,
				g.Account.Cloud.Name)
		}
		if found.For == estate.ForSubnets {
			r.say(w.Name.Span, "name the subnet: subnet NAME",
				"%s is a group for subnets: its members have no addresses of their own", found.Path())
		}
		peers = append(peers, p)
	}
	return peers
}

func (r *resolver) findSubnet(name syntax.Word, g *estate.Group) *estate.Subnet {
	if g != nil {
		for _, s := range g.Network.Subnets {
			if s.Name == name.Text {
				return s
			}
		}
	}
	var found []*estate.Subnet
	var names, paths []string
	for _, n := range r.estate.Networks {
		for _, s := range n.Subnets {
			if s.Name == name.Text || strings.HasSuffix("/"+s.Path(), "/"+name.Text) {
				found = append(found, s)
				paths = append(paths, s.Path())
			}
			names = append(names, s.Name)
		}
	}
	if r.anywhere && len(found) > 0 {
		return found[0]
	}
	switch len(found) {
	case 1:
		return found[0]
	case 0:
		if r.brokenPlaces {
			r.untold++
		} else {
			r.unknown(name, r.nearest(name.Text, names), "no subnet is called %q")
		}
	default:
		r.say(name.Span, "write "+oneOfPaths(paths), "several subnets are called %q", name.Text)
	}
	return nil
}

// oneOfPaths lists a few of the names to choose from.
func oneOfPaths(paths []string) string {
	const few = 5
	if len(paths) > few {
		return strings.Join(paths[:few], ", ") + fmt.Sprintf(" or one of %d more", len(paths)-few)
	}
	return strings.Join(paths, " or ")
}

// findGroups finds the groups that a name means. In a group it is the one of that name in the same
// network, else the only one in the estate. Outside of groups it is all groups of a declaration.
func (r *resolver) findGroups(w syntax.Peer, g *estate.Group) []*estate.Group {
	name := w.Name.Text
	if g != nil {
		if same := r.groupByPath[g.Network.Path()+"/"+name]; same != nil {
			return []*estate.Group{same}
		}
	}
	if exact := r.groupByPath[name]; exact != nil {
		return []*estate.Group{exact}
	}
	found := r.groups[name]
	if i := strings.LastIndexByte(name, '/'); i >= 0 {
		found = nil
		for _, candidate := range r.groups[name[i+1:]] {
			if strings.HasSuffix(candidate.Path(), "/"+name) {
				found = append(found, candidate)
			}
		}
	}
	switch {
	case r.anywhere && len(found) > 0:
		return found[:1]
	case len(found) == 0 && slices.Contains(r.emptyGroups, name):
		r.say(w.Name.Span, "its condition holds for no network", "the group %q stands nowhere", name)
		return nil
	case len(found) == 0:
		r.unknown(w.Name, r.nearGroup(w), "no group is called %q")
		return nil
	case len(found) == 1:
		return found
	case g == nil && !slices.ContainsFunc(found,
		func(x *estate.Group) bool { return r.declOf[x] != r.declOf[found[0]] }):
		return found
	}
	var paths []string
	for _, x := range found {
		paths = append(paths, x.Path())
	}
	r.say(w.Name.Span, "write "+oneOfPaths(paths), "several groups are called %q", name)
	return nil
}

func (r *resolver) nearGroup(w syntax.Peer) string {
	if w.Kind == "name" {
		if _, ok := r.listByName[w.Name.Text]; ok {
			return fmt.Sprintf(`there is a list of that name: write "list %s"`, w.Name.Text)
		}
	}
	if w.Kind == "name" {
		for _, ours := range parse.Meant(w.Name.Text) {
			if ours == "everyone" || ours == "self" {
				return "write " + strconv.Quote(ours)
			}
		}
	}
	if len(r.messages) > mostHints {
		return ""
	}
	const many = 2000 // looking for near names among so many would take seconds
	var names []string
	for _, g := range r.estate.Groups[:min(many, len(r.estate.Groups))] {
		names = append(names, g.Name)
		if strings.Contains(w.Name.Text, "/") {
			names = append(names, g.Path())
		}
	}
	return r.nearest(w.Name.Text, names)
}

// condition resolves a condition on labels that only a survey may have.
func (r *resolver) condition(c *syntax.Condition) *estate.Condition { return Condition(c) }

// Condition is what a condition means.
func Condition(c *syntax.Condition) *estate.Condition {
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
		e.Parts = append(e.Parts, *Condition(part))
	}
	return e
}

// placeCondition resolves a condition on places that definitions declare: networks, accounts,
// groups. It warns of a label that none has.
func (r *resolver) placeCondition(c *syntax.Condition) *estate.Condition {
	r.usable(c)
	return r.condition(c)
}

// usable reports whether all labels of a condition are known. It warns of others, and of values
// that seem to be misspelled.
func (r *resolver) usable(c *syntax.Condition) bool {
	if ok, before := r.looked[c]; before { // seen before: it is in a pattern, or in a group of many networks
		return ok
	}
	known := r.knownLabels()
	ok := true
	defer func() { r.looked[c] = ok }()
	var walk func(c *syntax.Condition)
	walk = func(c *syntax.Condition) {
		for _, part := range c.Parts {
			walk(part)
		}
		if c.Op != syntax.Compare {
			return
		}
		if _, has := known[c.Label.Text]; !has {
			ok = false
			if !r.brokenPlaces { // an unreadable declaration may have it
				r.warn(c.Label.Span, r.nearest(c.Label.Text, known.Names()),
					"no account, network or group has a label %q", c.Label.Text)
			}
			return
		}
		for _, value := range c.Values {
			const many = 2000 // looking for near values among so many would take seconds
			if known.Has(c.Label.Text, value.Text) || r.brokenPlaces || len(known[c.Label.Text]) > many {
				continue
			}
			if hint := r.nearest(value.Text, known[c.Label.Text]); hint != "" {
				r.warn(value.Span, hint, "nothing here has the %s %q", c.Label.Text, value.Text)
			}
		}
	}
	walk(c)
	return ok
}

// knownLabels are the labels in definitions, and the pseudo-labels, with their values.
func (r *resolver) knownLabels() estate.Vocabulary {
	if r.vocabulary != nil {
		return r.vocabulary
	}
	named := estate.Estate{Clouds: r.estate.Clouds, Accounts: r.estate.Accounts, Networks: r.estate.Networks}
	for _, d := range r.groupDecls { // these may not be resolved yet
		g := &estate.Group{Name: d.node.Name.Text, For: estate.ForInstances, Labels: estate.Labels{}}
		if d.node.For.Given() {
			g.For = estate.GroupKind(d.node.For.Text)
		}
		for _, s := range d.node.Body {
			if l, ok := s.(*syntax.LabelStmt); ok {
				for _, pair := range l.Pairs {
					g.Labels[pair.Key.Text] = pair.Value.Text
				}
			}
		}
		named.Groups = append(named.Groups, g)
	}
	r.vocabulary = named.Vocabulary()
	return r.vocabulary
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
