package standin

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"isonomos/core/estate"
	"isonomos/store"
	"isonomos/store/whole"
)

// What happens is appended to a log. The state's file is written anew from time to time; its first line says how many
// changes are in it, and those that follow in the log are applied when it is read.

// ChangesFile records every change that was made, one a line. Its older half is dropped when it has become long.
const ChangesFile = "changes.jsonl"

// A Change is one change that was made.
type Change struct {
	Number   int             `json:"number"`   // from 1, without gaps
	Previous int             `json:"previous"` // the number of the cloud's change before; 0 for the first
	At       string          `json:"at"`
	By       string          `json:"by"`
	Cloud    string          `json:"cloud"`
	Account  string          `json:"account"`
	Action   string          `json:"action"` // "create", "change", "delete"
	Kind     string          `json:"kind"`
	ID       string          `json:"id"`
	Group    string          `json:"group,omitempty"`  // of a rule: the id of its group
	Object   json.RawMessage `json:"object,omitempty"` // the object after the change
}

// byHand is who changed what was edited in the state's file.
const byHand = "edited by hand"

const (
	// smallState is the size in bytes up to which the state's file is written with each change.
	smallState = 256 << 10
	// longLog is the size in bytes from which on the older half of the log is dropped.
	longLog = 64 << 20
	// mostFed is how many changes the feed can go back.
	mostFed = 50_000
	// leastPause and pauseFactor bound how often a large state is written: a twentieth of the time at most.
	leastPause  = 100 * time.Millisecond
	pauseFactor = 20
)

// counted is the first line of the state's file, which says how many changes are in it.
type counted struct {
	Changes *int `json:"changes"`
}

// load reads the state from its file and the changes that are not in it. It is called under the lock.
func (s *Server) load(path string) (*state, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	e, _, err := store.ReadSurvey(bytes.NewReader(text), path)
	if err != nil {
		return nil, err
	}
	st := stateOf(e)
	s.size = len(text)
	var head counted
	first, _, _ := bytes.Cut(text, []byte("\n"))
	_ = json.Unmarshal(first, &head) // it has been read before
	last := 0
	err = readLog(filepath.Join(s.folder, ChangesFile), func(c Change) {
		last = c.Number
		s.lastOf[c.Cloud] = c.Number
		if head.Changes != nil && c.Number > *head.Changes && c.By != byHand { // what was edited is in the file
			st.apply(c)
		}
	})
	s.changes = max(s.changes, last)
	for _, c := range st.clouds {
		for _, a := range c.accounts {
			a.revision = s.revision()
		}
	}
	return st, err
}

// revision is another one each time.
func (s *Server) revision() string {
	s.revisions++
	return s.feed + "-" + strconv.Itoa(s.revisions)
}

// readLog calls take for all changes of a log. A last line that was cut off is left out.
func readLog(path string, take func(Change)) error {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	lines := bufio.NewReaderSize(f, 1<<20)
	for {
		text, err := lines.ReadBytes('\n')
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		var c Change
		if err := json.Unmarshal(text, &c); err != nil {
			return fmt.Errorf("%s holds a line that is no change: %w", path, err)
		}
		take(c)
	}
}

// apply applies a change of the log.
func (st *state) apply(c Change) {
	of := st.clouds[c.Cloud]
	if of == nil || of.accounts[c.Account] == nil {
		return
	}
	if c.Action == "delete" {
		of.drop(c.Account, key{c.Kind, c.ID})
		return
	}
	of.put(c.Account, lineOf(c.Object))
}

// number gives changes their numbers, who made them and when.
func (s *Server) number(changes []Change, by string) {
	at := time.Now().UTC().Format(time.RFC3339Nano) // the same for all changes of one request
	for i := range changes {
		c := &changes[i]
		s.changes++
		c.Number, c.Previous, c.At, c.By = s.changes, s.lastOf[c.Cloud], at, by
		s.lastOf[c.Cloud] = c.Number
	}
}

// append writes changes to the log.
func (s *Server) append(changes []Change) error {
	if s.log == nil {
		if err := s.openLog(); err != nil {
			return err
		}
	}
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	enc.SetEscapeHTML(false)
	for i := range changes {
		if err := enc.Encode(changes[i]); err != nil {
			return err
		}
	}
	_, err := s.log.Write(text.Bytes())
	return err
}

// openLog opens the log to be added to. A last line that was cut off, when a server was killed, is taken away: it was
// never answered.
func (s *Server) openLog() error {
	path := filepath.Join(s.folder, ChangesFile)
	f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_RDWR, 0o644)
	if err != nil {
		return err
	}
	s.log = f
	info, err := f.Stat()
	if err != nil {
		return err
	}
	for end := info.Size(); end > 0; end-- {
		last := make([]byte, 1)
		if _, err := f.ReadAt(last, end-1); err != nil {
			return err
		}
		if last[0] == '\n' {
			if end < info.Size() {
				return f.Truncate(end)
			}
			return nil
		}
	}
	return f.Truncate(0)
}

