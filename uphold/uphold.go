// Package uphold watches the accounts of an estate for months: what they let through is held against what was decided,
// passes that are over are ended, and people are told.
//
// Each cloud is watched by itself, by its feed of changes or by looking again and again, and each account is judged by
// itself. What is found goes to the store in one piece: the account as it was judged, what differs, and the notices. So
// nothing is told twice for being found again after a crash, and nothing is forgotten.
package uphold

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"isonomos/core/addr"
	"isonomos/core/audit"
	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/enact"
	"isonomos/nomos"
	"isonomos/notify"
	"isonomos/store"
	"isonomos/work"
)

// Source is what the store calls what watching finds.
const Source = "uphold"

// Options say what is watched, and how.
type Options struct {
	Store *store.Store
	// Read reads definitions and settings. An error says what is wrong with them: the last good ones stay.
	Read func() (*Reading, error)
	// Stamp is another one when definitions or settings have changed.
	Stamp func() string
	Now   func() time.Time
	Log   *slog.Logger
	Say   func(words ...string) string // writes a command of this program
	By    string                       // who watches
	Once  bool                         // one round, and the end
}

// A Reading is what was read of definitions and settings.
type Reading struct {
	Definitions nomos.Definitions
	Surveyor    work.Surveyor
	Targets     []notify.Target
	Interval    time.Duration     // between two looks at an account whose cloud has no feed
	BlindAfter  time.Duration     // how long an account may be unread until that is told
	LookAgain   time.Duration     // how often everything is read, feed or not
	Digest      string            // of the definitions
	PutsBack    bool              // what was changed by hand is put back,
	PutBack     *estate.Condition // where this holds; nil means everywhere
	Grace       time.Duration     // how long a difference stands until then
}

// An Upholder watches.
type Upholder struct {
	Options
	Facts Facts // what is measured

	mu       sync.Mutex
	reading  *Reading
	accounts map[string]*account
	sights   map[string]*sight // how clouds are heard, by name
	gone     []estate.Unread   // of a single round: accounts that are watched no longer
	decided  *work.Decided
	runs     work.Runs
	// chronicle is the journal, as far as it has been read for runs and decided.
	chronicle *enact.Chronicle
	others    others
	sender    *notify.Sender
	broken    string // what is wrong with the definitions, if anything
	reload    chan struct{}
	queue     chan *account
	recorder  chan recording
	whole     map[string]bool // accounts in which everything is to be judged
	ending    map[string]bool // accounts whose passes are being ended
	failed    map[string]bool // accounts in which passes could not be ended, and that was told
	misses    int             // rounds that could not be recorded since the last one that was
	open      atomic.Int64    // accounts that are to be judged, or are being kept
	progress  atomic.Int64    // times that an account was judged

	watching  context.Context // of the present generation
	underWay  atomic.Int64    // accounts that are being kept
	began     time.Time
	allJudged bool              // everything was judged once
	keepers   chan struct{}     // one for each account that is being kept
	stamp     string            // of the definitions and settings as they were read last
	way       error             // why this one gives way to another upholder
	yield     func()            // ends the present generation
	laws      map[string]string // digests of those that are enforced, by name
	kept      []notify.Notice   // of a single round: what was put back or shut
}

// others are the addresses at which nobody is a stranger, by account.
type others struct {
	of    map[string]addr.Set
	all   addr.Set
	stale bool // of is newer than all
	moved bool // since all accounts were judged by them last
}

// New makes an Upholder. Definitions and settings are read when it runs.
func New(o Options) *Upholder {
	return &Upholder{Options: o, accounts: make(map[string]*account), sights: make(map[string]*sight),
		others: others{of: make(map[string]addr.Set)},
		reload: make(chan struct{}, 1), queue: make(chan *account, 1<<16), recorder: make(chan recording),
		keepers: make(chan struct{}, keepersAtOnce), whole: make(map[string]bool), ending: make(map[string]bool),
		failed: make(map[string]bool), Facts: newFacts()}
}

// Reload has definitions and settings read again.
func (u *Upholder) Reload() {
	select {
	case u.reload <- struct{}{}:
	default:
	}
}

