package estate

// OwnLabel is the label by which groups and lists are marked as an estate's own: its
// value is the estate's name. Every mark is written, read and compared by this name.
const OwnLabel = "isonomos"
