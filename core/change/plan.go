package change

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"isonomos/core/addr"
	"isonomos/core/compile"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
)

// A Plan is how clouds get from one state to another.
type Plan struct {
	Lanes []Lane
	Left  []string // what is left alone, and why
}

// Steps is how many steps there are in all.
func (p Plan) Steps() int {
	n := 0
	for _, l := range p.Lanes {
		n += len(l.Steps)
	}
	return n
}

func (p Plan) gaps() int {
	n := 0
	for _, l := range p.Lanes {
		n += len(l.Gaps)
	}
	return n
}

// A Lane is accounts whose steps are carried out in one order: usually one account,
// or several whose groups name each other. Lanes can be carried out side by side.
type Lane struct {
	Accounts []*estate.Account
	Steps    []Step
	Gaps     []Gap
}

// A Gap is traffic that both states let through, and that is stopped for some steps,
// because a quota or the order of rules leaves no other way.
type Gap struct {
	From, To   int // steps of the lane, from 1: stopped after From, let through again after To
	Interfaces []*estate.Interface
	Traffic    Through // of the first interface
}

// A StuckError says that no order of steps is safe.
type StuckError struct {
	Accounts []*estate.Account
	Steps    []Step // that are left
	Why      string
}

func (e *StuckError) Error() string {
	return fmt.Sprintf("no safe order was found for %s in %s: %s", count.Of(len(e.Steps), "step", "steps"),
		e.Accounts[0].Name, e.Why)
}

// step kinds in the order in which they are best carried out: make before refer,
// let in before shut, detach before delete.
const (
	phaseMakeList = iota
	phaseMakeGroup
	phaseLabel
	phaseBare  // take from new groups what they let out by themselves
	phaseFill  // add rules to new groups
	phaseLetIn // add rules to groups that are there
	phaseEntries
	phasePutOn
	phaseTakeOff
	phaseShut
	phaseDrop
	phaseDropList
)

// A pending step waits for its turn.
type pending struct {
	Step
	phase int
	ahead *pending // it does the first half of this one: once this is done it has no use
	after *pending // it must be done before
	done  bool
}

// A planner finds steps.
type planner struct {
	aim     *Aim
	s       *state
	groups  map[key]*estate.Group
	made    map[*estate.Group]*estate.Group // of Then: what it is in the plan's own state
	lists   map[[2]string]*estate.List      // own ones, by account and name
	given   map[key]*estate.List            // all that are there, by id
	fellows map[*estate.Group][]estate.Peer // who is meant on the way by what names a group
	bridges bool                            // they are named, for that time
	news    int
	pending []*pending
	plan    Plan
}

// NewPlan finds steps from the state that an aim begins with to the one that it asks
// for, and an order in which nothing is ever let through that neither of both lets
// through, and nothing is stopped that both let through: where that can't be, what is
// stopped is told as a Gap. Cost: each step is decided once, at each kind of interface
// that it touches; more often where it must wait for others; twice as much where there
// are gaps that rules for the time of the change may bridge.
func NewPlan(a *Aim) (Plan, error) {
	p := newPlanner(a)
	err := p.find()
	var stuck *StuckError
	if err == nil && p.plan.gaps() == 0 || err != nil && !errors.As(err, &stuck) || len(p.fellows) == 0 {
		return p.plan, err
	}
	bridging := newPlanner(a)
	bridging.bridges = true
	if bridging.find() == nil && (err != nil || bridging.plan.gaps() < p.plan.gaps()) {
		return bridging.plan, nil
	}
	return p.plan, err
}

