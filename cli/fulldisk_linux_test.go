package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"isonomos/notify"
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
	full := 0
	for kilobytes := 16; ; kilobytes += 16 {
		size := fmt.Sprintf("%dk", kilobytes)
		if err := syscall.Mount("", disk, "", syscall.MS_REMOUNT, "size="+size); err != nil {
			t.Fatal(err)
		}
		code, out := h.run(on...)
		if code == 0 {
			break
		}
		full++
		out = strings.Join(strings.Fields(out), " ") // however long the name of the folder is
		if strings.Contains(out, "something else") || strings.Contains(out, "not a store of this program") ||
			!strings.Contains(out, "full") && !strings.Contains(out, "no space left") &&
				!strings.Contains(out, "was broken off after") {
			t.Errorf("with %s it is not said that the disk is full:\n%s", size, out)
		}
		if strings.Contains(out, "isonomos enact --resume") {
			on = []string{"enact", "--resume"}
		} else if now := h.changes(); now != before && len(on) == 1 {
			t.Fatalf("with %s the clouds were changed, and it is not said:\n%s", size, out)
		}
	}
	if full < 6 {
		t.Errorf("the disk was full only %d times", full)
	}
	if err := syscall.Mount("", disk, "", syscall.MS_REMOUNT, "size=64m"); err != nil {
		t.Fatal(err)
	}
	h.must(0, "its chain holds", "repeal", "--list")
}

// Where the store's disk is full, what is found can't be recorded, so nobody is told: that is said, it is not ready, and
// goes on. With room again everything is told.
func TestUpholdOnFullDisk(t *testing.T) {
	t.Parallel()
	h := newUpheld(t, "")
	disk := t.TempDir()
	if err := syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=64m"); err != nil {
		t.Skipf("no file system can be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(disk, 0) })
	d := newDesk(t, 0)
	h.settings(fmt.Sprintf("[notify.desk]\nto = %q\n", d.web.URL))
	u := h.uphold("--store", filepath.Join(disk, "pier.db"))
	u.ready()
	filler := filepath.Join(disk, "filler")
	if err := os.WriteFile(filler, make([]byte, 64<<20), 0o600); err == nil {
		t.Fatal("the disk has room for more")
	}
	var made []string
	for k := range 60 { // some fit into what the database has left
		made = append(made, h.open(k%2, fmt.Sprintf("192.0.2.%d/32", k), "tcp 22", 4000+k))
		if strings.Contains(u.log.String(), "can't be recorded") {
			break
		}
	}
	u.says("can't be recorded, so nobody is told")
	if code, text := u.get("/readyz"); code != 503 || !strings.Contains(text, "can't be recorded") {
		t.Errorf("readyz: %d %s", code, text)
	}
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	u.says("recorded again")
	last := fmt.Sprintf("192.0.2.%d", len(made)-1)
	until(t, "the last opening is told", func() bool {
		return slices.ContainsFunc(d.told(), func(n notify.Notice) bool {
			return n.Type == notify.Opened && n.Traffic != nil && strings.Contains(n.Traffic.Peers, last)
		})
	}, u.log)
	u.ready()
	u.stop()
}
