package render

import (
	"fmt"
	"io"
	"math/big"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/narrow"
	"isonomos/core/service"
	"isonomos/core/traffic"
	"isonomos/nomos/propose"
)

// Proposals writes proposals for a terminal.
func Proposals(s *Screen, w propose.World, r propose.Result, flows *flow.Summary) {
	d := decide.New(w.Estate)
	for i := range r.Proposals {
		proposal(s, w.Estate, d, &r.Proposals[i], flows)
		s.Blank()
	}
	if len(r.Files) > 0 {
		text := fmt.Sprintf("by deciding the edited definitions: nothing more is let through than before, all that is needed still is, %d of %s hold (%d before)",
			r.Expects.After, Count(r.Expects.All, "expectation", "expectations"), r.Expects.Before)
		s.Labelled(2, Piece{"checked", Cool}, findingLabel, Piece{Text: text})
	}
}

func proposal(s *Screen, e *estate.Estate, d *decide.Decider, c *propose.Checked, flows *flow.Summary) {
	s.Ends(Piece{place(c.Rules[0].Origin), Faint}, Piece{c.Group.Path(), Accent})
	line := func(label, text string) {
		s.Labelled(2, Piece{label, Faint}, findingLabel, Piece{Text: text})
	}
	for i, r := range c.Rules {
		s.Labelled(2, Piece{first(i, "before"), Faint}, findingLabel, Piece{Text: r.Sentence(e.Services) + because(r)})
	}
	switch {
	case !c.Changed:
		s.Labelled(2, Piece{"after", Faint}, findingLabel, Piece{"the same: nothing narrower lets through what is needed", Strong})
	case len(c.New) == 0:
		s.Labelled(2, Piece{"after", Faint}, findingLabel, Piece{"removed", Strong})
	default:
		for i, r := range c.New {
			s.Labelled(2, Piece{first(i, "after"), Faint}, findingLabel, Piece{newSentence(e, c, r), Strong})
		}
	}
	if !c.Closes.IsEmpty() {
		line("closes", closesText(e, c.Closes))
		if w, ok := c.Example(d); ok {
			line("", "for example "+stoppedFlow(d, c, w)+" is stopped from then on")
		}
	}
	needs(s, e, c)
	if c.Noise.Strangers > 0 {
		var examples []string
		for _, a := range c.Noise.Examples {
			examples = append(examples, a.String())
		}
		line("left out", fmt.Sprintf("%s with %s (%s never answered): no completed exchange, or seen once; such as %s",
			Count(c.Noise.Strangers, "stranger", "strangers"), Count(c.Noise.Flows, "flow", "flows"), Number(c.Noise.Unanswered), strings.Join(examples, ", ")))
	}
	line("rests on", restsOn(c, flows))
	if c.Flows > 0 {
		line("unseen", fmt.Sprintf("the next flow is from a peer not seen so far with a chance of about %s (Good–Turing)", percent(c.Unseen.Peers)))
	}
	quota := ""
	if c.Quota > 0 {
		quota = fmt.Sprintf(" (quota %s)", Number(c.Quota))
	}
	if c.Changed {
		line("cost", fmt.Sprintf("the group takes %s → %s rules %s%s", Number(c.CostBefore), Number(c.CostAfter), map[estate.Direction]string{estate.In: "inward", estate.Out: "outward"}[c.Direction], quota))
	}
	if !c.Exact {
		line("choice", "many groups and lists hold the peers: this choice is good and may not be the best one")
	}
}

