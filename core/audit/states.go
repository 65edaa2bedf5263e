package audit

import (
	"fmt"
	"slices"

	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
)

// The states in which a finding can hold.
const (
	Found   = "found"   // as the clouds are
	Defined = "defined" // once the definitions are carried out
	InBoth  = "both"
)

// In marks all findings of a result as holding in one state.
func (r *Result) In(state string) {
	for i := range r.Findings {
		r.Findings[i].State = state
	}
}

// PlaceOf identifies a group in both states.
func PlaceOf(g *estate.Group) string { return string(g.For) + " " + g.Path() }

// Both joins the results of two audits of one estate: as the clouds were found, and with the
// definitions carried out. A matter that holds in both is one finding, with the worse of its two
// severities. The set unchanged names groups (by PlaceOf) that let through the same in both states:
// findings about the rules of these are the same matter even if the rules are written differently.
func Both(found, defined Result, unchanged map[string]bool) Result {
	found.In(Found)
	defined.In(Defined)
	joined := Result{Groups: max(found.Groups, defined.Groups), Rules: max(found.Rules, defined.Rules)}
	same := make(map[string][]int) // indices of findings, by fingerprint
	like := make(map[string][]int) // by check and place, of findings that are not about openness
	near := make(map[string][]int) // by check and place, of findings about unchanged groups
	for i, f := range found.Findings {
		same[f.Fingerprint] = append(same[f.Fingerprint], i)
		switch {
		case f.Group != nil && unchanged[PlaceOf(f.Group)]:
			near[likeness(f)] = append(near[likeness(f)], i)
		case f.Breadth == (decide.Breadth{}):
			like[likeness(f)] = append(like[likeness(f)], i)
		}
	}
	taken := make(map[int]bool)
	take := func(candidates []int) int {
		for _, i := range candidates {
			if !taken[i] {
				taken[i] = true
				return i
			}
		}
		return -1
	}
	partner := make([]int, len(defined.Findings))
	for k, f := range defined.Findings {
		partner[k] = take(same[f.Fingerprint])
	}
	for k, f := range defined.Findings {
		if partner[k] < 0 {
			partner[k] = take(like[likeness(f)])
		}
		if partner[k] < 0 {
			partner[k] = take(near[likeness(f)])
		}
		switch {
		case partner[k] >= 0:
			f = inBoth(found.Findings[partner[k]], f)
		case f.Group != nil && unchanged[PlaceOf(f.Group)]:
			f.State = InBoth
		case f.Check == bypassed.Name:
			f.StateNote = "the clouds have no such group yet: once it is there, this goes on beside it"
		case f.Services.IsEmpty():
			f.StateNote = "so it will be once the definitions are carried out"
		default:
			f.StateNote = "the clouds do not have it yet: carrying out the definitions would open it"
		}
		joined.Findings = append(joined.Findings, f)
	}
	for i, f := range found.Findings {
		if taken[i] || f.spelt(unchanged, joined.Findings[:len(defined.Findings)]) {
			continue
		}
		f.StateNote = foundNote(f)
		switch {
		case f.Group == nil:
		case f.Fix.Kind == Shut:
			f.StateNote = "a pass opened it, for a while"
		case f.Group.Ours(): // the cloud's group differs from a definition that has no such finding
			f.Fix, f.OrElse, f.Narrow = Remedy{Kind: Draft}, "write it into the definitions, with a reason", false
		case f.Group.Default && f.Group.For == estate.ForInstances && !f.Group.Named:
			f.Fix, f.OrElse, f.Narrow = Remedy{Kind: Draft, Words: "it takes the default group off"}, "", false
		}
		joined.Findings = append(joined.Findings, f)
	}
	joined.Findings = sorted(joined.Findings)
	for _, reason := range slices.Concat(found.Left, defined.Left) {
		if !slices.Contains(joined.Left, reason) {
			joined.Left = append(joined.Left, reason)
		}
	}
	for _, e := range defined.Idle { // an exemption is idle only if it covers nothing in either state
		if slices.ContainsFunc(found.Idle, func(other law.Exemption) bool { return other.Origin == e.Origin }) {
			joined.Idle = append(joined.Idle, e)
		}
	}
	return joined
}

// spelt reports whether a finding about a surveyed group is only about how the program wrote its
// definition for the cloud, or is already told by a finding about the definition.
func (f Finding) spelt(unchanged map[string]bool, told []Finding) bool {
	if f.Group == nil || !f.Group.Ours() || len(f.Rules) == 0 ||
		slices.ContainsFunc(f.Rules, func(r *estate.Rule) bool { return !r.Lent }) {
		return false
	}
	if c, ok := Find(f.Check); ok && c.spelling && len(f.Also) == 0 {
		return true
	}
	return unchanged[PlaceOf(f.Group)] && slices.ContainsFunc(told, func(x Finding) bool {
		return x.Group != nil && PlaceOf(x.Group) == PlaceOf(f.Group) && x.Direction == f.Direction &&
			x.Severity >= f.Severity && x.Arrival >= f.Arrival && x.Exemption == nil
	})
}

// likeness is what two findings have in common that are the same matter but for how their rules are
// written.
func likeness(f Finding) string {
	return fmt.Sprintf("%s\n%s\n%s", f.Check, f.Where(), f.Direction)
}

// inBoth joins a finding of both states. It is told of the definition, which can be edited, with
// the worse severity.
func inBoth(found, defined Finding) Finding {
	f := defined
	if found.Severity > defined.Severity || found.Exemption == nil && defined.Exemption != nil {
		f = found
		f.Fingerprint, f.Fix, f.OrElse, f.Narrow = defined.Fingerprint, defined.Fix, defined.OrElse, defined.Narrow
	}
	f.State = InBoth
	if f.Check == defaultGroup.Name {
		f.StateNote = takenOff(found, defined)
	}
	return f
}

// takenOff says where a default group is attached as found and no longer once the definitions are carried out.
func takenOff(found, defined Finding) string {
	same := func(a, b *estate.Interface) bool {
		return a.ID == b.ID && a.Instance.Account.Name == b.Instance.Account.Name
	}
	gone := slices.DeleteFunc(slices.Clone(found.Instances), func(i *estate.Interface) bool {
		return slices.ContainsFunc(defined.Instances, func(k *estate.Interface) bool { return same(i, k) })
	})
	if len(gone) == 0 {
		return ""
	}
	return "as found also at " + interfaceWords(gone) + ": carrying out the definitions takes it off there"
}

// foundNote says why something can be found that is not defined.
func foundNote(f Finding) string {
	if f.Group == nil || !f.Group.Ours() {
		return "carrying out the definitions ends it"
	}
	note := "no definition says this: opened by hand, or the definitions are not carried out yet"
	for _, r := range f.Rules {
		if words := changedWords(r.Changed); words != "" {
			return note + words
		}
	}
	return note
}
