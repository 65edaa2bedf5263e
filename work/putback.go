package work

import (
	"encoding/json"
	"fmt"
	"slices"

	"isonomos/core/change"
	"isonomos/core/compile"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/shut"
	"isonomos/enact"
)

var directions = []estate.Direction{estate.In, estate.Out}

// A definedView is how an account is by its definitions, where these differ from what is there: where they agree with
// it, nobody wants anything put back.
type definedView struct {
	differs  map[string]bool    // groups, by id, that let through something else
	named    map[string]bool    // groups that are defined, by their names in the cloud
	attached map[[2]string]bool // interface or subnet, and group, by id
	entries  map[string]bool    // lists, by id, that hold what the definitions say
	lists    map[string]bool    // names of lists that are defined
}

// defined compares an account with its definitions.
func (k Keeper) defined(surveyed *estate.Estate) definedView {
	v := definedView{differs: make(map[string]bool), named: make(map[string]bool),
		attached: make(map[[2]string]bool), entries: make(map[string]bool), lists: make(map[string]bool)}
	part := k.Decided.part(k.Account)
	marked, _, _ := estate.Overlay(&estate.Estate{Name: part.Name}, surveyed, nil) // it is going to be changed
	k.Decided.unmarked(part, marked, k.Account)
	aim := change.NewAim(part, marked, change.Choice{Knows: k.Decided.Knows.Has})
	for _, g := range part.Groups {
		if g.Account.Name == k.Account && !g.Existing {
			v.named[g.InCloud()] = true
		}
	}
	is, then := decide.New(aim.Now), decide.New(aim.Then)
	wanted := groupsOf(aim.Then, k.Account)
	for id, g := range groupsOf(aim.Now, k.Account) {
		w := wanted[id]
		v.differs[id] = w == nil || !sameTraffic(is, g, then, w)
	}
	for _, f := range aim.Failures {
		v.differs[f.Group.ID] = true
	}
	for _, i := range aim.Then.Instances {
		for _, f := range i.Interfaces {
			for _, g := range f.Groups {
				v.attached[[2]string{f.ID, g.ID}] = true
			}
		}
	}
	for _, n := range aim.Then.Networks {
		for _, s := range n.Subnets {
			for _, g := range s.Groups {
				v.attached[[2]string{s.ID, g.ID}] = true
			}
		}
	}
	for _, l := range part.Lists {
		v.lists[l.Name] = true
	}
	for _, l := range surveyed.Lists {
		if l.Account == nil || l.Account.Name != k.Account {
			continue
		}
		for _, d := range part.Lists {
			v.entries[l.ID] = v.entries[l.ID] || d.Name == l.Name && change.SameEntries(d.Entries, l.Entries)
		}
	}
	return v
}

func sameTraffic(a *decide.Decider, g *estate.Group, b *decide.Decider, h *estate.Group) bool {
	return !slices.ContainsFunc(directions, func(direction estate.Direction) bool {
		return !a.GroupTraffic(g, direction).Equal(b.GroupTraffic(h, direction))
	})
}

// A puttingBack finds what is to be put back in an account.
type puttingBack struct {
	Keeper
	may     May
	decided *enact.Decided
	defined definedView
	now     map[string]*estate.Group // as surveyed, by id
	// moved are the groups that are to be attached to interfaces and subnets, or no longer.
	moved   map[string][]string
	shutsAt map[string]bool // interfaces and subnets at which that shuts something
	// stays are those that keep the groups that they have: without what is left alone, the others would let through
	// more than both what is there and what was decided.
	stays map[string]bool
	found *estate.Estate // with the names and labels of the definitions
	*keeping
}

