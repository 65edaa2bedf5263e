package audit

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"isonomos/core/addr"
	"isonomos/core/compile"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/pass"
	"isonomos/core/service"
)

// What makes groups hard to maintain: dangling references, missing descriptions, leftovers, quotas
// that run out.

var undeclaredAddresses = Check{
	place: 230,
	Name:  "undeclared-addresses",
	About: "a rule names public addresses that are in no list",
	Start: Low,
	Doc: `An admitting rule names public addresses that are in no prefix list and on no instance of the
estate: nobody can tell whose they are, or whether they still are. Ranges that are open by
themselves are told by other checks; built-in rules are left out.`,
	Example:  "admit ssh from 198.51.100.7",
	Fix:      inWords("Put them into a list with a note: list pilot-stations { 198.51.100.7 \"night desk\" }."),
	Controls: controlsOfUpkeep,
	gather:   true,
	sentence: "%q names public addresses that are in no list",
	spelling: true,
	many:     "%s of %s rules name public addresses that are in no list",
	group: func(l *look) []Finding {
		var found []Finding
		for i := range l.rules {
			r := &l.rules[i]
			if r.four+r.six == 0 || r.Action != estate.Admit || r.BuiltIn {
				continue
			}
			var ranges []netip.Prefix
			for _, p := range r.Peers {
				if p.Kind == estate.PeerRange {
					ranges = append(ranges, p.Range)
				}
			}
			literal := addr.OfPrefixes(ranges...)
			if four, six := l.d.StrangersAmong(literal); four+six == 0 || l.isOpen(literal) {
				continue
			}
			found = append(found, Finding{Direction: r.Direction, Rules: []*estate.Rule{r.Rule}, Services: r.services,
				Peers: r.peers, Fix: inWords("put the addresses into a list that says whose they are")})
		}
		return found
	},
}

func init() { register(undeclaredAddresses) }

var staticAddress = Check{
	place: 240,
	Name:  "static-address",
	About: "a rule names instances of the estate by their addresses",
	Start: Low,
	Doc: `A rule names single addresses that instances of the estate have: any public one, and private ones of
the group's network, of peered networks and, in a cloud without networks for groups, of its cloud. When
the instance is replaced the rule is wrong, and whoever gets the address next is let in.`,
	Example:  "admit postgres from 10.20.1.7",
	Fix:      inWords("Name the group attached to the instance."),
	Controls: controlsOfUpkeep,
	gather:   true,
	spelling: true,
	many:     "%s of %s rules name instances of the estate by their addresses",
	group: func(l *look) []Finding {
		var found []Finding
		for i := range l.rules {
			r := &l.rules[i]
			if r.BuiltIn || r.Named {
				continue
			}
			var names []string
			for _, p := range r.Peers {
				if p.Kind != estate.PeerRange || !p.Range.IsSingleIP() {
					continue
				}
				if at := l.owner(p.Range.Addr()); at != nil {
					names = append(names, at.Instance.Name)
				}
			}
			if len(names) > 0 {
				found = append(found, Finding{Direction: r.Direction, Rules: []*estate.Rule{r.Rule},
					Services: r.services, Peers: r.peers,
					Fix: inWords("name the group attached to them, not their addresses"),
					Message: fmt.Sprintf("%q names %s by address", r.Sentence(l.estate.Services),
						count.Some(names, 6))})
			}
		}
		return found
	},
}

func init() { register(staticAddress) }

// owner is the interface that a rule of the group means by an address, or nil. A private address is
// looked for in the group's network and its peers.
func (l *look) owner(a netip.Addr) *estate.Interface {
	for _, i := range l.d.At(a) {
		n := i.Subnet.Network
		if !a.IsPrivate() || n == l.group.Network || l.group.Network != nil && n.PeeredWith(l.group.Network) ||
			l.group.Network == nil && i.Instance.Account.Cloud == l.group.Account.Cloud {
			return i
		}
	}
	return nil
}

