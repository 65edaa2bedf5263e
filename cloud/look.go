package cloud

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/hashicorp/go-retryablehttp"
)

// A Look is what an account is at a moment.
type Look struct {
	Lines []byte // of a survey; nil if it is as it was
	Same  bool   // nothing has changed since the version that was asked for
	// Version is another one after each change; empty if the cloud can't tell, so that all is read each time.
	Version string
	At      Position // the feed's: all changes up to it are in the lines; the zero value without a feed
}

// A Position is a place in a cloud's feed of changes. The zero value is none.
type Position struct {
	Feed string `json:"feed"` // positions of two feeds can't be compared
	Last int    `json:"last"` // number of the last change before it
}

// An Event is a change of an object that a feed tells of.
type Event struct {
	Number   int             `json:"number"`   // grows from event to event
	Previous int             `json:"previous"` // the number of the one before, in whatever account
	At       time.Time       `json:"at"`       // the same for all events of one request
	By       string          `json:"by"`       // who made the change, if the cloud knows
	Account  string          `json:"account"`
	Action   string          `json:"action"` // "create", "change" or "delete"
	Kind     string          `json:"kind"`
	ID       string          `json:"id"`
	Group    string          `json:"group"`  // of a rule: its group's id
	Object   json.RawMessage `json:"object"` // as it is after the change, as a line of a survey
}

// Errors of feeds.
var (
	ErrNoFeed = errors.New("the cloud has no feed of changes")
	ErrLost   = errors.New("the feed does not go back to where it was read last")
	ErrJumped = errors.New("the feed has left something out")
)

// feedWait is how much longer than it was asked to a feed may take to answer.
const feedWait = 20 * time.Second

// Changes reads a cloud's feed behind a position. If there is nothing yet it waits for so long, in whole seconds; the
// zero position asks for where the feed is now. The error may be ErrNoFeed, ErrLost or ErrJumped. Requests are not
// repeated.
func (c *Client) Changes(ctx context.Context, after Position, wait time.Duration) ([]Event, Position, error) {
	query := url.Values{}
	if after.Feed != "" {
		query.Set("feed", after.Feed)
		query.Set("after", strconv.Itoa(after.Last))
		query.Set("wait", strconv.Itoa(int(wait/time.Second)))
	}
	ctx, stop := context.WithTimeout(ctx, wait+feedWait)
	defer stop()
	var told struct {
		Feed  string  `json:"feed"`
		Items []Event `json:"items"`
		Last  int     `json:"last"`
	}
	r, err := c.request(ctx, "/v1/changes", query)
	if err != nil {
		return nil, after, err
	}
	_, err = c.read(&retryablehttp.Client{HTTPClient: c.patient, CheckRetry: never, Backoff: c.http.Backoff,
		ErrorHandler: retryablehttp.PassthroughErrorHandler}, r, &told)
	var no *answered
	switch {
	case errors.As(err, &no) && no.status == 410:
		return nil, after, ErrLost
	case errors.As(err, &no) && (no.status == 404 || no.status == 405 || no.status == 501):
		return nil, after, ErrNoFeed
	case err != nil:
		return nil, after, err
	case told.Feed == "":
		return nil, after, fmt.Errorf("the answer is not what the interface says: it names no feed")
	case after.Feed == "":
		return nil, Position{told.Feed, told.Last}, nil
	case told.Feed != after.Feed:
		return nil, after, ErrLost
	}
	events, last := told.Items[:0], after.Last
	for _, e := range told.Items {
		if e.Number <= last {
			continue // told twice
		}
		if e.Previous != last {
			return nil, after, fmt.Errorf("%w: change %d follows %d, and %d was the last one known", ErrJumped,
				e.Number, e.Previous, last)
		}
		if e.Account == "" || e.Kind == "" || e.ID == "" && e.Kind != "account" { // of which the name is enough
			return nil, after, fmt.Errorf("the answer is not what the interface says: change %d is of nothing",
				e.Number)
		}
		last = e.Number
		events = append(events, e)
	}
	return events, Position{told.Feed, max(last, told.Last)}, nil
}

func never(context.Context, *http.Response, error) (bool, error) { return false, nil }

// Look reads everything in an account, unless it is still of the version that is known.
func (c *Client) Look(ctx context.Context, account, known string) (Look, error) {
	if known != "" {
		var p page
		path := "/v1/accounts/" + url.PathEscape(account) + "/objects"
		if _, err := c.get(ctx, path, url.Values{"limit": {"1"}}, &p); err != nil {
			return Look{}, err
		}
		if p.Revision == known {
			return Look{Same: true, Version: known, At: p.at()}, nil
		}
	}
	return c.look(ctx, account)
}
