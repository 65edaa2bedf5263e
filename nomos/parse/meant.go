package parse

import (
	"slices"
	"strconv"
	"strings"

	"isonomos/core/near"
	"isonomos/nomos/scan"
	"isonomos/nomos/syntax"
	"isonomos/nomos/token"
)

// Words that people bring along from elsewhere, and the language's words for them. A message
// suggests the word that means the same before one that is merely spelled alike.

// meanings are the language's words for other words. Which of them is suggested depends on what is
// allowed at the place.
var meanings = func() map[string][]string {
	all := make(map[string][]string)
	for ours, others := range map[string]string{
		"admit":     "allow permit accept open pass grant let enable ingress inbound incoming input ingress_rule",
		"reach":     "egress outbound outgoing output egress_rule access connect talk contact",
		"refuse":    "deny block reject drop forbid prohibit disallow close",
		"lend":      "loan borrow jit",
		"from":      "source src sources origin",
		"at":        "destination dst dest destinations towards target url address endpoint uri host",
		"to":        "with into and",
		"on":        "over via using port ports service services protocol protocols",
		"because":   "reason comment description desc note justification why",
		"until":     "expires expiry expire ends end till through expiration",
		"except":    "but excluding exclude without minus unless save",
		"stateless": "no-state nostate",
		"where":     "when if matching",
		"cover":     "attach attached apply applies members targets assign select selector target",
		"label":     "tag tags labels",
		"named":     "name alias",
		"follow":    "inherit mirror",
		"use":       "include apply import call",
		"everyone":  "any all anyone anybody anywhere world public",
		"any":       "all every anything everything",
		"self":      "this me itself",
		"v4":        "ipv4 inet",
		"v6":        "ipv6 inet6",
		"icmpv6":    "icmp6 ipv6-icmp icmp-v6",
		"group":     "security_group security-group securitygroup sg firewall rules",
		"list":      "prefix-list prefix_list prefixlist ipset set addresses alias",
		"service":   "port ports application app",
		"pattern":   "template module macro function mixin",
		"connect":   "link allow permit flow",
		"law":       "policy guardrail constraint invariant",
		"exempt":    "exception exemption waiver waive ignore suppress skip allow",
		"expect":    "test assert check ensure verify",
		"cloud":     "provider platform",
		"account":   "project tenant",
		"estate":    "organization organisation org",
		"dialect":   "type kind model flavor flavour",
		"token":     "secret password key credential credentials api_key apikey passwd",
		"range":     "cidr cidrs cidr_block prefix prefixes addresses ranges ip ips",
		"limit":     "quota quotas limits",
		"folder":    "path ou unit",
		"region":    "zone location",
		"peered":    "peer peering peers peerings",
		"answers":   "ephemeral ephemeral-ports client-ports",
		"id":        "number identifier",
		"never":     "forbid deny prohibit block disallow no refuse",
		"always":    "require must requires mandatory need",
		"only":      "allow permit restrict",
		"severity":  "level priority",
		"control":   "controls standard reference ref",
		"enforced":  "enforce enforcing mandatory",
		"instance":  "instances machine machines server servers host hosts vm vms",
		"subnet":    "subnets subnetwork",
		"can":       "may should must could allowed permitted",
		"cannot":    "cant never mustnt blocked denied refused forbidden",
		"by":        "owner author approved-by approver",
		"text":      "string str",
		"number":    "int integer port",
		"peers":     "peer addresses",
		"services":  "service",
		"duration":  "time span",
		"subnets":   "subnet",
		"instances": "instance interfaces interface",
		"=":         "is equals eq like",
		"env":       "environment var variable",
		"room":      "capacity size max max_entries",
	} {
		for other := range strings.FieldsSeq(others) {
			all[other] = append(all[other], ours)
		}
	}
	for _, ours := range all {
		slices.Sort(ours) // it was read from a map, and must not depend on its order
	}
	return all
}()

