// Package notify tells people and machines what watching has found: by HTTP, mail, syslog or on standard output. What
// is to be told stands in the store before it is sent, so that it is sent at least once.
package notify

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"isonomos/core/audit"
	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/store"
)

// Types of notices.
const (
	Opened            = "opened"             // more is let through than was decided, or than a law allows
	Closed            = "closed"             // less is let through than was decided
	Changed           = "changed"            // something of the estate's own was changed that lets through the same
	Resolved          = "resolved"           // what was told before is no longer so
	PutBack           = "put-back"           // what was changed by hand is as it was decided again
	Enforced          = "enforced"           // what breached a law was shut
	SteppedBack       = "stepped-back"       // something is left alone, or comes again and again
	HandsOff          = "hands-off"          // a group is left alone for a while, or no longer
	Blind             = "blind"              // an account can't be read
	PassIssued        = "pass-issued"        // access was lent
	PassEnded         = "pass-ended"         // and has ended
	PassOverdue       = "pass-overdue"       // it is over, and could not be shut
	DefinitionsBroken = "definitions-broken" // they can't be understood: the last good ones count
	Started           = "started"
	Stopping          = "stopping"
	Undelivered       = "undelivered" // a target has not taken a notice
	Summary           = "summary"     // several notices in one
	Test              = "test"
)

// A Notice tells one thing. Its JSON is published as docs/schemas/notice.json.
type Notice struct {
	Version  int        `json:"version"` // of this layout
	ID       string     `json:"id"`      // the same each time it is sent
	Type     string     `json:"type"`
	Severity string     `json:"severity"` // info, low, medium, high or critical
	At       time.Time  `json:"at"`       // when it was found
	Estate   string     `json:"estate"`
	Account  string     `json:"account,omitempty"`
	Place    string     `json:"place,omitempty"` // a group by its full name, or instances
	Says     string     `json:"says"`            // one sentence or a few
	Law      string     `json:"law,omitempty"`   // that is breached
	Traffic  *Traffic   `json:"traffic,omitempty"`
	Changes  *Change    `json:"changed,omitempty"` // who changed it, where the cloud knows
	Since    *time.Time `json:"since,omitempty"`   // of what is resolved: when it was found
	Done     string     `json:"done,omitempty"`    // what was done about it
	See      string     `json:"see,omitempty"`     // the command to see it
	Undo     string     `json:"undo,omitempty"`    // the command to undo it
	Journal  Journal    `json:"journal"`           // the journal's last entry when this was told
	Notices  []Notice   `json:"notices,omitempty"` // of a summary
}

// NoticeVersion is the version of the layout of notices.
const NoticeVersion = 1

// Traffic is what is let through, or no longer is.
type Traffic struct {
	Direction string   `json:"direction"` // in or out
	Services  string   `json:"services"`
	Peers     string   `json:"peers"`
	Example   *Example `json:"example,omitempty"`
	Instances []string `json:"instances"` // where it arrives
	Rules     []string `json:"rules"`     // behind it, as sentences
}

// An Example is a packet.
type Example struct {
	From    string `json:"from"`
	To      string `json:"to"`
	Service string `json:"service"`
}

// A Change says who changed something, and when.
type Change struct {
	By string     `json:"by,omitempty"`
	At *time.Time `json:"at,omitempty"`
}

// A Journal names the last entry of a journal.
type Journal struct {
	Number int    `json:"number"`
	Hash   string `json:"hash"`
}

// A Round is what one round of watching has found. Its JSON is published as docs/schemas/round.json.
type Round struct {
	Found  []Notice        // everything that holds, the worst first
	Kept   []Notice        // what was put back or shut
	Unread []estate.Unread // accounts that were not read or judged, or are gone; clouds that were not heard
	Left   int             // notices that could not be sent yet
}

// NewID makes an id that no other notice has.
func NewID() string {
	b := make([]byte, 12)
	_, _ = rand.Read(b) // crypto/rand never fails
	return hex.EncodeToString(b)
}

// Telling is the notice for the store's outbox, for the targets that want it. It is about the places where; if none is
// known, it concerns everybody.
func (n Notice) Telling(targets []Target, where ...estate.Place) store.Telling {
	n.Version = NoticeVersion
	t := store.Telling{ID: n.ID, At: n.At, Body: func(h store.Head) (json.RawMessage, error) {
		n.Journal = Journal{h.Number, h.Hash}
		return json.Marshal(n)
	}}
	for _, x := range targets {
		if x.Wants(n, where...) {
			t.Targets = append(t.Targets, x.Name)
		}
	}
	return t
}

// Subject is the notice in a line.
func (n Notice) Subject() string {
	text := fmt.Sprintf("%s: %s %s", n.Estate, n.Type, n.Place)
	if n.Place == "" {
		text = n.Estate + ": " + n.Says
	}
	return strings.ReplaceAll(clean(text), "\n", " ")
}

