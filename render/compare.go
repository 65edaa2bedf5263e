package render

import (
	"fmt"
	"io"
	"strings"

	"isonomos/core/audit"
	"isonomos/core/change"
	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Comparison writes in what a second state differs from a first: what opens, what closes, then rules.
func Comparison(s *Screen, e *estate.Estate, d change.Difference, before, after string) {
	s.Line(Piece{"from ", Faint}, Piece{before, Strong}, Piece{" to ", Faint}, Piece{after, Strong})
	s.Blank()
	for _, opens := range []bool{true, false} {
		for _, g := range d.Groups {
			set, rule, word, style := g.Closes, g.ShutBy, "closes", Cool
			if opens {
				set, rule, word, style = g.Opens, g.OpenBy, "opens", Hot
			}
			if set.IsEmpty() {
				continue
			}
			right := ""
			if rule != nil {
				right = place(rule.Origin)
			}
			s.Ends(Piece{right, Faint}, Piece{Pad(word, findingIndent), style}, Piece{g.Path, Accent}, Piece{map[estate.Direction]string{estate.In: "  inward", estate.Out: "  outward"}[g.Direction] + existence(g), Faint})
			differing(s, e, set, g.Direction)
			if len(g.Instances) > 0 {
				s.Labelled(findingIndent, Piece{"instances", Faint}, findingLabel, Piece{Text: someOf(g.Instances, 6)})
			}
		}
	}
	for _, w := range d.Worn {
		s.Line(Piece{Pad("wears", findingIndent), Warm}, Piece{w.Instance, Accent}, Piece{wornText(w), Plain})
		for _, x := range []struct {
			word      string
			set       traffic.Set
			direction estate.Direction
		}{{"opens", w.OpensIn, estate.In}, {"closes", w.ClosesIn, estate.In}, {"opens", w.OpensOut, estate.Out}, {"closes", w.ClosesOut, estate.Out}} {
			if !x.set.IsEmpty() {
				s.Labelled(findingIndent, Piece{x.word, Faint}, findingLabel, Piece{Text: setText(e, x.set, x.direction)})
			}
		}
	}
	rules := false
	for _, g := range d.Groups {
		for _, x := range []struct {
			word string
			list []string
		}{{"gone", g.Gone}, {"new", g.New}} {
			for _, text := range x.list {
				if !rules {
					s.Blank()
					s.Line(Piece{"rules", Strong})
					rules = true
				}
				s.Labelled(2, Piece{x.word, Faint}, 6, Piece{Text: text + "  (" + g.Path + ")"})
			}
		}
	}
	if len(d.Respelt) > 0 {
		if !d.Empty() {
			s.Blank()
		}
		s.Text(0, fmt.Sprintf("Written differently, and the same in meaning: %s.", someOf(d.Respelt, 12)))
	}
	if d.Empty() {
		s.Line(Piece{"equal: both let through the same", Cool})
	}
}

func existence(g change.GroupDifference) string {
	switch {
	case g.Before == nil:
		return ", a new group"
	case g.After == nil:
		return ", the group is gone"
	}
	return ""
}

func wornText(w change.WornDifference) string {
	var parts []string
	if len(w.PutOn) > 0 {
		parts = append(parts, "puts on "+strings.Join(w.PutOn, ", "))
	}
	if len(w.TakeOff) > 0 {
		parts = append(parts, "takes off "+strings.Join(w.TakeOff, ", "))
	}
	if len(parts) == 0 {
		parts = append(parts, "is filtered otherwise")
	}
	return "  " + strings.Join(parts, ", ")
}

func differing(s *Screen, e *estate.Estate, set traffic.Set, direction estate.Direction) {
	s.Text(findingIndent, setText(e, set, direction))
	if w, ok := set.Witness(); ok {
		s.Labelled(findingIndent, Piece{"for example", Faint}, findingLabel, Piece{Text: fmt.Sprintf("%s %s %s", map[estate.Direction]string{estate.In: "from", estate.Out: "to"}[direction], w.Peer, w.Service)})
	}
}

// setText says services and peers of some traffic.
func setText(e *estate.Estate, set traffic.Set, direction estate.Direction) string {
	var parts []string
	preposition := map[estate.Direction]string{estate.In: "from", estate.Out: "to"}[direction]
	if peers := set.Peers(service.All); !peers.IsEmpty() && set.Equal(traffic.Of(peers, service.All)) {
		return fmt.Sprintf("everything %s %s", preposition, audit.PeersInWords(peers))
	}
	blocks := set.Blocks()
	for _, b := range blocks[:min(4, len(blocks))] {
		parts = append(parts, fmt.Sprintf("%s %s %s", manyServices(e, b.Services), preposition, audit.PeersInWords(b.Peers)))
	}
	if len(blocks) > 4 {
		parts = append(parts, "and "+Count(len(blocks)-4, "more kind", "more kinds")+" of traffic")
	}
	return strings.Join(parts, "; ")
}

func someOf(list []string, most int) string { return count.Some(list, most) }

type blockJSON struct {
	Services []string `json:"services"`
	Peers    []string `json:"peers"`
}

func blocksToJSON(set traffic.Set) []blockJSON {
	blocks := []blockJSON{}
	for _, b := range set.Blocks() {
		x := blockJSON{[]string{}, []string{}}
		for _, spec := range b.Services.RunSpecs() {
			x.Services = append(x.Services, spec.String())
		}
		for _, p := range b.Peers.Prefixes() {
			x.Peers = append(x.Peers, p.String())
		}
		blocks = append(blocks, x)
	}
	return blocks
}

// ComparisonJSON writes a comparison as one JSON document, version 1.
func ComparisonJSON(w io.Writer, d change.Difference, unread []estate.Unread) error {
	type group struct {
		Group     string      `json:"group"`
		Direction string      `json:"direction"`
		Opens     []blockJSON `json:"opens"`
		Closes    []blockJSON `json:"closes"`
		Gone      []string    `json:"gone"`
		New       []string    `json:"new"`
		Instances []string    `json:"instances"`
	}
	type worn struct {
		Instance  string      `json:"instance"`
		PutOn     []string    `json:"put_on"`
		TakeOff   []string    `json:"take_off"`
		OpensIn   []blockJSON `json:"opens_in"`
		ClosesIn  []blockJSON `json:"closes_in"`
		OpensOut  []blockJSON `json:"opens_out"`
		ClosesOut []blockJSON `json:"closes_out"`
	}
	out := struct {
		Version int      `json:"version"`
		Equal   bool     `json:"equal"`
		Groups  []group  `json:"groups"`
		Worn    []worn   `json:"worn"`
		Respelt []string `json:"respelt"`

		Unread []unreadJSON `json:"unread"`
	}{1, d.Empty(), []group{}, []worn{}, orNone(d.Respelt), unreadToJSON(unread)}
	for _, g := range d.Groups {
		out.Groups = append(out.Groups, group{g.Path, string(g.Direction), blocksToJSON(g.Opens), blocksToJSON(g.Closes), orNone(g.Gone), orNone(g.New), orNone(g.Instances)})
	}
	for _, x := range d.Worn {
		out.Worn = append(out.Worn, worn{x.Instance, orNone(x.PutOn), orNone(x.TakeOff), blocksToJSON(x.OpensIn), blocksToJSON(x.ClosesIn), blocksToJSON(x.OpensOut), blocksToJSON(x.ClosesOut)})
	}
	return writeJSON(w, out)
}

// ComparisonMarkdown writes a comparison for a review comment: the summary first, rules folded.
func ComparisonMarkdown(w io.Writer, e *estate.Estate, d change.Difference, before, after string, unread []estate.Unread) error {
	var b strings.Builder
	fmt.Fprintf(&b, "### Traffic from %s to %s\n\n", mark(before), mark(after))
	b.WriteString(notReadMarkdown(unread))
	if d.Empty() {
		b.WriteString("Equal: both let through the same.\n")
	}
	for _, opens := range []bool{true, false} {
		for _, g := range d.Groups {
			set, word := g.Closes, "closes"
			if opens {
				set, word = g.Opens, "**opens**"
			}
			if !set.IsEmpty() {
				fmt.Fprintf(&b, "- %s %s: %s\n", mark(g.Path), word, mark(setText(e, set, g.Direction)))
			}
		}
	}
	for _, x := range d.Worn {
		fmt.Fprintf(&b, "- %s%s\n", mark(x.Instance), mark(wornText(x)))
	}
	if len(d.Groups) > 0 {
		b.WriteString("\n<details><summary>Rules</summary>\n\n")
		for _, g := range d.Groups {
			for _, text := range g.Gone {
				fmt.Fprintf(&b, "- %s, gone: %s\n", mark(g.Path), mark(text))
			}
			for _, text := range g.New {
				fmt.Fprintf(&b, "- %s, new: %s\n", mark(g.Path), mark(text))
			}
		}
		b.WriteString("\n</details>\n")
	}
	if len(d.Respelt) > 0 {
		fmt.Fprintf(&b, "\nWritten differently, and the same in meaning: %s.\n", mark(strings.Join(d.Respelt, ", ")))
	}
	_, err := io.WriteString(w, b.String())
	return err
}

var markdown = strings.NewReplacer("\\", "\\\\", "`", "\\`", "*", "\\*", "_", "\\_", "[", "\\[", "]", "\\]", "<", "&lt;", ">", "&gt;", "#", "\\#", "|", "\\|", "&", "&amp;", "!", "\\!", "@", "&#64;", "://", "&#58;//", "www.", "www&#46;", "~", "\\~")

// mark makes a text harmless in Markdown.
func mark(text string) string { return markdown.Replace(Clean(text)) }