// instead is how to write a statement of a group that begins with a foreign word, where the
// language has no word for it.
var instead = func() map[string]string {
	all := make(map[string]string)
	for _, x := range []struct{ way, words string }{
		{"what comes in is written: admit SERVICE from PEER",
			"ingress inbound incoming input in rule"},
		{"what goes out is written: reach SERVICE at PEER",
			"egress outbound outgoing output out"},
		{"who is let in stands behind the service: admit SERVICE from PEER",
			"source src sources from"},
		{"what is let out to stands behind the service: reach SERVICE at PEER",
			"destination dst dest destinations to at"},
		{"a range stands as a peer, as it is: admit SERVICE from 10.20.0.0/16",
			"cidr cidrs ip ips prefix address addresses range ranges"},
		{"a port stands behind its protocol: admit tcp 443 from PEER",
			"port ports protocol protocols tcp udp service services"},
		{"a title stands in quotes before \"{\", a reason behind because",
			"description desc comment title reason because"},
		{"there are no priorities: in a group with a refusal, the first statement that fits decides",
			"priority order rank weight index sequence"},
		{"the first word of a rule says what it does: admit, reach, refuse or lend",
			"action effect verdict"},
		{"rules keep state unless they say stateless",
			"stateful state"},
	} {
		for word := range strings.FieldsSeq(x.words) {
			all[word] = x.way
		}
	}
	return all
}()

// Meant are the language's words for a foreign word, in alphabetical order.
func Meant(word string) []string { return meanings[strings.ToLower(word)] }

// meant suggests the word that the current one means, if it is allowed here.
func (p *parser) meant(words []string) string {
	if !p.at(token.Name) {
		return ""
	}
	for _, ours := range words { // the most likely one is listed first
		if slices.Contains(Meant(p.text()), ours) {
			return "write " + strconv.Quote(ours)
		}
	}
	return ""
}

// nearHint suggests the word that the current one means or is a misspelling of.
func (p *parser) nearHint(words []string) string {
	if !p.at(token.Name) {
		return ""
	}
	if hint := p.meant(words); hint != "" {
		return hint
	}
	if best, ok := near.Best(p.text(), words); ok {
		return strconv.Quote(best) + " is near"
	}
	return ""
}

// goesOn are the words that can continue a complete statement.
var goesOn = []string{"because", "until", "except", "stateless", "where", "on", "by", "v4", "v6", "from"}

// declarationHint shows the beginning of the declaration that the current word seems to mean.
func (p *parser) declarationHint() string {
	word := p.text()
	verb := ""
	for _, ours := range []string{"lend", "refuse", "reach", "admit"} {
		if ours == word || slices.Contains(Meant(word), ours) || word == "rule" {
			verb = ours
		}
	}
	line := " " + p.lineFrom(p.i) + " "
	switch {
	case slices.Contains(Meant(word), "use") && !strings.Contains(line, "("):
		p.silence(p.tokens[p.i].End, p.file.LineSpan(p.tokens[p.i].Start).End+1)
		return "all files of the folder and its sub-folders belong together: leave it out"
	case verb != "" && (strings.Contains(line, " from ") || !strings.Contains(line, " to ")):
		return "a rule stands in a group: group NAME in NETWORK { " + verb + " SERVICE " + prepositions[verb][0] +
			" PEER }"
	}
	return p.nearHint(token.Declarations)
}

// conditionHint is the hint for a condition behind a rule.
const conditionHint = "a condition stands around rules: where stage = production { … }"

// listHint is the hint for a line of a list.
func (p *parser) listHint() string {
	next := p.file.Of(p.ahead(1).Span)
	switch {
	case p.at(token.String) && isRange(scan.Unquote(p.text())):
		return "a range stands without quotes: " + scan.Unquote(p.text())
	case p.at(token.Name) && p.ahead(1).Kind == token.Range, p.at(token.Name) && p.ahead(1).Kind == token.String &&
		isRange(scan.Unquote(next)):
		return "write the range alone: " + strings.Trim(next, `"`)
	}
	if hint := p.nearHint([]string{"list", "room", "published", "where"}); hint != "" {
		return hint
	}
	return "a range, an address, list, room, published or where"
}

// strayPort fails if a service is followed by a port: tcp 443, 80.
func (p *parser) strayPort(before syntax.Spec) {
	if p.oneOfKinds(token.Number, token.NumberSpan) && len(before.Ports) == 1 {
		first := before.Ports[0]
		p.fail(p.tok().Span, "write: "+before.Kind+" ("+p.file.Of(first.Span)+", "+p.text()+")",
			"several ports stand in brackets")
	}
}

// foreignService fails if a foreign word stands in front of a service or in its place: admit
// inbound tcp 443, admit cidr 10.0.0.0/8.
func (p *parser) foreignService(name syntax.Word) {
	meant := Meant(name.Text)
	switch {
	case p.oneOf(token.Specs...) && (slices.Contains(meant, "admit") || slices.Contains(meant, "reach")):
		p.fail(name.Span, "leave it out: admit lets in, reach lets out", "no service is called %q", name.Text)
	case p.at(token.Range):
		p.fail(name.Span, "first the service, then the peer: https from "+p.text(), "no service is called %q",
			name.Text)
	}
}
