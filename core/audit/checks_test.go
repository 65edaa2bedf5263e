package audit_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/service"
	"isonomos/nomos"
	"isonomos/nomos/parse"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/store"
	"isonomos/work"
)

// A small estate on every dialect, in which nothing is wrong: each test adds to it.
const sound = `{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z","estate":"x"}
{"kind":"cloud","name":"cu","dialect":"union"}
{"kind":"cloud","name":"cr","dialect":"ranked"}
{"kind":"cloud","name":"cl","dialect":"layered"}
{"kind":"cloud","name":"cf","dialect":"flat"}
{"kind":"account","name":"u","cloud":"cu","labels":{"stage":"production"}}
{"kind":"account","name":"t","cloud":"cu","labels":{"stage":"test"}}
{"kind":"account","name":"r","cloud":"cr"}
{"kind":"account","name":"l","cloud":"cl"}
{"kind":"account","name":"f","cloud":"cf"}
{"kind":"network","account":"u","id":"un","ranges":["10.0.0.0/16"],"peers":[{"account":"t","network":"tn"}]}
{"kind":"network","account":"t","id":"tn","ranges":["10.1.0.0/16"],"peers":[{"account":"u","network":"un"}]}
{"kind":"network","account":"r","id":"rn","ranges":["10.2.0.0/16"]}
{"kind":"network","account":"l","id":"ln","ranges":["10.3.0.0/16"]}
{"kind":"network","account":"f","id":"fn","ranges":["10.4.0.0/16"]}
{"kind":"subnet","account":"u","network":"un","id":"us","ranges":["10.0.1.0/24"],"routes":[{"to":"0.0.0.0/0","via":"internet"},{"to":"10.1.0.0/16","via":"peer","network":"tn","account":"t"}]}
{"kind":"subnet","account":"t","network":"tn","id":"ts","ranges":["10.1.1.0/24"],"routes":[{"to":"10.0.0.0/16","via":"peer","network":"un","account":"u"}]}
{"kind":"subnet","account":"r","network":"rn","id":"rs","ranges":["10.2.1.0/24"],"routes":[{"to":"0.0.0.0/0","via":"internet"}]}
{"kind":"subnet","account":"l","network":"ln","id":"ls","ranges":["10.3.1.0/24"],"routes":[{"to":"0.0.0.0/0","via":"internet"}],"groups":["lw"]}
{"kind":"subnet","account":"f","network":"fn","id":"fs","ranges":["10.4.1.0/24"],"routes":[{"to":"0.0.0.0/0","via":"nat"}]}
{"kind":"group","account":"u","network":"un","id":"ug","description":"x"}
{"kind":"group","account":"u","network":"un","id":"uh","description":"x"}
{"kind":"group","account":"t","network":"tn","id":"tg","description":"x"}
{"kind":"group","account":"r","network":"rn","id":"rg","description":"x"}
{"kind":"group","account":"l","network":"ln","id":"lg","description":"x"}
{"kind":"group","account":"l","network":"ln","id":"lw","for":"subnets","description":"x"}
{"kind":"group","account":"f","id":"fg","description":"x"}
{"kind":"rule","account":"r","group":"rg","id":"r1","direction":"in","action":"refuse","rank":4000,"peers":["anything"],"services":["any"],"description":"x"}
{"kind":"rule","account":"r","group":"rg","id":"r2","direction":"out","action":"refuse","rank":4000,"peers":["anything"],"services":["any"],"description":"x"}
{"kind":"list","account":"u","id":"known","entries":["203.0.113.0/24"],"owner":"published"}
{"kind":"instance","account":"u","id":"u1","interfaces":[{"id":"if-u1","subnet":"us","private":["10.0.1.1"],"public":["198.51.100.1"],"groups":["ug"]}]}
{"kind":"instance","account":"u","id":"u2","interfaces":[{"id":"if-u2","subnet":"us","private":["10.0.1.2"],"groups":["uh"]}]}
{"kind":"instance","account":"t","id":"t1","interfaces":[{"id":"if-t1","subnet":"ts","private":["10.1.1.1"],"groups":["tg"]}]}
{"kind":"instance","account":"r","id":"r1","interfaces":[{"id":"if-r1","subnet":"rs","private":["10.2.1.1"],"public":["198.51.100.2"],"groups":["rg"]}]}
{"kind":"instance","account":"l","id":"l1","interfaces":[{"id":"if-l1","subnet":"ls","private":["10.3.1.1"],"public":["198.51.100.3"],"groups":["lg"]}]}
{"kind":"instance","account":"f","id":"f1","interfaces":[{"id":"if-f1","subnet":"fs","private":["10.4.1.1"],"groups":["fg"]}]}
`

