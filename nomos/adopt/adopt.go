// Package adopt writes definitions of surveyed groups, with names for identifiers, reasons from
// descriptions, and lists for repeated ranges. The definitions let through the same; a group for
// which that is impossible is left as it is, as an existing group.
package adopt

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
)

// A Text is the definitions of one account.
type Text struct {
	Account string
	Text    string
}

// A Left is a group that gets no definition, and why.
type Left struct {
	Group *estate.Group
	Why   string
}

// repeated is the number of groups in which a range must occur to become a list, and the number of
// rules in which an unnamed port must occur to get a name.
const repeated = 3

// A writer writes definitions of some groups of an estate.
type writer struct {
	e        *estate.Estate
	d        *decide.Decider
	rules    func(*estate.Group) []estate.Rule
	chosen   map[*estate.Group]bool
	existing map[*estate.Group]string // groups that stay as they are, and why
	texts    map[string]*strings.Builder
	names    map[*estate.Group]string
	lists    map[*estate.List]string
	ranges   map[netip.Prefix]string // by range: the list that was made for it
	services service.Names
	public   bool            // the list of public addresses has been written
	common   strings.Builder // what belongs to no account: lists, services
}

// Write writes definitions of groups, and of the clouds, accounts, networks and lists that they
// need and that are not defined yet. The function rules gives a group's rules: its own, or those
// that it is to have. Groups in existing are only referred to. There is one text for each account,
// in their order; the first also contains what belongs to all. names are the groups' names in the
// definitions.
func Write(e *estate.Estate, groups []*estate.Group, rules func(*estate.Group) []estate.Rule,
	existing map[*estate.Group]string) (texts []Text, names map[*estate.Group]string) {
	w := writer{e: e, d: decide.New(e), rules: rules, chosen: make(map[*estate.Group]bool), existing: existing,
		texts: make(map[string]*strings.Builder),
		names: make(map[*estate.Group]string), lists: make(map[*estate.List]string),
		ranges: make(map[netip.Prefix]string), services: e.Services}
	for _, g := range groups {
		w.chosen[g] = existing[g] == ""
	}
	w.nameGroups()
	w.nameServices(groups)
	w.nameRanges(groups)
	w.nameLists(groups)
	why := w.toName(groups)
	places := slices.Clone(groups)
	for _, g := range e.Groups {
		if why[g] != "" && existing[g] == "" {
			places = append(places, g)
		}
	}
	w.places(places)
	for _, g := range e.Groups {
		if why := why[g]; why != "" {
			fmt.Fprintf(w.of(g.Account), "\n# %s\ngroup %s%s in %s existing %s\n", oneLine(why), w.names[g],
				kindWords(g), networkOf(w.d, g).Path(), Quote(cmp.Or(g.ID, g.InCloud())))
		} else if w.chosen[g] {
			w.group(g)
		}
	}
	for _, a := range e.Accounts {
		if b := w.texts[a.Name]; b != nil {
			text := strings.TrimLeft(b.String(), "\n")
			if len(texts) == 0 && w.common.Len() > 0 {
				text = strings.TrimLeft(w.common.String(), "\n") + "\n" + text
			}
			texts = append(texts, Text{a.Name, text})
		}
	}
	return texts, w.names
}

// toName says which groups are written as existing ones, and why: those that stay as they are, those
// that rules of the written groups name, and default groups that are attached beside written ones,
// which would replace them.
func (w *writer) toName(groups []*estate.Group) map[*estate.Group]string {
	why := maps.Clone(w.existing)
	if why == nil {
		why = make(map[*estate.Group]string)
	}
	note := func(g *estate.Group, reason string) {
		if !g.Defined && !w.chosen[g] && why[g] == "" && networkOf(w.d, g) != nil {
			why[g] = reason
		}
	}
	for _, g := range groups {
		if !w.chosen[g] {
			continue
		}
		for _, r := range w.rules(g) {
			for _, p := range slices.Concat(r.Peers, r.Except) {
				if p.Kind == estate.PeerGroup {
					note(p.Group, "named by rules of the groups that are defined")
				}
			}
		}
		for _, i := range w.d.InterfacesOf(g) {
			for _, beside := range i.Groups {
				if beside.Default && beside.For == estate.ForInstances && !beside.Named {
					note(beside, keptBeside)
				}
			}
		}
		if g.For != estate.ForSubnets || g.Network == nil {
			continue
		}
		for _, s := range g.Network.Subnets {
			if !slices.Contains(s.Groups, g) {
				continue
			}
			for _, beside := range s.Groups {
				if beside.Default && !beside.Named {
					note(beside, keptBeside)
				}
			}
		}
	}
	return why
}

// keptBeside is why a default group is written as an existing one.
const keptBeside = "attached beside groups that are defined; without this they replace it"

