package cli_test

import (
	"bufio"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"isonomos/cloud/standin"
	"isonomos/core/service"
	"isonomos/notify"
)

var (
	siegeLasts = flag.Duration("siege", 8*time.Second, "how long TestSiege lasts")
	siegeSeed  = flag.Uint64("siege-seed", 7, "of what TestSiege does")
)

// A siege is an estate that somebody with a token does everything to, while what upholds it is killed again and again.
type siege struct {
	*harbourmaster
	random *rand.Rand
	own    []upheldGroup
	// openings are the ranges that were let in by hand, each another one, with the place and when.
	openings map[string]opening
	foreign  int
}

type opening struct {
	place string
	at    time.Time
}

const siegeDefinitions = `
list desks { 192.0.2.0/28 }
pattern kept { admit https from everyone
  admit tcp 8000-8080 from list desks }
group web in nu "Web" { cover where role = web
  use kept
  lend ssh to 10.1.0.0/16 for at most 1h because "on call" }
group gate in nr "Gate" { cover where role = web
  use kept }
group shop in nl "Shop" { cover where role = web
  use kept }
group yard in nf "Yard" { cover where role = web
  use kept }
group base in nu "Databases" { cover where role = db
  admit postgres from group web }
group hold in nr "Databases" { cover where role = db
  admit postgres from group gate }
group cell in nl "Databases" { cover where role = db
  admit postgres from group shop }
group keep in nf "Databases" { cover where role = db
  admit postgres from group yard }
law admin "Administration stays inside" {
  never admit class admin from internet
  enforced }
expect web can reach base on postgres
`

// What everybody may find at the end of it is written at the functions below. It lasts for -siege, with 10 % faults of
// every kind in what the program asks, a receiver of notices that fails half the time, and a kill every few seconds.
func TestSiege(t *testing.T) {
	t.Parallel()
	h := newHarbourmaster(t)
	h.define(siegeDefinitions)
	h.must(0, "", "draft")
	h.must(0, "enacted", "enact")
	s := &siege{harbourmaster: h, random: rand.New(rand.NewPCG(*siegeSeed, 1)), openings: make(map[string]opening),
		own: append(slices.Clone(upheldBy), upheldGroup{"/cu", "au", "nu", "base"}, upheldGroup{"/cr", "ar", "nr", "hold"},
			upheldGroup{"/cl", "al", "nl", "cell"}, upheldGroup{"/cf", "af", "nf", "keep"})}
	want := s.ownContent()
	d := newDesk(t, 0.5)
	h.settings(fmt.Sprintf("[uphold]\nput-back = \"all\"\n[notify.desk]\nto = %q\nper-minute = 100000\n", d.web.URL))
	h.must(1, "", "uphold", "--once") // a default list admits ssh
	h.must(0, "", "uphold", "agree", "admin")
	h.ask("GET", "/cu/v1/whoami", "") // makes the other token
	from := s.logged(nil)
	if err := standin.SetFaults(h.clouds, *siegeSeed, 0.1, standin.Kinds); err != nil {
		t.Fatal(err)
	}
	u := h.uphold()
	var logs []*lockedBuffer
	end, most := time.Now().Add(*siegeLasts), 0
	kill, resume := time.Now().Add(3*time.Second), time.Now().Add(8*time.Second)
	for time.Now().Before(end) {
		s.act()
		time.Sleep(time.Duration(20+s.random.IntN(200)) * time.Millisecond)
		if time.Now().After(resume) {
			s.resume()
			resume = time.Now().Add(8 * time.Second)
		}
		if time.Now().After(kill) {
			most = max(most, memoryOf(u.c.Process.Pid))
			_ = u.c.Process.Signal(syscall.SIGKILL)
			<-u.ended
			logs = append(logs, u.log)
			u = h.uphold()
			kill = time.Now().Add(time.Duration(2+s.random.IntN(4)) * time.Second)
		}
	}
	logs = append(logs, u.log)
	if err := standin.SetFaults(h.clouds, 0, 0, nil); err != nil {
		t.Fatal(err)
	}
	all := told(func() string {
		var text strings.Builder
		for _, l := range logs {
			text.WriteString(l.String() + "\n----\n")
		}
		return text.String()
	})
	s.settles(want, u, all)
	d.mu.Lock()
	d.fails = 0
	d.mu.Unlock()
	for range 4 { // what failed often waits for up to a minute
		if _, text := u.get("/metrics"); !strings.Contains(text, `isonomos_notices_unsent{target="desk"} 0`) {
			time.Sleep(20 * time.Second)
		}
	}
	until(t, "every notice is sent", func() bool {
		_, text := u.get("/metrics")
		return strings.Contains(text, `isonomos_notices_unsent{target="desk"} 0`)
	}, all)
	most = max(most, memoryOf(u.c.Process.Pid))
	u.stop()
	h.must(0, "its chain holds", "repeal", "--list")
	s.judge(from, d, all)
	if strings.Contains(all.String(), "by another upholder") {
		t.Error("somebody has stopped it by writing that there was another one")
	}
	if most > 200<<10 {
		t.Errorf("it took %d kB of memory", most)
	}
	t.Logf("%d openings by hand, %d changes in all, %d starts, %d notices, %d MB at most", len(s.openings),
		len(s.logged(nil)), len(logs), len(d.told()), most>>10)
}

