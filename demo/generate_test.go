package demo_test

import (
	"bytes"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"isonomos/core/addr"
	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/demo"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/store"
)

func auditGenerated(t testing.TB, size demo.Size) (audit.Result, []demo.Planted) {
	t.Helper()
	d := nomos.Understand([]*source.File{source.NewFile("laws.nomos", demo.MayBeOpen)},
		resolve.Options{Now: demo.Taken})
	if len(d.Messages) > 0 {
		t.Fatal(d.Messages[0])
	}
	e, planted := demo.Generate(size)
	return audit.Run(decide.New(e), audit.Options{Laws: d.Laws, Now: demo.Taken}), planted
}

// Every planted mistake is found by its check, at its place, and nothing else is
// found that is high or worse.
func TestPlantedMistakes(t *testing.T) {
	for _, size := range []demo.Size{
		{Accounts: 40, Groups: 2000, Instances: 4000, Rules: 20000, Seed: 1},
		{Accounts: 3, Groups: 1500, Instances: 3000, Rules: 15000, Seed: 2},
		{Accounts: 100, Groups: 1000, Instances: 1500, Rules: 6000, Seed: 3},
	} {
		result, planted := auditGenerated(t, size)
		if len(planted) < 20 {
			t.Fatalf("only %d mistakes are planted", len(planted))
		}
		places := make(map[string]bool)
		for _, p := range planted {
			places[p.Group] = true
			found := slices.ContainsFunc(result.Findings, func(f audit.Finding) bool {
				if !slices.Contains(f.Names(), p.Check) || f.Account.Name != p.Account {
					return false
				}
				byRule := slices.ContainsFunc(f.Rules, func(r *estate.Rule) bool { return r.ID == p.Rule })
				return p.Group == "" || f.Where() == p.Group && (p.Rule == "" || byRule || len(f.Rules) == 0)
			})
			if !found {
				t.Errorf("seed %d: not found: %+v", size.Seed, p)
			}
		}
		for _, f := range result.Findings {
			if f.Severity >= audit.High && f.Group != nil && !places[f.Where()] {
				t.Errorf("seed %d: nobody planted %s %v in %s: %s", size.Seed, f.Severity, f.Names(), f.Where(),
					f.Message)
			}
		}
	}
}

// Where nothing is planted nothing is worse than low.
func TestCleanEstate(t *testing.T) {
	result, planted := auditGenerated(t,
		demo.Size{Accounts: 40, Groups: 1600, Instances: 3000, Rules: 16000, Seed: 4, Clean: true})
	if len(planted) > 0 {
		t.Error("mistakes are planted in a clean estate")
	}
	for _, f := range result.Findings {
		if f.Severity > audit.Low {
			t.Errorf("%s %v in %s: %s", f.Severity, f.Names(), f.Where(), f.Message)
		}
	}
}

// A generated estate is written and read back whole: the same text again, the same
// findings, whether packed in one block or many.
func TestGeneratedReadsBack(t *testing.T) {
	e, _ := demo.Generate(demo.Size{Accounts: 12, Groups: 900, Instances: 1500, Rules: 9000, Seed: 6})
	var once, twice bytes.Buffer
	if err := store.WriteSurvey(&once, e); err != nil {
		t.Fatal(err)
	}
	again, warnings, err := store.ReadSurvey(bytes.NewReader(once.Bytes()), "s")
	if err != nil || len(warnings) > 0 {
		t.Fatal(err, warnings)
	}
	if err := store.WriteSurvey(&twice, again); err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(once.Bytes(), twice.Bytes()) {
		t.Error("a generated survey changes when it is read and written again")
	}
	if once.Len() < 2<<20 {
		t.Errorf("%d bytes are too few to be read in several blocks", once.Len())
	}
	told := func(e *estate.Estate) (all []string) {
		for _, f := range audit.Run(decide.New(e), audit.Options{Now: demo.Taken}).Findings {
			all = append(all, f.Fingerprint+f.Severity.String())
		}
		slices.Sort(all)
		return all
	}
	if !slices.Equal(told(e), told(again)) {
		t.Error("what is read back has other findings")
	}
}

// Generated addresses are nobody's: private, or of the documentation ranges. Within
// a network none is given twice, each lies in its subnet, and names are clean.
func TestGeneratedAddresses(t *testing.T) {
	e, planted := demo.Generate(demo.Size{Accounts: 30, Groups: 1200, Instances: 3000, Rules: 12000, Seed: 8})
	allowed := addr.OfPrefixes(netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("198.51.100.0/24"),
		netip.MustParsePrefix("203.0.113.0/24"), netip.MustParsePrefix("2001:db8::/32"),
		netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("172.16.0.0/12"))
	type place struct {
		network *estate.Network
		address netip.Addr
	}
	given := make(map[place]string)
	for _, in := range e.Instances {
		for _, f := range in.Interfaces {
			for _, a := range slices.Concat(f.Private, f.Public) {
				at := place{f.Subnet.Network, a}
				if !allowed.Contains(a) || given[at] != "" {
					t.Fatalf("%s has %s, as %q has", in.Path(), a, given[at])
				}
				given[at] = in.Path()
			}
			if !f.Subnet.Ranges[0].Contains(f.Private[0]) {
				t.Errorf("%s has %s, which is not in its subnet", in.Path(), f.Private[0])
			}
		}
	}
	wide := map[string]bool{"0.0.0.0/0": true, "::/0": true, "0.0.0.0/1": true, "128.0.0.0/1": true, "96.0.0.0/6": true}
	ids := make(map[string]bool)
	for _, g := range e.Groups {
		if strings.ContainsAny(g.Path(), " \t\n") || g.Description == "" {
			t.Errorf("%q is called or described badly", g.Path())
		}
		for _, r := range g.Rules {
			if ids[r.ID] {
				t.Fatalf("two rules are called %s", r.ID)
			}
			ids[r.ID] = true
			for _, p := range r.Peers {
				if p.Kind == estate.PeerRange && !wide[p.Range.String()] &&
					!addr.OfPrefixes(p.Range).SubsetOf(allowed) {
					t.Errorf("%s names %s, which may be somebody's", g.Path(), p.Range)
				}
			}
		}
	}
	for _, p := range planted {
		if _, ok := audit.Find(p.Check); !ok || p.About == "" {
			t.Errorf("%+v is of no check", p)
		}
	}
}

// The same seed makes the same estate, whatever its size asks for is nearly met.
func TestGeneratedSize(t *testing.T) {
	size := demo.Size{Accounts: 20, Groups: 1000, Instances: 2000, Rules: 10000, Seed: 5}
	count := func() (rules int, e *estate.Estate) {
		e, _ = demo.Generate(size)
		for _, g := range e.Groups {
			rules += len(g.Rules)
		}
		return rules, e
	}
	rules, e := count()
	again, other := count()
	if rules != again || e.Groups[500].Name != other.Groups[500].Name || strings.Contains(e.Accounts[0].Name, " ") {
		t.Error("the same seed makes different estates")
	}
	if len(e.Accounts) != 20 || len(e.Instances) != 2000 || rules < 8500 || rules > 11500 || len(e.Groups) < 1000 ||
		len(e.Groups) > 1100 {
		t.Errorf("%d accounts, %d groups, %d instances, %d rules", len(e.Accounts), len(e.Groups), len(e.Instances),
			rules)
	}
	for _, small := range []demo.Size{{}, {Accounts: 1, Groups: 1}, {Accounts: 2, Groups: 1, Instances: 5, Rules: 1}} {
		demo.Generate(small)
	}
}
