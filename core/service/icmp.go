package service

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// icmpTypes are names of ICMP types: those of the IANA registries (RFC 792, RFC 4443, RFC 4861, RFC
// 8335), with hyphens, and other common ones.
var icmpTypes = map[uint8]map[string]uint8{
	ICMP: {
		"echo-reply": 0, "pong": 0,
		"unreachable": 3, "destination-unreachable": 3, "dest-unreachable": 3,
		"source-quench": 4, "redirect": 5,
		"echo": 8, "echo-request": 8, "ping": 8,
		"router-advertisement": 9, "router-solicitation": 10, "router-selection": 10,
		"time-exceeded": 11, "ttl-exceeded": 11,
		"parameter-problem": 12,
		"timestamp":         13, "timestamp-request": 13, "timestamp-reply": 14,
		"information-request": 15, "information-reply": 16,
		"address-mask-request": 17, "address-mask-reply": 18,
		"extended-echo-request": 42, "extended-echo-reply": 43,
	},
	ICMPv6: {
		"unreachable": 1, "destination-unreachable": 1, "dest-unreachable": 1,
		"packet-too-big": 2, "too-big": 2,
		"time-exceeded": 3, "ttl-exceeded": 3, "hop-limit-exceeded": 3,
		"parameter-problem": 4,
		"echo":              128, "echo-request": 128, "ping": 128,
		"echo-reply": 129, "pong": 129,
		"multicast-listener-query": 130, "multicast-listener-report": 131, "multicast-listener-done": 132,
		"router-solicitation": 133, "router-advertisement": 134,
		"neighbor-solicitation": 135, "neighbour-solicitation": 135,
		"neighbor-advertisement": 136, "neighbour-advertisement": 136,
		"redirect":              137,
		"extended-echo-request": 160, "extended-echo-reply": 161,
	},
}

// ICMPTypeNamed is the type of ICMP or ICMPv6 with a name.
func ICMPTypeNamed(protocol uint8, name string) (uint8, bool) {
	typ, ok := icmpTypes[protocol][name]
	return typ, ok
}

// ICMPList lists the named types of a protocol by number: "8  echo, echo-request, ping".
func ICMPList(protocol uint8) []string {
	byType := make(map[uint8][]string)
	for _, name := range ICMPNames(protocol) {
		typ := icmpTypes[protocol][name]
		byType[typ] = append(byType[typ], name)
	}
	var lines []string
	for _, typ := range slices.Sorted(maps.Keys(byType)) {
		lines = append(lines, fmt.Sprintf("%-3d  %s", typ, strings.Join(byType[typ], ", ")))
	}
	return lines
}

// ICMPNames are the names of a protocol's types, sorted.
func ICMPNames(protocol uint8) []string {
	var names []string
	for name := range icmpTypes[protocol] {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}
