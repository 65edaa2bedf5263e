package audit

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/law"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// What an audit takes into account beside the estate: flows, the survey as it was found, laws and
// exemptions.

// observe marks the rules that flows used: for each flow, the rules that admit it at the interfaces
// of both ends.
func (a *auditor) observe() {
	if a.Flows == nil {
		return
	}
	a.flowed, a.seen = make(map[*estate.Rule]bool), make(map[*estate.Interface]bool)
	a.days = a.Flows.Window()
	d := a.workers[0].d
	a.Flows.Each(func(s *flow.Sum) {
		point := service.Between(s.Service, s.Service)
		for _, end := range []struct {
			at        []*estate.Interface
			peer      addr.Set
			direction estate.Direction
		}{{d.At(s.Destination), addr.Of(s.Source), estate.In}, {d.At(s.Source), addr.Of(s.Destination), estate.Out}} {
			for _, i := range end.at {
				a.seen[i] = true
				for _, g := range slices.Concat(d.GroupsAt(i), d.GroupsOfSubnet(i.Subnet)) {
					a.use(d, g, end.direction, traffic.Of(end.peer, point))
				}
			}
		}
	})
}

// use marks the rules of a group that let a flow through: all that match it where rules add up,
// else the first.
func (a *auditor) use(d *decide.Decider, g *estate.Group, direction estate.Direction, one traffic.Set) {
	first := decide.ByRank(g)
	for _, r := range d.InOrder(g, direction) {
		if a.flowed[r] && !first || !one.SubsetOf(d.RuleTraffic(g, r)) {
			continue
		}
		a.flowed[r] = true
		if first {
			return
		}
	}
}

// pairDefined finds, for each surveyed group, the group as it is defined.
func (a *auditor) pairDefined() {
	if a.Defined == nil {
		return
	}
	type place struct {
		path string
		kind estate.GroupKind
	}
	standing := make(map[place]*estate.Group)
	for _, g := range a.Defined.Estate().Groups {
		if g.Defined && !g.Existing {
			standing[place{g.Path(), g.For}] = g
		}
	}
	a.defined = make(map[*estate.Group]*estate.Group)
	for _, g := range a.groups {
		if s := standing[place{g.Path(), g.For}]; g.Ours() && s != nil {
			a.defined[g] = s
		}
	}
}

// A surplus is a surveyed rule that lets through more than the group's definition.
type surplus struct {
	*estate.Rule
	set traffic.Set
}

// extra finds the rules of one of the estate's own groups that let through more than its
// definition.
func (l *look) extra() []surplus {
	s := l.defined[l.group]
	if s == nil || s.Follows {
		return nil
	}
	var found []surplus
	d := l.Defined.Fork()
	for i := range l.group.Rules {
		r := &l.group.Rules[i]
		if r.Action != estate.Admit || r.BuiltIn || r.Pass != "" {
			continue
		}
		beyond := l.d.RuleTraffic(l.group, r).Minus(d.GroupTraffic(s, r.Direction))
		// less the room for answers, and what earlier rules refuse anyway
		if !beyond.IsEmpty() && decide.Filter(l.group).FirstMatch {
			beyond = beyond.Intersect(l.d.GroupTraffic(l.group, r.Direction))
			back := r.Direction.Opposite()
			beyond = beyond.Minus(d.Answers(s, d.GroupTraffic(s, back), back))
		}
		if !beyond.IsEmpty() {
			found = append(found, surplus{r, beyond})
		}
	}
	return found
}

// An endedRule is a rule of a definition whose "until" date has passed, with the surveyed rule that
// still stands for it.
type endedRule struct {
	*estate.Rule
	rule  *estate.Rule
	peers addr.Set
}

// ended finds surveyed rules that still stand for rules of the definition whose "until" date has
// passed.
func (l *look) ended() []endedRule {
	s := l.defined[l.group]
	if s == nil || len(s.Ended) == 0 {
		return nil
	}
	var found []endedRule
	d := l.Defined.Fork()
	for _, x := range l.extra() {
		for i := range s.Ended {
			r := &s.Ended[i]
			if r.Direction == x.Direction && r.Action == estate.Admit &&
				!x.set.Intersect(d.RuleTraffic(s, r)).IsEmpty() {
				found = append(found, endedRule{r, x.Rule, x.set.Peers(service.All)})
				break
			}
		}
	}
	return found
}

