package render

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
)

// severityStyles go from blue to orange.
var severityStyles = map[audit.Severity]Style{audit.Info: Faint, audit.Low: Cool, audit.Medium: Warm, audit.High: Warm, audit.Critical: Hot}

// The columns of a finding: its severity, then what is said about it.
const (
	findingIndent = 10
	findingLabel  = 12
)

// Findings writes findings for a terminal, worst first, and a line that counts them.
func Findings(s *Screen, e *estate.Estate, findings []audit.Finding, left []string) {
	for _, f := range findings {
		finding(s, e, f)
		s.Blank()
	}
	for _, reason := range left {
		s.Labelled(0, Piece{"not audited", Warm}, findingLabel, Piece{Text: reason})
	}
	s.Line(Piece{countSeverities(findings), Strong})
}

func finding(s *Screen, e *estate.Estate, f audit.Finding) {
	check := f.Check
	if len(f.Also) > 0 {
		check += " +" + fmt.Sprint(len(f.Also))
	}
	severity := f.Severity.String()
	if f.Severity >= audit.High {
		severity = strings.ToUpper(severity)
	}
	s.Ends(Piece{place(f.Origin()), Faint},
		Piece{Pad(severity, findingIndent), severityStyles[f.Severity]}, Piece{Pad(check, 20), Strong}, Piece{" " + f.Group.Path(), Accent})
	line := func(label, text string) {
		s.Labelled(findingIndent, Piece{label, Faint}, findingLabel, Piece{Text: text})
	}
	s.Text(findingIndent, f.Message)
	for i, r := range f.Also {
		line(first(i, "as well"), r.Check+": "+r.Message)
	}
	for i, d := range f.Details {
		line(first(i, "rules"), d)
	}
	switch f.Arrival {
	case audit.Arrives:
		line("arrives at", interfaceList(f.Instances))
	case audit.Nowhere:
		line("arrives", "nowhere: "+f.WhyNot)
	}
	if f.Example != nil {
		line("for example", exampleText(e, f)+fmt.Sprintf(", by %q", f.Example.ByRule.Sentence(e.Services)))
	}
	if f.WayOut != "" {
		s.Whole(findingIndent, Piece{"way out", Faint}, findingLabel, Piece{f.WayOut, Accent})
	}
	if f.OrElse != "" {
		line("or", f.OrElse)
	}
}

func exampleText(e *estate.Estate, f audit.Finding) string {
	at := "a member"
	if f.Example.At != nil {
		at = f.Example.At.Instance.Name
	}
	return fmt.Sprintf("%s → %s %s", f.Example.Peer.Peer, at, f.Example.Peer.Service)
}

// interfaceList names instances with the address at which strangers meet them.
func interfaceList(list []*estate.Interface) string {
	const shown = 6
	var names []string
	for _, i := range list[:min(shown, len(list))] {
		name := i.Instance.Name
		if len(i.Public) > 0 {
			name += " (" + i.Public[0].String() + ")"
		}
		names = append(names, name)
	}
	if len(list) > shown {
		names = append(names, fmt.Sprintf("and %d more", len(list)-shown))
	}
	return strings.Join(names, ", ")
}

func place(o estate.Origin) string {
	if o.File == "" {
		return ""
	}
	return fmt.Sprintf("%s:%d", o.File, o.Line)
}

func countSeverities(findings []audit.Finding) string {
	if len(findings) == 0 {
		return "nothing found"
	}
	var parts []string
	for s := audit.Critical; s >= audit.Info; s-- {
		n := 0
		for _, f := range findings {
			if f.Severity == s {
				n++
			}
		}
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, s))
		}
	}
	return Count(len(findings), "finding", "findings") + ": " + strings.Join(parts, ", ")
}