var catchAllSelf = Check{
	place: 250,
	Name:  "catch-all-self",
	About: "the members of a group reach each other on everything",
	Start: Low,
	Doc: `A rule lets the members of a group reach each other on every protocol. Whoever takes over one of
them can attack all. Built-in default groups have such a rule from the start; the check
default-group tells of that.`,
	Example:  "admit any from self",
	Fix:      inWords("Name the services that members use among themselves: admit berth-db from self."),
	Controls: controlsOfParting,
	group: func(l *look) []Finding {
		if l.group.Default {
			return nil // new instances start that way; the check default-group tells of it
		}
		var found []Finding
		for i := range l.rules {
			r := &l.rules[i]
			if r.Direction == estate.In && !r.BuiltIn && r.services.Equal(service.All) && l.letsThrough(r) &&
				slices.ContainsFunc(r.Peers, func(p estate.Peer) bool { return p.Kind == estate.PeerSelf }) {
				found = append(found, Finding{Direction: estate.In, Rules: []*estate.Rule{r.Rule},
					Services: r.services, Peers: r.peers, Fix: l.narrowing(), Narrow: narrowable(l.group),
					Message: "the members of the group reach each other on everything"})
			}
		}
		return found
	},
}

func init() { register(catchAllSelf) }

var dangling = Check{
	place: 170,
	Name:  "dangling",
	About: "a rule refers to what is not there, or not reachable from here",
	Start: Medium,
	Doc: `A rule refers to a group or list that is not there, or to a group whose members it can't mean: in a
cloud where rules name groups of peered networks one whose network is not peered both ways, elsewhere
one of another network or cloud. It holds nobody.`,
	Example:  "admit ssh from group that was deleted",
	Fix:      inWords("Delete the rule, or name what has taken its place."),
	Controls: controlsOfUpkeep,
	group: func(l *look) []Finding {
		var found []Finding
		for i := range l.rules {
			r := &l.rules[i]
			for _, p := range r.Peers {
				f := Finding{Direction: r.Direction, Rules: []*estate.Rule{r.Rule}, Services: r.services,
					Fix: inWords("delete the rule, or name what has taken its place")}
				switch {
				case p.Kind == estate.PeerMissing:
					kind, _, _ := strings.Cut(p.Missing, ":")
					f.Message = fmt.Sprintf("%q refers to a %s that does not exist", r.Sentence(l.estate.Services),
						kind)
				case p.Kind == estate.PeerGroup && !l.d.CanName(l.group, p.Group):
					f.Message = fmt.Sprintf("%q refers to %s, whose members it can't mean from here",
						r.Sentence(l.estate.Services), p.Group.Path())
				default:
					continue
				}
				found = append(found, f)
				break
			}
		}
		return found
	},
}

func init() { register(dangling) }

var defaultGroup = Check{
	place: 150,
	Name:  "default-group",
	About: "a built-in default group is attached, or lets anything in",
	Start: Medium,
	Moves: "one down where it is attached to nothing",
	Doc: `The group that a network has built in is attached to instances, mostly because nobody gave them one; or that
group lets anything in, so that the next forgotten instance is open to it. Default groups around
subnets count only where they let in by themselves.`,
	Example: "an instance without a group in a network whose default group lets all members talk",
	Fix: inWords("Adopt the default group and take its rules out; define a group for what each instance does: " +
		"carrying it out takes the default one off."),
	Controls: controlsOfParting,
	group: func(l *look) []Finding {
		g := l.group
		if !g.Default || g.For == estate.ForSubnets && decide.Dialect(g.Account).Layers == dialect.BothMustAdmit {
			return nil
		}
		f := Finding{part: true}
		lets := false
		for i := range l.rules {
			if r := &l.rules[i]; r.Action == estate.Admit {
				f.Rules = append(f.Rules, r.Rule)
				lets = lets || r.Direction == estate.In
			}
		}
		f.Instances = l.d.InterfacesOf(g)
		switch {
		case len(f.Instances) > 0:
			f.Message = "the built-in default group is attached to " + interfaceWords(f.Instances)
		case lets:
			f.Message = "the built-in default group lets something in: an instance that nobody gives a group is " +
				"open to it"
			f.Arrival, f.WhyNot = Nowhere, "attached to no instance"
		default:
			return nil
		}
		f.Fix = emptied(g, len(f.Rules) > 0, len(f.Instances) > 0)
		if g.For == estate.ForSubnets {
			f.Message = "subnets without a list of their own have the built-in one"
			f.Fix = inWords("give every subnet a list for what its instances do")
		}
		return []Finding{f}
	},
}

func init() { register(defaultGroup) }

// emptied is the remedy for a default group of instances: its rules go, and where it is attached, defined groups
// replace it.
func emptied(g *estate.Group, hasRules, attached bool) Remedy {
	const replaced = "define a group for what they do: carrying it out takes this one off"
	switch {
	case !hasRules:
		return inWords(replaced)
	case !attached && (g.Defined || g.Ours() || g.Network != nil):
		return edited(g, "take its rules out")
	case !attached:
		return inWords("delete its rules")
	}
	return edited(g, "take its rules out; "+replaced)
}

