package render

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/service"
	"isonomos/words"
)

var verdictStyles = map[decide.Verdict]Style{decide.Passes: Cool, decide.Stopped: Hot, decide.NoRoute: Hot,
	decide.OneWay: Hot, decide.Undecided: Warm}

// Trace writes an answer for a terminal: the verdict, then each step with the rule that decided.
func Trace(s *Screen, e *estate.Estate, a decide.Answer, state string, then *Then) {
	s.Line(Piece{Pad(strings.ToUpper(string(a.Verdict)), findingIndent), verdictStyles[a.Verdict]},
		Piece{fmt.Sprintf("%s → %s  %s", a.Source, a.Destination, serviceName(e, a.Service)), Strong})
	if why := a.Why(); a.Verdict != decide.Passes && (why.Text != "" || why.Rule != nil) {
		s.Text(findingIndent, words.Why(e, why))
	}
	s.Blank()
	steps(s, e, a.Steps)
	for i, next := range a.HandedOn {
		s.Blank()
		s.Line(Piece{Pad(string(next.Verdict), findingIndent), verdictStyles[next.Verdict]},
			Piece{"handed on to ", Faint},
			Piece{fmt.Sprintf("%s  %s", next.Destination, serviceName(e, next.Service)), Strong})
		if i == 0 || next.Verdict != decide.Passes {
			steps(s, e, next.Steps)
		}
	}
	s.Blank()
	if then != nil && then.Answer.Verdict != a.Verdict {
		text := verdictWords(then.Answer.Verdict)
		if why := words.Why(then.Estate, then.Answer.Why()); then.Answer.Verdict != decide.Passes && why != "" {
			text += ": " + why
		} else if by := witnessText(then.Estate, then.Answer); by != "" {
			text += ", " + by
		}
		s.Labelled(0, Piece{"once carried out", Warm}, 18, Piece{Text: "it " + text + " (--state defined judges that)"})
	}
	s.Line(Piece{judgedWords(e, state), Faint})
}

// Then is what becomes of a flow once the definitions are carried out.
type Then struct {
	Estate *estate.Estate
	Answer decide.Answer
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
	State       string      `json:"state,omitempty"` // "found" or "defined"; of a whole answer
	Verdict     string      `json:"verdict"`
	Source      string      `json:"source"`
	Destination string      `json:"destination"`
	Service     string      `json:"service"`
	Steps       []stepJSON  `json:"steps"`
	HandedOn    []traceJSON `json:"handed_on,omitempty"`
	Then        string      `json:"once_carried_out,omitempty"` // the verdict, if it differs

	Unread []unreadJSON `json:"unread,omitempty"` // of a whole answer: accounts of which nothing is known
}

func traceToJSON(e *estate.Estate, a decide.Answer) traceJSON {
	x := traceJSON{Verdict: string(a.Verdict), Source: a.Source.Addr.String(),
		Destination: a.Destination.Addr.String(), Service: a.Service.String(), Steps: []stepJSON{}}
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
func TraceJSON(w io.Writer, e *estate.Estate, a decide.Answer, state string, then *Then) error {
	x := traceToJSON(e, a)
	x.State, x.Unread = state, unreadToJSON(e.Unread)
	if then != nil && then.Answer.Verdict != a.Verdict {
		x.Then = string(then.Answer.Verdict)
	}
	return writeJSON(w, x)
}

// TraceLine writes an answer, or why there is none, as one line of JSON.
func TraceLine(w io.Writer, e *estate.Estate, a decide.Answer, state string, err error) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	if err != nil {
		return enc.Encode(struct {
			Verdict string `json:"verdict"`
			Message string `json:"message"`
		}{"invalid", err.Error()})
	}
	x := traceToJSON(e, a)
	x.State, x.Unread = state, unreadToJSON(e.Unread)
	return enc.Encode(x)
}

// A Proof is the results of expectations and laws in one state.
type Proof struct {
	State    string // "found" or "defined"
	Estate   *estate.Estate
	Results  []law.Result
	Verdicts []law.Verdict
}

// word is the result of an expectation, in a word.
func word(r law.Result) (string, Style) {
	switch {
	case r.Undecided:
		return "undecided", Warm
	case !r.Holds:
		return "FAILS", Hot
	}
	return "holds", Cool
}

