//go:build linux

package decide_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"isonomos/core/addr"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
	"isonomos/core/service"
)

// The kernel's packet filter as a second opinion. Each instance of a small random
// estate is a network namespace; a fabric between them routes and filters with
// nftables rules that are written from the dialect's description. Real packets
// are sent, and what arrives and what is answered is compared with the decider.
func TestKernelAgrees(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and nothing in it runs side by side")
	}
	if os.Geteuid() != 0 {
		t.Skip("making network namespaces needs root")
	}
	for _, tool := range []string{"ip", "nft"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is not installed", tool)
		}
	}
	if out, err := exec.Command("ip", "netns", "add", "isonomos-probe").CombinedOutput(); err != nil {
		t.Skipf("no network namespaces here: %s", out)
	}
	run(t, "ip", "netns", "del", "isonomos-probe")
	verdicts := make(map[decide.Verdict]int)
	until := time.Now().Add(90 * time.Second)
	for _, name := range dialect.Names() {
		for seed := range uint64(3) {
			if time.Now().After(until) {
				t.Log("the time for the lab is over")
				return
			}
			t.Run(fmt.Sprintf("%s-%d", name, seed), func(t *testing.T) {
				l := newLab(t, randomEstate(rand.New(rand.NewPCG(seed, 17)), name))
				defer l.remove()
				for v, n := range l.compare(t) {
					verdicts[v] += n
				}
			})
		}
	}
	t.Logf("flows that the kernel and the decider agree on: %v", verdicts)
	if verdicts[decide.Passes] < 300 || verdicts[decide.Stopped] < 300 || verdicts[decide.OneWay] < 20 {
		t.Errorf("too few flows of a kind: %v", verdicts)
	}
}

func run(t testing.TB, name string, args ...string) []byte {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
	}
	return out
}

// A lab is the namespaces of an estate: one an instance, and the fabric.
type lab struct {
	e      *estate.Estate
	d      *decide.Decider
	prefix string
	stop   chan struct{}
	served sync.WaitGroup
}

func (l *lab) ns(i int) string { return fmt.Sprintf("%s-%d", l.prefix, i) }
func (l *lab) fabric() string  { return l.prefix + "-fabric" }

func newLab(t *testing.T, e *estate.Estate) *lab {
	l := &lab{e: e, d: decide.New(e), prefix: fmt.Sprintf("isonomos-%d", os.Getpid()), stop: make(chan struct{})}
	l.remove()
	l.stop = make(chan struct{})
	run(t, "ip", "netns", "add", l.fabric())
	sysctl := func(ns, key, value string) { run(t, "ip", "netns", "exec", ns, "sysctl", "-qw", key+"="+value) }
	for _, key := range []string{"net.ipv4.ip_forward", "net.ipv6.conf.all.forwarding"} {
		sysctl(l.fabric(), key, "1")
	}
	for i, instance := range e.Instances {
		ns, veth := l.ns(i), fmt.Sprintf("v%d", i)
		run(t, "ip", "netns", "add", ns)
		for _, key := range []string{"net.ipv6.conf.all.accept_dad", "net.ipv6.conf.default.accept_dad"} {
			sysctl(ns, key, "0")
			sysctl(l.fabric(), key, "0")
		}
		sysctl(ns, "net.ipv4.icmp_ratelimit", "0")
		run(t, "ip", "link", "add", veth, "netns", l.fabric(), "type", "veth", "peer", "name", "eth0", "netns", ns)
		var inside, outside bytes.Buffer
		fmt.Fprintf(&inside, "link set lo up\nlink set eth0 up\n")
		fmt.Fprintf(&outside, "link set %s up\naddr add 169.254.1.1/32 dev %s\naddr add fe80::1/64 dev %s nodad\n",
			veth, veth, veth)
		for _, a := range instance.Interfaces[0].Private {
			bits := a.BitLen()
			fmt.Fprintf(&inside, "addr add %s/%d dev eth0%s\n", a, bits, map[bool]string{true: " nodad"}[a.Is6()])
			fmt.Fprintf(&outside, "route add %s/%d dev %s\n", a, bits, veth)
		}
		fmt.Fprintf(&inside, "route add 169.254.1.1/32 dev eth0\nroute add default via 169.254.1.1 dev "+
			"eth0\nroute add default via fe80::1 dev eth0\n")
		l.batch(t, l.fabric(), outside.String())
		l.batch(t, ns, inside.String())
	}
	l.load(t)
	for i := range e.Instances {
		l.serve(t, i)
	}
	return l
}

