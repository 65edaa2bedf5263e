package work

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"isonomos/core/audit"
	"isonomos/core/estate"
	"isonomos/store"
)

// Kept results of audits: what holds, and since when. What does not change is kept once.

// A Keeping is what a kept audit has in common with the one before.
type Keeping struct {
	Since       map[string]time.Time // of each finding, by its fingerprint
	New, Ended  int
	First       bool // there was none before
	LeftUnknown int  // findings of accounts that were not read: whether they still hold is not known
}

// A keptFinding is a finding in the store.
type keptFinding struct {
	Check    string `json:"check"`
	Severity string `json:"severity"`
	Where    string `json:"where"`
	Message  string `json:"message"`
}

// KeepAudit keeps the findings of an audit in a store. Audits that were asked for something else are kept apart: as
// says what this one was asked for. Findings of accounts that could not be read stay as they were.
func KeepAudit(ctx context.Context, s *store.Store, as any, found []audit.Finding, surveyed *estate.Estate,
	now time.Time) (Keeping, error) {
	text, err := json.Marshal(as)
	if err != nil {
		return Keeping{}, err
	}
	source := "audit " + string(text)
	before, err := s.Holding(ctx, source, true)
	if err != nil {
		return Keeping{}, unreachable("what was kept can't be read: %w", err)
	}
	k := Keeping{Since: make(map[string]time.Time), First: len(before) == 0}
	known := make(map[string]store.Held)
	for _, h := range before {
		if h.Until.IsZero() {
			known[h.Key] = h
		}
	}
	var round store.Round
	for _, f := range found {
		if _, twice := k.Since[f.Fingerprint]; twice {
			continue
		}
		k.Since[f.Fingerprint] = now
		if h, there := known[f.Fingerprint]; there {
			k.Since[f.Fingerprint] = h.Since
			delete(known, f.Fingerprint)
			continue
		}
		k.New++
		body, err := json.Marshal(keptFinding{f.Check, f.Severity.String(), f.Where(), f.Message})
		if err != nil {
			return k, err
		}
		account := ""
		if f.Account != nil {
			account = f.Account.Name
		}
		round.Began = append(round.Began, store.Held{Source: source, Account: account, Key: f.Fingerprint, Since: now,
			Body: body})
	}
	for _, h := range before {
		if _, gone := known[h.Key]; !gone || !h.Until.IsZero() {
			continue
		}
		if isUnknown(surveyed, h.Account) {
			k.LeftUnknown++
			continue
		}
		h.Until = now
		k.Ended++
		round.Ended = append(round.Ended, h)
	}
	if err := s.Record(ctx, round); err != nil {
		return k, unreachable("%w", err)
	}
	return k, nil
}

// isUnknown reports whether nothing is known of an account: it was not read, or may be of a cloud of which nothing was.
func isUnknown(surveyed *estate.Estate, account string) bool {
	return slices.ContainsFunc(surveyed.Unread, func(u estate.Unread) bool {
		if u.Cloud == "" {
			return u.Account == account
		}
		return account != u.Name() &&
			!slices.ContainsFunc(surveyed.Accounts, func(a *estate.Account) bool { return a.Name == account })
	})
}
