package render

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"isonomos/core/addr"
	"isonomos/core/audit"
	"isonomos/core/estate"
	"isonomos/core/pass"
	"isonomos/core/service"
)

// An Audit is the result of an audit, with what is needed to show it.
type Audit struct {
	Estate  *estate.Estate
	State   string // "found", "defined" or "both": which was judged
	Result  audit.Result
	Filters Filters              // what was asked for
	Source  estate.Origin        // the place of findings that have none of their own: the survey, or a definition
	Change  *audit.Change        // since an earlier audit; nil without one
	Held    map[string]time.Time // since when each finding has held, by fingerprint; nil if that is not kept
	Lent    []*pass.Found        // what open passes let through, which does not count as open
	Fixes   map[string]Fix
	Say     Say            // how commands are called
	Version string         // of the program
	FailOn  audit.Severity // findings below it don't fail
	Never   bool           // nothing fails
}

// A Fix is an edit of a file that removes a finding, with the finding's fingerprint.
type Fix struct {
	About    string
	File     string
	Offset   int // bytes
	Length   int
	Inserted string
}

// Fails reports whether a finding decides the exit code: it is severe enough, not exempted, and, if
// compared with an earlier audit, new or worse.
func (a Audit) Fails(f audit.Finding) bool {
	return !a.Never && f.Exemption == nil && f.Severity >= a.FailOn && (a.Change == nil || a.Change.Fails(f))
}

// severityStyles go from blue to orange.
var severityStyles = map[audit.Severity]Style{audit.Info: Faint, audit.Low: Cool, audit.Medium: Warm,
	audit.High: Warm, audit.Critical: Hot}

// The columns at which a finding's severity and texts begin.
const (
	findingIndent = 10
	findingLabel  = 12
)

// shortID is how many characters of a fingerprint are shown.
const shortID = 8

// Findings writes findings for a terminal, the worst first and at most so many (0 means all), and
// then totals.
func Findings(s *Screen, a Audit, most int) {
	found := a.Result.Findings
	shown := len(found)
	if most > 0 {
		shown = min(shown, most)
	}
	for _, f := range found[:shown] {
		finding(s, a, f)
		s.Blank()
	}
	if a.Change != nil {
		gone(s, a.Change, most)
	}
	notes(s, a)
	if shown < len(found) {
		s.Line(Piece{fmt.Sprintf("%s are shown: ", Count(shown, "finding", "findings")), Plain},
			Piece{"--limit 0", Accent}, Piece{" shows all, ", Plain}, Piece{"--by folder", Accent},
			Piece{" or ", Plain}, Piece{"--severity high", Accent}, Piece{" leads to where to begin", Plain})
	}
	s.Line(Piece{countSeverities(a), Strong})
	s.Line(Piece{judgedWords(a.Estate, a.State), Faint})
}

// notes says what was not audited, and names exemptions that cover nothing.
func notes(s *Screen, a Audit) {
	for _, f := range a.Lent {
		s.Labelled(0, Piece{"lent", Warm}, findingLabel, Piece{Text: LentWords(f, a.Estate.Services)})
	}
	for _, reason := range a.Result.Left {
		s.Labelled(0, Piece{"not audited", Warm}, findingLabel, Piece{Text: reason})
	}
	for _, e := range a.Result.Idle {
		s.Labelled(0, Piece{"idle", Warm}, findingLabel, Piece{Text: fmt.Sprintf("the exemption of %s from %s "+
			"(%s) covers nothing that was found: delete it", e.Subject, e.Law, place(e.Origin))})
	}
}

func gone(s *Screen, c *audit.Change, most int) {
	list := c.Gone
	if most > 0 {
		list = list[:min(most, len(list))]
	}
	for _, e := range list {
		s.Labelled(0, Piece{"gone", Cool}, findingIndent,
			Piece{Text: fmt.Sprintf("%s (%s) in %s: %s", e.Check, e.Severity, e.Where, e.Message)})
	}
	if len(list) > 0 {
		s.Blank()
	}
}

