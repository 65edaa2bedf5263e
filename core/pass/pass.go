// Package pass is access that is lent for a while: what a pass opens, within which bounds, how its rules are told
// from others in a cloud, and where they stand among the rules of a definition.
package pass

import (
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"isonomos/core/estate"
	"isonomos/core/service"
)

// A Pass opens services of a group to peers until a time.
type Pass struct {
	ID       string
	Account  string
	Group    string // full name of the group, as it is defined
	On       string // id of the one instance at which it opens; empty means all that the group is attached to
	Openings []Opening
	Opened   time.Time // first opening; zero if that is not known
	Until    time.Time
	AtMost   time.Duration // the ceiling of its lend; 0 if that is not known
	Because  string
	By       string
}

// An Opening is what one rule of a pass lets through.
type Opening struct {
	Direction estate.Direction
	Services  []string // as surveys write them
	// Peers are ranges, "list NAME" or "group ACCOUNT/NETWORK/GROUP", with "v4" or "v6" behind if one family is
	// meant.
	Peers []string
}

// Same reports whether two passes open the same.
func (p *Pass) Same(o *Pass) bool {
	return p.Group == o.Group && p.On == o.On && slices.EqualFunc(p.Openings, o.Openings, func(a, b Opening) bool {
		return a.Direction == b.Direction && sameWords(a.Services, b.Services) && sameWords(a.Peers, b.Peers)
	})
}

func sameWords(a, b []string) bool {
	return slices.Equal(slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b)))
}

// Later are passes without those that another one of them makes needless: it opens the same for at least as long. In a
// cloud they share a rule.
func Later(all []*Pass) []*Pass {
	var kept []*Pass
	for i, p := range all {
		outlived := func(k int, o *Pass) bool {
			return k != i && p.Same(o) && (o.Until.After(p.Until) || o.Until.Equal(p.Until) && k < i)
		}
		needed := true
		for k, o := range all {
			needed = needed && !outlived(k, o)
		}
		if needed {
			kept = append(kept, p)
		}
	}
	return kept
}

const prefix = estate.OwnLabel + " pass "

// Text is the description of a pass's rules and group.
func (p *Pass) Text() string { return Text(p.ID, p.Until) }

// Text is the description of the rules of a pass with an id and an end.
func Text(id string, until time.Time) string {
	return prefix + id + " until " + until.UTC().Format(time.RFC3339)
}

// Parse reads the description of a rule that says of itself that it belongs to a pass. That proves nothing.
func Parse(description string) (id string, until time.Time, ok bool) {
	rest, ok := strings.CutPrefix(description, prefix)
	if !ok {
		return "", until, false
	}
	id, end, ok := strings.Cut(rest, " until ")
	if !ok || !isID(id) {
		return "", until, false
	}
	until, err := time.Parse(time.RFC3339, end)
	if err != nil || until.UTC().Format(time.RFC3339) != end {
		return "", until, false
	}
	return id, until, true
}

const groupPrefix = "pass-"

// GroupName is the name of the group that a pass for one instance has of its own.
func GroupName(id string) string { return groupPrefix + id }

// ParseGroup is the id in the name of such a group.
func ParseGroup(name string) (id string, ok bool) {
	id, ok = strings.CutPrefix(name, groupPrefix)
	return id, ok && isID(id)
}

// An id is as many random letters as letters that check them: thus a pass can be told from a rule that only calls
// itself one, even if no journal knows it.
const (
	letters = "23456789abcdefghjkmnpqrstvwxyz"
	half    = 4
)

func isID(text string) bool {
	other := func(c rune) bool { return !strings.ContainsRune(letters, c) }
	return len(text) == 2*half && !strings.ContainsFunc(text, other)
}

// NewID makes an id for a pass for a group of an estate.
func NewID(name, group string) string {
	b := make([]byte, half)
	_, _ = rand.Read(b) // crypto/rand never fails
	id := lettersOf(b)
	return id + check(name, group, id)
}

func lettersOf(b []byte) string {
	text := make([]byte, half)
	for i := range text {
		text[i] = letters[int(b[i])%len(letters)]
	}
	return string(text)
}

func check(name, group, random string) string {
	sum := sha256.Sum256([]byte(name + "\n" + group + "\n" + random))
	return lettersOf(sum[:])
}

// Genuine reports whether an id was made for a group of an estate.
func Genuine(id, name, group string) bool {
	return isID(id) && check(name, group, id[:half]) == id[half:]
}

