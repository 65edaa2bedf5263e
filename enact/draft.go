// Package enact carries changes out. It writes the steps that package change finds into drafts, and
// carries drafts out in clouds. It writes each intention to the journal before its request is sent,
// and each result after it, so that a run can be continued or undone from there.
package enact

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"isonomos/cloud"
	"isonomos/core/change"
	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/core/narrow"
	"isonomos/core/service"
	"isonomos/core/traffic"
	"isonomos/store"
)

// DraftVersion is the version of the draft's format.
const DraftVersion = 5

// A Draft is a change that was prepared for review. It contains no secrets.
type Draft struct {
	Version     int       `json:"version"`
	Estate      string    `json:"estate"`
	Made        time.Time `json:"made"`
	By          string    `json:"by"`                    // who made it, and where: "user@host"
	Surveyed    string    `json:"surveyed"`              // when the clouds were surveyed that it starts from
	Definitions string    `json:"definitions,omitempty"` // SHA-256 of the definitions
	Repeals     string    `json:"repeals,omitempty"`     // the run that it undoes
	Passes      []string  `json:"passes,omitempty"`      // the passes that it opens or shuts, and nothing else
	Waves       string    `json:"waves"`                 // the order of accounts: "stage=lab,production"
	Accounts    []string  `json:"accounts"`              // those the draft was asked for; empty means all
	Adopts      []string  `json:"adopts"`                // groups and lists that are to be marked as the estate's own
	Objects     []Touched `json:"objects"`
	Lanes       []Lane    `json:"lanes"`
	Traffic     Traffic   `json:"traffic"`
	Expects     []Expect  `json:"expects"`
	Cut         Cut       `json:"cut"`
	Quotas      []Quota   `json:"quotas"`
	Left        []string  `json:"left"` // what is not changed, and why
	// CanAdopt are what can be adopted, so that less is left: full names, or ACCOUNT/ID where several have one name.
	CanAdopt []string `json:"can_adopt"`
	// ByMark are groups that are changed on their mark alone: the journal does not know them.
	ByMark []string `json:"by_mark"`
	// Strays bear the mark, and neither a definition nor the journal knows them. They are left alone.
	Strays   []string  `json:"strays"`
	Bypassed []Bypass  `json:"bypassed"`
	Promises []Promise `json:"promises"` // of the definitions, beside traffic
	Weaker   []string  `json:"weaker"`   // which of them are weaker than those carried out last
	// Upholds says what it puts back or enforces unattended; nil for one that somebody has made.
	Upholds *Upholds `json:"upholds,omitempty"`
	// Journal is the last entry of the journal that the draft was made with.
	Journal store.Head `json:"journal"`
	// Seal is the SHA-256 of all of the above, as one line of JSON. It is what a reviewer approves.
	Seal string `json:"digest"`
	// EnactedBy is who carries it out. It is only in the journal.
	EnactedBy string `json:"enacted_by,omitempty"`
}

// Sealed is what the draft's Seal should be.
func (d *Draft) Sealed() string {
	whole := *d
	whole.Seal, whole.EnactedBy = "", ""
	text, err := json.Marshal(&whole)
	if err != nil {
		panic(err) // strings and numbers can always be encoded
	}
	return digest(text)
}

// Differs names what two drafts say differently of the same steps. Whoever made them when, and observed flows
// that would be cut, are not compared.
func (d *Draft) Differs(o *Draft) []string {
	var names []string
	for _, x := range []struct {
		name string
		a, b any
	}{{"traffic", d.Traffic, o.Traffic}, {"expectations", d.Expects, o.Expects}, {"waves", stagesOf(d), stagesOf(o)},
		{"gaps", gapsOf(d), gapsOf(o)}, {"quotas", d.Quotas, o.Quotas}, {"what is left as it is", d.Left, o.Left},
		{"promises", d.Promises, o.Promises}, {"what is changed on its mark", d.ByMark, o.ByMark},
		{"what is let through beside it", d.Bypassed, o.Bypassed}, {"the estate", d.Estate, o.Estate},
		{"passes", d.Passes, o.Passes}, {"what it upholds", d.Upholds, o.Upholds},
		{"what bears our mark and nobody knows", d.Strays, o.Strays}, {"what can be adopted", d.CanAdopt, o.CanAdopt},
		{"where groups are attached", attachedOf(d), attachedOf(o)}} {
		if !bytes.Equal(encode(x.a), encode(x.b)) {
			names = append(names, x.name)
		}
	}
	untold := func(text string) bool { return !slices.Contains(d.Weaker, text) }
	if slices.ContainsFunc(o.Weaker, untold) { // what is told and is so no more does no harm
		names = append(names, "what becomes weaker")
	}
	return names
}