// Proofs writes the results of expectations and laws for a terminal, failures first; for both
// states if two were judged and differ.
func Proofs(s *Screen, proofs []Proof) {
	lawVerdicts(s, proofs)
	first := proofs[0]
	counts := make(map[string]int)
	differ := 0
	for _, failing := range []bool{true, false} {
		for i := range first.Results {
			bad := false
			for _, p := range proofs {
				bad = bad || !p.Results[i].Holds
			}
			if bad != failing {
				continue
			}
			shown := shownStates(proofs, func(a, b Proof) bool { return sameResult(a.Results[i], b.Results[i]) })
			if len(shown) > 1 {
				differ++
			}
			worst := "holds"
			for _, p := range shown {
				result(s, p, p.Results[i], len(shown) > 1)
				if w, _ := word(p.Results[i]); worst == "holds" || w == "FAILS" {
					worst = w
				}
			}
			counts[worst]++
		}
	}
	if len(first.Results) == 0 && len(first.Verdicts) == 0 {
		s.Line(Piece{"the definitions expect nothing", Strong},
			Piece{Text: "   write for example: expect internet cannot reach GROUP"})
		return
	}
	if len(first.Results) > 0 {
		s.Blank()
	}
	last := proofs[len(proofs)-1]
	imagined := 0
	for _, r := range last.Results {
		if r.Imagined {
			imagined++
		}
	}
	if imagined > 0 {
		s.Text(0, fmt.Sprintf("%s on groups attached to nothing: decided for a made-up member in each of their "+
			"subnets; ways that no survey tells are assumed.", Count(imagined, "answer rests", "answers rest")))
	}
	if n := len(first.Results); n > 0 {
		summary := fmt.Sprintf("%s: %s", Count(n, "expectation", "expectations"),
			Count(counts["holds"], "holds", "hold"))
		if counts["FAILS"] > 0 {
			summary += ", " + Count(counts["FAILS"], "does", "do") + " not"
		}
		if counts["undecided"] > 0 {
			summary += ", " + Number(counts["undecided"]) + " undecided"
		}
		if differ > 0 {
			summary += "; " + Number(differ) + " as found and as defined differently"
		}
		s.Line(Piece{summary, Strong})
	}
	if n := len(first.Verdicts); n > 0 {
		broken := 0
		for i := range first.Verdicts {
			for _, p := range proofs {
				if !p.Verdicts[i].Holds() {
					broken++
					break
				}
			}
		}
		s.Line(Piece{fmt.Sprintf("%s: %d broken", Count(n, "law", "laws"), broken), Strong})
	}
	state := first.State
	if len(proofs) > 1 {
		state = "both"
	}
	s.Line(Piece{judgedWords(first.Estate, state), Faint})
}

// shownStates are the states whose results are shown: one if they are the same.
func shownStates(proofs []Proof, same func(a, b Proof) bool) []Proof {
	if len(proofs) > 1 && same(proofs[0], proofs[1]) {
		return proofs[1:] // as defined: that can be edited
	}
	return proofs
}

func sameResult(a, b law.Result) bool { return a.Holds == b.Holds && a.Undecided == b.Undecided }

// result writes one expectation, with its state if that matters.
func result(s *Screen, p Proof, r law.Result, withState bool) {
	word, style := word(r)
	text := r.Text
	if withState {
		text += "  (" + StateWords(p.State) + ")"
	}
	s.Ends(Piece{place(r.Origin), Faint}, Piece{Pad(word, findingIndent), style}, Piece{text, Plain})
	if r.Note != "" && (!r.Imagined || !r.Holds) {
		s.Text(findingIndent, r.Note)
	}
	if w := r.Witness; w != nil {
		s.Labelled(findingIndent, Piece{"for example", Faint}, findingLabel, Piece{Text: witnessLine(p.Estate, *w)})
		if text := witnessText(p.Estate, *w); text != "" {
			s.Labelled(findingIndent, Piece{"", Faint}, findingLabel, Piece{Text: text})
		}
	}
}

// witnessLine is a flow and what becomes of it.
func witnessLine(e *estate.Estate, w decide.Answer) string {
	return fmt.Sprintf("%s → %s %s %s", w.Source, w.Destination, serviceName(e, w.Service), verdictWords(w.Verdict))
}

// sameVerdict reports whether the same groups breach a law in two states.
func sameVerdict(a, b law.Verdict) bool {
	by := func(v law.Verdict) []string {
		var groups []string
		for _, x := range v.Breaches {
			groups = append(groups, fmt.Sprintf("%s %v", x.Group.Path(), x.Exemption == nil))
		}
		slices.Sort(groups)
		return slices.Compact(groups)
	}
	return slices.Equal(by(a), by(b)) && (a.Groups == 0) == (b.Groups == 0)
}

// lawVerdicts writes the results of laws: each breach with its rule, and how many are exempted.
func lawVerdicts(s *Screen, proofs []Proof) {
	for i := range proofs[0].Verdicts {
		shown := shownStates(proofs, func(a, b Proof) bool { return sameVerdict(a.Verdicts[i], b.Verdicts[i]) })
		for _, p := range shown {
			lawVerdict(s, p, p.Verdicts[i], len(shown) > 1)
		}
	}
	if len(proofs[0].Verdicts) > 0 {
		s.Blank()
	}
}

