package law_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"regexp"
	"strings"
	"testing"
	"time"

	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/core/service"
	"isonomos/core/traffic"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/work"
)

const lawful = `
cloud c { dialect union }
account a { cloud c
  label stage = production }
account b { cloud c
  label stage = lab }
network n in a { range 10.0.0.0/16 }
network m in b { range 10.1.0.0/16 }
list known { 192.0.2.0/24 }
`

var today = time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)

func judged(t *testing.T, text string) ([]law.Verdict, []law.Exemption) {
	t.Helper()
	d := nomos.Understand([]*source.File{source.NewFile("x.nomos", lawful+text)}, resolve.Options{Now: today})
	for _, m := range d.Messages {
		if !m.Warning {
			t.Fatal(m)
		}
	}
	w := work.NewWorld(d, nil)
	return law.Judge(decide.New(w.Estate), w.Laws, d.Exemptions, today)
}

// Each case is definitions with one law, and its breaches; those in brackets are exempted.
func TestJudge(t *testing.T) {
	const never = "law l { never admit class admin from internet }\n"
	for _, x := range []struct{ text, want string }{
		{never + "group g in n { admit ssh from everyone }", "a/n/g ssh 2001:db8::77"},
		{never + "group g in n { admit ssh from list known }", ""},
		{never + "group g in n { admit https from everyone }", ""},
		{never + "group g in n { admit any from everyone v6 }", "a/n/g ssh"},
		{never + "group g in n { admit ssh from 0.0.0.0/1\n admit ssh from 128.0.0.0/1 }",
			"a/n/g 0.0.0.0/1; a/n/g 128.0.0.0/1"},
		{never + "group g in n { admit ssh from 0.0.0.0/5\n admit ssh from 8.0.0.0/5\n admit ssh from 16.0.0.0/5 }",
			"a/n/g ssh"},
		{never + "group g in n { admit ssh from everyone }\ngroup h in m { admit rdp from everyone }",
			"a/n/g ssh; b/m/h rdp"},
		{"law l { over stage = lab\n never admit class admin from internet }\ngroup g in n { admit ssh from " +
			"everyone }\ngroup h in m { admit rdp from everyone }", "b/m/h rdp"},
		{"law l { never admit ssh from list known }\ngroup g in n { admit ssh from 192.0.2.128/25 }", "a/n/g ssh"},
		{"law l { never admit ssh from everyone except list known }\ngroup g in n { admit ssh from 192.0.2.128/25 }",
			""},
		{"law l { never reach any at internet }\ngroup g in n { reach ntp at everyone v4 }", "a/n/g ntp"},
		{"law l { only admit https from internet }\ngroup g in n { admit https from everyone }", ""},
		{"law l { only admit https from internet }\ngroup g in n { admit https, http from everyone }", "a/n/g http"},
		{"law l { only admit https from internet\n only admit http from internet }\ngroup g in n { admit https, " +
			"http from everyone\n admit ssh from list known }", ""},
		{"law l { never lend any to everyone for more than 2h }\ngroup g in n { lend ssh to list known for at " +
			"most 2h }", ""},
		{"law l { never lend any to everyone for more than 2h }\ngroup g in n { lend ssh to list known for at " +
			"most 121m }", "a/n/g ssh"},
		{"law l { only lend ssh to everyone }\ngroup g in n { lend rdp to list known for at most 1h\n lend ssh " +
			"to list known for at most 1h }", "a/n/g rdp"},
		{"law l { always because }\ngroup g in n { admit ssh from self\n admit http from self because \"x\" }",
			"a/n/g has no because"},
		{"law l { always until }\ngroup g in n { admit ssh from self until 2027-01-01 }", ""},
		{"law l { always text }\ngroup g in n { }\ngroup h in n \"H\" { }", "a/n/g does not say"},
		{"law l { always label owner }\ngroup g in n { label owner = x }\ngroup h in n { }", "a/n/h no label"},
		{"law l { always label stage }\ngroup g in n { }", ""},
		// Exemptions: for the group, the network, the account; by service; while they last.
		{never + "group g in n { admit ssh from everyone }\nexempt g from l because \"x\" until 2027-01-01 by \"y\"",
			"[a/n/g ssh]"},
		{never + "group g in n { admit ssh from everyone }\nexempt network a/n from l because \"x\" until " +
			"2027-01-01 by \"y\"", "[a/n/g ssh]"},
		{never + "group g in n { admit ssh from everyone }\nexempt account a from l because \"x\" until " +
			"2027-01-01 by \"y\"", "[a/n/g ssh]"},
		{never + "group g in n { admit ssh from everyone }\nexempt account b from l because \"x\" until " +
			"2027-01-01 by \"y\"", "a/n/g ssh; idle b"},
		{never + "group g in n { admit ssh from everyone }\nexempt g from l because \"x\" until 2026-11-19 by \"y\"",
			"a/n/g ssh"},
		{never + "group g in n { admit ssh, rdp from everyone }\nexempt g from l on ssh because \"x\" until " +
			"2027-01-01 by \"y\"", "a/n/g rdp; [a/n/g ssh]"},
		{never + "group g in n { admit ssh from everyone }\nexempt g from l on rdp because \"x\" until " +
			"2027-01-01 by \"y\"", "a/n/g ssh; idle g"},
		{"law l { always because }\ngroup g in n { admit ssh from self }\nexempt g from l because \"x\" until " +
			"2027-01-01 by \"y\"", "[a/n/g has no because]"},
	} {
		verdicts, idle := judged(t, x.text)
		var got []string
		holds := true
		for _, b := range verdicts[0].Breaches {
			text := b.Group.Path() + " " + b.Text
			if b.Witness != nil {
				text += fmt.Sprintf(" %s %s", b.Witness.Peer, b.Witness.Service)
			}
			if b.Exemption != nil {
				text = "[" + text + "]"
			} else {
				holds = false
			}
			got = append(got, text)
		}
		for _, e := range idle {
			got = append(got, "idle "+e.Subject)
		}
		if holds != verdicts[0].Holds() {
			t.Errorf("%s: holds is %v", x.text, verdicts[0].Holds())
		}
		var want []string
		if x.want != "" {
			want = strings.Split(x.want, "; ")
		}
		same := len(got) == len(want)
		for i := range min(len(got), len(want)) {
			bracket := strings.HasPrefix(want[i], "[") == strings.HasPrefix(got[i], "[")
			for _, word := range strings.Fields(strings.Trim(want[i], "[]")) {
				same = same && bracket &&
					(strings.Contains(got[i], word) || word == "ssh" && strings.Contains(got[i], "tcp 22") ||
						word == "rdp" && strings.Contains(got[i], "tcp 3389"))
			}
		}
		if !same {
			t.Errorf("%s\n got %q\nwant %q", x.text, got, want)
		}
	}
}

