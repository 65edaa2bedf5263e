package resolve

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/nomos/syntax"
)

// A pattern is a declared pattern, and whether it can be used.
type pattern struct {
	located[*syntax.Pattern]
	broken bool // it uses itself, directly or not: it can't be expanded
	used   bool // it is used somewhere
}

// A binding is the argument for a parameter. Only the fields of its kind are set.
type binding struct {
	kind     string // "peers", "services", "text", "number", "duration"
	sides    []side
	specs    []service.Spec
	words    []string
	text     string
	number   int
	duration time.Duration
}

func (r *resolver) wrongKind(at syntax.Word, b binding, want string) {
	r.say(at.Span, "", "the parameter %q stands for %s, and %s belongs here", at.Text, b.kind, want)
}

// patternHeads collects the declared patterns, and finds those that use themselves.
func (r *resolver) patternHeads() {
	for _, d := range r.patternDecls {
		if r.file = d.file; !r.declare("pattern", d.node.Name.Text, d.node.Name) {
			continue
		}
		r.patterns[d.node.Name.Text] = &pattern{located: d}
	}
	for _, d := range r.patternDecls {
		r.file = d.file
		if p := r.patterns[d.node.Name.Text]; p != nil && p.node == d.node {
			r.checkParams(d.node)
		}
	}
	const fresh, busy, done = 0, 1, 2
	state := make(map[*pattern]int)
	var visit func(p *pattern)
	visit = func(p *pattern) {
		state[p] = busy
		for _, u := range uses(p.node.Rules) {
			other := r.patterns[u.Name.Text]
			switch {
			case other == nil:
			case state[other] == busy:
				r.file = p.file
				r.say(u.Name.Span, "", "the pattern %q uses itself", other.node.Name.Text)
				p.broken, other.broken = true, true
			case state[other] == fresh:
				visit(other)
			}
			if other != nil && other.broken {
				p.broken = true
			}
		}
		state[p] = done
	}
	for _, d := range r.patternDecls {
		if p := r.patterns[d.node.Name.Text]; state[p] == fresh {
			visit(p)
		}
	}
}

// uses are the uses of patterns among statements.
func uses(stmts []syntax.Stmt) []*syntax.Use {
	var found []*syntax.Use
	for _, s := range stmts {
		switch s := s.(type) {
		case *syntax.Use:
			found = append(found, s)
		case *syntax.Where:
			found = append(found, uses(s.Rules)...)
		}
	}
	return found
}

func (r *resolver) checkParams(d *syntax.Pattern) {
	seen := make(map[string]bool)
	optional := false
	for _, p := range d.Params {
		name := p.Name.Text
		if seen[name] {
			r.say(p.Name.Span, "", "the pattern %s has two parameters %q", d.Name.Text, name)
		}
		seen[name] = true
		if _, ok := r.estate.Services.Lookup(name); ok {
			r.say(p.Name.Span, "choose another name", "the parameter %q hides the service of that name", name)
		}
		if slices.ContainsFunc(r.groupDecls, func(g located[*syntax.Group]) bool { return g.node.Name.Text == name }) {
			r.say(p.Name.Span, "choose another name", "the parameter %q hides the group of that name", name)
		}
		if p.Default == nil && optional {
			r.say(p.Name.Span, "put it before those that have one",
				"the parameter %q has no default and follows one that has", name)
		}
		optional = optional || p.Default != nil
	}
}

// use replaces a use by the rules of the pattern.
func (r *resolver) use(s *syntax.Use, x setting) {
	if !r.room(&r.used, s.Span, "uses of patterns") {
		return
	}
	p := r.patterns[s.Name.Text]
	if p == nil {
		var names []string
		for name := range r.patterns {
			names = append(names, name)
		}
		slices.Sort(names)
		r.unknown(s.Name, r.nearest(s.Name.Text, names), "no pattern is called %q")
		return
	}
	if p.broken {
		return // reported before
	}
	params, ok := r.bind(p, s, x)
	because := r.reason(s.Because, x)
	if !ok || r.anywhere {
		return
	}
	p.used = true
	inner := setting{group: x.group, params: params, through: x.through, outer: x.outer}
	if inner.through == nil {
		inner.through = &estate.Through{Kind: "pattern", Name: s.Name.Text, Origin: r.origin(s.Span)}
	}
	if because != "" {
		inner.outer.because = because
	}
	if s.Until.Given() {
		inner.outer.until = s.Until
	}
	file := r.file
	r.file = p.file
	for _, stmt := range p.node.Rules {
		r.ruleStmt(stmt, inner)
	}
	r.file = file
}

