package work

import (
	"net/netip"
	"strings"
	"testing"

	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/narrow"
	"isonomos/core/service"
	"isonomos/nomos"
	"isonomos/nomos/source"
	"isonomos/store"
)

const surveyedToo = `{"kind":"group","account":"a","network":"n","id":"grp-7","name":"old desk"}
{"kind":"group","account":"a","network":"n","id":"grp-8","name":"hosts"}
{"kind":"rule","account":"a","group":"grp-8","id":"r1","direction":"in","peers":["0.0.0.0/0","::/0"],"services":["tcp 22"],"description":"for \"now\""}
{"kind":"rule","account":"a","group":"grp-8","id":"r2","direction":"in","peers":["192.0.2.200"],"services":["tcp 80"]}
{"kind":"rule","account":"a","group":"grp-8","id":"r3","direction":"out","peers":["0.0.0.0/0"],"services":["any"]}
{"kind":"instance","account":"a","id":"h1","interfaces":[{"id":"f9","subnet":"s","private":["10.0.1.50"],"groups":["grp-8"]}]}
{"kind":"instance","account":"a","id":"h2","interfaces":[{"id":"f8","subnet":"s","private":["10.0.1.60"],"groups":["grp-7"]}]}
{"kind":"list","account":"a","id":"l1","name":"web-edge","owner":"published","entries":["203.0.113.0/25","203.0.113.128/25"]}
{"kind":"list","account":"a","id":"l2","name":"vans","owner":"own","entries":["198.51.100.200/32","198.51.100.201/32"],"capacity":5}
`

// worldOn is a world on the usual survey with more lines.
func worldOn(t *testing.T, text, more string) World {
	t.Helper()
	d := nomos.Understand([]*source.File{source.NewFile("places.nomos", places), source.NewFile("x.nomos", text)},
		options)
	for _, m := range d.Messages {
		if !m.Warning {
			t.Fatal(m)
		}
	}
	e, _, err := store.ReadSurvey(strings.NewReader(survey+more), "s")
	if err != nil {
		t.Fatal(err)
	}
	return NewWorld(d, e)
}

// A surveyed group or list that names the peers best is declared with the edit.
func TestWhatIsOnlySurveyedIsDeclared(t *testing.T) {
	const text = "group g in n {\n  cover where role = g\n  admit any from everyone\n}\n"
	w := worldOn(t, text, surveyedToo)
	subjects, err := w.Subjects("x.nomos:3")
	if err != nil {
		t.Fatal(err)
	}
	result, err := w.Propose(subjects,
		narrow.Options{Flows: observed("10.0.1.50 22", "203.0.113.4 443", "203.0.113.200 443", "198.51.100.200 80",
			"198.51.100.201 80", "10.0.1.60 8443")}, options)
	if err != nil {
		t.Fatal(err)
	}
	want := `group g in n {
  cover where role = g
  admit ssh from group hosts
  admit http from list vans
  admit https from list web-edge
  admit https-alt from group old-desk
}

group hosts in a/n existing "grp-8"

group old-desk in a/n existing "grp-7"

list vans {
  198.51.100.200
  198.51.100.201
  room 5
}

list web-edge {
  published "web-edge" on c
}
`
	got := strings.Join(strings.Fields(result.Files[0].Text), " ")
	for _, line := range strings.Split(want, "\n") {
		if !strings.Contains(got, strings.Join(strings.Fields(line), " ")) {
			t.Errorf("%q is missing in\n%s", line, result.Files[0].Text)
		}
	}
}

