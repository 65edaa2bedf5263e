package enact

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"isonomos/core/change"
	"isonomos/core/estate"
	"isonomos/store"
)

// A Past is an earlier run, as the journal tells it.
type Past struct {
	Name    string
	Draft   *Draft
	Entries []store.Entry
	Ended   *Ending // nil if it was broken off
	// Alive is when the run may still have sent requests, as far as that is known from elsewhere than its entries.
	Alive time.Time
	again []again  // objects that later runs made again
	all   *[]*Past // of its journal, of which it is number at
	at    int
}

// An again is an object that a run made in the place of a deleted one.
type again struct{ account, was, is string }

// Pasts are the runs in a journal, in order.
func Pasts(journal func(func(store.Entry) error) error) ([]*Past, error) {
	var all []*Past
	byName := make(map[string]*Past)
	err := journal(func(e store.Entry) error {
		p := byName[e.Run]
		if e.Kind == Begin {
			p = &Past{Name: e.Run, Draft: new(Draft), all: &all, at: len(all)}
			byName[e.Run] = p
			all = append(all, p)
			if err := json.Unmarshal(e.Body, p.Draft); err != nil {
				return fmt.Errorf("entry %d of the journal: %w", e.Number, err)
			}
		}
		if p == nil {
			return nil // an entry about something other than a run
		}
		p.Entries = append(p.Entries, e)
		switch e.Kind {
		case End:
			p.Ended = new(Ending)
			if err := json.Unmarshal(e.Body, p.Ended); err != nil {
				return fmt.Errorf("entry %d of the journal: %w", e.Number, err)
			}
		case Intend:
			p.Ended = nil // a stopped run was continued
		case Done:
			return noteAgain(all, p, e)
		}
		return nil
	})
	return all, err
}

// noteAgain tells all earlier runs that an object has another id from now on.
func noteAgain(all []*Past, p *Past, e store.Entry) error {
	var x Result
	if err := json.Unmarshal(e.Body, &x); err != nil {
		return fmt.Errorf("entry %d of the journal: %w", e.Number, err)
	}
	s := p.Draft.step(x.Lane, x.Step)
	if s == nil || s.Replaces == "" || x.IDs[s.ID] == "" {
		return nil // a missing step is reported when the run itself is looked at
	}
	for _, earlier := range all {
		if earlier != p {
			earlier.again = append(earlier.again, again{s.Account, s.Replaces, x.IDs[s.ID]})
		}
	}
	return nil
}

// Known are the groups and lists that runs have made or marked, by account, kind and id.
type Known map[[3]string]bool

// Has reports whether a group or list is among them.
func (k Known) Has(account, kind, id string) bool { return k[[3]string{account, kind, id}] }

// KnownFrom finds what earlier runs have made or marked, or brought back.
func KnownFrom(pasts []*Past) Known {
	known := make(Known)
	for _, p := range pasts {
		for _, e := range p.Entries {
			var x Result
			if e.Kind != Done || json.Unmarshal(e.Body, &x) != nil {
				continue
			}
			if s := p.Draft.step(x.Lane, x.Step); s != nil {
				known.note(s, &x)
			}
		}
	}
	return known
}

// note notes what a step has made or marked.
func (k Known) note(s *Step, x *Result) {
	switch kind := s.Do.Of(); {
	case s.Do.Makes() && x.IDs[s.ID] != "":
		k[[3]string{s.Account, kind, x.IDs[s.ID]}] = true
	case s.Do == change.LabelGroup || s.Do == change.LabelList:
		k[[3]string{s.Account, kind, s.ID}] = true
	}
}

// Undone are the names of runs that have been undone, and whose undoing was not undone in its turn.
func Undone(pasts []*Past) map[string]bool {
	undone := make(map[string]bool)
	for _, p := range slices.Backward(pasts) { // what undoes a run comes behind it
		if p.Draft.Repeals != "" && p.complete() && !undone[p.Name] {
			undone[p.Draft.Repeals] = true
		}
	}
	return undone
}

// Open reports whether a run was broken off, so that it has to be carried on, or undone: it is not at its
// end, and has changed something, or may have. What is left of one that opened or shut passes, the next command that
// writes puts right.
func (p *Past) Open() bool {
	return len(p.Draft.Passes) == 0 && p.Draft.Upholds == nil && p.BrokenOff() && !p.Unchanged()
}

