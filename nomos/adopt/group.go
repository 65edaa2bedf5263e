package adopt

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// group writes one group.
func (w *writer) group(g *estate.Group) {
	out := w.of(g.Account)
	title := ""
	if g.Description != "" {
		title = " " + Quote(oneLine(g.Description))
	}
	fmt.Fprintf(out, "\ngroup %s%s in %s%s {\n", w.names[g], kindWords(g), networkOf(w.d, g).Path(), title)
	if w.names[g] != g.InCloud() {
		fmt.Fprintf(out, "  named %s\n", Quote(g.InCloud()))
	}
	for _, c := range w.covers(g) {
		fmt.Fprintf(out, "  cover %s\n", c)
	}
	out.WriteString(labels("label", unmarked(g.Labels)))
	for _, s := range w.statements(g) {
		out.WriteString("  " + s + "\n")
	}
	if g.For == estate.ForSubnets && decide.Dialect(g.Account).Layers == dialect.EitherMayAdmit {
		out.WriteString("  follow instances\n") // what groups inside it admit passes anyway
	}
	out.WriteString("}\n")
}

// covers says what the group is attached to: by a condition on labels if it holds for exactly
// these, else by name.
func (w *writer) covers(g *estate.Group) []string {
	if g.For == estate.ForSubnets {
		var names []string
		for _, s := range networkOf(w.d, g).Subnets {
			if slices.Contains(s.Groups, g) {
				names = append(names, word(s.Name))
			}
		}
		return joined("subnet ", names)
	}
	var attached, all []*estate.Interface
	n := networkOf(w.d, g)
	for _, i := range w.e.Instances {
		for _, f := range i.Interfaces {
			if f.Subnet.Network != n {
				continue
			}
			all = append(all, f)
			if slices.Contains(f.Groups, g) {
				attached = append(attached, f)
			}
		}
	}
	if len(attached) == 0 {
		return nil
	}
	if c := byLabel(attached, all); c != "" {
		return []string{"where " + c}
	}
	var names []string
	for _, f := range attached {
		name := f.Instance.Name
		if same := slices.IndexFunc(all,
			func(o *estate.Interface) bool {
				return o.Instance != f.Instance &&
					o.Instance.Name == name
			}); same >= 0 && f.Instance.ID != "" {
			name = f.Instance.ID
		}
		if name = word(name); !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return joined("instance ", names)
}

func joined(before string, names []string) []string {
	if len(names) == 0 {
		return nil
	}
	return []string{before + strings.Join(names, ", ")}
}

// byLabel is a condition on one or two labels that holds for exactly some of the interfaces. Labels
// that say what an instance is for are tried first.
func byLabel(some, all []*estate.Interface) string {
	type pair struct{ key, value string }
	var pairs []pair
	for _, k := range sortedKeys(some[0].Instance.Labels) {
		p := pair{k, some[0].Instance.Labels[k]}
		if !slices.ContainsFunc(some, func(f *estate.Interface) bool { return f.Instance.Labels[p.key] != p.value }) {
			pairs = append(pairs, p)
		}
	}
	slices.SortStableFunc(pairs, func(a, b pair) int { return preferred(a.key) - preferred(b.key) })
	holds := func(of ...pair) bool {
		n := 0
		for _, f := range all {
			if !slices.ContainsFunc(of, func(p pair) bool { return f.Instance.Labels[p.key] != p.value }) {
				n++
			}
		}
		return n == len(some)
	}
	text := func(p pair) string { return word(p.key) + " = " + word(p.value) }
	for _, p := range pairs {
		if holds(p) {
			return text(p)
		}
	}
	for i, p := range pairs {
		for _, q := range pairs[i+1:] {
			if holds(p, q) {
				return text(p) + " and " + text(q)
			}
		}
	}
	return ""
}

// preferredLabels say what an instance is for.
var preferredLabels = []string{"role", "purpose", "app", "service"}

func preferred(key string) int {
	if i := slices.Index(preferredLabels, key); i >= 0 {
		return i
	}
	return 9
}

// statements are the group's rules in the language, in the order in which they decide. Rules that
// differ only in services or in peers become one statement.
func (w *writer) statements(g *estate.Group) []string {
	type statement struct {
		rule   estate.Rule
		set    service.Set
		peers  []string
		except string
	}
	var all []statement
	var comments []string
	d := w.d.Supposing(g, w.rules(g))
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		ordered := d.InOrder(g, direction)
		var stopped traffic.Set // by refusals in front
		for k, r := range ordered {
			if k == len(ordered)-1 && r.BuiltIn && r.Action == estate.Refuse {
				continue // what no rule admits is refused anyway
			}
			if decide.ByRank(g) && decidesNothing(d, g, r, stopped) {
				continue
			}
			if r.Action == estate.Refuse && onlyRanges(r) {
				stopped = stopped.Union(d.RuleTraffic(g, r))
			}
			s := statement{rule: *r, set: service.Of(r.Services...), except: w.peerWords(g, r.Except)}
			if r.Description == "built in" {
				s.rule.Description = ""
			}
			s.peers = w.peerList(g, r.Peers)
			if len(r.Peers) == 1 && r.Peers[0].Kind == estate.PeerPublic {
				s.peers, s.except = []string{"everyone"}, "list "+w.notPublic()
			}
			if missing := missingPeers(r.Peers); missing != "" {
				comments = append(comments,
					fmt.Sprintf("# left out: %s named %s, which is not there", r.Action, missing))
			}
			if len(s.peers) == 0 {
				continue
			}
			same := func(o statement) bool {
				return o.rule.Direction == r.Direction && o.rule.Action == r.Action &&
					o.rule.Description == s.rule.Description && o.rule.Stateless == r.Stateless &&
					o.except == s.except && o.except == ""
			}
			i := slices.IndexFunc(all, func(o statement) bool {
				return same(o) && (o.set.Equal(s.set) || slices.Equal(o.peers, s.peers))
			})
			// where order matters, only neighbours are joined
			if first := decide.ByRank(g); i >= 0 && (!first || i == len(all)-1) {
				if all[i].set.Equal(s.set) {
					for _, p := range s.peers {
						if !slices.Contains(all[i].peers, p) {
							all[i].peers = append(all[i].peers, p)
						}
					}
				} else {
					all[i].set = all[i].set.Union(s.set)
				}
				continue
			}
			all = append(all, s)
		}
	}
	texts := comments
	for _, s := range all {
		verb, at := string(s.rule.Action), "from"
		if s.rule.Direction == estate.Out {
			at = "at"
			if s.rule.Action == estate.Admit {
				verb = "reach"
			}
		}
		text := fmt.Sprintf("%s %s %s %s", verb, w.services.Describe(s.set), at, wholeFamilies(s.peers))
		if s.except != "" {
			text += " except " + s.except
		}
		if s.rule.Stateless {
			text += " stateless"
		}
		if s.rule.Description != "" {
			text += " because " + Quote(oneLine(s.rule.Description))
		}
		texts = append(texts, text)
	}
	return texts
}