// rule is the line of a rule: account/group direction action services peers, and more fields.
func rule(group, direction, service, peers, more string) string {
	account, id, _ := strings.Cut(group, "/")
	if more == "" {
		more = `"description":"x"`
	}
	return fmt.Sprintf(
		`{"kind":"rule","account":%q,"group":%q,"id":"%s-%s-%s-%s","direction":%q,"services":[%q],"peers":["%s"],%s}`+
			"\n",
		account, id, id, direction, service, peers, direction, service, strings.ReplaceAll(peers, ",", `","`), more)
}

func admit(group, service, peers string) string { return rule(group, "in", service, peers, "") }

func surveyed(t testing.TB, more string) *estate.Estate {
	t.Helper()
	e, warnings, err := store.ReadSurvey(strings.NewReader(sound+more), "s.jsonl")
	if err != nil || len(warnings) > 0 && !strings.Contains(more, `"unread"`) {
		t.Fatal(err, warnings, more)
	}
	return e
}

var now = time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)

// Each check fires where it should, at the severity that it should have, and not
// on a near miss. Every check stands here.
func TestEveryCheckFiresAndMisses(t *testing.T) {
	const everyone = "0.0.0.0/0,::/0"
	probe := func(group, probe string) string {
		return `{"kind":"instance","account":"u","id":"door","type":"balancer","interfaces":[{"id":"if-d","subnet":"us","private":["10.0.1.9"],"groups":["ug"]}],"listeners":[{"service":"tcp 443","targets":["u2"],"port":8443,"probe":"` + probe + `"}]}` + "\n" +
			rule("u/ug", "out", "tcp 8443", "group:uh", "") + admit("u/uh", "tcp 8443", group)
	}
	ranked := func(service, peers string, rank int, action string) string {
		return rule("r/rg", "in", service, peers, fmt.Sprintf(`"description":"x","rank":%d,"action":%q`, rank, action))
	}
	wall := func(out string) string {
		return strings.Replace(`{"kind":"group","account":"u","network":"un","id":"wall","for":"subnets","description":"x"}
{"kind":"subnet","account":"u","network":"un","id":"walled","ranges":["10.0.2.0/24"],"groups":["wall"]}
{"kind":"instance","account":"u","id":"u3","interfaces":[{"id":"if-u3","subnet":"walled","private":["10.0.2.1"],"groups":["uh"]}]}
`, "\n\n", "\n", 1) + rule("u/wall", "in", "tcp 443", "10.0.0.0/16", `"description":"x","rank":100`) + rule("u/wall", "out", out, "10.0.0.0/16", `"description":"x","rank":100`)
	}
	many := func(n int) string {
		var b strings.Builder
		for i := range n {
			b.WriteString(admit("u/ug", fmt.Sprintf("tcp %d", 20000+2*i), "10.0.1.0/24"))
		}
		return b.String()
	}
	group := func(id, more string) string {
		return `{"kind":"group","account":"u","network":"un","id":"` + id + `","description":"x"` + more + "}\n"
	}
	const both = `{"kind":"instance","account":"u","id":"u7","interfaces":[{"id":"if-u7","subnet":"us","private":["10.0.1.7"],"public":["198.51.100.7"],"groups":["ug","uh"]}]}` + "\n"
	type miss = []string
	cases := []struct {
		check, fires, severity string
		misses                 miss
	}{
		{"open-admin-port", admit("u/ug", "tcp 22", everyone), "critical",
			miss{admit("u/ug", "tcp 22", "list:known"), admit("u/ug", "tcp 443", everyone)}},
		{"open-admin-port", admit("u/uh", "tcp 22", everyone), "medium", nil}, // it arrives nowhere
		{"open-admin-port", admit("l/lw", "tcp 22", "0.0.0.0/0"), "high", nil},
		{"open-data-port", admit("l/lg", "tcp 5432", everyone), "high", miss{admit("l/lg", "tcp 5432", "10.3.0.0/16")}},
		{"open-cleartext", admit("l/lg", "tcp 143", everyone), "medium", miss{admit("l/lg", "tcp 993", everyone)}},
		{"open-cleartext", admit("l/lg", "tcp 80", everyone), "low", nil},
		{"open-inbound", admit("u/ug", "tcp 443", everyone), "high", miss{admit("u/ug", "tcp 443", "192.0.2.0/24")}},
		{"wide-inbound", admit("l/lg", "tcp 443", "96.0.0.0/6"), "low",
			miss{admit("l/lg", "tcp 443", "96.0.0.0/16"), admit("l/lg", "tcp 443", everyone)}},
		{"wide-inbound", admit("l/lg", "tcp 443", "10.0.0.0/8"), "low", nil},
		{"undeclared-addresses", admit("l/lg", "tcp 443", "192.0.2.7"), "low",
			miss{admit("l/lg", "tcp 443", "203.0.113.7"), admit("l/lg", "tcp 443", "198.51.100.1")}},
		{"all-services", admit("l/lg", "any", "10.3.0.0/16"), "high",
			miss{admit("l/lg", "icmp", "10.3.0.0/16"), admit("l/lg", "any", "group:lg")}},
		{"wide-ports", admit("l/lg", "tcp 22-80", "10.3.0.0/16"), "medium",
			miss{admit("l/lg", "tcp 8000-8015", "10.3.0.0/16"), rule("l/lg", "out", "tcp 22-80", "10.3.0.0/16", "")}},
		{"open-outbound", rule("u/ug", "out", "any", everyone, ""), "medium",
			miss{rule("u/ug", "out", "tcp 443", everyone, ""), rule("u/ug", "out", "any", "10.0.0.0/16", "")}},
		{"open-outbound", rule("t/tg", "out", "any", everyone, ""), "low", nil}, // no way leads out
		{"open-outbound", rule("f/fg", "out", "tcp 5432", "0.0.0.0/0", ""), "medium", nil},
		{"one-family", admit("l/lg", "tcp 443", "::/0"), "medium",
			miss{admit("l/lg", "tcp 443", "0.0.0.0/0"), admit("l/lg", "tcp 443", everyone)}},
		{"open-in-sum", admit("l/lg", "tcp 22", "0.0.0.0/1") + admit("l/lg", "tcp 22", "128.0.0.0/1"), "high",
			miss{admit("l/lg", "tcp 22", "0.0.0.0/1") + admit("l/lg", "tcp 443", "128.0.0.0/1")}},
		{"open-in-sum", admit("u/ug", "tcp 22", "192.0.0.0/5") + admit("u/uh", "tcp 22", "200.0.0.0/5") + both,
			"critical", miss{
				admit("u/ug", "tcp 22", "192.0.0.0/5") + admit("u/uh", "tcp 22", "200.0.0.0/5"), admit("u/ug",
					"tcp 22", "192.0.0.0/5") + admit("u/uh", "tcp 23", "200.0.0.0/5") + both,
				admit("u/ug", "tcp 22", "192.0.0.0/5") + admit("u/uh", "tcp 22", "0.0.0.0/0") + both}},
		{"quota", group("w1", "") + group("w2", "") + group("w3", "") +
			`{"kind":"instance","account":"u","id":"u7","interfaces":[{"id":"if-u7","subnet":"us","private":["10.0.1.7"],"groups":["ug","uh","w1","w2","w3"]}]}` + "\n", "low", miss{both}},
		{"default-group", `{"kind":"group","account":"u","network":"un","id":"d","description":"x","built_in":true,"default":true}` + "\n" + `{"kind":"instance","account":"u","id":"u4","interfaces":[{"id":"if-u4","subnet":"us","private":["10.0.1.4"]}]}` + "\n", "medium",
			miss{`{"kind":"group","account":"u","network":"un","id":"d","description":"x","built_in":true,"default":true}` + "\n"}},
		{"default-group", `{"kind":"group","account":"u","network":"un","id":"d","description":"x","built_in":true,"default":true}` + "\n" + admit("u/d", "any", "group:d"), "low", nil},
		{"default-group", `{"kind":"subnet","account":"l","network":"ln","id":"bare","ranges":["10.3.9.0/24"]}` +
			"\n" + `{"kind":"instance","account":"l","id":"l4","interfaces":[{"id":"if-l4","subnet":"bare","private":["10.3.9.4"],"groups":["lg"]}]}` + "\n", "medium", nil},
		{"unexplained", rule("u/ug", "in", "tcp 443", "10.0.0.0/16", `"description":""`), "info",
			miss{admit("u/ug", "tcp 443", "10.0.0.0/16")}},
		{"unused", group("z", "") + admit("u/z", "tcp 443", "10.0.1.0/24"), "info",
			miss{group("d", `,"default":true,"built_in":true`)}},
		{"unused", `{"kind":"list","account":"u","id":"mine","entries":["203.0.113.0/28"]}` + "\n", "info",
			miss{`{"kind":"list","account":"u","id":"mine","entries":["203.0.113.0/28"]}` + "\n" +
				admit("u/ug", "tcp 443", "list:mine")}},
		{"overruled", admit("u/ug", "tcp 443", "10.0.0.0/16") + admit("u/ug", "tcp 443", "10.0.1.0/24"), "low",
			miss{admit("u/ug", "tcp 443", "10.0.0.0/25") + admit("u/ug", "tcp 443", "10.0.0.0/24") + admit("u/ug",
				"tcp 80", "10.0.0.0/25"), admit("u/ug", "tcp 443", "10.0.0.0/24") + admit("u/ug", "tcp 80",
				"10.0.0.0/25")}[1:]},
		{"overruled", admit("u/ug", "tcp 1-10", "10.0.0.0/16") + admit("u/ug", "tcp 11-20",
			"10.0.0.0/16") + admit("u/ug", "tcp 8-12", "10.0.1.0/24"), "low",
			miss{admit("u/ug", "tcp 1-10", "10.0.0.0/16") + admit("u/ug", "tcp 8-12", "10.0.1.0/24")}},
		{"overruled", ranked("tcp 443", "10.2.0.0/16", 100, "refuse") + ranked("tcp 443", "10.2.1.0/24", 200,
			"admit"), "low", miss{ranked("tcp 443", "10.2.0.0/16", 200, "refuse") + ranked("tcp 443", "10.2.1.0/24",
			100, "admit")}},
		{"ineffective-refusal", ranked("tcp 443", "10.2.0.0/16", 100, "admit") + ranked("tcp 443", "10.2.1.0/24", 200,
			"refuse"), "high", miss{ranked("tcp 443", "10.2.1.0/24", 100, "admit") + ranked("tcp 443", "10.2.0.0/16",
			200, "refuse"), ranked("tcp 443", "10.2.0.0/16", 200, "admit") + ranked("tcp 443", "10.2.1.0/24", 100,
			"refuse")}},
		{"ineffective-refusal", ranked("any", "0.0.0.0/0", 100, "admit") + ranked("tcp 22", everyone, 200, "refuse"),
			"high", nil},
		{"crowded-ranks", ranked("tcp 443", "10.2.0.0/16", 100, "admit") + ranked("tcp 80", "10.2.1.0/24", 101,
			"admit"), "info", miss{ranked("tcp 443", "10.2.0.0/16", 100, "admit") + ranked("tcp 80", "10.2.1.0/24",
			102, "admit")}},
		{"dangling", admit("u/ug", "tcp 443", "group:gone"), "medium", miss{admit("u/ug", "tcp 443", "group:t/tg")}},
		{"dangling", rule("r/rg", "in", "tcp 443", "group:u/ug", `"description":"x","rank":100`), "medium", nil},
		{"one-way", wall("tcp 443"), "medium", miss{wall("tcp 1024-65535")}},
		{"one-way", admit("u/ug", "tcp 443", "group:uh"), "medium",
			miss{admit("u/ug", "tcp 443", "group:uh") + rule("u/uh", "out", "tcp 443", "group:ug", "")}},
		{"probe-shut", probe("10.9.0.0/16", "tcp 8443"), "high", miss{probe("group:ug", "tcp 8443")}},
		{"probe-shut", probe("group:ug", "tcp 9000"), "high", nil},
		{"unfiltered", `{"kind":"instance","account":"l","id":"l4","interfaces":[{"id":"if-l4","subnet":"ls","private":["10.3.1.4"],"groups":["lg"],"filtered":false}]}` + "\n", "medium", miss{`{"kind":"instance","account":"l","id":"l4","interfaces":[{"id":"if-l4","subnet":"ls","private":["10.3.1.4"],"groups":["lg"]}]}` + "\n"}},
		{"unfiltered", `{"kind":"instance","account":"r","id":"r4","interfaces":[{"id":"if-r4","subnet":"rs","private":["10.2.1.4"],"public":["198.51.100.9"]}]}` + "\n", "high", nil},
		{"static-address", admit("u/ug", "tcp 443", "10.0.1.2"), "low",
			miss{admit("u/ug", "tcp 443", "10.0.1.3"), admit("u/ug", "tcp 443", "10.2.1.1")}},
		{"repeated-addresses", admit("u/ug", "tcp 443", "192.0.2.7") + admit("u/uh", "tcp 80",
			"192.0.2.7") + admit("l/lg", "tcp 80", "192.0.2.7"), "info",
			miss{admit("u/ug", "tcp 443", "192.0.2.7") + admit("u/uh", "tcp 80", "192.0.2.7"),
				admit("u/ug", "tcp 443", "10.0.0.0/16") + admit("u/uh", "tcp 80", "10.0.0.0/16") + admit("t/tg",
					"tcp 80", "10.0.0.0/16")}},
		{"twins", admit("u/ug", "tcp 443", "10.0.0.0/15") + admit("u/uh", "tcp 443", "10.0.0.0/16,10.1.0.0/16"),
			"info", miss{admit("u/ug", "tcp 443", "10.0.0.0/15") + admit("u/uh", "tcp 443", "10.0.0.0/16"),
				admit("u/ug", "tcp 443", "10.0.0.0/15") + admit("t/tg", "tcp 443", "10.0.0.0/15")}},
		{"unread", `{"kind":"unread","account":"far","reason":"401 Unauthorized"}` + "\n", "medium", miss{""}},
		{"quota", many(65), "high", miss{many(51)}},
		{"quota", many(64), "medium", nil},
		{"quota", many(52), "low", nil},
		{"stage-crossing", admit("u/uh", "tcp 5432", "10.1.1.0/24") + rule("t/tg", "out", "tcp 5432", "10.0.0.0/16",
			""), "high", miss{admit("u/uh", "tcp 5432", "10.1.1.0/24"),
			admit("t/tg", "tcp 5432", "10.0.1.0/24") + rule("u/ug", "out", "tcp 5432", "10.1.0.0/16",
				"") + rule("u/uh", "out", "tcp 5432", "10.1.0.0/16", ""), admit("u/uh", "tcp 443",
				"10.1.1.0/24") + rule("t/tg", "out", "tcp 443", "10.0.0.0/16", "")}},
		{"stage-crossing", admit("u/uh", "tcp 22", "group:t/tg") + rule("t/tg", "out", "any", "10.0.0.0/16", ""),
			"high", nil},
		{"catch-all-self", admit("u/ug", "any", "group:ug"), "low", miss{admit("u/ug", "tcp 443", "group:ug")}},
		{"expired", rule("u/ug", "in", "tcp 443", "10.0.1.0/24", `"description":"visit until 2026-11-19"`), "high",
			miss{rule("u/ug", "in", "tcp 443", "10.0.1.0/24", `"description":"visit until 2026-11-20"`)}},
	}
	tested := map[string]bool{"idle": true, "by-hand": true, "bypassed": true} // TestIdle, TestByHand, TestBypassed
	for _, x := range cases {
		tested[x.check] = tested[x.check] || len(x.misses) > 0
		found := audit.Run(decide.New(surveyed(t, x.fires)),
			audit.Options{Checks: []string{x.check}, Now: now}).Findings
		if i := slices.IndexFunc(found, func(f audit.Finding) bool { return f.Check == x.check }); i < 0 &&
			len(found) == 0 {
			t.Errorf("%s does not fire on\n%s", x.check, x.fires)
		} else if f := found[max(i, 0)]; f.Severity.String() != x.severity || f.Message == "" ||
			f.Fix == (audit.Remedy{}) || f.Where() == "" || len(f.Fingerprint) != 16 || len(f.Reasons()) < 2 {
			t.Errorf("%s is %s, want %s: %+v on\n%s", x.check, f.Severity, x.severity, f.Message, x.fires)
		}
		for _, m := range x.misses {
			for _, f := range audit.Run(decide.New(surveyed(t, m)),
				audit.Options{Checks: []string{x.check}, Now: now}).Findings {
				t.Errorf("%s fires on a near miss: %s in %s\n%s", x.check, f.Message, f.Where(), m)
			}
		}
	}
	for _, c := range audit.Checks {
		if !tested[c.Name] {
			t.Errorf("%s has no near miss", c.Name)
		}
		if c.About == "" || c.Doc == "" || c.Example == "" || c.Fix == (audit.Remedy{}) || len(c.Controls) == 0 {
			t.Errorf("%s is not explained", c.Name)
		}
	}
	if found := audit.Run(decide.New(surveyed(t, "")), audit.Options{Now: now}).Findings; len(found) > 0 {
		t.Errorf("the sound estate has %s: %s in %s", found[0].Check, found[0].Message, found[0].Where())
	}
}

