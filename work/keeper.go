package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"isonomos/cloud"
	"isonomos/core/change"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/pass"
	"isonomos/enact"
	"isonomos/store"
)

// Keeping an account as it was decided, unattended: what was changed by hand is put back, and what breaches laws that
// are enforced is shut. Everything goes through plans, locks and the journal, as a change does that somebody makes.

// A Keeper keeps one account.
type Keeper struct {
	Account string
	Decided *Decided // the definitions, and what the journal knows
	Store   *store.Store
	Told    func() (enact.Now, error) // what the journal tells
	From    cloud.Cloud               // of the account
	// Survey reads the account now; beside it are the accounts to which it refers.
	Survey func(ctx context.Context) (*estate.Estate, error)
	// Judged is the account as it was judged last: nothing is done about objects that have changed since, of which
	// nobody was told yet. nil does not ask.
	Judged func() (*estate.Estate, error)
	// Sweep shuts passes of the account that are over; it is locked meanwhile.
	Sweep func(ctx context.Context) error
	By    string // who watches
	// LawsFirst has laws enforced first, so that neither is held up by the other for long.
	LawsFirst bool
	Now       func() time.Time
	Note      func(format string, a ...any)
	Halt      context.Context // when it is done, no further step begins
}

// May says what may be done.
type May struct {
	// PutBack says whether what was decided is put back at a place; nil puts nothing back.
	PutBack func(estate.Place) bool
	// Leave says why a group is left alone, or is empty. Opens says that something would be let through again, or that
	// it would be attached or detached.
	Leave func(g *estate.Group, opens bool) string
	// Failed says why a group, list, interface or subnet is left alone for now, by its id, or is empty: what was tried
	// there last has failed, and all others are kept without it. Opens is as for Leave.
	Failed func(id string, opens bool) string
	Agreed func(law string) bool // that a law is enforced
	// Enforces says which laws are enforced in a group by now.
	Enforces func(law string, g *estate.Group) bool
	By       func(group string) string // who has changed a group, by its id; empty where that is not known
	// WroteLabel reports whether it was this program that wrote the label of a group that says who puts it back, as far
	// as the cloud tells.
	WroteLabel func(group, value string) bool
	Upholder   estate.Upholder // who puts it back
}

// leave says why a group is left alone, or is empty.
func (m May) leave(g *estate.Group, opens bool) string {
	if why := m.Failed(g.ID, opens); why != "" {
		return why
	}
	return m.Leave(g, opens)
}

// Kept is what came of it.
type Kept struct {
	Run  string            // that was carried out; empty if there was nothing to do
	Left map[string]string // groups and lists that are left alone, by their full names, and why
	// Taken are those of them whose names others have, and the names of their definitions, by which these are adopted.
	Taken map[string]string
	seen  *estate.Estate // in which there is nothing to do
}

// A FailedError says at which objects something failed, by their ids, so that all others can be kept without them.
type FailedError struct {
	Objects []string
	Why     string // what failed there
	err     error
}

func (e *FailedError) Error() string { return e.err.Error() }
func (e *FailedError) Unwrap() error { return e.err }

// An EarlierError says that a group that is to be put back was put back by another upholder, which goes by another
// journal that is older. Only one of them can be right.
type EarlierError struct {
	Group string
	By    estate.Upholder
}

func (e *EarlierError) Error() string {
	return fmt.Sprintf("%s was put back by another upholder, which goes by another journal (%s, begun at %s): "+
		"this one "+
		"stops, so that they don't undo what the other does", e.Group, e.By.Journal, e.By.Since.Format(time.RFC3339))
}

// ErrUnjudged says that what would be changed is not as it was when the account was judged.
var ErrUnjudged = errors.New("it has changed since it was judged")

// errBusy says that a run is changing the account.
var errBusy = errors.New("a run is changing the account")

// Busy reports whether an account was left alone because somebody else is changing it, or has changed it meanwhile.
func Busy(err error) bool {
	var locked *store.LockedError
	return errors.As(err, &locked) || errors.Is(err, errBusy) || errors.Is(err, enact.ErrOvertaken) ||
		errors.Is(err, enact.ErrCalledOff)
}

