// Package whole writes files whole or not at all: to a temporary file in the same folder, which is
// then renamed.
package whole

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
)

// A File is a temporary file that will replace another one.
type File struct {
	*os.File
	path string
	kept bool
}

// Create begins a file that will replace the one at path. What is there stays until Keep, and its
// permissions are kept; a new file gets the given ones. The temporary file is in the folder of
// path, so that renaming it is one step.
func Create(path string, mode fs.FileMode) (*File, error) {
	made, err := beside(path, mode)
	if err != nil {
		return nil, err
	}
	f := &File{File: made, path: path}
	if info, err := os.Stat(path); err == nil {
		if err := made.Chmod(info.Mode().Perm()); err != nil {
			return nil, errors.Join(err, f.Drop())
		}
	}
	return f, nil
}

// beside makes a new file in the folder of a path, with the given permissions less the user's mask.
func beside(path string, mode fs.FileMode) (*os.File, error) {
	for try := 0; ; try++ {
		name := filepath.Join(filepath.Dir(path), fmt.Sprintf(".%s-%08x", filepath.Base(path), rand.Uint32()))
		f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, mode)
		if err == nil || !errors.Is(err, fs.ErrExist) || try > 100 {
			return f, err
		}
	}
}

// Keep writes the file to the disk and puts it in place. After an error the old file is unchanged.
func (f *File) Keep() error {
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

// Drop removes the temporary file, unless it has been kept.
func (f *File) Drop() error {
	if f.kept {
		return nil
	}
	_ = f.Close() // it may be closed already
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
