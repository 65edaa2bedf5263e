package notify

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"sync"
	"time"

	"isonomos/core/audit"
	"isonomos/store"
)

const (
	firstWait      = 250 * time.Millisecond // it doubles from try to try
	longestWait    = 10 * time.Minute
	mostTries      = 3              // of what is refused for good
	longestTry     = 24 * time.Hour // of what could not be sent
	usualPerMinute = 10             // notices, beyond which there is a summary
	mostAtOnce     = 500            // notices of a summary
)

// A Sender sends what stands in the outbox of a store. Each target gets its notices in order; none waits for another.
type Sender struct {
	Store   *store.Store
	Targets []Target
	Now     func() time.Time
	Log     *slog.Logger
	Count   func(target string, sent, failed int) // called after each try; may be nil

	quick time.Duration // pauses are so many times shorter, for tests with a quick clock; 0 means once

	mu   sync.Mutex
	wake map[string]chan struct{}
}

// Wake says that there may be something new to send.
func (s *Sender) Wake() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.wake {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}

// Run sends until the context ends.
func (s *Sender) Run(ctx context.Context) {
	s.mu.Lock()
	s.wake = make(map[string]chan struct{})
	for _, t := range s.Targets {
		s.wake[t.Name] = make(chan struct{}, 1)
	}
	s.mu.Unlock()
	s.dropOrphans(ctx)
	var all sync.WaitGroup
	for _, t := range s.Targets {
		all.Go(func() { s.serve(ctx, t) })
	}
	all.Wait()
}

// Flush sends what can be sent at once, and reports how many notices are left.
func (s *Sender) Flush(ctx context.Context) (left int) {
	var all sync.WaitGroup
	var mu sync.Mutex
	s.dropOrphans(ctx)
	for _, t := range s.Targets {
		all.Go(func() {
			recent := &window{most: cmp.Or(t.perMinute, usualPerMinute), atOnce: true}
			for ctx.Err() == nil {
				wait, more, err := s.next(ctx, t, recent)
				if err != nil || !more || wait > 5*time.Second {
					break
				}
				s.pause(ctx, wait, nil)
			}
			_, n, err := s.Store.Outbox(context.WithoutCancel(ctx), t.Name, 1)
			mu.Lock()
			defer mu.Unlock()
			if left += n; err != nil {
				left++
			}
		})
	}
	all.Wait()
	return left
}

// dropOrphans sets aside what is left for targets that settings no longer name.
func (s *Sender) dropOrphans(ctx context.Context) {
	names, err := s.Store.Targets(ctx)
	if err != nil {
		s.Log.Error("the outbox can't be read", "problem", err)
		return
	}
	for _, name := range names {
		known := false
		for _, t := range s.Targets {
			known = known || t.Name == name
		}
		if known {
			continue
		}
		all, n, err := s.Store.Outbox(ctx, name, 1<<20)
		if err == nil {
			err = s.Store.Delivered(ctx, name, numbers(all), true)
		}
		s.Log.Warn("notices for a target that settings no longer name are left out", "target", name, "notices", n,
			"problem", err)
	}
}

func numbers(all []store.Waiting) []int {
	list := make([]int, len(all))
	for i, w := range all {
		list[i] = w.Number
	}
	return list
}

// serve sends to one target.
func (s *Sender) serve(ctx context.Context, t Target) {
	recent := &window{most: cmp.Or(t.perMinute, usualPerMinute)}
	for ctx.Err() == nil {
		wait, more, err := s.next(ctx, t, recent)
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			s.Log.Error("the outbox can't be read or written", "target", t.Name, "problem", err)
			s.pause(ctx, time.Second, nil)
		case !more:
			s.pause(ctx, time.Minute, s.wake[t.Name])
		default:
			s.pause(ctx, wait, nil)
		}
	}
}

// pause waits for a time, or until it is woken.
func (s *Sender) pause(ctx context.Context, wait time.Duration, wake <-chan struct{}) {
	if wait <= 0 {
		return
	}
	timer := time.NewTimer(wait / max(1, s.quick))
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	case <-wake:
	}
}