func newPlanner(a *Aim) *planner {
	e, _, _ := estate.Overlay(&estate.Estate{Name: a.Name}, a.Surveyed)
	p := &planner{aim: a, s: newState(e), groups: make(map[key]*estate.Group),
		made: make(map[*estate.Group]*estate.Group), lists: make(map[[2]string]*estate.List),
		given: make(map[key]*estate.List), fellows: make(map[*estate.Group][]estate.Peer)}
	p.plan.Left = a.Left
	for _, g := range e.Groups {
		p.groups[keyOf(g)] = g
	}
	for _, l := range e.Lists {
		p.given[key{l.Account.Name, l.ID}] = l
		if l.Owner == "own" {
			p.lists[[2]string{l.Account.Name, l.Name}] = l
		}
	}
	return p
}

func (p *planner) find() error {
	if err := p.aim.withinAccounts(); err != nil {
		return err
	}
	p.makeGroups()
	if p.aim.back {
		p.listsBack()
	} else if err := p.ownLists(); err != nil {
		return err
	}
	p.attached()
	if err := p.rules(); err != nil {
		return err
	}
	if err := p.drop(); err != nil {
		return err
	}
	return p.order()
}

func (p *planner) push(phase int, s Step) *pending {
	x := &pending{Step: s, phase: phase}
	p.pending = append(p.pending, x)
	return x
}

func (p *planner) newID() string {
	p.news++
	return fmt.Sprint(newPrefix, p.news)
}

// here is a group of Then as the plan's own state has it.
func (p *planner) here(g *estate.Group) *estate.Group {
	if x := p.made[g]; x != nil {
		return x
	}
	return p.groups[keyOf(g)]
}

// makeGroups makes the own groups that are not there, and marks those that are adopted.
func (p *planner) makeGroups() {
	for _, g := range p.aim.Then.Groups {
		if !p.aim.own[g] {
			continue
		}
		if x := p.groups[keyOf(g)]; g.ID != "" && x != nil {
			if !maps.Equal(x.Labels, g.Labels) {
				p.push(phaseLabel, Step{Do: LabelGroup, Account: x.Account, Group: x, Labels: g.Labels})
			}
			continue
		}
		x := &estate.Group{Account: p.account(g.Account), ID: p.newID(), Name: g.InCloud(), For: g.For,
			Description: shortened(g.Description), Labels: g.Labels}
		if decide.Dialect(g.Account).GroupsInNetworks {
			x.Network = p.network(g.Network)
		}
		x.Rules = letOut(x)
		p.made[g] = x
		made := Step{Do: CreateGroup, Account: x.Account, Group: x, Labels: x.Labels, Replaces: g.ID}
		if decide.Dialect(x.Account).LabelsApart {
			made.Labels = nil
			p.push(phaseLabel, Step{Do: LabelGroup, Account: x.Account, Group: x, Labels: x.Labels})
		}
		p.push(phaseMakeGroup, made)
	}
}

func (p *planner) account(a *estate.Account) *estate.Account {
	i := slices.IndexFunc(p.s.e.Accounts, func(x *estate.Account) bool { return x.Name == a.Name })
	return p.s.e.Accounts[i] // groups of other accounts are left alone
}

func (p *planner) network(n *estate.Network) *estate.Network { return p.s.e.FindNetwork(n.Path()) }

// longestText bounds descriptions: what all clouds take.
const longestText = 255

// shortened is a text that every cloud takes as a description.
func shortened(text string) string {
	if len(text) <= longestText {
		return text
	}
	cut := longestText - len("…")
	for cut > 0 && text[cut]&0xc0 == 0x80 { // not in the middle of a character
		cut--
	}
	return text[:cut] + "…"
}

