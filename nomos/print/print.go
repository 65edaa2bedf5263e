// Package print writes a definition file in the canonical layout: two spaces of indentation, one
// blank line between declarations, aligned columns in similar neighbouring statements, comments
// where they were.
//
// Statements are printed from their tokens, so the result has the same tokens and parses to an
// equal tree.
package print

import (
	"sort"
	"strings"
	"unicode/utf8"

	"isonomos/nomos/scan"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
	"isonomos/nomos/token"
)

// maxWidth is the longest line, in characters, for which columns are aligned. A longer line is
// broken in front of because, until and by.
const maxWidth = 110

// File is the canonical text of a file without mistakes. Printing it again does not change it. Time
// is linear in the size of the file.
func File(f *syntax.File) string {
	p := &printer{file: f.Source, tokens: scan.File(f.Source).Tokens, comments: f.Comments}
	p.out.Grow(len(f.Source.Text) + len(f.Source.Text)/8)
	p.declarations(f)
	return p.out.String()
}

type printer struct {
	file     *source.File
	tokens   []token.Token
	comments []source.Span
	out      strings.Builder
	indent   int
	lines    []line // the run of lines that is being collected
}

// A line is a statement to be printed.
type line struct {
	indent   int
	leading  []string // comments on lines of their own above it
	blank    bool     // there is a blank line above it
	shape    string   // lines of the same shape are similar: their columns are aligned
	cells    []string // columns; the first one is the keyword
	trailing string   // the comment behind it on the same line
	breaks   bool     // alignment does not continue across it
}

// declarations prints all declarations, and the comments between and behind them.
func (p *printer) declarations(f *syntax.File) {
	before := int32(0)
	var last syntax.Decl
	for _, d := range f.Decls {
		span := d.Extent()
		leading := p.commentsIn(before, span.Start, true)
		if !isBlock(d) {
			leading = append(leading, p.commentsIn(span.Start, span.End, false)...)
		}
		if last != nil {
			// One-line declarations of one kind may stand together.
			together := !isBlock(last) && !isBlock(d) && kindOf(last) == kindOf(d) &&
				!p.blankBetween(before, p.firstOf(before, span.Start)) && len(leading) == 0
			if !together {
				p.flush()
				p.out.WriteString("\n")
			}
		}
		p.declaration(d, leading)
		before, last = p.endOfLine(span.End), d
	}
	p.flush()
	if rest := p.commentsIn(before, int32(len(p.file.Text)), true); len(rest) > 0 {
		if last != nil {
			p.out.WriteString("\n")
		}
		p.out.WriteString(strings.Join(rest, "\n") + "\n")
	}
}

// firstOf is where the text between two places begins: at its first comment, or at its end.
func (p *printer) firstOf(from, to int32) int32 {
	for _, c := range p.between(from, to) {
		return c.Start
	}
	return to
}

func isBlock(d syntax.Decl) bool {
	switch d := d.(type) {
	case *syntax.Place, *syntax.Pattern, *syntax.Law:
		return true
	case *syntax.List:
		return !d.Published.Given()
	case *syntax.Group:
		return !d.Existing.Given()
	}
	return false
}

func kindOf(d syntax.Decl) string {
	switch d.(type) {
	case *syntax.Service:
		return "service"
	case *syntax.Expect:
		return "expect"
	case *syntax.Connect:
		return "connect"
	case *syntax.Baseline:
		return "use"
	case *syntax.List:
		return "list"
	case *syntax.Group:
		return "group"
	}
	return "other"
}

