// Package store reads and writes what the program keeps: surveys, for now.
package store

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"time"

	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/near"
	"isonomos/core/service"
)

// SurveyVersion is the version of the survey format that is read and written.
const SurveyVersion = 1

// A line of a survey. Every kind of object uses some of the fields; what a line
// has beyond them is ignored.
type record struct {
	Kind    string `json:"kind"`
	Account string `json:"account,omitempty"`
	Network string `json:"network,omitempty"`
	Group   string `json:"group,omitempty"`
	ID      string `json:"id,omitempty"`
	Name    string `json:"name,omitempty"`

	// survey
	Version int    `json:"version,omitempty"`
	Taken   string `json:"taken,omitempty"`
	Estate  string `json:"estate,omitempty"`

	// cloud, account
	Dialect string            `json:"dialect,omitempty"`
	Cloud   string            `json:"cloud,omitempty"`
	Region  string            `json:"region,omitempty"`
	Folder  string            `json:"folder,omitempty"`
	Labels  map[string]string `json:"labels,omitempty"`
	Limits  map[string]int    `json:"limits,omitempty"`

	// network, subnet
	Ranges  []string      `json:"ranges,omitempty"`
	Answers string        `json:"answers,omitempty"`
	Peers   peers         `json:"peers,omitzero"` // of a network: networks; of a rule: texts
	Routes  []routeRecord `json:"routes,omitempty"`
	Groups  []string      `json:"groups,omitempty"`

	// instance
	Type       string            `json:"type,omitempty"`
	Interfaces []interfaceRecord `json:"interfaces,omitempty"`
	Listeners  []listenerRecord  `json:"listeners,omitempty"`

	// group, rule
	For         string   `json:"for,omitempty"`
	Description string   `json:"description,omitempty"`
	BuiltIn     bool     `json:"built_in,omitempty"`
	Default     bool     `json:"default,omitempty"`
	Stateful    *bool    `json:"stateful,omitempty"`
	Direction   string   `json:"direction,omitempty"`
	Action      string   `json:"action,omitempty"`
	Rank        int      `json:"rank,omitempty"`
	Services    []string `json:"services,omitempty"`
	Stateless   bool     `json:"stateless,omitempty"`

	// list
	Owner    string   `json:"owner,omitempty"`
	Entries  []string `json:"entries,omitempty"`
	Capacity int      `json:"capacity,omitempty"`
}

// peers are the peered networks of a network, or the peers of a rule.
type peers struct {
	networks []networkRef
	texts    []string
}

type networkRef struct {
	Account string `json:"account"`
	Network string `json:"network"`
}

func (p *peers) UnmarshalJSON(data []byte) error {
	if bytes.Contains(data, []byte("{")) {
		return json.Unmarshal(data, &p.networks)
	}
	return json.Unmarshal(data, &p.texts)
}

func (p peers) MarshalJSON() ([]byte, error) {
	if p.networks != nil {
		return json.Marshal(p.networks)
	}
	return json.Marshal(p.texts)
}

func (p peers) IsZero() bool { return p.networks == nil && p.texts == nil }

type routeRecord struct {
	To      string `json:"to"`
	Via     string `json:"via"`
	Account string `json:"account,omitempty"` // of the peered network, where it is another
	Network string `json:"network,omitempty"`
	Address string `json:"address,omitempty"`
}

type interfaceRecord struct {
	ID       string   `json:"id"`
	Subnet   string   `json:"subnet"`
	Private  []string `json:"private"`
	Public   []string `json:"public,omitempty"`
	Groups   []string `json:"groups"`
	Filtered *bool    `json:"filtered,omitempty"`
}

type listenerRecord struct {
	Service string   `json:"service"`
	Targets []string `json:"targets"`
	Port    int      `json:"port"`
	Probe   string   `json:"probe,omitempty"`
}

// A SurveyError is something in a survey that can't be read.
type SurveyError struct {
	File string
	Line int
	Err  error
}

// Error is "file:line: what is wrong".
func (e *SurveyError) Error() string { return fmt.Sprintf("%s:%d: %v", e.File, e.Line, e.Err) }

