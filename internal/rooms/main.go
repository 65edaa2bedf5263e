// Command rooms draws the rooms of the house: which of the top folders import which, as SVG.
//
//	go run ./internal/rooms > docs/rooms.svg
package main

import (
	"cmp"
	"errors"
	"fmt"
	"html"
	"maps"
	"os"
	"os/exec"
	"slices"
	"strings"
)

// module begins the import paths of the project's own packages.
const module = "isonomos/"

// A place is what a room is for, and the column in which it is drawn: chosen so that no arrow runs
// behind another room. The row comes from the imports.
type place struct {
	about  string
	column float64
}

// places are all rooms but those that only tests use.
var places = map[string]place{
	"cmd":      {"the program", 1},
	"cli":      {"flags, commands, exit codes", 1},
	"render":   {"text and formats", 1},
	"demo":     {"the demo estate", 3},
	"uphold":   {"watches for months", 0},
	"notify":   {"tells people", 0},
	"settings": {"isonomos.toml", 5.2},
	"work":     {"what the program does", 1},
	"enact":    {"drafts and runs", 1},
	"nomos":    {"the language", 3},
	"evidence": {"readers of flows", 4.1},
	"words":    {"results in words", 2},
	"cloud":    {"clients of clouds", 1},
	"store":    {"surveys, journal, locks", 0},
	"core":     {"computes", 2},
}

func main() {
	imports, err := readImports()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Print(draw(imports))
}

// readImports are the rooms that each room imports.
func readImports() (map[string][]string, error) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "./...").Output()
	if err != nil {
		return nil, fmt.Errorf("go list: %w", err)
	}
	imports := make(map[string][]string)
	for line := range strings.Lines(string(out)) {
		paths := strings.Fields(line)
		from := room(paths[0])
		if places[from].about == "" {
			continue
		}
		imports[from] = slices.Clip(imports[from])
		for _, path := range paths[1:] {
			if to := room(path); places[to].about != "" && to != from && !slices.Contains(imports[from], to) {
				imports[from] = append(imports[from], to)
			}
		}
	}
	if len(imports) != len(places) {
		return nil, errors.New("some rooms are missing: run it at the top of the module")
	}
	return imports, nil
}

// room is the top folder of a package of the project, or empty.
func room(path string) string {
	path, own := strings.CutPrefix(path, module)
	if !own {
		return ""
	}
	name, _, _ := strings.Cut(path, "/")
	return name
}

// Sizes in pixels.
const (
	boxWidth, boxHeight = 200, 50
	across, down        = 30, 36 // between boxes
	margin              = 20
)

// draw draws each room below all that import it. An arrow is left out where others lead there.
func draw(imports map[string][]string) string {
	type point struct{ x, y int }
	at := make(map[string]point) // left upper corners
	width, height := 0, 0
	for name, p := range places {
		at[name] = point{margin + int(p.column*(boxWidth+across)), margin + depth(imports, name)*(boxHeight+down)}
		width, height = max(width, at[name].x+boxWidth+margin), max(height, at[name].y+boxHeight+margin)
	}
	names := slices.SortedFunc(maps.Keys(at), func(a, b string) int { return cmp.Or(at[a].y-at[b].y, at[a].x-at[b].x) })
	var b strings.Builder
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" width="%d" height="%d" `+
		`font-family="sans-serif">`+"\n", width, height, width, height)
	b.WriteString(`<title>The rooms of the program: each imports only what lies below it</title>` + "\n" +
		`<defs><marker id="tip" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="7" markerHeight="7" orient="auto">` +
		`<path d="M0 0L8 4L0 8z" fill="#667"/></marker></defs>` + "\n" +
		`<rect width="100%" height="100%" fill="#fff"/>` + "\n")
	for _, from := range names {
		for _, to := range slices.Sorted(slices.Values(imports[from])) {
			if !leadsThere(imports, from, to) {
				fmt.Fprintf(&b, `<path d="M%d %dL%d %d" stroke="#667" stroke-width="1.4" marker-end="url(#tip)"/>`+"\n",
					at[from].x+boxWidth/2, at[from].y+boxHeight, at[to].x+boxWidth/2, at[to].y-2)
			}
		}
	}
	for _, name := range names {
		p := at[name]
		fmt.Fprintf(&b, `<rect x="%d" y="%d" width="%d" height="%d" rx="6" fill="#eef3f8" stroke="#357"/>`+"\n",
			p.x, p.y, boxWidth, boxHeight)
		fmt.Fprintf(&b, `<text x="%d" y="%d" text-anchor="middle" font-size="16" font-weight="bold" fill="#123">`+
			"%s/</text>\n", p.x+boxWidth/2, p.y+21, html.EscapeString(name))
		fmt.Fprintf(&b, `<text x="%d" y="%d" text-anchor="middle" font-size="12" fill="#345">%s</text>`+"\n",
			p.x+boxWidth/2, p.y+40, html.EscapeString(places[name].about))
	}
	b.WriteString("</svg>\n")
	return b.String()
}

// depth is the length of the longest way to a room from one that nobody imports.
func depth(imports map[string][]string, name string) int {
	n := 0
	for above, below := range imports {
		if slices.Contains(below, name) {
			n = max(n, depth(imports, above)+1)
		}
	}
	return n
}

// leadsThere reports whether one of the other rooms that a room imports imports the last one too,
// directly or not.
func leadsThere(imports map[string][]string, from, to string) bool {
	var reaches func(name string) bool
	reaches = func(name string) bool {
		return slices.ContainsFunc(imports[name], func(x string) bool { return x == to || reaches(x) })
	}
	return slices.ContainsFunc(imports[from], func(x string) bool { return x != to && reaches(x) })
}
