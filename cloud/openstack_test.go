package cloud

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"isonomos/core/change"

	"github.com/gophercloud/gophercloud/v2"
	"github.com/gophercloud/gophercloud/v2/openstack/identity/v3/tokens"
)

func one[T any](v T) *T { return &v }

// What OpenStack says of a rule becomes a line of a survey, and the line becomes a rule
// that says the same.
func TestOpenStackRules(t *testing.T) {
	for _, x := range []struct {
		rule     osRule
		services string
		peer     string
		back     bool // what the line becomes is this rule to the letter
	}{
		{osRule{Direction: "ingress", Family: "IPv4"}, "any", "0.0.0.0/0", false},
		{osRule{Direction: "egress", Family: "IPv6", Range: one("::/0")}, "any", "::/0", true},
		{osRule{Direction: "ingress", Family: "IPv4", Protocol: one("tcp"), From: one(22), To: one(22),
			Range: one("192.0.2.0/28")}, "tcp 22", "192.0.2.0/28", true},
		{osRule{Direction: "ingress", Family: "IPv4", Protocol: one("6"), From: one(1), To: one(9),
			Range: one("10.1.2.3/8"), Normal: one("10.0.0.0/8")}, "tcp 1-9", "10.0.0.0/8", false},
		{osRule{Direction: "ingress", Family: "IPv4", Protocol: one("udp"), RemoteGroup: one("g")}, "udp",
			"group:g v4", true},
		{osRule{Direction: "ingress", Family: "IPv6", Protocol: one("udp"), From: one(0), To: one(65535),
			RemoteList: one("l")}, "udp", "list:l v6", false},
		{osRule{Direction: "ingress", Family: "IPv4", Protocol: one("icmp"), From: one(8), To: one(0),
			Range: one("192.0.2.1/32")}, "icmp 8/0", "192.0.2.1/32", true},
		{osRule{Direction: "ingress", Family: "IPv4", Protocol: one("icmp"), From: one(8), Range: one("0.0.0.0/0")},
			"icmp 8", "0.0.0.0/0", true},
		// the old way to say ICMPv6
		{osRule{Direction: "ingress", Family: "IPv6", Protocol: one("icmp"), Range: one("::/0")}, "icmpv6", "::/0",
			false},
		{osRule{Direction: "ingress", Family: "IPv6", Protocol: one("ipv6-icmp"), From: one(128), To: one(0),
			Range: one("::/0")}, "icmpv6 128/0", "::/0", true},
		{osRule{Direction: "ingress", Family: "IPv4", Protocol: one("gre"), Range: one("192.0.2.1/32")},
			"protocol 47", "192.0.2.1/32", false},
		{osRule{Direction: "ingress", Family: "IPv4", Protocol: one("47"), Range: one("192.0.2.1/32")}, "protocol 47",
			"192.0.2.1/32", true},
		{osRule{Direction: "ingress", Family: "IPv4", Protocol: one("sctp"), From: one(5), To: one(6),
			Range: one("192.0.2.1/32")}, "sctp 5-6", "192.0.2.1/32", true},
		{osRule{Direction: "ingress", Family: "IPv4", Protocol: one("136"), Range: one("192.0.2.1/32")}, "udplite",
			"192.0.2.1/32", false},
	} {
		x.rule.Group, x.rule.Description = "grp", one("why")
		line := ruleLine("a", x.rule)
		if !slices.Equal(line.Services, []string{x.services}) || !slices.Equal(line.Peers, []string{x.peer}) ||
			line.Description != "why" {
			t.Errorf("%+v: %+v, want %s %s", x.rule, line, x.services, x.peer)
		}
		text, err := json.Marshal(line)
		if err != nil {
			t.Fatal(err)
		}
		back, err := ruleOf(text, "grp")
		if err != nil || !sameRule(back, x.rule) {
			t.Errorf("%s becomes %+v, %v", text, back, err)
		}
		a, _ := json.Marshal(back)
		b, _ := json.Marshal(x.rule)
		if x.back && string(a) != string(b) {
			t.Errorf("%s becomes\n%s, want\n%s", text, a, b)
		}
	}
	for text, want := range map[string]string{
		`{"direction":"in","peers":["group:g"],"services":["tcp 22"]}`:             "is for one address family",
		`{"direction":"in","peers":["192.0.2.1","192.0.2.2"],"services":["any"]}`:  "one service with one peer",
		`{"direction":"in","peers":["192.0.2.1"],"services":["any"]}`:              "can't express",
		`{"direction":"in","action":"refuse","peers":["::/0"],"services":["any"]}`: "admits",
		`{"direction":"in","peers":["network"],"services":["any"]}`:                "can't express",
		`{"direction":"in","peers":["::/0"],"services":["tcp many"]}`:              "can't express",
		`{"direction":"in","peers":["::/0"],"services":["tcp 1-x"]}`:               "can't express",
	} {
		if _, err := ruleOf(json.RawMessage(text), "g"); !errors.Is(err, ErrRefused) ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", text, err, want)
		}
	}
}