// A description is what the description of a group or rule says.
type description struct {
	says  bool      // it tells a reader something
	until time.Time // the end that it names, or zero
}

// machineMade matches descriptions that tell nothing: those that programs write, and placeholders.
var machineMade = regexp.MustCompile(
	`(?i)^(created|generated|added|managed|made) (by|on|at|from)\b` +
		`|^(auto(matic(ally)?)?|default|description|test|todo|tbd|none|n/a|-+|[0-9a-f-]{8,})\b[ -]*$`)

// endsOn matches a date that a description gives as its rule's end.
var endsOn = regexp.MustCompile(`(?i)\buntil (\d{4}-\d{2}-\d{2})\b`)

func (w *worker) describedBy(text string) description {
	d, ok := w.words[text]
	if !ok {
		trimmed := strings.TrimSpace(text)
		d.says = trimmed != "" && !machineMade.MatchString(trimmed)
		if m := endsOn.FindStringSubmatch(text); m != nil {
			if day, err := time.Parse(time.DateOnly, m[1]); err == nil {
				d.until = day.AddDate(0, 0, 1) // the named day is the last one
			}
		}
		w.words[text] = d
	}
	return d
}

func (w *worker) says(text, groupName string) bool {
	return w.describedBy(text).says && !strings.EqualFold(strings.TrimSpace(text), groupName)
}

var unexplained = Check{
	place: 280,
	Name:  "unexplained",
	About: "a group or rule does not say what it is for",
	Start: Info,
	Doc: `A group without a description can't be found again in a long list, and a rule without a reason can't
be judged later. Descriptions that a machine wrote, that stand in for one, or that repeat the group's
name, count as none. Built-in groups and rules need none.`,
	Example:  "admit ssh from list pilot-stations",
	Fix:      inWords("admit ssh from list pilot-stations because \"night desk\""),
	Controls: controlsOfUpkeep,
	gather:   true,
	sentence: "%q does not say why it is there",
	many:     "%s of %s rules do not say why they are there",
	group: func(l *look) []Finding {
		g := l.group
		if g.BuiltIn {
			return nil
		}
		var found []Finding
		if !l.says(g.Description, g.Name) {
			found = append(found, Finding{Message: "the group does not say what it is for",
				Fix: edited(g, fmt.Sprintf("write it behind the name: group %s in %s \"…\"", g.Name,
					networkName(g)))})
		}
		for i := range l.rules {
			if r := &l.rules[i]; !r.BuiltIn && !l.says(r.Description, g.Name) {
				found = append(found, Finding{Rules: []*estate.Rule{r.Rule},
					Fix: edited(g, `add because "…" to the rule`)})
			}
		}
		return found
	},
}

func init() { register(unexplained) }

func networkName(g *estate.Group) string {
	if g.Network == nil {
		return "NETWORK"
	}
	return g.Network.Name
}

var unused = Check{
	place: 290,
	Name:  "unused",
	About: "a group is attached to nothing, or no rule uses a list",
	Start: Info,
	Doc: `The group is attached to no instance and no subnet; or no rule refers to an own list. It costs nothing today,
and will be put to use by somebody who does not know what it was for. Only a survey can show it.
Default and built-in groups, and published lists, are no finding.`,
	Example:  "a group of a service that was shut down",
	Fix:      inWords("Delete it; rules that refer to it go first."),
	Controls: controlsOfUpkeep,
	whole: func(w *worker) []Finding {
		if !w.survey {
			return nil
		}
		var found []Finding
		for _, g := range w.groups {
			if g.Default || g.BuiltIn || g.Existing || len(w.d.InterfacesOf(g)) > 0 || w.attached[g] {
				continue
			}
			f := Finding{Group: g, Message: "the group is attached to nothing", Fix: inWords("delete it")}
			if w.named[g] {
				f.Message += ", though rules of other groups name it as a peer"
				f.Fix = inWords("delete it, and the rules that name it")
			}
			found = append(found, f)
		}
		for _, l := range w.estate.Lists {
			// lists that only definitions have are not part of what was found
			if l.Owner != "published" && !w.used[l] && (w.Defined == nil || !l.Defined) {
				f := Finding{List: l, Account: l.Account, Message: "no rule refers to the list",
					Fix: inWords("delete it")}
				found = append(found, f)
			}
		}
		return found
	},
}

func init() { register(unused) }

