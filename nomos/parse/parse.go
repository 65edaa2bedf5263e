// Package parse builds the syntax tree of a definition file.
package parse

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"isonomos/core/near"
	"isonomos/nomos/scan"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
	"isonomos/nomos/token"
)

// File parses a file. The tree holds what could be parsed; the messages, in the order of the text,
// say what could not. Time and memory are linear in the size of the file.
func File(f *source.File) (*syntax.File, []source.Message) {
	scanned := scan.File(f)
	p := &parser{file: f, tokens: scanned.Tokens, messages: scanned.Messages, scanned: len(scanned.Messages)}
	tree := &syntax.File{Source: f, Comments: scanned.Comments}
	for p.skipNewlines(); !p.at(token.EOF); p.skipNewlines() {
		start := p.i
		p.broken = false
		d := p.topLevel()
		if d != nil {
			tree.Decls = append(tree.Decls, d)
		}
		switch name := p.tokens[min(start+1, len(p.tokens)-1)]; {
		case !p.broken:
		case d == nil && name.Kind == token.Name:
			tree.Missing = append(tree.Missing, f.Of(name.Span))
		case d != nil:
			if tree.Broken == nil {
				tree.Broken = make(map[syntax.Decl]bool)
			}
			tree.Broken[d] = true
		}
	}
	return tree, source.Sort(p.messages)
}

// Condition parses a condition on labels by itself.
func Condition(f *source.File) (*syntax.Condition, []source.Message) {
	scanned := scan.File(f)
	p := &parser{file: f, tokens: scanned.Tokens, messages: scanned.Messages}
	var c *syntax.Condition
	p.statement(func() {
		c = p.condition()
		if p.skipNewlines(); !p.at(token.EOF) {
			p.expected("the end of the condition", "")
		}
	})
	return c, p.messages
}

// Limits, so that hostile input can't take more than its share of time and memory.
const (
	maxMessages = 50
	maxNesting  = 64
)

type parser struct {
	file     *source.File
	tokens   []token.Token
	i        int // index of the current token
	nesting  int
	broken   bool // a statement of this declaration was given up
	messages []source.Message
	scanned  int // number of the scanner's messages; they come first

	// Frequent nodes are allocated many at a time.
	rules slab[syntax.Rule]
	specs slab[syntax.Spec]
	peer1 slab[syntax.Peer]
}

// A slab allocates single values, many at a time.
type slab[T any] struct{ free []T }

func (s *slab[T]) one() []T {
	const piece = 512
	if len(s.free) == 0 {
		s.free = make([]T, piece)
	}
	x := s.free[:1:1]
	s.free = s.free[1:]
	return x
}

// errStatement ends the parsing of a statement about which there is a message already.
var errStatement = errors.New("statement given up")

// statement calls a parsing function. If that gives up, the rest of the statement is skipped.
func (p *parser) statement(parse func()) (ok bool) {
	start, nesting := p.i, p.nesting
	defer func() {
		if r := recover(); r != nil {
			if r != errStatement {
				panic(r)
			}
			p.nesting, p.broken = nesting, true
			p.skipStatement(start)
		}
	}()
	parse()
	return true
}

// skipStatement continues behind the statement that begins at token start: behind its line end or
// block, or in front of the brace that closes the surrounding block.
func (p *parser) skipStatement(start int) {
	depth, failed := 0, p.i
	for i := start; i < p.i; i++ {
		switch p.tokens[i].Kind {
		case token.LeftBrace:
			depth++
		case token.RightBrace:
			depth--
		}
	}
	for ; ; p.i++ {
		switch p.tokens[p.i].Kind {
		case token.EOF:
			return
		case token.LeftBrace:
			depth++
		case token.RightBrace:
			if depth <= 0 {
				return
			}
			if depth--; depth == 0 {
				p.i++
				p.silence(p.file.LineSpan(p.tokens[failed].Start).End, p.tokens[p.i-1].End)
				return
			}
		case token.Newline:
			if depth <= 0 {
				return
			}
		default:
			if p.i > start && p.declarationHere() {
				return
			}
		}
	}
}

// silence drops the scanner's messages about a text that is given up as a whole: it may not be
// meant to be this language.
func (p *parser) silence(from, to int32) {
	kept := p.messages[:0]
	for i, m := range p.messages {
		if i < p.scanned && m.Span.Start >= from && m.Span.Start < to {
			continue
		}
		kept = append(kept, m)
	}
	p.scanned -= len(p.messages) - len(kept)
	p.messages = kept
}

// declarationHere reports whether a declaration keyword stands at the current token in column 1.
func (p *parser) declarationHere() bool {
	t := p.tok()
	return t.Kind == token.Name && (t.Start == 0 || p.file.Text[t.Start-1] == '\n') && token.Declares(p.text())
}

func (p *parser) tok() token.Token { return p.tokens[p.i] }

func (p *parser) ahead(n int) token.Token { return p.tokens[min(p.i+n, len(p.tokens)-1)] }

func (p *parser) at(k token.Kind) bool { return p.tok().Kind == k }

func (p *parser) text() string { return p.file.Of(p.tok().Span) }

// keyword reports whether the current token is the given word.
func (p *parser) keyword(word string) bool { return p.at(token.Name) && p.text() == word }

func (p *parser) oneOf(words ...string) bool {
	return p.at(token.Name) && slices.Contains(words, p.text())
}

func (p *parser) next() token.Token {
	t := p.tok()
	if t.Kind != token.EOF {
		p.i++
	}
	return t
}

func (p *parser) accept(k token.Kind) bool {
	if p.at(k) {
		p.next()
		return true
	}
	return false
}

func (p *parser) acceptWord(word string) bool {
	if p.keyword(word) {
		p.next()
		return true
	}
	return false
}