// Unwrap is what is wrong, without the place.
func (e *SurveyError) Unwrap() error { return e.Err }

// maxSurveyLine bounds the memory that one line may take, in bytes.
const maxSurveyLine = 64 << 20

// ReadSurvey reads a survey (JSON Lines). The file's name is used in origins and
// messages alone. Warnings are things that were passed over, each with its place.
// Memory and time grow linearly with the survey.
func ReadSurvey(r io.Reader, file string) (*estate.Estate, []string, error) {
	s := surveyReader{file: file, estate: &estate.Estate{}, byID: make(map[objectKey]placed)}
	in := bufio.NewReaderSize(r, 1<<20)
	for line := 1; ; line++ {
		text, err := readLine(in)
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, s.warnings, &SurveyError{file, line, err}
		}
		if trimmed := bytes.TrimSpace(text); len(trimmed) > 0 {
			if err := s.take(trimmed, line); err != nil {
				return nil, s.warnings, &SurveyError{file, line, err}
			}
		}
		if errors.Is(err, io.EOF) {
			break
		}
	}
	if !s.headed {
		return nil, s.warnings, fmt.Errorf(`%s is empty: a survey begins with a line {"kind":"survey","version":1,…}`, file)
	}
	if err := s.resolve(); err != nil {
		return nil, s.warnings, err
	}
	return s.estate, s.warnings, nil
}

func readLine(in *bufio.Reader) ([]byte, error) {
	var long []byte
	for {
		part, err := in.ReadSlice('\n')
		if err == nil && long == nil {
			return part, nil
		}
		long = append(long, part...)
		if !errors.Is(err, bufio.ErrBufferFull) {
			return long, err
		}
		if len(long) > maxSurveyLine {
			return nil, fmt.Errorf("the line is longer than %d MB", maxSurveyLine>>20)
		}
	}
}

type objectKey struct{ kind, account, id string }

type placed struct {
	object any
	line   int
}

type pending struct {
	record
	line int
}

type surveyReader struct {
	file     string
	estate   *estate.Estate
	headed   bool
	byID     map[objectKey]placed
	pending  []pending // in file order
	warnings []string
}

func (s *surveyReader) warn(line int, format string, a ...any) {
	s.warnings = append(s.warnings, fmt.Sprintf("%s:%d: %s", s.file, line, fmt.Sprintf(format, a...)))
}

func (s *surveyReader) fail(line int, format string, a ...any) error {
	return &SurveyError{s.file, line, fmt.Errorf(format, a...)}
}

var recordKinds = []string{"survey", "cloud", "account", "network", "subnet", "instance", "group", "rule", "list"}

// take decodes one line and keeps it until all lines are known.
func (s *surveyReader) take(text []byte, line int) error {
	var r record
	if err := json.Unmarshal(text, &r); err != nil {
		return describeJSON(err)
	}
	if !s.headed {
		if r.Kind != "survey" {
			return errors.New(`this is not a survey: its first line must be {"kind":"survey","version":1,…}`)
		}
		if r.Version != SurveyVersion {
			return fmt.Errorf("this survey has version %d, and this program reads version %d", r.Version, SurveyVersion)
		}
		s.headed = true
		s.estate.Name = r.Estate
		if r.Taken != "" {
			taken, err := time.Parse(time.RFC3339, r.Taken)
			if err != nil {
				return fmt.Errorf(`"taken" is %q: write a time like 2026-11-20T06:00:00Z`, r.Taken)
			}
			s.estate.Taken = taken
		}
		return nil
	}
	if r.Kind == "" {
		return errors.New(`the line has no "kind"`)
	}
	if !slices.Contains(recordKinds, r.Kind) {
		hint := ""
		if best, ok := near.Best(r.Kind, recordKinds); ok {
			hint = fmt.Sprintf(" (%q is near)", best)
		}
		s.warn(line, "nothing is known of the kind %q%s: passed over", r.Kind, hint)
		return nil
	}
	s.pending = append(s.pending, pending{r, line})
	return nil
}

