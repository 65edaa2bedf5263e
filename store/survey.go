// Package store reads and writes surveys, and keeps evidence, the journal and locks in an embedded
// database.
package store

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
)

// SurveyVersion is the version of the survey format that is read and written.
const SurveyVersion = 1

// A SurveyError is a mistake in a survey.
type SurveyError struct {
	File string
	Line int
	Err  error
}

// Error is "file:line: what is wrong".
func (e *SurveyError) Error() string { return fmt.Sprintf("%s:%d: %v", e.File, e.Line, e.Err) }

// Unwrap is what is wrong, without the place.
func (e *SurveyError) Unwrap() error { return e.Err }

// maxSurveyLine is the longest line, in bytes.
const maxSurveyLine = 64 << 20

// ReadSurvey reads a survey (JSON Lines). The name is only used in origins and messages. Warnings
// are about what was ignored, each with its place, in the order of the file. Memory and time are
// linear in the size of the survey. Lines are decoded on all processors while further ones are
// read. An error means that nothing of the survey can be used.
func ReadSurvey(r io.Reader, file string) (*estate.Estate, []string, error) {
	s := surveyReader{
		file: file, estate: &estate.Estate{},
		clouds: make(table[estate.Cloud]), accounts: make(table[estate.Account]),
		networks: make(table[estate.Network]), subnets: make(table[estate.Subnet]),
		groups: make(table[estate.Group]), lists: make(table[estate.List]), instances: make(table[estate.Instance]),
	}
	err := s.readChunks(r)
	if err == nil && !s.headed {
		err = fmt.Errorf(`%s is empty: a survey begins with a line {"kind":"survey","version":1,…}`, file)
	}
	if err == nil {
		err = s.resolve()
	}
	slices.SortStableFunc(s.warnings, func(a, b warning) int { return a.line - b.line })
	warnings := make([]string, len(s.warnings))
	for i, w := range s.warnings {
		warnings[i] = fmt.Sprintf("%s:%d: %s", file, w.line, w.text)
	}
	if err != nil {
		return nil, warnings, err
	}
	return s.estate, warnings, nil
}

// A ref identifies an object: by account and id; clouds and accounts by name.
type ref struct{ account, id string }

type table[T any] map[ref]*T

// find finds an object; id is an id in the account, or ACCOUNT/ID.
func (t table[T]) find(account, id string) (*T, bool) {
	if found, ok := t[ref{account, id}]; ok {
		return found, true
	}
	if other, rest, ok := strings.Cut(id, "/"); ok {
		found, ok := t[ref{other, rest}]
		return found, ok
	}
	return nil, false
}

type pending struct {
	record
	line int
}

type warning struct {
	line int
	text string
}

type surveyReader struct {
	file      string
	estate    *estate.Estate
	headed    bool
	clouds    table[estate.Cloud]
	accounts  table[estate.Account]
	networks  table[estate.Network]
	subnets   table[estate.Subnet]
	groups    table[estate.Group]
	lists     table[estate.List]
	instances table[estate.Instance]
	chunks    []chunk
	warnings  []warning
}

func (s *surveyReader) warn(line int, format string, a ...any) {
	s.warnings = append(s.warnings, warning{line, fmt.Sprintf(format, a...)})
}

func (s *surveyReader) fail(line int, format string, a ...any) error {
	return &SurveyError{s.file, line, fmt.Errorf(format, a...)}
}

// A stage makes objects from the lines of one kind.
type stage struct {
	kind string
	make func(*pending) error
}

