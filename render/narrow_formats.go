package render

import (
	"fmt"
	"io"
	"strings"

	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/work"
)

type needJSON struct {
	Source   string   `json:"source"`
	Services []string `json:"services"`
	Peers    []string `json:"peers"`
	Text     string   `json:"text,omitempty"`
	Flows    int      `json:"flows"`
	Days     int      `json:"days"`
	Lent     bool     `json:"lent"`
}

type leftOutJSON struct {
	Peer    string `json:"peer"`
	Service string `json:"service"`
	Flows   int    `json:"flows"`
	Why     string `json:"why"`
}

type excessJSON struct {
	Strangers float64 `json:"strangers"`
	Known     float64 `json:"known"`
	Named     float64 `json:"named"`
}

type pointJSON struct {
	Rules  int        `json:"rules"`
	Excess excessJSON `json:"excess"`
	Chosen bool       `json:"chosen"`
	Over   bool       `json:"over_quota"`
}

type lendingJSON struct {
	Rule     string `json:"rule"`
	Users    int    `json:"users"`
	Sessions int    `json:"sessions"`
	Days     int    `json:"days"`
	Longest  int64  `json:"longest_seconds"`
	AtMost   int64  `json:"at_most_seconds"`
	Taken    bool   `json:"taken"`
}

type proposalJSON struct {
	// "defined": the edit is one of definitions; "found": the group has none
	State       string        `json:"state"`
	Group       string        `json:"group"`
	Direction   string        `json:"direction"`
	Defined     bool          `json:"defined"`
	File        string        `json:"file"`
	Line        int           `json:"line"`
	Rules       []string      `json:"rule_ids"`
	Before      []string      `json:"before"`
	After       []string      `json:"after"`
	Changed     bool          `json:"changed"`
	Refused     string        `json:"refused"`
	Closes      []blockJSON   `json:"closes"`
	Example     string        `json:"example,omitempty"`
	Needs       []needJSON    `json:"needs"`
	LeftOut     []leftOutJSON `json:"left_out"`
	Flows       int           `json:"flows"`
	Peers       int           `json:"peers"`
	UnseenPeers float64       `json:"unseen_by_flow"`
	UnseenDays  float64       `json:"unseen_by_day"`
	Rhythm      []string      `json:"window_warnings"`
	Excess      excessJSON    `json:"excess"`
	Lending     *lendingJSON  `json:"lending"`
	CostBefore  int           `json:"cost_before"`
	CostAfter   int           `json:"cost_after"`
	Quota       int           `json:"quota"`
	Exact       bool          `json:"exact"`
	Bound       float64       `json:"above_the_best_at_most"`
	Curve       []pointJSON   `json:"curve"`
	Shut        float64       `json:"shut"`
	Gain        float64       `json:"shut_per_rule"`
}

// ProposalsJSON writes proposals as one JSON document, version 2.
func ProposalsJSON(out io.Writer, n Narrowing) error {
	d := decide.New(n.World.Estate)
	items := []proposalJSON{}
	for i := range n.Result.Proposals {
		items = append(items, proposalToJSON(n.World.Estate, d, &n.Result.Proposals[i]))
	}
	window := 0
	if n.Flows != nil {
		window = n.Flows.Window()
	}
	return writeJSON(out, struct {
		Version   int            `json:"version"`
		Days      int            `json:"days"`
		Expects   work.Expects   `json:"expectations"`
		Proposals []proposalJSON `json:"proposals"`
		Notes     []string       `json:"notes"` // where the clouds differ from the definitions that are narrowed
		Unread    []unreadJSON   `json:"unread"`
	}{2, window, n.Result.Expects, items, orNone(n.Result.Notes), unreadToJSON(n.World.Estate.Unread)})
}