var repeatedAddresses = Check{
	place: 310,
	Name:  "repeated-addresses",
	About: "the same addresses occur in three or more groups",
	Start: Info,
	Doc: `Three or more groups name the same range, which is no network or subnet of the estate nor part of
one: when it changes all must be found and changed. Addresses of instances are told by
static-address, ranges wider than a /8 by other checks.`,
	Example:  "198.51.100.16/28 in five groups",
	Fix:      inWords("list pilot-stations { 198.51.100.16/28 }, and admit ssh from list pilot-stations."),
	Controls: controlsOfUpkeep,
	whole: func(w *worker) []Finding {
		at := w.rangesByGroup()
		// Ranges that occur in the same groups become one finding.
		type together struct {
			ranges []netip.Prefix
			groups []*estate.Group
		}
		var all []*together
		byGroups := make(map[*estate.Group][]*together) // by the first of the groups
		for _, p := range sortedPrefixes(at) {
			groups := at[p]
			if len(groups) < 3 {
				continue
			}
			i := slices.IndexFunc(byGroups[groups[0]], func(t *together) bool { return slices.Equal(t.groups, groups) })
			if i >= 0 {
				t := byGroups[groups[0]][i]
				t.ranges = append(t.ranges, p)
				continue
			}
			t := &together{[]netip.Prefix{p}, groups}
			byGroups[groups[0]] = append(byGroups[groups[0]], t)
			all = append(all, t)
		}
		var found []Finding
		for _, t := range all {
			f := Finding{Group: t.groups[0], groups: t.groups, Account: t.groups[0].Account,
				Peers: addr.OfPrefixes(t.ranges...), Fix: inWords("make a list of them, and name it in these groups")}
			f.Message = fmt.Sprintf("%s %s in %s", rangeWords(t.ranges),
				map[bool]string{true: "stands", false: "stand"}[len(t.ranges) == 1],
				count.Of(len(t.groups), "group", "groups"))
			const shown = 12
			for _, g := range t.groups[:min(shown, len(t.groups))] {
				f.Details = append(f.Details, g.Path())
			}
			if n := len(t.groups) - shown; n > 0 {
				f.Details = append(f.Details, fmt.Sprintf("and %s more", count.Number(n)))
			}
			found = append(found, f)
		}
		return found
	},
}

func init() { register(repeatedAddresses) }

// rangesByGroup finds, for each range that could be put in a list, the groups in which it occurs.
func (w *worker) rangesByGroup() map[netip.Prefix][]*estate.Group {
	ours := make(map[netip.Prefix]bool)
	for _, n := range w.estate.Networks {
		for _, r := range n.Ranges {
			ours[r] = true
		}
		for _, s := range n.Subnets {
			for _, r := range s.Ranges {
				ours[r] = true
			}
		}
	}
	at := make(map[netip.Prefix][]*estate.Group)
	for _, g := range w.groups {
		if g.BuiltIn || g.Existing {
			continue
		}
		for i := range g.Rules {
			for _, p := range g.Rules[i].Peers {
				if p.Kind != estate.PeerRange || g.Rules[i].Named {
					continue
				}
				before := at[p.Range]
				if ours[p.Range] || len(before) > 0 && before[len(before)-1] == g {
					continue
				}
				at[p.Range] = append(before, g)
			}
		}
	}
	for p, groups := range at {
		if len(groups) < 3 || p.Bits() < 8 || p.IsSingleIP() && len(w.d.At(p.Addr())) > 0 || w.isPartOfNetwork(p) {
			delete(at, p)
			continue
		}
		slices.SortFunc(groups, func(a, b *estate.Group) int { return strings.Compare(a.Path(), b.Path()) })
	}
	return at
}

// isPartOfNetwork reports whether a private range lies in a network of the estate. Such ranges
// don't belong in lists.
func (w *worker) isPartOfNetwork(p netip.Prefix) bool {
	if !p.Addr().IsPrivate() {
		return false
	}
	four, six := w.networks.Count(w.d.Range(p))
	return four+six > 0
}

func sortedPrefixes(at map[netip.Prefix][]*estate.Group) []netip.Prefix {
	all := make([]netip.Prefix, 0, len(at))
	for p := range at {
		all = append(all, p)
	}
	slices.SortFunc(all, func(a, b netip.Prefix) int {
		if c := a.Addr().Compare(b.Addr()); c != 0 {
			return c
		}
		return a.Bits() - b.Bits()
	})
	return all
}