// Labels are tags, and of address groups, which have none, the end of the description.
func TestOpenStackLabels(t *testing.T) {
	labels := map[string]string{"isonomos": "pier", "stage": "lab", "bare": ""}
	if tags := tagsOfLabels(labels); !slices.Equal(tags, []string{"bare", "isonomos=pier", "stage=lab"}) ||
		len(labelsOfTags(tags)) != 3 {
		t.Errorf("tags %v", tagsOfLabels(labels))
	}
	text, err := marked("Offices", map[string]string{"isonomos": "pier"})
	if err != nil || text != "Offices [isonomos=pier]" {
		t.Errorf("%q %v", text, err)
	}
	if l := listLine("a", osList{Description: text}); l.Description != "Offices" || l.Labels["isonomos"] != "pier" {
		t.Errorf("%+v", l)
	}
	long, err := marked(strings.Repeat("ö", 200), map[string]string{"isonomos": "pier"})
	if err != nil || len(long) > 255 || !strings.HasSuffix(long, " [isonomos=pier]") {
		t.Errorf("%d bytes: %q %v", len(long), long, err)
	}
	if none, err := marked("Offices", nil); err != nil || none != "Offices" {
		t.Errorf("%q %v", none, err)
	}
	if _, err := marked("Offices", labels); !errors.Is(err, ErrRefused) {
		t.Errorf("labels that there is no room for: %v", err)
	}
}

// Nobody is asked over a wire that others can read.
func TestOpenStackOverTLS(t *testing.T) {
	for address, fine := range map[string]bool{"https://cloud.example/v3": true, "http://127.0.0.1:5000/v3": true,
		"http://cloud.example/v3": false, "": false, "cloud.example": false} {
		if err := safely(address); (err == nil) != fine {
			t.Errorf("%q: %v", address, err)
		}
	}
}

// Whatever a server says of a rule, it becomes a line that can be read, or none.
func FuzzOpenStackRule(f *testing.F) {
	f.Add(
		`{"direction":"ingress","ethertype":"IPv4","protocol":"tcp","port_range_min":22,"port_range_max":22,"remote_ip_prefix":"192.0.2.0/28"}`)
	f.Add(`{"direction":"egress","ethertype":"IPv6","protocol":"icmp","port_range_min":-1}`)
	f.Fuzz(func(t *testing.T, text string) {
		var r osRule
		if json.Unmarshal([]byte(text), &r) != nil {
			return
		}
		line, err := json.Marshal(ruleLine("a", r))
		if err != nil {
			t.Fatal(err)
		}
		if back, err := ruleOf(line, r.Group); err == nil && !sameRule(back, r) {
			t.Errorf("%s becomes %s becomes %+v", text, line, back)
		}
	})
}

// What stands in a profile file is not repeated in an error.
func TestProfilesAreNotQuoted(t *testing.T) {
	folder := t.TempDir()
	t.Setenv("OS_CLIENT_CONFIG_FILE", filepath.Join(folder, "clouds.yaml"))
	for name, text := range map[string]string{
		"another form": "clouds:\n  pier:\n    auth: hush-harbour-4711\n",
		"no profile":   "clouds:\n  quay:\n    auth:\n      password: hush-harbour-4711\n",
		"no YAML":      "clouds: [hush-harbour-4711",
		"over no TLS": "clouds:\n  pier:\n    auth:\n      auth_url: http://cloud.example/v3\n      username: " +
			"u\n      password: hush-harbour-4711\n",
		"nothing": "",
	} {
		if err := os.WriteFile(filepath.Join(folder, "clouds.yaml"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		o := NewOpenStack("stillwater", "pier", []Project{{Account: "pier", ID: "pier-project"}})
		_, err := o.Survey(t.Context(), "pier")
		if err == nil || strings.Contains(err.Error(), "hush") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := NewOpenStack("stillwater", "pier", nil).Survey(t.Context(), "quay"); err == nil ||
		!strings.Contains(err.Error(), "no account is called") {
		t.Errorf("an account that is not defined: %v", err)
	}
}

// A redirect is not followed: a token would be carried elsewhere.
func TestOpenStackIsNotSentElsewhere(t *testing.T) {
	elsewhere := 0
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere++ }))
	defer other.Close()
	web := httptest.NewServer(http.RedirectHandler(other.URL, http.StatusFound))
	defer web.Close()
	client := transport(nil, 0)
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, web.URL, nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("X-Auth-Token", "hush")
	answer, err := client.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	answer.Body.Close()
	if answer.StatusCode != http.StatusFound || elsewhere > 0 {
		t.Errorf("%s, %d requests elsewhere", answer.Status, elsewhere)
	}
}

