package evidence

import (
	"strings"
	"testing"

	"isonomos/core/flow"
	"isonomos/core/service"
)

func readAll(text string) ([]flow.Record, Skipped, error) {
	var all []flow.Record
	skipped, err := ReadCSV(strings.NewReader(text), "f.csv", func(r flow.Record) { all = append(all, r) })
	return all, skipped, err
}

func TestReadCSV(t *testing.T) {
	all, skipped, err := readAll("\ufeffend,dst,start,src,protocol,dst_port,reply_packets,verdict,extra\n" +
		"2026-11-20T06:00:10Z,10.0.0.1,2026-11-20T06:00:00Z,192.0.2.1,tcp,443,7,admitted,x\n" +
		"1763618410,10.0.0.1,1763618400.5,::ffff:192.0.2.1,6,22,,,\n" +
		",10.0.0.1,1763618400,192.0.2.1,icmp,2048,0,refused,\n")
	if err != nil || skipped.Count > 0 || len(all) != 3 {
		t.Fatal(all, skipped, err)
	}
	if r := all[0]; r.Service != service.PointOf(service.TCP, 443) || !r.ReplyKnown || r.ReplyPackets != 7 || r.End.Sub(r.Start).Seconds() != 10 {
		t.Errorf("got %+v", r)
	}
	if r := all[1]; r.Source.String() != "192.0.2.1" || r.ReplyKnown || r.Refused {
		t.Errorf("got %+v", r)
	}
	if r := all[2]; r.Service != service.PointOf(service.ICMP, 8<<8) || !r.Refused || !r.End.Equal(r.Start) {
		t.Errorf("got %+v", r)
	}
}

func TestBadRecordsAreSkippedAndCounted(t *testing.T) {
	good := "1,192.0.2.1,10.0.0.1,tcp,443\n"
	all, skipped, err := readAll("start,src,dst,protocol,dst_port\n" + good +
		"then,192.0.2.1,10.0.0.1,tcp,443\n" + "1,here,10.0.0.1,tcp,443\n" + "1,192.0.2.1,10.0.0.1,tpc,443\n" + "1,192.0.2.1,10.0.0.1,tcp,70000\n" + "1\n" + "\"1,\n")
	if err != nil || len(all) != 1 || skipped.Count != 6 || !strings.HasPrefix(skipped.First, `f.csv:3: "then" is not a time`) {
		t.Errorf("%d read, skipped %+v, %v", len(all), skipped, err)
	}
}

func TestMissingColumns(t *testing.T) {
	for _, x := range []struct{ text, want string }{
		{"", "is empty"},
		{"start,src,dst,proto,dst_port\n", `no column "protocol" (there is "proto")`},
		{"a,b\n", `no column "start", "src", "dst", "protocol", "dst_port"`},
		{"\x00\xff\"", "the first line does not name columns"},
	} {
		if _, _, err := readAll(x.text); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%q: %v, want %s", x.text, err, x.want)
		}
	}
}

func FuzzReadCSV(f *testing.F) {
	f.Add("start,src,dst,protocol,dst_port\n1,192.0.2.1,10.0.0.1,tcp,443\n")
	f.Fuzz(func(t *testing.T, text string) {
		var sum flow.Summary
		if _, err := ReadCSV(strings.NewReader(text), "f.csv", sum.Add); err == nil {
			sum.Sums()
			sum.Window()
		}
	})
}