// A rule that a flow used is not idle; of several that let it through all are used.
func TestIdle(t *testing.T) {
	e := surveyed(t, admit("u/uh", "tcp 443", "10.0.1.0/24")+admit("u/uh", "tcp 80", "10.0.1.0/24")+admit("u/uh",
		"tcp 443", "10.0.1.1")+rule("u/ug", "out", "tcp 443", "10.0.1.2", ""))
	var flows flow.Summary
	flows.Add(&flow.Record{Start: now.Unix(), End: now.Unix(), Source: e.Instances[0].Interfaces[0].Private[0],
		Destination: e.Instances[1].Interfaces[0].Private[0], Protocol: service.TCP, Port: 443})
	found := audit.Run(decide.New(e), audit.Options{Checks: []string{"idle"}, Now: now, Flows: &flows}).Findings
	if len(found) != 1 || len(found[0].Rules) != 1 || found[0].Rules[0].Services[0].From != 80 {
		t.Errorf("got %v", names(found))
	}
	if found := audit.Run(decide.New(e), audit.Options{Checks: []string{"idle"}, Now: now}).Findings; len(found) > 0 {
		t.Errorf("without evidence nothing is idle: %v", names(found))
	}
}

// A rule in the cloud that its definition does not have was made by hand; one
// whose definition has ended is past its date.
func TestByHand(t *testing.T) {
	const definitions = `
cloud cu { dialect union }
account u { cloud cu
  label stage = production }
network un in u { range 10.0.0.0/16 }
group ug in un "x" { cover u1
  admit https from network because "x"
  admit http from network because "x" until 2026-11-01
}`
	d := nomos.Understand([]*source.File{source.NewFile("x.nomos", definitions)}, resolve.Options{Now: now})
	survey := surveyed(t, admit("u/ug", "tcp 443", "10.0.0.0/24")+admit("u/ug", "tcp 80", "10.0.0.0/16")+
		rule("u/ug", "in", "tcp 22", "10.0.0.0/16",
			`"description":"","changed":{"at":"2026-11-19T02:14:00Z","by":"night.shift"}`))
	w := work.NewWorld(d, survey)
	o := audit.Options{Checks: []string{"by-hand"}, Now: now, Defined: decide.New(w.Estate)}
	found := audit.Run(decide.New(w.As(work.Found).Estate), o).Findings
	if names(found) != "high expired+by-hand, medium by-hand+unexplained" {
		t.Fatalf("got %v", names(found))
	}
	if want := "changed by night.shift at 2026-11-19 02:14 UTC"; !strings.Contains(found[1].Message, want) ||
		found[1].Rules[0].ID == "" {
		t.Errorf("got %s, want %s", found[1].Message, want)
	}
}

