package enact

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"isonomos/core/pass"
	"isonomos/store"
)

// A Chronicle is what a journal tells of an estate, as far as it still matters: it is brought up to date entry by
// entry, and holds as much as the estate has, not as much as the journal. It is not for several goroutines; what Now
// returns is.
type Chronicle struct {
	head    store.Head
	open    []*Past // that are not at their end
	known   Known
	decided *Decided
	passes  map[string]*pass.Known
	upheld  *Upheld
	spans   []Span
	latest  time.Time
}

// NewChronicle is that of an empty journal.
func NewChronicle(name string) *Chronicle {
	return &Chronicle{known: make(Known), passes: make(map[string]*pass.Known), upheld: newUpheld(),
		decided: &Decided{estate: name, objects: make(lines), where: make(map[ident]map[string]bool),
			Definitions: make(map[string]string)}}
}

// Head is the last entry that it knows.
func (c *Chronicle) Head() store.Head { return c.head }

// Take takes the next entry.
func (c *Chronicle) Take(e store.Entry) error {
	at, err := time.Parse(time.RFC3339Nano, e.At)
	if err == nil {
		err = c.take(e, at)
	}
	if err != nil {
		return fmt.Errorf("entry %d of the journal: %w", e.Number, err)
	}
	c.head, c.latest = store.Head{Number: e.Number, Hash: e.Hash}, at
	return nil
}

func (c *Chronicle) take(e store.Entry, at time.Time) error {
	if err := c.upheld.take(e, at); err != nil {
		return err
	}
	if _, err := takePass(c.passes, e, at); err != nil {
		return err
	}
	if e.Kind == Begin {
		p := &Past{Name: e.Run, Draft: new(Draft)}
		if err := json.Unmarshal(e.Body, p.Draft); err != nil {
			return err
		}
		c.open = append(c.open, p)
	}
	i := slices.IndexFunc(c.open, func(p *Past) bool { return p.Name == e.Run })
	if i < 0 {
		return nil // it is about something other than a run, or one that was at its end
	}
	p := *c.open[i] // those that were given away stay as they are
	p.Entries = append(slices.Clip(p.Entries), e)
	c.open[i] = &p
	switch e.Kind {
	case Done:
		return c.done(&p, e)
	case Intend:
		p.Ended = nil // a stopped run was continued
	case End:
		p.Ended = new(Ending)
		if err := json.Unmarshal(e.Body, p.Ended); err != nil {
			return err
		}
		if p.Ended.Outcome != Stopped || len(p.Draft.Passes) > 0 {
			c.open = slices.Delete(slices.Clone(c.open), i, i+1)
			return errors.Join(c.closeUndone(&p, at), c.close(&p, at))
		}
	}
	return nil
}

// done notes what a step has made or marked, and of what is made again that it has another id.
func (c *Chronicle) done(p *Past, e store.Entry) error {
	var x Result
	if err := json.Unmarshal(e.Body, &x); err != nil {
		return err
	}
	s := p.Draft.step(x.Lane, x.Step)
	if s == nil {
		return nil // that is told when the run is at its end
	}
	c.known.note(s, &x)
	if s.Replaces == "" || x.IDs[s.ID] == "" {
		return nil
	}
	is := again{s.Account, s.Replaces, x.IDs[s.ID]}
	for i, other := range c.open {
		if other.Name != p.Name {
			copied := *other
			copied.again = append(slices.Clip(other.again), is)
			c.open[i] = &copied
		}
	}
	for of, id := range c.upheld.exempt { // it is meant as before
		if id == is.was {
			c.upheld.exempt[of] = is.is
		}
	}
	return c.decided.rename(is)
}

// closeUndone notes that a run which was broken off is at its end too, since another one has undone it.
func (c *Chronicle) closeUndone(by *Past, at time.Time) error {
	i := slices.IndexFunc(c.open, func(p *Past) bool { return p.Name == by.Draft.Repeals })
	if i < 0 || !by.complete() {
		return nil
	}
	undone := c.open[i]
	c.open = slices.Delete(slices.Clone(c.open), i, i+1)
	return c.close(undone, at)
}

