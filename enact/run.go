package enact

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"isonomos/cloud"
	"isonomos/core/count"
	"isonomos/store"
)

// A Journal keeps entries; package store has one. It may be used by several goroutines.
type Journal interface {
	// Append adds an entry. When it returns without an error the entry is on the disk; after an
	// error the run must not go on.
	Append(at time.Time, run, kind string, body any) (store.Entry, error)
}

// Kinds of entries in the journal.
const (
	Begin  = "begin"  // body: the whole draft
	Intend = "intend" // body: Intention
	Done   = "done"   // body: Result
	Failed = "failed" // body: Result with an error
	Proved = "proved" // body: Proof
	End    = "end"    // body: Ending

	LockBroken = "lock-broken" // body: Broken
)

// A Broken lock was taken from a run by hand.
type Broken struct {
	Account string `json:"account"`
	Holder  string `json:"holder"`
	By      string `json:"by"`
	Why     string `json:"why,omitempty"`
}

// Outcomes of runs.
const (
	Enacted   = "enacted"
	Repealed  = "repealed"
	Stopped   = "stopped"   // it can be continued
	GivenUp   = "given up"  // it stays as it is, neither finished nor undone
	Overtaken = "overtaken" // somebody else has changed what it was to change: it is at its end
)

// An Intention is written before the first request of a step is sent.
type Intention struct {
	Lane    int           `json:"lane"` // from 1
	Step    int           `json:"step"` // of the lane, from 1
	Request cloud.Request `json:"request"`
	// Limit is how long the request may be under way at most, in seconds; 0 means a minute.
	Limit int `json:"limit,omitempty"`
}

// A Result is what came of a step.
type Result struct {
	Lane  int               `json:"lane"`
	Step  int               `json:"step"`
	IDs   map[string]string `json:"ids,omitempty"`   // real ids, by made-up ones
	Found bool              `json:"found,omitempty"` // its answer was lost, and it was found to be done
	Error string            `json:"error,omitempty"`
	// Unsure says that the step may have been carried out in spite of the error.
	Unsure bool `json:"unsure,omitempty"`
}

// A Proof says that a wave has reached the state that it should.
type Proof struct {
	Wave int `json:"wave"`
}

// An Ending says how a run ended.
type Ending struct {
	Outcome string `json:"outcome"` // Enacted and so on
	Done    int    `json:"done"`    // number of steps done
	Of      int    `json:"of"`
	Why     string `json:"why,omitempty"`
}

// A Run carries a draft out.
type Run struct {
	Name    string
	Draft   *Draft
	Clouds  func(account string) (cloud.Cloud, error)
	Journal Journal
	Now     func() time.Time
	Jobs    int // lanes at the same time
	// Pace is the first waiting time before an attempt is repeated; 0 means 200 ms.
	Pace time.Duration
	// Limit is how long one request may be under way at most; 0 means a minute, as the clients of clouds have it.
	Limit time.Duration
	// Alive is when an earlier part of the run that was broken off may still have sent requests, as far as that is
	// known from elsewhere than its journal.
	Alive time.Time
	// Held reports, before each step, why the run must not go on, such as that its locks are lost; it may be nil.
	Held func() error
	// Passes are rules, by account and id, that are left out of account: those of passes come and go by themselves.
	Passes map[[2]string]bool
	// Slow is called when a step lasts for a while; it may be nil.
	Slow func(text string)
	// Prove checks the result of a wave before the next one begins.
	Prove func(ctx context.Context, wave int, accounts []string) error
	// Step is called after each step, by one goroutine at a time.
	Step func(s *Step)

	mu    sync.Mutex
	names *names
	done  map[[2]int]bool // by lane and number, from 1
	// unsure are steps, by lane and number, that an earlier part of the run began, and of which it is not known what
	// became: until when their requests may arrive.
	unsure map[[2]int]time.Time
	// mayHaveBegun says that a step may have been carried out although no answer says so.
	mayHaveBegun bool
}

// A StoppedError says why a run could not be finished, and what has not been done.
type StoppedError struct {
	Done, Of int
	Outcome  string // Stopped or Overtaken
	Stops    []Stop
	// Unchanged says that no step was carried out, nor may have been: then nothing is left to do.
	Unchanged bool
}

// A Stop is where a lane stopped.
type Stop struct {
	Accounts []string
	Step     int // from 1; 0 if the lane never began
	Of       int
	Says     string
	// Object is the id of the group, list, interface or subnet that the step is about; for one that is made again, the
	// id that it had.
	Object   string
	Proof    bool // all of its steps are done, and the clouds are not as they should be then
	NotBegun bool // because an earlier wave stopped
	Unsure   bool // it is unknown whether the step was carried out
	Err      error
}

