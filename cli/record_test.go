package cli_test

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"isonomos/cloud/standin"
)

// A second opinion on what clouds let through, from the stand-in's own record of all
// its states. It shares no code with the program: it reads lines of JSON, and asks
// packet by packet.

type thing struct {
	Kind, Account, Network, Group, ID, Name, For, Cloud, Dialect, Direction, Action string
	Rank                                                                            int
	Default                                                                         bool
	Ranges, Groups, Peers, Services, Entries                                        []string
	Labels                                                                          map[string]string
	Interfaces                                                                      []struct {
		ID, Subnet      string
		Private, Groups []string
	}
}

// A worldState is everything that is there at a moment, by account, kind and id.
type worldState map[[3]string]thing

func readState(t *testing.T, folder string) worldState {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(folder, standin.StateFile))
	if err != nil {
		t.Fatal(err)
	}
	w := make(worldState)
	for line := range strings.Lines(string(text)) {
		w.put(t, []byte(line))
	}
	return w
}

func (w worldState) put(t *testing.T, line []byte) {
	t.Helper()
	var head struct{ Kind string }
	var x thing
	err := json.Unmarshal(line, &head)
	if head.Kind == "network" { // whose peers are none of a rule
		var n struct {
			Account, ID, Name string
			Ranges            []string
		}
		err = json.Unmarshal(line, &n)
		x = thing{Kind: "network", Account: n.Account, ID: n.ID, Ranges: n.Ranges}
	} else if err == nil {
		err = json.Unmarshal(line, &x)
	}
	if err != nil {
		t.Fatal(err)
	}
	if x.Kind == "account" || x.Kind == "cloud" {
		x.ID, x.Account = x.Name, ""
	}
	w[[3]string{x.Account, x.Kind, x.ID}] = x
}

// states are all states since a number of changes, the one at that moment first.
func states(t *testing.T, folder string, from worldState, after int) []worldState {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(folder, standin.ChangesFile))
	if err != nil && !os.IsNotExist(err) {
		t.Fatal(err)
	}
	all := []worldState{from}
	at := ""
	for line := range strings.Lines(string(text)) {
		var c standin.Change
		if err := json.Unmarshal([]byte(line), &c); err != nil {
			t.Fatal(err)
		}
		if c.Number <= after {
			continue
		}
		now := make(worldState)
		for k, v := range all[len(all)-1] {
			now[k] = v
		}
		if c.Action == "delete" {
			delete(now, [3]string{c.Account, c.Kind, c.ID})
		} else {
			now.put(t, c.Object)
		}
		if c.At == at { // of one request
			all[len(all)-1] = now
		} else {
			all = append(all, now)
		}
		at = c.At
	}
	return all
}

// A packet goes from an address to an address of an account's network.
type packet struct {
	account, src, dst, protocol string
	port                        int
}

func (p packet) String() string {
	return fmt.Sprintf("%s: %s → %s %s %d", p.account, p.src, p.dst, p.protocol, p.port)
}

// An end is an interface.
type end struct {
	subnet string
	groups []string
}

// passing are the packets that all filters on their way let through.
func (w worldState) passing() map[packet]bool {
	let := make(map[packet]bool)
	for _, account := range w {
		if account.Kind != "account" {
			continue
		}
		v := view{w: w, account: account.Name, dialect: w[[3]string{"", "cloud", account.Cloud}].Dialect,
			ends: make(map[string]end), rules: make(map[string][]thing)}
		var own []string
		for _, x := range w {
			if x.Account != account.Name {
				continue
			}
			if x.Kind == "rule" {
				v.rules[x.Group] = append(v.rules[x.Group], x)
			}
			if x.Kind == "network" {
				v.ranges = x.Ranges
			}
			for _, f := range x.Interfaces {
				for _, a := range f.Private {
					v.ends[a] = end{f.Subnet, f.Groups}
					own = append(own, a)
				}
			}
			if x.Kind == "group" && x.Default && x.For != "subnets" {
				v.defaultGroup = x.ID
			}
		}
		others := append(slices.Clone(own), "192.0.2.1", "198.51.100.7", "198.51.100.130", "203.0.113.65")
		for _, a := range own {
			for _, b := range others {
				if a == b {
					continue
				}
				for _, s := range []struct {
					protocol string
					port     int
				}{{"tcp", 22}, {"tcp", 80}, {"tcp", 443}, {"tcp", 5432}, {"udp", 53}} {
					for _, p := range []packet{{account.Name, a, b, s.protocol, s.port},
						{account.Name, b, a, s.protocol, s.port}} {
						if v.passes(p) {
							let[p] = true
						}
					}
				}
			}
		}
	}
	return let
}

