package standin

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
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
)

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

	positionLost = "position-lost"
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

// etagOf is the version of an object: a hash of its content. The version of a group covers its
// rules too.
func etagOf(of *entry, l line) string {
	sum := sha256.New()
	sum.Write(l.text)
	if l.Kind == "group" {
		for _, rule := range of.rules {
			sum.Write(rule.text)
		}
	}
	return hex.EncodeToString(sum.Sum(nil)[:8])
}

// A draft is an account with changes that are not made yet.
type draft struct {
	server  *Server
	cloud   string
	own     *account
	entries []*entry // those that were there, as they become
	news    []*entry
	changes []Change
	made    map[string]any // the answer, where that is not a single object
}

// find finds an object of the draft, and the group it is a rule of, if so.
func (d *draft) find(kind, id string) (of *entry, l line, ok bool) {
	k := key{kind, id}
	for _, e := range d.news {
		if of, l, ok := within(e, k); ok {
			return of, l, ok
		}
	}
	i, there := d.own.at[k]
	if there {
		return within(d.entries[i], k)
	}
	for _, c := range d.changes { // a new rule of a group that was there
		if (key{c.Kind, c.ID}) == k && c.Group != "" {
			if i, there := d.own.at[key{"group", c.Group}]; there {
				return within(d.entries[i], k)
			}
		}
	}
	return nil, line{}, false
}

func (d *draft) put(action string, o object) {
	d.putLine(action, line{key{o.Kind, o.ID}, o.Group, o.text()})
}

func (d *draft) putLine(action string, l line) {
	at := l.key
	if l.Kind == "rule" {
		at = key{"group", l.group}
	}
	became := &entry{line: l}
	if was, _, there := d.find(at.Kind, at.ID); there {
		if became = (&entry{l, was.rules}); l.Kind == "rule" {
			became = &entry{was.line, withRule(was.rules, l)}
		}
	}
	if i, there := d.own.at[at]; there {
		d.entries[i] = became
	} else if i := slices.IndexFunc(d.news, func(e *entry) bool { return e.key == at }); i >= 0 {
		d.news[i] = became
	} else {
		d.news = append(d.news, became)
	}
	d.changes = append(d.changes, Change{Cloud: d.cloud, Account: d.own.name, Action: action, Kind: l.Kind, ID: l.ID,
		Group: l.group, Object: l.text})
}

func (d *draft) drop(kind, id string) {
	of, l, there := d.find(kind, id)
	if !there {
		return
	}
	if i, known := d.own.at[l.key]; known {
		if d.entries[i] = nil; of.key != l.key {
			d.entries[i] = &entry{of.line, withoutRule(of.rules, l.key)}
		}
	}
	d.changes = append(d.changes, Change{Cloud: d.cloud, Account: d.own.name, Action: "delete", Kind: kind, ID: id,
		Group: l.group})
}

// newID makes an id that no object has.
func newID(prefix string) string {
	b := make([]byte, 6)
	_, _ = rand.Read(b) // crypto/rand never fails
	return prefix + "-" + hex.EncodeToString(b)
}

// change changes an account. The function make prepares the change in a draft; what it touches is read as
// a survey and checked against what the cloud allows, and then becomes the state, all under one
// lock. It returns the object for the answer, and the object whose version is sent with it.
func (s *Server) change(w http.ResponseWriter, r *http.Request, make func(d *draft) (made, of key, err error)) {
	if _, _, ok := s.find(w, r); !ok { // find reads the state again if it was edited by hand
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	name := r.PathValue("cloud")
	own := s.state.clouds[name].accounts[r.PathValue("account")]
	d := &draft{server: s, cloud: name, own: own, entries: slices.Clone(own.entries)}
	made, of, err := make(d)
	if err == nil {
		err = d.check()
	}
	if err == nil {
		err = s.keep(d, asks(r).Name)
	}
	var no *refusal
	switch {
	case errors.As(err, &no):
		problem(w, no.status, no.kind, no.detail)
	case err != nil:
		tell(w, http.StatusInternalServerError, err.Error())
	default:
		if e, l, there := own.find(of); there {
			w.Header().Set("ETag", strconv.Quote(etagOf(e, l)))
		}
		e, l, there := own.find(made)
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
			answer(w, groupWithRules(e))
			return
		}
		_, _ = w.Write(l.text) // writing fails if the client is gone
	}
}

// keep writes a draft's changes to the log and then makes them the state.
func (s *Server) keep(d *draft, by string) error {
	c, last := s.state.clouds[d.cloud], s.lastOf[d.cloud]
	s.number(d.changes, by)
	if err := s.append(d.changes); err != nil {
		return err
	}
	s.former = former{d.cloud, last, &account{name: d.own.name, entries: slices.Clone(d.own.entries),
		revision: d.own.revision}}
	for _, x := range d.changes {
		s.state.apply(x)
	}
	c.accounts[d.own.name].revision = s.revision()
	s.publish(d.changes) // they are in the log, whatever becomes of the state's file
	return s.settle()
}

