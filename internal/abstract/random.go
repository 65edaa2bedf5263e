package abstract

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
)

// Services are those that random definitions use.
var Services = []Service{
	{"ssh", port(6, 22, 22)}, {"https", port(6, 443, 443)}, {"tcp 20-443", port(6, 20, 443)},
	{"tcp", port(6, 0, 65535)}, {"tcp (22, 5432)", either(port(6, 22, 22), port(6, 5432, 5432))},
	{"dns", either(port(6, 53, 53), port(17, 53, 53))}, {"udp 5000-6000", port(17, 5000, 6000)},
	{"postgres", port(6, 5432, 5432)},
	{"any", func(uint8, uint16) bool { return true }},
	{"icmp", kind(1, -1)}, {"icmp 8", kind(1, 8)}, {"icmp unreachable", kind(1, 3)},
	{"icmpv6 echo-request", kind(58, 128)}, {"ping", either(kind(1, 8), kind(58, 128))},
	{"icmp 8/0", port(1, 8<<8, 8<<8)},
	{"protocol 47", port(47, 0, 65535)}, {"protocol 132", port(132, 0, 65535)}, {"sctp 3868", port(132, 3868, 3868)},
	{"dccp 5004-5005", port(33, 5004, 5005)}, {"udplite", port(136, 0, 65535)},
}

func port(protocol uint8, from, to uint16) func(uint8, uint16) bool {
	return func(p uint8, detail uint16) bool { return p == protocol && from <= detail && detail <= to }
}

func kind(protocol uint8, typ int) func(uint8, uint16) bool {
	return func(p uint8, detail uint16) bool { return p == protocol && (typ < 0 || int(detail>>8) == typ) }
}

func either(a, b func(uint8, uint16) bool) func(uint8, uint16) bool {
	return func(p uint8, detail uint16) bool { return a(p, detail) || b(p, detail) }
}

// Points are the services that are asked about: protocol, and port or type and code.
var Points = [][2]uint16{{6, 22}, {6, 443}, {6, 53}, {6, 5432}, {6, 1023}, {6, 1024}, {6, 40000}, {17, 53},
	{17, 5500}, {17, 33000}, {1, 8 << 8}, {1, 0}, {1, 3<<8 | 1}, {1, 130 << 8}, {58, 128 << 8}, {58, 129 << 8},
	{47, 0}, {50, 0}, {132, 3868}, {132, 9}, {33, 5004}, {136, 7}}

// Strangers are addresses outside that are asked about, beside those of the hosts.
var Strangers = addrs("192.0.2.77", "198.51.100.9", "203.0.113.20", "10.1.1.200", "10.1.2.200", "10.2.1.99",
	"10.9.9.9", "2001:db8::77", "fd00:1::99")

func addrs(texts ...string) []netip.Addr {
	list := make([]netip.Addr, len(texts))
	for i, text := range texts {
		list[i] = netip.MustParseAddr(text)
	}
	return list
}

func prefixes(texts ...string) []netip.Prefix {
	list := make([]netip.Prefix, len(texts))
	for i, text := range texts {
		list[i] = netip.MustParsePrefix(text)
	}
	return list
}

// A chance makes a random estate.
type chance struct {
	*rand.Rand
	e *Estate
	// plain leaves out what some clouds can't express.
	plain bool
}

func (c chance) one(n int) bool { return c.IntN(n) == 0 }

// Random is a random estate. A plain one contains nothing that its cloud can't express.
func Random(r *rand.Rand, dialect string, plain bool) *Estate {
	e := &Estate{Dialect: dialect, Peered: r.IntN(2) == 0}
	c := chance{r, e, plain}
	six := c.one(2)
	for n := 1; n <= 2; n++ {
		x := &Network{Name: fmt.Sprint("n", n), Ranges: prefixes(fmt.Sprintf("10.%d.0.0/16", n))}
		if six {
			x.Ranges = append(x.Ranges, prefixes(fmt.Sprintf("fd00:%d::/48", n))...)
		}
		if c.one(4) {
			x.Answers = [2]uint16{32768, 60999}
		}
		for s := 1; s <= 2; s++ {
			sub := &Subnet{Network: x, Name: fmt.Sprint("s", s), Ranges: prefixes(fmt.Sprintf("10.%d.%d.0/24", n, s))}
			if six {
				sub.Ranges = append(sub.Ranges, prefixes(fmt.Sprintf("fd00:%d:0:%d::/64", n, s))...)
			}
			x.Subnets = append(x.Subnets, sub)
			for h := 1; h <= 2; h++ {
				c.host(sub, h, six, []string{"web", "db", "desk"}[c.IntN(3)])
			}
		}
		e.Networks = append(e.Networks, x)
	}
	c.statements()
	return e
}

