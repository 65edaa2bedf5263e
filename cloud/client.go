package cloud

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"github.com/hashicorp/go-retryablehttp"
)

// A Client is a cloud that speaks the open interface. It waits as long as 429 and 503 ask for. It
// repeats failed requests that change nothing, at most Attempts times. It may be used by several
// goroutines.
type Client struct {
	base  string
	token string
	http  *retryablehttp.Client
	// patient is for questions that the cloud answers late on purpose: what asks sets how late.
	patient *http.Client
	limits  Limits
	slow    func(text string)
	// patience is how long a request is tried at most.
	patience time.Duration
}

// Options say how a client behaves. The zero value is usable.
type Options struct {
	Attempts  int               // of one request, the first included; 0 means 8
	LeastWait time.Duration     // before the second attempt; 0 means 200 ms
	MostWait  time.Duration     // before any; 0 means 20 s
	Timeout   time.Duration     // of one attempt; 0 means 60 s
	Most      Limits            // of what is read of an account
	Slow      func(text string) // called when the cloud does not answer for a while; may be nil
}

const (
	// mostBody bounds the size of an answer in bytes, so that a server can't fill the memory.
	mostBody = 64 << 20
	// mostRestarts is how often the reading of an account starts again because the account changed
	// meanwhile.
	mostRestarts = 5
)

// NewClient makes a client for the cloud at an address. It is an error to send a token over plain
// HTTP, except to this machine. No error contains the token.
func NewClient(address, token string, o Options) (*Client, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return nil, fmt.Errorf("the address is not a URL like https://cloud.example")
	}
	if u.User != nil {
		return nil, fmt.Errorf("the address holds a name or password: the token belongs in an environment " +
			"variable of its own")
	}
	if err := overTLS(u, "token"); err != nil {
		return nil, err
	}
	c := retrying(o)
	quiet := &discreet{RoundTripper: c.HTTPClient.Transport}
	quiet.Learn(token)
	c.HTTPClient.Transport = quiet
	patient := *c.HTTPClient
	patient.Timeout = 0
	return &Client{strings.TrimRight(address, "/"), token, c, &patient, o.Most, o.Slow, o.patience()}, nil
}

// overTLS refuses addresses over which a token or password could be read by others.
func overTLS(u *url.URL, secret string) error {
	if u.Scheme != "https" && !loopback(u.Hostname()) {
		return fmt.Errorf("%s is not reached over TLS: a %s would be readable on the way (use https)", u.Host, secret)
	}
	return nil
}

// longestWait bounds how long a cloud's answer can make a client wait before the next attempt.
const longestWait = 5 * time.Minute

// retrying makes an HTTP client that repeats requests as options and again say, and follows no
// redirects.
func retrying(o Options) *retryablehttp.Client {
	c := retryablehttp.NewClient()
	c.Logger = nil
	c.RetryMax = cmp.Or(o.Attempts, 8) - 1
	c.RetryWaitMin, c.RetryWaitMax = cmp.Or(o.LeastWait, 200*time.Millisecond), cmp.Or(o.MostWait, 20*time.Second)
	c.HTTPClient.Timeout = cmp.Or(o.Timeout, time.Minute)
	// a redirect would carry the token to another server
	c.HTTPClient.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	c.Backoff = func(least, most time.Duration, attempt int, r *http.Response) time.Duration {
		wait := retryablehttp.DefaultBackoff(least, most, attempt, r)
		if wait < 0 || wait > longestWait { // a huge number of seconds, or a date far in the future
			wait = longestWait
		}
		spread := wait / 4 // so that many clients don't all come back at once
		if r != nil && r.Header.Get("Retry-After") != "" {
			spread = wait / 20 // where the cloud says when, waiting much longer would waste what it permits
		}
		return wait + time.Duration(rand.Int64N(int64(spread)+1))
	}
	c.CheckRetry = again
	c.ErrorHandler = retryablehttp.PassthroughErrorHandler
	return c
}

func loopback(host string) bool {
	a, err := netip.ParseAddr(host)
	return err == nil && a.IsLoopback() || host == "localhost"
}

// Dialect asks the cloud for the name of its dialect.
func (c *Client) Dialect(ctx context.Context) (string, error) {
	var who struct {
		Dialect string `json:"dialect"`
	}
	_, err := c.get(ctx, "/v1/whoami", nil, &who)
	return who.Dialect, err
}

// Who says from which address the cloud sees the caller, and what time it is there.
func (c *Client) Who(ctx context.Context, _ string) (Caller, error) {
	var who struct {
		Address string `json:"address"`
		Actor   string `json:"actor"`
	}
	header, err := c.get(ctx, "/v1/whoami", nil, &who)
	if err != nil {
		return Caller{}, err
	}
	caller := Caller{Date: dateOf(header), Actor: who.Actor}
	if who.Address == "" {
		return caller, nil
	}
	if caller.Address, err = netip.ParseAddr(who.Address); err != nil {
		return Caller{}, fmt.Errorf("the cloud says that the caller's address is %q", who.Address)
	}
	caller.Address = caller.Address.Unmap().WithZone("")
	return caller, nil
}

// A page is a part of a list. Next is the cursor of the next page; it is empty on the last one.
type page struct {
	Revision string            `json:"revision"`
	Items    []json.RawMessage `json:"items"`
	Next     string            `json:"next"`
	Feed     string            `json:"feed"` // where the cloud has one
	Last     int               `json:"last"`
}

// at is the position of the feed that a page is of.
func (p page) at() Position {
	if p.Feed == "" {
		return Position{}
	}
	return Position{p.Feed, p.Last}
}

