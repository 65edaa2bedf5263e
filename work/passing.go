package work

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"isonomos/core/addr"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/near"
	"isonomos/core/pass"
	"isonomos/core/service"
	"isonomos/core/traffic"
	"isonomos/enact"
	"isonomos/store"
	"isonomos/words"
)

// A PassRequest asks for a pass.
type PassRequest struct {
	Group   string
	Service string        // empty means all that the one lend lends
	To      string        // an address, a range, a list, a group, or "me"
	For     time.Duration // 0 means the lend's ceiling
	Because string
	On      string // an instance
}

// Me stands for the address under which the cloud sees the caller.
const Me = "me"

// An Issued pass is open.
type Issued struct {
	Pass     pass.Pass
	Lend     *estate.Lend
	Arrivals []Arrival
	Shared   string // the pass whose rule it shares; empty if it has one of its own
	Steps    int
	Stateful bool // connections that were made meanwhile can go on after the end
	Services service.Names
}

// An Arrival is what becomes of one flow that a pass is for.
type Arrival struct {
	Instance string
	Flow     string // "203.0.113.9 → berth-1 ssh"
	Arrives  bool
	Why      string // what decides
}

// mostApart is how far clocks may be apart when a pass is issued.
const mostApart = time.Minute

// Issue opens what a request asks for, within the lends of the group. The journal has its end before anything is
// opened. After an enact.StoppedError it may be open: the next command that writes shuts it.
func (l Lender) Issue(ctx context.Context, q PassRequest) (*Issued, error) {
	g, err := l.definedGroup(q.Group)
	if err != nil {
		return nil, err
	}
	if len(g.Lends) == 0 {
		return nil, wrong("%s lends nothing: write what may be lent into its definition (lend ssh to … for at most 2h)",
			g.Path())
	}
	if strings.TrimSpace(q.Because) == "" {
		return nil, wrong("say why it is needed")
	}
	var issued *Issued
	_, d, err := l.settle(ctx, g.Account.Name, false, func(v *PassView) (*passChange, error) {
		if err := v.clocksAgree(g.Account.Name); err != nil {
			return nil, err
		}
		f, err := l.fitting(v, g.Path(), q)
		if err != nil {
			return nil, err
		}
		issued = &Issued{Pass: f.Pass, Lend: f.Lend, Services: v.Estate.Services}
		return &passChange{add: f, opened: f.ID,
			check: func(v *PassView, c lendingCheck) error { return l.checkIssued(v, c, f, issued) },
			before: func(run string) error {
				_, err := l.Store.Append(l.Now(), run, enact.PassIssued, enact.IssuedOf(&f.Pass))
				return err
			}}, nil
	})
	if err != nil {
		return issued, err
	}
	issued.Steps = d.Steps()
	return issued, nil
}

// definedGroup is the defined group of instances that a name means.
func (l Lender) definedGroup(name string) (*estate.Group, error) {
	all := *l.Definitions.Estate
	all.Groups = slices.DeleteFunc(slices.Clone(all.Groups), func(g *estate.Group) bool {
		return g.Existing || g.For != estate.ForInstances
	})
	g, err := World{Estate: &all}.Group(name)
	if err != nil {
		return nil, wrong("%w", err)
	}
	return g, nil
}

// clocksAgree refuses to issue anything while it is not known what time it is.
func (v *PassView) clocksAgree(account string) error {
	apart := func(what string, other time.Time) error {
		difference := v.Own.Sub(other).Abs().Truncate(time.Second)
		if difference <= mostApart {
			return nil
		}
		return refused("the clock of this machine (%s) and %s (%s) are %s apart: nothing is lent until they agree",
			v.Own.UTC().Format(time.RFC3339), what, other.UTC().Format(time.RFC3339), count.Lasting(difference))
	}
	if date := v.Callers[account].Date; !date.IsZero() {
		if err := apart("the cloud's", date); err != nil {
			return err
		}
	}
	if v.Latest.After(v.Own) { // the clock was set back
		return apart("the journal's latest entry", v.Latest)
	}
	return nil
}