// attachedOf says where the groups that a draft touches are attached.
func attachedOf(d *Draft) map[string][]string {
	all := make(map[string][]string)
	for _, o := range d.Objects {
		all[o.Account+" "+o.Kind+" "+o.ID] = slices.Sorted(slices.Values(o.Attached))
	}
	return all
}

func stagesOf(d *Draft) map[string]string {
	all := make(map[string]string)
	for _, l := range d.Lanes {
		all[strings.Join(l.Accounts, " ")] = fmt.Sprint(l.Wave, " ", l.Stage)
	}
	return all
}

func gapsOf(d *Draft) map[string][]Gap {
	all := make(map[string][]Gap)
	for _, l := range d.Lanes {
		all[strings.Join(l.Accounts, " ")] = append([]Gap{}, l.Gaps...)
	}
	return all
}

// A Bypass is traffic that is let through beside the groups that are carried out, and the
// definition that would end it, if there is one.
type Bypass struct {
	Says  string `json:"says"`
	Write string `json:"write,omitempty"`
}

// A Touched object is one that the draft changes, as it was when the draft was made.
type Touched struct {
	Account  string `json:"account"`
	Kind     string `json:"kind"`
	ID       string `json:"id"`
	Name     string `json:"name"`
	Revision string `json:"revision"` // SHA-256 of the fields below
	// Before is the object as lines of a survey; a group is followed by its rules.
	Before []json.RawMessage `json:"before"`
	// Attached are the interfaces or subnets, by id, to which a group is attached.
	Attached []string `json:"attached,omitempty"`
}

// Upholds is what is done unattended, and where.
type Upholds struct {
	Laws   []string `json:"laws,omitempty"` // that are enforced; without any, what was decided is put back
	Opened []string `json:"opened"`         // places where something is let through again
	Shut   []string `json:"shut"`           // and where no longer
	// By says who had changed what is put back, by place, where that is known.
	By map[string]string `json:"by,omitempty"`
	// Places are the full names of the groups and lists that are changed, by id; of what is made again, by that which
	// it had.
	Places map[string]string `json:"places,omitempty"`
}

// A Lane holds steps that are carried out in order. The lanes of a wave are carried out side by
// side.
type Lane struct {
	Accounts []string `json:"accounts"`
	Wave     int      `json:"wave"` // from 1; each wave is proved before the next one begins
	Stage    string   `json:"stage,omitempty"`
	Steps    []Step   `json:"steps"`
	Gaps     []Gap    `json:"gaps"`
}

// A Step is one request, and what it means.
type Step struct {
	cloud.Request
	Says     string `json:"says"`               // in words
	Opens    bool   `json:"opens"`              // something is let through from here on
	Closes   bool   `json:"closes"`             // something does not pass any more
	Replaces string `json:"replaces,omitempty"` // for an object that is made again: the id that it had
}

// about is the id of the object that a step is about; for one that is made again, the id that it had.
func (l *Lane) about(s *Step) string {
	for i := range l.Steps {
		if made := &l.Steps[i]; made.Do.Makes() && made.ID == s.ID && made.Replaces != "" {
			return made.Replaces
		}
	}
	return s.ID
}

// A Gap is traffic that passes before and after the change, and is stopped in between.
type Gap struct {
	After     int      `json:"after"` // stopped after this step of the lane, from 1,
	Until     int      `json:"until"` // and let through again after this one
	Instances []string `json:"instances"`
	Traffic   string   `json:"traffic"`
}

// Traffic says what opens and closes, group by group, in words and with examples.
type Traffic struct {
	Opens  []Shift `json:"opens"`
	Closes []Shift `json:"closes"`
}

// A Shift is traffic that opens or closes.
type Shift struct {
	Group     string   `json:"group,omitempty"` // empty if the cause is what is attached to the instances
	Direction string   `json:"direction"`
	Traffic   string   `json:"traffic"`
	Example   string   `json:"example"`
	Instances []string `json:"instances"`
	Rules     []string `json:"rules"` // behind it, as sentences
}