func (p *printer) declaration(d syntax.Decl, leading []string) {
	switch d := d.(type) {
	case *syntax.Place:
		var items []item
		for _, s := range d.Settings {
			cells := []string{s.Key.Text, p.text(source.Span{Start: s.Key.End, End: s.End})}
			if s.Key.Text == "subnet" && len(s.Ranges) > 0 {
				cells = []string{s.Key.Text, p.text(s.Value.Span),
					p.text(s.Ranges[0].Span.Join(s.Ranges[len(s.Ranges)-1].Span))}
			}
			items = append(items, item{span: s.Span, shape: s.Key.Text, cells: cells})
		}
		p.block(d.Span, leading, items)
	case *syntax.List:
		if d.Published.Given() {
			p.single(d.Span, leading, "list", p.text(d.Span))
			return
		}
		p.block(d.Span, leading, p.listItems(d.Lines))
	case *syntax.Service:
		cells := []string{"service " + d.Name.Text,
			"= " + p.text(d.Services[0].Span.Join(d.Services[len(d.Services)-1].Span))}
		if d.Class.Given() {
			cells = append(cells, "class "+d.Class.Text)
		}
		p.single(d.Span, leading, "service", cells...)
	case *syntax.Pattern:
		p.block(d.Span, leading, p.ruleItems(d.Rules))
	case *syntax.Group:
		if d.Existing.Given() {
			p.single(d.Span, leading, "group", p.text(d.Span))
			return
		}
		p.block(d.Span, leading, p.groupItems(d.Body))
	case *syntax.Law:
		var items []item
		for _, l := range d.Lines {
			items = append(items, item{span: l.Span, shape: l.Key.Text,
				cells: []string{l.Key.Text, p.text(source.Span{Start: l.Key.End, End: l.End})}})
		}
		p.block(d.Span, leading, items)
	default:
		p.single(d.Extent(), leading, "", p.text(d.Extent()))
	}
}

// single prints a declaration without a block.
func (p *printer) single(span source.Span, leading []string, shape string, cells ...string) {
	p.add(line{leading: leading, shape: shape, cells: cells, trailing: p.trailing(span.End)})
}

// An item is a statement of a block.
type item struct {
	span     source.Span
	shape    string
	cells    []string
	block    bool   // it has a block itself
	inner    []item // the statements of its block
	front    bool   // it stands in front of all others
	leading  []string
	trailing string
	blank    bool
}

func (p *printer) listItems(lines []syntax.ListLine) []item {
	var items []item
	for _, l := range lines {
		x := item{span: l.Span, shape: "entry"}
		switch {
		case l.Where != nil:
			x.block, x.inner = true, p.listItems(l.Lines)
		case l.Range.End > 0, l.List.Given():
			end := l.Range.End
			if l.List.Given() {
				end = l.List.End
			}
			x.cells = []string{p.text(source.Span{Start: l.Start, End: end})}
			if l.Note.Given() {
				x.cells = append(x.cells, p.text(l.Note.Span))
			}
		case l.Published.Given():
			x.shape = "published"
			x.cells = []string{"published " + p.text(l.Published.Span), "on " + l.On.Text}
		default:
			x.shape = "room"
			x.cells = []string{p.text(l.Span)}
		}
		items = append(items, x)
	}
	return items
}

// groupItems are the statements of a group: cover, then labels and the like, then rules in their order.
func (p *printer) groupItems(body []syntax.Stmt) []item {
	items := make([]item, 0, len(body))
	for _, front := range []int{0, 1, 2} {
		for _, s := range body {
			class := 2
			switch s.(type) {
			case *syntax.Cover:
				class = 0
			case *syntax.LabelStmt, *syntax.Named, *syntax.Follow:
				class = 1
			}
			if class == front {
				x := p.stmtItem(s)
				x.front = class < 2
				items = append(items, x)
			}
		}
	}
	return items
}

func (p *printer) ruleItems(rules []syntax.Stmt) []item {
	var items []item
	for _, s := range rules {
		items = append(items, p.stmtItem(s))
	}
	return items
}

