package enact

import (
	"bytes"
	"encoding/json"
	"maps"
	"slices"

	"isonomos/core/change"
	"isonomos/core/estate"
)

// What was decided is what runs have left: the content of the estate's own groups and lists after the last run that
// touched each of them, and where its groups are attached. Runs that put back what was decided, or enforce a law,
// decide nothing; neither do passes.

// Decided is what was decided, as the journal tells it.
type Decided struct {
	estate  string
	objects lines // of its own groups with their rules, and lists
	// where are the ids of the interfaces and subnets to which a group is attached. A group that was last touched by a
	// run that did not note that is not among them.
	where map[ident]map[string]bool
	// Definitions are the digests of the definitions that were carried out last, by account. They are empty where an
	// earlier state was brought back since.
	Definitions map[string]string
}

// decides reports whether a run has decided something in an estate.
func (p *Past) decides(name string) bool {
	return p.Draft.Estate == name && len(p.Draft.Passes) == 0 && p.Draft.Upholds == nil && p.Done() > 0
}

// follow notes what a run has done.
func (d *Decided) follow(p *Past) error {
	run := &Run{Draft: p.Draft}
	if err := run.Recall(p.Entries); err != nil {
		return err
	}
	for _, x := range p.again {
		run.names.learn(x.account, map[string]string{x.was: x.is})
	}
	before := make(map[ident]*Touched)
	for _, o := range p.Draft.Objects {
		real := run.names.object(o)
		before[ident{o.Account, o.Kind, real.ID}] = real
	}
	var done []*Step
	for _, e := range p.Entries {
		var x Result
		if e.Kind == Done && json.Unmarshal(e.Body, &x) == nil {
			done = append(done, p.Draft.step(x.Lane, x.Step)) // Recall has found it
		}
	}
	place := func(s *Step) ident { // of the group or list that a step is about
		request := run.names.request(s.Request)
		if of := request.Of(); of.Kind != "" {
			return ident{s.Account, of.Kind, of.ID}
		}
		return ident{s.Account, s.Do.Of(), request.ID}
	}
	touched := make(map[ident]bool)
	for _, s := range done { // first of all: it may be attached somewhere before anything else is done to it
		d.Definitions[s.Account] = p.Draft.Definitions
		if at := place(s); s.Do != change.Attach && s.Do != change.AttachToSubnet && !touched[at] {
			touched[at] = true
			if o := before[at]; o != nil {
				d.begin(at, o)
			}
		}
	}
	for _, s := range done {
		if s.Do == change.Attach || s.Do == change.AttachToSubnet {
			request := run.names.request(s.Request)
			d.attach(s.Account, request.ID, request.Groups)
		} else if err := d.step(place(s), s, run.names); err != nil {
			return err
		}
	}
	for at := range touched {
		var l line
		if own := d.objects[at]; own != nil && (json.Unmarshal(own[0], &l) != nil ||
			l.Labels[estate.OwnLabel] != d.estate) {
			d.forget(at)
		}
	}
	return nil
}

// begin notes an object as it was before a run touched it.
func (d *Decided) begin(at ident, o *Touched) {
	d.objects[at] = slices.Clone(o.Before)
	delete(d.where, at)
	if at.kind == "group" && o.Attached != nil {
		d.where[at] = make(map[string]bool)
		for _, id := range o.Attached {
			d.where[at][id] = true
		}
	}
}

func (d *Decided) forget(at ident) {
	delete(d.objects, at)
	delete(d.where, at)
}

// attach notes which groups an interface or subnet has.
func (d *Decided) attach(account, id string, groups []string) {
	for at := range d.where {
		if at.account == account {
			delete(d.where[at], id)
		}
	}
	for _, g := range groups {
		at := ident{account, "group", g}
		if d.where[at] != nil {
			d.where[at][id] = true
		}
	}
}

