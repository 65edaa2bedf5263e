// Package resolve finds out what definitions mean: it makes an estate from the syntax trees of all
// files, and reports what has no meaning.
package resolve

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/near"
	"isonomos/core/service"
	"isonomos/nomos/parse"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

// Options are what the meaning depends on beside the text.
type Options struct {
	Name string    // the estate's name if no declaration gives one
	Now  time.Time // rules that end by then do not count
}

// A Result is what definitions mean.
type Result struct {
	Estate     *estate.Estate
	Expects    []law.Expectation
	Laws       []law.Law
	Exemptions []law.Exemption
	Doubts     []Doubt // messages that a survey can decide
}

// Files resolves the trees of all files of an estate together. The result is complete only if no
// message is an error. Time is linear in the number of rules for usual estates: names are looked up
// in tables.
func Files(files []*syntax.File, o Options) (Result, []source.Message) {
	r := &resolver{
		options:     o,
		estate:      &estate.Estate{Name: o.Name},
		declared:    make(map[string]declaration),
		groups:      make(map[string][]*estate.Group),
		groupByPath: make(map[string]*estate.Group),
		declOf:      make(map[*estate.Group]*syntax.Group),
		patterns:    make(map[string]*pattern),
		stood:       make(map[*syntax.Where]bool),
		looked:      make(map[*syntax.Condition]bool),
	}
	r.collect(files)
	r.places()
	r.services()
	r.lists()
	r.patternHeads()
	r.groupHeads()
	r.groupBodies()
	r.namesInClouds()
	r.connects()
	r.baselines()
	r.nowhere()
	r.laws()
	r.exempts()
	r.expects()
	return Result{r.estate, r.expectations, r.lawList, r.exemptions, r.doubts}, source.Sort(r.messages)
}

// A located is a piece of a tree, and its file.
type located[T any] struct {
	file *source.File
	node T
}

// A declaration is the first declaration of a name.
type declaration struct {
	file *source.File
	name syntax.Word
}

type resolver struct {
	options  Options
	estate   *estate.Estate
	messages []source.Message
	untold   int          // mistakes that follow from others and are not reported
	rules    int          // number in all groups so far
	used     int          // number so far
	file     *source.File // with the declaration that is being resolved

	declared map[string]declaration // by kind and full name

	// Declarations that the parser could not read are not reported as missing.
	broken       map[syntax.Decl]bool
	missing      map[string]bool // names of declarations that are not in the trees
	brokenPlaces bool            // a part of some account, network or group could not be read

	stood  map[*syntax.Where]bool     // conditions that hold somewhere
	looked map[*syntax.Condition]bool // for conditions that were looked at: whether all labels in them are known
	// what is being resolved takes effect nowhere, so any thing with a name will do
	anywhere bool

	estates       []located[*syntax.Estate]
	placeDecls    []located[*syntax.Place]
	listDecls     []located[*syntax.List]
	serviceDecls  []located[*syntax.Service]
	groupDecls    []located[*syntax.Group]
	patternDecls  []located[*syntax.Pattern]
	baselineDecls []located[*syntax.Baseline]
	connectDecls  []located[*syntax.Connect]
	lawDecls      []located[*syntax.Law]
	exemptDecls   []located[*syntax.Exempt]
	expectDecls   []located[*syntax.Expect]

	serviceNames  map[string]service.Named
	networkByPath map[string]*estate.Network
	networkByName map[string][]*estate.Network
	groups        map[string][]*estate.Group // by name
	groupByPath   map[string]*estate.Group
	declOf        map[*estate.Group]*syntax.Group
	bodies        []body
	emptyGroups   []string // names of groups that are in no network
	patterns      map[string]*pattern
	listByName    map[string]*estate.List
	vocabulary    estate.Vocabulary
	lawList       []law.Law
	exemptions    []law.Exemption
	expectations  []law.Expectation
	doubts        []Doubt
}

func (r *resolver) say(at source.Span, hint, format string, a ...any) {
	r.messages = append(r.messages, source.Message{File: r.file, Span: at, Text: fmt.Sprintf(format, a...), Hint: hint})
}

// unknown reports that nothing has a name, unless the name's declaration could not be read, which
// has been reported.
func (r *resolver) unknown(name syntax.Word, hint, format string) {
	for part := range strings.SplitSeq(name.Text, "/") {
		if r.missing[part] {
			r.untold++
			return
		}
	}
	r.say(name.Span, hint, format, name.Text)
}

