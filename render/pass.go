package render

import (
	"fmt"
	"io"
	"strings"
	"time"

	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/core/pass"
	"isonomos/core/service"
	"isonomos/enact"
	"isonomos/work"
)

// passLabel is the width of labels in what is said of passes.
const passLabel = 10

// openingWords are what a pass opens, in words: "ssh to 203.0.113.9".
func openingWords(names service.Names, p *pass.Pass) string {
	var parts []string
	for _, o := range p.Openings {
		var specs []service.Spec
		for _, text := range o.Services {
			if spec, err := service.ParseSpec(text); err == nil {
				specs = append(specs, spec)
			}
		}
		word := " to "
		if o.Direction == estate.Out {
			word = " at "
		}
		var peers []string
		for _, text := range o.Peers {
			peers = append(peers, strings.TrimSuffix(strings.TrimSuffix(text, "/32"), "/128"))
		}
		parts = append(parts, names.Describe(service.Of(specs...))+word+strings.Join(peers, ", "))
	}
	return strings.Join(parts, "; ")
}

// LentWords say what an open pass lends: "au/nu/web: ssh to 203.0.113.9 until 2026-11-29 08:30:00 UTC (pass 7k2m9qxa)".
func LentWords(f *pass.Found, names service.Names) string {
	return fmt.Sprintf("%s: %s until %s (pass %s)", f.Group, openingWords(names, &f.Pass), clock(f.Until), f.ID)
}

type lentJSON struct {
	Pass  string `json:"pass"`
	Group string `json:"group"`
	Opens string `json:"opens"`
	Until string `json:"until"`
}

func lentToJSON(a Audit) []lentJSON {
	list := []lentJSON{}
	for _, f := range a.Lent {
		list = append(list, lentJSON{f.ID, f.Group, openingWords(a.Estate.Services, &f.Pass), moment(f.Until)})
	}
	return list
}

func clock(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }

// left says how long a pass goes on.
func left(until, now time.Time) string {
	if d := until.Sub(now).Round(time.Second); d > 0 {
		return count.Lasting(d) + " left"
	}
	return "over"
}

// Issued shows a pass that was opened, and what arrives through it.
func Issued(s *Screen, x *work.Issued, took time.Duration, say Say) {
	p := &x.Pass
	where := p.Group
	if p.On != "" {
		where += " at " + p.On
	}
	s.Labelled(0, Piece{"opened", Hot}, passLabel, Piece{Text: where + ": " + openingWords(x.Services, p)})
	s.Labelled(0, Piece{"until", Strong}, passLabel, Piece{Text: fmt.Sprintf("%s (%s)", clock(p.Until),
		count.Lasting(p.Until.Sub(p.Opened)))})
	for i, a := range x.Arrivals {
		if i == shownShifts {
			s.Text(passLabel, "and "+Count(len(x.Arrivals)-i, "more flow", "more flows"))
			break
		}
		label := Piece{"arrives", Strong}
		text := a.Flow
		if !a.Arrives {
			label = Piece{"does not", Warm}
			text += ": " + a.Why
		}
		s.Labelled(0, label, passLabel, Piece{Text: text})
	}
	if x.Shared != "" {
		s.Labelled(0, Piece{"shares", Faint}, passLabel, Piece{Text: "the rule of the pass " + x.Shared +
			", which opens the same: it stays until the later end"})
	}
	if x.Anew {
		s.Labelled(0, Piece{"note", Faint}, passLabel, Piece{Text: madeAnew})
	}
	if x.Stateful {
		s.Labelled(0, Piece{"note", Faint}, passLabel,
			Piece{Text: "connections that are made meanwhile may go on after the end: the cloud keeps their state"})
	}
	s.Labelled(0, Piece{"pass", Strong}, passLabel, Piece{Text: fmt.Sprintf("%s, opened in %s", p.ID,
		took.Round(10*time.Millisecond))})
	s.Whole(0, Piece{"shut it", Strong}, passLabel, Piece{say("pass", "end", p.ID), Accent})
}

// Extended shows the new end of a pass.
func Extended(s *Screen, p *pass.Pass, anew bool, now time.Time) {
	s.Labelled(0, Piece{"extended", Hot}, passLabel, Piece{Text: fmt.Sprintf("%s: open until %s (%s)", p.ID,
		clock(p.Until), left(p.Until, now))})
	if anew {
		s.Labelled(0, Piece{"note", Faint}, passLabel, Piece{Text: madeAnew})
	}
}