// Run watches until the context ends, or with Once until every account was judged. The error is one of package work,
// or that of reading the definitions for the first time.
func (u *Upholder) Run(ctx context.Context) error {
	stamp := u.Stamp() // before they are read, so that what changes meanwhile has them read again
	reading, err := u.Read()
	if err != nil {
		return err
	}
	if err := u.recall(ctx); err != nil {
		return &unreadableError{err}
	}
	background, stop := context.WithCancel(context.WithoutCancel(ctx)) // ends after what is under way
	var lasting sync.WaitGroup
	defer func() {
		stop()
		lasting.Wait()
	}()
	lasting.Go(func() { u.record(background) })
	first := true
	for {
		again, err := u.generation(ctx, reading, first, &stamp)
		if u.way != nil { // nothing runs any more that could set it
			again, err = false, u.way
		}
		if err != nil || !again {
			if err == nil || !first || u.way != nil {
				u.tellEnd(background)
			}
			return err
		}
		first = false
		if next, err := u.Read(); err != nil {
			u.breakDefinitions(background, err)
		} else {
			u.mendDefinitions(background)
			reading = next
		}
	}
}

// An unreadableError says that the store can't be read.
type unreadableError struct{ error }

func (e *unreadableError) Unwrap() error { return e.error }

// generation watches with one reading of the definitions. It reports whether they have changed, so that it is to begin
// again.
func (u *Upholder) generation(ctx context.Context, r *Reading, first bool, stamp *string) (again bool, err error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	u.mu.Lock()
	u.reading = r
	u.decided = &work.Decided{Definitions: r.Definitions, Digest: r.Digest}
	u.laws, u.stamp = lawsOf(r.Definitions), *stamp
	u.began, u.allJudged = u.Now(), false
	for name := range u.accounts { // they are judged by these definitions before anything is done by them
		u.whole[name] = true
	}
	u.chronicle, u.runs = nil, work.Runs{} // the journal is read again for them
	u.sender = &notify.Sender{Store: u.Store, Targets: r.Targets, Now: u.Now, Log: u.Log, Count: u.Facts.sent}
	u.mu.Unlock()
	if err := u.refresh(); err != nil {
		return false, err
	}
	var all sync.WaitGroup
	defer all.Wait()
	defer u.untilKept() // what is under way is brought to the end of its step, and the locks are given back
	defer stop()
	if !u.Once {
		all.Go(func() { u.sender.Run(ctx) })
	}
	watched, release, err := u.begin(ctx, r)
	if err != nil {
		return false, err
	}
	defer release()
	watched, yield := context.WithCancel(watched)
	defer yield()
	u.mu.Lock()
	u.watching, u.yield = watched, yield
	u.mu.Unlock()
	if first && !u.Once {
		u.tellStart(ctx)
	}
	for range deciders {
		all.Go(func() { u.decideAll(watched) })
	}
	rounds := make(chan struct{}, len(r.Definitions.Estate.Clouds))
	for _, x := range r.Definitions.Estate.Clouds {
		all.Go(func() {
			u.watch(watched, x)
			rounds <- struct{}{}
		})
	}
	if !u.Once {
		all.Go(func() { u.tend(watched) })
	}
	for _, a := range u.known() {
		u.judgeWhole(a) // what is known of it is judged by the new definitions
	}
	if u.Once {
		for range r.Definitions.Estate.Clouds {
			select {
			case <-rounds:
			case <-watched.Done():
				return false, whyEnded(ctx, watched)
			}
		}
		u.endOverdue()
		u.drain(watched)
		u.keepOnce(watched)
		return false, nil
	}
	look := time.NewTicker(time.Second)
	defer look.Stop()
	for {
		select {
		case <-ctx.Done():
			return false, nil
		case <-watched.Done():
			return false, whyEnded(ctx, watched)
		case <-u.reload:
			*stamp = u.Stamp()
			return true, nil
		case <-look.C:
			if now := u.Stamp(); now != *stamp {
				*stamp = now
				return true, nil
			}
		}
	}
}

// whyEnded is why nothing is watched any more: nil if somebody has ended it.
func whyEnded(ctx, watched context.Context) error {
	if ctx.Err() != nil {
		return nil
	}
	return context.Cause(watched)
}

