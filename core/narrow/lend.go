package narrow

import (
	"net/netip"
	"slices"
	"time"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/service"
)

// A Lending is administrative access that a few people from outside use now and then. It can be
// lent for a while instead of being open all the time.
type Lending struct {
	Services service.Set
	Choices  []Choice
	Users    int // distinct addresses
	Sessions int
	Days     int // on which at least one of them came
	Longest  time.Duration
	AtMost   time.Duration // the ceiling of a pass: Longest, rounded up
	Taken    bool          // the proposal lends it; else it only says that it could
}

// Access can be lent if few people use it, and never for so long that it might as well be open.
const (
	mostBorrowers = 12
	longestLoan   = 24 * time.Hour
)

// loans are the ceilings to which is rounded up.
var loans = []time.Duration{15 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 3 * time.Hour,
	4 * time.Hour, 6 * time.Hour, 8 * time.Hour, 12 * time.Hour, longestLoan}

// lend finds observed needs that can be lent: administration from addresses that are not the
// estate's own machines, if all sessions together took less than half of the time. With
// Options.Lend they are lent, and the rest of the rules is chosen again.
func (n *Narrower) lend(p *Proposal) {
	if p.Direction != estate.In || n.o.Flows == nil || !p.Group.Defined {
		return
	}
	l := Lending{Taken: n.o.Lend}
	users := make(map[netip.Addr]bool)
	var days flow.Days
	var lasted time.Duration
	for i, need := range p.Needs {
		if need.Source != Observed || !need.Services.SubsetOf(n.admin) {
			continue
		}
		outside := need.Peers.Minus(n.own)
		if outside.IsEmpty() {
			continue
		}
		for _, x := range need.Sums {
			if !outside.Contains(x.Source) {
				continue
			}
			users[x.Source] = true
			l.Sessions += x.Flows
			l.Longest = max(l.Longest, time.Duration(x.Longest)*time.Second)
			lasted += time.Duration(x.Lasted) * time.Second
			all := x.Days
			days.Merge(&all)
		}
		l.Services = l.Services.Union(need.Services)
		if n.o.Lend && !need.Peers.Equal(outside) { // machines of the estate still need it all the time
			rest := need
			rest.Peers, rest.Sums = need.Peers.Intersect(n.own),
				slices.DeleteFunc(slices.Clone(need.Sums), func(x *flow.Sum) bool { return outside.Contains(x.Source) })
			p.Needs = append(p.Needs, rest)
			p.Needs[i].Peers = outside
			p.Needs[i].Sums = slices.DeleteFunc(slices.Clone(need.Sums),
				func(x *flow.Sum) bool { return !outside.Contains(x.Source) })
		}
	}
	window := time.Duration(n.days) * 24 * time.Hour
	if len(users) == 0 || len(users) > mostBorrowers || l.Longest > longestLoan ||
		lasted > window/2*time.Duration(len(users)) {
		return
	}
	l.Users, l.Days = len(users), days.Count()
	l.AtMost = loans[slices.IndexFunc(loans, func(d time.Duration) bool { return d >= l.Longest })]
	peers := make([]netip.Addr, 0, len(users))
	for a := range users {
		peers = append(peers, a)
	}
	needed := addr.Of(peers...)
	l.Choices = n.puzzle(p.Subject, l.Services, needed, allowed(p.Before, l.Services)).solve().choices
	p.Lending = &l
	if !n.o.Lend {
		return
	}
	for i := range p.Needs {
		need := &p.Needs[i]
		need.Lent = need.Source == Observed && need.Services.SubsetOf(n.admin) && !need.Peers.Overlaps(n.own)
	}
	n.choose(p)
}
