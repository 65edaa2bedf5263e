package estate

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
)

// Overlay is the surveyed estate as it will be once the definitions are carried out. Networks,
// routes and instances are those of the survey. Defined groups and lists are those of the
// definitions, attached to what they cover, where they replace the network's default group. Other
// surveyed groups stay as they are, also those that have the name of a defined one and are not it. The
// arguments are not changed: the function rebase translates peers that refer to their parts. The notes
// say where definitions and survey don't match.
func Overlay(defined, surveyed *Estate, knows Knows) (e *Estate, rebase func([]Peer) []Peer, notes []string) {
	o := newOverlay(defined, surveyed)
	o.takeAccounts(defined, surveyed)
	o.takeNetworks(defined, surveyed)
	o.is = o.identify(defined, surveyed, knows)
	o.takeLists(defined, surveyed)
	o.takeGroups(defined, surveyed)
	o.takeInstances(surveyed)
	o.attach()
	return o.out, o.peers, o.notes
}

// AsFound is the surveyed estate as it stands: groups, lists and attachments are as surveyed. The
// definitions add what a survey can't tell: names of services, lists and labels of places, names of
// groups and what they are to cover. A defined group that the survey does not have is Absent, and
// not among the estate's groups. The arguments are not changed; rebase is as for Overlay.
func AsFound(defined, surveyed *Estate, knows Knows) (e *Estate, rebase func([]Peer) []Peer) {
	o := newOverlay(defined, surveyed)
	o.found = true
	o.takeAccounts(defined, surveyed)
	o.takeNetworks(defined, surveyed)
	o.is = o.identify(defined, surveyed, knows)
	o.takeLists(defined, surveyed)
	o.takeFound(defined, surveyed)
	o.takeInstances(surveyed)
	return o.out, o.peers
}

func newOverlay(defined, surveyed *Estate) *overlay {
	return &overlay{
		out: &Estate{Name: defined.Name, Title: defined.Title, Taken: surveyed.Taken, Services: defined.Services,
			Unread: surveyed.Unread, Others: surveyed.Others},
		clouds:   make(map[*Cloud]*Cloud),
		accounts: make(map[*Account]*Account),
		networks: make(map[*Network]*Network),
		subnets:  make(map[*Subnet]*Subnet),
		groups:   make(map[*Group]*Group),
		lists:    make(map[*List]*List),
		replaced: make(map[*Group]bool),
	}
}

// An overlay maps the parts of both estates to those of the result.
type overlay struct {
	out      *Estate
	notes    []string
	clouds   map[*Cloud]*Cloud
	accounts map[*Account]*Account
	networks map[*Network]*Network
	subnets  map[*Subnet]*Subnet
	groups   map[*Group]*Group
	lists    map[*List]*List
	replaced map[*Group]bool // surveyed groups for which there is a definition
	is       *identity       // which surveyed groups and lists are those of definitions
	found    bool            // this is AsFound
}

func (o *overlay) note(format string, a ...any) { o.notes = append(o.notes, fmt.Sprintf(format, a...)) }

func (o *overlay) takeAccounts(defined, surveyed *Estate) {
	clouds := make(map[string]*Cloud)
	accounts := make(map[string]*Account)
	for _, e := range []*Estate{surveyed, defined} {
		for _, c := range e.Clouds {
			if same := clouds[c.Name]; same != nil {
				if same.Dialect != c.Dialect {
					o.note("the cloud %s has the dialect %s in the survey and %s in the definitions: the survey "+
						"counts", c.Name, same.Dialect, c.Dialect)
				}
				same.Origin, same.Reach = c.Origin, c.Reach
				o.clouds[c] = same
				continue
			}
			copied := *c
			clouds[c.Name], o.clouds[c] = &copied, &copied
			o.out.Clouds = append(o.out.Clouds, &copied)
		}
		for _, a := range e.Accounts {
			if same := accounts[a.Name]; same != nil {
				same.Labels = merged(same.Labels, a.Labels)
				same.Limits = merged(same.Limits, a.Limits)
				same.Folder = cmp.Or(a.Folder, same.Folder)
				same.Region = cmp.Or(same.Region, a.Region)
				same.Origin = a.Origin
				o.accounts[a] = same
				continue
			}
			if e == defined {
				o.note("the account %s is defined and not in the survey", a.Name)
			}
			copied := *a
			copied.Cloud = o.clouds[a.Cloud]
			accounts[a.Name], o.accounts[a] = &copied, &copied
			o.out.Accounts = append(o.out.Accounts, &copied)
		}
	}
}

