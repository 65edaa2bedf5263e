package work

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"isonomos/cloud"
	"isonomos/core/change"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/pass"
	"isonomos/enact"
	"isonomos/nomos"
	"isonomos/store"
)

// Passes: access that is lent for a while. What each one opens is journalled, with its end, before the door is opened;
// whatever is done to passes of an account first ends those that are over, or whose issuing was broken off.

// A Lender opens and shuts passes.
type Lender struct {
	Definitions nomos.Definitions
	Store       *store.Store
	Surveyor    Surveyor
	By          string // who asks
	Now         func() time.Time
	Note        func(format string, a ...any)
}

// A PassView is what is known of passes in some accounts: from the journal and from the clouds as they are.
type PassView struct {
	Surveyed *estate.Estate
	Estate   *estate.Estate // the definitions on it
	Found    []*pass.Found
	Known    map[string]*pass.Known
	Knows    enact.Known // groups and lists that the journal has made or adopted
	Order    []string    // of the known ones
	At       time.Time   // the latest of the own clock, the clouds' and the journal's
	Own      time.Time
	Latest   time.Time               // of the journal
	Callers  map[string]cloud.Caller // by account
}

// Look surveys accounts, with those whose networks are peered with theirs, and finds passes there.
func (l Lender) Look(ctx context.Context, accounts []string) (*PassView, error) {
	v := &PassView{Callers: make(map[string]cloud.Caller)}
	reach, told := l.Surveyor.byAccount(ctx), make(map[cloud.Cloud]cloud.Caller)
	for _, name := range accounts {
		from, err := reach(name)
		if err != nil {
			return nil, unreachable("%w", err)
		}
		caller, asked := told[from]
		if !asked {
			if caller, err = from.Who(ctx, name); err != nil {
				return nil, unreachable("the account %s can't be reached: %w", name, err)
			}
			told[from] = caller
		}
		v.Callers[name] = caller
	}
	var text bytes.Buffer
	if err := l.read(ctx, accounts, &text); err != nil {
		return nil, err
	}
	if more := peeredAccounts(text.Bytes(), accounts, l.Definitions.Estate); len(more) > 0 {
		text.Reset()
		if err := l.read(ctx, slices.Concat(accounts, more), &text); err != nil {
			return nil, err
		}
	}
	var err error
	if v.Surveyed, _, err = store.ReadSurvey(&text, "the clouds"); err != nil {
		return nil, err
	}
	if err := notSurveyed(v.Surveyed, accounts); err != nil {
		return nil, unreachable("%w", err)
	}
	if v.Known, v.Order, v.Latest, err = enact.Passes(l.Store.Journal); err != nil {
		return nil, refused("%w", err)
	}
	pasts, err := enact.Pasts(l.Store.Journal)
	if err != nil {
		return nil, refused("%w", err)
	}
	v.Knows = enact.KnownFrom(pasts)
	v.Own = l.Now()
	v.At = v.Own
	for _, c := range v.Callers {
		if c.Date.After(v.At) {
			v.At = c.Date
		}
	}
	if v.Latest.After(v.At) {
		v.At = v.Latest
	}
	v.Estate, _, _ = estate.Overlay(l.Definitions.Estate, v.Surveyed, v.Knows.Has)
	v.Found = pass.Find(v.Estate, v.Surveyed, l.Definitions.Estate.Name, v.Known, v.At)
	return v, nil
}

// read surveys accounts and only these.
func (l Lender) read(ctx context.Context, accounts []string, w io.Writer) error {
	s := l.Surveyor
	s.Accounts, s.Clouds = accounts, nil
	for _, x := range s.Definitions.Accounts {
		if slices.Contains(accounts, x.Name) && !slices.Contains(s.Clouds, x.Cloud.Name) {
			s.Clouds = append(s.Clouds, x.Cloud.Name)
		}
	}
	plan, err := s.Plan(ctx)
	if err != nil {
		return err
	}
	_, err = plan.Read(ctx, w)
	return err
}