const lawful = world + `
law shut "Administration stays shut" { never admit class admin from internet
  severity critical
  control "SOC 2 CC6.6" }
group g in n "x" {
  admit ssh from everyone because "x"
  admit rdp from everyone because "x"
}
`

// A breach of a law is one finding with the check that its rule trips; exemptions
// are shown, ended ones are told, idle ones are returned.
func TestLawsAndExemptions(t *testing.T) {
	for _, x := range []struct{ exempt, want, exempted, ended string }{
		{"", "critical law:shut+open-admin-port, critical law:shut+open-admin-port", "", ""},
		{`exempt a/n/g from shut on ssh because "visit" until 2027-01-31 by "m.teal"`,
			"critical law:shut+open-admin-port, high open-admin-port+law:shut", "", ""},
		{`exempt a/n/g from open-admin-port on ssh because "visit" until 2027-01-31 by "m.teal"`,
			"critical law:shut+open-admin-port, critical law:shut+open-admin-port", "", ""},
		{`exempt a/n/g from open-admin-port on ssh because "visit" until 2027-01-31 by "m.teal"
exempt a/n/g from shut on ssh because "visit" until 2027-01-31 by "m.teal"`, "critical law:shut+open-admin-port, critical law:shut+open-admin-port", "ssh", ""},
		{`exempt account a from shut on ssh because "visit" until 2026-11-01 by "m.teal"`,
			"critical law:shut+open-admin-port, critical law:shut+open-admin-port", "", "ssh"},
		{`exempt a/n/g from shut on https because "visit" until 2027-01-31 by "m.teal"`,
			"critical law:shut+open-admin-port, critical law:shut+open-admin-port", "", ""},
	} {
		d := nomos.Understand([]*source.File{source.NewFile("x.nomos", lawful+x.exempt)}, resolve.Options{Now: now})
		if n := source.Errors(d.Messages); n > 0 {
			t.Fatal(d.Messages[0])
		}
		r := audit.Run(decide.New(d.Estate), audit.Options{Laws: d.Laws, Exemptions: d.Exemptions, Now: now})
		r.Findings = slices.DeleteFunc(r.Findings,
			func(f audit.Finding) bool { return f.Group == nil || f.Group.Name != "g" })
		if names(r.Findings) != x.want {
			t.Errorf("%s: got %s", x.exempt, names(r.Findings))
		}
		exempted, ended := "", ""
		partly := 0
		for i, f := range r.Findings {
			if f.Exemption != nil {
				exempted += d.Estate.Services.Describe(f.Services)
				if i != len(r.Findings)-1 || f.Exemption.By != "m.teal" {
					t.Errorf("an exempted finding is not last, or not told of: %+v", f.Exemption)
				}
			}
			if f.Ended != nil {
				ended += d.Estate.Services.Describe(f.Services)
			}
			if len(f.Exempted()) > 0 {
				partly++
				continue
			}
			if !slices.Contains(f.Controls, "SOC 2 CC6.6") || !slices.Contains(f.Controls, "NIST SP 800-53 SC-7") {
				t.Errorf("controls: %v", f.Controls)
			}
		}
		if want := strings.Count(x.exempt, "until 2027") == 1 &&
			!strings.Contains(x.exempt, "https"); (partly == 1) != want {
			t.Errorf("%s: %d findings are partly exempted", x.exempt, partly)
		}
		if exempted != x.exempted || ended != x.ended || len(r.Idle) != strings.Count(x.exempt, "https") {
			t.Errorf("%s: exempted %q, ended %q, idle %d", x.exempt, exempted, ended, len(r.Idle))
		}
	}
}

