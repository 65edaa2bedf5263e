package change

import (
	"cmp"
	"fmt"
	"slices"

	"isonomos/core/compile"
	"isonomos/core/decide"
	"isonomos/core/dialect"
	"isonomos/core/estate"
)

// order divides the pending steps into lanes and orders each of them.
func (p *planner) order() error {
	c := newChecker(p.s, p.aim.Now, p.aim.Then)
	var touched []*estate.Interface
	seen := make(map[*estate.Interface]bool)
	for _, x := range p.pending {
		groups, interfaces, back := p.s.apply(&x.Step)
		for _, i := range p.s.touched(groups, interfaces) {
			if !seen[i] {
				seen[i] = true
				touched = append(touched, i)
			}
		}
		back()
	}
	c.watch(touched)
	lanes := p.lanes(c, touched)
	for _, steps := range lanes {
		lane, err := p.orderLane(c, steps)
		if err != nil {
			return err
		}
		p.plan.Lanes = append(p.plan.Lanes, lane)
	}
	for _, i := range touched {
		b := c.bound(i)
		if t := c.passing(i); !t[in].Equal(b.then[in]) || !t[out].Equal(b.then[out]) {
			return fmt.Errorf("the steps would not lead to what is asked for at %s: this is a mistake of the program",
				i.Instance.Path())
		}
	}
	return nil
}

// lanes divides the pending steps by account. Accounts share a lane if groups of the one refer to
// groups of the other, or if interfaces of the one open what those of the other close.
func (p *planner) lanes(c *checker, touched []*estate.Interface) [][]*pending {
	parent := make(map[*estate.Account]*estate.Account)
	var root func(a *estate.Account) *estate.Account
	root = func(a *estate.Account) *estate.Account {
		if up := parent[a]; up != nil && up != a {
			parent[a] = root(up)
			return parent[a]
		}
		return a
	}
	link := func(a, b *estate.Account) {
		if x, y := root(a), root(b); x != y {
			parent[x] = y
		}
	}
	for named, by := range p.s.named {
		for _, g := range by {
			link(named.Account, g.Account)
		}
	}
	for _, x := range p.pending {
		for i := range x.Rules {
			for _, peer := range x.Rules[i].Peers {
				if peer.Kind == estate.PeerGroup {
					link(x.Account, peer.Group.Account)
				}
			}
		}
		for _, g := range x.Groups { // groups of the account that owns a shared network
			link(x.Account, g.Account)
		}
	}
	c.linked(touched, link)
	place := make(map[*estate.Account]int)
	for i, a := range p.s.e.Accounts {
		place[a] = i
	}
	slices.SortStableFunc(p.pending, func(a, b *pending) int { return cmp.Compare(place[a.Account], place[b.Account]) })
	at := make(map[*estate.Account]int)
	var lanes [][]*pending
	for _, x := range p.pending {
		r := root(x.Account)
		if _, ok := at[r]; !ok {
			at[r] = len(lanes)
			lanes = append(lanes, nil)
		}
		lanes[at[r]] = append(lanes[at[r]], x)
	}
	for _, steps := range lanes {
		slices.SortStableFunc(steps, func(a, b *pending) int { return cmp.Compare(a.phase, b.phase) })
	}
	return lanes
}

// orderLane orders the steps of a lane: by phase, and each as soon as it is safe.
func (p *planner) orderLane(c *checker, steps []*pending) (Lane, error) {
	var lane Lane
	for _, x := range steps {
		if !slices.Contains(lane.Accounts, x.Account) {
			lane.Accounts = append(lane.Accounts, x.Account)
		}
	}
	since := make(map[*estate.Interface]int) // by interface: the step after which something is lacking there
	emit := func(x *pending, j judgement) {
		j.commit()
		x.Opens, x.Closes = j.letsIn, j.shuts
		lane.add(x.Step)
		x.done = true
		if x.ahead != nil {
			x.ahead.done = true
		}
		lane.note(c, since)
	}
	left := steps
	for len(left) > 0 {
		progress := false
		for _, x := range left {
			if !p.eligible(x) {
				continue
			}
			j := c.try(&x.Step)
			if !j.fine() {
				j.undo()
				continue
			}
			emit(x, j)
			progress = true
		}
		left = slices.DeleteFunc(slices.Clone(left), func(x *pending) bool { return x.done })
		if progress || len(left) == 0 {
			continue
		}
		if !p.makeGap(c, left, emit) {
			return lane, p.stuck(c, lane.Accounts, left)
		}
	}
	return lane, nil
}

// bulk is the most rules that are added in one request.
const bulk = 100

// add appends a step. Consecutive additions of rules to one group become one step, in clouds that
// take all of them or none.
func (l *Lane) add(s Step) {
	if n := len(l.Steps) - 1; n >= 0 && s.Do == AddRules && decide.Dialect(s.Account).BulkRules {
		if last := &l.Steps[n]; last.Do == AddRules && last.Group == s.Group && len(last.Rules) < bulk {
			last.Rules = append(slices.Clip(last.Rules), s.Rules...)
			last.Opens, last.Closes = last.Opens || s.Opens, last.Closes || s.Closes
			return
		}
	}
	l.Steps = append(l.Steps, s)
}

