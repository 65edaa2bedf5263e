package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/klauspost/compress/zstd"
)

// What watching keeps: accounts as they were judged last, what is not as it should be and since when, and what people
// are to be told.

const watchingSchema = `
create table if not exists watched (
  account text primary key,
  cloud text not null,
  feed text not null,         -- the position of its cloud's feed up to which it is judged
  last integer not null,
  version text not null,      -- what the cloud calls its content
  seen text not null,         -- RFC 3339, UTC: when it was read or heard of last
  lines blob not null         -- a survey of it, packed
);
create table if not exists held (
  source text not null,       -- what found it: "uphold", or "audit" with what it looked for
  account text not null,
  key text not null,
  since text not null,        -- RFC 3339, UTC
  until text not null,        -- empty while it holds
  body text not null,         -- JSON
  primary key (source, account, key, since)
) without rowid;
create table if not exists notice (
  number integer primary key, -- in the order in which they are told
  id text not null unique,
  at text not null,
  body text not null          -- JSON, with the journal's last entry at that time
);
create table if not exists delivery (
  target text not null,
  notice integer not null references notice(number),
  tries integer not null,
  next integer not null,      -- milliseconds since 1970: not before then
  problem text not null,      -- of the last try
  primary key (target, notice)
) without rowid;
create table if not exists delivered (
  target text primary key,
  sent integer not null,      -- how many notices it has taken
  aside integer not null      -- how many it has refused for good
) without rowid;
`

// A Watched account is as it was judged last.
type Watched struct {
	Account string
	Cloud   string
	Feed    string
	Last    int
	Version string
	Seen    time.Time
	Packed  []byte // its lines of a survey; see Pack
	Lines   []byte // the same, when it is read
}

// Held is something that was found to hold, from one time on, and until another unless that is zero.
type Held struct {
	Source  string          `json:"source"`
	Account string          `json:"account"`
	Key     string          `json:"key"`
	Since   time.Time       `json:"since"`
	Until   time.Time       `json:"until,omitzero"`
	Body    json.RawMessage `json:"body"`
}

// A Telling is a notice and the targets that are to have it.
type Telling struct {
	ID      string
	At      time.Time
	Targets []string
	Body    func(Head) (json.RawMessage, error) // it is given the journal's last entry
}

// A Round is what was found when accounts were judged. It is recorded whole or not at all.
type Round struct {
	Watched []Watched
	Began   []Held // holds from now on
	Ended   []Held // holds no longer: its Until is set
	Tell    []Telling
}

var packer, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1),
	zstd.WithWindowSize(1<<20))
var unpacker, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1))

// Pack makes lines of a survey small.
func Pack(lines []byte) []byte { return packer.EncodeAll(lines, nil) }

// Unpack reverses Pack.
func Unpack(packed []byte) ([]byte, error) { return unpacker.DecodeAll(packed, nil) }

// Record records rounds, all of them or none.
func (s *Store) Record(ctx context.Context, rounds ...Round) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("the store can't be written: %w", unusable(err))
	}
	defer func() { _ = tx.Rollback() }() // does nothing after Commit
	if err := note(tx, rounds); err != nil {
		return fmt.Errorf("the store can't be written: %w", unusable(err))
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("the store can't be written: %w", unusable(err))
	}
	return nil
}

func note(tx *sql.Tx, rounds []Round) error {
	var head *Head
	for _, r := range rounds {
		for _, w := range r.Watched {
			if _, err := tx.Exec("insert or replace into watched values (?, ?, ?, ?, ?, ?, ?)", w.Account, w.Cloud,
				w.Feed,
				w.Last, w.Version, stamp(w.Seen), append([]byte{}, w.Packed...)); err != nil {
				return err
			}
		}
		for _, h := range r.Ended {
			if _, err := tx.Exec("update held set until = ? where source = ? and account = ? and key = ? and "+
				"until = ''",
				stamp(h.Until), h.Source, h.Account, h.Key); err != nil {
				return err
			}
		}
		for _, h := range r.Began {
			if _, err := tx.Exec("insert or replace into held values (?, ?, ?, ?, '', ?)", h.Source, h.Account, h.Key,
				stamp(h.Since), string(h.Body)); err != nil {
				return err
			}
		}
		for _, t := range r.Tell {
			if head == nil {
				head = new(Head)
				err := tx.QueryRow("select number, hash from journal order by number desc limit 1").Scan(&head.Number,
					&head.Hash)
				if err != nil && !errors.Is(err, sql.ErrNoRows) {
					return err
				}
			}
			if err := tell(tx, t, *head); err != nil {
				return err
			}
		}
	}
	return nil
}

