package standin

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"isonomos/store"
)

const places = `{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z","estate":"x"}
{"kind":"cloud","name":"u","dialect":"union"}
{"kind":"cloud","name":"r","dialect":"ranked"}
{"kind":"cloud","name":"l","dialect":"layered"}
{"kind":"account","name":"ua","cloud":"u","limits":{"rules-per-direction":4}}
{"kind":"network","account":"ua","id":"n","ranges":["10.0.0.0/16"]}
{"kind":"subnet","account":"ua","network":"n","id":"s","ranges":["10.0.1.0/24"]}
{"kind":"list","account":"ua","id":"known","name":"known","owner":"own","entries":["192.0.2.0/28"],"capacity":2}
{"kind":"list","account":"ua","id":"theirs","name":"theirs","owner":"published","entries":["198.51.100.0/28"]}
{"kind":"instance","account":"ua","id":"i","name":"one","type":"machine","interfaces":[{"id":"f","subnet":"s","private":["10.0.1.1"],"groups":["web"],"filtered":true}]}
{"kind":"group","account":"ua","network":"n","id":"web","name":"web","for":"instances"}
{"kind":"rule","account":"ua","group":"web","id":"r1","direction":"in","action":"admit","peers":["list:known"],"services":["tcp 443"]}
{"kind":"group","account":"ua","network":"n","id":"def","name":"default","for":"instances","built_in":true,"default":true}
{"kind":"account","name":"ub","cloud":"u"}
{"kind":"network","account":"ub","id":"n","ranges":["10.1.0.0/16"]}
{"kind":"group","account":"ub","network":"n","id":"far","name":"far","for":"instances"}
{"kind":"rule","account":"ub","group":"far","id":"r1","direction":"in","action":"admit","peers":["group:ua/web"],"services":["tcp 443"]}
{"kind":"account","name":"ra","cloud":"r"}
{"kind":"network","account":"ra","id":"n","ranges":["10.2.0.0/16"]}
{"kind":"subnet","account":"ra","network":"n","id":"s","ranges":["10.2.1.0/24"]}
{"kind":"group","account":"ra","network":"n","id":"g","name":"g","for":"instances"}
{"kind":"rule","account":"ra","group":"g","id":"fixed","direction":"in","action":"refuse","rank":9900,"peers":["anything"],"services":["any"],"built_in":true}
{"kind":"account","name":"la","cloud":"l"}
{"kind":"network","account":"la","id":"n","ranges":["10.3.0.0/16"]}
{"kind":"group","account":"la","network":"n","id":"g","name":"g","for":"instances"}
`

// A desk asks a stand-in.
type desk struct {
	t      testing.TB
	server *Server
	web    *httptest.Server
	folder string
}

func newDesk(t testing.TB) *desk {
	t.Helper()
	d := &desk{t: t, folder: t.TempDir()}
	if err := os.WriteFile(filepath.Join(d.folder, StateFile), []byte(places), 0o600); err != nil {
		t.Fatal(err)
	}
	d.open()
	return d
}

func (d *desk) open() {
	d.t.Helper()
	var err error
	if d.server, err = Open(d.folder); err != nil {
		d.t.Fatal(err)
	}
	d.web = httptest.NewServer(d.server)
	d.t.Cleanup(d.web.Close)
}

// ask sends "METHOD PATH" with a body and maybe a version, and gives what comes back.
func (d *desk) ask(request, body, version string) (status int, text, etag string, err error) {
	method, path, _ := strings.Cut(request, " ")
	r, err := http.NewRequest(method, d.web.URL+path, strings.NewReader(body))
	if err != nil {
		return 0, "", "", err
	}
	r.Header.Set("Authorization", "Bearer "+d.server.token)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	if version != "" {
		r.Header.Set("If-Match", version)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, "", "", err
	}
	defer answer.Body.Close()
	var all strings.Builder
	lines := bufio.NewReader(answer.Body)
	for {
		line, err := lines.ReadString('\n')
		all.WriteString(line)
		if err != nil {
			break
		}
	}
	return answer.StatusCode, all.String(), answer.Header.Get("ETag"), nil
}

func (d *desk) must(request, body, version string, status int, want string) (text, etag string) {
	d.t.Helper()
	got, text, etag, err := d.ask(request, body, version)
	if err != nil || got != status || !strings.Contains(text, want) {
		d.t.Fatalf("%s %s: %d %s %v, want %d %s", request, body, got, text, err, status, want)
	}
	return text, etag
}

func idOf(text string) string {
	var o object
	_ = json.Unmarshal([]byte(text), &o)
	return o.ID
}