// step notes what a step did to a group or list.
func (d *Decided) step(at ident, s *Step, names *names) error {
	request := names.request(s.Request)
	switch {
	case s.Do.Deletes():
		d.forget(at)
		return nil
	case s.Do.Makes():
		object := names.line(s.Object)
		d.objects[at] = []json.RawMessage{object}
		if at.kind == "group" {
			d.where[at] = make(map[string]bool)
		}
		for k, everyone := range everyones {
			made := ownRule(s.ID, k)
			if id := names.of(s.Account, made); id != made {
				d.objects[at] = append(d.objects[at], encode(map[string]any{"kind": "rule", "account": s.Account,
					"group": at.id, "id": id, "direction": "out", "action": "admit", "peers": []string{everyone},
					"services": []string{"any"}}))
			}
		}
		return nil
	}
	own := d.objects[at]
	if own == nil {
		return nil // it is neither made nor touched by this run
	}
	switch s.Do {
	case change.LabelGroup, change.LabelList:
		return d.set(at, "labels", request.Labels)
	case change.SetEntries:
		return d.set(at, "entries", request.Entries)
	case change.AddRules:
		d.objects[at] = append(own, request.Rules...)
	case change.RemoveRule:
		gone := make(map[string]bool)
		for _, text := range request.Rules {
			var l line
			if err := json.Unmarshal(text, &l); err != nil {
				return err
			}
			gone[l.ID] = true
		}
		d.objects[at] = append(own[:1:1], slices.DeleteFunc(slices.Clone(own[1:]), func(text json.RawMessage) bool {
			var l line
			return json.Unmarshal(text, &l) == nil && gone[l.ID]
		})...)
	}
	return nil
}

// set changes a field of an object's line.
func (d *Decided) set(at ident, field string, value any) error {
	changed, err := withField(d.objects[at][0], field, value)
	if err == nil {
		d.objects[at] = append([]json.RawMessage{changed}, d.objects[at][1:]...)
	}
	return err
}

// withField is a line with another value of a field.
func withField(text json.RawMessage, field string, value any) (json.RawMessage, error) {
	dec := json.NewDecoder(bytes.NewReader(text))
	dec.UseNumber()
	var whole map[string]any
	if err := dec.Decode(&whole); err != nil {
		return nil, err
	}
	whole[field] = value
	return encode(whole), nil
}

// Estate is the name of the estate.
func (d *Decided) Estate() string { return d.estate }

// Has reports whether something was decided about a group or list.
func (d *Decided) Has(account, kind, id string) bool {
	return d.objects[ident{account, kind, id}] != nil
}

// Count is the number of groups about which something was decided.
func (d *Decided) Count() int {
	n := 0
	for at := range d.objects {
		if at.kind == "group" {
			n++
		}
	}
	return n
}

// Groups are the ids of the groups of an account about which something was decided, and their names in the cloud.
func (d *Decided) Groups(account string) map[string]string {
	names := make(map[string]string)
	for at, own := range d.objects {
		var l line
		if at.account == account && at.kind == "group" && json.Unmarshal(own[0], &l) == nil {
			names[at.id] = l.Name
		}
	}
	return names
}

// Labels are those of a group as it was decided.
func (d *Decided) Labels(account, id string) map[string]string {
	var l line
	if own := d.objects[ident{account, "group", id}]; own != nil {
		_ = json.Unmarshal(own[0], &l) // it has been read before
	}
	return l.Labels
}

// Lists are the entries of the lists of an account as they were decided, and their names, by id.
func (d *Decided) Lists(account string) (entries map[string][]string, names map[string]string) {
	entries, names = make(map[string][]string), make(map[string]string)
	for at, own := range d.objects {
		var l line
		if at.account == account && at.kind == "list" && json.Unmarshal(own[0], &l) == nil {
			entries[at.id], names[at.id] = l.Entries, l.Name
		}
	}
	return entries, names
}

// A Restore picks what is to be as it was decided, in an account.
type Restore struct {
	Account string
	// Pick picks groups and lists by kind and id; nil picks all.
	Pick func(kind, id string) bool
	// Attached says whether a group is to be attached to an interface or subnet, given whether it is now, and whether
	// it was when that was decided; nil leaves what is now.
	Attached func(group, at string, now, was bool) bool
	// Room is how many groups an interface, or a subnet, has room for; 0 means any number. What takes the place of a
	// group that is to be attached again, and was not there when that was decided, is detached.
	Room, RoomAround int
	// Upholder is noted at groups that are to be as they were decided.
	Upholder estate.Upholder
	// Entries are the entries of lists that are to be something else than was decided, by id.
	Entries map[string][]string
	// Rules are the rules of groups that are to be something else than was decided, or were decided by nobody, by id of
	// the group.
	Rules map[string][]json.RawMessage
}

