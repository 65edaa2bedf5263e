//go:build unix

package evidence

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"isonomos/core/flow"
	"isonomos/internal/pgtest"
)

// What the server sums is what reading the same flows as CSV comes to, whatever
// types the columns have.
func TestReadTable(t *testing.T) {
	settings := pgtest.Start(t)
	db, err := pgx.Connect(t.Context(), settings)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	random := rand.New(rand.NewPCG(6, 4))
	pick := func(words ...string) string { return words[random.IntN(len(words))] }
	for i, types := range []string{
		`start timestamptz, "end" timestamptz, src inet, dst inet, protocol text, src_port int, dst_port int, packets bigint, bytes bigint, verdict text`,
		`start bigint, "end" double precision, src text, dst text, protocol smallint, src_port int, dst_port int, packets int, bytes numeric, verdict text`,
		`start timestamp, "end" timestamp, src inet, dst inet, protocol text, src_port int, dst_port int, packets bigint, bytes bigint, reply_packets bigint, reply_bytes bigint, verdict text`,
	} {
		table := fmt.Sprintf("flows%d", i)
		if _, err := db.Exec(t.Context(),
			"create schema if not exists seen; create table seen."+table+" ("+types+")"); err != nil {
			t.Fatal(err)
		}
		reply := strings.Contains(types, "reply")
		columns := []string{"start", "end", "src", "dst", "protocol", "src_port", "dst_port", "packets", "bytes"}
		if reply {
			columns = append(columns, "reply_packets", "reply_bytes")
		}
		columns = append(columns, "verdict")
		var text strings.Builder
		text.WriteString(strings.Join(columns, ",") + "\n")
		for range 3000 {
			at := begin.Add(time.Duration(random.IntN(5*86400)) * time.Second)
			end := at.Add(time.Duration(random.IntN(7200)) * time.Second)
			from, to := fmt.Sprintf("10.0.0.%d", random.IntN(8)), fmt.Sprintf("10.0.1.%d", random.IntN(8))
			if random.IntN(4) == 0 {
				from, to = fmt.Sprintf("2001:db8::%d", random.IntN(8)), fmt.Sprintf("2001:db8:1::%d", random.IntN(8))
			}
			protocol := pick("6", "17")
			start, last := fmt.Sprint(at.Unix()), fmt.Sprint(end.Unix())
			if strings.HasPrefix(types, "start timestamp") {
				start, last = at.Format(time.RFC3339), end.Format(time.RFC3339)
			}
			values := []string{start, last, from, to, protocol,
				pick("443", "50000", "40000", "700", "22", "20000", "0"),
				pick("443", "50000", "40000", "700", "22", "20000"), pick("0", "1", "3", "5", "9"), pick("0", "40", "100", "300", "290", "4000")}
			if reply {
				values = append(values, pick("0", "1", "5"), pick("0", "40", "500"))
			}
			values = append(values, pick("", "", "admitted", "refused"))
			text.WriteString(strings.Join(values, ",") + "\n")
		}
		if _, err := db.PgConn().CopyFrom(t.Context(), strings.NewReader(text.String()),
			"copy seen."+table+" from stdin with (format csv, header)"); err != nil {
			t.Fatal(err)
		}
		var want, got flow.Daily
		all, _, err := readAll(strings.NewReader(text.String()), Options{})
		if err != nil {
			t.Fatal(err)
		}
		for k := range all {
			want.Add(&all[k])
		}
		for _, from := range []Table{{Connection: settings, Name: "seen." + table},
			{Connection: settings, Query: "select * from seen." + table + ";"}} {
			got = flow.Daily{}
			report, err := ReadTable(t.Context(), from, Options{}, got.Of)
			if err != nil || report.Skipped.Count > 0 {
				t.Fatal(err, report)
			}
			want.Close()
			got.Close()
			if a, b := sumsOf(&want), sumsOf(&got); a != b {
				t.Fatalf("%s:\n%s\nthe server's sums\n%s", types, a, b)
			}
		}
		part := flow.Daily{}
		from := begin.Unix() / 86400 * 86400
		if _, err := ReadTable(t.Context(),
			Table{Connection: settings, Name: "seen." + table, From: from, To: from + 86400}, Options{},
			part.Of); err != nil || len(part.Days()) != 1 {
			t.Errorf("one day: %v %v", part.Days(), err)
		}
	}
	for _, x := range []struct {
		table Table
		want  string
	}{
		{Table{Connection: settings, Name: "nowhere"}, "nowhere"},
		{Table{Connection: settings, Query: "select 1 as start, 'a' as src, 'b' as dst, 6 as proto, 1 as dst_port"},
			`no column "protocol" (there is "proto")`},
		{Table{Connection: settings, Query: "select 1; drop table seen.flows0"}, "can't be read"},
		{Table{Connection: "host=/nowhere password=hush"}, "can't be reached"},
		{Table{Connection: "port=x password=hush"}, "can't be understood"},
	} {
		if _, err := ReadTable(t.Context(), x.table, Options{}, new(flow.Daily).Of); err == nil ||
			!strings.Contains(err.Error(), x.want) || strings.Contains(err.Error(), "hush") {
			t.Errorf("%+v: %v", x.table, err)
		}
	}
	report, err := ReadTable(t.Context(), Table{Connection: settings, Query: "select 1 as start, 'nobody' as " +
		"src, '10.0.0.1' as dst, 6 as protocol, 1 as dst_port"}, Options{}, new(flow.Daily).Of)
	if err != nil || report.Skipped.Count != 1 || !strings.Contains(report.Skipped.First, "not an IP address") {
		t.Errorf("a bad address: %+v %v", report, err)
	}
}

func sumsOf(d *flow.Daily) string {
	var lines strings.Builder
	for _, day := range d.Days() {
		s := d.Of(day)
		fmt.Fprintf(&lines, "day %d: %d flows, %d refused\n", day, s.Flows, s.Refused)
		for _, x := range s.Sums() {
			fmt.Fprintln(&lines, x.Key, x.Flows, x.Completed, x.Attempts, x.Loaded, x.First, x.Last, x.Longest, x.Lasted, x.Packets,
				x.Bytes, x.ReplyBytes)
		}
	}
	return lines.String()
}
