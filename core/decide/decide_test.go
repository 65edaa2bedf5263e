package decide_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/store"
)

// small reads testdata/small.jsonl: two peered networks, one that is not, a
// private line, nat with and without an address, a balancer.
func small(t testing.TB) *decide.Decider {
	f, err := os.Open(filepath.Join("testdata", "small.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	e, warnings, err := store.ReadSurvey(f, "small.jsonl")
	if err != nil || len(warnings) > 0 {
		t.Fatal(err, warnings)
	}
	return decide.New(e)
}

func point(t testing.TB, text string) service.Point {
	spec, err := service.ParseSpec(text)
	if err != nil {
		t.Fatal(err)
	}
	first, _ := service.Of(spec).First()
	return first
}

func TestTrace(t *testing.T) {
	d := small(t)
	for _, x := range []struct{ from, to, service, want, why string }{
		// Within a network, by group, both ends.
		{"web-1", "db-1", "tcp 5432", "passes", ""},
		{"web-1", "db-1", "tcp 5433", "stopped", "lets out"},
		{"db-1", "web-1", "tcp 443", "stopped", "lets out"},
		{"web-1", "web-1", "tcp 1", "passes", ""},
		{"10.1.1.5", "10.1.2.5", "tcp 5432", "passes", ""},
		// From and to the outside.
		{"192.0.2.7", "web-1", "tcp 443", "passes", ""},
		{"192.0.2.7", "web-1", "tcp 22", "stopped", "admits"},
		{"192.0.2.7", "198.51.100.5", "tcp 443", "passes", ""},
		{"192.0.2.7", "db-1", "tcp 5432", "no-route", "public IPv4"},
		{"2001:db8::9", "web-1", "tcp 443", "no-route", "no public IPv6"},
		{"web-1", "192.0.2.7", "tcp 443", "passes", ""},
		{"db-1", "192.0.2.7", "tcp 443", "no-route", "no public IPv4 address to go out"},
		{"203.0.113.200", "web-1", "tcp 443", "no-route", "drop"}, // the more specific route drops
		// Private addresses that nobody has; the private line.
		{"web-1", "10.1.1.99", "tcp 443", "no-route", "nobody"},
		{"10.1.1.99", "web-1", "tcp 443", "no-route", "nobody"},
		{"172.16.5.5", "web-1", "tcp 443", "no-route", "no private line"},
		{"172.16.5.5", "far-1", "tcp 22", "passes", ""},
		{"far-1", "172.16.5.5", "tcp 443", "passes", ""},
		{"far-1", "172.17.5.5", "tcp 443", "no-route", "no route"},
		// Peered both ways, routed both ways.
		{"web-1", "far-1", "tcp 8080", "passes", ""},
		{"far-1", "web-1", "tcp 443", "passes", ""},
		{"db-1", "far-1", "tcp 8080", "no-route", "no route"},
		{"web-1", "lone-1", "tcp 443", "no-route", "not peered"},
		// Group peers match across the peering, and not from elsewhere.
		{"far-1", "web-1", "tcp 8081", "passes", ""},
		// Nothing attached: the default group is attached.
		{"lone-1", "lone-2", "tcp 9999", "passes", ""},
		{"192.0.2.7", "lone-1", "tcp 9999", "stopped", "admits"},
		// Out and in again: the source is public then, so a group does not match.
		{"lone-1", "198.51.100.5", "tcp 443", "passes", ""},
		{"far-1", "198.51.100.5", "tcp 8081", "stopped", "admits"},
		{"nat-1", "198.51.100.5", "tcp 443", "undecided", "nat"},
		{"nat-2", "198.51.100.5", "tcp 443", "passes", ""},
		{"192.0.2.7", "nat-2", "tcp 443", "no-route", "public"},
		// Filtering switched off.
		{"192.0.2.7", "open-1", "udp 4000", "passes", ""},
		// Balancers: a listener, its own filters, then the targets.
		{"192.0.2.7", "door", "tcp 443", "passes", ""},
		{"192.0.2.7", "door", "tcp 80", "no-route", "no listener"},
		{"192.0.2.7", "door", "tcp 8443", "stopped", "admits"},
		// ICMP and other protocols.
		{"web-1", "db-1", "icmp 8/0", "passes", ""},
		{"web-1", "db-1", "icmp 8/3", "passes", ""},
		{"web-1", "db-1", "icmp 13/0", "stopped", "lets out"},
		{"web-1", "db-1", "protocol 47", "stopped", "lets out"},
		// IPv6.
		{"fd00:1::5", "db-1", "tcp 5432", "passes", ""},
		// Ids and paths.
		{"i-1", "one/i-2", "tcp 5432", "passes", ""},
	} {
		a, err := d.Trace(decide.Question{Source: x.from, Destination: x.to, Service: point(t, x.service)})
		if err != nil {
			t.Errorf("%s → %s %s: %v", x.from, x.to, x.service, err)
			continue
		}
		text := a.Why().Text
		for _, s := range a.Steps {
			if s.Verdict == a.Verdict {
				text += " " + s.Text
			}
		}
		if string(a.Verdict) != x.want || !strings.Contains(text, x.why) {
			t.Errorf("%s → %s %s: %s (%s), want %s (%s)", x.from, x.to, x.service, a.Verdict, text, x.want, x.why)
		}
	}
}

func TestTraceRefusesWrongQuestions(t *testing.T) {
	d := small(t)
	for _, x := range []struct{ from, to, service, want string }{
		{"wbe-1", "db-1", "tcp 1", "web-1"},
		{"192.0.2.1", "192.0.2.2", "tcp 1", "neither"},
		{"192.0.2.1", "fd00:1::5", "tcp 1", "no address family in common"},
		{"::ffff:10.1.1.5", "db-1", "tcp 1", "plain IPv4"},
		{"web-1", "10.1.2.5", "icmpv6 128/0", "ask for icmp"},
		{"fd00:1::5", "fd00:1::2:5", "icmp 8/0", "ask for icmpv6"},
		{"twin", "db-1", "tcp 1", "one/twin or two/twin"},
		{"web-1", "10.9.0.5", "tcp 1", "say which by name"},
	} {
		_, err := d.Trace(decide.Question{Source: x.from, Destination: x.to, Service: point(t, x.service)})
		if err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s → %s: error %v, want %q", x.from, x.to, err, x.want)
		}
	}
}

// Sets and single flows are decided by different code; they must agree on every
// pair of ends and on services at both sides of every border.
func TestSetsAgreeWithFlows(t *testing.T) {
	d := small(t)
	services := []string{"tcp 0", "tcp 22", "tcp 443", "tcp 5432", "tcp 8080", "tcp 8081", "tcp 65535", "udp 0",
		"udp 4000", "protocol 47", "icmp 8/0", "icmp 13/0"}
	var ends []decide.End
	for _, i := range d.Estate().Instances {
		for _, f := range i.Interfaces {
			for _, a := range slices.Concat(f.Private, f.Public) {
				ends = append(ends, decide.End{Interface: f, Addr: a})
			}
		}
	}
	for _, text := range []string{"192.0.2.7", "203.0.113.200", "172.16.5.5", "10.1.1.99", "2001:db8::9"} {
		ends = append(ends, decide.End{Addr: netip.MustParseAddr(text)})
	}
	asked := 0
	for _, from := range ends {
		for _, to := range ends {
			if from.Addr.Is4() != to.Addr.Is4() || from.Outside() && to.Outside() ||
				!to.Outside() && to.Interface.Instance.Kind == estate.Balancer {
				continue
			}
			set := d.Between(from, to)
			for _, text := range services {
				p := point(t, text)
				if from.Addr.Is6() && strings.HasPrefix(text, "icmp") {
					continue
				}
				asked++
				flow := d.Flow(from, to, p)
				if passes := flow.Verdict == decide.Passes; passes != set.Contains(p) {
					t.Errorf("%s → %s %s: flow %s, in the set %v", from, to, text, flow.Verdict, set.Contains(p))
				}
				if from.Outside() && addr.Public.Contains(from.Addr) && !to.Outside() &&
					slices.Contains(to.Interface.Private, to.Addr) {
					if arrives := d.Arriving(to.Interface).Contains(from.Addr,
						p); arrives != (flow.Verdict == decide.Passes) {
						t.Errorf("%s → %s %s: flow %s, arriving %v", from, to, text, flow.Verdict, arrives)
					}
				}
			}
		}
	}
	if asked < 1000 {
		t.Errorf("only %d questions asked", asked)
	}
}

// Random groups, decided as sets, against rule by rule on every address and port of a small universe.
func TestGroupTrafficAgreesWithEnumeration(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 8))
	account := &estate.Account{Name: "a", Cloud: &estate.Cloud{Name: "c", Dialect: "union"}}
	network := &estate.Network{Account: account, Name: "n"}
	for range 300 {
		g := &estate.Group{Account: account, Network: network, Name: "g", For: estate.ForInstances, Defined: true}
		for range random.IntN(6) {
			from := uint16(random.IntN(8))
			r := estate.Rule{Direction: estate.In,
				Action:   []estate.Action{estate.Admit, estate.Admit, estate.Refuse}[random.IntN(3)],
				Services: []service.Spec{service.Ports(service.TCP, from, from+uint16(random.IntN(4)))}}
			for range 1 + random.IntN(2) {
				a := netip.AddrFrom4([4]byte{10, 0, 0, byte(random.IntN(8))})
				r.Peers = append(r.Peers,
					estate.Peer{Kind: estate.PeerRange, Range: netip.PrefixFrom(a, 29+random.IntN(4)).Masked()})
			}
			if random.IntN(3) == 0 {
				r.Except = []estate.Peer{{Kind: estate.PeerRange,
					Range: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 0, 0, byte(random.IntN(8))}), 31).Masked()}}
			}
			g.Rules = append(g.Rules, r)
		}
		d := decide.New(&estate.Estate{Groups: []*estate.Group{g}})
		set := d.GroupTraffic(g, estate.In)
		for last := range 8 {
			for port := range uint16(12) {
				a, p := netip.AddrFrom4([4]byte{10, 0, 0, byte(last)}), service.PointOf(service.TCP, port)
				if got, want := set.Contains(a, p), firstFitAdmits(g, a, port); got != want {
					t.Fatalf("%v: %s tcp %d is let in: %v, want %v", g.Rules, a, port, got, want)
				}
			}
		}
	}
}