func (e *StoppedError) Error() string {
	return fmt.Sprintf("%s of %s done", count.Number(e.Done), count.Of(e.Of, "step is", "steps are"))
}

// Unwrap returns the reasons.
func (e *StoppedError) Unwrap() []error {
	var all []error
	for _, s := range e.Stops {
		all = append(all, s.Err)
	}
	return all
}

// ErrOvertaken marks errors that say that somebody else has changed what a run was to change, or what it has
// carried out. Going on or back would overwrite that.
var ErrOvertaken = errors.New("not by this run")

// errUnsure marks errors after which it is unknown whether a step was carried out.
var errUnsure = errors.New("whether it was done is not known")

// Recall restores from the journal what is known of a run that was broken off.
func (r *Run) Recall(entries []store.Entry) error {
	r.prepare()
	r.unsure = unsureSteps(entries, r.Alive)
	r.mayHaveBegun = len(r.unsure) > 0
	for _, e := range entries {
		switch e.Kind {
		case Intend:
			if err := json.Unmarshal(e.Body, new(Intention)); err != nil {
				return fmt.Errorf("entry %d of the journal: %w", e.Number, err)
			}
		case Done:
			var x Result
			if err := json.Unmarshal(e.Body, &x); err != nil {
				return fmt.Errorf("entry %d of the journal: %w", e.Number, err)
			}
			s := r.Draft.step(x.Lane, x.Step)
			if s == nil {
				return fmt.Errorf("entry %d of the journal is about a step that the draft does not have", e.Number)
			}
			r.done[[2]int{x.Lane, x.Step}] = true
			r.names.learn(s.Account, x.IDs)
		}
	}
	return nil
}

// madeBy is what the object bears that a step makes: nobody else can have written it. Steps are by lane and number.
func (r *Run) madeBy(at [2]int) string { return fmt.Sprintf("%s.%d.%d", r.Name, at[0], at[1]) }

func (r *Run) limit() time.Duration { return cmp.Or(r.Limit, usualLimit) }

// usualLimit is how long a request may be under way of which the journal does not say it.
const usualLimit = time.Minute

func (r *Run) prepare() {
	if r.names == nil {
		r.names, r.done, r.unsure = newNames(), make(map[[2]int]bool), make(map[[2]int]time.Time)
	}
}

// Do carries the draft out, wave by wave, with the lanes of a wave side by side. It returns nil, or
// a StoppedError that says exactly what has not been done. Steps that an earlier part of the run
// has carried out are not repeated.
func (r *Run) Do(ctx context.Context) error {
	r.prepare()
	last := 0
	for _, l := range r.Draft.Lanes {
		last = max(last, l.Wave)
	}
	for wave := 1; wave <= last; wave++ {
		stops := r.wave(ctx, wave)
		var accounts []string
		for _, l := range r.Draft.Lanes {
			if l.Wave == wave {
				accounts = append(accounts, l.Accounts...)
			}
		}
		if len(stops) == 0 && r.Prove != nil {
			if err := r.Prove(ctx, wave, accounts); err != nil {
				stops = append(stops, Stop{Accounts: accounts, Proof: true, Err: err})
			}
		}
		if len(stops) > 0 {
			return r.stopped(wave, stops)
		}
		if _, err := r.Journal.Append(r.Now(), r.Name, Proved, Proof{wave}); err != nil {
			return err
		}
	}
	_, err := r.Journal.Append(r.Now(), r.Name, End,
		Ending{Outcome: r.outcome(), Done: len(r.done), Of: r.Draft.Steps()})
	return err
}

func (r *Run) outcome() string {
	if r.Draft.Repeals != "" {
		return Repealed
	}
	return Enacted
}

// stopped ends a run early.
func (r *Run) stopped(wave int, stops []Stop) error {
	for _, l := range r.Draft.Lanes {
		if l.Wave > wave {
			stops = append(stops, Stop{Accounts: l.Accounts, Of: len(l.Steps), NotBegun: true,
				Err: errors.New("an earlier wave stopped")})
		}
	}
	e := &StoppedError{Done: len(r.done), Of: r.Draft.Steps(), Outcome: Overtaken, Stops: stops,
		Unchanged: len(r.done) == 0 && !r.mayHaveBegun}
	for _, s := range stops {
		if !s.NotBegun && !errors.Is(s.Err, ErrOvertaken) {
			e.Outcome = Stopped
		}
	}
	why := stops[0].Err.Error()
	if _, err := r.Journal.Append(r.Now(), r.Name, End,
		Ending{Outcome: e.Outcome, Done: e.Done, Of: e.Of, Why: why}); err != nil {
		return errors.Join(e, err)
	}
	return e
}