// Of many proposals one that would break an expectation is left out, with the
// reason; the others stand.
func TestOneThatBreaksAnExpectationIsLeftOut(t *testing.T) {
	const text = "group g in n {\n  cover where role = g\n  admit ssh from everyone\n}\ngroup h in n {\n  cover " +
		"where role = g\n  admit http from everyone\n}\nexpect 10.0.1.50 can reach 10.0.1.1 on ssh\n"
	w := worldOn(t, text, surveyedToo)
	var subjects []narrow.Subject
	for _, name := range []string{"x.nomos:3", "x.nomos:7"} {
		s, err := w.Subjects(name)
		if err != nil {
			t.Fatal(err)
		}
		subjects = append(subjects, s...)
	}
	// Nothing of the expectation is declared for a group by name: only the proof sees it.
	result, err := w.Propose(subjects, narrow.Options{Flows: observed("10.0.1.2 22", "10.0.1.2 80")}, options)
	if err != nil {
		t.Fatal(err)
	}
	held := 0
	for _, c := range result.Proposals {
		if c.Refused == "" && c.Changed {
			held++
		} else if !strings.Contains(c.Refused, "would break what is expected at x.nomos:9") {
			t.Errorf("%s: %q", c.Group.Path(), c.Refused)
		}
	}
	if strings.Contains(fileText(result), "admit ssh from group web") {
		t.Errorf("what breaks the expectation is written:\n%s", fileText(result))
	}
	if held == len(result.Proposals) {
		t.Error("nothing was left out")
	}
}

// Open outbound becomes the published lists, groups and addresses that were reached.
func TestOutboundBecomesLists(t *testing.T) {
	w := worldOn(t,
		"group g in n {\n  cover where role = g\n  reach any at everyone because \"office software\"\n}\n", surveyedToo)
	subjects, err := w.Subjects("x.nomos:3")
	if err != nil {
		t.Fatal(err)
	}
	var flows flow.Summary
	for day := range int64(3) {
		for _, to := range []string{"203.0.113.4:443", "203.0.113.200:443", "10.0.1.2:5432", "192.0.2.53:53",
			"192.0.2.53:123"} {
			end := netip.MustParseAddrPort(to)
			flows.Add(&flow.Record{Start: 86400 * day, Source: netip.MustParseAddr("10.0.1.1"),
				Destination: end.Addr(), Protocol: service.TCP, Port: end.Port(), ReplyKnown: true, ReplyPackets: 1,
				Opened: flow.BySource})
		}
	}
	result, err := w.Propose(subjects, narrow.Options{Flows: &flows}, options)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"reach https           at list web-edge because \"office software\"",
		"reach postgres        at group web     because \"office software\"",
		"reach tcp 53, tcp 123 at 192.0.2.53    because \"office software\"",
		"list web-edge {\n  published \"web-edge\" on c\n}"} {
		if !strings.Contains(fileText(result), want) {
			t.Errorf("%q is missing in\n%s", want, fileText(result))
		}
	}
}

// What does not fit the quota, however it is said, is not done.
func TestOverTheQuotaIsNotDone(t *testing.T) {
	const text = "account b { cloud c\n  limit rules-per-direction = 1 }\nnetwork k in b { range 10.0.0.0/16 " +
		"}\ngroup g in k {\n  cover where role = g\n  admit any from 192.0.2.0/24\n}\n"
	more := strings.ReplaceAll(`{"kind":"account","name":"b","cloud":"c","limits":{"rules-per-direction":1}}
{"kind":"network","account":"b","id":"k","ranges":["10.0.0.0/16"]}
{"kind":"subnet","account":"b","network":"k","id":"sk","ranges":["10.0.1.0/24"]}
{"kind":"instance","account":"b","id":"bg","labels":{"role":"g"},"interfaces":[{"id":"fb","subnet":"sk","private":["10.0.1.1"],"groups":[]}]}
`, "\r", "")
	w := worldOn(t, text, more)
	subjects, err := w.Subjects("x.nomos:6")
	if err != nil {
		t.Fatal(err)
	}
	// Two services with peers of their own can't be said in one rule.
	_, err = w.Propose(subjects, narrow.Options{Flows: observed("192.0.2.1 22", "192.0.2.200 443")}, options)
	if err == nil || !strings.Contains(err.Error(), "over its quota") {
		t.Errorf("got %v", err)
	}
	result, err := w.Propose(subjects, narrow.Options{Flows: observed("192.0.2.1 22", "192.0.2.200 22")}, options)
	if err != nil || !result.Proposals[0].Tight || result.Proposals[0].CostAfter != 1 {
		t.Errorf("one service, two peers: %+v, %v", result.Proposals, err)
	}
}

