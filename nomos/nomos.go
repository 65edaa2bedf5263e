// Package nomos is the front end of the definition language: it reads the files of an estate and
// finds what they mean.
package nomos

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"isonomos/core/estate"
	"isonomos/nomos/parse"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

// Extension is the extension of definition files.
const Extension = ".nomos"

// maxFile is the largest size of a file, in bytes: positions are 32-bit numbers.
const maxFile = 1 << 30

// A RefusedError says why a definition file is not read. A message may quote a file, so files
// outside of the folder must not be read.
type RefusedError struct {
	Path string // as messages show it
	Why  string
}

func (e *RefusedError) Error() string { return e.Path + " " + e.Why }

// A Folder is what was found in a folder and its sub-folders.
type Folder struct {
	Files  []*source.File
	Linked []string // sub-folders that are links; they are not followed
}

// Read reads all definition files of a folder and its sub-folders, sorted by name, except in
// folders whose names begin with a dot. The function shown turns a path in the folder into the name
// that messages show. Only regular files are read, and links to regular files if fsys resolves them
// (an os.Root does not leave its folder); others are a RefusedError.
func Read(folder fs.FS, shown func(string) string) (Folder, error) {
	var read Folder
	err := fs.WalkDir(folder, ".", func(name string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && name != "." && strings.HasPrefix(path.Base(name), "."):
			return fs.SkipDir
		case entry.IsDir():
			return nil
		case path.Ext(name) != Extension:
			if entry.Type()&fs.ModeSymlink != 0 {
				if to, err := fs.Stat(folder, name); err != nil || to.IsDir() {
					read.Linked = append(read.Linked, shown(name))
				}
			}
			return nil
		}
		file, err := ReadFile(folder, name, shown(name))
		if err == nil {
			read.Files = append(read.Files, file)
		}
		return err
	})
	return read, err
}

// ReadFile reads one definition file of a folder, as Read does.
func ReadFile(folder fs.FS, name, shown string) (*source.File, error) {
	info, err := fs.Stat(folder, name)
	linked := false
	if l, lerr := fs.Lstat(folder, name); lerr == nil {
		linked = l.Mode()&fs.ModeSymlink != 0
	}
	switch {
	case err != nil && linked:
		return nil, &RefusedError{shown, "is a link that leads out of the folder, or nowhere: it is not read"}
	case err != nil:
		return nil, err
	case !info.Mode().IsRegular():
		return nil, &RefusedError{shown, "is no regular file: it is not read"}
	case info.Size() > maxFile:
		return nil, fmt.Errorf("%s is larger than %d MB", shown, maxFile>>20)
	}
	text, err := fs.ReadFile(folder, name)
	if err != nil {
		return nil, err
	}
	return source.NewFile(shown, string(text)), nil
}

// Definitions are files, and what they mean.
type Definitions struct {
	Files    []*source.File
	Trees    []*syntax.File
	Messages []source.Message // sorted
	resolve.Result
}

// Named reports whether the definitions name their estate.
func (d Definitions) Named() bool {
	return slices.ContainsFunc(d.Trees, func(t *syntax.File) bool {
		return slices.ContainsFunc(t.Decls, func(x syntax.Decl) bool { _, ok := x.(*syntax.Estate); return ok })
	})
}

// Understand parses and resolves files together. The result is complete only if none of its
// messages is an error.
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
	if !broken { // what an unreadable file may declare is not reported as missing
		d.Messages = append(d.Messages, messages...)
	}
	d.Messages = capped(source.Sort(d.Messages))
	return d
}

// Settle decides by a survey what definitions alone leave in doubt: it becomes a mistake, or
// nothing. Doubts that the survey can't decide stay as they are.
func (d *Definitions) Settle(surveyed *estate.Estate) {
	if len(d.Doubts) == 0 || surveyed == nil {
		return
	}
	e, _, _ := estate.Overlay(d.Estate, surveyed, nil)
	members := make(map[string][]*estate.Interface) // by the group's full name
	for _, i := range e.Instances {
		for _, f := range i.Interfaces {
			for _, g := range f.Groups {
				members[g.Path()] = append(members[g.Path()], f)
			}
		}
	}
	for _, doubt := range d.Doubts {
		within := members[doubt.End.Path()]
		if len(within) == 0 {
			continue
		}
		stopped := slices.ContainsFunc(within, func(f *estate.Interface) bool {
			return slices.ContainsFunc(f.Subnet.Groups,
				func(g *estate.Group) bool { return g.Path() == doubt.Wall.Path() })
		})
		d.Messages = slices.DeleteFunc(d.Messages, func(m source.Message) bool {
			return m.File == doubt.Told.File && m.Span == doubt.Told.Span && m.Text == doubt.Told.Text
		})
		if stopped {
			told := doubt.Told
			told.Warning = false
			d.Messages = append(d.Messages, told)
		}
	}
	d.Doubts = nil
	d.Messages = source.Sort(d.Messages)
}

// maxMessages is the most mistakes that are reported for one file.
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

// notText reports once that a file is not a text at all.
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
		if invalid*10 < len(head) { // for a few bad characters there are messages of their own
			return source.Message{}, false
		}
	}
	if at < 0 {
		return source.Message{}, false
	}
	return source.Message{File: f, Span: source.Span{Start: int32(at), End: int32(at + 1)},
		Text: "this is not a text file", Hint: "definitions are UTF-8 text"}, true
}