// publish serves changes in the feed, and wakes who waits for them.
func (s *Server) publish(changes []Change) {
	s.fed = append(s.fed, changes...)
	if len(s.fed) > 2*mostFed {
		s.fed = slices.Clone(s.fed[len(s.fed)-mostFed:])
	}
	close(s.news)
	s.news = make(chan struct{})
}

// settle has the state's file written: at once where that is quick, else after a while. It is called under the lock.
func (s *Server) settle() error {
	if s.size <= smallState {
		return s.write()
	}
	s.writeLater()
	return nil
}

// writeLater has a large state written after a while.
func (s *Server) writeLater() {
	if !s.pending {
		s.pending = true
		time.AfterFunc(max(leastPause, pauseFactor*s.took), s.compact)
	}
}

// compact writes a large state to its file; most of that without the lock.
func (s *Server) compact() {
	began := time.Now()
	s.mu.Lock()
	write, changes := s.snapshot(), s.changes
	s.mu.Unlock()
	size, err := s.draftFile(write)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.took, s.pending = time.Since(began), false
	if err == nil {
		err = s.place(size, changes)
	}
	if err != nil || s.changes > changes {
		s.writeLater()
	}
}

// Close waits until the state's file has all changes.
func (s *Server) Close() {
	for {
		s.mu.Lock()
		pending := s.pending
		s.mu.Unlock()
		if !pending {
			return
		}
		time.Sleep(leastPause / 2)
	}
}

// write writes the state's file under the lock.
func (s *Server) write() error {
	size, err := s.draftFile(s.snapshot())
	if err != nil {
		return err
	}
	return s.place(size, s.changes)
}

// nextFile is the state's file while it is being written. The log has what is not in it, so that it need not be on the
// disk before it is put in place.
const nextFile = ".state.next"

// draftFile writes a new file of the state beside it, and returns its size.
func (s *Server) draftFile(write func(*bufio.Writer)) (size int, err error) {
	f, err := os.Create(filepath.Join(s.folder, nextFile))
	if err != nil {
		return 0, err
	}
	out := bufio.NewWriterSize(f, 1<<20)
	write(out)
	err = errors.Join(out.Flush(), f.Chmod(0o644), f.Close())
	info, wrong := os.Stat(f.Name())
	if err = errors.Join(err, wrong); err != nil {
		return 0, err
	}
	return int(info.Size()), nil
}

// snapshot is the state as it is now; the function that it returns writes it, without the lock.
func (s *Server) snapshot() (write func(*bufio.Writer)) {
	type part struct {
		head    string
		entries []*entry
	}
	names := slices.Sorted(maps.Keys(s.state.clouds))
	header := fmt.Sprintf("%s,\"changes\":%d}\n", bytes.TrimRight([]byte(s.state.header), "}\n"), s.changes)
	parts := []part{{head: header}}
	for _, name := range names {
		parts[0].head += store.CloudLine(&estate.Cloud{Name: name, Dialect: s.state.clouds[name].dialect})
	}
	for _, name := range names {
		c := s.state.clouds[name]
		for _, account := range c.names {
			parts = append(parts, part{entries: slices.Clone(c.accounts[account].entries)})
		}
	}
	return func(out *bufio.Writer) { // it remembers a failed write
		for _, p := range parts {
			out.WriteString(p.head)
			for _, e := range inOrder(p.entries) {
				out.Write(e.text)
				out.WriteByte('\n')
				for _, r := range e.rules {
					out.Write(r.text)
					out.WriteByte('\n')
				}
			}
		}
	}
}

// place puts the new file of the state in place, unless somebody has edited the old one, and drops the older half of
// a long log.
func (s *Server) place(size, changes int) error {
	path := filepath.Join(s.folder, StateFile)
	if info, err := os.Stat(path); err == nil && !unchanged(info, s.read) {
		return nil // it is read before it is written
	}
	if err := os.Rename(filepath.Join(s.folder, nextFile), path); err != nil {
		return err
	}
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	s.read, s.size = info, size
	if s.log == nil {
		return nil
	}
	if info, err := s.log.Stat(); err == nil && info.Size() > longLog {
		return s.shorten(changes)
	}
	return nil
}

// shorten drops the older half of the log; all that it drops is in the state's file.
func (s *Server) shorten(changes int) error {
	path := filepath.Join(s.folder, ChangesFile)
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	half := text[len(text)/2:]
	if i := bytes.IndexByte(half, '\n'); i >= 0 {
		half = half[i+1:]
	}
	var first Change
	line, _, _ := bytes.Cut(half, []byte("\n"))
	if json.Unmarshal(line, &first) != nil || first.Number > changes+1 {
		return nil // what is not in the file yet stays
	}
	if err := whole.Put(path, string(half), 0o644); err != nil {
		return err
	}
	s.log.Close()
	s.log = nil
	return nil
}

