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
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"isonomos/core/count"

	"github.com/gophercloud/gophercloud/v2"
	"github.com/gophercloud/gophercloud/v2/openstack"
	"github.com/gophercloud/gophercloud/v2/openstack/config"
	"github.com/gophercloud/gophercloud/v2/openstack/config/clouds"
	"github.com/gophercloud/gophercloud/v2/openstack/identity/v3/tokens"
)

// OpenStack is a cloud of the dialect flat: OpenStack Networking (API v2.0). An account is a
// project. Credentials come from clouds.yaml and the environment (OS_…), as for other clients.
// Ports are interfaces; the ports of one device are one instance. It may be used by several
// goroutines.
type OpenStack struct {
	profile  string
	cloud    string // its name in the definitions
	accounts []Project
	limits   Limits            // of each list
	timeout  time.Duration     // of one attempt; 0 means what Options has
	slow     func(text string) // called when the cloud does not answer for a while; may be nil

	mu      sync.Mutex
	clients map[string]*gophercloud.ServiceClient // by account
	kept    map[string]*osKept                    // by account
}

// A Project says which project of an OpenStack cloud an account is.
type Project struct {
	Account string
	ID      string // id or name; empty means the profile's own
	Region  string // empty means the profile's own
}

// NewOpenStack makes a client for a profile of clouds.yaml. It does not connect yet.
func NewOpenStack(cloud, profile string, accounts []Project) *OpenStack {
	return &OpenStack{profile: profile, cloud: cloud, accounts: accounts,
		clients: make(map[string]*gophercloud.ServiceClient)}
}

// With sets options: limits to what is read, how long an attempt may take, and what is called when the cloud does not
// answer for a while. It must be called before anything is read.
func (o *OpenStack) With(options Options) *OpenStack {
	o.limits, o.timeout, o.slow = options.Most, options.Timeout, options.Slow
	return o
}

// Dialect is flat.
func (o *OpenStack) Dialect(context.Context) (string, error) { return "flat", nil }

// Who tells the server's time alone: it does not say from where it sees the caller.
func (o *OpenStack) Who(ctx context.Context, account string) (Caller, error) {
	header, err := o.askFor(ctx, account, http.MethodGet, "networks?limit=1&fields=id", nil, nil, nil)
	return Caller{Date: dateOf(header)}, err
}

// Accounts are the accounts that the definitions name: only an administrator may list all projects.
func (o *OpenStack) Accounts(context.Context) ([]string, error) {
	var names []string
	for _, p := range o.accounts {
		names = append(names, p.Account)
	}
	return names, nil
}

// aProjectID matches identifiers of projects.
var aProjectID = regexp.MustCompile(`^[0-9a-f]{32}$|^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$`)

// client signs in to an account's project. It does so once for each account.
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
	auth, endpoint, with, err := clouds.Parse(append(profiles(), clouds.WithCloudName(o.profile))...)
	if err != nil {
		return nil, fmt.Errorf("the profile %s can't be read from clouds.yaml: %s", o.profile, unquoted(err))
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
	if auth.Scope != nil { // it would take precedence over the account's project
		auth.TenantID, auth.TenantName = "", ""
	}
	if err := safely(auth.IdentityEndpoint); err != nil {
		return nil, err
	}
	provider, err := config.NewProviderClient(ctx, auth, config.WithHTTPClient(transport(with, o.timeout,
		auth.Password, auth.Passcode, auth.ApplicationCredentialSecret, auth.TokenID)))
	if err != nil {
		return nil, fmt.Errorf("signing in: %w", spoken(err))
	}
	c, err := openstack.NewNetworkV2(provider, endpoint)
	if err != nil {
		return nil, fmt.Errorf("the identity service lists no networking service: %w", err)
	}
	if err := safely(c.Endpoint); err != nil {
		return nil, err
	}
	o.clients[account] = c
	return c, nil
}