func (p *printer) stmtItem(s syntax.Stmt) item {
	span := s.Extent()
	switch s := s.(type) {
	case *syntax.Where:
		return item{span: span, block: true, inner: p.ruleItems(s.Rules)}
	case *syntax.Rule:
		last := s.Services[len(s.Services)-1].End
		cells := []string{s.Verb.Text, p.text(source.Span{Start: s.Services[0].Start, End: last}),
			p.text(source.Span{Start: s.Prep.Start, End: s.Peers.End})}
		if rest := p.text(source.Span{Start: s.Peers.End, End: s.End}); rest != "" {
			cells = append(cells, rest)
		}
		return item{span: span, shape: s.Verb.Text + " " + s.Prep.Text, cells: cells}
	}
	text := p.text(span)
	word, rest, _ := strings.Cut(text, " ")
	return item{span: span, shape: word, cells: []string{word, rest}}
}

// block prints a statement with a block: what precedes the brace, the items, the closing brace.
func (p *printer) block(span source.Span, leading []string, items []item) {
	open := p.openBrace(span, items)
	head := p.text(source.Span{Start: span.Start, End: open})
	leading = append(leading, p.commentsIn(span.Start, open, false)...)
	after := p.trailing(open + 1)
	if after != "" && len(items) == 0 && p.file.Line(open) == p.file.Line(span.End-1) {
		after = "" // the comment is behind the closing brace
	}
	p.place(open, span.End-1, items)
	dangling := p.dangling(open, span.End-1, items)
	if len(items) == 0 && len(dangling) == 0 && after == "" {
		p.add(line{leading: leading, cells: []string{head + " { }"}, trailing: p.trailing(span.End), breaks: true})
		return
	}
	p.add(line{leading: leading, cells: []string{head + " {"}, trailing: after, breaks: true})
	p.flush()
	p.indent++
	for _, x := range items {
		if x.block {
			p.inner(x)
			continue
		}
		p.add(line{leading: x.leading, blank: x.blank, shape: x.shape, cells: x.cells, trailing: x.trailing})
	}
	p.flush()
	for _, c := range dangling {
		p.out.WriteString(strings.Repeat("  ", p.indent) + c + "\n")
	}
	p.indent--
	p.add(line{cells: []string{"}"}, trailing: p.trailing(span.End), breaks: true})
	p.flush()
}

// inner prints a block within a block.
func (p *printer) inner(x item) {
	p.flush()
	if x.blank {
		p.out.WriteString("\n")
	}
	p.block(x.span, x.leading, x.inner)
}

// openBrace is the place of the brace that opens a statement's block.
func (p *printer) openBrace(span source.Span, items []item) int32 {
	for i := p.tokenAt(span.Start); i < len(p.tokens); i++ {
		if p.tokens[i].Kind == token.LeftBrace {
			return p.tokens[i].Start
		}
	}
	return span.End
}

// place assigns to each item of a block its comments and blank lines, by its position in the file.
func (p *printer) place(open, close int32, items []item) {
	order := make([]*item, len(items))
	for i := range items {
		order[i] = &items[i]
	}
	sort.SliceStable(order, func(i, j int) bool { return order[i].span.Start < order[j].span.Start })
	before := p.endOfLine(open + 1)
	if len(order) > 0 && order[0].span.Start < before {
		before = open + 1 // the first statement is on the line of the brace
	}
	for i, x := range order {
		x.leading = p.commentsIn(before, x.span.Start, true)
		first := p.firstOf(before, x.span.Start)
		x.blank = i > 0 && p.blankBetween(before, first)
		if !x.block {
			x.leading = append(x.leading, p.commentsIn(x.span.Start, x.span.End, false)...)
			if next := p.next(order, i, close); p.endOfLine(x.span.End) <= next || next == close {
				x.trailing = p.trailing(x.span.End)
			}
		}
		before = max(x.span.End, min(p.endOfLine(x.span.End), p.next(order, i, close)))
	}
	// Items that are moved to the front have no blank lines.
	for i := range items {
		if items[i].front || i == 0 {
			items[i].blank = false
		}
	}
	for i := 1; i < len(items); i++ {
		if items[i-1].front && !items[i].front && order[0] != &items[0] {
			items[i].blank = false
		}
	}
}

