package demo

import (
	"fmt"
	"net/netip"
	"slices"

	"isonomos/core/estate"
	"isonomos/core/service"
)

// A mistake is a kind of mistake that can be planted.
type mistake struct {
	check   string
	dialect []string // dialects in which it can be planted; empty means all
	tier    string   // the end of the group's name; empty means any
	plant   func(g *generator, h *home, to *estate.Group) (rule *estate.Rule, about string)
}

// early adds a rule before all others of a group.
func (g *generator) early(h *home, to *estate.Group, direction estate.Direction, services []service.Spec,
	peers []estate.Peer, because string) *estate.Rule {
	r := g.rule(to, direction, estate.Admit, services, g.spelt(h, peers), because)
	if r.Rank > 0 {
		r.Rank = 100 + 2*(len(to.Rules)%40)
	}
	return r
}

func (g *generator) earlyIn(h *home, to *estate.Group, services []service.Spec, peers []estate.Peer) *estate.Rule {
	return g.early(h, to, estate.In, services, peers, "just for today")
}

func prefixes(texts ...string) []estate.Peer {
	var all []netip.Prefix
	for _, t := range texts {
		all = append(all, netip.MustParsePrefix(t))
	}
	return ranges(all...)
}

// within is a range in a home's network, by its third byte and its length.
func within(h *home, third byte, bits int) []estate.Peer {
	base := h.network.Ranges[0].Addr().As4()
	return ranges(netip.PrefixFrom(netip.AddrFrom4([4]byte{base[0], base[1], third, 0}), bits))
}