// fitting is the pass that a request asks for, or the error says which bound it breaks.
func (l Lender) fitting(v *PassView, group string, q PassRequest) (*pass.Found, error) {
	g := groupNamed(v.Estate, group)
	if g == nil || g.ID == "" {
		return nil, refused("%s is not in the cloud yet: carry its definition out first", group)
	}
	d := decide.New(v.Estate)
	peer, err := l.peerOf(v, g, q.To)
	if err != nil {
		return nil, err
	}
	var specs []service.Spec
	if q.Service != "" {
		if specs, err = specsOf(v.Estate, q.Service); err != nil {
			return nil, err
		}
	}
	var fits []*estate.Lend
	var broken []string
	var longest time.Duration
	for i := range g.Lends {
		lend := &g.Lends[i]
		r := estate.Rule{Direction: lend.Direction, Action: estate.Admit, Peers: []estate.Peer{peer}, Services: specs}
		if specs == nil {
			r.Services = lend.Services
		}
		if !service.Of(r.Services...).SubsetOf(service.Of(lend.Services...)) {
			broken = append(broken, fmt.Sprintf("%s is not among what is lent", q.Service))
			continue
		}
		asked, most := d.Peers(g, &r, nil), d.Peers(g, &lend.Rule, nil)
		if asked.IsEmpty() {
			return nil, wrong("%s has no address: nothing can be lent to it", q.To)
		}
		if !asked.SubsetOf(most) {
			to := q.To
			if to == Me {
				to += " (" + asked.String() + ")"
			}
			broken = append(broken, fmt.Sprintf("%s is wider than %s allows: at most %s", to,
				estate.PeerWords(lend.Peers), atMost(asked, most)))
			continue
		}
		if _, err := lasting(lend.AtMost, q.For); errors.Is(err, errTooLong) {
			broken = append(broken, fmt.Sprintf("%s is longer than its ceiling: at most %s", count.Duration(q.For),
				count.Duration(lend.AtMost)))
			longest = max(longest, lend.AtMost)
			continue
		} else if err != nil {
			return nil, err
		}
		fits = append(fits, lend)
	}
	if len(fits) == 0 {
		return nil, wrong("%s\n%s", strings.Join(unique(broken), "\n"), lendsOf(g))
	}
	if len(fits) > 1 && specs == nil {
		return nil, wrong("several lends fit: say which service\n%s", lendsOf(g))
	}
	lend := fits[0]
	for _, x := range fits {
		if x.AtMost > lend.AtMost {
			lend = x
		}
	}
	lasts, err := lasting(lend.AtMost, q.For)
	if err != nil {
		return nil, err
	}
	if specs == nil {
		specs = lend.Services
	}
	now := v.At.UTC().Truncate(time.Second)
	p := pass.Pass{ID: l.newID(v, g.Path()), Account: g.Account.Name, Group: g.Path(), Opened: now,
		Until: now.Add(lasts), AtMost: lend.AtMost, Because: q.Because, By: l.By}
	o := pass.Opening{Direction: lend.Direction, Peers: []string{pass.PeerWords(peer)}}
	for _, s := range specs {
		o.Services = append(o.Services, s.String())
	}
	p.Openings = []pass.Opening{o}
	if q.On != "" {
		if p.On, err = v.instanceOn(g, q.On); err != nil {
			return nil, err
		}
	}
	return &pass.Found{Pass: p, State: pass.Open, Lend: lend, Known: true}, nil
}

func (l Lender) newID(v *PassView, group string) string {
	for {
		if id := pass.NewID(l.Definitions.Estate.Name, group); v.Known[id] == nil {
			return id
		}
	}
}

func unique(texts []string) []string {
	var all []string
	for _, t := range texts {
		if !slices.Contains(all, t) {
			all = append(all, t)
		}
	}
	return all
}

