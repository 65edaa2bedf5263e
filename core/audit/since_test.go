package audit_test

import (
	"fmt"
	"strings"
	"testing"

	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/store"
)

// shown are findings as a later audit reads them back.
func shown(found []audit.Finding) []audit.Earlier {
	var all []audit.Earlier
	for _, f := range found {
		e := audit.Earlier{Fingerprint: f.Fingerprint, Check: f.Check, Where: f.Where(), Message: f.Message,
			Severity: f.Severity, Direction: f.Direction, State: f.State, Services: f.Services, Peers: f.Peers,
			Exempted: f.Exemption != nil}
		for _, r := range f.Also {
			e.Also = append(e.Also, r.Check)
		}
		for _, i := range f.Instances {
			e.Instances = append(e.Instances, i.Instance.Name)
		}
		all = append(all, e)
	}
	return all
}

// What got worse is told as worse whichever way it did, what got better as better, and
// what stayed stays the same whatever ids, order and spelling do.
func TestSinceTellsWhatGotWorse(t *testing.T) {
	const survey = `{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z","estate":"t"}
{"kind":"cloud","name":"c","dialect":"union"}
{"kind":"account","name":"a","cloud":"c"ACCOUNT}
{"kind":"network","account":"a","id":"n","ranges":["10.1.0.0/16"]}
{"kind":"subnet","account":"a","network":"n","id":"front","ranges":["10.1.1.0/24"],"routes":[{"to":"0.0.0.0/0","via":"internet"},{"to":"::/0","via":"internet"}],"groups":[]}
{"kind":"subnet","account":"a","network":"n","id":"back","ranges":["10.1.2.0/24"],"routes":[ROUTES],"groups":[]}
{"kind":"group","account":"a","network":"n","id":"g","name":"g","for":"instances","description":"what it is for"}
{"kind":"rule","account":"a","group":"g","id":"ID","direction":"in","action":"admit","peers":PEERS,"services":SERVICES,"description":"there is a reason for it"}
{"kind":"instance","account":"a","id":"m1","name":"m1","interfaces":[{"id":"i1","subnet":"front","private":["10.1.1.7"],"public":["198.51.100.7"],"groups":["g"]}]}
{"kind":"instance","account":"a","id":"m2","name":"m2","interfaces":[{"id":"i2","subnet":"back","private":["10.1.2.7"],"public":["198.51.100.8"],"groups":["g"]}]}
MORE`
	usual := map[string]string{"ACCOUNT": "", "ROUTES": "", "ID": "r1", "PEERS": `["203.0.112.0/20","128.0.0.0/2"]`,
		"SERVICES": `["tcp 22","tcp 3306"]`, "MORE": ""}
	audited := func(change map[string]string) []audit.Finding {
		var pairs []string
		for key, value := range usual {
			if other, ok := change[key]; ok {
				value = other
			}
			pairs = append(pairs, key, value)
		}
		e, _, err := store.ReadSurvey(strings.NewReader(strings.NewReplacer(pairs...).Replace(survey)), "s.jsonl")
		if err != nil {
			t.Fatal(err)
		}
		r := audit.Run(decide.New(e), audit.Options{Now: now, Least: audit.Low})
		r.In(audit.Found)
		return r.Findings
	}
	before := shown(audited(nil))
	if len(before) == 0 {
		t.Fatal("nothing is found: the test looks at nothing")
	}
	instance :=
		`{"kind":"instance","account":"a","id":"k","name":"k","interfaces":[{"id":"i9","subnet":"front","private":["10.1.1.9"],"public":["198.51.100.9"],"groups":["g"]}]}`
	for _, x := range []struct {
		name   string
		change map[string]string
		want   audit.Trend
		more   string
	}{
		{"nothing", nil, audit.Same, ""},
		{"the id of the rule", map[string]string{"ID": "r9"}, audit.Same, ""},
		{"the order of peers and services",
			map[string]string{"PEERS": `["128.0.0.0/2","203.0.112.0/20"]`, "SERVICES": `["tcp 3306","tcp 22"]`},
			audit.Same, ""},
		{"the spelling of peers",
			map[string]string{"PEERS": `["203.0.112.0/21","203.0.120.0/21","128.0.0.0/3","160.0.0.0/3"]`}, audit.Same,
			""},
		{"another service", map[string]string{"SERVICES": `["tcp 22","tcp 3306","tcp 3389"]`}, audit.Worse, "tcp 3389"},
		{"every service", map[string]string{"SERVICES": `["any"]`}, audit.Worse, "tcp 0-21, tcp 23-3305"},
		{"more peers", map[string]string{"PEERS": `["203.0.112.0/20","128.0.0.0/1"]`}, audit.Worse, "192.0.0.0/5"},
		{"another family", map[string]string{"PEERS": `["203.0.112.0/20","128.0.0.0/2","::/0"]`}, audit.Worse, "IPv6"},
		{"one more instance", map[string]string{"MORE": instance}, audit.Worse, "at k"},
		{"a route to the internet", map[string]string{"ROUTES": `{"to":"0.0.0.0/0","via":"internet"}`}, audit.Worse,
			"at m2"},
		{"a higher severity", map[string]string{"ACCOUNT": `,"labels":{"stage":"production"}`}, audit.Worse,
			"it is critical, and was high"},
		{"one service less", map[string]string{"SERVICES": `["tcp 22"]`}, audit.Better, ""},
		{"fewer peers", map[string]string{"PEERS": `["128.0.0.0/2"]`}, audit.Better, ""},
	} {
		found := audited(x.change)
		c := audit.Since(found, before)
		told := fmt.Sprint(c.Of)
		if c.Count[x.want] == 0 || x.want == audit.Same && c.Count[audit.Same] != len(found) ||
			x.want == audit.Better && c.Count[audit.Worse]+c.Count[audit.New] > 0 || !strings.Contains(told, x.more) {
			t.Errorf("%s: %v, want %s with %q", x.name, told, x.want, x.more)
		}
		if x.want != audit.Worse && len(c.Gone) > 0 && x.want == audit.Same {
			t.Errorf("%s: %d are gone", x.name, len(c.Gone))
		}
	}
	// What is open now is not what was: that is new, and the other is gone.
	c := audit.Since(audited(map[string]string{"SERVICES": `["tcp 3389"]`}), before)
	if c.Count[audit.New] == 0 || len(c.Gone) == 0 {
		t.Errorf("other traffic: %v, %d gone", c.Of, len(c.Gone))
	}
	// What was exempted and is not any more counts.
	exempted := shown(audited(nil))
	for i := range exempted {
		exempted[i].Exempted = true
	}
	if c := audit.Since(audited(nil), exempted); c.Count[audit.Worse] != len(exempted) {
		t.Errorf("an exemption that is gone: %v", c.Of)
	}
}