func (l *lab) batch(t *testing.T, ns, commands string) {
	t.Helper()
	c := exec.Command("ip", "-n", ns, "-batch", "-")
	c.Stdin = strings.NewReader(commands)
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("ip in %s: %v\n%s%s", ns, err, out, commands)
	}
}

// remove takes all namespaces down; what is not there does not matter.
func (l *lab) remove() {
	close(l.stop)
	l.served.Wait()
	for i := range l.e.Instances {
		_ = exec.Command("ip", "netns", "del", l.ns(i)).Run()
	}
	_ = exec.Command("ip", "netns", "del", l.fabric()).Run()
}

// The nftables rules, from the dialect's description. A packet meets up to four
// layers, each a chain of its own: out of the source's interface and subnet, into
// the destination's. A layer that admits returns, one that does not drops. The
// connection's mark remembers which layers keep state for it, a bit each; for
// answers such a layer returns at once, any other asks its rules again.

const (
	bitSourceInterface = 1 << iota
	bitSourceSubnet
	bitDestinationSubnet
	bitDestinationInterface
)

func (l *lab) load(t *testing.T) {
	t.Helper()
	var b strings.Builder
	b.WriteString("table inet lab {\n")
	for _, set := range []string{"arrived", "answered"} {
		fmt.Fprintf(&b, " set %s4 { type ipv4_addr . ipv4_addr . inet_proto . inet_service . inet_service; flags "+
			"dynamic; }\n", set)
		fmt.Fprintf(&b, " set %s6 { type ipv6_addr . ipv6_addr . inet_proto . inet_service . inet_service; flags "+
			"dynamic; }\n", set)
		fmt.Fprintf(&b, " set %secho4 { type ipv4_addr . ipv4_addr; flags dynamic; }\n set %secho6 { type "+
			"ipv6_addr . ipv6_addr; flags dynamic; }\n", set, set)
	}
	b.WriteString(" chain notes {\n")
	for _, f := range []struct{ ip, n, icmp string }{{"ip", "4", "icmp"}, {"ip6", "6", "icmpv6"}} {
		fmt.Fprintf(&b, "  ct direction original meta l4proto { tcp, udp } add @arrived%s { %s saddr . %s daddr "+
			". meta l4proto . th sport . th dport }\n", f.n, f.ip, f.ip)
		fmt.Fprintf(&b, "  ct direction reply meta l4proto { tcp, udp } add @answered%s { %s daddr . %s saddr . "+
			"meta l4proto . th dport . th sport }\n", f.n, f.ip, f.ip)
		fmt.Fprintf(&b, "  %s type echo-request add @arrivedecho%s { %s saddr . %s daddr }\n  %s type echo-reply "+
			"add @answeredecho%s { %s daddr . %s saddr }\n", f.icmp, f.n, f.ip, f.ip, f.icmp, f.n, f.ip, f.ip)
	}
	b.WriteString(" }\n")
	for i, instance := range l.e.Instances {
		l.chains(&b, i, instance.Interfaces[0])
	}
	b.WriteString(" chain forward {\n  type filter hook forward priority 0; policy drop;\n")
	for i := range l.e.Instances {
		fmt.Fprintf(&b, "  iifname v%d jump out%d\n", i, i)
	}
	for i := range l.e.Instances {
		fmt.Fprintf(&b, "  oifname v%d jump in%d\n", i, i)
	}
	b.WriteString("  jump notes\n  accept\n }\n}\n")
	c := exec.Command("ip", "netns", "exec", l.fabric(), "nft", "-f", "-")
	c.Stdin = strings.NewReader(b.String())
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("nft: %v\n%s", err, out)
	}
}

