package work

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"isonomos/core/audit"
	"isonomos/core/change"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/pass"
	"isonomos/core/service"
	"isonomos/core/traffic"
	"isonomos/enact"
	"isonomos/nomos"
	"isonomos/words"
)

// Watching: what an account lets through is held against what the definitions say, account by account.

// Decided is what accounts are judged by: definitions, and what the journal knows. It may be used by several
// goroutines.
type Decided struct {
	Definitions nomos.Definitions
	Knows       enact.Known            // what the journal has made or adopted
	Passes      map[string]*pass.Known // what it has issued
	Digest      string                 // of the definitions
	// ExemptID is the id of the group that an exemption from a law that is enforced meant when it was first seen; empty
	// if none was seen yet. nil knows of none.
	ExemptID func(law, group string) string

	mu     sync.Mutex
	parts  map[string]*estate.Estate // of the definitions, by account
	beside map[string][]string       // neighbours, by account
}

// With is the same with what the journal knows now.
func (s *Decided) With(knows enact.Known, passes map[string]*pass.Known) *Decided {
	s.mu.Lock()
	defer s.mu.Unlock()
	return &Decided{Definitions: s.Definitions, Digest: s.Digest, Knows: knows, Passes: passes, ExemptID: s.ExemptID,
		parts: maps.Clone(s.parts), beside: maps.Clone(s.beside)}
}

// The kinds of difference.
const (
	Opened  = "opened"             // more is let through than is decided, or than a law allows
	Closed  = "closed"             // less is let through than is decided
	Altered = "changed"            // what is let through is the same, so far
	Broken  = "definitions-broken" // a definition can't be carried out, so that only laws count for its group
)

// NotOursKey begins the keys of differences that say of a defined group that it is not there, since another one has its
// name or its network is gone.
const NotOursKey = "not ours "

// A Difference is what is not as it was decided, in one direction at one group, or at instances.
type Difference struct {
	Key         string // identifies it while it lasts: another traffic is another difference
	Kind        string
	Account     string
	Group       string // its full name; empty where it is about instances
	GroupID     string // its id in the cloud
	Place       string // the group, or the instances
	Law         string // the law that it breaches, if it is about one
	Direction   estate.Direction
	Says        string // what it comes to, in words
	Services    string
	Peers       string
	Example     *change.Example
	Instances   []string // where it arrives
	InstanceIDs []string
	Rules       []string // that let it through, or are gone, as sentences
	Severity    audit.Severity
	ChangedBy   string       // who changed the rule behind it last, if its cloud tells
	ChangedAt   time.Time    // and when
	Where       estate.Place // for conditions
	// NotOurs says that a defined group is not there, since another one has its name, or since its network is gone.
	NotOurs bool
}

// An AccountView is an account as it was judged.
type AccountView struct {
	Differences []Difference
	Overdue     []*pass.Found // passes that are over, and still there
	// Exempt are groups that exemptions from laws that are enforced name, and that were not seen before.
	Exempt []enact.ExemptGroup
	// Whole is set, and nothing else, where just some groups were to be judged, and that can't be done.
	Whole bool
}

// Neighbours are the other accounts that have to be known to judge an account: those to whose groups and networks its
// definitions and the laws refer. Those to which it refers in its cloud are not among them.
func (s *Decided) Neighbours(account string) []string {
	part := s.part(account)
	s.mu.Lock()
	defer s.mu.Unlock()
	names, known := s.beside[account]
	if known {
		return names
	}
	note := func(peers []estate.Peer) {
		for _, p := range peers {
			if at := p.Home(); at != nil && at.Name != account && !slices.Contains(names, at.Name) {
				names = append(names, at.Name)
			}
		}
	}
	for _, g := range part.Groups {
		if g.Account.Name == account {
			note(g.Refers())
		}
	}
	for _, l := range s.Definitions.Laws {
		for _, o := range slices.Concat(l.Never, l.Only) {
			note(slices.Concat(o.Peers.Of, o.Peers.Except))
		}
	}
	if s.beside == nil {
		s.beside = make(map[string][]string)
	}
	s.beside[account] = names
	return names
}

