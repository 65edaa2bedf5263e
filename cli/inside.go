package cli

import (
	"io/fs"
	"os"
	"path/filepath"
)

// inside is a folder of which nothing is seen that is outside of it, whatever links there
// are. A link may lead to another place within, also by its whole path.
type inside struct {
	fs.FS // of the root
	root  *os.Root
	whole string // its path without links
}

// Close closes the folder.
func (x inside) Close() error { return x.root.Close() }

// lookInside opens a folder so. It is to be closed.
func lookInside(folder string) (inside, error) {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return inside{}, err
	}
	whole, err := filepath.Abs(folder)
	if err == nil {
		whole, err = filepath.EvalSymlinks(whole)
	}
	if err != nil {
		root.Close()
		return inside{}, err
	}
	return inside{root.FS(), root, whole}, nil
}

// within is the name without links of what a name leads to, if that is in the folder. It
// is only a name: what it is opened by sees to it that nothing else is.
func (x inside) within(name string) (string, bool) {
	whole, err := filepath.EvalSymlinks(filepath.Join(x.whole, name))
	if err != nil {
		return "", false
	}
	at, err := filepath.Rel(x.whole, whole)
	return filepath.ToSlash(at), err == nil && filepath.IsLocal(at)
}

// Open opens a file of the folder.
func (x inside) Open(name string) (fs.File, error) {
	f, err := x.FS.Open(name)
	if err == nil {
		return f, nil
	}
	if at, ok := x.within(name); ok && at != name {
		return x.FS.Open(at)
	}
	return nil, err
}

// Stat tells of what a name leads to.
func (x inside) Stat(name string) (fs.FileInfo, error) {
	info, err := fs.Stat(x.FS, name)
	if err == nil {
		return info, nil
	}
	if at, ok := x.within(name); ok && at != name {
		return fs.Stat(x.FS, at)
	}
	return nil, err
}

// Lstat tells of what a name stands for, a link as well.
func (x inside) Lstat(name string) (fs.FileInfo, error) { return fs.Lstat(x.FS, name) }

// ReadLink is what a link says.
func (x inside) ReadLink(name string) (string, error) { return fs.ReadLink(x.FS, name) }
