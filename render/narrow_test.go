package render

import (
	"bytes"
	"strings"
	"testing"

	"isonomos/core/narrow"
)

func TestExcessInWords(t *testing.T) {
	for _, x := range []struct {
		excess narrow.Excess
		want   string
	}{
		{narrow.Excess{}, "nobody else"},
		{narrow.Excess{Strangers: 1}, "1 stranger"},
		{narrow.Excess{Strangers: 1234, Known: 1, Named: 2},
			"1,234 strangers, 1 private or known address, 2 unseen members or entries"},
		{narrow.Excess{Strangers: 1 << 80}, "2^80 strangers"},
	} {
		if got := excessWords(x.excess); got != x.want {
			t.Errorf("%+v: %s, want %s", x.excess, got, x.want)
		}
	}
}

// A long curve is shown around where the proposal stands, no line wider than the window.
func TestCurve(t *testing.T) {
	var points []narrow.Point
	for i := range 60 {
		points = append(points, narrow.Point{Rules: i + 1,
			Excess: narrow.Excess{Strangers: float64(int64(1) << (59 - i))}, Chosen: i == 30, Over: i > 40})
	}
	for _, width := range []int{40, 80, 140} {
		var out bytes.Buffer
		s := NewScreen(&out, width, false)
		curve(s, points)
		lines := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
		if len(lines) != 14 || !strings.Contains(out.String(), "← here") || !strings.Contains(lines[0], "curve") {
			t.Errorf("%d lines at %d columns:\n%s", len(lines), width, out.String())
		}
		for _, line := range lines {
			if Columns(line) > max(width, 80) {
				t.Errorf("%d columns: %q", width, line)
			}
		}
	}
}
