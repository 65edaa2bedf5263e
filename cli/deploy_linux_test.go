package cli_test

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// What docs/deploy has for service managers is right where systemd can say so: the units can be loaded, and leave a
// service little that it could do wrong.
func TestUnits(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("systemd-analyze"); err != nil {
		t.Skip("no systemd is installed")
	}
	folder := t.TempDir()
	for _, name := range []string{"isonomos-uphold.service", "isonomos-audit.service", "isonomos-audit.timer"} {
		text, err := os.ReadFile(filepath.Join("../docs/deploy", name))
		if err != nil {
			t.Fatal(err)
		}
		// the program is where the test has built it
		whole := strings.ReplaceAll(string(text), "/usr/local/bin/isonomos", program)
		if err := os.WriteFile(filepath.Join(folder, name), []byte(whole), 0o644); err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(folder, name)
		// it speaks of whatever else is installed on the machine too, and ends accordingly
		out, err := exec.Command("systemd-analyze", "verify", path).CombinedOutput()
		for line := range strings.Lines(string(out)) {
			if strings.Contains(line, folder) || strings.Contains(line, "isonomos") {
				t.Errorf("%s: %v: %s", name, err, line)
			}
		}
		if filepath.Ext(name) == ".timer" {
			continue
		}
		out, err = exec.Command("systemd-analyze", "security", "--offline=yes", "--threshold=20", path).CombinedOutput()
		if err != nil {
			t.Errorf("%s: %v\n%s", name, err, out)
		}
		// each command in a unit is one that there is, with flags that it has
		for _, m := range regexp.MustCompile(`(?m)^ExecStart=\S+ (.*)$`).FindAllStringSubmatch(string(text), -1) {
			help, err := exec.Command(program, strings.Fields(m[1])[0], "--help").CombinedOutput()
			if err != nil {
				t.Errorf("%s: %v", m[1], err)
			}
			for _, flag := range regexp.MustCompile(`--[a-z-]+`).FindAllString(m[1], -1) {
				if !strings.Contains(string(help), flag+" ") {
					t.Errorf("%s: there is no flag %s", m[1], flag)
				}
			}
		}
	}
	text, err := os.ReadFile("../docs/deploy/Containerfile")
	if err != nil || strings.Count(string(text), "\n") != 2 || !strings.HasPrefix(string(text), "FROM scratch\n") {
		t.Errorf("%s %v", text, err)
	}
}

// As a user of its own, with definitions that it can't write and a folder for its state, it watches, tells a service
// manager that it is ready and alive, and reads its secrets from files. Where it can't write its state it says so.
func TestUpholdAsAService(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("only root can become another user")
	}
	h := newUpheld(t, "")
	const nobody = 65534
	folder, err := os.MkdirTemp("", "service") // the folders of tests are for their user alone
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	state, secrets, estate := filepath.Join(folder, "state"), filepath.Join(folder, "secrets"), filepath.Join(folder, "estate")
	for _, dir := range []string{state, secrets, estate} {
		if err := os.Mkdir(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for _, err := range []error{os.Chmod(folder, 0o755), os.Chown(state, nobody, nobody), os.Chmod(state, 0o700)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	copied := filepath.Join(folder, "isonomos")
	binary, err := os.ReadFile(program)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(copied, binary, 0o755); err != nil {
		t.Fatal(err)
	}
	text, _ := os.ReadFile(filepath.Join(h.folder, "pier.nomos"))
	if err := os.WriteFile(filepath.Join(estate, "pier.nomos"), text, 0o644); err != nil {
		t.Fatal(err)
	}
	var env []string
	for _, v := range h.env {
		name, value, _ := strings.Cut(v, "=")
		if strings.HasSuffix(name, "_TOKEN") && strings.HasPrefix(name, "C") {
			path := filepath.Join(secrets, name)
			if err := os.WriteFile(path, []byte(value+"\n"), 0o444); err != nil {
				t.Fatal(err)
			}
			v = name + "_FILE=" + path
		}
		env = append(env, v)
	}
	as := func(store string, args ...string) *exec.Cmd {
		c := exec.Command(copied, append([]string{"uphold", "--estate", estate, "--store", store}, args...)...)
		c.Dir, c.Env = "/", env
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
		return c
	}
	out, err := as(filepath.Join(state, "isonomos.db"), "--once").CombinedOutput()
	// without the journal that knows what was made, groups that bear the mark are judged by it
	if err != nil || !strings.Contains(string(out), "everything is as it was decided") {
		t.Errorf("%v\n%s", err, out)
	}
	out, err = as(filepath.Join(estate, "isonomos.db"), "--once").CombinedOutput()
	if err == nil || err.(*exec.ExitError).ExitCode() != 3 || !strings.Contains(string(out), "permission denied") {
		t.Errorf("a store that can't be written: %v\n%s", err, out)
	}
	socket := filepath.Join(folder, "notify")
	l, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: socket, Net: "unixgram"})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if err := os.Chmod(socket, 0o777); err != nil {
		t.Fatal(err)
	}
	c := as(filepath.Join(state, "isonomos.db"))
	c.Env = append(c.Env, "NOTIFY_SOCKET="+socket, "WATCHDOG_USEC="+strconv.Itoa(300_000))
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = c.Process.Kill() }()
	hear := func(want string) {
		t.Helper()
		for range 50 {
			message := make([]byte, 256)
			_ = l.SetReadDeadline(time.Now().Add(10 * time.Second))
			n, err := l.Read(message)
			if err != nil {
				t.Fatalf("it never says %s: %v", want, err)
			}
			if strings.Contains(string(message[:n]), want) {
				return
			}
		}
		t.Fatalf("it never says %s", want)
	}
	hear("READY=1")
	hear("WATCHDOG=1")
	hear("WATCHDOG=1")
	_ = c.Process.Signal(syscall.SIGTERM)
	hear("STOPPING=1")
	if err := c.Wait(); err != nil {
		t.Errorf("it ended with %v", err)
	}
}
