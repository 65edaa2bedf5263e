package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/urfave/cli/v3"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"isonomos/core/audit"
	"isonomos/core/estate"
	"isonomos/core/near"
	"isonomos/core/pass"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/render"
	"isonomos/store"
	"isonomos/work"
)

// noEstate is given instead of a folder to leave definitions out.
const noEstate = "none"

func estateFlag() cli.Flag {
	return &cli.StringFlag{Name: "estate", Value: ".", Usage: "read definitions (*.nomos) from `FOLDER` and its " +
		"sub-folders; none leaves them out", Sources: fromVariable("ISONOMOS_ESTATE")}
}

func surveyFlag() cli.Flag {
	return &cli.StringFlag{Name: "survey", Usage: "look at the instances and routes of a survey `FILE` (.jsonl, " +
		"also gzip or zstd; - for standard input)", Sources: fromVariable("ISONOMOS_SURVEY")}
}

func liveFlag() cli.Flag {
	return &cli.BoolFlag{Name: "live", Usage: "look at the clouds themselves, as isonomos survey reads them, " +
		"instead of at a survey"}
}

// overFlag, checkFlag and severityFlag pick findings, or what a command looks at; when says when they
// count, such as "with --all: ".
func overFlag(when, example string) cli.Flag {
	return &cli.StringFlag{Name: "over", Usage: when + "only where a `CONDITION` on labels holds, such as " + example}
}

func checkFlag(when string) cli.Flag {
	return &cli.StringSliceFlag{Name: "check", Usage: when + "only findings of `CHECK` (several separated by commas)"}
}

func severityFlag(when string) cli.Flag {
	names := audit.SeverityNames()
	return &cli.StringFlag{Name: "severity", Value: audit.Info.String(),
		Usage: when + "only findings at least of `SEVERITY`: " + strings.Join(names, ", "), Validator: oneOf(names...)}
}

// stateFlag picks the state that is judged: by default the found one, or both where a command knows
// both.
func stateFlag(both bool) cli.Flag {
	states, otherwise := []string{"found", "defined"}, "found where there is a survey"
	if both {
		states, otherwise = append(states, "both"), "both where there are both"
	}
	return &cli.StringFlag{Name: "state",
		Usage: "judge the `STATE` " + strings.Join(states, ", ") +
			": as the clouds are, or as they will be once the definitions are carried out (" + otherwise + ")",
		Validator: oneOf(states...)}
}

func formatFlag(formats ...string) cli.Flag {
	return &cli.StringFlag{Name: "format", Value: "text",
		Usage:     "write `FORMAT`: text or " + strings.Join(formats, ", "),
		Validator: oneOf(append([]string{"text"}, formats...)...)}
}

// world reads what a command judges: definitions, a survey, or definitions on a survey.
func (a *App) world(ctx context.Context, c *cli.Command) (work.World, error) {
	live, folder := c.Bool("live"), c.String("estate")
	var survey *estate.Estate
	file, err := a.surveyFile(c)
	if err != nil {
		return work.World{}, err
	}
	if file != "" {
		if survey, err = a.readSurvey(file); err != nil {
			return work.World{}, err
		}
	}
	if folder == noEstate {
		if survey == nil {
			return work.World{}, usage("--estate none leaves the definitions out: name a survey with --survey FILE")
		}
		return work.World{Survey: survey, Estate: survey}, nil
	}
	files, err := a.readDefinitions(folder)
	if err != nil {
		return work.World{}, err
	}
	if len(files) == 0 && !live {
		if survey == nil {
			return work.World{}, usage("there are no definitions (*%s) in %s: name their folder with --estate, "+
				"or a survey with --survey", nomos.Extension, folderName(folder))
		}
		return work.World{Survey: survey, Estate: survey}, nil
	}
	d := nomos.Understand(files, a.meaning(c.String("estate")))
	if live && source.Errors(d.Messages) == 0 {
		if survey, err = a.liveEstate(ctx, c, d.Estate); err != nil {
			return work.World{}, err
		}
	}
	if err := a.accept(&d, survey); err != nil {
		return work.World{}, err
	}
	var passes []*pass.Found
	if survey != nil {
		if passes, err = a.passesOf(c, d.Estate, survey); err != nil {
			return work.World{}, err
		}
	}
	w := work.NewWorld(d, survey)
	w.Passes = passes
	return w, nil
}

func folderName(dir string) string {
	if dir == "." {
		return "this folder"
	}
	return dir
}

// understand resolves definitions and prints their messages. Mistakes end the command.
func (a *App) understand(c *cli.Command, files []*source.File) (nomos.Definitions, error) {
	d := nomos.Understand(files, a.meaning(c.String("estate")))
	return d, a.accept(&d, nil)
}

// accept prints the messages about definitions that were resolved on a survey (or nil). Mistakes
// end the command.
func (a *App) accept(d *nomos.Definitions, survey *estate.Estate) error {
	d.Settle(survey)
	a.tell(d.Messages)
	if n := source.Errors(d.Messages); n > 0 {
		return usage("%s in the definitions", render.Count(n, "mistake", "mistakes"))
	}
	return nil
}

