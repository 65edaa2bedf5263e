// Package audit finds what is open or wrong in an estate. Each check is a value
// with a name, a document and a function; all of them speak about traffic.
package audit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Severity says how bad a finding is. The zero value is Info.
type Severity int

// The severities, from least to worst.
const (
	Info Severity = iota
	Low
	Medium
	High
	Critical
)

var severityNames = [...]string{"info", "low", "medium", "high", "critical"}

// SeverityNames are the names of the severities, from least to worst.
func SeverityNames() []string { return severityNames[:] }

// String is the severity's name: "critical".
func (s Severity) String() string { return severityNames[s] }

// ParseSeverity reads a severity's name.
func ParseSeverity(name string) (Severity, bool) {
	i := slices.Index(severityNames[:], name)
	return Severity(max(i, 0)), i >= 0
}

// A Check looks for one kind of thing that is open or wrong.
type Check struct {
	Name  string
	About string   // one line
	Doc   string   // what it means, with an example and a way out
	Start Severity // before what arrives and where moves it
	run   func(*groupView) []Finding
}

// Arrival says whether open traffic gets to an instance.
type Arrival int

// The arrivals. Unknown is for definitions without a survey.
const (
	Unknown Arrival = iota
	Nowhere
	Arrives
)

// A Finding is one thing that is open or wrong.
type Finding struct {
	Check     string    // the worst check that the cause trips
	Also      []Related // the other checks that it trips
	Severity  Severity
	Direction estate.Direction
	Group     *estate.Group
	Rules     []*estate.Rule // the cause; empty where it is the group itself
	Services  service.Set
	Peers     addr.Set
	Breadth   decide.Breadth
	Example   *Example
	Instances []*estate.Interface // where it arrives
	Arrival   Arrival
	WhyNot    string   // why it arrives nowhere
	Message   string   // what is the matter, in a sentence without a capital and full stop
	Details   []string // rules that are concerned, as sentences
	WayOut    string   // a command or an edit
	OrElse    string   // another way out
}

// A Related is another check that the cause of a finding trips, and what it says.
type Related struct{ Check, Message string }

// An Example is one flow that a finding is about.
type Example struct {
	Peer    traffic.Witness
	At      *estate.Interface // nil where no instance is known
	ByRule  *estate.Rule
	Inbound bool
}

// Checks are all checks, the gravest of equal severity first.
var Checks = []Check{openAdminPort, openDataPort, allServices, oneFamily, halves, openInbound, widePorts, unexplained}

// Find finds a check by name.
func Find(name string) (Check, bool) {
	i := slices.IndexFunc(Checks, func(c Check) bool { return c.Name == name })
	if i < 0 {
		return Check{}, false
	}
	return Checks[i], true
}

// Options are what an audit depends on beside the estate.
type Options struct {
	Checks  []string          // only these; none means all
	Expects []law.Expectation // declared openings are not findings of open-inbound
}

// Run audits an estate: findings, worst first, and what could not be audited.
// The order is the same for the same estate.
func Run(d *decide.Decider, o Options) (findings []Finding, left []string) {
	e := d.Estate()
	s := &setting{d: d, expects: o.Expects}
	s.admin, _ = e.Services.Class(service.ClassAdmin)
	s.data, _ = e.Services.Class(service.ClassData)
	skipped := make(map[string]bool)
	for _, g := range e.Groups {
		if reason := cantAudit(g); reason != "" {
			if !skipped[reason] {
				skipped[reason] = true
				left = append(left, reason)
			}
			continue
		}
		findings = append(findings, s.group(g)...)
	}
	if len(o.Checks) > 0 {
		findings = slices.DeleteFunc(findings, func(f Finding) bool {
			return !slices.ContainsFunc(o.Checks, func(c string) bool {
				return c == f.Check || slices.ContainsFunc(f.Also, func(r Related) bool { return r.Check == c })
			})
		})
	}
	slices.SortStableFunc(findings, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(b.Severity, a.Severity), cmp.Compare(b.Arrival, a.Arrival), cmp.Compare(checkOrder(a.Check), checkOrder(b.Check)),
			strings.Compare(a.Group.Path(), b.Group.Path()), cmp.Compare(a.line(), b.line()))
	})
	return findings, left
}

func cantAudit(g *estate.Group) string {
	if decide.Dialect(g.Account).Name == "" {
		return fmt.Sprintf("groups of the cloud %s: its dialect %q is not known", g.Account.Cloud.Name, g.Account.Cloud.Dialect)
	}
	return ""
}

func checkOrder(name string) int {
	return slices.IndexFunc(Checks, func(c Check) bool { return c.Name == name })
}

func (f Finding) line() int {
	if len(f.Rules) > 0 {
		return f.Rules[0].Origin.Line
	}
	return f.Group.Origin.Line
}

// Origin is the place that a finding points to: its first rule, else its group.
func (f Finding) Origin() estate.Origin {
	if len(f.Rules) > 0 {
		return f.Rules[0].Origin
	}
	return f.Group.Origin
}

// A setting is what all groups of an audit have in common.
type setting struct {
	d           *decide.Decider
	expects     []law.Expectation
	admin, data service.Set
}

// group runs all checks over one group and joins what has one cause.
func (s *setting) group(g *estate.Group) []Finding {
	v := s.view(g)
	var found []Finding
	for _, c := range Checks {
		for _, f := range c.run(v) {
			f.Check, f.Group = c.Name, g
			f.Severity = v.severity(c.Start, f)
			found = append(found, f)
		}
	}
	return joinCauses(found)
}

// severity moves a check's own severity by what arrives: up one where it
// arrives in production, down one where it arrives nowhere. What is not about
// openness stays.
func (v *groupView) severity(start Severity, f Finding) Severity {
	switch {
	case start == Info:
		return Info
	case f.Arrival == Nowhere:
		return start - 1
	case f.Arrival == Arrives && start < Critical:
		if stage, _ := estate.GroupPlace(v.group).Label("stage"); stage == "production" {
			return start + 1
		}
	}
	return start
}

// joinCauses makes one finding of those that the same rules cause in the same
// direction: the worst check names it, the others are named beside it.
func joinCauses(found []Finding) []Finding {
	var joined []Finding
	for _, f := range found {
		i := slices.IndexFunc(joined, func(x Finding) bool {
			return x.Check != unexplained.Name && f.Check != unexplained.Name && x.Direction == f.Direction && slices.Equal(x.Rules, f.Rules)
		})
		if i < 0 {
			joined = append(joined, f)
			continue
		}
		worse, other := joined[i], f
		if f.Severity > worse.Severity {
			worse, other = f, worse
		}
		worse.Also = append(append(slices.Clone(worse.Also), Related{other.Check, other.Message}), other.Also...)
		if worse.OrElse == "" {
			worse.OrElse = other.OrElse
		}
		worse.Services = worse.Services.Union(other.Services)
		joined[i] = worse
	}
	return joined
}
