package cloud

import (
	"cmp"
	"fmt"

	"isonomos/core/count"
)

// Limits bound what is read of one account, whatever a server says. The zero value has usual bounds.
type Limits struct {
	Objects int   // 0 means usualObjects
	Bytes   int64 // 0 means usualBytes
}

const (
	usualObjects = 5_000_000
	usualBytes   = 2 << 30
)

// A tally counts what was read against limits.
type tally struct {
	limits  Limits
	objects int
	bytes   int64
	seen    map[string]bool // cursors
}

func (l Limits) tally() *tally { return &tally{limits: l, seen: make(map[string]bool)} }

// page counts a page, of so many objects and bytes, and the cursor of the next one. A page counts as one object at
// least, so that empty ones end too.
func (t *tally) page(objects, bytes int, next string) error {
	t.objects += max(1, objects)
	t.bytes += int64(bytes)
	if most := cmp.Or(t.limits.Objects, usualObjects); t.objects > most {
		return fmt.Errorf("the server's list has more than %s, which is the limit for an account "+
			"(ISONOMOS_MOST_OBJECTS sets another)", count.Of(most, "object", "objects"))
	}
	if most := cmp.Or(t.limits.Bytes, usualBytes); t.bytes > most {
		return fmt.Errorf("the server's list has more than %s, which is the limit for an account "+
			"(ISONOMOS_MOST_BYTES sets another)", count.Of(int(most), "byte", "bytes"))
	}
	if next != "" && t.seen[next] {
		return fmt.Errorf("the list goes round in circles: its cursor %.40q comes again", next)
	}
	t.seen[next] = true
	return nil
}
