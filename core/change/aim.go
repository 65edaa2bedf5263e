package change

import (
	"errors"
	"fmt"
	"maps"
	"slices"

	"isonomos/core/compile"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
)

// A Choice says which part of the definitions is to be carried out.
type Choice struct {
	Account func(*estate.Account) bool // which accounts may be changed; nil means all
	// Adopt picks existing groups and lists without a mark that are to be marked as the estate's own: by full name,
	// or as ACCOUNT/ID. nil means none.
	Adopt func(path string) bool
	// Knows reports whether a group or list, by its id, is known to have been made or adopted by the estate. On
	// the mark alone nothing is detached, emptied or deleted. nil means that all are known.
	Knows estate.Knows
}

func (c Choice) knows(account, kind, id string) bool {
	return c.Knows == nil || c.Knows(account, kind, id)
}

// adopts reports whether something is to be adopted, by its full name or by its id in its account.
func (c Choice) adopts(path, account, id string) bool {
	return c.Adopt != nil && (c.Adopt(path) || id != "" && c.Adopt(account+"/"+id))
}

// claims says which objects are the estate's although others have their names: those that the journal knows, and
// those that are to be adopted by their ids.
func (c Choice) claims(account, kind, id string) bool {
	return c.Knows != nil && c.Knows(account, kind, id) || c.Adopt != nil && c.Adopt(account+"/"+id)
}

// An Aim is the state that clouds are in, the state that they are to be brought to, and which
// objects may be changed for that. In both states groups have the definitions' names, so that
// expectations can be decided in either.
type Aim struct {
	Name        string // of the estate
	Surveyed    *estate.Estate
	Now, Then   *estate.Estate
	ToNow       func([]estate.Peer) []estate.Peer // translates the peers of expectations for Now
	ToThen      func([]estate.Peer) []estate.Peer // and for Then
	Left        []string                          // what is not changed, and why
	NotOurs     []NotOurs                         // the definitions among these
	ByMark      []*estate.Group                   // of Then: groups that may be changed on their mark alone
	ByMarkLists []*estate.List                    // surveyed lists of which this is true
	Kept        []Kept                            // what of these stays as it is all the same
	Strays      []string                          // marked groups and lists that nobody knows
	Failures    []*compile.Failure                // definitions that their clouds can't express
	Unread      []estate.Unread                   // accounts that may be changed but could not be surveyed
	Unplaced    []string                          // definitions in accounts, networks or subnets that don't exist
	back        bool                              // the aim is an earlier state, to be restored exactly
	exact       bool                              // rules are to be just as they are said
	own         map[*estate.Group]bool            // groups of Then that may be changed
	fromSurvey  func([]estate.Peer) []estate.Peer // to Then
	surveyedOf  map[key]*estate.Group
	adopted     func(path, account, id string) bool
	lists       map[estate.ListAt]*estate.List // surveyed, for which definitions stand
	byMark      map[key]bool                   // of ByMark
	knows       func(account, kind, id string) bool
	journal     estate.Knows
	strayLists  map[key]bool // lists among Strays
	inScope     func(*estate.Account) bool
}

// A key identifies a group or list in all states, by its account and id.
type key struct{ account, id string }

func keyOf(g *estate.Group) key { return key{g.Account.Name, g.ID} }