// mostMessages is how many messages are printed. Behind so many there is usually one cause, such as
// a folder that holds several estates.
const mostMessages = 100

func (a *App) tell(messages []source.Message) {
	shown := messages
	// mistakes are sorted before warnings, so that none of the first hundred is lost
	if len(messages) > mostMessages {
		shown = slices.SortedStableFunc(slices.Values(messages), func(x, y source.Message) int {
			switch {
			case x.Warning == y.Warning:
				return 0
			case y.Warning:
				return -1
			}
			return 1
		})[:mostMessages]
	}
	for _, m := range shown {
		fmt.Fprint(a.Stderr, m)
	}
	if more := len(messages) - len(shown); more > 0 {
		a.note("%s: mend these first", render.Count(more, "more message", "more messages"))
	}
}

// meaning is all that the meaning of definitions depends on, apart from their text.
func (a *App) meaning(folder string) resolve.Options {
	name := "estate"
	if dir, err := filepath.Abs(folder); err == nil {
		name = filepath.Base(dir)
	}
	return resolve.Options{Name: name, Now: a.Now()}
}

// readDefinitions reads one file of definitions, or all of a folder.
func (a *App) readDefinitions(path string) ([]*source.File, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, noDefinitions(path, err)
	}
	folder := path
	if !info.IsDir() {
		if filepath.Ext(path) != nomos.Extension {
			return nil, usage("%s is neither a folder nor a file of definitions (*%s)", path, nomos.Extension)
		}
		folder = filepath.Dir(path)
	}
	within, err := lookInside(folder)
	if err != nil {
		return nil, fileError("folder", folder, err)
	}
	defer within.Close()
	var read nomos.Folder
	if info.IsDir() {
		read, err = nomos.Read(within, func(name string) string { return filepath.Join(folder, name) })
	} else {
		var file *source.File
		file, err = nomos.ReadFile(within, filepath.Base(path), path)
		read.Files = []*source.File{file}
	}
	var refusal *nomos.RefusedError
	var at *fs.PathError
	switch {
	case errors.As(err, &refusal):
		return nil, refused("%v; put the definitions themselves there, or take it away", refusal)
	case errors.As(err, &at):
		return nil, fileError("file", filepath.Join(folder, at.Path), at.Err)
	case err != nil:
		return nil, unreachable("%w", err)
	}
	for _, link := range read.Linked {
		if to, err := os.Stat(link); err == nil && to.IsDir() {
			a.note("%s is a link to a folder: definitions behind it are not read", link)
		}
	}
	return read.Files, nil
}

// sourceOf is the place of a finding that has none of its own: the survey's first line, or the
// first line of the first file of definitions.
func (a *App) sourceOf(c *cli.Command, files []*source.File) estate.Origin {
	if file := c.String("survey"); file != "" && file != "-" && !c.Bool("live") {
		return estate.Origin{File: file, Line: 1}
	}
	if len(files) > 0 {
		return estate.Origin{File: files[0].Name, Line: 1}
	}
	return estate.Origin{}
}

// noDefinitions says why a folder or file of definitions can't be read, and suggests the nearest
// existing name.
func noDefinitions(path string, err error) error {
	failed := fileError("file or folder", path, err)
	entries, _ := os.ReadDir(filepath.Dir(path)) // none where the folder can't be read either
	var names []string
	for _, e := range entries {
		if e.IsDir() || filepath.Ext(e.Name()) == nomos.Extension {
			names = append(names, e.Name())
		}
	}
	if best, ok := near.Best(filepath.Base(path), names); ok && errors.Is(err, fs.ErrNotExist) {
		return unreachable("%v: %s is near", failed, filepath.Join(filepath.Dir(path), best))
	}
	return failed
}

// fileError says in plain words why a file or folder can't be read.
func fileError(kind, path string, err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return unreachable("there is no %s %s", kind, path)
	case errors.Is(err, fs.ErrPermission):
		return unreachable("%s %s can't be read: permission denied", kind, path)
	}
	var at *fs.PathError
	if errors.As(err, &at) {
		err = at.Err
	}
	return unreachable("%s %s can't be read: %v", kind, path, err)
}

func (a *App) readSurvey(path string) (*estate.Estate, error) {
	if filepath.Ext(path) == nomos.Extension {
		return nil, usage("%s holds definitions, and a survey belongs here: name the folder of definitions with "+
			"--estate", path)
	}
	in, err := a.open(path)
	if err != nil {
		if variable := a.fromEnvironment("survey"); variable != "" && os.Getenv(variable) == path {
			a.note("the survey %s is named by %s", path, variable)
		}
		return nil, err
	}
	defer in.Close()
	return a.takeSurvey(in, shownName(path))
}