// What a cloud does not allow is refused with the reason, and nothing is changed.
func TestWhatIsNotAllowed(t *testing.T) {
	d := newDesk(t)
	before, _ := os.ReadFile(filepath.Join(d.folder, StateFile))
	const u, r, l = "/u/v1/accounts/ua", "/r/v1/accounts/ra", "/l/v1/accounts/la"
	rule := func(more string) string {
		return `{"direction":"in","peers":["192.0.2.1/32"],"services":["tcp 22"]` + more + `}`
	}
	for _, x := range []struct {
		request, body string
		status        int
		want          string
	}{
		{"POST " + u + "/groups", `{"name":"web","network":"n"}`, 409, "has that name already"},
		{"POST " + u + "/groups", `{"name":"","network":"n"}`, 422, "a name has 1 to 255 bytes"},
		{"POST " + u + "/groups", `{"name":"a\u001b[31m","network":"n"}`, 422, "none that controls a terminal"},
		{"POST " + u + "/groups", `{"name":"a","network":"nowhere"}`, 422, "which is not in this survey"},
		{"POST " + u + "/groups", `{"name":"a","colour":"red"}`, 400, "colour"},
		{"POST " + u + "/groups", `{"name":`, 400, "not what the interface says"},
		{"POST /u/v1/accounts/ra/groups", `{"name":"a"}`, 404, `no account is called`},
		{"POST " + u + "/groups/web/rules",
			`{"direction":"in","action":"refuse","peers":["192.0.2.1/32"],"services":["tcp 22"]}`, 422,
			"which groups for instances of the dialect union can't do"},
		{"POST " + u + "/groups/web/rules",
			`{"direction":"in","peers":["192.0.2.1/32","192.0.2.2/32"],"services":["tcp 22"]}`, 422, "one peer"},
		{"POST " + u + "/groups/web/rules",
			`{"direction":"in","peers":["192.0.2.1/32"],"services":["tcp 22","tcp 23"]}`, 422, "one service"},
		{"POST " + u + "/groups/web/rules", `{"direction":"in","peers":["group:gone"],"services":["tcp 22"]}`, 422,
			"group:gone is not there"},
		{"POST " + u + "/groups/web/rules", `{"direction":"in","peers":["group:ra/g"],"services":["tcp 22"]}`, 422,
			"group:ra/g is not there"},
		{"POST " + u + "/groups/web/rules", `{"direction":"sideways","peers":["192.0.2.1/32"],"services":["tcp 22"]}`,
			400, "/direction"},
		{"POST " + u + "/groups/web/rules", `{"direction":"in","peers":[],"services":["tcp 22"]}`, 422,
			"needs \\\"services\\\" and"},
		{"POST " + u + "/groups/web/rules", rule(`,"stateless":true`), 422, "can't be stateless"},
		{"POST " + u + "/groups/web/rules", rule(`,"description":"` + strings.Repeat("x", 256) + `"`), 422,
			"at most 255"},
		{"POST " + u + "/groups/web/rules", rule(`,"description":"a\u001b[31m"`), 422, "none that controls"},
		{"PATCH " + u + "/groups/web", `{"labels":{"a\u0007":"x"}}`, 422, "none that controls"},
		{"PATCH " + u + "/lists/known", `{"description":"` + strings.Repeat("x", 256) + `"}`, 422, "at most 255"},
		{"POST " + u + "/groups/gone/rules", rule(""), 404, "there is no group"},
		{"POST " + r + "/groups/g/rules", rule(""), 422, "the rank decides"},
		{"DELETE " + r + "/groups/g/rules/fixed", "", 409, "only outranked"},
		{"DELETE " + u + "/groups/def/rules/r1", "", 404, "has no rule"},
		{"DELETE " + u + "/groups/def", "", 409, "a built-in group"},
		{"DELETE " + u + "/groups/web", "", 409, "in use by instance i, rule r1"},
		{"PATCH " + u + "/groups/def", `{"name":"other"}`, 409, "keeps its name"},
		{"DELETE " + u + "/lists/known", "", 409, "in use by rule r1"},
		{"DELETE " + u + "/lists/theirs", "", 403, "the provider keeps"},
		{"PUT " + u + "/lists/theirs/entries", `{"entries":[]}`, 403, "the provider keeps"},
		{"PUT " + u + "/lists/known/entries", `{"entries":["192.0.2.0/28","192.0.2.16/28","192.0.2.32/28"]}`, 409,
			"room for 2"},
		{"PUT " + u + "/lists/known/entries", `{"entries":["here"]}`, 422, "here"},
		{"POST " + l + "/lists", `{"name":"x","entries":[]}`, 422, "no own lists"},
		{"PUT " + u + "/interfaces/f/groups", `{"groups":["gone"]}`, 422, "there is no group"},
		{"PUT " + u + "/interfaces/nobody/groups", `{"groups":["web"]}`, 404, "nothing with the id"},
		{"PUT " + u + "/subnets/s/groups", `{"groups":["web"]}`, 422, "not for subnets"},
		{"PUT " + u + "/nonsense", "", 404, "there is nothing at"},
	} {
		if status, text, _, err := d.ask(x.request, x.body, ""); err != nil || status != x.status ||
			!strings.Contains(text, x.want) {
			t.Errorf("%s %s: %d %s %v, want %d %s", x.request, x.body, status, text, err, x.status, x.want)
		}
	}
	// Quotas count both families, lists by their capacity.
	d.must("POST "+u+"/groups/web/rules", rule(""), "", 201, "")
	d.must("POST "+u+"/groups/web/rules", `{"direction":"in","peers":["192.0.2.2/32"],"services":["tcp 22"]}`, "",
		201, "")
	text, _ := d.must("POST "+u+"/groups/web/rules",
		`{"direction":"in","peers":["192.0.2.3/32"],"services":["tcp 22"]}`, "", 409, "may have 4 in each direction")
	if !strings.Contains(text, `"status":409`) {
		t.Errorf("no problem: %s", text)
	}
	d.must("POST "+r+"/groups/g/rules",
		`{"direction":"in","rank":100,"peers":["192.0.2.3/32","192.0.2.9/32"],"services":["tcp 22","udp 53"]}`, "",
		201, `"rank":100`)
	d.must("POST "+r+"/groups/g/rules", rule(`,"rank":100`), "", 409, "has the rank 100 already")
	after, _ := os.ReadFile(filepath.Join(d.folder, StateFile))
	if strings.Count(string(after), "\n") != strings.Count(string(before), "\n")+3 {
		t.Errorf("something that was refused is there:\n%s", after)
	}
}