func lawVerdict(s *Screen, p Proof, v law.Verdict, withState bool) {
	const most = 5
	word, style := "holds", Cool
	switch {
	case !v.Holds():
		word, style = "BROKEN", Hot
	case v.Groups == 0:
		word, style = "idle", Warm
	}
	title := "law " + v.Name
	if v.Title != "" {
		title += "  " + v.Title
	}
	if withState {
		title += "  (" + StateWords(p.State) + ")"
	}
	s.Ends(Piece{place(v.Law.Origin), Faint}, Piece{Pad(word, findingIndent), style}, Piece{title, Plain})
	about := "over " + Count(v.Groups, "group", "groups")
	if v.Groups == 0 {
		about = "over no group at all: its condition holds nowhere, so it says nothing"
	}
	if n := v.Exempted(); n > 0 {
		about += fmt.Sprintf(", %s exempted", Count(n, "breach", "breaches"))
	}
	s.Text(findingIndent, about)
	broken := len(v.Breaches) - v.Exempted()
	told := 0
	for _, b := range v.Breaches {
		if b.Exemption != nil {
			s.Labelled(findingIndent, Piece{"exempted", Faint}, findingLabel,
				Piece{Text: fmt.Sprintf("%s until %s by %s: %s", b.Group.Path(),
					b.Exemption.Until.Add(-time.Second).Format("2006-01-02"), b.Exemption.By, b.Exemption.Because)})
			continue
		}
		if told++; told > most {
			if told == most+1 {
				s.Text(findingIndent, "and "+Number(broken-most)+" more")
			}
			continue
		}
		s.Ends(Piece{place(b.Origin()), Faint}, Piece{strings.Repeat(" ", findingIndent), Plain},
			Piece{b.Group.Path(), Accent})
		s.Text(findingIndent+2, b.Text)
		if b.Witness != nil {
			s.Text(findingIndent+2, fmt.Sprintf("for example %s %s", b.Witness.Peer, b.Witness.Service))
		}
	}
}

func verdictWords(v decide.Verdict) string {
	return map[decide.Verdict]string{decide.Passes: "passes", decide.Stopped: "is stopped",
		decide.NoRoute: "has no way", decide.OneWay: "gets no answer", decide.Undecided: "is undecided"}[v]
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
	return words.Why(e, why)
}

// ProofsJSON writes the results of expectations and laws as one JSON document: where
// two states were judged and differ, one item for each.
func ProofsJSON(w io.Writer, proofs []Proof) error {
	type item struct {
		State     string     `json:"state"`
		File      string     `json:"file"`
		Line      int        `json:"line"`
		Text      string     `json:"text"`
		Holds     bool       `json:"holds"`
		Undecided bool       `json:"undecided"`
		Note      string     `json:"note,omitempty"`
		Witness   *traceJSON `json:"witness"`
	}
	first := proofs[0]
	whole := first.State
	if len(proofs) > 1 {
		whole = "both"
	}
	stateOf := func(p Proof, shown []Proof) string {
		if len(shown) == 1 {
			return whole
		}
		return p.State
	}
	items, laws := []item{}, []lawJSON{}
	for i := range first.Results {
		shown := shownStates(proofs, func(a, b Proof) bool { return sameResult(a.Results[i], b.Results[i]) })
		for _, p := range shown {
			r := p.Results[i]
			x := item{stateOf(p, shown), r.Origin.File, r.Origin.Line, r.Text, r.Holds, r.Undecided, r.Note, nil}
			if r.Witness != nil {
				t := traceToJSON(p.Estate, *r.Witness)
				x.Witness = &t
			}
			items = append(items, x)
		}
	}
	for i := range first.Verdicts {
		shown := shownStates(proofs, func(a, b Proof) bool { return sameVerdict(a.Verdicts[i], b.Verdicts[i]) })
		for _, p := range shown {
			laws = append(laws, lawToJSON(p.Verdicts[i], stateOf(p, shown)))
		}
	}
	return writeJSON(w, struct {
		Version      int          `json:"version"`
		State        string       `json:"state"`
		Expectations []item       `json:"expectations"`
		Laws         []lawJSON    `json:"laws"`
		Unread       []unreadJSON `json:"unread"`
	}{2, whole, items, laws, unreadToJSON(first.Estate.Unread)})
}

type breachJSON struct {
	Group    string `json:"group"`
	Text     string `json:"text"`
	Example  string `json:"example,omitempty"`
	Exempted bool   `json:"exempted"`
	placeJSON
}

type lawJSON struct {
	State    string       `json:"state"`
	Name     string       `json:"name"`
	Title    string       `json:"title,omitempty"`
	Severity string       `json:"severity,omitempty"`
	Controls []string     `json:"controls"`
	Holds    bool         `json:"holds"`
	Groups   int          `json:"groups"`
	Breaches []breachJSON `json:"breaches"`
	placeJSON
}

func lawToJSON(v law.Verdict, state string) lawJSON {
	x := lawJSON{state, v.Name, v.Title, v.Severity, orNone(v.Controls), v.Holds(), v.Groups, []breachJSON{},
		at(v.Law.Origin)}
	for _, b := range v.Breaches {
		y := breachJSON{Group: b.Group.Path(), Text: b.Text, Exempted: b.Exemption != nil, placeJSON: at(b.Origin())}
		if b.Witness != nil {
			y.Example = fmt.Sprintf("%s %s", b.Witness.Peer, b.Witness.Service)
		}
		x.Breaches = append(x.Breaches, y)
	}
	return x
}