// ownLists makes the lists that own groups name and that their accounts don't have,
// gives others their entries, and drops own ones that are not defined any more.
func (p *planner) ownLists() error {
	named := make(map[[2]string]bool)
	for _, g := range p.aim.Then.Groups {
		if !p.aim.own[g] {
			continue
		}
		for i := range g.Rules {
			for _, peer := range g.Rules[i].Peers {
				if peer.Kind != estate.PeerList || peer.List.Owner == "published" {
					continue
				}
				at := [2]string{g.Account.Name, peer.List.Name}
				if named[at] {
					continue
				}
				named[at] = true
				if err := p.ownList(at, p.account(g.Account), peer.List); err != nil {
					return err
				}
			}
		}
	}
	defined := make(map[string]bool)
	for _, l := range p.aim.Then.Lists {
		defined[l.Name] = defined[l.Name] || l.Defined
	}
	for _, l := range p.s.e.Lists {
		if l.Owner == "own" && l.Labels[estate.OwnLabel] == p.aim.Name && !defined[l.Name] && p.aim.inScope(l.Account) {
			p.push(phaseDropList, Step{Do: DeleteList, Account: l.Account, List: l})
		}
	}
	return nil
}

func (p *planner) ownList(at [2]string, account *estate.Account, l *estate.List) error {
	there := p.lists[at]
	if there == nil {
		there = &estate.List{Account: account, ID: p.newID(), Name: l.Name, Owner: "own", Region: account.Region,
			Description: shortened(l.Description), Entries: l.Entries, Capacity: l.Capacity,
			Labels: estate.Labels{estate.OwnLabel: p.aim.Name}}
		p.lists[at] = there
		p.push(phaseMakeList, Step{Do: CreateList, Account: account, List: there})
		return nil
	}
	same := setOf(there.Entries).Equal(setOf(l.Entries))
	path := account.Name + "/" + l.Name
	switch owner := there.Labels[estate.OwnLabel]; {
	case owner == p.aim.Name:
	case p.aim.listAdopted(path):
		labels := maps.Clone(there.Labels)
		if labels == nil {
			labels = make(estate.Labels)
		}
		labels[estate.OwnLabel] = p.aim.Name
		p.push(phaseLabel, Step{Do: LabelList, Account: account, List: there, Labels: labels})
	case !same:
		return NotOursError{path}
	}
	if same {
		return nil
	}
	if there.Capacity > 0 && len(l.Entries) > there.Capacity {
		return fmt.Errorf("the list %s has room for %s, and the definitions have %s", path,
			count.Of(there.Capacity, "entry", "entries"), count.Number(len(l.Entries)))
	}
	p.setEntries(there, l.Entries)
	return nil
}

// setEntries gives a list other entries: where the cloud can't add some and take
// others away at once, first those that it has and the new ones together.
func (p *planner) setEntries(l *estate.List, entries []estate.Entry) {
	var gone, both []estate.Entry
	for _, e := range l.Entries {
		if !slices.ContainsFunc(entries, func(x estate.Entry) bool { return x.Range == e.Range }) {
			gone = append(gone, e)
		}
	}
	both = append(slices.Clone(entries), gone...)
	if more := len(both) > len(l.Entries); decide.Dialect(l.Account).EntriesApart && more && len(gone) > 0 {
		first := p.push(phaseEntries, Step{Do: SetEntries, Account: l.Account, List: l, Entries: both})
		p.push(phaseShut, Step{Do: SetEntries, Account: l.Account, List: l, Entries: entries}).after = first
		return
	}
	p.push(phaseEntries, Step{Do: SetEntries, Account: l.Account, List: l, Entries: entries})
}

func setOf(entries []estate.Entry) addr.Set {
	ranges := make([]netip.Prefix, len(entries))
	for i, e := range entries {
		ranges[i] = e.Range
	}
	return addr.OfPrefixes(ranges...)
}

// rules rewrites the own groups whose rules mean something else.
func (p *planner) rules() error {
	then := decide.New(p.aim.Then)
	for _, g := range p.aim.Then.Groups {
		if !p.aim.own[g] {
			continue
		}
		x, fresh := p.here(g), p.made[g] != nil
		wanted := x.Rules
		if surveyed := p.aim.surveyedOf[keyOf(g)]; fresh ||
			!p.same(then, g, carried(surveyed.Rules, p.aim.fromSurvey)) {
			wanted = p.translated(g, x)
		} else if !p.needsBridges(x) {
			continue
		}
		if err := p.rewriteTo(x, wanted, true); err != nil {
			return err
		}
	}
	return nil
}

