// Package nomos is the front end of the definition language: it reads the files
// of an estate and finds out what they mean.
package nomos

import (
	"fmt"
	"io/fs"
	"path"
	"strings"
	"unicode/utf8"

	"isonomos/nomos/parse"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

// Extension is the ending of the names of definition files.
const Extension = ".nomos"

// maxFile is the largest file that is read, in bytes: positions are 32-bit numbers.
const maxFile = 1 << 30

// Read reads all definition files of a folder and its sub-folders, in the order
// of their names; folders whose names begin with a dot are left out. The name of
// each file is what shown makes of its path in the folder.
func Read(folder fs.FS, shown func(string) string) ([]*source.File, error) {
	var files []*source.File
	err := fs.WalkDir(folder, ".", func(name string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && name != "." && strings.HasPrefix(path.Base(name), "."):
			return fs.SkipDir
		case entry.IsDir() || path.Ext(name) != Extension:
			return nil
		}
		file, err := readFile(folder, name, shown(name))
		if err == nil {
			files = append(files, file)
		}
		return err
	})
	return files, err
}

func readFile(folder fs.FS, name, shown string) (*source.File, error) {
	if info, err := fs.Stat(folder, name); err == nil && info.Size() > maxFile {
		return nil, fmt.Errorf("%s is larger than %d MB", shown, maxFile>>20)
	}
	text, err := fs.ReadFile(folder, name)
	if err != nil {
		return nil, err
	}
	return source.NewFile(shown, string(text)), nil
}

// Definitions are files and what they mean.
type Definitions struct {
	Files    []*source.File
	Trees    []*syntax.File
	Messages []source.Message // sorted
	resolve.Result
}

// Understand parses and resolves files together. What it returns is complete
// only if none of its messages is an error.
func Understand(files []*source.File, o resolve.Options) Definitions {
	d := Definitions{Files: files}
	var broken bool
	for _, f := range files {
		if m, ok := notText(f); ok {
			d.Messages = append(d.Messages, m)
			broken = true
			continue
		}
		tree, messages := parse.File(f)
		d.Trees = append(d.Trees, tree)
		d.Messages = append(d.Messages, messages...)
	}
	result, messages := resolve.Files(d.Trees, o)
	d.Result = result
	if !broken { // what a file that can't be read declares is not missing
		d.Messages = append(d.Messages, messages...)
	}
	d.Messages = capped(source.Sort(d.Messages))
	return d
}

// maxMessages is how many mistakes of one file are told.
const maxMessages = 50

// capped keeps the first messages of each file, and says how many more there are.
func capped(sorted []source.Message) []source.Message {
	var kept []source.Message
	count := 0
	for i, m := range sorted {
		if i > 0 && m.File != sorted[i-1].File {
			count = 0
		}
		if count++; count <= maxMessages {
			kept = append(kept, m)
			continue
		}
		if last := &kept[len(kept)-1]; count == maxMessages+1 {
			last.Hint = strings.TrimSpace(last.Hint + " (and more mistakes in this file)")
		}
	}
	return kept
}

// notText says of a file that is no text at all that it is none, once.
func notText(f *source.File) (source.Message, bool) {
	const looked = 64 << 10
	head := f.Text[:min(len(f.Text), looked)]
	at := strings.IndexByte(head, 0)
	if at < 0 {
		invalid := 0
		for i, r := range head {
			if r == utf8.RuneError {
				if invalid++; invalid == 1 {
					at = i
				}
			}
		}
		if invalid*10 < len(head) { // a few bad characters get messages of their own
			return source.Message{}, false
		}
	}
	if at < 0 {
		return source.Message{}, false
	}
	return source.Message{File: f, Span: source.Span{Start: int32(at), End: int32(at + 1)}, Text: "this is not a text file", Hint: "definitions are UTF-8 text"}, true
}