const madeAnew = "this cloud takes no second rule that says the same: the old one went first, and for a moment it " +
	"was shut"

// Shut lists the passes that were ended. done says that nothing is left to shut.
func Shut(s *Screen, all []work.Shut, done bool) {
	for _, x := range all {
		text := fmt.Sprintf("%s  %s: %s", x.ID, x.Group, x.Why)
		if !x.There {
			text += " (nothing of it was in the cloud)"
		}
		s.Labelled(0, Piece{"shut", Cool}, passLabel, Piece{Text: text})
	}
	if len(all) == 0 && done {
		s.Line(Piece{"there is nothing to shut", Cool})
	}
}

// passStates are what passes are called in lists.
var passStates = map[pass.State]Piece{pass.Open: {"open", Hot}, pass.Overdue: {"overdue", Hot},
	pass.Broken: {"broken off", Warm}, pass.Unlent: {"not lent", Warm}, "": {"ended", Faint}}

// Passes lists passes.
func Passes(s *Screen, all []work.Listed, now time.Time, say Say) {
	over := false
	for i := range all {
		x := &all[i]
		if i > 0 {
			s.Blank()
		}
		where := x.Group
		if x.On != "" {
			where += " at " + x.On
		}
		s.Labelled(0, passStates[x.State], passLabel+2, Piece{Text: x.ID + "  " + where + ": " +
			openingWords(x.Names, &x.Pass)})
		line := func(label, text string) { s.Labelled(2, Piece{label, Faint}, passLabel, Piece{Text: text}) }
		if !x.Opened.IsZero() {
			line("since", clock(x.Opened))
		}
		end := clock(x.Until)
		if x.State != "" {
			end += " (" + left(x.Until, now) + ")"
		}
		line("until", end)
		switch {
		case x.State == "":
			line("ended", clock(x.Ended)+": "+x.Why)
		case x.State == pass.Overdue:
			over = true
			line("but", "it is over and still there: whatever writes to the account next shuts it")
		case x.State == pass.Broken:
			over = true
			line("but", "its issuing was broken off: whatever writes to the account next shuts it")
		case x.State == pass.Unlent:
			line("but", "the definitions no longer lend this: the next draft ends it")
		case x.Gone:
			line("but", "nothing of it is in the cloud: somebody else has removed its rule")
		case x.Shared:
			line("shares", "the rule of another pass that opens the same")
		}
		if x.Because != "" {
			line("because", x.Because)
		}
		switch {
		case x.By != "":
			line("by", x.By)
		case !x.Known:
			line("by", "somebody with another journal: known by its id and its lend")
		}
	}
	if len(all) == 0 {
		s.Line(Piece{"no pass is open", Cool})
	}
	if over {
		s.Blank()
		s.Whole(0, Piece{"shut these", Strong}, passLabel+2, Piece{say("pass", "end", "--overdue"), Accent})
	}
}

// Offers lists what can be lent.
func Offers(s *Screen, o *work.Offers, say Say) {
	for i := range o.Offers {
		x := &o.Offers[i]
		if i > 0 {
			s.Blank()
		}
		s.Line(Piece{x.Group, Strong}, Piece{"  " + x.Lend + " for at most " + count.Duration(x.AtMost), Plain})
		line := func(label, text string) { s.Labelled(2, Piece{label, Faint}, passLabel, Piece{Text: text}) }
		line("at", orNobody(x.Instances))
		line("defined", place(x.Origin))
		for k := range x.Open {
			line("open", fmt.Sprintf("%s  %s, until %s (%s)", x.Open[k].ID, openingWords(o.Names, &x.Open[k]),
				clock(x.Open[k].Until), left(x.Open[k].Until, o.At)))
		}
	}
	if len(o.Offers) == 0 {
		s.Line(Piece{"nothing is lent: no group has a line such as lend ssh to list pilots for at most 2h", Cool})
	}
	if len(o.Standing) > 0 {
		s.Blank()
		s.Line(Piece{"stands open to strangers, and no lend stands for it", Strong})
		for _, x := range o.Standing {
			s.Text(2, x.Message+", at "+count.Some(x.Instances, 4))
			s.Whole(2, Piece{"instead", Faint}, passLabel, Piece{say("narrow", x.Group, "--lend"), Accent})
		}
	}
	if len(o.Unfit) > 0 {
		s.Blank()
		s.Line(Piece{"lending can't work", Strong})
		for _, x := range o.Unfit {
			s.Text(2, x.Place+": "+x.Why)
		}
	}
}

