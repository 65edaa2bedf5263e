package render

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"isonomos/core/count"
	"isonomos/notify"
)

// Round writes what one round of watching has found, and what was put back or shut.
func Round(s *Screen, r notify.Round) {
	for _, n := range r.Kept {
		s.Line(Piece{Pad(n.Type, 10), Cool}, Piece{Pad("", 10), Plain}, Piece{n.Place, Strong})
		s.Text(10, n.Paragraph())
		if n.Undo != "" {
			s.Whole(10, Piece{"undo  ", Faint}, 6, Piece{n.Undo, Accent})
		}
		s.Blank()
	}
	for _, n := range r.Found {
		n.Done = "" // this is no notice
		found(s, n)
	}
	clouds, unknown := 0, []string(nil)
	for _, x := range r.Unread {
		s.Line(Piece{Pad("unread", 20), Hot}, Piece{x.Name(), Strong})
		s.Text(10, x.Reason)
		s.Blank()
		if x.Cloud != "" {
			clouds++
		}
	}
	if clouds > 0 {
		unknown = append(unknown, count.Of(clouds, "cloud", "clouds")+" could not be heard")
	}
	if n := len(r.Unread) - clouds; n > 0 {
		unknown = append(unknown, count.Of(n, "account", "accounts")+" could not be judged")
	}
	switch {
	case len(unknown) > 0:
		s.Line(Piece{differ(len(r.Found)) + " in what could be read; " + strings.Join(unknown, ", "), Plain})
	case len(r.Found) == 0:
		text := "everything is as it was decided"
		if len(r.Kept) > 0 {
			text += " again"
		}
		s.Line(Piece{text, Cool})
	default:
		s.Line(Piece{count.Of(len(r.Found), "difference", "differences") + " from what was decided", Plain})
	}
}

func differ(n int) string {
	if n == 0 {
		return "nothing differs"
	}
	return count.Of(n, "difference", "differences")
}

// found writes what was found, with more behind its head.
func found(s *Screen, n notify.Notice, more ...Piece) {
	style := Warm
	switch n.Severity {
	case "critical":
		style = Hot
	case "low", "info":
		style = Plain
	}
	s.Line(append([]Piece{{Pad(n.Type, 10), style}, {Pad(n.Severity, 10), style},
		{cmp.Or(n.Place, n.Account), Strong}}, more...)...)
	s.Text(10, n.Paragraph())
	if n.See != "" {
		s.Whole(10, Piece{"see   ", Faint}, 6, Piece{n.See, Accent})
	}
	if n.Undo != "" {
		s.Whole(10, Piece{"undo  ", Faint}, 6, Piece{n.Undo, Accent})
	}
	s.Blank()
}

// A Watch is what the store tells of watching.
type Watch struct {
	Holder string    // who watches; empty if nobody does
	Until  time.Time // the lease of whoever watches, or did
	Found  []notify.Notice
	Left   []notify.Notice // places that are left alone, and why
	Unseen []string        // defined accounts that were never judged
	// Unagreed are laws that are to be enforced once somebody agrees.
	Unagreed []string
	Seen     time.Time // when something was recorded last
	Unsent   map[string]int
	Now      time.Time
}

// Blind is how many accounts and clouds are not seen.
func (w Watch) Blind() (n int) {
	for _, x := range w.Found {
		if x.Type == notify.Blind {
			n++
		}
	}
	return n
}

// Watching writes what the store tells of watching.
func Watching(s *Screen, w Watch, say Say) {
	for _, n := range w.Found {
		n.Done = ""
		if n.Type == notify.Blind {
			n.See = "" // it is this
		}
		found(s, n, Piece{"  since " + n.At.UTC().Format("2006-01-02 15:04:05") + " UTC", Faint})
	}
	blind := w.Blind()
	switch n := len(w.Found) - blind; {
	case blind > 0:
		s.Line(Piece{fmt.Sprintf("%s in what is seen; %s not", differ(n), count.Of(blind, "account or cloud is",
			"accounts or clouds are")), Plain})
	case n == 0:
		s.Line(Piece{"nothing was found that is not as it was decided", Cool})
	default:
		s.Line(Piece{count.Of(n, "difference", "differences") + " from what was decided", Plain})
	}
	for _, name := range w.Unseen {
		s.Line(Piece{"the account " + name + " is defined, and was not judged yet", Hot})
	}
	if len(w.Left) > 0 {
		s.Blank()
		for _, n := range w.Left {
			s.Labelled(0, Piece{"left alone", Warm}, 12, Piece{Text: n.Place + ": " + n.Says})
			switch {
			case n.Undo != "":
				s.Whole(12, Piece{"resume  ", Faint}, 8, Piece{n.Undo, Accent})
			case n.See != "" && !strings.Contains(n.See, " uphold status"): // which is this
				s.Whole(12, Piece{"see     ", Faint}, 8, Piece{n.See, Accent})
			}
		}
	}
	for _, law := range w.Unagreed {
		s.Whole(0, Piece{"law " + law + " is not enforced until somebody agrees: ", Warm}, 6,
			Piece{say("uphold", "agree", law), Accent})
	}
	switch {
	case w.Holder != "" && w.Until.After(w.Now):
		s.Line(Piece{"watched by " + w.Holder, Plain})
	case w.Seen.IsZero():
		s.Line(Piece{"nobody watches, nor has ever with this store", Hot})
	default:
		s.Line(Piece{fmt.Sprintf("nobody watches: what stands here was so when it was recorded last, at %s UTC",
			w.Seen.UTC().Format("2006-01-02 15:04:05")), Hot})
	}
	for _, name := range slices.Sorted(maps.Keys(w.Unsent)) {
		s.Line(Piece{fmt.Sprintf("%s for %s still to be sent", count.Of(w.Unsent[name], "notice is", "notices are"),
			name),
			Warm})
	}
}

// RoundJSON writes the same as JSON; docs/schemas/round.json is its schema.
func RoundJSON(out io.Writer, r notify.Round, at time.Time) error {
	text := struct {
		Version int             `json:"version"`
		At      time.Time       `json:"at"`
		Found   []notify.Notice `json:"found"`
		Kept    []notify.Notice `json:"kept"`
		Unread  []unreadJSON    `json:"unread"`
	}{notify.NoticeVersion, at.UTC(), orNone(r.Found), orNone(r.Kept), unreadToJSON(r.Unread)}
	enc := json.NewEncoder(out)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(text)
}

// ToEnforce writes what a law shuts once it is enforced.
func ToEnforce(s *Screen, law string, found []notify.Notice) {
	for _, n := range found {
		n.Done = ""
		s.Line(Piece{Pad("shuts", 10), Warm}, Piece{Pad(n.Severity, 10), Warm}, Piece{n.Place, Strong})
		s.Text(10, n.Paragraph())
		s.Blank()
	}
	if len(found) == 0 {
		s.Line(Piece{"the law " + law + " shuts nothing at the moment", Cool})
		return
	}
	s.Line(Piece{fmt.Sprintf("the law %s shuts what breaches it in %s", law, count.Of(len(found), "case", "cases")),
		Plain})
}