// That the other direction takes more than the quota allows is no reason to leave this one as it is.
func TestTheOtherDirectionIsNoReason(t *testing.T) {
	const text = "account b { cloud c\n  limit rules-per-direction = 2 }\nnetwork k in b { range 10.0.0.0/16 " +
		"}\ngroup g in k {\n  cover where role = g\n  admit tcp 1-65535 from 192.0.2.0/24\n  reach ssh at 192.0.2.1, " +
		"192.0.2.3, 192.0.2.5\n}\n"
	const more = `{"kind":"account","name":"b","cloud":"c","limits":{"rules-per-direction":2}}
{"kind":"network","account":"b","id":"k","ranges":["10.0.0.0/16"]}
{"kind":"subnet","account":"b","network":"k","id":"sk","ranges":["10.0.1.0/24"]}
{"kind":"instance","account":"b","id":"bg","labels":{"role":"g"},"interfaces":[{"id":"fb","subnet":"sk","private":["10.0.1.1"],"groups":[]}]}
`
	w := worldOn(t, text, more)
	subjects, err := w.Subjects("x.nomos:6")
	if err != nil {
		t.Fatal(err)
	}
	result, err := w.Propose(subjects, narrow.Options{Flows: observed("192.0.2.1 22", "192.0.2.200 443")}, options)
	if err != nil || result.Proposals[0].CostAfter != 2 || result.Proposals[0].Quota.Direction != 2 {
		t.Errorf("%+v, %v", result.Proposals, err)
	}
}

func fileText(r Result) string {
	if len(r.Files) == 0 {
		return ""
	}
	return r.Files[0].Text
}

// A surveyed group is narrowed as its definition, with what it keeps.
func TestSurveyedGroupsAreWrittenNarrowed(t *testing.T) {
	w := worldOn(t, "", surveyedToo)
	g, err := w.Group("a/n/hosts")
	if err != nil {
		t.Fatal(err)
	}
	flows := observed()
	for _, f := range observed("10.0.1.2 22", "10.0.1.60 22").Sums() {
		x := *f
		x.Destination = w.Estate.Instances[3].Interfaces[0].Private[0]
		flows.AddSum(x)
	}
	subjects := w.FindingsOf(g)
	if len(subjects) != 2 || subjects[0].Direction != estate.In {
		t.Fatalf("subjects %+v", subjects)
	}
	result, err := w.Propose(subjects[:1], narrow.Options{Flows: flows}, options)
	if err != nil || len(result.Proposals) != 1 || result.Proposals[0].Refused != "" {
		t.Fatalf("%+v, %v", result, err)
	}
	if result.Proposals[0].CostBefore != 3 || result.Proposals[0].CostAfter != 3 {
		t.Errorf("cost %d → %d", result.Proposals[0].CostBefore, result.Proposals[0].CostAfter)
	}
	a, err := w.AdoptProposals(&result, ".", options)
	if err != nil || len(a.Files) != 1 {
		t.Fatalf("%+v, %v", a, err)
	}
	if !strings.Contains(a.Files[0].Text, "cover instance h1") ||
		!strings.Contains(a.Files[0].Text, `because "for \"now\""`) ||
		strings.Contains(a.Files[0].Text, "from everyone") ||
		!strings.Contains(a.Files[0].Text, "group old-desk in a/n existing \"grp-7\"") {
		t.Errorf("got\n%s", a.Files[0].Text)
	}
}

// A group that was said to exist is one's own once it is adopted: it is said no more,
// and rules go on naming it.
func TestAdoptWhatWasSaidToExist(t *testing.T) {
	w := worldOn(t, "# kept\ngroup hosts in n existing \"grp-8\"\ngroup g in n {\n  cover where role = g\n  "+
		"admit ssh from group hosts\n}\n", surveyedToo)
	g, err := w.Group("a/n/hosts")
	if err != nil {
		t.Fatal(err)
	}
	a, err := w.Adopt([]*estate.Group{g}, nil, ".", options)
	if err != nil || len(a.Adopted) != 1 || len(a.Edits) != 1 ||
		a.Edits[0].Text != "# kept\ngroup g in n {\n  cover where role = g\n  admit ssh from group hosts\n}\n" {
		t.Errorf("%+v, %v", a, err)
	}
}