func (p *parser) skipNewlines() {
	for p.accept(token.Newline) {
	}
}

func (p *parser) say(at source.Span, hint, format string, a ...any) {
	if len(p.messages) < maxMessages {
		p.messages = append(p.messages,
			source.Message{File: p.file, Span: at, Text: fmt.Sprintf(format, a...), Hint: hint})
	}
}

// fail reports what is wrong at a place, and gives the statement up.
func (p *parser) fail(at source.Span, hint, format string, a ...any) {
	p.say(at, hint, format, a...)
	panic(errStatement)
}

// expected fails at the current token, saying what should stand there.
func (p *parser) expected(what, hint string) {
	if p.at(token.Illegal) { // the scanner has reported it
		panic(errStatement)
	}
	switch meant := p.meant(goesOn); {
	case meant == `write "where"` && strings.HasPrefix(what, "the end of the line"), p.keyword("where") && hint == "":
		hint = conditionHint
	case meant != "" && !strings.HasPrefix(hint, "write"):
		hint = meant
	case p.oneOf("and", "or") && hint == "":
		hint = "several are parted by commas"
	}
	p.fail(p.tok().Span, hint, "expected %s, found %s", what, p.found())
}

func (p *parser) found() string {
	switch t := p.tok(); t.Kind {
	case token.EOF, token.Newline:
		return t.Kind.String()
	case token.String:
		return "a text in quotes"
	}
	text := p.text()
	if len(text) > 40 {
		text = text[:40] + "…"
	}
	return strconv.Quote(text)
}

func (p *parser) need(k token.Kind, hint string) token.Token {
	if !p.at(k) {
		p.expected(k.String(), hint)
	}
	return p.next()
}

func (p *parser) needWord(words ...string) syntax.Word {
	if p.oneOf(words...) {
		return p.word()
	}
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = strconv.Quote(w)
	}
	p.expected(strings.Join(quoted, " or "), p.nearHint(words))
	return syntax.Word{}
}

// word takes the current token, whatever it is, as a word.
func (p *parser) word() syntax.Word {
	t := p.next()
	w := syntax.Word{Node: syntax.Node{Span: t.Span}, Text: p.file.Of(t.Span)}
	if t.Kind == token.String {
		w.Text = scan.Unquote(w.Text)
	}
	return w
}

// name takes a name that is not a reserved word.
func (p *parser) name(what string) syntax.Word {
	if !p.at(token.Name) {
		hint := ""
		if p.at(token.String) {
			hint = "a name stands without quotes"
		}
		p.expected(what, hint)
	}
	if token.Reserved(p.text()) {
		p.fail(p.tok().Span, "", "%q is a word of the language and can't be %s", p.text(), what)
	}
	return p.word()
}

func (p *parser) path(what string) syntax.Word {
	if p.at(token.Path) {
		return p.word()
	}
	return p.name(what)
}

// oneOfKinds reports whether the current token is of one of the kinds.
func (p *parser) oneOfKinds(kinds ...token.Kind) bool { return slices.Contains(kinds, p.tok().Kind) }

// lineFrom is the text from a token to the end of its statement, for a hint.
func (p *parser) lineFrom(i int) string {
	end := i
	for end+1 < len(p.tokens) && end-i < 12 && p.tokens[end+1].Kind != token.Newline &&
		p.tokens[end+1].Kind != token.EOF && p.tokens[end+1].Kind != token.RightBrace {
		end++
	}
	return strings.Join(strings.Fields(p.file.Of(p.tokens[i].Span.Join(p.tokens[end].Span))), " ")
}

// nameOrText takes a name or a text in quotes.
func (p *parser) nameOrText(what string) syntax.Word {
	if p.at(token.String) {
		return p.word()
	}
	return p.name(what)
}

func (p *parser) quoted(what string) syntax.Word {
	if !p.at(token.String) {
		p.expected(what+" in quotes", "")
	}
	return p.word()
}

func (p *parser) optionalText() syntax.Word {
	if p.at(token.String) {
		return p.word()
	}
	return syntax.Word{}
}

// value takes a path, a text or a number.
func (p *parser) value() syntax.Word {
	switch p.tok().Kind {
	case token.Path, token.Name, token.String, token.Number:
		return p.word()
	}
	p.expected("a value", "a name, a path, a number or a text in quotes")
	return syntax.Word{}
}

func (p *parser) pairs() []syntax.Pair {
	var pairs []syntax.Pair
	for {
		key := p.nameOrText("a label")
		p.need(token.Equals, "a label is written NAME = VALUE")
		pairs = append(pairs, syntax.Pair{Key: key, Value: p.value()})
		if !p.accept(token.Comma) {
			return pairs
		}
	}
}

// since is the text from a token to the one before the current.
func (p *parser) since(start int) syntax.Node {
	last := max(start, p.i-1)
	for last > start && p.tokens[last].Kind == token.Newline {
		last--
	}
	return syntax.Node{Span: p.tokens[start].Span.Join(p.tokens[last].Span)}
}

// block parses { statements }, with one call of one for each. It returns the extent of the braces.
func (p *parser) block(what string, one func()) source.Span {
	open := p.need(token.LeftBrace, "")
	if p.nesting++; p.nesting > maxNesting {
		p.fail(open.Span, "", "blocks are nested more than %d deep", maxNesting)
	}
	defer func() { p.nesting-- }()
	for {
		p.skipNewlines()
		if p.at(token.RightBrace) {
			return open.Span.Join(p.next().Span)
		}
		if p.at(token.EOF) || p.declarationHere() && !slices.Contains(insideToo[what], p.text()) {
			p.say(open.Span, fmt.Sprintf("it should end before line %d", p.file.Line(p.tok().Start)),
				`the block that begins here has no closing "}"`)
			return open.Span.Join(p.tokens[p.i-1].Span)
		}
		before := p.i
		if p.statement(one) && p.i > 0 && p.tokens[p.i-1].Kind != token.RightBrace && !p.at(token.RightBrace) &&
			!p.at(token.Newline) && !p.at(token.EOF) {
			p.statement(func() { p.expected("the end of the line", "") })
		}
		if p.i == before { // no progress: skip, so as not to loop
			p.next()
		}
	}
}