// toPutBack finds what was decided and is no longer so, and may be put back.
func (k Keeper) toPutBack(surveyed *estate.Estate, decided *enact.Decided, may May) (*keeping, error) {
	x := newKeeping()
	if len(decided.Groups(k.Account)) == 0 {
		return x, nil
	}
	p := &puttingBack{Keeper: k, may: may, decided: decided, defined: k.defined(surveyed),
		now: groupsOf(surveyed, k.Account), moved: make(map[string][]string), keeping: x}
	p.found, _ = estate.AsFound(k.Decided.part(k.Account), surveyed, k.Decided.Knows.Has)
	lists, entries := p.lists(surveyed)
	pick := enact.Restore{Account: k.Account, Upholder: may.Upholder, Entries: entries,
		Pick:     func(kind, id string) bool { return kind == "group" || lists[id] },
		Attached: p.attached(func(string) bool { return true })}
	for _, a := range surveyed.Accounts {
		if a.Name == k.Account {
			pick.Room, pick.RoomAround = compile.GroupsOnInterface(a), decide.Dialect(a).GroupsPerSubnet
		}
	}
	then, err := p.on(surveyed, pick) // nothing is left alone so far
	if err != nil {
		return x, err
	}
	whole := then
	p.shutsAt = p.whatMovesShut(surveyed, then)
	if len(p.moved) > 0 {
		if then, err = p.on(surveyed, pick); err != nil {
			return x, err
		}
	}
	pick.Rules = p.withoutEnforced(then)
	if len(pick.Rules) > 0 {
		if then, err = p.on(surveyed, pick); err != nil {
			return x, err
		}
	}
	// the rules of now, among the attachments and lists that were decided: what follows from these is told with them
	asNow := pick
	asNow.Rules, asNow.Attached = nil, p.attached(func(string) bool { return false })
	asNow.Pick = func(kind, id string) bool { return kind == "list" && lists[id] }
	is, err := p.on(surveyed, asNow)
	if err != nil {
		return x, err
	}
	picked, rules, err := p.choose(is, then)
	if err != nil {
		return x, err
	}
	for id, lines := range pick.Rules {
		if picked[id] && rules[id] == nil {
			rules[id] = lines
		}
	}
	pick.Rules, pick.Pick = rules, func(kind, id string) bool {
		return kind == "group" && picked[id] || kind == "list" && lists[id]
	}
	pick.Attached = p.attached(func(id string) bool { return picked[id] })
	if then, err = p.on(surveyed, pick); err != nil {
		return x, err
	}
	if p.withoutMissing(then, rules) {
		if then, err = p.on(surveyed, pick); err != nil {
			return x, err
		}
	}
	if p.stays = p.opensMore(surveyed, then, whole); len(p.stays) > 0 {
		if then, err = p.on(surveyed, pick); err != nil {
			return x, err
		}
	}
	x.aim = change.NewRepeal(decided.Estate(), surveyed, then, func(_, kind, id string) bool {
		return kind == "group" && (picked[id] || rules[id] != nil)
	})
	return x.planned(k)
}

// withoutMissing takes out of the rules that are to be added what refers to a group or list that is not there and is
// not going to be made: no cloud takes that, and it lets nothing through. It reports whether there was any.
func (p *puttingBack) withoutMissing(then *estate.Estate, rules map[string][]json.RawMessage) (any bool) {
	for id, g := range groupsOf(then, p.Account) {
		there := make(map[string]bool)
		if now := p.now[id]; now != nil {
			for i := range now.Rules {
				there[now.Rules[i].ID] = true
			}
		}
		isMissing := func(x estate.Peer) bool { return x.Kind == estate.PeerMissing }
		var less []estate.Rule
		dropped := false
		for _, r := range g.Rules {
			if !there[r.ID] && slices.ContainsFunc(r.Peers, isMissing) {
				dropped = true
				if r.Peers = slices.DeleteFunc(slices.Clone(r.Peers), isMissing); len(r.Peers) == 0 {
					continue
				}
			}
			less = append(less, r)
		}
		if dropped {
			any, rules[id] = true, linesOfRules(g, slices.DeleteFunc(less, isPass))
		}
	}
	return any
}

// on is the survey with what is picked as it was decided. Its passes are marked.
func (p *puttingBack) on(surveyed *estate.Estate, pick enact.Restore) (*estate.Estate, error) {
	e, err := p.decided.On(surveyed, pick)
	if err != nil {
		return nil, refused("what was decided can't be put together: %w", err)
	}
	PassesOf(p.Decided.part(p.Account), e, p.Decided.Knows.Has, p.Decided.Passes, p.Now())
	return e, nil
}