// part is what the definitions say of an account.
func (s *Decided) part(account string) *estate.Estate {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.parts == nil {
		s.parts = make(map[string]*estate.Estate)
	}
	if s.parts[account] == nil {
		s.parts[account] = s.Definitions.Estate.Part(func(name string) bool { return name == account })
	}
	return s.parts[account]
}

// AsFound is an account as it was surveyed, with the labels of the definitions.
func (s *Decided) AsFound(surveyed *estate.Estate, account string) *estate.Estate {
	e, _ := estate.AsFound(s.part(account), surveyed, s.Knows.Has)
	return e
}

// Judge judges an account in a survey, which has its neighbours too, and says what differs there from what is decided:
// the estate's own groups from their definitions, all others from the laws. What passes open is no difference. The
// survey is changed.
//
// Accounts that are missing could not be read: what refers to their groups can't be decided, and is left out. With
// only, just some groups are judged.
func (s *Decided) Judge(surveyed *estate.Estate, account string, missing []string, only *Only,
	now time.Time) AccountView {
	part := s.part(account)
	if only != nil {
		if only.Around && !s.apart(account) {
			return AccountView{Whole: true}
		}
		var follows bool
		if part, follows = partOf(part, surveyed, account, only); follows {
			return AccountView{Whole: true}
		}
	}
	var v AccountView
	unsure := make(map[string]bool) // groups that can't be decided, by full name
	for _, g := range part.Groups {
		if slices.ContainsFunc(g.Refers(),
			func(p estate.Peer) bool { return slices.Contains(missing, p.Home().Name) }) {
			unsure[g.Path()] = true
		}
	}
	for _, f := range PassesOf(part, surveyed, s.Knows.Has, s.Passes, now) {
		if f.State == pass.Overdue && f.Account == account {
			v.Overdue = append(v.Overdue, f)
		}
	}
	in := func(g *estate.Group) bool { return g.Account.Name == account }
	v.Differences = append(v.Differences, s.unmarked(part, surveyed, account)...)
	aim := change.NewAim(part, surveyed, change.Choice{Knows: s.Knows.Has})
	for _, f := range aim.Failures {
		if in(f.Group) && !unsure[f.Group.Path()] {
			v.Differences = append(v.Differences, Difference{Kind: Broken, Account: account, Group: f.Group.Path(),
				GroupID: f.Group.ID, Place: f.Group.Path(), Key: "unfit " + f.Group.Path(), Severity: audit.High,
				Where: estate.GroupPlace(f.Group),
				Says:  "its definition can't be carried out, so that only laws count there: " + f.Error()})
		}
		unsure[f.Group.Path()] = true
	}
	is, then := decide.New(aim.Now), decide.New(aim.Then)
	compare := change.Compare
	if only != nil && !only.Around {
		compare = change.CompareGroups
	}
	d := compare(then, is)
	for i := range d.Changes {
		if x, ok := s.difference(&d.Changes[i], is, account); ok && !unsure[x.Group] {
			v.Differences = append(v.Differences, x)
		}
	}
	for _, x := range aim.NotOurs {
		if g := x.Group; in(g) {
			v.Differences = append(v.Differences, Difference{Kind: Altered, Account: account, Group: g.Path(),
				GroupID: g.ID, Place: g.Path(), Key: NotOursKey + g.Path() + " " + g.ID, Severity: audit.High,
				Where: estate.GroupPlace(g), NotOurs: true, Says: "it is defined, and not there: " + x.Why})
		}
	}
	for _, name := range aim.Strays {
		if !strings.HasPrefix(name, account+"/") {
			continue
		}
		v.Differences = append(v.Differences, Difference{Kind: Altered, Account: account, Group: name, Place: name,
			Key: "stray " + name, Severity: audit.Medium, Says: "it bears the estate's mark, and neither a " +
				"definition nor the journal knows it"})
	}
	owned := make(map[string]bool)
	for _, g := range aim.Then.Groups {
		if aim.Owns(g) && g.ID != "" {
			owned[g.ID] = true
		}
	}
	for _, l := range law.RebaseLaws(s.Definitions.Laws, aim.ToNow) {
		for _, g := range slices.Concat(aim.Now.Groups, is.ImpliedGroups()) {
			ours := owned[g.ID] && !unsure[g.Path()] && l.Enforced == nil // these are held against their definitions
			if !in(g) || ours || only != nil && !only.Groups[g.ID] {
				continue
			}
			exemptions, first := s.exemptions(l, g, now)
			v.Exempt = append(v.Exempt, first...)
			for _, b := range law.BreachesBut(withoutPasses(is, g), l, g, exemptions, now) {
				v.Differences = append(v.Differences, s.breach(l, b, is))
			}
		}
	}
	v.Differences = joinedDifferences(v.Differences)
	if only != nil {
		v.Differences = slices.DeleteFunc(v.Differences,
			func(d Difference) bool { return !only.Groups[d.GroupID] && !(only.Around && d.AtInstances()) })
	}
	return v
}