// Accounts lists the names of the accounts that the token can see.
func (c *Client) Accounts(ctx context.Context) ([]string, error) {
	var names []string
	seen := make(map[string]bool)
	err := c.pages(ctx, "/v1/accounts", func(p page) error {
		for _, item := range p.Items {
			var account struct {
				Name string `json:"name"`
			}
			if err := json.Unmarshal(item, &account); err != nil || account.Name == "" {
				return errors.New("an account in the answer has no name")
			}
			if seen[account.Name] {
				return fmt.Errorf("the account %q is listed twice", account.Name)
			}
			seen[account.Name] = true
			names = append(names, account.Name)
		}
		return nil
	})
	return names, err
}

// errChanged says that a list kept changing while its pages were read.
var errChanged = errors.New("it kept changing while it was read")

// Survey reads everything in one account.
func (c *Client) Survey(ctx context.Context, account string) ([]byte, error) {
	seen, err := c.look(ctx, account)
	return seen.Lines, err
}

// look reads everything in one account. Where the account changes meanwhile, it starts again.
func (c *Client) look(ctx context.Context, account string) (Look, error) {
	for range mostRestarts {
		var lines bytes.Buffer
		var first page
		err := c.pages(ctx, "/v1/accounts/"+url.PathEscape(account)+"/objects", func(p page) error {
			if first.Revision == "" {
				first = p
			}
			for _, item := range p.Items {
				if err := json.Compact(&lines, item); err != nil {
					return fmt.Errorf("an object in the answer is not JSON: %w", err)
				}
				lines.WriteByte('\n')
			}
			return nil
		})
		if err == nil || !errors.Is(err, errChanged) {
			return Look{Lines: lines.Bytes(), Version: first.Revision, At: first.at()}, err
		}
	}
	return Look{}, errChanged
}

// pages reads all pages of a list, which must all be of one revision.
func (c *Client) pages(ctx context.Context, path string, take func(page) error) error {
	return c.pagesOf(ctx, path, url.Values{}, take)
}

// pagesOf reads all pages of a list, restricted by a query.
func (c *Client) pagesOf(ctx context.Context, path string, query url.Values, take func(page) error) error {
	query.Set("limit", "1000")
	revision := ""
	read := c.limits.tally()
	for first := true; ; first = false {
		var p page
		if _, err := c.get(ctx, path, query, &p); err != nil {
			return err
		}
		if first {
			revision = p.Revision
		} else if p.Revision != revision {
			return errChanged
		}
		size := 0
		for _, item := range p.Items {
			size += len(item)
		}
		if err := read.page(len(p.Items), size, p.Next); err != nil {
			return err
		}
		if err := take(p); err != nil {
			return err
		}
		if p.Next == "" {
			return nil
		}
		query.Set("cursor", p.Next)
	}
}

// get asks for something and decodes the answer. It asks again if the answer breaks off.
func (c *Client) get(ctx context.Context, path string, query url.Values, into any) (header http.Header, err error) {
	for range 3 {
		if header, err = c.once(ctx, path, query, into); !errors.Is(err, errCutOff) {
			break
		}
	}
	return header, err
}

// errCutOff says that an answer ended in the middle.
var errCutOff = errors.New("the answer is cut off")

// brokenOff is the error of an answer that could not be read to its end.
func brokenOff(err error) error {
	if errors.Is(err, errTooLong) {
		return err
	}
	return fmt.Errorf("%w: %w", errCutOff, plainly(err))
}

func (c *Client) once(ctx context.Context, path string, query url.Values, into any) (http.Header, error) {
	r, err := c.request(ctx, path, query)
	if err != nil {
		return nil, err
	}
	stop := c.waitingFor()
	defer stop()
	return c.read(c.http, r, into)
}

// request is a question, with the token.
func (c *Client) request(ctx context.Context, path string, query url.Values) (*retryablehttp.Request, error) {
	address := c.base + path
	if len(query) > 0 {
		address += "?" + query.Encode()
	}
	r, err := retryablehttp.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", "application/json")
	if c.token != "" {
		r.Header.Set("Authorization", "Bearer "+c.token)
	}
	return r, nil
}

// read asks and decodes the answer.
func (c *Client) read(by *retryablehttp.Client, r *retryablehttp.Request, into any) (http.Header, error) {
	answer, err := by.Do(r)
	if err != nil {
		return nil, plainly(err)
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	if err != nil {
		return nil, brokenOff(err)
	}
	if answer.StatusCode != http.StatusOK {
		return nil, problemOf(answer, body)
	}
	if err := json.Unmarshal(body, into); err != nil {
		return nil, fmt.Errorf("the answer is not what the interface says: %w", err)
	}
	return answer.Header, nil
}

// problemOf is the problem that an answer describes (RFC 9457).
func problemOf(answer *http.Response, body []byte) error {
	var p Problem
	if json.Unmarshal(body, &p) != nil || p.Title == "" {
		p.Title = http.StatusText(answer.StatusCode)
	}
	text := fmt.Sprintf("%d %s", answer.StatusCode, p.Title)
	if p.Detail != "" {
		text += ": " + p.Detail
	}
	return &answered{answer.StatusCode, text}
}

// plainly is a network error without the request's address, which may be long.
func plainly(err error) error {
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		err = wrapped.Err
	}
	var op *net.OpError
	if errors.As(err, &op) && op.Op == "dial" {
		return fmt.Errorf("nobody answers at %s", op.Addr)
	}
	return err
}