var mistakes = []mistake{
	{"open-admin-port", nil, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		return g.earlyIn(h, to, tcp(22), everybody), "ssh from everyone"
	}},
	{"open-data-port", nil, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		return g.earlyIn(h, to, tcp(3306), prefixes("0.0.0.0/0")), "mysql from everyone over IPv4"
	}},
	{"one-family", nil, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		return g.earlyIn(h, to, tcp(3389), prefixes("::/0")), "rdp from everyone over IPv6 alone"
	}},
	{"open-in-sum", []string{"union", "layered", "flat"}, "",
		func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
			g.earlyIn(h, to, tcp(5900), prefixes("0.0.0.0/1"))
			return g.earlyIn(h, to, tcp(5900), prefixes("128.0.0.0/1")), "vnc from both halves of the internet"
		}},
	{"open-cleartext", nil, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		return g.earlyIn(h, to, tcp(143), everybody), "imap from everyone"
	}},
	{"open-inbound", nil, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		return g.earlyIn(h, to, tcp(20777), everybody), "tcp 20777 from everyone"
	}},
	{"wide-inbound", nil, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		return g.earlyIn(h, to, tcp(20778), prefixes("96.0.0.0/6")), "tcp 20778 from a sixty-fourth of the internet"
	}},
	{"undeclared-addresses", nil, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		return g.earlyIn(h, to, tcp(20779), prefixes("192.0.2.128/28")), "addresses that are in no list"
	}},
	{"all-services", nil, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		return g.earlyIn(h, to, anything, within(h, 0, 16)), "everything from the network"
	}},
	{"wide-ports", nil, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		return g.earlyIn(h, to, []service.Spec{service.Ports(service.TCP, 22, 80)}, list(h.lists[0])), "ports 22 to 80"
	}},
	{"open-outbound", nil, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		return g.early(h, to, estate.Out, anything, everybody, "updates"), "everything out"
	}},
	{"overruled", nil, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		g.earlyIn(h, to, tcp(21500), within(h, 0, 18))
		return g.earlyIn(h, to, tcp(21500), within(h, 3, 24)), "a rule within another"
	}},
	{"ineffective-refusal", []string{"ranked"}, "",
		func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
			g.earlyIn(h, to, tcp(21700), within(h, 0, 18)).Rank = 110
			r := g.rule(to, estate.In, estate.Refuse, tcp(21700), within(h, 5, 24), "not from there")
			r.Rank = 160
			return r, "a refusal behind what it should refuse"
		}},
	{"crowded-ranks", []string{"ranked"}, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		g.earlyIn(h, to, tcp(21800), within(h, 7, 24)).Rank = 120
		r := g.earlyIn(h, to, tcp(21801), within(h, 7, 24))
		r.Rank = 121
		return r, "no rank between two rules"
	}},
	{"dangling", []string{"union", "layered", "flat"}, "",
		func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
			return g.earlyIn(h, to, tcp(21900), []estate.Peer{{Kind: estate.PeerMissing, Missing: "group:grp-gone"}}),
				"a group that is not there"
		}},
	{"static-address", nil, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		a := h.subnets[1].Ranges[0].Addr().Next()
		return g.earlyIn(h, to, tcp(21950), ranges(netip.PrefixFrom(a, 32))), "the address of a machine of one's own"
	}},
	{"catch-all-self", []string{"union", "layered", "flat"}, "",
		func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
			return g.earlyIn(h, to, anything, []estate.Peer{{Kind: estate.PeerSelf}}),
				"members reach each other on everything"
		}},
	{"expired", nil, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		return g.early(h, to, estate.In, tcp(21960), list(h.lists[0]), "vendor's visit until 2026-10-31"),
			"a rule past its date"
	}},
	{"probe-shut", []string{"union", "layered", "flat"}, "-site",
		func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
			i := slices.IndexFunc(to.Rules, func(r estate.Rule) bool { return r.Services[0] == tcp(8443)[0] })
			to.Rules[i].Peers = g.spelt(h, list(h.lists[1]))
			return &to.Rules[i], "narrowed so that the balancer is cut off"
		}},
	{"one-way", []string{"union"}, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		wall := h.subnets[2].Groups[0]
		for i := range wall.Rules {
			if r := &wall.Rules[i]; r.Direction == estate.Out {
				r.Services = tcp(443)
			}
		}
		return nil, "answers are stopped at the subnet data"
	}},
	{"quota", []string{"union"}, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		for i := range 65 {
			g.rule(to, estate.In, estate.Admit, tcp(uint16(30000+i)), within(h, 9, 24), "one more")
		}
		return nil, "more rules than the quota"
	}},
	{"unused", nil, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		return nil, "attached to nothing"
	}},
	{"twins", []string{"union", "layered", "flat"}, "-worker",
		func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
			twin := g.group(h, to.Name+"-copy", "the same once more")
			port := uint16(22000 + len(g.planted))
			for _, r := range []*estate.Group{to, twin} {
				r.Rules = nil
				g.earlyIn(h, r, tcp(port), within(h, 11, 24))
				g.earlyIn(h, r, tcp(21971), list(h.lists[0]))
			}
			return nil, "two groups that say the same"
		}},
	{"unfiltered", nil, "-site", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		return nil, "filtering is switched off"
	}},
	{"default-group", []string{"union"}, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		return nil, "the default group is attached to an instance"
	}},
	{"stage-crossing", []string{"union"}, "-store",
		func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
			return nil, "staging reaches a production store"
		}},
	{"repeated-addresses", nil, "", func(g *generator, h *home, to *estate.Group) (*estate.Rule, string) {
		return nil, "the same addresses in three groups"
	}},
}