// An Expect is an expectation before and after.
type Expect struct {
	Text   string `json:"text"`
	File   string `json:"file"`
	Line   int    `json:"line"`
	Before bool   `json:"before"`
	After  bool   `json:"after"`
	Unsure bool   `json:"undecided,omitempty"` // undecided after the change; After is false then
}

// A Cut names observed flows that the change would stop.
type Cut struct {
	Looked bool     `json:"looked"` // there was evidence to look at
	Flows  int64    `json:"flows"`
	Users  []CutUse `json:"users"` // what is needed first, then by days
}

// A CutUse is who was seen to use what, and would be cut off.
type CutUse struct {
	Who     string `json:"who"` // an address, or the instance that has it
	To      string `json:"to"`
	Service string `json:"service"`
	Flows   int    `json:"flows"`
	Days    int    `json:"days"`
	Last    string `json:"last"` // RFC 3339
	// Judged is Needed, or why it is not taken for needed, as narrowing judges it.
	Judged string `json:"judged"`
}

// Needed is what a use is judged that is taken for needed.
const Needed = "needed"

// Needed are the uses that are taken for needed.
func (c *Cut) Needed() []CutUse { return c.judged(Needed) }

func (c *Cut) judged(as string) []CutUse {
	return slices.DeleteFunc(slices.Clone(c.Users), func(u CutUse) bool { return u.Judged != as })
}

// Others are the uses that are not taken for needed, by why not, in the order in which that is told.
func (c *Cut) Others() [][]CutUse {
	var all [][]CutUse
	for _, why := range narrow.Reasons {
		if some := c.judged(string(why)); len(some) > 0 {
			all = append(all, some)
		}
	}
	return all
}

// A Quota is how many rules a group takes, before and after.
type Quota struct {
	Group  string `json:"group"`
	Before int    `json:"before"`
	After  int    `json:"after"`
	Most   int    `json:"most"` // 0 means no limit
	Per    string `json:"per"`  // "inward", "outward", "group"
}

// Steps is how many steps there are.
func (d *Draft) Steps() int {
	n := 0
	for _, l := range d.Lanes {
		n += len(l.Steps)
	}
	return n
}

// Gaps is how many gaps there are.
func (d *Draft) Gaps() int {
	n := 0
	for _, l := range d.Lanes {
		n += len(l.Gaps)
	}
	return n
}

