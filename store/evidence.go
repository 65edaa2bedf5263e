package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"modernc.org/sqlite" // also the driver of the embedded database
	sqlite3 "modernc.org/sqlite/lib"

	"isonomos/core/flow"
	"isonomos/core/service"
)

// A Store is the embedded database in one file: summed evidence, the journal of changes, and locks.
//
// It may be used by several goroutines, and by several processes at once: a write waits up to ten
// seconds for another one. What a method writes is written whole or not at all, and is on the disk
// when it returns without an error. Methods with a context end when it does. Nothing is repeated.
type Store struct {
	db   *sql.DB
	path string
}

// schemaVersion is kept in the file, so that later programs recognise its layout.
const schemaVersion = 4

const schema = `
create table if not exists source (
  id integer primary key,
  name text not null,          -- as it was named when it was added
  digest text not null unique, -- SHA-256 of its content, or what stands for it
  added integer not null,      -- seconds since 1970
  format text not null,
  records integer not null,
  skipped integer not null
);
create table if not exists day (
  source integer not null references source(id),
  day integer not null,        -- days since 1970 (UTC), by the start of flows
  flows integer not null,      -- records of admitted flows
  refused integer not null,
  first integer not null,      -- earliest and latest start, seconds since 1970
  last integer not null,
  primary key (source, day)
) without rowid;
create table if not exists sum (
  source integer not null,
  day integer not null,
  service integer not null,    -- protocol << 16 | port, or ICMP type and code
  src blob not null,           -- 4 or 16 bytes; who opened the flows
  dst blob not null,           -- who served
  flows integer not null,
  completed integer not null,
  first integer not null,
  last integer not null,
  longest integer not null,    -- seconds
  lasted integer not null,     -- seconds, all flows together
  packets integer not null,
  bytes integer not null,
  reply_bytes integer not null,
  attempts integer not null,
  loaded integer not null,
  primary key (source, day, service, src, dst)
) without rowid;
`

var setVersion = fmt.Sprintf("pragma user_version = %d;", schemaVersion)

// judgedByReplies completes sums from before it was noted what was sent: an attempt was then what
// nobody answered.
const judgedByReplies = `
alter table sum add column attempts integer not null default 0;
alter table sum add column loaded integer not null default 0;
update sum set attempts = flows - completed, loaded = flows;
`

// ErrNoStore says that there is no store yet.
var ErrNoStore = errors.New("there is no store")

// Open opens the store in a file. If there is none, it creates one, or without create returns
// ErrNoStore.
func Open(path string, create bool) (*Store, error) {
	made, readOnly := false, false
	if f, err := os.OpenFile(path, os.O_RDWR, 0); err == nil {
		f.Close() // the database's own error does not say what forbids it
		readOnly = !create && !writableFolder(path)
	} else if !create && readable(path) {
		readOnly = true // to be read it need not be written
	} else if errors.Is(err, fs.ErrNotExist) {
		gone := Store{path: path}
		known, err := gone.knownHead()
		if err == nil {
			err = gone.endsBefore(known, 0)
		}
		if err != nil {
			return nil, err
		}
		if !create {
			return nil, ErrNoStore
		}
		// what was observed is nobody else's business
		f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
		if err != nil {
			return nil, err
		}
		f.Close()
		made = true
	} else {
		return nil, err
	}
	query := url.Values{"_pragma": {"busy_timeout(10000)", "journal_mode(wal)", "synchronous(full)",
		"foreign_keys(1)"}, "_txlock": {"immediate"}}
	if readOnly {
		query = url.Values{"mode": {"ro"}, "_pragma": {"busy_timeout(10000)"}}
		if info, err := os.Stat(path + "-wal"); err != nil || info.Size() == 0 {
			query.Set("immutable", "1") // nobody has written since it was closed, and no file may be made beside it
		}
	}
	db, err := sql.Open("sqlite",
		(&url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath(), RawQuery: query.Encode()}).String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	s := &Store{db, path}
	if err := s.prepare(readOnly); err != nil {
		db.Close()
		if made { // half a store would be taken for a database of something else
			for _, name := range []string{path, path + "-wal", path + "-shm", path + "-journal"} {
				_ = os.Remove(name)
			}
		}
		return nil, err
	}
	return s, nil
}

func readable(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	f.Close()
	return true
}

// writableFolder reports whether files may be made beside a file, as the database does while it is open.
func writableFolder(path string) bool {
	info, err := os.Stat(filepath.Dir(path))
	return err == nil && info.Mode().Perm()&0o222 != 0
}