// decidesNothing reports whether refusals in front stop all of a rule, whoever its peers are one day.
func decidesNothing(d *decide.Decider, g *estate.Group, r *estate.Rule, stopped traffic.Set) bool {
	if !slices.ContainsFunc(slices.Concat(r.Peers, r.Except), func(p estate.Peer) bool {
		return p.Kind == estate.PeerGroup || p.Kind == estate.PeerSelf || p.Kind == estate.PeerList
	}) {
		return d.RuleTraffic(g, r).SubsetOf(stopped)
	}
	return traffic.Of(addr.Everyone, service.Of(r.Services...)).SubsetOf(stopped)
}

// onlyRanges reports whether a rule is about ranges, which stay what they are, and keeps state.
func onlyRanges(r *estate.Rule) bool {
	return !r.Stateless && !slices.ContainsFunc(slices.Concat(r.Peers, r.Except), func(p estate.Peer) bool {
		return p.Kind != estate.PeerRange && p.Kind != estate.PeerEveryone && p.Kind != estate.PeerPublic
	})
}

// notPublic is a list of all addresses that are not public: built-in rules of some clouds are about
// all others.
func (w *writer) notPublic() string {
	const name = "not-public"
	if !w.public && !slices.ContainsFunc(w.e.Lists, func(l *estate.List) bool { return l.Defined && l.Name == name }) {
		fmt.Fprintf(&w.common, "\n# what a built-in rule calls the internet is all but these\nlist %s {\n", name)
		for _, r := range addr.Public.Complement().Prefixes() {
			fmt.Fprintf(&w.common, "  %s\n", r)
		}
		w.common.WriteString("}\n")
	}
	w.public = true
	return name
}

