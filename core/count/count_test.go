package count

import (
	"math/big"
	"testing"
	"time"
)

func TestNumbersInSentences(t *testing.T) {
	for n, want := range map[int]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567", -5: "-5",
		-999: "-999", -1000: "-1,000"} {
		if got := Number(n); got != want {
			t.Errorf("%d: %q, want %q", n, got, want)
		}
	}
	for n, want := range map[int]string{0: "0 rules", 1: "1 rule", 2: "2 rules", 4000: "4,000 rules"} {
		if got := Of(n, "rule", "rules"); got != want {
			t.Errorf("%d: %q, want %q", n, got, want)
		}
	}
	names := []string{"a", "b", "c"}
	if got := Some(names, 3) + "; " + Some(names, 2) + "; " + Some(nil, 2); got != "a, b, c; a, b and 1 more; " {
		t.Error(got)
	}
}

func TestBigNumbersInSentences(t *testing.T) {
	all := new(big.Int).Lsh(big.NewInt(1), 128)
	if got, want := OfBig(all, "address", "addresses"),
		"340,282,366,920,938,463,463,374,607,431,768,211,456 addresses"; got != want {
		t.Errorf("%q, want %q", got, want)
	}
	if got := OfBig(big.NewInt(1), "address", "addresses"); got != "1 address" {
		t.Error(got)
	}
}

func TestDurations(t *testing.T) {
	for d, want := range map[time.Duration][2]string{
		0:                {"0 s", ""},
		40 * time.Second: {"40 s", "40s"},
		15 * time.Minute: {"15 min", "15m"},
		time.Hour + 30*time.Minute + 5*time.Second: {"1 h 30 min", "1h30m5s"},
		49 * time.Hour: {"2 d 1 h", "2d1h"},
		7*24*time.Hour + 59*time.Minute + time.Second: {"7 d 0 h", "7d59m1s"},
	} {
		if Lasting(d) != want[0] || Duration(d) != want[1] {
			t.Errorf("%s: %q and %q, want %q", d, Lasting(d), Duration(d), want)
		}
	}
}