// attached says which groups are to be attached somewhere; made says which of those that were deleted are made again.
func (p *puttingBack) attached(made func(id string) bool) func(id, at string, now, was bool) bool {
	return func(id, at string, now, was bool) bool {
		if p.stays[at] {
			return now
		}
		if why := p.may.Failed(at, true); why != "" {
			if now != was {
				p.left[p.holder(at)] = why
			}
			return now
		}
		if p.now[id] == nil {
			if p.shutsAt == nil && was {
				p.moved[at] = append(p.moved[at], id)
			}
			return was && made(id)
		}
		return p.isAttached(id, at, now, was)
	}
}

// isAttached says whether a group is to be attached somewhere: as it was when that was decided, unless the definitions
// agree with what is there now. Who is a member because of other labels than before is for enact.
func (p *puttingBack) isAttached(id, at string, now, was bool) bool {
	g := p.now[id]
	if now == was || !p.mayPutBack(g) {
		return now
	}
	wanted := p.defined.attached[[2]string{at, id}]
	switch {
	case was && !wanted && p.defined.named[g.Name]:
		return false // by the definitions it no longer belongs there
	case !was && wanted:
		return true
	case !was && (!p.defined.named[g.Name] || p.decided.Definitions[p.Account] != p.Decided.Digest):
		p.left[g.Path()] = "the definitions have changed since they were carried out, so that it is not known " +
			"whether it " +
			"was attached by hand"
		return now
	}
	if p.shutsAt == nil {
		p.moved[at] = append(p.moved[at], id)
		return was
	}
	shuts := p.shutsAt[at]
	if why := p.may.leave(g, !shuts); why != "" {
		p.left[g.Path()] = why
		return now
	}
	p.does(g, !shuts, shuts)
	return was
}

// holder is the full name of the instance of an interface, or of a subnet.
func (p *puttingBack) holder(at string) string {
	for _, i := range p.found.Instances {
		if slices.ContainsFunc(i.Interfaces, func(f *estate.Interface) bool { return f.ID == at }) {
			return i.Path()
		}
	}
	return p.Account + "/" + at
}

// opensMore are the interfaces, and subnets, to which groups are to be attached or no longer and that would let through
// what neither what is there does nor what was decided.
func (p *puttingBack) opensMore(surveyed, then, whole *estate.Estate) map[string]bool {
	more := make(map[string]bool)
	if len(p.moved) == 0 {
		return more
	}
	is, partly, want := decide.New(surveyed), decide.New(then), decide.New(whole)
	after, decided := p.faces(then), p.faces(whole)
	for id, f := range p.faces(surveyed) {
		if p.moved[id] == nil && p.moved[f.Subnet.ID] == nil || after[id] == nil || decided[id] == nil {
			continue
		}
		for _, direction := range directions {
			may := is.FilterTraffic(f, direction).Union(want.FilterTraffic(decided[id], direction))
			if !partly.FilterTraffic(after[id], direction).SubsetOf(may) {
				more[id], more[f.Subnet.ID] = true, true
			}
		}
	}
	return more
}

// faces are the interfaces of the account in an estate, by id.
func (p *puttingBack) faces(e *estate.Estate) map[string]*estate.Interface {
	all := make(map[string]*estate.Interface)
	for _, i := range e.Instances {
		if i.Account.Name == p.Account {
			for _, f := range i.Interfaces {
				all[f.ID] = f
			}
		}
	}
	return all
}

