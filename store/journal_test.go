package store

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

func journalOf(t *testing.T, s *Store) ([]Entry, error) {
	t.Helper()
	var all []Entry
	err := s.Journal(func(e Entry) error { all = append(all, e); return nil })
	return all, err
}

// The journal is only ever added to, by several at once; whatever is changed, taken
// out, put in or moved in the file, past the program, breaks its chain.
func TestJournalChain(t *testing.T) {
	path := filepath.Join(t.TempDir(), "isonomos.db")
	s, err := Open(path, true)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var wait sync.WaitGroup
	for i := range 4 {
		wait.Go(func() {
			other, err := Open(path, false)
			if err != nil {
				t.Error(err)
				return
			}
			defer other.Close()
			for k := range 10 {
				if _, err := other.Append(time.Unix(int64(k), 0), "run", "intend",
					map[string]int{"writer": i, "step": k}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wait.Wait()
	all, err := journalOf(t, s)
	if err != nil || len(all) != 40 || all[39].Number != 40 {
		t.Fatalf("%d entries, %v", len(all), err)
	}
	for _, query := range []string{"update journal set body = '{}' where number = 7",
		"delete from journal where number = 7"} {
		if _, err := s.db.Exec(query); err == nil || !strings.Contains(err.Error(), "only ever added to") {
			t.Errorf("%s: %v", query, err)
		}
	}
	for _, tampered := range []string{
		"update journal set body = '{}' where number = 7",
		"update journal set at = '2026-11-20T06:00:00Z' where number = 7",
		"update journal set run = 'other' where number = 40",
		"delete from journal where number = 7",
		"insert into journal values (41, '', 'run', 'done', '{}', 'forged')",
		"update journal set number = -1 where number = 1; update journal set number = 1 where number = 2; update " +
			"journal set number = 2 where number = -1",
		"update journal set hash = (select hash from journal where number = 8) where number = 7",
	} {
		if _, err := s.db.Exec("drop trigger journal_stays; drop trigger journal_keeps; begin; " +
			tampered); err != nil {
			t.Fatal(err)
		}
		if _, err := journalOf(t, s); err == nil || !strings.Contains(err.Error(), "its chain breaks at entry") {
			t.Errorf("%s: %v", tampered, err)
		}
		if _, err := s.db.Exec("rollback;" + journalSchema); err != nil {
			t.Fatal(err)
		}
	}
	if all, err := journalOf(t, s); err != nil || len(all) != 40 {
		t.Errorf("afterwards: %d entries, %v", len(all), err)
	}
	if _, err := s.Append(time.Unix(0, 0), "run", "done", json.Number("x")); err == nil {
		t.Error("what is no JSON is written")
	}
	if err := s.Journal(func(Entry) error { return errors.New("enough") }); err == nil || err.Error() != "enough" {
		t.Errorf("stopped: %v", err)
	}
}

// An end that was cut off is noticed: by what is kept beside the store, and by drafts that were made before.
func TestCutJournal(t *testing.T) {
	path := filepath.Join(t.TempDir(), "isonomos.db")
	s, err := Open(path, true)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for i := range 9 {
		if _, err := s.Append(time.Unix(int64(i), 0), "run", "done", i); err != nil {
			t.Fatal(err)
		}
	}
	head, err := s.Head()
	if err != nil || head.Number != 9 {
		t.Fatalf("%+v %v", head, err)
	}
	if ok, err := s.Follows(head); !ok || err != nil {
		t.Errorf("it has its own end: %v %v", ok, err)
	}
	if _, err := s.db.Exec("drop trigger journal_keeps; delete from journal where number > 7;" + journalSchema); err != nil {
		t.Fatal(err)
	}
	if _, err := journalOf(t, s); err == nil || !strings.Contains(err.Error(), "its last entries are gone") {
		t.Errorf("cut off: %v", err)
	}
	if ok, _ := s.Follows(head); ok {
		t.Error("a draft does not notice")
	}
	if _, err := s.Append(time.Unix(0, 0), "run", "forged", 1); err == nil {
		t.Error("a journal that was cut off is written on")
	}
	if err := os.Remove(path + ".head"); err != nil {
		t.Fatal(err)
	}
	for i := range 4 { // written on after the cut
		if _, err := s.Append(time.Unix(int64(i), 0), "run", "forged", i); err != nil {
			t.Fatal(err)
		}
	}
	if ok, _ := s.Follows(head); ok {
		t.Error("a draft does not notice what was written on")
	}
	if ok, err := s.Follows(Head{First: "another", Number: 3, Hash: "x"}); !ok || err != nil {
		t.Errorf("another journal: %v %v", ok, err)
	}
	if err := os.WriteFile(path+".head", []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := journalOf(t, s); err == nil || !strings.Contains(err.Error(), "does not say which entry") {
		t.Errorf("a head that is none: %v", err)
	}
}

// What can't be written can still be read.
func TestReadOnlyStore(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "kept")
	path := filepath.Join(folder, "isonomos.db")
	if err := os.Mkdir(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	s, err := Open(path, true)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Append(time.Unix(0, 0), "run", "done", 1); err != nil {
		t.Fatal(err)
	}
	s.Close()
	if err := os.Chmod(folder, 0o555); err != nil {
		t.Fatal(err)
	}
	defer os.Chmod(folder, 0o755)
	if s, err = Open(path, false); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if all, err := journalOf(t, s); err != nil || len(all) != 1 {
		t.Errorf("%d entries, %v", len(all), err)
	}
	if _, err := s.Append(time.Unix(0, 0), "run", "done", 2); err == nil {
		t.Error("it is written")
	}
}

// One writer an account: all of its locks or none; those that ran out, or whose holder
// is dead, are taken over.
func TestLocks(t *testing.T) {
	s, err := Open(filepath.Join(t.TempDir(), "isonomos.db"), true)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	now := time.Unix(1000, 0)
	alive := func(string) bool { return false }
	lock := func(holder string, at time.Time, dead func(string) bool, accounts ...string) error {
		return s.Lock(accounts, "run of "+holder, holder, at, at.Add(time.Minute), dead)
	}
	if err := lock("one", now, alive, "tides", "traffic"); err != nil {
		t.Fatal(err)
	}
	var locked *LockedError
	if err := lock("two", now, alive, "lab", "traffic"); !errors.As(err, &locked) || locked.Account != "traffic" ||
		locked.Holder != "one" || !strings.Contains(err.Error(), "being changed by another run") {
		t.Errorf("a second writer: %v", err)
	}
	if err := s.Lock([]string{"tides"}, "another run", "one", now, now.Add(time.Minute), alive); !errors.As(err, &locked) {
		t.Errorf("another run of the same process: %v", err)
	}
	if err := lock("one", now, alive, "tides", "traffic"); err != nil {
		t.Errorf("the same run again: %v", err)
	}
	if err := lock("three", now, alive, "lab"); err != nil {
		t.Errorf("nothing was to be taken: %v", err)
	}
	if ok, err := s.Renew(2, "run of one", "one", now.Add(time.Hour)); !ok || err != nil {
		t.Errorf("renewed: %v %v", ok, err)
	}
	if err := lock("two", now.Add(2*time.Minute), alive, "tides"); !errors.As(err, &locked) {
		t.Errorf("a lock that was renewed: %v", err)
	}
	if err := lock("two", now, func(holder string) bool { return holder == "one" }, "tides"); err != nil {
		t.Errorf("its holder is dead: %v", err)
	}
	if ok, err := s.Renew(2, "run of one", "one", now.Add(time.Hour)); ok || err != nil {
		t.Errorf("a lock that was lost: %v %v", ok, err)
	}
	if err := lock("four", now.Add(2*time.Hour), alive, "tides", "traffic", "lab"); err != nil {
		t.Errorf("all ran out: %v", err)
	}
	if err := s.Unlock("run of four", "four"); err != nil {
		t.Fatal(err)
	}
	if err := lock("five", now, alive, "tides", "traffic", "lab"); err != nil {
		t.Errorf("all were given back: %v", err)
	}
}

// A store from before there was a journal is used on.
func TestStoreGetsAJournal(t *testing.T) {
	path := filepath.Join(t.TempDir(), "isonomos.db")
	s, err := Open(path, true)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.db.Exec("drop table journal; drop table lock; alter table sum drop column attempts; " +
		"alter table sum drop column loaded; pragma user_version = 1"); err != nil {
		t.Fatal(err)
	}
	s.Close()
	if s, err = Open(path, false); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.Append(time.Unix(0, 0), "run", "begin", 1); err != nil {
		t.Error(err)
	}
	if all, err := journalOf(t, s); err != nil || len(all) != 1 {
		t.Errorf("%d entries, %v", len(all), err)
	}
}