// signedIn is what the identity service would have said.
type signedIn struct{}

func (signedIn) ExtractTokenID() (string, error) { return "hush-token", nil }
func (signedIn) ExtractProject() (*tokens.Project, error) {
	return &tokens.Project{ID: "pier-project"}, nil
}

// openStackAt is a client for a server that answers as a test wants.
func openStackAt(t testing.TB, address string) *OpenStack {
	t.Helper()
	provider := &gophercloud.ProviderClient{HTTPClient: transport(nil, 0)}
	if err := provider.SetTokenAndAuthResult(signedIn{}); err != nil {
		t.Fatal(err)
	}
	o := NewOpenStack("stillwater", "pier", []Project{{Account: "pier"}})
	o.clients["pier"] = &gophercloud.ServiceClient{ProviderClient: provider, Endpoint: address + "/",
		ResourceBase: address + "/v2.0/"}
	return o
}

// A server that knows no groups was asked at the wrong place: that is no empty account.
// What it may not offer, and says that it does not, is empty.
func TestOpenStackAtTheWrongPlace(t *testing.T) {
	for missing, fails := range map[string]bool{"security-groups": true, "ports": true, "networks": true,
		"subnets": true, "address-groups": false, "floatingips": false, "routers": false, "nothing": false,
		"address-groups for once": true, "floatingips for once": true, "routers for once": true} {
		missing, lost := strings.CutSuffix(missing, " for once")
		web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			what := strings.TrimPrefix(r.URL.Path, "/v2.0/")
			extension, is := strings.CutPrefix(what, "extensions/")
			if what == missing || is && extension == extensions[missing] && !lost {
				w.WriteHeader(http.StatusNotFound)
				return
			}
			_, _ = w.Write([]byte(`{"` + strings.ReplaceAll(what, "-", "_") + `":[],"quota":{}}`))
		}))
		_, err := openStackAt(t, web.URL).Survey(t.Context(), "pier")
		web.Close()
		if (err != nil) != fails || fails && !strings.Contains(err.Error(), missing) {
			t.Errorf("without %s: %v", missing, err)
		}
	}
}

// A list is read to its end, however few items a server gives a page, and whether its links name the next page or it
// names none where a page is full.
func TestOpenStackPages(t *testing.T) {
	for _, all := range []int{0, 1, 4, 5, 6, 499, 500, 501, 1000, 1001} {
		for _, most := range []int{1, 5, 499, 500, 501} {
			for _, linked := range []bool{true, false} {
				if !linked && most < mostPage || most == 1 && all > 501 {
					continue // such a server can't be told from one that has no more
				}
				web := httptest.NewServer(pagesOf(all, most, linked))
				got, err := openStackAt(t, web.URL).groups(t.Context(), "pier", "pier-project")
				web.Close()
				if err != nil || len(got) != all {
					t.Errorf("%d groups, %d a page, with links %v: %d, %v", all, most, linked, len(got), err)
				}
			}
		}
	}
	for name, links := range map[string]string{
		"in circles":  `[{"rel":"next","href":"http://elsewhere.example/v2.0/security-groups?marker=000"}]`,
		"no marker":   `[{"rel":"next","href":"http://elsewhere.example/v2.0/security-groups"}]`,
		"no address":  `[{"rel":"next","href":"%"}]`,
		"not a list":  `{"rel":"next"}`,
		"cut off":     `[{"rel":"next","href":"x?marker=001"}`,
		"not a link":  `["next"]`,
		"not a value": `7`,
	} {
		web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			items := ""
			if r.URL.Query().Get("marker") != "000" && name == "in circles" {
				items = `{"id":"000"}`
			}
			_, _ = w.Write([]byte(`{"security_groups":[` + items + `],"security_groups_links":` + links + `}`))
		}))
		got, err := openStackAt(t, web.URL).groups(t.Context(), "pier", "pier-project")
		web.Close()
		if err == nil {
			t.Errorf("%s: %d groups and no error", name, len(got))
		}
	}
}

