package abstract

import (
	"fmt"
	"strings"
)

// Definitions are the estate in the language.
func (e *Estate) Definitions() string {
	var b strings.Builder
	fmt.Fprintf(&b, "estate play\ncloud c {\n  dialect %s\n  at env C_URL\n  token env C_TOKEN\n}\naccount a {\n "+
		" cloud c\n  id \"a\"\n  label stage = lab\n}\n", e.Dialect)
	for i, n := range e.Networks {
		fmt.Fprintf(&b, "network %s in a {\n  range ", n.Name)
		for k, r := range n.Ranges {
			if k > 0 {
				b.WriteString(", ")
			}
			b.WriteString(r.String())
		}
		for _, s := range n.Subnets {
			fmt.Fprintf(&b, "\n  subnet %s", s.Name)
			for k, r := range s.Ranges {
				b.WriteString([]string{" ", ", "}[min(k, 1)] + r.String())
			}
		}
		if e.Peered {
			fmt.Fprintf(&b, "\n  peered a/%s", e.Networks[1-i].Name)
		}
		if n.Answers[1] > 0 {
			fmt.Fprintf(&b, "\n  answers %d-%d", n.Answers[0], n.Answers[1])
		}
		b.WriteString("\n}\n")
	}
	for _, l := range e.Lists {
		fmt.Fprintf(&b, "list %s {\n", l.Name)
		for _, r := range l.Ranges {
			fmt.Fprintf(&b, "  %s\n", r)
		}
		b.WriteString("}\n")
	}
	for _, p := range e.Patterns {
		fmt.Fprintf(&b, "pattern %s(who: peers, what: services) {\n", p.Name)
		for _, s := range p.Body {
			b.WriteString("  " + s.text(nil) + "\n")
		}
		b.WriteString("}\n")
	}
	for _, g := range e.Groups {
		e.group(&b, g)
	}
	for _, c := range e.Connects {
		fmt.Fprintf(&b, "connect %s to %s on %s\n", peersText(nil, c.From), peersText(nil, c.To),
			servicesText(c.Services))
	}
	for _, x := range e.Baselines {
		b.WriteString(x.Use.text(nil) + " in every group")
		var tests []string
		if x.Kind != "" {
			tests = append(tests, "kind = "+x.Kind)
		}
		if x.Stage != "" {
			tests = append(tests, "stage = "+x.Stage)
		}
		if len(tests) > 0 {
			b.WriteString(" where " + strings.Join(tests, " and "))
		}
		b.WriteByte('\n')
	}
	return b.String()
}

func (e *Estate) group(b *strings.Builder, g *Group) {
	kind := ""
	if g.Wall {
		kind = " for subnets"
	}
	fmt.Fprintf(b, "group %s%s in a/%s {\n", g.Name, kind, g.Network.Name)
	switch {
	case g.Wall:
		fmt.Fprintf(b, "  cover subnet %s\n", strings.Join(g.Named, ", "))
	case g.Role != "":
		fmt.Fprintf(b, "  cover where role = %s\n", g.Role)
	default:
		fmt.Fprintf(b, "  cover instance %s\n", strings.Join(g.Named, ", "))
	}
	for _, s := range g.Body {
		b.WriteString("  " + s.text(g) + "\n")
	}
	if g.Follows {
		b.WriteString("  follow instances\n")
	}
	b.WriteString("}\n")
}

func (s *Stmt) text(g *Group) string {
	switch s.Verb {
	case "where":
		stage := "production"
		if s.Holds {
			stage = "lab"
		}
		text := "where stage = " + stage + " {\n"
		for _, inner := range s.Inner {
			text += "    " + inner.text(g) + "\n"
		}
		return text + "  }"
	case "use":
		who := peersText(g, s.Who)
		if len(s.WhoExcept) > 0 {
			who += " except " + peersText(g, s.WhoExcept)
		}
		return fmt.Sprintf("use %s((%s), (%s))", s.Pattern.Name, who, servicesText(s.What))
	}
	verb, preposition := s.Verb, "from"
	switch s.Verb {
	case "reach":
		preposition = "at"
	case "refuse from":
		verb = "refuse"
	case "refuse at":
		verb, preposition = "refuse", "at"
	}
	text := fmt.Sprintf("%s %s %s %s", verb, servicesText(s.Services), preposition, peersText(g, s.Peers))
	if len(s.Except) > 0 {
		text += " except " + peersText(g, s.Except)
	}
	if s.Stateless {
		text += " stateless"
	}
	return text
}

