package edit

import (
	"strings"
	"testing"

	"isonomos/nomos/parse"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

// Each case marks the rule to change with «» and gives the text after it.
func TestReplaceRule(t *testing.T) {
	list := RuleText{Services: "ssh", Peers: "list x"}
	group := RuleText{Services: "https, tcp 8000-8010", Peers: "group y"}
	lent := RuleText{Services: "ssh", Peers: "list x", Lend: "2h"}
	for _, x := range []struct {
		name, before string
		texts        []RuleText
		after        string
	}{
		{"one for one keeps everything else", "  # above\n  «admit  ssh   from everyone   because \"it\" until " +
			"2027-01-31»   # behind\n  admit http from self\n", []RuleText{list},
			"  # above\n  admit  ssh   from list x   because \"it\" until 2027-01-31   # behind\n  admit http " +
				"from self\n"},
		{"several go on lines of their own",
			"  «admit any from everyone because \"it\"» # behind\n  admit http from self\n", []RuleText{list, group},
			"  admit ssh from list x because \"it\" # behind\n  admit https, tcp 8000-8010 from group y because " +
				"\"it\"\n  admit http from self\n"},
		{"lent instead", "  «admit  any from everyone   because \"it\"»  # behind\n", []RuleText{lent},
			"  lend  ssh to list x for at most 2h   because \"it\"  # behind\n"},
		{"partly lent", "  «admit any from everyone because \"it\"»\n", []RuleText{group, lent},
			"  admit https, tcp 8000-8010 from group y because \"it\"\n  lend ssh to list x for at most 2h " +
				"because \"it\"\n"},
		{"partly lent, with a comment within", "  «admit any from everyone # ask first\n    because \"x\"»\n",
			[]RuleText{group, lent},
			"  admit https, tcp 8000-8010 from group y # ask first\n    because \"x\"\n  lend ssh to list x for " +
				"at most 2h because \"x\"\n"},
		{"removed with its line", "  # above\n  «admit any from everyone»\n  admit http from self\n", nil,
			"  # above\n  admit http from self\n"},
		{"removed, its comment stays", "  «admit any from everyone because \"x\"»  # ask first\n", nil,
			"  # ask first\n"},
		{"removed over several lines with a comment within", "  «admit any from everyone # ask first\n    " +
			"because \"x\"»\n  admit http from self\n", nil, "  # ask first\n  admit http from self\n"},
		{"several of a rule with a comment within", "  «admit any from everyone # ask first\n    because \"x\"»\n",
			[]RuleText{list, group},
			"  admit ssh from list x # ask first\n    because \"x\"\n  admit https, tcp 8000-8010 from group y " +
				"because \"x\"\n"},
		{"tabs and CRLF stay", "\t«admit any from everyone»\r\n\tadmit http from self\r\n", []RuleText{list, group},
			"\tadmit ssh from list x\r\n\tadmit https, tcp 8000-8010 from group y\r\n\tadmit http from self\r\n"},
		{"two on one line", "  where a = b { «admit any from everyone» }\n", []RuleText{list},
			"  where a = b { admit ssh from list x }\n"},
		{"two on one line, several", "  where a = b { «admit any from everyone» }\n", []RuleText{list, group},
			"  where a = b { admit ssh from list x\n  admit https, tcp 8000-8010 from group y }\n"},
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
	if _, err := Apply(f, []Change{{source.Span{Start: 0, End: 3}, ""},
		{source.Span{Start: 2, End: 4}, ""}}); err == nil {
		t.Error("two changes of the same text were made")
	}
}

func TestAdd(t *testing.T) {
	for _, x := range []struct{ name, before, after string }{
		{"behind the last statement", "group g in n {\n  cover where a = b\n  admit ssh from self  # why\n}\n",
			"group g in n {\n  cover where a = b\n  admit ssh from self  # why\n  NEW\n}\n"},
		{"to an empty group", "group g in n { }\n", "group g in n {\n  NEW\n}\n"},
		{"to an empty group over two lines", "group g in n {\n}\n", "group g in n {\n  NEW\n}\n"},
		{"to one with a comment only", "group g in n {\n  # to do\n}\n", "group g in n {\n  # to do\n  NEW\n}\n"},
		{"to one on one line", "group g in n { admit ssh from self }\n",
			"group g in n { admit ssh from self\n  NEW }\n"},
		{"with its line ends", "group g in n {\r\n\tadmit ssh from self\r\n}\r\n",
			"group g in n {\r\n\tadmit ssh from self\r\n\tNEW\r\n}\r\n"},
	} {
		tree, messages := parse.File(source.NewFile("x.nomos", x.before))
		if len(messages) > 0 {
			t.Fatal(x.name, messages)
		}
		const rule = "admit http from self"
		got, err := Apply(tree.Source, []Change{AddRule(tree, tree.Decls[0].(*syntax.Group), rule)})
		if want := strings.ReplaceAll(x.after, "NEW", rule); err != nil || got != want {
			t.Errorf("%s: got\n%q, want\n%q", x.name, got, want)
		}
		again, messages := parse.File(source.NewFile("x.nomos", got))
		if len(messages) > 0 {
			t.Fatalf("%s: %v", x.name, messages)
		}
		g := again.Decls[0].(*syntax.Group)
		back, err := Apply(again.Source, []Change{RemoveRule(again, g.Body[len(g.Body)-1].(*syntax.Rule))})
		if err != nil || strings.Contains(back, rule) {
			t.Errorf("%s: removed again it is %q", x.name, back)
		}
	}
	const list = "list l {\n  192.0.2.0/24\n}"
	for before, after := range map[string]string{
		"":           list + "\n",
		"estate x\n": "estate x\n\n" + list + "\n",
		"estate x":   "estate x\n\n" + list + "\n",
		"list a { }  # b\n# c\n\ngroup g in n { }\n": "list a { }  # b\n\n" + list + "\n# c\n\ngroup g in n { }\n",
		"estate x\r\n": "estate x\r\n\r\n" + strings.ReplaceAll(list, "\n", "\r\n") + "\r\n",
	} {
		tree, _ := parse.File(source.NewFile("x.nomos", before))
		if got, err := Apply(tree.Source, []Change{AddDeclaration(tree, list)}); err != nil || got != after {
			t.Errorf("%q: got\n%q, want\n%q", before, got, after)
		}
	}
}

// Covers are added and declarations taken out without touching anything else.
func TestAddCoverAndRemoveDeclaration(t *testing.T) {
	for _, x := range []struct{ name, before, cover, after string }{
		{"a cover", "# one\ngroup g in n {\n  # what it is for\n  admit ssh from self # yes\n}\n", "cover instance a",
			"# one\ngroup g in n {\n  # what it is for\n  cover instance a\n  admit ssh from self # yes\n}\n"},
		{"a cover with tabs and CRLF", "group g in n {\r\n\tadmit ssh from self\r\n}\r\n", "cover subnet s",
			"group g in n {\r\n\tcover subnet s\r\n\tadmit ssh from self\r\n}\r\n"},
		{"taken out with the blank line behind it", "# kept\ngroup g in n {\n  admit ssh from self\n}\n\ngroup h " +
			"in n { }\n", "", "# kept\ngroup h in n { }\n"},
		{"taken out at the end", "group h in n { }\ngroup g in n { }", "", "group h in n { }\n"},
	} {
		tree, messages := parse.File(source.NewFile("x.nomos", x.before))
		if len(messages) > 0 {
			t.Fatal(x.name, messages)
		}
		var g *syntax.Group
		for _, d := range tree.Decls {
			if own, ok := d.(*syntax.Group); ok && own.Name.Text == "g" {
				g = own
			}
		}
		if HoldsComments(tree, g) != strings.Contains(x.before[strings.Index(x.before, "group g"):], "#") {
			t.Errorf("%s: comments are not seen right", x.name)
		}
		c := RemoveDeclaration(tree, g)
		if x.cover != "" {
			c = AddCover(tree, g, x.cover)
		}
		got, err := Apply(tree.Source, []Change{c})
		if err != nil || got != x.after {
			t.Errorf("%s: got %q, want %q (%v)", x.name, got, x.after, err)
		}
	}
}