// mistakes is the number of problems so far, reported or not, including warnings.
func (r *resolver) mistakes() int { return len(r.messages) + r.untold }

func (r *resolver) warn(at source.Span, hint, format string, a ...any) {
	r.say(at, hint, format, a...)
	r.messages[len(r.messages)-1].Warning = true
}

func (r *resolver) origin(at source.Span) estate.Origin {
	return estate.Origin{File: r.file.Name, Line: r.file.Line(at.Start), Offset: int(at.Start)}
}

// declare notes a name. A name that exists already is reported at both places.
func (r *resolver) declare(kind, full string, name syntax.Word) bool {
	key := kind + " " + full
	if before, ok := r.declared[key]; ok {
		place := fmt.Sprintf("%s:%d", before.file.Name, before.file.Line(before.name.Start))
		r.say(name.Span, "it is declared at "+place+" already", "there are two declarations of the %s %q", kind,
			name.Text)
		return false
	}
	r.declared[key] = declaration{r.file, name}
	return true
}

// mostHints is the number of mistakes after which no near names are suggested: nobody reads so
// many, and they usually have one cause.
const mostHints = 200

// nearest is a hint that suggests the nearest of some names.
func (r *resolver) nearest(name string, candidates []string) string {
	if len(r.messages) > mostHints {
		return ""
	}
	if best, ok := near.Best(name, candidates); ok {
		return strconv.Quote(best) + " is near"
	}
	return ""
}

// collect sorts the declarations by kind.
func (r *resolver) collect(files []*syntax.File) {
	r.broken, r.missing = make(map[syntax.Decl]bool), make(map[string]bool)
	for _, f := range files {
		r.file = f.Source
		for d := range f.Broken {
			r.broken[d] = true
			switch d.(type) {
			case *syntax.Place, *syntax.Group:
				r.brokenPlaces = true
			}
		}
		for _, name := range f.Missing {
			r.missing[name] = true
		}
		r.brokenPlaces = r.brokenPlaces || len(f.Missing) > 0
		for _, d := range f.Decls {
			switch d := d.(type) {
			case *syntax.Estate:
				r.estates = append(r.estates, located[*syntax.Estate]{f.Source, d})
			case *syntax.Place:
				r.placeDecls = append(r.placeDecls, located[*syntax.Place]{f.Source, d})
			case *syntax.List:
				r.listDecls = append(r.listDecls, located[*syntax.List]{f.Source, d})
			case *syntax.Service:
				r.serviceDecls = append(r.serviceDecls, located[*syntax.Service]{f.Source, d})
			case *syntax.Group:
				r.groupDecls = append(r.groupDecls, located[*syntax.Group]{f.Source, d})
			case *syntax.Pattern:
				r.patternDecls = append(r.patternDecls, located[*syntax.Pattern]{f.Source, d})
			case *syntax.Baseline:
				r.baselineDecls = append(r.baselineDecls, located[*syntax.Baseline]{f.Source, d})
			case *syntax.Connect:
				r.connectDecls = append(r.connectDecls, located[*syntax.Connect]{f.Source, d})
			case *syntax.Law:
				r.lawDecls = append(r.lawDecls, located[*syntax.Law]{f.Source, d})
			case *syntax.Exempt:
				r.exemptDecls = append(r.exemptDecls, located[*syntax.Exempt]{f.Source, d})
			case *syntax.Expect:
				r.expectDecls = append(r.expectDecls, located[*syntax.Expect]{f.Source, d})
			}
		}
	}
}

// places makes clouds, accounts, networks and subnets.
func (r *resolver) places() {
	for k, d := range r.estates {
		r.file = d.file
		if k > 0 {
			first := r.estates[0]
			r.say(d.node.Name.Span, fmt.Sprintf("it is named at %s:%d already", first.file.Name,
				first.file.Line(first.node.Start)), "the estate has two names")
			continue
		}
		r.estate.Name, r.estate.Title = d.node.Name.Text, d.node.Title.Text
	}
	for _, kind := range []string{"cloud", "account", "network"} {
		for _, d := range r.placeDecls {
			if r.file = d.file; d.node.Kind == kind {
				map[string]func(*syntax.Place){"cloud": r.cloud, "account": r.account,
					"network": r.network}[kind](d.node)
			}
		}
	}
	for _, d := range r.placeDecls {
		if r.file = d.file; d.node.Kind == "network" {
			r.peerings(d.node)
		}
	}
}

