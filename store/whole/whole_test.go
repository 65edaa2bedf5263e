package whole

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
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

// Links stay links, devices stay devices, and a pipe is written to; what processes that are no more left behind is
// cleared.
func TestNothingButFilesIsReplaced(t *testing.T) {
	folder := t.TempDir()
	in := func(name string) string { return filepath.Join(folder, name) }
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(os.Mkdir(in("there"), 0o755))
	must(os.WriteFile(in("there/old"), []byte("old"), 0o600))
	for link, to := range map[string]string{"link": "there/old", "further": "link", "nowhere": "there/new"} {
		must(os.Symlink(to, in(link)))
		if link == "further" {
			continue
		}
		must(Write(in(link), "by "+link, 0o600))
		if info, err := os.Lstat(in(link)); err != nil || info.Mode()&os.ModeSymlink == 0 {
			t.Errorf("%s is no link any more: %v", link, err)
		}
		if text, err := os.ReadFile(in(to)); err != nil || string(text) != "by "+link {
			t.Errorf("%s leads to %q, %v", link, text, err)
		}
	}
	must(Put(in("further"), "further", 0o600))
	if text, _ := os.ReadFile(in("there/old")); string(text) != "further" {
		t.Errorf("through two links: %q", text)
	}
	must(os.Symlink("round", in("round")))
	if err := Write(in("round"), "x", 0o600); err == nil {
		t.Error("a link to itself is written")
	}
	for _, write := range []func(string, string, os.FileMode) error{Write, Put} {
		must(write(os.DevNull, "x", 0o600))
		if info, err := os.Lstat(os.DevNull); err != nil || info.Mode().IsRegular() {
			t.Fatalf("the device was replaced: %v %v", info, err)
		}
		if _, err := os.Stat("/dev/full"); err == nil {
			if err := write("/dev/full", "x", 0o600); err == nil {
				t.Error("a full device takes everything")
			}
		}
	}
	scrap, mine := in(fmt.Sprintf(".old-%d-0000abcd", 1<<30)), in(fmt.Sprintf(".old-%d-0000abcd", os.Getpid()))
	must(os.WriteFile(scrap, nil, 0o600))
	must(os.WriteFile(mine, nil, 0o600))
	must(os.WriteFile(in(".old-notes-of-mine"), nil, 0o600))
	Clear(in("old"))
	for path, stays := range map[string]bool{scrap: false, mine: true, in(".old-notes-of-mine"): true} {
		if _, err := os.Stat(path); (err == nil) != stays {
			t.Errorf("%s: %v", path, err)
		}
	}
}

// What somebody has written into a file since it was read is not replaced; the owner and the permissions stay.
func TestStill(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.nomos")
	text := func(s string) *string { return &s }
	for name, x := range map[string]struct {
		there, read *string
		changed     bool
	}{
		"as it was":            {text("one"), text("one"), false},
		"edited":               {text("two"), text("one"), true},
		"emptied":              {text(""), text("one"), true},
		"gone":                 {nil, text("one"), true},
		"new":                  {nil, nil, false},
		"somebody made it too": {text("one"), nil, true},
	} {
		_ = os.Remove(path)
		if x.there != nil {
			if err := os.WriteFile(path, []byte(*x.there), 0o640); err != nil {
				t.Fatal(err)
			}
		}
		f, err := Create(path, 0o644)
		if err != nil {
			t.Fatal(err)
		}
		if err := f.Still(x.read); errors.Is(err, ErrChanged) != x.changed || !x.changed && err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if err := f.Drop(); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(path, []byte("x"), 0o640); err != nil {
		t.Fatal(err)
	}
	if os.Getuid() != 0 {
		t.Skip("only root can give files away")
	}
	if err := os.Chown(path, 1234, 4321); err != nil {
		t.Skip(err)
	}
	if err := Write(path, "y", 0o644); err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm() != 0o640 || !strings.Contains(fmt.Sprintf("%+v", info.Sys()), "Uid:1234 Gid:4321") {
		t.Errorf("%v %+v %v", info.Mode(), info.Sys(), err)
	}
}