func tell(tx *sql.Tx, t Telling, head Head) error {
	body, err := t.Body(head)
	if err != nil {
		return err
	}
	result, err := tx.Exec("insert into notice (id, at, body) values (?, ?, ?) on conflict (id) do nothing", t.ID,
		stamp(t.At), string(body))
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return err // it stands there already
	}
	number, err := result.LastInsertId()
	if err != nil {
		return err
	}
	for _, target := range t.Targets {
		if _, err := tx.Exec("insert into delivery values (?, ?, 0, 0, '')", target, number); err != nil {
			return err
		}
	}
	return nil
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339Nano) }

// LastWatched calls take for all accounts as they were judged last.
func (s *Store) LastWatched(ctx context.Context, take func(Watched) error) error {
	return s.watched(ctx, take, "")
}

// WatchedOf is what was kept last of one account, or of another thing under its name; not known if there is nothing.
func (s *Store) WatchedOf(ctx context.Context, account string) (w Watched, known bool, err error) {
	err = s.watched(ctx, func(x Watched) error {
		w, known = x, true
		return nil
	}, " where account = ?", account)
	return w, known, err
}

func (s *Store) watched(ctx context.Context, take func(Watched) error, where string, values ...any) error {
	rows, err := s.db.QueryContext(ctx, "select account, cloud, feed, last, version, seen, lines from watched"+where,
		values...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var w Watched
		var seen string
		if err := rows.Scan(&w.Account, &w.Cloud, &w.Feed, &w.Last, &w.Version, &seen, &w.Packed); err != nil {
			return err
		}
		if w.Seen, err = time.Parse(time.RFC3339Nano, seen); err != nil {
			return err
		}
		if w.Lines, err = Unpack(w.Packed); err != nil {
			return fmt.Errorf("what is kept of %s can't be read: %w", w.Account, err)
		}
		if err := take(w); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Forsake forgets an account that is watched no longer, and ends what held in it.
func (s *Store) Forsake(ctx context.Context, source, account string, at time.Time) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // does nothing after Commit
	if _, err := tx.Exec("delete from watched where account = ?", account); err != nil {
		return err
	}
	if _, err := tx.Exec("update held set until = ? where source = ? and account = ? and until = ''", stamp(at), source,
		account); err != nil {
		return err
	}
	return tx.Commit()
}

// Holding is what a source has found to hold now; with ended also what held at some time, the latest last.
func (s *Store) Holding(ctx context.Context, source string, ended bool) ([]Held, error) {
	query := "select account, key, since, until, body from held where source = ?"
	if !ended {
		query += " and until = ''"
	}
	rows, err := s.db.QueryContext(ctx, query+" order by since, account, key", source)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Held
	for rows.Next() {
		h := Held{Source: source}
		var since, until, body string
		if err := rows.Scan(&h.Account, &h.Key, &since, &until, &body); err != nil {
			return nil, err
		}
		if h.Since, err = time.Parse(time.RFC3339Nano, since); err != nil {
			return nil, err
		}
		if until != "" {
			if h.Until, err = time.Parse(time.RFC3339Nano, until); err != nil {
				return nil, err
			}
		}
		h.Body = json.RawMessage(body)
		all = append(all, h)
	}
	return all, rows.Err()
}

// A Waiting notice is to be sent to a target.
type Waiting struct {
	Number  int
	ID      string
	At      time.Time // when it was put into the outbox
	Tries   int
	Next    time.Time // not before then
	Problem string    // of the last try
	Body    json.RawMessage
}

// Outbox are the first notices that are still to be sent to a target, in order, and how many there are.
func (s *Store) Outbox(ctx context.Context, target string, most int) (first []Waiting, all int, err error) {
	if err := s.db.QueryRowContext(ctx, "select count(*) from delivery where target = ?",
		target).Scan(&all); err != nil {
		return nil, 0, err
	}
	rows, err := s.db.QueryContext(ctx, "select number, id, at, tries, next, problem, body from delivery join "+
		"notice on "+
		"notice = number where target = ? order by number limit ?", target, most)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	for rows.Next() {
		var w Waiting
		var at, body string
		var next int64
		if err := rows.Scan(&w.Number, &w.ID, &at, &w.Tries, &next, &w.Problem, &body); err != nil {
			return nil, 0, err
		}
		if w.At, err = time.Parse(time.RFC3339Nano, at); err != nil {
			return nil, 0, err
		}
		w.Next, w.Body = time.UnixMilli(next), json.RawMessage(body)
		first = append(first, w)
	}
	return first, all, rows.Err()
}

// Targets are those for which something is to be sent.
func (s *Store) Targets(ctx context.Context) ([]string, error) {
	rows, err := s.db.QueryContext(ctx, "select distinct target from delivery order by target")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		all = append(all, name)
	}
	return all, rows.Err()
}

