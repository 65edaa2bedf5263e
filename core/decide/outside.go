package decide

import (
	"isonomos/core/addr"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/core/traffic"
)

// Met is what becomes of traffic between an end and addresses outside the estate. Traffic in none
// of the sets has no route or is stopped.
type Met struct {
	Passes    traffic.Set
	OneWay    traffic.Set // arrives, but an answer to it is stopped
	Undecided traffic.Set // may arrive: the survey does not say enough
}

// Arrives is the traffic that arrives, answered or not.
func (m Met) Arrives() traffic.Set { return m.Passes.Union(m.OneWay) }

// MeetsOutside is what becomes of traffic between an end and all addresses outside the estate,
// exactly as Flow decides each.
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

// metOn is what becomes of traffic between an interface and given outside addresses that have ways
// to it, without what a balancer hands on.
func (d *Decider) metOn(i *estate.Interface, ways addr.Set, direction estate.Direction) Met {
	ways = ways.Minus(d.OwnAddresses())
	passes, admits, sure := d.filterKnown(i, direction)
	passes, admits = passes.WithPeers(ways), admits.WithPeers(ways)
	if !sure {
		return Met{Undecided: admits}
	}
	return Met{Passes: passes, OneWay: admits.Minus(passes)}
}

// HasWayIn reports whether any address outside the estate has a way to an end.
func (d *Decider) HasWayIn(e End) bool { return !d.waysTo(e.Interface, e.Addr).IsEmpty() }

// Admitting are the peers with whom the filters at an interface admit some of the services in a
// direction, regardless of routes. Layers that can't be decided are ignored.
func (d *Decider) Admitting(i *estate.Interface, direction estate.Direction, services service.Set) addr.Set {
	_, admits, _ := d.filterKnown(i, direction)
	return admits.Peers(services)
}

// MayCome reports whether filters may see an end as one of some addresses: by its own address, by a
// public one of its interface, or by that of a nat route.
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