// An exemption exempts what it names and nothing else: whatever else has the same cause
// stays, as bad as it is by itself. Networks and accounts can be exempted from what is
// about no group.
func TestExemptionsCoverOneByOne(t *testing.T) {
	open := "group g in n \"x\" {\n  admit ssh, mysql from everyone\n}\n"
	exempt := func(what, from string) string {
		return "exempt " + what + " from " + from + " because \"x\" until 2027-01-31 by \"m\"\n"
	}
	for _, x := range []struct{ exempt, worst, exempted string }{
		{"", "high", ""},
		{exempt("a/n/g", "unexplained"), "high", ""},
		{exempt("a/n/g", "open-admin-port"), "high", ""}, // open-data-port is there still
		{exempt("a/n/g", "open-admin-port") + exempt("a/n/g", "open-data-port"), "info", ""},
		{exempt("network n", "open-admin-port") + exempt("account a", "open-data-port"), "info", ""},
		{exempt("a/n/g", "open-admin-port") + exempt("a/n/g", "open-data-port") + exempt("a/n/g", "unexplained"), "",
			"open-admin-port"},
		{exempt("a/n/g", "open-admin-port on ssh") + exempt("a/n/g", "open-data-port on postgres") + exempt("a/n/g",
			"unexplained on ssh"), "high", ""},
	} {
		d := nomos.Understand([]*source.File{source.NewFile("x.nomos", world+open+x.exempt)}, resolve.Options{Now: now})
		if n := source.Errors(d.Messages); n > 0 {
			t.Fatal(d.Messages[0])
		}
		run := func(least audit.Severity) (worst, exempted string) {
			r := audit.Run(decide.New(d.Estate),
				audit.Options{Exemptions: d.Exemptions, Now: now, Least: least, Direction: estate.In})
			for _, f := range r.Findings {
				switch {
				case f.Group == nil || f.Group.Name != "g":
				case f.Exemption != nil:
					exempted = f.Check
				case worst == "":
					worst = f.Severity.String()
				}
			}
			return worst, exempted
		}
		if worst, exempted := run(audit.Info); worst != x.worst || exempted != x.exempted {
			t.Errorf("%s: worst is %q, want %q; exempted %q, want %q", x.exempt, worst, x.worst, exempted, x.exempted)
		}
		if worst, _ := run(audit.High); (worst == "high") != (x.worst == "high") {
			t.Errorf("%s: at --severity high the worst is %q", x.exempt, worst)
		}
	}
}

