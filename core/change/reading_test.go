package change_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"isonomos/core/change"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/internal/reading"
	"isonomos/store"
)

var (
	rounds = flag.Int("rounds", 250, "random pairs of surveys that are compared")
	seed   = flag.Uint64("seed", 17, "where they begin")
)

// a line of a survey.
type line = map[string]any

// A town is a survey as lines, so that it can be changed here and there.
type town struct {
	*rand.Rand
	dialect string
	lines   []line
}

func (t *town) pick(texts ...string) string { return texts[t.IntN(len(texts))] }

func (t *town) put(kind string, l line) line {
	l["kind"] = kind
	if kind != "survey" && kind != "cloud" && kind != "account" {
		l["account"] = "a"
	}
	t.lines = append(t.lines, l)
	return l
}

func (t *town) routes() []any {
	var list []any
	for range t.IntN(3) {
		switch t.IntN(4) {
		case 0:
			list = append(list, line{"to": "0.0.0.0/0", "via": "internet"})
		case 1:
			l := line{"to": "0.0.0.0/0", "via": "nat"}
			if t.IntN(4) > 0 {
				l["address"] = "203.0.113.200"
			}
			list = append(list, l)
		case 2:
			n := t.IntN(2) + 1
			list = append(list, line{"to": fmt.Sprintf("10.%d.0.0/16", n), "via": "peer",
				"network": fmt.Sprint("n", n)})
		default:
			list = append(list, line{"to": t.pick("172.16.0.0/12", "192.0.2.0/24"),
				"via": t.pick("private-line", "drop")})
		}
	}
	return list
}

func (t *town) rule() line {
	l := line{"direction": t.pick("in", "in", "out"), "action": "admit",
		"peers": []any{t.pick("0.0.0.0/0", "10.0.0.0/8", "10.1.1.0/24", "192.0.2.0/24", "group:g1", "group:g2",
			"list:l", "10.2.1.4/32", "203.0.113.0/24")},
		"services": []any{t.pick("any", "tcp 22", "tcp 80-443", "udp", "tcp", "icmp 8", "tcp 8080", "tcp 1024-65535",
			"sctp 9")}}
	if t.dialect == "flat" && strings.Contains(l["peers"].([]any)[0].(string), ":") {
		l["peers"] = []any{l["peers"].([]any)[0].(string) + " v4"}
	}
	if (t.dialect == "ranked" || t.dialect == "layered") && l["peers"].([]any)[0] == "list:l" {
		l["peers"] = []any{"192.0.2.64/26"}
	}
	if t.dialect == "ranked" {
		if l["rank"] = 1 + t.IntN(500); t.IntN(4) == 0 {
			l["action"] = "refuse"
		}
	}
	if t.dialect == "layered" && t.IntN(4) == 0 {
		l["stateless"] = true
	}
	return l
}

func newTown(random *rand.Rand, dialect string) *town {
	t := &town{Rand: random, dialect: dialect}
	t.put("survey", line{"version": 1, "taken": "2026-11-20T06:00:00Z", "estate": "x"})
	t.put("cloud", line{"name": "c", "dialect": dialect})
	t.put("account", line{"name": "a", "cloud": "c"})
	for n := 1; n <= 2; n++ {
		peers := []any{}
		if t.IntN(3) > 0 {
			peers = append(peers, line{"account": "a", "network": fmt.Sprint("n", 3-n)})
		}
		t.put("network", line{"id": fmt.Sprint("n", n), "ranges": []any{fmt.Sprintf("10.%d.0.0/16", n)},
			"peers": peers})
		for s := 1; s <= 2; s++ {
			l := t.put("subnet", line{"network": fmt.Sprint("n", n), "id": fmt.Sprintf("s%d%d", n, s),
				"ranges": []any{fmt.Sprintf("10.%d.%d.0/24", n, s)}, "routes": t.routes()})
			if dialect != "flat" && t.IntN(3) == 0 {
				l["groups"] = []any{fmt.Sprint("w", n)}
			}
		}
		if dialect == "union" {
			t.put("group", line{"network": fmt.Sprint("n", n), "id": fmt.Sprint("d", n), "name": "default",
				"built_in": true, "default": true})
		}
	}
	t.put("list", line{"id": "l", "owner": "own", "entries": []any{"192.0.2.0/25"}})
	for k := 1; k <= 4; k++ {
		l := t.put("group", line{"id": fmt.Sprint("g", k)})
		if dialect != "flat" {
			l["network"] = fmt.Sprint("n", 1+(k-1)/2)
		} else if t.IntN(3) == 0 {
			l["stateful"] = false
		}
		for r := range 1 + t.IntN(3) {
			x := t.rule()
			x["group"], x["id"] = fmt.Sprint("g", k), fmt.Sprintf("r%d%d", k, r)
			t.put("rule", x)
		}
	}
	for k := 1; k <= 2 && dialect != "flat"; k++ {
		t.put("group", line{"id": fmt.Sprint("w", k), "for": "subnets", "network": fmt.Sprint("n", k)})
		for r := range 2 + t.IntN(3) {
			x := t.rule()
			if p := x["peers"].([]any)[0].(string); dialect == "union" && strings.Contains(p, ":") {
				x["peers"] = []any{"0.0.0.0/0"}
			}
			if x["group"], x["id"] = fmt.Sprint("w", k), fmt.Sprintf("v%d%d", k, r); dialect == "union" {
				x["rank"] = 10*r + t.IntN(9) + 1
			}
			t.put("rule", x)
		}
	}
	for i := range 6 {
		t.instance(i)
	}
	return t
}

