package evidence

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"isonomos/core/count"
	"isonomos/core/flow"
	"isonomos/core/near"
)

// readCSV reads flows from CSV with a header. A record is always one line, so that files can be
// read in parallel and a stray quote spoils only one record.
func readCSV(in *bufio.Reader, file string, o Options) (Report, error) {
	first, err := firstLine(in)
	if err != nil {
		return Report{}, fmt.Errorf("reading %s: %w", file, err)
	}
	first = strings.TrimPrefix(first, "\ufeff")
	if strings.TrimSpace(first) == "" {
		return Report{}, fmt.Errorf("%s is empty: its first line must name the columns %s", file,
			strings.Join(Columns, ","))
	}
	header, err := csv.NewReader(strings.NewReader(first)).Read()
	if err != nil {
		return Report{}, fmt.Errorf("%s: the first line does not name columns: %w", file, unplaced(err))
	}
	c, err := columns(header, o)
	if err != nil {
		return Report{}, fmt.Errorf("%s:1: %w", file, err)
	}
	report, err := readLines(in, file, 2, o, func() lineReader {
		var p parser
		fields := make([][]byte, len(header))
		return func(line []byte, r *flow.Record) error {
			if err := split(line, fields); err != nil {
				return err
			}
			return p.record(c, fields, r)
		}
	})
	report.Format = "CSV"
	return report, err
}

// firstLine reads a line that is no longer than those of flows may be.
func firstLine(in *bufio.Reader) (string, error) {
	var line []byte
	for {
		part, err := in.ReadSlice('\n')
		line = append(line, part...)
		switch {
		case len(line) > longest:
			return "", fmt.Errorf("line 1 is longer than %d MB: this is not a file of flows", longest>>20)
		case errors.Is(err, bufio.ErrBufferFull):
		case err != nil && !errors.Is(err, io.EOF):
			return "", err
		default:
			return string(line), nil
		}
	}
}

// split divides a line into fields. Fields beyond the header's are ignored. A line with fewer fields
// is an error: it may be cut off within its last one.
func split(line []byte, fields [][]byte) error {
	field, from := 0, 0
	for i, c := range line {
		if c > ',' { // the usual case
			continue
		}
		switch c {
		case '"':
			return splitQuoted(line, fields)
		case ',':
			if field < len(fields) {
				fields[field] = line[from:i]
			}
			field, from = field+1, i+1
		}
	}
	if field < len(fields) {
		fields[field] = line[from:]
	}
	return enough(field+1, fields)
}

func enough(found int, fields [][]byte) error {
	if found < len(fields) {
		return fmt.Errorf("it has %s, and the header names %d: it may be cut off",
			count.Of(found, "field", "fields"), len(fields))
	}
	return nil
}

func splitQuoted(line []byte, fields [][]byte) error {
	in := csv.NewReader(bytes.NewReader(line))
	in.FieldsPerRecord = -1
	found, err := in.Read()
	if err != nil {
		return unplaced(err)
	}
	for i := range min(len(found), len(fields)) {
		fields[i] = []byte(found[i])
	}
	return enough(len(found), fields)
}

// unplaced is an error without its own position, for callers that add the line.
func unplaced(err error) error {
	var parse *csv.ParseError
	if errors.As(err, &parse) {
		return parse.Err
	}
	return err
}

// columns says which field each column is.
func columns(header []string, o Options) (layout, error) {
	clean := make([]string, len(header))
	for i, h := range header {
		clean[i] = strings.TrimSpace(h)
	}
	var missing []string
	var at layout
	for i, name := range Columns {
		theirs := o.theirs(name)
		at[i] = slices.Index(clean, theirs)
		_, mapped := o.Columns[name]
		if at[i] < 0 && (mapped || slices.Contains(needed, name)) {
			missing = append(missing, theirs)
		}
	}
	if len(missing) == 0 {
		return at, nil
	}
	hint := ""
	if best, ok := near.Best(missing[0], clean); ok {
		hint = fmt.Sprintf(" (there is %q)", best)
	}
	quoted := make([]string, len(missing))
	for i, m := range missing {
		quoted[i] = strconv.Quote(m)
	}
	return at, fmt.Errorf("the header has no column %s%s: it needs %s; what is called otherwise can be named "+
		"with --column dst=THEIRS",
		strings.Join(quoted, ", "), hint, strings.Join(needed, ", "))
}