// peeredAccounts are the other accounts with networks that are peered with those in a survey.
func peeredAccounts(survey []byte, but []string, defined *estate.Estate) []string {
	var names []string
	for line := range bytes.Lines(survey) {
		var n struct {
			Kind  string
			Peers []json.RawMessage
		}
		if !bytes.Contains(line, []byte(`"network"`)) || json.Unmarshal(line, &n) != nil || n.Kind != "network" {
			continue
		}
		for _, text := range n.Peers {
			var p struct{ Account string }
			if json.Unmarshal(text, &p) != nil {
				continue
			}
			known := slices.ContainsFunc(defined.Accounts, func(x *estate.Account) bool { return x.Name == p.Account })
			if known && !slices.Contains(but, p.Account) && !slices.Contains(names, p.Account) {
				names = append(names, p.Account)
			}
		}
	}
	return names
}

// ended says why a found pass is to be shut, or is empty.
func (v *PassView) ended(f *pass.Found) string {
	switch f.State {
	case pass.Overdue:
		return "over"
	case pass.Broken:
		return "its issuing was broken off"
	}
	return ""
}

// A passChange is what is done to the passes of an account, beside ending what is over.
type passChange struct {
	end    map[string]string      // passes to be shut, and why
	add    *pass.Found            // a pass to be opened
	extend map[string]*pass.Found // passes with a new end
	before func(run string) error // writes the journal before anything is changed
	check  func(v *PassView, c lendingCheck) error
	opened string // the pass that is open afterwards
	// leave are passes that are over and stay for now, since they could not be shut.
	leave map[string]bool
}

// lendingCheck is what a change of passes is judged by.
type lendingCheck struct {
	aim  *change.Aim
	bare *estate.Estate // the clouds without any pass
}

// stays are the passes of an account that are open after a change, those that share another one's rules among them.
func (v *PassView) stays(account string, c *passChange) []*pass.Found {
	var open []*pass.Found
	there := make(map[string]bool)
	for _, f := range v.Found {
		there[f.ID] = true
		switch {
		case f.Account != account || v.ended(f) != "" || f.State == pass.Unlent || c.end[f.ID] != "":
		case c.extend[f.ID] != nil:
			open = append(open, c.extend[f.ID])
		default:
			open = append(open, f)
		}
	}
	for _, id := range v.Order {
		k := v.Known[id]
		if there[id] || k.Account != account || !k.Ended.IsZero() || !k.Open || !k.Until.After(v.At) ||
			c.end[id] != "" {
			continue
		}
		for _, f := range v.Found {
			if f.Lend != nil && f.Same(&k.Pass) {
				shared := &pass.Found{Pass: k.Pass, State: pass.Open, Lend: f.Lend, Known: true}
				if c.extend[id] != nil {
					shared = c.extend[id]
				}
				open = append(open, shared)
				break
			}
		}
	}
	if c.add != nil {
		open = append(open, c.add)
	}
	return open
}

// errNotThere says that nothing was found of a pass that should be open.
var errNotThere = errors.New("is not open any more")

// shares reports whether a pass opens the same as one that was found.
func (v *PassView) shares(f *pass.Found) bool {
	return slices.ContainsFunc(v.Found, func(x *pass.Found) bool { return x.Same(&f.Pass) })
}

// missing reports whether nothing was found of a pass that is open by the journal, and is to be shut.
func (v *PassView) missing(account string, c *passChange) bool {
	for id := range c.end {
		k := v.Known[id]
		if k == nil || !k.Open || k.Account != account {
			continue
		}
		if !slices.ContainsFunc(v.Found, func(f *pass.Found) bool { return f.ID == id || f.Same(&k.Pass) }) {
			return true
		}
	}
	return false
}

