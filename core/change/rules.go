package change

import (
	"fmt"
	"slices"
	"strings"

	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/pass"
	"isonomos/core/service"
)

// A ruleKey is all that a rule says, except its rank, id and description: rules with the same key
// let the same through. Of passes it says which and until when: their rules stand for themselves.
func ruleKey(g *estate.Group, r *estate.Rule) string {
	key := trafficKey(g, r)
	if _, _, isPass := pass.Parse(r.Description); isPass {
		key += " | " + r.Description
	}
	return key
}

// trafficKey is ruleKey for passes too.
func trafficKey(g *estate.Group, r *estate.Rule) string {
	var peers []string
	for _, p := range r.Peers {
		peers = append(peers, peerKeys(g, p)...)
	}
	slices.Sort(peers)
	return fmt.Sprintf("%s %s %v %s | %s", r.Direction, r.Action, r.Stateless, service.Of(r.Services...),
		strings.Join(slices.Compact(peers), " "))
}

// peerKeys are the ranges of peers, and what they refer to.
func peerKeys(g *estate.Group, p estate.Peer) []string {
	switch p.Kind {
	case estate.PeerEveryone:
		return []string{"0.0.0.0/0", "::/0"}
	case estate.PeerRange:
		return []string{p.Range.Masked().String()}
	case estate.PeerNetwork:
		n := p.Network
		if n == nil {
			n = g.Network
		}
		if n == nil { // in a group of no network: that of the interface at hand
			return []string{"network"}
		}
		return []string{"network " + n.Path()}
	case estate.PeerMissing:
		return []string{"missing " + p.Missing}
	}
	if name := refersTo(g, p); name != "" {
		return []string{name}
	}
	return []string{p.String()}
}

// refersTo names the group or list that a peer refers to.
func refersTo(g *estate.Group, p estate.Peer) string {
	family := p.Family().String()
	switch p.Kind {
	case estate.PeerSelf:
		return "group " + g.Account.Name + "/" + g.ID + " " + family
	case estate.PeerGroup:
		return "group " + p.Group.Account.Name + "/" + p.Group.ID + " " + family
	case estate.PeerList:
		if p.List.Owner == "published" {
			return "published " + p.List.ID + " " + family
		}
		if p.List.Account == nil { // of definitions: the one that has its name in the group's account
			return "list " + p.List.Name + " " + family
		}
		return "list " + p.List.Account.Name + "/" + p.List.ID + " " + family
	}
	return ""
}

// sameMeaning reports whether two ways to write a group's rules let through the same, and refer to
// the same groups and lists for it, so that they go on to mean the same when members change.
func sameMeaning(d *decide.Decider, g *estate.Group, a, b []estate.Rule) bool {
	if anyStateless(a) || anyStateless(b) || !sameReferences(g, a, b) {
		return false
	}
	one, other := *g, *g
	one.Rules, other.Rules = namingSelf(g, a), namingSelf(g, b)
	defer d.Forget(&one)
	defer d.Forget(&other)
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		if !d.GroupTraffic(&one, direction).Equal(d.GroupTraffic(&other, direction)) {
			return false
		}
	}
	return true
}

func anyStateless(rules []estate.Rule) bool {
	return slices.ContainsFunc(rules, func(r estate.Rule) bool { return r.Stateless })
}

// keysOf are the keys of a group's rules by direction: in the order in which they decide, or sorted
// where order does not matter.
func keysOf(g *estate.Group, rules []estate.Rule) []string {
	var keys []string
	ranked := decide.Filter(g).FirstMatch
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		list := of(rules, direction)
		if ranked {
			slices.SortStableFunc(list, byRank)
		}
		from := len(keys)
		for i := range list {
			if !list[i].BuiltIn {
				keys = append(keys, partKeys(g, list[i])...)
			}
		}
		if !ranked {
			slices.Sort(keys[from:])
		}
	}
	return keys
}

func byRank(a, b estate.Rule) int { return a.Rank - b.Rank }

// sameReferences reports whether two ways to write rules refer to the same groups and lists on the
// same services.
func sameReferences(g *estate.Group, a, b []estate.Rule) bool {
	of := func(rules []estate.Rule) map[string]service.Set {
		named := make(map[string]service.Set)
		for i := range rules {
			for _, p := range rules[i].Peers {
				if name := refersTo(g, p); name != "" {
					name = fmt.Sprint(rules[i].Direction, rules[i].Action, name)
					named[name] = named[name].Union(service.Of(rules[i].Services...))
				}
			}
		}
		return named
	}
	x, y := of(a), of(b)
	for name, set := range x {
		if !set.Equal(y[name]) {
			return false
		}
	}
	return len(x) == len(y)
}

// namingSelf replaces "self" by the group, for a copy of the group that is attached to nothing.
func namingSelf(g *estate.Group, rules []estate.Rule) []estate.Rule {
	named := slices.Clone(rules)
	for i := range named {
		named[i].Peers = slices.Clone(named[i].Peers)
		for k, p := range named[i].Peers {
			if p.Kind == estate.PeerSelf {
				named[i].Peers[k] = estate.Peer{Kind: estate.PeerGroup, Group: g, V4Only: p.V4Only, V6Only: p.V6Only}
			}
		}
	}
	return named
}

