package law_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"isonomos/core/decide"
	"isonomos/core/law"
	"isonomos/core/service"
	"isonomos/nomos"
	"isonomos/nomos/propose"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/store"
)

// Four instances of three groups, some met from outside over IPv4, one over
// IPv6, one not at all, on a cloud of either kind of filter.
const randomSurvey = `{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z"}
{"kind":"cloud","name":"c","dialect":"%s"}
{"kind":"account","name":"a","cloud":"c"}
{"kind":"network","account":"a","id":"n","ranges":["10.0.0.0/16"]}
{"kind":"subnet","account":"a","network":"n","id":"s","ranges":["10.0.1.0/24"],"routes":[{"to":"0.0.0.0/0","via":"internet"},{"to":"192.0.2.0/30","via":"drop"}]}
{"kind":"subnet","account":"a","network":"n","id":"d","ranges":["10.0.2.0/24"],"routes":[{"to":"::/0","via":"internet"}]}
{"kind":"instance","account":"a","id":"g1","labels":{"role":"g"},"interfaces":[{"id":"f1","subnet":"s","private":["10.0.1.1"],"public":["198.51.100.1"],"groups":[]}]}
{"kind":"instance","account":"a","id":"g2","labels":{"role":"g"},"interfaces":[{"id":"f2","subnet":"d","private":["10.0.2.2"],"public":["2001:db8:7::2"],"groups":[]}]}
{"kind":"instance","account":"a","id":"h1","labels":{"role":"h"},"interfaces":[{"id":"f3","subnet":"s","private":["10.0.1.3"],"public":["198.51.100.3"],"groups":[]}]}
{"kind":"instance","account":"a","id":"j1","labels":{"role":"j"},"interfaces":[{"id":"f4","subnet":"d","private":["10.0.2.4"],"groups":[]}]}
`