// BrokenOff reports whether a run is not at its end.
func (p *Past) BrokenOff() bool { return p.Ended == nil || p.Ended.Outcome == Stopped }

// Unchanged reports whether no step of a run was carried out, nor may have been.
func (p *Past) Unchanged() bool { return p.Done() == 0 && len(unsureSteps(p.Entries, p.Alive)) == 0 }

// unsureSteps are the steps that were begun, by lane and number, and of which it is not known whether they were carried
// out; and until when their requests may still arrive. The run may have sent requests until it was last known to be
// alive. A step that failed for certain was not carried out.
func unsureSteps(entries []store.Entry, alive time.Time) map[[2]int]time.Time {
	unsure := make(map[[2]int]time.Time)
	limits := make(map[[2]int]time.Duration)
	for _, e := range entries {
		var x struct {
			Lane, Step, Limit int
			Unsure            bool
		}
		if e.Kind != Intend && e.Kind != Done && e.Kind != Failed || json.Unmarshal(e.Body, &x) != nil {
			continue
		}
		at := [2]int{x.Lane, x.Step}
		if e.Kind == Intend {
			limits[at] = cmp.Or(time.Duration(x.Limit)*time.Second, usualLimit)
		}
		if e.Kind != Intend && !(e.Kind == Failed && x.Unsure) {
			delete(unsure, at)
			continue
		}
		last, err := time.Parse(time.RFC3339Nano, e.At)
		if err != nil || alive.After(last) {
			last = alive
		}
		unsure[at] = last.Add(limits[at])
	}
	return unsure
}

// MayArrive says until when a request of a run that was broken off may still arrive in its cloud; zero if none can.
func (p *Past) MayArrive() (until time.Time) {
	for _, at := range unsureSteps(p.Entries, p.Alive) {
		if at.After(until) {
			until = at
		}
	}
	return until
}

// complete reports whether all steps of a run were carried out.
func (p *Past) complete() bool {
	return p.Ended != nil && (p.Ended.Outcome == Enacted || p.Ended.Outcome == Repealed ||
		p.Ended.Outcome == Overtaken && p.Done() == p.Draft.Steps())
}

// Rules are the ids of the rules that a run has added or removed.
func (p *Past) Rules() (map[string]bool, error) {
	run := &Run{Draft: p.Draft}
	if err := run.Recall(p.Entries); err != nil {
		return nil, err
	}
	ids := make(map[string]bool)
	for _, e := range p.Entries {
		var x Result
		if e.Kind != Intend && e.Kind != Done || json.Unmarshal(e.Body, &x) != nil {
			continue
		}
		for _, id := range x.IDs {
			ids[id] = true
		}
		if s := p.Draft.step(x.Lane, x.Step); s != nil && s.Do == change.RemoveRule {
			for _, text := range run.names.request(s.Request).Rules {
				var l line
				if json.Unmarshal(text, &l) == nil {
					ids[l.ID] = true
				}
			}
		}
	}
	return ids, nil
}

// Began is when the run began (RFC 3339).
func (p *Past) Began() string { return p.Entries[0].At }

// Done is the number of steps that are known to be done.
func (p *Past) Done() int {
	n := 0
	for _, e := range p.Entries {
		if e.Kind == Done {
			n++
		}
	}
	return n
}

// Undone finds the aim of undoing a run: the present state of its clouds, and the same state with
// everything that the run touched as it was before. It is an error if somebody else has changed any
// of it since.
func (p *Past) Undone(surveyed *estate.Estate) (*change.Aim, error) {
	t, moved, err := p.trace(surveyed)
	if until := p.MayArrive(); err == nil && t.waits && time.Now().Before(until) {
		return nil, &MayArriveError{until}
	}
	if err == nil && len(moved) > 0 {
		err = p.movedBy(moved, surveyed)
	}
	if err != nil {
		return nil, err
	}
	return p.before(surveyed, t)
}

// A MovedError says what has changed since a run: by somebody else, or by a later run of one's own.
type MovedError struct {
	What []string
	Run  string // a later run that has changed some of it; empty if there is none
}

