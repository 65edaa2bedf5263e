package estate

import (
	"strings"

	"isonomos/core/addr"
	"isonomos/core/service"
)

// Sentence is the rule in the words of the language, whatever it came from:
// "admit ssh from list pilot-stations". It leaves the description out.
func (r *Rule) Sentence(names service.Names) string {
	var b strings.Builder
	switch {
	case r.Action == Admit && r.Direction == Out:
		b.WriteString("reach ")
	default:
		b.WriteString(string(r.Action) + " ")
	}
	if len(r.Words) > 0 {
		b.WriteString(strings.Join(r.Words, ", "))
	} else {
		b.WriteString(names.Describe(service.Of(r.Services...)))
	}
	if r.Direction == Out {
		b.WriteString(" at ")
	} else {
		b.WriteString(" from ")
	}
	b.WriteString(PeerWords(r.Peers))
	if len(r.Except) > 0 {
		b.WriteString(" except " + PeerWords(r.Except))
	}
	if r.Stateless {
		b.WriteString(" stateless")
	}
	return b.String()
}

// Sentence is the lend in the words of the language, without its ceiling.
func (l *Lend) Sentence() string {
	preposition := " to "
	if l.Direction == Out {
		preposition = " at "
	}
	text := "lend " + strings.Join(l.Words, ", ") + preposition + PeerWords(l.Peers)
	if len(l.Except) > 0 {
		text += " except " + PeerWords(l.Except)
	}
	return text
}

// PeerWords lists peers in the words of the language. Ranges that contain all of a family are
// called everyone.
func PeerWords(peers []Peer) string {
	var words []string
	var all [3]bool // by family: the peers contain every address of it
	for _, p := range peers {
		if f := p.family(); p.Kind == PeerEveryone || p.Kind == PeerRange && p.Range.Bits() == 0 {
			all[f] = true
		}
	}
	if all[addr.IPv4] && all[addr.IPv6] {
		all[addr.Both] = true
	}
	for _, f := range []addr.Family{addr.Both, addr.IPv4, addr.IPv6} {
		if all[f] {
			words = append(words, strings.TrimSpace("everyone "+f.String()))
		}
		if all[addr.Both] {
			break
		}
	}
	for _, p := range peers {
		if p.Kind != PeerEveryone && !(p.Kind == PeerRange && p.Range.Bits() == 0) {
			words = append(words, p.String())
		}
	}
	return strings.Join(words, ", ")
}

// family is the family that the peer is about, as far as its own words say.
func (p Peer) family() addr.Family {
	switch {
	case p.V4Only || p.Kind == PeerRange && p.Range.Addr().Is4():
		return addr.IPv4
	case p.V6Only || p.Kind == PeerRange:
		return addr.IPv6
	}
	return addr.Both
}

// Family is the family that the peer is limited to.
func (p Peer) Family() addr.Family {
	switch {
	case p.V4Only:
		return addr.IPv4
	case p.V6Only:
		return addr.IPv6
	}
	return addr.Both
}

// String is the peer in the words of the language.
func (p Peer) String() string {
	word := ""
	switch p.Kind {
	case PeerEveryone:
		word = "everyone"
	case PeerInternet, PeerPublic:
		word = "internet"
	case PeerRange:
		word = addr.PrefixString(p.Range)
	case PeerGroup:
		word = "group " + p.Group.Name
	case PeerList:
		word = "list " + p.List.Name
	case PeerSelf:
		word = "self"
	case PeerNetwork:
		word = "network"
		if p.Network != nil {
			word += " " + p.Network.Name
		}
	case PeerSubnet:
		word = "subnet " + p.Subnet.Name
	case PeerProbes:
		word = "probes"
	case PeerMissing:
		kind, id, _ := strings.Cut(p.Missing, ":")
		word = kind + " " + id + " (not there)"
	}
	word = strings.TrimSpace(word + " " + p.Family().String())
	if p.Without != nil {
		var without []string
		for _, x := range *p.Without {
			without = append(without, x.String())
		}
		word = "(" + word + " except " + strings.Join(without, ", ") + ")"
	}
	return word
}
