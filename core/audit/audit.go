// Package audit finds what is open or wrong in an estate. Each check is a value
// with a name, a document and a function; all of them speak about traffic.
package audit

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"isonomos/core/addr"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/law"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// A Check looks for one kind of thing that is open or wrong.
type Check struct {
	place    int // among all checks; of the checks that one cause trips, that of the lowest place counts
	Name     string
	About    string // one line
	Doc      string // what it means, when it fires and when not
	Example  string // a rule that makes it fire
	Fix      Remedy
	Start    Severity // before it is moved by what arrives, and where
	Moves    string   // how it moves, in words; empty where it never does
	Controls []string // numbers of the controls that it serves, in the standards that docs/checks.md names
	// gather: findings of single rules of a group, where they trip no other check, become one
	// finding.
	//
	// sentence is the message about a single rule, with %q for the rule as a sentence; many is the
	// message about several, with %s for their number and %s for the number of the group's rules.
	// Where they are empty, findings bring their own messages.
	gather         bool
	sentence, many string
	// spelling: the check looks only at how rules are written, not at what they let through
	spelling bool
	// Exactly one of these is called: for each group, or once for the whole estate.
	group func(*look) []Finding
	whole func(*worker) []Finding
}

// Arrival says whether open traffic gets to an instance, or outward to a stranger.
type Arrival int

// The arrivals. Unknown: there is no survey, or the finding is not about openness. MayArrive: the
// survey does not say enough.
const (
	Unknown Arrival = iota
	Nowhere
	MayArrive
	Arrives
)

// A Finding is one thing that is open or wrong.
type Finding struct {
	Check       string    // the worst check that the cause trips; "law:NAME" for the breach of a law
	Also        []Related // the other checks that it trips
	Severity    Severity
	Start       Severity // the check's own severity
	Direction   estate.Direction
	Account     *estate.Account
	Group       *estate.Group  // nil where the finding is about a list, a subnet or an instance
	List        *estate.List   // nil, unless the finding is about a list
	Subnet      *estate.Subnet // nil, unless the finding is about a subnet
	Rules       []*estate.Rule // the rules that cause it; empty where the group itself does
	Services    service.Set
	Peers       addr.Set
	Breadth     decide.Breadth
	Example     *Example
	Instances   []*estate.Interface // where the traffic arrives, or which instances are concerned
	Arrival     Arrival
	WhyNot      string   // why it arrives nowhere, or why that is unknown
	Message     string   // what is wrong: a sentence without a capital and a full stop
	Details     []string // the rules or places that are concerned
	Fix         Remedy
	OrElse      string // another fix
	Narrow      bool   // Fix is a narrowing of the rules
	Controls    []string
	Exemption   *law.Exemption // the exemption that covers it
	Ended       *law.Exemption // one that covered it and has ended
	Fingerprint string         // stays the same in later audits while the matter stays the same
	State       string         // "found", "defined" or "both": see Both
	StateNote   string         // why the finding holds in one state only, or how the two differ

	groups []*estate.Group // all groups that are concerned; Group is the first of them

	own arrived // what moved the severity, before other findings joined
	// the findings that this one was made of, for judging exemptions one by one; nil if it is a
	// single one
	joined []Finding
	gather bool // see Check
	part   bool // it belongs to the finding whose rules contain its own
}

// arrived holds what the arrival of a finding contributes to its severity.
type arrived struct {
	arrival Arrival
	at      *estate.Interface // an interface in production, or else the first at which it arrives
	whyNot  string
}

// A Related is another check that the cause of a finding trips, and what it says.
type Related struct {
	Check, Message string
	Severity       Severity       // the severity that it would have as a finding of its own
	Exemption      *law.Exemption // the exemption that covers it, or nil; an exempted check counts for nothing

	joined []string // the messages of which Message is made; nil if it is a single one
}

// messages are the messages of which Message is made.
func (r Related) messages() []string {
	if r.joined == nil {
		return []string{r.Message}
	}
	return r.joined
}

