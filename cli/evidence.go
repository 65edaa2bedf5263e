package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"isonomos/core/flow"
	"isonomos/core/near"
	"isonomos/evidence"
	"isonomos/render"
	"isonomos/store"
)

// sourceFlags say how evidence is read, and from which database.
func sourceFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "column", Usage: "a column has another name in the evidence: `OURS=THEIRS`, such " +
			"as dst=server_ip"},
		&cli.BoolFlag{Name: "strict", Usage: "stop at a record that can't be read (else it is counted and left out)"},
		&cli.StringFlag{Name: "table", Usage: "read the flows of a `TABLE` or view over the PostgreSQL protocol, " +
			"summed by the server"},
		&cli.StringFlag{Name: "query", Usage: "read the flows that an SQL `QUERY` gives, summed by the server"},
		&cli.StringFlag{Name: "database", Usage: "the database's connection `SETTINGS`, without a password, such as " +
			"\"host=/run/postgresql dbname=flows\"; what is left out comes from the PG… variables, a service " +
			"file or a password file"},
		windowFlag(), storeFlag(),
	}
}

// evidenceFlags name the evidence that a command uses.
func evidenceFlags(use string) []cli.Flag {
	return append([]cli.Flag{
		&cli.StringSliceFlag{Name: "flows", Usage: use + " the observed flows in `FILE` (CSV, JSON Lines, pcap, " +
			"pcapng, IPFIX; also gzip or zstd; may be given again; default: those in the store, see isonomos " +
			"flows add)"},
	}, sourceFlags()...)
}

func windowFlag() cli.Flag {
	return &cli.StringFlag{Name: "window", Usage: "only flows of the last `DAYS` of the evidence (14d), or of " +
		"days from..to (2026-11-06..2026-11-19)"}
}

func storeFlag() cli.Flag {
	return &cli.StringFlag{Name: "store", Usage: "keep evidence and the journal in `FILE` (default: isonomos.db " +
		"beside the definitions)", Sources: fromVariable("ISONOMOS_STORE")}
}

func storePath(c *cli.Command) string {
	if path := c.String("store"); path != "" {
		return path
	}
	folder := c.String("estate")
	if filepath.Ext(folder) != "" && folder != "." { // a single file of definitions
		folder = filepath.Dir(folder)
	}
	return filepath.Join(folder, "isonomos.db")
}

// openStore opens the store. Where there is none yet and create is false, it returns nil.
func (a *App) openStore(c *cli.Command, create bool) (*store.Store, error) {
	path := storePath(c)
	if info, err := os.Lstat(path); err == nil && !info.Mode().IsRegular() && c.String("store") == "" {
		return nil, refused("%s is not a regular file, and is where definitions are: name the store itself "+
			"with --store", path)
	}
	s, err := store.Open(path, create)
	if errors.Is(err, store.ErrNoStore) {
		return nil, nil
	}
	if err != nil {
		return nil, unreachable("the store %s can't be used: %v", path, err)
	}
	return s, nil
}

// A window says which days of evidence count. The zero value means all.
type window struct {
	last     int32 // this many days, ending with the last one of the evidence
	from, to int32 // or these days, both included
}

// parseWindow reads a window: 14d, or FROM..TO.
func parseWindow(text string) (window, error) {
	if text == "" {
		return window{}, nil
	}
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil && n > 0 && n < 1<<20 {
			return window{last: int32(n)}, nil
		}
	}
	if from, to, ok := strings.Cut(text, ".."); ok {
		a, errA := time.Parse(time.DateOnly, from)
		b, errB := time.Parse(time.DateOnly, to)
		if errA == nil && errB == nil && !b.Before(a) && a.Unix() >= 0 {
			return window{from: int32(a.Unix() / 86400), to: int32(b.Unix() / 86400)}, nil
		}
	}
	return window{}, usage("--window %q is neither a number of days (14d) nor from one day to another "+
		"(2026-11-06..2026-11-19)", text)
}

// days are the first and last day of the window, given the last day of the evidence.
func (w window) days(last int32) (from, to int32) {
	switch {
	case w.last > 0:
		return last - w.last + 1, last
	case w.to > 0:
		return w.from, w.to
	}
	return 0, math.MaxInt32
}

