// Package evidence reads observed flows: from CSV, JSON Lines, packet captures,
// IPFIX files, and databases that speak the PostgreSQL protocol.
package evidence

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"

	"isonomos/core/count"
	"isonomos/core/flow"
)

// Columns are the names of the columns of a flow file, in their usual order.
var Columns = []string{"start", "end", "src", "dst", "protocol", "src_port", "dst_port", "packets", "bytes",
	"reply_packets", "reply_bytes", "verdict"}

// needed are the columns without which a flow has no meaning.
var needed = []string{"start", "src", "dst", "protocol", "dst_port"}

// Options say how evidence is read.
type Options struct {
	Columns map[string]string // the evidence's names for columns, by ours
	Strict  bool              // a record that can't be read is an error; else it is skipped
	// Take returns a function that is called for each record. Readers that work in parallel ask for
	// one function for each worker. The record may be reused after the call.
	Take func() func(*flow.Record)
}

// theirs is the evidence's name for one of our columns.
func (o Options) theirs(name string) string {
	if other, ok := o.Columns[name]; ok {
		return other
	}
	return name
}

// A Report says what was read from a file and what was left out.
type Report struct {
	Format  string
	Records int
	Skipped Skipped
	Notes   []string // other remarks, such as gaps
}

// A Skipped counts the records that could not be read, with the reason of the first.
type Skipped struct {
	Count int
	First string // "flows.csv:17: …"
	place int
}

func (s *Skipped) add(place int, first func() string) {
	if s.Count++; s.Count == 1 || place < s.place {
		s.place, s.First = place, first()
	}
}

func (s *Skipped) merge(o Skipped) {
	if o.Count > 0 && (s.Count == 0 || o.place < s.place) {
		s.place, s.First = o.place, o.First
	}
	s.Count += o.Count
}

// Read reads flows, and recognises the format by the content. Records that can't be read are
// skipped and counted, or with Strict an error. The name is only used in messages. Memory does not
// grow with the file, except for packets with the number of open conversations. The caller
// decompresses.
func Read(r io.Reader, file string, o Options) (Report, error) {
	in := bufio.NewReaderSize(r, 1<<18)
	head, err := in.Peek(16)
	if err != nil && !errors.Is(err, io.EOF) {
		return Report{}, fmt.Errorf("reading %s: %w", file, err)
	}
	var report Report
	switch text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\ufeff")), " \t\r\n"); {
	case isCapture(head):
		report, err = readPackets(in, file, o)
	case len(head) >= 2 && head[0] == 0 && head[1] == ipfixVersion:
		report, err = readIPFIX(in, file, o)
	case len(head) >= 2 && head[0] == 0 && (head[1] == 5 || head[1] == 9):
		return report, fmt.Errorf("%s holds packets of NetFlow version %d, which is not read: let the collector "+
			"write IPFIX (RFC 5655) or CSV", file, head[1])
	case bytes.HasPrefix(text, []byte{'{'}):
		report, err = readJSONLines(in, file, o)
	default:
		report, err = readCSV(in, file, o)
	}
	if err == nil && o.Strict && report.Skipped.Count > 0 {
		err = fmt.Errorf("%s (%s in all)", report.Skipped.First,
			count.Of(report.Skipped.Count, "such record", "such records"))
	}
	return report, err
}
