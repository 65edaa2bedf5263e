package cloud

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"isonomos/core/estate"
)

// The objects of OpenStack Networking, with the fields that are read.
type (
	osNetwork struct {
		ID   string   `json:"id"`
		Name string   `json:"name"`
		Tags []string `json:"tags"`
	}
	osSubnet struct {
		ID      string   `json:"id"`
		Name    string   `json:"name"`
		Network string   `json:"network_id"`
		Range   string   `json:"cidr"`
		Tags    []string `json:"tags"`
	}
	osPort struct {
		ID       string   `json:"id"`
		Name     string   `json:"name"`
		Network  string   `json:"network_id"`
		Device   string   `json:"device_id"`
		Owner    string   `json:"device_owner"`
		Groups   []string `json:"security_groups"`
		Filtered *bool    `json:"port_security_enabled"`
		Tags     []string `json:"tags"`
		Revision int      `json:"revision_number"`
		Fixed    []struct {
			Subnet  string `json:"subnet_id"`
			Address string `json:"ip_address"`
		} `json:"fixed_ips"`
	}
	osFloating struct {
		ID      string `json:"id"`
		Port    string `json:"port_id"`
		Address string `json:"floating_ip_address"`
	}
	osRouter struct {
		ID      string `json:"id"`
		Gateway *struct {
			Network string `json:"network_id"`
		} `json:"external_gateway_info"`
	}
	osGroup struct {
		ID          string   `json:"id"`
		Name        string   `json:"name"`
		Description string   `json:"description"`
		Stateful    *bool    `json:"stateful"`
		Tags        []string `json:"tags"`
		Project     string   `json:"project_id"`
		Revision    int      `json:"revision_number"`
		Rules       []osRule `json:"security_group_rules"`
	}
	osRule struct {
		ID          string  `json:"id,omitempty"`
		Group       string  `json:"security_group_id"`
		Direction   string  `json:"direction"`
		Family      string  `json:"ethertype"`
		Protocol    *string `json:"protocol"`
		From        *int    `json:"port_range_min"`
		To          *int    `json:"port_range_max"`
		Range       *string `json:"remote_ip_prefix"`
		Normal      *string `json:"normalized_cidr,omitempty"`
		RemoteGroup *string `json:"remote_group_id"`
		RemoteList  *string `json:"remote_address_group_id"`
		Description *string `json:"description"`
	}
	osList struct {
		ID          string   `json:"id"`
		Name        string   `json:"name"`
		Description string   `json:"description"`
		Addresses   []string `json:"addresses"`
		Project     string   `json:"project_id"`
	}
	osQuota struct {
		Quota struct {
			Groups int `json:"security_group"`
			Rules  int `json:"security_group_rule"`
		} `json:"quota"`
	}
)

// Survey reads a project. OpenStack Networking can't give a snapshot of it: if groups have changed
// meanwhile, they are read again.
func (o *OpenStack) Survey(ctx context.Context, account string) ([]byte, error) {
	project, err := o.project(ctx, account)
	if err != nil {
		return nil, err
	}
	for range mostRestarts {
		before, err := o.groups(ctx, account, project)
		if err != nil {
			return nil, err
		}
		lines, err := o.surveyWith(ctx, account, project, before, nil)
		if err != nil {
			return nil, err
		}
		after, err := o.groups(ctx, account, project)
		if err != nil {
			return nil, err
		}
		if slices.EqualFunc(before, after,
			func(a, b osGroup) bool { return a.ID == b.ID && a.Revision == b.Revision }) {
			return lines, nil
		}
	}
	return nil, errChanged
}

// groups reads a project's own groups, sorted by id.
func (o *OpenStack) groups(ctx context.Context, account, project string) ([]osGroup, error) {
	return all(ctx, o, account, "security-groups", url.Values{"project_id": {project}},
		func(g osGroup) string { return g.ID })
}