// firstFitAdmits decides as the language's page says, one rule after the other.
func firstFitAdmits(g *estate.Group, a netip.Addr, port uint16) bool {
	holds := func(peers []estate.Peer) bool {
		return slices.ContainsFunc(peers, func(p estate.Peer) bool { return p.Range.Contains(a) })
	}
	for _, r := range g.Rules {
		if holds(r.Peers) && !holds(r.Except) && r.Services[0].From <= port && port <= r.Services[0].To {
			return r.Action == estate.Admit
		}
	}
	return false
}

func TestStrangers(t *testing.T) {
	d := small(t)
	for text, want := range map[string]bool{
		"192.0.2.7":    true,
		"198.51.100.5": false, // web-1's own
		"203.0.113.9":  false, // in the list partners
		"10.1.1.5":     false,
	} {
		if got := d.Strangers().Contains(netip.MustParseAddr(text)); got != want {
			t.Errorf("%s is a stranger: %v", text, got)
		}
	}
	// A list that holds everybody names nobody.
	half := &estate.List{Name: "all", Entries: []estate.Entry{{Range: netip.MustParsePrefix("0.0.0.0/1")}}}
	all := decide.New(&estate.Estate{Lists: []*estate.List{half}})
	if !all.Strangers().Equal(addr.Public) {
		t.Error("a list with half of the internet hides strangers")
	}
}

