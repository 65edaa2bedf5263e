package store

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"sync"
	"time"

	"github.com/go-faster/jx"

	"isonomos/core/estate"
	"isonomos/core/near"
	"isonomos/core/service"
)

// chunkSize is how many bytes are decoded at a time, rounded up to whole lines.
const chunkSize = 1 << 20

// A block is whole lines of a survey.
type block struct {
	text  []byte
	line  int // number of its first line
	first bool
	done  chan chunk
}

// A chunk is a decoded block.
type chunk struct {
	header    *record
	lines     map[string][]*pending // by kind, except instances and rules
	instances []instanceLine
	rules     []estate.Rule // in the order of the file
	runs      []run         // the group of each run of them
	refs      []int         // indices of rules whose peers refer to something
	warnings  []warning
	err       *SurveyError
}

// An instanceLine is an instance whose references have not been resolved.
type instanceLine struct {
	account, id, name, kind string
	labels                  estate.Labels
	interfaces              []interfaceRecord
	listeners               []listenerRecord
	line                    int
}

func (p *instanceLine) asker() asker { return asker{"instance", p.id, p.line} }

// A run is consecutive rules of one group in a chunk, up to an index.
type run struct {
	account, group string
	to             int
}

// blocks are buffers for blocks, used again by whoever reads next: small surveys are read very often.
var blocks = sync.Pool{New: func() any {
	buffer := make([]byte, 0, chunkSize+chunkSize/4)
	return &buffer
}}

// readChunks decodes all lines in parallel and returns the chunks in the order of the file.
func (s *surveyReader) readChunks(r io.Reader) error {
	workers := runtime.GOMAXPROCS(0)
	jobs, order := make(chan block), make(chan chan chunk, 2*workers)
	stop := make(chan struct{})
	var readErr error
	go func() {
		defer close(order)
		defer close(jobs)
		readErr = s.readBlocks(r, func(b block) bool {
			b.done = make(chan chunk, 1)
			select {
			case <-stop:
				return false
			case order <- b.done:
			}
			jobs <- b
			return true
		})
	}()
	for range workers {
		go func() {
			l := newLineReader()
			for b := range jobs {
				c := l.chunk(s.file, b)
				blocks.Put(&b.text)
				b.done <- c
			}
		}()
	}
	var failed error
	for done := range order {
		c := <-done
		s.warnings = append(s.warnings, c.warnings...)
		if failed != nil {
			continue
		}
		if c.header != nil {
			s.headed = true
			s.estate.Name = c.header.Estate
			// the line's own reading has reported a bad time
			s.estate.Taken, _ = time.Parse(time.RFC3339, c.header.Taken)
		}
		if c.err != nil {
			failed = c.err
			close(stop)
			continue
		}
		s.chunks = append(s.chunks, c)
	}
	if failed != nil {
		return failed
	}
	return readErr
}

// readBlocks divides the input into blocks of whole lines. If reading fails, the error has the
// number of the line that could not be read.
func (s *surveyReader) readBlocks(r io.Reader, send func(block) bool) error {
	var rest []byte // the beginning of an incomplete line
	line, first := 1, true
	for {
		text := append((*blocks.Get().(*[]byte))[:0], rest...)
		var err error
		end := 0 // end of the last complete line
		for end == 0 && err == nil {
			if len(text) > maxSurveyLine {
				return &SurveyError{s.file, line, fmt.Errorf("the line is longer than %d MB", maxSurveyLine>>20)}
			}
			from := len(text)
			text = slices.Grow(text, chunkSize)
			var n int
			n, err = io.ReadFull(r, text[from:from+chunkSize])
			text = text[:from+n]
			end = bytes.LastIndexByte(text[from:], '\n') + 1
			if end > 0 {
				end += from
			}
		}
		last := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) && !isCorrupt(err)
		if last {
			end = len(text)
		}
		rest = append(rest[:0:0], text[end:]...)
		text = text[:end]
		for first && len(text) > 0 { // only blank lines may precede the header
			i := bytes.IndexByte(text, '\n')
			if i < 0 || len(bytes.TrimSpace(text[:i])) > 0 {
				break
			}
			text, line = text[i+1:], line+1
		}
		if len(bytes.TrimSpace(text)) > 0 {
			if !send(block{text: text, line: line, first: first}) {
				return nil
			}
			first = false
		}
		line += bytes.Count(text, []byte{'\n'})
		switch {
		case last:
			return nil
		case err != nil:
			return &SurveyError{s.file, line, err}
		}
	}
}