// surveyWith writes a project as a survey. What is kept of it is not read again.
func (o *OpenStack) surveyWith(ctx context.Context, account, project string, groups []osGroup, kept *osKept) ([]byte,
	error) {
	own := url.Values{"project_id": {project}}
	networks, err := keptList(ctx, o, account, "networks", nil, func(n osNetwork) string { return n.ID }, kept)
	if err != nil {
		return nil, err
	}
	subnets, err := keptList(ctx, o, account, "subnets", nil, func(s osSubnet) string { return s.ID }, kept)
	if err != nil {
		return nil, err
	}
	ports, err := keptList(ctx, o, account, "ports", own, func(p osPort) string { return p.ID }, kept)
	if err != nil {
		return nil, err
	}
	floating, err := keptList(ctx, o, account, "floatingips", own, func(f osFloating) string { return f.ID }, kept)
	if err != nil {
		return nil, err
	}
	routers, err := keptList(ctx, o, account, "routers", own, func(r osRouter) string { return r.ID }, kept)
	if err != nil {
		return nil, err
	}
	lists, err := keptList(ctx, o, account, "address-groups", own, func(l osList) string { return l.ID }, kept)
	if err != nil {
		return nil, err
	}
	var quota osQuota
	if err := o.ask(ctx, account, http.MethodGet, "quotas/"+project, nil, &quota, nil); err != nil &&
		!errors.Is(err, ErrGone) {
		return nil, err
	}
	var out bytes.Buffer
	put := func(line any) {
		text, err := json.Marshal(line)
		if err != nil {
			panic(err) // encoding texts and numbers can't fail
		}
		out.Write(append(text, '\n'))
	}
	limits := make(map[string]int)
	if quota.Quota.Groups > 0 {
		limits["groups-per-account"] = quota.Quota.Groups
	}
	if quota.Quota.Rules > 0 {
		limits["rules-per-account"] = quota.Quota.Rules
	}
	p := o.accounts[slices.IndexFunc(o.accounts, func(p Project) bool { return p.Account == account })]
	put(osLine{Kind: "account", Name: account, Cloud: o.cloud, ID: project, Region: p.Region, Limits: limits})
	for _, n := range networks {
		line := osLine{Kind: "network", Account: account, ID: n.ID, Name: n.Name, Labels: labelsOfTags(n.Tags)}
		for _, s := range subnets {
			if s.Network == n.ID {
				line.Ranges = append(line.Ranges, s.Range)
			}
		}
		put(line)
	}
	outside := gateways(ports, routers)
	for _, s := range subnets {
		line := osLine{Kind: "subnet", Account: account, Network: s.Network, ID: s.ID, Name: s.Name,
			Ranges: []string{s.Range}, Labels: labelsOfTags(s.Tags)}
		if outside[s.ID] {
			to := "0.0.0.0/0"
			if strings.Contains(s.Range, ":") {
				to = "::/0"
			}
			line.Routes = []osRoute{{to, "internet"}}
		}
		put(line)
	}
	for _, l := range lists {
		put(listLine(account, l))
	}
	for _, g := range groups {
		for _, line := range groupLines(account, g) {
			put(line)
		}
	}
	for _, line := range instanceLines(account, ports, floating) {
		put(line)
	}
	return out.Bytes(), nil
}

// gateways finds the subnets that have a router with a gateway to the outside.
func gateways(ports []osPort, routers []osRouter) map[string]bool {
	open := make(map[string]bool)
	for _, r := range routers {
		open[r.ID] = r.Gateway != nil
	}
	outside := make(map[string]bool)
	for _, p := range ports {
		if strings.HasPrefix(p.Owner, "network:router_interface") && open[p.Device] {
			for _, f := range p.Fixed {
				outside[f.Subnet] = true
			}
		}
	}
	return outside
}

// An osLine is a line of a survey, with the fields that OpenStack can fill.
type osLine struct {
	Kind        string            `json:"kind"`
	Account     string            `json:"account,omitempty"`
	Network     string            `json:"network,omitempty"`
	Group       string            `json:"group,omitempty"`
	ID          string            `json:"id,omitempty"`
	Name        string            `json:"name,omitempty"`
	Cloud       string            `json:"cloud,omitempty"`
	Region      string            `json:"region,omitempty"`
	Limits      map[string]int    `json:"limits,omitempty"`
	Ranges      []string          `json:"ranges,omitempty"`
	Routes      []osRoute         `json:"routes,omitempty"`
	For         string            `json:"for,omitempty"`
	Type        string            `json:"type,omitempty"`
	Interfaces  []osInterface     `json:"interfaces,omitempty"`
	Description string            `json:"description,omitempty"`
	Labels      map[string]string `json:"labels,omitempty"`
	BuiltIn     bool              `json:"built_in,omitempty"`
	Default     bool              `json:"default,omitempty"`
	Stateful    *bool             `json:"stateful,omitempty"`
	Direction   string            `json:"direction,omitempty"`
	Action      string            `json:"action,omitempty"`
	Peers       []string          `json:"peers,omitempty"`
	Services    []string          `json:"services,omitempty"`
	Owner       string            `json:"owner,omitempty"`
	Entries     []string          `json:"entries,omitempty"`
}

type osRoute struct {
	To  string `json:"to"`
	Via string `json:"via"`
}

type osInterface struct {
	ID       string   `json:"id"`
	Subnet   string   `json:"subnet"`
	Private  []string `json:"private"`
	Public   []string `json:"public,omitempty"`
	Groups   []string `json:"groups"`
	Filtered bool     `json:"filtered"`
}