// profiles are the places where clouds.yaml is looked for: OS_CLIENT_CONFIG_FILE, or the folders of
// the user and of the machine. The current folder is left out: it often holds definitions, and
// whoever may edit these must not decide where a password is sent.
func profiles() []clouds.ParseOption {
	folders := []string{filepath.Join("/etc", "openstack")}
	own := os.Getenv("XDG_CONFIG_HOME")
	if home, err := os.UserHomeDir(); own == "" && err == nil {
		own = filepath.Join(home, ".config")
	}
	if own != "" {
		folders = slices.Insert(folders, 0, filepath.Join(own, "openstack"))
	}
	var files, public []string
	for _, folder := range folders {
		files, public = append(files, filepath.Join(folder, "clouds.yaml")),
			append(public, filepath.Join(folder, "clouds-public.yaml"))
	}
	if file := os.Getenv("OS_CLIENT_CONFIG_FILE"); file != "" {
		files = []string{file}
		public = slices.Insert(public, 0, filepath.Join(filepath.Dir(file), "clouds-public.yaml"))
	}
	return []clouds.ParseOption{clouds.WithLocations(files...), clouds.WithPublicLocations(public...)}
}

// aLine matches the line number in an error of the YAML package.
var aLine = regexp.MustCompile(`line \d+`)

// unquoted is an error about a profile file without quotations from it: they may contain a
// password.
func unquoted(err error) string {
	text := err.Error()
	if strings.Contains(text, "unmarshal") {
		return strings.TrimSpace("a value has another form than it should " + aLine.FindString(text))
	}
	return text
}

// transport repeats requests that change nothing, waits as the server asks, and carries no token to
// another server. What is secret is taken out of the answers.
func transport(with *tls.Config, timeout time.Duration, secrets ...string) http.Client {
	c := retrying(Options{Timeout: timeout})
	base := http.DefaultTransport.(*http.Transport).Clone()
	base.TLSClientConfig = with
	quiet := &discreet{RoundTripper: base}
	quiet.Learn(secrets...)
	c.HTTPClient.Transport = quiet
	client := *c.StandardClient()
	client.CheckRedirect = c.HTTPClient.CheckRedirect
	return client
}

// safely refuses addresses that are malformed, or over which a password could be read by others.
func safely(address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return fmt.Errorf("the address %q is not a URL", address)
	}
	return overTLS(u, "password")
}

// spoken turns an error of the client package into a sentence, and sorts it by its meaning
// (ErrGone, ErrMoved, ErrRefused).
func spoken(err error) error {
	var unexpected gophercloud.ErrUnexpectedResponseCode
	if errors.As(err, &unexpected) {
		var body struct {
			NeutronError struct{ Type, Message string }
			Error        struct{ Message string }
		}
		_ = json.Unmarshal(unexpected.Body, &body) // a body that can't be decoded adds nothing
		text := cmp.Or(body.Error.Message, http.StatusText(unexpected.Actual))
		if body.NeutronError.Type != "" {
			text = strings.TrimSpace(body.NeutronError.Type + ": " + body.NeutronError.Message)
		}
		return &answered{unexpected.Actual, fmt.Sprintf("%d %s", unexpected.Actual, text)}
	}
	var op *net.OpError
	if errors.As(err, &op) && op.Op == "dial" {
		return fmt.Errorf("nobody answers at %s", op.Addr)
	}
	return plainly(err)
}

// ask sends a request and decodes the answer.
func (o *OpenStack) ask(ctx context.Context, account, method, path string, body, into any,
	headers map[string]string) error {
	_, err := o.askFor(ctx, account, method, path, body, into, headers)
	return err
}

