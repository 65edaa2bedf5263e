package work

import (
	"context"
	"fmt"
	"slices"
	"time"

	"isonomos/core/audit"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/pass"
	"isonomos/core/service"
)

// Offers are what can be lent in some accounts, and what might be and is not.
type Offers struct {
	Offers   []Offer
	Standing []Standing
	Unfit    []Unfit
	At       time.Time
	Names    service.Names
}

// An Offer is a lend of a group.
type Offer struct {
	Group     string
	Lend      string // in words, without its ceiling
	AtMost    time.Duration
	Origin    estate.Origin
	Instances []string
	Open      []pass.Pass // what is open within it now
}

// Standing is administration or data that strangers reach at any time, and that no lend stands for.
type Standing struct {
	Group     string
	Message   string
	Instances []string
}

// An Unfit place is one where lending can't work, with the reason.
type Unfit struct{ Place, Why string }

// Offers finds what can be lent in accounts (empty: all).
func (l Lender) Offers(ctx context.Context, accounts []string) (*Offers, error) {
	if len(accounts) == 0 {
		for _, x := range l.Definitions.Estate.Accounts {
			accounts = append(accounts, x.Name)
		}
	}
	if len(accounts) == 0 {
		return nil, wrong("the definitions name no account")
	}
	v, err := l.Look(ctx, accounts)
	if err != nil {
		return nil, err
	}
	o := &Offers{At: v.At, Names: v.Estate.Services}
	d := decide.New(v.Estate)
	for _, g := range v.Estate.Groups {
		if !slices.Contains(accounts, g.Account.Name) {
			continue
		}
		for i := range g.Lends {
			lend := &g.Lends[i]
			x := Offer{Group: g.Path(), Lend: lend.Sentence(), AtMost: lend.AtMost, Origin: lend.Origin}
			for _, i := range v.instancesOf(g.Path()) {
				x.Instances = append(x.Instances, i.Name)
			}
			for _, f := range v.Found {
				if f.State == pass.Open && f.Lend == lend {
					x.Open = append(x.Open, f.Pass)
				}
			}
			o.Offers = append(o.Offers, x)
			if why := l.unfitLend(v, d, g, lend); why != "" {
				o.Unfit = append(o.Unfit, Unfit{g.Path() + ": " + lend.Sentence(), why})
			}
		}
	}
	l.standing(v, accounts, o)
	return o, nil
}

// unfitLend says why passes of a lend would open nothing, or is empty.
func (l Lender) unfitLend(v *PassView, d *decide.Decider, g *estate.Group, lend *estate.Lend) string {
	if why := v.notOurs(g); why != "" {
		return why
	}
	places := facesOf(v.Estate, &pass.Found{Pass: pass.Pass{Account: g.Account.Name, Group: g.Path()}})
	if len(places) == 0 {
		return "the group is attached to no instance"
	}
	if standing := standingAlready(d, places, d.RuleTraffic(g, &lend.Rule), lend.Direction); standing != "" {
		return standing
	}
	return ""
}

// standing finds what is open to strangers without a lend.
func (l Lender) standing(v *PassView, accounts []string, o *Offers) {
	w := NewWorld(l.Definitions, v.Surveyed)
	found := w.As(Found)
	d := decide.New(found.Estate)
	lent := func(g *estate.Group, services service.Set) bool {
		defined := v.Estate.FindGroup(g.Path())
		return defined != nil && slices.ContainsFunc(defined.Lends, func(l estate.Lend) bool {
			return service.Of(l.Services...).Overlaps(services)
		})
	}
	for _, f := range audit.Run(d, audit.Options{Expects: found.Expects, Laws: found.Laws}).Findings {
		account := f.Account
		var names []string
		for _, i := range f.Instances {
			names = append(names, i.Instance.Path())
			if account == nil {
				account = i.Instance.Account
			}
		}
		if account == nil || !slices.Contains(accounts, account.Name) {
			continue
		}
		switch {
		case f.Check == "unfiltered":
			o.Unfit = append(o.Unfit, Unfit{count.Some(names, 4), "nothing filters there, so all is open"})
		case f.Check != "open-admin-port" && f.Check != "open-data-port" || f.Group == nil || len(names) == 0:
		case !f.Group.Ours():
			o.Unfit = append(o.Unfit, Unfit{count.Some(names, 4), fmt.Sprintf("%s: by %s, which is no group of ours",
				f.Message, f.Group.Path())})
		case !lent(f.Group, f.Services):
			o.Standing = append(o.Standing, Standing{f.Group.Path(), f.Message, names})
		}
	}
}