// insideToo are declaration keywords that can also begin a line of a block, so that they don't end
// the block when they stand in column 1.
var insideToo = map[string][]string{
	"account": {"cloud"}, "list": {"list"}, "pattern": {"use"}, "group": {"use"}, "where": {"use"},
}

// topLevel parses a declaration; it returns nil if that fails.
func (p *parser) topLevel() (decl syntax.Decl) {
	before := p.i
	ok := p.statement(func() {
		start := p.i
		if p.at(token.RightBrace) {
			p.fail(p.tok().Span, "", "this brace closes nothing")
		}
		if !p.at(token.Name) {
			p.expected("a declaration", "it begins with one of: "+strings.Join(token.Declarations, ", "))
		}
		switch p.text() {
		case "estate":
			decl = p.estate(start)
		case "cloud", "account", "network":
			decl = p.place(start)
		case "list":
			decl = p.list(start)
		case "service":
			decl = p.service(start)
		case "pattern":
			decl = p.pattern(start)
		case "use":
			decl = p.baseline(start)
		case "group":
			decl = p.group(start)
		case "connect":
			decl = p.connect(start)
		case "law":
			decl = p.law(start)
		case "exempt":
			decl = p.exempt(start)
		case "expect":
			decl = p.expect(start)
		default:
			hint := p.declarationHint()
			if hint == "" {
				hint = "a declaration begins with one of: " + strings.Join(token.Declarations, ", ")
			}
			p.fail(p.tok().Span, hint, "no declaration begins with %q", p.text())
		}
		if !p.at(token.Newline) && !p.at(token.EOF) && p.tokens[p.i-1].Kind != token.RightBrace &&
			!p.declarationHere() {
			p.expected("the end of the line", "")
		}
	})
	if !ok {
		p.accept(token.RightBrace) // a surplus closing brace
	}
	if p.i == before {
		p.next()
	}
	return decl
}

func (p *parser) estate(start int) syntax.Decl {
	p.next()
	d := &syntax.Estate{Name: p.name("the estate's name")}
	d.Title = p.optionalText()
	d.Node = p.since(start)
	return d
}

var settings = map[string][]string{
	"cloud":   {"dialect", "at", "token", "profile"},
	"account": {"cloud", "id", "region", "folder", "label", "limit"},
	"network": {"id", "region", "range", "subnet", "peered", "answers", "label"},
}

func (p *parser) place(start int) syntax.Decl {
	d := &syntax.Place{Kind: p.word().Text}
	d.Name = p.name("the " + d.Kind + "'s name")
	if d.Kind == "network" {
		p.needWord("in")
		d.In = p.name("the name of the network's account")
	}
	p.block(d.Kind, func() { d.Settings = append(d.Settings, p.setting(d.Kind)) })
	d.Node = p.since(start)
	return d
}

func (p *parser) setting(kind string) syntax.Setting {
	start := p.i
	if !p.oneOf(settings[kind]...) {
		if hint := p.nearHint(settings[kind]); p.at(token.Name) && hint != "" {
			if slices.Contains(Meant(p.text()), "token") && kind == "cloud" {
				hint = "write: token env NAME_TOKEN"
			}
			p.fail(p.tok().Span, hint, "%s has no setting %q", article(kind), p.text())
		}
		p.expected("a setting of the "+kind, "one of: "+strings.Join(settings[kind], ", "))
	}
	s := syntax.Setting{Key: p.word()}
	switch s.Key.Text {
	case "dialect", "cloud":
		s.Value = p.name("the name of a " + s.Key.Text)
	case "at", "token":
		if p.acceptWord("env") {
			s.Env, s.Value = true, p.name("the name of an environment variable")
		} else if s.Key.Text == "token" {
			p.say(p.tok().Span, "write: token env NAME_TOKEN",
				"a token never stands in a definition: it comes from the environment")
			p.messages[len(p.messages)-1].Secret = true
			panic(errStatement)
		} else {
			s.Value = p.quoted("an address")
		}
	case "id":
		s.Value = p.quoted("an id")
	case "profile", "region":
		s.Value = p.nameOrText("a " + s.Key.Text)
	case "folder":
		s.Value = p.value()
	case "label", "limit":
		s.Pairs = p.pairs()
	case "range":
		s.Ranges = p.ranges()
	case "subnet":
		s.Value = p.nameOrText("the subnet's name")
		if p.at(token.Range) {
			s.Ranges = p.ranges()
		}
	case "peered":
		s.Paths = append(s.Paths, p.path("a network"))
		for p.accept(token.Comma) {
			s.Paths = append(s.Paths, p.path("a network"))
		}
	case "answers":
		span := p.need(token.NumberSpan, "the client ports, for example 32768-60999")
		s.From, s.To = p.portSpan(span)
	}
	s.Node = p.since(start)
	return s
}

func article(noun string) string {
	if strings.ContainsAny(noun[:1], "aeiou") {
		return "an " + noun
	}
	return "a " + noun
}

func (p *parser) ranges() []syntax.Range {
	ranges := []syntax.Range{p.addrRange()}
	for p.accept(token.Comma) {
		ranges = append(ranges, p.addrRange())
	}
	return ranges
}

