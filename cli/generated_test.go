package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"isonomos/core/addr"
	"isonomos/core/compile"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/store"
	"isonomos/work"
)

// A plantedEstate is definitions, a survey that agrees with them, and flows, with the truth about who needs
// what. Only the generator knows that.
type plantedEstate struct {
	random   *rand.Rand
	folder   string
	taken    time.Time
	text     strings.Builder // the definitions
	survey   strings.Builder
	csv      strings.Builder
	later    strings.Builder // flows of the days after those that are shown
	truths   []planted
	machines map[string][]string // addresses, by group
	ids      int
}

// planted is a true need, and how often it was shown.
type planted struct {
	group     string
	service   string
	kind      string // "self", "group", "list", "addresses", "office"
	name      string // of the group or list
	peers     []string
	until     time.Time
	direction estate.Direction
	seen      map[string]int
}

const (
	shownDays = 20
	laterDays = 10
)

func (x *plantedEstate) one(words ...string) string { return words[x.random.IntN(len(words))] }

func (x *plantedEstate) line(into *strings.Builder, format string, a ...any) {
	fmt.Fprintf(into, format+"\n", a...)
}

// flow writes a flow on a day: what the client sent, and what came back.
func (x *plantedEstate) flow(day, second int, from, to, protocol string, port, packets, size, back, backSize int) {
	out := &x.csv
	if day >= shownDays {
		out = &x.later
	}
	at := x.taken.Unix() - int64(shownDays+laterDays-day)*86400 + int64(second)
	x.line(out, "%d,%d,%s,%s,%s,%d,%d,%d,%d,%d,%d,admitted", at, at+3, from, to, protocol,
		33000+x.random.IntN(20000), port, packets, packets*size, back, back*backSize)
}

// stranger is an address of nobody known.
func (x *plantedEstate) stranger() string {
	return fmt.Sprintf("%d.%d.%d.%d", 60+x.random.IntN(40), x.random.IntN(256), x.random.IntN(256),
		1+x.random.IntN(250))
}

// machine adds an instance of a role, with a group in the survey.
func (x *plantedEstate) machine(role, subnet, address string) {
	x.ids++
	x.machines[role] = append(x.machines[role], address)
	x.line(&x.survey, `{"kind":"instance","account":"acc","id":"i-%d","name":"%s-%d","type":"machine","labels":{"role":"%s"},`+
		`"interfaces":[{"id":"f-%d","subnet":"%s","private":["%s"],"public":[],"groups":["grp-%s"],"filtered":true}]}`,
		x.ids, role, x.ids, role, x.ids, subnet, address, role)
}

