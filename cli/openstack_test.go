//go:build unix

package cli_test

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"isonomos/internal/openstacktest"
)

const pierDefinitions = `estate pier
cloud stillwater { dialect flat
  profile pier }
account pier { cloud stillwater
  label stage = lab }
network mole in pier { range 10.70.1.0/24, fd70:1::/64 }
`

const pierFirst = `
list offices { 203.0.113.64/29 "harbour master"
  2001:db8:64::/48 }
group web in mole "Web" { cover where role = web
  admit https from everyone because "the public"
  admit ssh from list offices
  admit icmp, icmpv6 from everyone }
group db in mole "Database" { cover where role = db
  admit postgres from self because "its standby" }
connect web to db on postgres because "bookings are kept there"
`

const pierSecond = `
list offices { 203.0.113.64/29
  203.0.113.88/30 }
group web in mole "Web" { cover where role = web
  admit https from list offices
  admit protocol 47 from 198.51.100.9
  admit icmp 8/0 from everyone
  admit udp 5000-5010 from 2001:db8::/32 }
group store in mole "Store" { cover where role = db
  admit ssh from list offices v4 }
connect web to store on postgres
`

// pier are definitions on a real OpenStack server, beside three ports, and what else
// stands there that is not ours.
func pier(t *testing.T) (*openstacktest.Server, string) {
	t.Helper()
	lookAtSource()
	s := openstacktest.Start(t)
	made := func(what, name, body string) string {
		one, _ := s.Ask("pier", http.MethodPost, what, body)[name].(map[string]any)
		id, _ := one["id"].(string)
		return id
	}
	network := made("networks", "network", `{"network":{"name":"mole"}}`)
	for _, r := range []string{`4,"cidr":"10.70.1.0/24"`, `6,"cidr":"fd70:1::/64"`} {
		made("subnets", "subnet",
			fmt.Sprintf(`{"subnet":{"network_id":%q,"name":"front","ip_version":%s}}`, network, r))
	}
	theirs := made("security-groups", "security_group",
		`{"security_group":{"name":"by-hand","description":"somebody's"}}`)
	for _, name := range []string{"web-1", "web-2", "db-1"} {
		port := made("ports", "port",
			fmt.Sprintf(
				`{"port":{"network_id":%q,"name":%q,"device_id":"device-%s","device_owner":"compute:one","security_groups":[%q]}}`, network, name, name, theirs))
		s.Ask("pier", http.MethodPut, "ports/"+port+"/tags",
			fmt.Sprintf(`{"tags":["role=%s"]}`, strings.Split(name, "-")[0]))
	}
	folder := t.TempDir()
	for name, text := range map[string]string{"clouds.yaml": s.Profile(), "pier.nomos": pierDefinitions + pierFirst} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return s, folder
}

