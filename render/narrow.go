package render

import (
	"fmt"
	"math"
	"math/big"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

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
	owners := narrow.OwnersIn(d)
	shown := n.Result.Proposals
	if n.Limit > 0 && len(shown) > n.Limit {
		shown = shown[:n.Limit]
	}
	for i := range shown {
		proposal(s, n, d, owners, &shown[i])
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
				now += len(c.Lending.Rules)
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

func proposal(s *Screen, n Narrowing, d *decide.Decider, owners narrow.Owners, c *work.Checked) {
	e := n.World.Estate
	s.Ends(Piece{place(c.Rules[0].Origin), Faint}, Piece{c.Group.Path(), Accent})
	line := func(label, text string) {
		s.Labelled(2, Piece{label, Faint}, findingLabel, Piece{Text: text})
	}
	for i, r := range c.Rules {
		line(first(i, "before"), r.Sentence(e.Services)+reasonAndEnd(r))
	}
	for i, text := range afterwards(e, c) {
		s.Labelled(2, Piece{first(i, "after"), Faint}, findingLabel, Piece{text, Strong})
	}
	if c.Refused != "" {
		s.Labelled(2, Piece{"not done", Warm}, findingLabel, Piece{Text: c.Refused})
	}
	if !c.Closes.IsEmpty() {
		line("closes", closesText(e, c.Closes)+stoppedText(c))
		if w, ok := c.Example(d); ok {
			line("", "for example "+stoppedFlow(d, c, w)+" is stopped from then on")
		}
	}
	needs(s, e, owners, c)
	for i, text := range leftOut(e, owners, c) {
		line(first(i, "left out"), text)
	}
	for i, text := range stillHeld(e, c) {
		s.Labelled(2, Piece{first(i, "but"), Warm}, findingLabel, Piece{Text: text})
	}
	line("rests on", restsOn(c, n.Flows))
	if c.Unseen.Told {
		line("unseen", unseenText(c, n.Flows))
	}
	for i, text := range c.Rhythm {
		s.Labelled(2, Piece{first(i, "window"), Warm}, findingLabel, Piece{Text: text})
	}
	if l := c.Lending; l != nil && !l.Taken {
		for i, text := range lendTexts(e, l) {
			line(first(i, "or lend"), text)
		}
		line("", fmt.Sprintf("(%s, %s on %s, the longest %s): --lend", Count(l.Users, "user", "users"),
			Count(l.Sessions, "session", "sessions"), Count(l.Days, "day", "days"), count.Lasting(l.Longest)))
	}
	for i, text := range alternatives(e, c) {
		line(first(i, "or"), text)
	}
	if c.Changed {
		line("cost", costText(c))
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
		texts = append(texts, lendTexts(e, l)...)
	}
	if len(texts) == 0 {
		return []string{"removed"}
	}
	return texts
}

func lendTexts(e *estate.Estate, l *narrow.Lending) []string {
	var texts []string
	for _, r := range l.Rules {
		texts = append(texts, fmt.Sprintf("lend %s to %s for at most %s", serviceWords(e, r.Services), r.PeerWords(),
			count.Duration(l.AtMost))+onTerms(r.Terms))
	}
	return texts
}

// onTerms are the reason and the end that a new rule keeps.
func onTerms(t *narrow.Terms) string { return reasonAndEnd(t.Rules[0]) }

func reasonAndEnd(r *estate.Rule) string {
	text := because(r)
	if !r.Until.IsZero() {
		text += " until " + r.Until.Add(-time.Second).Format(time.DateOnly) // the last day
	}
	return text
}

// stoppedText says how much of what was seen is stopped, and how much of what is left out is not.
func stoppedText(c *work.Checked) string {
	stopped, left := c.Stopped(), c.Noise.Flows
	switch {
	case left == 0:
		return ""
	case stopped == 0:
		return "; of what was seen it stops nothing"
	}
	return "; of what was seen it stops " + Count(stopped, "flow", "flows")
}

// unseenText is the bound for what was not seen, in words to act on.
func unseenText(c *work.Checked, flows *flow.Summary) string {
	if c.Unseen.Flows >= 1 {
		return "too little came again to say how much would come from others"
	}
	return fmt.Sprintf("at most %s connections would come from someone not seen in these %s, and at most %s of those "+
		"who come on a day (both hold with 95 %%)", inHundred(c.Unseen.Flows),
		Count(flows.Window(), "day", "days"), inHundred(c.Unseen.Peers))
}

// inHundred is a share, rounded up: "7 in 100".
func inHundred(share float64) string {
	for _, of := range []int{100, 1000, 10_000, 100_000, 1_000_000} {
		if n := math.Ceil(share*float64(of) - 1e-9); n >= 3 || of == 1_000_000 {
			return fmt.Sprintf("%s in %s", Number(int(max(1, n))), Number(of))
		}
	}
	return ""
}

// costText says how many rules the group takes in its cloud, and what its quota is.
func costText(c *work.Checked) string {
	quota := ""
	switch {
	case c.Quota.Direction > 0:
		quota = fmt.Sprintf(" (quota %s a direction)", Number(c.Quota.Direction))
	case c.Quota.Together > 0:
		quota = fmt.Sprintf(" (quota %s for both directions)", Number(c.Quota.Together))
	}
	way := map[estate.Direction]string{estate.In: "inward", estate.Out: "outward"}[c.Direction]
	return fmt.Sprintf("the group takes %s %s, %s before%s", Count(c.CostAfter, "rule", "rules"), way,
		Number(c.CostBefore), quota)
}

// alternatives are other ways to say long rules, with what they let in more and how to get them.
func alternatives(e *estate.Estate, c *work.Checked) []string {
	var texts []string
	for _, s := range c.Shorter {
		more := Count(s.Parts, "range", "ranges")
		if s.Addresses > 0 || s.Ports == 0 {
			addresses := map[bool]string{true: "address", false: "addresses"}[s.Addresses == 1]
			more += ", " + roughly(s.Addresses) + " " + addresses
		} else {
			more += ", " + Count(s.Ports, "port", "ports")
		}
		texts = append(texts, fmt.Sprintf("shorter: %s: %s more (--keep %q)", ruleText(e, c, s.Rule), more,
			keepText(e, c, s.Rule)))
	}
	for _, n := range c.Needs {
		if n.Source == narrow.Public {
			const shown = 6
			words := narrow.NewRule{Choices: n.Narrow[:min(shown, len(n.Narrow))]}.PeerWords()
			if more := len(n.Narrow) - shown; more > 0 {
				words += fmt.Sprintf(" and %s more", Number(more))
			}
			texts = append(texts, fmt.Sprintf("only who was seen: %s from %s (--never-public)",
				serviceWords(e, n.Services), words))
		}
	}
	return texts
}

// keepText is what --keep takes for a rule: names that are known everywhere, and addresses.
func keepText(e *estate.Estate, c *work.Checked, r narrow.NewRule) string {
	var peers []string
	for _, choice := range r.Choices {
		switch family := choice.Peers[0].Family(); {
		case choice.Kind == narrow.BySelf && family == addr.Both:
			peers = append(peers, "group "+c.Group.Path())
		case (choice.Kind == narrow.ByGroup || choice.Kind == narrow.ByList) && family == addr.Both && !choice.Foreign:
			peers = append(peers, choice.Words)
		default:
			for _, p := range choice.Addresses.Prefixes() {
				peers = append(peers, addr.PrefixString(p))
			}
		}
	}
	return fmt.Sprintf("%s %s %s", serviceWords(e, r.Services),
		map[estate.Direction]string{estate.In: "from", estate.Out: "at"}[c.Direction], strings.Join(peers, ", "))
}

// stillHeld tells what was asked to be dropped and is let through by a name that holds it.
func stillHeld(e *estate.Estate, c *work.Checked) []string {
	var texts []string
	for _, h := range c.Held {
		texts = append(texts, fmt.Sprintf("%s still holds %s, which --drop names: write %s except %s", h.Choice.Words,
			h.Peers, ruleText(e, c, h.Rule), h.Peers))
	}
	return texts
}

// leftOut lists what was observed but not considered a need, by reason.
func leftOut(e *estate.Estate, owners narrow.Owners, c *work.Checked) []string {
	if len(c.Noise.List) == 0 {
		return nil
	}
	const examples = 4
	var texts []string
	for _, why := range narrow.Reasons {
		var peers []string
		seen := make(map[netip.Addr]bool)
		var services []service.Set
		flows, stay := 0, 0
		for _, x := range c.Noise.List {
			if x.Why != why {
				continue
			}
			flows += x.Flows
			if !c.Closes.Contains(x.Peer, x.Service) {
				stay += x.Flows
			}
			services = append(services, service.Between(x.Service, x.Service))
			if !seen[x.Peer] {
				seen[x.Peer] = true
				peers = append(peers, withOwner(owners, x.Peer))
			}
		}
		if len(peers) == 0 {
			continue
		}
		such := strings.Join(peers[:min(examples, len(peers))], ", ")
		if len(peers) > examples {
			such = "such as " + such
		}
		text := fmt.Sprintf("%s: %s with %s on %s: %s", why, Count(len(peers), "address", "addresses"),
			Count(flows, "flow", "flows"), words.Services(e, service.UnionAll(services...)), such)
		if stay > 0 && c.Changed {
			text += fmt.Sprintf(" (%s still let through, by what is named for others)",
				count.Of(stay, "of these flows is", "of these flows are"))
		}
		texts = append(texts, text)
	}
	return append(texts, "--keep keeps any of them: --keep \""+keepExample(e, c)+"\"")
}

// withOwner is an address, with whose it is.
func withOwner(owners narrow.Owners, a netip.Addr) string {
	if whose := owners.Of(a); whose != "" {
		return fmt.Sprintf("%s (%s)", a, whose)
	}
	return a.String()
}

func keepExample(e *estate.Estate, c *work.Checked) string {
	x := c.Noise.List[0]
	for _, other := range c.Noise.List { // the most likely to be a real user first
		if other.Why != narrow.Probing && other.Why != narrow.Sweep {
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

// ruleText is a new rule without its reason and end.
func ruleText(e *estate.Estate, c *work.Checked, r narrow.NewRule) string {
	words := map[estate.Direction][2]string{estate.In: {"admit", "from"}, estate.Out: {"reach", "at"}}[c.Direction]
	return fmt.Sprintf("%s %s %s %s", words[0], serviceWords(e, r.Services), words[1], r.PeerWords())
}

func newSentence(e *estate.Estate, c *work.Checked, r narrow.NewRule) string {
	return ruleText(e, c, r) + onTerms(r.Terms)
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
func needs(s *Screen, e *estate.Estate, owners narrow.Owners, c *work.Checked) {
	for i := range c.Needs {
		n := &c.Needs[i]
		s.Labelled(2, Piece{first(i, "needed"), Faint}, findingLabel, Piece{Text: needText(e, c, n)})
		if n.Source != narrow.Observed {
			continue
		}
		const shown = 4
		seen := c.SeenOf(n)
		for _, x := range seen[:min(shown, len(seen))] {
			s.Labelled(2, Piece{"", Faint}, findingLabel, Piece{"  " + seenText(owners, x), Faint})
		}
		if more := len(seen) - shown; more > 0 {
			flows := 0
			for _, x := range seen[shown:] {
				flows += x.Flows
			}
			s.Labelled(2, Piece{"", Faint}, findingLabel,
				Piece{fmt.Sprintf("  and %s more with %s", Number(more), Count(flows, "flow", "flows")), Faint})
		}
	}
}

// seenText says whose address a peer is, how much it carried, and when it was last seen.
func seenText(owners narrow.Owners, x narrow.Seen) string {
	whose := owners.Of(x.Peer)
	if whose == "" {
		whose = "unknown"
	}
	return fmt.Sprintf("%s, %s: %s on %s, %s, last %s", x.Peer, whose, Count(x.Flows, "flow", "flows"),
		Count(x.Days, "day", "days"), humanize.Bytes(x.Bytes), time.Unix(x.Last, 0).UTC().Format(time.DateOnly))
}

// needText says what must stay open, and what shows it.
func needText(e *estate.Estate, c *work.Checked, n *narrow.Need) string {
	text := serviceWords(e, n.Services)
	switch n.Source {
	case narrow.Declared:
		return text + ": declared: " + n.Text
	case narrow.Asked:
		return text + ": asked for: --keep \"" + n.Text + "\""
	case narrow.Public:
		return text + fmt.Sprintf(": %s (%s). Say so (expect internet can reach %s on %s), or --drop them", n.Text,
			Count(n.Flows(), "flow", "flows"), c.Group.Name, serviceWords(e, n.Services))
	}
	text += fmt.Sprintf(": %s, %s on %s", addressCount(n.Peers), Count(n.Flows(), "flow", "flows"),
		Count(n.Days(), "day", "days"))
	if n.Lent {
		return text + "; lent"
	}
	var held []string
	single := 0
	for _, r := range c.New {
		if r.Terms != n.Terms || !r.Services.Overlaps(n.Services) {
			continue
		}
		for _, choice := range r.Choices {
			has := choice.Addresses.Intersect(n.Peers)
			switch {
			case has.IsEmpty():
			case choice.Kind == narrow.ByAddress || choice.Kind == narrow.ByOwnMachine:
				single++
			default:
				held = append(held, heldWords(choice, has))
			}
		}
	}
	if single > 0 && len(held) > 0 {
		held = append(held, Count(single, "single address", "single addresses"))
	}
	if len(held) > 0 {
		text += "; " + strings.Join(held, ", ")
	}
	return text
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

func restsOn(c *work.Checked, flows *flow.Summary) string {
	if flows == nil {
		return "no flows were given (--flows FILE): only what the definitions declare counts as needed"
	}
	window := fmt.Sprintf("%s of flows (%s to %s)", Count(flows.Window(), "day", "days"),
		flows.First.Format(time.DateOnly), flows.Last.Format(time.DateOnly))
	if c.Unwatched {
		return window + ", which know none of its instances: they tell nothing about them"
	}
	var parts []string
	if c.Flows > 0 {
		parts = append(parts, fmt.Sprintf("%s needed, from %s", Number(c.Flows), Count(c.Peers, "peer", "peers")))
	}
	for _, x := range []struct {
		flows int
		what  string
	}{{c.Declared, "declared anyway"}, {c.Noise.Flows, "left out"}, {c.Elsewhere.Flows, "let through by " +
		strings.Join(c.Elsewhere.Groups, ", ") + " anyway"}} {
		if x.flows > 0 {
			parts = append(parts, Number(x.flows)+" "+x.what)
		}
	}
	if len(parts) == 0 {
		return window + ": none that this lets through"
	}
	return fmt.Sprintf("%s: %s that this lets through: %s", window, Count(c.Seen, "flow", "flows"),
		strings.Join(parts, "; "))
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
