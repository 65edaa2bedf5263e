//go:build linux

package cli_test

import (
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
)

// offline are commands that say nothing of a connection, in an order in which each finds
// what it needs.
var offline = []string{
	"check", "check tides.nomos", "check --survey survey.jsonl --format json", "check --rules", "tidy --list",
	"tidy --diff", "audit", "audit --survey survey.jsonl --flows flows.csv --format sarif",
	"audit --survey survey.jsonl --by account", "exposure --survey survey.jsonl",
	"trace --survey survey.jsonl booking-1 ledger-1 berth-db", "trace --survey survey.jsonl --batch questions.txt",
	"prove", "prove --survey survey.jsonl",
	"flows add flows.csv", "flows show --survey survey.jsonl",
	"narrow gauge-maintenance --survey survey.jsonl --diff", "narrow --all --survey survey.jsonl",
	"narrow --across --survey survey.jsonl", "flows forget --all",
	"adopt --all --survey survey.jsonl", "compare survey.jsonl .", "compare . .", "draft --survey survey.jsonl",
	"repeal --list", "explain lend", "explain audit", "--help", "--version",
	"sandbox generate --groups 5 --rules 20 made", "sandbox fault clouds", "demo --only-files again",
}

// digestLine is the one line of a draft that has to do with when it was made.
var digestLine = regexp.MustCompile(`(?m)^digest .*$`)

// No command opens a connection unless it says so, though the definitions name clouds, by
// an address and by variables: without any network all answer as they do with one, and
// where the clouds listen, nobody comes.
func TestNoConnectionUnlessAsked(t *testing.T) {
	var visits atomic.Int64
	server := httptest.NewUnstartedServer(http.NotFoundHandler())
	server.Config.ConnState = func(_ net.Conn, state http.ConnState) {
		if state == http.StateNew {
			visits.Add(1)
		}
	}
	server.Start()
	defer server.Close()
	for _, name := range []string{"NORTHMERE", "EASTHOLD", "WESTING"} {
		t.Setenv(name+"_URL", server.URL)
		t.Setenv(name+"_TOKEN", "secret")
	}
	laid := func() string {
		folder := harbour(t)
		edit(t, filepath.Join(folder, "harbour.nomos"), "estate saltmarsh",
			"cloud stranger {\n  dialect flat\n  at      \""+server.URL+
				"\"\n}\n\ncloud profiled {\n  dialect flat\n  profile harbour\n}\n\nestate saltmarsh")
		if err := os.WriteFile(filepath.Join(folder, "questions.txt"), []byte("booking-1 ledger-1 tcp 5432\n"),
			0o644); err != nil {
			t.Fatal(err)
		}
		return folder
	}
	with, without := laid(), laid()
	lookAtSource()
	ask := func(folder, args string, flags uintptr) (code int, out string) {
		t.Helper()
		c := exec.Command(program, strings.Fields(args)...)
		c.Dir, c.Env = folder, append(os.Environ(), "NO_COLOR=1")
		if flags != 0 {
			c.SysProcAttr = &syscall.SysProcAttr{Cloneflags: flags}
			if os.Geteuid() != 0 {
				c.SysProcAttr.Cloneflags |= syscall.CLONE_NEWUSER
				c.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Geteuid(), Size: 1}}
				c.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getegid(), Size: 1}}
			}
		}
		text, err := c.CombinedOutput()
		if err != nil && c.ProcessState == nil {
			t.Skipf("no network namespace can be made here: %v", err)
		}
		return c.ProcessState.ExitCode(), digestLine.ReplaceAllString(string(text), "")
	}
	for _, args := range offline {
		code, out := ask(with, args, 0)
		alone, same := ask(without, args, syscall.CLONE_NEWNET)
		if code != alone || out != same {
			t.Errorf("%s: exit %d with a network, %d without one\n%s\n%s", args, code, alone, out, same)
		}
		if code > 1 && !strings.HasPrefix(args, "repeal") && !strings.HasPrefix(args, "sandbox fault") {
			t.Errorf("%s: exit %d\n%s", args, code, out)
		}
	}
	if n := visits.Load(); n > 0 {
		t.Errorf("%d connections were opened", n)
	}
	// That the test sees connections at all:
	for _, folder := range []string{with, without} {
		for _, other := range []string{"made", "again"} { // estates of their own
			if err := os.RemoveAll(filepath.Join(folder, other)); err != nil {
				t.Fatal(err)
			}
		}
	}
	if code, out := ask(with, "audit --live", 0); code != 3 || visits.Load() == 0 {
		t.Errorf("audit --live: exit %d, %d connections\n%s", code, visits.Load(), out)
	}
}

