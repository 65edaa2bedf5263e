package audit

import (
	"fmt"
	"slices"

	"isonomos/core/law"
)

// The states that a finding holds in.
const (
	Found   = "found"   // as the clouds are
	Defined = "defined" // once the definitions are carried out
	InBoth  = "both"
)

// In says of all findings of a result in which state they hold.
func (r *Result) In(state string) {
	for i := range r.Findings {
		r.Findings[i].State = state
	}
}

// Both joins what was found in two states of one estate: as it is, and once the
// definitions are carried out. A matter of both is one finding, with the worse severity.
func Both(found, defined Result) Result {
	found.In(Found)
	defined.In(Defined)
	joined := Result{Groups: max(found.Groups, defined.Groups), Rules: max(found.Rules, defined.Rules)}
	there := make(map[string][]int) // by fingerprint
	alike := make(map[string][]int) // of what is about no traffic that arrives anywhere: by check and place
	for i, f := range found.Findings {
		there[f.Fingerprint] = append(there[f.Fingerprint], i)
		if f.Breadth == (Finding{}).Breadth {
			alike[likeness(f)] = append(alike[likeness(f)], i)
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
		partner[k] = take(there[f.Fingerprint])
	}
	for k, f := range defined.Findings {
		if partner[k] < 0 && f.Breadth == (Finding{}).Breadth {
			partner[k] = take(alike[likeness(f)])
		}
		if partner[k] < 0 {
			f.StateNote = "the clouds do not have it yet: carrying out the definitions would open it"
			if f.Services.IsEmpty() {
				f.StateNote = "so it would be once the definitions are carried out"
			}
			joined.Findings = append(joined.Findings, f)
			continue
		}
		joined.Findings = append(joined.Findings, inBoth(found.Findings[partner[k]], f))
	}
	for i, f := range found.Findings {
		if !taken[i] {
			f.StateNote = foundNote(f)
			if f.Group != nil && f.Group.Ours() { // the definitions are right: the cloud is to be put back
				f.WayOut, f.OrElse, f.Narrow = "isonomos draft", "write it into the definitions, with a reason", false
			}
			joined.Findings = append(joined.Findings, f)
		}
	}
	joined.Findings = sorted(joined.Findings)
	for _, reason := range slices.Concat(found.Left, defined.Left) {
		if !slices.Contains(joined.Left, reason) {
			joined.Left = append(joined.Left, reason)
		}
	}
	for _, e := range defined.Idle { // one that covers something in either state is not idle
		if slices.ContainsFunc(found.Idle, func(other law.Exemption) bool { return other.Origin == e.Origin }) {
			joined.Idle = append(joined.Idle, e)
		}
	}
	return joined
}

// likeness is what findings have in common that are the same though their rules are
// spelt otherwise.
func likeness(f Finding) string {
	return fmt.Sprintf("%s\n%s\n%s", f.Check, f.Where(), f.Direction)
}

// inBoth is one matter that holds in both states: as it is defined, where it can be
// edited, but the worse of both.
func inBoth(found, defined Finding) Finding {
	f := defined
	if found.Severity > defined.Severity || found.Excused == nil && defined.Excused != nil {
		f = found
		f.Fingerprint, f.WayOut, f.OrElse, f.Narrow = defined.Fingerprint, defined.WayOut, defined.OrElse, defined.Narrow
	}
	f.State = InBoth
	return f
}

// foundNote says of what was found, and is not defined, how that may be.
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
