//go:build unix

package whole

import (
	"fmt"
	"io/fs"
	"os"
	"syscall"
)

// sameOwner gives a file the owner and group of the one that it is to replace.
func sameOwner(f *os.File, of fs.FileInfo) error {
	want, ok := of.Sys().(*syscall.Stat_t)
	if !ok {
		return nil
	}
	info, err := f.Stat()
	if err != nil {
		return err
	}
	have, ok := info.Sys().(*syscall.Stat_t)
	if !ok || have.Uid == want.Uid && have.Gid == want.Gid {
		return nil
	}
	if err := f.Chown(int(want.Uid), int(want.Gid)); err != nil {
		return &fs.PathError{Op: "replace", Path: of.Name(), Err: fmt.Errorf("it belongs to somebody else, or to "+
			"another group, and would not any more: %w", fs.ErrPermission)}
	}
	return nil
}
