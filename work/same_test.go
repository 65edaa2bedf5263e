package work_test

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
	"time"

	"isonomos/core/change"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/store"
	"isonomos/work"
)

// randomSurvey is an account of a dialect with groups made by hand: default ones that are attached beside others, lists
// around subnets, references, and peers of every kind.
func randomSurvey(random *rand.Rand, name string) string {
	d, _ := dialect.Lookup(name)
	pick := func(words ...string) string { return words[random.IntN(len(words))] }
	var b strings.Builder
	put := func(format string, a ...any) { fmt.Fprintf(&b, format+"\n", a...) }
	put(`{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z","estate":"play"}`)
	put(`{"kind":"cloud","name":"c","dialect":%q}`, name)
	put(`{"kind":"account","name":"a","cloud":"c","id":"a"}`)
	put(`{"kind":"network","account":"a","id":"n","name":"n","ranges":["10.1.0.0/16"]}`)
	in := ""
	if d.GroupsInNetworks {
		in = `"network":"n",`
	}
	walls := 0 // lists around subnets
	if d.SubnetGroups && d.Subnets.State != dialect.StateNone {
		walls = 2
	}
	for s := 1; s <= 2; s++ {
		var around []string
		if walls > 0 && random.IntN(2) == 0 {
			around = append(around, `"wd"`)
		}
		if walls > 0 && len(around) < d.GroupsPerSubnet && random.IntN(2) == 0 {
			around = append(around, fmt.Sprintf(`"w%d"`, s))
		}
		put(`{"kind":"subnet","account":"a","network":"n","id":"s%d","name":"s%[1]d","ranges":["10.1.%[1]d.0/24"],`+
			`"routes":[{"to":"0.0.0.0/0","via":"internet"}],"groups":[%[2]s]}`, s, strings.Join(around, ","))
	}
	rule := func(group string, k int, kind string) {
		direction, action, rank := pick("in", "in", "out"), "admit", 0
		filter := d.Instances
		if kind == "subnets" {
			filter = d.Subnets
		}
		if filter.FirstMatch {
			rank = 100 + 20*k
		}
		if filter.Refuses && random.IntN(4) == 0 {
			action = "refuse"
		}
		peers := []string{`"0.0.0.0/0"`, `"198.51.100.0/25"`, `"10.1.0.0/16"`, `"192.0.2.7/32"`}
		if kind == "instances" && action == "admit" && !d.ManyPeers {
			peers = append(peers, `"group:g1"`)
		}
		put(`{"kind":"rule","account":"a","group":%q,"id":"%[1]s-%d","direction":%q,"action":%q,"rank":%d,"peers":[%s],"services":[%q]}`,
			group, k, direction, action, rank, pick(peers...), pick("tcp 22", "tcp 443", "tcp 5000-6000", "udp 53", "any"))
	}
	group := func(id, groupName, kind string, standing bool) {
		built := ""
		if standing {
			built = `"built_in":true,"default":true,`
		}
		put(`{"kind":"group","account":"a",%s"id":%q,"name":%q,%s"for":%q}`, in, id, groupName, built, kind)
		for k := range 1 + random.IntN(3) {
			rule(id, k, kind)
		}
	}
	if walls > 0 {
		group("wd", "default", "subnets", true)
		group("w1", "wall-1", "subnets", false)
		group("w2", "wall-2", "subnets", false)
	}
	if d.Nothing == dialect.DefaultAttached {
		group("gd", "default", "instances", true)
	}
	for g := 1; g <= 3; g++ {
		group(fmt.Sprintf("g%d", g), fmt.Sprintf("group-%d", g), "instances", false)
	}
	for i := 1; i <= 5; i++ {
		var at []string
		if d.Nothing == dialect.DefaultAttached && random.IntN(3) == 0 {
			at = append(at, `"gd"`)
		}
		for g := 1; g <= 3; g++ {
			if len(at) < max(d.GroupsPerInterface, 1) && random.IntN(2) == 0 {
				at = append(at, fmt.Sprintf(`"g%d"`, g))
			}
		}
		public := ""
		if random.IntN(2) == 0 {
			public = fmt.Sprintf(`"public":["198.51.100.2%d"],`, i)
		}
		put(`{"kind":"instance","account":"a","id":"i%d","name":"i-%[1]d","type":"machine","interfaces":[{"id":"f%[1]d","subnet":"s%[2]d",`+
			`"private":["10.1.%[2]d.1%[1]d"],%[3]s"groups":[%[4]s],"filtered":true}]}`, i, 1+i%2, public, strings.Join(at, ","))
	}
	return b.String()
}

var aRule = regexp.MustCompile(`(?m)^  (admit|reach|refuse) .*\n`)

