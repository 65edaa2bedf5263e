package enact

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"isonomos/cloud"
	"isonomos/core/change"
	"isonomos/core/estate"
)

// A book holds what the objects of a lane are believed to contain.
type book struct {
	r    *Run
	held map[ident]*page
}

// An ident identifies an object by account, kind and real id.
type ident struct{ account, kind, id string }

func (a ident) compare(b ident) int {
	return cmp.Or(strings.Compare(a.account, b.account), strings.Compare(a.kind, b.kind), strings.Compare(a.id, b.id))
}

// A page is what is believed of one object.
type page struct {
	now     content
	version string // empty until the object is read
}

// open begins a book with the objects as the draft saw them.
func (b *book) open(lane *Lane, objects []Touched) error {
	for _, o := range objects {
		if !slices.Contains(lane.Accounts, o.Account) {
			continue
		}
		now, err := contentOf(o.Before)
		if err != nil {
			return err
		}
		b.held[ident{o.Account, o.Kind, o.ID}] = &page{now: now}
	}
	return nil
}

// withoutPasses are the lines of an object without rules of passes.
func (r *Run) withoutPasses(account string, lines []json.RawMessage) []json.RawMessage {
	if len(r.Passes) == 0 {
		return lines
	}
	return slices.DeleteFunc(slices.Clone(lines), func(text json.RawMessage) bool {
		var l line
		return json.Unmarshal(text, &l) == nil && l.Kind == "rule" && r.Passes[[2]string{account, l.ID}]
	})
}

// note records what an object contains after a step.
func (b *book) note(s *Step) error {
	request := b.r.names.request(s.Request)
	of := request.Of()
	if of.Kind == "" {
		return b.noteMade(s, request)
	}
	p := b.held[ident{request.Account, of.Kind, of.ID}]
	if p == nil {
		return fmt.Errorf("the draft does not say what was in the %s %s", of.Kind, of.ID)
	}
	var err error
	p.now, err = p.now.after(request)
	return err
}

// noteMade records an object that an earlier part of the run made, as it was then; later steps are
// noted on top.
func (b *book) noteMade(s *Step, request cloud.Request) error {
	kind := request.Do.Of()
	at := ident{request.Account, kind, request.ID}
	if b.held[at] != nil {
		return nil
	}
	now, err := b.r.names.made(s, request)
	b.held[at] = &page{now: now}
	return err
}

// made is the content of an object right after the step that made it.
func (n *names) made(s *Step, request cloud.Request) (content, error) {
	now, err := contentOf([]json.RawMessage{request.Object})
	if err != nil {
		return now, err
	}
	for k, everyone := range everyones {
		made := ownRule(s.ID, k)
		if id := n.of(request.Account, made); id != made {
			now.rules[id] = letOut(everyone)
		}
	}
	return now, nil
}

// everyones are the ranges in the rules of a new group that let everything out.
var everyones = []string{"0.0.0.0/0", "::/0"}

// letOut is what such a rule says.
func letOut(everyone string) string {
	return line{Direction: "out", Peers: encode([]string{everyone}), Services: []string{"any"}}.text()
}

// ownRule is the made-up id of such a rule in a group with a made-up id.
func ownRule(group string, n int) string { return fmt.Sprintf("%s.%d", group, n+1) }

func (b *book) read(ctx context.Context, at ident) (cloud.Object, error) {
	from, err := b.r.Clouds(at.account)
	if err != nil {
		return cloud.Object{}, err
	}
	return from.Read(ctx, at.account, cloud.Ref{Kind: at.kind, ID: at.id})
}

// gone reports whether an object is not in its account any more, by all that is there: a cloud that shows nothing of an
// account says the same of each object in it.
func (b *book) gone(ctx context.Context, at ident) (bool, error) {
	from, err := b.r.Clouds(at.account)
	if err != nil {
		return false, err
	}
	lines, err := from.Survey(ctx, at.account)
	if err != nil {
		return false, fmt.Errorf("the account %s can't be read: %w", at.account, err)
	}
	account := false
	for text := range bytes.Lines(lines) {
		var l line
		if err := json.Unmarshal(text, &l); err != nil {
			return false, fmt.Errorf("the account %s can't be read: %w", at.account, err)
		}
		account = account || l.Kind == "account"
		if l.Kind == at.kind && l.ID == at.id {
			return false, nil
		}
	}
	if !account {
		return false, fmt.Errorf("the account %s can't be read: the answer is not about it", at.account)
	}
	return true, nil
}