// Finding writes one finding, and why it has its severity.
func Finding(s *Screen, a Audit, f audit.Finding) {
	finding(s, a, f)
	for i, reason := range f.Reasons() {
		s.Labelled(findingIndent, Piece{first(i, "severity"), Faint}, findingLabel, Piece{Text: reason})
	}
	if len(f.Controls) > 0 {
		s.Labelled(findingIndent, Piece{"controls", Faint}, findingLabel, Piece{Text: strings.Join(f.Controls, ", ")})
	}
	for i, r := range f.Rules {
		text := r.Sentence(a.Estate.Services)
		if r.ID != "" {
			text = r.ID + ": " + text
		}
		if at := place(r.Origin); at != "" {
			text += " (" + at + ")"
		}
		s.Labelled(findingIndent, Piece{first(i, "rules"), Faint}, findingLabel, Piece{Text: text})
	}
	s.Labelled(findingIndent, Piece{"fingerprint", Faint}, findingLabel, Piece{Text: f.Fingerprint})
	s.Labelled(findingIndent, Piece{"more", Faint}, findingLabel, Piece{Plainly("explain", f.Check), Accent})
}

func finding(s *Screen, a Audit, f audit.Finding) {
	check := f.Check
	if n := len(f.Counting()); n > 0 {
		check += " +" + fmt.Sprint(n)
	}
	severity := f.Severity.String()
	if f.Severity >= audit.High {
		severity = strings.ToUpper(severity)
	}
	style := severityStyles[f.Severity]
	if f.Exemption != nil {
		severity, style = "exempted", Faint
	}
	head := []Piece{{Pad(severity, findingIndent), style}, {Pad(check, 20), Strong}, {" " + f.Where(), Accent},
		{"  " + f.Fingerprint[:shortID], Faint}}
	if a.Change != nil && a.Change.Of[f.Fingerprint].Trend != audit.Same {
		style := Warm
		if !a.Change.Fails(f) {
			style = Cool
		}
		head = append(head, Piece{"  " + string(a.Change.Of[f.Fingerprint].Trend), style})
	}
	s.Ends(Piece{place(f.Origin()), Faint}, head...)
	line := func(label, text string) {
		s.Labelled(findingIndent, Piece{label, Faint}, findingLabel, Piece{Text: text})
	}
	s.Text(findingIndent, f.Message)
	if since := a.Held[f.Fingerprint]; !since.IsZero() {
		line("since", since.Format("2006-01-02 15:04")+" UTC")
	}
	if a.Change != nil {
		for i, more := range a.Change.Of[f.Fingerprint].More {
			line(first(i, "more now"), more)
		}
	}
	if a.State == audit.InBoth && (f.State != audit.InBoth || f.StateNote != "") {
		line("holds", holdsIn(f))
	}
	for i, r := range f.Counting() {
		line(first(i, "as well"), r.Check+": "+r.Message)
	}
	for i, r := range f.Exempted() {
		line(first(i, "exempted"),
			r.Check+" until "+lastDay(r.Exemption.Until)+" by "+r.Exemption.By+": "+r.Exemption.Because)
	}
	const most = 8
	for i, d := range f.Details[:min(most, len(f.Details))] {
		line(first(i, "that is"), d)
	}
	if n := len(f.Details) - most; n > 0 {
		line("", fmt.Sprintf("and %s more", Number(n)))
	}
	switch f.Arrival {
	case audit.Arrives:
		if f.Direction == estate.Out {
			line("goes out of", interfaceList(f.Instances))
		} else {
			line("arrives at", interfaceList(f.Instances))
		}
	case audit.MayArrive:
		line("arrives", "nobody knows: "+f.WhyNot)
	case audit.Nowhere:
		line("arrives", "nowhere: "+f.WhyNot)
	}
	if f.Example != nil {
		text := exampleText(f)
		if f.Example.ByRule != nil {
			text += fmt.Sprintf(", by %q", f.Example.ByRule.Sentence(a.Estate.Services))
		}
		line("for example", text)
	}
	if f.Exemption != nil {
		line("exempted", fmt.Sprintf("until %s by %s: %s", lastDay(f.Exemption.Until), f.Exemption.By,
			f.Exemption.Because))
	}
	if f.Ended != nil {
		line("exemption", fmt.Sprintf("by %s ended on %s (%s): it no longer counts", f.Ended.By, lastDay(f.Ended.Until),
			place(f.Ended.Origin)))
	}
	label := "fix"
	if command := a.Say.command(f.Fix); command != "" { // a command is never broken, so that it can be copied
		s.Whole(findingIndent, Piece{label, Faint}, findingLabel, Piece{command, Accent})
		label = ""
	}
	if f.Fix.Words != "" {
		line(label, f.Fix.Words)
	}
	if f.OrElse != "" {
		line("or", f.OrElse)
	}
}

