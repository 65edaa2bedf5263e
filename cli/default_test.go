package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// besideDefault are clouds in which an instance has the network's default group and another one. The default group
// of the flat cloud belongs to no network.
func besideDefault(t *testing.T) *harbourmaster {
	t.Helper()
	h := newHarbourmaster(t)
	h.edit(func(line string, o map[string]any) string {
		account := fmt.Sprint(o["account"])
		switch {
		case o["id"] == "def":
			return line + `{"kind":"rule","account":"au","group":"def","id":"d1","direction":"in","action":"admit",` +
				`"peers":["10.1.2.0/24"],"services":["tcp 22"]}
{"kind":"group","account":"au","network":"nu","id":"made","name":"made","for":"instances"}
{"kind":"rule","account":"au","group":"made","id":"m1","direction":"in","action":"admit","peers":["10.1.0.0/16"],` +
				`"services":["tcp 443"],"description":"pages of the harbour"}
{"kind":"group","account":"af","id":"def","name":"default","for":"instances","built_in":true,"default":true}
{"kind":"rule","account":"af","group":"def","id":"d1","direction":"in","action":"admit","peers":["10.4.2.0/24"],` +
				`"services":["tcp 22"]}
{"kind":"group","account":"af","id":"made","name":"made","for":"instances"}
{"kind":"rule","account":"af","group":"made","id":"m1","direction":"in","action":"admit","peers":["10.4.0.0/16"],` +
				`"services":["tcp 443"],"description":"pages of the harbour"}
`
		case o["kind"] == "instance" && o["id"] == "i0" && (account == "au" || account == "af"):
			return strings.Replace(line, `"groups":[]`, `"groups":["def","made"]`, 1)
		case o["kind"] == "instance" && o["id"] == "i1" && (account == "au" || account == "af"):
			return strings.Replace(line, `"groups":[]`, `"groups":["def"]`, 1)
		}
		return line
	})
	return h
}

// attached are the groups of an interface, as the cloud has them.
func (h *harbourmaster) attached(account, instance string) string {
	h.t.Helper()
	groups := ""
	h.edit(func(line string, o map[string]any) string {
		if o["kind"] == "instance" && o["account"] == account && o["id"] == instance {
			groups = fmt.Sprint(o["interfaces"].([]any)[0].(map[string]any)["groups"])
		}
		return line
	})
	return groups
}

// A defined group replaces the network's default group at what it covers; a draft says what that closes, repeal
// brings it back, and where definitions name the default group as existing it stays.
func TestDefaultGroupIsReplaced(t *testing.T) {
	t.Parallel()
	for _, account := range []string{"au", "af"} {
		network := account + "/n" + account[1:]
		group := "\ngroup web in n" + account[1:] + " {\n  cover where role = web\n  admit https from everyone\n}\n"
		h := besideDefault(t)
		h.define(group)
		draft := h.must(0, "default detached", "draft", "--to", "d.json")
		if !strings.Contains(draft, "ssh") {
			t.Errorf("%s: the draft does not say that ssh closes:\n%s", account, draft)
		}
		audit := h.must(1, "default group", "audit", "--live")
		if !strings.Contains(strings.Join(strings.Fields(audit), " "), "takes it off") {
			t.Errorf("%s: audit does not say that a draft mends it:\n%s", account, audit)
		}
		h.must(0, "enacted", "enact", "d.json")
		if at := h.attached(account, "i0"); strings.Contains(at, "def") || !strings.Contains(at, "made") {
			t.Errorf("%s: web0 has %s", account, at)
		}
		if at := h.attached(account, "i1"); strings.Contains(at, "def") {
			t.Errorf("%s: web1 has %s", account, at)
		}
		h.must(0, "nothing to do", "draft", "--to", "e.json")
		h.must(0, "", "repeal")
		if at := h.attached(account, "i0"); !strings.Contains(at, "def") || !strings.Contains(at, "made") {
			t.Errorf("%s: after repeal web0 has %s", account, at)
		}
		if at := h.attached(account, "i1"); at != "[def]" {
			t.Errorf("%s: after repeal web1 has %s", account, at)
		}
		h.define("\ngroup usual in n" + account[1:] + ` existing "default"` + "\n" + group)
		kept := h.must(0, "", "draft", "--to", "f.json")
		if strings.Contains(kept, "default detached") || !strings.Contains(kept, "since the definitions name it as existing") {
			t.Errorf("%s: named as existing, the default group of %s goes all the same:\n%s", account, network, kept)
		}
		h.must(0, "enacted", "enact", "f.json")
		if at := h.attached(account, "i1"); !strings.Contains(at, "def") {
			t.Errorf("%s: named as existing, the default group is gone: %s", account, at)
		}
	}
}

// Adopting a group beside which instances have the default one changes nothing: the default group is named.
func TestAdoptBesideDefault(t *testing.T) {
	t.Parallel()
	for _, account := range []string{"au", "af"} {
		h := besideDefault(t)
		h.define("")
		h.must(0, "", "adopt", "--live", "--write", map[string]string{"au": "au/nu/made", "af": "af/made"}[account])
		text, err := os.ReadFile(filepath.Join(h.folder, account+".nomos"))
		if err != nil {
			t.Fatal(err)
		}
		if !strings.Contains(string(text), `existing "def"`) {
			t.Errorf("the default group is not named:\n%s", text)
		}
		h.must(0, "", "compare", "live", ".")
		draft := h.must(0, "no traffic opens or closes", "draft", "--adopt", "all", "--to", "d.json")
		if strings.Contains(draft, "default detached") {
			t.Errorf("adopting detaches the default group:\n%s", draft)
		}
	}
}