// resolve makes objects from the lines, kind by kind, so that each finds those that it refers to.
func (s *surveyReader) resolve() error {
	stages := func(stages ...stage) error {
		for _, x := range stages {
			for c := range s.chunks {
				for _, p := range s.chunks[c].lines[x.kind] {
					if err := x.make(p); err != nil {
						return err
					}
				}
			}
		}
		return nil
	}
	n := 0
	for c := range s.chunks {
		n += len(s.chunks[c].lines["group"])
	}
	s.groups, s.estate.Groups = make(table[estate.Group], n), make([]*estate.Group, 0, n)
	if err := stages(stage{"cloud", s.cloud}, stage{"account", s.account}, stage{"network", s.network},
		stage{"list", s.list}, stage{"group", s.group}, stage{"subnet", s.subnet},
		stage{"unread", s.unread}); err != nil {
		return err
	}
	// Rules and instances are independent of each other.
	var both errgroup.Group
	both.Go(s.allInstances)
	rules := s.rules()
	if err := both.Wait(); err != nil {
		return err
	}
	if rules != nil {
		return rules
	}
	// References to objects of the same kind come last.
	return stages(stage{"network", s.peerings}, stage{"subnet", s.routes})
}

// add adds an object. A second one with the same id is an error.
func add[T any](s *surveyReader, p *pending, t table[T], id string, object *T, line func(*T) int) error {
	key := ref{p.Account, id}
	if p.Kind == "cloud" || p.Kind == "account" {
		key.account = ""
	}
	return addAs(s, asker{p.Kind, id, p.line}, t, key, object, line)
}

func addAs[T any](s *surveyReader, by asker, t table[T], key ref, object *T, line func(*T) int) error {
	if key.id == "" {
		return s.fail(by.line, "the %s has no %s", by.kind,
			map[bool]string{true: `"name"`, false: `"id"`}[by.kind == "cloud" || by.kind == "account"])
	}
	if before, ok := t[key]; ok {
		return s.fail(by.line, "the %s %q was on line %d already", by.kind, key.id, line(before))
	}
	t[key] = object
	return nil
}

// An asker is a line with a reference.
type asker struct {
	kind, id string
	line     int
}

func (p *pending) asker() asker { return asker{p.Kind, p.ID, p.line} }

// must finds an object that a line must refer to.
func must[T any](s *surveyReader, by asker, t table[T], kind, account, id string) (*T, error) {
	object, ok := t.find(account, id)
	if ok {
		return object, nil
	}
	if id == "" {
		return nil, s.fail(by.line, "the %s %q names no %s", by.kind, by.id, kind)
	}
	return nil, s.fail(by.line, "the %s %q belongs to the %s %q, which is not in this survey", by.kind, by.id, kind, id)
}

func (s *surveyReader) origin(p *pending) estate.Origin {
	return estate.Origin{File: s.file, Line: p.line}
}

func (s *surveyReader) cloud(p *pending) error {
	if _, ok := dialect.Lookup(p.Dialect); !ok {
		return s.fail(p.line, "the cloud %q has the dialect %q: it is one of %s", p.Name, p.Dialect,
			strings.Join(dialect.Names(), ", "))
	}
	c := &estate.Cloud{Name: p.Name, Dialect: p.Dialect, Origin: s.origin(p)}
	s.estate.Clouds = append(s.estate.Clouds, c)
	return add(s, p, s.clouds, p.Name, c, func(c *estate.Cloud) int { return c.Origin.Line })
}

func (s *surveyReader) account(p *pending) error {
	c, err := must(s, p.asker(), s.clouds, "cloud", "", p.Cloud)
	if err != nil {
		return err
	}
	a := &estate.Account{Name: p.Name, Cloud: c, ID: p.ID, Region: p.Region, Folder: p.Folder, Labels: p.Labels,
		Limits: p.Limits, Origin: s.origin(p)}
	s.estate.Accounts = append(s.estate.Accounts, a)
	return add(s, p, s.accounts, p.Name, a, func(a *estate.Account) int { return a.Origin.Line })
}

// unread notes an account or a cloud that could not be surveyed.
func (s *surveyReader) unread(p *pending) error {
	u := estate.Unread{Account: p.Account, Cloud: p.Cloud, Reason: p.Reason}
	if (p.Account == "") == (p.Cloud == "") {
		return &SurveyError{s.file, p.line, errors.New("what is unread is an account or a cloud: one of them")}
	}
	s.estate.Unread = append(s.estate.Unread, u)
	s.warn(p.line, "%s was not read when this was surveyed (%s): nothing is known of what is there",
		u.Words(), p.Reason)
	return nil
}

