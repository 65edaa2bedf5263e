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
	"isonomos/enact"
	"isonomos/store"
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
	Arrivals []Arrival
	Shared   string // the pass whose rule it shares; empty if it has one of its own
	Anew     bool   // the rule of the pass that it shares was made anew, and shut for a moment
	Stateful bool   // connections that were made meanwhile can go on after the end
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
		issued = &Issued{Pass: f.Pass, Services: v.Estate.Services}
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
	issued.Anew = d.Gaps() > 0
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
	g := v.Estate.FindGroup(group)
	if g == nil {
		return nil, refused("no group is called %s", group)
	}
	if why := v.notOurs(g); why != "" {
		return nil, refused("%s: %s", group, why)
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
	lent := false // the service, to whomever
	var longest time.Duration
	for i := range g.Lends {
		lend := &g.Lends[i]
		r := estate.Rule{Direction: lend.Direction, Action: estate.Admit, Peers: []estate.Peer{peer}, Services: specs}
		if specs == nil {
			r.Services = lend.Services
		}
		if !service.Of(r.Services...).SubsetOf(service.Of(lend.Services...)) {
			continue
		}
		lent = true
		asked, most := d.Peers(g, &r, nil), d.Peers(g, &lend.Rule, nil)
		if asked.IsEmpty() {
			return nil, wrong("%s has no address: nothing can be lent to it", q.To)
		}
		if !asked.SubsetOf(most) {
			to := q.To
			if to == Me {
				to += " (" + asked.String() + ")"
			}
			how := "is wider than"
			if !asked.Overlaps(most) {
				how = "is outside of what"
			}
			by := estate.PeerWords(lend.Peers)
			if len(lend.Except) > 0 {
				by += " except " + estate.PeerWords(lend.Except)
			}
			broken = append(broken, fmt.Sprintf("%s %s %s allows: at most %s", to, how, by, atMost(asked, most)))
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
	if !lent {
		broken = []string{q.Service + " is not among what is lent"}
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

// notOurs says why nothing may be opened in a defined group as it is in its cloud; else it is empty.
func (v *PassView) notOurs(g *estate.Group) string {
	switch {
	case g.Twins != nil:
		return g.Twins.String() + ", and nothing tells which of them it is: adopt one by its id"
	case g.ID == "":
		return "the group is not in the cloud yet: carry its definition out first"
	}
	i := slices.IndexFunc(v.Surveyed.Groups,
		func(s *estate.Group) bool { return s.ID == g.ID && s.Account.Name == g.Account.Name })
	if i < 0 || v.Surveyed.Groups[i].Labels[estate.OwnLabel] != v.Estate.Name {
		return "the group of that name is not marked as ours: adopt it first"
	}
	return ""
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

// lasting reads how long a pass is to last.
func lasting(most, asked time.Duration) (time.Duration, error) {
	switch {
	case asked == 0:
		return most, nil
	case asked < time.Second:
		return 0, wrong("a pass lasts at least a second")
	case asked > most:
		return 0, errTooLong
	}
	return asked.Truncate(time.Second), nil
}

var errTooLong = errors.New("longer than its ceiling")
