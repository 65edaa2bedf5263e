// Package inmemory has tests keep their temporary files in memory where that can be: most of their time would be spent
// waiting until files are on the disk, and no test is about what a disk does.
package inmemory

import "os"

// Use makes it so for what asks for a temporary folder from now on.
func Use() error {
	if folder := folder(); folder != "" {
		return os.Setenv("TMPDIR", folder)
	}
	return nil
}
