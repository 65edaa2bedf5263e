package cloud

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"isonomos/core/service"
)

// ruleLine writes a rule as a line of a survey.
func ruleLine(account string, r osRule) osLine {
	line := osLine{Kind: "rule", Account: account, Group: r.Group, ID: r.ID, Direction: "in", Action: "admit",
		Services: []string{serviceText(r)}}
	if r.Direction == "egress" {
		line.Direction = "out"
	}
	if r.Description != nil {
		line.Description = *r.Description
	}
	everyone, family := "0.0.0.0/0", " v4"
	if r.Family == "IPv6" {
		everyone, family = "::/0", " v6"
	}
	switch {
	case r.RemoteGroup != nil:
		line.Peers = []string{"group:" + *r.RemoteGroup + family}
	case r.RemoteList != nil:
		line.Peers = []string{"list:" + *r.RemoteList + family}
	case r.Normal != nil:
		line.Peers = []string{*r.Normal}
	case r.Range != nil:
		line.Peers = []string{*r.Range}
	default:
		line.Peers = []string{everyone}
	}
	return line
}

// serviceText writes the service of a rule as surveys do.
func serviceText(r osRule) string {
	if r.Protocol == nil || *r.Protocol == "any" || *r.Protocol == "0" {
		return "any"
	}
	name := strings.ToLower(*r.Protocol)
	switch name {
	case "icmp", "1", "icmpv6", "ipv6-icmp", "58":
		name = "icmp"
		if r.Family == "IPv6" { // OpenStack may call ICMPv6 icmp in a rule of IPv6
			name = "icmpv6"
		}
		switch {
		case r.From == nil:
			return name
		case r.To == nil:
			return fmt.Sprintf("%s %d", name, *r.From)
		}
		return fmt.Sprintf("%s %d/%d", name, *r.From, *r.To)
	}
	protocol, known := service.RegisteredProtocol(name)
	if !known {
		number, err := strconv.ParseUint(name, 10, 8)
		if err != nil {
			return "protocol " + name // what it means is for the reader of the survey to refuse
		}
		protocol = uint8(number)
	}
	if service.HasPorts(protocol) {
		return withPorts(service.ProtocolName(protocol), r)
	}
	return fmt.Sprintf("protocol %d", protocol)
}

func withPorts(name string, r osRule) string {
	switch {
	case r.From == nil || r.To == nil || *r.From <= 0 && *r.To == 65535:
		return name
	case *r.From == *r.To:
		return fmt.Sprintf("%s %d", name, *r.From)
	}
	return fmt.Sprintf("%s %d-%d", name, *r.From, *r.To)
}

// ruleOf reads a line of a survey as a rule.
func ruleOf(text json.RawMessage, group string) (osRule, error) {
	var l osLine
	if err := json.Unmarshal(text, &l); err != nil {
		return osRule{}, err
	}
	r := osRule{Group: group, Direction: "ingress", Family: "IPv4", Description: &l.Description}
	if l.Direction == "out" {
		r.Direction = "egress"
	}
	if len(l.Peers) != 1 || len(l.Services) != 1 || l.Action == "refuse" {
		return r, fmt.Errorf("%w: a rule of OpenStack admits one service with one peer", ErrRefused)
	}
	kind, rest, _ := strings.Cut(l.Peers[0], ":")
	id, family, _ := strings.Cut(rest, " ")
	if family == "v6" {
		r.Family = "IPv6"
	}
	switch {
	case (kind == "group" || kind == "list") && family == "":
		return r, fmt.Errorf("%w: a rule of OpenStack is for one address family (%s)", ErrRefused, l.Peers[0])
	case kind == "group":
		r.RemoteGroup = &id
	case kind == "list":
		r.RemoteList = &id
	default:
		p, err := netip.ParsePrefix(l.Peers[0])
		if err != nil {
			return r, fmt.Errorf("%w: a rule of OpenStack can't express %q", ErrRefused, l.Peers[0])
		}
		if p.Addr().Is6() {
			r.Family = "IPv6"
		}
		r.Range = &l.Peers[0]
	}
	return r, r.setService(l.Services[0])
}

// setService sets protocol and ports, or ICMP type and code, of a rule.
func (r *osRule) setService(text string) error {
	protocol, detail, _ := strings.Cut(text, " ")
	switch protocol {
	case "any":
		return nil
	case "icmpv6":
		protocol = "ipv6-icmp"
	case "protocol":
		r.Protocol = &detail
		return nil
	}
	r.Protocol = &protocol
	if detail == "" {
		return nil
	}
	separator := "-"
	if strings.Contains(protocol, "icmp") {
		separator = "/"
	}
	from, to, both := strings.Cut(detail, separator)
	var a, b int
	if _, err := fmt.Sscan(from, &a); err != nil {
		return fmt.Errorf("%w: a rule of OpenStack can't express %q", ErrRefused, text)
	}
	r.From = &a
	if both {
		if _, err := fmt.Sscan(to, &b); err != nil {
			return fmt.Errorf("%w: a rule of OpenStack can't express %q", ErrRefused, text)
		}
		r.To = &b
	} else if separator == "-" {
		r.To = &a
	}
	return nil
}
