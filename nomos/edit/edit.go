// Package edit changes definition files through their syntax trees. Apart from the change it leaves
// every byte as it is.
package edit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

// A Change replaces a piece of a file by a text.
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

// FindRule finds the rule that begins at an offset in a file, or returns nil.
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

// AddRule adds a rule to a group, on a line of its own behind the last statement and with the same
// indentation. The text is one statement without a line end.
func AddRule(f *syntax.File, g *syntax.Group, text string) Change {
	src := f.Source
	if len(g.Body) == 0 {
		indent := indentOf(src, g.Start)
		between := src.Text[g.Braces.Start+1 : g.Braces.End-1]
		if strings.TrimSpace(between) == "" { // an empty block: { } on one line or on two
			return Change{source.Span{Start: g.Braces.Start + 1, End: g.Braces.End - 1},
				"\n" + indent + "  " + text + "\n" + indent}
		}
		at := src.LineSpan(g.Braces.End - 1).Start // before the closing brace, behind comments
		return Change{source.Span{Start: at, End: at}, indent + "  " + text + "\n"}
	}
	last := g.Body[0].Extent()
	for _, s := range g.Body {
		if e := s.Extent(); e.Start > last.Start {
			last = e
		}
	}
	indent := indentOf(src, last.Start)
	at := src.LineSpan(last.End).End
	if g.Braces.End-1 < at { // the closing brace is on the same line
		return Change{source.Span{Start: last.End, End: last.End}, "\n" + indent + "  " + text}
	}
	return Change{source.Span{Start: at, End: at}, lineEnd(src, last.Start) + indent + text}
}

// AddCover adds a cover statement to a group, in front of its first statement and with the same
// indentation. The group must have a statement.
func AddCover(f *syntax.File, g *syntax.Group, text string) Change {
	at := g.Body[0].Extent().Start
	return Change{source.Span{Start: at, End: at}, text + lineEnd(f.Source, at) + indentOf(f.Source, at)}
}

// HoldsComments reports whether there are comments in a declaration, or behind it on its last line.
func HoldsComments(f *syntax.File, d syntax.Decl) bool {
	return commentBetween(f, d.Extent().Start, f.Source.LineSpan(d.Extent().End).End)
}

// RemoveDeclaration removes the lines of a declaration, and the blank line behind it. Comments
// above it stay.
func RemoveDeclaration(f *syntax.File, d syntax.Decl) Change {
	src := f.Source
	span := source.Span{Start: src.LineSpan(d.Extent().Start).Start, End: src.LineSpan(d.Extent().End).End}
	for range 2 {
		rest := src.Text[span.End:]
		line, _, found := strings.Cut(rest, "\n")
		if !found || strings.TrimSpace(line) != "" {
			break
		}
		span.End += int32(len(line) + 1)
	}
	return Change{span, ""}
}

// RemoveRule removes a rule, with its line if nothing else is on it. Comments stay.
func RemoveRule(f *syntax.File, r *syntax.Rule) Change { return removal(f, r) }

// AddDeclaration adds a declaration, such as a list or group, behind the last one of its kind, or
// at the end of the file. The text has no line end.
func AddDeclaration(f *syntax.File, text string) Change {
	src := f.Source
	keyword, _, _ := strings.Cut(text, " ")
	at := int32(-1)
	for _, d := range f.Decls {
		if word, _, _ := strings.Cut(src.Of(d.Extent()), " "); word == keyword {
			at = src.LineSpan(d.Extent().End).End
		}
	}
	end := lineEnd(src, 0)
	text = strings.ReplaceAll(text, "\n", end)
	if at >= 0 {
		return Change{source.Span{Start: at, End: at}, end + end + text}
	}
	at = int32(len(src.Text))
	switch {
	case at == 0:
		return Change{source.Span{}, text + end}
	case src.Text[at-1] != '\n':
		return Change{source.Span{Start: at, End: at}, end + end + text + end}
	}
	return Change{source.Span{Start: at, End: at}, end + text + end}
}