func (s *Store) prepare(readOnly bool) error {
	var version int
	if err := s.db.QueryRow("pragma user_version").Scan(&version); err != nil {
		return unusable(err)
	}
	switch version {
	case schemaVersion:
		return nil
	case 1: // from before the journal
		return s.grow(journalSchema + judgedByReplies + watchingSchema)
	case 2:
		return s.grow(judgedByReplies + watchingSchema)
	case 3:
		if readOnly { // what was watched is all that it lacks
			return nil
		}
		return s.grow(watchingSchema)
	case 0:
		var tables int
		if err := s.db.QueryRow("select count(*) from sqlite_master").Scan(&tables); err != nil {
			return unusable(err)
		}
		if tables > 0 {
			return errors.New("it is a database of something else")
		}
		if _, err := s.db.Exec("begin;" + schema + journalSchema + watchingSchema + setVersion +
			"commit;"); err != nil {
			return unusable(err)
		}
		return nil
	}
	return fmt.Errorf("it was made by a newer program (layout %d, this one knows %d)", version, schemaVersion)
}

// grow gives an older store the layout of today, whole or not at all.
func (s *Store) grow(commands string) error {
	_, err := s.db.Exec("begin;" + commands + setVersion + "commit;")
	if err != nil {
		_, _ = s.db.Exec("rollback") // there is none to roll back if it could not begin
	}
	return unusable(err)
}

// unusable says why the database could not be read or made.
func unusable(err error) error {
	var failed *sqlite.Error
	if !errors.As(err, &failed) {
		return err
	}
	switch primary := failed.Code() & 0xff; primary {
	case sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_CORRUPT:
		return fmt.Errorf("it is not a store of this program: %w", err)
	case sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR:
		return fmt.Errorf("its disk is full, or can't be read or written: %w", err)
	}
	return err
}

// Close closes the store.
func (s *Store) Close() error { return s.db.Close() }

// AddEvidence adds the sums of a source, all or none. It reports false, and changes nothing, if the
// same content was added before.
func (s *Store) AddEvidence(ctx context.Context, of flow.Source, days *flow.Daily) (added bool, err error) {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return false, err
	}
	defer func() { _ = tx.Rollback() }() // does nothing after Commit
	result, err := tx.Exec("insert into source (name, digest, added, format, records, skipped) values (?, ?, ?, "+
		"?, ?, ?) on conflict (digest) do nothing",
		of.Name, of.Digest, of.Added.Unix(), of.Format, of.Records, of.Skipped)
	if err != nil {
		return false, err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return false, err
	}
	id, err := result.LastInsertId()
	if err != nil {
		return false, err
	}
	rows := batch{tx: tx}
	for _, day := range days.Days() {
		sum := days.Of(day)
		if _, err := tx.Exec("insert into day values (?, ?, ?, ?, ?, ?)", id, day, sum.Flows, sum.Refused,
			sum.First.Unix(), sum.Last.Unix()); err != nil {
			return false, err
		}
		for _, x := range sum.Sums() {
			protocol, detail := x.Service.Split()
			if err := rows.add(id, day, int64(protocol)<<16|int64(detail), x.Source.AsSlice(),
				x.Destination.AsSlice(), x.Flows, x.Completed,
				x.First, x.Last, x.Longest, x.Lasted, int64(x.Packets), int64(x.Bytes),
				int64(x.ReplyBytes), x.Attempts, x.Loaded); err != nil {
				return false, err
			}
		}
	}
	if err := rows.flush(); err != nil {
		return false, err
	}
	return true, tx.Commit()
}

// A batch inserts many sums with each statement.
type batch struct {
	tx     *sql.Tx
	values []any
	full   *sql.Stmt // of atOnce sums
}

const (
	sumColumns = 16
	atOnce     = 200
)

func (b *batch) add(values ...any) error {
	b.values = append(b.values, values...)
	if len(b.values) < sumColumns*atOnce {
		return nil
	}
	if b.full == nil {
		var err error
		if b.full, err = b.tx.Prepare(b.statement()); err != nil {
			return err
		}
	}
	_, err := b.full.Exec(b.values...)
	b.values = b.values[:0]
	return err
}

func (b *batch) statement() string {
	row := "(" + strings.Repeat("?, ", sumColumns-1) + "?)"
	return "insert into sum values " + row + strings.Repeat(", "+row, len(b.values)/sumColumns-1)
}

