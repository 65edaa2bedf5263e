package render

import (
	"fmt"
	"slices"
	"strings"

	"isonomos/core/compile"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/nomos"
	"isonomos/words"
)

// Definitions writes what definitions amount to: totals, then groups by account with their cost in
// rules.
func Definitions(s *Screen, d nomos.Definitions, costs compile.Costs) {
	e := d.Estate
	rules, lends := 0, 0
	for _, g := range e.Groups {
		rules += len(g.Rules)
		lends += len(g.Lends)
	}
	s.Line(Piece{e.Name, Accent}, Piece{"  " + e.Title, Strong})
	s.Text(0, fmt.Sprintf("%s: %s, %s, %s, %s, %s, %s, %s, %s, %s, %s",
		Count(len(d.Files), "file", "files"), Count(len(e.Clouds), "cloud", "clouds"),
		Count(len(e.Accounts), "account", "accounts"), Count(len(e.Networks), "network", "networks"),
		Count(len(e.Groups), "group", "groups"), Count(rules, "rule", "rules"), Count(lends, "lend", "lends"),
		Count(len(e.Lists), "list", "lists"),
		Count(len(d.Laws), "law", "laws"), Count(len(d.Exemptions), "exemption", "exemptions"),
		Count(len(d.Expects), "expectation", "expectations")))
	width := 20
	for _, g := range e.Groups {
		width = max(width, Columns(g.Path())+2)
	}
	for _, a := range e.Accounts {
		var groups []*estate.Group
		for _, g := range e.Groups {
			if g.Account == a {
				groups = append(groups, g)
			}
		}
		if len(groups) == 0 {
			continue
		}
		s.Blank()
		room := max(s.Width()-width-len("rules in  rules out  "), 12)
		s.Line(Piece{Pad(a.Name, width), Strong}, Piece{"rules in  rules out  ", Faint},
			Piece{shortened(fmt.Sprintf("%s (%s), quota %s", a.Cloud.Name, a.Cloud.Dialect, quotaText(a, groups)),
				room), Faint})
		for _, g := range groups {
			d := decide.Dialect(a)
			in, out := costs[g.Path()].In, costs[g.Path()].Out
			about := g.Description
			switch {
			case g.Existing:
				about = fmt.Sprintf("there already, as %q", g.CloudName)
			case g.For == estate.ForSubnets:
				about = strings.TrimSuffix("for subnets: "+about, ": ")
			}
			lines := wrap(Clean(about), room)
			s.Line(Piece{Pad(g.Path(), width), Accent}, cost(8, in, compile.QuotaOf(d, g), in, out),
				cost(11, out, compile.QuotaOf(d, g), in, out), Piece{"  " + lines[0], Plain})
			for _, line := range lines[1:] {
				s.Line(Piece{strings.Repeat(" ", width+8+11+2) + line, Plain})
			}
		}
	}
}

// A TooLarge is a group that takes more rules than its quota, and what would help.
type TooLarge struct {
	Group *estate.Group
	Text  string
}

// OverQuota are the groups that take more rules than they may.
func OverQuota(e *estate.Estate, costs compile.Costs) []TooLarge {
	var over []TooLarge
	for _, g := range e.Groups {
		d := decide.Dialect(g.Account)
		in, out, q := costs[g.Path()].In, costs[g.Path()].Out, compile.QuotaOf(d, g)
		if !q.Over(in, out) {
			continue
		}
		limit, most := "rules-per-direction", q.Direction
		switch {
		case g.For == estate.ForSubnets && q.Direction > 0:
			limit = "subnet-rules-per-direction"
		case q.Direction == 0:
			limit, most = "rules-per-group", q.Together
		}
		over = append(over, TooLarge{g, fmt.Sprintf("%s takes %s inward and %s outward, and %s is the most: join "+
			"ranges or ports, give lists less room, or raise the quota (limit %s = N)", g.Path(),
			Count(in, "rule", "rules"), Number(out), Number(most), limit)})
	}
	return over
}

// quotaText is the quota of an account's groups, and that of its subnet groups if it differs.
func quotaText(a *estate.Account, groups []*estate.Group) string {
	text := func(kind estate.GroupKind) string {
		q := compile.QuotaOf(decide.Dialect(a), &estate.Group{Account: a, For: kind})
		switch {
		case q.Direction > 0:
			return fmt.Sprintf("%s a direction", Number(q.Direction))
		case q.Together > 0:
			return fmt.Sprintf("%s a group", Number(q.Together))
		}
		return "by account"
	}
	usual, around := text(estate.ForInstances), text(estate.ForSubnets)
	if around != usual && slices.ContainsFunc(groups,
		func(g *estate.Group) bool { return g.For == estate.ForSubnets }) {
		return usual + ", for subnets " + around
	}
	return usual
}

// roomText says what a compiled group lets through only for answers. It is empty if that is
// nothing.
func roomText(e *estate.Estate, c *compile.Compiled) string {
	var room []string
	if !c.RoomIn.IsEmpty() {
		room = append(room, words.Traffic(e, c.RoomIn, estate.In))
	}
	if !c.RoomOut.IsEmpty() {
		room = append(room, words.Traffic(e, c.RoomOut, estate.Out))
	}
	return strings.Join(room, "; ")
}

// DeadText is the warning about a rule that lets nothing through.
func DeadText(e *estate.Estate, x compile.Dead) string {
	if x.By == nil {
		return fmt.Sprintf("%s:%d: warning: %q lets nothing through: the network has no addresses of that family",
			x.Rule.Origin.File, x.Rule.Origin.Line, x.Rule.Sentence(e.Services))
	}
	return fmt.Sprintf("%s:%d: warning: %q lets nothing through: %q at line %d stops all of it", x.Rule.Origin.File,
		x.Rule.Origin.Line, x.Rule.Sentence(e.Services), x.By.Sentence(e.Services), x.By.Origin.Line)
}

// cost is a number of rules, aligned to the right, coloured from 80 % of the quota on.
func cost(columns, n int, quota compile.Quota, in, out int) Piece {
	p := Piece{fmt.Sprintf("%*s", columns, Number(n)), Plain}
	switch {
	case quota.Over(in, out):
		p = Piece{fmt.Sprintf("%*s", columns, Number(n)+"!"), Hot}
	case quota.Direction > 0 && n*5 >= quota.Direction*4, quota.Together > 0 && (in+out)*5 >= quota.Together*4:
		p.Style = Warm
	}
	return p
}

// CompiledRules writes the rules that groups become, by cloud.
func CompiledRules(s *Screen, e *estate.Estate, compiled []compile.Compiled) {
	last := ""
	for _, c := range compiled {
		g := c.Group
		if cloud := g.Account.Cloud.Name + " (" + g.Account.Cloud.Dialect + ")"; cloud != last {
			s.Line(Piece{cloud, Strong})
			last = cloud
		}
		s.Ends(Piece{Count(len(g.Rules), "rule", "rules"), Faint}, Piece{"  " + g.Path(), Accent},
			Piece{"  for " + string(g.For), Faint})
		for i := range g.Rules {
			r := withFullNames(g.Rules[i])
			rank := ""
			if r.Rank > 0 {
				rank = fmt.Sprint(r.Rank)
			}
			s.Labelled(4, Piece{rank, Faint}, 6, Piece{Text: r.Sentence(e.Services) + because(&r)})
		}
		if room := roomText(e, &c); room != "" {
			s.Labelled(4, Piece{"room", Warm}, 6,
				Piece{Text: "answers need " + room + "; a network's answers narrows it"})
		}
	}
}
