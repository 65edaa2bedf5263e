package change

import (
	"fmt"
	"path"
	"slices"

	"isonomos/core/compile"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/pass"
)

// A Lending is a change of what passes open, and of nothing else.
type Lending struct {
	Name  string // of the estate
	Knows estate.Knows
	// Open are all passes that are to be open, without those that share another one's rules; with the lends of
	// which they are parts.
	Open []*pass.Found
	// Adds reports whether rules of a pass are added where they are not there; those of other passes that somebody
	// has removed stay away.
	Adds func(id string) bool
	Gone map[*estate.Rule]bool  // surveyed rules that are to go
	Drop map[*estate.Group]bool // surveyed groups of passes that are to go
}

// NewLending is the aim of opening and shutting passes: the surveyed state, and the same with other rules of passes.
// In each group a pass takes what compiling the definitions with it adds to what they take without it.
func NewLending(defined, surveyed *estate.Estate, l Lending) (*Aim, error) {
	a := &Aim{Name: l.Name, Surveyed: surveyed, surveyedOf: make(map[key]*estate.Group),
		own: make(map[*estate.Group]bool), exact: true}
	a.inScope = func(*estate.Account) bool { return true }
	a.knows = func(string, string, string) bool { return true }
	a.adopted = func(string, string, string) bool { return false }
	for _, g := range surveyed.Groups {
		a.surveyedOf[keyOf(g)] = g
	}
	every := func(*estate.Group) bool { return true }
	a.Now, a.ToNow, _ = estate.Overlay(defined, surveyed, l.Knows)
	a.asSurveyed(a.Now, a.ToNow, every)
	a.Then, a.ToThen, _ = estate.Overlay(defined, surveyed, l.Knows)
	a.asSurveyed(a.Then, a.ToThen, every)
	a.fromSurvey = a.ToThen
	a.lists = estate.ListsOf(defined, surveyed, l.Knows)
	wanted, err := l.wanted(defined, surveyed)
	if err != nil {
		return nil, err
	}
	gone := make(map[[3]string]bool) // by account, group and rule
	for _, g := range surveyed.Groups {
		for i := range g.Rules {
			if r := &g.Rules[i]; l.Gone[r] {
				gone[[3]string{g.Account.Name, g.ID, r.ID}] = true
			}
		}
	}
	then := make(map[[2]string]*estate.Group)
	for _, g := range a.Then.Groups {
		then[placeOf(g)] = g
		kept := slices.DeleteFunc(slices.Clone(g.Rules), func(r estate.Rule) bool {
			return gone[[3]string{g.Account.Name, g.ID, r.ID}]
		})
		if len(kept) < len(g.Rules) {
			g.Rules, a.own[g] = kept, true
		}
	}
	a.dropPasses(l.Drop)
	for _, w := range wanted {
		g := then[placeOf(w.group)]
		if g == nil || g.ID == "" { // the group of a pass for one instance, or one that the cloud does not have
			id, isOwn := pass.ParseGroup(w.group.Name)
			if !isOwn {
				return nil, fmt.Errorf("the group %s is not in the cloud yet: carry its definition out first",
					w.group.Path())
			}
			if g != nil || !l.Adds(id) {
				continue
			}
			if g, err = a.attachOwn(w.group, l.Name); err != nil {
				return nil, err
			}
			then[placeOf(g)] = g
		}
		if err := a.addMissing(g, w, l.Adds); err != nil {
			return nil, err
		}
	}
	a.keepLists(a.Now, func(*estate.List) bool { return false })
	a.keepLists(a.Then, func(*estate.List) bool { return false })
	return a, nil
}

// placeOf identifies a group in all estates of the same definitions, whether it is defined there or surveyed.
func placeOf(g *estate.Group) [2]string {
	if g.Network == nil || !decide.Dialect(g.Account).GroupsInNetworks {
		return [2]string{g.Account.Name + "/" + g.InCloud(), string(g.For)}
	}
	return [2]string{g.Network.Path() + "/" + g.InCloud(), string(g.For)}
}