// The breaches of an opening share out all that is too much: each is part of its
// rule's traffic and of what the law forbids, no two have traffic in common, and
// together they are all of it; an audit's view and a verdict's are the same.
func TestBreachesShareOut(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 28))
	shared, whole := 0, 0
	for range 300 {
		text := "cloud c { dialect union }\naccount a { cloud c }\nnetwork n in a { range 10.0.0.0/16 }\nlaw l { " +
			"never admit tcp 1-40 from internet }\ngroup g in n {\n"
		for range 1 + random.IntN(6) {
			from := 1 + random.IntN(60)
			text += fmt.Sprintf(" %s tcp %d-%d from %d.0.0.0/%d\n",
				[]string{"admit", "admit", "admit", "refuse"}[random.IntN(4)], from, from+random.IntN(20),
				16*random.IntN(14), []int{1, 2, 3, 4, 5, 6}[random.IntN(6)])
		}
		u := nomos.Understand([]*source.File{source.NewFile("x.nomos", tidied(text)+"}\n")},
			resolve.Options{Now: time.Unix(0, 0)})
		if n := source.Errors(u.Messages); n > 0 {
			t.Fatal(u.Messages[0])
		}
		d := decide.New(u.Estate)
		g := u.Estate.Groups[0]
		breaches := law.Breaches(d, u.Laws[0], g)
		var sum traffic.Set
		for _, b := range breaches {
			if !sum.Intersect(b.Traffic).IsEmpty() {
				t.Fatalf("two breaches have traffic in common\n%s", text)
			}
			sum = sum.Union(b.Traffic)
			if b.Rule != nil && !b.Traffic.SubsetOf(d.RuleTraffic(g, b.Rule)) ||
				!b.Traffic.Contains(b.Witness.Peer, b.Witness.Service) {
				t.Fatalf("%s is told of more than it says, or of another example\n%s", b.Text, text)
			}
			if b.Rule == nil {
				whole++
			} else {
				shared++
			}
		}
		var want traffic.Set
		for _, b := range d.GroupTraffic(g,
			estate.In).OnServices(service.Of(service.Ports(service.TCP, 1, 40))).WithPeers(d.Strangers()).Bands() {
			if d.Breadth(b.Peers).AtLeast(decide.OpenBreadth) {
				want = want.Union(traffic.Of(b.Peers, b.Services()))
			}
		}
		if !sum.Equal(want) {
			t.Fatalf("told %v, too much is %v\n%s", sum.Services(), want.Services(), text)
		}
		verdicts, _ := law.Judge(d, u.Laws, nil, time.Unix(0, 0))
		if len(verdicts[0].Breaches) != len(breaches) {
			t.Fatalf("a verdict has %d breaches, an audit %d", len(verdicts[0].Breaches), len(breaches))
		}
	}
	if shared < 200 || whole < 10 {
		t.Errorf("only %d breaches by rule and %d by the sum", shared, whole)
	}
}

// tidied masks the ranges of a text, so that none has host bits.
func tidied(text string) string {
	return regexp.MustCompile(`\d+\.0\.0\.0/\d`).ReplaceAllStringFunc(text, func(s string) string {
		return netip.MustParsePrefix(s).Masked().String()
	})
}