type view struct {
	w                worldState
	account, dialect string
	ends             map[string]end
	rules            map[string][]thing
	ranges           []string
	defaultGroup     string
}

func (v *view) passes(p packet) bool {
	src, inside := v.ends[p.src]
	dst, insideToo := v.ends[p.dst]
	same := inside && insideToo && src.subnet == dst.subnet
	if inside && !v.filter(src, p, "out", same) {
		return false
	}
	return !insideToo || v.filter(dst, p, "in", same)
}

// filter asks the filters of one end.
func (v *view) filter(e end, p packet, direction string, sameSubnet bool) bool {
	around := v.w[[3]string{v.account, "subnet", e.subnet}].Groups
	peer := p.src
	if direction == "out" {
		peer = p.dst
	}
	switch v.dialect {
	case "union":
		groups := e.groups
		if len(groups) == 0 {
			groups = []string{v.defaultGroup}
		}
		if !slices.ContainsFunc(groups, func(g string) bool { return v.admits(g, direction, peer, p) }) {
			return false
		}
		if len(around) == 0 || sameSubnet {
			return true
		}
		if v.first(around[0], direction, peer, p) != "admit" {
			return false
		}
		back := map[string]string{"in": "out", "out": "in"}[direction]
		for _, port := range []int{1024, 20000, 65535} { // no state is kept: the answers must get back
			if v.first(around[0], back, peer, packet{protocol: p.protocol, port: port}) != "admit" {
				return false
			}
		}
		return true
	case "ranked":
		for n, groups := range [][]string{e.groups, around} {
			if len(groups) == 0 || n == 1 && sameSubnet {
				continue
			}
			verdict := v.first(groups[0], direction, peer, p)
			if verdict == "" { // the fixed rules
				_, ours := v.ends[peer]
				verdict = map[bool]string{true: "admit", false: "refuse"}[ours || direction == "out"]
			}
			if verdict != "admit" {
				return false
			}
		}
		return true
	}
	if v.dialect == "layered" && len(around) == 0 && (direction == "out" || p.protocol == "tcp" && p.port == 22) {
		return true // the built-in list
	}
	return slices.ContainsFunc(slices.Concat(e.groups, around),
		func(g string) bool { return v.admits(g, direction, peer, p) })
}

func (v *view) admits(group, direction, peer string, p packet) bool {
	return slices.ContainsFunc(v.rules[group],
		func(r thing) bool { return r.Direction == direction && v.fits(r, peer, p) })
}

// first is what the first rule says that fits; empty where none does.
func (v *view) first(group, direction, peer string, p packet) string {
	best := thing{Rank: 1 << 30}
	for _, r := range v.rules[group] {
		if r.Direction == direction && v.fits(r, peer, p) &&
			(r.Rank < best.Rank || r.Rank == best.Rank && r.Action == "refuse") {
			best = r
		}
	}
	return best.Action
}

func (v *view) fits(r thing, peer string, p packet) bool {
	return slices.ContainsFunc(r.Services, func(s string) bool { return serves(s, p) }) &&
		slices.ContainsFunc(r.Peers, func(x string) bool { return v.means(x, peer) })
}

