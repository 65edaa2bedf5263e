package render

import (
	"encoding/json"
	"fmt"
	"io"
	"time"

	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/notify"
)

// Round writes what one round of watching has found.
func Round(s *Screen, found []notify.Notice, unread []estate.Unread) {
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
		s.Line(Piece{fmt.Sprintf("%s of what could be read differs; %s could not be judged", none(len(found)),
			count.Of(len(unread), "account", "accounts")), Plain})
	case len(found) == 0:
		s.Line(Piece{"everything is as it was decided", Cool})
	default:
		s.Line(Piece{count.Of(len(found), "difference", "differences") + " from what was decided", Plain})
	}
}

func none(n int) string {
	if n == 0 {
		return "nothing"
	}
	return count.Of(n, "thing", "things")
}

// RoundJSON writes the same as JSON; docs/schemas/round.json is its schema.
func RoundJSON(out io.Writer, found []notify.Notice, unread []estate.Unread, at time.Time) error {
	type account struct {
		Account string `json:"account"`
		Reason  string `json:"reason"`
	}
	r := struct {
		Version int             `json:"version"`
		At      time.Time       `json:"at"`
		Found   []notify.Notice `json:"found"`
		Unread  []account       `json:"unread"`
	}{notify.NoticeVersion, at.UTC(), append([]notify.Notice{}, found...), []account{}}
	for _, u := range unread {
		r.Unread = append(r.Unread, account{u.Account, u.Reason})
	}
	enc := json.NewEncoder(out)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(r)
}
