package service

import (
	"fmt"
	"slices"
	"strings"
	"sync"
)

// A Named is a service with a name, and what it is for.
type Named struct {
	Name    string
	Specs   []Spec
	Classes []string // see the Class constants; a definition may add its own
	About   string   // one line for people; empty for services of a definition
}

// Set is the set of services that the name stands for.
func (n Named) Set() Set { return Of(n.Specs...) }

// The classes of services that checks and laws distinguish.
const (
	ClassAdmin     = "admin"     // remote administration of machines, clusters and containers
	ClassData      = "data"      // databases, caches, queues, search, file shares
	ClassCleartext = "cleartext" // carries passwords or content unencrypted
	ClassWeb       = "web"
	ClassMail      = "mail"
	ClassDirectory = "directory"
	ClassNetwork   = "network" // names, time, routing, tunnels
)

func tcp(port uint16) Spec { return Ports(TCP, port, port) }
func udp(port uint16) Spec { return Ports(UDP, port, port) }

// Builtin are services that need no definition, sorted by name. Ports are those of the IANA
// registry, or where it has none those in common use.
var Builtin = []Named{
	{"ah", []Spec{Whole(51)}, []string{ClassNetwork}, "IPsec authentication header"},
	{"amqp", []Spec{tcp(5672)}, []string{ClassData}, "message queue"},
	{"amqps", []Spec{tcp(5671)}, []string{ClassData}, "message queue over TLS"},
	{"bgp", []Spec{tcp(179)}, []string{ClassNetwork}, "routing between networks"},
	{"cluster-control", []Spec{tcp(6443)}, []string{ClassAdmin}, "control interface of a container cluster"},
	{"cluster-node", []Spec{tcp(10250)}, []string{ClassAdmin}, "control interface of a cluster's node"},
	{"cluster-store", []Spec{Ports(TCP, 2379, 2380)}, []string{ClassData}, "key store of a container cluster"},
	{"container-control", []Spec{Ports(TCP, 2375, 2376)}, []string{ClassAdmin},
		"control interface of a container host"},
	{"cql", []Spec{tcp(9042)}, []string{ClassData}, "wide-column database"},
	{"dhcp", []Spec{Ports(UDP, 67, 68)}, []string{ClassNetwork}, "addresses for hosts"},
	{"dns", []Spec{tcp(53), udp(53)}, []string{ClassNetwork}, "names"},
	{"document-db", []Spec{Ports(TCP, 27017, 27019)}, []string{ClassData}, "document database"},
	{"esp", []Spec{Whole(50)}, []string{ClassNetwork}, "IPsec payload"},
	{"ftp", []Spec{Ports(TCP, 20, 21)}, []string{ClassCleartext}, "file transfer, unencrypted"},
	{"gre", []Spec{Whole(47)}, []string{ClassNetwork}, "generic tunnel"},
	{"http", []Spec{tcp(80)}, []string{ClassWeb, ClassCleartext}, "web, unencrypted"},
	{"http-alt", []Spec{tcp(8080)}, []string{ClassWeb, ClassCleartext}, "web on the alternative port"},
	{"https", []Spec{tcp(443)}, []string{ClassWeb}, "web over TLS"},
	{"https-alt", []Spec{tcp(8443)}, []string{ClassWeb}, "web over TLS on the alternative port"},
	{"ike", []Spec{udp(500), udp(4500)}, []string{ClassNetwork}, "IPsec key exchange"},
	{"imap", []Spec{tcp(143)}, []string{ClassMail, ClassCleartext}, "reading mail, unencrypted"},
	{"imaps", []Spec{tcp(993)}, []string{ClassMail}, "reading mail over TLS"},
	{"ipmi", []Spec{udp(623)}, []string{ClassAdmin}, "control of hardware"},
	{"iscsi", []Spec{tcp(3260)}, []string{ClassData}, "block storage"},
	{"kerberos", []Spec{tcp(88), udp(88)}, []string{ClassDirectory}, "authentication"},
	{"ldap", []Spec{tcp(389)}, []string{ClassDirectory, ClassCleartext}, "directory, unencrypted"},
	{"ldaps", []Spec{tcp(636)}, []string{ClassDirectory}, "directory over TLS"},
	{"log-broker", []Spec{tcp(9092)}, []string{ClassData}, "log of messages kept by a broker"},
	{"memcache", []Spec{tcp(11211), udp(11211)}, []string{ClassData}, "cache in memory"},
	{"mqtt", []Spec{tcp(1883)}, []string{ClassData, ClassCleartext}, "messages from devices, unencrypted"},
	{"mqtts", []Spec{tcp(8883)}, []string{ClassData}, "messages from devices over TLS"},
	{"mssql", []Spec{tcp(1433)}, []string{ClassData}, "relational database"},
	{"mysql", []Spec{tcp(3306)}, []string{ClassData}, "relational database"},
	{"netbios", []Spec{Ports(UDP, 137, 138), tcp(139)}, []string{ClassData}, "older file sharing"},
	{"nfs", []Spec{tcp(2049), udp(2049)}, []string{ClassData}, "network file system"},
	{"ntp", []Spec{udp(123)}, []string{ClassNetwork}, "time"},
	{"ping", []Spec{ICMPType(ICMP, 8), ICMPType(ICMPv6, 128)}, []string{ClassNetwork}, "echo request, both families"},
	{"pop3", []Spec{tcp(110)}, []string{ClassMail, ClassCleartext}, "fetching mail, unencrypted"},
	{"pop3s", []Spec{tcp(995)}, []string{ClassMail}, "fetching mail over TLS"},
	{"postgres", []Spec{tcp(5432)}, []string{ClassData}, "relational database"},
	{"rdp", []Spec{tcp(3389)}, []string{ClassAdmin}, "remote desktop"},
	{"rdp-udp", []Spec{udp(3389)}, []string{ClassAdmin}, "remote desktop, its datagrams"},
	{"redis", []Spec{tcp(6379)}, []string{ClassData}, "cache and data structures in memory"},
	{"rsh", []Spec{Ports(TCP, 512, 514)}, []string{ClassAdmin, ClassCleartext}, "remote shells without encryption"},
	{"rsync", []Spec{tcp(873)}, []string{ClassData}, "copying of files"},
	{"search", []Spec{tcp(9200), tcp(9300)}, []string{ClassData}, "search index"},
	{"smb", []Spec{tcp(445)}, []string{ClassData}, "file shares"},
	{"smtp", []Spec{tcp(25)}, []string{ClassMail, ClassCleartext}, "mail between servers"},
	{"snmp", []Spec{udp(161)}, []string{ClassAdmin, ClassCleartext}, "management of network equipment"},
	{"ssh", []Spec{tcp(22)}, []string{ClassAdmin}, "secure shell"},
	{"submission", []Spec{tcp(587)}, []string{ClassMail}, "handing in mail"},
	{"submissions", []Spec{tcp(465)}, []string{ClassMail}, "handing in mail over TLS"},
	{"syslog", []Spec{udp(514)}, []string{ClassCleartext}, "log messages"},
	{"syslog-tls", []Spec{tcp(6514)}, nil, "log messages over TLS"},
	{"telnet", []Spec{tcp(23)}, []string{ClassAdmin, ClassCleartext}, "remote shell, unencrypted"},
	{"tftp", []Spec{udp(69)}, []string{ClassCleartext}, "file transfer without login"},
	{"tns", []Spec{tcp(1521)}, []string{ClassData}, "relational database, listener"},
	{"vnc", []Spec{Ports(TCP, 5900, 5909)}, []string{ClassAdmin}, "remote desktop"},
	{"winrm", []Spec{Ports(TCP, 5985, 5986)}, []string{ClassAdmin}, "remote management of Windows"},
	{"wireguard", []Spec{udp(51820)}, []string{ClassNetwork}, "tunnel"},
	{"x11", []Spec{Ports(TCP, 6000, 6063)}, []string{ClassAdmin, ClassCleartext}, "remote windows"},
}

