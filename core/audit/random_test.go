package audit_test

import (
	"fmt"
	"math/big"
	"math/rand/v2"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"testing"

	"isonomos/core/addr"
	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/demo"
)

// asked are services of every class that the checks of openness part.
var asked = []struct {
	text  string
	check string // that tells of it where it is open
}{{"tcp 22", "open-admin-port"}, {"tcp 5432", "open-data-port"}, {"tcp 143", "open-cleartext"}, {"tcp 443",
	"open-inbound"}, {"udp 9999", "open-inbound"}, {"icmp 8/0", "open-inbound"}}

// randomGroup adds rules to a group that are made of blocks of the internet, so
// that it can be counted by hand what they add up to.
func randomGroup(random *rand.Rand, ranked bool) string {
	var b strings.Builder
	for k := range 1 + random.IntN(9) {
		peers := fmt.Sprintf("%d.0.0.0/%d", 16*random.IntN(14), 4+random.IntN(5))
		switch random.IntN(6) {
		case 0:
			peers = "0.0.0.0/0"
		case 1:
			peers = fmt.Sprintf("%d.0.0.0/1", 128*random.IntN(2))
		case 2:
			peers = "10.3.0.0/16"
		}
		spec := asked[random.IntN(len(asked))].text
		if random.IntN(4) == 0 {
			spec = []string{"any", "tcp", "tcp 20-200", "tcp 143-6000"}[random.IntN(4)]
		}
		more, group := `"description":"x"`, "l/lg"
		if ranked {
			group = "r/rg"
			more += fmt.Sprintf(`,"rank":%d,"action":%q`, 100+10*k,
				[]string{"admit", "admit", "refuse"}[random.IntN(3)])
		}
		b.WriteString(strings.Replace(rule(group, "in", spec, peers, more), `"id":"`, fmt.Sprintf(`"id":"%d-`, k), 1))
	}
	return b.String()
}

// What the checks call open is what a count of the addresses, block by block and
// rule by rule, finds to be a sixteenth of all strangers or more.
func TestOpenAgreesWithCounting(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 9))
	open, shut := 0, 0
	for round := range 400 {
		ranked := round%2 == 0
		text := randomGroup(random, ranked)
		e := surveyed(t, strings.ReplaceAll(text, "\n\n", "\n"))
		d := decide.New(e)
		name := map[bool]string{true: "rg", false: "lg"}[ranked]
		g := e.Groups[slices.IndexFunc(e.Groups, func(g *estate.Group) bool { return g.ID == name })]
		found := audit.Run(d, audit.Options{Now: now, Group: g}).Findings
		for _, x := range asked {
			spec, err := service.ParseSpec(x.text)
			if err != nil {
				t.Fatal(err)
			}
			point, _ := service.Of(spec).First()
			want := countedOpen(d, g, point)
			told := slices.ContainsFunc(found, func(f audit.Finding) bool {
				return f.Services.Contains(point) && f.Direction == estate.In &&
					slices.ContainsFunc(f.Names(), func(n string) bool { return n == x.check })
			})
			if told != want {
				t.Fatalf("%s is open: %v by counting, %v by the audit (%s)\n%s", x.text, want, told, names(found), text)
			}
			if want {
				open++
			} else {
				shut++
			}
		}
	}
	if open < 200 || shut < 200 {
		t.Errorf("only %d open and %d shut services", open, shut)
	}
}

// countedOpen decides a service for one address of each /8, with nothing but the
// group's rules in order, and adds up how many strangers those hold that pass.
func countedOpen(d *decide.Decider, g *estate.Group, point service.Point) bool {
	rules := make([]*estate.Rule, len(g.Rules))
	for i := range g.Rules {
		rules[i] = &g.Rules[i]
	}
	slices.SortStableFunc(rules, func(a, b *estate.Rule) int { return a.Rank - b.Rank })
	all := d.Strangers().Only(addr.IPv4)
	passing := new(big.Int)
	for block := range 256 {
		prefix := netip.PrefixFrom(netip.AddrFrom4([4]byte{byte(block)}), 8)
		a := netip.AddrFrom4([4]byte{byte(block), 77, 1, 1})
		for _, r := range rules {
			speaks := slices.ContainsFunc(r.Services, func(s service.Spec) bool { return s.Contains(point) })
			holds := slices.ContainsFunc(r.Peers, func(p estate.Peer) bool {
				return p.Kind == estate.PeerEveryone ||
					p.Kind == estate.PeerRange && p.Range.Bits() <= 8 && p.Range.Contains(a)
			})
			if r.Direction == estate.In && speaks && holds {
				if r.Action == estate.Admit {
					passing.Add(passing, all.Intersect(addr.OfPrefixes(prefix)).Size())
				}
				break
			}
		}
	}
	return passing.Mul(passing, big.NewInt(16)).Cmp(all.Size()) >= 0
}

// However many workers there are, an audit finds the same, in the same order, with
// the same fingerprints; and rules in another order keep theirs.
func TestWorkersAgree(t *testing.T) {
	size := demo.Size{Accounts: 12, Groups: 500, Instances: 900, Rules: 5000, Seed: 11}
	told := func(workers int, turn bool) []string {
		defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(workers))
		e, _ := demo.Generate(size)
		if turn {
			for _, g := range e.Groups {
				if decide.Filter(g).FirstMatch {
					continue // there, order decides
				}
				slices.Reverse(g.Rules)
			}
		}
		var all []string
		for _, f := range audit.Run(decide.New(e), audit.Options{Now: demo.Taken}).Findings {
			all = append(all, fmt.Sprintf("%s %s %s %s %s", f.Fingerprint, f.Severity, f.Check, f.Where(), f.Message))
		}
		return all
	}
	one := told(1, false)
	for _, workers := range []int{2, 5} {
		if again := told(workers, false); !slices.Equal(one, again) {
			t.Errorf("%d workers find other things than one", workers)
		}
	}
	prints := func(list []string) map[string]bool {
		set := make(map[string]bool)
		for _, x := range list {
			if !strings.Contains(x, "overruled") { // of equal rules the later one is told
				set[x[:16]] = true
			}
		}
		return set
	}
	straight, turned := prints(one), prints(told(2, true))
	lost := 0
	for print := range straight {
		if !turned[print] {
			lost++
		}
	}
	if lost*50 > len(straight) { // findings of several rules name them in their order
		t.Errorf("%d of %d fingerprints change with the order of rules", lost, len(straight))
	}
}
