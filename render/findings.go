package render

import (
	"bufio"
	"cmp"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"html"
	"io"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/audit"
	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/service"
)

// Findings for other programs: JSON, JUnit, CSV, and Markdown for a review.

// findingJSON is a finding in the form of docs/schemas/findings.json.
type findingJSON struct {
	Check string   `json:"check"`
	Also  []string `json:"also"`
	// Those of Also that an exemption covers, if the finding as a whole is not exempted.
	Exempted    []relatedJSON  `json:"also_exempted"`
	Severity    string         `json:"severity"`
	Starts      string         `json:"starts"`
	Reasons     []string       `json:"reasons"`
	Fingerprint string         `json:"fingerprint"`
	Since       string         `json:"since,omitempty"`      // "new", "worse", "better" or "same", with --since
	SinceMore   []string       `json:"since_more,omitempty"` // of what there is more than before
	HeldSince   string         `json:"held_since,omitempty"` // RFC 3339, with --keep
	State       string         `json:"state"`                // "found", "defined" or "both"
	StateNote   string         `json:"state_note,omitempty"`
	Direction   string         `json:"direction"`
	Cloud       string         `json:"cloud"`
	Account     string         `json:"account"`
	Folder      string         `json:"folder"`
	Network     string         `json:"network"`
	Group       string         `json:"group"`
	Where       string         `json:"where"` // full name of the group, list or subnet
	Rules       []string       `json:"rules"`
	Sentences   []string       `json:"sentences"`
	Places      []placeJSON    `json:"places"` // of the rules
	Services    []string       `json:"services"`
	Peers       []string       `json:"peers"`
	Breadth     *breadthJSON   `json:"breadth"`
	Example     *string        `json:"example"`
	Instances   []string       `json:"instances"`
	Arrives     *bool          `json:"arrives"`
	WhyNot      string         `json:"why_not,omitempty"`
	File        string         `json:"file"`
	Line        int            `json:"line"`
	Message     string         `json:"message"`
	Details     []string       `json:"details"`
	Fix         string         `json:"fix"`
	OrElse      string         `json:"or_else,omitempty"`
	Narrow      bool           `json:"narrow"` // the fix is to narrow these rules
	Controls    []string       `json:"controls"`
	Exemption   *exemptionJSON `json:"exemption"`
	Ended       *exemptionJSON `json:"exemption_ended,omitempty"`
}

type relatedJSON struct {
	Check    string `json:"check"`
	Severity string `json:"severity"`
	exemptionJSON
}

type exemptionJSON struct {
	From    string `json:"from"`
	By      string `json:"by"`
	Because string `json:"because"`
	Until   string `json:"until"`
	File    string `json:"file"`
	Line    int    `json:"line"`
}

func exemptionToJSON(e *law.Exemption) *exemptionJSON {
	if e == nil {
		return nil
	}
	return &exemptionJSON{e.Law, e.By, e.Because, moment(e.Until), e.Origin.File, e.Origin.Line}
}

// breadthJSON is the share of strangers among peers, by family, from 0 to 1.
type breadthJSON struct {
	IPv4 float64 `json:"ipv4"`
	IPv6 float64 `json:"ipv6"`
}

type goneJSON struct {
	Fingerprint string `json:"fingerprint"`
	Check       string `json:"check"`
	Severity    string `json:"severity"`
	Where       string `json:"where"`
	Message     string `json:"message"`
	State       string `json:"state"`
}

// earlierJSON is what is needed of a finding of an earlier audit.
type earlierJSON struct {
	goneJSON
	Also      []string  `json:"also"`
	Direction string    `json:"direction"`
	Services  []string  `json:"services"`
	Peers     []string  `json:"peers"`
	Instances []string  `json:"instances"`
	Exemption *struct{} `json:"exemption"`
	Excepted  *struct{} `json:"excepted"` // the field's name in version 1
}

