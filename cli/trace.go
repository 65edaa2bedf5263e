package cli

import (
	"bufio"
	"context"
	"errors"
	"strings"

	"github.com/urfave/cli/v3"

	"isonomos/core/decide"
	"isonomos/render"
	"isonomos/work"
)

func init() { addCommand(70, (*App).traceCommand) }

func (a *App) traceCommand() *cli.Command {
	return &cli.Command{
		Name:      "trace",
		Usage:     "does this flow pass, and which rule says so",
		ArgsUsage: "[flags] SOURCE DESTINATION SERVICE",
		Description: "Follows one flow through routes, filters at both ends, and balancers, and names the rule, " +
			"file and line that decides at each step. The ends are instances (name, account/name or id) " +
			"or addresses. The service is a name, or a protocol with a port or ICMP type.\n\n" +
			"  isonomos trace --survey survey.jsonl booking-1 ledger-1 tcp 5432\n" +
			"  isonomos trace --survey survey.jsonl 198.51.100.20 front-door https\n" +
			"  isonomos trace --survey survey.jsonl ops-1 gauge-3 icmp 8/0\n" +
			"  isonomos trace --survey survey.jsonl --batch questions.txt\n\n" +
			"The verdict is passes, stopped (by a filter), no-route (no route, peering, public address or" +
			" listener), one-way (the request arrives, an answer is stopped) or undecided (the survey " +
			"does not say enough). With definitions and a survey, the clouds are judged as they are; " +
			"where the answer differs once the definitions are carried out, a line says so. Exit 0 if it " +
			"passes, else 1. With --batch: 0 if all pass, 1 if one does not, 2 if a question can't be " +
			"asked; each question has an answer in the order of the lines.",
		Flags: []cli.Flag{estateFlag(), surveyFlag(), liveFlag(), stateFlag(false), formatFlag("json"),
			&cli.StringFlag{Name: "batch", Usage: "answer the questions of `FILE` (- for standard input), a line " +
				"each: SOURCE DESTINATION PROTOCOL PORT [SOURCEPORT]; one JSON object a line comes out"},
			&cli.IntFlag{Name: "source-port", Value: -1, Usage: "the flow's source `PORT`; without it every " +
				"client port must get its answer", Validator: portOrNone, HideDefault: true},
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
		return usage("trace needs a source, a destination and a service: isonomos trace --survey survey.jsonl " +
			"booking-1 ledger-1 tcp 5432")
	}
	w, err := a.world(ctx, c)
	if err != nil {
		return err
	}
	for _, n := range w.Notes {
		a.note("%s", n)
	}
	judged, err := w.Judge(work.State(c.String("state")), false)
	if err != nil {
		return err
	}
	now := judged[0]
	point, err := work.OneService(w.Estate, args[0], args[1], args[2:])
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
		return usage("%w", err)
	}
	var then *render.Then
	if later := w.Once(now); later != nil {
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

func portOrNone(n int) error {
	if n < -1 || n > 65535 {
		return errors.New("a port goes from 0 to 65535")
	}
	return nil
}

// traceBatch answers questions, one a line, in the same order. A question that can't be asked is
// answered with an error object.
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
	judged, err := w.Judge(work.State(c.String("state")), false)
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
		q, err := work.Question(strings.Fields(text))
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
		return usage("%s holds no question: a line is SOURCE DESTINATION PROTOCOL PORT [SOURCEPORT]",
			shownName(c.String("batch")))
	case wrong > 0:
		return usage("%s of %s can't be asked: see their answers", render.Number(wrong),
			render.Count(asked, "question", "questions"))
	case stopped > 0:
		return quietly(exitFindings)
	}
	return nil
}