// Possible says why a group can't be defined as it is. It is empty if it can be tried.
func Possible(d *decide.Decider, g *estate.Group) string {
	n := networkOf(d, g)
	switch {
	case g.Defined:
		return "it is defined already"
	case !IsName(g.Account.Name):
		return fmt.Sprintf("the account's name %q can't stand in definitions", g.Account.Name)
	case g.Network == nil && decide.Dialect(g.Account).GroupsAcross != dialect.WholeCloud:
		return "the survey does not say which network it belongs to"
	case n == nil:
		return "it is attached to no instance, so there is no network to define it in"
	case !IsName(n.Name):
		return fmt.Sprintf("the network's name %q can't stand in definitions", n.Name)
	case decide.Filter(g).State == dialect.StateNone || decide.Filter(g).State == dialect.StateByGroup && g.Stateless:
		return "it keeps no state: a definition lets answers back by itself, which would not be the same"
	}
	return ""
}

// networkOf is the network of a group: its own, or in clouds whose groups belong to no network the
// one in which it is attached.
func networkOf(d *decide.Decider, g *estate.Group) *estate.Network {
	if g.Network != nil {
		return g.Network
	}
	for _, i := range d.InterfacesOf(g) {
		return i.Subnet.Network
	}
	return nil
}

func (w *writer) of(a *estate.Account) *strings.Builder {
	b := w.texts[a.Name]
	if b == nil {
		b = new(strings.Builder)
		w.texts[a.Name] = b
	}
	return b
}

// nameGroups gives every group a name that definitions can contain, its own if possible, and unique
// in its network.
func (w *writer) nameGroups() {
	taken := make(map[string]bool)
	for _, g := range w.e.Groups {
		if g.Defined {
			w.names[g] = g.Name
			taken[g.Path()] = true
		}
	}
	for _, g := range w.e.Groups {
		if g.Defined {
			continue
		}
		place := g.Account.Name
		if n := networkOf(w.d, g); n != nil {
			place = n.Path()
		}
		name := Name(g.Name)
		for k := 2; taken[place+"/"+name]; k++ {
			name = fmt.Sprintf("%s-%d", Name(g.Name), k)
		}
		taken[place+"/"+name] = true
		w.names[g] = name
	}
}

// nameServices gives a name to each unnamed port that several rules use, after the group that
// serves it.
func (w *writer) nameServices(groups []*estate.Group) {
	type use struct {
		spec  service.Spec
		rules int
		by    string
	}
	var uses []use
	for _, g := range groups {
		for _, r := range w.rules(g) {
			for _, spec := range r.Services {
				if spec.Any || spec.From != spec.To || !service.HasPorts(spec.Protocol) ||
					w.services.Describe(service.Of(spec)) != spec.String() {
					continue
				}
				i := slices.IndexFunc(uses, func(u use) bool { return u.spec == spec })
				if i < 0 {
					i, uses = len(uses), append(uses, use{spec: spec})
				}
				uses[i].rules++
				if uses[i].by == "" && r.Direction == estate.In && w.chosen[g] {
					uses[i].by = w.names[g]
				}
			}
		}
	}
	for _, u := range uses {
		if u.rules < repeated || u.by == "" {
			continue
		}
		name := fmt.Sprintf("%s-%d", u.by, u.spec.From)
		if _, known := w.services.Lookup(name); known {
			continue
		}
		w.services = w.services.With(service.Named{Name: name, Specs: []service.Spec{u.spec}})
		fmt.Fprintf(&w.common, "\nservice %s = %s\n", name, u.spec)
	}
}

// nameRanges makes lists of ranges that occur in several groups.
func (w *writer) nameRanges(groups []*estate.Group) {
	in := make(map[netip.Prefix]map[*estate.Group]bool)
	for _, g := range groups {
		if !w.chosen[g] {
			continue
		}
		for _, r := range w.rules(g) {
			for _, p := range r.Peers {
				if p.Kind != estate.PeerRange || p.Range.Bits() == 0 {
					continue
				}
				if in[p.Range] == nil {
					in[p.Range] = make(map[*estate.Group]bool)
				}
				in[p.Range][g] = true
			}
		}
	}
	ranges := slices.SortedFunc(maps.Keys(in), func(a, b netip.Prefix) int {
		return cmp.Or(a.Addr().Compare(b.Addr()), cmp.Compare(a.Bits(), b.Bits()))
	})
	taken := make(map[string]bool)
	for _, l := range w.e.Lists {
		taken[l.Name] = true
	}
	ranges = slices.DeleteFunc(ranges, func(r netip.Prefix) bool { return len(in[r]) < repeated })
	for _, together := range Together(ranges, func(a, b netip.Prefix) bool { return maps.Equal(in[a], in[b]) }) {
		r := together[0]
		name := SharedName(w.e, together, taken)
		taken[name] = true
		fmt.Fprintf(&w.common, "\n# these stood in %s\nlist %s {\n", count.Of(len(in[r]), "group", "groups"), name)
		for _, p := range together {
			w.ranges[p] = name
			fmt.Fprintf(&w.common, "  %s\n", addr.PrefixString(p))
		}
		w.common.WriteString("}\n")
	}
}

