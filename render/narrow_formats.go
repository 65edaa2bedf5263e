package render

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/narrow"
	"isonomos/work"
)

type needJSON struct {
	Source   string     `json:"source"`
	Services []string   `json:"services"`
	Peers    []string   `json:"peers"`
	Text     string     `json:"text,omitempty"`
	Because  string     `json:"because,omitempty"` // of the rule that let it through
	Until    string     `json:"until,omitempty"`
	Flows    int        `json:"flows"`
	Days     int        `json:"days"`
	Lent     bool       `json:"lent"`
	Seen     []seenJSON `json:"seen"`
}

type seenJSON struct {
	Peer  string `json:"peer"`
	Whose string `json:"whose"` // empty if unknown
	Flows int    `json:"flows"`
	Days  int    `json:"days"`
	Bytes uint64 `json:"bytes"` // both ways
	Last  string `json:"last"`
}

type shorterJSON struct {
	Rule      string  `json:"rule"`
	Ranges    int     `json:"ranges"`
	Addresses float64 `json:"addresses_more"`
	Ports     int     `json:"ports_more"`
}

type leftOutJSON struct {
	Peer    string `json:"peer"`
	Service string `json:"service"`
	Whose   string `json:"whose"` // empty if unknown
	Flows   int    `json:"flows"`
	Last    string `json:"last"`
	Why     string `json:"why"`
	Stopped bool   `json:"stopped"`
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
	Rules    []string `json:"rules"`
	Users    int      `json:"users"`
	Sessions int      `json:"sessions"`
	Days     int      `json:"days"`
	Longest  int64    `json:"longest_seconds"`
	AtMost   int64    `json:"at_most_seconds"`
	Taken    bool     `json:"taken"`
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
	Seen        int           `json:"flows_seen"` // the sum of the next four
	Flows       int           `json:"flows"`      // needed
	Declared    int           `json:"flows_declared"`
	Left        int           `json:"flows_left_out"`
	Elsewhere   int           `json:"flows_elsewhere"` // let through anyway
	Stopped     int           `json:"flows_stopped"`   // of those left out
	Peers       int           `json:"peers"`
	UnseenFlows *float64      `json:"unseen_by_flow"` // at most, with 95 %; null if nothing can be said
	UnseenPeers *float64      `json:"unseen_by_day"`
	Shorter     []shorterJSON `json:"shorter"`
	Held        []string      `json:"dropped_but_held"`
	Rhythm      []string      `json:"window_warnings"`
	Excess      excessJSON    `json:"excess"`
	Lending     *lendingJSON  `json:"lending"`
	CostBefore  int           `json:"cost_before"`
	CostAfter   int           `json:"cost_after"`
	Quota       int           `json:"quota"`       // for each direction; 0: no limit
	QuotaBoth   int           `json:"quota_group"` // for both directions together
	Exact       bool          `json:"exact"`
	Bound       float64       `json:"above_the_best_at_most"`
	Curve       []pointJSON   `json:"curve"`
	Shut        float64       `json:"shut"`
	Gain        float64       `json:"shut_per_rule"`
}

// ProposalsJSON writes proposals as one JSON document, version 3.
func ProposalsJSON(out io.Writer, n Narrowing) error {
	d := decide.New(n.World.Estate)
	owners := narrow.OwnersIn(d)
	items := []proposalJSON{}
	for i := range n.Result.Proposals {
		items = append(items, proposalToJSON(n.World.Estate, d, owners, &n.Result.Proposals[i]))
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
	}{3, window, n.Result.Expects, items, orNone(n.Result.Notes), unreadToJSON(n.World.Estate.Unread)})
}

