// Package syntax is the tree of a definition file: what is written, with exact positions, before
// anything is known about its meaning.
package syntax

import (
	"net/netip"
	"time"

	"isonomos/nomos/source"
)

// A File is the tree of one file.
type File struct {
	Source   *source.File
	Decls    []Decl
	Comments []source.Span // in order, each from its # to the end of its line

	// What could not be parsed, so that it is not reported again as missing.
	Broken  map[Decl]bool // declarations of which a part could not be parsed
	Missing []string      // the names of declarations that could not be parsed at all
}

// A Decl is one declaration: one of the pointer types below that say so.
type Decl interface {
	Extent() source.Span // from its first to its last character
	declaration()
}

// A Stmt is one statement in a group or pattern.
type Stmt interface {
	Extent() source.Span
	statement()
}

// Node is common to all parts of the tree: the span of their text.
type Node struct{ source.Span }

// Extent is the text that the node stands for.
func (n Node) Extent() source.Span { return n.Span }

// A Word is a name, a path, a quoted text or a number. The zero value means that it is not there.
type Word struct {
	Node
	Text string // without quotes and escapes
}

// Quoted reports whether the word is written in quotes.
func (w Word) Quoted() bool { return int(w.End-w.Start) > len(w.Text) }

// Given reports whether the word is there.
func (w Word) Given() bool { return w.End > 0 }

// Estate names the estate.
type Estate struct {
	Node
	Name  Word
	Title Word
}

// A Place is a cloud, an account or a network: a name and settings.
type Place struct {
	Node
	Kind     string // "cloud", "account", "network"
	Name     Word
	In       Word // of a network: its account
	Settings []Setting
}

// A Setting is a line of a Place. Its key decides which fields are set.
type Setting struct {
	Node
	Key    Word
	Value  Word
	Env    bool // the value comes from the environment variable of that name
	Ranges []Range
	Paths  []Word
	Pairs  []Pair
	From   int // of answers: the ports
	To     int
}

// A Pair is a label or limit with its value.
type Pair struct {
	Key   Word
	Value Word
}

// A Range is an address or CIDR range, as written: host bits may be set.
type Range struct {
	Node
	Prefix netip.Prefix
}

// List declares a prefix list.
type List struct {
	Node
	Name      Word
	Title     Word
	Published Word // the one-line form: published "…"
	Lines     []ListLine
}

// A ListLine is one line of a list. Exactly one of Range, List, Room, Published and Where is there.
type ListLine struct {
	Node
	Range     Range
	List      Word // another list that is included
	Note      Word
	Room      Word // a number
	Published Word
	On        Word // the cloud of Published
	Where     *Condition
	Lines     []ListLine // of Where
}

// Service gives protocols and ports a name.
type Service struct {
	Node
	Name     Word
	Services []Spec
	Class    Word
}

// Pattern is a named set of rules with parameters.
type Pattern struct {
	Node
	Name   Word
	Params []Param
	Rules  []Stmt
}

// A Param is a parameter of a pattern.
type Param struct {
	Node
	Name    Word
	Type    Word
	Default *Items
}

// Baseline uses a pattern in many groups.
type Baseline struct {
	Node
	Use   *Use
	Where *Condition // nil means all groups
}

// Group declares a group.
type Group struct {
	Node
	Name     Word
	For      Word // "instances" or "subnets"; may be missing
	Scope    Scope
	Existing Word
	Title    Word
	Body     []Stmt
	Braces   source.Span // from { to }
}

// A Scope says in which networks a group is.
type Scope struct {
	Node
	Network Word // a path; empty means every network
	Where   *Condition
}

// Connect lets members of one group reach those of another, at both ends.
type Connect struct {
	Node
	From, To Peers
	On       []Spec
	Because  Word
	Until    Date
}

// Law is a rule about rules.
type Law struct {
	Node
	Name  Word
	Title Word
	Lines []LawLine
}

// A LawLine is a line of a law. Its key decides which fields are set.
type LawLine struct {
	Node
	Key    Word // "over", "never", "only", "always", "severity", "control", "enforced"
	Over   *Condition
	Open   *Opening
	Always Word // "because", "until", "text", "label"
	Words  []Word
	After  Word // a duration; may be missing
	Whole  Word // "whole"; may be missing
}

