//go:build unix

// Package pgtest starts a PostgreSQL server for a test.
package pgtest

import (
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

// Start starts a PostgreSQL server on a socket in a temporary folder, and returns the connection
// string. The test is skipped if none is installed.
func Start(t testing.TB) string {
	t.Helper()
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	if len(found) == 0 {
		t.Skip("no PostgreSQL server is installed")
	}
	bin := found[len(found)-1]
	folder, err := os.MkdirTemp("", "pg") // the path of a socket must be short
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	attr := &syscall.SysProcAttr{}
	if os.Getuid() == 0 { // the server does not run as root
		const nobody = 65534
		attr.Credential = &syscall.Credential{Uid: nobody, Gid: nobody}
		if err := os.Chown(folder, nobody, nobody); err != nil {
			t.Fatal(err)
		}
	}
	run := func(name string, args ...string) *exec.Cmd {
		c := exec.Command(filepath.Join(bin, name), args...)
		c.SysProcAttr, c.Dir, c.Env = attr, folder, []string{"PATH=/usr/bin:/bin", "LC_ALL=C"}
		return c
	}
	data := filepath.Join(folder, "data")
	if out, err := run("initdb", "-D", data, "-U", "tester", "-A", "trust", "--no-sync").CombinedOutput(); err != nil {
		t.Fatalf("initdb: %v\n%s", err, out)
	}
	server := run("postgres", "-D", data, "-k", folder, "-c", "listen_addresses=", "-c", "fsync=off")
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = server.Process.Signal(syscall.SIGINT)
		_ = server.Wait()
	})
	settings := "host=" + folder + " user=tester dbname=postgres"
	for range 100 {
		if db, err := pgx.Connect(t.Context(), settings); err == nil {
			db.Close(t.Context())
			return settings
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatal("the server does not answer")
	return ""
}