// lendsOf lists what a group lends, for whoever asked for something else.
func lendsOf(g *estate.Group) string {
	text := g.Path() + " lends:"
	for i := range g.Lends {
		l := &g.Lends[i]
		text += fmt.Sprintf("\n  %s for at most %s (%s:%d)", l.Sentence(), count.Duration(l.AtMost), l.Origin.File,
			l.Origin.Line)
	}
	return text
}

// atMost says what is allowed of what was asked, or else what is allowed at all.
func atMost(asked, most addr.Set) string {
	both := asked.Intersect(most)
	if both.IsEmpty() {
		both = most
	}
	const shown = 6
	var texts []string
	for _, p := range both.Prefixes() {
		texts = append(texts, addr.PrefixString(p))
	}
	if len(texts) == 0 {
		return "nobody"
	}
	return count.Some(texts, shown)
}

func groupNamed(e *estate.Estate, path string) *estate.Group {
	i := slices.IndexFunc(e.Groups, func(g *estate.Group) bool { return g.Path() == path })
	if i < 0 {
		return nil
	}
	return e.Groups[i]
}

// peerOf is whom a pass is to be for.
func (l Lender) peerOf(v *PassView, g *estate.Group, text string) (estate.Peer, error) {
	if text == Me {
		a := v.Callers[g.Account.Name].Address
		if !a.IsValid() {
			return estate.Peer{}, wrong("the cloud %s does not say from which address it sees you: give the address "+
				"instead of %s", g.Account.Cloud.Name, Me)
		}
		return estate.Peer{Kind: estate.PeerRange, Range: netip.PrefixFrom(a, a.BitLen())}, nil
	}
	if r, err := store.ParseRange(text); err == nil {
		return estate.Peer{Kind: estate.PeerRange, Range: r.Masked()}, nil
	}
	var names []string
	bare := strings.TrimPrefix(strings.TrimPrefix(text, "list "), "group ")
	for _, x := range v.Estate.Lists {
		if x.Defined {
			names = append(names, x.Name)
		}
		if x.Defined && x.Name == bare && !strings.HasPrefix(text, "group ") {
			return estate.Peer{Kind: estate.PeerList, List: x}, nil
		}
	}
	var groups []*estate.Group
	for _, x := range v.Estate.FindGroups(bare) {
		if x.Defined && x.For == estate.ForInstances && !strings.HasPrefix(text, "list ") {
			groups = append(groups, x)
		}
	}
	switch len(groups) {
	case 1:
		return estate.Peer{Kind: estate.PeerGroup, Group: groups[0]}, nil
	case 0:
	default:
		return estate.Peer{}, wrong("several groups are called %q: write %s or %s", text, groups[0].Path(),
			groups[1].Path())
	}
	for _, x := range v.Estate.Groups {
		if x.Defined {
			names = append(names, x.Name)
		}
	}
	if best, ok := near.Best(bare, names); ok {
		return estate.Peer{}, wrong("nothing is called %q: %q is near", text, best)
	}
	return estate.Peer{}, wrong("%q is no address or range, and neither a list nor a group of the definitions", text)
}

// specsOf are the services that a text names.
func specsOf(e *estate.Estate, text string) ([]service.Spec, error) {
	var specs []service.Spec
	for name := range strings.SplitSeq(text, ",") {
		name = strings.TrimSpace(name)
		if n, ok := e.Services.Lookup(name); ok {
			specs = append(specs, n.Specs...)
			continue
		}
		spec, err := service.ParseSpec(name)
		if err != nil {
			return nil, noService(e, name)
		}
		specs = append(specs, spec)
	}
	return specs, nil
}

// instanceOn is the id of an instance that a group is attached to.
func (v *PassView) instanceOn(g *estate.Group, name string) (string, error) {
	var names []string
	for _, i := range v.instancesOf(g.Path()) {
		if names = append(names, i.Name); i.Name == name || i.Path() == name || i.ID == name {
			return i.ID, nil
		}
	}
	if err := Known("instance of "+g.Path(), []string{name}, names); err != nil {
		return "", err
	}
	return "", nil
}

