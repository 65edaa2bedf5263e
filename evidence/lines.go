package evidence

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"sync"

	"isonomos/core/flow"
)

const (
	blockSize = 1 << 20
	longest   = 1 << 20 // bytes of a line; no flow is longer
)

// A lineReader reads the record of a line. It may remember something between lines to be faster, so
// each worker has its own.
type lineReader func(line []byte, r *flow.Record) error

// readLines reads records of one line each, in parallel. first is the number of the first line.
func readLines(r io.Reader, file string, first int, o Options, newReader func() lineReader) (Report, error) {
	type block struct {
		text []byte
		line int // number of its first line
	}
	var report Report
	jobs := make(chan block, 2)
	buffers := sync.Pool{New: func() any { return new([]byte) }}
	var mu sync.Mutex
	var workers sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		take, read := o.Take(), newReader()
		workers.Go(func() {
			var mine Report
			var record flow.Record
			for b := range jobs {
				line := b.line
				for text := b.text; len(text) > 0; line++ {
					end := bytes.IndexByte(text, '\n')
					if end < 0 {
						end = len(text)
					}
					one := text[:end]
					text = text[min(end+1, len(text)):]
					if len(one) > 0 && one[len(one)-1] == '\r' {
						one = one[:len(one)-1]
					}
					if len(one) == 0 {
						continue
					}
					if err := read(one, &record); err != nil {
						mine.Skipped.add(line, func() string { return fmt.Sprintf("%s:%d: %v", file, line, err) })
						continue
					}
					mine.Records++
					take(&record)
				}
				buffers.Put(&b.text)
			}
			mu.Lock()
			defer mu.Unlock()
			report.Records += mine.Records
			report.Skipped.merge(mine.Skipped)
		})
	}
	err := blocks(r, func(size int) []byte {
		b := *buffers.Get().(*[]byte)
		return slices.Grow(b[:0], size)
	}, func(text []byte, line int) { jobs <- block{text, line} }, first)
	close(jobs)
	workers.Wait()
	if err != nil {
		err = fmt.Errorf("reading %s: %w", file, err)
	}
	return report, err
}

// blocks divides the input into blocks of whole lines.
func blocks(r io.Reader, buffer func(size int) []byte, send func(text []byte, line int), line int) error {
	var rest []byte
	for {
		text := append(buffer(len(rest)+blockSize), rest...)
		from := len(text)
		var err error
		for len(text) < cap(text) && err == nil {
			var n int
			n, err = r.Read(text[len(text):cap(text)])
			text = text[:len(text)+n]
		}
		end := bytes.LastIndexByte(text[from:], '\n') + 1 + from
		if end == from && err == nil { // there is no line end in the block
			if len(text) > longest {
				return fmt.Errorf("line %d is longer than %d MB: this is not a file of flows", line, longest>>20)
			}
			end = 0
		}
		if errors.Is(err, io.EOF) {
			end = len(text)
		}
		rest = append([]byte(nil), text[end:]...)
		lines := bytes.Count(text[:end], []byte{'\n'})
		if end > 0 {
			send(text[:end], line)
		}
		line += lines
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("at line %d: %w", line, err)
		}
	}
}