// The whole round on a real OpenStack Networking server: survey, draft, enact, survey,
// repeal; lists change in steps, groups come and go; what was changed by hand is not
// overwritten; what the server refuses is told; the password is shown nowhere.
func TestRoundOnOpenStack(t *testing.T) {
	t.Parallel()
	s, folder := pier(t)
	h := &harbourmaster{t: t, folder: folder,
		env: append(os.Environ(), "NO_COLOR=1", "ISONOMOS_REQUEST_SECONDS=8", "OS_CLIENT_CONFIG_FILE="+filepath.Join(folder, "clouds.yaml"))}
	var said strings.Builder
	say := func(code int, want string, args ...string) string {
		t.Helper()
		out := h.must(code, want, args...)
		said.WriteString(out)
		return out
	}
	define := func(groups string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(folder, "pier.nomos"), []byte(pierDefinitions+groups), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	say(0, "surveyed: 1 account, 2 groups, 6 rules, 3 instances", "survey", "--to", "before.jsonl")
	say(0, "make the list pier/offices", "draft")
	say(0, "enacted", "enact")
	say(0, "surveyed: 1 account, 4 groups", "survey", "--to", "first.jsonl")
	say(0, `"verdict": "passes"`, "trace", "--survey", "first.jsonl", "--format", "json", "web-1", "db-1", "postgres")
	say(1, "opens", "compare", "before.jsonl", "first.jsonl")

	define(pierSecond)
	out := say(0, "holds 3 ranges", "draft", "--format", "md", "--to", "second.json")
	s.Reorder() // rules, groups and addresses come in no promised order: nothing has changed
	if !strings.Contains(out, "the list pier/offices holds 2 ranges") ||
		!strings.Contains(out, "delete the group pier/db") {
		t.Errorf("the draft: %s", out)
	}
	say(0, "enacted", "enact", "second.json")
	say(0, "surveyed", "survey", "--to", "second.jsonl")
	text, err := os.ReadFile(filepath.Join(folder, "second.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`"services":["protocol 47"]`, `"services":["icmp 8/0"]`,
		`"services":["udp 5000-5010"]`, `"entries":["203.0.113.64/29","203.0.113.88/30"]`,
		`"labels":{"isonomos":"pier"}`, `"name":"by-hand"`} {
		if !strings.Contains(string(text), want) {
			t.Errorf("%s is not in\n%s", want, text)
		}
	}
	say(0, "repealed", "repeal")
	say(0, "equal", "compare", "first.jsonl", "live")
	say(0, "its chain holds", "repeal", "--list")

	// A group of somebody else that has the name of one of ours, or would be one that is made, is left alone.
	twins := make(map[string]string)
	for _, name := range []string{"web", "added"} {
		made, _ := s.Ask("pier", http.MethodPost, "security-groups",
			fmt.Sprintf(`{"security_group":{"name":%q,"description":"theirs"}}`, name))["security_group"].(map[string]any)
		twins[name] = fmt.Sprint(made["id"])
	}
	define(pierFirst)
	say(0, "nothing to do", "draft", "--to", "none.json")
	define(pierFirst + "group added in mole \"Ours\" { cover where role = db\n  admit https from list offices }\n")
	if out := say(0, "there is a group of that name that is not marked as ours", "draft", "--to", "twins.json"); strings.Contains(out,
		"delete the group pier/web") {
		t.Errorf("the draft: %s", out)
	}
	say(0, "pier/added", "draft", "--adopt", "pier/"+twins["added"], "--to", "none.json")
	define(pierSecond)
	for name, id := range twins {
		group, _ := s.Ask("pier", http.MethodGet, "security-groups/"+id, "")["security_group"].(map[string]any)
		if group["name"] != name || group["description"] != "theirs" {
			t.Errorf("the twin %s is %v", name, group)
		}
		s.Ask("pier", http.MethodDelete, "security-groups/"+id, "")
	}

	// Somebody else changes a group by hand: it is not overwritten.
	say(0, "steps", "draft")
	groups, _ := s.Ask("pier", http.MethodGet, "security-groups?name=web", "")["security_groups"].([]any)
	web, _ := groups[0].(map[string]any)["id"].(string)
	byHand :=
		fmt.Sprintf(
			`{"security_group_rule":{"security_group_id":%q,"direction":"ingress","ethertype":"IPv4","protocol":"tcp","port_range_min":23,"port_range_max":23}}`, web)
	s.Ask("pier", http.MethodPost, "security-group-rules", byHand)
	say(4, "the group web of pier has changed since the draft was made", "enact")
	say(4, "somebody else has changed since: the group web of pier", "repeal")
	define(pierFirst)
	say(0, "remove admit telnet from everyone v4", "draft")
	say(0, "enacted", "enact")
	say(0, "repealed", "repeal", "--allow-gaps")
	rules, _ := s.Ask("pier", http.MethodGet, "security-group-rules?port_range_min=23",
		"")["security_group_rules"].([]any)
	telnet, _ := rules[0].(map[string]any)["id"].(string)
	s.Ask("pier", http.MethodDelete, "security-group-rules/"+telnet, "")
	say(0, "repealed", "repeal")
	say(0, "equal", "compare", "before.jsonl", "live")

	// A group of ours beside a wide one that is adopted: the project's default group goes, nothing is cut on the
	// way, and all comes back. Where it is named, the default group stays.
	of := func(what, query, field string) []string {
		var all []string
		list, _ := s.Ask("pier", http.MethodGet, what+"?"+query, "")[strings.ReplaceAll(what, "-", "_")].([]any)
		for _, x := range list {
			all = append(all, fmt.Sprint(x.(map[string]any)[field]))
		}
		return all
	}
	wide, usual := of("security-groups", "name=by-hand", "id")[0], of("security-groups", "name=default", "id")[0]
	for _, family := range []string{"IPv4", "IPv6"} {
		s.Ask("pier", http.MethodPost, "security-group-rules", fmt.Sprintf(
			`{"security_group_rule":{"security_group_id":%q,"direction":"ingress","ethertype":%q}}`, wide, family))
	}
	for _, port := range of("ports", "name=web-1&name=web-2", "id") {
		s.Ask("pier", http.MethodPut, "ports/"+port,
			fmt.Sprintf(`{"port":{"security_groups":[%q,%q]}}`, wide, usual))
	}
	isAttached := func(group string) bool {
		return strings.Contains(strings.Join(of("ports", "name=web-1", "security_groups"), ""), group)
	}
	const beside = `
list offices { 203.0.113.64/29 }
group by-hand in mole "By hand" { cover where role in (web, db)
  admit ssh from list offices
  reach any at everyone }
group web in mole "Web" { cover where role = web
  admit https from everyone because "the public" }
`
	say(0, "surveyed", "survey", "--to", "wide.jsonl")
	define(beside)
	say(1, "carrying out the definitions ends it", "audit", "--live", "--check", "default-group")
	out = say(0, "pier/web-1 has by-hand, web", "draft", "--adopt", "all")
	if strings.Contains(out, "gap") {
		t.Errorf("nothing has to be cut on the way:\n%s", out)
	}
	say(0, "enacted", "enact")
	if isAttached(usual) || !isAttached(wide) {
		t.Errorf("web-1 has %v", of("ports", "name=web-1", "security_groups"))
	}
	say(0, "equal", "compare", "live", ".")
	say(0, "repealed", "repeal")
	say(0, "equal", "compare", "wide.jsonl", "live")
	if !isAttached(usual) {
		t.Errorf("repeal does not bring the default group back: %v", of("ports", "name=web-1", "security_groups"))
	}
	define("\ngroup usual in mole existing \"default\"\n" + beside)
	out = say(0, "it stays attached to pier/web-1, pier/web-2", "draft", "--adopt", "all")
	if strings.Contains(out, "pier/web-1 has by-hand, web") {
		t.Errorf("the default group is named:\n%s", out)
	}

	// Killed at random moments, the way that is printed leads to just the old state or just the new one.
	define(beside)
	say(0, "pier/web-1 has by-hand, web", "draft", "--adopt", "all")
	began := time.Now()
	say(0, "enacted", "enact")
	lasts := time.Since(began)
	say(0, "surveyed", "survey", "--to", "arrived.jsonl")
	say(0, "repealed", "repeal")
	random := rand.New(rand.NewPCG(*killSeed, 70))
	isAt := func(file string) bool {
		code, _ := h.run("compare", file, "live")
		return code == 0
	}
	for k := range min(*kills/24, 60) {
		say(0, "steps", "draft", "--adopt", "all")
		command, back := []string{"enact"}, random.IntN(2)
		for tries := 0; ; tries++ {
			if tries < 2 {
				h.killedAfter(time.Duration(random.Int64N(int64(lasts))), command...)
			} else if code, out := h.run(command...); code != 0 && (tries > 20 || !printed.MatchString(out)) {
				t.Fatalf("kill %d: %v: exit %d, and it says no way\n%s", k+1, command, code, out)
			}
			if command = h.wayOut(back); command == nil {
				break
			}
		}
		switch {
		case isAt("wide.jsonl"):
		case isAt("arrived.jsonl"):
			say(0, "repealed", "repeal")
		default:
			_, out := h.run("compare", "wide.jsonl", "live")
			t.Fatalf("kill %d ended neither old nor new:\n%s", k+1, out)
		}
	}

	// A pass opens, is extended and ends; at one port it has a group of its own; whoever calls is not told his address.
	define(strings.Replace(beside, "because \"the public\" }", "because \"the public\"\n  lend ssh to group by-hand for at "+
		"most 2h }", 1))
	say(0, "steps", "draft", "--adopt", "all")
	say(0, "enacted", "enact")
	say(0, "surveyed", "survey", "--to", "lent.jsonl")
	say(2, "give the address instead of me", "pass", "issue", "web", "--to", "me", "--because", "x")
	for _, on := range []string{"", "web-1"} {
		args := []string{"pass", "issue", "web", "ssh", "--to", "group by-hand", "--because", "x"}
		if on != "" {
			args = append(args, "--on", on)
		}
		out = say(0, "opened", append(args, "--for", "1h")...)
		id := passID.FindStringSubmatch(out)[1]
		if !strings.Contains(strings.Join(of("security-group-rules", "", "description"), ""), "isonomos pass "+id+" until ") {
			t.Errorf("the rule does not say that it is a pass: %v", of("security-group-rules", "", "description"))
		}
		say(0, "nothing to do", "draft", "--to", "none.json")
		say(0, id, "pass", "list")
		say(0, "the old one went first", "pass", "extend", id, "--for", "90m")
		say(0, "shut", "pass", "end", id)
		say(0, "equal", "compare", "lent.jsonl", "live")
	}
	say(0, "repealed", "repeal")

	// What goes over the server's quota is told before anything is sent, or by the server.
	var many strings.Builder
	many.WriteString("\ngroup many in mole \"Many\" {\n")
	for i := range 130 {
		fmt.Fprintf(&many, "  admit tcp %d from 192.0.2.0/28\n", 2000+2*i)
	}
	many.WriteString("}\n")
	define(pierSecond + many.String())
	say(4, "rules, and may have 120", "draft", "--to", "many.json")
	if strings.Contains(said.String(), openstacktest.Password) {
		t.Error("the password is shown")
	}
	for name, text := range readTree(t, folder) {
		if name != "clouds.yaml" && strings.Contains(text, openstacktest.Password) {
			t.Errorf("the password is in %s", name)
		}
	}
}
