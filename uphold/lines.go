package uphold

import (
	"bytes"
	"encoding/json"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"isonomos/cloud"
	"isonomos/core/addr"
	"isonomos/core/decide"
)

// A line is an object of an account, as a line of a survey.
type line struct {
	kind, id, group string
	text            []byte
}

// linesOf splits a survey of an account.
func linesOf(survey []byte) []line {
	var all []line
	for text := range bytes.Lines(survey) {
		text = bytes.TrimSpace(text)
		if len(text) == 0 {
			continue
		}
		all = append(all, lineOf(text))
	}
	return all
}

// lineOf finds by what a line is found. Most lines begin with that, as texts without escapes.
func lineOf(text []byte) line {
	l := line{text: text}
	rest, ok := bytes.CutPrefix(text, []byte("{"))
	for ok {
		var key, value []byte
		if key, rest, ok = plainText(rest); !ok || len(rest) == 0 || rest[0] != ':' {
			break
		}
		if value, rest, ok = plainText(rest[1:]); !ok {
			break
		}
		switch string(key) {
		case "kind":
			l.kind = string(value)
		case "id":
			l.id = string(value)
		case "group":
			l.group = string(value)
		}
		if l.kind != "" && l.id != "" && (l.kind != "rule" || l.group != "") {
			return l
		}
		rest, ok = bytes.CutPrefix(rest, []byte(","))
	}
	var o struct{ Kind, ID, Group string }
	_ = json.Unmarshal(text, &o) // it was read as a survey before
	return line{o.Kind, o.ID, o.Group, text}
}

// plainText reads a quoted text without escapes.
func plainText(from []byte) (text, rest []byte, ok bool) {
	if len(from) == 0 || from[0] != '"' {
		return nil, from, false
	}
	end := bytes.IndexByte(from[1:], '"')
	if end < 0 || bytes.IndexByte(from[1:1+end], '\\') >= 0 {
		return nil, from, false
	}
	return from[1 : 1+end], from[2+end:], true
}

// onlyRules are the groups that events are about, if all of them are about rules: then nothing else has to be judged.
func onlyRules(events []cloud.Event) map[string]bool {
	groups := make(map[string]bool)
	for _, e := range events {
		if e.Kind != "rule" || e.Group == "" {
			return nil
		}
		groups[e.Group] = true
	}
	return groups
}

// withRulesOf are lines without the rules of other groups.
func withRulesOf(lines []line, groups map[string]bool) []line {
	return slices.DeleteFunc(slices.Clone(lines), func(l line) bool { return l.kind == "rule" && !groups[l.group] })
}

// around are the lines that matter where only some groups have changed: without the groups that are attached to none of
// the instances and subnets to which these are, and without their rules. Who is attached where stays, for the groups
// that do.
func around(lines []line, groups map[string]bool) []line {
	near := make(map[string]bool)
	for id := range groups {
		near[id] = true
	}
	type attached struct{ Groups []string }
	behind := make(map[string]bool) // balancers
	for _, l := range lines {
		var o struct{ Listeners []struct{ Targets []string } }
		if l.kind == "instance" && bytes.Contains(l.text, []byte(`"listeners"`)) && json.Unmarshal(l.text, &o) == nil {
			for _, x := range o.Listeners {
				for _, id := range x.Targets {
					behind[id] = true
				}
			}
		}
	}
	for _, l := range lines {
		if l.kind != "instance" && l.kind != "subnet" {
			continue
		}
		var o struct {
			attached
			Interfaces []attached
		}
		touched := slices.ContainsFunc(slices.Collect(maps.Keys(groups)),
			func(id string) bool { return bytes.Contains(l.text, []byte(strconv.Quote(id))) })
		if l.kind == "subnet" || behind[l.id] || bytes.Contains(l.text, []byte(`"listeners"`)) {
			touched = true // they stand around instances of others too, and hand on what these let in
		}
		if !touched || json.Unmarshal(l.text, &o) != nil {
			continue
		}
		for _, f := range append(o.Interfaces, o.attached) {
			for _, id := range f.Groups {
				near[id] = true
			}
		}
	}
	return withRulesOf(lines, near)
}

