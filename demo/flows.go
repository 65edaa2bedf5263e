package demo

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"time"

	"isonomos/evidence"
)

// days is the number of days of the demo's flows.
const days = 14

// A habit is recurring traffic: who talks to whom, on what, how often.
type habit struct {
	from, to string // names of hosts, or addresses, separated by spaces
	protocol string
	port     int
	weekday  int // flows on a working day, of all pairs together
	weekend  int
	seconds  int  // approximate duration of a flow
	outside  bool // to the public address
}

var habits = []habit{
	// The public.
	{from: "visitors", to: "front-door", protocol: "tcp", port: 443, weekday: 320, weekend: 90, seconds: 20,
		outside: true},
	{from: "front-door", to: "booking-1 booking-2 booking-3", protocol: "tcp", port: 8443, weekday: 320, weekend: 90,
		seconds: 20},
	{from: "visitors", to: "tracks-1", protocol: "tcp", port: 443, weekday: 150, weekend: 210, seconds: 60,
		outside: true},
	// Bookings, readings, positions, echoes.
	{from: "booking-1 booking-2 booking-3", to: "ledger-1", protocol: "tcp", port: 5432, weekday: 200, weekend: 60,
		seconds: 300},
	{from: "ledger-2", to: "ledger-1", protocol: "tcp", port: 5432, weekday: 24, weekend: 24, seconds: 3600},
	{from: "gauge-1 gauge-2 gauge-3 gauge-4 gauge-5 gauge-6 gauge-7 gauge-8", to: "collector-1", protocol: "tcp",
		port: 8883, weekday: 192, weekend: 192, seconds: 5},
	{from: "198.51.100.97 198.51.100.98 198.51.100.101 198.51.100.113 198.51.100.116",
		to: "receiver-1 receiver-2 receiver-3", protocol: "tcp", port: 10110, weekday: 60, weekend: 60, seconds: 1800,
		outside: true},
	{from: "receiver-1 receiver-2 receiver-3 tracks-1", to: "broker-1 broker-2", protocol: "tcp", port: 5671,
		weekday: 96, weekend: 96, seconds: 900},
	{from: "broker-2", to: "broker-1", protocol: "tcp", port: 5671, weekday: 12, weekend: 12, seconds: 3600},
	{from: "tracks-1", to: "radar-1 radar-2", protocol: "udp", port: 8600, weekday: 48, weekend: 48, seconds: 600},
	{from: "radar-1 radar-2", to: "tracks-1", protocol: "tcp", port: 8600, weekday: 48, weekend: 48, seconds: 600},
	// People.
	{from: "203.0.113.66 203.0.113.67 203.0.113.81", to: "ops-1 ops-2", protocol: "tcp", port: 22, weekday: 22,
		weekend: 1, seconds: 2400, outside: true},
	{from: "ops-1", to: "gauge-1 gauge-3 gauge-5 gauge-7 collector-1", protocol: "tcp", port: 22, weekday: 7,
		weekend: 0, seconds: 900},
	{from: "ops-2", to: "booking-1 ledger-1 ledger-2", protocol: "tcp", port: 22, weekday: 5, weekend: 0, seconds: 700},
	{from: "198.51.100.18 198.51.100.21 198.51.100.26", to: "gauge-3 gauge-7", protocol: "tcp", port: 22, weekday: 4,
		weekend: 1, seconds: 3100, outside: true},
	{from: "203.0.113.65 203.0.113.66 203.0.113.69", to: "desk-1", protocol: "tcp", port: 3389, weekday: 9,
		weekend: 0, seconds: 5000, outside: true},
	{from: "203.0.113.66 203.0.113.81", to: "broker-1", protocol: "tcp", port: 22, weekday: 3, weekend: 0,
		seconds: 800, outside: true},
	{from: "203.0.113.65 203.0.113.66 203.0.113.81 203.0.113.82", to: "broker-1", protocol: "tcp", port: 80,
		weekday: 14, weekend: 1, seconds: 10, outside: true},
	{from: "203.0.113.70", to: "rig-1", protocol: "tcp", port: 22, weekday: 3, weekend: 0, seconds: 1500,
		outside: true},
	{from: "203.0.113.70 203.0.113.68", to: "rig-1", protocol: "tcp", port: 8080, weekday: 6, weekend: 0, seconds: 30,
		outside: true},
}

// scanned are ports that strangers try at public addresses.
var scanned = []int{22, 22, 22, 23, 80, 445, 1433, 3306, 3389, 5432, 8080}

type seen struct {
	start time.Time
	line  string
}

// Flows writes fourteen days of flows, up to the survey, as CSV: habits, scanners, quiet weekends,
// one monthly job. They are always the same.
func Flows(w io.Writer) error {
	g := flowMaker{random: rand.New(rand.NewPCG(20261120, 14)), byName: make(map[string]host)}
	for _, h := range hosts {
		g.byName[h.name] = h
	}
	first := Taken.Truncate(24*time.Hour).AddDate(0, 0, -days)
	for day := range days {
		g.day(first.AddDate(0, 0, day), day)
	}
	slices.SortStableFunc(g.all,
		func(a, b seen) int { return cmp.Or(a.start.Compare(b.start), strings.Compare(a.line, b.line)) })
	out := bufio.NewWriter(w)
	fmt.Fprintln(out, strings.Join(evidence.Columns, ","))
	for _, f := range g.all {
		fmt.Fprintln(out, f.line)
	}
	return out.Flush()
}