func TestBreadth(t *testing.T) {
	strangers := addr.Public
	for _, x := range []struct {
		text string
		open bool
	}{{"0.0.0.0/0", true}, {"192.0.0.0/3", true}, {"192.0.0.0/8", false}, {"2000::/3", true}, {"2001:db8::/32",
		false}, {"10.0.0.0/8", false}} {
		b := decide.BreadthOf(addr.OfPrefixes(netip.MustParsePrefix(x.text)), strangers)
		if b.AtLeast(decide.OpenBreadth) != x.open {
			t.Errorf("%s: breadth %v, open %v", x.text, b, !x.open)
		}
	}
}

func BenchmarkTrace(b *testing.B) {
	d := small(b)
	q := decide.Question{Source: "web-1", Destination: "db-1", Service: point(b, "tcp 5432")}
	for b.Loop() {
		if _, err := d.Trace(q); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkNew(b *testing.B) {
	for _, n := range []int{1_000, 10_000, 100_000} {
		e := &estate.Estate{}
		account := &estate.Account{Name: "a", Cloud: &estate.Cloud{Dialect: "union"}}
		subnet := &estate.Subnet{Network: &estate.Network{Account: account}}
		g := &estate.Group{Account: account, Network: subnet.Network}
		for i := range n {
			instance := &estate.Instance{Account: account, Name: fmt.Sprint(i)}
			a := netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)})
			instance.Interfaces = []*estate.Interface{{Instance: instance, Subnet: subnet, Private: []netip.Addr{a},
				Groups: []*estate.Group{g}}}
			e.Instances = append(e.Instances, instance)
		}
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				decide.New(e).Strangers()
			}
		})
	}
}

