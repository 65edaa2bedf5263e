package cli_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Whatever somebody writes into a definition while a command works on it is there afterwards: what was made from the
// file as it was is refused, and nothing at all is written.
func TestEditsMadeMeanwhileAreKept(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	if err := os.CopyFS(folder, os.DirFS(filepath.Join("testdata", "lost-edit"))); err != nil {
		t.Fatal(err)
	}
	const edit = "# an edit made meanwhile\n"
	c := exec.Command(program, "narrow", "old", "--survey", "s.jsonl", "--flows", "-", "--store", "z.db", "--write")
	c.Dir = folder
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	in, err := c.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	put := func(text string) {
		if _, err := io.WriteString(in, text); err != nil {
			t.Fatalf("%v\n%s", err, out.String())
		}
	}
	put("start,end,src,dst,protocol,src_port,dst_port,packets,bytes,reply_packets,reply_bytes,verdict\n")
	for range 3 { // more than a pipe holds: so definitions have been read when all of it is written
		for day := 10; day < 24; day++ {
			for k := range 60 {
				put(fmt.Sprintf("2026-11-%dT07:%02d:00Z,2026-11-%dT07:%02d:30Z,10.40.2.99,10.40.2.50,tcp,50010,443,9,900,9,"+
					"900,admitted\n", day, k, day, k))
			}
		}
	}
	path := filepath.Join(folder, "a.nomos")
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, append(text, edit...), 0o644); err != nil {
		t.Fatal(err)
	}
	in.Close()
	var exit *exec.ExitError
	if err := c.Wait(); !errors.As(err, &exit) || exit.ExitCode() != 4 ||
		!strings.Contains(out.String(), "a.nomos has changed since it was read: nothing was written") {
		t.Errorf("%v\n%s", err, out.String())
	}
	if is, err := os.ReadFile(path); err != nil || string(is) != string(text)+edit {
		t.Errorf("%v\n%s", err, is)
	}
}
