package manual

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"isonomos/nomos/parse"
	"isonomos/nomos/source"
	"isonomos/nomos/token"
)

func TestEveryExampleParses(t *testing.T) {
	topics := slices.Clone(Keywords)
	for _, m := range Messages {
		topics = append(topics, m.Topic)
	}
	for _, topic := range topics {
		if _, messages := parse.File(source.NewFile(topic.Name, topic.Example+"\n")); len(messages) > 0 {
			t.Errorf("the example of %s:\n%s", topic.Name, messages[0])
		}
		if topic.Text == "" || !strings.HasSuffix(topic.Text, ".") {
			t.Errorf("%s is not explained", topic.Name)
		}
	}
	for _, k := range Keywords {
		if !regexp.MustCompile(`\b` + k.Name + `\b`).MatchString(k.Example) {
			t.Errorf("the example of %s does not show it", k.Name)
		}
	}
}

// Every word that the language reserves or begins a declaration with is explained.
func TestEveryKeywordIsExplained(t *testing.T) {
	words := append(slices.Clone(token.Declarations), "and", "or", "not", "in", "where", "from", "to", "at", "on",
		"for", "because", "until", "except", "stateless",
		"only", "every", "can", "cannot", "any", "everyone", "internet", "self", "v4", "v6", "tcp", "udp", "sctp",
		"dccp", "udplite", "icmp", "icmpv6", "protocol", "class")
	for _, w := range words {
		if !slices.ContainsFunc(Keywords, func(k Topic) bool { return k.Name == w }) {
			t.Errorf("%s is not explained", w)
		}
	}
}

// Every message that the golden files show is of a kind that is explained.
func TestEveryMessageIsExplained(t *testing.T) {
	goldens, _ := filepath.Glob("../testdata/messages/*.golden")
	if len(goldens) == 0 {
		t.Fatal("no golden files")
	}
	head := regexp.MustCompile(`^\S+\.nomos:\d+:\d+: (?:warning: )?(.*)$`)
	for _, name := range goldens {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(text)) {
			if m := head.FindStringSubmatch(strings.TrimSpace(line)); m != nil {
				if _, ok := MessageOf(m[1]); !ok {
					t.Errorf("not explained: %s", m[1])
				}
			}
		}
	}
}