// pagesOf is a server with so many groups, which gives so many a page at most.
func pagesOf(all, most int, linked bool) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		limit, _ := strconv.Atoi(q.Get("limit"))
		from := 0
		if marker := q.Get("marker"); marker != "" {
			from, _ = strconv.Atoi(strings.TrimLeft(marker, "0"))
			from++
		}
		to := min(all, from+min(limit, most))
		items := []map[string]any{}
		for i := from; i < to; i++ {
			items = append(items, map[string]any{"id": fmt.Sprintf("%03d", i), "name": "g"})
		}
		answer := map[string]any{"security_groups": items}
		if linked && to-from == min(limit, most) {
			q.Set("marker", fmt.Sprintf("%03d", to-1))
			answer["security_groups_links"] = []map[string]string{
				{"rel": "previous", "href": "x"}, {"rel": "next", "href": "http://" + r.Host + r.URL.Path + "?" + q.Encode()}}
		}
		_ = json.NewEncoder(w).Encode(answer)
	}
}

// However a server orders what stands within a group or a port, it is the same to us.
func TestOpenStackOrderCountsNot(t *testing.T) {
	group := func(rules string) string {
		return `{"security_group":{"id":"g","name":"web","tags":["b=2","a=1"],"security_group_rules":[` + rules + `]}}`
	}
	const one, two = `{"id":"r1","direction":"ingress","ethertype":"IPv4","security_group_id":"g"}`,
		`{"id":"r2","direction":"egress","ethertype":"IPv6","security_group_id":"g"}`
	port := func(groups string) string {
		return `{"ports":[{"id":"p","device_id":"d","fixed_ips":[{"subnet_id":"s","ip_address":"10.0.0.1"}],"security_groups":[` + groups + `]}]}`
	}
	for _, x := range []struct{ path, kind, first, second string }{
		{"/v2.0/security-groups/g", "group", group(one + "," + two), group(two + "," + one)},
		{"/v2.0/ports", "instance", port(`"g","h"`), port(`"h","g"`)},
	} {
		var told [2][]json.RawMessage
		for k, body := range []string{x.first, x.second} {
			web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.URL.Path != x.path {
					t.Errorf("asked at %s", r.URL.Path)
				}
				_, _ = w.Write([]byte(body))
			}))
			o, err := openStackAt(t, web.URL).Read(t.Context(), "pier", Ref{x.kind, "g"})
			web.Close()
			if err != nil {
				t.Fatal(err)
			}
			told[k] = o.Lines
		}
		if a, b := string(slices.Concat(told[0]...)), string(slices.Concat(told[1]...)); a != b || a == "" {
			t.Errorf("%s\nand\n%s", a, b)
		}
	}
}

// Whatever a server answers to whatever is asked, there is an answer or an error.
func FuzzOpenStackAnswers(f *testing.F) {
	f.Add(200,
		`{"security_group":{"id":"g","name":"web","security_group_rules":[{"id":"r","direction":"ingress"}]},"security_groups":[{"id":"g"}],"ports":[{"id":"p","fixed_ips":[{"subnet_id":"s"}]}],"networks":[],"subnets":[],"floatingips":[],"routers":[],"address_groups":[],"quota":{"security_group":-1}}`)
	f.Add(201,
		`{"address_group":{"id":"l","name":"l","addresses":["10.0.0.0/8"],"description":"[isonomos=pier]"},"security_group_rules":[{"id":"r"}]}`)
	f.Add(409, `{"NeutronError":{"type":"OverQuota","message":"\u001b[2J","detail":""}}`)
	f.Add(200, `null`)
	var status int
	var body string
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		_, _ = w.Write([]byte(body))
	}))
	f.Cleanup(web.Close)
	o := openStackAt(f, web.URL)
	f.Fuzz(func(t *testing.T, code int, text string) {
		status, body = 200+(code%300+300)%300, text
		if status == http.StatusTooManyRequests || status == http.StatusUnauthorized {
			return // it would be asked again, or signed in again
		}
		ctx := t.Context()
		_, _ = o.Survey(ctx, "pier")
		for _, kind := range []string{"group", "instance", "list", "subnet"} {
			if r, err := o.Read(ctx, "pier", Ref{kind, "x"}); err == nil && (len(r.Lines) == 0 || r.Version == "") {
				t.Errorf("%d %s: the %s has no lines, or no version", status, text, kind)
			}
		}
		_, _ = o.Named(ctx, "pier", "list", "web")
		for _, do := range []string{"create-group", "create-list", "add-rules", "remove-rule", "label-group",
			"label-list", "set-entries", "delete-group", "delete-list", "attach"} {
			r, err := o.Change(ctx, Request{Do: change.Action(do), Account: "pier", ID: "x", Holder: "d",
				Entries: []string{"::/0"}, Groups: []string{"g"},
				Rules: []json.RawMessage{json.RawMessage(
					`{"id":"r","direction":"in","peers":["::/0"],"services":["any"]}`)},
				Object: json.RawMessage(`{"name":"web"}`)}, "")
			if err == nil && r.ID == "" {
				t.Errorf("%d %s: %s: what was made has no id", status, text, do)
			}
		}
	})
}