func proposalToJSON(e *estate.Estate, d *decide.Decider, c *work.Checked) proposalJSON {
	x := proposalJSON{State: map[bool]string{true: "defined", false: "found"}[c.Group.Defined], Group: c.Group.Path(),
		Direction: string(c.Direction), Defined: c.Group.Defined, File: c.Rules[0].Origin.File,
		Line:  c.Rules[0].Origin.Line,
		Rules: []string{}, Before: []string{}, After: []string{}, Needs: []needJSON{}, LeftOut: []leftOutJSON{},
		Curve: []pointJSON{}, Changed: c.Changed, Refused: c.Refused,
		Closes: blocksToJSON(c.Closes), Flows: c.Flows, Peers: c.Peers, UnseenPeers: c.Unseen.Peers,
		UnseenDays: c.Unseen.Days, Rhythm: orNone(c.Rhythm),
		Excess: excessJSON(c.Excess), CostBefore: c.CostBefore, CostAfter: c.CostAfter, Quota: c.Quota,
		Exact: c.Exact(), Bound: c.Bound, Shut: c.Shut, Gain: c.Gain()}
	if w, ok := c.Example(d); ok {
		x.Example = stoppedFlow(d, c, w)
	}
	for _, rule := range c.Rules {
		x.Before = append(x.Before, rule.Sentence(e.Services))
		if rule.ID != "" {
			x.Rules = append(x.Rules, rule.ID)
		}
	}
	for _, rule := range c.New {
		x.After = append(x.After, newSentence(e, c, rule))
	}
	for _, need := range c.Needs {
		y := needJSON{Source: string(need.Source), Text: need.Text, Services: []string{}, Peers: []string{},
			Lent: need.Lent}
		for _, spec := range need.Services.Specs() {
			y.Services = append(y.Services, spec.String())
		}
		for _, p := range need.Peers.Prefixes() {
			y.Peers = append(y.Peers, p.String())
		}
		for _, sum := range need.Sums {
			y.Flows += sum.Flows
			y.Days = max(y.Days, sum.Days.Count())
		}
		x.Needs = append(x.Needs, y)
	}
	for _, l := range c.Noise.List {
		x.LeftOut = append(x.LeftOut, leftOutJSON{l.Peer.String(), l.Service.String(), l.Flows, string(l.Why)})
	}
	for _, p := range c.Curve {
		x.Curve = append(x.Curve, pointJSON{p.Rules, excessJSON(p.Excess), p.Chosen, p.Over})
	}
	if l := c.Lending; l != nil {
		x.Lending = &lendingJSON{lendText(e, l), l.Users, l.Sessions, l.Days, int64(l.Longest.Seconds()),
			int64(l.AtMost.Seconds()), l.Taken}
		if l.Taken {
			x.After = append(x.After, x.Lending.Rule)
		}
	}
	return x
}

// ProposalsMarkdown writes proposals for a review: before and after, what closes,
// what it rests on.
func ProposalsMarkdown(out io.Writer, n Narrowing) error {
	d := decide.New(n.World.Estate)
	e := n.World.Estate
	var b strings.Builder
	b.WriteString("# Proposals\n\n" + notReadMarkdown(e.Unread))
	if n.Ranked && len(n.Result.Proposals) > 0 {
		b.WriteString(mark(inAll(n.Result)) + ".\n\n")
	}
	for _, note := range n.Result.Notes {
		b.WriteString(mark(note) + ".\n\n")
	}
	for i := range n.Result.Proposals {
		c := &n.Result.Proposals[i]
		fmt.Fprintf(&b, "## %s\n\n", mark(c.Group.Path()))
		for _, r := range c.Rules {
			fmt.Fprintf(&b, "- before: %s\n", mark(r.Sentence(e.Services)+because(r)))
		}
		for _, text := range afterwards(e, c) {
			fmt.Fprintf(&b, "- after: **%s**\n", mark(text))
		}
		if c.Refused != "" {
			fmt.Fprintf(&b, "- not done: %s\n", mark(c.Refused))
		}
		if !c.Closes.IsEmpty() {
			fmt.Fprintf(&b, "- closes: %s", mark(closesText(e, c.Closes)))
			if w, ok := c.Example(d); ok {
				b.WriteString("; for example " + mark(stoppedFlow(d, c, w)))
			}
			b.WriteString("\n")
		}
		for _, text := range leftOut(e, c) {
			fmt.Fprintf(&b, "- left out: %s\n", mark(text))
		}
		fmt.Fprintf(&b, "- rests on: %s\n", mark(restsOn(c, n.Flows)))
		for _, text := range c.Rhythm {
			fmt.Fprintf(&b, "- window: %s\n", mark(text))
		}
		if c.Changed {
			fmt.Fprintf(&b, "- cost: %s → %s rules\n", Number(c.CostBefore), Number(c.CostAfter))
		}
		b.WriteString("\n")
	}
	_, err := io.WriteString(out, b.String())
	return err
}