// labelsOfTags reads tags as labels: k=v, or k without a value.
func labelsOfTags(tags []string) map[string]string {
	if len(tags) == 0 {
		return nil
	}
	labels := make(map[string]string)
	for _, t := range tags {
		name, value, _ := strings.Cut(t, "=")
		labels[name] = value
	}
	return labels
}

// tagsOfLabels is the reverse of labelsOfTags.
func tagsOfLabels(labels map[string]string) []string {
	tags := []string{}
	for _, name := range slices.Sorted(maps.Keys(labels)) {
		if labels[name] != "" {
			name += "=" + labels[name]
		}
		tags = append(tags, name)
	}
	return tags
}

// groupLines are the lines of a group and of its rules. Rules are sorted by id: OpenStack promises
// no order, and may change it between two answers.
func groupLines(account string, g osGroup) []osLine {
	description, labels := unmarked(g.Description, labelsOfTags(g.Tags), madeMark)
	lines := []osLine{{Kind: "group", Account: account, ID: g.ID, Name: g.Name, For: "instances",
		Description: description, Labels: labels, BuiltIn: g.Name == "default",
		Default: g.Name == "default", Stateful: g.Stateful}}
	rules := slices.SortedFunc(slices.Values(g.Rules), func(a, b osRule) int { return strings.Compare(a.ID, b.ID) })
	for _, r := range rules {
		lines = append(lines, ruleLine(account, r))
	}
	return lines
}

// mark is how an address group, which can't have tags, is marked as an estate's own: at the end of
// its description.
var mark = regexp.MustCompile(` ?\[` + estate.OwnLabel + `=([^\]]*)\]$`)

// madeMark is where a group or address group says which step of which run made it, until that is settled: at the end of
// its description, before the mark.
var madeMark = regexp.MustCompile(` ?\[` + estate.MadeLabel + `=([^\]]*)\]$`)

func listLine(account string, l osList) osLine {
	line := osLine{Kind: "list", Account: account, ID: l.ID, Name: l.Name, Owner: "own",
		Entries: slices.Sorted(slices.Values(l.Addresses))}
	line.Description, line.Labels = unmarked(l.Description, nil, mark, madeMark)
	return line
}

// unmarked takes marks off the end of a description. They are labels.
func unmarked(description string, labels map[string]string, marks ...*regexp.Regexp) (string, map[string]string) {
	for _, x := range marks {
		m := x.FindStringSubmatch(description)
		if m == nil {
			continue
		}
		description = strings.TrimSuffix(description, m[0])
		if labels == nil {
			labels = make(map[string]string)
		}
		name := estate.OwnLabel
		if x == madeMark {
			name = estate.MadeLabel
		}
		labels[name] = m[1]
	}
	return description, labels
}

// marked adds marks to a description, which is cut where there is too little room. Other labels are refused: there is
// no place for them.
func marked(description string, labels map[string]string) (string, error) {
	tail := ""
	for _, name := range []string{estate.MadeLabel, estate.OwnLabel} {
		if labels[name] != "" {
			tail += " [" + name + "=" + labels[name] + "]"
		}
	}
	for name := range labels {
		if name != estate.OwnLabel && name != estate.MadeLabel {
			return "", fmt.Errorf("%w: address groups of OpenStack have no labels (%s)", ErrRefused, name)
		}
	}
	if tail == "" {
		return description, nil
	}
	for len(description)+len(tail) > 255 {
		description = description[:len(description)-1]
	}
	return strings.TrimSpace(strings.ToValidUTF8(description, "") + tail), nil
}

// instanceLines are the lines of instances: the devices of ports. A port without a device is an
// instance by itself. Ports of the network's own services (DHCP, routers) are not filtered, and are
// left out.
func instanceLines(account string, ports []osPort, floating []osFloating) []osLine {
	public := make(map[string][]string)
	for _, f := range floating {
		if f.Port != "" {
			public[f.Port] = append(public[f.Port], f.Address)
		}
	}
	var lines []osLine
	at := make(map[string]int)
	for _, p := range ports {
		if strings.HasPrefix(p.Owner, "network:") || len(p.Fixed) == 0 {
			continue
		}
		id := cmp.Or(p.Device, p.ID)
		n, there := at[id]
		if !there {
			n = len(lines)
			at[id] = n
			lines = append(lines, osLine{Kind: "instance", Account: account, ID: id, Name: cmp.Or(p.Name, id),
				Type: "machine", Labels: labelsOfTags(p.Tags)})
		}
		face := osInterface{ID: p.ID, Subnet: p.Fixed[0].Subnet, Public: public[p.ID],
			Groups: orEmpty(slices.Sorted(slices.Values(p.Groups))), Filtered: p.Filtered == nil || *p.Filtered}
		for _, f := range p.Fixed {
			face.Private = append(face.Private, f.Address)
		}
		lines[n].Interfaces = append(lines[n].Interfaces, face)
	}
	return lines
}
