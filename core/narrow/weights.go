package narrow

import (
	"fmt"
	"strconv"
	"strings"

	"isonomos/core/near"
)

// Weights decide which choice is best. The cost of a choice is the weight of each kind of peer that
// it names, plus, for each range of ports, the weight of each address that it lets in beyond need.
type Weights struct {
	Group   float64 // naming a group, or the group itself
	List    float64 // naming a list
	Probes  float64 // naming the health probes of balancers
	Subnet  float64
	Network float64
	Range   float64
	Address float64 // a single address of somebody else
	Machine float64 // a single address of one of the estate's instances: it may change
	Foreign float64 // added if the definitions don't know the group or list yet

	Stranger float64 // an unknown address, let in beyond need
	Known    float64 // a private or known address in a range, let in beyond need
	Member   float64 // a member of a group that was not seen
	Entry    float64 // an entry of a list from which nobody was seen
}

// DefaultWeights prefer stable names: who something is over where it is. A stranger weighs so much
// that none is let in to save a rule.
var DefaultWeights = Weights{Group: 2, List: 3, Probes: 4, Subnet: 10, Network: 20, Range: 6, Address: 5, Machine: 8,
	Foreign:  1,
	Stranger: 10, Known: 0.1, Member: 0.05, Entry: 0.5}

func (w *Weights) byName() ([]string, map[string]*float64) {
	names := []string{"group", "list", "probes", "subnet", "network", "range", "address", "machine", "foreign",
		"stranger", "known", "member", "entry"}
	fields := []*float64{&w.Group, &w.List, &w.Probes, &w.Subnet, &w.Network, &w.Range, &w.Address, &w.Machine,
		&w.Foreign, &w.Stranger, &w.Known, &w.Member, &w.Entry}
	table := make(map[string]*float64)
	for i, name := range names {
		table[name] = fields[i]
	}
	return names, table
}

// Set changes one weight by its name. The error says which names there are.
func (w *Weights) Set(name, value string) error {
	names, table := w.byName()
	at := table[name]
	if at == nil {
		if best, ok := near.Best(name, names); ok {
			return fmt.Errorf("there is no weight %q: %q is near", name, best)
		}
		return fmt.Errorf("there is no weight %q: the weights are %s", name, strings.Join(names, ", "))
	}
	x, err := strconv.ParseFloat(value, 64)
	if err != nil || !(x >= 0 && x <= 1e9) {
		return fmt.Errorf("the weight %s is %q: it goes from 0 to 1,000,000,000", name, value)
	}
	*at = x
	return nil
}
