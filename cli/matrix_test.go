package cli_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"testing"
	"time"

	"isonomos/cli"
)

// An oddEstate is a small survey in which one thing is missing or wrong.
type oddEstate struct{ dialect, kind, flaw string }

// flaws are what can be missing or wrong in a survey.
var flaws = []string{"nothing", "group without network", "interface without subnet", "rule of an unknown group",
	"list of another cloud", "list that names nothing", "no list",
	"balancer without targets", "balancer with an unknown target", "balancer that targets itself",
	"balancer without interfaces", "instance without interfaces", "interface without addresses",
	"rank out of range", "no rank", "unknown owner", "unknown group", "unknown dialect", "subnet of no network",
	"network without ranges", "route to no network", "rule without peers",
	"rule without services", "unread", "group twice", "address twice", "account of no cloud", "byte order mark"}

// peersOfAll are all kinds of peer that a survey can name.
var peersOfAll = []string{"0.0.0.0/0", "::/0", "10.1.0.0/16", "10.1.1.7", "2001:db8::/32", "group:g", "group:other",
	"group:far/g", "group:gone", "list:l", "list:p", "list:gone", "network", "anything", "internet", "probes",
	"group:g2"}

func (o oddEstate) survey() string {
	var b strings.Builder
	line := func(format string, a ...any) { fmt.Fprintf(&b, format+"\n", a...) }
	has := func(flaw string) bool { return o.flaw == flaw }
	pick := func(flaw, odd, usual string) string {
		if has(flaw) {
			return odd
		}
		return usual
	}
	if has("byte order mark") {
		b.WriteString("\ufeff")
	}
	line(`{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z","estate":"odd"}`)
	line(`{"kind":"cloud","name":"c","dialect":%q}`, pick("unknown dialect", "strange", o.dialect))
	line(`{"kind":"cloud","name":"d","dialect":"union"}`)
	line(`{"kind":"account","name":"here","cloud":"c","id":"1","labels":{"stage":"production"}}`)
	line(`{"kind":"account","name":"far","cloud":%q,"id":"2"}`, pick("account of no cloud", "gone", "d"))
	if has("unread") {
		line(`{"kind":"unread","account":"lost","reason":"401"}`)
	}
	for _, account := range []string{"here", "far"} {
		ranges := `["10.1.0.0/16","fd20:1::/48"]`
		if has("network without ranges") {
			ranges = `[]`
		}
		line(`{"kind":"network","account":%q,"id":"n","name":"n","ranges":%s,"peers":[{"account":"far","network":"gone"}]}`, account, ranges)
		line(`{"kind":"subnet","account":%q,"network":%q,"id":"s","name":"s","ranges":["10.1.1.0/24","fd20:1:0:1::/64"],"routes":[{"to":"0.0.0.0/0","via":"internet"},{"to":"::/0","via":"nat"},{"to":"172.31.0.0/16","via":"private-line"}%s],"groups":%s}`,
			account, pick("subnet of no network", "gone", "n"),
			pick("route to no network", `,{"to":"10.9.0.0/16","via":"peer","network":"gone"}`, ""),
			map[bool]string{true: `["g"]`, false: `[]`}[o.kind == "subnets"])
	}
	attached := `["g"]`
	if o.kind == "subnets" {
		attached = `[]`
	}
	if has("unknown group") {
		attached = `["g","gone"]`
	}
	subnet := pick("interface without subnet", "", `"subnet":"s",`)
	private := pick("interface without addresses", `[]`, `["10.1.1.%d","fd20:1:0:1::%d"]`)
	for i, name := range []string{"a", "b"} {
		addresses := strings.ReplaceAll(private, "%d", fmt.Sprint(i+5))
		if has("address twice") {
			addresses = `["10.1.1.5"]`
		}
		line(`{"kind":"instance","account":"here","id":%q,"name":%q,"type":"machine","labels":{"role":%q},"interfaces":[{"id":"i%s",%s"private":%s,"public":["198.51.100.%d"],"groups":%s}]}`, name, name, name, name, subnet, addresses, i+5, attached)
	}
	if has("instance without interfaces") {
		line(`{"kind":"instance","account":"here","id":"bare","name":"bare","type":"machine","interfaces":[]}`)
	}
	targets := pick("balancer without targets", `[]`, `["a","b"]`)
	targets = map[string]string{"balancer with an unknown target": `["gone"]`,
		"balancer that targets itself": `["lb"]`}[o.flaw] + targets
	targets = targets[:strings.IndexByte(targets, ']')+1]
	faces := `[{"id":"ilb","subnet":"s","private":["10.1.1.9"],"public":["198.51.100.9"],"groups":` + attached + `}]`
	line(`{"kind":"instance","account":"here","id":"lb","name":"lb","type":"balancer","interfaces":%s,"listeners":[{"service":"tcp 443","targets":%s,"port":8443,"probe":"tcp 8443"}]}`, pick("balancer without interfaces", `[]`, faces), targets)
	network := `"network":"n",`
	if has("group without network") || o.dialect == "flat" {
		network = ""
	}
	for range map[bool]int{true: 2, false: 1}[has("group twice")] {
		line(`{"kind":"group","account":"here",%s"id":"g","name":"g","for":%q,"description":"x"}`, network, o.kind)
	}
	line(`{"kind":"group","account":"here",%s"id":"other","name":"other","for":"instances","description":""}`, network)
	line(`{"kind":"group","account":"here",%s"id":"g2","name":"g2","for":"subnets"}`, network)
	line(`{"kind":"group","account":"far","network":"n","id":"g","name":"g","for":"instances"}`)
	if !has("no list") {
		owner := pick("unknown owner", "someone", "own")
		line(`{"kind":"list","account":%q,"id":"l","name":"l","owner":%q,"region":"r","entries":%s}`,
			pick("list of another cloud", "far", "here"), owner,
			pick("list that names nothing", `[]`, `["192.0.2.0/28"]`))
		line(`{"kind":"list","account":"here","id":"p","name":"edge","owner":"published","region":"r","entries":["203.0.113.0/28"]}`)
	}
	rank := 100
	for _, direction := range []string{"in", "out"} {
		for k, peer := range peersOfAll {
			rank += 20
			ranked := fmt.Sprintf(`"rank":%d,`, rank)
			switch {
			case has("no rank") || o.dialect == "flat" || o.dialect == "layered" ||
				o.dialect == "union" && o.kind == "instances":
				ranked = ""
			case has("rank out of range"):
				ranked = `"rank":-7,`
			}
			peers, services := fmt.Sprintf("[%q]", peer), `["tcp 22"]`
			switch {
			case has("rule without peers"):
				peers = `[]`
			case has("rule without services"):
				services = `[]`
			case k%3 == 0:
				services = `["any"]`
			case k%3 == 1:
				services = `["tcp 20-80","icmp 8"]`
			}
			action := "admit"
			if k%5 == 4 && (o.dialect == "ranked" || o.dialect == "union" && o.kind == "subnets") {
				action = "refuse"
			}
			for _, group := range []string{"g", "other", "g2"}[:1+k%3] {
				line(`{"kind":"rule","account":"here","group":%q,"id":"r-%s-%s-%d","direction":%q,"action":%q,%s"peers":%s,"services":%s}`, pick("rule of an unknown group", "gone", group), group, direction, k, direction, action, ranked, peers, services)
			}
		}
	}
	return b.String()
}

