package render

import (
	"cmp"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"

	"isonomos/core/audit"
	"isonomos/core/estate"
	"isonomos/nomos/manual"
	"isonomos/nomos/source"
)

// A Point is a single result of a command, for JUnit and SARIF. It has a place, and it holds or
// does not hold.
type Point struct {
	Kind    string // what is judged: an expectation, a law's name, a kind of mistake
	About   string // what the kind means, in a sentence
	Name    string // the result, in words
	Place   estate.Origin
	Column  int // 0 if unknown
	Failed  bool
	Warning bool   // it does not hold, but that is no failure
	Skipped string // why it does not count, or empty
	Text    string // further details
}

// PointsJUnit writes points as a JUnit document: a suite for each kind, a case for each
// point. Accounts that were not read fail.
func PointsJUnit(w io.Writer, name string, points []Point, unread []estate.Unread) error {
	document := junitSuites{Name: name}
	at := make(map[string]int)
	for _, p := range append(points, unreadPoints(unread)...) {
		i, ok := at[p.Kind]
		if !ok {
			i = len(document.Suites)
			at[p.Kind] = i
			document.Suites = append(document.Suites, junitSuite{Name: Clean(p.Kind)})
		}
		s := &document.Suites[i]
		c := junitCase{Class: Clean(p.Kind), Name: Clean(p.Name), File: Clean(p.Place.File), Line: p.Place.Line}
		s.Tests++
		switch {
		case p.Skipped != "":
			s.Skipped++
			c.Skipped = &junitProblem{Message: Clean(p.Skipped)}
		case p.Failed:
			s.Failures++
			c.Failure = &junitProblem{"", Clean(p.Name), Clean(p.Text)}
		default:
			c.Output = Clean(p.Text)
		}
		s.Cases = append(s.Cases, c)
	}
	for _, s := range document.Suites {
		document.Tests, document.Failures, document.Skipped = document.Tests+s.Tests, document.Failures+s.Failures,
			document.Skipped+s.Skipped
	}
	return writeXML(w, document)
}

