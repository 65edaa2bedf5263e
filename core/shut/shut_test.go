package shut_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/shut"
	"isonomos/core/traffic"
	"isonomos/internal/reading"
	"isonomos/store"
)

// A pier is an estate with one instance, whose only group has some rules, as a survey.
func pier(t *testing.T, dialect, rules, limits string) *estate.Estate {
	t.Helper()
	network := `,"network":"n"`
	if dialect == "flat" {
		network = ""
	}
	text := fmt.Sprintf(`{"kind":"survey","version":1,"estate":"pier","taken":"2026-11-20T06:00:00Z"}
{"kind":"cloud","name":"c","dialect":%q}
{"kind":"account","name":"a","cloud":"c"%s}
{"kind":"network","account":"a","id":"n","name":"n","ranges":["10.1.0.0/16"]}
{"kind":"subnet","account":"a","network":"n","id":"s","name":"s","ranges":["10.1.1.0/24"],"routes":[{"to":"0.0.0.0/0","via":"internet"},{"to":"::/0","via":"internet"}]}
{"kind":"list","account":"a","id":"l","name":"known","owner":"own","entries":["192.0.2.0/24"]}
{"kind":"instance","account":"a","id":"i","name":"one","type":"machine","interfaces":[{"id":"f","subnet":"s","private":["10.1.1.5","2001:db8:1::5"],"groups":["g"],"filtered":true}]}
{"kind":"instance","account":"a","id":"j","name":"two","type":"machine","interfaces":[{"id":"h","subnet":"s","private":["10.1.1.6"],"groups":["m"],"filtered":true}]}
{"kind":"group","account":"a"%s,"id":"g","name":"g","for":"instances"}
{"kind":"group","account":"a"%s,"id":"m","name":"m","for":"instances"}
%s`, dialect, limits, network, network, rules)
	e, _, err := store.ReadSurvey(strings.NewReader(text), "pier")
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	return e
}

// randomRules are rules of the group g, as its cloud may have them.
func randomRules(random *rand.Rand, dialect string) string {
	peers := []string{"0.0.0.0/0", "::/0", "192.0.2.0/25", "198.51.100.7/32", "10.0.0.0/8", "2001:db8::/32", "0.0.0.0/1",
		"group:m", "list:l"}
	services := []string{"tcp 20-25", "tcp 22", "udp 53", "any", "tcp", "tcp 443"}
	var b strings.Builder
	for n := range 1 + random.IntN(4) {
		peer, direction, action, extra := peers[random.IntN(len(peers))], "in", "admit", ""
		if random.IntN(4) == 0 {
			direction = "out"
		}
		if dialect == "ranked" {
			if random.IntN(4) == 0 {
				action = "refuse"
			}
			extra = fmt.Sprintf(`,"rank":%d`, 100+10*random.IntN(5)+n)
		}
		fmt.Fprintf(&b, `{"kind":"rule","account":"a","group":"g","id":"r%d","direction":%q,"action":%q,"peers":[%q],"services":[%q]%s}`+"\n",
			n, direction, action, peer, services[random.IntN(len(services))], extra)
	}
	return b.String()
}

