package cli

import (
	"io/fs"
	"os"
	"path/filepath"
)

// inside is a file system of one folder. Links may lead anywhere within the folder, by their whole
// path too, but nothing outside of it can be seen.
type inside struct {
	fs.FS // of the folder
	root  *os.Root
	whole string // the folder's path, without links
}

// Close closes the folder.
func (x inside) Close() error { return x.root.Close() }

// lookInside opens a folder as an inside, which must be closed.
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

// within resolves the links of a name and returns the result relative to the folder, if it is in
// there. The answer may be out of date at once: what keeps an attacker in the folder is the os.Root
// that files are opened through.
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

// Stat describes the file that a name leads to.
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

// Lstat describes a name itself, even if it is a link.
func (x inside) Lstat(name string) (fs.FileInfo, error) { return fs.Lstat(x.FS, name) }

// ReadLink returns the target of a link.
func (x inside) ReadLink(name string) (string, error) { return fs.ReadLink(x.FS, name) }