// describeJSON says what is wrong with a line without the decoder's own vocabulary.
func describeJSON(err error) error {
	var syntax *json.SyntaxError
	var mismatch *json.UnmarshalTypeError
	switch {
	case errors.As(err, &mismatch) && mismatch.Field != "":
		return fmt.Errorf("the field %q holds %s where %s belongs", mismatch.Field, jsonValue(mismatch), jsonKind(mismatch))
	case errors.As(err, &mismatch):
		return fmt.Errorf("a survey's line is an object in braces, this is %s", jsonValue(mismatch))
	case errors.As(err, &syntax):
		return fmt.Errorf("the line is not JSON: %v (at byte %d)", syntax, syntax.Offset)
	}
	return fmt.Errorf("the line is not JSON: %w", err)
}

// jsonValue says what was found, as jsonKind says what belongs there.
func jsonValue(m *json.UnmarshalTypeError) string {
	switch kind, _, _ := strings.Cut(m.Value, " "); kind {
	case "array":
		return "a list"
	case "object":
		return "an object"
	case "string":
		return "a text"
	case "bool":
		return "true or false"
	default:
		return "the " + m.Value
	}
}

func jsonKind(m *json.UnmarshalTypeError) string {
	switch kind := m.Type.Kind().String(); kind {
	case "int", "uint16":
		return "a whole number"
	case "slice":
		return "a list"
	case "map", "struct":
		return "an object"
	case "bool":
		return "true or false"
	default:
		return "a text"
	}
}

// resolve makes objects of the lines, kind by kind, so that each kind finds those it refers to.
func (s *surveyReader) resolve() error {
	for _, stage := range []struct {
		kind string
		make func(*pending) error
	}{
		{"cloud", s.cloud}, {"account", s.account}, {"network", s.network}, {"list", s.list},
		{"group", s.group}, {"subnet", s.subnet}, {"instance", s.instance},
	} {
		for i := range s.pending {
			if p := &s.pending[i]; p.Kind == stage.kind {
				if err := stage.make(p); err != nil {
					return err
				}
			}
		}
	}
	// What refers to objects of its own kind, or to kinds made later, comes last.
	for i := range s.pending {
		p := &s.pending[i]
		var err error
		switch p.Kind {
		case "network":
			err = s.peerings(p)
		case "subnet":
			err = s.routes(p)
		case "instance":
			err = s.listeners(p)
		case "rule":
			err = s.rule(p)
		}
		if err != nil {
			return err
		}
	}
	s.pending = nil
	return nil
}

// add keeps an object under its id; a second one of the same id is an error.
func (s *surveyReader) add(p *pending, account, id string, object any) error {
	if id == "" {
		return s.fail(p.line, "the %s has no %s", p.Kind, map[bool]string{true: `"name"`, false: `"id"`}[p.Kind == "cloud" || p.Kind == "account"])
	}
	key := objectKey{p.Kind, account, id}
	if before, ok := s.byID[key]; ok {
		return s.fail(p.line, "the %s %q was on line %d already", p.Kind, id, before.line)
	}
	s.byID[key] = placed{object, p.line}
	return nil
}

// find looks an object up; ref is an id of the account, or ACCOUNT/ID.
func find[T any](s *surveyReader, kind, account, ref string) (T, bool) {
	if found, ok := s.byID[objectKey{kind, account, ref}]; ok {
		object, ok := found.object.(T)
		return object, ok
	}
	if other, id, ok := strings.Cut(ref, "/"); ok {
		if found, ok := s.byID[objectKey{kind, other, id}]; ok {
			object, ok := found.object.(T)
			return object, ok
		}
	}
	var none T
	return none, false
}

func must[T any](s *surveyReader, p *pending, kind, ref string) (T, error) {
	account := p.Account
	if kind == "account" || kind == "cloud" {
		account = ""
	}
	object, ok := find[T](s, kind, account, ref)
	if !ok {
		if ref == "" {
			return object, s.fail(p.line, "the %s %q names no %s", p.Kind, p.ID, kind)
		}
		return object, s.fail(p.line, "the %s %q belongs to the %s %q, which is not in this survey", p.Kind, p.ID, kind, ref)
	}
	return object, nil
}

func (s *surveyReader) origin(p *pending) estate.Origin {
	return estate.Origin{File: s.file, Line: p.line}
}

