package uphold

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"maps"
	"strings"
	"time"

	"isonomos/core/audit"
	"isonomos/enact"
	"isonomos/notify"
	"isonomos/store"
)

// What is noted beside differences: places at which nothing is done, and why.

// Keys under which it is noted why something is not put back.
const (
	leftKey  = "left "
	handsKey = "hands-off "
)

// HandsOffLabel is the label of a group that is left alone until the time that it holds.
const HandsOffLabel = "isonomos-hands-off"

// noteLeft notes at which places nothing is done and why, and tells alarms. If these are all, it is noted of the others
// that they are left alone no longer.
func (u *Upholder) noteLeft(ctx context.Context, a *account, places map[string]*left, all bool) {
	a.doing.Lock()
	defer a.doing.Unlock()
	var round store.Round
	a.mu.Lock()
	held := maps.Clone(a.held)
	a.mu.Unlock()
	now := u.Now()
	for place, x := range places {
		key := leftKey + place
		h := held[key]
		if h != nil && h.Why == x.why && (h.Alarmed || !x.alarm) {
			continue
		}
		n := u.notice(notify.SteppedBack, audit.High, "%s", x.why)
		n.Account, n.Place, n.See, n.Undo = a.name, place, cmp.Or(x.see, u.Say("uphold", "status")), x.resume
		next := &holding{Since: now, Kind: notify.SteppedBack, Place: place, GroupID: x.group, Notice: n, Why: x.why,
			Alarmed: x.alarm}
		if h != nil {
			next.Since, next.Told = h.Since, h.Told
			next.Alarmed = next.Alarmed || h.Alarmed
		}
		if x.alarm && (h == nil || !h.Alarmed) {
			if u.beginHolding(&round, a.name, key, next, u.placesIn(a.name, place, x.group)...) != nil {
				continue
			}
			u.logDifference(n)
		} else if u.noteHolding(&round, a.name, key, next) != nil {
			continue
		}
		held[key] = next
	}
	for key, h := range held {
		if place, is := strings.CutPrefix(key, leftKey); is && all && places[place] == nil {
			delete(held, key)
			if !h.Alarmed {
				u.dropHolding(&round, a.name, key)
				continue
			}
			n := u.notice(notify.Resolved, audit.Info, "it is no longer left alone")
			n.Account, n.Place = a.name, place
			u.endHolding(&round, a.name, key, h, n)
			u.logDifference(n)
		}
	}
	if len(round.Began)+len(round.Ended) == 0 || !u.keep(ctx, round) {
		return
	}
	a.mu.Lock()
	a.held = held
	a.mu.Unlock()
}

// noteHandsOff notes groups whose labels say that they are to be left alone, when that begins and when it ends. It is
// called while the account is judged.
func (u *Upholder) noteHandsOff(ctx context.Context, a *account, lines []line) {
	u.mu.Lock()
	upheld, now, knows := u.runs.Upheld, u.Now(), u.runs.Knows
	u.mu.Unlock()
	a.mu.Lock()
	held := maps.Clone(a.held)
	a.mu.Unlock()
	active := make(map[string]bool)
	var round store.Round
	for _, l := range lines {
		var o struct {
			Name, Network string
			Labels        map[string]string
		}
		if l.kind != "group" || !bytes.Contains(l.text, []byte(HandsOffLabel)) || !knows.Has(a.name, "group", l.id) ||
			json.Unmarshal(l.text, &o) != nil || o.Labels[HandsOffLabel] == "" {
			continue
		}
		place, key := placeIn(a.name, o.Network, o.Name, lines), handsKey+l.id
		until, anew, why := upheld.HandsOffUntil(a.name, l.id, o.Labels[HandsOffLabel], now)
		if !until.After(now) {
			if held[key] == nil {
				u.Log.Debug("the label does not count", "place", place, "label", HandsOffLabel, "why", why)
			}
			continue
		}
		active[key] = true
		if anew {
			if _, err := u.Store.Append(now, enact.UpholdRun, enact.HandsOff, enact.HandsOffed{Account: a.name,
				ID:    l.id,
				Group: place, Until: until}); err != nil {
				u.Log.Error("the journal can't be written, so the group is not left alone", "place", place,
					"problem", err)
				continue
			}
		}
		if held[key] != nil {
			continue
		}
		n := u.notice(notify.HandsOff, audit.High, "nothing is put back there until %s: its label %s says so",
			until.UTC().Format(time.RFC3339), HandsOffLabel)
		n.Account, n.Place, n.See = a.name, place, u.Say("uphold", "status")
		h := &holding{Since: now, Kind: notify.HandsOff, Place: place, GroupID: l.id, Notice: n}
		if u.beginHolding(&round, a.name, key, h, u.placesIn(a.name, place, l.id)...) != nil {
			continue
		}
		held[key] = h
		u.logDifference(n)
		time.AfterFunc(until.Sub(now)+time.Second, func() { u.judgeWhole(a) })
	}
	for key, h := range held {
		if !strings.HasPrefix(key, handsKey) || active[key] {
			continue
		}
		n := u.notice(notify.HandsOff, audit.Info, "it is left alone no longer: what was decided is put back "+
			"there again")
		n.Account, n.Place = a.name, h.Place
		u.endHolding(&round, a.name, key, h, n)
		delete(held, key)
		u.logDifference(n)
	}
	if len(round.Began)+len(round.Ended) > 0 && u.keep(ctx, round) {
		a.mu.Lock()
		a.held = held
		a.mu.Unlock()
	}
}

// placeIn is the full name of a group, given the id of its network.
func placeIn(account, network, name string, lines []line) string {
	for _, l := range lines {
		var o struct{ Name string }
		if network != "" && l.kind == "network" && l.id == network && json.Unmarshal(l.text, &o) == nil {
			return account + "/" + o.Name + "/" + name
		}
	}
	return account + "/" + name
}

// isAside reports whether what is held under a key is no difference, and stays whatever is judged.
func isAside(key string) bool {
	return key == blindKey || strings.HasPrefix(key, leftKey) || strings.HasPrefix(key, handsKey)
}
