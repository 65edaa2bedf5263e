package near

import (
	"slices"
	"strings"
	"testing"
)

func TestBest(t *testing.T) {
	names := []string{"postgres", "ssh", "https", "http", "gauge-maintenance", "operators"}
	for _, x := range []struct{ name, want string }{
		{"postgress", "postgres"}, {"shs", "ssh"}, {"htps", "https"}, {"HTTP", "http"},
		{"gauge-maint", "gauge-maintenance"},
		{"oprators", "operators"}, {"gauge", "gauge-maintenance"}, {"banana", ""}, {"", ""}, {"x", ""},
	} {
		got, ok := Best(x.name, names)
		if got != x.want || ok != (x.want != "") {
			t.Errorf("%q: got %q", x.name, got)
		}
	}
}

func TestSeveral(t *testing.T) {
	got := Several("booking-11", []string{"booking-3", "booking-1", "ledger", "booking-2", "booking-1"}, 3)
	if want := []string{"booking-1", "booking-2", "booking-3"}; !slices.Equal(got, want) {
		t.Errorf("got %v", got)
	}
	if _, ok := Best(strings.Repeat("x", 1<<16), []string{"short"}); ok {
		t.Error("a very long name is near a short one")
	}
}
