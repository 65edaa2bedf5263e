package nomos

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"isonomos/core/estate"
	"isonomos/internal/golden"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
)

var now = time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)

// Each file of testdata/messages has mistakes, and beside it stands what is said of them.
func TestMessages(t *testing.T) {
	files, err := filepath.Glob("testdata/messages/*.nomos")
	if err != nil || len(files) == 0 {
		t.Fatal("no files", err)
	}
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		d := Understand([]*source.File{source.NewFile(filepath.Base(name), string(text))}, resolve.Options{Now: now})
		var got strings.Builder
		for _, m := range d.Messages {
			got.WriteString(m.String())
		}
		golden.Check(t, strings.TrimSuffix(name, ".nomos")+".golden", got.String())
		if got.Len() == 0 {
			t.Errorf("%s: nothing is said", name)
		}
	}
}

// Each file of testdata/meaning uses the whole language, and beside it stands what it comes to.
func TestMeaning(t *testing.T) {
	files, err := filepath.Glob("testdata/meaning/*.nomos")
	if err != nil || len(files) == 0 {
		t.Fatal("no files", err)
	}
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		d := Understand([]*source.File{source.NewFile(filepath.Base(name), string(text))}, resolve.Options{Now: now})
		for _, m := range d.Messages {
			t.Error(m)
		}
		golden.Check(t, strings.TrimSuffix(name, ".nomos")+".golden", meaning(d))
	}
}

// meaning lists what definitions come to, a line a thing.
func meaning(d Definitions) string {
	var b strings.Builder
	rule := func(r *estate.Rule) string {
		text := r.Sentence(d.Estate.Services)
		if r.Description != "" {
			text += fmt.Sprintf(" because %q", r.Description)
		}
		if !r.Until.IsZero() {
			text += " until " + r.Until.Format(time.RFC3339)
		}
		text += fmt.Sprintf("  # %d", r.Origin.Line)
		if r.Through != nil {
			text += fmt.Sprintf(" through %s at %d", strings.TrimSpace(r.Through.Kind+" "+r.Through.Name),
				r.Through.Origin.Line)
		}
		return text
	}
	for _, l := range d.Estate.Lists {
		fmt.Fprintf(&b, "list %s: %v, %d parts, cost %d\n", l.Name, l.Entries, len(l.Parts), l.Cost())
		for _, p := range l.Published {
			cloud := "any cloud"
			if p.Cloud != nil {
				cloud = p.Cloud.Name
			}
			fmt.Fprintf(&b, "  published %q on %s\n", p.Name, cloud)
		}
	}
	for _, g := range d.Estate.Groups {
		fmt.Fprintf(&b, "%s for %s %q in the cloud %q follows %v labels %v covers %d\n", g.Path(), g.For,
			g.Description, g.InCloud(), g.Follows, g.Labels, len(g.Covers))
		for i := range g.Rules {
			b.WriteString("  " + rule(&g.Rules[i]) + "\n")
		}
		for _, l := range g.Lends {
			fmt.Fprintf(&b, "  lend for %s after %d: %s\n", l.AtMost, l.After, rule(&l.Rule))
		}
	}
	for _, l := range d.Laws {
		fmt.Fprintf(&b, "law %s %q %s: %d never, %d only, always %v, labels %v, controls %v\n", l.Name, l.Title,
			l.Severity, len(l.Never), len(l.Only), l.Always, l.Labels, l.Controls)
		if l.Enforced != nil {
			fmt.Fprintf(&b, "  enforced after %s, whole %v\n", l.Enforced.After, l.Enforced.Whole)
		}
	}
	for _, e := range d.Exemptions {
		fmt.Fprintf(&b, "exempt %s %s from %s on %s until %s by %s because %s\n", e.Kind, e.Subject, e.Law,
			e.Services, e.Until.Format(time.RFC3339), e.By, e.Because)
	}
	for _, x := range d.Expects {
		fmt.Fprintf(&b, "%s: %s → %s on %s\n", x.Text, estate.PeerWords(x.From.Of), estate.PeerWords(x.To.Of),
			x.Services)
	}
	return b.String()
}