// Groups of a flat cloud belong to no network: they are adopted into the one where
// they are attached, and found to exist by their account.
func TestAdoptOnAFlatCloud(t *testing.T) {
	const flat = `{"kind":"survey","version":1}
{"kind":"cloud","name":"c","dialect":"flat"}
{"kind":"account","name":"a","cloud":"c"}
{"kind":"network","account":"a","id":"n","ranges":["10.0.0.0/16"]}
{"kind":"network","account":"a","id":"m","ranges":["10.1.0.0/16"]}
{"kind":"subnet","account":"a","network":"n","id":"s","ranges":["10.0.1.0/24"]}
{"kind":"subnet","account":"a","network":"m","id":"t","ranges":["10.1.1.0/24"]}
{"kind":"group","account":"a","id":"g1","name":"web"}
{"kind":"group","account":"a","id":"g2","name":"desk"}
{"kind":"rule","account":"a","group":"g1","id":"r1","direction":"in","peers":["group:g2"],"services":["tcp 443"]}
{"kind":"rule","account":"a","group":"g2","id":"r2","direction":"out","peers":["0.0.0.0/0"],"services":["any"]}
{"kind":"instance","account":"a","id":"i1","interfaces":[{"id":"f1","subnet":"s","private":["10.0.1.1"],"groups":["g1"]}]}
{"kind":"instance","account":"a","id":"i2","interfaces":[{"id":"f2","subnet":"t","private":["10.1.1.1"],"groups":["g2"]}]}
`
	e, _, err := store.ReadSurvey(strings.NewReader(flat), "s")
	if err != nil {
		t.Fatal(err)
	}
	w := World{Survey: e, Estate: e}
	a, err := w.Adopt(e.Groups[:1], nil, ".", options)
	if err != nil || len(a.Adopted) != 1 || !strings.Contains(a.Files[0].Text, `group desk in a/m existing "g2"`) ||
		!strings.Contains(a.Files[0].Text, "admit https from group a/m/desk") {
		t.Fatalf("%+v, %v", a, err)
	}
	// The rest follows, on the definitions that there are by then.
	d := nomos.Understand(a.Files, options)
	next := NewWorld(d, e)
	g, err := next.Group("a/desk")
	if err != nil {
		t.Fatal(err)
	}
	if a, err = next.Adopt([]*estate.Group{g}, nil, ".", options); err != nil || len(a.Adopted) != 1 ||
		len(a.Edits) != 1 || len(a.Left) > 0 {
		t.Errorf("%+v, %v", a, err)
	}
}

