package change_test

import (
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"isonomos/core/change"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/store"
)

// steps are the steps of a plan in short: what is done to which group, with which rules.
func steps(p change.Plan) string {
	var all []string
	for _, l := range p.Lanes {
		for _, s := range l.Steps {
			text := string(s.Do)
			switch {
			case s.Group != nil:
				text += " " + s.Group.Name
			case s.List != nil:
				text += " " + s.List.Name
			case s.Interface != nil:
				text += " " + s.Interface.Instance.Name
			case s.Subnet != nil:
				text += " " + s.Subnet.Name
			}
			for _, g := range s.Groups {
				text += " " + g.Name
			}
			for i := range s.Rules {
				text += " " + strings.ReplaceAll(s.Rules[i].Services[0].String(), "tcp ", "")
			}
			all = append(all, text)
		}
	}
	return strings.Join(all, ", ")
}

const pierSurvey = `{"kind":"survey","version":1}
{"kind":"cloud","name":"c","dialect":"DIALECT"}
{"kind":"account","name":"a","cloud":"c","limits":{"rules-per-direction":LIMIT}}
{"kind":"network","account":"a","id":"n","ranges":["10.0.0.0/16"]}
{"kind":"subnet","account":"a","network":"n","id":"s","ranges":["10.0.0.0/24"]}
{"kind":"instance","account":"a","id":"w","labels":{"role":"web"},"interfaces":[{"id":"fw","subnet":"s","private":["10.0.0.5"],"groups":["web"]}]}
{"kind":"instance","account":"a","id":"d","labels":{"role":"db"},"interfaces":[{"id":"fd","subnet":"s","private":["10.0.0.6"],"groups":["db"]}]}
{"kind":"group","account":"a","network":"n","id":"web","name":"web","labels":{"isonomos":"pier"}}
{"kind":"group","account":"a","network":"n","id":"db","name":"db","labels":{"isonomos":"pier"}}
{"kind":"group","account":"a","network":"n","id":"theirs","name":"theirs"}
`

func aimed(t *testing.T, dialect string, limit int, rules, definitions string, adopt ...string) *change.Aim {
	t.Helper()
	return aimedAt(t, dialect,
		strings.NewReplacer("DIALECT", dialect, "LIMIT", fmt.Sprint(limit)).Replace(pierSurvey)+rules, definitions,
		adopt...)
}

func aimedAt(t *testing.T, dialect, text, definitions string, adopt ...string) *change.Aim {
	t.Helper()
	survey, _, err := store.ReadSurvey(strings.NewReader(text), "s")
	if err != nil {
		t.Fatal(err)
	}
	places := "estate pier\ncloud c { dialect " + dialect +
		" }\naccount a { cloud c }\nnetwork n in a { range 10.0.0.0/16 }\n"
	d := nomos.Understand([]*source.File{source.NewFile("x.nomos", places+definitions)},
		resolve.Options{Now: time.Unix(0, 0)})
	for _, m := range d.Messages {
		t.Fatal(m)
	}
	return change.NewAim(d.Estate, survey,
		change.Choice{Adopt: func(path string) bool { return len(adopt) > 0 && path == adopt[0] }})
}

func rule(group, direction, peer, service string) string {
	return fmt.Sprintf(
		`{"kind":"rule","account":"a","group":%q,"id":"%[1]s-%[2]s-%[4]s-%[3]s","direction":%[2]q,"action":"admit","peers":[%[3]q],"services":["tcp %[4]s"]}`+"\n", group, direction, peer, service)
}

const webAndDB = "group web in n { cover where role = web\n WEB }\ngroup db in n { cover where role = db\n DB }\n"

func both(web, db string) string { return strings.NewReplacer("WEB", web, "DB", db).Replace(webAndDB) }

