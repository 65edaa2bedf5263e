package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/urfave/cli/v3"

	"isonomos/demo"
	"isonomos/render"
	"isonomos/store"
	"isonomos/store/whole"
	"isonomos/work"
)

func init() { addCommand(170, (*App).sandboxCommand) }

func (a *App) sandboxCommand() *cli.Command {
	return &cli.Command{
		Name:  "sandbox",
		Usage: "make estates and run clouds to try things on",
		Description: "Makes invented estates of any size, with planted mistakes, and serves stand-in clouds.\n\n" +
			"  isonomos sandbox run clouds\n" +
			"  isonomos sandbox fault --share 0.2 clouds\n" +
			"  isonomos sandbox open clouds tides/quay/berth-ledger rdp\n" +
			"  isonomos sandbox generate --accounts 100 --groups 5000 --rules 50000 --seed 7 large",
		Commands: []*cli.Command{a.standinCommand(), a.faultCommand(), a.openCommand(),
			a.generateCommand()},
	}
}

func (a *App) generateCommand() *cli.Command {
	count := func(name string, value int, of string) cli.Flag {
		return &cli.IntFlag{Name: name, Value: value, Usage: "about `N` " + of, Validator: notNegative}
	}
	return &cli.Command{
		Name: "generate",
		Metadata: takesArguments(1, 1, "needs one new folder",
			"isonomos sandbox generate --groups 5000 large"),
		Usage:     "make an estate of a given size, with mistakes planted in it",
		ArgsUsage: "[flags] FOLDER",
		Description: "Writes into a new folder: a survey in all four dialects with the proportions of a real " +
			"estate, the list of the mistakes planted in it (planted.jsonl: check, account, group, rule)," +
			" and a law that says what may be open (laws.nomos). The same size and seed make the same " +
			"files.\n\n" +
			"  isonomos sandbox generate --accounts 100 --groups 5000 --rules 50000 --seed 7 large\n" +
			"  isonomos audit --estate large --survey large/survey.jsonl.zst --severity high\n\n" +
			"With --careless it adds rules that are open to everyone, 14 days of flows of those who use " +
			"them (flows.csv.gz), and who really needs them (needs.jsonl), to test narrowing.\n\n" +
			"  isonomos sandbox generate --careless 500 careless\n" +
			"  isonomos narrow --all --estate careless --survey careless/survey.jsonl.zst --flows " +
			"careless/flows.csv.gz",
		Flags: []cli.Flag{
			count("accounts", 10, "accounts"), count("groups", 500, "groups"), count("rules", 5000, "rules"),
			count("careless", 0, "careless rules, with flows of who uses them"),
			&cli.IntFlag{Name: "instances", Value: -1, Usage: "about `N` instances (default: two for each group)"},
			&cli.IntFlag{Name: "seed", Value: 1, Usage: "another `SEED` makes another estate of that size"},
			&cli.StringFlag{Name: "pack", Value: "zstd", Usage: "pack the survey with `FORMAT`: zstd, gzip or none",
				Validator: oneOf("zstd", "gzip", "none")},
		},
		Action: a.generate,
	}
}

// mostGenerated bounds the size of generated estates, so that a slip of the finger does not fill
// the memory.
const mostGenerated = 20_000_000

func (a *App) generate(_ context.Context, c *cli.Command) error {
	size := demo.Size{Accounts: c.Int("accounts"), Groups: c.Int("groups"), Rules: c.Int("rules"),
		Instances: c.Int("instances"), Seed: uint64(c.Int("seed"))}
	if size.Instances < 0 {
		size.Instances = 2 * size.Groups
	}
	if size.Accounts < 1 || max(size.Accounts, size.Groups, size.Rules, size.Instances,
		c.Int("careless")) > mostGenerated {
		return usage("an estate has one account at least, and at most %s of anything", render.Number(mostGenerated))
	}
	folder := c.Args().First()
	if err := newFolder(folder); err != nil {
		return err
	}
	survey := filepath.Join(folder, "survey.jsonl"+map[string]string{"zstd": ".zst", "gzip": ".gz"}[c.String("pack")])
	others := []newFile{{path: filepath.Join(folder, "planted.jsonl")},
		{path: filepath.Join(folder, "laws.nomos"), text: "# What the audit of this estate is to know.\n\nestate " +
			"generated\n\n" + demo.MayBeOpen}}
	flows, careless := filepath.Join(folder, "flows.csv.gz"), c.Int("careless")
	if careless > 0 {
		others = append(others, newFile{path: filepath.Join(folder, "needs.jsonl")})
	}
	e, planted := demo.Generate(size)
	others[0].text = asLines(planted)
	if careless > 0 {
		truths := demo.Careless(e, careless, size.Seed)
		others[2].text = asLines(truths)
		if err := writeStream(flows, func(w io.Writer) error {
			packed := gzip.NewWriter(w)
			return errors.Join(demo.CarelessFlows(packed, e, truths, size.Seed), packed.Close())
		}); err != nil {
			return err
		}
	}
	if err := writeStream(survey, func(w io.Writer) error {
		packed, err := packer(w, c.String("pack"))
		if err != nil {
			return err
		}
		return errors.Join(store.WriteSurvey(packed, e), packed.Close())
	}); err != nil {
		return err
	}
	if err := writeWhole(others); err != nil {
		return err
	}
	var made work.Tally
	made.Add(e)
	a.note("%s: %s, %s, %s, %s; %s planted", survey, render.Count(made.Accounts, "account", "accounts"),
		render.Count(made.Groups, "group", "groups"),
		render.Count(made.Instances, "instance", "instances"), render.Count(made.Rules, "rule", "rules"),
		render.Count(len(planted), "mistake is", "mistakes are"))
	a.note("next: %s", a.say(c)("audit", "--estate", folder, "--survey", survey))
	return nil
}

// newFolder makes a folder, or accepts an empty one. Other files must not be in it: an estate is
// all definitions of its folder.
func newFolder(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return writeError(folder, err)
	}
	there, err := os.ReadDir(folder)
	if err != nil {
		return fileError("folder", folder, err)
	}
	if len(there) > 0 {
		return usage("the folder %s holds something already (%s): name a new one, nothing was written", folder,
			there[0].Name())
	}
	return nil
}

// asLines writes a list as JSON, one item a line.
func asLines[T any](list []T) string {
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	enc.SetEscapeHTML(false)
	for _, item := range list {
		_ = enc.Encode(item) // writing to a buffer can't fail
	}
	return text.String()
}

type nothingToClose struct{ io.Writer }

func (nothingToClose) Close() error { return nil }

// packer compresses what is written to it, by the file's extension.
func packer(w io.Writer, format string) (io.WriteCloser, error) {
	switch format {
	case "zstd":
		return zstd.NewWriter(w)
	case "gzip":
		return gzip.NewWriter(w), nil
	}
	return nothingToClose{w}, nil
}

// writeStream writes a new file, whole or not at all.
func writeStream(path string, write func(io.Writer) error) error {
	pending, err := whole.Create(path, 0o644)
	if err != nil {
		return writeError(path, err)
	}
	defer func() { _ = pending.Drop() }() // it does nothing once the file is in place
	if err := write(pending); err != nil {
		var told *failure
		if errors.As(err, &told) {
			return err
		}
		return writeError(path, err)
	}
	if err := pending.Keep(); err != nil {
		return writeError(path, err)
	}
	return nil
}
