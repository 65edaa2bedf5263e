package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
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
			"  isonomos trace --survey survey.jsonl ops-1 gauge-3 icmp 8/0\n" +
			"  isonomos trace --survey survey.jsonl --batch questions.txt\n\n" +
			"The verdict is passes, stopped (by a filter), no-route (no route, peering, public address or listener),\n" +
			"one-way (the request arrives, an answer is stopped) or undecided (the survey does not say enough).\n" +
			"With definitions and a survey, the clouds are judged as they are; where the answer differs once the\n" +
			"definitions are carried out, a line says so.\n" +
			"Exit 0 if it passes, else 1. With --batch: 0 if all pass, 1 if one does not, 2 if a question can't be\n" +
			"asked; each question has an answer in the order of the lines.",
		Flags: []cli.Flag{estateFlag(), surveyFlag(), liveFlag(), stateFlag(false), formatFlag("json"),
			&cli.StringFlag{Name: "batch", Usage: "answer the questions of `FILE` (- for standard input), a line each: SOURCE DESTINATION PROTOCOL PORT [SOURCEPORT]; one JSON object a line comes out"},
			&cli.IntFlag{Name: "source-port", Value: -1, Usage: "the flow's source `PORT`; without it every client port must get its answer", Validator: portOrNone, HideDefault: true},
		},
		Action: a.trace,
	}
}

func (a *App) trace(ctx context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if c.String("batch") != "" {
		return a.traceBatch(ctx, c)
	}
	if len(args) < 3 {
		return usage("trace needs a source, a destination and a service: isonomos trace --survey survey.jsonl booking-1 ledger-1 tcp 5432")
	}
	w, err := a.world(ctx, c)
	if err != nil {
		return err
	}
	for _, n := range w.Notes {
		a.note("%s", n)
	}
	judged, err := states(c, w, false)
	if err != nil {
		return err
	}
	now := judged[0]
	point, err := servicePoint(w.Estate, args[0], args[1], args[2:])
	if err != nil {
		return err
	}
	q := decide.Question{Source: args[0], Destination: args[1], Service: point}
	if n := c.Int("source-port"); n >= 0 {
		port := uint16(n)
		q.SourcePort = &port
	}
	answer, err := decide.New(now.Estate).Trace(q)
	if err != nil {
		return usage("%v", err)
	}
	var then *render.Then
	if later := once(w, now); later != nil {
		if x, err := decide.New(later.Estate).Trace(q); err == nil {
			then = &render.Then{Estate: later.Estate, Answer: x}
		}
	}
	if c.String("format") == "json" {
		if err := render.TraceJSON(a.Stdout, now.Estate, answer, string(now.State), then); err != nil {
			return err
		}
	} else {
		s := a.screen(c)
		render.Trace(s, now.Estate, answer, string(now.State), then)
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
	switch {
	case len(points) == 1:
		return points[0], nil
	case text == set.String():
		return 0, usage("%s is more than one service, and a flow has one: ask for one such as tcp 443 or icmp 8/0", text)
	default:
		return 0, usage("%s stands for %s: ask for one of them", text, set)
	}
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

func portOrNone(n int) error {
	if n < -1 || n > 65535 {
		return errors.New("a port goes from 0 to 65535")
	}
	return nil
}

// traceBatch answers one question a line, in their order. A question that can't
// be asked gets an answer that says so.
func (a *App) traceBatch(ctx context.Context, c *cli.Command) error {
	if err := a.without(c, "batch", "source-port"); err != nil {
		return err
	}
	if c.Args().Present() {
		return usage("with --batch the questions come from the file, not from arguments")
	}
	w, err := a.world(ctx, c)
	if err != nil {
		return err
	}
	judged, err := states(c, w, false)
	if err != nil {
		return err
	}
	in, err := a.open(c.String("batch"))
	if err != nil {
		return err
	}
	defer in.Close()
	e := judged[0].Estate
	d := decide.New(e)
	out := bufio.NewWriter(a.Stdout)
	asked, wrong, stopped := 0, 0, 0
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		text := strings.TrimSpace(lines.Text())
		if text == "" || strings.HasPrefix(text, "#") {
			continue
		}
		var answer decide.Answer
		q, err := batchQuestion(strings.Fields(text))
		if err == nil {
			answer, err = d.Trace(q)
		}
		asked++
		switch {
		case err != nil:
			wrong++
		case answer.Verdict != decide.Passes:
			stopped++
		}
		if err := render.TraceLine(out, e, answer, string(judged[0].State), err); err != nil {
			return err
		}
	}
	if err := lines.Err(); err != nil {
		return usage("reading %s: %v", c.String("batch"), err)
	}
	if err := out.Flush(); err != nil {
		return err
	}
	switch {
	case asked == 0:
		return usage("%s holds no question: a line is SOURCE DESTINATION PROTOCOL PORT [SOURCEPORT]", shownName(c.String("batch")))
	case wrong > 0:
		return usage("%s of %s can't be asked: see their answers", render.Number(wrong), render.Count(asked, "question", "questions"))
	case stopped > 0:
		return quietly(exitFindings)
	}
	return nil
}

// batchQuestion reads SOURCE DESTINATION PROTOCOL PORT [SOURCEPORT]; for ICMP the
// port is type/code, for protocols without ports it is -.
func batchQuestion(fields []string) (decide.Question, error) {
	if len(fields) < 4 || len(fields) > 5 {
		return decide.Question{}, errors.New("a question is SOURCE DESTINATION PROTOCOL PORT [SOURCEPORT]")
	}
	q := decide.Question{Source: fields[0], Destination: fields[1]}
	protocol, err := service.ParseProtocol(fields[2])
	if err != nil {
		return q, err
	}
	text := service.ProtocolName(protocol)
	if fields[3] != "-" {
		text += " " + fields[3]
	}
	spec, err := service.ParseSpec(text)
	if err != nil {
		return q, err
	}
	portless := !service.HasPorts(protocol) && protocol != service.ICMP && protocol != service.ICMPv6
	if spec.From != spec.To || fields[3] == "-" && !portless {
		return q, fmt.Errorf("%s stands for more than one service: give one port, or type/code", text)
	}
	q.Service = service.PointOf(protocol, spec.From)
	if len(fields) == 5 {
		n, err := strconv.ParseUint(fields[4], 10, 16)
		if err != nil {
			return q, fmt.Errorf("%q is not a source port", fields[4])
		}
		port := uint16(n)
		q.SourcePort = &port
	}
	return q, nil
}
