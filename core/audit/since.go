package audit

// An Earlier is a finding of an earlier audit, as far as it is needed to compare.
type Earlier struct {
	Fingerprint, Check, Severity, Where, Message string
}

// A Change is what differs from an earlier audit.
type Change struct {
	New   map[string]bool // fingerprints that were not there
	Still int
	Gone  []Earlier // in their order
}

// Since compares findings with those of an earlier audit with the same scope.
func Since(found []Finding, earlier []Earlier) Change {
	before := make(map[string]bool, len(earlier))
	for _, e := range earlier {
		before[e.Fingerprint] = true
	}
	c := Change{New: make(map[string]bool)}
	now := make(map[string]bool, len(found))
	for _, f := range found {
		now[f.Fingerprint] = true
		if before[f.Fingerprint] {
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
