// Package words puts results into words, for the terminal, pages and files alike: traffic,
// services, and what a change does.
package words

import (
	"fmt"
	"slices"
	"strings"

	"isonomos/core/addr"
	"isonomos/core/audit"
	"isonomos/core/change"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Prepositions precede a peer in a sentence about traffic.
var Prepositions = map[estate.Direction]string{estate.In: "from", estate.Out: "to"}

// Traffic names the services and peers of some traffic, or what it lacks if that is shorter.
func Traffic(e *estate.Estate, set traffic.Set, direction estate.Direction) string {
	peers, blocks := set.Peers(service.All), Blocks(set)
	everything := fmt.Sprintf("everything %s %s", Prepositions[direction], audit.PeersInWords(peers))
	missing := Blocks(traffic.Of(peers, service.All).Minus(set))
	switch {
	case peers.IsEmpty():
		return "nothing"
	case len(missing) == 0:
		return everything
	case runsIn(missing) < runsIn(blocks) && len(missing) <= len(blocks):
		return everything + " but " + blockTexts(e, missing, direction, peers, ", and ")
	}
	return blockTexts(e, blocks, direction, addr.Set{}, "; ")
}

// runsIn is the number of ranges of services in some blocks, which says how long their words will
// be.
func runsIn(blocks []traffic.Block) int {
	n := 0
	for _, b := range blocks {
		n += len(b.Services.RunSpecs())
	}
	return n
}

// blockTexts are the words for the first few blocks, and how many more there are. Peers that the
// reader knows are not repeated.
func blockTexts(e *estate.Estate, blocks []traffic.Block, direction estate.Direction, known addr.Set,
	between string) string {
	const most = 4
	var parts []string
	for _, b := range blocks[:min(most, len(blocks))] {
		text := Services(e, b.Services)
		if !b.Peers.Equal(known) {
			text += " " + Prepositions[direction] + " " + audit.PeersInWords(b.Peers)
		}
		parts = append(parts, text)
	}
	text := strings.Join(parts, between)
	if left := len(blocks) - most; left > 0 {
		if text += between; !strings.HasSuffix(between, "and ") {
			text += "and "
		}
		text += count.Of(left, "more kind", "more kinds") + " of traffic"
	}
	return text
}

// TrafficNaming is Traffic, with names for made-up ranges.
func TrafficNaming(e *estate.Estate, set traffic.Set, direction estate.Direction, made []change.StandIn) string {
	var names []string
	var all addr.Set
	peers := set.Peers(service.All)
	for _, x := range made {
		if r := addr.OfPrefixes(x.Range); r.SubsetOf(peers) {
			all = all.Union(r)
			if !slices.Contains(names, x.Name) {
				names = append(names, x.Name)
			}
		}
	}
	named := set.WithPeers(all)
	if rest := set.Minus(named); len(names) == 0 ||
		!rest.IsEmpty() && !rest.Peers(service.All).Intersect(all).IsEmpty() || nearlyEverybody(peers) {
		return Traffic(e, set, direction)
	} else if rest.IsEmpty() {
		return fmt.Sprintf("%s %s %s", Services(e, named.Services()), Prepositions[direction], count.Some(names, 4))
	} else {
		return Traffic(e, rest, direction) + fmt.Sprintf("; %s %s %s", Services(e, named.Services()),
			Prepositions[direction], count.Some(names, 4))
	}
}

// nearlyEverybody reports whether there are so many peers that a few made-up ones don't matter.
func nearlyEverybody(peers addr.Set) bool { return peers.Size().BitLen() > 24 }

// Blocks are the blocks of some traffic. Services that the family of the peers can't carry are
// added where that makes "every protocol" of the rest.
func Blocks(set traffic.Set) []traffic.Block {
	if peers := set.Peers(service.All); !peers.IsEmpty() && set.Equal(traffic.Of(peers, service.All)) {
		return []traffic.Block{{Peers: peers, Services: service.All}}
	}
	blocks := set.Blocks()
	for k, b := range blocks {
		impossible := service.All.Minus(traffic.Of(b.Peers, service.All).Services())
		if all := b.Services.Union(impossible); len(all.RunSpecs()) < len(b.Services.RunSpecs()) ||
			all.Equal(service.All) {
			blocks[k].Services = all
		}
	}
	return blocks
}

// Services names a set of services in few words: if it is large, by what it lacks or by its size.
func Services(e *estate.Estate, set service.Set) string {
	const few = 6
	if set.Equal(service.All) {
		return "everything"
	}
	if words := e.Services.Words(set); len(words) <= few {
		return strings.Join(words, ", ")
	}
	if rest := service.All.Minus(set); len(e.Services.Words(rest)) <= few {
		return e.Services.AllBut(rest)
	}
	return count.Of(int(set.Size().Int64()), "service", "services")
}

// Answers says what a change of answers means.
func Answers(c *change.Change) string {
	switch c.Kind {
	case change.Lost:
		return "it arrives as before, and the answers no longer come back"
	case change.Regained:
		return "it arrives as before, and the answers come back now"
	}
	return ""
}

// Example describes some of the traffic, where no example flow is known.
func Example(c *change.Change) string {
	w, ok := c.Traffic.Witness()
	if !ok {
		return ""
	}
	return fmt.Sprintf("%s %s %s", Prepositions[c.Direction], w.Peer, w.Service)
}

// Bypass says what is let through beside defined groups.
func Bypass(e *estate.Estate, b audit.Bypass) string {
	var lets []string
	if !b.In.IsEmpty() {
		lets = append(lets, "lets in "+Traffic(e, b.In, estate.In))
	}
	if !b.Out.IsEmpty() {
		lets = append(lets, "lets out "+Traffic(e, b.Out, estate.Out))
	}
	beside := make([]string, len(b.Beside))
	for i, g := range b.Beside {
		beside[i] = g.Path()
	}
	at := make([]string, len(b.Interfaces))
	for i, f := range b.Interfaces {
		at[i] = f.Instance.Path()
	}
	return fmt.Sprintf("%s %s, beside %s, at %s", b.Kind(), strings.Join(lets, ", and "), count.Some(beside, 4),
		count.Some(at, 4))
}

// Why says in a sentence what decided.
func Why(e *estate.Estate, step decide.Step) string {
	if step.Rule != nil {
		return fmt.Sprintf("%s: %q", step.Group.Path(), step.Rule.Sentence(e.Services))
	}
	if step.Group != nil && step.Layer != "way" {
		return fmt.Sprintf("%s: %s", step.Group.Path(), step.Text)
	}
	return step.Text
}
