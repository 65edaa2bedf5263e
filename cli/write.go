package cli

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/term"

	"isonomos/store/whole"
)

// A newFile is a file's new content, and the old one where it matters.
type newFile struct {
	path, text, old string
}

// writeWhole replaces all of the files or none: every new content is on the disk before the first
// file is replaced. Links stay links, and modes are kept.
func writeWhole(files []newFile) error {
	var ready []*whole.File
	defer func() {
		for _, f := range ready {
			_ = f.Drop() // it does nothing once the file is in place
		}
	}()
	for _, f := range files {
		pending, err := whole.Create(f.path, 0o644)
		if err != nil {
			return writeError(f.path, err)
		}
		ready = append(ready, pending)
		if _, err := pending.WriteString(f.text); err != nil {
			return writeError(f.path, err)
		}
	}
	for i, f := range ready {
		if err := f.Keep(); err != nil {
			if i > 0 {
				return unreachable("%s can't be written: %v; the files before it are written: %s", files[i].path, err,
					files[i-1].path)
			}
			return writeError(files[i].path, err)
		}
	}
	return nil
}

func writeError(path string, err error) error {
	if errors.Is(err, fs.ErrPermission) {
		return unreachable("%s can't be written: permission denied; nothing was changed", path)
	}
	var at *fs.PathError // such an error names a temporary file
	if errors.As(err, &at) {
		err = at.Err
	}
	return unreachable("%s can't be written: %v; nothing was changed", path, err)
}

// windowWidth is the width of the terminal that standard output is, or 0.
func windowWidth() int {
	width, _, err := term.GetSize(int(os.Stdout.Fd()))
	if err != nil || !term.IsTerminal(int(os.Stdout.Fd())) {
		return 0
	}
	return max(width, 1)
}