// whatMovesShut are the interfaces and subnets at which something is shut when groups are attached and detached as was
// decided: however often that is needed, it is done. Taking off a group that refuses may open as much as a rule.
func (p *puttingBack) whatMovesShut(surveyed, then *estate.Estate) map[string]bool {
	shuts := make(map[string]bool)
	if len(p.moved) == 0 {
		return shuts
	}
	is, want := decide.New(surveyed), decide.New(then)
	after := p.faces(then)
	for id, f := range p.faces(surveyed) {
		if p.moved[id] == nil && p.moved[f.Subnet.ID] == nil || after[id] == nil {
			continue
		}
		for _, direction := range directions {
			if !is.FilterTraffic(f, direction).SubsetOf(want.FilterTraffic(after[id], direction)) {
				shuts[id], shuts[f.Subnet.ID] = true, true
			}
		}
	}
	return shuts
}

// earlier says that another upholder has put a group back to what it goes by. Anybody can write such a label: it counts
// only if it was this program that wrote it, as far as the cloud tells.
func (p *puttingBack) earlier(g *estate.Group) error {
	label := g.Labels[estate.UpheldLabel]
	other, ok := estate.UpholderOf(label)
	own := p.may.Upholder
	if !ok || other.Journal == own.Journal || !p.may.WroteLabel(g.ID, label) {
		return nil
	}
	if !other.Since.Before(own.Since) && !(other.Since.Equal(own.Since) && other.Journal < own.Journal) {
		return nil // the other one is to give way
	}
	return refused("%w", &EarlierError{g.Path(), other})
}

// mayPutBack reports whether a group is one of those that may be put back, by the labels that it has or those that it
// had when that was decided: it does no good to take a label off.
func (p *puttingBack) mayPutBack(g *estate.Group) bool {
	place := estate.GroupPlace(g)
	for _, a := range p.found.Accounts { // definitions give labels to places
		if a.Name == p.Account {
			place.Account = a
		}
	}
	if g.Network != nil {
		if n := p.found.FindNetwork(g.Network.Path()); n != nil {
			place.Network = n
		}
	}
	as, had := *g, place
	as.Labels, had.Group = p.decided.Labels(p.Account, g.ID), &as
	return p.may.PutBack(place) || p.may.PutBack(had)
}

// does notes where something is let through again, or shut.
func (p *puttingBack) does(g *estate.Group, opens, shuts bool) {
	p.places[g.ID] = g.Path()
	if opens {
		p.opens[g.Path()] = true
	}
	if shuts {
		p.shuts[g.Path()] = true
	}
}

// lists picks the lists that are to be as they were decided, and finds the entries of those in which something is only
// taken out.
func (p *puttingBack) lists(surveyed *estate.Estate) (picked map[string]bool, entries map[string][]string) {
	picked, entries = make(map[string]bool), make(map[string][]string)
	account := &estate.Account{Name: p.Account}
	for _, a := range p.found.Accounts {
		if a.Name == p.Account {
			account = a
		}
	}
	if !p.may.PutBack(estate.Place{Account: account}) {
		return picked, entries
	}
	now := make(map[string]*estate.List)
	for _, l := range surveyed.Lists {
		if l.Account != nil && l.Account.Name == p.Account {
			now[l.ID] = l
		}
	}
	decided, names := p.decided.Lists(p.Account)
	for id, then := range decided {
		as := &estate.Group{Account: account, ID: id, Name: names[id]} // for what is said of it
		l := now[id]
		if l == nil {
			if !p.defined.lists[names[id]] {
				continue // whoever deleted it did what the definitions say
			}
			why := p.may.leave(as, true)
			for _, other := range now {
				if other.Name == as.Name {
					why = p.isTaken("list", as.Path(), other.ID)
				}
			}
			if why != "" {
				p.left[as.Path()] = why
				continue
			}
			picked[id] = true
			p.does(as, true, false)
			continue
		}
		var is []string
		for _, e := range l.Entries {
			is = append(is, e.Range.String())
		}
		kept := slices.DeleteFunc(slices.Clone(is), func(x string) bool { return !slices.Contains(then, x) })
		opens, shuts := len(kept) < len(then), len(kept) < len(is)
		if p.defined.entries[id] || !opens && !shuts {
			continue
		}
		why := ""
		if opens {
			why = p.may.leave(as, true)
		}
		if why != "" {
			p.left[as.Path()] = why
			if !shuts {
				continue
			}
			opens, entries[id] = false, kept
		}
		if why := p.may.Failed(id, false); why != "" {
			p.left[as.Path()] = why
			delete(entries, id)
			continue
		}
		picked[id] = true
		p.does(as, opens, shuts)
	}
	return picked, entries
}