// A probe is shut where the balancer's or the target's filters stop it, or there
// is no way; listeners that ask nothing, and targets that are reached, are not told.
func TestShutTargets(t *testing.T) {
	spec := func(text string) service.Spec {
		s, err := service.ParseSpec(text)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	for _, x := range []struct {
		probe, target string
		want          decide.Verdict // empty: the probe arrives, or there is none
		at            string
	}{
		{"", "web-1", "", ""},
		{"tcp 443", "web-1", "", ""},
		{"tcp 22", "web-1", decide.Stopped, "door"}, // the balancer's own group does not let it out
		{"tcp 443", "db-1", decide.Stopped, "door"},
		{"tcp 443", "nat-1", decide.NoRoute, ""}, // no route back
		{"icmp 8/0", "web-1", decide.Stopped, "door"},
	} {
		d := small(t)
		e := d.Estate()
		i := slices.IndexFunc(e.Instances, func(i *estate.Instance) bool { return i.Kind == estate.Balancer })
		target := e.Instances[slices.IndexFunc(e.Instances,
			func(i *estate.Instance) bool { return i.Name == x.target })]
		e.Instances[i].Listeners =
			[]estate.Listener{{Service: spec("tcp 443"), Targets: []*estate.Instance{target}, Port: 443}}
		if x.probe != "" {
			e.Instances[i].Listeners[0].Probe = spec(x.probe)
		}
		shut := slices.DeleteFunc(decide.New(e).ShutTargets(), func(s decide.ShutTarget) bool { return !s.Probe })
		if len(shut) == 0 && x.want == "" {
			continue
		}
		if len(shut) != 1 || shut[0].Answer.Verdict != x.want || shut[0].Answer.Why().At != x.at ||
			shut[0].Target.Name != x.target {
			t.Errorf("%s to %s: %+v, want %s at %s", x.probe, x.target, shut, x.want, x.at)
		}
	}
}