// memoryOf is how much memory a process has, in kB.
func memoryOf(pid int) int {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			n, _ := strconv.Atoi(strings.Fields(rest)[0])
			return n
		}
	}
	return 0
}

// do asks a stand-in until it answers.
func (s *siege) do(method, path, body string) (status int, text string) {
	s.t.Helper()
	for range 200 {
		if status, text = s.askOnce(method, path, body); status > 0 && status < 500 && status != 429 {
			return status, text
		}
	}
	s.t.Fatalf("%s %s: %d %s", method, path, status, text)
	return 0, ""
}

func (s *siege) askOnce(method, path, body string) (int, string) {
	address := ""
	for _, v := range s.env {
		name, value, _ := strings.Cut(v, "=")
		if strings.HasSuffix(name, "_URL") && strings.HasSuffix(value, path[:3]) {
			address = strings.TrimSuffix(value, path[:3])
		}
	}
	r, err := http.NewRequest(method, address+path, strings.NewReader(body))
	if err != nil {
		s.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer amiras")
	r.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, err.Error() // the connection was dropped
	}
	defer answer.Body.Close()
	all, err := io.ReadAll(answer.Body)
	if err != nil {
		return 0, err.Error()
	}
	return answer.StatusCode, string(all)
}

// find is the id of a group by its name, or empty.
func (s *siege) find(account, name string) (id string) {
	s.each(func(o map[string]any) {
		if o["kind"] == "group" && o["account"] == account && o["name"] == name {
			id = o["id"].(string)
		}
	})
	return id
}

// act does one thing that nobody has decided.
func (s *siege) act() {
	x := s.own[s.random.IntN(len(s.own))]
	accounts := x.path + "/v1/accounts/" + x.account
	id := s.find(x.account, x.group)
	face := fmt.Sprintf("%s/interfaces/f%d/groups", accounts, s.random.IntN(4))
	group := accounts + "/groups/" + id
	rank := ""
	if x.path == "/cr" {
		rank = fmt.Sprintf(`,"rank":%d`, 1+s.random.IntN(8000))
	}
	add := func(at, rest string) {
		n := len(s.openings)
		peer := fmt.Sprintf("198.19.%d.%d/32", n/250, n%250+1)
		if n < 500 {
			peer = fmt.Sprintf("%s.%d/32", []string{"203.0.113", "198.51.100"}[n/250], n%250+1)
		}
		service := []string{"tcp 22", "tcp 3389", "any", "tcp 5432"}[s.random.IntN(4)]
		s.openings[peer] = opening{x.place(), time.Now()}
		if status, _ := s.do("POST", at+"/rules", fmt.Sprintf(`{"direction":"in","peers":[%q],"services":[%q]%s%s}`, peer,
			service, rank, rest)); status != 201 {
			delete(s.openings, peer)
		}
	}
	what := s.random.IntN(14)
	if id == "" && what != 6 {
		return // it was deleted, and is not there again yet
	}
	switch what {
	case 0, 1, 2: // opens a port
		add(group, "")
	case 3: // takes a rule out
		for _, rule := range s.rulesOf(x) {
			s.do("DELETE", group+"/rules/"+rule, "")
			break
		}
	case 4: // takes all groups off
		s.do("PUT", face, `{"groups":[]}`)
	case 5: // attaches ours somewhere
		s.do("PUT", face, fmt.Sprintf(`{"groups":[%q]}`, id))
	case 6: // adds a group that breaks a law, and attaches it
		s.foreign++
		network := fmt.Sprintf(`,"network":%q`, x.network)
		if x.path == "/cf" {
			network = ""
		}
		_, text := s.do("POST", accounts+"/groups", fmt.Sprintf(`{"name":"theirs-%d","for":"instances"%s}`, s.foreign,
			network))
		var o struct{ Group struct{ ID string } }
		if json.Unmarshal([]byte(text), &o) != nil || o.Group.ID == "" {
			return
		}
		theirs := accounts + "/groups/" + o.Group.ID
		s.do("POST", theirs+"/rules", `{"direction":"in","peers":["0.0.0.0/0"],"services":["tcp 20-30"]`+rank+`}`)
		s.do("PUT", face, fmt.Sprintf(`{"groups":[%q]}`, o.Group.ID))
	case 7: // deletes ours
		for f := range 4 {
			s.do("PUT", fmt.Sprintf("%s/interfaces/f%d/groups", accounts, f), `{"groups":[]}`)
		}
		s.do("DELETE", group, "")
	case 8: // takes the mark off
		s.do("PATCH", group, `{"labels":{}}`)
	case 9: // gives it another one, and says that another upholder was there before
		s.do("PATCH", group, `{"labels":{"isonomos":"quayside","isonomos-upheld":"00000000@20200101T000000Z"}}`)
		add(group, "")
	case 10: // marks a group that is not ours
		if theirs := s.find(x.account, fmt.Sprintf("theirs-%d", s.random.IntN(s.foreign+1))); theirs != "" {
			s.do("PATCH", accounts+"/groups/"+theirs, `{"labels":{"isonomos":"pier","isonomos-hands-off":"2099-01-01T00:00:00Z"}}`)
		}
	case 11: // describes a rule as a pass
		add(group, fmt.Sprintf(`,"description":"isonomos pass %08d until %s"`, 22222222+s.random.IntN(999),
			time.Now().Add(time.Hour).UTC().Format(time.RFC3339)))
	case 12: // a list
		if list := s.listOf(x.account); list != "" {
			s.do("PUT", accounts+"/lists/"+list+"/entries", `{"entries":["192.0.2.0/28","198.18.0.0/24"]}`)
		}
	case 13: // a pass that is one; it may fail, as anything may now
		if x.group == "web" {
			_, _ = s.run("pass", "issue", "web", "ssh", "--to", "10.1.1.9", "--for", "2s", "--because", "a siege")
		}
	}
}