// findingJSON is a finding in the form of docs/schemas/findings.json.
type findingJSON struct {
	Check     string          `json:"check"`
	Also      []string        `json:"also"`
	Severity  string          `json:"severity"`
	Direction string          `json:"direction"`
	Cloud     string          `json:"cloud"`
	Account   string          `json:"account"`
	Network   string          `json:"network"`
	Group     string          `json:"group"`
	Rules     []string        `json:"rules"`
	Sentences []string        `json:"sentences"`
	Services  []string        `json:"services"`
	Peers     []string        `json:"peers"`
	Breadth   *decide.Breadth `json:"breadth"`
	Example   *string         `json:"example"`
	Instances []string        `json:"instances"`
	Arrives   *bool           `json:"arrives"`
	WhyNot    string          `json:"why_not,omitempty"`
	File      string          `json:"file"`
	Line      int             `json:"line"`
	Message   string          `json:"message"`
	Details   []string        `json:"details"`
	WayOut    string          `json:"way_out"`
	OrElse    string          `json:"or_else,omitempty"`
	Controls  []string        `json:"controls"`
	Excepted  *string         `json:"excepted"`
}

// FindingsJSON writes findings as one JSON document, version 1.
func FindingsJSON(w io.Writer, e *estate.Estate, findings []audit.Finding, left []string) error {
	list := make([]findingJSON, len(findings))
	for i, f := range findings {
		list[i] = findingToJSON(e, f)
	}
	return writeJSON(w, struct {
		Version    int           `json:"version"`
		Findings   []findingJSON `json:"findings"`
		NotAudited []string      `json:"not_audited"`
	}{1, list, orNone(left)})
}

func findingToJSON(e *estate.Estate, f audit.Finding) findingJSON {
	x := findingJSON{
		Check: f.Check, Also: []string{}, Severity: f.Severity.String(), Direction: string(f.Direction),
		Cloud: f.Group.Account.Cloud.Name, Account: f.Group.Account.Name, Group: f.Group.Name,
		Rules: []string{}, Sentences: []string{}, Services: []string{}, Peers: []string{}, Instances: []string{}, Controls: []string{},
		WhyNot: f.WhyNot, File: f.Origin().File, Line: f.Origin().Line, Message: f.Message, Details: orNone(f.Details), WayOut: f.WayOut, OrElse: f.OrElse,
	}
	for _, r := range f.Also {
		x.Also = append(x.Also, r.Check)
		x.Details = append(x.Details, r.Message)
	}
	if f.Group.Network != nil {
		x.Network = f.Group.Network.Name
	}
	for _, r := range f.Rules {
		if r.ID != "" {
			x.Rules = append(x.Rules, r.ID)
		}
		x.Sentences = append(x.Sentences, r.Sentence(e.Services))
	}
	for _, s := range f.Services.Specs() {
		x.Services = append(x.Services, s.String())
	}
	for _, p := range f.Peers.Prefixes() {
		x.Peers = append(x.Peers, p.String())
	}
	for _, i := range f.Instances {
		x.Instances = append(x.Instances, i.Instance.Name)
	}
	if f.Direction != "" {
		x.Breadth = &f.Breadth
	}
	if f.Arrival != audit.Unknown {
		arrives := f.Arrival == audit.Arrives
		x.Arrives = &arrives
	}
	if f.Example != nil {
		to := "a member"
		if at := f.Example.At; at != nil {
			to = meetingAddress(at, f.Example.Peer.Peer.Is4())
		}
		text := fmt.Sprintf("%s -> %s %s", f.Example.Peer.Peer, to, f.Example.Peer.Service)
		x.Example = &text
	}
	return x
}

// meetingAddress is the private address of an interface in a family.
func meetingAddress(i *estate.Interface, four bool) string {
	for _, a := range i.Private {
		if a.Is4() == four {
			return a.String()
		}
	}
	return i.Instance.Name
}

func orNone(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

func writeJSON(w io.Writer, v any) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", " ")
	return enc.Encode(v)
}

// peerCount says in short how many addresses a set holds.
func peerCount(s addr.Set) string {
	words := audit.PeersInWords(s)
	return words[strings.LastIndexByte(words, '(')+1 : len(words)-1]
}

// serviceWords is a set of services for a sentence.
func serviceWords(e *estate.Estate, s service.Set) string { return e.Services.Describe(s) }