// earlier is the finding as it is compared.
func (x earlierJSON) earlier() (audit.Earlier, error) {
	for k, name := range x.Also {
		x.Also[k], _ = audit.CheckName(name)
	}
	x.Check, _ = audit.CheckName(x.Check)
	e := audit.Earlier{Fingerprint: x.Fingerprint, Check: x.Check, Where: x.Where, Message: x.Message, Also: x.Also,
		Direction: estate.Direction(x.Direction), State: x.State, Instances: x.Instances,
		Exempted: x.Exemption != nil || x.Excepted != nil}
	var ok bool
	if e.Severity, ok = audit.ParseSeverity(x.Severity); !ok {
		return e, fmt.Errorf("it has the severity %q, which there is not", x.Severity)
	}
	var sets []service.Set
	for _, text := range x.Services {
		spec, err := service.ParseSpec(text)
		if err != nil {
			return e, err
		}
		sets = append(sets, service.Of(spec))
	}
	e.Services = service.UnionAll(sets...)
	prefixes := make([]netip.Prefix, len(x.Peers))
	for i, text := range x.Peers {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			return e, fmt.Errorf("%q is not a range of addresses", text)
		}
		prefixes[i] = p
	}
	e.Peers = addr.OfPrefixes(prefixes...)
	return e, nil
}

// findingsVersion is the version of the document that FindingsJSON writes.
const findingsVersion = 2

// FindingsJSON writes findings as a JSON document, one by one, so that it needs memory for one at a
// time.
func FindingsJSON(w io.Writer, a Audit) error {
	out := bufio.NewWriterSize(w, 1<<16)
	fmt.Fprintf(out, "{\n \"version\": %d,\n \"state\": %q,\n \"filters\": ", findingsVersion, a.State)
	if err := indented(out, " ", a.Filters); err != nil {
		return err
	}
	_, _ = out.WriteString(",\n \"findings\": [")
	for i, f := range a.Result.Findings {
		if i > 0 {
			_ = out.WriteByte(',')
		}
		_, _ = out.WriteString("\n  ")
		if err := indented(out, "  ", findingToJSON(a, f)); err != nil {
			return err
		}
	}
	if len(a.Result.Findings) > 0 {
		_, _ = out.WriteString("\n ")
	}
	_, _ = out.WriteString("],\n")
	gone := []goneJSON{}
	if a.Change != nil {
		for _, e := range a.Change.Gone {
			gone = append(gone, goneJSON{e.Fingerprint, e.Check, e.Severity.String(), e.Where, e.Message, e.State})
		}
	}
	idle := []*exemptionJSON{}
	for i := range a.Result.Idle {
		idle = append(idle, exemptionToJSON(&a.Result.Idle[i]))
	}
	for i, part := range []struct {
		name  string
		value any
	}{{"gone", gone}, {"idle_exemptions", idle}, {"lent", lentToJSON(a)}, {"unread", unreadToJSON(a.Estate.Unread)},
		{"not_audited", orNone(a.Result.Left)}} {
		fmt.Fprintf(out, " %q: ", part.name)
		if err := indented(out, " ", part.value); err != nil {
			return err
		}
		_, _ = out.WriteString([]string{",\n", ",\n", ",\n", ",\n", "\n}\n"}[i])
	}
	return out.Flush()
}

func indented(out io.Writer, prefix string, v any) error {
	var b strings.Builder
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	enc.SetIndent(prefix, " ")
	if err := enc.Encode(v); err != nil {
		return err
	}
	_, err := io.WriteString(out, strings.TrimSuffix(harmless(b.String()), "\n"))
	return err
}