// judge makes a finding of each breach of a law.
func (a *auditor) judge() {
	if len(a.Laws) == 0 {
		return
	}
	a.judged = make(map[*estate.Group][]Finding)
	scope := slices.DeleteFunc(slices.Clone(a.groups), func(g *estate.Group) bool { return !a.inScope(g) })
	found := make([][]Finding, len(scope))
	a.parallel(len(scope), atOnce, func(w *worker, i int) {
		for _, l := range a.Laws {
			breaches := law.Breaches(w.d, l, scope[i])
			for _, b := range breaches {
				found[i] = append(found[i], w.breach(l, b))
			}
		}
	})
	for i, g := range scope {
		if len(found[i]) > 0 {
			a.judged[g] = found[i]
		}
	}
}

// breach makes a finding of the breach of a law.
func (w *worker) breach(l law.Law, b law.Breach) Finding {
	f := Finding{Check: LawPrefix + l.Name, Group: b.Group, Account: b.Group.Account, Start: Medium,
		Controls: l.Controls, Message: b.Text, part: true, Fix: edited(b.Group, b.Lacks)}
	if l.Title != "" {
		f.Message = fmt.Sprintf("%s (%s)", b.Text, l.Title)
	}
	if s, ok := ParseSeverity(l.Severity); ok {
		f.Start = s
	}
	f.Severity = f.Start // the severity of a law is never moved
	if b.Rule != nil {
		f.Rules, f.Direction = []*estate.Rule{b.Rule}, b.Rule.Direction
	}
	if !b.Traffic.IsEmpty() {
		f.Services, f.Peers = b.Traffic.Services(), b.Traffic.Peers(service.All)
		f.Fix, f.Narrow = narrowing(b.Group), narrowable(b.Group)
	}
	return f
}

// LawPrefix precedes the name of a law where a check's name could stand.
const LawPrefix = "law:"

// exempt applies the exemptions to the findings. The checks that are joined in a finding are judged
// one by one: a check is exempted by an exemption that names it (or its law), and by nothing else.
// The rest stays a finding, with the severity that it has without the exempted checks. A finding
// tells of exemptions that would cover it but have ended. An exemption that covers nothing is idle.
func (a *auditor) exempt(result *Result) {
	if len(a.Exemptions) == 0 {
		return
	}
	used := make([]bool, len(a.Exemptions))
	for i := range result.Findings {
		a.exemptOne(&result.Findings[i], used)
	}
	if a.Over != nil || a.Group != nil || len(a.Checks) > 0 || a.Services != nil || a.Direction != "" ||
		a.Least > Info {
		return // the findings that were not asked for may be what it covers
	}
	for k, e := range a.Exemptions {
		if !used[k] && e.Until.After(a.Now) {
			result.Idle = append(result.Idle, e)
		}
	}
}

func (a *auditor) exemptOne(f *Finding, used []bool) {
	singles := f.singles()
	f.joined = nil
	var left, exempted []Finding
	for _, x := range singles {
		x.joined = nil
		a.exemptSingle(&x, used)
		if x.Exemption != nil {
			exempted = append(exempted, x)
		} else {
			left = append(left, x)
		}
	}
	switch {
	case len(exempted) == 0 && len(singles) == 1:
		*f = left[0]
	case len(exempted) == 0: // nothing was exempted: as it was, with what there is to say about ended exemptions
		for _, x := range left {
			f.Ended = cmp.Or(f.Ended, x.Ended)
			f.Details = union(f.Details, x.Details)
		}
	case len(left) == 0:
		f.Exemption, f.Ended = exemptedFirst(exempted, f.Check).Exemption, nil
		for k := range f.Also {
			f.Also[k].Exemption = exemptedFirst(exempted, f.Also[k].Check).Exemption
		}
	default:
		way := f.Direction // findings of single rules have no direction of their own
		*f = joinedAgain(left, exempted)
		f.Direction = cmp.Or(f.Direction, way)
	}
}

// exemptedFirst is the exempted finding of a check, or else the first one.
func exemptedFirst(exempted []Finding, check string) Finding {
	i := slices.IndexFunc(exempted, func(x Finding) bool { return x.Check == check })
	return exempted[max(i, 0)]
}

// joinedAgain joins the findings that are not exempted, and names the exempted ones beside them.
func joinedAgain(left, exempted []Finding) Finding {
	f := left[0]
	for _, x := range left[1:] {
		f = join(f, x)
	}
	f.Also = slices.Clip(f.Also)
	for _, x := range exempted {
		if slices.ContainsFunc(f.Also, func(r Related) bool { return r.Check == x.Check }) {
			continue // it belongs to another rule of the same cause
		}
		f.Also = append(f.Also, Related{Check: x.Check, Message: x.Message, Severity: x.Severity,
			Exemption: x.Exemption})
	}
	f.gather = false
	return f
}

