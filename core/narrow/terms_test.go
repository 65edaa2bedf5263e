package narrow

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// saidOn are the new rules with the reasons and ends that they keep.
func saidOn(p Proposal) string {
	var rules []string
	for _, r := range p.New {
		text := (service.Names{}).Describe(r.Services) + " from " + r.PeerWords() + " for " + r.Terms.Rules[0].Description
		if !r.Terms.Until().IsZero() {
			text += " until " + r.Terms.Until().Format(time.DateOnly)
		}
		rules = append(rules, text)
	}
	return strings.Join(rules, "; ")
}

func day(text string) time.Time {
	if text == "" {
		return time.Time{}
	}
	t, err := time.Parse(time.DateOnly, text)
	if err != nil {
		panic(err)
	}
	return t
}

func (b *bench) rules(rules ...string) { // "FROM-TO PEERS UNTIL REASON"
	b.group.Rules = nil
	for _, text := range rules {
		f := strings.Fields(text)
		var from, to uint16
		fmt.Sscanf(f[0], "%d-%d", &from, &to)
		peer := estate.Peer{Kind: estate.PeerEveryone}
		if f[1] != "everyone" {
			peer = estate.Peer{Kind: estate.PeerRange, Range: netip.MustParsePrefix(f[1])}
		}
		b.group.Rules = append(b.group.Rules, estate.Rule{Direction: estate.In, Action: estate.Admit,
			Peers: []estate.Peer{peer}, Services: []service.Spec{service.Ports(service.TCP, from, to)},
			Until: day(strings.TrimPrefix(f[2], "-")), Description: f[3]})
	}
}

// all is a subject of all rules.
func (b *bench) all() Subject {
	s := Subject{Group: b.group, Direction: estate.In}
	for i := range b.group.Rules {
		s.Rules = append(s.Rules, &b.group.Rules[i])
	}
	return s
}

// Every new rule keeps the reason and the end of one that let the same through: of several, of the one that
// lasts.
func TestReasonsAndEndsAreKept(t *testing.T) {
	b := newBench()
	flows := b.flows("10.0.0.1 7000 xxx", "203.0.113.7 7300 xxx", "203.0.113.7 9000 xxx", "100.64.0.7 9000 xxx")
	for _, x := range []struct {
		rules []string
		want  string
	}{
		{[]string{"7000-7000 everyone 2026-12-31 cluster", "7000-7500 everyone - legacy"},
			"tcp 7000 from self for legacy; tcp 7300 from 203.0.113.7 for legacy"},
		{[]string{"7000-7000 everyone - cluster", "7000-7500 everyone 2026-12-31 legacy"},
			"tcp 7000 from self for cluster; tcp 7300 from 203.0.113.7 for legacy until 2026-12-31"},
		{[]string{"7000-7000 everyone - cluster", "7000-7500 everyone - legacy"},
			"tcp 7000 from self for cluster; tcp 7300 from 203.0.113.7 for legacy"},
		{[]string{"7000-7500 everyone 2027-01-31 long", "7000-7300 everyone 2026-12-31 short"},
			"tcp 7000 from self for long until 2027-01-31; tcp 7300 from 203.0.113.7 for long until 2027-01-31"},
		{[]string{"9000-9000 0.0.0.0/1 2027-03-01 first", "9000-9000 128.0.0.0/1 - second"},
			"tcp 9000 from 203.0.113.7 for second; tcp 9000 from 100.64.0.7 for first until 2027-03-01"},
	} {
		b.rules(x.rules...)
		p := New(decide.New(&b.Estate), Options{Flows: flows}).Propose(b.all())
		if got := saidOn(p); got != x.want {
			t.Errorf("%v: got %s, want %s", x.rules, got, x.want)
		}
	}
	// A rule beside the subject that ends is no reason to stop what is needed afterwards.
	b.rules("7000-7000 everyone - cluster", "7000-7500 everyone 2026-12-31 legacy")
	s := b.all()
	s.Rules = s.Rules[:1]
	p := New(decide.New(&b.Estate), Options{Flows: flows}).Propose(s)
	if got := saidOn(p); got != "tcp 7000 from self for cluster" {
		t.Errorf("beside a rule that ends: %s", got)
	}
	b.group.Rules[1].Until = time.Time{}
	p = New(decide.New(&b.Estate), Options{Flows: flows}).Propose(s)
	if got := saidOn(p); got != "" || p.Elsewhere.Flows != 3 {
		t.Errorf("beside a rule that stays: %s", got)
	}
}