// Names is a table of named services. The zero value knows the built-in ones only.
type Names struct {
	own   []Named  // in the order of definition
	specs [][]Spec // of each of them, as a set lists them
}

// With is the table with one more service. The receiver is not changed.
func (t Names) With(n Named) Names {
	return Names{append(slices.Clip(t.own), n), append(slices.Clip(t.specs), n.Set().RunSpecs())}
}

// HasOwn reports whether the table has services that are not built in.
func (t Names) HasOwn() bool { return len(t.own) > 0 }

// All are the table's services: the defined ones first, then the built-in ones.
func (t Names) All() []Named { return append(slices.Clip(t.own), Builtin...) }

// Lookup finds a service by its name.
func (t Names) Lookup(name string) (Named, bool) {
	for _, n := range t.own {
		if n.Name == name {
			return n, true
		}
	}
	i, found := slices.BinarySearchFunc(Builtin, name,
		func(n Named, name string) int { return strings.Compare(n.Name, name) })
	if !found {
		return Named{}, false
	}
	return Builtin[i], true
}

// Class is the set of all services of a class; ok is false if the table knows no such class.
func (t Names) Class(class string) (Set, bool) {
	var sets []Set
	for _, n := range t.All() {
		if slices.Contains(n.Classes, class) {
			sets = append(sets, n.Set())
		}
	}
	return UnionAll(sets...), len(sets) > 0
}