// NewAim finds the state that definitions ask for, starting from the surveyed one. Defined groups
// that are marked as the estate's own, or that don't exist yet, will be as their clouds express
// them, and what passes have in them stays. The estate's own groups that are no longer defined will
// be gone. Everything else stays. The arguments are not changed.
func NewAim(defined, surveyed *estate.Estate, choice Choice) *Aim {
	a := &Aim{Name: defined.Name, Surveyed: surveyed, surveyedOf: make(map[key]*estate.Group),
		own: make(map[*estate.Group]bool), byMark: make(map[key]bool)}
	a.inScope = func(x *estate.Account) bool { return choice.Account == nil || choice.Account(x) }
	a.adopted = choice.adopts
	a.knows, a.journal = choice.knows, choice.Knows
	for _, g := range surveyed.Groups {
		a.surveyedOf[keyOf(g)] = g
	}
	var notes []string
	a.Now, a.ToNow, _ = estate.Overlay(defined, surveyed, choice.claims)
	a.asSurveyed(a.Now, a.ToNow, func(*estate.Group) bool { return true })
	a.Then, a.ToThen, notes = estate.Overlay(defined, surveyed, choice.claims)
	a.fromSurvey = a.ToThen
	a.lists = estate.ListsOf(defined, surveyed, choice.claims)
	known := make(map[*estate.Account]bool)
	for _, x := range surveyed.Accounts {
		for _, y := range a.Then.Accounts {
			known[y] = known[y] || y.Name == x.Name
		}
	}
	a.Unplaced = notes
	for _, u := range surveyed.Unread {
		if slices.ContainsFunc(defined.Accounts,
			func(x *estate.Account) bool { return x.Name == u.Account && a.inScope(x) }) {
			a.Unread = append(a.Unread, u)
		}
	}
	for _, g := range a.Then.Groups {
		if !g.Defined || g.Existing || !a.inScope(g.Account) {
			continue
		}
		if no := a.notOurs(g, known[g.Account]); no.Why != "" {
			a.NotOurs = append(a.NotOurs, no)
			a.Left = append(a.Left, g.Path()+": "+no.Why)
			continue
		}
		a.own[g] = true
		if a.surveyedOf[keyOf(g)] != nil && !a.knows(g.Account.Name, "group", g.ID) &&
			!a.adopted(g.Path(), g.Account.Name, g.ID) {
			a.ByMark = append(a.ByMark, g)
			a.byMark[keyOf(g)] = true
		}
	}
	a.asSurveyed(a.Then, a.ToThen, func(g *estate.Group) bool { return !a.own[g] })
	a.Left = append(a.Left, keptDefaults(a.Then)...)
	a.findStrayLists()
	a.dropOrphans() // first of all, since other groups may follow what they let through
	a.compile()
	a.keepByMark()
	a.keepLists(a.Now, func(*estate.List) bool { return false })
	takes := a.takes()
	a.keepLists(a.Then, takes)
	for _, l := range surveyed.Lists {
		if takes(l) && a.onMark(l) {
			a.ByMarkLists = append(a.ByMarkLists, l)
		}
	}
	return a
}

// takes says which surveyed lists will have the entries of definitions: those for which these stand, if groups of the
// estate in the same account refer to them, and they are marked as its own or are to be adopted.
func (a *Aim) takes() func(*estate.List) bool {
	named := make(map[*estate.List]bool)
	for g := range a.own {
		for _, l := range ownListsOf(g) {
			named[a.lists[estate.ListAt{Account: g.Account.Name, Name: l.Name}]] = true
		}
	}
	return func(l *estate.List) bool { return named[l] && a.takesOver(l) }
}

// takesOver reports whether a list may be changed: it bears the estate's mark, or is to be adopted.
func (a *Aim) takesOver(l *estate.List) bool {
	return l.Labels[estate.OwnLabel] == a.Name || a.adopted(listPath(l), l.Account.Name, l.ID)
}

// onMark reports whether a list that may be changed is the estate's by its mark alone.
func (a *Aim) onMark(l *estate.List) bool {
	return !a.knows(l.Account.Name, "list", l.ID) && !a.adopted(listPath(l), l.Account.Name, l.ID)
}

func listPath(l *estate.List) string { return l.Account.Name + "/" + l.Name }

// ownListsOf are the defined lists to which a group's rules refer.
func ownListsOf(g *estate.Group) (lists []*estate.List) {
	for i := range g.Rules {
		for _, p := range g.Rules[i].Peers {
			if p.Kind == estate.PeerList && p.List.Owner != "published" && p.List.Account == nil &&
				!slices.Contains(lists, p.List) {
				lists = append(lists, p.List)
			}
		}
	}
	return lists
}