// A CorruptError says that compressed data is damaged. A reader that returns it has not reached the
// end of the data.
type CorruptError struct{ Err error }

// Error says what is wrong.
func (e *CorruptError) Error() string { return e.Err.Error() }

// Unwrap is the unpacker's own error.
func (e *CorruptError) Unwrap() error { return e.Err }

func isCorrupt(err error) bool {
	var c *CorruptError
	return errors.As(err, &c)
}

// chunk decodes a block, up to the first error.
func (l *lineReader) chunk(file string, b block) chunk {
	c := chunk{lines: make(map[string][]*pending)}
	l.file = file
	if bytes.HasPrefix(b.text, []byte(ruleBegins)) {
		c.rules = make([]estate.Rule, 0, bytes.Count(b.text, []byte{'\n'})+1)
	}
	number := b.line
	for rest := b.text; len(rest) > 0; number++ {
		text := rest
		if i := bytes.IndexByte(rest, '\n'); i >= 0 {
			text, rest = rest[:i], rest[i+1:]
		} else {
			rest = nil
		}
		if text = bytes.TrimSpace(text); len(text) == 0 {
			continue
		}
		if err := l.take(&c, text, number, b.first && c.header == nil); err != nil {
			c.err = &SurveyError{file, number, err}
			return c
		}
	}
	return c
}

var recordKinds = []string{"survey", "cloud", "account", "network", "subnet", "instance", "group", "rule", "list",
	"unread"}

// take decodes a line. The first one of a survey must be its header.
func (l *lineReader) take(c *chunk, text []byte, number int, head bool) error {
	if rule, ok := l.readRule(text); ok && !head {
		return l.rule(c, &rule, number)
	}
	l.line = line{}
	r := &l.line
	if err := l.read(text, r); err != nil {
		return err
	}
	switch {
	case head:
		header := r.record
		c.header = &header
		return checkHeader(c.header)
	case r.Kind == "rule":
		return l.rule(c, &ruleText{r.Account, r.Group, r.ID, r.Direction, r.Action, r.Description, r.Rank,
			r.Stateless, r.BuiltIn, r.rawPeers, r.rawServices, r.Changed}, number)
	case r.Kind == "instance":
		c.instances = append(c.instances,
			instanceLine{r.Account, r.ID, r.Name, r.Type, r.Labels, r.Interfaces, r.Listeners, number})
		return nil
	case r.Kind == "":
		return errors.New(`the line has no "kind"`)
	case r.Kind == "survey":
		return errors.New("a second survey begins here: put each into a file of its own")
	case !slices.Contains(recordKinds, r.Kind):
		if best, ok := near.Best(r.Kind, recordKinds); ok {
			return fmt.Errorf("the kind %q is unknown: %q is near", r.Kind, best)
		}
		c.warnings = append(c.warnings,
			warning{number, fmt.Sprintf("the kind %q is unknown, and the line is ignored", r.Kind)})
		return nil
	}
	for name, n := range r.Limits {
		if n < 0 {
			return fmt.Errorf("the limit %s is %d: it is a number of 0 or more", name, n)
		}
	}
	if r.Kind == "list" && r.Owner != "" && r.Owner != "own" && r.Owner != "published" {
		return fmt.Errorf("the owner %q is unknown: a list is own or published", r.Owner)
	}
	if r.rawPeers != nil {
		if err := json.Unmarshal(r.rawPeers, &r.Peers); err != nil {
			return describeJSON(err)
		}
	}
	c.lines[r.Kind] = append(c.lines[r.Kind], &pending{r.record, number})
	return nil
}

func checkHeader(r *record) error {
	if r.Kind != "survey" {
		return errors.New(`this is not a survey: its first line must be {"kind":"survey","version":1,…}`)
	}
	if r.Version != SurveyVersion {
		return fmt.Errorf("this survey has version %d, and this program reads version %d", r.Version, SurveyVersion)
	}
	if r.Taken != "" {
		if _, err := time.Parse(time.RFC3339, r.Taken); err != nil {
			return fmt.Errorf(`"taken" is %q: write a time like 2026-11-20T06:00:00Z`, r.Taken)
		}
	}
	return nil
}

