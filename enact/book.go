package enact

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"isonomos/cloud"
	"isonomos/core/change"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/store"
)

// What the objects of a run are believed to contain, step by step. An object that is read must be
// as believed before a step, or as it should be after it. If it is neither, somebody else has
// changed it.

// A content is what matters of an object: of a group its labels and rules, of a list its labels and
// entries, of an instance or subnet which groups are attached.
type content struct {
	kind    string
	name    string
	labels  map[string]string
	rules   map[string]string   // what each rule says, by id
	entries []string            // sorted
	groups  map[string][]string // by interface, sorted; of a subnet, by its own id
}

// A line is what is read of a survey's line.
type line struct {
	Kind        string            `json:"kind"`
	Account     string            `json:"account"`
	ID          string            `json:"id"`
	Name        string            `json:"name"`
	Network     string            `json:"network"`
	For         string            `json:"for"`
	Description string            `json:"description"`
	Labels      map[string]string `json:"labels"`
	Direction   string            `json:"direction"`
	Action      string            `json:"action"`
	Rank        int               `json:"rank"`
	Peers       json.RawMessage   `json:"peers"`
	Services    []string          `json:"services"`
	Stateless   bool              `json:"stateless"`
	BuiltIn     bool              `json:"built_in"`
	Entries     []string          `json:"entries"`
	Groups      []string          `json:"groups"`
	Interfaces  []struct {
		ID     string   `json:"id"`
		Groups []string `json:"groups"`
	} `json:"interfaces"`
}

// text is what a rule says, in a canonical form.
func (l line) text() string {
	var peers []string
	_ = json.Unmarshal(l.Peers, &peers) // what is not a list of texts is left empty
	for i, p := range peers {
		peers[i] = rangeText(p)
		if kind, ref, ok := strings.Cut(p, ":"); ok && (kind == "group" || kind == "list") {
			peers[i] = kind + ":" + strings.TrimPrefix(ref, l.Account+"/")
		}
	}
	var services []string
	for _, s := range l.Services {
		if spec, err := service.ParseSpec(s); err == nil {
			s = spec.String()
		}
		services = append(services, s)
	}
	slices.Sort(peers)
	slices.Sort(services)
	return fmt.Sprintf("%s %s %d %v %s | %s | %s", cmp.Or(l.Direction, "in"), cmp.Or(l.Action, "admit"), l.Rank,
		l.Stateless, strings.Join(services, ","), strings.Join(peers, ","), l.Description)
}

// sentenceOf is a rule of an object in words.
func sentenceOf(lines []json.RawMessage, id string) string {
	for _, text := range lines {
		var l line
		var peers []string
		if json.Unmarshal(text, &l) != nil || l.Kind != "rule" || l.ID != id {
			continue
		}
		_ = json.Unmarshal(l.Peers, &peers) // what is not a list of texts is left empty
		verb, word := cmp.Or(l.Action, "admit"), "from"
		if l.Direction == "out" {
			word = "at"
			if verb == "admit" {
				verb = "reach"
			}
		}
		return fmt.Sprintf("%s %s %s %s", verb, strings.Join(l.Services, ", "), word, strings.Join(peers, ", "))
	}
	return "rule " + id
}

// rangeText is the canonical form of a range or address. Other texts are returned as they are.
func rangeText(text string) string {
	if p, err := store.ParseRange(text); err == nil {
		return p.Masked().String()
	}
	return text
}

// contentOf reads the content of an object from its lines.
func contentOf(lines []json.RawMessage) (content, error) {
	var c content
	if len(lines) == 0 {
		return c, errors.New("nothing is said of the object")
	}
	for n, text := range lines {
		var l line
		if err := json.Unmarshal(text, &l); err != nil {
			return c, fmt.Errorf("the cloud's object can't be read: %w", err)
		}
		if n > 0 {
			if l.Kind == "rule" && !l.BuiltIn {
				c.rules[l.ID] = l.text()
			}
			continue
		}
		made := func(name, _ string) bool { return name == estate.MadeLabel }
		maps.DeleteFunc(l.Labels, made)
		c = content{kind: l.Kind, name: l.Name, labels: l.Labels, rules: make(map[string]string),
			groups: make(map[string][]string)}
		for _, e := range l.Entries {
			c.entries = append(c.entries, rangeText(e))
		}
		slices.Sort(c.entries)
		if l.Kind == "subnet" {
			c.groups[l.ID] = sortedCopy(l.Groups)
		}
		for _, f := range l.Interfaces {
			c.groups[f.ID] = sortedCopy(f.Groups)
		}
	}
	return c, nil
}

func sortedCopy(list []string) []string {
	return slices.Sorted(slices.Values(list))
}

// equal reports whether two contents are the same. Rules of the second with made-up ids match rules
// of any id.
func (c content) equal(want content) bool {
	if !maps.Equal(c.labels, want.labels) || !slices.Equal(c.entries, want.entries) ||
		!maps.EqualFunc(c.groups, want.groups, slices.Equal) {
		return false
	}
	_, ok := c.rename(want)
	return ok
}

// rename finds the real ids of rules with made-up ids: those of rules that say the same and have an
// unknown id. It reports whether every rule has been found.
func (c content) rename(want content) (ids map[string]string, ok bool) {
	if len(c.rules) != len(want.rules) {
		return nil, false
	}
	free := make(map[string][]string) // by what the rules say: ids that are not known
	for id, text := range c.rules {
		known, there := want.rules[id]
		if there && known != text {
			return nil, false
		}
		if !there {
			free[text] = append(free[text], id)
		}
	}
	ids = make(map[string]string)
	for _, id := range slices.Sorted(maps.Keys(want.rules)) {
		if _, there := c.rules[id]; there {
			continue
		}
		text := want.rules[id]
		if len(free[text]) == 0 {
			return nil, false
		}
		slices.Sort(free[text])
		ids[id], free[text] = free[text][0], free[text][1:]
	}
	return ids, true
}

// after is the content after a request. ids are the ids of added rules, where they are known.
func (c content) after(r cloud.Request) (content, error) {
	next := c
	switch r.Do {
	case change.LabelGroup, change.LabelList:
		next.labels = r.Labels
	case change.SetEntries:
		next.entries = nil
		for _, e := range r.Entries {
			next.entries = append(next.entries, rangeText(e))
		}
		slices.Sort(next.entries)
	case change.Attach, change.AttachToSubnet:
		next.groups = maps.Clone(c.groups)
		next.groups[r.ID] = sortedCopy(r.Groups)
	case change.AddRules, change.RemoveRule:
		next.rules = maps.Clone(c.rules)
		for _, text := range r.Rules {
			var l line
			if err := json.Unmarshal(text, &l); err != nil {
				return c, fmt.Errorf("a rule of the draft can't be read: %w", err)
			}
			if r.Do == change.AddRules {
				next.rules[l.ID] = l.text()
			} else {
				delete(next.rules, l.ID)
			}
		}
	}
	return next, nil
}
