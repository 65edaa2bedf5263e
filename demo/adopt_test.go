package demo_test

import (
	"slices"
	"strings"
	"testing"

	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/demo"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/work"
)

// Whatever is surveyed, on all four kinds of cloud: what is adopted lets through what
// it did and is attached to what it was, asked of the written definitions anew; nothing
// but what keeps no state, or is attached to nothing, is left out.
func TestAdoptedEstatesLetThroughTheSame(t *testing.T) {
	for seed := range uint64(3) {
		e, _ := demo.Generate(demo.Size{Accounts: 9, Groups: 160, Instances: 400, Rules: 1200, Seed: seed + 1})
		w := work.World{Survey: e, Estate: e}
		var groups []*estate.Group
		for _, g := range e.Groups {
			if !g.BuiltIn {
				groups = append(groups, g)
			}
		}
		a, err := w.Adopt(groups, nil, ".", resolve.Options{Name: "generated", Now: demo.Taken})
		if err != nil {
			t.Fatal(err)
		}
		if len(a.Adopted) < len(groups)*6/10 {
			t.Errorf("%d of %d groups are adopted", len(a.Adopted), len(groups))
		}
		for _, left := range a.Left {
			if !strings.Contains(left.Why, "keeps no state") && !strings.Contains(left.Why, "attached to no instance") {
				t.Errorf("%s is left: %s", left.Group.Path(), left.Why)
			}
		}
		understood := nomos.Understand(a.Files, resolve.Options{Name: "generated", Now: demo.Taken})
		for _, m := range understood.Messages {
			if source.Errors([]source.Message{m}) > 0 {
				t.Fatal(m)
			}
		}
		before, after := decide.New(e), decide.New(work.NewWorld(understood, e).Estate)
		for _, g := range a.Adopted {
			i := slices.IndexFunc(after.Estate().Groups,
				func(x *estate.Group) bool { return x.Defined && x.ID == g.ID && x.Account.Name == g.Account.Name })
			if i < 0 {
				t.Fatalf("%s is not found in its definition", g.Path())
			}
			defined := after.Estate().Groups[i]
			for _, direction := range []estate.Direction{estate.In, estate.Out} {
				if was, is := before.GroupTraffic(g, direction), after.GroupTraffic(defined,
					direction); !was.Equal(is) {
					t.Errorf("%s %s: %v became %v", g.Path(), direction, was, is)
				}
			}
			if !before.Members(g).Equal(after.Members(defined)) {
				t.Errorf("%s: other members", g.Path())
			}
		}
		// Written in their canonical layout, and the same each time.
		again, err := w.Adopt(groups, nil, ".", resolve.Options{Name: "generated", Now: demo.Taken})
		if err != nil || len(again.Files) != len(a.Files) {
			t.Fatal(err)
		}
		for i, f := range a.Files {
			if f.Text != again.Files[i].Text {
				t.Errorf("%s is written otherwise the second time", f.Name)
			}
		}
	}
}
