package render

import (
	"io"
	"slices"
	"time"

	"isonomos/core/compile"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/law"
	"isonomos/nomos"
)

// Resolved definitions as JSON: docs/schemas/definitions.json.

type placeJSON struct {
	File string `json:"file"`
	Line int    `json:"line"`
}

type throughJSON struct {
	Kind string `json:"kind"`
	Name string `json:"name,omitempty"`
	placeJSON
}

type ruleJSON struct {
	Direction string       `json:"direction"`
	Action    string       `json:"action"`
	Sentence  string       `json:"sentence"`
	Services  []string     `json:"services"`
	Peers     []string     `json:"peers"`
	Except    []string     `json:"except,omitempty"`
	Because   string       `json:"because,omitempty"`
	Until     string       `json:"until,omitempty"`
	Stateless bool         `json:"stateless,omitempty"`
	AtMost    string       `json:"at_most,omitempty"` // of a lend
	Rank      int          `json:"rank,omitempty"`
	Cost      int          `json:"cost"`
	Through   *throughJSON `json:"through,omitempty"`
	placeJSON
}

type groupJSON struct {
	Group       string            `json:"group"`
	Account     string            `json:"account"`
	Network     string            `json:"network"`
	Name        string            `json:"name"`
	InCloud     string            `json:"in_cloud"`
	For         string            `json:"for"`
	Description string            `json:"description"`
	Labels      map[string]string `json:"labels,omitempty"`
	Existing    bool              `json:"existing,omitempty"`
	Follows     bool              `json:"follows_instances,omitempty"`
	CostIn      int               `json:"cost_in"`
	CostOut     int               `json:"cost_out"`
	QuotaEach   int               `json:"quota_each_direction,omitempty"`
	QuotaBoth   int               `json:"quota_both_directions,omitempty"`
	Rules       []ruleJSON        `json:"rules"`
	Lends       []ruleJSON        `json:"lends"`
	Compiled    []ruleJSON        `json:"compiled,omitempty"`
	AnswerRoom  string            `json:"answer_room,omitempty"`
	placeJSON
}

type accountJSON struct {
	Name   string            `json:"name"`
	Cloud  string            `json:"cloud"`
	ID     string            `json:"id,omitempty"`
	Region string            `json:"region,omitempty"`
	Folder string            `json:"folder,omitempty"`
	Labels map[string]string `json:"labels,omitempty"`
	Limits map[string]int    `json:"limits,omitempty"`
	placeJSON
}

type networkJSON struct {
	Network string   `json:"network"`
	Ranges  []string `json:"ranges"`
	Peered  []string `json:"peered"`
	Subnets []string `json:"subnets"`
	placeJSON
}

type listJSON struct {
	Name        string   `json:"name"`
	Owner       string   `json:"owner"`
	Description string   `json:"description,omitempty"`
	Entries     []string `json:"entries"`
	Published   []string `json:"published"`
	Parts       int      `json:"conditional_parts,omitempty"`
	Cost        int      `json:"cost"`
	placeJSON
}

type namedJSON struct {
	Name  string `json:"name,omitempty"`
	Text  string `json:"text"`
	Until string `json:"until,omitempty"`
	placeJSON
}

// DefinitionsJSON writes resolved definitions as a JSON document, version 1. Each rule says where
// it is written, and which pattern or connect wrote it. Groups have the rules of their clouds
// beside them if these are given.
func DefinitionsJSON(w io.Writer, d nomos.Definitions, costs compile.Costs, compiled []compile.Compiled,
	unread []estate.Unread) error {
	made := make(map[string]*compile.Compiled)
	for i := range compiled {
		made[compiled[i].Group.Path()] = &compiled[i]
	}
	e := d.Estate
	out := struct {
		Version  int               `json:"version"`
		Estate   string            `json:"estate"`
		Title    string            `json:"title,omitempty"`
		Clouds   map[string]string `json:"clouds"`
		Accounts []accountJSON     `json:"accounts"`
		Networks []networkJSON     `json:"networks"`
		Lists    []listJSON        `json:"lists"`
		Groups   []groupJSON       `json:"groups"`
		Laws     []namedJSON       `json:"laws"`
		Exempt   []namedJSON       `json:"exemptions"`
		Expects  []namedJSON       `json:"expectations"`
		Unread   []unreadJSON      `json:"unread"` // of the survey that they were checked on
	}{1, e.Name, e.Title, make(
		map[string]string), []accountJSON{}, []networkJSON{}, []listJSON{}, []groupJSON{}, []namedJSON{},
		[]namedJSON{}, []namedJSON{}, unreadToJSON(unread)}
	for _, c := range e.Clouds {
		out.Clouds[c.Name] = c.Dialect
	}
	for _, a := range e.Accounts {
		out.Accounts = append(out.Accounts,
			accountJSON{a.Name, a.Cloud.Name, a.ID, a.Region, a.Folder, a.Labels, a.Limits, at(a.Origin)})
	}
	for _, n := range e.Networks {
		x := networkJSON{Network: n.Path(), Ranges: []string{}, Peered: []string{}, Subnets: []string{},
			placeJSON: at(n.Origin)}
		for _, r := range n.Ranges {
			x.Ranges = append(x.Ranges, r.String())
		}
		for _, p := range n.Peered {
			x.Peered = append(x.Peered, p.Path())
		}
		for _, s := range n.Subnets {
			x.Subnets = append(x.Subnets, s.Name)
		}
		out.Networks = append(out.Networks, x)
	}
	for _, l := range e.Lists {
		x := listJSON{l.Name, l.Owner, l.Description, []string{}, []string{}, len(l.Parts), l.Cost(), at(l.Origin)}
		for _, entry := range l.Entries {
			x.Entries = append(x.Entries, entry.Range.String())
		}
		for _, p := range l.Published {
			x.Published = append(x.Published, p.Name)
		}
		out.Lists = append(out.Lists, x)
	}
	for _, g := range e.Groups {
		x := groupToJSON(e, g, costs)
		if c := made[g.Path()]; c != nil {
			x.Compiled, x.AnswerRoom = compiledToJSON(e, c.Group), roomText(e, c)
		}
		out.Groups = append(out.Groups, x)
	}
	for _, l := range d.Laws {
		out.Laws = append(out.Laws, namedJSON{Name: l.Name, Text: l.Title, placeJSON: at(l.Origin)})
	}
	for _, x := range d.Exemptions {
		out.Exempt = append(out.Exempt,
			namedJSON{Name: x.Law, Text: x.Subject, Until: moment(x.Until), placeJSON: at(x.Origin)})
	}
	out.Expects = append(out.Expects, expectsToJSON(d.Expects)...)
	return writeJSON(w, out)
}