// plant makes an estate.
func plant(t *testing.T, dialect string, seed uint64) *plantedEstate {
	x := &plantedEstate{random: rand.New(rand.NewPCG(seed, 19)), folder: t.TempDir(), machines: make(map[string][]string),
		taken: time.Now().UTC().Truncate(24 * time.Hour)}
	limit := ""
	if x.random.IntN(3) == 0 { // too few for every office to be listed address by address
		limit = fmt.Sprintf("  limit %s = 20\n", map[bool]string{true: "rules-per-direction", false: "rules-per-group"}[seed%2 == 0])
	}
	x.line(&x.text, "estate planted\n\ncloud cl {\n  dialect %s\n}\n\naccount acc {\n  cloud cl\n%s}\n\nnetwork main in acc "+
		"{\n  id     \"n-main\"\n  range  10.50.0.0/16\n  subnet app 10.50.1.0/24\n  subnet desks 10.50.2.0/24\n}\n\n"+
		"list partners {\n  198.51.100.16/29\n  203.0.113.200\n}\n", dialect, limit)
	x.line(&x.survey, `{"kind":"survey","version":1,"taken":"%s","estate":"planted"}`, x.taken.Format(time.RFC3339))
	x.line(&x.survey, `{"kind":"cloud","name":"cl","dialect":"%s"}`, dialect)
	x.line(&x.survey, `{"kind":"account","name":"acc","cloud":"cl","id":"a","region":"r","labels":{},"limits":{}}`)
	x.line(&x.survey, `{"kind":"network","account":"acc","id":"n-main","name":"main","ranges":["10.50.0.0/16"],"labels":{}}`)
	x.line(&x.survey, `{"kind":"network","account":"acc","id":"n-far","name":"far","ranges":["10.60.0.0/16"],"labels":{}}`)
	for _, s := range [][3]string{{"n-main", "app", "10.50.1.0/24"}, {"n-main", "desks", "10.50.2.0/24"}} {
		x.line(&x.survey, `{"kind":"subnet","account":"acc","network":"%s","id":"s-%s","name":"%s","ranges":["%s"],`+
			`"routes":[{"to":"0.0.0.0/0","via":"internet"}],"labels":{}}`, s[0], s[1], s[1], s[2])
	}
	x.line(&x.survey, `{"kind":"subnet","account":"acc","network":"n-far","id":"s-far","name":"far","ranges":["10.60.1.0/24"],`+
		`"routes":[{"to":"0.0.0.0/0","via":"nat","address":"192.0.2.250"}],"labels":{}}`)
	services := 4 + x.random.IntN(3)
	roles := []string{"scanner", "clients"}
	for i := range services {
		roles = append(roles, fmt.Sprintf("app%d", i))
	}
	for k, role := range roles {
		x.line(&x.survey, `{"kind":"group","account":"acc","network":"n-main","id":"grp-%s","name":"%s","labels":{},"for":"instances"}`,
			role, role)
		for n := range 1 + min(k, 1)*(1+x.random.IntN(3)) {
			x.machine(role, "s-app", fmt.Sprintf("10.50.1.%d", 10+10*k+n))
		}
	}
	x.line(&x.text, "group scanner in main \"looks for what is open\" {\n  cover where role = scanner\n}\n")
	x.line(&x.text, "group clients in main \"clients\" {\n  cover where role = clients\n}\n")
	x.line(&x.csv, "start,end,src,dst,protocol,src_port,dst_port,packets,bytes,reply_packets,reply_bytes,verdict")
	x.line(&x.later, "start,end,src,dst,protocol,src_port,dst_port,packets,bytes,reply_packets,reply_bytes,verdict")
	for i := range services {
		x.group(fmt.Sprintf("app%d", i), 7000+1000*i)
	}
	return x
}

// group writes a group with wide rules, who needs them, and much that nobody needs.
func (x *plantedEstate) group(name string, port int) {
	x.line(&x.text, "group %s in main \"serves\" {\n  cover where role = %s", name, name)
	until := func() (string, time.Time) {
		if x.random.IntN(3) > 0 {
			return "", time.Time{}
		}
		day := time.Date(2090+x.random.IntN(3), 1, 31, 0, 0, 0, 0, time.UTC)
		return " until " + day.Format(time.DateOnly), day.AddDate(0, 0, 1)
	}
	first, firstEnd := until()
	second, secondEnd := until()
	x.line(&x.text, "  admit tcp %d-%d from everyone v4 because \"%s\"%s", port, port+300, x.one("cluster", "legacy sync"), first)
	x.line(&x.text, "  admit tcp %d-%d from everyone v4 because \"reports\"%s", port+200, port+500, second)
	x.line(&x.text, "  admit udp 5000-6000 from everyone v4 because \"logs\"")
	x.line(&x.text, "  reach tcp 1-65535 at everyone v4 because \"to be worked out\"\n}\n")
	last := func(a, b time.Time) time.Time { // of what two rules let through, the one that lasts
		if a.IsZero() || b.IsZero() {
			return time.Time{}
		}
		return map[bool]time.Time{true: a, false: b}[a.After(b)]
	}
	x.need(name, "tcp", port+10+x.random.IntN(100), firstEnd)
	x.need(name, "tcp", port+210+x.random.IntN(80), last(firstEnd, secondEnd))
	x.need(name, "tcp", port+310+x.random.IntN(100), secondEnd)
	x.mute(name, 5000+x.random.IntN(1000))
	x.out(name)
	to := func() string { return x.machines[name][x.random.IntN(len(x.machines[name]))] }
	for range 40 { // attempts of strangers
		x.flow(x.random.IntN(shownDays+laterDays), x.random.IntN(86400), x.stranger(), to(), "tcp",
			port+x.random.IntN(500), 1+x.random.IntN(3), 60, x.random.IntN(2), 40)
	}
	for range 60 { // some get a banner, and don't come again
		x.flow(x.random.IntN(shownDays+laterDays), x.random.IntN(86400), x.stranger(), to(), "tcp", port+5, 8, 150, 7, 130)
	}
	for range 1 + x.random.IntN(3) { // a sweep from inside
		day, second := x.random.IntN(shownDays), x.random.IntN(80000)
		for p := range 200 {
			x.flow(day, second+p, x.machines["scanner"][0], to(), "tcp", port+100+p, 1, 60, x.random.IntN(2), 40)
		}
	}
	for day := range 6 { // one that is gone
		x.flow(day, 40000, "10.50.2.77", to(), "tcp", port+20, 12, 200, 11, 300)
	}
}