func (p *parser) addrRange() syntax.Range {
	t := p.need(token.Range, "10.20.0.0/16, 192.0.2.7, 2001:db8::/32")
	text := p.file.Of(t.Span)
	prefix, err := netip.ParsePrefix(text)
	if err != nil {
		a := netip.MustParseAddr(text) // the scanner has checked its form
		prefix = netip.PrefixFrom(a, a.BitLen())
	}
	if prefix.Addr().Is4In6() {
		p.fail(t.Span, "write the IPv4 range", "an IPv4-mapped range is never that of a packet")
	}
	return syntax.Range{Node: syntax.Node{Span: t.Span}, Prefix: prefix}
}

func (p *parser) list(start int) syntax.Decl {
	p.next()
	d := &syntax.List{Name: p.name("the list's name")}
	d.Title = p.optionalText()
	if p.acceptWord("published") {
		d.Published = p.quoted("the provider's name for the list")
	} else {
		p.block("list", func() { d.Lines = append(d.Lines, p.listLine()) })
	}
	d.Node = p.since(start)
	return d
}

func (p *parser) listLine() syntax.ListLine {
	start := p.i
	var l syntax.ListLine
	switch {
	case p.at(token.Range):
		l.Range = p.addrRange()
		l.Note = p.optionalText()
	case p.acceptWord("list"):
		l.List = p.name("the name of a list")
		l.Note = p.optionalText()
	case p.acceptWord("room"):
		l.Room = p.number("the number of entries that there is room for")
	case p.acceptWord("published"):
		l.Published = p.quoted("the provider's name for the list")
		p.needWord("on")
		l.On = p.name("the name of a cloud")
	case p.acceptWord("where"):
		l.Where = p.condition()
		p.block("list", func() { l.Lines = append(l.Lines, p.listLine()) })
	default:
		p.expected("a line of the list", p.listHint())
	}
	if p.at(token.Comma) {
		p.fail(p.tok().Span, "leave the comma out", "each entry of a list stands on a line of its own")
	}
	l.Node = p.since(start)
	return l
}

func (p *parser) number(what string) syntax.Word {
	if !p.at(token.Number) {
		p.expected(what, "")
	}
	return p.word()
}

func (p *parser) service(start int) syntax.Decl {
	p.next()
	d := &syntax.Service{Name: p.name("the service's name")}
	p.need(token.Equals, "service NAME = tcp 5432")
	d.Services = p.services()
	if p.acceptWord("class") {
		d.Class = p.name("the class")
	}
	d.Node = p.since(start)
	return d
}

func (p *parser) pattern(start int) syntax.Decl {
	p.next()
	d := &syntax.Pattern{Name: p.name("the pattern's name")}
	if p.accept(token.LeftParen) {
		for {
			d.Params = append(d.Params, p.param())
			if !p.accept(token.Comma) {
				break
			}
		}
		p.need(token.RightParen, "")
	}
	p.block("pattern", func() { d.Rules = append(d.Rules, p.rule()) })
	d.Node = p.since(start)
	return d
}

func (p *parser) param() syntax.Param {
	start := p.i
	var x syntax.Param
	x.Name = p.name("a parameter's name")
	p.need(token.Colon, "a parameter is written NAME: peers")
	x.Type = p.needWord("peers", "services", "text", "number", "duration")
	if p.accept(token.Equals) {
		items := p.items()
		x.Default = &items
	}
	x.Node = p.since(start)
	return x
}

func (p *parser) baseline(start int) syntax.Decl {
	d := &syntax.Baseline{Use: p.use()}
	p.needWord("in")
	p.needWord("every")
	p.needWord("group")
	if p.acceptWord("where") {
		d.Where = p.condition()
	}
	d.Node = p.since(start)
	return d
}

func (p *parser) use() *syntax.Use {
	start := p.i
	p.next()
	u := &syntax.Use{Name: p.name("the name of a pattern")}
	if p.accept(token.LeftParen) {
		for !p.at(token.RightParen) {
			if p.at(token.Name) && p.ahead(1).Kind == token.Equals {
				arg := syntax.NamedArg{Name: p.name("a parameter")}
				p.next()
				arg.Items = p.items()
				u.Named = append(u.Named, arg)
			} else if len(u.Named) > 0 {
				p.fail(p.tok().Span, "", "an argument without a name can't follow one with a name")
			} else if p.accept(token.LeftParen) {
				items := p.items()
				p.need(token.RightParen, "")
				u.Args = append(u.Args, items)
			} else {
				first := p.i
				item := p.item()
				u.Args = append(u.Args, syntax.Items{Node: p.since(first), Of: []syntax.Item{item}})
			}
			if !p.accept(token.Comma) {
				break
			}
		}
		p.need(token.RightParen, "")
	}
	u.Node = p.since(start)
	return u
}

// items parses values, up to one that the grammar takes for the next argument.
func (p *parser) items() syntax.Items {
	start := p.i
	var x syntax.Items
	x.Of = append(x.Of, p.item())
	more := func() bool {
		return p.at(token.Comma) &&
			!(p.ahead(1).Kind == token.Name && (p.ahead(2).Kind == token.Equals || p.ahead(2).Kind == token.Colon))
	}
	for more() {
		p.next()
		x.Of = append(x.Of, p.item())
	}
	if p.acceptWord("except") {
		x.Except = append(x.Except, p.item())
		for more() {
			p.next()
			x.Except = append(x.Except, p.item())
		}
	}
	x.Node = p.since(start)
	return x
}

func (p *parser) item() syntax.Item {
	start := p.i
	var x syntax.Item
	switch {
	case p.at(token.String), p.at(token.Number), p.at(token.Duration):
		x.Word = p.word()
	case p.oneOf(token.Specs...):
		s := p.spec()
		x.Spec = &s
	default:
		peer := p.peer()
		x.Peer = &peer
	}
	x.Node = p.since(start)
	return x
}