// Together divides ranges into those that occur in the same groups: each part can become one list.
func Together(ranges []netip.Prefix, same func(a, b netip.Prefix) bool) [][]netip.Prefix {
	var parts [][]netip.Prefix
	for _, r := range ranges {
		i := slices.IndexFunc(parts, func(part []netip.Prefix) bool { return same(part[0], r) })
		if i < 0 {
			i, parts = len(parts), append(parts, nil)
		}
		parts[i] = append(parts[i], r)
	}
	return parts
}

// SharedName makes an unused name for a list of addresses that several groups share. It says what has these addresses:
// by the labels or the names of the instances, or the subnet or network of that range; else it is numbered. Words of a
// description are no name.
func SharedName(e *estate.Estate, ranges []netip.Prefix, taken map[string]bool) string {
	base := whatHas(e, ranges)
	for k := 1; ; k++ {
		name := fmt.Sprintf("%s-%d", base, k)
		if k == 1 && base != unnamedAddresses {
			name = base
		}
		if !taken[name] {
			return name
		}
	}
}

// unnamedAddresses begins the names of lists of which nobody knows whose addresses they have.
const unnamedAddresses = "addresses"

// whatHas is a name for what has some addresses in a survey.
func whatHas(e *estate.Estate, ranges []netip.Prefix) string {
	if len(ranges) == 1 {
		for _, n := range e.Networks {
			if slices.Contains(n.Ranges, ranges[0]) {
				return Name(n.Name)
			}
			for _, s := range n.Subnets {
				if slices.Contains(s.Ranges, ranges[0]) {
					return Name(s.Name)
				}
			}
		}
	}
	var has []*estate.Instance
	for _, r := range ranges {
		if !r.IsSingleIP() {
			return unnamedAddresses
		}
		at := len(has)
		for _, i := range e.Instances {
			for _, f := range i.Interfaces {
				if slices.Contains(f.Private, r.Addr()) || slices.Contains(f.Public, r.Addr()) {
					has = append(has, i)
				}
			}
		}
		if len(has) == at {
			return unnamedAddresses
		}
	}
	for _, key := range preferredLabels {
		value := has[0].Labels[key]
		if value != "" && !slices.ContainsFunc(has, func(i *estate.Instance) bool { return i.Labels[key] != value }) {
			return Name(value)
		}
	}
	if !slices.ContainsFunc(has, func(i *estate.Instance) bool { return i != has[0] }) {
		return Name(has[0].Name)
	}
	return unnamedAddresses
}

// nameLists declares the lists that rules refer to and that are not defined. Lists of one name with
// different entries in several accounts become one list with parts.
func (w *writer) nameLists(groups []*estate.Group) {
	var order []string
	byName := make(map[string][]*estate.List)
	taken := make(map[string]bool)
	for _, l := range w.e.Lists {
		if l.Defined {
			taken[l.Name] = true
			w.lists[l] = l.Name
		}
	}
	for _, g := range groups {
		for _, r := range w.rules(g) {
			for _, p := range r.Peers {
				if p.Kind != estate.PeerList || p.List.Defined || !w.chosen[g] || w.lists[p.List] != "" {
					continue
				}
				name := Name(p.List.Name)
				if p.List.Owner == "published" {
					name += "-" + Name(p.List.Account.Cloud.Name)
				}
				if taken[name] {
					name += "-surveyed"
				}
				w.lists[p.List] = name
				if byName[name] == nil {
					order = append(order, name)
				}
				byName[name] = append(byName[name], p.List)
			}
		}
	}
	slices.Sort(order)
	for _, name := range order {
		same := byName[name]
		w.common.WriteString("\n" + list(name, same) + "\n")
	}
}

// Declaration declares a surveyed list under a name.
func Declaration(name string, l *estate.List) string { return list(name, []*estate.List{l}) }