// The scope of an audit: where, which way, on what, how bad.
func TestScope(t *testing.T) {
	e := surveyed(t, admit("u/ug", "tcp 22", "0.0.0.0/0")+admit("l/lg", "tcp 3306", "0.0.0.0/0")+rule("t/tg", "out",
		"any", "0.0.0.0/0", ""))
	database := service.Of(service.Ports(service.TCP, 3306, 3306))
	for _, x := range []struct {
		o    audit.Options
		want string
	}{
		{audit.Options{}, "critical open-admin-port, high open-data-port, low open-outbound"},
		{audit.Options{Direction: estate.In}, "critical open-admin-port, high open-data-port"},
		{audit.Options{Direction: estate.Out}, "low open-outbound"},
		{audit.Options{Services: &database}, "high open-data-port, low open-outbound"},
		{audit.Options{Least: audit.High}, "critical open-admin-port, high open-data-port"},
		{audit.Options{Checks: []string{"open-data-port"}}, "high open-data-port"},
		{audit.Options{Over: &estate.Condition{Label: "stage", Values: []string{"production"}}},
			"critical open-admin-port"},
		{audit.Options{Over: &estate.Condition{Label: "account", Values: []string{"t", "l"}}},
			"high open-data-port, low open-outbound"},
		{audit.Options{Group: e.Groups[0]}, "critical open-admin-port"},
	} {
		x.o.Now = now
		if got := names(audit.Run(decide.New(e), x.o).Findings); got != x.want {
			t.Errorf("%+v: got %s, want %s", x.o, got, x.want)
		}
	}
}

