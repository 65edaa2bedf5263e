package uphold

import (
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"isonomos/cloud"
	"isonomos/core/estate"
	"isonomos/store"
)

const (
	feedWait    = 30 * time.Second // how long a question for changes may wait at most
	lookTimeout = 2 * time.Minute  // of reading one account
	leastWait   = time.Second      // between tries
	longestWait = time.Minute
	atOnce      = 32     // accounts of a cloud that are read at the same time
	mostWaiting = 50_000 // events that are not judged yet, until no more are asked for
)

// feedOf is the name under which the store keeps the position of a cloud's feed. No account is called so.
func feedOf(of string) string { return "feed of " + of }

// waiting grows from try to try, and is never the same twice.
func waiting(tries int) time.Duration {
	wait := min(leastWait<<min(tries, 10), longestWait)
	return wait/2 + time.Duration(rand.Int64N(int64(wait/2)+1))
}

func pause(ctx context.Context, wait time.Duration) {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	}
}

// A watcher watches one cloud.
type watcher struct {
	*Upholder
	cloud *estate.Cloud
	from  cloud.Cloud
	slots chan struct{} // one for each account that is being read

	mu      sync.Mutex
	batches []*batch // of events that are not all judged, in order
	pending int      // events in them
}

// A batch is what a feed has told at once.
type batch struct {
	upTo cloud.Position
	left int // accounts in which it is not judged yet
	size int
}

// watch watches a cloud until the context ends; with Once it reads all of its accounts once.
func (u *Upholder) watch(ctx context.Context, x *estate.Cloud) {
	for tries := 0; ctx.Err() == nil; tries++ {
		reading := u.nowReading()
		within, stop := context.WithTimeout(ctx, lookTimeout)
		from, names, unread, err := reading.Surveyor.CloudAccounts(within, x)
		stop()
		for _, a := range unread {
			known := u.accountOf(a.Account, x.Name)
			if err == nil { // else it is about the whole cloud
				u.unread(known, errors.New(a.Reason))
			}
		}
		if err == nil && len(names) == 0 {
			err = errors.New("it shows no account to this token")
		}
		if err != nil && ctx.Err() == nil {
			u.cloudUnheard(x.Name, err)
		}
		if err == nil {
			tries = 0
			var gone []*account
			for _, a := range u.known() {
				if a.of() == x.Name && !slices.Contains(names, a.name) &&
					!slices.ContainsFunc(unread, func(g estate.Unread) bool { return g.Account == a.name }) {
					gone = append(gone, a) // it is neither there nor defined
				}
			}
			u.forsake(ctx, "its cloud "+x.Name+" shows no such account to this token, and it is not defined", gone)
			w := &watcher{Upholder: u, cloud: x, from: from, slots: make(chan struct{}, atOnce)}
			w.follow(ctx, names)
		}
		if u.Once {
			return
		}
		pause(ctx, waiting(tries))
	}
}

func (u *Upholder) nowReading() *Reading {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.reading
}

