package cli_test

import (
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// A store that can't be made or written, since its disk is full, is said to be so; nothing is changed in a cloud that
// the journal does not know; and with room it is a store like any other.
func TestStoreOnFullDisk(t *testing.T) {
	t.Parallel()
	h := newHarbourmaster(t)
	disk := t.TempDir()
	if err := syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=16k"); err != nil {
		t.Skipf("no file system can be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(disk, 0) })
	h.env = append(h.env, "ISONOMOS_STORE="+filepath.Join(disk, "pier.db"))
	h.define("\ngroup web in nu {\n  cover where role = web\n  admit https from everyone\n}\n")
	h.must(0, "steps", "draft")
	before, on := h.changes(), []string{"enact"}
	for _, size := range []string{"16k", "32k", "64k", "80k", "96k", "112k", "128k"} {
		if err := syscall.Mount("", disk, "", syscall.MS_REMOUNT, "size="+size); err != nil {
			t.Fatal(err)
		}
		code, out := h.run(on...)
		if code == 0 {
			t.Fatalf("there is room for it in %s", size)
		}
		if strings.Contains(out, "something else") || strings.Contains(out, "not a store of this program") ||
			!strings.Contains(out, "full") && !strings.Contains(out, "no space left") {
			t.Errorf("with %s it is not said that the disk is full:\n%s", size, out)
		}
		if strings.Contains(out, "isonomos enact --resume") {
			on = []string{"enact", "--resume"}
		} else if now := h.changes(); now != before && len(on) == 1 {
			t.Fatalf("with %s the clouds were changed, and it is not said:\n%s", size, out)
		}
	}
	if err := syscall.Mount("", disk, "", syscall.MS_REMOUNT, "size=64m"); err != nil {
		t.Fatal(err)
	}
	h.must(0, "enacted", on...)
	h.must(0, "its chain holds", "repeal", "--list")
}
