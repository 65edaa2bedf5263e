// Package nomos is the front end of the definition language: it reads the files
// of an estate and finds out what they mean.
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

// Extension is the ending of the names of definition files.
const Extension = ".nomos"

// maxFile is the largest file that is read, in bytes: positions are 32-bit numbers.
const maxFile = 1 << 30

// A RefusedError says why a file of definitions is not read: what a message shows of a
// file must never be the text of one outside of the folder.
type RefusedError struct {
	Path string // as it is shown
	Why  string
}

func (e *RefusedError) Error() string { return e.Path + " " + e.Why }

// A Folder is what there is in a folder and its sub-folders.
type Folder struct {
	Files  []*source.File
	Linked []string // sub-folders that are links: what they lead to is not looked at
}

// Read reads all definition files of a folder and its sub-folders, in the order
// of their names; folders whose names begin with a dot are left out. The name of
// each file is what shown makes of its path in the folder. Only regular files are
// read, and links to regular files that the folder gives (an os.Root gives none
// outside of it); all else is a RefusedError.
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

// Settle decides by a survey what definitions alone leave in doubt: it is a mistake, or is
// gone. What the survey does not tell either stays as it was told.
func (d *Definitions) Settle(surveyed *estate.Estate) {
	if len(d.Doubts) == 0 || surveyed == nil {
		return
	}
	e, _, _ := estate.Overlay(d.Estate, surveyed)
	members := make(map[string][]*estate.Interface) // of groups by path
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
	return source.Message{File: f, Span: source.Span{Start: int32(at), End: int32(at + 1)},
		Text: "this is not a text file", Hint: "definitions are UTF-8 text"}, true
}