// Steps come in an order that is safe, and what is not ours, or lets through the same
// already, is left alone.
func TestPlans(t *testing.T) {
	for name, x := range map[string]struct {
		limit              int
		rules, definitions string
		adopt              string
		want               string
		gaps               int
		left               string
	}{
		"nothing to do": {60, rule("web", "in", "0.0.0.0/0", "443") + rule("web", "in", "::/0", "443"),
			both("admit https from everyone", ""), "", "", 0, ""},
		"written otherwise": {60,
			rule("web", "in", "0.0.0.0/1", "443") + rule("web", "in", "128.0.0.0/1", "443") + rule("web", "in",
				"::/0", "443"), both("admit https from everyone", ""), "", "", 0, ""},
		"an address becomes a group": {60, rule("db", "in", "10.0.0.5/32", "5432"),
			both("", "admit postgres from group web"), "", "add-rules db 5432, remove-rule db 5432", 0, ""},
		"let in before shut": {60, rule("web", "in", "0.0.0.0/0", "443") + rule("web", "in", "::/0", "443"),
			both("admit https from 192.0.2.0/24", ""), "",
			"add-rules web 443, remove-rule web 443, remove-rule web 443", 0, ""},
		// One end closes what the other opens: it must not pass in between.
		"shut at one end before the other opens": {60, rule("web", "out", "group:db", "5432"),
			both("", "admit postgres from group web"), "", "remove-rule web 5432, add-rules db 5432", 0, ""},
		"no room, and something that is to go": {2,
			rule("web", "in", "192.0.2.0/25", "443") + rule("web", "in", "192.0.2.0/25", "80"),
			both("admit https from 192.0.2.0/25, 198.51.100.0/24", ""), "", "remove-rule web 80, add-rules web 443",
			0, ""},
		"no room at all": {2, rule("web", "in", "192.0.2.0/25", "443") + rule("web", "in", "198.51.100.0/24", "443"),
			both("admit tcp 443-444 from 192.0.2.0/25, 198.51.100.0/24", ""), "",
			"remove-rule web 443, add-rules web 443-444, remove-rule web 443, add-rules web 443-444", 2, ""},
		"a group comes, another goes": {60, rule("db", "in", "group:web", "5432"), "group web in n { cover where " +
			"role = web }\ngroup store in n { cover where role = db\n admit postgres from group web }\n", "",
			"create-group store, remove-rule store any, remove-rule store any, add-rules store 5432, attach d db " +
				"store, attach d store, delete-group db", 0, ""},
		"not ours": {60, "", both("", "") + "group theirs in n { admit ssh from 192.0.2.1 }\n",
			"", "", 0, "a/n/theirs: there is a group of that name that is not marked as ours"},
		"adopted": {60, "", both("", "") + "group theirs in n { admit ssh from 192.0.2.1 }\n",
			"a/n/theirs", "label-group theirs, add-rules theirs 22", 0, ""},
		"named by somebody else's rule": {60, rule("theirs", "in", "group:db", "22"),
			"group web in n { cover where role = web }\n", "", "", 0,
			"a/n/db: it is not defined any more, but a/n/theirs names it"},
	} {
		plan, err := change.NewPlan(aimed(t, "union", x.limit, x.rules, x.definitions, x.adopt))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		gaps := 0
		for _, l := range plan.Lanes {
			gaps += len(l.Gaps)
			for _, g := range l.Gaps {
				if g.To <= g.From || len(g.Interfaces) == 0 {
					t.Errorf("%s: a gap from %d to %d at %d interfaces", name, g.From, g.To, len(g.Interfaces))
				}
			}
		}
		if got := steps(plan); got != x.want || gaps != x.gaps || strings.Join(plan.Left, "; ") != x.left {
			t.Errorf("%s: %s (%d gaps, left %s)\nwant %s (%d gaps, left %s)", name, got, gaps, plan.Left, x.want,
				x.gaps, x.left)
		}
	}
}

