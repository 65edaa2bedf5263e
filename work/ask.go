package work

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/narrow"
	"isonomos/core/near"
	"isonomos/core/service"
	"isonomos/nomos/parse"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/store"
)

// Reading what a user asks for: services, ends of flows, peers, conditions.

// OneService reads the service of a question: one single port, or ICMP type and code.
func OneService(e *estate.Estate, from, to string, words []string) (service.Point, error) {
	text := strings.Join(words, " ")
	var set service.Set
	if named, ok := e.Services.Lookup(text); ok {
		set = named.Set()
	} else if spec, err := service.ParseSpec(text); err == nil {
		set = service.Of(spec)
	} else if len(words) == 1 {
		return 0, noService(e, text)
	} else {
		return 0, wrong("%v", err)
	}
	points := candidates(set, from, to)
	switch {
	case len(points) == 1:
		return points[0], nil
	case text == set.String():
		return 0, wrong("%s is more than one service, and a flow has one: ask for one such as tcp 443 or icmp 8/0",
			text)
	default:
		return 0, wrong("%s stands for %s: ask for one of them", text, set)
	}
}

// candidates are the single services of a set that the addresses among the ends can carry; for each
// ICMP type the first code.
func candidates(set service.Set, ends ...string) []service.Point {
	six, four := false, false
	for _, end := range ends {
		if a, err := netip.ParseAddr(end); err == nil {
			six, four = six || a.Is6(), four || a.Is4()
		}
	}
	if !six && !four {
		four = true // names may have addresses of both families
	}
	var points []service.Point
	for _, spec := range set.Specs() {
		switch {
		case spec.Any, spec.Protocol == service.ICMPv6 && !six && four && len(set.Specs()) > 1,
			spec.Protocol == service.ICMP && six && len(set.Specs()) > 1:
			continue
		case spec.Protocol == service.ICMP || spec.Protocol == service.ICMPv6:
			points = append(points, service.PointOf(spec.Protocol, spec.From))
		case spec.From == spec.To:
			points = append(points, service.PointOf(spec.Protocol, spec.From))
		default:
			points = append(points, service.PointOf(spec.Protocol, spec.From), service.PointOf(spec.Protocol, spec.To))
		}
	}
	return points
}

func noService(e *estate.Estate, text string) error {
	var names []string
	for _, n := range e.Services.All() {
		names = append(names, n.Name)
	}
	if best, ok := near.Best(text, names); ok {
		named, _ := e.Services.Lookup(best)
		return wrong("no service is called %q: %q (%s) is near", text, best, named.Set())
	}
	if strings.Trim(text, "0123456789") == "" {
		return wrong("a port needs its protocol: tcp %s or udp %s", text, text)
	}
	return wrong("no service is called %q: write a name like https, or a protocol and port like tcp 8443",
		fmt.Sprint(text))
}

// Question reads SOURCE DESTINATION PROTOCOL PORT [SOURCEPORT]; for ICMP the
// port is type/code, for protocols without ports it is -.
func Question(fields []string) (decide.Question, error) {
	if len(fields) < 4 || len(fields) > 5 {
		return decide.Question{}, errors.New("a question is SOURCE DESTINATION PROTOCOL PORT [SOURCEPORT]")
	}
	q := decide.Question{Source: fields[0], Destination: fields[1]}
	protocol, err := service.ParseProtocol(fields[2])
	if err != nil {
		return q, err
	}
	text := service.ProtocolName(protocol)
	if fields[3] != "-" {
		text += " " + fields[3]
	}
	spec, err := service.ParseSpec(text)
	if err != nil {
		return q, err
	}
	portless := !service.HasPorts(protocol) && protocol != service.ICMP && protocol != service.ICMPv6
	if spec.From != spec.To || fields[3] == "-" && !portless {
		return q, fmt.Errorf("%s stands for more than one service: give one port, or type/code", text)
	}
	q.Service = service.PointOf(protocol, spec.From)
	if len(fields) == 5 {
		n, err := strconv.ParseUint(fields[4], 10, 16)
		if err != nil {
			return q, fmt.Errorf("%q is not a source port", fields[4])
		}
		port := uint16(n)
		q.SourcePort = &port
	}
	return q, nil
}

// Peers finds whom a name means: the internet, an instance, a group, a list, an address or range.
func Peers(d *decide.Decider, e *estate.Estate, name string) (decide.Peers, error) {
	if name == "internet" {
		return d.StrangersOutside(), nil
	}
	if prefix, err := store.ParseRange(name); err == nil {
		set := addr.OfPrefixes(prefix)
		return decide.Peers{Outside: set.Minus(d.OwnAddresses()), Ends: endsIn(e, set)}, nil
	}
	var names []string
	for _, l := range e.Lists {
		if names = append(names, l.Name); l.Name == strings.TrimPrefix(name, "list ") {
			set := d.ListEntries(l, nil)
			return decide.Peers{Outside: set.Minus(d.OwnAddresses()), Ends: endsIn(e, set)}, nil
		}
	}
	for _, i := range e.Instances {
		if names = append(names, i.Name); i.Name == name || i.Path() == name || i.ID == name {
			return decide.Peers{Ends: decide.EndsOf(i.Interfaces...)}, nil
		}
	}
	if found := e.FindGroups(strings.TrimPrefix(name, "group ")); len(found) > 0 {
		var peers decide.Peers
		for _, g := range found {
			peers.Ends = append(peers.Ends, decide.EndsOf(d.InterfacesOf(g)...)...)
		}
		return peers, nil
	}
	for _, g := range e.Groups {
		names = append(names, g.Name)
	}
	return decide.Peers{}, unknownPeer(name, names)
}