func writeXML(w io.Writer, document any) error {
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	enc := xml.NewEncoder(w)
	enc.Indent("", " ")
	if err := enc.Encode(document); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// PointsSARIF writes the points that do not hold as SARIF 2.1.0. A point without a place in a file
// has the place of the input.
func PointsSARIF(w io.Writer, version string, points []Point, unread []estate.Unread, source estate.Origin) error {
	run := sarifRun{ColumnKind: "unicodeCodePoints", Results: []json.RawMessage{}}
	run.Tool.Driver = sarifDriver{Name: "Isonomos", Version: version, Rules: []sarifRule{}}
	at := make(map[string]int)
	for _, p := range append(points, unreadPoints(unread)...) {
		if !p.Failed && !p.Warning {
			continue
		}
		level := "error"
		if p.Warning {
			level = "warning"
		}
		if _, ok := at[p.Kind]; !ok {
			at[p.Kind] = len(run.Tool.Driver.Rules)
			run.Tool.Driver.Rules = append(run.Tool.Driver.Rules,
				sarifRule{ID: Clean(p.Kind), Short: sarifText{Clean(p.About)}, Default: sarifDefault{level}})
		}
		message := p.Name
		if p.Text != "" {
			message += ": " + p.Text
		}
		x := sarifResult{RuleID: Clean(p.Kind), RuleIndex: at[p.Kind], Level: level,
			Message:      sarifText{Clean(message)},
			Locations:    []sarifLocation{{Physical: cmp.Or(physical(p.Place), physical(source))}},
			Fingerprints: map[string]string{"isonomos/v1": Clean(p.Kind + " " + p.Name)}}
		if p.Column > 0 && x.Locations[0].Physical != nil {
			x.Locations[0].Physical.Region.StartColumn = p.Column
		}
		if p.Skipped != "" {
			x.Suppressions = []sarifSuppression{{"external", "accepted", Clean(p.Skipped)}}
		}
		text, err := json.Marshal(x)
		if err != nil {
			return err
		}
		run.Results = append(run.Results, text)
	}
	return writeJSON(w, sarifLog{sarifSchema, "2.1.0", []sarifRun{run}})
}

// unreadPoints are the accounts that could not be read.
func unreadPoints(unread []estate.Unread) []Point {
	var points []Point
	for _, u := range unread {
		points = append(points, Point{Kind: "unread",
			About: "an account or cloud could not be read: nothing is known of it",
			Name:  u.Words() + " could not be read", Failed: true, Text: u.Reason})
	}
	return points
}

// MessagePoints are messages about definitions as points.
func MessagePoints(messages []source.Message) []Point {
	var points []Point
	for _, m := range messages {
		kind, about := "mistake", "a mistake in a definition"
		if known, ok := manual.MessageOf(m.Text); ok {
			kind, about = known.Name, known.Text
		}
		place := estate.Origin{File: m.File.Name, Line: m.File.Line(m.Span.Start)}
		points = append(points, Point{Kind: kind, About: about, Name: m.Text, Place: place,
			Column: m.File.Column(m.Span.Start), Failed: !m.Warning, Warning: m.Warning, Text: m.Hint})
	}
	return points
}

// ProofPoints are the results of expectations and laws as points, for each state if two states were
// judged and differ.
func ProofPoints(proofs []Proof) []Point {
	var points []Point
	first := proofs[0]
	in := func(p Proof, shown []Proof) string {
		if len(shown) == 1 {
			return ""
		}
		return " (" + StateWords(p.State) + ")"
	}
	for i := range first.Results {
		shown := shownStates(proofs, func(a, b Proof) bool { return sameResult(a.Results[i], b.Results[i]) })
		for _, p := range shown {
			r := p.Results[i]
			word, _ := word(r)
			text := word
			if r.Witness != nil {
				text += ": " + witnessLine(p.Estate, *r.Witness)
				if more := witnessText(p.Estate, *r.Witness); more != "" {
					text += "; " + more
				}
			}
			if r.Note != "" {
				text += "; " + r.Note
			}
			points = append(points, Point{Kind: "expect", About: "an expectation of the whole path",
				Name: r.Text + in(p, shown), Place: r.Origin, Failed: !r.Holds, Text: text})
		}
	}
	for i := range first.Verdicts {
		shown := shownStates(proofs, func(a, b Proof) bool { return sameVerdict(a.Verdicts[i], b.Verdicts[i]) })
		for _, p := range shown {
			points = append(points, lawPoints(p.Verdicts[i].Law.Name, in(p, shown), p, i)...)
		}
	}
	return points
}

// lawPoints are the breaches of a law, or the result that there are none.
func lawPoints(name, in string, p Proof, i int) []Point {
	v := p.Verdicts[i]
	kind, about := audit.LawPrefix+name, v.Title
	if about == "" {
		about = "the law " + name
	}
	if len(v.Breaches) == 0 {
		text := "holds over " + Count(v.Groups, "group", "groups")
		if v.Groups == 0 {
			text = "is over no group: its condition holds nowhere"
		}
		return []Point{{Kind: kind, About: about, Name: "law " + name + in, Place: v.Origin, Warning: v.Groups == 0,
			Text: text}}
	}
	var points []Point
	for _, b := range v.Breaches {
		place := b.Origin()
		if place.File == "" {
			place = v.Origin
		}
		x := Point{Kind: kind, About: about, Name: b.Group.Path() + ": " + b.Text + in, Place: place, Failed: true}
		if b.Exemption != nil {
			x.Skipped = fmt.Sprintf("exempted until %s by %s: %s", lastDay(b.Exemption.Until), b.Exemption.By,
				b.Exemption.Because)
		}
		points = append(points, x)
	}
	return points
}

// physical is a place in a file, or nil if it is none.
func physical(o estate.Origin) *sarifPhysical {
	if !o.InFile() {
		return nil
	}
	return &sarifPhysical{sarifArtifact{fileURI(o.File)}, sarifRegion{StartLine: o.Line}}
}
