package render

import (
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"

	"isonomos/core/change"
	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
	"isonomos/words"
)

// changeWords are the words for each kind of change, and their style.
var changeWords = map[change.Kind]struct {
	word  string
	style Style
}{change.Opens: {"opens", Hot}, change.Closes: {"closes", Cool}, change.Lost: {"one-way",
	Warm}, change.Regained: {"answers", Cool}}

// Comparison writes how a second state differs from a first: what opens and closes by filters, the
// most important first; then by ways; then rules.
func Comparison(s *Screen, e *estate.Estate, d change.Difference, weaker []string, before, after string) {
	s.Line(Piece{"from ", Faint}, Piece{before, Strong}, Piece{" to ", Faint}, Piece{after, Strong})
	s.Blank()
	ways := false
	for n, f := range folded(d.Changes) {
		if n > 0 {
			s.Blank()
		}
		if f.lead.Way && !ways {
			s.Line(Piece{"by other ways", Strong})
			ways = true
		}
		showChange(s, e, d.StandIns, f.lead)
		for k, c := range f.rest[:min(mostFolded, len(f.rest))] {
			s.Labelled(findingIndent, Piece{first(k, "as well"), Faint}, findingLabel,
				Piece{Text: c.Place() + " " + foldedText(e, d.StandIns, f.lead, c)})
		}
		if left := len(f.rest) - mostFolded; left > 0 {
			s.Labelled(findingIndent, Piece{"", Faint}, findingLabel,
				Piece{Text: fmt.Sprintf("and %s more: --format json has all of them", Number(left))})
		}
	}
	for _, c := range d.Covers {
		s.Line(Piece{Pad("covers", findingIndent), Warm}, Piece{c.Group.Path(), Accent},
			Piece{"  " + coverText(c), Plain})
	}
	for _, text := range d.Unknown {
		s.Labelled(0, Piece{"unknown", Warm}, findingIndent, Piece{Text: text})
	}
	rules := false
	for _, x := range ruleMoves(d) {
		if !rules {
			s.Blank()
			s.Line(Piece{"rules", Strong})
			rules = true
		}
		s.Labelled(2, Piece{x.word, Faint}, 6, Piece{Text: x.text + "  (" + x.place + ")"})
	}
	if len(d.Respelt) > 0 {
		if !d.Empty() {
			s.Blank()
		}
		s.Text(0, fmt.Sprintf("Written differently, with the same meaning: %s.", someOf(d.Respelt, 12)))
	}
	if d.Empty() {
		s.Line(Piece{"equal: both let through the same", Cool})
	}
	if len(weaker) > 0 {
		s.Blank()
	}
	weakerThanBefore(s, weaker)
}

// weakerThanBefore tells which promises are weaker: that no traffic changes does not mean that nothing does.
func weakerThanBefore(s *Screen, weaker []string) {
	for i, text := range weaker {
		s.Labelled(0, Piece{first(i, "weaker"), Warm}, findingIndent, Piece{Text: text})
	}
}

// A fold holds changes of one kind with one cause at several places. The first is shown in full.
type fold struct {
	lead *change.Change
	rest []*change.Change
}

// mostFolded is the most changes of one cause that are shown, apart from the first.
const mostFolded = 20

// folded collects changes by their cause, those of ways last.
func folded(changes []change.Change) []fold {
	by := make(map[string][]*change.Change)
	cause := func(c *change.Change) string { return fmt.Sprintf("%s %v %q", c.Kind, c.Way, c.Causes) }
	for i := range changes {
		if c := &changes[i]; len(c.Causes) > 0 && c.Group != nil && !c.Nobody {
			by[cause(c)] = append(by[cause(c)], c)
		}
	}
	var list []fold
	done := make(map[*change.Change]bool)
	for _, way := range []bool{false, true} {
		for i := range changes {
			c := &changes[i]
			if c.Way != way || done[c] {
				continue
			}
			f := fold{lead: c}
			if same := by[cause(c)]; len(same) > 2 && slices.Contains(same, c) {
				f.rest = slices.DeleteFunc(slices.Clone(same), func(x *change.Change) bool { return x == c })
				for _, x := range same {
					done[x] = true
				}
			}
			list = append(list, f)
		}
	}
	return list
}

var directionWords = map[estate.Direction]string{estate.In: "inward", estate.Out: "outward"}

// foldedText is one line for a change that has the same cause as another one.
func foldedText(e *estate.Estate, made []change.StandIn, lead, c *change.Change) string {
	what := words.TrafficNaming(e, c.Traffic, c.Direction, made)
	if blocks := c.Traffic.Blocks(); len(blocks) == 1 && blocks[0].Peers.Equal(lead.Traffic.Peers(service.All)) {
		what = words.Services(e, blocks[0].Services)
	}
	return fmt.Sprintf("%s: %s, at %s", directionWords[c.Direction], what,
		Count(len(c.Instances), "instance", "instances"))
}