// endsIn are the ends of the estate with an address in a set.
func endsIn(e *estate.Estate, set addr.Set) []decide.End {
	var ends []decide.End
	for _, i := range e.Instances {
		for _, x := range decide.EndsOf(i.Interfaces...) {
			if set.Contains(x.Addr) {
				ends = append(ends, x)
			}
		}
	}
	return ends
}

func unknownPeer(name string, names []string) error {
	if best := near.Several(name, names, 3); len(best) > 0 {
		return wrong("there is no list, instance or group called %q: near are %s", name, strings.Join(best, ", "))
	}
	return wrong("there is no list, instance or group called %q, and it is no address or range", name)
}

// Interfaces finds the interfaces that are asked for.
func Interfaces(d *decide.Decider, e *estate.Estate, name string) (func(*estate.Interface) bool, error) {
	if name == "" {
		return func(*estate.Interface) bool { return true }, nil
	}
	peers, err := Peers(d, e, name)
	if err != nil {
		return nil, err
	}
	return func(i *estate.Interface) bool {
		return slices.ContainsFunc(peers.Ends, func(e decide.End) bool { return e.Interface == i })
	}, nil
}

// Condition reads a condition on labels.
func Condition(from, text string) (*estate.Condition, error) {
	if text == "" {
		return nil, nil
	}
	parsed, messages := parse.Condition(source.NewFile(from, text))
	if len(messages) > 0 {
		return nil, wrong("%s", strings.TrimRight(messages[0].String(), "\n"))
	}
	return resolve.Condition(parsed), nil
}

// Wanted reads traffic: peers, or services "from" or "at" peers.
func Wanted(d *decide.Decider, text string) (narrow.Wanted, error) {
	w := narrow.Wanted{Services: service.All, Text: text}
	peers := text
	for _, word := range []string{" from ", " at "} {
		if services, rest, ok := strings.Cut(text, word); ok {
			peers = rest
			var sets []service.Set
			for name := range strings.SplitSeq(services, ",") {
				set, err := Services(d.Estate(), strings.TrimSpace(name))
				if err != nil {
					return w, err
				}
				if set != nil {
					sets = append(sets, *set)
				}
			}
			w.Services = service.UnionAll(sets...)
			break
		}
	}
	if set, err := Services(d.Estate(), text); peers == text && err == nil && set != nil {
		return w, wrong("it does not say who: write \"%s from 203.0.113.201\"", text)
	}
	var sets []addr.Set
	for name := range strings.SplitSeq(peers, ",") {
		set, err := peersNamed(d, strings.TrimSpace(name))
		if err != nil {
			return w, err
		}
		sets = append(sets, set)
	}
	w.Peers = addr.UnionAll(sets...)
	return w, nil
}

// peersNamed reads one peer: everyone, an address, a range, a group, a list or an instance.
func peersNamed(d *decide.Decider, text string) (addr.Set, error) {
	e := d.Estate()
	bare := strings.TrimPrefix(strings.TrimPrefix(text, "group "), "list ")
	var names []string
	for _, l := range e.Lists {
		if names = append(names, l.Name); l.Name == bare && !strings.HasPrefix(text, "group ") {
			return d.ListEntries(l, nil), nil
		}
	}
	var members []addr.Set
	for _, g := range e.Groups {
		names = append(names, g.Name)
		if (g.Name == bare || g.Path() == bare) && !strings.HasPrefix(text, "list ") {
			members = append(members, d.Members(g))
		}
	}
	switch {
	case text == "everyone":
		return addr.Everyone, nil
	case len(members) > 0:
		return addr.UnionAll(members...), nil
	}
	set, err := Ends(d, text)
	if set != nil {
		return *set, nil
	}
	if best, ok := near.Best(bare, names); ok {
		return addr.Set{}, wrong("nothing is called %q: %q is near", text, best)
	}
	return addr.Set{}, err
}

// Ends reads an end of flows: an instance, an address, or a range.
func Ends(d *decide.Decider, text string) (*addr.Set, error) {
	if text == "" {
		return nil, nil
	}
	if p, err := netip.ParsePrefix(text); err == nil {
		set := addr.OfPrefixes(p)
		return &set, nil
	}
	if ip, err := netip.ParseAddr(text); err == nil {
		set := addr.Of(ip)
		return &set, nil
	}
	var own []netip.Addr
	var names []string
	for _, i := range d.Estate().Instances {
		names = append(names, i.Name)
		if text != i.Name && text != i.Path() && text != i.ID {
			continue
		}
		for _, f := range i.Interfaces {
			own = append(append(own, f.Private...), f.Public...)
		}
	}
	if len(own) > 0 {
		set := addr.Of(own...)
		return &set, nil
	}
	switch best, ok := near.Best(text, names); {
	case ok:
		return nil, wrong("no instance is called %q: %q is near", text, best)
	case len(names) == 0:
		return nil, wrong("%q is neither an address nor a range: %w", text, decide.ErrNoInstances)
	}
	return nil, wrong("%q is neither an instance of the survey, nor an address or a range", text)
}

// Services reads services: a name, a spec, or a class.
func Services(e *estate.Estate, text string) (*service.Set, error) {
	if text == "" {
		return nil, nil
	}
	if class, ok := strings.CutPrefix(text, "class "); ok {
		if set, ok := e.Services.Class(class); ok {
			return &set, nil
		}
		return nil, wrong("there is no service of the class %q: classes are admin, data, cleartext, web, mail, "+
			"directory, network and those of the definitions", class)
	}
	if n, ok := e.Services.Lookup(text); ok {
		set := n.Set()
		return &set, nil
	}
	spec, err := service.ParseSpec(text)
	if err != nil {
		return nil, noService(e, text)
	}
	set := service.Of(spec)
	return &set, nil
}
