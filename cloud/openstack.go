package cloud

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gophercloud/gophercloud/v2"
	"github.com/gophercloud/gophercloud/v2/openstack"
	"github.com/gophercloud/gophercloud/v2/openstack/config"
	"github.com/gophercloud/gophercloud/v2/openstack/config/clouds"
	"github.com/gophercloud/gophercloud/v2/openstack/identity/v3/tokens"
	"github.com/hashicorp/go-retryablehttp"
)

// OpenStack reaches OpenStack Networking (API v2.0) as a cloud of the dialect flat.
// An account is a project; who asks comes from the standard clouds.yaml and the
// environment (OS_…). Ports are interfaces; those of one device are one instance.
type OpenStack struct {
	profile  string
	cloud    string // its name in the definitions
	accounts []Project

	mu      sync.Mutex
	clients map[string]*gophercloud.ServiceClient // by account
}

// A Project says which project of an OpenStack cloud an account is.
type Project struct {
	Account string
	ID      string // id or name; empty means the profile's own
	Region  string // empty means the profile's own
}

// NewOpenStack makes a client for a profile of clouds.yaml. Nobody is asked yet.
func NewOpenStack(cloud, profile string, accounts []Project) *OpenStack {
	return &OpenStack{profile: profile, cloud: cloud, accounts: accounts, clients: make(map[string]*gophercloud.ServiceClient)}
}

// Dialect is flat.
func (o *OpenStack) Dialect(context.Context) (string, error) { return "flat", nil }

// Accounts are those that the definitions name: which others there are only an
// administrator is told.
func (o *OpenStack) Accounts(context.Context) ([]string, error) {
	var names []string
	for _, p := range o.accounts {
		names = append(names, p.Account)
	}
	return names, nil
}

// aProjectID is how identifiers of projects look.
var aProjectID = regexp.MustCompile(`^[0-9a-f]{32}$|^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$`)

// client signs in for an account's project, once.
func (o *OpenStack) client(ctx context.Context, account string) (*gophercloud.ServiceClient, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if c := o.clients[account]; c != nil {
		return c, nil
	}
	i := slices.IndexFunc(o.accounts, func(p Project) bool { return p.Account == account })
	if i < 0 {
		return nil, fmt.Errorf("no account is called %q", account)
	}
	p := o.accounts[i]
	auth, endpoint, with, err := clouds.Parse(clouds.WithCloudName(o.profile))
	if err != nil {
		return nil, fmt.Errorf("the profile %s can't be had from clouds.yaml: %w", o.profile, err)
	}
	auth.AllowReauth = true
	switch {
	case aProjectID.MatchString(p.ID):
		auth.Scope = &gophercloud.AuthScope{ProjectID: p.ID}
	case p.ID != "":
		auth.Scope = &gophercloud.AuthScope{ProjectName: p.ID, DomainID: auth.DomainID, DomainName: auth.DomainName}
		if auth.Scope.DomainID == "" && auth.Scope.DomainName == "" {
			auth.Scope.DomainID = "default"
		}
	}
	if auth.Scope != nil { // the profile's own project counts no more
		auth.TenantID, auth.TenantName = "", ""
	}
	if err := overTLS(auth.IdentityEndpoint); err != nil {
		return nil, err
	}
	provider, err := config.NewProviderClient(ctx, auth, config.WithHTTPClient(transport(with)))
	if err != nil {
		return nil, fmt.Errorf("signing in: %w", spoken(err))
	}
	c, err := openstack.NewNetworkV2(provider, endpoint)
	if err != nil {
		return nil, fmt.Errorf("the identity service tells of no networking service: %w", err)
	}
	if err := overTLS(c.Endpoint); err != nil {
		return nil, err
	}
	o.clients[account] = c
	return c, nil
}

