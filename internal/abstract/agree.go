package abstract

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/internal/reading"
)

// Compare asks for some hosts, directions, addresses and services what the filters of a state do,
// by the second reading of the model, and what they should do. It returns how many it asked, and
// the first difference.
func (e *Estate) Compare(state *estate.Estate, tries int, random *rand.Rand) (decided int, wrong string) {
	peers := slices.Clone(Strangers)
	for _, h := range e.Hosts {
		peers = append(peers, h.Addrs...)
	}
	for range tries {
		h := e.Hosts[random.IntN(len(e.Hosts))]
		peer, point, in := peers[random.IntN(len(peers))], Points[random.IntN(len(Points))], random.IntN(2) == 0
		protocol := uint8(point[0])
		if slices.Contains(h.Addrs, peer) || protocol == 1 && peer.Is6() || protocol == 58 && peer.Is4() {
			continue
		}
		direction := estate.Out
		if in {
			direction = estate.In
		}
		k := slices.IndexFunc(state.Instances, func(i *estate.Instance) bool { return i.Name == h.Name })
		at := state.Instances[k].Interfaces[0]
		got := reading.Filter(state, at, direction, peer, service.PointOf(protocol, point[1]))
		decided++
		if differs := differ(got, e.At(h, in, peer, protocol, point[1])); differs != "" {
			return decided, fmt.Sprintf("%s %s %s protocol %d %d: %s\n%s", h.Name, direction, peer, protocol,
				point[1], differs, rulesAt(at))
		}
	}
	return decided, ""
}

func differ(got string, want Answer) string {
	switch {
	case got == "stopped" && want.Passes:
		return "it should pass, and is stopped"
	case got != "stopped" && !want.Passes && !want.Room:
		return "it should be stopped, and " + got
	case got == "one-way" && want.Passes && want.Keeps:
		return "the answer should come back, and does not"
	}
	return ""
}

func rulesAt(f *estate.Interface) string {
	var b strings.Builder
	for _, g := range slices.Concat(f.Groups, f.Subnet.Groups) {
		fmt.Fprintf(&b, "%s\n", g.Path())
		for i := range g.Rules {
			fmt.Fprintf(&b, "  %d %s\n", g.Rules[i].Rank, g.Rules[i].Sentence(service.Names{}))
		}
	}
	return b.String()
}