// What is too much goes, and nothing else: asked packet by packet of a second reading, of the rules as they are written
// to the cloud and read from it again; in each dialect.
func TestExactlyTheRestStays(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 9))
	points := []service.Point{service.PointOf(6, 19), service.PointOf(6, 20), service.PointOf(6, 22), service.PointOf(6, 25),
		service.PointOf(6, 26), service.PointOf(6, 443), service.PointOf(17, 53), service.PointOf(17, 54)}
	var peers []netip.Addr
	for _, text := range []string{"192.0.2.1", "192.0.2.200", "198.51.100.7", "198.51.100.8", "10.1.1.6", "10.9.9.9",
		"203.0.113.9", "2001:db8::9", "2600::1", "127.0.0.1"} {
		peers = append(peers, netip.MustParseAddr(text))
	}
	exact, refused, packets := 0, 0, 0
	for _, dialect := range []string{"union", "ranked", "layered", "flat"} {
		none := pier(t, dialect, "", "")
		for range 120 {
			text := randomRules(random, dialect)
			e := pier(t, dialect, text, "")
			d, g := decide.New(e), e.Groups[0]
			much := shut.TooMuch{}
			for _, direction := range []estate.Direction{estate.In, estate.Out} {
				sets := []addr.Set{d.Strangers(), addr.OfPrefixes(netip.MustParsePrefix("198.51.100.0/24")),
					addr.OfPrefixes(netip.MustParsePrefix("10.0.0.0/8")), addr.Everyone}
				specs := []string{"tcp 22", "tcp 20-25", "any", "udp 53"}
				spec, err := service.ParseSpec(specs[random.IntN(len(specs))])
				if err != nil {
					t.Fatal(err)
				}
				much[direction] = traffic.Of(sets[random.IntN(len(sets))], service.Of(spec)).
					Intersect(d.GroupTraffic(g, direction))
			}
			rules, err := shut.Rules(d, g, much, false)
			var inexact *shut.InexactError
			if errors.As(err, &inexact) {
				refused++
				continue
			}
			if err != nil {
				t.Fatal(err)
			}
			exact++
			var written strings.Builder
			for i := range rules {
				if !rules[i].BuiltIn {
					written.WriteString(store.RuleLine(g, &rules[i]))
				}
			}
			after := pier(t, dialect, written.String(), "")
			for _, direction := range []estate.Direction{estate.In, estate.Out} {
				for _, peer := range peers {
					for _, p := range points {
						was := reading.Filter(e, e.Instances[0].Interfaces[0], direction, peer, p)
						is := reading.Filter(after, after.Instances[0].Interfaces[0], direction, peer, p)
						switch {
						case !much[direction].Contains(peer, p):
						case dialect == "ranked": // what is built in is refused too
							was = "stopped"
						default: // other layers may let it through
							was = reading.Filter(none, none.Instances[0].Interfaces[0], direction, peer, p)
						}
						if packets++; was != is {
							t.Fatalf("%s, %s %s %s: %s instead of %s, of what was too much: %v\n%sbecame\n%s", dialect, direction,
								peer, p, is, was, much[direction].Contains(peer, p), text, written.String())
						}
					}
				}
			}
		}
	}
	t.Logf("%d exact, %d refused, %d packets", exact, refused, packets)
	if exact < 300 || refused < 10 {
		t.Errorf("%d exact, %d refused: that tests too little", exact, refused)
	}
}

// Where the rest can't be said, it is refused with the reason; with whole, the rule goes.
func TestWhole(t *testing.T) {
	for _, x := range []struct{ dialect, rules, limits, why string }{
		{"union", `{"kind":"rule","account":"a","group":"g","id":"r","direction":"in","peers":["group:m"],"services":["tcp 22"]}`,
			"", "only a part of group m goes"},
		{"union", `{"kind":"rule","account":"a","group":"g","id":"r","direction":"in","peers":["10.0.0.0/8"],"services":["tcp 22"]}`,
			`,"limits":{"rules-per-direction":1}`, "more than its quota allows"},
	} {
		e := pier(t, x.dialect, x.rules, x.limits)
		d, g := decide.New(e), e.Groups[0]
		much := shut.TooMuch{estate.In: traffic.Of(addr.OfPrefixes(netip.MustParsePrefix("10.1.1.6/32")), service.All)}
		if strings.Contains(x.why, "part") { // of a member one of two addresses
			e.Instances[1].Interfaces[0].Private = append(e.Instances[1].Interfaces[0].Private, netip.MustParseAddr("10.1.1.7"))
			d = decide.New(e)
		}
		if _, err := shut.Rules(d, g, much, false); err == nil || !strings.Contains(err.Error(), x.why) {
			t.Errorf("%v, want %s", err, x.why)
		}
		rules, err := shut.Rules(d, g, much, true)
		if err != nil || len(rules) != 0 {
			t.Errorf("%v %v", rules, err)
		}
	}
}

// A built-in rule is outranked where the dialect refuses; else that can't be done.
func TestBuiltIn(t *testing.T) {
	const builtIn = `{"kind":"rule","account":"a","group":"g","id":"b","rank":9100,"direction":"in","peers":["10.1.0.0/16"],"services":["any"],"built_in":true}`
	e := pier(t, "ranked", builtIn, "")
	d, g := decide.New(e), e.Groups[0]
	ssh, _ := service.ParseSpec("tcp 22")
	much := shut.TooMuch{estate.In: traffic.Of(addr.Everyone, service.Of(ssh)).Intersect(d.GroupTraffic(g, estate.In))}
	if much.IsEmpty() {
		t.Fatal("the built-in rule lets nothing through")
	}
	rules, err := shut.Rules(d, g, much, false)
	if err != nil || len(rules) != len(g.Rules)+1 || rules[0].Action != estate.Refuse {
		t.Errorf("%v %v", rules, err)
	}
	e = pier(t, "union", strings.Replace(builtIn, `"rank":9100,`, "", 1), "")
	d, g = decide.New(e), e.Groups[0]
	much[estate.In] = traffic.Of(addr.Everyone, service.Of(ssh)).Intersect(d.GroupTraffic(g, estate.In))
	if _, err := shut.Rules(d, g, much, true); err == nil || !strings.Contains(err.Error(), "built-in rule") {
		t.Errorf("%v", err)
	}
}