// What is proved agrees with asking about every flow one by one: every pair of
// instances, every address of the lists, three ports.
func TestProveAgreesWithEveryFlow(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 9))
	pick := func(words ...string) string { return words[random.IntN(len(words))] }
	held := map[string][2]int{} // of each form, how often it failed and held
	for round := range 300 {
		dialect := pick("union", "ranked")
		var text strings.Builder
		fmt.Fprintf(&text, "cloud c { dialect %s }\naccount a { cloud c }\nnetwork n in a { range 10.0.0.0/16\n subnet s 10.0.1.0/24\n subnet d 10.0.2.0/24 }\n", dialect)
		lists := map[string]netip.Prefix{}
		for _, name := range []string{"k", "l"} {
			p := netip.PrefixFrom(netip.AddrFrom4([4]byte{192, 0, 2, byte(random.IntN(8))}), 29+random.IntN(4)).Masked()
			if random.IntN(4) == 0 {
				p = netip.MustParsePrefix("2001:db8:9::4/127")
			}
			lists[name] = p
			fmt.Fprintf(&text, "list %s { %s }\n", name, p)
		}
		for _, g := range []string{"g", "h", "j"} {
			fmt.Fprintf(&text, "group %s in n { cover where role = %s\n", g, g)
			for range 1 + random.IntN(4) {
				verb := pick("admit", "admit", "admit", "refuse")
				if dialect == "union" {
					verb = "admit"
				}
				at := " from "
				if random.IntN(2) == 0 {
					verb, at = strings.Replace(verb, "admit", "reach", 1), " at "
				}
				fmt.Fprintf(&text, " %s tcp %s%s%s\n", verb, pick("1", "2", "3", "1-2", "2-3", "1-3"), at, pick("everyone", "everyone", "everyone v4", "group g", "group h", "group j", "list k", "list l", "192.0.2.0/30", "10.0.0.0/16"))
			}
			text.WriteString("}\n")
		}
		var asked []string
		for range 8 {
			outside := pick("internet", "list k", "list l")
			from, to := pick("g", "h", "j"), pick("g", "h", "j")
			switch random.IntN(3) {
			case 0:
				from = outside
			case 1:
				to = outside
			}
			if from != outside && to != outside && random.IntN(2) == 0 || from == outside && from != "internet" && random.IntN(3) == 0 {
				asked = append(asked, fmt.Sprintf("expect only %s can reach %s on tcp %s", from, to, pick("1", "2", "3")))
				continue
			}
			asked = append(asked, fmt.Sprintf("expect %s %s reach %s on tcp %s", from, pick("can", "cannot"), to, pick("1", "2", "3", "1-3")))
		}
		text.WriteString(strings.Join(asked, "\n"))
		d := nomos.Understand([]*source.File{source.NewFile("x.nomos", text.String())}, resolve.Options{Now: time.Unix(0, 0)})
		for _, m := range d.Messages {
			if !m.Warning {
				t.Fatal(m)
			}
		}
		survey, _, err := store.ReadSurvey(strings.NewReader(fmt.Sprintf(randomSurvey, dialect)), "s")
		if err != nil {
			t.Fatal(err)
		}
		w := propose.NewWorld(d, survey)
		o := onebyone{decide.New(w.Estate), lists}
		for i, r := range law.Prove(w.Estate, w.Expects) {
			fields := strings.Fields(strings.NewReplacer("list ", "").Replace(asked[i])) // expect FROM can reach TO on tcp PORTS
			var want bool
			switch services := w.Expects[i].Services; {
			case fields[1] == "only":
				fields = append(fields[1:2:2], fields[2], fields[5]) // only FROM TO
				want = o.only(fields[1], fields[2], services) && o.can(fields[1], fields[2], services)
			case fields[2] == "can":
				fields = []string{"can", fields[1], fields[4]}
				want = o.can(fields[1], fields[2], services)
			default:
				fields = []string{"cannot", fields[1], fields[4]}
				want = o.cannot(fields[1], fields[2], services)
			}
			if r.Holds != want {
				t.Fatalf("round %d, %s: %s\nholds %v, flow by flow %v (note %q, witness %v)", round, text.String(), asked[i], r.Holds, want, r.Note, r.Witness)
			}
			if !r.Holds && r.Witness != nil && fields[0] != "only" && (r.Witness.Verdict == decide.Passes) == (fields[0] == "can") {
				t.Fatalf("%s: the witness %v shows nothing", asked[i], r.Witness)
			}
			form := fields[0] + " " + strings.NewReplacer("g", "group", "h", "group", "j", "group", "k", "list", "l", "list", "internet", "internet").Replace(fields[1]+" "+fields[2])
			count := held[form]
			if r.Holds {
				count[1]++
			} else {
				count[0]++
			}
			held[form] = count
		}
	}
	for form, count := range held {
		if count[0] == 0 || count[1] == 0 {
			t.Errorf("%s failed %d times and held %d: the test tells nothing", form, count[0], count[1])
		}
	}
}

// onebyone decides expectations by single flows.
type onebyone struct {
	*decide.Decider
	lists map[string]netip.Prefix
}

// ends are those that a name stands for, by families: of the internet one
// address that no definition names, over each.
func (o onebyone) ends(name string) (all []decide.End) {
	switch {
	case name == "internet":
		return []decide.End{{Addr: netip.MustParseAddr("192.0.2.77")}, {Addr: netip.MustParseAddr("2001:db8::77")}}
	case o.lists[name].IsValid():
		for a := o.lists[name].Addr(); o.lists[name].Contains(a); a = a.Next() {
			all = append(all, decide.End{Addr: a})
		}
		return all
	}
	for _, i := range o.Estate().Instances {
		if i.Labels["role"] == name {
			for _, f := range i.Interfaces {
				all = append(all, decide.End{Interface: f})
			}
		}
	}
	return all
}

