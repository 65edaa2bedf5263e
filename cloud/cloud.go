// Package cloud reaches clouds: the interface that all of them are reached through,
// the client of the open one that this project defines (docs/cloud.openapi.json), and
// that of OpenStack Networking.
package cloud

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"isonomos/core/change"
)

// A Cloud is one cloud that can be surveyed and changed.
type Cloud interface {
	// Dialect is what the cloud says it is.
	Dialect(ctx context.Context) (string, error)
	// Accounts are the names of the accounts that can be seen.
	Accounts(ctx context.Context) ([]string, error)
	// Survey is everything in one account, as lines of a survey: all of one moment.
	Survey(ctx context.Context, account string) ([]byte, error)

	// Read is an object as it is now. Where there is none the error is ErrGone.
	Read(ctx context.Context, account string, of Ref) (Object, error)
	// Named are the groups or lists of a name.
	Named(ctx context.Context, account, kind, name string) ([]Ref, error)
	// Change carries a request out, once, if what it changes still has the version; an
	// empty version, for what is created, means any. The error says whether it may have
	// been carried out: ErrMoved and ErrRefused mean that it was not, ErrGone that what
	// it changes or deletes is not there. Any other error leaves that open.
	Change(ctx context.Context, r Request, version string) (Object, error)
	// Once reports whether the cloud itself sees to it that a request which was sent twice
	// is carried out once: by the version that it names, or by a name that is taken. Else
	// one whose answer was never heard must be given time to arrive before it is sent again.
	Once() bool
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

// Reasons why a request was not carried out.
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
		return target == ErrMoved //nolint:errorlint // these are the values themselves
	case e.status == 404 || e.status == 410:
		return target == ErrGone //nolint:errorlint
	case e.status >= 400 && e.status < 500 && e.status != 408:
		return target == ErrRefused //nolint:errorlint
	}
	return false
}

// unknownRequest is what a cloud says to a request that it does not know.
func unknownRequest(r Request) error {
	return fmt.Errorf("%w: this cloud can't %q", ErrRefused, r.Do)
}
