package uphold

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"isonomos/core/addr"
	"isonomos/core/change"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/demo"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/store"
	"isonomos/work"
)

var noon = time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)

func harbourDefinitions(t testing.TB) nomos.Definitions {
	t.Helper()
	sub, err := fs.Sub(demo.Files(), ".")
	if err != nil {
		t.Fatal(err)
	}
	folder, err := nomos.Read(sub, func(name string) string { return name })
	if err != nil {
		t.Fatal(err)
	}
	d := nomos.Understand(folder.Files, resolve.Options{Name: "harbour", Now: noon})
	if len(d.Estate.Groups) == 0 {
		t.Fatal("the demo defines no group")
	}
	return d
}

// watching is an Upholder that knows the accounts of a survey, and neither store nor clouds.
func watching(d nomos.Definitions, lines map[string][]line) *Upholder {
	u := New(Options{Now: func() time.Time { return noon }, Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
		Say: func(words ...string) string { return strings.Join(words, " ") }})
	u.reading, u.decided = &Reading{Definitions: d}, &work.Decided{Definitions: d}
	for name, own := range lines {
		a := u.accountOf(name, "")
		a.take(store.Pack(joined(own)), own)
		u.others.of[name], u.others.stale = knownIn(own), true
	}
	return u
}

// byAccount are the lines of a survey by account.
func byAccount(e *estate.Estate) map[string][]line {
	all := make(map[string][]line)
	for text := range bytes.Lines(store.ObjectLines(e)) {
		var o struct{ Kind, Name, Account string }
		_ = json.Unmarshal(text, &o)
		if o.Kind == "account" {
			o.Account = o.Name
		}
		all[o.Account] = append(all[o.Account], linesOf(text)...)
	}
	return all
}