// choose picks the groups that are to be as they were decided, and finds the rules of those in which something is only
// shut.
func (p *puttingBack) choose(is, then *estate.Estate) (picked map[string]bool, rules map[string][]json.RawMessage,
	err error) {
	picked, rules = make(map[string]bool), make(map[string][]json.RawMessage)
	before, after := decide.New(is), decide.New(then)
	there, wanted := groupsOf(is, p.Account), groupsOf(then, p.Account)
	for id, name := range p.decided.Groups(p.Account) {
		g, w := there[id], wanted[id]
		if w == nil || !p.mayPutBack(w) {
			continue
		}
		if g == nil {
			if !p.defined.named[name] {
				continue // whoever deleted it did what the definitions say
			}
			shuts := false // where it was attached
			for at, moved := range p.moved {
				shuts = shuts || p.shutsAt[at] && slices.Contains(moved, id)
			}
			why := p.may.leave(w, !shuts)
			for _, other := range there {
				if other.Path() == w.Path() {
					why = p.isTaken("group", w.Path(), other.ID)
				}
			}
			if why != "" {
				p.left[w.Path()] = why
				continue
			}
			picked[id] = true
			p.does(w, !shuts, shuts)
			continue
		}
		marked := g.Labels[estate.OwnLabel] == p.decided.Estate()
		if !p.defined.differs[id] && marked {
			continue
		}
		much, missing := shut.TooMuch{}, shut.TooMuch{}
		for _, direction := range directions {
			a, b := before.GroupTraffic(g, direction), after.GroupTraffic(w, direction)
			much[direction], missing[direction] = a.Minus(b), b.Minus(a)
		}
		closes := !missing.IsEmpty()
		if much.IsEmpty() && !closes && marked {
			continue
		}
		if other := p.earlier(g); other != nil {
			return nil, nil, other
		}
		if why := p.may.leave(g, false); why != "" {
			p.left[g.Path()] = why
			continue
		}
		why := p.may.Failed(id, true) // then only what is too much is taken out
		if closes {
			why = p.may.leave(g, true)
		}
		if why == "" {
			picked[id] = true
			p.does(g, closes, !much.IsEmpty())
			continue
		}
		p.left[g.Path()] = why
		if much.IsEmpty() {
			continue
		}
		less, err := shut.Rules(before, g, much, true)
		if decidedLess, wrong := shut.Rules(after, w, missing, true); wrong == nil &&
			(err != nil || len(decidedLess) < len(less)) { // what was decided, without what is shut now
			g, less, err = w, decidedLess, nil
		}
		if err != nil {
			p.left[g.Path()] = why + "; what was opened can't be shut alone: " + err.Error()
			continue
		}
		p.does(g, false, true)
		rules[id] = linesOfRules(g, slices.DeleteFunc(less, isPass))
	}
	for id, g := range there { // what happens unattended needs the journal
		if p.defined.differs[id] && p.defined.named[g.Name] && !p.decided.Has(p.Account, "group", id) &&
			g.Labels[estate.OwnLabel] == p.decided.Estate() {
			p.left[g.Path()] = "it bears the estate's mark, and the journal knows nothing of it: only enact changes it"
		}
	}
	return picked, rules, nil
}

// isTaken says that something can't be made again, since something else has its name by now.
func (p *puttingBack) isTaken(kind, path, id string) string {
	p.taken[path] = path
	for _, g := range p.Decided.part(p.Account).Groups { // in clouds whose groups are in no network it has another one
		if kind == "group" && g.Account.Name == p.Account && p.Account+"/"+g.InCloud() == path {
			p.taken[path] = g.Path()
		}
	}
	return fmt.Sprintf("it was deleted, and another %s (%s) has its name by now: rename, delete or adopt that one",
		kind, id)
}

func isPass(r estate.Rule) bool { return r.Pass != "" }