// transport asks again where a request failed that changes nothing, waits as it is
// told, and carries no token elsewhere.
func transport(with *tls.Config) http.Client {
	c := retryablehttp.NewClient()
	c.Logger = nil
	c.RetryMax, c.RetryWaitMin, c.RetryWaitMax = 7, 200*time.Millisecond, 20*time.Second
	c.CheckRetry = again
	c.ErrorHandler = retryablehttp.PassthroughErrorHandler
	base := http.DefaultTransport.(*http.Transport).Clone()
	base.TLSClientConfig = with
	c.HTTPClient = &http.Client{Transport: base, Timeout: time.Minute}
	client := *c.StandardClient()
	client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return client
}

// overTLS refuses addresses over which a password or token would be readable.
func overTLS(address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return fmt.Errorf("the address %q is no URL", address)
	}
	if u.Scheme != "https" && !loopback(u.Hostname()) {
		return fmt.Errorf("%s is not reached over TLS: a password would be readable on the way (use https)", u.Host)
	}
	return nil
}

// spoken is an error of the client in its own words, sorted by what it means.
func spoken(err error) error {
	var unexpected gophercloud.ErrUnexpectedResponseCode
	if errors.As(err, &unexpected) {
		var body struct {
			NeutronError struct{ Type, Message string }
			Error        struct{ Message string }
		}
		text := http.StatusText(unexpected.Actual)
		if json.Unmarshal(unexpected.Body, &body) == nil {
			text = cmp.Or(strings.TrimSpace(body.NeutronError.Type+": "+body.NeutronError.Message), body.Error.Message, text)
			if body.NeutronError.Type == "" {
				text = cmp.Or(body.Error.Message, http.StatusText(unexpected.Actual))
			}
		}
		return &answered{unexpected.Actual, fmt.Sprintf("%d %s", unexpected.Actual, text)}
	}
	var op *net.OpError
	if errors.As(err, &op) && op.Op == "dial" {
		return fmt.Errorf("nobody answers at %s", op.Addr)
	}
	return plainly(err)
}

// ask sends a request and reads the answer into a value.
func (o *OpenStack) ask(ctx context.Context, account, method, path string, body, into any, headers map[string]string) error {
	c, err := o.client(ctx, account)
	if err != nil {
		return err
	}
	options := &gophercloud.RequestOpts{OkCodes: []int{200, 201, 202, 204}, MoreHeaders: headers, KeepResponseBody: true}
	if body != nil {
		options.JSONBody = body
	}
	answer, err := c.Request(ctx, method, c.ServiceURL(path), options)
	if err != nil {
		return spoken(err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, mostBody+1))
	if err != nil {
		return fmt.Errorf("%w: %w", errCutOff, plainly(err))
	}
	if len(text) > mostBody {
		return fmt.Errorf("the answer is longer than %d MB", mostBody>>20)
	}
	if into == nil || len(bytes.TrimSpace(text)) == 0 {
		return nil
	}
	if err := json.Unmarshal(text, into); err != nil {
		return fmt.Errorf("the answer is not what the interface says: %w", err)
	}
	return nil
}

// mostPage is how many things are asked for at once.
const mostPage = 500

// all reads a whole list, page by page. What the cloud does not offer is empty.
func all[T any](ctx context.Context, o *OpenStack, account, what string, query url.Values, idOf func(T) string) ([]T, error) {
	var list []T
	name := strings.ReplaceAll(what, "-", "_")
	marker := ""
	for {
		q := maps.Clone(query)
		if q == nil {
			q = url.Values{}
		}
		q.Set("limit", fmt.Sprint(mostPage))
		q.Set("sort_key", "id")
		q.Set("sort_dir", "asc")
		if marker != "" {
			q.Set("marker", marker)
		}
		var page map[string]json.RawMessage
		err := o.ask(ctx, account, http.MethodGet, what+"?"+q.Encode(), nil, &page, nil)
		if errors.Is(err, ErrGone) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		var items []T
		if err := json.Unmarshal(page[name], &items); err != nil {
			return nil, fmt.Errorf("the list of %s is not what the interface says: %w", what, err)
		}
		list = append(list, items...)
		if len(items) < mostPage {
			return list, nil
		}
		next := idOf(items[len(items)-1])
		if next == marker {
			return nil, fmt.Errorf("the list of %s goes round in circles", what)
		}
		marker = next
	}
}

