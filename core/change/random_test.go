package change_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"isonomos/core/change"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
	"isonomos/demo"
)

// What is said to open and to close between two random groups agrees with asking
// every kind of peer on every port, both ways; and the one way is the other backwards.
func TestDifferencesAgreeWithEveryPeer(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	pick := func(words ...string) string { return words[random.IntN(len(words))] }
	samples := []string{"192.0.2.1", "192.0.2.200", "198.51.100.7", "203.0.113.1", "2001:db8::5", "10.0.0.9"}
	holds := map[string]string{
		"everyone":       strings.Join(samples, " "),
		"everyone v4":    "192.0.2.1 192.0.2.200 198.51.100.7 203.0.113.1 10.0.0.9",
		"everyone v6":    "2001:db8::5",
		"list known":     "192.0.2.1 192.0.2.200",
		"192.0.2.128/25": "192.0.2.200",
		"network":        "10.0.0.9",
	}
	words := []string{"everyone", "everyone v4", "everyone v6", "list known", "192.0.2.128/25", "network"}
	type rule struct {
		direction estate.Direction
		from, to  uint16
		peers     string
	}
	group := func() (string, []rule) {
		var rules []rule
		text := "group g in n {\n"
		for range random.IntN(4) {
			r := rule{peers: pick(words...), from: uint16(1 + random.IntN(3)), direction: estate.In}
			r.to = r.from + uint16(random.IntN(2))
			verb, at := "admit", "from"
			if random.IntN(3) == 0 {
				r.direction, verb, at = estate.Out, "reach", "at"
			}
			rules = append(rules, r)
			text += fmt.Sprintf("  %s tcp %d-%d %s %s\n", verb, r.from, r.to, at, r.peers)
		}
		return text + "}\n", rules
	}
	through := func(rules []rule, direction estate.Direction, peer string, port uint16) bool {
		for _, r := range rules {
			if r.direction == direction && port >= r.from && port <= r.to &&
				strings.Contains(" "+holds[r.peers]+" ", " "+peer+" ") {
				return true
			}
		}
		return false
	}
	differ := 0
	for range 300 {
		was, wasRules := group()
		is, isRules := group()
		before, after := decide.New(defined(t, was, nil)), decide.New(defined(t, is, nil))
		there, back := change.Compare(before, after), change.Compare(after, before)
		same := true
		for _, direction := range []estate.Direction{estate.In, estate.Out} {
			opens, closes := of(there, direction)
			if reopened, reclosed := of(back, direction); !opens.Equal(reclosed) || !closes.Equal(reopened) {
				t.Fatalf("from\n%sto\n%sis not the way back", was, is)
			}
			for _, peer := range samples {
				for port := uint16(1); port <= 5; port++ {
					a, p := netip.MustParseAddr(peer), service.PointOf(service.TCP, port)
					x, y := through(wasRules, direction, peer, port), through(isRules, direction, peer, port)
					if opens.Contains(a, p) != (!x && y) || closes.Contains(a, p) != (x && !y) {
						t.Fatalf("from\n%sto\n%s%s %s tcp %d: before %v, after %v, opens %v, closes %v", was, is,
							direction, peer, port, x, y, opens.Contains(a, p), closes.Contains(a, p))
					}
					if x != y {
						differ++
					}
				}
			}
			same = same && opens.IsEmpty() && closes.IsEmpty()
		}
		if there.Empty() != same {
			t.Fatalf("from\n%sto\n%sempty is %v", was, is, there.Empty())
		}
	}
	if differ < 1000 {
		t.Errorf("only %d samples differ: the test tells little", differ)
	}
}

// of is what a difference opens and closes in a direction.
func of(d change.Difference, direction estate.Direction) (opens, closes traffic.Set) {
	for _, c := range d.Changes {
		switch {
		case c.Direction != direction:
		case c.Kind == change.Opens:
			opens = opens.Union(c.Traffic)
		case c.Kind == change.Closes:
			closes = closes.Union(c.Traffic)
		}
	}
	return opens, closes
}

// Where a state changes by a step at a time, what is said to differ is what the groups
// let through in the one and the other, worked out for all of them: the quick ways by
// which most groups are passed over hide nothing.
func TestNothingThatDiffersIsPassedOver(t *testing.T) {
	now, _ := demo.Generate(demo.Size{Accounts: 6, Groups: 80, Instances: 120, Rules: 500, Seed: 9})
	random := rand.New(rand.NewPCG(4, 4))
	told := 0
	for range 60 {
		then, _, _ := estate.Overlay(&estate.Estate{}, now, nil)
		for range 1 + random.IntN(3) {
			switch random.IntN(3) {
			case 0: // something is attached otherwise
				i := then.Instances[random.IntN(len(then.Instances))]
				if f := i.Interfaces[0]; len(f.Groups) > 0 {
					f.Groups = f.Groups[1:]
				}
			case 1: // a list has other entries
				if l := then.Lists[random.IntN(len(then.Lists))]; len(l.Entries) > 1 {
					l.Entries = l.Entries[1:]
				}
			default: // a rule goes
				if g := then.Groups[random.IntN(len(then.Groups))]; len(g.Rules) > 0 {
					g.Rules = g.Rules[1:]
				}
			}
		}
		before, after := decide.New(now), decide.New(then)
		want := make(map[string]bool)
		for k, x := range now.Groups {
			y := then.Groups[k]
			for _, direction := range []estate.Direction{estate.In, estate.Out} {
				if !before.GroupTraffic(x, direction).Equal(after.GroupTraffic(y, direction)) {
					want[fmt.Sprint(x.Path(), direction)] = true
				}
			}
		}
		got := change.Compare(before, after)
		said := make(map[string]bool)
		for _, c := range got.Changes {
			if at := fmt.Sprint(c.Place(), c.Direction); c.Group != nil && !said[at] {
				said[at] = true
				if told++; !want[at] {
					t.Errorf("%s %s is said to differ", c.Place(), c.Direction)
				}
			}
		}
		for path := range want {
			if !said[path] {
				t.Errorf("%s differs and is passed over", path)
			}
		}
	}
	if told < 100 {
		t.Errorf("only %d differences: the test tells little", told)
	}
}