// flows are the ends of flows between two, by family: an interface is met from
// outside by its public address, and all else goes by the first of the family.
func (o onebyone) flows(from, to decide.End) (four, six *[2]decide.End) {
	own := func(e decide.End, v6 bool) (decide.End, bool) {
		if e.Outside() {
			return e, e.Addr.Is6() == v6
		}
		for _, a := range append(append([]netip.Addr(nil), e.Interface.Private...), e.Interface.Public...) {
			if a.Is6() == v6 {
				return decide.End{Interface: e.Interface, Addr: a}, true
			}
		}
		return e, false
	}
	for _, v6 := range []bool{false, true} {
		x, okX := own(from, v6)
		y, okY := own(to, v6)
		if okX && okY {
			if v6 {
				six = &[2]decide.End{x, y}
			} else {
				four = &[2]decide.End{x, y}
			}
		}
	}
	return four, six
}

// passes reports whether all, or any, of the services pass.
func (o onebyone) passes(ends *[2]decide.End, services service.Set, all bool) bool {
	for port := uint16(1); port <= 3; port++ {
		p := service.PointOf(service.TCP, port)
		if services.Contains(p) && (o.Flow(ends[0], ends[1], p).Verdict == decide.Passes) != all {
			return !all
		}
	}
	return all
}

func (o onebyone) cannot(from, to string, services service.Set) bool {
	for _, a := range o.ends(from) {
		for _, b := range o.ends(to) {
			if (a.Outside() || b.Outside() || a.Interface.Instance != b.Interface.Instance) && o.any(a, b, services) {
				return false
			}
		}
	}
	return true
}

// only wants that nobody else gets through: no instance of the other groups, no
// stranger, and no address near the lists that is not in the one that may.
func (o onebyone) only(from, to string, services service.Set) bool {
	for _, g := range []string{"g", "h", "j", "internet"} {
		if g != from && g != to && !o.cannot(g, to, services) {
			return false
		}
	}
	for last := range byte(16) {
		for _, a := range []netip.Addr{netip.AddrFrom4([4]byte{192, 0, 2, last}), netip.MustParseAddr(fmt.Sprintf("2001:db8:9::%x", last))} {
			if o.lists[from].IsValid() && o.lists[from].Contains(a) {
				continue
			}
			for _, i := range o.ends(to) {
				if o.any(decide.End{Addr: a}, i, services) {
					return false
				}
			}
		}
	}
	return true
}

// can wants each interface of the one side to meet each of the other; of the
// internet one of its addresses, of a list every address of the families over
// which the interface is met, if there is such a one.
func (o onebyone) can(from, to string, services service.Set) bool {
	for _, a := range o.ends(from) {
		if a.Outside() {
			continue
		}
		for _, b := range o.ends(to) {
			if !b.Outside() && a.Interface.Instance != b.Interface.Instance && !o.either(a, b, services) {
				return false
			}
		}
	}
	inside, outside, inward := to, from, true
	if _, list := o.lists[to]; list || to == "internet" {
		inside, outside, inward = from, to, false
	} else if _, list := o.lists[from]; !list && from != "internet" {
		return true
	}
	for _, i := range o.ends(inside) {
		any, all := false, true
		for _, x := range o.ends(outside) {
			a, b := i, x
			if inward {
				a, b = x, i
			}
			pass := o.either(a, b, services)
			any, all = any || pass, all && pass
		}
		if !any || !all && outside != "internet" {
			return false
		}
	}
	return true
}

// any reports whether some service passes over some family.
func (o onebyone) any(a, b decide.End, services service.Set) bool {
	four, six := o.flows(a, b)
	return four != nil && o.passes(four, services, false) || six != nil && o.passes(six, services, false)
}

// either reports whether all services pass over one family.
func (o onebyone) either(a, b decide.End, services service.Set) bool {
	four, six := o.flows(a, b)
	return four != nil && o.passes(four, services, true) || six != nil && o.passes(six, services, true)
}
