package cli

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/term"

	"isonomos/store/whole"
)

// A newFile is a file's new content.
type newFile struct {
	path, text string
	// edits says that the text was made from what was read of the file: it must still be that, or if that is nil there
	// must be no file yet. Otherwise whatever is there is replaced.
	edits bool
	read  *string
}

// edited is a file whose text was made from what was read of it.
func edited(path, text, read string) newFile {
	return newFile{path: path, text: text, edits: true, read: &read}
}

// added is a file that is not there yet.
func added(path, text string) newFile { return newFile{path: path, text: text, edits: true} }

// writeWhole replaces all of the files or none: every new content is on the disk before the first
// file is replaced. Links stay links, modes and owners are kept. If somebody has edited one meanwhile, nothing is
// replaced.
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
		if !files[i].edits {
			continue
		}
		if err := f.Still(files[i].read); errors.Is(err, whole.ErrChanged) {
			return refused("%s has changed since it was read: nothing was written; run this again", files[i].path)
		} else if err != nil {
			return writeError(files[i].path, err)
		}
	}
	for i, f := range ready {
		if files[i].edits && f.Still(files[i].read) != nil && i > 0 { // the files before it are on the disk by now
			return refused("%s has changed since it was read, and is left as it is; written are: %s: run this again",
				files[i].path, files[i-1].path)
		}
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
