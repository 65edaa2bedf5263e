package render

import (
	"encoding/json"
	"io"
	"net/url"
	"path/filepath"
	"strings"

	"isonomos/core/audit"
	"isonomos/core/estate"
)

// Findings as SARIF 2.1.0 (OASIS): the parts of the format that are used.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool       sarifTool         `json:"tool"`
		ColumnKind string            `json:"columnKind"`
		Results    []json.RawMessage `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"semanticVersion,omitempty"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID         string         `json:"id"`
		Short      sarifText      `json:"shortDescription"`
		Full       *sarifText     `json:"fullDescription,omitempty"`
		Help       *sarifText     `json:"help,omitempty"`
		Default    sarifDefault   `json:"defaultConfiguration"`
		Properties sarifRuleExtra `json:"properties"`
	}
	sarifRuleExtra struct {
		Tags     []string `json:"tags,omitempty"`
		Controls []string `json:"controls,omitempty"`
	}
	sarifDefault struct {
		Level string `json:"level"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID       string             `json:"ruleId"`
		RuleIndex    int                `json:"ruleIndex"`
		Level        string             `json:"level"`
		Message      sarifText          `json:"message"`
		Locations    []sarifLocation    `json:"locations"`
		Fingerprints map[string]string  `json:"partialFingerprints"`
		Baseline     string             `json:"baselineState,omitempty"`
		Suppressions []sarifSuppression `json:"suppressions,omitempty"`
		Fixes        []sarifFix         `json:"fixes,omitempty"`
		Properties   sarifResultExtra   `json:"properties"`
	}
	sarifResultExtra struct {
		Severity string   `json:"severity,omitempty"`
		Also     []string `json:"also,omitempty"`
		Exempted []string `json:"alsoExempted,omitempty"`
		Controls []string `json:"controls,omitempty"`
		Fix      string   `json:"fix,omitempty"`
		State    string   `json:"state,omitempty"`
	}
	sarifLocation struct {
		Physical *sarifPhysical `json:"physicalLocation,omitempty"`
		Logical  []sarifLogical `json:"logicalLocations,omitempty"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   sarifRegion   `json:"region"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		StartLine   int  `json:"startLine,omitempty"`
		StartColumn int  `json:"startColumn,omitempty"`
		ByteOffset  *int `json:"byteOffset,omitempty"`
		ByteLength  *int `json:"byteLength,omitempty"`
	}
	sarifLogical struct {
		Name          string `json:"name"`
		QualifiedName string `json:"fullyQualifiedName"`
		Kind          string `json:"kind"`
	}
	sarifSuppression struct {
		Kind          string `json:"kind"`
		Status        string `json:"status"`
		Justification string `json:"justification"`
	}
	sarifFix struct {
		Description sarifText             `json:"description"`
		Changes     []sarifArtifactChange `json:"artifactChanges"`
	}
	sarifArtifactChange struct {
		Artifact     sarifArtifact      `json:"artifactLocation"`
		Replacements []sarifReplacement `json:"replacements"`
	}
	sarifReplacement struct {
		Deleted  sarifRegion `json:"deletedRegion"`
		Inserted *sarifText  `json:"insertedContent,omitempty"`
	}
)

const sarifSchema = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"

// FindingsSARIF writes findings as SARIF 2.1.0, each with file and line; fingerprints, exemptions as
// suppressions, fixes where there are some.
func FindingsSARIF(w io.Writer, a Audit) error {
	driver := sarifDriver{Name: "Isonomos", Version: a.Version, Rules: []sarifRule{}}
	at := make(map[string]int)
	for _, c := range audit.Checks {
		at[c.Name] = len(driver.Rules)
		driver.Rules = append(driver.Rules, sarifRule{
			ID: c.Name, Short: sarifText{c.About}, Full: &sarifText{strings.ReplaceAll(c.Doc, "\n",
				" ")}, Help: &sarifText{"Example: " + c.Example + "\nFix: " + CheckFix(c.Fix)},
			Default:    sarifDefault{sarifLevel(c.Start)},
			Properties: sarifRuleExtra{Tags: []string{"security"}, Controls: c.Controls},
		})
	}
	run := sarifRun{ColumnKind: "unicodeCodePoints", Results: []json.RawMessage{}}
	for _, f := range a.Result.Findings {
		if _, ok := at[f.Check]; !ok {
			at[f.Check] = len(driver.Rules)
			driver.Rules = append(driver.Rules,
				sarifRule{ID: Clean(f.Check),
					Short: sarifText{"the law " + Clean(strings.TrimPrefix(f.Check, audit.LawPrefix)) +
						" is not kept"}, Default: sarifDefault{sarifLevel(f.Start)},
					Properties: sarifRuleExtra{Tags: []string{"security"}, Controls: f.Controls}})
		}
		text, err := json.Marshal(sarifOf(a, f, at[f.Check]))
		if err != nil {
			return err
		}
		run.Results = append(run.Results, text)
	}
	run.Tool.Driver = driver
	return writeJSON(w, sarifLog{sarifSchema, "2.1.0", []sarifRun{run}})
}