// plant puts mistakes into groups: each kind once for every 500 groups, and at least once if any
// group can have it. No group gets two.
func (g *generator) plant() {
	type place struct {
		h  *home
		to *estate.Group
	}
	var places []place
	total := 0
	for _, h := range g.homes {
		total += len(h.groups)
		for _, to := range h.groups {
			places = append(places, place{h, to})
		}
	}
	g.rand.Shuffle(len(places), func(i, j int) { places[i], places[j] = places[j], places[i] })
	attached := make(map[*estate.Group][]*estate.Interface)
	for _, i := range g.Instances {
		for _, f := range i.Interfaces {
			attached[f.Groups[0]] = append(attached[f.Groups[0]], f)
		}
	}
	used := make(map[*home]map[string]bool)
	touched := make(map[*estate.Group]bool)
	take := func(m mistake, fits func(place) bool) (place, bool) {
		for i, p := range places {
			dialect := p.h.account.Cloud.Dialect
			if m.dialect != nil && !slices.Contains(m.dialect, dialect) || len(p.to.Name) < len(m.tier) ||
				p.to.Name[len(p.to.Name)-len(m.tier):] != m.tier || touched[p.to] || !fits(p) {
				continue
			}
			places = slices.Delete(places, i, i+1)
			touched[p.to] = true
			return p, true
		}
		return place{}, false
	}
	for _, m := range mistakes {
		for range max(1, total/500) {
			p, ok := take(m, func(p place) bool {
				switch m.check {
				// only one for each network: they concern more than the group
				case "one-way", "unfiltered", "default-group", "probe-shut":
					if used[p.h][m.check] || len(attached[p.to]) == 0 {
						return false
					}
				case "stage-crossing":
					return p.h.account.Labels["stage"] == "production" && len(p.h.network.Peered) == 0 &&
						len(attached[p.to]) > 0
				case "repeated-addresses":
					n := 0
					for _, other := range p.h.groups {
						if !touched[other] {
							n++
						}
					}
					return n > 3
				case "overruled", "static-address", "open-outbound":
					return len(attached[p.to]) > 0
				}
				return true
			})
			if !ok {
				break
			}
			if used[p.h] == nil {
				used[p.h] = make(map[string]bool)
			}
			used[p.h][m.check] = true
			rule, about := m.plant(g, p.h, p.to)
			planted := Planted{Check: m.check, Account: p.h.account.Name, Group: p.to.Path(), About: about}
			if rule != nil {
				planted.Rule = rule.ID
			}
			switch m.check {
			case "one-way":
				planted.Group = p.h.subnets[2].Groups[0].Path()
			case "unused":
				to := g.group(p.h, fmt.Sprintf("%s-old", p.to.Name), "was there before")
				g.rule(to, estate.In, estate.Admit, tcp(21990), within(p.h, 13, 24), "readings")
				planted.Group = to.Path()
			case "unfiltered":
				attached[p.to][0].Unfiltered = true
				planted.Group = ""
			case "default-group":
				attached[p.to][0].Groups = nil
				d := g.defaultOf(p.h)
				g.rule(d, estate.In, estate.Admit, tcp(21991), []estate.Peer{{Kind: estate.PeerSelf}}, "left over")
				planted.Group = d.Path()
			case "stage-crossing":
				lower := g.lower(p.h)
				if lower == nil || free(lower, touched) == nil {
					continue
				}
				from := free(lower, touched)
				touched[from] = true
				planted.Rule = g.cross(p.h, lower, from, p.to).ID
			case "repeated-addresses":
				repeated := prefixes(fmt.Sprintf("198.51.100.%d/32", 129+g.rand.IntN(120)))
				planted.Group = ""
				for k, to := 0, p.to; k < 3 && to != nil; k, to = k+1, free(p.h, touched) {
					touched[to] = true
					g.earlyIn(p.h, to, tcp(uint16(21980+k)), repeated)
				}
			}
			g.planted = append(g.planted, planted)
		}
	}
}

// free is a group of a home without a mistake, or nil.
func free(h *home, touched map[*estate.Group]bool) *estate.Group {
	for _, to := range h.groups {
		if !touched[to] {
			return to
		}
	}
	return nil
}

func (g *generator) defaultOf(h *home) *estate.Group {
	i := slices.IndexFunc(g.Groups, func(d *estate.Group) bool { return d.Default && d.Network == h.network })
	return g.Groups[i]
}

// lower is a network of a lower stage that can peer with one of production.
func (g *generator) lower(h *home) *home {
	for _, x := range g.homes {
		if stage := x.account.Labels["stage"]; stage != "production" && x.account.Cloud == h.account.Cloud &&
			len(x.network.Peered) == 0 && len(x.groups) > 1 && x.network.Ranges[0] != h.network.Ranges[0] {
			return x
		}
	}
	return nil
}

// cross makes two networks peer and lets a group of the lower one reach a store of the higher.
func (g *generator) cross(h, lower *home, from, to *estate.Group) *estate.Rule {
	for _, pair := range [][2]*home{{h, lower}, {lower, h}} {
		here, there := pair[0].network, pair[1].network
		here.Peered = append(here.Peered, there)
		for _, s := range here.Subnets {
			s.Routes = append(s.Routes, estate.Route{To: there.Ranges[0], Via: estate.ViaPeer, Network: there})
		}
	}
	g.rule(from, estate.Out, estate.Admit, tcp(5432), of(to), "to compare")
	wall := h.subnets[2].Groups[0]
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		g.rule(wall, direction, estate.Admit, anything, ranges(lower.network.Ranges...), "peered")
	}
	return g.rule(to, estate.In, estate.Admit, tcp(5432), of(from), "to compare")
}