// check reads what a draft changes as a survey, with what it refers to, and checks groups against the cloud's dialect
// and quotas.
func (d *draft) check() error {
	c := d.server.state.clouds[d.cloud]
	touched, made, needed := make(map[key]bool), make(map[string]bool), make(map[key]bool)
	for _, change := range d.changes {
		var o object
		_ = json.Unmarshal(change.Object, &o) // deletions have no object
		if change.Kind == "group" || change.Kind == "rule" || change.Kind == "list" {
			if err := readable(o); err != nil {
				return err
			}
		}
		at := key{change.Kind, change.ID}
		if change.Group != "" {
			at = key{"group", change.Group}
		}
		touched[at] = true
		made[change.ID] = change.Action == "create"
	}
	need := func(l line) {
		for _, ref := range refsOf(d.own.name, l) {
			kind, rest, _ := strings.Cut(ref, ":")
			if id, own := strings.CutPrefix(rest, d.own.name+"/"); own {
				needed[key{kind, id}] = true
			}
		}
	}
	balancer := false
	all := slices.DeleteFunc(slices.Concat(d.entries, d.news), func(e *entry) bool { return e == nil })
	for _, e := range all {
		balancer = balancer || touched[e.key] && e.Kind == "instance" && bytes.Contains(e.text, []byte(`"listeners"`))
	}
	for _, e := range all {
		if touched[e.key] || e.Kind == "subnet" || e.Kind == "instance" && balancer {
			for _, l := range append([]line{e.line}, e.rules...) {
				need(l)
			}
		}
	}
	var text bytes.Buffer
	text.WriteString(store.HeaderLine("draft",
		time.Unix(0, 0)) + store.CloudLine(&estate.Cloud{Name: d.cloud, Dialect: c.dialect}))
	put := func(l line) {
		text.Write(l.text)
		text.WriteByte('\n')
	}
	for _, e := range all {
		switch place := e.Kind == "account" || e.Kind == "network" || e.Kind == "subnet"; {
		case touched[e.key]:
			put(e.line)
			for _, r := range e.rules {
				put(r)
			}
		case place || needed[e.key] || e.Kind == "instance" && balancer: // whose targets they may be
			put(e.line)
		}
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
		if !touched[key{"group", g.ID}] {
			continue
		}
		if err := d.nameFree(g.ID); err != nil {
			return err
		}
		if err := allowed(e, g, made, d.elsewhere); err != nil {
			return err
		}
	}
	d.respell(e)
	return nil
}

// respell writes what has changed as it is written when the state is read again, so that it has the same version
// then.
func (d *draft) respell(e *estate.Estate) {
	as := make(map[key]json.RawMessage)
	for text := range bytes.Lines(store.ObjectLines(d.changed(e))) {
		l := lineOf(bytes.TrimSpace(text))
		as[l.key] = l.text
	}
	for i := range d.changes {
		c := &d.changes[i]
		text := as[key{c.Kind, c.ID}]
		of, l, there := d.find(c.Kind, c.ID)
		if c.Object == nil || text == nil || !there {
			continue
		}
		c.Object = text
		if of.key == l.key {
			of.line.text = text // an entry of this draft alone: what is served has others
			continue
		}
		for k := range of.rules {
			if of.rules[k].key == l.key {
				of.rules[k].text = text
			}
		}
	}
}

// changed are the parts of an estate that the draft changes; the others are taken out of it.
func (d *draft) changed(e *estate.Estate) *estate.Estate {
	changes := make(map[key]bool)
	for _, c := range d.changes {
		changes[key{c.Kind, c.ID}] = true
		if c.Group != "" {
			changes[key{"group", c.Group}] = true
		}
	}
	small := new(estate.Estate)
	for _, g := range e.Groups {
		if !changes[key{"group", g.ID}] {
			continue
		}
		g.Rules = slices.DeleteFunc(g.Rules, func(r estate.Rule) bool { return !changes[key{"rule", r.ID}] })
		small.Groups = append(small.Groups, g)
	}
	for _, l := range e.Lists {
		if changes[key{"list", l.ID}] {
			small.Lists = append(small.Lists, l)
		}
	}
	for _, i := range e.Instances {
		if changes[key{"instance", i.ID}] {
			small.Instances = append(small.Instances, i)
		}
	}
	for _, n := range e.Networks {
		if slices.ContainsFunc(n.Subnets, func(s *estate.Subnet) bool { return changes[key{"subnet", s.ID}] }) {
			small.Networks = append(small.Networks, n)
		}
	}
	return small
}

// nameFree refuses a group that is made, or renamed, with a name that another one has.
func (d *draft) nameFree(id string) error {
	_, l, _ := d.find("group", id)
	name, _ := namingOf(l.text)
	if _, before, there := d.own.find(key{"group", id}); there {
		if was, _ := namingOf(before.text); was == name {
			return nil // it had it before, beside another one: some clouds let groups share names
		}
	}
	if other := d.own.names[name]; other != "" && other != id {
		return conflict(nameTaken, "the group %s has that name already", other)
	}
	return nil
}

// elsewhere reports whether a reference ("group:account/id") is to something of another account of this cloud.
func (d *draft) elsewhere(reference string) bool {
	reference, _, _ = strings.Cut(reference, " ") // an address family may follow
	kind, rest, _ := strings.Cut(reference, ":")
	account, id, ok := strings.Cut(rest, "/")
	_, _, there := d.server.state.clouds[d.cloud].accounts[account].find(key{kind, id})
	return ok && there
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
	of, l, ok := d.find(kind, id)
	if !ok {
		return object{}, refuse(http.StatusNotFound, "there is no %s %q", kind, id)
	}
	if err := matches(r, etagOf(of, l), kind, id); err != nil {
		return object{}, err
	}
	var o object
	return o, json.Unmarshal(l.text, &o)
}

// users are the objects to which a group is attached, and the groups whose rules refer to a group
// or list, in all accounts of the cloud. That there are none is known without looking.
func (d *draft) users(kind, id string) []string {
	c, ref := d.server.state.clouds[d.cloud], kind+":"+d.own.name+"/"+id
	if c.refs[ref] == 0 {
		return nil
	}
	var users []string
	for name, a := range c.accounts {
		for _, l := range a.lines() {
			if slices.Contains(refsOf(name, l), ref) {
				users = append(users, l.Kind+" "+l.ID)
			}
		}
	}
	slices.Sort(users)
	return users
}
