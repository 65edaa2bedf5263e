package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// What a round has found is there whole: the account, what holds, and what is to be told, with the journal's last
// entry; a round of which one part fails leaves nothing. It outlives the program.
func TestRounds(t *testing.T) {
	path := filepath.Join(t.TempDir(), "store.db")
	s, err := Open(path, true)
	if err != nil {
		t.Fatal(err)
	}
	ctx, now := t.Context(), time.Date(2026, 11, 20, 6, 0, 0, 5, time.UTC)
	last, err := s.Append(now, "run", "begin", "x")
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Repeat(`{"kind":"rule","id":"r"}`+"\n", 100)
	telling := func(id string, fails bool, targets ...string) Telling {
		return Telling{ID: id, At: now, Targets: targets, Body: func(h Head) (json.RawMessage, error) {
			if fails {
				return nil, errors.New("it can't be written")
			}
			return json.RawMessage(fmt.Sprintf(`{"id":%q,"number":%d,"hash":%q}`, id, h.Number, h.Hash)), nil
		}}
	}
	held := func(key string) Held {
		return Held{Source: "uphold", Account: "a", Key: key, Since: now, Body: json.RawMessage(`{"x":1}`)}
	}
	round := Round{Watched: []Watched{{Account: "a", Cloud: "c", Feed: "f", Last: 7, Version: "v", Seen: now,
		Packed: Pack([]byte(lines))}}, Began: []Held{held("k1"), held("k2")},
		Tell: []Telling{telling("n1", false, "desk", "night"), telling("n2", false, "desk")}}
	if err := s.Record(ctx, round); err != nil {
		t.Fatal(err)
	}
	bad := Round{Watched: []Watched{{Account: "b"}}, Began: []Held{held("k3")}, Tell: []Telling{telling("n3", true, "desk")}}
	if err := s.Record(ctx, Round{Tell: []Telling{telling("n4", false, "desk")}}, bad); err == nil {
		t.Fatal("a notice that can't be written is recorded")
	}
	if err := s.Record(ctx, Round{Tell: []Telling{telling("n1", false, "desk")}}); err != nil {
		t.Fatal(err) // told again after a crash: it stands there already
	}
	s.Close()
	if s, err = Open(path, false); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var seen []Watched
	if err := s.LastWatched(ctx, func(w Watched) error { seen = append(seen, w); return nil }); err != nil ||
		len(seen) != 1 || string(seen[0].Lines) != lines || seen[0].Feed != "f" || seen[0].Last != 7 ||
		!seen[0].Seen.Equal(now) || len(seen[0].Packed) > 200 {
		t.Fatalf("%+v %v", seen, err)
	}
	first, all, err := s.Outbox(ctx, "desk", 1)
	if err != nil || all != 2 || len(first) != 1 || first[0].ID != "n1" ||
		string(first[0].Body) != fmt.Sprintf(`{"id":"n1","number":1,"hash":%q}`, last.Hash) {
		t.Errorf("%+v %d %v", first, all, err)
	}
	if err := s.Failed(ctx, "desk", first[0].Number, "nobody answers", now.Add(time.Minute)); err != nil {
		t.Fatal(err)
	}
	if first, _, err = s.Outbox(ctx, "desk", 5); err != nil || len(first) != 2 || first[0].Tries != 1 ||
		!first[0].Next.Equal(now.Add(time.Minute).Truncate(time.Millisecond)) || first[0].Problem != "nobody answers" {
		t.Errorf("%+v %v", first, err)
	}
	if err := s.Delivered(ctx, "desk", []int{first[0].Number}, false); err != nil {
		t.Fatal(err)
	}
	if err := s.Delivered(ctx, "desk", []int{first[1].Number}, true, telling("n5", false, "night")); err != nil {
		t.Fatal(err)
	}
	sent, aside, err := s.CountDelivered(ctx, "desk")
	if names, wrong := s.Targets(ctx); err != nil || wrong != nil || sent != 1 || aside != 1 ||
		strings.Join(names, " ") != "night" {
		t.Errorf("%d sent, %d aside, left %v, %v %v", sent, aside, names, err, wrong)
	}
	over := held("k1")
	over.Until = now.Add(time.Hour)
	if err := s.Record(ctx, Round{Ended: []Held{over}}); err != nil {
		t.Fatal(err)
	}
	holds, err := s.Holding(ctx, "uphold", false)
	ever, wrong := s.Holding(ctx, "uphold", true)
	if err != nil || wrong != nil || len(holds) != 1 || holds[0].Key != "k2" || len(ever) != 2 ||
		!ever[0].Until.Equal(now.Add(time.Hour)) {
		t.Errorf("%+v, ever %+v, %v %v", holds, ever, err, wrong)
	}
	if err := s.Sweep(ctx, now.Add(2*time.Hour)); err != nil {
		t.Fatal(err)
	}
	ever, _ = s.Holding(ctx, "uphold", true)
	left, _, _ := s.Outbox(ctx, "night", 5)
	var notices int
	if err := s.db.QueryRow("select count(*) from notice").Scan(&notices); err != nil || len(ever) != 1 || len(left) != 2 ||
		notices != 2 {
		t.Errorf("swept: %+v, %d notices, %d to send, %v", ever, notices, len(left), err)
	}
	if err := s.Forsake(ctx, "uphold", "a", now); err != nil {
		t.Fatal(err)
	}
	if holds, err = s.Holding(ctx, "uphold", false); err != nil || len(holds) > 0 {
		t.Errorf("%+v %v", holds, err)
	}
	var entries []int
	if err := s.After(ctx, 0, func(e Entry) error { entries = append(entries, e.Number); return nil }); err != nil ||
		len(entries) != 1 {
		t.Errorf("%v %v", entries, err)
	}
}

// A store from before watching gets what it lacks, and keeps what it has; without leave to write it can still be read.
func TestStoreFromBeforeWatching(t *testing.T) {
	path := filepath.Join(t.TempDir(), "store.db")
	s, err := Open(path, true)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Append(time.Now(), "run", "begin", "x"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.db.Exec("drop table watched; drop table held; drop table delivery; drop table notice; " +
		"drop table delivered; pragma user_version = 3"); err != nil {
		t.Fatal(err)
	}
	s.Close()
	if s, err = Open(path, false); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.Record(context.Background(), Round{Began: []Held{{Source: "x", Key: "k", Body: json.RawMessage("1")}}}); err != nil {
		t.Error(err)
	}
	if err := s.Journal(func(Entry) error { return nil }); err != nil {
		t.Error(err)
	}
}
