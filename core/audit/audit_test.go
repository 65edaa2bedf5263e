package audit_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"isonomos/core/audit"
	"isonomos/core/decide"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
)

const world = `
cloud c { dialect union }
account a { cloud c
  label stage = lab }
network n in a { range 10.0.0.0/16, fd00::/48 }
list known { 192.0.2.0/24 }
list halfway { 0.0.0.0/1 }
service secrets = tcp 7777 class data
group other in n "other" { }
`

// audited runs the checks over a group with the given rules.
func audited(t *testing.T, rules string) []audit.Finding {
	t.Helper()
	text := world + "group g in n \"what it is for\" {\n" + rules + "\n}\n"
	d := nomos.Understand([]*source.File{source.NewFile("x.nomos", text)}, resolve.Options{Now: time.Unix(0, 0)})
	for _, m := range d.Messages {
		if !strings.HasPrefix(rules, "expect") {
			t.Fatal(m)
		}
	}
	result := audit.Run(decide.New(d.Estate),
		audit.Options{Expects: d.Expects, Laws: d.Laws, Exemptions: d.Exemptions, Now: time.Unix(0, 0)})
	if len(result.Left) > 0 {
		t.Fatal(result.Left)
	}
	return slices.DeleteFunc(result.Findings,
		func(f audit.Finding) bool { return f.Group == nil || f.Group.Name != "g" })
}

// names are the checks that findings name, with the others that the same cause trips.
func names(found []audit.Finding) string {
	var parts []string
	for _, f := range found {
		name := f.Severity.String() + " " + f.Check
		for _, r := range f.Also {
			name += "+" + r.Check
		}
		parts = append(parts, name)
	}
	return strings.Join(parts, ", ")
}

// Each check fires where it should, and not on a near miss.
func TestChecks(t *testing.T) {
	const why = ` because "x"`
	for _, x := range []struct{ rules, want string }{
		{`admit ssh from everyone` + why, "high open-admin-port"},
		{`admit ssh from everyone v4` + why, "high open-admin-port"},
		{`admit ssh from everyone v6` + why, "high open-admin-port+one-family"},
		{`admit ssh from list known` + why, ""},
		{`admit ssh from list halfway` + why, "high open-admin-port"},
		{`admit ssh from 10.0.0.0/8` + why, "low wide-inbound"},
		{`admit ssh from 10.0.0.0/15` + why, ""},
		{`admit ssh from everyone except 0.0.0.0/1, 128.0.0.0/1, ::/0` + why, ""},
		{`admit ssh from 192.0.0.0/3` + why, "high open-admin-port"},
		{`admit ssh from 192.0.0.0/5` + why, "low wide-inbound+undeclared-addresses"}, // 8 of 221 parts: wide, not open
		{`admit postgres from everyone` + why, "high open-data-port"},
		{`admit secrets from everyone` + why, "high open-data-port"},
		{`admit postgres from group other` + why, ""},
		{`admit https from everyone` + why, "medium open-inbound"},
		{`admit https from list known` + why, ""},
		{`reach https at everyone` + why, ""},
		{`admit any from network` + why, "high all-services"},
		{`admit tcp from group other` + why, "high all-services"},
		{`admit any from self` + why, "low catch-all-self"},
		{`admit tcp 1-1000, udp from self` + why, "medium wide-ports"},
		{`admit icmp from network` + why, ""},
		{`admit tcp 1-65535 from network` + why, "high all-services+wide-ports"},
		{"admit tcp 0-32767 from network" + why + "\nadmit tcp 32768-65535 from network" + why,
			"high all-services, medium wide-ports, medium wide-ports"},
		{`admit tcp 2-65535 from network` + why, "medium wide-ports"},
		{"admit tcp 8000-8009, tcp 8010-8019 from network" + why, "medium wide-ports"},
		{`admit tcp 22-80 from network` + why, "medium wide-ports"},
		{`admit tcp 8000-8015 from network` + why, ""},
		{`admit tcp 8000-8016 from network` + why, "medium wide-ports"},
		{"admit rdp from 0.0.0.0/1" + why + "\nadmit rdp from 128.0.0.0/1" + why, "high open-admin-port+open-in-sum"},
		{"admit https from 192.0.0.0/5" + why + "\nadmit https from 200.0.0.0/5" + why +
			"\nadmit https from 208.0.0.0/5" + why, "medium open-in-sum+open-inbound+undeclared-addresses"},
		{"admit https from 192.0.0.0/5" + why + "\nadmit http from 200.0.0.0/5" + why,
			"low wide-inbound+undeclared-addresses, low wide-inbound+undeclared-addresses"},
		{"admit ssh from everyone" + why + "\nadmit ssh from list known" + why, "high open-admin-port, low overruled"},
		{"admit any from 0.0.0.0/0" + why + "\nadmit any from ::/0" + why,
			"high open-admin-port+open-data-port+all-services+open-inbound+open-cleartext"},
		{"admit ssh from everyone" + why + "\nadmit rdp from everyone" + why,
			"high open-admin-port, high open-admin-port"},
		{"admit postgres from group other" + why + "\nadmit postgres from everyone v6" + why,
			"high open-data-port+one-family"},
		{"admit https from everyone v4" + why + "\nadmit https from 2001:db8:9::/48" + why,
			"high one-family+open-inbound, low undeclared-addresses"},
		{"admit https from everyone v4" + why + "\nadmit https from fd00::/48" + why, "medium open-inbound"},
		{"admit https from everyone v4" + why + "\nadmit https from network" + why, "medium open-inbound"},
		{"admit https from 10.0.1.0/24" + why + "\nadmit https from 2400::/8" + why + "\nadmit https from 2600::/8" +
			why, "high one-family+open-in-sum+open-inbound+undeclared-addresses"},
		{"admit https from everyone v4" + why + "\nadmit https from everyone v6" + why, "medium open-inbound"},
		{`admit any from everyone` + why,
			"high open-admin-port+open-data-port+all-services+open-inbound+open-cleartext"},
		{`admit ssh from list known`, "info unexplained"},
		{`admit ssh from list known because "created by console"`, "info unexplained"},
		{`admit ssh from list known because "created for the night desk"`, ""},
	} {
		if got := names(audited(t, x.rules)); got != x.want {
			t.Errorf("%s\n got %q\nwant %q", x.rules, got, x.want)
		}
	}
}

func TestDeclaredOpeningsAreNoFindings(t *testing.T) {
	rules := "admit https from everyone because \"x\"\nadmit ssh from everyone because \"x\"\n}\nexpect internet " +
		"can reach g on https\ngroup last in n \"y\" {"
	if got := names(audited(t, rules)); got != "high open-admin-port" {
		t.Errorf("got %q", got)
	}
}

func TestFindingTellsWhatItIsAbout(t *testing.T) {
	f := audited(t, `admit ssh, telnet from everyone because "x"`)[0]
	if f.Message != "ssh, telnet are let in from everyone (4,294,967,296 IPv4 addresses, all of IPv6)" {
		t.Error(f.Message)
	}
	if f.Origin().Line != 11 || f.Example.Peer.Peer.String() != "192.0.2.77" && f.Example.Peer.Peer.String() == "" {
		t.Error(f.Origin(), f.Example)
	}
	if f.Breadth.IPv4 != 1 || f.Breadth.IPv6 != 1 {
		t.Error(f.Breadth)
	}
	if f.Arrival != audit.Unknown {
		t.Error("definitions alone can't tell whether anything arrives")
	}
}
