// Package manual explains the language: every keyword with an example, and what
// to do about each kind of message.
package manual

import "strings"

// A Topic is something that can be looked up. Examples are whole declarations.
type Topic struct {
	Name    string
	Text    string
	Example string
}

// Keywords are the words of the language, in the order of the work.
var Keywords = []Topic{
	{"estate", "Names the estate: all definitions of a folder together. Without it the folder's name is taken. " +
		"What the program owns in a cloud is labelled with it.", `estate saltmarsh "Saltmarsh Harbour"`},
	{"cloud", "Says where a cloud is and how it decides. In an account it says which cloud the account is on.",
		"cloud northmere {\n  dialect union\n  at      env NORTHMERE_URL\n  token   env NORTHMERE_TOKEN\n}"},
	{"dialect", "How a cloud decides: union, ranked, layered or flat. isonomos explain union tells more.",
		"cloud northmere {\n  dialect union\n}"},
	{"at", "In a cloud: its address, or the environment variable that holds it. In a rule that lets out or stops " +
		"outward: before the peers.", "cloud northmere {\n  dialect union\n  at      env NORTHMERE_URL\n}"},
	{"token", "The environment variable that holds the secret for a cloud: X_TOKEN, which goes only where the " +
		"variable X_URL says. The secret itself never stands in a definition.",
		"cloud northmere {\n  dialect union\n  at      env NORTHMERE_URL\n  token   env NORTHMERE_TOKEN\n}"},
	{"env", "The value comes from the environment variable of that name.",
		"cloud northmere {\n  dialect union\n  at      env NORTHMERE_URL\n}"},
	{"profile", "The profile in the cloud's own standard file of access data.",
		"cloud easthold {\n  dialect flat\n  profile harbour\n}"},
	{"account", "Something that a cloud bills and limits separately, with its labels and the quotas raised for it.",
		"account tides {\n  cloud  northmere\n  id     \"7720-1184\"\n  label  stage = production\n}"},
	{"id", "The identifier that a cloud gave.", "account tides {\n  cloud northmere\n  id    \"7720-1184\"\n}"},
	{"region",
		"Where in its cloud an account or network is: provider's lists have another identifier in each region.",
		"account tides {\n  cloud  northmere\n  region \"coast-1\"\n}"},
	{"folder", "Where an account stands among the others. Conditions on it hold for the folder and all below.",
		"account tides {\n  cloud  northmere\n  folder harbour/water\n}"},
	{"label", "What a thing is called by beside its name. Labels are inherited: instance, subnet, network, account.",
		"account tides {\n  cloud northmere\n  label stage = production, owner = hydrography\n}"},
	{"limit", "Quotas that differ from the dialect's for one account.",
		"account tides {\n  cloud northmere\n  limit rules-per-direction = 120\n}"},
	{"network", "An existing network of an account. As a peer: the ranges of this network, or of the one named. " +
		"A peered network's ranges are not among them.",
		"network quay in tides {\n  range  10.20.0.0/16\n  subnet front 10.20.1.0/24\n}"},
	{"range", "The addresses of a network.", "network quay in tides {\n  range 10.20.0.0/16, fd20:4c1::/48\n}"},
	{"subnet", "A part of a network. As a peer: its ranges.",
		"network quay in tides {\n  subnet front 10.20.1.0/24\n}"},
	{"peered", "The networks that this one peers with. Traffic needs both sides to say so.",
		"network quay in tides {\n  peered traffic/roads\n}"},
	{"answers", "The client ports that answers go to, where a filter keeps no state: 1024 to 65535 unless said.",
		"network quay in tides {\n  answers 32768-60999\n}"},
	{"service", "Gives protocols and ports a name. A built-in name can't be declared again.",
		"service berth-db = tcp 5432 class data"},
	{"class", "What services are for: admin, data, cleartext, web, mail, directory, network, or your own. In a " +
		"rule it stands for all services of the class.",
		"law shut-admin {\n  never admit class admin from internet\n}"},
	{"list", "A prefix list of your own, or one that a provider publishes. As a peer: its addresses.",
		"list pilot-stations \"Outgoing addresses\" {\n  198.51.100.16/28 \"Skerry Point\"\n  room 10\n}"},
	{"room", "How many entries a list has room for: where lists count in rules, they count as this.",
		"list pilot-stations {\n  198.51.100.16/28\n  room 10\n}"},
	{"published", "A list that a cloud's provider keeps: its identifier in each cloud and region is looked up.",
		"list edge {\n  published \"web-edge\"   on northmere\n  published \"edge-nodes\" on easthold\n}"},
	{"pattern", "Rules with parameters, to be used in many groups. Parameters are peers, services, text, number " +
		"or duration; a default makes one optional.",
		"pattern operated(staff: peers, desk: services = ssh) {\n  admit desk from staff because \"operators\"\n}"},
	{"use", "Puts the rules of a pattern in its place. Several items for one parameter stand in brackets, or " +
		"behind its name. At top level, in every group puts it into many groups at once, after all their rules.",
		"group booking in quay {\n  use operated(list pilot-stations, desk = ssh, rdp)\n}\n\nuse housekeeping in " +
			"every group where stage = production"},
	{"group", "A set of filter rules with a name and a purpose, for instances unless it says for subnets; in one " +
		"network, or one in every network where a condition holds. What it does not let through is stopped, both " +
		"ways.", "group booking in quay \"Pilot booking site\" {\n  cover where role = booking\n  admit https " +
		"from everyone because \"ships' agents book pilots\"\n}"},
	{"for", "for instances or for subnets: what a group is attached to. In a lend: for at most, the ceiling.",
		"group sensor-wall for subnets in quay \"Tide gauges\" {\n  cover subnet sensors\n}"},
	{"instances", "What groups are attached to unless they say for subnets.",
		"group booking for instances in quay {\n  cover where role = booking\n}"},
	{"subnets", "A group for subnets filters everything that enters or leaves the subnets it covers.",
		"group sensor-wall for subnets in quay {\n  cover subnet sensors\n}"},
	{"in", "Says where: a group in a network, a network in an account, a label in a list of values.",
		"group base in every network where stage in (lab, staging) {\n}"},
	{"every", "All networks or groups for which a condition holds.",
		"group base in every network where stage = production {\n}"},
	{"existing", "A group that is there in the cloud and not ours: it can be a peer. A network's default group that " +
		"is named so stays attached beside ours.",
		"group scanner in quay existing \"doc-scanner\""},
	{"cover", "What a group is attached to: instances by labels or names, subnets by names.",
		"group booking in quay {\n  cover where role = booking\n}"},
	{"instance", "Covers instances by their names or ids.",
		"group booking in quay {\n  cover instance booking-1, booking-2\n}"},
	{"named", "The group's name in its cloud, where that differs.", "group booking in quay {\n  named \"bk-prod\"\n}"},
	{"follow", "In a group for subnets: here stands whatever the groups of the instances in these subnets let " +
		"through.", "group office-wall for subnets in quay {\n  cover  subnet office\n  follow instances\n}"},
	{"admit", "Lets in. The answers come back by themselves.",
		"group booking in quay {\n  admit https, http from list pilot-stations because \"they book\"\n}"},
	{"reach", "Lets out. In an expectation: can reach.",
		"group booking in quay {\n  reach berth-db at group berth-ledger because \"bookings\"\n}"},
	{"refuse", "Keeps out (from) or in (at). In a group with a refusal the first statement that fits decides.",
		"group sensor-wall for subnets in quay {\n  refuse any from subnet front because \"the front is public\"\n}"},
	{"lend", "Opens nothing by itself; a pass can be issued within these bounds and for no longer than this.",
		"group gauges in quay {\n  lend ssh to list pilot-stations for at most 2h\n}"},
	{"from", "Before the peers of what comes in.", "group booking in quay {\n  admit https from everyone\n}"},
	{"to", "Before the peers of a lend, and the second end of a connect.",
		"connect booking to berth-ledger on berth-db"},
	{"on", "Before services: what a connect or an expectation is about. In a list: the cloud of a published list.",
		"expect internet can reach booking on https"},
	{"where", "Before a condition on labels. As a statement of a group: rules for some of the places where the " +
		"group stands.", "group booking in every network where role = site {\n  where stage = staging {\n    " +
		"admit https from list testers\n  }\n}"},
	{"and", "Both hold. and and or don't mix without brackets.", "group base in every network where stage = " +
		"production and not (folder = harbour/lab or region = \"west\") {\n}"},
	{"or", "One of them holds. and and or don't mix without brackets.",
		"group base in every network where stage = lab or stage = staging {\n}"},
	{"not", "The condition behind it does not hold. An absent label equals nothing, so != holds of it.",
		"group base in every network where not stage = lab {\n}"},
	{"because", "The reason: it becomes the rule's description in the cloud.",
		"group booking in quay {\n  admit https from everyone because \"ships' agents book pilots\"\n}"},
	{"until", "The end: a day (to its end, UTC) or a moment. After it the rule is gone.",
		"group booking in quay {\n  admit ssh from list pilot-stations until 2027-01-31T18:00Z\n}"},
	{"stateless", "The rule keeps no state: the answers need a rule of their own. Only where the dialect decides " +
		"state by rule.", "group gateway in gate {\n  admit https from everyone stateless\n}"},
	{"except", "Takes away from all peers before it.",
		"group booking in quay {\n  admit https from everyone except list pilot-stations, 192.0.2.0/24\n}"},
	{"everyone", "Every address, of both families unless v4 or v6 stands behind it.",
		"group booking in quay {\n  admit https from everyone v4\n}"},
	{"internet", "Only in laws and expectations. In a law: open to strangers. In an expectation: some stranger. " +
		"Strangers are public addresses in no list and on no interface of the estate. In a rule write everyone.",
		"expect internet cannot reach berth-ledger"},
	{"self", "The members of the group that the rule is in.",
		"group berth-ledger in quay {\n  admit berth-db from self because \"standby\"\n}"},
	{"probes", "The health probes of the balancers in front of the group's members.",
		"group booking in quay {\n  admit tcp 8443 from probes\n}"},
	{"v4", "Only the IPv4 addresses of the peer before it.", "group gauges in quay {\n  reach ntp at everyone v4\n}"},
	{"v6", "Only the IPv6 addresses of the peer before it.", "group gauges in quay {\n  reach ntp at everyone v6\n}"},
	{"any", "Every protocol on every port, ICMP too.",
		"group sensor-wall for subnets in quay {\n  refuse any from everyone\n}"},
	{"tcp", "TCP: all of it, a port, a run of ports, or several in brackets.",
		"group booking in quay {\n  admit tcp (443, 8000-8010) from everyone\n}"},
	{"udp", "UDP: all of it, a port, a run of ports, or several in brackets.",
		"group booking in quay {\n  reach udp 53 at everyone\n}"},
	{"sctp", "SCTP: all of it, a port, a run of ports, or several in brackets.",
		"group gateway in quay {\n  admit sctp 3868 from network\n}"},
	{"dccp", "DCCP: all of it, a port, a run of ports, or several in brackets.",
		"group gateway in quay {\n  admit dccp 5004 from network\n}"},
	{"udplite", "UDP-Lite: all of it, a port, a run of ports, or several in brackets.",
		"group gateway in quay {\n  admit udplite 5004 from network\n}"},
	{"icmp", "ICMP over IPv4: all of it, a type by number or name, or type/code.",
		"group booking in quay {\n  admit icmp 8/0, icmp unreachable from everyone\n}"},
	{"icmpv6", "ICMP over IPv6: all of it, a type by number or name, or type/code.",
		"group booking in quay {\n  admit icmpv6 packet-too-big from everyone\n}"},
	{"protocol", "A protocol by its number; protocol 6 is all of tcp, protocol 132 all of sctp.",
		"group booking in quay {\n  admit protocol 47 from list pilot-stations\n}"},
	{"connect", "Writes both ends of a connection: a reach in each group of the first, an admit in each group of " +
		"the second, and in the managed subnet groups on the way. Over several networks it pairs network by network.",
		"connect booking to berth-ledger on berth-db because \"bookings\""},
	{"law", "A rule about rules, over defined and surveyed groups alike.", "law shut-admin \"Remote " +
		"administration is never open\" {\n  over     stage = production\n  never    admit class admin from " +
		"internet\n  severity critical\n  control  \"SOC 2 CC6.6\"\n}"},
	{"over", "For which groups a law stands.", "law reasons {\n  over   stage = production\n  always because\n}"},
	{"never", "An opening that a law forbids.", "law shut-admin {\n  never admit class admin from internet\n}"},
	{"only",
		"In a law: for these peers nothing but these openings. In an expectation: they can, and nobody else can.",
		"expect only booking can reach berth-ledger on berth-db"},
	{"always", "What a law wants of every rule or group: a reason (because), an end (until), a text, labels.",
		"law reasons {\n  always because\n  always label owner, stage\n}"},
	{"severity", "How bad a breach of a law is: info, low, medium, high, critical.",
		"law reasons {\n  always   because\n  severity low\n}"},
	{"control", "The numbers of the controls that a law serves.",
		"law shut-admin {\n  never   admit class admin from internet\n  control \"SOC 2 CC6.6\", \"PCI DSS 1\"\n}"},
	{"enforced", "Has uphold shut what breaches a law's never and only, in any group, ours or not; after says " +
		"how long " +
		"it has to stand, whole that a rule may go as a whole where the rest of it can't be said exactly. It begins " +
		"once uphold agree LAW has said so.",
		"law shut-admin {\n  never    admit class admin from internet\n  enforced after 2m\n}"},
	{"exempt", "An exception from a law or a check for a group, network or account. Reason, end and name are " +
		"required; past its end it counts no more.",
		"exempt tides/quay/gauge-maintenance from shut-admin on ssh because \"vendor's visit\" until 2027-01-31 " +
			"by \"m.teal\""},
	{"by", "Who answers for an exemption.",
		"exempt account lab from shut-admin because \"moving out\" until 2027-01-31 by \"m.teal\""},
	{"expect", "A test of the whole path: routes, filters at both ends, balancers. can wants every pair to pass, " +
		"cannot none, only that they can and nobody else.", "expect booking can reach berth-ledger on berth-db"},
	{"can", "Every pair of members passes, over one address family at least; of strangers, some.",
		"expect internet can reach booking on https"},
	{"cannot", "No pair of members passes anything; without on, no service at all.",
		"expect internet cannot reach berth-ledger"},
}

