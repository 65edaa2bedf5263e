package uphold

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"isonomos/cloud"
	"isonomos/core/audit"
	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/notify"
	"isonomos/store"
	"isonomos/work"
)

// What is found when an account is judged, and what is told of it.

// findings judges a state of an account: what differs there that did not before, what no longer does, and who is told.
func (u *Upholder) findings(a *account, m moment, held map[string]*holding) (store.Round, map[string]*holding,
	error) {
	u.mu.Lock()
	decided := u.decided
	u.mu.Unlock()
	now := u.Now()
	if needsAll(held) { // who is in a group may not be as it was decided
		m.only = nil
	}
	view, err := u.view(decided, a, m, now)
	if err != nil {
		return store.Round{}, nil, err
	}
	if view.Whole || m.only != nil && m.final && slices.ContainsFunc(view.Differences,
		func(d work.Difference) bool { return d.NeedsAll() }) {
		m.only = nil // which instances are told together depends on all of them
		if view, err = u.view(decided, a, m, now); err != nil {
			return store.Round{}, nil, err
		}
	}
	if len(view.Overdue) > 0 && m.final {
		u.endPasses(a.name)
	}
	var round store.Round
	next := make(map[string]*holding)
	for key, h := range held { // what is not judged now stays; an account that is blind is so until it is seen again
		if isAside(key) || m.only != nil && !m.only[h.GroupID] {
			next[key] = h
		}
	}
	for _, d := range view.Differences {
		if h := held[d.Key]; h != nil {
			next[d.Key] = h
			continue
		}
		h := &holding{Since: now, Kind: d.Kind, Place: d.Place, Law: d.Law, Way: string(d.Direction),
			GroupID: d.GroupID,
			Notice:  u.noticeOf(a, d, m)}
		if err := u.beginHolding(&round, a.name, d.Key, h, d.Where); err != nil {
			return round, nil, err
		}
		next[d.Key] = h
		u.logDifference(h.Notice)
	}
	for _, key := range slices.Sorted(maps.Keys(held)) {
		h := held[key]
		if next[key] != nil {
			continue
		}
		goesOn := false
		for by, other := range next {
			goesOn = goesOn || other.same(h) || strings.HasPrefix(by, work.NotOursKey) &&
				(other.Place == h.Place || held[by] == nil && h.Kind == work.Closed && h.GroupID == "")
		}
		n := u.resolved(a, h, m)
		if goesOn {
			if n.Type != notify.PutBack {
				u.dropHolding(&round, a.name, key)
				continue // there is another difference in its place, which was told
			}
			n.Done += "; what still differs from the definitions is told by itself"
		}
		u.endHolding(&round, a.name, key, h, n)
		u.logDifference(n)
	}
	u.noteExempt(view.Exempt)
	return round, next, nil
}

// view judges a state of an account, or just the groups in which something may have changed and what is around them.
func (u *Upholder) view(decided *work.Decided, a *account, m moment, now time.Time) (work.AccountView, error) {
	lines := m.lines
	var only *work.Only
	switch {
	case m.only != nil && m.final:
		lines, only = around(lines, m.only), &work.Only{Groups: m.only, Around: true}
	case m.only != nil: // what follows from it at instances is judged once
		lines, only = withRulesOf(lines, m.only), &work.Only{Groups: m.only}
	}
	surveyed, missing, err := u.survey(a, lines)
	if err != nil {
		return work.AccountView{}, err
	}
	return decided.Judge(surveyed, a.name, missing, only, now), nil
}

// needsAll reports whether any of the differences that hold can only be judged with everything else in the account.
func needsAll(held map[string]*holding) bool {
	for key, h := range held {
		if (h.GroupID == "" || h.Kind == work.Broken) && !isAside(key) {
			return true
		}
	}
	return false
}

// waitsForOthers reports whether an account to which this one refers is still being read for the first time.
func (u *Upholder) waitsForOthers(a *account) bool {
	u.mu.Lock()
	names := u.decided.Neighbours(a.name)
	u.mu.Unlock()
	a.mu.Lock()
	names = slices.Concat(names, a.refs)
	if a.fresh != nil {
		names = append(names, refersTo(a.name, linesOf(a.fresh.Lines))...)
	}
	a.mu.Unlock()
	for _, name := range names {
		u.mu.Lock()
		other := u.accounts[name]
		u.mu.Unlock()
		if other == nil {
			if u.nowReading().Definitions.Estate.FindAccount(name) != nil && u.Now().Sub(a.began) < patience {
				return true // its cloud has not said yet which accounts there are
			}
			continue
		}
		other.mu.Lock()
		waits := other.packed == nil && other.fresh == nil && other.trouble() == "" &&
			u.Now().Sub(other.began) < patience
		other.mu.Unlock()
		if waits {
			return true
		}
	}
	return false
}

// patience is how long an account waits for others that are being read for the first time.
const patience = 15 * time.Second

// survey reads an account's lines as a survey, with those of its neighbours; missing are those that are not known.
func (u *Upholder) survey(a *account, lines []line) (e *estate.Estate, missing []string, err error) {
	return u.surveyOf(a, lines, nil)
}

