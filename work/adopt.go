package work

import (
	"cmp"
	"errors"
	"fmt"
	"path"
	"slices"

	"isonomos/core/change"
	"isonomos/core/compile"
	"isonomos/core/count"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/nomos"
	"isonomos/nomos/adopt"
	"isonomos/nomos/edit"
	"isonomos/nomos/parse"
	"isonomos/nomos/print"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/nomos/syntax"
)

// An Adoption is definitions of surveyed groups, proved to let through the same.
type Adoption struct {
	Files   []*source.File // new ones
	Edits   []Edited       // files in which an adopted group was an "existing" one
	Adopted []*estate.Group
	Left    []adopt.Left // groups that get no definition, and why

	costs map[*estate.Group]costs // what the definitions take in rules of their clouds
}

// Adopt writes definitions of surveyed groups into new files in a folder, one for each account. If
// rules is given, a group gets those instead of its own. The result is resolved and decided on the
// survey: each group must let through what it does today (or what those rules do), be attached to
// the same instances, and be expressible in its cloud. A group for which that fails gets no
// definition.
func (w World) Adopt(groups []*estate.Group, rules map[*estate.Group][]estate.Rule, folder string,
	o resolve.Options) (Adoption, error) {
	var a Adoption
	d := decide.New(w.Estate)
	existing := make(map[*estate.Group]string)
	var chosen []*estate.Group
	for _, g := range groups {
		if why := adopt.Possible(d, g); why != "" {
			a.Left = append(a.Left, adopt.Left{Group: g, Why: why})
			continue
		}
		chosen = append(chosen, g)
	}
	rulesOf := func(g *estate.Group) []estate.Rule {
		if r, ok := rules[g]; ok {
			return r
		}
		return g.Rules
	}
	for {
		a.Files = nil
		accounts := make(map[*source.File]string) // of the new files
		texts, names := adopt.Write(w.Estate, chosen, rulesOf, existing)
		var broken []source.Message
		for _, text := range texts {
			file := source.NewFile(w.freeName(folder, text.Account), text.Text)
			tree, messages := parse.File(file)
			broken = append(broken, onlyErrors(messages)...)
			if len(broken) == 0 {
				file = source.NewFile(file.Name, print.File(tree))
			}
			a.Files = append(a.Files, file)
			accounts[file] = text.Account
		}
		a.Edits = w.withoutExisting(chosen, existing)
		if len(broken) == 0 {
			broken = onlyErrors(nomos.Understand(w.filesWith(a), o).Messages)
		}
		if len(broken) > 0 {
			if !leave(broken, accounts, chosen, names, existing) {
				return a, fmt.Errorf("what would be written has a mistake, so nothing is adopted:\n%s", broken[0])
			}
			continue
		}
		var wrong map[*estate.Group]string
		wrong, a.costs = w.checkAdopted(d, a, chosen, existing, rulesOf, o)
		if len(wrong) == 0 {
			break
		}
		for g, why := range wrong {
			existing[g] = why
		}
	}
	for _, g := range chosen {
		if why := existing[g]; why != "" {
			a.Left = append(a.Left, adopt.Left{Group: g, Why: why})
		} else {
			a.Adopted = append(a.Adopted, g)
		}
	}
	if len(a.Adopted) == 0 {
		a.Files, a.Edits = nil, nil
	}
	return a, nil
}

// Changes is what carrying out the definitions with an adoption changes, beside what carrying out those before it does:
// nothing, if it is right. It decides all of both, as comparing does.
func (w World) Changes(a Adoption, o resolve.Options) change.Difference {
	next := NewWorld(nomos.Understand(w.filesWith(a), o), w.Survey)
	return change.Compare(decide.New(w.Estate), decide.New(next.Estate))
}

// A Replacing is a default group that carrying definitions out detaches, since one that is defined replaces it.
type Replacing struct {
	Default *estate.Group
	By      string   // the full name of the defined group
	At      []string // instances and subnets
}

// Replaced are the default groups that are attached, and would be no more once the definitions are carried out.
func (w World) Replaced() []Replacing {
	if w.Survey == nil || w.Estate == w.Survey {
		return nil
	}
	var all []Replacing
	note := func(was, will []*estate.Group, at string) {
		by := slices.IndexFunc(will, func(g *estate.Group) bool { return g.Defined && !g.Existing })
		for _, g := range was {
			if by < 0 || !g.Default || slices.ContainsFunc(will, func(x *estate.Group) bool { return x.ID == g.ID }) {
				continue
			}
			i := slices.IndexFunc(all, func(x Replacing) bool { return x.Default == g && x.By == will[by].Path() })
			if i < 0 {
				i = len(all)
				all = append(all, Replacing{Default: g, By: will[by].Path()})
			}
			if !slices.Contains(all[i].At, at) {
				all[i].At = append(all[i].At, at)
			}
		}
	}
	// the overlay has the interfaces and subnets of the survey, in its order
	for k, i := range w.Survey.Instances {
		for n, f := range i.Interfaces {
			note(f.Groups, w.Estate.Instances[k].Interfaces[n].Groups, i.Path())
		}
	}
	for k, n := range w.Survey.Networks {
		for m, s := range n.Subnets {
			note(s.Groups, w.Estate.Networks[k].Subnets[m].Groups, s.Path())
		}
	}
	return all
}

