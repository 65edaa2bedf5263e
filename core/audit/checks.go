package audit

// Checks are all checks, the gravest of equal severity first.
var Checks = []Check{
	openAdminPort, openDataPort, allServices, oneFamily, halves, unfiltered, vainRefusal, pastDate, probeShut,
	openInbound, openCleartext, widePorts, openOutbound, stageCrossing, defaultGroup, oneWay, dangling, byHand, bypassed, unread, quota,
	wideInbound, undeclaredAddresses, staticAddress, catchAllSelf, overruled, idle,
	unexplained, unworn, crowdedRanks, repeatedAddresses, twins,
}

// The numbers of the controls that checks serve, without their text.
var (
	controlsOfOpenness = []string{"SOC 2 CC6.6", "PCI DSS 1", "NIST SP 800-53 SC-7", "ISO 27001 A.8.20"}
	controlsOfUpkeep   = []string{"PCI DSS 1", "ISO 27001 A.8.20"}
	controlsOfParting  = []string{"PCI DSS 1", "NIST SP 800-53 SC-7", "ISO 27001 A.8.22"}
	controlsOfServices = []string{"SOC 2 CC6.6", "PCI DSS 1", "ISO 27001 A.8.21"}
)