// A rewriting turns one way to write a group's rules into another.
type rewriting struct {
	add    []estate.Rule // in the order in which they are to be added
	remove []estate.Rule // in the order in which they are to be removed
}

// applied are the rules after a rewriting.
func (r rewriting) applied(have []estate.Rule) []estate.Rule {
	return append(slices.DeleteFunc(slices.Clone(have), func(x estate.Rule) bool {
		return slices.ContainsFunc(r.remove, func(gone estate.Rule) bool { return gone.ID == x.ID })
	}), r.add...)
}

// rewrite finds which rules of a group to add and remove, so that it ends with the wanted ones;
// equal rules stay.
//
// Where the first matching rule decides, new rules are placed between those that stay, so that the
// old and the new rules each keep their order. They are added from the first on; then the old ones
// are removed from the last on. At every step each packet is thus decided as by all old or as by
// all new rules: let x be the first rule that matches it. If x is new, all new rules before it are
// present and don't match. If x is old, all old rules before it are still present and don't match.
func rewrite(g *estate.Group, have, wanted []estate.Rule) (rewriting, error) {
	builtIn := func(r estate.Rule) bool { return r.BuiltIn }
	have, wanted = slices.DeleteFunc(slices.Clone(have), builtIn), slices.DeleteFunc(slices.Clone(wanted), builtIn)
	if decide.Filter(g).FirstMatch {
		var all rewriting
		for _, direction := range []estate.Direction{estate.In, estate.Out} {
			r, err := rewriteRanked(g, of(have, direction), of(wanted, direction))
			if err != nil {
				return r, err
			}
			all.add, all.remove = append(all.add, r.add...), append(all.remove, r.remove...)
		}
		return all, nil
	}
	keep, want := make(map[string]bool), make(map[string]bool)
	for i := range wanted {
		for _, k := range partKeys(g, wanted[i]) {
			want[k] = true
		}
	}
	var r rewriting
	for i := range have {
		parts := partKeys(g, have[i])
		if slices.ContainsFunc(parts, func(k string) bool { return !want[k] }) {
			r.remove = append(r.remove, have[i])
			continue
		}
		for _, k := range parts {
			keep[k] = true
		}
	}
	for i := range wanted {
		for _, part := range parted(g, wanted[i]) {
			if k := ruleKey(g, &part); !keep[k] {
				keep[k] = true // of two equal ones, one is kept
				r.add = append(r.add, part)
			}
		}
	}
	return r, nil
}

// partKeys are the keys of the rules that a rule takes in its cloud. What was surveyed as one rule may have been made
// again as several.
func partKeys(g *estate.Group, r estate.Rule) []string {
	parts := parted(g, r)
	keys := make([]string, len(parts))
	for i := range parts {
		keys[i] = ruleKey(g, &parts[i])
	}
	return keys
}

// parted divides a surveyed rule with several peers or services into rules of one each, as its
// cloud has them.
func parted(g *estate.Group, r estate.Rule) []estate.Rule {
	d := decide.Dialect(g.Account)
	peers, services := [][]estate.Peer{r.Peers}, [][]service.Spec{r.Services}
	if !d.ManyPeers && len(r.Peers) > 1 {
		peers = nil
		for i := range r.Peers {
			peers = append(peers, r.Peers[i:i+1:i+1])
		}
	}
	if !d.ManyPorts && len(r.Services) > 1 {
		services = nil
		for i := range r.Services {
			services = append(services, r.Services[i:i+1:i+1])
		}
	}
	var parts []estate.Rule
	for _, p := range peers {
		for _, s := range services {
			part := r
			part.Peers, part.Services = p, s
			if n := len(parts); n > 0 {
				part.ID = fmt.Sprintf("%s.%d", r.ID, n+1)
			}
			parts = append(parts, part)
		}
	}
	return parts
}

// of are the rules of a direction.
func of(rules []estate.Rule, direction estate.Direction) []estate.Rule {
	return slices.DeleteFunc(slices.Clone(rules), func(r estate.Rule) bool { return r.Direction != direction })
}

// rewriteRanked finds ranks for what is added. They don't depend on passes that stay, where these can stay where they
// are: a draft is the same whether a pass is open or not.
func rewriteRanked(g *estate.Group, have, wanted []estate.Rule) (rewriting, error) {
	taken := make(map[int]bool)
	for _, r := range have {
		taken[r.Rank] = true
	}
	stays := make(map[string]bool)
	for i := range wanted {
		stays[ruleKey(g, &wanted[i])] = true
	}
	isPass := func(r estate.Rule) bool { return r.Pass != "" && stays[ruleKey(g, &r)] }
	plain := func(rules []estate.Rule) []estate.Rule { return slices.DeleteFunc(slices.Clone(rules), isPass) }
	if slices.ContainsFunc(have, isPass) {
		r, err := ranksFor(g, plain(have), plain(wanted), taken)
		if err == nil && slices.Equal(refusedBefore(g, r.applied(have)), refusedBefore(g, wanted)) {
			return r, nil
		}
	}
	return ranksFor(g, have, wanted, taken)
}

