package render

import (
	"fmt"
	"math"
	"math/big"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/narrow"
	"isonomos/core/service"
	"isonomos/core/traffic"
	"isonomos/words"
	"isonomos/work"
)

// A Narrowing is proposals, to be shown.
type Narrowing struct {
	World  work.World
	Result work.Result
	Flows  *flow.Summary // the evidence; nil if none was given
	Ranked bool          // they are of many groups: begin with a summary
	Curve  bool          // show the trade-off between rules and excess
	Limit  int           // how many proposals are shown; 0 means all
}

// Proposals writes proposals for a terminal.
func Proposals(s *Screen, n Narrowing) {
	d := decide.New(n.World.Estate)
	shown := n.Result.Proposals
	if n.Limit > 0 && len(shown) > n.Limit {
		shown = shown[:n.Limit]
	}
	for i := range shown {
		proposal(s, n, d, &shown[i])
		s.Blank()
	}
	if left := len(n.Result.Proposals) - len(shown); left > 0 {
		s.Text(0, fmt.Sprintf("and %s more: --limit 0 shows all, --format json has everything", Number(left)))
		s.Blank()
	}
	if n.Ranked && len(n.Result.Proposals) > 0 {
		s.Labelled(2, Piece{"in all", Strong}, findingLabel, Piece{Text: inAll(n.Result)})
	}
	if slices.ContainsFunc(n.Result.Proposals, func(c work.Checked) bool { return c.Changed && c.Refused == "" }) {
		text := "by deciding the result: nothing more is let through than before, all that is needed still is"
		if e := n.Result.Expects; e.All > 0 {
			text += fmt.Sprintf(", %s of %s (%s before)", Number(e.After),
				Count(e.All, "expectation holds", "expectations hold"), Number(e.Before)) + undecidedText(e.Unsure)
		}
		s.Labelled(2, Piece{"checked", Cool}, findingLabel, Piece{Text: text})
	}
	for i, note := range n.Result.Notes {
		s.Labelled(2, Piece{first(i, "but"), Warm}, findingLabel, Piece{Text: note})
	}
}

// inAll is the sum of all proposals.
func inAll(r work.Result) string {
	groups := make(map[*estate.Group]bool)
	changed, same, refused, rules, after, lost := 0, 0, 0, 0, 0, 0
	for i := range r.Proposals {
		c := &r.Proposals[i]
		switch {
		case c.Refused != "":
			refused++
		case !c.Changed:
			same++
		default:
			changed++
			groups[c.Group] = true
			rules += len(c.Rules)
			now := len(c.New)
			if c.Lending != nil && c.Lending.Taken {
				now++
			}
			if after += now; now == 0 {
				lost++
			}
		}
	}
	text := fmt.Sprintf("%s for %s: %s %s", Count(changed, "proposal", "proposals"),
		Count(len(groups), "group", "groups"), Count(rules, "rule becomes", "rules become"), Number(after))
	if lost > 0 {
		text += fmt.Sprintf("; %s could go altogether", Number(lost))
	}
	if same > 0 {
		text += fmt.Sprintf("; %s can't be said more narrowly", Number(same))
	}
	if refused > 0 {
		text += fmt.Sprintf("; %s can't be carried out as things are", Number(refused))
	}
	return text
}