// Groups are made with what their cloud puts into them, filled, attached, renamed, taken
// off and deleted; every change is told, in order; a new server knows all of it.
func TestGroupsComeAndGo(t *testing.T) {
	d := newDesk(t)
	const u = "/u/v1/accounts/ua"
	text, etag := d.must("POST "+u+"/groups",
		`{"name":"desk","network":"n","description":"for now","labels":{"estate":"x"}}`, "", 201, `"name":"desk"`)
	var group struct{ Group struct{ ID string } }
	if err := json.Unmarshal([]byte(text), &group); err != nil {
		t.Fatal(err)
	}
	id := group.Group.ID
	if objects, _ := d.must("GET "+u+"/objects?kind=rule", "", "", 200, ""); strings.Count(objects,
		`"group":"`+id+`"`) != 2 || !strings.Contains(objects, `"::/0"`) {
		t.Errorf("a new group lets everything out: %s", objects)
	}
	text, _ = d.must("POST "+u+"/groups/"+id+"/rules",
		`{"direction":"in","peers":["group:web"],"services":["tcp 22"],"description":"x"}`, "", 201, `"action":"admit"`)
	rule := idOf(text)
	d.must("PATCH "+u+"/groups/"+id, `{"name":"desk-2"}`, etag, 412, "has changed meanwhile") // its rules have
	_, etag = d.must("GET "+u+"/groups/"+id, "", "", 200, `"rules":[{`)
	d.must("PATCH "+u+"/groups/"+id, `{"name":"desk-2"}`, etag, 200, `"labels":{"estate":"x"}`)
	d.must("PATCH "+u+"/groups/"+id, `{"name":"desk-3"}`, etag, 412, "has changed meanwhile")
	_, instance := d.must("GET "+u+"/objects/instance/i", "", "", 200, `"kind":"instance"`)
	text, _ = d.must("PUT "+u+"/interfaces/f/groups", `{"groups":["web","`+id+`"]}`, instance, 200, id)
	if !strings.HasPrefix(text, `{"kind":"instance"`) || !strings.Contains(text, `"filtered":true`) {
		t.Errorf("something else was changed: %s", text)
	}
	d.must("PUT "+u+"/interfaces/f/groups", `{"groups":[]}`, instance, 412, "has changed meanwhile")
	d.must("DELETE "+u+"/groups/"+id, "", "", 409, "in use by instance i")
	d.must("PUT "+u+"/interfaces/f/groups", `{"groups":["web"]}`, "", 200, "")
	d.must("DELETE "+u+"/groups/"+id+"/rules/"+rule, "", "", 204, "")
	text, _ = d.must("POST "+u+"/lists", `{"name":"vans","entries":["198.51.100.200/32"],"capacity":3}`, "", 201,
		`"owner":"own"`)
	list := idOf(text)
	d.must("PUT "+u+"/lists/"+list+"/entries", `{"entries":["198.51.100.201/32"]}`, "", 200, "198.51.100.201")
	d.must("DELETE "+u+"/lists/"+list, "", "", 204, "")
	d.must("DELETE "+u+"/groups/"+id, "", "", 204, "")
	d.must("GET "+u+"/objects/group/"+id, "", "", 404, "there is no group")
	text, _ = d.must("GET /u/v1/changes?after=1&feed="+d.server.feed, "", "", 200, "")
	var told struct {
		Items []Change
		Last  int
	}
	if err := json.Unmarshal([]byte(text), &told); err != nil {
		t.Fatal(err)
	}
	var words []string
	for i, c := range told.Items {
		if c.Number != i+2 || c.Previous != i+1 || c.By != "sandbox" || c.Account != "ua" {
			t.Errorf("%+v comes after %d", c, i+1)
		}
		words = append(words, c.Action+" "+c.Kind)
	}
	if got, want := strings.Join(words, ", "), "create rule, create rule, create rule, change group, change "+
		"instance, change instance, delete rule, create list, change list, delete list, delete rule, delete "+
		"rule, delete group"; got != want || told.Last != 14 {
		t.Errorf("changes %s (last %d), want %s", got, told.Last, want)
	}
	d.web.Close()
	d.open()
	d.must("POST "+u+"/groups", `{"name":"next","network":"n"}`, "", 201, "")
	if text, _ = d.must("GET /u/v1/changes?after=14&feed="+d.server.feed, "", "", 200, `"number":15`); strings.Contains(text,
		`"number":14`) {
		t.Errorf("after 14: %s", text)
	}
	f, err := os.Open(filepath.Join(d.folder, StateFile))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if _, _, err := store.ReadSurvey(f, "state"); err != nil {
		t.Errorf("the state is no survey any more: %v", err)
	}
}