// holdsIn says in which state a finding holds, and what that means.
func holdsIn(f audit.Finding) string {
	text := StateWords(f.State)
	switch {
	case f.StateNote == "":
		return text
	case f.State != audit.InBoth:
		text += " only"
	}
	return text + ": " + f.StateNote
}

// StateWords says which state was judged.
func StateWords(state string) string {
	return map[string]string{"found": "as found", "defined": "as defined", "both": "as found and as defined"}[state]
}

// judgedWords says which state was judged, and from when it is.
func judgedWords(e *estate.Estate, state string) string {
	text := "judged " + StateWords(state)
	switch {
	case state == "defined" && e.Taken.IsZero():
		return text + ", without a survey: members are made up, ways assumed"
	case !e.Taken.IsZero():
		text += ", by what was surveyed at " + e.Taken.UTC().Format("2006-01-02 15:04 UTC")
	}
	return text
}

// lastDay is the last day of a period; one that ends at midnight ends on the day before.
func lastDay(end time.Time) string { return end.Add(-time.Second).UTC().Format(time.DateOnly) }

func exampleText(f audit.Finding) string {
	at := "a member"
	if i := f.Example.At; i != nil {
		at = i.Instance.Name
		if own, ok := i.Instance.Interfaces[0].Address(f.Example.Own.Is6()); f.Example.Own.IsValid() &&
			(!ok || own != f.Example.Own) {
			at += fmt.Sprintf(" (%s)", f.Example.Own) // the name alone would mean another address
		}
	}
	if f.Direction == estate.Out {
		return fmt.Sprintf("%s → %s %s", at, f.Example.Peer.Peer, f.Example.Peer.Service)
	}
	return fmt.Sprintf("%s → %s %s", f.Example.Peer.Peer, at, f.Example.Peer.Service)
}

// interfaceList names instances with the address at which strangers meet them.
func interfaceList(list []*estate.Interface) string {
	var names []string
	for _, i := range list {
		name := i.Instance.Name
		if len(i.Public) > 0 {
			name += " (" + i.Public[0].String() + ")"
		}
		names = append(names, name)
	}
	return someOf(names, 6)
}

func place(o estate.Origin) string {
	if o.File == "" {
		return ""
	}
	return fmt.Sprintf("%s:%d", o.File, o.Line)
}

// A tally counts findings by severity, and exempted ones apart.
type tally struct {
	by       [audit.Critical + 1]int
	exempted int
}

func (t *tally) add(f audit.Finding) {
	if f.Exemption != nil {
		t.exempted++
		return
	}
	t.by[f.Severity]++
}

func (t *tally) all() int {
	n := 0
	for _, x := range t.by {
		n += x
	}
	return n
}

// severities lists the number of each: "4 critical, 10 high".
func (t *tally) severities() string {
	var parts []string
	for s := audit.Critical; s >= audit.Info; s-- {
		if t.by[s] > 0 {
			parts = append(parts, fmt.Sprintf("%s %s", Number(t.by[s]), s))
		}
	}
	return strings.Join(parts, ", ")
}

func tallyOf(found []audit.Finding) tally {
	var t tally
	for _, f := range found {
		t.add(f)
	}
	return t
}