// edited are the changes between two states of the file that was edited by hand.
func edited(was, is *state) []Change {
	var all []Change
	for _, name := range slices.Sorted(maps.Keys(is.clouds)) { // so that numbers don't depend on chance
		c, old := is.clouds[name], was.clouds[name]
		if old == nil {
			continue
		}
		for _, account := range old.names {
			if c.accounts[account] == nil {
				all = append(all, Change{Cloud: name, Account: account, Action: "delete", Kind: "account", ID: account})
			}
		}
		for _, account := range c.names {
			a, b := old.accounts[account], c.accounts[account]
			of := func(action string, l line) Change {
				id := l.ID
				if l.Kind == "account" && id == "" {
					id = account
				}
				return Change{Cloud: name, Account: account, Action: action, Kind: l.Kind, ID: id, Group: l.group}
			}
			if a == nil { // who hears of it reads all of it
				x := of("create", b.entries[0].line)
				x.Object = b.entries[0].text
				all = append(all, x)
				continue
			}
			for _, l := range a.lines() {
				if _, _, there := b.find(l.key); !there {
					all = append(all, of("delete", l))
				}
			}
			for _, l := range b.lines() {
				_, before, there := a.find(l.key)
				if there && bytes.Equal(before.text, l.text) {
					continue
				}
				x := of("change", l)
				if !there {
					x.Action = "create"
				}
				x.Object = l.text
				all = append(all, x)
			}
		}
	}
	return all
}

const (
	// longestPoll bounds how long a question for changes may wait.
	longestPoll = time.Minute
	// editLooks is how often the state's file is looked at meanwhile, and mostUnreadable how many looks in a row may
	// fail: an editor may be about to write it.
	editLooks      = 200 * time.Millisecond
	mostUnreadable = 10
)

// changed answers with the changes of a cloud after a position of its feed. If there are none yet it waits as long as
// it is asked to.
func (s *Server) changed(w http.ResponseWriter, r *http.Request) {
	if _, _, ok := s.find(w, r); !ok {
		return
	}
	name, query := r.PathValue("cloud"), r.URL.Query()
	feed := query.Get("feed")
	after, wrong := strconv.Atoi(query.Get("after"))
	if feed == "" && query.Get("after") == "" {
		s.mu.Lock()
		defer s.mu.Unlock()
		answer(w, map[string]any{"feed": s.feed, "items": []Change{}, "last": s.lastOf[name]})
		return
	}
	if feed == "" || wrong != nil || after < 0 {
		tell(w, http.StatusBadRequest, "feed and after are those of an earlier answer, or both are left out")
		return
	}
	wait := 0
	if text := query.Get("wait"); text != "" {
		var err error
		if wait, err = strconv.Atoi(text); err != nil || wait < 0 || time.Duration(wait)*time.Second > longestPoll {
			tell(w, http.StatusBadRequest, fmt.Sprintf("wait is a number of seconds from 0 to %d",
				int(longestPoll/time.Second)))
			return
		}
	}
	timer := time.NewTimer(time.Duration(wait) * time.Second)
	defer timer.Stop()
	edits := time.NewTicker(editLooks) // the state's file may be edited meanwhile
	defer edits.Stop()
	unreadable := 0 // times in a row
	for {
		s.mu.Lock()
		items, last, lost := s.since(name, feed, after)
		news := s.news
		s.mu.Unlock()
		switch {
		case lost:
			problem(w, http.StatusGone, positionLost, "the feed does not go back to that position: survey again, "+
				"and go on from there")
			return
		case len(items) > 0 || wait == 0:
			answer(w, map[string]any{"feed": feed, "items": items, "last": last})
			return
		}
		select {
		case <-news:
		case <-edits.C:
			_, _, err := s.now()
			if unreadable++; err == nil {
				unreadable = 0
			}
			if unreadable > mostUnreadable {
				tell(w, http.StatusInternalServerError, "the state can't be read: "+err.Error())
				return
			}
		case <-timer.C:
			wait = 0
		case <-r.Context().Done():
			return
		}
	}
}

// since are the changes of a cloud after a position, a page at most, and the last that is served with them.
func (s *Server) since(name, feed string, after int) (items []Change, last int, lost bool) {
	items = []Change{}
	if feed != s.feed || after > s.changes {
		return items, 0, true
	}
	from, _ := slices.BinarySearchFunc(s.fed, after+1, func(c Change, n int) int { return c.Number - n })
	for _, c := range s.fed[from:] {
		if c.Cloud != name {
			continue
		}
		if len(items) == 0 && c.Previous > after {
			return items, 0, true
		}
		if items = append(items, c); len(items) == mostItems {
			return items, c.Number, false
		}
	}
	last = max(s.lastOf[name], after)
	if len(items) == 0 && s.lastOf[name] > after {
		return items, 0, true // it was dropped from the feed
	}
	return items, last, false
}
