// Package isonomos is the root of the module; the program is in cmd/isonomos.
// docs/architecture.md says what is where.
package isonomos
