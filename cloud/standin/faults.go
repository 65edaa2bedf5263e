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
	Busy   = "429" // too many requests, with Retry-After
	Broken = "500" // an error without content
	// the connection is closed without an answer; a write has been carried out before that half of
	// the time
	Dropped = "drop"
	Slow    = "slow"  // the answer comes late
	Stale   = "stale" // the answer is from before the last change
)

// Kinds are all kinds of fault.
var Kinds = []string{Busy, Broken, Dropped, Slow, Stale}

// faults say how a stand-in misbehaves: the share of all requests, the kinds, and the seed.
type faults struct {
	Seed  uint64   `json:"seed"`
	Share float64  `json:"share"`
	Kinds []string `json:"kinds"`
}

// SetFaults makes the stand-in of a folder misbehave in a share of all requests; 0 ends that. A
// running server notices it at its next request.
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

// plan reads the faults file if it has changed.
func (s *Server) plan() (faults, uint64) {
	info, err := os.Stat(filepath.Join(s.folder, FaultsFile))
	s.mu.Lock()
	defer s.mu.Unlock()
	s.asked++
	if err != nil {
		return faults{}, s.asked
	}
	if !unchanged(info, s.decided) {
		s.faults, s.decided = faults{}, info
		if text, err := os.ReadFile(filepath.Join(s.folder, FaultsFile)); err == nil {
			_ = json.Unmarshal(text, &s.faults) // a file that can't be decoded plans no faults
		}
	}
	return s.faults, s.asked
}

// misbehave does what the plan says for this request. It reports whether the answer is to be a
// stale one, and whether the request has been answered already.
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
		if r.Method != http.MethodGet && random.IntN(2) == 0 { // after carrying out the change
			s.mux.ServeHTTP(nowhere{}, r)
		}
		panic(http.ErrAbortHandler) // this is how a handler closes the connection
	case Slow:
		s.sleep(time.Duration(100+random.IntN(400)) * time.Millisecond)
	case Stale:
		return true, false
	}
	return false, false
}

// nowhere is a ResponseWriter for an answer that nobody will hear.
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
