package work

import (
	"context"
	"slices"
	"time"

	"isonomos/cloud"
	"isonomos/core/estate"
	"isonomos/enact"
	"isonomos/store"
)

// CloudAccounts reaches a cloud and lists its accounts: those that it shows. Those that are defined and that it does
// not show are in unread.
func (s Surveyor) CloudAccounts(ctx context.Context, x *estate.Cloud) (from cloud.Cloud, accounts []string,
	unread []estate.Unread, err error) {
	list, err := s.accountsOf(ctx, x)
	for _, a := range list {
		if a.cloud != "" { // it is told by the error
			continue
		}
		if a.from == nil {
			unread = append(unread, estate.Unread{Account: a.account, Reason: a.reason})
			continue
		}
		from, accounts = a.from, append(accounts, a.account)
	}
	if err != nil {
		return nil, nil, unread, err
	}
	return from, accounts, unread, nil
}

// WatchLease is the name of the lease for watching an account.
func WatchLease(account string) string { return "watching " + account }

// Watch takes the lease for watching accounts: nobody else watches them until release is called. It is apart from the
// locks of those who write. If it is lost, the returned context ends.
func Watch(ctx context.Context, s *store.Store, accounts []string, run string, note func(string, ...any)) (
	leased context.Context, release func(), err error) {
	names := make([]string, len(accounts))
	for i, name := range accounts {
		names[i] = WatchLease(name)
	}
	leased, _, release, err = lock(ctx, s, names, run, note)
	return leased, release, err
}

// Runs are what a journal tells, as far as watching has to know it.
type Runs struct{ enact.Now }

// clockSlack is how much the clocks of a cloud and of this machine may differ.
const clockSlack = time.Minute

// BrokenOff reports whether a run was broken off in an account: what it lets through is neither what was decided nor
// what was there before.
func (r Runs) BrokenOff(account string) bool {
	return slices.ContainsFunc(r.Spans, func(x enact.Span) bool {
		return x.Open && slices.Contains(x.Accounts,
			account)
	})
}

// KeptBy is the last run that put something back in an account, or enforced a law there, after a time; empty if there
// is none. The group, by id or full name, may be empty where it is about instances, and no law.
func (r Runs) KeptBy(account, id, place, law string, since time.Time) string {
	for _, x := range slices.Backward(r.Spans) {
		u := x.Upholds
		if u == nil || !slices.Contains(x.Accounts, account) || x.From.Before(since) || len(x.Did) == 0 {
			continue
		}
		about := id == "" && law == "" || x.Did[[2]string{account, id}]
		for of, path := range u.Places {
			about = about || path == place && x.Did[[2]string{account, of}]
		}
		if about && (law == "" || slices.Contains(u.Laws, law)) {
			return x.Name
		}
	}
	return ""
}

// Changed reports whether a rule of an account was changed at a time by a run.
func (r Runs) Changed(account, rule string, at time.Time) bool {
	return slices.ContainsFunc(r.Spans, func(x enact.Span) bool {
		return x.Rules[rule] && slices.Contains(x.Accounts, account) && lasted(x, at)
	})
}

// lasted reports whether a run was under way at a time, by clocks that may differ.
func lasted(x enact.Span, at time.Time) bool {
	return !at.Before(x.From.Add(-clockSlack)) && (x.To.IsZero() || !at.After(x.To.Add(clockSlack)))
}

// Within reports whether an object of an account was changed at a time by a run, or may have been.
func (r Runs) Within(account, id string, at time.Time) bool {
	for _, x := range r.Spans {
		if slices.Contains(x.Accounts, account) && lasted(x, at) &&
			(x.Objects[[2]string{account, id}] || r.Knows.Has(account, "group", id) || r.Knows.Has(account, "list",
				id)) {
			return true
		}
	}
	return false
}
