package narrow

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/flow"
	"isonomos/core/law"
	"isonomos/core/service"
)

func (b *bench) with(o Options) Proposal {
	return New(decide.New(&b.Estate), o).Propose(Subject{b.group, estate.In, []*estate.Rule{&b.group.Rules[0]}})
}

func tcp(port uint16) service.Set { return service.Of(service.Ports(service.TCP, port, port)) }

// needsOf are needs in words: source, services and how many peers.
func needsOf(p Proposal) string {
	var words []string
	for _, n := range p.Needs {
		mark := ""
		if n.Whole {
			mark = " whole"
		}
		words = append(words, fmt.Sprintf("%s %s%s", n.Source, n.Services, mark))
	}
	return strings.Join(words, "; ")
}

// What balancers in front declare: what they hand on and probe; and what a balancer
// itself listens on at a public address, unless it is for administration or data.
func TestBalancersDeclareNeeds(t *testing.T) {
	b := newBench()
	b.addGroup("door", "10.0.0.5")
	door, own := b.Instances[1], b.Instances[0]
	door.Kind = estate.Balancer
	door.Listeners = []estate.Listener{{Service: service.Ports(service.TCP, 443, 443), Port: 8443,
		Probe: service.Ports(service.TCP, 9000, 9000), Targets: []*estate.Instance{own}}}
	if p := b.with(Options{}); said(p) != "https-alt, tcp 9000 from group door" ||
		needsOf(p) != "declared tcp 8443; declared tcp 9000" {
		t.Errorf("the target: %s (%s)", said(p), needsOf(p))
	}
	own.Kind, own.Listeners = estate.Balancer,
		[]estate.Listener{{Service: service.Ports(service.TCP, 443, 443)},
			{Service: service.Ports(service.TCP, 22, 22)}}
	door.Listeners = nil
	if p := b.with(Options{}); said(p) != "" {
		t.Errorf("a balancer without a public address: %s", said(p))
	}
	own.Interfaces[0].Public = []netip.Addr{netip.MustParseAddr("192.0.2.1")}
	if p := b.with(Options{}); said(p) != "https from everyone" {
		t.Errorf("a balancer with a public address: %s (%s)", said(p), needsOf(p))
	}
}

// A law that lets a service be open keeps it where the rule is about just that, or
// where strangers use it; a permission alone is no need.
func TestLawsPermit(t *testing.T) {
	only := []law.Law{{Name: "web",
		Only: []law.Opening{{Direction: estate.In, Services: tcp(443), Words: "https",
			Peers: law.Side{Of: []estate.Peer{{Kind: estate.PeerInternet}}}}}}}
	b := newBench()
	if p := b.with(Options{Laws: only}); said(p) != "" {
		t.Errorf("nobody uses it: %s", said(p))
	}
	if p := b.with(Options{Laws: only, Flows: b.flows("203.0.113.7 443 xx")}); said(p) != "https from everyone" {
		t.Errorf("a stranger uses it: %s", said(p))
	}
	b.group.Rules[0].Services = []service.Spec{service.Ports(service.TCP, 443, 443)}
	if p := b.with(Options{Laws: only}); said(p) != "https from everyone" || needsOf(p) != "declared tcp 443 whole" {
		t.Errorf("the rule is about it: %s", said(p))
	}
}

func TestKeepDropAndDays(t *testing.T) {
	b := newBench()
	b.addGroup("desk", "10.0.0.9")
	flows := b.flows("203.0.113.7 22 xxx", "203.0.113.8 22 x", "203.0.113.9 22 oo", "10.0.0.9 80 x")
	one := addr.Of(netip.MustParseAddr("203.0.113.8"))
	for _, x := range []struct {
		o       Options
		want    string
		leftOut string
	}{
		{Options{}, "ssh from 203.0.113.7; http from group desk", "203.0.113.8 seen once, 203.0.113.9 looks like probing"},
		{Options{Keep: []Wanted{{tcp(22), one, "that one"}}}, "ssh from 203.0.113.7, 203.0.113.8; http from group desk",
			"203.0.113.9 looks like probing"},
		{Options{Drop: []Wanted{{service.All, addr.OfPrefixes(netip.MustParsePrefix("203.0.113.0/24")), "them"}}},
			"http from group desk", "203.0.113.7 dropped on request, 203.0.113.8 dropped on request, 203.0.113.9 " +
				"dropped on request"},
		{Options{MinDays: 2}, "ssh from 203.0.113.7",
			"203.0.113.8 seen once, 203.0.113.9 looks like probing, 10.0.0.9 seen on too few days"},
	} {
		x.o.Flows = flows
		p := b.with(x.o)
		var left []string
		for _, l := range p.Noise.List {
			left = append(left, l.Peer.String()+" "+string(l.Why))
		}
		if said(p) != x.want || strings.Join(left, ", ") != x.leftOut {
			t.Errorf("got %s, left out %v; want %s, %s", said(p), left, x.want, x.leftOut)
		}
	}
}

