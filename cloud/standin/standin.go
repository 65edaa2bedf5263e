// Package standin is a server that stands in for clouds: it serves the open interface
// (docs/cloud.openapi.json) from a survey in a folder. It can be told to misbehave.
package standin

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"isonomos/cloud"
)

// Names of files in a stand-in's folder.
const (
	StateFile  = "state.jsonl" // the state: a survey
	FaultsFile = "faults.json"
)

// A Server serves the clouds of one folder. Its state is the survey in that folder, with the changes of its log. The
// survey is read again when the file has changed, so that edits by hand are served too. A Server may be used by
// several goroutines.
type Server struct {
	folder string
	token  string // that may read and write
	sleep  func(time.Duration)
	mux    *http.ServeMux

	mu      sync.Mutex
	tokens  tokens
	read    os.FileInfo // the state file when it was read or written
	size    int         // of the state file
	took    time.Duration
	pending bool // the state file is going to be written
	state   *state
	former  former
	faults  faults
	decided os.FileInfo // the faults file when it was read
	asked   uint64      // number of requests so far

	log       *os.File
	feed      string         // tells the feed from that of an earlier server
	changes   int            // number of the latest change
	lastOf    map[string]int // the same, by cloud
	fed       []Change       // the latest changes
	news      chan struct{}  // is closed when there is another one
	revisions int
}

// former is an account as it was before the last change, without an index: stale answers come from it.
type former struct {
	cloud string
	last  int // number of the change before
	*account
}

// Open opens the folder of a stand-in, which must hold its state. It makes tokens if there are none
// yet.
func Open(folder string) (*Server, error) {
	s := &Server{folder: folder, sleep: time.Sleep, mux: http.NewServeMux(), feed: newID("feed"),
		lastOf: make(map[string]int), news: make(chan struct{})}
	s.routes()
	for _, name := range []string{TokenFile, ReadTokenFile} {
		if err := makeToken(filepath.Join(folder, name)); err != nil {
			return nil, err
		}
	}
	if err := s.refresh(); err != nil {
		return nil, err
	}
	_, _, err := s.now()
	return s, err
}

// Clouds are the names of the clouds that are served.
func (s *Server) Clouds() ([]string, error) {
	now, _, err := s.now()
	if err != nil {
		return nil, err
	}
	return slices.Sorted(maps.Keys(now.clouds)), nil
}

// unchanged reports whether a file is as it was. Its time alone does not tell: it may stand still for milliseconds.
func unchanged(is, was os.FileInfo) bool {
	if is == nil || was == nil {
		return is == was
	}
	return is.ModTime().Equal(was.ModTime()) && is.Size() == was.Size() && os.SameFile(is, was)
}

// now returns the state, and what it was before the last change. If the file was edited it reads it again.
func (s *Server) now() (now *state, before former, err error) {
	path := filepath.Join(s.folder, StateFile)
	info, err := os.Stat(path)
	if err != nil {
		return nil, former{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.state != nil && unchanged(info, s.read) {
		return s.state, s.former, nil
	}
	if info, err = os.Stat(path); err != nil { // it may have been written meanwhile
		return nil, former{}, err
	}
	if s.state != nil && unchanged(info, s.read) {
		return s.state, s.former, nil
	}
	was := s.state
	next, err := s.load(path)
	if err != nil {
		return nil, former{}, err
	}
	s.state, s.former, s.read = next, former{}, info
	if was == nil {
		return s.state, s.former, nil
	}
	if changes := edited(was, next); len(changes) > 0 {
		s.number(changes, byHand)
		if err := s.append(changes); err != nil {
			return nil, former{}, err
		}
		s.publish(changes)
	}
	return s.state, s.former, nil
}

// ServeHTTP serves each cloud under its name: /northmere/v1/accounts.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h, ok := s.permitted(w, r)
	if !ok {
		return
	}
	r = r.WithContext(withHolder(r.Context(), h))
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

// find finds the cloud that a request names, and its account as it is to be served; nil if it names none. What it
// finds is read under the lock.
func (s *Server) find(w http.ResponseWriter, r *http.Request) (*served, *account, bool) {
	now, before, err := s.now()
	if err != nil {
		tell(w, http.StatusInternalServerError, "the state can't be read: "+err.Error())
		return nil, nil, false
	}
	name := r.PathValue("cloud")
	c := now.clouds[name]
	if c == nil {
		tell(w, http.StatusNotFound, fmt.Sprintf("no cloud is called %q", name))
		return nil, nil, false
	}
	wanted := r.PathValue("account")
	if wanted == "" {
		return c, nil, true
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	a := c.accounts[wanted]
	if a == nil {
		tell(w, http.StatusNotFound, fmt.Sprintf("no account is called %q", wanted))
		return nil, nil, false
	}
	if isStale(r.Context()) && before.account != nil && before.cloud == name && before.name == wanted {
		return c, before.account, true
	}
	return c, a, true
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
	if c, _, ok := s.find(w, r); ok {
		answer(w, map[string]any{"cloud": r.PathValue("cloud"), "dialect": c.dialect, "actor": asks(r).Name,
			"may": asks(r).May, "address": addressOf(r)})
	}
}

// kinds are those of the objects of an account, itself among them.
var kinds = []string{"account", "network", "subnet", "list", "instance", "group", "rule"}

// mostItems is the largest number of items on a page.
const mostItems = 1000

// list answers with a page of the accounts, or of one account's objects.
func (s *Server) list(w http.ResponseWriter, r *http.Request) {
	c, a, ok := s.find(w, r)
	if !ok {
		return
	}
	items, last, revision := s.lines(r.PathValue("cloud"), c, a)
	if a != nil {
		if kind := r.URL.Query().Get("kind"); kind != "" {
			if !slices.Contains(kinds, kind) {
				tell(w, http.StatusNotFound, fmt.Sprintf("no kind of object is called %q", kind))
				return
			}
			items = slices.DeleteFunc(items, func(item line) bool { return item.Kind != kind })
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
	w.Header().Set("ETag", strconv.Quote(revision))
	page := map[string]any{"revision": revision, "items": append([]line{}, items[from:to]...), "next": next}
	if a != nil {
		page["feed"], page["last"] = s.feed, last
	}
	answer(w, page)
}

// lines are those of an account, or if it is nil of all accounts themselves; the number of the last change that is
// in them, and their revision.
func (s *Server) lines(name string, c *served, a *account) (items []line, last int, revision string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	last = s.lastOf[name]
	if a != nil {
		if a.at == nil { // it is as it was before the last change
			last = s.former.last
		}
		return a.lines(), last, a.revision
	}
	for _, account := range c.names {
		items = append(items, c.accounts[account].entries[0].line)
	}
	return items, last, s.feed
}

func answer(w http.ResponseWriter, body any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(body) // writing fails if the client is gone
}
