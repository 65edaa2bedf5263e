package store

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"isonomos/core/addr"
	"isonomos/core/estate"
)

// WriteSurvey writes an estate as a survey; ReadSurvey reads it back to an equal estate. Objects
// need ids, so definitions alone can't be written.
func WriteSurvey(w io.Writer, e *estate.Estate) error {
	out := bufio.NewWriterSize(w, 1<<20)
	_, _ = out.WriteString(HeadLines(e.Name, e.Taken, e.Clouds)) // Flush reports a failed write
	for _, u := range e.Unread {
		_, _ = out.WriteString(UnreadLine(u))
	}
	writeObjects(out, e)
	return out.Flush()
}

// HeaderLine is the first line of a survey.
func HeaderLine(name string, taken time.Time) string {
	return encoded(record{Kind: "survey", Version: SurveyVersion, Taken: taken.UTC().Format(time.RFC3339),
		Estate: name})
}

// CloudLine is the line of a cloud.
func CloudLine(c *estate.Cloud) string {
	return encoded(record{Kind: "cloud", Name: c.Name, Dialect: c.Dialect})
}

// HeadLines are the first lines of a survey: its header, and its clouds.
func HeadLines(name string, taken time.Time, clouds []*estate.Cloud) string {
	text := HeaderLine(name, taken)
	for _, c := range clouds {
		text += CloudLine(c)
	}
	return text
}

// UnreadLine is the line of an account or cloud that could not be surveyed.
func UnreadLine(u estate.Unread) string {
	return encoded(record{Kind: "unread", Account: u.Account, Cloud: u.Cloud, Reason: u.Reason})
}

func encoded(r record) string {
	var b strings.Builder
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(r) // a record can always be encoded
	return b.String()
}

// ObjectLines are the lines of an estate's accounts and of what is in them, as
// WriteSurvey writes them.
func ObjectLines(e *estate.Estate) []byte {
	var out bytes.Buffer
	writeObjects(&out, e)
	return out.Bytes()
}

// writeObjects writes accounts and their contents, a line each. The writer remembers a failed
// write.
func writeObjects(out io.Writer, e *estate.Estate) {
	enc := json.NewEncoder(out)
	enc.SetEscapeHTML(false)
	put := func(r record) { _ = enc.Encode(r) }
	for _, a := range e.Accounts {
		put(record{Kind: "account", Name: a.Name, Cloud: a.Cloud.Name, ID: a.ID, Region: a.Region, Folder: a.Folder,
			Labels: a.Labels, Limits: a.Limits})
	}
	for _, n := range e.Networks {
		r := record{Kind: "network", Account: n.Account.Name, ID: n.ID, Name: n.Name, Ranges: rangeTexts(n.Ranges),
			Labels: n.Labels}
		if n.Answers.To > 0 {
			r.Answers = fmt.Sprintf("%d-%d", n.Answers.From, n.Answers.To)
		}
		for _, p := range n.Peered {
			r.Peers.networks = append(r.Peers.networks, networkRef{p.Account.Name, p.ID})
		}
		put(r)
		for _, s := range n.Subnets {
			put(subnetRecord(s))
		}
	}
	for _, l := range e.Lists {
		if l.Account != nil { // a defined list is written with the accounts that have it
			put(listRecord(l))
		}
	}
	for _, i := range e.Instances {
		put(instanceOf(i))
	}
	for _, g := range e.Groups {
		put(groupRecord(g))
		for i := range g.Rules {
			put(ruleRecord(g, &g.Rules[i]))
		}
	}
}

// GroupLine is a group as a line of a survey, without its rules.
func GroupLine(g *estate.Group) string { return encoded(groupRecord(g)) }

// RuleLine is a rule of a group as a line of a survey.
func RuleLine(g *estate.Group, r *estate.Rule) string { return encoded(ruleRecord(g, r)) }

// ListLine is a list as a line of a survey.
func ListLine(l *estate.List) string { return encoded(listRecord(l)) }

// SubnetLine is a subnet as a line of a survey.
func SubnetLine(s *estate.Subnet) string { return encoded(subnetRecord(s)) }

// InstanceLine is an instance as a line of a survey.
func InstanceLine(i *estate.Instance) string { return encoded(instanceOf(i)) }

func groupRecord(g *estate.Group) record {
	r := record{Kind: "group", Account: g.Account.Name, ID: g.ID, Name: g.Name, For: string(g.For),
		Description: g.Description, Labels: withMade(g.Labels, g.Made), BuiltIn: g.BuiltIn, Default: g.Default}
	if stateful := false; g.Stateless {
		r.Stateful = &stateful
	}
	if g.Network != nil {
		r.Network = g.Network.ID
	}
	return r
}

