package render

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/notify"
)

// Round writes what one round of watching has found, and what was put back or shut.
func Round(s *Screen, found, kept []notify.Notice, unread []estate.Unread) {
	for _, n := range kept {
		s.Line(Piece{Pad(n.Type, 10), Cool}, Piece{Pad("", 10), Plain}, Piece{n.Place, Strong})
		s.Text(10, n.Paragraph())
		if n.Undo != "" {
			s.Whole(10, Piece{"undo  ", Faint}, 6, Piece{n.Undo, Accent})
		}
		s.Blank()
	}
	for _, n := range found {
		n.Done = "" // this is no notice
		style := Warm
		switch n.Severity {
		case "critical":
			style = Hot
		case "low", "info":
			style = Plain
		}
		s.Line(Piece{Pad(n.Type, 10), style}, Piece{Pad(n.Severity, 10), style}, Piece{n.Place, Strong})
		s.Text(10, n.Paragraph())
		if n.See != "" {
			s.Whole(10, Piece{"see   ", Faint}, 6, Piece{n.See, Accent})
		}
		if n.Undo != "" {
			s.Whole(10, Piece{"undo  ", Faint}, 6, Piece{n.Undo, Accent})
		}
		s.Blank()
	}
	for _, u := range unread {
		s.Line(Piece{Pad("unread", 20), Hot}, Piece{u.Account, Strong})
		s.Text(10, u.Reason)
		s.Blank()
	}
	switch {
	case len(unread) > 0:
		s.Line(Piece{fmt.Sprintf("%s in what could be read; %s could not be judged", differ(len(found)),
			count.Of(len(unread), "account", "accounts")), Plain})
	case len(found) == 0:
		text := "everything is as it was decided"
		if len(kept) > 0 {
			text += " again"
		}
		s.Line(Piece{text, Cool})
	default:
		s.Line(Piece{count.Of(len(found), "difference", "differences") + " from what was decided", Plain})
	}
}

func differ(n int) string {
	if n == 0 {
		return "nothing differs"
	}
	return count.Of(n, "difference", "differences")
}

// A Watch is what the store tells of watching.
type Watch struct {
	Holder string    // who watches; empty if nobody does
	Until  time.Time // the lease of whoever watches, or did
	Found  []notify.Notice
	Left   []notify.Notice // places that are left alone, and why
	// Unagreed are laws that are to be enforced once somebody agrees.
	Unagreed []string
	Seen     time.Time // when something was recorded last
	Unsent   map[string]int
	Now      time.Time
}

// Watching writes what the store tells of watching.
func Watching(s *Screen, w Watch, say Say) {
	for _, n := range w.Found {
		n.Done = ""
		s.Line(Piece{Pad(n.Type, 10), Warm}, Piece{Pad(n.Severity, 10), Warm}, Piece{n.Place, Strong},
			Piece{"  since " + n.At.UTC().Format("2006-01-02 15:04:05") + " UTC", Faint})
		s.Text(10, n.Paragraph())
		s.Blank()
	}
	if len(w.Found) == 0 {
		s.Line(Piece{"nothing was found that is not as it was decided", Cool})
	} else {
		s.Line(Piece{count.Of(len(w.Found), "difference", "differences") + " from what was decided", Plain})
	}
	if len(w.Left) > 0 {
		s.Blank()
		for _, n := range w.Left {
			s.Labelled(0, Piece{"left alone", Warm}, 12, Piece{Text: n.Place + ": " + n.Says})
			if n.Undo != "" {
				s.Whole(12, Piece{"resume  ", Faint}, 8, Piece{n.Undo, Accent})
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
func RoundJSON(out io.Writer, found, kept []notify.Notice, unread []estate.Unread, at time.Time) error {
	type account struct {
		Account string `json:"account"`
		Reason  string `json:"reason"`
	}
	r := struct {
		Version int             `json:"version"`
		At      time.Time       `json:"at"`
		Found   []notify.Notice `json:"found"`
		Kept    []notify.Notice `json:"kept"`
		Unread  []account       `json:"unread"`
	}{notify.NoticeVersion, at.UTC(), append([]notify.Notice{}, found...), append([]notify.Notice{}, kept...),
		[]account{}}
	for _, u := range unread {
		r.Unread = append(r.Unread, account{u.Account, u.Reason})
	}
	enc := json.NewEncoder(out)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(r)
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