// rule adds a rule to a chunk, without resolving its references.
func (l *lineReader) rule(c *chunk, r *ruleText, number int) error {
	direction, action := estate.Direction(r.direction), estate.Action(orElse(r.action, "admit"))
	if direction != estate.In && direction != estate.Out {
		return fmt.Errorf(`the rule %q has the direction %q: write in or out`, r.id, r.direction)
	}
	if action != estate.Admit && action != estate.Refuse {
		return fmt.Errorf(`the rule %q has the action %q: write admit or refuse`, r.id, r.action)
	}
	services, err := l.specs(r.services)
	if err != nil {
		return err
	}
	peers, err := l.peersOf(r.peers)
	if err != nil {
		return err
	}
	if len(services) == 0 || len(peers.peers) == 0 {
		return fmt.Errorf(`the rule %q needs "services" and "peers"; write "any" and "anything" for all`, r.id)
	}
	var by *estate.Changed
	if r.changed != nil {
		by = &estate.Changed{By: r.changed.By}
		if r.changed.At != "" {
			if by.At, err = time.Parse(time.RFC3339, r.changed.At); err != nil {
				return fmt.Errorf(`the rule %q was changed at %q: write a time like 2026-11-20T06:00:00Z`, r.id,
					r.changed.At)
			}
		}
	}
	for _, text := range peers.masked {
		masked, _ := ParseRange(text) // it was valid when it was read
		c.warnings = append(c.warnings,
			warning{number, fmt.Sprintf("the range %s has host bits: read as %s", text, masked.Masked())})
	}
	if peers.refs {
		c.refs = append(c.refs, len(c.rules))
	}
	c.rules = append(c.rules,
		estate.Rule{ID: r.id, Direction: direction, Action: action, Rank: r.rank, Peers: peers.peers,
			Services:  services,
			Stateless: r.stateless, Description: r.description, BuiltIn: r.builtIn,
			Origin: estate.Origin{File: l.file, Line: number}, Changed: by})
	if n := len(c.runs); n > 0 && c.runs[n-1].group == r.group && c.runs[n-1].account == r.account {
		c.runs[n-1].to++
	} else {
		c.runs = append(c.runs, run{r.account, r.group, len(c.rules)})
	}
	return nil
}

// specs reads the services of a rule.
func (l *lineReader) specs(raw jx.Raw) ([]service.Spec, error) {
	if known, ok := l.services[string(raw)]; ok || len(raw) == 0 {
		return known, nil
	}
	var specs []service.Spec
	err := l.each(raw, func(text string) error {
		spec, err := service.ParseSpec(text)
		specs = append(specs, spec)
		return err
	})
	if err == nil && len(l.services) < remembered {
		l.services[string(raw)] = specs
	}
	return specs, err
}

// peersOf reads the peers of a rule. Rules with the same ranges share them.
func (l *lineReader) peersOf(raw jx.Raw) (rawPeers, error) {
	if text, ok := only(raw); ok &&
		(bytes.HasPrefix(text, []byte("group:")) || bytes.HasPrefix(text, []byte("list:"))) {
		// few rules have the same references
		return rawPeers{peers: []estate.Peer{{Kind: estate.PeerMissing, Missing: valid(text)}}, refs: true}, nil
	}
	if known, ok := l.peers[string(raw)]; ok || len(raw) == 0 {
		return known, nil
	}
	var read rawPeers
	err := l.each(raw, func(text string) error {
		p, err := read.peer(text)
		read.peers = append(read.peers, p)
		return err
	})
	if err == nil && len(l.peers) < remembered {
		l.peers[string(raw)] = read
	}
	return read, err
}

// only is the single text in a list, written without escapes.
func only(raw jx.Raw) ([]byte, bool) {
	if len(raw) < 4 || raw[1] != '"' || raw[len(raw)-2] != '"' || bytes.IndexByte(raw, '\\') >= 0 {
		return nil, false
	}
	text := raw[2 : len(raw)-2]
	return text, bytes.IndexByte(text, '"') < 0
}

// each calls read with each text of a list.
func (l *lineReader) each(raw jx.Raw, read func(string) error) error {
	if text, ok := only(raw); ok {
		return read(valid(text))
	}
	var wrong error
	err := array(jx.DecodeBytes(raw), func(d *jx.Decoder) error {
		var s string
		if err := text(d, &s); err != nil {
			return err
		}
		wrong = read(s)
		return wrong
	})
	if err == nil || wrong != nil {
		return wrong
	}
	var again struct { // decoded as a field, so that errors name it
		List []string `json:"list"`
	}
	if precise := json.Unmarshal(slices.Concat([]byte(`{"list":`), raw, []byte("}")), &again); precise != nil {
		return describeJSON(precise)
	}
	return err
}