// checkIssued refuses a pass that would break a law, is needless, or would open nothing that arrives.
func (l Lender) checkIssued(v *PassView, c lendingCheck, f *pass.Found, issued *Issued) error {
	if broken := l.newBreaches(v, c); len(broken) > 0 {
		return refused("%s; no exemption covers it", strings.Join(broken, "; "))
	}
	then, bare := decide.New(c.aim.Then), decide.New(c.bare)
	places := facesOf(c.aim.Then, f)
	if len(places) == 0 {
		return refused("%s is attached to no instance: the pass would open nothing", f.Group)
	}
	g := groupNamed(c.aim.Then, f.Group)
	var set traffic.Set
	for _, o := range f.Openings {
		r, err := o.Rule(v.Estate, "")
		if err != nil {
			return err
		}
		d := decide.New(v.Estate)
		set = set.Union(d.RuleTraffic(groupNamed(v.Estate, f.Group), &r))
	}
	direction := f.Openings[0].Direction
	if standing := standingAlready(bare, facesOf(c.bare, f), set, direction); standing != "" {
		return refused("the pass would be pointless: %s", standing)
	}
	issued.Arrivals = arrivals(then, f, places, set, direction)
	some := slices.ContainsFunc(issued.Arrivals, func(a Arrival) bool { return a.Arrives })
	if !some && len(issued.Arrivals) > 0 {
		a := issued.Arrivals[0]
		return refused("the pass would open nothing that arrives: %s: %s", a.Flow, a.Why)
	}
	issued.Stateful = g == nil || decide.KeepsState(g, &estate.Rule{})
	for _, other := range v.Found {
		if other.State == pass.Open && other.Same(&f.Pass) {
			issued.Shared = other.ID
		}
	}
	return nil
}

// facesOf are the interfaces at which a pass opens.
func facesOf(e *estate.Estate, f *pass.Found) []*estate.Interface {
	var all []*estate.Interface
	for _, i := range e.Instances {
		if f.On != "" && (i.ID != f.On || i.Account.Name != f.Account) {
			continue
		}
		for _, x := range i.Interfaces {
			if slices.ContainsFunc(x.Groups, func(g *estate.Group) bool { return g.Path() == f.Group }) {
				all = append(all, x)
			}
		}
	}
	return all
}

// standingAlready names the rule that lets all of a pass through without it, or is empty.
func standingAlready(d *decide.Decider, places []*estate.Interface, set traffic.Set,
	direction estate.Direction) string {
	for _, i := range places {
		if !set.SubsetOf(d.FilterTraffic(i, direction)) {
			return ""
		}
	}
	if len(places) == 0 {
		return ""
	}
	w, _ := set.Witness()
	for _, g := range slices.Concat(d.GroupsAt(places[0]), d.GroupsOfSubnet(places[0].Subnet)) {
		for _, r := range d.InOrder(g, direction) {
			if r.Action == estate.Admit && d.RuleTraffic(g, r).Contains(w.Peer, w.Service) {
				return fmt.Sprintf("%q of %s lets it through already", r.Sentence(d.Estate().Services), g.Path())
			}
		}
	}
	return "it is let through already, since nothing filters there"
}

// mostTraced bounds how many flows of a pass are decided one by one.
const mostTraced = 40

// arrivals decides flows that a pass is for: a peer of each kind, each service, each instance.
func arrivals(d *decide.Decider, f *pass.Found, places []*estate.Interface, set traffic.Set,
	direction estate.Direction) []Arrival {
	var all []Arrival
	for _, b := range set.Bands() {
		for _, peer := range examplePeers(b.Peers) {
			for _, i := range places {
				if len(all) == mostTraced {
					return all
				}
				q := decide.Question{Source: peer.String(), Destination: i.Instance.Path(), Service: b.From}
				if direction == estate.Out {
					q.Source, q.Destination = q.Destination, q.Source
				}
				all = append(all, arrival(d, i.Instance, q))
			}
		}
	}
	return all
}

