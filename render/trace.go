package render

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/service"
)

var verdictStyles = map[decide.Verdict]Style{decide.Passes: Cool, decide.Stopped: Hot, decide.NoWay: Hot, decide.OneWay: Hot, decide.Undecided: Warm}

// Trace writes an answer for a terminal: the verdict, then each step with the rule that decided.
func Trace(s *Screen, e *estate.Estate, a decide.Answer) {
	s.Line(Piece{Pad(strings.ToUpper(string(a.Verdict)), findingIndent), verdictStyles[a.Verdict]},
		Piece{fmt.Sprintf("%s → %s  %s", a.Source, a.Destination, serviceName(e, a.Service)), Strong})
	if why := a.Why(); a.Verdict != decide.Passes && (why.Text != "" || why.Rule != nil) {
		s.Text(findingIndent, whyText(e, why))
	}
	s.Blank()
	steps(s, e, a.Steps)
	for i, next := range a.HandedOn {
		s.Blank()
		s.Line(Piece{Pad(string(next.Verdict), findingIndent), verdictStyles[next.Verdict]}, Piece{"handed on to ", Faint},
			Piece{fmt.Sprintf("%s  %s", next.Destination, serviceName(e, next.Service)), Strong})
		if i == 0 || next.Verdict != decide.Passes {
			steps(s, e, next.Steps)
		}
	}
}

// whyText says in a sentence what decided.
func whyText(e *estate.Estate, why decide.Step) string {
	if why.Rule != nil {
		return fmt.Sprintf("%s: %q", why.Group.Path(), why.Rule.Sentence(e.Services))
	}
	if why.Group != nil && why.Layer != "way" {
		return fmt.Sprintf("%s: %s", why.Group.Path(), why.Text)
	}
	return why.Text
}

// serviceName is a service with its name where it has one: "tcp 443 (https)".
func serviceName(e *estate.Estate, p service.Point) string {
	text := p.String()
	if name := e.Services.Describe(service.Between(p, p)); name != text {
		return text + " (" + name + ")"
	}
	return text
}

// steps writes the steps of an answer, numbered.
func steps(s *Screen, e *estate.Estate, list []decide.Step) {
	for i, step := range list {
		layer := step.Layer
		if word := map[string]string{"out": "out of", "in": "into"}[layer]; word != "" {
			layer = word
		}
		right := ""
		if step.Rule != nil {
			right = place(step.Rule.Origin)
		} else if step.Group != nil {
			right = place(step.Group.Origin)
		}
		head := fmt.Sprintf("%2d  %s %s", i+1, layer, step.At)
		left := []Piece{{Pad(string(step.Verdict), findingIndent), verdictStyles[step.Verdict]}, {Pad(head, 28), Plain}}
		switch {
		case step.Rule != nil:
			s.Ends(Piece{right, Faint}, append(left, Piece{step.Group.Path(), Accent})...)
			s.Text(findingIndent+4, step.Rule.Sentence(e.Services)+because(step.Rule))
		case step.Group != nil:
			s.Ends(Piece{right, Faint}, append(left, Piece{step.Group.Path(), Accent})...)
			s.Text(findingIndent+4, step.Text)
		default:
			s.Line(left...)
			s.Text(findingIndent+4, step.Text)
		}
	}
}

func because(r *estate.Rule) string {
	if r.Description == "" {
		return ""
	}
	return fmt.Sprintf(" because %q", r.Description)
}

type stepJSON struct {
	Layer   string `json:"layer"`
	At      string `json:"at,omitempty"`
	Group   string `json:"group,omitempty"`
	Rule    string `json:"rule,omitempty"`
	ID      string `json:"id,omitempty"`
	Verdict string `json:"verdict"`
	Text    string `json:"text,omitempty"`
	File    string `json:"file,omitempty"`
	Line    int    `json:"line,omitempty"`
}

type traceJSON struct {
	Verdict     string      `json:"verdict"`
	Source      string      `json:"source"`
	Destination string      `json:"destination"`
	Service     string      `json:"service"`
	Steps       []stepJSON  `json:"steps"`
	HandedOn    []traceJSON `json:"handed_on,omitempty"`
}