func servicesText(services []Service) string {
	if len(services) == 0 {
		return "what"
	}
	var texts []string
	for _, s := range services {
		texts = append(texts, s.Text)
	}
	return strings.Join(texts, ", ")
}

// peersText writes peers of a rule in a group; with nil, of a rule outside groups.
func peersText(g *Group, peers []Peer) string {
	var texts []string
	for _, p := range peers {
		text := p.Kind
		switch p.Kind {
		case "network":
			text += " a/" + p.Net.Name
		case "subnet":
			text += " a/" + p.Sub.Network.Name + "/" + p.Sub.Name
		case "group":
			text += " a/" + p.Group.Network.Name + "/" + p.Group.Name
			if g != nil && g.Network == p.Group.Network { // a name within the same network
				text = "group " + p.Group.Name
			}
		case "list":
			text += " " + p.List.Name
		case "range":
			text = p.Range.String()
		}
		texts = append(texts, strings.TrimSpace(text+" "+p.Family))
	}
	return strings.Join(texts, ", ")
}

// Survey is the surveyed state before anything is carried out.
func (e *Estate) Survey() string {
	var b strings.Builder
	fmt.Fprintf(&b, `{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z","estate":"play"}
{"kind":"cloud","name":"c","dialect":%q}
{"kind":"account","name":"a","cloud":"c","id":"a","limits":`+
		`{"rules-per-direction":900,"rules-per-group":4000,"subnet-rules-per-direction":900}}
`, e.Dialect)
	for i, n := range e.Networks {
		peers := ""
		if e.Peered {
			peers = fmt.Sprintf(`,"peers":[{"account":"a","network":%q}]`, e.Networks[1-i].Name)
		}
		if n.Answers[1] > 0 {
			peers += fmt.Sprintf(`,"answers":"%d-%d"`, n.Answers[0], n.Answers[1])
		}
		fmt.Fprintf(&b, `{"kind":"network","account":"a","id":%q,"name":%q,"ranges":%s%s}`+"\n", n.Name, n.Name,
			quoted(n.Ranges), peers)
		for _, s := range n.Subnets {
			fmt.Fprintf(&b,
				`{"kind":"subnet","account":"a","network":%q,"id":"%s-%s","name":%q,"ranges":%s,`+
					`"routes":[{"to":"0.0.0.0/0","via":"internet"}]}`+"\n",
				n.Name, n.Name, s.Name, s.Name, quoted(s.Ranges))
		}
		if e.Dialect == "union" {
			fmt.Fprintf(&b,
				`{"kind":"group","account":"a","network":%q,"id":"default-%s","name":"default",`+
					`"built_in":true,"default":true}`+"\n", n.Name, n.Name)
		}
	}
	for _, h := range e.Hosts {
		b.WriteString(e.HostLine(h))
	}
	return b.String()
}

// HostLine is a host as a line of a survey, without groups.
func (e *Estate) HostLine(h *Host) string {
	return fmt.Sprintf(
		`{"kind":"instance","account":"a","id":%q,"name":%q,"labels":{"role":%q},`+
			`"interfaces":[{"id":"if-%s","subnet":"%s-%s","private":%s}]}`+"\n",
		h.Name, h.Name, h.Role, h.Name, h.Subnet.Network.Name, h.Subnet.Name, quoted(h.Addrs))
}

func quoted[T fmt.Stringer](list []T) string {
	var texts []string
	for _, x := range list {
		texts = append(texts, fmt.Sprintf("%q", x.String()))
	}
	return "[" + strings.Join(texts, ",") + "]"
}