// need plants somebody who needs a service.
func (x *plantedEstate) need(group, protocol string, port int, until time.Time) {
	t := planted{group: group, service: fmt.Sprintf("%s %d", protocol, port), until: until, direction: estate.In,
		seen: make(map[string]int), kind: x.one("self", "group", "list", "addresses", "office", "nat")}
	switch t.kind {
	case "self":
		t.peers = x.machines[group]
	case "group":
		t.name, t.peers = "clients", x.machines["clients"]
	case "list":
		t.name, t.peers = "partners", []string{"198.51.100.17", "198.51.100.18", "203.0.113.200"}
	case "addresses":
		for range 1 + x.random.IntN(3) {
			t.peers = append(t.peers, x.stranger())
		}
	case "office":
		base := 64 * x.random.IntN(3)
		for i := range 25 {
			t.peers = append(t.peers, fmt.Sprintf("203.0.113.%d", base+2*i+1))
		}
	case "nat":
		t.peers = []string{"192.0.2.250"}
	}
	silent := x.random.IntN(3) == 0 // of the way back nothing is recorded
	for _, p := range t.peers {
		for range 3 + x.random.IntN(20) {
			day, to := x.random.IntN(shownDays+laterDays), x.machines[group][x.random.IntN(len(x.machines[group]))]
			if p == to {
				continue
			}
			if day < shownDays {
				t.seen[p]++
			}
			if silent {
				x.flow(day, x.random.IntN(86400), p, to, protocol, port, 30+x.random.IntN(30), 700, 0, 0)
				continue
			}
			x.flow(day, x.random.IntN(86400), p, to, protocol, port, 10+x.random.IntN(30), 200, 9, 400)
		}
	}
	x.truths = append(x.truths, t)
}

// mute plants a sender of datagrams that are never answered.
func (x *plantedEstate) mute(group string, port int) {
	t := planted{group: group, service: fmt.Sprintf("udp %d", port), direction: estate.In, seen: make(map[string]int),
		kind: "addresses", peers: []string{x.stranger()}}
	if x.random.IntN(2) == 0 {
		t.kind, t.name, t.peers = "group", "clients", x.machines["clients"]
	}
	for _, p := range t.peers {
		for day := range shownDays {
			t.seen[p]++
			x.flow(day, x.random.IntN(86400), p, x.machines[group][0], "udp", port, 3, 180, 0, 0)
		}
	}
	x.truths = append(x.truths, t)
}

// out plants where a group goes.
func (x *plantedEstate) out(group string) {
	t := planted{group: group, service: "tcp 443", direction: estate.Out, seen: make(map[string]int), kind: "addresses",
		peers: []string{x.stranger()}}
	if x.random.IntN(2) == 0 {
		t.kind, t.name, t.peers = "list", "partners", []string{"198.51.100.17", "198.51.100.20"}
	}
	for _, p := range t.peers {
		for day := range shownDays {
			t.seen[p]++
			x.flow(day, x.random.IntN(86400), x.machines[group][0], p, "tcp", 443, 12, 300, 11, 900)
		}
	}
	x.truths = append(x.truths, t)
}

