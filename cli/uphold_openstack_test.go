//go:build unix

package cli_test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"isonomos/notify"
)

// The real OpenStack Networking server has no feed: it is looked at by revision numbers. Whatever is changed by hand
// there is told: rules, the entries of a list, what is attached to a port, and the labels that decide that. What did not
// change is not read again, and what is written differently is no difference.
func TestUpholdOnOpenStack(t *testing.T) {
	t.Parallel()
	s, folder := pier(t)
	h := &harbourmaster{t: t, folder: folder,
		env: append(os.Environ(), "NO_COLOR=1", "OS_CLIENT_CONFIG_FILE="+filepath.Join(folder, "clouds.yaml"))}
	h.must(0, "steps", "draft")
	h.must(0, "enacted", "enact")
	d := newDesk(t, 0)
	h.settings(fmt.Sprintf("[uphold]\ninterval = \"1s\"\n[notify.desk]\nto = %q\nper-minute = 100\n", d.web.URL))
	u := h.uphold()
	u.ready()
	first := func(what, query, field string) string {
		list, _ := s.Ask("pier", http.MethodGet, what+"?"+query, "")[strings.ReplaceAll(what, "-", "_")].([]any)
		if len(list) == 0 {
			t.Fatalf("there is no %s %s", what, query)
		}
		return fmt.Sprint(list[0].(map[string]any)[field])
	}
	var want []string
	expect := func(what ...string) notify.Notice {
		t.Helper()
		want = append(want, what...)
		until(t, strings.Join(want, ", "), func() bool { return len(kinds(d.told())) >= len(want) }, u.log)
		if got := kinds(d.told()); !slices.Equal(got, want) {
			t.Fatalf("told %q, want %q\n%s", got, want, u.log)
		}
		all := d.told()
		return all[len(all)-1]
	}
	web := first("security-groups", "name=web", "id")
	rule := func(range_ string, port int) string {
		made, _ := s.Ask("pier", http.MethodPost, "security-group-rules", fmt.Sprintf(`{"security_group_rule":{`+
			`"security_group_id":%q,"direction":"ingress","ethertype":"IPv4","protocol":"tcp","port_range_min":%d,`+
			`"port_range_max":%d,"remote_ip_prefix":%q}}`, web, port, port, range_))["security_group_rule"].(map[string]any)
		return fmt.Sprint(made["id"])
	}
	id := rule("0.0.0.0/0", 23)
	if n := expect("opened pier/web"); n.Severity != "critical" || !strings.Contains(n.Says, "telnet from everyone") {
		t.Errorf("%+v", n)
	}
	s.Ask("pier", http.MethodDelete, "security-group-rules/"+id, "")
	expect("resolved pier/web")
	list := first("address-groups", "", "id")
	s.Ask("pier", http.MethodPut, "address-groups/"+list+"/add_addresses",
		`{"addresses":["198.51.100.0/24"]}`)
	until(t, "a list is watched", func() bool { return len(d.told()) > 0 && len(kinds(d.told())) > len(want) }, u.log)
	for _, k := range kinds(d.told())[len(want):] {
		if !strings.HasPrefix(k, "opened pier/") {
			t.Errorf("a list has one range more: %s", k)
		}
	}
	s.Ask("pier", http.MethodPut, "address-groups/"+list+"/remove_addresses",
		`{"addresses":["198.51.100.0/24"]}`)
	until(t, "the list is as it was", func() bool {
		opened, resolved := 0, 0
		for _, k := range kinds(d.told()) {
			opened += strings.Count(k, "opened ")
			resolved += strings.Count(k, "resolved ")
		}
		return opened == resolved
	}, u.log)
	want = kinds(d.told())
	rule("198.51.100.9/32", 443) // https is open to everyone
	port := first("ports", "name=web-1", "id")
	s.Ask("pier", http.MethodPut, "ports/"+port, fmt.Sprintf(`{"port":{"security_groups":[%q]}}`,
		first("security-groups", "name=by-hand", "id")))
	until(t, "a group that was taken off is told", func() bool {
		return slices.ContainsFunc(kinds(d.told())[len(want):], func(k string) bool { return strings.HasPrefix(k, "closed pier/web-1") })
	}, u.log)
	for _, k := range kinds(d.told())[len(want):] {
		if strings.HasSuffix(k, "pier/web") {
			t.Errorf("a rule within others: %s", k)
		}
	}
	before := len(kinds(d.told()))
	s.Ask("pier", http.MethodPut, "ports/"+first("ports", "name=web-2", "id")+"/tags", `{"tags":["role=none"]}`)
	until(t, "labels that decide what is attached are watched", func() bool { return len(kinds(d.told())) > before }, u.log)
	u.stop()

	// and now it is put back: the group that was taken off, a port that is opened, a rule that is taken out, the entries of
	// a list, a mark; who is a member because of another label stays as it is
	u = h.uphold("--put-back", "all")
	u.ready()
	groups := func() string {
		list, _ := s.Ask("pier", http.MethodGet, "ports?id="+port, "")["ports"].([]any)
		return fmt.Sprint(list[0].(map[string]any)["security_groups"])
	}
	until(t, "the group is attached again", func() bool { return strings.Contains(groups(), web) }, u.log)
	rules := func() string {
		list, _ := s.Ask("pier", http.MethodGet, "security-group-rules?security_group_id="+web, "")["security_group_rules"].([]any)
		var all []string
		for _, x := range list {
			r := x.(map[string]any)
			all = append(all, fmt.Sprint(r["direction"], r["ethertype"], r["protocol"], r["port_range_min"], r["port_range_max"],
				r["remote_ip_prefix"], r["remote_group_id"], r["remote_address_group_id"]))
		}
		slices.Sort(all)
		return strings.Join(all, "\n")
	}
	until(t, "that is told", func() bool {
		return slices.ContainsFunc(kinds(d.told()), func(k string) bool { return strings.HasPrefix(k, "put-back pier/web-1") })
	}, u.log)
	rule("0.0.0.0/0", 23)
	until(t, "a port is shut", func() bool { return !strings.Contains(rules(), "tcp23 ") }, u.log)
	until(t, "that is told", func() bool { return slices.Contains(kinds(d.told()), "put-back pier/web") }, u.log)
	decided := rules() // without the rule from above, which let through nothing more
	list0, _ := s.Ask("pier", http.MethodGet, "security-group-rules?security_group_id="+web, "")["security_group_rules"].([]any)
	s.Ask("pier", http.MethodDelete, "security-group-rules/"+fmt.Sprint(list0[0].(map[string]any)["id"]), "")
	until(t, "a rule is there again", func() bool { return rules() == decided }, u.log)
	s.Ask("pier", http.MethodPut, "security-groups/"+web+"/tags", `{"tags":[]}`)
	until(t, "a mark is there again", func() bool {
		list, _ := s.Ask("pier", http.MethodGet, "security-groups?id="+web, "")["security_groups"].([]any)
		return strings.Contains(fmt.Sprint(list[0].(map[string]any)["tags"]), "isonomos=pier")
	}, u.log)
	s.Ask("pier", http.MethodPut, "address-groups/"+list+"/add_addresses", `{"addresses":["203.0.113.0/24"]}`)
	until(t, "a list is as it was", func() bool {
		all, _ := s.Ask("pier", http.MethodGet, "address-groups?id="+list, "")["address_groups"].([]any)
		return !strings.Contains(fmt.Sprint(all[0].(map[string]any)["addresses"]), "203.0.113.0")
	}, u.log)
	u.stop()
}
