package work

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"isonomos/core/change"
	"isonomos/core/compile"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/law"
	"isonomos/core/narrow"
	"isonomos/core/pass"
	"isonomos/core/service"
	"isonomos/enact"
	"isonomos/nomos"
	"isonomos/nomos/source"
)

// Drafting: from the state that clouds are in and the one that they are to be brought to, to steps
// that are reviewed and carried out.

// A Job brings clouds to a state: what definitions say, or what was there before a run.
type Job struct {
	Aim func(surveyed *estate.Estate) (*change.Aim, error)
	// the same aim, for a state in which all steps are done
	Ended    func(surveyed *estate.Estate) (*change.Aim, error)
	Expects  []law.Expectation
	Digest   string                              // of the definitions; empty if they don't matter
	Defined  *estate.Estate                      // says how the clouds are reached
	Promises []enact.Promise                     // of the definitions
	Promised []enact.Promise                     // of those that were carried out last; nil if none were
	Settle   func(surveyed *estate.Estate) error // whether the definitions match a survey; may be nil
	Passes   Passes                              // finds the passes in a survey; nil finds none
	Lawful   nomos.Definitions                   // their laws say what must not be brought back
}

// Passes finds the passes in a survey and marks their rules, which come and go by themselves.
type Passes func(surveyed *estate.Estate) []*pass.Found

func (p Passes) in(surveyed *estate.Estate) []*pass.Found {
	if p == nil {
		return nil
	}
	return p(surveyed)
}

// everything is given instead of names to adopt all that is defined.
const everything = "all"

// DefinedJob brings clouds to what definitions say, in the given accounts or in all. Objects
// without the estate's mark are only changed if they are to be adopted, by full name.
// Knows reports what the journal knows as made or adopted; nil means everything. Passes are left as they are.
func DefinedJob(d nomos.Definitions, digest string, accounts, adopts []string,
	knows func(account, kind, id string) bool, passes Passes) (Job, error) {
	var known []string
	for _, x := range d.Estate.Accounts {
		known = append(known, x.Name)
	}
	if err := Known("account", accounts, known); err != nil {
		return Job{}, err
	}
	choice := change.Choice{Knows: knows,
		Account: func(x *estate.Account) bool { return len(accounts) == 0 || slices.Contains(accounts, x.Name) },
		Adopt: func(path string) bool {
			return slices.Contains(adopts, path) || slices.Contains(adopts, everything) && defines(d.Estate, path)
		},
	}
	ended := func(surveyed *estate.Estate) (*change.Aim, error) {
		passes.in(surveyed)
		return change.NewAim(d.Estate, surveyed, choice), nil
	}
	aim := func(surveyed *estate.Estate) (*change.Aim, error) {
		if err := canAdopt(d.Estate, surveyed, adopts); err != nil {
			return nil, err
		}
		return ended(surveyed)
	}
	return Job{Aim: aim, Ended: ended, Expects: d.Expects, Digest: digest, Defined: d.Estate,
		Promises: Promises(d), Passes: passes}, nil
}

// defines reports whether definitions have a group or list of a full name.
func defines(e *estate.Estate, path string) bool {
	return e.FindGroup(path) != nil ||
		slices.ContainsFunc(e.Lists, func(l *estate.List) bool {
			_, name, _ := strings.Cut(path, "/")
			return l.Name == name
		})
}

// canAdopt says which of the names to adopt is neither a defined group or list nor one that bears the
// estate's mark. What has the name of a defined one can be adopted by its id too: ACCOUNT/ID.
func canAdopt(e, surveyed *estate.Estate, adopts []string) error {
	known := []string{everything}
	for _, g := range surveyed.Groups {
		if slices.ContainsFunc(e.Groups, func(d *estate.Group) bool {
			return !d.Existing && d.Account.Name == g.Account.Name && (d.InCloud() == g.Name || d.InCloud() == g.ID)
		}) {
			known = append(known, g.Account.Name+"/"+g.ID)
		}
		if g.Labels[estate.OwnLabel] == e.Name {
			known = append(known, g.Path())
		}
	}
	for _, l := range surveyed.Lists {
		if l.Account != nil && slices.ContainsFunc(e.Lists, func(d *estate.List) bool { return d.Name == l.Name }) {
			known = append(known, l.Account.Name+"/"+l.ID)
		}
		if l.Account != nil && l.Labels[estate.OwnLabel] == e.Name {
			known = append(known, l.Account.Name+"/"+l.Name)
		}
	}
	for _, g := range e.Groups {
		if !g.Existing {
			known = append(known, g.Path())
		}
	}
	for _, x := range e.Accounts {
		for _, l := range e.Lists {
			known = append(known, x.Name+"/"+l.Name)
		}
	}
	return Known("defined group or list", adopts, known)
}

