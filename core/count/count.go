// Package count writes numbers, lists and durations for sentences.
package count

import (
	"fmt"
	"math/big"
	"strings"
	"time"
)

// Number is a number with commas between thousands.
func Number(n int) string { return Big(big.NewInt(int64(n))) }

// Big is Number for any size.
func Big(n *big.Int) string {
	digits := n.String()
	first := 0
	if n.Sign() < 0 {
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

// OfBig is Of for any size.
func OfBig(n *big.Int, one, many string) string {
	if n.IsInt64() {
		return Of(int(n.Int64()), one, many)
	}
	return Big(n) + " " + many
}

// Some names the first few of a list, and says how many more there are.
func Some(names []string, most int) string {
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return strings.Join(names[:most], ", ") + " and " + Number(len(names)-most) + " more"
}

// Lasting is a duration for people, in at most two units: "2 h 5 min", "40 s".
func Lasting(d time.Duration) string {
	switch {
	case d >= 24*time.Hour:
		return fmt.Sprintf("%d d %d h", d/(24*time.Hour), d%(24*time.Hour)/time.Hour)
	case d >= time.Hour:
		return fmt.Sprintf("%d h %d min", d/time.Hour, d%time.Hour/time.Minute)
	case d >= time.Minute:
		return fmt.Sprintf("%d min", d/time.Minute)
	}
	return fmt.Sprintf("%d s", d/time.Second)
}

// Duration is a duration as definitions write it, exact to the second: "2h", "1h30m".
func Duration(d time.Duration) string {
	text := ""
	for _, unit := range []struct {
		of   time.Duration
		name string
	}{{24 * time.Hour, "d"}, {time.Hour, "h"}, {time.Minute, "m"}, {time.Second, "s"}} {
		if n := d / unit.of; n > 0 {
			text += fmt.Sprintf("%d%s", n, unit.name)
			d -= n * unit.of
		}
	}
	return text
}
