// Package near finds the known name that a mistyped one was meant to be.
package near

import (
	"slices"
	"strings"
)

// longest bounds the length of names, in bytes: comparing two takes time in proportion to the
// product of their lengths.
const longest = 200

// Best is the candidate nearest to name. It is near enough to be worth suggesting if at most a
// third of its letters differ, rounded up but not all, or if one of both begins with the other. Of equally near
// ones it is the first in alphabetical order.
func Best(name string, candidates []string) (string, bool) {
	all := Several(name, candidates, 1)
	if len(all) == 0 {
		return "", false
	}
	return all[0], true
}

// Several are the near candidates, nearest first, at most limit of them.
func Several(name string, candidates []string, limit int) []string {
	type scored struct {
		name     string
		distance int
	}
	var near []scored
	if len(name) > longest {
		return nil
	}
	lower := strings.ToLower(name)
	for _, c := range candidates {
		if c == "" || len(c) > min(longest, 4*len(name)+8) {
			continue
		}
		other := strings.ToLower(c)
		prefix := len(lower) >= 3 && strings.HasPrefix(other, lower) ||
			len(other) >= 3 && strings.HasPrefix(lower, other)
		if apart := len(name) - len(c); !prefix && max(apart, -apart) > (max(len(name), len(c))+2)/3 {
			continue // the lengths alone differ by too much
		}
		steps := distance(lower, other) // swapping two neighbouring letters counts once
		if longer := max(len(name), len(c)); steps <= (longer+2)/3 && steps < longer || prefix {
			near = append(near, scored{c, steps})
		}
	}
	slices.SortFunc(near, func(a, b scored) int {
		if a.distance != b.distance {
			return a.distance - b.distance
		}
		return strings.Compare(a.name, b.name)
	})
	var names []string
	for _, n := range near {
		if len(names) < limit && !slices.Contains(names, n.name) {
			names = append(names, n.name)
		}
	}
	return names
}