const places = "cloud c { dialect union }\naccount a { cloud c }\nnetwork n in a { range 10.0.0.0/8 }\nnetwork m " +
	"in a { range 10.0.0.0/8 }\n"

func understood(t *testing.T, text string) Definitions {
	t.Helper()
	d := Understand([]*source.File{source.NewFile("x.nomos", places+text)}, resolve.Options{Name: "folder", Now: now})
	for _, m := range d.Messages {
		if !m.Warning {
			t.Fatal(m)
		}
	}
	return d
}

func TestGroupNamesAreFoundInTheSameNetworkFirst(t *testing.T) {
	d := understood(t, "group x in n { admit ssh from group y, m/y }\ngroup y in n { }\ngroup y in m { admit ssh "+
		"from group x, y }\n")
	if d.Estate.Name != "folder" {
		t.Errorf("the estate is called %q", d.Estate.Name)
	}
	peers := d.Estate.Groups[0].Rules[0].Peers
	if peers[0].Group.Path() != "a/n/y" || peers[1].Group.Path() != "a/m/y" {
		t.Errorf("got %v", peers)
	}
	peers = d.Estate.Groups[2].Rules[0].Peers
	if peers[0].Group.Path() != "a/n/x" || peers[1].Kind != estate.PeerSelf {
		t.Errorf("got %v", peers)
	}
}

func TestOrderAndFilesDoNotMatter(t *testing.T) {
	folder := fstest.MapFS{
		"b/late.nomos":        {Data: []byte("group x in n { admit s from list l }\n")},
		"a.nomos":             {Data: []byte("list l { list k }\nservice s = r, tcp 1\n")},
		"z/deep/end.nomos":    {Data: []byte(places + "service r = tcp 2 class data\nlist k { 192.0.2.0/24 }\n")},
		".hidden/bad.nomos":   {Data: []byte("nonsense")},
		"README.md":           {Data: []byte("nonsense")},
		"b/not-nomos.nomos~":  {Data: []byte("nonsense")},
		"b/folder.nomos/x.md": {Data: []byte("nonsense")},
	}
	read, err := Read(folder, func(name string) string { return "shown/" + name })
	if err != nil || len(read.Files) != 3 {
		t.Fatal(read, err)
	}
	d := Understand(read.Files, resolve.Options{Now: now})
	if len(d.Messages) > 0 {
		t.Fatal(d.Messages)
	}
	r := d.Estate.Groups[0].Rules[0]
	if len(r.Services) != 2 || len(r.Peers[0].List.Entries) != 1 || r.Origin.File != "shown/b/late.nomos" {
		t.Errorf("got %+v", r)
	}
	if class, _ := d.Estate.Services.Class("data"); !class.Contains(2) {
		t.Error("the class of a service is lost")
	}
}

func TestEndedRulesAreGone(t *testing.T) {
	d := understood(t, "group x in n {\n admit ssh from self until 2026-11-19\n admit ssh from self until "+
		"2026-11-20\n admit ssh from self until 2026-11-20T05:59Z\n}\n")
	if n := len(d.Estate.Groups[0].Rules); n != 1 {
		t.Errorf("%d rules are left, want the one that ends with today", n)
	}
	if len(d.Messages) != 2 {
		t.Errorf("%d warnings, want 2", len(d.Messages))
	}
}

func FuzzUnderstand(f *testing.F) {
	f.Add(places + "group x in n { admit ssh, tcp 22 from group x, list l except 10.0.0.0/8 }\nlist l { list l " +
		"}\nservice s = s")
	f.Add("expect only x can reach n/y on any")
	f.Fuzz(func(t *testing.T, text string) {
		for _, m := range Understand([]*source.File{source.NewFile("x.nomos", text)},
			resolve.Options{Now: now}).Messages {
			_ = m.String()
		}
	})
}