// eligible reports whether the cloud would accept a step now.
func (p *planner) eligible(x *pending) bool {
	return !x.done && (x.after == nil || x.after.done) && p.s.ready(&x.Step) && p.s.withinQuota(&x.Step)
}

// makeGap is called where no step is safe. It applies the step that stops least of what both states
// let through: among those that open nothing, the first that affects the fewest interfaces. It
// reports whether there is one.
func (p *planner) makeGap(c *checker, left []*pending, emit func(*pending, judgement)) bool {
	var best *pending
	fewest := 0
	for _, x := range left {
		if !p.eligible(x) {
			continue
		}
		j := c.try(&x.Step)
		if n := len(j.lacks); !j.opens && (best == nil || n < fewest) {
			best, fewest = x, n
		}
		j.undo()
	}
	if best == nil {
		return false
	}
	emit(best, c.try(&best.Step))
	return true
}

// note keeps the lane's gaps up to date: where something begins to be lacking, and where that ends.
func (l *Lane) note(c *checker, since map[*estate.Interface]int) {
	if len(c.lacking) == 0 && len(since) == 0 {
		return
	}
	n := len(l.Steps)
	var begins []*estate.Interface
	for i := range c.lacking {
		if since[i] == 0 {
			since[i] = n
			begins = append(begins, i)
		}
	}
	slices.SortFunc(begins, func(a,
		b *estate.Interface) int {
		return cmp.Compare(a.Instance.Path()+a.ID, b.Instance.Path()+b.ID)
	})
	if len(begins) > 0 {
		l.Gaps = append(l.Gaps, Gap{From: n, Interfaces: begins, Traffic: *c.lacking[begins[0]]})
	}
	for i, from := range since {
		if c.lacking[i] != nil {
			continue
		}
		delete(since, i)
		for k := range l.Gaps {
			if l.Gaps[k].From == from {
				l.Gaps[k].To = max(l.Gaps[k].To, n)
			}
		}
	}
}

// stuck says why no step can be carried out.
func (p *planner) stuck(c *checker, accounts []*estate.Account, left []*pending) error {
	e := &StuckError{Accounts: accounts, Why: "each waits for another"}
	for _, x := range left {
		e.Steps = append(e.Steps, x.Step)
		if id := p.had(x.object()); !slices.Contains(e.objects, id) {
			e.objects = append(e.objects, id)
		}
		switch {
		case !p.s.ready(&x.Step):
		case !p.s.withinQuota(&x.Step):
			e.Why = fmt.Sprintf("the quota of %s leaves no room", quotaOf(&x.Step))
		default:
			e.Why = "each would let through, for a while, what is let through neither before nor after"
		}
	}
	return e
}

// had is the id that an object had before if it is made again, or else the one that it has.
func (p *planner) had(id string) string {
	for _, x := range p.pending {
		if x.Replaces != "" && x.object() == id {
			return x.Replaces
		}
	}
	return id
}

// quotaOf names what the quota of a step is about.
func quotaOf(x *Step) string {
	if x.Do == AddRules {
		return x.Group.Path()
	}
	return "the account " + x.Account.Name
}

// withinQuota reports whether the account has room for what a step adds.
func (s *state) withinQuota(x *Step) bool {
	if x.Do == CreateGroup {
		groups, rules := s.inAccount(x.Account)
		return within(x.Account, dialect.LimitGroups, groups+1) &&
			within(x.Account, dialect.LimitRules, rules+len(x.Group.Rules))
	}
	if x.Do != AddRules {
		return true
	}
	if x.Account.Limits[dialect.LimitRules] > 0 {
		if _, rules := s.inAccount(x.Account); !within(x.Account, dialect.LimitRules, rules+len(x.Rules)) {
			return false
		}
	}
	grown := *x.Group
	grown.Rules = append(slices.Clip(x.Group.Rules), x.Rules...)
	dl := decide.Dialect(x.Account)
	return !compile.QuotaOf(dl, x.Group).Over(compile.GroupCost(dl, &grown, estate.In),
		compile.GroupCost(dl, &grown, estate.Out))
}

// inAccount counts the groups and rules of an account.
func (s *state) inAccount(a *estate.Account) (groups, rules int) {
	if a.Limits[dialect.LimitGroups] == 0 && a.Limits[dialect.LimitRules] == 0 {
		return 0, 0
	}
	for what := range s.here {
		if g, ok := what.(*estate.Group); ok && s.here[g] && g.Account == a {
			groups, rules = groups+1, rules+len(g.Rules)
		}
	}
	return groups, rules
}

// within reports whether a number is within an account's quota, if it has one.
func within(a *estate.Account, limit string, n int) bool {
	most := a.Limits[limit]
	return most == 0 || n <= most
}
