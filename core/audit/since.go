package audit

import "cmp"

// An Earlier is a finding of an earlier audit, as far as it is needed to compare.
type Earlier struct {
	Fingerprint, Check, Severity, Where, Message string
	State                                        string // in which it held; empty means in both
}

// A Change is what differs from an earlier audit.
type Change struct {
	New   map[string]bool // fingerprints that were not there
	Still int
	Gone  []Earlier // in their order
}

// Since compares findings with those of an earlier audit with the same scope, state by
// state: what held once carried out and now holds in the clouds is new.
func Since(found []Finding, earlier []Earlier) Change {
	before := make(map[string]string, len(earlier))
	for _, e := range earlier {
		before[e.Fingerprint] = cmp.Or(e.State, InBoth)
	}
	c := Change{New: make(map[string]bool)}
	now := make(map[string]bool, len(found))
	for _, f := range found {
		now[f.Fingerprint] = true
		if state := before[f.Fingerprint]; state == InBoth || state != "" && state == f.State {
			c.Still++
		} else {
			c.New[f.Fingerprint] = true
		}
	}
	for _, e := range earlier {
		if !now[e.Fingerprint] {
			c.Gone = append(c.Gone, e)
		}
	}
	return c
}