func arrival(d *decide.Decider, i *estate.Instance, q decide.Question) Arrival {
	names := d.Estate().Services
	a := Arrival{Instance: i.Path(), Flow: fmt.Sprintf("%s → %s %s", q.Source, q.Destination,
		names.Describe(service.Between(q.Service, q.Service)))}
	answer, err := d.Trace(q)
	if err != nil {
		a.Why = err.Error()
		return a
	}
	a.Arrives = answer.Verdict == decide.Passes || answer.Verdict == decide.OneWay
	if answer.Verdict != decide.Passes {
		a.Why = words.Why(d.Estate(), answer.Why())
	}
	return a
}

// examplePeers are some addresses of a set, of both families if it has them.
func examplePeers(set addr.Set) []netip.Addr {
	var all []netip.Addr
	for _, f := range []addr.Family{addr.IPv4, addr.IPv6} {
		if a, ok := set.Only(f).First(); ok {
			all = append(all, a)
		}
	}
	return all
}

// ErrEnded says that a pass is shut already.
var ErrEnded = errors.New("has ended already")

// endedAlready is the error of asking for something of a pass that has ended.
func endedAlready(k *pass.Known) error {
	return wrong("the pass %s %w, at %s: %s", k.ID, ErrEnded, k.Ended.UTC().Format(time.RFC3339), k.Why)
}

// A Shut is a pass that was ended, or was to be.
type Shut struct {
	ID, Group, Why string
	There          bool // something of it stood in the cloud
}

// An Ending says which passes are to be shut: those with the given ids, all, or just those that are over.
type Ending struct {
	IDs []string
	All bool
	Why string // for the journal
}

// End shuts passes now. Whatever is over in the accounts of these is shut too.
func (l Lender) End(ctx context.Context, which Ending) ([]Shut, error) {
	ids, all := which.IDs, which.All
	known, order, _, err := enact.Passes(l.Store.Journal)
	if err != nil {
		return nil, refused("%w", err)
	}
	accounts := l.passAccounts(known)
	var unknown []string
	if len(ids) > 0 {
		accounts = nil
		for _, id := range ids {
			k := known[id]
			switch {
			case k == nil:
				unknown = append(unknown, id)
			case !k.Ended.IsZero():
				return nil, endedAlready(k)
			case !slices.Contains(accounts, k.Account):
				accounts = append(accounts, k.Account)
			}
		}
		if len(unknown) > 0 { // issued from elsewhere, or the journal is lost: the clouds may know it
			accounts = l.passAccounts(known)
		}
	}
	if len(ids) == 0 || len(unknown) > 0 { // one look at all says where there is something to do
		if accounts, err = l.withPasses(ctx, accounts); err != nil {
			return nil, err
		}
	}
	var shut []Shut
	met := make(map[string]bool)
	for _, account := range accounts {
		v, _, err := l.settle(ctx, account, false, func(v *PassView) (*passChange, error) {
			c := &passChange{end: make(map[string]string)}
			for _, f := range v.Found {
				if f.Account == account && (all || slices.Contains(ids, f.ID)) && v.ended(f) == "" {
					c.end[f.ID] = which.Why
				}
			}
			for _, id := range order {
				if k := known[id]; k.Account == account && k.Ended.IsZero() && (all || slices.Contains(ids, id)) {
					if c.end[id] = which.Why; !k.Until.After(v.At) {
						c.end[id] = "over"
					}
				}
			}
			return c, nil
		})
		if v != nil {
			for _, id := range ids {
				met[id] = met[id] || v.Known[id] != nil
			}
			for _, f := range v.Found {
				met[f.ID] = true
			}
		}
		if err != nil {
			return shut, err
		}
		shut = append(shut, v.shutOf(account, ids, all)...)
	}
	for _, id := range unknown {
		if !met[id] {
			var names []string
			for id, k := range known {
				if k.Ended.IsZero() {
					names = append(names, id)
				}
			}
			if best, ok := near.Best(id, names); ok {
				return shut, wrong("no pass is called %q: %s is near", id, best)
			}
			return shut, wrong("no pass is called %q, neither in the journal nor in the clouds", id)
		}
	}
	return shut, nil
}