func (e *MovedError) Error() string {
	who := "somebody else has changed since: "
	if e.Run != "" {
		who = "the later run " + e.Run + " has changed since: "
	}
	return who + strings.Join(e.What, ", ")
}

// A movedThing is an object that is not as a run has left it.
type movedThing struct {
	at   ident
	says string
}

// movedBy says who has changed what is not as a run has left it: a later run, if something is as the last one that
// touched it has left it; else somebody else.
func (p *Past) movedBy(moved []movedThing, surveyed *estate.Estate) *MovedError {
	e := &MovedError{}
	for _, m := range moved {
		e.What = append(e.What, m.says)
	}
	if p.all == nil {
		return e
	}
	left := slices.Clone(moved)
	for _, later := range slices.Backward((*p.all)[p.at+1:]) {
		touches := func(m movedThing) bool {
			return later.Done() > 0 && slices.ContainsFunc(later.Draft.Objects,
				func(o Touched) bool { return (ident{o.Account, o.Kind, o.ID}) == m.at })
		}
		if !slices.ContainsFunc(left, touches) {
			continue
		}
		_, since, err := later.trace(surveyed)
		if err != nil {
			return e
		}
		var did []string
		for _, m := range left {
			if touches(m) && !slices.ContainsFunc(since, func(x movedThing) bool { return x.at == m.at }) {
				did = append(did, m.says)
			}
		}
		if len(did) > 0 {
			return &MovedError{What: did, Run: later.Name}
		}
		left = slices.DeleteFunc(left, touches) // somebody else has changed it since
	}
	return e
}

// A MayArriveError says that a request of a run that was broken off was not carried out yet, and may still arrive.
type MayArriveError struct{ Until time.Time }

func (e *MayArriveError) Error() string {
	return "a request of the run was on its way when it was broken off, and may still arrive until " +
		e.Until.UTC().Format(time.RFC3339)
}

// Undoing is Undone for a run whose undoing has begun: what it touched may be on its way back.
func (p *Past) Undoing(surveyed *estate.Estate) (*change.Aim, error) {
	t, _, err := p.trace(surveyed)
	if err != nil {
		return nil, err
	}
	t.madeAgain(linesOf(surveyed, p.Draft.Changes(), false))
	return p.before(surveyed, t)
}

// madeAgain finds objects that the run deleted and that exist again with another id, by account,
// network, name and kind.
func (t *trail) madeAgain(now lines) {
	as := make(map[[5]string]string)
	for at, lines := range now {
		var l line
		if t.touched[at] == nil && !t.made[at] && json.Unmarshal(lines[0], &l) == nil {
			as[[5]string{at.account, at.kind, l.Network, l.Name, l.For}] = at.id
		}
	}
	again := newNames()
	for at, o := range t.touched {
		var l line
		if now[at] != nil || json.Unmarshal(o.Before[0], &l) != nil {
			continue
		}
		if id := as[[5]string{at.account, at.kind, l.Network, l.Name, l.For}]; id != "" {
			again.learn(at.account, map[string]string{at.id: id})
		}
	}
	if len(again.ids) == 0 {
		return
	}
	touched := make(map[ident]*Touched)
	for at, o := range t.touched {
		renamed := again.object(*o)
		touched[ident{at.account, at.kind, renamed.ID}] = renamed
	}
	t.touched = touched
}

func (p *Past) before(surveyed *estate.Estate, t trail) (*change.Aim, error) {
	back := restoring{objects: make(lines), gone: t.made}
	had := make(lines) // instances and subnets
	for at, o := range t.touched {
		if at.kind == "instance" || at.kind == "subnet" {
			had[at] = o.Before
		} else {
			back.objects[at] = o.Before
		}
	}
	back.attached = func(at ident, now []byte) (json.RawMessage, error) {
		if had[at] == nil {
			return now, nil
		}
		return withGroups(now, had[at][0])
	}
	before, err := back.on(surveyed)
	if err != nil {
		return nil, fmt.Errorf("the state before can't be put together: %w", err)
	}
	touched := func(account, kind, id string) bool { return t.touched[ident{account, kind, id}] != nil }
	return change.NewRepeal(p.Draft.Estate, surveyed, before, touched), nil
}

