package audit

import "slices"

// Checks are all checks, the gravest first. Each check adds itself, where it is written.
var Checks []Check

// register adds a check to Checks.
func register(c Check) {
	Checks = append(Checks, c)
	slices.SortFunc(Checks, func(a, b Check) int { return a.place - b.place })
}

// former are earlier names of checks.
var former = map[string]string{
	"vain-refusal": "ineffective-refusal",
	"past-date":    "expired",
	"halves":       "open-in-sum",
	"unworn":       "unused",
}

// CheckName is today's name of a check, and whether it was given by an earlier one. Unknown names
// are returned as they are.
func CheckName(name string) (now string, renamed bool) {
	if now, renamed = former[name]; renamed {
		return now, true
	}
	return name, false
}

// firstName is the first name that a check had. Fingerprints are made of it, so that renaming a
// check does not change them.
func firstName(check string) string {
	for was, now := range former {
		if now == check {
			return was
		}
	}
	return check
}

// Numbers of the controls that checks serve, by standard.
var (
	controlsOfOpenness = []string{"SOC 2 CC6.6", "PCI DSS 1", "NIST SP 800-53 SC-7", "ISO 27001 A.8.20"}
	controlsOfUpkeep   = []string{"PCI DSS 1", "ISO 27001 A.8.20"}
	controlsOfParting  = []string{"PCI DSS 1", "NIST SP 800-53 SC-7", "ISO 27001 A.8.22"}
	controlsOfServices = []string{"SOC 2 CC6.6", "PCI DSS 1", "ISO 27001 A.8.21"}
)