func (t *town) instance(i int) line {
	n := 1 + i%2
	s := 1 + (i/2)%2
	f := line{"id": fmt.Sprint("f", i), "subnet": fmt.Sprintf("s%d%d", n, s),
		"private": []any{fmt.Sprintf("10.%d.%d.%d", n, s, 4+i)}, "groups": t.attached(n), "filtered": t.IntN(12) > 0}
	if t.IntN(3) == 0 {
		f["public"] = []any{fmt.Sprintf("198.51.100.%d", 10+i)}
	}
	l := line{"id": fmt.Sprint("i", i), "name": fmt.Sprint("host", i), "type": "machine", "interfaces": []any{f}}
	if i == 0 || i == 1 {
		l["type"], l["listeners"] = "balancer", []any{t.listener()}
	}
	return t.put("instance", l)
}

func (t *town) attached(n int) []any {
	var groups []any
	for k := 1; k <= 2; k++ {
		if t.IntN(2) == 0 && (t.dialect != "ranked" || len(groups) == 0) {
			groups = append(groups, fmt.Sprint("g", 2*(n-1)+k))
		}
	}
	return append([]any{}, groups...)
}

func (t *town) listener() line {
	targets := []any{}
	for i := 2; i < 5; i++ {
		if t.IntN(2) == 0 {
			targets = append(targets, fmt.Sprint("i", i))
		}
	}
	return line{"service": t.pick("tcp 443", "tcp 80"), "port": 8080, "targets": targets}
}

// copied is the same town once more.
func (t *town) copied() *town {
	var text strings.Builder
	t.write(&text)
	other := &town{Rand: t.Rand, dialect: t.dialect}
	for l := range strings.Lines(text.String()) {
		var x line
		if err := json.Unmarshal([]byte(l), &x); err != nil {
			panic(err)
		}
		other.lines = append(other.lines, x)
	}
	return other
}

// changed is the town with something else here and there.
func (t *town) changed() *town {
	other := t.copied()
	for range 1 + t.IntN(3) {
		other.one()
	}
	return other
}

// respelt is the town said differently: rules in parts and in another order, under other ids.
func (t *town) respelt() *town {
	other := t.copied()
	var rules, rest []line
	for _, l := range other.lines {
		if l["kind"] != "rule" {
			rest = append(rest, l)
			continue
		}
		parts := []line{l}
		split := func(key string, into ...string) {
			for _, part := range slices.Clone(parts) {
				if t.IntN(2) == 0 {
					second := maps.Clone(part)
					part[key], second[key] = []any{into[0]}, []any{into[1]}
					parts = append(parts, second)
				} else if t.dialect != "flat" {
					part[key] = []any{into[1], into[0]}
				}
			}
		}
		switch l["services"].([]any)[0] {
		case "tcp 80-443":
			split("services", "tcp 80-200", "tcp 201-443")
		case "tcp 1024-65535":
			split("services", "tcp 1024-8080", "tcp 8081-65535")
		}
		switch l["peers"].([]any)[0] {
		case "10.0.0.0/8":
			split("peers", "10.0.0.0/9", "10.128.0.0/9")
		case "10.1.1.0/24":
			split("peers", "10.1.1.0/25", "10.1.1.128/25")
		}
		rules = append(rules, parts...)
	}
	t.Shuffle(len(rules), func(i, j int) { rules[i], rules[j] = rules[j], rules[i] })
	for k, r := range rules {
		r["id"] = fmt.Sprint("x", k)
	}
	other.lines = append(rest, rules...)
	return other
}

func (t *town) any(kind string) line {
	var list []line
	for _, l := range t.lines {
		if l["kind"] == kind {
			list = append(list, l)
		}
	}
	return list[t.IntN(len(list))]
}