func (p *printer) next(order []*item, i int, close int32) int32 {
	if i+1 < len(order) {
		return order[i+1].span.Start
	}
	return close
}

// dangling are the comments behind the last statement of a block.
func (p *printer) dangling(open, close int32, items []item) []string {
	from := p.endOfLine(open + 1)
	if len(items) == 0 && p.file.Line(open) == p.file.Line(close) {
		return nil
	}
	for _, x := range items {
		from = max(from, p.endOfLine(x.span.End))
	}
	return p.commentsIn(from, close, true)
}

// between are the comments that begin in a piece of the text.
func (p *printer) between(from, to int32) []source.Span {
	i := sort.Search(len(p.comments), func(i int) bool { return p.comments[i].Start >= from })
	j := sort.Search(len(p.comments), func(i int) bool { return p.comments[i].Start >= to })
	if j < i {
		return nil
	}
	return p.comments[i:j]
}

// commentsIn are the comments in a piece of the file. Blank lines between them are kept as empty
// texts.
func (p *printer) commentsIn(from, to int32, blanks bool) []string {
	var texts []string
	last := int32(-1)
	for _, c := range p.between(from, to) {
		if blanks && last >= 0 && p.blankBetween(last, c.Start) {
			texts = append(texts, "")
		}
		texts = append(texts, strings.TrimRight(p.file.Of(c), " \t"))
		last = c.End
	}
	if blanks && last >= 0 && p.blankBetween(last, to) && to < int32(len(p.file.Text)) {
		texts = append(texts, "")
	}
	return texts
}

// blankBetween reports whether an empty line lies between two places.
func (p *printer) blankBetween(from, to int32) bool {
	if to <= from {
		return false
	}
	empty := 0
	for _, c := range []byte(p.file.Text[from:to]) {
		switch c {
		case '\n':
			if empty++; empty == 2 {
				return true
			}
		case ' ', '\t', '\r':
		default:
			empty = 0
		}
	}
	// A piece that begins at the start of a line has the line end behind it.
	return empty == 1 && from > 0 && p.file.Text[from-1] == '\n'
}

// trailing is the comment behind a place on the same line, if only blanks are in between.
func (p *printer) trailing(end int32) string {
	for _, c := range p.between(end, p.endOfLine(end)) {
		if strings.TrimSpace(p.file.Text[end:c.Start]) == "" {
			return strings.TrimRight(p.file.Of(c), " \t")
		}
	}
	return ""
}

// endOfLine is the place behind the line end after a place.
func (p *printer) endOfLine(at int32) int32 {
	if i := strings.IndexByte(p.file.Text[at:], '\n'); i >= 0 {
		return at + int32(i) + 1
	}
	return int32(len(p.file.Text))
}

func (p *printer) tokenAt(start int32) int {
	return sort.Search(len(p.tokens), func(i int) bool { return p.tokens[i].Start >= start })
}

// text prints the tokens of a piece of the file: with single blanks between them, but none before a
// comma or closing bracket or after an opening one.
func (p *printer) text(span source.Span) string {
	var b strings.Builder
	var last token.Token
	for i := p.tokenAt(span.Start); i < len(p.tokens) && p.tokens[i].End <= span.End &&
		p.tokens[i].Kind != token.EOF; i++ {
		t := p.tokens[i]
		if t.Kind == token.Newline {
			continue
		}
		if b.Len() > 0 && p.apart(last, t) {
			b.WriteByte(' ')
		}
		b.WriteString(p.file.Of(t.Span))
		last = t
	}
	return b.String()
}