// lending is what a change asks of the clouds.
func (v *PassView) lending(name, account string, c *passChange) change.Lending {
	stay := v.stays(account, c)
	all := make([]*pass.Pass, len(stay))
	for i, f := range stay {
		all[i] = &f.Pass
	}
	needed := pass.Later(all)
	l := change.Lending{Name: name, Knows: v.Knows.Has, Gone: make(map[*estate.Rule]bool),
		Drop: make(map[*estate.Group]bool)}
	texts, lives := make(map[string]bool), make(map[string]bool)
	for _, f := range stay {
		lives[f.ID] = true
		if slices.Contains(needed, &f.Pass) {
			l.Open = append(l.Open, f)
			texts[f.Text()] = true
		}
	}
	adds := make(map[string]bool)
	if c.add != nil {
		adds[c.add.ID] = true
	}
	for id := range c.extend {
		adds[id] = true
	}
	for _, f := range v.Found {
		if f.Account != account {
			continue
		}
		unlent := f.State == pass.Unlent && c.end[f.ID] == "" || c.leave[f.ID] // the next draft ends it
		for _, p := range f.Rules {
			if !unlent && !texts[p.Rule.Description] {
				l.Gone[p.Rule] = true
			}
		}
		for _, g := range f.Groups {
			if !unlent && !lives[f.ID] {
				l.Drop[g] = true
			}
		}
		for _, o := range l.Open { // a pass whose rule goes is followed by the one that shared it
			adds[o.ID] = adds[o.ID] || len(f.Rules) > 0 && o.Same(&f.Pass)
		}
	}
	l.Adds = func(id string) bool { return adds[id] }
	return l
}

// settle changes the passes of an account: what decide wants, after a look at the account that is locked meanwhile;
// and whatever is over is shut. held says that the account is locked already.
func (l Lender) settle(ctx context.Context, account string, held bool,
	decideOn func(v *PassView) (*passChange, error)) (*PassView, *enact.Draft, error) {
	run := &enact.Run{Name: runName(l.Now()), Journal: l.Store, Now: l.Now, Jobs: 1, Clouds: l.Surveyor.byAccount(ctx),
		Slow: l.Surveyor.Slow}
	if !held {
		locked, still, unlock, err := lock(ctx, l.Store, []string{account}, run.Name, l.Note)
		if err != nil {
			return nil, nil, err
		}
		defer unlock()
		ctx, run.Held = locked, still
	}
	var v *PassView
	var c *passChange
	err := lookAgain(ctx, func() (again bool, err error) { // an answer may be stale
		if v, err = l.Look(ctx, []string{account}); err != nil {
			return false, err
		}
		c, err = decideOn(v)
		return errors.Is(err, errNotThere) || err == nil && v.missing(account, c), err
	})
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return v, nil, err
	}
	name := l.Definitions.Estate.Name
	lending := v.lending(name, account, c)
	aim, err := change.NewLending(l.Definitions.Estate, v.Surveyed, lending)
	if err != nil {
		return v, nil, l.unfit(v, account, c, err)
	}
	plan, err := change.NewPlan(aim)
	if err != nil {
		return v, nil, refused("%w", err)
	}
	gaps := slices.ContainsFunc(plan.Lanes, func(x change.Lane) bool { return len(x.Gaps) > 0 })
	if gaps && c.add != nil && !v.shares(c.add) { // else it is a pass whose rule is made anew
		return v, nil, refused("to make room for it, something that is let through would be stopped for a moment")
	}
	if c.check != nil {
		bare, err := l.withoutAny(v)
		if err != nil {
			return v, nil, refused("%w", err)
		}
		if err := c.check(v, lendingCheck{aim, bare}); err != nil {
			return v, nil, err
		}
	}
	if c.before != nil {
		if err := c.before(run.Name); err != nil {
			return v, nil, unreachable("%w", err)
		}
	}
	var d enact.Draft
	if plan.Steps() > 0 {
		d = l.draft(v, aim, plan, account, c)
		run.Draft = &d
		if _, err := l.Store.Append(l.Now(), run.Name, enact.Begin, d); err != nil {
			return v, nil, unreachable("%w", err)
		}
		run.Prove = func(ctx context.Context, _ int, _ []string) error { return l.arrived(ctx, account, c) }
		if err := run.Do(ctx); err != nil {
			return v, &d, err
		}
	}
	return v, &d, l.noted(run.Name, v, account, c)
}

