// Package cloud reaches clouds: the interface that all of them are reached through,
// the client of the open one that this project defines (docs/cloud.openapi.json), and
// that of OpenStack Networking.
package cloud

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"time"

	"isonomos/core/change"
)

// A Cloud is one cloud that can be surveyed and changed.
//
// Concurrency: all methods may be called by several goroutines at once.
//
// Cancellation: a method ends soon after its context does, with an error that wraps the context's.
// A change that was under way may have been carried out all the same.
//
// Retries: requests that change nothing are repeated by the implementation while the cloud is busy
// or can't be reached, within limits of its own. A change is sent once, unless the cloud answered
// that it did not look at it. Callers need not repeat reads, and must not repeat a change before
// they know what became of it.
//
// Errors: ErrMoved, ErrGone and ErrRefused say what the cloud answered (see errors.Is). Any other
// error means that there was no answer, or one that makes no sense. No error contains a secret.
type Cloud interface {
	// Dialect asks for the name of the cloud's dialect.
	Dialect(ctx context.Context) (string, error)
	// Who asks as whom the cloud sees the caller in an account, and for the cloud's time.
	Who(ctx context.Context, account string) (Caller, error)
	// Accounts lists the names of the accounts that can be seen.
	Accounts(ctx context.Context) ([]string, error)
	// Survey reads everything in an account, as lines of a survey that are all of one moment, or if
	// the cloud can't do that, read until groups did not change meanwhile.
	Survey(ctx context.Context, account string) ([]byte, error)
	// Look is Survey with what it takes to look again: nothing is read if the version that is known is still the
	// account's.
	Look(ctx context.Context, account, known string) (Look, error)
	// Changes reads the cloud's feed of changes behind a position, and waits for so long if there is nothing yet; the
	// zero position asks for where the feed is now. The error is ErrNoFeed if there is no such feed; ErrLost or
	// ErrJumped if it can't tell everything behind that position.
	Changes(ctx context.Context, after Position, wait time.Duration) ([]Event, Position, error)

	// Read reads an object as it is now, with its version. The error is ErrGone if there is none. The
	// answer may be stale for a moment after a change.
	Read(ctx context.Context, account string, of Ref) (Object, error)
	// Named finds the groups or lists of a name; in some clouds there can be several.
	Named(ctx context.Context, account, kind, name string) ([]Ref, error)
	// Change carries out a request if the object that it changes still has the given version; an
	// empty version means any, and is for requests that create something. After ErrMoved and
	// ErrRefused nothing was changed; ErrGone says that the object does not exist. After any other
	// error it is unknown whether the change was carried out.
	Change(ctx context.Context, r Request, version string) (Object, error)
	// Settle takes off what was made the label that says which step of which run made it (estate.MadeLabel), where
	// the cloud has no other place for that than the description, and returns its version: then it has the one that was
	// asked for. Elsewhere it does nothing, and the version is empty.
	Settle(ctx context.Context, account string, of Ref, description string) (version string, err error)
	// Once reports whether the cloud itself makes sure that a request that is sent twice is carried
	// out once, by its version or by unique names. If it does not, a request whose answer was lost
	// must be given time to arrive before it is sent again.
	Once() bool
}

// A Caller is what a cloud says of whoever asks.
type Caller struct {
	Address netip.Addr // from where the cloud sees it ask; the zero value if it does not say
	Date    time.Time  // the cloud's time; zero if it does not say
	Actor   string     // as whom it knows the caller; empty if it does not say
}

// A Ref says which object of an account is meant: a group, list, instance or subnet.
type Ref struct {
	Kind string `json:"kind"`
	ID   string `json:"id"`
}

// An Object is something with a version: a group with its rules, a list, an instance
// with its interfaces, a subnet.
type Object struct {
	ID      string
	Version string // another one for another content
	// Lines are what there is, as lines of a survey: after Read the object and behind a
	// group its rules, after Change what was made.
	Lines []json.RawMessage
}

// A Request is one change of one account. What it does decides which fields count.
type Request struct {
	Do      change.Action `json:"do"`
	Account string        `json:"account"`
	ID      string        `json:"id"`                 // of the group, list, interface or subnet
	Holder  string        `json:"instance,omitempty"` // of an interface: its instance
	// Object is a group or list that is to be made, as a line of a survey.
	Object json.RawMessage `json:"object,omitempty"`
	// Rules are to be added, or is the one to be removed, as lines of a survey.
	Rules   []json.RawMessage `json:"rules,omitempty"`
	Groups  []string          `json:"groups,omitempty"`
	Entries []string          `json:"entries,omitempty"`
	Labels  map[string]string `json:"labels,omitempty"`
}

// Of is the object whose version a request depends on; zero where it makes one.
func (r Request) Of() Ref {
	switch {
	case r.Do.Makes():
		return Ref{}
	case r.Do == change.Attach:
		return Ref{r.Do.Of(), r.Holder}
	}
	return Ref{r.Do.Of(), r.ID}
}

// What clouds answer to requests that they do not carry out.
var (
	ErrMoved   = errors.New("it has changed meanwhile")
	ErrGone    = errors.New("it is not there")
	ErrRefused = errors.New("the cloud refuses")
)

// A Problem is what a cloud says went wrong (RFC 9457).
type Problem struct {
	Type   string `json:"type"` // about:blank, or a name of this interface's own
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail,omitempty"`
}

// An answered error is one that a cloud answered with.
type answered struct {
	status int
	text   string
}

func (e *answered) Error() string { return e.text }

// Is sorts the answer by what it means for a change.
func (e *answered) Is(target error) bool {
	switch {
	case e.status == 412:
		return target == ErrMoved // the values themselves: they wrap nothing
	case e.status == 404 || e.status == 410:
		return target == ErrGone
	case e.status >= 400 && e.status < 500 && e.status != 408:
		return target == ErrRefused
	}
	return false
}

// dateOf is the time at which an answer was made, or zero.
func dateOf(header http.Header) time.Time {
	at, err := http.ParseTime(header.Get("Date"))
	if err != nil {
		return time.Time{}
	}
	return at
}

// unknownRequest is what a cloud says to a request that it does not know.
func unknownRequest(r Request) error {
	return fmt.Errorf("%w: this cloud can't %q", ErrRefused, r.Do)
}