// A stranger is judged by all it did with the group, not with one instance.
func TestStrangersAreJudgedByGroup(t *testing.T) {
	b := newBench()
	var sum flow.Summary
	for i := range 3 {
		a := netip.AddrFrom4([4]byte{10, 0, 0, byte(100 + i)})
		instance := &estate.Instance{Account: b.group.Account, Name: a.String()}
		instance.Interfaces = []*estate.Interface{{Instance: instance, Subnet: b.subnet, Private: []netip.Addr{a},
			Groups: []*estate.Group{b.group}}}
		b.Instances = append(b.Instances, instance)
		sum.Add(&flow.Record{Source: netip.MustParseAddr("203.0.113.7"), Destination: a, Protocol: service.TCP,
			Port: 22, ReplyKnown: true, ReplyPackets: 1, Opened: flow.BySource})
	}
	if p := b.with(Options{Flows: &sum}); said(p) != "ssh from 203.0.113.7" || p.Flows != 3 {
		t.Errorf("once with each of three instances: %s", said(p))
	}
}

// What very many strangers use will be used by more: it stays as it is, unless it
// is for administration or data, which is never meant for the public.
func TestPublicUse(t *testing.T) {
	b := newBench()
	var web, ssh, office []string
	for i := range 30 {
		marks := "x"
		if i%3 > 0 {
			marks = "xxxx"
		}
		web = append(web, fmt.Sprintf("8.%d.113.7 443 %s", i+1, marks))
		ssh = append(ssh, fmt.Sprintf("8.%d.113.7 22 %s", i+1, marks))
		office = append(office, fmt.Sprintf("203.0.113.%d 443 %s", i+1, marks))
	}
	if p := b.with(Options{Flows: b.flows(web...)}); said(p) != "https from everyone" ||
		!strings.Contains(p.Needs[0].Text, "20 strangers") || len(p.Needs[0].Narrow) != 20 {
		t.Errorf("a site: %s (%s)", said(p), needsOf(p))
	}
	if p := b.with(Options{Flows: b.flows(web...), Closed: true}); strings.Contains(said(p), "everyone") {
		t.Errorf("never public: %s", said(p))
	}
	if p := b.with(Options{Flows: b.flows(office...)}); strings.Contains(said(p), "everyone") || said(p) == "" {
		t.Errorf("an office: %s", said(p))
	}
	if p := b.with(Options{Flows: b.flows(append(web[:3:3], ones(84)...)...)}); said(p) == "https from everyone" {
		t.Errorf("three clients and many who came once: %s", said(p))
	}
	if p := b.with(Options{Flows: b.flows(ssh...)}); strings.Contains(said(p), "everyone") || said(p) == "" {
		t.Errorf("administration: %s", said(p))
	}
}

// ones are strangers that came once.
func ones(n int) (flows []string) {
	for i := range n {
		flows = append(flows, fmt.Sprintf("9.%d.4.5 443 x", i+1))
	}
	return flows
}

// What another group of the same instance lets through by itself is no need of this one.
func TestOtherGroupsLetThrough(t *testing.T) {
	b := newBench()
	desk := b.addGroup("desk")
	desk.Rules = []estate.Rule{{Direction: estate.In, Action: estate.Admit,
		Services: []service.Spec{service.Ports(service.TCP, 22, 22)},
		Peers:    []estate.Peer{{Kind: estate.PeerRange, Range: netip.MustParsePrefix("203.0.113.0/28")}}}}
	b.Instances[0].Interfaces[0].Groups = append(b.Instances[0].Interfaces[0].Groups, desk)
	o := Options{Flows: b.flows("203.0.113.7 22 xxx", "203.0.113.99 22 xxx")}
	if p := b.with(o); said(p) != "ssh from 203.0.113.99" || p.Elsewhere.Flows != 3 ||
		!slices.Equal(p.Elsewhere.Groups, []string{"desk"}) {
		t.Errorf("got %s, elsewhere %+v", said(p), p.Elsewhere)
	}
	// Not so if that group's rule is narrowed at the same time.
	o.Subjects = []Subject{{b.group, estate.In, []*estate.Rule{&b.group.Rules[0]}},
		{desk, estate.In, []*estate.Rule{&desk.Rules[0]}}}
	n := New(decide.New(&b.Estate), o)
	p := n.Propose(o.Subjects[0])
	if said(p) != "ssh from 203.0.113.7, 203.0.113.99" {
		t.Errorf("both narrowed, the first: %s", said(p))
	}
	n.Settle(&p)
	if p = n.Propose(o.Subjects[1]); said(p) != "" {
		t.Errorf("both narrowed, the second can leave it to the first: %s", said(p))
	}
}