// A wantedGroup is what passes take in a group.
type wantedGroup struct {
	group    *estate.Group // of the definitions with the passes
	compiled []estate.Rule // all of its rules, as its cloud would have them
	passes   []estate.Rule // those of passes among them
}

// wanted finds what passes take in the groups that they open, and in those that follow these.
func (l Lending) wanted(defined, surveyed *estate.Estate) ([]wantedGroup, error) {
	touched := make(map[string]bool) // full names
	networks := make(map[string]bool)
	for _, p := range l.Open {
		network := path.Dir(p.Group)
		networks[network] = true
		if p.On == "" {
			touched[p.Group] = true
		} else {
			touched[network+"/"+pass.GroupName(p.ID)] = true
		}
	}
	had := make(map[[2]string]map[string]bool) // by group: the keys of its rules without the passes that follow
	open := slices.Clone(l.Open)
	slices.SortStableFunc(open, func(x, y *pass.Found) int { return y.Until.Compare(x.Until) })
	owner := make(map[[2]string]map[string]string) // by group and key: the text of the pass that brings a rule
	var all []wantedGroup
	for n := 0; n <= len(open); n++ {
		e, _, _ := estate.Overlay(defined, surveyed, l.Knows)
		for _, p := range open[:n] {
			if err := pass.Insert(e, &p.Pass, lendIn(e, p)); err != nil {
				return nil, err
			}
		}
		d := decide.New(e)
		all = nil
		for _, g := range e.Groups {
			around := g.Follows && g.Network != nil && networks[g.Network.Path()]
			if !g.Defined || g.Existing || !touched[g.Path()] && !around {
				continue
			}
			made, err := compile.Group(d, g)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", g.Path(), err)
			}
			at := placeOf(g)
			if had[at] == nil {
				had[at], owner[at] = make(map[string]bool), make(map[string]string)
			}
			w := wantedGroup{group: g, compiled: made.Group.Rules}
			for i := range w.compiled {
				r := &w.compiled[i]
				if _, _, isPass := pass.Parse(r.Description); isPass {
					r.Description = ""
				}
				k := ruleKey(g, r)
				switch {
				case n > 0 && !had[at][k]:
					owner[at][k] = open[n-1].Text()
				case n == 0:
					owner[at][k] = ""
				}
				had[at][k] = true
				if text := owner[at][k]; text != "" {
					r.Description = text
					w.passes = append(w.passes, *r)
				}
			}
			all = append(all, w)
		}
	}
	return all, nil
}

// lendIn is the lend of a pass, as it stands in another estate of the same definitions.
func lendIn(e *estate.Estate, p *pass.Found) *estate.Lend {
	g := e.FindGroup(p.Group)
	if g == nil || p.Lend == nil {
		return nil
	}
	for i := range g.Lends {
		if l := &g.Lends[i]; l.Origin == p.Lend.Origin && l.Direction == p.Lend.Direction {
			return l
		}
	}
	return nil
}

// dropPasses removes groups of passes and detaches them.
func (a *Aim) dropPasses(drop map[*estate.Group]bool) {
	gone := make(map[key]bool)
	for g := range drop {
		gone[keyOf(g)] = true
	}
	is := func(g *estate.Group) bool { return g.ID != "" && gone[keyOf(g)] }
	a.Then.Groups = slices.DeleteFunc(slices.Clone(a.Then.Groups), is)
	for _, i := range a.Then.Instances {
		for _, f := range i.Interfaces {
			f.Groups = slices.DeleteFunc(slices.Clone(f.Groups), is)
		}
	}
}