// stoppedFlow is an example of what a proposal stops, at the first instance that wears the group.
func stoppedFlow(d *decide.Decider, c *propose.Checked, w traffic.Witness) string {
	member := "a member"
	if worn := d.Wearers(c.Group); len(worn) > 0 {
		member = worn[0].Instance.Name
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

func newSentence(e *estate.Estate, c *propose.Checked, r narrow.NewRule) string {
	words := map[estate.Direction][2]string{estate.In: {"admit", "from"}, estate.Out: {"reach", "at"}}[c.Direction]
	text := fmt.Sprintf("%s %s %s %s", words[0], serviceWords(e, r.Services), words[1], r.PeerWords())
	return text + because(c.Rules[0])
}

// closesText says services and how many peers lose them.
func closesText(e *estate.Estate, closes traffic.Set) string {
	var parts []string
	blocks := closes.Blocks()
	for _, b := range blocks[:min(4, len(blocks))] {
		parts = append(parts, manyServices(e, b.Services)+" for "+peerCount(b.Peers))
	}
	if len(blocks) > 4 {
		parts = append(parts, fmt.Sprintf("and %d more kinds of traffic", len(blocks)-4))
	}
	return strings.Join(parts, "; ")
}

// manyServices is a set of services in few words: by what it lacks, or by their number, where it is large.
func manyServices(e *estate.Estate, set service.Set) string {
	const few = 6
	if words := e.Services.Words(set); len(words) <= few {
		return strings.Join(words, ", ")
	}
	if words := e.Services.Words(service.All.Minus(set)); len(words) <= few {
		return "everything but " + strings.Join(words, ", ")
	}
	return Count(int(set.Size().Int64()), "service", "services")
}

// needs lists what must stay let through and by what it is said.
func needs(s *Screen, e *estate.Estate, c *propose.Checked) {
	label := "needed"
	for _, n := range c.Needs {
		text := serviceWords(e, n.Services)
		if n.Source == narrow.Declared {
			text += ": declared by \"" + n.Text + "\""
		} else {
			peers, flows := addressCount(n.Peers), 0
			days := 0
			for _, x := range n.Sums {
				flows += x.Flows
				days = max(days, x.Days.Count())
			}
			text += fmt.Sprintf(": %s, %s, on up to %s", peers, Count(flows, "flow", "flows"), Count(days, "day", "days"))
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
			if len(held) > 0 {
				text += "; " + strings.Join(held, ", ")
			}
		}
		s.Labelled(2, Piece{label, Faint}, findingLabel, Piece{Text: text})
		label = ""
	}
}

// heldWords says how many of a choice's addresses were seen.
func heldWords(choice narrow.Choice, has addr.Set) string {
	if choice.Addresses.Equal(has) {
		return choice.Words
	}
	return fmt.Sprintf("%s (%s of its %s addresses)", choice.Words, has.Size(), sizeWords(choice.Addresses))
}

func addressCount(a addr.Set) string {
	n := a.Size()
	if n.IsInt64() && n.Int64() == 1 {
		return "1 address"
	}
	return audit.Thousands(n.String()) + " addresses"
}

// sizeWords is the size of a set, large ones as a power of two.
func sizeWords(a addr.Set) string {
	if n := a.Size(); n.Cmp(big.NewInt(1<<40)) > 0 {
		return fmt.Sprintf("2^%d", n.BitLen()-1)
	}
	return audit.Thousands(a.Size().String())
}

func restsOn(c *propose.Checked, flows *flow.Summary) string {
	if flows == nil {
		return "no flows were given (--flows FILE): only what the definitions declare counts as needed"
	}
	window := fmt.Sprintf("%s of flows (%s to %s)", Count(flows.Window(), "day", "days"), flows.First.Format("2006-01-02"), flows.Last.Format("2006-01-02"))
	if c.Flows == 0 {
		return window + ": none that this lets through, but for what is left out"
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

// ProposalsJSON writes proposals as one JSON document, version 1.
func ProposalsJSON(out io.Writer, w propose.World, r propose.Result, flows *flow.Summary) error {
	type need struct {
		Source   string   `json:"source"`
		Services []string `json:"services"`
		Peers    []string `json:"peers"`
		Text     string   `json:"text,omitempty"`
		Flows    int      `json:"flows"`
	}
	type item struct {
		Group      string   `json:"group"`
		Direction  string   `json:"direction"`
		File       string   `json:"file"`
		Line       int      `json:"line"`
		Before     []string `json:"before"`
		After      []string `json:"after"`
		Changed    bool     `json:"changed"`
		Needs      []need   `json:"needs"`
		LeftOut    int      `json:"left_out_strangers"`
		LeftFlows  int      `json:"left_out_flows"`
		Flows      int      `json:"flows"`
		Peers      int      `json:"peers"`
		Unseen     float64  `json:"unseen_share"`
		CostBefore int      `json:"cost_before"`
		CostAfter  int      `json:"cost_after"`
		Exact      bool     `json:"exact"`
	}
	items := []item{}
	for _, c := range r.Proposals {
		x := item{Group: c.Group.Path(), Direction: string(c.Direction), File: c.Rules[0].Origin.File, Line: c.Rules[0].Origin.Line, Before: []string{}, After: []string{}, Needs: []need{},
			Changed: c.Changed, LeftOut: c.Noise.Strangers, LeftFlows: c.Noise.Flows, Flows: c.Flows, Peers: c.Peers, Unseen: c.Unseen.Peers, CostBefore: c.CostBefore, CostAfter: c.CostAfter, Exact: c.Exact}
		for _, rule := range c.Rules {
			x.Before = append(x.Before, rule.Sentence(w.Estate.Services))
		}
		for _, rule := range c.New {
			x.After = append(x.After, newSentence(w.Estate, &c, rule))
		}
		for _, n := range c.Needs {
			y := need{Source: string(n.Source), Text: n.Text, Services: []string{}, Peers: []string{}}
			for _, spec := range n.Services.Specs() {
				y.Services = append(y.Services, spec.String())
			}
			for _, p := range n.Peers.Prefixes() {
				y.Peers = append(y.Peers, p.String())
			}
			for _, sum := range n.Sums {
				y.Flows += sum.Flows
			}
			x.Needs = append(x.Needs, y)
		}
		items = append(items, x)
	}
	window := 0
	if flows != nil {
		window = flows.Window()
	}
	return writeJSON(out, struct {
		Version   int    `json:"version"`
		Days      int    `json:"days"`
		Proposals []item `json:"proposals"`
	}{1, window, items})
}