// perturbed is definitions in which somebody has changed something.
func perturbed(random *rand.Rand, text string) string {
	rules := aRule.FindAllStringIndex(text, -1)
	if len(rules) == 0 || random.IntN(3) == 0 {
		return text + "\ngroup added in a/n {\n  cover instance i-1\n  admit https from 203.0.113.0/24\n}\n"
	}
	at := rules[random.IntN(len(rules))]
	if random.IntN(2) == 0 {
		return text[:at[0]] + text[at[1]:]
	}
	return text[:at[1]] + "  admit tcp 8443 from 203.0.113.0/24\n" + text[at[1]:]
}

// What changes is worked out once: comparing, drafting, adopting, and what was carried out, say the same, on estates
// whose groups were made by hand. Adopting changes nothing; after somebody has edited what was adopted, all say the same
// of the edit.
func TestWhatChangesIsOne(t *testing.T) {
	estates := *rounds
	if testing.Short() {
		estates = min(estates, 12)
	}
	for _, name := range dialect.Names() {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			random := rand.New(rand.NewPCG(*seed, 32))
			adopted, edited, carried, nothing := 0, 0, 0, 0
			for n := range estates {
				survey := randomSurvey(random, name)
				e, _, err := store.ReadSurvey(strings.NewReader(survey), "s")
				if err != nil {
					t.Fatal(err, survey)
				}
				text := adoptedText(t, e)
				if text == "" {
					nothing++
					continue
				}
				adopted++
				sameSaid(t, survey, text, true, n%25 == 0)
				if text = perturbed(random, text); n%2 == 0 {
					if sameSaid(t, survey, text, false, n%25 == 0) {
						edited++
					}
				}
				if n%25 == 0 {
					carried++
				}
				if t.Failed() {
					return
				}
			}
			t.Logf("%d estates adopted, %d of them edited, %d carried out; in %d nothing can be adopted", adopted, edited,
				carried, nothing)
			if adopted < estates/2 || edited < estates/5 {
				t.Errorf("only %d of %d estates were adopted, and %d edited", adopted, estates, edited)
			}
		})
	}
}

// adoptedText is what adopting all groups of an estate writes.
func adoptedText(t *testing.T, e *estate.Estate) string {
	t.Helper()
	w := work.World{Survey: e, Estate: e}
	var groups []*estate.Group
	for _, g := range e.Groups {
		if !g.BuiltIn {
			groups = append(groups, g)
		}
	}
	o := resolve.Options{Name: "play", Now: time.Unix(1790000000, 0)}
	a, err := w.Adopt(groups, nil, ".", o)
	if err != nil {
		t.Fatal(err)
	}
	if len(a.Files) == 0 {
		return ""
	}
	if d := w.Changes(a, o); !d.Empty() {
		t.Errorf("adopting says that it changes something: %s\n%s", spelt(d), a.Files[0].Text)
	}
	return "estate play\n" + a.Files[0].Text
}

// sameSaid holds what comparing says against the draft and, if it is to be carried out, against what is there then.
func sameSaid(t *testing.T, survey, text string, nothing, carry bool) bool {
	t.Helper()
	d := nomos.Understand([]*source.File{source.NewFile("a.nomos", text)}, resolve.Options{Now: time.Unix(1790000000, 0)})
	for _, m := range d.Messages {
		if !m.Warning {
			return false // an edit that is a mistake
		}
	}
	e, _, err := store.ReadSurvey(strings.NewReader(survey), "s")
	if err != nil {
		t.Fatal(err)
	}
	compared := work.Compare(work.Side{Survey: e}, work.Side{Definitions: &d}, e)
	aim := change.NewAim(d.Estate, e, change.Choice{Adopt: func(string) bool { return true }})
	if len(aim.Failures) > 0 {
		return false // its cloud can't express it
	}
	said, drafted := spelt(compared.Difference), spelt(change.Compare(decide.New(aim.Now), decide.New(aim.Then)))
	if said != drafted {
		t.Errorf("comparing says\n%s\ndrafting says\n%s\nof\n%s\non\n%s", said, drafted, text, survey)
	}
	if nothing && said != "" {
		t.Errorf("adopting changes\n%s\nof\n%s\non\n%s", said, text, survey)
	}
	if !carry {
		return true
	}
	q := newQuay(t, survey)
	q.define(text)
	p, err := q.drafted("all")
	if err != nil {
		return true // no safe order, or no room: it is not carried out
	}
	if _, err := q.carry(t.Context(), q.job("all"), &p.Draft, nil); err != nil {
		t.Errorf("%v\n%s\non\n%s", err, text, survey)
		return true
	}
	if is := differs(e, q.now()); is != said {
		t.Errorf("comparing says\n%s\ncarried out it is\n%s\nof\n%s\non\n%s", said, is, text, survey)
	}
	return true
}
