package evidence

import (
	"bytes"
	"encoding/binary"
	"net"
	"strings"
	"testing"
	"time"
)

// message is an IPFIX message of observation domain 7 with sets.
func message(sequence uint32, sets ...[]byte) []byte {
	body := bytes.Join(sets, nil)
	head := binary.BigEndian.AppendUint16(nil, ipfixVersion)
	head = binary.BigEndian.AppendUint16(head, uint16(messageHeader+len(body)))
	head = binary.BigEndian.AppendUint32(head, uint32(begin.Unix()))
	head = binary.BigEndian.AppendUint32(head, sequence)
	head = binary.BigEndian.AppendUint32(head, 7)
	return append(head, body...)
}

func set(id uint16, content []byte) []byte {
	head := binary.BigEndian.AppendUint16(nil, id)
	return append(binary.BigEndian.AppendUint16(head, uint16(setHeader+len(content))), content...)
}

// templateOf is a set with one template of (element, length) pairs; elements of an
// enterprise are given as id|enterpriseBit, length and number.
func templateOf(id uint16, fields ...uint32) []byte {
	var content []byte
	count := uint16(0)
	for i := 0; i < len(fields); i += 2 {
		content = binary.BigEndian.AppendUint16(content, uint16(fields[i]))
		content = binary.BigEndian.AppendUint16(content, uint16(fields[i+1]))
		if fields[i]&enterpriseBit != 0 {
			content = binary.BigEndian.AppendUint32(content, fields[i+2])
			i++
		}
		count++
	}
	head := binary.BigEndian.AppendUint16(nil, id)
	return set(templateSet, append(binary.BigEndian.AppendUint16(head, count), content...))
}

func data(id uint16, text string) []byte { return set(id, unhex(text)) }