func orNobody(names []string) string {
	if len(names) == 0 {
		return "no instance"
	}
	return count.Some(names, 6)
}

type passJSON struct {
	ID       string          `json:"id"`
	State    string          `json:"state"`
	Account  string          `json:"account"`
	Group    string          `json:"group"`
	On       string          `json:"on,omitempty"`
	Openings []enact.Opening `json:"openings"`
	Since    string          `json:"since,omitempty"`
	Until    string          `json:"until"`
	Because  string          `json:"because,omitempty"`
	By       string          `json:"by,omitempty"`
	Known    bool            `json:"known"` // to the journal
	There    bool            `json:"there"` // something of it is in the cloud
	Shared   bool            `json:"shared,omitempty"`
	Ended    string          `json:"ended,omitempty"`
	Why      string          `json:"why,omitempty"`
}

func passToJSON(p *pass.Pass) passJSON {
	return passJSON{ID: p.ID, State: string(pass.Open), Account: p.Account, Group: p.Group, On: p.On,
		Openings: enact.OpeningsOf(p), Since: moment(p.Opened), Until: moment(p.Until),
		Because: p.Because, By: p.By, Known: true, There: true}
}

// PassesJSON writes passes for programs.
func PassesJSON(w io.Writer, all []work.Listed) error {
	list := []passJSON{}
	for i := range all {
		x := &all[i]
		p := passToJSON(&x.Pass)
		p.State, p.Known, p.Shared, p.There = string(x.State), x.Known, x.Shared, !x.Gone && x.State != ""
		if x.State == "" {
			p.State, p.Ended, p.Why = "ended", moment(x.Ended), x.Why
		}
		list = append(list, p)
	}
	return writeJSON(w, struct {
		Version int        `json:"version"`
		Passes  []passJSON `json:"passes"`
	}{1, list})
}

// IssuedJSON writes a pass that was opened for programs.
func IssuedJSON(w io.Writer, x *work.Issued) error {
	type arrivalJSON struct {
		Instance string `json:"instance"`
		Flow     string `json:"flow"`
		Arrives  bool   `json:"arrives"`
		Why      string `json:"why,omitempty"`
	}
	arrivals := []arrivalJSON{}
	for _, a := range x.Arrivals {
		arrivals = append(arrivals, arrivalJSON(a))
	}
	return writeJSON(w, struct {
		Version  int           `json:"version"`
		Pass     passJSON      `json:"pass"`
		Arrivals []arrivalJSON `json:"arrivals"`
		Shares   string        `json:"shares,omitempty"`
	}{1, passToJSON(&x.Pass), arrivals, x.Shared})
}

// OffersJSON writes what can be lent for programs.
func OffersJSON(w io.Writer, o *work.Offers) error {
	type offerJSON struct {
		Group     string     `json:"group"`
		Lend      string     `json:"lend"`
		AtMost    string     `json:"at_most"`
		File      string     `json:"file"`
		Line      int        `json:"line"`
		Instances []string   `json:"instances"`
		Open      []passJSON `json:"open"`
	}
	type standingJSON struct {
		Group     string   `json:"group"`
		Message   string   `json:"message"`
		Instances []string `json:"instances"`
	}
	type unfitJSON struct {
		Place string `json:"place"`
		Why   string `json:"why"`
	}
	offers, standing, unfit := []offerJSON{}, []standingJSON{}, []unfitJSON{}
	for i := range o.Offers {
		x := &o.Offers[i]
		one := offerJSON{x.Group, x.Lend, x.AtMost.String(), x.Origin.File, x.Origin.Line,
			append([]string{}, x.Instances...), []passJSON{}}
		for k := range x.Open {
			one.Open = append(one.Open, passToJSON(&x.Open[k]))
		}
		offers = append(offers, one)
	}
	for _, x := range o.Standing {
		standing = append(standing, standingJSON(x))
	}
	for _, x := range o.Unfit {
		unfit = append(unfit, unfitJSON(x))
	}
	return writeJSON(w, struct {
		Version  int            `json:"version"`
		Offers   []offerJSON    `json:"offers"`
		Standing []standingJSON `json:"standing"`
		Unfit    []unfitJSON    `json:"unfit"`
	}{1, offers, standing, unfit})
}