// An Example is one flow that a finding is about.
type Example struct {
	Peer    traffic.Witness
	At      *estate.Interface // nil where no instance is known
	Own     netip.Addr        // the address of At in the flow
	ByRule  *estate.Rule
	Inbound bool
}

// Find finds a check by name.
func Find(name string) (Check, bool) {
	i := slices.IndexFunc(Checks, func(c Check) bool { return c.Name == name })
	if i < 0 {
		return Check{}, false
	}
	return Checks[i], true
}

// Options say what an audit takes into account beside the estate, and what it reports.
type Options struct {
	Expects    []law.Expectation // declared openings are not findings of open-inbound
	Laws       []law.Law
	Exemptions []law.Exemption
	Now        time.Time     // the time at which exemptions and "until" dates are judged
	Flows      *flow.Summary // evidence for the check idle; nil if there is none
	// for a survey that was audited as found: the survey with the definitions carried out; else nil
	Defined *decide.Decider
	Over    *estate.Condition // report only where the condition holds; nil means everywhere
	Group   *estate.Group     // report only this group; nil means all

	Checks    []string         // report only findings that trip one of these; none means all
	Direction estate.Direction // report only this one; empty means both
	Services  *service.Set     // report only findings on some of these; nil means any
	Least     Severity         // report only findings of at least this severity
}

// A Result is what an audit found.
type Result struct {
	Findings []Finding // the worst first, exempted ones last
	Left     []string  // what could not be audited
	Idle     []law.Exemption
	Groups   int // number of groups audited
	Rules    int // number of rules in them
}

// Run audits an estate, on all processors. It takes O(rules) for the usual rules, and O(n log n) in
// the number n of rules of one group. The result does not depend on the number of processors.
func Run(d *decide.Decider, o Options) Result {
	a := newAuditor(d, o)
	groups := append(slices.Clip(d.Estate().Groups), d.ImpliedGroups()...)
	var result Result
	skipped := make(map[string]bool)
	groups = slices.DeleteFunc(slices.Clone(groups), func(g *estate.Group) bool {
		reason := cantAudit(g)
		if reason != "" && !skipped[reason] {
			skipped[reason] = true
			result.Left = append(result.Left, reason)
		}
		return reason != ""
	})
	a.groups = groups
	a.findScope()
	a.facts = make(map[*estate.Group]*facts, len(groups))
	collected := make([]facts, len(groups))
	rules := 0
	for _, g := range groups {
		rules += len(g.Rules)
	}
	room := make([]ruleFacts, rules) // one allocation for the rules of all groups
	for i, g := range groups {
		n := len(g.Rules)
		collected[i].rules, room = room[:n:n], room[n:]
	}
	a.parallel(len(groups), atOnce, func(w *worker, i int) { w.collect(groups[i], &collected[i]) })
	for i, g := range groups {
		a.facts[g] = &collected[i]
	}
	a.gatherWholes()
	// the checks of the whole estate take longest, so they begin first
	wholes := slices.DeleteFunc(slices.Clone(Checks), func(c Check) bool { return c.whole == nil || o.Group != nil })
	ofWholes := make([][]Finding, len(wholes))
	found := make([][]Finding, len(groups))
	blocks := (len(groups) + atOnce - 1) / atOnce
	a.parallel(len(wholes)+blocks, 1, func(w *worker, i int) {
		if i < len(wholes) {
			ofWholes[i] = wholes[i].whole(w)
			return
		}
		from := (i - len(wholes)) * atOnce
		for k := from; k < min(from+atOnce, len(groups)); k++ {
			if g := groups[k]; a.inScope(g) {
				found[k] = w.group(g, &collected[k])
			}
		}
	})
	all := 0
	for _, f := range found {
		all += len(f)
	}
	result.Findings = make([]Finding, 0, all+all/8)
	for i, g := range groups {
		if a.inScope(g) {
			result.Groups++
			result.Rules += len(g.Rules)
		}
		result.Findings = append(result.Findings, found[i]...)
	}
	for i, c := range wholes {
		for _, f := range ofWholes[i] {
			if f.Group == nil || a.inScope(f.Group) || slices.ContainsFunc(f.groups, a.inScope) {
				if f.Check == "" { // otherwise several checks were joined in the finding
					f = a.finish(c, f)
				}
				result.Findings = append(result.Findings, f)
			}
		}
	}
	a.exempt(&result)
	result.Findings = a.scoped(result.Findings)
	a.fingerprint(result.Findings)
	result.Findings = sorted(result.Findings)
	return result
}