// Delivered notes that a target has taken notices, or with aside has refused them for good, and what is to be told
// because of that.
func (s *Store) Delivered(ctx context.Context, target string, numbers []int, aside bool, more ...Telling) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return unusable(err)
	}
	defer func() { _ = tx.Rollback() }() // does nothing after Commit
	for _, n := range numbers {
		if _, err := tx.Exec("delete from delivery where target = ? and notice = ?", target, n); err != nil {
			return unusable(err)
		}
	}
	sent, refused := len(numbers), 0
	if aside {
		sent, refused = 0, len(numbers)
	}
	if _, err := tx.Exec("insert into delivered values (?, ?, ?) on conflict (target) do update set sent = sent + "+
		"excluded.sent, aside = aside + excluded.aside", target, sent, refused); err != nil {
		return unusable(err)
	}
	if err := note(tx, []Round{{Tell: more}}); err != nil {
		return unusable(err)
	}
	return unusable(tx.Commit())
}

// Failed notes that a notice could not be sent, why, and when it is tried again.
func (s *Store) Failed(ctx context.Context, target string, number int, problem string, next time.Time) error {
	_, err := s.db.ExecContext(ctx, "update delivery set tries = tries + 1, next = ?, problem = ? where target = "+
		"? and "+
		"notice = ?", next.UnixMilli(), problem, target, number)
	return unusable(err)
}

// CountDelivered counts the notices that a target has taken, and those that it has refused for good.
func (s *Store) CountDelivered(ctx context.Context, target string) (sent, aside int, err error) {
	err = s.db.QueryRowContext(ctx, "select sent, aside from delivered where target = ?", target).Scan(&sent, &aside)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, 0, nil
	}
	return sent, aside, err
}

// Sweep forgets notices that everybody has had, and what held and ended, before a time.
func (s *Store) Sweep(ctx context.Context, before time.Time) error {
	for _, command := range []string{
		"delete from notice where at < ? and not exists (select 1 from delivery where notice = number)",
		"delete from held where until <> '' and until < ?"} {
		if _, err := s.db.ExecContext(ctx, command, stamp(before)); err != nil {
			return unusable(err)
		}
	}
	return nil
}

// Since calls take for the entries of the journal behind one that is known, in order, and verifies their chain.
func (s *Store) Since(known Head, take func(Entry) error) error {
	if known.Number == 0 {
		return s.Journal(take)
	}
	before, last := known.Hash, known.Number
	return s.After(context.Background(), known.Number, func(e Entry) error {
		if last++; e.Number != last || e.hashAfter(before) != e.Hash {
			return fmt.Errorf("the journal was tampered with: its chain breaks at entry %d", last)
		}
		before = e.Hash
		return take(e)
	})
}

// After calls take for the entries of the journal behind one, in order.
func (s *Store) After(ctx context.Context, number int, take func(Entry) error) error {
	rows, err := s.db.QueryContext(ctx, "select number, at, run, kind, body, hash from journal where number > ? "+
		"order by "+
		"number", number)
	if err != nil {
		return fmt.Errorf("the journal can't be read: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var e Entry
		var body string
		if err := rows.Scan(&e.Number, &e.At, &e.Run, &e.Kind, &body, &e.Hash); err != nil {
			return fmt.Errorf("the journal can't be read: %w", err)
		}
		e.Body = json.RawMessage(body)
		if err := take(e); err != nil {
			return err
		}
	}
	return rows.Err()
}
