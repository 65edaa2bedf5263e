package compile

import (
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// A Compiled group is a defined group as its cloud will have it.
type Compiled struct {
	Group *estate.Group // not marked as defined, so that it is decided as its cloud does
	// RoomIn and RoomOut are what is let through only for answers, in dialects that keep no state.
	// The definition does not ask for it.
	RoomIn, RoomOut traffic.Set
	Dead            []Dead // rules that let nothing through
}

// A Dead rule admits only what the refusal By stops before it. If By is nil it admits nobody: the
// groups that it names have no addresses of the family that is meant. It is not written.
type Dead struct{ Rule, By *estate.Rule }

// A Failure says why a definition can't be expressed in its cloud.
type Failure struct {
	Group  *estate.Group
	Rule   *estate.Rule // nil if it is about the whole group
	Reason string
}

// Error is the reason, without the place.
func (f *Failure) Error() string { return f.Reason }

// Origin is the place of the definition that can't be expressed.
func (f *Failure) Origin() estate.Origin {
	if f.Rule != nil {
		return f.Rule.Origin
	}
	return f.Group.Origin
}

// rankStep is the distance between the ranks of two rules.
const rankStep = 20

// Group compiles a defined group for its cloud. It then decides the result as a whole and compares
// it with the meaning of the definition, for any members that the groups it refers to may have.
// They are equal except for the room for answers, or else the error is a Failure with an example
// flow. The Decider is that of the definitions, with or without a survey.
func Group(d *decide.Decider, g *estate.Group) (made Compiled, err error) {
	for _, open := range leftOpen(d, g) {
		c := &compiler{d: d, g: g, dialect: decide.Dialect(g.Account), filter: decide.Filter(g), open: open}
		if made, err = c.compile(); err == nil {
			break
		}
	}
	return made, err
}

// leftOpen are the ways to express the built-in rules of a followed group: for each direction, by
// the built-in rules of this group or by written rules that say the same.
func leftOpen(d *decide.Decider, g *estate.Group) []map[estate.Direction]bool {
	fixed := make(map[estate.Direction]bool)
	if g.Follows && len(decide.Filter(g).Fixed) > 0 {
		for _, f := range d.Followed(g) {
			for _, direction := range []estate.Direction{estate.In, estate.Out} {
				fixed[direction] = fixed[direction] || slices.ContainsFunc(d.InOrder(f, direction), admitsFixed)
			}
		}
	}
	ways := []map[estate.Direction]bool{nil}
	if fixed[estate.In] {
		ways = append(ways, map[estate.Direction]bool{estate.In: true})
	}
	if fixed[estate.Out] {
		ways = append(ways, map[estate.Direction]bool{estate.Out: true})
	}
	if fixed[estate.In] && fixed[estate.Out] {
		ways = append(ways, fixed)
	}
	slices.Reverse(ways)
	return ways
}

// admitsFixed reports whether a rule is a built-in one that admits something.
func admitsFixed(r *estate.Rule) bool { return r.BuiltIn && r.Action == estate.Admit }

func (c *compiler) compile() (Compiled, error) {
	copied := *c.g
	copied.Defined, copied.Follows, copied.Lends, copied.Covers = false, false, nil, nil
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		if err := c.direction(direction); err != nil {
			return Compiled{}, err
		}
	}
	if c.filter.State == dialect.StateNone {
		c.letAnswersBack()
	}
	c.once()
	c.finish()
	copied.Rules = c.rules
	defer c.d.Forget(&copied)
	if err := c.stopsNothing(); err != nil {
		return Compiled{}, err
	}
	room, err := c.compare(&copied)
	return Compiled{Group: &copied, RoomIn: room[estate.In], RoomOut: room[estate.Out], Dead: c.dead}, err
}

type compiler struct {
	d       *decide.Decider
	g       *estate.Group
	dialect dialect.Dialect
	filter  dialect.Filter
	rules   []estate.Rule
	dead    []Dead
	open    map[estate.Direction]bool // by direction: the definition means what the built-in rules let through
	// refusedFirst are rules that need a refusal in front, where a part of a group's members can't
	// be left out otherwise.
	refusedFirst []*estate.Rule
	room         map[estate.Direction]traffic.Set // by direction: what answers may need
}

// A source is a list of rules that are compiled in order: the group's own, or those of a followed
// group, in which "self" means that group.
type source struct {
	owner *estate.Group
	rules []*estate.Rule
}

