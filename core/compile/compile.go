package compile

import (
	"fmt"
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
	Group *estate.Group // not defined: it decides as its dialect does
	// AnswerRoom is what is let through only so that answers come back, where the
	// dialect keeps no state: it is more than the definition says.
	AnswerRoom traffic.Set
}

// A Failure says why a definition can't be expressed in its cloud.
type Failure struct {
	Group  *estate.Group
	Rule   *estate.Rule // nil where it is the group as a whole
	Reason string
}

// Error is "the reason", without the place.
func (f *Failure) Error() string { return f.Reason }

// Origin is the place of what can't be expressed.
func (f *Failure) Origin() estate.Origin {
	if f.Rule != nil {
		return f.Rule.Origin
	}
	return f.Group.Origin
}

// rankStep is the room between two ranks.
const rankStep = 20

// Group compiles a defined group for its cloud, decides the result as a whole and
// compares it with the definition's meaning: equal, but for answer room, or a
// Failure with an example flow. The Decider is that of the definitions, with
// members for groups where they are needed.
func Group(d *decide.Decider, g *estate.Group) (Compiled, error) {
	c := &compiler{d: d, g: g, dialect: decide.Dialect(g.Account), filter: decide.Filter(g)}
	copied := *g
	copied.Defined, copied.Follows, copied.Lends, copied.Covers = false, false, nil, nil
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		if err := c.direction(direction); err != nil {
			return Compiled{}, err
		}
	}
	if c.filter.State == dialect.StateNone {
		c.letAnswersBack()
	}
	c.finish()
	copied.Rules = c.rules
	defer d.Forget(&copied)
	result := Compiled{Group: &copied, AnswerRoom: traffic.Set{}}
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		meaning, made := d.GroupTraffic(g, direction), d.GroupTraffic(&copied, direction)
		room := made.Minus(meaning)
		if c.filter.State == dialect.StateNone {
			result.AnswerRoom = result.AnswerRoom.Union(room.Intersect(c.room[direction]))
			room = room.Minus(c.room[direction])
		}
		if w, ok := room.Witness(); ok {
			return result, &Failure{g, nil, fmt.Sprintf("the cloud would let through more than the definition: %s %s %s", direction, w.Peer, w.Service)}
		}
		if c.dialect.OneFamily {
			meaning = meaning.Minus(impossible)
		}
		if w, ok := meaning.Minus(made).Witness(); ok {
			return result, &Failure{g, nil, fmt.Sprintf("the cloud would stop what the definition lets through: %s %s %s", direction, w.Peer, w.Service)}
		}
	}
	return result, nil
}

type compiler struct {
	d       *decide.Decider
	g       *estate.Group
	dialect dialect.Dialect
	filter  dialect.Filter
	rules   []estate.Rule
	room    map[estate.Direction]traffic.Set // what answers may need
}

// replaceSelf names a followed group where its own rules say self.
func (c *compiler) replaceSelf(peers []estate.Peer, f *estate.Group) []estate.Peer {
	named := slices.Clone(peers)
	for i, p := range named {
		if p.Kind == estate.PeerSelf {
			named[i] = estate.Peer{Kind: estate.PeerGroup, Group: f, V4Only: p.V4Only, V6Only: p.V6Only}
		}
	}
	return named
}

// direction compiles the group's own rules, and behind them those of the groups
// that it follows. A followed group's refusals stop only what it would itself let
// through, so they are taken away from its own rules.
func (c *compiler) direction(direction estate.Direction) error {
	if err := c.inOrder(c.g.Rules, direction, c.filter.Refuses); err != nil {
		return err
	}
	if !c.g.Follows {
		return nil
	}
	for _, f := range c.d.Followed(c.g) {
		rules := slices.Clone(f.Rules)
		for i := range rules {
			rules[i].Peers, rules[i].Except = c.replaceSelf(rules[i].Peers, f), c.replaceSelf(rules[i].Except, f)
		}
		if err := c.inOrder(rules, direction, false); err != nil {
			return err
		}
	}
	return nil
}

// inOrder writes rules one after the other; refusals are written too, or taken
// away from what stands behind them.
func (c *compiler) inOrder(rules []estate.Rule, direction estate.Direction, refuses bool) error {
	var refused []estate.Rule
	for _, r := range rules {
		switch {
		case r.Direction != direction:
			continue
		case r.Action == estate.Refuse && !refuses:
			refused = append(refused, r)
			continue
		}
		if err := c.add(r, refused); err != nil {
			return err
		}
	}
	return nil
}