// merged is a, with the labels of b where both have one.
func merged[M ~map[string]V, V any](a, b M) M {
	both := make(M, len(a)+len(b))
	maps.Copy(both, a)
	maps.Copy(both, b)
	return both
}

func (o *overlay) takeNetworks(defined, surveyed *Estate) {
	at := make(map[string][]*Network) // by full name, and by account and id
	for _, n := range surveyed.Networks {
		into := o.copyNetwork(n)
		for _, s := range n.Subnets {
			o.copySubnet(s, into)
		}
		at[n.Path()] = append(at[n.Path()], n)
		if n.ID != n.Name {
			at[n.where()] = append(at[n.where()], n)
		}
	}
	for _, n := range defined.Networks {
		is, twins := best(slices.Concat(at[n.where()], at[n.Path()]),
			func(s *Network) bool { return n.ID != "" && s.ID == n.ID },
			func(s *Network) bool { return s.Name == n.Name })
		same := o.networks[is]
		switch {
		case len(twins) > 0:
			same = o.copyNetwork(n)
			same.ID, same.Twins = "", twinsOf("network", n.Name, twins, (*Network).where)
			o.note("the network %s is defined, and %s: give the id of the one that is meant", n.Path(), same.Twins)
		case same == nil:
			if surveyedAccount(surveyed, n.Account.Name) {
				o.note("the network %s is defined and not in the survey", n.Path())
			}
			same = o.copyNetwork(n)
			same.ID = ""
		default:
			o.networks[n] = same
			same.Name = n.Name
			same.Labels = merged(same.Labels, n.Labels)
			same.Origin = n.Origin
			for _, r := range n.Ranges {
				if !slices.Contains(same.Ranges, r) {
					o.note("the network %s is defined with the range %s, which it does not have in the survey",
						n.Path(), r)
				}
			}
		}
		o.placeSubnets(n, same)
	}
	// Peerings are those of the survey; the definitions' only where the survey does not have the
	// network.
	for _, e := range []*Estate{surveyed, defined} {
		for _, n := range e.Networks {
			into := o.networks[n]
			if e == defined && slices.ContainsFunc(surveyed.Networks,
				func(s *Network) bool { return o.networks[s] == into }) {
				continue
			}
			for _, p := range n.Peered {
				if other := o.networks[p]; other != nil {
					into.Peered = append(into.Peered, other)
				}
			}
		}
	}
}

func surveyedAccount(e *Estate, name string) bool {
	return slices.ContainsFunc(e.Accounts, func(a *Account) bool { return a.Name == name })
}

func (o *overlay) copyNetwork(n *Network) *Network {
	copied := *n
	copied.Account, copied.Peered, copied.Subnets = o.accounts[n.Account], nil, nil
	o.networks[n] = &copied
	o.out.Networks = append(o.out.Networks, &copied)
	return &copied
}

func (o *overlay) copySubnet(s *Subnet, into *Network) *Subnet {
	copied := *s
	copied.Network = into
	copied.Routes = slices.Clone(s.Routes)
	o.subnets[s] = &copied
	into.Subnets = append(into.Subnets, &copied)
	return &copied
}

// placeSubnets finds the subnets of a defined network, and adds those that are not there.
func (o *overlay) placeSubnets(n, into *Network) {
	there := slices.Clone(into.Subnets)
	for _, s := range n.Subnets {
		is, twins := best(there, func(x *Subnet) bool { return x.Name == s.Name })
		switch {
		case is != nil:
			o.subnets[s] = is
			continue
		case len(twins) > 0:
			t := twinsOf("subnet", s.Name, twins, (*Subnet).where)
			o.copySubnet(s, into).Twins = t
			o.note("the subnet %s is defined, and %s: it is none of them", s.Path(), t)
			continue
		case len(there) > 0:
			o.note("the subnet %s is defined and not in the survey", s.Path())
		}
		o.copySubnet(s, into)
	}
}