// sorted puts findings in order: exempted ones last, worst first, what arrives
// before what does not, then by check and place.
func sorted(found []Finding) []Finding {
	type key struct {
		exempted, severity, arrival, check int
		where                              string
		line, at                           int
	}
	keys := make([]key, len(found))
	for i, f := range found {
		keys[i] = key{boolOrder(f.Exemption != nil), -int(f.Severity), -int(f.Arrival), checkOrder(f.Check),
			f.Where(), f.Origin().Line, i}
	}
	slices.SortFunc(keys, func(a, b key) int {
		return cmp.Or(a.exempted-b.exempted, a.severity-b.severity, a.arrival-b.arrival, a.check-b.check,
			strings.Compare(a.where, b.where), a.line-b.line, a.at-b.at)
	})
	all := make([]Finding, len(found))
	for i, k := range keys {
		all[i] = found[k.at]
	}
	return all
}

func boolOrder(b bool) int {
	if b {
		return 1
	}
	return 0
}

func cantAudit(g *estate.Group) string {
	if decide.Dialect(g.Account).Name == "" {
		return fmt.Sprintf("groups of the cloud %s: its dialect %q is not known", g.Account.Cloud.Name,
			g.Account.Cloud.Dialect)
	}
	return ""
}

// checkOrder puts the checks in the order of Checks, laws before all.
func checkOrder(name string) int { return checkPlaces()[name] }

var checkPlaces = sync.OnceValue(func() map[string]int {
	places := make(map[string]int, len(Checks))
	for i, c := range Checks {
		places[c.Name] = i + 1
	}
	return places
})

// Where is the full name of what a finding is about: a group, list, subnet or account.
func (f Finding) Where() string {
	switch {
	case f.Group != nil:
		return f.Group.Path()
	case f.List != nil && f.List.Account != nil:
		return f.List.Account.Name + "/" + f.List.Name
	case f.List != nil:
		return f.List.Name
	case f.Subnet != nil:
		return f.Subnet.Path()
	case f.Account != nil:
		return f.Account.Name
	}
	return ""
}

// Origin is the place that a finding points to: its first rule, else what it is about.
func (f Finding) Origin() estate.Origin {
	switch {
	case len(f.Rules) > 0 && f.Rules[0].Origin != (estate.Origin{}):
		return f.Rules[0].Origin
	case f.Group != nil:
		return f.Group.Origin
	case f.List != nil:
		return f.List.Origin
	case len(f.Instances) > 0:
		return f.Instances[0].Instance.Origin
	case f.Subnet != nil:
		return f.Subnet.Origin
	case f.Account != nil:
		return f.Account.Origin
	}
	return estate.Origin{}
}

// Counting are the other checks that the finding trips and that no exemption covers.
func (f Finding) Counting() []Related {
	return slices.DeleteFunc(slices.Clone(f.Also),
		func(r Related) bool { return r.Exemption != nil && f.Exemption == nil })
}

// Exempted are the other checks that an exemption covers, of a finding that is not exempted itself.
func (f Finding) Exempted() []Related {
	return slices.DeleteFunc(slices.Clone(f.Also),
		func(r Related) bool { return r.Exemption == nil || f.Exemption != nil })
}

// Names are all checks that the finding trips, the worst first.
func (f Finding) Names() []string {
	names := []string{f.Check}
	for _, r := range f.Also {
		names = append(names, r.Check)
	}
	return names
}

