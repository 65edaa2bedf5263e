package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
)

// Evidence is added once, shown with names, rested on without being named again,
// picked by days, and forgotten.
func TestFlowsAreKept(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	say := func(code int, want string, args ...string) run {
		t.Helper()
		r := call(t, folder, args...)
		if r.code != code || !strings.Contains(r.out+r.err, want) {
			t.Fatalf("%v: exit %d\n%s%s\nwant %d %s", args, r.code, r.out, r.err, code, want)
		}
		return r
	}
	say(0, "21,064 flows (0 more refused) on 14 days, 2026-11-06 to 2026-11-19", "flows", "add", "flows.csv")
	say(0, "was added before: nothing has changed", "flows", "add", "flows.csv")
	asGolden(t, "flows.txt",
		hideTimes(say(0, "evidence", "flows", "show", "--survey", "survey.jsonl", "--of", "gauge-3", "--service",
			"ssh", "--limit", "5").out))
	say(0, "Nothing of that was seen", "flows", "show", "--service", "telnet", "--of", "10.0.0.0/8")
	csv := say(0, "src,src_name,dst", "flows", "show", "--format", "csv", "--survey", "survey.jsonl")
	if lines := strings.Count(csv.out, "\n"); lines != 1119 {
		t.Errorf("%d lines of CSV", lines)
	}
	// The store says what the file says.
	kept := say(0, "resting on the evidence kept in isonomos.db", "narrow", "tide-desk", "--survey", "survey.jsonl")
	named := call(t, folder, "narrow", "tide-desk", "--survey", "survey.jsonl", "--flows", "flows.csv", "--store",
		"none.db")
	if kept.out != named.out {
		t.Errorf("kept:\n%s\nread:\n%s", kept.out, named.out)
	}
	for _, way := range [][]string{{"--window", "7d"}, {"--window", "2026-11-13..2026-11-19"},
		{"--window", "7d", "--flows", "flows.csv"}} {
		say(0, "7 days of flows (2026-11-13 to 2026-11-19)",
			append([]string{"narrow", "broker", "--survey", "survey.jsonl"}, way...)...)
	}
	say(0, "forgotten: ", "flows", "forget", "--before", "2026-11-13")
	say(0, "7 days, 2026-11-13 to 2026-11-19", "flows", "show")
	say(2, "there is no evidence with the number", "flows", "forget", "9")
	say(0, "forgotten: ", "flows", "forget", "1")
	say(0, "The store holds no evidence", "flows", "show")
	say(0, "no flows were given", "narrow", "broker", "--survey", "survey.jsonl")
	if info, err := os.Stat(filepath.Join(folder, "isonomos.db")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the store: %v %v", info, err)
	}
}