func (p *parser) group(start int) syntax.Decl {
	p.next()
	d := &syntax.Group{Name: p.name("the group's name")}
	if p.acceptWord("for") {
		d.For = p.needWord("instances", "subnets")
	}
	p.needWord("in")
	d.Scope = p.scope()
	if p.acceptWord("existing") {
		d.Existing = p.quoted("the group's name or id in its cloud")
	} else {
		d.Title = p.optionalText()
		d.Braces = p.block("group", func() { d.Body = append(d.Body, p.member()) })
	}
	d.Node = p.since(start)
	return d
}

func (p *parser) scope() syntax.Scope {
	start := p.i
	var s syntax.Scope
	if p.acceptWord("every") {
		p.needWord("network")
		if p.acceptWord("where") {
			s.Where = p.condition()
		}
	} else {
		s.Network = p.path("a network, or: every network")
	}
	s.Node = p.since(start)
	return s
}

var prepositions = map[string][]string{"admit": {"from"}, "reach": {"at"}, "refuse": {"from", "at"},
	"lend": {"to", "at"}}

var members = []string{"cover", "label", "named", "follow", "admit", "reach", "refuse", "lend", "use", "where"}

func (p *parser) member() syntax.Stmt {
	start := p.i
	switch {
	case p.keyword("cover"):
		return p.cover()
	case p.acceptWord("label"):
		s := &syntax.LabelStmt{Pairs: p.pairs()}
		s.Node = p.since(start)
		return s
	case p.acceptWord("named"):
		s := &syntax.Named{Name: p.quoted("the group's name in its cloud")}
		s.Node = p.since(start)
		return s
	case p.acceptWord("follow"):
		p.needWord("instances")
		return &syntax.Follow{Node: p.since(start)}
	}
	return p.rule()
}

func (p *parser) cover() syntax.Stmt {
	start := p.i
	p.next()
	if next := p.ahead(1); p.oneOfKinds(token.Name, token.String) && !p.oneOf("where", "instance", "subnet") {
		switch {
		case next.Kind == token.Equals, next.Kind == token.NotEquals, next.Kind == token.Name &&
			p.file.Of(next.Span) == "in":
			p.expected(`"where"`, "write: cover where "+p.lineFrom(p.i))
		case p.nearHint([]string{"where", "instance", "subnet"}) == "":
			p.expected(`"where", "instance" or "subnet"`, "write: cover instance "+p.text())
		}
	}
	s := &syntax.Cover{Kind: p.needWord("where", "instance", "subnet")}
	if s.Kind.Text == "where" {
		s.Where = p.condition()
	} else {
		s.Names = append(s.Names, p.nameOrText("a name"))
		for p.accept(token.Comma) {
			s.Names = append(s.Names, p.nameOrText("a name"))
		}
	}
	s.Node = p.since(start)
	return s
}

func (p *parser) rule() syntax.Stmt {
	start := p.i
	switch {
	case p.keyword("use"):
		u := p.use()
		var stateless syntax.Word
		p.clauses(&u.Because, &u.Until, &stateless)
		if stateless.Given() {
			p.fail(stateless.Span, "write it at the rules of the pattern", "a use can't be stateless")
		}
		u.Node = p.since(start)
		return u
	case p.acceptWord("where"):
		w := &syntax.Where{Condition: p.condition()}
		p.block("where", func() { w.Rules = append(w.Rules, p.rule()) })
		w.Node = p.since(start)
		return w
	}
	if !p.at(token.Name) || prepositions[p.text()] == nil {
		hint := p.meant(members)
		if way := instead[strings.ToLower(p.text())]; hint == "" && p.at(token.Name) {
			hint = way
		}
		if hint == "" {
			hint = p.nearHint(members)
		}
		if hint != "" {
			p.fail(p.tok().Span, hint, "no statement begins with %q", p.text())
		}
		p.expected("a statement", "it begins with one of: "+strings.Join(members, ", "))
	}
	r := &p.rules.one()[0]
	r.Verb = p.word()
	r.Services = p.services()
	if wanted := prepositions[r.Verb.Text]; !p.oneOf(wanted...) && p.oneOf("from", "at", "to") {
		p.fail(p.tok().Span, fmt.Sprintf("write: %s SERVICE %s PEER", r.Verb.Text, wanted[0]),
			"after %q stands %q, not %q", r.Verb.Text, strings.Join(wanted, " or "), p.text())
	}
	r.Prep = p.needWord(prepositions[r.Verb.Text]...)
	r.Peers = p.peers()
	if r.Verb.Text == "lend" {
		p.needWord("for")
		if p.oneOfKinds(token.Duration, token.Number) {
			p.expected(`"at most"`, "write: for at most "+p.duration())
		}
		p.needWord("at")
		p.needWord("most")
		switch {
		case p.at(token.Duration):
			r.AtMost = p.word()
		case p.at(token.Number):
			p.expected("a duration", "write: "+p.duration())
		default:
			r.AtMost = p.name("a duration such as 2h")
		}
	}
	p.clauses(&r.Because, &r.Until, &r.Stateless)
	r.Node = p.since(start)
	return r
}

// duration is the duration that the current token and the next seem to mean, such as 2 hours.
func (p *parser) duration() string {
	text := p.text()
	if next := p.ahead(1); p.at(token.Number) && next.Kind == token.Name {
		if unit := p.file.Of(next.Span)[0]; strings.IndexByte("smhd", unit) >= 0 {
			return text + string(unit)
		}
	}
	if p.at(token.Number) {
		return text + "h"
	}
	return text
}