// Whatever rules end when: at every moment nothing more is let through than without narrowing, and all that is
// needed and was let through still is.
func TestEveryMoment(t *testing.T) {
	random := rand.New(rand.NewPCG(19, 1))
	ends := []string{"-", "2026-12-31", "2027-06-30", "2028-01-31"}
	peers := []string{"everyone", "0.0.0.0/1", "192.0.2.0/24", "10.0.0.0/16"}
	narrowed := 0
	for range 400 {
		b := newBench()
		b.addGroup("web", "10.0.0.10", "10.0.0.11")
		var rules []string
		for i := range 1 + random.IntN(5) {
			from := 7000 + random.IntN(4)
			rules = append(rules, fmt.Sprintf("%d-%d %s %s reason%d", from, from+random.IntN(3), peers[random.IntN(4)],
				ends[random.IntN(4)], random.IntN(2)+i%2))
		}
		b.rules(rules...)
		var flows []string
		for _, from := range []string{"10.0.0.10", "192.0.2.7", "192.0.2.8", "203.0.113.9"} {
			if random.IntN(3) > 0 {
				flows = append(flows, fmt.Sprintf("%s %d xxx", from, 7000+random.IntN(6)))
			}
		}
		s := b.all()
		s.Rules = slices.DeleteFunc(s.Rules, func(*estate.Rule) bool { return random.IntN(3) == 0 })
		if len(s.Rules) == 0 {
			continue
		}
		d := decide.New(&b.Estate)
		p := New(d, Options{Flows: b.flows(flows...)}).Propose(s)
		after := slices.DeleteFunc(slices.Clone(b.group.Rules), func(r estate.Rule) bool {
			return slices.ContainsFunc(s.Rules, func(x *estate.Rule) bool {
				return x.Description == r.Description && x.Until.Equal(r.Until) && slices.Equal(x.Services, r.Services) &&
					slices.Equal(x.Peers, r.Peers)
			})
		})
		for _, r := range p.New {
			after = append(after, r.Rule(s))
		}
		at := func(rules []estate.Rule, end time.Time) traffic.Set {
			alive := slices.DeleteFunc(slices.Clone(rules),
				func(r estate.Rule) bool { return !r.Until.IsZero() && !r.Until.After(end) })
			return d.Supposing(b.group, alive).GroupTraffic(b.group, estate.In)
		}
		for _, end := range ends {
			moment := day(strings.TrimPrefix(end, "-"))
			before, now := at(b.group.Rules, moment), at(after, moment)
			if !now.SubsetOf(before) {
				t.Fatalf("%v: %s opens something at %s", rules, saidOn(p), end)
			}
			if !p.Needed().Intersect(before).SubsetOf(now) {
				t.Fatalf("%v: %s stops something needed at %s", rules, saidOn(p), end)
			}
		}
		if len(p.New) > 1 {
			narrowed++
		}
	}
	if narrowed < 30 {
		t.Errorf("only %d became several rules: the test tells little", narrowed)
	}
}

// flowsOf sums records of one way each.
func flowsOf(records ...flow.Record) *flow.Summary {
	sum := new(flow.Summary)
	for _, r := range records {
		r.ReplyKnown, r.Opened = true, flow.BySource
		sum.Add(&r)
	}
	return sum
}

