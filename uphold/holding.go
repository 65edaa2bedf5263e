package uphold

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"isonomos/core/audit"
	"isonomos/core/estate"
	"isonomos/notify"
	"isonomos/store"
)

// What holds, from when it was found until it is over, and who is told of that.

// A holding is a difference that was found, with when that was.
type holding struct {
	Since   time.Time     `json:"since"`
	Notice  notify.Notice `json:"notice"`
	Kind    string        `json:"kind"`
	Place   string        `json:"place"`
	Law     string        `json:"law,omitempty"`
	Way     string        `json:"direction,omitempty"`
	GroupID string        `json:"group_id,omitempty"`
	Told    []string      `json:"told,omitempty"` // targets: these are told when it is over
	// Why is why nothing is done at a place, and Alarmed that people were told so.
	Why     string `json:"why,omitempty"`
	Alarmed bool   `json:"alarmed,omitempty"`
}

func holdingOf(h store.Held) (*holding, error) {
	x := new(holding)
	if err := json.Unmarshal(h.Body, x); err != nil {
		return nil, fmt.Errorf("what was found in %s can't be read: %w", h.Account, err)
	}
	x.Since = h.Since
	return x, nil
}

// same reports whether two differences are about the same, so that the one follows the other.
func (h *holding) same(o *holding) bool {
	return h.Kind == o.Kind && h.Place == o.Place && h.Law == o.Law && h.Way == o.Way
}

// toldOf are the targets that were told of a difference, so that they are told when it is over, however little that
// matters. The others want to hear of nothing.
func (u *Upholder) toldOf(h *holding) []notify.Target {
	var all []notify.Target
	for _, t := range u.targets() {
		if slices.Contains(h.Told, t.Name) {
			t.Least, t.Only = audit.Info, nil
			all = append(all, t)
		}
	}
	return all
}

// beginHolding adds to a round that something holds from now on, and who is told; with no place it concerns everybody.
func (u *Upholder) beginHolding(round *store.Round, account, key string, h *holding, where ...estate.Place) error {
	telling := h.Notice.Telling(u.targets(), where...)
	h.Told = telling.Targets
	if err := u.noteHolding(round, account, key, h); err != nil {
		return err
	}
	round.Tell = append(round.Tell, telling)
	return nil
}

// noteHolding adds to a round that something holds, and tells nobody.
func (u *Upholder) noteHolding(round *store.Round, account, key string, h *holding) error {
	body, err := json.Marshal(h)
	if err != nil {
		return err
	}
	round.Began = append(round.Began, store.Held{Source: Source, Account: account, Key: key, Since: h.Since,
		Body: body})
	return nil
}

// endHolding adds to a round that something holds no longer, with what is told to those who were told of it.
func (u *Upholder) endHolding(round *store.Round, account, key string, h *holding, n notify.Notice) {
	u.dropHolding(round, account, key)
	since := h.Since.UTC()
	n.Since = &since
	round.Tell = append(round.Tell, n.Telling(u.toldOf(h)))
}

// dropHolding adds to a round that something holds no longer, and tells nobody.
func (u *Upholder) dropHolding(round *store.Round, account, key string) {
	round.Ended = append(round.Ended, store.Held{Source: Source, Account: account, Key: key, Until: u.Now()})
}

// hold records that something holds in an account, and is told.
func (u *Upholder) hold(ctx context.Context, a *account, key string, h *holding) bool {
	a.doing.Lock()
	defer a.doing.Unlock()
	var round store.Round
	if u.beginHolding(&round, a.name, key, h, u.placesIn(a.name, h.Place, h.GroupID)...) != nil || !u.keep(ctx, round) {
		return false
	}
	a.put(key, h)
	return true
}

// placesIn are the places of an account for the conditions of those who are told: of one group, by its full name or
// id, or if that is not known, all of them. There is none if nothing is known of it.
func (u *Upholder) placesIn(account, group, id string) []estate.Place {
	u.mu.Lock()
	a, decided := u.accounts[account], u.decided
	u.mu.Unlock()
	if a == nil {
		return nil
	}
	survey, ok := a.latest()
	if !ok {
		return nil
	}
	head := store.HeadLines("places", time.Unix(0, 0), u.nowReading().Definitions.Estate.Clouds)
	e, _, err := store.ReadSurvey(strings.NewReader(head+string(joined(without(linesOf(survey), "rule")))), a.name)
	if err != nil {
		return nil
	}
	e = decided.AsFound(e, a.name)
	var all []estate.Place
	for _, g := range e.Groups {
		if id != "" && g.ID == id || g.Path() == group {
			return []estate.Place{estate.GroupPlace(g)}
		}
		all = append(all, estate.GroupPlace(g))
	}
	for _, i := range e.Instances {
		for _, f := range i.Interfaces {
			all = append(all, estate.InterfacePlace(f))
		}
	}
	for _, x := range e.Accounts {
		all = append(all, estate.Place{Account: x})
	}
	return all
}