// A definition can't send a secret anywhere: a token goes only where the environment says
// that it belongs, and no other variable is taken for an address or shown.
func TestDefinitionsSendNoSecret(t *testing.T) {
	var visits atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { visits.Add(1) }))
	defer server.Close()
	t.Setenv("HARBOUR_TOKEN", "s3cr3t-value")
	t.Setenv("HARBOUR_URL", "http://127.0.0.1:1")
	t.Setenv("SECRET_KEY", "s3cr3t-value")
	for _, cloud := range []string{
		"at \"" + server.URL + "\"\n  token env HARBOUR_TOKEN", "at \"" + server.URL + "\"\n  token env SECRET_KEY",
		"at env SECRET_KEY", "at env SECRET_KEY\n  token env HARBOUR_TOKEN",
		"token env HARBOUR_TOKEN\n  profile evil",
	} {
		folder := t.TempDir()
		text := "estate evil\n\ncloud evil {\n  dialect union\n  " + cloud + "\n}\n\naccount a {\n  cloud evil\n}\n"
		if err := os.WriteFile(filepath.Join(folder, "a.nomos"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		for _, args := range []string{"check", "survey", "audit --live", "draft", "compare live ."} {
			if r := call(t, folder, strings.Fields(args)...); r.code != 2 ||
				strings.Contains(r.out+r.err, "s3cr3t-value") {
				t.Errorf("%s of %q: exit %d\n%s", args, cloud, r.code, r.err)
			}
		}
	}
	if visits.Load() > 0 {
		t.Errorf("%d requests were sent", visits.Load())
	}
}

// What is not a regular file of the folder is refused unread, and no word of it is shown.
func TestOnlyRegularFilesInside(t *testing.T) {
	outside := filepath.Join(t.TempDir(), "outside.nomos")
	if err := os.WriteFile(outside, []byte("s3cr3t-value\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	t.Setenv("S3CR3T", "s3cr3t-value")
	for name, make := range map[string]func(at string) error{
		"environment": func(at string) error { return os.Symlink("/proc/self/environ", at) },
		"outside":     func(at string) error { return os.Symlink(outside, at) },
		"device":      func(at string) error { return os.Symlink("/dev/zero", at) },
		"nowhere":     func(at string) error { return os.Symlink("gone", at) },
		"pipe":        func(at string) error { return syscall.Mkfifo(at, 0o644) },
		"chain":       func(at string) error { return os.Symlink(outside, filepath.Join(filepath.Dir(at), "link")) },
	} {
		folder := t.TempDir()
		if err := os.WriteFile(filepath.Join(folder, "a.nomos"), []byte("estate a\n"), 0o644); err != nil {
			t.Fatal(err)
		}
		at := filepath.Join(folder, "c.nomos")
		if err := make(at); err != nil {
			t.Fatal(err)
		}
		if name == "chain" {
			if err := os.Symlink("link", at); err != nil {
				t.Fatal(err)
			}
		}
		for _, args := range []string{"check", "check c.nomos", "tidy", "tidy c.nomos", "audit", "prove", "survey",
			"draft", "compare . ."} {
			if name == "nowhere" && strings.HasSuffix(args, "c.nomos") {
				continue // there is no such file
			}
			if r := call(t, folder, strings.Fields(args)...); r.code != 4 ||
				strings.Contains(r.out+r.err, "s3cr3t") || !strings.Contains(r.err, "c.nomos is ") {
				t.Errorf("%s, %s: exit %d\n%s", name, args, r.code, r.err)
			}
		}
	}
	folder := t.TempDir()
	for _, link := range [][2]string{{filepath.Join(folder, "kept.txt"), "whole.nomos"}, {"kept.txt", "near.nomos"}} {
		if err := os.WriteFile(filepath.Join(folder, "kept.txt"), []byte("estate a\n"), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink(link[0], filepath.Join(folder, link[1])); err != nil {
			t.Fatal(err)
		}
		if r := call(t, folder, "check"); r.code != 0 {
			t.Errorf("a link within the folder: %+v", r)
		}
		if err := os.Remove(filepath.Join(folder, link[1])); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink(filepath.Dir(outside), filepath.Join(folder, "shared")); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "a.nomos"), []byte("estate a\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if r := call(t, folder, "check"); r.code != 0 ||
		!strings.Contains(r.err, "shared is a link to a folder: definitions behind it are not read") {
		t.Errorf("a link to a folder: %+v", r)
	}
}

// Nothing of a file reaches a terminal as it is: names of files, texts, words.
func TestNothingIsShownRaw(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	text := "estate a \"\x1b]0;owned\x07\"\n# \x1b[2J\u202e\u200b\ngroup \x1b[31mx in n {\n}\ncloud c { dialect " +
		"\"\u202eunion\" }\nlist l \"\u2066\" {\n  10.0.0.1/8 \"\x1b[5m\"\n}\n"
	if err := os.WriteFile(filepath.Join(folder, "a\x1b[31m\u202e.nomos"), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"check"}, {"check", "a\x1b[31m\u202e.nomos"}, {"tidy"}, {"audit"},
		{"check", "--format", "sarif"}, {"check", "--format", "junit"}, {"check", "gone\x1b[31m.nomos"},
		{"audit", "--over", "\x1b[31m = x"}, {"audit", "--why", "\x1b[31m"}} {
		r := call(t, folder, args...)
		if r.code < 2 || strings.ContainsAny(r.out+r.err, "\x1b\x07\u202e\u200b\u2066") {
			t.Errorf("%q: exit %d\n%q", args, r.code, r.out+r.err)
		}
	}
}