// once reports a setting that is given again.
func (r *resolver) once(p *syntax.Place, s syntax.Setting) bool {
	for _, other := range p.Settings {
		if other.Start < s.Start && other.Key.Text == s.Key.Text {
			r.say(s.Key.Span, fmt.Sprintf("line %d has one already", r.file.Line(other.Start)),
				"the %s %s has two settings %q", p.Kind, p.Name.Text, s.Key.Text)
			return false
		}
	}
	return true
}

func (r *resolver) cloud(p *syntax.Place) {
	if !r.declare("cloud", p.Name.Text, p.Name) {
		return
	}
	c := &estate.Cloud{Name: p.Name.Text, Origin: r.origin(p.Span)}
	for _, s := range p.Settings {
		if !r.once(p, s) {
			continue
		}
		switch s.Key.Text {
		case "at":
			c.Reach.At, c.Reach.AtEnv = s.Value.Text, s.Env
		case "token":
			c.Reach.TokenEnv = s.Value.Text
		case "profile":
			c.Reach.Profile = s.Value.Text
		case "dialect":
			c.Dialect = s.Value.Text
			if _, ok := dialect.Lookup(s.Value.Text); !ok {
				hint := r.nearest(s.Value.Text, dialect.Names())
				if hint == "" {
					hint = "one of: " + strings.Join(dialect.Names(), ", ")
				}
				r.say(s.Value.Span, hint, "no dialect is called %q", s.Value.Text)
			}
		}
	}
	r.secretPlace(p)
	if c.Dialect == "" && !r.broken[p] {
		r.say(p.Name.Span, "write one of: dialect "+strings.Join(dialect.Names(), ", dialect "),
			"the cloud %s does not say its dialect", p.Name.Text)
	}
	r.estate.Clouds = append(r.estate.Clouds, c)
}

// The environment variables of a cloud's address and token must end so.
const (
	addressVariable = "_URL"
	tokenVariable   = "_TOKEN"
)

// secretPlace makes sure that a cloud's token is only sent where the environment says: token env
// X_TOKEN needs at env X_URL. Definitions alone can thus neither send a secret anywhere nor make
// another variable be taken for an address or token.
func (r *resolver) secretPlace(p *syntax.Place) {
	var at, token *syntax.Setting
	for i := range p.Settings {
		switch s := &p.Settings[i]; s.Key.Text {
		case "at":
			at = s
		case "token":
			token = s
		}
	}
	if at != nil && at.Env && !endsIn(at.Value.Text, addressVariable) {
		r.say(at.Value.Span, "write for example: at env "+VariableOf(p.Name.Text)+addressVariable,
			"the variable that holds a cloud's address ends in %s", addressVariable)
		return
	}
	if token == nil {
		return
	}
	name := token.Value.Text
	if !endsIn(name, tokenVariable) {
		r.say(token.Value.Span, "write for example: token env "+VariableOf(p.Name.Text)+tokenVariable,
			"the variable that holds a cloud's token ends in %s", tokenVariable)
		return
	}
	wanted := strings.TrimSuffix(name, tokenVariable) + addressVariable
	if at == nil || !at.Env || at.Value.Text != wanted {
		r.say(token.Value.Span, "write: at env "+wanted, "the token %s goes only to where the variable %s says, "+
			"never to an address that a definition names", name, wanted)
	}
}

// endsIn reports whether a name has an ending, and something in front of it.
func endsIn(name, ending string) bool {
	return len(name) > len(ending) && strings.HasSuffix(name, ending)
}

// VariableOf is the usual beginning of a cloud's variables: its name, as a shell accepts it.
func VariableOf(cloud string) string { return strings.ToUpper(strings.ReplaceAll(cloud, "-", "_")) }