func (s *surveyReader) network(p *pending) error {
	a, err := must(s, p.asker(), s.accounts, "account", "", p.Account)
	if err != nil {
		return err
	}
	ranges, err := s.prefixes(p, p.Ranges)
	if err != nil {
		return err
	}
	n := &estate.Network{Account: a, ID: p.ID, Name: orElse(p.Name, p.ID), Ranges: ranges, Labels: p.Labels,
		Origin: s.origin(p)}
	if p.Answers != "" {
		spec, err := service.ParseSpec("tcp " + p.Answers)
		if err != nil {
			return s.fail(p.line, `"answers" is %q: write the client ports like 32768-60999`, p.Answers)
		}
		n.Answers = estate.Ports{From: spec.From, To: spec.To}
	}
	s.estate.Networks = append(s.estate.Networks, n)
	return add(s, p, s.networks, p.ID, n, func(n *estate.Network) int { return n.Origin.Line })
}

func (s *surveyReader) peerings(p *pending) error {
	n, _ := s.networks.find(p.Account, p.ID)
	for _, ref := range p.Peers.networks {
		if other, ok := s.networks.find(orElse(ref.Account, p.Account), ref.Network); ok {
			n.Peered = append(n.Peered, other)
		} else {
			s.warn(p.line, "the network %s is peered with %s/%s, which is not in this survey", n.Path(),
				orElse(ref.Account, p.Account), ref.Network)
		}
	}
	return nil
}

func (s *surveyReader) list(p *pending) error {
	a, err := must(s, p.asker(), s.accounts, "account", "", p.Account)
	if err != nil {
		return err
	}
	ranges, err := s.prefixes(p, p.Entries)
	if err != nil {
		return err
	}
	l := &estate.List{Account: a, ID: p.ID, Name: orElse(p.Name, p.ID), Owner: orElse(p.Owner, "own"),
		Region: p.Region, Description: p.Description, Capacity: p.Capacity, Origin: s.origin(p)}
	l.Labels, l.Made = withoutMade(p.Labels)
	for _, r := range ranges {
		l.Entries = append(l.Entries, estate.Entry{Range: r})
	}
	s.estate.Lists = append(s.estate.Lists, l)
	return add(s, p, s.lists, p.ID, l, func(l *estate.List) int { return l.Origin.Line })
}

func (s *surveyReader) group(p *pending) error {
	a, err := must(s, p.asker(), s.accounts, "account", "", p.Account)
	if err != nil {
		return err
	}
	g := &estate.Group{Account: a, ID: p.ID, Name: orElse(p.Name, p.ID),
		For: estate.GroupKind(orElse(p.For, "instances")), Description: p.Description,
		BuiltIn: p.BuiltIn, Default: p.Default, Stateless: p.Stateful != nil && !*p.Stateful, Origin: s.origin(p)}
	g.Labels, g.Made = withoutMade(p.Labels)
	if g.For != estate.ForInstances && g.For != estate.ForSubnets {
		return s.fail(p.line, `the group %q is "for" %q: write instances or subnets`, p.ID, p.For)
	}
	if p.Network != "" {
		if g.Network, err = must(s, p.asker(), s.networks, "network", p.Account, p.Network); err != nil {
			return err
		}
	}
	s.estate.Groups = append(s.estate.Groups, g)
	return add(s, p, s.groups, p.ID, g, func(g *estate.Group) int { return g.Origin.Line })
}

// withoutMade takes the label out of labels that says which run made something.
func withoutMade(labels estate.Labels) (rest estate.Labels, made string) {
	made, there := labels[estate.MadeLabel]
	if !there {
		return labels, ""
	}
	rest = maps.Clone(labels)
	if delete(rest, estate.MadeLabel); len(rest) == 0 {
		rest = nil
	}
	return rest, made
}

// withMade is the reverse of withoutMade.
func withMade(labels estate.Labels, made string) estate.Labels {
	if made == "" {
		return labels
	}
	all := make(estate.Labels, len(labels)+1)
	maps.Copy(all, labels)
	all[estate.MadeLabel] = made
	return all
}