// Names that can't stand in definitions, the same name twice, lists of one name with
// other entries in other accounts: all come out, and let through the same.
func TestAdoptOddNames(t *testing.T) {
	const odd = `{"kind":"survey","version":1}
{"kind":"cloud","name":"c","dialect":"union"}
{"kind":"account","name":"a","cloud":"c","folder":"x y/z","labels":{"cost centre":"7 (old)"},"limits":{"rules-per-direction":90}}
{"kind":"account","name":"b","cloud":"c"}
{"kind":"account","name":"9 lives","cloud":"c"}
{"kind":"network","account":"a","id":"n","ranges":["10.0.0.0/16"],"peers":[{"account":"b","network":"n"}]}
{"kind":"network","account":"b","id":"n","ranges":["10.1.0.0/16"],"peers":[{"account":"a","network":"n"}]}
{"kind":"network","account":"9 lives","id":"n","ranges":["10.2.0.0/16"]}
{"kind":"subnet","account":"a","network":"n","id":"s","name":"the front","ranges":["10.0.1.0/24"],"groups":["w"]}
{"kind":"subnet","account":"b","network":"n","id":"s","ranges":["10.1.1.0/24"]}
{"kind":"group","account":"a","network":"n","id":"g1","name":"web (old)","description":"line one\nline \"two\""}
{"kind":"group","account":"a","network":"n","id":"g2","name":"web [old]"}
{"kind":"group","account":"a","network":"n","id":"g3","name":"any"}
{"kind":"group","account":"a","network":"n","id":"w","name":"wall","for":"subnets"}
{"kind":"group","account":"b","network":"n","id":"g1","name":"web"}
{"kind":"group","account":"9 lives","network":"n","id":"g1","name":"web"}
{"kind":"rule","account":"a","group":"g1","id":"r1","direction":"in","peers":["group:g2"],"services":["tcp 9999"],"description":"odd \u001b[31m"}
{"kind":"rule","account":"a","group":"g1","id":"r2","direction":"in","peers":["list:l"],"services":["tcp 9999"]}
{"kind":"rule","account":"a","group":"g2","id":"r3","direction":"in","peers":["group:g1"],"services":["tcp 9999"]}
{"kind":"rule","account":"a","group":"g3","id":"r4","direction":"out","peers":["group:b/g1"],"services":["icmp 8"]}
{"kind":"rule","account":"b","group":"g1","id":"r1","direction":"in","peers":["list:l"],"services":["protocol 47"]}
{"kind":"list","account":"a","id":"l","name":"known ones","owner":"own","entries":["192.0.2.0/28"]}
{"kind":"list","account":"b","id":"l","name":"known ones","owner":"own","entries":["198.51.100.0/28"]}
{"kind":"instance","account":"a","id":"i1","name":"in one","labels":{"kind of":"web"},"interfaces":[{"id":"f1","subnet":"s","private":["10.0.1.1"],"groups":["g1"]}]}
{"kind":"instance","account":"a","id":"i2","name":"in one","interfaces":[{"id":"f2","subnet":"s","private":["10.0.1.2"],"groups":["g2","g3"]}]}
{"kind":"instance","account":"b","id":"i1","name":"other","interfaces":[{"id":"f1","subnet":"s","private":["10.1.1.1"],"groups":["g1"]}]}
`
	e, _, err := store.ReadSurvey(strings.NewReader(odd), "s")
	if err != nil {
		t.Fatal(err)
	}
	w := World{Survey: e, Estate: e}
	var groups []*estate.Group
	groups = append(groups, e.Groups...)
	a, err := w.Adopt(groups, nil, ".", options)
	if err != nil {
		t.Fatal(err)
	}
	if len(a.Adopted) != 4 || len(a.Left) != 2 || !strings.Contains(a.Left[0].Why+a.Left[1].Why, "keeps no state") ||
		!strings.Contains(a.Left[0].Why+a.Left[1].Why, `the account's name "9 lives"`) {
		t.Errorf("adopted %d, left %+v", len(a.Adopted), a.Left)
	}
	text := ""
	for _, f := range a.Files {
		text += f.Text
	}
	for _, want := range []string{`named "web (old)"`, "group web-old in a/n \"line one line \\\"two\\\"\"",
		"group web-old-2 in a/n", "group any-1 in a/n", "reach icmp 8 at group b/n/web",
		`cover where "kind of" = web`, "cover instance i2",
		"list known-ones {", "where account = a {", "where account = b {", "service web-old-9999 = tcp 9999",
		`folder "x y/z"`, `label  "cost centre" = "7 (old)"`, "limit  rules-per-direction = 90",
		`because "odd \u{1b}[31m"`} {
		if !strings.Contains(text, want) {
			t.Errorf("%s is missing in\n%s", want, text)
		}
	}
}

// A rule that the cloud does not have yet can have been used by no flow: it is left. What
// the cloud has beyond the definition is noted.
func TestUnbuiltRulesAreLeft(t *testing.T) {
	const there = `{"kind":"group","account":"a","network":"n","id":"grp-g","name":"g","for":"instances"}
{"kind":"rule","account":"a","group":"grp-g","id":"r1","direction":"in","action":"admit","peers":["0.0.0.0/0"],"services":["tcp 80"]}
`
	for rule, want := range map[string]string{"admit ssh from everyone": "the cloud does not have \"admit ssh from everyone\" yet", "admit http from everyone v4": ""} {
		w := worldOn(t, "group g in n {\n  cover where role = g\n  "+rule+"\n}\n", there)
		subjects, err := w.Subjects("x.nomos:3")
		if err != nil {
			t.Fatal(err)
		}
		result, err := w.Propose(subjects, narrow.Options{Flows: observed("10.0.1.2 80", "10.0.1.2 22")}, options)
		if err != nil || len(result.Proposals) != 1 || !strings.HasPrefix(result.Proposals[0].Refused, want) ||
			(want == "") != (result.Proposals[0].Refused == "") {
			t.Errorf("%s: %+v, %v", rule, result, err)
		}
		if (want == "") != (len(result.Notes) == 0) {
			t.Errorf("%s: noted %v", rule, result.Notes)
		}
	}
}