// attachOwn adds the group of a pass for one instance to the state to be reached.
func (a *Aim) attachOwn(like *estate.Group, name string) (*estate.Group, error) {
	var account *estate.Account
	for _, x := range a.Then.Accounts {
		if x.Name == like.Account.Name {
			account = x
		}
	}
	g := &estate.Group{Account: account, Network: a.Then.FindNetwork(like.Network.Path()), Name: like.Name,
		For: estate.ForInstances, Description: like.Description, Labels: estate.Labels{estate.OwnLabel: name}}
	a.Then.Groups = append(a.Then.Groups, g)
	a.own[g] = true
	on := like.Covers[0].Instances[0]
	for _, i := range a.Then.Instances {
		if i.ID != on || i.Account != account {
			continue
		}
		for _, f := range i.Interfaces {
			if f.Subnet.Network != g.Network {
				continue
			}
			if most := compile.GroupsOnInterface(account); most > 0 && len(f.Groups) >= most {
				return nil, &NoRoomError{i.Path(), count.Of(most, "group", "groups")}
			}
			f.Groups = append(slices.Clone(f.Groups), g)
		}
	}
	return g, nil
}

// A NoRoomError says that an interface has as many groups as its cloud allows.
type NoRoomError struct{ Instance, Most string }

func (e *NoRoomError) Error() string {
	return fmt.Sprintf("%s has %s already, and its cloud allows no more", e.Instance, e.Most)
}

// A FullError says that a group has no room for the rules of a pass.
type FullError struct{ Text string }

func (e *FullError) Error() string { return e.Text }

// listsAsDefined is the error of rules that name a list which holds something else in the cloud: more might be
// opened than is lent.
func (a *Aim) listsAsDefined(g *estate.Group, peers []estate.Peer) error {
	for _, p := range peers {
		if p.Kind != estate.PeerList || p.List.Owner == "published" {
			continue
		}
		entries, _ := p.List.At(g)
		for _, l := range a.Surveyed.Lists {
			if l.Account != nil && l.Account.Name == g.Account.Name && l.Owner == "own" && l.Name == p.List.Name &&
				!setOf(l.Entries).Equal(setOf(entries)) {
				return fmt.Errorf("the list %s/%s does not hold in the cloud what is defined: carry the definitions "+
					"out first", g.Account.Name, l.Name)
			}
		}
	}
	return nil
}

// addMissing adds the rules of passes that a group lacks, in front of what stands behind them in the definitions.
func (a *Aim) addMissing(g *estate.Group, w wantedGroup, adds func(id string) bool) error {
	have := make(map[string]*estate.Rule)
	for i := range g.Rules {
		have[ruleKey(g, &g.Rules[i])] = &g.Rules[i]
	}
	dl, quota := decide.Dialect(g.Account), compile.QuotaOf(decide.Dialect(g.Account), g)
	was := [2]int{compile.GroupCost(dl, g, estate.In), compile.GroupCost(dl, g, estate.Out)}
	g.Rules = slices.Clone(g.Rules)
	for _, r := range w.passes {
		id, _, _ := pass.Parse(r.Description)
		own := r
		own.ID, own.Origin = "", estate.Origin{}
		var err error
		if own.Peers, err = a.peersThen(r.Peers); err != nil {
			return err
		}
		if own.Except, err = a.peersThen(r.Except); err != nil {
			return err
		}
		if err := a.listsAsDefined(w.group, r.Peers); err != nil {
			return err
		}
		if have[ruleKey(g, &own)] != nil || !adds(id) {
			continue
		}
		if decide.Filter(g).FirstMatch {
			ranked(g, w.compiled, &r, &own)
		}
		g.Rules = append(g.Rules, own)
		a.own[g] = true
	}
	is := [2]int{compile.GroupCost(dl, g, estate.In), compile.GroupCost(dl, g, estate.Out)}
	if is != was && quota.Over(is[0], is[1]) {
		most, per := quota.Together, ""
		if quota.Direction > 0 {
			most, per = quota.Direction, " in each direction"
		}
		return &FullError{fmt.Sprintf("%s has %s inward and %s outward of %d%s, and the pass takes %s more", g.Path(),
			count.Of(was[0], "rule", "rules"), count.Number(was[1]), most, per,
			count.Number(is[0]+is[1]-was[0]-was[1]))}
	}
	return nil
}