// UndoingJob brings clouds back to what was there before a run. The definitions only tell how
// clouds are reached, and the names of services.
func UndoingJob(defined *estate.Estate, p *enact.Past, passes Passes) Job {
	named := func(aim func(*estate.Estate) (*change.Aim, error)) func(*estate.Estate) (*change.Aim, error) {
		return func(surveyed *estate.Estate) (*change.Aim, error) {
			if err := notSurveyed(surveyed, p.Draft.Changes()); err != nil {
				return nil, err
			}
			passes.in(surveyed)
			found, err := aim(surveyed)
			if err == nil {
				found.Then.Services = defined.Services
			}
			return found, err
		}
	}
	return Job{Aim: named(p.Undone), Ended: named(p.Undoing), Defined: defined, Passes: passes}
}

// Digest is a fingerprint of definitions: of the files' texts, and their names relative to a
// folder.
func Digest(folder string, files []*source.File) string {
	sum := sha256.New()
	for _, f := range files {
		name, err := filepath.Rel(folder, f.Name)
		if err != nil {
			name = f.Name
		}
		fmt.Fprintf(sum, "%q %d\n", filepath.ToSlash(name), len(f.Text))
		sum.Write([]byte(f.Text))
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// An InexpressibleError says which definitions clouds can't express.
type InexpressibleError struct {
	Failures []*compile.Failure
	// CanAdopt is what is there and not marked as ours, and could be adopted: then it would be as it is defined.
	CanAdopt []string
}

func (e *InexpressibleError) Error() string {
	if len(e.Failures) == 1 {
		return "1 group can't be expressed in its cloud"
	}
	return count.Number(len(e.Failures)) + " groups can't be expressed in their clouds"
}

// BeforeAdopting says what would keep definitions from being drafted on a survey as long as nothing is adopted, and
// what could be.
func BeforeAdopting(d nomos.Definitions, surveyed *estate.Estate) *InexpressibleError {
	aim := change.NewAim(d.Estate, surveyed, change.Choice{})
	if names := aim.Adoptable(); len(aim.Failures) > 0 && len(names) > 0 {
		return &InexpressibleError{aim.Failures, names}
	}
	return nil // what else keeps them from it is told of the definitions themselves
}

// A Prepared job is a draft, and the two states that it was made from.
type Prepared struct {
	Draft     enact.Draft // without Cut: see LookForCuts
	Aim       *change.Aim
	now, then *decide.Decider
}

// Prepare plans a job, starting from a surveyed state, and writes it as a draft. If a cloud can't
// express a definition, the error is an InexpressibleError.
func (j Job) Prepare(surveyed *estate.Estate, waves enact.Waves, made time.Time) (*Prepared, error) {
	aim, err := j.Aim(surveyed)
	var wrong *WrongError
	var unread *NotSurveyedError
	if errors.As(err, &wrong) || errors.As(err, &unread) {
		return nil, err
	}
	if err != nil {
		return nil, refused("%w", err)
	}
	if len(aim.Unread) > 0 {
		return nil, &NotSurveyedError{aim.Unread[0]}
	}
	if len(aim.Failures) > 0 {
		return nil, &InexpressibleError{aim.Failures, aim.Adoptable()}
	}
	plan, err := change.NewPlan(aim)
	var stuck *change.StuckError
	if errors.As(err, &stuck) {
		text := stuck.Error()
		for i := range stuck.Steps[:min(3, len(stuck.Steps))] {
			text += "\n  not possible: " + enact.Says(&stuck.Steps[i], aim.Then.Services)
		}
		return nil, refused("%s", text)
	}
	if err != nil {
		return nil, refused("%w", err)
	}
	p := &Prepared{Draft: enact.NewDraft(plan, aim, waves, draftWords(aim.Then)), Aim: aim, now: decide.New(aim.Now),
		then: decide.New(aim.Then)}
	d := &p.Draft
	d.Made, d.Definitions = made.UTC().Truncate(time.Second), j.Digest
	d.Promises, d.Weaker = append(d.Promises, j.Promises...), enact.Weaker(j.Promised, j.Promises)
	d.Surveyed = surveyed.Taken.UTC().Format(time.RFC3339)
	d.Traffic = draftTraffic(aim.Then, change.Compare(p.now, p.then))
	before, after := law.Prove(seen(aim.Now), law.Rebase(j.Expects, aim.ToNow)),
		law.Prove(seen(aim.Then), law.Rebase(j.Expects, aim.ToThen))
	for i := range after {
		d.Expects = append(d.Expects, enact.Expect{Text: after[i].Text, File: filepath.ToSlash(after[i].Origin.File),
			Line: after[i].Origin.Line, Before: before[i].Holds, After: after[i].Holds, Unsure: after[i].Undecided})
	}
	d.Quotas = append(d.Quotas, draftQuotas(aim)...)
	d.Bypassed = append(d.Bypassed, draftBypasses(aim, p.then)...)
	return p, nil
}

// A NotSurveyedError says that an account of a job could not be surveyed.
type NotSurveyedError struct{ Account estate.Unread }

func (e *NotSurveyedError) Error() string {
	return fmt.Sprintf("%s could not be surveyed (%s)", e.Account.Words(), e.Account.Reason)
}

// notSurveyed is an error if an account was not read: nothing follows from what is not seen there.
func notSurveyed(surveyed *estate.Estate, accounts []string) error {
	for _, name := range accounts {
		if surveyed.FindAccount(name) != nil {
			continue
		}
		u := estate.Unread{Account: name, Reason: "no cloud that is defined shows it"}
		for _, x := range surveyed.Unread {
			if x.Account == name || x.Cloud != "" && u.Account == name {
				u = x
				break
			}
		}
		return &NotSurveyedError{u}
	}
	return nil
}

// seen is a copy of an estate to which instances can be added.
func seen(e *estate.Estate) *estate.Estate {
	copied := *e
	copied.Instances = slices.Clip(slices.Clone(e.Instances))
	return &copied
}

// nameOf is the instance that has an address, or the address itself.
func (p *Prepared) nameOf(a netip.Addr) string {
	if at := p.now.At(a); len(at) > 0 {
		return at[0].Instance.Path()
	}
	return a.String()
}

// LookForCuts notes in the draft which observed flows it would stop: who was seen to use what, and whether that is
// needed, judged as narrowing does.
func (p *Prepared) LookForCuts(flows *flow.Summary) {
	cut := &p.Draft.Cut
	cut.Looked = true
	var stopped []*flow.Sum
	change.CutFlows(p.now, p.then, flows.Sums(), func(x *flow.Sum) { stopped = append(stopped, x) })
	judge := narrow.NewJudge(p.now, flows, stopped)
	for _, x := range stopped {
		cut.Flows += int64(x.Flows)
		cut.Users = append(cut.Users, enact.CutUse{Who: p.nameOf(x.Source), To: p.nameOf(x.Destination),
			Service: p.Aim.Then.Services.Describe(service.Between(x.Service, x.Service)), Flows: x.Flows,
			Days: x.Days.Count(), Last: time.Unix(x.Last, 0).UTC().Format(time.RFC3339),
			Judged: cmp.Or(string(judge.Of(x)), enact.Needed)})
	}
	needed := func(u enact.CutUse) int {
		if u.Judged == enact.Needed {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(cut.Users, func(a, b enact.CutUse) int {
		return cmp.Or(needed(a)-needed(b), b.Days-a.Days, b.Flows-a.Flows)
	})
}

// ErrStale marks the errors of drafts that are not what would be drafted now.
var ErrStale = errors.New("make a new one")

// StillSo makes a draft again from a new survey, and compares: only if it is the same is what was
// reviewed still what will be carried out.
func (j Job) StillSo(surveyed *estate.Estate, d *enact.Draft) error {
	if err := notSurveyed(surveyed, d.Changes()); err != nil {
		return err
	}
	aim, err := j.Aim(surveyed)
	if err != nil {
		return refused("%w", err)
	}
	if len(aim.Unread) > 0 {
		return &NotSurveyedError{aim.Unread[0]}
	}
	plan, err := change.NewPlan(aim)
	if err != nil {
		return refused("the clouds have changed since the draft was made: %w", err)
	}
	again := enact.NewDraft(plan, aim, enact.Waves{}, draftWords(aim.Then))
	for i := range d.Objects {
		o := &d.Objects[i]
		k := slices.IndexFunc(again.Objects,
			func(x enact.Touched) bool { return x.Account == o.Account && x.Kind == o.Kind && x.ID == o.ID })
		if k >= 0 && again.Objects[k].Revision != o.Revision {
			return refused("the %s %s of %s has changed since the draft was made: %w", o.Kind, o.Name, o.Account,
				ErrStale)
		}
	}
	if !sameSteps(d, &again) {
		return refused("the clouds have changed since the draft was made, and other steps would be needed now: %w",
			ErrStale)
	}
	waves, _ := enact.ParseWaves(d.Waves) // what can't be read has other waves than the draft's
	p, err := j.Prepare(surveyed, waves, d.Made)
	if err != nil {
		return err
	}
	if differs := d.Differs(&p.Draft); len(differs) > 0 {
		return refused("what the draft says of its steps is not what they do in the clouds as they are now (%s): %w",
			strings.Join(differs, ", "), ErrStale)
	}
	return nil
}

// sameSteps reports whether two drafts have the same steps, if the waves of the first are used.
func sameSteps(d, again *enact.Draft) bool {
	flat := func(x *enact.Draft) string {
		lanes := slices.Clone(x.Lanes)
		for i := range lanes {
			lanes[i].Wave, lanes[i].Stage = 0, ""
		}
		slices.SortStableFunc(lanes, func(a, b enact.Lane) int { return slices.Compare(a.Accounts, b.Accounts) })
		objects := slices.Clone(x.Objects)
		slices.SortFunc(objects, func(a, b enact.Touched) int {
			return strings.Compare(a.Account+" "+a.Kind+" "+a.ID, b.Account+" "+b.Kind+" "+b.ID)
		})
		return (&enact.Draft{Objects: objects, Lanes: lanes}).Digest()
	}
	return flat(d) == flat(again)
}

// Arrived proves that accounts are in the state in which they should be: on a new survey, which must
// have them, there is nothing left to do in them, and the expectations hold that are to hold.
func (j Job) Arrived(surveyed *estate.Estate, d *enact.Draft, accounts []string) error {
	if err := notSurveyed(surveyed, accounts); err != nil { // nothing is left to do where nothing is known
		return err
	}
	aim, err := j.Ended(surveyed)
	if err != nil {
		return err
	}
	plan, err := change.NewPlan(aim)
	if err != nil {
		return fmt.Errorf("%w: somebody else has changed something, %w", err, enact.ErrOvertaken)
	}
	for _, l := range plan.Lanes {
		for i := range l.Steps {
			if s := &l.Steps[i]; slices.Contains(accounts, s.Account.Name) {
				return fmt.Errorf("there is more to be done: %s; somebody else has changed it, %w",
					enact.Says(s, aim.Then.Services), enact.ErrOvertaken)
			}
		}
	}
	named := func(file string, line int, text string) string { return fmt.Sprint(filepath.Base(file), line, text) }
	held := make(map[string]bool) // before and after the change
	for _, x := range d.Expects {
		held[named(x.File, x.Line, x.Text)] = x.Before && x.After
	}
	for _, r := range law.Prove(seen(aim.Now), law.Rebase(j.Expects, aim.ToNow)) {
		if !r.Holds && held[named(r.Origin.File, r.Origin.Line, r.Text)] {
			return fmt.Errorf("an expectation no longer holds: %s (%s:%d), %w", r.Text, r.Origin.File, r.Origin.Line,
				enact.ErrOvertaken)
		}
	}
	return nil
}