// refusedBefore says of each rule of a pass which refusals are in front of it.
func refusedBefore(g *estate.Group, rules []estate.Rule) []string {
	rules = slices.Clone(rules)
	slices.SortStableFunc(rules, byRank)
	var refused, all []string
	for i := range rules {
		switch r := &rules[i]; {
		case r.Action == estate.Refuse:
			refused = append(refused, ruleKey(g, r))
		case r.Pass != "":
			all = append(all, ruleKey(g, r)+" after "+strings.Join(refused, ", "))
		}
	}
	slices.Sort(all)
	return all
}

func ranksFor(g *estate.Group, have, wanted []estate.Rule, taken map[int]bool) (rewriting, error) {
	have, wanted = slices.Clone(have), slices.Clone(wanted)
	slices.SortStableFunc(have, byRank)
	slices.SortStableFunc(wanted, byRank)
	keys := func(rules []estate.Rule) []string {
		list := make([]string, len(rules))
		for i := range rules {
			list[i] = ruleKey(g, &rules[i])
		}
		return list
	}
	staying := common(keys(have), keys(wanted))
	bounds := decide.Filter(g).Ranks
	for {
		ranks, tight := placed(have, wanted, staying, taken, bounds)
		if tight < 0 {
			var r rewriting
			kept := make(map[int]bool)
			for _, s := range staying {
				kept[s[0]] = true
			}
			for i, w := range wanted {
				if ranks[i] > 0 {
					w.Rank = ranks[i]
					r.add = append(r.add, w)
				}
			}
			for i := len(have) - 1; i >= 0; i-- {
				if !kept[i] {
					r.remove = append(r.remove, have[i])
				}
			}
			return r, nil
		}
		if len(staying) == 0 {
			return rewriting{}, &RoomError{fmt.Sprintf("%s has no %d free ranks from %d to %d", g.Path(), len(wanted),
				bounds[0], bounds[1]), []string{g.ID}}
		}
		// this rule is removed, and added again with another rank
		staying = slices.Delete(slices.Clone(staying), min(tight, len(staying)-1), min(tight, len(staying)-1)+1)
	}
}

// placed gives ranks to the wanted rules that don't exist yet, between those that stay; those that
// stay get 0. If there is too little room, tight is the index in staying of the rule behind the
// gap, else -1.
func placed(have, wanted []estate.Rule, staying [][2]int, taken map[int]bool, bounds [2]int) (ranks []int, tight int) {
	ranks = make([]int, len(wanted))
	next, low := 0, bounds[0]-1
	for k := 0; k <= len(staying); k++ {
		to, high := len(wanted), bounds[1]+1
		if k < len(staying) {
			to, high = staying[k][1], have[staying[k][0]].Rank
		}
		if !asWanted(ranks[next:to], wanted[next:to], low, high, taken) && !spread(ranks[next:to], low, high, taken) {
			return nil, k
		}
		next, low = to+1, high
	}
	return ranks, -1
}

// asWanted keeps the ranks that rules ask for, where these are free and lie between two bounds.
func asWanted(ranks []int, wanted []estate.Rule, low, high int, taken map[int]bool) bool {
	for i, r := range wanted {
		if r.Rank <= low || r.Rank >= high || taken[r.Rank] {
			clear(ranks)
			return false
		}
		ranks[i], low = r.Rank, r.Rank
	}
	return true
}

// spread chooses ranks between two bounds: twenty apart if there is room, else evenly.
func spread(ranks []int, low, high int, taken map[int]bool) bool {
	n := len(ranks)
	if n == 0 {
		return true
	}
	step := min(20, max(1, (high-low)/(n+1)))
	for ; step >= 1; step /= 2 {
		at := low
		fits := true
		for i := range ranks {
			at += step
			for taken[at] {
				at++
			}
			if ranks[i] = at; at >= high {
				fits = false
				break
			}
		}
		if fits {
			return true
		}
	}
	clear(ranks)
	return false
}

// common is a longest common subsequence, as pairs of indices. It takes time in proportion to the
// product of both lengths; groups have a few hundred rules at most.
func common(a, b []string) [][2]int {
	length := make([][]int, len(a)+1)
	for i := range length {
		length[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for k := len(b) - 1; k >= 0; k-- {
			if a[i] == b[k] {
				length[i][k] = length[i+1][k+1] + 1
			} else {
				length[i][k] = max(length[i+1][k], length[i][k+1])
			}
		}
	}
	var pairs [][2]int
	for i, k := 0, 0; i < len(a) && k < len(b); {
		switch {
		case a[i] == b[k]:
			pairs = append(pairs, [2]int{i, k})
			i, k = i+1, k+1
		case length[i+1][k] >= length[i][k+1]:
			i++
		default:
			k++
		}
	}
	return pairs
}
