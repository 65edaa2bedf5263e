// Package edit changes definition files through their syntax trees, and touches
// nothing that it is not told to, byte for byte.
package edit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

// A Change puts a text in the place of a piece of a file.
type Change struct {
	Span source.Span
	Text string
}

// Apply makes all changes of one file. Changes that overlap are an error.
func Apply(f *source.File, changes []Change) (string, error) {
	sorted := slices.Clone(changes)
	slices.SortStableFunc(sorted, func(a, b Change) int { return cmp.Compare(a.Span.Start, b.Span.Start) })
	var b strings.Builder
	at := int32(0)
	for _, c := range sorted {
		if c.Span.Start < at {
			return "", fmt.Errorf("two changes of %s meet at line %d", f.Name, f.Line(c.Span.Start))
		}
		b.WriteString(f.Text[at:c.Span.Start])
		b.WriteString(c.Text)
		at = c.Span.End
	}
	b.WriteString(f.Text[at:])
	return b.String(), nil
}

// FindRule finds the rule that begins at an offset of a file, or nil.
func FindRule(f *syntax.File, offset int) *syntax.Rule {
	var find func([]syntax.Stmt) *syntax.Rule
	find = func(stmts []syntax.Stmt) *syntax.Rule {
		for _, s := range stmts {
			switch s := s.(type) {
			case *syntax.Rule:
				if int(s.Start) == offset {
					return s
				}
			case *syntax.Where:
				if r := find(s.Rules); r != nil {
					return r
				}
			}
		}
		return nil
	}
	for _, d := range f.Decls {
		var body []syntax.Stmt
		switch d := d.(type) {
		case *syntax.Group:
			body = d.Body
		case *syntax.Pattern:
			body = d.Rules
		}
		if r := find(body); r != nil {
			return r
		}
	}
	return nil
}

// A RuleText is what a rule is to say instead of its services and peers.
type RuleText struct {
	Services string
	Peers    string
}

// ReplaceRule makes one or several rules of a rule: each like the old one but
// for its services and peers, on a line of its own. No texts remove the rule.
// Comments stay, also those within the rule.
func ReplaceRule(f *syntax.File, r *syntax.Rule, texts []RuleText) []Change {
	if len(texts) == 0 {
		return []Change{removal(f, r)}
	}
	services := r.Services[0].Span.Join(r.Services[len(r.Services)-1].Span)
	changes := []Change{{services, texts[0].Services}, {r.Peers.Span, texts[0].Peers}}
	if len(texts) == 1 {
		return changes
	}
	src := f.Source
	line := src.LineSpan(r.End)
	indent := indentOf(src, r.Start)
	var more strings.Builder
	for _, t := range texts[1:] {
		text := src.Text[r.Start:services.Start] + t.Services + src.Text[services.End:r.Peers.Start] + t.Peers + src.Text[r.Peers.End:r.End]
		more.WriteString("\n" + indent + withoutComments(f, r, text, t))
	}
	at := line.End
	if closes := strings.IndexByte(src.Text[r.End:line.End], '}'); closes >= 0 && !commentBetween(f, r.End, r.End+int32(closes)) {
		at = r.End // the block ends on the same line
	}
	return append(changes, Change{source.Span{Start: at, End: at}, more.String()})
}

// withoutComments is the text of a further rule; where the old rule holds
// comments it is written anew without them, since they stay in the first one.
func withoutComments(f *syntax.File, r *syntax.Rule, text string, t RuleText) string {
	if !commentBetween(f, r.Start, r.End) {
		return text
	}
	words := []string{r.Verb.Text, t.Services, r.Prep.Text, t.Peers}
	if r.Because.Given() {
		words = append(words, "because", f.Source.Of(r.Because.Span))
	}
	if r.Until.Given() {
		words = append(words, "until", f.Source.Of(r.Until.Span))
	}
	if r.Stateless.Given() {
		words = append(words, r.Stateless.Text)
	}
	return strings.Join(words, " ")
}

func commentBetween(f *syntax.File, from, to int32) bool {
	return slices.ContainsFunc(f.Comments, func(c source.Span) bool { return c.Start >= from && c.Start < to })
}

// removal takes a rule out: with its whole line or lines if nothing else stands on them.
func removal(f *syntax.File, r *syntax.Rule) Change {
	src := f.Source
	start, end := src.LineSpan(r.Start).Start, src.LineSpan(r.End).End
	var comments []string
	for _, c := range f.Comments {
		if c.Start >= r.Start && c.Start < end {
			comments = append(comments, src.Of(c))
			if c.Start > r.End {
				end = c.Start // what follows the rule on its line
			}
		}
	}
	alone := strings.TrimSpace(src.Text[start:r.Start]) == "" && strings.TrimSpace(src.Text[r.End:end]) == ""
	if !alone {
		return Change{r.Span, ""}
	}
	end = src.LineSpan(r.End).End
	if len(comments) > 0 {
		indent := indentOf(src, r.Start)
		return Change{source.Span{Start: start, End: end}, indent + strings.Join(comments, "\n"+indent)}
	}
	if int(end) < len(src.Text) {
		end += int32(strings.IndexByte(src.Text[end:], '\n') + 1)
	}
	return Change{source.Span{Start: start, End: end}, ""}
}

// indentOf is the white space before the first word of an offset's line.
func indentOf(f *source.File, offset int32) string {
	text := f.Text[f.LineSpan(offset).Start:offset]
	return text[:len(text)-len(strings.TrimLeft(text, " \t"))]
}