// close notes what a run has decided that is at its end.
func (c *Chronicle) close(p *Past, at time.Time) error {
	if p.decides(c.decided.estate) {
		if err := c.decided.follow(p); err != nil {
			return err
		}
	}
	span, err := spanOf(p)
	if err != nil {
		return err
	}
	if span.Open = false; span.To.IsZero() {
		span.To = at
	}
	c.spans = slices.DeleteFunc(append(slices.Clip(c.spans), span),
		func(x Span) bool { return x.To.Before(at.Add(-spansFor)) })
	return nil
}

// spansFor is how long runs are kept in mind that are at their end.
const spansFor = time.Hour

// A Now is what a journal tells at some moment. It may be used by several goroutines.
type Now struct {
	Knows   Known
	Passes  map[string]*pass.Known
	Decided *Decided
	Upheld  *Upheld
	Open    []*Past // runs that are not at their end
	Spans   []Span  // of runs that are not, or ended within an hour
}

// Now is what the journal tells now.
func (c *Chronicle) Now() (Now, error) {
	n := Now{Knows: maps.Clone(c.known), Passes: make(map[string]*pass.Known), Decided: c.decided.clone(),
		Upheld: c.upheld.clone(c.latest), Open: slices.Clone(c.open), Spans: slices.Clone(c.spans)}
	for id, k := range c.passes {
		copied := *k
		copied.Ends = slices.Clone(k.Ends)
		n.Passes[id] = &copied
	}
	for _, p := range c.open {
		span, err := spanOf(p)
		if err != nil {
			return n, err
		}
		n.Spans = append(n.Spans, span)
	}
	return n, nil
}

// A Span is the time of a run, and what it changes.
type Span struct {
	Name     string
	Accounts []string
	Objects  map[[2]string]bool // account and id
	Did      map[[2]string]bool // of what it has changed so far; of what is made again, the id that it had
	Rules    map[string]bool    // ids of those that it added or removed
	From, To time.Time          // To is zero while it lasts
	Open     bool               // it was broken off
	Upholds  *Upholds
}

func spanOf(p *Past) (Span, error) {
	x := Span{Name: p.Name, Accounts: p.Draft.Changes(), Objects: make(map[[2]string]bool),
		Did: make(map[[2]string]bool), Open: p.Open(),
		Upholds: p.Draft.Upholds}
	for _, o := range p.Draft.Objects {
		x.Objects[[2]string{o.Account, o.ID}] = true
	}
	for _, e := range p.Entries {
		var done Result
		if e.Kind != Done || json.Unmarshal(e.Body, &done) != nil {
			continue
		}
		if s := p.Draft.step(done.Lane, done.Step); s != nil {
			for _, id := range append(slices.Clip(s.Groups), p.Draft.Lanes[done.Lane-1].about(s)) {
				x.Did[[2]string{s.Account, id}] = true
			}
		}
	}
	var err error
	if x.From, err = time.Parse(time.RFC3339Nano, p.Entries[0].At); err != nil {
		return x, err
	}
	if p.Ended != nil {
		if x.To, err = time.Parse(time.RFC3339Nano, p.Entries[len(p.Entries)-1].At); err != nil {
			return x, err
		}
	}
	x.Rules, err = p.Rules()
	return x, err
}

// clone is a copy that later entries don't change. What objects contain is never changed in place.
func (d *Decided) clone() *Decided {
	copied := &Decided{estate: d.estate, objects: maps.Clone(d.objects), where: make(map[ident]map[string]bool),
		Definitions: maps.Clone(d.Definitions)}
	for at, where := range d.where {
		copied.where[at] = maps.Clone(where)
	}
	return copied
}

// rename notes that an object was made again with another id: it has that, and so have references to it.
func (d *Decided) rename(x again) error {
	ids := newNames()
	ids.learn(x.account, map[string]string{x.was: x.is})
	for at, own := range d.objects {
		if !slices.ContainsFunc(own, func(text json.RawMessage) bool { return bytes.Contains(text, []byte(x.was)) }) {
			continue
		}
		renamed := make([]json.RawMessage, len(own))
		for i, text := range own {
			renamed[i] = ids.line(text)
		}
		d.objects[at] = renamed
	}
	for _, kind := range []string{"group", "list"} {
		was, is := ident{x.account, kind, x.was}, ident{x.account, kind, x.is}
		if own := d.objects[was]; own != nil {
			delete(d.objects, was)
			d.objects[is] = own
		}
		if where := d.where[was]; where != nil {
			delete(d.where, was)
			d.where[is] = where
		}
	}
	return nil
}