// withoutAny is what the clouds would be without any pass.
func (l Lender) withoutAny(v *PassView) (*estate.Estate, error) {
	none := change.Lending{Name: l.Definitions.Estate.Name, Knows: v.Knows.Has,
		Adds: func(string) bool { return false },
		Gone: make(map[*estate.Rule]bool),
		Drop: make(map[*estate.Group]bool)}
	for _, f := range v.Found {
		for _, p := range f.Rules {
			none.Gone[p.Rule] = true
		}
		for _, g := range f.Groups {
			none.Drop[g] = true
		}
	}
	aim, err := change.NewLending(l.Definitions.Estate, v.Surveyed, none)
	if err != nil {
		return nil, err
	}
	return aim.Then, nil
}

// draft is a change of passes as a draft, for the journal.
func (l Lender) draft(v *PassView, aim *change.Aim, plan change.Plan, account string, c *passChange) enact.Draft {
	d := enact.NewDraft(plan, aim, enact.Waves{}, draftWords(aim.Then))
	d.Made, d.By, d.EnactedBy = l.Now().UTC().Truncate(time.Second), l.By, l.By
	d.Surveyed, d.Accounts = v.Surveyed.Taken.UTC().Format(time.RFC3339), []string{account}
	d.Traffic = draftTraffic(aim.Then, change.Compare(decide.New(aim.Now), decide.New(aim.Then)))
	d.Passes = []string{}
	note := func(id string) {
		if !slices.Contains(d.Passes, id) {
			d.Passes = append(d.Passes, id)
		}
	}
	for _, f := range v.Found {
		if f.Account == account && !c.leave[f.ID] && (v.ended(f) != "" || c.end[f.ID] != "" || c.extend[f.ID] != nil) {
			note(f.ID)
		}
	}
	if c.add != nil {
		note(c.add.ID)
	}
	if len(d.Passes) == 0 {
		d.Passes = append(d.Passes, c.opened)
	}
	d.Seal = d.Sealed()
	return d
}