func proposal(s *Screen, n Narrowing, d *decide.Decider, c *work.Checked) {
	e := n.World.Estate
	s.Ends(Piece{place(c.Rules[0].Origin), Faint}, Piece{c.Group.Path(), Accent})
	line := func(label, text string) {
		s.Labelled(2, Piece{label, Faint}, findingLabel, Piece{Text: text})
	}
	for i, r := range c.Rules {
		s.Labelled(2, Piece{first(i, "before"), Faint}, findingLabel, Piece{Text: r.Sentence(e.Services) + because(r)})
	}
	for i, text := range afterwards(e, c) {
		s.Labelled(2, Piece{first(i, "after"), Faint}, findingLabel, Piece{text, Strong})
	}
	if c.Refused != "" {
		s.Labelled(2, Piece{"not done", Warm}, findingLabel, Piece{Text: c.Refused})
	}
	if !c.Closes.IsEmpty() {
		line("closes", closesText(e, c.Closes))
		if w, ok := c.Example(d); ok {
			line("", "for example "+stoppedFlow(d, c, w)+" is stopped from then on")
		}
	}
	needs(s, e, c)
	for i, text := range leftOut(e, c) {
		line(first(i, "left out"), text)
	}
	line("rests on", restsOn(c, n.Flows))
	if c.Flows > 0 {
		line("unseen", fmt.Sprintf("the next flow is from a peer not seen so far with a chance of about %s; on "+
			"the next day, %s of the peers are new (Good–Turing)", percent(c.Unseen.Peers), percent(c.Unseen.Days)))
	}
	for i, text := range c.Rhythm {
		s.Labelled(2, Piece{first(i, "window"), Warm}, findingLabel, Piece{Text: text})
	}
	if l := c.Lending; l != nil && !l.Taken {
		line("or lend", lendText(e, l)+fmt.Sprintf(" (%s, %s on %s, the longest %s): --lend",
			Count(l.Users, "user", "users"), Count(l.Sessions, "session", "sessions"), Count(l.Days, "day", "days"),
			count.Lasting(l.Longest)))
	}
	if c.Changed {
		quota := ""
		if c.Quota > 0 {
			quota = fmt.Sprintf(" (quota %s)", Number(c.Quota))
		}
		line("cost", fmt.Sprintf("the group takes %s → %s rules %s%s", Number(c.CostBefore), Number(c.CostAfter),
			map[estate.Direction]string{estate.In: "inward", estate.Out: "outward"}[c.Direction], quota))
	}
	if c.Tight {
		line("choice", "the quota leaves no room for the best choice: this is the best that fits it")
	}
	if !c.Exact() {
		line("choice", fmt.Sprintf("very many groups and lists hold the peers: by the weights this is at most %s "+
			"above the best choice", percent(c.Bound)))
	}
	if n.Curve && len(c.Curve) > 1 {
		curve(s, c.Curve)
	}
}

// afterwards are the new rules as sentences, or says what becomes of the old ones.
func afterwards(e *estate.Estate, c *work.Checked) []string {
	if !c.Changed {
		return []string{"the same: nothing narrower lets through what is needed"}
	}
	var texts []string
	for _, r := range c.New {
		texts = append(texts, newSentence(e, c, r))
	}
	if l := c.Lending; l != nil && l.Taken {
		texts = append(texts, lendText(e, l))
	}
	if len(texts) == 0 {
		return []string{"removed"}
	}
	return texts
}

func lendText(e *estate.Estate, l *narrow.Lending) string {
	return fmt.Sprintf("lend %s to %s for at most %s", serviceWords(e, l.Services),
		narrow.NewRule{Choices: l.Choices}.PeerWords(), count.Duration(l.AtMost))
}

// leftOut lists what was observed but not considered a need, by reason.
func leftOut(e *estate.Estate, c *work.Checked) []string {
	if len(c.Noise.List) == 0 {
		return nil
	}
	const examples = 4
	var texts []string
	for _, why := range []narrow.Reason{narrow.NeverAnswered, narrow.SeenOnce, narrow.TooFewDays, narrow.Dropped} {
		var peers []string
		seen := make(map[string]bool)
		var services []service.Set
		flows := 0
		for _, x := range c.Noise.List {
			if x.Why != why {
				continue
			}
			flows += x.Flows
			services = append(services, service.Between(x.Service, x.Service))
			if text := x.Peer.String(); !seen[text] {
				seen[text] = true
				peers = append(peers, text)
			}
		}
		if len(peers) == 0 {
			continue
		}
		such := strings.Join(peers[:min(examples, len(peers))], ", ")
		if len(peers) > examples {
			such = "such as " + such
		}
		texts = append(texts, fmt.Sprintf("%s: %s with %s on %s: %s", why, Count(len(peers), "address", "addresses"),
			Count(flows, "flow", "flows"), words.Services(e, service.UnionAll(services...)), such))
	}
	return append(texts, "--keep keeps any of them: --keep \""+keepExample(e, c)+"\"")
}

func keepExample(e *estate.Estate, c *work.Checked) string {
	x := c.Noise.List[0]
	for _, other := range c.Noise.List { // the most likely to be a real user first
		if other.Why != narrow.NeverAnswered {
			x = other
			break
		}
	}
	return fmt.Sprintf("%s %s %s", serviceWords(e, service.Between(x.Service, x.Service)),
		map[estate.Direction]string{estate.In: "from", estate.Out: "at"}[c.Direction], x.Peer)
}