// same reports whether a group that is surveyed needs no other rules.
func (p *planner) same(then *decide.Decider, g *estate.Group, surveyed []estate.Rule) bool {
	return slices.Equal(keysOf(g, surveyed), keysOf(g, g.Rules)) ||
		!p.aim.back && sameMeaning(then, g, surveyed, g.Rules)
}

// rewriteTo takes a group to the rules that it is to have, with bridges on the way
// where there are any. Those of a group that does not stay go with it.
func (p *planner) rewriteTo(x *estate.Group, wanted []estate.Rule, stays bool) error {
	let, shut := phaseLetIn, phaseShut
	if IsNew(x.ID) {
		let, shut = phaseFill, phaseBare
	}
	bridged, bridges := p.bridged(x, wanted)
	change, err := rewrite(x, x.Rules, bridged)
	if err != nil {
		return err
	}
	added := make(map[string]*pending)
	for i, r := range change.add {
		added[r.ID] = p.push(let, Step{Do: AddRules, Account: x.Account, Group: x, Rules: change.add[i : i+1 : i+1]})
	}
	for i := range change.remove {
		p.push(shut, Step{Do: RemoveRule, Account: x.Account, Group: x, Rules: change.remove[i : i+1 : i+1]})
	}
	if len(bridges) == 0 || !stays {
		return nil
	}
	have := change.applied(x.Rules)
	if !decide.Filter(x).FirstMatch { // else ranks tell which of two that say the same is meant
		have = slices.DeleteFunc(have, func(r estate.Rule) bool { return added[r.ID] != nil && !bridges[r.ID] })
	}
	last, err := rewrite(x, have, wanted)
	for i, r := range last.remove {
		p.push(phaseShut, Step{Do: RemoveRule, Account: x.Account, Group: x,
			Rules: last.remove[i : i+1 : i+1]}).after = added[r.ID]
	}
	return err
}

// translated are the rules of a group of Then in terms of the plan's own state.
func (p *planner) translated(g, x *estate.Group) []estate.Rule {
	rules := slices.Clone(g.Rules)
	for i := range rules {
		r := &rules[i]
		r.ID = fmt.Sprintf("%s%s-%d", newPrefix, x.ID, i+1)
		r.Description, r.Changed = shortened(r.Description), nil
		r.Peers = slices.Clone(r.Peers)
		for k, peer := range r.Peers {
			switch {
			case peer.Kind == estate.PeerGroup:
				r.Peers[k].Group = p.here(peer.Group)
			case peer.Kind == estate.PeerList && peer.List.Owner == "published":
				r.Peers[k].List = p.given[key{peer.List.Account.Name, peer.List.ID}]
			case peer.Kind == estate.PeerList:
				r.Peers[k].List = p.lists[[2]string{x.Account.Name, peer.List.Name}]
			}
		}
	}
	return rules
}

// attached finds the interfaces and subnets that are to have other groups. Where there is
// room for both the old and the new ones, they are attached first and detached later.
func (p *planner) attached() {
	then := facesOf(p.aim.Then)
	for _, i := range p.s.e.Instances {
		for _, f := range i.Interfaces {
			most := compile.GroupsOnInterface(i.Account)
			wanted := p.hereAll(then[faceKey(f)].Groups)
			apart := p.exchange(f.Groups, wanted, most, func(groups []*estate.Group) Step {
				return Step{Do: Attach, Account: i.Account, Interface: f, Groups: groups}
			})
			if apart {
				p.noteChange(f, wanted)
			}
		}
	}
	around := subnetsOf(p.aim.Then)
	for _, n := range p.s.e.Networks {
		for _, s := range n.Subnets {
			p.exchange(s.Groups, p.hereAll(around[subnetKey(s)].Groups), decide.Dialect(n.Account).GroupsPerSubnet,
				func(groups []*estate.Group) Step {
					return Step{Do: AttachToSubnet, Account: n.Account, Subnet: s, Groups: groups}
				})
		}
	}
}

