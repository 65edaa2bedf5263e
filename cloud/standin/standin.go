// Package standin is a server that stands in for clouds: it serves the open interface
// (docs/cloud.openapi.json) from a survey in a folder. It can be told to misbehave.
package standin

import (
	"bytes"
	"cmp"
	"crypto/rand"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"isonomos/cloud"
	"isonomos/core/estate"
	"isonomos/store"
)

// Names of files in a stand-in's folder.
const (
	StateFile  = "state.jsonl" // the state: a survey
	TokenFile  = "token"
	FaultsFile = "faults.json"
)

// A Server serves the clouds of one folder. Its state is the survey in that folder. It is read
// again when the file has changed, so that edits by hand are served too. A Server may be used by
// several goroutines.
type Server struct {
	folder string
	token  string
	sleep  func(time.Duration)
	mux    *http.ServeMux

	mu      sync.Mutex
	read    time.Time // modification time of the state file when it was read
	state   *state
	former  *state // the state before the last change: stale answers come from it
	faults  faults
	decided time.Time // modification time of the faults file when it was read
	changes int       // number of changes so far
	asked   uint64    // number of requests so far
}

// A state is all that is served at one moment.
type state struct {
	header   string // the first line
	revision string
	clouds   map[string]*served
}

// served is what is served of one cloud.
type served struct {
	dialect  string
	names    []string // of accounts, in the order of the survey
	accounts map[string][]line
}

// A line is an object as it is served, with the fields by which it is found.
type line struct {
	key
	group string // of a rule: its group's id
	text  json.RawMessage
}

// MarshalJSON returns the line as it was read.
func (l line) MarshalJSON() ([]byte, error) { return l.text, nil }

func lineOf(text json.RawMessage) line {
	var o struct{ Kind, ID, Group string }
	_ = json.Unmarshal(text, &o) // lines of the state have been decoded before
	return line{key{o.Kind, o.ID}, o.Group, text}
}

// Open opens the folder of a stand-in, which must hold its state. It makes a token if there is none
// yet.
func Open(folder string) (*Server, error) {
	s := &Server{folder: folder, sleep: time.Sleep, mux: http.NewServeMux()}
	s.routes()
	path := filepath.Join(folder, TokenFile)
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		secret := make([]byte, 24)
		if _, err := rand.Read(secret); err != nil {
			return nil, err
		}
		text = []byte(hex.EncodeToString(secret))
		err = os.WriteFile(path, text, 0o600)
		if err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	s.token = strings.TrimSpace(string(text))
	changes, err := os.ReadFile(filepath.Join(folder, ChangesFile))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	s.changes = bytes.Count(changes, []byte{'\n'})
	_, _, err = s.now()
	return s, err
}

// Clouds are the names of the clouds that are served.
func (s *Server) Clouds() ([]string, error) {
	now, _, err := s.now()
	if err != nil {
		return nil, err
	}
	var names []string
	for name := range now.clouds {
		names = append(names, name)
	}
	slices.Sort(names)
	return names, nil
}

// now returns the state of the file, and the one before it, if any.
func (s *Server) now() (now, former *state, err error) {
	path := filepath.Join(s.folder, StateFile)
	info, err := os.Stat(path)
	if err != nil {
		return nil, nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.state != nil && info.ModTime().Equal(s.read) {
		return s.state, s.former, nil
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	e, _, err := store.ReadSurvey(f, path)
	if err != nil {
		return nil, nil, err
	}
	s.former, s.state, s.read = s.state, stateOf(e, strconv.FormatInt(info.ModTime().UnixNano(), 36)), info.ModTime()
	return s.state, s.former, nil
}

// stateOf sorts the lines of a survey by cloud and account.
func stateOf(e *estate.Estate, revision string) *state {
	own := make(map[*estate.Account]*estate.Estate)
	of := func(a *estate.Account) *estate.Estate {
		x := own[a]
		if x == nil {
			x = &estate.Estate{Accounts: []*estate.Account{a}}
			own[a] = x
		}
		return x
	}
	for _, n := range e.Networks {
		of(n.Account).Networks = append(of(n.Account).Networks, n)
	}
	for _, l := range e.Lists {
		if l.Account != nil {
			of(l.Account).Lists = append(of(l.Account).Lists, l)
		}
	}
	for _, i := range e.Instances {
		of(i.Account).Instances = append(of(i.Account).Instances, i)
	}
	for _, g := range e.Groups {
		of(g.Account).Groups = append(of(g.Account).Groups, g)
	}
	st := &state{header: store.HeaderLine(e.Name, e.Taken), revision: revision, clouds: make(map[string]*served)}
	for _, c := range e.Clouds {
		st.clouds[c.Name] = &served{dialect: c.Dialect, accounts: make(map[string][]line)}
	}
	for _, a := range e.Accounts {
		c := st.clouds[a.Cloud.Name]
		c.names = append(c.names, a.Name)
		for text := range bytes.Lines(store.ObjectLines(of(a))) {
			c.accounts[a.Name] = append(c.accounts[a.Name], lineOf(bytes.TrimSpace(text)))
		}
	}
	return st
}

// ServeHTTP serves each cloud under its name: /northmere/v1/accounts.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if subtle.ConstantTimeCompare([]byte(r.Header.Get("Authorization")), []byte("Bearer "+s.token)) != 1 {
		w.Header().Set("WWW-Authenticate", "Bearer")
		tell(w, http.StatusUnauthorized, "the token is missing, or not the right one")
		return
	}
	stale, served := s.misbehave(w, r)
	if served {
		return
	}
	s.mux.ServeHTTP(w, r.WithContext(withStale(r.Context(), stale)))
}

