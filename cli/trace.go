package cli

import (
	"context"
	"fmt"
	"net/netip"
	"strings"

	"github.com/urfave/cli/v3"

	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/near"
	"isonomos/core/service"
	"isonomos/render"
)

func (a *App) traceCommand() *cli.Command {
	return &cli.Command{
		Name:      "trace",
		Usage:     "does this flow pass, and which rule says so",
		ArgsUsage: "[flags] SOURCE DESTINATION SERVICE",
		Description: "Follows one flow through routes, filters at both ends and balancers, and names the rule, file and\n" +
			"line that decides at each step. The ends are instances (name, account/name or id) or addresses; the\n" +
			"service is a name, or a protocol with a port or ICMP type.\n\n" +
			"  isonomos trace --survey survey.jsonl booking-1 ledger-1 tcp 5432\n" +
			"  isonomos trace --survey survey.jsonl 198.51.100.20 front-door https\n" +
			"  isonomos trace --survey survey.jsonl ops-1 gauge-3 icmp 8/0\n\n" +
			"The verdict is passes, stopped (by a filter), no-way (no route, peering, public address or listener),\n" +
			"one-way (the request arrives, an answer is stopped) or undecided (the survey does not say enough).\n" +
			"Exit 0 if it passes, else 1.",
		Flags:  []cli.Flag{estateFlag(), surveyFlag(), asSurveyedFlag(), formatFlag("json")},
		Action: a.trace,
	}
}

func (a *App) trace(_ context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) < 3 {
		return usage("trace needs a source, a destination and a service: isonomos trace booking-1 ledger-1 tcp 5432")
	}
	w, err := a.world(c)
	if err != nil {
		return err
	}
	for _, n := range w.Notes {
		a.note("%s", n)
	}
	point, err := servicePoint(w.Estate, args[0], args[1], args[2:])
	if err != nil {
		return err
	}
	answer, err := decide.New(w.Estate).Trace(decide.Question{Source: args[0], Destination: args[1], Service: point})
	if err != nil {
		return usage("%v", err)
	}
	if c.String("format") == "json" {
		if err := render.TraceJSON(a.Stdout, w.Estate, answer); err != nil {
			return err
		}
	} else {
		s := a.screen(c)
		render.Trace(s, w.Estate, answer)
		if s.Err() != nil {
			return s.Err()
		}
	}
	if answer.Verdict != decide.Passes {
		return quietly(exitFindings)
	}
	return nil
}

// servicePoint reads the service of a question: one single port, or ICMP type and code.
func servicePoint(e *estate.Estate, from, to string, words []string) (service.Point, error) {
	text := strings.Join(words, " ")
	var set service.Set
	if named, ok := e.Services.Lookup(text); ok {
		set = named.Set()
	} else if spec, err := service.ParseSpec(text); err == nil {
		set = service.Of(spec)
	} else if len(words) == 1 {
		return 0, noService(e, text)
	} else {
		return 0, usage("%v", err)
	}
	points := candidates(set, from, to)
	if len(points) != 1 {
		return 0, usage("%s stands for %s: ask for one of them", text, set)
	}
	return points[0], nil
}

// candidates are the single services of a set; of ICMP types the first code,
// and only those that the family of an address among the ends can carry.
func candidates(set service.Set, ends ...string) []service.Point {
	six, four := false, false
	for _, end := range ends {
		if a, err := netip.ParseAddr(end); err == nil {
			six, four = six || a.Is6(), four || a.Is4()
		}
	}
	if !six && !four {
		four = true // names have IPv4 addresses first
	}
	var points []service.Point
	for _, spec := range set.Specs() {
		switch {
		case spec.Any, spec.Protocol == service.ICMPv6 && !six && four && len(set.Specs()) > 1, spec.Protocol == service.ICMP && six && len(set.Specs()) > 1:
			continue
		case spec.Protocol == service.ICMP || spec.Protocol == service.ICMPv6:
			points = append(points, service.PointOf(spec.Protocol, spec.From))
		case spec.From == spec.To:
			points = append(points, service.PointOf(spec.Protocol, spec.From))
		default:
			points = append(points, service.PointOf(spec.Protocol, spec.From), service.PointOf(spec.Protocol, spec.To))
		}
	}
	return points
}

func noService(e *estate.Estate, text string) error {
	var names []string
	for _, n := range e.Services.All() {
		names = append(names, n.Name)
	}
	if best, ok := near.Best(text, names); ok {
		named, _ := e.Services.Lookup(best)
		return usage("no service is called %q: %q (%s) is near", text, best, named.Set())
	}
	if strings.Trim(text, "0123456789") == "" {
		return usage("a port needs its protocol: tcp %s or udp %s", text, text)
	}
	return usage("no service is called %q: write a name like https, or a protocol and port like tcp 8443", fmt.Sprint(text))
}