func onlyErrors(messages []source.Message) []source.Message {
	return slices.DeleteFunc(slices.Clone(messages), func(m source.Message) bool { return m.Warning })
}

// leave drops the groups whose written definitions have mistakes. It reports whether there were
// any. accounts are the accounts of the written files.
func leave(broken []source.Message, accounts map[*source.File]string, chosen []*estate.Group,
	names, existing map[*estate.Group]string) bool {
	found := false
	for _, m := range broken {
		account, written := accounts[m.File]
		if !written {
			continue
		}
		name := groupAt(m.File, m.Span.Start)
		for _, g := range chosen {
			if g.Account.Name == account && names[g] == name && existing[g] == "" {
				existing[g], found = "it can't be written: "+m.Text, true
			}
		}
	}
	return found
}

// groupAt is the name of the group whose declaration contains an offset of a file, or which is the
// last one in front of it; it is empty if there is none.
func groupAt(file *source.File, offset int32) string {
	name := ""
	tree, _ := parse.File(file)
	for _, d := range tree.Decls {
		if d.Extent().Start > offset {
			break
		}
		if g, ok := d.(*syntax.Group); ok {
			name = g.Name.Text
		}
	}
	return name
}

// filesWith are the files of the definitions with those that an adoption writes.
func (w World) filesWith(a Adoption) []*source.File {
	files := slices.Clone(w.Definitions.Files)
	for i, f := range files {
		if k := slices.IndexFunc(a.Edits, func(e Edited) bool { return e.File == f }); k >= 0 {
			files[i] = source.NewFile(f.Name, a.Edits[k].Text)
		}
	}
	return append(files, a.Files...)
}

// AdoptProposals writes definitions of the surveyed groups that proposals narrow, with their new
// rules.
// It notes what they really cost, and refuses the proposals that can't be written.
func (w World) AdoptProposals(r *Result, folder string, o resolve.Options) (Adoption, error) {
	by := make(map[*estate.Group][]*Checked)
	var groups []*estate.Group
	for i := range r.Proposals {
		c := &r.Proposals[i]
		if !c.Changed || c.Refused != "" || c.Group.Defined {
			continue
		}
		if by[c.Group] == nil {
			groups = append(groups, c.Group)
		}
		by[c.Group] = append(by[c.Group], c)
	}
	if len(groups) == 0 {
		return Adoption{}, nil
	}
	rules := make(map[*estate.Group][]estate.Rule, len(by))
	for g, proposals := range by {
		rules[g] = Replaced(g, proposals)
	}
	a, err := w.Adopt(groups, rules, folder, o)
	if err != nil {
		return a, err
	}
	for g, x := range a.costs {
		for _, c := range by[g] {
			c.CostAfter = x[c.Direction]
		}
	}
	for _, left := range a.Left {
		for _, c := range by[left.Group] {
			c.Refused = left.Why
		}
	}
	return a, nil
}

// mostAdopted is for how many surveyed groups definitions are written only to see what they cost.
const mostAdopted = 2000

// Weigh says whether AdoptProposals is worth its time where nothing is to be written.
func (r *Result) Weigh() bool {
	surveyed := 0
	for i := range r.Proposals {
		if c := &r.Proposals[i]; c.Changed && c.Refused == "" && !c.Group.Defined {
			surveyed++
		}
	}
	return surveyed > 0 && surveyed <= mostAdopted
}

// withoutExisting removes the "existing" statements of groups that are now defined under the same
// name. A statement with another name stays.
func (w World) withoutExisting(groups []*estate.Group, existing map[*estate.Group]string) []Edited {
	adopted := make(map[string]string) // their names in the definitions
	for _, g := range groups {
		if existing[g] != "" {
			continue
		}
		place := g.Account.Name
		if g.Network != nil {
			place = g.Network.Path()
		}
		for _, name := range []string{g.ID, g.InCloud()} {
			adopted[place+" "+name] = adopt.Name(g.Name)
		}
	}
	var edits []Edited
	for _, t := range w.Definitions.Trees {
		var changes []edit.Change
		for _, decl := range t.Decls {
			g, ok := decl.(*syntax.Group)
			if !ok || !g.Existing.Given() {
				continue
			}
			network := g.Scope.Network.Text
			i := slices.IndexFunc(w.Estate.Networks,
				func(n *estate.Network) bool { return n.Path() == network || n.Name == network })
			if i < 0 {
				continue
			}
			n := w.Estate.Networks[i]
			if name := cmp.Or(adopted[n.Path()+" "+g.Existing.Text],
				adopted[n.Account.Name+" "+g.Existing.Text]); name == g.Name.Text {
				changes = append(changes, edit.RemoveDeclaration(t, g))
			}
		}
		if len(changes) == 0 {
			continue
		}
		if text, err := edit.Apply(t.Source, changes); err == nil {
			edits = append(edits, Edited{t.Source, text})
		}
	}
	return edits
}