// Administration by few from outside can be lent for their longest session, rounded
// up; own machines keep standing access.
func TestLending(t *testing.T) {
	b := newBench()
	b.addGroup("hosts", "10.0.0.9")
	var sum flow.Summary
	for day := range int64(5) {
		for _, src := range []string{"203.0.113.7", "203.0.113.8", "10.0.0.9"} {
			sum.Add(&flow.Record{Start: 86400 * day, End: 86400*day + 3700, Source: netip.MustParseAddr(src),
				Destination: netip.MustParseAddr("10.0.0.1"), Protocol: service.TCP, Port: 22, ReplyKnown: true,
				ReplyPackets: 1, Opened: flow.BySource})
		}
	}
	p := b.with(Options{Flows: &sum})
	l := p.Lending
	if said(p) != "ssh from group hosts, 203.0.113.7, 203.0.113.8" || l == nil || l.Taken || l.Users != 2 ||
		l.Sessions != 10 || l.Days != 5 || l.AtMost != 2*time.Hour || l.Longest != 3700*time.Second {
		t.Errorf("offered: %s, %+v", said(p), l)
	}
	p = b.with(Options{Flows: &sum, Lend: true})
	if said(p) != "ssh from group hosts" || p.Lending == nil || !p.Lending.Taken || len(p.Lending.Rules) != 1 || len(p.Lending.Rules[0].Choices) != 2 ||
		!p.Needed().Equal(p.After) {
		t.Errorf("taken: %s, %+v", said(p), p.Lending)
	}
	if p := b.with(Options{Flows: b.flows("203.0.113.7 443 xxx")}); p.Lending != nil {
		t.Errorf("the web is not lent: %+v", p.Lending)
	}
}

// What one group lends need not be lent by a wider one too.
func TestWhatIsLentIsSettled(t *testing.T) {
	b := newBench()
	desk := b.addGroup("desk")
	desk.Rules = []estate.Rule{{Direction: estate.In, Action: estate.Admit, Peers: b.group.Rules[0].Peers,
		Services: []service.Spec{service.Ports(service.TCP, 22, 22)}}}
	b.Instances[0].Interfaces[0].Groups = append(b.Instances[0].Interfaces[0].Groups, desk)
	o := Options{Flows: b.flows("203.0.113.7 22 xxx"), Lend: true}
	o.Subjects = []Subject{{desk, estate.In, []*estate.Rule{&desk.Rules[0]}},
		{b.group, estate.In, []*estate.Rule{&b.group.Rules[0]}}}
	n := New(decide.New(&b.Estate), o)
	p := n.Propose(o.Subjects[0])
	if p.Lending == nil || !p.Lending.Taken {
		t.Fatalf("the first lends: %+v", p)
	}
	n.Settle(&p)
	if p = n.Propose(o.Subjects[1]); p.Lending != nil || said(p) != "" || p.Elsewhere.Flows != 3 {
		t.Errorf("the second: %s, %+v", said(p), p.Lending)
	}
}

// A window that is too short for what comes weekly or monthly is told.
func TestRhythm(t *testing.T) {
	b := newBench()
	b.addGroup("desk", "10.0.0.8", "10.0.0.9")
	days := func(source string, days ...int64) *flow.Summary {
		var sum flow.Summary
		for _, day := range days {
			sum.Add(&flow.Record{Start: 86400 * day, Source: netip.MustParseAddr(source),
				Destination: netip.MustParseAddr("10.0.0.1"), Protocol: service.TCP, Port: 443})
		}
		for day := days[0]; day <= days[len(days)-1]; day++ { // somebody who is there every day
			sum.Add(&flow.Record{Start: 86400 * day, Source: netip.MustParseAddr("10.0.0.8"),
				Destination: netip.MustParseAddr("10.0.0.1"), Protocol: service.TCP, Port: 443})
		}
		return &sum
	}
	for _, x := range []struct {
		flows *flow.Summary
		want  string
	}{
		{days("10.0.0.9", 100, 101, 102), "less than a week was watched (3 of 7 days)"},
		{days("10.0.0.9", 100, 107), "10.0.0.9 comes weekly: 21 days of flows would show three rounds, there are 8"},
		{days("10.0.0.9", 100, 130, 160),
			"10.0.0.9 comes monthly: 93 days of flows would show three rounds, there are 61"},
		{days("10.0.0.9", 100, 101, 104, 105, 106, 107, 108, 111, 120), ""},
	} {
		p := b.with(Options{Flows: x.flows})
		if got := strings.Join(p.Rhythm, "; "); !strings.HasPrefix(got, x.want) || x.want == "" && got != "" {
			t.Errorf("got %q, want %q", got, x.want)
		}
	}
}

func TestWeights(t *testing.T) {
	b := newBench()
	b.addList("partners", "198.51.100.0/28", "203.0.113.8/32")
	o := Options{Flows: b.flows("198.51.100.3 22 xx"), Weights: DefaultWeights}
	if p := b.with(o); said(p) != "ssh from list partners" {
		t.Errorf("by the usual weights: %s", said(p))
	}
	for _, text := range []string{"list=20", "entry=0.5"} {
		name, value, _ := strings.Cut(text, "=")
		if err := o.Weights.Set(name, value); err != nil {
			t.Fatal(err)
		}
	}
	if p := b.with(o); said(p) != "ssh from 198.51.100.3" {
		t.Errorf("where lists are dear: %s", said(p))
	}
	for name, want := range map[string]string{"strangers": `"stranger" is near`, "zzz": "the weights are group"} {
		if err := o.Weights.Set(name, "1"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, value := range []string{"", "x", "-1", "NaN", "1e10"} {
		if err := o.Weights.Set("list", value); err == nil {
			t.Errorf("the weight %q is taken", value)
		}
	}
}