func (s *surveyReader) cloud(p *pending) error {
	if _, ok := dialect.Lookup(p.Dialect); !ok {
		return s.fail(p.line, "the cloud %q has the dialect %q: it is one of %s", p.Name, p.Dialect, strings.Join(dialect.Names(), ", "))
	}
	c := &estate.Cloud{Name: p.Name, Dialect: p.Dialect, Origin: s.origin(p)}
	s.estate.Clouds = append(s.estate.Clouds, c)
	return s.add(p, "", p.Name, c)
}

func (s *surveyReader) account(p *pending) error {
	c, err := must[*estate.Cloud](s, p, "cloud", p.Cloud)
	if err != nil {
		return err
	}
	a := &estate.Account{Name: p.Name, Cloud: c, ID: p.ID, Region: p.Region, Folder: p.Folder, Labels: p.Labels, Limits: p.Limits, Origin: s.origin(p)}
	s.estate.Accounts = append(s.estate.Accounts, a)
	return s.add(p, "", p.Name, a)
}

func (s *surveyReader) network(p *pending) error {
	a, err := must[*estate.Account](s, p, "account", p.Account)
	if err != nil {
		return err
	}
	ranges, err := s.prefixes(p, p.Ranges)
	if err != nil {
		return err
	}
	n := &estate.Network{Account: a, ID: p.ID, Name: orElse(p.Name, p.ID), Ranges: ranges, Labels: p.Labels, Origin: s.origin(p)}
	if p.Answers != "" {
		spec, err := service.ParseSpec("tcp " + p.Answers)
		if err != nil {
			return s.fail(p.line, `"answers" is %q: write the client ports like 32768-60999`, p.Answers)
		}
		n.Answers = estate.Ports{From: spec.From, To: spec.To}
	}
	s.estate.Networks = append(s.estate.Networks, n)
	return s.add(p, p.Account, p.ID, n)
}

func (s *surveyReader) peerings(p *pending) error {
	n, _ := find[*estate.Network](s, "network", p.Account, p.ID)
	for _, ref := range p.Peers.networks {
		if other, ok := find[*estate.Network](s, "network", orElse(ref.Account, p.Account), ref.Network); ok {
			n.Peered = append(n.Peered, other)
		} else {
			s.warn(p.line, "the network %s is peered with %s/%s, which is not in this survey", n.Path(), orElse(ref.Account, p.Account), ref.Network)
		}
	}
	return nil
}

func (s *surveyReader) list(p *pending) error {
	a, err := must[*estate.Account](s, p, "account", p.Account)
	if err != nil {
		return err
	}
	ranges, err := s.prefixes(p, p.Entries)
	if err != nil {
		return err
	}
	l := &estate.List{Account: a, ID: p.ID, Name: orElse(p.Name, p.ID), Owner: orElse(p.Owner, "own"), Region: p.Region, Description: p.Description, Capacity: p.Capacity, Origin: s.origin(p)}
	for _, r := range ranges {
		l.Entries = append(l.Entries, estate.Entry{Range: r})
	}
	s.estate.Lists = append(s.estate.Lists, l)
	return s.add(p, p.Account, p.ID, l)
}

func (s *surveyReader) group(p *pending) error {
	a, err := must[*estate.Account](s, p, "account", p.Account)
	if err != nil {
		return err
	}
	g := &estate.Group{Account: a, ID: p.ID, Name: orElse(p.Name, p.ID), For: estate.GroupKind(orElse(p.For, "instances")), Description: p.Description,
		Labels: p.Labels, BuiltIn: p.BuiltIn, Default: p.Default, Stateless: p.Stateful != nil && !*p.Stateful, Origin: s.origin(p)}
	if g.For != estate.ForInstances && g.For != estate.ForSubnets {
		return s.fail(p.line, `the group %q is "for" %q: write instances or subnets`, p.ID, p.For)
	}
	if p.Network != "" {
		if g.Network, err = must[*estate.Network](s, p, "network", p.Network); err != nil {
			return err
		}
	}
	s.estate.Groups = append(s.estate.Groups, g)
	return s.add(p, p.Account, p.ID, g)
}