// withPasses are the compiled rules of a group with those of passes that its cloud has in it, which are left alone.
func (a *Aim) withPasses(g *estate.Group, compiled []estate.Rule) []estate.Rule {
	there := a.surveyedOf[keyOf(g)]
	if there == nil || g.ID == "" {
		return compiled
	}
	is := *g
	is.Rules = slices.Clone(compiled)
	have := carried(there.Rules, a.fromSurvey)
	for _, r := range have {
		if r.Pass == "" {
			continue
		}
		if decide.Filter(g).FirstMatch {
			ranked(&is, have, &r, &r)
		}
		is.Rules = append(is.Rules, r)
	}
	return is.Rules
}

// ranked gives a rule of a pass a rank in a group in which the first rule that matches decides: in front of the next
// rule behind it, in the given order, that the group has. Where there is no free rank, all rules get others: what
// counts is their order, in which the planner finds ranks.
func ranked(g *estate.Group, order []estate.Rule, r, own *estate.Rule) {
	rules := of(g.Rules, r.Direction)
	rules = slices.DeleteFunc(rules, func(x estate.Rule) bool { return x.BuiltIn })
	slices.SortStableFunc(rules, byRank)
	at := len(rules)
	order = of(order, r.Direction)
	slices.SortStableFunc(order, byRank)
	behind := false
	rank := r.Rank
	for i := range order {
		if behind {
			k := ruleKey(g, &order[i])
			if n := slices.IndexFunc(rules, func(x estate.Rule) bool { return ruleKey(g, &x) == k }); n >= 0 {
				at = n
				break
			}
		}
		behind = behind || order[i].Rank == rank
	}
	bounds := decide.Filter(g).Ranks
	low, high := bounds[0]-1, bounds[1]+1
	if at > 0 {
		low = rules[at-1].Rank
	}
	if at < len(rules) {
		high = rules[at].Rank
	}
	if rank > low && rank < high {
		own.Rank = rank
		return
	}
	if own.Rank = low + (high-low)/2; at == len(rules) {
		own.Rank = min(low+20, low+(high-low)/2)
	}
	if own.Rank > low {
		return
	}
	step := min(20, (bounds[1]-bounds[0])/(len(rules)+2))
	own.Rank = bounds[0] + step*(at+1)
	ranks := make(map[string]int)
	for n := range rules {
		place := n
		if n >= at {
			place++
		}
		ranks[ruleKey(g, &rules[n])] = bounds[0] + step*(place+1)
	}
	for i := range g.Rules {
		x := &g.Rules[i]
		if place, there := ranks[ruleKey(g, x)]; there && x.Direction == r.Direction {
			x.Rank = place
		}
	}
}

// peersThen are peers of another estate of the same definitions, in the state to be reached: a list is the cloud's
// own, if it is there and holds what it should.
func (a *Aim) peersThen(peers []estate.Peer) ([]estate.Peer, error) {
	mapped := slices.Clone(peers)
	for i := range mapped {
		p := &mapped[i]
		switch p.Kind {
		case estate.PeerGroup:
			k := slices.IndexFunc(a.Then.Groups, func(g *estate.Group) bool { return placeOf(g) == placeOf(p.Group) })
			if k < 0 {
				return nil, fmt.Errorf("the group %s is not in the cloud", p.Group.Path())
			}
			p.Group = a.Then.Groups[k]
		case estate.PeerList:
			k := slices.IndexFunc(a.Then.Lists, func(l *estate.List) bool {
				return l.Name == p.List.Name && l.Defined == p.List.Defined &&
					(l.Account == nil) == (p.List.Account == nil)
			})
			if k < 0 {
				return nil, fmt.Errorf("the list %s is not in the cloud", p.List.Name)
			}
			p.List = a.Then.Lists[k]
		case estate.PeerNetwork:
			if p.Network != nil {
				p.Network = a.Then.FindNetwork(p.Network.Path())
			}
		}
		if p.Without != nil {
			without, err := a.peersThen(*p.Without)
			if err != nil {
				return nil, err
			}
			p.Without = &without
		}
	}
	return mapped, nil
}