func sarifLevel(s audit.Severity) string {
	switch {
	case s >= audit.High:
		return "error"
	case s == audit.Medium:
		return "warning"
	}
	return "note"
}

func sarifOf(a Audit, f audit.Finding, index int) sarifResult {
	message := Clean(f.Message)
	for _, r := range f.Counting() {
		message += "; " + Clean(r.Check+": "+r.Message)
	}
	x := sarifResult{
		RuleID: Clean(f.Check), RuleIndex: index, Level: sarifLevel(
			f.Severity), Message: sarifText{message}, Locations: []sarifLocation{sarifPlace(f, a.Source)},
		Fingerprints: map[string]string{"isonomos/v1": f.Fingerprint},
		Properties: sarifResultExtra{Severity: f.Severity.String(), Controls: f.Controls,
			Fix: Clean(a.Say.remedy(f.Fix)), State: f.State},
	}
	for _, r := range f.Counting() {
		x.Properties.Also = append(x.Properties.Also, Clean(r.Check))
	}
	for _, r := range f.Exempted() {
		x.Properties.Exempted = append(x.Properties.Exempted, Clean(r.Check))
	}
	if a.Change != nil {
		x.Baseline = map[audit.Trend]string{audit.New: "new", audit.Worse: "updated", audit.Better: "updated",
			audit.Same: "unchanged"}[a.Change.Of[f.Fingerprint].Trend]
	}
	if e := f.Exemption; e != nil {
		x.Suppressions = []sarifSuppression{{"external", "accepted",
			Clean(e.Because + " (until " + lastDay(e.Until) + ", by " + e.By + ")")}}
	}
	if fix, ok := a.Fixes[f.Fingerprint]; ok {
		r := sarifReplacement{Deleted: sarifRegion{ByteOffset: &fix.Offset, ByteLength: &fix.Length}}
		if fix.Inserted != "" {
			r.Inserted = &sarifText{fix.Inserted}
		}
		x.Fixes = []sarifFix{{sarifText{Clean(fix.About)},
			[]sarifArtifactChange{{sarifArtifact{fileURI(fix.File)}, []sarifReplacement{r}}}}}
	}
	return x
}

// sarifPlace is the place of a finding: file and line of its definition, or of the survey if it has
// none, and the name of what it is about.
func sarifPlace(f audit.Finding, source estate.Origin) sarifLocation {
	kind, name := "group", f.Where()
	switch {
	case f.Group == nil && f.List != nil:
		kind = "list"
	case f.Group == nil && f.Subnet != nil:
		kind = "subnet"
	case f.Group == nil:
		kind = "account"
	}
	name = Clean(name)
	l := sarifLocation{Logical: []sarifLogical{{name[strings.LastIndexByte(name, '/')+1:], name, kind}}}
	l.Physical = physical(f.Origin())
	if l.Physical == nil && f.Account != nil { // it was read from the clouds themselves
		l.Physical = physical(f.Account.Origin)
	}
	if l.Physical == nil {
		l.Physical = physical(source)
	}
	return l
}

// fileURI is a file's name as a relative reference (RFC 3986), as it was given.
func fileURI(name string) string {
	return (&url.URL{Path: filepath.ToSlash(name)}).EscapedPath()
}
