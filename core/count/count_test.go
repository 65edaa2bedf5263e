package count

import "testing"

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
