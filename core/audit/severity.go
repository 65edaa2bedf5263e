package audit

import (
	"fmt"
	"slices"
	"time"

	"isonomos/core/estate"
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

// How severity moves, for the docs of checks.
const (
	withArrival    = "one up where it arrives at production, one down where it arrives nowhere"
	whereStrangers = "one up where strangers arrive at production, one down where they arrive nowhere; without " +
		"strangers it stays"
)

// moved is the severity of a check, moved by where its traffic arrives: one up if at an instance in
// production, one down if nowhere. Outward traffic never moves up, since it arrives at no instance
// of the estate.
func (f Finding) moved() Severity {
	switch {
	case f.Start == Info:
		return Info
	case f.Arrival == Nowhere:
		return f.Start - 1
	case f.Arrival == Arrives && f.Direction != estate.Out && f.Start < Critical && f.atProduction() != nil:
		return f.Start + 1
	}
	return f.Start
}

// atProduction is an interface in production at which the finding's traffic arrives, or nil.
func (f Finding) atProduction() *estate.Interface {
	for _, i := range f.Instances {
		if stage(i) == estate.Production {
			return i
		}
	}
	return nil
}

// stage is the stage of an interface, by its own label or an inherited one.
func stage(i *estate.Interface) string { return estate.InterfacePlace(i).Stage() }

// Reasons say how a finding came by its severity, step by step.
func (f Finding) Reasons() []string {
	reasons := []string{fmt.Sprintf("%s starts at %s", f.Check, f.Start)}
	switch {
	case f.Severity < f.Start:
		reasons = append(reasons, fmt.Sprintf("one down to %s: it arrives nowhere, since %s", f.Severity, f.own.whyNot))
	case f.Severity > f.Start:
		reasons = append(reasons,
			fmt.Sprintf("one up to %s: it arrives at %s, which is of stage = production", f.Severity,
				f.own.at.Instance.Path()))
	case f.own.arrival == MayArrive:
		reasons = append(reasons, fmt.Sprintf("it stays: nobody knows where it arrives, since %s", f.own.whyNot))
	case f.own.arrival == Arrives && f.Direction == estate.Out:
		reasons = append(reasons, "it stays: it goes outward, and arrives at no instance of the estate")
	case f.own.arrival == Arrives && f.Start == Critical:
		reasons = append(reasons, "it stays: nothing is worse than critical")
	case f.own.arrival == Arrives && f.Start > Info && f.own.at != nil:
		reasons = append(reasons,
			fmt.Sprintf("it stays: it arrives at %s, which is not of stage = production", f.own.at.Instance.Path()))
	case f.Arrival == Unknown && f.Breadth.AtLeast(0.0000001):
		reasons = append(reasons, "it stays: without a survey nobody knows where it arrives")
	default:
		reasons = append(reasons, "it stays: this check does not ask where anything arrives")
	}
	more, exempted := 0, 0
	for _, r := range f.Also {
		if r.Exemption == nil || f.Exemption != nil {
			more++
		} else {
			exempted++
		}
	}
	if more > 0 {
		reasons = append(reasons, fmt.Sprintf("the same cause trips %d more: the worst of them all counts", more))
	}
	if exempted > 0 {
		reasons = append(reasons,
			fmt.Sprintf("and %d that %s exempted: %s for nothing", exempted,
				map[bool]string{true: "is", false: "are"}[exempted == 1],
				map[bool]string{true: "it counts", false: "they count"}[exempted == 1]))
	}
	if f.Exemption != nil {
		reasons = append(reasons,
			fmt.Sprintf("it is exempted until %s by %s: it is shown, and counts for nothing",
				f.Exemption.Until.Add(-time.Second).Format(time.DateOnly), f.Exemption.By))
	}
	return reasons
}
