package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/core/near"
	"isonomos/core/pass"
	"isonomos/enact"
)

// ErrEnded says that a pass is shut already.
var ErrEnded = errors.New("has ended already")

// endedAlready is the error of asking for something of a pass that has ended.
func endedAlready(k *pass.Known) error {
	return wrong("the pass %s %w, at %s: %s", k.ID, ErrEnded, k.Ended.UTC().Format(time.RFC3339), k.Why)
}

// noPass is the error of an id that no pass has: it names the nearest open one, or else says where none was found.
func noPass(id string, known map[string]*pass.Known, where string) error {
	var names []string
	for id, k := range known {
		if k.Ended.IsZero() {
			names = append(names, id)
		}
	}
	if best, ok := near.Best(id, names); ok {
		return wrong("no pass is called %q: %s is near", id, best)
	}
	return wrong("no pass is called %q%s", id, where)
}

// A Shut is a pass that was ended, or was to be.
type Shut struct {
	ID, Group, Why string
	There          bool // something of it stood in the cloud
}

// An Ending says which passes are to be shut: those with the given ids, all, or just those that are over.
type Ending struct {
	IDs []string
	All bool
	Why string // for the journal
}

// End shuts passes now. Whatever is over in the accounts of these is shut too.
func (l Lender) End(ctx context.Context, which Ending) ([]Shut, error) {
	ids, all := which.IDs, which.All
	known, order, _, err := enact.Passes(l.Store.Journal)
	if err != nil {
		return nil, refused("%w", err)
	}
	accounts := l.passAccounts(known)
	var unknown []string
	if len(ids) > 0 {
		accounts = nil
		for _, id := range ids {
			k := known[id]
			switch {
			case k == nil:
				unknown = append(unknown, id)
			case !k.Ended.IsZero():
				return nil, endedAlready(k)
			case !slices.Contains(accounts, k.Account):
				accounts = append(accounts, k.Account)
			}
		}
		if len(unknown) > 0 { // issued from elsewhere, or the journal is lost: the clouds may know it
			accounts = l.passAccounts(known)
		}
	}
	if len(ids) == 0 || len(unknown) > 0 { // one look at all says where there is something to do
		if accounts, err = l.withPasses(ctx, accounts); err != nil {
			return nil, err
		}
	}
	var shut []Shut
	met := make(map[string]bool)
	for _, account := range accounts {
		v, changed, err := l.end(ctx, account, false, func(v *PassView) (*passChange, error) {
			c := &passChange{end: make(map[string]string)}
			for _, f := range v.Found {
				if f.Account == account && (all || slices.Contains(ids, f.ID)) && v.ended(f) == "" {
					c.end[f.ID] = which.Why
				}
			}
			for _, id := range order {
				if k := known[id]; k.Account == account && k.Ended.IsZero() && (all || slices.Contains(ids, id)) {
					if c.end[id] = which.Why; !k.Until.After(v.At) {
						c.end[id] = "over"
					}
				}
			}
			return c, nil
		})
		if v != nil {
			for _, id := range ids {
				met[id] = met[id] || v.Known[id] != nil
			}
			for _, f := range v.Found {
				met[f.ID] = true
			}
		}
		if v != nil {
			shut = append(shut, v.shutOf(account, changed, ids, all)...)
		}
		if err != nil {
			return shut, err
		}
	}
	for _, id := range unknown {
		if !met[id] {
			return shut, noPass(id, known, ", neither in the journal nor in the clouds")
		}
	}
	return shut, nil
}

// withPasses are those of accounts in which there is a pass, or should be one.
func (l Lender) withPasses(ctx context.Context, accounts []string) ([]string, error) {
	if len(accounts) == 0 {
		return nil, nil
	}
	v, err := l.Look(ctx, accounts)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(slices.Clone(accounts), func(account string) bool {
		found := slices.ContainsFunc(v.Found, func(f *pass.Found) bool { return f.Account == account })
		for _, k := range v.Known {
			found = found || k.Account == account && k.Ended.IsZero()
		}
		return !found
	}), nil
}

// shutOf are the passes of an account that a change has ended.
func (v *PassView) shutOf(account string, c *passChange, ids []string, all bool) []Shut {
	var shut []Shut
	found := make(map[string]bool)
	for _, f := range v.Found {
		found[f.ID] = true
		why := v.ended(f)
		if why == "" && (all || slices.Contains(ids, f.ID)) {
			why = "ended"
		}
		if f.Account == account && why != "" && !c.leave[f.ID] {
			shut = append(shut, Shut{f.ID, f.Group, why, true})
		}
	}
	for _, id := range v.Order {
		k := v.Known[id]
		switch {
		case found[id] || k.Account != account || !k.Ended.IsZero():
		case all || slices.Contains(ids, id):
			shut = append(shut, Shut{id, k.Group, "ended", false})
		case !k.Until.After(v.At):
			shut = append(shut, Shut{id, k.Group, "over", false})
		}
	}
	return shut
}

// EndOver shuts what is over in an account. What could not be shut is not among it, and has an error.
func (l Lender) EndOver(ctx context.Context, account string) ([]Shut, error) {
	v, c, err := l.end(ctx, account, false, func(*PassView) (*passChange, error) { return &passChange{}, nil })
	if v == nil {
		return nil, err
	}
	return v.shutOf(account, c, nil, false), err
}