func (t *town) one() {
	switch t.IntN(13) {
	case 0, 1: // a rule says something else
		old := t.any("rule")
		x := t.rule()
		if p := x["peers"].([]any)[0].(string); t.dialect == "union" &&
			strings.HasPrefix(old["group"].(string), "w") && strings.Contains(p, ":") {
			x["peers"] = []any{"10.0.0.0/8"}
		}
		if rank := old["rank"]; rank != nil && x["rank"] == nil {
			x["rank"] = rank
		}
		delete(old, "stateless")
		maps.Copy(old, x)
	case 2: // a rule goes
		old := t.any("rule")
		t.lines = slices.DeleteFunc(t.lines, func(l line) bool { return l["kind"] == "rule" && l["id"] == old["id"] })
	case 3:
		t.any("subnet")["routes"] = t.routes()
	case 4: // other groups of a subnet
		if s := t.any("subnet"); t.dialect != "flat" {
			if s["groups"] == nil {
				s["groups"] = []any{"w" + s["network"].(string)[1:]}
			} else {
				delete(s, "groups")
			}
		}
	case 5: // other groups at an instance
		i := t.any("instance")
		f := i["interfaces"].([]any)[0].(map[string]any)
		f["groups"] = t.attached(int(f["subnet"].(string)[1] - '0'))
	case 6: // other addresses
		i := t.any("instance")
		f := i["interfaces"].([]any)[0].(map[string]any)
		switch {
		case t.IntN(2) == 0 && f["public"] != nil:
			delete(f, "public")
		case t.IntN(2) == 0:
			f["public"] = []any{"198.51.100.77"}
		default:
			f["private"] = []any{strings.Replace(f["private"].([]any)[0].(string), ".", ".", 1) + "1"[:t.IntN(2)]}
		}
	case 7:
		t.any("list")["entries"] = []any{t.pick("192.0.2.0/24", "203.0.113.0/24", "192.0.2.0/26")}
	case 8:
		for _, l := range t.lines {
			if l["listeners"] != nil && t.IntN(2) == 0 {
				l["listeners"] = []any{t.listener()}
			}
		}
	case 9:
		if n := t.any("network"); t.IntN(2) == 0 {
			n["peers"] = []any{}
		} else {
			n["answers"] = t.pick("32768-60999", "40000-40003")
		}
	case 10: // an instance goes or comes
		if came := slices.ContainsFunc(t.lines, func(l line) bool { return l["id"] == "i7" }); t.IntN(2) == 0 && !came {
			t.instance(7)
		} else {
			t.lines = slices.DeleteFunc(t.lines, func(l line) bool { return l["id"] == "i5" })
		}
	case 11: // the addresses of nat routes are known, or not
		for _, l := range t.lines {
			routes, _ := l["routes"].([]any)
			for _, r := range routes {
				if r := r.(map[string]any); r["via"] == "nat" && r["address"] == nil {
					r["address"] = "203.0.113.200"
				} else if r["via"] == "nat" {
					delete(r, "address")
				}
			}
		}
	default:
		if g := t.any("group"); t.dialect == "flat" {
			g["stateful"] = g["stateful"] == false
		}
		f := t.any("instance")["interfaces"].([]any)[0].(map[string]any)
		if t.IntN(3) == 0 {
			f["filtered"] = f["filtered"] == false
		}
	}
}

func (t *town) write(b *strings.Builder) {
	for _, l := range t.lines {
		text, err := json.Marshal(l)
		if err != nil {
			panic(err)
		}
		b.Write(append(text, '\n'))
	}
}

func (t *town) estate(test *testing.T) (*estate.Estate, string) {
	var b strings.Builder
	t.write(&b)
	e, _, err := store.ReadSurvey(strings.NewReader(b.String()), "s")
	if err != nil {
		test.Fatal(err, b.String())
	}
	return e, b.String()
}

