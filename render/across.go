package render

import (
	"io"
	"strings"

	"isonomos/core/estate"
	"isonomos/work"
)

// Joints writes what groups can say together, for a terminal.
func Joints(s *Screen, joints []work.Joint) {
	done := 0
	for _, j := range joints {
		s.Line(Piece{string(j.Kind), Strong}, Piece{"  " + strings.Join(groupPaths(j), ", "), Accent})
		s.Labelled(2, Piece{"after", Faint}, findingLabel, Piece{j.Text, Strong})
		for i, r := range j.Rules {
			s.Labelled(2, Piece{first(i, "changes"), Faint}, findingLabel, Piece{Text: r})
		}
		if j.Refused != "" {
			s.Labelled(2, Piece{"not done", Warm}, findingLabel, Piece{Text: j.Refused})
		} else {
			done++
		}
		s.Blank()
	}
	switch {
	case len(joints) == 0:
		s.Text(0, "No group says what another one says: no addresses are repeated, no instances are named by "+
			"address, no two groups are the same.")
	case done > 0:
		s.Labelled(2, Piece{"checked", Cool}, findingLabel, Piece{Text: "by deciding the result: every instance " +
			"lets through just what it did, and every expectation comes out as before"})
	}
}

func groupPaths(j work.Joint) []string {
	paths := []string{}
	for _, g := range j.Groups {
		paths = append(paths, g.Path())
	}
	return paths
}

// JointsJSON writes what groups can say together as one JSON document, version 1.
func JointsJSON(w io.Writer, joints []work.Joint, unread []estate.Unread) error {
	type item struct {
		Kind    string   `json:"kind"`
		Groups  []string `json:"groups"`
		Text    string   `json:"text"`
		Rules   []string `json:"rules"`
		Refused string   `json:"refused"`
	}
	items := []item{}
	for _, j := range joints {
		items = append(items, item{string(j.Kind), groupPaths(j), j.Text, orNone(j.Rules), j.Refused})
	}
	return writeJSON(w, struct {
		Version int          `json:"version"`
		Joints  []item       `json:"joints"`
		Unread  []unreadJSON `json:"unread"`
	}{1, items, unreadToJSON(unread)})
}
