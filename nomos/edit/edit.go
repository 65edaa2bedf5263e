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

// AddRule adds a rule to a group, on a line of its own behind its last statement,
// indented as that is. The text is one statement, without a line end.
func AddRule(f *syntax.File, g *syntax.Group, text string) Change {
	src := f.Source
	if len(g.Body) == 0 {
		indent := indentOf(src, g.Start)
		between := src.Text[g.Braces.Start+1 : g.Braces.End-1]
		if strings.TrimSpace(between) == "" { // { } or two lines with nothing between
			return Change{source.Span{Start: g.Braces.Start + 1, End: g.Braces.End - 1},
				"\n" + indent + "  " + text + "\n" + indent}
		}
		at := src.LineSpan(g.Braces.End - 1).Start // before the closing brace, behind the comments
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
	if g.Braces.End-1 < at { // the block ends on the same line
		return Change{source.Span{Start: last.End, End: last.End}, "\n" + indent + "  " + text}
	}
	return Change{source.Span{Start: at, End: at}, lineEnd(src, last.Start) + indent + text}
}

// AddCover adds a cover statement to a group, before its first statement, indented
// as that is. The group must have one.
func AddCover(f *syntax.File, g *syntax.Group, text string) Change {
	at := g.Body[0].Extent().Start
	return Change{source.Span{Start: at, End: at}, text + lineEnd(f.Source, at) + indentOf(f.Source, at)}
}

// HoldsComments reports whether there are comments in a declaration, or behind it on its last line.
func HoldsComments(f *syntax.File, d syntax.Decl) bool {
	return commentBetween(f, d.Extent().Start, f.Source.LineSpan(d.Extent().End).End)
}

// RemoveDeclaration takes a declaration out with its lines, and the blank line
// behind it. Comments above it stay.
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

// RemoveRule takes a rule out, with its line if nothing else stands on it; comments stay.
func RemoveRule(f *syntax.File, r *syntax.Rule) Change { return removal(f, r) }

// AddDeclaration adds a declaration, such as a list or group, behind the last one
// of its kind, or at the end of the file. The text is whole, without a line end.
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

// lineEnd is how the line of an offset ends, or the one before the end of the file.
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

// A RuleText is what a rule is to say instead of its services and peers.
type RuleText struct {
	Services string
	Peers    string
	Lend     string // where not empty the access is lent instead, for at most so long: "2h"
}

// words are the rule's verb, the word before its peers, and its peers with what
// follows them.
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

// ReplaceRule makes one or several rules of a rule: each like the old one but
// for its services and peers, on a line of its own. No texts remove the rule.
// Comments stay, also those within the rule.
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
