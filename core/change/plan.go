package change

import (
	"cmp"
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

// A Plan is a sequence of steps from one state of the clouds to another.
type Plan struct {
	Lanes []Lane
	Left  []string // what is not changed, and why
}

// Steps is the number of steps in all lanes.
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

// A Lane holds the steps of one account, or of several whose groups refer to each other, in their
// order. Lanes are independent of each other and can be carried out side by side.
type Lane struct {
	Accounts []*estate.Account
	Steps    []Step
	Gaps     []Gap
}

// A Gap is traffic that both states let through and that is stopped between two steps, because a
// quota or the order of rules leaves no other way.
type Gap struct {
	From, To   int // numbers of steps in the lane, from 1: stopped after step From, let through again after step To
	Interfaces []*estate.Interface
	Traffic    Through // at the first interface
}

// A StuckError says that no order of the remaining steps is safe.
type StuckError struct {
	Accounts []*estate.Account
	Steps    []Step // the remaining steps
	Why      string
	objects  []string
}

// Objects are the ids of the groups, lists, interfaces and subnets that the remaining steps are about; of what is made
// again, those that it had.
func (e *StuckError) Objects() []string { return e.objects }

func (e *StuckError) Error() string {
	return fmt.Sprintf("no safe order was found for %s in %s: %s", count.Of(len(e.Steps), "step", "steps"),
		e.Accounts[0].Name, e.Why)
}

// Steps are tried in the order of their phases: create before referring to it, let in before
// shutting, detach before deleting.
const (
	phaseMakeList = iota
	phaseMakeGroup
	phaseLabel
	phaseBare  // remove the rules that the cloud adds to new groups
	phaseFill  // add rules to new groups
	phaseLetIn // add rules to existing groups
	phaseEntries
	phasePutOn
	phaseTakeOff
	phaseLetInLate // add rules only now, where it would open something while others are attached; see planner.late
	phaseShut
	phaseDrop
	phaseDropList
)

// A pending step has not been placed in its lane yet.
type pending struct {
	Step
	phase int
	// a step that does half of this one's work, as far as it is possible earlier; this one alone
	// would do as well
	ahead *pending
	after *pending // must be done before this one
	done  bool
}

// A planner finds the steps.
type planner struct {
	aim     *Aim
	s       *state
	groups  map[key]*estate.Group
	made    map[*estate.Group]*estate.Group // groups of Then, as they are in the plan's own state
	lists   map[[2]string]*estate.List      // the estate's own lists, by account and name
	again   map[key]*estate.List            // lists that are made again, by the ids that they had
	given   map[key]*estate.List            // all existing lists, by id
	fellows map[*estate.Group][]estate.Peer // for a group that rules refer to: who else is meant during the change
	bridges bool                            // whether rules for that time are added
	late    bool                            // rules are added once groups are attached, and others detached
	news    int
	pending []*pending
	plan    Plan
}

// NewPlan finds steps from the state in which an aim begins to the one that it asks for, and their
// order. In between nothing is let through that neither state lets through, and nothing is stopped
// that both let through; where the latter can't be avoided, there is a Gap. Cost: each step is
// decided at each kind of interface that it affects, more than once if it must wait for others, and
// all is done twice if there are gaps that bridges might close.
func NewPlan(a *Aim) (Plan, error) {
	p := newPlanner(a)
	err := p.find()
	var stuck *StuckError
	if errors.As(err, &stuck) {
		if late, no := planLate(a); no == nil {
			return late, nil
		}
	}
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

// planLate finds steps that attach groups before they have their rules. Rules that are added early can open, together
// with a group that is still attached at the other end, what neither state lets through.
func planLate(a *Aim) (Plan, error) {
	p := newPlanner(a)
	p.late = true
	err := p.find()
	return p.plan, err
}

func newPlanner(a *Aim) *planner {
	e, _, _ := estate.Overlay(&estate.Estate{Name: a.Name}, a.Surveyed, nil)
	p := &planner{aim: a, s: newState(e), groups: make(map[key]*estate.Group),
		made: make(map[*estate.Group]*estate.Group), lists: make(map[[2]string]*estate.List),
		given: make(map[key]*estate.List), again: make(map[key]*estate.List),
		fellows: make(map[*estate.Group][]estate.Peer)}
	p.plan.Left = a.Left
	for _, g := range e.Groups {
		p.groups[keyOf(g)] = g
	}
	for _, l := range e.Lists {
		p.given[key{l.Account.Name, l.ID}] = l
	}
	for at, l := range a.lists {
		p.lists[[2]string{at.Account, at.Name}] = p.given[key{l.Account.Name, l.ID}]
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

// here is a group of Then, as it is in the plan's own state.
func (p *planner) here(g *estate.Group) *estate.Group {
	if x := p.made[g]; x != nil {
		return x
	}
	return p.groups[keyOf(g)]
}

// makeGroups creates the estate's own groups that don't exist, and marks those that are adopted.
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
	return p.s.e.Accounts[i] // groups of other accounts are not changed
}

func (p *planner) network(n *estate.Network) *estate.Network {
	i := slices.IndexFunc(p.s.e.Networks,
		func(x *estate.Network) bool { return x.ID == n.ID && x.Account.Name == n.Account.Name })
	return p.s.e.Networks[i] // groups in networks that are not there are not changed
}

// longestText bounds descriptions, in bytes, to what all clouds accept.
const longestText = 255

// shortened cuts a text to a description that every cloud accepts.
func shortened(text string) string {
	if len(text) <= longestText {
		return text
	}
	cut := longestText - len("…")
	for cut > 0 && text[cut]&0xc0 == 0x80 { // don't cut within a character
		cut--
	}
	return text[:cut] + "…"
}

// ownLists creates lists that the estate's own groups refer to and their accounts lack, changes the
// entries of others, and deletes own ones that are no longer defined.
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
	for _, l := range p.aim.orphanLists(p.s.e.Lists) {
		if !p.aim.strayLists[key{l.Account.Name, l.ID}] {
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
	case p.aim.adopted(path, account.Name, there.ID):
		labels := maps.Clone(there.Labels)
		if labels == nil {
			labels = make(estate.Labels)
		}
		labels[estate.OwnLabel] = p.aim.Name
		p.push(phaseLabel, Step{Do: LabelList, Account: account, List: there, Labels: labels})
	case !same:
		return fmt.Errorf("the list %s holds other ranges than the definitions say, and is not marked as ours", path)
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

// setEntries changes a list's entries. Where the cloud can't add some and remove others at once,
// the new ones are added first.
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

// SameEntries reports whether two lists hold the same addresses.
func SameEntries(a, b []estate.Entry) bool { return setOf(a).Equal(setOf(b)) }

func setOf(entries []estate.Entry) addr.Set {
	ranges := make([]netip.Prefix, len(entries))
	for i, e := range entries {
		ranges[i] = e.Range
	}
	return addr.OfPrefixes(ranges...)
}

// rules rewrites the estate's own groups whose rules don't mean what they should.
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

// same reports whether a surveyed group can keep its rules.
func (p *planner) same(then *decide.Decider, g *estate.Group, surveyed []estate.Rule) bool {
	return slices.Equal(keysOf(g, surveyed), keysOf(g, g.Rules)) ||
		!p.aim.back && !p.aim.exact && sameMeaning(then, g, surveyed, g.Rules)
}

// rewriteTo replaces the rules of a group, with bridges during the change where there are any. For
// a group that will be deleted, its rules go with it.
func (p *planner) rewriteTo(x *estate.Group, wanted []estate.Rule, stays bool) error {
	let, shut := phaseLetIn, phaseShut
	if IsNew(x.ID) {
		let, shut = phaseFill, phaseBare
	}
	if p.late {
		let = phaseLetInLate
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
		gone := p.push(shut, Step{Do: RemoveRule, Account: x.Account, Group: x, Rules: change.remove[i : i+1 : i+1]})
		if !decide.Dialect(x.Account).EqualRefused {
			continue
		}
		for k := range change.add { // of a pass that is extended, the old rule goes first
			if trafficKey(x, &change.add[k]) == trafficKey(x, &change.remove[i]) {
				added[change.add[k].ID].after = gone
			}
		}
	}
	if len(bridges) == 0 || !stays {
		return nil
	}
	have := change.applied(x.Rules)
	if !decide.Filter(x).FirstMatch { // otherwise ranks tell two equal rules apart
		have = slices.DeleteFunc(have, func(r estate.Rule) bool { return added[r.ID] != nil && !bridges[r.ID] })
	}
	last, err := rewrite(x, have, wanted)
	for i, r := range last.remove {
		p.push(phaseShut, Step{Do: RemoveRule, Account: x.Account, Group: x,
			Rules: last.remove[i : i+1 : i+1]}).after = added[r.ID]
	}
	return err
}

// translated are the rules of a group of Then, with peers of the plan's own state.
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
			case peer.Kind == estate.PeerList:
				r.Peers[k].List = p.hereList(x.Account, peer.List)
			}
		}
	}
	return rules
}

// hereList is a list of Then to which a rule of an account refers, as it is in the plan's own state.
func (p *planner) hereList(account *estate.Account, l *estate.List) *estate.List {
	if l.Account == nil {
		return p.lists[[2]string{account.Name, l.Name}]
	}
	at := key{l.Account.Name, l.ID}
	return cmp.Or(p.given[at], p.again[at])
}

// attached changes the groups of interfaces and subnets. Where there is room for the old and the
// new ones, the new are attached first and the old detached later.
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

// exchange adds the steps by which the wanted groups of an interface or subnet replace those that
// are attached. It reports whether some new group is never attached together with any of the old
// ones.
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
	case len(kept) == len(both): // only new ones are added
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

// drop deletes the estate's own groups that are no longer defined. If they refer to each other,
// they lose those rules first.
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

// withinAccounts says which accounts would have more groups or rules than their quota, and more
// than now.
func (a *Aim) withinAccounts() error {
	usage := func(e *estate.Estate) map[string][2]int {
		n := make(map[string][2]int)
		for _, g := range e.Groups {
			if g.ID == "" && e == a.Now {
				continue // the group does not exist
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
				return &RoomError{fmt.Sprintf("the account %s would have %s, and may have %s", x.Name,
					count.Of(n, [2]string{"group", "rule"}[i], [2]string{"groups", "rules"}[i]),
					count.Number(x.Limits[limit])), a.growing(x.Name)}
			}
		}
	}
	return nil
}

// growing are the ids of the groups of an account that are to have more rules than now; of those that are made again,
// the ones that they had.
func (a *Aim) growing(account string) (ids []string) {
	for _, g := range a.Then.Groups {
		is := a.surveyedOf[keyOf(g)]
		if g.Account.Name == account && g.ID != "" && (is == nil || len(g.Rules) > len(is.Rules)) {
			ids = append(ids, g.ID)
		}
	}
	return ids
}

// A RoomError says that a cloud has no room for what is asked for.
type RoomError struct {
	says    string
	objects []string
}

func (e *RoomError) Error() string { return e.says }

// Objects are the ids of the groups and lists for which there is no room.
func (e *RoomError) Objects() []string { return e.objects }