// What OpenStack Networking says, as far as it is looked at.
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

// project is the id of an account's project: what the token is for.
func (o *OpenStack) project(ctx context.Context, account string) (string, error) {
	c, err := o.client(ctx, account)
	if err != nil {
		return "", err
	}
	signed, ok := c.GetAuthResult().(interface {
		ExtractProject() (*tokens.Project, error)
	})
	if !ok {
		return "", errors.New("the identity service does not say which project the token is for")
	}
	p, err := signed.ExtractProject()
	if err != nil || p == nil {
		return "", errors.New("the token is for no project: name one in the profile, or as the account's id")
	}
	return p.ID, nil
}

// Survey reads a project. OpenStack Networking has no moment for all of it: where
// groups have changed meanwhile, they are read again.
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
		lines, err := o.surveyWith(ctx, account, project, before)
		if err != nil {
			return nil, err
		}
		after, err := o.groups(ctx, account, project)
		if err != nil {
			return nil, err
		}
		if slices.EqualFunc(before, after, func(a, b osGroup) bool { return a.ID == b.ID && a.Revision == b.Revision }) {
			return lines, nil
		}
	}
	return nil, errChanged
}

// groups are a project's own groups, in the order of their ids.
func (o *OpenStack) groups(ctx context.Context, account, project string) ([]osGroup, error) {
	return all(ctx, o, account, "security-groups", url.Values{"project_id": {project}}, func(g osGroup) string { return g.ID })
}