func showChange(s *Screen, e *estate.Estate, made []change.StandIn, c *change.Change) {
	right := ""
	if c.Rule != nil {
		right = place(c.Rule.Origin)
	}
	s.Ends(Piece{right, Faint}, Piece{Pad(changeWords[c.Kind].word, findingIndent), changeWords[c.Kind].style},
		Piece{c.Place(), Accent},
		Piece{"  " + directionWords[c.Direction], Faint})
	s.Text(findingIndent, words.TrafficNaming(e, c.Traffic, c.Direction, made))
	if text := words.Answers(c); text != "" {
		s.Text(findingIndent, text)
	}
	for k, cause := range c.Causes {
		s.Labelled(findingIndent, Piece{first(k, "because"), Faint}, findingLabel, Piece{Text: cause})
	}
	s.Labelled(findingIndent, Piece{"for example", Faint}, findingLabel, Piece{Text: changeExample(c, made)})
	if len(c.Instances) > 0 && (c.Group != nil || len(c.Instances) > 1) {
		s.Labelled(findingIndent, Piece{"instances", Faint}, findingLabel, Piece{Text: someOf(c.Instances, 6)})
	}
}

// changeExample is a flow that a change decides otherwise, or the reason why there is none.
func changeExample(c *change.Change, made []change.StandIn) string {
	x := c.Example
	switch {
	case x != nil:
		return fmt.Sprintf("%s → %s %s: %s, then %s", endText(x.From, made), endText(x.To, made), x.Service, x.Was,
			x.Is)
	case c.Nobody:
		return "none: the group is attached to nothing"
	case len(c.Instances) == 0:
		return "none found among made-up members"
	}
	if x = c.Tried; x == nil {
		return "none found: no way leads there, or another filter stops it"
	}
	text := fmt.Sprintf("none found: %s → %s %s is %s", endText(x.From, made), endText(x.To, made), x.Service, x.Was)
	if x.Was == x.Is {
		return text + " in both"
	}
	return text + ", then " + string(x.Is)
}

// endText is an end of an example. For a made-up address it says what it stands for.
func endText(end string, made []change.StandIn) string {
	a, err := netip.ParseAddr(end)
	if err != nil {
		return end
	}
	for _, x := range made {
		if x.Range.Contains(a) {
			return x.Name
		}
	}
	return end
}

func coverText(c change.CoverChange) string {
	return "covers " + orNothing(c.After) + "; before " + orNothing(c.Before)
}

func orNothing(list []string) string {
	if len(list) == 0 {
		return "nothing"
	}
	return strings.Join(list, ", ")
}

// A ruleMove is a rule that was added or removed.
type ruleMove struct{ word, text, place string }