// listOf is the id of the list of an account.
func (s *siege) listOf(account string) (id string) {
	s.each(func(o map[string]any) {
		if o["kind"] == "list" && o["account"] == account {
			id = o["id"].(string)
		}
	})
	return id
}

// isOwn reports whether a group is one of ours, by its name.
func (s *siege) isOwn(name string) bool {
	return slices.ContainsFunc(s.own, func(x upheldGroup) bool { return x.group == name })
}

// ownContent is the content of the clouds as far as it is ours.
func (s *siege) ownContent() string {
	var all []string
	for line := range strings.Lines(s.content()) {
		words := strings.Fields(line)
		switch {
		case words[1] == "at":
			var own []string
			for _, name := range strings.Split(strings.Join(words[3:], ""), ",") {
				if s.isOwn(name) {
					own = append(own, name)
				}
			}
			line = strings.Join(words[:3], " ") + " " + strings.Join(own, ",")
		case words[1] == "group" && !s.isOwn(words[2]), words[1] == "rule" && !s.isOwn(words[3]),
			strings.Contains(line, "[list:desks v6]"): // the list has no such addresses, so this lets nothing through
			continue
		}
		all = append(all, strings.TrimSpace(line))
	}
	return strings.Join(all, "\n")
}

// settles waits until everything of ours is as it was decided, and no law is broken: what was left alone is resumed, as
// somebody would do who looks after it.
func (s *siege) settles(want string, u *upheld, log fmt.Stringer) {
	s.t.Helper()
	for began := time.Now(); time.Since(began) < 2*time.Minute; {
		if s.ownContent() == want && s.open() == "" {
			return
		}
		s.resume()
		time.Sleep(500 * time.Millisecond)
	}
	_, status := s.run("uphold", "status")
	_ = u.c.Process.Signal(syscall.SIGQUIT) // what it is doing is in its log then
	<-u.ended
	s.t.Fatalf("the clouds have\n%s\ninstead of\n%s\nopen: %s\n%s\n%s", s.ownContent(), want, s.open(), status, log)
}

// resume has put back what was left alone.
func (s *siege) resume() {
	_, out := s.run("uphold", "status")
	for line := range strings.Lines(out) {
		if _, command, ok := strings.Cut(line, "resume   isonomos "); ok {
			_, _ = s.run(strings.Fields(command)...) // what is no longer left alone is refused
		}
	}
}

// open is a rule of a group that is not ours and lets in administration from everywhere; empty if there is none.
func (s *siege) open() (rule string) {
	s.each(func(o map[string]any) {
		if o["kind"] == "rule" && strings.Contains(fmt.Sprint(o["peers"]), "0.0.0.0/0") &&
			strings.Contains(fmt.Sprint(o["services"]), "tcp 20-30") {
			rule = fmt.Sprint(o)
		}
	})
	return rule
}