// oddDefinitions define groups on an odd survey, name what is there, and expect something of it.
func (o oddEstate) definitions() string {
	return fmt.Sprintf("\ufeff"+`estate odd
cloud c { dialect %s }
account here { cloud c }
network n in here {
  range 10.1.0.0/16, fd20:1::/48
  subnet s 10.1.1.0/24, fd20:1:0:1::/64
}
list known { 192.0.2.0/28 }
group web in n "web" {
  cover where role = a
  admit https, ping from everyone because "x"
  admit ssh from list known because "x"
  admit http from self because "x"
  reach any at network because "x"
}
group old in n existing "other"
expect internet can reach web on https
expect internet cannot reach old
expect only web can reach web on http
expect old cannot reach web on ssh
expect a_list_less cannot reach web
`, o.dialect)
}

// inProcess runs the program in this process, so that a crash is seen here.
func inProcess(t *testing.T, stdin string, args ...string) (code int, out, said string) {
	t.Helper()
	defer func() {
		if p := recover(); p != nil {
			t.Errorf("%v crashes: %v\n%s", args, p, debug.Stack())
		}
	}()
	var stdout, stderr bytes.Buffer
	a := &cli.App{Stdin: strings.NewReader(stdin), Stdout: &stdout, Stderr: &stderr,
		Now: func() time.Time { return time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC) }, Version: "test"}
	code = a.Run(context.Background(), append([]string{"isonomos"}, args...))
	return code, stdout.String(), stderr.String()
}