// takeLists takes the lists of definitions and survey. A definition replaces the surveyed list for which
// it stands in those accounts whose defined groups refer to it, since there it is carried out.
func (o *overlay) takeLists(defined, surveyed *Estate) {
	named := listsNamed(defined)
	own := make(map[string]*List)
	for _, l := range defined.Lists {
		copied := *l
		o.lists[l], own[l.Name] = &copied, &copied
		o.out.Lists = append(o.out.Lists, &copied)
	}
	for _, l := range surveyed.Lists {
		at := ListAt{l.Account.Name, l.Name}
		if same := own[l.Name]; same != nil && o.is.lists[at] == l && !o.found && named[at] {
			o.lists[l] = same
			continue
		}
		copied := *l
		copied.Account = o.accounts[l.Account]
		o.lists[l] = &copied
		o.out.Lists = append(o.out.Lists, &copied)
	}
	for _, at := range slices.SortedFunc(maps.Keys(o.is.listTwins), ListAt.compare) {
		if named[at] {
			l := own[at.Name]
			if l.TwinsIn == nil {
				l.TwinsIn = make(map[string]*Twins)
			}
			l.TwinsIn[at.Account] = o.is.listTwins[at]
			o.note("the list %s of the account %s is defined, and %s: it is none of them", at.Name, at.Account,
				o.is.listTwins[at])
		}
	}
}

// listsNamed are the lists that rules and lends of defined groups refer to, by account.
func listsNamed(defined *Estate) map[ListAt]bool {
	named := make(map[ListAt]bool)
	for _, g := range defined.Groups {
		note := func(r *Rule) {
			for _, p := range slices.Concat(r.Peers, r.Except) {
				if p.Kind == PeerList && !g.Existing {
					named[ListAt{g.Account.Name, p.List.Name}] = true
				}
			}
		}
		for i := range g.Rules {
			note(&g.Rules[i])
		}
		for i := range g.Lends {
			note(&g.Lends[i].Rule)
		}
	}
	return named
}

// A standing identifies a group in its cloud.
type standing struct {
	network *Network
	account *Account // in dialects whose groups belong to no network
	name    string
	kind    GroupKind
}

func (o *overlay) takeGroups(defined, surveyed *Estate) {
	for _, g := range defined.Groups {
		if g.Existing {
			continue
		}
		copied := o.copyGroup(g)
		if copied.Twins = o.is.twins[g]; copied.Twins != nil {
			o.note("the group %s is defined, and %s: it is none of them", g.Path(), copied.Twins)
		}
	}
	for _, g := range surveyed.Groups {
		if definition := o.is.definition[g]; definition != nil {
			same := o.groups[definition]
			same.ID, same.Default, same.BuiltIn = g.ID, g.Default, g.BuiltIn
			o.groups[g], o.replaced[g] = same, true
			continue
		}
		o.copyGroup(g)
	}
	for _, g := range defined.Groups {
		if g.Existing {
			o.takeExisting(g)
		}
	}
	o.refer()
}

// takeFound takes the surveyed groups as they are, and finds their definitions.
func (o *overlay) takeFound(defined, surveyed *Estate) {
	for _, g := range surveyed.Groups {
		o.copyGroup(g)
	}
	for _, g := range defined.Groups {
		if g.Existing {
			o.takeExisting(g)
			continue
		}
		same := o.groups[o.is.groups[g]]
		if same == nil {
			absent := *g
			absent.Account, absent.Network = o.accounts[g.Account], o.networks[g.Network]
			absent.Rules, absent.Ended, absent.Lends, absent.Absent = nil, nil, nil, true
			absent.Twins = o.is.twins[g]
			o.groups[g] = &absent
			continue
		}
		o.groups[g] = same
		same.Name, same.CloudName, same.Covers, same.DefinedAs = g.Name, same.Name, g.Covers, g.Path()
		if same.Description == "" {
			same.Description = g.Description
		}
	}
	o.refer()
}

// standing is where a surveyed group stands.
func (o *overlay) standing(g *Group) standing {
	if g.Network == nil {
		return standing{account: o.accounts[g.Account], name: g.Name, kind: g.For}
	}
	return standing{network: o.networks[g.Network], name: g.Name, kind: g.For}
}

// refer replaces references to groups by those of the result, when all of these are known.
func (o *overlay) refer() {
	for _, g := range o.out.Groups {
		g.Rules, g.Ended, g.Lends = slices.Clone(g.Rules), slices.Clone(g.Ended), slices.Clone(g.Lends)
		for _, rules := range [][]Rule{g.Rules, g.Ended} {
			for i := range rules {
				rules[i].Peers = o.peers(rules[i].Peers)
				rules[i].Except = o.peers(rules[i].Except)
			}
		}
		for i := range g.Lends {
			g.Lends[i].Peers = o.peers(g.Lends[i].Peers)
			g.Lends[i].Except = o.peers(g.Lends[i].Except)
		}
	}
	for _, n := range o.out.Networks {
		for _, s := range n.Subnets {
			for i, r := range s.Routes {
				if r.Network != nil {
					s.Routes[i].Network = o.networks[r.Network]
				}
			}
			var kept []*Group
			for _, g := range s.Groups {
				if !o.replaced[g] { // its definition says what it is attached to
					kept = append(kept, o.groups[g])
				}
			}
			s.Groups = kept
		}
	}
}