// takeSurvey reads a survey and prints its warnings.
func (a *App) takeSurvey(in io.Reader, name string) (*estate.Estate, error) {
	e, warnings, err := store.ReadSurvey(in, name)
	if e != nil {
		a.unread = append(a.unread, e.Unread...)
	}
	const shown = 10
	for _, w := range warnings[:min(shown, len(warnings))] {
		a.note("%s", w)
	}
	if len(warnings) > shown {
		a.note("and %s about %s", render.Count(len(warnings)-shown, "more warning", "more warnings"), name)
	}
	if err != nil {
		return nil, &failure{exitUsage, err}
	}
	return e, nil
}

func shownName(path string) string {
	if path == "-" {
		return estate.FromInput
	}
	return path
}

type closer struct {
	io.Reader
	close func() error
}

func (c closer) Close() error { return c.close() }

// openFile opens a file that is to be read. A named pipe is refused, since it might be waited for without end;
// those that a shell makes (/dev/fd/63) are read.
func openFile(what, path string) (*os.File, error) {
	info, err := os.Stat(path)
	if err == nil && info.Mode()&fs.ModeNamedPipe != 0 && !strings.HasPrefix(path, "/dev/") &&
		!strings.HasPrefix(path, "/proc/") {
		return nil, usage("%s is a named pipe, which may never end: give a file, or - for standard input", path)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, fileError(what, path, err)
	}
	return f, nil
}

// open opens a file, or standard input for "-", and decompresses gzip and zstd.
func (a *App) open(path string) (io.ReadCloser, error) { return a.openInto(path, nil) }

// openInto is like open, and writes the bytes of the file, still compressed, to a hash.
func (a *App) openInto(path string, digest hash.Hash) (io.ReadCloser, error) {
	var raw io.ReadCloser = io.NopCloser(a.Stdin)
	if path != "-" {
		f, err := openFile("file", path)
		if err != nil {
			return nil, err
		}
		if info, err := f.Stat(); err == nil && info.IsDir() {
			f.Close()
			return nil, usage("%s is a folder, and a file belongs here", path)
		}
		raw = f
	}
	raw = a.watched(path, raw)
	var source io.Reader = raw
	if digest != nil {
		source = io.TeeReader(raw, digest)
	}
	in := bufio.NewReaderSize(source, 1<<18)
	head, _ := in.Peek(4)
	switch {
	case strings.HasPrefix(string(head), "\x1f\x8b"):
		z, err := gzip.NewReader(in)
		if err != nil {
			raw.Close()
			return nil, usage("%s is not good gzip: %v", path, err)
		}
		return closer{withoutMark(unpacked{z, "gzip"}), raw.Close}, nil
	case string(head) == "\x28\xb5\x2f\xfd":
		z, err := zstd.NewReader(in)
		if err != nil {
			raw.Close()
			return nil, usage("%s is not good zstd: %v", path, err)
		}
		return closer{withoutMark(unpacked{z, "zstd"}), func() error { z.Close(); return raw.Close() }}, nil
	}
	return closer{withoutMark(in), raw.Close}, nil
}

// withoutMark skips the byte order mark that some programs put before a text.
func withoutMark(from io.Reader) io.Reader {
	in, ok := from.(*bufio.Reader)
	if !ok {
		in = bufio.NewReaderSize(from, 1<<16)
	}
	if head, _ := in.Peek(3); string(head) == "\ufeff" {
		_, _ = in.Discard(3)
	}
	return in
}

// unpacked wraps errors of decompression in a sentence.
type unpacked struct {
	io.Reader
	format string
}

func (u unpacked) Read(p []byte) (int, error) {
	n, err := u.Reader.Read(p)
	switch {
	case err == nil || err == io.EOF: // readers return io.EOF itself
	case errors.Is(err, io.ErrUnexpectedEOF):
		err = &store.CorruptError{Err: fmt.Errorf("the %s file is cut off here", u.format)}
	default:
		err = &store.CorruptError{Err: fmt.Errorf("the %s file is damaged from here on (%w)", u.format, err)}
	}
	return n, err
}

// watched shows on a terminal how much of a large file has been read.
func (a *App) watched(path string, raw io.ReadCloser) io.ReadCloser {
	const large = 8 << 20
	f, ok := raw.(*os.File)
	if !ok || !a.Progress {
		return raw
	}
	info, err := f.Stat()
	if err != nil || info.Size() < large {
		return raw
	}
	bars := mpb.New(mpb.WithOutput(a.Stderr), mpb.WithWidth(40))
	bar := bars.AddBar(info.Size(), mpb.BarRemoveOnComplete(),
		mpb.PrependDecorators(decor.Name("reading "+render.Clean(filepath.Base(path))+" ")),
		mpb.AppendDecorators(decor.Percentage(), decor.Name(" "), decor.CountersKibiByte("% .0f of % .0f")))
	stop := func() {
		bar.Abort(true)
		bars.Wait()
	}
	counted, err := bar.ProxyReader(raw)
	if err != nil { // reading matters, the bar does not
		stop()
		return raw
	}
	return closer{counted, func() error {
		stop()
		return raw.Close()
	}}
}