// harmless escapes in a JSON text the characters that the encoder does not escape and that a
// terminal may obey: DEL, C1 controls, and characters that change the direction of writing. They
// occur only in strings.
func harmless(text string) string {
	if !strings.ContainsFunc(text, obeyed) {
		return text
	}
	var b strings.Builder
	for _, r := range text {
		if obeyed(r) {
			fmt.Fprintf(&b, "\\u%04x", r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

func obeyed(r rune) bool {
	return r >= 0x7f && r < 0xa0 || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 || r == 0x200e ||
		r == 0x200f
}

// Filters are what an audit was asked for, in the words of the command line. Only audits with the
// same filters can be compared.
type Filters struct {
	Over      string   `json:"over"`
	Direction string   `json:"direction"`
	Checks    []string `json:"checks"`
	Service   string   `json:"service"`
	Severity  string   `json:"severity"`
	Evidence  bool     `json:"evidence"` // observed flows were given
}

// Differences are the filters in which two audits differ, each with the first one's value.
func (f Filters) Differences(other Filters) []string {
	var all []string
	differ := func(what, first, second string) {
		if first != second {
			all = append(all, fmt.Sprintf("%s %s", what, cmp.Or(first, "not given")))
		}
	}
	differ("--over", f.Over, other.Over)
	differ("--direction", f.Direction, other.Direction)
	differ("--check", strings.Join(f.Checks, ","), strings.Join(other.Checks, ","))
	differ("--service", f.Service, other.Service)
	differ("--severity", f.Severity, other.Severity)
	yes := map[bool]string{true: "given", false: "not given"}
	differ("observed flows", yes[f.Evidence], yes[other.Evidence])
	return all
}

// An EarlierAudit is what an audit found that FindingsJSON wrote.
type EarlierAudit struct {
	State    string
	Filters  *Filters // nil in documents from before filters were written
	Findings []audit.Earlier
}

// ReadFindings reads the fingerprints of an earlier audit that FindingsJSON wrote.
func ReadFindings(r io.Reader) (earlier EarlierAudit, err error) {
	var document struct {
		Version  *int          `json:"version"`
		State    string        `json:"state"`
		Filters  *Filters      `json:"filters"`
		Findings []earlierJSON `json:"findings"`
	}
	decoder := json.NewDecoder(r)
	if err = decoder.Decode(&document); err == nil && decoder.Decode(new(any)) != io.EOF {
		err = errors.New("something follows behind it")
	}
	switch {
	case err != nil:
		return earlier, fmt.Errorf("it is not the JSON that isonomos audit --format json writes: %w", err)
	case document.Version == nil || document.Findings == nil:
		return earlier, errors.New("it is not what isonomos audit --format json writes: it has no findings")
	case *document.Version != 1 && *document.Version != findingsVersion:
		return earlier, fmt.Errorf("it has version %d, and this program reads versions 1 and %d", *document.Version,
			findingsVersion)
	}
	earlier = EarlierAudit{document.State, document.Filters, make([]audit.Earlier, len(document.Findings))}
	for i, f := range document.Findings {
		if f.Fingerprint == "" {
			return earlier, fmt.Errorf("finding %d has no fingerprint", i+1)
		}
		if earlier.Findings[i], err = f.earlier(); err != nil {
			return earlier, fmt.Errorf("finding %d: %w", i+1, err)
		}
	}
	return earlier, nil
}

func findingToJSON(a Audit, f audit.Finding) findingJSON {
	x := findingJSON{
		Check: f.Check, Also: []string{}, Exempted: []relatedJSON{}, Severity: f.Severity.String(),
		Starts: f.Start.String(), Reasons: f.Reasons(), Fingerprint: f.Fingerprint, State: f.State,
		StateNote: f.StateNote,
		Direction: string(f.Direction), Where: f.Where(),
		Rules: []string{}, Sentences: []string{}, Places: []placeJSON{}, Services: []string{}, Peers: []string{},
		Instances: []string{}, Controls: orNone(f.Controls),
		WhyNot: f.WhyNot, File: f.Origin().File, Line: f.Origin().Line, Message: f.Message,
		Details: orNone(f.Details), Fix: a.Say.remedy(f.Fix), OrElse: f.OrElse, Narrow: f.Narrow,
		Exemption: exemptionToJSON(f.Exemption), Ended: exemptionToJSON(f.Ended),
	}
	if a.Change != nil {
		step := a.Change.Of[f.Fingerprint]
		x.Since, x.SinceMore = string(step.Trend), step.More
	}
	if since := a.Held[f.Fingerprint]; !since.IsZero() {
		x.HeldSince = moment(since)
	}
	for _, r := range f.Also {
		x.Also = append(x.Also, r.Check)
		if r.Exemption != nil && f.Exemption == nil {
			x.Exempted = append(x.Exempted, relatedJSON{r.Check, r.Severity.String(), *exemptionToJSON(r.Exemption)})
		}
		x.Details = append(x.Details, r.Message)
	}
	if f.Account != nil {
		x.Account, x.Folder = f.Account.Name, f.Account.Folder
		if f.Account.Cloud != nil {
			x.Cloud = f.Account.Cloud.Name
		}
	}
	if f.Group != nil {
		x.Group = f.Group.Name
		if f.Group.Network != nil {
			x.Network = f.Group.Network.Name
		}
	}
	for _, r := range f.Rules {
		if r.ID != "" {
			x.Rules = append(x.Rules, r.ID)
		}
		x.Sentences = append(x.Sentences, r.Sentence(a.Estate.Services))
		x.Places = append(x.Places, at(r.Origin))
	}
	for _, s := range f.Services.RunSpecs() {
		x.Services = append(x.Services, s.String())
	}
	for _, p := range f.Peers.Prefixes() {
		x.Peers = append(x.Peers, p.String())
	}
	for _, i := range f.Instances {
		x.Instances = append(x.Instances, i.Instance.Name)
	}
	if f.Direction != "" {
		x.Breadth = &breadthJSON{f.Breadth.IPv4, f.Breadth.IPv6}
	}
	if f.Arrival == audit.Arrives || f.Arrival == audit.Nowhere {
		arrives := f.Arrival == audit.Arrives
		x.Arrives = &arrives
	}
	if f.Example != nil {
		member := "a member"
		if f.Example.Own.IsValid() {
			member = f.Example.Own.String()
		}
		from, to := f.Example.Peer.Peer.String(), member
		if f.Direction == estate.Out {
			from, to = to, from
		}
		text := fmt.Sprintf("%s -> %s %s", from, to, f.Example.Peer.Service)
		x.Example = &text
	}
	return x
}

type unreadJSON struct {
	Account string `json:"account,omitempty"`
	Cloud   string `json:"cloud,omitempty"` // of a whole cloud
	Reason  string `json:"reason"`
}

// unreadToJSON are the accounts that could not be read.
func unreadToJSON(unread []estate.Unread) []unreadJSON {
	list := []unreadJSON{}
	for _, u := range unread {
		list = append(list, unreadJSON(u))
	}
	return list
}

// NotRead lists the accounts that could not be read: the rest of the output does not cover them.
func NotRead(s *Screen, unread []estate.Unread) {
	for _, u := range unread {
		s.Labelled(0, Piece{"not read", Warm}, findingIndent,
			Piece{Text: u.Name() + ": " + u.Reason + "; nothing is known of it"})
	}
}

// notReadMarkdown is NotRead for a review.
func notReadMarkdown(unread []estate.Unread) string {
	var b strings.Builder
	for _, u := range unread {
		fmt.Fprintf(&b, "Not read: %s (%s): nothing is known of it.\n\n", mark(u.Name()), mark(u.Reason))
	}
	return b.String()
}

func orNone[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

func writeJSON(w io.Writer, v any) error {
	if err := indented(w, "", v); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// The parts of a JUnit document that are used.
type (
	junitSuites struct {
		XMLName  xml.Name     `xml:"testsuites"`
		Name     string       `xml:"name,attr"`
		Tests    int          `xml:"tests,attr"`
		Failures int          `xml:"failures,attr"`
		Skipped  int          `xml:"skipped,attr"`
		Suites   []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Skipped  int         `xml:"skipped,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Class   string        `xml:"classname,attr"`
		Name    string        `xml:"name,attr"`
		File    string        `xml:"file,attr,omitempty"`
		Line    int           `xml:"line,attr,omitempty"`
		Failure *junitProblem `xml:"failure"`
		Skipped *junitProblem `xml:"skipped"`
		Output  string        `xml:"system-out,omitempty"`
	}
	junitProblem struct {
		Type    string `xml:"type,attr,omitempty"`
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
)

// FindingsJUnit writes findings as a JUnit document, with a suite for each check and a case for
// each finding. A check without findings is a case that passes; so is a check that was joined to
// findings of other checks, where it fails. An exempted finding is skipped. A finding that does not
// decide the exit code passes, with its text.
func FindingsJUnit(w io.Writer, a Audit) error {
	document := junitSuites{Name: "isonomos audit, " + StateWords(a.State)}
	at := make(map[string]int)
	suite := func(name string) *junitSuite {
		i, ok := at[name]
		if !ok {
			i = len(document.Suites)
			at[name] = i
			document.Suites = append(document.Suites, junitSuite{Name: name})
		}
		return &document.Suites[i]
	}
	for _, c := range audit.Checks {
		suite(c.Name)
	}
	joined := make(map[string][]string) // by check: findings of other checks that it was joined to
	for _, f := range a.Result.Findings {
		for _, r := range f.Counting() {
			if suite(r.Check); f.Exemption != nil {
				continue
			}
			joined[r.Check] = append(joined[r.Check],
				Clean(fmt.Sprintf("%s: with %s: %s", f.Where(), f.Check, r.Message)))
		}
		s := suite(f.Check)
		c := junitCase{Class: Clean(f.Check), Name: Clean(f.Where() + ": " + f.Message), File: Clean(f.Origin().File),
			Line: f.Origin().Line}
		parts := append([]string{f.Message, "holds " + holdsIn(f)}, f.Details...)
		if a.Change != nil {
			step := a.Change.Of[f.Fingerprint]
			parts = append(append(parts, "since then "+string(step.Trend)), step.More...)
		}
		for _, r := range f.Exempted() {
			parts = append(parts, "exempted: "+r.Check+" until "+lastDay(r.Exemption.Until)+" by "+r.Exemption.By)
		}
		text := Clean(strings.Join(parts, "; ") + "; fix: " + a.Say.remedy(f.Fix))
		switch {
		case f.Exemption != nil:
			s.Skipped++
			c.Skipped = &junitProblem{Message: Clean(
				fmt.Sprintf("exempted until %s by %s: %s", lastDay(f.Exemption.Until), f.Exemption.By,
					f.Exemption.Because))}
		case a.Fails(f):
			s.Failures++
			c.Failure = &junitProblem{f.Severity.String(), Clean(f.Message), text}
		default:
			c.Output = f.Severity.String() + ": " + text
		}
		s.Cases = append(s.Cases, c)
	}
	for i := range document.Suites {
		s := &document.Suites[i]
		if list := joined[s.Name]; len(list) > 0 {
			s.Cases = append(s.Cases,
				junitCase{Class: Clean(s.Name), Name: "told with other checks, which count",
					Output: strings.Join(list, "\n")})
		}
		if len(s.Cases) == 0 {
			s.Cases = []junitCase{{Class: s.Name, Name: "nothing found"}}
		}
		s.Tests = len(s.Cases)
		document.Tests += s.Tests
		document.Failures += s.Failures
		document.Skipped += s.Skipped
	}
	return writeXML(w, document)
}

var csvHeader = []string{"severity", "check", "also", "cloud", "account", "folder", "network", "group", "where",
	"direction", "services", "peers", "instances", "arrives", "file", "line", "message", "fix", "controls",
	"exempted_by", "exempted_until", "since", "state", "fingerprint"}

// FindingsCSV writes findings as a table (RFC 4180) with a header. A spreadsheet takes no field for
// a formula.
func FindingsCSV(w io.Writer, a Audit) error {
	out := csv.NewWriter(w)
	if err := out.Write(csvHeader); err != nil {
		return err
	}
	for _, f := range a.Result.Findings {
		x := findingToJSON(a, f)
		arrives, by, until := "", "", ""
		if x.Arrives != nil {
			arrives = strconv.FormatBool(*x.Arrives)
		}
		if x.Exemption != nil {
			by, until = x.Exemption.By, x.Exemption.Until
		}
		list := func(l []string) string { return strings.Join(l, ", ") }
		for k, check := range x.Also {
			if slices.ContainsFunc(x.Exempted, func(r relatedJSON) bool { return r.Check == check }) {
				x.Also[k] += " (exempted)"
			}
		}
		row := []string{x.Severity, x.Check, list(x.Also), x.Cloud, x.Account, x.Folder, x.Network, x.Group, x.Where,
			x.Direction, list(x.Services), list(x.Peers), list(x.Instances),
			arrives, x.File, strconv.Itoa(x.Line), x.Message, x.Fix, list(x.Controls), by, until, x.Since, x.State,
			x.Fingerprint}
		for i, field := range row {
			row[i] = cell(field)
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// cell makes a text harmless for spreadsheets, which take some beginnings for formulas.
func cell(text string) string {
	text = Clean(text)
	if text != "" && strings.ContainsAny(text[:1], "=+-@|%") || strings.HasPrefix(text, "\t") {
		return "'" + text
	}
	return text
}

// mostMarkdown bounds a review comment, in bytes: the systems that show them accept about 65,000
// characters.
const mostMarkdown = 60000

// FindingsMarkdown writes findings for a review comment: a summary, then what fails, with folded
// details. What does not fit is counted.
func FindingsMarkdown(w io.Writer, a Audit) error {
	var b strings.Builder
	t := tallyOf(a.Result.Findings)
	b.WriteString("### Audit: " + mark(countSeverities(a)) + "\n\n" + mark(judgedWords(a.Estate, a.State)) + "\n\n")
	b.WriteString(notReadMarkdown(a.Estate.Unread))
	if t.all() > 0 {
		b.WriteString("| critical | high | medium | low | info | exempted |\n|--:|--:|--:|--:|--:|--:|\n|")
		for s := audit.Critical; s >= audit.Info; s-- {
			fmt.Fprintf(&b, " %s |", Number(t.by[s]))
		}
		fmt.Fprintf(&b, " %s |\n\n", Number(t.exempted))
	}
	for _, e := range a.Result.Idle {
		fmt.Fprintf(&b, "The exemption of %s from %s covers nothing that was found.\n\n", mark(e.Subject), mark(e.Law))
	}
	for _, reason := range a.Result.Left {
		fmt.Fprintf(&b, "Not audited: %s\n\n", mark(reason))
	}
	for i, f := range a.Result.Findings {
		text := findingMarkdown(a, f)
		if b.Len()+len(text) > mostMarkdown {
			b.WriteString("\n" + mark(notShown(a.Result.Findings[i:])) + "\n")
			break
		}
		b.WriteString(text)
	}
	if a.Change != nil && len(a.Change.Gone) > 0 && b.Len() < mostMarkdown {
		fmt.Fprintf(&b, "\n<details><summary>%s</summary>\n\n",
			Count(len(a.Change.Gone), "finding is gone", "findings are gone"))
		for _, e := range a.Change.Gone {
			if line := fmt.Sprintf("- %s in %s: %s\n", mark(e.Check), mark(e.Where),
				mark(e.Message)); b.Len()+len(line) < mostMarkdown+2000 {
				b.WriteString(line)
			}
		}
		b.WriteString("\n</details>\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// notShown says how many findings do not fit, of which severities, and where.
func notShown(found []audit.Finding) string {
	t := tallyOf(found)
	parts := t.severities()
	if t.exempted > 0 {
		parts = strings.TrimPrefix(fmt.Sprintf("%s, %s exempted", parts, Number(t.exempted)), ", ")
	}
	in := make(map[string]int)
	for _, f := range found {
		if f.Account != nil {
			in[f.Account.Name]++
		}
	}
	accounts := slices.SortedFunc(maps.Keys(in),
		func(a, b string) int { return cmp.Or(in[b]-in[a], strings.Compare(a, b)) })
	for i, name := range accounts {
		accounts[i] = fmt.Sprintf("%s (%s)", shortened(name, 60), Number(in[name]))
	}
	const shown = 8
	return fmt.Sprintf("%s here: %s, in %s. The same command with --format json has them all.",
		Count(len(found), "more finding does not fit", "more findings do not fit"), parts, count.Some(accounts, shown))
}

// mostOfText bounds a text in Markdown, in columns.
const mostOfText = 400

// summary escapes a text for the head of a folded part, which is HTML and not Markdown.
func summary(text string) string {
	return strings.NewReplacer("@", "&#64;", "://", "&#58;//", "www.",
		"www&#46;").Replace(html.EscapeString(shortened(text, 120)))
}

func findingMarkdown(a Audit, f audit.Finding) string {
	var b strings.Builder
	severity := f.Severity.String()
	if f.Exemption != nil {
		severity = "exempted"
	}
	if a.Change != nil && a.Change.Fails(f) {
		severity += ", " + string(a.Change.Of[f.Fingerprint].Trend)
	}
	fmt.Fprintf(&b, "<details><summary><b>%s</b> %s in %s</summary>\n\n", severity, summary(f.Check),
		summary(f.Where()))
	b.WriteString(mark(shortened(f.Message, mostOfText)) + "\n\n")
	line := func(label, text string) {
		if text != "" {
			fmt.Fprintf(&b, "- %s: %s\n", label, mark(shortened(text, mostOfText)))
		}
	}
	line("place", place(f.Origin()))
	line("holds", holdsIn(f))
	if a.Change != nil {
		line("more now", strings.Join(a.Change.Of[f.Fingerprint].More, "; "))
	}
	for _, r := range f.Counting() {
		line("as well", r.Check+": "+r.Message)
	}
	for _, r := range f.Exempted() {
		line("exempted", r.Check+" until "+lastDay(r.Exemption.Until)+" by "+r.Exemption.By+": "+r.Exemption.Because)
	}
	for i, d := range f.Details {
		if i < 8 {
			line("that is", d)
		}
	}
	switch f.Arrival {
	case audit.Arrives:
		line("arrives at", interfaceList(f.Instances))
	case audit.MayArrive:
		line("arrives", "nobody knows: "+f.WhyNot)
	case audit.Nowhere:
		line("arrives", "nowhere: "+f.WhyNot)
	}
	if f.Example != nil {
		line("for example", exampleText(f))
	}
	if f.Exemption != nil {
		line("exempted", fmt.Sprintf("until %s by %s: %s", lastDay(f.Exemption.Until), f.Exemption.By,
			f.Exemption.Because))
	}
	if f.Ended != nil {
		line("exemption", fmt.Sprintf("by %s ended on %s", f.Ended.By, lastDay(f.Ended.Until)))
	}
	line("fix", a.Say.remedy(f.Fix))
	line("or", f.OrElse)
	line("controls", strings.Join(f.Controls, ", "))
	b.WriteString("\n</details>\n")
	return b.String()
}