// An auditor holds what all workers of an audit share.
type auditor struct {
	Options
	estate      *estate.Estate
	workers     []*worker
	groups      []*estate.Group
	facts       map[*estate.Group]*facts // of every group
	admin, data service.Set
	clear, web  service.Set
	rest        service.Set            // neither admin, data nor cleartext
	grave       service.Set            // admin and data
	networks    addr.Counter           // addresses of all networks
	survey      bool                   // the estate has instances
	over        map[*estate.Group]bool // the groups in scope: see findScope
	staged      map[*estate.Network]*stagedNetwork
	stagedFar   []stagedEnd // the ends of other stages that may be met from elsewhere: see findStages
	attached    map[*estate.Group]bool
	named       map[*estate.Group]bool // groups that rules of other groups refer to
	used        map[*estate.List]bool
	flowed      map[*estate.Rule]bool           // rules that a flow used
	seen        map[*estate.Interface]bool      // in a flow
	days        int                             // number of days that the flows cover
	defined     map[*estate.Group]*estate.Group // for every surveyed group, the group as it is defined
	judged      map[*estate.Group][]Finding     // breaches of laws, by group
	openFour    float64                         // the number of IPv4 strangers from which peers count as open
	openSix     float64
}

func newAuditor(d *decide.Decider, o Options) *auditor {
	e := d.Estate()
	a := &auditor{Options: o, estate: e, survey: len(e.Instances) > 0}
	a.admin, _ = e.Services.Class(service.ClassAdmin)
	a.data, _ = e.Services.Class(service.ClassData)
	a.clear, _ = e.Services.Class(service.ClassCleartext)
	a.web, _ = e.Services.Class(service.ClassWeb)
	a.grave = a.admin.Union(a.data)
	a.rest = service.All.Minus(a.admin).Minus(a.data).Minus(a.clear)
	var ranges []addr.Set
	for _, n := range e.Networks {
		ranges = append(ranges, addr.OfPrefixes(n.Ranges...))
	}
	a.networks = addr.NewCounter(addr.UnionAll(ranges...))
	d.Breadth(addr.Set{}) // find the strangers before several workers need them
	for range runtime.GOMAXPROCS(0) {
		a.workers = append(a.workers,
			&worker{auditor: a, d: d.Fork(), ranges: make(map[*estate.Peer]known),
				members: make(map[*estate.Group]known), lists: make(map[*estate.List]known),
				specs: make(map[service.Spec]service.Set), words: make(map[string]description),
				clearSubnets: make(map[*estate.Subnet]bool), toldServices: make(map[uint64]toldServices),
				toldPeers: make(map[uint64]toldPeers), sawGroups: make(map[*estate.Group]bool),
				sawLists: make(map[*estate.List]bool), passed: make(map[string]traffic.Set),
				filtered: make(map[string]traffic.Set)})
	}
	four, six := d.StrangersAmong(addr.Everyone)
	a.openFour, a.openSix = four*decide.OpenBreadth, six*decide.OpenBreadth
	return a
}

// atOnce is how many groups a worker takes at a time.
const atOnce = 64

// parallel calls do for the numbers below n on all processors; each worker takes several at a time.
func (a *auditor) parallel(n, step int, do func(w *worker, i int)) {
	var next atomic.Int64
	var wait sync.WaitGroup
	for _, w := range a.workers {
		wait.Go(func() {
			for {
				from := int(next.Add(int64(step))) - step
				if from >= n {
					return
				}
				for i := from; i < min(from+step, n); i++ {
					do(w, i)
				}
			}
		})
	}
	wait.Wait()
}

// gatherWholes collects the findings of whole-estate checks that belong to single groups.
func (a *auditor) gatherWholes() {
	a.attached, a.named, a.used = make(map[*estate.Group]bool), make(map[*estate.Group]bool),
		make(map[*estate.List]bool)
	for _, n := range a.estate.Networks {
		for _, s := range n.Subnets {
			for _, g := range s.Groups {
				a.attached[g] = true
			}
		}
	}
	for _, w := range a.workers {
		maps.Copy(a.named, w.sawGroups)
		maps.Copy(a.used, w.sawLists)
	}
	a.observe()
	a.findStages()
	a.pairDefined()
	a.judge()
}