func (s *surveyReader) subnet(p *pending) error {
	n, err := must[*estate.Network](s, p, "network", p.Network)
	if err != nil {
		return err
	}
	ranges, err := s.prefixes(p, p.Ranges)
	if err != nil {
		return err
	}
	sub := &estate.Subnet{Network: n, ID: p.ID, Name: orElse(p.Name, p.ID), Ranges: ranges, RoutesKnown: true, Labels: p.Labels, Origin: s.origin(p)}
	if sub.Groups, err = s.attached(p, p.Groups); err != nil {
		return err
	}
	n.Subnets = append(n.Subnets, sub)
	return s.add(p, p.Account, p.ID, sub)
}

// attached finds groups by id. A group that is not there filters nothing and is warned of.
func (s *surveyReader) attached(p *pending, refs []string) ([]*estate.Group, error) {
	var groups []*estate.Group
	for _, ref := range refs {
		g, ok := find[*estate.Group](s, "group", p.Account, ref)
		if !ok {
			return nil, s.fail(p.line, "the %s %q wears the group %q, which is not in this survey", p.Kind, p.ID, ref)
		}
		groups = append(groups, g)
	}
	return groups, nil
}

func (s *surveyReader) routes(p *pending) error {
	sub, _ := find[*estate.Subnet](s, "subnet", p.Account, p.ID)
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
			other, ok := find[*estate.Network](s, "network", orElse(r.Account, p.Account), r.Network)
			if !ok {
				other, ok = s.peeredByID(sub.Network, r.Network)
			}
			if !ok {
				s.warn(p.line, "the route %s leads to the network %q, which is not in this survey", r.To, r.Network)
			}
			route.Network = other
		default:
			return s.fail(p.line, "a route goes via internet, nat, peer, private-line, local or drop, not via %q", r.Via)
		}
		sub.Routes = append(sub.Routes, route)
	}
	return nil
}

// peeredByID finds a network of another account that a route names by its id alone.
func (s *surveyReader) peeredByID(n *estate.Network, id string) (*estate.Network, bool) {
	for _, p := range s.estate.Networks {
		if p.ID == id && (slices.Contains(n.Peered, p) || slices.Contains(p.Peered, n)) {
			return p, true
		}
	}
	return nil, false
}

func (s *surveyReader) instance(p *pending) error {
	a, err := must[*estate.Account](s, p, "account", p.Account)
	if err != nil {
		return err
	}
	in := &estate.Instance{Account: a, ID: p.ID, Name: orElse(p.Name, p.ID), Kind: estate.InstanceKind(orElse(p.Type, "machine")), Labels: p.Labels}
	for _, r := range p.Interfaces {
		i := &estate.Interface{Instance: in, ID: r.ID, Unfiltered: r.Filtered != nil && !*r.Filtered}
		if i.Subnet, err = must[*estate.Subnet](s, p, "subnet", r.Subnet); err != nil {
			return err
		}
		if i.Groups, err = s.attached(p, r.Groups); err != nil {
			return err
		}
		if i.Private, err = s.addresses(p, r.Private); err != nil {
			return err
		}
		if i.Public, err = s.addresses(p, r.Public); err != nil {
			return err
		}
		in.Interfaces = append(in.Interfaces, i)
	}
	s.estate.Instances = append(s.estate.Instances, in)
	return s.add(p, p.Account, p.ID, in)
}

