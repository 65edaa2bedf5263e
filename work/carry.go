package work

import (
	"cmp"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"isonomos/core/compile"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/narrow"
	"isonomos/core/traffic"
	"isonomos/nomos/edit"
	"isonomos/nomos/parse"
	"isonomos/nomos/print"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

// A Result is proposals and the files with their edits.
type Result struct {
	Proposals []Checked
	Files     []Edited
	Expects   Expects
	Notes     []string // where the clouds differ from the definitions that are narrowed
}

// A Checked is a proposal and what was decided about it.
type Checked struct {
	narrow.Proposal
	Curve      []narrow.Point
	CostBefore int // what the group costs in this direction, in rules of its cloud
	CostAfter  int
	Quota      compile.Quota
	Changed    bool   // the new rules differ from the old ones
	Refused    string // why it can't be carried out, or empty
	Attached   int    // number of interfaces to which the group is attached
	Shut       float64
}

// Gain is how much a proposal closes for each rule that it changes: the number of pairs of a
// stranger and a service, summed over the group's interfaces.
func (c *Checked) Gain() float64 {
	if !c.Changed || c.Refused != "" {
		return 0
	}
	return c.Shut / float64(max(1, len(c.Rules)))
}

// Rank sorts proposals by Gain, inward before outward. Those that can't be carried out or change
// nothing come last.
func (r *Result) Rank() {
	place := func(c *Checked) int {
		switch {
		case !c.Changed || c.Refused != "":
			return 2
		case c.Direction == estate.Out:
			return 1
		}
		return 0
	}
	slices.SortStableFunc(r.Proposals, func(a, b Checked) int {
		return cmp.Or(cmp.Compare(place(&a), place(&b)), cmp.Compare(b.Gain(), a.Gain()))
	})
}

// Expects is the number of expectations that hold before and after.
type Expects struct {
	All    int `json:"all"`
	Before int `json:"held_before"`
	After  int `json:"hold_after"`
	Unsure int `json:"undecided_after"` // undecided ones
}

// Edited is a file with its new text.
type Edited struct {
	File *source.File
	Text string
}

// Propose narrows all subjects, on all processors, and proves the result: for defined groups by
// deciding the edited definitions, for surveyed ones by deciding the group with its new rules. A
// proposal that can't be carried out says why; if there is only one subject that is an error.
func (w World) Propose(subjects []narrow.Subject, with narrow.Options, o resolve.Options) (Result, error) {
	d := decide.New(w.Estate)
	with.Expects, with.Laws = w.Expects, w.Laws
	subjects = together(d, subjects)
	with.Subjects = subjects
	with.Less = make(map[*estate.Rule]int)
	n := narrow.New(d, with)
	result := Result{Proposals: narrowAll(n, subjects, with)}
	w.leaveUnbuilt(d, &result, with)
	checkSurveyed(d, result.Proposals)
	for {
		err := w.carry(d, &result, o)
		var no *refusal
		switch {
		case err == nil:
			w.checkExpects(&result)
			return result, nil
		case !errors.As(err, &no):
			return Result{}, err
		}
		for _, c := range no.of {
			if no.over > 0 && with.Less[c.Rules[0]] < leastRoom {
				with.Less[c.Rules[0]] += no.over
				*c = narrowOne(n.Fork(), c.Subject, with)
				continue
			}
			if len(subjects) == 1 {
				return Result{}, err
			}
			c.Refused = err.Error() // the other proposals of the group may be possible without it
		}
	}
}

// leastRoom bounds how much less room than the quota has is tried, before a proposal is given up.
const leastRoom = 64

// together joins subjects of one group and direction whose traffic overlaps. By itself each would
// rely on the other to let it through.
func together(d *decide.Decider, subjects []narrow.Subject) []narrow.Subject {
	type at struct {
		group     *estate.Group
		direction estate.Direction
	}
	type one struct {
		index int
		set   traffic.Set
	}
	of := make(map[at][]one)
	count := make(map[at]int)
	for _, s := range subjects {
		count[at{s.Group, s.Direction}]++
	}
	var joined []narrow.Subject
	for _, s := range subjects {
		k := at{s.Group, s.Direction}
		if count[k] == 1 {
			joined = append(joined, s)
			continue
		}
		var sets []traffic.Set
		for _, r := range s.Rules {
			sets = append(sets, d.RuleTraffic(s.Group, r))
		}
		mine := one{len(joined), traffic.UnionAll(sets)}
		joined = append(joined, s)
		// It may overlap with several that do not overlap with each other: all of these become one.
		var apart []one
		for _, other := range of[k] {
			if other.set.Intersect(mine.set).IsEmpty() {
				apart = append(apart, other)
				continue
			}
			into, from := min(mine.index, other.index), max(mine.index, other.index)
			for _, r := range joined[from].Rules {
				if !slices.Contains(joined[into].Rules, r) {
					joined[into].Rules = append(slices.Clip(joined[into].Rules), r)
				}
			}
			joined[from].Rules = nil
			mine = one{into, mine.set.Union(other.set)}
		}
		of[k] = append(apart, mine)
	}
	return slices.DeleteFunc(joined, func(s narrow.Subject) bool { return len(s.Rules) == 0 })
}

// A refusal says which proposals can't be carried out, and why.
type refusal struct {
	of   []*Checked
	text string
	over int // by how many rules the quota is exceeded, if that is why
}

func (r *refusal) Error() string { return r.text }

func refuse(c *Checked, format string, a ...any) error {
	return &refusal{of: []*Checked{c}, text: fmt.Sprintf(format, a...)}
}

// narrowAll works out the proposals, account by account in parallel, and returns them in the order
// of the subjects. Within an account the groups that are attached to the fewest interfaces come
// first, so that wider groups can leave out what these let through.
func narrowAll(n *narrow.Narrower, subjects []narrow.Subject, with narrow.Options) []Checked {
	d := n.Decider()
	all := make([]Checked, len(subjects))
	var accounts [][]int
	at := make(map[*estate.Account]int)
	for i, s := range subjects {
		k, known := at[s.Group.Account]
		if !known {
			k, accounts = len(accounts), append(accounts, nil)
			at[s.Group.Account] = k
		}
		accounts[k] = append(accounts[k], i)
	}
	var workers errgroup.Group
	workers.SetLimit(runtime.GOMAXPROCS(0))
	for _, own := range accounts {
		workers.Go(func() error {
			slices.SortStableFunc(own, func(a, b int) int {
				return cmp.Compare(len(d.InterfacesOf(subjects[a].Group)), len(d.InterfacesOf(subjects[b].Group)))
			})
			mine := n.Fork()
			for _, i := range own {
				all[i] = narrowOne(mine, subjects[i], with)
			}
			return nil
		})
	}
	_ = workers.Wait() // no account fails: a proposal that can't be carried out says so itself
	return all
}

func narrowOne(n *narrow.Narrower, s narrow.Subject, with narrow.Options) Checked {
	c := Checked{Proposal: n.Propose(s)}
	c.Changed = !c.After.Equal(c.Before) || c.Lending != nil && c.Lending.Taken
	n.Settle(&c.Proposal)
	d := n.Decider()
	for _, r := range c.New {
		nameForeign(d.Estate(), r.Choices)
	}
	if c.Lending != nil {
		for _, r := range c.Lending.Rules {
			nameForeign(d.Estate(), r.Choices)
		}
	}
	c.Attached = len(d.InterfacesOf(c.Group))
	if c.Changed && c.Unwatched && !with.Blind {
		c.Refused = fmt.Sprintf("no instance that it is attached to is at either end of any flow: the evidence "+
			"tells nothing about them. Gather flows there, or narrow %s by name to go by what is declared alone",
			c.Group.Path())
	}
	if c.Changed {
		c.Curve = n.Curve(&c.Proposal)
	}
	for _, b := range c.Closes.Bands() {
		four, six := d.StrangersAmong(b.Peers)
		c.Shut += (four + six) * float64(b.To-b.From+1) * float64(max(1, c.Attached))
	}
	return c
}

// carry edits the definitions and decides the result.
func (w World) carry(d *decide.Decider, result *Result, o resolve.Options) error {
	changes := make(map[*source.File][]edit.Change)
	declared, written := make(map[string]bool), w.written()
	any := false
	for i := range result.Proposals {
		c := &result.Proposals[i]
		if !c.Changed || c.Refused != "" || !c.Group.Defined {
			continue
		}
		any = true
		if err := w.edit(c, changes, declared, written); err != nil {
			return err
		}
	}
	result.Files = nil
	if !any {
		return nil
	}
	edited, files, err := w.apply(changes)
	if err != nil {
		return w.mistaken(result, []source.Message{{Text: err.Error()}}, o)
	}
	result.Files = files
	return w.check(d, result, edited, o)
}

// apply makes changes to the definitions. It returns all files as they are afterwards, and those
// that differ.
func (w World) apply(changes map[*source.File][]edit.Change) (edited []*source.File, files []Edited, err error) {
	edited = slices.Clone(w.Definitions.Files)
	for i, f := range edited {
		if changes[f] == nil {
			continue
		}
		text, err := edit.Apply(f, changes[f])
		if err != nil {
			return nil, nil, err
		}
		edited[i] = source.NewFile(f.Name, text)
		if tidy, ok := asTidyAs(f, edited[i]); ok {
			edited[i] = tidy
		}
		files = append(files, Edited{f, edited[i].Text})
	}
	return edited, files, nil
}

// asTidyAs lays an edited file out, if it was laid out before.
func asTidyAs(before, edited *source.File) (*source.File, bool) {
	tree, messages := parse.File(before)
	if len(onlyErrors(messages)) > 0 || print.File(tree) != before.Text {
		return nil, false
	}
	if tree, messages = parse.File(edited); len(onlyErrors(messages)) > 0 {
		return nil, false // the mistake is told with its place in what was edited
	}
	return source.NewFile(edited.Name, print.File(tree)), true
}

// edit collects the changes of files for a proposal: for rules on the same terms, the new ones replace the
// first of them, and the others are removed.
func (w World) edit(c *Checked, changes map[*source.File][]edit.Change, declared map[string]bool,
	written map[estate.Origin][]*estate.Group) error {
	texts := make(map[*narrow.Terms][]edit.RuleText)
	add := func(r narrow.NewRule, lend string) {
		texts[r.Terms] = append(texts[r.Terms], edit.RuleText{Services: w.Estate.Services.Describe(r.Services),
			Peers: r.PeerWords(), Lend: lend})
	}
	for _, r := range c.New {
		add(r, "")
	}
	if l := c.Lending; l != nil && l.Taken {
		for _, r := range l.Rules {
			add(r, count.Duration(l.AtMost))
		}
	}
	byPlace := func(a, b *estate.Rule) int { return a.Origin.Offset - b.Origin.Offset }
	slices.SortStableFunc(c.Rules, byPlace)
	var in *syntax.File
	for _, r := range c.Rules {
		tree, node, err := w.editable(c, r, written)
		if err != nil {
			return err
		}
		terms := c.Terms[slices.IndexFunc(c.Terms, func(t *narrow.Terms) bool { return slices.Contains(t.Rules, r) })]
		in = tree
		changes[tree.Source] = append(changes[tree.Source], edit.ReplaceRule(tree, node, texts[terms])...)
		delete(texts, terms)
	}
	for _, r := range c.New {
		for _, choice := range r.Choices {
			if text := w.declaration(choice); text != "" && !declared[text] {
				declared[text] = true
				changes[in.Source] = append(changes[in.Source], edit.AddDeclaration(in, text))
			}
		}
	}
	return nil
}

// editable finds where a rule is written, or says why it can't be edited for the proposal's group alone.
func (w World) editable(c *Checked, r *estate.Rule, written map[estate.Origin][]*estate.Group) (*syntax.File,
	*syntax.Rule, error) {
	tree, node := w.find(r)
	at := fmt.Sprintf("%s:%d: the rule %q", r.Origin.File, r.Origin.Line, r.Sentence(w.Estate.Services))
	if node == nil {
		return nil, nil, refuse(c, "%s is not written in the definitions themselves, so it can't be edited", at)
	}
	if r.Through != nil {
		return nil, nil, refuse(c, "%s of %s comes through the %s, so it can't be narrowed for this group alone: "+
			"change what is written at %s:%d", at, c.Group.Path(),
			strings.TrimSpace(r.Through.Kind+" "+r.Through.Name), r.Through.Origin.File, r.Through.Origin.Line)
	}
	if other := otherThan(c.Group, r, written); other != nil {
		return nil, nil, refuse(c, "%s stands for %s too, so it can't be narrowed for %s alone: give each a rule of "+
			"its own", at, other.Path(), c.Group.Path())
	}
	return tree, node, nil
}

// written are the defined groups by the places of their rules: a rule of a group in several
// networks belongs to several groups.
func (w World) written() map[estate.Origin][]*estate.Group {
	all := make(map[estate.Origin][]*estate.Group)
	for _, g := range w.Estate.Groups {
		for i := range g.Rules {
			if g.Defined {
				o := g.Rules[i].Origin
				all[o] = append(all[o], g)
			}
		}
	}
	return all
}

// otherThan is a group other than g to which a rule belongs, or nil.
func otherThan(g *estate.Group, r *estate.Rule, written map[estate.Origin][]*estate.Group) *estate.Group {
	for _, other := range written[r.Origin] {
		if other != g {
			return other
		}
	}
	return nil
}

// Removal is the change of a file that removes a rule. The rule must be that of one group only.
func (w World) Removal(g *estate.Group, r *estate.Rule) (file string, removal edit.Change, ok bool) {
	tree, node := w.find(r)
	if node == nil || r.Through != nil || otherThan(g, r, w.written()) != nil {
		return "", edit.Change{}, false
	}
	return tree.Source.Name, edit.RemoveRule(tree, node), true
}

func (w World) find(r *estate.Rule) (*syntax.File, *syntax.Rule) {
	for _, t := range w.Definitions.Trees {
		if t.Source.Name == r.Origin.File {
			return t, edit.FindRule(t, r.Origin.Offset)
		}
	}
	return nil, nil
}