// What is found in many rules is what is found when each is held against each.
func TestOverruledAmongMany(t *testing.T) {
	var b strings.Builder
	for i := range 200 {
		b.WriteString(rule("f/fg", "in", fmt.Sprintf("tcp %d-%d", 20000+i*7%100, 20000+i*7%100+i%9),
			[]string{"172.16.0.0/16", "172.16.0.0/17", "172.16.128.0/17", "172.17.0.0/18"}[i*i%4+i%3],
			`"description":"x"`))
	}
	e := surveyed(t, b.String())
	i := slices.IndexFunc(e.Groups, func(g *estate.Group) bool { return g.ID == "fg" })
	d := decide.New(e)
	found := audit.Run(d, audit.Options{Checks: []string{"overruled"}, Now: now}).Findings
	if len(found) != 1 || len(found[0].Rules) < 20 {
		t.Fatalf("got %d findings", len(found))
	}
	g := e.Groups[i]
	before := d.GroupTraffic(g, estate.In)
	g.Rules = slices.DeleteFunc(slices.Clone(g.Rules), func(r estate.Rule) bool {
		return slices.ContainsFunc(found[0].Rules, func(x *estate.Rule) bool { return x.ID == r.ID })
	})
	if !decide.New(e).GroupTraffic(g, estate.In).Equal(before) {
		t.Error("without the overruled rules another traffic is let in")
	}
	if left := audit.Run(decide.New(e),
		audit.Options{Checks: []string{"overruled"}, Now: now}).Findings; len(left) > 0 {
		t.Errorf("%d rules that others cover were not told", len(left[0].Rules))
	}
}