// takeExisting takes the surveyed group for an "existing" statement.
func (o *overlay) takeExisting(g *Group) {
	if is := o.is.existing[g]; is != nil {
		o.groups[g] = o.groups[is]
		o.groups[is].Named = true
		return
	}
	if twins := o.is.twins[g]; twins != nil {
		o.note("the group %s is said to exist as %q, and %s: name one by its id", g.Path(), g.CloudName, twins)
	} else {
		o.note("the group %s is said to exist as %q, and the survey has none of that name or id", g.Path(),
			g.CloudName)
	}
	o.copyGroup(g).Twins = o.is.twins[g]
}

func (o *overlay) copyGroup(g *Group) *Group {
	copied := *g
	copied.Account = o.accounts[g.Account]
	copied.Network = o.networks[g.Network]
	o.groups[g] = &copied
	o.out.Groups = append(o.out.Groups, &copied)
	return &copied
}

func (o *overlay) peers(peers []Peer) []Peer {
	mapped := slices.Clone(peers)
	for i := range mapped {
		p := &mapped[i]
		switch p.Kind {
		case PeerGroup:
			if p.Group = o.groups[p.Group]; p.Group == nil { // of a part of the estate that is left out
				p.Kind, p.Missing = PeerMissing, peers[i].String()
			}
		case PeerList:
			if p.List = o.lists[p.List]; p.List == nil {
				p.Kind, p.Missing = PeerMissing, peers[i].String()
			}
		case PeerNetwork:
			if p.Network != nil && o.networks[p.Network] == nil {
				p.Kind, p.Missing = PeerMissing, peers[i].String()
			}
			p.Network = o.networks[p.Network]
		case PeerSubnet:
			if p.Subnet = o.subnets[p.Subnet]; p.Subnet == nil {
				p.Kind, p.Missing = PeerMissing, peers[i].String()
			}
		}
		if p.Without != nil {
			without := o.peers(*p.Without)
			p.Without = &without
		}
	}
	return mapped
}

func (o *overlay) takeInstances(surveyed *Estate) {
	instances := make(map[*Instance]*Instance, len(surveyed.Instances))
	for _, i := range surveyed.Instances {
		copied := *i
		copied.Account = o.accounts[i.Account]
		copied.Interfaces = nil
		for _, f := range i.Interfaces {
			face := *f
			face.Instance, face.Subnet, face.Groups = &copied, o.subnets[f.Subnet], nil
			for _, g := range f.Groups {
				if !o.replaced[g] { // its definition says what it is attached to
					face.Groups = append(face.Groups, o.groups[g])
				}
			}
			copied.Interfaces = append(copied.Interfaces, &face)
		}
		instances[i] = &copied
		o.out.Instances = append(o.out.Instances, &copied)
	}
	for _, i := range o.out.Instances {
		i.Listeners = slices.Clone(i.Listeners)
		for k, l := range i.Listeners {
			targets := make([]*Instance, len(l.Targets))
			for t, target := range l.Targets {
				targets[t] = instances[target]
			}
			i.Listeners[k].Targets = targets
		}
	}
}

// attach attaches the defined groups to what they cover.
func (o *overlay) attach() {
	byNetwork := make(map[*Network][]*Interface)
	for _, i := range o.out.Instances {
		for _, f := range i.Interfaces {
			byNetwork[f.Subnet.Network] = append(byNetwork[f.Subnet.Network], f)
		}
	}
	for _, g := range o.out.Groups {
		if !g.Defined || g.Existing {
			continue
		}
		if g.For == ForSubnets {
			for _, s := range g.Network.Subnets {
				if g.CoversSubnet(s) && !slices.Contains(s.Groups, g) {
					s.Groups = append(withoutDefault(s.Groups), g)
				}
			}
			continue
		}
		for _, f := range byNetwork[g.Network] {
			if g.CoversInterface(f) && !slices.Contains(f.Groups, g) {
				f.Groups = append(withoutDefault(f.Groups), g)
			}
		}
	}
}

// withoutDefault are groups without the default one of their network, which any defined group
// replaces. It stays if definitions name it as existing.
func withoutDefault(groups []*Group) []*Group {
	return slices.DeleteFunc(slices.Clone(groups),
		func(g *Group) bool { return g.Default && !g.Defined && !g.Named })
}

