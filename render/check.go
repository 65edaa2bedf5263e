package render

import (
	"fmt"

	"isonomos/core/compile"
	"isonomos/core/decide"
	"isonomos/core/estate"
)

// Definitions writes what definitions come to: counts, then groups by account with their cost.
func Definitions(s *Screen, e *estate.Estate, files, expects int) {
	rules := 0
	for _, g := range e.Groups {
		rules += len(g.Rules)
	}
	s.Line(Piece{e.Name, Accent}, Piece{"  " + e.Title, Strong})
	s.Text(0, fmt.Sprintf("%s: %s, %s, %s, %s, %s, %s, %s",
		Count(files, "file", "files"), Count(len(e.Clouds), "cloud", "clouds"), Count(len(e.Accounts), "account", "accounts"), Count(len(e.Networks), "network", "networks"),
		Count(len(e.Groups), "group", "groups"), Count(rules, "rule", "rules"), Count(len(e.Lists), "list", "lists"), Count(expects, "expectation", "expectations")))
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
		s.Line(Piece{Pad(a.Name, width), Strong}, Piece{"rules in  rules out  ", Faint}, Piece{fmt.Sprintf("%s (%s), quota %s", a.Cloud.Name, a.Cloud.Dialect, quotaText(a)), Faint})
		for _, g := range groups {
			d := decide.Dialect(a)
			quota := compile.QuotaOf(d, g).Direction
			s.Line(Piece{Pad(g.Path(), width), Accent}, cost(8, compile.GroupCost(d, g, estate.In), quota), cost(11, compile.GroupCost(d, g, estate.Out), quota), Piece{"  " + g.Description, Plain})
		}
	}
}

func quotaText(a *estate.Account) string {
	if quota := compile.QuotaOf(decide.Dialect(a), &estate.Group{Account: a}).Direction; quota > 0 {
		return fmt.Sprintf("%s a direction and group", Number(quota))
	}
	return "by account"
}

// cost is a number of rules, right-aligned, warm from 80 % of its quota and hot beyond it.
func cost(columns, n, quota int) Piece {
	p := Piece{fmt.Sprintf("%*s", columns, Number(n)), Plain}
	switch {
	case quota > 0 && n > quota:
		p = Piece{fmt.Sprintf("%*s", columns, Number(n)+"!"), Hot}
	case quota > 0 && n*5 >= quota*4:
		p.Style = Warm
	}
	return p
}