// A condition holds of a finding where it holds of the group, of an instance that is
// concerned, or of where they stand; what is about several groups stays when one of them
// is asked for.
func TestOverHoldsOfInstancesToo(t *testing.T) {
	e := surveyed(t, admit("u/ug", "tcp 22", "0.0.0.0/0")+admit("l/lg", "tcp 3306", "0.0.0.0/0"))
	names := func(over string) (places []string) {
		parsed, messages := parse.Condition(source.NewFile("over", over))
		if len(messages) > 0 {
			t.Fatal(messages[0])
		}
		for _, f := range audit.Run(decide.New(e),
			audit.Options{Over: resolve.Condition(parsed), Now: now, Least: audit.Medium}).Findings {
			places = append(places, f.Check+" "+f.Where())
		}
		return places
	}
	all := audit.Run(decide.New(e), audit.Options{Now: now, Least: audit.Medium}).Findings
	i := slices.IndexFunc(all,
		func(f audit.Finding) bool { return f.Check == "open-admin-port" && len(f.Instances) > 0 })
	if i < 0 {
		t.Fatal("nothing arrives anywhere: the test looks at nothing")
	}
	at := all[i].Instances[0].Instance
	at.Labels = estate.Labels{"shift": "night"}
	want := all[i].Check + " " + all[i].Where()
	for over, has := range map[string]bool{
		"shift = night": true, "shift = day": false, "account = " + all[i].Account.Name: true,
		"group = " + all[i].Group.Name:                      true,
		"group = " + all[i].Group.Name + " and shift = day": false, "not shift = night and account = nowhere": false,
	} {
		if got := slices.Contains(names(over), want); got != has {
			t.Errorf("--over %q: %v, want %v", over, got, has)
		}
	}
	same := surveyed(t, admit("u/ug", "tcp 700", "203.0.113.16/28")+admit("l/lg", "tcp 701",
		"203.0.113.16/28")+admit("t/tg", "tcp 702", "203.0.113.16/28"))
	for _, g := range []string{"ug", "lg", "tg", "none"} {
		found := audit.Run(decide.New(same),
			audit.Options{Over: &estate.Condition{Label: "group", Values: []string{g}}, Now: now,
				Checks: []string{"repeated-addresses"}}).Findings
		if len(found) != map[bool]int{true: 0, false: 1}[g == "none"] {
			t.Errorf("repeated addresses over group = %s: %d findings", g, len(found))
		}
	}
}