// note remembers what a rule refers to.
func (w *worker) note(g *estate.Group, r *estate.Rule) {
	for _, peers := range [][]estate.Peer{r.Peers, r.Except} {
		for k := range peers {
			switch p := &peers[k]; p.Kind {
			case estate.PeerGroup:
				if p.Group != g && !w.sawGroups[p.Group] {
					w.sawGroups[p.Group] = true
				}
			case estate.PeerList:
				w.sawLists[p.List] = true
			}
		}
	}
}

// inScope reports whether findings of a group may have to be reported: the condition holds of the
// group, of its place, or of an instance to which it is attached.
func (a *auditor) inScope(g *estate.Group) bool {
	return !g.Existing && (a.Group == nil || a.Group == g) && (a.Over == nil || a.over[g])
}

// findScope finds the groups that are inScope.
func (a *auditor) findScope() {
	if a.Over == nil {
		return
	}
	a.over = make(map[*estate.Group]bool, len(a.groups))
	for _, g := range a.groups {
		a.over[g] = a.Over.Holds(estate.GroupPlace(g)) || a.holdsOf(a.workers[0].d.InterfacesOf(g))
	}
}

// holdsOf reports whether the condition holds of any of the interfaces.
func (a *auditor) holdsOf(list []*estate.Interface) bool {
	return slices.ContainsFunc(list, func(i *estate.Interface) bool { return a.Over.Holds(estate.InterfacePlace(i)) })
}

// isOver reports whether the condition holds of a finding: of a group or an instance that it
// concerns, or of where they stand.
func (a *auditor) isOver(f Finding) bool {
	groups := f.groups
	if f.Group != nil && len(groups) == 0 {
		groups = []*estate.Group{f.Group}
	}
	for _, g := range groups {
		if a.Over.Holds(estate.GroupPlace(g)) || len(f.Instances) == 0 && a.over[g] {
			return true
		}
	}
	return a.holdsOf(f.Instances) || len(groups) == 0 && a.Over.Holds(f.place())
}

// scoped keeps the findings that the options ask for.
func (a *auditor) scoped(found []Finding) []Finding {
	return slices.DeleteFunc(found, func(f Finding) bool {
		switch {
		case f.Check == unreadName:
			return false // an incomplete result must be reported whatever was asked for
		case f.Severity < a.Least,
			a.Direction != "" && f.Direction != a.Direction,
			a.Services != nil && !f.Services.Overlaps(*a.Services),
			a.Over != nil && !a.isOver(f):
			return true
		}
		return len(a.Checks) > 0 &&
			!slices.ContainsFunc(f.Names(), func(name string) bool { return slices.Contains(a.Checks, name) })
	})
}

// place is where a finding stands, as conditions see it.
func (f Finding) place() estate.Place {
	switch {
	case f.Group != nil:
		return estate.GroupPlace(f.Group)
	case len(f.Instances) > 0:
		return estate.InterfacePlace(f.Instances[0])
	case f.Subnet != nil:
		return estate.Place{Subnet: f.Subnet, Network: f.Subnet.Network, Account: f.Account}
	}
	return estate.Place{Account: f.Account}
}

// finish fills in the name, severity and controls of a check's finding.
func (a *auditor) finish(c Check, f Finding) Finding {
	f.Check = c.Name
	if f.Group != nil {
		f.Account = f.Group.Account
	}
	if f.Start == Info { // a finding may set its own
		f.Start = c.Start
	}
	f.Controls = c.Controls
	f.gather = c.gather && len(f.Rules) == 1
	f.Severity = f.moved()
	if f.Arrival != Unknown {
		f.own = arrived{f.Arrival, f.atProduction(), f.WhyNot}
		if f.own.at == nil && len(f.Instances) > 0 {
			f.own.at = f.Instances[0]
		}
	}
	return f
}

