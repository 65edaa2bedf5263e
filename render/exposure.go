package render

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
	"isonomos/words"
)

// Exposure writes for each instance what can be reached, by whom, and through which rules.
func Exposure(s *Screen, d *decide.Decider, found []decide.Exposed, direction estate.Direction, who string, o Seen) {
	e := d.Estate()
	exposed, through, undecided := 0, 0, make(map[string][]string)
	var reasons []string
	for _, x := range found {
		if x.Undecided != "" {
			if undecided[x.Undecided] == nil {
				reasons = append(reasons, x.Undecided)
			}
			undecided[x.Undecided] = append(undecided[x.Undecided], x.Interface.Instance.Name)
			if len(x.Handed) == 0 {
				continue
			}
		}
		exposed++
		if onlyThrough(x) {
			through++
		}
		i := x.Interface
		var publics []string
		for _, a := range i.Public {
			publics = append(publics, a.String())
		}
		s.Ends(Piece{strings.Join(publics, ", "), Faint}, Piece{Pad(i.Instance.Name, 20), Accent},
			Piece{" " + i.Subnet.Path(), Plain})
		exposedTraffic(s, d, direction, x)
		for _, h := range x.Handed {
			handedTraffic(s, d, direction, h)
		}
		if text := o.later(x); text != "" {
			s.Labelled(2, Piece{"once carried out", Warm}, 18, Piece{Text: text})
		}
		for k, r := range rulesBehind(x) {
			label := first(k, "by")
			text := r.Rule.Sentence(e.Services) + "  (" + r.Group.Path()
			if at := place(r.Rule.Origin); at != "" {
				text += ", " + at
			}
			s.Labelled(2, Piece{label, Faint}, 9, Piece{Text: text + ")"})
		}
		for _, l := range i.Instance.Listeners {
			s.Labelled(2, Piece{"hands on", Faint}, 9, Piece{Text: handsOnText(d, i, l)})
		}
		s.Blank()
	}
	verb := map[estate.Direction]string{estate.In: "can be reached by", estate.Out: "can reach"}[direction]
	for _, reason := range reasons {
		s.Labelled(0, Piece{"undecided", Warm}, findingLabel,
			Piece{Text: fmt.Sprintf("%s: %s", someOf(undecided[reason], 6), reason)})
	}
	if n := o.more(found); n > 0 {
		s.Text(0, fmt.Sprintf("once the definitions are carried out, %s more: --state defined shows them",
			Count(n, "interface", "interfaces")))
	}
	text := fmt.Sprintf("%s %s %s", Count(exposed, "interface", "interfaces"), verb, who)
	if through > 0 {
		text += fmt.Sprintf(", %s of them through balancers alone", Number(through))
	}
	s.Line(Piece{text, Strong})
	s.Line(Piece{judgedWords(e, o.State), Faint})
}

// onlyThrough reports whether an interface is exposed only by what balancers hand on.
func onlyThrough(x decide.Exposed) bool {
	return x.Traffic.IsEmpty() && x.OneWay.IsEmpty() && x.Unsure.IsEmpty()
}

// exposedTraffic writes what is exposed directly.
func exposedTraffic(s *Screen, d *decide.Decider, direction estate.Direction, x decide.Exposed) {
	e := d.Estate()
	peersOf := map[estate.Direction]string{estate.In: "from", estate.Out: "at"}[direction]
	for _, b := range words.Blocks(x.Traffic) {
		s.Labelled(2, Piece{map[estate.Direction]string{estate.In: "open", estate.Out: "reaches"}[direction], Faint},
			9, Piece{words.Services(e, b.Services), Strong})
		s.Labelled(2, Piece{map[estate.Direction]string{estate.In: "to", estate.Out: "at"}[direction], Faint}, 9,
			Piece{Text: exposedPeers(d, b.Peers)})
	}
	for _, b := range words.Blocks(x.OneWay) {
		s.Labelled(2, Piece{"one way", Warm}, 9, Piece{words.Services(e, b.Services), Strong})
		s.Labelled(2, Piece{peersOf, Faint}, 9,
			Piece{Text: exposedPeers(d, b.Peers) + ": it arrives, and an answer is stopped"})
	}
	for _, b := range words.Blocks(x.Unsure) {
		s.Labelled(2, Piece{"perhaps", Warm}, 9, Piece{words.Services(e, b.Services), Strong})
		s.Labelled(2, Piece{peersOf, Faint}, 9,
			Piece{Text: exposedPeers(d, b.Peers) + ": it may arrive, the survey does not say enough"})
	}
}