// Every flow that another verdict is given to is inside what is told, and every example that
// is told gets other verdicts: by a reading that shares no code with the comparison.
func TestWhatChangesIsTold(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and nothing in it runs side by side")
	}
	random := rand.New(rand.NewPCG(*seed, 1))
	flows, differ, unknown, examples, equal := 0, 0, 0, 0, 0
	for round := range *rounds {
		was := newTown(random, []string{"union", "ranked", "layered", "flat"}[round%4])
		is := was.changed()
		before, old := was.estate(t)
		after, now := is.estate(t)
		got := change.Compare(decide.New(before), decide.New(after))
		if got.Empty() {
			equal++
		}
		for _, c := range got.Changes {
			if c.Example == nil {
				continue
			}
			examples++
			a, b := verdictOf(before, c.Example.From, c.Example.To, c.Example.Service),
				verdictOf(after, c.Example.From, c.Example.To, c.Example.Service)
			if a == b {
				t.Fatalf("round %d: %s %s: the example %s → %s %s is %s before and after\n%s", round, c.Place(),
					c.Kind, c.Example.From, c.Example.To, c.Example.Service, a, difference(old, now))
			}
		}
		back := change.Compare(decide.New(after), decide.New(before))
		if there, again := toldOf(got, true), toldOf(back, false); !slices.Equal(there, again) {
			t.Fatalf("round %d: told\n%s\nand on the way back\n%s\n%s", round, strings.Join(there, "\n"),
				strings.Join(again, "\n"), difference(old, now))
		}
		for _, f := range someFlows(random, before, after, 400) {
			x, y := f.in(before), f.in(after)
			flows++
			kind := kindOf(x, y)
			if (x == "undecided") != (y == "undecided") {
				if unknown++; len(got.Unknown) == 0 && !f.touched(got) {
					t.Fatalf("round %d %s: %s → %s %s is %s, then %s, and nothing is told to be unknown:\n%s\n%s",
						round, was.dialect, f.src, f.dst, f.p, x, y, told(got), difference(old, now))
				}
			}
			if kind == "" {
				continue
			}
			differ++
			if !f.told(got, kind, before, after) {
				t.Fatalf("round %d %s: %s → %s %s is %s, then %s, and that is not told:\n%s\n%s", round, was.dialect,
					f.src, f.dst, f.p, x, y, told(got), difference(old, now))
			}
		}
	}
	t.Logf("%d flows, %d of them decided otherwise, %d undecided on one side, %d examples, %d pairs equal", flows,
		differ, unknown, examples, equal)
	if differ < *rounds || unknown == 0 {
		t.Errorf("only %d flows differ: the test tells little", differ)
	}
}

// toldOf are changes as texts in order, where asked for as they must be told on the way back.
func toldOf(d change.Difference, turn bool) []string {
	opposite := map[change.Kind]change.Kind{change.Opens: change.Closes, change.Closes: change.Opens,
		change.Lost: change.Regained, change.Regained: change.Lost}
	var all []string
	for _, c := range d.Changes {
		if turn {
			c.Kind = opposite[c.Kind]
		}
		all = append(all, fmt.Sprint(c.Kind, " ", c.Direction, " ", slices.Sorted(slices.Values(c.Instances)), " ",
			c.Traffic, " ", c.Way, c.Nobody))
	}
	slices.Sort(all)
	return all
}

// A town that is said differently is equal, and so is one to itself.
func TestEqualSpellingsAreEqual(t *testing.T) {
	random := rand.New(rand.NewPCG(*seed, 2))
	respelt := 0
	for round := range *rounds {
		one := newTown(random, []string{"union", "ranked", "layered", "flat"}[round%4])
		before, old := one.estate(t)
		after, now := one.respelt().estate(t)
		for _, d := range []change.Difference{change.Compare(decide.New(before), decide.New(after)),
			change.Compare(decide.New(before), decide.New(before))} {
			if !d.Empty() {
				t.Fatalf("round %d: differs:\n%s\n%v\n%s", round, told(d), d.Unknown, difference(old, now))
			}
			respelt += len(d.Respelt)
		}
	}
	if respelt < *rounds {
		t.Errorf("only %d groups are said differently: the test tells little", respelt)
	}
}

func difference(old, now string) string {
	lines := func(text string) []string { return slices.Collect(strings.Lines(text)) }
	var b strings.Builder
	for _, l := range lines(old) {
		if !slices.Contains(lines(now), l) {
			b.WriteString("< " + l)
		}
	}
	for _, l := range lines(now) {
		if !slices.Contains(lines(old), l) {
			b.WriteString("> " + l)
		}
	}
	return b.String() + "in\n" + old
}

// A probe is a flow between two addresses, each of an instance or of nobody.
type probe struct {
	src, dst string // "a/host1 10.1.1.4", or an address
	p        service.Point
}

// end is an end in a state; ok is false where the instance does not have the address.
func endIn(e *estate.Estate, text string) (reading.End, bool) {
	name, address, named := strings.Cut(text, " ")
	if !named {
		a := netip.MustParseAddr(name)
		return reading.End{Addr: a},
			!slices.ContainsFunc(reading.Ends(e), func(x reading.End) bool { return x.Addr == a })
	}
	a := netip.MustParseAddr(address)
	for _, x := range reading.Ends(e) {
		if x.Addr == a && x.At.Instance.Path() == name {
			return x, true
		}
	}
	return reading.End{}, false
}

