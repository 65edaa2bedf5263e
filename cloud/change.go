package cloud

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"isonomos/core/change"

	"github.com/hashicorp/go-retryablehttp"
)

// Read is an object as it is now, with its version.
func (c *Client) Read(ctx context.Context, account string, of Ref) (Object, error) {
	path := "/v1/accounts/" + url.PathEscape(account)
	if of.Kind == "group" {
		var g groupAnswer
		header, err := c.get(ctx, path+"/groups/"+url.PathEscape(of.ID), nil, &g)
		return Object{of.ID, version(header), g.lines()}, err
	}
	var line json.RawMessage
	header, err := c.get(ctx, path+"/objects/"+of.Kind+"/"+url.PathEscape(of.ID), nil, &line)
	return Object{of.ID, version(header), []json.RawMessage{line}}, err
}

// A groupAnswer is a group with its rules.
type groupAnswer struct {
	Group json.RawMessage   `json:"group"`
	Rules []json.RawMessage `json:"rules"`
}

func (g groupAnswer) lines() []json.RawMessage {
	return append([]json.RawMessage{g.Group}, g.Rules...)
}

func version(h http.Header) string { return strings.Trim(h.Get("ETag"), `"`) }

// Settle does nothing: what is made has labels.
func (c *Client) Settle(context.Context, string, Ref, string) (string, error) { return "", nil }

// Once is true: versions guard groups and lists, and their names are unique.
func (c *Client) Once() bool { return true }

// Named finds the groups or lists of a name.
func (c *Client) Named(ctx context.Context, account, kind, name string) ([]Ref, error) {
	var found []Ref
	path := "/v1/accounts/" + url.PathEscape(account) + "/objects"
	for range mostRestarts {
		found = nil
		err := c.pagesOf(ctx, path, url.Values{"kind": {kind}}, func(p page) error {
			for _, item := range p.Items {
				var o struct{ ID, Name string }
				if err := json.Unmarshal(item, &o); err != nil {
					return fmt.Errorf("an object in the answer is not JSON: %w", err)
				}
				if o.Name == name {
					found = append(found, Ref{kind, o.ID})
				}
			}
			return nil
		})
		if !errors.Is(err, errChanged) {
			return found, err
		}
	}
	return nil, errChanged
}

// Change carries out a request. It is sent once; only where the cloud answered that it was too busy
// to look at it (429), it is sent again.
func (c *Client) Change(ctx context.Context, r Request, want string) (Object, error) {
	account := "/v1/accounts/" + url.PathEscape(r.Account)
	id := url.PathEscape(r.ID)
	switch r.Do {
	case change.CreateGroup:
		var g groupAnswer
		header, err := c.send(ctx, http.MethodPost, account+"/groups", want,
			only(r.Object, "name", "network", "for", "description", "labels", "stateful"), &g)
		if err != nil {
			return Object{}, err
		}
		return made(header, g.lines())
	case change.CreateList:
		var line json.RawMessage
		header, err := c.send(ctx, http.MethodPost, account+"/lists", want,
			only(r.Object, "name", "region", "description", "labels", "entries", "capacity"), &line)
		if err != nil {
			return Object{}, err
		}
		return made(header, []json.RawMessage{line})
	case change.AddRules:
		if len(r.Rules) > 1 {
			return c.addRules(ctx, account+"/groups/"+id+"/rules", want, r)
		}
		if len(r.Rules) == 0 {
			return Object{}, unknownRequest(r)
		}
		var line json.RawMessage
		header, err := c.send(ctx, http.MethodPost, account+"/groups/"+id+"/rules", want,
			only(r.Rules[0], ruleFields...), &line)
		return Object{r.ID, version(header), []json.RawMessage{line}}, err
	case change.RemoveRule:
		var rule struct{ ID string }
		if len(r.Rules) != 1 || json.Unmarshal(r.Rules[0], &rule) != nil {
			return Object{}, unknownRequest(r)
		}
		return c.changed(ctx, http.MethodDelete, account+"/groups/"+id+"/rules/"+url.PathEscape(rule.ID), want, r, nil)
	case change.LabelGroup:
		return c.changed(ctx, http.MethodPatch, account+"/groups/"+id, want, r, map[string]any{"labels": labelsOf(r)})
	case change.DeleteGroup:
		return c.changed(ctx, http.MethodDelete, account+"/groups/"+id, want, r, nil)
	case change.LabelList:
		return c.changed(ctx, http.MethodPatch, account+"/lists/"+id, want, r, map[string]any{"labels": labelsOf(r)})
	case change.SetEntries:
		return c.changed(ctx, http.MethodPut, account+"/lists/"+id+"/entries", want, r,
			map[string]any{"entries": orEmpty(r.Entries)})
	case change.DeleteList:
		return c.changed(ctx, http.MethodDelete, account+"/lists/"+id, want, r, nil)
	case change.Attach:
		return c.changed(ctx, http.MethodPut, account+"/interfaces/"+id+"/groups", want, r,
			map[string]any{"groups": orEmpty(r.Groups)})
	case change.AttachToSubnet:
		return c.changed(ctx, http.MethodPut, account+"/subnets/"+id+"/groups", want, r,
			map[string]any{"groups": orEmpty(r.Groups)})
	}
	return Object{}, unknownRequest(r)
}

