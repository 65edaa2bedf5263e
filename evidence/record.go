package evidence

import (
	"fmt"
	"net/netip"
	"strconv"
	"time"

	"isonomos/core/flow"
	"isonomos/core/service"
)

// A layout says which field of a record each of Columns is; -1 if it is missing.
type layout [12]int

// The indices in a layout.
const (
	atStart = iota
	atEnd
	atSrc
	atDst
	atProtocol
	atSrcPort
	atDstPort
	atPackets
	atBytes
	atReplyPackets
	atReplyBytes
	atVerdict
)

// A parser reads the fields of records. It remembers the last day that it read.
type parser struct {
	date  [10]byte
	since int64 // the first second of that date
}

// record reads the fields of one flow.
func (p *parser) record(at layout, fields [][]byte, r *flow.Record) error {
	get := func(i int) []byte {
		if i = at[i]; i < 0 {
			return nil
		}
		return fields[i]
	}
	*r = flow.Record{}
	var err error
	if r.Start, err = p.moment(get(atStart)); err != nil {
		return err
	}
	r.End = r.Start
	if text := get(atEnd); len(text) > 0 {
		if r.End, err = p.moment(text); err != nil {
			return err
		}
	}
	if r.Source, err = address(get(atSrc)); err != nil {
		return err
	}
	if r.Destination, err = address(get(atDst)); err != nil {
		return err
	}
	if r.Protocol, err = protocol(get(atProtocol)); err != nil {
		return err
	}
	for _, port := range [...]struct {
		at   int
		into *uint16
	}{{atSrcPort, &r.SourcePort}, {atDstPort, &r.Port}} {
		text := get(port.at)
		if len(text) == 0 {
			continue
		}
		n, ok := number(text)
		if !ok || n > 65535 {
			return fmt.Errorf("%s is %q: it goes from 0 to 65535", Columns[port.at], text)
		}
		*port.into = uint16(n)
	}
	for _, count := range [...]struct {
		at   int
		into *uint64
	}{{atPackets, &r.Packets}, {atBytes, &r.Bytes}, {atReplyPackets, &r.ReplyPackets}, {atReplyBytes, &r.ReplyBytes}} {
		text := get(count.at)
		if len(text) == 0 {
			continue
		}
		var ok bool
		if *count.into, ok = number(text); !ok {
			return fmt.Errorf("%s is %q, which is not a number", Columns[count.at], text)
		}
	}
	if r.ReplyKnown = len(get(atReplyPackets)) > 0; r.ReplyKnown {
		r.Opened = flow.BySource
	}
	switch verdict := get(atVerdict); string(verdict) {
	case "", "admitted":
	case "refused":
		r.Refused = true
	default:
		return fmt.Errorf("the verdict is %q: it is admitted or refused", verdict)
	}
	if r.Source.Is4() != r.Destination.Is4() {
		return fmt.Errorf("%s and %s are not of one family", r.Source, r.Destination)
	}
	return nil
}

// number reads an unsigned whole number.
func number(text []byte) (uint64, bool) {
	if len(text) == 0 || len(text) > 19 {
		return 0, false
	}
	n := uint64(0)
	for _, c := range text {
		if c < '0' || c > '9' {
			return 0, false
		}
		n = 10*n + uint64(c-'0')
	}
	return n, true
}

// latest bounds times in seconds, so that milliseconds are not taken for seconds.
const latest = 1e11

// moment reads a time: RFC 3339, or seconds since 1970. The usual form takes a fast path.
func (p *parser) moment(text []byte) (int64, error) {
	if n, ok := number(text); ok && n < latest {
		return int64(n), nil
	}
	if len(text) == 20 && text[10] == 'T' && text[13] == ':' && text[16] == ':' && text[19] == 'Z' {
		h, okH := number(text[11:13])
		m, okM := number(text[14:16])
		s, okS := number(text[17:19])
		if okH && okM && okS && h < 24 && m < 60 && s < 60 {
			if string(text[:10]) != string(p.date[:]) {
				day, err := time.Parse(time.DateOnly, string(text[:10]))
				if err != nil || day.Unix() < 0 {
					return 0, notATime(text)
				}
				copy(p.date[:], text)
				p.since = day.Unix()
			}
			return p.since + int64(3600*h+60*m+s), nil
		}
	}
	if seconds, err := strconv.ParseFloat(string(text), 64); err == nil && seconds >= 0 && seconds < latest {
		return int64(seconds), nil
	}
	t, err := time.Parse(time.RFC3339, string(text))
	if err != nil || t.Unix() < 0 {
		return 0, notATime(text)
	}
	return t.Unix(), nil
}

func notATime(text []byte) error {
	return fmt.Errorf("%q is not a time: write 2026-11-20T06:00:00Z or seconds since 1970", text)
}

// address reads an address; the usual form of IPv4 takes a fast path.
func address(text []byte) (netip.Addr, error) {
	var four [4]byte
	at, digits, n := 0, 0, 0
	for _, c := range text {
		switch {
		case c >= '0' && c <= '9' && (digits == 0 || n > 0) && digits < 3:
			n, digits = 10*n+int(c-'0'), digits+1
		case c == '.' && at < 3 && digits > 0 && n < 256:
			four[at], at, n, digits = byte(n), at+1, 0, 0
		default:
			return otherAddress(text)
		}
	}
	if at == 3 && digits > 0 && n < 256 {
		four[3] = byte(n)
		return netip.AddrFrom4(four), nil
	}
	return otherAddress(text)
}

func otherAddress(text []byte) (netip.Addr, error) {
	a, err := netip.ParseAddr(string(text))
	if err != nil {
		return a, fmt.Errorf("%q is not an IP address", text)
	}
	return a.Unmap().WithZone(""), nil
}

// protocol reads a protocol by number or name: exporters write names of the IANA registry.
func protocol(text []byte) (uint8, error) {
	switch string(text) {
	case "tcp", "6":
		return service.TCP, nil
	case "udp", "17":
		return service.UDP, nil
	}
	if p, ok := service.RegisteredProtocol(string(text)); ok {
		return p, nil
	}
	return service.ParseProtocol(string(text))
}