func (f probe) in(e *estate.Estate) string {
	src, ok := endIn(e, f.src)
	dst, good := endIn(e, f.dst)
	if !ok || !good {
		return "no-route"
	}
	return reading.Verdict(e, src, dst, f.p)
}

// kindOf is what a change of verdicts is told as; nothing where it is none that counts.
func kindOf(was, is string) change.Kind {
	arrives := func(v string) bool { return v == "passes" || v == "one-way" }
	switch {
	case was == "undecided" || is == "undecided":
		return ""
	case arrives(is) && !arrives(was):
		return change.Opens
	case arrives(was) && !arrives(is):
		return change.Closes
	case was == "passes" && is == "one-way":
		return change.Lost
	case was == "one-way" && is == "passes":
		return change.Regained
	}
	return ""
}

// told reports whether a difference tells of the flow: at the instance that it comes to, as
// it is seen there, or at the one that it goes out of.
func (f probe) told(d change.Difference, kind change.Kind, states ...*estate.Estate) bool {
	name := func(text string) string { name, _, _ := strings.Cut(text, " "); return name }
	address := func(text string) netip.Addr {
		_, a, named := strings.Cut(text, " ")
		if !named {
			a = text
		}
		return netip.MustParseAddr(a)
	}
	seen := []netip.Addr{address(f.src)}
	for _, e := range states {
		src, ok := endIn(e, f.src)
		dst, good := endIn(e, f.dst)
		if ok && good {
			seen = append(seen, reading.SeenAs(e, src, dst)...)
		}
	}
	for _, c := range d.Changes {
		if c.Kind != kind {
			continue
		}
		at, peers := name(f.dst), seen
		if c.Direction == estate.Out {
			at, peers = name(f.src), []netip.Addr{address(f.dst)}
		}
		if slices.Contains(c.Instances, at) &&
			slices.ContainsFunc(peers, func(a netip.Addr) bool { return c.Traffic.Contains(a, f.p) }) {
			return true
		}
	}
	return false
}

// touched reports whether a difference tells of some change of the flow's service at one of its ends.
func (f probe) touched(d change.Difference) bool {
	return slices.ContainsFunc(d.Changes, func(c change.Change) bool {
		end := f.dst
		if c.Direction == estate.Out {
			end = f.src
		}
		name, _, _ := strings.Cut(end, " ")
		return slices.Contains(c.Instances, name) && c.Traffic.Services().Contains(f.p)
	})
}

func someFlows(random *rand.Rand, before, after *estate.Estate, n int) []probe {
	var ends []string
	for _, e := range []*estate.Estate{before, after} {
		for _, x := range reading.Ends(e) {
			if text := x.At.Instance.Path() + " " + x.Addr.String(); !slices.Contains(ends, text) {
				ends = append(ends, text)
			}
		}
	}
	outside := []string{"192.0.2.77", "192.0.2.200", "203.0.113.9", "198.51.100.200", "172.16.0.9"}
	points := []service.Point{service.PointOf(6, 22), service.PointOf(6, 80), service.PointOf(6, 443),
		service.PointOf(6, 8080), service.PointOf(17, 53), service.PointOf(1, 8<<8), service.PointOf(132, 9),
		service.PointOf(6, 40000)}
	var flows []probe
	for range n {
		f := probe{ends[random.IntN(len(ends))], ends[random.IntN(len(ends))], points[random.IntN(len(points))]}
		switch random.IntN(4) {
		case 0:
			f.src = outside[random.IntN(len(outside))]
		case 1:
			f.dst = outside[random.IntN(len(outside))]
		}
		if a, _, _ := strings.Cut(f.src, " "); !strings.HasPrefix(f.dst, a+" ") {
			flows = append(flows, f)
		}
	}
	return flows
}

// verdictOf is what becomes of an example, by any addresses of its ends.
func verdictOf(e *estate.Estate, from, to string, p service.Point) string {
	var all []string
	ends := func(text string) []reading.End {
		if a, err := netip.ParseAddr(text); err == nil {
			return []reading.End{{Addr: a}}
		}
		return slices.DeleteFunc(reading.Ends(e), func(x reading.End) bool {
			return x.At.Instance.Path() != text && fmt.Sprintf("%s (%s)", x.At.Instance.Path(), x.Addr) != text
		})
	}
	for _, src := range ends(from) {
		for _, dst := range ends(to) {
			if src.Addr.Is4() == dst.Addr.Is4() {
				all = append(all, reading.Verdict(e, src, dst, p))
			}
		}
	}
	return fmt.Sprint(all)
}
