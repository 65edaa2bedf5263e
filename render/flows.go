package render

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/flow"
)

// Flows is evidence, to be shown.
type Flows struct {
	Sources []flow.Source
	Sum     *flow.Summary
	Sums    []*flow.Sum     // those to be shown
	Decider *decide.Decider // knows the names of addresses
	Picked  bool            // some sums were left out on request
}

// ShowFlows writes evidence for a terminal: its sources, and who talked to whom.
func ShowFlows(s *Screen, f Flows, most int) {
	if len(f.Sources) == 0 {
		s.Text(0, "The store holds no evidence: isonomos flows add FILE adds some.")
		return
	}
	s.Line(Piece{"evidence  ", Strong},
		Piece{fmt.Sprintf("%s on %s, %s to %s, %s refused", Count(f.Sum.Flows, "flow", "flows"),
			Count(f.Sum.Window(), "day", "days"),
			f.Sum.First.Format(time.DateOnly), f.Sum.Last.Format(time.DateOnly), Number(f.Sum.Refused)), Plain})
	rows := [][]Piece{{{"", Plain}, {"from", Faint}, {"format", Faint}, {"flows", Faint}, {"days", Faint},
		{"added", Faint}}}
	for _, x := range f.Sources {
		skipped := ""
		if x.Skipped > 0 {
			skipped = fmt.Sprintf(" (%s unreadable)", Number(x.Skipped))
		}
		rows = append(rows, []Piece{{strconv.FormatInt(x.ID, 10), Accent}, {x.Name, Plain}, {x.Format, Plain},
			{Number(x.Flows) + skipped, Plain},
			{fmt.Sprintf("%s to %s", x.First.Format(time.DateOnly), x.Last.Format(time.DateOnly)), Plain},
			{x.Added.Format("2006-01-02 15:04"), Faint}})
	}
	columns(s, rows, 3)
	s.Blank()
	sums := slices.Clone(f.Sums)
	slices.SortStableFunc(sums, func(a, b *flow.Sum) int { return cmp.Compare(b.Flows, a.Flows) })
	if len(sums) == 0 {
		s.Text(0, "Nothing of that was seen.")
		return
	}
	shown := sums
	if most > 0 && len(sums) > most {
		shown = sums[:most]
	}
	rows = [][]Piece{{{"from", Faint}, {"to", Faint}, {"service", Faint}, {"flows", Faint}, {"unanswered", Faint},
		{"days", Faint}, {"longest", Faint}, {"last seen", Faint}}}
	for _, x := range shown {
		unanswered := ""
		if n := x.Flows - x.Completed; n > 0 {
			unanswered = Number(n)
		}
		rows = append(rows, []Piece{{f.end(x.Source), Plain}, {f.end(x.Destination), Plain},
			{serviceName(f.Decider.Estate(), x.Service), Strong}, {Number(x.Flows), Plain}, {unanswered, Warm},
			{strconv.Itoa(x.Days.Count()), Plain}, {count.Lasting(time.Duration(x.Longest) * time.Second), Plain},
			{time.Unix(x.Last, 0).UTC().Format("2006-01-02 15:04"), Faint}})
	}
	columns(s, rows, 3, 4, 5, 6)
	if left := len(sums) - len(shown); left > 0 {
		s.Text(0, fmt.Sprintf("and %s more: --limit 0 shows all, --of and --service pick", Number(left)))
	}
}

// end is an address with the name of its instance.
func (f Flows) end(a netip.Addr) string {
	if at := f.Decider.At(a); len(at) == 1 {
		return at[0].Instance.Name + " " + a.String()
	}
	return a.String()
}

