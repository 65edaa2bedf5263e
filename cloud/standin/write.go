package standin

import (
	"bytes"
	"cmp"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"isonomos/core/addr"
	"isonomos/core/compile"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/store"
	"isonomos/store/whole"
)

// ChangesFile records every change that was made through the interface, one a line.
const ChangesFile = "changes.jsonl"

// A Change is one change that was made.
type Change struct {
	Number  int             `json:"number"` // from 1, without gaps
	At      string          `json:"at"`
	Account string          `json:"account"`
	Action  string          `json:"action"` // "create", "change", "delete"
	Kind    string          `json:"kind"`
	ID      string          `json:"id"`
	Object  json.RawMessage `json:"object,omitempty"` // the object after the change
}

// A refusal says why a change is not made, and with which status.
type refusal struct {
	status int
	kind   string // of the problem; empty if the status says enough
	detail string
}

func (r *refusal) Error() string { return r.detail }

func refuse(status int, format string, a ...any) error {
	return &refusal{status, "", fmt.Sprintf(format, a...)}
}

// Problems that the status does not tell apart.
const (
	inUse     = "in-use"
	overQuota = "quota"
	nameTaken = "name-taken"
	rankTaken = "rank-taken"
	ruleTaken = "rule-taken"
	builtIn   = "built-in"
)

// conflict refuses what can't be done as things are.
func conflict(kind, format string, a ...any) error {
	return &refusal{http.StatusConflict, kind, fmt.Sprintf(format, a...)}
}

// An object is a line of the state, with the fields that changes look at.
type object struct {
	Kind        string            `json:"kind"`
	Account     string            `json:"account,omitempty"`
	Network     string            `json:"network,omitempty"`
	Group       string            `json:"group,omitempty"`
	ID          string            `json:"id,omitempty"`
	Name        string            `json:"name,omitempty"`
	For         string            `json:"for,omitempty"`
	Owner       string            `json:"owner,omitempty"`
	Region      string            `json:"region,omitempty"`
	Description string            `json:"description,omitempty"`
	Labels      map[string]string `json:"labels,omitempty"`
	BuiltIn     bool              `json:"built_in,omitempty"`
	Default     bool              `json:"default,omitempty"`
	Stateful    *bool             `json:"stateful,omitempty"`
	Direction   string            `json:"direction,omitempty"`
	Action      string            `json:"action,omitempty"`
	Rank        int               `json:"rank,omitempty"`
	Peers       []string          `json:"peers,omitempty"`
	Services    []string          `json:"services,omitempty"`
	Stateless   bool              `json:"stateless,omitempty"`
	Entries     []string          `json:"entries,omitempty"`
	Capacity    int               `json:"capacity,omitempty"`
}

func (o object) text() json.RawMessage {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(o) // encoding strings and numbers can't fail
	return json.RawMessage(bytes.TrimSpace(b.Bytes()))
}

// key identifies an object within its account.
type key struct{ Kind, ID string }

// etagOf is the version of an object: a hash of its content. The version of a group covers its
// rules too.
func etagOf(lines []line, of line) string {
	sum := sha256.New()
	sum.Write(of.text)
	if of.Kind == "group" {
		for _, rule := range rulesOf(lines, of.ID) {
			sum.Write(rule.text)
		}
	}
	return hex.EncodeToString(sum.Sum(nil)[:8])
}

// rulesOf are the rules of a group.
func rulesOf(lines []line, group string) []line {
	var rules []line
	for _, l := range lines {
		if l.Kind == "rule" && l.group == group {
			rules = append(rules, l)
		}
	}
	return rules
}

// A draft is a copy of an account's lines in which a change is prepared.
type draft struct {
	server  *Server
	cloud   string
	account string
	lines   []line
	changes []Change
	made    map[string]any // the answer, where that is not a single object
}

func (d *draft) find(kind, id string) (int, bool) {
	i := slices.IndexFunc(d.lines, func(l line) bool { return l.key == key{kind, id} })
	return i, i >= 0
}

func (d *draft) put(action string, o object) {
	l := line{key{o.Kind, o.ID}, o.Group, o.text()}
	if i, ok := d.find(o.Kind, o.ID); ok {
		d.lines[i] = l
	} else {
		at := len(d.lines)
		if o.Kind == "rule" { // it goes behind the other rules of its group, as in surveys
			for i, x := range d.lines {
				if x.Kind == "rule" && x.group == o.Group || x.key == (key{"group", o.Group}) {
					at = i + 1
				}
			}
		}
		d.lines = slices.Insert(d.lines, at, l)
	}
	d.changes = append(d.changes, Change{Account: d.account, Action: action, Kind: o.Kind, ID: o.ID, Object: l.text})
}