func expectsToJSON(expects []law.Expectation) []namedJSON {
	var list []namedJSON
	for _, x := range expects {
		list = append(list, namedJSON{Text: x.Text, placeJSON: at(x.Origin)})
	}
	return list
}

func groupToJSON(e *estate.Estate, g *estate.Group, costs compile.Costs) groupJSON {
	d := decide.Dialect(g.Account)
	q := compile.QuotaOf(d, g)
	x := groupJSON{
		Group: g.Path(), Account: g.Account.Name, Network: g.Network.Name, Name: g.Name, InCloud: g.InCloud(),
		For: string(g.For), Description: g.Description,
		Labels: g.Labels, Existing: g.Existing, Follows: g.Follows, QuotaEach: q.Direction, QuotaBoth: q.Together,
		CostIn: costs[g.Path()].In, CostOut: costs[g.Path()].Out, Rules: []ruleJSON{}, Lends: []ruleJSON{},
		placeJSON: at(g.Origin),
	}
	for i := range g.Rules {
		r := ruleToJSON(e, &g.Rules[i])
		r.Cost = compile.Cost(d, g, &g.Rules[i])
		x.Rules = append(x.Rules, r)
	}
	for i := range g.Lends {
		r := ruleToJSON(e, &g.Lends[i].Rule)
		r.AtMost, r.Action = g.Lends[i].AtMost.String(), "lend"
		r.Sentence = g.Lends[i].Sentence() + " for at most " + g.Lends[i].AtMost.String()
		x.Lends = append(x.Lends, r)
	}
	return x
}

// compiledToJSON are the rules of a compiled group.
func compiledToJSON(e *estate.Estate, g *estate.Group) []ruleJSON {
	rules := make([]ruleJSON, 0, len(g.Rules))
	for i := range g.Rules {
		r := withFullNames(g.Rules[i])
		x := ruleToJSON(e, &r)
		x.Rank, x.Cost = r.Rank, compile.Cost(decide.Dialect(g.Account), g, &r)
		rules = append(rules, x)
	}
	return rules
}

// withFullNames is a rule that names groups by their full names.
func withFullNames(r estate.Rule) estate.Rule {
	r.Peers = slices.Clone(r.Peers)
	for i, p := range r.Peers {
		if p.Kind == estate.PeerGroup {
			named := *p.Group
			named.Name = p.Group.Path()
			r.Peers[i].Group = &named
		}
	}
	return r
}

func ruleToJSON(e *estate.Estate, r *estate.Rule) ruleJSON {
	x := ruleJSON{Direction: string(r.Direction), Action: string(r.Action), Sentence: r.Sentence(e.Services),
		Services: []string{}, Peers: []string{},
		Because: r.Description, Until: moment(r.Until), Stateless: r.Stateless, placeJSON: at(r.Origin)}
	for _, s := range r.Services {
		x.Services = append(x.Services, s.String())
	}
	for _, p := range r.Peers {
		x.Peers = append(x.Peers, p.String())
	}
	for _, p := range r.Except {
		x.Except = append(x.Except, p.String())
	}
	if r.Through != nil {
		x.Through = &throughJSON{r.Through.Kind, r.Through.Name, at(r.Through.Origin)}
	}
	return x
}

func at(o estate.Origin) placeJSON { return placeJSON{o.File, o.Line} }

func moment(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}
