package audit

import (
	"fmt"
	"slices"
	"strings"

	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Traffic that groups without a definition let through beside defined groups.

// A Bypass is a group without a definition that lets through more than the defined groups at the
// same interfaces.
type Bypass struct {
	By         *estate.Group
	Beside     []*estate.Group // the defined ones
	Interfaces []*estate.Interface
	In, Out    traffic.Set // what Group lets through and Beside do not
}

// IsDefined reports whether a group's rules come from definitions.
func IsDefined(g *estate.Group) bool { return g.Defined && !g.Existing || g.Ours() }

// Bypasses finds traffic that is let through beside defined groups, in dialects where the rules of
// several groups add up. Cost: linear in the interfaces; each combination of groups is decided
// once.
func Bypasses(d *decide.Decider, isDefined func(*estate.Group) bool) []Bypass {
	at := make(map[string]int)
	var all []Bypass
	for _, instance := range d.Estate().Instances {
		if decide.Dialect(instance.Account).Instances.FirstMatch {
			continue // a single group has nothing beside it
		}
		for _, i := range instance.Interfaces {
			groups := addingUp(d, i)
			if i.Unfiltered || !slices.ContainsFunc(groups, isDefined) {
				continue
			}
			beside := slices.DeleteFunc(slices.Clone(groups), func(g *estate.Group) bool { return !isDefined(g) })
			for _, by := range groups {
				if isDefined(by) || by.Pass != "" { // what passes open is lent, and ends by itself
					continue
				}
				var key strings.Builder
				for _, g := range append([]*estate.Group{by}, beside...) {
					fmt.Fprintf(&key, "%p ", g)
				}
				k, met := at[key.String()]
				if !met {
					k = len(all)
					at[key.String()] = k
					all = append(all, Bypass{By: by, Beside: beside})
				}
				all[k].Interfaces = append(all[k].Interfaces, i)
			}
		}
	}
	for k := range all {
		b := &all[k]
		for _, direction := range []estate.Direction{estate.In, estate.Out} {
			more := d.GroupTraffic(b.By, direction)
			for _, g := range b.Beside {
				more = more.Minus(d.GroupTraffic(g, direction))
			}
			if direction == estate.In {
				b.In = more
			} else {
				b.Out = more
			}
		}
	}
	return slices.DeleteFunc(all, func(b Bypass) bool { return b.In.IsEmpty() && b.Out.IsEmpty() })
}

// addingUp are the groups at an interface whose admissions add up.
func addingUp(d *decide.Decider, i *estate.Interface) []*estate.Group {
	groups := d.GroupsAt(i)
	if decide.Dialect(i.Instance.Account).Layers == dialect.EitherMayAdmit {
		groups = slices.Concat(groups, d.GroupsOfSubnet(i.Subnet))
	}
	return groups
}

// Kind names the group and what it is: "the default list of a/n/s", "the group a/n/g".
func (b Bypass) Kind() string {
	if b.By.For == estate.ForSubnets && b.By.Default {
		return "the default list around " + b.Subnet().Path()
	}
	return "the group " + b.By.Path()
}

// Subnet is the subnet of the first interface.
func (b Bypass) Subnet() *estate.Subnet { return b.Interfaces[0].Subnet }

// Managed is the text of a definition that takes the place of a default list. For other groups it
// is empty.
func (b Bypass) Managed() string {
	if b.By.For != estate.ForSubnets || !b.By.Default {
		return ""
	}
	s := b.Subnet()
	word := s.Name
	if strings.ContainsAny(word, " /.:\"") {
		word = fmt.Sprintf("%q", word)
	}
	return fmt.Sprintf("group %s-wall for subnets in %s {\n  cover  subnet %s\n  follow instances\n}",
		strings.Trim(strings.Map(nameByte, s.Name), "-"), s.Network.Path(), word)
}

// nameByte is c if it may stand in a name, else a hyphen.
func nameByte(c rune) rune {
	if c < 128 && (c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_') {
		return c
	}
	return '-'
}

var bypassed = Check{
	place: 190,
	Name:  "bypassed",
	About: "something is let through beside the defined groups",
	Start: Low,
	Moves: whereStrangers,
	Doc: `An interface lets through more than its defined groups say, by a default list, a subnet's list or
another group that no definition knows, in a cloud where the rules of several groups add up. What a
definition does not let through is then not stopped. Its severity depends on what is let through:
administration or data open to strangers starts at high; anything else open to them, or everything
let out to them, at medium; all else at low.`,
	Example:  "the default list of a subnet admits ssh beside a group that admits https alone",
	Fix:      inWords("Attach a managed group to the subnet, detach the other group, or adopt it."),
	Controls: controlsOfOpenness,
	whole: func(w *worker) []Finding {
		var found []Finding
		for _, b := range Bypasses(w.d, IsDefined) {
			if f, ok := w.bypass(b, estate.In, b.In); ok {
				found = append(found, f)
			}
			if f, ok := w.bypass(b, estate.Out, b.Out); ok {
				found = append(found, f)
			}
		}
		return found
	},
}

func init() { register(bypassed) }

// bypass makes the finding of what a group lets through beside defined ones in a direction.
func (w *worker) bypass(b Bypass, direction estate.Direction, set traffic.Set) (Finding, bool) {
	if set.IsEmpty() {
		return Finding{}, false
	}
	f := Finding{Direction: direction, Account: b.By.Account, Group: b.By,
		groups: append([]*estate.Group{b.By}, b.Beside...), Services: set.Services(), Peers: set.Peers(service.All)}
	f.Breadth = w.d.Breadth(f.Peers)
	open := w.openPart(set)
	switch {
	case open.IsEmpty():
	case direction == estate.Out:
		if everything(open.Services()) || !open.OnServices(w.admin.Union(w.data)).IsEmpty() {
			f.Start = Medium
		}
	case !open.OnServices(w.admin.Union(w.data)).IsEmpty():
		f.Start = High
	default:
		f.Start = Medium
	}
	for i := range b.By.Rules {
		if r := &b.By.Rules[i]; r.Direction == direction && r.Action == estate.Admit &&
			!w.d.RuleTraffic(b.By, r).Intersect(set).IsEmpty() {
			f.Rules = append(f.Rules, r)
		}
	}
	if f.Instances = b.Interfaces; f.Breadth.AtLeast(0.0000001) {
		f.Instances = nil
		w.arriveAt(&f, b.Interfaces, set)
	}
	preposition, let := "from", "let in"
	if direction == estate.Out {
		preposition, let = "to", "let out"
	}
	var beside []string
	for _, g := range b.Beside {
		beside = append(beside, g.Path())
	}
	verb := "does"
	if len(beside) > 1 {
		verb = "do"
	}
	f.Message = fmt.Sprintf("%s %s %s %s %s by %s, which %s %s not %s", w.describe(f.Services),
		w.isAre(f.Services), let, preposition, w.peerWords(f.Peers), b.Kind(), count.Some(beside, 4), verb, let)
	switch {
	case b.Managed() != "":
		f.Fix = inWords("attach a group for subnets that follows instances to " + b.Subnet().Path() +
			": a draft offers its definition")
	case b.By.Default && b.By.Named:
		f.Fix = inWords("take its existing statement out of the definitions: carrying them out then detaches it")
	case b.By.BuiltIn:
		f.Fix = inWords("detach it: an interface with a group of its own needs no default one")
	default:
		f.Fix, f.OrElse = Remedy{Kind: Adopt, Target: b.By.Path()}, "detach it"
	}
	return f, true
}