// keepLists restores the entries of surveyed lists that don't take the definitions' entries. One
// definition stands for lists in many accounts; groups that are not carried out go on to refer to
// the list of their own account.
func (a *Aim) keepLists(e *estate.Estate, takes func(*estate.List) bool) {
	defined := make(map[string]bool)
	for _, l := range e.Lists {
		defined[l.Name] = defined[l.Name] || l.Defined
	}
	accounts := make(map[string]*estate.Account)
	for _, x := range e.Accounts {
		accounts[x.Name] = x
	}
	kept := make(map[*estate.List]*estate.List)
	for _, l := range a.Surveyed.Lists {
		there := slices.ContainsFunc(e.Lists, func(x *estate.List) bool { // the overlay has not replaced it
			return !x.Defined && x.Owner == "own" && x.ID == l.ID && x.Account != nil &&
				x.Account.Name == l.Account.Name
		})
		if l.Owner == "own" && defined[l.Name] && !takes(l) && !there {
			copied := *l
			copied.Account = accounts[l.Account.Name]
			kept[l] = &copied
			e.Lists = append(e.Lists, &copied)
		}
	}
	for _, g := range e.Groups {
		s := a.surveyedOf[keyOf(g)]
		if g.ID == "" || s == nil || e == a.Then && a.own[g] {
			continue
		}
		for i := range s.Rules {
			for k, p := range s.Rules[i].Peers {
				if p.Kind == estate.PeerList && kept[p.List] != nil {
					g.Rules[i].Peers[k].List = kept[p.List]
				}
			}
		}
	}
}

// AboutPasses reports whether passes are opened or shut, and nothing else changes.
func (a *Aim) AboutPasses() bool { return a.exact }

// Owns reports whether a group of Then is one that may be changed.
func (a *Aim) Owns(g *estate.Group) bool { return a.own[g] }

// A Kept is what a group has and keeps, although its definition says something else.
type Kept struct {
	Group *estate.Group
	Why   string
}