const (
	// mostTries bounds how often a request is sent. mostReads bounds how often an object is read
	// again that looks impossible, since an answer may be stale.
	mostTries = 12
	mostReads = 8
)

// carry sends a request until it is certain that it has been carried out, or that it can't be. It
// returns the ids of what was made. before is until when a request may still arrive that an earlier part of the
// run sent, and of which nobody knows what became; zero if there is none.
func (b *book) carry(ctx context.Context, s *Step, request cloud.Request, before time.Time) (ids map[string]string,
	found bool, err error) {
	in, err := b.r.Clouds(request.Account)
	if err != nil {
		return nil, false, err
	}
	of := request.Of()
	if of.Kind == "" {
		return b.create(ctx, in, s, request, before)
	}
	at := ident{request.Account, of.Kind, of.ID}
	p := b.held[at]
	if p == nil {
		return nil, false, fmt.Errorf("the draft does not say what was in the %s %s", at.kind, at.id)
	}
	want, err := p.now.after(request)
	if err != nil {
		return nil, false, err
	}
	deletes := request.Do.Deletes()
	unsure := !before.IsZero() // an earlier request may have been carried out
	if err := b.arrived(ctx, in, before); err != nil {
		return nil, false, err
	}
	if p.version == "" || unsure {
		done, given, err := b.look(ctx, at, p, want, unsure, deletes)
		if err != nil || done {
			return given, done, err
		}
	}
	for try := range mostTries {
		if try > 0 {
			if err := b.wait(ctx, try); err != nil {
				return nil, false, maybe(err, unsure)
			}
		}
		until := time.Now().Add(b.r.limit())
		o, err := in.Change(ctx, request, p.version)
		switch {
		case err == nil:
			p.version = o.Version
			given, err := givenIDs(s.Request, o.Lines)
			if err != nil || request.Do == change.AddRules && len(given) < len(request.Rules) {
				return nil, false, fmt.Errorf("the cloud's answer does not say which rules were made: %w",
					errors.Join(err, errUnsure))
			}
			return given, false, nil
		case errors.Is(err, cloud.ErrGone) && deletes:
			if gone, err := b.gone(ctx, at); err != nil || gone {
				return nil, unsure, maybe(err, unsure)
			}
		case errors.Is(err, cloud.ErrRefused) && !unsure:
			return nil, false, err
		}
		refused := errors.Is(err, cloud.ErrRefused)
		lost := !refused && !errors.Is(err, cloud.ErrMoved) && !errors.Is(err, cloud.ErrGone)
		unsure = unsure || lost
		if lost {
			if err := b.arrived(ctx, in, until); err != nil {
				return nil, false, err
			}
		}
		done, given, looked := b.look(ctx, at, p, want, unsure, deletes)
		if looked != nil || done {
			return given, done, looked
		}
		if refused && try >= mostReads { // a stale answer may have misled us
			return nil, false, err
		}
		if try == mostTries-1 {
			return nil, false, maybe(err, unsure)
		}
	}
	return nil, false, errUnsure
}

// maybe marks the error of a step that may have been carried out.
func maybe(err error, unsure bool) error {
	if err != nil && unsure {
		return fmt.Errorf("%w; %w", err, errUnsure)
	}
	return err
}

// look reads an object and reports whether the request has been carried out; unsure says that this
// is possible. If the object is neither as before the request nor as after it, somebody else has
// changed it. Since an answer may be stale, it is read again a few times first.
func (b *book) look(ctx context.Context, at ident, p *page, want content, unsure, deletes bool) (done bool,
	ids map[string]string, err error) {
	for try := range mostReads {
		if try > 0 {
			if err := b.wait(ctx, try); err != nil {
				return false, nil, maybe(err, unsure)
			}
		}
		o, readErr := b.read(ctx, at)
		if errors.Is(readErr, cloud.ErrGone) {
			gone, readErr := b.gone(ctx, at)
			if readErr != nil {
				err = maybe(readErr, unsure)
				continue
			}
			if gone && deletes && unsure {
				return true, nil, nil
			}
			err = fmt.Errorf("the %s %s is not there any more, %w", at.kind, p.now.name, ErrOvertaken)
			if !gone {
				err = maybe(fmt.Errorf("the cloud says of the %s %s that it is not there, and lists it", at.kind,
					p.now.name), unsure)
			}
			continue
		}
		if readErr != nil {
			err = maybe(readErr, unsure)
			continue
		}
		if o.Version == "" {
			return false, nil, fmt.Errorf("the cloud gives no version for the %s %s: it can't be changed safely",
				at.kind, at.id)
		}
		now, readErr := contentOf(b.r.withoutPasses(at.account, o.Lines))
		if readErr != nil {
			return false, nil, readErr
		}
		switch {
		case unsure && !deletes && now.equal(want):
			ids, _ = now.rename(want)
			p.version = o.Version
			return true, ids, nil
		case now.equal(p.now):
			p.version = o.Version
			return false, nil, nil
		}
		err = fmt.Errorf("the %s %s has changed meanwhile, %w", at.kind, p.now.name, ErrOvertaken)
	}
	return false, nil, err
}