func (s source) refuses() bool {
	return slices.ContainsFunc(s.rules, func(r *estate.Rule) bool { return r.Action == estate.Refuse })
}

// sources are the lists of rules of which a direction of the group is made.
func (c *compiler) sources(direction estate.Direction) []source {
	sources := []source{{c.g, c.d.InOrder(c.g, direction)}}
	if !c.g.Follows {
		return sources
	}
	var refusing []source
	for _, f := range c.d.Followed(c.g) {
		s := source{f, c.d.InOrder(f, direction)}
		if c.open[direction] {
			s.rules = slices.DeleteFunc(slices.Clone(s.rules), admitsFixed)
		}
		for n := len(s.rules); n > 0 && s.rules[n-1].Action == estate.Refuse; n-- {
			s.rules = s.rules[:n-1] // what no rule admits is refused anyway
		}
		if s.refuses() {
			refusing = append(refusing, s)
		} else {
			sources = append(sources, s)
		}
	}
	return append(sources, refusing...)
}

// direction compiles the group's own rules, followed by those of the groups that it follows. The
// refusals of a followed group apply only to its own admissions: they are subtracted from these, or
// written if nothing stands behind them.
func (c *compiler) direction(direction estate.Direction) error {
	sources := c.sources(direction)
	for i, s := range sources {
		written := c.filter.Refuses && (i == 0 || i == len(sources)-1)
		if err := c.inOrder(s, written); err != nil {
			return err
		}
	}
	return nil
}

// inOrder writes rules one after the other. Refusals are written too, or subtracted from what
// stands behind them. Where nothing is refused, order does not matter, and rules that need a
// refusal in front come last.
func (c *compiler) inOrder(s source, refuses bool) error {
	var refused, before, last []*estate.Rule
	for _, r := range s.rules {
		if r.Action == estate.Refuse {
			before = append(before, r)
			if !refuses {
				refused = append(refused, r)
				continue
			}
		}
		if r.Action == estate.Admit && len(before) > 0 {
			by, err := c.stoppedBy(s.owner, r, before)
			if err != nil {
				return err
			}
			if by != nil {
				if s.owner == c.g {
					c.dead = append(c.dead, Dead{r, by})
				}
				continue
			}
		}
		if r.Action == estate.Admit && s.owner == c.g && c.meansNobody(r) {
			c.dead = append(c.dead, Dead{Rule: r})
		}
		if c.filter.Refuses && !s.refuses() {
			first, err := c.needsRefusal(s.owner, r)
			if err != nil {
				return err
			}
			if first {
				last = append(last, r)
				continue
			}
		}
		if err := c.add(s.owner, *r, refused); err != nil {
			return err
		}
	}
	for _, r := range last {
		if err := c.add(s.owner, *r, refused); err != nil {
			return err
		}
	}
	return nil
}

// needsRefusal reports whether a rule can only be written with a refusal in front.
func (c *compiler) needsRefusal(owner *estate.Group, r *estate.Rule) (bool, error) {
	e, err := c.peers(owner, r)
	if err != nil || len(e.named) == 0 && len(e.excepted) == 0 {
		return false, err
	}
	shut, err := c.takeAway(r, &e)
	return !shut.isNobody(), err
}

// stoppedBy is the refusal that stops all that a rule admits, or nil if something is left of it.
func (c *compiler) stoppedBy(owner *estate.Group, r *estate.Rule, refusals []*estate.Rule) (*estate.Rule, error) {
	e, err := c.peers(owner, r)
	if err != nil || e.isNobody() {
		return nil, err
	}
	services := service.Of(r.Services...)
	left := traffic.Of(e.static, services)
	alive := make([]traffic.Set, len(e.named))
	for k, n := range e.named {
		alive[k] = traffic.Of(n.possible, services)
	}
	var by *estate.Rule
	for _, b := range refusals {
		stopped := service.Of(b.Services...)
		if !stopped.Overlaps(services) {
			continue
		}
		x, err := c.peers(owner, b)
		if err != nil {
			return nil, err
		}
		if len(x.excepted) > 0 {
			continue // how much it stops is unknown
		}
		if by == nil {
			by = b
		}
		sure := traffic.Of(x.static, stopped)
		left = left.Minus(sure)
		for k, n := range e.named {
			alive[k] = alive[k].Minus(sure)
			for _, m := range x.named {
				if n.same(m) {
					alive[k] = alive[k].Minus(traffic.Of(m.possible.Minus(x.without), stopped))
				}
			}
		}
	}
	if !left.IsEmpty() || slices.ContainsFunc(alive, func(s traffic.Set) bool { return !s.IsEmpty() }) {
		return nil, nil
	}
	return by, nil
}