// deciders is how many accounts are judged at the same time.
const deciders = 2

// LeasesOf are the names under which whoever watches an estate has its leases: those of its accounts, or its own where
// it defines none.
func LeasesOf(e *estate.Estate) []string {
	var names []string
	for _, a := range e.Accounts {
		names = append(names, a.Name)
	}
	if len(names) == 0 {
		names = []string{e.Name}
	}
	return names
}

// begin finds what is to be watched, and takes the lease for it.
func (u *Upholder) begin(ctx context.Context, r *Reading) (watched context.Context, release func(), err error) {
	names := LeasesOf(r.Definitions.Estate)
	var gone []*account
	for _, a := range u.known() { // what the definitions no longer name is watched no longer
		if !slices.Contains(names, a.name) && !slices.ContainsFunc(r.Definitions.Estate.Clouds,
			func(x *estate.Cloud) bool { return x.Name == a.of() }) {
			gone = append(gone, a)
		}
	}
	u.forsake(ctx, "the definitions no longer name their cloud", gone)
	u.forsakeClouds(ctx, r.Definitions.Estate)
	if len(r.Definitions.Estate.Clouds) == 0 {
		return nil, nil, errors.New("the definitions name no cloud: write cloud NAME { dialect … at … token env … }")
	}
	return work.Watch(ctx, u.Store, names, "uphold", func(format string, a ...any) {
		u.Log.Warn(fmt.Sprintf(format, a...))
	})
}

// known are the accounts, sorted by name.
func (u *Upholder) known() []*account {
	u.mu.Lock()
	defer u.mu.Unlock()
	return slices.SortedFunc(maps.Values(u.accounts), func(a, b *account) int {
		return strings.Compare(a.name, b.name)
	})
}

// accountOf is an account by its name; a new one if it is not known yet.
func (u *Upholder) accountOf(name, of string) *account {
	u.mu.Lock()
	defer u.mu.Unlock()
	a := u.accounts[name]
	if a == nil {
		a = &account{name: name, cloud: of, held: make(map[string]*holding), began: u.Now(),
			kicked: make(chan struct{}, 1)}
		u.accounts[name] = a
	}
	return a
}

// recall reads what is kept of accounts, and of what was found in them.
func (u *Upholder) recall(ctx context.Context) error {
	err := u.Store.LastWatched(ctx, func(w store.Watched) error {
		if strings.Contains(w.Account, " ") {
			return nil // a position that is kept beside them
		}
		a := u.accountOf(w.Account, w.Cloud)
		a.take(w.Packed, linesOf(w.Lines))
		a.at.Feed, a.at.Last, a.version, a.judged = w.Feed, w.Last, w.Version, true
		u.others.of[a.name], u.others.stale = knownIn(linesOf(w.Lines)), true
		return nil
	})
	if err != nil {
		return err
	}
	held, err := u.Store.Holding(ctx, Source, false)
	if err != nil {
		return err
	}
	for _, h := range held {
		x, err := holdingOf(h)
		if err != nil {
			return err
		}
		if name, is := strings.CutPrefix(h.Account, sightOf); is {
			u.mu.Lock()
			u.sight(name).held = x
			u.mu.Unlock()
			continue
		}
		a := u.accountOf(h.Account, "")
		a.held[h.Key] = x
		a.blind = a.blind || h.Key == blindKey
	}
	return nil
}

// refresh reads what has been added to the journal.
func (u *Upholder) refresh() error {
	u.mu.Lock()
	defer u.mu.Unlock()
	head, err := u.Store.Head()
	if err != nil {
		return &unreadableError{err}
	}
	if u.chronicle == nil {
		u.chronicle = enact.NewChronicle(u.reading.Definitions.Estate.Name)
	}
	known := u.chronicle.Head()
	if head.Number == known.Number && head.Hash == known.Hash && u.runs.Upheld != nil {
		return nil
	}
	if err := u.Store.Since(known, u.chronicle.Take); err != nil {
		u.chronicle = nil // it is read from its beginning the next time
		return &unreadableError{err}
	}
	now, err := u.chronicle.Now()
	if err != nil {
		return &unreadableError{err}
	}
	u.runs = work.Runs{Now: now}
	u.decided = u.decided.With(now.Knows, now.Passes)
	u.decided.ExemptID = now.Upheld.ExemptID
	u.Facts.passes(now.Passes, u.Now())
	return nil
}