func (r *resolver) account(p *syntax.Place) {
	if !r.declare("account", p.Name.Text, p.Name) {
		return
	}
	a := &estate.Account{Name: p.Name.Text, Origin: r.origin(p.Span), Labels: estate.Labels{}, Limits: map[string]int{}}
	for _, s := range p.Settings {
		switch s.Key.Text {
		case "label":
			r.labels(a.Labels, s.Pairs)
			continue
		case "limit":
			r.limits(a.Limits, s.Pairs)
			continue
		}
		if !r.once(p, s) {
			continue
		}
		switch s.Key.Text {
		case "cloud":
			a.Cloud = r.findCloud(s.Value)
			if a.Cloud == nil {
				a.Cloud = &estate.Cloud{Name: s.Value.Text} // so that what refers to it can be resolved
			}
		case "id":
			a.ID = s.Value.Text
		case "region":
			a.Region = s.Value.Text
		case "folder":
			a.Folder = s.Value.Text
		}
	}
	if a.Cloud == nil {
		if !r.broken[p] {
			r.say(p.Name.Span, "write: cloud NAME", "the account %s does not say its cloud", p.Name.Text)
		}
		a.Cloud = &estate.Cloud{}
	}
	r.estate.Accounts = append(r.estate.Accounts, a)
}

func (r *resolver) limits(limits map[string]int, pairs []syntax.Pair) {
	for _, pair := range pairs {
		if !slices.Contains(dialect.Limits, pair.Key.Text) {
			hint := r.nearest(pair.Key.Text, dialect.Limits)
			if hint == "" {
				hint = "one of: " + strings.Join(dialect.Limits, ", ")
			}
			r.say(pair.Key.Span, hint, "no quota is called %q", pair.Key.Text)
		}
		n, err := strconv.Atoi(pair.Value.Text)
		if err != nil || n < 1 {
			r.say(pair.Value.Span, "", "a limit is a whole number from 1")
		}
		limits[pair.Key.Text] = n
	}
}

// dialectOf is the dialect of a group's cloud.
func dialectOf(g *estate.Group) dialect.Dialect {
	d, _ := dialect.Lookup(g.Account.Cloud.Dialect)
	return d
}

func (r *resolver) findCloud(name syntax.Word) *estate.Cloud {
	var names []string
	for _, c := range r.estate.Clouds {
		if c.Name == name.Text {
			return c
		}
		names = append(names, c.Name)
	}
	r.unknown(name, r.nearest(name.Text, names), "no cloud is called %q")
	return nil
}

func (r *resolver) labels(labels estate.Labels, pairs []syntax.Pair) {
	for _, pair := range pairs {
		if before, ok := labels[pair.Key.Text]; ok && before != pair.Value.Text {
			r.say(pair.Key.Span, "", "the label %q has the value %q already", pair.Key.Text, before)
		}
		labels[pair.Key.Text] = pair.Value.Text
	}
}

func (r *resolver) network(p *syntax.Place) {
	var account *estate.Account
	var names []string
	for _, a := range r.estate.Accounts {
		if a.Name == p.In.Text {
			account = a
		}
		names = append(names, a.Name)
	}
	if account == nil {
		r.unknown(p.In, r.nearest(p.In.Text, names), "no account is called %q")
		r.missing[p.Name.Text] = true
		return
	}
	n := &estate.Network{Account: account, Name: p.Name.Text, Labels: estate.Labels{}, Origin: r.origin(p.Span)}
	if !r.declare("network", n.Path(), p.Name) {
		return
	}
	for _, s := range p.Settings {
		switch s.Key.Text {
		case "label":
			r.labels(n.Labels, s.Pairs)
		case "id":
			if r.once(p, s) {
				n.ID = s.Value.Text
			}
		case "range":
			n.Ranges = append(n.Ranges, r.ranges(s.Ranges)...)
		case "subnet":
			sub := &estate.Subnet{Network: n, Name: s.Value.Text, Ranges: r.ranges(s.Ranges), Origin: r.origin(s.Span)}
			if r.declare("subnet", sub.Path(), s.Value) {
				n.Subnets = append(n.Subnets, sub)
			}
		case "answers":
			if r.once(p, s) {
				n.Answers = estate.Ports{From: uint16(s.From), To: uint16(s.To)}
			}
		case "region":
			r.once(p, s)
		}
	}
	for i, sub := range n.Subnets {
		for _, prefix := range sub.Ranges {
			if len(n.Ranges) > 0 && !slices.ContainsFunc(n.Ranges, func(outer netip.Prefix) bool {
				return outer.Bits() <= prefix.Bits() && outer.Contains(prefix.Addr())
			}) {
				at := subnetSettings(p)[i]
				r.say(at.Ranges[0].Span, "",
					"the subnet %s has the range %s, which is outside of the network's ranges", sub.Name, prefix)
			}
		}
	}
	r.estate.Networks = append(r.estate.Networks, n)
	if r.networkByPath == nil {
		r.networkByPath, r.networkByName = make(map[string]*estate.Network), make(map[string][]*estate.Network)
	}
	r.networkByPath[n.Path()] = n
	r.networkByName[n.Name] = append(r.networkByName[n.Name], n)
}

