package audit

// Checks are all checks, the gravest of equal severity first.
var Checks = []Check{
	openAdminPort, openDataPort, allServices, oneFamily, openInSum, unfiltered, ineffectiveRefusal, expired, probeShut,
	openInbound, openCleartext, widePorts, openOutbound, stageCrossing, defaultGroup, oneWay, dangling, byHand,
	bypassed, unread, quota,
	wideInbound, undeclaredAddresses, staticAddress, catchAllSelf, overruled, idle,
	unexplained, unused, crowdedRanks, repeatedAddresses, twins,
}

// former are checks by the names that they had before.
var former = map[string]string{
	"vain-refusal": "ineffective-refusal",
	"past-date":    "expired",
	"halves":       "open-in-sum",
	"unworn":       "unused",
}

// CheckName is the name of a check, and whether it was asked for by one that it had before.
// Other names are left as they are.
func CheckName(name string) (now string, renamed bool) {
	if now, renamed = former[name]; renamed {
		return now, true
	}
	return name, false
}

// firstName is the name that a check had at first: fingerprints are made of it, so that they
// outlive a renaming.
func firstName(check string) string {
	for was, now := range former {
		if now == check {
			return was
		}
	}
	return check
}

// The numbers of the controls that checks serve, without their text.
var (
	controlsOfOpenness = []string{"SOC 2 CC6.6", "PCI DSS 1", "NIST SP 800-53 SC-7", "ISO 27001 A.8.20"}
	controlsOfUpkeep   = []string{"PCI DSS 1", "ISO 27001 A.8.20"}
	controlsOfParting  = []string{"PCI DSS 1", "NIST SP 800-53 SC-7", "ISO 27001 A.8.22"}
	controlsOfServices = []string{"SOC 2 CC6.6", "PCI DSS 1", "ISO 27001 A.8.21"}
)