// A ranked cloud's interface has one group: it is exchanged, with what is attached to
// the subnet opening and closing so that neither state is overstepped.
func TestPlanOfExchange(t *testing.T) {
	rules := `{"kind":"rule","account":"a","group":"web","id":"r1","direction":"in","action":"admit","rank":100,"peers":["192.0.2.0/24"],"services":["tcp 443"]}
{"kind":"rule","account":"a","group":"web","id":"r2","direction":"in","action":"refuse","rank":4096,"peers":["0.0.0.0/0","::/0"],"services":["any"]}
{"kind":"rule","account":"a","group":"web","id":"r3","direction":"out","action":"refuse","rank":4096,"peers":["0.0.0.0/0","::/0"],"services":["any"]}
`
	plan, err := change.NewPlan(aimed(t, "ranked", 60, rules, "group site in n { cover where role = web\n admit "+
		"https from 192.0.2.0/24 }\ngroup db in n { cover where role = db }"))
	if err != nil {
		t.Fatal(err)
	}
	got := steps(plan)
	if !strings.Contains(got, "add-rules site any, add-rules site any, ") ||
		!strings.Contains(got, "attach w site, ") || !strings.HasSuffix(got, "delete-group web") ||
		len(plan.Lanes[0].Gaps) > 0 {
		t.Errorf("%s, gaps %v", got, plan.Lanes[0].Gaps)
	}
}

// A quota of the end state is told before anything is planned; lists that are not ours
// and hold something else are not used.
func TestPlansThatCantBe(t *testing.T) {
	aim := aimed(t, "union", 1, "", both("admit https from 192.0.2.0/25, 198.51.100.0/24", ""))
	if len(aim.Failures) != 1 || !strings.Contains(aim.Failures[0].Reason, "more rules than its quota") {
		t.Errorf("over quota: %+v", aim.Failures)
	}
	aim = aimed(t, "union", 60,
		`{"kind":"list","account":"a","id":"l","name":"known","owner":"own","entries":["192.0.2.0/28"]}`+"\n",
		"list known { 198.51.100.0/24 }\n"+both("admit https from list known", ""))
	if len(aim.NotOurs) == 0 || !slices.Equal(aim.NotOurs[0].Adopt, []string{"a/known"}) {
		t.Errorf("a list that is not ours: %+v", aim.NotOurs)
	}
	plan, err := change.NewPlan(aim)
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range plan.Lanes {
		for _, s := range l.Steps {
			if s.List != nil || s.Group != nil && s.Group.Name == aim.NotOurs[0].Group.Name {
				t.Errorf("a group whose rules refer to it is left alone: %s", s.Do)
			}
		}
	}
}

// Where an account has no room, it is told for what; for what is made again by the id that it had.
func TestRoom(t *testing.T) {
	full := strings.NewReplacer("DIALECT", "union", "LIMIT", "60", `"limits":{`, `"limits":{"groups-per-account":2,`).
		Replace(pierSurvey)
	now, _, err := store.ReadSurvey(strings.NewReader(full), "now")
	if err != nil {
		t.Fatal(err)
	}
	before, _, err := store.ReadSurvey(strings.NewReader(full+
		`{"kind":"group","account":"a","network":"n","id":"gone","name":"gone","for":"instances"}`+"\n"), "before")
	if err != nil {
		t.Fatal(err)
	}
	_, err = change.NewPlan(change.NewRepeal("pier", now, before, func(_, _, id string) bool { return id == "gone" }))
	var room *change.RoomError
	if !errors.As(err, &room) || !slices.Equal(room.Objects(), []string{"gone"}) {
		t.Errorf("%v", err)
	}
}