// handedTraffic writes what a balancer hands on.
func handedTraffic(s *Screen, d *decide.Decider, direction estate.Direction, h decide.Handed) {
	e := d.Estate()
	for _, part := range []struct {
		set   traffic.Set
		style Style
		what  string
	}{{h.Asked.Passes, Faint, ""}, {h.Asked.OneWay, Warm,
		": it arrives, and an answer is stopped"}, {h.Asked.Undecided, Warm,
		": it may arrive, the survey does not say enough"}} {
		for _, b := range words.Blocks(part.set) {
			text := fmt.Sprintf("%s, arriving as %s", handedThrough(h), words.Services(e, h.Arriving(b.Services)))
			if direction == estate.Out {
				text = fmt.Sprintf("%s to %s, arriving as %s", handedThrough(h), h.Target.Instance.Path(),
					words.Services(e, h.Arriving(b.Services)))
			}
			s.Labelled(2, Piece{"through", part.style}, 9, Piece{text, Strong})
			s.Labelled(2, Piece{map[estate.Direction]string{estate.In: "to", estate.Out: "at"}[direction], Faint}, 9,
				Piece{Text: fmt.Sprintf("%s, asking for %s there%s", exposedPeers(d, b.Peers),
					words.Services(e, b.Services), part.what)})
		}
	}
}

// handedThrough names the balancers on the way, the outermost first.
func handedThrough(h decide.Handed) string {
	var names []string
	for _, b := range h.Through {
		names = append(names, b.Path())
	}
	return strings.Join(names, " and ")
}

// rulesBehind are the rules that let through what is exposed, directly or handed on.
func rulesBehind(x decide.Exposed) []decide.Deciding {
	all := slices.Clone(x.Rules)
	for _, h := range x.Handed {
		for _, r := range h.Rules {
			if !slices.Contains(all, r) {
				all = append(all, r)
			}
		}
	}
	return all
}

// handsOnText says what a listener hands on, and which of its targets don't get it.
func handsOnText(d *decide.Decider, balancer *estate.Interface, l estate.Listener) string {
	var get, lack []string
	for _, t := range l.Targets {
		o := d.HandTo(balancer, l, t)
		switch {
		case !o.Arriving().IsEmpty():
			get = append(get, t.Name)
		case !o.With(decide.Undecided).IsEmpty():
			get = append(get, t.Name+" (perhaps)")
		case !o.With(decide.Stopped).IsEmpty():
			lack = append(lack, t.Name+": "+string(decide.Stopped))
		default:
			lack = append(lack, t.Name+": "+string(decide.NoRoute))
		}
	}
	text := fmt.Sprintf("%s to nobody", l.Service)
	if len(get) > 0 {
		text = fmt.Sprintf("%s to port %d of %s", l.Service, l.Port, someOf(get, 8))
	}
	if len(lack) > 0 {
		text += ", not to " + someOf(lack, 8)
	}
	return text
}

// Seen says which state an exposure is of. For the state as found it can also tell what will change
// once the definitions are carried out.
type Seen struct {
	State   string
	Then    *decide.Decider // nil if there is nothing to compare with
	Exposed map[string]decide.Exposed
}

// WhereOf identifies an interface in both states.
func WhereOf(i *estate.Interface) string {
	return fmt.Sprintf("%s %s %v", i.Instance.Path(), i.ID, i.Private)
}

