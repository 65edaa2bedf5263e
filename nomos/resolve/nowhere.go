package resolve

import (
	"time"

	"isonomos/core/estate"
	"isonomos/nomos/syntax"
)

// Statements that take effect nowhere are resolved all the same: a pattern that nobody uses, rules
// under a condition that holds nowhere, a group without a network. Otherwise a mistake in them
// would only be found on the day on which they do take effect.

// nowhere resolves statements that took effect nowhere. A name that several things have is
// accepted: which of them is meant would depend on the place.
func (r *resolver) nowhere() {
	r.anywhere = true
	defer func() { r.anywhere = false }()
	for _, d := range r.patternDecls {
		p := r.patterns[d.node.Name.Text]
		if p == nil || p.broken || p.node != d.node {
			continue
		}
		r.file = d.file
		x := setting{group: noGroup(), params: make(map[string]binding, len(d.node.Params))}
		for _, q := range d.node.Params {
			x.params[q.Name.Text] = something(q.Type.Text)
			if q.Default != nil {
				r.argument(q, *q.Default, setting{group: x.group})
			}
		}
		r.stoodNowhere(d.node.Rules, p.used, x)
	}
	stands := make(map[*syntax.Group]bool, len(r.groupDecls))
	for _, b := range r.bodies {
		stands[b.node] = true
	}
	for _, d := range r.groupDecls {
		r.file = d.file
		r.stoodNowhere(d.node.Body, stands[d.node], setting{group: noGroup()})
	}
	for _, d := range r.baselineDecls {
		r.file = d.file
		r.use(d.node.Use, setting{group: noGroup()})
	}
}

// stoodNowhere resolves statements that took effect nowhere, or if they did, those inside them that
// did not.
func (r *resolver) stoodNowhere(stmts []syntax.Stmt, stood bool, x setting) {
	for _, s := range stmts {
		where, ok := s.(*syntax.Where)
		switch {
		case ok:
			r.placeCondition(where.Condition)
			r.stoodNowhere(where.Rules, stood && r.stood[where], x)
		case !stood:
			r.ruleStmt(s, x)
		}
	}
}

// noGroup is a group that is in no network.
func noGroup() *estate.Group {
	account := &estate.Account{Cloud: &estate.Cloud{}}
	return &estate.Group{Account: account, Network: &estate.Network{Account: account}, For: estate.ForInstances}
}

// something is a value of a parameter's kind with which every rule is valid.
func something(kind string) binding { return binding{kind: kind, number: 1, duration: time.Hour} }