// exemptions are those that hold for a group under a law. Of a law that is enforced, one that names a group is about
// the group that had that name when it was first seen: whoever deletes that one and makes another is not exempted.
// Those that are seen for the first time are first.
func (s *Decided) exemptions(l law.Law, g *estate.Group, now time.Time) (hold []law.Exemption,
	first []enact.ExemptGroup) {
	if l.Enforced == nil || s.ExemptID == nil {
		return s.Definitions.Exemptions, nil
	}
	for _, e := range s.Definitions.Exemptions {
		if e.Law == l.Name && e.Kind == "group" && e.Covers(g) && e.Until.After(now) && g.ID != "" {
			switch s.ExemptID(l.Name, g.Path()) {
			case "":
				first = append(first, enact.ExemptGroup{Law: l.Name, Group: g.Path(), ID: g.ID})
			case g.ID:
			default:
				continue
			}
		}
		hold = append(hold, e)
	}
	return hold, first
}

// withoutPasses decides as if passes opened nothing in a group.
func withoutPasses(d *decide.Decider, g *estate.Group) *decide.Decider {
	if !slices.ContainsFunc(g.Rules, isPass) {
		return d
	}
	return d.Supposing(g, slices.DeleteFunc(slices.Clone(g.Rules), isPass))
}

// AtInstances reports whether a difference is at instances, and not in what one group lets through.
func (d *Difference) AtInstances() bool { return d.Group == "" }

// NeedsAll reports whether a difference can only be judged with everything else in its account.
func (d *Difference) NeedsAll() bool { return d.AtInstances() || d.Kind == Broken }

// apart reports whether no group of an account lets through what others do.
func (s *Decided) apart(account string) bool {
	return !slices.ContainsFunc(s.part(account).Groups,
		func(g *estate.Group) bool { return g.Follows && g.Account.Name == account })
}

// Only says that just some groups have to be judged.
type Only struct {
	Groups map[string]bool // by id
	// Around has the instances judged to which they are attached. The survey has to have the rules of all groups that
	// are attached there, and to subnets, and to balancers and what is behind them; without it just those of these
	// groups.
	Around bool
}