// add writes one rule as its cloud can express it. What was refused before is subtracted in clouds
// without refusals.
func (c *compiler) add(owner *estate.Group, r estate.Rule, refused []*estate.Rule) error {
	services := service.Of(r.Services...)
	e, err := c.peers(owner, &r)
	if err != nil {
		return err
	}
	for _, b := range refused {
		if !service.Of(b.Services...).Overlaps(services) {
			continue
		}
		if !services.SubsetOf(service.Of(b.Services...)) {
			return c.subtractByService(owner, r, refused)
		}
		x, err := c.peers(owner, b)
		if err != nil {
			return err
		}
		if x.isPartial() && e.meets(x) {
			return c.fail(b, "the cloud %s has no refusals, and what this one leaves out can't be taken away "+
				"from %s: %s",
				c.g.Account.Cloud.Name, r.Sentence(c.d.Estate().Services), wayOut)
		}
		e.without, e.excepted = e.without.Union(x.static), append(e.excepted, x.named...)
	}
	shut, err := c.takeAway(&r, &e)
	if err != nil {
		return err
	}
	if shut.isNobody() {
		c.write(r, e.named, e.static)
		return nil
	}
	c.refusedFirst = append(c.refusedFirst, &r)
	refusal := r
	refusal.Action, refusal.Stateless = estate.Refuse, false
	c.write(refusal, shut.named, shut.static)
	c.write(r, e.named, e.static)
	return nil
}

// subtractByService splits a rule by services, so that each part is refused as a whole or not at
// all.
func (c *compiler) subtractByService(owner *estate.Group, r estate.Rule, refused []*estate.Rule) error {
	left := service.Of(r.Services...)
	for i := range refused {
		part := left.Intersect(service.Of(refused[i].Services...))
		if part.IsEmpty() || part.Equal(left) {
			continue
		}
		rest := r
		rest.Services = left.Minus(part).Specs()
		r.Services = part.Specs()
		if err := c.add(owner, r, refused); err != nil {
			return err
		}
		return c.add(owner, rest, refused)
	}
	return c.add(owner, r, refused)
}

// write adds rules for some services and some peers: one rule for each range of ports and each
// peer, or one for several where the cloud's rules take several.
func (c *compiler) write(r estate.Rule, named []namedPeer, static addr.Set) {
	specs := service.Of(r.Services...).Specs()
	groups := [][]estate.Peer{rangePeers(static), nil}
	for _, n := range named {
		groups[1] = append(groups[1], n.peer)
	}
	emit := func(specs []service.Spec, peers []estate.Peer) {
		c.rules = append(c.rules,
			estate.Rule{Direction: r.Direction, Action: r.Action, Services: specs, Peers: peers,
				Description: r.Description, Stateless: r.Stateless, Origin: r.Origin, Through: r.Through})
	}
	for _, peers := range groups {
		if c.dialect.ManyPeers {
			lists := slices.DeleteFunc(slices.Clone(peers),
				func(p estate.Peer) bool { return p.Kind != estate.PeerList })
			others := slices.DeleteFunc(slices.Clone(peers),
				func(p estate.Peer) bool { return p.Kind == estate.PeerList })
			for _, byProtocol := range protocols(specs) {
				if carried := slices.DeleteFunc(slices.Clone(others),
					func(p estate.Peer) bool { return neverCarries(p, byProtocol[0]) }); len(carried) > 0 {
					emit(byProtocol, carried)
				}
				for _, l := range lists {
					emit(byProtocol, []estate.Peer{l})
				}
			}
			continue
		}
		for _, s := range specs {
			for _, p := range peers {
				if neverCarries(p, s) {
					continue
				}
				for _, part := range c.families(s, p) {
					emit([]service.Spec{s}, []estate.Peer{part})
				}
			}
		}
	}
}

// neverCarries reports whether a service can't exist with a peer: ICMP only goes over IPv4, ICMPv6
// only over IPv6.
func neverCarries(p estate.Peer, s service.Spec) bool {
	if p.Kind != estate.PeerRange || s.Any {
		return false
	}
	return s.Protocol == service.ICMP && p.Range.Addr().Is6() || s.Protocol == service.ICMPv6 && p.Range.Addr().Is4()
}

