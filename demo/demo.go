// Package demo is the demo estate: Saltmarsh Harbour, an invented harbour
// authority. Its definitions are embedded; its survey and its flows are
// generated, the same ones each time. Private addresses are those of RFC 1918
// and RFC 4193, public ones those of RFC 5737 and RFC 3849.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"time"

	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
)

//go:embed estate/*.nomos
var files embed.FS

// Taken is the moment at which the demo estate is surveyed.
var Taken = time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)

// Files are the demo estate's definition files, at the top of a folder.
func Files() fs.FS {
	sub, err := fs.Sub(files, "estate")
	if err != nil {
		panic(err) // the folder is embedded: this can't happen
	}
	return sub
}

// definitions resolves the embedded definitions.
func definitions() (nomos.Definitions, error) {
	read, err := nomos.Read(Files(), func(name string) string { return name })
	if err != nil {
		return nomos.Definitions{}, err
	}
	d := nomos.Understand(read.Files, resolve.Options{Name: "saltmarsh", Now: Taken})
	if source.Errors(d.Messages) > 0 {
		return d, fmt.Errorf("the demo estate has mistakes:\n%s", d.Messages[0])
	}
	return d, nil
}