// A window counts what was sent within the last minute.
type window struct {
	most   int
	at     []time.Time
	atOnce bool // nobody waits until it is free: what is beyond it is told in a summary at once
}

func (w *window) free(now time.Time) (wait time.Duration) {
	for len(w.at) > 0 && now.Sub(w.at[0]) >= time.Minute {
		w.at = w.at[1:]
	}
	if len(w.at) < w.most || w.atOnce {
		return 0
	}
	return time.Minute - now.Sub(w.at[0])
}

// next sends the next notice to a target, or a summary, if its time has come. It returns how long to wait until there
// is something to do, and whether anything is left to send.
func (s *Sender) next(ctx context.Context, t Target, recent *window) (wait time.Duration, more bool, err error) {
	first, left, err := s.Store.Outbox(ctx, t.Name, mostAtOnce)
	if err != nil || left == 0 {
		return 0, false, err
	}
	now := s.Now()
	if first[0].Next.After(now) {
		return min(first[0].Next.Sub(now), longestWait), true, nil
	}
	take := first[:1]
	if len(recent.at) >= recent.most { // what has come since the minute was full is told in one
		if wait := recent.free(now); wait > 0 {
			return wait, true, nil
		}
		take = first
	}
	var notices []Notice
	for _, w := range take {
		var n Notice
		if err := json.Unmarshal(w.Body, &n); err != nil { // the store was changed by somebody else
			s.Log.Error("a notice in the outbox can't be read, and is set aside", "target", t.Name, "notice", w.ID,
				"problem", err)
			return 0, true, s.Store.Delivered(ctx, t.Name, []int{w.Number}, true)
		}
		notices = append(notices, n)
	}
	n := notices[0]
	if len(notices) > 1 {
		n = summaryOf(notices, now.UTC())
	}
	problem := t.Send(ctx, n)
	if ctx.Err() != nil && problem != nil {
		return 0, true, nil // the program ends: it is tried again by the next one
	}
	if s.Count != nil {
		s.Count(t.Name, map[bool]int{true: len(take)}[problem == nil], map[bool]int{true: 1}[problem != nil])
	}
	if problem == nil {
		recent.free(now)
		recent.at = append(recent.at, now)
		if first[0].Tries > 0 {
			s.Log.Info("the target takes notices again", "target", t.Name)
		}
		return 0, left > len(take), s.Store.Delivered(context.WithoutCancel(ctx), t.Name, numbers(take), false)
	}
	return s.failed(ctx, t, first[0], n, problem)
}

// failed notes that a notice could not be sent: it is tried again, or set aside and told.
func (s *Sender) failed(ctx context.Context, t Target, w store.Waiting, n Notice, problem error) (wait time.Duration,
	more bool, err error) {
	now := s.Now()
	forGood := errors.Is(problem, errRefused) && w.Tries+1 >= mostTries
	if forGood || now.Sub(w.At) > longestTry {
		s.Log.Error("a notice was not taken, and is set aside", "target", t.Name, "notice", w.ID, "type", n.Type,
			"problem", problem)
		about := Notice{ID: NewID(), Type: Undelivered, Severity: audit.High.String(), At: now.UTC(), Estate: n.Estate,
			Says: fmt.Sprintf("the target %s did not take the notice %s (%s): %v; it is set aside", t.Name, w.ID,
				n.Type, problem)}
		var others []Target
		for _, x := range s.Targets {
			if x.Name != t.Name && n.Type != Undelivered {
				others = append(others, x)
			}
		}
		err := s.Store.Delivered(context.WithoutCancel(ctx), t.Name, []int{w.Number}, true,
			about.Telling(others))
		s.Wake()
		return 0, true, err
	}
	wait = firstWait << min(w.Tries, 12)
	wait = min(wait+time.Duration(rand.Int64N(int64(wait/4)+1)), longestWait)
	var asked *later
	if errors.As(problem, &asked) {
		wait = max(wait, asked.after)
	}
	if w.Tries == 0 {
		s.Log.Warn("a notice could not be sent, and is tried again", "target", t.Name, "notice", w.ID, "problem",
			problem)
	}
	return wait, true, s.Store.Failed(context.WithoutCancel(ctx), t.Name, w.Number, problem.Error(), now.Add(wait))
}