// Rule is what an opening lets through, as a rule of an estate's definitions.
func (o Opening) Rule(e *estate.Estate, description string) (estate.Rule, error) {
	r := estate.Rule{Direction: o.Direction, Action: estate.Admit, Description: description}
	for _, text := range o.Services {
		spec, err := service.ParseSpec(text)
		if err != nil {
			return r, err
		}
		r.Services = append(r.Services, spec)
	}
	for _, text := range o.Peers {
		p, err := peerIn(e, text)
		if err != nil {
			return r, err
		}
		r.Peers = append(r.Peers, p)
	}
	return r, nil
}

// peerIn finds a peer in an estate.
func peerIn(e *estate.Estate, text string) (estate.Peer, error) {
	kind, name, named := strings.Cut(text, " ")
	if !named {
		if text == "everyone" {
			return estate.Peer{Kind: estate.PeerEveryone}, nil
		}
		r, err := netip.ParsePrefix(text)
		return estate.Peer{Kind: estate.PeerRange, Range: r}, err
	}
	name, family, _ := strings.Cut(name, " ")
	p := estate.Peer{V4Only: family == "v4", V6Only: family == "v6"}
	switch kind {
	case "list":
		p.Kind = estate.PeerList
		for _, l := range e.Lists {
			if l.Name == name && (p.List == nil || l.Defined) {
				p.List = l
			}
		}
		if p.List != nil {
			return p, nil
		}
	case "group":
		p.Kind = estate.PeerGroup
		if p.Group = e.FindGroup(name); p.Group != nil {
			return p, nil
		}
	}
	return p, fmt.Errorf("there is no %s", text)
}

// PeerWords writes a peer as openings do. It is empty for peers that no pass can have.
func PeerWords(p estate.Peer) string {
	family := ""
	switch {
	case p.V4Only:
		family = " v4"
	case p.V6Only:
		family = " v6"
	}
	switch p.Kind {
	case estate.PeerEveryone:
		return "everyone"
	case estate.PeerRange:
		return p.Range.Masked().String()
	case estate.PeerList:
		return "list " + p.List.Name + family
	case estate.PeerGroup:
		return "group " + p.Group.Path() + family
	}
	return ""
}

// Insert puts the rules of a pass into the group that it opens, in definitions that stand on a survey, where the lend
// stands of which it is a part: in front of all refusals that the lend is in front of. A pass for one instance gets
// a defined group of its own.
func Insert(e *estate.Estate, p *Pass, lend *estate.Lend) error {
	g := e.FindGroup(p.Group)
	if g == nil {
		return fmt.Errorf("there is no group %s", p.Group)
	}
	var rules []estate.Rule
	for _, o := range p.Openings {
		r, err := o.Rule(e, p.Text())
		if err != nil {
			return err
		}
		rules = append(rules, r)
	}
	if p.On != "" {
		return insertOwn(e, g, p, rules)
	}
	at := len(g.Rules)
	if lend != nil {
		at = min(lend.After, at)
	}
	g.Rules = slices.Insert(slices.Clone(g.Rules), at, rules...)
	g.Lends = slices.Clone(g.Lends)
	for i := range g.Lends {
		if l := &g.Lends[i]; l.After > at || l.After == at && lend != nil && l.Origin != lend.Origin {
			l.After += len(rules)
		}
	}
	return nil
}

// insertOwn makes the group of a pass for one instance a defined one, and attaches it there.
func insertOwn(e *estate.Estate, of *estate.Group, p *Pass, rules []estate.Rule) error {
	own := slices.IndexFunc(e.Groups, func(x *estate.Group) bool {
		return x.Account == of.Account && x.Name == GroupName(p.ID) && x.For == estate.ForInstances
	})
	var g *estate.Group
	if own >= 0 {
		g = e.Groups[own]
	} else {
		g = &estate.Group{Account: of.Account, Name: GroupName(p.ID), For: estate.ForInstances}
		e.Groups = append(e.Groups, g)
	}
	g.Network = of.Network
	g.Defined, g.Description, g.Rules = true, p.Text(), rules
	g.Covers = []estate.Cover{{Instances: []string{p.On}}}
	for _, i := range e.Instances {
		if i.Account != of.Account || i.ID != p.On {
			continue
		}
		for _, f := range i.Interfaces {
			if slices.Contains(f.Groups, of) && !slices.Contains(f.Groups, g) {
				f.Groups = append(slices.Clone(f.Groups), g)
			}
		}
		return nil
	}
	return fmt.Errorf("there is no instance %s in %s", p.On, p.Account)
}