func rangeWords(ranges []netip.Prefix) string {
	const shown = 3
	var words []string
	for _, p := range ranges[:min(shown, len(ranges))] {
		words = append(words, addr.PrefixString(p))
	}
	if n := len(ranges) - shown; n > 0 {
		words = append(words, count.Of(n, "more range", "more ranges"))
	}
	return strings.Join(words, ", ")
}

var twins = Check{
	place: 320,
	Name:  "twins",
	About: "groups of one network let through the same traffic",
	Start: Info,
	Doc: `Two or more groups of one network let through exactly the same traffic, both ways, whoever joins the
groups that they name; however it is written, with or without rules that have no effect. One day one of
them will be changed, and the other forgotten. Groups without rules are no twins.`,
	Example:  "two groups with admit https from everyone, and nothing else",
	Fix:      inWords("Keep one, and cover with it what the others cover."),
	Controls: controlsOfUpkeep,
	whole: func(w *worker) []Finding {
		var found []Finding
		for _, near := range alike(w.withRules(),
			func(g *estate.Group) twinKey { return w.twinKey(g, w.facts[g].ends()) }) {
			if !slices.ContainsFunc(near, func(g *estate.Group) bool { return w.facts[g].refuses }) {
				for _, groups := range alike(near,
					func(g *estate.Group) twinKey { return w.twinKey(g, w.facts[g].sums()) }) {
					found = append(found, w.twinsAmong(groups)...)
				}
				continue
			}
			// Where there are refusals, only the whole of what is let through can be compared.
			exactly := func(direction estate.Direction) func(*estate.Group) twinKey {
				return func(g *estate.Group) twinKey {
					return w.twinKey(g,
						sign{w.d.GroupTraffic(g, direction).Hash()})
				}
			}
			for _, equalIn := range alike(near, exactly(estate.In)) {
				for _, groups := range alike(equalIn, exactly(estate.Out)) {
					found = append(found, w.twinsAmong(groups)...)
				}
			}
		}
		return found
	},
}

func init() { register(twins) }

// A twinKey is the same for groups that let through the same; two groups with the same twinKey need
// not let through the same.
type twinKey struct {
	account *estate.Account
	network *estate.Network
	kind    estate.GroupKind
	sign    sign
}

func (w *worker) twinKey(g *estate.Group, sign sign) twinKey {
	if g.Network != nil {
		return twinKey{nil, g.Network, g.For, sign}
	}
	return twinKey{g.Account, nil, g.For, sign}
}

// withRules are the groups that let something through by rules of their own.
func (w *worker) withRules() []*estate.Group {
	return slices.DeleteFunc(slices.Clone(w.groups),
		func(g *estate.Group) bool { return len(g.Rules) == 0 || g.Existing || g.Follows })
}

// alike collects groups with the same key, where there are at least two, in the order of the first
// of each.
func alike(groups []*estate.Group, key func(*estate.Group) twinKey) [][]*estate.Group {
	at := make(map[twinKey]int, len(groups))
	var all [][]*estate.Group
	for _, g := range groups {
		k := key(g)
		i, ok := at[k]
		if !ok {
			i = len(all)
			at[k] = i
			all = append(all, nil)
		}
		all[i] = append(all[i], g)
	}
	return slices.DeleteFunc(all, func(groups []*estate.Group) bool { return len(groups) < 2 })
}

// twinsAmong finds groups with the same traffic among groups with the same twinKey.
func (w *worker) twinsAmong(groups []*estate.Group) []Finding {
	var found []Finding
	for len(groups) > 1 {
		var same, others []*estate.Group
		for _, g := range groups[1:] {
			if w.d.Alike(groups[0], g) {
				same = append(same, g)
			} else {
				others = append(others, g)
			}
		}
		if len(same) > 0 {
			same = append(same, groups[0])
			slices.SortFunc(same, func(a, b *estate.Group) int { return strings.Compare(a.Path(), b.Path()) })
			found = append(found, Finding{Group: same[0], groups: same,
				Message: "it lets through the same traffic as " + groupWords(same[1:]),
				Fix:     inWords("keep one, and attach it in the place of the others")})
		}
		groups = others
	}
	return found
}

func groupWords(groups []*estate.Group) string {
	var names []string
	for _, g := range groups {
		names = append(names, g.Name)
	}
	return count.Some(names, 4)
}