// freeName is an unused file name for an account's definitions.
func (w World) freeName(folder, account string) string {
	taken := func(name string) bool {
		return slices.ContainsFunc(w.Definitions.Files, func(f *source.File) bool { return f.Name == name })
	}
	name := path.Join(folder, account+nomos.Extension)
	for k := 1; taken(name); k++ {
		name = path.Join(folder, fmt.Sprintf("%s-adopted%s", account, nomos.Extension))
		if k > 1 {
			name = path.Join(folder, fmt.Sprintf("%s-adopted-%d%s", account, k, nomos.Extension))
		}
	}
	return name
}

// checkAdopted decides the written definitions, and says which groups differ from what they should
// be, and what the others cost.
func (w World) checkAdopted(d *decide.Decider, a Adoption, groups []*estate.Group, existing map[*estate.Group]string,
	rulesOf func(*estate.Group) []estate.Rule, o resolve.Options) (wrong map[*estate.Group]string,
	taken map[*estate.Group]costs) {
	next := NewWorld(nomos.Understand(w.filesWith(a), o), w.Survey)
	after := decide.New(next.Estate)
	byID := make(map[string]*estate.Group)
	for _, g := range next.Estate.Groups {
		if g.Defined {
			byID[g.Account.Name+" "+g.ID+" "+g.InCloud()+" "+string(g.For)] = g
		}
	}
	wrong, taken = make(map[*estate.Group]string), make(map[*estate.Group]costs)
	for _, g := range groups {
		if existing[g] != "" {
			continue
		}
		defined := byID[g.Account.Name+" "+g.ID+" "+g.InCloud()+" "+string(g.For)]
		why := w.asItWas(d.Supposing(g, rulesOf(g)), after, g, defined)
		if why == "" {
			taken[g], why = fits(after, g, defined)
		}
		if why != "" {
			wrong[g] = why
		}
	}
	return wrong, taken
}

var inwardOutward = map[estate.Direction]string{estate.In: "inward", estate.Out: "outward"}

// fits counts the rules of a group that becomes a definition. If they are more than its quota allows, and
// than they are today, it says so.
func fits(after *decide.Decider, g, defined *estate.Group) (costs, string) {
	will, err := counted(after, defined)
	var f *compile.Failure
	if errors.As(err, &f) {
		return nil, "it can't be expressed again in its cloud: " + f.Reason
	}
	today, quota := estimated(g), compile.QuotaOf(decide.Dialect(g.Account), g)
	for direction, n := range will {
		if quota.Direction > 0 && n > max(quota.Direction, today[direction]) {
			return nil, fmt.Sprintf("its definition would take %s %s, and its quota is %s",
				count.Of(n, "rule", "rules"), inwardOutward[direction],
				count.Number(quota.Direction))
		}
	}
	if quota.Together > 0 && will.all() > max(quota.Together, today.all()) {
		return nil, fmt.Sprintf("its definition would take %s, and its quota is %s",
			count.Of(will.all(), "rule", "rules"), count.Number(quota.Together))
	}
	return will, ""
}

// asItWas says how a defined group differs from the surveyed one; it is empty if it does not.
func (w World) asItWas(before, after *decide.Decider, g, defined *estate.Group) string {
	if defined == nil {
		return "its definition does not find it in the survey"
	}
	for _, direction := range []estate.Direction{estate.In, estate.Out} {
		was, is := before.GroupTraffic(g, direction), after.GroupTraffic(defined, direction)
		if x, ok := was.Minus(is).Witness(); ok {
			return fmt.Sprintf("its definition would stop what it lets through: %s %s %s", direction, x.Peer, x.Service)
		}
		if x, ok := is.Minus(was).Witness(); ok {
			return fmt.Sprintf("its definition would let through more: %s %s %s", direction, x.Peer, x.Service)
		}
	}
	attached := func(d *decide.Decider, g *estate.Group) []string {
		var ids []string
		for _, i := range d.InterfacesOf(g) {
			ids = append(ids, i.Instance.Path()+" "+i.Instance.ID+" "+i.ID)
		}
		slices.Sort(ids)
		return ids
	}
	if !slices.Equal(attached(before, g), attached(after, defined)) {
		return "what it covers can't be said so that it is attached to just the same instances"
	}
	return ""
}