// A Message is a kind of message, and what to do about it.
type Message struct {
	Topic
	Match []string // pieces of text by which messages of this kind are recognised
}

// Messages are the kinds of message about definitions.
var Messages = []Message{
	{Topic{"unknown-name", "A service, group, list, network, subnet, account, cloud, pattern, law or label of " +
		"that name is declared nowhere in the estate. The nearest known name is offered. Names are found in all " +
		"files of the folder; a bare name in connect and expect is a group, in a rule it is a group unless list, " +
		"subnet or network stands before it.",
		"list pilot-stations {\n  198.51.100.16/28\n}\n\ngroup booking in quay {\n  admit ssh from list " +
			"pilot-stations\n}"},
		[]string{"is called", "of the class", "has no setting", "no statement begins", "no declaration begins",
			"has no subnet", "has a label", "no parameter"}},
	{Topic{"ambiguous-name", "Several things bear the name. A group is found in the same network first; write " +
		"network/group or account/network/group to be clear.",
		"group night in quay {\n  admit ssh from group roads/operators\n}"},
		[]string{"several groups are called", "several networks are called", "several subnets are called"}},
	{Topic{"host-bits", "A range has bits set behind its length, so either the range or a single address was " +
		"meant. Both are offered.", "network quay in tides {\n  range 10.20.0.0/16\n}"},
		[]string{"host bits set"}},
	{Topic{"bad-port", "Ports go from 0 to 65535, the lower one first, and stand behind their protocol.",
		"group booking in quay {\n  admit tcp 8000-8099 from everyone\n}"},
		[]string{"a port goes from", "the ports are reversed", "a port needs its protocol", "goes from 0 to",
			"a port stands behind its protocol", "several ports stand in brackets"}},
	{Topic{"mixed-families", "ICMP goes over IPv4 and ICMPv6 over IPv6, and v4 or v6 must fit the range before " +
		"it. For both families write both.",
		"group booking in quay {\n  admit icmp echo, icmpv6 echo from everyone\n}"},
		[]string{"does not go over", "has no v4 addresses", "has no v6 addresses", "IPv4-mapped"}},
	{Topic{"no-such-date", "The day is not in the calendar, or the time not on the clock. A date counts to its " +
		"end, in UTC.", "group booking in quay {\n  admit ssh from self until 2027-01-31\n}"},
		[]string{"does not exist", "this is no date"}},
	{Topic{"declared-twice", "Two declarations of one kind have one name. Both places are named; rename one, or " +
		"delete it.", "list pilot-stations {\n  198.51.100.16/28\n}"},
		[]string{"there are two declarations", "already", "has two names", "is a built-in service"}},
	{Topic{"incomplete-exemption", "An exception without reason, end and name is one that nobody can answer for.",
		"exempt tides/quay/booking from shut-admin on ssh because \"moving\" until 2027-01-31 by \"m.teal\""},
		[]string{"the exemption lacks"}},
	{Topic{"uses-itself", "A pattern, list or service comes back to itself through what it uses. Take one step " +
		"out of the circle.", "pattern operated(staff: peers) {\n  admit ssh from staff\n}"},
		[]string{"uses itself", "holds itself"}},
	{Topic{"internet-in-rule", "Rules are made of addresses: everyone is every address. internet, that is " +
		"strangers, is for laws and expectations.", "group booking in quay {\n  admit https from everyone\n}"},
		[]string{"can't name the internet"}},
	{Topic{"token", "Secrets come from the environment or the cloud's own profile file, never from a definition; " +
		"such a line is not shown. A token goes only where the environment says: token env X_TOKEN needs at env " +
		"X_URL, with the same X.",
		"cloud northmere {\n  dialect union\n  at      env NORTHMERE_URL\n  token   env NORTHMERE_TOKEN\n}"},
		[]string{"a token never stands", "the token ", "the variable that holds"}},
	{Topic{"mixed-conditions", "and and or bind alike, so brackets say what belongs together.",
		"group base in every network where (stage = lab or stage = staging) and region = \"coast-1\" {\n}"},
		[]string{"don't mix without brackets"}},
	{Topic{"stopped-by-refusal", "In a group with a refusal the first statement that fits decides: what stands " +
		"behind it and fits it too is never reached. Move the refusal down, or narrow it.",
		"group ledger in quay {\n  admit  ssh from group operators\n  refuse any from network\n}"},
		[]string{"stops this connect", "before it stops"}},
	{Topic{"different-clouds", "Groups are known inside their cloud only. Name addresses: a list, or ranges.",
		"connect list pilot-stations to booking on https"},
		[]string{"can't name each other"}},
	{Topic{"empty-scope", "No network or group fulfils the condition, so the statement does nothing. Check the " +
		"label's name and value.", "use housekeeping in every group where stage = production"},
		[]string{"is in this scope", "stands nowhere"}},
	{Topic{"missing-brace", "A block has no closing brace; it is taken to end before the next declaration in " +
		"column 1. The message points to where it begins.", "group booking in quay {\n  admit https from everyone\n}"},
		[]string{"has no closing \"}\"", "this brace closes nothing"}},
	{Topic{"wrong-argument", "A pattern's parameter is peers, services, text, number or duration, and what is " +
		"given is not. One item stands alone, several in brackets or behind the parameter's name.",
		"group booking in quay {\n  use operated((list pilot-stations, 10.20.9.0/24), desk = ssh, rdp)\n}"},
		[]string{"the parameter", "the pattern"}},
	{Topic{"not-text", "The file, or a part of it, is not UTF-8 text.", "estate saltmarsh"},
		[]string{"not UTF-8", "not a text file", "no meaning here", "no closing quote", "this escape"}},
	{Topic{"ended", "The date behind until is past: the rule is left out, or the exemption counts no more.",
		"group booking in quay {\n  admit ssh from self until 2027-01-31\n}"},
		[]string{"has ended"}},
	{Topic{"unpaired", "Over several networks a connect pairs groups network by network, and one has no partner. " +
		"Let both stand in the same networks.", "connect booking to berth-ledger on berth-db"},
		[]string{"has no partner", "needs a group at one end"}},
	{Topic{"incomplete", "A declaration lacks a line that it can't do without, or has one twice, or one that " +
		"says nothing.", "account tides {\n  cloud northmere\n  limit rules-per-direction = 120\n}"},
		[]string{"does not say its", "a limit is", "has two settings", "two lines", "says nothing"}},
	{Topic{"not-enforceable", "A law is enforced by shutting traffic: it needs a line never or only with admit or " +
		"reach. What always wants, and how long something may be lent, a person mends.",
		"law shut-admin {\n  never    admit class admin from internet\n  enforced after 2m\n}"},
		[]string{"so it can't be enforced"}},
	{Topic{"wrong-kind-of-group", "Groups for instances cover instances, groups for subnets cover subnets; only " +
		"the latter can follow instances, and only the former have members with addresses.",
		"group sensor-wall for subnets in quay {\n  cover  subnet sensors\n  follow instances\n}"},
		[]string{"can't cover", "can follow instances", "is a group for subnets"}},
	{Topic{"only-in-a-pattern", "A bare name can stand for a text, a port or a duration only where it is a " +
		"parameter of the pattern; self, probes and a bare network only in a group.",
		"pattern operated(staff: peers, longest: duration = 2h) {\n  lend ssh to staff for at most longest\n}"},
		[]string{"only for a parameter", "stands only in a group", "no network of its own"}},
	{Topic{"no-room", "A list holds more entries than it has room for. In clouds where lists count in rules, " +
		"room is what it costs.", "list pilot-stations {\n  198.51.100.16/28\n  room 10\n}"},
		[]string{"has room for"}},
	{Topic{"outside-its-network", "A subnet's range must lie in one of its network's ranges.",
		"network quay in tides {\n  range  10.20.0.0/16\n  subnet front 10.20.1.0/24\n}"},
		[]string{"outside of the network"}},
	{Topic{"bad-loan", "What is lent is lent for a while: from a minute to a year.", "group gauges in quay {\n  " +
		"lend ssh to list pilot-stations for at most 2h\n}"},
		[]string{"can be lent for"}},
	{Topic{"undefined-exemption", "The group is not defined here. That is right if only a survey has it, and a " +
		"slip if it is misspelt.",
		"exempt lab/bench/rig from shut-admin because \"moving out\" until 2027-01-31 by \"m.teal\""},
		[]string{"no group is defined as"}},
	{Topic{"syntax", "Something else should stand at the caret. isonomos explain KEYWORD shows how a statement " +
		"is written.", "group booking in quay \"Pilot booking site\" {\n  admit https from everyone because " +
		"\"ships' agents book pilots\"\n}"},
		[]string{"expected ", "this is not a number", "a range stands as a peer", "no peer begins",
			"each entry of a list", "after \""}},
}

// MessageOf finds a kind of message by its name or by a piece of its text.
func MessageOf(text string) (Message, bool) {
	for _, m := range Messages {
		if m.Name == text {
			return m, true
		}
	}
	if len(strings.Fields(text)) < 2 {
		return Message{}, false // a single word is meant as a name
	}
	for _, m := range Messages {
		for _, piece := range m.Match {
			if strings.Contains(text, piece) {
				return m, true
			}
		}
	}
	return Message{}, false
}