var expired = Check{
	place: 80,
	Name:  "expired",
	About: "a rule is past its end and still there",
	Start: High,
	Doc: `The definition of a rule says until when it stands, that day is over, and the cloud still has it; or a
surveyed rule's own description names the day: "vendor's visit until 2026-10-31". The day itself still
counts. What was meant for a while stays.`,
	Example:  "admit ssh from list testers because \"until 2026-10-31\"",
	Fix:      inWords("Delete it, or give it a later date."),
	Controls: controlsOfOpenness,
	group: func(l *look) []Finding {
		var found []Finding
		for i := range l.rules {
			r := &l.rules[i]
			if r.Pass != "" {
				found = append(found, overduePass(l, r.Rule, r.services, r.peers))
				continue
			}
			if until := l.describedBy(r.Description).until; !until.IsZero() && r.Until.IsZero() && !until.After(l.Now) {
				found = append(found, Finding{Direction: r.Direction, Rules: []*estate.Rule{r.Rule},
					Services: r.services, Peers: r.peers, Fix: inWords("delete the rule, or give it a later date"),
					Message: fmt.Sprintf("%q says that it ends with %s, and is still there",
						r.Sentence(l.estate.Services), until.AddDate(0, 0, -1).Format(time.DateOnly))})
			}
		}
		for _, r := range l.ended() {
			found = append(found, Finding{Direction: r.Direction, Rules: []*estate.Rule{r.rule},
				Services: service.Of(r.rule.Services...), Peers: r.peers,
				Fix: Remedy{Kind: Draft, Words: "it takes the rule out"},
				Message: fmt.Sprintf("%q ended on %s, and the cloud still has %q", r.Sentence(l.estate.Services),
					r.Until.Add(-time.Second).Format(time.DateOnly), r.rule.Sentence(l.estate.Services))})
		}
		return found
	},
}

func init() { register(expired) }

// overduePass is the finding of a rule of a pass that is not open, and still there.
func overduePass(l *look, r *estate.Rule, services service.Set, peers addr.Set) Finding {
	f := Finding{Direction: r.Direction, Rules: []*estate.Rule{r}, Services: services, Peers: peers,
		Fix: Remedy{Kind: Shut}}
	_, until, _ := pass.Parse(r.Description)
	text := "its issuing was broken off"
	if !until.After(l.Now) {
		text = "it was over at " + until.Format("2006-01-02 15:04 UTC")
	}
	f.Message = fmt.Sprintf("the pass %s still has %q: %s", r.Pass, r.Sentence(l.estate.Services), text)
	return f
}

var byHand = Check{
	place: 180,
	Name:  "by-hand",
	About: "the cloud has a rule that the definitions do not have",
	Start: Medium,
	Doc: `A group that the definitions define has a rule in the cloud that lets through more than its definition:
somebody added it by hand. Where the cloud tells who and when, the finding does. It needs definitions
and a survey.`,
	Example:  "a rule added at night, from the console",
	Fix:      inWords("Write it into the definitions with a reason, or put the group back."),
	Controls: controlsOfUpkeep,
	group: func(l *look) []Finding {
		var found []Finding
		for _, r := range l.extra() {
			f := Finding{Direction: r.Direction, Rules: []*estate.Rule{r.Rule}, Services: r.set.Services(),
				Peers: r.set.Peers(service.All), Fix: Remedy{Kind: Draft, Words: "it puts the group back"},
				OrElse: "write it into the definitions, with a reason"}
			f.Message = fmt.Sprintf("%q is in the cloud and not in the definitions%s", r.Sentence(l.estate.Services),
				changedWords(r.Changed))
			found = append(found, f)
		}
		return found
	},
}

func init() { register(byHand) }

// changedWords say who changed a rule last, and when, where that is known.
func changedWords(c *estate.Changed) string {
	if c == nil {
		return ""
	}
	text := ""
	if c.By != "" {
		text = ", changed by " + c.By
	}
	if !c.At.IsZero() {
		if text == "" {
			text = ", changed"
		}
		text += " at " + c.At.UTC().Format("2006-01-02 15:04 UTC")
	}
	return text
}

const unreadName = "unread"

var unread = Check{
	place: 200,
	Name:  unreadName,
	About: "an account or cloud could not be read: nothing is known of it",
	Start: Medium,
	Doc: `The survey says that an account could not be read, or a whole cloud. Nothing in it was judged, and what
others can reach there is not known. The program ends with exit code 3 whatever else it finds, unless it
is told that the account may be missing.`,
	Example:  "an account whose token has ended",
	Fix:      Remedy{Kind: Survey, Words: "or say that it may be missing"},
	Controls: controlsOfUpkeep,
	whole: func(w *worker) []Finding {
		var found []Finding
		for _, u := range w.estate.Unread {
			account := &estate.Account{Name: u.Name()}
			if i := slices.IndexFunc(w.estate.Accounts,
				func(a *estate.Account) bool { return a.Name == u.Account }); i >= 0 {
				account = w.estate.Accounts[i]
			}
			found = append(found, Finding{Account: account,
				Message: "it could not be read, so nothing is known of it: " + u.Reason,
				Fix:     inWords("survey it again")})
		}
		return found
	},
}

