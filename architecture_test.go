package isonomos

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"isonomos/internal/golden"
)

// Imports go one way: cli → render → work → enact → cloud, evidence, store → words, nomos →
// core. The core and the language never import an edge, nor the world.
func TestImportsGoOneWay(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}: {{join .Imports " "}}`, "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	below := map[string][]string{ // what each room may import of the project
		"core": {"core"}, "nomos": {"core", "nomos"}, "words": {"core", "words"},
		"evidence": {"core", "evidence"}, "store": {"core", "store"}, "cloud": {"core", "store", "docs", "cloud"},
		"docs":  {}, // documents that the program goes by
		"enact": {"core", "store", "cloud", "enact"}, "demo": {"core", "nomos", "evidence", "store", "demo"},
		"work":     {"core", "nomos", "words", "evidence", "store", "cloud", "enact", "work"},
		"settings": {"core", "settings"}, "notify": {"core", "store", "notify"},
		"uphold": {"core", "nomos", "words", "store", "cloud", "enact", "work", "notify", "uphold"},
		"render": {"core", "nomos", "words", "enact", "work", "notify", "render"},
		"cli": {"core", "nomos", "words", "evidence", "store", "cloud", "enact", "demo", "work", "notify", "settings",
			"uphold", "render"},
		"cmd": {"cli"},
	}
	apart := []string{"isonomos", "bench", "internal"} // tests, and what measures and helps them
	world := []string{"os", "os/exec", "net", "net/http", "log", "log/slog", "path/filepath",
		"github.com/urfave/cli/v3"}
	seen := 0
	for line := range strings.Lines(string(out)) {
		name, imports, _ := strings.Cut(strings.TrimSpace(line), ":")
		room, _, _ := strings.Cut(strings.TrimPrefix(name, "isonomos/"), "/")
		if below[room] == nil {
			if !slices.Contains(apart, room) {
				t.Errorf("%s is a room that nobody knows: say here what it may import", name)
			}
			continue
		}
		seen++
		for _, i := range strings.Fields(imports) {
			other, inside := strings.CutPrefix(i, "isonomos/")
			other, _, _ = strings.Cut(other, "/")
			if inside && !slices.Contains(below[room], other) {
				t.Errorf("%s imports %s", name, i)
			}
			if (room == "core" || room == "nomos") && slices.Contains(world, i) {
				t.Errorf("%s imports %s: the core and the language know nothing of the world", name, i)
			}
		}
	}
	if seen < 15 {
		t.Errorf("only %d packages were looked at", seen)
	}
}

// The core computes: it names no command, flag, variable of the environment or field of JSON,
// so that whoever uses it can say what its own reader can use.
func TestCoreNamesNoCommands(t *testing.T) {
	named := regexp.MustCompile(`\bisonomos [a-z]|(^|[\s(:;,])--[a-z]+|ISONOMOS_|^[a-z]*json:`)
	looked := 0
	err := filepath.WalkDir("core", func(path string, x os.DirEntry, err error) error {
		if err != nil || x.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		looked++
		files := token.NewFileSet()
		file, err := parser.ParseFile(files, path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if text, ok := n.(*ast.BasicLit); ok && text.Kind == token.STRING {
				value, err := strconv.Unquote(text.Value)
				if err != nil || named.MatchString(value) {
					t.Errorf("%s: %s", files.Position(text.Pos()), text.Value)
				}
			}
			return true
		})
		return nil
	})
	if err != nil || looked < 50 {
		t.Errorf("%d files: %v", looked, err)
	}
}

// The picture of the rooms is what the imports say.
func TestPictureOfTheRooms(t *testing.T) {
	drawn, err := exec.Command("go", "run", "./internal/rooms").Output()
	if err != nil {
		t.Fatal(err)
	}
	golden.Check(t, "docs/rooms.svg", string(drawn))
}

// Long lines are hard to read side by side: 120 columns of code, 160 of prose. Tables and code
// blocks of pages can't be broken, and neither can data in tests.
func TestNoLineIsTooLong(t *testing.T) {
	looked := 0
	err := filepath.WalkDir(".", func(path string, x os.DirEntry, err error) error {
		code := strings.HasSuffix(path, ".go") && !strings.HasSuffix(path, "_test.go")
		if err != nil || x.IsDir() || !code && filepath.Ext(path) != ".md" || strings.Contains(path, "testdata") {
			return err
		}
		looked++
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		block, number := false, 0
		for line := range strings.Lines(string(text)) {
			number++
			line = strings.TrimRight(strings.ReplaceAll(line, "\t", "    "), "\n")
			if strings.HasPrefix(line, "```") {
				block = !block
			}
			most := 160
			if code {
				most = 120
			} else if block || strings.HasPrefix(line, "|") {
				continue
			}
			if n := utf8.RuneCountInString(line); n > most {
				t.Errorf("%s:%d has %d columns, of %d at most", path, number, n, most)
			}
		}
		return nil
	})
	if err != nil || looked < 200 {
		t.Errorf("%d files: %v", looked, err)
	}
}