func (r *Run) wave(ctx context.Context, wave int) []Stop {
	var lanes errgroup.Group
	lanes.SetLimit(max(1, r.Jobs))
	var mu sync.Mutex
	var stops []Stop
	for n := range r.Draft.Lanes {
		if r.Draft.Lanes[n].Wave != wave {
			continue
		}
		lanes.Go(func() error {
			if stop, stopped := r.lane(ctx, n); stopped {
				mu.Lock()
				stops = append(stops, stop)
				mu.Unlock()
			}
			return nil // the other lanes go on
		})
	}
	_ = lanes.Wait() // stops says what went wrong
	slices.SortFunc(stops, func(a, b Stop) int { return strings.Compare(a.Accounts[0], b.Accounts[0]) })
	return stops
}

// lane carries the steps of one lane out, in order.
func (r *Run) lane(ctx context.Context, n int) (Stop, bool) {
	lane := &r.Draft.Lanes[n]
	b := &book{r: r, held: make(map[ident]*page)}
	stop := Stop{Accounts: lane.Accounts, Of: len(lane.Steps)}
	if err := b.open(lane, r.Draft.Objects); err != nil {
		stop.Err = err
		return stop, true
	}
	for k := range lane.Steps {
		s, at := &lane.Steps[k], [2]int{n + 1, k + 1}
		stop.Step, stop.Says, stop.Object = k+1, s.Says, lane.about(s)
		if r.isDone(at) {
			if err := b.note(s); err != nil {
				stop.Err = err
				return stop, true
			}
			if s.Do.Makes() {
				b.settle(ctx, s) // the earlier part of the run may have ended before that
			}
			continue
		}
		if err := r.step(ctx, b, s, at); err != nil {
			stop.Err, stop.Unsure = err, errors.Is(err, errUnsure)
			return stop, true
		}
	}
	return Stop{}, false
}

// watch tells when a step lasts.
func (r *Run) watch(s *Step) (stop func()) {
	if r.Slow == nil {
		return func() {}
	}
	return cloud.Watch(func(lasted time.Duration) {
		r.Slow(fmt.Sprintf("%s: waiting for %s so far: %s; a request is tried for %s at most", s.Account,
			count.Lasting(lasted), s.Says, count.Lasting(cloud.Patience())))
	})
}

// ErrCalledOff ends a run before its next step.
var ErrCalledOff = errors.New("called off")

// calledOff is why a run is to stop before its next step, or nil.
func calledOff(ctx context.Context) error {
	switch cause := context.Cause(ctx); {
	case cause == nil:
		return nil
	case errors.Is(cause, context.Canceled):
		return ErrCalledOff
	default:
		return cause
	}
}

func (r *Run) isDone(at [2]int) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.done[at]
}

// step carries one step out and writes the journal around it.
func (r *Run) step(ctx context.Context, b *book, s *Step, at [2]int) error {
	if err := calledOff(ctx); err != nil {
		return err
	}
	if r.Held != nil {
		if err := r.Held(); err != nil {
			return err
		}
	}
	request := r.names.request(s.Request)
	if s.Do.Makes() {
		request.Object = bearing(request.Object, r.madeBy(at))
	}
	intention := Intention{at[0], at[1], request, int(r.limit().Seconds())}
	if _, err := r.Journal.Append(r.Now(), r.Name, Intend, intention); err != nil {
		return err
	}
	result := Result{Lane: at[0], Step: at[1]}
	var err error
	stop := r.watch(s)
	result.IDs, result.Found, err = b.carry(ctx, s, request, r.unsure[at])
	stop()
	if err != nil {
		result.Error = err.Error()
		result.Unsure = errors.Is(err, errUnsure) || !r.unsure[at].IsZero() && errors.Is(err, ErrOvertaken)
		if result.Unsure {
			r.mu.Lock()
			r.mayHaveBegun = true
			r.mu.Unlock()
		}
		if _, bad := r.Journal.Append(r.Now(), r.Name, Failed, result); bad != nil {
			return errors.Join(err, bad)
		}
		return err
	}
	r.names.learn(s.Account, result.IDs)
	if err = b.note(s); err == nil {
		_, err = r.Journal.Append(r.Now(), r.Name, Done, result)
	}
	if err == nil && s.Do.Makes() {
		b.settle(ctx, s)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if err != nil { // it is carried out, and only this process knows
		r.mayHaveBegun = true
		return fmt.Errorf("%w; %w", err, errUnsure)
	}
	r.done[at] = true
	if r.Step != nil {
		r.Step(s)
	}
	return nil
}