// wholeFamilies joins both families of everyone into everyone.
func wholeFamilies(peers []string) string {
	four, six := slices.Index(peers, "everyone v4"), slices.Index(peers, "everyone v6")
	if four >= 0 && six >= 0 {
		peers = slices.DeleteFunc(slices.Clone(peers),
			func(p string) bool { return p == "everyone v4" || p == "everyone v6" })
		peers = slices.Insert(peers, 0, "everyone")
	}
	return strings.Join(peers, ", ")
}

func missingPeers(peers []estate.Peer) string {
	var names []string
	for _, p := range peers {
		if p.Kind == estate.PeerMissing {
			names = append(names, oneLine(p.Missing))
		}
	}
	return strings.Join(names, ", ")
}

func (w *writer) peerWords(g *estate.Group, peers []estate.Peer) string {
	return strings.Join(w.peerList(g, peers), ", ")
}

// peerList writes peers in the language.
func (w *writer) peerList(g *estate.Group, peers []estate.Peer) []string {
	var words []string
	said := make(map[string]bool)
	add := func(text string, p estate.Peer) {
		if f := p.Family(); f != addr.Both {
			text += " " + f.String()
		}
		if !said[text] {
			said[text] = true
			words = append(words, text)
		}
	}
	for _, p := range peers {
		switch p.Kind {
		case estate.PeerGroup:
			switch {
			case p.Group == g:
				add("self", p)
			case networkOf(w.d, p.Group) == networkOf(w.d, g):
				add("group "+w.names[p.Group], p)
			case networkOf(w.d, p.Group) != nil:
				add("group "+networkOf(w.d, p.Group).Path()+"/"+w.names[p.Group], p)
			}
		case estate.PeerList:
			add("list "+w.lists[p.List], p)
		case estate.PeerRange:
			switch name := w.ranges[p.Range]; {
			case p.Range.Bits() == 0 && p.Range.Addr().Is4():
				add("everyone v4", p)
			case p.Range.Bits() == 0:
				add("everyone v6", p)
			case name != "" && !said["list "+name]:
				add("list "+name, p)
			case name == "":
				add(addr.PrefixString(p.Range), p)
			}
		case estate.PeerMissing, estate.PeerPublic: // statements writes PeerPublic
		case estate.PeerNetwork:
			if p.Network == nil || p.Network == g.Network {
				add("network", p)
			} else {
				add("network "+p.Network.Path(), p)
			}
		case estate.PeerSubnet:
			add("subnet "+word(p.Subnet.Name), p)
		default: // its own words name the family too
			whole := p
			whole.V4Only, whole.V6Only = false, false
			add(whole.String(), p)
		}
	}
	return words
}

// unmarked are labels without the mark of the owning estate, which definitions can't set.
func unmarked(labels estate.Labels) estate.Labels {
	if _, marked := labels[estate.OwnLabel]; !marked {
		return labels
	}
	labels = maps.Clone(labels)
	delete(labels, estate.OwnLabel)
	return labels
}
