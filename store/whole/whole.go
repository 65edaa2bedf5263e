// Package whole writes files whole or not at all: first beside their place, then into it
// in one step.
package whole

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
)

// A File is new content on its way into the place of a file.
type File struct {
	*os.File
	path string
	kept bool
}

// Create begins a file that is to stand at a path. What stands there now stays until
// Keep, and gives its permissions; a new file has those that are given. The file is made
// in the folder of the path, so that it can be moved in one step.
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

// beside makes a new file in the folder of a path. Its permissions are those that are
// asked for, less what the user's mask takes away.
func beside(path string, mode fs.FileMode) (*os.File, error) {
	for try := 0; ; try++ {
		name := filepath.Join(filepath.Dir(path), fmt.Sprintf(".%s-%08x", filepath.Base(path), rand.Uint32()))
		f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, mode)
		if err == nil || !errors.Is(err, fs.ErrExist) || try > 100 {
			return f, err
		}
	}
}

// Keep puts the file into its place: all of it is on the disk by then. After an error the
// old file stands as it was.
func (f *File) Keep() error {
	err := errors.Join(f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), f.path) // replaces what is there, on every system
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	f.kept = true
	return nil
}

// Drop gives the file up, unless it is kept already.
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

// Write puts a text at a path, whole or not at all.
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