// Others are other random definitions for the same places.
func (e *Estate) Others(r *rand.Rand, plain bool) *Estate {
	other := &Estate{Dialect: e.Dialect, Peered: e.Peered, Networks: e.Networks, Hosts: e.Hosts}
	chance{r, other, plain}.statements()
	return other
}

// statements makes everything but the places.
func (c chance) statements() {
	e := c.e
	e.Lists = []*List{{"known", prefixes("192.0.2.0/25", "203.0.113.16/28", "2001:db8::/48")},
		{"near", prefixes("10.1.1.0/25", "10.2.0.0/17")}}
	c.groups()
	for k := range c.IntN(3) {
		p := &Pattern{Name: fmt.Sprint("p", k)}
		for range 1 + c.IntN(2) {
			s := c.rule(nil)
			switch c.IntN(3) {
			case 0:
				s.Peers = append(s.Peers, Peer{Kind: "who"})
			case 1:
				s.Peers, s.Except = []Peer{{Kind: "everyone"}}, []Peer{{Kind: "who"}}
			default:
				s.Peers = []Peer{{Kind: "who"}}
			}
			if c.one(2) {
				s.Services = nil // its argument is given by the parameter "what"
			}
			p.Body = append(p.Body, s)
		}
		e.Patterns = append(e.Patterns, p)
	}
	for _, g := range e.Groups {
		for range 1 + c.IntN(4) {
			g.Body = append(g.Body, c.stmt(g))
		}
	}
	for range c.IntN(3) {
		c.connect()
	}
	if len(e.Patterns) > 0 && c.one(3) {
		b := &Baseline{Use: c.use(nil, e.Patterns[0]), Kind: []string{"", "", "instances", "subnets"}[c.IntN(4)],
			Stage: []string{"", "lab", "production"}[c.IntN(3)]}
		e.Baselines = append(e.Baselines, b)
	}
}

func (c chance) host(s *Subnet, number int, six bool, role string) {
	h := &Host{Name: fmt.Sprintf("%s-%s-%d", s.Network.Name, s.Name, number), Role: role, Subnet: s}
	a := s.Ranges[0].Addr().As4()
	a[3] = byte(6 + number + 120*c.IntN(2))
	h.Addrs = append(h.Addrs, netip.AddrFrom4(a))
	if six && !c.one(4) {
		b := s.Ranges[1].Addr().As16()
		b[15] = byte(number)
		h.Addrs = append(h.Addrs, netip.AddrFrom16(b))
	}
	c.e.Hosts = append(c.e.Hosts, h)
}

// groups makes the groups, without rules.
func (c chance) groups() {
	for _, n := range c.e.Networks {
		for _, role := range []string{"web", "db", "desk"} {
			if c.one(4) {
				continue
			}
			g := &Group{Network: n, Name: role, Role: role}
			if c.e.Dialect == "flat" {
				g.Name = role + "-" + n.Name // unique in the account
			}
			c.e.Groups = append(c.e.Groups, g)
		}
		if c.e.Dialect != "ranked" && c.one(2) { // attached together with others
			c.e.Groups = append(c.e.Groups,
				&Group{Network: n, Name: "extra-" + n.Name, Named: []string{c.e.Hosts[c.IntN(len(c.e.Hosts))].Name}})
		}
		if c.e.Dialect == "flat" || c.one(2) {
			continue
		}
		w := &Group{Network: n, Name: "wall-" + n.Name, Wall: true, Named: []string{n.Subnets[c.IntN(2)].Name},
			Follows: c.one(2) || c.e.Dialect == "layered"}
		if c.one(3) {
			w.Named = []string{"s1", "s2"}
		}
		c.e.Groups = append(c.e.Groups, w)
	}
}

// refuses reports whether refusals can be expressed for a group in any case.
func (c chance) refuses(g *Group) bool {
	return c.e.Dialect == "ranked" || g != nil && g.Wall && c.e.Dialect == "union"
}