func ruleMoves(d change.Difference) []ruleMove {
	var moves []ruleMove
	seen := make(map[ruleMove]bool)
	for i := range d.Changes {
		c := &d.Changes[i]
		for _, x := range []struct {
			word string
			list []string
		}{{"gone", c.Gone}, {"new", c.New}} {
			for _, text := range x.list {
				if m := (ruleMove{x.word, text, c.Place()}); !seen[m] {
					seen[m] = true
					moves = append(moves, m)
				}
			}
		}
	}
	return moves
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

// namedBlocks are blocks in which made-up ranges have the names of what they stand for.
func namedBlocks(set traffic.Set, made []change.StandIn) []blockJSON {
	blocks := blocksToJSON(set)
	for i := range blocks {
		for k, peer := range blocks[i].Peers {
			for _, x := range made {
				if peer == x.Range.String() {
					blocks[i].Peers[k] = x.Name
				}
			}
		}
		blocks[i].Peers = slices.Compact(blocks[i].Peers)
	}
	return blocks
}

// ComparisonJSON writes a comparison as one JSON document, version 2.
func ComparisonJSON(w io.Writer, d change.Difference, weaker, notes []string, unread []estate.Unread) error {
	type example struct {
		From    string `json:"from"`
		To      string `json:"to"`
		Service string `json:"service"`
		Was     string `json:"was"`
		Is      string `json:"is"`
	}
	type changed struct {
		Kind      string      `json:"kind"`
		Group     string      `json:"group,omitempty"`
		Direction string      `json:"direction"`
		Traffic   []blockJSON `json:"traffic"`
		Instances []string    `json:"instances"`
		Causes    []string    `json:"causes"`
		Gone      []string    `json:"gone"`
		New       []string    `json:"new"`
		Way       bool        `json:"way"`
		Nobody    bool        `json:"attached_to_nothing"`
		Example   *example    `json:"example,omitempty"`
		placeJSON
	}
	type covers struct {
		Group  string   `json:"group"`
		Before []string `json:"before"`
		After  []string `json:"after"`
	}
	out := struct {
		Version int       `json:"version"`
		Equal   bool      `json:"equal"`
		Changes []changed `json:"changes"`
		Covers  []covers  `json:"covers"`
		Unknown []string  `json:"unknown"`
		Respelt []string  `json:"respelt"`
		Weaker  []string  `json:"weaker"`
		Notes   []string  `json:"notes"`

		Unread []unreadJSON `json:"unread"`
	}{2, d.Empty(), []changed{}, []covers{}, orNone(d.Unknown), orNone(d.Respelt), orNone(weaker), orNone(notes),
		unreadToJSON(unread)}
	for i := range d.Changes {
		c := &d.Changes[i]
		x := changed{Kind: string(c.Kind), Direction: string(c.Direction),
			Traffic: namedBlocks(c.Traffic, d.StandIns), Instances: orNone(c.Instances), Causes: orNone(c.Causes),
			Gone: orNone(c.Gone), New: orNone(c.New), Way: c.Way, Nobody: c.Nobody}
		if c.Group != nil {
			x.Group = c.Place()
		}
		if c.Rule != nil {
			x.placeJSON = at(c.Rule.Origin)
		}
		if f := c.Example; f != nil {
			x.Example = &example{endText(f.From, d.StandIns), endText(f.To, d.StandIns), f.Service.String(),
				string(f.Was), string(f.Is)}
		}
		out.Changes = append(out.Changes, x)
	}
	for _, c := range d.Covers {
		out.Covers = append(out.Covers, covers{c.Group.Path(), orNone(c.Before), orNone(c.After)})
	}
	return writeJSON(w, out)
}

// ComparisonMarkdown writes a comparison for a review comment: the summary first, rules folded.
func ComparisonMarkdown(w io.Writer, e *estate.Estate, d change.Difference, weaker []string, before, after string,
	notes []string, unread []estate.Unread) error {
	var b strings.Builder
	fmt.Fprintf(&b, "### Traffic from %s to %s\n\n", mark(before), mark(after))
	b.WriteString(notReadMarkdown(unread))
	if d.Empty() {
		b.WriteString("Equal: both let through the same.\n")
	}
	for i, text := range weaker {
		if i == 0 {
			b.WriteString("\nWeaker:\n\n")
		}
		fmt.Fprintf(&b, "- %s\n", mark(text))
	}
	ways := false
	for _, f := range folded(d.Changes) {
		if f.lead.Way && !ways {
			b.WriteString("\nBy other ways:\n\n")
			ways = true
		}
		changeMarkdown(&b, e, d.StandIns, f.lead)
		for _, c := range f.rest {
			fmt.Fprintf(&b, "  - as well %s %s\n", mark(c.Place()), mark(foldedText(e, d.StandIns, f.lead, c)))
		}
	}
	for _, c := range d.Covers {
		fmt.Fprintf(&b, "- %s %s\n", mark(c.Group.Path()), mark(coverText(c)))
	}
	for _, text := range d.Unknown {
		fmt.Fprintf(&b, "- **unknown**: %s\n", mark(text))
	}
	if moves := ruleMoves(d); len(moves) > 0 {
		b.WriteString("\n<details><summary>Rules</summary>\n\n")
		for _, m := range moves {
			fmt.Fprintf(&b, "- %s, %s: %s\n", mark(m.place), m.word, mark(m.text))
		}
		b.WriteString("\n</details>\n")
	}
	if len(d.Respelt) > 0 {
		fmt.Fprintf(&b, "\nWritten differently, with the same meaning: %s.\n", mark(strings.Join(d.Respelt, ", ")))
	}
	for _, text := range notes {
		fmt.Fprintf(&b, "\n%s\n", mark(text))
	}
	_, err := io.WriteString(w, b.String())
	return err
}

func changeMarkdown(b *strings.Builder, e *estate.Estate, made []change.StandIn, c *change.Change) {
	word := changeWords[c.Kind].word
	if c.Kind == change.Opens || c.Kind == change.Lost {
		word = "**" + word + "**"
	}
	fmt.Fprintf(b, "- %s %s %s: %s\n", mark(c.Place()), directionWords[c.Direction], word,
		mark(words.TrafficNaming(e, c.Traffic, c.Direction, made)))
	for _, text := range append([]string{words.Answers(c)}, c.Causes...) {
		if text != "" {
			fmt.Fprintf(b, "  - %s\n", mark(text))
		}
	}
	fmt.Fprintf(b, "  - for example %s\n", mark(changeExample(c, made)))
	if len(c.Instances) > 0 && (c.Group != nil || len(c.Instances) > 1) {
		fmt.Fprintf(b, "  - at %s\n", mark(someOf(c.Instances, 6)))
	}
}

var markdown = strings.NewReplacer("\\", "\\\\", "`", "\\`", "*", "\\*", "_", "\\_", "[", "\\[", "]", "\\]", "<",
	"&lt;", ">", "&gt;", "#", "\\#", "|", "\\|", "&", "&amp;", "!", "\\!", "@", "&#64;", "://", "&#58;//", "www.",
	"www&#46;", "~", "\\~")

// mark makes a text harmless in Markdown.
func mark(text string) string { return markdown.Replace(Clean(text)) }
