package nomos

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
)

var fenced = regexp.MustCompile("(?s)```nomos\n(.*?)```")

// The examples of each page, taken together, are an estate without mistakes that
// means what the page says.
func TestExamplesOfTheDocumentation(t *testing.T) {
	for page, want := range map[string][]string{
		"language.md": {
			"tides/quay/booking for instances \"Pilot booking site\"",
			"admit https from everyone because \"ships' agents book pilots\"",
			"admit berth-db from group booking, self",
			"admit ssh from list pilot-stations except 203.0.113.8 until 2027-02-01T00:00:00Z",
			// both ends
			"reach berth-db at group berth-ledger because \"bookings\"",
			"admit berth-db from group booking because \"bookings\"",
			"admit ssh, rdp from group booking because \"operators\"",
			"admit ssh from group berth-ledger, 10.20.9.0/24 because \"operators\"",
			"lend for 30m0s after 2: admit ssh from list pilot-stations",
			"reach syslog-tls at 10.20.9.5 because \"logs\"",
			"tides/quay/sensor-wall for subnets",
			"refuse telnet from everyone because \"never again\"",
			"in the cloud \"grp-77\"",
			"lend for 2h0m0s after 0: admit ssh from list pilot-stations because \"vendor's technicians\"",
			"law shut-admin", "exempt group tides/quay/crane from shut-admin on tcp 3389 until 2027-02-01",
			"expect only booking can reach berth-ledger on berth-db",
		},
		"guide.md": {"tides/quay/booking-site", "admit berth-db from group booking-site, self",
			"expect internet cannot reach berth-ledger"},
	} {
		text, err := os.ReadFile(filepath.Join("..", "docs", page))
		if err != nil {
			t.Fatal(err)
		}
		var all strings.Builder
		for _, m := range fenced.FindAllStringSubmatch(string(text), -1) {
			all.WriteString(m[1] + "\n")
		}
		d := Understand([]*source.File{source.NewFile(page, all.String())}, resolve.Options{Now: now})
		for _, m := range d.Messages {
			t.Errorf("%s: %s", page, m)
		}
		got := meaning(d)
		for _, w := range want {
			if !strings.Contains(got, w) {
				t.Errorf("%s does not mean %q:\n%s", page, w, got)
			}
		}
	}
}

// The first example alone is a first estate that checks clean.
func TestFirstGroupOfTheTutorial(t *testing.T) {
	text, err := os.ReadFile(filepath.Join("..", "docs", "language.md"))
	if err != nil {
		t.Fatal(err)
	}
	first := fenced.FindStringSubmatch(string(text))[1]
	d := Understand([]*source.File{source.NewFile("first.nomos", first)}, resolve.Options{Now: now})
	if len(d.Messages) > 0 || len(d.Estate.Groups) != 1 || len(d.Estate.Groups[0].Rules) != 1 {
		t.Errorf("got %v", d.Messages)
	}
}