// givenIDs are the ids of a request's rules, in their order.
func givenIDs(r cloud.Request, lines []json.RawMessage) (map[string]string, error) {
	if r.Do != change.AddRules {
		return nil, nil
	}
	ids := make(map[string]string)
	for n, text := range lines {
		var l, asked line
		if n >= len(r.Rules) {
			break
		}
		if err := json.Unmarshal(text, &l); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(r.Rules[n], &asked); err != nil {
			return nil, err
		}
		if l.ID != "" {
			ids[asked.ID] = l.ID
		}
	}
	return ids, nil
}

// create makes a group or list. If an earlier request may have made it, or the name turns out to be taken, what bears
// the step's own writing is looked for: nothing else is taken for it, whatever its name.
func (b *book) create(ctx context.Context, in cloud.Cloud, s *Step, request cloud.Request,
	before time.Time) (map[string]string, bool, error) {
	kind, unsure := request.Do.Of(), !before.IsZero()
	if err := b.arrived(ctx, in, before); err != nil {
		return nil, false, err
	}
	for try := range mostTries {
		if try > 0 {
			if err := b.wait(ctx, try); err != nil {
				return nil, false, maybe(err, unsure)
			}
		}
		if unsure {
			o, there, err := b.madeBefore(ctx, in, request, kind)
			if errors.Is(err, ErrOvertaken) {
				return nil, false, err
			}
			if err != nil {
				if try == mostTries-1 {
					return nil, false, maybe(err, true)
				}
				continue
			}
			if there {
				ids, err := b.take(s, request.Account, kind, o)
				return ids, true, err
			}
		}
		until := time.Now().Add(b.r.limit())
		o, err := in.Change(ctx, request, "")
		switch {
		case err == nil:
			ids, err := b.take(s, request.Account, kind, o)
			return ids, false, err
		case errors.Is(err, cloud.ErrRefused) && (!unsure || try == mostTries-1), errors.Is(err, cloud.ErrGone):
			return nil, false, maybe(err, unsure)
		}
		lost := !errors.Is(err, cloud.ErrRefused) // otherwise the name is taken, perhaps by the first request
		unsure = unsure || lost
		if try == mostTries-1 {
			return nil, false, maybe(err, unsure)
		}
		if lost {
			if err := b.arrived(ctx, in, until); err != nil {
				return nil, false, err
			}
		}
	}
	return nil, false, errUnsure
}

// bearing is a group or list that is to be made, with the label that says which step makes it.
func bearing(object json.RawMessage, madeBy string) json.RawMessage {
	var whole map[string]json.RawMessage
	var labels map[string]string
	if json.Unmarshal(object, &whole) != nil ||
		whole["labels"] != nil && json.Unmarshal(whole["labels"], &labels) != nil {
		return object // the step can't be read, which is told by whoever carries it out
	}
	if labels == nil {
		labels = make(map[string]string)
	}
	labels[estate.MadeLabel] = madeBy
	whole["labels"] = encode(labels)
	return encode(whole)
}