func joined(lines []line) []byte {
	var text bytes.Buffer
	for _, l := range lines {
		text.Write(l.text)
		text.WriteByte('\n')
	}
	return text.Bytes()
}

// apply applies an event to an account's lines. It reports false if the event can't be understood, so that the account
// has to be read.
func apply(lines []line, e cloud.Event) ([]line, bool) {
	at := slices.IndexFunc(lines, func(l line) bool { return l.kind == e.Kind && l.id == e.ID })
	if e.Kind == "account" { // it has no id
		at = slices.IndexFunc(lines, func(l line) bool { return l.kind == "account" })
	}
	if e.Action == "delete" {
		if at < 0 {
			return lines, true // it is told again
		}
		return slices.DeleteFunc(slices.Clone(lines), func(l line) bool {
			return l.kind == e.Kind && l.id == e.ID || e.Kind == "group" && l.kind == "rule" && l.group == e.ID
		}), true
	}
	var o struct{ Kind, ID, Group string }
	text := new(bytes.Buffer)
	if json.Unmarshal(e.Object, &o) != nil || o.Kind != e.Kind || o.ID != e.ID && e.Kind != "account" ||
		json.Compact(text, e.Object) != nil {
		return lines, false
	}
	l := line{o.Kind, o.ID, o.Group, text.Bytes()}
	lines = slices.Clone(lines)
	if at >= 0 {
		lines[at] = l
		return lines, true
	}
	if l.kind != "rule" {
		return append(lines, l), true
	}
	for i := len(lines) - 1; i >= 0; i-- { // behind its group, and the other rules of it
		if lines[i].kind == "group" && lines[i].id == l.group || lines[i].kind == "rule" && lines[i].group == l.group {
			return slices.Insert(lines, i+1, l), true
		}
	}
	return lines, false
}

// without are lines without those of a kind.
func without(lines []line, kind string) []line {
	return slices.DeleteFunc(slices.Clone(lines), func(l line) bool { return l.kind == kind })
}

// knownIn are the addresses of an account at which nobody is a stranger: public ones on its interfaces, and those in
// its lists.
func knownIn(lines []line) addr.Set {
	var sets []addr.Set
	var own []netip.Addr
	for _, l := range lines {
		var o struct {
			Entries    []string
			Interfaces []struct{ Private, Public []string }
		}
		if l.kind != "list" && l.kind != "instance" || json.Unmarshal(l.text, &o) != nil {
			continue
		}
		for _, f := range o.Interfaces {
			for _, text := range slices.Concat(f.Private, f.Public) {
				if a, err := netip.ParseAddr(text); err == nil && !a.IsPrivate() {
					own = append(own, a)
				}
			}
		}
		if l.kind == "list" {
			var entries []netip.Prefix
			for _, text := range o.Entries {
				if p, err := netip.ParsePrefix(text); err == nil {
					entries = append(entries, p)
				}
			}
			if set := addr.OfPrefixes(entries...); !decide.BreadthOf(set, addr.Public).AtLeast(decide.OpenBreadth) {
				sets = append(sets, set)
			}
		}
	}
	return addr.UnionAll(append(sets, addr.Of(own...))...)
}

// refersTo are the other accounts to which an account refers in its cloud: by peerings of networks and by rules.
func refersTo(account string, lines []line) []string {
	var names []string
	note := func(name string) {
		if name != "" && name != account && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	for _, l := range lines {
		switch l.kind {
		case "network":
			var o struct{ Peers []struct{ Account string } }
			if json.Unmarshal(l.text, &o) == nil {
				for _, p := range o.Peers {
					note(p.Account)
				}
			}
		case "rule":
			if !bytes.Contains(l.text, []byte("group:")) && !bytes.Contains(l.text, []byte("list:")) {
				continue
			}
			var o struct{ Peers []string }
			if json.Unmarshal(l.text, &o) != nil {
				continue
			}
			for _, p := range o.Peers {
				_, p, _ = strings.Cut(p, ":")
				if at, _, other := strings.Cut(p, "/"); other && !strings.Contains(at, ":") && p != "" {
					if _, err := netip.ParseAddr(at); err != nil { // no range
						note(at)
					}
				}
			}
		}
	}
	return names
}