// partOf leaves of the definitions of an account those of some surveyed groups, of the groups that are attached to the
// same instances and subnets, and the ones to which these refer. All others are somebody's in the survey from now on.
// It reports whether any of them lets through what others do, who are not there.
func partOf(part, surveyed *estate.Estate, account string, only *Only) (less *estate.Estate, follows bool) {
	near := make(map[*estate.Group]bool)
	is := func(g *estate.Group) bool { return g.Account.Name == account && only.Groups[g.ID] }
	for _, g := range surveyed.Groups {
		near[g] = is(g)
	}
	if only.Around {
		findNear(surveyed, is, near)
	}
	names := make(map[string]bool) // of the groups, in their cloud
	for _, g := range surveyed.Groups {
		switch {
		case g.Account.Name != account:
		case near[g]:
			names[g.Name] = true
		case g.Labels[estate.OwnLabel] != "":
			g.Labels = maps.Clone(g.Labels)
			delete(g.Labels, estate.OwnLabel)
		}
	}
	kept := make(map[*estate.Group]bool)
	for _, g := range part.Groups {
		if g.Account.Name == account && names[g.InCloud()] {
			kept[g] = true
			follows = follows || g.Follows
			for _, p := range g.Refers() {
				kept[p.Group] = true
			}
		}
	}
	copied := *part
	copied.Groups = slices.DeleteFunc(slices.Clone(part.Groups), func(g *estate.Group) bool { return !kept[g] })
	return &copied, follows
}

// findNear finds the groups that are attached where some groups are: to the same instances, to subnets, and to
// balancers and what is behind them.
func findNear(surveyed *estate.Estate, is func(*estate.Group) bool, near map[*estate.Group]bool) {
	behind := make(map[*estate.Instance]bool) // balancers
	for _, i := range surveyed.Instances {
		for _, l := range i.Listeners {
			for _, target := range l.Targets {
				behind[target] = true
			}
		}
	}
	for _, i := range surveyed.Instances {
		touched := slices.ContainsFunc(i.Interfaces,
			func(f *estate.Interface) bool { return slices.ContainsFunc(f.Groups, is) })
		if touched || len(i.Listeners) > 0 || behind[i] { // balancers hand on what others let in
			for _, f := range i.Interfaces {
				for _, g := range f.Groups {
					near[g] = true
				}
			}
		}
	}
	for _, n := range surveyed.Networks {
		for _, s := range n.Subnets {
			for _, g := range s.Groups {
				near[g] = true
			}
		}
	}
}

// joinedDifferences are differences without those that are told twice.
func joinedDifferences(all []Difference) []Difference {
	seen := make(map[string]bool)
	return slices.DeleteFunc(all, func(d Difference) bool {
		again := seen[d.Key]
		seen[d.Key] = true
		return again
	})
}

// unmarked finds groups of the estate from which its mark was taken; and puts it back in the survey, so that they are
// judged like the others.
func (s *Decided) unmarked(part, surveyed *estate.Estate, account string) []Difference {
	ours := make(map[string]*estate.Group) // by their place in the cloud
	for _, g := range part.Groups {
		if g.Account.Name == account && !g.Existing {
			ours[g.Network.Path()+"/"+g.InCloud()] = g
			ours[account+"/"+g.InCloud()] = g // in clouds whose groups are in no network
		}
	}
	var all []Difference
	for _, g := range surveyed.Groups {
		mark := g.Labels[estate.OwnLabel]
		defined := ours[g.Path()]
		if defined == nil || mark == part.Name || g.Account.Name != account || !s.Knows.Has(account, "group", g.ID) {
			continue
		}
		x := Difference{Kind: Altered, Account: account, Group: defined.Path(), GroupID: g.ID, Place: defined.Path(),
			Key: "mark " + defined.Path() + " " + mark, Severity: audit.High, Where: estate.GroupPlace(g),
			Says: "the estate's mark was taken off it"}
		if mark != "" {
			x.Says = fmt.Sprintf("its mark was changed to that of the estate %q", mark)
		}
		all = append(all, x)
		labels := maps.Clone(g.Labels)
		if labels == nil {
			labels = make(estate.Labels)
		}
		labels[estate.OwnLabel] = part.Name
		g.Labels = labels
	}
	return all
}