// An Opening is what a law forbids, or allows exclusively.
type Opening struct {
	Node
	Verb     Word // "admit", "reach", "lend"
	Services []Spec
	Peers    Peers
	MoreThan Word // a duration; may be missing
}

// Exempt is an exception from a law.
type Exempt struct {
	Node
	Kind    string // "account", "network", "group"
	Subject Word
	Law     Word
	On      []Spec
	Because Word
	Until   Date
	By      Word
}

// Expect is a test of the whole path.
type Expect struct {
	Node
	Only     bool
	From, To Peers
	Can      bool
	On       []Spec // may be empty after cannot: every service
	Because  Word
}

// Cover says what a group is attached to.
type Cover struct {
	Node
	Kind  Word // "where", "instance", "subnet"
	Where *Condition
	Names []Word
}

// LabelStmt gives a group labels.
type LabelStmt struct {
	Node
	Pairs []Pair
}

// Named gives a group another name in its cloud.
type Named struct {
	Node
	Name Word
}

// Follow makes a subnet group let through what its instances' groups do.
type Follow struct{ Node }

// Rule is one of admit, reach, refuse and lend.
type Rule struct {
	Node
	Verb      Word
	Services  []Spec
	Prep      Word // "from", "at", "to"
	Peers     Peers
	AtMost    Word // of lend: a duration or a parameter
	Because   Word // a text or a parameter
	Until     Date
	Stateless Word
}

// Use stands for the rules of a pattern.
type Use struct {
	Node
	Name    Word
	Args    []Items // positional
	Named   []NamedArg
	Because Word
	Until   Date
}

// A NamedArg is an argument with the name of its parameter.
type NamedArg struct {
	Name  Word
	Items Items
}

// Where contains rules for some of the places in which a group is.
type Where struct {
	Node
	Condition *Condition
	Rules     []Stmt
}

// A Date is a day or a moment, as written. It may not exist.
type Date struct {
	Node
	Time time.Time // the moment at which it ends; zero if the date does not exist
}

// Given reports whether the date is there.
func (d Date) Given() bool { return d.End > 0 }

// Peers are the addresses at the other end.
type Peers struct {
	Node
	Of     []Peer
	Except []Peer
}

// A Peer is one reference to addresses. Kind is the word that it begins with ("everyone", "list",
// …), "range", or "name" for a bare path.
type Peer struct {
	Node
	Kind   string
	Name   Word
	Range  Range
	Family Word // "v4", "v6"; may be missing
}

// A Spec is one service. Kind is "any", "tcp", "udp", "sctp", "dccp", "udplite", "icmp", "icmpv6",
// "protocol", "class", or "name" for a bare name.
type Spec struct {
	Node
	Kind  string
	Name  Word   // of name, class; of icmp a parameter
	Ports []Port // of tcp, udp and so on; empty means all
	Type  int    // of icmp, and the number of protocol; -1 means none
	Code  int    // of icmp; -1 means none
}

// A Port is a port, a range of ports, or a parameter.
type Port struct {
	Node
	From, To int
	Name     Word
}

// Items are the values of an argument.
type Items struct {
	Node
	Of     []Item
	Except []Item
}

// An Item is one value. Exactly one field is set.
type Item struct {
	Node
	Peer *Peer
	Spec *Spec
	Word Word // a text, number or duration
}

// Operator says how a condition combines its parts.
type Operator string

// The operators. Compare is about a label, the others combine conditions.
const (
	Compare Operator = "compare"
	And     Operator = "and"
	Or      Operator = "or"
	NotOp   Operator = "not"
)

// A Condition is a question about labels.
type Condition struct {
	Node
	Op     Operator
	Parts  []*Condition
	Label  Word
	Negate bool // "!="
	Values []Word
}

func (*Estate) declaration()   {}
func (*Place) declaration()    {}
func (*List) declaration()     {}
func (*Service) declaration()  {}
func (*Pattern) declaration()  {}
func (*Baseline) declaration() {}
func (*Group) declaration()    {}
func (*Connect) declaration()  {}
func (*Law) declaration()      {}
func (*Exempt) declaration()   {}
func (*Expect) declaration()   {}

func (*Cover) statement()     {}
func (*LabelStmt) statement() {}
func (*Named) statement()     {}
func (*Follow) statement()    {}
func (*Rule) statement()      {}
func (*Use) statement()       {}
func (*Where) statement()     {}
