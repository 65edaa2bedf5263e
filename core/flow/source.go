package flow

import "time"

// A Source is a piece of evidence in the store: a file, or a table.
type Source struct {
	ID      int64
	Name    string // as it was named when it was added
	Digest  string // SHA-256 of its content
	Added   time.Time
	Format  string
	Records int
	Skipped int
	Flows   int // records of admitted flows
	Refused int
	First   time.Time // the earliest and the latest start
	Last    time.Time
	Days    int
	Sums    int // distinct keys, counted for each day
}