func (s *surveyReader) subnet(p *pending) error {
	n, err := must(s, p.asker(), s.networks, "network", p.Account, p.Network)
	if err != nil {
		return err
	}
	ranges, err := s.prefixes(p, p.Ranges)
	if err != nil {
		return err
	}
	sub := &estate.Subnet{Network: n, ID: p.ID, Name: orElse(p.Name, p.ID), Ranges: ranges, RoutesKnown: true,
		Labels: p.Labels, Origin: s.origin(p)}
	for _, r := range ranges {
		if len(n.Ranges) > 0 && !slices.ContainsFunc(n.Ranges,
			func(whole netip.Prefix) bool { return whole.Overlaps(r) && whole.Bits() <= r.Bits() }) {
			s.warn(p.line, "the subnet %s has the range %s, which is in no range of its network", sub.Path(), r)
		}
	}
	if sub.Groups, err = s.attached(p.asker(), p.Account, p.Groups); err != nil {
		return err
	}
	n.Subnets = append(n.Subnets, sub)
	return add(s, p, s.subnets, p.ID, sub, func(sub *estate.Subnet) int { return sub.Origin.Line })
}

// attached finds groups by id. It warns of groups that are not in the survey: they filter nothing.
func (s *surveyReader) attached(by asker, account string, refs []string) (groups []*estate.Group, err error) {
	if len(refs) == 0 {
		return nil, nil
	}
	groups = make([]*estate.Group, 0, len(refs))
	for _, ref := range refs {
		g, ok := s.groups.find(account, ref)
		if !ok {
			return nil, s.fail(by.line, "the %s %q has the group %q attached, which is not in this survey", by.kind,
				by.id, ref)
		}
		groups = append(groups, g)
	}
	return groups, nil
}

func (s *surveyReader) routes(p *pending) error {
	sub, _ := s.subnets.find(p.Account, p.ID)
	for _, r := range p.Routes {
		to, err := s.prefixes(p, []string{r.To})
		if err != nil {
			return err
		}
		route := estate.Route{To: to[0], Via: estate.Via(r.Via)}
		switch route.Via {
		case estate.ViaInternet, estate.ViaPrivateLine, estate.ViaLocal, estate.ViaDrop:
		case estate.ViaNAT:
			if r.Address != "" {
				if route.Address, err = netip.ParseAddr(r.Address); err != nil {
					return s.fail(p.line, "the nat route's address %q is not an IP address", r.Address)
				}
			}
		case estate.ViaPeer:
			other, ok := s.networks.find(orElse(r.Account, p.Account), r.Network)
			if !ok {
				other, ok = s.peeredByID(sub.Network, r.Network)
			}
			if !ok {
				s.warn(p.line, "the route %s leads to the network %q, which is not in this survey", r.To, r.Network)
			}
			route.Network = other
		default:
			return s.fail(p.line, "a route goes via internet, nat, peer, private-line, local or drop, not via %q",
				r.Via)
		}
		sub.Routes = append(sub.Routes, route)
	}
	return nil
}

// peeredByID finds the network of another account that a route names by id only.
func (s *surveyReader) peeredByID(n *estate.Network, id string) (*estate.Network, bool) {
	for _, p := range s.estate.Networks {
		if p.ID == id && (slices.Contains(n.Peered, p) || slices.Contains(p.Peered, n)) {
			return p, true
		}
	}
	return nil, false
}

