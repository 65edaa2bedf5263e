package work

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"isonomos/store/whole"
)

// A lock does not count whose process has ended, although another one has its number by now; it does where that is not
// known.
func TestWhoIsGone(t *testing.T) {
	host, err := os.Hostname()
	if err != nil {
		t.Fatal(err)
	}
	other := exec.Command("sleep", "60")
	if err := other.Start(); err != nil {
		t.Skip(err)
	}
	pid, own := other.Process.Pid, os.Getpid()
	began := whole.Started(pid)
	for holder, gone := range map[string]bool{
		fmt.Sprintf("%s, process %d, abcdefgh-%s", host, pid, began):   false,
		fmt.Sprintf("%s, process %d, abcdefgh-", host, pid):            false,
		fmt.Sprintf("%s, process %d, abcdefgh", host, pid):             false,
		fmt.Sprintf("%s, process %d, abcdefgh-1", host, pid):           began != "",
		fmt.Sprintf("%s, process %d, %s", host, own, ownID):            false,
		fmt.Sprintf("%s, process %d, abcdefgh-%s", host, own, ownID):   true,
		fmt.Sprintf("%s.elsewhere, process %d, abcdefgh-1", host, pid): false,
		"somebody": false,
	} {
		if isGone(holder) != gone {
			t.Errorf("%q is gone: %v", holder, !gone)
		}
	}
	_ = other.Process.Kill()
	_ = other.Wait()
	if !isGone(fmt.Sprintf("%s, process %d, abcdefgh-%s", host, pid, began)) {
		t.Error("a process that has ended is not gone")
	}
	if _, ticks, _ := strings.Cut(ownID, "-"); ticks != whole.Started(own) {
		t.Errorf("%q", ownID)
	}
}