func (o *OpenStack) surveyWith(ctx context.Context, account, project string, groups []osGroup) ([]byte, error) {
	own := url.Values{"project_id": {project}}
	networks, err := all(ctx, o, account, "networks", nil, func(n osNetwork) string { return n.ID })
	if err != nil {
		return nil, err
	}
	subnets, err := all(ctx, o, account, "subnets", nil, func(s osSubnet) string { return s.ID })
	if err != nil {
		return nil, err
	}
	ports, err := all(ctx, o, account, "ports", own, func(p osPort) string { return p.ID })
	if err != nil {
		return nil, err
	}
	floating, err := all(ctx, o, account, "floatingips", own, func(f osFloating) string { return f.ID })
	if err != nil {
		return nil, err
	}
	routers, err := all(ctx, o, account, "routers", own, func(r osRouter) string { return r.ID })
	if err != nil {
		return nil, err
	}
	lists, err := all(ctx, o, account, "address-groups", own, func(l osList) string { return l.ID })
	if err != nil {
		return nil, err
	}
	var quota osQuota
	if err := o.ask(ctx, account, http.MethodGet, "quotas/"+project, nil, &quota, nil); err != nil && !errors.Is(err, ErrGone) {
		return nil, err
	}
	var out bytes.Buffer
	put := func(line any) {
		text, err := json.Marshal(line)
		if err != nil {
			panic(err) // texts and numbers
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
		line := osLine{Kind: "subnet", Account: account, Network: s.Network, ID: s.ID, Name: s.Name, Ranges: []string{s.Range}, Labels: labelsOfTags(s.Tags)}
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
		put(groupLine(account, g))
		for _, r := range g.Rules {
			put(ruleLine(account, r))
		}
	}
	for _, line := range instanceLines(account, ports, floating) {
		put(line)
	}
	return out.Bytes(), nil
}

// gateways are the subnets that have a router with a way to the outside.
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

// osLine is a line of a survey, as far as OpenStack has something to say.
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

// labelsOfTags are tags as labels: k=v, or one without a value.
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

// tagsOfLabels is the reverse.
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

func groupLine(account string, g osGroup) osLine {
	return osLine{Kind: "group", Account: account, ID: g.ID, Name: g.Name, For: "instances", Description: g.Description, Labels: labelsOfTags(g.Tags), BuiltIn: g.Name == "default", Stateful: g.Stateful}
}

// mark is how a list, which can't be tagged, says whose it is: at the end of its description.
var mark = regexp.MustCompile(` ?\[isonomos=([^\]]*)\]$`)

func listLine(account string, l osList) osLine {
	line := osLine{Kind: "list", Account: account, ID: l.ID, Name: l.Name, Owner: "own", Description: l.Description, Entries: slices.Sorted(slices.Values(l.Addresses))}
	if m := mark.FindStringSubmatch(l.Description); m != nil {
		line.Description = strings.TrimSuffix(l.Description, m[0])
		line.Labels = map[string]string{"isonomos": m[1]}
	}
	return line
}

// marked is a list's description with its mark. It has no room for other labels.
func marked(description string, labels map[string]string) (string, error) {
	for name := range labels {
		if name != "isonomos" {
			return "", fmt.Errorf("%w: address groups of OpenStack have no labels (%s)", ErrRefused, name)
		}
	}
	if owner := labels["isonomos"]; owner != "" {
		tail := " [isonomos=" + owner + "]"
		for len(description)+len(tail) > 255 {
			description = description[:len(description)-1]
		}
		description = strings.TrimSpace(strings.ToValidUTF8(description, "") + tail)
	}
	return description, nil
}

// instanceLines are the devices of ports. A port of no device is one by itself; those
// of the network's own services filter nothing and are left out.
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
			lines = append(lines, osLine{Kind: "instance", Account: account, ID: id, Name: cmp.Or(p.Name, id), Type: "machine", Labels: labelsOfTags(p.Tags)})
		}
		face := osInterface{ID: p.ID, Subnet: p.Fixed[0].Subnet, Public: public[p.ID], Groups: append([]string{}, p.Groups...), Filtered: p.Filtered == nil || *p.Filtered}
		for _, f := range p.Fixed {
			face.Private = append(face.Private, f.Address)
		}
		lines[n].Interfaces = append(lines[n].Interfaces, face)
	}
	return lines
}

// protocols by their names, as numbers (IANA). tcp, udp and the ICMPs have names of their own here.
var protocols = map[string]string{"ah": "51", "dccp": "33", "egp": "8", "esp": "50", "gre": "47", "igmp": "2", "ipip": "4", "ipv6-encap": "41", "ipv6-frag": "44", "ipv6-nonxt": "59",
	"ipv6-opts": "60", "ipv6-route": "43", "ospf": "89", "pgm": "113", "rsvp": "46", "sctp": "132", "udplite": "136", "vrrp": "112"}

// ruleLine is a rule as a line of a survey. Ports of protocols for which a rule of ours
// has none are left out: it then says more than the cloud lets through, never less.
func ruleLine(account string, r osRule) osLine {
	line := osLine{Kind: "rule", Account: account, Group: r.Group, ID: r.ID, Direction: "in", Action: "admit", Services: []string{serviceText(r)}}
	if r.Direction == "egress" {
		line.Direction = "out"
	}
	if r.Description != nil {
		line.Description = *r.Description
	}
	everyone, family := "0.0.0.0/0", " v4"
	if r.Family == "IPv6" {
		everyone, family = "::/0", " v6"
	}
	switch {
	case r.RemoteGroup != nil:
		line.Peers = []string{"group:" + *r.RemoteGroup + family}
	case r.RemoteList != nil:
		line.Peers = []string{"list:" + *r.RemoteList + family}
	case r.Normal != nil:
		line.Peers = []string{*r.Normal}
	case r.Range != nil:
		line.Peers = []string{*r.Range}
	default:
		line.Peers = []string{everyone}
	}
	return line
}