// ruleFields are the fields of a rule that may be sent.
var ruleFields = []string{"direction", "action", "rank", "peers", "services", "stateless", "description"}

// addRules adds several rules to a group, all or none of them.
func (c *Client) addRules(ctx context.Context, path, want string, r Request) (Object, error) {
	sent := make([]json.RawMessage, len(r.Rules))
	for i, rule := range r.Rules {
		sent[i] = only(rule, ruleFields...)
	}
	body, err := json.Marshal(map[string]any{"rules": sent})
	if err != nil {
		return Object{}, err
	}
	var made struct {
		Rules []json.RawMessage `json:"rules"`
	}
	header, err := c.send(ctx, http.MethodPost, path, want, body, &made)
	return Object{r.ID, version(header), made.Rules}, err
}

// only keeps the given fields of a line of a survey.
func only(text json.RawMessage, fields ...string) json.RawMessage {
	var whole map[string]json.RawMessage
	if json.Unmarshal(text, &whole) != nil {
		return text // left as it is: the cloud will say what is wrong with it
	}
	maps.DeleteFunc(whole, func(name string, _ json.RawMessage) bool { return !slices.Contains(fields, name) })
	body, err := json.Marshal(whole)
	if err != nil {
		return text
	}
	return body
}

// labelsOf is labels, or an empty map for nil: requests send {} and not null.
func labelsOf(r Request) map[string]string {
	if r.Labels == nil {
		return map[string]string{}
	}
	return r.Labels
}

func orEmpty(list []string) []string { return append([]string{}, list...) }

// made is the object that a request created.
func made(header http.Header, lines []json.RawMessage) (Object, error) {
	var o struct{ ID string }
	if err := json.Unmarshal(lines[0], &o); err != nil || o.ID == "" {
		return Object{}, errors.New("the answer does not say what was made")
	}
	return Object{o.ID, version(header), lines}, nil
}

// changed sends a request of whose answer only the version is needed.
func (c *Client) changed(ctx context.Context, method, path, want string, r Request, body any) (Object, error) {
	var text []byte
	if body != nil {
		var err error
		if text, err = json.Marshal(body); err != nil {
			return Object{}, err
		}
	}
	header, err := c.send(ctx, method, path, want, text, nil)
	return Object{ID: r.ID, Version: version(header)}, err
}

// send sends a request that changes something. It is sent again only after 429, which says that it
// was not looked at.
func (c *Client) send(ctx context.Context, method, path, want string, body []byte, into any) (http.Header, error) {
	r, err := retryablehttp.NewRequestWithContext(context.WithValue(ctx, onceKey{}, true), method, c.base+path,
		bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", "application/json")
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	if want != "" {
		r.Header.Set("If-Match", `"`+want+`"`)
	}
	if c.token != "" {
		r.Header.Set("Authorization", "Bearer "+c.token)
	}
	stop := c.waitingFor()
	answer, err := c.http.Do(r)
	stop()
	if err != nil {
		return nil, plainly(err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	switch {
	case err != nil:
		return nil, brokenOff(err)
	case answer.StatusCode >= 300:
		return nil, problemOf(answer, text)
	case into != nil:
		if err := json.Unmarshal(text, into); err != nil {
			return nil, fmt.Errorf("the answer is not what the interface says: %w", err)
		}
	}
	return answer.Header, nil
}

// onceKey marks, in a context, requests that must not be sent twice.
type onceKey struct{}

// again decides whether a failed request is sent again: one that changes something only after 429.
func again(ctx context.Context, answer *http.Response, err error) (bool, error) {
	if ctx.Value(onceKey{}) == nil {
		return retryablehttp.DefaultRetryPolicy(ctx, answer, err)
	}
	if ctx.Err() != nil {
		return false, ctx.Err()
	}
	return err == nil && answer.StatusCode == http.StatusTooManyRequests, nil
}