func whole(t testing.TB, d nomos.Definitions, lines map[string][]line) *estate.Estate {
	t.Helper()
	var text bytes.Buffer
	text.WriteString(store.HeaderLine("x", noon))
	for _, x := range d.Estate.Clouds {
		text.WriteString(store.CloudLine(x))
	}
	var names []string
	for name := range lines {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		text.Write(joined(lines[name]))
	}
	e, _, err := store.ReadSurvey(&text, "whole")
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// differ compares the whole estate at once, without the code that judges account by account.
func differ(t testing.TB, d nomos.Definitions, lines map[string][]line) []string {
	aim := change.NewAim(d.Estate, whole(t, d, lines),
		change.Choice{Knows: func(string, string, string) bool { return false }})
	is := decide.New(aim.Now)
	var all []string
	for _, c := range change.Compare(decide.New(aim.Then), is).Changes {
		all = append(all, fmt.Sprintf("%s %s %s %x", c.Kind, c.Place(), c.Direction, c.Traffic.Hash()))
	}
	for _, s := range aim.Strays {
		all = append(all, "stray "+s)
	}
	for _, f := range aim.Failures {
		all = append(all, "unfit "+f.Group.Path())
	}
	owned := make(map[string]bool)
	for _, g := range aim.Then.Groups {
		owned[g.Account.Name+" "+g.ID] = owned[g.Account.Name+" "+g.ID] || aim.Owns(g) && g.ID != ""
	}
	verdicts, _ := law.Judge(is, law.RebaseLaws(d.Laws, aim.ToNow), d.Exemptions, noon)
	for _, v := range verdicts {
		for _, b := range v.Breaches {
			if b.Exemption != nil || owned[b.Group.Account.Name+" "+b.Group.ID] {
				continue
			}
			key := "law " + v.Name + " " + b.Group.Path() + " " + b.Text + " " + b.Lacks
			if b.Rule != nil {
				key += " " + b.Rule.ID
			}
			all = append(all, key)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// piecewise judges account by account, as watching does.
func piecewise(t testing.TB, d nomos.Definitions, lines map[string][]line) []string {
	u := watching(d, lines)
	var all []string
	for name, own := range lines {
		e, missing, err := u.survey(u.accounts[name], own)
		if err != nil || len(missing) > 0 {
			t.Fatal(name, missing, err)
		}
		for _, x := range u.decided.Judge(e, name, nil, nil, noon).Differences {
			all = append(all, x.Key)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// Accounts that are judged one by one differ in just what the whole estate differs in: the demo estate with changes by
// chance in rules, lists, attachments, groups and labels.
func TestAccountByAccountIsTheWhole(t *testing.T) {
	d := harbourDefinitions(t)
	survey, err := demo.Survey()
	if err != nil {
		t.Fatal(err)
	}
	told := 0
	for seed := range seeds() {
		random := rand.New(rand.NewPCG(seed, 22))
		lines := byAccount(survey)
		for range random.IntN(6) {
			disturb(random, lines)
		}
		want, got := withoutSums(differ(t, d, lines)), withoutSums(piecewise(t, d, lines))
		if !slices.Equal(want, got) {
			t.Fatalf("seed %d: account by account\n  %s\nthe whole\n  %s", seed, strings.Join(got, "\n  "),
				strings.Join(want, "\n  "))
		}
		told += len(got)
	}
	if told < 150 && !testing.Short() {
		t.Errorf("only %d differences", told)
	}
}

// withoutSums leaves out how much differs where it differs at instances: for those of accounts that are not known, public
// addresses stand in place of private ones there.
func withoutSums(keys []string) []string {
	for i, key := range keys {
		words := strings.Fields(key)
		if (words[0] == "opens" || words[0] == "closes" || strings.HasPrefix(words[0], "answers")) &&
			strings.Count(words[1], "/") == 1 {
			keys[i] = strings.Join(words[:3], " ")
		}
	}
	slices.Sort(keys)
	return slices.Compact(keys)
}

// disturb changes something by hand.
func disturb(random *rand.Rand, lines map[string][]line) {
	var names []string
	for name := range lines {
		names = append(names, name)
	}
	slices.Sort(names)
	name := names[random.IntN(len(names))]
	own := lines[name]
	pick := func(kind string) int {
		var at []int
		for i, l := range own {
			if l.kind == kind {
				at = append(at, i)
			}
		}
		if len(at) == 0 {
			return -1
		}
		return at[random.IntN(len(at))]
	}
	edit := func(i int, change func(o map[string]any)) {
		var o map[string]any
		_ = json.Unmarshal(own[i].text, &o)
		change(o)
		text, _ := json.Marshal(o)
		own[i].text = text
	}
	own = slices.Clone(own)
	switch random.IntN(6) {
	case 0:
		if i := pick("rule"); i >= 0 {
			own = slices.Delete(own, i, i+1)
		}
	case 1:
		if i := pick("rule"); i >= 0 {
			peers := [][]any{{"0.0.0.0/0"}, {"192.0.2.0/24"}, {"10.20.0.0/16"}}
			edit(i, func(o map[string]any) { o["peers"] = peers[random.IntN(3)] })
		}
	case 2:
		if i := pick("list"); i >= 0 {
			edit(i, func(o map[string]any) {
				if entries, _ := o["entries"].([]any); len(entries) > 1 {
					o["entries"] = entries[1:]
				}
			})
		}
	case 3:
		if i := pick("instance"); i >= 0 {
			edit(i, func(o map[string]any) {
				for _, f := range o["interfaces"].([]any) {
					if groups, _ := f.(map[string]any)["groups"].([]any); len(groups) > 0 {
						f.(map[string]any)["groups"] = groups[1:]
					}
				}
			})
		}
	case 4:
		if i := pick("instance"); i >= 0 {
			edit(i, func(o map[string]any) { o["labels"] = map[string]any{"role": "nothing"} })
		}
	case 5:
		if i := pick("group"); i >= 0 {
			edit(i, func(o map[string]any) {
				if o["built_in"] != true {
					o["name"] = o["name"].(string) + "-2"
				}
			})
		}
	}
	lines[name] = own
}

// Where only rules have changed, judging just their groups, and what is around them, finds what judging the whole
// account finds. Where something is at instances, before or after, everything is judged, so that this is not looked at.
func TestGroupByGroupIsTheAccount(t *testing.T) {
	d := harbourDefinitions(t)
	survey, err := demo.Survey()
	if err != nil {
		t.Fatal(err)
	}
	some, left := 0, 0
	for seed := range seeds() {
		random := rand.New(rand.NewPCG(seed, 7))
		lines := byAccount(survey)
		for range random.IntN(4) { // what else is out of order
			disturb(random, lines)
		}
		u := watching(d, lines)
		for _, a := range u.known() {
			own := slices.Clone(lines[a.name])
			var rules []int
			for i, l := range own {
				if l.kind == "rule" {
					rules = append(rules, i)
				}
			}
			if len(rules) == 0 {
				continue
			}
			before := judged(t, u, a, own, nil)
			only := make(map[string]bool)
			for range 1 + random.IntN(2) {
				i := rules[random.IntN(len(rules))]
				only[own[i].group] = true
				peers := []string{`["0.0.0.0/0"]`, `["192.0.2.0/24"]`, `["10.20.0.0/16"]`}[random.IntN(3)]
				var o map[string]json.RawMessage
				_ = json.Unmarshal(own[i].text, &o)
				o["peers"] = json.RawMessage(peers)
				own[i].text, _ = json.Marshal(o)
			}
			want := judged(t, u, a, own, nil)
			part := judged(t, u, a, around(own, only), &work.Only{Groups: only, Around: true})
			alone := judged(t, u, a, withRulesOf(own, only), &work.Only{Groups: only})
			for key, group := range want {
				if alone != nil && !hasInstances(before) && only[group] != (alone[key] != "") {
					t.Fatalf("seed %d, %s, groups %v: alone\n%v\nthe account\n%v", seed, a.name, only, alone, want)
				}
			}
			if part == nil {
				continue
			}
			if hasInstances(before) || hasInstances(part) {
				left++
				continue
			}
			got := make(map[string]string)
			for key, group := range before {
				if !only[group] {
					got[key] = group
				}
			}
			for key, group := range part {
				got[key] = group
				some++
			}
			if !maps.Equal(want, got) {
				t.Fatalf("seed %d, %s, groups %v: by group\n%v\nthe account\n%v", seed, a.name, only, got, want)
			}
		}
	}
	if some < 100 && !testing.Short() {
		t.Errorf("only %d differences in groups, %d were left out", some, left)
	}
}

func hasInstances(differences map[string]string) bool {
	return slices.Contains(slices.Collect(maps.Values(differences)), "")
}

// judged are the differences of an account, with the ids of their groups; nil if just some groups can't be judged.
func judged(t testing.TB, u *Upholder, a *account, lines []line, only *work.Only) map[string]string {
	t.Helper()
	e, missing, err := u.survey(a, lines)
	if err != nil {
		t.Fatal(err)
	}
	view := u.decided.Judge(e, a.name, missing, only, noon)
	if view.Whole {
		return nil
	}
	all := make(map[string]string)
	for _, x := range view.Differences {
		all[x.Key] = x.GroupID
	}
	return all
}

// A mark that was taken off, or is another estate's now, does not hide what its group lets through: it is told, and
// the group is judged all the same.
func TestMarkTakenOff(t *testing.T) {
	d := harbourDefinitions(t)
	survey, err := demo.Survey()
	if err != nil {
		t.Fatal(err)
	}
	for _, mark := range []string{"", "other"} {
		lines := byAccount(survey)
		own := lines["tides"]
		id := ""
		for i, l := range own {
			if l.kind == "group" && bytes.Contains(l.text, []byte(`"berth-ledger"`)) {
				id = l.id
				text := bytes.Replace(l.text, []byte(`"isonomos":"saltmarsh"`), []byte(`"isonomos":"`+mark+`"`), 1)
				if mark == "" {
					text = bytes.Replace(l.text, []byte(`"labels":{"isonomos":"saltmarsh"},`), nil, 1)
				}
				if bytes.Equal(text, l.text) {
					t.Fatalf("%s has no mark", l.text)
				}
				own[i].text = text
			}
		}
		u := watching(d, lines)
		u.decided = u.decided.With(map[[3]string]bool{{"tides", "group", id}: true}, nil)
		e, _, err := u.survey(u.accounts["tides"], own)
		if err != nil {
			t.Fatal(err)
		}
		var kinds []string
		for _, x := range u.decided.Judge(e, "tides", nil, nil, noon).Differences {
			if x.Group == "tides/quay/berth-ledger" {
				kinds = append(kinds, x.Kind)
			}
		}
		if slices.Sort(kinds); strings.Join(kinds, " ") != "changed opened" {
			t.Errorf("mark %q: %v", mark, kinds)
		}
	}
}

// What refers to groups of an account that was never read can't be decided, and is not told.
func TestMissingNeighbour(t *testing.T) {
	d := harbourDefinitions(t)
	survey, err := demo.Survey()
	if err != nil {
		t.Fatal(err)
	}
	lines := byAccount(survey)
	own := lines["tides"]
	want := piecewise(t, d, lines)
	delete(lines, "traffic")
	u := watching(d, lines)
	e, missing, err := u.survey(u.accounts["tides"], own)
	if err != nil || !slices.Contains(missing, "traffic") {
		t.Fatalf("missing %v, %v", missing, err)
	}
	for _, x := range u.decided.Judge(e, "tides", missing, nil, noon).Differences {
		if !slices.Contains(want, x.Key) {
			t.Errorf("%s is told, because an account was not read: %s", x.Key, x.Says)
		}
	}
}

// Where an address that was known is gone, it is a stranger's in all other accounts: they are judged again, also if one
// of them was judged meanwhile.
func TestOtherStrangersHaveAllJudged(t *testing.T) {
	d := harbourDefinitions(t)
	survey, err := demo.Survey()
	if err != nil {
		t.Fatal(err)
	}
	lines := byAccount(survey)
	u := watching(d, lines)
	if len(d.Laws) == 0 || u.judgeForStrangers() {
		t.Fatalf("%d laws, or all are judged again while nobody has become a stranger", len(d.Laws))
	}
	known := u.others.of["traffic"]
	u.noteKnown("traffic", known)
	if u.judgeForStrangers() {
		t.Error("all are judged again for addresses that are the same")
	}
	u.noteKnown("traffic", known.Union(addr.Of(netip.MustParseAddr("198.51.100.77"))))
	if _, _, err := u.survey(u.accounts["tides"], lines["tides"]); err != nil {
		t.Fatal(err)
	}
	if !u.judgeForStrangers() || len(u.whole) != len(u.accounts) || len(u.queue) != len(u.accounts) {
		t.Errorf("of %d accounts %d are judged again, %d wait", len(u.accounts), len(u.whole), len(u.queue))
	}
	if u.judgeForStrangers() {
		t.Error("all are judged twice for one change")
	}
}

// seeds are those of estates by chance; fewer where everything is slow.
func seeds() uint64 {
	if testing.Short() {
		return 12
	}
	return 60
}