// exemptSingle applies the exemptions to a finding that was not joined.
func (a *auditor) exemptSingle(f *Finding, used []bool) {
	about := a.aboutServices(*f)
	left := about
	var last *law.Exemption
	for k := range a.Exemptions {
		e := &a.Exemptions[k]
		switch {
		case strings.TrimPrefix(f.Check, LawPrefix) != e.Law, !covers(e, *f):
			continue
		case about.IsEmpty() && !e.Services.Equal(service.All), !about.IsEmpty() && !e.Services.Overlaps(about):
			continue
		}
		if !e.Until.After(a.Now) {
			f.Ended = e
			continue
		}
		used[k] = true
		left, last = left.Minus(e.Services), e
	}
	if last != nil && left.IsEmpty() {
		f.Exemption, f.Ended = last, nil
	} else if last != nil {
		f.Details = append(slices.Clip(f.Details),
			fmt.Sprintf("exempted until %s by %s, but only on %s", last.Until.Add(-time.Second).Format(time.DateOnly),
				last.By, a.estate.Services.Describe(last.Services.Intersect(about))))
	}
}

// aboutServices are the services that a finding is about: its own, or else those of its rules.
func (a *auditor) aboutServices(f Finding) service.Set {
	if !f.Services.IsEmpty() {
		return f.Services
	}
	var sets []service.Set
	for _, r := range f.Rules {
		sets = append(sets, service.Of(r.Services...))
	}
	return service.UnionAll(sets...)
}

// covers reports whether an exemption covers the place of a finding.
func covers(e *law.Exemption, f Finding) bool {
	switch {
	case f.Group != nil:
		return e.Covers(f.Group)
	case e.Kind == "account":
		return f.Account != nil && f.Account.Name == e.Subject
	case e.Kind == "network":
		return f.Subnet != nil && f.Subnet.Network.Path() == e.Subject
	}
	return false
}

// fingerprint sets the fingerprints of findings. A fingerprint is made of the check, the place and
// the matter, and of nothing that changes when other groups and rules change. Rules are identified
// by their ids, or by their words.
func (a *auditor) fingerprint(found []Finding) {
	for i := range found {
		if f := &found[i]; f.Narrow && len(f.Rules) > 0 &&
			!slices.ContainsFunc(f.Rules, func(r *estate.Rule) bool { return !r.BuiltIn }) {
			f.Narrow, f.Fix = false,
				Remedy{Adopt, f.Group.Path(),
					"a built-in rule can't be narrowed, and what a definition does not let through is shut"}
		}
	}
	a.parallel(len(found), atOnce, func(_ *worker, i int) { found[i].Fingerprint = hashed(found[i].identity()) })
	seen := make(map[string]int, len(found))
	for i := range found {
		f := &found[i]
		n := seen[f.Fingerprint]
		seen[f.Fingerprint]++
		if n > 0 { // equal rules without ids are numbered
			f.Fingerprint = hashed(fmt.Sprintf("%s%d", f.identity(), n))
		}
	}
}

func hashed(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:8])
}

// identity is what makes two findings of different audits the same: the check, the place and the
// traffic, or the words of the rules where the check is not about traffic.
func (f *Finding) identity() string {
	cloud := ""
	if f.Account != nil && f.Account.Cloud != nil {
		cloud = f.Account.Cloud.Name
	}
	parts := []string{firstName(f.Check), cloud, f.Where(), string(f.Direction)}
	switch {
	case f.gather:
		parts = append(parts, "rules") // all that a check says about a group's rules is one finding
	case f.Check == repeatedName:
		parts = append(parts, f.Peers.String())
	case !f.Services.IsEmpty() && f.Direction != "" && len(f.Rules) > 0:
		parts = append(parts, fmt.Sprintf("%x %x", f.Services.Hash(), f.Peers.Hash()))
	case len(f.Rules) > 8:
		parts = append(parts, "rules")
	default:
		for _, r := range f.Rules {
			parts = append(parts, ruleName(r))
		}
	}
	return strings.Join(parts, "\n")
}

const repeatedName = "repeated-addresses"

// ruleName identifies a rule from one audit to the next.
func ruleName(r *estate.Rule) string {
	return fmt.Sprintf("%s %s %v", r.Action, estate.PeerWords(r.Peers), r.Services)
}
