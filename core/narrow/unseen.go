package narrow

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"isonomos/core/count"
	"isonomos/core/flow"
)

// Unseen estimates how much was never observed (I. J. Good, "The population frequencies of species
// and the estimation of population parameters", Biometrika 40, 1953): the probability that the next
// observation is of something new is about n1/N, where n1 is the number of things seen once in N
// observations.
type Unseen struct {
	Peers float64 // for flows: the probability that the next one is from a new peer
	Days  float64 // for days: the probability that a peer of the next day is new
}

// unseen estimates over the peers of the flows that count, and counts the peers.
func (n *Narrower) unseen(p *Proposal, kept []*flow.Sum) (Unseen, int) {
	flows := make(map[netip.Addr]int)
	for _, x := range kept {
		flows[peerOf(p, x)] += x.Flows
	}
	days, _ := daysOf(p, kept)
	counts := make(map[netip.Addr]int, len(days))
	for peer, d := range days {
		counts[peer] = d.Count()
	}
	return Unseen{goodTuring(flows), goodTuring(counts)}, len(flows)
}

// daysOf are the days on which each peer was seen, and the peers in the order of the flows.
func daysOf(p *Proposal, kept []*flow.Sum) (days map[netip.Addr]*flow.Days, order []netip.Addr) {
	days = make(map[netip.Addr]*flow.Days)
	for _, x := range kept {
		peer := peerOf(p, x)
		if days[peer] == nil {
			days[peer] = new(flow.Days)
			order = append(order, peer)
		}
		all := x.Days
		days[peer].Merge(&all)
	}
	return days, order
}

// goodTuring is n1/N for the given counts; without observations it is 1.
func goodTuring(counts map[netip.Addr]int) float64 {
	once, all := 0, 0
	for _, n := range counts {
		all += n
		if n == 1 {
			once++
		}
	}
	if all == 0 {
		return 1
	}
	return float64(once) / float64(all)
}

// Something that comes at regular intervals is only known to do so once it has come three times.
const periods = 3

// rhythm says why the window may be too short: it is less than a week, or a peer that seems to come
// weekly or monthly was seen fewer than three times.
func (n *Narrower) rhythm(p *Proposal, kept []*flow.Sum) []string {
	if n.o.Flows == nil {
		return nil
	}
	var told []string
	if n.days < 7 {
		told = append(told, fmt.Sprintf("less than a week was watched (%d of 7 days): weekends and weekly work "+
			"were not all seen", n.days))
	}
	byPeer, order := daysOf(p, kept)
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
