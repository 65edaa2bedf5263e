//go:build unix

package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// hold opens while a command runs, hands on its exit code, and shuts when it ends, when it is interrupted or
// terminated, and when the terminal goes; stopped past the end it holds nothing open that others have shut.
func TestPassHold(t *testing.T) {
	t.Parallel()
	first := lendingHarbour(t)
	before := first.spelt()
	hold := func(h *harbourmaster, lasts string, command ...string) []string {
		args := []string{"pass", "hold", "au/nu/web", "ssh", "--to", "203.0.113.8", "--for", lasts, "--because", "x"}
		if len(command) > 0 {
			args = append(append(args, "--"), command...)
		}
		return args
	}
	h, _ := first.again(t)
	for code, script := range []string{"exit 0", "exit 1", "exit 2", "exit 3"} {
		out := h.must(code, "is shut", hold(h, "1h", "sh", "-c", script)...)
		if !strings.Contains(out, "opened") {
			t.Error(out)
		}
	}
	h.must(143, "is shut", hold(h, "1h", "sh", "-c", "kill -TERM $$")...)
	h.must(2, "can't be run", hold(h, "1h", "no-such-command")...)
	broken := filepath.Join(h.folder, "broken")
	if err := os.WriteFile(broken, []byte("\x7fnot a program"), 0o755); err != nil {
		t.Fatal(err)
	}
	if out := h.must(2, "can't be run", hold(h, "1h", broken)...); !strings.Contains(out, "is shut") {
		t.Errorf("what can't be started leaves it open:\n%s", out)
	}
	if left := h.leftOf(before); left != "" {
		t.Fatal(left)
	}
	open := func() bool { return strings.Contains(h.state(), "isonomos pass ") }
	until := func(what string, is func() bool) {
		t.Helper()
		for range 400 {
			if is() {
				return
			}
			time.Sleep(25 * time.Millisecond)
		}
		t.Fatalf("it is never %s", what)
	}
	for _, way := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP} {
		for _, command := range [][]string{nil, {"sleep", "60"}} {
			c, out := h.command(hold(h, "1h", command...)...)
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			until("open", open)
			until("told", func() bool { return command == nil || len(children(c.Process.Pid)) > 0 })
			_ = c.Process.Signal(way)
			_ = c.Wait()
			if open() {
				t.Errorf("%v: it is still open\n%s", way, out)
			}
			if code := c.ProcessState.ExitCode(); command == nil && code != 0 {
				t.Errorf("%v: exit %d\n%s", way, code, out)
			}
		}
	}
	// Its time is over: it is shut, and the command goes on.
	out := h.must(7, "the command goes on without it", hold(h, "1s", "sh", "-c", "sleep 2.5; exit 7")...)
	if open() {
		t.Error(out)
	}
	// Stopped past the end: somebody else shuts it, and it finds nothing to shut.
	c, said := h.command(hold(h, "2s", "sh", "-c", "exit 5")...)
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	_ = c.Process.Signal(syscall.SIGSTOP)
	time.Sleep(2500 * time.Millisecond)
	h.must(0, "", "pass", "end", "--overdue")
	_ = c.Process.Signal(syscall.SIGCONT)
	_ = c.Wait()
	if code := c.ProcessState.ExitCode(); open() || code != 5 {
		t.Errorf("exit %d, open past its end: %v\n%s", code, open(), said)
	}
	if left := h.leftOf(before); left != "" {
		t.Fatal(left)
	}
	h.must(0, "its chain holds", "repeal", "--list")
}

// children are the processes that a process has started.
func children(pid int) []string {
	var all []string
	tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	for _, name := range tasks {
		text, _ := os.ReadFile(name)
		all = append(all, strings.Fields(string(text))...)
	}
	return all
}