// families splits a peer by address family, in clouds whose rules are for one family. It returns
// those in which the service exists.
func (c *compiler) families(s service.Spec, p estate.Peer) []estate.Peer {
	if !c.dialect.OneFamily || p.Kind == estate.PeerRange {
		return []estate.Peer{p}
	}
	var parts []estate.Peer
	for _, six := range []bool{false, true} {
		wrong := uint8(service.ICMPv6)
		if six {
			wrong = service.ICMP
		}
		part := p
		if p.V4Only && six || p.V6Only && !six || !s.Any && s.Protocol == wrong {
			continue
		}
		part.V4Only, part.V6Only = !six, six
		parts = append(parts, part)
	}
	return parts
}

// protocols splits specs by protocol.
func protocols(specs []service.Spec) [][]service.Spec {
	var parts [][]service.Spec
	for _, s := range specs {
		if n := len(parts); n > 0 && parts[n-1][0].Protocol == s.Protocol && parts[n-1][0].Any == s.Any {
			parts[n-1] = append(parts[n-1], s)
			continue
		}
		parts = append(parts, []service.Spec{s})
	}
	return parts
}

func rangePeers(set addr.Set) []estate.Peer {
	var peers []estate.Peer
	for _, p := range set.Prefixes() {
		peers = append(peers, estate.Peer{Kind: estate.PeerRange, Range: p})
	}
	return peers
}

// once removes rules that repeat another one.
func (c *compiler) once() {
	kept := c.rules[:0]
	said := make(map[string]bool)
	for _, stateless := range []bool{false, true} { // of two equal rules, the one that keeps state stays
		for i := range c.rules {
			if r := &c.rules[i]; r.Stateless == stateless && c.filter.State == dialect.StateByRule {
				said[ruleKey(r)] = said[ruleKey(r)] || !stateless
			}
		}
	}
	written := make(map[string]bool)
	for _, r := range c.rules {
		key := ruleKey(&r)
		if written[key] || r.Stateless && said[key] {
			continue
		}
		written[key] = true
		kept = append(kept, r)
	}
	c.rules = kept
}

// A ruleKey is what a compiled rule matches. Where the first match decides, only the first rule of
// a key takes effect, whatever its action; where rules add up, all of them admit.
func ruleKey(r *estate.Rule) string {
	key := []byte(r.Direction)
	for _, s := range r.Services {
		key = append(append(key, ' '), s.String()...)
	}
	for _, p := range r.Peers {
		key = append(append(key, '|'), p.String()...)
		switch p.Kind {
		case estate.PeerGroup:
			key = append(append(key, ' '), p.Group.Path()...)
		case estate.PeerList:
			key = append(append(append(key, ' '), p.List.Owner...), p.List.ID...)
		}
	}
	return string(key)
}

// finish assigns ranks with room in between, and refuses, behind all rules, what the dialect would
// let through by itself.
func (c *compiler) finish() {
	if !c.filter.FirstMatch {
		return
	}
	count := make(map[estate.Direction]int)
	for i := range c.rules {
		count[c.rules[i].Direction]++
	}
	step, lastRank := rankStep, c.filter.Ranks[1]
	for max(count[estate.In], count[estate.Out])*step >= lastRank && step > 1 {
		step /= 2 // closer together if there are many rules
	}
	clear(count)
	for i := range c.rules {
		r := &c.rules[i]
		count[r.Direction]++
		r.Rank = count[r.Direction] * step
	}
	if len(c.filter.Fixed) == 0 {
		return
	}
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		if c.open[direction] {
			continue
		}
		c.rules = append(c.rules,
			estate.Rule{Direction: direction, Action: estate.Refuse, Rank: lastRank,
				Services: []service.Spec{service.Anything},
				Peers: []estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix("0.0.0.0/0")},
					{Kind: estate.PeerRange, Range: netip.MustParsePrefix("::/0")}},
				Description: "what the definition does not let through", Origin: c.g.Origin})
	}
}

// ForRanges are the rules by which the cloud of a group says that a rule is about a set of addresses.
func ForRanges(g *estate.Group, r estate.Rule, peers addr.Set) []estate.Rule {
	c := &compiler{g: g, dialect: decide.Dialect(g.Account), filter: decide.Filter(g)}
	c.write(r, nil, peers)
	return c.rules
}
