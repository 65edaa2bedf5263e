package standin

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"

	"isonomos/core/estate"
	"isonomos/store"
)

// A state is all that is served at one moment.
type state struct {
	header string // the first line of the file, without the number of changes
	clouds map[string]*served
}

// served is what is served of one cloud.
type served struct {
	dialect  string
	names    []string // of accounts, in the order of the survey
	accounts map[string]*account
	refs     map[string]int // how many lines of others refer to a group or list, by "kind:account/id"
}

// An account is what is served of one. Its entries are never changed, only replaced: so a copy of the slice is what
// was served at a moment.
type account struct {
	name     string
	entries  []*entry    // in the order in which they are served; nil where one was deleted
	at       map[key]int // where an object is among the entries; a rule where its group is
	names    map[naming]string
	revision string // another one after each change
}

// An entry is an object as it is served; a group with its rules.
type entry struct {
	line
	rules []line
}

// A naming is what a name of a group or an own list must be unique in.
type naming struct{ kind, network, of, name string }

// A line is an object as it is served, with the fields by which it is found.
type line struct {
	key
	group string // of a rule: its group's id
	text  json.RawMessage
}

// key identifies an object within its account.
type key struct{ Kind, ID string }

// MarshalJSON returns the line as it was read.
func (l line) MarshalJSON() ([]byte, error) { return l.text, nil }

func lineOf(text json.RawMessage) line {
	var o struct{ Kind, ID, Group string }
	_ = json.Unmarshal(text, &o) // lines of the state have been decoded before
	return line{key{o.Kind, o.ID}, o.Group, text}
}

// stateOf sorts the lines of a survey by cloud and account.
func stateOf(e *estate.Estate) *state {
	own := make(map[*estate.Account]*estate.Estate)
	of := func(a *estate.Account) *estate.Estate {
		x := own[a]
		if x == nil {
			x = &estate.Estate{Accounts: []*estate.Account{a}}
			own[a] = x
		}
		return x
	}
	for _, n := range e.Networks {
		of(n.Account).Networks = append(of(n.Account).Networks, n)
	}
	for _, l := range e.Lists {
		if l.Account != nil {
			of(l.Account).Lists = append(of(l.Account).Lists, l)
		}
	}
	for _, i := range e.Instances {
		of(i.Account).Instances = append(of(i.Account).Instances, i)
	}
	for _, g := range e.Groups {
		of(g.Account).Groups = append(of(g.Account).Groups, g)
	}
	st := &state{header: store.HeaderLine(e.Name, e.Taken), clouds: make(map[string]*served)}
	for _, c := range e.Clouds {
		st.clouds[c.Name] = &served{dialect: c.Dialect, accounts: make(map[string]*account), refs: make(map[string]int)}
	}
	for _, a := range e.Accounts {
		c := st.clouds[a.Cloud.Name]
		c.names = append(c.names, a.Name)
		into := &account{name: a.Name, at: make(map[key]int), names: make(map[naming]string)}
		c.accounts[a.Name] = into
		var last *entry // a group is followed by its rules
		for text := range bytes.Lines(store.ObjectLines(of(a))) {
			l := lineOf(bytes.TrimSpace(text))
			if l.Kind == "rule" {
				last.rules = append(last.rules, l)
				continue
			}
			if last != nil {
				c.add(into, last)
			}
			last = &entry{line: l}
		}
		c.add(into, last)
	}
	return st
}

// add adds an entry to an account.
func (c *served) add(a *account, e *entry) {
	i := len(a.entries)
	a.entries = append(a.entries, e)
	for _, l := range append([]line{e.line}, e.rules...) {
		a.at[l.key] = i
		c.count(a.name, l, 1)
	}
	if name, ok := namingOf(e.text); ok && a.names[name] == "" {
		a.names[name] = e.ID
	}
}

// put puts a line into an account, in place of the one with its key.
func (c *served) put(name string, l line) {
	a := c.accounts[name]
	i, there := a.at[l.key]
	switch {
	case l.Kind == "rule":
		if i, there = a.at[key{"group", l.group}]; !there {
			return // the file was edited, and the group is gone
		}
		was := a.entries[i]
		a.entries[i] = &entry{was.line, withRule(was.rules, l)}
		if _, old, there := within(was, l.key); there {
			c.count(name, old, -1)
		}
		a.at[l.key] = i
		c.count(name, l, 1)
	case !there:
		c.add(a, &entry{line: l})
	default:
		was := a.entries[i]
		a.entries[i] = &entry{l, was.rules}
		c.count(name, was.line, -1)
		c.count(name, l, 1)
		if name, ok := namingOf(was.text); ok && a.names[name] == l.ID {
			delete(a.names, name)
		}
		if name, ok := namingOf(l.text); ok && a.names[name] == "" {
			a.names[name] = l.ID
		}
	}
}

