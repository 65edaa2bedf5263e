package narrow

import (
	"fmt"
	"math"
	"net/netip"
	"slices"
	"time"

	"isonomos/core/count"
	"isonomos/core/flow"
)

// Unseen bounds how much was never observed. Over all that was seen, before noise is left out, the
// share of what comes from someone new is about n1/N, where n1 is what came from those seen on one day
// only (I. J. Good, "The population frequencies of species and the estimation of population parameters",
// Biometrika 40, 1953). Flows of one peer come together, so days are the occasions on which peers are
// seen, and flows are their weights. The bounds hold with 95 % for as long a time as was watched.
//
// The confidence term of D. McAllester and R. E. Schapire ("On the convergence rate of Good–Turing
// estimators", 2000) holds for every population, but for independent observations. Of a thousand flows
// it is more than ten times what comes. So n1 is taken for what it is, a count of rare events: its upper
// limit is that of a Poisson distribution, scaled to the weights.
type Unseen struct {
	Told  bool    // something was seen, on three days or more
	Flows float64 // share of flows from peers not seen so far
	Peers float64 // share of a day's peers that were not seen so far
}

// leastDays is how many days must have been watched for a bound.
const leastDays = 3

// unseen bounds what was not seen among all uses.
func (n *Narrower) unseen(uses []*use) Unseen {
	type seen struct {
		flows float64
		days  flow.Days
	}
	peers := make(map[netip.Addr]*seen)
	for _, u := range uses {
		if n.sweeps(u) && !n.strangers.Contains(u.peer) {
			continue // many at once from one that is known: it would make the others look rare
		}
		x := peers[u.peer]
		if x == nil {
			x = new(seen)
			peers[u.peer] = x
		}
		x.flows += float64(u.flows)
		x.days.Merge(&u.days)
	}
	if len(peers) == 0 || n.days < leastDays {
		return Unseen{}
	}
	var all, peerDays, once, onceFlows, onceSquares float64
	for _, x := range peers {
		all += x.flows
		peerDays += float64(x.days.Count())
		if x.days.Count() == 1 {
			once++
			onceFlows += x.flows
			onceSquares += x.flows * x.flows
		}
	}
	weight, events := all/peerDays, 0.0
	if once > 0 {
		weight, events = onceSquares/onceFlows, onceFlows*onceFlows/onceSquares
	}
	return Unseen{true, min(1, weight*upperLimit(events)/all), min(1, upperLimit(once)/peerDays)}
}

// upperLimit is the upper limit for the number of rare events of which some were counted (the
// approximation of E. B. Wilson and M. M. Hilferty to the Poisson distribution, 1931). The deviation is
// that of a limit of 95 % for the difference of two such counts, what was seen and what comes.
func upperLimit(events float64) float64 {
	const deviation = 1.645 * math.Sqrt2
	k := events + 1
	return k * math.Pow(1-1/(9*k)+deviation/(3*math.Sqrt(k)), 3)
}

// daysOf are the days on which each peer was seen, and the peers in the order of the uses.
func daysOf(kept []*use) (days map[netip.Addr]*flow.Days, order []netip.Addr) {
	days = make(map[netip.Addr]*flow.Days)
	for _, u := range kept {
		if days[u.peer] == nil {
			days[u.peer] = new(flow.Days)
			order = append(order, u.peer)
		}
		days[u.peer].Merge(&u.days)
	}
	return days, order
}

// Something that comes at regular intervals is only known to do so once it has come three times.
const periods = 3

// rhythm says why the window may be too short: it is less than a week, or a peer that seems to come
// weekly or monthly was seen fewer than three times.
func (n *Narrower) rhythm(p *Proposal, kept []*use) []string {
	if n.o.Flows == nil {
		return nil
	}
	var told []string
	if n.days < 7 {
		told = append(told, fmt.Sprintf("less than a week was watched (%d of 7 days): weekends and weekly work "+
			"were not all seen", n.days))
	}
	byPeer, order := daysOf(kept)
	for _, x := range []struct {
		days     int
		name     string
		from, to int32 // gaps between its days
	}{{7, "weekly", 7, 7}, {31, "monthly", 28, 31}} {
		var seen []netip.Addr
		for _, peer := range order {
			if d := byPeer[peer].Sorted(); comes(d, x.from, x.to) {
				seen = append(seen, peer)
			}
		}
		if len(seen) > 0 && n.days < periods*x.days {
			told = append(told, fmt.Sprintf("%s comes %s: %s of flows would show three rounds, there are %s",
				some(seen), x.name, count.Of(periods*x.days, "day", "days"), count.Number(n.days)))
		}
	}
	var once []netip.Addr
	for _, peer := range order {
		if byPeer[peer].Count() == 1 && n.days >= 7 {
			once = append(once, peer)
		}
	}
	if len(once) > 0 && n.days < periods*31 {
		told = append(told, fmt.Sprintf("%s was seen on one day alone (%s): it may come monthly, and others like "+
			"it may not have come yet", some(once),
			time.Unix(int64(byPeer[once[0]].Sorted()[0])*86400, 0).UTC().Format(time.DateOnly)))
	}
	return told
}

// comes reports whether all gaps between days have the same length.
func comes(days []int32, from, to int32) bool {
	for i := 1; i < len(days); i++ {
		if gap := days[i] - days[i-1]; gap < from || gap > to {
			return false
		}
	}
	return len(days) > 1
}

func some(peers []netip.Addr) string {
	slices.SortFunc(peers, netip.Addr.Compare)
	if len(peers) == 1 {
		return peers[0].String()
	}
	return fmt.Sprintf("%s and %s more", peers[0], count.Number(len(peers)-1))
}