type flowMaker struct {
	random *rand.Rand
	byName map[string]host
	all    []seen
}

func (g *flowMaker) day(day time.Time, number int) {
	weekend := day.Weekday() == time.Saturday || day.Weekday() == time.Sunday
	for _, h := range habits {
		n := h.weekday
		if weekend {
			n = h.weekend
		}
		for range n + g.random.IntN(n/8+1) {
			from, to := g.pick(h.from), g.pick(h.to)
			g.add(g.moment(day), 1+g.random.IntN(2*h.seconds), g.address(from, false), g.address(to, h.outside),
				h.protocol, h.port, true)
		}
	}
	for range 40 + g.random.IntN(20) {
		g.scan(day)
	}
	switch number {
	case 2: // a technician in a hotel, once
		g.add(day.Add(19*time.Hour), 1300, netip.MustParseAddr("203.0.113.201"), g.address("gauge-3", true), "tcp",
			22, true)
	case 8: // the monthly copy
		g.add(day.Add(2*time.Hour), 5400, g.address("copy-1", false), g.address("ledger-1", false), "tcp", 5432, true)
	}
}

// scan is an attempt of a stranger at a public address. It is never answered.
func (g *flowMaker) scan(day time.Time) {
	if g.random.IntN(6) == 0 { // over IPv6, where somebody has found the ledger
		b := netip.MustParseAddr("2001:db8:bad::").As16()
		b[14], b[15] = byte(g.random.IntN(4)), byte(g.random.IntN(200))
		to := netip.MustParseAddr("2001:db8:20:3::5")
		g.add(g.moment(day), 1, netip.AddrFrom16(b), to, "tcp", 5432, false)
		return
	}
	from := netip.AddrFrom4([4]byte{192, 0, 2, 128 + byte(g.random.IntN(120))})
	var public []string
	for _, h := range hosts {
		if h.public != "" {
			public = append(public, h.public)
		}
	}
	to := netip.MustParseAddr(public[g.random.IntN(len(public))])
	g.add(g.moment(day), 1, from, to, "tcp", scanned[g.random.IntN(len(scanned))], false)
}

func (g *flowMaker) moment(day time.Time) time.Time {
	// Most traffic is between 6 and 20 o'clock.
	hour := (6 + g.random.IntN(14) + g.random.IntN(5)*g.random.IntN(2)) % 24
	return day.Add(time.Duration(hour)*time.Hour + time.Duration(g.random.IntN(3600))*time.Second)
}

func (g *flowMaker) pick(names string) string {
	if names == "visitors" {
		if g.random.IntN(2) == 0 {
			return netip.AddrFrom4([4]byte{192, 0, 2, 1 + byte(g.random.IntN(120))}).String()
		}
		return netip.AddrFrom4([4]byte{203, 0, 113, 129 + byte(g.random.IntN(60))}).String()
	}
	list := strings.Fields(names)
	return list[g.random.IntN(len(list))]
}

// address is that of a host, or the address itself.
func (g *flowMaker) address(name string, public bool) netip.Addr {
	h, ok := g.byName[name]
	switch {
	case !ok:
		return netip.MustParseAddr(name)
	case public:
		return netip.MustParseAddr(h.public)
	}
	return netip.MustParseAddr(map[string]string{
		"tides/quay/front": "10.20.1.", "tides/quay/sensors": "10.20.2.", "tides/quay/ledger": "10.20.3.",
		"tides/quay/ops":          "10.20.9.",
		"traffic/roads/receivers": "10.30.1.", "traffic/roads/radar": "10.30.2.", "traffic/roads/broker": "10.30.3.",
		"lab/bench/bench": "10.40.1.",
	}[h.network+"/"+h.subnet] + fmt.Sprint(h.number))
}

func (g *flowMaker) add(start time.Time, seconds int, from, to netip.Addr, protocol string, port int, answered bool) {
	packets, bytes := 3+g.random.IntN(40), 0
	reply, replyBytes := packets+g.random.IntN(20), 0
	if !answered {
		packets, reply = 1+g.random.IntN(3), 0
	}
	bytes, replyBytes = packets*(60+g.random.IntN(400)), reply*(60+g.random.IntN(1200))
	if !answered {
		bytes = packets * 60 // opening packets alone
	}
	end := start.Add(time.Duration(seconds) * time.Second)
	g.all = append(g.all, seen{start,
		fmt.Sprintf("%s,%s,%s,%s,%s,%d,%d,%d,%d,%d,%d,admitted", start.Format(time.RFC3339), end.Format(time.RFC3339),
			from, to, protocol, 32768+g.random.IntN(28000), port, packets, bytes, reply, replyBytes)})
}