// Keep puts back what was decided, or if there is nothing of that shuts what breaches laws, as far as it may: one run
// at most, after which the account is to be judged again.
func (k Keeper) Keep(ctx context.Context, may May) (Kept, error) {
	kept := Kept{Left: make(map[string]string), Taken: make(map[string]string)}
	name := runName(k.Now())
	ctx, held, unlock, err := lock(ctx, k.Store, []string{k.Account}, name, k.Note)
	if err != nil {
		return kept, err
	}
	defer unlock()
	now, err := k.Told()
	if err != nil {
		return kept, err
	}
	for _, p := range now.Open {
		if p.Open() && slices.Contains(p.Draft.Changes(), k.Account) {
			return kept, errBusy // it was broken off: somebody has to say what becomes of it
		}
	}
	if err := k.finish(ctx, now); err != nil {
		return kept, err
	}
	aims := []func(*estate.Estate) (*keeping, error){
		func(surveyed *estate.Estate) (*keeping, error) {
			if may.PutBack == nil {
				return newKeeping(), nil
			}
			told, err := k.Told() // what was made again has another id from then on
			if err != nil {
				return nil, err
			}
			now := k
			now.Decided = k.Decided.With(told.Knows, told.Passes)
			return now.toPutBack(surveyed, told.Decided, may)
		},
		func(surveyed *estate.Estate) (*keeping, error) { return k.toEnforce(surveyed, may) },
	}
	if k.LawsFirst {
		slices.Reverse(aims)
	}
	for _, aim := range aims {
		x, err := k.carry(ctx, name, held, may, aim)
		maps.Copy(kept.Left, x.Left)
		maps.Copy(kept.Taken, x.Taken)
		if kept.Run = x.Run; kept.Run != "" || err != nil {
			return kept, err
		}
		kept.seen = x.seen
	}
	if k.Judged == nil {
		return kept, nil
	}
	judged, err := k.Judged()
	if err == nil && !enact.Same(judged, kept.seen, k.Account) { // an answer may be from before the last change
		err = ErrUnjudged
	}
	return kept, err
}

// A keeping is what is to be done.
type keeping struct {
	aim   *change.Aim // nil if there is nothing to do
	plan  change.Plan
	laws  []string        // that are enforced by it; none where something is put back
	opens map[string]bool // groups by their full names
	shuts map[string]bool
	left  map[string]string // groups and lists that are left alone, by their full names, and why
	taken map[string]string // those of them whose names others have, and the names of their definitions
	// places are the full names of groups that are changed, by id.
	places map[string]string
}

func newKeeping() *keeping {
	return &keeping{opens: make(map[string]bool), shuts: make(map[string]bool), left: make(map[string]string),
		places: make(map[string]string), taken: make(map[string]string)}
}

// planned finds the steps.
func (x *keeping) planned(k Keeper) (*keeping, error) {
	if x.aim == nil {
		return x, nil
	}
	x.aim.Then.Services = k.Decided.Definitions.Estate.Services
	var err error
	x.plan, err = change.NewPlan(x.aim)
	if err == nil {
		return x, nil
	}
	why := err.Error()
	var stuck *change.StuckError
	if errors.As(err, &stuck) {
		why += ": " + enact.Says(&stuck.Steps[0], x.aim.Then.Services)
	}
	var about interface {
		error
		Objects() []string
	}
	if errors.As(err, &about) {
		return x, &FailedError{about.Objects(), why, refused("%s", why)}
	}
	return x, refused("%s", why)
}

// carry finds what is to be done, and does it. Its run is empty if there was nothing to do.
func (k Keeper) carry(ctx context.Context, name string, held func() error, may May,
	aims func(*estate.Estate) (*keeping, error)) (Kept, error) {
	surveyed, err := k.look(ctx)
	if err != nil {
		return Kept{}, err
	}
	x, err := aims(surveyed)
	if x == nil {
		return Kept{}, err
	}
	kept := Kept{Left: x.left, Taken: x.taken, seen: surveyed}
	if err != nil || x.aim == nil || x.plan.Steps() == 0 {
		return kept, err
	}
	d := enact.NewDraft(x.plan, x.aim, enact.Waves{}, draftWords(x.aim.Then))
	d.Made, d.By, d.EnactedBy = k.Now().UTC().Truncate(time.Second), k.By, k.By
	d.Surveyed, d.Accounts = surveyed.Taken.UTC().Format(time.RFC3339), []string{k.Account}
	d.Upholds = &enact.Upholds{Laws: x.laws, Opened: slices.AppendSeq([]string{}, maps.Keys(x.opens)),
		Shut: slices.AppendSeq([]string{}, maps.Keys(x.shuts))}
	slices.Sort(d.Upholds.Opened)
	slices.Sort(d.Upholds.Shut)
	d.Upholds.Places = x.places
	for id, place := range x.places {
		if by := may.By(id); by != "" {
			if d.Upholds.By == nil {
				d.Upholds.By = make(map[string]string)
			}
			d.Upholds.By[place] = by
		}
	}
	d.Traffic = draftTraffic(x.aim.Then, change.Compare(decide.New(x.aim.Now), decide.New(x.aim.Then)))
	if k.Judged != nil {
		judged, err := k.Judged()
		if err != nil {
			return kept, err
		}
		if !enact.Alike(judged, surveyed, k.Account, d.Objects) {
			return kept, ErrUnjudged
		}
	}
	d.Seal = d.Sealed()
	carried := &enact.Run{Name: name, Draft: &d, Journal: k.Store, Now: k.Now, Jobs: 1,
		Clouds: func(string) (cloud.Cloud, error) { return k.From, nil }, Passes: enact.PassRules(surveyed)}
	carried.Held = func() error {
		if k.Halt.Err() != nil {
			return enact.ErrCalledOff
		}
		return held()
	}
	carried.Prove = func(ctx context.Context, _ int, _ []string) error { return k.arrived(ctx, aims) }
	if _, err := k.Store.Append(k.Now(), name, enact.Begin, d); err != nil {
		return kept, unreachable("%w", err)
	}
	err = carried.Do(ctx)
	switch s := firstStop(err); {
	case s == nil:
	case s.Object != "" && !s.Proof:
		err = &FailedError{[]string{s.Object}, whyAt(s), fmt.Errorf("%w: %s: %w", err, s.Says, s.Err)}
	default:
		err = fmt.Errorf("%w: %w", err, s.Err)
	}
	kept.Run = name
	return kept, err
}

