package estate

import (
	"strings"
	"time"
)

// OwnLabel is the label by which groups and lists are marked as an estate's own: its
// value is the estate's name. Every mark is written, read and compared by this name.
const OwnLabel = "isonomos"

// MadeLabel says which step of which run made a group or list: only that run can have written it. It is no label of the
// model: see Group.Made. Clouds without labels for what is being made bear it in the description, until the step is
// settled.
const MadeLabel = "isonomos-made"

// UpheldLabel says by which journal a group of the estate's own was put back last; see Upholder.
const UpheldLabel = "isonomos-upheld"

// An Upholder is known by its journal: the one whose journal is older goes on where two uphold the same groups.
type Upholder struct {
	Journal string    // the beginning of the hash of its first entry
	Since   time.Time // of that entry
}

const upheldSince = "20060102T150405Z"

// String is the value of the label.
func (u Upholder) String() string { return u.Journal + "@" + u.Since.UTC().Format(upheldSince) }

// UpholderOf reads the value of the label.
func UpholderOf(label string) (u Upholder, ok bool) {
	journal, since, ok := strings.Cut(label, "@")
	at, err := time.Parse(upheldSince, since)
	return Upholder{journal, at}, ok && err == nil && journal != ""
}