func countSeverities(a Audit) string {
	t := tallyOf(a.Result.Findings)
	text := "nothing found"
	if n := t.all(); n > 0 {
		text = Count(n, "finding", "findings") + ": " + t.severities()
	}
	if t.exempted > 0 {
		text += fmt.Sprintf("; %s exempted", Number(t.exempted))
	}
	if a.Change != nil {
		of := a.Change.Count
		text += fmt.Sprintf("; since then %s new, %s worse, %s better, %s gone, %s the same", Number(of[audit.New]),
			Number(of[audit.Worse]), Number(of[audit.Better]), Number(len(a.Change.Gone)), Number(of[audit.Same]))
	}
	return text
}

// Groupings are what findings can be totalled by.
var Groupings = []string{"account", "folder", "cloud", "check", "control", "group"}

// keysOf are the totals in which a finding counts. A finding of a folder counts in the folders
// above it too.
func keysOf(f audit.Finding, by string) []string {
	switch by {
	case "account":
		if f.Account != nil {
			return []string{f.Account.Name}
		}
	case "cloud":
		if f.Account != nil {
			return []string{f.Account.Cloud.Name}
		}
	case "folder":
		if f.Account == nil || f.Account.Folder == "" {
			return []string{"(no folder)"}
		}
		var keys []string
		parts := strings.Split(strings.Trim(f.Account.Folder, "/"), "/")
		for i := range parts {
			keys = append(keys, strings.Join(parts[:i+1], "/"))
		}
		return keys
	case "check":
		return f.Names()
	case "control":
		return f.Controls
	case "group":
		return []string{f.Where()}
	}
	return []string{"(definitions)"}
}

// totalsColumn is how wide the columns of Totals are.
const totalsColumn = 10

// totalsOf counts findings by account, folder, check, control or group. The keys are sorted worst
// first, folders by name.
func totalsOf(a Audit, by string) (keys []string, totals map[string]*tally) {
	totals = make(map[string]*tally)
	for _, f := range a.Result.Findings {
		for _, key := range keysOf(f, by) {
			if totals[key] == nil {
				totals[key] = &tally{}
				keys = append(keys, key)
			}
			totals[key].add(f)
		}
	}
	if by == "check" { // each check with the severity that it has by itself
		keys, totals = totalsOfChecks(a)
	}
	slices.SortFunc(keys, func(x, y string) int {
		if by == "folder" {
			return strings.Compare(x, y) // so that folders follow the one that they are in
		}
		for sev := audit.Critical; sev >= audit.Info; sev-- {
			if c := cmp.Compare(totals[y].by[sev], totals[x].by[sev]); c != 0 {
				return c
			}
		}
		return strings.Compare(x, y)
	})
	return keys, totals
}

// totalsOfChecks counts how often each check is tripped, by the severity that it has by itself.
func totalsOfChecks(a Audit) (keys []string, totals map[string]*tally) {
	totals = make(map[string]*tally)
	of := func(check string) *tally {
		if totals[check] == nil {
			totals[check] = &tally{}
			keys = append(keys, check)
		}
		return totals[check]
	}
	for _, f := range a.Result.Findings {
		of(f.Check).add(f)
		for _, r := range f.Also {
			if t := of(r.Check); r.Exemption != nil || f.Exemption != nil {
				t.exempted++
			} else {
				t.by[r.Severity]++
			}
		}
	}
	return keys, totals
}

// Totals writes a table of how many findings of each severity an account, folder, check, control or
// group has, worst first, at most so many rows (0 means all).
func Totals(s *Screen, a Audit, by string, most int) {
	keys, totals := totalsOf(a, by)
	widest := len(by)
	for _, key := range keys {
		widest = max(widest, Columns(key))
	}
	shown := len(keys)
	if most > 0 {
		shown = min(shown, most)
	}
	widest = min(widest, max(s.Width()-6*totalsColumn-2, 16)) + 1 // Pad leaves a blank at least
	head := Pad(by, widest)
	for _, title := range totalsHead() {
		head += fmt.Sprintf("%*s", totalsColumn, title)
	}
	s.Line(Piece{head, Strong})
	for _, key := range keys[:shown] {
		name := key
		if by == "folder" {
			if i := strings.LastIndexByte(key, '/'); i >= 0 {
				name = strings.Repeat("  ", strings.Count(key, "/")) + key[i+1:]
			}
		}
		pieces := []Piece{{Pad(shortened(name, widest-1), widest), Accent}}
		for sev := audit.Critical; sev >= audit.Info; sev-- {
			pieces = append(pieces, numberPiece(totals[key].by[sev], severityStyles[sev]))
		}
		s.Line(append(pieces, numberPiece(totals[key].exempted, Faint))...)
	}
	if shown < len(keys) {
		s.Line(Piece{fmt.Sprintf("and %s more: --limit 0 shows all", Number(len(keys)-shown)), Faint})
	}
	s.Blank()
	notes(s, a)
	if by == "check" || by == "control" || by == "folder" {
		s.Text(0, map[string]string{"check": "A finding counts for each check that it trips, with the severity " +
			"of that check there.", "control": "A finding counts for each control that it is about.",
			"folder": "What is below a folder counts there too."}[by])
	}
	s.Line(Piece{countSeverities(a), Strong})
	s.Line(Piece{judgedWords(a.Estate, a.State), Faint})
}