// write lays the estate out. The survey gets the rules that the definitions compile to.
func (x *plantedEstate) write(t *testing.T) {
	t.Helper()
	for name, text := range map[string]string{"planted.nomos": x.text.String(), "flows.csv": x.csv.String()} {
		if err := os.WriteFile(filepath.Join(x.folder, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if r := call(t, x.folder, "tidy", "planted.nomos"); r.code != 0 {
		t.Fatal(r.err)
	}
	survey, _, err := store.ReadSurvey(strings.NewReader(x.survey.String()), "survey")
	if err != nil {
		t.Fatal(err)
	}
	world := work.NewWorld(x.understood(t), survey)
	made := make(map[string][]estate.Rule)
	if failures := world.Compile(func(c compile.Compiled) { made[c.Group.Name] = c.Group.Rules }); len(failures) > 0 {
		t.Fatal(failures[0])
	}
	lists := make(map[string]*estate.List)
	for _, g := range survey.Groups {
		g.Rules = slices.Clone(made[g.Name])
		for i := range g.Rules {
			g.Rules[i].ID = fmt.Sprintf("%s-%d", g.Name, i)
			for k, p := range g.Rules[i].Peers {
				if p.Kind == estate.PeerList && lists[p.List.Name] == nil {
					own := *p.List
					own.Account, own.ID, own.Defined = g.Account, "l-"+own.Name, false
					lists[own.Name] = &own
					survey.Lists = append(survey.Lists, &own)
				}
				if p.Kind == estate.PeerList {
					g.Rules[i].Peers[k].List = lists[p.List.Name]
				}
			}
		}
	}
	var out bytes.Buffer
	if err := store.WriteSurvey(&out, survey); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(x.folder, "survey.jsonl"), out.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
}

func (x *plantedEstate) understood(t *testing.T) nomos.Definitions {
	t.Helper()
	folder, err := nomos.Read(os.DirFS(x.folder), func(s string) string { return s })
	if err != nil {
		t.Fatal(err)
	}
	d := nomos.Understand(folder.Files, resolve.Options{Name: "planted", Now: x.taken})
	if len(d.Messages) > 0 && !d.Messages[0].Warning {
		t.Fatal(d.Messages[0])
	}
	return d
}

// world is the estate as it is now.
func (x *plantedEstate) world(t *testing.T) (work.World, *decide.Decider) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(x.folder, "survey.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	survey, _, err := store.ReadSurvey(bytes.NewReader(text), "survey")
	if err != nil {
		t.Fatal(err)
	}
	w := work.NewWorld(x.understood(t), survey)
	return w, decide.New(w.Estate)
}

func groupNamed(e *estate.Estate, name string) *estate.Group {
	return e.Groups[slices.IndexFunc(e.Groups, func(g *estate.Group) bool { return g.Name == name && g.Defined })]
}

// through is what a group lets through at a moment.
func through(d *decide.Decider, g *estate.Group, direction estate.Direction, at time.Time) traffic.Set {
	alive := slices.DeleteFunc(slices.Clone(g.Rules),
		func(r estate.Rule) bool { return !r.Until.IsZero() && !r.Until.After(at) })
	return d.Supposing(g, alive).GroupTraffic(g, direction)
}

// What narrowing is held to on estates with all that makes it hard: rules that overlap and end, one-way
// records, senders that are never answered, offices, translated addresses, retired machines, sweeps from
// inside and strangers that come once. Nobody who needs something and was seen three times is cut off, at any
// moment; groups and lists are named; what is written is tidy, passes check, and nothing is left to do.
func TestNarrowingOfPlantedEstates(t *testing.T) {
	t.Parallel()
	var sum plantedSum
	seeds := 6
	if testing.Short() {
		seeds = 1
	}
	for _, dialect := range []string{"union", "ranked", "layered", "flat"} {
		for seed := range seeds {
			x := plant(t, dialect, uint64(seed)+1)
			x.write(t)
			sum.narrow(t, x, fmt.Sprintf("%s %d", dialect, seed))
		}
	}
	t.Logf("%d of %d needs are cut off; %d of %d groups and lists are named; excess against strangers is %.7f %%; %d "+
		"refusals; of %d bounds %d hold, the median is %.1f times what comes", sum.cut, sum.needs, sum.named, sum.nameable,
		100*sum.excess/sum.before, sum.refused, len(sum.ratios), sum.held, median(sum.ratios))
	if sum.needs < 100*seeds || sum.nameable < 20*seeds {
		t.Errorf("%d needs and %d names tell too little", sum.needs, sum.nameable)
	}
	if sum.cut > 0 || sum.refused > 0 || 20*sum.named < 19*sum.nameable || sum.excess > sum.before/10_000 ||
		20*sum.held < 19*len(sum.ratios) || median(sum.ratios) > 3 {
		t.Error("that is not good enough")
	}
}

func median(all []float64) float64 {
	if len(all) == 0 {
		return 0
	}
	slices.Sort(all)
	return all[len(all)/2]
}

// A plantedSum sums over estates what narrowing did.
type plantedSum struct {
	needs, cut, nameable, named, refused, held int
	before, excess                             float64
	ratios                                     []float64
}

// narrow narrows an estate, writes the result, and compares it with the truth.
func (s *plantedSum) narrow(t *testing.T, x *plantedEstate, name string) {
	t.Helper()
	w, d := x.world(t)
	before := make(map[string]traffic.Set)
	for _, g := range w.Estate.Groups {
		for _, direction := range []estate.Direction{estate.In, estate.Out} {
			before[g.Name+string(direction)] = d.GroupTraffic(g, direction)
		}
	}
	args := []string{"narrow", "--all", "--survey", "survey.jsonl", "--flows", "flows.csv", "--format", "json"}
	r := call(t, x.folder, append(args, "--write")...)
	if r.code != 0 {
		t.Fatalf("%s: %s", name, r.err)
	}
	var document struct {
		Proposals []struct {
			Group, Direction, Refused string
			Changed                   bool
			After                     []string
			Unseen                    *float64 `json:"unseen_by_flow"`
			Seen                      int      `json:"flows_seen"`
			Flows                     int
			Declared                  int `json:"flows_declared"`
			Left                      int `json:"flows_left_out"`
			Elsewhere                 int `json:"flows_elsewhere"`
			CostAfter                 int `json:"cost_after"`
			Before                    []string
			Needs                     []struct{ Flows int }
			LeftOut                   []struct{ Flows int } `json:"left_out"`
		}
	}
	if err := json.Unmarshal([]byte(r.out), &document); err != nil {
		t.Fatal(err)
	}
	after := make(map[string][]string)
	for _, p := range document.Proposals {
		if p.Refused != "" {
			s.refused++
			t.Errorf("%s: %s %s: %s", name, p.Group, p.Direction, p.Refused)
		}
		group := p.Group[strings.LastIndex(p.Group, "/")+1:]
		after[group+p.Direction] = append(after[group+p.Direction], p.After...)
		needed, left := 0, 0
		for _, n := range p.Needs {
			needed += n.Flows
		}
		for _, n := range p.LeftOut {
			left += n.Flows
		}
		s.unseen(x, group, p.Direction, p.Before, p.Unseen)
		if p.Seen != p.Flows+p.Declared+p.Left+p.Elsewhere || needed != p.Flows || left != p.Left {
			t.Errorf("%s: %s: the sums do not agree: %+v", name, p.Group, p)
		}
	}
	s.truths(t, x, name, before, after)
	if r := call(t, x.folder, "tidy", "--list"); r.out != "" {
		t.Errorf("%s: untidy: %s", name, r.out)
	}
	for _, args := range [][]string{{"check"}, {"check", "--survey", "survey.jsonl"}, {"prove", "--survey", "survey.jsonl"}} {
		if r := call(t, x.folder, args...); r.code != 0 {
			t.Errorf("%s: %v: %s%s", name, args, r.out, r.err)
		}
	}
	if r := call(t, x.folder, args...); r.code != 0 || strings.Contains(r.out, `"changed": true`) {
		t.Errorf("%s: once more: %s%s", name, r.out, r.err)
	}
}

// truths compares what is let through now with what is needed, at every moment.
func (s *plantedSum) truths(t *testing.T, x *plantedEstate, name string, before map[string]traffic.Set,
	after map[string][]string) {
	t.Helper()
	w, d := x.world(t)
	wanted := make(map[string]traffic.Set)
	for _, n := range x.truths {
		spec, _ := service.ParseSpec(n.service)
		point, _ := service.Of(spec).First()
		var peers []netip.Addr
		g := groupNamed(w.Estate, n.group)
		complete := true
		for _, p := range n.peers {
			a := netip.MustParseAddr(p)
			peers = append(peers, a)
			if n.seen[p] < 3 {
				complete = complete && n.seen[p] > 0 || slices.Contains(x.machines[n.group], p)
				continue
			}
			s.needs++
			moments := []time.Time{x.taken}
			for year := range 3 {
				moments = append(moments, time.Date(2090+year, 2, 1, 0, 0, 0, 0, time.UTC))
			}
			for _, at := range moments {
				if (n.until.IsZero() || n.until.After(at)) && !through(d, g, n.direction, at).Contains(a, point) {
					s.cut++
					t.Errorf("%s: %s needs %s of %s (%s, seen %d times, until %v) and is cut off at %s", name, p, n.service,
						n.group, n.kind, n.seen[p], n.until, at.Format(time.DateOnly))
					break
				}
			}
		}
		wanted[n.group+string(n.direction)] = wanted[n.group+string(n.direction)].Union(traffic.Of(addr.Of(peers...), service.Of(spec)))
		if n.kind == "self" && complete && len(n.peers) > 1 || n.name != "" && complete {
			s.nameable++
			word := strings.TrimSpace(n.kind + " " + n.name)
			if slices.ContainsFunc(after[n.group+string(n.direction)], func(rule string) bool { return strings.Contains(rule, word) }) {
				s.named++
			} else {
				t.Logf("%s: %s of %s is not said as %s: %v", name, n.service, n.group, word, after[n.group+string(n.direction)])
			}
		}
	}
	strangers := func(set traffic.Set) (sum float64) {
		for _, b := range set.Bands() {
			four, six := d.StrangersAmong(b.Peers)
			sum += (four + six) * float64(b.To-b.From+1)
		}
		return sum
	}
	for _, g := range w.Estate.Groups {
		if strings.HasPrefix(g.Name, "app") && g.Defined {
			k := g.Name + string(estate.In)
			s.before += strangers(before[k])
			s.excess += strangers(d.GroupTraffic(g, estate.In).Minus(wanted[k]))
		}
	}
}

// unseen compares the bound of a proposal with what came in the days afterwards.
func (s *plantedSum) unseen(x *plantedEstate, group, direction string, before []string, bound *float64) {
	if bound == nil || direction != string(estate.In) {
		return
	}
	lets := func(protocol string, port int) bool {
		for _, rule := range before {
			var from, to int
			if n, _ := fmt.Sscanf(rule, "admit "+protocol+" %d-%d", &from, &to); n == 2 && from <= port && port <= to {
				return true
			}
		}
		return false
	}
	seen := make(map[string]bool)
	all, strange := 0, 0
	for i, text := range []string{x.csv.String(), x.later.String()} {
		for line := range strings.Lines(text) {
			f := strings.Split(line, ",")
			var port int
			if fmt.Sscan(f[6], &port); !slices.Contains(x.machines[group], f[3]) || !lets(f[4], port) {
				continue
			}
			if i == 0 {
				seen[f[2]] = true
				continue
			}
			if all++; !seen[f[2]] {
				strange++
			}
		}
	}
	if all < 20 {
		return
	}
	share := float64(strange) / float64(all)
	if share <= *bound {
		s.held++
	}
	s.ratios = append(s.ratios, *bound/max(share, 1/float64(all)))
}