// clauses parses because, until and stateless: each at most once, in any order.
func (p *parser) clauses(because *syntax.Word, until *syntax.Date, stateless *syntax.Word) {
	for {
		at := p.tok().Span
		twice := false
		switch {
		case p.acceptWord("because"):
			twice = because.Given()
			if p.at(token.Name) {
				*because = p.name("a text in quotes")
			} else {
				*because = p.quoted("the reason")
			}
		case p.acceptWord("until"):
			twice = until.Given()
			*until = p.date()
		case p.keyword("stateless"):
			twice = stateless.Given()
			*stateless = p.word()
		default:
			return
		}
		if twice {
			p.fail(at, "", "%q stands here twice", p.file.Of(at))
		}
	}
}

func (p *parser) date() syntax.Date {
	hint := "2027-01-31 or 2027-01-31T18:00Z"
	if p.at(token.String) {
		hint = "a date stands without quotes: " + hint
	}
	t := p.need(token.Date, hint)
	d := syntax.Date{Node: syntax.Node{Span: t.Span}}
	text := p.file.Of(t.Span)
	if moment, ok := dateOf(text); ok {
		d.Time = moment
	} else {
		hint = ""
		if first, err := time.Parse("2006-01", text[:7]); err == nil {
			hint = fmt.Sprintf("the month ends on %s", first.AddDate(0, 1, -1).Format("2006-01-02"))
		}
		p.say(t.Span, hint, "the date %s does not exist", text)
	}
	return d
}

// dateOf reads a date, which means its end, or a moment. The scanner has checked its form.
func dateOf(text string) (time.Time, bool) {
	number := func(from, to int) int {
		n := 0
		for _, c := range []byte(text[from:to]) {
			n = n*10 + int(c-'0')
		}
		return n
	}
	year, month, day := number(0, 4), time.Month(number(5, 7)), number(8, 10)
	t := time.Date(year, month, day, 0, 0, 0, 0, time.UTC)
	if t.Month() != month || t.Day() != day {
		return time.Time{}, false
	}
	if len(text) == len("2006-01-02") {
		return t.AddDate(0, 0, 1), true
	}
	hour, minute := number(11, 13), number(14, 16)
	return t.Add(time.Duration(hour)*time.Hour + time.Duration(minute)*time.Minute), hour < 24 && minute < 60
}

func (p *parser) services() []syntax.Spec {
	specs := p.specs.one()
	specs[0] = p.svc()
	for p.accept(token.Comma) {
		p.strayPort(specs[len(specs)-1])
		specs = append(specs, p.svc())
	}
	return specs
}

func (p *parser) svc() syntax.Spec {
	if p.oneOf(token.Specs...) {
		return p.spec()
	}
	start := p.i
	if p.at(token.Number) || p.at(token.NumberSpan) {
		p.fail(p.tok().Span, "write: tcp "+p.text(), "a port needs its protocol")
	}
	if p.at(token.Path) {
		name, protocol, _ := strings.Cut(p.text(), "/")
		if slices.Contains(token.Ported, protocol) {
			p.expected("a service", "write: "+name)
		}
	}
	name := p.name("a service")
	p.foreignService(name)
	if p.oneOfKinds(token.Number, token.NumberSpan) {
		if best, ok := near.Best(name.Text, append([]string{"protocol"}, token.Ported...)); ok {
			p.fail(name.Span, strconv.Quote(best)+" is near", "no protocol is called %q", name.Text)
		}
		p.fail(name.Span, "write: tcp "+p.text(), "a port stands behind its protocol")
	}
	return syntax.Spec{Node: p.since(start), Kind: "name", Name: name}
}

func (p *parser) spec() syntax.Spec {
	start := p.i
	s := syntax.Spec{Kind: p.word().Text, Type: -1, Code: -1}
	switch s.Kind {
	case "tcp", "udp", "sctp", "dccp", "udplite":
		if p.accept(token.LeftParen) {
			s.Ports = append(s.Ports, p.port())
			for p.accept(token.Comma) {
				s.Ports = append(s.Ports, p.port())
			}
			p.need(token.RightParen, "")
		} else if p.at(token.Number) || p.at(token.NumberSpan) || p.at(token.Name) && !token.Reserved(p.text()) {
			if next := p.ahead(1); p.at(token.Name) && slices.Contains(Meant(p.text()), "service") &&
				(next.Kind == token.Number || next.Kind == token.NumberSpan) {
				p.fail(p.tok().Span, "write: "+s.Kind+" "+p.file.Of(next.Span), "a port stands behind its protocol")
			}
			s.Ports = append(s.Ports, p.port())
			if first, next := s.Ports[0], p.tok(); next.Kind == token.Number || next.Kind == token.NumberSpan {
				p.fail(next.Span, fmt.Sprintf("write: %s (%s, %s)", s.Kind, p.file.Of(first.Span), p.text()),
					"several ports stand in brackets")
			}
		}
	case "icmp", "icmpv6":
		switch {
		case p.at(token.Number):
			s.Type = p.upTo(p.tok().Span, p.text(), 255, "an ICMP type")
			p.next()
		case p.at(token.Fraction):
			typ, code, _ := strings.Cut(p.text(), "/")
			s.Type = p.upTo(p.tok().Span, typ, 255, "an ICMP type")
			s.Code = p.upTo(p.tok().Span, code, 255, "an ICMP code")
			p.next()
		case p.at(token.Name) && !token.Reserved(p.text()):
			s.Name = p.word()
		}
	case "protocol":
		if p.oneOf(append([]string{"icmp", "icmpv6", "any"}, token.Ported...)...) {
			p.expected("a protocol's number", "write: "+p.text())
		}
		s.Type = p.upTo(p.tok().Span, p.number("a protocol's number").Text, 255, "a protocol's number")
	case "class":
		s.Name = p.name("a class")
	}
	s.Node = p.since(start)
	return s
}

func (p *parser) upTo(at source.Span, digits string, limit int, what string) int {
	n, err := strconv.Atoi(digits)
	if err != nil || n > limit {
		p.fail(at, "", "%s goes from 0 to %d", what, limit)
	}
	return n
}