// serviceText is what a rule lets through, as surveys say it.
func serviceText(r osRule) string {
	if r.Protocol == nil || *r.Protocol == "any" || *r.Protocol == "0" {
		return "any"
	}
	name := strings.ToLower(*r.Protocol)
	switch name {
	case "tcp", "6":
		return withPorts("tcp", r)
	case "udp", "17":
		return withPorts("udp", r)
	case "icmp", "1", "icmpv6", "ipv6-icmp", "58":
		name = "icmp"
		if r.Family == "IPv6" { // also where it is called icmp
			name = "icmpv6"
		}
		switch {
		case r.From == nil:
			return name
		case r.To == nil:
			return fmt.Sprintf("%s %d", name, *r.From)
		}
		return fmt.Sprintf("%s %d/%d", name, *r.From, *r.To)
	}
	return "protocol " + cmp.Or(protocols[name], name)
}

func withPorts(name string, r osRule) string {
	switch {
	case r.From == nil || r.To == nil || *r.From <= 0 && *r.To == 65535:
		return name
	case *r.From == *r.To:
		return fmt.Sprintf("%s %d", name, *r.From)
	}
	return fmt.Sprintf("%s %d-%d", name, *r.From, *r.To)
}

// ruleOf is a line of a survey as a rule.
func ruleOf(text json.RawMessage, group string) (osRule, error) {
	var l osLine
	if err := json.Unmarshal(text, &l); err != nil {
		return osRule{}, err
	}
	r := osRule{Group: group, Direction: "ingress", Family: "IPv4", Description: &l.Description}
	if l.Direction == "out" {
		r.Direction = "egress"
	}
	if len(l.Peers) != 1 || len(l.Services) != 1 || l.Action == "refuse" {
		return r, fmt.Errorf("%w: a rule of OpenStack admits one service with one peer", ErrRefused)
	}
	kind, rest, _ := strings.Cut(l.Peers[0], ":")
	id, family, _ := strings.Cut(rest, " ")
	if family == "v6" {
		r.Family = "IPv6"
	}
	switch {
	case (kind == "group" || kind == "list") && family == "":
		return r, fmt.Errorf("%w: a rule of OpenStack speaks of one address family (%s)", ErrRefused, l.Peers[0])
	case kind == "group":
		r.RemoteGroup = &id
	case kind == "list":
		r.RemoteList = &id
	default:
		p, err := netip.ParsePrefix(l.Peers[0])
		if err != nil {
			return r, fmt.Errorf("%w: a rule of OpenStack can't say %q", ErrRefused, l.Peers[0])
		}
		if p.Addr().Is6() {
			r.Family = "IPv6"
		}
		r.Range = &l.Peers[0]
	}
	return r, r.setService(l.Services[0])
}

// setService sets protocol and ports, or ICMP type and code.
func (r *osRule) setService(text string) error {
	protocol, detail, _ := strings.Cut(text, " ")
	switch protocol {
	case "any":
		return nil
	case "icmpv6":
		protocol = "ipv6-icmp"
	case "protocol":
		r.Protocol = &detail
		return nil
	}
	r.Protocol = &protocol
	if detail == "" {
		return nil
	}
	separator := "-"
	if strings.Contains(protocol, "icmp") {
		separator = "/"
	}
	from, to, both := strings.Cut(detail, separator)
	var a, b int
	if _, err := fmt.Sscan(from, &a); err != nil {
		return fmt.Errorf("%w: a rule of OpenStack can't say %q", ErrRefused, text)
	}
	r.From = &a
	if both {
		if _, err := fmt.Sscan(to, &b); err != nil {
			return fmt.Errorf("%w: a rule of OpenStack can't say %q", ErrRefused, text)
		}
		r.To = &b
	} else if separator == "-" {
		r.To = &a
	}
	return nil
}