// chains writes the layers of one instance in both directions.
func (l *lab) chains(b *strings.Builder, i int, f *estate.Interface) {
	name := f.Instance.Account.Cloud.Dialect
	both := name == "union" || name == "ranked"
	neighbours := l.neighbourSets(f)
	for _, direction := range []string{"out", "in"} {
		mine, theirs := bitSourceInterface, bitDestinationInterface
		mineSubnet, theirsSubnet := bitSourceSubnet, bitDestinationSubnet
		peer := "daddr"
		if direction == "in" {
			mine, theirs = theirs, mine
			mineSubnet, theirsSubnet = theirsSubnet, mineSubnet
			peer = "saddr"
		}
		groups := l.interfaceGroups(f, name)
		fmt.Fprintf(b, " chain %s%dif {\n", direction, i)
		l.layer(b, groups, f.Unfiltered ||
			name == "ranked" && len(f.Groups) == 0, direction, peer, mine, theirs, name, f)
		b.WriteString(" }\n")
		if both && len(f.Subnet.Groups) > 0 {
			fmt.Fprintf(b, " chain %s%dsub {\n  ip %s { %s } return\n  ip6 %s { %s } return\n", direction, i, peer,
				neighbours[0], peer, neighbours[1])
			l.layer(b, f.Subnet.Groups, false, direction, peer, mineSubnet, theirsSubnet, name, f)
			b.WriteString(" }\n")
		}
		fmt.Fprintf(b, " chain %s%d {\n", direction, i)
		if name == "layered" || name == "flat" || !both {
			fmt.Fprintf(b, "  jump %s%dif\n }\n", direction, i)
			continue
		}
		fmt.Fprintf(b, "  jump %s%dif\n", direction, i)
		if len(f.Subnet.Groups) > 0 {
			fmt.Fprintf(b, "  jump %s%dsub\n", direction, i)
		}
		b.WriteString(" }\n")
	}
}

func (l *lab) neighbourSets(f *estate.Interface) [2]string {
	var sets [2][]string
	for _, i := range l.e.Instances {
		if i.Interfaces[0].Subnet == f.Subnet {
			for k, a := range i.Interfaces[0].Private {
				sets[k] = append(sets[k], a.String())
			}
		}
	}
	return [2]string{strings.Join(sets[0], ", "), strings.Join(sets[1], ", ")}
}

// interfaceGroups are the groups of the interface's layer; in layered the subnet's belong to it.
func (l *lab) interfaceGroups(f *estate.Interface, name string) []*estate.Group {
	groups := slices.Clone(f.Groups)
	if name == "union" && len(groups) == 0 {
		for _, g := range l.e.Groups {
			if g.Default && g.Network == f.Subnet.Network {
				groups = append(groups, g)
			}
		}
	}
	if name == "layered" {
		groups = append(groups, f.Subnet.Groups...)
		if len(f.Subnet.Groups) == 0 {
			groups = append(groups, &estate.Group{Account: f.Instance.Account, Network: f.Subnet.Network,
				For: estate.ForSubnets, Rules: []estate.Rule{
					{Direction: estate.In, Action: estate.Admit, Peers: []estate.Peer{{Kind: estate.PeerEveryone}},
						Services: []service.Spec{service.Ports(service.TCP, 22, 22)}},
					{Direction: estate.Out, Action: estate.Admit, Peers: []estate.Peer{{Kind: estate.PeerEveryone}},
						Services: []service.Spec{service.Anything}}}})
		}
	}
	return groups
}