func list(name string, of []*estate.List) string {
	var b strings.Builder
	first := of[0]
	fmt.Fprintf(&b, "list %s", name)
	if first.Description != "" {
		b.WriteString(" " + Quote(oneLine(first.Description)))
	}
	b.WriteString(" {\n")
	entries := func(l *estate.List, indent string) {
		for _, e := range l.Entries {
			note := ""
			if e.Note != "" {
				note = " " + Quote(oneLine(e.Note))
			}
			fmt.Fprintf(&b, "%s%s%s\n", indent, addr.PrefixString(e.Range), note)
		}
	}
	room := 0
	for _, l := range of {
		room = max(room, l.Capacity)
	}
	equal := func(a, b *estate.List) bool {
		return slices.EqualFunc(a.Entries, b.Entries, func(x, y estate.Entry) bool { return x.Range == y.Range })
	}
	switch {
	case first.Owner == "published":
		fmt.Fprintf(&b, "  published %s on %s\n", Quote(first.Name), first.Account.Cloud.Name)
		room = 0
	case !slices.ContainsFunc(of, func(l *estate.List) bool { return !equal(first, l) }):
		entries(first, "  ")
	default:
		for _, l := range of {
			fmt.Fprintf(&b, "  where account = %s {\n", word(l.Account.Name))
			entries(l, "    ")
			b.WriteString("  }\n")
		}
	}
	if room > 0 {
		fmt.Fprintf(&b, "  room %d\n", room)
	}
	b.WriteString("}")
	return b.String()
}

// places declares the clouds, accounts and networks of groups that are not defined.
func (w *writer) places(groups []*estate.Group) {
	there := make(map[*estate.Network]bool) // networks that are defined, or will be
	for _, n := range w.e.Networks {
		there[n] = definedIn(n.Origin)
	}
	for _, g := range groups {
		there[networkOf(w.d, g)] = true
	}
	clouds, accounts, networks := make(map[*estate.Cloud]bool), make(map[*estate.Account]bool),
		make(map[*estate.Network]bool)
	for _, g := range groups {
		a, n := g.Account, networkOf(w.d, g)
		if c := a.Cloud; !clouds[c] {
			clouds[c] = true
			if c.Origin.File == "" || !definedIn(c.Origin) {
				fmt.Fprintf(&w.common, "\ncloud %s {\n  dialect %s\n}\n", Name(c.Name), c.Dialect)
			}
		}
		out := w.of(a)
		if !accounts[a] {
			accounts[a] = true
			if !definedIn(a.Origin) {
				w.account(out, a)
			}
		}
		if n != nil && !networks[n] {
			networks[n] = true
			if !definedIn(n.Origin) {
				w.network(out, n, there)
			}
		}
	}
}

// definedIn reports whether an origin is in a definition file.
func definedIn(o estate.Origin) bool { return strings.HasSuffix(o.File, ".nomos") }

func (w *writer) account(out *strings.Builder, a *estate.Account) {
	fmt.Fprintf(out, "\naccount %s {\n  cloud %s\n", a.Name, Name(a.Cloud.Name))
	if a.ID != "" {
		fmt.Fprintf(out, "  id %s\n", Quote(a.ID))
	}
	if a.Region != "" {
		fmt.Fprintf(out, "  region %s\n", word(a.Region))
	}
	if a.Folder != "" {
		fmt.Fprintf(out, "  folder %s\n", folder(a.Folder))
	}
	out.WriteString(labels("label", a.Labels))
	for _, k := range sortedKeys(a.Limits) {
		fmt.Fprintf(out, "  limit %s = %d\n", word(k), a.Limits[k])
	}
	out.WriteString("}\n")
}

// folder writes a path: as it is if each part can be a name, else quoted.
func folder(path string) string {
	for part := range strings.SplitSeq(path, "/") {
		if !IsName(part) {
			return Quote(path)
		}
	}
	return path
}

// network writes a network; peerings are those with networks that are declared.
func (w *writer) network(out *strings.Builder, n *estate.Network, there map[*estate.Network]bool) {
	fmt.Fprintf(out, "\nnetwork %s in %s {\n", n.Name, n.Account.Name)
	if n.ID != "" {
		fmt.Fprintf(out, "  id %s\n", Quote(n.ID))
	}
	if len(n.Ranges) > 0 {
		fmt.Fprintf(out, "  range %s\n", rangeTexts(n.Ranges))
	}
	for _, s := range n.Subnets {
		fmt.Fprintf(out, "  subnet %s %s\n", word(s.Name), rangeTexts(s.Ranges))
	}
	var peered []string
	for _, p := range n.Peered {
		if p != nil && there[p] {
			peered = append(peered, p.Path())
		}
	}
	if len(peered) > 0 {
		fmt.Fprintf(out, "  peered %s\n", strings.Join(peered, ", "))
	}
	if n.Answers.To > 0 {
		fmt.Fprintf(out, "  answers %d-%d\n", n.Answers.From, n.Answers.To)
	}
	out.WriteString(labels("label", n.Labels))
	out.WriteString("}\n")
}

func kindWords(g *estate.Group) string {
	if g.For == estate.ForSubnets {
		return " for subnets"
	}
	return ""
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }
