package work

import (
	"context"
	"fmt"
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

// Runs are the runs of a journal, as far as watching has to know them.
type Runs struct {
	Knows enact.Known
	spans []span
}

// A span is the time of a run, and what it changes.
type span struct {
	accounts []string
	objects  map[[2]string]bool // account and id
	from, to time.Time          // to is zero while it lasts
	open     bool               // it was broken off
}

// clockSlack is how much the clocks of a cloud and of this machine may differ.
const clockSlack = time.Minute

// RunsOf finds the runs in a journal.
func RunsOf(journal func(func(store.Entry) error) error) (Runs, error) {
	pasts, err := enact.Pasts(journal)
	if err != nil {
		return Runs{}, refused("%w", err)
	}
	r := Runs{Knows: enact.KnownFrom(pasts)}
	for _, p := range pasts {
		x := span{accounts: p.Draft.Changes(), objects: make(map[[2]string]bool), open: p.Open()}
		for _, o := range p.Draft.Objects {
			x.objects[[2]string{o.Account, o.ID}] = true
		}
		for i, e := range p.Entries {
			at, err := time.Parse(time.RFC3339Nano, e.At)
			if err != nil {
				return r, fmt.Errorf("entry %d of the journal: %w", e.Number, err)
			}
			if i == 0 {
				x.from = at
			}
			x.to = at
		}
		if p.Ended == nil {
			x.to = time.Time{}
		}
		r.spans = append(r.spans, x)
	}
	return r, nil
}

// Open reports whether a run was broken off in an account: what it lets through is neither what was decided nor what
// was there before.
func (r Runs) Open(account string) bool {
	return slices.ContainsFunc(r.spans, func(x span) bool { return x.open && slices.Contains(x.accounts, account) })
}

// Within reports whether an object of an account was changed at a time by a run, or may have been.
func (r Runs) Within(account, id string, at time.Time) bool {
	for _, x := range r.spans {
		if slices.Contains(x.accounts, account) && !at.Before(x.from.Add(-clockSlack)) &&
			(x.to.IsZero() || !at.After(x.to.Add(clockSlack))) &&
			(x.objects[[2]string{account, id}] || r.Knows.Has(account, "group", id) || r.Knows.Has(account, "list",
				id)) {
			return true
		}
	}
	return false
}