// add writes one rule as its cloud spells it. What was refused before is taken
// away, where the cloud has no refusals.
func (c *compiler) add(r estate.Rule, refused []estate.Rule) error {
	services := service.Of(r.Services...)
	var cut addr.Set // peers that are refused on some of the services
	for i := range refused {
		b := &refused[i]
		if !service.Of(b.Services...).Overlaps(services) {
			continue
		}
		if !services.SubsetOf(service.Of(b.Services...)) {
			return c.subtractByService(r, refused)
		}
		cut = cut.Union(c.d.Peers(c.g, b, nil))
	}
	named, static, err := c.spell(r, cut)
	if err != nil {
		return err
	}
	c.write(r, named, static)
	return nil
}

// subtractByService parts a rule by services, so that each part is refused as a whole or not at all.
func (c *compiler) subtractByService(r estate.Rule, refused []estate.Rule) error {
	left := service.Of(r.Services...)
	for i := range refused {
		part := left.Intersect(service.Of(refused[i].Services...))
		if part.IsEmpty() || part.Equal(left) {
			continue
		}
		rest := r
		rest.Services = left.Minus(part).Specs()
		r.Services = part.Specs()
		if err := c.add(r, refused); err != nil {
			return err
		}
		return c.add(rest, refused)
	}
	return c.add(r, refused)
}

// spell parts the peers of a rule into those that the cloud can name, and ranges.
// What is excepted or cut is taken from ranges; from a name it can't be taken.
func (c *compiler) spell(r estate.Rule, cut addr.Set) (named []estate.Peer, static addr.Set, err error) {
	except := cut
	if len(r.Except) > 0 {
		except = except.Union(c.d.Peers(c.g, &estate.Rule{Peers: r.Except}, nil))
	}
	var ranges []addr.Set
	for _, p := range r.Peers {
		set := c.d.Peers(c.g, &estate.Rule{Peers: []estate.Peer{p}}, nil)
		if !c.canName(p) {
			ranges = append(ranges, set)
			continue
		}
		if set.Overlaps(except) {
			if p.Kind == estate.PeerGroup || p.Kind == estate.PeerSelf {
				return nil, addr.Set{}, &Failure{c.g, &r, fmt.Sprintf("the cloud %s can't take addresses away from the members of a group: %s", c.g.Account.Cloud.Name, p)}
			}
			ranges = append(ranges, set) // a list is spelt out, so that it can be cut
			continue
		}
		named = append(named, c.name(p)...)
	}
	return named, addr.UnionAll(ranges...).Minus(except), nil
}

// canName reports whether the cloud's rules can refer to a peer instead of spelling out its ranges.
func (c *compiler) canName(p estate.Peer) bool {
	whole := p.Family() == addr.Both || c.dialect.OneFamily
	onlyRanges := c.g.For == estate.ForSubnets && c.filter.State == dialect.StateNone
	switch p.Kind {
	case estate.PeerGroup, estate.PeerSelf:
		return whole && !onlyRanges
	case estate.PeerList:
		entries, published := p.List.At(c.g)
		if len(published) > 0 {
			return whole && len(entries) == 0 && len(c.d.PublishedLists(p.List, c.g)) > 0
		}
		return whole && !onlyRanges && len(p.List.Parts) == 0 && c.dialect.OwnLists != dialect.ListsExpanded
	}
	return false
}

// name is a peer as the cloud's rules refer to it.
func (c *compiler) name(p estate.Peer) []estate.Peer {
	switch p.Kind {
	case estate.PeerSelf:
		return []estate.Peer{{Kind: estate.PeerGroup, Group: c.g}}
	case estate.PeerList:
		var lists []estate.Peer
		for _, l := range c.d.PublishedLists(p.List, c.g) {
			lists = append(lists, estate.Peer{Kind: estate.PeerList, List: l})
		}
		if len(lists) > 0 {
			return lists
		}
	}
	return []estate.Peer{p}
}