// apart reports whether there is a blank between two tokens.
func (p *printer) apart(a, b token.Token) bool {
	switch {
	case b.Kind == token.Comma, b.Kind == token.RightParen, b.Kind == token.Colon, a.Kind == token.LeftParen:
		return false
	case b.Kind == token.LeftParen:
		// the arguments of a pattern follow its name directly
		return a.Kind != token.Name || token.Reserved(p.file.Of(a.Span))
	}
	return true
}

// add adds a line to the run. Lines are written run by run, so that columns can be aligned.
func (p *printer) add(l line) {
	l.indent = p.indent
	if 2*l.indent+utf8.RuneCountInString(strings.Join(l.cells, " ")) > maxWidth {
		l.shape = "" // it will be broken, so it is aligned with nothing
	}
	if len(p.lines) > 0 && (l.blank || len(l.leading) > 0 || l.breaks || p.lines[len(p.lines)-1].breaks) {
		p.flush()
	}
	p.lines = append(p.lines, l)
}

// flush writes the collected run.
func (p *printer) flush() {
	run := p.lines
	p.lines = nil
	if len(run) == 0 {
		return
	}
	keyword := 0
	for _, l := range run {
		if len(l.cells) > 1 {
			keyword = max(keyword, utf8.RuneCountInString(l.cells[0]))
		}
	}
	texts := make([]string, len(run))
	for from := 0; from < len(run); {
		to := from + 1
		for to < len(run) && run[to].shape == run[from].shape && run[from].shape != "" {
			to++
		}
		aligned(run[from:to], keyword, texts[from:to])
		from = to
	}
	for i, l := range run {
		p.writeLine(l, texts[i])
	}
}

// aligned formats similar lines: keywords as wide as those of the whole run, further columns
// aligned unless lines become too long.
func aligned(like []line, keyword int, texts []string) {
	columns := 0
	for _, l := range like {
		columns = max(columns, len(l.cells))
	}
	for i, l := range like {
		texts[i] = l.cells[0]
	}
	for c := 1; c < columns; c++ {
		width, longest := 0, 0
		for i, l := range like {
			if c < len(l.cells) {
				width = max(width, utf8.RuneCountInString(texts[i]))
				longest = max(longest, utf8.RuneCountInString(l.cells[c]))
			}
		}
		if c == 1 {
			width = max(width, keyword)
		}
		align := c == 1 || 2*like[0].indent+width+1+longest <= maxWidth
		for i, l := range like {
			if c >= len(l.cells) || l.cells[c] == "" {
				continue
			}
			if align {
				texts[i] += strings.Repeat(" ", width-utf8.RuneCountInString(texts[i]))
			}
			texts[i] += " " + l.cells[c]
		}
	}
}

func (p *printer) writeLine(l line, text string) {
	indent := strings.Repeat("  ", l.indent)
	if l.blank {
		p.out.WriteString("\n")
	}
	for _, c := range l.leading {
		p.out.WriteString(strings.TrimRight(indent+c, " ") + "\n")
	}
	for i, part := range broken(text, maxWidth-len(indent)) {
		if i > 0 {
			p.out.WriteString("\n" + indent + "  ")
		} else {
			p.out.WriteString(indent)
		}
		p.out.WriteString(part)
	}
	if l.trailing != "" {
		p.out.WriteString("  " + l.trailing)
	}
	p.out.WriteString("\n")
}

// broken breaks a line that is too long in front of its clauses, without the blanks of aligned
// columns.
func broken(text string, width int) []string {
	if utf8.RuneCountInString(text) <= width {
		return []string{text}
	}
	var parts []string
	at, quoted := 0, false
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\' && quoted:
			i++
		case text[i] == '"':
			quoted = !quoted
		case quoted || text[i] != ' ':
		case strings.HasPrefix(text[i+1:], "because "), strings.HasPrefix(text[i+1:], "until "),
			strings.HasPrefix(text[i+1:], "by "):
			parts = append(parts, strings.TrimRight(text[at:i], " "))
			at = i + 1
		}
	}
	return append(parts, text[at:])
}