// arrived proves, on a new survey, that nothing is left to do.
func (l Lender) arrived(ctx context.Context, account string, c *passChange) error {
	err := lookAgain(ctx, func() (again bool, err error) {
		v, err := l.Look(ctx, []string{account})
		if err != nil {
			return false, err
		}
		if c.add != nil { // it is known as broken off until it is noted as open
			v.alive(c.add.ID)
		}
		aim, err := change.NewLending(l.Definitions.Estate, v.Surveyed,
			v.lending(l.Definitions.Estate.Name, account, c))
		if err != nil {
			return false, err
		}
		plan, err := change.NewPlan(aim)
		if err != nil || plan.Steps() == 0 {
			return false, err
		}
		return true, fmt.Errorf("there is more to be done: %s; somebody else has changed it, %w",
			enact.Says(&plan.Lanes[0].Steps[0], aim.Then.Services), enact.ErrOvertaken)
	})
	if err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

// alive takes a pass as open whose opening is not noted yet.
func (v *PassView) alive(id string) {
	v.Found = slices.DeleteFunc(v.Found, func(f *pass.Found) bool { return f.ID == id && f.State == pass.Broken })
}

// noted writes into the journal what has become of passes.
func (l Lender) noted(run string, v *PassView, account string, c *passChange) error {
	note := func(kind, id, why string) error {
		if _, err := l.Store.Append(l.Now(), run, kind, enact.PassNote{ID: id, Why: why, By: l.By}); err != nil {
			return unreachable("%w", err)
		}
		return nil
	}
	found := make(map[string]bool)
	for _, f := range v.Found {
		found[f.ID] = true
		why := v.ended(f)
		if text := c.end[f.ID]; text != "" {
			why = text
		}
		if f.Account == account && why != "" && !c.leave[f.ID] {
			if err := note(enact.PassEnded, f.ID, why); err != nil {
				return err
			}
		}
	}
	lives := make(map[string]bool)
	for _, f := range v.stays(account, c) {
		lives[f.ID] = true
	}
	for _, id := range v.Order { // those of which nothing is there
		k := v.Known[id]
		if found[id] || lives[id] || k.Account != account || !k.Ended.IsZero() {
			continue
		}
		why := "somebody else has removed its rule"
		switch {
		case c.end[id] != "":
			why = c.end[id]
		case !k.Until.After(v.At):
			why = "over"
		case !k.Open:
			why = "it was never opened"
		}
		if err := note(enact.PassEnded, id, why); err != nil {
			return err
		}
	}
	if c.opened != "" {
		return note(enact.PassOpened, c.opened, "")
	}
	return nil
}

// unfit says of a pass that has no room what would fit.
func (l Lender) unfit(v *PassView, account string, c *passChange, err error) error {
	var full *change.FullError
	var crowded *change.NoRoomError
	switch {
	case errors.As(err, &full) && c.add != nil:
		return refused("%w. A pass at one instance, such as %s, has a group of its own", full,
			v.firstInstance(c.add.Group))
	case errors.As(err, &crowded) && c.add != nil:
		n := len(v.instancesOf(c.add.Group))
		return refused("%w: a pass at one instance needs a group of its own. Without that it would open at %s of %s",
			crowded, count.Of(n, "instance", "instances"), c.add.Group)
	}
	return refused("%w", err)
}

func (v *PassView) instancesOf(group string) []*estate.Instance {
	var all []*estate.Instance
	for _, i := range v.Estate.Instances {
		if slices.ContainsFunc(i.Interfaces, func(f *estate.Interface) bool {
			return slices.ContainsFunc(f.Groups, func(g *estate.Group) bool { return g.Path() == group })
		}) {
			all = append(all, i)
		}
	}
	return all
}

func (v *PassView) firstInstance(group string) string {
	if all := v.instancesOf(group); len(all) > 0 {
		return all[0].Name
	}
	return "INSTANCE"
}

// newBreaches are the laws that a change would break and that hold without it, in words.
func (l Lender) newBreaches(v *PassView, c lendingCheck) []string {
	broken := func(e *estate.Estate, rebase func([]estate.Peer) []estate.Peer) map[string]string {
		all := make(map[string]string)
		verdicts, _ := law.Judge(decide.New(e), law.RebaseLaws(l.Definitions.Laws, rebase),
			l.Definitions.Exemptions, v.At)
		for _, verdict := range verdicts {
			for _, b := range verdict.Breaches {
				if b.Exemption == nil && b.Lacks == "" {
					all[verdict.Name+"\n"+b.Group.Path()+"\n"+b.Text] = fmt.Sprintf(
						"the law %s would be broken by %s: %s", verdict.Name, b.Group.Path(), b.Text)
				}
			}
		}
		return all
	}
	before, after := broken(c.aim.Now, c.aim.ToNow), broken(c.aim.Then, c.aim.ToThen)
	var texts []string
	for k, text := range after {
		if before[k] == "" {
			texts = append(texts, text)
		}
	}
	slices.Sort(texts)
	return texts
}

// passAccounts are the accounts in which passes can be: those of groups with lends, and those of open passes.
func (l Lender) passAccounts(known map[string]*pass.Known) []string {
	var names []string
	for _, g := range l.Definitions.Estate.Groups {
		if len(g.Lends) > 0 && !slices.Contains(names, g.Account.Name) {
			names = append(names, g.Account.Name)
		}
	}
	for _, k := range known {
		defined := slices.ContainsFunc(l.Definitions.Estate.Accounts,
			func(x *estate.Account) bool { return x.Name == k.Account })
		if k.Ended.IsZero() && defined && !slices.Contains(names, k.Account) {
			names = append(names, k.Account)
		}
	}
	slices.Sort(names)
	return names
}