func subnetSettings(p *syntax.Place) []syntax.Setting {
	var subnets []syntax.Setting
	for _, s := range p.Settings {
		if s.Key.Text == "subnet" {
			subnets = append(subnets, s)
		}
	}
	return subnets
}

// ranges reads written ranges. Host bits are an error that suggests the range that was meant.
func (r *resolver) ranges(written []syntax.Range) []netip.Prefix {
	var ranges []netip.Prefix
	for _, w := range written {
		ranges = append(ranges, r.prefix(w))
	}
	return ranges
}

func (r *resolver) prefix(w syntax.Range) netip.Prefix {
	masked := w.Prefix.Masked()
	if masked != w.Prefix {
		r.say(w.Span, fmt.Sprintf("write %s for the range, or %s for the address", masked, w.Prefix.Addr()),
			"the range %s has host bits set", w.Prefix)
	}
	return masked
}

func (r *resolver) peerings(p *syntax.Place) {
	n := r.networkByPath[p.In.Text+"/"+p.Name.Text]
	if n == nil {
		return
	}
	for _, s := range p.Settings {
		for _, path := range s.Paths {
			if other := r.findNetwork(path); other != nil && !slices.Contains(n.Peered, other) {
				n.Peered = append(n.Peered, other)
			}
		}
	}
}

// findNetwork finds a network by account/network, or by its name alone if that is unique.
func (r *resolver) findNetwork(path syntax.Word) *estate.Network {
	if n := r.networkByPath[path.Text]; n != nil {
		return n
	}
	found := r.networkByName[path.Text]
	if len(found) == 1 {
		return found[0]
	}
	var names []string
	if len(found) > 1 {
		for _, n := range found {
			names = append(names, n.Path())
		}
		r.say(path.Span, "write "+oneOfPaths(names), "several networks are called %q", path.Text)
		return nil
	}
	for _, n := range r.estate.Networks {
		names = append(names, n.Name, n.Path())
	}
	r.unknown(path, r.nearest(path.Text, names), "no network is called %q")
	return nil
}

func (r *resolver) services() {
	type entry struct {
		located[*syntax.Service]
		done, busy bool
	}
	r.serviceNames = make(map[string]service.Named)
	for _, n := range service.Builtin {
		r.serviceNames[n.Name] = n
	}
	byName := make(map[string]*entry)
	var order []*entry
	for _, d := range r.serviceDecls {
		r.file = d.file
		name := d.node.Name
		if _, ok := (service.Names{}).Lookup(name.Text); ok {
			r.say(name.Span, "choose another name", "%q is a built-in service and can't be declared again", name.Text)
			continue
		}
		if r.declare("service", name.Text, name) {
			e := &entry{located: d}
			byName[name.Text] = e
			order = append(order, e)
		}
	}
	var define func(e *entry)
	define = func(e *entry) {
		if e.done {
			return
		}
		e.busy = true
		for _, s := range e.node.Services {
			if other := byName[s.Name.Text]; s.Kind == "name" && other != nil {
				if other.busy {
					r.file = e.file
					r.say(s.Span, "", "the service %q uses itself", e.node.Name.Text)
					r.serviceNames[e.node.Name.Text] = service.Named{Name: e.node.Name.Text}
					e.done, e.busy = true, false
					return
				}
				define(other)
			}
		}
		r.file = e.file
		specs, _ := r.specs(e.node.Services, setting{})
		named := service.Named{Name: e.node.Name.Text, Specs: specs}
		if e.node.Class.Given() {
			named.Classes = []string{e.node.Class.Text}
		}
		r.estate.Services = r.estate.Services.With(named)
		r.serviceNames[named.Name] = named
		e.done, e.busy = true, false
	}
	for _, e := range order {
		define(e)
	}
}