// What looks like probing is left out, and what only has no recorded answer is not; a sweep is left out even
// from inside, a service that is used is not.
func TestProbingAndSweeps(t *testing.T) {
	b := newBench()
	b.addGroup("scanner", "10.0.0.77")
	stranger, scanner, here := netip.MustParseAddr("203.0.113.7"), netip.MustParseAddr("10.0.0.77"),
		netip.MustParseAddr("10.0.0.1")
	var sweep []flow.Record
	for port := range uint16(40) {
		sweep = append(sweep, flow.Record{Start: 1000 + int64(port), Source: scanner, Destination: here,
			Protocol: service.TCP, Port: 7000 + port, Packets: 1, Bytes: 60, ReplyPackets: 1, ReplyBytes: 40})
	}
	for _, x := range []struct {
		name    string
		records []flow.Record
		want    string
		why     Reason
	}{
		{"TCP of which one way was recorded", times(5, flow.Record{Source: stranger, Destination: here,
			Protocol: service.TCP, Port: 7001, Packets: 400, Bytes: 300000}), "tcp 7001 from 203.0.113.7", ""},
		{"refused by the machine", times(5, flow.Record{Source: stranger, Destination: here, Protocol: service.TCP,
			Port: 7001, Packets: 1, Bytes: 60, ReplyPackets: 1, ReplyBytes: 40}), "", Probing},
		{"a log that nobody answers", times(5, flow.Record{Source: stranger, Destination: here, Protocol: service.UDP,
			Port: 514, Packets: 1, Bytes: 180}), "syslog-udp from 203.0.113.7", ""},
		{"empty datagrams", times(5, flow.Record{Source: stranger, Destination: here, Protocol: service.UDP, Port: 514,
			Packets: 1, Bytes: 28}), "", Probing},
		{"a sweep", sweep, "", Sweep},
		{"a sweep, and a service that is used", append(sweep, times(9, flow.Record{Source: scanner, Destination: here,
			Protocol: service.TCP, Port: 7003, Packets: 40, Bytes: 9000, ReplyPackets: 30, ReplyBytes: 9000})...),
			"tcp 7003 from group scanner", Sweep},
	} {
		p := b.with(Options{Flows: flowsOf(x.records...)})
		got := strings.Replace(said(p), "syslog from", "syslog-udp from", 1)
		if got != x.want && !strings.HasPrefix(x.want, "syslog") || (x.why == "") != (len(p.Noise.List) == 0) ||
			x.why != "" && p.Noise.List[0].Why != x.why || x.want != "" && got == "" {
			t.Errorf("%s: got %q, left out %+v", x.name, got, p.Noise.List)
		}
		if p.Seen != p.Flows+p.Declared+p.Elsewhere.Flows+p.Noise.Flows {
			t.Errorf("%s: the sums do not agree: %+v", x.name, p)
		}
	}
}

// times are records of a flow on so many days.
func times(n int, r flow.Record) (all []flow.Record) {
	for i := range n {
		r.Start = int64(i) * 86400
		all = append(all, r)
	}
	return all
}

// The outgoing address of an own network is no stranger.
func TestTranslatedAddresses(t *testing.T) {
	b := newBench()
	far := &estate.Network{Account: b.group.Account, Name: "far", Ranges: []netip.Prefix{netip.MustParsePrefix("10.60.0.0/16")}}
	far.Subnets = []*estate.Subnet{{Network: far, Name: "f", Ranges: far.Ranges, Routes: []estate.Route{{
		To: netip.MustParsePrefix("0.0.0.0/0"), Via: estate.ViaNAT, Address: netip.MustParseAddr("192.0.2.250")}}}}
	b.Networks = append(b.Networks, far)
	if p := b.propose("192.0.2.250 443 x", "192.0.2.251 443 x"); said(p) != "https from 192.0.2.250" {
		t.Error(said(p))
	}
	if whose := OwnersIn(decide.New(&b.Estate)).Of(netip.MustParseAddr("192.0.2.250")); whose !=
		"outgoing address of network far" {
		t.Error(whose)
	}
}

// Long rules are offered with a shorter one and what that lets in more; what was to be dropped and is held by a
// name is told.
func TestShorterAndHeld(t *testing.T) {
	b := newBench()
	var flows []string
	for i := range 20 {
		flows = append(flows, fmt.Sprintf("198.51.100.%d 443 xx", 1+5*i), fmt.Sprintf("203.0.113.7 %d xx", 7000+2*i))
	}
	p := b.propose(flows...)
	if len(p.Shorter) != 2 {
		t.Fatalf("%+v", p.Shorter)
	}
	for _, s := range p.Shorter {
		if ports := s.Rule.Services.Contains(service.PointOf(service.TCP, 7000)); ports && (s.Ports == 0 || s.Parts > 3) ||
			!ports && (s.Addresses == 0 || s.Parts > shortRule) || !s.Rule.traffic().SubsetOf(p.Before) {
			t.Errorf("%+v", s)
		}
	}
	b.addList("partners", "198.51.100.0/28")
	p = b.with(Options{Flows: b.flows("198.51.100.3 443 xxx", "198.51.100.4 443 xxx"),
		Drop: []Wanted{{service.All, addr.Of(netip.MustParseAddr("198.51.100.4")), "it"}}})
	if said(p) != "https from list partners" || len(p.Held) != 1 || p.Held[0].Peers.String() != "198.51.100.4" {
		t.Errorf("%s, held %+v", said(p), p.Held)
	}
}
