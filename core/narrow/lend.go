package narrow

import (
	"net/netip"
	"slices"
	"time"

	"isonomos/core/estate"
	"isonomos/core/flow"
)

// A Lending is administrative access that a few people from outside use now and then. It can be
// lent for a while instead of being open all the time.
type Lending struct {
	Rules    []NewRule // to lend instead of admit
	Users    int       // distinct addresses
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

// lend finds observed needs that can be lent: administration from addresses that are not the estate's
// own machines, if all sessions together took less than half of the time. With Options.Lend they are lent,
// and the rest of the rules is chosen again.
func (n *Narrower) lend(p *Proposal) {
	if p.Direction != estate.In || n.o.Flows == nil || !p.Group.Defined {
		return
	}
	l := Lending{Taken: n.o.Lend}
	users := make(map[netip.Addr]bool)
	var days flow.Days
	var lasted time.Duration
	var stay, lent []Need
	for _, need := range p.Needs {
		inside, outside := n.byOrigin(need)
		if len(outside.Sums) == 0 {
			stay = append(stay, need)
			continue
		}
		if len(inside.Sums) > 0 { // machines of the estate need it all the time
			stay = append(stay, inside)
		}
		lent = append(lent, outside)
		for _, x := range outside.Sums {
			users[x.Source] = true
			l.Sessions += x.Flows
			l.Longest = max(l.Longest, time.Duration(x.Longest)*time.Second)
			lasted += time.Duration(x.Lasted) * time.Second
			all := x.Days
			days.Merge(&all)
		}
	}
	window := time.Duration(n.days) * 24 * time.Hour
	if len(users) == 0 || len(users) > mostBorrowers || l.Longest > longestLoan ||
		lasted > window/2*time.Duration(len(users)) {
		return
	}
	l.Users, l.Days = len(users), days.Count()
	l.AtMost = loans[slices.IndexFunc(loans, func(d time.Duration) bool { return d >= l.Longest })]
	blocks := n.blocksOf(p.Subject, lent)
	l.Rules = rulesFrom(blocks, solve(blocks))
	p.Lending = &l
	if !n.o.Lend {
		return
	}
	for i := range lent {
		lent[i].Lent = true
	}
	p.Needs = slices.Concat(stay, lent)
	n.choose(p)
}

// byOrigin divides an observed need for administration by who was seen: own machines, and others. Of other
// needs it returns none.
func (n *Narrower) byOrigin(need Need) (inside, outside Need) {
	if need.Source != Observed || !need.Services.SubsetOf(n.admin) {
		return Need{}, Need{}
	}
	inside, outside = need, need
	inside.Peers, outside.Peers = need.Peers.Intersect(n.own), need.Peers.Minus(n.own)
	own := func(x *flow.Sum) bool { return n.own.Contains(x.Source) }
	inside.Sums = slices.DeleteFunc(slices.Clone(need.Sums), func(x *flow.Sum) bool { return !own(x) })
	outside.Sums = slices.DeleteFunc(slices.Clone(need.Sums), own)
	return inside, outside
}