func (l *lab) layer(b *strings.Builder, groups []*estate.Group, off bool, direction, peer string, mine, theirs int,
	name string, f *estate.Interface) {
	keep := fmt.Sprintf("ct direction original ct mark set ct mark or %d", mine)
	if off {
		fmt.Fprintf(b, "  %s\n  return\n", keep)
		return
	}
	fmt.Fprintf(b, "  ct direction reply ct mark and %d != 0 return\n", theirs)
	for _, pass := range []bool{true, false} { // rules that keep state first: where both fit, state is kept
		for _, g := range groups {
			rules := make([]estate.Rule, 0, len(g.Rules))
			for _, r := range g.Rules {
				if string(r.Direction) == direction {
					rules = append(rules, r)
				}
			}
			ranked := name == "ranked" || name == "union" && g.For == estate.ForSubnets
			if ranked {
				slices.SortStableFunc(rules, func(a, b estate.Rule) int {
					if a.Rank != b.Rank {
						return a.Rank - b.Rank
					}
					return strings.Compare(string(b.Action), string(a.Action)) // refuse before admit
				})
				if !pass {
					continue
				}
			}
			for _, r := range rules {
				state := !r.Stateless && !(name == "flat" && g.Stateless) &&
					!(name == "union" && g.For == estate.ForSubnets)
				if !ranked && state != pass {
					continue
				}
				for _, match := range l.matches(g, r, peer) {
					switch {
					case r.Action == estate.Refuse:
						fmt.Fprintf(b, "  %s drop\n", match)
					case state:
						fmt.Fprintf(b, "  %s %s\n  %s return\n", match, keep, match)
					default:
						fmt.Fprintf(b, "  %s return\n", match)
					}
				}
			}
			if name == "ranked" {
				for _, r := range g.Network.Ranges {
					match := family(r.Addr()) + " " + peer + " " + r.String()
					fmt.Fprintf(b, "  %s %s\n  %s return\n", match, keep, match)
				}
			}
		}
	}
	b.WriteString("  drop\n")
}

func family(a netip.Addr) string {
	if a.Is4() {
		return "ip"
	}
	return "ip6"
}

// matches are the nftables matches of a rule: one for each range of its peer and service.
func (l *lab) matches(g *estate.Group, r estate.Rule, peer string) []string {
	var ranges []netip.Prefix
	single := func(x *estate.Group) {
		for _, i := range l.e.Instances {
			f := i.Interfaces[0]
			if slices.Contains(f.Groups, x) || len(f.Groups) == 0 && x.Default && x.Network == f.Subnet.Network {
				for _, a := range f.Private {
					ranges = append(ranges, netip.PrefixFrom(a, a.BitLen()))
				}
			}
		}
	}
	switch p := r.Peers[0]; p.Kind {
	case estate.PeerEveryone:
		ranges = addr.Everyone.Prefixes()
	case estate.PeerNetwork:
		ranges = p.Network.Ranges
	case estate.PeerRange:
		ranges = []netip.Prefix{p.Range}
	case estate.PeerSelf:
		single(g)
	case estate.PeerGroup:
		name := g.Account.Cloud.Dialect
		if g.Network == p.Group.Network || name == "union" || name == "flat" {
			single(p.Group)
		}
	}
	var all []string
	for _, x := range ranges {
		for _, s := range r.Services {
			text := family(x.Addr()) + " " + peer + " " + x.String()
			switch {
			case s.Any:
			case s.Protocol == service.ICMP || s.Protocol == service.ICMPv6:
				word := map[uint8]string{service.ICMP: "icmp", service.ICMPv6: "icmpv6"}[s.Protocol]
				if x.Addr().Is4() != (s.Protocol == service.ICMP) {
					continue
				}
				if s == service.Whole(s.Protocol) {
					text += " meta l4proto " + word
				} else {
					text += fmt.Sprintf(" %s type %d", word, s.From>>8)
				}
			default:
				text += fmt.Sprintf(" %s dport %d-%d", service.ProtocolName(s.Protocol), s.From, s.To)
			}
			all = append(all, text)
		}
	}
	return all
}

// inside runs a function on a thread of its own in a namespace.
func inside(ns string, do func() error) error {
	result := make(chan error)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread ends with the goroutine
		f, err := os.Open("/var/run/netns/" + ns)
		if err == nil {
			defer f.Close()
			if err = unix.Setns(int(f.Fd()), unix.CLONE_NEWNET); err == nil {
				err = do()
			}
		}
		result <- err
	}()
	return <-result
}

var labPorts = []int{22, 53, 1024, 40000}