// A restoring says what is to be as it was at some time.
type restoring struct {
	objects lines          // groups and lists as they were
	gone    map[ident]bool // those that were not there
	// attached is the line of an instance or subnet with the groups that it had.
	attached func(at ident, now []byte) (json.RawMessage, error)
}

// on is a survey in which that is so. Rules of passes stay.
func (r restoring) on(surveyed *estate.Estate) (*estate.Estate, error) {
	var text, past bytes.Buffer
	if err := store.WriteSurvey(&text, surveyed); err != nil {
		return nil, err
	}
	scanner := bufio.NewScanner(&text)
	scanner.Buffer(nil, 64<<20)
	put := func(lines ...json.RawMessage) {
		for _, l := range lines {
			past.Write(l)
			past.WriteByte('\n')
		}
	}
	passes := PassRules(surveyed)
	back := make(map[ident]bool)
	for scanner.Scan() {
		var l struct{ Kind, Account, ID, Group string }
		if err := json.Unmarshal(scanner.Bytes(), &l); err != nil {
			return nil, err
		}
		at := ident{l.Account, l.Kind, l.ID}
		if l.Kind == "rule" {
			at = ident{l.Account, "group", l.Group}
		}
		was := r.objects[at]
		switch {
		case r.gone[at] || was != nil && l.Kind == "rule" && !passes[[2]string{l.Account, l.ID}]:
		case l.Kind == "instance" || l.Kind == "subnet":
			line, err := r.attached(at, slices.Clone(scanner.Bytes()))
			if err != nil {
				return nil, err
			}
			put(line)
		case was == nil || l.Kind == "rule":
			put(json.RawMessage(slices.Clone(scanner.Bytes())))
		default:
			back[at] = true
			put(was...)
		}
	}
	if err := scanner.Err(); err != nil {
		return nil, err
	}
	for _, at := range slices.SortedFunc(maps.Keys(r.objects), ident.compare) {
		if !back[at] { // it is there no more
			put(r.objects[at]...)
		}
	}
	before, _, err := store.ReadSurvey(&past, "the state before")
	if err != nil {
		return nil, err
	}
	before.Others = surveyed.Others
	return before, nil
}

// PassRules are the rules of passes in an estate, by account and id.
func PassRules(e *estate.Estate) map[[2]string]bool {
	passes := make(map[[2]string]bool)
	for _, g := range e.Groups {
		for i := range g.Rules {
			if g.Rules[i].Pass != "" {
				passes[[2]string{g.Account.Name, g.Rules[i].ID}] = true
			}
		}
	}
	return passes
}

// withGroups is an instance or subnet as it is now, but with the groups that were attached before.
func withGroups(now []byte, before json.RawMessage) (json.RawMessage, error) {
	var had line
	if err := json.Unmarshal(before, &had); err != nil {
		return nil, err
	}
	var whole map[string]any
	if err := json.Unmarshal(now, &whole); err != nil {
		return nil, err
	}
	if had.Kind == "subnet" {
		whole["groups"] = had.Groups
		return encode(whole), nil
	}
	interfaces, _ := whole["interfaces"].([]any)
	for _, x := range interfaces {
		f, _ := x.(map[string]any)
		for _, was := range had.Interfaces {
			if f["id"] == was.ID {
				f["groups"] = was.Groups
			}
		}
	}
	return encode(whole), nil
}

// A trail is what a run has left behind.
type trail struct {
	touched map[ident]*Touched
	made    map[ident]bool // groups and lists that it made, by their real ids
	waits   bool           // a step may have been carried out, and does not show
}