// arrived proves, on a new survey, that nothing is left to do.
func (k Keeper) arrived(ctx context.Context, aims func(*estate.Estate) (*keeping, error)) error {
	return lookAgain(ctx, func() (again bool, err error) {
		surveyed, err := k.look(ctx)
		if err != nil {
			return false, err
		}
		x, err := aims(surveyed)
		if err != nil || x.aim == nil || x.plan.Steps() == 0 {
			return false, err
		}
		return true, fmt.Errorf("there is more to be done: %s; somebody else has changed it, %w",
			enact.Says(&x.plan.Lanes[0].Steps[0], x.aim.Then.Services), enact.ErrOvertaken)
	})
}

// look reads the account, once passes that are over are shut.
func (k Keeper) look(ctx context.Context) (*estate.Estate, error) {
	for tries := 0; ; tries++ {
		surveyed, err := k.Survey(ctx)
		if err != nil {
			return nil, unreachable("%w", err)
		}
		over := slices.ContainsFunc(PassesOf(k.Decided.part(k.Account), surveyed, k.Decided.Knows.Has, k.Decided.Passes,
			k.Now()),
			func(f *pass.Found) bool {
				return f.Account == k.Account && (f.State == pass.Overdue || f.State == pass.Broken)
			})
		if !over || tries > 0 {
			return surveyed, nil
		}
		// What can't be shut is told by whoever ends passes. It keeps nothing else from being put back or shut.
		if err := k.Sweep(ctx); err != nil && (ctx.Err() != nil || Busy(err)) {
			return nil, err
		}
	}
}

// finish brings runs of this kind to their end that were broken off in the account: whatever they have left undone is
// found anew. What they may have made, although no answer told, is looked for by its name and mark.
func (k Keeper) finish(ctx context.Context, now enact.Now) error {
	for _, p := range now.Open {
		if !p.BrokenOff() || p.Draft.Upholds == nil || !slices.Contains(p.Draft.Changes(), k.Account) {
			continue
		}
		if p.MayHaveMade() {
			surveyed, err := k.Survey(ctx)
			if err != nil {
				return unreachable("%w", err)
			}
			if err := p.FindMade(surveyed, k.Store, k.Now()); err != nil {
				return refused("%w", err)
			}
			if p.MayHaveMade() && k.Now().Before(p.MayArrive()) {
				continue // what it makes yet has to be known: a later round closes it
			}
		}
		if err := Close(k.Store, p, k.Now(), "it was broken off, and what is left to do is found anew"); err != nil {
			return err
		}
	}
	return nil
}

// linesOfRules are rules as lines of a survey.
func linesOfRules(g *estate.Group, rules []estate.Rule) []json.RawMessage {
	var lines []json.RawMessage
	for i := range rules {
		lines = append(lines, json.RawMessage(strings.TrimSuffix(store.RuleLine(g, &rules[i]), "\n")))
	}
	return lines
}

// groupsOf are the groups of an account in an estate, by id.
func groupsOf(e *estate.Estate, account string) map[string]*estate.Group {
	all := make(map[string]*estate.Group)
	for _, g := range e.Groups {
		if g.Account.Name == account && g.ID != "" {
			all[g.ID] = g
		}
	}
	return all
}