func listRecord(l *estate.List) record {
	r := record{Kind: "list", Account: l.Account.Name, ID: l.ID, Name: l.Name, Owner: l.Owner, Region: l.Region,
		Description: l.Description, Labels: withMade(l.Labels, l.Made), Capacity: l.Capacity}
	for _, entry := range l.Entries {
		r.Entries = append(r.Entries, entry.Range.String())
	}
	return r
}

func subnetRecord(s *estate.Subnet) record {
	n := s.Network
	r := record{Kind: "subnet", Account: n.Account.Name, Network: n.ID, ID: s.ID, Name: s.Name,
		Ranges: rangeTexts(s.Ranges), Groups: groupIDs(s.Groups), Labels: s.Labels}
	for _, route := range s.Routes {
		x := routeRecord{To: route.To.String(), Via: string(route.Via)}
		if route.Network != nil {
			x.Network = route.Network.ID
			if route.Network.Account != n.Account {
				x.Account = route.Network.Account.Name
			}
		}
		if route.Address.IsValid() {
			x.Address = route.Address.String()
		}
		r.Routes = append(r.Routes, x)
	}
	return r
}

func instanceOf(i *estate.Instance) record {
	r := record{Kind: "instance", Account: i.Account.Name, ID: i.ID, Name: i.Name, Type: string(i.Kind),
		Labels: i.Labels}
	for _, f := range i.Interfaces {
		x := interfaceRecord{ID: f.ID, Subnet: f.Subnet.ID, Private: addrTexts(f.Private),
			Public: addrTexts(f.Public), Groups: groupIDs(f.Groups)}
		filtered := !f.Unfiltered
		x.Filtered = &filtered
		r.Interfaces = append(r.Interfaces, x)
	}
	for _, l := range i.Listeners {
		x := listenerRecord{Service: l.Service.String(), Port: int(l.Port)}
		if l.Probe.Protocol != 0 {
			x.Probe = l.Probe.String()
		}
		for _, t := range l.Targets {
			x.Targets = append(x.Targets, t.ID)
		}
		r.Listeners = append(r.Listeners, x)
	}
	return r
}

func ruleRecord(g *estate.Group, rule *estate.Rule) record {
	r := record{Kind: "rule", Account: g.Account.Name, Group: g.ID, ID: rule.ID, Direction: string(rule.Direction),
		Action: string(rule.Action), Rank: rule.Rank,
		Stateless: rule.Stateless, Description: rule.Description, BuiltIn: rule.BuiltIn}
	for _, s := range rule.Services {
		r.Services = append(r.Services, s.String())
	}
	for _, p := range rule.Peers {
		r.Peers.texts = append(r.Peers.texts, peerText(g, p))
	}
	if c := rule.Changed; c != nil {
		r.Changed = &changed{By: c.By}
		if !c.At.IsZero() {
			r.Changed.At = c.At.UTC().Format(time.RFC3339)
		}
	}
	return r
}

func peerText(g *estate.Group, p estate.Peer) string {
	ref := func(kind string, account *estate.Account, id string) string {
		if account != nil && account != g.Account {
			id = account.Name + "/" + id
		}
		return kind + ":" + id + map[addr.Family]string{addr.IPv4: " v4", addr.IPv6: " v6"}[p.Family()]
	}
	switch p.Kind {
	case estate.PeerSelf:
		return ref("group", g.Account, g.ID)
	case estate.PeerGroup:
		return ref("group", p.Group.Account, p.Group.ID)
	case estate.PeerList:
		return ref("list", p.List.Account, p.List.ID)
	case estate.PeerRange:
		return p.Range.String()
	case estate.PeerNetwork:
		return "network"
	case estate.PeerPublic:
		return "internet"
	case estate.PeerProbes:
		return "probes"
	case estate.PeerMissing:
		return p.Missing
	}
	return "anything"
}

func rangeTexts(ranges []netip.Prefix) []string {
	texts := make([]string, len(ranges))
	for i, r := range ranges {
		texts[i] = r.String()
	}
	return texts
}

func addrTexts(addrs []netip.Addr) []string {
	texts := make([]string, len(addrs))
	for i, a := range addrs {
		texts[i] = a.String()
	}
	return texts
}

func groupIDs(groups []*estate.Group) []string {
	ids := make([]string, len(groups))
	for i, g := range groups {
		ids[i] = g.ID
	}
	return ids
}