// Of many that change the same thing at once, each by the version that it saw, none
// is lost and none goes over another.
func TestManyAtOnce(t *testing.T) {
	d := newDesk(t)
	const path = "/r/v1/accounts/ra/groups/g"
	var wrong, made sync.Map
	var workers sync.WaitGroup
	for k := range 8 {
		workers.Go(func() {
			for i := range 10 {
				for {
					_, _, etag, err := d.ask("GET /r/v1/accounts/ra/objects/group/g", "", "")
					if err != nil {
						wrong.Store(err.Error(), true)
						return
					}
					status, text, _, err := d.ask("PATCH "+path, fmt.Sprintf(`{"description":"%d-%d"}`, k, i), etag)
					if err == nil && status == 200 {
						made.Store(fmt.Sprintf("%d-%d", k, i), true)
						break
					}
					if status != 412 {
						wrong.Store(text, true)
						return
					}
				}
			}
		})
	}
	workers.Wait()
	wrong.Range(func(text, _ any) bool { t.Error(text); return true })
	text, _ := d.must("GET /r/v1/changes?after=0&feed="+d.server.feed, "", "", 200, "")
	made.Range(func(id, _ any) bool {
		if strings.Count(text, fmt.Sprintf(`"description":"%s"`, id)) != 1 {
			t.Errorf("%s was made and is told %d times", id, strings.Count(text, fmt.Sprintf(`"description":"%s"`, id)))
		}
		return true
	})
	if n := strings.Count(text, `"number":`); n != 80 {
		t.Errorf("%d changes", n)
	}
}

// With faults, what was answered was made, and what was dropped was made or not, but
// nothing is made twice by one request.
func TestFaultsWhileWriting(t *testing.T) {
	d := newDesk(t)
	if err := SetFaults(d.folder, 7, 0.5, []string{Busy, Broken, Dropped}); err != nil {
		t.Fatal(err)
	}
	answered, dropped := 0, 0
	for i := range 120 {
		status, text, _, err := d.ask("POST /l/v1/accounts/la/groups",
			fmt.Sprintf(`{"name":"g-%d","network":"n"}`, i), "")
		switch {
		case err != nil:
			dropped++
		case status == 201:
			answered++
		case status != 429 && status != 500:
			t.Fatalf("%d %s", status, text)
		}
	}
	if err := SetFaults(d.folder, 7, 0, nil); err != nil {
		t.Fatal(err)
	}
	state, err := os.ReadFile(filepath.Join(d.folder, StateFile))
	if err != nil {
		t.Fatal(err)
	}
	made := strings.Count(string(state), `"name":"g-`)
	if made < answered || made > answered+dropped || answered == 0 || dropped < 5 || made == answered {
		t.Errorf("%d answered, %d dropped, %d made", answered, dropped, made)
	}
}