// withPasses are those of accounts in which there is a pass, or should be one.
func (l Lender) withPasses(ctx context.Context, accounts []string) ([]string, error) {
	if len(accounts) == 0 {
		return nil, nil
	}
	v, err := l.Look(ctx, accounts)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(slices.Clone(accounts), func(account string) bool {
		found := slices.ContainsFunc(v.Found, func(f *pass.Found) bool { return f.Account == account })
		for _, k := range v.Known {
			found = found || k.Account == account && k.Ended.IsZero()
		}
		return !found
	}), nil
}

// shutOf are the passes of an account that a change has ended.
func (v *PassView) shutOf(account string, ids []string, all bool) []Shut {
	var shut []Shut
	found := make(map[string]bool)
	for _, f := range v.Found {
		found[f.ID] = true
		why := v.ended(f)
		if why == "" && (all || slices.Contains(ids, f.ID)) {
			why = "ended"
		}
		if f.Account == account && why != "" {
			shut = append(shut, Shut{f.ID, f.Group, why, true})
		}
	}
	for _, id := range v.Order {
		k := v.Known[id]
		switch {
		case found[id] || k.Account != account || !k.Ended.IsZero():
		case all || slices.Contains(ids, id):
			shut = append(shut, Shut{id, k.Group, "ended", false})
		case !k.Until.After(v.At):
			shut = append(shut, Shut{id, k.Group, "over", false})
		}
	}
	return shut
}

// Sweep shuts what is over in an account that is locked already. It reports how many passes that were.
func (l Lender) Sweep(ctx context.Context, account string) (int, error) {
	v, _, err := l.settle(ctx, account, true, func(*PassView) (*passChange, error) { return &passChange{}, nil })
	if err != nil {
		return 0, err
	}
	return len(v.shutOf(account, nil, false)), nil
}

// Extend gives a pass a later end: counted from now, and never past its ceiling, which counts from its first opening.
// anew reports whether it was shut for a moment, since its cloud takes no second rule that says the same.
func (l Lender) Extend(ctx context.Context, id string, by time.Duration) (p *pass.Pass, anew bool, err error) {
	known, _, _, err := enact.Passes(l.Store.Journal)
	if err != nil {
		return nil, false, refused("%w", err)
	}
	k := known[id]
	switch {
	case k == nil:
		var names []string
		for id, k := range known {
			if k.Ended.IsZero() {
				names = append(names, id)
			}
		}
		if best, ok := near.Best(id, names); ok {
			return nil, false, wrong("no pass is called %q: %s is near", id, best)
		}
		return nil, false, wrong("no pass is called %q in the journal: only what was issued from here can be "+
			"extended", id)
	case !k.Ended.IsZero():
		return nil, false, endedAlready(k)
	}
	if by < time.Second {
		return nil, false, wrong("a pass is extended by at least a second")
	}
	_, d, err := l.settle(ctx, k.Account, false, func(v *PassView) (*passChange, error) {
		if err := v.clocksAgree(k.Account); err != nil {
			return nil, err
		}
		var f *pass.Found
		for _, x := range v.stays(k.Account, &passChange{}) {
			if x.ID == id {
				f = x
			}
		}
		if f == nil {
			return nil, refused("the pass %s %w: issue another one", id, errNotThere)
		}
		later := *f
		later.Until = v.At.UTC().Truncate(time.Second).Add(by.Truncate(time.Second))
		if most := f.Opened.Add(f.Lend.AtMost); later.Until.After(most) {
			return nil, wrong("%s from now is past the ceiling: %s was opened at %s, for at most %s, so until %s",
				count.Duration(by), id, f.Opened.UTC().Format(time.RFC3339), count.Duration(f.Lend.AtMost),
				most.UTC().Format(time.RFC3339))
		}
		if !later.Until.After(f.Until) {
			return nil, wrong("the pass %s is open until %s already, which is later", id,
				f.Until.UTC().Format(time.RFC3339))
		}
		p = &later.Pass
		return &passChange{extend: map[string]*pass.Found{id: &later}, opened: id,
			before: func(run string) error {
				_, err := l.Store.Append(l.Now(), run, enact.PassExtended,
					enact.PassNote{ID: id, Until: later.Until, By: l.By})
				return err
			}}, nil
	})
	if d != nil {
		anew = d.Gaps() > 0
	}
	return p, anew, err
}

