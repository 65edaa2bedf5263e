package standin

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Kinds of fault.
const (
	Busy    = "429"   // too many requests, with how long to wait
	Broken  = "500"   // an answer of no use
	Dropped = "drop"  // the connection is closed without an answer; of what writes, half the time after it was done
	Slow    = "slow"  // the answer comes late
	Stale   = "stale" // the answer is from before the last change
)

// Kinds are all of them.
var Kinds = []string{Busy, Broken, Dropped, Slow, Stale}

// faults say how a stand-in misbehaves: in this share of all requests, by this seed.
type faults struct {
	Seed  uint64   `json:"seed"`
	Share float64  `json:"share"`
	Kinds []string `json:"kinds"`
}

// SetFaults makes the stand-in of a folder misbehave in a share of all requests, from
// 0 on which it behaves. It is heard while the server runs.
func SetFaults(folder string, seed uint64, share float64, kinds []string) error {
	for _, k := range kinds {
		if !slices.Contains(Kinds, k) {
			return fmt.Errorf("there is no fault %q: faults are %s", k, strings.Join(Kinds, ", "))
		}
	}
	if !(share >= 0 && share <= 1) {
		return fmt.Errorf("the share goes from 0 to 1")
	}
	text, err := json.Marshal(faults{seed, share, kinds})
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(folder, FaultsFile), text, 0o644)
}

// plan is what the faults file says now.
func (s *Server) plan() (faults, uint64) {
	info, err := os.Stat(filepath.Join(s.folder, FaultsFile))
	s.mu.Lock()
	defer s.mu.Unlock()
	s.asked++
	if err != nil {
		return faults{}, s.asked
	}
	if !info.ModTime().Equal(s.decided) {
		s.faults, s.decided = faults{}, info.ModTime()
		if text, err := os.ReadFile(filepath.Join(s.folder, FaultsFile)); err == nil {
			_ = json.Unmarshal(text, &s.faults) // what can't be read is no fault
		}
	}
	return s.faults, s.asked
}

// misbehave does what the plan says for this request: it says whether the answer is
// to be a stale one, and whether it was given already.
func (s *Server) misbehave(w http.ResponseWriter, r *http.Request) (stale, served bool) {
	plan, n := s.plan()
	if len(plan.Kinds) == 0 {
		return false, false
	}
	random := rand.New(rand.NewPCG(plan.Seed, n))
	if random.Float64() >= plan.Share {
		return false, false
	}
	switch plan.Kinds[random.IntN(len(plan.Kinds))] {
	case Busy:
		w.Header().Set("Retry-After", "1")
		tell(w, http.StatusTooManyRequests, "too many requests")
		return false, true
	case Broken:
		tell(w, http.StatusInternalServerError, "something broke")
		return false, true
	case Dropped:
		if r.Method != http.MethodGet && random.IntN(2) == 0 { // after the change was made
			s.mux.ServeHTTP(nowhere{}, r)
		}
		panic(http.ErrAbortHandler) // how a handler closes the connection
	case Slow:
		s.sleep(time.Duration(100+random.IntN(400)) * time.Millisecond)
	case Stale:
		return true, false
	}
	return false, false
}

// nowhere is where an answer goes that is never heard.
type nowhere struct{}

func (nowhere) Header() http.Header         { return make(http.Header) }
func (nowhere) Write(b []byte) (int, error) { return len(b), nil }
func (nowhere) WriteHeader(int)             {}

type staleKey struct{}

func withStale(ctx context.Context, stale bool) context.Context {
	return context.WithValue(ctx, staleKey{}, stale)
}

func isStale(ctx context.Context) bool {
	stale, _ := ctx.Value(staleKey{}).(bool)
	return stale
}