// On is a survey in which an account is as it was decided, as far as that is picked, with the estate's mark; all other
// labels and descriptions of what is there stay.
func (d *Decided) On(surveyed *estate.Estate, pick Restore) (*estate.Estate, error) {
	now := linesOf(surveyed, []string{pick.Account}, false)
	back := restoring{objects: make(lines)}
	for at, decided := range d.objects {
		if at.account != pick.Account || pick.Pick != nil && !pick.Pick(at.kind, at.id) {
			continue
		}
		own := slices.DeleteFunc(slices.Clone(decided), isBuiltIn) // those of its cloud stay
		if is := now[at]; is != nil {
			var l line
			if err := json.Unmarshal(is[0], &l); err != nil {
				return nil, err
			}
			labels := maps.Clone(l.Labels)
			if labels == nil {
				labels = make(map[string]string)
			}
			labels[estate.OwnLabel] = d.estate
			if at.kind == "group" && pick.Upholder.Journal != "" {
				labels[estate.UpheldLabel] = pick.Upholder.String()
			}
			first, err := withField(is[0], "labels", labels)
			if err == nil && at.kind == "list" {
				var was line
				if err = json.Unmarshal(own[0], &was); err == nil {
					if entries, other := pick.Entries[at.id]; other {
						was.Entries = entries
					}
					first, err = withField(first, "entries", was.Entries)
				}
			}
			if err != nil {
				return nil, err
			}
			own[0] = first
			for _, text := range is[1:] {
				if isBuiltIn(text) {
					own = append(own, text)
				}
			}
		}
		back.objects[at] = own
	}
	for id, rules := range pick.Rules {
		at := ident{pick.Account, "group", id}
		first := back.objects[at]
		if first == nil {
			first = now[at]
		}
		if first != nil {
			back.objects[at] = append(first[:1:1], rules...)
		}
	}
	at := d.attachments(pick.Account)
	back.attached = func(of ident, line []byte) (json.RawMessage, error) {
		if of.account != pick.Account || pick.Attached == nil {
			return line, nil
		}
		return d.attachedAs(pick, of, line, at)
	}
	return back.on(surveyed)
}

// isBuiltIn reports whether a line is that of a rule that its cloud has built in.
func isBuiltIn(text json.RawMessage) bool {
	var l line
	return json.Unmarshal(text, &l) == nil && l.Kind == "rule" && l.BuiltIn
}

// attachments are the groups of an account that are attached to its interfaces and subnets as was decided, in order, by
// the ids of all of them.
func (d *Decided) attachments(account string) map[string][]string {
	all := make(map[string][]string)
	for of, where := range d.where {
		if of.account != account {
			continue
		}
		for at := range where {
			all[at] = append(all[at], of.id)
		}
	}
	for _, groups := range all {
		slices.Sort(groups)
	}
	return all
}

// attachedAs is the line of an instance or subnet with the groups that it is to have.
func (d *Decided) attachedAs(pick Restore, at ident, text []byte, decided map[string][]string) (json.RawMessage,
	error) {
	var l line
	if err := json.Unmarshal(text, &l); err != nil {
		return nil, err
	}
	differs := false
	groups := func(id string, room int, now []string) []string {
		var then []string
		for _, g := range now {
			of := ident{pick.Account, "group", g}
			if d.where[of] == nil || pick.Attached(g, id, true, d.where[of][id]) {
				then = append(then, g)
			}
		}
		for _, g := range decided[id] {
			if !slices.Contains(now, g) && pick.Attached(g, id, false, true) {
				then = append(then, g)
			}
		}
		for i := len(then) - 1; i >= 0 && room > 0 && len(then) > max(room, len(now)); i-- {
			if where := d.where[ident{pick.Account, "group", then[i]}]; !where[id] {
				then = slices.Delete(then, i, i+1)
			}
		}
		differs = differs || !slices.Equal(now, then)
		return append([]string{}, then...)
	}
	if at.kind == "subnet" {
		then := groups(at.id, pick.RoomAround, l.Groups)
		if !differs {
			return text, nil
		}
		return withField(text, "groups", then)
	}
	had := line{Kind: "instance", Interfaces: l.Interfaces}
	for i := range had.Interfaces {
		f := &had.Interfaces[i]
		f.Groups = groups(f.ID, pick.Room, f.Groups)
	}
	if !differs {
		return text, nil
	}
	return withGroups(text, encode(map[string]any{"kind": "instance", "interfaces": interfacesOf(had)}))
}

func interfacesOf(l line) []map[string]any {
	var all []map[string]any
	for _, f := range l.Interfaces {
		all = append(all, map[string]any{"id": f.ID, "groups": f.Groups})
	}
	return all
}