// serve answers UDP in an instance's namespace; TCP is answered by the kernel with a reset.
func (l *lab) serve(t *testing.T, i int) {
	t.Helper()
	err := inside(l.ns(i), func() error {
		for _, port := range labPorts {
			for _, six := range []bool{false, true} {
				fd, err := unix.Socket(map[bool]int{false: unix.AF_INET, true: unix.AF_INET6}[six], unix.SOCK_DGRAM, 0)
				if err != nil {
					return err
				}
				if six {
					if err := unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_V6ONLY, 1); err != nil {
						return err
					}
					err = unix.Bind(fd, &unix.SockaddrInet6{Port: port})
				} else {
					err = unix.Bind(fd, &unix.SockaddrInet4{Port: port})
				}
				if err != nil {
					return err
				}
				if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO,
					&unix.Timeval{Usec: 100_000}); err != nil {
					return err
				}
				l.served.Add(1)
				go l.echo(fd)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

func (l *lab) echo(fd int) {
	defer l.served.Done()
	defer unix.Close(fd)
	buffer := make([]byte, 64)
	for {
		select {
		case <-l.stop:
			return
		default:
		}
		if n, from, err := unix.Recvfrom(fd, buffer, 0); err == nil {
			_ = unix.Sendto(fd, buffer[:n], 0, from)
		}
	}
}

// A packet is one flow to be tried.
type packet struct {
	from, to   int
	src, dst   netip.Addr
	protocol   uint8
	sport      uint16
	port       uint16
	sourcePort *uint16
}

func (l *lab) compare(t *testing.T) map[decide.Verdict]int {
	var packets []packet
	sport := uint16(2000)
	for from, a := range l.e.Instances {
		for to, b := range l.e.Instances {
			if from == to {
				continue
			}
			for k := range 2 {
				src, dst := a.Interfaces[0].Private[k], b.Interfaces[0].Private[k]
				for _, port := range labPorts {
					for _, protocol := range []uint8{service.TCP, service.UDP} {
						sport++
						used := sport
						if port == 40000 {
							used = 40001 + sport%3 // within the client ports of some networks
						}
						packets = append(packets, packet{from, to, src, dst, protocol, used, uint16(port), &used})
					}
				}
				packets = append(packets,
					packet{from: from, to: to, src: src, dst: dst,
						protocol: map[int]uint8{0: service.ICMP, 1: service.ICMPv6}[k]})
			}
		}
	}
	var wait sync.WaitGroup
	for i := range l.e.Instances {
		wait.Add(1)
		go func() {
			defer wait.Done()
			if err := inside(l.ns(i), func() error { return send(packets, i) }); err != nil {
				t.Error(err)
			}
		}()
	}
	wait.Wait()
	arrived, answered := l.noted(t, "arrived"), l.noted(t, "answered")
	verdicts := make(map[decide.Verdict]int)
	for _, p := range packets {
		key := fmt.Sprintf("%s %s %d %d %d", p.src, p.dst, p.protocol, p.sport, p.port)
		point := service.PointOf(p.protocol, p.port)
		if p.protocol == service.ICMP || p.protocol == service.ICMPv6 {
			key = fmt.Sprintf("%s %s", p.src, p.dst)
			point = service.PointOf(p.protocol,
				map[uint8]uint16{service.ICMP: 8 << 8, service.ICMPv6: 128 << 8}[p.protocol])
		}
		kernel := decide.Stopped
		switch {
		case arrived[key] && answered[key]:
			kernel = decide.Passes
		case arrived[key]:
			kernel = decide.OneWay
		}
		answer, err := l.d.Trace(
			decide.Question{Source: p.src.String(), Destination: p.dst.String(), Service: point,
				SourcePort: p.sourcePort})
		if err != nil {
			t.Fatal(err)
		}
		if answer.Verdict != kernel {
			t.Errorf("%s → %s %s from port %d: the kernel says %s, the decider %s\n%+v", answer.Source,
				answer.Destination, point, p.sport, kernel, answer.Verdict, answer.Steps)
			if verdicts["differ"]++; verdicts["differ"] > 5 {
				t.FailNow()
			}
			continue
		}
		verdicts[kernel]++
	}
	return verdicts
}

// send sends the packets of one instance, without waiting for answers, and lingers until they can be there.
func send(packets []packet, from int) error {
	var open []int
	defer func() {
		for _, fd := range open {
			unix.Close(fd)
		}
	}()
	for _, p := range packets {
		if p.from != from {
			continue
		}
		fd, err := sendOne(p)
		if err != nil {
			return fmt.Errorf("%s → %s protocol %d: %w", p.src, p.dst, p.protocol, err)
		}
		open = append(open, fd)
	}
	time.Sleep(time.Second)
	return nil
}

func sockaddr(a netip.Addr, port uint16) unix.Sockaddr {
	if a.Is4() {
		return &unix.SockaddrInet4{Port: int(port), Addr: a.As4()}
	}
	return &unix.SockaddrInet6{Port: int(port), Addr: a.As16()}
}

func sendOne(p packet) (int, error) {
	domain := unix.AF_INET
	if p.src.Is6() {
		domain = unix.AF_INET6
	}
	switch p.protocol {
	case service.TCP, service.UDP:
		kind := unix.SOCK_STREAM
		if p.protocol == service.UDP {
			kind = unix.SOCK_DGRAM
		}
		fd, err := unix.Socket(domain, kind|unix.SOCK_NONBLOCK, 0)
		if err != nil {
			return -1, err
		}
		if err := unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1); err != nil {
			return fd, err
		}
		if err := unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEPORT, 1); err != nil {
			return fd, err
		}
		if err := unix.Bind(fd, sockaddr(p.src, p.sport)); err != nil {
			return fd, err
		}
		if err := unix.Connect(fd, sockaddr(p.dst, p.port)); err != nil && err != unix.EINPROGRESS &&
			err != unix.ECONNREFUSED {
			return fd, err
		}
		if p.protocol == service.UDP {
			_, err = unix.Write(fd, []byte("ahoy"))
		}
		if err == unix.ECONNREFUSED {
			err = nil
		}
		return fd, err
	}
	protocol, typ := unix.IPPROTO_ICMP, byte(8)
	if p.src.Is6() {
		protocol, typ = unix.IPPROTO_ICMPV6, 128
	}
	fd, err := unix.Socket(domain, unix.SOCK_RAW, protocol)
	if err != nil {
		return -1, err
	}
	message := []byte{typ, 0, 0, 0, 0x49, byte(p.to), 0, 1, 'a', 'h', 'o', 'y'}
	if p.src.Is4() { // for ICMPv6 the kernel sums up
		sum := uint32(0)
		for i := 0; i < len(message); i += 2 {
			sum += uint32(message[i])<<8 | uint32(message[i+1])
		}
		for sum>>16 != 0 {
			sum = sum&0xffff + sum>>16
		}
		message[2], message[3] = byte(^sum>>8), byte(^sum)
	}
	return fd, unix.Sendto(fd, message, 0, sockaddr(p.dst, 0))
}

// noted reads what the fabric noted: the flows that arrived, or were answered.
func (l *lab) noted(t *testing.T, set string) map[string]bool {
	t.Helper()
	seen := make(map[string]bool)
	for _, suffix := range []string{"4", "6", "echo4", "echo6"} {
		var listed struct {
			Nftables []struct {
				Set struct {
					Elem []struct{ Concat []any } `json:"elem"`
				} `json:"set"`
			} `json:"nftables"`
		}
		out := run(t, "ip", "netns", "exec", l.fabric(), "nft", "-j", "list", "set", "inet", "lab", set+suffix)
		if err := json.Unmarshal(out, &listed); err != nil {
			t.Fatal(err)
		}
		for _, x := range listed.Nftables {
			for _, e := range x.Set.Elem {
				var parts []string
				for _, p := range e.Concat {
					text := fmt.Sprint(p)
					switch text {
					case "tcp":
						text = "6"
					case "udp":
						text = "17"
					}
					parts = append(parts, text)
				}
				seen[strings.Join(parts, " ")] = true
			}
		}
	}
	return seen
}