// bind finds the arguments of a pattern's parameters at a use.
func (r *resolver) bind(p *pattern, s *syntax.Use, x setting) (map[string]binding, bool) {
	params := make(map[string]binding, len(p.node.Params))
	ok := true
	if len(s.Args) > len(p.node.Params) {
		r.say(s.Args[len(p.node.Params)].Span, describeParams(p.node), "the pattern %s takes %s", s.Name.Text,
			count.Of(len(p.node.Params), "argument", "arguments"))
		return nil, false
	}
	for i, arg := range s.Args {
		b, good := r.argument(p.node.Params[i], arg, x)
		params[p.node.Params[i].Name.Text] = b
		ok = ok && good
	}
	for _, arg := range s.Named {
		i := slices.IndexFunc(p.node.Params, func(q syntax.Param) bool { return q.Name.Text == arg.Name.Text })
		if i < 0 {
			var names []string
			for _, q := range p.node.Params {
				names = append(names, q.Name.Text)
			}
			hint := r.nearest(arg.Name.Text, names)
			if hint == "" {
				hint = describeParams(p.node)
			}
			r.say(arg.Name.Span, hint, "the pattern %s has no parameter %q", s.Name.Text, arg.Name.Text)
			ok = false
			continue
		}
		if _, twice := params[arg.Name.Text]; twice {
			r.say(arg.Name.Span, "", "the parameter %q is given twice", arg.Name.Text)
			ok = false
			continue
		}
		b, good := r.argument(p.node.Params[i], arg.Items, x)
		params[arg.Name.Text] = b
		ok = ok && good
	}
	for _, q := range p.node.Params {
		if _, given := params[q.Name.Text]; given {
			continue
		}
		if q.Default == nil {
			r.say(s.Span, describeParams(p.node), "the pattern %s needs its parameter %q", s.Name.Text, q.Name.Text)
			ok = false
			continue
		}
		file := r.file
		r.file = p.file // a default value is written where the pattern is
		b, good := r.argument(q, *q.Default, setting{group: x.group})
		r.file = file
		params[q.Name.Text] = b
		ok = ok && good
	}
	return params, ok
}

// describeParams says how a pattern is used.
func describeParams(d *syntax.Pattern) string {
	var parts []string
	for _, p := range d.Params {
		part := p.Name.Text + ": " + p.Type.Text
		if p.Default != nil {
			part = "[" + part + "]"
		}
		parts = append(parts, part)
	}
	return d.Name.Text + "(" + strings.Join(parts, ", ") + ")"
}