func traceToJSON(e *estate.Estate, a decide.Answer) traceJSON {
	x := traceJSON{Verdict: string(a.Verdict), Source: a.Source.Addr.String(), Destination: a.Destination.Addr.String(), Service: a.Service.String(), Steps: []stepJSON{}}
	for _, s := range a.Steps {
		j := stepJSON{Layer: s.Layer, At: s.At, Verdict: string(s.Verdict), Text: s.Text}
		if s.Group != nil {
			j.Group = s.Group.Path()
			j.File, j.Line = s.Group.Origin.File, s.Group.Origin.Line
		}
		if s.Rule != nil {
			j.Rule, j.ID = s.Rule.Sentence(e.Services), s.Rule.ID
			j.File, j.Line = s.Rule.Origin.File, s.Rule.Origin.Line
		}
		x.Steps = append(x.Steps, j)
	}
	for _, next := range a.HandedOn {
		x.HandedOn = append(x.HandedOn, traceToJSON(e, next))
	}
	return x
}

// TraceJSON writes an answer as one JSON document.
func TraceJSON(w io.Writer, e *estate.Estate, a decide.Answer) error {
	return writeJSON(w, traceToJSON(e, a))
}

// TraceLine writes an answer, or why there is none, as one line of JSON.
func TraceLine(w io.Writer, e *estate.Estate, a decide.Answer, err error) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	if err != nil {
		return enc.Encode(struct {
			Verdict string `json:"verdict"`
			Message string `json:"message"`
		}{"invalid", err.Error()})
	}
	return enc.Encode(traceToJSON(e, a))
}

// Proof writes the results of expectations for a terminal: those that fail first.
func Proof(s *Screen, e *estate.Estate, results []law.Result, verdicts []law.Verdict) {
	lawVerdicts(s, verdicts)
	holds := 0
	for _, failing := range []bool{true, false} {
		for _, r := range results {
			if r.Holds == failing {
				continue
			}
			word, style := "holds", Cool
			switch {
			case r.Undecided:
				word, style = "undecided", Warm
			case !r.Holds:
				word, style = "FAILS", Hot
			default:
				holds++
			}
			s.Ends(Piece{place(r.Origin), Faint}, Piece{Pad(word, findingIndent), style}, Piece{r.Text, Plain})
			if r.Note != "" && (!r.Imagined || !r.Holds) {
				s.Text(findingIndent, r.Note)
			}
			if w := r.Witness; w != nil {
				s.Labelled(findingIndent, Piece{"for example", Faint}, findingLabel, Piece{Text: fmt.Sprintf("%s → %s %s %s", w.Source, w.Destination, serviceName(e, w.Service), verdictWords(w.Verdict))})
				if text := witnessText(e, *w); text != "" {
					s.Labelled(findingIndent, Piece{"", Faint}, findingLabel, Piece{Text: text})
				}
			}
		}
	}
	if len(results) == 0 && len(verdicts) > 0 {
		return
	}
	if len(results) == 0 {
		s.Line(Piece{"the definitions expect nothing", Strong}, Piece{Text: "   write for example: expect internet cannot reach GROUP"})
		return
	}
	s.Blank()
	imagined := 0
	for _, r := range results {
		if r.Imagined {
			imagined++
		}
	}
	if imagined > 0 {
		s.Text(0, fmt.Sprintf("%s on groups that nobody wears: decided for a made-up member in each of their subnets; ways that no survey tells are assumed.", Count(imagined, "answer rests", "answers rest")))
	}
	summary := fmt.Sprintf("%s: %d hold", Count(len(results), "expectation", "expectations"), holds)
	if broken := brokenLaws(verdicts); len(verdicts) > 0 {
		defer func() {
			s.Line(Piece{fmt.Sprintf("%s: %d broken", Count(len(verdicts), "law", "laws"), broken), Strong})
		}()
	}
	if failed := len(results) - holds; failed > 0 {
		summary += fmt.Sprintf(", %d %s not", failed, map[bool]string{true: "does", false: "do"}[failed == 1])
	}
	s.Line(Piece{summary, Strong})
}

func brokenLaws(verdicts []law.Verdict) int {
	n := 0
	for _, v := range verdicts {
		if !v.Holds() {
			n++
		}
	}
	return n
}

