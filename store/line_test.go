package store

import (
	"bytes"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"isonomos/core/estate"
)

// both decodes a line in the quick way and in the thorough one.
func both(text []byte) (quick, thorough ruleText, ok bool) {
	quick, ok = newLineReader().readRule(text)
	if !ok {
		return quick, thorough, false
	}
	var r line
	if err := newLineReader().read(text, &r); err != nil {
		return quick, thorough, false // the quick way need not see every slip
	}
	return quick, ruleText{r.Account, r.Group, r.ID, r.Direction, r.Action, r.Description, r.Rank, r.Stateless,
		r.BuiltIn, r.rawPeers, r.rawServices, r.Changed}, true
}

const ruleLine = `{"kind":"rule","account":"a","group":"g","id":"r","direction":"in","action":"admit","rank":100,"peers":["10.0.0.0/8","group:b/x"],"services":["tcp 443"],"description":"why; {not} [this], \u00e9","stateless":true,"built_in":false}`

// Rules are read in the quick way or in the thorough one, and are the same.
func TestQuickLines(t *testing.T) {
	plain := strings.ReplaceAll(ruleLine, `\u00e9`, "é")
	if quick, thorough, ok := both([]byte(plain)); !ok || !reflect.DeepEqual(quick, thorough) || quick.rank != 100 ||
		quick.description != "why; {not} [this], é" {
		t.Errorf("%+v, %+v", quick, thorough)
	}
	for _, odd := range []string{
		ruleLine, // an escape
		strings.Replace(plain, `"rank":100`, `"rank":1e2`, 1),
		strings.Replace(plain, `"rank":100`, `"rank":0100`, 1),
		strings.Replace(plain, `"rank":100`, `"rank":"100"`, 1),
		strings.Replace(plain, `"peers":[`, `"peers": [`, 1),
		strings.Replace(plain, `"peers":["10`, `"peers":["[10`, 1),
		strings.Replace(plain, `"tcp 443"]`, `"tcp ]443"]`, 1),
		strings.Replace(plain, `,"built_in":false`, `,"changed":{"by":"x"}`, 1),
		strings.Replace(plain, `"kind":"rule"`, `"kind":"rules"`, 1),
		plain + "x", plain[:len(plain)-1],
	} {
		if _, ok := newLineReader().readRule([]byte(odd)); ok {
			t.Errorf("the quick way takes %s", odd)
		}
	}
	// What the quick way leaves is read all the same.
	for _, x := range []struct{ line, want string }{
		{ruleLine, "why; {not} [this], é"},
		{strings.Replace(ruleLine, `{"kind"`, ` { "kind"`, 1), "why; {not} [this], é"},
	} {
		e, _, err := read(strings.Replace(header, `"dialect":"union"`, `"dialect":"ranked"`, 1) + x.line + "\n")
		if err != nil || e.Groups[0].Rules[0].Description != x.want || !e.Groups[0].Rules[0].Stateless ||
			e.Groups[0].Rules[0].Rank != 100 {
			t.Errorf("%s: %v", x.line, err)
		}
	}
}

// A survey of many blocks is read as one of few: lines are whole, their numbers
// right, rules in order, whatever ends a line.
func TestManyBlocks(t *testing.T) {
	var b bytes.Buffer
	b.WriteString("\n\n" + header)
	const rules = 30000
	for i := range rules {
		fmt.Fprintf(&b, `{"kind":"rule","account":"a","group":"g%d","id":"r%d","direction":"in","peers":["10.0.%d.0/24"],"services":["tcp %d"],"description":"%s"}`, i%7, i, i%256, 1+i%60000, strings.Repeat("x", i%90))
		b.WriteString([]string{"\n", "\r\n", "\n\n"}[i%3])
		if i < 7 {
			fmt.Fprintf(&b, `{"kind":"group","account":"a","network":"n","id":"g%d"}`+"\n", i)
		}
	}
	if b.Len() < 3*chunkSize {
		t.Fatalf("only %d bytes", b.Len())
	}
	text := bytes.ReplaceAll(b.Bytes(), []byte("\r\n"), []byte("\r\n"))
	e, _, err := ReadSurvey(bytes.NewReader(text), "s")
	if err != nil {
		t.Fatal(err)
	}
	lines := bytes.Split(text, []byte("\n"))
	count := 0
	for _, g := range e.Groups {
		last := 0
		for _, r := range g.Rules {
			count++
			if r.Origin.Line <= last || !bytes.Contains(lines[r.Origin.Line-1], []byte(`"id":"`+r.ID+`"`)) {
				t.Fatalf("%s is said to be on line %d", r.ID, r.Origin.Line)
			}
			last = r.Origin.Line
		}
	}
	if count != rules {
		t.Errorf("%d rules", count)
	}
	// An error far in has its line, and the first one counts.
	broken := bytes.Replace(text, []byte(`"id":"r29999"`), []byte(`"id":7`), 1)
	broken = bytes.Replace(broken, []byte(`"id":"r20000"`), []byte(`"id":false`), 1)
	if _, _, err := ReadSurvey(bytes.NewReader(broken), "s"); err == nil ||
		!strings.Contains(err.Error(), `"id" holds`) ||
		!strings.Contains(err.Error(), fmt.Sprintf("s:%d:", lineOf(text, "r20000"))) {
		t.Errorf("got %v, want line %d", err, lineOf(text, "r20000"))
	}
}

func lineOf(text []byte, id string) int {
	return 1 + bytes.Count(text[:bytes.Index(text, []byte(`"`+id+`"`))], []byte("\n"))
}

// Who changed a rule, and when, is kept.
func TestChanged(t *testing.T) {
	rule := `{"kind":"rule","account":"a","group":"g","id":"r","direction":"in","peers":["anything"],"services":["any"],"changed":{"at":"2026-11-19T23:41:00Z","by":"r.sorrel"}}` + "\n"
	e, _, err := read(header + rule)
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := WriteSurvey(&b, e); err != nil {
		t.Fatal(err)
	}
	again, _, err := read(b.String())
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range []*estate.Estate{e, again} {
		if c := e.Groups[0].Rules[0].Changed; c == nil || c.By != "r.sorrel" || c.At.Hour() != 23 {
			t.Errorf("got %+v", c)
		}
	}
	if _, _, err := read(header + strings.Replace(rule, "2026-11-19T23:41:00Z", "last night", 1)); err == nil ||
		!strings.Contains(err.Error(), `changed at "last night"`) {
		t.Error(err)
	}
}

func FuzzRuleLine(f *testing.F) {
	f.Add([]byte(strings.ReplaceAll(ruleLine, `\u00e9`, "é")))
	f.Add([]byte(`{"kind":"rule","rank":1,"peers":[],"x":"y"}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		if quick, thorough, ok := both(text); ok && !reflect.DeepEqual(quick, thorough) {
			t.Errorf("%q\n%+v\n%+v", text, quick, thorough)
		}
	})
}