// told is what the journal tells now.
func (u *Upholder) told() (enact.Now, error) {
	err := u.refresh()
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.runs.Now, err
}

// elsewhere are the addresses of all accounts at which nobody is a stranger.
func (u *Upholder) elsewhere() addr.Set {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.others.stale {
		var sets []addr.Set
		for _, name := range slices.Sorted(maps.Keys(u.others.of)) {
			sets = append(sets, u.others.of[name])
		}
		u.others.all, u.others.stale = addr.UnionAll(sets...), false
	}
	return u.others.all
}

// notice is a notice of this estate.
func (u *Upholder) notice(kind string, severity audit.Severity, format string, a ...any) notify.Notice {
	return notify.Notice{Version: notify.NoticeVersion, ID: notify.NewID(), Type: kind, Severity: severity.String(),
		At: u.Now().UTC(), Estate: u.estate(), Says: fmt.Sprintf(format, a...)}
}

func (u *Upholder) estate() string {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.reading == nil {
		return ""
	}
	return u.reading.Definitions.Estate.Name
}

// targets are those that are told.
func (u *Upholder) targets() []notify.Target {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.reading.Targets
}

// tell puts a notice into the outbox, about places or about the whole estate.
func (u *Upholder) tell(ctx context.Context, n notify.Notice, where ...estate.Place) {
	level := slog.LevelInfo
	if s, _ := audit.ParseSeverity(n.Severity); s >= audit.High {
		level = slog.LevelWarn
	}
	u.Log.Log(ctx, level, n.Says, "type", n.Type)
	u.keep(ctx, store.Round{Tell: []store.Telling{n.Telling(u.targets(), where...)}})
}

func (u *Upholder) tellStart(ctx context.Context) {
	u.mu.Lock()
	r := u.reading
	u.mu.Unlock()
	does := "it changes nothing but passes that are over"
	switch {
	case r.PutsBack && r.PutBack != nil:
		does = "where " + r.PutBack.String() + ", what is changed by hand is put back"
	case r.PutsBack:
		does = "what is changed by hand is put back"
	}
	if n := len(u.laws); n > 0 {
		does += fmt.Sprintf("; %s enforced once somebody has agreed", count.Of(n, "law is", "laws are"))
	}
	u.tell(ctx, u.notice(notify.Started, audit.Info, "%s watches %s in %s; %s",
		u.By, count.Of(len(r.Definitions.Estate.Accounts), "defined account", "defined accounts"),
		count.Of(len(r.Definitions.Estate.Clouds), "cloud", "clouds"), does))
}

func (u *Upholder) tellEnd(ctx context.Context) {
	if u.Once {
		return
	}
	n := u.notice(notify.Stopping, audit.Info, "%s watches no longer: until it is started again, nobody does", u.By)
	if u.way != nil {
		n = u.notice(notify.Stopping, audit.Critical, "%s watches no longer: %v", u.By, u.way)
	}
	u.tell(ctx, n)
	last, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	u.sender.Flush(last)
}

// breakDefinitions tells that definitions or settings can't be read, once for each mistake.
func (u *Upholder) breakDefinitions(ctx context.Context, err error) {
	u.mu.Lock()
	known := u.broken == err.Error()
	u.broken = err.Error()
	u.mu.Unlock()
	if known {
		return
	}
	u.tell(ctx, u.notice(notify.DefinitionsBroken, audit.High,
		"the definitions or settings have a mistake; what was read before goes on to count: %v", err))
}

func (u *Upholder) mendDefinitions(ctx context.Context) {
	u.mu.Lock()
	was := u.broken
	u.broken = ""
	u.mu.Unlock()
	if was == "" {
		u.Log.Info("definitions and settings are read again")
		return
	}
	u.tell(ctx, u.notice(notify.Resolved, audit.Info, "the definitions and settings can be read again, and count"))
}
