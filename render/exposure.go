package render

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Exposure writes for each instance what can be reached, by whom, and the rules behind it.
func Exposure(s *Screen, d *decide.Decider, found []decide.Exposed, direction estate.Direction, who string, o Seen) {
	e := d.Estate()
	exposed, undecided := 0, make(map[string][]string)
	var reasons []string
	for _, x := range found {
		if x.Undecided != "" {
			if undecided[x.Undecided] == nil {
				reasons = append(reasons, x.Undecided)
			}
			undecided[x.Undecided] = append(undecided[x.Undecided], x.Interface.Instance.Name)
			continue
		}
		exposed++
		i := x.Interface
		var publics []string
		for _, a := range i.Public {
			publics = append(publics, a.String())
		}
		s.Ends(Piece{strings.Join(publics, ", "), Faint}, Piece{Pad(i.Instance.Name, 20), Accent}, Piece{" " + i.Subnet.Path(), Plain})
		for _, b := range x.Traffic.Blocks() {
			text := manyServices(e, b.Services)
			s.Labelled(2, Piece{map[estate.Direction]string{estate.In: "open", estate.Out: "reaches"}[direction], Faint}, 9, Piece{text, Strong})
			s.Labelled(2, Piece{map[estate.Direction]string{estate.In: "to", estate.Out: "at"}[direction], Faint}, 9, Piece{Text: exposedPeers(d, b.Peers)})
		}
		for _, b := range x.OneWay.Blocks() {
			s.Labelled(2, Piece{"one way", Warm}, 9, Piece{manyServices(e, b.Services), Strong})
			s.Labelled(2, Piece{map[estate.Direction]string{estate.In: "from", estate.Out: "at"}[direction], Faint}, 9, Piece{Text: exposedPeers(d, b.Peers) + ": it arrives, and an answer is stopped"})
		}
		if text := o.later(x); text != "" {
			s.Labelled(2, Piece{"once carried out", Warm}, 18, Piece{Text: text})
		}
		for k, r := range x.Rules {
			label := first(k, "by")
			text := r.Rule.Sentence(e.Services) + "  (" + r.Group.Path()
			if at := place(r.Rule.Origin); at != "" {
				text += ", " + at
			}
			s.Labelled(2, Piece{label, Faint}, 9, Piece{Text: text + ")"})
		}
		for _, l := range i.Instance.Listeners {
			var targets []string
			for _, t := range l.Targets {
				targets = append(targets, t.Name)
			}
			s.Labelled(2, Piece{"hands on", Faint}, 9, Piece{Text: fmt.Sprintf("%s to %s on port %d", l.Service, strings.Join(targets, ", "), l.Port)})
		}
		s.Blank()
	}
	verb := map[estate.Direction]string{estate.In: "can be reached by", estate.Out: "can reach"}[direction]
	for _, reason := range reasons {
		s.Labelled(0, Piece{"undecided", Warm}, findingLabel, Piece{Text: fmt.Sprintf("%s: %s", someOf(undecided[reason], 6), reason)})
	}
	if n := o.more(found); n > 0 {
		s.Text(0, fmt.Sprintf("once the definitions are carried out, %s more: --state defined shows them", Count(n, "interface", "interfaces")))
	}
	s.Line(Piece{fmt.Sprintf("%s %s %s", Count(exposed, "interface", "interfaces"), verb, who), Strong})
	s.Line(Piece{judgedWords(e, o.State), Faint})
}

// Seen is which state an exposure is of, and where it is as found, what becomes of it
// once the definitions are carried out.
type Seen struct {
	State   string
	Then    *decide.Decider // nil where there is nothing to compare with
	Exposed map[string]decide.Exposed
}

// WhereOf is what an interface is known by in both states.
func WhereOf(i *estate.Interface) string {
	return fmt.Sprintf("%s %s %v", i.Instance.Path(), i.ID, i.Private)
}

// later says what differs at an interface once the definitions are carried out.
func (o Seen) later(x decide.Exposed) string {
	if o.Then == nil {
		return ""
	}
	then := o.Exposed[WhereOf(x.Interface)]
	var parts []string
	if gone := x.Traffic.Minus(then.Traffic); !gone.IsEmpty() {
		parts = append(parts, manyServices(o.Then.Estate(), gone.Services())+" no longer passes")
		if !gone.Equal(x.Traffic) {
			parts[0] += " from " + exposedPeers(o.Then, gone.Peers(service.All))
		}
	}
	if more := then.Traffic.Minus(x.Traffic); !more.IsEmpty() {
		parts = append(parts, manyServices(o.Then.Estate(), more.Services())+" passes too")
	}
	return strings.Join(parts, "; ")
}

// more is how many interfaces are exposed once the definitions are carried out, and not now.
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

