package decide

import (
	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Met is what becomes of the traffic between one end and addresses outside the
// estate, as far as it may arrive; the rest has no way or is stopped.
type Met struct {
	Passes    traffic.Set
	OneWay    traffic.Set // arrives although an answer to it is stopped
	Undecided traffic.Set // may arrive: the survey does not say enough
}

// Arrives is the traffic that arrives, whatever becomes of the answers.
func (m Met) Arrives() traffic.Set { return m.Passes.Union(m.OneWay) }

// MeetsOutside is what becomes of the traffic between an end and all addresses outside
// the estate in a direction, exactly as Flow says it of each.
func (d *Decider) MeetsOutside(e End, direction estate.Direction) Met {
	if direction == estate.Out {
		return d.metOn(e.Interface, d.waysOutOf(e.Interface, e.Addr), direction)
	}
	m := d.metOn(e.Interface, d.waysTo(e.Interface, e.Addr), direction)
	if e.Interface.Instance.Kind == estate.Balancer {
		m = m.along(d.handedOn(e.Interface, nil))
	}
	return m
}

// metOn is what becomes of the traffic between an interface and outsiders to whom there are
// ways, as far as to the interface itself.
func (d *Decider) metOn(i *estate.Interface, ways addr.Set, direction estate.Direction) Met {
	ways = ways.Minus(d.OwnAddresses())
	passes, admits, sure := d.filterKnown(i, direction)
	passes, admits = passes.WithPeers(ways), admits.WithPeers(ways)
	if !sure {
		return Met{Undecided: admits}
	}
	return Met{Passes: passes, OneWay: admits.Minus(passes)}
}

// HasWayIn reports whether anybody outside the estate has a way to an end at all.
func (d *Decider) HasWayIn(e End) bool { return !d.waysTo(e.Interface, e.Addr).IsEmpty() }

// Admitting are the peers of whom the filters at an interface admit some of the
// services in a direction, whatever the ways are; where a layer can't be decided,
// of whom the others do.
func (d *Decider) Admitting(i *estate.Interface, direction estate.Direction, services service.Set) addr.Set {
	_, admits, _ := d.filterKnown(i, direction)
	return admits.Peers(services)
}

// MayCome reports whether an end may be seen by a filter as coming from some of the
// addresses: by its own, by a public one of its interface, or by that of a nat.
func (d *Decider) MayCome(e End, from addr.Set) bool {
	if from.Contains(e.Addr) {
		return true
	}
	for _, a := range addressesOf(e.Interface) {
		if addr.Public.Contains(a) && from.Contains(a) {
			return true
		}
	}
	for _, r := range e.Interface.Subnet.Routes {
		if r.Via == estate.ViaNAT && (!r.Address.IsValid() || from.Contains(r.Address)) {
			return true
		}
	}
	return false
}