// Whatever is missing or wrong in a survey of any dialect, every command gives an
// answer or says what is wrong.
func TestOddSurveys(t *testing.T) {
	t.Parallel()
	answers := 0
	for _, dialect := range []string{"union", "ranked", "layered", "flat"} {
		for _, kind := range []string{"instances", "subnets"} {
			for _, flaw := range flaws {
				o := oddEstate{dialect, kind, flaw}
				folder := t.TempDir()
				survey := filepath.Join(folder, "s.jsonl")
				definitions := strings.Replace(o.definitions(), "expect a_list_less cannot reach web\n", "", 1)
				for name, text := range map[string]string{"s.jsonl": o.survey(),
					"b.jsonl": oddEstate{dialect, kind, "nothing"}.survey(), "d/odd.nomos": definitions,
					"f.csv": "start,end,src,dst,protocol,dst_port,packets,bytes\n2026-11-20T06:00:00Z,2026-11-20T06:00:01Z,192.0.2.1,10.1.1.5,tcp,22,10,1000\n"} {
					path := filepath.Join(folder, name)
					if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
						t.Fatal(err)
					}
					if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
						t.Fatal(err)
					}
				}
				batch := "a b tcp 22\n192.0.2.1 a tcp 22\na 192.0.2.1 tcp 443\nb lb tcp 443\nlb a tcp 8443\nbare " +
					"a tcp 22\na a icmp 8/0\n10.1.1.5 b tcp 22\nfd20:1:0:1::5 b icmpv6 128/0\n"
				for _, with := range [][]string{{"--estate", "none"}, {"--estate", filepath.Join(folder, "d")}} {
					on := func(args ...string) []string { return append(append(args, with...), "--survey", survey) }
					all := [][]string{
						on("audit", "--format", "json"), on("audit"), on("exposure"), on("exposure", "--from", "a",
							"--direction", "out"), on("exposure", "--from", "10.0.0.0/8"),
						on("trace", "--batch", "-"), on("trace", "192.0.2.1", "a", "tcp", "22"), on("prove"),
						on("narrow", "--all", "--flows", filepath.Join(folder, "f.csv")), on("narrow", "--across"),
						on("adopt", "--all"), {"compare", survey, filepath.Join(folder, "b.jsonl")},
					}
					if flaw == "nothing" || flaw == "instance without interfaces" {
						for _, format := range []string{"sarif", "csv", "md", "junit"} {
							all = append(all, on("audit", "--format", format))
						}
						all = append(all, on("audit", "--by", "check"), on("exposure", "--matrix"),
							on("exposure", "--format", "json"), on("prove", "--format", "json"),
							on("narrow", "--all", "--flows", filepath.Join(folder, "f.csv"), "--format", "json"))
					}
					if with[1] != "none" {
						all = append(all, on("draft", "--adopt", "all", "--to", filepath.Join(folder, "draft.json")),
							on("check", "--rules"), []string{"compare", survey, with[1]})
					}
					for _, args := range all {
						code, out, said := inProcess(t, batch, args...)
						if code > 4 || code == 2 && said == "" || strings.Contains(said+out, "%!") ||
							strings.Contains(said, "nil pointer") {
							t.Errorf("%+v: %v: exit %d\n%s%.500s", o, args, code, said, out)
						}
						if code < 2 {
							answers++
						}
					}
				}
			}
		}
	}
	if answers < 2000 {
		t.Errorf("only %d answers", answers)
	}
}