func init() { register(unread) }

var quota = Check{
	place: 210,
	Name:  "quota",
	About: "a quota is nearly used, full or exceeded",
	Start: Low,
	Moves: "medium where all is used, high where more is",
	Doc: `80 % or more of what is allowed is used (low), all of it (medium), or more (high: the cloud will
refuse it). This is counted: the rules of a group, for each direction or for both as its cloud does;
the groups on an interface and on a subnet, where more than one is allowed; the groups and rules of
an account with limits for them. Lists count as the cloud counts them. The finding says which rules
cost most. Quotas are those of the dialect, unless the account has limits of its own.`,
	Example: "65 rules in a direction where 64 are allowed",
	Fix: inWords("Join ranges, name a list or a group, or have the quota raised: limit rules-per-direction " +
		"= 120."),
	Controls: controlsOfUpkeep,
	group: func(l *look) []Finding {
		d := decide.Dialect(l.group.Account)
		q := compile.QuotaOf(d, l.group)
		if q == (compile.Quota{}) || !l.nearQuota(d, q) {
			return nil
		}
		in, out := compile.GroupCost(d, l.group, estate.In), compile.GroupCost(d, l.group, estate.Out)
		var found []Finding
		tell := func(direction estate.Direction, n, allowed int, what string) {
			if severity, words, ok := used(n, allowed, what); ok {
				found = append(found, Finding{Direction: direction, Start: severity, Message: words,
					Details: l.costliest(d, direction),
					Fix:     inWords("join ranges, name a list or a group, or have the quota raised")})
			}
		}
		tell(estate.In, in, q.Direction, "inward rules")
		tell(estate.Out, out, q.Direction, "outward rules")
		tell("", in+out, q.Together, "rules")
		return found
	},
	whole: fullPlaces,
}

func init() { register(quota) }

// used says how much of a quota is used, and how severe that is; ok is false below 80 %.
func used(n, allowed int, what string) (severity Severity, words string, ok bool) {
	switch {
	case allowed == 0 || n*5 < allowed*4:
		return 0, "", false
	case n > allowed:
		return High, fmt.Sprintf("%s of %s %s are used: %s too many", count.Number(n), count.Number(allowed), what,
			count.Number(n-allowed)), true
	case n == allowed:
		return Medium, fmt.Sprintf("all %s %s are used", count.Number(allowed), what), true
	}
	return Low, fmt.Sprintf("%s of %s %s are used (%d %%)", count.Number(n), count.Number(allowed), what,
		n*100/allowed), true
}

// fullPlaces finds quotas that run out and that concern no single group: the number of groups on an
// interface or subnet, and the groups and rules of an account.
func fullPlaces(w *worker) []Finding {
	var found []Finding
	tell := func(f Finding, n, allowed int, what, fix string) bool {
		severity, words, ok := used(n, allowed, what)
		if ok {
			f.Start, f.Message, f.Fix = severity, words, inWords(fix)
			found = append(found, f)
		}
		return ok
	}
	type place struct {
		account *estate.Account
		subnet  *estate.Subnet
	}
	full := make(map[place][]*estate.Interface)
	var places []place
	for _, instance := range w.estate.Instances {
		allowed := groupsOnInterface(instance.Account)
		for _, i := range instance.Interfaces {
			// Where only one group is allowed, having it is not a finding.
			if n := len(i.Groups); allowed > 0 && n*5 >= allowed*4 && (allowed > 1 || n > 1) {
				p := place{instance.Account, i.Subnet}
				if full[p] == nil {
					places = append(places, p)
				}
				full[p] = append(full[p], i)
			}
		}
	}
	for _, p := range places {
		list := full[p]
		slices.SortStableFunc(list, func(a, b *estate.Interface) int { return len(b.Groups) - len(a.Groups) })
		tell(Finding{Account: p.account, Subnet: p.subnet, Instances: list}, len(list[0].Groups),
			groupsOnInterface(p.account), "groups on an interface",
			"join groups that go together, or have the quota raised")
		f := &found[len(found)-1]
		f.Message += ": " + list[0].Instance.Name
		if len(list) > 1 {
			f.Details = []string{"80 % or more at " + interfaceWords(list)}
		}
	}
	for _, n := range w.estate.Networks {
		for _, s := range n.Subnets {
			if allowed := decide.Dialect(n.Account).GroupsPerSubnet; len(s.Groups) > 1 || allowed > 1 {
				tell(Finding{Account: n.Account, Subnet: s}, len(s.Groups), allowed, "groups on a subnet",
					"join groups that go together")
			}
		}
	}
	groups, rules := make(map[*estate.Account]int), make(map[*estate.Account]int)
	for _, g := range w.groups {
		groups[g.Account]++
		rules[g.Account] += len(g.Rules)
	}
	for _, a := range w.estate.Accounts {
		tell(Finding{Account: a}, groups[a], limitOf(a, dialect.LimitGroups, 0), "groups of the account",
			"delete what is attached to nothing, or have the quota raised")
		tell(Finding{Account: a}, rules[a], limitOf(a, dialect.LimitRules, 0), "rules of the account",
			"delete what can't take effect, or have the quota raised")
	}
	return found
}