func (b *batch) flush() error {
	if len(b.values) == 0 {
		return nil
	}
	_, err := b.tx.Exec(b.statement(), b.values...)
	b.values = nil
	return err
}

// Sources lists the sources in the order in which they were added.
func (s *Store) Sources(ctx context.Context) ([]flow.Source, error) {
	rows, err := s.db.QueryContext(ctx, `select id, name, digest, added, format, records, skipped,
		coalesce((select sum(flows) from day where source = id), 0),
		coalesce((select sum(refused) from day where source = id), 0),
		coalesce((select min(first) from day where source = id), 0),
		coalesce((select max(last) from day where source = id), 0),
		(select count(*) from day where source = id), (select count(*) from sum where source = id)
		from source order by id`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []flow.Source
	for rows.Next() {
		var x flow.Source
		var added, first, last int64
		if err := rows.Scan(&x.ID, &x.Name, &x.Digest, &added, &x.Format, &x.Records, &x.Skipped, &x.Flows,
			&x.Refused, &first, &last, &x.Days, &x.Sums); err != nil {
			return nil, err
		}
		x.Added, x.First, x.Last = time.Unix(added, 0).UTC(), time.Unix(first, 0).UTC(), time.Unix(last, 0).UTC()
		all = append(all, x)
	}
	return all, rows.Err()
}

// LastDay is the last day with evidence, by its number since 1970; ok is false if there is none.
func (s *Store) LastDay(ctx context.Context) (day int32, ok bool, err error) {
	var found sql.NullInt32
	err = s.db.QueryRowContext(ctx, "select max(day) from day").Scan(&found)
	return found.Int32, found.Valid, err
}

// Evidence is the sum of all sources over the days from..to, both included.
func (s *Store) Evidence(ctx context.Context, from, to int32) (*flow.Summary, error) {
	sum := new(flow.Summary)
	days, err := s.db.QueryContext(ctx,
		"select sum(refused), min(first), max(last), day from day where day between ? and ? group by day", from, to)
	if err != nil {
		return nil, err
	}
	defer days.Close()
	for days.Next() {
		var refused int
		var first, last, day int64
		if err := days.Scan(&refused, &first, &last, &day); err != nil {
			return nil, err
		}
		sum.AddRefused(first, refused)
		sum.AddRefused(last, 0)
	}
	if err := days.Err(); err != nil {
		return nil, err
	}
	rows, err := s.db.QueryContext(ctx, "select day, service, src, dst, flows, completed, attempts, loaded, "+
		"first, last, longest, lasted, packets, bytes, reply_bytes from sum where day between ? and ?", from, to)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var x flow.Sum
		var day int32
		var of int64
		var src, dst []byte
		var packets, bytes, replies int64
		if err := rows.Scan(&day, &of, &src, &dst, &x.Flows, &x.Completed, &x.Attempts, &x.Loaded, &x.First, &x.Last,
			&x.Longest, &x.Lasted, &packets, &bytes, &replies); err != nil {
			return nil, err
		}
		var okSource, okDestination bool
		x.Source, okSource = netip.AddrFromSlice(src)
		x.Destination, okDestination = netip.AddrFromSlice(dst)
		if !okSource || !okDestination {
			return nil, errors.New("a sum has no good addresses: the store is damaged")
		}
		x.Service = service.PointOf(uint8(of>>16), uint16(of))
		x.Packets, x.Bytes, x.ReplyBytes = uint64(packets), uint64(bytes), uint64(replies)
		x.Days.Add(day)
		sum.AddSum(x)
	}
	return sum, rows.Err()
}

// Forget removes sources by id, and if before > 0 all days before that one. It returns how many
// daily sums were removed.
func (s *Store) Forget(ctx context.Context, ids []int64, before int32) (sums int64, err error) {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer func() { _ = tx.Rollback() }() // does nothing after Commit
	drop := func(where string, arg any) error {
		result, err := tx.Exec("delete from sum where "+where, arg)
		if err != nil {
			return err
		}
		n, err := result.RowsAffected()
		if err != nil {
			return err
		}
		sums += n
		_, err = tx.Exec("delete from day where "+where, arg)
		return err
	}
	for _, id := range ids {
		if err := drop("source = ?", id); err != nil {
			return 0, err
		}
	}
	if before > 0 {
		if err := drop("day < ?", before); err != nil {
			return 0, err
		}
	}
	if _, err := tx.Exec(
		"delete from source where not exists (select 1 from day where day.source = source.id)"); err != nil {
		return 0, err
	}
	return sums, tx.Commit()
}
