// Package whole writes files whole or not at all: to a temporary file in the same folder, which is
// then renamed.
package whole

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// A File is a temporary file that will replace another one. What is no regular file, such as a device or a pipe,
// is written to itself.
type File struct {
	*os.File
	path   string
	kept   bool
	direct bool // it is no temporary file
}

// Create begins a file that will replace the one at path. What is there stays until Keep, and its
// permissions and owner are kept; a new file gets the given ones. A link stays, and what it leads to is replaced. The
// temporary file is in the folder of that, so that renaming it is one step.
func Create(path string, mode fs.FileMode) (*File, error) {
	path, err := target(path)
	if err != nil {
		return nil, err
	}
	info, err := os.Stat(path)
	if err == nil && !info.Mode().IsRegular() {
		f, err := os.OpenFile(path, os.O_WRONLY, 0)
		if err != nil {
			return nil, err
		}
		return &File{File: f, path: path, direct: true}, nil
	}
	if err == nil {
		writable, err := os.OpenFile(path, os.O_WRONLY, 0) // else a file without permission would be replaced
		if err != nil {
			return nil, err
		}
		writable.Close()
	}
	Clear(path)
	made, beside := beside(path, mode)
	if beside != nil {
		return nil, beside
	}
	f := &File{File: made, path: path}
	if info != nil {
		if err := errors.Join(sameOwner(made, info), made.Chmod(info.Mode().Perm())); err != nil {
			return nil, errors.Join(err, f.Drop())
		}
	}
	return f, nil
}

// target is what a path leads to, through links, be it there or not.
func target(path string) (string, error) {
	const mostLinks = 40
	for range mostLinks {
		info, err := os.Lstat(path)
		if err != nil || info.Mode()&fs.ModeSymlink == 0 {
			return path, nil // what is wrong with it the next call says
		}
		to, err := os.Readlink(path)
		if err != nil {
			return "", err
		}
		if !filepath.IsAbs(to) {
			to = filepath.Join(filepath.Dir(path), to)
		}
		path = to
	}
	return "", &fs.PathError{Op: "open", Path: path, Err: errors.New("too many links")}
}

// Clear removes temporary files for a path that were left by processes of this machine that are no more.
func Clear(path string) {
	folder := filepath.Dir(path)
	all, _ := os.ReadDir(folder) // what can't be read has nothing to clear
	for _, x := range all {
		rest, ours := strings.CutPrefix(x.Name(), "."+filepath.Base(path)+"-")
		process, number, _ := strings.Cut(rest, "-")
		if pid, err := strconv.Atoi(process); ours && err == nil && len(number) == 8 && Gone(pid) {
			_ = os.Remove(filepath.Join(folder, x.Name()))
		}
	}
}

// Gone reports whether no process of this machine has the given id. If that can't be found out, the
// process is assumed to exist.
func Gone(pid int) bool {
	// ERROR_INVALID_PARAMETER: on Windows FindProcess fails for a process that does not exist
	const noSuchProcess = syscall.Errno(87)
	p, err := os.FindProcess(pid)
	if err != nil {
		return errors.Is(err, noSuchProcess)
	}
	defer p.Release()
	return errors.Is(p.Signal(syscall.Signal(0)), os.ErrProcessDone)
}

// Started is when a process of this machine began, in units of its system's own, or empty if that is not known. Numbers
// of processes are used again, and those of threads are among them.
func Started(pid int) string {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return ""
	}
	const began = 19 // behind the name, which may hold anything
	fields := strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:]))
	if len(fields) <= began {
		return ""
	}
	return fields[began]
}

// beside makes a new file in the folder of a path, with the given permissions less the user's mask.
func beside(path string, mode fs.FileMode) (*os.File, error) {
	for try := 0; ; try++ {
		name := fmt.Sprintf(".%s-%d-%08x", filepath.Base(path), os.Getpid(), rand.Uint32())
		name = filepath.Join(filepath.Dir(path), name)
		f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, mode)
		if err == nil || !errors.Is(err, fs.ErrExist) || try > 100 {
			return f, err
		}
	}
}

// Keep writes the file to the disk and puts it in place. After an error the old file is unchanged.
func (f *File) Keep() error {
	if f.direct {
		f.kept = true
		return f.Close()
	}
	err := errors.Join(f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), f.path) // replaces an existing file, on every system
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	f.kept = true
	return nil
}

// ErrChanged says that a file is no longer what was read of it.
var ErrChanged = errors.New("it has changed since it was read")

// Still reports, as an error, whether what is to be replaced is no longer what was read of it; nil stands for no file.
// It is asked right before Keep.
func (f *File) Still(read *string) error {
	if f.direct {
		return nil
	}
	text, err := os.ReadFile(f.path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && read == nil:
		return nil
	case errors.Is(err, fs.ErrNotExist) || err == nil && (read == nil || string(text) != *read):
		return ErrChanged
	}
	return err
}

// Put is Write without waiting until the text is on the disk: after a crash the old file may be there, or an
// empty one.
func Put(path, text string, mode fs.FileMode) error {
	f, err := Create(path, mode)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	if err = errors.Join(err, f.Close()); err == nil && !f.direct {
		err = os.Rename(f.Name(), f.path)
	}
	if f.kept = err == nil; err != nil {
		return errors.Join(err, f.Drop())
	}
	return nil
}

// Drop removes the temporary file, unless it has been kept.
func (f *File) Drop() error {
	if f.kept {
		return nil
	}
	_ = f.Close() // it may be closed already
	if f.direct {
		return nil
	}
	if err := os.Remove(f.Name()); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Write writes a text to a path, whole or not at all.
func Write(path, text string, mode fs.FileMode) error {
	f, err := Create(path, mode)
	if err != nil {
		return err
	}
	if _, err := f.WriteString(text); err != nil {
		return errors.Join(err, f.Drop())
	}
	return f.Keep()
}