func (p *parser) port() syntax.Port {
	t := p.tok()
	x := syntax.Port{Node: syntax.Node{Span: t.Span}}
	switch t.Kind {
	case token.Number:
		x.From = p.upTo(t.Span, p.text(), 65535, "a port")
		x.To = x.From
		p.next()
	case token.NumberSpan:
		p.next()
		x.From, x.To = p.portSpan(t)
	default:
		x.Name = p.name("a port")
	}
	return x
}

func (p *parser) portSpan(t token.Token) (from, to int) {
	low, high, _ := strings.Cut(p.file.Of(t.Span), "-")
	from, to = p.upTo(t.Span, low, 65535, "a port"), p.upTo(t.Span, high, 65535, "a port")
	if from > to {
		p.fail(t.Span, fmt.Sprintf("write %d-%d", to, from), "the ports are reversed")
	}
	return from, to
}

func (p *parser) peers() syntax.Peers {
	start := p.i
	x := syntax.Peers{Of: p.peer1.one()}
	x.Of[0] = p.peer()
	for p.accept(token.Comma) {
		x.Of = append(x.Of, p.peer())
	}
	if p.acceptWord("except") {
		x.Except = append(x.Except, p.peer())
		for p.accept(token.Comma) {
			x.Except = append(x.Except, p.peer())
		}
	}
	x.Node = p.since(start)
	return x
}

func (p *parser) peer() syntax.Peer {
	start := p.i
	var x syntax.Peer
	switch {
	case p.at(token.Range):
		x.Kind, x.Range = "range", p.addrRange()
	case p.at(token.Path):
		x.Kind, x.Name = "name", p.word()
	case p.oneOf("everyone", "internet", "self", "probes"):
		x.Kind = p.word().Text
	case p.keyword("network"):
		x.Kind = p.word().Text
		if p.at(token.Path) || p.at(token.Name) && !token.Reserved(p.text()) && !peerWord(p.text()) {
			x.Name = p.word()
		}
	case p.keyword("subnet"):
		x.Kind = p.word().Text
		if p.at(token.String) {
			x.Name = p.word()
		} else {
			x.Name = p.path("a subnet")
		}
	case p.keyword("group"):
		x.Kind = p.word().Text
		x.Name = p.path("a group")
	case p.keyword("list"):
		x.Kind = p.word().Text
		x.Name = p.name("a list")
	case p.at(token.Name) && !token.Reserved(p.text()):
		p.foreignPeer()
		x.Kind, x.Name = "name", p.word()
	default:
		p.expected("a peer", p.peerHint())
	}
	if p.oneOf("v4", "v6") {
		x.Family = p.word()
	}
	x.Node = p.since(start)
	return x
}

// foreignPeer fails if a foreign word stands in front of a peer: cidr 10.0.0.0/8, sg web.
func (p *parser) foreignPeer() {
	switch next := p.ahead(1); {
	case next.Kind == token.Range || next.Kind == token.String && isRange(scan.Unquote(p.file.Of(next.Span))):
		p.fail(p.tok().Span, "write the range alone: "+strings.Trim(p.file.Of(next.Span), `"`),
			"a range stands as a peer without %q", p.text())
	case slices.Contains(Meant(p.text()), "where") && (next.Kind == token.Name || next.Kind == token.String):
		p.fail(p.tok().Span, conditionHint, "no peer begins with %q", p.text())
	case (next.Kind == token.Name || next.Kind == token.Path) && !token.Reserved(p.file.Of(next.Span)) &&
		!token.Continues(p.file.Of(next.Span)):
		for _, ours := range []string{"group", "list", "subnet", "network"} {
			if slices.Contains(Meant(p.text()), ours) {
				p.fail(p.tok().Span, "write: "+ours+" "+p.file.Of(next.Span), "no peer begins with %q", p.text())
			}
		}
	}
}

// peerHint shows how a peer is written.
func (p *parser) peerHint() string {
	switch {
	case p.at(token.String) && isRange(scan.Unquote(p.text())):
		return "a range stands without quotes: " + scan.Unquote(p.text())
	case p.keyword("any"), p.at(token.Fraction) && p.text() == "0/0":
		return `write "everyone"`
	}
	return "everyone, self, network, group NAME, list NAME, subnet NAME or a range"
}

func isRange(text string) bool {
	_, err := netip.ParsePrefix(text)
	if err != nil {
		_, err = netip.ParseAddr(text)
	}
	return err == nil
}

func peerWord(word string) bool {
	switch word {
	case "probes", "network", "subnet", "group", "list":
		return true
	}
	return false
}

func (p *parser) connect(start int) syntax.Decl {
	p.next()
	d := &syntax.Connect{From: p.peers()}
	p.needWord("to")
	d.To = p.peers()
	p.needWord("on")
	d.On = p.services()
	var stateless syntax.Word
	p.clauses(&d.Because, &d.Until, &stateless)
	if stateless.Given() {
		p.fail(stateless.Span, "", "a connect can't be stateless")
	}
	d.Node = p.since(start)
	return d
}

var lawLines = []string{"over", "never", "only", "always", "severity", "control", "enforced"}

func (p *parser) law(start int) syntax.Decl {
	p.next()
	d := &syntax.Law{Name: p.name("the law's name")}
	d.Title = p.optionalText()
	p.block("law", func() { d.Lines = append(d.Lines, p.lawLine()) })
	d.Node = p.since(start)
	return d
}