// logged are the changes that the stand-ins have recorded, behind some of them.
func (s *siege) logged(behind []standin.Change) (all []standin.Change) {
	s.t.Helper()
	f, err := os.Open(filepath.Join(s.clouds, standin.ChangesFile))
	if err != nil {
		s.t.Fatal(err)
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var c standin.Change
		if err := json.Unmarshal(lines.Bytes(), &c); err != nil {
			s.t.Fatal(err)
		}
		all = append(all, c)
	}
	return all[len(behind):]
}

// judge reads from the stand-ins' own record what was done, and holds it against what may be: nothing that was not
// decided was let through by the program, nothing that was decided was cut by it, nothing of others was changed but what
// breaks a law, every opening was told, and shut within a minute or so.
func (s *siege) judge(before []standin.Change, d *desk, log fmt.Stringer) {
	type rule struct {
		Direction, Action, Description string
		Peers, Services                []string
		Group                          string
	}
	type object struct {
		Name       string
		Groups     []string
		Interfaces []struct {
			ID     string
			Groups []string
		}
	}
	names, rules, faces := make(map[string]string), make(map[string]rule), make(map[string][]string)
	says := func(r rule) string {
		text := fmt.Sprint(r.Direction, " ", r.Action, " ", r.Peers, " ", r.Services)
		for at, name := range names { // a group that was made again has another id
			text = strings.ReplaceAll(text, "group:"+at[strings.Index(at, "/")+1:], "group:"+name)
		}
		return text
	}
	decided, where := make(map[string]map[string]bool), make(map[string]bool) // what our groups say, and where they are
	note := func(c standin.Change) {
		at := c.Account + "/" + c.ID
		var r rule
		var o object
		switch {
		case c.Action == "delete":
			delete(rules, at)
		case c.Kind == "rule":
			_ = json.Unmarshal(c.Object, &r)
			r.Group = c.Group
			rules[at] = r
		case c.Kind == "group":
			_ = json.Unmarshal(c.Object, &o)
			names[at] = o.Name
		case c.Kind == "instance":
			_ = json.Unmarshal(c.Object, &o)
			for _, f := range o.Interfaces {
				faces[c.Account+"/"+f.ID] = f.Groups
			}
		}
	}
	for _, c := range before {
		note(c)
	}
	for at, r := range rules {
		account, _, _ := strings.Cut(at, "/")
		name := names[account+"/"+r.Group]
		if decided[account+"/"+name] == nil {
			decided[account+"/"+name] = make(map[string]bool)
		}
		decided[account+"/"+name][says(r)] = true
	}
	for at, groups := range faces {
		account, face, _ := strings.Cut(at, "/")
		for _, g := range groups {
			where[account+"/"+face+" "+names[account+"/"+g]] = true
		}
	}
	opened, shut := make(map[string]time.Time), make(map[string]time.Duration)
	for _, c := range s.logged(before) {
		at := c.Account + "/" + c.ID
		was := rules[at]
		oldFaces := make(map[string][]string)
		for k, v := range faces {
			oldFaces[k] = v
		}
		note(c)
		is := rules[at]
		when, _ := time.Parse(time.RFC3339Nano, c.At)
		of := func(group string) string { return c.Account + "/" + names[c.Account+"/"+group] }
		own := func(group string) bool { return s.isOwn(names[c.Account+"/"+group]) }
		if c.Kind == "rule" && c.Action == "create" && c.By == "amira" && len(is.Peers) == 1 {
			if _, ours := s.openings[is.Peers[0]]; ours {
				opened[is.Peers[0]] = when
			}
		}
		if c.Kind == "rule" && c.Action == "delete" && len(was.Peers) == 1 && !opened[was.Peers[0]].IsZero() {
			shut[was.Peers[0]] = when.Sub(opened[was.Peers[0]])
		}
		if c.By != "sandbox" {
			continue
		}
		fault := func(format string, a ...any) {
			s.t.Errorf("change %d by the program (%s %s): %s", c.Number, c.Action, at, fmt.Sprintf(format, a...))
		}
		isPass := strings.HasPrefix(is.Description, "isonomos pass ") || strings.HasPrefix(was.Description, "isonomos pass ")
		switch {
		case c.Kind == "rule" && c.Action == "create" && own(c.Group):
			letOut := is.Direction == "out" && fmt.Sprint(is.Services) == "[any]" // the cloud's own, in a new group
			if !within(says(is), decided[of(c.Group)]) && !isPass && !letOut {
				fault("%s lets through %s", of(c.Group), says(is))
			}
		case c.Kind == "rule" && c.Action == "delete" && own(c.Group):
			again := 0 // the same once more
			for k, r := range rules {
				if strings.HasPrefix(k, c.Account+"/") && r.Group == c.Group && says(r) == says(was) {
					again++
				}
			}
			if decided[of(c.Group)][says(was)] && again == 0 {
				fault("%s no longer lets through %s", of(c.Group), says(was))
			}
		case c.Kind == "rule" && c.Action == "create":
			if strings.Contains(fmt.Sprint(is.Services), "tcp 22") && slices.Contains(is.Peers, "0.0.0.0/0") {
				fault("%s of others lets through %s", of(c.Group), says(is))
			}
		case c.Kind == "rule" && c.Action == "delete":
			if !strings.Contains(fmt.Sprint(was.Services), "tcp 20-30") && !(was.Direction == "out") {
				fault("%s of others no longer lets through %s", of(c.Group), says(was))
			}
		case c.Kind == "group" && !s.isOwn(names[at]):
			fault("the group %s is not ours", names[at])
		case c.Kind == "instance":
			var o object
			_ = json.Unmarshal(c.Object, &o)
			for _, f := range o.Interfaces {
				key := c.Account + "/" + f.ID
				for _, g := range f.Groups {
					if !slices.Contains(oldFaces[key], g) && !where[key+" "+names[c.Account+"/"+g]] {
						fault("%s is attached to %s", of(g), f.ID)
					}
				}
				for _, g := range oldFaces[key] {
					back := slices.ContainsFunc(f.Groups, func(n string) bool { // in the place of another one
						return !slices.Contains(oldFaces[key], n) && where[key+" "+names[c.Account+"/"+n]]
					})
					if !slices.Contains(f.Groups, g) && (!own(g) && !back || where[key+" "+names[c.Account+"/"+g]]) {
						fault("%s is detached from %s", of(g), f.ID)
					}
				}
			}
		}
	}
	notices := d.told()
	var slowest time.Duration
	for peer, o := range s.openings {
		at, served := opened[peer]
		if !served {
			continue
		}
		slowest = max(slowest, shut[peer])
		address := netip.MustParsePrefix(peer).Addr()
		if !slices.ContainsFunc(notices, func(n notify.Notice) bool { // with others that are open at the same time
			return n.Type == notify.Opened && n.Traffic != nil && !n.At.Before(at.Add(-time.Second)) &&
				slices.ContainsFunc(strings.Split(n.Traffic.Peers, ", "), func(text string) bool {
					p, err := netip.ParsePrefix(text)
					a, wrong := netip.ParseAddr(text)
					return err == nil && p.Contains(address) || wrong == nil && a == address
				})
		}) {
			s.t.Errorf("nobody was told that %s was opened at %s (%s)", peer, o.place, at)
		}
	}
	if slowest > 100*time.Second { // openings that come again and again stand for up to a minute
		s.t.Errorf("an opening stood for %s", slowest)
	}
	if s.t.(*testing.T).Failed() {
		s.t.Log(log)
	}
	s.t.Logf("the slowest was shut after %s", slowest.Round(time.Millisecond))
}