func proposalToJSON(e *estate.Estate, d *decide.Decider, owners narrow.Owners, c *work.Checked) proposalJSON {
	x := proposalJSON{State: map[bool]string{true: "defined", false: "found"}[c.Group.Defined], Group: c.Group.Path(),
		Direction: string(c.Direction), Defined: c.Group.Defined, File: c.Rules[0].Origin.File,
		Line:  c.Rules[0].Origin.Line,
		Rules: []string{}, Before: []string{}, After: []string{}, Needs: []needJSON{}, LeftOut: []leftOutJSON{},
		Curve: []pointJSON{}, Changed: c.Changed, Refused: c.Refused,
		Closes: blocksToJSON(c.Closes), Seen: c.Seen, Flows: c.Flows, Declared: c.Declared, Left: c.Noise.Flows,
		Elsewhere: c.Elsewhere.Flows, Stopped: c.Stopped(), Peers: c.Peers, Rhythm: orNone(c.Rhythm),
		Excess: excessJSON(c.Excess), CostBefore: c.CostBefore, CostAfter: c.CostAfter, Quota: c.Quota.Direction,
		QuotaBoth: c.Quota.Together, Shorter: []shorterJSON{}, Held: orNone(stillHeld(e, c)),
		Exact: c.Exact(), Bound: c.Bound, Shut: c.Shut, Gain: c.Gain()}
	if w, ok := c.Example(d); ok {
		x.Example = stoppedFlow(d, c, w)
	}
	for _, rule := range c.Rules {
		x.Before = append(x.Before, rule.Sentence(e.Services)+reasonAndEnd(rule))
		if rule.ID != "" {
			x.Rules = append(x.Rules, rule.ID)
		}
	}
	for _, rule := range c.New {
		x.After = append(x.After, newSentence(e, c, rule))
	}
	for _, need := range c.Needs {
		y := needJSON{Seen: []seenJSON{},
			Source: string(need.Source), Text: need.Text, Services: []string{}, Peers: []string{},
			Lent: need.Lent}
		for _, spec := range need.Services.Specs() {
			y.Services = append(y.Services, spec.String())
		}
		for _, p := range need.Peers.Prefixes() {
			y.Peers = append(y.Peers, p.String())
		}
		y.Flows, y.Days = need.Flows(), need.Days()
		if y.Because = need.Terms.Rules[0].Description; !need.Terms.Until().IsZero() {
			y.Until = need.Terms.Until().Add(-time.Second).Format(time.DateOnly)
		}
		for _, seen := range c.SeenOf(&need) {
			y.Seen = append(y.Seen, seenJSON{seen.Peer.String(), owners.Of(seen.Peer), seen.Flows, seen.Days,
				seen.Bytes, momentOf(seen.Last)})
		}
		x.Needs = append(x.Needs, y)
	}
	for _, l := range c.Noise.List {
		x.LeftOut = append(x.LeftOut, leftOutJSON{l.Peer.String(), l.Service.String(), owners.Of(l.Peer), l.Flows,
			momentOf(l.Last), string(l.Why), c.Closes.Contains(l.Peer, l.Service)})
	}
	if c.Unseen.Told {
		x.UnseenFlows, x.UnseenPeers = &c.Unseen.Flows, &c.Unseen.Peers
	}
	for _, s := range c.Shorter {
		x.Shorter = append(x.Shorter, shorterJSON{ruleText(e, c, s.Rule), s.Parts, s.Addresses, s.Ports})
	}
	for _, p := range c.Curve {
		x.Curve = append(x.Curve, pointJSON{p.Rules, excessJSON(p.Excess), p.Chosen, p.Over})
	}
	if l := c.Lending; l != nil {
		x.Lending = &lendingJSON{lendTexts(e, l), l.Users, l.Sessions, l.Days, int64(l.Longest.Seconds()),
			int64(l.AtMost.Seconds()), l.Taken}
		if l.Taken {
			x.After = append(x.After, x.Lending.Rules...)
		}
	}
	return x
}

// ProposalsMarkdown writes proposals for a review, each with a table of who was seen.
func ProposalsMarkdown(out io.Writer, n Narrowing) error {
	d := decide.New(n.World.Estate)
	owners := narrow.OwnersIn(d)
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
		proposalMarkdown(&b, n, d, owners, &n.Result.Proposals[i])
	}
	_, err := io.WriteString(out, b.String())
	return err
}

func proposalMarkdown(b *strings.Builder, n Narrowing, d *decide.Decider, owners narrow.Owners, c *work.Checked) {
	e := n.World.Estate
	line := func(label, text string) { fmt.Fprintf(b, "- %s: %s\n", label, mark(text)) }
	fmt.Fprintf(b, "## %s (%s)\n\n", mark(c.Group.Path()), mark(place(c.Rules[0].Origin)))
	for _, r := range c.Rules {
		line("before", r.Sentence(e.Services)+reasonAndEnd(r))
	}
	for _, text := range afterwards(e, c) {
		fmt.Fprintf(b, "- after: **%s**\n", mark(text))
	}
	if c.Refused != "" {
		line("not done", c.Refused)
	}
	if !c.Closes.IsEmpty() {
		text := closesText(e, c.Closes) + stoppedText(c)
		if w, ok := c.Example(d); ok {
			text += "; for example " + stoppedFlow(d, c, w)
		}
		line("closes", text)
	}
	for i := range c.Needs {
		line("needed", needText(e, c, &c.Needs[i]))
	}
	for _, text := range leftOut(e, owners, c) {
		line("left out", text)
	}
	for _, text := range stillHeld(e, c) {
		line("but", text)
	}
	line("rests on", restsOn(c, n.Flows))
	if c.Unseen.Told {
		line("unseen", unseenText(c, n.Flows))
	}
	for _, text := range c.Rhythm {
		line("window", text)
	}
	for _, text := range alternatives(e, c) {
		line("or", text)
	}
	if c.Changed {
		line("cost", costText(c))
	}
	seenTable(b, e, owners, c)
	b.WriteString("\n")
}

// seenTable lists who was seen, by need.
func seenTable(b *strings.Builder, e *estate.Estate, owners narrow.Owners, c *work.Checked) {
	const most = 20 // of each need; the JSON has all
	header := "\n| Peer | Whose | Services | Flows | Days | Carried | Last seen |\n|---|---|---|---:|---:|---:|---|\n"
	for i := range c.Needs {
		seen := c.SeenOf(&c.Needs[i])
		for k, x := range seen {
			b.WriteString(header)
			header = ""
			if k == most {
				fmt.Fprintf(b, "| and %s more | | | | | | |\n", Number(len(seen)-most))
				break
			}
			whose := owners.Of(x.Peer)
			if whose == "" {
				whose = "unknown"
			}
			fmt.Fprintf(b, "| %s | %s | %s | %s | %s | %s | %s |\n", x.Peer, mark(whose),
				mark(serviceWords(e, c.Needs[i].Services)), Number(x.Flows), Number(x.Days), humanize.Bytes(x.Bytes),
				time.Unix(x.Last, 0).UTC().Format(time.DateOnly))
		}
	}
}

// momentOf is a time in seconds since 1970.
func momentOf(seconds int64) string { return moment(time.Unix(seconds, 0)) }
