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
)

// Exposure writes for each instance what can be reached, by whom, and the rules behind it.
func Exposure(s *Screen, e *estate.Estate, d *decide.Decider, found []decide.Exposed, direction estate.Direction, who string) {
	for _, x := range found {
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
	s.Line(Piece{fmt.Sprintf("%s %s %s", Count(len(found), "interface", "interfaces"), verb, who), Strong})
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
		text += fmt.Sprintf(" and %d more ranges", len(prefixes)-4)
	}
	return text + " (" + peerCount(peers) + ")"
}

// ExposureMatrix writes a table of groups and services: in each field how many
// interfaces that wear the group are exposed on the service.
func ExposureMatrix(s *Screen, e *estate.Estate, d *decide.Decider, found []decide.Exposed) {
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
				if x.Traffic.Services().Overlaps(c.set) {
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
		for _, w := range e.Services.Words(x.Traffic.Services()) {
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
func ExposureJSON(w io.Writer, e *estate.Estate, found []decide.Exposed, direction estate.Direction) error {
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
		Rules    []by     `json:"rules"`
	}
	items := []item{}
	for _, x := range found {
		i := x.Interface
		y := item{Instance: i.Instance.Name, Account: i.Instance.Account.Name, Subnet: i.Subnet.Path(), Private: []string{}, Public: []string{}, Traffic: []block{}, Rules: []by{}}
		for _, a := range i.Private {
			y.Private = append(y.Private, a.String())
		}
		for _, a := range i.Public {
			y.Public = append(y.Public, a.String())
		}
		for _, b := range x.Traffic.Blocks() {
			z := block{[]string{}, []string{}}
			for _, spec := range b.Services.Specs() {
				z.Services = append(z.Services, spec.String())
			}
			for _, p := range b.Peers.Prefixes() {
				z.Peers = append(z.Peers, p.String())
			}
			y.Traffic = append(y.Traffic, z)
		}
		for _, r := range x.Rules {
			y.Rules = append(y.Rules, by{r.Group.Path(), r.Rule.Sentence(e.Services), at(r.Rule.Origin)})
		}
		items = append(items, y)
	}
	return writeJSON(w, struct {
		Version   int    `json:"version"`
		Direction string `json:"direction"`
		Exposed   []item `json:"exposed"`
	}{1, string(direction), items})
}
