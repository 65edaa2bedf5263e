package store

import (
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"
)

const journalSchema = `
create table if not exists journal (
  number integer primary key, -- from 1, without gaps
  at text not null,           -- RFC 3339, UTC
  run text not null,          -- which run of enact or repeal it belongs to
  kind text not null,         -- "begin", "intend", "done", "failed", "proved", "end"
  body text not null,         -- JSON
  hash text not null          -- SHA-256, in hex, of the hash before it and all of the above
);
create trigger if not exists journal_stays before update on journal
  begin select raise(abort, 'the journal is only ever added to'); end;
create trigger if not exists journal_keeps before delete on journal
  begin select raise(abort, 'the journal is only ever added to'); end;
create table if not exists lock (
  account text primary key,
  run text not null,
  holder text not null,       -- host and process
  until integer not null      -- seconds since 1970: it has to be renewed before
);
`

// An Entry is one entry of the journal.
type Entry struct {
	Number int             `json:"number"`
	At     string          `json:"at"`
	Run    string          `json:"run"`
	Kind   string          `json:"kind"`
	Body   json.RawMessage `json:"body"`
	Hash   string          `json:"hash"`
}

// hashAfter is the SHA-256 of an entry's fields and of the hash of the entry before, separated by
// line feeds. Only the body, which is last, can contain a line feed, so no two entries have the
// same input.
func (e Entry) hashAfter(before string) string {
	sum := sha256.Sum256([]byte(
		strings.Join([]string{before, fmt.Sprint(e.Number), e.At, e.Run, e.Kind, string(e.Body)}, "\n")))
	return hex.EncodeToString(sum[:])
}

// Append adds an entry to the journal. When it returns, the entry is on the disk.
func (s *Store) Append(at time.Time, run, kind string, body any) (Entry, error) {
	text, err := json.Marshal(body)
	if err != nil {
		return Entry{}, err
	}
	e := Entry{At: at.UTC().Format(time.RFC3339Nano), Run: run, Kind: kind, Body: text}
	tx, err := s.db.Begin()
	if err != nil {
		return e, fmt.Errorf("the journal can't be written: %w", err)
	}
	defer tx.Rollback() // does nothing after Commit
	before := ""
	err = tx.QueryRow("select number, hash from journal order by number desc limit 1").Scan(&e.Number, &before)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return e, fmt.Errorf("the journal can't be read: %w", err)
	}
	e.Number++
	e.Hash = e.hashAfter(before)
	if _, err := tx.Exec("insert into journal values (?, ?, ?, ?, ?, ?)", e.Number, e.At, e.Run, e.Kind,
		string(e.Body), e.Hash); err != nil {
		return e, fmt.Errorf("the journal can't be written: %w", err)
	}
	if err := tx.Commit(); err != nil {
		return e, fmt.Errorf("the journal can't be written: %w", err)
	}
	return e, nil
}

// Journal calls take for all entries in order and verifies their chain: an entry that was changed,
// removed or inserted is an error.
func (s *Store) Journal(take func(Entry) error) error {
	rows, err := s.db.Query("select number, at, run, kind, body, hash from journal order by number")
	if err != nil {
		return fmt.Errorf("the journal can't be read: %w", err)
	}
	defer rows.Close()
	before, last := "", 0
	for rows.Next() {
		var e Entry
		var body string
		if err := rows.Scan(&e.Number, &e.At, &e.Run, &e.Kind, &body, &e.Hash); err != nil {
			return fmt.Errorf("the journal can't be read: %w", err)
		}
		e.Body = json.RawMessage(body)
		if last++; e.Number != last || e.hashAfter(before) != e.Hash {
			return fmt.Errorf("the journal was tampered with: its chain breaks at entry %d", last)
		}
		before = e.Hash
		if err := take(e); err != nil {
			return err
		}
	}
	return rows.Err()
}

// A LockedError says which run is changing an account.
type LockedError struct {
	Account, Run, Holder string
}

func (e *LockedError) Error() string {
	return fmt.Sprintf("the account %s is being changed by another run (%s, %s)", e.Account, e.Run, e.Holder)
}

// Lock takes the locks of accounts for a run until a time, all of them or none. A lock that was not
// renewed in time, or whose holder is known to be dead, is taken over.
func (s *Store) Lock(accounts []string, run, holder string, now, until time.Time, dead func(holder string) bool) error {
	tx, err := s.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after Commit
	for _, account := range accounts {
		var has LockedError
		var till int64
		err := tx.QueryRow("select account, run, holder, until from lock where account = ?",
			account).Scan(&has.Account, &has.Run, &has.Holder, &till)
		switch {
		case errors.Is(err, sql.ErrNoRows):
		case err != nil:
			return err
		case has.Holder != holder && till > now.Unix() && !dead(has.Holder):
			return &has
		}
		if _, err := tx.Exec("insert or replace into lock values (?, ?, ?, ?)", account, run, holder,
			until.Unix()); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// Renew extends the locks of a holder. It reports whether all of them were still held.
func (s *Store) Renew(accounts int, run, holder string, until time.Time) (bool, error) {
	result, err := s.db.Exec("update lock set until = ? where run = ? and holder = ?", until.Unix(), run, holder)
	if err != nil {
		return false, err
	}
	n, err := result.RowsAffected()
	return int(n) == accounts, err
}

// Unlock releases the locks of a holder.
func (s *Store) Unlock(run, holder string) error {
	_, err := s.db.Exec("delete from lock where run = ? and holder = ?", run, holder)
	return err
}