// madeBefore finds the object that an earlier request of a step made whose answer was lost: the one that bears the
// step's own writing. If it is not all that was asked for, somebody else has changed it.
func (b *book) madeBefore(ctx context.Context, in cloud.Cloud, request cloud.Request, kind string) (cloud.Object, bool,
	error) {
	var asked line
	if err := json.Unmarshal(request.Object, &asked); err != nil {
		return cloud.Object{}, false, err
	}
	refs, err := in.Named(ctx, request.Account, kind, asked.Name)
	if err != nil {
		return cloud.Object{}, false, err
	}
	for _, ref := range refs {
		o, err := in.Read(ctx, request.Account, ref)
		if errors.Is(err, cloud.ErrGone) {
			continue
		}
		if err != nil {
			return cloud.Object{}, false, err
		}
		var l line
		if err := json.Unmarshal(o.Lines[0], &l); err != nil {
			return cloud.Object{}, false, err
		}
		if l.madeBy() == "" || l.madeBy() != asked.madeBy() {
			continue
		}
		if !l.asAsked(asked) {
			return cloud.Object{}, false, fmt.Errorf("the %s %s was made, and has been changed, %w", kind, asked.Name,
				ErrOvertaken)
		}
		return o, true, nil
	}
	return cloud.Object{}, false, nil
}

// leastDescribed is how much of a description there is room for beside the mark of a step, in bytes.
const leastDescribed = 100

// madeBy is the step that made a group or list, where it says so.
func (l line) madeBy() string { return l.Labels[estate.MadeLabel] }

// asAsked reports whether a group or list is all that was asked for when it was made.
func (l line) asAsked(asked line) bool {
	entries := func(l line) []string {
		var all []string
		for _, e := range l.Entries {
			all = append(all, rangeText(e))
		}
		slices.Sort(all)
		return all
	}
	// beside the mark of the step there may be too little room for all of a description
	described := l.Description == asked.Description ||
		len(l.Description) >= leastDescribed && strings.HasPrefix(asked.Description, l.Description)
	return l.Name == asked.Name && l.Network == asked.Network && described &&
		cmp.Or(l.For, "instances") == cmp.Or(asked.For, "instances") && sameMark(l.Labels, asked.Labels) &&
		slices.Equal(entries(l), entries(asked))
}

// settle takes the step's own writing off what a step has made, where it stands in the description. If that fails, it
// stays there: it does no harm.
func (b *book) settle(ctx context.Context, s *Step) {
	request := b.r.names.request(s.Request)
	in, err := b.r.Clouds(request.Account)
	if err != nil {
		return
	}
	of := cloud.Ref{Kind: request.Do.Of(), ID: request.ID}
	var asked line
	if json.Unmarshal(s.Object, &asked) != nil {
		return
	}
	version, err := in.Settle(ctx, request.Account, of, asked.Description)
	if p := b.held[ident{request.Account, of.Kind, of.ID}]; p != nil && (err != nil || version != "") {
		p.version = version // it is read again where that is not known
	}
}

// sameMark reports whether labels are those asked for.
func sameMark(have, asked map[string]string) bool {
	for name, value := range asked {
		if have[name] != value {
			return false
		}
	}
	return true
}

// take records what was made, and finds its id and those of the rules that the cloud added.
func (b *book) take(s *Step, account, kind string, o cloud.Object) (map[string]string, error) {
	now, err := contentOf(o.Lines)
	if err != nil {
		return nil, err
	}
	ids := map[string]string{s.ID: o.ID}
	for id, text := range now.rules {
		n := slices.IndexFunc(everyones, func(everyone string) bool {
			return text == letOut(everyone)
		})
		if n < 0 {
			return nil, fmt.Errorf("the new group has a rule that a new group has not by itself (%s): somebody else "+
				"added it, %w", sentenceOf(o.Lines, id), ErrOvertaken)
		}
		ids[ownRule(s.ID, n)] = id
	}
	b.held[ident{account, kind, o.ID}] = &page{now: now, version: o.Version}
	return ids, nil
}

// arrived waits for a request whose answer was lost, in clouds that would carry it out twice if it was sent again,
// until it can't arrive any more. Zero means that none was sent.
func (b *book) arrived(ctx context.Context, in cloud.Cloud, until time.Time) error {
	if until.IsZero() || in.Once() {
		return nil
	}
	return maybe(pause(ctx, time.Until(until)), true)
}

func (b *book) pace() time.Duration { return cmp.Or(b.r.Pace, 200*time.Millisecond) }

// wait waits before the next attempt: longer each time, and with a random part, so that clients
// don't all come back at once.
func (b *book) wait(ctx context.Context, try int) error {
	most := min(b.pace()<<min(try-1, 5), 25*b.pace())
	return pause(ctx, most/2+time.Duration(rand.Int64N(int64(most/2)+1)))
}

func pause(ctx context.Context, d time.Duration) error {
	if d <= 0 {
		return calledOff(ctx)
	}
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return calledOff(ctx)
	}
}