// curve draws the trade-off between rules and excess, with a bar for each number of rules. Its
// length is the logarithm of the number of addresses let in beyond need.
func curve(s *Screen, points []narrow.Point) {
	most := 0.0
	length := func(p narrow.Point) float64 {
		return math.Log10(1 + p.Excess.Strangers + p.Excess.Known + p.Excess.Named)
	}
	for _, p := range points {
		most = max(most, length(p))
	}
	room := max(10, s.Width()-2-findingLabel-44)
	const shown = 14
	from := 0
	if chosen := slices.IndexFunc(points, func(p narrow.Point) bool { return p.Chosen }); len(points) > shown {
		from = min(max(0, chosen-shown/2), len(points)-shown)
		points = points[from : from+shown]
	}
	for i, p := range points {
		bar := strings.Repeat("▪", int(math.Round(float64(room)*length(p)/max(most, 1))))
		mark, style := "", Faint
		switch {
		case p.Chosen:
			mark, style = "  ← here", Strong
		case p.Over:
			mark = "  over the quota"
		}
		label := first(i, "curve")
		s.Line(Piece{"  ", Plain}, Piece{Pad(label, findingLabel), Faint},
			Piece{fmt.Sprintf("%8s  ", Count(p.Rules, "rule", "rules")), style},
			Piece{bar, map[bool]Style{true: Warm, false: Cool}[!p.Chosen]},
			Piece{" " + excessWords(p.Excess) + mark, style})
	}
}

// excessWords says who is let in beyond need.
func excessWords(x narrow.Excess) string {
	var parts []string
	for _, part := range []struct {
		n    float64
		what string
	}{{x.Strangers, "stranger"}, {x.Known, "private or known address"}, {x.Named, "unseen member or entry"}} {
		switch {
		case part.n == 1:
			parts = append(parts, "1 "+part.what)
		case part.n > 0:
			many := map[string]string{"stranger": "strangers",
				"private or known address": "private or known addresses",
				"unseen member or entry":   "unseen members or entries"}[part.what]
			parts = append(parts, roughly(part.n)+" "+many)
		}
	}
	if len(parts) == 0 {
		return "nobody else"
	}
	return strings.Join(parts, ", ")
}

// roughly is a number: exact if it is short, else a power of two.
func roughly(n float64) string {
	if n < 1e9 {
		return Number(int(n))
	}
	return fmt.Sprintf("2^%.0f", math.Log2(n))
}

// stoppedFlow is an example of what a proposal stops, at the first of the group's instances.
func stoppedFlow(d *decide.Decider, c *work.Checked, w traffic.Witness) string {
	member := "a member"
	if attached := d.InterfacesOf(c.Group); len(attached) > 0 {
		member = attached[0].Instance.Name
	}
	if c.Direction == estate.Out {
		return fmt.Sprintf("%s → %s %s", member, w.Peer, w.Service)
	}
	return fmt.Sprintf("%s → %s %s", w.Peer, member, w.Service)
}

func first(i int, label string) string {
	if i == 0 {
		return label
	}
	return ""
}

func newSentence(e *estate.Estate, c *work.Checked, r narrow.NewRule) string {
	words := map[estate.Direction][2]string{estate.In: {"admit", "from"}, estate.Out: {"reach", "at"}}[c.Direction]
	text := fmt.Sprintf("%s %s %s %s", words[0], serviceWords(e, r.Services), words[1], r.PeerWords())
	return text + because(c.Rules[0])
}

// closesText names services, and says for how many peers they close.
func closesText(e *estate.Estate, closes traffic.Set) string {
	var parts []string
	// ICMP belongs to one family only
	if s, p := closes.Services(), closes.Peers(service.All); traffic.Of(p, s).Equal(closes) {
		return words.Services(e, s) + " for " + losers(p)
	}
	blocks := closes.Blocks()
	for _, b := range blocks[:min(4, len(blocks))] {
		parts = append(parts, words.Services(e, b.Services)+" for "+losers(b.Peers))
	}
	if len(blocks) > 4 {
		parts = append(parts, "and "+Count(len(blocks)-4, "more kind", "more kinds")+" of traffic")
	}
	return strings.Join(parts, "; ")
}