func (s *surveyReader) listeners(p *pending) error {
	in, _ := find[*estate.Instance](s, "instance", p.Account, p.ID)
	for _, r := range p.Listeners {
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
			target, ok := find[*estate.Instance](s, "instance", p.Account, ref)
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

func (s *surveyReader) rule(p *pending) error {
	g, err := must[*estate.Group](s, p, "group", p.Group)
	if err != nil {
		return err
	}
	r := estate.Rule{ID: p.ID, Direction: estate.Direction(p.Direction), Action: estate.Action(orElse(p.Action, "admit")), Rank: p.Rank,
		Stateless: p.Stateless, Description: p.Description, BuiltIn: p.BuiltIn, Origin: s.origin(p)}
	if r.Direction != estate.In && r.Direction != estate.Out {
		return s.fail(p.line, `the rule %q has the direction %q: write in or out`, p.ID, p.Direction)
	}
	if r.Action != estate.Admit && r.Action != estate.Refuse {
		return s.fail(p.line, `the rule %q has the action %q: write admit or refuse`, p.ID, p.Action)
	}
	if d, _ := dialect.Lookup(g.Account.Cloud.Dialect); r.Action == estate.Refuse && !filterOf(d, g).Refuses {
		return s.fail(p.line, "the rule %q refuses, which groups for %s of the dialect %s can't do", p.ID, g.For, d.Name)
	} else if filterOf(d, g).FirstMatch && r.Rank <= 0 {
		return s.fail(p.line, `the rule %q has no "rank", and in the dialect %s the rank decides`, p.ID, d.Name)
	}
	if len(p.Services) == 0 || len(p.Peers.texts) == 0 {
		return s.fail(p.line, `the rule %q needs "services" and "peers"; write "any" and "anything" for all`, p.ID)
	}
	for _, text := range p.Services {
		spec, err := service.ParseSpec(text)
		if err != nil {
			return s.fail(p.line, "%w", err)
		}
		r.Services = append(r.Services, spec)
	}
	for _, text := range p.Peers.texts {
		peer, err := s.peer(p, g, text)
		if err != nil {
			return err
		}
		r.Peers = append(r.Peers, peer)
	}
	g.Rules = append(g.Rules, r)
	return nil
}

// filterOf is how the rules of a group decide.
func filterOf(d dialect.Dialect, g *estate.Group) dialect.Filter {
	if g.For == estate.ForSubnets {
		return d.Subnets
	}
	return d.Instances
}

func (s *surveyReader) peer(p *pending, g *estate.Group, text string) (estate.Peer, error) {
	kind, ref, _ := strings.Cut(text, ":")
	switch {
	case text == "anything":
		return estate.Peer{Kind: estate.PeerEveryone}, nil
	case text == "internet":
		return estate.Peer{Kind: estate.PeerPublic}, nil
	case text == "probes":
		return estate.Peer{Kind: estate.PeerProbes}, nil
	case text == "network":
		return estate.Peer{Kind: estate.PeerNetwork, Network: g.Network}, nil
	case kind == "group":
		if other, ok := find[*estate.Group](s, "group", p.Account, ref); ok {
			if other == g {
				return estate.Peer{Kind: estate.PeerSelf}, nil
			}
			return estate.Peer{Kind: estate.PeerGroup, Group: other}, nil
		}
		return estate.Peer{Kind: estate.PeerMissing, Missing: text}, nil
	case kind == "list":
		if l, ok := find[*estate.List](s, "list", p.Account, ref); ok {
			return estate.Peer{Kind: estate.PeerList, List: l}, nil
		}
		return estate.Peer{Kind: estate.PeerMissing, Missing: text}, nil
	}
	ranges, err := s.prefixes(p, []string{text})
	if err != nil {
		return estate.Peer{}, s.fail(p.line, "the peer %q is no range, address, group:ID, list:ID, network or anything", text)
	}
	return estate.Peer{Kind: estate.PeerRange, Range: ranges[0]}, nil
}

// prefixes reads ranges and addresses. Host bits are masked, with a warning.
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

// ParseRange reads a CIDR range or a single address, host bits and all.
func ParseRange(text string) (netip.Prefix, error) {
	if strings.Contains(text, "/") {
		if p, err := netip.ParsePrefix(text); err == nil && !p.Addr().Is4In6() {
			return p, nil
		}
	} else if a, err := netip.ParseAddr(text); err == nil && a.Zone() == "" && !a.Is4In6() {
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	return netip.Prefix{}, fmt.Errorf("%q is not a range or address: write 10.20.0.0/16 or 2001:db8::7", text)
}

func (s *surveyReader) addresses(p *pending, texts []string) ([]netip.Addr, error) {
	var list []netip.Addr
	for _, text := range texts {
		a, err := netip.ParseAddr(text)
		if err != nil || a.Zone() != "" || a.Is4In6() {
			return nil, s.fail(p.line, "%q is not an IP address", text)
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