// argument resolves an argument where it is written.
func (r *resolver) argument(p syntax.Param, items syntax.Items, x setting) (binding, bool) {
	b := binding{kind: p.Type.Text}
	before := r.mistakes()
	one := func() (syntax.Word, bool) {
		if len(items.Of) != 1 || len(items.Except) > 0 || !items.Of[0].Word.Given() {
			return syntax.Word{}, false
		}
		return items.Of[0].Word, true
	}
	wrong := func(example string) {
		r.say(items.Span, "for example "+example, "the parameter %q wants %s", p.Name.Text, p.Type.Text)
	}
	// A parameter of the surrounding pattern is passed on.
	if len(items.Of) == 1 && len(items.Except) == 0 && items.Of[0].Peer != nil && items.Of[0].Peer.Kind == "name" &&
		!items.Of[0].Peer.Family.Given() {
		if outer, ok := x.params[items.Of[0].Peer.Name.Text]; ok {
			if outer.kind != b.kind {
				r.wrongKind(items.Of[0].Peer.Name, outer, b.kind)
			}
			return outer, outer.kind == b.kind
		}
	}
	switch b.kind {
	case "peers":
		var peers, except []syntax.Peer
		for k, list := range [][]syntax.Item{items.Of, items.Except} {
			for _, item := range list {
				if item.Peer == nil {
					wrong("list pilot-stations")
					return b, false
				}
				if k == 0 {
					peers = append(peers, *item.Peer)
				} else {
					except = append(except, *item.Peer)
				}
			}
		}
		b.sides = r.sides(syntax.Peers{Of: peers, Except: except}, x)
	case "services":
		var specs []syntax.Spec
		for _, item := range items.Of {
			switch {
			case item.Spec != nil:
				specs = append(specs, *item.Spec)
			case item.Peer != nil && item.Peer.Kind == "name" && !item.Peer.Family.Given():
				specs = append(specs, syntax.Spec{Node: item.Node, Kind: "name", Name: item.Peer.Name})
			default:
				wrong("ssh")
				return b, false
			}
		}
		if len(items.Except) > 0 {
			wrong("ssh")
			return b, false
		}
		b.specs, b.words = r.specs(specs, x)
	case "text":
		w, ok := one()
		if b.text = w.Text; !ok || !w.Quoted() {
			wrong(`"night desk"`)
			return b, false
		}
	case "number":
		w, ok := one()
		n, err := strconv.Atoi(w.Text)
		if b.number = n; !ok || w.Quoted() || err != nil {
			wrong("8443")
			return b, false
		}
	case "duration":
		w, ok := one()
		d, good := parseDuration(w.Text)
		if b.duration = d; !ok || w.Quoted() || !good {
			wrong("2h")
			return b, false
		}
	}
	return b, r.mistakes() == before
}

// duration resolves the ceiling of a lend.
func (r *resolver) duration(w syntax.Word, x setting) time.Duration {
	if b, ok := x.params[w.Text]; ok {
		if b.kind != "duration" {
			r.wrongKind(w, b, "duration")
		}
		return b.duration
	}
	d, ok := parseDuration(w.Text)
	switch {
	case !ok:
		r.say(w.Span, "for example 2h", "%q is not a duration: a name can stand here only for a parameter", w.Text)
	case d <= 0:
		r.say(w.Span, "for example 2h", "nothing can be lent for no time")
	case d > 365*24*time.Hour:
		r.say(w.Span, "for example 2h", "a year is the longest that anything can be lent for")
	}
	return d
}

// parseDuration reads 30s, 90m, 3h, 7d and combinations of them. More than a century counts as a
// century.
func parseDuration(text string) (time.Duration, bool) {
	const century = 100 * 365 * 24 * time.Hour
	var total time.Duration
	number, digits := 0, 0
	for _, c := range []byte(text) {
		switch {
		case c >= '0' && c <= '9':
			number, digits = min(number*10+int(c-'0'), 1<<24), digits+1
			continue
		case digits == 0:
			return 0, false
		case c == 's':
			total += time.Duration(number) * time.Second
		case c == 'm':
			total += time.Duration(number) * time.Minute
		case c == 'h':
			total += time.Duration(number) * time.Hour
		case c == 'd':
			total += min(time.Duration(number), 36500) * 24 * time.Hour
		default:
			return 0, false
		}
		total = min(total, century)
		number, digits = 0, 0
	}
	return total, text != "" && digits == 0
}

// baselines use patterns in many groups, after all other statements.
func (r *resolver) baselines() {
	for _, d := range r.baselineDecls {
		r.file = d.file
		var where *estate.Condition
		known, kinds := true, false // whether the condition says for which kind of group
		if d.node.Where != nil {
			known = r.usable(d.node.Where)
			where = r.condition(d.node.Where)
			kinds = slices.ContainsFunc(where.Tests(), func(t *estate.Condition) bool { return t.Label == "kind" })
		}
		matched, around := 0, 0 // matching groups, and matching subnet groups that are left out
		for _, g := range r.estate.Groups {
			if g.Existing || where != nil && !where.Holds(estate.GroupPlace(g)) {
				continue
			}
			if !kinds && g.For == estate.ForSubnets {
				around++
				continue
			}
			matched++
			r.file = d.file
			r.use(d.node.Use, setting{group: g})
		}
		if r.file = d.file; matched == 0 && known && !r.brokenPlaces {
			hint := ""
			if around > 0 {
				hint = "it is for groups of instances; for those of subnets say: where kind = subnets"
			}
			r.warn(d.node.Span, hint, "no group is in this scope, so the pattern is used nowhere")
		}
	}
}