// specs resolves services, and returns the words with which sentences show them.
func (r *resolver) specs(written []syntax.Spec, x setting) (specs []service.Spec, words []string) {
	specs, words = make([]service.Spec, 0, len(written)), make([]string, 0, len(written))
	for _, w := range written {
		if b, ok := x.params[w.Name.Text]; ok && w.Kind == "name" {
			if b.kind != "services" {
				r.wrongKind(w.Name, b, "services")
			}
			specs, words = append(specs, b.specs...), append(words, b.words...)
			continue
		}
		specs = r.appendSpec(specs, w, x)
		words = append(words, r.specWords(w, x))
	}
	return specs, words
}

// specWords are a service's words, with arguments in place of parameters.
func (r *resolver) specWords(w syntax.Spec, x setting) string {
	text := r.file.Of(w.Span)
	for i := len(w.Ports) - 1; i >= 0; i-- {
		if p := w.Ports[i]; p.Name.Given() {
			at, end := p.Start-w.Start, p.End-w.Start
			text = text[:at] + strconv.Itoa(x.params[p.Name.Text].number) + text[end:]
		}
	}
	if strings.ContainsAny(text, "\t\n#") || strings.Contains(text, "  ") {
		text = oneLine(r.file, w.Span)
	}
	return text
}

// number is the number that is the argument of a parameter.
func (r *resolver) number(name syntax.Word, x setting, limit int, what string) (int, bool) {
	b, ok := x.params[name.Text]
	switch {
	case !ok:
		r.say(name.Span, "", "%q is not %s: a name can stand here only for a parameter", name.Text, what)
	case b.kind != "number":
		r.wrongKind(name, b, "number")
		ok = false
	case b.number > limit:
		r.say(name.Span, "", "the parameter %q is %d, and %s goes from 0 to %d", name.Text, b.number, what, limit)
		ok = false
	}
	return b.number, ok
}

// appendSpec resolves one service.
func (r *resolver) appendSpec(specs []service.Spec, w syntax.Spec, x setting) []service.Spec {
	switch w.Kind {
	case "any":
		return append(specs, service.Anything)
	case "tcp", "udp", "sctp", "dccp", "udplite":
		protocol, _ := service.ParseProtocol(w.Kind)
		if len(w.Ports) == 0 {
			return append(specs, service.Whole(protocol))
		}
		for _, p := range w.Ports {
			if p.Name.Given() {
				n, ok := r.number(p.Name, x, 65535, "a port")
				if ok {
					specs = append(specs, service.Ports(protocol, uint16(n), uint16(n)))
				}
				continue
			}
			specs = append(specs, service.Ports(protocol, uint16(p.From), uint16(p.To)))
		}
		return specs
	case "icmp", "icmpv6":
		protocol, _ := service.ParseProtocol(w.Kind)
		switch {
		case w.Name.Given():
			typ, ok := service.ICMPTypeNamed(protocol, w.Name.Text)
			if b, bound := x.params[w.Name.Text]; bound {
				n, _ := r.number(w.Name, x, 255, "an ICMP type")
				typ, ok = uint8(n), b.kind == "number"
			}
			if !ok {
				r.say(w.Name.Span, r.nearest(w.Name.Text, service.ICMPNames(protocol)), "no %s type is called %q",
					w.Kind, w.Name.Text)
			}
			return append(specs, service.ICMPType(protocol, typ))
		case w.Code >= 0:
			return append(specs, service.ICMPCode(protocol, uint8(w.Type), uint8(w.Code)))
		case w.Type >= 0:
			return append(specs, service.ICMPType(protocol, uint8(w.Type)))
		}
		return append(specs, service.Whole(protocol))
	case "protocol":
		return append(specs, service.Whole(uint8(w.Type)))
	case "class":
		set, ok := r.estate.Services.Class(w.Name.Text)
		if !ok {
			r.say(w.Name.Span, r.nearest(w.Name.Text, r.classes()), "no service is of the class %q", w.Name.Text)
		}
		return append(specs, set.Specs()...)
	}
	named, ok := r.serviceNames[w.Name.Text]
	if !ok {
		r.unknown(w.Name, r.nearService(w.Name.Text), "no service is called %q")
	}
	return append(specs, named.Specs...)
}

func (r *resolver) classes() []string {
	var classes []string
	for _, n := range r.estate.Services.All() {
		classes = append(classes, n.Classes...)
	}
	return classes
}