func groupsOnInterface(a *estate.Account) int {
	return limitOf(a, dialect.LimitGroupsPerInterface, decide.Dialect(a).GroupsPerInterface)
}

// limitOf is an account's quota: its own limit, else the dialect's.
func limitOf(a *estate.Account, name string, usual int) int {
	if n, ok := a.Limits[name]; ok {
		return n
	}
	return usual
}

// nearQuota reports whether a group can have used 80 % of a quota, by a bound that costs little.
func (l *look) nearQuota(d dialect.Dialect, q compile.Quota) bool {
	least := q.Direction
	if least == 0 || q.Together > 0 && q.Together < least {
		least = q.Together
	}
	most := 0 // an upper bound of what the rules cost
	for i := range l.rules {
		r := &l.rules[i]
		peers := 0
		for _, p := range r.Peers {
			switch p.Kind {
			case estate.PeerList:
				peers += max(p.List.Cost(), len(p.List.Entries)+len(p.List.Published)+8*len(p.List.Parts))
			case estate.PeerNetwork, estate.PeerSubnet:
				peers += 4
			default:
				peers += 2
			}
		}
		most += peers * max(1, len(r.Services))
	}
	return most*5 >= least*4
}

// costliest are the rules of a group that use the most of its quota.
func (l *look) costliest(d dialect.Dialect, direction estate.Direction) []string {
	type cost struct {
		rule *estate.Rule
		n    int
	}
	var costs []cost
	for i := range l.rules {
		if r := l.rules[i].Rule; direction == "" || r.Direction == direction {
			costs = append(costs, cost{r, compile.Cost(d, l.group, r)})
		}
	}
	slices.SortStableFunc(costs, func(a, b cost) int { return b.n - a.n })
	var words []string
	for _, c := range costs[:min(3, len(costs))] {
		if c.n > 1 {
			words = append(words, fmt.Sprintf("%s: %s", count.Of(c.n, "rule", "rules"),
				c.rule.Sentence(l.estate.Services)))
		}
	}
	return words
}

var idle = Check{
	place: 270,
	Name:  "idle",
	About: "no observed flow used a rule",
	Start: Low,
	Doc: `No flow of the evidence was let through by the rule, though its group is attached to instances that are
seen in the evidence. How much that says depends on how long it was gathered. It needs flows.`,
	Example:  "a rule for a service that was moved",
	Fix:      inWords("Delete it, or wait for evidence over a longer time."),
	Controls: controlsOfUpkeep,
	gather:   true,
	many:     "%s of %s rules were used by no observed flow",
	group: func(l *look) []Finding {
		if l.Flows == nil || !slices.ContainsFunc(l.d.InterfacesOf(l.group),
			func(i *estate.Interface) bool { return l.seen[i] }) {
			return nil
		}
		var found []Finding
		for i := range l.rules {
			if r := &l.rules[i]; r.Action == estate.Admit && !r.BuiltIn && !l.flowed[r.Rule] {
				found = append(found, Finding{Direction: r.Direction, Rules: []*estate.Rule{r.Rule},
					Services: r.services, Peers: r.peers, Fix: inWords("delete it, or gather evidence for longer"),
					Message: fmt.Sprintf("no flow in %s used %q", count.Of(l.days, "day", "days"),
						r.Sentence(l.estate.Services))})
			}
		}
		return found
	},
}

func init() { register(idle) }
