// Package count says numbers and lists as sentences need them.
package count

import (
	"fmt"
	"strings"
)

// Number is a number with commas between thousands.
func Number(n int) string {
	digits := fmt.Sprint(n)
	first := 0
	if n < 0 {
		first = 1
	}
	for i := len(digits) - 3; i > first; i -= 3 {
		digits = digits[:i] + "," + digits[i:]
	}
	return digits
}

// Of is a number with its noun: "1 group", "1,234 groups".
func Of(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Number(n) + " " + many
}

// Some are the first names of a list, and how many more there are.
func Some(names []string, most int) string {
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return strings.Join(names[:most], ", ") + " and " + Number(len(names)-most) + " more"
}
