package service

import "strings"

// registered are protocols by their keywords in the IANA registry of protocol numbers, in small
// letters, and by the other names that exporters of flows and clouds use for them.
var registered = map[string]uint8{
	"hopopt": 0, "icmp": 1, "igmp": 2, "ggp": 3, "ipv4": 4, "ipip": 4, "ipencap": 4, "st": 5, "tcp": 6, "cbt": 7,
	"egp": 8, "igp": 9, "pup": 12, "udp": 17, "hmp": 20, "xns-idp": 22, "rdp": 27, "iso-tp4": 29, "dccp": 33,
	"xtp": 36, "ddp": 37, "idpr-cmtp": 38, "ipv6": 41, "ipv6-encap": 41, "ipv6-route": 43, "ipv6-frag": 44,
	"idrp": 45, "rsvp": 46, "gre": 47, "dsr": 48, "esp": 50, "ipsec-esp": 50, "ah": 51, "ipsec-ah": 51, "skip": 57,
	"ipv6-icmp": 58, "icmpv6": 58, "icmp6": 58, "ipv6-nonxt": 59, "ipv6-opts": 60, "vmtp": 81, "eigrp": 88,
	"ospfigp": 89, "ospf": 89, "ax.25": 93, "etherip": 97, "encap": 98, "pim": 103, "ipcomp": 108, "pgm": 113,
	"vrrp": 112, "l2tp": 115, "isis": 124, "sctp": 132, "fc": 133, "mobility-header": 135, "udplite": 136,
	"udp-lite": 136, "mpls-in-ip": 137, "manet": 138, "hip": 139, "shim6": 140, "wesp": 141, "rohc": 142,
	"ethernet": 143,
}

// RegisteredProtocol is the protocol with a name of the IANA registry, however it is capitalised, or
// with another common one. The language knows fewer names: see ParseProtocol.
func RegisteredProtocol(name string) (protocol uint8, ok bool) {
	protocol, ok = registered[strings.ReplaceAll(strings.ToLower(name), " ", "-")]
	return protocol, ok
}