// later says what changes at an interface once the definitions are carried out.
func (o Seen) later(x decide.Exposed) string {
	if o.Then == nil {
		return ""
	}
	then := o.Exposed[WhereOf(x.Interface)]
	var parts []string
	if gone := x.Traffic.Minus(then.Traffic); !gone.IsEmpty() {
		parts = append(parts, words.Services(o.Then.Estate(), gone.Services())+" no longer passes")
		if !gone.Equal(x.Traffic) {
			parts[0] += " from " + exposedPeers(o.Then, gone.Peers(service.All))
		}
	}
	if more := then.Traffic.Minus(x.Traffic); !more.IsEmpty() {
		parts = append(parts, words.Services(o.Then.Estate(), more.Services())+" passes too")
	}
	now, later := handedPassing(x), handedPassing(then)
	for _, name := range slices.Sorted(maps.Keys(now)) {
		if gone := now[name].Minus(later[name]); !gone.IsEmpty() {
			parts = append(parts, fmt.Sprintf("%s through %s no longer passes",
				words.Services(o.Then.Estate(), gone.Services()), name))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(later)) {
		if more := later[name].Minus(now[name]); !more.IsEmpty() {
			parts = append(parts, fmt.Sprintf("%s through %s passes too",
				words.Services(o.Then.Estate(), more.Services()), name))
		}
	}
	return strings.Join(parts, "; ")
}

// handedPassing is what passes through each balancer.
func handedPassing(x decide.Exposed) map[string]traffic.Set {
	all := make(map[string]traffic.Set)
	for _, h := range x.Handed {
		name := h.Balancer.Instance.Path()
		all[name] = all[name].Union(h.Asked.Passes)
	}
	return all
}

// more is the number of interfaces that will only be exposed once the definitions are carried out.
func (o Seen) more(found []decide.Exposed) int {
	now := make(map[string]bool)
	for _, x := range found {
		now[WhereOf(x.Interface)] = true
	}
	n := 0
	for where := range o.Exposed {
		if !now[where] {
			n++
		}
	}
	return n
}

// exposedPeers says to whom: to all strangers, or to how many addresses and which.
func exposedPeers(d *decide.Decider, peers addr.Set) string {
	strangers := d.Strangers()
	for _, f := range []addr.Family{addr.Both, addr.IPv4, addr.IPv6} {
		if of := strangers.Only(f); !of.IsEmpty() && peers.Equal(of) {
			return strings.TrimSpace("every stranger " +
				map[addr.Family]string{addr.IPv4: "over IPv4", addr.IPv6: "over IPv6"}[f])
		}
	}
	prefixes := peers.Prefixes()
	if len(prefixes) > 4 {
		return audit.PeersInWords(peers)
	}
	var shown []string
	for _, p := range prefixes {
		shown = append(shown, addr.PrefixString(p))
	}
	return strings.Join(shown, ", ") + " (" + peerCount(peers) + ")"
}

// exposedServices are the services that certainly arrive at an interface, directly or through
// balancers.
func exposedServices(x decide.Exposed) service.Set {
	all := x.Traffic.Union(x.OneWay).Services()
	for _, h := range x.Handed {
		if h.Target == x.Interface {
			all = all.Union(h.Arriving(h.Asked.Arrives().Services()))
		} else {
			all = all.Union(h.Asked.Arrives().Services())
		}
	}
	return all
}

// ExposureMatrix writes a table of groups and services. Each cell is the number of the group's
// interfaces that are exposed on the service, directly or through balancers.
func ExposureMatrix(s *Screen, d *decide.Decider, found []decide.Exposed, state string) {
	e := d.Estate()
	found = slices.DeleteFunc(slices.Clone(found), func(x decide.Exposed) bool {
		if x.Undecided != "" {
			s.Labelled(0, Piece{"undecided", Warm}, findingLabel,
				Piece{Text: x.Interface.Instance.Name + ": " + x.Undecided})
		} else if !x.Unsure.IsEmpty() {
			s.Labelled(0, Piece{"undecided", Warm}, findingLabel,
				Piece{Text: x.Interface.Instance.Name + ": more may arrive, the survey does not say enough"})
		}
		return exposedServices(x).IsEmpty()
	})
	columns := matrixServices(e, found)
	counts := make(map[string]map[string]int)
	var rows []string
	width := 20
	for _, x := range found {
		for _, g := range d.GroupsAt(x.Interface) {
			name := g.Path()
			if counts[name] == nil {
				counts[name] = make(map[string]int)
				rows = append(rows, name)
				width = max(width, Columns(name)+2)
			}
			for _, c := range columns {
				if exposedServices(x).Overlaps(c.set) {
					counts[name][c.name]++
				}
			}
		}
	}
	slices.Sort(rows)
	head := []Piece{{Pad("group", width), Faint}}
	for _, c := range columns {
		head = append(head, Piece{Pad(c.name, max(6, len(c.name)+2)), Faint})
	}
	s.Line(head...)
	for _, r := range rows {
		line := []Piece{{Pad(r, width), Accent}}
		for _, c := range columns {
			text, style := "·", Faint
			if n := counts[r][c.name]; n > 0 {
				text, style = Number(n), Hot
			}
			line = append(line, Piece{Pad(text, max(6, len(c.name)+2)), style})
		}
		s.Line(line...)
	}
	s.Text(0, "interfaces of each group that are exposed on each service, directly or through balancers; others "+
		"stands for all services without a column")
	s.Line(Piece{judgedWords(e, state), Faint})
}

type matrixColumn struct {
	name string
	set  service.Set
}

// matrixServices are the first eight named services that are exposed; all others share one column.
func matrixServices(e *estate.Estate, found []decide.Exposed) []matrixColumn {
	const most = 8
	var columns []matrixColumn
	rest := service.All
	for _, x := range found {
		for _, w := range e.Services.Words(exposedServices(x)) {
			named, ok := e.Services.Lookup(w)
			if !ok || len(columns) == most ||
				slices.ContainsFunc(columns, func(c matrixColumn) bool { return c.name == w }) {
				continue
			}
			columns = append(columns, matrixColumn{w, named.Set()})
			rest = rest.Minus(named.Set())
		}
	}
	slices.SortFunc(columns, func(a, b matrixColumn) int { return strings.Compare(a.name, b.name) })
	return append(columns, matrixColumn{"others", rest})
}

// ExposureJSON writes an exposure as one JSON document, version 2.
func ExposureJSON(w io.Writer, e *estate.Estate, found []decide.Exposed, direction estate.Direction,
	state string) error {
	type by struct {
		Group    string `json:"group"`
		Sentence string `json:"sentence"`
		placeJSON
	}
	type handed struct {
		Through  []string    `json:"through"`  // balancers, the outermost first
		Target   string      `json:"target"`   // the instance
		Services []string    `json:"services"` // as the target gets them
		Traffic  []blockJSON `json:"traffic"`  // of the outermost balancer
		OneWay   []blockJSON `json:"one_way"`
		Unsure   []blockJSON `json:"perhaps"`
		Rules    []by        `json:"rules"`
	}
	type item struct {
		Instance  string      `json:"instance"`
		Account   string      `json:"account"`
		Subnet    string      `json:"subnet"`
		Private   []string    `json:"private"`
		Public    []string    `json:"public"`
		Traffic   []blockJSON `json:"traffic"`
		OneWay    []blockJSON `json:"one_way"` // arrives, but an answer to it is stopped
		Unsure    []blockJSON `json:"perhaps"` // may arrive: the survey does not say enough
		Undecided string      `json:"undecided,omitempty"`
		Rules     []by        `json:"rules"`
		Handed    []handed    `json:"handed_on"`
	}
	rules := func(list []decide.Deciding) []by {
		all := []by{}
		for _, r := range list {
			all = append(all, by{r.Group.Path(), r.Rule.Sentence(e.Services), at(r.Rule.Origin)})
		}
		return all
	}
	items := []item{}
	for _, x := range found {
		i := x.Interface
		y := item{Instance: i.Instance.Name, Account: i.Instance.Account.Name, Subnet: i.Subnet.Path(),
			Private: []string{}, Public: []string{},
			Traffic: blocksToJSON(x.Traffic), OneWay: blocksToJSON(x.OneWay), Unsure: blocksToJSON(x.Unsure),
			Undecided: x.Undecided, Rules: rules(x.Rules), Handed: []handed{}}
		for _, a := range i.Private {
			y.Private = append(y.Private, a.String())
		}
		for _, a := range i.Public {
			y.Public = append(y.Public, a.String())
		}
		for _, h := range x.Handed {
			z := handed{Target: h.Target.Instance.Path(), Traffic: blocksToJSON(h.Asked.Passes),
				OneWay: blocksToJSON(h.Asked.OneWay), Unsure: blocksToJSON(h.Asked.Undecided), Rules: rules(h.Rules)}
			for _, b := range h.Through {
				z.Through = append(z.Through, b.Path())
			}
			for _, spec := range h.Arriving(h.Asked.Arrives().Union(h.Asked.Undecided).Services()).RunSpecs() {
				z.Services = append(z.Services, spec.String())
			}
			y.Handed = append(y.Handed, z)
		}
		items = append(items, y)
	}
	return writeJSON(w, struct {
		Version   int          `json:"version"`
		State     string       `json:"state"`
		Direction string       `json:"direction"`
		Exposed   []item       `json:"exposed"`
		Unread    []unreadJSON `json:"unread"`
	}{2, state, string(direction), items, unreadToJSON(e.Unread)})
}
