package estate

import (
	"slices"
	"strings"
)

// A Vocabulary holds the labels that occur in an estate, including pseudo-labels, each with its
// sorted values.
type Vocabulary map[string][]string

// Vocabulary collects the labels of accounts, networks, subnets, groups and instances. It
// takes time linear in their number.
func (e *Estate) Vocabulary() Vocabulary {
	seen := make(map[string]map[string]bool)
	add := func(name, value string) {
		if seen[name] == nil {
			seen[name] = make(map[string]bool)
		}
		seen[name][value] = true
	}
	all := func(labels Labels) {
		for name, value := range labels {
			add(name, value)
		}
	}
	for _, c := range e.Clouds {
		add("cloud", c.Name)
	}
	for _, a := range e.Accounts {
		all(a.Labels)
		add("account", a.Name)
		add("region", a.Region)
		folder := strings.Trim(a.Folder, "/")
		for folder != "" { // what is in a folder is in the folders above it too
			add("folder", folder)
			folder = folder[:max(0, strings.LastIndexByte(folder, '/'))]
		}
	}
	for _, n := range e.Networks {
		all(n.Labels)
		add("network", n.Name)
		for _, s := range n.Subnets {
			all(s.Labels)
			add("subnet", s.Name)
		}
	}
	for _, g := range e.Groups {
		all(g.Labels)
		add("group", g.Name)
		add("kind", string(g.For))
	}
	for _, i := range e.Instances {
		all(i.Labels)
		add("kind", string(i.Kind))
	}
	v := make(Vocabulary, len(seen))
	for name, values := range seen {
		for value := range values {
			if value != "" {
				v[name] = append(v[name], value)
			}
		}
		slices.Sort(v[name])
	}
	for _, name := range PseudoLabels {
		if v[name] == nil {
			v[name] = []string{}
		}
	}
	return v
}

// PseudoLabels are labels that everything has because of its place and kind.
var PseudoLabels = []string{"account", "cloud", "region", "folder", "network", "subnet", "group", "kind"}

// Names are the labels, sorted.
func (v Vocabulary) Names() []string {
	var names []string
	for name := range v {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Has reports whether anything has a label with a value.
func (v Vocabulary) Has(name, value string) bool {
	if name == "folder" {
		value = strings.Trim(value, "/")
	}
	_, has := slices.BinarySearch(v[name], value)
	return has
}