// askFor is ask with the header of the answer.
func (o *OpenStack) askFor(ctx context.Context, account, method, path string, body, into any,
	headers map[string]string) (http.Header, error) {
	c, err := o.client(ctx, account)
	if err != nil {
		return nil, err
	}
	options := &gophercloud.RequestOpts{OkCodes: []int{200, 201, 202, 204}, MoreHeaders: headers,
		KeepResponseBody: true}
	if body != nil {
		options.JSONBody = body
	}
	stop := func() {}
	if o.slow != nil {
		stop = Watch(func(lasted time.Duration) {
			o.slow(fmt.Sprintf("waiting for the networking service of %s, which has not answered for %s; it is tried "+
				"for %s at most", o.cloud, count.Lasting(lasted), count.Lasting(Patience())))
		})
	}
	answer, err := c.Request(ctx, method, c.ServiceURL(path), options)
	stop()
	if err != nil {
		return nil, spoken(err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		return nil, brokenOff(err)
	}
	if into == nil || len(bytes.TrimSpace(text)) == 0 {
		return answer.Header, nil
	}
	if err := json.Unmarshal(text, into); err != nil {
		return nil, fmt.Errorf("the answer is not what the interface says: %w", err)
	}
	return answer.Header, nil
}

// mostPage is the number of items that a page is asked to have.
const mostPage = 500

// extensions are lists that a server may not offer, by the extension that it then says it does not have; then they are
// taken as empty. If one of the others is missing, the address is wrong.
var extensions = map[string]string{"address-groups": "address-group", "floatingips": "router", "routers": "router"}

// offers reports whether a server has the extension that a list needs.
func (o *OpenStack) offers(ctx context.Context, account, what string) bool {
	err := o.ask(ctx, account, http.MethodGet, "extensions/"+extensions[what], nil, nil, nil)
	return !errors.Is(err, ErrGone)
}

// all reads all pages of a list. A server may give fewer items a page than it is asked for: the list ends where the
// answer names no next page.
func all[T any](ctx context.Context, o *OpenStack, account, what string, query url.Values, idOf func(T) string) ([]T,
	error) {
	var list []T
	name := strings.ReplaceAll(what, "-", "_")
	q := maps.Clone(query)
	if q == nil {
		q = url.Values{}
	}
	q.Set("limit", fmt.Sprint(mostPage))
	q.Set("sort_key", "id")
	q.Set("sort_dir", "asc")
	read := o.limits.tally()
	for {
		var page map[string]json.RawMessage
		err := o.ask(ctx, account, http.MethodGet, what+"?"+q.Encode(), nil, &page, nil)
		if errors.Is(err, ErrGone) && extensions[what] != "" && !q.Has("marker") && !o.offers(ctx, account, what) {
			return nil, nil
		}
		if err != nil {
			return nil, fmt.Errorf("the list of %s: %w", what, err)
		}
		var items []T
		if err := json.Unmarshal(page[name], &items); err != nil {
			return nil, fmt.Errorf("the list of %s is not what the interface says: %w", what, err)
		}
		list = append(list, items...)
		more, next, err := nextPage(page[name+"_links"])
		if err != nil {
			return nil, fmt.Errorf("the list of %s is not what the interface says: %w", what, err)
		}
		if next == "" && len(items) > 0 && (more || len(items) >= mostPage) {
			next = idOf(items[len(items)-1]) // a full page of a server that names none
		}
		if err := read.page(len(items), len(page[name]), next); err != nil {
			return nil, fmt.Errorf("the list of %s: %w", what, err)
		}
		if next == "" {
			if more {
				return nil, fmt.Errorf("the list of %s has a next page and does not say which", what)
			}
			return list, nil
		}
		q.Set("marker", next)
	}
}

// nextPage says whether the links of a page name a next one, and its marker as far as the link has one. Links are not
// followed as they stand: they may lead to another server.
func nextPage(text json.RawMessage) (more bool, marker string, err error) {
	if len(text) == 0 {
		return false, "", nil
	}
	var links []struct{ Rel, Href string }
	if err := json.Unmarshal(text, &links); err != nil {
		return false, "", err
	}
	for _, l := range links {
		if l.Rel != "next" {
			continue
		}
		u, err := url.Parse(l.Href)
		if err != nil {
			return true, "", fmt.Errorf("the link to the next page is no address")
		}
		return true, u.Query().Get("marker"), nil
	}
	return false, "", nil
}

// project is the id of the project that an account's token is for.
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
