// Package near finds the known name that somebody meant by a mistyped one.
package near

import (
	"slices"
	"strings"

	"github.com/antzucaro/matchr"
)

// longest is how long names are, in bytes, that are compared: nobody mistypes longer
// ones, and comparing takes the product of two lengths.
const longest = 200

// Best is the candidate nearest to name, and whether any is near enough to be
// worth offering: a third of its length may differ, rounded up, or one begins with the other.
// Of equally near candidates it is the first in alphabetical order.
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
			continue // so many letters are missing that no others need be looked at
		}
		distance := matchr.OSA(lower, other) // two letters that changed places count once
		if distance <= (max(len(name), len(c))+2)/3 || prefix {
			near = append(near, scored{c, distance})
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