// namedDatabase refuses a database without a table or query to read from it, and one with both.
func (a *App) namedDatabase(c *cli.Command) error {
	if c.String("database") != "" && c.String("table") == "" && c.String("query") == "" {
		return usage("--database says where to read, but not what: add --table or --query")
	}
	return a.oneWay(c, "table", "query")
}

// evidenceOf reads the evidence that a command uses: the files and the table that its flags name,
// or else the store. It is nil where there is no evidence.
func (a *App) evidenceOf(ctx context.Context, c *cli.Command) (*flow.Summary, error) {
	if err := a.namedDatabase(c); err != nil {
		return nil, err
	}
	w, err := parseWindow(c.String("window"))
	if err != nil {
		return nil, err
	}
	files := c.StringSlice("flows")
	if len(files) == 0 && c.String("table") == "" && c.String("query") == "" {
		return a.keptEvidence(ctx, c, w)
	}
	var all flow.Daily
	whole := w == (window{})
	var sum flow.Summary
	for _, file := range files {
		if whole { // sums by day take more room, and are kept only where a command needs them
			read, _, err := a.readSummary(c, file)
			if err != nil {
				return nil, err
			}
			sum.Merge(read)
			continue
		}
		read, _, err := a.readDaily(c, file)
		if err != nil {
			return nil, err
		}
		all.Merge(read)
	}
	if c.String("table") != "" || c.String("query") != "" {
		read, _, err := a.readTable(ctx, c)
		if err != nil {
			return nil, err
		}
		all.Merge(read)
	}
	if days := all.Days(); len(days) > 0 {
		from, to := w.days(days[len(days)-1])
		sum.Merge(all.Between(from, to))
		if sum.First.IsZero() {
			a.note("there is no flow within --window %s", c.String("window"))
		}
	}
	return &sum, nil
}

// keptEvidence reads the evidence of the store, or nil where it has none.
func (a *App) keptEvidence(ctx context.Context, c *cli.Command, w window) (*flow.Summary, error) {
	s, err := a.openStore(c, false)
	if s == nil || err != nil {
		if err == nil && w != (window{}) {
			err = usage("--window picks from evidence, and there is none: name it with --flows FILE, or add it " +
				"to the store with isonomos flows add FILE")
		}
		return nil, err
	}
	defer s.Close()
	last, ok, err := s.LastDay(ctx)
	if err == nil && ok {
		from, to := w.days(last)
		var sum *flow.Summary
		if sum, err = s.Evidence(ctx, from, to); err == nil {
			a.note("resting on the evidence kept in %s (%s)", storePath(c), a.say(c)("flows", "show"))
			return sum, nil
		}
	}
	if err != nil {
		return nil, unreachable("the store %s can't be read: %v", storePath(c), err)
	}
	return nil, nil
}

// readOptions are the options for reading evidence that the flags give.
func readOptions(c *cli.Command) (evidence.Options, error) {
	o := evidence.Options{Strict: c.Bool("strict"), Columns: make(map[string]string)}
	for _, text := range c.StringSlice("column") {
		ours, theirs, ok := strings.Cut(text, "=")
		if !ok || theirs == "" {
			return o, usage("--column %q has another form: OURS=THEIRS, such as dst=server_ip", text)
		}
		if !slices.Contains(evidence.Columns, ours) {
			if best, ok := near.Best(ours, evidence.Columns); ok {
				return o, usage("--column %q: there is no column %q of ours, %q is near", text, ours, best)
			}
			return o, usage("--column %q: our columns are %s", text, strings.Join(evidence.Columns, ", "))
		}
		o.Columns[ours] = theirs
	}
	return o, nil
}

// readSummary sums the flows of a file.
func (a *App) readSummary(c *cli.Command, file string) (*flow.Summary, evidence.Report, error) {
	return readSum[flow.Summary](a, c, file, nil)
}

// readDaily sums the flows of a file day by day.
func (a *App) readDaily(c *cli.Command, file string) (*flow.Daily, flow.Source, error) {
	digest := sha256.New()
	days, report, err := readSum[flow.Daily](a, c, file, digest)
	return days, flow.Source{Name: file, Digest: hex.EncodeToString(digest.Sum(nil)), Format: report.Format,
		Records: report.Records, Skipped: report.Skipped.Count}, err
}

// summing is a pointer to a sum of flows that can be taken in parts and merged.
type summing[Sum any] interface {
	*Sum
	Add(*flow.Record)
	Merge(*Sum)
	Close()
}

