// Package evidence reads observed flows from files.
package evidence

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"isonomos/core/flow"
	"isonomos/core/near"
	"isonomos/core/service"
)

// Columns are the names of the columns of a flow file, in their usual order.
var Columns = []string{"start", "end", "src", "dst", "protocol", "src_port", "dst_port", "packets", "bytes", "reply_packets", "reply_bytes", "verdict"}

// needed are the columns without which a flow can't be understood.
var needed = []string{"start", "src", "dst", "protocol", "dst_port"}

// A Skipped counts the records that could not be read, and says of the first why.
type Skipped struct {
	Count int
	First string // "flows.csv:17: …"
}

// ReadCSV reads flows from CSV with a header and calls take for each. Records
// that can't be read are skipped and counted. A missing column is an error. The
// file's name is used in messages alone. Memory does not grow with the file.
func ReadCSV(r io.Reader, file string, take func(flow.Record)) (Skipped, error) {
	var skipped Skipped
	in := csv.NewReader(r)
	in.ReuseRecord = true
	in.FieldsPerRecord = -1
	header, err := in.Read()
	if errors.Is(err, io.EOF) {
		return skipped, fmt.Errorf("%s is empty: its first line must name the columns %s", file, strings.Join(Columns, ","))
	}
	if err != nil {
		return skipped, fmt.Errorf("%s: the first line does not name columns: %w", file, err)
	}
	c, err := columns(header)
	if err != nil {
		return skipped, fmt.Errorf("%s:1: %w", file, err)
	}
	for {
		fields, err := in.Read()
		if errors.Is(err, io.EOF) {
			return skipped, nil
		}
		var parse *csv.ParseError
		if err != nil && !errors.As(err, &parse) {
			return skipped, fmt.Errorf("reading %s: %w", file, err)
		}
		var record flow.Record
		if err == nil {
			record, err = c.record(fields)
		}
		if err != nil {
			if skipped.Count++; skipped.Count == 1 {
				line := 0
				if parse != nil {
					line, err = parse.Line, parse.Err
				} else {
					line, _ = in.FieldPos(0)
				}
				skipped.First = fmt.Sprintf("%s:%d: %v", file, line, err)
			}
			continue
		}
		take(record)
	}
}

// A layout says in which field of a record each column stands; -1 where it is missing.
type layout struct {
	start, end, src, dst, protocol, dstPort, packets, bytes, replyPackets, replyBytes, verdict int
}

func columns(header []string) (layout, error) {
	at := func(name string) int {
		return slices.IndexFunc(header, func(h string) bool { return strings.TrimSpace(strings.TrimPrefix(h, "\ufeff")) == name })
	}
	var missing []string
	for _, name := range needed {
		if at(name) < 0 {
			missing = append(missing, strconv.Quote(name))
		}
	}
	if len(missing) > 0 {
		hint := ""
		if best, ok := near.Best(strings.Trim(missing[0], `"`), header); ok {
			hint = fmt.Sprintf(" (there is %q)", best)
		}
		return layout{}, fmt.Errorf("the header has no column %s%s: it needs %s", strings.Join(missing, ", "), hint, strings.Join(needed, ", "))
	}
	return layout{at("start"), at("end"), at("src"), at("dst"), at("protocol"), at("dst_port"), at("packets"), at("bytes"),
		at("reply_packets"), at("reply_bytes"), at("verdict")}, nil
}

func (c layout) record(fields []string) (flow.Record, error) {
	get := func(i int) string {
		if i < 0 || i >= len(fields) {
			return ""
		}
		return fields[i]
	}
	var r flow.Record
	var err error
	if r.Start, err = moment(get(c.start)); err != nil {
		return r, err
	}
	r.End = r.Start
	if text := get(c.end); text != "" {
		if r.End, err = moment(text); err != nil {
			return r, err
		}
	}
	if r.Source, err = address(get(c.src)); err != nil {
		return r, err
	}
	if r.Destination, err = address(get(c.dst)); err != nil {
		return r, err
	}
	protocol, err := service.ParseProtocol(get(c.protocol))
	if err != nil {
		return r, err
	}
	port := uint64(0)
	if text := get(c.dstPort); text != "" {
		if port, err = strconv.ParseUint(text, 10, 16); err != nil {
			return r, fmt.Errorf("dst_port is %q: it goes from 0 to 65535", text)
		}
	}
	r.Service = service.PointOf(protocol, uint16(port))
	for _, n := range []struct {
		at   int
		into *uint64
	}{{c.packets, &r.Packets}, {c.bytes, &r.Bytes}, {c.replyPackets, &r.ReplyPackets}, {c.replyBytes, &r.ReplyBytes}} {
		if text := get(n.at); text != "" {
			if *n.into, err = strconv.ParseUint(text, 10, 64); err != nil {
				return r, fmt.Errorf("%q is not a count", text)
			}
		}
	}
	r.ReplyKnown = get(c.replyPackets) != ""
	switch verdict := get(c.verdict); verdict {
	case "", "admitted":
	case "refused":
		r.Refused = true
	default:
		return r, fmt.Errorf("the verdict is %q: it is admitted or refused", verdict)
	}
	return r, nil
}

func moment(text string) (time.Time, error) {
	if seconds, err := strconv.ParseFloat(text, 64); err == nil && seconds >= 0 && seconds < 1e11 {
		return time.Unix(int64(seconds), 0).UTC(), nil
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return t, fmt.Errorf("%q is not a time: write 2026-11-20T06:00:00Z or seconds since 1970", text)
	}
	return t.UTC(), nil
}

func address(text string) (netip.Addr, error) {
	a, err := netip.ParseAddr(text)
	if err != nil {
		return a, fmt.Errorf("%q is not an IP address", text)
	}
	return a.Unmap().WithZone(""), nil
}