// problemType is what the types of problems begin with that are this interface's own.
const problemType = "urn:isonomos:problem:"

// tell answers with a problem of which the status says enough.
func tell(w http.ResponseWriter, status int, detail string) { problem(w, status, "", detail) }

// problem answers with a problem (RFC 9457).
func problem(w http.ResponseWriter, status int, kind, detail string) {
	p := cloud.Problem{Type: "about:blank", Title: http.StatusText(status), Status: status, Detail: detail}
	if kind != "" {
		p.Type = problemType + kind
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(p) // writing fails if the client is gone
}

// find finds the cloud that a request names.
func (s *Server) find(w http.ResponseWriter, r *http.Request) (*state, *served, bool) {
	now, former, err := s.now()
	if err != nil {
		tell(w, http.StatusInternalServerError, "the state can't be read: "+err.Error())
		return nil, nil, false
	}
	if isStale(r.Context()) && former != nil {
		now = former
	}
	c := now.clouds[r.PathValue("cloud")]
	if c == nil {
		tell(w, http.StatusNotFound, fmt.Sprintf("no cloud is called %q", r.PathValue("cloud")))
		return nil, nil, false
	}
	return now, c, true
}

// addressOf is the address from which a request comes: that of the socket's other end, never what a header says.
func addressOf(r *http.Request) string {
	peer, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil {
		return ""
	}
	return peer.Addr().Unmap().WithZone("").String()
}

// whoami answers who asks, from where, and what the cloud is.
func (s *Server) whoami(w http.ResponseWriter, r *http.Request) {
	if _, c, ok := s.find(w, r); ok {
		answer(w, map[string]any{"cloud": r.PathValue("cloud"), "dialect": c.dialect, "actor": "sandbox",
			"may": []string{"read", "write"}, "address": addressOf(r)})
	}
}

// kinds are those of the objects of an account, itself among them.
var kinds = []string{"account", "network", "subnet", "list", "instance", "group", "rule"}

// mostItems is the largest number of items on a page.
const mostItems = 1000

// list answers with a page of the accounts, or of one account's objects.
func (s *Server) list(w http.ResponseWriter, r *http.Request) {
	now, c, ok := s.find(w, r)
	if !ok {
		return
	}
	var items []line
	if account := r.PathValue("account"); account != "" {
		if items, ok = c.accounts[account]; !ok {
			tell(w, http.StatusNotFound, fmt.Sprintf("no account is called %q", account))
			return
		}
		if kind := r.URL.Query().Get("kind"); kind != "" {
			if !slices.Contains(kinds, kind) {
				tell(w, http.StatusNotFound, fmt.Sprintf("no kind of object is called %q", kind))
				return
			}
			items = slices.DeleteFunc(slices.Clone(items), func(item line) bool { return item.Kind != kind })
		}
	} else {
		for _, name := range c.names {
			items = append(items, c.accounts[name][0])
		}
	}
	limit, err := strconv.Atoi(cmp.Or(r.URL.Query().Get("limit"), strconv.Itoa(mostItems)))
	if err != nil || limit < 1 {
		tell(w, http.StatusBadRequest, "limit is a number from 1 on")
		return
	}
	from := 0
	if cursor := r.URL.Query().Get("cursor"); cursor != "" {
		if from, err = strconv.Atoi(cursor); err != nil || from < 0 || from > len(items) {
			tell(w, http.StatusBadRequest, "the cursor is none of this list")
			return
		}
	}
	to := min(from+min(limit, mostItems), len(items))
	next := ""
	if to < len(items) {
		next = strconv.Itoa(to)
	}
	w.Header().Set("ETag", strconv.Quote(now.revision))
	answer(w, map[string]any{"revision": now.revision, "items": append([]line{}, items[from:to]...), "next": next})
}

func answer(w http.ResponseWriter, body any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(body) // writing fails if the client is gone
}