// Sweep shuts what is over in an account that is locked already. It reports how many passes that were.
func (l Lender) Sweep(ctx context.Context, account string) (int, error) {
	v, c, err := l.end(ctx, account, true, func(*PassView) (*passChange, error) { return &passChange{}, nil })
	if v == nil {
		return 0, err
	}
	return len(v.shutOf(account, c, nil, false)), err
}

// end is settle for what only shuts passes: one that can't be shut holds up no other. The view is nil if nothing was
// shut.
func (l Lender) end(ctx context.Context, account string, held bool,
	decideOn func(v *PassView) (*passChange, error)) (*PassView, *passChange, error) {
	leave := make(map[string]bool)
	var failed error // the first one
	for {
		var c *passChange
		v, _, err := l.settle(ctx, account, held, func(v *PassView) (*passChange, error) {
			var err error
			if c, err = decideOn(v); err == nil {
				c.leave = leave
			}
			return c, err
		})
		if err == nil {
			return v, c, failed
		}
		failed = cmp.Or(failed, err)
		at := v.failedAt(account, c, err)
		if ctx.Err() != nil || Busy(err) || !slices.ContainsFunc(at, func(id string) bool { return !leave[id] }) {
			return nil, nil, failed
		}
		for _, id := range at {
			leave[id] = true
		}
	}
}

// WhyStopped is why passes could not be shut, with the step at which that has stopped.
func WhyStopped(err error) string {
	if s := firstStop(err); s != nil {
		return whyAt(s)
	}
	return err.Error()
}

// firstStop is where a run stopped first, by its error; nil if it is not one of a run.
func firstStop(err error) *enact.Stop {
	var stopped *enact.StoppedError
	if !errors.As(err, &stopped) || len(stopped.Stops) == 0 {
		return nil
	}
	return &stopped.Stops[0]
}

func whyAt(s *enact.Stop) string { return fmt.Sprintf("%s: %v", s.Says, s.Err) }

// failedAt are the passes that could not be shut where a run has stopped.
func (v *PassView) failedAt(account string, c *passChange, err error) (ids []string) {
	stop := firstStop(err)
	if v == nil || stop == nil || stop.Object == "" {
		return nil
	}
	at := stop.Object
	is := func(g *estate.Group) bool { return g.ID == at }
	for _, i := range v.Surveyed.Instances {
		for _, f := range i.Interfaces {
			if f.ID == at && i.Account.Name == account {
				is = func(g *estate.Group) bool { return slices.Contains(f.Groups, g) }
			}
		}
	}
	for _, f := range v.Found {
		ends := v.ended(f) != "" || c.end[f.ID] != ""
		if f.Account == account && ends && (slices.ContainsFunc(f.Groups, is) ||
			slices.ContainsFunc(f.Rules, func(p pass.Place) bool { return p.Group.ID == at })) {
			ids = append(ids, f.ID)
		}
	}
	return ids
}

// Extend gives a pass a later end: counted from now, and never past its ceiling, which counts from its first opening.
// anew reports whether it was shut for a moment, since its cloud takes no second rule that says the same.
func (l Lender) Extend(ctx context.Context, id string, by time.Duration) (p *pass.Pass, anew bool, err error) {
	known, _, _, err := enact.Passes(l.Store.Journal)
	if err != nil {
		return nil, false, refused("%w", err)
	}
	k := known[id]
	switch {
	case k == nil:
		return nil, false, noPass(id, known, " in the journal: only what was issued from here can be extended")
	case !k.Ended.IsZero():
		return nil, false, endedAlready(k)
	}
	if by < time.Second {
		return nil, false, wrong("a pass is extended by at least a second")
	}
	_, d, err := l.settle(ctx, k.Account, false, func(v *PassView) (*passChange, error) {
		if err := v.clocksAgree(k.Account); err != nil {
			return nil, err
		}
		var f *pass.Found
		for _, x := range v.stays(k.Account, &passChange{}) {
			if x.ID == id {
				f = x
			}
		}
		if f == nil {
			return nil, refused("the pass %s %w: issue another one", id, errNotThere)
		}
		later := *f
		later.Until = v.At.UTC().Truncate(time.Second).Add(by.Truncate(time.Second))
		if most := f.Opened.Add(f.Lend.AtMost); later.Until.After(most) {
			return nil, wrong("%s from now is past the ceiling: %s was opened at %s, for at most %s, so until %s",
				count.Duration(by), id, f.Opened.UTC().Format(time.RFC3339), count.Duration(f.Lend.AtMost),
				most.UTC().Format(time.RFC3339))
		}
		if !later.Until.After(f.Until) && !f.Carried() {
			later.Until = f.Until // the journal has that end already, and the cloud has not
		} else if !later.Until.After(f.Until) {
			return nil, wrong("the pass %s is open until %s already, which is later", id,
				f.Until.UTC().Format(time.RFC3339))
		}
		p = &later.Pass
		return &passChange{extend: map[string]*pass.Found{id: &later}, opened: id,
			before: func(run string) error {
				_, err := l.Store.Append(l.Now(), run, enact.PassExtended,
					enact.PassNote{ID: id, Until: later.Until, By: l.By})
				return err
			}}, nil
	})
	if d != nil {
		anew = d.Gaps() > 0
	}
	return p, anew, err
}
