package adopt

import (
	"testing"

	"isonomos/core/estate"
	"isonomos/nomos/parse"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

func TestName(t *testing.T) {
	for _, x := range []struct{ text, want string }{
		{"web", "web"}, {"web site (old)", "web-site-old"}, {"9lives", "n9lives"}, {"", "unnamed"},
		{"---", "unnamed"}, {"any", "any-1"}, {"group", "group-1"},
		{"größe", "gr-e"}, {"a\x1b[31m", "a-31m"}, {"日本", "unnamed"}, {"x_y-z", "x_y-z"},
	} {
		if got := Name(x.text); got != x.want || !IsName(got) {
			t.Errorf("%q: got %q, want %q", x.text, got, x.want)
		}
	}
}

// Whatever a cloud says stands in definitions as one text or one name.
func FuzzWords(f *testing.F) {
	for _, text := range []string{"web", `a "quoted" \ text`, "two\nlines\ttabbed", "\x1b[31m red", "\u202e turned",
		"größe", "\xff\xfe", "}", "# no comment"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		tree, messages := parse.File(
			source.NewFile("x.nomos",
				"group "+Name(text)+" in n "+Quote(oneLine(text))+" {\n  named "+Quote(text)+"\n}\n"))
		if source.Errors(messages) > 0 {
			t.Fatalf("%q: %v", text, messages[0])
		}
		g, ok := tree.Decls[0].(*syntax.Group)
		if !ok || len(tree.Decls) != 1 || len(g.Body) != 1 || g.Name.Text != Name(text) {
			t.Fatalf("%q became %+v", text, tree.Decls)
		}
		if named, ok := g.Body[0].(*syntax.Named); !ok || named.Name.Text != string([]rune(text)) {
			t.Errorf("%q is read back as %q", text, named.Name.Text)
		}
	})
}

// A family is written once, whatever the peer.
func TestFamilyIsWrittenOnce(t *testing.T) {
	network := &estate.Network{Name: "quay"}
	g := &estate.Group{Name: "gauges", Network: network}
	w := writer{}
	for _, x := range []struct {
		peer estate.Peer
		want string
	}{
		{estate.Peer{Kind: estate.PeerSelf, V4Only: true}, "self v4"},
		{estate.Peer{Kind: estate.PeerSelf}, "self"},
		{estate.Peer{Kind: estate.PeerEveryone, V6Only: true}, "everyone v6"},
		{estate.Peer{Kind: estate.PeerNetwork, V4Only: true}, "network v4"},
		{estate.Peer{Kind: estate.PeerSubnet, Subnet: &estate.Subnet{Name: "front"}, V6Only: true}, "subnet front v6"},
		{estate.Peer{Kind: estate.PeerGroup, Group: g, V6Only: true}, "self v6"},
	} {
		if got := w.peerWords(g, []estate.Peer{x.peer}); got != x.want {
			t.Errorf("%+v: %q, want %q", x.peer, got, x.want)
		}
	}
}
