package work

import (
	"context"
	"slices"
	"time"

	"isonomos/core/estate"
	"isonomos/core/pass"
	"isonomos/core/service"
	"isonomos/enact"
)

// A Listed pass is one that is open, or was.
type Listed struct {
	pass.Pass
	State  pass.State // "" if it has ended
	Gone   bool       // the journal has it as open, and nothing of it is in the cloud
	Shared bool       // it has no rule of its own
	Known  bool
	Ended  time.Time
	Why    string
	Names  service.Names
}

// List are the passes in accounts (empty: all where there can be any), overdue ones first; with ended ones if they are
// asked for.
func (l Lender) List(ctx context.Context, accounts []string, ended bool) ([]Listed, time.Time, error) {
	known, order, _, err := enact.Passes(l.Store.Journal)
	if err != nil {
		return nil, time.Time{}, refused("%w", err)
	}
	if len(accounts) == 0 {
		accounts = l.passAccounts(known)
	}
	var all []Listed
	at := l.Now()
	if len(accounts) > 0 {
		v, err := l.Look(ctx, accounts)
		if err != nil {
			return nil, at, err
		}
		at = v.At
		there := make(map[string]bool)
		for _, f := range v.Found {
			there[f.ID] = true
			all = append(all, Listed{Pass: f.Pass, State: f.State, Known: f.Known, Names: v.Estate.Services})
		}
		for _, id := range order {
			k := v.Known[id]
			if there[id] || !k.Ended.IsZero() || !slices.Contains(accounts, k.Account) {
				continue
			}
			x := Listed{Pass: k.Pass, State: pass.Open, Known: true, Gone: true, Names: v.Estate.Services}
			for _, f := range v.Found {
				if f.State == pass.Open && f.Same(&k.Pass) {
					x.Gone, x.Shared = false, true
				}
			}
			if !k.Until.After(at) {
				x.State = pass.Overdue
			}
			all = append(all, x)
		}
	}
	place := map[pass.State]int{pass.Overdue: 0, pass.Broken: 1, pass.Unlent: 2, pass.Open: 3}
	slices.SortStableFunc(all, func(a, b Listed) int {
		if place[a.State] != place[b.State] {
			return place[a.State] - place[b.State]
		}
		return a.Until.Compare(b.Until)
	})
	if ended {
		for _, id := range slices.Backward(order) {
			if k := known[id]; !k.Ended.IsZero() {
				all = append(all, Listed{Pass: k.Pass, Known: true, Ended: k.Ended, Why: k.Why,
					Names: l.Definitions.Estate.Services})
			}
		}
	}
	return all, at, nil
}

// PassesOf finds the passes in a survey, and marks their rules. knows and known are what the journal
// has made and issued.
func PassesOf(defined, surveyed *estate.Estate, knows estate.Knows, known map[string]*pass.Known,
	now time.Time) []*pass.Found {
	if !AnyPass(surveyed) {
		return nil
	}
	e, _, _ := estate.Overlay(defined, surveyed, knows)
	return pass.Find(e, surveyed, defined.Name, known, now)
}

// AnyPass reports whether anything in a survey calls itself a pass.
func AnyPass(e *estate.Estate) bool {
	return slices.ContainsFunc(e.Groups, func(g *estate.Group) bool {
		if _, ok := pass.ParseGroup(g.Name); ok {
			return true
		}
		return slices.ContainsFunc(g.Rules, func(r estate.Rule) bool {
			_, _, ok := pass.Parse(r.Description)
			return ok
		})
	})
}