// TotalsJSON writes totals as one JSON document, version 1.
func TotalsJSON(w io.Writer, a Audit, by string) error {
	type total struct {
		Key      string `json:"key"`
		Critical int    `json:"critical"`
		High     int    `json:"high"`
		Medium   int    `json:"medium"`
		Low      int    `json:"low"`
		Info     int    `json:"info"`
		Exempted int    `json:"exempted"`
	}
	keys, totals := totalsOf(a, by)
	list := []total{}
	for _, key := range keys {
		t := totals[key]
		list = append(list, total{key, t.by[audit.Critical], t.by[audit.High], t.by[audit.Medium], t.by[audit.Low],
			t.by[audit.Info], t.exempted})
	}
	return writeJSON(w, struct {
		Version int          `json:"version"`
		State   string       `json:"state"`
		Filters Filters      `json:"filters"`
		By      string       `json:"by"`
		Totals  []total      `json:"totals"`
		Unread  []unreadJSON `json:"unread"`
		Left    []string     `json:"not_audited"`
	}{1, a.State, a.Filters, by, list, unreadToJSON(a.Estate.Unread), orNone(a.Result.Left)})
}

// TotalsCSV writes totals as a table (RFC 4180) with a header; an account that could not
// be read has a row of its own.
func TotalsCSV(w io.Writer, a Audit, by string) error {
	out := csv.NewWriter(w)
	rows := [][]string{append(append([]string{by}, totalsHead()...), "state")}
	keys, totals := totalsOf(a, by)
	for _, key := range keys {
		row := []string{cell(key)}
		for sev := audit.Critical; sev >= audit.Info; sev-- {
			row = append(row, strconv.Itoa(totals[key].by[sev]))
		}
		rows = append(rows, append(row, strconv.Itoa(totals[key].exempted), a.State))
	}
	for _, u := range a.Estate.Unread {
		rows = append(rows, []string{cell("not read: " + u.Name()), "", "", "", "", "", "", a.State})
	}
	if err := out.WriteAll(rows); err != nil {
		return err
	}
	return out.Error()
}

// totalsHead names the columns of totals: the severities, the worst first, and what is exempted.
func totalsHead() []string {
	names := slices.Clone(audit.SeverityNames())
	slices.Reverse(names)
	return append(names, "exempted")
}

func numberPiece(n int, style Style) Piece {
	if n == 0 {
		return Piece{fmt.Sprintf("%*s", totalsColumn, "·"), Faint}
	}
	return Piece{fmt.Sprintf("%*s", totalsColumn, Number(n)), style}
}

// shortened cuts a text in the middle to a number of columns, since its ends tell most.
func shortened(text string, columns int) string {
	text = Clean(text)
	if Columns(text) <= columns {
		return text
	}
	runes := []rune(text)
	half := (columns - 1) / 2
	return string(runes[:half]) + "…" + string(runes[len(runes)-(columns-1-half):])
}

// peerCount is the number of addresses in a set, in short.
func peerCount(s addr.Set) string {
	return audit.SizeInWords(s)
}

// serviceWords is a set of services for a sentence.
func serviceWords(e *estate.Estate, s service.Set) string { return e.Services.Describe(s) }