// difference puts a change from what is decided to what is there into words. It reports false for one of another
// account.
func (s *Decided) difference(c *change.Change, is *decide.Decider, account string) (Difference, bool) {
	e := is.Estate()
	x := Difference{Kind: Opened, Account: account, Place: c.Place(), Direction: c.Direction, Instances: c.Instances,
		Example: cmp.Or(c.Example, c.Tried)}
	if c.Group != nil {
		if c.Group.Account.Name != account {
			return x, false
		}
		x.Group, x.GroupID, x.Where = c.Group.Path(), c.Group.ID, estate.GroupPlace(c.Group)
	}
	for _, i := range e.Instances {
		if slices.Contains(c.Instances, i.Path()) {
			if i.Account.Name != account && c.Group == nil {
				return x, false
			}
			x.InstanceIDs = append(x.InstanceIDs, i.ID)
			if x.Where == (estate.Place{}) && len(i.Interfaces) > 0 {
				x.Where = estate.InterfacePlace(i.Interfaces[0])
			}
		}
	}
	if c.Kind == change.Closes || c.Kind == change.Lost {
		x.Kind = Closed
	}
	x.Key = string(c.Kind) + " " + c.Place() + " " + string(c.Direction) + " " +
		strconv.FormatUint(c.Traffic.Hash(), 16)
	if c.Rule != nil && c.Rule.Changed != nil {
		x.ChangedBy, x.ChangedAt = c.Rule.Changed.By, c.Rule.Changed.At
	}
	x.Rules = slices.Concat(c.New, c.Causes)
	if x.Kind == Closed {
		x.Rules = slices.Concat(c.Gone, c.Causes)
	}
	x.Says = words.Traffic(e, c.Traffic, c.Direction)
	if text := words.Answers(c); text != "" {
		x.Says += ": " + text
	}
	x.weigh(is, c.Traffic)
	return x, true
}

// weigh says how bad a difference is, by who can reach what, and tells its services and peers.
func (x *Difference) weigh(d *decide.Decider, set traffic.Set) {
	x.Services = d.Estate().Services.Describe(set.Services())
	x.Peers = set.Peers(service.All).String()
	if x.Kind == Closed {
		x.Severity = audit.Medium
		return
	}
	open := set.WithPeers(d.Strangers())
	x.Severity = audit.Medium
	if x.Direction == estate.Out {
		x.Severity = audit.Low
		if !open.IsEmpty() {
			x.Severity = audit.Medium
		}
		return
	}
	if open.IsEmpty() {
		return
	}
	x.Severity = audit.High
	for _, class := range []string{service.ClassAdmin, service.ClassData} {
		services, _ := d.Estate().Services.Class(class)
		if open.Services().Overlaps(services) {
			x.Severity = audit.Critical
		}
	}
}

// breach puts a breach of a law into words.
func (s *Decided) breach(l law.Law, b law.Breach, d *decide.Decider) Difference {
	g := b.Group
	x := Difference{Kind: Opened, Account: g.Account.Name, Group: g.Path(), GroupID: g.ID, Place: g.Path(), Law: l.Name,
		Direction: estate.In, Says: b.Text, Severity: audit.Medium, Where: estate.GroupPlace(g)}
	if b.Lacks != "" {
		x.Kind = Altered
	}
	// who is a stranger depends on the whole estate, so the exact traffic is no part of it
	x.Key = "law " + l.Name + " " + g.Path() + " " + b.Text + " " + b.Lacks
	if b.Rule != nil {
		x.Direction, x.Rules = b.Rule.Direction, []string{b.Rule.Sentence(d.Estate().Services)}
		x.Key += " " + b.Rule.ID
	}
	for _, f := range d.InterfacesOf(g) {
		if name := f.Instance.Path(); !slices.Contains(x.Instances, name) {
			x.Instances, x.InstanceIDs = append(x.Instances, name), append(x.InstanceIDs, f.Instance.ID)
		}
	}
	if !b.Traffic.IsEmpty() {
		x.weigh(d, b.Traffic)
	}
	if b.Witness != nil && len(x.Instances) > 0 {
		x.Example = &change.Example{From: b.Witness.Peer.String(), To: x.Instances[0], Service: b.Witness.Service}
		if x.Direction == estate.Out {
			x.Example.From, x.Example.To = x.Example.To, x.Example.From
		}
	}
	return x
}