func (c chance) services() []Service {
	list := []Service{Services[c.IntN(len(Services))]}
	if c.one(4) {
		list = append(list, Services[c.IntN(8)])
	}
	return list
}

func (c chance) family() string {
	if c.plain {
		return ""
	}
	return []string{"v4", "v6", ""}[min(c.IntN(16), 2)]
}

// peer makes a peer for a rule of a group, or with nil one that may stand anywhere.
func (c chance) peer(g *Group) Peer {
	e := c.e
	if g != nil && c.one(3) {
		var others []*Group
		for _, o := range e.Groups {
			if !o.Wall && (e.Nameable(g, o) || !c.plain && c.one(30)) {
				others = append(others, o)
			}
		}
		if len(others) > 0 {
			return Peer{Kind: "group", Group: others[c.IntN(len(others))], Family: c.family()}
		}
	}
	switch c.IntN(7) {
	case 0:
		return Peer{Kind: "everyone", Family: []string{"", "v4", "v6"}[c.IntN(3)]}
	case 1:
		if g == nil || !g.Wall {
			return Peer{Kind: "self", Family: c.family()}
		}
	case 2:
		return Peer{Kind: "network", Net: e.Networks[c.IntN(2)], Family: []string{"", "v4"}[c.IntN(2)]}
	case 3:
		n := e.Networks[c.IntN(2)]
		return Peer{Kind: "subnet", Sub: n.Subnets[c.IntN(2)]}
	case 4:
		return Peer{Kind: "list", List: e.Lists[c.IntN(2)], Family: c.family()}
	}
	ranges := prefixes("192.0.2.0/24", "192.0.2.64/26", "10.1.1.0/24", "10.1.0.0/17", "203.0.113.20/32", "10.0.0.0/8",
		"fd00:1::/48", "2001:db8::/32")
	return Peer{Kind: "range", Range: ranges[c.IntN(len(ranges))]}
}

// rule makes a statement that admits, lets out or refuses.
func (c chance) rule(g *Group) *Stmt {
	s := &Stmt{Verb: []string{"admit", "admit", "reach"}[c.IntN(3)], Services: c.services()}
	for range 1 + c.IntN(2) {
		s.Peers = append(s.Peers, c.peer(g))
	}
	if c.one(5) && (c.refuses(g) || !c.plain) {
		s.Verb = []string{"refuse from", "refuse at"}[c.IntN(2)]
	}
	if c.one(5) && !c.plain {
		s.Except = append(s.Except, c.peer(g))
	}
	if c.e.Dialect == "layered" && g != nil && s.Verb != "refuse from" && s.Verb != "refuse at" && c.one(6) {
		s.Stateless = true
	}
	return s
}

func (c chance) stmt(g *Group) *Stmt {
	switch {
	case c.one(6):
		s := &Stmt{Verb: "where", Holds: c.one(2)}
		for range 1 + c.IntN(2) {
			s.Inner = append(s.Inner, c.rule(g))
		}
		return s
	case len(c.e.Patterns) > 0 && c.one(4) && !c.plain:
		return c.use(g, c.e.Patterns[c.IntN(len(c.e.Patterns))])
	}
	return c.rule(g)
}

func (c chance) use(g *Group, p *Pattern) *Stmt {
	s := &Stmt{Verb: "use", Pattern: p, What: c.services()}
	for range 1 + c.IntN(2) {
		s.Who = append(s.Who, c.peer(g))
	}
	if c.one(3) {
		s.WhoExcept = append(s.WhoExcept, Peer{Kind: "range", Range: netip.MustParsePrefix("10.1.1.128/25")})
	}
	return s
}

func (c chance) connect() {
	var groups []*Group
	for _, g := range c.e.Groups {
		if !g.Wall {
			groups = append(groups, g)
		}
	}
	if len(groups) == 0 {
		return
	}
	x := &Connect{Services: c.services()}
	to := groups[c.IntN(len(groups))]
	from := groups[c.IntN(len(groups))]
	x.To = []Peer{{Kind: "group", Group: to}}
	switch {
	case c.one(2):
		x.From = []Peer{{Kind: "range", Range: netip.MustParsePrefix("192.0.2.0/24")}}
	case c.e.Nameable(from, to) || !c.plain && c.one(6):
		x.From = []Peer{{Kind: "group", Group: from}}
	default:
		return
	}
	if c.one(4) {
		x.From, x.To = x.To, x.From
	}
	c.e.Connects = append(c.e.Connects, x)
}
