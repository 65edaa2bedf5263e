package law_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
)

// Peers as definitions write them, and which of the samples they hold. The
// list known is 192.0.2.0/24; samples stand for every way to be in or out of them.
var samples = []string{"192.0.2.1", "192.0.2.200", "198.51.100.7", "203.0.113.1", "2001:db8::5", "10.0.0.9"}

var sampled = map[string]string{
	"everyone":       "192.0.2.1 192.0.2.200 198.51.100.7 203.0.113.1 2001:db8::5 10.0.0.9",
	"everyone v4":    "192.0.2.1 192.0.2.200 198.51.100.7 203.0.113.1 10.0.0.9",
	"everyone v6":    "2001:db8::5",
	"list known":     "192.0.2.1 192.0.2.200",
	"192.0.2.128/25": "192.0.2.200",
	"198.51.100.7":   "198.51.100.7",
	"10.0.0.0/8":     "10.0.0.9",
	"internet":       "198.51.100.7 203.0.113.1 2001:db8::5",
}

// Laws about openings agree with asking, for each group, every sample on every
// port; what is told as the example is let through and is what the law is about.
func TestLawsAgreeWithEveryPeer(t *testing.T) {
	random := rand.New(rand.NewPCG(8, 2))
	pick := func(words ...string) string { return words[random.IntN(len(words))] }
	written := []string{"everyone", "everyone v4", "everyone v6", "list known", "192.0.2.128/25", "198.51.100.7",
		"10.0.0.0/8"}
	ports := func() (int, int) { from := 1 + random.IntN(3); return from, from + random.IntN(2) }
	type opening struct {
		from, to int
		peers    string
	}
	broken, held := 0, 0
	for range 400 {
		var rules []opening
		text := "group g in n {\n"
		for range random.IntN(4) {
			o := opening{peers: pick(written...)}
			o.from, o.to = ports()
			rules = append(rules, o)
			text += fmt.Sprintf(" admit tcp %d-%d from %s\n", o.from, o.to, o.peers)
		}
		kind := pick("never", "only")
		l := opening{peers: pick(append(written, "internet", "internet")...)}
		l.from, l.to = ports()
		except := ""
		if kind == "never" && random.IntN(3) == 0 && l.peers != "internet" {
			except = pick("list known", "10.0.0.0/8", "198.51.100.7")
		}
		text += fmt.Sprintf("}\nlaw l { %s admit tcp %d-%d from %s", kind, l.from, l.to, l.peers)
		if except != "" {
			text += " except " + except
		}
		text += " }"
		// A law about the internet is about what is open to it, not to a few of its addresses, in
		// the family that is open.
		open := func(peer string, port int) bool {
			return slices.ContainsFunc(rules, func(r opening) bool {
				return port >= r.from && port <= r.to && strings.HasPrefix(r.peers, "everyone") &&
					slices.Contains(strings.Fields(sampled[r.peers]), peer)
			})
		}
		forbidden := func(peer string, port int) bool {
			meant := (l.peers != "internet" || open(peer, port)) &&
				slices.Contains(strings.Fields(sampled[l.peers]), peer) &&
				!slices.Contains(strings.Fields(sampled[except]), peer)
			return meant && (port >= l.from && port <= l.to) == (kind == "never")
		}
		admitted := func(peer string, port int) bool {
			return slices.ContainsFunc(rules, func(r opening) bool {
				return port >= r.from && port <= r.to && slices.Contains(strings.Fields(sampled[r.peers]), peer)
			})
		}
		want := true
		for _, peer := range samples {
			for port := 1; port <= 6; port++ {
				want = want && !(forbidden(peer, port) && admitted(peer, port))
			}
		}
		verdicts, _ := judged(t, text)
		if verdicts[0].Holds() != want {
			t.Fatalf("%s\nholds %v, peer by peer %v: %+v", text, verdicts[0].Holds(), want, verdicts[0].Breaches)
		}
		if want {
			held++
			continue
		}
		broken++
		for _, b := range verdicts[0].Breaches {
			_, port := b.Witness.Service.Split()
			peer := b.Witness.Peer
			i := slices.IndexFunc(samples, func(s string) bool { return like(netip.MustParseAddr(s), peer) })
			if !forbidden(samples[i], int(port)) || !admitted(samples[i], int(port)) {
				t.Fatalf("%s\nthe example %v %v shows nothing", text, peer, b.Witness.Service)
			}
		}
	}
	if broken < 50 || held < 50 {
		t.Errorf("%d laws were broken and %d held: the test tells little", broken, held)
	}
}

// like reports whether an address is in the same of the peers as a sample is.
func like(sample, a netip.Addr) bool {
	if sample.Is4() != a.Is4() {
		return false
	}
	for _, r := range []string{"192.0.2.128/25", "192.0.2.0/24", "198.51.100.7/32", "10.0.0.0/8"} {
		p := netip.MustParsePrefix(r)
		if p.Contains(sample) != p.Contains(a) {
			return false
		}
	}
	return true
}