// hideTimes takes out when evidence was added.
func hideTimes(text string) string {
	var lines []string
	for line := range strings.Lines(text) {
		if i := strings.Index(line, "  2026-11-06 to 2026-11-19  "); i >= 0 {
			line = line[:i] + "  2026-11-06 to 2026-11-19  (now)\n"
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "")
}

// Records that can't be read are told and left out, or with --strict an error; packed
// files and those of other formats are read all the same.
func TestEvidenceOfEveryKind(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	text, err := os.ReadFile(filepath.Join(folder, "flows.csv"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "bad.csv"), append(text, "x,y\n2026-11-19T23:59:59Z,,here\n"...),
		0o600); err != nil {
		t.Fatal(err)
	}
	r := call(t, folder, "narrow", "tide-desk", "--survey", "survey.jsonl", "--flows", "bad.csv", "--format", "json")
	if r.code != 0 || !strings.Contains(r.err,
		"2 of 21,066 records of bad.csv can't be read and are left out; the first: bad.csv:21066") {
		t.Errorf("%d %s", r.code, r.err)
	}
	if r := call(t, folder, "narrow", "tide-desk", "--flows", "bad.csv", "--strict"); r.code != 2 ||
		!strings.Contains(r.err, "bad.csv:21066: it has 2 fields, and the header names 12") {
		t.Errorf("strictly: %d %s", r.code, r.err)
	}
	var lines []string
	for i, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		f := strings.Split(line, ",")
		if i > 0 {
			lines = append(lines, `{"start":"`+f[0]+`","end":"`+f[1]+`","client":"`+f[2]+`","dst":"`+f[3]+
				`","protocol":"`+f[4]+`","src_port":`+f[5]+`,"dst_port":`+f[6]+`,"packets":`+f[7]+`,"bytes":`+f[8]+
				`,"reply_packets":`+f[9]+`,"reply_bytes":`+f[10]+`}`)
		}
	}
	if err := os.WriteFile(filepath.Join(folder, "flows.jsonl"), []byte(strings.Join(lines, "\n")), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("gzip", "-k", filepath.Join(folder, "flows.jsonl")).CombinedOutput(); err != nil {
		t.Fatal(err, string(out))
	}
	for _, file := range []string{"flows.jsonl", "flows.jsonl.gz"} {
		again := call(t, folder, "narrow", "tide-desk", "--survey", "survey.jsonl", "--flows", file, "--column",
			"src=client", "--format", "json")
		if again.code != 0 || again.out != r.out || again.err != "" {
			t.Errorf("%s: %d %s", file, again.code, again.err)
		}
	}
}

// From an audit's findings to proposals: everything, what one law forbids, the
// findings of a file; what is written applies, and what was found is gone.
func TestNarrowEverything(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	const narrowed = "open-admin-port,open-data-port,open-inbound,open-in-sum,one-family,wide-ports"
	audit := []string{"audit", "--survey", "survey.jsonl", "--state", "defined", "--check", narrowed, "--over",
		"account in (tides, traffic, lab)", "--format", "json"}
	before := call(t, folder, audit...)
	if err := os.WriteFile(filepath.Join(folder, "before.json"), []byte(before.out), 0o600); err != nil {
		t.Fatal(err)
	}
	r := call(t, folder, "narrow", "--findings", "before.json", "--survey", "survey.jsonl", "--flows", "flows.csv",
		"--write", "--format", "json")
	if r.code != 0 {
		t.Fatal(r)
	}
	var document struct {
		Proposals []struct {
			Group   string
			Changed bool
			Refused string
			Exact   bool
			Way     string  `json:"direction"`
			Gain    float64 `json:"shut_per_rule"`
		}
	}
	if err := json.Unmarshal([]byte(r.out), &document); err != nil {
		t.Fatal(err)
	}
	last, way := 1e300, "in"
	for _, p := range document.Proposals {
		if p.Way != way && p.Gain > 0 {
			last, way = 1e300, p.Way
		}
		if !p.Exact || p.Gain > last {
			t.Errorf("%+v: what shuts most for each rule comes first", p)
		}
		last = p.Gain
	}
	after := call(t, folder, audit...)
	left := 0
	for _, p := range document.Proposals {
		if p.Refused != "" {
			left++
		}
	}
	was, is := strings.Count(before.out, `"fingerprint"`), strings.Count(after.out, `"fingerprint"`)
	excepted := strings.Count(after.out, `"until"`)
	if is > left+excepted || is >= was {
		t.Errorf("%d findings became %d, of which %d could not be narrowed and %d are exempted:\n%s", was, is, left,
			excepted, after.out)
	}
	if prove := call(t, folder, "prove", "--survey", "survey.jsonl"); !strings.Contains(prove.out,
		"24 expectations: 24 hold") {
		t.Error(prove.out)
	}
}

// What is kept and dropped is said with several services and peers at once.
func TestKeepAndDrop(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	args := []string{"narrow", "gauge-maintenance", "--survey", "survey.jsonl", "--flows", "flows.csv"}
	r := call(t, folder, append(args, "--keep", "ssh, https from 203.0.113.201, list harbour-offices", "--drop",
		"class admin from list pilot-stations")...)
	if r.code != 0 || !strings.Contains(r.out, "after       admit ssh from list harbour-offices, 203.0.113.201") ||
		!strings.Contains(r.out, "dropped on request: 3 addresses") {
		t.Errorf("%s%s", r.out, r.err)
	}
	if r := call(t, folder, append(args[:1:1], "--all", "--check", "open-admin-port,wide-ports", "--survey",
		"survey.jsonl", "--flows", "flows.csv")...); r.code != 0 || strings.Contains(r.out, "reach any") ||
		!strings.Contains(r.out, "tcp 22-80") {
		t.Errorf("two checks: %s%s", r.out, r.err)
	}
}

// What is adopted is read back, is the same to compare, and applies as a diff.
func TestAdoptedFilesAreTheSame(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	diff := call(t, folder, "adopt", "--all", "--survey", "survey.jsonl", "--diff")
	if diff.code != 0 || !strings.Contains(diff.err, "tides/quay/archive-wall is left as it is: it keeps no state") {
		t.Fatal(diff)
	}
	apply := exec.Command("git", "apply")
	apply.Dir, apply.Stdin = folder, strings.NewReader(diff.out)
	if out, err := apply.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if r := call(t, folder, "tidy", "--list"); r.out != "" {
		t.Errorf("what is adopted is untidy: %s", r.out)
	}
	// All that differs from the cloud is the rule that was added at night.
	r := call(t, folder, "compare", "survey.jsonl", ".", "--format", "json")
	var document struct {
		Changes []struct{ Group, Kind string }
	}
	if err := json.Unmarshal([]byte(r.out), &document); err != nil || len(document.Changes) != 1 ||
		document.Changes[0].Group != "tides/quay/berth-ledger" || document.Changes[0].Kind != "closes" {
		t.Errorf("%v: %s", err, r.out)
	}
	if r := call(t, folder, "adopt", "--all", "--survey", "survey.jsonl", "--over", "account = lab"); r.code != 2 ||
		!strings.Contains(r.err, "there is nothing to adopt") {
		t.Errorf("once more: %+v", r)
	}
	across := call(t, folder, "narrow", "--across", "--survey", "survey.jsonl", "--write")
	asGolden(t, "narrow-across.txt", across.out)
	if r := call(t, folder, "compare", "survey.jsonl", ".", "--format", "json"); strings.Count(r.out,
		`"group": "tides/quay/berth-ledger"`) == 0 {
		t.Errorf("after joining: %s", r.out)
	}
}

// A generated estate with careless rules is narrowed from its own files.
func TestCarelessSandbox(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	if r := call(t, folder, "sandbox", "generate", "--accounts", "4", "--groups", "60", "--rules", "400",
		"--careless", "40", "--seed", "3", "x"); r.code != 0 {
		t.Fatal(r)
	}
	r := call(t, folder, "narrow", "--all", "--estate", "x", "--survey", "x/survey.jsonl.zst", "--flows",
		"x/flows.csv.gz", "--limit", "2")
	if r.code != 0 || !strings.Contains(r.out, "checked     by deciding the result") {
		t.Errorf("%+v", r)
	}
	needs, err := os.ReadFile(filepath.Join(folder, "x", "needs.jsonl"))
	if err != nil || strings.Count(string(needs), `"kind":"`) < 30 {
		t.Errorf("%v: %s", err, needs)
	}
}

// What is printed beside a long rule can be pasted, and makes just that.
func TestShorterAlternativesCanBeTaken(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	var flows strings.Builder
	flows.WriteString("start,src,dst,protocol,dst_port,packets,bytes,reply_packets,reply_bytes\n")
	for day := range 4 {
		for i := range 20 {
			at := time.Date(2026, 11, 10+day, 9, i, 0, 0, time.UTC).Unix()
			fmt.Fprintf(&flows, "%d,203.0.113.%d,10.0.0.10,tcp,443,20,4000,20,9000\n", at, 1+5*i)
			fmt.Fprintf(&flows, "%d,10.0.0.20,10.0.0.10,tcp,%d,20,4000,20,9000\n", at, 7000+3*i)
		}
	}
	survey := `{"kind":"survey","version":1,"taken":"2026-11-20T06:00:00Z","estate":"x"}
{"kind":"cloud","name":"cl","dialect":"union"}
{"kind":"account","name":"acc","cloud":"cl","id":"a"}
{"kind":"network","account":"acc","id":"n","name":"main","ranges":["10.0.0.0/16"]}
{"kind":"subnet","account":"acc","network":"n","id":"s","name":"s","ranges":["10.0.0.0/24"],"routes":[{"to":"0.0.0.0/0","via":"internet"}]}
{"kind":"group","account":"acc","network":"n","id":"g","name":"web","for":"instances"}
{"kind":"group","account":"acc","network":"n","id":"h","name":"peers","for":"instances"}
{"kind":"instance","account":"acc","id":"i","name":"web-1","type":"machine","labels":{"role":"web"},"interfaces":[{"id":"f","subnet":"s","private":["10.0.0.10"],"groups":["g"]}]}
{"kind":"instance","account":"acc","id":"k","name":"peer-1","type":"machine","labels":{"role":"peer"},"interfaces":[{"id":"f2","subnet":"s","private":["10.0.0.20"],"groups":["h"]}]}
{"kind":"rule","account":"acc","group":"g","id":"r","direction":"in","action":"admit","peers":["0.0.0.0/0"],"services":["tcp"]}
`
	for name, text := range map[string]string{"flows.csv": flows.String(), "survey.jsonl": survey} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	args := []string{"narrow", "survey.jsonl:10", "--estate", "none", "--survey", "survey.jsonl", "--flows", "flows.csv"}
	r := call(t, folder, append(args, "--format", "json")...)
	var document struct {
		Proposals []struct {
			After   []string
			Shorter []struct{ Rule string }
		}
	}
	if err := json.Unmarshal([]byte(r.out), &document); err != nil || len(document.Proposals) != 1 ||
		len(document.Proposals[0].Shorter) != 2 {
		t.Fatalf("%v: %s%s", err, r.out, r.err)
	}
	text := strings.Join(strings.Fields(call(t, folder, args...).out), " ")
	for i, s := range document.Proposals[0].Shorter {
		keep := strings.Split(text, "--keep \"")[1+i]
		keep = keep[:strings.Index(keep, "\"")]
		if r := call(t, folder, append(args, "--keep", keep, "--format", "json")...); r.code != 0 ||
			!strings.Contains(r.out, s.Rule) {
			t.Errorf("--keep %q: %s%s\nwant %s", keep, r.out, r.err, s.Rule)
		}
	}
	// What is dropped, and held by a range that is kept, is told.
	r = call(t, folder, append(args, "--keep", "https from 203.0.113.0/28", "--drop", "203.0.113.6")...)
	if got := strings.Join(strings.Fields(r.out), " "); !strings.Contains(got, "203.0.113.0/28 still holds 203.0.113.6") ||
		!strings.Contains(got, "except 203.0.113.6") {
		t.Errorf("%s%s", r.out, r.err)
	}
}

// A capture says who opened what, and that is what is narrowed to.
func TestNarrowByCapture(t *testing.T) {
	t.Parallel()
	folder := harbour(t)
	var out bytes.Buffer
	w := pcapgo.NewWriter(&out)
	if err := w.WriteFileHeader(65535, layers.LinkTypeIPv4); err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 11, 18, 9, 0, 0, 0, time.UTC)
	send := func(from, to string, fromPort, toPort layers.TCPPort, syn, ack bool) {
		at = at.Add(time.Second)
		buffer := gopacket.NewSerializeBuffer()
		ip := &layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocolTCP, SrcIP: net.ParseIP(from),
			DstIP: net.ParseIP(to)}
		if err := gopacket.SerializeLayers(buffer, gopacket.SerializeOptions{FixLengths: true}, ip,
			&layers.TCP{SrcPort: fromPort, DstPort: toPort, SYN: syn, ACK: ack}); err != nil {
			t.Fatal(err)
		}
		if err := w.WritePacket(
			gopacket.CaptureInfo{Timestamp: at, CaptureLength: len(buffer.Bytes()), Length: len(buffer.Bytes())},
			buffer.Bytes()); err != nil {
			t.Fatal(err)
		}
	}
	const user, scanner = "203.0.113.70", "192.0.2.200"
	rig := ""
	text, err := os.ReadFile(filepath.Join(folder, "survey.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		if strings.Contains(line, `"name":"rig-1"`) {
			_, rest, _ := strings.Cut(line, `"public":["`)
			rig, _, _ = strings.Cut(rest, `"`)
		}
	}
	if rig == "" {
		t.Fatal("rig-1 has no public address")
	}
	for i := range layers.TCPPort(3) {
		send(user, rig, 50000+i, 22, true, false)
		send(rig, user, 22, 50000+i, true, true)
		send(user, rig, 50000+i, 22, false, true)
		send(scanner, rig, 40000+i, 22, true, false)
	}
	if err := os.WriteFile(filepath.Join(folder, "rig.pcap"), out.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	r := call(t, folder, "narrow", "lab.nomos:10", "--survey", "survey.jsonl", "--flows", "rig.pcap")
	if r.code != 0 || !strings.Contains(r.out, "after       admit ssh from list harbour-offices") ||
		!strings.Contains(r.out, "looks like probing: 1 address with 3 flows on ssh: 192.0.2.200") ||
		!strings.Contains(r.out, "less than a week was watched (1 of 7 days)") {
		t.Errorf("%s%s", r.out, r.err)
	}
}