// exposedPeers says who: all strangers, or how many addresses and which.
func exposedPeers(d *decide.Decider, peers addr.Set) string {
	strangers := d.Strangers()
	for _, f := range []addr.Family{addr.Both, addr.IPv4, addr.IPv6} {
		if of := strangers.Only(f); !of.IsEmpty() && peers.Equal(of) {
			return strings.TrimSpace("every stranger " + map[addr.Family]string{addr.IPv4: "over IPv4", addr.IPv6: "over IPv6"}[f])
		}
	}
	prefixes := peers.Prefixes()
	var shown []string
	for _, p := range prefixes[:min(4, len(prefixes))] {
		shown = append(shown, addr.PrefixString(p))
	}
	text := strings.Join(shown, ", ")
	if len(prefixes) > 4 {
		text += " and " + Count(len(prefixes)-4, "more range", "more ranges")
	}
	return text + " (" + peerCount(peers) + ")"
}

// ExposureMatrix writes a table of groups and services: in each field how many
// interfaces that wear the group are exposed on the service.
func ExposureMatrix(s *Screen, d *decide.Decider, found []decide.Exposed, state string) {
	e := d.Estate()
	found = slices.DeleteFunc(slices.Clone(found), func(x decide.Exposed) bool {
		if x.Undecided != "" {
			s.Labelled(0, Piece{"undecided", Warm}, findingLabel, Piece{Text: x.Interface.Instance.Name + ": " + x.Undecided})
		}
		return x.Undecided != ""
	})
	columns := matrixServices(e, found)
	counts := make(map[string]map[string]int)
	var rows []string
	width := 20
	for _, x := range found {
		for _, g := range d.Worn(x.Interface) {
			name := g.Path()
			if counts[name] == nil {
				counts[name] = make(map[string]int)
				rows = append(rows, name)
				width = max(width, Columns(name)+2)
			}
			for _, c := range columns {
				if x.Traffic.Union(x.OneWay).Services().Overlaps(c.set) {
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
	s.Line(Piece{"interfaces of each group that are exposed on each service; others stands for all services without a column", Faint})
	s.Line(Piece{judgedWords(e, state), Faint})
}

type matrixColumn struct {
	name string
	set  service.Set
}

// matrixServices are the named services that something is exposed on by itself,
// the first eight, and one column for all others.
func matrixServices(e *estate.Estate, found []decide.Exposed) []matrixColumn {
	const most = 8
	var columns []matrixColumn
	rest := service.All
	for _, x := range found {
		for _, w := range e.Services.Words(x.Traffic.Union(x.OneWay).Services()) {
			named, ok := e.Services.Lookup(w)
			if !ok || len(columns) == most || slices.ContainsFunc(columns, func(c matrixColumn) bool { return c.name == w }) {
				continue
			}
			columns = append(columns, matrixColumn{w, named.Set()})
			rest = rest.Minus(named.Set())
		}
	}
	slices.SortFunc(columns, func(a, b matrixColumn) int { return strings.Compare(a.name, b.name) })
	return append(columns, matrixColumn{"others", rest})
}

// ExposureJSON writes an exposure as one JSON document, version 1.
func ExposureJSON(w io.Writer, e *estate.Estate, found []decide.Exposed, direction estate.Direction, state string) error {
	type block struct {
		Services []string `json:"services"`
		Peers    []string `json:"peers"`
	}
	type by struct {
		Group    string `json:"group"`
		Sentence string `json:"sentence"`
		placeJSON
	}
	type item struct {
		Instance string   `json:"instance"`
		Account  string   `json:"account"`
		Subnet   string   `json:"subnet"`
		Private  []string `json:"private"`
		Public   []string `json:"public"`
		Traffic  []block  `json:"traffic"`
		OneWay   []block  `json:"one_way"` // arrives although an answer is stopped
		Unsure   string   `json:"undecided,omitempty"`
		Rules    []by     `json:"rules"`
	}
	items := []item{}
	for _, x := range found {
		i := x.Interface
		y := item{Instance: i.Instance.Name, Account: i.Instance.Account.Name, Subnet: i.Subnet.Path(), Private: []string{}, Public: []string{}, Traffic: []block{}, OneWay: []block{}, Unsure: x.Undecided, Rules: []by{}}
		for _, a := range i.Private {
			y.Private = append(y.Private, a.String())
		}
		for _, a := range i.Public {
			y.Public = append(y.Public, a.String())
		}
		blocks := func(set traffic.Set) []block {
			all := []block{}
			for _, b := range set.Blocks() {
				z := block{[]string{}, []string{}}
				for _, spec := range b.Services.RunSpecs() {
					z.Services = append(z.Services, spec.String())
				}
				for _, p := range b.Peers.Prefixes() {
					z.Peers = append(z.Peers, p.String())
				}
				all = append(all, z)
			}
			return all
		}
		y.Traffic, y.OneWay = blocks(x.Traffic), blocks(x.OneWay)
		for _, r := range x.Rules {
			y.Rules = append(y.Rules, by{r.Group.Path(), r.Rule.Sentence(e.Services), at(r.Rule.Origin)})
		}
		items = append(items, y)
	}
	return writeJSON(w, struct {
		Version   int          `json:"version"`
		State     string       `json:"state"`
		Direction string       `json:"direction"`
		Exposed   []item       `json:"exposed"`
		Unread    []unreadJSON `json:"unread"`
	}{1, state, string(direction), items, unreadToJSON(e.Unread)})
}
