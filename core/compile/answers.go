package compile

import (
	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// answersRule is the description of rules that let answers through.
const answersRule = "answers"

// letAnswersBack admits answers, in front of all other rules: answers to what the rules admit and
// no earlier refusal stops. They go to the client ports, have the ICMP reply type, or are of the
// same protocol. If every protocol without ports needs answers, one rule admits everything.
func (c *compiler) letAnswersBack() {
	c.room = make(map[estate.Direction]traffic.Set)
	var first []estate.Rule
	live := make(map[estate.Direction]traffic.Set)
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		live[direction] = c.live(direction)
	}
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		back := direction.Opposite()
		answers := c.d.Answers(c.g, live[direction], direction)
		var whole addr.Set // peers to which everything is let back
		for _, b := range answers.Blocks() {
			if service.Portless.SubsetOf(b.Services) {
				whole = whole.Union(b.Peers)
			}
		}
		everything := traffic.Of(whole, service.All)
		c.room[back] = answers.Union(everything)
		write := func(s service.Spec, p estate.Peer) {
			first = append(first, estate.Rule{Direction: back, Action: estate.Admit, Services: []service.Spec{s},
				Peers: []estate.Peer{p}, Description: answersRule, Origin: c.g.Origin})
		}
		for _, p := range rangePeers(whole) {
			write(service.Anything, p)
		}
		for _, b := range answers.Minus(everything).Blocks() {
			for _, s := range b.Services.Specs() {
				for _, p := range rangePeers(b.Peers) {
					if !traffic.Of(c.d.Range(p.Range), service.Of(s)).SubsetOf(c.letAnyway(back)) {
						write(s, p)
					}
				}
			}
		}
		c.answerGroups(direction, write)
	}
	c.rules = append(first, c.rules...)
}

// live is what the rules of a direction admit to and from addresses, after refusals.
func (c *compiler) live(direction estate.Direction) traffic.Set {
	var admitted []traffic.Set
	var refused traffic.Set
	for i := range c.rules {
		r := &c.rules[i]
		if r.Direction != direction || r.Peers[0].Kind == estate.PeerGroup {
			continue
		}
		set := traffic.Of(c.d.Peers(c.g, r, nil), service.Of(r.Services...))
		if r.Action == estate.Refuse {
			refused = refused.Union(set)
		} else {
			admitted = append(admitted, set.Minus(refused))
		}
	}
	return traffic.UnionAll(admitted)
}

// letAnyway is what the rules of a direction admit before the first refusal.
func (c *compiler) letAnyway(direction estate.Direction) traffic.Set {
	var admitted []traffic.Set
	for i := range c.rules {
		r := &c.rules[i]
		if r.Direction == direction && r.Action == estate.Refuse {
			break
		}
		if r.Direction == direction && r.Peers[0].Kind != estate.PeerGroup {
			admitted = append(admitted, traffic.Of(c.d.Peers(c.g, r, nil), service.Of(r.Services...)))
		}
	}
	return traffic.UnionAll(admitted)
}

// answerGroups admits the answers to what is admitted from groups. Groups stand in rules only where
// definitions are compiled without a survey.
func (c *compiler) answerGroups(direction estate.Direction, write func(service.Spec, estate.Peer)) {
	for i := range c.rules {
		r := &c.rules[i]
		if r.Direction != direction || r.Action == estate.Refuse || r.Peers[0].Kind != estate.PeerGroup {
			continue
		}
		services := c.d.Answers(c.g, traffic.Of(addr.Everyone, service.Of(r.Services...)), direction).Services()
		if service.Portless.SubsetOf(services) {
			services = service.All
		}
		for _, s := range services.Specs() {
			write(s, r.Peers[0])
		}
	}
}