// A worker holds what one goroutine of an audit has worked out.
type worker struct {
	*auditor
	d       *decide.Decider
	ranges  map[*estate.Peer]known // by the address of the first of them
	members map[*estate.Group]known
	lists   map[*estate.List]known
	specs   map[service.Spec]service.Set
	words   map[string]description
	// by direction and class of interfaces: what passes to and from outside addresses
	passed       map[string]traffic.Set
	filtered     map[string]traffic.Set // by direction and class of interfaces: what the filters let through
	scratch      []Finding
	inOrder      []*ruleFacts           // a buffer for ordered
	sawGroups    map[*estate.Group]bool // the groups that rules seen by this worker refer to
	sawLists     map[*estate.List]bool
	toldServices map[uint64]toldServices
	toldPeers    map[uint64]toldPeers
	// subnets in which no subnet group stops traffic within the network
	clearSubnets map[*estate.Subnet]bool
}

// group runs all checks on one group and joins findings of the same cause.
func (w *worker) group(g *estate.Group, f *facts) []Finding {
	l := &look{worker: w, group: g, facts: f, pairs: make(map[string][]passage)}
	found := append(w.scratch[:0], w.judged[g]...)
	defer func() { w.scratch = found[:0] }()
	for _, c := range Checks {
		if c.group == nil {
			continue
		}
		for _, x := range c.group(l) {
			x.Group = g
			found = append(found, w.finish(c, x))
		}
	}
	if len(found) == 0 {
		return nil
	}
	all := l.gathered(l.joinCauses(found))
	for i := range all {
		l.say(&all[i])
	}
	return all
}

// say sets the message of a finding of a single rule, where its check has one sentence for all.
func (l *look) say(f *Finding) {
	if f.Message != "" || len(f.Rules) != 1 {
		return
	}
	if c, ok := Find(f.Check); ok && c.sentence != "" {
		f.Message = fmt.Sprintf(c.sentence, f.Rules[0].Sentence(l.estate.Services))
	}
}

// joinCauses joins the findings that the same rules cause in the same direction. The worst check
// names the joined finding; the others are in Also. Findings about single rules join the finding of
// which those rules are a part.
func (l *look) joinCauses(found []Finding) []Finding {
	if len(found) == 1 {
		return slices.Clone(found)
	}
	slices.SortStableFunc(found, func(a, b Finding) int {
		return cmp.Or(boolOrder(a.gather)-boolOrder(b.gather), boolOrder(a.part)-boolOrder(b.part),
			cmp.Compare(b.Severity, a.Severity))
	})
	joined := make([]Finding, 0, len(found))
	by := make(map[*estate.Rule]int) // the finding that each rule causes; findings about single rules come last
	several := 0                     // number of findings that are not about single rules
	for _, f := range found {
		i := -1
		if f.gather {
			if k, ok := by[f.Rules[0]]; ok {
				i = k
			}
		} else {
			i = slices.IndexFunc(joined[:several], func(x Finding) bool { return sameCause(x, f) })
		}
		if i < 0 {
			i = len(joined)
			joined = append(joined, f)
		} else {
			l.say(&f)
			l.say(&joined[i])
			whole := join(joined[i], f)
			if len(l.Exemptions) > 0 {
				whole.joined = append(joined[i].singles(), f)
			}
			joined[i] = whole
		}
		if !f.gather {
			several = len(joined)
			for _, r := range f.Rules {
				if k, ok := by[r]; !ok || i < k {
					by[r] = i
				}
			}
		}
	}
	return joined
}

// sameCause reports whether two findings, neither of them about single rules, have one cause.
func sameCause(x, f Finding) bool {
	switch {
	case len(x.Rules) == 0 || len(f.Rules) == 0:
		return false
	case x.Direction != f.Direction && (!f.part || f.Direction != "") && (!x.part || x.Direction != ""):
		return false
	case f.part || x.part:
		return within(f.Rules, x.Rules) || within(x.Rules, f.Rules)
	}
	return slices.Equal(x.Rules, f.Rules)
}

func within(some, all []*estate.Rule) bool {
	return !slices.ContainsFunc(some, func(r *estate.Rule) bool { return !slices.Contains(all, r) })
}

