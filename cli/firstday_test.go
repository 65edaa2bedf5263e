package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// The first day with clouds that have groups already, as docs/changing.md walks it, in each dialect: what was made by hand
// is adopted, marked, narrowed, carried out and undone, and nothing opens or closes until that is meant.
func TestFirstDay(t *testing.T) {
	t.Parallel()
	h := newHarbourmaster(t)
	for _, name := range []string{"u", "r", "l", "f"} {
		accounts := fmt.Sprintf("/c%s/v1/accounts/a%[1]s", name)
		in, rank := `"network":"n`+name+`",`, ""
		if name == "f" {
			in = ""
		}
		if name == "r" {
			rank = `"rank":500,`
		}
		made, _ := h.ask("POST", accounts+"/groups",
			fmt.Sprintf(`{"name":"site",%s"for":"instances","description":"The site"}`, in))["group"].(map[string]any)
		id := fmt.Sprint(made["id"])
		for _, peer := range []string{"0.0.0.0/0", "::/0"} {
			if name == "r" && peer == "::/0" {
				rank = `"rank":501,`
			}
			h.ask("POST", accounts+"/groups/"+id+"/rules", fmt.Sprintf(
				`{"direction":"in","action":"admit",%s"peers":[%q],"services":["tcp 22"],"description":"by hand"}`, rank, peer))
		}
		for _, face := range []string{"f0", "f1"} {
			h.ask("PUT", accounts+"/interfaces/"+face+"/groups", fmt.Sprintf(`{"groups":[%q]}`, id))
		}
	}
	var flows strings.Builder
	flows.WriteString("start,end,src,dst,protocol,src_port,dst_port,packets,bytes,reply_packets,reply_bytes,verdict\n")
	for day := 10; day < 24; day++ {
		for n := 1; n <= 4; n++ {
			for i := range 2 {
				fmt.Fprintf(&flows, "2026-11-%dT07:00:00Z,2026-11-%[1]dT07:10:00Z,203.0.113.7,10.%d.1.1%d,tcp,50010,22,90,9000,"+
					"90,9000,admitted\n", day, n, i)
			}
		}
	}
	h.write(filepath.Join(h.folder, "flows.csv"), flows.String())
	h.define("")
	h.must(0, "surveyed", "survey", "--to", "survey.jsonl")
	h.must(0, "carrying them out changes nothing", "adopt", "--all", "--survey", "survey.jsonl", "--write")
	if out := h.must(0, "", "check", "--survey", "survey.jsonl"); strings.Contains(out, "lets nothing through") {
		t.Errorf("a rule is written that a refusal in front stops:\n%s", out)
	}
	h.must(0, "equal", "compare", "survey.jsonl", ".")
	// not marked yet, nothing is touched, and it is said how it would be
	h.must(0, "--adopt", "draft", "--to", "none.json")
	h.must(0, "no traffic opens or closes today", "draft", "--adopt", "all")
	h.must(0, "the same as before", "enact")
	h.must(0, "equal", "compare", "survey.jsonl", "live")
	h.must(0, "nothing to do", "draft", "--to", "none.json")

	h.must(0, "written", "narrow", "--all", "--survey", "survey.jsonl", "--flows", "flows.csv", "--write")
	h.must(1, "closes", "compare", "survey.jsonl", ".")
	out := h.must(0, "no flow that was seen would be cut", "draft", "--flows", "flows.csv")
	if strings.Contains(out, "\nopens ") || !strings.Contains(out, "\ncloses ") {
		t.Errorf("what was narrowed closes, and opens nothing:\n%s", out)
	}
	h.must(0, "enacted", "enact")
	h.must(0, "equal", "compare", "live", ".")
	h.must(0, "repealed", "repeal")
	h.must(0, "equal", "compare", "survey.jsonl", "live")
	if _, err := os.Stat(filepath.Join(h.folder, "isonomos.db")); err != nil {
		t.Error(err)
	}
}