// Paragraph is the notice as a paragraph that a person can act on.
func (n Notice) Paragraph() string {
	var s []string
	say := func(format string, a ...any) { s = append(s, fmt.Sprintf(format, a...)) }
	place := n.Place
	if place == "" {
		place = n.Estate
	}
	t := n.Traffic
	switch {
	case n.Type == Opened && n.Law != "":
		say("%s breaches the law %s: %s.", place, n.Law, n.Says)
	case n.Type == Opened && t != nil:
		say("%s lets %s more than was decided: %s.", place, t.Direction, n.Says)
	case n.Type == Closed && t != nil:
		say("%s no longer lets %s what was decided: %s.", place, t.Direction, n.Says)
	case n.Place != "":
		say("%s: %s.", place, strings.TrimSuffix(n.Says, "."))
	default:
		say("%s.", strings.TrimSuffix(n.Says, "."))
	}
	if t != nil {
		if len(t.Instances) > 0 {
			say("It is about %s.", count.Some(t.Instances, 6))
		} else {
			say("It is attached to nothing.")
		}
		if t.Example != nil {
			say("For example %s → %s %s.", t.Example.From, t.Example.To, t.Example.Service)
		}
		if len(t.Rules) > 0 {
			say("By %s.", count.Some(quoted(t.Rules), 3))
		}
	}
	if c := n.Changes; c != nil {
		text := "Changed"
		if c.By != "" {
			text += " by " + c.By
		}
		if c.At != nil {
			text += " at " + c.At.UTC().Format(time.RFC3339)
		}
		say("%s.", text)
	}
	if n.Since != nil {
		say("It was so since %s.", n.Since.UTC().Format(time.RFC3339))
	}
	if n.Done != "" {
		say("%s.", n.Done)
	}
	return strings.Join(s, " ")
}

func quoted(list []string) []string {
	list = slices.Clone(list)
	for i := range list {
		list[i] = `"` + list[i] + `"`
	}
	return list
}

// clean takes out of a text what a terminal or a mail reader may obey: controls, and what turns the direction of
// writing. What clouds call their things comes from outside.
func clean(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n':
			return r
		case unicode.IsControl(r):
			return ' '
		case unicode.Is(unicode.Bidi_Control, r), r == '\u2028', r == '\u2029':
			return -1
		}
		return r
	}, text)
}

// Text is the notice for people, in lines.
func (n Notice) Text() string {
	return clean(n.text())
}

func (n Notice) text() string {
	var b strings.Builder
	if len(n.Notices) > 0 {
		fmt.Fprintf(&b, "%s\n", n.Says)
		for _, x := range n.Notices {
			fmt.Fprintf(&b, "\n%s  %s  %s\n%s\n", x.At.UTC().Format(time.RFC3339), x.Severity, x.Type, x.Paragraph())
		}
		return b.String()
	}
	b.WriteString(n.Paragraph() + "\n")
	if n.See != "" {
		b.WriteString("\nto see it\n  " + n.See + "\n")
	}
	if n.Undo != "" {
		what := "to undo it"
		if n.Type == SteppedBack {
			what = "to have it put back"
		}
		b.WriteString("\n" + what + "\n  " + n.Undo + "\n")
	}
	fmt.Fprintf(&b, "\nnotice %s, %s, found at %s\n", n.ID, n.Severity, n.At.UTC().Format(time.RFC3339))
	if n.Journal.Number > 0 {
		fmt.Fprintf(&b, "journal entry %d, %s\n", n.Journal.Number, n.Journal.Hash)
	}
	return b.String()
}

// severity is how bad a notice is.
func (n Notice) severity() audit.Severity {
	s, _ := audit.ParseSeverity(n.Severity)
	return s
}

// WorstFirst compares two notices, so that the worse one comes first.
func WorstFirst(a, b Notice) int { return int(b.severity() - a.severity()) }

// summaryOf is one notice for several.
func summaryOf(all []Notice, now time.Time) Notice {
	worst, kinds := audit.Info, make(map[string]int)
	var order []string
	for _, n := range all {
		worst = max(worst, n.severity())
		if kinds[n.Type]++; kinds[n.Type] == 1 {
			order = append(order, n.Type)
		}
	}
	var parts []string
	for _, kind := range order {
		parts = append(parts, fmt.Sprintf("%s %s", count.Number(kinds[kind]), kind))
	}
	last := all[len(all)-1]
	return Notice{Version: NoticeVersion, ID: last.ID + "-summary", Type: Summary, Severity: worst.String(), At: now,
		Estate: last.Estate, Says: fmt.Sprintf("%s since %s: %s", count.Of(len(all), "notice", "notices"),
			all[0].At.UTC().Format(time.RFC3339), strings.Join(parts, ", ")), Journal: last.Journal, Notices: all}
}