// A Listed pass is one that is open, or was.
type Listed struct {
	pass.Pass
	State  pass.State // "" if it has ended
	Gone   bool       // the journal has it as open, and nothing of it is in the cloud
	Shared bool       // it has no rule of its own
	Known  bool
	Ended  time.Time
	Why    string
	Names  service.Names
}

// List are the passes in accounts (empty: all where there can be any), overdue ones first; with ended ones if they are
// asked for.
func (l Lender) List(ctx context.Context, accounts []string, ended bool) ([]Listed, time.Time, error) {
	known, order, _, err := enact.Passes(l.Store.Journal)
	if err != nil {
		return nil, time.Time{}, refused("%w", err)
	}
	if len(accounts) == 0 {
		accounts = l.passAccounts(known)
	}
	var all []Listed
	at := l.Now()
	if len(accounts) > 0 {
		v, err := l.Look(ctx, accounts)
		if err != nil {
			return nil, at, err
		}
		at = v.At
		there := make(map[string]bool)
		for _, f := range v.Found {
			there[f.ID] = true
			all = append(all, Listed{Pass: f.Pass, State: f.State, Known: f.Known, Names: v.Estate.Services})
		}
		for _, id := range order {
			k := v.Known[id]
			if there[id] || !k.Ended.IsZero() || !slices.Contains(accounts, k.Account) {
				continue
			}
			x := Listed{Pass: k.Pass, State: pass.Open, Known: true, Gone: true, Names: v.Estate.Services}
			for _, f := range v.Found {
				if f.State == pass.Open && f.Same(&k.Pass) {
					x.Gone, x.Shared = false, true
				}
			}
			if !k.Until.After(at) {
				x.State = pass.Overdue
			}
			all = append(all, x)
		}
	}
	place := map[pass.State]int{pass.Overdue: 0, pass.Broken: 1, pass.Unlent: 2, pass.Open: 3}
	slices.SortStableFunc(all, func(a, b Listed) int {
		if place[a.State] != place[b.State] {
			return place[a.State] - place[b.State]
		}
		return a.Until.Compare(b.Until)
	})
	if ended {
		for _, id := range slices.Backward(order) {
			if k := known[id]; !k.Ended.IsZero() {
				all = append(all, Listed{Pass: k.Pass, Known: true, Ended: k.Ended, Why: k.Why,
					Names: l.Definitions.Estate.Services})
			}
		}
	}
	return all, at, nil
}

// PassesOf finds the passes in a survey, and marks their rules. known is what the journal has issued.
func PassesOf(defined, surveyed *estate.Estate, known map[string]*pass.Known, now time.Time) []*pass.Found {
	if !AnyPass(surveyed) {
		return nil
	}
	e, _, _ := estate.Overlay(defined, surveyed)
	return pass.Find(e, surveyed, defined.Name, known, now)
}

// AnyPass reports whether anything in a survey calls itself a pass.
func AnyPass(e *estate.Estate) bool {
	return slices.ContainsFunc(e.Groups, func(g *estate.Group) bool {
		if _, ok := pass.ParseGroup(g.Name); ok {
			return true
		}
		return slices.ContainsFunc(g.Rules, func(r estate.Rule) bool {
			_, _, ok := pass.Parse(r.Description)
			return ok
		})
	})
}