// withRule are rules with one more, or with another one in place of the one with its key.
func withRule(rules []line, l line) []line {
	rules = slices.Clone(rules)
	if k := slices.IndexFunc(rules, func(r line) bool { return r.key == l.key }); k >= 0 {
		rules[k] = l
		return rules
	}
	return append(rules, l)
}

// withoutRule are rules without one.
func withoutRule(rules []line, k key) []line {
	return slices.DeleteFunc(slices.Clone(rules), func(r line) bool { return r.key == k })
}

// drop takes an object out of an account.
func (c *served) drop(name string, k key) {
	a := c.accounts[name]
	i, there := a.at[k]
	if !there {
		return
	}
	was := a.entries[i]
	gone := []line{was.line}
	if was.key == k {
		a.entries[i] = nil
		gone = append(gone, was.rules...)
		if name, ok := namingOf(was.text); ok && a.names[name] == k.ID {
			delete(a.names, name)
		}
	} else {
		_, gone[0], _ = within(was, k)
		a.entries[i] = &entry{was.line, withoutRule(was.rules, k)}
	}
	for _, l := range gone {
		delete(a.at, l.key)
		c.count(name, l, -1)
	}
}

// count counts what a line refers to.
func (c *served) count(account string, l line, by int) {
	for _, ref := range refsOf(account, l) {
		if c.refs[ref] += by; c.refs[ref] <= 0 {
			delete(c.refs, ref)
		}
	}
}

// namingOf is what the name of a group, or of an own list, must be unique in.
func namingOf(text json.RawMessage) (naming, bool) {
	var o object
	if json.Unmarshal(text, &o) != nil || o.Kind != "group" && (o.Kind != "list" || o.Owner != "own") {
		return naming{}, false
	}
	return naming{o.Kind, o.Network, o.For, o.Name}, true
}

// refsOf are the groups and lists that a line refers to, as "kind:account/id", but for a rule's own group.
func refsOf(account string, l line) []string {
	if l.Kind != "rule" && l.Kind != "instance" && l.Kind != "subnet" ||
		!bytes.Contains(l.text, []byte(`group:`)) && !bytes.Contains(l.text, []byte(`list:`)) &&
			!bytes.Contains(l.text, []byte(`"groups"`)) {
		return nil
	}
	type attached struct{ Groups []string }
	var x struct {
		attached
		Peers      json.RawMessage
		Interfaces []attached
	}
	if json.Unmarshal(l.text, &x) != nil {
		return nil
	}
	var refs, peers []string
	for _, f := range append(x.Interfaces, x.attached) {
		for _, g := range f.Groups {
			refs = append(refs, "group:"+account+"/"+g)
		}
	}
	_ = json.Unmarshal(x.Peers, &peers) // those of a network are no texts
	for _, p := range peers {
		p, _, _ = strings.Cut(p, " ") // an address family may follow
		kind, id, ok := strings.Cut(p, ":")
		if !ok || kind != "group" && kind != "list" {
			continue
		}
		if !strings.Contains(id, "/") {
			id = account + "/" + id
		}
		if kind != "group" || id != account+"/"+l.group {
			refs = append(refs, kind+":"+id)
		}
	}
	return refs
}

// inOrder are entries in the order of a survey: what was made later comes behind others of its kind.
func inOrder(entries []*entry) []*entry {
	place := map[string]int{"list": 1, "instance": 2, "group": 3} // behind the account and its networks
	entries = slices.DeleteFunc(slices.Clone(entries), func(e *entry) bool { return e == nil })
	slices.SortStableFunc(entries, func(a, b *entry) int { return place[a.Kind] - place[b.Kind] })
	return entries
}

// lines are the lines of an account in order.
func (a *account) lines() []line {
	var all []line
	for _, e := range inOrder(a.entries) {
		all = append(append(all, e.line), e.rules...)
	}
	return all
}

// find finds an object of an account, and the group it is a rule of, if so. An account as it was before has no
// index.
func (a *account) find(k key) (of *entry, l line, ok bool) {
	if a == nil {
		return nil, line{}, false
	}
	if a.at != nil {
		i, there := a.at[k]
		if !there {
			return nil, line{}, false
		}
		return within(a.entries[i], k)
	}
	for _, e := range a.entries {
		if of, l, ok := within(e, k); ok {
			return of, l, ok
		}
	}
	return nil, line{}, false
}

// within finds an object in an entry.
func within(e *entry, k key) (of *entry, l line, ok bool) {
	if e == nil || e.key == k {
		if e == nil {
			return nil, line{}, false
		}
		return e, e.line, true
	}
	i := slices.IndexFunc(e.rules, func(r line) bool { return r.key == k })
	if i < 0 {
		return nil, line{}, false
	}
	return e, e.rules[i], true
}
