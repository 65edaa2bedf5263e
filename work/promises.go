package work

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/core/service"
	"isonomos/enact"
	"isonomos/nomos"
	"isonomos/nomos/syntax"
)

// Promises are what definitions promise beside traffic: lines of laws, expectations, exemptions from laws, and
// access that may be lent. They are sorted. Services stand for their ports, lists and groups for themselves: that a
// list that a law names has other entries is not seen.
func Promises(d nomos.Definitions) []enact.Promise {
	all := promisedByLaws(d)
	for _, x := range d.Expects {
		text := x.Text + inPorts(d.Estate.Services, x.Services)
		all = append(all, enact.Promise{Kind: enact.PromisedByExpect, Key: text, Text: text})
	}
	for _, x := range d.Exemptions {
		about := fmt.Sprintf("%s %s from %s", x.Kind, x.Subject, x.Law)
		if !x.Services.IsEmpty() && !x.Services.Equal(service.All) {
			about += " on " + service.Names{}.Describe(x.Services)
		}
		all = append(all, enact.Promise{Kind: enact.Exempted, Key: about, Extent: x.Until.Unix(),
			Text: fmt.Sprintf("%s, until %s", about, x.Until.Add(-time.Second).Format(time.DateOnly))})
	}
	for _, g := range d.Estate.Groups {
		for i := range g.Lends {
			l := &g.Lends[i]
			about := fmt.Sprintf("%s: lend %s to %s", g.Path(), service.Names{}.Describe(service.Of(l.Services...)),
				estate.PeerWords(l.Peers))
			all = append(all, enact.Promise{Kind: enact.Lendable, Key: about, Extent: int64(l.AtMost / time.Second),
				Text: about + " for at most " + count.Duration(l.AtMost)})
		}
	}
	slices.SortFunc(all, func(a, b enact.Promise) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Key, b.Key), cmp.Compare(a.Extent, b.Extent))
	})
	return slices.CompactFunc(all, func(a, b enact.Promise) bool { return a == b })
}

func promisedByLaws(d nomos.Definitions) []enact.Promise {
	type place struct {
		file   string
		offset int
	}
	services := make(map[place]service.Set)
	for _, l := range d.Laws {
		for _, o := range slices.Concat(l.Never, l.Only) {
			services[place{o.Origin.File, o.Origin.Offset}] = o.Services
		}
	}
	all := []enact.Promise{}
	for _, t := range d.Trees {
		for _, decl := range t.Decls {
			l, ok := decl.(*syntax.Law)
			if !ok {
				continue
			}
			for _, line := range l.Lines {
				text := l.Name.Text + ": " + strings.Join(strings.Fields(t.Source.Of(line.Span)), " ")
				if line.Open != nil {
					text += inPorts(d.Estate.Services, services[place{t.Source.Name, int(line.Open.Span.Start)}])
				}
				p := enact.Promise{Kind: enact.PromisedByLaw, Key: text, Text: "law " + text}
				if line.Key.Text == "only" {
					p.Kind = enact.AllowedByLaw
				}
				all = append(all, p)
			}
		}
	}
	return all
}

// inPorts adds the ports of services where defined names hide them.
func inPorts(names service.Names, set service.Set) string {
	if ports := (service.Names{}).Describe(set); ports != names.Describe(set) && ports != "" {
		return " (" + ports + ")"
	}
	return ""
}