func TestReadIPFIX(t *testing.T) {
	const five, ssh = 256, "c0000201 0a000001 06 c350 0016"
	template := templateOf(five, 8, 4, 12, 4, 4, 1, 7, 2, 11, 2)
	withdrawn := set(templateSet, unhex("0100 0000"))
	const want = "192.0.2.1>10.0.0.1 tcp 22 0/0 0s"
	for _, x := range []struct {
		name     string
		messages [][]byte
		want     string
		report   string // what it says
	}{
		{"a template and its data", [][]byte{message(0, template, data(five, ssh))}, want, ""},
		{"padding", [][]byte{message(0, template, data(five, ssh+"000000"))}, want, ""},
		{"data before its template", [][]byte{message(0, data(five, ssh)), message(0, template)}, "",
			"f has no template (never sent, or withdrawn) for 1 data set, which is left out"},
		{"a withdrawn template", [][]byte{message(0, template, withdrawn, data(five, ssh))}, "",
			"f has no template (never sent, or withdrawn) for 1 data set, which is left out"},
		{"all templates withdrawn",
			[][]byte{message(0, template, set(templateSet, unhex("0002 0000")), data(five, ssh))}, "", "no template"},
		{"a template that changes",
			[][]byte{message(0, template, templateOf(five, 4, 1, 8, 4, 12, 4), data(five, "11 c0000201 0a000001"))},
			"192.0.2.1>10.0.0.1 udp 0 0/0 0s", ""},
		{"variable length and an enterprise",
			[][]byte{message(0, templateOf(five, 8, 4, 82, 65535, 12, 4, 500|enterpriseBit, 2, 9999, 4, 1),
				data(five, "c0000201 03 616263 0a000001 ffff 06"+"c0000202 ff0001 61 0a000001 ffff 06"))},
			"192.0.2.1>10.0.0.1 tcp 0 0/0 0s; 192.0.2.2>10.0.0.1 tcp 0 0/0 0s", ""},
		{"only variable lengths", [][]byte{message(0, templateOf(five, 82, 65535), data(five, "00 01 61"))}, "",
			"no addresses"},
		{"both ways", [][]byte{message(0,
			templateOf(five, 8, 4, 12, 4, 4, 1, 7, 2, 11, 2, 2, 4, 2|enterpriseBit, 4, reversePEN, 152, 8, 153, 8),
			data(five, ssh+"00000005 00000004 00000199f0000000 00000199f0002710"))},
			"192.0.2.1>10.0.0.1 tcp 22 5/4 10s", ""},
		{"told from the server's side",
			[][]byte{message(0, templateOf(five, 8, 4, 12, 4, 4, 1, 7, 2, 11, 2, 2, 4, 2|enterpriseBit, 4, reversePEN,
				239, 1),
				data(five, "0a000001 c0000201 06 0016 c350 00000004 00000005 02"))},
			"192.0.2.1>10.0.0.1 tcp 22! 5/4 0s", ""},
		{"a request alone", [][]byte{message(0, templateOf(five, 8, 4, 12, 4, 4, 1, 7, 2, 11, 2, 6, 1),
			data(five, ssh+"02"))}, "192.0.2.1>10.0.0.1 tcp 22! 0/0 0s", ""},
		{"ICMP", [][]byte{message(0, templateOf(five, 27, 16, 28, 16, 4, 1, 139, 2),
			data(five, "20010db8000000000000000000000001 20010db8000000000000000000000002 3a 8000"))},
			"2001:db8::1>2001:db8::2 icmpv6 128/0! 0/0 0s", ""},
		{"options are no flows",
			[][]byte{message(0, template, set(optionsSet, unhex("0101 0002 0001 0095 0004 00a0 0008")),
				data(257, "00000001 00000199f0000000"), data(five, ssh)), message(2, data(five, ssh))},
			want + "; " + want, ""},
		{"a gap", [][]byte{message(0, template, data(five, ssh)), message(4, data(five, ssh))}, want + "; " + want,
			"3 records of observation domain 7 never reached f"},
		{"numbers wrap", [][]byte{message(1<<32-1, template, data(five, ssh)), message(0, data(five, ssh))},
			want + "; " + want, ""},
		{"numbers go back", [][]byte{message(9, template, data(five, ssh)), message(3, data(five, ssh))},
			want + "; " + want, "go back 1 time in"},
		{"a set longer than its message", [][]byte{message(0, template, unhex("0100 0100 c0000201"))}, "",
			"a set is said to have 256 bytes, and 8 are left"},
		{"a template without bytes", [][]byte{message(0, templateOf(five, 8, 0), data(five, "00"))}, "",
			"have no bytes"},
		{"a template that is cut off", [][]byte{message(0, set(templateSet, unhex("0100 0003 0008 0004")))}, "",
			"a template is cut off"},
		{"mixed families", [][]byte{message(0, templateOf(five, 8, 4, 28, 16, 4, 1),
			data(five, "c0000201 20010db8000000000000000000000002 06"))}, "", "not of one family"},
	} {
		all, report, err := readAll(bytes.NewReader(bytes.Join(x.messages, nil)), Options{})
		said := strings.Join(append(report.Notes, report.Skipped.First), "\n")
		if got := toldFlows(all); err != nil || got != x.want || !strings.Contains(said, x.report) ||
			x.report == "" && strings.TrimSpace(said) != "" {
			t.Errorf("%s: got %s (%s, %v), want %s (%s)", x.name, got, said, err, x.want, x.report)
		}
	}
	whole := message(0, template, data(five, ssh))
	if all, report, err := readAll(bytes.NewReader(append(whole, whole[:20]...)), Options{}); err != nil ||
		len(all) != 1 || !strings.Contains(strings.Join(report.Notes, ""), "cut off in message 2") {
		t.Errorf("a file that is cut off: %v %+v %v", all, report, err)
	}
	if _, _, err := readAll(bytes.NewReader(append(whole, "nonsense that goes on"...)), Options{}); err == nil ||
		!strings.Contains(err.Error(), "message 2 does not begin") {
		t.Errorf("a damaged file: %v", err)
	}
}

// exportTo collects the messages that an exporter sends while it runs.
func exportTo(t *testing.T, run func(collector string)) []byte {
	in, err := net.ListenPacket("udp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	var all []byte
	done := make(chan struct{})
	go func() {
		defer close(done)
		buffer := make([]byte, 1<<16)
		for {
			n, _, err := in.ReadFrom(buffer)
			if err != nil {
				return
			}
			all = append(all, buffer[:n]...)
		}
	}()
	run(in.LocalAddr().String())
	_ = in.SetReadDeadline(time.Now().Add(300 * time.Millisecond)) // what was sent is in the buffer already
	<-done
	return all
}