// follow follows a cloud by its feed, or without one by looking again and again. It returns when its accounts are to
// be listed again.
func (w *watcher) follow(ctx context.Context, names []string) {
	all := make([]*account, len(names))
	for i, name := range names {
		all[i] = w.accountOf(name, w.cloud.Name)
		all[i].mu.Lock()
		all[i].cloud, all[i].from = w.cloud.Name, w.from
		all[i].mu.Unlock()
	}
	at := w.lastPosition(ctx, all)
	_, next, err := w.from.Changes(ctx, at, 0)
	if errors.Is(err, cloud.ErrLost) || errors.Is(err, cloud.ErrJumped) {
		w.Log.Warn("the feed does not go back to where it was read last, so every account is read", "cloud",
			w.cloud.Name)
		_, next, err = w.from.Changes(ctx, cloud.Position{}, 0)
	} else if err == nil && at.Feed != "" {
		next = at // its events are read below
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	var looks sync.WaitGroup
	defer looks.Wait()
	defer stop()
	switch {
	case errors.Is(err, cloud.ErrNoFeed):
		w.cloudHeard(w.cloud.Name)
		w.Upholder.mu.Lock()
		w.sight(w.cloud.Name).polled = true
		w.Upholder.mu.Unlock()
		for _, a := range all {
			looks.Go(func() { w.poll(ctx, a) })
		}
		if w.Once {
			looks.Wait()
			return
		}
		w.whileSeen(ctx, all)
		return
	case err != nil:
		if ctx.Err() == nil {
			w.cloudUnheard(w.cloud.Name, err)
		}
		return
	}
	w.cloudHeard(w.cloud.Name)
	w.findActor(ctx, all)
	for _, a := range all {
		if a.mu.Lock(); a.packed != nil {
			a.seen, a.silence = w.Now(), "" // the feed has answered
		}
		old := at.Feed == next.Feed && a.packed != nil && a.at.Feed == next.Feed
		if a.feed != next.Feed {
			a.events = nil
		}
		a.feed = next.Feed
		a.mu.Unlock()
		if !old || w.Once {
			looks.Go(func() { w.look(ctx, a) })
		}
		w.keepUp(a) // it may have been judged before its cloud answered
	}
	if w.Once {
		looks.Wait()
		return
	}
	looks.Go(func() { w.lookAround(ctx, all, &looks) })
	w.readFeed(ctx, all, next)
}

// findActor finds as whom this program changes accounts, where the cloud tells.
func (w *watcher) findActor(ctx context.Context, all []*account) {
	if len(all) == 0 {
		return
	}
	within, stop := context.WithTimeout(ctx, lookTimeout)
	defer stop()
	caller, err := w.from.Who(within, all[0].name)
	if err != nil {
		return // then it is found by time alone what a run has done
	}
	for _, a := range all {
		a.mu.Lock()
		a.actor = caller.Actor
		a.mu.Unlock()
	}
}

// lastPosition is where the feed was read last: before it was kept, that is where the account is that is least far.
func (w *watcher) lastPosition(ctx context.Context, all []*account) cloud.Position {
	var least cloud.Position
	for _, a := range all {
		a.mu.Lock()
		if a.packed != nil && (least.Feed == "" || a.at.Last < least.Last) {
			least = a.at
		}
		a.mu.Unlock()
	}
	x, _, err := w.Store.WatchedOf(ctx, feedOf(w.cloud.Name))
	if err != nil {
		return cloud.Position{} // everything is read again
	}
	if x.Feed == "" {
		return least
	}
	return cloud.Position{Feed: x.Feed, Last: x.Last}
}

// readFeed reads the feed behind a position, and hands its events to their accounts. It returns when it can't.
func (w *watcher) readFeed(ctx context.Context, all []*account, at cloud.Position) {
	byName := make(map[string]*account)
	for _, a := range all {
		byName[a.name] = a
	}
	wait := max(time.Second, min(feedWait, w.nowReading().BlindAfter/3)) // until it is over nobody knows if it is heard
	// accounts that come and go need not be told by the feed
	for began, tries := w.Now(), 0; ctx.Err() == nil && w.Now().Sub(began) < w.nowReading().LookAgain; {
		if w.behind() > mostWaiting {
			pause(ctx, leastWait/10)
			continue
		}
		events, next, err := w.from.Changes(ctx, at, wait)
		switch {
		case ctx.Err() != nil:
			return
		case errors.Is(err, cloud.ErrLost), errors.Is(err, cloud.ErrJumped):
			w.Log.Warn("the feed has lost its position, so every account is read", "cloud", w.cloud.Name, "problem",
				err)
			w.forgetPosition(ctx)
			return
		case err != nil:
			w.cloudUnheard(w.cloud.Name, err)
			if tries++; tries > 5 {
				return // perhaps its token or address is another one now
			}
			pause(ctx, waiting(tries))
			continue
		}
		w.cloudHeard(w.cloud.Name)
		tries = 0
		for _, a := range all {
			a.mu.Lock()
			follows := a.packed != nil && a.at.Feed == at.Feed || a.fresh != nil
			a.mu.Unlock()
			if follows { // of one that was not read yet the feed tells too little
				w.heard(a)
			}
		}
		at = next
		if !w.hand(ctx, byName, events, next) {
			return // an account that is not known: they are listed again
		}
	}
}

// forgetPosition has all accounts read.
func (w *watcher) forgetPosition(ctx context.Context) {
	w.keep(ctx, store.Round{Watched: []store.Watched{{Account: feedOf(w.cloud.Name), Cloud: w.cloud.Name}}})
}

func (w *watcher) behind() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.pending
}

// hand gives events to their accounts. The position behind them is kept once all of them have been judged. It reports
// whether all accounts were known.
func (w *watcher) hand(ctx context.Context, byName map[string]*account, events []cloud.Event,
	upTo cloud.Position) bool {
	if len(events) == 0 {
		return true
	}
	of := make(map[*account][]cloud.Event)
	known := true
	for _, e := range events {
		a := byName[e.Account]
		if a == nil || e.Kind == "account" && e.Action != "change" {
			known = false
			continue
		}
		of[a] = append(of[a], e)
	}
	b := &batch{upTo: upTo, left: len(of), size: len(events)}
	w.mu.Lock()
	w.batches = append(w.batches, b)
	w.pending += b.size
	w.mu.Unlock()
	if len(of) == 0 {
		w.settle(ctx)
	}
	for a, list := range of {
		a.mu.Lock()
		a.events = append(a.events, list...)
		a.done = append(a.done, func() {
			w.mu.Lock()
			b.left--
			w.mu.Unlock()
			w.settle(ctx)
		})
		a.mu.Unlock()
		w.enqueue(a)
	}
	return known
}

// settle keeps the position up to which everything has been judged.
func (w *watcher) settle(ctx context.Context) {
	w.mu.Lock()
	var upTo cloud.Position
	for len(w.batches) > 0 && w.batches[0].left == 0 {
		upTo = w.batches[0].upTo
		w.pending -= w.batches[0].size
		w.batches = w.batches[1:]
	}
	w.mu.Unlock()
	if upTo.Feed != "" {
		w.keep(context.WithoutCancel(ctx), store.Round{Watched: []store.Watched{{Account: feedOf(w.cloud.Name),
			Cloud: w.cloud.Name, Feed: upTo.Feed, Last: upTo.Last, Seen: w.Now()}}})
	}
}

