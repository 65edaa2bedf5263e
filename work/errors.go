package work

import (
	"fmt"
	"slices"
	"strconv"

	"isonomos/core/count"
	"isonomos/core/near"
)

// The kind of an error tells what a user can do about it. All other errors are about the input, or
// are faults of this program.

// A WrongError says that something was asked for that does not exist.
type WrongError struct{ err error }

// An UnreachableError says that something can't be read or written at the moment.
type UnreachableError struct{ err error }

// A RefusedError says that something is not done because it would not be safe.
type RefusedError struct{ err error }

func (e *WrongError) Error() string       { return e.err.Error() }
func (e *WrongError) Unwrap() error       { return e.err }
func (e *UnreachableError) Error() string { return e.err.Error() }
func (e *UnreachableError) Unwrap() error { return e.err }
func (e *RefusedError) Error() string     { return e.err.Error() }
func (e *RefusedError) Unwrap() error     { return e.err }

func wrong(format string, a ...any) error { return &WrongError{fmt.Errorf(format, a...)} }

func unreachable(format string, a ...any) error { return &UnreachableError{fmt.Errorf(format, a...)} }

func refused(format string, a ...any) error { return &RefusedError{fmt.Errorf(format, a...)} }

// Known says which names exist, and which of them is nearest to an unknown one.
func Known(what string, names, known []string) error {
	for _, name := range names {
		if slices.Contains(known, name) {
			continue
		}
		if best, ok := near.Best(name, known); ok {
			return wrong("no %s is called %q: %s is near", what, name, strconv.Quote(best))
		}
		return wrong("no %s is called %q: there are %s", what, name, Some(known))
	}
	return nil
}

// Some lists a few of many names.
func Some(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return count.Some(names, 8)
}