// readSum sums the flows of a file in parts, one for each goroutine, and merges them.
func readSum[Sum any, P summing[Sum]](a *App, c *cli.Command, file string, digest hash.Hash) (*Sum, evidence.Report,
	error) {
	var parts []*Sum
	report, err := a.readEvidence(c, file, digest, func() func(*flow.Record) {
		part := P(new(Sum))
		parts = append(parts, part)
		return part.Add
	})
	all := P(new(Sum))
	for _, part := range parts {
		all.Merge(part)
	}
	all.Close()
	return all, report, err
}

// readEvidence reads a file of evidence and returns a report of what it left out. Where a digest is
// given, the whole file is written to it too.
func (a *App) readEvidence(c *cli.Command, file string, digest hash.Hash,
	take func() func(*flow.Record)) (evidence.Report, error) {
	o, err := readOptions(c)
	if err != nil {
		return evidence.Report{}, err
	}
	o.Take = take
	in, err := a.openInto(file, digest)
	if err != nil {
		return evidence.Report{}, err
	}
	defer in.Close()
	var text io.Reader = in
	if c, ok := in.(closer); ok {
		text = c.Reader // it is buffered already
	}
	report, err := evidence.Read(text, shownName(file), o)
	if err == nil && digest != nil {
		_, err = io.Copy(io.Discard, in) // the digest covers what comes after a cut record too
	}
	if err != nil {
		return report, &failure{exitUsage, err}
	}
	return report, a.tellReport(report, shownName(file))
}

// tellReport prints what was left out of a file. It is an error if nothing at all could be read.
func (a *App) tellReport(report evidence.Report, name string) error {
	for _, n := range report.Notes {
		a.note("%s", n)
	}
	switch {
	case report.Skipped.Count > 0 && report.Records == 0:
		return usage("none of %s of %s can be read; the first: %s",
			render.Count(report.Skipped.Count, "record", "records"), name, report.Skipped.First)
	case report.Skipped.Count > 0:
		a.note("%s of %s of %s can't be read and %s left out; the first: %s", render.Number(report.Skipped.Count),
			render.Count(report.Records+report.Skipped.Count, "record", "records"), name,
			map[bool]string{true: "is", false: "are"}[report.Skipped.Count == 1], report.Skipped.First)
	}
	return nil
}

// readTable has the database sum its flows by day.
func (a *App) readTable(ctx context.Context, c *cli.Command) (*flow.Daily, flow.Source, error) {
	t := evidence.Table{Connection: c.String("database"), Name: c.String("table"), Query: c.String("query")}
	if hasPassword(t.Connection) {
		return nil, flow.Source{},
			usage("--database holds a password, which everyone on this machine can read in the list of " +
				"processes: put it into PGPASSWORD or a password file (PGPASSFILE)")
	}
	w, err := parseWindow(c.String("window"))
	if err != nil {
		return nil, flow.Source{}, err
	}
	if w.to > 0 { // the server can leave out days that do not count
		t.From, t.To = int64(w.from)*86400, int64(w.to+1)*86400
	}
	o, err := readOptions(c)
	if err != nil {
		return nil, flow.Source{}, err
	}
	days := new(flow.Daily)
	report, err := evidence.ReadTable(ctx, t, o, days.Of)
	if err != nil {
		return nil, flow.Source{}, unreachable("%w", err)
	}
	days.Close()
	name := "table " + t.Name
	if t.Name == "" {
		name = "query " + t.Query
	}
	digest := sha256.New()
	for _, day := range days.Days() {
		for _, x := range days.Of(day).Sums() {
			fmt.Fprintln(digest, day, x.Key, x.Flows, x.Completed, x.Attempts, x.Loaded, x.First, x.Last, x.Bytes)
		}
	}
	source := flow.Source{Name: name, Digest: hex.EncodeToString(digest.Sum(nil)), Format: report.Format,
		Records: report.Records, Skipped: report.Skipped.Count}
	return days, source, a.tellReport(report, name)
}

// hasPassword reports whether a database's connection string holds a password.
func hasPassword(settings string) bool {
	if u, err := url.Parse(settings); err == nil && u.Scheme != "" {
		if _, has := u.User.Password(); has || u.Query().Has("password") {
			return true
		}
	}
	return strings.Contains(strings.ReplaceAll(strings.ToLower(settings), " ", ""), "password=")
}
