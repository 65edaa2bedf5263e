package render

import (
	"path/filepath"
	"testing"

	"isonomos/internal/golden"
)

// The page about the checks is what the checks say.
func TestChecksPage(t *testing.T) {
	golden.Check(t, filepath.Join("..", "docs", "checks.md"), ChecksMarkdown())
}