// allInstances makes the instances in parallel, then adds them one by one, and then resolves the
// targets of balancers.
func (s *surveyReader) allInstances() error {
	made := make([][]*estate.Instance, len(s.chunks))
	err := s.inParallel(func(c int) error {
		made[c] = make([]*estate.Instance, len(s.chunks[c].instances))
		for i := range s.chunks[c].instances {
			var err error
			if made[c][i], err = s.instance(&s.chunks[c].instances[i]); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	n := 0
	for c := range made {
		n += len(made[c])
	}
	s.instances, s.estate.Instances = make(table[estate.Instance], n), make([]*estate.Instance, 0, n)
	for c := range s.chunks {
		s.estate.Instances = append(s.estate.Instances, made[c]...)
		for i, in := range made[c] {
			p := &s.chunks[c].instances[i]
			if err := addAs(s, p.asker(), s.instances, ref{p.account, p.id}, in,
				func(in *estate.Instance) int { return in.Origin.Line }); err != nil {
				return err
			}
		}
	}
	for c := range s.chunks {
		for i := range s.chunks[c].instances {
			if err := s.listeners(&s.chunks[c].instances[i], made[c][i]); err != nil {
				return err
			}
		}
		s.chunks[c].instances = nil
	}
	return nil
}

// instance makes an instance. It has no side effects, so that several can be made at once.
func (s *surveyReader) instance(p *instanceLine) (*estate.Instance, error) {
	a, err := must(s, p.asker(), s.accounts, "account", "", p.account)
	if err != nil {
		return nil, err
	}
	in := &estate.Instance{Account: a, ID: p.id, Name: orElse(p.name, p.id),
		Kind: estate.InstanceKind(orElse(p.kind, "machine")), Labels: p.labels,
		Origin: estate.Origin{File: s.file, Line: p.line}}
	for _, r := range p.interfaces {
		i := &estate.Interface{Instance: in, ID: r.ID, Unfiltered: r.Filtered != nil && !*r.Filtered}
		if i.Subnet, err = must(s, p.asker(), s.subnets, "subnet", p.account, r.Subnet); err != nil {
			return nil, err
		}
		if i.Groups, err = s.attached(p.asker(), p.account, r.Groups); err != nil {
			return nil, err
		}
		if i.Private, err = s.addresses(p.line, r.Private); err != nil {
			return nil, err
		}
		if i.Public, err = s.addresses(p.line, r.Public); err != nil {
			return nil, err
		}
		in.Interfaces = append(in.Interfaces, i)
	}
	return in, nil
}

func (s *surveyReader) listeners(p *instanceLine, in *estate.Instance) error {
	for _, r := range p.listeners {
		l := estate.Listener{}
		var err error
		if l.Service, err = service.ParseSpec(r.Service); err != nil {
			return s.fail(p.line, "a listener's service: %w", err)
		}
		if r.Port < 0 || r.Port > 65535 {
			return s.fail(p.line, "a listener's port is %d: it goes from 0 to 65535", r.Port)
		}
		l.Port = uint16(r.Port)
		if r.Probe != "" {
			if l.Probe, err = service.ParseSpec(r.Probe); err != nil {
				return s.fail(p.line, "a listener's probe: %w", err)
			}
		}
		for _, ref := range r.Targets {
			target, ok := s.instances.find(p.account, ref)
			if !ok {
				s.warn(p.line, "the balancer %s hands on to %q, which is not in this survey", in.Name, ref)
				continue
			}
			l.Targets = append(l.Targets, target)
		}
		in.Listeners = append(in.Listeners, l)
	}
	return nil
}

// prefixes reads ranges and addresses. Host bits are cleared, with a warning.
func (s *surveyReader) prefixes(p *pending, texts []string) ([]netip.Prefix, error) {
	var list []netip.Prefix
	for _, text := range texts {
		prefix, err := ParseRange(text)
		if err != nil {
			return nil, s.fail(p.line, "%w", err)
		}
		if masked := prefix.Masked(); masked != prefix {
			s.warn(p.line, "the range %s has host bits: read as %s", text, masked)
			prefix = masked
		}
		list = append(list, prefix)
	}
	return list, nil
}

func (s *surveyReader) addresses(line int, texts []string) ([]netip.Addr, error) {
	if len(texts) == 0 {
		return nil, nil
	}
	list := make([]netip.Addr, 0, len(texts))
	for _, text := range texts {
		a, err := netip.ParseAddr(text)
		if err != nil || a.Zone() != "" || a.Is4In6() {
			return nil, s.fail(line, "%q is not an IP address", text)
		}
		list = append(list, a)
	}
	return list, nil
}

func orElse(text, fallback string) string {
	if text == "" {
		return fallback
	}
	return text
}