// columns aligns rows in columns; the given ones to the right.
func columns(s *Screen, rows [][]Piece, right ...int) {
	widths := make([]int, len(rows[0]))
	for _, row := range rows {
		for i, p := range row {
			widths[i] = max(widths[i], Columns(p.Text))
		}
	}
	for _, row := range rows {
		line := []Piece{{"  ", Plain}}
		for i, p := range row {
			if slices.Contains(right, i) {
				line = append(line, Piece{fmt.Sprintf("%*s", widths[i]-Columns(p.Text), ""), Plain}, p,
					Piece{"  ", Plain})
				continue
			}
			line = append(line, p, Piece{fmt.Sprintf("%*s  ", widths[i]-Columns(p.Text), ""), Plain})
		}
		s.Line(line...)
	}
}

type sumJSON struct {
	Source      string `json:"src"`
	From        string `json:"src_name,omitempty"`
	Destination string `json:"dst"`
	To          string `json:"dst_name,omitempty"`
	Service     string `json:"service"`
	Flows       int    `json:"flows"`
	Completed   int    `json:"completed"`
	Days        int    `json:"days"`
	First       string `json:"first"`
	Last        string `json:"last"`
	Longest     int64  `json:"longest_seconds"`
	Bytes       uint64 `json:"bytes"`
	ReplyBytes  uint64 `json:"reply_bytes"`
}

func (f Flows) toJSON(x *flow.Sum) sumJSON {
	name := func(a netip.Addr) string {
		if at := f.Decider.At(a); len(at) == 1 {
			return at[0].Instance.Path()
		}
		return ""
	}
	return sumJSON{x.Source.String(), name(x.Source), x.Destination.String(), name(x.Destination), x.Service.String(),
		x.Flows, x.Completed, x.Days.Count(),
		time.Unix(x.First, 0).UTC().Format(time.RFC3339), time.Unix(x.Last, 0).UTC().Format(time.RFC3339), x.Longest,
		x.Bytes, x.ReplyBytes}
}

// FlowsJSON writes evidence as one JSON document, version 1.
func FlowsJSON(w io.Writer, f Flows) error {
	type source struct {
		ID      int64  `json:"number"`
		Name    string `json:"name"`
		Digest  string `json:"sha256"`
		Format  string `json:"format"`
		Added   string `json:"added"`
		Flows   int    `json:"flows"`
		Refused int    `json:"refused"`
		Skipped int    `json:"unreadable"`
		First   string `json:"first"`
		Last    string `json:"last"`
	}
	sources, sums := []source{}, []sumJSON{}
	for _, x := range f.Sources {
		sources = append(sources,
			source{x.ID, x.Name, x.Digest, x.Format, x.Added.Format(time.RFC3339), x.Flows, x.Refused, x.Skipped,
				x.First.Format(time.RFC3339), x.Last.Format(time.RFC3339)})
	}
	for _, x := range f.Sums {
		sums = append(sums, f.toJSON(x))
	}
	return writeJSON(w, struct {
		Version int       `json:"version"`
		Days    int       `json:"days"`
		Flows   int       `json:"flows"`
		Refused int       `json:"refused"`
		Sources []source  `json:"sources"`
		Sums    []sumJSON `json:"sums"`
	}{1, f.Sum.Window(), f.Sum.Flows, f.Sum.Refused, sources, sums})
}

// FlowsCSV writes the sums as CSV.
func FlowsCSV(w io.Writer, f Flows) error {
	out := csv.NewWriter(w)
	// out.Error reports a failed write
	_ = out.Write([]string{"src", "src_name", "dst", "dst_name", "service", "flows", "completed", "days", "first",
		"last", "longest_seconds", "bytes", "reply_bytes"})
	for _, sum := range f.Sums {
		x := f.toJSON(sum)
		_ = out.Write([]string{x.Source, cell(x.From), x.Destination, cell(x.To), x.Service, strconv.Itoa(x.Flows),
			strconv.Itoa(x.Completed), strconv.Itoa(x.Days),
			x.First, x.Last, strconv.FormatInt(x.Longest, 10), strconv.FormatUint(x.Bytes, 10),
			strconv.FormatUint(x.ReplyBytes, 10)})
	}
	out.Flush()
	return out.Error()
}