// trace finds what a run has left behind, and which of it has been changed since.
func (p *Past) trace(surveyed *estate.Estate) (t trail, moved []movedThing, err error) {
	t = trail{touched: make(map[ident]*Touched), made: make(map[ident]bool)}
	run := &Run{Name: p.Name, Draft: p.Draft, Alive: p.Alive}
	if err := run.Recall(p.Entries); err != nil {
		return t, nil, err
	}
	for _, x := range p.again {
		run.names.learn(x.account, map[string]string{x.was: x.is})
	}
	now := linesOf(surveyed, p.Draft.Changes(), false)
	believed := make(map[ident][]content) // the last state, and if its step's result is unknown also the one before
	for i := range p.Draft.Objects {
		o := run.names.object(p.Draft.Objects[i])
		at := ident{o.Account, o.Kind, o.ID}
		t.touched[at] = o
		was, err := contentOf(o.Before)
		if err != nil {
			return t, nil, err
		}
		believed[at] = []content{was}
	}
	for n, lane := range p.Draft.Lanes {
		for k := range lane.Steps {
			s, at := &lane.Steps[k], [2]int{n + 1, k + 1}
			if !run.done[at] && run.unsure[at].IsZero() {
				break
			}
			if err := t.follow(run, s, at, now, believed); err != nil {
				return t, nil, err
			}
		}
	}
	for at, contents := range believed {
		lines, there := now[at]
		if !there {
			if contents[len(contents)-1].kind != "" {
				moved = append(moved, movedThing{at, fmt.Sprintf("the %s %s of %s is gone", at.kind, contents[0].name,
					at.account)})
			}
			continue
		}
		is, err := contentOf(lines)
		if err != nil {
			return t, nil, err
		}
		if !slices.ContainsFunc(contents, is.equal) {
			moved = append(moved, movedThing{at, fmt.Sprintf("the %s %s of %s", at.kind, contents[0].name, at.account)})
		}
	}
	slices.SortFunc(moved, func(a, b movedThing) int { return strings.Compare(a.says, b.says) })
	return t, moved, nil
}

// follow notes what a step did, or may have done.
func (t *trail) follow(run *Run, s *Step, step [2]int, now lines, believed map[ident][]content) error {
	request, done := run.names.request(s.Request), run.done[step]
	if of := request.Of(); of.Kind != "" {
		at := ident{request.Account, of.Kind, of.ID}
		had, known := believed[at]
		if !known {
			return nil // the answer to the request that made it was lost
		}
		next, err := had[len(had)-1].after(request)
		if err != nil {
			return err
		}
		if request.Do.Deletes() {
			next = content{name: next.name}
		}
		if done {
			believed[at] = []content{next}
		} else {
			believed[at] = append(had, next)
			is, err := contentOf(now[at])
			t.waits = t.waits || err == nil && !is.equal(next) || now[at] == nil && next.kind != ""
		}
		return nil
	}
	kind := request.Do.Of()
	if done {
		at := ident{request.Account, kind, request.ID}
		now, err := run.names.made(s, request)
		t.made[at], believed[at] = true, []content{now}
		return err
	}
	// It may have been made although the answer was lost: then it bears the step's own writing.
	for at, lines := range now {
		var l line
		if at.account == request.Account && at.kind == kind && json.Unmarshal(lines[0], &l) == nil &&
			l.madeBy() == run.madeBy(step) {
			t.made[at] = true
			return nil
		}
	}
	t.waits = true
	return nil
}

// MayHaveMade reports whether a run that was broken off may have made a group or list that it does not know of.
func (p *Past) MayHaveMade() bool {
	return slices.ContainsFunc(slices.Collect(maps.Keys(unsureSteps(p.Entries, p.Alive))), func(at [2]int) bool {
		s := p.Draft.step(at[0], at[1])
		return s != nil && s.Do.Makes()
	})
}

// FindMade looks in a survey for what a run that was broken off may have made although no answer told: what bears the
// step's own writing. It is noted as made.
func (p *Past) FindMade(surveyed *estate.Estate, journal Journal, now time.Time) error {
	run := &Run{Name: p.Name}
	there := linesOf(surveyed, p.Draft.Changes(), false)
	for at := range unsureSteps(p.Entries, p.Alive) {
		s := p.Draft.step(at[0], at[1])
		if s == nil || !s.Do.Makes() {
			continue
		}
		for is, lines := range there {
			var l line
			if is.account != s.Account || is.kind != s.Do.Of() || json.Unmarshal(lines[0], &l) != nil ||
				l.madeBy() != run.madeBy(at) {
				continue
			}
			e, err := journal.Append(now, p.Name, Done, Result{Lane: at[0], Step: at[1],
				IDs: map[string]string{s.ID: is.id}, Found: true})
			if err != nil {
				return err
			}
			p.Entries = append(p.Entries, e)
			break
		}
	}
	return nil
}
