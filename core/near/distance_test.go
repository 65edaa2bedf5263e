package near

import (
	"math/rand/v2"
	"testing"
)

func TestDistance(t *testing.T) {
	for _, x := range []struct {
		from, to string
		want     int
	}{
		{"", "", 0}, {"", "quay", 4}, {"quay", "", 4}, {"quay", "quay", 0}, {"quay", "quey", 1}, {"quay", "qauy", 1},
		{"quay", "uqya", 2}, {"ca", "abc", 3}, {"ledger", "leger", 1}, {"tides", "tide", 1}, {"môle", "mole", 1},
		{"admin", "nimda", 4}, {"booking", "bookings-1", 3},
	} {
		if got := distance(x.from, x.to); got != x.want {
			t.Errorf("from %q to %q are %d steps, want %d", x.from, x.to, got, x.want)
		}
	}
}

// plainly is the same by its definition, without a table: exponential, for short texts.
func plainly(a, b string) int {
	if a == "" || b == "" {
		return len(a) + len(b)
	}
	least := min(plainly(a[1:], b), plainly(a, b[1:])) + 1
	step := 1
	if a[0] == b[0] {
		step = 0
	}
	least = min(least, plainly(a[1:], b[1:])+step)
	if len(a) > 1 && len(b) > 1 && a[0] == b[1] && a[1] == b[0] {
		least = min(least, plainly(a[2:], b[2:])+1)
	}
	return least
}

func TestDistanceIsAsDefined(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	text := func() string {
		b := make([]byte, random.IntN(7))
		for i := range b {
			b[i] = "abc"[random.IntN(3)]
		}
		return string(b)
	}
	for range 2000 {
		a, b := text(), text()
		if got, want := distance(a, b), plainly(a, b); got != want {
			t.Fatalf("from %q to %q are %d steps, want %d", a, b, got, want)
		}
	}
}
