package audit

import (
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// A groupView is one group with what the checks ask of it, computed once.
type groupView struct {
	*setting
	group  *estate.Group
	causes []cause     // of inward rules, in order
	in     traffic.Set // what all rules together let in
	open   traffic.Set // the part of in whose peers are open
	// summed are the services on which no single rule lets in all the strangers
	// of a family that the group lets in.
	summed service.Set
}

// A cause is an inward rule with its traffic. Rules that open the same services
// are one cause: a cloud often has one for each family.
type cause struct {
	rules    []*estate.Rule
	peers    addr.Set
	services service.Set
	open     bool // the peers are open by themselves
}

func (s *setting) view(g *estate.Group) *groupView {
	v := &groupView{setting: s, group: g, in: s.d.GroupTraffic(g, estate.In)}
	var rules []cause
	for i := range g.Rules {
		r := &g.Rules[i]
		if r.Action != estate.Admit || r.Direction != estate.In {
			continue
		}
		c := cause{rules: []*estate.Rule{r}, peers: s.d.Peers(g, r, nil), services: service.Of(r.Services...)}
		c.open = s.isOpen(c.peers)
		rules = append(rules, c)
	}
	var open []traffic.Set
	for _, b := range v.in.Bands() {
		if !s.isOpen(b.Peers) {
			continue
		}
		open = append(open, traffic.Of(b.Peers, b.Services()))
		for _, f := range []addr.Family{addr.IPv4, addr.IPv6} {
			summed, strangers := b.Services(), b.Peers.Intersect(s.d.Strangers()).Only(f)
			if !s.isOpen(strangers) {
				continue
			}
			for _, r := range rules {
				if r.open && strangers.SubsetOf(r.peers) {
					summed = summed.Minus(r.services)
				}
			}
			v.summed = v.summed.Union(summed)
		}
	}
	v.open = traffic.UnionAll(open)
	v.causes = v.joinRules(rules)
	return v
}

// joinRules makes one cause of rules that open the same services.
func (v *groupView) joinRules(rules []cause) []cause {
	var causes []cause
	for _, r := range rules {
		i := slices.IndexFunc(causes, func(c cause) bool { return c.open && r.open && c.services.Equal(r.services) })
		if i < 0 {
			causes = append(causes, r)
			continue
		}
		causes[i].rules = append(causes[i].rules, r.rules...)
		causes[i].peers = causes[i].peers.Union(r.peers)
	}
	return causes
}

// isOpen reports whether peers hold a sixteenth of all strangers, in either family.
func (s *setting) isOpen(peers addr.Set) bool {
	return s.breadth(peers).AtLeast(decide.OpenBreadth)
}

func (s *setting) breadth(peers addr.Set) decide.Breadth {
	return decide.BreadthOf(peers, s.d.Strangers())
}

// opening makes a finding of open traffic that the given rules cause.
func (v *groupView) opening(set traffic.Set, rules []*estate.Rule) Finding {
	f := Finding{Direction: estate.In, Rules: rules, Services: set.Services(), Peers: set.Peers(service.All)}
	f.Breadth = v.breadth(f.Peers)
	v.arrive(&f, set)
	f.Message = fmt.Sprintf("%s %s let in from %s", v.d.Estate().Services.Describe(f.Services), isAre(v.d.Estate().Services.Words(f.Services)), PeersInWords(f.Peers))
	f.WayOut = "isonomos narrow " + v.group.Path()
	if w, ok := set.WithPeers(v.d.Strangers()).Witness(); ok {
		f.Example = &Example{Peer: w, Inbound: true, ByRule: rules[0]}
		for _, r := range rules {
			if v.d.RuleTraffic(v.group, r).Contains(w.Peer, w.Service) {
				f.Example.ByRule = r
				break
			}
		}
		if len(f.Instances) > 0 {
			f.Example.At = f.Instances[0]
		} else if worn := v.d.Wearers(v.group); len(worn) > 0 {
			f.Example.At = worn[0]
		}
	}
	return f
}

func isAre(words []string) string {
	if len(words) == 1 {
		return "is"
	}
	return "are"
}

// arrive finds out where open traffic gets to, or why it gets nowhere.
func (v *groupView) arrive(f *Finding, set traffic.Set) {
	if len(v.d.Estate().Instances) == 0 {
		return
	}
	worn := v.d.Wearers(v.group)
	if len(worn) == 0 {
		f.Arrival, f.WhyNot = Nowhere, "no instance wears the group"
		return
	}
	f.Arrival, f.WhyNot = Nowhere, ""
	for _, i := range worn {
		if v.d.Arriving(i).Intersect(set).WithPeers(v.d.Strangers()).IsEmpty() {
			if f.WhyNot == "" {
				f.WhyNot = v.whyNot(i, set)
			}
			continue
		}
		f.Instances = append(f.Instances, i)
	}
	if len(f.Instances) > 0 {
		f.Arrival, f.WhyNot = Arrives, ""
	}
}

// whyNot asks for one flow of the set why it does not arrive at an interface.
func (v *groupView) whyNot(i *estate.Interface, set traffic.Set) string {
	for _, own := range i.Private {
		of := set.WithPeers(v.d.Strangers().Intersect(addr.FamilyOf(familyOf(own))))
		if w, ok := of.Witness(); ok {
			return v.d.Flow(decide.End{Addr: w.Peer}, decide.End{Interface: i, Addr: own}, w.Service).Why().Text
		}
	}
	return fmt.Sprintf("%s has no address of that family", i.Instance.Name)
}

func familyOf(a interface{ Is4() bool }) addr.Family {
	if a.Is4() {
		return addr.IPv4
	}
	return addr.IPv6
}

// PeersInWords is a set of peers for a sentence, with its size: "everyone
// (4,294,967,296 IPv4 addresses, all of IPv6)".
func PeersInWords(peers addr.Set) string {
	four, six := peers.Only(addr.IPv4), peers.Only(addr.IPv6)
	var sizes []string
	switch left := addr.AllIPv4.Minus(four).Size(); {
	case four.IsEmpty():
	case left.Sign() > 0 && left.BitLen() <= 16:
		sizes = append(sizes, "all of IPv4 but "+plural(left, "address", "addresses"))
	default:
		sizes = append(sizes, plural(four.Size(), "IPv4 address", "IPv4 addresses"))
	}
	switch {
	case six.Equal(addr.AllIPv6):
		sizes = append(sizes, "all of IPv6")
	case !six.IsEmpty():
		sizes = append(sizes, sizeOfIPv6(six))
	}
	who := ""
	switch {
	case peers.Equal(addr.Everyone):
		who = "everyone"
	case peers.Equal(addr.AllIPv4):
		who = "everyone v4"
	case peers.Equal(addr.AllIPv6):
		return "everyone v6 (all of IPv6)"
	case nearlyAll(peers):
		return "everyone but few (" + strings.Join(sizes, ", ") + ")"
	case publicPart(peers) != "":
		who = publicPart(peers)
	default:
		prefixes := peers.Prefixes()
		var shown []string
		for _, p := range prefixes[:min(3, len(prefixes))] {
			shown = append(shown, addr.PrefixString(p))
		}
		who = strings.Join(shown, ", ")
		if len(prefixes) > 3 {
			who += fmt.Sprintf(" and %d more ranges", len(prefixes)-3)
		}
	}
	return fmt.Sprintf("%s (%s)", who, strings.Join(sizes, ", "))
}

// nearlyAll reports whether a set lacks few addresses of each family that it has any of.
func nearlyAll(peers addr.Set) bool {
	const few = 24 // bits
	for _, f := range []addr.Family{addr.IPv4, addr.IPv6} {
		if part := peers.Only(f); !part.IsEmpty() && addr.FamilyOf(f).Minus(part).Size().BitLen() > few {
			return false
		}
	}
	return true
}

// publicPart calls sets by name that are all public addresses, of one family or both.
func publicPart(peers addr.Set) string {
	for _, f := range []addr.Family{addr.Both, addr.IPv4, addr.IPv6} {
		if peers.Equal(addr.Public.Only(f)) {
			return strings.TrimSpace("every public address " + map[addr.Family]string{addr.IPv4: "of IPv4", addr.IPv6: "of IPv6"}[f])
		}
	}
	return ""
}

// sizeOfIPv6 says how many addresses a set holds, large numbers as a power of two.
func sizeOfIPv6(six addr.Set) string {
	if left := addr.AllIPv6.Minus(six).Size(); left.BitLen() <= 24 {
		return fmt.Sprintf("all of IPv6 but %s", plural(left, "address", "addresses"))
	}
	n := six.Size()
	switch power := n.BitLen() - 1; {
	case power < 40:
		return plural(n, "IPv6 address", "IPv6 addresses")
	case n.TrailingZeroBits() == uint(power):
		return fmt.Sprintf("2^%d IPv6 addresses", power)
	default:
		return fmt.Sprintf("more than 2^%d IPv6 addresses", power)
	}
}

func plural(n *big.Int, one, many string) string {
	if n.Cmp(big.NewInt(1)) == 0 {
		return "1 " + one
	}
	return Thousands(n.String()) + " " + many
}

// Thousands puts commas into a number's digits: "4,294,967,296".
func Thousands(digits string) string {
	for i := len(digits) - 3; i > 0; i -= 3 {
		digits = digits[:i] + "," + digits[i:]
	}
	return digits
}

// openOn are the findings of open traffic on some services: one for each cause
// that is open by itself, where it is not part of a larger sum.
func (v *groupView) openOn(services service.Set) []Finding {
	var found []Finding
	services = services.Minus(v.summed)
	for _, c := range v.causes {
		if !c.open || !c.services.Overlaps(services) {
			continue
		}
		set := traffic.Of(c.peers, c.services.Intersect(services)).Intersect(v.in)
		if !set.IsEmpty() {
			found = append(found, v.opening(set, c.rules))
		}
	}
	return found
}

// sumOn are the findings of traffic that is as open as it is only because several rules add up, on some services.
func (v *groupView) sumOn(services service.Set) []Finding {
	rest := v.open.OnServices(services.Intersect(v.summed))
	if rest.IsEmpty() {
		return nil
	}
	var rules []*estate.Rule
	for _, c := range v.causes {
		if c.services.Overlaps(rest.Services()) && c.peers.Overlaps(v.d.Strangers()) {
			rules = append(rules, c.rules...)
		}
	}
	return []Finding{v.opening(rest, rules)}
}

var openAdminPort = Check{
	Name:  "open-admin-port",
	About: "remote administration is open to strangers",
	Start: High,
	Doc: `Remote administration (services of the class admin: ssh, rdp, winrm, vnc, telnet, the control of
clusters and containers) is let in from a sixteenth of all strangers or more, over IPv4 or IPv6.
Such ports are tried by scanners within minutes of being opened.

Example:  admit ssh from everyone
Way out:  isonomos narrow GROUP --flows FLOWS.csv proposes the groups and lists that really use it.`,
	run: func(v *groupView) []Finding { return append(v.openOn(v.admin), v.sumOn(v.admin)...) },
}

var openDataPort = Check{
	Name:  "open-data-port",
	About: "a data store is open to strangers",
	Start: High,
	Doc: `Databases, caches, queues, search or file shares (services of the class data) are let in from a
sixteenth of all strangers or more, over IPv4 or IPv6.

Example:  admit postgres from everyone v6
Way out:  name the group that uses the data: admit postgres from group booking.`,
	run: func(v *groupView) []Finding { return append(v.openOn(v.data), v.sumOn(v.data)...) },
}

var openInbound = Check{
	Name:  "open-inbound",
	About: "something is open to strangers that nobody declared to be",
	Start: Medium,
	Doc: `Services other than administration and data are let in from strangers, and no declaration says that
they are meant to be open.

Example:  admit tcp 8080 from everyone
Way out:  narrow it, or declare it: expect internet can reach GROUP on SERVICE.`,
	run: func(v *groupView) []Finding {
		rest := service.All.Minus(v.admin).Minus(v.data).Minus(v.declared())
		found := append(v.openOn(rest), v.sumOn(rest)...)
		for i := range found {
			found[i].OrElse = "declare it: expect internet can reach " + v.group.Path() + " on " + v.d.Estate().Services.Describe(found[i].Services)
		}
		return found
	},
}

// declared are the services that an expectation says the internet can reach the group on.
func (v *groupView) declared() service.Set {
	var sets []service.Set
	for _, x := range v.expects {
		from := slices.ContainsFunc(x.From.Of, func(p estate.Peer) bool { return p.Kind == estate.PeerInternet })
		to := slices.ContainsFunc(x.To.Of, func(p estate.Peer) bool {
			return p.Kind == estate.PeerGroup && p.Group.Path() == v.group.Path()
		})
		if from && to && x.Can && !x.Only {
			sets = append(sets, x.Services)
		}
	}
	return service.UnionAll(sets...)
}

var allServices = Check{
	Name:  "all-services",
	About: "a rule lets in every protocol, or every port of one",
	Start: High,
	Doc: `A rule lets in every protocol, or every port of TCP or UDP, from somebody other than the members of
its own group. What will listen there next year is let in today.

Example:  admit any from network
Way out:  isonomos narrow GROUP --flows FLOWS.csv proposes the services that are really used.`,
	run: func(v *groupView) []Finding {
		var found []Finding
		for _, c := range v.causes {
			if onlySelf(c.rules[0]) {
				continue
			}
			for _, whole := range []service.Spec{service.Anything, service.Whole(service.TCP), service.Whole(service.UDP)} {
				if !service.Of(whole).SubsetOf(c.services) {
					continue
				}
				f := v.about(c, whole)
				f.Message = fmt.Sprintf("%s let in from %s", map[string]string{"any": "every protocol is", "tcp": "every TCP port is", "udp": "every UDP port is"}[whole.String()], from(c))
				found = append(found, f)
				break
			}
		}
		return found
	},
}

// about makes a finding of a part of a cause that need not be open.
func (v *groupView) about(c cause, spec service.Spec) Finding {
	f := v.opening(traffic.Of(c.peers, service.Of(spec)), c.rules)
	if !c.open {
		f.Arrival, f.WhyNot, f.Instances = Unknown, "", nil
	}
	return f
}

// from names a cause's peers for a sentence: with sizes where they are open, else in the rule's own words.
func from(c cause) string {
	if c.open {
		return PeersInWords(c.peers)
	}
	return estate.PeerWords(c.rules[0].Peers)
}

func onlySelf(r *estate.Rule) bool {
	return !slices.ContainsFunc(r.Peers, func(p estate.Peer) bool { return p.Kind != estate.PeerSelf })
}

// widePortRange is the number of ports of one rule from which they count as wide.
const widePortRange = 16

var widePorts = Check{
	Name:  "wide-ports",
	About: "a rule lets in a wide range of ports",
	Start: Medium,
	Doc: `A rule lets in a range of more than 16 ports. 22-80 written for ssh and http lets in 57 other ports
as well; the finding names the services among them.

Example:  admit tcp 22-80 from list pilot-stations
Way out:  name the services: admit ssh, http from list pilot-stations.`,
	run: func(v *groupView) []Finding {
		var found []Finding
		for _, c := range v.causes {
			for _, spec := range c.services.Specs() {
				width := int(spec.To) - int(spec.From) + 1
				if spec.Protocol != service.TCP && spec.Protocol != service.UDP || spec.Any || width <= widePortRange || width == 65536 {
					continue
				}
				f := v.about(c, spec)
				f.Message = fmt.Sprintf("%s lets in %s ports from %s", spec, Thousands(fmt.Sprint(width)), from(c))
				if swallowed := v.swallowed(spec); swallowed != "" {
					f.Message += ", among them " + swallowed
				}
				found = append(found, f)
			}
		}
		return found
	},
}

// swallowed names the services within a range of ports.
func (v *groupView) swallowed(spec service.Spec) string {
	var within []service.Named
	set := service.Of(spec)
	for _, n := range v.d.Estate().Services.All() {
		if len(n.Specs) > 0 && n.Set().SubsetOf(set) {
			within = append(within, n)
		}
	}
	slices.SortStableFunc(within, func(a, b service.Named) int { return int(a.Specs[0].From) - int(b.Specs[0].From) })
	names := make([]string, len(within))
	for i, n := range within {
		names[i] = n.Name
	}
	const shown = 8
	if len(names) > shown {
		return fmt.Sprintf("%s and %d other services with names", strings.Join(names[:shown], ", "), len(names)-shown)
	}
	return strings.Join(names, ", ")
}

var oneFamily = Check{
	Name:  "one-family",
	About: "what is restricted over one address family is open over the other",
	Start: High,
	Doc: `A service is open over IPv6 and not over IPv4, or open over IPv4 while IPv6 is let in for some only:
somebody shut one door and forgot the other. Open over IPv4 with IPv6 shut altogether is no
finding, since many networks have no IPv6.

Example:  admit postgres from group booking      admit postgres from everyone v6
Way out:  give both families the same peers.`,
	run: func(v *groupView) []Finding {
		var found []Finding
		for _, c := range v.causes {
			if !c.open {
				continue
			}
			set := v.oneSided(traffic.Of(c.peers, c.services))
			if set.IsEmpty() {
				continue
			}
			f := v.opening(set, c.rules)
			open, shut := "IPv6", "IPv4"
			if f.Breadth.IPv4 >= decide.OpenBreadth {
				open, shut = shut, open
			}
			f.Message = fmt.Sprintf("%s %s open over %s and not over %s", v.d.Estate().Services.Describe(f.Services), isAre(v.d.Estate().Services.Words(f.Services)), open, shut)
			found = append(found, f)
		}
		return found
	},
}

// oneSided is the part of open traffic that is open in its family while the other is restricted.
func (v *groupView) oneSided(set traffic.Set) traffic.Set {
	var sided []traffic.Set
	both := service.All.Minus(service.NotIPv4).Minus(service.NotIPv6)
	for _, b := range set.OnServices(both).Bands() {
		for _, whole := range v.in.OnServices(b.Services()).Bands() {
			breadth := v.breadth(whole.Peers)
			four, six := breadth.IPv4 >= decide.OpenBreadth, breadth.IPv6 >= decide.OpenBreadth
			switch {
			case six && !four:
				sided = append(sided, traffic.Of(whole.Peers.Only(addr.IPv6), whole.Services()))
			case four && !six && !whole.Peers.Only(addr.IPv6).IsEmpty():
				sided = append(sided, traffic.Of(whole.Peers.Only(addr.IPv4), whole.Services()))
			}
		}
	}
	return traffic.UnionAll(sided).Intersect(set)
}

var halves = Check{
	Name:  "halves",
	About: "several rules add up to an opening that none of them shows",
	Start: Medium,
	Doc: `No single rule of the group lets in all the strangers that the group lets in: two rules with one half
of the internet each, or many wide ranges. Its severity is that of what the sum opens.

Example:  admit rdp from 0.0.0.0/1      admit rdp from 128.0.0.0/1
Way out:  isonomos narrow GROUP --flows FLOWS.csv.`,
	run: func(v *groupView) []Finding {
		var found []Finding
		for _, services := range []service.Set{v.admin, v.data, service.All.Minus(v.admin).Minus(v.data)} {
			found = append(found, v.sumOn(services)...)
		}
		for i := range found {
			found[i].Message = fmt.Sprintf("%d rules add up to %s", len(found[i].Rules), PeersInWords(found[i].Peers))
		}
		return found
	},
}

// machineMade matches descriptions that say nothing: those that programs write, or that stand in for one.
var machineMade = regexp.MustCompile(`(?i)^(created|generated|added|managed|made) (by|on|at|from)\b|^(auto(matic(ally)?)?|default|description|test|todo|tbd|none|n/a|-+|[0-9a-f-]{8,})\b[ -]*$`)

var unexplained = Check{
	Name:  "unexplained",
	About: "a group or rule does not say what it is for",
	Start: Info,
	Doc: `A group without a description can't be found again in a long list, and a rule without a reason can't
be judged later. Descriptions that a machine wrote, or that stand in for one, count as none.

Example:  admit ssh from list pilot-stations
Way out:  admit ssh from list pilot-stations because "night desk"`,
	run: func(v *groupView) []Finding {
		var found []Finding
		if says(v.group.Description, v.group.Name) == "" && !v.group.BuiltIn {
			found = append(found, Finding{Message: "the group does not say what it is for", WayOut: fmt.Sprintf("write it behind the name: group %s in %s \"…\"", v.group.Name, networkName(v.group))})
		}
		var rules []*estate.Rule
		for i := range v.group.Rules {
			if r := &v.group.Rules[i]; says(r.Description, v.group.Name) == "" && !r.BuiltIn && !v.group.BuiltIn {
				rules = append(rules, r)
			}
		}
		if len(rules) > 0 {
			f := Finding{Rules: rules, WayOut: `add because "…" to each`}
			f.Message = fmt.Sprintf("%d of %d rules do not say why they are there", len(rules), len(v.group.Rules))
			for _, r := range rules {
				f.Details = append(f.Details, r.Sentence(v.d.Estate().Services))
			}
			found = append(found, f)
		}
		return found
	},
}

// says is a description, or nothing if it says nothing.
func says(description, groupName string) string {
	text := strings.TrimSpace(description)
	if strings.EqualFold(text, groupName) || machineMade.MatchString(text) {
		return ""
	}
	return text
}

func networkName(g *estate.Group) string {
	if g.Network == nil {
		return "NETWORK"
	}
	return g.Network.Name
}
