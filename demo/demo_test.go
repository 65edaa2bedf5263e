package demo

import (
	"bytes"
	"crypto/sha256"
	"net/netip"
	"strings"
	"testing"

	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/evidence"
	"isonomos/store"
)

func survey(t *testing.T) *estate.Estate {
	t.Helper()
	e, err := Survey()
	if err != nil {
		t.Fatal(err)
	}
	return e
}

func TestSurveyReadsBack(t *testing.T) {
	var b bytes.Buffer
	if err := store.WriteSurvey(&b, survey(t)); err != nil {
		t.Fatal(err)
	}
	first := sha256.Sum256(b.Bytes())
	e, warnings, err := store.ReadSurvey(bytes.NewReader(b.Bytes()), "s")
	if err != nil || len(warnings) > 0 {
		t.Fatal(err, warnings)
	}
	if len(e.Accounts) != 6 || len(e.Instances) != len(hosts)+len(madeHosts) || !e.Taken.Equal(Taken) {
		t.Errorf("%d accounts, %d instances", len(e.Accounts), len(e.Instances))
	}
	b.Reset()
	if err := store.WriteSurvey(&b, survey(t)); err != nil {
		t.Fatal(err)
	}
	if sha256.Sum256(b.Bytes()) != first {
		t.Error("the survey is another one each time")
	}
}

// Cloud rules say one service and one peer each, as the dialect wants it.
func TestSurveyedRulesAreSplit(t *testing.T) {
	for _, g := range survey(t).Groups {
		if g.Account.Cloud.Dialect != "union" {
			continue // a ranked rule holds several
		}
		for _, r := range g.Rules {
			if len(r.Services) != 1 || len(r.Peers) != 1 {
				t.Errorf("%s has the rule %v", g.Path(), r)
			}
			if k := r.Peers[0].Kind; k == estate.PeerEveryone && !g.Default {
				t.Errorf("%s names everyone, which a cloud spells as ranges", g.Path())
			}
		}
	}
}

// Every address is private, or of a documentation range: nobody's.
func TestAddressesAreNobodys(t *testing.T) {
	allowed := addr.OfPrefixes(netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("198.51.100.0/24"),
		netip.MustParsePrefix("203.0.113.0/24"),
		netip.MustParsePrefix("2001:db8::/32"), netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("fc00::/7"))
	seen := make(map[netip.Addr]string)
	for _, i := range survey(t).Instances {
		for _, a := range append(i.Interfaces[0].Private, i.Interfaces[0].Public...) {
			if !allowed.Contains(a) {
				t.Errorf("%s has the address %s", i.Name, a)
			}
			if other := seen[a]; other != "" {
				t.Errorf("%s and %s have the address %s", i.Name, other, a)
			}
			seen[a] = i.Name
		}
	}
	var b bytes.Buffer
	if err := Flows(&b); err != nil {
		t.Fatal(err)
	}
	var sum flow.Summary
	var parts []*flow.Summary
	report, err := evidence.Read(bytes.NewReader(b.Bytes()), "f", evidence.Options{Take: func() func(*flow.Record) {
		parts = append(parts, new(flow.Summary))
		return parts[len(parts)-1].Add
	}})
	if err != nil || report.Skipped.Count > 0 {
		t.Fatal(report, err)
	}
	for _, p := range parts {
		sum.Merge(p)
	}
	for _, x := range sum.Sums() {
		if !allowed.Contains(x.Source) || !allowed.Contains(x.Destination) {
			t.Errorf("a flow from %s to %s", x.Source, x.Destination)
		}
	}
}

// Fourteen days, quieter at weekends, in order of time, the same each time.
func TestFlows(t *testing.T) {
	var b, again bytes.Buffer
	if err := Flows(&b); err != nil {
		t.Fatal(err)
	}
	if err := Flows(&again); err != nil || !bytes.Equal(b.Bytes(), again.Bytes()) {
		t.Error("the flows are others each time", err)
	}
	perDay, last := make(map[string]int), ""
	for _, line := range strings.Split(strings.TrimSpace(b.String()), "\n")[1:] {
		at, _, _ := strings.Cut(line, ",")
		if at < last {
			t.Fatalf("%s comes after %s", at, last)
		}
		last = at
		perDay[at[:10]]++
	}
	if len(perDay) != days {
		t.Errorf("flows on %d days", len(perDay))
	}
	for day := range days {
		date := Taken.AddDate(0, 0, day-days)
		n := perDay[date.Format("2006-01-02")]
		weekend := date.Weekday() == 0 || date.Weekday() == 6
		if weekend != (n < 1300) {
			t.Errorf("%s (%s) has %d flows", date.Format("2006-01-02"), date.Weekday(), n)
		}
	}
}
