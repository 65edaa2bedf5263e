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
	b.WriteString("pattern operated(staff: peers, desk: services = ssh) {\n  admit desk from staff because " +
		"\"operators\"\n  admit ping from staff\n}\n")
	for i := range n {
		if i%100 == 0 {
			fmt.Fprintf(&b, "network n%d in a { range 10.%d.%d.0/24 }\n", i/100, i/100/256%256, i/100%256)
		}
		fmt.Fprintf(&b, "group g%d in n%d \"group number %d\" {\n  cover where role = r%d\n", i, i/100, i, i)
		fmt.Fprintf(&b, "  admit https        from everyone because \"the public\"\n  admit db           from "+
			"group g%d, self because \"data\"\n", i/100*100)
		fmt.Fprintf(&b, "  admit tcp %d-%d from 10.0.0.0/8, list known\n  admit ssh from list known until "+
			"2027-01-31\n", i%60000, i%60000+3)
		fmt.Fprintf(&b, "  use operated(list known)\n  reach https, http at everyone v4\n  reach db at group "+
			"g%d\n  reach ntp at everyone\n  reach udp (53, 123) at network\n}\n", i/100*100)
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

// Accounts with fifty groups each, in networks of the same addresses.
func manyAccounts(n int) string {
	var b strings.Builder
	b.WriteString("cloud c { dialect union }\n")
	for a := range n {
		fmt.Fprintf(&b, "account a%d { cloud c }\nnetwork n in a%d { range 10.0.0.0/16\n subnet s 10.0.1.0/24 }\n", a,
			a)
		for g := range 50 {
			fmt.Fprintf(&b, "group g%d in a%d/n { cover where role = r%d\n admit ssh from group a%d/n/g%d }\n", g, a,
				g, a, (g+1)%50)
		}
	}
	return b.String()
}

// What grows with accounts, networks, mistakes and ranges grows no faster than these.
func BenchmarkMany(b *testing.B) {
	const head = "cloud c { dialect union }\naccount a { cloud c }\nnetwork n in a { range 10.0.0.0/8 }\n"
	for _, x := range []struct {
		name string
		text func(n int) string
	}{
		{"accounts", manyAccounts},
		{"networks", func(n int) string {
			var b strings.Builder
			b.WriteString("cloud c { dialect union }\naccount a { cloud c }\n")
			for i := range 10 * n {
				fmt.Fprintf(&b, "network n%d in a { range 10.%d.%d.0/24\n label x = y }\n", i, i/250, i%250)
			}
			return b.String() + "group x in every network where x = y { cover where role = x }\ngroup y in every " +
				"network where x = y { cover where role = y }\nconnect x to y on ssh\n"
		}},
		{"mistakes", func(n int) string {
			var b strings.Builder
			b.WriteString(head)
			for i := range 10 * n {
				fmt.Fprintf(&b, "group gro%d in n { admit ssh from group gru%d }\n", i, i)
			}
			return b.String()
		}},
		{"ranges", func(n int) string {
			var b strings.Builder
			b.WriteString(head + "group g in n { admit ssh from 192.0.2.1")
			for i := range 100 * n {
				fmt.Fprintf(&b, ", 2001:db8:%x:%x::/127", i>>16, i&0xffff)
			}
			return b.String() + " }\n"
		}},
	} {
		for _, n := range []int{100, 200, 400} {
			text := x.text(n)
			b.Run(fmt.Sprintf("%s-%d", x.name, n), func(b *testing.B) {
				for b.Loop() {
					d := Understand([]*source.File{source.NewFile("x.nomos", text)}, resolve.Options{Now: now})
					if x.name != "mistakes" && source.Errors(d.Messages) > 0 {
						b.Fatal(d.Messages[0])
					}
					d.Estate.Imagine()
				}
			})
		}
	}
}

// Patterns that double fill no memory: an estate has so many rules at most.
func TestPatternsThatDouble(t *testing.T) {
	var b strings.Builder
	b.WriteString("cloud c { dialect union }\naccount a { cloud c }\nnetwork n in a { range 10.0.0.0/8 " +
		"}\npattern p0(x: services) { admit x from everyone }\n")
	for i := 1; i < 40; i++ {
		fmt.Fprintf(&b, "pattern p%d(x: services) { use p%d(x)\n use p%d(x) }\n", i, i-1, i-1)
	}
	b.WriteString("group g in n { use p39(ssh) }\n")
	d := Understand([]*source.File{source.NewFile("x.nomos", b.String())}, resolve.Options{Now: now})
	if len(d.Messages) != 1 || !strings.Contains(d.Messages[0].Text, "the definitions come to more than 2000000 ") {
		t.Errorf("%d messages, the first: %.300v", len(d.Messages), d.Messages)
	}
}

// Names as long as a file are told shortened, and compared with nothing.
func TestVeryLongNames(t *testing.T) {
	long := strings.Repeat("x", 1<<20)
	d := Understand([]*source.File{source.NewFile("x.nomos", "cloud c { dialect union }\naccount a { cloud c "+
		"}\nnetwork n in a { range 10.0.0.0/8 }\ngroup "+long+" in n { admit ssh from group "+
		strings.Repeat("y", 1<<20)+" }\n")}, resolve.Options{Now: now})
	if len(d.Messages) != 1 || len(d.Messages[0].String()) > 5000 {
		t.Errorf("%d messages of %d bytes", len(d.Messages), len(fmt.Sprint(d.Messages)))
	}
}
