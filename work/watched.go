package work

import (
	"context"
	"fmt"
	"slices"
	"time"

	"isonomos/cloud"
	"isonomos/core/estate"
	"isonomos/core/pass"
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

// Runs are what a journal tells, as far as watching has to know it.
type Runs struct {
	Knows  enact.Known
	Passes map[string]*pass.Known
	Upheld *enact.Upheld
	Groups int // about which something was decided
	spans  []span
}

// A span is the time of a run, and what it changes.
type span struct {
	accounts []string
	objects  map[[2]string]bool // account and id
	from, to time.Time          // to is zero while it lasts
	rules    map[string]bool    // ids of those that it added or removed
	open     bool               // it was broken off
	name     string
	upholds  *enact.Upholds
}

// clockSlack is how much the clocks of a cloud and of this machine may differ.
const clockSlack = time.Minute

// RunsOf reads what the journal tells of an estate.
func RunsOf(estate string, journal func(func(store.Entry) error) error) (r Runs, err error) {
	var entries []store.Entry
	if err := journal(func(e store.Entry) error {
		entries = append(entries, e)
		return nil
	}); err != nil {
		return r, err
	}
	again := func(take func(store.Entry) error) error {
		for _, e := range entries {
			if err := take(e); err != nil {
				return err
			}
		}
		return nil
	}
	pasts, err := enact.Pasts(again)
	if err != nil {
		return r, refused("%w", err)
	}
	decided, err := enact.DecidedBy(estate, pasts)
	if err != nil {
		return r, refused("%w", err)
	}
	if r.Passes, _, _, err = enact.Passes(again); err != nil {
		return r, refused("%w", err)
	}
	if r.Upheld, err = enact.UpheldBy(again); err != nil {
		return r, refused("%w", err)
	}
	r.Knows, r.Groups = enact.KnownFrom(pasts), decided.Count()
	for _, p := range pasts {
		x := span{accounts: p.Draft.Changes(), objects: make(map[[2]string]bool), open: p.Open(), name: p.Name,
			upholds: p.Draft.Upholds}
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
		if x.rules, err = p.Rules(); err != nil {
			return r, refused("%w", err)
		}
		if p.Ended == nil {
			x.to = time.Time{}
		}
		r.spans = append(r.spans, x)
	}
	if len(entries) > 0 { // what is over for long is in everything that was judged since
		last, err := time.Parse(time.RFC3339Nano, entries[len(entries)-1].At)
		if err != nil {
			return r, err
		}
		r.spans = slices.DeleteFunc(r.spans, func(x span) bool {
			return !x.open && !x.to.IsZero() && x.to.Before(last.Add(-spansFor))
		})
	}
	return r, nil
}

// spansFor is how long runs are kept in mind that are at their end.
const spansFor = time.Hour

// Open reports whether a run was broken off in an account: what it lets through is neither what was decided nor what
// was there before.
func (r Runs) Open(account string) bool {
	return slices.ContainsFunc(r.spans, func(x span) bool { return x.open && slices.Contains(x.accounts, account) })
}

// KeptBy is the last run that put something back in an account, or enforced a law there, after a time; empty if there
// is none. The group, by id or full name, may be empty where it is about instances, and no law.
func (r Runs) KeptBy(account, id, place, law string, since time.Time) string {
	for _, x := range slices.Backward(r.spans) {
		u := x.upholds
		if u == nil || !slices.Contains(x.accounts, account) || x.from.Before(since) {
			continue
		}
		about := id == "" && law == "" || x.objects[[2]string{account, id}] || slices.Contains(u.Opened, place) ||
			slices.Contains(u.Shut, place)
		if about && (law == "" || slices.Contains(u.Laws, law)) {
			return x.name
		}
	}
	return ""
}

// Changed reports whether a rule of an account was changed at a time by a run.
func (r Runs) Changed(account, rule string, at time.Time) bool {
	return slices.ContainsFunc(r.spans, func(x span) bool {
		return x.rules[rule] && slices.Contains(x.accounts, account) && x.lasted(at)
	})
}

// lasted reports whether a run was under way at a time, by clocks that may differ.
func (x span) lasted(at time.Time) bool {
	return !at.Before(x.from.Add(-clockSlack)) && (x.to.IsZero() || !at.After(x.to.Add(clockSlack)))
}

// Within reports whether an object of an account was changed at a time by a run, or may have been.
func (r Runs) Within(account, id string, at time.Time) bool {
	for _, x := range r.spans {
		if slices.Contains(x.accounts, account) && x.lasted(at) &&
			(x.objects[[2]string{account, id}] || r.Knows.Has(account, "group", id) || r.Knows.Has(account, "list",
				id)) {
			return true
		}
	}
	return false
}
