package whole

import (
	"os"
	"path/filepath"
	"testing"
)

// A file is there with all of its new content, or as it was; nothing else is left behind.
func TestWholeOrNotAtAll(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "draft.json")
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	is := func(want string) {
		t.Helper()
		text, err := os.ReadFile(path)
		if entries, _ := os.ReadDir(folder); err != nil || string(text) != want || len(entries) != 1 {
			t.Fatalf("%q, %v, %v", text, err, entries)
		}
	}
	must(Write(path, "old", 0o600))
	is("old")
	f, err := Create(path, 0o644)
	must(err)
	_, err = f.WriteString("half")
	must(err)
	must(f.Drop())
	is("old")
	f, err = Create(path, 0o644)
	must(err)
	_, err = f.WriteString("new")
	must(err)
	must(f.Keep())
	must(f.Drop()) // does nothing any more
	is("new")
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v: the permissions are not those of before", info.Mode(), err)
	}
	if err := Write(filepath.Join(folder, "gone", "x"), "x", 0o644); err == nil {
		t.Error("a file is written into a folder that is not there")
	}
	is("new")
}
