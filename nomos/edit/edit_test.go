package edit

import (
	"strings"
	"testing"

	"isonomos/nomos/parse"
	"isonomos/nomos/source"
)

// Each case marks the rule to change with «» and gives the text after it.
func TestReplaceRule(t *testing.T) {
	list := RuleText{"ssh", "list x"}
	group := RuleText{"https, tcp 8000-8010", "group y"}
	for _, x := range []struct {
		name, before string
		texts        []RuleText
		after        string
	}{
		{"one for one keeps everything else", "  # above\n  «admit  ssh   from everyone   because \"it\" until 2027-01-31»   # behind\n  admit http from self\n", []RuleText{list},
			"  # above\n  admit  ssh   from list x   because \"it\" until 2027-01-31   # behind\n  admit http from self\n"},
		{"several go on lines of their own", "  «admit any from everyone because \"it\"» # behind\n  admit http from self\n", []RuleText{list, group},
			"  admit ssh from list x because \"it\" # behind\n  admit https, tcp 8000-8010 from group y because \"it\"\n  admit http from self\n"},
		{"removed with its line", "  # above\n  «admit any from everyone»\n  admit http from self\n", nil, "  # above\n  admit http from self\n"},
		{"removed, its comment stays", "  «admit any from everyone because \"x\"»  # ask first\n", nil, "  # ask first\n"},
		{"removed over several lines with a comment within", "  «admit any from everyone # ask first\n    because \"x\"»\n  admit http from self\n", nil, "  # ask first\n  admit http from self\n"},
		{"several of a rule with a comment within", "  «admit any from everyone # ask first\n    because \"x\"»\n", []RuleText{list, group},
			"  admit ssh from list x # ask first\n    because \"x\"\n  admit https, tcp 8000-8010 from group y because \"x\"\n"},
		{"tabs and CRLF stay", "\t«admit any from everyone»\r\n\tadmit http from self\r\n", []RuleText{list, group}, "\tadmit ssh from list x\n\tadmit https, tcp 8000-8010 from group y\r\n\tadmit http from self\r\n"},
		{"two on one line", "  where a = b { «admit any from everyone» }\n", []RuleText{list}, "  where a = b { admit ssh from list x }\n"},
		{"two on one line, several", "  where a = b { «admit any from everyone» }\n", []RuleText{list, group}, "  where a = b { admit ssh from list x\n  admit https, tcp 8000-8010 from group y }\n"},
		{"removed from one line", "  where a = b { «admit any from everyone» }\n", nil, "  where a = b {  }\n"},
	} {
		head, tail := "group g in n {\n", "}\n"
		offset := len(head) + strings.Index(x.before, "«")
		text := head + strings.NewReplacer("«", "", "»", "").Replace(x.before) + tail
		tree, messages := parse.File(source.NewFile("x.nomos", text))
		if len(messages) > 0 {
			t.Fatal(x.name, messages)
		}
		r := FindRule(tree, offset)
		if r == nil {
			t.Fatalf("%s: no rule at %d", x.name, offset)
		}
		got, err := Apply(tree.Source, ReplaceRule(tree, r, x.texts))
		if err != nil {
			t.Fatal(err)
		}
		if want := head + x.after + tail; got != want {
			t.Errorf("%s: got\n%q, want\n%q", x.name, got, want)
		}
		if _, messages := parse.File(source.NewFile("x.nomos", got)); len(messages) > 0 {
			t.Errorf("%s: the result does not parse: %v", x.name, messages)
		}
	}
}

func TestChangesMustNotMeet(t *testing.T) {
	f := source.NewFile("x.nomos", "abcdef")
	if _, err := Apply(f, []Change{{source.Span{Start: 0, End: 3}, ""}, {source.Span{Start: 2, End: 4}, ""}}); err == nil {
		t.Error("two changes of the same text were made")
	}
}
