package store

import (
	"bytes"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"

	"isonomos/store/whole"
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
	known, err := s.knownHead()
	if err != nil {
		return e, err
	}
	if err := s.endsBefore(known, e.Number); err != nil {
		return e, err
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
	if err := s.keepHead(Head{Number: e.Number, Hash: e.Hash}); err != nil {
		return e, fmt.Errorf("the end of the journal can't be noted beside it: %w", err)
	}
	return e, nil
}

// A Head is an entry that a journal is known to have had. The first one tells journals apart.
type Head struct {
	First  string `json:"first,omitempty"` // hash of the first entry
	Number int    `json:"number"`
	Hash   string `json:"hash"`
}

// headFile is the file beside the store that keeps the journal's last entry: of a journal that was cut off,
// the chain alone would not tell.
func (s *Store) headFile() string { return s.path + ".head" }

// keepHead notes the last entry. It is put in place in one step; a crash may leave an older one.
func (s *Store) keepHead(h Head) error {
	text, err := json.Marshal(h)
	if err != nil {
		return err
	}
	return whole.Put(s.headFile(), string(text)+"\n", 0o600)
}

// knownHead is the entry that the journal is known to have had; its number is 0 if none is known.
func (s *Store) knownHead() (h Head, err error) {
	text, err := os.ReadFile(s.headFile())
	if errors.Is(err, fs.ErrNotExist) || err == nil && len(bytes.TrimSpace(text)) == 0 {
		return h, nil
	}
	if err != nil {
		return h, fmt.Errorf("what is known of the journal's end can't be read: %w", err)
	}
	if err := json.Unmarshal(text, &h); err != nil {
		return h, fmt.Errorf("%s does not say which entry the journal ends with: %w", s.headFile(), err)
	}
	return h, nil
}

// Head is the last entry of the journal; its number is 0 if there is none.
func (s *Store) Head() (h Head, err error) {
	err = s.db.QueryRow("select number, hash from journal order by number desc limit 1").Scan(&h.Number, &h.Hash)
	if errors.Is(err, sql.ErrNoRows) {
		return Head{}, nil
	}
	if err == nil {
		err = s.db.QueryRow("select hash from journal where number = 1").Scan(&h.First)
	}
	if err != nil {
		return h, fmt.Errorf("the journal can't be read: %w", err)
	}
	return h, nil
}

// Follows reports whether the journal has an entry that it is known to have had. A head of another journal is
// none of its business.
func (s *Store) Follows(h Head) (bool, error) {
	own, err := s.Head()
	if err != nil || h.Number == 0 || h.First != own.First {
		return err == nil, err
	}
	var hash string
	err = s.db.QueryRow("select hash from journal where number = ?", h.Number).Scan(&hash)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return false, fmt.Errorf("the journal can't be read: %w", err)
	}
	return hash == h.Hash, nil
}

// Journal calls take for all entries in order and verifies their chain: an entry that was changed,
// removed or inserted is an error, and so is an end before the entry that the journal is known to have had.
func (s *Store) Journal(take func(Entry) error) error {
	known, err := s.knownHead()
	if err != nil {
		return err
	}
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
		if e.Number == known.Number && e.Hash != known.Hash {
			return fmt.Errorf("the journal was tampered with: its entry %d is not the one that it is known to have "+
				"had", last)
		}
		if err := take(e); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	return s.endsBefore(known, last)
}

// endsBefore is the error of a journal that ends before an entry that it is known to have had.
func (s *Store) endsBefore(known Head, last int) error {
	if last >= known.Number {
		return nil
	}
	return fmt.Errorf("the journal ends with entry %d, and is known to have had %d (%s): its last entries are gone. "+
		"Put the store back from a copy that has them; if it was put back itself on purpose, remove %s", last,
		known.Number, s.headFile(), s.headFile())
}

// A LockedError says which run is changing an account.
type LockedError struct {
	Account, Run, Holder string
	Until                time.Time // it is a lease: then it has run out
}

func (e *LockedError) Error() string {
	return fmt.Sprintf("the account %s is being changed by another run (%s, %s)", e.Account, e.Run, e.Holder)
}

// Lock takes the locks of accounts for a run until a time, all of them or none. A lock that was not
// renewed in time, or whose holder is known to be dead, is taken over; one of another run of the same holder is not.
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
		case (has.Holder != holder || has.Run != run) && till > now.Unix() && !dead(has.Holder):
			has.Until = time.Unix(till, 0)
			return &has
		}
		if _, err := tx.Exec("insert or replace into lock values (?, ?, ?, ?)", account, run, holder,
			until.Unix()); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// LockOf is the lock of an account; the zero value if nobody has it.
func (s *Store) LockOf(account string) (has LockedError, err error) {
	var till int64
	err = s.db.QueryRow("select account, run, holder, until from lock where account = ?",
		account).Scan(&has.Account, &has.Run, &has.Holder, &till)
	if errors.Is(err, sql.ErrNoRows) {
		return LockedError{}, nil
	}
	has.Until = time.Unix(till, 0)
	return has, err
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

// Holds counts the locks of a holder.
func (s *Store) Holds(run, holder string) (n int, err error) {
	err = s.db.QueryRow("select count(*) from lock where run = ? and holder = ?", run, holder).Scan(&n)
	return n, err
}

// Unlock releases the locks of a holder.
func (s *Store) Unlock(run, holder string) error {
	_, err := s.db.Exec("delete from lock where run = ? and holder = ?", run, holder)
	return err
}