func serves(s string, p packet) bool {
	name, ports, some := strings.Cut(s, " ")
	if s == "any" {
		return true
	}
	if name != p.protocol {
		return false
	}
	if !some {
		return true
	}
	from, to, run := strings.Cut(ports, "-")
	if !run {
		to = from
	}
	a, _ := strconv.Atoi(from)
	b, _ := strconv.Atoi(to)
	return p.port >= a && p.port <= b
}

func (v *view) means(peer, address string) bool {
	a := netip.MustParseAddr(address)
	kind, id, _ := strings.Cut(peer, ":")
	if kind == "group" || kind == "list" {
		var family string
		if id, family, _ = strings.Cut(id, " "); family == "v6" && a.Is4() || family == "v4" && a.Is6() {
			return false
		}
	}
	holds := func(r string) bool {
		p, err := netip.ParsePrefix(r)
		return err == nil && p.Contains(a)
	}
	switch {
	case peer == "anything":
		return true
	case peer == "network":
		return slices.ContainsFunc(v.ranges, holds)
	case kind == "list":
		return slices.ContainsFunc(v.w[[3]string{v.account, "list", id}].Entries, holds)
	case kind == "group":
		e, ours := v.ends[address]
		return ours && (slices.Contains(e.groups, id) ||
			v.dialect == "union" && len(e.groups) == 0 && v.defaultGroup == id)
	}
	return holds(peer)
}

// spelt is all that counts of a state, without ids: names for groups and lists.
func (w worldState) spelt() string {
	name := make(map[string]string)
	for k, x := range w {
		if x.Kind == "group" || x.Kind == "list" {
			name[k[0]+" "+k[1]+":"+k[2]] = x.Name + "(" + x.For + ")"
		}
	}
	var lines []string
	for _, x := range w {
		delete(x.Labels, "isonomos-made") // another run has another one
		if x.Kind == "rule" {
			var peers []string
			for _, p := range x.Peers {
				referred, family, _ := strings.Cut(p, " ")
				if n := name[x.Account+" "+referred]; n != "" {
					p = strings.TrimSpace(n + " " + family)
				}
				peers = append(peers, p)
			}
			slices.Sort(peers)
			lines = append(lines, fmt.Sprint("rule ", x.Account, " ", name[x.Account+" group:"+x.Group], " ",
				x.Direction, x.Action, x.Services, peers))
		}
		var groups []string
		for _, f := range x.Interfaces {
			groups = append(groups, f.Groups...)
		}
		groups = append(groups, x.Groups...)
		for i, g := range groups {
			groups[i] = name[x.Account+" group:"+g]
		}
		slices.Sort(groups)
		if x.Kind != "rule" && x.Kind != "survey" {
			entries := slices.Sorted(slices.Values(x.Entries))
			id := x.ID
			if x.Kind == "group" || x.Kind == "list" {
				id = ""
			}
			lines = append(lines, fmt.Sprint(x.Kind, " ", x.Account, " ", id, x.Name, x.For, " ", x.Labels, groups,
				entries))
		}
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// onTheWay checks, for all states since one, that, compared with that one and a last one
// (nil for the one that there is), nothing was let through that
// neither lets through, and nothing was stopped that both let through. It says how
// many states there were, and how many packets were judged differently by the ends.
func onTheWay(t *testing.T, folder string, before worldState, after int, last worldState) (steps, differ int) {
	t.Helper()
	all := states(t, folder, before, after)
	if last == nil {
		last = all[len(all)-1]
	}
	was, is := all[0].passing(), last.passing()
	for p := range was {
		if !is[p] {
			differ++
		}
	}
	for p := range is {
		if !was[p] {
			differ++
		}
	}
	for n, w := range all {
		now := w.passing()
		for p := range now {
			if !was[p] && !is[p] {
				t.Fatalf("after change %d of %d something passes that passes neither before nor after: %s", n,
					len(all)-1, p)
			}
		}
		for p := range was {
			if is[p] && !now[p] {
				t.Fatalf("after change %d of %d something is stopped that passes before and after: %s", n, len(all)-1,
					p)
			}
		}
	}
	return len(all) - 1, differ
}
