// Package cloud reaches clouds: the interface that all of them are reached through,
// and the client of the open one that this project defines (docs/cloud.openapi.json).
package cloud

import "context"

// A Cloud is one cloud that can be surveyed.
type Cloud interface {
	// Dialect is what the cloud says it is.
	Dialect(ctx context.Context) (string, error)
	// Accounts are the names of the accounts that can be seen.
	Accounts(ctx context.Context) ([]string, error)
	// Survey is everything in one account, as lines of a survey: all of one moment.
	Survey(ctx context.Context, account string) ([]byte, error)
}

// A Problem is what a cloud says went wrong (RFC 9457).
type Problem struct {
	Type   string `json:"type"` // about:blank, or a name of this interface's own
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail,omitempty"`
}