// What is undone is what was: groups, rules, lists, labels, what is attached.
func TestRepealPlans(t *testing.T) {
	text := strings.NewReplacer("DIALECT", "union", "LIMIT", "60").Replace(pierSurvey) + rule("web", "in",
		"0.0.0.0/0", "443")
	list :=
		`{"kind":"list","account":"a","id":"l","name":"known","owner":"own","entries":["192.0.2.0/28"],"labels":{"isonomos":"pier"}}` + "\n"
	read := func(text string) *estate.Estate {
		e, _, err := store.ReadSurvey(strings.NewReader(text), "s")
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	for name, x := range map[string]struct{ now, before, want string }{
		"the same": {text, text, ""},
		"a rule":   {text, text + rule("web", "in", "192.0.2.0/28", "22"), "add-rules web 22"},
		"another rule": {text + rule("web", "in", "list:l", "22") + list,
			text + rule("web", "in", "192.0.2.0/28", "22"), "add-rules web 22, remove-rule web 22, delete-list known"},
		"entries": {text + list, text + strings.Replace(list, "192.0.2.0/28", "192.0.2.16/28", 1),
			"set-entries known"},
		"a list that went": {text, text + list + rule("db", "in", "list:l", "22"),
			"create-list known, add-rules db 22"},
		"labels": {text,
			strings.Replace(text, `"name":"web","labels":{"isonomos":"pier"}`, `"name":"web"`, 1), "label-group web"},
		"what is attached": {strings.Replace(text, `"groups":["web"]`, `"groups":["web","db"]`, 1), text,
			"attach w web"},
		"a group that came": {text + `{"kind":"group","account":"a","network":"n","id":"new","name":"new"}` + "\n",
			text, "delete-group new"},
	} {
		plan, err := change.NewPlan(
			change.NewRepeal("pier", read(x.now), read(x.before), func(string, string, string) bool { return true }))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if got := steps(plan); got != x.want {
			t.Errorf("%s: %s, want %s", name, got, x.want)
		}
	}
}

// A balancer's front is narrowed before its target lets it in: else everyone would get
// through for a while, who gets through neither before nor after.
func TestPlanThroughABalancer(t *testing.T) {
	balancer := `{"kind":"instance","account":"a","id":"lb","type":"balancer","labels":{"role":"door"},"interfaces":[{"id":"fl","subnet":"s","private":["10.0.0.9"],"groups":["door"]}],"listeners":[{"service":"tcp 443","targets":["w"],"port":8443}]}
{"kind":"group","account":"a","network":"n","id":"door","name":"door","labels":{"isonomos":"pier"}}
` + rule("door", "in", "0.0.0.0/0", "443") + rule("door", "in", "::/0", "443") + rule("door", "out", "group:web", "8443")
	for name, x := range map[string]struct{ door, web, want string }{
		"the front is narrowed first": {"admit https from 192.0.2.0/24\n reach tcp 8443 at group web",
			"admit tcp 8443 from group door",
			"remove-rule door 443, remove-rule door 443, add-rules door 443, add-rules web 8443"},
		"the front stays as it is": {"admit https from everyone\n reach tcp 8443 at group web",
			"admit tcp 8443 from group door", "add-rules web 8443"},
		"the front is narrowed, alone": {"admit https from 192.0.2.0/24\n reach tcp 8443 at group web", "",
			"add-rules door 443, remove-rule door 443, remove-rule door 443"},
	} {
		aim := aimed(t, "union", 60, balancer,
			both(x.web, "")+"group door in n { cover where role = door\n "+x.door+" }\n")
		plan, err := change.NewPlan(aim)
		if err != nil {
			t.Fatal(err)
		}
		got := steps(plan)
		shut, open := strings.LastIndex(got, "remove-rule door 443"), strings.Index(got, "add-rules web 8443")
		if len(strings.Split(got, ", ")) != len(strings.Split(x.want, ", ")) ||
			x.door[:20] == "admit https from 192" && open >= 0 && shut > open {
			t.Errorf("%s: %s, want for example %s", name, got, x.want)
		}
	}
}

// Where interfaces have one group each, and speak with their fellows by its name, they go
// on to do so while some have changed groups and others have not: rules bridge that time.
func TestPlanOfExchangeAmongFellows(t *testing.T) {
	const fellow = `{"kind":"instance","account":"a","id":"w2","labels":{"role":"web"},"interfaces":[{"id":"fw2","subnet":"s","private":["10.0.0.7"],"groups":["web"]}]}
{"kind":"rule","account":"a","group":"web","id":"w1","direction":"in","action":"refuse","rank":90,"peers":["group:web"],"services":["tcp 23"]}
{"kind":"rule","account":"a","group":"web","id":"w2","direction":"in","action":"admit","rank":100,"peers":["group:web"],"services":["tcp 7000"]}
{"kind":"rule","account":"a","group":"web","id":"w3","direction":"in","action":"admit","rank":101,"peers":["group:db"],"services":["tcp 9000"]}
{"kind":"rule","account":"a","group":"web","id":"w4","direction":"in","action":"refuse","rank":4000,"peers":["0.0.0.0/0","::/0"],"services":["any"]}
{"kind":"rule","account":"a","group":"web","id":"w5","direction":"out","action":"admit","rank":100,"peers":["group:web"],"services":["tcp 7000"]}
{"kind":"rule","account":"a","group":"web","id":"w6","direction":"out","action":"refuse","rank":4000,"peers":["0.0.0.0/0","::/0"],"services":["any"]}
{"kind":"rule","account":"a","group":"db","id":"d1","direction":"in","action":"refuse","rank":4000,"peers":["0.0.0.0/0","::/0"],"services":["any"]}
{"kind":"rule","account":"a","group":"db","id":"d2","direction":"out","action":"admit","rank":100,"peers":["group:web"],"services":["tcp 9000"]}
{"kind":"rule","account":"a","group":"db","id":"d3","direction":"out","action":"refuse","rank":4000,"peers":["0.0.0.0/0","::/0"],"services":["any"]}
`
	address := map[string]netip.Addr{"w": netip.MustParseAddr("10.0.0.5"), "w2": netip.MustParseAddr("10.0.0.7"),
		"d": netip.MustParseAddr("10.0.0.6")}
	bare := strings.NewReplacer(`"groups":["web"]`, `"groups":[]`, `"groups":["db"]`, `"groups":[]`)
	ranks := regexp.MustCompile(`"rank":\d+,`)
	refusals := regexp.MustCompile(`(?m)^.*"action":"refuse".*\n`)
	const renamed = "group site in n { cover where role = web\n admit tcp 7000 from self\n reach tcp 7000 at " +
		"self\n admit tcp 9000 from group STORE }\ngroup STORE in n { cover where role = db\n reach tcp 9000 at " +
		"group site }\n"
	for name, x := range map[string]struct{ dialect, definitions string }{
		"none was attached":           {"ranked", strings.NewReplacer("site", "web", "STORE", "db").Replace(renamed)},
		"one is renamed":              {"ranked", strings.ReplaceAll(renamed, "STORE", "db")},
		"both are":                    {"ranked", strings.ReplaceAll(renamed, "STORE", "store")},
		"both are, with room for one": {"union", strings.ReplaceAll(renamed, "STORE", "store")},
	} {
		text := strings.NewReplacer("DIALECT", x.dialect, "LIMIT", "60").Replace(pierSurvey) + fellow
		if x.dialect == "union" {
			text = strings.Replace(ranks.ReplaceAllString(refusals.ReplaceAllString(text, ""), ""), `"limits":{`,
				`"limits":{"groups-per-interface":1,`, 1)
		}
		attached := map[string]string{"w": "web", "w2": "web", "d": "db"}
		if name == "none was attached" {
			text, attached = bare.Replace(text), map[string]string{}
		}
		plan, err := change.NewPlan(aimedAt(t, x.dialect, text, x.definitions))
		if err != nil {
			t.Fatal(err)
		}
		if len(plan.Lanes) != 1 || len(plan.Lanes[0].Gaps) > 0 {
			t.Fatalf("%s: %s, gaps %v", name, steps(plan), plan.Lanes[0].Gaps)
		}
		rules := make(map[string][]estate.Rule) // by group's name
		survey, _, err := store.ReadSurvey(strings.NewReader(text), "s")
		if err != nil {
			t.Fatal(err)
		}
		for _, g := range survey.Groups {
			rules[g.Name] = g.Rules
		}
		hits := func(group string, direction estate.Direction, peer string, port uint16) bool {
			best := -1
			for i, r := range rules[group] {
				if r.Direction != direction || best >= 0 && rules[group][best].Rank < r.Rank ||
					!service.Of(r.Services...).Contains(service.PointOf(service.TCP, port)) {
					continue
				}
				if slices.ContainsFunc(r.Peers, func(p estate.Peer) bool {
					return p.Kind == estate.PeerRange && p.Range.Contains(address[peer]) ||
						p.Kind == estate.PeerEveryone || p.Kind == estate.PeerSelf && attached[peer] == group ||
						p.Kind == estate.PeerGroup && p.Group.Name == attached[peer]
				}) {
					best = i
				}
			}
			return group == "" || best >= 0 && rules[group][best].Action == estate.Admit
		}
		free := attached["w"] == ""
		passes := func(from, to string, port uint16) bool {
			return hits(attached[from], estate.Out, to, port) && hits(attached[to], estate.In, from, port)
		}
		check := func(after string) {
			for _, x := range []struct {
				from, to string
				port     uint16
				want     bool
			}{{"w", "w2", 7000, true}, {"w2", "w", 7000, true}, {"d", "w", 9000, true}, {"d", "w2", 9000, true}, {"w",
				"d", 7000, false}, {"w", "w2", 23, false}, {"w", "w2", 9000, false}} {
				if passes(x.from, x.to, x.port) != x.want && (x.want || !free) {
					t.Errorf("%s: after %s: %s -> %s tcp %d: %v, want %v", name, after, x.from, x.to, x.port, !x.want,
						x.want)
				}
			}
		}
		check("nothing")
		for _, s := range plan.Lanes[0].Steps {
			switch s.Do {
			case change.AddRules:
				rules[s.Group.Name] = append(slices.Clip(rules[s.Group.Name]), s.Rules...)
			case change.RemoveRule:
				rules[s.Group.Name] = slices.DeleteFunc(slices.Clone(rules[s.Group.Name]),
					func(r estate.Rule) bool { return r.ID == s.Rules[0].ID })
			case change.Attach:
				attached[s.Interface.Instance.ID] = s.Groups[0].Name
			case change.DeleteGroup:
				delete(rules, s.Group.Name)
			}
			check(string(s.Do))
		}
		for group, list := range rules {
			for _, r := range list {
				if strings.Contains(r.Description, "until all have changed") {
					t.Errorf("%s: a bridge stays in %s", name, group)
				}
			}
		}
		free = false
		check("all")
		if !strings.Contains(name, "attached") && (rules["web"] != nil || attached["w"] != "site") {
			t.Errorf("%s: %s", name, steps(plan))
		}
	}
}

// Where a rule that is added early would open something together with a list that is still attached at the other end,
// lists are attached while they are empty.
func TestRulesAreAddedLateWhereTheyMust(t *testing.T) {
	const survey = `{"kind":"survey","version":1}
{"kind":"cloud","name":"c","dialect":"layered"}
{"kind":"account","name":"a","cloud":"c"}
{"kind":"network","account":"a","id":"n","name":"n","ranges":["10.0.0.0/16"]}
{"kind":"subnet","account":"a","network":"n","id":"s","name":"s","labels":{"side":"s"},"ranges":["10.0.1.0/24"],"groups":["def"]}
{"kind":"subnet","account":"a","network":"n","id":"t","name":"t","labels":{"side":"t"},"ranges":["10.0.2.0/24"],"groups":["def"]}
{"kind":"group","account":"a","network":"n","id":"def","name":"default","for":"subnets","built_in":true,"default":true}
{"kind":"rule","account":"a","group":"def","id":"r","direction":"out","action":"admit","peers":["0.0.0.0/0"],"services":["any"]}
{"kind":"instance","account":"a","id":"i","interfaces":[{"id":"fi","subnet":"s","private":["10.0.1.5"],"groups":[]}]}
{"kind":"instance","account":"a","id":"k","interfaces":[{"id":"fk","subnet":"t","private":["10.0.2.5"],"groups":[]}]}
`
	aim := aimedAt(t, "layered", survey, `group one for subnets in n { cover where side = s
 admit tcp 80 from 10.0.0.0/16 }
group two for subnets in n { cover where side = t
 admit tcp 90 from 10.0.0.0/16 }
`)
	plan, err := change.NewPlan(aim)
	if err != nil || plan.Steps() == 0 || len(plan.Lanes[0].Gaps) > 0 {
		t.Fatalf("%v, %s", err, steps(plan))
	}
	got := steps(plan)
	if strings.Index(got, "add-rules") < strings.LastIndex(got, "attach") {
		t.Errorf("rules are added while the default list is attached: %s", got)
	}
}

// A surveyed rule that says several things at once is, where its cloud writes one each, the same as those it takes: as
// often as one comes back, there is nothing left to do. A peer "network" in a group of no network has no name.
func TestRulesOfSeveralParts(t *testing.T) {
	for dialect, rules := range map[string]string{
		"union": `{"kind":"rule","account":"a","group":"web","id":"r1","direction":"in","action":"admit","peers":["10.0.0.0/24","10.1.0.0/24"],"services":["tcp 22","tcp 104"]}
`,
		"flat": `{"kind":"rule","account":"a","group":"web","id":"r1","direction":"in","action":"admit","peers":["network"],"services":["tcp 22","tcp 104"]}
`,
	} {
		base := strings.NewReplacer("DIALECT", dialect, "LIMIT", "60").Replace(pierSurvey)
		if dialect == "flat" {
			base = strings.ReplaceAll(base, `"network":"n","id":"web"`, `"id":"web"`)
			base = strings.ReplaceAll(base, `"network":"n","id":"db"`, `"id":"db"`)
			base = strings.ReplaceAll(base, `"network":"n","id":"theirs"`, `"id":"theirs"`)
		}
		read := func(text string) *estate.Estate {
			e, _, err := store.ReadSurvey(strings.NewReader(text), "s")
			if err != nil {
				t.Fatal(err)
			}
			return e
		}
		before := read(base + rules)
		undo, err := change.NewPlan(change.NewRepeal("pier", read(base), before, func(_, _, id string) bool { return id == "web" }))
		if err != nil || undo.Steps() == 0 {
			t.Fatalf("%s: %v, %s", dialect, err, steps(undo))
		}
		parts := base // as they come back: one rule for each part
		n := 0
		for _, l := range undo.Lanes {
			for _, s := range l.Steps {
				for i := range s.Rules {
					n++
					line := store.RuleLine(s.Group, &s.Rules[i])
					parts += strings.Replace(line, s.Rules[i].ID, fmt.Sprintf("back-%d", n), 1)
				}
			}
		}
		again, err := change.NewPlan(change.NewRepeal("pier", read(parts), before, func(_, _, id string) bool { return id == "web" }))
		if err != nil || again.Steps() != 0 {
			t.Errorf("%s: there is more to do: %v, %s", dialect, err, steps(again))
		}
		aim := aimedAt(t, dialect, base+rules, "group web in n { cover where role = web\n admit tcp 443 from network }\n")
		if _, err := change.NewPlan(aim); err != nil {
			t.Errorf("%s: %v", dialect, err)
		}
	}
}