// surveyOf is survey with some other accounts as they are, rules and all.
func (u *Upholder) surveyOf(a *account, lines []line, also []string) (e *estate.Estate, missing []string, err error) {
	u.mu.Lock()
	decided, reading := u.decided, u.reading
	u.mu.Unlock()
	var text bytes.Buffer
	text.WriteString(store.HeadLines(reading.Definitions.Estate.Name, u.Now(), reading.Definitions.Estate.Clouds))
	text.Write(joined(lines))
	neighbours := slices.Concat(decided.Neighbours(a.name), refersTo(a.name, lines), also)
	slices.Sort(neighbours)
	for _, name := range slices.Compact(neighbours) {
		if name == a.name {
			continue
		}
		u.mu.Lock()
		other := u.accounts[name]
		u.mu.Unlock()
		ok := other != nil
		var survey []byte
		if ok {
			survey, ok = other.latest()
		}
		if !ok {
			missing = append(missing, name)
			continue
		}
		if slices.Contains(also, name) {
			text.Write(survey)
			continue
		}
		text.Write(joined(without(linesOf(survey), "rule")))
	}
	if e, _, err = store.ReadSurvey(&text, a.name); err != nil {
		return nil, nil, err
	}
	e.ForgetOrigins()
	e.Others = u.elsewhere()
	return e, missing, nil
}

// noticeOf is what is told of a difference.
func (u *Upholder) noticeOf(a *account, d work.Difference, m moment) notify.Notice {
	n := u.notice(d.Kind, d.Severity, "%s", d.Says)
	n.Account, n.Place, n.Law = a.name, d.Place, d.Law
	if d.Services != "" {
		n.Traffic = &notify.Traffic{Direction: map[estate.Direction]string{estate.In: "in",
			estate.Out: "out"}[d.Direction],
			Services: d.Services, Peers: d.Peers, Instances: append([]string{}, d.Instances...),
			Rules: append([]string{}, d.Rules...)}
		if x := d.Example; x != nil {
			n.Traffic.Example = &notify.Example{From: x.From, To: x.To, Service: fmt.Sprint(x.Service)}
		}
	}
	n.Changes = whoChanged(d.GroupID, d.InstanceIDs, m)
	if n.Changes == nil && (d.ChangedBy != "" || !d.ChangedAt.IsZero()) {
		n.Changes = &notify.Change{By: d.ChangedBy}
		if at := d.ChangedAt.UTC(); !at.IsZero() {
			n.Changes.At = &at
		}
	}
	if d.Kind == work.Broken {
		n.See = u.Say("draft", "--account", a.name)
		return n
	}
	n.Done = u.whatIsDone(d.Kind, d.Law, d.Where)
	if d.Law != "" {
		n.See = u.Say("prove", "--live")
		return n
	}
	if n.See = u.Say("draft", "--account", a.name); d.NotOurs {
		if d.GroupID != "" {
			n.See = u.Say("draft", "--account", a.name, "--adopt", d.Place)
		}
		return n // it is not for the next run to undo
	}
	n.Undo = u.Say("draft", "--account", a.name) + " && " + u.Say("enact")
	return n
}

// whoChanged says who made the changes of a step that are about a group or instances.
func whoChanged(group string, instances []string, m moment) *notify.Change {
	var by []string
	var at time.Time
	note := func(e cloud.Event) {
		if e.By != "" && !slices.Contains(by, e.By) {
			by = append(by, e.By)
		}
		at = e.At.UTC()
	}
	for _, e := range slices.Concat(m.before, m.events) {
		if group != "" && (e.Group == group || e.ID == group) || slices.Contains(instances, e.ID) {
			note(e)
		}
	}
	if at.IsZero() {
		for _, e := range m.events {
			note(e)
		}
	}
	if at.IsZero() {
		return nil
	}
	return &notify.Change{By: strings.Join(by, ", "), At: &at}
}

// whatIsDone says what is going to be done about a difference.
func (u *Upholder) whatIsDone(kind, law string, where estate.Place) string {
	u.mu.Lock()
	defer u.mu.Unlock()
	digest, enforced := u.laws[law]
	switch {
	case enforced && kind == work.Opened && u.runs.Upheld.IsAgreed(law, digest):
		return "It is going to be shut, as the law is enforced"
	case enforced && kind == work.Opened:
		return "Nothing is done about it until somebody agrees: " + u.Say("uphold", "agree", law)
	case law == "" && u.reading.PutsBack && (u.reading.PutBack == nil || u.reading.PutBack.Holds(where)):
		return "What was decided is going to be put back"
	}
	return "Nothing was done about it: this only watches"
}

// resolved is what is told when a difference is gone: by itself, or since it was put back or shut.
func (u *Upholder) resolved(a *account, h *holding, m moment) notify.Notice {
	u.mu.Lock()
	run := u.runs.KeptBy(a.name, h.GroupID, h.Place, h.Law, h.Since)
	u.mu.Unlock()
	if run != "" {
		return u.keptNotice(a, h, run)
	}
	n := u.notice(notify.Resolved, audit.Info, "no longer so (it was told as %s): %s", h.Notice.Type, h.Notice.Says)
	n.Account, n.Place, n.Law = a.name, h.Place, h.Law
	since := h.Since.UTC()
	n.Since = &since
	n.Changes = whoChanged(h.GroupID, nil, m)
	return n
}

// logDifference writes a notice to the log.
func (u *Upholder) logDifference(n notify.Notice) {
	args := []any{"type", n.Type, "severity", n.Severity, "place", n.Place}
	if n.Law != "" {
		args = append(args, "law", n.Law)
	}
	if n.Changes != nil && n.Changes.By != "" {
		args = append(args, "by", n.Changes.By)
	}
	if n.Type == notify.Resolved || n.Type == notify.PutBack {
		u.Log.Info(n.Says, args...)
		return
	}
	if n.Traffic != nil && len(n.Traffic.Instances) > 0 {
		args = append(args, "at", count.Some(n.Traffic.Instances, 3))
	}
	u.Log.Warn(n.Says, args...)
}