// within reports whether a rule lets through no more than one of those that were decided; all are given as direction,
// action, peers and services.
func within(rule string, decided map[string]bool) bool {
	if decided[rule] || strings.Contains(rule, " refuse ") {
		return true
	}
	split := func(text string) (head string, peers []string, services service.Set) {
		parts := strings.FieldsFunc(text, func(r rune) bool { return r == '[' || r == ']' })
		if len(parts) != 4 {
			return "", nil, services
		}
		for _, s := range strings.Split(strings.ReplaceAll(parts[3], " tcp", ",tcp"), ",") {
			spec, err := service.ParseSpec(s)
			if err != nil {
				return "", nil, services
			}
			services = services.Union(service.Of(spec))
		}
		return parts[0], strings.Fields(parts[1]), services
	}
	inside := func(peer string, of []string) bool {
		p, err := netip.ParsePrefix(peer)
		return slices.ContainsFunc(of, func(text string) bool {
			q, wrong := netip.ParsePrefix(text)
			return text == peer || err == nil && wrong == nil && q.Bits() <= p.Bits() && q.Contains(p.Addr())
		})
	}
	head, peers, services := split(rule)
	for d := range decided {
		h, of, s := split(d)
		if head == h && head != "" && services.SubsetOf(s) && !slices.ContainsFunc(peers,
			func(p string) bool { return !inside(p, of) }) {
			return true
		}
	}
	return false
}