func (d *draft) drop(kind, id string) {
	if i, ok := d.find(kind, id); ok {
		d.lines = slices.Delete(d.lines, i, i+1)
		d.changes = append(d.changes, Change{Account: d.account, Action: "delete", Kind: kind, ID: id})
	}
}

// newID makes an id that no object has.
func newID(prefix string) string {
	b := make([]byte, 6)
	_, _ = rand.Read(b) // crypto/rand never fails
	return prefix + "-" + hex.EncodeToString(b)
}

// write changes an account. The function make prepares the change in a draft; the draft is read as
// a survey and checked against what the cloud allows, and then becomes the state, all under one
// lock. It returns the object for the answer, and the object whose version is sent with it.
func (s *Server) write(w http.ResponseWriter, r *http.Request, make func(d *draft) (made, of key, err error)) {
	if _, _, ok := s.find(w, r); !ok { // find reads the state again if it was edited by hand
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	name, account := r.PathValue("cloud"), r.PathValue("account")
	own, ok := s.state.clouds[name].accounts[account]
	if !ok {
		tell(w, http.StatusNotFound, fmt.Sprintf("no account is called %q", account))
		return
	}
	d := &draft{server: s, cloud: name, account: account, lines: slices.Clone(own)}
	made, of, err := make(d)
	if err == nil {
		err = d.check()
	}
	if err == nil {
		err = s.keep(d)
	}
	var no *refusal
	switch {
	case errors.As(err, &no):
		problem(w, no.status, no.kind, no.detail)
	case err != nil:
		tell(w, http.StatusInternalServerError, err.Error())
	default:
		if i, there := d.find(of.Kind, of.ID); there {
			w.Header().Set("ETag", strconv.Quote(etagOf(d.lines, d.lines[i])))
		}
		i, there := d.find(made.Kind, made.ID)
		if d.made != nil {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusCreated)
			answer(w, d.made)
			return
		}
		if !there {
			w.WriteHeader(http.StatusNoContent)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		if r.Method == http.MethodPost {
			w.WriteHeader(http.StatusCreated)
		}
		if made.Kind == "group" {
			answer(w, groupWithRules(d.lines, d.lines[i]))
			return
		}
		_, _ = w.Write(d.lines[i].text) // writing fails if the client is gone
	}
}

// keep writes a draft to the disk and then makes it the state.
func (s *Server) keep(d *draft) error {
	next := &state{clouds: make(map[string]*served)}
	for name, c := range s.state.clouds {
		copied := *c
		if name == d.cloud {
			copied.accounts = make(map[string][]line, len(c.accounts))
			for account, lines := range c.accounts {
				copied.accounts[account] = lines
			}
			copied.accounts[d.account] = d.lines
		}
		next.clouds[name] = &copied
	}
	var text bytes.Buffer
	text.WriteString(s.state.header)
	names := make([]string, 0, len(next.clouds))
	for name := range next.clouds {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		text.WriteString(store.CloudLine(&estate.Cloud{Name: name, Dialect: next.clouds[name].dialect}))
	}
	for _, name := range names {
		for _, account := range next.clouds[name].names {
			for _, l := range next.clouds[name].accounts[account] {
				text.Write(l.text)
				text.WriteByte('\n')
			}
		}
	}
	next.header = s.state.header
	var log bytes.Buffer
	at := time.Now().UTC().Format(time.RFC3339Nano) // the same for all changes of one request
	for i := range d.changes {
		s.changes++
		d.changes[i].Number, d.changes[i].At = s.changes, at
		line, err := json.Marshal(d.changes[i])
		if err != nil {
			return err
		}
		log.Write(append(line, '\n'))
	}
	path := filepath.Join(s.folder, StateFile)
	if err := whole.Write(path, text.String(), 0o644); err != nil {
		return err
	}
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	next.revision = strconv.FormatInt(info.ModTime().UnixNano(), 36) + "-" + strconv.Itoa(s.changes)
	s.former, s.state, s.read = s.state, next, info.ModTime()
	f, err := os.OpenFile(filepath.Join(s.folder, ChangesFile), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	if _, err := f.Write(log.Bytes()); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

// check reads a draft as a survey and checks the groups that it changes against the cloud's dialect
// and quotas.
func (d *draft) check() error {
	c := d.server.state.clouds[d.cloud]
	touched, made := make(map[string]bool), make(map[string]bool)
	for _, change := range d.changes {
		var o object
		_ = json.Unmarshal(change.Object, &o) // deletions have no object
		if change.Kind == "group" || change.Kind == "rule" || change.Kind == "list" {
			if err := readable(o); err != nil {
				return err
			}
		}
		touched[cmp.Or(o.Group, change.ID)] = true
		made[change.ID] = change.Action == "create"
	}
	var text bytes.Buffer
	text.WriteString(store.HeaderLine("draft",
		time.Unix(0, 0)) + store.CloudLine(&estate.Cloud{Name: d.cloud, Dialect: c.dialect}))
	for _, l := range d.lines {
		if l.Kind == "rule" && !touched[l.group] {
			continue // an unchanged rule was checked when it was added
		}
		text.Write(l.text)
		text.WriteByte('\n')
	}
	e, _, err := store.ReadSurvey(&text, "draft")
	var wrong *store.SurveyError
	if errors.As(err, &wrong) {
		return refuse(http.StatusUnprocessableEntity, "%v", wrong.Err)
	}
	if err != nil {
		return err
	}
	for _, g := range e.Groups {
		if !touched[g.ID] {
			continue
		}
		if err := allowed(e, g, made, d.elsewhere); err != nil {
			return err
		}
	}
	return nil
}

// elsewhere reports whether a reference ("group:account/id") is to something of another account of this cloud.
func (d *draft) elsewhere(reference string) bool {
	reference, _, _ = strings.Cut(reference, " ") // an address family may follow
	kind, rest, _ := strings.Cut(reference, ":")
	account, id, ok := strings.Cut(rest, "/")
	return ok && slices.ContainsFunc(d.server.state.clouds[d.cloud].accounts[account],
		func(l line) bool { return l.key == key{kind, id} })
}

// readable refuses texts that are too long, or hold what controls a terminal.
func readable(o object) error {
	texts := []string{o.Name, o.Description}
	for name, value := range o.Labels {
		texts = append(texts, name, value)
	}
	for _, text := range texts {
		if len(text) > longestText || strings.ContainsFunc(text, unicode.IsControl) {
			return refuse(http.StatusUnprocessableEntity,
				"names, descriptions and labels have at most %d bytes, and none that controls a terminal", longestText)
		}
	}
	return nil
}

// longestText bounds names and descriptions, in bytes.
const longestText = 255

// allowed says what the cloud's dialect does not allow in a group. What was there before is not
// looked at, such as a rule of an edited survey with several peers. The function elsewhere reports whether what a
// peer refers to is in another account.
func allowed(e *estate.Estate, g *estate.Group, made map[string]bool, elsewhere func(string) bool) error {
	dl, f := decide.Dialect(g.Account), decide.Filter(g)
	if g.Name == "" {
		return refuse(http.StatusUnprocessableEntity, "a name has 1 to %d bytes", longestText)
	}
	for _, o := range e.Groups {
		if o != g && o.Network == g.Network && o.For == g.For && o.Name == g.Name {
			return conflict(nameTaken, "the group %s has that name already", o.ID)
		}
	}
	ranks := make(map[[2]any]string)
	said := make(map[string]string) // what rules say, where no two may say the same
	for i := range g.Rules {
		r := &g.Rules[i]
		if !made[r.ID] {
			ranks[[2]any{r.Direction, r.Rank}] = r.ID
		}
		if !dl.EqualRefused {
			continue
		}
		text := r.Sentence(service.Names{}) + fmt.Sprint(r.Stateless)
		if other := said[text]; other != "" && (made[r.ID] || made[other]) {
			return conflict(ruleTaken, "the rule %s says the same already", other)
		}
		said[text] = r.ID
	}
	news := 0
	for i := range g.Rules {
		r := &g.Rules[i]
		if r.BuiltIn || !made[r.ID] {
			continue
		}
		news++
		switch {
		case f.FirstMatch && ranks[[2]any{r.Direction, r.Rank}] != "":
			return conflict(rankTaken, "the rule %s has the rank %d already",
				ranks[[2]any{r.Direction, r.Rank}], r.Rank)
		case !dl.ManyPorts && len(r.Services) > 1:
			return refuse(http.StatusUnprocessableEntity, "a rule of this cloud has one service")
		case !dl.ManyPeers && len(r.Peers) > 1:
			return refuse(http.StatusUnprocessableEntity, "a rule of this cloud has one peer")
		case r.Stateless && f.State != dialect.StateByRule:
			return refuse(http.StatusUnprocessableEntity, "rules of this cloud can't be stateless")
		}
		ranks[[2]any{r.Direction, r.Rank}] = r.ID
		for _, p := range r.Peers {
			switch {
			case dl.OneFamily && (p.Kind == estate.PeerGroup || p.Kind == estate.PeerList) && p.Family() == addr.Both:
				return refuse(http.StatusUnprocessableEntity,
					"a rule of this cloud is for one address family (v4 or v6 behind what it refers to)")
			case p.Kind == estate.PeerGroup && g.For == estate.ForSubnets && f.State == dialect.StateNone:
				return refuse(http.StatusUnprocessableEntity, "rules of subnet groups of this cloud hold ranges only")
			case p.Kind == estate.PeerGroup && !nameable(g, p.Group):
				return refuse(http.StatusUnprocessableEntity, "%s is in a network whose groups can't be named here", p)
			case p.Kind == estate.PeerMissing && !elsewhere(p.Missing):
				return refuse(http.StatusUnprocessableEntity, "%s is not there", p.Missing)
			case p.Kind == estate.PeerList && p.List.Owner == "own" && dl.OwnLists == dialect.ListsExpanded:
				return refuse(http.StatusUnprocessableEntity, "rules of this cloud can't name own lists")
			}
		}
	}
	quota := compile.QuotaOf(dl, g)
	if news == 0 {
		return nil // the change does not add any
	}
	if in, out := compile.GroupCost(dl, g, estate.In), compile.GroupCost(dl, g, estate.Out); quota.Over(in, out) {
		return conflict(overQuota, "the group would take %s inward and %s outward, and may have %s",
			count.Of(in, "rule", "rules"), count.Number(out), quotaText(quota))
	}
	return nil
}

// nameable reports whether a group's rules may refer to another group. Networks of other accounts
// are not known here.
func nameable(g, other *estate.Group) bool {
	across := decide.Dialect(g.Account).GroupsAcross
	return across == dialect.WholeCloud || g.Network == other.Network ||
		across == dialect.PeeredNetworks && g.Network.PeeredWith(other.Network)
}

func quotaText(q compile.Quota) string {
	if q.Direction > 0 {
		return fmt.Sprintf("%d in each direction", q.Direction)
	}
	return fmt.Sprintf("%d together", q.Together)
}

// current finds the object that a request changes. It refuses if the object does not exist, or has
// another version than If-Match says.
func (d *draft) current(r *http.Request, kind, id string) (object, error) {
	i, ok := d.find(kind, id)
	if !ok {
		return object{}, refuse(http.StatusNotFound, "there is no %s %q", kind, id)
	}
	if err := matches(r, etagOf(d.lines, d.lines[i]), kind, id); err != nil {
		return object{}, err
	}
	var o object
	return o, json.Unmarshal(d.lines[i].text, &o)
}

// users are the objects to which a group is attached, and the groups whose rules refer to a group
// or list, in all accounts of the cloud.
func (d *draft) users(kind, id string) []string {
	var users []string
	for account, lines := range d.server.state.clouds[d.cloud].accounts {
		if account == d.account {
			lines = d.lines
		}
		reference := strconv.Quote(kind + ":" + id)
		if account != d.account {
			reference = strconv.Quote(kind + ":" + d.account + "/" + id)
		}
		for _, l := range lines {
			attached := kind == "group" && account == d.account && (l.Kind == "instance" || l.Kind == "subnet") &&
				hasGroup(l.text, id)
			if attached || l.Kind == "rule" && l.group != id && bytes.Contains(l.text, []byte(reference)) {
				users = append(users, l.Kind+" "+l.ID)
			}
		}
	}
	slices.Sort(users)
	return users
}

// hasGroup reports whether a group is attached to an instance or a subnet.
func hasGroup(text json.RawMessage, group string) bool {
	if !bytes.Contains(text, []byte(strconv.Quote(group))) {
		return false
	}
	type attached struct{ Groups []string }
	var x struct {
		attached
		Interfaces []attached
	}
	return json.Unmarshal(text, &x) == nil &&
		(slices.Contains(x.Groups, group) ||
			slices.ContainsFunc(x.Interfaces, func(f attached) bool { return slices.Contains(f.Groups, group) }))
}