// whileSeen returns after LookAgain, since accounts may have come or gone; or once none is seen any more: perhaps the
// cloud's token or address is another one now.
func (w *watcher) whileSeen(ctx context.Context, all []*account) {
	for began := w.Now(); ctx.Err() == nil && w.Now().Sub(began) < w.nowReading().LookAgain; {
		pause(ctx, 5*time.Second)
		lost := len(all) > 0
		for _, a := range all {
			a.mu.Lock()
			lost = lost && a.trouble() != ""
			a.mu.Unlock()
		}
		if lost {
			return
		}
	}
}

// lookAround reads one account after the other, each once in LookAgain: a feed may forget something. It waits for none.
func (w *watcher) lookAround(ctx context.Context, all []*account, looks *sync.WaitGroup) {
	if len(all) == 0 {
		return
	}
	every := w.nowReading().LookAgain / time.Duration(len(all))
	for {
		w.Upholder.mu.Lock()
		s := w.sight(w.cloud.Name) // its accounts may have been listed again since the last one was read
		wait := s.looked.Add(every).Sub(w.Now())
		w.Upholder.mu.Unlock()
		if pause(ctx, wait); ctx.Err() != nil {
			return
		}
		w.Upholder.mu.Lock()
		s.looked = w.Now()
		w.Upholder.mu.Unlock()
		longest := all[rand.IntN(len(all))] // of those that were not read since the program began, any
		for _, a := range all {
			if a.lookedAt().Before(longest.lookedAt()) {
				longest = a
			}
		}
		longest.mu.Lock()
		longest.looked = w.Now()
		longest.mu.Unlock()
		looks.Go(func() { w.look(ctx, longest) })
	}
}

// look reads an account, and tries again until that has succeeded; with Once it tries once.
func (w *watcher) look(ctx context.Context, a *account) {
	if !a.looking.TryLock() {
		return // it is being read
	}
	defer a.looking.Unlock()
	for tries := 0; ctx.Err() == nil; tries++ {
		seen, err := w.lookOnce(ctx, a, "")
		a.mu.Lock()
		stale := err == nil && seen.At.Feed == a.feed && a.at.Feed == a.feed && seen.At.Last < a.at.Last
		a.mu.Unlock()
		switch {
		case ctx.Err() != nil:
			return
		case stale: // an answer from before what has been judged
		case err != nil:
			if w.unread(a, err); w.Once {
				return
			}
		default:
			w.taken(a, seen)
			return
		}
		pause(ctx, waiting(tries))
	}
}

// lookOnce reads an account, unless it is of a known version.
func (w *watcher) lookOnce(ctx context.Context, a *account, known string) (cloud.Look, error) {
	select {
	case w.slots <- struct{}{}:
		defer func() { <-w.slots }()
	case <-ctx.Done():
		return cloud.Look{}, ctx.Err()
	}
	ctx, stop := context.WithTimeout(ctx, lookTimeout)
	defer stop()
	seen, err := w.from.Look(ctx, a.name, known)
	if err == nil && !seen.Same {
		err = w.sensible(a, seen.Lines)
	}
	return seen, err
}

// taken has what was read of an account judged.
func (w *watcher) taken(a *account, seen cloud.Look) {
	w.read(a)
	a.mu.Lock()
	a.fresh, a.looked = &seen, w.Now()
	a.mu.Unlock()
	w.enqueue(a)
}

// poll looks at an account again and again, unless it is of the version that was seen last; with Once it looks once.
func (w *watcher) poll(ctx context.Context, a *account) {
	interval := w.nowReading().Interval
	if !w.Once {
		pause(ctx, time.Duration(rand.Int64N(int64(interval/8)+1))) // so that not all are looked at in one moment
	}
	for tries := 0; ctx.Err() == nil; {
		a.mu.Lock()
		version := a.version
		if a.packed == nil {
			version = ""
		}
		a.mu.Unlock()
		seen, err := w.lookOnce(ctx, a, version)
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			w.unread(a, err)
			tries++
		case seen.Same:
			w.cloudHeard(w.cloud.Name)
			w.read(a)
			tries = 0
		default:
			w.cloudHeard(w.cloud.Name)
			w.taken(a, seen)
			tries = 0
		}
		if w.Once {
			return
		}
		wait := interval + time.Duration(rand.Int64N(int64(interval/5)+1)) - interval/10
		if tries > 0 {
			wait = max(wait, waiting(tries))
		}
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
		case <-timer.C:
		case <-a.kicked:
		}
		timer.Stop()
	}
}

// lookAgain has an account read by whoever watches its cloud.
func (u *Upholder) lookAgain(a *account) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.version, a.at = "", cloud.Position{}
	u.Reload() // the cloud is followed anew, and what is not of its feed is read
}