// Adoptable are what could be adopted so that less is left as it is: full names, or ids where several have one name.
func (a *Aim) Adoptable() []string {
	names := []string{}
	for _, x := range a.NotOurs {
		names = append(names, x.Adopt...)
	}
	for _, x := range a.Kept {
		names = append(names, x.Group.Path())
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// A NotOurs is a defined group that is not carried out, since what has its name in the cloud is not the estate's, or
// since its network or account is not there.
type NotOurs struct {
	Group *estate.Group
	Why   string
	// Adopt are what could be adopted so that the group is carried out: full names, or ids where several have one name.
	Adopt []string
}

// notOurs says why a defined group is not carried out; else Why is empty.
func (a *Aim) notOurs(g *estate.Group, surveyed bool) NotOurs {
	not := func(adopt []string, format string, args ...any) NotOurs {
		return NotOurs{g, fmt.Sprintf(format, args...), adopt}
	}
	there := a.surveyedOf[keyOf(g)]
	switch {
	case !surveyed:
		return not(nil, "its account was not surveyed")
	case g.Twins != nil:
		return not(g.Twins.IDs, "%s, and nothing tells which of them it is", g.Twins)
	case g.Network != nil && g.Network.Twins != nil:
		return not(nil, "%s, and nothing tells which of them it is in: give the network's id",
			g.Network.Twins)
	case g.Network != nil && g.Network.ID == "":
		return not(nil, "its network is not there")
	}
	for _, t := range subnetTwins(g) {
		return not(nil, "%s, and nothing tells which of them it means", t)
	}
	for _, l := range ownListsOf(g) {
		t := l.TwinsIn[g.Account.Name]
		if t != nil {
			return not(t.IDs, "%s, and nothing tells which of them its rules mean", t)
		}
		is := a.lists[estate.ListAt{Account: g.Account.Name, Name: l.Name}]
		entries, published := l.At(g)
		if is == nil || len(published) > 0 { // what a provider publishes is known only once it is compiled
			continue
		}
		if len(entries) == 0 && len(is.Entries) > 0 && a.onMark(is) {
			return not([]string{listPath(is)}, "the list %s would be emptied, and only its mark says that it is ours: "+
				"the journal does not know it", listPath(is))
		}
		if !a.takesOver(is) && !SameEntries(is.Entries, entries) {
			return not([]string{listPath(is)}, "the list %s, to which its rules refer, holds other ranges than the "+
				"definitions say, and is not marked as ours", listPath(is))
		}
	}
	if g.ID == "" || there == nil { // it is still to be created
		return NotOurs{}
	}
	adopted := a.adopted(g.Path(), g.Account.Name, g.ID)
	switch owner := there.Labels[estate.OwnLabel]; {
	case owner == a.Name:
	case owner != "":
		return not(nil, "there is a group of that name, which belongs to the estate %s", owner)
	case adopted:
	case a.journal.Has(g.Account.Name, "group", g.ID):
		return not([]string{g.Path()}, "somebody has taken off our mark")
	default:
		return not([]string{g.Path()}, "there is a group of that name that is not marked as ours")
	}
	return NotOurs{}
}

// subnetTwins are the subnets to which a group refers or which it covers, and of which there are several.
func subnetTwins(g *estate.Group) (all []*estate.Twins) {
	for _, p := range g.Refers() {
		if p.Kind == estate.PeerSubnet && p.Subnet.Twins != nil {
			all = append(all, p.Subnet.Twins)
		}
	}
	if g.For != estate.ForSubnets || g.Network == nil {
		return all
	}
	for _, s := range g.Network.Subnets {
		if s.Twins != nil && g.CoversSubnet(s) {
			all = append(all, s.Twins)
		}
	}
	return all
}

// keptDefaults says which default groups stay beside defined ones, and why.
func keptDefaults(e *estate.Estate) []string {
	at := make(map[*estate.Group][]string)
	var order []*estate.Group
	for _, i := range e.Instances {
		for _, f := range i.Interfaces {
			if !slices.ContainsFunc(f.Groups, func(g *estate.Group) bool { return g.Defined && !g.Existing }) {
				continue
			}
			for _, g := range f.Groups {
				if !g.Default || !g.Named {
					continue
				}
				if at[g] == nil {
					order = append(order, g)
				}
				if name := i.Path(); !slices.Contains(at[g], name) {
					at[g] = append(at[g], name)
				}
			}
		}
	}
	var kept []string
	for _, g := range order {
		slices.Sort(at[g])
		kept = append(kept, fmt.Sprintf("%s: it stays attached to %s, since the definitions name it as existing",
			g.Path(), count.Some(at[g], 3)))
	}
	return kept
}

// asSurveyed replaces defined groups by the surveyed ones, or by empty ones without attachments
// where none exists.
func (a *Aim) asSurveyed(e *estate.Estate, carry func([]estate.Peer) []estate.Peer, pick func(*estate.Group) bool) {
	left := make(map[*estate.Group]bool)
	byID := make(map[key]*estate.Group)
	defaults := make(map[key]*estate.Group)
	for _, g := range e.Groups {
		if g.Default && !g.Defined {
			defaults[keyOf(g)] = g
		}
		if !g.Defined || g.Existing || !pick(g) {
			continue
		}
		left[g] = true
		g.Defined, g.Follows, g.Covers, g.Lends, g.Ended = false, false, nil, nil, nil
		g.Rules = nil
		if s := a.surveyedOf[keyOf(g)]; s != nil && g.ID != "" {
			byID[keyOf(g)] = g
			g.Labels, g.Description, g.Stateless = s.Labels, s.Description, s.Stateless
			g.Rules = carried(s.Rules, carry)
		}
	}
	keep := func(attached, as []*estate.Group) []*estate.Group {
		kept := slices.DeleteFunc(slices.Clone(attached), func(g *estate.Group) bool { return left[g] })
		replaced := slices.ContainsFunc(kept, func(g *estate.Group) bool { return g.Defined && !g.Existing })
		for _, s := range as {
			g := byID[keyOf(s)]
			if d := defaults[keyOf(s)]; d != nil && !replaced && !slices.Contains(kept, d) {
				g = d // what was to replace it is not attached
			}
			if g != nil {
				kept = append(kept, g)
			}
		}
		return kept
	}
	faces := facesOf(a.Surveyed)
	for _, i := range e.Instances {
		for _, f := range i.Interfaces {
			if was := faces[faceKey(f)]; was != nil {
				f.Groups = keep(f.Groups, was.Groups)
			}
		}
	}
	around := subnetsOf(a.Surveyed)
	for _, n := range e.Networks {
		for _, s := range n.Subnets {
			var was []*estate.Group
			if x := around[subnetKey(s)]; x != nil {
				was = x.Groups
			}
			s.Groups = keep(s.Groups, was)
		}
	}
}

// carried copies rules, with their peers translated to another state.
func carried(rules []estate.Rule, carry func([]estate.Peer) []estate.Peer) []estate.Rule {
	rules = slices.Clone(rules)
	for i := range rules {
		rules[i].Peers, rules[i].Except = carry(rules[i].Peers), carry(rules[i].Except)
	}
	return rules
}

func faceKey(f *estate.Interface) key { return key{f.Instance.Account.Name, f.ID} }

func subnetKey(s *estate.Subnet) key { return key{s.Network.Account.Name, s.ID} }

func facesOf(e *estate.Estate) map[key]*estate.Interface {
	faces := make(map[key]*estate.Interface)
	for _, i := range e.Instances {
		for _, f := range i.Interfaces {
			faces[faceKey(f)] = f
		}
	}
	return faces
}

func subnetsOf(e *estate.Estate) map[key]*estate.Subnet {
	subnets := make(map[key]*estate.Subnet)
	for _, n := range e.Networks {
		for _, s := range n.Subnets {
			subnets[subnetKey(s)] = s
		}
	}
	return subnets
}

// compile replaces the defined groups by what their clouds can express.
func (a *Aim) compile() {
	d := decide.New(a.Then)
	made := make(map[*estate.Group][]estate.Rule)
	for _, g := range a.Then.Groups {
		if !a.own[g] {
			continue
		}
		c, err := compile.Group(d, g)
		var f *compile.Failure
		if errors.As(err, &f) {
			a.Failures = append(a.Failures, f)
			continue
		}
		if dialect, quota := decide.Dialect(g.Account), compile.QuotaOf(decide.Dialect(g.Account),
			g); quota.Over(compile.GroupCost(dialect, c.Group, estate.In),
			compile.GroupCost(dialect, c.Group, estate.Out)) {
			a.Failures = append(a.Failures, &compile.Failure{Group: g, Reason: "it takes more rules than its " +
				"quota allows: raise the quota (limit), or let lists and ranges say more"})
			continue
		}
		made[g] = c.Group.Rules
	}
	a.Failures = append(a.Failures, compile.Crowded(a.Then, func(g *estate.Group) bool { return a.own[g] })...)
	for g, rules := range made {
		g.Rules = a.withPasses(g, rules)
		g.Defined, g.Follows, g.Covers, g.Lends, g.Ended = false, false, nil, nil, nil
		g.Stateless = false
		labels := make(estate.Labels)
		if s := a.surveyedOf[keyOf(g)]; s != nil {
			maps.Copy(labels, s.Labels)
			g.Description = s.Description
			g.Stateless = s.Stateless
		}
		maps.Copy(labels, g.Labels)
		labels[estate.OwnLabel] = a.Name
		g.Labels = labels
	}
}

// dropOrphans removes the estate's own groups that are no longer defined, unless something else
// refers to them.
func (a *Aim) dropOrphans() {
	meant := a.meant()
	for _, g := range dropOrphans(a.Then, func(g *estate.Group) bool {
		there := a.surveyedOf[keyOf(g)]
		if a.own[g] || meant[g.Account.Name+"/"+g.ID] || there == nil || g.BuiltIn || g.Defined ||
			g.Pass != "" || !a.inScope(g.Account) ||
			there.Labels[estate.OwnLabel] != a.Name {
			return false
		}
		return !a.stray(g.Path(), g.Account.Name, "group", g.ID)
	}) {
		a.Left = append(a.Left, fmt.Sprintf("%s: it is not defined any more, but %s names it", g.named.Path(),
			g.by.Path()))
	}
}

// meant are the groups, as ACCOUNT/ID, for which definitions stand, or may stand, that are not carried out: they are
// left as they are.
func (a *Aim) meant() map[string]bool {
	ids := make(map[string]bool)
	for _, x := range a.NotOurs {
		ids[x.Group.Account.Name+"/"+x.Group.ID] = x.Group.ID != ""
		if x.Group.Twins != nil {
			for _, id := range x.Group.Twins.IDs {
				ids[id] = true
			}
		}
	}
	return ids
}

// stray reports whether something bears the estate's mark and neither a definition nor the journal knows it,
// and it is not to be adopted. Then it is told and left alone: marks can be forged.
func (a *Aim) stray(path, account, kind, id string) bool {
	if a.knows(account, kind, id) || a.adopted(path, account, id) {
		return false
	}
	a.Strays = append(a.Strays, path)
	a.Left = append(a.Left, path+": it bears our mark, but neither a definition nor the journal knows it")
	return true
}

func (a *Aim) findStrayLists() {
	a.strayLists = make(map[key]bool)
	for _, l := range a.orphanLists(a.Surveyed.Lists) {
		a.strayLists[key{l.Account.Name, l.ID}] = a.stray(l.Account.Name+"/"+l.Name, l.Account.Name, "list", l.ID)
	}
}

// orphanLists are those of lists that bear the estate's mark and are no longer defined.
func (a *Aim) orphanLists(lists []*estate.List) []*estate.List {
	if a.exact {
		return nil
	}
	defined := make(map[string]bool)
	for _, l := range a.Then.Lists {
		defined[l.Name] = defined[l.Name] || l.Defined
	}
	var orphans []*estate.List
	for _, l := range lists {
		if l.Owner == "own" && l.Labels[estate.OwnLabel] == a.Name && !defined[l.Name] && a.inScope(l.Account) {
			orphans = append(orphans, l)
		}
	}
	return orphans
}

// WithoutOrphans removes from a survey the groups that are marked as the definitions' own and are
// no longer defined, unless others refer to them: carrying the definitions out deletes them.
// Definitions without an estate's name own nothing.
func WithoutOrphans(e *estate.Estate, name string) {
	dropOrphans(e, func(g *estate.Group) bool {
		return name != "" && !g.Defined && !g.BuiltIn && g.Labels[estate.OwnLabel] == name
	})
}

// A keptOrphan is a group that is no longer defined, with another that refers to it.
type keptOrphan struct{ named, by *estate.Group }

// dropOrphans detaches and removes groups, except those to which others refer.
func dropOrphans(e *estate.Estate, isOrphan func(*estate.Group) bool) (kept []keptOrphan) {
	gone := make(map[*estate.Group]bool)
	for _, g := range e.Groups {
		if isOrphan(g) {
			gone[g] = true
		}
	}
	for again := len(gone) > 0; again; {
		again = false
		for _, g := range e.Groups {
			if gone[g] {
				continue
			}
			for i := range g.Rules {
				for _, p := range slices.Concat(g.Rules[i].Peers, g.Rules[i].Except) {
					if p.Kind == estate.PeerGroup && gone[p.Group] {
						kept = append(kept, keptOrphan{p.Group, g})
						delete(gone, p.Group)
						again = true
					}
				}
			}
		}
	}
	if len(gone) == 0 {
		return kept
	}
	is := func(g *estate.Group) bool { return gone[g] }
	e.Groups = slices.DeleteFunc(slices.Clone(e.Groups), is)
	for _, i := range e.Instances {
		for _, f := range i.Interfaces {
			f.Groups = slices.DeleteFunc(slices.Clone(f.Groups), is)
		}
	}
	for _, n := range e.Networks {
		for _, s := range n.Subnets {
			s.Groups = slices.DeleteFunc(slices.Clone(s.Groups), is)
		}
	}
	return kept
}