// Words are the parts of s by name, where the table has a name for exactly that part, else as
// specs. Defined names take precedence over built-in ones.
func (t Names) Words(s Set) []string {
	specs := s.RunSpecs()
	named := make([]string, len(specs)) // by the index of the first spec that the name covers
	taken := make([]bool, len(specs))
	find := func(name string, wanted []Spec) {
		var room [8]int
		at := room[:0]
		for _, spec := range wanted {
			if i := slices.Index(specs, spec); i >= 0 && !taken[i] {
				at = append(at, i)
			}
		}
		if len(at) == len(wanted) && len(at) > 0 {
			named[at[0]] = name
			for _, i := range at {
				taken[i] = true
			}
		}
	}
	for i, n := range t.own {
		find(n.Name, t.specs[i])
	}
	for i, wanted := range builtinSpecs() {
		find(Builtin[i].Name, wanted)
	}
	var words []string
	for i, spec := range specs {
		if named[i] != "" {
			words = append(words, named[i])
		} else if !taken[i] {
			words = append(words, t.tiles(spec)...)
		}
	}
	return words
}

// builtinSpecs are the specs of the built-in services, as a set lists them.
var builtinSpecs = sync.OnceValue(func() [][]Spec {
	all := make([][]Spec, len(Builtin))
	for i, n := range Builtin {
		all[i] = n.Set().RunSpecs()
	}
	return all
})

// tiles are the names of services that together are exactly a short range of ports, or else the
// range itself.
func (t Names) tiles(spec Spec) []string {
	const short = 16
	if spec.Any || spec.From == spec.To || spec.To-spec.From >= short {
		return []string{spec.String()}
	}
	var words []string
	for at := spec.From; ; {
		begins := func(n Named) bool {
			return len(n.Specs) == 1 && n.Specs[0].Protocol == spec.Protocol && n.Specs[0].From == at &&
				n.Specs[0].To <= spec.To && !n.Specs[0].Any
		}
		var named Named
		if i := slices.IndexFunc(t.own, begins); i >= 0 {
			named = t.own[i]
		} else if i := slices.IndexFunc(Builtin, begins); i >= 0 {
			named = Builtin[i]
		} else {
			return []string{spec.String()}
		}
		words = append(words, named.Name)
		if named.Specs[0].To == spec.To {
			return words
		}
		at = named.Specs[0].To + 1
	}
}

// Describe is the words of s in one line: "ssh, tcp 8000-8010".
func (t Names) Describe(s Set) string { return strings.Join(t.Words(s), ", ") }

// AllBut describes everything except some services, as protocols where whole ones are missing.
func (t Names) AllBut(rest Set) string {
	what := "every protocol"
	for _, spec := range rest.RunSpecs() {
		if spec.Any || hasDetail(spec.Protocol) && spec != Whole(spec.Protocol) {
			what = "everything"
		}
	}
	return what + " but " + strings.Join(t.Words(rest), ", ")
}

// InWords is Describe, or for a set of almost everything the services that it lacks.
func (t Names) InWords(s Set) string {
	words, _ := t.Subject(s)
	return words
}

// Subject is InWords as the subject of a sentence: several reports whether it is in the plural.
func (t Names) Subject(s Set) (words string, several bool) {
	const most = 8
	if s.Equal(All) {
		return "everything", false
	}
	all := t.Words(s)
	if len(all) <= most {
		return strings.Join(all, ", "), len(all) > 1
	}
	if rest := All.Minus(s); len(t.Words(rest)) <= 3 {
		return t.AllBut(rest), false
	}
	return fmt.Sprintf("%s and %d more services", strings.Join(all[:most-2], ", "), len(all)-most+2), true
}
