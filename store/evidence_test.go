package store

import (
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"isonomos/core/flow"
	"isonomos/core/service"
)

func TestEvidenceIsKept(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a store.db")
	if _, err := Open(path, false); err == nil {
		t.Fatal("a store that is not there is opened")
	}
	s, err := Open(path, true)
	if err != nil {
		t.Fatal(err)
	}
	if info, _ := os.Stat(path); info.Mode().Perm() != 0o600 {
		t.Errorf("others can read what was seen: %v", info.Mode())
	}
	start := time.Date(2026, 11, 6, 10, 0, 0, 0, time.UTC).Unix()
	days := func(from, to int) *flow.Daily {
		d := new(flow.Daily)
		for i := from; i < to; i++ {
			at := start + int64(i)*86400
			for _, src := range []string{"192.0.2.1", "2001:db8::1"} {
				r := flow.Record{Start: at, End: at + 60, Source: netip.MustParseAddr(src),
					Destination: netip.MustParseAddr("192.0.2.9"), Protocol: service.TCP, Port: 443, Bytes: 7,
					ReplyKnown: true, Opened: flow.BySource}
				if src != "192.0.2.1" {
					r.Destination, r.ReplyPackets = netip.MustParseAddr("2001:db8::9"), 1
				}
				d.Add(&r)
			}
			d.Add(&flow.Record{Start: at + 5, End: at, Source: netip.MustParseAddr("192.0.2.3"),
				Destination: netip.MustParseAddr("192.0.2.9"), Refused: true})
		}
		d.Close()
		return d
	}
	add := func(digest string, d *flow.Daily) bool {
		added, err := s.AddEvidence(t.Context(),
			flow.Source{Name: digest, Digest: digest, Added: time.Unix(start, 0), Format: "CSV", Records: 3}, d)
		if err != nil {
			t.Fatal(err)
		}
		return added
	}
	if !add("a", days(0, 4)) || !add("b", days(2, 6)) || add("a", days(0, 4)) {
		t.Error("what is new is added, what is not is not")
	}
	s.Close()
	if s, err = Open(path, false); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	sum := func() *flow.Summary {
		e, err := s.Evidence(t.Context(), 0, 1<<30)
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	e := sum()
	x := e.Sums()
	if len(x) != 2 || x[0].Flows != 8 || x[0].Completed != 0 || x[1].Completed != 8 || x[0].Days.Count() != 6 ||
		x[1].Bytes != 56 || x[0].Longest != 60 || e.Flows != 16 || e.Refused != 8 || e.Window() != 6 {
		t.Errorf("got %+v, %+v", e, x)
	}
	sources, err := s.Sources(t.Context())
	if err != nil || len(sources) != 2 || sources[1].Flows != 8 || sources[1].Refused != 4 || sources[1].Days != 4 ||
		sources[1].Sums != 8 || sources[0].First.Unix() != start {
		t.Errorf("sources %+v %v", sources, err)
	}
	if n, err := s.Forget(t.Context(), []int64{1}, int32(start/86400)+4); err != nil || n != 12 {
		t.Errorf("forgot %d, %v", n, err)
	}
	if e := sum(); e.Window() != 2 || e.Flows != 4 {
		t.Errorf("left are %+v", e)
	}
	if n, err := s.Forget(t.Context(), nil, 1<<30); err != nil || n != 4 {
		t.Errorf("forgot %d, %v", n, err)
	}
	if sources, _ := s.Sources(t.Context()); len(sources) > 0 {
		t.Errorf("sources of which nothing is left: %v", sources)
	}
	if !add("a", days(0, 1)) {
		t.Error("what was forgotten can't be added again")
	}
}

func TestOtherFilesAreNoStores(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.db")
	if err := os.WriteFile(path, []byte("this is a text, and it is long enough to be looked at as a database"),
		0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(path, true); err == nil || !strings.Contains(err.Error(), "not a store") {
		t.Errorf("a text: %v", err)
	}
	other := filepath.Join(t.TempDir(), "y.db")
	s, err := Open(other, true)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.db.Exec("pragma user_version = 99"); err != nil {
		t.Fatal(err)
	}
	s.Close()
	if _, err := Open(other, false); err == nil || !strings.Contains(err.Error(), "newer program") {
		t.Errorf("a newer store: %v", err)
	}
}
