package nomos

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
)

// manyGroups writes definitions with n groups of ten rules each: groups and lists
// as peers, a pattern, labels, in networks of a hundred groups.
func manyGroups(n int) string {
	var b strings.Builder
	b.WriteString("cloud c { dialect union }\naccount a { cloud c\n  label stage = production }\n")
	b.WriteString("list known { 192.0.2.0/24 \"offices\"\n 198.51.100.0/24 }\nservice db = tcp 5432 class data\n")
	b.WriteString("pattern operated(staff: peers, desk: services = ssh) {\n  admit desk from staff because \"operators\"\n  admit ping from staff\n}\n")
	for i := range n {
		if i%100 == 0 {
			fmt.Fprintf(&b, "network n%d in a { range 10.%d.%d.0/24 }\n", i/100, i/100/256%256, i/100%256)
		}
		fmt.Fprintf(&b, "group g%d in n%d \"group number %d\" {\n  cover where role = r%d\n", i, i/100, i, i)
		fmt.Fprintf(&b, "  admit https        from everyone because \"the public\"\n  admit db           from group g%d, self because \"data\"\n", i/100*100)
		fmt.Fprintf(&b, "  admit tcp %d-%d from 10.0.0.0/8, list known\n  admit ssh from list known until 2027-01-31\n", i%60000, i%60000+3)
		fmt.Fprintf(&b, "  use operated(list known)\n  reach https, http at everyone v4\n  reach db at group g%d\n  reach ntp at everyone\n  reach udp (53, 123) at network\n}\n", i/100*100)
	}
	return b.String()
}

// The whole front end: scan, parse, resolve. Ten rules a group.
func BenchmarkUnderstand(b *testing.B) {
	for _, n := range []int{100, 1_000, 10_000, 100_000} {
		text := manyGroups(n)
		b.Run(fmt.Sprintf("%drules", n*10), func(b *testing.B) {
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				d := Understand([]*source.File{source.NewFile("x.nomos", text)}, resolve.Options{Now: now})
				if source.Errors(d.Messages) > 0 {
					b.Fatal(d.Messages[0])
				}
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				b.ReportMetric(float64(m.HeapInuse)/1e6, "MB-heap")
			}
		})
	}
}
