// Package golden compares what tests get with files that hold what they want.
package golden

import (
	"flag"
	"os"
	"testing"

	"github.com/rogpeppe/go-internal/diff"
)

var update = flag.Bool("update", false, "rewrite the golden files")

// Check compares a text with a file, to the letter; with -update it writes the file first.
// What differs is shown as a diff, from the file to what the test got.
func Check(t testing.TB, file, got string) {
	t.Helper()
	if *update {
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if got != string(want) {
		t.Errorf("%s is not what the test got; go test with -update rewrites it\n%s",
			file, diff.Diff(file, want, "got", []byte(got)))
	}
}