func (p *parser) lawLine() syntax.LawLine {
	start := p.i
	l := syntax.LawLine{Key: p.needWord(lawLines...)}
	switch l.Key.Text {
	case "over":
		l.Over = p.condition()
	case "never", "only":
		l.Open = p.opening()
	case "always":
		l.Always = p.needWord("because", "until", "text", "label")
		if l.Always.Text == "label" {
			l.Words = append(l.Words, p.nameOrText("a label"))
			for p.accept(token.Comma) {
				l.Words = append(l.Words, p.nameOrText("a label"))
			}
		}
	case "severity":
		l.Words = append(l.Words, p.name("a severity"))
	case "control":
		l.Words = append(l.Words, p.quoted("a control's number"))
		for p.accept(token.Comma) {
			l.Words = append(l.Words, p.quoted("a control's number"))
		}
	case "enforced":
		if p.acceptWord("after") {
			p.need(token.Duration, "a duration such as 2m")
			p.i--
			l.After = p.word()
		}
		if p.keyword("whole") {
			l.Whole = p.word()
		}
	}
	l.Node = p.since(start)
	return l
}

func (p *parser) opening() *syntax.Opening {
	start := p.i
	prepositions := map[string]string{"admit": "from", "reach": "at", "lend": "to"}
	if !p.oneOf("admit", "reach", "lend") && p.nearHint([]string{"admit", "reach", "lend"}) == "" {
		p.expected(`"admit", "reach" or "lend"`, "write for example: admit "+p.text()+" from internet")
	}
	o := &syntax.Opening{Verb: p.needWord("admit", "reach", "lend")}
	o.Services = p.services()
	p.needWord(prepositions[o.Verb.Text])
	o.Peers = p.peers()
	if o.Verb.Text == "lend" && p.acceptWord("for") {
		p.needWord("more")
		p.needWord("than")
		p.need(token.Duration, "a duration such as 2h")
		p.i--
		o.MoreThan = p.word()
	}
	o.Node = p.since(start)
	return o
}

func (p *parser) exempt(start int) syntax.Decl {
	p.next()
	d := &syntax.Exempt{Kind: "group"}
	switch {
	case p.keyword("account") && p.ahead(1).Kind == token.Name && !token.Reserved(p.file.Of(p.ahead(1).Span)):
		d.Kind = p.word().Text
		d.Subject = p.name("an account")
	case p.keyword("network") && p.ahead(1).Kind != token.Newline &&
		!(p.ahead(1).Kind == token.Name && token.Reserved(p.file.Of(p.ahead(1).Span))):
		d.Kind = p.word().Text
		d.Subject = p.path("a network")
	default:
		if p.keyword("group") {
			p.next()
		}
		d.Subject = p.path("a group, a network or an account")
	}
	p.needWord("from")
	d.Law = p.name("the name of a law")
	if p.acceptWord("on") {
		d.On = p.services()
	}
	for {
		switch {
		case p.acceptWord("because"):
			d.Because = p.quoted("the reason")
		case p.acceptWord("until"):
			d.Until = p.date()
		case p.acceptWord("by"):
			d.By = p.quoted("a name")
		default:
			d.Node = p.since(start)
			return d
		}
	}
}

func (p *parser) expect(start int) syntax.Decl {
	p.next()
	d := &syntax.Expect{Only: p.acceptWord("only")}
	d.From = p.peers()
	if d.Only {
		p.needWord("can")
		d.Can = true
	} else {
		if !p.oneOf("can", "cannot") && p.nearHint([]string{"can", "cannot"}) == "" {
			p.expected(`"can" or "cannot"`, "write: expect A can reach B on SERVICE, or: expect A cannot reach B")
		}
		d.Can = p.needWord("can", "cannot").Text == "can"
	}
	if p.keyword("not") && d.Can {
		p.expected(`"reach"`, `write "cannot"`)
	}
	p.needWord("reach")
	d.To = p.peers()
	if d.Can && !p.keyword("on") {
		p.expected(`"on"`, "say which services: on https")
	}
	if p.acceptWord("on") {
		d.On = p.services()
	}
	if p.acceptWord("because") {
		d.Because = p.quoted("the reason")
	}
	d.Node = p.since(start)
	return d
}

func (p *parser) condition() *syntax.Condition {
	start := p.i
	first := p.test()
	if !p.oneOf("and", "or") {
		return first
	}
	op := p.text()
	c := &syntax.Condition{Op: syntax.Operator(op), Parts: []*syntax.Condition{first}}
	for p.oneOf("and", "or") {
		if p.text() != op {
			p.fail(p.tok().Span, "put the parts that belong together in brackets",
				`"and" and "or" don't mix without brackets`)
		}
		p.next()
		c.Parts = append(c.Parts, p.test())
	}
	c.Node = p.since(start)
	return c
}

func (p *parser) test() *syntax.Condition {
	start := p.i
	if p.nesting++; p.nesting > maxNesting {
		p.fail(p.tok().Span, "", "conditions are nested more than %d deep", maxNesting)
	}
	defer func() { p.nesting-- }()
	c := &syntax.Condition{}
	switch {
	case p.acceptWord("not"):
		c.Op, c.Parts = syntax.NotOp, []*syntax.Condition{p.test()}
	case p.accept(token.LeftParen):
		c = p.condition()
		p.need(token.RightParen, "")
		return c
	default:
		c.Op = syntax.Compare
		c.Label = p.conditionLabel()
		switch {
		case p.accept(token.Equals):
			c.Values = append(c.Values, p.value())
		case p.accept(token.NotEquals):
			c.Negate = true
			c.Values = append(c.Values, p.value())
		case p.acceptWord("in"):
			p.need(token.LeftParen, "label in (value, value)")
			c.Values = append(c.Values, p.value())
			for p.accept(token.Comma) {
				c.Values = append(c.Values, p.value())
			}
			p.need(token.RightParen, "")
		default:
			p.expected(`"=", "!=" or "in"`, p.meant([]string{"="}))
		}
	}
	c.Node = p.since(start)
	return c
}

func (p *parser) conditionLabel() syntax.Word { return p.nameOrText("a label") }