// losers says in short who loses access.
func losers(peers addr.Set) string {
	return strings.Replace(peerCount(peers), "4,294,967,296 IPv4 addresses", "all of IPv4", 1)
}

// needs lists what must stay open, and why.
func needs(s *Screen, e *estate.Estate, c *work.Checked) {
	label := "needed"
	for _, n := range c.Needs {
		text := serviceWords(e, n.Services)
		switch n.Source {
		case narrow.Declared:
			text += ": declared: " + n.Text
		case narrow.Asked:
			text += ": asked for: --keep \"" + n.Text + "\""
		case narrow.Public:
			text += ": " + n.Text + ". Say so (expect internet can reach " + c.Group.Name + " on " +
				serviceWords(e, n.Services) + "), or --drop them"
		case narrow.Observed:
			peers, flows := addressCount(n.Peers), 0
			days := 0
			for _, x := range n.Sums {
				flows += x.Flows
				days = max(days, x.Days.Count())
			}
			text += fmt.Sprintf(": %s, %s, on up to %s", peers, Count(flows, "flow", "flows"),
				Count(days, "day", "days"))
			var held []string
			for _, r := range c.New {
				if !r.Services.Overlaps(n.Services) {
					continue
				}
				for _, choice := range r.Choices {
					if has := choice.Addresses.Intersect(n.Peers); !has.IsEmpty() {
						held = append(held, heldWords(choice, has))
					}
				}
			}
			switch {
			case n.Lent:
				text += "; lent"
			case len(held) > 0:
				text += "; " + strings.Join(held, ", ")
			}
		}
		s.Labelled(2, Piece{label, Faint}, findingLabel, Piece{Text: text})
		label = ""
	}
}

// heldWords says how many addresses of a choice were seen.
func heldWords(choice narrow.Choice, has addr.Set) string {
	if choice.Addresses.Equal(has) {
		return choice.Words
	}
	return fmt.Sprintf("%s (%s of its %s addresses)", choice.Words, has.Size(), sizeWords(choice.Addresses))
}

func addressCount(a addr.Set) string {
	return count.OfBig(a.Size(), "address", "addresses")
}

// sizeWords is the size of a set, large ones as a power of two.
func sizeWords(a addr.Set) string {
	if n := a.Size(); n.Cmp(big.NewInt(1<<40)) > 0 {
		return fmt.Sprintf("2^%d", n.BitLen()-1)
	}
	return count.Big(a.Size())
}

func restsOn(c *work.Checked, flows *flow.Summary) (text string) {
	if flows == nil {
		return "no flows were given (--flows FILE): only what the definitions declare counts as needed"
	}
	window := fmt.Sprintf("%s of flows (%s to %s)", Count(flows.Window(), "day", "days"),
		flows.First.Format("2006-01-02"), flows.Last.Format("2006-01-02"))
	if e := c.Elsewhere; e.Flows > 0 {
		defer func() {
			text += fmt.Sprintf("; %s are let through by %s anyway", Count(e.Flows, "other flow", "other flows"),
				strings.Join(e.Groups, ", "))
		}()
	}
	if c.Unwatched {
		return window + ", which know none of its instances: they tell nothing about them"
	}
	if c.Flows == 0 && len(c.Noise.List) > 0 {
		return window + ": none that this lets through, but for what is left out"
	}
	if c.Flows == 0 {
		return window + ": none that this lets through"
	}
	return fmt.Sprintf("%s: %s from %s", window, Count(c.Flows, "flow", "flows"), Count(c.Peers, "peer", "peers"))
}

func percent(share float64) string {
	switch p := share * 100; {
	case p == 0:
		return "0 %"
	case p < 0.1:
		return "0.1 %"
	case p < 10:
		return fmt.Sprintf("%.1f %%", p)
	default:
		return fmt.Sprintf("%.0f %%", p)
	}
}

// Adoption writes definitions of surveyed groups.
func Adoption(s *Screen, a work.Adoption) {
	for i, f := range a.Files {
		if i > 0 {
			s.Blank()
		}
		s.Line(Piece{"# " + f.Name, Accent})
		s.Blank()
		for line := range strings.Lines(f.Text) {
			s.Line(Piece{strings.TrimRight(line, "\n"), Plain})
		}
	}
}