func (p *planner) hereAll(groups []*estate.Group) []*estate.Group {
	all := make([]*estate.Group, len(groups))
	for i, g := range groups {
		all[i] = p.here(g)
	}
	return all
}

// exchange pushes the steps by which wanted groups take the place of those that stand
// somewhere. It reports whether some come that never stand beside any of the old ones.
func (p *planner) exchange(have, wanted []*estate.Group, most int, step func([]*estate.Group) Step) (apart bool) {
	both := slices.Clone(have)
	for _, g := range wanted {
		if !slices.Contains(both, g) {
			both = append(both, g)
		}
	}
	kept := slices.DeleteFunc(slices.Clone(have), func(g *estate.Group) bool { return !slices.Contains(wanted, g) })
	for _, g := range wanted {
		if !slices.Contains(kept, g) {
			kept = append(kept, g)
		}
	}
	switch {
	case len(both) == len(have) && len(kept) == len(have):
	case len(kept) == len(both): // some more
		p.push(phasePutOn, step(kept))
	default:
		last := p.push(phaseTakeOff, step(kept))
		switch {
		case len(both) == len(have):
		case most == 0 || len(both) <= most:
			last.ahead = p.push(phasePutOn, step(both))
		default:
			return true
		}
	}
	return len(have) == 0
}

// drop deletes own groups that are not defined any more. Those that name each other
// lose the rules by which they do.
func (p *planner) drop() error {
	stays := make(map[key]bool)
	for _, g := range p.aim.Then.Groups {
		stays[keyOf(g)] = true
	}
	gone := make(map[*estate.Group]bool)
	for _, g := range p.s.e.Groups {
		if !stays[keyOf(g)] {
			gone[g] = true
		}
	}
	for _, g := range p.s.e.Groups {
		if !gone[g] {
			continue
		}
		if p.needsBridges(g) {
			if err := p.rewriteTo(g, g.Rules, false); err != nil {
				return err
			}
		}
		for i, r := range g.Rules {
			if slices.ContainsFunc(r.Peers,
				func(x estate.Peer) bool { return x.Kind == estate.PeerGroup && x.Group != g && gone[x.Group] }) {
				p.push(phaseShut, Step{Do: RemoveRule, Account: g.Account, Group: g, Rules: g.Rules[i : i+1 : i+1]})
			}
		}
		p.push(phaseDrop, Step{Do: DeleteGroup, Account: g.Account, Group: g})
	}
	return nil
}

// withinAccounts says which account would have more groups or rules than it may, and
// more than it has.
func (a *Aim) withinAccounts() error {
	usage := func(e *estate.Estate) map[string][2]int {
		n := make(map[string][2]int)
		for _, g := range e.Groups {
			if g.ID == "" && e == a.Now {
				continue // it is not there
			}
			x := n[g.Account.Name]
			n[g.Account.Name] = [2]int{x[0] + 1, x[1] + len(g.Rules)}
		}
		return n
	}
	before, after := usage(a.Now), usage(a.Then)
	for _, x := range a.Surveyed.Accounts {
		for i, limit := range [2]string{dialect.LimitGroups, dialect.LimitRules} {
			if n := after[x.Name][i]; n > before[x.Name][i] && !within(x, limit, n) {
				return fmt.Errorf("the account %s would have %s, and may have %s", x.Name,
					count.Of(n, [2]string{"group", "rule"}[i], [2]string{"groups", "rules"}[i]),
					count.Number(x.Limits[limit]))
			}
		}
	}
	return nil
}

// A NotOursError says that a list of the cloud would have to be changed that is not marked as
// ours: it has to be taken over first.
type NotOursError struct{ List string } // its full name

func (e NotOursError) Error() string {
	return fmt.Sprintf("the list %s holds other ranges than the definitions say, and is not marked as ours", e.List)
}