// Changes are the accounts that the draft changes, each once.
func (d *Draft) Changes() []string {
	var names []string
	for _, l := range d.Lanes {
		names = append(names, l.Accounts...)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// step finds a step by its lane and number, both from 1, or returns nil.
func (d *Draft) step(lane, number int) *Step {
	if lane < 1 || lane > len(d.Lanes) || number < 1 || number > len(d.Lanes[lane-1].Steps) {
		return nil
	}
	return &d.Lanes[lane-1].Steps[number-1]
}

// Digest is a fingerprint of what the draft changes: its objects and steps.
func (d *Draft) Digest() string {
	text, err := json.Marshal([]any{d.withoutAttached(), d.Lanes})
	if err != nil {
		panic(err) // strings and numbers can always be encoded
	}
	return digest(text)
}

// without the places where groups are attached, which may change meanwhile.
func (d *Draft) withoutAttached() []Touched {
	objects := slices.Clone(d.Objects)
	for i := range objects {
		objects[i].Attached = nil
	}
	return objects
}

func digest(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// Waves is the order in which accounts are changed, by the values of a label.
type Waves struct {
	Label  string
	Stages []string
}

// String is the order as it is written.
func (w Waves) String() string {
	if w.Label == "" {
		return ""
	}
	return w.Label + "=" + strings.Join(w.Stages, ",")
}

// ParseWaves reads an order as it is written.
func ParseWaves(text string) (w Waves, ok bool) {
	label, stages, ok := strings.Cut(text, "=")
	if !ok || label == "" || stages == "" {
		return w, false
	}
	return Waves{Label: label, Stages: strings.Split(stages, ",")}, true
}

// wave is the wave of a lane, from 1: that of its last account. Accounts without a known value come
// last.
func (w Waves) wave(accounts []*estate.Account, labelled map[string]*estate.Account) (number int, stage string) {
	for _, a := range accounts {
		value, _ := estate.Place{Account: labelled[a.Name]}.Label(w.Label)
		n := slices.Index(w.Stages, value)
		if n < 0 {
			n = len(w.Stages) - 1
			if value == "" {
				value = "no " + w.Label
			}
		}
		if n+1 > number {
			number, stage = n+1, value
		}
	}
	return number, stage
}

// Words say what some traffic is.
type Words func(set traffic.Set, direction estate.Direction) string

// NewDraft writes a plan as the steps of a draft. The caller fills in the other fields.
func NewDraft(plan change.Plan, aim *change.Aim, waves Waves, words Words) Draft {
	d := Draft{Version: DraftVersion, Estate: aim.Name, Accounts: []string{}, Adopts: []string{},
		Objects: []Touched{}, Lanes: []Lane{}, Traffic: Traffic{[]Shift{}, []Shift{}}, Expects: []Expect{},
		Cut: Cut{Users: []CutUse{}}, Quotas: []Quota{}, Left: append([]string{}, plan.Left...),
		CanAdopt: aim.Adoptable(),
		ByMark:   []string{}, Strays: append([]string{}, aim.Strays...),
		Bypassed: []Bypass{}, Promises: []Promise{}, Weaker: []string{}, Waves: waves.String()}
	w := writer{touched: make(map[ident]bool), before: linesOf(aim.Surveyed, accountsOf(plan), aim.AboutPasses()),
		attached: attachedIn(aim.Surveyed), services: aim.Then.Services}
	labelled := make(map[string]*estate.Account) // as surveyed, or else as defined
	for _, x := range aim.Then.Accounts {
		labelled[x.Name] = x
	}
	used := make(map[int]bool)
	for _, l := range plan.Lanes {
		lane := Lane{Steps: []Step{}, Gaps: []Gap{}}
		lane.Wave, lane.Stage = waves.wave(l.Accounts, labelled)
		used[lane.Wave] = true
		for _, a := range l.Accounts {
			lane.Accounts = append(lane.Accounts, a.Name)
		}
		for i := range l.Steps {
			lane.Steps = append(lane.Steps, w.step(&l.Steps[i]))
		}
		for _, g := range l.Gaps {
			lane.Gaps = append(lane.Gaps, gapOf(g, words))
		}
		d.Lanes = append(d.Lanes, lane)
	}
	var numbers []int
	for n := range used {
		numbers = append(numbers, n)
	}
	slices.Sort(numbers)
	for i := range d.Lanes { // number the waves without gaps
		d.Lanes[i].Wave = slices.Index(numbers, d.Lanes[i].Wave) + 1
	}
	slices.SortStableFunc(d.Lanes, func(a, b Lane) int { return a.Wave - b.Wave })
	d.Objects = append(d.Objects, w.objects...)
	for _, g := range aim.ByMark {
		at := ident{g.Account.Name, "group", g.ID}
		if w.touched[at] || putsOn(&d, at, w.attached[at]) {
			d.ByMark = append(d.ByMark, g.Path())
		}
	}
	for _, l := range aim.ByMarkLists {
		if w.touched[ident{l.Account.Name, "list", l.ID}] {
			d.ByMark = append(d.ByMark, l.Account.Name+"/"+l.Name)
		}
	}
	return d
}

// putsOn reports whether a draft attaches a group to something where it is not attached yet.
func putsOn(d *Draft, g ident, attached []string) bool {
	for _, l := range d.Lanes {
		for i := range l.Steps {
			s := &l.Steps[i]
			name := g.id
			if s.Account != g.account {
				name = g.account + "/" + g.id
			}
			if (s.Do == change.Attach || s.Do == change.AttachToSubnet) && slices.Contains(s.Groups, name) &&
				!slices.Contains(attached, s.ID) {
				return true
			}
		}
	}
	return false
}

// accountsOf are the accounts that a plan changes.
func accountsOf(plan change.Plan) []string {
	var names []string
	for _, l := range plan.Lanes {
		for _, a := range l.Accounts {
			names = append(names, a.Name)
		}
	}
	return names
}

func gapOf(g change.Gap, words Words) Gap {
	x := Gap{After: g.From, Until: g.To, Instances: []string{}}
	for _, i := range g.Interfaces {
		if path := i.Instance.Path(); !slices.Contains(x.Instances, path) {
			x.Instances = append(x.Instances, path)
		}
	}
	var parts []string
	for n, direction := range []estate.Direction{estate.In, estate.Out} {
		if w, ok := g.Traffic[n].Witness(); ok {
			parts = append(parts, fmt.Sprintf("%sward, %s, for example %s %s %s", direction,
				words(g.Traffic[n], direction), [2]string{"from", "to"}[n], w.Peer, w.Service))
		}
	}
	x.Traffic = strings.Join(parts, "; ")
	return x
}

// lines are the objects of an estate as lines of a survey.
type lines map[ident][]json.RawMessage

// linesOf are the objects of some accounts as lines of a survey. Rules of passes, which come and go by themselves, are
// among them only where it is about these.
func linesOf(e *estate.Estate, accounts []string, passes bool) lines {
	of := make(map[string]bool)
	for _, name := range accounts {
		of[name] = true
	}
	all := make(lines)
	for _, g := range e.Groups {
		if !of[g.Account.Name] {
			continue
		}
		lines := []json.RawMessage{raw(store.GroupLine(g))}
		for i := range g.Rules {
			if passes || g.Rules[i].Pass == "" {
				lines = append(lines, raw(store.RuleLine(g, &g.Rules[i])))
			}
		}
		all[ident{g.Account.Name, "group", g.ID}] = lines
	}
	for _, l := range e.Lists {
		if l.Account != nil && of[l.Account.Name] {
			all[ident{l.Account.Name, "list", l.ID}] = []json.RawMessage{raw(store.ListLine(l))}
		}
	}
	for _, i := range e.Instances {
		if !of[i.Account.Name] {
			continue
		}
		all[ident{i.Account.Name, "instance", i.ID}] = []json.RawMessage{raw(store.InstanceLine(i))}
	}
	for _, n := range e.Networks {
		if !of[n.Account.Name] {
			continue
		}
		for _, s := range n.Subnets {
			all[ident{n.Account.Name, "subnet", s.ID}] = []json.RawMessage{raw(store.SubnetLine(s))}
		}
	}
	return all
}

// Alike reports whether some objects of an account are the same in two surveys.
func Alike(a, b *estate.Estate, account string, objects []Touched) bool {
	one, other := linesOf(a, []string{account}, false), linesOf(b, []string{account}, false)
	return !slices.ContainsFunc(objects, func(o Touched) bool {
		at := ident{o.Account, o.Kind, o.ID}
		return !sameTexts(one[at], other[at])
	})
}

// Same reports whether everything of an account is the same in two surveys.
func Same(a, b *estate.Estate, account string) bool {
	one, other := linesOf(a, []string{account}, false), linesOf(b, []string{account}, false)
	return maps.EqualFunc(one, other, sameTexts)
}

func sameTexts(a, b []json.RawMessage) bool {
	return slices.EqualFunc(a, b, func(x, y json.RawMessage) bool { return bytes.Equal(x, y) })
}

// attachedIn are the ids of the interfaces and subnets to which groups are attached.
func attachedIn(e *estate.Estate) map[ident][]string {
	all := make(map[ident][]string)
	note := func(g *estate.Group, id string) {
		at := ident{g.Account.Name, "group", g.ID}
		all[at] = append(all[at], id)
	}
	for _, i := range e.Instances {
		for _, f := range i.Interfaces {
			for _, g := range f.Groups {
				note(g, f.ID)
			}
		}
	}
	for _, n := range e.Networks {
		for _, s := range n.Subnets {
			for _, g := range s.Groups {
				note(g, s.ID)
			}
		}
	}
	return all
}

func raw(line string) json.RawMessage { return json.RawMessage(strings.TrimSuffix(line, "\n")) }

// A writer turns steps into requests, and notes which objects they touch.
type writer struct {
	touched  map[ident]bool
	objects  []Touched
	before   lines
	attached map[ident][]string
	services service.Names // for naming services as the definitions do
}

// step writes a step as a request. Rules and groups have the ids of the plan, some of which are
// made up.
func (w *writer) step(x *change.Step) Step {
	s := Step{Request: cloud.Request{Do: x.Do, Account: x.Account.Name}, Opens: x.Opens, Closes: x.Closes,
		Replaces: x.Replaces}
	switch {
	case x.Interface != nil:
		s.ID, s.Holder = x.Interface.ID, x.Interface.Instance.ID
		w.touch(x.Account.Name, "instance", s.Holder, x.Interface.Instance.Name)
	case x.Subnet != nil:
		s.ID = x.Subnet.ID
		w.touch(x.Account.Name, "subnet", s.ID, x.Subnet.Name)
	case x.List != nil:
		s.ID = x.List.ID
		w.touch(x.Account.Name, "list", s.ID, x.List.Name)
	default:
		s.ID = x.Group.ID
		w.touch(x.Account.Name, "group", s.ID, x.Group.Name)
	}
	for _, g := range x.Groups {
		s.Groups = append(s.Groups, reference(g, x.Account))
	}
	for _, e := range x.Entries {
		s.Entries = append(s.Entries, e.Range.String())
	}
	if x.Do == change.LabelGroup || x.Do == change.LabelList {
		s.Labels = x.Labels
	}
	for i := range x.Rules {
		s.Rules = append(s.Rules, raw(store.RuleLine(x.Group, &x.Rules[i])))
	}
	switch x.Do {
	case change.CreateGroup:
		made := *x.Group
		made.Labels = x.Labels // labels as at its creation: others may be added by a later step
		s.Object = raw(store.GroupLine(&made))
	case change.CreateList:
		s.Object = raw(store.ListLine(x.List))
		s.Entries = nil
	}
	s.Says = Says(x, w.services)
	return s
}

// reference is a group as rules of an account refer to it.
func reference(g *estate.Group, from *estate.Account) string {
	if g.Account.Name != from.Name {
		return g.Account.Name + "/" + g.ID
	}
	return g.ID
}

func (w *writer) touch(account, kind, id, name string) {
	at := ident{account, kind, id}
	if w.touched[at] || change.IsNew(id) {
		return
	}
	w.touched[at] = true
	t := Touched{Account: account, Kind: kind, ID: id, Name: name, Before: w.before[at], Attached: w.attached[at]}
	t.Revision = digest(bytes.Join(asBytes(t.Before), []byte("\n")))
	w.objects = append(w.objects, t)
}

func asBytes(lines []json.RawMessage) [][]byte {
	all := make([][]byte, len(lines))
	for i, l := range lines {
		all[i] = l
	}
	return all
}

// Says is a step in words.
func Says(x *change.Step, services service.Names) string {
	var rules []string
	for i := range x.Rules {
		rules = append(rules, x.Rules[i].Sentence(services))
	}
	var groups []string
	for _, g := range x.Groups {
		groups = append(groups, g.InCloud())
	}
	attached := strings.Join(groups, ", ")
	if attached == "" {
		attached = "no group"
	}
	switch x.Do {
	case change.CreateGroup:
		return "make the group " + x.Group.Path()
	case change.LabelGroup:
		return "mark the group " + x.Group.Path() + " as ours"
	case change.DeleteGroup:
		return "delete the group " + x.Group.Path()
	case change.AddRules:
		text := fmt.Sprintf("%s: add %s", x.Group.Path(), strings.Join(rules, "; "))
		if x.Bridges() {
			text += ", until all have changed groups"
		}
		return text
	case change.RemoveRule:
		text := fmt.Sprintf("%s: remove %s", x.Group.Path(), strings.Join(rules, "; "))
		if x.Bridges() {
			text += ", as all have changed groups"
		}
		return text
	case change.CreateList:
		return fmt.Sprintf("make the list %s/%s", x.Account.Name, x.List.Name)
	case change.LabelList:
		return fmt.Sprintf("mark the list %s/%s as ours", x.Account.Name, x.List.Name)
	case change.SetEntries:
		return fmt.Sprintf("the list %s/%s holds %s", x.Account.Name, x.List.Name,
			count.Of(len(x.Entries), "range", "ranges"))
	case change.DeleteList:
		return fmt.Sprintf("delete the list %s/%s", x.Account.Name, x.List.Name)
	case change.Attach:
		return fmt.Sprintf("%s has %s", x.Interface.Instance.Path(), attached)
	case change.AttachToSubnet:
		return fmt.Sprintf("the subnet %s has %s", x.Subnet.Path(), attached)
	}
	return string(x.Do)
}
