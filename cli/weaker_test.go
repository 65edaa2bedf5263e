package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"isonomos/enact"
)

const promising = `service crane = tcp (22, 9999)
group web in nu { cover where role = web
  lend ssh to list range-list for at most 1h because "on call" }
list range-list { 192.0.2.0/24 }
law shut { never admit crane from everyone
  only lend ssh to list range-list
  always because
  severity critical }
exempt group au/nu/web from shut on tcp 9999 because "moved" until 2031-01-31 by "m.teal"
expect internet cannot reach web on crane
`

// Definitions that let through the same, and promise less or more than before.
func TestWhatBecameWeaker(t *testing.T) {
	t.Parallel()
	h := newHarbourmaster(t)
	first := promising
	changed := func(old, text string) string {
		t.Helper()
		if !strings.Contains(first, old) {
			t.Fatalf("%q is not defined", old)
		}
		return strings.Replace(first, old, text, 1)
	}
	folder := func(groups string) string {
		folder := t.TempDir()
		h.write(filepath.Join(folder, "pier.nomos"), smallDefinitions+groups)
		return folder
	}
	before := folder(first)
	for _, x := range []struct {
		name, after string
		want        []string
	}{
		{"nothing", first, nil},
		{"a line of a law gone", changed("  always because\n", ""), []string{"no longer: law shut: always because"}},
		{"a law gone", first[:strings.Index(first, "law shut")] + first[strings.Index(first, "expect"):],
			[]string{"no longer: law shut: always because",
				"no longer: law shut: never admit crane from everyone (ssh, tcp 9999)",
				"no longer: law shut: severity critical", "no longer: law shut: only lend ssh to list range-list"}},
		{"less severe", changed("severity critical", "severity low"),
			[]string{"no longer: law shut: severity critical"}},
		{"a stricter law", changed("  always because\n", "  always because\n  always text\n"), nil},
		{"more is allowed", changed("  always because\n", "  only lend rdp to list range-list\n  always because\n"),
			[]string{"allowed too: law shut: only lend rdp to list range-list"}},
		{"a service that a law and an expectation name has fewer ports", changed("(22, 9999)", "(9999)"),
			[]string{"no longer: expect internet cannot reach web on crane (ssh, tcp 9999)",
				"no longer: law shut: never admit crane from everyone (ssh, tcp 9999)"}},
		{"an expectation gone", changed("expect internet cannot reach web on crane\n", ""),
			[]string{"no longer: expect internet cannot reach web on crane (ssh, tcp 9999)"}},
		{"a longer exemption", changed("2031-01-31", "2032-01-31"),
			[]string{"longer exemption: group au/nu/web from shut on tcp 9999, until 2032-01-31 " +
				"(before: group au/nu/web from shut on tcp 9999, until 2031-01-31)"}},
		{"a shorter exemption", changed("2031-01-31", "2030-01-31"), nil},
		{"a wider exemption", changed("shut on tcp 9999", "shut"),
			[]string{"new exemption: group au/nu/web from shut, until 2031-01-31"}},
		{"a longer lend", changed("at most 1h", "at most 2h"),
			[]string{"longer lend: au/nu/web: lend ssh to list range-list for at most 2h " +
				"(before: au/nu/web: lend ssh to list range-list for at most 1h)"}},
		{"a new lend", changed("  lend ssh to list range-list for",
			"  lend rdp to list range-list for at most 1h because \"on call\"\n  lend ssh to list range-list for"),
			[]string{"new lend: au/nu/web: lend rdp to list range-list for at most 1h"}},
	} {
		after := folder(x.after)
		code, out, said := inProcess(t, "", "compare", "--format", "json", before, after)
		var told struct{ Weaker []string }
		if err := json.Unmarshal([]byte(out), &told); err != nil {
			t.Fatalf("%s: %v: %s", x.name, err, said)
		}
		if wantCode := min(len(x.want), 1); code != wantCode || !slices.Equal(told.Weaker, x.want) {
			t.Errorf("%s: exit %d, %q; want %d, %q", x.name, code, told.Weaker, wantCode, x.want)
		}
		for _, format := range []string{"text", "md"} {
			_, out, _ := inProcess(t, "", "compare", "--format", format, before, after)
			for _, want := range x.want {
				plain := strings.NewReplacer("\\", "", "`", "").Replace(strings.Join(strings.Fields(out), " "))
				if !strings.Contains(plain, want) {
					t.Errorf("%s: %q is not in the %s\n%s", x.name, want, format, out)
				}
			}
		}
	}

	// A draft tells it of what was carried out last; before anything was, there is nothing to be weaker.
	drafted := func() []string {
		t.Helper()
		text, err := os.ReadFile(filepath.Join(h.folder, "draft.json"))
		if err != nil {
			t.Fatal(err)
		}
		var told struct{ Weaker []string }
		if err := json.Unmarshal(text, &told); err != nil {
			t.Fatal(err)
		}
		return told.Weaker
	}
	h.define(first)
	h.must(0, "", "draft")
	if got := drafted(); len(got) > 0 {
		t.Errorf("a first draft is weaker: %q", got)
	}
	h.must(0, "enacted", "enact")
	h.define(changed("  always because\n", ""))
	if out := h.must(0, "nothing to do", "draft"); !strings.Contains(out, "weaker") {
		t.Errorf("not told:\n%s", out)
	}
	if got := drafted(); !slices.Equal(got, []string{"no longer: law shut: always because"}) {
		t.Errorf("the second draft tells %q", got)
	}
	if out := h.must(0, "- weaker: ", "draft", "--format", "md"); !strings.Contains(out, "always because") {
		t.Errorf("not told:\n%s", out)
	}
	// What became weaker is worked out again before a draft is carried out.
	text, err := os.ReadFile(filepath.Join(h.folder, "draft.json"))
	if err != nil {
		t.Fatal(err)
	}
	var d enact.Draft
	if err := json.Unmarshal(text, &d); err != nil {
		t.Fatal(err)
	}
	d.Weaker = []string{}
	d.Seal = d.Sealed()
	forged, err := json.Marshal(&d)
	if err != nil {
		t.Fatal(err)
	}
	h.write(filepath.Join(h.folder, "forged.json"), string(forged))
	h.must(4, "(what becomes weaker)", "enact", "forged.json")
}