// write adds the rules that say some services with some peers: one run of ports
// with one peer each, or several together where a rule holds several.
func (c *compiler) write(r estate.Rule, named []estate.Peer, static addr.Set) {
	specs := service.Of(r.Services...).Specs()
	var groups [][]estate.Peer
	if ranges := rangePeers(static); len(ranges) > 0 {
		groups = append(groups, ranges)
	}
	if len(named) > 0 {
		groups = append(groups, named)
	}
	emit := func(specs []service.Spec, peers []estate.Peer) {
		c.rules = append(c.rules, estate.Rule{Direction: r.Direction, Action: r.Action, Services: specs, Peers: peers, Description: r.Description, Stateless: r.Stateless, Origin: r.Origin, Through: r.Through})
	}
	for _, peers := range groups {
		if c.dialect.ManyPeers {
			lists := slices.DeleteFunc(slices.Clone(peers), func(p estate.Peer) bool { return p.Kind != estate.PeerList })
			others := slices.DeleteFunc(slices.Clone(peers), func(p estate.Peer) bool { return p.Kind == estate.PeerList })
			for _, byProtocol := range protocols(specs) {
				if len(others) > 0 {
					emit(byProtocol, others)
				}
				for _, l := range lists {
					emit(byProtocol, []estate.Peer{l})
				}
			}
			continue
		}
		for _, s := range specs {
			for _, p := range peers {
				for _, part := range c.families(s, p) {
					emit([]service.Spec{s}, []estate.Peer{part})
				}
			}
		}
	}
}

// families parts a peer by address family, where a rule speaks of one: of those
// families that the service can be of.
func (c *compiler) families(s service.Spec, p estate.Peer) []estate.Peer {
	if !c.dialect.OneFamily {
		return []estate.Peer{p}
	}
	var parts []estate.Peer
	for _, six := range []bool{false, true} {
		wrong := uint8(service.ICMPv6)
		if six {
			wrong = service.ICMP
		}
		part := p
		if part.Kind == estate.PeerRange {
			if part.Range.Addr().Is6() != six {
				continue
			}
		} else {
			if p.V4Only && six || p.V6Only && !six {
				continue
			}
			part.V4Only, part.V6Only = !six, six
		}
		if !s.Any && s.Protocol == wrong {
			continue
		}
		parts = append(parts, part)
	}
	return parts
}

// impossible is what no packet is: ICMP over IPv6, and the reverse.
var impossible = traffic.Of(addr.FamilyOf(addr.IPv6), service.Of(service.Whole(service.ICMP))).Union(traffic.Of(addr.FamilyOf(addr.IPv4), service.Of(service.Whole(service.ICMPv6))))

// protocols parts specs by protocol.
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

// letAnswersBack admits, before all other rules, the answers to what the rules
// admit: to the client ports, of the reply type, of the protocol itself.
func (c *compiler) letAnswersBack() {
	c.room = make(map[estate.Direction]traffic.Set)
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		back := direction.Opposite()
		var answers []traffic.Set
		for _, r := range c.rules {
			if r.Direction == direction && r.Action == estate.Admit {
				answers = append(answers, c.d.Answers(c.g, traffic.Of(c.d.Peers(c.g, &r, nil), service.Of(r.Services...)), direction))
			}
		}
		c.room[back] = traffic.UnionAll(answers)
	}
	var first []estate.Rule
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		for _, b := range c.room[direction].Blocks() {
			for _, s := range b.Services.Specs() {
				for _, p := range rangePeers(b.Peers) {
					first = append(first, estate.Rule{Direction: direction, Action: estate.Admit, Services: []service.Spec{s}, Peers: []estate.Peer{p}, Description: "answers", Origin: c.g.Origin})
				}
			}
		}
	}
	c.rules = append(first, c.rules...)
}

// finish gives ranks with room between, and shuts what the dialect would let
// through by itself behind all rules.
func (c *compiler) finish() {
	if !c.filter.FirstMatch {
		return
	}
	ranks := make(map[estate.Direction]int)
	for i := range c.rules {
		r := &c.rules[i]
		ranks[r.Direction] += rankStep
		r.Rank = ranks[r.Direction]
	}
	if len(c.filter.Fixed) == 0 {
		return
	}
	step, lastRank := rankStep, c.filter.Ranks[1]
	for _, last := range ranks {
		for last/rankStep*step >= lastRank && step > 1 {
			step /= 2 // closer together where there are many
		}
	}
	for i := range c.rules {
		c.rules[i].Rank = c.rules[i].Rank / rankStep * step
	}
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		c.rules = append(c.rules, estate.Rule{Direction: direction, Action: estate.Refuse, Rank: lastRank, Services: []service.Spec{service.Anything},
			Peers:       []estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix("0.0.0.0/0")}, {Kind: estate.PeerRange, Range: netip.MustParsePrefix("::/0")}},
			Description: "what the definition does not let through", Origin: c.g.Origin})
	}
}