func join(a, b Finding) Finding {
	worse, other := a, b
	if b.Severity > a.Severity {
		worse, other = b, a
	}
	worse.Also = slices.Clone(worse.Also)
	same := slices.Equal(a.Rules, b.Rules) // for the same rules one check can have two things to say
	for _, r := range append([]Related{{Check: other.Check, Message: other.Message, Severity: other.Severity}},
		other.Also...) {
		k := slices.IndexFunc(worse.Also, func(x Related) bool { return x.Check == r.Check })
		switch {
		case r.Check == worse.Check:
		case k < 0:
			worse.Also = append(worse.Also, r)
		case same && !slices.Contains(worse.Also[k].messages(), r.Message):
			worse.Also[k].joined = append(slices.Clip(worse.Also[k].messages()), r.Message)
			worse.Also[k].Message += "; " + r.Message
			worse.Also[k].Severity = max(worse.Also[k].Severity, r.Severity)
		}
	}
	if same && other.Check == worse.Check && other.Message != worse.Message {
		worse.Details = append(slices.Clip(worse.Details), other.Message)
	}
	if worse.OrElse == "" {
		worse.OrElse = other.OrElse
	}
	worse.arriveWith(other)
	if worse.Breadth == (decide.Breadth{}) {
		worse.Breadth, worse.Peers = other.Breadth, other.Peers
	}
	if !other.gather {
		worse.Services = worse.Services.Union(other.Services)
	}
	if within(worse.Rules, other.Rules) {
		worse.Rules = other.Rules // all rules that have a part in the cause
	}
	worse.Controls = union(worse.Controls, other.Controls)
	worse.gather = false
	return worse
}

// singles are the findings that a finding was joined from, or the finding itself.
func (f Finding) singles() []Finding {
	if f.joined != nil {
		return f.joined
	}
	return []Finding{f}
}

// arriveWith makes a finding arrive wherever it or another of the same cause does.
func (f *Finding) arriveWith(other Finding) {
	switch {
	case other.Arrival > f.Arrival:
		f.Arrival, f.WhyNot = other.Arrival, other.WhyNot
		if f.Arrival == Arrives || len(f.Instances) == 0 {
			f.Instances = other.Instances
		}
		f.Example = cmp.Or(other.Example, f.Example)
	case other.Arrival == Arrives:
		f.Instances = union(f.Instances, other.Instances)
	}
	f.Example = cmp.Or(f.Example, other.Example)
}

// union appends to a list what is only in another one.
func union[T comparable](a, b []T) []T {
	if slices.Equal(a, b) {
		return a
	}
	known := make(map[T]bool, len(a))
	for _, x := range a {
		known[x] = true
	}
	a = slices.Clip(a)
	for _, x := range b {
		if !known[x] {
			known[x] = true
			a = append(a, x)
		}
	}
	return a
}

// gathered makes one finding of those of one check about single rules of a group.
func (l *look) gathered(found []Finding) []Finding {
	all := found[:0]
	for _, f := range found {
		i := -1
		if f.gather && len(f.Also) == 0 {
			i = slices.IndexFunc(all, func(x Finding) bool {
				return x.gather && len(x.Also) == 0 && x.Check == f.Check && x.Direction == f.Direction
			})
		}
		if i < 0 {
			all = append(all, f)
			continue
		}
		all[i].Rules = append(all[i].Rules, f.Rules...)
	}
	for i := range all {
		if f := &all[i]; f.gather && len(f.Rules) > 1 {
			if check, ok := Find(f.Check); ok {
				f.Message = fmt.Sprintf(check.many, count.Number(len(f.Rules)), count.Number(len(l.group.Rules)))
			}
			f.Details = nil
			var services []service.Set
			var peers []addr.Set
			for _, r := range f.Rules {
				f.Details = append(f.Details, r.Sentence(l.estate.Services))
				services, peers = append(services, l.servicesOf(r.Services)), append(peers, l.d.Peers(l.group, r, nil))
			}
			f.Services, f.Peers = service.UnionAll(services...), addr.UnionAll(peers...)
		}
	}
	return all
}