// lineEnd is the line end of an offset's line, or of the line before if that is the last one.
func lineEnd(f *source.File, offset int32) string {
	i := int(offset) + strings.IndexByte(f.Text[offset:], '\n')
	if i < int(offset) {
		i = strings.LastIndexByte(f.Text, '\n')
	}
	if i > 0 && f.Text[i-1] == '\r' {
		return "\r\n"
	}
	return "\n"
}

// A RuleText is what to write in place of a rule's services and peers.
type RuleText struct {
	Services string
	Peers    string
	Lend     string // where not empty the access is lent instead, for at most so long: "2h"
}

// words are a rule's verb, the word in front of its peers, and the peers with what follows them.
func (t RuleText) words(r *syntax.Rule) (verb, prep, peers string) {
	if t.Lend == "" {
		return r.Verb.Text, r.Prep.Text, t.Peers
	}
	prep = "to"
	if r.Verb.Text == "reach" {
		prep = "at"
	}
	return "lend", prep, t.Peers + " for at most " + t.Lend
}

// ReplaceRule replaces a rule by one or several, each like the old one except for services and
// peers, on a line of its own. With no texts the rule is removed. Comments stay, even those within
// the rule.
func ReplaceRule(f *syntax.File, r *syntax.Rule, texts []RuleText) []Change {
	if len(texts) == 0 {
		return []Change{removal(f, r)}
	}
	services := r.Services[0].Span.Join(r.Services[len(r.Services)-1].Span)
	verb, prep, peers := texts[0].words(r)
	changes := []Change{{services, texts[0].Services}, {r.Peers.Span, peers}}
	if texts[0].Lend != "" {
		changes = append(changes, Change{r.Verb.Span, verb}, Change{r.Prep.Span, prep})
	}
	if len(texts) == 1 {
		return changes
	}
	src := f.Source
	line := src.LineSpan(r.End)
	indent := indentOf(src, r.Start)
	var more strings.Builder
	for _, t := range texts[1:] {
		verb, prep, peers := t.words(r)
		text := verb + src.Text[r.Verb.End:services.Start] +
			t.Services + src.Text[services.End:r.Prep.Start] +
			prep + src.Text[r.Prep.End:r.Peers.Start] +
			peers + src.Text[r.Peers.End:r.End]
		more.WriteString(lineEnd(src, r.Start) + indent + withoutComments(f, r, text, t))
	}
	at := line.End
	if closes := strings.IndexByte(src.Text[r.End:line.End], '}'); closes >= 0 &&
		!commentBetween(f, r.End, r.End+int32(closes)) {
		at = r.End // the closing brace is on the same line
	}
	return append(changes, Change{source.Span{Start: at, End: at}, more.String()})
}

// withoutComments is the text of a second or later rule. If the old rule contains comments, it is
// written without them, since they stay in the first.
func withoutComments(f *syntax.File, r *syntax.Rule, text string, t RuleText) string {
	if !commentBetween(f, r.Start, r.End) {
		return text
	}
	verb, prep, peers := t.words(r)
	words := []string{verb, t.Services, prep, peers}
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

// removal removes a rule, with its lines if nothing else is on them.
func removal(f *syntax.File, r *syntax.Rule) Change {
	src := f.Source
	start, end := src.LineSpan(r.Start).Start, src.LineSpan(r.End).End
	var comments []string
	for _, c := range f.Comments {
		if c.Start >= r.Start && c.Start < end {
			comments = append(comments, src.Of(c))
			if c.Start > r.End {
				end = c.Start // the comment behind the rule stays
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

// indentOf is the white space at the beginning of an offset's line.
func indentOf(f *source.File, offset int32) string {
	text := f.Text[f.LineSpan(offset).Start:offset]
	return text[:len(text)-len(strings.TrimLeft(text, " \t"))]
}