// CoversInterface reports whether a defined group is to be attached to an interface of its network.
func (g *Group) CoversInterface(f *Interface) bool {
	return slices.ContainsFunc(g.Covers, func(c Cover) bool {
		return c.Where != nil && c.Where.Holds(InterfacePlace(f)) ||
			slices.Contains(c.Instances, f.Instance.Name) || slices.Contains(c.Instances, f.Instance.ID)
	})
}

// CanCover is CoversSubnet as far as a definition alone can tell: subnets may have any labels.
func (g *Group) CanCover(s *Subnet) bool {
	place := Place{Subnet: s, Network: s.Network, Account: s.Network.Account}
	return g.CoversSubnet(s) ||
		slices.ContainsFunc(g.Covers, func(c Cover) bool { return c.Where != nil && c.Where.CanHold(place) })
}

// CanStandIn reports whether an instance that a defined group covers can be in a subnet of its
// network, as far as the definition alone can tell: instances may have any labels and names.
func (g *Group) CanStandIn(s *Subnet) bool {
	place := Place{Subnet: s, Network: s.Network, Account: s.Network.Account}
	return len(g.Covers) == 0 || slices.ContainsFunc(g.Covers, func(c Cover) bool {
		return len(c.Instances) > 0 || c.Where != nil && c.Where.CanHold(place)
	})
}

// CoversSubnet reports whether a defined group is to be attached to a subnet of its network.
func (g *Group) CoversSubnet(s *Subnet) bool {
	return slices.ContainsFunc(g.Covers, func(c Cover) bool {
		return c.Where != nil && c.Where.Holds(Place{Subnet: s, Network: s.Network, Account: s.Network.Account}) ||
			slices.Contains(c.Subnets, s.Name) || s.ID != "" && slices.Contains(c.Subnets, s.ID)
	})
}

// A placed address is an address in a network: other networks may have the same one.
type placed struct {
	network *Network
	addr    netip.Addr
}

// Imagine adds a made-up member to each defined instance group that is attached to nothing, in each
// subnet where an instance of it could be, so that questions about the group can be answered. It
// returns those groups. The estate is changed.
func (e *Estate) Imagine() []*Group {
	attached := make(map[*Group]bool)
	taken := make(map[placed]bool)
	whole := make(map[*Network][]*Subnet)
	next := make(map[*Subnet][]netip.Addr) // by subnet and range: the next address that may be free
	for _, i := range e.Instances {
		for _, f := range i.Interfaces {
			for _, a := range f.Private {
				taken[placed{f.Subnet.Network, a}] = true
			}
			for _, g := range f.Groups {
				attached[g] = true
			}
		}
	}
	var imagined []*Group
	for _, g := range e.Groups {
		if !g.Defined && !g.Ours() || attached[g] || g.For != ForInstances || len(g.Covers) == 0 || g.Network == nil {
			continue
		}
		imagined = append(imagined, g)
		if whole[g.Network] == nil {
			whole[g.Network] = subnetsToImagine(g.Network)
		}
		for _, s := range whole[g.Network] {
			i := &Instance{Account: g.Account, Name: "a member of " + g.Name, Kind: Machine, Imagined: true}
			f := &Interface{Instance: i, Subnet: s, Groups: []*Group{g}}
			if next[s] == nil {
				for _, r := range s.Ranges {
					next[s] = append(next[s], r.Addr().Next())
				}
			}
			for k, r := range s.Ranges {
				a := next[s][k]
				for taken[placed{s.Network, a}] {
					a = a.Next()
				}
				if next[s][k] = a; r.Contains(a) { // a full subnet gets no made-up member
					taken[placed{s.Network, a}] = true
					f.Private = append(f.Private, a)
				}
			}
			if len(f.Private) > 0 {
				i.Interfaces = append(i.Interfaces, f)
				e.Instances = append(e.Instances, i)
			}
		}
	}
	return imagined
}

// subnetsToImagine are the subnets of a network that have ranges, or a made-up one if the network
// has none.
func subnetsToImagine(n *Network) []*Subnet {
	var subnets []*Subnet
	for _, s := range n.Subnets {
		if len(s.Ranges) > 0 {
			subnets = append(subnets, s)
		}
	}
	if len(subnets) == 0 {
		subnets = []*Subnet{{Network: n, Name: n.Name, Ranges: n.Ranges}}
	}
	return subnets
}
