package evidence

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/go-faster/jx"

	"isonomos/core/flow"
)

// readJSONLines reads one JSON object a line, with the columns as its fields. Values may be strings
// or numbers; other fields are ignored.
func readJSONLines(in *bufio.Reader, file string, o Options) (Report, error) {
	if head, _ := in.Peek(3); string(head) == "\ufeff" {
		_, _ = in.Discard(3)
	}
	at := make(map[string]int, len(Columns))
	var all layout
	for i, name := range Columns {
		at[o.theirs(name)], all[i] = i, i
	}
	report, err := readLines(in, file, 1, o, func() lineReader {
		var p parser
		var d jx.Decoder
		fields := make([][]byte, len(Columns))
		return func(line []byte, r *flow.Record) error {
			clear(fields)
			if len(line) == 0 || slices.IndexFunc(line, func(c byte) bool { return c != ' ' && c != '\t' }) < 0 {
				return errors.New("the line is blank")
			}
			d.ResetBytes(line)
			err := d.ObjBytes(func(d *jx.Decoder, name []byte) error {
				i, ok := at[string(name)]
				if !ok {
					return d.Skip()
				}
				var err error
				switch d.Next() {
				case jx.String:
					fields[i], err = d.StrBytes()
					fields[i] = slices.Clone(fields[i])
				case jx.Number:
					var n jx.Num
					n, err = d.Num()
					fields[i] = []byte(n)
				case jx.Null:
					err = d.Null()
				default:
					return fmt.Errorf("%s is neither text nor a number", name)
				}
				return err
			})
			if err == nil && d.Skip() != io.EOF {
				err = errors.New("something follows the object")
			}
			if err != nil {
				return fmt.Errorf("not a good JSON object: %w", err)
			}
			for _, name := range needed {
				i := slices.Index(Columns, name)
				if len(fields[i]) == 0 && name != "dst_port" {
					return fmt.Errorf("there is no %q", o.theirs(name))
				}
			}
			return p.record(all, fields, r)
		}
	})
	report.Format = "JSON Lines"
	return report, err
}