func (r *resolver) nearService(name string) string {
	for _, ours := range parse.Meant(name) {
		if ours == "any" || ours == "icmpv6" {
			return "write " + strconv.Quote(ours)
		}
	}
	if len(r.messages) > mostHints {
		return "a service is a name or for example tcp 8443"
	}
	var names []string
	for _, n := range r.estate.Services.All() {
		names = append(names, n.Name)
	}
	best, ok := near.Best(name, names)
	if !ok {
		return "a service is a name or for example tcp 8443"
	}
	named := r.serviceNames[best]
	return fmt.Sprintf("%q (%s) is near", best, named.Set())
}

func (r *resolver) lists() {
	r.listByName = make(map[string]*estate.List)
	decls := make(map[*estate.List]located[*syntax.List])
	for _, d := range r.listDecls {
		if r.file = d.file; !r.declare("list", d.node.Name.Text, d.node.Name) {
			continue
		}
		l := &estate.List{Name: d.node.Name.Text, Owner: "own", Description: d.node.Title.Text, Defined: true,
			Origin: r.origin(d.node.Span)}
		r.listByName[l.Name] = l
		r.estate.Lists = append(r.estate.Lists, l)
		decls[l] = d
	}
	const fresh, busy, done = 0, 1, 2
	state := make(map[*estate.List]int)
	var fill func(l *estate.List)
	fill = func(l *estate.List) {
		state[l] = busy
		d := decls[l]
		r.file = d.file
		if d.node.Published.Given() {
			l.Owner = "published"
			l.Published = append(l.Published, estate.Published{Name: d.node.Published.Text})
		}
		// take reads lines, with or without a condition.
		var take func(lines []syntax.ListLine, where []estate.Condition)
		take = func(lines []syntax.ListLine, where []estate.Condition) {
			part := estate.ListPart{}
			for _, line := range lines {
				switch {
				case line.List.Given():
					other := r.findList(line.List)
					if other == nil {
						continue
					}
					if state[other] == busy {
						r.say(line.List.Span, "", "the list %q holds itself", l.Name)
						continue
					}
					if state[other] == fresh {
						fill(other)
						r.file = d.file
					}
					part.Entries = append(part.Entries, other.Entries...)
					part.Published = append(part.Published, other.Published...)
					for _, p := range other.Parts {
						l.Parts = append(l.Parts,
							estate.ListPart{Where: allOf(append(slices.Clip(where), *p.Where)), Entries: p.Entries,
								Published: p.Published})
					}
				case line.Room.Given():
					n, err := strconv.Atoi(line.Room.Text)
					if err != nil || n < 1 || n > 1_000_000 {
						r.say(line.Room.Span, "", "room is a number from 1 to 1,000,000")
						continue
					}
					l.Capacity = n
				case line.Published.Given():
					if c := r.findCloud(line.On); c != nil {
						part.Published = append(part.Published, estate.Published{Name: line.Published.Text, Cloud: c})
					}
				case line.Where != nil:
					take(line.Lines, append(slices.Clip(where), *r.placeCondition(line.Where)))
				default:
					part.Entries = append(part.Entries, estate.Entry{Range: r.prefix(line.Range), Note: line.Note.Text})
				}
			}
			if len(where) == 0 {
				l.Entries, l.Published = append(l.Entries, part.Entries...), append(l.Published, part.Published...)
			} else if len(part.Entries)+len(part.Published) > 0 {
				part.Where = allOf(where)
				l.Parts = append(l.Parts, part)
			}
		}
		take(d.node.Lines, nil)
		if l.Capacity > 0 && len(l.Entries) > l.Capacity {
			r.say(d.node.Name.Span, fmt.Sprintf("write: room %d", len(l.Entries)),
				"the list %s has room for %d entries and holds %d", l.Name, l.Capacity, len(l.Entries))
		}
		state[l] = done
	}
	for _, l := range r.estate.Lists {
		if state[l] == fresh {
			fill(l)
		}
	}
}

// allOf is the condition that several conditions hold.
func allOf(conditions []estate.Condition) *estate.Condition {
	if len(conditions) == 1 {
		return &conditions[0]
	}
	return &estate.Condition{Kind: estate.AllOf, Parts: conditions}
}

func (r *resolver) findList(name syntax.Word) *estate.List {
	if l := r.listByName[name.Text]; l != nil {
		return l
	}
	var names []string
	for _, l := range r.estate.Lists {
		names = append(names, l.Name)
	}
	r.unknown(name, r.nearest(name.Text, names), "no list is called %q")
	return nil
}