// lawVerdicts writes what became of laws: each breach with its rule, and how many are excused.
func lawVerdicts(s *Screen, verdicts []law.Verdict) {
	const shown = 5
	for _, v := range verdicts {
		word, style := "holds", Cool
		if !v.Holds() {
			word, style = "BROKEN", Hot
		}
		title := "law " + v.Name
		if v.Title != "" {
			title += "  " + v.Title
		}
		s.Ends(Piece{place(v.Law.Origin), Faint}, Piece{Pad(word, findingIndent), style}, Piece{title, Plain})
		about := "over " + Count(v.Groups, "group", "groups")
		if n := v.Excused(); n > 0 {
			about += fmt.Sprintf(", %s excused", Count(n, "breach", "breaches"))
		}
		s.Text(findingIndent, about)
		broken := len(v.Breaches) - v.Excused()
		for i, b := range v.Breaches {
			if b.Excused == nil && i >= shown {
				s.Text(findingIndent, fmt.Sprintf("and %d more", broken-shown))
				break
			}
			if b.Excused != nil {
				s.Labelled(findingIndent, Piece{"excused", Faint}, findingLabel, Piece{Text: fmt.Sprintf("%s until %s by %s: %s", b.Group.Path(), b.Excused.Until.Add(-time.Second).Format("2006-01-02"), b.Excused.By, b.Excused.Because)})
				continue
			}
			s.Ends(Piece{place(b.Origin()), Faint}, Piece{strings.Repeat(" ", findingIndent), Plain}, Piece{b.Group.Path(), Accent})
			s.Text(findingIndent+2, b.Text)
			if b.Witness != nil {
				s.Text(findingIndent+2, fmt.Sprintf("for example %s %s", b.Witness.Peer, b.Witness.Service))
			}
		}
	}
	if len(verdicts) > 0 {
		s.Blank()
	}
}

func verdictWords(v decide.Verdict) string {
	return map[decide.Verdict]string{decide.Passes: "passes", decide.Stopped: "is stopped", decide.NoWay: "has no way", decide.OneWay: "gets no answer", decide.Undecided: "is undecided"}[v]
}

// witnessText says which rule lets a flow in, or what stops it.
func witnessText(e *estate.Estate, a decide.Answer) string {
	why := a.Why()
	if a.Verdict == decide.Passes {
		for _, s := range a.Steps {
			if s.Rule != nil {
				why = s
			}
		}
		if why.Rule != nil {
			text := fmt.Sprintf("by %q of %s", why.Rule.Sentence(e.Services), why.Group.Path())
			if at := place(why.Rule.Origin); at != "" {
				text += " (" + at + ")"
			}
			return text
		}
	}
	return whyText(e, why)
}

// ProofJSON writes the results of expectations as one JSON document.
func ProofJSON(w io.Writer, e *estate.Estate, results []law.Result, verdicts []law.Verdict) error {
	type item struct {
		File      string     `json:"file"`
		Line      int        `json:"line"`
		Text      string     `json:"text"`
		Holds     bool       `json:"holds"`
		Undecided bool       `json:"undecided"`
		Note      string     `json:"note,omitempty"`
		Witness   *traceJSON `json:"witness"`
	}
	items := make([]item, len(results))
	for i, r := range results {
		items[i] = item{r.Origin.File, r.Origin.Line, r.Text, r.Holds, r.Undecided, r.Note, nil}
		if r.Witness != nil {
			x := traceToJSON(e, *r.Witness)
			items[i].Witness = &x
		}
	}
	return writeJSON(w, struct {
		Version      int       `json:"version"`
		Expectations []item    `json:"expectations"`
		Laws         []lawJSON `json:"laws"`
	}{1, items, lawsToJSON(verdicts)})
}

type breachJSON struct {
	Group   string `json:"group"`
	Text    string `json:"text"`
	Example string `json:"example,omitempty"`
	Excused bool   `json:"excused"`
	placeJSON
}

type lawJSON struct {
	Name     string       `json:"name"`
	Title    string       `json:"title,omitempty"`
	Severity string       `json:"severity,omitempty"`
	Controls []string     `json:"controls"`
	Holds    bool         `json:"holds"`
	Groups   int          `json:"groups"`
	Breaches []breachJSON `json:"breaches"`
	placeJSON
}

func lawsToJSON(verdicts []law.Verdict) []lawJSON {
	list := []lawJSON{}
	for _, v := range verdicts {
		x := lawJSON{v.Name, v.Title, v.Severity, orNone(v.Controls), v.Holds(), v.Groups, []breachJSON{}, at(v.Law.Origin)}
		for _, b := range v.Breaches {
			y := breachJSON{Group: b.Group.Path(), Text: b.Text, Excused: b.Excused != nil, placeJSON: at(b.Origin())}
			if b.Witness != nil {
				y.Example = fmt.Sprintf("%s %s", b.Witness.Peer, b.Witness.Service)
			}
			x.Breaches = append(x.Breaches, y)
		}
		list = append(list, x)
	}
	return list
}
