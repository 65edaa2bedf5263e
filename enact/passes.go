package enact

import (
	"encoding/json"
	"fmt"
	"time"

	"isonomos/core/estate"
	"isonomos/core/pass"
	"isonomos/store"
)

// Kinds of entries in the journal that are about passes. They bear the name of the run that follows them.
const (
	PassIssued   = "pass-issued"   // body: IssuedPass; before anything is opened
	PassOpened   = "pass-opened"   // body: PassNote
	PassExtended = "pass-extended" // body: PassNote with a new end; before the rule is made anew
	PassEnded    = "pass-ended"    // body: PassNote
)

// An IssuedPass is a pass as the journal tells it.
type IssuedPass struct {
	ID       string    `json:"id"`
	Account  string    `json:"account"`
	Group    string    `json:"group"`
	On       string    `json:"on,omitempty"`
	Openings []Opening `json:"openings"`
	Opened   time.Time `json:"opened"`
	Until    time.Time `json:"until"`
	AtMost   string    `json:"at_most"`
	Because  string    `json:"because"`
	By       string    `json:"by"`
}

// An Opening is what one rule of a pass lets through.
type Opening struct {
	Direction estate.Direction `json:"direction"`
	Services  []string         `json:"services"`
	Peers     []string         `json:"peers"`
}

// OpeningsOf are those of a pass.
func OpeningsOf(p *pass.Pass) []Opening {
	all := []Opening{}
	for _, o := range p.Openings {
		all = append(all, Opening(o))
	}
	return all
}

// A PassNote says what became of a pass.
type PassNote struct {
	ID    string    `json:"id"`
	Until time.Time `json:"until,omitzero"`
	Why   string    `json:"why,omitempty"`
	By    string    `json:"by,omitempty"`
}

// IssuedOf is a pass for the journal.
func IssuedOf(p *pass.Pass) IssuedPass {
	return IssuedPass{ID: p.ID, Account: p.Account, Group: p.Group, On: p.On, Openings: OpeningsOf(p),
		Opened: p.Opened.UTC(), Until: p.Until.UTC(), AtMost: p.AtMost.String(), Because: p.Because, By: p.By}
}

// Passes are those that a journal has issued, by id, in order, and the time of its latest entry.
func Passes(journal func(func(store.Entry) error) error) (known map[string]*pass.Known, order []string,
	latest time.Time, err error) {
	known = make(map[string]*pass.Known)
	err = journal(func(e store.Entry) error {
		at, err := time.Parse(time.RFC3339Nano, e.At)
		if err == nil && at.After(latest) {
			latest = at
		}
		issued, err := takePass(known, e, at)
		if err != nil {
			return fmt.Errorf("entry %d of the journal: %w", e.Number, err)
		}
		if issued != "" {
			order = append(order, issued)
		}
		return nil
	})
	return known, order, latest, err
}

// takePass notes what an entry tells of passes. It returns the id of one that was issued by it for the first time.
func takePass(known map[string]*pass.Known, e store.Entry, at time.Time) (issued string, err error) {
	switch e.Kind {
	case PassIssued:
		var x IssuedPass
		if err := json.Unmarshal(e.Body, &x); err != nil {
			return "", err
		}
		most, err := time.ParseDuration(x.AtMost)
		if err != nil {
			return "", err
		}
		if known[x.ID] == nil {
			issued = x.ID
		}
		k := &pass.Known{Ends: []time.Time{x.Until}, Pass: pass.Pass{ID: x.ID, Account: x.Account, Group: x.Group,
			On: x.On, Opened: x.Opened, Until: x.Until, AtMost: most, Because: x.Because, By: x.By}}
		for _, o := range x.Openings {
			k.Openings = append(k.Openings, pass.Opening(o))
		}
		known[x.ID] = k
	case PassOpened, PassExtended, PassEnded:
		var x PassNote
		if err := json.Unmarshal(e.Body, &x); err != nil {
			return "", err
		}
		k := known[x.ID]
		if k == nil {
			return "", nil // a pass of another journal that was ended from here
		}
		switch e.Kind {
		case PassOpened:
			k.Open = true
		case PassExtended:
			k.Until = x.Until
			k.Ends = append(k.Ends, x.Until)
		case PassEnded:
			k.Ended, k.Why = at, x.Why
		}
	}
	return issued, nil
}
